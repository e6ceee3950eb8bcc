"""What is wanted of every sound; and its parts: players, sweeps, strings, plates, noise."""

import numpy as np
import pytest

from cloudrift.audio import quick
from cloudrift.audio.clips import ClipStore
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.sound import CATALOGUE
from cloudrift.sound.instrument import ToneRequest
from cloudrift.sound.kit.filters import Sweep, lowpass_gain, swept
from cloudrift.sound.kit.formants import VOWELS, mouth, throat
from cloudrift.sound.kit.noise import band, lasting, puff, wandering
from cloudrift.sound.kit.players import NO_STEADY_DB, Section, periods, play
from cloudrift.sound.kit.straying import Vibrato as Sway
from cloudrift.sound.kit.straying import knot_times
from cloudrift.sound.measure import (
    bare_settings,
    beating_db,
    centroid_hz,
    decay_db_per_s,
    level_curve,
    partial_curve,
    pitches,
    release_ms,
    residual_db,
    self_similarity,
    spectrum,
    strike,
    tuning_cents,
)
from cloudrift.sound.verdicts import EXCEPTIONS, Verdict, verdicts
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import db, rms
from tests.recall import recalled

RATE = 44_100


@pytest.mark.parametrize("name", CATALOGUE)
def test_every_sound_is_as_is_wanted(name):
    sound = CATALOGUE[name]
    found = recalled("verdicts", sound, lambda: verdicts(sound))
    assert len(found) >= 8
    assert [verdict for verdict in found if not verdict.holds] == []


def test_exceptions_are_of_sounds_that_there_are_and_give_their_reason():
    for (name, _what), why in EXCEPTIONS.items():
        assert name in CATALOGUE
        assert len(why) > 20
    assert len({name for name, _ in EXCEPTIONS}) < 10


def test_a_verdict_holds_inside_its_range_or_with_a_reason():
    verdict = Verdict("level", 2.5, 0, 2, "dB")
    assert not verdict.holds
    assert verdict._replace(found=2.0).holds
    assert not verdict._replace(found=-0.1).holds
    assert not verdict._replace(found=float("nan")).holds
    assert verdict._replace(why="it may").holds


# --- how it is measured ---------------------------------------------------------------------------


def partials(hz, levels, falls, seconds=3.0):
    t = np.arange(int(seconds * RATE)) / RATE
    wave = sum(
        level * 10 ** (-fall * t / 20) * np.sin(2 * np.pi * f * t)
        for f, level, fall in zip(hz, levels, falls, strict=True)
    )
    return np.stack([wave, wave]).astype(np.float32)


def test_falls_beats_and_residuals_are_those_of_a_known_tone(rng):
    audio = partials((200, 400), (1.0, 0.5), (9, 30))
    assert abs(decay_db_per_s(partial_curve(audio, 200), 0.1, 1.0) - 9) < 0.1
    assert abs(decay_db_per_s(partial_curve(audio, 400), 0.1, 1.0) - 30) < 0.3
    assert beating_db(partial_curve(audio, 200)) < 0.3
    two = partials((200, 201.5), (1.0, 0.5), (5, 5))
    assert abs(beating_db(partial_curve(two, 200)) - 20 * np.log10(3)) < 1.5
    hiss = 10 ** (-30 / 20) * rms(audio[:, :RATE]) * rng.standard_normal(audio.shape)
    noisy = (audio + hiss).astype(np.float32)
    hz = np.array([200.0, 400.0])
    assert residual_db(audio, hz, 0.2, 1.0) < -50
    assert -38 < residual_db(noisy, hz, 0.2, 1.0) < -24


def test_what_goes_round_is_heard_to_go_round(rng):
    noise = rng.standard_normal((2, 2 * RATE)).astype(np.float32)
    assert self_similarity(np.tile(noise, 4)) > 0.99
    assert self_similarity(rng.standard_normal((2, 8 * RATE)).astype(np.float32)) < 0.05


# --- players --------------------------------------------------------------------------------------


def asked(pitch=60, seconds=2.0, variant=0, name="warm pad", share=0.0, rate=RATE, **settings):
    sound = CATALOGUE[name]
    full = sound.spec.full(sound.spec.check(settings, name))
    return ToneRequest(pitch=pitch, variant=variant, frames=int(seconds * rate), rate=rate,
                       settings=full, clips=ClipStore(), share=share)  # fmt: skip


def saw(pitch, sets=1, takes=1, depth=1, count=40):
    levels = 1 / np.arange(1.0, count + 1)
    return periods(np.broadcast_to(levels, (sets, takes, depth, count)).copy(), 0.0,
                   pitch_to_hz(pitch))  # fmt: skip


def played(section, pitch=60, seconds=2.0, seed=1, **settings):
    request = asked(pitch, seconds, **settings)
    return play(request, np.random.default_rng(seed), section, saw(pitch))[0]


def line_width_cents(audio, hz):
    """The standard deviation of a line's power about its mean, in cents."""
    power = spectrum(audio.mean(axis=0))
    at = np.linspace(0, RATE / 2, len(power))
    near = np.abs(at / hz - 1) < 0.05
    mean = (at[near] * power[near]).sum() / power[near].sum()
    far = ((at[near] - mean) ** 2 * power[near]).sum() / power[near].sum()
    return 1200 * np.log2(1 + np.sqrt(far) / mean)


def test_the_detune_is_how_far_players_are_apart():
    still = Section(players=12, steady_db=NO_STEADY_DB, breathe_db=0, sway=Sway(drift_cents=0))
    for cents in (8, 20):
        audio = played(still, 72, 12.0, detune_cents=cents)
        assert abs(line_width_cents(audio, pitch_to_hz(72)) / cents - 1) < 0.25
        assert abs(tuning_cents(audio, 72)) < 2


@pytest.mark.parametrize("pitch", [40, 64, 88])
def test_no_strike_of_players_starts_much_louder_or_brighter_than_another(pitch):
    section = Section(players=8)
    notes = [played(section, pitch, 0.6, seed, detune_cents=12) for seed in range(12)]
    levels = [db(rms(note)) for note in notes]
    assert max(levels) - min(levels) < 1.6
    centres = [12 * np.log2(centroid_hz(note)) for note in notes]
    assert np.std(centres) < 2.2


def test_lows_stand_in_the_middle_and_highs_to_the_sides():
    audio = played(Section(players=8, width=1.0), 33, 6.0, detune_cents=12)
    side, middle = audio[0] - audio[1], audio[0] + audio[1]
    hz = np.fft.rfftfreq(audio.shape[1], 1 / RATE)

    def apart_db(low, high):
        at = (hz > low) & (hz < high)
        power = [(np.abs(np.fft.rfft(one)[at]) ** 2).sum() for one in (side, middle)]
        return 10 * np.log10(power[0] / power[1])

    assert apart_db(40, 130) < -14
    assert apart_db(400, 2000) > -8


def test_players_enter_one_after_another_and_drift_in_level():
    late, at_once = (played(Section(players=9, late_ms=ms), 60, 1.0) for ms in (400, 0))
    assert db(rms(late[:, :5000]) / rms(at_once[:, :5000])) < -2
    assert abs(db(rms(late[:, 25_000:]) / rms(at_once[:, 25_000:]))) < 2
    audio = played(Section(players=1, steady_db=NO_STEADY_DB, breathe_db=6), 60, 20.0)
    assert np.ptp(level_curve(audio, window_ms=100)) > 5


def test_one_voice_sways_with_its_sides():
    sway = Sway(cents=40, hz=5, onset_ms=-400, drift_cents=0)
    audio = played(Section(players=2, alike=True, breathe_db=0, sway=sway), 60, 3.0)
    assert level_curve(audio, window_ms=60)[2:].min() > -2.5  # they never cancel


def test_a_sound_is_the_same_at_another_rate():
    section = Section(players=5, sway=Sway(cents=12, jitter_cents=3))
    one, four = (
        play(asked(60, 1.0, rate=rate), np.random.default_rng(3), section, saw(60))[0]
        for rate in (RATE, 4 * RATE)
    )
    assert db(rms(one - four[:, ::4]) / rms(one)) < -50


def test_periods_leave_out_what_would_fold_back_and_are_as_long_as_they_have_to_be():
    few, many = saw(60, count=3), saw(60, count=60)
    assert few.tables.shape[1] < many.tables.shape[1]
    assert many.tables.shape == (1, many.tables.shape[1], 1)
    assert saw(40).shape.tolist() == [1, 2, 1]  # low: a second one for the sides
    levels = np.zeros((1, 1, 1, 30))
    levels[..., 0], levels[..., 29] = 1.0, 1e-6
    assert periods(levels, 0.0, 300.0).tables.shape[1] == 513


@pytest.mark.skipif(quick.library is None, reason="no compiler was there")
@pytest.mark.parametrize("pitch", [40, 70])
@pytest.mark.parametrize("moving", [False, True])
@pytest.mark.parametrize("takes", [1, 2])
def test_players_read_alike_compiled_and_not(monkeypatch, pitch, moving, takes):
    request = asked(pitch, 0.5)
    rows = np.random.default_rng(1).random((2, takes, 5, 30)) / np.arange(1, 31)
    made = periods(rows, 0.0, pitch_to_hz(pitch))
    t = knot_times(request)
    place = 4 * t / t[-1] if moving else np.zeros(len(t))

    def work():
        section = Section(players=4, late_ms=40)
        return play(request, np.random.default_rng(2), section, made, place=place)

    one = work()
    monkeypatch.setattr(quick, "library", None)
    other = work()
    assert one.shape == (takes, 2, request.frames)
    assert db(rms(one - other) / rms(other)) < -100


# --- sweeps, mouths, strings ----------------------------------------------------------------------


def test_a_low_pass_falls_by_24_db_an_octave_and_rings_where_it_cuts():
    hz = np.array([100.0, 1000.0, 8000.0, 16_000.0])
    gain = lowpass_gain(hz, 1000.0, 4.0)
    assert abs(gain[0] - 1) < 0.02
    assert gain[1] > 3
    assert abs(20 * np.log10(gain[2] / gain[3]) - 24) < 1


def whole_saw(k, _own):
    return 1 / k


def test_a_sweep_closes_as_it_says_and_a_bright_note_reaches_higher():
    sweep = Sweep(low_hz=300, by_share_oct=2, by_key=0, falls_oct=3, resonance=1.2)
    one = Section(players=2, steady_db=12, alike=True, breathe_db=0)

    def centres(share):
        request = asked(45, 1.5, name="synth pluck", share=share)
        audio = swept(request, "test", whole_saw, 0.0, sweep, 200, one).hard
        return centroid_hz(audio[:, :4000]), centroid_hz(audio[:, 50_000:])

    dark, bright = centres(0.1), centres(0.9)
    assert dark[0] > 1.3 * dark[1]
    assert bright[0] > 1.5 * bright[1]
    assert bright[0] > 1.5 * dark[0]


@pytest.mark.parametrize(("vowel", "first", "second"), [("ah", 700, 1150), ("ee", 300, 2150)])
def test_a_mouth_resonates_where_its_vowel_does_and_smaller_ones_higher(vowel, first, second):
    hz = np.arange(150.0, 2500.0, 2.0)
    for size in (1.0, 1.1):
        gain = mouth(VOWELS[vowel], hz, 100.0, size)
        peaks = hz[1:-1][(gain[1:-1] > gain[:-2]) & (gain[1:-1] > gain[2:])]
        for centre in (first, second):
            assert np.abs(peaks / (size * centre) - 1).min() < 0.04


def test_a_singer_raises_the_first_resonance_with_a_high_note():
    hz = np.arange(300.0, 2500.0, 2.0)
    gain = mouth(VOWELS["oo"], hz, 880.0)
    assert 850 < hz[gain.argmax()] < 1150


def test_a_throat_falls_by_what_is_said():
    gain = throat(np.array([200.0, 400.0]), 200.0, -9.0)
    assert abs(db(gain[1] / gain[0]) + 9) < 1e-6


@pytest.mark.parametrize("name", ["nylon", "felt upright", "marimba", "upright bass"])
def test_a_body_answers_at_the_same_frequencies_whatever_is_struck(name):
    sound = CATALOGUE[name]
    low = sound.register[0] + 8
    found = []
    for pitch in (low, low + 7):
        full = strike(sound, pitch, 100, 0.4, settings=(("wood", 100.0),))
        bare = strike(sound, pitch, 100, 0.4, settings=(("wood", 0.0),))
        body = (full - bare).mean(axis=0)[: RATE // 5]
        assert -32 < db(rms(body[: RATE // 20]) / rms(bare[:, : RATE // 20])) < -4
        power = spectrum(body, 2)[: int(0.05 * 2 * 2**14)]
        found.append(np.log(power + 1e-12))
    assert np.corrcoef(found)[0, 1] > 0.5


@pytest.mark.parametrize("name", ["felt upright", "bright grand", "worn piano"])
def test_felt_takes_the_upper_partials_first(name):
    sound = CATALOGUE[name]
    audio = strike(sound, 48, 110, 0.5, tail_s=0.4, settings=bare_settings(sound))
    held, stopping = audio[:, RATE // 2 - 4000 : RATE // 2], audio[:, RATE // 2 + 3000 :][:, :4000]
    assert centroid_hz(stopping) < 0.85 * centroid_hz(held)


@pytest.mark.parametrize("velocity", [10, 127])
def test_wood_rings_on_behind_a_soft_and_a_hard_blow(velocity):
    sound = CATALOGUE["felt upright"]
    bare, wooden = (
        strike(sound, 52, velocity, 2.5, settings=(("wood", wood),))[:, RATE * 3 // 2 :]
        for wood in (0, 50)
    )
    assert -42 < db(rms(wooden - bare) / rms(bare)) < -20


def test_a_small_mouth_whispers_higher():
    sound = CATALOGUE["whisper"]
    low, middle, high = (centroid_hz(strike(sound, p, 90, 3.0)) for p in pitches(sound))
    assert low < 0.85 * middle < 0.75 * high


@pytest.mark.parametrize("name", [s.name for s in CATALOGUE.values() if s.damping])
def test_a_sound_rings_as_long_as_the_key_that_rings_longest(name):
    sound = CATALOGUE[name]
    use = SoundUse(name=name, version=sound.version)
    assert use.rings_s == max(release_ms(sound, key) for key in range(128)) / 1000
    assert use.rings_s > 10 * release_ms(sound, 60) / 1000  # no felt lies on the highest


def test_a_hard_blow_speaks_sooner_than_a_soft_one():
    sound = CATALOGUE["felt upright"]

    def half_ms(velocity):
        audio = strike(sound, 48, velocity, 0.3, settings=bare_settings(sound))
        square = np.convolve((audio**2).mean(axis=0), np.hanning(700), "same")
        return np.flatnonzero(square > 0.5 * square[:2500].max())[0] / 44.1

    assert half_ms(10) > half_ms(127) + 0.5


@pytest.mark.parametrize("name", ["choir ah", "soft horn", "brass stab", "low brass"])
def test_what_is_blown_and_sung_is_brighter_a_moment_after_it_begins(name):
    sound = CATALOGUE[name]
    rise = []
    for tick in range(8):
        audio = strike(sound, pitches(sound)[1] - 5, 110, 0.6, at_tick=tick,
                       settings=bare_settings(sound))  # fmt: skip
        rise.append(centroid_hz(audio[:, 9000:15_000]) / centroid_hz(audio[:, 400:2000]))
    assert np.mean(rise) > 1.03


# --- noise and metal ------------------------------------------------------------------------------


def test_no_two_keys_and_no_two_strikes_have_the_same_puff():
    shape = band(300, 4000)
    puffs = [
        puff(asked(pitch, variant=variant), "test", shape, decay_ms=20).ravel()
        for pitch in (60, 64) for variant in (0, 1)
    ]  # fmt: skip
    likes = np.corrcoef(puffs)[np.triu_indices(4, 1)]
    assert np.abs(likes).max() < 0.35


def test_a_noise_that_wanders_is_even_and_never_comes_again():
    noise = lasting("test wander", RATE, band(500, 5000))
    audio = wandering(noise, np.random.default_rng(1), 12 * RATE, RATE)
    assert self_similarity(audio) < 0.3
    assert np.ptp(level_curve(audio, window_ms=200)) < 2.5
    shorter = wandering(noise, np.random.default_rng(1), 5 * RATE, RATE)
    assert np.array_equal(shorter, audio[:, : 5 * RATE])


def centre_at(name, start_ms, end_ms):
    audio = strike(CATALOGUE[name], 60, 120, 1.0)
    return centroid_hz(audio[:, int(start_ms * 44.1) : int(end_ms * 44.1)])


def test_a_crash_begins_low_and_rises():
    assert centre_at("crash", 0, 15) < 0.85 * centre_at("crash", 60, 120)


@pytest.mark.parametrize(
    ("name", "low_s", "high_s"),
    [("closed hat", 0.12, 0.4), ("open hat", 1.2, 4.5), ("crash", 2.5, 7.0)],
)
def test_metal_rings_as_long_as_it_is_wide(name, low_s, high_s):
    audio = strike(CATALOGUE[name], 60, 120, 5.0, settings=(("noise", 0.0),))
    curve = level_curve(audio, window_ms=20)
    curve = curve[curve.argmax() :]
    assert low_s < 1.5 * 0.02 * np.flatnonzero(curve < -40)[0] < high_s


def test_soft_and_hard_strokes_meet_the_same_plate():
    found = []
    for velocity in (40, 120):
        power = spectrum(strike(CATALOGUE["open hat"], 60, velocity, 1.0,
                                settings=(("noise", 0.0),)).mean(axis=0), 1)  # fmt: skip
        at = np.linspace(0, RATE / 2, len(power))
        found.append(np.log(power[(at > 1000) & (at < 2500)]))
    assert np.corrcoef(found)[0, 1] > 0.9


def test_a_skin_rings_in_its_modes():
    power = spectrum(strike(CATALOGUE["tom"], 60, 120, 1.0, settings=(("noise", 0.0),))[0, 6000:])
    at = np.linspace(0, RATE / 2, len(power))
    for ratio in (1.0, 1.59, 2.14):
        near = np.abs(at / (104 * ratio) - 1) < 0.03
        between = np.abs(at / (104 * ratio * 1.12) - 1) < 0.02
        assert power[near].max() > 8 * power[between].max()
