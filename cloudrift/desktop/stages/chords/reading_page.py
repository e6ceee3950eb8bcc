"""The Reading page: what the chord is called, what else it could be, how it moves and fits."""

from functools import partial

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.layouts import FLUSH, vertical
from cloudrift.desktop.kit.parts import button, clear, heading, label
from cloudrift.desktop.stages.chords.model import colour_of, half_step_words, movement_words
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.model.loop import Chord
from cloudrift.theory.fit import lender_of
from cloudrift.theory.key import Key
from cloudrift.theory.pitch import pretty
from cloudrift.theory.symbols import parse_chord

COUNTED = {0: "root", 1: "lowered 9th", 2: "9th", 3: "minor 3rd", 4: "major 3rd", 5: "11th",
           6: "lowered 5th", 7: "5th", 8: "raised 5th", 9: "6th", 10: "minor 7th",
           11: "major 7th"}  # fmt: skip
COLOUR_WORDS = {
    "rest": "rest: home",
    "lift": "lift: major, in the key",
    "tension": "tension: it wants to resolve",
    "open": "open: it could go anywhere",
}


def counted(voices: tuple[int, ...], root: int, key: Key) -> str:
    """Count each voice from the root: that is why a chord counts as a seventh."""
    intervals = {(v - root) % 12 for v in voices}
    third = bool(intervals & {3, 4})
    words = []
    for voice in voices:
        interval = (voice - root) % 12
        said = COUNTED[interval]
        if not third and interval in (2, 5):
            said = "2nd for the 3rd" if interval == 2 else "4th for the 3rd"
        if interval == 9 and intervals & {10, 11}:
            said = "13th"
        if interval == 3 and 4 in intervals:
            said = "raised 9th"
        outside = "" if key.has(voice) else ", out of key"
        words.append(f"{key.spell_pitch(voice)}  {said}{outside}")
    return "\n".join(reversed(words))


class ReadingPage(Page):
    """The name and what stands behind it."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves)
        self.notes = label("", size=12)
        self.others = QWidget()
        self._others = vertical(self.others, FLUSH, 3)
        self.movement = label("", size=11.5, name="soft")
        self.half_steps = label("", size=11.5, name="soft")
        self.colour = label("", size=11.5, name="soft")
        for words in (self.movement, self.half_steps, self.colour):
            words.setWordWrap(True)
        self.put(
            heading("Counted from the root"),
            self.notes,
            heading("Could also be read as"),
            self.others,
            heading("Movement"),
            self.movement,
            self.half_steps,
            heading("Colour"),
            self.colour,
        )

    def show_chord(self, chord: Chord) -> None:
        loop = self.session.loop
        reading = chord.read(loop.key)
        said = counted(chord.voices, reading.root, loop.key)
        lender = lender_of(chord.voices, loop.key)
        self.notes.setText(f"{said}\nBorrowed from {lender.text}" if lender else said)
        clear(self._others)
        for name in reading.alternatives:
            root = parse_chord(name).tones[0]
            self._others.addWidget(
                button(
                    pretty(name),
                    partial(self._mean, root),
                    name="link",
                    tip="Read it as this: the roots lens plays its root",
                )
            )
        if not reading.alternatives:
            self._others.addWidget(label("no other clear reading", size=11.5, name="soft"))
        if chord.root != reading.root:
            plays = loop.key.spell_pitch(chord.root + 36).rstrip("-0123456789")
            self._others.addWidget(label(f"roots play {plays}", size=11.5, name="soft"))
        self.movement.setText(movement_words(loop, chord.id) or "no chord before it")
        self.half_steps.setText(half_step_words(loop))
        self.colour.setText(COLOUR_WORDS[colour_of(loop, chord)])

    def _mean(self, root: int) -> None:
        chord_id = self.session.selection.chord_id
        self.moves.apply("read a chord", lambda loop: chord_edits.set_root(loop, chord_id, root))
