"""Measuring a sound: what its claims are tested by, and what the report prints.

All of it listens to rendered notes; nothing is taken from how a sound is made.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import DEFAULT_RATE, Stereo, to_db
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.ground.settings import Settings
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.note_frames import round_robin_index as strike_of
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.theory.pitch import pitch_to_hz

REFERENCE_CHORD = (48, 55, 60, 63)
REFERENCE_VELOCITY = 90
MEASURED = (36, 60, 84)  # C2, C4, C6
VELOCITIES = (30, 80, 120)
# Those that are held: what sways in them takes longer to come to its mean.
HELD = frozenset({"organ", "pads", "strings", "leads", "voice", "brass"})
QUIET = 1e-12
NEARLY_TUNED = 1.0  # cents: one strike that is no farther off will do


def pitches(instrument: Instrument) -> tuple[int, ...]:
    """Return where a sound is measured: C2, C4 and C6, or its own range where it has less."""
    low, high = instrument.register
    inside = tuple(p for p in MEASURED if low <= p <= high)
    return inside if len(inside) > 1 else (low, (low + high) // 2, high)


def bare_settings(instrument: Instrument) -> Settings:
    """Return the settings that take a sound's noises away."""
    return tuple((name, 0.0) for name in instrument.noises)


def release_ms(instrument: Instrument, pitch: int) -> float:
    """Return how long a key takes to stop."""
    more = instrument.damping(pitch) if instrument.damping else 1.0
    return instrument.spec.full(()).number("release_ms") * more


def strike(
    instrument: Instrument,
    pitch: int,
    velocity: int = 100,
    seconds: float = 2.0,
    *,
    rate: int = DEFAULT_RATE,
    at_tick: int = 0,
    tail_s: float = 0.0,
    settings: Settings = (),
    tones: ToneCache | None = None,
) -> Stereo:
    """Render one held note from silence: (2, frames), as long as it is held and ``tail_s`` more.

    ``at_tick`` decides which of its strikes is heard; the note starts at frame 0 all the same.
    ``tones`` has the recordings of an own sound, and what was computed of a key before.
    """
    clock = Clock.of(60, rate)
    note = Note(
        start_tick=at_tick,
        length_ticks=round(seconds * TICKS_PER_QUARTER),
        pitch=pitch,
        velocity=velocity,
    )
    start = clock.frames(at_tick)
    frames = start + round((seconds + tail_s) * rate)
    # Room for a release far beyond the end, so that nothing folds back to the start.
    part = Part(
        notes=(note,),
        instrument=instrument,
        clock=clock,
        settings=instrument.spec.check(settings, instrument.name),
        loop_ticks=200 * TICKS_PER_QUARTER,
        frames=frames + 12 * rate,
        once=True,
    )
    return part.stretch(start, frames - start, tones or ToneCache())


def rms(audio: NDArray[np.float32]) -> float:
    """Return the root of the mean square."""
    return float(np.sqrt(np.mean(np.asarray(audio, np.float64) ** 2)))


def spectrum(mono: NDArray[np.float32], finer: int = 4) -> NDArray[np.float64]:
    """Return a windowed power spectrum with ``finer`` bins for each of its own."""
    size = finer * (1 << (len(mono) - 1).bit_length())
    lines = sf.rfft((mono * np.hanning(len(mono))).astype(np.float32), size)
    return np.square(np.abs(lines), dtype=np.float64)


def tuning_cents(audio: Stereo, pitch: int, rate: int = DEFAULT_RATE) -> float:
    """Return how far the fundamental lies from its pitch: the power-weighted mean, in cents."""
    near = pitch_to_hz(pitch)
    mono = audio.mean(axis=0)
    power = spectrum(mono, 1)  # the mean of a windowed line is no better known by finer bins
    hz = np.arange(len(power)) * (rate / 2 / (len(power) - 1))
    band = (hz > near * 0.97) & (hz < near * 1.03)
    mean = (hz[band] * power[band]).sum() / max(power[band].sum(), QUIET)
    return float(1200 * np.log2(max(mean, 1.0) / near))


def centroid_hz(audio: Stereo, rate: int = DEFAULT_RATE) -> float:
    """Return the centre of a spectrum's power."""
    size = sf.next_fast_len(audio.shape[1])
    power = np.square(np.abs(sf.rfft(audio.mean(axis=0), size)), dtype=np.float64)
    hz = np.fft.rfftfreq(size, 1 / rate)
    return float((hz * power).sum() / max(power.sum(), QUIET))


def mono_loss_db(audio: Stereo) -> float:
    """Return how much quieter the sum of both sides is than the sides."""
    return to_db(rms(audio) / max(rms(audio.mean(axis=0)), QUIET))


def level_curve(
    audio: Stereo, rate: int = DEFAULT_RATE, window_ms: float = 10.0
) -> NDArray[np.float64]:
    """Return the level in dB in windows, loudest 0."""
    size = int(rate * window_ms / 1e3)
    count = audio.shape[1] // size
    square = (audio[:, : count * size].astype(np.float64) ** 2).mean(axis=0)
    level = 10 * np.log10(square.reshape(count, size).mean(axis=1) + QUIET)
    return np.asarray(level - level.max())


def attack_ms(audio: Stereo, rate: int = DEFAULT_RATE) -> float:
    """Return when a note is within 3 dB of its loudest for the first time."""
    curve = level_curve(audio, rate, 2.0)
    return float(2.0 * np.flatnonzero(curve > -3)[0])


def decay_db_s(audio: Stereo, rate: int = DEFAULT_RATE) -> float:
    """Return how fast a held note falls, from its loudest on, in dB a second."""
    curve = level_curve(audio, rate, 20.0)
    start = int(curve.argmax())
    rest = curve[start:][: max(8, len(curve) - start)]
    rest = rest[rest > -50]
    if len(rest) < 4:
        return 999.0
    return float(-np.polyfit(np.arange(len(rest)) * 0.02, rest, 1)[0])


def aliasing_db(
    instrument: Instrument,
    pitch: int,
    velocity: int = 120,
    seconds: float = 1.0,
    tones: ToneCache | None = None,
) -> float:
    """Return the loudest thing that a render at four times the rate does not have, against all.

    What folds back at one rate does not at another; what both have is meant.
    """
    bare = bare_settings(instrument)
    low = strike(instrument, pitch, velocity, seconds, settings=bare, tones=tones)
    high = strike(instrument, pitch, velocity, seconds, rate=4 * DEFAULT_RATE, settings=bare)
    n = low.shape[1]
    window = np.blackman(n)
    at_low = np.abs(np.fft.rfft(low.mean(axis=0) * window))
    at_high = np.abs(np.fft.rfft(high.mean(axis=0)[: 4 * n] * np.blackman(4 * n)))[: len(at_low)]
    # A line may stand a bin beside: compare with the loudest of the neighbours.
    around = np.max([np.roll(at_high / 4, k) for k in range(-3, 4)], axis=0)
    if at_low.max() == 0:
        return -200.0  # nothing but noise, which is off
    return to_db(np.maximum(at_low - 2 * around, 0).max() / at_low.max())


def partial_curve(
    audio: Stereo, hz: float, rate: int = DEFAULT_RATE, window_s: float = 0.04
) -> NDArray[np.float64]:
    """Return the level of one partial in dB every 5 ms, louder side; the window tells neighbours
    apart that are 2 / ``window_s`` Hz away."""
    step, size = int(0.005 * rate), int(window_s * rate)
    window = np.hanning(size) * np.exp(-2j * np.pi * hz / rate * np.arange(size))
    frames = np.lib.stride_tricks.sliding_window_view(audio, size, axis=1)[:, ::step]
    level = np.abs(frames @ window.astype(np.complex64)).max(axis=0) * (4 / size)
    return np.asarray(20 * np.log10(level + 1e-9), np.float64)


def decay_db_per_s(curve: NDArray[np.float64], start_s: float, end_s: float) -> float:
    """Return how fast a curve of 5 ms steps falls between two times, in dB a second."""
    part = curve[int(start_s / 0.005) : int(end_s / 0.005)]
    return float(-np.polyfit(np.arange(len(part)) * 0.005, part, 1)[0])


def beating_db(curve: NDArray[np.float64], start_s: float = 0.15, end_s: float = 2.5) -> float:
    """Return how far a partial's curve swings about its two-stage fall, from peak to trough."""
    part = curve[int(start_s / 0.005) : int(end_s / 0.005)]
    t = np.linspace(-1, 1, len(part))
    return float(np.ptp(part - np.polyval(np.polyfit(t, part, 2), t)))


def residual_db(
    audio: Stereo,
    partials_hz: NDArray[np.float64],
    start_s: float,
    end_s: float,
    rate: int = DEFAULT_RATE,
) -> float:
    """Return what lies between a note's partials against all of it, in dB.

    The window has to be long enough to tell them apart: what lies within its lobe is not counted.
    """
    part = audio[:, int(start_s * rate) : int(end_s * rate)].mean(axis=0).astype(np.float64)
    size = 8 * len(part)
    power = np.abs(np.fft.rfft(part * np.blackman(len(part)), size)) ** 2
    hz = np.fft.rfftfreq(size, 1 / rate)
    lobe = 3.2 / (end_s - start_s)
    away = np.ones(len(hz), bool)
    for centre in partials_hz:
        away &= np.abs(hz - centre) > lobe
    # What the lobes hide is taken to be as strong as what lies between them.
    inside = (hz > partials_hz[0] * 0.4) & (hz < 16_000)
    hidden = inside.sum() / max((inside & away).sum(), 1)
    return float(10 * np.log10(power[inside & away].sum() * hidden / power.sum() + QUIET))


def self_similarity(audio: Stereo, rate: int = DEFAULT_RATE, from_s: float = 0.9) -> float:
    """Return how like itself a held sound is at any later time, 0 to 1."""
    mono = audio.mean(axis=0)
    n = len(mono)
    size = sf.next_fast_len(2 * n)
    lines = sf.rfft(mono, size)
    first, last = int(from_s * rate), n - 2 * rate
    both = sf.irfft((lines * lines.conj()), size)[first:last]
    energy = np.cumsum(np.square(mono, dtype=np.float64))
    early, late = energy[n - 1 - first : n - 1 - last : -1], energy[-1] - energy[first:last]
    return float((both / np.sqrt(early * late + QUIET)).max())


def chord_lufs(instrument: Instrument, strikes: int | None = None) -> float:
    """Return the loudness of the reference chord held for 2 s, as a loop; of a drum, one blow.

    It is the mean of some strikes, of more than a sound has if that is not said. A drum is measured
    over the loudest 400 ms, the length that loudness is defined on.
    """
    clock = Clock.of(120, DEFAULT_RATE)
    if instrument.family == "drums":
        audio = strike(instrument, 60, REFERENCE_VELOCITY, 0.4)
        return integrated_lufs(audio, DEFAULT_RATE)
    values, tones = [], ToneCache()
    for tick in range(strikes or instrument.variants + 2):  # its strikes differ
        notes = tuple(
            Note(start_tick=tick, length_ticks=3840, pitch=p, velocity=REFERENCE_VELOCITY)
            for p in REFERENCE_CHORD
        )
        part = Part(
            notes=notes,
            instrument=instrument,
            settings=(),
            clock=clock,
            loop_ticks=3840,
            frames=2 * DEFAULT_RATE,
        )
        values.append(integrated_lufs(part.render(tones), DEFAULT_RATE))
    return float(np.mean(values))


def part_ms(instrument: Instrument, tones: ToneCache | None = None) -> float:
    """Return how long 64 notes over eight bars take, in ms, with nothing kept from before."""
    import time  # noqa: PLC0415

    low, high = instrument.register
    base = max(low, min(48, high - 12))
    notes = []
    for i in range(64):
        # Broken chords of four roots; what has no pitch is played on one key.
        step = ((0, 8, 3, 10)[i // 16] + (0, 7, 3, 12)[i % 4]) % 13 if instrument.tuned else 12
        notes.append(
            Note(start_tick=480 * i, length_ticks=440, velocity=70 + 5 * (i % 4), pitch=base + step)
        )
    part = Part(
        notes=tuple(notes),
        instrument=instrument,
        settings=(),
        clock=Clock.of(140, DEFAULT_RATE),
        loop_ticks=480 * 64,
        frames=Clock.of(140, DEFAULT_RATE).frames(480 * 64),
    )
    began = time.perf_counter()
    part.render(tones or ToneCache())
    return (time.perf_counter() - began) * 1e3


@dataclass(frozen=True, kw_only=True)
class Row:
    """What was measured of a sound at one pitch; velocities are those of VELOCITIES."""

    pitch: int
    tuning_cents: float
    dirt_db: float
    dc_db: float
    first: float  # the largest of the first samples, against the note's peak
    step: float  # the steepest step from the release on, against the steepest before
    last: float  # the largest of the last samples
    levels_db: tuple[float, ...]
    centroids_hz: tuple[float, ...]
    mono_loss_db: float
    attack_ms: float
    decay_db_s: float
    repeat_db: float  # how far two strikes in a row differ, against the first
    repeat_level_db: float


def measured(instrument: Instrument, pitch: int) -> Row:
    """Measure a sound at a pitch."""
    bare, tones = bare_settings(instrument), ToneCache()
    soft, middle, hard = (
        strike(instrument, pitch, v, 1.5, tail_s=0.3, tones=tones) for v in VELOCITIES
    )
    rate = DEFAULT_RATE
    release_s = release_ms(instrument, pitch) / 1e3
    ended = strike(instrument, pitch, 100, 1.0, tail_s=release_s + 0.05, tones=tones)
    # What is struck is bright at once; what opens takes its time.
    speaks = rate * 3 // 2 if "open_ms" in instrument.spec.full(()) else rate // 3
    steps = np.abs(np.diff(ended, axis=1)).max(axis=0)
    other = strike(
        instrument, pitch, 80, 1.5, at_tick=strike_ticks(instrument, pitch)[1], tones=tones
    )
    same = middle[:, : other.shape[1]]
    # What sways in a strike of several players is off by a little: the mean is over strikes.
    held_s, strikes = (8.0, 3) if instrument.family in HELD else (3.2, 1)
    tuned: list[float] = []
    for tick in strike_ticks(instrument, pitch)[:strikes] if instrument.tuned else ():
        held = strike(instrument, pitch, 100, held_s, at_tick=tick,
                      settings=(*bare, ("attack_ms", 1.0)), tones=tones)  # fmt: skip
        tuned.append(tuning_cents(held[:, rate // 10 :], pitch))
        if abs(tuned[0]) < NEARLY_TUNED:
            break
    # Noise all over has nothing that could fold back.
    grain = instrument.family == "grain"
    clean = -200.0 if grain else aliasing_db(instrument, pitch, tones=tones)
    return Row(
        pitch=pitch,
        tuning_cents=float(np.mean(tuned or [0.0])),
        dirt_db=clean,
        dc_db=to_db(float(np.abs((ended[:, :rate] * np.hanning(rate)).mean(axis=1)).max())),
        first=float(np.abs(ended[:, :2]).max() / np.abs(ended).max()),
        step=float(steps[rate - 10 :].max() / steps[: rate - 10].max()),
        last=float(np.abs(ended[:, -50:]).max()),
        levels_db=tuple(to_db(rms(x[:, : rate + rate // 2])) for x in (soft, middle, hard)),
        centroids_hz=tuple(centroid_hz(x[:, :speaks]) for x in (soft, middle, hard)),
        mono_loss_db=mono_loss_db(hard),
        attack_ms=attack_ms(hard),
        decay_db_s=decay_db_s(hard[:, : rate + rate // 2]),
        repeat_db=to_db(rms(same - other) / rms(same)),
        repeat_level_db=to_db(rms(other) / rms(same)),
    )


def strike_ticks(instrument: Instrument, pitch: int) -> list[int]:
    """Return a tick for each way in which a sound strikes, that of tick 0 first."""
    ticks: dict[int, int] = {}
    for tick in range(60):
        ticks.setdefault(strike_of(tick, pitch, instrument.variants), tick)
    return list(ticks.values())
