import threading
from concurrent.futures import ThreadPoolExecutor
from functools import partial

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.spectrum import chroma
from cloudrift.ground import lru
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.lru import BoundedStore
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.sounding import key_heard
from cloudrift.notes import Note
from cloudrift.render import Engine, bare_of, without_line
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.engine.worker import RenderWorker
from cloudrift.render.measure.room import look_at
from cloudrift.render.measure.sound_facts import layer_middles
from cloudrift.render.measure.strata import strata
from cloudrift.render.plan import mixing
from cloudrift.render.plan.plan import layer_node, loop_node, mix_node
from cloudrift.render.play.audition import audition, drafted, keeps_places
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key
from tests.conftest import db, fresh_engine, rms, wait_for


@pytest.mark.parametrize("tempo", [140.0, 133.37, 89.1])
@pytest.mark.parametrize("bars", [1, 3])
def test_a_loop_has_exactly_the_frames_of_its_bars(engine, small_loop, tempo, bars):
    loop = loop_edits.set_bars(loop_edits.set_tempo(small_loop, tempo), bars)
    audio = engine.render(loop).audio
    assert audio.shape == (2, round(bars * 4 * 60 / tempo * 44_100))
    assert np.isfinite(audio).all()
    assert -40 < db(rms(audio)) < -10


def test_two_passes_joined_show_no_seam(engine, small_loop):
    audio = engine.render(small_loop).audio
    n = audio.shape[1]
    twice = np.concatenate([audio, audio], axis=1)
    second = np.abs(np.diff(twice, 2, axis=1))  # what a click is: a corner in the wave
    at_seam = second[:, n - 6 : n + 6].max()
    inside = np.sort(second[:, 4000 : n - 4000].max(axis=0))
    assert at_seam < inside[int(0.999 * len(inside))]


def test_stems_sum_to_the_bare_mix(engine, small_loop):
    mix = engine.audio(mix_node(small_loop, engine.tones))
    total = sum(engine.stem(small_loop, layer) for layer in small_loop.heard())
    assert db(np.abs(total - mix).max()) < -90


def test_a_change_runs_only_what_follows_from_it(engine, small_loop):
    ran = []
    engine.audio(loop_node(small_loop, engine.tones), progress=ran.append)
    assert len(ran) > 8

    def runs(loop):
        ran.clear()
        engine.audio(loop_node(loop, engine.tones), progress=ran.append)
        return sorted(ran)

    last = small_loop.line[-1].id
    assert runs(small_loop) == []
    assert runs(line_edits.set_treatment_setting(small_loop, None, last, "low_cut_hz", 50)) == [
        "Low and high cut"
    ]
    pan = layer_edits.set_layer(small_loop, small_loop.layers[1].id, pan=0.5)
    assert runs(pan) == ["Low and high cut", "Weathering", "mix"]
    one = small_loop.layers[2]
    changed = runs(line_edits.set_treatment(small_loop, one.id, one.line[0].id, on=False))
    assert changed == ["Hall", "Low and high cut", "Weathering", "mix"]
    renamed = loop_edits.set_title(small_loop, "Other")
    assert runs(renamed) == []


def test_a_chord_change_reaches_every_layer(engine, small_loop):
    before = [engine.audio(layer_node(small_loop, x, engine.tones)) for x in small_loop.layers]
    after_loop = chord_edits.set_degree(small_loop, "c1", 4)
    for layer, audio in zip(after_loop.layers, before, strict=True):
        assert rms(engine.audio(layer_node(after_loop, layer, engine.tones)) - audio) > 1e-4


EDITS = {
    "a chord": lambda loop: chord_edits.set_degree(loop, "c1", 4),
    "the chord at the seam": lambda loop: chord_edits.set_degree(loop, loop.chords[-1].id, 6),
    "one voice": lambda loop: chord_edits.move_voice(loop, "c1", 2, steps=1),
    "a layer's level": lambda loop: layer_edits.set_layer(loop, loop.layers[1].id, level_db=-9.0),
    "blended wear": lambda loop: chord_edits.set_degree(
        line_edits.set_treatment(loop, None, loop.line[0].id, blend=0.6), "c1", 4
    ),
    "the last chord cut short": lambda loop: replace(
        loop, chords=(*loop.chords[:-1], replace(loop.chords[-1], length_ticks=960))
    ),
}


@pytest.mark.parametrize("name", EDITS)
def test_following_an_edit_sounds_like_rendering_it_anew(engine, name):
    loop = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 140.0, 1, bars=4, title="Ice Road")
    if name == "blended wear":  # the blend is there before: only what it is given changes
        loop = line_edits.set_treatment(loop, None, loop.line[0].id, blend=0.6)
    engine.render(loop)
    after = EDITS[name](loop)
    assert after != loop
    followed = engine.render(after).audio
    fresh = Engine()
    wanted = fresh.render(after).audio
    fresh.close()
    assert db(np.abs(followed - wanted).max()) < -80


def test_an_edit_of_one_chord_runs_less_than_the_whole(engine, monkeypatch):
    loop = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 140.0, 1, bars=8, title="Ice Road")
    engine.render(loop)
    made = []
    monkeypatch.setattr(mixing.Treated, "make", lambda node, _inputs: made.append(node.label))
    engine.render(chord_edits.set_degree(loop, loop.chords[2].id, 4))  # one bar
    assert made == []


def test_many_edits_in_a_row_do_not_drift(engine, small_loop):
    loop = small_loop
    engine.render(loop)
    for i in range(24):
        loop = chord_edits.set_degree(loop, loop.chords[i % 2].id, 1 + i % 7)
        engine.render(loop)
    fresh = Engine()
    assert db(np.abs(engine.render(loop).audio - fresh.render(loop).audio).max()) < -80
    fresh.close()


def test_backward_with_chords_kept_has_the_same_chords_in_the_same_order(engine):
    loop = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 140.0, 1, bars=4, title="x")
    loop = bare_of(replace(loop, layers=loop.layers[:1]))
    backward = line_edits.add_treatment(loop, None, "reverse")
    forward_audio, backward_audio = engine.render(loop).audio, engine.render(backward).audio
    names = []
    for chord in loop.chords:
        start = loop.clock.frames(chord.start_tick) + 3000
        end = loop.clock.frames(chord.start_tick + chord.length_ticks) - 3000
        wanted = {v % 12 for v in chord.voices}
        for audio in (forward_audio, backward_audio):
            heard = chroma(audio[:, start:end], loop.rate)
            assert set(np.argsort(-heard)[: len(wanted)]) == wanted
        names.append(frozenset(wanted))
    assert len(set(names)) == len(names)  # the order could have been told


@pytest.mark.parametrize(
    ("semitones", "key"), [(-3, "D# minor"), (2, "G# minor"), (12, "F# minor")]
)
def test_pitching_the_whole_loop_moves_the_sounding_key(engine, small_loop, semitones, key):
    loop = line_edits.add_treatment(bare_of(small_loop), None, "shift")
    loop = line_edits.set_treatment_setting(loop, None, loop.line[0].id, "semitones", semitones)
    assert key_heard(loop).plain == key
    assert loop.sounding_tempo == loop.tempo
    heard = chroma(engine.render(loop).audio, loop.rate)
    plain = chroma(engine.render(bare_of(small_loop)).audio, loop.rate)
    assert np.corrcoef(heard, np.roll(plain, semitones))[0, 1] > 0.9


def test_tape_on_the_whole_loop_moves_key_tempo_and_length(engine, small_loop):
    loop = line_edits.add_treatment(small_loop, None, "shift", 0)
    for name, value in (("semitones", -2.0), ("way", "like tape")):
        loop = line_edits.set_treatment_setting(loop, None, loop.line[0].id, name, value)
    assert key_heard(loop).plain == "E minor"
    assert loop.sounding_tempo == pytest.approx(140 * 2 ** (-2 / 12))
    audio = engine.render(loop).audio
    assert (
        audio.shape[1] == loop.sounding_frames == round(2 * 4 * 60 / loop.sounding_tempo * 44_100)
    )


def test_tape_on_a_layer_keeps_it_on_the_grid(engine, small_loop):
    layer = small_loop.layers[0]
    loop = line_edits.add_treatment(small_loop, layer.id, "shift")
    added = loop.layer(layer.id).line[-1].id
    for name, value in (("semitones", -5.0), ("way", "like tape")):
        loop = line_edits.set_treatment_setting(loop, layer.id, added, name, value)
    audio = engine.audio(layer_node(loop, loop.layer(layer.id), engine.tones))
    assert audio.shape[1] == loop.frames
    start = loop.clock.frames(loop.chords[1].start_tick)
    after = rms(audio[:, start + 1000 : start + 6000])
    before = rms(audio[:, start - 6000 : start - 1000])
    assert after > before  # the second chord still comes in at its place


def test_the_one_pass_form_starts_from_silence_and_rings_out(engine, small_loop):
    once = engine.once(small_loop)
    loop = engine.render(small_loop).audio
    assert once.shape[1] > loop.shape[1] + 10_000
    assert np.abs(once[:, -5:]).max() < 2e-4
    tail = rms(once[:, loop.shape[1] : loop.shape[1] + 8000])
    assert tail > 1e-3
    # Played exactly on time and without the mono bass (which the loop's start cuts short), one
    # pass with its tail folded back in is the loop.
    quiet = bare_of(small_loop)
    for layer in quiet.layers:
        quiet = layer_edits.set_touch(quiet, layer.id, drift_ms=0.0)
    quiet = layer_edits.remove_layer(quiet, quiet.layers[-1].id)
    bare_once = engine.once(quiet)
    assert np.abs(bare_once[:, :4]).max() < 0.02
    n = quiet.frames
    folded = bare_once[:, :n].copy()
    rest = bare_once[:, n:]
    folded[:, : rest.shape[1]] += rest[:, :n]
    assert db(rms(folded - engine.render(quiet).audio) / rms(folded)) < -60


def test_bare_and_treated_are_two_loops(engine, small_loop):
    bare = bare_of(small_loop)
    assert not bare.line
    assert not any(layer.line for layer in bare.layers)
    layer = small_loop.layers[0]
    one = without_line(small_loop, layer.id)
    assert not one.layer(layer.id).line
    assert one.line == small_loop.line
    assert rms(engine.render(bare).audio - engine.render(small_loop).audio) > 1e-3


def test_the_cache_is_bounded_and_drops_the_oldest():
    cache = AudioCache(limit_bytes=3 * 8000)
    for i in range(5):
        cache.put(bytes([i]), np.zeros((2, 1000), np.float32))
    assert cache.size_bytes == 24_000
    assert cache.get(b"\x00") is None
    assert cache.get(b"\x04") is not None
    with pytest.raises(ValueError, match="read-only"):
        cache.get(b"\x04")[0, 0] = 1


def test_stale_work_stops_between_steps(engine, small_loop):
    with pytest.raises(Cancelled):
        engine.render(small_loop, lambda: True)


def test_the_newest_request_wins_and_a_long_drag_is_still_heard(engine, small_loop):
    answers, failures = [], []
    worker = RenderWorker(engine, lambda n, r: answers.append(r), lambda *a: None,
                          lambda n, e: failures.append(e))  # fmt: skip
    engine.render(small_loop)
    line_id = small_loop.line[0].id
    last = small_loop
    stop = threading.Event()
    for step in range(40):
        last = line_edits.set_treatment_setting(small_loop, None, line_id, "wear", float(step + 20))
        worker.ask("treated", last)
        stop.wait(0.03)
    wait_for(lambda: answers and answers[-1].loop == last)
    worker.close()
    assert not failures
    assert 3 <= len(answers) < 40


def test_rendering_is_the_same_again(small_loop):
    first, second = Engine(), Engine()
    a, b = first.render(small_loop).audio, second.render(small_loop).audio
    first.close()
    second.close()
    assert np.array_equal(a, b)


def test_a_draft_lays_one_chord_bare_into_the_loop_and_leaves_the_rest(engine, small_loop):
    audio = engine.render(small_loop).audio
    after = chord_edits.set_degree(small_loop, "c2", 3)
    chord = after.chord("c2")
    out = drafted(audio, after, chord, engine, written=True, gain=0.5)
    n = audio.shape[1]
    start, end = (round(n * t / after.ticks) for t in (chord.start_tick, chord.end_tick))
    assert np.array_equal(out[:, :start], audio[:, :start])
    assert np.array_equal(out[:, end:], audio[:, end:])
    bare = engine.once(audition(after, (chord,), written=True, whole=True))
    inside = slice(start + 2000, end - 2000)
    assert np.abs(out[:, inside] - 0.5 * bare[:, 2000 : end - start - 2000]).max() < 1e-6
    steps = np.abs(np.diff(out, axis=1)).max(axis=0)
    assert steps[start - 3 : start + 3].max() < 1.2 * max(steps[:start].max(), steps[inside].max())
    root = chroma(out[:, inside], after.rate)
    assert {int(p) for p in np.argsort(root)[-3:]} <= {v % 12 for v in chord.voices}
    assert keeps_places(small_loop)
    assert not keeps_places(line_edits.add_treatment(small_loop, None, "reverse"))


def test_a_step_is_no_follower_of_one_at_another_tempo():
    """Eight bars at 120 and four at 60 are as long; what is timed by the beat is not the same."""
    loop = replace(sketch(find_card("Marlow Quist"), variation=1, bars=8), tempo=120.0, line=())
    loop = line_edits.set_line(replace(loop, layers=loop.layers[:1], chords=()), "l1", ())
    loop = line_edits.add_treatment(loop, "l1", "echo")

    def held(length_ticks):
        return (Note(id=1, start_tick=0, length_ticks=length_ticks, pitch=60, velocity=90),)

    quick = replace(loop, layers=(loop.layers[0].with_notes(held(960)),))
    slow = replace(quick, tempo=60.0, bars=4, layers=(loop.layers[0].with_notes(held(480)),))
    assert slow.frames == quick.frames
    engine, fresh = Engine(), Engine()
    engine.render(quick)
    followed, anew = engine.render(slow).audio, fresh.render(slow).audio
    assert db(rms(followed - anew) / rms(anew)) < -80
    for each in (engine, fresh):
        each.close()


def test_what_one_thread_makes_the_others_wait_for():
    store, began, go_on = BoundedStore(1000, lambda _: 1), threading.Event(), threading.Event()
    made = []

    def make():
        began.set()
        assert go_on.wait(10)
        made.append(1)
        return "sound"

    with ThreadPoolExecutor(3) as pool:
        asked = [pool.submit(store.made, "key", make) for _ in range(3)]
        assert began.wait(10)
        go_on.set()
        assert [one.result(10) for one in asked] == ["sound"] * 3
    assert len(made) == 1
    assert store.made("key", lambda: "longer", lambda value: len(value) > 5) == "longer"
    assert store.get("key") == "longer"


def test_what_could_not_be_made_is_made_by_the_next(monkeypatch):
    store = BoundedStore(1000, lambda _: 1)
    with pytest.raises(ZeroDivisionError):
        store.made("key", lambda: 1 / 0)
    assert store.made("key", lambda: "sound") == "sound"
    monkeypatch.setattr(lru, "PATIENCE_S", 0.01)
    # Whoever makes it waits for one who wants it: nobody waits for ever.
    inner = partial(store.made, "outer", lambda: "in")
    assert store.made("outer", lambda: in_a_thread(inner)) == "in"


def in_a_thread(work):
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(work).result(10)


def test_what_a_held_loop_needs_stays_and_the_rest_is_spare():
    cache = AudioCache(limit_bytes=6 * 8000, spare_bytes=8000)
    sound = [np.zeros((2, 1000), np.float32) for _ in range(8)]
    for i in range(4):
        cache.put(bytes([i]), sound[i], cost_ms=10.0 * i)
    cache.hold("treated", [b"\x00", b"\x01"], [b"\x00"])
    assert cache.get(b"\x02") is None  # of two that nothing needs there is room for the newer
    assert cache.get(b"\x03") is not None
    cache.hold("bare", [b"\x03"])  # needed again
    cache.put(b"\x04", sound[4])
    cache.hold("treated", [b"\x00", b"\x01"], [b"\x00"])
    assert {i for i in range(8) if cache.get(bytes([i])) is not None} == {0, 1, 3, 4}
    for i in (5, 6, 7):  # there is no room for all: spare first, then what is cheap and not dear
        cache.put(bytes([i]), sound[i], cost_ms=50.0)
    assert {i for i in range(8) if cache.get(bytes([i])) is not None} == {0, 1, 3, 5, 6, 7}
    cache.put(b"\x08", sound[0], cost_ms=50.0)
    assert {i for i in range(8) if cache.get(bytes([i])) is not None} == {0, 3, 5, 6, 7}
    assert cache.size_bytes == 48_000
    cache.demote([b"\x00", b"\x03"])
    assert cache.size_bytes == 40_000  # of two, one is spare
    cache.clear()
    assert cache.size_bytes == 0


def test_layers_that_are_off_stay_at_hand(engine, small_loop):
    off = layer_edits.set_layer(small_loop, small_loop.layers[0].id, mute=True)
    engine.render(small_loop)
    engine.render(off)
    node = layer_node(small_loop, small_loop.layers[0], engine.tones)
    for _ in range(3):
        assert engine.cache.get(node.key) is not None
        engine.render(loop_edits.set_tempo(small_loop, 90.0), name="another")
    engine.render(loop_edits.set_tempo(small_loop, 100.0))
    assert node.key not in engine.cache._used


MEASURES = {
    "middle": lambda engine, loop: [hz for _id, hz in layer_middles(engine, loop)],
    "energy": lambda engine, loop: [curve for _role, curve in strata(engine, loop)],
    "bands": lambda engine, loop: [*look_at(loop, engine).levels.values()],
}


@pytest.mark.parametrize("name", MEASURES)
def test_a_layer_is_measured_again_when_it_sounds_otherwise_and_only_then(small_loop, name):
    one = small_loop.layers[0]

    def mixed(**how):
        return replace(small_loop, layers=(replace(one, **how), *small_loop.layers[1:]))

    slower = layer_edits.set_sound_setting(small_loop, one.id, "attack_ms", 250.0)
    grouped = layer_edits.group_layers(small_loop, [one.id, small_loop.layers[1].id])
    softer = layer_edits.set_group(grouped, "g1", level_db=-6.0)
    with fresh_engine() as engine:
        heard, whole = [], engine.heard_layer
        engine.heard_layer = lambda loop, layer, *a: heard.append(layer.id) or whole(loop, layer)
        MEASURES[name](engine, small_loop)
        assert sorted(heard) == sorted(x.id for x in small_loop.layers)
        for changed, again in ((small_loop, 0), (mixed(level_db=-15.0), 1), (mixed(pan=0.7), 1),
                               (mixed(level_db=-60.0), 1), (slower, 1), (grouped, 0), (softer, 2),
                               (replace(small_loop, rate=48_000), 4)):  # fmt: skip
            heard.clear()
            found = MEASURES[name](engine, changed)
            assert len(heard) == again
            with fresh_engine() as fresh:
                wanted = MEASURES[name](fresh, changed)
            assert np.array_equal(np.hstack(found), np.hstack(wanted))
