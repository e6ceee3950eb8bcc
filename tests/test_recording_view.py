"""Recordings in the real window: brought in, brought into key and onto the beat, seen, undone."""

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent

from cloudrift.audio.sound_file import write_wav
from cloudrift.desktop.stages.layers.recording_model import marks_of, outline_of, turns_of
from cloudrift.desktop.stages.layers.recording_page import KEYS
from cloudrift.desktop.stages.layers.recording_view import clash_words
from cloudrift.loop.edits.layers import recordings
from cloudrift.loop.files.storage import load
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.render.measure.clashes import Clash
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key
from tests.hands import drag, saved, settled
from tests.test_recordings import BEATS, FACTS, RATE, begins, cents, pitch, sine, strokes


@pytest.fixture
def file(tmp_path):
    """Two bars of E minor at 100 BPM, labelled so, with two strokes that are late."""
    late = [b + (0.05 if i in (3, 6) else 0) for i, b in enumerate(BEATS)]
    tones = sum(strokes(late, 4.8, hz=hz) for hz in (164.81, 196.0, 246.94))
    path = tmp_path / "ember_loop_100bpm_Em.wav"
    write_wav(path, tones, RATE, bits=24)
    return path


@pytest.fixture
def brought(qtbot, window, file):
    """The window with the recording in it; what it says of that."""
    session = window.session
    window.show_stage(1)
    window.layers.bring_recordings([file])
    qtbot.waitUntil(lambda: len(session.loop.layers) == 5, timeout=30_000)
    settled(qtbot, session)
    return window


def recorded(window):
    return window.session.loop.layers[-1].recorded


def page_of(window):
    return window.layers.inspector.recording


def test_a_recording_comes_in_by_its_label_and_says_what_is_to_be_decided(brought):
    source = recorded(brought)
    assert (source.facts.tempo, source.facts.key) == (100.0, Key("E", "minor"))
    assert (source.facts.kind, source.fit, source.semitones) == ("loop", "tempo", 0.0)
    assert "ember loop imported as a loop, from 100 to 140 BPM" in brought.message.text()
    assert "to be in key it needs up 2 or down 10" in brought.message.text()
    assert brought.layers.recording.isVisible() and not brought.layers.notes.isVisible()
    assert brought.session.selection.layer_id == brought.session.loop.layers[-1].id
    assert source.facts.origin == "the file ember_loop_100bpm_Em.wav"
    assert source.gain_db == recordings.usual_gain(source.facts)


def test_both_ways_into_the_key_are_heard_before_one_is_taken(qtbot, brought):
    session, page = brought.session, page_of(brought)
    assert [way.text() for way in page.ways] == ["Up 2", "Down 10"]
    before = session.loop
    page.ways[1].setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5000)
    assert session.hearing.shown.layers[-1].recorded.semitones == -10
    assert session.loop is before
    page.ways[0].setFocus()
    qtbot.mouseClick(page.ways[0], Qt.MouseButton.LeftButton)
    assert recorded(brought).semitones == 2
    assert not session.hearing.previewing
    assert "it is in key" in page.into.text()
    session.document.undo()
    assert session.loop is before


def test_what_clashes_is_seen_and_gone_when_it_is_in_key(qtbot, brought):
    picture = brought.layers.recording.picture
    qtbot.waitUntil(lambda: picture.seen is not None, timeout=20_000)
    assert picture.seen.clashes  # G and D in F sharp minor
    qtbot.mouseClick(page_of(brought).ways[0], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: not any(c.outside for c in picture.seen.clashes), timeout=20_000)


def test_late_strokes_are_marked_and_pulled_to_the_beat(qtbot, brought):
    session, view = brought.session, brought.layers.recording
    off = [mark.number for mark in view.picture.marks if mark.is_off]
    assert off == [3, 6]
    assert [round(m.off_ms / (50 * 100 / 140), 1) for m in view.picture.marks if m.is_off] == [1, 1]
    assert view.pull.isVisible()
    qtbot.mouseClick(view.pull, Qt.MouseButton.LeftButton)
    assert recorded(brought).fit == "beats"
    assert not any(mark.is_off for mark in view.picture.marks)
    assert not view.pull.isVisible()
    settled(qtbot, session)
    alone = session.engine.heard_layer(session.loop, session.loop.layers[-1])
    heard, beat = begins(alone, share=0.2), 60 / 140
    assert np.abs(heard - np.round(heard / beat) * beat).max() < 0.005


def test_a_beat_is_dragged_and_moved_by_keys(qtbot, brought):
    session, picture = brought.session, brought.layers.recording.picture
    settled(qtbot, session)
    axis = picture._axis()
    mark = picture.marks[2]
    y = picture.height() // 2
    start = QPoint(round(axis.at_x(mark.tick)), y)
    was = recorded(brought).facts.beats_s[2]
    drag(qtbot, picture, start, start + QPoint(12, 0))
    moved = recorded(brought).facts.beats_s[2] - was
    assert moved == pytest.approx(axis.ticks_of(12) / 960 * 0.6, rel=0.1)
    session.document.undo()
    assert recorded(brought).facts.beats_s[2] == was  # one step for the whole drag
    picture.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right):
        qtbot.keyClick(picture, key)
    picture.chosen = 2
    qtbot.keyClick(picture, Qt.Key.Key_Right, Qt.KeyboardModifier.ControlModifier)
    assert recorded(brought).facts.beats_s[2] == pytest.approx(was + 0.01)
    qtbot.keyClick(picture, Qt.Key.Key_Return)
    assert recorded(brought).facts.downbeat == 2


FIELDS = [
    ("semitones", -3.0, dict(semitones=-3.0)), ("cents", 25.0, dict(semitones=0.25)),
    ("bar", 2.0, dict(at_tick=3840)),
    ("beat", 2.5, dict(at_tick=1440)), ("again", "every bar", dict(every_bars=1)),
    ("first_s", 1.0, dict(first_s=1.0)), ("last_s", 2.0, dict(last_s=2.0)),
    ("gain_db", 3.0, dict(gain_db=3.0)),
]  # fmt: skip


def test_each_field_does_what_it_says_and_is_heard(qtbot, brought):
    session = brought.session
    settled(qtbot, session)
    layer = session.loop.layers[-1]
    before = session.engine.heard_layer(session.loop, layer)
    for name, value, wanted in FIELDS:
        field = page_of(brought).fields[name]
        field.edited.emit(value)
        source = recorded(brought)
        assert {key: getattr(source, key) for key in wanted} == wanted, name
        assert field.value == value
        after = session.engine.heard_layer(session.loop, session.loop.layers[-1])
        assert np.abs(before - after).max() > 1e-4, name
        session.document.undo()
        assert session.loop.layers[-1] == layer, name


def test_the_colour_of_a_voice_is_held_where_its_pitch_moves(qtbot, brought):
    session, page = brought.session, page_of(brought)
    assert not page.fields["vowels"].isEnabled()  # there is nothing to hold
    for edit in (lambda: page.fields["semitones"].edited.emit(5.0), lambda: page._set_fit("tape")):
        edit()
        assert page.fields["vowels"].isEnabled()
        session.apply(
            "x", lambda p: recordings.set_recording(p, p.layers[-1].id, hold_vowels=False)
        )
        before = session.engine.heard_layer(session.loop, session.loop.layers[-1])
        page.fields["vowels"].edited.emit("preserve")
        assert recorded(brought).hold_vowels
        after = session.engine.heard_layer(session.loop, session.loop.layers[-1])
        assert np.abs(before - after).max() > 1e-3
        session.apply("x", lambda p: recordings.set_recording(p, p.layers[-1].id, semitones=0.0))


def test_what_is_known_is_corrected_by_hand(qtbot, brought):
    page = page_of(brought)
    page.fields["key"].edited.emit(Key("A", "minor").text)
    assert recorded(brought).facts.key == Key("A", "minor")
    assert [way.text() for way in page.ways] == ["Down 3", "Up 9"]
    page.fields["key"].edited.emit("not known")
    assert recorded(brought).facts.key is None and page.ways == []
    qtbot.mouseClick(page.double, Qt.MouseButton.LeftButton)
    assert recorded(brought).facts.tempo == 200
    qtbot.mouseClick(page.half, Qt.MouseButton.LeftButton)
    assert recorded(brought).facts.tempo == 100
    page.fields["tempo"].edited.emit(80.0)
    assert recorded(brought).facts.beats_s[1] == pytest.approx(0.75)
    page.fields["kind"].edited.emit("phrase")
    assert recorded(brought).facts.kind == "phrase"
    page.licence.setText("own recording")
    page.licence.editingFinished.emit()
    assert recorded(brought).facts.licence == "own recording"
    page.set_tapped([0.0, 0.5, 1.0, 1.5])  # heard at 140 BPM it was 120; so it is less by itself
    assert recorded(brought).facts.tempo == pytest.approx(120 * 80 / 140, abs=0.1)
    page.fields["tempo"].edited.emit(0.0)
    assert recorded(brought).fit == "as it is"
    assert not page.fit.button("tempo").isEnabled() and not page.fit.button("beats").isEnabled()


@pytest.mark.parametrize("fit", ["as it is", "tempo", "tape", "beats"])
def test_a_fit_is_chosen_by_a_press(qtbot, brought, fit):
    page = page_of(brought)
    qtbot.mouseClick(page.fit.button(fit), Qt.MouseButton.LeftButton)
    assert recorded(brought).fit == fit
    assert page.fit.button(fit).isChecked()
    assert page.fields["pull"].isVisible() == (fit == "beats")


def test_the_second_key_is_taken_by_a_press(qtbot, brought):
    page, layer = page_of(brought), brought.session.loop.layers[-1]
    brought.session.apply("x", lambda p: recordings.set_facts(p, layer.id, second_key=Key("G")))
    assert page.second.text() == "Or is it G minor?"
    qtbot.mouseClick(page.second, Qt.MouseButton.LeftButton)
    assert recorded(brought).facts.key == Key("G") and page.second.text() == "Or is it E minor?"


def test_a_mislabelled_recording_is_noticed_and_not_changed(qtbot, window, file):
    wrong = file.with_name("dusk_loop_87bpm_Ebmaj.wav")
    file.rename(wrong)
    window.show_stage(1)
    window.layers.bring_recordings([wrong])
    qtbot.waitUntil(lambda: len(window.session.loop.layers) == 5, timeout=30_000)
    source = recorded(window)
    assert (source.facts.tempo, source.facts.key) == (87.0, Key("Eb", "major"))
    assert "written E♭ major, estimated E minor" in window.layers.recording.words.text()


def test_files_are_dropped_on_the_stage(qtbot, window, file, tmp_path):
    other = tmp_path / "rain.wav"
    noise = np.random.default_rng(1).standard_normal((2, 3 * RATE)) * 0.05
    write_wav(other, noise.astype(np.float32), RATE, bits=16)
    window.show_stage(1)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(one)) for one in (file, other)])
    window.layers.dropEvent(QDropEvent(
        QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier))  # fmt: skip
    session = window.session
    qtbot.waitUntil(lambda: len(session.loop.layers) == 6, timeout=30_000)
    assert [x.recorded.facts.kind for x in session.loop.layers[4:]] == ["loop", "bed"]
    session.document.undo()
    assert len(session.loop.layers) == 4  # both are one step


def test_a_recording_dropped_onto_one_takes_its_place_through_its_treatments(
    brought, qtbot, tmp_path
):
    window, session = brought, brought.session
    layer = session.loop.layers[-1]
    session.apply("later", lambda loop: recordings.set_recording(loop, layer.id, at_tick=1920))
    other = tmp_path / "creak_100bpm_Em.wav"
    write_wav(other, strokes(BEATS, 4.8, hz=220.0), RATE, bits=24)
    settled(qtbot, session)
    row = window.layers.rows[layer.id]
    place = row.mapTo(window.layers, row.rect().center())
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(other))])
    before = session.loop
    window.layers.dropEvent(QDropEvent(
        QPointF(place), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier))  # fmt: skip
    qtbot.waitUntil(lambda: session.loop != before, timeout=30_000)
    now = session.loop.layer(layer.id)
    assert len(session.loop.layers) == len(before.layers)
    assert now.recorded.facts.name == "creak" and now.recorded.at_tick == 1920
    session.document.undo()
    assert session.loop == before


def test_what_cannot_be_read_is_said_and_nothing_is_changed(qtbot, window, tmp_path):
    bad = tmp_path / "bad.wav"
    bad.write_bytes(b"RIFF")
    window.show_stage(1)
    before = window.session.loop
    window.layers.bring_recordings([bad])
    qtbot.waitUntil(lambda: "could not read" in window.message.text(), timeout=20_000)
    assert window.session.loop is before
    good = tmp_path / "good.wav"
    write_wav(good, sine(220.0, 1.0), RATE, bits=16)
    window.layers.bring_recordings([bad, good])  # one that is spoilt keeps no other out
    qtbot.waitUntil(lambda: len(window.session.loop.layers) == 5, timeout=20_000)
    assert "could not read" in window.message.text()


def test_listening_is_stopped(qtbot, window, file, monkeypatch):
    import threading

    gate = threading.Event()
    monkeypatch.setattr("cloudrift.desktop.stages.layers.stage.read_and_listen",
                        lambda _path: gate.wait(20) and None)  # fmt: skip
    window.show_stage(1)
    before = window.session.loop
    window.layers.bring_recordings([file, file])
    qtbot.waitUntil(lambda: "1 of 2" in window.message.text(), timeout=10_000)
    window.layers.stop_listening()
    gate.set()
    settled(qtbot, window.session)
    assert window.session.loop is before
    assert "stopped analysing recordings" in window.message.text()


def test_it_is_saved_opened_and_sounds_the_same(qtbot, brought, tmp_path):
    session = brought.session
    qtbot.mouseClick(page_of(brought).ways[0], Qt.MouseButton.LeftButton)
    settled(qtbot, session)
    path = tmp_path / "x.cloudrift"
    assert saved(brought.files.save_to, path)
    assert load(path, session.clips) == session.loop
    alone = session.engine.heard_layer(session.loop, session.loop.layers[-1])
    lowest = pitch(alone)
    wanted = 164.81 * 2 ** (2 / 12)
    assert min(abs(cents(lowest, wanted * k)) for k in (1, 1.189, 1.498)) < 25


def test_a_layer_that_is_a_recording_does_what_layers_do(qtbot, brought):
    """Twin, park, group, notes: nothing that needs notes breaks on it."""
    session, inspector = brought.session, brought.layers.inspector
    layer_id = session.loop.layers[-1].id
    for act in ("Twin", "Duplicate", "Up", "Turn off"):
        session.select(layer_id=layer_id)
        qtbot.mouseClick(inspector.acts[act], Qt.MouseButton.LeftButton)
    assert sum(x.recorded is not None for x in session.loop.layers) == 3
    session.select(layer_id=layer_id)
    assert brought.layers.notes.moves.layer is None
    brought.open_shelf()
    before = session.loop
    brought.shelf.choose(brought.shelf.grid.sounds[0], False)
    assert session.loop is before and "is a recording" in brought.message.text()
    session.hearing.once.key_down(60, 90, layer_id)  # it plays in what strikes the chords
    for stage in range(4):
        brought.show_stage(stage)
        settled(qtbot, session)
    brought.show_stage(1)
    session.select(layer_id=session.loop.layers[0].id)
    assert brought.layers.notes.isVisible() and not brought.layers.recording.isVisible()


# --- what the picture is made from ----------------------------------------------------------------


def test_marks_and_turns_lie_where_the_sound_does(small_loop):
    source = FromRecording(clip="0" * 24, facts=FACTS, fit="tempo", every_bars=1)
    loop = recordings.add_recording(small_loop, source)
    layer = loop.layers[-1]
    marks = marks_of(loop, layer)
    assert [round(m.tick) for m in marks] == [960 * i for i in range(8)]
    assert [m.downbeat for m in marks] == [i % 4 == 0 for i in range(8)]
    assert not any(m.is_off for m in marks)
    assert turns_of(loop, layer) == ((0, pytest.approx(3840, abs=1)), (pytest.approx(3840, abs=1),
                                     pytest.approx(7680, abs=1)))  # fmt: skip
    phrase = recordings.set_facts(loop, layer.id, kind="phrase")
    assert turns_of(phrase, phrase.layers[-1])[1][1] == pytest.approx(3840 + 7680, abs=2)
    bed = recordings.set_facts(loop, layer.id, kind="bed")
    assert turns_of(bed, bed.layers[-1]) == ((0, loop.ticks),)
    assert marks_of(loop, loop.layers[0]) == () == turns_of(loop, loop.layers[0])


def test_an_outline_has_the_lowest_and_highest_of_each_column():
    audio = np.zeros((2, 1000), np.float32)
    audio[:, 250], audio[:, 755] = 0.5, -0.25
    low, high = outline_of(audio, 10)
    assert np.flatnonzero(high).tolist() == [2] and np.flatnonzero(low).tolist() == [7]
    assert (high[2], low[7]) == (1.0, -0.5)
    assert np.isfinite(outline_of(sine(440, 0.01) * 0, 4)).all()


def test_clashes_are_spelled_in_the_recordings_own_key(small_loop):
    clash = Clash(0, 960, (0, 7), (2,))
    assert clash_words(clash, small_loop, Key("E", "minor")) == "C G outside, D clashes"
    assert len(KEYS) == 24


def test_a_loop_that_begins_with_a_recording_takes_what_it_needs_from_it(qtbot, brought):
    session, view = brought.session, brought.layers.recording
    acts = {action.text(): action for action in view.take.menu().actions()}
    acts["Use its tempo"].trigger()
    assert session.loop.tempo == 100
    acts["Use its key, transposing the rest"].trigger()
    assert session.loop.key == Key("E", "minor") and recorded(brought).semitones == 0
    before = session.loop.chords
    acts["Use its chords"].trigger()
    qtbot.waitUntil(lambda: session.loop.chords != before, timeout=30_000)
    assert {c.root for c in session.loop.chords} == {4}
    acts["Its bass as a layer"].trigger()
    qtbot.waitUntil(lambda: len(session.loop.layers) == 6, timeout=30_000)
    assert session.loop.layers[-1].name == "ember loop bass"
    for _ in range(4):
        session.document.undo()
    assert session.loop.tempo == 140 and len(session.loop.layers) == 5
    brought.session.apply("x", lambda p: recordings.set_own_key(p, p.layers[-1].id, None))
    acts["Use its key, transposing the rest"].trigger()
    assert "key is not known" in brought.message.text()


def test_files_dropped_on_the_shelf_become_a_sound(qtbot, window, tmp_path):
    one = tmp_path / "ping_C4.wav"
    write_wav(one, strokes((0.0,), 0.6, hz=261.6), RATE, bits=16)
    window.open_shelf()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(one))])
    window.shelf.dropEvent(QDropEvent(
        QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier))  # fmt: skip
    qtbot.waitUntil(lambda: window.shelf.sheet is not None, timeout=20_000)
    assert [round(float(root.value)) for root in window.shelf.sheet.roots] == [60]


def test_a_recording_in_a_loop_of_one_bar_is_shown(qtbot, window, file):
    """The bar that it begins in can only be the first: a field whose ends are equal."""
    session = window.session
    session.document.open(empty_loop(tempo=120.0, bars=1), None)
    window.show_stage(1)
    window.layers.bring_recordings([file])
    qtbot.waitUntil(lambda: len(session.loop.layers) == 1, timeout=30_000)
    page = page_of(window)
    bar = page.fields["bar"]
    assert not bar.grab().isNull()  # painted: an exception fails the test
    qtbot.keyClick(bar, Qt.Key.Key_Up)
    assert recorded(window).at_tick == 0
