"""Touch: how written notes are played. Everything by draw, nothing changes what is written."""

from itertools import groupby
from typing import Literal

import msgspec
import numpy as np

from cloudrift.ground.draws import stream
from cloudrift.ground.errors import CloudriftError
from cloudrift.notes.note import Note

Direction = Literal["up", "down"]
LIMITS = {
    "roll_ms": (0.0, 400.0),
    "uneven": (0.0, 1.0),
    "drift_ms": (0.0, 60.0),
    "spread": (0.0, 40.0),
    "length": (0.05, 1.2),
    "velocity": (1.0, 127.0),
}


class Touch(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How a part is played.

    ``roll_ms`` from first to last note of a chord, ``uneven`` how irregular the roll is (0-1),
    ``drift_ms`` and ``spread`` (velocity) the most a note strays either way, ``length`` the share
    of the written length that sounds, ``velocity`` the middle loudness (1-127).
    """

    roll_ms: float = 0.0
    direction: Direction = "up"
    uneven: float = 0.0
    drift_ms: float = 0.0
    spread: float = 0.0
    length: float = 1.0
    velocity: int = 84
    draw: int = 1

    def __post_init__(self) -> None:
        for name, (low, high) in LIMITS.items():
            value = getattr(self, name)
            if not low <= value <= high:
                raise CloudriftError(
                    f"touch: {name} is {value:g}, but must lie between {low:g} and {high:g}"
                )


def play(notes: tuple[Note, ...], touch: Touch) -> tuple[Note, ...]:
    """Return the notes as played: offsets, velocities and lengths from the touch.

    Notes that start together are one roll. The same touch and notes always give the same result.
    """
    out: list[Note] = []
    for start, group in groupby(notes, key=lambda n: n.start_tick):
        chord = sorted(group, key=lambda n: n.pitch, reverse=touch.direction == "down")
        rng = stream(touch.draw, "touch", start)
        delays = _roll(len(chord), touch, rng)
        for note, delay in zip(chord, delays, strict=True):
            drift, loud = rng.uniform(-1, 1, 2)
            velocity = round(touch.velocity + touch.spread * loud)
            out.append(
                msgspec.structs.replace(
                    note,
                    offset_ms=float(round(delay + touch.drift_ms * drift, 3)),
                    velocity=min(max(velocity, 1), 127),
                    length_ticks=max(1, round(note.length_ticks * touch.length)),
                )
            )
    return tuple(sorted(out, key=lambda n: (n.start_tick, n.pitch)))


def _roll(count: int, touch: Touch, rng: np.random.Generator) -> list[float]:
    """Delays in ms over the roll: even steps, each stretched or shrunk by up to ``uneven``."""
    if count == 1 or touch.roll_ms == 0:
        return [0.0] * count
    gaps = 1.0 + touch.uneven * rng.uniform(-0.9, 0.9, count - 1)
    places = np.concatenate([[0.0], np.cumsum(gaps)])
    return [float(p) for p in touch.roll_ms * places / places[-1]]
