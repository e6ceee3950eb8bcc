"""Weathering: what years of playing do to a recording. Wear is the one knob over all of it."""

import functools

import numpy as np
import scipy.fft as sf
from numpy.typing import NDArray

from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence, to_gain
from cloudrift.audio.wrap import (
    AFTER,
    BLOCK,
    circular_noise,
    filter_circular,
    read_displaced,
    read_stretch,
    shaped_oversampled,
    taken,
)
from cloudrift.ground.draws import stream
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Near

TURN_HZ = 33.333 / 60  # a record's turning rate
FULL_RATE_HZ = 44_100.0
CRACKLE_OFF_DB = -80.0
SPECKS_PER_S = 9.0
BENT_REACH = 4 * AFTER  # how far saturation and the band edge ring, with room to spare


def _process(audio: Stereo, full: Full, draw: int, context: Context) -> Stereo:
    out = audio
    speed = _speed(full)
    if speed > 0:
        out = read_displaced(out, _wow(draw, context.loop_frames, context.rate) * speed)
    out = _bent(out, full, context.rate)
    dust = _dust(full, draw, context)
    if dust is not None:
        out = out + context.tiled(dust)
    return out if out is not audio else audio.copy()


def _speed(full: Full) -> np.float32:
    """How much the playing speed strays: 0 for no wow."""
    return cents_to_speed(full.number("wear") / 100 * full.number("wow_cents"))


def _bent(audio: Stereo, full: Full, rate: int) -> Stereo:
    """Saturation and the narrower band."""
    drive_db = full.number("wear") / 100 * full.number("drive_db")
    edge = worn_rate_hz(full) / 2
    if drive_db > 0:
        return saturate(audio, to_gain(drive_db), edge, rate)
    if edge < FULL_RATE_HZ / 2:
        return filter_circular(audio, lambda s, n: s * band_edge(edge, rate, n), AFTER)
    return audio


def _dust(full: Full, draw: int, context: Context) -> Stereo | None:
    """One loop of crackle, if any is to be heard."""
    level_db, wear = full.number("crackle_db"), full.number("wear") / 100
    if level_db <= CRACKLE_OFF_DB or wear == 0:
        return None
    gain = np.float32(to_gain(level_db) * wear)
    return crackle(draw, context.loop_frames, context.rate) * gain


def _process_stretch(
    audio: Stereo, full: Full, draw: int, context: Context, start: int, count: int
) -> Stereo:
    """The same over some frames of the loop, with what they need before and after them."""
    more = count + 2 * BENT_REACH
    speed = _speed(full)
    if speed > 0:
        away = taken(_wow(draw, context.loop_frames, context.rate), start - BENT_REACH, more)
        out = read_stretch(audio, away * speed, start - BENT_REACH)
    else:
        out = taken(audio, start - BENT_REACH, more)
    out = _bent(out, full, context.rate)[:, BENT_REACH : BENT_REACH + count]
    dust = _dust(full, draw, context)
    return out if dust is None else out + taken(dust, start, count)


def _reach(full: Full, draw: int, context: Context) -> int:
    strays = np.abs(_wow(draw, context.loop_frames, context.rate)).max() * _speed(full)
    return BENT_REACH + int(strays) + 8


def worn_rate_hz(full: Full) -> float:
    """Return the sample rate heard at this wear: it falls from 44.1 kHz to the set one."""
    wear, rate = full.number("wear") / 100, full.number("sample_rate_hz")
    return FULL_RATE_HZ * (rate / FULL_RATE_HZ) ** wear


def pitch_curve(draw: int, frames: int, rate: int) -> NDArray[np.float64]:
    """Return the wow over one loop of ``frames``, peak 1, with the loop's own period.

    Slow turning (bent to a whole number of turns a loop) under a slower and a quicker drift.
    """
    loop_s = frames / rate
    turns = max(1, round(TURN_HZ * loop_s))
    rng = stream(draw, "wow")
    drift = circular_noise(rng, frames, 0.2 * loop_s, 3.0 * loop_s)
    turning = np.sin(2 * np.pi * (turns * np.arange(frames) / frames + rng.random()))
    curve = 0.65 * turning + 0.35 * drift
    curve -= curve.mean()
    return np.asarray(curve / np.abs(curve).max())


@functools.lru_cache(maxsize=4)
def _wow(draw: int, frames: int, rate: int) -> NDArray[np.float32]:
    """Return how far the playing place strays in frames, for a speed that strays by 1."""
    away = np.cumsum(pitch_curve(draw, frames, rate))
    return (away - away.mean()).astype(np.float32)


def cents_to_speed(cents: float) -> np.float32:
    """Return the change of speed that a small change of pitch is."""
    return np.float32(2 ** (cents / 1200) - 1)


def saturate(audio: Stereo, gain: float, edge_hz: float, rate: int) -> Stereo:
    """Round the peaks, unity gain for quiet sound, up to a band edge, loop-true.

    At twice the rate each sample is the mean of the curve between two neighbours (first-order
    antiderivative antialiasing, Parker et al. 2016), so what would fold back is all but gone.
    """
    return shaped_oversampled(
        audio, lambda wave: _rounded(wave, gain), band_edge(edge_hz, rate, BLOCK)
    )


def _rounded(wave: Mono, gain: float) -> Mono:
    """x / sqrt(1 + x^2), averaged between neighbours: its area under the curve is sqrt(1 + x^2).

    The difference of two areas over the step between them simplifies to this quotient, which
    needs no care where neighbours are equal.
    """
    x = wave * np.float32(gain)
    root = np.sqrt(1 + x * x)
    out = x.copy()
    out[..., 1:] += x[..., :-1]
    root[..., 1:] += root[..., :-1].copy()
    out /= root
    out /= np.float32(gain)
    return out


def band_edge(edge_hz: float, rate: int, length: int) -> Mono:
    """Return the gain of a steep high cut, (length // 2 + 1,)."""
    hz = np.fft.rfftfreq(length, 1 / rate)
    over = np.clip((hz / edge_hz - 0.92) / 0.08, 0, 1)
    return (0.5 + 0.5 * np.cos(np.pi * over)).astype(np.float32)


@functools.lru_cache(maxsize=3)
def crackle(draw: int, frames: int, rate: int) -> Stereo:
    """Return one loop of dust in the groove, loudest specks near full scale: (2, frames)."""
    n = frames
    rng = stream(draw, "crackle")
    out = silence(n)
    for _ in range(rng.poisson(SPECKS_PER_S * n / rate)):
        size = int(rate * rng.uniform(0.0006, 0.004))
        at = int(rng.integers(n))
        loud = rng.pareto(2.2) + 0.15
        shape = np.hanning(size + 2)[1:-1] * rng.standard_normal(size)
        pan = rng.uniform(0.2, 0.8)
        speck = np.stack([shape * (1 - pan), shape * pan]) * 2 * min(loud, 3.0) / 3.0
        add_wrapped(out, speck.astype(np.float32), at)
    hiss = _pink(rng, n) * np.float32(0.03)
    return out + hiss


def _pink(rng: np.random.Generator, frames: int) -> Stereo:
    """Noise that falls 3 dB an octave, RMS 1, wrapped: (2, frames)."""
    length = 1 << 17
    spectrum = rng.standard_normal((2, length // 2 + 1)) + 1j * rng.standard_normal(
        (2, length // 2 + 1)
    )
    spectrum[:, 0] = 0
    spectrum[:, 1:] /= np.sqrt(np.arange(1, length // 2 + 1))
    cycle = sf.irfft(spectrum, length)
    cycle /= cycle.std()
    out = np.empty((2, frames), np.float32)
    for channel in range(2):
        out[channel] = np.resize(cycle[channel], frames)
    # The cycle need not divide the loop: its last stretch fades into what precedes its start.
    fade = min(4096, frames // 2)
    rise = np.sqrt(np.linspace(0, 1, fade))
    before = cycle[:, -fade:]
    out[:, -fade:] = out[:, -fade:] * np.sqrt(1 - rise**2) + before * rise
    return out


def _says(full: Full) -> str:
    wear = full.number("wear") / 100
    if wear == 0:
        return "no wear: as new"
    parts = []
    if full.number("wow_cents") > 0:
        parts.append(f"drifts ±{wear * full.number('wow_cents'):.0f} cents")
    edge = worn_rate_hz(full) / 2
    if edge < FULL_RATE_HZ / 2 - 1:
        parts.append(f"band to {edge / 1000:.1f} kHz")
    if full.number("crackle_db") > CRACKLE_OFF_DB:
        parts.append("dust in the groove")
    return " · ".join(parts) or "only saturation"


WEATHERING = Kind(
    name="weathering",
    label="Weathering",
    family="Weathering",
    about="Ages the sound: wow, saturation, a narrower band, dust.",
    spec=SettingsSpec(
        (
            Field(name="wear", label="Wear", default=45, unit="%", low=0, high=100,
                  hint="scales everything below it"),
            Field(name="wow_cents", label="Wow", default=18, unit="cents", low=0, high=80, step=1),
            Field(name="drive_db", label="Saturation", default=9, unit="dB", low=0, high=16,
                  step=0.5),
            Field(name="sample_rate_hz", label="Sample rate", default=16_000, unit="Hz", low=4000,
                  high=FULL_RATE_HZ, step=100, log=True, off_high=True),
            Field(name="crackle_db", label="Crackle", default=-36, unit="dB", low=CRACKLE_OFF_DB,
                  high=-10, step=1, off_low=True),
        )
    ),
    says=_says,
    process=_process,
    near=Near(process=_process_stretch, reach=_reach),
    draws=True,
)  # fmt: skip
