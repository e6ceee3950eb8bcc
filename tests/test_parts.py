"""Playing a part: one note at a time, glides, the seam, and what is kept."""

import dataclasses

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.wrap import changed_span
from cloudrift.notes import Clock, Note
from cloudrift.sound import CATALOGUE, Part, ToneCache, find_sound
from cloudrift.sound.measure import pitches
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import db, main_hz

RATE = 44_100
SOUNDS = ("felt upright", "warm pad", "nylon", "flute", "round sub", "tower bell", "rain", "snare")
CLOCK = Clock.of(60, RATE)


def played(notes, sound, settings=(), *, ticks, frames, clock=CLOCK, once=False, tones=None):
    part = Part(notes=notes, instrument=sound, settings=settings, clock=clock, loop_ticks=ticks,
                frames=frames, once=once)  # fmt: skip
    return part.render(tones)


def gliding(ticks, pitches, velocity=100, **settings):
    """Notes one behind the other in the gliding lead, still but for what is asked."""
    sound = find_sound("gliding lead")
    still = {"vibrato_cents": 0, "detune_cents": 0, "sustain": 100, "attack_ms": 1} | settings
    notes = tuple(
        Note(start_tick=ticks * i, length_ticks=ticks, pitch=p, velocity=velocity)
        for i, p in enumerate(pitches)
    )
    frames = len(pitches) * ticks * RATE // 960
    return played(notes, sound, sound.spec.check(still, "test"), ticks=2 * ticks * len(pitches),
                  frames=frames + RATE, once=True)  # fmt: skip


def pitch_course(audio, start, end, step=1024, size=4096):
    """Pitch in semitones at steps of time, by the strongest line."""
    out = []
    for at in range(start, end, step):
        hz = main_hz(audio[:, at : at + size], 60, 1500)
        out.append(69 + 12 * np.log2(hz / 440))
    return np.array(out)


def test_a_glide_goes_from_the_old_pitch_to_the_new_in_its_time():
    audio = gliding(1920, (60, 67), glide_ms=600, legato="off")
    course = pitch_course(audio, 2 * RATE, 2 * RATE + 40_000)
    assert abs(course[0] - 60) < 1.2
    assert (np.diff(course[:22]) > -0.3).all()
    middle = course[int(0.3 * RATE / 1024) - 2]
    assert 62 < middle < 65.5
    assert np.abs(course[30:] - 67).max() < 0.1
    still = gliding(1920, (60, 67), glide_ms=0, legato="off")
    assert np.abs(pitch_course(still, 2 * RATE + 2000, 2 * RATE + 20_000) - 67).max() < 0.1


def test_a_glide_down_reads_ahead_and_leaves_no_step():
    audio = gliding(1920, (72, 60), glide_ms=300, legato="off")
    after = 2 * RATE + int(0.3 * RATE)
    steps = np.abs(np.diff(audio[0]))
    assert steps[after - 50 : after + 50].max() < 1.2 * steps[after + 2000 : after + 20_000].max()
    assert np.abs(pitch_course(audio, after + 2000, after + 20_000) - 60).max() < 0.1


def test_legato_has_no_new_attack_and_no_glide_from_nothing():
    def dip_db(legato):
        audio = gliding(1920, (60, 62), glide_ms=0, legato=legato, attack_ms=400)
        level = np.sqrt((audio[0, : 4 * RATE].reshape(-1, 441) ** 2).mean(axis=1))
        return db(level[205:215].min() / level[150:190].mean())

    assert dip_db("off") < -20 < -6 < dip_db("on")
    alone = gliding(1920, (67,), glide_ms=600)
    assert np.abs(pitch_course(alone, 2000, 20_000) - 67).max() < 0.1


def test_the_first_note_glides_from_the_last_over_the_seam():
    sound = find_sound("gliding lead")
    settings = sound.spec.check({"glide_ms": 500, "vibrato_cents": 0, "detune_cents": 0}, "test")
    notes = (Note(start_tick=0, length_ticks=1920, pitch=60),
             Note(start_tick=1920, length_ticks=1920, pitch=67))  # fmt: skip
    loop = played(notes, sound, settings, ticks=3840, frames=4 * RATE)
    assert abs(pitch_course(loop, 0, 1024)[0] - 67) < 1.5
    assert abs(pitch_course(loop, RATE, RATE + 1024)[0] - 60) < 0.1


@pytest.mark.parametrize("name", ["nylon", "steel", "fingered bass"])
def test_a_string_plucked_too_hard_slides_into_its_note(name):
    sound = find_sound(name)

    def start_hz(velocity, **settings):
        note = Note(start_tick=0, length_ticks=1920, pitch=52, velocity=velocity)
        audio = played((note,), sound, sound.spec.check(settings, name), ticks=3840,
                       frames=3 * RATE, once=True)  # fmt: skip
        near = pitch_to_hz(52)
        early = main_hz(audio[:, 100:3000], 0.8 * near, 1.2 * near)
        late = main_hz(audio[:, 8000:40_000], 0.8 * near, 1.2 * near)
        assert abs(1200 * np.log2(late / near)) < 8
        return 1200 * np.log2(early / near)

    assert start_hz(125) < -60
    assert abs(start_hz(110)) < 30
    assert abs(start_hz(125, slide_velocity=128)) < 30


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
    pitch = pitches(CATALOGUE[name])[1]
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
    low = pitches(CATALOGUE[name])[0]
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


@pytest.mark.parametrize("name", CATALOGUE)
def test_some_frames_of_a_part_are_those_of_the_whole(name):
    """Over the seam, of notes that ring on for more than a loop, of glides, with nothing kept."""
    sound = CATALOGUE[name]
    low = pitches(sound)[0]
    notes = tuple(
        Note(start_tick=480 * i, length_ticks=2500 if i == 2 else 400, pitch=low + (5 * i) % 7,
             velocity=127 if i == 1 else 70 + i, glide_ms=90.0 if i == 3 else 0.0)
        for i in range(4)
    )  # fmt: skip
    part = Part(notes=notes, instrument=sound, settings=(), clock=CLOCK, loop_ticks=1920,
                frames=88_200)  # fmt: skip
    whole = np.concatenate([part.render()] * 2, axis=1)
    for start, count in ((30_000, 20_000), (80_000, 25_000)):
        piece = part.stretch(start, count, ToneCache())
        assert db(np.abs(piece - whole[:, start : start + count]).max()) < -100


@pytest.mark.parametrize("name", SOUNDS)
def test_some_frames_of_a_part_follow_those_of_another(name):
    low = pitches(CATALOGUE[name])[0]
    notes = tuple(Note(start_tick=480 * i, length_ticks=470, pitch=low + i) for i in range(4))
    parts = [
        Part(notes=each, instrument=find_sound(name), settings=(), clock=CLOCK, loop_ticks=1920,
             frames=88_200)
        for each in (notes, (*notes[:2], replace(notes[2], pitch=low + 9), notes[3]))
    ]  # fmt: skip
    before, after = (part.render() for part in parts)
    for start in (10_000, 50_000, 80_000):
        wanted = np.roll(after, -start, axis=1)[:, :20_000]
        piece = parts[1].stretch(start, 20_000, ToneCache(), (parts[0], before))
        assert db(np.abs(piece - wanted).max()) < -100


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
