"""The pitch ruler: what sounds, beside what is written, over the ribbon, in Flip and in Arrange."""

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.edits.flip import cutting, flips
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.model.document import Document
from cloudrift.loop.sounding import heard, ruler
from cloudrift.notes.note import Note
from cloudrift.render.play.audition import plain_tones
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import make_small_loop, treated
from tests.hands import command, settled
from tests.test_heard import flipped, of_each_piece

LOOP = make_small_loop()


def texts(spans):
    return [one.text for one in spans]


def pieces_by(loop, layer_id, *semitones):
    """The loop with its flip cut at bars, and each piece shifted."""
    metre = loop.metre

    def edit(flip):
        flip = cutting.cut(flip, cutting.cuts_at(flip, "bars", metre, 8))
        return cutting.with_places(
            flip, [replace(x, semitones=st) for x, st in zip(flip.places, semitones, strict=True)]
        )

    return flips.with_flip(loop, layer_id, edit)


# --- what it says ---------------------------------------------------------------------------------


def test_what_is_written_and_sounds_differs_in_nothing():
    spans = ruler(LOOP)
    assert texts(spans) == [c.read(LOOP.key).text for c in LOOP.chords]
    assert [one.written for one in spans] == texts(spans)
    assert not any(one.differs or one.off_text for one in spans)
    assert [(x.start_tick, x.end_tick) for x in spans] == [
        (c.start_tick, c.end_tick) for c in LOOP.chords
    ]


def test_what_is_shifted_differs_and_says_both_names():
    moved = treated(LOOP, None, "shift", semitones=3.0)
    for one, plain in zip(ruler(moved), ruler(LOOP), strict=True):
        assert one.differs and one.written == plain.text != one.text
        assert [a - b for a, b in zip(one.pitches, plain.pitches, strict=True)] == (
            [300.0] * len(one.pitches)
        )


def test_what_is_out_of_tune_says_by_how_much_in_cents():
    moved = treated(LOOP, None, "shift", semitones=0.0, cents=-40.0)
    assert {one.off_text for one in ruler(moved)} == {"−40 cents"}
    assert all(one.differs for one in ruler(moved))
    a_little = treated(LOOP, None, "shift", semitones=0.0, cents=-8.0)
    assert {(x.off_text, x.differs) for x in ruler(a_little)} == {("−8 cents", False)}


def test_of_one_layer_it_tells_that_layer_alone():
    first = LOOP.layers[0].id
    moved = treated(LOOP, first, "shift", semitones=5.0)
    other = next(x.id for x in moved.heard() if x.id != first)
    assert all(one.differs and one.layer == first for one in ruler(moved, first))
    assert not any(one.differs for one in ruler(moved, other))


def test_a_piece_with_a_pitch_of_its_own_stands_apart_from_the_next():
    loop, flip = flipped(LOOP)
    loop = pieces_by(loop, flip, 0.4, -6.0)
    first, second = ruler(loop, flip)
    assert (first.off_text, first.text) == ("+40 cents", first.written) and first.differs
    assert second.differs and second.off_text == "" and second.text != second.written
    assert {one.differs for one in ruler(pieces_by(loop, flip, 0.0, 0.0), flip)} == {False}


def test_a_line_without_chords_is_named_by_its_notes_bar_for_bar():
    loop = layer_edits.add_note_layer(LOOP)
    made, bar = loop.layers[-1].id, loop.ticks // loop.bars
    for at, pitch in enumerate((69, 72)):
        note = Note(start_tick=at * bar, length_ticks=960, pitch=pitch, velocity=90)
        loop, _id = own_notes.add_note(loop, made, note)
    spans = ruler(loop, made)
    assert texts(spans) == ["A", "B♯"]
    assert [one.pitches for one in spans] == [(6900.0,), (7200.0,)]
    assert ruler(layer_edits.set_layer(loop, made, mute=True), made) == ()


def test_tones_have_the_pitches_they_stand_for_to_a_cent():
    pitches = (4550.0, 6960.0, 7613.0)
    audio = plain_tones(pitches, 44100)
    assert np.abs(audio).max() < 0.5
    spectrum = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1]), 1 << 21))
    for cents in pitches:
        hz = pitch_to_hz(cents / 100)
        near = slice(*(round(x * hz * (1 << 21) / 44100) for x in (0.98, 1.02)))
        peak = (near.start + spectrum[near].argmax()) * 44100 / (1 << 21)
        assert abs(1200 * np.log2(peak / hz)) < 1


# --- over the ribbon ------------------------------------------------------------------------------


@pytest.fixture
def ruled(qtbot, window: Window) -> Window:
    """The window with the ruler open, the loop shifted up by three."""
    window.session.apply("shift", lambda loop: treated(loop, None, "shift", semitones=3.0))
    command(window, "Pitch ruler").trigger()
    settled(qtbot, window.session)
    return window


def middle(strip, number):
    part, span = strip.spans[number]
    x = part.axis.at_x((span.start_tick + span.end_tick) / 2)
    return QPoint(round(x), strip.height() // 2)


def test_the_ruler_opens_over_the_ribbon_and_is_remembered(ruled):
    assert ruled.ruler.isVisible() and ruled.ruler.geometry().bottom() < ruled.ribbon.y() + 1
    assert ruled.session.preferences.now.ruler
    assert texts(x for _part, x in ruled.ruler.strip.spans) == texts(ruler(ruled.session.loop))
    ruled.ribbon.opener.click()
    assert not ruled.ruler.isVisible() and not ruled.session.preferences.now.ruler


def test_it_has_the_ribbons_axis(ruled):
    part = ruled.ruler.strip.spans[0][0]
    left = ruled.ruler.strip.x()
    for share in (0.0, 0.5, 1.0):
        assert left + part.axis.at_x(share * part.loop.ticks) == pytest.approx(
            ruled.ribbon._axis.at_x(share), abs=1
        )


def test_a_press_plays_what_sounds_and_finds_its_layer(ruled, monkeypatch):
    played = []
    once = ruled.session.hearing.once
    monkeypatch.setattr(once, "tones", played.append)
    monkeypatch.setattr(once, "hush_tones", lambda: played.append(None))
    strip = ruled.ruler.strip
    span = strip.spans[1][1]
    QTest.mousePress(strip, Qt.MouseButton.LeftButton, pos=middle(strip, 1))
    assert played == [span.pitches]
    assert ruled.session.selection.layer_id == span.layer
    QTest.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=middle(strip, 1))
    assert played == [span.pitches, None]
    strip.setFocus()
    QTest.keyClick(strip, Qt.Key.Key_Home)
    QTest.keyClick(strip, Qt.Key.Key_Return)
    QTest.keyClick(strip, Qt.Key.Key_Return)
    assert played[2:] == [strip.spans[0][1].pitches, None]


def test_tones_lie_over_the_loop_and_end_when_they_are_let_go(ruled):
    player = ruled.session.player
    ruled.ruler.strip.play(0)
    assert player.striking
    ruled.ruler.strip.hush()
    for _ in range(40):
        player.pull(2048)
    assert not player.striking


def test_its_words_say_all_of_a_span_for_readers_and_on_rest(ruled):
    words = ruled.ruler.strip.words_of(0)
    span = ruled.ruler.strip.spans[0][1]
    assert f"{span.text} sounds" in words and f"{span.written} is written" in words
    assert "loudest in" in words and words.startswith("1.1 to ")
    assert words in ruled.ruler.strip.accessibleName()


def test_a_layer_can_be_chosen_and_one_that_goes_gives_way_to_all(ruled):
    which = ruled.ruler.which
    layer = ruled.session.loop.heard()[-1]
    which.setCurrentIndex(which.findData(layer.id))
    ruled.ruler.refresh()
    assert {x.layer for _part, x in ruled.ruler.strip.spans} == {layer.id}
    ruled.session.apply("remove", lambda loop: layer_edits.remove_layer(loop, layer.id))
    assert which.currentData() == ""


def test_without_it_the_ribbon_names_what_sounds(ruled):
    ribbon, loop = ruled.ribbon, ruled.session.loop
    written = [c.read(loop.key).text for c in loop.chords]
    assert [name for _x, name, _d in ribbon._names()] == written
    ribbon.opener.click()
    assert [(name, d) for _x, name, d in ribbon._names()] == [
        (one.text, True) for one in ruler(loop)
    ]


# --- in Flip and in Arrange -----------------------------------------------------------------------


def test_in_flip_it_lies_under_the_pieces_and_rules_the_flip_alone(qtbot, ruled):
    loop, flip = flipped(LOOP)
    loop = of_each_piece(loop, flip, semitones=-6.0)
    ruled.session.document.open(Document(loop=loop), None)
    ruled.choose_stage(3)
    settled(qtbot, ruled.session)
    strip = ruled.flip.ruler
    assert strip.isVisible()
    assert {x.layer for _part, x in strip.spans} == {flip}
    assert strip.spans[0][0].axis == ruled.flip.threads.model.axis
    assert strip.x() == ruled.flip.threads.x()
    assert all(x.differs for _part, x in strip.spans)
    ruled.flip.alone.click()  # alone, what is written stays what is written in the loop
    assert [x.written for _part, x in strip.spans] == [c.read(loop.key).text for c in loop.chords]
    ruled.session.show_ruler(on=False)
    assert not strip.isVisible()


def test_in_arrange_each_section_is_ruled_in_its_own_key(qtbot, ruled):
    document = Document(loop=LOOP)
    document = arranging.add_section(document, "Verse", 2 * LOOP.bars)
    document = arranging.add_section(document, "Switch", LOOP.bars)
    key = LOOP.key.shifted(2)
    document = arranging.set_section(document, document.arrangement.sections[1].id, key=key)
    ruled.session.document.open(document, None)
    ruled.choose_stage(5)
    settled(qtbot, ruled.session)
    columns = ruled.arrange.columns
    assert columns.ruler.isVisible()
    qtbot.waitUntil(lambda: len(columns.ruler._parts) == 2)
    verse, switch = columns.ruler._parts
    once = len(ruler(LOOP))
    assert len(verse.spans) == 2 * once and len(switch.spans) == once
    assert verse.axis == TimeAxis(*_column(columns, 0), 2 * LOOP.ticks)
    assert heard(switch.loop).key == key
    assert columns.ruler.geometry().bottom() < columns.model.row_box(0)[0]
    assert columns.ruler.geometry().top() > columns.model.rows_top - 40
    ruled.session.show_ruler(on=False)
    assert not columns.ruler.isVisible()


def _column(columns, at):
    left, right = columns.model.span(at)
    return left, right - left


def test_a_window_that_is_too_low_says_so_and_shows_it_when_there_is_room(ruled):
    ruled.setMinimumSize(100, 100)
    ruled.resize(900, 540)
    assert not ruled.ruler.isVisible()
    assert "too low for the pitch ruler" in ruled.message.text()
    ruled.resize(1280, 800)
    assert ruled.ruler.isVisible()
