"""Grain: weather, rooms and machines behind the notes; rises and drops between them.

The key moves the colour of a noise by half as much as it would move a pitch.
"""

import functools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, add_wrapped, silence
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.first.spread import cycles, read_cycle
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, over, shaped
from cloudrift.sound.kit.body import lowpass
from cloudrift.sound.kit.noise import LONG, band, read_round
from cloudrift.sound.kit.table import curve_to_frames, moving_phase, sine

Hz = NDArray[np.float64]
LATE_MS_PER_CENT = 0.2
RISER_BANDS = 7
COLOUR = 0.5  # how much of the key's interval moves the colour


@kept
def _coloured(
    name: str, pitch: int, rate: int, low: float, high: float, slope: float
) -> tuple[Stereo, Stereo]:
    """Noise between two frequencies, dark and bright, going round; both RMS 1."""
    shift = 2 ** (COLOUR * (pitch - 60) / 12)
    hz = np.maximum(np.fft.rfftfreq(LONG, 1 / rate), 1.0).astype(np.float32)
    turn = _turns(name)
    out = []
    for share in (0.3, 1.0):
        gain = band(low * shift, low * shift + share * (high - low) * shift)(hz) * hz**-slope
        gain[0] = 0
        mid, side = sf.irfft(gain * turn, LONG)
        side *= np.float32(0.6)
        noise = np.stack([mid + side, mid - side])
        noise /= noise.std()
        out.append(noise)
    return out[0], out[1]


@kept
def _turns(name: str) -> NDArray[np.complex64]:
    drawn = stream(0, name).random((2, LONG // 2 + 1)).astype(np.float32)
    drawn *= np.float32(2 * np.pi)
    return np.cos(drawn) + np.complex64(1j) * np.sin(drawn)


def _noise(name: str, low: float, high: float, slope: float, request: ToneRequest) -> Tone:
    """Steady noise; detune parts left and right by reading the right side later."""
    start = int(stream(request.variant, name, request.pitch).integers(LONG))
    late = int(LATE_MS_PER_CENT * request.settings.number("detune_cents") * request.rate / 1e3)
    soft, hard = _coloured(name, request.pitch, request.rate, low, high, slope)
    return Tone(*(_apart(read_round(one, start, request.frames + late), late)
                  for one in (soft, hard)))  # fmt: skip


def _apart(audio: Stereo, late: int) -> Stereo:
    if late == 0:
        return audio
    return np.stack([audio[0, late:], audio[1, :-late]])


@kept
def _drops(
    name: str, pitch: int, rate: int, per_s: float, low: float, high: float, t60_ms: float
) -> tuple[Stereo, Stereo]:
    """Many small sounds a second, going round: drops, specks. Soft ones are lower and duller."""
    rng = stream(0, name)
    shift = 2 ** (COLOUR * (pitch - 60) / 12)
    soft, hard = silence(LONG), silence(LONG)
    for _ in range(int(per_s * LONG / rate)):
        at, loud = int(rng.integers(LONG)), float(min(rng.pareto(1.8) + 0.1, 4.0))
        hz = low * (high / low) ** rng.random() * shift
        frames = int(rate * t60_ms / 1e3 * rng.uniform(0.5, 1.5)) + 8
        t = np.arange(frames) / rate
        fall = np.exp(-6.9 * np.arange(frames) / frames) * np.minimum(1, t / 0.0004)
        pan = rng.uniform(0.15, 0.85)
        sides = np.array([[1 - pan], [pan]])
        wave = np.sin(2 * np.pi * hz * t + rng.uniform(0, 6)) * fall
        dull = np.sin(2 * np.pi * 0.55 * hz * t + rng.uniform(0, 6)) * fall
        add_wrapped(soft, (loud * sides * dull).astype(np.float32), at)
        add_wrapped(hard, (loud * sides * wave).astype(np.float32), at)
    return soft / soft.std(), hard / hard.std()


def _rain(request: ToneRequest) -> Tone:
    drops = request.settings.number("drops") / 100
    bed = _noise("rain bed", 900, 9000, 0.15, request)
    pair = _drops("rain", request.pitch, request.rate, 260, 1400, 7500, 9)
    start = int(stream(request.variant, "rain", request.pitch).integers(LONG))
    return _mixed(bed, pair, 1 - 0.8 * drops, drops, start, request.frames)


def _mixed(bed: Tone, pair: tuple[Stereo, Stereo], low: float, high: float, start: int, n: int
           ) -> Tone:  # fmt: skip
    soft, hard = (
        np.float32(low) * noise + np.float32(high) * read_round(one, start, n)
        for noise, one in zip(bed, pair, strict=True)
    )
    return Tone(soft, hard)


def _needle_dust(request: ToneRequest) -> Tone:
    specks = request.settings.number("specks") / 100
    bed = _noise("needle bed", 60, 4000, 0.6, request)
    pair = _drops("needle", request.pitch, request.rate, 26, 700, 5200, 4)
    start = int(stream(request.variant, "needle", request.pitch).integers(LONG))
    return _mixed(bed, pair, 0.25, 0.3 + specks, start, request.frames)


def _room_air(request: ToneRequest) -> Tone:
    tone = _noise("room air", 45, 1200, 0.7, request)
    hum = request.settings.number("hum") / 100
    if hum == 0:
        return tone
    t = np.arange(request.frames, dtype=np.float64) / request.rate
    buzz = np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 100 * t)
    added = (0.5 * hum * (buzz + 0.3 * np.sin(2 * np.pi * 150 * t))).astype(np.float32)
    return Tone(tone.soft + added, tone.hard + added)


def _breathing(request: ToneRequest) -> Tone:
    """In and out, once in so many seconds."""
    tone = _noise("breath", 500, 6500, 0.3, request)
    every = request.settings.number("every_ms") / 1e3
    at = np.arange(request.frames // 64 + 2) * 64 / request.rate / every
    turn = at - np.floor(at)
    course = np.sin(np.pi * np.clip(turn / 0.42, 0, 1)) ** 2
    course += 0.7 * np.sin(np.pi * np.clip((turn - 0.5) / 0.45, 0, 1)) ** 2
    level = curve_to_frames(0.03 + course, request.frames)
    return Tone(tone.soft * level, tone.hard * level)


def _haze(hz: Hz, f0: float, own: tuple[float, ...]) -> tuple[Hz, Hz]:
    base = f0 / hz
    return base * lowpass(hz, 300 + f0, 0.7), base**0.7 * lowpass(hz, 5000 + 2 * f0, 0.6)


def _swell(request: ToneRequest) -> Tone:
    """A tone and air that grow together, for the bar before something begins."""
    both = cycles("swell", _haze, request.pitch, request.rate,
                  max(6.0, request.settings.number("detune_cents")), ())  # fmt: skip
    start = int(stream(request.variant, "swell", request.pitch).integers(LONG))
    tone = Tone(*(read_cycle(one, start, request.frames, 0.5) for one in both))
    air = request.settings.number("air") / 100
    noise = _noise("swell air", 800, 9000, 0.2, request)
    return Tone(tone.soft + np.float32(0.3 * air) * noise.soft,
                tone.hard + np.float32(0.5 * air) * noise.hard)  # fmt: skip


def _riser(request: ToneRequest) -> Tone:
    """A band of noise that climbs five octaves, with a thin tone inside that climbs two."""
    n, rate = request.frames, request.rate
    phase = moving_phase(request, 0, 24, lambda x: x)
    rng = stream(request.variant, "riser", request.pitch)
    over = np.clip(np.arange(n) / rate * 1e3 / request.settings.number("over_ms"), 0, 1)
    place = over * (RISER_BANDS - 1)
    dark, air = silence(n), silence(n)
    for i in range(RISER_BANDS):  # each band fades in as the one below it fades out
        share = np.cos(np.clip(np.abs(place - i), 0, 1) * np.pi / 2).astype(np.float32)
        low = 280 * 2.0 ** (0.85 * i)
        noise = _noise(f"riser {i}", low, 1.7 * low, 0.0, request)
        air += noise.hard * share
        dark += noise.soft * share * np.float32(0.75**i)
    apart = 2 ** (request.settings.number("detune_cents") / 1200)
    level = np.float32(request.settings.number("tone") / 100)
    inside = level * np.stack([sine(phase + rng.random()), sine(apart * phase)])
    inside += np.float32(0.3) * level * sine(2 * phase)
    grown = (0.25 + 0.75 * over**1.5).astype(np.float32)
    return Tone((dark + inside) * grown, (air + inside) * grown)


def _sub_drop(request: ToneRequest) -> Tone:
    """A low tone that falls by two octaves."""
    phase = moving_phase(request, 0, -24, lambda x: 1 - (1 - x) ** 2)
    push = 3 + 10 * request.settings.number("drive") / 100
    rng = stream(request.variant, "sub drop", request.pitch)
    wave = np.sin(2 * np.pi * (phase + 0.02 * rng.random()))
    soft = np.stack([wave] * 2)
    away = 2 ** (request.settings.number("detune_cents") / 1200)
    apart = 0.12 * np.sin(2 * np.pi * (3 * away * phase + rng.random()))
    hard = np.tanh(push * np.stack([wave + apart, wave - apart])) / np.tanh(push)
    return Tone(soft.astype(np.float32), hard.astype(np.float32))


def _grain(name: str, gain_db: float, about: str, tags: tuple[str, ...],
           tone: Callable[[ToneRequest], Tone], *own: Field,
           attack_ms: float = 150, release_ms: float = 500, sustain: float = 100,
           noises: tuple[str, ...] = (), register: tuple[int, int] = (36, 84),
           ) -> Instrument:  # fmt: skip
    return Instrument(
        name=name, family="grain", role="grain", register=register, about=about, tags=tags,
        spec=shaped(*own, attack_ms=attack_ms, release_ms=release_ms, sustain=sustain,
                    detune_cents=0), tone=tone, noises=noises, tuned=False, gain_db=gain_db,
    )  # fmt: skip


SOUNDS = (
    _grain("rain", -24.5, "Rain on a roof; under a whole loop, low.", ("weather", "wide", "steady"),
           _rain, percent("drops", "Drops", 45)),
    _grain("room air", -22.8, "The hum of an empty room; stops silence from being digital.",
           ("dark", "steady", "wide"), _room_air, percent("hum", "Mains hum", 15)),
    _grain("needle dust", -22.9, "Specks and groove noise; behind worn keys.",
           ("dusty", "worn", "wide"), _needle_dust, percent("specks", "Specks", 55)),
    _grain("tape hiss", -27.9, "Even hiss with a soft top; glue for dry layers.",
           ("steady", "bright", "worn"), functools.partial(_noise, "tape hiss", 1500, 14_000, 0.0)),
    _grain("breath", -22.5, "Slow breathing; between phrases, close.", ("airy", "close", "moving"),
           _breathing,
           Field(name="every_ms", label="Every", default=3400, unit="ms", low=500, high=12000,
                 step=10, log=True)),
    _grain("swell", -22.6, "A tone and air that grow together; the bar before a change.",
           ("growing", "wide", "tonal"), _swell, percent("air", "Air", 40), attack_ms=1800),
    _grain("riser", -17.1, "Noise that climbs two octaves; into the first beat.",
           ("growing", "bright", "moving"), _riser, percent("tone", "Tone", 25), over(3400),
           attack_ms=200, release_ms=120),
    _grain("sub drop", -20.9, "A low tone that falls away; under the first beat.",
           ("deep", "falling", "mono"), _sub_drop, percent("drive", "Drive", 30), over(1600),
           attack_ms=4, release_ms=300, register=(36, 60)),
)  # fmt: skip
