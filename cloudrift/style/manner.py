"""Manners: rules from which a groove is drawn. ``docs/groove-bed.md`` describes the format."""

import functools
from pathlib import Path
from typing import Annotated, Literal

import msgspec

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_toml, read_words, shipped
from cloudrift.loop.edits.bed.beds import PARTS
from cloudrift.loop.model.bed import MOST_SWING, STRAIGHT

STEPS_A_BAR = 16
NEVER, ALWAYS = ".", "x"

Share = Annotated[float, msgspec.Meta(ge=0, le=1)]
Swing = Annotated[float, msgspec.Meta(ge=STRAIGHT, le=MOST_SWING)]
Ms = Annotated[float, msgspec.Meta(ge=-100, le=100)]
Velocity = Annotated[int, msgspec.Meta(ge=1, le=127)]
Meet = Literal["one", "apart", "both"]


class Rolls(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Rolls of a lane: how often, at which steps, how many strokes over how many steps.

    ``swell`` goes from -1 (falling) to 1 (rising).
    """

    chance: Share = 0.3
    at: tuple[int, ...] = ()
    strokes: tuple[Annotated[int, msgspec.Meta(ge=2, le=24)], ...] = (4,)
    steps: Annotated[int, msgspec.Meta(ge=1, le=16)] = 2
    swell: Annotated[float, msgspec.Meta(ge=-1, le=1)] = 0.5
    pan: Share = 0.0
    st: tuple[int, ...] = (0,)


class MannerLane(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What one part does.

    Parameters
    ----------
    part : which (``loop.beds.PARTS``).
    chance : how often the lane is there at all.
    steps : a bar each, of sixteenths: ``.`` never, ``1`` to ``9`` tenths, ``x`` always; blanks are
        passed over.
    onsets : how much a stroke needs the loop to strike there, 0 (not at all) to 1.
    follows : how likely a stroke is where the loop strikes strongest, wherever that is.
    velocity : of strokes that are always there, from to; others are softer by up to ``ghost``.
    every_bars : it plays only in every n-th bar (crashes: the first of those).
    last : what is added in the last bar of the pattern: the busier end.
    lengths : of low drums: the share of the time to the next stroke that a note is held, from to.
    slides, jumps : of low drums: how often a note slides, or jumps an octave up.
    tension : of low drums: how often the end goes a half step away.
    """

    part: str
    steps: Annotated[tuple[str, ...], msgspec.Meta(min_length=1, max_length=8)]
    chance: Share = 1.0
    onsets: Share = 0.0
    follows: Share = 0.0
    velocity: tuple[Velocity, Velocity] = (92, 112)
    ghost: Annotated[int, msgspec.Meta(ge=0, le=90)] = 24
    late_ms: tuple[Ms, Ms] = (0, 0)
    every_bars: Annotated[int, msgspec.Meta(ge=0, le=8)] = 0
    last: str = ""
    pan: Share = 0.0
    lengths: tuple[Share, Share] = (0.8, 1.0)
    slides: Share = 0.0
    jumps: Share = 0.0
    tension: Share = 0.0
    rolls: Rolls | None = None


class Manner(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Rules for a groove, under a name.

    ``meet`` is what happens where kick and low drum fall together: only *one* is played (the low
    drum), the kick comes 32 ms before (*apart*), or *both* strike.
    """

    name: str
    about: str
    lanes: Annotated[tuple[MannerLane, ...], msgspec.Meta(min_length=1, max_length=16)]
    bars: Annotated[int, msgspec.Meta(ge=1, le=8)] = 2
    swing: tuple[Swing, Swing] = (STRAIGHT, STRAIGHT)
    swing_ticks: Literal[240, 480] = 240
    late_ms: tuple[Ms, Ms] = (0, 0)
    meet: Meet = "apart"
    duck_db: Annotated[float, msgspec.Meta(ge=0, le=24)] = 4.0


def read_manner(text: str, where: str) -> Manner:
    """Read a manner; raise CloudriftError that names the place of what is wrong."""
    manner = read_toml(text, where, Manner)
    for i, lane in enumerate(manner.lanes):
        at = f"{where}: lanes[{i}]"
        if lane.part not in PARTS:
            raise CloudriftError(
                f"{at}: there is no part called {lane.part!r}{did_you_mean(lane.part, PARTS)}"
            )
        for row in (*lane.steps, *((lane.last,) if lane.last else ())):
            chances_of(row, at)
        for name in ("velocity", "late_ms", "lengths"):
            low, high = getattr(lane, name)
            if low > high:
                raise CloudriftError(
                    f"{at}: {name} goes from {low:g} to {high:g}; write the smaller first"
                )
    return manner


def chances_of(row: str, where: str = "steps") -> list[float]:
    """Return the chances of a bar's steps, 0 to 1; raise CloudriftError where it is no bar."""
    signs = "".join(row.split())
    if len(signs) != STEPS_A_BAR:
        raise CloudriftError(f"{where}: {row!r} has {len(signs)} steps, not {STEPS_A_BAR}")
    out = []
    for sign in signs:
        if sign == NEVER:
            out.append(0.0)
        elif sign == ALWAYS:
            out.append(1.0)
        elif sign in "123456789":
            out.append(int(sign) / 10)
        else:
            raise CloudriftError(f"{where}: {row!r} has {sign!r}, but a step is ., 1 to 9 or x")
    return out


@functools.cache
def manners() -> dict[str, Manner]:
    """Return the manners that ship, by name."""
    found = shipped("cloudrift.style", "grooves", read_manner)
    return {one.name: one for one in sorted(found, key=lambda one: one.name)}


def find_manner(name: str) -> Manner:
    """Return a manner by name, or from a .toml file; raise CloudriftError that says the nearest."""
    if name.endswith(".toml"):
        return read_manner(read_words(Path(name), "manner"), name)
    known = manners()
    if name not in known:
        raise CloudriftError(f"there is no manner called {name!r}{did_you_mean(name, known)}")
    return known[name]
