"""The Flip stage in the real window: printed, cut, laid out by hand and by letters, used."""

import json
import zipfile

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QAction
from PyQt6.QtTest import QTest

from cloudrift.audio.sound_file import write_wav
from cloudrift.cli.main import commands
from cloudrift.deliver import Order, deliver
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.stages.flip.model import FlipModel, wave_in, wave_of, words_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.flip import flipping, flips, ordering
from cloudrift.loop.edits.flip.apart import own_document, own_loop
from cloudrift.loop.edits.flip.prints import with_print
from cloudrift.loop.edits.layers import layer_edits, line_edits, recordings
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.flip import SlicePlacement
from cloudrift.loop.sounding import notes_of
from cloudrift.render import Engine
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory.key import Key
from tests.conftest import make_small_loop
from tests.conftest import run as run_command
from tests.hands import command, drag, saved, settled
from tests.test_flip import FACTS, cut, eight, flip_of  # noqa: F401 - a fixture

BEAT = 960


@pytest.fixture
def stage(qtbot, window):
    """The stage with the loop printed and cut at beats: eight pieces."""
    window.show_stage(3)
    window.flip.printing.print_what(())
    qtbot.waitUntil(lambda: bool(window.flip.flips()), timeout=60_000)
    window.flip.cuts.button("beats").click()
    settled(qtbot, window.session)
    return window.flip


def order(stage):
    return ordering.order_text(stage.layer.flipped)


def press(stage, text):
    for letter in text:
        QTest.keyClicks(stage.threads, letter)


def middle(stage, start, end, *, above):
    return stage.threads._box(start, end, above=above).center().toPoint()


# --- the window -----------------------------------------------------------------------------------


def test_a_print_is_parked_heard_alone_and_one_step(qtbot, window, stage, tmp_path):
    session = window.session
    layer = stage.layer
    assert layer.parked and layer.name == "Print 1, Whole loop"
    assert stage.alone.isChecked() and session.hearing.previewing
    heard = session.hearing.heard_loop
    assert [x.id for x in heard.heard()] == [layer.id] and heard.line == ()
    assert "it sounds in F♯ minor at 140 BPM" in window.message.text()
    document = session.document.history.now
    assert [one.name for one in document.prints] == ["Print 1, Whole loop"]
    path = tmp_path / "printed.cloudrift"
    assert saved(session.document.save, path)
    assert load_document(path, session.clips) == document
    session.document.undo()
    session.document.undo()
    assert not stage.flips() and not session.document.history.now.prints
    assert "press print" in stage.says.text().lower() or stage.result.title.text() == "No flip yet"


def test_the_empty_stage_says_what_to_do(window):
    window.show_stage(3)
    stage = window.flip
    assert stage.result.title.text() == "No flip yet"
    assert not stage.cutting.isVisible() and not stage.doing.isVisible()
    assert stage.threads.accessibleName() == "No flip yet"
    window.flip.edit("x", ordering.backward)
    assert "choose Print first" in window.message.text()
    image = window.grab().toImage()
    assert not image.isNull()


def test_letters_lay_pieces_out_and_signs_turn_strike_and_leave_them_out(qtbot, window, stage):
    threads = stage.threads
    threads.setFocus()
    threads.choose(0)
    press(stage, "hca")
    assert order(stage) == "h c a d e f g h" and threads.at == 3
    threads.choose(1)
    press(stage, "-4")
    assert order(stage).split()[1] == "c-x4"
    press(stage, "1")
    assert order(stage).split()[1] == "c-"
    QTest.keyClick(threads, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert order(stage).startswith("h a c-") and threads.at == 2
    press(stage, ".")
    assert order(stage) == "h a d e f g h"
    QTest.keyClick(threads, Qt.Key.Key_Left)
    assert threads.at == 1
    side = window.session.hearing.side
    press(stage, "b")  # which stands for comparing elsewhere
    assert window.session.hearing.side == side and order(stage).startswith("h b")
    for _ in range(9):  # each a step of its own
        window.session.document.undo()
    assert order(stage) == "a b c d e f g h"


def test_pieces_are_dragged_from_above_and_places_below(qtbot, window, stage):
    threads = stage.threads
    drag(qtbot, threads, middle(stage, 7 * BEAT, 8 * BEAT, above=True),
         middle(stage, 0, BEAT, above=False))  # fmt: skip
    assert order(stage) == "h b c d e f g h"
    drag(qtbot, threads, middle(stage, BEAT, 2 * BEAT, above=False),
         middle(stage, 3 * BEAT, 4 * BEAT, above=False))  # fmt: skip
    assert order(stage) == "h c b e f g h"
    drag(qtbot, threads, middle(stage, 0, BEAT, above=False),
         middle(stage, 2 * BEAT, 3 * BEAT, above=False),
         Qt.KeyboardModifier.ShiftModifier)  # fmt: skip
    assert order(stage) == "c h b e f g h"
    # Onto a gap, where the first move has left one.
    drag(qtbot, threads, middle(stage, 0, BEAT, above=True),
         middle(stage, BEAT, 2 * BEAT, above=False))  # fmt: skip
    assert order(stage) == "c a h b e f g h"
    before = stage.layer.flipped
    qtbot.mouseClick(threads, Qt.MouseButton.LeftButton, pos=middle(stage, 5 * BEAT, 6 * BEAT,
                                                                    above=False))  # fmt: skip
    assert threads.at == 5 and stage.layer.flipped == before


def test_a_thread_is_dragged_with_the_place_that_it_leads_to(qtbot, stage):
    threads = stage.threads
    stage.hands["Reverse all"].click()  # each thread crosses over
    top, bottom = threads._rows[1], threads._rows[2]
    place = threads.model.flip.places[1]
    for down in (0.0, 0.5, 1.0):
        ends = threads.model.thread_x(place, down)
        between = (place.from_tick + 480) * (1 - down) + (place.at_tick + 480) * down
        assert ends == pytest.approx(threads.model.axis.at_x(between), abs=0.5)
    at = QPoint(round(threads.model.thread_x(place, 0.25)), round(top + 0.25 * (bottom - top)))
    drag(qtbot, threads, at,
         at + QPoint(round(threads.model.axis.px(3 * BEAT)),
                     round(0.6 * (bottom - top))))  # fmt: skip
    assert order(stage) == "h- f- e- g- c- b- a-" and stage.layer.flipped.places[1].at_tick == (
        2 * BEAT)  # fmt: skip
    before = stage.layer.flipped
    clear = QPoint(round(threads.model.axis.at_x(0)) + 1, round((top + bottom) / 2))
    drag(qtbot, threads, clear, clear + QPoint(90, 60))
    assert stage.layer.flipped == before


def test_double_clicks_above_cut_and_take_cuts_out(qtbot, stage):
    threads = stage.threads
    place = QPoint(round(threads.model.axis.at_x(480)), middle(stage, 0, BEAT, above=True).y())
    qtbot.mouseDClick(threads, Qt.MouseButton.LeftButton, pos=place)
    assert stage.layer.flipped.cuts[:3] == (0, 480, 960)
    qtbot.mouseDClick(threads, Qt.MouseButton.LeftButton, pos=place)
    assert stage.layer.flipped.cuts[:2] == (0, 960)


@pytest.mark.parametrize(("name", "wanted"), [
    ("Reversed, chords in order", "d- c- b- a- h- g- f- e-"),
    ("Reverse all", "h- g- f- e- d- c- b- a-"), ("Reverse", "a b- c d e f g h"),
    ("Repeat", "a b b d e f g h"), ("Half length", "a b b c d e f g h"),
    ("Stutter", "a bx4 c d e f g h"), ("Fill to end", "a b b b b b b b"), ("Rest", "a c d e f g h"),
])  # fmt: skip
def test_each_hand_does_what_it_says_in_one_step(stage, name, wanted):
    stage.threads.choose(1)
    stage.hands[name].click()
    assert order(stage) == wanted
    stage._session.document.undo()
    assert order(stage) == "a b c d e f g h"
    stage.hands["Mute"].click()
    assert stage.layer.flipped.places[1].mute
    stage.hands["Original order"].click()
    assert not stage.layer.flipped.places[1].mute


def test_pieces_come_onto_the_beat(stage):
    stage.edit("off the beat", lambda flip: replace(flip, places=tuple(
        replace(p, at_tick=p.at_tick + 70 * (i == 3), length_ticks=p.length_ticks
                + 70 * (i == 2) - 70 * (i == 3)) for i, p in enumerate(flip.places)
    )))  # fmt: skip
    assert stage.layer.flipped.places[3].at_tick == 3 * BEAT + 70
    stage.hands["On the beat"].click()
    assert [p.at_tick for p in stage.layer.flipped.places] == [i * BEAT for i in range(8)]


def test_it_is_cut_at_hits_and_evenly(qtbot, stage):
    stage.cuts.button("transients").click()
    qtbot.waitUntil(lambda: len(stage.layer.flipped.cuts) not in (1, 8), timeout=20_000)
    stage.even.edited.emit(5.0)
    stage.even.set_value(5.0)
    stage.cuts.button("equal").click()
    assert len(stage.layer.flipped.cuts) == 5
    stage.cuts.button("chords").click()
    assert len(stage.layer.flipped.cuts) == 2


def test_fields_of_a_piece_act_on_it_or_on_all(stage):
    stage.threads.choose(2)
    piece = stage.result.piece
    for name, value, kept in (("semitones", 12.0, 12.0), ("tape", "like tape", True),
                              ("level_db", -6.0, -6.0), ("pan", -50.0, -0.5), ("times", 3.0, 3),
                              ("level_step_db", -2.0, -2.0), ("step_st", 1.0, 1.0),
                              ("fills", "stretched", True), ("decay_ms", 500.0, 500.0),
                              ("fade_in_ms", 20.0, 20.0), ("fade_out_ms", 60.0, 60.0)):  # fmt: skip
        piece[name].edited.emit(value)
        places = stage.layer.flipped.places
        assert getattr(places[2], name) == kept
        assert getattr(places[1], name) != kept
    stage.result.one.button(True).click()
    piece["fade_out_ms"].edited.emit(80.0)
    assert {p.fade_out_ms for p in stage.layer.flipped.places} == {80.0}
    stage.threads.choose(2)
    assert piece["semitones"].value == 12.0 and piece["tape"].value == "like tape"


def test_pitch_and_fit_of_the_whole_are_those_of_its_recording(window, stage):
    stage.result.whole["semitones"].edited.emit(-3.0)
    stage.result.whole["hold_vowels"].edited.emit("preserve")
    stage.result.fit.button("tape").click()
    of = stage.layer.flipped.of
    assert (of.semitones, of.hold_vowels, of.fit) == (-3.0, True, "tape")
    assert stage.result.title.text() == "D♯ minor"
    assert "was F♯ minor" in stage.result.under.text()
    assert "plays here alone" in stage.result.under.text()


def test_a_scatter_is_heard_drawn_again_and_kept_as_one_step(qtbot, window, stage):
    session = window.session
    stage.result.rules["amount"].set_value(100.0)
    stage.result.rules["downbeats"].set_value("off")
    assert not stage.result.keep.isEnabled()
    before = session.loop
    stage.result.another.click()
    assert session.loop is before and stage.result.keep.isEnabled()
    first = ordering.order_text(stage.threads.model.flip)
    assert first != "a b c d e f g h", "what is heard is shown"
    stage.result.another.click()
    second = ordering.order_text(stage.threads.model.flip)
    assert second != first
    assert session.hearing.preview_words == "scattered, variation 3"
    stage.result.keep.click()
    assert order(stage) == second and not stage.result.keep.isEnabled()
    session.document.undo()
    assert order(stage) == "a b c d e f g h"


def test_it_is_used_beside_the_layers_or_instead_of_them(qtbot, window, stage):
    session, before = window.session, window.session.loop
    stage.result.use.click()
    assert not stage.layer.parked and len(session.loop.heard()) == len(before.layers)
    assert not stage.result.use.isEnabled()
    session.document.undo()
    stage.result.instead.click()
    assert [x.id for x in session.loop.heard()] == [stage.layer.id]
    assert session.loop.line == () and all(x.parked for x in session.loop.layers[:-1])
    session.document.undo()
    assert session.loop == before


def test_of_a_layer_only_that_is_parked(qtbot, window):
    window.show_stage(3)
    session = window.session
    session.select(layer_id="l3")
    command(window, "Print the selected layer").trigger()
    qtbot.waitUntil(lambda: bool(window.flip.flips()), timeout=60_000)
    assert window.flip.layer.name == "Print 1, Reef pluck"
    window.flip.result.instead.click()
    parked = {x.id for x in session.loop.layers if x.parked}
    assert parked == {"l3"} and session.loop.line


def test_each_layer_is_printed_by_itself_as_one_step(qtbot, window):
    window.show_stage(3)
    session, stage = window.session, window.flip
    names = [x.name for x in session.loop.layers]
    stage.print_menu.fill()
    next(x for x in stage.print_menu.actions() if x.text().startswith("Each")).trigger()
    qtbot.waitUntil(lambda: len(stage.flips()) == 4, timeout=60_000)
    prints = session.document.history.now.prints
    assert [x.name for x in prints] == [f"Print {i + 1}, {n}" for i, n in enumerate(names)]
    assert [x.recipe.layers for x in prints] == [(x.id,) for x in session.loop.layers[:4]]
    assert all(x.parked for x in stage.flips()) and "4 prints made" in window.message.text()
    session.document.undo()
    assert not stage.flips() and session.document.history.at == 0


def test_a_changed_loop_is_printed_anew_and_all_that_was_cut_follows(qtbot, window, stage):
    session = window.session
    stage.hands["Reverse all"].click()
    clip = stage.layer.flipped.of.clip
    session.apply("off", lambda loop: layer_edits.set_layer(loop, "l1", mute=True))
    stage.again.click()
    qtbot.waitUntil(lambda: stage.layer.flipped.of.clip != clip, timeout=60_000)
    assert order(stage) == "h- g- f- e- d- c- b- a-"
    assert len(session.document.history.now.prints) == 1
    assert "printed again" in window.message.text()
    session.apply("more", lambda loop: loop_edits.set_tempo(loop, 120.0))
    stage.recipe.click()
    assert session.loop.tempo == 140.0 and session.loop.layer("l1").mute
    assert stage.layer is not None, "what was cut stays"


def test_printing_is_cancelled_and_what_is_silent_is_refused(qtbot, window, monkeypatch):
    import threading

    from cloudrift.desktop.session.work import printing as room
    from cloudrift.ground.cancel import Cancelled

    gate, left = threading.Event(), threading.Event()

    def slowly(_loop, _name, _clips, stale, _passes, moved):
        moved(0.25, "step 1 of 4, the tail")
        while not stale():
            gate.wait(0.01)
        gate.wait(0.2)  # a step that is long ends after nobody waits for it any more
        left.set()
        raise Cancelled

    monkeypatch.setattr(room, "printed", slowly)
    window.show_stage(3)
    stage = window.flip
    said = []
    stage.printing.busy.connect(said.append)
    stage.printing.print_what(())
    assert stage.stop.isVisible() and not stage.print.isEnabled()
    qtbot.waitUntil(lambda: len(said) > 1, timeout=20_000)
    assert said[-1].endswith(": 25%, step 1 of 4, the tail")
    stage.stop.click()
    assert not stage.stop.isVisible() and stage.print.isEnabled() and not left.is_set()
    stage.printing.print_what(())
    said.clear()
    qtbot.waitUntil(lambda: left.is_set() and bool(said), timeout=20_000)
    assert stage.stop.isVisible() and "" not in said, "the next one's words stay"
    stage.stop.click()
    assert stage.print.isEnabled() and not stage.flips()
    for layer in window.session.loop.layers:
        window.session.apply(
            "off", lambda loop, x=layer: layer_edits.set_layer(loop, x.id, mute=True)
        )
    stage.printing.print_what(())
    assert "nothing to print" in window.message.text()


def test_it_is_opened_as_a_loop_of_its_own_in_what_it_sounds_in(qtbot, window, stage, tmp_path):
    session = window.session
    stage.hands["Reverse all"].click()
    stage.result.whole["semitones"].edited.emit(-3.0)
    assert saved(session.document.save, tmp_path / "x.cloudrift")
    chords = [c.root for c in session.loop.chords]
    stage.result.apart.click()
    qtbot.waitUntil(lambda: session.loop.title == "Ice Road flipped", timeout=20_000)
    loop = session.loop
    assert loop.key.text == "D♯ minor" and len(loop.layers) == 1 and loop.line == ()
    assert [c.root for c in loop.chords] == [(root - 3) % 12 for root in reversed(chords)]
    assert len(session.document.history.now.prints) == 1, "the way back goes along"
    assert window.room is window.chords
    session.apply("a bass", lambda p: layer_edits.add_layer(p, "round sub"))
    settled(qtbot, session)


def test_a_recording_is_cut_as_it_is(qtbot, window):
    session = window.session
    clip = session.clips.record(np.random.default_rng(1).normal(0, 0.1, (2, 44_100 * 3)).astype(
        np.float32), 44_100)  # fmt: skip
    facts = recordings.Facts(name="Rain", kind="phrase", length_s=3.0)
    source = recordings.FromRecording(clip=clip, facts=facts)
    session.apply("rain", lambda loop: recordings.add_recording(loop, source))
    layer = session.loop.layers[-1]
    window.show_stage(3)
    session.select(layer_id=layer.id)
    command(window, "Slice the selected recording").trigger()
    flip = window.flip.layer.flipped
    assert flip.length_ticks == round(3 * 140 / 60 * 960) and flip.of == source
    # The recording plays on where it was; the flip stands beside it, parked.
    assert session.loop.layer(layer.id) == layer
    assert (window.flip.layer.name, window.flip.layer.parked) == ("Rain 2", True)
    session.document.undo()
    assert session.loop.layers[-1] == layer
    session.document.redo()
    assert window.flip.again.isVisible() is False
    window.flip.printing.reprint()
    assert "that is not a print" in window.message.text()
    session.select(layer_id="l1")
    window.flip.printing.cut_recording()
    assert "print it and slice the print" in window.message.text()


@pytest.mark.parametrize("where", ["window", "command line"])
def test_a_recording_in_which_nothing_is_moved_comes_back_as_it_was(
    qtbot, window, small_loop, tmp_path, where
):
    """Cut, opened as a loop of its own, delivered: as loud, and as it was."""
    session = window.session
    engine = Engine()
    audio = engine.render(line_edits.bare_of(replace(small_loop, tempo=120.0))).audio
    engine.close()
    audio = (0.8 / np.abs(audio).max() * audio).astype(np.float32)
    write_wav(tmp_path / "pier_120bpm_F#m.wav", audio, 44_100, bits=24)
    if where == "command line":
        assert (
            run_command("flip", tmp_path / "pier_120bpm_F#m.wav", "-o", tmp_path / "out.wav") == 0
        )
        (path,) = tmp_path.glob("out.wav")
    else:
        session.document.open(replace(small_loop, tempo=120.0), None)
        window.show_stage(1)
        window.layers.bring_recordings([tmp_path / "pier_120bpm_F#m.wav"])
        qtbot.waitUntil(lambda: len(session.loop.layers) == 5, timeout=30_000)
        layer_id = session.loop.layers[-1].id
        session.apply(
            "level", lambda loop: layer_edits.set_layer(loop, layer_id, level_db=-7.5, pan=0.3)
        )
        session.select(layer_id=layer_id)
        window.show_stage(3)
        window.flip.printing.cut_recording()
        document = own_document(session.document.history.now, window.flip.layer.id)
        (path,) = deliver(document, tmp_path / "out", Order(bits=32), clips=session.clips)
    got = soundfile.read(path, dtype="float32")[0].T
    assert got.shape == audio.shape
    assert 20 * np.log10(np.sqrt(np.square(got - audio).mean() / np.square(audio).mean())) < -90


def test_a_print_whose_recipe_is_lost_stays_playable_and_says_so(qtbot, window, stage):
    session = window.session
    session.document.open(session.loop, None)  # as from a template, which has the loop alone
    window.show_stage(3)
    settled(qtbot, session)
    for act in (stage.again.click, stage.recipe.click, stage.compare.choices["loop"].trigger,
                stage.result.instead.click):  # fmt: skip
        window.message.hide()
        act()
        assert "print again" in window.message.text() and window.message.isVisible()
    assert not stage.compare.choices["loop"].isChecked()
    stage.hands["Reverse all"].click()
    assert order(stage) == "h- g- f- e- d- c- b- a-"


def test_two_flips_are_chosen_between(qtbot, window, stage):
    window.flip.printing.print_what(("l2",))
    qtbot.waitUntil(lambda: len(stage.flips()) == 2, timeout=60_000)
    assert stage.layer.name == "Print 2, Slow vault"
    stage.which.setCurrentIndex(0)
    stage.which.activated.emit(0)
    assert stage.layer.name == "Print 1, Whole loop" and order(stage) == "a b c d e f g h"
    assert stage.which.count() == 2


def test_it_is_compared_with_what_it_was_printed_from(qtbot, window, stage):
    session = window.session
    compared = stage.compare.choices
    compared["loop"].trigger()
    assert session.hearing.sides == ("Then", "Now")
    assert "Print 1, Whole loop, source loop" in session.hearing.compared
    assert compared["loop"].isChecked() and not compared[""].isChecked()
    settled(qtbot, session)
    qtbot.waitUntil(lambda: "bare" in session.hearing.loudness, timeout=20_000)
    session.hearing.swap()
    assert session.hearing.side == "bare"
    compared[""].trigger()
    assert session.hearing.then is None and compared[""].isChecked()
    compared["loop"].trigger()
    window.show_stage(1)
    assert session.hearing.then is None


def test_it_is_compared_with_its_print_in_its_own_key_and_tempo(qtbot, window, stage):
    session = window.session
    stage.hands["Reverse all"].click()
    stage.compare.choices["print"].trigger()
    then = session.hearing.then.loop
    assert ordering.order_text(then.layer(stage.layer.id).flipped) == "a b c d e f g h"
    assert "original order" in session.hearing.compared
    stage.result.whole["semitones"].edited.emit(-3.0)  # what it is compared with goes along
    then = session.hearing.then.loop
    assert then.layer(stage.layer.id).flipped.of.semitones == -3
    assert [x.id for x in then.heard()] == [stage.layer.id]
    stage.result.use_it()
    stage.alone.click() if stage.alone.isChecked() else None
    assert len(session.hearing.then.loop.heard()) == 5
    session.hearing.compare_with(None)  # from elsewhere
    assert not stage.compare.choices["print"].isChecked()


def test_a_fresh_bass_is_one_step_heard_first(qtbot, window, stage):
    session, before = window.session, window.session.loop
    stage.result.bass.click()
    assert len(session.loop.layers) == len(before.layers) + 1
    assert "follows what sounds in Print 1" in window.message.text()
    assert stage.layer.line[0].kind == "cuts"
    session.document.undo()
    assert session.loop == before


def test_in_layers_a_flip_is_seen_as_it_is_laid_out(qtbot, window, stage):
    session = window.session
    stage.result.use.click()
    for piece in range(4):
        stage.threads.choose(piece)
        stage.hands["Mute"].click()
    window.show_stage(1)
    session.select(layer_id=stage.layer.id)
    view = window.layers.recording
    assert view.isVisible() and not view.picture.marks
    assert "8 pieces, arranged in Flip" in view.words.text()

    def first_half():
        seen = view.picture.seen
        return None if seen is None else float(np.abs(seen.outline[:, 20:500]).max())

    qtbot.waitUntil(lambda: first_half() == 0.0, timeout=20_000)
    assert float(np.abs(view.picture.seen.outline[:, 700:]).max()) > 0.5
    page = window.layers.inspector.recording
    for name in ("again", "first_s", "last_s"):
        assert not page.fields[name].isEnabled()
    assert page.fields["semitones"].isEnabled()


def test_leaving_the_stage_hears_the_loop_again(window, stage):
    assert window.session.hearing.previewing
    window.show_stage(1)
    assert not window.session.hearing.previewing and stage.layer.parked


def fetched(qtbot, stage, count):
    qtbot.waitUntil(lambda: len(stage.flips()) == count, timeout=60_000)
    settled(qtbot, stage._session)


def test_an_arpeggio_is_printed_turned_raised_and_printed_twice_more(qtbot, window, tmp_path):
    """Fourteen presses: printed, cut, some of it backward, an octave up, again, a shadow, again."""
    session, stage = window.session, window.flip
    window.show_stage(3)
    session.select(layer_id="l3")
    command(window, "Print the selected layer").trigger()
    fetched(qtbot, stage, 1)
    stage.cuts.button("beats").click()
    for place in (1, 4, 6):
        stage.threads.choose(place)
        stage.hands["Reverse all"].click()
    stage.result.whole["semitones"].edited.emit(12.0)
    stage.printing.print_what((stage.layer.id,))
    fetched(qtbot, stage, 2)
    second = stage.layer
    assert second.name == "Print 2, Print 1, Reef pluck"
    assert session.apply("x", lambda loop: line_edits.add_treatment(loop, second.id, "harmoniser"))
    stage.printing.print_what((second.id,))
    fetched(qtbot, stage, 3)
    stage.result.instead.click()
    document = session.document.history.now
    assert len(document.prints) == 3 and len(document.recipes) == 3
    third = stage.layer
    assert not third.parked and session.loop.layer(second.id).parked
    settled(qtbot, session)
    heard = session.engine.render(session.loop).audio
    assert np.abs(heard).max() > 0.01
    path = tmp_path / "three.cloudrift"
    assert saved(session.document.save, path)
    opened = load_document(path, session.clips)
    assert opened == document
    with zipfile.ZipFile(path) as archive:
        assert len(archive.read("loop.json")) < 400_000, "generations do not nest"


def test_two_melodies_are_printed_together_and_used_as_a_second_one(qtbot, window):
    session, stage = window.session, window.flip
    session.hearing.solo(["l1", "l3"])
    window.show_stage(3)
    command(window, "Print the soloed layers together").trigger()
    fetched(qtbot, stage, 1)
    assert stage.layer.name == "Print 1, Dusk keys and Reef pluck"
    print_ = session.document.history.now.prints[0]
    assert print_.recipe.layers == ("l1", "l3")
    stage.hands["Reverse all"].click()
    stage.result.whole["semitones"].edited.emit(1.0)
    stage.result.use.click()
    assert stage.layer.flipped.of.semitones == 1.0 and not stage.layer.parked
    session.hearing.solo(())
    stage.printing.print_together()
    assert "no layers are soloed" in window.message.text()


class Hands:
    """Presses and types in the window, and counts."""

    def __init__(self, window):
        self.window, self.count = window, 0

    def press(self, what):
        self.count += 1
        (what.trigger if isinstance(what, QAction) else what.click)()

    def menu(self, button, *words):
        """Open a button's menu and go to what begins with the words, menu by menu."""
        self.count += 1
        menu = button.menu()
        menu.aboutToShow.emit()
        for word in words:
            action = next(x for x in menu.actions() if x.text().startswith(word))
            self.count += 1
            if action.menu() is None:
                action.trigger()
            menu = action.menu()

    def type(self, widget, text):
        self.count += 2  # into it, and Return
        widget.setFocus(Qt.FocusReason.TabFocusReason)
        QTest.keyClicks(widget, text[:1])
        editor = getattr(widget, "_editor", None) or widget  # a field opens one
        QTest.keyClicks(editor, text[1:])
        QTest.keyClick(editor, Qt.Key.Key_Return)

    def stage(self, at):
        self.count += 1
        self.window.show_stage(at)


def test_sevenths_go_backward_in_order_lower_with_the_voice_apart_and_a_bass(qtbot, window):
    """From an empty loop, as somebody new would: sevenths, keys and a voice, printed apart."""
    hands, session, stage = Hands(window), window.session, window.flip
    session.document.open(empty_loop(Key("A", "minor"), 96.0, bars=4), None)
    hands.stage(0)
    hands.type(window.chords.row_bar.typed, "i7 VI7 iv7 v7")
    hands.stage(1)
    hands.menu(window.layers.add, "Keys", "Felt")
    hands.menu(window.layers.add, "Voice", "Choir")
    keys, voice = session.loop.layers
    hands.stage(3)
    settled(qtbot, session)
    for count, layer in enumerate((voice, keys), 1):
        hands.menu(stage.print, layer.name)
        fetched(qtbot, stage, count)
        hands.press(stage.hands["Reversed, chords in order"])
        hands.type(stage.result.whole["semitones"], "-3")
        hands.press(stage.result.instead)
    hands.press(stage.result.bass)
    assert hands.count <= 40
    loop = session.loop
    print_voice, print_keys, bass = (x for x in loop.layers if not x.parked)
    assert [x.name for x in (print_voice, print_keys)] == [
        f"Print 1, {voice.name}", f"Print 2, {keys.name}"]  # fmt: skip
    for one in (print_voice, print_keys):
        assert one.flipped.of.semitones == -3 and all(p.backward for p in one.flipped.places)
    roots = [chord.root for chord in loop.chords]
    assert len(roots) == 4
    assert [n.pitch % 12 for n in notes_of(loop, bass)] == [(root - 3) % 12 for root in roots]
    assert stage.result.title.text() == "F♯ minor"
    settled(qtbot, session)
    # Each chord's own notes, three semitones lower, are the loudest classes where it was.
    audio = session.engine.render(flips.heard_with(loop, print_keys.id)).audio
    for chord in loop.chords:
        first, last = (loop.clock.frames(t) for t in (chord.start_tick, chord.end_tick))
        classes = loud_classes(audio[:, first:last].mean(axis=0), loop.rate)
        wanted = {(v - 3) % 12 for v in chord.voices}
        assert len(set(np.argsort(classes)[-len(wanted) :]) & wanted) >= len(wanted) - 1


def loud_classes(mono, rate):
    """How loud each pitch class is between 100 Hz and 1 kHz."""
    power = np.abs(np.fft.rfft(mono * np.hanning(len(mono)))) ** 2
    hz = np.fft.rfftfreq(len(mono), 1 / rate)
    inside = (hz > 100) & (hz < 1000)
    pitch = np.round(69 + 12 * np.log2(hz[inside] / 440)).astype(int) % 12
    return np.bincount(pitch, power[inside], 12)


# --- without a window -----------------------------------------------------------------------------


def model_of(flip):
    return FlipModel(flip, TimeAxis(0, 768, flip.length_ticks), (4, 4), make_small_loop().key)


def test_a_pieces_colour_is_its_chords_and_places_say_what_they_do(eight):  # noqa: F811
    model = model_of(eight)
    assert len(set(model.colors[:4])) == 1 and model.colors[0] != model.colors[4]
    assert model.chord_text(0) == "F♯m" and model.chord_text(99_999) == ""
    place = SlicePlacement(at_tick=0, length_ticks=960, from_tick=960, from_ticks=960,
                           backward=True, times=3, semitones=-2.0, tape=True, level_db=-3.0,
                           mute=True)  # fmt: skip
    assert model.place_text(place) == "reversed, 3 times, −2 st tape, −3.0 dB, off"
    assert model.short(place) == ("b−", "×3 −2")
    assert model.place_at(10) == 0 and model.place_at(767) == 7 and model.piece_at(-5) is None
    assert model.snapped(500) == 480 and model.snapped(9999) == 7200
    assert model.cut_near(97) == 960 and model.cut_near(120) is None
    assert words_of(flipping.swap_mute(flipping.swap_backward(eight, 0), 1)) == (
        "8 pieces above · 8 below · 1 reversed · 12 % silent")  # fmt: skip


def test_the_wave_of_a_place_is_turned_struck_and_cut_like_its_sound():
    wave = wave_of(np.stack([np.linspace(0, 1, 800)] * 2), 8)
    assert wave[-1] == 1 and list(wave) == sorted(wave)
    place = SlicePlacement(at_tick=0, length_ticks=800, from_tick=0, from_ticks=800)
    whole = wave_in(wave, place, 800, 8)
    assert np.allclose(whole, wave)
    assert wave_in(wave, replace(place, backward=True), 800, 8)[0] == 1
    struck = wave_in(wave, replace(place, times=2), 800, 8)
    assert np.allclose(struck[:4], struck[4:])
    assert not wave_in(wave, replace(place, semitones=12.0, tape=True), 800, 8)[5:].any()
    assert np.allclose(wave_in(wave, replace(place, mute=True), 800, 8), wave * 0.25)
    assert not wave_of(np.zeros((2, 0)), 4).any()


def test_a_loop_of_its_own_has_the_chords_that_are_heard(eight):  # noqa: F811
    loop = make_small_loop()
    document = with_print(Document(loop=loop), loop, "0" * 24, FACTS, (), 0.0)
    layer_id = document.loop.layers[-1].id
    with pytest.raises(CloudriftError, match="key of Print 1 is not known"):
        own_loop(document.loop, layer_id)
    keyed = recordings.set_facts(document.loop, layer_id, key=loop.key)
    turned = flips.with_flip(keyed, layer_id, lambda f: ordering.ordered(
        cut(f, "beats"), "e a a . e"))  # fmt: skip
    made = own_loop(turned, layer_id)
    assert [(c.start_tick, c.length_ticks, c.root) for c in made.chords] == [
        (0, 960, 1), (960, 1920, 6), (3840, 960, 1)]  # fmt: skip
    up = own_loop(recordings.set_recording(turned, layer_id, semitones=2.0), layer_id)
    assert up.key == loop.key.shifted(2) and up.chords[0].root == 3
    whole = own_document(document.with_loop(turned), layer_id)
    assert whole.loop == made and len(whole.prints) == len(whole.recipes) == 1
    assert flip_of(document).print_id == "p1"


@pytest.fixture
def file(tmp_path):
    path = tmp_path / "loop.cloudrift"
    save(make_small_loop(), path)
    return path


def run(*words):
    done = CliRunner().invoke(commands, [str(word) for word in words])
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        raise done.exception
    return done.output


def test_print_and_flip_without_a_window(file, tmp_path):
    from cloudrift.audio.files import read_audio
    from cloudrift.loop.files.storage import load

    said = run("print", file, "-o", tmp_path / "p.wav")
    assert "F♯ minor, 140 BPM, 3.43 s" in said
    audio, rate = read_audio(tmp_path / "p.wav")
    assert audio.shape[1] == make_small_loop().frames
    layer = run("print", file, "--layer", "reef pluck", "--bare", "-o", tmp_path / "l.wav")
    assert "3.43 s" in layer
    run("print", file, "--pass", "Thin: reef pluck", "--pass", "All", "-o", tmp_path / "t.wav")
    twice, _rate = read_audio(tmp_path / "t.wav")
    n = audio.shape[1]
    assert twice.shape[1] == 2 * n
    thin, full = ((part**2).mean() for part in (twice[:, :n], twice[:, n:]))
    assert thin < 0.5 * full < (audio**2).mean()
    said = run("flip", file, "--slice", "beats", "--order", "b a- . d", "--json", "-o",
               tmp_path / "f.cloudrift")  # fmt: skip
    facts = json.loads(said)
    assert facts["order"] == "b a- d" and facts["tempo"] == 140.0
    assert [p["start_s"] for p in facts["places"]] == [0.0, 0.42857, 1.28571]
    assert facts["pieces"][0] == {"name": "a", "start_s": 0.0, "length_s": 0.42857,
                                  "chord": "F♯m"}  # fmt: skip
    from cloudrift.audio.clips import ClipStore

    facts = json.loads(run("info", tmp_path / "f.cloudrift", "--json"))
    assert facts["layers"][0]["order"] == "b a- d"
    made = load(tmp_path / "f.cloudrift", ClipStore())
    assert ordering.order_text(made.layers[0].flipped) == "b a- d"
    run("flip", file, "--slice", "beats", "-o", tmp_path / "same.wav")
    same, _rate = read_audio(tmp_path / "same.wav")
    assert np.abs(same - audio).max() < 1e-6, "nothing is moved, so nothing is changed"
    said = run("flip", file, "--slice", "equal:8", "--scatter", "100", "--variation", "4",
               "--move-downbeats", "--shift", "-12", "--way", "like-tape", "-o",
               tmp_path / "low.wav")  # fmt: skip
    assert "F♯ minor, 70 BPM" in said
    low, _rate = read_audio(tmp_path / "low.wav")
    assert low.shape[1] == pytest.approx(2 * audio.shape[1], abs=2)
    said = run("flip", tmp_path / "p.wav", "--slice", "bars", "--tempo", "120", "-o",
               tmp_path / "slow.wav")  # fmt: skip
    assert "120 BPM" in said and rate == 44_100


@pytest.mark.parametrize(("words", "says"), [
    (("--slice", "words"), "known are"), (("--slice", "equal:x"), "equal:N"),
    (("--order", "zz"), "is not a piece"),
])  # fmt: skip
def test_a_flip_that_can_not_be_is_refused_in_words(file, tmp_path, words, says):
    with pytest.raises(CloudriftError, match=says):
        run("flip", file, *words, "-o", tmp_path / "x.wav")


def test_what_is_not_there_can_not_be_printed(file, tmp_path):
    with pytest.raises(CloudriftError, match="there are: Dusk keys"):
        run("print", file, "--layer", "nobody", "-o", tmp_path / "x.wav")


def test_what_is_printed_for_one_document_never_comes_into_another(qtbot, window, monkeypatch):
    import threading

    from cloudrift.desktop.session.work import printing as room

    gate = threading.Event()
    real = room.printed

    def slowly(*given):
        gate.wait(20)
        return real(*given)

    monkeypatch.setattr(room, "printed", slowly)
    window.show_stage(3)
    window.flip.printing.print_what(())
    window.session.document.open(loop_edits.set_title(window.session.loop, "Another"), None)
    gate.set()
    qtbot.waitUntil(lambda: not window.flip.stop.isVisible(), timeout=60_000)
    assert not window.flip.flips() and not window.session.document.history.now.prints
    assert window.flip.print.isEnabled()
