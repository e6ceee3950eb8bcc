"""Takes in the real window: sung to the loop, kept, heard, chosen, undone; and what goes wrong."""

import numpy as np
import pytest
from PyQt6.QtWidgets import QPushButton

from cloudrift.desktop.stages.microphone import taker as taker_module
from cloudrift.desktop.stages.microphone.pane import AGAIN, NEW
from cloudrift.desktop.stages.microphone.taker import State
from cloudrift.devices.microphone import STAND_IN, StandInMicrophone, open_microphone
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.edits.layers.sung import Over, heard_meanwhile
from cloudrift.loop.files.storage import load
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.notes.listening import listen_to
from cloudrift.texture.treatment import Treatment
from tests.conftest import wait_for
from tests.hands import command, saved, settled

BLOCK = 882


class Plugged(StandInMicrophone):
    """A microphone that brings blocks when a test says so; it can be pulled out."""

    name = "plugged in"

    def __init__(self, rate, now):
        super().__init__(rate, now, late_ms=40.0)
        self.pulled = False

    def start(self, push):
        self._push = push

    def bring(self, count):
        if not self.pulled:
            self._push(self._room(count))


@pytest.fixture
def bars(window, qtbot, monkeypatch):
    """The window with its Microphone drawer open, and what lets so many bars pass."""
    made = []

    def plug(rate, _name, now):
        made.append(Plugged(rate, now))
        return made[-1]

    def phrase(loop, _number, _pitched, rate, _cancelled):
        """A stroke on every beat: a fifth of a second of a tone."""
        out = np.zeros(loop.frames, np.float32)
        beat = loop.frames // (4 * loop.bars)
        long = min(beat, rate // 5)
        for i in range(4 * loop.bars - 4):
            tone = np.sin(2 * np.pi * 330 * np.arange(long) / rate) * np.exp(-np.arange(long) / 900)
            out[i * beat : i * beat + long] = 0.3 * tone
        return out

    monkeypatch.setattr(taker_module, "open_microphone", plug)
    monkeypatch.setattr(taker_module, "phrase_for", phrase)
    monkeypatch.setattr(taker_module, "TAIL_MS", 0)
    window.choose_stage(1)
    window.open_microphone()
    assert made and window.microphone.taker.state is State.STANDS
    session = window.session

    def pass_by(count):
        frames = round(count * session.loop.frames / session.loop.bars)
        for _ in range(frames // BLOCK):
            session.transport.speaker.pull(BLOCK)
            made[-1].bring(BLOCK)
        window.microphone.taker._follow()

    pass_by.microphone = lambda: made[-1]
    pass_by.window = window
    pass_by(0.3)  # the first blocks set the stand-in's clock
    return pass_by


def begin(bars, qtbot, *, wait=State.COUNT_IN):
    taker = bars.window.microphone.taker
    bars.window.microphone.take.click()
    qtbot.waitUntil(lambda: taker.state is wait, timeout=20_000)
    settled(qtbot, bars.window.session)


def sing(bars, qtbot, turns=1.0):
    """Count in, sing so many turns of the loop, stop; wait until the take is in the loop."""
    begin(bars, qtbot)
    taker, session = bars.window.microphone.taker, bars.window.session
    for _ in range(20):
        bars(0.25)
        if taker.state is State.TAKES:
            break
    for _ in range(round(turns * session.loop.bars * 4)):
        bars(0.25)
    count = len(taker.takes)
    bars.window.microphone.take.click()
    bars(0.1)
    qtbot.waitUntil(lambda: len(taker.takes) > count, timeout=20_000)


def put(bars, qtbot, before):
    session = bars.window.session
    qtbot.waitUntil(lambda: session.loop != before, timeout=30_000)
    settled(qtbot, session)
    return next(x for x in session.loop.layers if x.id == session.selection.layer_id)


def test_a_take_becomes_a_layer_on_the_beat_undone_saved_and_reopened(bars, qtbot, tmp_path):
    window = bars.window
    session, before = window.session, window.session.loop
    sing(bars, qtbot, 1.05)
    layer = put(bars, qtbot, before)
    source = layer.recorded
    assert isinstance(source, FromRecording) and layer.name == "Take 1" and layer.role == "voice"
    facts = source.facts
    assert (facts.tempo, facts.key, facts.kind) == (before.tempo, before.key, "phrase")
    assert (source.fit, source.at_tick, facts.tempo_sure, facts.key_sure) == ("tempo", 0, 0, 0)
    assert facts.origin.startswith("recorded by") and facts.licence == "own recording"
    assert [t.kind for t in layer.line] == ["cuts", "noise reduction", "compressor", "echo"]
    # Its strokes lie on the loop's beats.
    audio, rate = session.clips.read(source.clip)
    lead = round(facts.beats_s[facts.downbeat] * rate)
    beat = before.frames / before.bars / 4
    loud = np.abs(audio[0]) > 0.2 * np.abs(audio[0]).max()
    for i in range(1, 4):
        near = lead + round(i * beat) - 900
        assert near + np.argmax(loud[near : near + 4000]) == pytest.approx(near + 900, abs=260)
    assert "Take 1 is now a layer" in window.message.text()
    path = tmp_path / "sung.cloudrift"
    assert saved(session.document.save, path)
    assert load(path, session.clips).layers[-1].recorded == source
    session.document.undo()
    assert session.loop == before
    first = window.microphone.list.topLevelItem(0).text(0)
    assert first.startswith("Take 1\n"), "the list still says it is one"


def test_every_turn_is_a_take_and_another_one_takes_its_place(bars, qtbot):
    window = bars.window
    drawer, session, before = window.microphone, window.session, window.session.loop
    drawer.line.setCurrentIndex(0)
    sing(bars, qtbot, 2.8)
    layer = put(bars, qtbot, before)
    assert layer.line == ()
    assert len(drawer.taker.takes) == 3
    assert [take.turn.whole for take in drawer.taker.takes] == [True, True, False]
    assert layer.recorded.facts.name == "Take 2", "the last whole one is heard first"
    assert drawer.list.topLevelItem(1).text(0).startswith("Take 2 is Take 2\n")
    assert drawer.list.topLevelItem(2).text(0).endswith(" · shorter than the loop")
    assert drawer.becomes.button(AGAIN).isChecked()
    drawer.list.setCurrentItem(drawer.list.topLevelItem(0))
    was = session.loop
    drawer.put.click()
    changed = put(bars, qtbot, was)
    assert changed.id == layer.id and changed.recorded.facts.name == "Take 1"
    assert len(session.loop.layers) == len(was.layers)
    drawer.becomes.button(NEW).click()
    was = session.loop
    drawer.put.click()
    put(bars, qtbot, was)
    assert len(session.loop.layers) == len(was.layers) + 1


def test_a_take_is_heard_in_place_before_it_is_put_in(bars, qtbot):
    window = bars.window
    drawer, session, before = window.microphone, window.session, window.session.loop
    sing(bars, qtbot, 2.05)
    put(bars, qtbot, before)
    was = session.loop
    drawer.list.setCurrentItem(drawer.list.topLevelItem(0))
    drawer.hearing.click()
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=20_000)
    heard = session.hearing.heard_loop
    assert heard.layers[-1].recorded.facts.name == "Take 1" and session.loop is was
    assert session.player.playing and session.hearing.preview_words == "playing with Take 1"
    drawer.hearing.click()
    assert not session.hearing.previewing and not session.player.playing


def test_low_cut_and_evening_change_what_goes_in_and_never_the_take(bars, qtbot):
    window = bars.window
    drawer, session, before = window.microphone, window.session, window.session.loop
    sing(bars, qtbot, 1.05)
    evened = put(bars, qtbot, before).recorded.clip
    take = drawer.taker.takes[0]
    raw = take.turn.audio.copy()
    was = session.loop
    drawer.even.setChecked(False)
    drawer.put.click()
    bare = put(bars, qtbot, was).recorded.clip
    assert bare != evened
    audio, _rate = session.clips.read(bare)
    assert np.abs(audio - raw).max() < 2**-22
    assert np.array_equal(take.turn.audio, raw)


def test_sung_to_a_click_the_loop_is_silent_and_the_click_goes_again(bars, qtbot):
    window = bars.window
    drawer, session = window.microphone, window.session
    drawer.over.button(Over.CLICK).click()
    begin(bars, qtbot)
    assert session.transport.click
    heard = session.hearing.heard_loop
    assert all(layer.mute for layer in heard.layers)
    for _ in range(12):
        bars(0.25)
    assert drawer.taker.state is State.TAKES and session.transport.click
    drawer.take.click()
    assert not session.transport.click and not session.hearing.previewing


def test_over_the_loop_the_click_counts_in_and_no_more(bars, qtbot):
    begin(bars, qtbot)
    session = bars.window.session
    assert session.transport.click and not session.hearing.previewing
    for _ in range(10):
        bars(0.25)
    assert bars.window.microphone.taker.state is State.TAKES and not session.transport.click


def test_stopped_while_counting_in_nothing_is_taken(bars, qtbot):
    begin(bars, qtbot)
    taker = bars.window.microphone.taker
    bars.window.microphone.take.click()
    assert taker.state is State.STANDS and not taker.takes
    assert not bars.window.session.player.playing and not bars.window.session.transport.click


def test_sung_to_nothing_it_is_listened_to_and_its_silence_is_cut_off(bars, qtbot):
    window = bars.window
    drawer, before = window.microphone, window.session.loop
    drawer.over.button(Over.NOTHING).click()
    drawer.what.button(False).click()
    begin(bars, qtbot, wait=State.TAKES)
    assert not window.session.player.playing
    for _ in range(8):
        bars(0.25)
    drawer.take.click()
    layer = put(bars, qtbot, before)
    facts = layer.recorded.facts
    assert facts.key is None and facts.pitch == 0, "what is spoken has no key"
    assert facts.length_s < 2.2 * before.frames / before.rate


def test_spoken_in_time_it_follows_the_tempo_and_no_key(bars, qtbot):
    window = bars.window
    before = window.session.loop
    window.microphone.what.button(False).click()
    sing(bars, qtbot, 1.05)
    facts = put(bars, qtbot, before).recorded.facts
    assert facts.key is None and facts.tempo == before.tempo


def test_a_microphone_pulled_out_says_so_and_keeps_what_it_brought(bars, qtbot, monkeypatch):
    window = bars.window
    taker, before = window.microphone.taker, window.session.loop
    begin(bars, qtbot)
    for _ in range(10):
        bars(0.25)
    assert taker.state is State.TAKES
    bars.microphone().pulled = True
    monkeypatch.setattr(taker_module, "GONE_S", 0.0)
    taker._follow()
    taker._follow()
    words = []
    window.session.failed.connect(words.append)
    assert taker.state is State.OFF and len(taker.takes) == 1
    assert not window.session.player.playing
    assert put(bars, qtbot, before).recorded is not None
    assert not window.microphone.take.isEnabled()
    assert window.microphone.says.text() == "No microphone is open; choose one."


def test_a_full_disk_leaves_the_take_where_it_is(bars, qtbot, monkeypatch):
    window = bars.window
    session, before = window.session, window.session.loop

    def full(_audio, _rate):
        raise CloudriftError(
            "a recording could not be kept in /x: No space left; free some space there"
        )

    monkeypatch.setattr(session.clips, "record", full)
    sing(bars, qtbot, 1.05)
    qtbot.waitUntil(lambda: "No space left" in window.message.text(), timeout=20_000)
    assert session.loop is before and len(window.microphone.taker.takes) == 1
    monkeypatch.undo()
    window.microphone.put.click()
    assert put(bars, qtbot, before).recorded is not None


def test_an_edit_that_changes_the_length_ends_the_take(bars, qtbot):
    window = bars.window
    session, taker = window.session, window.microphone.taker
    begin(bars, qtbot)
    for _ in range(10):
        bars(0.25)
    assert taker.state is State.TAKES
    session.apply("slower", lambda loop: loop_edits.set_tempo(loop, loop.tempo - 20))
    settled(qtbot, session)
    bars(0.5)
    qtbot.waitUntil(lambda: taker.state is State.STANDS, timeout=5000)
    assert len(taker.takes) == 1


def test_another_document_has_none_of_its_takes(bars, qtbot):
    window = bars.window
    session, taker = window.session, window.microphone.taker
    begin(bars, qtbot)
    for _ in range(10):
        bars(0.25)
    session.document.open(loop_edits.set_title(session.loop, "Another"), None)
    assert taker.state is State.STANDS and not taker.takes and not session.hearing.previewing
    layers = len(session.loop.layers)
    bars(0.5)
    settled(qtbot, session)
    assert len(session.loop.layers) == layers


def test_how_late_it_comes_is_measured_typed_and_remembered(bars, qtbot, monkeypatch):
    window = bars.window
    drawer, taker = window.microphone, window.microphone.taker
    assert drawer.late.value == 40.0
    drawer.late.edited.emit(55.0)
    assert taker.late_ms == 55.0
    monkeypatch.setattr(taker_module, "TEST_MS", 10)
    drawer.measure.click()
    assert taker.state is State.MEASURES and not drawer.take.isEnabled()
    bars(8)
    qtbot.waitUntil(lambda: taker.state is State.STANDS, timeout=5000)
    assert taker.late_ms == pytest.approx(40.0, abs=25.0)
    assert "The latency is" in window.message.text()
    assert window.session.preferences.now.late_ms[taker.place] == taker.late_ms
    bars.microphone()._air.clear()
    bars.microphone().overhear = lambda *_: None
    window.session.transport.overheard = None
    drawer.measure.click()
    qtbot.waitUntil(lambda: taker.state is State.STANDS, timeout=5000)
    assert "were not recorded clearly" in window.message.text()


def test_cut_off_is_said_while_it_is_taken_and_of_the_take(bars, qtbot):
    drawer = bars.window.microphone
    bars.microphone()._push(np.ones((BLOCK, 2), np.float32))
    drawer.taker._follow()
    assert drawer.level.words == "clipped: turn it down"
    assert "turn its level down" in drawer.says.text()
    drawer.level.forget()
    assert drawer.level.words == "no signal yet"


def test_the_microphone_is_open_as_long_as_its_drawer(bars):
    window = bars.window
    assert window.session.transport.overheard is not None
    window.microphone.leave()
    assert window.microphone.taker.state is State.OFF
    assert window.session.transport.overheard is None
    command(window, "Microphone: record a take").trigger()
    assert window.microphone.isVisible() and window.microphone.taker.state is State.STANDS


def test_meanwhile_a_line_that_changes_pitch_or_length_rests(small_loop):
    loop = line_edits.set_line(small_loop, None, ())
    assert heard_meanwhile(loop, Over.LOOP) is loop
    tape = Treatment(id="t9", kind="shift").set("semitones", -3.0).set("way", "like tape")
    lower = line_edits.set_line(loop, None, (tape,))
    assert lower.sounding_tempo != lower.tempo
    assert heard_meanwhile(lower, Over.LOOP).line == ()
    first = loop.layers[0].id
    assert heard_meanwhile(loop, Over.LOOP, first).layers[0].mute
    assert not heard_meanwhile(loop, Over.LOOP, first).layers[1].mute


def test_where_nothing_is_plugged_in_the_stand_in_is_opened():
    made = open_microphone(44_100, STAND_IN, lambda: 0.0)
    assert made.stand_in and made.name == STAND_IN and made.late_ms
    got = []
    made.start(got.append)
    wait_for(lambda: len(got) > 3)
    made.close()
    assert got[0].shape[1] == 2
    with pytest.raises(CloudriftError, match=r"Atlas 2.*plug it in"):
        open_microphone(44_100, "Atlas 2", lambda: 0.0)


def test_the_oldest_takes_go_when_all_are_too_long(bars, qtbot, monkeypatch):
    before = bars.window.session.loop
    monkeypatch.setattr(taker_module, "MOST_TAKEN_S", 9.0)
    sing(bars, qtbot, 3.1)
    put(bars, qtbot, before)
    takes = bars.window.microphone.taker.takes
    assert [take.number for take in takes] == [2, 3]
    assert bars.window.microphone.list.topLevelItemCount() == 2


def test_a_microphone_that_does_not_start_is_said(bars, monkeypatch):
    class Stubborn(Plugged):
        def start(self, push):
            raise CloudriftError("the microphone could not be started (busy); choose another")

    monkeypatch.setattr(taker_module, "open_microphone", lambda rate, _n, now: Stubborn(rate, now))
    window = bars.window
    window.microphone.taker.open("")
    assert window.microphone.taker.state is State.OFF
    assert "could not be started" in window.message.text()
    assert not window.microphone.take.isEnabled()


def test_the_stand_in_sings_in_the_loops_key_and_time(small_loop):
    phrase = taker_module.phrase_for(small_loop, 0, True, 44_100, lambda: False)
    assert np.abs(phrase).max() == pytest.approx(taker_module.PHRASE_PEAK, abs=1e-4)
    heard = listen_to(np.stack([phrase, phrase]), 44_100)
    inside = sum(heard.shares[pc] for pc in small_loop.key.scale)
    assert inside > 0.85, "it sings what is not in the key"
    other = taker_module.phrase_for(small_loop, 1, True, 44_100, lambda: False)
    assert other.shape != phrase.shape or not np.array_equal(other, phrase)


def test_every_hand_of_the_drawer_has_a_name(bars):
    for one in bars.window.microphone.findChildren(QPushButton):
        assert one.text() or one.accessibleName()
