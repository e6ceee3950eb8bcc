"""The Chords stage under hands: mouse and keys in, loops and sound out."""

import io

import mido
import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QWheelEvent

from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.desktop.frame.midi_sheet import MidiSheet
from cloudrift.desktop.kit import look
from cloudrift.desktop.session.hearing.hearing import TREATED
from cloudrift.desktop.stages.chords.heard_edits import chord_to_hear
from cloudrift.desktop.stages.chords.model import (
    half_step_words,
    movement_words,
    setting_words,
    thread_picture,
)
from cloudrift.desktop.stages.keys.layout import chord_caps, note_caps, pitches_of
from cloudrift.desktop.stages.keys.recorder import State
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.edits.chords.next_chords import key_row, outlook, outside_row, steps_of_five
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.loop.sounding import notes_of
from cloudrift.style import find_card, sketch, without_chords
from cloudrift.theory import Key, parse_progression
from tests.conftest import rms
from tests.hands import drag, settled

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
ALT = Qt.KeyboardModifier.AltModifier
BAR = 3840


def names(loop):
    return [c.read(loop.key).name for c in loop.chords]


@pytest.fixture
def four(window):
    """The window with four chords of two bars: F♯m D Bm C♯7, without its layers' treatments."""
    base = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 142.0, 1, title="Ferry")
    voices = ((42, 57, 61, 66), (38, 57, 62, 66), (47, 59, 62, 66), (49, 56, 61, 65))
    chords = tuple(
        Chord(
            id=f"c{i + 1}", start_tick=2 * BAR * i, length_ticks=2 * BAR, voices=v, root=v[0] % 12
        )
        for i, v in enumerate(voices)
    )
    layers = tuple(replace(layer, line=()) for layer in base.layers[:2])
    window.session.document.open(replace(base, chords=chords, layers=layers, line=()), None)
    window.show_stage(0)
    return window


@pytest.fixture
def blank(window):
    """The window with an empty loop of eight bars in C♯ minor."""
    base = sketch(find_card("Marlow Quist"), Key("C#", "minor"), 142.0, 1, title="Ice Road")
    window.session.document.open(without_chords(base), None)
    window.show_stage(0)
    return window


def point_of(threads, chord_id, voice, share=0.5):
    bar = next(b for b in threads._model.bars if (b.chord_id, b.voice) == (chord_id, voice))
    box = threads.places.full_box(bar)
    return QPointF(box.left() + share * box.width(), box.center().y()).toPoint()


# --- what is shown --------------------------------------------------------------------------------


def test_the_thread_picture_tells_half_steps_common_tones_leaps_and_crossings(bare_chords):
    model = thread_picture(bare_chords)
    assert len(model.bars) == 16
    moves = {(t.from_pitch, t.to_pitch): t.move for t in model.threads}
    assert moves[(57, 57)] == "common"
    assert moves[(61, 62)] == "half"
    assert moves[(38, 47)] == "leap"
    assert [b.pitch for b in model.bars if not b.in_key] == [65]
    assert movement_words(bare_chords, "c2") == "from F♯m: 2 common tones · 1 half step · 1 leap"
    assert half_step_words(bare_chords).startswith("5 half steps")
    assert not any(t.crosses for t in model.threads)
    loop = chord_edits.move_voice(bare_chords, "c2", 0, semitones=26)
    assert any(t.crosses for t in thread_picture(loop).threads)
    assert setting_words(bare_chords, bare_chords.chord("c2")) == "VI · on 5th · close"
    assert [lane.degree for lane in model.lanes if lane.pitch in (54, 55, 56)] == [1, 0, 2]


def test_muted_tied_and_late_voices_are_shown(bare_chords):
    loop = chord_edits.mute_voice(bare_chords, "c2", 1)
    loop = chord_edits.tie_voice(chord_time.set_late(loop, ["c2"], 960), "c2", 3)
    bars = {b.voice: b for b in thread_picture(loop).bars if b.chord_id == "c2"}
    assert [bars[i].muted for i in range(4)] == [False, True, False, False]
    assert bars[3].tied
    assert bars[3].struck == bars[3].start
    assert bars[2].struck > bars[2].start


def test_the_minor_chords_of_a_minor_key_lie_beside_its_home():
    assert steps_of_five(Key("F#", "minor")) == (2, 5, 1, 4, 7, 3, 6)
    row = key_row(Key("F#", "minor"), 3)
    assert [n.name for n in row] == ["G♯°", "C♯m", "F♯m", "Bm", "E", "A", "D"]
    assert [n.quality for n in row[:4]] == ["diminished", "minor", "minor", "minor"]
    assert [n.name for n in key_row(Key("C", "major"), 4)][-2:] == ["Cmaj7", "Fmaj7"]


def test_chords_from_outside_and_how_each_would_follow(bare_chords):
    near = outside_row(bare_chords, "c1", "neighbours", 3)
    assert [n.name for n in near[:3]] == ["G", "C♯", "C♯7"]
    assert [n.shift for n in near[3:]] == [-2, -1, 1, 2]
    assert all(n.outside for n in near[:4])
    assert [n.name for n in outside_row(bare_chords, "c1", "parallel", 3)][:2] == ["E♯°", "A♯m"]
    assert outside_row(bare_chords, "c1", "relative", 3)[-1].name == "E7"
    out = outlook(bare_chords, "c1", near[4])
    assert out.chord.voices == (41, 56, 60, 65)
    assert {move for _, _, move in out.ways} == {"half"}
    assert outlook(bare_chords, "c1", key_row(bare_chords.key, 3)[2]).colour == "rest"


def test_the_threads_are_seen_in_both_themes_and_with_a_voice_selected(qtbot, four):
    threads, session = four.chords.threads, four.session
    session.select(chord_id="c2", voice=1)
    threads.setFocus()
    for theme in ("Nightfall", "Daybreak"):
        four.swap_theme() if look.look.name != theme else None
        image = threads.grab().toImage()
        seen = {image.pixelColor(x, y).name() for x in range(70, 600, 7) for y in range(4, 200, 3)}
        wanted = {look.color(name).name() for name in ("paper", "lane", "focus_soft", "keys")}
        assert wanted <= seen
        whole = threads.grab().toImage()
        session.apply("move", lambda p: chord_edits.move_voice(p, "c2", 1, steps=1))
        threads.grab()
        session.document.undo()
        session.select(chord_id="c2", voice=1)
        assert threads.grab().toImage() == whole  # painted in part, it is the same picture
    four.swap_theme() if look.look.name != "Daybreak" else None


# --- voices by hand -------------------------------------------------------------------------------


def test_a_voice_is_dragged_by_scale_steps_and_undone_in_one(qtbot, four):
    threads, session = four.chords.threads, four.session
    before = session.loop
    start = point_of(threads, "c1", 2)
    drag(qtbot, threads, start, start - QPoint(0, round(3.2 * threads.places.lane)))
    assert session.loop.chord("c1").voices == (42, 57, 64, 66)
    assert (session.selection.chord_id, session.selection.voice) == ("c1", 2)
    session.document.undo()
    assert session.loop is before
    assert not session.document.history.can_undo
    drag(qtbot, threads, start, start - QPoint(0, round(1.1 * threads.places.lane)), SHIFT)
    assert session.loop.chord("c1").voices == (42, 57, 62, 66)


def test_a_voice_is_pulled_out_of_another_and_dragged_away(qtbot, four):
    threads, session = four.chords.threads, four.session
    start = point_of(threads, "c1", 3)
    drag(qtbot, threads, start, start - QPoint(0, round(3.3 * threads.places.lane)), CTRL)
    assert session.loop.chord("c1").voices == (42, 57, 61, 66, 69)
    assert session.document.history.undo_label in ("add a voice", "move a voice")
    out = point_of(threads, "c1", 4)
    drag(qtbot, threads, out, QPoint(20, out.y()))
    assert session.loop.chord("c1").voices == (42, 57, 61, 66)
    session.document.undo()
    session.document.undo()
    assert not session.document.history.can_undo


def test_a_double_click_adds_a_voice_in_the_scale(qtbot, four):
    threads, session = four.chords.threads, four.session
    places = threads.places
    x = point_of(threads, "c2", 0).x()
    qtbot.mouseDClick(threads, LEFT, NONE, QPointF(x, places.at_y(52)).toPoint())
    assert 52 in session.loop.chord("c2").voices
    assert session.selection.voice == session.loop.chord("c2").voices.index(52)
    qtbot.mouseDClick(threads, LEFT, NONE, QPointF(x, threads.places.at_y(48)).toPoint())
    assert 47 in session.loop.chord("c2").voices  # C is not in F♯ minor, B is


def test_a_whole_chord_and_its_ends_are_dragged(qtbot, four):
    threads, session = four.chords.threads, four.session
    at = QPointF(point_of(threads, "c2", 1).x(), threads.places.at_y(52)).toPoint()
    drag(qtbot, threads, at, at - QPoint(0, round(2.2 * threads.places.lane)), SHIFT)
    assert session.loop.chord("c2").voices == (40, 59, 64, 68)
    session.document.undo()
    drag(qtbot, threads, at, at - QPoint(0, round(1.8 * threads.places.lane)))
    assert all(session.loop.key.has(v) for v in session.loop.chord("c2").voices)
    assert session.loop.chord("c2").root == 4
    session.document.undo()
    end = point_of(threads, "c2", 1, 1.0) - QPoint(1, 0)
    wanted = threads.places.at_x((5 * BAR + 100) / session.loop.ticks)
    drag(qtbot, threads, end, QPoint(round(wanted), end.y()))
    assert session.loop.chord("c2").end_tick == 5 * BAR
    assert session.loop.chord("c3").start_tick == 5 * BAR
    session.document.undo()
    drag(qtbot, threads, end, QPoint(round(wanted), end.y()), ALT)  # free of the grid
    assert session.loop.chord("c2").end_tick % 480 != 0


def test_the_grid_and_its_half_rule_drags_in_time(qtbot, four):
    session, grid, bar = four.session, four.chords.moves.grid, four.chords.row_bar.grid
    bar.value.textActivated.emit("1/4")
    assert grid.snap(1300) == 960
    bar.half.click()
    assert (grid.ticks, grid.snap(1300), grid.text) == (480, 1440, "half of 1/4")
    bar.free.click()
    assert grid.snap(1300) == 1300
    four.chords.moves.end(1)  # keys leave the grid too
    assert session.loop.chord("c1").end_tick == 2 * BAR + 30
    four.chords.moves.late()
    assert session.loop.chord("c1").late_ticks == 30
    session.document.undo()
    session.document.undo()
    bar.free.click()
    tiles = four.chords.tiles
    box = tiles.box(session.loop.chord("c2"))
    start = QPointF(box.center()).toPoint()
    drag(qtbot, tiles, start, start + QPoint(round(box.width() / 16), 0))
    assert session.loop.chord("c2").start_tick == 2 * BAR + 480
    assert session.loop.chord("c1").end_tick == 2 * BAR + 480
    assert session.loop.chord("c2").length_ticks == 2 * BAR


def test_everything_is_done_by_keys_too(qtbot, four):
    threads, session = four.chords.threads, four.session
    threads.setFocus()

    def press(key, modifier=NONE):
        qtbot.keyClick(threads, key, modifier)
        return session.loop.chord("c1").voices

    press(Qt.Key.Key_PageUp)
    assert session.selection.voice == 0
    assert press(Qt.Key.Key_Up) == (44, 57, 61, 66)
    assert press(Qt.Key.Key_Down, SHIFT) == (43, 57, 61, 66)
    assert press(Qt.Key.Key_Down, CTRL) == (31, 57, 61, 66)
    press(Qt.Key.Key_M)
    assert session.loop.chord("c1").muted == (31,)
    press(Qt.Key.Key_Y)
    assert session.loop.chord("c1").tied == (31,)
    press(Qt.Key.Key_Delete)
    assert session.loop.chord("c1").voices == (57, 61, 66)
    press(Qt.Key.Key_Insert)
    assert session.loop.chord("c1").voices == (57, 61, 66, 69)
    press(Qt.Key.Key_T)
    assert session.selection.through
    press(Qt.Key.Key_Up, CTRL)
    assert session.loop.chord("c1").voices[-1] == 81
    press(Qt.Key.Key_Escape)
    assert (session.selection.voice, session.selection.through) == (-1, False)
    press(Qt.Key.Key_Right, CTRL)
    assert session.loop.chord("c1").end_tick == 2 * BAR + 480
    press(Qt.Key.Key_L)
    assert session.loop.chord("c1").late_ticks == 480
    press(Qt.Key.Key_Right)
    press(Qt.Key.Key_Right, SHIFT)
    assert session.selection.chord_ids == ("c2", "c3")
    press(Qt.Key.Key_Up, SHIFT)
    assert [session.loop.chord(i).voices[-1] for i in ("c2", "c3")] == [67, 72]
    press(Qt.Key.Key_Delete)
    assert [c.id for c in session.loop.chords] == ["c1", "c4"]
    press(Qt.Key.Key_A, CTRL)
    assert set(session.selection.chord_ids) == {"c1", "c4"}


def test_pitches_are_zoomed_panned_and_fitted(qtbot, four):
    threads = four.chords.threads
    whole = threads.places.lane
    qtbot.keyClick(threads, Qt.Key.Key_Plus)
    assert threads.places.lane > whole
    low = threads.places.low
    wheel = QWheelEvent(QPointF(300, 80), QPointF(300, 80), QPoint(), QPoint(0, 120),
                        Qt.MouseButton.NoButton, NONE, Qt.ScrollPhase.NoScrollPhase,
                        False)  # fmt: skip
    threads.wheelEvent(wheel)
    assert threads.places.low == low + 2
    qtbot.keyClick(threads, Qt.Key.Key_0)
    assert threads.places.lane == whole


def test_the_menu_of_a_voice_mutes_it(qtbot, four):
    session = four.session
    session.select(chord_id="c1", voice=1)
    menu = four.chords.threads.menu(four.chords.threads._model.bars[1])
    next(a for a in menu.actions() if a.text().startswith("Mute")).trigger()
    assert session.loop.chord("c1").muted == (57,)
    menu.deleteLater()


# --- the inspector --------------------------------------------------------------------------------


def test_build_and_voicing_are_changed_by_buttons_and_heard(qtbot, four):
    session, page = four.session, four.chords.inspector.pages["Voice"]
    settled(qtbot, session)
    sound = session.hearing.rendered[TREATED].audio
    session.select(chord_id="c3")
    page.extensions["7"].click()
    assert names(session.loop)[2] == "Bm7"
    page.spacing.button("cluster").click()
    body = session.loop.chord("c3").voices[1:]
    assert body[-1] - body[0] <= 11
    page.lowest.button(2).click()
    assert session.loop.chord("c3").voices[1] % 12 == 6
    page.third.button("none").click()
    assert names(session.loop)[2] == "B7(no 3)"
    page.third.button("own").click()
    page.bass.button(0).click()
    assert session.loop.chord("c3").voices[0] % 12 == 6
    page.bass.button(1).click()
    page.top_root.click()
    assert session.loop.chord("c3").voices[-1] % 12 == 11
    session.select(more=("c4",))
    before = [session.loop.chord(i).voices for i in ("c3", "c4")]
    next(b for b in page.findChildren(type(page.top_root)) if b.text() == "−1 oct").click()
    after = [session.loop.chord(i).voices for i in ("c3", "c4")]
    assert after == [tuple(v - 12 for v in voices) for voices in before]
    page.all_nearest()
    settled(qtbot, session)
    after = session.hearing.rendered[TREATED].audio
    assert after.shape == sound.shape
    assert rms(after - sound) > 1e-3
    assert four.chords.inspector.title.text() == "Bm7 and 1 more"


def test_a_register_is_chosen_by_its_middle_note(qtbot, four):
    session, page = four.session, four.chords.inspector.pages["Voice"]
    session.select(chord_id="c2")
    before = session.loop.chord("c2").voices
    page.register.edited.emit("A4")
    voices = session.loop.chord("c2").voices
    assert voices[0] == before[0]
    assert 66 <= sum(voices[1:]) / 3 <= 72
    page.register.nudge(1, fine=False)
    assert session.document.history.undo_label == "register"


def test_a_digit_puts_a_degree_in_place_as_rich_as_the_chord_was(qtbot, four):
    session, threads = four.session, four.chords.threads
    qtbot.keyClick(threads, Qt.Key.Key_4)
    assert names(session.loop)[0].split("/")[0] == "Bm"
    four.chords.inspector.pages["Voice"].extensions["7"].click()
    qtbot.keyClick(threads, Qt.Key.Key_6)
    assert names(session.loop)[0].split("/")[0] == "Dmaj7"


def test_a_midi_file_is_dropped_on_the_stage(qtbot, four, tmp_path):
    stage = four.chords
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "pier.mid"))])
    copy = Qt.DropAction.CopyAction
    enter = QDragEnterEvent(QPoint(9, 9), copy, data, LEFT, NONE)
    enter.ignore()
    stage.dragEnterEvent(enter)
    assert enter.isAccepted()
    drop = QDropEvent(QPointF(9, 9), copy, data, LEFT, NONE)
    with qtbot.waitSignal(stage.row_bar.midi_chosen) as chosen:
        stage.dropEvent(drop)
    assert chosen.args[0].name == "pier.mid"


def test_a_refused_change_is_said_and_shown_as_it_was(qtbot, four):
    session, page = four.session, four.chords.inspector.pages["Voice"]
    session.select(chord_id="c1")
    with qtbot.waitSignal(session.failed) as said:
        page.bass.button("pedal").click()
    assert "at least two chords" in said.args[0]
    assert page.bass.button(1).isChecked()


def test_rhythm_is_changed_by_buttons(qtbot, four):
    session, inspector = four.session, four.chords.inspector
    inspector.show_page("Rhythm")
    page = inspector.pages["Rhythm"]
    session.select(chord_id="c2")
    page.lengths.button(1).click()
    assert session.loop.chord("c2").length_ticks == BAR
    assert session.loop.chord("c3").start_tick == 3 * BAR
    page.every_second.click()
    assert [c.late_ticks for c in session.loop.chords] == [0, 480, 0, 480]
    page.every_second.click()
    assert not any(c.late_ticks for c in session.loop.chords)
    page.late.click()
    assert page.late_words.text() == "late by 1/8"
    page.repeats.button(960).click()
    assert session.loop.chord("c2").strikes == (0, 960, 1920, 2880)
    page.gate.edited.emit(40.0)
    assert session.loop.chord("c2").gate == 0.4
    onsets = {n.start_tick for n in notes_of(session.loop, session.loop.layers[0]) if n.chord == 1}
    assert len(onsets) in (1, 4)
    texts = {b.text(): b for b in page.findChildren(type(page.every_second))}
    texts["Tie into held"].click()
    chord = session.loop.chord("c2")
    assert (chord.strikes, chord.gate, chord.tied) == ((), 1.0, (57, 66))
    texts["Duplicate"].click()
    assert len(session.loop.chords) == 5
    texts["Passing notes"].click()
    assert len(session.loop.chords) == 6
    texts["Start the loop here"].click()
    assert session.loop.chords[0].id == session.selection.chord_id


def test_onsets_are_pressed_and_dragged(qtbot, four):
    session, onsets = four.session, four.chords.onsets
    y = onsets.height() // 2
    qtbot.mouseClick(onsets, LEFT, NONE, QPoint(round(onsets.axis.at_x(2 * BAR + 1920)), y))
    assert session.loop.chord("c2").strikes == (0, 1920)
    qtbot.mouseClick(onsets, LEFT, NONE, QPoint(round(onsets.axis.at_x(2 * BAR)), y))
    assert session.loop.chord("c2").strikes == (1920,)
    session.document.undo()
    session.document.undo()
    start = QPoint(round(onsets.axis.at_x(6 * BAR)), y)
    drag(qtbot, onsets, start, QPoint(round(onsets.axis.at_x(6 * BAR + 970)), y))
    assert session.loop.chord("c4").late_ticks == 960
    assert session.document.history.undo_label == "late"


def test_touch_of_a_chord_is_its_own_until_it_is_given_up(qtbot, four):
    session, inspector = four.session, four.chords.inspector
    inspector.show_page("Touch")
    page = inspector.pages["Touch"]
    session.select(chord_id="c1")
    page.fields["roll_ms"].edited.emit(120.0)
    page.fields["top"].edited.emit("2")
    page.fields["uneven"].edited.emit(50.0)
    touch = session.loop.chord("c1").touch
    assert (touch.roll_ms, touch.top, touch.uneven) == (120.0, 2, 0.5)
    assert page.whose.text() == "its own"
    texts = {b.text(): b for b in page.findChildren(type(inspector.tabs.button("Voice")))}
    texts["Re-roll touch"].click()
    assert session.loop.chord("c1").touch.variation == touch.variation + 1
    texts["Straight"].click()
    assert session.loop.chord("c1").touch.roll_ms == 0
    texts["Same as its layer"].click()
    assert session.loop.chord("c1").touch is None


def test_the_reading_counts_from_the_root_and_takes_another(qtbot, four):
    session, inspector = four.session, four.chords.inspector
    session.select(chord_id="c3")
    inspector.pages["Voice"].extensions["7"].click()
    inspector.show_page("Reading")
    page = inspector.pages["Reading"]
    assert "minor 7th" in page.notes.text()
    other = next(b for b in page.others.findChildren(type(inspector.tabs.button("Voice"))))
    assert other.text() == "D6/B"
    other.click()
    assert inspector.title.text() == "D6/B"
    assert session.loop.chord("c3").root == 2


# --- next chord and rows --------------------------------------------------------------------------


def test_a_newcomer_writes_eight_chords_with_few_presses(qtbot, blank):
    """From nothing to eight voiced chords, one borrowed, the fourth one late: 10 presses."""
    session, tiles = blank.session, blank.chords.next.tiles
    presses = 0
    for at in (2, 6, 3, 7, 2, 5, 3, 9):  # the eighth tile and the tenth are borrowed
        qtbot.mouseClick(tiles[at], LEFT)
        presses += 1
    loop = session.loop
    assert [n.split("/")[0] for n in names(loop)] == [
        "C#m", "A", "F#m", "D", "C#m", "E", "F#m", "G#7",
    ]  # fmt: skip
    assert loop.chords[-1].end_tick == loop.ticks
    assert all(len(c.voices) >= 4 for c in loop.chords)
    assert loop.chords[3].read(loop.key).degree == "bII"
    box = blank.chords.tiles.box(loop.chords[3])
    qtbot.mouseClick(blank.chords.tiles, LEFT, NONE, box.center().toPoint())
    qtbot.keyClick(blank.chords.threads, Qt.Key.Key_L)
    presses += 2
    assert session.loop.chords[3].late_ticks == 480
    assert presses < 25
    assert [c.late_ticks for c in session.loop.chords].count(480) == 1


def test_a_full_loop_changes_the_chord_in_place_and_shift_puts_it_after(qtbot, four):
    session, strip = four.session, four.chords.next
    session.select(chord_id="c2")
    strip.refresh()
    assert "in place of D" in strip.hint.text()
    qtbot.mouseClick(strip.tiles[4], LEFT)
    assert names(session.loop)[1].split("/")[0] == "E"
    assert len(session.loop.chords) == 4
    qtbot.mouseClick(strip.tiles[5], LEFT, SHIFT)
    assert len(session.loop.chords) == 5
    assert names(session.loop)[2].split("/")[0] == "A"
    strip.counts.button(4).click()
    assert strip.tiles[2].next.name == "F♯m7"
    strip.outsides.button("parallel").click()
    assert strip.tiles[12].next.name == "F♯maj7"
    tile = strip.tiles[0]
    tile.setFocus()
    qtbot.keyClick(tile, Qt.Key.Key_Right)
    assert strip.tiles[1].hasFocus()
    qtbot.keyClick(strip.tiles[1], Qt.Key.Key_Insert)
    assert names(session.loop)[2].split("/")[0] == "C#m7"


def test_a_tile_is_heard_after_the_chord_in_front_without_changing_anything(qtbot, four):
    session, player = four.session, four.session.player
    session.select(chord_id="c1")
    four.chords.next.refresh()
    before = session.loop
    tile = four.chords.next.tiles[6]
    tile.enterEvent(None)
    qtbot.waitUntil(lambda: player.striking and not session.hearing.once.busy, timeout=60_000)
    out = np.concatenate([player.pull(4096).copy() for _ in range(60)])
    bar = session.loop.clock.frames(BAR)
    assert rms(out[:bar]) > 1e-3
    assert rms(out[bar : 2 * bar]) > 1e-3
    assert session.loop is before
    tile.leaveEvent(None)
    player.pull(4096)
    assert rms(player.pull(4096)) == 0
    tile.setFocus()
    qtbot.keyClick(tile, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: player.striking, timeout=60_000)


def test_an_edit_is_heard_while_the_loop_stands(qtbot, four):
    player = four.session.player
    four.chords.moves.choose("c1")
    four.chords.moves.chords(semitones=1)
    qtbot.waitUntil(lambda: player.striking, timeout=60_000)
    assert rms(player.pull(8192)) > 1e-3


def test_a_row_is_typed_drawn_mirrored_and_taken_from_the_shelf(qtbot, blank):
    session, bar = blank.session, blank.chords.row_bar
    qtbot.keyClicks(bar.typed, "i VI iv7 V7")
    qtbot.keyClick(bar.typed, Qt.Key.Key_Return)
    assert names(session.loop) == ["C#m", "A", "F#m7", "G#7"]
    assert bar.typed.text() == ""
    bar.typed.setText("i nonsense V7")
    with qtbot.waitSignal(session.failed) as said:
        bar.put_typed()
    assert "'nonsense' is no chord" in said.args[0]
    assert bar.typed.text() == "i nonsense V7"
    assert len(session.loop.chords) == 4
    bar.variation.click()
    first = names(session.loop)
    bar.variation.click()
    assert bar.variation.text() == "Variation 2"
    assert names(session.loop) != first

    def choose(words):
        bar._fill_menu()
        next(a for a in bar.menu.actions() if a.text().startswith(words)).trigger()

    choose("Night tram")
    assert [n.split("/")[0] for n in names(session.loop)] == ["C#m", "A", "F#m7", "G#7"]
    choose("Duplicate with another ending")
    assert (len(session.loop.chords), session.loop.bars) == (8, 16)
    assert names(session.loop)[7] != names(session.loop)[3]
    session.document.undo()
    session.document.undo()
    choose("Mirror")
    assert names(session.loop) == names(session.loop)[::-1]


def test_a_midi_file_brings_its_chords_key_and_tempo(qtbot, blank, tmp_path):
    session = blank.session
    file = mido.MidiFile(type=0)
    track = mido.MidiTrack([mido.MetaMessage("set_tempo", tempo=mido.bpm2tempo(96))])
    for voices in ((45, 57, 60, 64), (41, 57, 60, 65), (43, 55, 59, 62)):
        track.extend(mido.Message("note_on", note=v, velocity=70) for v in voices)
        track.extend(mido.Message("note_off", note=v, time=1920 if v == voices[0] else 0)
                     for v in voices)  # fmt: skip
    file.tracks.append(track)
    data = io.BytesIO()
    file.save(file=data)
    path = tmp_path / "pier.mid"
    path.write_bytes(data.getvalue())
    blank.importing.open_midi(path)
    qtbot.waitUntil(lambda: bool(blank.findChildren(MidiSheet)), timeout=60_000)
    sheet = blank.findChildren(MidiSheet)[0]
    assert sheet.chords.count() == 3
    sheet.take.click()
    loop = session.loop
    assert loop.chords[0].voices == (45, 57, 60, 64)
    assert loop.tempo == pytest.approx(96, abs=0.01)
    assert loop.key in (Key("A", "minor"), Key("C", "major"), Key("F", "major"))
    assert loop.bars == 3
    session.document.undo()
    assert not session.loop.chords
    (tmp_path / "bad.mid").write_bytes(b"MThd")
    blank.importing.open_midi(tmp_path / "bad.mid")
    qtbot.waitUntil(lambda: "truncated" in blank.message.text(), timeout=60_000)


# --- key ------------------------------------------------------------------------------------------


def test_a_key_is_heard_at_five_shifts_and_kept_or_left(qtbot, four):
    session = four.session
    before = session.loop
    popup = open_key(four.heading.key, session)
    popup.shifts.button(4).click()
    assert session.hearing.shown.key == Key("G#", "minor")
    assert session.loop is before
    assert "plays +2 st" in four.heading.under.text()
    assert "are in F♯ minor" in popup.fits.text()
    popup.keep.click()
    assert session.loop.key == Key("G#", "minor")
    assert session.loop.chord("c1").voices == (44, 59, 63, 68)
    popup.shifts.button(0).click()
    popup.hide()
    assert not session.hearing.previewing
    session.transport.set_playing(False)


def test_a_voice_goes_through_the_selected_chords_only(qtbot, four):
    session, threads = four.session, four.chords.threads
    four.chords.moves.choose("c3")
    four.chords.moves.choose("c4", add=True)
    qtbot.mouseClick(threads, LEFT, NONE, point_of(threads, "c3", 2))
    assert session.selection.chord_ids == ("c3", "c4")
    qtbot.keyClick(threads, Qt.Key.Key_T)
    qtbot.keyClick(threads, Qt.Key.Key_Up, CTRL)
    assert [max(c.voices) for c in session.loop.chords] == [66, 66, 74, 73]


def test_roots_are_written_first_and_grown_upward(qtbot, blank):
    session, strip, moves = blank.session, blank.chords.next, blank.chords.moves
    strip.counts.button(1).click()
    qtbot.mouseClick(strip.tiles[2], LEFT)
    voices = session.loop.chords[0].voices
    assert {v % 12 for v in voices} == {1}
    moves.add_voice()
    assert session.loop.chords[0].voices == (*voices, voices[-1] + 12)


def test_the_sound_follows_when_a_moving_hand_rests(qtbot, four):
    session = four.session
    settled(qtbot, session)
    heard = []
    session.hearing.sound_changed.connect(heard.append)
    for _ in range(5):
        session.apply("x", lambda p: chord_edits.move_chord(p, "c1", semitones=1), merge="m",
                      moving=True)  # fmt: skip
    assert not session.hearing.busy
    qtbot.waitUntil(lambda: bool(heard), timeout=60_000)
    assert heard[-1].loop.chords == session.loop.chords


def test_what_is_not_under_a_moving_hand_follows_when_it_lets_go(qtbot, four):
    session, said, seen = four.session, [], []
    settled(qtbot, session)
    session.settled.connect(lambda: said.append(session.loop))
    session.changed.connect(lambda _before, after: seen.append(after))

    def drag(by):
        session.apply("x", lambda p: chord_edits.move_chord(p, "c1", semitones=by), merge="m",
                      moving=True)  # fmt: skip

    shown = four.ribbon._picture
    for by in (1, 2, 3):
        drag(by)
        four.ribbon._redraw()
    assert len(seen) == 3 and session.is_moving
    assert not said
    assert four.ribbon._picture is shown
    session.end_drag()
    assert said == [session.loop] and not session.is_moving
    four.ribbon._redraw()
    assert four.ribbon._picture is None
    session.end_drag()
    assert len(said) == 1
    drag(2)
    qtbot.waitUntil(lambda: len(said) == 2, timeout=5000)  # the hand stays where it is
    session.apply("x", lambda p: chord_edits.move_chord(p, "c1", semitones=-1))
    assert len(said) == 3  # a press needs no letting go
    drag(2)
    session.document.undo()
    assert len(said) == 4 and not session.is_moving


def test_the_next_chords_wait_for_the_hand(qtbot, four):
    session, drawn = four.session, []
    settled(qtbot, session)
    clock = four.chords.next._clock
    qtbot.waitUntil(lambda: not clock.isActive(), timeout=5000)
    clock.timeout.connect(lambda: drawn.append(session.loop))
    for by in (1, 2, 3):
        session.apply("x", lambda p, by=by: chord_edits.move_chord(p, "c1", semitones=by),
                      merge="m", moving=True)  # fmt: skip
        session.selected.emit()
        qtbot.wait(160)  # longer than they wait for a pause
    assert not drawn
    session.end_drag()
    qtbot.waitUntil(lambda: drawn == [session.loop], timeout=5000)


def test_a_key_is_only_renamed_when_the_chords_stay(qtbot, four):
    session = four.session
    popup = open_key(four.heading.key, session)
    voices = [c.voices for c in session.loop.chords]
    popup.relative.click()
    assert session.loop.key == Key("A", "major")
    assert [c.voices for c in session.loop.chords] == voices
    popup.way.button("stay").click()
    popup.tonics.button(2).click()
    assert session.loop.key == Key("D", "major")
    assert [c.voices for c in session.loop.chords] == voices
    popup.parallel.click()
    assert session.loop.key == Key("D", "minor")
    popup.hide()


# --- play keys ------------------------------------------------------------------------------------


def test_keys_lie_along_the_scale_and_digits_play_its_chords():
    key = Key("F#", "minor")
    rows = note_caps(key)
    assert [c.pitch for c in rows[1]][:8] == [66, 68, 69, 71, 73, 74, 76, 78]
    assert all(top.pitch == low.pitch + 12 for top, low in zip(rows[0], rows[1], strict=True))
    assert pitches_of("A", key, 0) == (66,)
    assert pitches_of("A", key, -1, raised=True) == (55,)
    assert pitches_of("?", key, 0) == ()
    chord = dict(chord_caps(key))["4"]
    assert {p % 12 for p in chord} == {11, 2, 6}


def test_chords_are_played_in_against_a_click(qtbot, blank, monkeypatch):
    session, drawer = blank.session, blank.keys
    blank.open_keys()
    assert drawer.isVisible()
    share = {"now": 0.9}
    monkeypatch.setattr(type(session.player), "share", property(lambda _self: share["now"]))
    drawer.take.click()
    assert drawer.recorder.state is State.COUNT_IN
    assert session.transport.click
    assert "Count-in" in drawer.words.text()
    for bar, key in enumerate((Qt.Key.Key_1, Qt.Key.Key_6, Qt.Key.Key_4, Qt.Key.Key_5)):
        share["now"] = (bar * 2 * BAR + 90) / session.loop.ticks
        drawer.recorder._follow()
        assert drawer.recorder.state is State.TAKES
        qtbot.keyPress(drawer.keys, key)
        share["now"] = ((bar * 2 + 1) * BAR) / session.loop.ticks
        qtbot.keyRelease(drawer.keys, key)
    share["now"] = 0.99
    drawer.take.click()
    assert drawer.recorder.state is State.STANDS
    assert [n.split("/")[0] for n in names(session.loop)] == ["C#m", "A", "F#m", "G#m"]
    assert [c.start_tick for c in session.loop.chords] == [0, 2 * BAR, 4 * BAR, 6 * BAR]
    assert not session.hearing.previewing
    assert not session.transport.click
    session.document.undo()
    assert not session.loop.chords


def test_letters_are_notes_in_the_drawer_and_commands_elsewhere(qtbot, four):
    session = four.session
    four.open_keys()
    hearing = session.hearing.side
    qtbot.keyPress(four.keys.keys, Qt.Key.Key_B)
    assert session.hearing.side == hearing
    qtbot.waitUntil(lambda: session.player.striking, timeout=60_000)
    qtbot.keyRelease(four.keys.keys, Qt.Key.Key_B)
    qtbot.keyClick(four.keys, Qt.Key.Key_Escape)
    assert not four.keys.isVisible()


# --- speed ----------------------------------------------------------------------------------------


def test_a_large_loop_is_dragged_and_stays_whole(qtbot, window):
    session = window.session
    key = Key("F#", "minor")
    row = parse_progression("i VI iv7 V7 " * 16, key)
    base = Loop(title="Long", key=key, tempo=142.0, bars=16, layers=session.loop.layers[:1])
    loop = chord_edits.each(put_row(base, row), [f"c{i}" for i in range(1, 65)],
                            lambda p, i: chord_edits.set_top_root(p, i, True))  # fmt: skip
    session.document.open(loop, None)
    window.show_stage(0)
    assert len(session.loop.chords) == 64
    assert min(len(c.voices) for c in session.loop.chords) >= 5
    threads = window.chords.threads
    start = point_of(threads, "c20", 2)
    drag(qtbot, threads, start, start - QPoint(0, 40))
    assert session.loop.chord("c20").voices != loop.chord("c20").voices
    others = [c for c in session.loop.chords if c.id != "c20"]
    assert others == [c for c in loop.chords if c.id != "c20"]


def test_an_edit_is_heard_in_its_place_while_the_loop_plays(qtbot, session, monkeypatch):
    qtbot.waitUntil(lambda: {"treated", "bare"} <= set(session.hearing.loudness), timeout=60_000)
    settled(qtbot, session)
    session.transport.set_playing(True)
    loads, load = [], session.player.load
    monkeypatch.setattr(session.player, "load", lambda *a: (loads.append(a[0]), load(*a)))
    before = session.hearing.rendered["treated"].audio
    asked = []  # the loop follows later
    monkeypatch.setattr(
        session.hearing._worker, "ask", lambda *a: asked.append(a)
    )  # the loop follows later
    session.apply("x", lambda loop: chord_edits.set_degree(loop, "c2", 3))
    session.hearing.once.edit("c2")
    qtbot.waitUntil(lambda: bool(loads), timeout=60_000)
    chord, n = session.loop.chord("c2"), before.shape[1]
    start, end = (round(n * t / session.loop.ticks) for t in (chord.start_tick, chord.end_tick))
    assert np.array_equal(loads[0][:, :start], before[:, :start])
    assert np.array_equal(loads[0][:, end:], before[:, end:])
    assert not np.allclose(loads[0][:, start:end], before[:, start:end], atol=1e-3)
    # A second one is laid beside the first.
    session.apply("x", lambda loop: chord_edits.set_degree(loop, "c1", 5))
    session.hearing.once.edit("c1")
    qtbot.waitUntil(lambda: len(loads) == 2, timeout=60_000)
    assert np.array_equal(loads[1][:, start:end], loads[0][:, start:end])
    # The treated loop takes their place.
    monkeypatch.undo()
    session.hearing.ask()
    settled(qtbot, session)
    qtbot.waitUntil(
        lambda: session.hearing.rendered["treated"].loop == session.loop, timeout=60_000
    )
    assert session.hearing.once._drafted is None


def test_the_chord_that_an_edit_is_about_is_the_one_that_is_heard(bare_chords):
    ids = [chord.id for chord in bare_chords.chords]
    assert chord_to_hear(bare_chords, bare_chords, "c2") == ""
    louder = chord_edits.set_extension(bare_chords, "c3", "7", True)
    assert chord_to_hear(bare_chords, louder, "c2") == "c3"
    both = chord_edits.set_extension(louder, "c2", "7", True)
    assert chord_to_hear(bare_chords, both, "c3") == "c3"
    copied, made = chord_time.copy_chord(bare_chords, "c1")
    assert chord_to_hear(bare_chords, copied, "c3") == made not in ids
    assert chord_to_hear(bare_chords, loop_edits.shift_key(bare_chords, 2), "c3") == "c1"
    assert chord_to_hear(bare_chords, replace(bare_chords, chords=()), "c3") == ""


def test_an_edit_from_anywhere_is_heard_while_the_chords_are_shown(four, monkeypatch):
    heard = []
    monkeypatch.setattr(four.session.hearing.once, "edit", heard.append)
    four.session.apply("x", lambda loop: chord_edits.set_extension(loop, "c2", "7", True))
    four.session.document.undo()
    assert heard == ["c2", "c2"]
    four.session.apply("y", lambda loop: layer_edits.set_layer(loop, "l1", pan=0.4))
    four.show_stage(1)
    four.session.apply("x", lambda loop: chord_edits.set_extension(loop, "c2", "7", True))
    assert heard == ["c2", "c2"]
