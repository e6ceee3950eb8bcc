"""The room: where each layer is heard between 30 Hz and 16 kHz, and who is in whose way.

Levels are taken in sixths of an octave, in short frames, as the ear weighs them (A-weighting, IEC
61672). Two layers crowd a band while both are well heard in it and neither stands out: closer than
what lets one cover part of the other.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import hz_text
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine, never

LOW_HZ, HIGH_HZ = 30.0, 16_000.0
PER_OCTAVE = 6
WINDOW, HOP = 8192, 4096
HEARD_DB = 40.0  # under the loudest band of all layers: what is further down is not in the way
OWN_DB = 26.0  # under a layer's own loudest band: what is further down is not what it is there for
CLOSE_DB = 9.0  # closer than this, neither stands out
SOME = 0.34  # share of a range's bands that makes a moment crowded
CROWDED = 0.25  # severity from which two layers are said to crowd a band
QUIET_DB = -120.0
SILENT_DB = -100.0  # the loudest band of a layer that is not heard is below
SMOOTHED = np.array([0.25, 0.5, 0.25])

Levels = NDArray[np.float64]  # (bands, frames) or (bands,), in dB


@dataclass(frozen=True, kw_only=True)
class Crowded:
    """Two layers (ids) in each other's way between two frequencies; severity 0 to 1.

    ``when`` are the stretches of the loop (shares) where they are.
    """

    layers: tuple[str, str]
    low_hz: float
    high_hz: float
    severity: float
    when: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, kw_only=True)
class Room:
    """Edges of the bands (bands + 1), each sounding layer's levels in them over time, crowding.

    ``reach`` is where each layer is heard: its lowest and highest band over time, (2, frames), -1
    where it is silent.
    """

    edges_hz: NDArray[np.float64]
    levels: dict[str, Levels]
    reach: dict[str, NDArray[np.int64]]
    crowded: tuple[Crowded, ...]


def band_edges() -> NDArray[np.float64]:
    """Return the edges of the bands in Hz."""
    count = round(PER_OCTAVE * np.log2(HIGH_HZ / LOW_HZ))
    return np.asarray(LOW_HZ * 2.0 ** (np.arange(count + 1) / PER_OCTAVE))


def weighting_db(hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the A-weighting at frequencies, in dB (IEC 61672-1)."""
    f = hz**2
    gain = (
        12194**2
        * f**2
        / ((f + 20.6**2) * np.sqrt((f + 107.7**2) * (f + 737.9**2)) * (f + 12194**2))
    )
    return np.asarray(20 * np.log10(gain) + 2.0)


def band_levels(audio: Stereo, rate: int) -> Levels:
    """Return a loop's weighted level in each band and frame; windows go round the seam.

    A band that is narrower than a line of the spectrum takes the share of it that it covers.
    """
    n = audio.shape[1]
    starts = np.arange(0, n, HOP)
    index = (starts[:, None] + np.arange(WINDOW)) % n
    window = np.hanning(WINDOW).astype(np.float32)
    power = sum(np.abs(sf.rfft(side[index] * window)) ** 2 for side in audio)
    power = np.asarray(power, np.float64) / (2 * (window**2).sum() * WINDOW / 2)
    lines = (np.arange(power.shape[1] + 1) - 0.5) * rate / WINDOW
    summed = np.concatenate([np.zeros((len(starts), 1)), np.cumsum(power, axis=1)], axis=1)
    edges = band_edges()
    at_edges = np.stack([np.interp(edges, lines, row) for row in summed])
    centres = np.sqrt(edges[:-1] * edges[1:])
    level = 10 * np.log10(np.maximum(np.diff(at_edges, axis=1), 1e-12)).T
    return np.asarray(level + weighting_db(centres)[:, None])


def crowding(levels: dict[str, Levels]) -> tuple[Crowded, ...]:
    """Return the crowded bands of all pairs, the worst first."""
    if not levels:
        return ()
    loudest = max(float(level.max()) for level in levels.values())
    heard = heard_bands(levels)
    found = []
    for one, other in combinations(levels, 2):
        a, b = levels[one], levels[other]
        both = heard[one] & heard[other]
        close = both & (np.abs(a - b) < CLOSE_DB)
        # Loud overlaps weigh fully, those at the edge of hearing little.
        weight = np.clip((np.minimum(a, b) - (loudest - HEARD_DB)) / (HEARD_DB / 2), 0, 1)
        either = np.maximum((heard[one] | heard[other]).sum(axis=1), 1)
        severity = (close * weight).sum(axis=1) / either
        # Partials stand in some bands and leave out others: what counts is the neighbourhood.
        severity = np.convolve(severity, SMOOTHED, "same")
        edges = band_edges()
        found += [
            Crowded(
                layers=(one, other),
                low_hz=float(edges[low]),
                high_hz=float(edges[high]),
                severity=worst,
                when=_stretches(close[low:high]),
            )
            for low, high, worst in _runs(severity)
        ]
    return tuple(sorted(found, key=lambda c: -c.severity))


def heard_bands(levels: dict[str, Levels]) -> dict[str, NDArray[np.bool_]]:
    """Return the bands and frames in which each layer is well heard."""
    loudest = max((float(level.max()) for level in levels.values()), default=0.0)
    return {
        name: (level > loudest - HEARD_DB) & (level > level.max() - OWN_DB)
        for name, level in levels.items()
    }


def _reach(heard: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The lowest and highest band over time; -1 where nothing is heard."""
    there = heard.any(axis=0)
    low = np.where(there, heard.argmax(axis=0), -1)
    high = np.where(there, len(heard) - 1 - heard[::-1].argmax(axis=0), -1)
    return np.stack([low, high])


def _stretches(close: NDArray[np.bool_]) -> tuple[tuple[float, float], ...]:
    """When a good part of the bands is crowded, as shares of the loop; short gaps are closed."""
    there = close.mean(axis=0) >= SOME
    if len(there) > 2:
        there[1:-1] |= there[:-2] & there[2:]
    edges = np.flatnonzero(np.diff(np.concatenate([[False], there, [False]]).astype(int)))
    n = len(there)
    return tuple((float(a) / n, float(b) / n) for a, b in zip(edges[::2], edges[1::2], strict=True))


def _runs(severity: NDArray[np.float64]) -> list[tuple[int, int, float]]:
    """Join neighbouring crowded bands: first band, the first not in it, worst."""
    out: list[tuple[int, int, float]] = []
    start = None
    over = severity >= CROWDED
    for i in range(1, len(over) - 1):  # a single band between two crowded ones is no gap
        over[i] |= over[i - 1] and severity[i + 1] >= CROWDED
    for i, crowded in enumerate([*over, False]):
        if crowded and start is None:
            start = i
        elif not crowded and start is not None:
            out.append((start, i, float(severity[start:i].max())))
            start = None
    return out


def look_at(loop: Loop, engine: Engine, cancelled: Callable[[], bool] = never) -> Room:
    """Render every heard layer as it enters the sum and compare them."""
    found = {
        layer.id: engine.of_layer(
            "bands", loop, layer, partial(band_levels, rate=loop.rate), cancelled
        )
        for layer in loop.heard()
    }
    # A layer without a sound is nowhere: it would seem to fill every band with its floor.
    levels = {name: level for name, level in found.items() if level.max() > SILENT_DB}
    reach = {name: _reach(heard) for name, heard in heard_bands(levels).items()}
    return Room(edges_hz=band_edges(), levels=levels, reach=reach, crowded=crowding(levels))


@dataclass(frozen=True, kw_only=True)
class Gap:
    """How much of a loop lies in a band, in dB of the whole; each layer's part, loudest first."""

    level_db: float
    layers: tuple[tuple[str, float], ...]


def gap(room: Room, low_hz: float, high_hz: float) -> Gap:
    """Return how loud a loop is between two frequencies, in dB of all of it, as the ear weighs it.

    A voice, or whatever is to lie over the loop, has room there when this is low.
    """
    edges = room.edges_hz
    inside = (edges[1:] > low_hz) & (edges[:-1] < high_hz)
    powers = {name: (10 ** (level / 10)).mean(axis=1) for name, level in room.levels.items()}
    total = max(sum(float(p.sum()) for p in powers.values()), 1e-12)

    def share_db(power: float) -> float:
        return max(QUIET_DB, 10 * float(np.log10(max(power / total, 1e-12))))

    parts = {name: share_db(float(power[inside].sum())) for name, power in powers.items()}
    whole = share_db(sum(float(power[inside].sum()) for power in powers.values()))
    return Gap(level_db=whole, layers=tuple(sorted(parts.items(), key=lambda p: -p[1])))


def in_words(crowded: Crowded, loop: Loop) -> str:
    """Say who is in whose way, and where."""
    one, other = (loop.layer(name).name for name in crowded.layers)
    much = "crowd each other heavily" if crowded.severity > 0.6 else "crowd each other"
    return f"{one} and {other} {much} between {_hz(crowded.low_hz)} and {_hz(crowded.high_hz)}"


def _hz(hz: float) -> str:
    return hz_text(float(f"{hz:.2g}"))  # bands are not known more closely
