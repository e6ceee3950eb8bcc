"""A loop as marks look at it: what several of them ask is worked out once."""

from collections import Counter
from functools import cached_property
from itertools import pairwise
from typing import Literal

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.model.sections import Arrangement
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.render.measure.sound_facts import SoundFacts
from cloudrift.texture.treatment import Treatment, acting
from cloudrift.theory.movement import Move, moves
from cloudrift.theory.naming import read_chord
from cloudrift.theory.symbols import parse_degree

Quality = Literal["minor", "major", "diminished", "other"]


class View:
    """A loop, and the sound of all of it, and how it is arranged, where that is known."""

    def __init__(
        self, loop: Loop, sound: SoundFacts | None = None, arrangement: Arrangement | None = None
    ) -> None:
        self.loop, self.sound, self.arrangement = loop, sound, arrangement

    # --- chords -------------------------------------------------------------------------------

    @property
    def chords(self) -> tuple[Chord, ...]:
        """The chords."""
        return self.loop.chords

    def name_of(self, chord: Chord) -> str:
        """Return a chord's name."""
        return read_chord(chord.voices, self.loop.key, root_hint=chord.root).text

    def degree_of(self, chord: Chord) -> str:
        """Return a chord's degree without what is built on it: ``i``, ``VI``, ``bII``, ``ii°``."""
        degree = read_chord(chord.voices, self.loop.key, root_hint=chord.root).degree
        end = next((i for i, sign in enumerate(degree) if sign not in "b#IViv"), len(degree))
        round_ = "°" if quality_of(chord) == "diminished" else ""
        return degree[:end] + round_

    def token_of(self, chord: Chord) -> str:
        """Return a chord's degree as it can be written again; its triad's where not all of it."""
        degree = read_chord(chord.voices, self.loop.key, root_hint=chord.root).degree
        for token in (degree, self.degree_of(chord)):
            try:
                parse_degree(token, self.loop.key)
            except CloudriftError:
                continue
            return token
        return "i" if quality_of(chord) == "minor" else "I"

    def of_quality(self, quality: Quality) -> list[Chord]:
        """Return the chords of a quality."""
        return [chord for chord in self.chords if quality_of(chord) == quality]

    @cached_property
    def moves(self) -> Counter[Move]:
        """How the voices move from chord to chord, and from the last into the first."""
        found: Counter[Move] = Counter()
        for one, then in pairwise([*self.chords, *self.chords[:1]]):
            found.update(moves(one.voices, then.voices))
        return found

    @cached_property
    def bars(self) -> float:
        """How many bars there are."""
        return float(self.loop.bars)

    def bar_of(self, tick: int) -> int:
        """Return the bar that a tick lies in, from 1."""
        return tick // bar_ticks(self.loop.metre) + 1

    # --- layers -------------------------------------------------------------------------------

    @cached_property
    def heard(self) -> tuple[Layer, ...]:
        """The layers that are heard."""
        return self.loop.heard()

    @cached_property
    def notes(self) -> dict[str, tuple[Note, ...]]:
        """The notes of each layer that plays some, by its id."""
        found = {x.id: notes_of(self.loop, x) for x in self.heard if x.recorded is None}
        return {layer_id: notes for layer_id, notes in found.items() if notes}

    @cached_property
    def playing(self) -> tuple[Layer, ...]:
        """The layers that play notes."""
        return tuple(x for x in self.heard if x.id in self.notes)

    @property
    def melodic(self) -> tuple[Layer, ...]:
        """Those that are no bass."""
        return tuple(x for x in self.playing if x.role != "bass")

    @property
    def basses(self) -> tuple[Layer, ...]:
        """Those that are."""
        return tuple(x for x in self.playing if x.role == "bass")

    def following(self, layers: tuple[Layer, ...]) -> list[Layer]:
        """Return those of some layers that follow the chords, so that a lens or touch acts."""
        return [x for x in layers if x.follows]

    def onsets(self, layer: Layer) -> list[int]:
        """Return where a layer strikes, each tick once."""
        return sorted({note.start_tick for note in self.notes[layer.id]})

    def pace(self, layer: Layer) -> float:
        """Return how often a layer strikes in a bar."""
        return len(self.onsets(layer)) / self.bars

    @cached_property
    def loop_beats(self) -> float:
        """The loop's length in quarters."""
        return self.loop.ticks / TICKS_PER_QUARTER

    # --- lines --------------------------------------------------------------------------------

    def line_of(self, layer: Layer) -> tuple[Treatment, ...]:
        """Return what acts on a layer: its own line, and its group's."""
        group = self.loop.group(layer.group).line if layer.group else ()
        return (*acting(layer.line), *acting(group))

    @cached_property
    def treatments(self) -> tuple[tuple[str, Treatment], ...]:
        """Everything that acts on something heard, with what it is on."""
        found = [(layer.name, t) for layer in self.heard for t in self.line_of(layer)]
        return (*found, *(("the whole loop", t) for t in acting(self.loop.line)))

    def of_kind(self, *kinds: str) -> list[tuple[str, Treatment]]:
        """Return the treatments of some kinds that act, with what they are on."""
        return [(on, t) for on, t in self.treatments if t.kind in kinds]


def quality_of(chord: Chord) -> Quality:
    """Return whether a chord is minor, major, diminished or neither."""
    above = {(voice - chord.root) % 12 for voice in chord.voices}
    if 3 in above and 4 not in above:
        return "diminished" if 6 in above and 7 not in above else "minor"
    return "major" if 4 in above and 3 not in above else "other"


def names(parts: list[str], most: int = 4) -> str:
    """Return some names, each once, as far as there is room for them."""
    once = list(dict.fromkeys(parts))
    more = f" and {len(once) - most} more" if len(once) > most else ""
    return ", ".join(once[:most]) + more
