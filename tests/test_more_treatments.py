"""What the treatments of tone, drive, space, motion and level promise, measured."""

from dataclasses import replace

import numpy as np
import pytest
import scipy.signal as ss
from hypothesis import given, settings
from hypothesis import strategies as st

from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.loudness import true_peak_db
from cloudrift.texture import KINDS
from cloudrift.texture.frames import smoothed
from cloudrift.texture.kinds.hall import band_decay_s
from cloudrift.texture.kinds.motion import PATTERNS
from cloudrift.texture.kinds.resonance import tuned_hz
from cloudrift.texture.kinds.resonances import find_harsh
from cloudrift.texture.kinds.spring import decay_at_s
from cloudrift.texture.periods import RATES
from cloudrift.texture.running import runner, treat
from cloudrift.texture.treatment import Treatment, acting, after, fused, tail_s
from cloudrift.theory.key import Key
from tests.conftest import db, main_hz, rms, run, sine
from tests.test_treatments import RATE, context, treatment

N = 4 * RATE  # eight beats at 120 BPM


def impulse(n=N, at=0, side=None):
    audio = np.zeros((2, n), np.float32)
    audio[slice(None) if side is None else side, at] = 1.0
    return audio


def response(one, n=N):
    """Its level at each Hz."""
    out = treat(impulse(n), (one,), context(n))
    return np.abs(np.fft.rfft(out[0].astype(np.float64))), np.fft.rfftfreq(n, 1 / RATE)


# --- tone -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("band", ["low", "mid", "high"])
@pytest.mark.parametrize(("gain", "q"), [(12.0, 0.7), (-15.0, 4.0), (6.0, 12.0)])
def test_a_bell_is_that_of_the_prototype(band, gain, q):
    one = treatment("equaliser", **{f"{band}_db": gain, f"{band}_q": q})
    level, hz = response(one)
    middle = one.full.number(f"{band}_hz")
    a, w = 10 ** (gain / 40), 2 * np.pi * middle
    _, wanted = ss.freqs([1, w * a / q, w * w], [1, w / (a * q), w * w], 2 * np.pi * hz[1:])
    inside = (hz[1:] > 20) & (hz[1:] < 20_000)
    off = 20 * np.log10(level[1:][inside] / np.abs(wanted)[inside])
    assert np.abs(off).max() < 0.2
    assert db(level[round(middle * N / RATE)]) == pytest.approx(gain, abs=0.2)


@pytest.mark.parametrize(("shelf", "edge", "far"), [("bass", 120, 22), ("treble", 8000, 20_000)])
def test_a_shelf_has_half_its_gain_at_its_edge(shelf, edge, far):
    level, _ = response(treatment("equaliser", **{f"{shelf}_db": 10.0}))

    def at(hz):
        return db(level[round(hz * N / RATE)])

    assert at(edge) == pytest.approx(5, abs=0.2)
    assert at(far) == pytest.approx(10, abs=0.5)
    assert at(1000) == pytest.approx(0, abs=0.2)


def test_a_notch_takes_one_place_out_and_leaves_the_rest():
    level, _ = response(treatment("equaliser", notch_db=-40.0, notch_hz=2000.0, notch_q=20.0))
    assert db(level[2000 * 4]) < -38
    assert db(level[1000 * 4]) == pytest.approx(0, abs=0.3)
    assert db(level[4000 * 4]) == pytest.approx(0, abs=0.3)


@pytest.mark.parametrize("slope", [-4.0, 1.5, 6.0])
def test_a_tilt_falls_so_many_db_an_octave(slope):
    level, _ = response(treatment("tilt", slope_db=slope))
    octaves = [db(level[round(900 * 2.0**k * N / RATE)]) for k in range(-3, 4)]
    assert np.allclose(np.diff(octaves), slope, atol=0.2)
    assert octaves[3] == pytest.approx(0, abs=0.1)


def test_a_narrow_band_is_narrow_and_vowels_have_their_formants():
    level, hz = response(treatment("band-pass", octaves=2.0, bump_db=0.0))
    inside = level[round(1100 * N / RATE)]
    assert db(level[round(200 * N / RATE)] / inside) < -17
    assert db(level[round(6000 * N / RATE)] / inside) < -17
    for vowel, first, second in (("ah", 800, 1150), ("ee", 350, 1700), ("oo", 325, 700)):
        level, hz = response(treatment("vowel", vowel=vowel))
        peaks = hz[ss.argrelmax(level, order=200)[0]]
        for formant in (first, second):
            assert np.abs(peaks / formant - 1).min() < 0.1


# --- drive ----------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["warm", "tape", "overdrive", "soft clip", "fold"])
def test_a_driven_tone_has_overtones_and_no_more(kind):
    most = {"warm": 24, "tape": 24, "overdrive": 36, "soft clip": 24, "fold": 18}[kind]
    audio = sine(5000, 1.0, level=0.5)
    one = treatment(kind, drive_db=most)
    level = np.abs(np.fft.rfft(treat(audio, (one,), context(RATE))[0]))
    others = np.ones(len(level), bool)
    others[[k * 5000 + i for k in range(5) for i in range(-2, 3)]] = False
    others[20_000:] = False
    assert db(level[others].max() / level[5000]) < -70
    assert db(level[15_000] / level[5000]) > -30


def test_warm_leans_and_overdrive_does_not():
    audio = sine(1000, 1.0, level=0.4)
    leaning, straight = (
        np.abs(np.fft.rfft(treat(audio, (treatment(kind, drive_db=9),), context(RATE))[0]))
        for kind in ("warm", "overdrive")
    )
    assert db(leaning[2000] / leaning[1000]) > -35
    assert db(straight[2000] / straight[1000]) < -80
    assert db(leaning[0] / leaning[1000]) < -40  # no offset is left


@pytest.mark.parametrize("push", [0.0, 9.0, 24.0])
@pytest.mark.parametrize(("ceiling", "window"), [(-1.0, 60), (-6.0, 5), (-0.1, 500)])
def test_nothing_gets_above_the_ceiling(rng, push, ceiling, window):
    audio = (rng.standard_normal((2, N)) * 0.2).astype(np.float32)
    audio[:, 1000:1040] += 3.0
    one = treatment("limiter", push_db=push, ceiling_db=ceiling, release_ms=window)
    out = treat(audio, (one,), context(N))
    assert true_peak_db(out) <= ceiling + 0.01
    assert true_peak_db(np.tile(out, 2)) <= ceiling + 0.05  # over the seam as well
    quiet = audio * np.float32(0.001)
    assert np.allclose(treat(quiet, (treatment("limiter"),), context(N)), quiet, atol=1e-7)


@pytest.mark.parametrize("ratio", [2.0, 4.0, 10.0])
def test_a_compressor_turns_down_by_its_ratio(ratio):
    one = treatment("compressor", threshold_db=-30, ratio=ratio, knee_db=0, gain_db=0)
    levels = []
    for level in (0.1, 0.3162):  # 10 dB apart, both above
        out = treat(sine(500, 4.0, level=level), (one,), context(N))
        levels.append(db(rms(out)))
    assert levels[1] - levels[0] == pytest.approx(10 / ratio, abs=0.3)
    under = sine(500, 4.0, level=0.01)
    assert np.allclose(treat(under, (one,), context(N)), under, atol=1e-4)


def test_a_squash_brings_loud_and_soft_together_and_is_whole_at_nothing(rng):
    noise = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    plain = treat(noise, (treatment("squash", amount=0),), context(N))
    assert db(rms(plain - noise) / rms(noise)) < -90  # three bands add up to what they were
    levels = []
    for level in (0.03, 0.3):  # 20 dB apart
        out = treat(sine(700, 4.0, level=level), (treatment("squash", amount=50),), context(N))
        levels.append(db(rms(out)))
    assert levels[1] - levels[0] == pytest.approx(10, abs=0.5)
    lifted = treat(noise, (treatment("squash", amount=0, high_db=6),), context(N))
    gain = np.abs(np.fft.rfft(lifted[0])) / np.abs(np.fft.rfft(noise[0]))
    assert db(np.median(gain[4 * 8000 : 4 * 15_000])) == pytest.approx(6, abs=0.3)
    assert db(np.median(gain[4 * 400 : 4 * 900])) == pytest.approx(0, abs=0.3)


def test_tape_bends_highs_first():
    one = treatment("tape", drive_db=14, bump_db=0, speed="slow")
    loss = []
    for hz in (200, 6000):
        quiet, loud = (treat(sine(hz, 1.0, level=x), (one,), context(RATE)) for x in (0.01, 0.3))
        loss.append(db(rms(loud) / rms(quiet)) - db(30))
    assert loss[1] < loss[0] - 1.5
    assert loss[0] < -0.5


# --- space ----------------------------------------------------------------------------------------


def test_echoes_come_to_the_sample_and_change_sides():
    one = treatment("echo", time="1/8 dotted", feedback=50, dark_hz=18_000, thin_hz=10, width=100)
    out = treat(impulse(N), (one,), context(N))
    delay = round(0.375 * RATE)
    for count in range(1, 6):
        loud = out[(count + 1) % 2]
        near = loud[count * delay - 40 : count * delay + 40]
        assert np.abs(near).argmax() == 40
        assert np.abs(out[count % 2][count * delay]) < 0.05 * np.abs(near).max()
    beside = treat(impulse(N), (treatment("echo", way="in its place", feedback=50),), context(N))
    levels = [np.abs(beside[0][k * delay : k * delay + 400]).max() for k in (1, 2, 3)]
    assert levels[0] > levels[1] > levels[2] > 0  # darker and softer
    assert np.array_equal(beside[0], beside[1])


def test_a_tape_echo_drifts_as_far_as_it_says_and_rounds():
    audio = sine(2000, 4.0, level=0.2)
    one = treatment("tape echo", way="in its place", feedback=0, drift_cents=20, drive_db=0,
                    dark_hz=18_000, thin_hz=10)  # fmt: skip
    out = treat(audio, (one,), context(N))
    phase = np.unwrap(np.angle(ss.hilbert(out[0].astype(float))))
    hz = np.convolve(np.gradient(phase) * RATE / (2 * np.pi), np.ones(900) / 900, "valid")
    strays = np.abs(1200 * np.log2(hz[2000:-2000] / 2000)).max()
    assert 18 < strays < 26  # wow of that, and a fifth of it as flutter
    loud = treat(audio * 4, (one.set("drive_db", 16),), context(N))
    assert rms(loud) < 0.7 * 4 * rms(out)


def test_an_echo_follows_the_tempo():
    slow = context(N)
    slow = type(slow)(rate=RATE, exact_frames=float(N), tempo=60.0)
    out = treat(impulse(N), (treatment("echo", time="1/4", way="in its place"),), slow)
    assert np.abs(out[0]).argmax() == pytest.approx(RATE, abs=1)
    assert tail_s((treatment("echo", time="1/4"),), 60.0) > tail_s((treatment("echo"),), 120.0)


SPACES = [("room", 0.3), ("room", 1.2), ("plate", 2.0), ("worn room", 0.8), ("cloud", 4.0),
          ("spring", 1.5), ("spring", 3.0)]  # fmt: skip


@pytest.mark.parametrize(("kind", "decay_s"), SPACES)
def test_spaces_decay_as_they_say(kind, decay_s):
    n = 6 * RATE
    still = {"drift_cents": 0} if kind == "cloud" else {}
    still |= {"pre_delay_ms": 0, "low_cut_hz": 20, "damping": 30}
    one = treatment(kind, decay_s=decay_s, **still)
    out = treat(impulse(n), (one,), context(n))
    wanted = decay_at_s if kind == "spring" else band_decay_s
    for hz in (500, 1000, 2000, 4000)[: 3 if kind == "spring" else 4]:
        band = ss.butter(3, [hz / 2**0.5, hz * 2**0.5], "band", fs=RATE, output="sos")
        times = []
        for channel in out:
            heard = ss.sosfiltfilt(band, channel)
            left = np.cumsum(heard[::-1] ** 2)[::-1]
            level = 10 * np.log10(left / left[int(0.02 * RATE)])
            first, last = (np.flatnonzero(level < limit)[0] for limit in (-5, -25))
            times.append((last - first) / RATE * 3)
        assert np.mean(times) == pytest.approx(wanted(one.full, hz), rel=0.10), hz


def test_a_spring_chirps_and_a_cloud_drifts():
    """High sounds come back later than low ones; a cloud's pitch strays as far as it says."""
    out = treat(impulse(N), (treatment("spring", pre_delay_ms=0),), context(N))
    first = []
    for hz in (400, 2800):
        band = ss.butter(3, [hz * 0.85, hz * 1.15], "band", fs=RATE, output="sos")
        heard = np.abs(ss.hilbert(ss.sosfilt(band, out[0][: RATE // 4])))
        first.append(int(heard[: int(0.09 * RATE)].argmax()))
    assert first[1] - first[0] > 0.01 * RATE
    audio = sine(2000, 4.0, level=0.2)
    cloud = treat(audio, (treatment("cloud", drift_cents=20),), context(N))
    for side in cloud:
        phase = np.unwrap(np.angle(ss.hilbert(side.astype(float))))
        hz = np.convolve(np.gradient(phase) * RATE / (2 * np.pi), np.ones(900) / 900, "valid")
        strays = np.abs(1200 * np.log2(hz[2000:-2000] / 2000)).max()
        assert strays == pytest.approx(20, rel=0.1)
    assert not np.allclose(cloud[0], cloud[1], atol=0.01)


def test_a_smear_is_made_of_grains_and_their_pitches(rng):
    audio = sine(600, 4.0, level=0.2)
    for pitch, factor in (("as it is", 1), ("an octave above", 2), ("an octave below", 0.5)):
        out = treat(audio, (treatment("granular", pitch=pitch),), context(N))
        assert main_hz(out, 200, 1500) == pytest.approx(600 * factor, rel=0.01)
    noise = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    out = treat(noise, (treatment("granular"),), context(N))
    assert db(rms(out) / rms(noise)) == pytest.approx(0, abs=2)
    alone = treat(impulse(N, at=RATE), (treatment("granular", pitch="as it is"),), context(N))
    heard = np.flatnonzero(np.abs(alone).max(axis=0) > 1e-3)
    assert heard.min() >= RATE - 2  # nothing is heard before it is there
    assert heard.max() - RATE < 0.79 * RATE  # 600 ms back at most, and a grain


# --- motion ---------------------------------------------------------------------------------------


def gains(one, side=0):
    """What it does to a level of one, over the loop."""
    return treat(np.ones((2, N), np.float32), (one,), context(N))[side]


@pytest.mark.parametrize("rate", ["1/1", "1/8", "1/16 triplet", "1/4 dotted"])
@pytest.mark.parametrize("depth", [20, 80])
def test_a_tremolo_goes_as_deep_as_it_says_in_time_with_the_loop(rate, depth):
    gain = gains(treatment("tremolo", rate=rate, depth=depth))
    assert gain.max() == pytest.approx(1, abs=0.01)
    assert 1 - gain.min() == pytest.approx(depth / 100, rel=0.05)
    turns = np.abs(np.fft.rfft(gain - gain.mean())).argmax()
    seconds = RATES[rate] / 960 * 0.5
    assert turns == round(4 / seconds)


def test_an_auto_pan_keeps_the_side_it_goes_to():
    one = treatment("auto-pan", depth=100, rate="1/1")
    left, right = gains(one, 0), gains(one, 1)
    assert np.maximum(left, right) == pytest.approx(1, abs=1e-5)
    assert left.min() == pytest.approx(0, abs=1e-4)
    assert np.argmin(left) != np.argmin(right)


def test_a_pump_is_down_on_the_beat_and_a_gate_follows_its_pattern():
    gain = gains(treatment("pump", depth=80, rate="1/4"))
    beats = (np.arange(8) * RATE // 2 + round(0.008 * RATE)).astype(int)
    assert np.allclose(gain[beats], 0.2, atol=0.02)
    assert gain[beats - round(0.03 * RATE)].min() > 0.8
    gate = gains(treatment("gate", pattern="three and three", rate="1/16", soft_ms=1))
    step = RATE // 8
    heard = "".join(str(int(gate[i * step + step // 2] > 0.5)) for i in range(16))
    assert heard == PATTERNS["three and three"]
    assert np.abs(np.diff(gate)).max() < 0.06  # soft edges


def test_width_moves_between_its_ends():
    audio = np.stack([np.ones(N), -np.ones(N)]).astype(np.float32)
    out = treat(audio, (treatment("width sweep", least=20, most=150, rate="1/1"),), context(N))
    side = (out[0] - out[1]) / 2
    assert side.min() == pytest.approx(0.2, abs=0.01)
    assert side.max() == pytest.approx(1.5, abs=0.01)


@pytest.mark.parametrize("cents", [4.0, 12.0, 40.0])
def test_a_doubler_parts_left_and_right_by_its_cents(cents):
    out = treat(sine(1000, 4.0), (treatment("doubler", cents=cents),), context(N))
    for side, way in ((0, 1), (1, -1)):
        level = np.abs(np.fft.rfft(out[side] * np.hanning(N)))
        hz = np.fft.rfftfreq(N, 1 / RATE)
        near = (hz > 900) & (hz < 1100)
        middle = (hz[near] * level[near] ** 2).sum() / (level[near] ** 2).sum()
        assert 1200 * np.log2(middle / 1000) == pytest.approx(way * cents, abs=1.0)


def test_a_chorus_beats_and_keeps_the_pitch(rng):
    out = treat(sine(1000, 4.0), (treatment("chorus"),), context(N))
    assert main_hz(out, 950, 1050) == pytest.approx(1000, rel=0.002)
    envelope = np.abs(ss.hilbert(out[0].astype(float)))
    assert envelope[2000:-2000].std() / envelope.mean() > 0.05
    wide = np.stack([rng.standard_normal(N).astype(np.float32)] * 2)
    wide = treat(wide, (treatment("chorus"),), context(N))
    assert db(rms(wide.mean(axis=0)) / rms(wide)) > -3  # it is still there in mono


def test_a_sweep_shuts_and_opens(rng):
    audio = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    one = treatment("sweep", shape="triangle", rate="1/1", low_hz=300, high_hz=12_000, peak=0)
    out = treat(audio, (one,), context(N))
    high = ss.sosfilt(ss.butter(4, 4000, "high", fs=RATE, output="sos"), out[0])
    shut, opened = high[:3000], high[RATE - 1500 : RATE + 1500]
    assert db(rms(shut) / rms(opened)) < -20


def test_a_swirl_cuts_three_notches_that_move(rng):
    noise = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    one = treatment("phaser", depth=100, rate="4 bars", width=0, shape="triangle")
    out = treat(noise, (one,), context(N))
    for at, edge in ((N // 2, 2600), (N // 4, (250 * 2600) ** 0.5)):  # the top, and half-way up
        piece = slice(at - 6000, at + 6000)
        hz, before = ss.welch(noise[0, piece], RATE, nperseg=2048)
        gain = 10 * np.log10(ss.welch(out[0, piece], RATE, nperseg=2048)[1] / before)
        for notch, beside in ((np.pi / 12, np.pi / 6), (np.pi / 4, np.pi / 3)):
            near = [gain[np.abs(hz - edge * np.tan(x)).argmin()] for x in (notch, beside)]
            assert near[0] < near[1] - 7
            assert near[1] > -2.5


def test_a_replay_says_the_slice_before_it_again(rng):
    audio = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    one = treatment("replay", slice="1/8", share=50, fall_db=3)
    out = treat(audio, (one,), context(N))
    size = RATE // 4  # an eighth at 120 BPM; chords are a second long
    inner = slice(400, size - 400)
    for chord in range(4):
        source = audio[:, chord * RATE + size : chord * RATE + 2 * size][:, inner]
        for k in (1, 2):
            begin = chord * RATE + (k + 1) * size
            again = out[:, begin : begin + size][:, inner]
            assert np.allclose(again, source * 10 ** (-3 * k / 20), atol=1e-6)
        start = slice(chord * RATE + 400, chord * RATE + 2 * size - 400)
        assert np.array_equal(out[:, start], audio[:, start])
    backward = treat(audio, (treatment("replay", slice="1/8", share=50, way="backward",
                                       fall_db=0),), context(N))  # fmt: skip
    turned = audio[:, size : 2 * size][:, ::-1][:, inner]
    assert np.allclose(backward[:, 2 * size : 3 * size][:, inner], turned, atol=1e-6)


# --- resonances -----------------------------------------------------------------------------------


def test_strings_ring_along_in_the_key_and_as_long_as_they_say():
    where = replace(context(N), key=Key("F#", "minor"))
    one = treatment("resonance", ring_s=1.0, octave=0, octaves=2, tones="tonic and fifth")
    out = treat(impulse(N), (one,), where)
    level = np.abs(np.fft.rfft(out[0]))
    tones = tuned_hz(where.key, "tonic and fifth", 0, 2)
    assert [round(hz, 1) for hz in tones] == [69.3, 92.5, 138.6, 185.0]  # C♯2, F♯2 and above
    for hz in tones:
        near = level[round(hz * 4) - 3 : round(hz * 4) + 4].max()
        between = level[round(hz * 4 * 2 ** (2 / 12))]
        assert db(near / between) > 15
    band = ss.butter(2, [175, 195], "band", fs=RATE, output="sos")
    heard = np.abs(ss.hilbert(ss.sosfilt(band, out[0])))
    fell = db(heard[int(0.8 * RATE)] / heard[int(0.3 * RATE)])
    assert fell == pytest.approx(-30, abs=3)
    moved = after(where, (treatment("shift", semitones=-3, way="like tape"),))
    assert moved.key == Key("D#", "minor")


def test_harsh_is_found_where_it_is_and_nowhere_in_plain_noise(rng):
    noise = (rng.standard_normal((2, N)) * 0.05).astype(np.float32)
    assert find_harsh(noise, RATE) is None
    one = treatment("equaliser", mid_hz=3150, mid_db=14, mid_q=12)
    found = find_harsh(treat(noise, (one,), context(N)), RATE)
    assert found is not None
    assert found.hz == pytest.approx(3150, rel=0.01)
    assert 8 < found.over_db < 16
    offered = treatment("equaliser", notch_hz=found.hz, notch_q=found.q, notch_db=-12)
    mended = treat(treat(noise, (one,), context(N)), (offered,), context(N))
    left = find_harsh(mended, RATE)
    assert left is None or left.over_db < found.over_db - 4


def test_the_tamer_holds_down_what_sticks_out_while_it_does(rng):
    noise = (rng.standard_normal((2, N)) * 0.02).astype(np.float32)
    rings = noise.copy()
    rings[:, RATE : 2 * RATE] += sine(2500, 1.0, level=0.3)
    one = treatment("resonance tamer", amount=100, above_db=6)
    out = treat(rings, (one,), context(N))
    level = [np.abs(np.fft.rfft(x[0, RATE + 8000 : 2 * RATE - 8000])).max() for x in (rings, out)]
    assert -36 < db(level[1] / level[0]) < -8
    calm = slice(int(2.5 * RATE), int(3.5 * RATE))
    assert abs(db(rms(out[:, calm]) / rms(noise[:, calm]))) < 1.0


def test_running_means_stay_within_what_they_are_means_of():
    values = (10 ** np.random.default_rng(206).uniform(-6, 7, (400, 1))).astype(np.float32)
    values[200:] = 1e-13
    for around in (True, False):
        for size in (3, 5, 33):
            means = smoothed(values, size, 0, round_the_loop=around)
            assert means.min() >= values.min()
            assert means.max() <= values.max()
    assert np.isfinite(np.log10(smoothed(values, 3, 0, round_the_loop=True))).all()


def test_the_cleaner_takes_steady_noise_out_and_leaves_the_notes(rng):
    noise = (rng.standard_normal((2, N)) * 0.003).astype(np.float32)
    notes = np.zeros((2, N), np.float32)
    for beat in range(4):
        decay = np.exp(-np.arange(RATE // 2) / (0.1 * RATE)).astype(np.float32)
        notes[:, beat * RATE : beat * RATE + RATE // 2] = sine(440 + 110 * beat, 0.5) * decay
    out = treat(noise + notes, (treatment("noise reduction", reduction_db=18),), context(N))
    gaps = np.concatenate([out[:, b * RATE + 32_000 : (b + 1) * RATE - 3000] for b in range(4)], 1)
    assert db(rms(gaps) / rms(noise)) < -10
    heard = slice(1000, 6000)
    assert db(rms(out[:, heard]) / rms(notes[:, heard])) == pytest.approx(0, abs=0.5)
    shut = treat(noise + notes, (treatment("noise reduction", gate_db=-45),), context(N))
    gaps = shut[:, 34_000 : RATE - 3000]
    assert db(rms(gaps) / rms(noise)) < -28


@pytest.mark.parametrize("shift", [-5.0, 4.0])
def test_a_formant_moves_the_body_and_not_the_pitch(shift):
    """A pulse through one resonance at 1200 Hz: its centre moves, its partials do not."""
    pulses = np.zeros(N)
    pulses[:: RATE // 150] = 1
    b, a = ss.iirpeak(1200, 3, fs=RATE)
    wave = ss.lfilter(b, a, pulses)
    audio = np.stack([wave, wave]).astype(np.float32)
    out = treat(audio, (treatment("formant", shift_st=shift),), context(N))
    f0 = RATE / (RATE // 150)
    before, after = (np.abs(np.fft.rfft(x[0])) for x in (audio, out))
    for k in (3, 6, 8):
        near = slice(round(k * f0 * 4) - 20, round(k * f0 * 4) + 21)
        assert abs(int(before[near].argmax()) - int(after[near].argmax())) <= 2
    hz = np.fft.rfftfreq(N, 1 / RATE)
    inside = (hz > 300) & (hz < 4000)
    middles = [np.exp((np.log(hz[inside]) * x[inside] ** 2).sum() / (x[inside] ** 2).sum())
               for x in (before, after)]  # fmt: skip
    assert 12 * np.log2(middles[1] / middles[0]) == pytest.approx(shift, abs=1.3)


# --- level ----------------------------------------------------------------------------------------


def test_trim_turns_narrows_and_keeps_the_lows_in_the_middle():
    audio = np.stack([sine(60, 4.0)[0] + sine(2000, 4.0)[0], np.zeros(N)]).astype(np.float32)
    out = treat(audio, (treatment("trim", gain_db=-6, mono_hz=150),), context(N))
    side = (out[0] - out[1]) / 2
    level = np.abs(np.fft.rfft(side)) / N
    assert db(level[2000 * 4] / 0.125) == pytest.approx(-6, abs=0.2)
    assert db(level[60 * 4] / level[2000 * 4]) < -25
    flat = treat(audio, (treatment("trim", width=0),), context(N))
    assert np.allclose(flat[0], flat[1], atol=1e-6)
    assert treat(audio, (treatment("trim", pan=100),), context(N))[0].max() < 1e-6


# --- time -----------------------------------------------------------------------------------------


@pytest.mark.parametrize(("speed", "times"), [("half", 2), ("a quarter", 4)])
def test_slow_plays_the_first_part_of_each_window_lower(speed, times):
    audio = sine(1000, 4.0, level=0.3)
    audio[:, RATE : 2 * RATE] = sine(1500, 1.0, level=0.3)  # the second half of the first window
    out = treat(audio, (treatment("half speed", speed=speed, window="1/1"),), context(N))
    first, second = out[:, 2000 : 2 * RATE - 2000], out[:, 2 * RATE + 2000 : 4 * RATE - 2000]
    for part in (first, second):
        found = main_hz(part, 100, 900)
        assert abs(1200 * np.log2(found / (1000 / times))) < 3
    # What lies in the part of the window that is not heard is not heard.
    level = np.abs(np.fft.rfft(first[0] * np.hanning(first.shape[1])))
    hz = np.fft.rfftfreq(first.shape[1], 1 / RATE)
    other = level[np.abs(hz - 1500 / times).argmin()]
    assert db(other / level.max()) < -40


def test_onsets_stay_in_their_windows_when_slowed():
    audio = np.zeros((2, N), np.float32)
    audio[:, RATE // 2 : RATE // 2 + 500] = 0.5  # a quarter into the first bar
    out = treat(audio, (treatment("half speed", window="1/1"),), context(N))
    onset = int(np.flatnonzero(np.abs(out[0]) > 0.1)[0])
    assert abs(onset - RATE) < 0.005 * RATE  # half-way: twice as late


def test_stutter_repeats_a_slice_at_the_end_of_each_window(rng):
    audio = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    one = treatment("stutter", window="1/1", slice="1/16", share=25)
    out = treat(audio, (one,), context(N))
    begin, size = int(1.5 * RATE), round(RATE / 8)
    inner = slice(400, size - 400)
    first = out[:, begin : begin + size]
    assert np.array_equal(first[:, inner], audio[:, begin : begin + size][:, inner])
    for k in range(1, 4):
        again = out[:, begin + k * size : begin + (k + 1) * size]
        assert np.allclose(again[:, inner], first[:, inner], atol=1e-6)
    assert np.array_equal(out[:, 1000 : begin - 1000], audio[:, 1000 : begin - 1000])


def test_a_shadow_adds_an_octave_and_a_ghost_swells_up():
    audio = sine(660, 4.0, level=0.2)
    out = treat(audio, (treatment("harmoniser"),), context(N))
    inside = out[:, 8000 : N // 4 - 8000]  # between two joins of the stretcher
    assert abs(1200 * np.log2(main_hz(inside, 250, 450) / 330)) < 3
    assert main_hz(out, 550, 800) == pytest.approx(660, rel=0.001)
    ghost = treat(impulse(N, at=2 * RATE), (treatment("reverse reverb", decay_s=1.0),), context(N))
    before, after = ghost[:, RATE : 2 * RATE], ghost[:, 2 * RATE + 3000 : 3 * RATE]
    assert db(rms(after) / rms(before)) < -30
    early, late = ghost[:, RATE : RATE + 9000], ghost[:, 2 * RATE - 20_000 : 2 * RATE - 8000]
    assert rms(late) > 4 * rms(early)


# --- stretches ------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", sorted(set(KINDS) - {"shift", "harmoniser"}))
@pytest.mark.parametrize("start", [-3000, 60_000])
def test_a_stretch_is_that_of_the_whole(kind, start, rng):
    """Exactly where a treatment hears only what is near, nearly where it is heard for a moment."""
    audio = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    where, one = context(N), treatment(kind)
    count = RATE // 2
    piece = runner((one,), where).stretch(audio, start, count)
    if piece is None:
        assert kind in (
            "reverse",
            "reverse reverb",
            "hall",
            "echo",
            "tape echo",
            "cloud",
        )  # all of so short a loop
        return
    wanted = slice_wrapped(treat(audio, (one,), where), start, count)
    exact = KINDS[kind].near is not None
    assert db(rms(piece - wanted) / rms(wanted)) < (-75 if exact else -20)
    if not exact:
        return
    # An edit elsewhere leaves it as it was.
    other = audio.copy()
    other[:, 3 * RATE : 3 * RATE + 2000] *= -1
    followed = runner((one,), where).change(treat(audio, (one,), where), audio, other)
    if followed is not None:
        fresh = treat(other, (one,), where)
        assert db(rms(followed - fresh) / rms(fresh)) < -80


# --- lines ----------------------------------------------------------------------------------------


@st.composite
def lines(draw):
    made = []
    kinds = sorted(
        set(KINDS) - {"shift", "harmoniser"}
    )  # they have tests of their own, and are slow
    for i in range(draw(st.integers(1, 8))):
        kind = KINDS[draw(st.sampled_from(kinds))]
        settings = {}
        for field in kind.spec:
            if field.choices:
                settings[field.name] = draw(st.sampled_from(field.choices))
            else:
                settings[field.name] = field.from_share(draw(st.integers(0, 20)) / 20)
        if "decay_s" in settings:
            settings["decay_s"] = min(settings["decay_s"], 3.0)
        if "feedback" in settings:
            settings["feedback"] = min(settings["feedback"], 60.0)
        blend = draw(st.sampled_from([0.3, 1.0]))
        made.append(Treatment(id=f"t{i}", kind=kind.name, blend=blend,
                              settings=kind.spec.check(settings, kind.name)))  # fmt: skip
    return tuple(made)


@settings(max_examples=50)
@given(lines())
def test_any_line_stays_finite_goes_round_and_ends_under_the_limiter(line):
    n = 32_768
    rng = np.random.default_rng(4)
    audio = (rng.standard_normal((2, n)) * 0.1).astype(np.float32)

    def run(sound, where):
        for group in fused(line):
            sound = treat(sound, group, where)
        return sound

    single = run(audio, context(n))
    double = run(np.tile(audio, 2), context(n, passes=2))
    assert np.isfinite(single).all()
    if rms(single) > 1e-5 and len(acting(line)) < 4:  # what bends a little differs more each time
        assert db(rms(double - np.tile(single, 2)) / rms(single)) < -45
    limited = treat(single, (treatment("limiter", ceiling_db=-0.2),), context(n))
    assert true_peak_db(limited) < -0.1


# --- on the command line --------------------------------------------------------------------------

LINE = """
[[treatments]]
kind = "echo"
blend = 0.5
[treatments.settings]
time = "1/4"
way = "in its place"
feedback = 30

[[treatments]]
kind = "trim"
on = false
"""


def test_a_line_file_is_laid_on_a_wav_as_a_loop_and_once(tmp_path, capsys):
    from cloudrift.audio.files import read_audio
    from cloudrift.audio.sound_file import write_wav

    source, line, out = (tmp_path / name for name in ("in.wav", "line.toml", "out.wav"))
    audio = impulse(RATE)  # a second: two beats at 120
    write_wav(source, audio, RATE, bits=32)
    line.write_text(LINE)
    assert run("treat", source, "--line", line, "--tempo", 120, "-o", out) == 0
    loop, _ = read_audio(out)
    assert loop.shape[1] == RATE
    assert run("treat", source, "--line", line, "--once", "--replace", "-o", out) == 0
    once, _ = read_audio(out)
    assert once.shape[1] > RATE
    folded = np.zeros((2, RATE), np.float32)
    for first in range(0, once.shape[1], RATE):
        part = once[:, first : first + RATE]
        folded[:, : part.shape[1]] += part
    assert db(rms(folded - loop) / rms(loop)) < -40
    line.write_text(LINE.replace("blend = 0.5", "blend = 0"))
    assert run("treat", source, "--line", line, "--replace", "-o", out) == 0
    assert np.array_equal(read_audio(out)[0], audio)  # nothing acts: the very same
    capsys.readouterr()


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("[[treatments]]\nkind = 'ecko'", "there is no treatment called 'ecko'; did you mean "
                                          "'echo'"),
        ("[[treatments]]\nkind = 'echo'\n[treatments.settings]\nfeedback = 200",
         "treatment 1 (echo): feedback is 200 %, but must lie between 0 and 92 %"),
        ("[[treatments]]\nkind = 'echo'\nblend = 2", "dry/wet is 2, but must lie between 0 and 1"),
        ("treatments = 3", "Expected `array`"),
        ("[[", "is not TOML"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_line_file_is_named(tmp_path, capsys, text, says):
    from cloudrift.audio.sound_file import write_wav

    source, line = tmp_path / "in.wav", tmp_path / "line.toml"
    write_wav(source, impulse(RATE), RATE, bits=16)
    line.write_text(text)
    assert run("treat", source, "--line", line, "-o", tmp_path / "out.wav") == 2
    assert says in capsys.readouterr().err
    assert not (tmp_path / "out.wav").exists()


def test_treatments_are_listed_for_people_and_programs(capsys):
    import json

    assert run("treatments", "--json") == 0
    listed = json.loads(capsys.readouterr().out)
    assert {one["kind"] for one in listed} == set(KINDS)
    echo = next(one for one in listed if one["kind"] == "echo")
    time = next(s for s in echo["settings"] if s["name"] == "time")
    assert time["default"] in time["choices"]
    feedback = next(s for s in echo["settings"] if s["name"] == "feedback")
    assert (feedback["min"], feedback["max"], feedback["unit"]) == (0, 92, "%")
    assert run("treatments") == 0
    assert "tremolo (Motion): Level that rises and falls." in capsys.readouterr().out
