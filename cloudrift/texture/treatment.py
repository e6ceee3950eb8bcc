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
from cloudrift.ground.settings import Field, Full, Settings
from cloudrift.texture.catalogue import find_design, unknown_kind
from cloudrift.texture.kind import Context, Kind
from cloudrift.texture.ridden import Course, Run, Values, blend_curve, ridden, ridden_stretch
from cloudrift.texture.ride import BLEND, Ride, RidePoint, check_ride
from cloudrift.theory.key import Key

MOST_NOTE = 2000  # letters


class Treatment(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One processor in a line. ``settings`` keeps what differs from the kind's defaults.

    ``version`` is the design that it was made with. A kind or a design that is not known here is
    kept as it is and passed by. ``rides`` are values that change over the loop, ``note`` is what
    somebody wrote on the card.
    """

    id: str
    kind: str
    version: int = 1
    on: bool = True
    blend: float = 1.0
    draw: int = 1
    settings: Settings = ()
    rides: tuple[Ride, ...] = ()
    note: str = ""

    def __post_init__(self) -> None:
        where = self._where
        if not 0 <= self.blend <= 1:
            raise CloudriftError(f"{where}: blend is {self.blend:g}, but must lie between 0 and 1")
        if not 0 <= self.draw <= MAX_DRAW:
            raise CloudriftError(
                f"{where}: draw is {self.draw}, but must lie between 0 and {MAX_DRAW}"
            )
        if len(self.note) > MOST_NOTE:
            raise CloudriftError(f"{where}: its note is longer than {MOST_NOTE} letters")
        if len({ride.of for ride in self.rides}) != len(self.rides):
            raise CloudriftError(f"{where}: two rides of one value")
        if self.known:
            self.of.spec.check(self.settings, where)
            for ride in self.rides:
                check_ride(ride, self.field(ride.of), where)

    @property
    def _where(self) -> str:
        return f"treatment {self.id} ({self.kind})"

    @property
    def known(self) -> bool:
        """Whether this program knows its kind, in its design."""
        return find_design(self.kind, self.version) is not None

    @property
    def of(self) -> Kind:
        """The kind of this treatment; one that is not known here does nothing."""
        return find_design(self.kind, self.version) or unknown_kind(self.kind, self.version)

    @property
    def full(self) -> Full:
        """Every setting by name."""
        return self.of.spec.full(self.settings)

    @property
    def acts(self) -> bool:
        """Whether it changes anything: it is known, it is in, and its blend is not 0."""
        rides = any(ride.of == BLEND.name for ride in self.rides)
        return self.on and (self.blend > 0 or rides) and self.known

    @property
    def says(self) -> str:
        """What it does now, in words."""
        if not self.known:
            return self.of.says(self.full)
        if not self.on:
            return "out: passes the sound on as it is"
        if not self.acts:
            return "blend 0 %: nothing of it is heard"
        # What rides is said as it begins, and then how far it goes.
        begins = {r.of: r.points[0].value for r in self.rides if r.of != BLEND.name}
        return " · ".join(
            [self.of.says(Full({**self.full, **begins})), *map(self._rides, self.rides)]
        )

    def _rides(self, ride: Ride) -> str:
        field = self.field(ride.of)
        low, high = (field.text(f(p.value for p in ride.points)) for f in (min, max))
        return f"{field.label.lower()} rides {low} to {high}"

    def field(self, name: str) -> Field:
        """Return the field of a setting, or of the blend; raise CloudriftError for another name."""
        if name == BLEND.name:
            return BLEND
        if name not in self.full:
            raise CloudriftError(f"{self._where}: no setting is called {name!r}")
        return self.of.spec[name]

    def set(self, name: str, value: object) -> "Treatment":
        """Return it with one setting changed; raise CloudriftError for a bad name or value."""
        settings = self.of.spec.check({**self.full, name: value}, self._where)
        return msgspec.structs.replace(self, settings=settings)

    def ride_of(self, name: str) -> Ride | None:
        """Return how a value rides, None if it stands."""
        return next((ride for ride in self.rides if ride.of == name), None)

    def with_ride(
        self, name: str, points: tuple[RidePoint, ...], every_ticks: int = 0
    ) -> "Treatment":
        """Return it with a value riding through points; with no points it stands again."""
        rides = tuple(ride for ride in self.rides if ride.of != name)
        if points:
            rides = (*rides, Ride(of=name, points=points, every_ticks=every_ticks))
        return msgspec.structs.replace(self, rides=rides)


Line = tuple[Treatment, ...]


def acting(line: Iterable[Treatment]) -> Line:
    """Return the treatments of a line that change anything."""
    return tuple(t for t in line if t.acts)


def shift_st(line: Iterable[Treatment], blend: float = 1.0) -> float:
    """Return how many semitones a line moves the sounding key: parts blended over half count.

    ``blend`` is that of the whole line, which rests where the line changes the length.
    """
    line = tuple(line)
    if blend < 0.5 and time_ratio(line) == 1:
        return 0.0
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
    """Group acting treatments so that neighbouring linear ones that stand are one group."""
    groups: list[Line] = []
    for treatment in acting(line):
        if _stands(treatment) and groups and _stands(groups[-1][-1]):
            groups[-1] = (*groups[-1], treatment)
        else:
            groups.append((treatment,))
    return groups


def _stands(treatment: Treatment) -> bool:
    """Whether it is linear and the same at any moment."""
    return treatment.of.linear is not None and not treatment.rides


def treat(audio: Stereo, group: Line, context: Context) -> Stereo:
    """Apply one fused group: (2, context.frames) -> (2, frames of the context behind it)."""
    if _stands(group[0]):
        return filter_circular(audio, *_linear(group, context))
    (treatment,) = group
    kind, full = treatment.of, treatment.full
    if treatment.rides:
        wet = _ridden(audio, treatment, context)
    elif kind.process is not None:
        wet = kind.process(audio, full, treatment.draw, context)
    else:
        raise CloudriftError(f"treatment {kind.name} has no process")
    if kind.time_ratio(full) != 1:
        return wet  # of another length: there is nothing to blend it with
    return _blended(audio, wet, treatment, context)


def _blended(
    dry: Stereo, wet: Stereo, treatment: Treatment, context: Context, start: int = 0
) -> Stereo:
    """Blend a treatment's sound into what came in; both begin at a frame of the loop."""
    curve = blend_curve(treatment.rides, context)
    if curve is not None:
        return dry + taken(curve, start, dry.shape[1]) * (wet - dry)
    return wet if treatment.blend == 1 else dry + np.float32(treatment.blend) * (wet - dry)


def _ridden(audio: Stereo, treatment: Treatment, context: Context) -> Stereo:
    """What it makes of the whole loop, unblended, with what rides riding."""
    run = _runner(audio, treatment, context, exact=True)
    if all(ride.of == BLEND.name for ride in treatment.rides):
        out = run((), None)
        assert out is not None
        return out
    return ridden(Course(treatment.rides, treatment.of.spec, context), run, context)


def _runner(audio: Stereo, treatment: Treatment, context: Context, *, exact: bool) -> Run:
    """Return how a treatment that rides is run at other values, whole or in part."""
    still = msgspec.structs.replace(treatment, rides=(), blend=1.0)

    def run(values: Values, where: tuple[int, int] | None) -> Stereo | None:
        settings = still.of.spec.check({**still.full, **dict(values)}, still.kind)
        one = (msgspec.structs.replace(still, settings=settings),)
        if where is None:
            return treat(audio, one, context)
        return treat_stretch(audio, one, context, *where, exact=exact)

    return run


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
    if _stands(group[0]):
        return filter_change(out, before, after, *_linear(group, context))
    (treatment,) = group
    near, full, draw = treatment.of.near, treatment.full, treatment.draw
    if near is None or treatment.rides:
        return None
    start, count = changed_span(before, after)
    reach = near.reach(full, draw, context)
    if count + 2 * reach > LONGEST_CHANGE * out.shape[1]:
        return None
    new = out.copy()
    if count:
        start, count = start - reach, count + 2 * reach
        wet = near.process(after, full, draw, context, start, count)
        put(new, _blended(taken(after, start, count), wet, treatment, context, start), start)
    return new


def treat_stretch(
    audio: Stereo, group: Line, context: Context, start: int, count: int, *, exact: bool = False
) -> Stereo | None:
    """Return frames ``start`` to ``start + count`` of what ``treat`` makes.

    Nearly so, good enough to be heard for a moment, unless it is to be ``exact``.
    None where that is not possible, or no less work than the whole.
    """
    if context.once:
        return None
    if _stands(group[0]):
        through, ring = _linear(group, context)
        # What rang in longer ago than half of that is 45 dB down.
        return filter_stretch(audio, through, ring if exact else ring // 2, start, count)
    (treatment,) = group
    kind, full = treatment.of, treatment.full
    wet: Stereo | None = None
    if treatment.rides:
        run = _runner(audio, treatment, context, exact=exact)
        if all(ride.of == BLEND.name for ride in treatment.rides):
            wet = run((), (start, count))
        else:
            course = Course(treatment.rides, kind.spec, context)
            wet = ridden_stretch(course, run, context, start, count)
    elif kind.near:
        wet = kind.near.process(audio, full, treatment.draw, context, start, count)
    elif kind.rough and not exact:
        wet = kind.rough(audio, full, context, start, count)
    if wet is None:
        return None
    return _blended(taken(audio, start, count), wet, treatment, context, start)


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
