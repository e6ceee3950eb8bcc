"""How a recording is brought to a tempo: which second of it is heard when."""

from typing import NamedTuple

import numpy as np

from cloudrift.audio.fitting import QUICKEST, SLOWEST
from cloudrift.loop.model.recorded import FromRecording

WHOLE_BEATS = 0.02  # share of a beat that a loop may miss whole beats by, and still be meant so


class Fitted(NamedTuple):
    """How a recording is fitted to a tempo.

    ``places`` pair seconds of the recording with seconds of what comes of it, both rising, before
    a tape makes all of that ``speed`` times as quick (and as high); ``origin_s`` is the second of
    what comes of it, likewise, that lies at its place in the loop.
    """

    speed: float
    places: tuple[tuple[float, float], ...]
    origin_s: float

    @property
    def long_s(self) -> float:
        """How long it comes to be, in seconds."""
        return self.places[-1][1] / self.speed


def fitted(source: FromRecording, tempo: float, longer: float = 1.0) -> Fitted:
    """Return how a recording is fitted to a tempo (BPM).

    One that follows the tempo is laid over ``longer`` times as many bars as it was recorded in.
    """
    facts = source.facts
    first, last = source.first_s, source.end_s
    speed, pace = 1.0, 1.0  # how many times as quick it comes to be, by tape and by stretching
    if source.fit == "tape":
        speed = _bounded(tempo / (facts.tempo * longer))
    elif source.fit == "tempo":
        pace = _bounded(tempo / (facts.tempo * longer))
    beat = 60 / tempo
    marks = [b for b in facts.beats_s if first <= b < last] if source.fit == "beats" else []
    if len(marks) > 1:
        places = _by_beats(source, marks, beat)
    else:
        length = (last - first) / pace
        if facts.kind == "loop" and source.fit in ("tempo", "tape"):
            length = _whole_beats(length / speed, beat) * speed
        places = [(first, 0.0), (last, length)]
    there, wanted = zip(*places, strict=True)
    return Fitted(speed, tuple(places), float(np.interp(source.origin_s, there, wanted)))


def _bounded(pace: float) -> float:
    return min(max(pace, SLOWEST), QUICKEST)


def _whole_beats(length: float, beat: float) -> float:
    """A loop's length in seconds: of whole beats, where it is meant to be."""
    beats = length / beat
    whole = round(beats)
    return whole * beat if whole > 0 and abs(beats - whole) < WHOLE_BEATS else length


def _by_beats(source: FromRecording, marks: list[float], beat: float) -> list[tuple[float, float]]:
    """Seconds there, seconds wanted: marks on the loop's beats, or a share of the way to them.

    Before the first and after the last it goes on at the pace of its beats.
    """
    pace = _bounded((marks[-1] - marks[0]) / (len(marks) - 1) / beat)
    first = marks[0]
    down = marks.index(source.origin_s)
    # The downbeat stays where it is, whatever is pulled.
    lies = (first - source.first_s) / pace + down * beat
    out = [(source.first_s, 0.0)] if first > source.first_s else []
    for i, mark in enumerate(marks):
        evenly = lies + (mark - marks[down]) / pace
        wanted = lies + (i - down) * beat
        out.append((mark, evenly + source.pull * (wanted - evenly)))
    out.append((source.end_s, out[-1][1] + (source.end_s - marks[-1]) / pace))
    start = out[0][1]
    return [(there, wanted - start) for there, wanted in out]
