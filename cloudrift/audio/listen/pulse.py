"""The pulse of a recording: how strongly something begins, and how much its notes change, when.

All of it works on one channel at LISTEN_RATE: nothing that tells a beat lies higher.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import soxr
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo

LISTEN_RATE = 22_050
FRAME, HOP = 1024, 128  # 46 ms, 5.8 ms
BANDS = 36
LOWEST_HZ, HIGHEST_HZ = 40.0, 10_000.0
NOTE_FRAME, NOTE_HOP = 8192, 1024  # 0.37 s, 46 ms
NOTES_FROM, NOTES_TO = 36, 96  # MIDI: C2 to C7
RISES = (2, 8)  # hops over which a rise is taken: of blows, and of what swells
STEADY_S = 0.37  # what changes is told from so long before and after

Curve = NDArray[np.float64]


class Pulse(NamedTuple):
    """Curves over a recording: ``begins`` (2, n) at HOP, by blows and by swells; ``changes`` at
    NOTE_HOP, how much the notes that sound change. All are 0 and more, 1 on average.
    """

    begins: NDArray[np.float64]
    changes: Curve
    seconds: float


def mono_of(audio: Stereo, rate: int) -> NDArray[np.float32]:
    """Return a recording as one channel at LISTEN_RATE, its loudest 1."""
    mono = np.asarray(audio.mean(axis=0), np.float32)
    if np.abs(mono).max(initial=0.0) < 0.05 * np.abs(audio).max(initial=0.0):
        mono = np.asarray(audio[0], np.float32)  # its sides cancel
    if rate != LISTEN_RATE:
        mono = soxr.resample(mono, rate, LISTEN_RATE, quality="HQ")
    return mono / np.float32(max(float(np.abs(mono).max(initial=0.0)), 1e-9))


class Pulses:
    """The pulse of a recording as it is, and as it goes round: both are the same but at the ends,
    so that what is made for one is made for the other.
    """

    def __init__(self, mono: NDArray[np.float32]) -> None:
        self._mono = mono
        self._rows: dict[int, NDArray[np.float64]] = {}  # by the size of a frame

    def pulse(self, *, wrapped: bool) -> Pulse:
        """Return the pulse; ``wrapped``: it goes round without a seam."""
        bands = self._of(FRAME, HOP, _bands_of, wrapped)
        notes = self._of(NOTE_FRAME, NOTE_HOP, _lines_of, wrapped)
        seconds = len(self._mono) / LISTEN_RATE
        return Pulse(_onset_envelope(bands, wrapped), _harmonic_novelty(notes, wrapped), seconds)

    def _of(
        self,
        size: int,
        hop: int,
        of: Callable[[NDArray[np.float32]], NDArray[np.float64]],
        wrapped: bool,
    ) -> NDArray[np.float64]:
        """Return a row for each frame, of what one frame alone decides."""
        frames = _frames(self._mono, size, hop, wrapped)
        if size not in self._rows:
            self._rows[size] = of(_frames(self._mono, size, hop, wrapped=False))
        rows, edge = self._rows[size], size // 2 // hop + 1
        if not wrapped:
            return rows
        if len(rows) <= 2 * edge:
            return of(frames)
        return np.concatenate([of(frames[:edge]), rows[edge:-edge], of(frames[-edge:])])


def _frames(mono: NDArray[np.float32], size: int, hop: int, wrapped: bool) -> NDArray[np.float32]:
    """Overlapping frames whose middles lie at 0, hop, 2 hop, …: (count, size)."""
    around = np.pad(mono, size // 2, mode="wrap" if wrapped and len(mono) >= size else "constant")
    count = max(1, len(mono) // hop)
    around = np.pad(around, (0, max(0, (count - 1) * hop + size - len(around))))
    return np.lib.stride_tricks.sliding_window_view(around, size)[::hop][:count]


def _bands_of(frames: NDArray[np.float32]) -> NDArray[np.float64]:
    """Return the power in each band of each frame."""
    power = np.abs(sf.rfft(frames * np.hanning(FRAME).astype(np.float32))) ** 2
    edges = np.geomspace(LOWEST_HZ, HIGHEST_HZ, BANDS + 1) / LISTEN_RATE * FRAME
    first = np.unique(np.maximum(1, edges.astype(int)))
    return np.asarray(np.add.reduceat(power, first, axis=1)[:, :-1])


def _onset_envelope(bands: NDArray[np.float64], wrapped: bool) -> NDArray[np.float64]:
    level = np.log10(1e-6 + bands / max(float(bands.max()), 1e-9))
    out = []
    for lag in RISES:
        before = np.roll(level, lag, axis=0)
        if not wrapped:
            before[:lag] = level[:1]
        rise = np.maximum(level - before, 0).mean(axis=1)
        rise = np.maximum(rise - _running(rise, 43, wrapped), 0)  # a quarter of a second
        out.append(rise / max(float(rise.mean()), 1e-9))
    return np.stack(out)


def _running(curve: Curve, size: int, wrapped: bool) -> Curve:
    size = min(size, len(curve) | 1)
    around = np.pad(curve, size // 2, mode="wrap" if wrapped else "edge")
    return np.convolve(around, np.ones(size) / size, "valid")[: len(curve)]


def _lines_of(frames: NDArray[np.float32]) -> NDArray[np.float64]:
    """Return how much each semitone sounds in each frame, (frames, 61) from C2 up."""
    size = np.abs(sf.rfft(frames * np.hanning(NOTE_FRAME).astype(np.float32)))
    hz = np.fft.rfftfreq(NOTE_FRAME, 1 / LISTEN_RATE)
    pitch = 69 + 12 * np.log2(np.maximum(hz, 1.0) / 440)
    # Only what stands out as a line: hiss and blows are everywhere.
    tops = np.zeros_like(size)
    inner = size[:, 1:-1]
    is_top = (inner > size[:, :-2]) & (inner >= size[:, 2:])
    tops[:, 1:-1] = np.where(is_top, inner, 0)
    out = np.zeros((len(size), NOTES_TO - NOTES_FROM + 1))
    near = np.round(pitch).astype(int) - NOTES_FROM
    for note in range(out.shape[1]):
        here = np.flatnonzero(near == note)
        if len(here):
            out[:, note] = tops[:, here[0] : here[-1] + 1].max(axis=1)
    return out


def _harmonic_novelty(lines: NDArray[np.float64], wrapped: bool) -> Curve:
    notes = np.sqrt(lines / max(float(lines.max()), 1e-9))
    span = max(1, round(STEADY_S * LISTEN_RATE / NOTE_HOP))
    around = np.pad(notes, ((span, span), (0, 0)), mode="wrap" if wrapped else "edge")
    total = np.cumsum(np.pad(around, ((1, 0), (0, 0))), axis=0)
    mean = (total[span:] - total[:-span]) / span
    before, behind = mean[: len(notes)], mean[span : span + len(notes)]
    size = np.linalg.norm(before, axis=1) * np.linalg.norm(behind, axis=1)
    same = (before * behind).sum(axis=1) / np.maximum(size, 1e-9)
    curve = np.clip(1 - same, 0, 1)
    curve = np.maximum(curve - _running(curve, 2 * span + 1, wrapped) * 0.5, 0)
    return np.asarray(curve / max(float(curve.mean()), 1e-9))
