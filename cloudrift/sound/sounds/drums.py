"""Drums: the groove bed. The key tunes them; nothing in them is sampled."""

import functools

import msgspec
import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, raised_cosine
from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.draws import number, rng_for
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, percent
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.sound.kit.bank import decaying_partials
from cloudrift.sound.kit.noise import band, lasting, read_round
from cloudrift.sound.kit.table import sine

LONGEST_S = 6.0
STRIKES = 5
CIRCLE = (1.0, 1.59, 2.14, 2.30, 2.65, 2.92, 3.16, 3.5)  # modes of a round skin


class Skin(msgspec.Struct, frozen=True, kw_only=True):
    """A skin that falls into its pitch.

    Parameters
    ----------
    hz : of its lowest mode at C4.
    drop_st, drop_ms : how far and how quickly it falls into that when it is struck hard; half as
        far softly.
    t60_ms : how long the lowest mode rings; the others ring less, the higher the less.
    modes : level of each mode of a round skin in dB, softly and hard; one for a plain drum.
    drive : how much a hard blow bends it.
    """

    hz: float
    t60_ms: float
    drop_st: float = 2.0
    drop_ms: float = 12.0
    level: float = 1.0
    modes: tuple[tuple[float, float], ...] = ((0.0, 0.0),)
    drive: float = 0.0


class Wire(msgspec.Struct, frozen=True, kw_only=True):
    """Wires, seeds, hands: a band of noise, softly and hard; how it rises and how often it is hit.

    ``soft_db`` is how much weaker a soft blow moves it; ``grains`` is how many seeds a second hit
    the shell (0: a smooth noise).
    """

    low_hz: float
    high_hz: float
    t60_ms: float
    level: float = 1.0
    strikes: tuple[float, ...] = (0.0,)  # ms after the first
    rise_ms: float = 0.4
    width: float = 0.4
    soft_db: float = -5.0
    dull: float = 0.45  # of the upper edge that is left of a soft blow
    grains: float = 0.0


class Plate(msgspec.Struct, frozen=True, kw_only=True):
    """Metal: one plate whose modes stand evenly in Hz; every blow meets the same ones.

    Energy begins low and moves up: a mode at the top is loudest ``climb_ms`` after the blow, and
    the more of it there is, the harder it was. ``t60_ms`` is at ``low_hz`` and at ``high_hz``.
    """

    name: str
    count: int = 320
    low_hz: float = 250
    high_hz: float = 14_000
    t60_ms: tuple[float, float] = (900, 300)
    begin_hz: float = 1200  # most of the energy of a blow, at first
    climb_ms: float = 40
    soft_db: float = -6.0  # an octave above that, softly; hard ones hold to hard_db
    hard_db: float = -1.0
    level: float = 1.0
    width: float = 0.8


class Kit(msgspec.Struct, frozen=True, kw_only=True):
    """What one drum is made of. ``click`` is how loud the beater is, and up to where, hard."""

    skins: tuple[Skin, ...] = ()
    wires: tuple[Wire, ...] = ()
    plates: tuple[Plate, ...] = ()
    click: tuple[float, float] = (0.0, 5000.0)


def _tuned(request: ToneRequest) -> float:
    """The key's ratio to C4; each strike strays from it by up to the detune."""
    rng = rng_for(request.variant, "tuned")
    strays = rng.choice([-1, 1]) * rng.uniform(0.4, 1)
    semitones = request.pitch - 60 + request.settings.number("tune_st")
    return float(2 ** ((semitones + strays * request.settings.number("detune_cents") / 100) / 12))


def _skin(
    skin: Skin, tuned: float, frames: int, rate: int, variation: int, ring: float, share: float
) -> NDArray[np.float32]:
    """A skin struck once; no two blows fall on the same spot, so its modes differ in level."""
    rng = rng_for(variation, "skin", round(skin.hz))
    tau = skin.drop_ms / 1e3 * rng.uniform(0.95, 1.05)
    rise = 2 ** (skin.drop_st * (0.5 + 0.5 * share) * rng.uniform(0.97, 1.03) / 12) - 1
    lasts = int(1.3 * skin.t60_ms / 1e3 * ring * rate) + 64
    t = np.arange(lasts, dtype=np.float64) / rate
    base = skin.hz * rng.uniform(0.998, 1.002) * tuned * (t + rise * tau * (1 - np.exp(-t / tau)))
    out = np.zeros(lasts, np.float32)
    for i, (levels, ratio) in enumerate(zip(skin.modes, CIRCLE, strict=False)):
        db = levels[0] + share * (levels[1] - levels[0]) + (rng.uniform(-1.2, 1.2) if i else 0.0)
        t60 = skin.t60_ms / 1e3 * ring / (1 + 0.9 * i)
        n = min(lasts, int(1.3 * t60 * rate) + 64)
        fall = np.exp(np.arange(n, dtype=np.float32) * np.float32(-6.908 / (t60 * rate)))
        fall[-n // 8 :] *= np.linspace(1, 0, len(fall[-n // 8 :]), dtype=np.float32)
        out[:n] += np.float32(10 ** (db / 20)) * sine(base[:n] * ratio) * fall
    out /= max(sum(10 ** (hard / 20) for _, hard in skin.modes) * 0.8, 1.0)
    push = skin.drive * (0.6 + 2.4 * share) + 0.05
    out = np.tanh(np.float32(push) * out) * np.float32(skin.level / np.tanh(push))
    return np.pad(out, (0, max(0, frames - lasts)))[:frames]


@memoize
def _plate(
    plate: Plate, tuned: float, frames: int, rate: int, variation: int, ring: float
) -> tuple[Stereo, Stereo]:
    """A plate struck softly and hard at one spot, RMS 1 over the first 50 ms of the hard one."""
    made = rng_for(0, "plate", plate.name)  # the same for every blow
    edges = np.linspace(plate.low_hz, plate.high_hz, plate.count + 1)
    hz = (edges[:-1] + np.diff(edges) * made.uniform(0, 1, plate.count)) * tuned
    share = np.clip(np.log(hz / plate.low_hz) / np.log(plate.high_hz / plate.low_hz), 0, 1)
    low, high = plate.t60_ms
    t60 = (
        ring * low * (high / low) ** share / 1e3 * np.exp(0.35 * made.standard_normal(plate.count))
    )
    own = np.exp(0.5 * made.standard_normal(plate.count))
    spot = rng_for(variation, "spot", plate.name)
    turn = np.exp(2j * np.pi * made.random(plate.count)) * spot.choice([-1, 1], plate.count)
    own = own * np.exp(0.35 * spot.standard_normal(plate.count))
    apart = np.exp(1j * plate.width * made.uniform(-1, 1, plate.count))
    octaves = np.maximum(0, np.log2(hz / plate.begin_hz))
    under = np.minimum(0, np.log2(hz / plate.begin_hz))
    # What comes up later: a mode's level less what it has not been given yet.
    climb = np.maximum(2e-3, plate.climb_ms / 1e3 * (0.25 + 0.3 * octaves))
    late = np.clip(0.35 * octaves, 0, 0.92)
    levels = [
        own * 10 ** ((db * octaves + 4 * under) / 20) for db in (plate.soft_db, plate.hard_db)
    ]
    sides = np.stack([turn * apart, turn / apart])
    amplitude = np.concatenate([sides * level for level in levels])
    decay = 6.908 / t60
    audio = decaying_partials(
        np.concatenate([hz, hz]),
        np.concatenate([decay, decay + 1 / climb]),
        np.concatenate([amplitude, -late * amplitude], axis=1),
        frames,
        rate,
        floor=2e-5,
    )
    size = np.float32(1 / max(float(audio[2:, : rate // 20].std()), 1e-9))
    audio *= size
    rise = int(3e-4 * rate)
    audio[:, :rise] *= raised_cosine(rise)
    return audio[:2], audio[2:]


@memoize
def _seeds(name: str, rate: int, per_s: float) -> NDArray[np.float32]:
    """Grains of some milliseconds, each of its own weight: an envelope that goes round."""
    rng = rng_for(0, "seeds", name)
    n = 1 << 17
    hits = np.zeros(n)
    places = rng.integers(0, n, int(per_s * n / rate))
    np.add.at(hits, places, rng.uniform(0.3, 1.5, len(places)))
    fall = np.exp(-np.arange(int(0.006 * rate)) / (0.0016 * rate))
    smooth = np.convolve(np.concatenate([hits, hits[: len(fall)]]), fall)[len(fall) :][:n]
    return np.asarray(smooth / np.sqrt((smooth**2).mean()), np.float32)


def _wires(
    wire: Wire,
    name: str,
    tuned: float,
    request: ToneRequest,
    frames: int,
    ring: float,
    *,
    hard: bool,
) -> Stereo:
    rate = request.rate
    high = wire.high_hz if hard else wire.low_hz + wire.dull * (wire.high_hz - wire.low_hz)
    low = wire.low_hz * (1.0 if hard else 0.8)
    shape = band(round(low * tuned), round(min(high * tuned, 0.42 * rate)), 6.0)
    noise = lasting(f"wire {wire.width}", rate, shape, wire.width)
    out = np.zeros((2, frames), np.float32)
    for i, late in enumerate(wire.strikes):
        last = i == len(wire.strikes) - 1
        strays = number(1000, request.variant, name, "late", i) / 1000 - 0.5
        at = int((late * (1 + 0.3 * strays) if i else 0.0) / 1e3 * rate)
        if at >= frames:
            continue
        tau = wire.t60_ms * ring / 6908 if last else min(6e-3, wire.t60_ms * ring / 6908)
        count = int((9 * tau + 2e-3 * wire.rise_ms) * rate) + 16
        t = np.arange(count, dtype=np.float32)
        envelope = np.exp(t * np.float32(-1 / (tau * rate)))
        rise = max(2, min(int(wire.rise_ms * 1e-3 * rate), count))
        envelope[:rise] *= raised_cosine(rise)
        fall = count // 4
        envelope[-fall:] *= raised_cosine(fall)[::-1]
        start = number(noise.shape[1], request.variant, name, "wire", i, request.pitch)
        if wire.grains:
            seeds = _seeds(name, rate, wire.grains)
            shell = np.float32(0.4) * slice_wrapped(seeds, start, count)
            envelope = envelope * (np.float32(0.6) + shell)
        gain = np.float32(1 + 0.2 * strays)
        heard = min(count, frames - at)
        out[:, at : at + heard] += gain * envelope[:heard] * read_round(noise, start, heard)
    return out


def drum(kit: Kit, name: str, request: ToneRequest) -> Tone:
    """Put a drum together; softly struck it is duller, and falls from less high."""
    rate, settings = request.rate, request.settings
    frames = min(request.frames, int(LONGEST_S * rate))
    tuned = _tuned(request)
    variation = request.variant
    noise = settings.number("noise") / 50 if kit.wires else 0.0
    ring = settings.number("ring") / 50
    soft, hard = np.zeros((2, frames), np.float32), np.zeros((2, frames), np.float32)
    shade = tuned**0.5  # noise follows the key by half
    for wire in kit.wires:
        much = np.float32(wire.level * noise)
        weak = np.float32(10 ** (wire.soft_db / 20))
        soft += much * weak * _wires(wire, name, shade, request, frames, ring, hard=False)
        hard += much * _wires(wire, name, shade, request, frames, ring, hard=True)
    for plate in kit.plates:
        dim, clear = _plate(plate, shade, frames, rate, variation, ring)
        soft += np.float32(plate.level) * dim
        hard += np.float32(plate.level) * clear
    if kit.click[0] and noise:
        beater = Wire(low_hz=900, high_hz=kit.click[1], t60_ms=16, rise_ms=0.25, width=0.1)
        click = np.float32(kit.click[0] * noise)
        soft += (
            np.float32(0.25)
            * click
            * _wires(beater, f"{name} beater", 1.0, request, frames, 1.0, hard=False)
        )
        hard += click * _wires(beater, f"{name} beater", 1.0, request, frames, 1.0, hard=True)
    # Noise and metal go between soft and hard; a skin is struck as hard as it is.
    whole = soft + np.float32(request.share) * (hard - soft)
    for skin in kit.skins:
        whole += _skin(skin, tuned, frames, rate, variation, ring, request.share)
    whole = np.pad(whole, ((0, 0), (0, request.frames - frames)))
    return Tone(whole, whole)


def _sound(
    name: str,
    gain_db: float,
    about: str,
    tags: tuple[str, ...],
    kit: Kit,
    choke: str = "off",
    version: int = 2,
) -> Instrument:
    noise = (percent("noise", "Noise", 50),) if kit.wires else ()
    return Instrument(
        name=name,
        family="drums",
        role="grain",
        register=(48, 72),
        about=about,
        tags=tags,
        spec=shaped(
            Field(name="tune_st", label="Tune", default=0, unit="st", low=-24, high=24, step=0.1),
            percent("ring", "Ring", 50, low=5),
            *noise,
            Field(
                name="choke",
                label="Choke",
                default=choke,
                choices=("off", "on"),
                hint="a new hit stops the one before it",
            ),
            attack_ms=1,
            decay_ms=4000,
            release_ms=300,
            detune_cents=0,
        ),
        tone=functools.partial(drum, kit, name),
        tuned=False,
        version=version,
        noises=tuple(f.name for f in noise),
        gain_db=gain_db,
        variants=STRIKES,
        follows=True,
    )


HAT = Plate(
    name="hat",
    count=300,
    low_hz=320,
    high_hz=15_500,
    t60_ms=(230, 150),
    begin_hz=3200,
    climb_ms=6,
    soft_db=-5.0,
    hard_db=0.3,
)
OPEN = msgspec.structs.replace(HAT, t60_ms=(2600, 1700), climb_ms=25)
CRASH = Plate(
    name="crash",
    count=400,
    low_hz=260,
    high_hz=15_000,
    t60_ms=(5200, 2300),
    begin_hz=1100,
    climb_ms=70,
    soft_db=-6,
    hard_db=-0.8,
)

RIDE = Plate(
    name="ride",
    count=380,
    low_hz=300,
    high_hz=14_500,
    t60_ms=(4200, 2200),
    begin_hz=3200,
    climb_ms=14,
    soft_db=-6,
    hard_db=-0.6,
    width=0.6,
)
JINGLES = Plate(
    name="jingles",
    count=110,
    low_hz=3600,
    high_hz=15_000,
    t60_ms=(330, 190),
    begin_hz=5000,
    climb_ms=5,
    soft_db=-9,
    hard_db=1.0,
    width=0.9,
)
DRY_SKIN = ((0, 0), (-9, -5), (-16, -10), (-18, -12), (-24, -17))

SOUNDS = (
    _sound("kick", -10.4, "Short, round kick for the first beat.", ("deep", "short"), Kit(
        skins=(Skin(hz=52, drop_st=26, drop_ms=16, t60_ms=380, drive=0.6),),
        wires=(Wire(low_hz=500, high_hz=2600, t60_ms=40, level=0.05, soft_db=-9),),
        click=(0.5, 8000))),
    _sound("low kick", -12.3, "Long, low kick that carries a half-time bar.", ("deep", "long"), Kit(
        skins=(Skin(hz=41, drop_st=22, drop_ms=30, t60_ms=900, drive=0.9),),
        wires=(Wire(low_hz=400, high_hz=2200, t60_ms=50, level=0.08, soft_db=-9),),
        click=(0.6, 7000)), choke="on"),
    _sound("snap", -16.9, "Fingers; small and dry on two and four.", ("short", "dry", "small"), Kit(
        wires=(Wire(low_hz=1500, high_hz=3600, t60_ms=62, strikes=(0, 7), level=1.0, width=0.2,
                    dull=0.1),
               Wire(low_hz=500, high_hz=1300, t60_ms=34, level=0.3),
               Wire(low_hz=4000, high_hz=9000, t60_ms=30, level=0.25, soft_db=-12)),
        plates=(Plate(name="palm", count=14, low_hz=1500, high_hz=3200, t60_ms=(60, 45),
                      begin_hz=1800, climb_ms=2, level=0.3, soft_db=-16, hard_db=1),))),
    _sound("clap", -16.9, "Several hands, not quite together.", ("wide", "dry"), Kit(
        wires=(Wire(low_hz=850, high_hz=4200, t60_ms=200, strikes=(0, 9, 19, 27, 36), width=0.7),
               Wire(low_hz=3500, high_hz=10_500, t60_ms=90, strikes=(0, 12, 24, 36), level=0.35,
                    width=0.9, soft_db=-12)))),
    _sound("snare", -8.0, "Skin and wires; the backbeat.", ("bright", "mid"), Kit(
        skins=(Skin(hz=183, drop_st=3, drop_ms=14, t60_ms=260, level=0.8, drive=0.15,
                    modes=((0, 0), (-6, -3), (-12, -7), (-15, -9), (-22, -14), (-28, -17))),),
        wires=(Wire(low_hz=1100, high_hz=10_500, t60_ms=260, level=0.36, rise_ms=1.5, soft_db=-9,
                    dull=0.3),),
        click=(0.35, 9000))),
    _sound("rim", -20.7, "Stick across the rim; quiet off-beats.", ("short", "woody"), Kit(
        skins=(Skin(hz=420, t60_ms=60, level=0.4,
                    modes=((0, 0), (-6, -2), (-12, -4), (-16, -7))),),
        plates=(Plate(name="hoop", count=26, low_hz=900, high_hz=7000, t60_ms=(70, 34),
                      begin_hz=1500, climb_ms=2, soft_db=-11, hard_db=-2, level=0.7),),
        wires=(Wire(low_hz=1600, high_hz=8000, t60_ms=16, level=0.25),))),
    _sound("shaker", -5.3, "Seeds in a shell; sixteenths with a push.", ("bright", "soft"), Kit(
        wires=(Wire(low_hz=3800, high_hz=13_500, t60_ms=120, rise_ms=26, width=0.5, grains=8000),
               Wire(low_hz=5000, high_hz=15_000, t60_ms=60, rise_ms=9, level=0.5, width=0.6,
                    strikes=(0, 62), grains=9000, soft_db=-10)))),
    _sound("closed hat", -20.2, "Tight metal; eighths and rolls.", ("bright", "short"), Kit(
        wires=(Wire(low_hz=6000, high_hz=15_000, t60_ms=36, level=0.35, soft_db=-9),),
        plates=(HAT,))),
    _sound("open hat", -17.4, "The same, left to ring.", ("bright", "long"), Kit(
        wires=(Wire(low_hz=6000, high_hz=15_000, t60_ms=160, level=0.3, rise_ms=2, soft_db=-9),),
        plates=(OPEN,)), choke="on"),
    _sound("crash", -19.1, "A wide plate for the first bar.", ("bright", "long", "wide"), Kit(
        wires=(Wire(low_hz=3000, high_hz=13_000, t60_ms=500, rise_ms=12, level=0.25, width=0.8,
                    soft_db=-9),),
        plates=(CRASH,))),
    _sound("zap", -6.3, "A tone that falls at once; accents and "
                        "glitches.", ("bright", "falling"), Kit(
        skins=(Skin(hz=110, drop_st=54, drop_ms=38, t60_ms=260, drive=0.4),))),
    _sound("dry kick", -9.5, "Tight kick with a knock; under busy loops.", ("short", "dry"), Kit(
        skins=(Skin(hz=61, drop_st=17, drop_ms=9, t60_ms=190, drive=0.35,
                    modes=((0, 0), (-16, -11), (-22, -16))),),
        wires=(Wire(low_hz=300, high_hz=1800, t60_ms=34, level=0.12, soft_db=-8),),
        click=(0.5, 8500)), version=1),
    _sound("tight snare", -10.3, "High, dry snare; fast backbeats and ghosts.",
           ("dry", "bright"), Kit(
        skins=(Skin(hz=236, drop_st=3, drop_ms=9, t60_ms=140, level=0.8, drive=0.2,
                    modes=DRY_SKIN),),
        wires=(Wire(low_hz=1800, high_hz=12_000, t60_ms=130, level=0.42, rise_ms=1, soft_db=-9,
                    dull=0.3),),
        click=(0.4, 10_000)), version=1),
    _sound("brushed snare", -5.1, "Wires swept over the skin; late, soft backbeats.",
           ("soft", "dry"), Kit(
        skins=(Skin(hz=176, drop_st=1, drop_ms=14, t60_ms=170, level=0.25, modes=DRY_SKIN),),
        wires=(Wire(low_hz=900, high_hz=8500, t60_ms=210, level=0.7, rise_ms=34, width=0.6,
                    grains=7000, dull=0.35),
               Wire(low_hz=1500, high_hz=9500, t60_ms=60, level=0.4, rise_ms=3, soft_db=-10),)),
        version=1),
    _sound("small clap", -15.3, "Two hands, close and dry.", ("short", "dry"), Kit(
        wires=(Wire(low_hz=1100, high_hz=4800, t60_ms=75, strikes=(0, 6, 11), width=0.3, dull=0.3),
               Wire(low_hz=4000, high_hz=11_000, t60_ms=38, strikes=(0, 8), level=0.3, width=0.5,
                    soft_db=-12))), version=1),
    _sound("tom", -8.3, "Tuned drum; fills and slow, rolling bars.", ("round", "deep"), Kit(
        skins=(Skin(hz=104, drop_st=3.5, drop_ms=40, t60_ms=620, drive=0.15,
                    modes=((0, 0), (-12, -4), (-20, -8), (-20, -10), (-26, -13))),),
        wires=(Wire(low_hz=250, high_hz=1600, t60_ms=45, level=0.1),), click=(0.22, 5000)),
        version=1),
    _sound("conga", -9.0, "Open hand on a tall drum; off-beats that sing.", ("round", "woody"), Kit(
        skins=(Skin(hz=208, drop_st=1.5, drop_ms=18, t60_ms=300, drive=0.1,
                    modes=((0, 0), (-9, -4), (-15, -8), (-18, -10), (-22, -13))),),
        wires=(Wire(low_hz=700, high_hz=4200, t60_ms=28, level=0.28, soft_db=-8, dull=0.3),)),
        version=1),
    _sound("woodblock", -4.1, "A hollow block; small marks between the beats.", ("short", "woody"),
           Kit(
        skins=(Skin(hz=860, drop_st=0.3, drop_ms=6, t60_ms=95,
                    modes=((0, 0), (-18, -1), (-26, -4), (-28, -5), (-32, -7))),),
        wires=(Wire(low_hz=1200, high_hz=6000, t60_ms=14, level=0.2, soft_db=-9),)), version=1),
    _sound("tambourine", -19.3, "Jingles in a hoop; sixteenths that sparkle.",
           ("bright", "metallic"),
           Kit(wires=(Wire(low_hz=2500, high_hz=12_000, t60_ms=46, level=0.3, strikes=(0, 24),
                           soft_db=-9),),
               plates=(JINGLES,)), version=1),
    _sound("ride", -16.9, "A large plate with a stick; keeps time in slow bars.",
           ("long", "metallic"),
           Kit(wires=(Wire(low_hz=2600, high_hz=9500, t60_ms=20, level=0.5, soft_db=-8),),
               plates=(RIDE,)), version=1),
)  # fmt: skip
