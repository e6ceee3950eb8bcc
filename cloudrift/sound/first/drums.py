"""Drums: the groove bed. The key tunes them; nothing in them is sampled."""

import functools

import msgspec
import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.draws import stream
from cloudrift.ground.lru import kept
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.first.burst import burst
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.bank import decaying_partials

LONGEST_S = 4.0


class Skin(msgspec.Struct, frozen=True, kw_only=True):
    """A skin that falls into its pitch: Hz at C4, semitones and time of the fall, its ringing.

    ``drive`` bends it; a click of ``click`` is on its start.
    """

    hz: float
    drop_st: float
    drop_ms: float
    t60_ms: float
    level: float = 1.0
    drive: float = 0.6


class Wire(msgspec.Struct, frozen=True, kw_only=True):
    """A burst of noise: its band in Hz, how long it rings, how often it is struck."""

    low_hz: float
    high_hz: float
    t60_ms: float
    level: float = 1.0
    strikes: tuple[float, ...] = (0.0,)  # ms after the first
    rise_ms: float = 0.4
    width: float = 0.4


class Plate(msgspec.Struct, frozen=True, kw_only=True):
    """Metal: partials without a pitch between two frequencies."""

    low_hz: float
    high_hz: float
    count: int
    t60_ms: float
    level: float = 1.0


class Kit(msgspec.Struct, frozen=True, kw_only=True):
    """What one drum is made of."""

    skins: tuple[Skin, ...] = ()
    wires: tuple[Wire, ...] = ()
    plates: tuple[Plate, ...] = ()


def _tuned(request: ToneRequest) -> float:
    """The key's ratio to C4; each strike strays from it by up to the detune."""
    rng = stream(request.variant, "tuned")
    strays = rng.choice([-1, 1]) * rng.uniform(0.4, 1)
    semitones = request.pitch - 60 + request.settings.number("tune_st")
    return float(2 ** ((semitones + strays * request.settings.number("detune_cents") / 100) / 12))


def _skin(
    skin: Skin, tuned: float, frames: int, rate: int, draw: int, *, hard: bool
) -> NDArray[np.float64]:
    rng = stream(draw, "skin")  # no two blows fall on the same spot
    t = np.arange(frames) / rate
    tau = skin.drop_ms / 1e3 * rng.uniform(0.95, 1.05)
    rise = 2 ** (skin.drop_st * (1.0 if hard else 0.55) * rng.uniform(0.97, 1.03) / 12) - 1
    phase = skin.hz * rng.uniform(0.997, 1.003) * tuned * (t + rise * tau * (1 - np.exp(-t / tau)))
    wave = np.sin(2 * np.pi * phase) * np.exp(-6.908 * t / (skin.t60_ms / 1e3))
    push = skin.drive * (3.0 if hard else 0.6) + 0.05
    return np.tanh(push * wave) / np.tanh(push)


@kept
def _plates(plate: Plate, tuned: float, frames: int, rate: int, draw: int) -> Stereo:
    rng = stream(draw, "plate")
    hz = plate.low_hz * (plate.high_hz / plate.low_hz) ** rng.random(plate.count) * tuned
    decay = 6.908 / (plate.t60_ms / 1e3) * rng.uniform(0.6, 3.0, plate.count)
    phase = np.exp(2j * np.pi * rng.random((2, plate.count)) * [[1.0], [1.0]])
    phase[1] = phase[0] * np.exp(1j * rng.uniform(-0.9, 0.9, plate.count))
    return decaying_partials(hz, decay, phase / np.sqrt(plate.count), frames, rate)


def _wires(wire: Wire, tuned: float, frames: int, rate: int, draw: int) -> Stereo:
    out = np.zeros((2, frames), np.float32)
    for i, late in enumerate(wire.strikes):
        last = i == len(wire.strikes) - 1
        decay_ms = wire.t60_ms / 6.9 if last else min(6.0, wire.t60_ms / 6.9)
        at = int(late / 1e3 * rate)
        if at >= frames:
            continue
        noise = burst(
            stream(draw, "wire", i), rate=rate, seconds=min(LONGEST_S, decay_ms * 9e-3 + 0.02),
            decay_ms=decay_ms, low_hz=wire.low_hz * tuned, width=wire.width,
            high_hz=min(wire.high_hz * tuned, 0.42 * rate), rise_ms=wire.rise_ms,
        )  # fmt: skip
        count = min(noise.shape[1], frames - at)
        out[:, at : at + count] += noise[:, :count]
    return out


def _drum(kit: Kit, request: ToneRequest) -> Tone:
    """Put a drum together; softly struck it is duller, and falls from less high."""
    rate = request.rate
    frames = min(request.frames, int(LONGEST_S * rate))
    tuned = _tuned(request)
    draw = 100 * request.variant + 7
    noise = request.settings.number("noise") / 50 if kit.wires else 0.0
    ringing = request.settings.number("ring") / 50
    soft, hard = np.zeros((2, frames), np.float32), np.zeros((2, frames), np.float32)
    for skin in kit.skins:
        lasting = replace(skin, t60_ms=skin.t60_ms * ringing)
        soft += (skin.level * _skin(lasting, tuned, frames, rate, draw, hard=False)).astype(
            np.float32
        )
        hard += (skin.level * _skin(lasting, tuned, frames, rate, draw, hard=True)).astype(
            np.float32
        )
    shade = tuned**0.5  # noise follows the key by half
    for wire in kit.wires:
        bright = replace(wire, t60_ms=wire.t60_ms * ringing)
        dull = replace(bright, low_hz=0.75 * wire.low_hz,
                       high_hz=wire.low_hz + 0.35 * (wire.high_hz - wire.low_hz))  # fmt: skip
        soft += np.float32(0.6 * wire.level * noise) * _wires(dull, shade, frames, rate, draw)
        hard += np.float32(wire.level * noise) * _wires(bright, shade, frames, rate, draw)
    for plate in kit.plates:
        clear = replace(plate, t60_ms=plate.t60_ms * ringing)
        dim = replace(clear, t60_ms=0.8 * clear.t60_ms, low_hz=0.5 * plate.low_hz,
                      high_hz=0.6 * plate.high_hz)  # fmt: skip
        soft += np.float32(plate.level) * _plates(dim, shade, frames, rate, draw)
        hard += np.float32(plate.level) * _plates(clear, shade, frames, rate, draw)
    if frames < request.frames:
        pad = ((0, 0), (0, request.frames - frames))
        return Tone(np.pad(soft, pad), np.pad(hard, pad))
    return Tone(soft, hard)


def _sound(
    name: str,
    gain_db: float,
    about: str,
    tags: tuple[str, ...],
    kit: Kit,
    variants: int = 3,
    choke: str = "off",
) -> Instrument:
    noise = (percent("noise", "Noise", 50),) if kit.wires else ()
    return Instrument(
        name=name, family="drums", role="grain", register=(48, 72), about=about, tags=tags,
        spec=shaped(
            Field(name="tune_st", label="Tune", default=0, unit="st", low=-24, high=24, step=0.1),
            percent("ring", "Ring", 50, low=5), *noise,
            Field(name="choke", label="Choke", default=choke, choices=("off", "on"),
                  hint="a new stroke stops the one before it"),
            attack_ms=1, decay_ms=4000, release_ms=300, detune_cents=0),
        tone=functools.partial(_drum, kit), tuned=False,
        noises=tuple(f.name for f in noise), gain_db=gain_db, variants=variants,
    )  # fmt: skip


SOUNDS = (
    _sound("kick", -6.6, "Short, round kick for the first beat.", ("deep", "short"), Kit(
        skins=(Skin(hz=52, drop_st=26, drop_ms=16, t60_ms=380),),
        wires=(Wire(low_hz=900, high_hz=5000, t60_ms=18, level=0.12),))),
    _sound("low kick", -11.1, "Long, low kick that carries a half-time bar.", ("deep", "long"), Kit(
        skins=(Skin(hz=41, drop_st=22, drop_ms=30, t60_ms=900, drive=0.9),),
        wires=(Wire(low_hz=500, high_hz=2600, t60_ms=24, level=0.5),)), choke="on"),
    _sound("snap", -12.4, "Fingers; small and dry on two and four.", ("short", "dry", "small"), Kit(
        wires=(Wire(low_hz=1900, high_hz=2900, t60_ms=48, strikes=(0, 9), level=0.7, width=0.2),
               Wire(low_hz=600, high_hz=1400, t60_ms=30, level=0.25)),
        plates=(Plate(low_hz=1900, high_hz=2600, count=6, t60_ms=85, level=0.9),))),
    _sound("clap", -16.1, "Several hands, not quite together.", ("wide", "dry"), Kit(
        wires=(Wire(low_hz=900, high_hz=5200, t60_ms=190, strikes=(0, 10, 21, 33), width=0.7),))),
    _sound("snare", -12.5, "Skin and wires; the backbeat.", ("bright", "mid"), Kit(
        skins=(Skin(hz=185, drop_st=7, drop_ms=14, t60_ms=190, level=0.7),
               Skin(hz=330, drop_st=4, drop_ms=10, t60_ms=130, level=0.35)),
        wires=(Wire(low_hz=1400, high_hz=9000, t60_ms=230, level=0.6),))),
    _sound("rim", -9.7, "Stick across the rim; quiet off-beats.", ("short", "woody"), Kit(
        skins=(Skin(hz=420, drop_st=2, drop_ms=5, t60_ms=50, level=0.6),),
        wires=(Wire(low_hz=1600, high_hz=6500, t60_ms=22, level=0.4),),
        plates=(Plate(low_hz=1650, high_hz=1900, count=3, t60_ms=60, level=0.8),))),
    _sound("shaker", -5.5, "Seeds in a shell; sixteenths with a push.", ("bright", "soft"), Kit(
        wires=(Wire(low_hz=4200, high_hz=13_000, t60_ms=110, rise_ms=24, width=0.5),))),
    _sound("closed hat", -11.3, "Tight metal; eighths and rolls.", ("bright", "short"), Kit(
        wires=(Wire(low_hz=7000, high_hz=15_000, t60_ms=70, level=0.6),),
        plates=(Plate(low_hz=4800, high_hz=14_000, count=26, t60_ms=75, level=0.7),))),
    _sound("open hat", -12.4, "The same, left to ring.", ("bright", "long"), Kit(
        wires=(Wire(low_hz=6500, high_hz=14_000, t60_ms=480, level=0.5),),
        plates=(Plate(low_hz=4500, high_hz=14_000, count=34, t60_ms=520, level=0.7),)),
        choke="on"),
    _sound("crash", -16.5, "A wide plate for the first bar.", ("bright", "long", "wide"), Kit(
        wires=(Wire(low_hz=3000, high_hz=12_000, t60_ms=1500, rise_ms=4, level=0.8, width=0.8),),
        plates=(Plate(low_hz=900, high_hz=13_000, count=150, t60_ms=2200, level=0.5),)),
        variants=2),
    _sound("zap", -5.2, "A tone that falls in no time.", ("bright", "falling"), Kit(
        skins=(Skin(hz=110, drop_st=54, drop_ms=38, t60_ms=260, drive=0.4),))),
)  # fmt: skip
