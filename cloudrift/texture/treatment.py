"""The treatment as a document value, and lines of treatments: what they do to key, tempo, sound."""

from collections.abc import Iterable

import msgspec

from cloudrift.ground.draws import MAX_VARIATION
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field, ResolvedSettings, Settings
from cloudrift.texture.catalogue import find_design, unknown_kind
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.ride import BLEND, Ride, RidePoint, check_ride

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
    variation: int = 1
    settings: Settings = ()
    rides: tuple[Ride, ...] = ()
    note: str = ""

    def __post_init__(self) -> None:
        where = self._where
        if not 0 <= self.blend <= 1:
            raise CloudriftError(
                f"{where}: dry/wet is {self.blend:g}, but must lie between 0 and 1"
            )
        if not 0 <= self.variation <= MAX_VARIATION:
            raise CloudriftError(
                f"{where}: variation is {self.variation}, but must lie between 0 and "
                f"{MAX_VARIATION}"
            )
        if len(self.note) > MOST_NOTE:
            raise CloudriftError(f"{where}: its note is longer than {MOST_NOTE} characters")
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
    def full(self) -> ResolvedSettings:
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
            return "bypassed"
        if not self.acts:
            return "dry/wet 0 %: no effect"
        # What rides is said as it begins, and then how far it goes.
        begins = {r.of: r.points[0].value for r in self.rides if r.of != BLEND.name}
        return " · ".join(
            [self.of.says(ResolvedSettings({**self.full, **begins})), *map(self._rides, self.rides)]
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
            raise CloudriftError(f"{self._where}: there is no setting called {name!r}")
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
    """Return the context after a line: another length, another key."""
    line = tuple(line)
    moved = round(shift_st(line))
    context = context.stretched(time_ratio(line))
    return context.in_key(context.key.shifted(moved))


def fused(line: Iterable[Treatment]) -> list[Line]:
    """Group acting treatments so that neighbouring linear ones that stand are one group."""
    groups: list[Line] = []
    for treatment in acting(line):
        if stands(treatment) and groups and stands(groups[-1][-1]):
            groups[-1] = (*groups[-1], treatment)
        else:
            groups.append((treatment,))
    return groups


def stands(treatment: Treatment) -> bool:
    """Whether it is linear and the same at any moment."""
    return treatment.of.linear is not None and not treatment.rides
