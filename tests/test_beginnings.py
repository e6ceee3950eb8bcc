"""Beginning a loop: from nothing, a file, a phrase, a template; what is kept; metre and card."""

import json

import pytest
from click.testing import CliRunner
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QLabel, QMessageBox

from cloudrift.audio.about import About
from cloudrift.audio.sound_file import write_wav
from cloudrift.cli.main import commands
from cloudrift.desktop.frame.menu_table import UNDO
from cloudrift.desktop.kit.tiles import open_length, open_style
from cloudrift.desktop.stages.start.page import EMPTY, MIDI, PHRASE, TEMPLATE
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.metre import METRES, metre_words, set_metre
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_found
from cloudrift.loop.edits.layers.own_notes import with_own
from cloudrift.loop.files.kept import keep, kept_in, row_folder, row_of, take_row, template_folder
from cloudrift.loop.files.storage import load
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.notes import Note
from cloudrift.notes.from_midi import read_song
from cloudrift.render import Engine
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.style.beginnings import empty_loop, from_song
from cloudrift.style.near import near_cards
from cloudrift.texture.ride import Ride, RidePoint
from cloudrift.theory import Key
from tests.hands import command
from tests.songs import write_song
from tests.test_desktop import answer

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

LEFT = Qt.MouseButton.LeftButton
BAR = 3840


# --- beginnings as values ---------------------------------------------------------------------


def test_an_empty_loop_has_no_card_no_layers_and_no_wear():
    loop = empty_loop()
    assert (loop.style, loop.chords, loop.layers, loop.line) == ("", (), (), ())


def test_a_midi_file_becomes_chords_with_a_layer_or_its_parts(tmp_path):
    song = read_song(write_song(tmp_path / "Night pier.mid", first_bar=1))
    loop = from_song(song, "Night pier", parts=False)
    assert loop.title == "Night pier"
    assert (loop.tempo, loop.bars, loop.key) == (93.0, 4, Key("A", "minor"))
    assert [c.read(loop.key).text for c in loop.chords] == ["Am", "F", "C", "G"]  # without the tune
    assert loop.chords[0].voices == (45, 57, 60, 64)
    assert [layer.follows for layer in loop.layers] == [True]
    parts = from_song(song, "Night pier", parts=True)
    assert [layer.name for layer in parts.layers] == ["Low pads", "Tune"]
    assert min(note.start_tick for note in parts.layers[0].own) == 0  # the silent bar is left out
    assert len(parts.layers[1].own) == 32
    assert parts.chords == loop.chords


def test_of_a_very_long_file_the_first_bars_are_taken(tmp_path):
    song = read_song(write_song(tmp_path / "long.mid", bars=80))
    assert from_song(song, "long", parts=True).bars == 64
    assert from_song(song, "long", parts=False).bars == 64


# --- the start page ---------------------------------------------------------------------------


def test_begin_from_nothing(qtbot, window):
    window.start_loop()
    qtbot.mouseClick(window.start.begin_from.button(EMPTY), LEFT)
    assert not window.start.draws.isVisible()
    assert "no layers yet" in window.start.summary.text()
    window.start.metre.setCurrentIndex(METRES.index((6, 8)))
    window.start.metre.activated.emit(METRES.index((6, 8)))
    qtbot.mouseClick(window.start.begin, LEFT)
    loop = window.session.loop
    assert (loop.style, loop.layers, loop.metre) == ("", (), (6, 8))
    assert window.room is window.chords


def test_begin_from_a_midi_file_named_as_the_file(qtbot, window, tmp_path):
    path = write_song(tmp_path / "Night pier.mid")
    window.start_loop()
    window.start.choose_source(MIDI)
    assert not window.start.begin.isEnabled()
    assert "nothing to start with yet" in window.start.summary.text()
    window.importing.open_midi(path)  # at the start page it is what is begun from
    qtbot.waitUntil(window.start.begin.isEnabled, timeout=60_000)
    assert window.start.title.text() == "Night pier"
    qtbot.mouseClick(window.start.midi.take.button(True), LEFT)
    window.start.tonic.setCurrentIndex(window.start.tonic.findData("B"))
    window.start.tonic.activated.emit(0)
    assert window.session.hearing.shown.key == Key("B", "minor")
    qtbot.mouseClick(window.start.begin, LEFT)
    loop = window.session.loop
    assert loop.title == "Night pier"
    assert [x.name for x in loop.layers] == ["Low pads", "Tune"]
    assert loop.layers[1].own[0].pitch == 78  # everything two semitones up with the key


def test_a_broken_file_is_said_where_it_was_chosen(qtbot, window, tmp_path):
    bad = tmp_path / "bad.mid"
    bad.write_bytes(b"MThd nonsense")
    window.start_loop()
    window.start.read(bad)
    qtbot.waitUntil(lambda: "bad.mid" in window.start.summary.text(), timeout=60_000)
    assert not window.start.begin.isEnabled()
    qtbot.mouseClick(window.start.begin_from.button(EMPTY), LEFT)
    assert window.start.begin.isEnabled()


def test_begin_from_a_recording(qtbot, window, tmp_path):
    engine = Engine()
    loop = put_found(
        sketch(find_card("Marlow Quist"), Key("A", "minor"), 93.0, 3),
        read_song(write_song(tmp_path / "x.mid", bars=8)).chords,
    )
    write_wav(
        tmp_path / "Pier.wav", engine.render(loop).audio, loop.rate, bits=16, about=About(title="x")
    )
    engine.close()
    window.start_loop()
    window.importing.open_reference(tmp_path / "Pier.wav")
    qtbot.waitUntil(lambda: window.start.recording.heard is not None, timeout=60_000)
    heard = window.start.recording.heard
    assert window.session.hearing.shown.key == heard.heard_key
    assert window.session.hearing.shown.chords == ()
    window.start.recording.laid.click()  # its tempo, key and chords alone
    heard.chords.click()
    assert window.session.hearing.shown.chords
    heard.key.click()
    assert window.session.hearing.shown.key != heard.heard_key
    qtbot.mouseClick(window.start.begin, LEFT)
    assert window.session.loop.title == "Pier"
    assert len(window.session.loop.layers) == 1


def test_begin_with_a_phrase_opens_the_keys(qtbot, window):
    window.start_loop()
    qtbot.mouseClick(window.start.begin_from.button(PHRASE), LEFT)
    qtbot.mouseClick(window.start.begin, LEFT)
    assert window.keys.isVisible()
    assert window.keys.becomes.currentText() == "a new layer"
    assert window.session.loop.layers == ()


def test_a_loop_kept_as_a_template_is_begun_from(qtbot, window, monkeypatch):
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: (" Half-time dusk ", True))
    window.files.keep_template()
    window.files.keep_template()
    assert "Kept Half-time dusk 2" in window.message.text()  # nothing is overwritten
    mine = window.session.loop
    window.start_loop()
    qtbot.mouseClick(window.start.begin_from.button(TEMPLATE), LEFT)
    page = window.start.template
    assert page.list.count() == 2
    assert window.start.title.text() == "Half-time dusk"
    window.start.tempo.edited.emit(99.0)
    qtbot.mouseClick(page.remove, LEFT)
    assert [one.name for one in kept_in(template_folder())[0]] == ["Half-time dusk 2"]
    qtbot.mouseClick(window.start.begin, LEFT)
    loop = window.session.loop
    assert (loop.layers, loop.chords, loop.title) == (mine.layers, mine.chords, "Half-time dusk 2")
    assert window.session.document.path is None


def test_a_template_that_cannot_be_read_is_said(window):
    template_folder().mkdir(parents=True)
    (template_folder() / "x.cloudrift").write_bytes(b"no zip")
    window.start_loop()
    window.start.choose_source(TEMPLATE)
    assert "x.cloudrift" in window.message.text()
    assert not window.start.begin.isEnabled()


def test_what_is_not_shown_is_not_changed(qtbot, window):
    before = window.session.loop
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 101))
    changed = window.session.loop
    window.start_loop()
    window.menus.action(UNDO).trigger()
    window.chords.row_bar.suggest_row()
    assert window.session.loop is changed
    assert "not shown" in window.message.text()
    qtbot.mouseClick(window.start.never_mind, LEFT)
    window.menus.action(UNDO).trigger()
    assert window.session.loop is before


def test_drawers_are_for_an_open_loop(window):
    window.open_keys()
    window.start_loop()
    assert not window.keys.isVisible()
    window.open_or_close("Play keys")
    assert window.room is window.chords
    assert window.keys.isVisible()


def test_beginning_again_from_an_untouched_sketch_asks_nothing(qtbot, window, monkeypatch):
    asked = []
    monkeypatch.setattr(QMessageBox, "exec", asked.append)
    window.start_loop()
    window.start.begin_loop()
    window.start_loop()
    window.start.another_variation()
    window.start.begin_loop()
    assert not asked
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 101))
    window.start_loop()
    answer(monkeypatch, "Cancel")
    window.start.begin_loop()
    assert window.session.loop.tempo == 101
    assert (
        window.session.hearing.instead
    )  # the start page is still there, and what it shows is heard
    window.session.document.open(window.session.loop, None, unsaved=True)
    assert not window.session.document.is_untouched  # what a crash left is asked for


# --- rows -------------------------------------------------------------------------------------


def test_a_kept_row_comes_in_the_key_and_metre_of_the_loop(bare_chords, tmp_path):
    late = loop_edits.set_tempo(bare_chords, 90)
    one = keep(row_of(replace(late, bars=8)), "Ferry/turn", tmp_path)
    assert one.file.name == "Ferry-turn.cloudrift"
    assert keep(one.loop, "ferry/TURN", tmp_path).name == "ferry/TURN 2"
    loop = Loop(title="x", key=Key("A", "minor"), tempo=120, bars=16, metre=(3, 4))
    loop = layer_edits.add_layer(loop, "felt upright")
    made = take_row(loop, one.loop)
    assert made.layers == loop.layers
    assert made.tempo == 120
    assert [c.root for c in made.chords[:4]] == [9, 5, 2, 4]  # three semitones up
    assert len(made.chords) == 8  # again, until the loop is full
    assert made.chords[-1].end_tick == made.ticks
    with pytest.raises(CloudriftError, match="no chords to save"):
        row_of(loop)
    with pytest.raises(CloudriftError, match="needs a name"):
        keep(loop, "  ", tmp_path)


def test_rows_are_put_on_the_shelf_and_taken_from_it(window, monkeypatch):
    bar = window.chords.row_bar
    chords = window.session.loop.chords
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Mine", True))
    bar._fill_menu()
    next(a for a in bar.menu.actions() if a.text().startswith("Save this progression")).trigger()
    assert "Kept Mine" in window.message.text()
    window.session.apply("none", lambda loop: replace(loop, chords=()))
    bar._fill_menu()
    next(a for a in bar.menu.actions() if a.text().startswith("Mine\t")).trigger()
    assert [c.voices for c in window.session.loop.chords] == [c.voices for c in chords]
    menu = next(a for a in bar.menu.actions() if a.text().startswith("Delete a saved")).menu()
    menu.actions()[0].trigger()
    assert kept_in(row_folder()) == ([], [])


# --- metre and card ---------------------------------------------------------------------------


def metred():
    chords = (
        Chord(id="a", start_tick=0, length_ticks=2880, voices=(48, 60), root=0),
        Chord(id="b", start_tick=2880, length_ticks=960, voices=(50, 62), root=2),
        Chord(id="c", start_tick=BAR, length_ticks=BAR, voices=(52, 64), root=4),
    )
    loop = Loop(title="x", key=Key("C", "major"), tempo=120, bars=2, chords=chords)
    loop = layer_edits.add_layer(loop, "felt upright")
    notes = [(0, 480, 60), (2400, 1440, 62), (3360, 480, 64), (3600, 960, 65), (BAR, BAR, 67)]
    return with_own(loop, loop.layers[0].id,
                    [Note(start_tick=a, length_ticks=n, pitch=p, velocity=90)
                     for a, n, p in notes])  # fmt: skip


def test_another_metre_keeps_bars_and_cuts_at_their_ends():
    loop = metred()
    three = set_metre(loop, (3, 4))
    assert [(c.id, c.start_tick, c.length_ticks) for c in three.chords] == [
        ("a", 0, 2880), ("c", 2880, 2880)
    ]  # fmt: skip
    own = [(n.start_tick, n.length_ticks, n.pitch) for n in three.layers[0].own]
    assert own == [(0, 480, 60), (2400, 480, 62), (2880, 2880, 67)]
    five = set_metre(loop, (5, 4))
    assert [(c.start_tick, c.length_ticks) for c in five.chords] == [
        (0, 2880), (2880, 1920), (4800, 4800)
    ]  # fmt: skip
    own = [(n.start_tick, n.length_ticks) for n in five.layers[0].own]
    # Within a bar as long as it was; over the bar line and to a bar's end it goes along.
    assert own == [(0, 480), (2400, 1440), (3360, 480), (3600, 1920), (4800, 3840)]
    assert set_metre(loop, (4, 4)) is loop
    words = metre_words(loop, (3, 4))
    assert words == "3/4: 1 chord lost, 1 chord shorter, 2 notes lost; 2 bars last 3.00 s"
    assert "2 chords longer" in metre_words(loop, (5, 4))


def test_rides_and_places_go_along_with_the_metre():
    loop = metred()
    points = (RidePoint(tick=0, value=0), RidePoint(tick=3600, value=-6),
              RidePoint(tick=BAR, value=-9))  # fmt: skip
    whole = Ride(of="level_db", points=points)
    lens = replace(loop.layers[0].source.lens, where=((0, BAR),))
    loop = layer_edits.set_layer(
        layer_edits.set_source(loop, "l1", lens=lens), "l1", level_ride=whole
    )
    layer = set_metre(loop, (3, 4)).layers[0]
    assert [p.tick for p in layer.level_ride.points] == [0, 2880]
    assert layer.source.lens.where == ((0, 2880),)
    last = layer_edits.set_lens(loop, "l1", where=((2880, BAR),))
    assert set_metre(last, (3, 4)).layers[0].mute
    assert "1 layer off" in metre_words(last, (3, 4))
    turning = layer_edits.set_layer(loop, "l1", level_ride=replace(whole, every_ticks=2 * BAR))
    assert set_metre(turning, (3, 4)).layers[0].level_ride.every_ticks == 2 * 2880
    short = layer_edits.set_layer(loop, "l1", level_ride=Ride(of="level_db", points=points[:1],
                                                        every_ticks=960))  # fmt: skip
    assert set_metre(short, (3, 4)).layers[0].level_ride.every_ticks == 960


def test_the_length_tile_changes_the_metre_and_says_what_that_does(qtbot, window):
    popup = open_length(window.heading.length, window.session)
    from cloudrift.desktop.kit.tiles import MetreChoice

    metre = popup.findChild(MetreChoice)
    put = next(b for b in popup.findChildren(type(window.start.begin)) if "metre" in b.text())
    assert not put.isEnabled()
    metre.setCurrentIndex(METRES.index((3, 4)))
    assert window.session.loop.metre == (4, 4)  # it is said first
    assert any("3/4: " in label.text() for label in popup.findChildren(QLabel))
    qtbot.mouseClick(put, LEFT)
    assert window.session.loop.metre == (3, 4)
    assert window.heading.length._under == "3/4"
    popup.close()
    window.session.document.undo()
    assert window.session.loop.metre == (4, 4)


def test_the_card_tile_changes_the_card_and_nothing_else(window):
    from PyQt6.QtWidgets import QComboBox

    before = window.session.loop
    popup = open_style(window.heading.style_tile, window.session)
    choice = popup.findChild(QComboBox)
    for name in ("Edda Fenn", ""):
        at = choice.findData(name)
        choice.setCurrentIndex(at)
        choice.activated.emit(at)
        assert window.session.loop == replace(before, style=name)
    popup.close()
    assert "no style" in window.heading.style_tile.accessibleName()


def test_the_start_page_is_compared_with_itself_bare(qtbot, window):
    session = window.session
    session.select(line_of=None, treatment_id=session.loop.line[0].id)
    session.hearing.compare("card")
    assert session.hearing.sides == ("Treatment bypassed", "Treatment on")
    window.start_loop()
    window.start.choose_source(EMPTY)
    assert session.hearing.sides == ("Bare", "Treated")
    assert session.hearing.compared == "no treatments"
    window.start.leave()
    assert session.hearing.sides == ("Treatment bypassed", "Treatment on")
    session.document.open(session.loop, None)
    assert session.hearing.against == "loop"
    session.document.begun = False


@pytest.mark.parametrize(
    "act", ["Type a progression", "Empty note layer", "Save the progression…", "Save"]
)
def test_commands_from_the_first_start_page_are_for_the_loop_that_is_shown(
    window, monkeypatch, act, tmp_path
):
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Mine", True))
    path = tmp_path / "mine.cloudrift"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), ""))
    window.start_loop()
    window.start.another_variation()
    shown = window.session.hearing.shown
    command(window, act).trigger()
    window.session.document.saver.has_ended(5)
    assert not window.session.hearing.instead
    assert window.session.loop.chords == shown.chords
    if act == "Save":
        assert load(path).chords == shown.chords
    if act == "keep_row":
        assert kept_in(row_folder())[0][0].loop.chords == shown.chords


def test_from_nothing_the_scale_is_free_to_choose(window):
    start = window.start
    window.start_loop()
    assert not start.mode.isEnabled()  # a card draws it
    start.choose_source(EMPTY)
    assert start.mode.isEnabled()
    start.mode.setCurrentIndex(start.mode.findData("dorian"))
    start.mode.activated.emit(0)
    assert window.session.hearing.shown.key == Key("C", "dorian")


def test_a_line_heard_in_part_does_not_stand_in_the_way_of_the_start_page(window):
    session = window.session
    session.hearing.hear_up_to("l4", 0)
    window.start_loop()
    window.start.choose_source(EMPTY)  # it has no layers at all
    assert session.hearing.shown.layers == ()
    window.start.leave()
    assert session.hearing.heard_up_to == ("l4", 0)


def test_a_recording_finds_the_cards_that_it_is_at_home_in(qtbot, window, tmp_path):
    engine = Engine()
    loop = put_found(
        sketch(find_card("Marlow Quist"), Key("A", "minor"), 142.0, 3),
        read_song(write_song(tmp_path / "x.mid", bars=8)).chords,
    )
    write_wav(
        tmp_path / "Pier.wav", engine.render(loop).audio, loop.rate, bits=16, about=About(title="x")
    )
    engine.close()
    window.start_loop()
    window.importing.open_reference(tmp_path / "Pier.wav")
    source = window.start.recording
    qtbot.waitUntil(lambda: source.heard is not None, timeout=60_000)
    assert not window.start.draws.isVisible()
    names = [source.in_style.itemData(i) for i in range(source.in_style.count())]
    assert names[0] == "" and {*names[1:]} == {*house_cards()}
    near = near_cards(house_cards().values(), source.heard.taken_tempo, source.heard.heard_key)
    told = CliRunner().invoke(commands, ["styles", "--near", str(tmp_path / "Pier.wav"), "--json"])
    assert [(one["name"], one["why"]) for one in json.loads(told.stdout)] == [
        (one.card.name, one.words) for one in near
    ]
    assert names[1:] == [one.card.name for one in near]
    source.in_style.setCurrentIndex(names.index("Marlow Quist"))
    source.in_style.activated.emit(names.index("Marlow Quist"))
    assert window.start.draws.isVisible()
    shown = window.session.hearing.shown
    assert shown.key == source.heard.taken_key and shown.style == "Marlow Quist"
    assert shown.tempo in (source.heard.taken_tempo * x for x in (0.5, 1, 2))
    qtbot.mouseClick(window.start.another, LEFT)
    assert window.session.hearing.shown.layers != shown.layers
    source.heard.chords.click()  # the card's sounds around what was played
    heard = [x for x in window.session.hearing.shown.chords]
    assert heard and heard != list(shown.chords)
    assert source.laid.isChecked()  # who begins with a recording wants to hear it
    qtbot.mouseClick(window.start.begin, LEFT)
    loop = window.session.loop
    layer = loop.layers[-1]
    facts = layer.recorded.facts
    assert (facts.name, facts.origin) == ("x", "the file Pier.wav")  # as it is labelled
    assert len(loop.layers) > 2 and layer.recorded.semitones % 12 in (0, 3, 9)
    assert window.session.document.history.now.arrangement.sections  # from the card


def test_cards_are_near_by_tempo_as_they_count_it_and_by_scale():
    cards = house_cards()
    for card in cards.values():
        key = Key("A", card.key.modes[0])
        near = {one.card.name: one for one in near_cards(cards.values(), card.tempo.usual, key)}
        own = near[card.name]
        assert own.apart == 0 and own.in_range and own.in_mode and own.tempo == card.tempo.usual
        assert min(x.apart for x in near.values()) == 0
    slow = cards["Marlow Quist"]  # counted at twice what is heard
    (half,) = near_cards([slow], slow.tempo.usual / 2, Key("A", slow.key.modes[0]))
    assert half.tempo == slow.tempo.usual and 0 < half.apart < 0.2
    (odd,) = near_cards([slow], slow.tempo.usual, Key("A", "lydian"))
    assert not odd.in_mode and "prefers minor" in odd.words and odd.apart >= 0.5
