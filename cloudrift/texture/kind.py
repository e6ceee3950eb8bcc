"""What a kind of treatment is."""

from collections.abc import Callable
from dataclasses import dataclass

from cloudrift.ground.settings import ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.moves import Moves, Pitches
from cloudrift.texture.picture import Portrait, decay, response
from cloudrift.texture.process import Linear, Near, Process, Rough

Draw = Callable[[ResolvedSettings, int, Context], Portrait]  # settings, draw, context


def _no_shift(_: ResolvedSettings) -> float:
    return 0.0


def _no_tail(_: ResolvedSettings, _tempo: float) -> float:
    return 0.0


def _same_length(_: ResolvedSettings) -> float:
    return 1.0


def _never(_: ResolvedSettings) -> bool:
    return False


def _clears_nothing(_: ResolvedSettings) -> float:
    return 0.0


def response_of(linear: Linear) -> Draw:
    """Return how the level at each frequency is drawn."""
    return lambda full, variation, context: response(
        lambda ones, length: linear.through(ones, full, variation, context, length), context
    )


def decay_of(linear: Linear) -> Draw:
    """Return how a click that rings on is drawn."""
    return lambda full, variation, context: decay(
        lambda ones, length: linear.through(ones, full, variation, context, length),
        linear.ring_s(full, context),
        context,
    )


@dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of treatment.

    Exactly one of ``process`` and ``linear`` is there; ``near`` may be beside ``process``. ``says``
    writes in words what it does now.
    ``rough`` does what ``near.process`` does, but only nearly the same as the whole: good enough to
    be heard for a moment. ``shift_st`` and ``time_ratio`` tell how it moves the sounding key and
    length, ``moves`` where what is heard comes from and ``pitches`` which pitches one becomes,
    where that is not as it comes in; ``tail_s(settings, tempo)`` how long it rings on.
    ``picture(settings, draw, context)`` draws what it does; a linear one needs none: its response
    is drawn. ``rumbles`` says that it brings up what nobody hears and speakers waste their strength
    on; ``clears_hz`` below which edge it takes such things away.
    """

    name: str
    label: str
    family: str
    about: str
    spec: SettingsSpec
    says: Callable[[ResolvedSettings], str]
    process: Process | None = None
    linear: Linear | None = None
    near: Near | None = None
    rough: Rough | None = None
    shift_st: Callable[[ResolvedSettings], float] = _no_shift
    time_ratio: Callable[[ResolvedSettings], float] = _same_length
    moves: Moves | None = None
    pitches: Pitches | None = None
    tail_s: Callable[[ResolvedSettings, float], float] = _no_tail
    picture: Draw | None = None
    rumbles: bool = False
    clears_hz: Callable[[ResolvedSettings], float] = _clears_nothing
    blend: float = 1.0  # what it begins with
    stretches: Callable[[ResolvedSettings], bool] = _never  # whether it needs what stretches sound
    draws: bool = False  # whether its variation number changes anything
    follows_key: bool = False
    version: int = 1

    def drawn(self, full: ResolvedSettings, variation: int, context: Context) -> Portrait:
        """Return the picture of what it does."""
        if self.picture is not None:
            return self.picture(full, variation, context)
        assert self.linear is not None, self.name
        return response_of(self.linear)(full, variation, context)
