"""What a microphone brings while the loop plays: where in the loop it lies, and the takes in it.

Both streams are counted in frames of one rate: those handed to the speaker, and those that come in.
When a block comes in, it is noted where the speaker is; the middle of many such notes says how both
counts lie to each other, however unevenly the blocks come.
"""

import threading
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import QUIET_DB, Mono, Stereo, raised_cosine, silence, to_db
from cloudrift.audio.clips import LONGEST_S

MOST_S = 600.0  # that is taken at once
FULL, IN_A_ROW = 0.9995, 3  # that many frames in a row at full scale are cut off
ONE_SIDE_DB = 30.0  # a side that is so much softer has nothing plugged in
LEAD_S, FADE_S = 0.03, 0.008
SILENT_DB = -40.0  # under a take's loudest, where nothing is sung
LEAST_S = 0.5  # of a turn of the loop that is a take of its own
TRIM_DB, TRIM_S = -45.0, 0.06

TEST_AT_S, TEST_LONG_S, TEST_HZ = (0.0, 0.23, 0.61, 0.83), 0.03, (700.0, 6000.0)
TEST_LEVEL = 0.4
MOST_LATE_S = 0.8
PLAIN = 6.0  # times that the answer is to stand out of everything else
NEAR_S = 0.02


class Capture:
    """Blocks as they come in. ``push`` is called from the microphone's thread."""

    def __init__(self, rate: int, handing: Callable[[], float]) -> None:
        """``handing`` tells which of all frames handed to the speaker it is at."""
        self.rate = rate
        self._handing = handing
        self._blocks: list[NDArray[np.float32]] = []
        self._marks: list[tuple[int, float]] = []  # frames in, frames handed out
        self._lock = threading.Lock()
        self._peak, self._cut_off = 0.0, 0
        self.frames = 0
        self.cut_off = 0  # places in all that were
        self.keeping = False

    def push(self, block: NDArray[np.float32]) -> None:
        """Take a block, (frames, 2); it is kept while ``keeping``."""
        handed = self._handing()
        block = np.nan_to_num(block)
        peak, cut_off = float(np.abs(block).max(initial=0.0)), cut_off_in(block)
        with self._lock:
            self._peak = max(self._peak, peak)
            self._cut_off += cut_off
            if self.keeping and self.frames < MOST_S * self.rate:
                self._blocks.append(block)
                self.frames += len(block)
                self.cut_off += cut_off
                self._marks.append((self.frames, handed))

    def begin(self) -> None:
        """Keep what comes from now on."""
        with self._lock:
            self._blocks, self._marks = [], []
            self.frames = self.cut_off = 0
            self.keeping = True

    def level(self) -> tuple[float, int]:
        """Return the peak (0-1) since the last question, and how often it was cut off."""
        with self._lock:
            out = self._peak, self._cut_off
            self._peak, self._cut_off = 0.0, 0
        return out

    def audio(self) -> Stereo:
        """Return all that is kept, (2, frames)."""
        with self._lock:
            blocks = list(self._blocks)
        return np.ascontiguousarray(np.concatenate(blocks).T) if blocks else silence(0)

    def input_frame_at(self, handed: float, late: float) -> int:
        """Return where what was handed out came in; ``late`` is how many frames that takes.

        Read from the blocks about there, so that two clocks may drift apart.
        """
        with self._lock:
            marks = np.array(self._marks)
        if not len(marks):
            return 0
        apart = marks[:, 1] - marks[:, 0]
        near = np.argsort(np.abs(marks[:, 1] - handed))[:200]
        return round(handed - float(np.median(apart[near])) + late)


def cut_off_in(block: NDArray[np.float32]) -> int:
    """Return at how many places sound, (frames, channels), stays at full scale."""
    if np.abs(block).max(initial=0.0) < FULL:
        return 0
    full = (np.abs(block) >= FULL).any(axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate(([0], full.astype(np.int8), [0]))))
    return int((edges[1::2] - edges[::2] >= IN_A_ROW).sum())


@dataclass(frozen=True)
class Turn:
    """What was sung in one turn of the loop: (2, n), its loop starting at frame ``lead``.

    ``whole``: the loop went all the way round.
    """

    audio: Stereo
    lead: int
    whole: bool
    cut_off: int


def turns_of(capture: Capture, start: int, loop_frames: int, late: float, beat: int) -> list[Turn]:
    """Cut what came in at the turns of the loop: takes, the first first.

    Parameters
    ----------
    start : a frame handed out with which the loop begins; turns are counted from there.
    late : frames from what is handed out to what comes in.
    beat : frames of a beat, which may lie before a take and after it: what leads in to it is
        kept where its own last beat is silent, so that both never sound at once.

    Notes
    -----
    A last turn of less than a bar or so is the end of the one before: a note that was held. One
    longer than a recording may be is cut there.
    """
    audio = both_sides(capture.audio())
    end = audio.shape[1]
    starts = [capture.input_frame_at(start, late)]
    while (then := capture.input_frame_at(start + len(starts) * loop_frames, late)) < end:
        starts.append(then)
    rest = end - starts[-1]
    tail = 0
    if len(starts) > 1 and rest < max(min(4 * beat, loop_frames // 2), LEAST_S * capture.rate):
        starts.pop()
        tail = min(rest, beat)
    out = []
    for i, at in enumerate(starts):
        last = i == len(starts) - 1
        behind = min(end, at + loop_frames + (tail if last else 0))
        lead = min(max(at, 0), _lead(audio[:, max(at, 0) : behind], capture.rate, beat))
        behind = min(behind, at - lead + int(LONGEST_S * capture.rate))
        one = audio[:, max(0, at - lead) : behind].copy()
        if one.shape[1] > LEAST_S * capture.rate / 2:
            _fade(one, capture.rate)
            whole = behind >= at + loop_frames - capture.rate // 20
            out.append(Turn(one, lead, whole, cut_off_in(one.T)))
    return out


def _lead(turn: Stereo, rate: int, beat: int) -> int:
    """How much of what was before a turn belongs to it."""
    if turn.shape[1] > 2 * beat:
        loudest = np.abs(turn).max(initial=0.0)
        if to_db(float(np.abs(turn[:, -beat:]).max())) < to_db(float(loudest)) + SILENT_DB:
            return beat
    return int(LEAD_S * rate)


def _fade(audio: Stereo, rate: int) -> None:
    fade = min(int(FADE_S * rate), audio.shape[1] // 2)
    if fade:
        audio[:, :fade] *= raised_cosine(fade)
        audio[:, -fade:] *= raised_cosine(fade)[::-1]


def freely(capture: Capture) -> Turn:
    """Return all that came in without the silence around it, as far as a recording may be long."""
    audio = both_sides(capture.audio())
    loud = np.abs(audio).max(axis=0, initial=0.0)
    over = np.flatnonzero(loud > 10 ** (TRIM_DB / 20) * loud.max(initial=0.0))
    around = int(TRIM_S * capture.rate)
    first, last = (max(0, over[0] - around), over[-1] + 4 * around) if len(over) else (0, 0)
    one = audio[:, first : min(last, first + int(LONGEST_S * capture.rate))].copy()
    _fade(one, capture.rate)
    return Turn(one, 0, True, cut_off_in(one.T))


def both_sides(audio: Stereo) -> Stereo:
    """Put one side on both where nothing is plugged into the other."""
    levels = [to_db(float(np.sqrt(np.mean(side**2)))) if len(side) else QUIET_DB for side in audio]
    if abs(levels[0] - levels[1]) < ONE_SIDE_DB:
        return audio
    louder = audio[int(levels[1] > levels[0])]
    return np.stack([louder, louder])


# --- how late it comes ----------------------------------------------------------------------------


def sweeps(rate: int) -> Stereo:
    """Return sweeps at uneven times, (2, n): they can't be taken for each other."""
    long = int(TEST_LONG_S * rate)
    t = np.arange(long) / rate
    low, high = TEST_HZ
    turns = low * t + (high - low) / (2 * TEST_LONG_S) * t * t
    sweep = np.sin(2 * np.pi * turns) * np.hanning(long) * TEST_LEVEL
    out = np.zeros(int(TEST_AT_S[-1] * rate) + long)
    for at in TEST_AT_S:
        start = int(at * rate)
        out[start : start + long] += sweep
    return np.stack([out, out]).astype(np.float32)


def measure_latency(capture: Capture, began: int) -> float | None:
    """Return how late the test sound came in, in frames; None where it can't be heard plainly.

    ``began`` is the frame handed out with which it began.
    """
    heard: Mono = both_sides(capture.audio()).mean(axis=0)
    sent = sweeps(capture.rate)[0]
    first = capture.input_frame_at(began, 0.0)
    most = int(MOST_LATE_S * capture.rate)
    window = heard[max(0, first) : first + most + len(sent)]
    if len(window) < len(sent) + capture.rate // 20:
        return None
    length = sf.next_fast_len(len(window))  # what wraps round lies after what is looked at
    answer = sf.irfft(sf.rfft(window, length) * np.conj(sf.rfft(sent, length)), length)
    answer = np.abs(answer[: len(window) - len(sent) + 1])
    best = int(np.argmax(answer))
    near = int(NEAR_S * capture.rate)
    others = np.concatenate([answer[: max(0, best - near)], answer[best + near :]])
    if not len(others) or answer[best] < PLAIN * np.sqrt(np.mean(others**2)):
        return None
    return float(best + max(0, -first))
