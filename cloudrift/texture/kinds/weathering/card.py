"""The weathering card: speed, tape, record, sampler and radio in the order a sound meets them."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import AFTER, Spectrum, filter_circular, read_displaced, read_stretch
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.curves import band_edge, saturate
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds.tone import bell
from cloudrift.texture.kinds.weathering.noises import NOISES, dropouts
from cloudrift.texture.kinds.weathering.sampler import (
    FILTERED,
    FULL_RATE_HZ,
    MOST_BITS,
    RAW,
    hold,
    quantised,
)
from cloudrift.texture.kinds.weathering.speed import PARTS, strayed, strays_most
from cloudrift.texture.picture import Portrait, straying
from cloudrift.texture.process import Near

OFF_DB = -80.0  # a noise at this level is off
# Frames that filters ring, one after the other: those of saturation and sampler, of the head, of
# the radio.
REACH, TAPE_REACH, RADIO_REACH = 4 * AFTER, 8 * AFTER, 4 * AFTER
BUMP_HZ, DIP_HZ = 85.0, 38.0
COLOUR_RING_S, RADIO_RING_S = 0.15, 0.06
RADIO_LOW_HZ, RADIO_HIGH_HZ = 420.0, 2600.0  # what is left of the band at 100 %
BESIDE = ("hiss", "crackle", "dust", "rumble")  # heard through sampler and radio as the music is


def _process(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    away = strays_of(full, variation, context)
    read = audio.copy() if away is None else read_displaced(audio, away)
    return _worn(read, full, variation, context, 0)


def _process_stretch(
    audio: Looped, full: ResolvedSettings, variation: int, context: Context, start: int, count: int
) -> Stereo:
    """The same over some frames of the loop, with what they need before and after them."""
    ring = _ring(full)
    first, more = start - ring, count + 2 * ring
    away = strays_of(full, variation, context, (first, more))
    if away is None:
        read = np.array(slice_wrapped(audio, first, more))
    else:
        read = read_stretch(audio, away, first)
    return _worn(read, full, variation, context, first)[:, ring : ring + count]


def _reach(full: ResolvedSettings, variation: int, context: Context) -> int:
    most = strays_most(_cents_of(full), variation, context.loop_frames, context.rate)
    return _ring(full) + most + 8


def _ring(full: ResolvedSettings) -> int:
    head = full.number("bump_db") + full.number("loss_db") > 0
    return REACH + TAPE_REACH * head + RADIO_REACH * (full.number("radio") > 0)


def strays_of(
    full: ResolvedSettings, variation: int, context: Context, where: tuple[int, int] | None = None
) -> NDArray[np.float32] | None:
    """Return how far each frame is read from its place at this wear; None where nothing strays.

    ``where``: of that many frames from one on alone.
    """
    return strayed(_cents_of(full), variation, context.loop_frames, context.rate, where)


def _cents_of(full: ResolvedSettings) -> dict[str, float]:
    return {part: _wear(full) * full.number(f"{part}_cents") for part in PARTS}


def _worn(
    audio: Stereo, full: ResolvedSettings, variation: int, context: Context, start: int
) -> Stereo:
    """All but the speed, on turns of the loop or on a stretch of it from ``start`` on."""
    rate, frames, count = context.rate, context.loop_frames, audio.shape[1]
    wear = _wear(full)
    drive_db = wear * full.number("drive_db")
    at_once = drive_db > 0 and _edge_alone(full)
    edge_hz = worn_rate_hz(full) / 2 if at_once else rate / 2
    if drive_db > 0:
        audio = saturate(audio, to_gain(drive_db), edge_hz, rate)
    if wear * (full.number("bump_db") + full.number("loss_db")) > 0:
        audio = filter_circular(
            audio, lambda s, n: s * _tape(full, rate, n), int(COLOUR_RING_S * rate)
        )
    if wear * full.number("dropouts") > 0:
        level = dropouts(variation, wear * full.number("dropouts"), frames, rate)
        audio = audio * slice_wrapped(level, start, count)
    for name in BESIDE:
        audio = _with_noise(audio, name, full, variation, context, start, edge_hz)
    if not at_once:
        audio = _sampled(audio, full, rate, frames, start)
    if wear * full.number("radio") > 0:
        audio = filter_circular(
            audio, lambda s, n: s * _radio(full, rate, n), int(RADIO_RING_S * rate)
        )
    return _with_noise(audio, "static", full, variation, context, start, rate / 2)


def _edge_alone(full: ResolvedSettings) -> bool:
    """Whether all that is done after the saturation is to end the band.

    Then the saturation ends it on its way, and the noises are kept with theirs ended: the same
    sound for one filter less.
    """
    others = full.number("bump_db") + full.number("loss_db") + full.number("dropouts")
    return others == 0 and full.word("filters") == FILTERED and full.number("bits") >= MOST_BITS


@memoize
def _noise_up_to(name: str, variation: int, frames: int, rate: int, edge_hz: float) -> Stereo:
    """One loop of a noise, up to a band edge."""
    noise = NOISES[name](variation, frames, rate)
    return filter_circular(noise, lambda s, n: np.asarray(s * band_edge(edge_hz, rate, n)), AFTER)


def _with_noise(
    audio: Stereo,
    name: str,
    full: ResolvedSettings,
    variation: int,
    context: Context,
    start: int,
    edge_hz: float,
) -> Stereo:
    level_db, wear = full.number(f"{name}_db"), _wear(full)
    if level_db <= OFF_DB or wear == 0:
        return audio
    one_loop = (variation, context.loop_frames, context.rate)
    whole = edge_hz >= context.rate / 2
    noise = NOISES[name](*one_loop) if whole else _noise_up_to(name, *one_loop, edge_hz)
    return audio + slice_wrapped(noise, start, audio.shape[1]) * np.float32(
        to_gain(level_db) * wear
    )


def _sampled(audio: Stereo, full: ResolvedSettings, rate: int, frames: int, start: int) -> Stereo:
    """Fewer samples, fewer bits."""
    heard_hz, bits = worn_rate_hz(full), worn_bits(full)
    slower = heard_hz < FULL_RATE_HZ
    if full.word("filters") == RAW:
        if slower:
            audio = hold(audio, heard_hz, rate, frames=frames, start=start)
        return quantised(audio, bits) if bits < MOST_BITS else audio

    def edge(spectrum: Spectrum, length: int) -> Spectrum:
        return np.asarray(spectrum * band_edge(heard_hz / 2, rate, length))

    if slower:
        audio = filter_circular(audio, edge, AFTER)
    if bits < MOST_BITS:
        audio = quantised(audio, bits, min(1.0, heard_hz / rate))
        if slower:
            audio = filter_circular(audio, edge, AFTER)
    return audio


def _tape(full: ResolvedSettings, rate: int, length: int) -> NDArray[np.complex64]:
    """The head's bump, with the dip under it, and what a worn head loses above."""
    hz = np.maximum(np.fft.rfftfreq(length, 1 / rate), 0.1).astype(np.float32)
    wear = _wear(full)
    bump_db, loss_db = wear * full.number("bump_db"), wear * full.number("loss_db")
    bump = bell(hz, BUMP_HZ, bump_db, 0.9) * bell(hz, DIP_HZ, -0.6 * bump_db, 1.2)
    # In dB what is lost grows with frequency, as it does across a gap.
    lost = 10 ** (-loss_db * np.minimum(hz / 10_000, 2.0) / 20)
    return np.asarray(bump * lost, np.complex64)


def _radio(full: ResolvedSettings, rate: int, length: int) -> NDArray[np.complex64]:
    """A band that narrows, of fourth order at both ends."""
    low, high = radio_band(full)
    hz = np.maximum(np.fft.rfftfreq(length, 1 / rate), 0.1).astype(np.float32)
    below, above = np.float32(low) / hz, hz / np.float32(high)
    edges = np.ones(len(hz), np.complex64)
    for damping in (0.9239, 0.3827):
        edges *= 1 - below * below - 2j * damping * below
        edges *= 1 - above * above + 2j * damping * above
    return np.asarray(1 / edges, np.complex64)


def radio_band(full: ResolvedSettings) -> tuple[float, float]:
    """Return the edges in Hz of what the radio passes at this wear."""
    share = _wear(full) * full.number("radio") / 100
    return 30.0 * (RADIO_LOW_HZ / 30.0) ** share, 16_000.0 * (RADIO_HIGH_HZ / 16_000.0) ** share


def _wear(full: ResolvedSettings) -> float:
    return full.number("wear") / 100


def worn_rate_hz(full: ResolvedSettings) -> float:
    """Return the sample rate heard at this wear: it falls from 44.1 kHz to the set one."""
    return float(FULL_RATE_HZ * (full.number("sample_rate_hz") / FULL_RATE_HZ) ** _wear(full))


def worn_bits(full: ResolvedSettings) -> float:
    """Return the bits heard at this wear: they fall from 16 to the set number."""
    return MOST_BITS - _wear(full) * (MOST_BITS - full.number("bits"))


def _says(full: ResolvedSettings) -> str:
    wear = _wear(full)
    if wear == 0:
        return "no wear: as new"
    parts = []
    cents = wear * sum(full.number(f"{part}_cents") for part in PARTS)
    if cents >= 0.5:
        parts.append(f"drifts ±{cents:.0f} cents")
    edge = worn_rate_hz(full) / 2
    if edge < FULL_RATE_HZ / 2 - 1:
        parts.append(f"band to {edge / 1000:.1f} kHz")
    if full.number("bits") < MOST_BITS:
        parts.append(f"{worn_bits(full):.1f} bits")
    if full.number("radio") > 0:
        low, high = radio_band(full)
        parts.append(f"{low:.0f} Hz to {high / 1000:.1f} kHz as on a radio")
    if full.number("dropouts") > 0:
        parts.append(f"{wear * full.number('dropouts'):.0f} dropouts a minute")
    noises = [name for name in NOISES if full.number(f"{name}_db") > OFF_DB]
    if noises:
        parts.append(" and ".join(noises))
    return " · ".join(parts) or "only saturation"


def _cents(name: str, default: float, high: float, hint: str, part: str) -> Field:
    return Field(
        name=f"{name}_cents",
        label=name.capitalize(),
        default=default,
        unit="cents",
        low=0,
        high=high,
        step=0.5,
        hint=hint,
        part=part,
        ride_step=1 / 30,
    )


def _noise(name: str, default: float, hint: str, part: str) -> Field:
    return Field(
        name=f"{name}_db",
        label=name.capitalize(),
        default=default,
        unit="dB",
        low=OFF_DB,
        high=-10,
        step=1,
        off_low=True,
        hint=hint,
        part=part,
    )


FIELDS = (
    Field(name="wear", label="Wear", default=45, unit="%", low=0, high=100,
          hint="scales everything below it", ride_step=1 / 30),
    _cents("wow", 18, 80, "slow pitch drift, peak depth", "Tape"),
    _cents("flutter", 0, 40, "fast pitch drift, 6 to 13 times a second", "Tape"),
    Field(name="drive_db", label="Saturation", default=9, unit="dB", low=0, high=16, step=0.5,
          part="Tape"),
    Field(name="bump_db", label="Head bump", default=0, unit="dB", low=0, high=9, step=0.5,
          hint="more at 85 Hz, less at 38 Hz", part="Tape"),
    Field(name="loss_db", label="Loss", default=0, unit="dB", low=0, high=24, step=0.5,
          hint="at 10 kHz", part="Tape"),
    Field(name="dropouts", label="Dropouts", default=0, unit="/min", low=0, high=90,
          part="Tape"),
    _noise("hiss", OFF_DB, "of the tape", "Tape"),
    _cents("warp", 0, 60, "like a warped record, at 33⅓ rpm", "Record"),
    _noise("crackle", -36, "scratches, the loudest at this level", "Record"),
    _noise("dust", OFF_DB, "many fine specks", "Record"),
    _noise("rumble", OFF_DB, "of the turntable, 12 to 60 Hz", "Record"),
    Field(name="sample_rate_hz", label="Sample rate", default=16_000, unit="Hz", low=2000,
          high=FULL_RATE_HZ, step=100, log=True, off_high=True, part="Sampler"),
    Field(name="bits", label="Bits", default=MOST_BITS, unit="bits", low=3, high=MOST_BITS,
          step=0.5, off_high=True, part="Sampler"),
    Field(name="filters", label="Filters", default=FILTERED, choices=(FILTERED, RAW),
          hint="without: images above and below, gritty", part="Sampler"),
    Field(name="radio", label="Band", default=0, unit="%", low=0, high=100,
          hint="narrows to 420 Hz to 2.6 kHz", part="Radio"),
    _noise("static", OFF_DB, "noise between stations", "Radio"),
)  # fmt: skip


def _picture(full: ResolvedSettings, variation: int, context: Context) -> Portrait:
    away = strays_of(full, variation, context)
    still = np.zeros(context.loop_frames, np.float32)
    return straying([still if away is None else away], context)


WEATHERING = Kind(
    name="weathering",
    label="Weathering",
    family="Weathering",
    about="Ages the sound: worn tape, vinyl record, sampler, radio.",
    spec=SettingsSpec(FIELDS),
    says=_says,
    process=_process,
    near=Near(process=_process_stretch, reach=_reach),
    picture=_picture,
    draws=True,
)
