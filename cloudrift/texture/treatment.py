"""The treatment as a document value, and lines of treatments: what they do to key, tempo, sound."""

from collections.abc import Iterable
from dataclasses import replace

import msgspec
import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.wrap import (
    LONGEST_CHANGE,
    Spectrum,
    Through,
    changed_span,
    filter_change,
    filter_circular,
    filter_stretch,
    put,
    taken,
)
from cloudrift.ground.draws import MAX_DRAW
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Full, Settings
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.kind import Context, Kind
from cloudrift.theory.key import Key


class Treatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One processor in a line. ``settings`` keeps what differs from the kind's defaults."""

    id: str
    kind: str
    on: bool = True
    blend: float = 1.0
    draw: int = 1
    settings: Settings = ()

    def __post_init__(self) -> None:
        where = f"treatment {self.id} ({self.kind})"
        if not 0 <= self.blend <= 1:
            raise CloudriftError(f"{where}: blend is {self.blend:g}, but must lie between 0 and 1")
        if not 0 <= self.draw <= MAX_DRAW:
            raise CloudriftError(
                f"{where}: draw is {self.draw}, but must lie between 0 and {MAX_DRAW}"
            )
        find_kind(self.kind).spec.check(self.settings, where)

    @property
    def of(self) -> Kind:
        """The kind of this treatment."""
        return find_kind(self.kind)

    @property
    def full(self) -> Full:
        """Every setting by name."""
        return self.of.spec.full(self.settings)

    @property
    def acts(self) -> bool:
        """Whether it changes anything: it is in, and its blend is not 0."""
        return self.on and self.blend > 0

    @property
    def says(self) -> str:
        """What it does now, in words."""
        if not self.on:
            return "out: passes the sound on as it is"
        return self.of.says(self.full) if self.blend > 0 else "blend 0 %: nothing of it is heard"

    def set(self, name: str, value: object) -> "Treatment":
        """Return it with one setting changed; raise CloudriftError for a bad name or value."""
        where = f"treatment {self.id} ({self.kind})"
        settings = self.of.spec.check({**self.full, name: value}, where)
        return msgspec.structs.replace(self, settings=settings)


Line = tuple[Treatment, ...]


def acting(line: Iterable[Treatment]) -> Line:
    """Return the treatments of a line that change anything."""
    return tuple(t for t in line if t.acts)


def shift_st(line: Iterable[Treatment]) -> float:
    """Return how many semitones a line moves the sounding key: parts blended over half count."""
    return sum(t.of.shift_st(t.full) for t in acting(line) if t.blend >= 0.5)


def time_ratio(line: Iterable[Treatment]) -> float:
    """Return how much longer a line makes the loop (2 = twice as long, half the tempo)."""
    ratio = 1.0
    for treatment in acting(line):
        ratio *= treatment.of.time_ratio(treatment.full)
    return ratio


def tail_s(line: Iterable[Treatment], tempo: float) -> float:
    """Return how long a line rings on after a sound has ended, in seconds, at a tempo in BPM."""
    return sum(t.of.tail_s(t.full, tempo) for t in acting(line))


def after(context: Context, line: Iterable[Treatment]) -> Context:
    """Return the context behind a line: another length, another key."""
    line = tuple(line)
    moved = round(shift_st(line))
    context = context.stretched(time_ratio(line))
    return replace(context, key=context.key.shifted(moved)) if moved else context


def fused(line: Iterable[Treatment]) -> list[Line]:
    """Group acting treatments so that neighbouring linear ones are one group."""
    groups: list[Line] = []
    for treatment in acting(line):
        if treatment.of.linear and groups and groups[-1][-1].of.linear:
            groups[-1] = (*groups[-1], treatment)
        else:
            groups.append((treatment,))
    return groups


def treat(audio: Stereo, group: Line, context: Context) -> Stereo:
    """Apply one fused group: (2, context.frames) -> (2, frames of the context behind it)."""
    if group[0].of.linear:
        return filter_circular(audio, *_linear(group, context))
    (treatment,) = group
    kind, full = treatment.of, treatment.full
    if kind.process is None:
        raise CloudriftError(f"treatment {kind.name} has no process")
    wet = kind.process(audio, full, treatment.draw, context)
    if kind.time_ratio(full) != 1:
        return wet  # of another length: there is nothing to blend it with
    return _blended(audio, wet, treatment.blend)


def _blended(dry: Stereo, wet: Stereo, blend: float) -> Stereo:
    return wet if blend == 1 else dry + np.float32(blend) * (wet - dry)


def laid(
    audio: Stereo, line: Line, rate: int, tempo: float, *, key: Key | None = None,
    once: bool = False,
) -> Stereo:  # fmt: skip
    """Lay a line on sound: (2, n) as a loop, or once, with the tail that it rings.

    Parameters
    ----------
    tempo : BPM, for what is in time.
    key : for what rings in the key; C minor where none is given.
    """
    n = audio.shape[1]
    passes = 2 + int(tail_s(line, tempo) * rate) // n if once else 1
    context = Context(rate=rate, exact_frames=float(n), tempo=tempo, passes=passes, once=once,
                      key=key or Key())  # fmt: skip
    if once:
        audio = np.pad(audio, ((0, 0), (0, (passes - 1) * n)))
    for group in fused(line):
        audio = treat(audio, group, context)
        context = after(context, group)
    return audio


def treat_change(
    out: Stereo, before: Stereo, after: Stereo, group: Line, context: Context
) -> Stereo | None:
    """Return what ``treat`` makes of ``after``, from what it made of ``before``.

    Only the stretch that an edit touched is run again, and what rings on from it. None when that
    is not possible, or no less work than the whole.
    """
    if context.once:
        return None
    if group[0].of.linear:
        return filter_change(out, before, after, *_linear(group, context))
    (treatment,) = group
    near, full, draw = treatment.of.near, treatment.full, treatment.draw
    if near is None:
        return None
    start, count = changed_span(before, after)
    reach = near.reach(full, draw, context)
    if count + 2 * reach > LONGEST_CHANGE * out.shape[1]:
        return None
    new = out.copy()
    if count:
        start, count = start - reach, count + 2 * reach
        wet = near.process(after, full, draw, context, start, count)
        put(new, _blended(taken(after, start, count), wet, treatment.blend), start)
    return new


def treat_stretch(
    audio: Stereo, group: Line, context: Context, start: int, count: int
) -> Stereo | None:
    """Return frames ``start`` to ``start + count`` of what ``treat`` makes, or nearly so.

    None where that is not possible, or no less work than the whole.
    """
    if context.once:
        return None
    if group[0].of.linear:
        through, ring = _linear(group, context)
        # What rang in longer ago than this is 45 dB down.
        return filter_stretch(audio, through, ring // 2, start, count)
    (treatment,) = group
    kind, full = treatment.of, treatment.full
    wet: Stereo | None = None
    if kind.near:
        wet = kind.near.process(audio, full, treatment.draw, context, start, count)
    elif kind.rough:
        wet = kind.rough(audio, full, context, start, count)
    return None if wet is None else _blended(taken(audio, start, count), wet, treatment.blend)


def _linear(group: Line, context: Context) -> tuple[Through, int]:
    """What a linear group does to a spectrum, and how many frames it rings."""
    parts = [(t, t.of.linear, t.full) for t in group]
    ring = sum(part.ring_s(full, context) for _, part, full in parts if part)

    def through(spectrum: Spectrum, length: int) -> Spectrum:
        for treatment, part, full in parts:
            assert part is not None
            wet = part.through(spectrum, full, treatment.draw, context, length)
            if treatment.blend < 1:
                wet *= np.float32(treatment.blend)
                wet += spectrum * np.float32(1 - treatment.blend)
            spectrum = wet
        return spectrum

    return through, int(ring * context.rate)
