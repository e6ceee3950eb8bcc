"""Touch: how written notes are played. Everything by draw, nothing changes what is written."""

import functools
from collections.abc import Mapping
from itertools import groupby
from typing import Literal

import msgspec
import numpy as np

from cloudrift.ground.draws import MAX_VARIATION, rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.notes.note import Note

Direction = Literal["up", "down"]
LIMITS = {
    "roll_ms": (0.0, 400.0),
    "top": (0, 9),
    "uneven": (0.0, 1.0),
    "drift_ms": (0.0, 60.0),
    "spread": (0.0, 40.0),
    "length": (0.05, 1.2),
    "velocity": (1.0, 127.0),
    "variation": (0, MAX_VARIATION),
}


class ChordTouch(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How one chord is played, where it differs from the rest of its part.

    ``roll_ms`` from first to last note of a chord, ``top`` how many of its top notes are rolled
    (0: all of them), ``uneven`` how irregular the roll is (0-1), ``drift_ms`` and ``spread``
    (velocity) the most a note strays either way, ``length`` the share of the written length that
    sounds.
    """

    roll_ms: float = 0.0
    direction: Direction = "up"
    top: int = 0
    uneven: float = 0.0
    drift_ms: float = 0.0
    spread: float = 0.0
    length: float = 1.0
    variation: int = 1

    def __post_init__(self) -> None:
        for name in self.__struct_fields__:
            if name not in LIMITS:
                continue
            low, high = LIMITS[name]
            value = getattr(self, name)
            if not low <= value <= high:
                raise CloudriftError(
                    f"touch: {name} is {value:g}, but must lie between {low:g} and {high:g}"
                )


class Touch(ChordTouch, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How a part is played: that of its chords, and ``velocity``, the middle loudness (1-127)."""

    velocity: int = 84

    @property
    def of_chord(self) -> ChordTouch:
        """The same without the loudness, as a chord of its own would have it."""
        fields = {name: getattr(self, name) for name in ChordTouch.__struct_fields__}
        return ChordTouch(**fields)


def play(
    notes: tuple[Note, ...], touch: Touch, own: Mapping[int, ChordTouch] | None = None
) -> tuple[Note, ...]:
    """Return the notes as played: offsets, velocities and lengths from the touch.

    Notes that start together are one roll. ``own`` are touches of single chords, by the chord's
    index; they stand in for the part's own. The same touch and notes give the same result.
    """
    out: list[Note] = []
    for (_, chord_at), group in groupby(notes, key=lambda n: (n.start_tick, n.chord)):
        way: ChordTouch = (own or {}).get(chord_at, touch)
        out.extend(_play_together(tuple(group), way, touch.velocity))
    return tuple(sorted(out, key=lambda n: (n.start_tick, n.pitch)))


@functools.lru_cache(maxsize=16_384)
def _play_together(notes: tuple[Note, ...], way: ChordTouch, loudness: int) -> tuple[Note, ...]:
    """Play notes that start together. Kept, because an edit leaves most of a loop as it was."""
    chord = sorted(notes, key=lambda n: n.pitch, reverse=way.direction == "down")
    rng = rng_for(way.variation, "touch", chord[0].start_tick)
    delays = roll_delays(len(chord), way, rng)
    out = []
    for note, delay in zip(chord, delays, strict=True):
        drift, loud = rng.uniform(-1, 1, 2)
        velocity = round(loudness + way.spread * loud)
        out.append(
            msgspec.structs.replace(
                note,
                offset_ms=float(round(delay + way.drift_ms * drift, 3)),
                velocity=min(max(velocity, 1), 127),
                length_ticks=max(1, round(note.length_ticks * way.length)),
            )
        )
    return tuple(out)


def roll_delays(count: int, touch: ChordTouch, rng: np.random.Generator) -> list[float]:
    """Delays in ms over the roll: even steps, each stretched or shrunk by up to ``uneven``.

    With ``top``, the lower notes are struck together with the first and the top ones follow.
    """
    if count == 1 or touch.roll_ms == 0:
        return [0.0] * count
    rolled = min(touch.top, count) if touch.top else count
    together = count - rolled
    steps = rolled if together else rolled - 1
    if steps == 0:
        return [0.0] * count
    gaps = 1.0 + touch.uneven * rng.uniform(-0.9, 0.9, steps)
    places = np.concatenate([[0.0], np.cumsum(gaps)])
    delays = [float(p) for p in touch.roll_ms * places / places[-1]]
    if not together:
        return delays
    if touch.direction == "down":  # sorted from the top: the rolled ones come first
        return delays[:rolled] + [0.0] * together
    return [0.0] * together + delays[1:]
