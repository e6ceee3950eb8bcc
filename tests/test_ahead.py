"""What comes next is rendered before the rest: right where it is heard, the old loop elsewhere."""

import numpy as np
import pytest

from cloudrift.audio.wrap import filter_circular, filter_stretch, slice_wrapped
from cloudrift.loop import chord_edits, edits, own_notes
from cloudrift.render import Engine
from cloudrift.render.ahead import AHEAD_S, ahead
from tests.conftest import db, rms
from tests.hands import settled


@pytest.fixture
def engine():
    made = Engine()
    yield made
    made.close()


@pytest.fixture
def loop(small_loop):
    """Four bars, with cuts and a hall on the first layer and weathering on the whole loop."""
    made = edits.set_bars(small_loop, 4)
    made = edits.set_line(made, "l1", ())
    for kind in ("cuts", "hall", "cuts"):
        made = edits.add_treatment(made, "l1", kind)
    made = edits.set_line(made, None, ())
    return edits.add_treatment(made, None, "weathering")


def stretch(audio, loop, share):
    count = int(AHEAD_S * loop.rate) - 6000
    return slice_wrapped(audio, round(share * audio.shape[1]), count)


EDITS = {
    "a layer's first treatment": lambda p: edits.set_treatment_setting(
        p, "l1", p.layer("l1").line[0].id, "low_cut_hz", 900.0),
    "a layer's last": lambda p: edits.set_treatment_setting(
        p, "l1", p.layer("l1").line[-1].id, "high_cut_hz", 900.0),
    "the whole loop's": lambda p: edits.set_treatment_setting(
        p, None, p.line[0].id, "wear", 90.0),
    "level": lambda p: edits.set_layer(p, "l1", level_db=-20.0),
    "pan": lambda p: edits.set_layer(p, "l3", pan=-1.0),
    "off": lambda p: edits.set_layer(p, "l2", mute=True),
    "a sound's setting": lambda p: edits.set_sound_setting(p, "l2", "brightness", 90.0),
    "another sound": lambda p: edits.set_sound(p, "l3", "kalimba"),
    "a chord": lambda p: chord_edits.set_degree(p, p.chords[1].id, 3),
    "a treatment more": lambda p: edits.add_treatment(p, "l3", "hall"),
    "a layer more": lambda p: edits.add_layer(p, "glass bell"),
    "own notes": lambda p: own_notes.move_notes(
        own_notes.let_go(p, "l3"), "l3", set(range(1, 60)), semitones=12),
    "a group": lambda p: edits.set_treatment_setting(p, "g1", "t1", "low_cut_hz", 800.0),
}  # fmt: skip


OTHER_NOTES = {"another sound", "a chord", "own notes", "a layer more", "a sound's setting"}


@pytest.mark.parametrize("name", EDITS)
@pytest.mark.parametrize("share", [0.26, 0.93])
def test_what_comes_next_is_as_in_the_whole_and_the_rest_as_it_was(engine, loop, name, share):
    loop = edits.add_treatment(edits.group_layers(loop, ["l2", "l4"]), "g1", "cuts")
    before = engine.render(loop).audio
    after = EDITS[name](loop)
    soon = ahead(engine, after, share)
    whole = engine.render(after).audio
    was, now = stretch(before, loop, share), stretch(whole, loop, share)
    error = db(rms(stretch(soon, loop, share) - now) / rms(now))
    # What sounded before still rings on as it was, where other notes or sounds take its place.
    assert error < (-12 if name in OTHER_NOTES else -30)
    assert error < db(rms(was - now) / rms(now)) - 6 or rms(was - now) < 1e-4
    elsewhere = share + 0.4 + AHEAD_S * loop.rate / loop.frames
    far = [slice_wrapped(a, round(elsewhere * a.shape[1]), 20_000) for a in (soon, before)]
    assert np.array_equal(*far)


def test_it_is_left_to_the_whole_where_there_is_nothing_to_start_from(engine, loop):
    assert ahead(engine, loop, 0.2) is None  # nothing has been rendered
    engine.render(loop)
    assert ahead(engine, loop, 0.2) is None  # the whole is there at once
    tape = edits.add_treatment(loop, None, "shift")
    tape = edits.set_treatment_setting(tape, None, tape.line[-1].id, "way", "tape")
    tape = edits.set_treatment_setting(tape, None, tape.line[-1].id, "semitones", -2.0)
    assert ahead(engine, tape, 0.2) is None  # another length
    short = edits.set_bars(loop, 1)
    engine.render(short)
    assert ahead(engine, edits.set_layer(short, "l1", pan=0.5), 0.2) is None  # too short for it


def test_a_held_shift_is_heard_soon_at_its_level(engine, loop):
    loop = edits.add_treatment(loop, None, "shift", 0)
    loop = edits.set_treatment_setting(loop, None, loop.line[0].id, "semitones", -3.0)
    engine.render(loop)
    after = edits.set_layer(loop, "l1", level_db=-30.0)
    soon = ahead(engine, after, 0.5)
    whole = engine.render(after).audio
    one, other = stretch(soon, loop, 0.5), stretch(whole, loop, 0.5)
    assert db(rms(one) / rms(other)) == pytest.approx(0, abs=1.0)


@pytest.mark.parametrize("start", [-500, 30_000, 170_000])
def test_a_stretch_of_a_filter_is_that_of_the_whole(rng, start):
    loop = rng.standard_normal((2, 176_400)).astype(np.float32)

    def through(spectrum, length):
        k = np.arange(spectrum.shape[-1]) * (44_100 / length)
        return spectrum / (1 + 1j * k.astype(np.float32) / 300)

    whole = filter_circular(loop, through, 3000)
    piece = filter_stretch(loop, through, 3000, start, 20_000)
    wanted = slice_wrapped(whole, start, 20_000)
    assert db(rms(piece - wanted) / rms(wanted)) < -60
    assert filter_stretch(loop, through, 160_000, start, 20_000) is None


def test_while_it_plays_what_comes_next_is_heard_first(qtbot, session, loop):
    session.document.open(loop, None)
    qtbot.waitUntil(lambda: {"treated", "bare"} <= set(session.hearing.loudness), timeout=60_000)
    settled(qtbot, session)
    loads, load = [], session.player.load
    session.player.load = lambda *a: (loads.append(a[0]), load(*a))
    session.apply("x", lambda p: edits.set_layer(p, "l1", level_db=-15.0))
    settled(qtbot, session)
    qtbot.waitUntil(lambda: len(loads) == 1, timeout=60_000)  # it stands: the whole is enough
    session.transport.set_playing(True)
    session.apply("x", lambda p: edits.set_layer(p, "l1", level_db=-5.0))
    settled(qtbot, session)
    qtbot.waitUntil(lambda: len(loads) == 3, timeout=60_000)
    assert not np.array_equal(loads[1], loads[2])
    assert np.array_equal(loads[2], session.hearing.rendered["treated"].audio)


@pytest.mark.parametrize("change", ["another document", "a layer on tape"])
def test_what_has_another_length_is_left_to_the_whole(engine, loop, change):
    """Treatments that read whole chords would else be given a sound of another length."""
    name = loop.layers[0].id
    loop = edits.add_treatment(loop, name, "backward")
    engine.render(loop)
    if change == "another document":
        other = edits.set_tempo(loop, loop.tempo * 0.8)
    else:
        other = edits.add_treatment(loop, name, "shift", 0)
        one = other.line_of(name)[0].id
        other = edits.set_treatment_setting(other, name, one, "way", "tape")
        other = edits.set_treatment_setting(other, name, one, "semitones", -5)
    assert ahead(engine, other, 0.3) is None
