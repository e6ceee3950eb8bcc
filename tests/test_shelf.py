"""The shelf: sounds found, heard in their place, and used."""

import json

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from cloudrift.desktop.stages.shelf.kept import FILE, LAST, Kept
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.sound import CATALOGUE
from cloudrift.sound import look_up as look_up_matches
from cloudrift.sound.instrument import FAMILIES
from tests.hands import settled


def look_up(*args, **narrowed):
    return [match.of for match in look_up_matches(*args, **narrowed)]


def test_sounds_are_looked_up_by_word_family_and_reach():
    assert {s.name for s in look_up("dusty")} >= {"reed keys", "dust pad", "needle dust"}
    assert [s.name for s in look_up("bell tower")] == ["tower bell"]
    assert look_up("pad")[0].name.endswith("pad")  # what is called so comes before what is said so
    assert {s.family for s in look_up(family="bass")} == {"bass"}
    for reach, pitch in (("low", 36), ("middle", 60), ("high", 84)):
        found = look_up(reach=reach)
        assert found
        assert all(s.register[0] <= pitch <= s.register[1] for s in found)
    assert look_up("dark", "pads") == [s for s in look_up("dark") if s.family == "pads"]
    assert look_up("no such sound") == []
    assert len(look_up()) == len(CATALOGUE)
    assert sum(len(look_up(family=f)) for f in FAMILIES) == len(CATALOGUE)


def test_what_is_kept_comes_back_and_a_broken_file_is_empty(tmp_path):
    kept = Kept(tmp_path / "new")
    kept.swap_favourite("harp")
    kept.swap_favourite("nylon")
    kept.swap_favourite("harp")
    for i in range(20):
        kept.used(f"sound {i}")
    kept.used("sound 15")
    again = Kept(tmp_path / "new")
    assert again.favourites == ["nylon"]
    assert again.last[:2] == ["sound 15", "sound 19"]
    assert len(again.last) == LAST
    assert len(set(again.last)) == LAST
    for text in ("{", "[]", json.dumps({"favourites": 3, "last": []})):
        (tmp_path / "new" / FILE).write_text(text)
        assert Kept(tmp_path / "new").favourites == []


@pytest.fixture
def shelf(window, qtbot):
    window.show_stage(1)
    window.session.select(layer_id="l2")
    QTest.keyClick(window, Qt.Key.Key_F4)
    assert window.shelf.isVisible()
    return window.shelf


def point(grid, name):
    i = [s.name for s in grid.sounds].index(name)
    return grid.box(i).center().toPoint() - QPoint(10, 0)


def test_typing_narrows_and_the_words_say_what_is_looked_at(window, shelf, qtbot):
    assert shelf.search.hasFocus() or not window.isActiveWindow()
    assert shelf.grid.at_cursor.name == window.session.loop.layer("l2").source.sound.name
    qtbot.keyClicks(shelf.search, "glassy")
    names = {s.name for s in shelf.grid.sounds}
    assert "glass bell" in names
    assert "warm pad" not in names
    shelf.search.clear()
    qtbot.mouseClick(shelf.families.button("bass"), Qt.MouseButton.LeftButton)
    assert [s.family for s in shelf.grid.sounds] == ["bass"] * 7
    assert "one note at a time" in shelf.about.text()
    qtbot.mouseClick(shelf.reach.button("high"), Qt.MouseButton.LeftButton)
    assert shelf.grid.sounds == []
    assert shelf.about.text() == ""


@pytest.mark.parametrize("how", ["in the loop", "alone"])
def test_a_sound_is_heard_in_its_place_and_the_loop_stays(window, shelf, qtbot, how):
    session, grid = window.session, shelf.grid
    before = session.loop
    qtbot.mouseClick(shelf.how.button(how), Qt.MouseButton.LeftButton)
    grid.setFocus()
    while grid.at_cursor.name != "glass pad":
        qtbot.keyClick(grid, Qt.Key.Key_Right)
    qtbot.keyClick(grid, Qt.Key.Key_Return)
    assert session.loop is before
    assert session.hearing.previewing
    assert session.hearing.shown.layer("l2").source.sound.name == "glass pad"
    heard = [x.id for x in session.hearing.heard_loop.heard()]
    assert heard == (["l2"] if how == "alone" else [x.id for x in before.heard()])
    assert session.player.playing  # it was still, so it plays for as long as it is heard
    assert session.hearing.preview_words == "playing with glass pad"
    settled(qtbot, session)
    qtbot.keyClick(grid, Qt.Key.Key_Return)
    assert not session.hearing.previewing
    assert not session.player.playing
    assert session.loop is before


def test_a_resting_pointer_hears_and_leaving_stops(window, shelf, qtbot):
    session, grid = window.session, shelf.grid
    session.transport.set_playing(True)
    for name in ("choir pad", "glass pad"):
        shelf._reveal(grid.box([s.name for s in grid.sounds].index(name)))
    qtbot.mouseMove(grid, point(grid, "glass pad"))
    grid._rest.stop()
    grid.underMouse = lambda: True
    grid._rested()
    assert session.hearing.shown.layer("l2").source.sound.name == "glass pad"
    qtbot.mouseMove(grid, point(grid, "choir pad"))
    assert not session.hearing.previewing  # on the way to another
    assert grid._rest.waiting
    grid._rested()
    assert session.hearing.shown.layer("l2").source.sound.name == "choir pad"
    grid.leaveEvent(None)
    assert not session.hearing.previewing
    assert session.player.playing  # it played before


def test_pressing_uses_a_sound_and_shift_adds_a_layer(window, shelf, qtbot):
    session, grid = window.session, shelf.grid
    qtbot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=point(grid, "bright grand"))
    assert session.loop.layer("l2").source.sound.name == "bright grand"
    count = len(session.loop.layers)
    qtbot.mouseClick(grid, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ShiftModifier,
                     pos=point(grid, "digital keys"))  # fmt: skip
    assert len(session.loop.layers) == count + 1
    assert session.loop.layer(session.selection.layer_id).source.sound.name == "digital keys"
    session.document.undo()
    session.document.undo()
    assert session.loop.layer("l2").source.sound.name == "warm pad"
    qtbot.mouseClick(shelf.which.button("last used"), Qt.MouseButton.LeftButton)
    assert [s.name for s in grid.sounds] == ["digital keys", "bright grand"]


def test_stars_are_kept_and_escape_puts_the_shelf_away(window, shelf, qtbot):
    grid = shelf.grid
    grid.setFocus()
    grid.current = 2
    qtbot.keyClick(grid, Qt.Key.Key_Asterisk)
    star = grid.sounds[2].name
    qtbot.mouseClick(shelf.which.button("starred"), Qt.MouseButton.LeftButton)
    assert [s.name for s in grid.sounds] == [star]
    qtbot.keyClick(grid, Qt.Key.Key_Return)
    assert window.session.hearing.previewing
    qtbot.keyClick(grid, Qt.Key.Key_Escape)
    assert not window.session.hearing.previewing
    assert shelf.isVisible()
    qtbot.keyClick(grid, Qt.Key.Key_Escape)
    assert not shelf.isVisible()
    window.open_keys()
    window.open_or_close("Shelf")
    assert window.keys.isVisible() and window.rail.marked == ["Layers", "Shelf", "Play keys"]


def test_without_layers_the_first_sound_becomes_one(window, shelf, qtbot):
    session = window.session
    for layer in session.loop.layers:
        session.apply("remove", lambda loop, i=layer.id: layer_edits.remove_layer(loop, i))
    assert shelf.whom.text() == "no layer yet"
    shelf.hear(CATALOGUE["harp"])
    assert [x.source.sound.name for x in session.hearing.shown.layers] == ["harp"]
    qtbot.mouseClick(shelf.add, Qt.MouseButton.LeftButton)
    assert len(session.loop.layers) == 1


def test_from_the_start_page_the_shelf_leads_to_the_layers(window):
    window.start_loop()
    assert window.room is window.start
    window.open_or_close("Shelf")
    assert window.room is window.layers
    assert window.shelf.isVisible()


def test_a_newer_design_offers_the_newest_that_there_is_here(window, shelf, qtbot):
    session = window.session
    use = session.loop.layer("l2").source.sound
    newer = type(use)(name="warm pad", version=9, settings=(("attack_ms", 300.0),))
    session.apply("newer", lambda loop: layer_edits.set_source(loop, "l2", sound=newer))
    window.open_inspector()
    offers = [b for b in window.layers.inspector.findChildren(type(shelf.use)) if
              "use the newest, 3" in b.text()]  # fmt: skip
    assert len(offers) == 1
    qtbot.mouseClick(offers[0], Qt.MouseButton.LeftButton)
    assert session.loop.layer("l2").source.sound.version == 3
    assert session.loop.layer("l2").source.sound.settings == (("attack_ms", 300.0),)
