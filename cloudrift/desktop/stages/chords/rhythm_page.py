"""The Rhythm page: how long the chord lasts, when it is struck, how it is held."""

from collections.abc import Callable
from functools import partial
from itertools import pairwise

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.parts import ChoiceRow, heading, label
from cloudrift.desktop.kit.rows import row, small, toggle
from cloudrift.desktop.stages.chords.model import length_words
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.desktop.stages.chords.onsets import ticks_in_words
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.ground.settings import Field
from cloudrift.loop.edits.chords import chord_edits, chord_time, progression
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.notes.time import NOTE_VALUES, bar_ticks

LENGTHS = ((0.5, "½ bar"), (1, "1 bar"), (2, "2 bars"), (4, "4 bars"))
REPEATS = ((0, "once"), *((NOTE_VALUES[v], v) for v in ("1/2", "1/4", "1/8", "1/16")))
GATE = Field(
    name="gate",
    label="Gate",
    default=100,
    unit="%",
    low=5,
    high=100,
    step=1,
    hint="share of each onset; low is staccato",
)


class RhythmPage(Page):
    """Length, late, strikes, staccato, ties, copies, passing notes."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves)
        self.length = label("", size=11.5, name="soft")
        self.lengths = ChoiceRow(LENGTHS, columns=4, name="Length")
        self.lengths.chosen.connect(self._put_length)
        self.late = toggle(
            "Late by 1/8 triplet",
            lambda _on: moves.late(),
            "Play it a grid step late, or on time (L)",
        )
        self.every_second = small(
            "Every other one late",
            moves.every_second_late,
            "Every other chord late, or on time again",
        )
        self.late_words = label("", size=11.5, name="soft")
        self.repeats = ChoiceRow(REPEATS, columns=5, name="Onsets")
        self.repeats.chosen.connect(self._put_repeat)
        self.gate = FieldWidget(GATE, 100.0)
        self.gate.edited.connect(self._put_gate)
        self.gate.settled.connect(self.session.end_drag)
        self.put(
            heading("Length"), self.length, self.lengths,
            row([small("Shorter", partial(moves.end, -1), "End a grid step earlier (Ctrl+←)"),
                 small("Longer", partial(moves.end, 1), "End a grid step later (Ctrl+→)")]),
            heading("Late"), self.late_words, self.late, self.every_second,
            heading("Repeat every"), self.repeats, self.gate,
            heading("Ties"),
            row([small("Tie into held", self._tie, "One onset each; common tones ring on (Y)"),
                 small("Untie", self._untie, "Play every voice again")]),
            heading("From this chord"),
            row([small("Duplicate", self._copy, "Duplicate it after itself"),
                 small("Passing notes", self._passing,
                       "Half steps into the next chord, in the last grid step")]),
            row([small("Start the loop here", self._start_from, "Rotate the progression: this "
                                                                "chord first")]),
        )  # fmt: skip

    def _put_length(self, bars: float) -> None:
        ticks = round(bars * bar_ticks(self.session.loop.metre))
        ids = self.moves.ids

        def edit(loop: Loop, chord_id: str) -> Loop:
            return chord_time.set_end(loop, chord_id, loop.chord(chord_id).start_tick + ticks)

        self.moves.apply("length of a chord", lambda loop: chord_edits.each(loop, ids, edit))
        self.refresh()

    def _put_repeat(self, ticks: int) -> None:
        ids = self.moves.ids
        self.moves.apply("strikes", lambda loop: chord_time.strike_every(loop, ids, ticks))

    def _put_gate(self, percent: float) -> None:
        ids = self.moves.ids
        self.session.apply(
            "staccato", lambda loop: chord_time.set_gate(loop, ids, percent / 100), merge="gate"
        )

    def _tie(self) -> None:
        ids = self.moves.ids
        self.moves.apply("tie chords", lambda loop: chord_edits.hold_repeats(loop, ids))

    def _untie(self) -> None:
        ids = self.moves.ids
        self.moves.apply("untie chords", lambda loop: chord_edits.untie(loop, ids))

    def _copy(self) -> None:
        self._made("duplicate a chord", chord_time.copy_chord)

    def _passing(self) -> None:
        ticks = max(self.moves.grid.ticks, NOTE_VALUES["1/16"])
        self._made("passing notes", lambda p, i: progression.add_passing(p, i, ticks))

    def _made(self, what: str, edit: Callable[[Loop, str], tuple[Loop, str]]) -> None:
        """Apply an edit that makes a chord, and select that."""
        chord_id = self.session.selection.chord_id
        made = self.session.make(what, lambda loop: edit(loop, chord_id))
        if made:
            self.session.select(chord_id=made)

    def _start_from(self) -> None:
        chord_id = self.session.selection.chord_id
        self.moves.apply(
            "rotate the progression", lambda loop: progression.start_from(loop, chord_id)
        )

    def show_chord(self, chord: Chord) -> None:
        loop = self.session.loop
        bars = chord.length_ticks / bar_ticks(loop.metre)
        self.length.setText(
            f"{length_words(loop, chord.length_ticks)} · steps of "
            f"{ticks_in_words(self.moves.grid.step)}"
        )
        self.lengths.show_choice(next((b for b, _ in LENGTHS if b == bars), None))
        late = chord.late_ticks
        self.late.setChecked(late > 0)
        self.late.setText(f"Late by {ticks_in_words(self.moves.grid.step)}")
        self.late_words.setText(f"late by {ticks_in_words(late)}" if late else "on time")
        steps = {b - a for a, b in pairwise(chord.strikes)}
        every = 0 if not chord.strikes else steps.pop() if len(steps) == 1 else None
        self.repeats.show_choice(every)
        self.gate.set_value(round(chord.gate * 100, 1))
