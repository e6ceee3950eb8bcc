"""The style card's page in the real window; learning; cards as files; the commands."""

import dataclasses
import json
from pathlib import Path

import pytest
from click.testing import CliRunner
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QCursor
from PyQt6.QtTest import QTest

from cloudrift.cli.main import commands
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.stages.style.mark_row import AXIS, HIGH
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import load, save
from cloudrift.loop.sounding import key_heard
from cloudrift.style import house_cards, sketch, way_of_voicing
from cloudrift.style.card_files import (
    blank_card,
    find_card,
    known_cards,
    own_cards,
    read_card,
    save_card,
    write_card,
)
from cloudrift.style.compare import differences, swapped_arrow
from cloudrift.style.draws import Sketched, by_unlikeness, many, unlike
from cloudrift.style.examples import measured
from cloudrift.style.learn import Example, asks_of, example_of, learn, range_of
from cloudrift.style.marks import KINDS, checked, look, met_of
from cloudrift.style.moves import moves_of
from tests.hands import looked, settled


@pytest.fixture
def page(qtbot, window):
    qtbot.waitUntil(lambda: window.marking.sound is not None, timeout=20_000)
    window.open_style()
    return window.style_page


def missed(page):
    return [name for name, row in page.rows.items() if row.mark.missed]


# --- the window -----------------------------------------------------------------------------------


def test_the_page_opens_over_a_stage_and_gives_it_back(qtbot, window, page):
    assert window.room is page and page.title.text() == "Marlow Quist"
    assert window.rail.marked == ["Style card"]
    QTest.keyClick(page, Qt.Key.Key_Escape)
    assert window.room is window.chords and window.rail.marked == ["Chords", "Inspector"]
    window.show_stage(2)
    window.rail.buttons["Style card"].click()
    assert window.room is page
    window.rail.buttons["Style card"].click()
    assert window.room is window.texture


def asked_plainly(card):
    """What a card asks of a loop that has no groove bed and is not arranged."""
    return {name for name in card.marks
            if not (KINDS[name].needs_bed or KINDS[name].needs_form)}  # fmt: skip


def test_the_heading_and_the_page_say_how_much_is_met(qtbot, window, page):
    session = window.session
    met, asked = met_of(window.marking.marks)
    assert window.marking.words == f"{met} of {asked} met"
    assert page.words.text().startswith(f"{met} of {asked} met. ")
    assert f"{met} of {asked} met" in window.heading.style_tile.accessibleName()
    assert set(page.rows) == asked_plainly(house_cards()["Marlow Quist"])
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 90.0))
    looked(qtbot, window)
    row = page.rows["tempo"]
    assert row.mark.missed and met_of(window.marking.marks)[0] == met - 1
    assert "missed" in row.accessibleName() and "asks for 134 to 153 BPM" in row.accessibleName()
    session.document.undo()
    looked(qtbot, window)
    assert page.rows["tempo"].mark.met
    session.apply("no style", lambda loop: loop_edits.set_style(loop, ""))
    looked(qtbot, window)
    assert page.title.text() == "No style card" and window.marking.words == ""
    session.apply("a stranger's", lambda loop: loop_edits.set_style(loop, "Nobody"))
    looked(qtbot, window)
    assert "There is no card called Nobody" in page.words.text()


def test_a_change_is_heard_on_resting_and_made_on_pressing_as_one_step(qtbot, window, page):
    session = window.session
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 90.0))
    settled(qtbot, session)
    looked(qtbot, window)
    row = page.rows["tempo"]
    assert row.button.isVisibleTo(row) and row.button.text() == "to 137 BPM"
    at = session.document.history.at
    row.button.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5_000)
    assert session.hearing.shown.tempo == 137 and session.loop.tempo == 90
    assert "met" not in window.heading.style_tile._under  # of what is only shown, it is not known
    row.button.click()
    assert session.loop.tempo == 137 and session.document.history.at == at + 1
    looked(qtbot, window)
    assert row.mark.met and not row.button.isVisibleTo(row)


def test_only_what_is_missed_may_be_shown_and_rows_are_painted(qtbot, window, page):
    session = window.session
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 90.0))
    looked(qtbot, window)
    page.filter.button("missed").click()
    shown = [name for name, row in page.rows.items() if row.isVisibleTo(page)]
    assert "tempo" in shown and shown == missed(page)
    page.filter.button("all").click()
    row = page.rows["tempo"]
    image = row.grab().toImage()
    x = round(AXIS[0] + AXIS[1] * KINDS["tempo"].share(90.0))
    dot, ground = image.pixelColor(x, HIGH // 2), image.pixelColor(round(AXIS[0]) - 6, HIGH // 2)
    assert dot.red() > 180 > dot.blue() and ground.lightness() > 240


def test_marks_of_the_sound_follow_it(qtbot, window, page):
    session = window.session
    before = window.marking.sound
    session.apply("softer", lambda loop: replace(loop, layers=tuple(
        replace(x, level_db=x.level_db - 6) for x in loop.layers)))  # fmt: skip
    qtbot.waitUntil(lambda: window.marking.sound != before, timeout=20_000)
    assert window.marking.sound.lufs == pytest.approx(before.lufs - 6, abs=1.0)
    looked(qtbot, window)
    found = page.rows["loudness"].mark.found.value
    assert found == window.marking.sound.lufs


def test_below_a_stage_stands_what_of_it_the_card_would_have_otherwise(qtbot, window, page):
    session = window.session
    window.show_stage(0)
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 90.0))
    looked(qtbot, window)
    assert window.quiet.isVisible()
    assert "Marlow Quist asks for tempo 134 to 153 BPM (now 90 BPM)" in window.quiet.words
    assert "now 90 BPM" in " ".join(window.quiet.text().split())
    window.show_stage(3)
    assert "tempo" not in window.quiet.words
    window.show_stage(0)
    window.quiet.click()
    assert window.room is page and not window.quiet.isVisible()
    assert [n for n, row in page.rows.items() if row.isVisibleTo(page)] == missed(page)


def test_moves_are_habits_made_by_one_press(qtbot, window, page):
    session = window.session
    page.tabs.button("moves").click()
    buttons = [page.moves.itemAt(i).widget() for i in range(page.moves.count())]
    texts = [b.text() for b in buttons if hasattr(b, "click")]
    assert "a progression from its grammar" in texts
    before = session.loop
    add = next(b for b in buttons if hasattr(b, "click") and b.text().startswith("add Reef pluck"))
    add.click()
    assert len(session.loop.layers) == len(before.layers) + 1
    assert session.loop.layers[-1].name == "Reef pluck"
    session.document.undo()
    assert session.loop == before
    session.apply("away", lambda loop: line_edits.set_line(loop, None, ()))
    worn = next(b for b in buttons if hasattr(b, "click") and b.text().startswith("weathering"))
    worn.click()
    worn.click()
    assert [t.kind for t in session.loop.line] == ["weathering"]


def test_a_move_that_prints_does_so_beside_the_interface_as_one_step(qtbot, window, page):
    session = window.session
    page.tabs.button("moves").click()
    buttons = [page.moves.itemAt(i).widget() for i in range(page.moves.count())]
    before, tune = session.loop, key_heard(session.loop)
    press = next(
        b for b in buttons if hasattr(b, "click") and b.text().startswith("print, reversed")
    )
    press.click()
    assert page.doing.text().startswith("printing") and page.stop.isVisible()
    qtbot.waitUntil(lambda: session.loop != before, timeout=30_000)
    assert not page.doing.text() and not page.stop.isVisible()
    (heard,) = session.loop.heard()
    assert heard.flipped.of.semitones == -3 and heard.flipped.places[0].backward
    assert (key_heard(session.loop).pc - tune.pc) % 12 in (9, 0)
    session.document.undo()
    assert session.loop == before and not session.document.history.now.prints


def test_leaving_the_page_leaves_what_it_prints(qtbot, window, page):
    before = window.session.loop
    page.printing.print_what(())
    window.style_page.closed.emit()
    qtbot.wait(600)
    assert window.session.loop == before


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_every_move_of_every_card_can_be_made(name):
    loop = sketch(house_cards()["Marlow Quist"], variation=3)
    card = house_cards()[name]
    for move in moves_of(replace(card, moves=()), 5):
        assert move.edit(loop) != loop and move.words, move.words
    own = sketch(
        replace(card, layers=tuple(replace(x, chance=1) for x in card.layers)), variation=5
    )
    for move in moves_of(card, 5):
        assert move.lay or move.edit(own).layers, move.words  # none of a card's own is refused
    row = next(m for m in moves_of(house_cards()[name], 5) if m.group == "Chords").edit(loop)
    assert row.bars == loop.bars and row.layers == loop.layers


# --- learning -------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """Eight loops of one card."""
    where = tmp_path_factory.mktemp("loops")
    for variation in range(1, 9):
        save(sketch(house_cards()["Piet Harrow"], variation=variation, bars=4, title="Knock "
                                                                                     f"{variation}"),
             where / f"{variation}.cloudrift")  # fmt: skip
    return where


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_a_card_that_was_learnt_is_nearest_to_its_own(name):
    loops = [sketch(house_cards()[name], variation=variation) for variation in range(1, 21)]
    learnt = learn("Learnt", [example_of(loop) for loop in loops]).card
    asks = checked(learnt.marks, "x")[0]
    assert checked(learnt.marks, "x")[1] == ()
    met = {}
    for other, card in house_cards().items():
        shares = [met_of(look(asks, sketch(card, variation=d))) for d in range(31, 36)]
        met[other] = sum(one / of for one, of in shares)
    assert max(met, key=met.get) == name
    own = house_cards()[name]
    middle = (own.tempo.low + own.tempo.high) / 2
    assert (learnt.tempo.low + learnt.tempo.high) / 2 == pytest.approx(middle, rel=0.15)
    assert set(learnt.key.modes) <= set(own.key.modes)
    assert {x.sound for x in own.layers if x.chance == 1} <= {x.sound for x in learnt.layers}
    back = read_card(write_card(learnt), "x")
    assert back.marks == learnt.marks and len(sketch(back, variation=2).chords) > 0


def test_ranges_leave_out_the_few_that_stand_apart_only_among_many():
    few = range_of([10.0, 12.0, 14.0, 100.0])
    assert few[0] < 10 and few[1] > 100
    many = range_of([*range(10, 60), 500.0, 500.0][:51])
    assert many[1] < 120
    with pytest.raises(
        CloudriftError, match="4 loops are not enough to learn a style; use 5 to 50"
    ):
        learn("x", [example_of(sketch(house_cards()["Edda Fenn"], variation=d)) for d in range(4)])
    silent = [Example(name="x", values={"tempo": 90.0}) for _ in range(6)]
    with pytest.raises(CloudriftError, match="no chords found"):
        learn("x", silent)


def test_rare_words_and_rare_kinds_are_no_habit():
    examples = [Example(name="x", values={"mode": "minor", "tempo": 90.0 + i}) for i in range(19)]
    examples.append(Example(name="x", values={"mode": "lydian", "roll": 20.0}))
    asks, counts = asks_of(examples)
    assert asks["mode"] == ("minor",) and "roll" not in asks and counts["mode"] == 20
    beyond = [Example(name="x", values={"sub": -90.0 - i}) for i in range(6)]
    assert asks_of(beyond)[0]["sub"] == (-60, -60)  # the axis ends there


def test_loops_of_one_chord_make_a_card_that_can_be_sketched_from():
    examples = [example_of(sketch(house_cards()["Edda Fenn"], variation=d)) for d in range(1, 7)]
    one = [dataclasses.replace(x, degrees=("i7",), lengths_bars=(4.0,)) for x in examples]
    card = learn("Drone", one).card
    assert card.chords.next["i7"] == ("iv",) and card.chords.next["iv"] == ("i7",)
    assert read_card(write_card(card), "x") == card and sketch(card, variation=2).chords


def test_files_are_measured_each_and_what_can_not_be_read_is_said(folder, tmp_path):
    broken = tmp_path / "broken.cloudrift"
    broken.write_bytes(b"nothing")
    seen = []
    found, wrong = measured([*sorted(folder.glob("*"))[:3], broken],
                            progress=lambda i, name: seen.append(name))  # fmt: skip
    assert [one.name for one in found] == ["Knock 1", "Knock 2", "Knock 3"]
    assert len(wrong) == 1 and "broken.cloudrift" in wrong[0] and len(seen) == 4
    assert all("loudness" in one.values for one in found)
    with pytest.raises(
        CloudriftError, match="500 files are too many to learn from; use at most 50"
    ):
        measured(500 * [broken])
    stopped, _ = measured(sorted(folder.glob("*")), cancelled=lambda: True)
    assert stopped == []


def test_a_card_is_learnt_kept_and_used_in_the_window(qtbot, window, page, folder, monkeypatch,
                                                     tmp_path):  # fmt: skip
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    page.tabs.button("learn").click()
    learning = page.learning
    assert not learning.keep.isEnabled()
    learning.learn_from(sorted(folder.glob("*"))[:6])
    qtbot.waitUntil(lambda: learning.learnt is not None, timeout=60_000)
    assert learning.table.topLevelItemCount() == len(learning.learnt.card.marks)
    assert "6 examples" in learning.words.text() and not learning.bar.isVisible()
    learning.name.setText("Tern & Tide")
    learning.keep.click()
    looked(qtbot, window)
    assert window.session.loop.style == "Tern & Tide" and page.title.text() == "Tern & Tide"
    assert list(own_cards()[0]) == ["Tern & Tide"] and "Tern & Tide" in known_cards()
    page.tabs.button("marks").click()
    assert set(page.rows) == asked_plainly(own_cards()[0]["Tern & Tide"])
    learning.learn_from(sorted(folder.glob("*"))[:2])
    qtbot.waitUntil(lambda: "are not enough" in learning.words.text(), timeout=60_000)


# --- files and commands ---------------------------------------------------------------------------


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_a_card_is_written_and_read_again_as_it_is(name, tmp_path):
    card = house_cards()[name]
    assert read_card(write_card(card), "x") == card
    kept = save_card(card, tmp_path)
    assert kept.name == f"{name} 2"  # the house's own stays
    assert own_cards(tmp_path)[0] == {kept.name: kept}
    (tmp_path / "spoilt.toml").write_text("name = 3")
    assert len(own_cards(tmp_path)[1]) == 1


def test_a_sound_of_few_examples_is_none_of_the_style():
    loops = [layer_edits.add_layer(sketch(house_cards()["Edda "
                                                        "Fenn"], variation=d, bars=2), "kalimba")
             for d in range(1, 6)]  # fmt: skip
    loops[0] = layer_edits.add_layer(loops[0], "glass pad")
    learnt = learn("Tern & Tide", [example_of(loop) for loop in loops]).card
    chances = {layer.sound: layer.chance for layer in learnt.layers}
    assert chances["kalimba"] == 1.0 and "glass pad" not in chances
    loops[1] = layer_edits.add_layer(loops[1], "glass pad")
    learnt = learn("Tern & Tide", [example_of(loop) for loop in loops]).card
    assert {layer.sound: layer.chance for layer in learnt.layers}["glass pad"] == 0.4


@pytest.mark.parametrize(("lengths", "turn"), [
    ((1.0,) * 4, (1.0, 1.0)), ((2.0, 1.0) * 2, (2.0, 1.0)), ((1.0, 2.0, 1.0), (1.0, 2.0, 1.0)),
])  # fmt: skip
def test_a_rhythm_is_learnt_as_its_shortest_turn(lengths, turn):
    """Of two chords at least: a card has a chord for each length."""
    example = Example(name="x", values={"tempo": 100.0, "mode": "minor"}, tonic="A",
                      degrees=("i", "iv", "v", "VI")[: len(lengths)],
                      lengths_bars=lengths)  # fmt: skip
    assert learn("Tern & Tide", [example] * 5).card.chords.rhythms == (turn,)


def test_an_own_card_sets_out_chords_as_it_says():
    assert way_of_voicing("Dusk shift") == {}
    voicing = replace(blank_card().voicing, low=50, high=62, spread=0.9, bass_octaves=2)
    save_card(replace(blank_card(), name="Dusk shift", voicing=voicing))
    wanted = {"spacing": "open", "bass_octaves": 2, "register": 56.0}
    assert way_of_voicing("Dusk shift") == wanted


def run(*args):
    got = CliRunner().invoke(commands, [str(a) for a in args])
    assert got.exit_code == 0, got.output
    return got.stdout


def test_cards_are_listed_held_against_loops_and_learnt_without_a_window(folder, tmp_path):
    listed = json.loads(run("styles", "--json"))
    assert [card["name"] for card in listed if card["whose"] == "house"] == sorted(house_cards())
    assert "Sunniva Roe (house, 92 to 112 BPM" in run("styles")
    loop = folder / "1.cloudrift"
    told = json.loads(run("marks", loop, "--json"))
    assert told["style"] == "Piet Harrow" and told["met"] >= 0.9 * told["asked"] > 30
    one = next(mark for mark in told["marks"] if mark["name"] == "tempo")
    assert one["unit"] == "BPM" and one["met"] and one["asked"] == [119, 137]
    other = json.loads(run("marks", loop, "--style", "Sunniva Roe", "--without-sound", "--json"))
    assert other["met"] < 0.6 * other["asked"]
    assert next(m for m in other["marks"] if m["name"] == "tempo")["change"].startswith("to ")
    text = run("marks", loop, "--without-sound")
    assert "marks of Piet Harrow met" in text
    assert "… Brightness" in text
    card = tmp_path / "mine.toml"
    said = run("learn", *sorted(folder.glob("*")), "--name", "Mine", "--without-sound", "-o", card)
    assert "from 8 of 8 files" in said and find_card(str(card)).name == "Mine"


def test_several_draws_are_written_into_a_folder(tmp_path):
    run("new", "--style", "Bram Okada", "--count", "3", "--variation", "5", "-o", tmp_path / "some")
    names = sorted(path.name for path in (tmp_path / "some").iterdir())
    assert names == [f"Bram Okada {n}.cloudrift" for n in (5, 6, 7)]
    assert load(tmp_path / "some" / names[1], None) == sketch(
        house_cards()["Bram Okada"], variation=6, title="Bram Okada 6")  # fmt: skip


def test_every_kind_of_mark_is_documented_with_its_unit_and_how_it_is_measured():
    text = (Path(__file__).parent.parent / "docs" / "style-card.md").read_text()
    for kind in KINDS.values():
        line = next(x for x in text.splitlines() if x.startswith(f"| `{kind.name}` |"))
        assert kind.about in line and (kind.words or kind.unit in line), kind.name


# --- many sketches --------------------------------------------------------------------------------


def test_sketches_are_drawn_in_processes_of_their_own_and_measured():
    card = house_cards()["Edda Fenn"]
    found = sorted(many(card, range(1, 4), 2), key=lambda one: one.variation)
    assert [one.variation for one in found] == [1, 2, 3]
    for one in found:
        assert one.loop == sketch(
            card, variation=one.variation, bars=2, title=f"Edda Fenn {one.variation}"
        )
        of_form = sum(KINDS[name].needs_form for name in card.marks)
        assert one.asked == len(card.marks) - of_form and one.met > 0.6 * one.asked
        assert [role for role, _ in one.strata] == [x.role for x in one.loop.heard()]
        assert max(curve.max() for _, curve in one.strata) > 0.1
    assert list(many(card, range(1, 4), 2, lambda: True)) == []


def sketched_of(variation, name="Edda Fenn", met=30):
    return Sketched(
        variation=variation,
        loop=sketch(house_cards()[name], variation=variation, bars=2),
        met=met,
        asked=32,
        strata=(),
    )


def test_unlikeness_is_nothing_for_the_same_and_grows_with_what_differs():
    one, other = sketched_of(1), sketched_of(2)
    far = sketched_of(1, "Sunniva Roe")
    assert unlike(one.loop, one.loop) == 0
    assert 0 < unlike(one.loop, other.loop) < unlike(one.loop, far.loop) <= 1
    again = replace(one.loop, title="x")
    table = [one, Sketched(variation=9, loop=again, met=1, asked=2, strata=()), far]
    assert [x.variation for x in by_unlikeness(table)] == [1, 1, 9]  # what is the same comes last
    assert by_unlikeness([]) == []


def test_sketches_are_heard_ordered_chosen_and_kept(qtbot, window, page, monkeypatch, tmp_path):
    from cloudrift.desktop.stages.style import sketches as room

    asked = []

    def some(card, draws, bars, stale):
        asked.append((card.name, list(draws), bars))
        yield from (sketched_of(n, met=20 + n % 3) for n in draws)

    monkeypatch.setattr(room, "many", some)
    QCursor.setPos(0, 0)  # what it rests on is played, too
    page.tabs.button("sketches").click()
    table, session = page.sketches, window.session
    table.variation.click()
    qtbot.waitUntil(lambda: table._wanted == 0, timeout=20_000)
    assert asked == [("Marlow Quist", list(range(1, 13)), session.loop.bars)]
    assert len(table.tiles) == 12 and not table.keep.isEnabled()

    def order():
        return [table._grid.itemAtPosition(i // 4, i % 4).widget().of.variation for i in range(12)]

    assert order() == list(range(1, 13))
    table.order.button("marks").click()
    assert order()[:4] == [2, 5, 8, 11]
    tile = table.tiles[4]
    assert (
        "Variation 5: " in tile.accessibleName() and "22 of 32 marks met" in tile.accessibleName()
    )
    before = session.loop
    tile.setFocus()
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5_000)
    assert session.hearing.shown == tile.of.loop and session.loop is before
    assert "Playing variation 5" in table.words.text()
    tile.clearFocus()
    assert not session.hearing.previewing
    for one in (tile, table.tiles[0]):
        one.click()
    (tmp_path / f"{tile.of.loop.title}.cloudrift").write_bytes(b"somebody's")
    table.keep_in(tmp_path)
    names = sorted(path.stem for path in tmp_path.glob("*.cloudrift"))
    assert names == ["Untitled loop", "Untitled loop 2", "Untitled loop 3"]
    assert (tmp_path / "Untitled loop.cloudrift").read_bytes() == b"somebody's"
    assert (
        load(tmp_path / "Untitled loop 2.cloudrift", None).chords == table.tiles[0].of.loop.chords
    )
    assert not any(one.isChecked() for one in table.tiles)
    table.variation.click()
    qtbot.waitUntil(lambda: table._wanted == 0, timeout=20_000)
    assert asked[-1][1] == list(range(13, 25))  # others


# --- the card itself ------------------------------------------------------------------------------


def test_differences_are_those_that_do_not_share_their_range_most_first():
    one = {"tempo": (100.0, 120.0), "mode": ("minor",), "roll": (0.0, 10.0), "pace": (1.0, 2.0)}
    other = {"tempo": (110.0, 130.0), "mode": ("dorian", "minor"), "roll": (100.0, 120.0),
             "pace": (1.0, 2.0), "drift": (1.0, 2.0)}  # fmt: skip
    found = differences(one, other)
    assert [x.kind.name for x in found] == ["roll", "tempo", "mode", "drift"]
    assert [round(x.apart, 2) for x in found] == [1.0, 0.67, 0.5, 0.0]
    assert found[-1].one is None and differences(one, one) == []


def test_a_card_is_changed_as_text_kept_shared_and_brought_in(
    qtbot, window, page, monkeypatch, tmp_path
):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    session = window.session
    page.tabs.button("card").click()
    card = page.card
    assert 'name = "Marlow Quist"' in card.text.toPlainText() and "Saved." in card.says.text()
    assert card.other.count() == 6 and card.table.topLevelItemCount() > 10
    text = card.text.toPlainText()
    card.text.setPlainText(text.replace("tempo = [134, 153]", "tempo = [60, 70]"))
    qtbot.waitUntil(lambda: "Changed" in card.says.text(), timeout=5_000)
    card.text.setPlainText(text.replace("felt upright", "felt upwrong"))
    card.look()
    assert (
        "there is no sound called 'felt upwrong'" in card.says.text() and not card.keep.isEnabled()
    )
    card.text.setPlainText(text.replace("[marks]", "[marks]\nspede = [1, 2]"))
    card.look()
    assert "did you mean 'spread'" in card.says.text() and card.keep.isEnabled()
    card.text.setPlainText(text.replace("[chords.next]", "[chords.nxt]"))
    card.look()
    assert "nxt" in card.says.text() and not card.keep.isEnabled()
    card.again.click()
    assert card.text.toPlainText() == text
    card.text.setPlainText(text.replace("tempo = [134, 153]", "tempo = [60, 70]")
                           .replace('name = "Marlow Quist"', 'name = "Night shift"'))  # fmt: skip
    card.look()
    card.keep.click()
    looked(qtbot, window)
    assert session.loop.style == "Night shift" and page.title.text() == "Night shift"
    assert own_cards()[0]["Night shift"].marks["tempo"] == (60, 70)
    assert next(m for m in window.marking.marks if m.kind.name == "tempo").missed
    card.write(tmp_path / "shared.toml")
    shared = read_card((tmp_path / "shared.toml").read_text(), "x")
    assert shared.name == "Night shift"
    card.read(tmp_path / "shared.toml")
    assert session.loop.style == "Night shift 2"  # nothing is overwritten
    (tmp_path / "broken.toml").write_text("name = [")
    card.read(tmp_path / "broken.toml")
    assert "broken.toml" in window.message.text() and session.loop.style == "Night shift 2"


@pytest.fixture
def fields(page):
    page.tabs.button("card").click()
    return page.card


def typed_into(line, text):
    line.selectAll()
    QTest.keyClicks(line, text)
    QTest.keyClick(line, Qt.Key.Key_Return)


def test_every_number_of_a_card_is_a_range_of_two_fields(fields):
    ranges = fields.fields.ranges
    tempo = ranges["tempo"]
    tempo.low.type_text("120")
    assert (fields.typed.tempo.low, fields.typed.tempo.high) == (120, 152)
    tempo.low.type_text("160")  # above the higher: that goes along
    assert (fields.typed.tempo.low, fields.typed.tempo.high) == (160, 160)
    assert fields.typed.tempo.usual == 160 and "Changed" in fields.says.text()
    ranges["0 roll_ms"].high.type_text("90")
    assert fields.typed.layers[0].touch["roll_ms"] == (18, 90)
    ranges["0 pan"].low.type_text("-40")
    assert fields.typed.layers[0].pan == (-0.4, 0.05)
    ranges["line 0 wow_cents"].high.type_text("10")
    assert fields.typed.line[0].settings["wow_cents"] == 10
    ranges["0 line 1 decay_s"].high.type_text("5")
    assert fields.typed.layers[0].line[1].settings["decay_s"] == (2.4, 5)
    assert fields.typed.layers[0].line[0] == house_cards()["Marlow Quist"].layers[0].line[0]
    ranges["1 attack_ms"].low.type_text("200")
    assert fields.typed.layers[1].settings["attack_ms"] == (200, 600)
    ranges["mark roll"].low.type_text("5")
    assert fields.typed.marks["roll"] == (5, 52)
    ranges["voicing"].high.type_text("55")  # an octave stays between
    assert (fields.typed.voicing.low, fields.typed.voicing.high) == (54, 65)
    assert "wow_cents = 10" in fields.text.toPlainText()
    fields.again.click()
    assert fields.typed == house_cards()["Marlow Quist"]
    fields.blank.click()
    assert fields.typed == blank_card() and fields.keep.isEnabled()
    assert sketch(blank_card(), variation=3).chords and not blank_card().marks
    fields.again.click()
    ranges = fields.fields.ranges
    assert ranges["tempo"].low.value == 132


def test_words_of_a_card_are_typed_with_signs_and_what_can_not_be_is_taken_back(fields):
    lines = fields.fields.lines
    assert lines["tonics"].text().startswith("F♯, C♯, D")
    typed_into(lines["tonics"], "Bb, F#")
    assert fields.typed.key.tonics == ("Bb", "F#") and lines["tonics"].text() == "B♭, F♯"
    typed_into(lines["modes"], "minor, phrygiann")
    assert "did you mean 'phrygian'" in fields.says.text()
    assert lines["modes"].text() == "minor, harmonic minor, phrygian"
    typed_into(lines["rhythms"], "2 2, 3 1")
    assert fields.typed.chords.rhythms == ((2, 2), (3, 1))
    typed_into(lines["rhythms"], "two")
    assert fields.typed.chords.rhythms == ((2, 2), (3, 1))
    late = next(w for w in fields.fields.findChildren(FieldWidget) if w.spec.name == "late")
    late.type_text("40")
    assert fields.typed.chords.late == 0.4


def test_the_grammar_is_a_graph_whose_arrows_come_and_go(qtbot, fields):
    graph = fields.fields.grammar
    assert set(graph.tokens) == set(house_cards()["Marlow Quist"].chords.next)
    before = fields.typed.chords.next

    def press(token):
        qtbot.mouseClick(fields.fields.grammar, Qt.MouseButton.LeftButton,
                         pos=fields.fields.grammar.place(token).toPoint())  # fmt: skip

    assert "bII" in before["i7"] and "V7" not in before["i7"]
    press("i7")
    assert graph.held == "i7" and "picked: i7" in graph.accessibleName()
    press("V7")
    assert fields.typed.chords.next["i7"] == (*before["i7"], "V7")
    press("i7")
    press("V7")
    assert fields.typed.chords.next == before
    graph = fields.fields.grammar
    graph.setFocus()
    graph.at = 0
    for key in (Qt.Key.Key_Return, Qt.Key.Key_Right, Qt.Key.Key_Return):
        QTest.keyClick(graph, key)
    first, then = graph.tokens[:2]
    assert (then in fields.typed.chords.next[first]) != (then in before[first])
    one = replace(house_cards()["Marlow Quist"].chords, next={"i": ("V7",), "V7": ("i",)})
    assert swapped_arrow(one, "i", "V7") == one  # the last that may follow stays
    assert not graph.grab().toImage().isNull()


def test_the_start_page_offers_every_card_and_ones_own_behind_them(
    qtbot, window, monkeypatch, tmp_path
):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    window.start_loop()
    source = window.start.card
    assert list(source.cards) == sorted(house_cards())
    save_card(replace(blank_card(), name="Dusk shift"))
    window.start.leave()
    window.start_loop()
    assert list(source.cards) == [*sorted(house_cards()), "Dusk shift"]
    for one in source.cards.values():
        assert one.text() == one.card.name and one.card.about in one.accessibleName()
    window.start.choose_card("Dusk shift")
    assert source.card.name == "Dusk shift"
