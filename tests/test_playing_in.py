"""Layers that are played in or brought from a MIDI file; takes; keyboards."""

from types import SimpleNamespace

import mido
import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, Qt, QUrl

from cloudrift.desktop.kit.dropped import MIDI_FILES, dropped
from cloudrift.desktop.stages.keys.recorder import State
from cloudrift.desktop.stages.keys.strip import OWN_KEYS
from cloudrift.devices import MidiKeyboard, keyboards
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.edits.layers.takes import Becomes
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.from_midi import read_parts
from cloudrift.notes.note import Note
from cloudrift.notes.played import Played

BAR = 3840


def test_keys_over_the_turns_of_a_loop_become_notes_on_any_grid():
    played = Played(2 * BAR)
    played.down(100, 60, 90)
    played.up(1000, 60)
    played.down(2 * BAR - 60, 64, 70)  # just before the seam: the start of the next turn
    played.up(400, 64)
    played.down(3000, 67, 80)
    assert played.count == 3
    played.close(3500)
    free = played.notes()
    assert [(n.start_tick, n.length_ticks, n.pitch) for n in free] == [
        (100, 900, 60), (3000, 500, 67), (2 * BAR - 60, 60, 64),
    ]  # fmt: skip
    on_grid = played.notes(480)
    assert [(n.start_tick, n.length_ticks) for n in on_grid] == [(0, 960), (0, 480), (2880, 480)]
    assert played.notes() == free  # as it was played is kept


@pytest.fixture
def drawer(window, monkeypatch):
    """The keys drawer, with the place of the sound under the test's hand."""
    window.show_stage(1)
    window.session.select(layer_id="l1")
    window.open_keys()
    window.keys.place = {"now": 0.9}
    place = property(lambda _self: window.keys.place["now"])
    monkeypatch.setattr(type(window.session.player), "share", place)
    return window.keys


def play(drawer, *notes):
    """Play pitches at ticks, each for a beat."""
    ticks = drawer._session.loop.ticks
    drawer.take.click()
    assert drawer.recorder.state is State.COUNT_IN
    drawer.place["now"] = 0.001
    drawer.recorder._follow()
    for tick, pitch in notes:
        drawer.place["now"] = tick / ticks
        drawer.recorder.down(pitch, 77)
        drawer.place["now"] = (tick + 900) / ticks
        drawer.recorder.up(pitch)
    drawer.take.click()
    drawer.place["now"] = 0.9


def facts(session, layer_id):
    return [(n.start_tick, n.pitch, n.velocity) for n in session.loop.layer(layer_id).own]


def test_a_layer_is_played_in_with_the_chosen_layer_s_sound(drawer):
    session = drawer._session
    before = session.loop
    drawer.choose(Becomes.NEW)
    assert "makes a layer" in drawer.words.text()
    play(drawer, (70, 66), (2000, 69))
    added = session.loop.layers[-1]
    assert added.name == "Recorded"
    assert added.source.sound == before.layers[0].source.sound
    assert facts(session, added.id) == [(0, 66, 77), (1920, 69, 77)]
    assert session.selection.layer_id == added.id
    assert "recorded as a new layer" in drawer.words.text()
    drawer.grid.setCurrentText("as played")  # quantised afterwards, in the same step
    assert facts(session, added.id) == [(70, 66, 77), (2000, 69, 77)]
    session.document.undo()
    assert session.loop == before


def test_takes_are_kept_and_one_stands_in_another_s_place(drawer):
    session = drawer._session
    before = session.loop
    drawer.choose(Becomes.NOTES)
    play(drawer, (0, 61))
    play(drawer, (960, 73), (1920, 75))
    assert [drawer.takes.itemText(i) for i in range(2)] == ["Take 1: 1 note", "Take 2: 2 notes"]
    assert [f[1] for f in facts(session, "l1")] == [73, 75]
    drawer._choose_take(0)
    for pitches in ([61], [73, 75], [61]):  # each of them is a step of its own
        assert [f[1] for f in facts(session, "l1")] == pitches
        session.document.undo()
    assert session.loop == before
    assert drawer.takes.isEnabled()  # the takes are still there


def test_a_layer_played_in_after_chords_leaves_the_chords_there(drawer):
    session = drawer._session
    before = session.loop
    drawer.choose(Becomes.CHORDS)
    play(drawer, (0, 61), (0, 64), (0, 68))
    chords = session.loop.chords
    assert chords != before.chords
    drawer.choose(Becomes.NEW)
    play(drawer, (0, 73))
    play(drawer, (960, 76))
    assert session.loop.chords == chords
    assert [x.name for x in session.loop.layers[-2:]] == ["Recorded", "Played in 2"]
    first = session.loop.layers[-2].id
    drawer._choose_take(1)  # the first of the layers already exists
    assert "already in the loop" in drawer.words.text()
    assert session.selection.layer_id == first
    drawer._choose_take(0)  # chords go on top of the layers
    assert [x.name for x in session.loop.layers[-2:]] == ["Recorded", "Played in 2"]
    session.document.undo()  # the chords were as they are: the newest step is the second layer
    assert session.loop.layers[-1].name == "Recorded"
    session.document.undo()
    assert session.loop.chords == chords and session.loop.layers == before.layers
    session.document.undo()
    assert session.loop == before


def test_more_notes_are_added_to_what_a_layer_plays(drawer):
    session = drawer._session
    seen = {(n.start_tick, n.pitch) for n in notes_of(session.loop, session.loop.layer("l1"))}
    drawer.choose(Becomes.MORE)
    play(drawer, (480, 97))
    own = {(n.start_tick, n.pitch) for n in session.loop.layer("l1").own}
    assert own == seen | {(480, 97)}


def test_nothing_played_changes_nothing(drawer):
    session = drawer._session
    before = session.loop
    drawer.choose(Becomes.NOTES)
    play(drawer)
    assert session.loop == before
    assert "Nothing was played" in drawer.words.text()
    assert not session.hearing.previewing
    assert not drawer.click.isChecked()


# --- keyboards ------------------------------------------------------------------------------------


class FakeBackEnd:
    """What a library of MIDI keyboards looks like."""

    opened = None
    closed = False

    @staticmethod
    def get_devices():
        return [{"name": "Tern 49", "is_input": True}, {"name": "Out", "is_input": False}]

    @classmethod
    def Input(cls, name, callback):
        if name != "Tern 49":
            raise OSError("unknown port")
        cls.opened = callback
        return SimpleNamespace(close=lambda: setattr(cls, "closed", True))


def test_a_keyboard_tells_keys_with_their_loudness():
    assert keyboards(FakeBackEnd) == ("Tern 49",)
    told = []
    keyboard = MidiKeyboard("Tern 49", lambda *key: told.append(key), told.append, FakeBackEnd)
    for message in (
        mido.Message("note_on", note=60, velocity=99), mido.Message("control_change"),
        mido.Message("note_on", note=60, velocity=0), mido.Message("note_off", note=61),
    ):  # fmt: skip
        FakeBackEnd.opened(message)
    assert told == [(60, 99), 60, 61]
    keyboard.close()
    assert FakeBackEnd.closed
    with pytest.raises(CloudriftError, match=r"'Gull 25' could not be opened \(unknown port\)"):
        MidiKeyboard("Gull 25", None, None, FakeBackEnd)


def test_a_keyboard_plays_in_the_drawer_and_goes_with_it(drawer, qtbot, monkeypatch):
    from cloudrift.devices import keyboard as module

    monkeypatch.setattr(module, "_back_end", lambda: FakeBackEnd)
    drawer.show_keyboards(keyboards())
    assert drawer.source.itemText(1) == "Tern 49"
    drawer._choose_keyboard(1)
    FakeBackEnd.opened(mido.Message("note_on", note=64, velocity=50))
    qtbot.waitUntil(lambda: drawer.recorder._held == {64: 50}, timeout=5000)
    FakeBackEnd.opened(mido.Message("note_off", note=64))
    qtbot.waitUntil(lambda: not drawer.recorder._held, timeout=5000)
    FakeBackEnd.closed = False
    qtbot.keyClick(drawer, Qt.Key.Key_Escape)
    assert FakeBackEnd.closed
    assert drawer.keyboard is None


def test_without_keyboards_the_computer_s_keys_are_named(drawer, monkeypatch):
    from cloudrift.devices import keyboard as module

    monkeypatch.setattr(module, "_back_end", lambda: None)
    drawer.show_keyboards(keyboards())
    assert [drawer.source.itemText(i) for i in range(drawer.source.count())] == [OWN_KEYS]
    assert not drawer.source.isEnabled()
    with pytest.raises(CloudriftError, match=r"install cloudrift\[midi\]"):
        MidiKeyboard("Tern 49", None, None)


# --- from a MIDI file -----------------------------------------------------------------------------


@pytest.fixture
def midi_path(tmp_path):
    file = mido.MidiFile(type=1, ticks_per_beat=480)
    for name, pitch, first in (("Kalimba", 72, 1920), ("", 36, 1920 + 480)):
        track = mido.MidiTrack()
        if name:
            track.append(mido.MetaMessage("track_name", name=name))
        track.append(mido.Message("note_on", note=pitch, velocity=70, time=first))
        track.append(mido.Message("note_off", note=pitch, time=480))
        track.append(mido.Message("note_on", note=pitch + 2, velocity=71, time=480 * 40))
        track.append(mido.Message("note_off", note=pitch + 2, time=480))
        file.tracks.append(track)
    path = tmp_path / "two parts.mid"
    file.save(path)
    return path


def test_the_parts_of_a_midi_file_become_layers(small_loop, midi_path):
    song = read_parts(midi_path)
    assert [(name, len(notes)) for name, notes in song.parts] == [("Kalimba", 2), ("", 2)]
    loop = put_layers(small_loop, song.parts)
    high, low = loop.layers[-2:]
    assert (high.name, high.source.sound.name) == ("Kalimba", "kalimba")
    assert low.source.sound.name == "round sub"
    # The empty bar in front is left out; what lies behind the loop's end is cut.
    assert [(n.start_tick, n.pitch) for n in high.own] == [(0, 72)]
    assert [(n.start_tick, n.length_ticks) for n in low.own] == [(960, 960)]
    with pytest.raises(CloudriftError, match="no notes were found"):
        put_layers(small_loop, [("x", [])])
    late = [Note(start_tick=0, length_ticks=9 * BAR, pitch=60)]
    assert put_layers(small_loop, [("x", late)]).layers[-1].own[0].end_tick == small_loop.ticks


def test_midi_files_and_one_shots_are_dropped_on_the_stage(qtbot, window, midi_path, tmp_path):
    window.show_stage(1)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(p)) for p in (midi_path, tmp_path / "a.txt")])
    assert dropped(data, MIDI_FILES) == [midi_path]
    assert dropped(None, MIDI_FILES) == []
    count = len(window.session.loop.layers)
    window.layers.bring_midi(midi_path)
    qtbot.waitUntil(lambda: len(window.session.loop.layers) == count + 2, timeout=5000)
    assert window.session.selection.layer_id == window.session.loop.layers[count].id
    with qtbot.waitSignal(window.tasks.broke, timeout=5000) as said:
        window.layers.bring_midi(tmp_path / "gone.mid")
    assert said.args[0].startswith("there is no file")
    assert len(window.session.loop.layers) == count + 2


def test_layers_are_heard_one_more_at_a_time(window):
    session = window.session
    for count in (1, 2, 3, 4):
        window.add_up()
        assert len(session.hearing.heard_loop.heard()) == count
    assert not session.hearing.alone
    assert not session.document.history.can_undo  # listening is no edit
    session.select(layer_id="l4")
    window.layers.next_layer()
    assert session.selection.layer_id == "l1"


def test_eleven_parts_of_a_midi_file_stay_below_full_scale_together(bare_chords, engine):
    """Each as it is played against the others; all turned down as much."""
    chords = [Note(start_tick=c.start_tick, length_ticks=c.length_ticks, pitch=v, velocity=100)
              for c in bare_chords.chords for v in c.voices]  # fmt: skip
    line = [Note(start_tick=960 * i, length_ticks=900, pitch=30 + i % 5, velocity=110)
            for i in range(16)]  # fmt: skip
    parts = [(name, line if name in ("round sub", "glass bell") else chords)
             for name in ("bright grand", "warm pad", "slow strings", "round sub", "glass bell",
                          "drawbar organ", "choir ah", "nylon", "reed keys", "digital keys",
                          "bright grand")]  # fmt: skip
    loop = put_layers(bare_chords, parts)
    assert len({layer.level_db for layer in loop.layers}) == 1
    assert -20 < loop.layers[0].level_db < -4
    peaks = [np.abs(engine.stem(loop, layer)).max() for layer in loop.layers]
    assert 0.35 < np.abs(engine.render(loop).audio).max() < 1.0 and max(peaks) < 0.5
    # Beside what already exists there is less room; of few notes none is turned down.
    assert put_layers(loop, parts[:4]).layers[-1].level_db < loop.layers[0].level_db
    assert put_layers(bare_chords, [("glass bell", line[:1])]).layers[-1].level_db == 0.0


def test_a_note_layer_comes_in_no_louder_than_what_it_is_like(small_loop):
    loud = layer_edits.set_layer(small_loop, "l1", level_db=3.0)
    assert layer_edits.add_note_layer(loud, "l1").layers[-1].level_db < 3.0
    quiet = layer_edits.set_layer(small_loop, "l1", level_db=-40.0)
    assert layer_edits.add_note_layer(quiet, "l1").layers[-1].level_db == -40.0
