"""How a recording is laid into a loop: the plain numbers of it, and the sound."""

import math
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from cloudrift.audio.buffers import QUIET_DB, Stereo, add_wrapped, raised_cosine, silence, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.fitting import fitted, on_tape
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.audio.resample import at_rate
from cloudrift.audio.vowels import vowels_moved
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import get_or_make
from cloudrift.loop.model.recorded import FromRecording
from cloudrift.loop.sounding.fitted import fitted as fitted_to
from cloudrift.notes.time import Clock, bar_ticks
from cloudrift.texture.context import Context

FADE_IN_S, FADE_OUT_S = 0.003, 0.012  # where it is cut
BED_FADE_S = 0.6
MOST_LOUDER_DB = 9.0


class Fitting(NamedTuple):
    """What is made of a recording before it is laid: all frames are the loop's.

    ``places`` are those of ``audio.fitting``; ``origin`` is the frame of the result that lies at
    its place in the loop. ``speed`` is that of a tape, before all else.
    """

    clip: str
    rate: int
    speed: float
    places: tuple[tuple[int, int], ...]
    origin: int
    semitones: float
    hold_vowels: bool
    round_and_round: bool
    fades: tuple[bool, bool]  # whether it is cut at its start, at its end

    @property
    def goes(self) -> float:
        """How far its pitch goes in all, in semitones."""
        return self.semitones + 12 * math.log2(self.speed)


class Laying(NamedTuple):
    """A fitted recording in the loop: the frames at which its origin comes.

    ``fills``: it is a bed, which goes on all over the loop. ``ends``: one turn ends where the next
    begins, or the loop.
    """

    fitting: Fitting
    starts: tuple[int, ...]
    fills: bool
    ends: bool
    gain_db: float
    loop_frames: int
    frames: int
    once: bool


def laying_of(
    source: FromRecording,
    context: Context,
    ticks: int,
    metre: tuple[int, int],
    *,
    longer: float = 1.0,
) -> Laying:
    """Return how a recording is laid into a loop of that many ticks, in front of its layer's line.

    One that follows the tempo is laid over ``longer`` times as many bars as it was recorded in.
    """
    clock = Clock.of(context.tempo, context.rate)
    bar = bar_ticks(metre)
    first = source.at_tick % ticks
    every = source.every_bars * bar
    starts = range(first, ticks, every) if every else (first,)
    kind = source.facts.kind
    return Laying(
        fitting=_fitting(source, context, longer),
        starts=tuple(clock.frames(tick) for tick in starts),
        fills=kind == "bed",
        ends=kind == "loop" and every > 0,
        gain_db=source.gain_db,
        loop_frames=context.loop_frames,
        frames=context.frames,
        once=context.once,
    )


def _fitting(source: FromRecording, context: Context, longer: float) -> Fitting:
    rate, facts = context.rate, source.facts
    fit = fitted_to(source, context.tempo, longer)
    # By tape all of it is on the tape's time before it is stretched.
    frames = [
        (round(there / fit.speed * rate), round(wanted / fit.speed * rate))
        for there, wanted in fit.places
    ]
    return Fitting(
        clip=source.clip,
        rate=rate,
        speed=fit.speed,
        places=tuple(frames),
        origin=round(fit.origin_s / fit.speed * rate),
        semitones=source.semitones,
        hold_vowels=source.hold_vowels,
        round_and_round=facts.kind == "loop",
        fades=(source.first_s > 0, source.end_s < facts.length_s),
    )


def made_of(fitting: Fitting, clips: ClipStore) -> Stereo:
    """Return the fitted recording, read-only."""
    return get_or_make(("fitted", fitting), lambda: _made(fitting, clips))


def _made(fitting: Fitting, clips: ClipStore) -> Stereo:
    audio, own_rate = clips.read(fitting.clip)
    rate = fitting.rate
    audio = at_rate(audio, own_rate, rate)
    played = on_tape(audio, fitting.speed, rate)
    out = fitted(
        played, fitting.places, rate, fitting.semitones, round_and_round=fitting.round_and_round
    )
    if fitting.hold_vowels and fitting.goes:
        out = vowels_moved(out, -fitting.goes, rate)
    heard = (round(place[0] * fitting.speed) for place in (fitting.places[0], fitting.places[-1]))
    out = _as_loud(out, audio[:, slice(*heard)], rate)
    fade_in, fade_out = (min(int(s * rate), out.shape[1] // 2) for s in (FADE_IN_S, FADE_OUT_S))
    if fitting.fades[0] and fade_in:
        out[:, :fade_in] *= raised_cosine(fade_in)
    if fitting.fades[1] and fade_out:
        out[:, -fade_out:] *= raised_cosine(fade_out)[::-1]
    return out


def _as_loud(audio: Stereo, as_what: Stereo, rate: int) -> Stereo:
    """Make what comes out as loud as what went in: stretching smears blows, tape shortens them."""
    if not audio.shape[1] or not as_what.shape[1]:
        return audio
    wanted, loud = (integrated_lufs(one, rate) for one in (as_what, audio))
    if min(wanted, loud) <= QUIET_DB / 2:
        return audio
    return audio * np.float32(to_gain(min(max(wanted - loud, -MOST_LOUDER_DB), MOST_LOUDER_DB)))


def laid(laying: Laying, clips: ClipStore) -> Stereo:
    """Return a recording in its loop, (2, frames): in the steady state, or one pass of it."""
    piece = made_of(laying.fitting, clips)
    if not piece.shape[1]:
        raise CloudriftError("nothing of the recording is left; move its start and end apart")
    piece = piece * np.float32(to_gain(laying.gain_db))
    if laying.fills:
        return _bed(piece, laying)
    origin, rate = laying.fitting.origin, laying.fitting.rate
    out = silence(laying.frames)
    turns = [*laying.starts[1:], laying.loop_frames]
    for start, then in zip(laying.starts, turns, strict=True):
        one = piece
        if laying.ends and piece.shape[1] - origin > then - start:
            one = piece[:, : then - start + origin].copy()
            fade = min(int(FADE_OUT_S * rate), one.shape[1])
            one[:, -fade:] *= raised_cosine(fade)[::-1]
        at = start - origin
        if not laying.once:
            add_wrapped(out, one, at)
            continue
        one = one[:, max(0, -at) : max(0, laying.frames - at)]
        out[:, max(0, at) : max(0, at) + one.shape[1]] += one
    return out


def _bed(piece: Stereo, laying: Laying) -> Stereo:
    """What goes on all over the loop: turn after turn, each faded into the next."""
    n, long = laying.loop_frames, piece.shape[1]
    least = min(int(BED_FADE_S * laying.fitting.rate), long // 3, n // 3)
    count = max(1, -(-n // max(1, long - least)))
    places = [round(i * n / count) for i in range(count + 1)]
    out = silence(n)
    for start, then in pairwise(places):
        fade = min(long - (then - start), int(BED_FADE_S * laying.fitting.rate), n // 3)
        one = piece[:, : then - start + fade].copy()
        if fade > 0:
            rise = np.sqrt(raised_cosine(fade))
            one[:, :fade] *= rise
            one[:, -fade:] *= rise[::-1]
        add_wrapped(out, one, start)
    if not laying.once:
        return out
    whole = silence(laying.frames)
    whole[:, :n] = out
    fade = min(int(BED_FADE_S * laying.fitting.rate), n)
    whole[:, n - fade : n] *= raised_cosine(fade)[::-1]
    return whole
