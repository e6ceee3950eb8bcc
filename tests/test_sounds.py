"""Every claim about the house sounds, measured on rendered notes, over the whole catalogue."""

import dataclasses
import functools
import itertools
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from cloudrift.audio.clips import ClipStore
from cloudrift.ground import CloudriftError
from cloudrift.sound import CATALOGUE, find_sound
from cloudrift.sound.catalogue import early_level_db, find_design
from cloudrift.sound.instrument import FAMILIES, ToneRequest
from cloudrift.sound.kit.formants import VOWELS
from cloudrift.sound.kit.strung import inharmonicity
from cloudrift.sound.measure import (
    bare_settings,
    centroid_hz,
    chord_lufs,
    decay_db_s,
    measured,
    part_ms,
    pitches,
    spectrum,
    strike,
)
from cloudrift.sound.sounds.voice import SOFT_DB
from cloudrift.sound.tones import ToneCache
from cloudrift.sound.verdicts import EXCEPTIONS
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import db, rms
from tests.recall import recalled

RATE = 44_100
SOUNDS = sorted(CATALOGUE)
EACH = [(name, pitch) for name in SOUNDS for pitch in pitches(CATALOGUE[name])]
TUNED = [(name, pitch) for name, pitch in EACH if CATALOGUE[name].tuned]
# Noise has no partials that could fold back; what is not noise in these is measured elsewhere.
NO_PARTIALS = {s.name for s in CATALOGUE.values() if s.family == "grain"} | {"whisper"}
# A rise grows while it is held, and a bird may call late: the release is steeper than the start.
GROWS = {"riser", "swell", "birds"}
# A drum is levelled by its peak: equally loud blows of 30 ms and 2 s would differ by 12 dB there.
DRUMS = {s.name for s in CATALOGUE.values() if s.family == "drums"}


def may_differ(name, what):
    """Whether a sound is named, with a reason, as one that may be otherwise."""
    return (name, what) in EXCEPTIONS


@functools.cache
def row(name, pitch):
    sound = CATALOGUE[name]
    return recalled("row", sound, lambda: measured(sound, pitch), pitch)


def test_the_set_has_every_family_and_says_what_each_is_for():
    assert len(CATALOGUE) >= 40
    assert {s.family for s in CATALOGUE.values()} == set(FAMILIES)
    for sound in CATALOGUE.values():
        assert sound.about.endswith(".")
        assert 2 <= len(sound.tags) <= 3
        assert sound.register[0] < sound.register[1]
        assert set(sound.noises) <= {f.name for f in sound.spec}
        own = [f.name for f in sound.spec][7:]
        assert own or sound.name == "tape hiss"
    assert len(CATALOGUE) >= 90


def test_nothing_is_made_when_the_catalogue_is_imported():
    """Neither is what takes long to import needed before a sound is played."""
    code = (
        "import sys, cloudrift.sound; from cloudrift.ground.lru import made_bytes; "
        "assert len(cloudrift.sound.CATALOGUE) > 40; "
        "slow = {'scipy.signal', 'scipy.ndimage', 'scipy.optimize', 'PyQt6'} & set(sys.modules); "
        "print(made_bytes(), sorted(slow))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "0 []\n"


@pytest.mark.parametrize(("name", "pitch"), TUNED)
def test_in_tune_within_two_cents(name, pitch):
    assert abs(row(name, pitch).tuning_cents) < 2


@pytest.mark.parametrize(("name", "pitch"), [e for e in EACH if e[0] not in NO_PARTIALS])
def test_nothing_folds_back(name, pitch):
    """Against a render at four times the rate."""
    assert row(name, pitch).dirt_db < -80


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_no_offset_and_no_step_at_start_or_end(name, pitch):
    found = row(name, pitch)
    assert found.dc_db < -60
    assert found.first < 0.03
    assert found.step < 1.3 or name in GROWS
    assert found.last < 1e-4


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_velocity_is_level_and_brightness(name, pitch):
    found = row(name, pitch)
    soft, middle, hard = found.levels_db
    assert soft < middle < hard
    assert hard - soft >= 12
    if not may_differ(name, "centroid from velocity 30 to 120"):
        assert found.centroids_hz[2] >= 1.2 * found.centroids_hz[0]


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_equal_notes_are_not_equal(name, pitch):
    found = row(name, pitch)
    assert found.repeat_db > -40
    if not may_differ(name, "level of one hit against another"):
        assert abs(found.repeat_level_db) < 3


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_mono_keeps_the_sound(name, pitch):
    assert row(name, pitch).mono_loss_db < 3


@pytest.mark.parametrize("name", [n for n in SOUNDS if n not in DRUMS])
def test_all_are_equally_loud_on_the_reference_chord(name):
    def lufs(strikes=None):
        sound = CATALOGUE[name]
        return recalled("lufs", sound, lambda: chord_lufs(sound, strikes), strikes)

    near = abs(lufs(strikes=2) + 20) < 0.8  # more would say the same
    assert near or abs(lufs() + 20) < 1.5


@pytest.mark.parametrize("name", sorted(DRUMS))
def test_a_drum_peaks_six_db_under_full_scale(name):
    peaks = [np.abs(strike(CATALOGUE[name], 60, 120, 0.5, at_tick=t)).max() for t in range(4)]
    assert -7.5 < db(max(peaks)) < -5


@pytest.mark.parametrize("name", SOUNDS)
def test_how_much_of_a_note_is_asked_for_changes_nothing_of_it(name):
    sound = CATALOGUE[name]
    full = sound.spec.full(())
    for pitch in (pitches(sound)[1], pitches(sound)[1] + 4):
        short, long = (
            sound.tone(ToneRequest(pitch=pitch, variant=0, frames=frames, rate=RATE, settings=full,
                                   clips=ClipStore(), share=0.5, velocity=sound.band(90)))
            for frames in (RATE // 10, RATE)
        )  # fmt: skip
        for one, other in zip(short, long, strict=True):
            assert db(rms(one - other[:, : one.shape[1]]) / max(rms(other), 1e-9)) < -90


@pytest.mark.parametrize("name", SOUNDS)
def test_settings_act_in_their_units(name):
    sound = CATALOGUE[name]
    pitch = pitches(sound)[1]

    def played(seconds=1.0, tail_s=0.0, **settings):
        return strike(sound, pitch, 100, seconds, tail_s=tail_s, settings=tuple(settings.items()))

    def level(audio, start, end):
        return rms(audio[:, int(start * RATE) : int(end * RATE)])

    lasting = {"sustain": 100.0}
    if name in DRUMS:
        lasting |= {"ring": 100.0}
    slow, fast = played(attack_ms=400.0, **lasting), played(attack_ms=5.0, **lasting)
    assert db(level(slow, 0.02, 0.06) / level(fast, 0.02, 0.06)) < -12
    short = played(0.02, 0.1, release_ms=10.0, **lasting)
    long = played(0.02, 0.1, release_ms=1500.0, **lasting)
    assert level(short, 0.031, 0.05) < 1e-5
    assert level(long, 0.031, 0.05) > 1e-5
    dying, steady = played(**lasting | {"decay_ms": 20.0, "sustain": 5.0}), played(**lasting)
    assert db(level(dying, 0.05, 0.08) / level(steady, 0.05, 0.08)) < -18
    bright, dull = played(brightness=100.0), played(brightness=10.0)
    brighter = 1.01 if may_differ(name, "centroid from velocity 30 to 120") else 1.1
    assert centroid_hz(bright) > brighter * centroid_hz(dull)
    assert rms(np.diff(played(width=0.0), axis=0)) < 1e-6
    plain, apart = played(detune_cents=0.0), played(detune_cents=40.0)
    assert rms(plain - apart) > 0.005 * rms(plain)


@pytest.mark.parametrize("name", [n for n in SOUNDS if CATALOGUE[n].tuned])
def test_detune_widens_the_fundamental(name):
    sound = CATALOGUE[name]
    pitch = pitches(sound)[1]

    def spread(cents):
        settings = (*bare_settings(sound), ("detune_cents", float(cents)))
        if "vibrato_cents" in sound.spec.full(()):
            settings += (("vibrato_cents", 0.0),)
        audio = strike(sound, pitch, 100, 3.0, settings=settings)[:, 6000:]
        near = pitch_to_hz(pitch)
        power = spectrum(audio[0])
        hz = np.linspace(0, RATE / 2, len(power))
        band = (hz > near * 0.95) & (hz < near * 1.05)
        mean = (hz[band] * power[band]).sum() / power[band].sum()
        return np.sqrt(((hz[band] - mean) ** 2 * power[band]).sum() / power[band].sum())

    assert spread(50) > 1.15 * spread(0)


@pytest.mark.parametrize("name", [n for n in SOUNDS if CATALOGUE[n].noises])
def test_noises_can_be_off(name):
    sound = CATALOGUE[name]
    pitch = pitches(sound)[1]
    with_noise, without = strike(sound, pitch), strike(sound, pitch, settings=bare_settings(sound))
    assert db(rms(with_noise - without) / rms(with_noise)) > -60
    assert np.isfinite(without).all()


@pytest.mark.parametrize("name", SOUNDS)
def test_every_own_setting_is_heard_from_end_to_end(name):
    sound, tones = CATALOGUE[name], ToneCache()  # a tone is not kept for another setting's
    pitch = pitches(sound)[1]
    for field in list(sound.spec)[7:]:
        if field.name in ("glide_ms", "legato", "slide_velocity", "onset_ms", "choke"):
            continue  # between notes, or at one velocity: heard in the tests of parts
        ends = [
            strike(sound, pitch, 110, 1.2, tones=tones,
                   settings=((field.name, value), ("onset_ms", 0.0))
                   if field.name.startswith("vibrato") else ((field.name, value),))
            for value in (field.choices or (field.low, field.high))
        ]  # fmt: skip
        assert all(np.isfinite(x).all() for x in ends)
        for one, other in itertools.combinations(ends, 2):
            assert db(rms(one - other) / max(rms(one), rms(other))) > -45, field.name


# --- behaving like what they are called -----------------------------------------------------------


def lines(name, pitch, velocity=110, seconds=2.0, **settings):
    """A spectrum's power and its frequencies."""
    audio = strike(CATALOGUE[name], pitch, velocity, seconds, settings=tuple(settings.items()))
    power = spectrum(audio.mean(axis=0)[2000:])
    return power, np.linspace(0, RATE / 2, len(power))


def loudest_near(power, hz, centre, width=0.02):
    band = (hz > centre * (1 - width)) & (hz < centre * (1 + width))
    return hz[band][power[band].argmax()], power[band].max()


@pytest.mark.parametrize(("name", "share"), [("felt upright", 1.0), ("bright grand", 0.55)])
def test_piano_partials_are_stretched_by_stiffness(name, share):
    power, hz = lines(name, 48, 120, 3.0, brightness=100.0)
    f0, b = pitch_to_hz(48), share * inharmonicity(48)
    assert 5e-5 < b < 1e-3
    wanted = f0 * 12 * np.sqrt((1 + 144 * b) / (1 + b))
    found, _ = loudest_near(power, hz, wanted)
    assert abs(1200 * np.log2(found / wanted)) < 6
    assert found > 12.02 * f0


@pytest.mark.parametrize("name", ["felt upright", "bright grand"])
def test_piano_notes_die_faster_when_higher_and_their_upper_partials_first(name):
    falls = [decay_db_s(strike(CATALOGUE[name], p, 100, 1.5)) for p in (40, 60, 80)]
    assert falls[0] < falls[1] < falls[2]
    audio = strike(CATALOGUE[name], 48, 120, 3.0)

    def fall_db(centre):
        early, late = (spectrum(audio[0, a : a + 20_000]) for a in (2000, 60_000))
        hz = np.linspace(0, RATE / 2, len(early))
        return db(np.sqrt(loudest_near(late, hz, centre, 0.04)[1]
                          / loudest_near(early, hz, centre, 0.04)[1]))  # fmt: skip

    f0 = pitch_to_hz(48)
    assert fall_db(f0 * 10.1) < fall_db(f0) - 4


@pytest.mark.parametrize(
    "name",
    [s.name for s in CATALOGUE.values() if s.name in (
        "felt upright", "bright grand", "tine keys", "reed keys", "digital keys", "pizzicato",
        "muted pluck", "nylon", "steel", "harp", "kalimba", "synth pluck", "tower bell",
        "glass bell", "music box", "fingered bass", "synth bass")],
)  # fmt: skip
def test_struck_and_plucked_sounds_darken(name):
    sound = CATALOGUE[name]
    audio = strike(sound, pitches(sound)[1] - 5, 110, 1.5)
    assert centroid_hz(audio[:, 26_000:50_000]) < 0.92 * centroid_hz(audio[:, :10_000])


def test_the_tower_bell_shows_its_five_partials():
    power, hz = lines("tower bell", 60, 110, 2.0)
    f0 = pitch_to_hz(60)
    for name, ratio in (("hum", 0.5), ("prime", 1), ("tierce", 1.2), ("quint", 1.5),
                        ("nominal", 2)):  # fmt: skip
        found, level = loudest_near(power, hz, f0 * ratio)
        assert abs(1200 * np.log2(found / (f0 * ratio))) < 12, name
        around = (hz > f0 * ratio * 1.03) & (hz < f0 * ratio * 1.06)
        assert level > 100 * np.median(power[around]), name


STEPS = 24  # an octave


def mouth(vowel, low):
    """The gain of a mouth by frequency, from the harmonics of twelve notes.

    Every note has a loudness of its own, so both are solved for: level = gain + loudness.
    """
    points = []
    for note in range(12):
        power, hz = lines(f"choir {vowel}", low + note, 20, 2.5, breath=0.0, open_ms=1.0)
        f0 = pitch_to_hz(low + note)
        for k in range(1, int(1700 / f0) + 1):
            band = (hz > f0 * (k - 0.3)) & (hz < f0 * (k + 0.3))
            # What the throat's fall leaves is the mouth.
            level = 10 * np.log10(power[band].sum()) - SOFT_DB * np.log2(f0 * k)
            points.append((note, f0 * k, level))
    step = np.array([round(STEPS * np.log2(f / 100)) for _, f, _ in points])
    steps = np.arange(step.min(), step.max() + 1)
    system = np.zeros((len(points), len(steps) + 12))
    for i, (note, _, _) in enumerate(points):
        system[i, [step[i] - steps[0], len(steps) + note]] = 1
    gain = np.linalg.lstsq(system, np.array([p[2] for p in points]), rcond=None)[0][: len(steps)]
    return 100 * 2 ** (steps / STEPS), np.convolve(gain, [0.25, 0.5, 0.25], "same")


@pytest.mark.parametrize(
    ("vowel", "low", "formants"),
    [("ah", 43, (700, 1150)), ("ah", 53, (700, 1150)), ("oo", 43, (330, 760)), ("mm", 43, (260,))],
)
def test_vowels_keep_their_formants_over_an_octave(vowel, low, formants):
    """As long as the note is below the first of them: there a singer raises it."""
    hz, gain = mouth(vowel, low)
    for formant in formants:
        assert formant in [centre for centre, _ in VOWELS[vowel]]
        near = np.flatnonzero(np.abs(np.log2(hz / formant)) < 0.35)
        near = near[(near > 0) & (near < len(hz) - 1)]
        peak = hz[near][gain[near].argmax()]
        assert abs(peak / formant - 1) < 0.12, peak


@pytest.mark.parametrize("name", ["reed lead", "flute", "whistle", "chapel organ", "soft horn"])
def test_breath_follows_the_note(name):
    sound = CATALOGUE[name]
    noise_name = sound.noises[0]

    def breath(pitch):
        full, none = (
            strike(sound, pitch, 100, 1.5, settings=((noise_name, level),))
            for level in (100.0, 0.0)
        )
        return (full - none)[:, RATE // 4 :]

    for pitch in (sound.register[0] + 5, sound.register[0] + 17):
        power = spectrum(breath(pitch).mean(axis=0))
        at = np.linspace(0, RATE / 2, len(power)) / pitch_to_hz(pitch)
        on, off = (power[np.abs(at - place) < 0.1].mean() for place in (1.0, 1.5))
        assert on > 10 * off


def test_vibrato_begins_late_and_goes_as_far_as_it_says():
    sound = CATALOGUE["soft lead"]
    settings = (("detune_cents", 0.0), ("onset_ms", 800.0), ("vibrato_cents", 50.0),
                ("brightness", 0.0))  # fmt: skip
    audio = strike(sound, 69, 100, 3.0, settings=settings)[0].astype(np.float64)
    low = np.exp(-2j * np.pi * 440 * np.arange(len(audio)) / RATE) * audio
    low = np.convolve(low, np.hanning(1200) / 600, "same")
    cents = 1200 * np.log2(1 + np.diff(np.unwrap(np.angle(low))) * RATE / (2 * np.pi * 440))
    assert np.abs(cents[8000:30_000]).max() < 10
    assert 40 < np.abs(cents[70_000:120_000]).max() < 60


# --- designs -------------------------------------------------------------------------------------

# Written anew by `python -m tests.test_sounds`, for sounds that are new or have a new version.
PRINTS = Path(__file__).parent / "sound_prints.json"
BY = Path(__file__).read_text()  # it is measured here


def fingerprint(sound):
    """A few levels of a note, coarse enough for another processor's rounding."""
    audio = strike(sound, pitches(sound)[1], 100, 0.8)
    curve = np.sqrt((audio[:, :35_200] ** 2).reshape(2, 8, -1).mean(axis=-1))
    return [round(db(x), 1) for x in curve.reshape(-1)] + [round(np.log2(centroid_hz(audio)), 2)]


@pytest.mark.parametrize("sound", CATALOGUE.values(), ids=list(CATALOGUE))
def test_a_design_goes_on_sounding_as_it_did(sound):
    """Changing a sound takes a new version, and its level before goes into ``earlier.toml``."""
    wanted = json.loads(PRINTS.read_text())[f"{sound.name} {sound.version}"]
    found = recalled("fingerprint", sound, lambda: fingerprint(sound), BY)
    assert np.abs(np.array(found) - wanted).max() < 0.25, "raise its version"


def test_early_designs_are_told_from_todays_and_from_newer_ones():
    """Every sound says how loud each of its designs before today's was."""
    for sound in CATALOGUE.values():
        assert find_design(sound.name, sound.version) is sound
        assert early_level_db(sound.name, sound.version) is None
        for version in range(1, sound.version):
            assert find_design(sound.name, version) is None
            assert abs(early_level_db(sound.name, version)) < 8
    for version in (0, -1, 9):
        assert find_design("round sub", version) is early_level_db("round sub", version) is None
    assert early_level_db("no such sound", 1) is None


def test_all_of_a_part_is_rendered_whoever_measures_it():
    sound = dataclasses.replace(CATALOGUE["felt upright"], variants=1)
    assert part_ms(sound) > 0


def test_sounds_are_found_in_the_ways_people_write_them():
    assert find_sound("Felt-Upright").name == "felt upright"
    with pytest.raises(CloudriftError, match="did you mean 'warm pad'"):
        find_sound("warn pad")
    with pytest.raises(
        CloudriftError, match=r"attack_ms is 9000 ms, but must lie between 1 and 4000"
    ):
        find_sound("warm pad").spec.check({"attack_ms": 9000}, "sound")


if __name__ == "__main__":
    PRINTS.write_text(
        "{\n"
        + ",\n".join(
            f"{json.dumps(f'{name} {version}')}: {json.dumps(fingerprint(sound))}"
            for name, version, sound in ((s.name, s.version, s) for s in CATALOGUE.values())
        )
        + "\n}\n"
    )
