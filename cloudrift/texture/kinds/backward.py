"""Backward: the whole loop, or every chord in its own place so that the progression survives."""

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, add_wrapped, raised_cosine, silence
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.moves import Move, between
from cloudrift.texture.picture import Portrait, beats_of, moments

WHOLE, CHORDS = "whole", "chords in order"


def _process(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    if full.word("what") == WHOLE:
        n = context.loop_frames
        # Each pass turns round in its place. Of one pass from silence, what rang on after it has
        # no place before the first bar and is left out.
        out = silence(audio.shape[1])
        for first in range(0, n if context.once else audio.shape[1], n):
            out[:, first : first + n] = audio[:, first : first + n][:, ::-1]
        return out
    return _each_chord(audio, full.number("fade_ms"), context)


def _heard_frames(full: ResolvedSettings, context: Context) -> NDArray[np.int64]:
    """Return which frame of the loop is heard at each, fades aside."""
    n = context.loop_frames
    if full.word("what") == WHOLE:
        return np.arange(n)[::-1]
    cuts = sorted({cut % n for cut in context.cuts}) or [0]
    out = np.arange(n)
    for start, end in pairwise([*cuts, cuts[0] + n]):
        at = np.arange(start, end)
        out[at % n] = (start + end - 1 - at) % n
    return out


def _each_chord(audio: Stereo, fade_ms: float, context: Context) -> Stereo:
    """Mirror the sound between neighbouring chord starts, cross-fading at each.

    Round every cut both mirrored chords read on past their edges for half a fade, so nothing
    clicks and no level is lost; the wrap at the seam is one of the cuts.
    """
    n = context.loop_frames
    total = audio.shape[1]
    cuts = sorted({cut % n for cut in context.cuts}) or [0]
    places = [cut + n * i for i in range(context.passes) for cut in cuts]
    places.append(places[0] + total)
    shortest = min(b - a for a, b in pairwise(places))
    fade = max(2, min(int(fade_ms * 1e-3 * context.rate), shortest // 2)) // 2 * 2
    half, rise = fade // 2, raised_cosine(fade)
    out = silence(total)
    for start, end in pairwise(places):
        at = np.arange(start - half, end + half)
        piece = audio[:, (start + end - 1 - at) % total]
        piece[:, :fade] *= rise
        piece[:, -fade:] *= rise[::-1]
        add_wrapped(out, piece, start - half)
    return out


def _moves(full: ResolvedSettings, ticks: int, cuts: tuple[int, ...]) -> tuple[Move, ...]:
    if full.word("what") == WHOLE:
        return (Move(0, ticks, ticks, -1.0),)
    return tuple(Move(a, b, b, -1.0) for a, b in between(cuts, ticks))


def _says(full: ResolvedSettings) -> str:
    if full.word("what") == WHOLE:
        return "the whole loop from its end to its start"
    return "each chord swells into its own place; their order stays"


def _picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    return moments([_heard_frames(full, context)], beats_of(context), context)


BACKWARD = Kind(
    name="reverse",
    label="Reverse",
    family="Time",
    about="Reverses the sound, whole or chord by chord.",
    spec=SettingsSpec(
        (
            Field(name="what", label="What", default=CHORDS, choices=(CHORDS, WHOLE)),
            Field(
                name="fade_ms",
                label="Fade",
                default=12,
                unit="ms",
                low=1,
                high=250,
                step=1,
                log=True,
                hint="between neighbouring chords",
            ),
        )
    ),
    says=_says,
    process=_process,
    picture=_picture,
    moves=_moves,
)
