"""Echo: repeats in time with the loop, each darker than the one before."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import quick
from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.wrap import Spectrum, read_displaced
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, Settings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.curves import saturate
from cloudrift.texture.kind import Kind, decay_of
from cloudrift.texture.kinds.weathering.speed import strayed
from cloudrift.texture.periods import SYNCED, seconds_of
from cloudrift.texture.process import Linear, rough_of

SILENT_DB = 60.0  # a repeat that is so much softer is not waited for
GONE_DB = 115.0  # where what was before the lead-in is no longer heard
SETTLED = 4096  # frames after which the poles have settled
LONGEST_LEAD = 2  # loops: after that all repeats at once are quicker
ACROSS, BESIDE = "side to side", "in its place"


def _delay_frames(full: ResolvedSettings, tempo: float, rate: int) -> int:
    return max(1, round(seconds_of(full.word("time"), tempo) * rate))


_OF_REPEATS = ("dark_hz", "feedback", "thin_hz", "time", "way", "width")


def _through(
    spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
) -> Spectrum:
    settings = tuple((name, full[name]) for name in _OF_REPEATS)  # a tape echo has more
    response = _response(settings, context.tempo, context.rate, length)
    if full.word("way") == BESIDE:
        return np.asarray(spectrum * response, np.complex64)
    middle = (spectrum[0] + spectrum[1]) / 2
    return np.asarray(middle * response, np.complex64)


@memoize
def _response(settings: Settings, tempo: float, rate: int, length: int) -> NDArray[np.complex64]:
    """All repeats at once: a geometric series of one repeat's response, (1 or 2, bins)."""
    full = ResolvedSettings(dict(settings))
    bins = np.arange(length // 2 + 1)
    frames = _delay_frames(full, tempo, rate)
    once = _turned((bins * frames) % length, length)
    back_by_one = _turned(bins, length)
    dark, thin = (np.float32(pole) for pole in _poles(full, rate))
    once *= (1 - dark) / (1 - dark * back_by_one)
    once *= (1 + thin) / 2 * (1 - back_by_one) / (1 - thin * back_by_one)
    back = np.float32(full.number("feedback") / 100) * once
    if full.word("way") == BESIDE:
        return np.asarray((once / (1 - back))[None], np.complex64)
    # The first repeat is on the left; each one after changes sides.
    left = once / (1 - back * back)
    right = once * back / (1 - back * back)
    width = np.float32(full.number("width") / 100)
    near, far = (1 + width) / 2, (1 - width) / 2
    sides = np.stack([near * left + far * right, near * right + far * left])
    return np.asarray(sides * np.float32(np.sqrt(2)), np.complex64)


def _poles(full: ResolvedSettings, rate: int) -> tuple[float, float]:
    """One pole each: what a repeat loses above, and below."""
    dark = np.exp(-2 * np.pi * min(full.number("dark_hz") / rate, 0.49))
    return float(dark), float(np.exp(-2 * np.pi * full.number("thin_hz") / rate))


def _repeated(audio: Stereo, full: ResolvedSettings, context: Context) -> Stereo | None:
    """All repeats, one after another, where that is compiled and they die away soon enough."""
    frames = _delay_frames(full, context.tempo, context.rate)
    feedback = full.number("feedback") / 100
    left_db = GONE_DB / max(0.1, -20 * np.log10(max(feedback, 1e-3)))
    lead = int((2 + left_db) * frames) + SETTLED
    if not quick.library or lead > LONGEST_LEAD * audio.shape[1]:
        return None
    across = full.word("way") == ACROSS
    out = quick.repeats(audio, frames, lead, *_poles(full, context.rate), feedback, across=across)
    if not across:
        return out
    width, root = full.number("width") / 100, np.sqrt(2)
    near, far = np.float32((1 + width) / 2 * root), np.float32((1 - width) / 2 * root)
    return np.stack([near * out[0] + far * out[1], near * out[1] + far * out[0]])


def _turned(places: NDArray[np.int64], length: int) -> NDArray[np.complex64]:
    """exp(-2 pi i place / length): turns are taken off before, so single precision is enough."""
    angle = (places * (2 * np.pi / length)).astype(np.float32)
    out = np.empty(len(places), np.complex64)
    np.cos(angle, out=out.real)
    np.sin(angle, out=out.imag)
    return np.conjugate(out, out=out)


def _tail_s(full: ResolvedSettings, tempo: float) -> float:
    feedback = max(full.number("feedback") / 100, 1e-3)
    repeats = 1 + SILENT_DB / max(0.1, -20 * np.log10(feedback))
    return float(min(30.0, repeats * seconds_of(full.word("time"), tempo)))


def _says(full: ResolvedSettings) -> str:
    feedback = max(full.number("feedback") / 100, 1e-3)
    count = max(1, round(1 + 24 / max(0.1, -20 * np.log10(feedback))))
    return f"about {count} repeats every {full.word('time')}, {full.word('way')}"


def _ring_s(full: ResolvedSettings, context: Context) -> float:
    return 1.8 * _tail_s(full, context.tempo) + 0.05


_LINEAR = Linear(through=_through, ring_s=_ring_s, quick=_repeated)
_picture = decay_of(_LINEAR)  # a tape echo's too: the repeats, without what the tape does to them
ECHO = Kind(
    name="echo",
    label="Echo",
    family="Space",
    about="Delay in time with the loop, darker each repeat; in place or ping-pong.",
    spec=SettingsSpec(
        (
            Field(name="time", label="Time", default="1/8 dotted", choices=tuple(SYNCED)),
            Field(name="feedback", label="Feedback", default=45, unit="%", low=0, high=92),
            Field(
                name="dark_hz",
                label="High cut",
                default=3200,
                unit="Hz",
                low=400,
                high=18_000,
                step=10,
                log=True,
            ),
            Field(
                name="thin_hz",
                label="Low cut",
                default=180,
                unit="Hz",
                low=10,
                high=1500,
                step=1,
                log=True,
            ),
            Field(name="way", label="Mode", default=ACROSS, choices=(ACROSS, BESIDE)),
            Field(name="width", label="Width", default=80, unit="%", low=0, high=100),
        )
    ),
    says=_says,
    linear=_LINEAR,
    picture=_picture,
    tail_s=_tail_s,
    blend=0.35,
)

# --- tape echo ------------------------------------------------------------------------------------


def _tape_echo(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    """The same repeats off a tape: its speed strays, and what is loud is rounded."""
    out = _LINEAR.lay(audio, full, variation, context)
    cents = {"wow": full.number("drift_cents"), "flutter": full.number("drift_cents") / 5}
    away = strayed(cents, variation, context.loop_frames, context.rate)
    if away is not None:
        out = read_displaced(out, away)
    drive_db = full.number("drive_db")
    return saturate(out, to_gain(drive_db), context.rate / 2, context.rate) if drive_db else out


TAPE_ECHO = Kind(
    name="tape echo",
    label="Tape echo",
    family="Space",
    about="Tape delay that drifts: rounder and darker each repeat.",
    spec=SettingsSpec(
        (
            *ECHO.spec.fields,
            Field(
                name="drift_cents",
                label="Drift",
                default=8,
                unit="cents",
                low=0,
                high=40,
                step=0.5,
                ride_step=1 / 30,
            ),
            Field(
                name="drive_db", label="Saturation", default=8, unit="dB", low=0, high=16, step=0.5
            ),
        )
    ),
    says=lambda full: f"{_says(full)}, drifting ±{full.number('drift_cents'):.0f} cents",
    process=_tape_echo,
    rough=rough_of(_tape_echo, 2.0),
    picture=_picture,
    tail_s=_tail_s,
    blend=0.35,
    draws=True,
)
KINDS = (ECHO, TAPE_ECHO)
