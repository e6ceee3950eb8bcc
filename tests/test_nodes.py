"""Steps of a plan: whatever is edited after whatever, what is followed is as if made anew."""

import threading
import time
from itertools import product

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.render import Engine
from cloudrift.render.plan.mixing import GainAutomation as Riding
from cloudrift.render.plan.mixing import LineBlended, Summed, Treated
from cloudrift.render.plan.node import Node, steps
from cloudrift.render.plan.nodes import Played, Turns
from cloudrift.render.plan.plan import loop_node
from cloudrift.sound.own import OwnSound
from cloudrift.style import find_card, sketch
from cloudrift.texture import RidePoint
from cloudrift.theory import Key
from tests.conftest import db, fresh_engine, wait_for


def every_kind():
    """A loop in which there is a step of every kind, and treatments run in each way there is."""
    loop = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 200.0, 1, bars=2, title="Ice Road")
    loop = line_edits.set_line(line_edits.set_line(loop, "l1", ()), "l2", ())
    loop = own_notes.detach(loop, "l1")
    loop = layer_edits.take_turns(layer_edits.set_aside(loop, "l2", "glass pad"), "l2", 1)
    loop = layer_edits.group_layers(loop, ["l1", "l2"], "Dusk")
    for line_of, kind in (("l1", "echo"), ("l1", "compressor"), ("l2", "cuts"), ("l2", "tremolo"),
                          ("g1", "chorus"), ("g1", "resonance")):  # fmt: skip
        loop = line_edits.add_treatment(loop, line_of, kind)
    ride = (RidePoint(tick=0, value=200.0), RidePoint(tick=3840, value=900.0))
    loop = line_edits.set_ride(loop, "l2", loop.line_of("l2")[0].id, "low_cut_hz", ride)
    level = (RidePoint(tick=0, value=-12.0), RidePoint(tick=3840, value=0.0))
    loop = line_edits.set_level_ride(loop, "l3", level)
    return line_edits.set_line_blend(loop, "g1", 0.6)


LOOP = every_kind()
ECHO, CUTS = LOOP.line_of("l1")[0].id, LOOP.line_of("l2")[0].id
EDITS = {
    "tempo": lambda p: loop_edits.set_tempo(p, p.tempo * 0.8),
    "bars and tempo": lambda p: loop_edits.set_tempo(loop_edits.set_bars(p, 1), p.tempo / 2),
    "key": lambda p: loop_edits.shift_key(p, 2),
    "key of the same notes": lambda p: loop_edits.rename_key(p, Key("A", "major")),
    "a chord": lambda p: chord_edits.set_degree(p, "c1", 4),
    "a chord's place": lambda p: replace(p, chords=tuple(
        replace(c, late_ticks=240) if i == 1 else c for i, c in enumerate(p.chords))),
    "a setting": lambda p: line_edits.set_treatment_setting(p, "l1", ECHO, "feedback", 30.0),
    "out": lambda p: line_edits.set_treatment(p, "l1", ECHO, on=False),
    "order": lambda p: line_edits.move_treatment(p, "g1", p.line_of("g1")[0].id, 1),
    "blend": lambda p: line_edits.set_treatment(p, "l1", ECHO, blend=0.8),
    "blend of a line": lambda p: line_edits.set_line_blend(p, "g1", 0.2),
    "ride": lambda p: line_edits.set_ride(p, "l2", CUTS, "low_cut_hz", (
        RidePoint(tick=0, value=900.0), RidePoint(tick=1920, value=100.0))),
    "ride of a level": lambda p: line_edits.level_ride_again(p, "l3", 1920),
    "level": lambda p: layer_edits.set_layer(p, "l4", level_db=-9.0, pan=0.4),
    "off": lambda p: layer_edits.set_layer(p, "l2", mute=True),
    "a sound's setting": lambda p: layer_edits.set_sound_setting(p, "l4", "attack_ms", 250.0),
    "a name": lambda p: layer_edits.set_layer(p, "l3", name="Other"),
}  # fmt: skip
NAMES = list(EDITS)


def test_each_of_these_edits_but_a_name_is_heard():
    with fresh_engine() as engine:
        before = engine.render(LOOP).audio
        for name, edit in EDITS.items():
            after = engine.render(edit(LOOP)).audio
            if name in ("a name", "key of the same notes"):
                continue
            same = after.shape == before.shape and db(np.abs(after - before).max()) < -60
            assert not same, name


def test_there_is_a_step_of_every_kind():
    with fresh_engine() as engine:
        kinds = {type(step) for step in steps(loop_node(LOOP, engine.tones))}
    assert kinds == {Played, Turns, Treated, LineBlended, Riding, Summed}


@pytest.mark.parametrize("first", NAMES)
def test_what_is_followed_is_what_is_made_anew(first):
    at = NAMES.index(first)
    once = EDITS[first](LOOP)
    with fresh_engine() as engine, fresh_engine() as fresh:
        for then in (NAMES[(at + 3) % len(NAMES)], NAMES[(at + 8) % len(NAMES)]):
            twice = EDITS[then](once)
            engine.render(LOOP)
            engine.render(once)
            followed = engine.render(twice).audio
            back = engine.render(once).audio
            for audio, loop in ((followed, twice), (back, once)):
                wanted = fresh.render(loop).audio
                assert audio.shape == wanted.shape
                assert db(np.abs(audio - wanted).max()) < -80, (first, then)
                fresh._latest.clear()  # nothing is followed there


@pytest.mark.parametrize("name", NAMES)
def test_steps_that_are_alike_do_the_same_to_the_same(name):
    """What an edit changes in what a step makes must show in who is like it."""
    with fresh_engine() as engine:
        before = {step.place: step for step in steps(loop_node(LOOP, engine.tones))}
        for step in steps(loop_node(EDITS[name](LOOP), engine.tones)):
            old = before.get(step.place)
            if old is None or type(step).follow is Node.follow or old.like != step.like:
                continue  # nothing follows it
            if isinstance(step, Played):
                continue  # its notes are what it is given
            inputs = [engine.audio(node) for node in step.inputs]
            shapes = {audio.shape for audio in inputs}
            assert shapes == {engine.audio(node).shape for node in old.inputs}
            np.testing.assert_allclose(step.make(inputs), old.make(inputs), atol=1e-6)


def test_some_frames_of_a_step_are_those_of_the_whole():
    with fresh_engine() as engine:
        exact = (Turns, LineBlended, Riding, Summed)
        for step in steps(loop_node(LOOP, engine.tones)):
            if isinstance(step, exact):
                inputs = [engine.audio(node) for node in step.inputs]
                whole = step.make(inputs)
                for start, count in ((1000, 4000), (whole.shape[1] - 500, 2000)):
                    piece = step.stretch(inputs, start, count)
                    np.testing.assert_allclose(piece, slice_wrapped(whole, start, count), atol=1e-6)


def test_a_step_that_has_run_holds_no_sound_and_no_curves():
    """Steps are remembered long after their audio has gone."""
    with fresh_engine() as engine:
        for step in steps(loop_node(LOOP, engine.tones)):
            engine.audio(step)
            if isinstance(step, Treated):
                step.stretch([engine.audio(node) for node in step.inputs], 1000, 4000)
                assert set(vars(step)) <= {"inputs", "label", "key", "like", "place", "_group",
                                           "_context"}  # fmt: skip


def test_a_step_is_told_apart_by_each_thing_it_depends_on():
    class Plain(Node):
        kind = "plain"

        def make(self, inputs):
            raise NotImplementedError

        def stretch(self, inputs, start, count):
            raise NotImplementedError

    def step(place="a", depends=1, given=2, label="x", inputs=()):
        return Plain(place=(place,), depends=(depends,), given=given, label=label, inputs=inputs)

    base = step()
    for change, differs in (
        (dict(depends=9), ("key", "like")), (dict(given=9), ("key",)), (dict(label="y"), ()),
        (dict(place="b"), ("like", "place")), (dict(inputs=(step(),)), ("key",)),
    ):  # fmt: skip
        other = step(**change)
        for name in ("key", "like", "place"):
            assert (getattr(other, name) != getattr(base, name)) == (name in differs), change


def test_own_sounds_of_the_same_recordings_played_otherwise_are_told_apart():
    from cloudrift.sound.own import Recording

    clip = "0" * 24
    found = set()
    for plays, low, high in product(("once", "looped"), (10.0, 20.0), (60.0, 70.0)):
        one = Recording(clip=clip, root=60.0, loop_from=low, loop_to=high)
        found.add(OwnSound(name="Tin", recordings=(one,), plays=plays).instrument.identity)
    assert len(found) == 8


# --- several threads ------------------------------------------------------------------------------


class Slow(Node):
    """A step that takes as long as a test wants."""

    kind = "slow"

    def __init__(self, gate, made, inputs=()):
        super().__init__(place=("slow",), depends=("slow",), label="slow", inputs=inputs)
        self._gate, self._made = gate, made

    def make(self, inputs):
        self._made.append(threading.get_ident())
        assert self._gate.wait(10)
        return np.ones((2, 8), np.float32)

    def stretch(self, inputs, start, count, former=None):
        return None


def test_a_step_that_one_thread_is_at_is_waited_for_by_others():
    gate, made, got = threading.Event(), [], []
    engine = Engine()
    threads = [threading.Thread(target=lambda: got.append(engine.audio(Slow(gate, made))))
               for _ in range(3)]  # fmt: skip
    for thread in threads:
        thread.start()
    wait_for(lambda: made)
    time.sleep(0.1)
    gate.set()
    for thread in threads:
        thread.join(10)
    assert len(made) == 1 and len(got) == 3 and all(one is got[0] for one in got)
    assert not engine._making
    engine.close()


def test_who_waits_may_leave_and_makes_it_where_the_other_left():
    gate, made, told = threading.Event(), [], []
    engine = Engine()
    slow = Slow(gate, made)

    def leave():
        try:
            engine.audio(Slow(gate, made), lambda: True)
        except Cancelled:
            told.append("left")

    first = threading.Thread(target=lambda: engine.audio(slow))
    first.start()
    wait_for(lambda: made)
    second = threading.Thread(target=leave)
    second.start()
    second.join(10)
    assert told == ["left"] and not gate.is_set()
    gate.set()
    first.join(10)
    # One that was stopped leaves nothing behind: the next makes it.
    with pytest.raises(Cancelled):
        engine.audio(Slow(gate, made, inputs=(slow,)), lambda: True)
    assert engine.audio(Slow(gate, made, inputs=(slow,))).shape == (2, 8)
    assert not engine._making
    engine.close()
