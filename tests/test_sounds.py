"""Every claim about the house sounds, measured on rendered notes."""

import dataclasses

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.loudness import integrated_lufs
from cloudrift.audio.wrap import changed_span
from cloudrift.ground import CloudriftError
from cloudrift.notes import Clock, Note
from cloudrift.sound import CATALOGUE, Part, ToneCache, find_sound
from cloudrift.sound.felt_upright import inharmonicity
from cloudrift.sound.spread import CYCLE
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import db, rms

RATE = 44_100
SOUNDS = sorted(CATALOGUE)
PITCHES = (36, 60, 84)
CLOCK = Clock.of(60, RATE)
# The round sub is one octave of register below the others; it is measured where it is used.
RANGE = {name: (28, 40, 52) if name == "round sub" else PITCHES for name in SOUNDS}
EACH = [(name, pitch) for name in SOUNDS for pitch in RANGE[name]]


def played(notes, sound, settings=(), *, ticks, frames, clock=CLOCK, once=False, tones=None):
    part = Part(notes=notes, instrument=sound, settings=settings, clock=clock, loop_ticks=ticks,
                frames=frames, once=once)  # fmt: skip
    return part.render(tones)


def note(name, pitch, velocity=100, seconds=2.0, count=1, once=True, **settings):
    notes = tuple(
        Note(start_tick=int(2 * i * seconds * 960), length_ticks=int(seconds * 960), pitch=pitch,
             velocity=velocity)
        for i in range(count)
    )  # fmt: skip
    sound = find_sound(name)
    chosen = sound.spec.check(settings, name)
    frames = int((2 * count * seconds + 1) * RATE)
    return played(notes, sound, chosen, ticks=frames, frames=frames, once=once)


def centroid(audio):
    power = np.abs(np.fft.rfft(audio.sum(axis=0))) ** 2
    hz = np.fft.rfftfreq(audio.shape[1], 1 / RATE)
    return float((hz * power).sum() / power.sum())


def mean_hz(audio, near):
    """The power-weighted mean of the fundamental's band."""
    power = np.abs(np.fft.rfft(audio.sum(axis=0), 1 << 20)) ** 2
    hz = np.fft.rfftfreq(1 << 20, 1 / RATE)
    band = (hz > near * 0.97) & (hz < near * 1.03)
    return float((hz[band] * power[band]).sum() / power[band].sum())


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_in_tune_within_two_cents(name, pitch):
    near = pitch_to_hz(pitch)
    seconds = CYCLE / RATE if name == "warm pad" else 2.0  # the pad detunes: its whole cycle
    audio = note(name, pitch, seconds=seconds + 0.5, attack_ms=1)[
        :, 4000 : 4000 + int(seconds * RATE)
    ]
    assert abs(1200 * np.log2(mean_hz(audio, near) / near)) < 2


@pytest.mark.parametrize("name", SOUNDS)
@pytest.mark.parametrize("pitch", [84, 96])
def test_clean_above_the_highest_partial(name, pitch):
    """Nothing but partials: below the first, and between the high ones, the floor is 80 dB down."""
    audio = note(name, pitch, velocity=120, seconds=1.5)[:, 8000:52_000]
    spectrum = np.abs(np.fft.rfft(audio[0] * np.blackman(audio.shape[1])))
    hz = np.fft.rfftfreq(audio.shape[1], 1 / RATE)
    f0 = pitch_to_hz(pitch)
    below = (hz > 30) & (hz < f0 * 0.85)
    assert db(spectrum[below].max() / spectrum.max()) < -80
    off_partials = (hz > 13_000) & (np.abs(hz / f0 - np.round(hz / f0)) > 0.2)
    assert db(spectrum[off_partials].max() / spectrum.max()) < -80


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_no_dc_and_no_step_at_start_or_end(name, pitch):
    audio = note(name, pitch, seconds=1.0)
    assert db(abs(float(audio.mean()))) < -60
    steps = np.abs(np.diff(audio, axis=1)).max(axis=0)
    inside = steps[2000:40_000].max()
    assert np.abs(audio[:, :3]).max() < 0.02
    assert steps[44_000:].max() <= inside * 1.05  # the release adds no corner
    assert np.abs(audio[:, -100:]).max() < 1e-4


@pytest.mark.parametrize("name", SOUNDS)
def test_equal_notes_are_not_equal(name):
    audio = note(name, RANGE[name][1], seconds=0.5, count=2)
    first, second = audio[:, :22_050], audio[:, 44_100:66_150]
    assert db(rms(first - second) / rms(first)) > -40
    assert abs(db(rms(first) / rms(second))) < 1.5


@pytest.mark.parametrize("name", SOUNDS)
def test_mono_keeps_the_sound(name):
    audio = note(name, RANGE[name][1], seconds=3.0)
    assert db(rms(audio.mean(axis=0)) / rms(audio)) > -3


@pytest.mark.parametrize(("name", "pitch"), EACH)
def test_velocity_is_level_and_brightness(name, pitch):
    soft, hard = note(name, pitch, 30, 1.0), note(name, pitch, 120, 1.0)
    assert db(rms(hard) / rms(soft)) >= 12
    assert centroid(hard) / centroid(soft) >= 1.2


@pytest.mark.parametrize("name", SOUNDS)
def test_settings_act_in_their_units(name):
    pitch = RANGE[name][1]

    def level(audio, start, end):
        return rms(audio[:, int(start * RATE) : int(end * RATE)])

    slow = note(name, pitch, attack_ms=400)
    fast = note(name, pitch, attack_ms=5)
    assert db(level(slow, 0.1, 0.15) / level(fast, 0.1, 0.15)) < -6
    short = note(name, pitch, seconds=0.5, release_ms=40)
    long = note(name, pitch, seconds=0.5, release_ms=1500)
    assert level(short, 0.56, 0.7) < 1e-5 < level(long, 0.56, 0.7)
    dying = note(name, pitch, decay_ms=200, sustain=5)
    assert db(level(dying, 1.5, 1.9) / level(note(name, pitch, sustain=100), 1.5, 1.9)) < -20
    assert centroid(note(name, pitch, brightness=100)) > 1.1 * centroid(
        note(name, pitch, brightness=10)
    )
    assert rms(np.diff(note(name, pitch, width=0), axis=0)) < 1e-6


@pytest.mark.parametrize("name", SOUNDS)
def test_detune_widens_the_fundamental(name):
    def spread(cents):
        audio = note(name, 60 if name != "round sub" else 52, seconds=3.0, detune_cents=cents)
        near = pitch_to_hz(60 if name != "round sub" else 52)
        power = np.abs(np.fft.rfft(audio[0, 12_000:132_000] * np.hanning(120_000), 1 << 20)) ** 2
        hz = np.fft.rfftfreq(1 << 20, 1 / RATE)
        band = (hz > near * 0.95) & (hz < near * 1.05)
        mean = (hz[band] * power[band]).sum() / power[band].sum()
        return np.sqrt(((hz[band] - mean) ** 2 * power[band]).sum() / power[band].sum())

    assert spread(30) > 1.3 * spread(0)


def test_all_are_equally_loud_on_the_reference_chord():
    chord = tuple(
        Note(start_tick=0, length_ticks=3840, pitch=p, velocity=90) for p in (48, 55, 60, 63)
    )
    clock = Clock.of(120, RATE)
    loudness = {
        name: integrated_lufs(
            played(chord, find_sound(name), ticks=3840, frames=88_200, clock=clock), RATE
        )
        for name in SOUNDS
    }
    assert max(loudness.values()) - min(loudness.values()) < 3, loudness
    assert all(abs(value + 20) < 1.5 for value in loudness.values()), loudness


def test_a_piano_string_is_stiff_and_its_upper_partials_die_first():
    audio = note("felt upright", 48, 120, 4.0, brightness=100)
    f0, b = pitch_to_hz(48), inharmonicity(48)
    assert 1e-4 < b < 1e-3
    power = np.abs(np.fft.rfft(audio[0, 2000:90_000] * np.hanning(88_000), 1 << 20))
    hz = np.fft.rfftfreq(1 << 20, 1 / RATE)
    stretched = f0 * 12 * np.sqrt((1 + 144 * b) / (1 + b))
    near = (hz > f0 * 11.7) & (hz < f0 * 12.6)
    found = hz[near][power[near].argmax()]
    assert abs(1200 * np.log2(found / stretched)) < 6
    assert found > 12.05 * f0

    def decay_db(centre):
        def band(part):
            spectrum = np.abs(np.fft.rfft(part * np.hanning(len(part))))
            at = np.fft.rfftfreq(len(part), 1 / RATE)
            return spectrum[(at > centre * 0.95) & (at < centre * 1.05)].max()

        return db(band(audio[0, 66_150:88_200]) / band(audio[0, 4410:26_460]))

    assert decay_db(f0 * 10.15) < decay_db(f0) - 4


@pytest.mark.parametrize("name", ["felt upright", "muted pluck"])
def test_struck_and_plucked_sounds_darken(name):
    audio = note(name, 55, 110, 2.0)
    assert centroid(audio[:, 26_000:50_000]) < 0.8 * centroid(audio[:, :12_000])


def test_a_new_note_of_the_sub_stops_the_old_also_over_the_seam():
    notes = (
        Note(start_tick=0, length_ticks=1920, pitch=36, velocity=100),
        Note(start_tick=960, length_ticks=2880, pitch=43, velocity=100),
    )
    audio = played(notes, find_sound("round sub"), ticks=1920, frames=88_200)
    late = audio[0, 50_000:85_000]
    power = np.abs(np.fft.rfft(late * np.hanning(len(late)), 1 << 19))
    hz = np.fft.rfftfreq(1 << 19, 1 / RATE)

    def at(f):
        return power[np.abs(hz - f) < 1.5].max()

    assert db(at(pitch_to_hz(36)) / at(pitch_to_hz(43))) < -40
    early = audio[0, 2000:40_000]
    power = np.abs(np.fft.rfft(early * np.hanning(len(early)), 1 << 19))
    assert db(at(pitch_to_hz(43)) / at(pitch_to_hz(36))) < -40


@pytest.mark.parametrize("name", SOUNDS)
def test_a_part_is_the_same_in_a_loop_and_in_a_loop_played_twice(name):
    pitch = RANGE[name][1]
    once = (Note(start_tick=240, length_ticks=1680, pitch=pitch, offset_ms=-8.0),
            Note(start_tick=1200, length_ticks=700, pitch=pitch + 5))  # fmt: skip
    sound = find_sound(name)
    loop = played(once, sound, ticks=1920, frames=88_200)
    seam = np.concatenate([loop[:, -2000:], loop[:, :2000]], axis=1)
    steps = np.abs(np.diff(seam, axis=1)).max()
    assert steps <= np.abs(np.diff(loop, axis=1)).max() * 1.01
    # What rings on after the end is heard at the start of the next pass.
    open_ended = played(once, sound, ticks=19_200, frames=882_000)
    if not sound.mono:
        folded = open_ended.reshape(2, 10, 88_200).sum(axis=1)
        assert np.abs(folded - loop).max() < 2e-4


@pytest.mark.parametrize("name", SOUNDS)
def test_a_part_follows_a_change_of_its_notes(name):
    low = RANGE[name][0]
    notes = tuple(
        Note(start_tick=480 * i, length_ticks=470, pitch=low + (5 * i) % 7, velocity=80 + i)
        for i in range(8)
    )
    other = (*notes[:3], replace(notes[3], pitch=low + 12), *notes[4:-1],
             replace(notes[-1], length_ticks=900))  # fmt: skip
    parts = [
        Part(notes=each, instrument=find_sound(name), settings=(), clock=CLOCK, loop_ticks=3840,
             frames=176_400)
        for each in (notes, other)
    ]  # fmt: skip
    before, after = (part.render() for part in parts)
    followed = parts[1].follow(before, parts[0], ToneCache())
    assert db(np.abs(followed - after).max()) < -110
    assert not np.array_equal(before, after)
    shifted = tuple(replace(n, pitch=n.pitch + 1) for n in notes)
    assert (
        dataclasses.replace(parts[0], notes=shifted).follow(before, parts[0], ToneCache()) is None
    )


def test_an_edit_leaves_the_strikes_of_other_notes_alone():
    sound = find_sound("felt upright")
    notes = [Note(start_tick=960 * i, length_ticks=960, pitch=60) for i in range(12)]
    whole = played(tuple(notes), sound, ticks=11_520, frames=529_200)
    moved = played((replace(notes[0], pitch=64), *notes[1:]), sound, ticks=11_520, frames=529_200)
    assert changed_span(whole, moved)[1] < 5 * 44_100
    strikes = whole.reshape(2, 12, 44_100)[:, :, 30_000:]  # behind the ringing of the one before
    assert np.abs(np.diff(strikes, axis=1)).max(axis=(0, 2)).min() > 1e-3


def test_tones_are_kept_and_bounded():
    tones = ToneCache(tone_bytes=4 << 20, note_bytes=1 << 20)
    sound = find_sound("felt upright")
    for pitch in range(48, 72):
        one = Note(start_tick=0, length_ticks=960, pitch=pitch)
        played((one,), sound, ticks=960, frames=44_100, tones=tones)
    assert (1 << 20) < tones.size_bytes <= 5 << 20


def test_sounds_are_found_in_the_ways_people_write_them():
    assert find_sound("Felt-Upright").name == "felt upright"
    with pytest.raises(CloudriftError, match="did you mean 'warm pad'"):
        find_sound("warn pad")
    with pytest.raises(
        CloudriftError, match=r"attack_ms is 9000 ms, but must lie between 1 and 4000"
    ):
        find_sound("warm pad").spec.check({"attack_ms": 9000}, "sound")
