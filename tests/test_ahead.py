"""What comes next is rendered before the rest: right where it is heard, the old loop elsewhere."""

import numpy as np
import pytest

from cloudrift.audio.looped import SplicedLoop, slice_wrapped
from cloudrift.audio.wrap import filter_circular, filter_stretch
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.render import Engine
from cloudrift.render.engine.ahead import AHEAD_S, FADE_S, ahead
from cloudrift.render.plan.plan import heard_node, loop_context, loop_node
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import fused
from tests.conftest import STEPS, db, rms
from tests.hands import settled


@pytest.fixture
def loop(small_loop):
    """Four bars, with cuts and a hall on the first layer and weathering on the whole loop."""
    made = loop_edits.set_bars(small_loop, 4)
    made = line_edits.set_line(made, "l1", ())
    for kind in ("cuts", "hall", "cuts"):
        made = line_edits.add_treatment(made, "l1", kind)
    made = line_edits.set_line(made, None, ())
    return line_edits.add_treatment(made, None, "weathering")


def stretch(audio, loop, share):
    count = int(AHEAD_S[0] * loop.rate) - 6000
    return slice_wrapped(audio, round(share * audio.shape[1]), count)


EDITS = {
    "a layer's first treatment": lambda p: line_edits.set_treatment_setting(
        p, "l1", p.layer("l1").line[0].id, "low_cut_hz", 900.0),
    "a layer's last": lambda p: line_edits.set_treatment_setting(
        p, "l1", p.layer("l1").line[-1].id, "high_cut_hz", 900.0),
    "the whole loop's": lambda p: line_edits.set_treatment_setting(
        p, None, p.line[0].id, "wear", 90.0),
    "level": lambda p: layer_edits.set_layer(p, "l1", level_db=-20.0),
    "pan": lambda p: layer_edits.set_layer(p, "l3", pan=-1.0),
    "off": lambda p: layer_edits.set_layer(p, "l2", mute=True),
    "a sound's setting": lambda p: layer_edits.set_sound_setting(p, "l2", "brightness", 90.0),
    "another sound": lambda p: layer_edits.set_sound(p, "l3", "kalimba"),
    "a chord": lambda p: chord_edits.set_degree(p, p.chords[1].id, 3),
    "a treatment more": lambda p: line_edits.add_treatment(p, "l3", "hall"),
    "a layer more": lambda p: layer_edits.add_layer(p, "glass bell"),
    "own notes": lambda p: own_notes.move_notes(
        own_notes.detach(p, "l3"), "l3", set(range(1, 60)), semitones=12),
    "a group": lambda p: line_edits.set_treatment_setting(p, "g1", "t1", "low_cut_hz", 800.0),
}  # fmt: skip


OTHER_NOTES = {"another sound", "a chord", "own notes", "a layer more", "a sound's setting"}


@pytest.mark.parametrize("name", EDITS)
@pytest.mark.parametrize("share", [0.26, 0.93])
def test_what_comes_next_is_as_in_the_whole_and_the_rest_as_it_was(engine, loop, name, share):
    loop = line_edits.add_treatment(layer_edits.group_layers(loop, ["l2", "l4"]), "g1", "cuts")
    before = engine.render(loop).audio
    after = EDITS[name](loop)
    soon = next(ahead(engine, after, share)).all()
    whole = engine.render(after).audio
    was, now = stretch(before, loop, share), stretch(whole, loop, share)
    error = db(rms(stretch(soon, loop, share) - now) / rms(now))
    # What sounded before still rings on as it was, where other notes or sounds take its place.
    assert error < (-8 if name in OTHER_NOTES else -30)
    assert error < db(rms(was - now) / rms(now)) - 4 or rms(was - now) < 1e-4
    elsewhere = share + 0.4 + AHEAD_S[0] * loop.rate / loop.frames
    far = [slice_wrapped(a, round(elsewhere * a.shape[1]), 20_000) for a in (soon, before)]
    assert np.array_equal(*far)


BEGINNING = {
    "a chord": lambda p: chord_edits.set_degree(p, p.chords[1].id, 3),
    "its notes, held longer": lambda p: chord_edits.set_degree(p, p.chords[1].id, 5, count=4),
    "a note": lambda p: own_notes.move_notes(p, "l3", _first_after(p, "l3", 0.25), semitones=7),
}


def _first_after(loop, layer_id, share):
    """The first own note that begins behind a place in the loop."""
    later = [n for n in own_notes.own_of(loop, layer_id) if n.start_tick >= share * loop.ticks]
    return {min(later, key=lambda note: note.start_tick).id}


@pytest.mark.parametrize("name", BEGINNING)
def test_what_begins_in_the_stretch_is_exactly_as_in_the_whole(engine, loop, name):
    """Through a hall, cuts, weathering and a sum: nothing that is heard of it lies before."""
    loop = line_edits.add_treatment(own_notes.detach(loop, "l3"), None, "hall")
    engine.render(loop)
    after = BEGINNING[name](loop)
    soon = list(ahead(engine, after, 0.24))
    whole = engine.render(after).audio
    for one in soon:
        count = one.piece.shape[1] - 2000  # its end is faded
        now, was = (slice_wrapped(x, one.start, count) for x in (whole, one.whole))
        assert db(rms(one.piece[:, :count] - now) / rms(now)) < -80
        assert db(rms(was - now) / rms(now)) > -20


@pytest.mark.parametrize("blend", [0.35, 0.8])  # what was made for one does not serve the other
@pytest.mark.parametrize("kinds", [("hall",), ("cuts", "echo"), ("weathering",), ("spring", "cuts"),
                                   ("hall", "chorus", "warm")])  # fmt: skip
def test_a_level_is_heard_as_if_it_had_been_turned_just_then(engine, loop, kinds, blend):
    """What rang before rings on: the same as the line laid on a sum that changes there."""
    loop = line_edits.set_line(loop, None, ())
    for kind in kinds:
        loop = line_edits.add_treatment(loop, None, kind)
    loop = line_edits.set_treatment(loop, None, loop.line[0].id, blend=blend)
    engine.render(loop)
    after = layer_edits.set_layer(loop, "l1", level_db=-30.0, pan=0.8)
    soon = next(ahead(engine, after, 0.4))
    sums = [engine.audio(loop_node(x, engine.tones, count=0)) for x in (loop, after)]
    count = soon.piece.shape[1]
    turned = SplicedLoop(sums[0], slice_wrapped(sums[1], soon.start, count), soon.start)
    wanted, context = turned.faded(int(FADE_S * loop.rate)).all(), loop_context(loop)
    for group in fused(loop.line):
        wanted = treat(wanted, group, context)
    now = slice_wrapped(wanted, soon.start, count)[:, 2000:-2000]
    assert db(rms(soon.piece[:, 2000:-2000] - now) / rms(now)) < -80


def test_it_is_left_to_the_whole_where_there_is_nothing_to_start_from(engine, loop):
    assert not list(ahead(engine, loop, 0.2))  # nothing has been rendered
    engine.render(loop)
    assert not list(ahead(engine, loop, 0.2))  # the whole is there at once
    tape = line_edits.add_treatment(loop, None, "shift")
    tape = line_edits.set_treatment_setting(tape, None, tape.line[-1].id, "way", "like tape")
    tape = line_edits.set_treatment_setting(tape, None, tape.line[-1].id, "semitones", -2.0)
    assert not list(ahead(engine, tape, 0.2))  # another length
    short = loop_edits.set_bars(loop, 1)
    engine.render(short)
    after = layer_edits.set_layer(short, "l1", pan=0.5)
    assert len(list(ahead(engine, after, 0.2))) == 1  # too short for more


def test_a_held_shift_is_heard_soon_at_its_level(engine, loop):
    loop = line_edits.add_treatment(loop, None, "shift", 0)
    loop = line_edits.set_treatment_setting(loop, None, loop.line[0].id, "semitones", -3.0)
    engine.render(loop)
    after = layer_edits.set_layer(loop, "l1", level_db=-30.0)
    soon = next(ahead(engine, after, 0.5)).all()
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
    STEPS.clear()  # how long steps take decides
    session.document.open(loop, None)
    qtbot.waitUntil(lambda: {"treated", "bare"} <= set(session.hearing.loudness), timeout=60_000)
    settled(qtbot, session)
    loads, load, patch = [], session.player.load, session.player.patch
    session.player.load = lambda *a: (loads.append(a[0]), load(*a))
    session.player.patch = lambda *a: (loads.append(a[0]), patch(*a))
    session.apply("x", lambda p: layer_edits.set_layer(p, "l1", level_db=-15.0))
    settled(qtbot, session)
    qtbot.waitUntil(lambda: len(loads) == 1, timeout=60_000)  # it stands: the whole is enough
    session.transport.set_playing(True)
    session.apply("x", lambda p: layer_edits.set_layer(p, "l1", level_db=-5.0))
    settled(qtbot, session)
    qtbot.waitUntil(lambda: len(loads) == 3, timeout=60_000)
    assert loads[1].shape[1] < loads[2].shape[1]
    assert np.array_equal(loads[2], session.hearing.rendered["treated"].audio)


@pytest.mark.parametrize("change", ["another document", "a layer on tape"])
def test_what_has_another_length_is_left_to_the_whole(engine, loop, change):
    """Treatments that read whole chords would else be given a sound of another length."""
    name = loop.layers[0].id
    loop = line_edits.add_treatment(loop, name, "reverse")
    engine.render(loop)
    if change == "another document":
        other = loop_edits.set_tempo(loop, loop.tempo * 0.8)
    else:
        other = line_edits.add_treatment(loop, name, "shift", 0)
        one = other.line_of(name)[0].id
        other = line_edits.set_treatment_setting(other, name, one, "way", "like tape")
        other = line_edits.set_treatment_setting(other, name, one, "semitones", -5)
    assert not list(ahead(engine, other, 0.3))


def test_what_is_made_aside_is_no_form_that_what_comes_next_is_looked_for_in(small_loop):
    engine = Engine()
    try:
        node = heard_node(small_loop, engine.tones)
        audio = engine.audio(node, aside=True)
        assert engine.latest_at(node.place, audio.shape[1]) is None
        engine.cache.clear()
        engine.audio(node)
        assert engine.latest_at(node.place, audio.shape[1]) is not None
    finally:
        engine.close()
