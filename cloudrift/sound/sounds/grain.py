"""Grain: weather, rooms and machines after the notes; rises and drops between them.

The key moves the colour of a noise by half as much as it would move a pitch. Nothing here repeats:
long noises are read in stretches from drawn places, and what happens now and then is drawn second
by second.
"""

import functools
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence
from cloudrift.ground.draws import rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, over, shaped
from cloudrift.sound.kit.body import lowpass
from cloudrift.sound.kit.noise import LONG, band, wandering
from cloudrift.sound.kit.players import Section
from cloudrift.sound.kit.straying import Vibrato
from cloudrift.sound.kit.table import CONTROL, curve_to_frames, moving_phase, sine
from cloudrift.sound.sounds.pads import Pair, held

Hz = NDArray[np.float64]
LATE_MS_PER_CENT = 0.2
RISER_BANDS = 7
COLOUR = 0.5  # how much of the key's interval moves the colour
Events = Callable[[np.random.Generator, int], "list[tuple[float, Stereo, Stereo]]"]


@memoize
def _coloured(
    name: str, pitch: int, rate: int, low: float, high: float, slope: float
) -> NDArray[np.float32]:
    """Noise between two frequencies, dark and bright, (4, LONG): two sides each; both RMS 1."""
    shift = 2 ** (COLOUR * (pitch - 60) / 12)
    hz = np.maximum(np.fft.rfftfreq(LONG, 1 / rate), 1.0).astype(np.float32)
    turn = _turns(name, pitch)
    out = np.empty((4, LONG), np.float32)
    for i, share in enumerate((0.3, 1.0)):
        gain = band(low * shift, low * shift + share * (high - low) * shift)(hz) * hz**-slope
        gain[0] = 0
        mid, side = sf.irfft(gain * turn, LONG)
        side *= np.float32(0.6)
        noise = np.stack([mid + side, mid - side])
        out[2 * i : 2 * i + 2] = noise / noise.std()
    return out


@memoize
def _turns(name: str, pitch: int) -> NDArray[np.complex64]:
    drawn = rng_for(0, name, pitch).random((2, LONG // 2 + 1)).astype(np.float32)
    drawn *= np.float32(2 * np.pi)
    return np.cos(drawn) + np.complex64(1j) * np.sin(drawn)


def _read(request: ToneRequest, name: str, both: NDArray[np.float32]) -> Tone:
    """Read a dark and a bright noise; detune parts left and right by reading the right later."""
    late = int(LATE_MS_PER_CENT * request.settings.number("detune_cents") * request.rate / 1e3)
    rng = rng_for(request.variant, name, request.pitch)
    noise = wandering(both, rng, request.frames + late, request.rate)
    if late:
        noise = np.stack([noise[i, late:] if i % 2 == 0 else noise[i, :-late] for i in range(4)])
    return Tone(noise[:2], noise[2:])


def steady(name: str, low: float, high: float, slope: float, request: ToneRequest) -> Tone:
    """Play steady noise between two frequencies, falling by ``slope`` in amplitude."""
    return _read(request, name, _coloured(name, request.pitch, request.rate, low, high, slope))


@memoize
def _drops(
    name: str,
    pitch: int,
    rate: int,
    per_s: float,
    low: float,
    high: float,
    t60_ms: float,
    uneven: float,
) -> NDArray[np.float32]:
    """Many small sounds a second, (4, LONG): drops, specks. Soft ones are lower and duller.

    ``uneven`` is how much louder some are than others, as a standard deviation in nepers.
    """
    rng = rng_for(0, name, pitch)
    shift = 2 ** (COLOUR * (pitch - 60) / 12)
    out = np.zeros((4, LONG), np.float32)
    for _ in range(int(per_s * LONG / rate)):
        at, loud = int(rng.integers(LONG)), float(np.exp(uneven * rng.standard_normal()))
        hz = low * (high / low) ** rng.random() * shift
        frames = int(rate * t60_ms / 1e3 * rng.uniform(0.5, 1.5)) + 8
        t = np.arange(frames) / rate
        fall = np.exp(-6.9 * np.arange(frames) / frames) * np.minimum(1, t / 0.0004)
        pan = rng.uniform(0.15, 0.85)
        sides = min(loud, 3.0) * np.array([[1 - pan], [pan]])
        for i, ratio in enumerate((0.55, 1.0)):
            wave = np.sin(2 * np.pi * ratio * hz * t + rng.uniform(0, 6)) * fall
            add_wrapped(out[2 * i : 2 * i + 2], (sides * wave).astype(np.float32), at)
    for i in (0, 2):
        out[i : i + 2] /= out[i : i + 2].std()
    return out


def _mixed(bed: Tone, other: Tone, low: float, high: float) -> Tone:
    return Tone(
        *(np.float32(low) * a + np.float32(high) * b for a, b in zip(bed, other, strict=True))
    )


def _rain(request: ToneRequest) -> Tone:
    drops = request.settings.number("drops") / 100
    bed = steady("rain bed", 900, 9000, 0.15, request)
    drawn = _drops("rain", request.pitch, request.rate, 420, 1400, 8500, 9, 0.7)
    return _mixed(bed, _read(request, "rain", drawn), 1 - 0.8 * drops, drops)


def _needle_dust(request: ToneRequest) -> Tone:
    specks = request.settings.number("specks") / 100
    bed = steady("needle bed", 60, 4000, 0.6, request)
    drawn = _drops("needle", request.pitch, request.rate, 34, 700, 5200, 5, 0.6)
    return _mixed(bed, _read(request, "needle", drawn), 0.6, 0.06 + 0.42 * specks)


def _room_air(request: ToneRequest) -> Tone:
    tone = steady("room air", 45, 1200, 0.7, request)
    hum = request.settings.number("hum") / 100
    if hum == 0:
        return tone
    t = np.arange(request.frames, dtype=np.float64) / request.rate
    buzz = np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 100 * t)
    added = (0.5 * hum * (buzz + 0.3 * np.sin(2 * np.pi * 150 * t))).astype(np.float32)
    return Tone(tone.soft + added, tone.hard + added)


def _breathing(request: ToneRequest) -> Tone:
    """In and out, once in that many seconds."""
    tone = steady("breath", 500, 6500, 0.3, request)
    every = request.settings.number("every_ms") / 1e3
    at = np.arange(request.frames // CONTROL + 2) * CONTROL / request.rate / every
    turn = at - np.floor(at)
    course = np.sin(np.pi * np.clip(turn / 0.42, 0, 1)) ** 2
    course += 0.7 * np.sin(np.pi * np.clip((turn - 0.5) / 0.45, 0, 1)) ** 2
    return _shaped(tone, 0.03 + course, request.frames)


def _shaped(tone: Tone, course: Hz, frames: int) -> Tone:
    level = curve_to_frames(course, frames)
    return Tone(tone.soft * level, tone.hard * level)


def _haze(hz: Hz, f0: float, _own: float, colour: float) -> Pair:
    base, edge = f0 / hz, 2.0 ** (0.4 * colour)
    return base * lowpass(hz, edge * (300 + f0), 0.7), base**0.7 * lowpass(hz, edge * 5000, 0.6)


def _swell(request: ToneRequest) -> Tone:
    """A tone and air that grow together, for the bar before something begins."""
    section = Section(breathe_db=3, least_cents=9, sway=Vibrato(drift_cents=4))
    tone = held("swell", _haze, "", section, request)
    air = request.settings.number("air") / 100
    noise = steady("swell air", 800, 9000, 0.2, request)
    return Tone(
        tone.soft + np.float32(0.3 * air) * noise.soft,
        tone.hard + np.float32(0.5 * air) * noise.hard,
    )


def _riser(request: ToneRequest) -> Tone:
    """A band of noise that climbs five octaves, with a thin tone inside that climbs two."""
    n, rate = request.frames, request.rate
    phase = moving_phase(request, 0, 24, lambda x: x)
    rng = rng_for(request.variant, "riser", request.pitch)
    over = np.clip(np.arange(n) / rate * 1e3 / request.settings.number("over_ms"), 0, 1)
    place = over * (RISER_BANDS - 1)
    dark, air = silence(n), silence(n)
    for i in range(RISER_BANDS):  # each band fades in as the one below it fades out
        share = np.cos(np.clip(np.abs(place - i), 0, 1) * np.pi / 2).astype(np.float32)
        low = 280 * 2.0 ** (0.85 * i)
        noise = steady(f"riser {i}", low, 1.7 * low, 0.0, request)
        air += noise.hard * share
        dark += noise.soft * share * np.float32(0.75**i)
    apart = 2 ** (request.settings.number("detune_cents") / 2400)
    level, begins = np.float32(request.settings.number("tone") / 100), rng.random()
    inside = level * np.stack([sine(apart * phase + begins), sine(phase / apart + begins)])
    inside += np.float32(0.3) * level * sine(2 * phase)
    grown = (0.25 + 0.75 * over**1.5).astype(np.float32)
    return Tone((dark + inside) * grown, (air + inside) * grown)


def _sub_drop(request: ToneRequest) -> Tone:
    """A low tone that falls by two octaves; what it is driven to is a little to both sides."""
    phase = moving_phase(request, 0, -24, lambda x: 1 - (1 - x) ** 2)
    push = 3 + 10 * request.settings.number("drive") / 100
    rng = rng_for(request.variant, "sub drop", request.pitch)
    wave = np.sin(2 * np.pi * (phase + 0.02 * rng.random()))
    soft = np.stack([wave] * 2)
    away = 2 ** (request.settings.number("detune_cents") / 1200)
    apart = 0.04 * np.sin(2 * np.pi * (3 * away * phase + rng.random()))
    hard = np.tanh(push * np.stack([wave + apart, wave - apart])) / np.tanh(push)
    return Tone(soft.astype(np.float32), hard.astype(np.float32))


# --- what happens now and then --------------------------------------------------------------------


def now_and_then(request: ToneRequest, name: str, events: Events) -> Tone:
    """Lay what happens second by second: (when in that second, softly, hard), panned already."""
    rate, n = request.rate, request.frames
    soft, hard = silence(n), silence(n)
    for second in range(-(-n // rate)):
        rng = rng_for(request.variant, name, request.pitch, second)
        for when, dull, bright in events(rng, rate):
            at = int((second + when) * rate)
            count = min(dull.shape[1], n - at)
            if count > 0:
                soft[:, at : at + count] += dull[:, :count]
                hard[:, at : at + count] += bright[:, :count]
    return Tone(soft, hard)


def _panned(mono: Mono, pan: float) -> Stereo:
    return np.stack([np.float32(1 - pan) * mono, np.float32(pan) * mono])


def _call(
    rng: np.random.Generator, rate: int, shift: float
) -> "list[tuple[float, Stereo, Stereo]]":
    """One bird's phrase: some notes of one shape, near or far."""
    notes, long_s = int(rng.integers(1, 6)), rng.uniform(0.05, 0.16)
    base, bend = shift * rng.uniform(2200, 4800), rng.uniform(-0.5, 0.6)
    trill, far, pan = rng.uniform(0, 0.08), rng.uniform(0.15, 1.0) ** 1.5, rng.uniform(0.1, 0.9)
    out = []
    when = float(rng.random())
    for _ in range(notes):
        t = np.arange(int(long_s * rng.uniform(0.8, 1.2) * rate)) / rate
        x = t / t[-1]
        away = bend * (x - 0.3) ** 2 + trill * np.sin(2 * np.pi * 38 * t)
        wave = np.sin(2 * np.pi * np.cumsum(base * 2**away) / rate)
        wave = (far * wave * np.sin(np.pi * x) ** 2).astype(np.float32)
        upper = 0.5 * far * np.sin(4 * np.pi * np.cumsum(base * 2**away) / rate)
        bright = wave + (upper * np.sin(np.pi * x) ** 2).astype(np.float32)
        out.append((when, _panned(np.float32(0.6) * wave, pan), _panned(bright, pan)))
        when += long_s * rng.uniform(1.4, 2.4)
    return out


def _birds(request: ToneRequest) -> Tone:
    often = request.settings.number("often") / 50
    shift = 2 ** (COLOUR * (request.pitch - 60) / 12)

    def calls(rng: np.random.Generator, rate: int) -> "list[tuple[float, Stereo, Stereo]]":
        return [note for _ in range(rng.poisson(2.2 * often)) for note in _call(rng, rate, shift)]

    bed = steady("leaves", 500, 7000, 0.5, request)
    return _mixed(bed, now_and_then(request, "birds", calls), 0.04, 1.0)


def _waves(request: ToneRequest, name: str, every_s: float, seed: int) -> Hz:
    """A slow course from 0 to 1 that comes and goes, never quite alike: at points CONTROL apart."""
    rng = rng_for(request.variant, name, request.pitch, seed)
    t = np.arange(request.frames // CONTROL + 2) * CONTROL / request.rate
    turn = t / every_s + rng.random()
    for hz, share in ((0.031, 0.5), (0.083, 0.3)):
        turn = turn + share * np.sin(2 * np.pi * (hz * rng.uniform(0.8, 1.2) * t + rng.random()))
    return np.asarray((0.5 - 0.5 * np.cos(2 * np.pi * turn)) ** 2)


def _sea(request: ToneRequest) -> Tone:
    """Waves that come in: a low roar, and foam that follows it."""
    every = request.settings.number("every_ms") / 1e3
    roar = steady("sea", 60, 900, 0.5, request)
    foam = steady("foam", 900, 9500, 0.3, request)
    first, second = (_waves(request, "sea", every * (1 + 0.31 * i), i) for i in range(2))
    low = _shaped(roar, 0.35 + 0.6 * first + 0.3 * second, request.frames)
    late = np.concatenate([np.full(40, 0.0), first])[: len(first)]  # foam comes as it breaks
    high = _shaped(foam, 0.04 + 0.6 * late * first + 0.2 * second, request.frames)
    return _mixed(low, high, 0.8, 0.6)


def _fire(request: ToneRequest) -> Tone:
    """A low flutter, and wood that cracks."""
    cracks = request.settings.number("cracks") / 50
    flame = steady("fire", 50, 700, 0.6, request)
    rng = rng_for(request.variant, "flutter", request.pitch)
    t = np.arange(request.frames // CONTROL + 2) * CONTROL / request.rate
    flutter = np.ones(len(t))
    for hz in (0.7, 2.3, 5.1, 8.7):
        flutter += 0.22 * np.sin(2 * np.pi * (hz * rng.uniform(0.8, 1.2) * t + rng.random()))
    small = _drops("embers", request.pitch, request.rate, 22, 900, 6500, 7, 0.9)

    def snaps(rng: np.random.Generator, rate: int) -> "list[tuple[float, Stereo, Stereo]]":
        out = []
        for _ in range(rng.poisson(2.2 * cracks)):
            ms = rng.uniform(2, 9)
            t = np.arange(int(8e-3 * ms * rate)) / rate
            noise = rng.standard_normal(len(t)) * np.exp(-t / (ms * 1e-3)) * (1 - np.exp(-t / 2e-4))
            dull = np.convolve(noise, np.hanning(24) / 12, "same")
            loud, pan = rng.uniform(0.3, 1.0), rng.uniform(0.25, 0.75)
            out.append(
                (
                    float(rng.random()),
                    _panned((loud * dull).astype(np.float32), pan),
                    _panned((loud * 0.8 * noise).astype(np.float32), pan),
                )
            )
        return out

    crackle = now_and_then(request, "snaps", snaps)
    embers = _read(request, "embers", small)
    bed = _mixed(_shaped(flame, flutter, request.frames), embers, 0.8, 0.28 * min(1, cracks))
    return _mixed(bed, crackle, 1.0, 1.1)


def _street(request: ToneRequest) -> Tone:
    """A town some way off: a low hum of it, and cars that pass."""
    traffic = request.settings.number("traffic") / 50
    town = steady("town", 40, 500, 0.8, request)
    out = Tone(0.9 * town.soft, 0.9 * town.hard)
    for i in range(3):
        near = _waves(request, "street", 4.3 + 2.9 * i, i) ** 2
        level = curve_to_frames(0.05 + traffic * near, request.frames)
        pan = curve_to_frames(_waves(request, "street pan", 9.1 + i, i), request.frames)
        sides = np.stack([1 - 0.7 * pan, 0.3 + 0.7 * pan]) * level * np.float32(0.5)
        road = steady(f"road {i}", 120, 2600, 0.6, request)
        out = Tone(out.soft + sides * road.soft, out.hard + sides * road.hard)
    return out


def _every(ms: float) -> Field:
    return Field(
        name="every_ms",
        label="Every",
        default=ms,
        unit="ms",
        low=500,
        high=12000,
        step=10,
        log=True,
    )


def _grain(
    name: str,
    gain_db: float,
    about: str,
    tags: tuple[str, ...],
    tone: Callable[[ToneRequest], Tone],
    *own: Field,
    version: int = 2,
    attack_ms: float = 150,
    release_ms: float = 500,
    sustain: float = 100,
    noises: tuple[str, ...] = (),
    register: tuple[int, int] = (36, 84),
) -> Instrument:
    return Instrument(
        name=name,
        family="grain",
        role="grain",
        register=register,
        about=about,
        tags=tags,
        spec=shaped(
            *own, attack_ms=attack_ms, release_ms=release_ms, sustain=sustain, detune_cents=0
        ),
        tone=tone,
        noises=noises,
        tuned=False,
        gain_db=gain_db,
        version=version,
    )


SOUNDS = (
    _grain("rain", -24.5, "Rain on a roof; quiet, under a whole "
                          "loop.", ("weather", "wide", "steady"),
           _rain, percent("drops", "Drops", 45)),
    _grain("room air", -22.8, "The hum of an empty room; stops silence from being digital.",
           ("dark", "steady", "wide"), _room_air, percent("hum", "Mains hum", 15)),
    _grain("needle dust", -20.6, "Specks and groove noise; under worn keys.",
           ("dusty", "worn", "wide"), _needle_dust, percent("specks", "Specks", 55)),
    _grain("tape hiss", -27.9, "Even hiss with a soft top; glue for dry layers.",
           ("steady", "bright", "worn"), functools.partial(steady, "tape hiss", 1500, 14_000, 0.0)),
    _grain("breath", -22.5, "Slow breathing; between phrases, close.", ("airy", "close", "moving"),
           _breathing, _every(3400)),
    _grain("swell", -23.6, "A tone and air that grow together; the bar before a change.",
           ("growing", "wide", "tonal"), _swell, percent("air", "Air", 40), attack_ms=1800),
    _grain("riser", -17.1, "Noise that climbs two octaves; into the first beat.",
           ("growing", "bright", "moving"), _riser, percent("tone", "Tone", 25), over(3400),
           attack_ms=200, release_ms=120),
    _grain("sub drop", -20.9, "A low tone that falls away; under the first beat.",
           ("deep", "falling", "mono"), _sub_drop, percent("drive", "Drive", 30), over(1600),
           attack_ms=4, release_ms=300, register=(36, 60)),
    _grain("birds", -6.5, "Birds in leaves, near and far; mornings under soft keys.",
           ("weather", "bright", "wide"), _birds, percent("often", "How often", 50), version=1),
    _grain("sea", -17.0, "Waves that come and go; long, slow loops by the shore.",
           ("weather", "wide", "moving"), _sea, _every(6500), version=1),
    _grain("fire", -22.1, "A small fire; close, warm, it cracks now and then.",
           ("warm", "close", "moving"), _fire, percent("cracks", "Cracks", 50), version=1),
    _grain("street", -21.5, "A town at night, some way off; through a window.",
           ("dark", "wide", "moving"), _street, percent("traffic", "Traffic", 50), version=1),
)  # fmt: skip
