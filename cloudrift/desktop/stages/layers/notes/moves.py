"""What hands and keys do to the notes of the layer that is open: every edit goes through here."""

from collections.abc import Callable

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.desktop.kit.grid import Grid
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import HeardTime, heard_time, notes_of
from cloudrift.notes.note import HIGHEST, LOWEST, Note
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.theory.key import Key

OCTAVE = 12
REFUSED = "These notes follow the chords. Detach from chords to edit them."


class NoteMoves(QObject):
    """Edits of the picked notes. ``refused`` says why nothing was done."""

    refused = pyqtSignal(str)

    def __init__(self, session: Session, grid: Grid) -> None:
        super().__init__(session)
        self.session = session
        self.grid = grid
        self.copied: tuple[Note, ...] = ()
        self.as_heard = False  # whether notes are seen, and drawn, where they are heard

    @property
    def layer(self) -> Layer | None:
        """The layer that is open; a recording has no notes to open."""
        layer_id = self.session.selection.layer_id
        layer = self.session.loop.layer(layer_id) if layer_id else None
        return layer if layer is not None and layer.recorded is None else None

    @property
    def notes(self) -> tuple[Note, ...]:
        """Its own notes, or those that it sees in the chords."""
        layer = self.layer
        if layer is None:
            return ()
        return notes_of(self.session.loop, layer) if layer.own is None else layer.own

    @property
    def time(self) -> HeardTime | None:
        """How what is written is heard, while it is seen so and that is another."""
        layer = self.layer
        return heard_time(self.session.loop, layer) if layer and self.as_heard else None

    def shown(self, notes: tuple[Note, ...]) -> tuple[Note, ...]:
        """Return notes where they are seen: as written, or as heard."""
        time = self.time
        return notes if time is None else time.heard(notes)

    @property
    def seen(self) -> tuple[Note, ...]:
        """The layer's notes where they are seen."""
        return self.shown(self.notes)

    @property
    def key(self) -> Key:
        """The key that the notes are seen in."""
        time = self.time
        return self.session.loop.key if time is None else time.key(self.session.loop.key)

    def pace(self, tick: float) -> float:
        """Return how many written ticks go by for each that is seen; below 0 they go back."""
        time = self.time
        return 1.0 if time is None else time.at(tick).speed

    def written(self, tick: float) -> int:
        """Return the written tick that is seen at a tick."""
        time = self.time
        return round(tick if time is None else time.written(tick, 60)[0])

    @property
    def picked_pace(self) -> float:
        """The pace where the first picked note is seen."""
        if self.time is None:
            return 1.0
        return next((self.pace(n.start_tick) for n in self.seen if n.id in self.picked), 1.0)

    @property
    def in_key(self) -> bool:
        """Whether its sound has a pitch that the key says something about; a drum has none."""
        layer = self.layer
        return layer is None or layer.played.sound.of.tuned

    @property
    def scale(self) -> tuple[int, ...]:
        """The pitch classes that are in key: all of them for a sound without a pitch."""
        return self.key.scale if self.in_key else tuple(range(12))

    @property
    def picked(self) -> frozenset[int]:
        """The ids of the picked notes."""
        return self.session.selection.notes

    @property
    def chosen(self) -> tuple[Note, ...]:
        """The picked notes."""
        return tuple(n for n in self.notes if n.id in self.picked)

    def may(self) -> bool:
        """Whether the notes may be changed; if not, why is said."""
        layer = self.layer
        if layer is None or layer.follows:
            self.refused.emit(REFUSED if layer else "Choose a layer first.")
            return False
        return True

    def pick(self, ids: frozenset[int]) -> None:
        """Pick notes."""
        self.session.select(notes=ids)

    def select_all(self) -> None:
        """Pick every note."""
        self.pick(frozenset(n.id for n in self.notes))

    def select_same_voice(self) -> None:
        """Pick the same voice in every chord."""
        self.pick(own_notes.same_voice(self.notes, self.picked))

    def select_same_pitch(self) -> None:
        """Pick the same pitches everywhere."""
        self.pick(own_notes.same_pitch(self.notes, self.picked))

    def select_every_other(self) -> None:
        """Keep every second start of what is picked."""
        self.pick(own_notes.every(self.notes, self.picked, 2))

    def step(self, by: int) -> None:
        """Pick the next note, or the one before."""
        notes = self.notes
        if not notes:
            return
        at = [i for i, n in enumerate(notes) if n.id in self.picked]
        if not at:
            new = 0 if by > 0 else len(notes) - 1
        else:
            new = min(max((at[-1] if by > 0 else at[0]) + by, 0), len(notes) - 1)
        self.pick(frozenset({notes[new].id}))

    # --- edits --------------------------------------------------------------------------------

    def _apply(
        self,
        words: str,
        edit: Callable[[Loop, str], Loop],
        merge: str = "",
        *,
        moving: bool = False,
    ) -> bool:
        layer = self.layer
        if layer is None or not self.may():
            return False
        return self.session.apply(
            words, lambda loop: edit(loop, layer.id), merge=merge, moving=moving
        )

    def _each(
        self,
        words: str,
        edit: Callable[[Loop, str, frozenset[int]], Loop],
        merge: str = "",
        *,
        moving: bool = False,
    ) -> None:
        ids = self.picked
        if ids:
            self._apply(words, lambda loop, layer: edit(loop, layer, ids), merge, moving=moving)

    def detach(self) -> None:
        """Make the layer's notes its own."""
        layer = self.layer
        if layer is not None:
            self.session.apply("detach from chords", lambda p: own_notes.detach(p, layer.id))

    def take_again(self) -> None:
        """Let the layer follow chords."""
        layer = self.layer
        if layer is not None:
            self.session.apply("follow chords", lambda p: own_notes.take_again(p, layer.id))

    def move(self, *, ticks: int = 0, semitones: int = 0, steps: int = 0, merge: str = "") -> None:
        """Move the picked notes."""
        self._each(
            "move notes",
            lambda loop, layer, ids: own_notes.move_notes(
                loop, layer, ids, ticks=ticks, semitones=semitones, steps=steps
            ),
            merge,
            moving=bool(merge),
        )

    def stretch(self, *, start: int = 0, end: int = 0, merge: str = "") -> None:
        """Move the starts or ends of the picked notes."""
        least = min(self.grid.ticks, 60)
        self._each(
            "length of notes",
            lambda loop, layer, ids: own_notes.stretch_notes(
                loop, layer, ids, start=start, end=end, least=least
            ),
            merge,
            moving=bool(merge),
        )

    def loudness(self, levels: dict[int, int], merge: str) -> None:
        """Set the loudness of notes."""
        self._apply(
            "velocity of notes",
            lambda loop, layer: own_notes.set_loudness(loop, layer, levels),
            merge,
            moving=True,
        )

    def mute(self) -> None:
        """Mute or unmute the picked notes."""
        self._each("mute notes", own_notes.mute_notes)

    def cut_out(self) -> None:
        """Copy the chosen notes, and delete them."""
        self.copy()
        self.remove()

    def remove(self) -> None:
        """Take the picked notes out."""
        self._each("delete notes", own_notes.remove_notes)

    def cut(self, tick: int) -> None:
        """Cut the picked notes (none: all) in two at a tick."""
        ids = self.picked or frozenset(n.id for n in self.notes)
        self._apply("split notes", lambda loop, layer: own_notes.cut_notes(loop, layer, ids, tick))

    def add(self, tick: int, pitch: int, merge: str = "") -> Note | None:
        """Draw a note of the grid's length where it is seen, pick it and return it as it is seen.

        Where it is seen as it is heard, what is written is bent for that.
        """
        layer, time = self.layer, self.time
        if layer is None or not self.may():
            return None
        length, seen = self.grid.ticks, tick
        if time is not None:
            pace = self.pace(tick)
            source, pitch = time.written(tick, pitch)
            length = max(1, round(length * abs(pace)))
            tick = round(source) if pace > 0 else round(source) - length
            if not LOWEST <= pitch <= HIGHEST:
                self.session.say("that is too far from what is written to be a note")
                return None
        tick = min(max(tick, 0), self.session.loop.ticks - 30)
        note = Note(start_tick=tick, length_ticks=length, pitch=pitch)
        new = self.session.make(
            "draw a note",
            lambda loop: own_notes.add_note(loop, layer.id, note),
            merge=merge,
            moving=bool(merge),
        )
        if new is None:
            return None
        self.pick(frozenset({new}))
        found = [n for n in self.seen if n.id == new]
        return min(found, key=lambda n: abs(n.start_tick - seen), default=None)

    def copy(self) -> None:
        """Keep the picked notes for pasting."""
        self.copied = self.chosen or self.copied

    def paste(self, tick: int) -> None:
        """Put what was copied in from a tick on, and pick it."""
        layer = self.layer
        if layer is None or not self.copied or not self.may():
            return
        copied = self.copied
        if own_notes.lies_there(layer.own or (), copied, tick):
            tick += self._repeat_ticks(copied)
        new = self.session.make(
            "paste notes", lambda loop: own_notes.paste_notes(loop, layer.id, copied, tick)
        )
        if new:
            self.pick(new)
        elif new is not None:
            self.session.say("that is past the loop's end; make the loop longer, or paste earlier")

    def copy_behind(self) -> None:
        """Put a copy of the picked notes after them, on the bar, or the beat if they are short."""
        chosen = self.chosen
        if chosen:
            self.copied = chosen
            first = min(n.start_tick for n in chosen)
            self.paste(first + self._repeat_ticks(chosen))

    def _repeat_ticks(self, notes: tuple[Note, ...]) -> int:
        metre = self.session.loop.metre
        units = (self.grid.ticks, beat_ticks(metre), bar_ticks(metre))
        return own_notes.repeat_ticks(notes, units)

    # --- where a lens plays -------------------------------------------------------------------

    def places(self, first: int, last: int, *, plays: bool, merge: str) -> None:
        """Let the lens play in a stretch, or not."""
        layer = self.layer
        if layer is not None and layer.follows and first < last:
            self.session.apply(
                "where it plays",
                lambda loop: layer_edits.set_places(loop, layer.id, first, last, plays=plays),
                merge=merge,
                moving=True,
            )

    def late_bar(self, bar: int) -> None:
        """Let a bar start late, or on time again."""
        layer = self.layer
        if layer is not None and layer.follows:
            late = set(layer.played.lens.late_bars) ^ {bar}
            self.session.apply(
                "late bar",
                lambda loop: layer_edits.set_lens(loop, layer.id, late_bars=tuple(sorted(late))),
            )
