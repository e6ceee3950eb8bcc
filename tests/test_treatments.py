"""Every treatment: loop-true, blend and in/out exact, finite at its extremes, what it promises."""

import itertools

import numpy as np
import pytest
import scipy.signal as ss

from cloudrift.audio.spectrum import chroma
from cloudrift.ground import CloudriftError
from cloudrift.texture import KINDS, Context, Treatment, find_kind
from cloudrift.texture.curves import saturate
from cloudrift.texture.kinds.hall import band_decay_s
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import after, fused, shift_st, time_ratio
from tests.conftest import db, main_hz, rms, sine

RATE = 44_100
SMOOTH, PRIME = 88_200, 88_211


def context(n, passes=1, **more):
    cuts = (0, n // 4, n // 2, 3 * n // 4)
    return Context(rate=RATE, exact_frames=float(n), tempo=120.0, cuts=cuts, passes=passes, **more)


def treatment(kind, blend=1.0, on=True, variation=1, **settings):
    made = Treatment(id="t1", kind=kind, blend=blend, on=on, variation=variation)
    for name, value in settings.items():
        made = made.set(name, value)
    return made


def apply(audio, line, where):
    for group in fused(line):
        audio = treat(audio, group, where)
        where = after(where, group)
    return audio


@pytest.fixture(params=[SMOOTH, PRIME])
def noise(request):
    rng = np.random.default_rng(3)
    return (rng.standard_normal((2, request.param)) * 0.1).astype(np.float32)


EXACT = [
    treatment("cuts", low_cut_hz=300, high_cut_hz=5000, slope_db=48),
    treatment("hall", decay_s=1.2),
    treatment("hall", decay_s=6.0, pre_delay_ms=120),  # rings on for longer than the loop
    treatment("weathering", wear=100, wow_cents=40, drive_db=12, sample_rate_hz=9000),
    treatment("reverse", what="whole"),
    treatment("reverse", fade_ms=30),
    treatment("shift", semitones=-3, way="like tape"), treatment("shift", semitones=5),
    treatment("harmoniser"), treatment("room"), treatment("plate", pre_delay_ms=20),
    treatment("echo", feedback=70), treatment("echo", way="in its place", time="1/16 triplet"),
    treatment("equaliser", bass_db=9, mid_db=-12, mid_q=6, treble_db=6, notch_db=-30, notch_q=30),
    treatment("tilt", slope_db=-4), treatment("band-pass", octaves=1), treatment("vowel"),
    treatment("trim", gain_db=-6, width=150, mono_hz=150, pan=30),
    treatment("warm", drive_db=18), treatment("overdrive"), treatment("fold", drive_db=18),
    treatment("soft clip", drive_db=24), treatment("compressor", release_ms=900),
    treatment("limiter", push_db=18), treatment("chorus"), treatment("doubler", cents=20),
    treatment("tremolo"), treatment("auto-pan"), treatment("pump"), treatment("gate"),
    treatment("half speed"), treatment("half speed", speed="a quarter", window="1/4"),
    treatment("stutter"), treatment("stutter", share=100, window="1/2", slice="1/8 triplet"),
    treatment("reverse reverb", decay_s=1.0),
    treatment("sweep", rate="1/2", shape="random"), treatment("width sweep"), treatment("phaser"),
    treatment("weathering", wear=100, sample_rate_hz=8000, radio=70, dropouts=60, warp_cents=30,
              bump_db=6, loss_db=6, hiss_db=-40, dust_db=-40, rumble_db=-40, static_db=-40),
    treatment("weathering", wear=100, drive_db=0, sample_rate_hz=9000, bits=8, flutter_cents=20,
              filters="without"),
    treatment("resonance"), treatment("resonance "
                                      "tamer"), treatment("noise reduction"), treatment("formant"),
    treatment("tape", drive_db=18), treatment("squash", amount=100), treatment("spring"),
    treatment("tape echo", feedback=60), treatment("worn room"),
    treatment("cloud"), treatment("granular"), treatment("replay"),
    treatment("replay", slice="1/16 triplet", share=80, way="backward"),
]  # fmt: skip


@pytest.mark.parametrize("one", EXACT, ids=lambda t: f"{t.kind} {dict(t.settings)}")
def test_two_joined_passes_equal_one_render_of_the_loop_played_twice(one, noise):
    n = noise.shape[1]
    single = treat(noise, (one,), context(n))
    double = treat(np.tile(noise, 2), (one,), context(n, passes=2))
    assert double.shape[1] == 2 * single.shape[1]
    if one.kind == "reverse" and one.full["what"] == "whole":
        assert np.array_equal(double, np.tile(single, 2))
        return
    assert db(rms(double - np.tile(single, 2)) / rms(single)) < -70


def test_holding_the_length_makes_no_step_at_the_seam_or_between_chords(noise):
    n = noise.shape[1]
    out = treat(noise, (treatment("shift", semitones=4),), context(n))
    steps = np.abs(np.diff(np.tile(out, 2), axis=1)).max(axis=0)
    for join in (n // 4, n // 2, n):
        assert steps[join - 3000 : join + 50].max() < 1.2 * steps.max()
        level = [rms(np.tile(out, 2)[:, a : a + 4000]) for a in (join - 4000, join + 8000)]
        assert abs(db(level[0] / level[1])) < 1.5


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_blend_nothing_and_out_pass_the_sound_on_exactly(kind, noise):
    where = context(noise.shape[1])
    for one in (treatment(kind, blend=0.0), treatment(kind, on=False)):
        assert apply(noise, (one,), where) is noise
    half = treat(noise, (treatment(kind, blend=0.5),), where)
    whole = treat(noise, (treatment(kind),), where)
    assert np.abs(half - (noise + whole) / 2).max() < 2e-5


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_extreme_settings_stay_finite_and_keep_the_length(kind, noise):
    where = context(noise.shape[1])
    fields = [f for f in KINDS[kind].spec if not f.choices]
    for pick in ("low", "high"):
        one = treatment(kind, **{f.name: getattr(f, pick) for f in fields})
        out = treat(noise * 8, (one,), where)
        assert np.isfinite(out).all()
        assert out.shape[1] == where.stretched(time_ratio((one,))).frames


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_silence_in_is_silence_out(kind):
    quiet = {"crackle_db": -80} if kind == "weathering" else {}
    quiet |= {"semitones": 5} if kind == "shift" else {}
    out = treat(np.zeros((2, SMOOTH), np.float32), (treatment(kind, **quiet),), context(SMOOTH))
    assert np.abs(out).max() < 1e-7


DRAWN = {"weathering": {"wear": 100}, "sweep": {"shape": "random"}, "phaser": {"shape": "random"}}


@pytest.mark.parametrize("kind", sorted(name for name, kind in KINDS.items() if kind.draws))
def test_draws_are_kept_apart_and_come_back(kind, rng):
    audio, where = (rng.standard_normal((2, SMOOTH)) * 0.1).astype(np.float32), context(SMOOTH)
    first, again, other = (
        treat(audio, (treatment(kind, variation=d, **DRAWN.get(kind, {})),), where)
        for d in (1, 1, 2)
    )
    assert np.array_equal(first, again)
    assert db(rms(first - other) / rms(first)) > -40


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_what_has_no_draw_is_the_same_each_time(kind, rng):
    if KINDS[kind].draws:
        pytest.skip("it has a draw")
    audio, where = (rng.standard_normal((2, SMOOTH)) * 0.1).astype(np.float32), context(SMOOTH)
    assert np.array_equal(*(treat(audio, (treatment(kind),), where) for _ in range(2)))


@pytest.mark.parametrize("semitones", [-12, -5, -3, 4, 7, 12])
def test_a_held_shift_is_in_tune_and_in_time(semitones):
    """Within 3 cents for single tones, low and high, and onsets within 5 ms."""
    n = 3 * RATE
    one = treatment("shift", semitones=semitones)
    for hz in (82.4, 110, 440, 880):
        out = treat(sine(hz, 3.0, level=0.3), (one,), context(n))
        wanted = hz * 2 ** (semitones / 12)
        inner = out[:, 5000 : n // 2 - 8000]  # between two joins
        assert abs(1200 * np.log2(main_hz(inner, wanted * 0.9, wanted * 1.1) / wanted)) < 3
    audio = np.zeros((2, n), np.float32)
    struck = [int(s * RATE) for s in (0.4, 1.03, 2.2)]
    rng = np.random.default_rng(2)
    for at in struck:
        audio[:, at : at + 3000] += rng.standard_normal(3000) * np.exp(-np.arange(3000) / 600) * 0.4
    out = treat(audio, (one,), context(n))
    loud = np.convolve(np.abs(out[0]), np.ones(64) / 64, "same")
    for at in struck:
        near = loud[at - 2500 : at + 2500]
        assert abs(np.flatnonzero(near > 0.35 * near.max())[0] - 2500) < 0.005 * RATE


@pytest.mark.parametrize(
    ("low", "high", "slope"), list(itertools.product((80, 900), (1500, 9000), (12, 24, 48)))
)
def test_cuts_follow_the_analytic_curve(low, high, slope):
    impulse = np.zeros((2, SMOOTH), np.float32)
    impulse[:, 0] = 1
    one = treatment("cuts", low_cut_hz=low, high_cut_hz=high, slope_db=slope)
    measured = np.abs(np.fft.rfft(treat(impulse, (one,), context(SMOOTH))[0].astype(float)))
    hz = np.fft.rfftfreq(SMOOTH, 1 / RATE)[1:]
    order = slope / 6
    wanted = 1 / np.sqrt((1 + (low / hz) ** (2 * order)) * (1 + (hz / high) ** (2 * order)))
    audible = (wanted > 1e-3) & (hz < 20_000)
    off = 20 * np.log10(measured[1:][audible] / wanted[audible])
    assert np.abs(off).max() < 0.2


@pytest.mark.parametrize("decay_s", [0.8, 3.0])
def test_a_hall_decays_as_it_says_in_every_octave(decay_s):
    n = 6 * RATE
    impulse = np.zeros((2, n), np.float32)
    impulse[:, 0] = 1
    one = treatment("hall", decay_s=decay_s, low_cut_hz=20, pre_delay_ms=0)
    out = treat(impulse, (one,), context(n))
    for hz in (250, 500, 1000, 2000, 4000, 8000):
        band = ss.butter(4, [hz / 2**0.5, hz * 2**0.5], "band", fs=RATE, output="sos")
        times = []
        for channel in out:
            heard = ss.sosfiltfilt(band, channel)
            left = np.cumsum(heard[::-1] ** 2)[::-1]
            level = 10 * np.log10(left / left[int(0.05 * RATE)])
            first, last = (np.flatnonzero(level < limit)[0] for limit in (-5, -25))
            times.append((last - first) / RATE * 3)
        assert np.mean(times) == pytest.approx(band_decay_s(one.full, hz), rel=0.10), hz


def test_neighbouring_linear_cards_fuse_and_mean_the_same(noise):
    where = context(noise.shape[1])
    line = (treatment("cuts", low_cut_hz=200), treatment("hall", blend=0.4, decay_s=1.0),
            treatment("cuts", high_cut_hz=4000, low_cut_hz=20))  # fmt: skip
    groups = fused(line)
    assert [len(g) for g in groups] == [3]
    apart = noise
    for one in line:
        apart = treat(apart, (one,), where)
    assert db(rms(treat(noise, groups[0], where) - apart) / rms(apart)) < -80
    broken = (*line[:1], treatment("weathering"), *line[1:])
    assert [len(g) for g in fused(broken)] == [1, 1, 2]
    assert [len(g) for g in fused((line[0], treatment("hall", on=False), line[2]))] == [2]


@pytest.mark.parametrize(("drive", "floor"), [(6, -80), (16, -70)])
def test_saturation_rounds_peaks_without_folding_overtones_back(drive, floor):
    n = RATE
    audio = np.stack([0.5 * np.sin(2 * np.pi * 5000 * np.arange(n) / n)] * 2).astype(np.float32)
    spectrum = np.abs(np.fft.rfft(saturate(audio, 10 ** (drive / 20), RATE / 2, RATE)[0]))
    partials = [5000, 10_000, 15_000, 20_000]
    others = np.ones(len(spectrum), bool)
    others[[k + i for k in partials for i in range(-2, 3)]] = False
    others[20_000:] = False
    assert db(spectrum[others].max() / spectrum[5000]) < floor
    assert db(spectrum[15_000] / spectrum[5000]) > -45
    quiet = audio * 1e-3
    assert db(rms(saturate(quiet, 4.0, RATE / 2, RATE)) / rms(quiet)) == pytest.approx(0, abs=1.2)


def chords_audio():
    """Four chords of two notes, a second each, struck and dying away."""
    chords = ((57, 61), (54, 62), (55, 59), (52, 68))
    parts = []
    for pitches in chords:
        t = np.arange(RATE) / RATE
        wave = sum(np.sin(2 * np.pi * 440 * 2 ** ((p - 69) / 12) * t) for p in pitches)
        parts.append(0.2 * wave * np.exp(-3 * t))
    return np.stack([np.concatenate(parts)] * 2).astype(np.float32)


def test_backward_keeps_the_order_of_chords():
    audio = chords_audio()
    where = Context(
        rate=RATE, exact_frames=float(4 * RATE), tempo=60, cuts=(0, RATE, 2 * RATE, 3 * RATE)
    )
    kept = treat(audio, (treatment("reverse"),), where)
    whole = treat(audio, (treatment("reverse", what="whole"),), where)
    for i in range(4):
        piece = slice(i * RATE + 2000, (i + 1) * RATE - 2000)
        mirrored = slice((3 - i) * RATE + 2000, (4 - i) * RATE - 2000)
        before = chroma(audio[:, piece], RATE)
        assert np.dot(before, chroma(kept[:, piece], RATE)) > 0.98 * np.dot(before, before)
        assert np.dot(before, chroma(whole[:, mirrored], RATE)) > 0.98 * np.dot(before, before)
        half = RATE // 2
        rising = rms(kept[:, i * RATE + half : (i + 1) * RATE - 2000])
        assert rising > 2 * rms(kept[:, i * RATE + 2000 : i * RATE + half])


def test_tape_moves_pitch_and_length_together_and_hold_only_pitch():
    audio = sine(440.0, 2.0)
    where = context(audio.shape[1])
    tape, hold = treatment("shift", semitones=-3, way="like tape"), treatment("shift", semitones=-3)
    slow = treat(audio, (tape,), where)
    ratio = 2 ** (3 / 12)
    assert slow.shape[1] == round(audio.shape[1] * ratio)
    assert (time_ratio((tape,)), shift_st((tape,))) == (pytest.approx(ratio), -3)
    assert (time_ratio((hold,)), shift_st((hold,))) == (1, -3)
    for out in (slow, treat(audio, (hold,), where)):
        assert abs(1200 * np.log2(main_hz(out, 300, 500) / (440 / ratio))) < 3
    assert shift_st((treatment("shift", semitones=-3, on=False),)) == 0
    assert after(where, (tape,)).tempo == pytest.approx(120 / ratio)


def test_one_pass_has_silence_before_and_its_tail_after():
    impulse = np.zeros((2, 3 * SMOOTH), np.float32)
    impulse[:, 30_000] = 1
    where = context(SMOOTH, passes=3, once=True)
    out = treat(impulse, (treatment("hall", decay_s=1.0),), where)
    assert np.abs(out[:, :29_990]).max() < 1e-4
    assert rms(out[:, 30_000:74_000]) > 20 * rms(out[:, -20_000:])
    whole = treat(impulse, (treatment("reverse", what="whole"),), where)
    assert np.flatnonzero(whole[0]).tolist() == [SMOOTH - 1 - 30_000]


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (
            lambda: treatment("hall", decay=2),
            "there is no setting called 'decay'; did you mean 'decay_s'",
        ),
        (
            lambda: treatment("hall", decay_s=99),
            "decay_s is 99 s, but must lie between 0.3 and 12 s",
        ),
        (lambda: find_kind("hal"), "there is no treatment called 'hal'; did you mean 'hall'"),
        (
            lambda: treatment("shift", way="fast"),
            "way is 'fast', but must be one of keep length, like tape",
        ),
        (lambda: treatment("cuts", blend=1.5), "dry/wet is 1.5"),
        (lambda: treatment("cuts", low_cut_hz=True), "low_cut_hz must be a number"),
    ],
)
def test_bad_settings_are_said_with_their_range(make, says):
    with pytest.raises(CloudriftError, match=says):
        make()


def test_words_say_what_it_does_now():
    assert treatment("cuts", low_cut_hz=500).says == "cuts below 500 Hz, 24 dB an octave"
    assert treatment("shift", semitones=-3).says == "3 semitones down, same length"
    assert "18.9 % longer" in treatment("shift", semitones=-3, way="like tape").says
    assert treatment("hall", on=False).says.startswith("bypassed")
