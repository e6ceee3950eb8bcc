"""Cleaning of recordings: the hum of the mains, and clicks."""

import dataclasses

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.ground.words import plural
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds.tone import linear_kind
from cloudrift.texture.picture import POINTS, Axis, Portrait, percent_axis
from cloudrift.texture.process import Near

# --- hum ------------------------------------------------------------------------------------------

MAINS = ("50 Hz", "60 Hz")


def _hum(hz: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.complex64]:
    """A notch at the mains' frequency and at each of its multiples, all that many Hz wide."""
    first = float(full.word("mains").split()[0])
    depth = 10 ** (full.number("depth_db") / 20)
    out = np.ones(len(hz), np.complex64)
    for k in range(1, round(full.number("multiples")) + 1):
        middle = k * first
        s = 1j * hz / np.float32(middle)
        width = full.number("width_hz") / middle
        out *= (s * s + s * (width * depth) + 1) / (s * s + s * width + 1)
    return out


def _hum_says(full: ResolvedSettings) -> str:
    count = round(full.number("multiples"))
    return (
        f"{full.word('mains')} and {plural(count - 1, 'multiple')} of it, "
        f"{abs(full.number('depth_db')):.0f} dB less"
    )


HUM = dataclasses.replace(
    linear_kind(
        "de-hum",
        "De-hum",
        "Removes mains hum from a recording.",
        (
            Field(name="mains", label="Mains", default=MAINS[0], choices=MAINS),
            Field(name="multiples", label="Multiples", default=8, unit="notches", low=1, high=20),
            Field(name="depth_db", label="Depth", default=-40, unit="dB", low=-60, high=0),
            Field(name="width_hz", label="Width", default=3, unit="Hz", low=1, high=10, step=0.1),
        ),
        _hum,
        _hum_says,
        # A notch of that many Hz dies away by 60 dB in 6.9 / (pi times its width).
        lambda full: 2.2 / full.number("width_hz") + 0.02,
    ),
    family="Level",
)

# --- clicks ---------------------------------------------------------------------------------------

LONGEST_MS = 3.0
ROUND_S = 0.012  # what a jump is held against: as much round it
REACH_S = 0.03  # further away nothing is heard
AROUND_S, MORE = 0.006, 1.5  # so long before and after a click nothing is so much louder
EDGE = 3  # frames either side that are taken for a part of a click


def _clicks(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    n = audio.shape[1]
    return _cleaned(audio, full, context, 0, n)


def _cleaned(
    audio: Looped, full: ResolvedSettings, context: Context, start: int, count: int
) -> Stereo:
    """Some frames of a loop with what jumps out of them drawn over."""
    reach = int(REACH_S * context.rate)
    piece = np.array(slice_wrapped(audio, start - reach, count + 2 * reach))
    for channel in piece:
        _draw_over(channel, full, context.rate)
    return piece[:, reach : reach + count]


def _draw_over(wave: NDArray[np.float32], full: ResolvedSettings, rate: int) -> None:
    """Find clicks in one channel and draw a smooth curve over each, in place.

    A click jumps: the second difference of the wave is many times what it is round it. Music does
    so only where something begins, and goes on; a click is over at once.
    """
    from scipy.ndimage import median_filter, uniform_filter1d  # noqa: PLC0415 - slow to import

    jump = np.abs(np.diff(wave, 2, prepend=wave[:1], append=wave[-1:])).astype(np.float32)
    step = 8  # the level round it changes slowly: it is read at every eighth frame
    round_it = max(3, int(ROUND_S * rate / step)) | 1
    coarse = uniform_filter1d(jump, step)[::step]
    level = np.repeat(median_filter(coarse, round_it, mode="nearest"), step)[: len(jump)]
    hot = np.flatnonzero(jump > float(_times(full.number("strength"))) * level + 1e-5)
    if not len(hot):
        return
    longest = int(full.number("longest_ms") * 1e-3 * rate)
    parts = np.split(hot, np.flatnonzero(np.diff(hot) > max(2, longest // 3)) + 1)
    for part in parts:
        first, last = int(part[0]) - EDGE, int(part[-1]) + EDGE + 1
        if last - first > longest + 2 * EDGE or first < 2 or last > len(wave) - 3:
            continue  # it goes on: something has begun
        if _has_begun(wave, jump, first, last, int(AROUND_S * rate)):
            continue
        left, right = float(wave[first - 1]), float(wave[last])
        slope_in, slope_out = left - float(wave[first - 2]), float(wave[last + 1]) - right
        long = last - first + 1
        t = np.arange(1, long) / long
        wave[first:last] = (
            (2 * t**3 - 3 * t**2 + 1) * left
            + (t**3 - 2 * t**2 + t) * slope_in * long
            + (-2 * t**3 + 3 * t**2) * right
            + (t**3 - t**2) * slope_out * long
        )


def _has_begun(
    wave: NDArray[np.float32], jump: NDArray[np.float32], first: int, last: int, around: int
) -> bool:
    """Whether there is more after a jump than before it: a stroke begins so, a click is over.

    Both the wave and what jumps in it are held against what they were.
    """
    before, behind = slice(max(0, first - around), first), slice(last, last + around)
    was, comes = (float(np.sqrt((wave[part] ** 2).mean())) for part in (before, behind))
    still = (float(np.median(jump[part])) for part in (before, behind))
    jumped, jumps = still
    return comes > MORE * was + 1e-6 or jumps > MORE * jumped + 1e-7


def _times(strength: float | NDArray[np.float64]) -> NDArray[np.float64]:
    """How many times what is round it a jump must be: 30 (what is plain) to 5 (a good deal)."""
    return np.asarray(30.0 * (5 / 30) ** (strength / 100))


def _clicks_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    """What is left of a jump that is that many times what is round it."""
    x = np.geomspace(1, 100, POINTS)
    kept = np.where(x > _times(full.number("strength")), 0.0, 100.0)
    marks = ((1.0, "1 time"), (10.0, "10 times"), (100.0, "100 times"))
    return Portrait(
        title="how much of a jump is kept",
        x=x,
        curves=(kept,),
        x_axis=Axis(low=1, high=100, marks=marks, log=True),
        y_axis=percent_axis(),
    )


CLICKS = Kind(
    name="de-click",
    label="De-click",
    family="Level",
    about="Repairs clicks and crackle in a recording; keeps the attacks of notes.",
    spec=SettingsSpec(
        (
            Field(
                name="strength",
                label="Strength",
                default=35,
                unit="%",
                low=0,
                high=100,
                hint="how small a jump counts as a click",
            ),
            Field(
                name="longest_ms",
                label="Up to",
                default=1.0,
                unit="ms",
                low=0.1,
                high=LONGEST_MS,
                step=0.1,
                hint="longer events are not clicks",
            ),
        )
    ),
    says=lambda full: f"jumps that last up to {full.number('longest_ms'):.1f} ms",
    process=_clicks,
    near=Near(
        process=lambda audio, full, _variation, context, start, count: _cleaned(
            audio, full, context, start, count
        ),
        reach=lambda _full, _variation, context: int(REACH_S * context.rate),
    ),
    picture=_clicks_picture,
)
KINDS = (HUM, CLICKS)
