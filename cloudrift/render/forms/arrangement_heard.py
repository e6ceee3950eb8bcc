"""The arrangement made to be heard: what sounds next at once, then section by section.

What is handed out is finished: nobody writes into it any more, so that any thread may read it.
"""

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from cloudrift.audio.buffers import Stereo, silence
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.model.document import Document
from cloudrift.render.engine.ahead import ahead
from cloudrift.render.engine.engine import Engine, Loudness
from cloudrift.render.forms.spans import spans_of
from cloudrift.render.forms.timeline import pieces
from cloudrift.render.forms.trial_voice import over_rest_db
from cloudrift.render.measure.sound_facts import voice_room_db
from cloudrift.render.plan.plan import heard_node


class Stretch(NamedTuple):
    """Some of the arrangement, (2, frames), and the frame of it that it begins at."""

    start: int
    audio: Stereo


class SectionFacts(NamedTuple):
    """What was measured of a section.

    Its bars' levels in dB, what room it leaves a voice, in dB, and how far the trial voice stands
    over it, where it is sung.
    """

    levels: np.ndarray
    voice_room: float
    voice_over: float | None


class WithSection(NamedTuple):
    """All of the arrangement, one more of its sections as it is now.

    ``audio`` and ``bare``, (2, frames): through the line of all of it, and before that.
    """

    at: int
    audio: Stereo
    bare: Stereo
    facts: SectionFacts


def laid_out(audio: Stereo, before: Sequence[int], now: Sequence[int]) -> Stereo:
    """Return an arrangement's sound with its sections where they begin now.

    ``before`` and ``now`` are where they begin, and the end, in frames.
    """
    out = silence(now[-1])
    for (a, b), (c, d) in zip(pairwise(before), pairwise(now), strict=False):
        count = min(b - a, d - c)
        out[:, c : c + count] = audio[:, a : a + count]
    return out


def what_sounds_next(
    engine: Engine,
    document: Document,
    starts: Sequence[int],
    share: float,
    stale: Callable[[], bool],
) -> Iterator[Stretch]:
    """Hand out what sounds next as it is now, nearly: without what happens at a change."""
    frame = min(round(share * starts[-1]), starts[-1] - 1)
    at = bisect_right(starts, frame) - 1
    begins = starts[at]
    for span in spans_of(document):
        if span.at != at:
            continue
        ends = begins + span.frames
        if frame < ends:
            break
        begins = ends
    else:
        return  # in what a slower end has added
    turn = span.loop.sounding_frames
    inside = (frame - begins) % turn
    node = heard_node(span.loop, engine.tones)
    whole = engine.cache.get(node.key)
    if whole is not None:
        yield Stretch(begins, np.tile(whole, span.passes))
        return
    for soon in ahead(engine, span.loop, inside / turn, fresh=True):
        by = (soon.start - inside + turn // 2) % turn - turn // 2
        first = max(begins, frame + by)
        piece = soon.piece[:, first - frame - by : ends - frame - by]
        yield Stretch(first, piece)
    if span.passes > 1:  # it is wanted in any case, and there before the first pass is
        yield Stretch(begins, np.tile(engine.audio(node, stale), span.passes))


def section_by_section(
    engine: Engine,
    document: Document,
    starts: Sequence[int],
    audio: Stereo,
    bare: Stereo,
    *,
    first: int,
    voice: Stereo | None,
    stale: Callable[[], bool],
) -> Iterator[WithSection]:
    """Make the sections, from the ``first`` (by number) on and then those before it.

    ``audio`` and ``bare`` are what was heard until now; ``voice`` is the trial voice, as long.
    Raises Cancelled.
    """
    rate, last = document.loop.rate, len(starts) - 1
    for begin, end in ((first, last), (0, first + 1 if first else 0)):
        for piece in pieces(engine, document, stale, begin, end):
            if stale():
                raise Cancelled
            here = slice(starts[piece.at], starts[piece.at + 1])
            audio, bare = _with(audio, piece.audio, here), _with(bare, piece.bare, here)
            bars = document.arrangement.sections[piece.at].bars
            over = None if voice is None else over_rest_db(voice[:, here], piece.audio, rate)
            facts = SectionFacts(
                bar_levels(piece.audio, bars), voice_room_db(piece.audio, rate), over
            )
            yield WithSection(piece.at, audio, bare, facts)


def _with(whole: Stereo, made: Stereo, here: slice) -> Stereo:
    out = np.array(whole)
    place = out[:, here]
    place[:, : made.shape[1]] = made[:, : place.shape[1]]
    return out


def loudness_of(audio: Stereo, rate: int) -> Loudness:
    """Return how loud an arrangement is, and its true peak."""
    return Loudness(lufs=integrated_lufs(audio, rate), true_peak_db=true_peak_db(audio))


def bar_levels(audio: Stereo, bars: int) -> np.ndarray:
    """Return how loud each bar is, dB (mean square of both sides): (bars,)."""
    edges = np.linspace(0, audio.shape[1], bars + 1).astype(int)
    power = [float(np.square(audio[:, a:b]).mean()) if b > a else 0.0 for a, b in pairwise(edges)]
    return 10 * np.log10(np.maximum(power, 1e-9))
