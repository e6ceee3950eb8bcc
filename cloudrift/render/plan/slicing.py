"""How the pieces of a flip are laid into a loop: the plain numbers of it, and the sound."""

from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import soxr

from cloudrift.audio.buffers import Stereo, add_wrapped, raised_cosine, silence, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.listen.hits import detect_onsets
from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.stretch import LEAD_S, PROCESSES, pitch_shifted, stretched
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import get_or_make
from cloudrift.loop.edits.flip.ordering import heard_in
from cloudrift.loop.model.flip import Flipped, SlicePlacement
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock
from cloudrift.render.plan.laying import Fitting, Laying, laying_of, made_of
from cloudrift.texture.context import Context

LEAST_FRAMES = 16
STRIKE_S, SOFT_END_S = 0.002, 0.004  # how a strike within a place rises, and sound ends


class Cut(NamedTuple):
    """One place in frames: which span of the fitted recording, and where and how it plays.

    ``start`` counts from the recording's origin; ``fades`` are those in and out, 0 where it leads
    on from the place before, or into the next.
    """

    start: int
    span: int
    at: int
    lasts: int
    backward: bool
    times: int
    semitones: float
    tape: bool
    gains: tuple[float, float]
    step_db: float
    step_st: float
    fades: tuple[int, int]
    fills: bool
    decay: int

    @property
    def stretches(self) -> bool:
        """Whether it must be stretched, which takes long."""
        return self.fills or (not self.tape and (self.semitones != 0 or self.step_st != 0))


class Cuts(NamedTuple):
    """A recording as it would be laid whole, and the cuts of it that play."""

    laying: Laying
    cuts: tuple[Cut, ...]


def cuts_of(flip: Flipped, context: Context, ticks: int, metre: tuple[int, int]) -> Cuts:
    """Return how a flip is laid into a loop of that many ticks, in front of its layer's line."""
    laying = laying_of(flip.of, context, ticks, metre, longer=flip.longer)
    flip = heard_in(flip, ticks)
    clock = Clock.of(context.tempo, context.rate)
    first = clock.frames(flip.of.at_tick)
    level = to_gain(flip.of.gain_db)
    heard = [place for place in flip.places if not place.mute]
    lead = _leads(flip, heard, ticks)
    rate = context.rate
    cuts = []
    for place, (led, leads) in zip(heard, lead, strict=True):
        at, end = clock.frames(place.at_tick), clock.frames(place.end_tick)
        start, stop = clock.frames(place.from_tick), clock.frames(place.end_from)
        pan = place.pan
        gain = level * to_gain(place.level_db)
        gains = (gain * min(1.0, 1 - pan), gain * min(1.0, 1 + pan))
        fades = (
            0 if led else int(place.fade_in_ms * rate / 1000),
            0 if leads else int(place.fade_out_ms * rate / 1000),
        )
        cuts.append(Cut(
            start=start, span=stop - start, at=first + at, lasts=end - at,
            backward=place.backward, times=place.times, semitones=place.semitones,
            tape=place.tape, gains=gains, step_db=place.level_step_db, step_st=place.step_st,
            fades=fades, fills=place.fills, decay=int(place.decay_ms * rate / 1000),
        ))  # fmt: skip
    return Cuts(laying._replace(gain_db=0.0), tuple(cuts))


def _leads(flip: Flipped, heard: list[SlicePlacement], ticks: int) -> list[tuple[bool, bool]]:
    """Of each place, whether the one before leads on into it, and it into the next.

    Round the loop, ``ticks`` long, the last leads into the first.
    """
    total = flip.length_ticks

    def on(one: SlicePlacement, then: SlicePlacement, *, over: bool) -> bool:
        same = one.plain and then.plain and one.backward == then.backward
        meets = one.end_tick == then.at_tick + over * ticks
        ends, begins = (
            (one.from_tick, then.end_from) if one.backward else (one.end_from, then.from_tick)
        )
        return same and meets and ends % total == begins % total

    if not heard:
        return []
    joined = [on(a, b, over=False) for a, b in pairwise(heard)]
    round_ = flip.of.facts.kind == "loop" and on(heard[-1], heard[0], over=True)
    return list(zip([round_, *joined], [*joined, round_], strict=True))


# What is stretched waits for processes of its own: that many pieces wait at once.
_waiting = ThreadPoolExecutor(PROCESSES, thread_name_prefix="pieces")


def cut_up(cuts: Cuts, clips: ClipStore, start: int = 0, count: int = 0) -> Stereo:
    """Return a flip in its loop, (2, frames): in the steady state, or one pass of it.

    With a ``count``, only what is heard in that many frames from ``start`` on need be there.
    """
    laying = cuts.laying
    out = silence(laying.frames)
    wanted = [cut for cut in cuts.cuts if not count or _is_heard(cut, laying, start, count)]
    asked = [
        _waiting.submit(_sounding, cut, laying.fitting, clips) if cut.stretches else None
        for cut in wanted
    ]
    for cut, answer in zip(wanted, asked, strict=True):
        piece = answer.result() if answer else _sounding(cut, laying.fitting, clips)
        if not laying.once:
            add_wrapped(out, piece, cut.at)
        elif cut.at < laying.frames:
            piece = piece[:, : laying.frames - cut.at]
            out[:, cut.at : cut.at + piece.shape[1]] += piece
    return out


def piece_of(cuts: Cuts, at: int, clips: ClipStore) -> Stereo:
    """Return what plays at one place by itself, read-only."""
    return _sounding(cuts.cuts[at], cuts.laying.fitting, clips)


def _is_heard(cut: Cut, laying: Laying, start: int, count: int) -> bool:
    """Whether a place, or its fade, lies in some frames of the loop."""
    behind = (cut.at - start) % laying.loop_frames
    return behind < count or behind + cut.lasts + cut.fades[1] > laying.loop_frames


def _sounding(cut: Cut, fitting: Fitting, clips: ClipStore) -> Stereo:
    """Return what plays at a place, (2, its length and its fade out), read-only."""
    # A place that only moves is the same sound.
    what = ("piece", fitting, cut._replace(at=0))
    return get_or_make(what, lambda: _made(cut, fitting, clips))


def _made(cut: Cut, fitting: Fitting, clips: ClipStore) -> Stereo:
    rate = fitting.rate
    fade_in, fade_out = (min(fade, cut.lasts // 2) for fade in cut.fades)
    out = silence(cut.lasts + fade_out)
    each = [round(cut.lasts * i / cut.times) for i in range(cut.times + 1)]
    for i, (first, last) in enumerate(pairwise(each)):
        semitones = cut.semitones + i * cut.step_st
        tail = fade_out if i == cut.times - 1 else min(int(SOFT_END_S * rate), last - first)
        one = _read(cut, fitting, clips, last - first + tail, semitones)
        one = one * np.float32(to_gain(i * cut.step_db))
        rise = fade_in if i == 0 else min(int(STRIKE_S * rate), one.shape[1] // 2)
        if rise:
            one[:, :rise] *= raised_cosine(rise)
        if tail:
            one[:, -tail:] *= raised_cosine(tail)[::-1]
        out[:, first : first + one.shape[1]] += one
    if cut.decay:  # 60 dB over that time
        out *= np.exp(-6.9 / cut.decay * np.arange(out.shape[1], dtype=np.float32))
    out *= np.array(cut.gains, np.float32)[:, None]
    out.flags.writeable = False
    return out


def _read(cut: Cut, fitting: Fitting, clips: ClipStore, count: int, semitones: float) -> Stereo:
    """Read that many frames of a span from its start, or backward from its end, at a pitch.

    After the span's end it is silent, but for what a fade out takes.
    """
    tape = cut.tape and semitones != 0
    speed = 2 ** (semitones / 12) if tape else 1.0
    if cut.fills:
        return _filling(cut, fitting, made_of(_shifted(fitting, semitones), clips), count)
    whole = made_of(fitting, clips)
    # After the span goes on what the fade out takes.
    most = cut.span + round(max(0, count - cut.lasts) * speed)
    long = min(round(count * speed), most)
    if long < LEAST_FRAMES:
        return silence(count)
    origin = fitting.origin + cut.start
    first = origin + cut.span - long if cut.backward else origin
    # Of a shift that holds the length, only the span is made, from a little before it on.
    lead = int(LEAD_S * fitting.rate) if semitones and not tape else 0
    part = _from(whole, first - lead, long + 2 * lead, round_=fitting.round_and_round)
    if lead:
        part = pitch_shifted(part, semitones, fitting.rate)[:, lead : lead + long]
    if cut.backward:
        part = part[:, ::-1]
    if tape:
        part = soxr.resample(
            np.ascontiguousarray(part.T), speed * fitting.rate, fitting.rate, quality="HQ"
        ).T
    out = silence(count)
    use = min(count, part.shape[1])
    out[:, :use] = part[:, :use]
    if use < count:  # what was cut out ends in its place
        soft = min(use, int(SOFT_END_S * fitting.rate))
        out[:, use - soft : use] *= raised_cosine(soft)[::-1]
    return out


def _filling(cut: Cut, fitting: Fitting, whole: Stereo, count: int) -> Stereo:
    """A span stretched to fill its place (a part of it, where it is struck several times)."""
    wanted = max(LEAST_FRAMES, cut.lasts // cut.times)
    lead = int(LEAD_S * fitting.rate)
    span = max(1, min(cut.span, whole.shape[1]))
    part = _from(whole, fitting.origin + cut.start, span, round_=fitting.round_and_round)
    part = part[:, ::-1] if cut.backward else part
    longer = wanted / span
    padded = np.pad(part, ((0, 0), (lead, lead)))
    long = round(padded.shape[1] * longer)
    made = stretched(np.ascontiguousarray(padded), long, fitting.rate)
    made = made[:, round(lead * longer) :]
    out = silence(count)
    use = min(count, made.shape[1])
    out[:, :use] = made[:, :use]
    return out


def _shifted(fitting: Fitting, semitones: float) -> Fitting:
    return fitting._replace(semitones=fitting.semitones + semitones) if semitones else fitting


def _from(audio: Stereo, first: int, count: int, *, round_: bool) -> Stereo:
    """Frames from a place on: round and round, or with silence outside."""
    if not audio.shape[1]:
        raise CloudriftError("nothing of the recording is left; move its start and end apart")
    if round_:
        return np.array(slice_wrapped(audio, first % audio.shape[1], count))
    out = silence(count)
    start, end = max(0, first), min(audio.shape[1], first + count)
    if end > start:
        out[:, start - first : end - first] = audio[:, start:end]
    return out


def hits_in(flip: Flipped, laying: Laying, clips: ClipStore, tempo: float) -> list[int]:
    """Return the ticks at which something is struck in what a flip is cut from."""
    fitting = laying.fitting
    frames = Clock.of(tempo, fitting.rate).frames(flip.length_ticks)
    audio = made_of(fitting, clips)[:, fitting.origin : fitting.origin + frames]
    seconds = detect_onsets(audio, fitting.rate, wrapped=fitting.round_and_round)
    return [round(second * tempo / 60 * TICKS_PER_QUARTER) for second in seconds]
