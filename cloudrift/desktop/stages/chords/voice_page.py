"""The Voice page: what the chord is built of and how it is set out."""

from functools import partial

from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, heading
from cloudrift.desktop.kit.rows import row, small, toggle
from cloudrift.desktop.stages.chords.moves import OCTAVE, Moves
from cloudrift.desktop.stages.chords.pages import Page
from cloudrift.ground.settings import Field, Value
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.chords.chord_edits import ChordEdit, each
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.theory.build import (
    EXTENSIONS,
    SPACINGS,
    Extension,
    build_of,
    extensions_of,
    third_of,
)
from cloudrift.theory.build import parts as taken_apart
from cloudrift.theory.key import Key

THIRD_NAMES = (
    ("own", "own 3rd"),
    ("raised", "raised"),
    ("none", "no 3rd"),
    ("sus2", "sus2"),
    ("sus4", "sus4"),
)
SPACING_NAMES = {"dropped top": "Top down"}
PLACES = {0: "Root", 1: "♭9", 2: "9th", 3: "3rd", 4: "3rd", 5: "4th", 6: "5th", 7: "5th", 8: "5th",
          9: "6th", 10: "7th", 11: "7th"}  # fmt: skip
REGISTER_LOW, REGISTER_HIGH = 43, 84  # the middles of chords that a sound still has
REGISTER = Field(
    name="register",
    label="Middle",
    default="D4",
    hint="inversions come as near as possible",
    choices=tuple(Key("C", "major").spell_pitch(p) for p in range(REGISTER_LOW, REGISTER_HIGH + 1)),
)
BASSES = ((0, "none"), (1, "1 oct"), (2, "2 oct"), ("pedal", "pedal"))


class VoicePage(Page):
    """Build, lowest voice, spacing, bass, register, nearest voicing, the selected voice."""

    def __init__(self, moves: Moves) -> None:
        super().__init__(moves)
        self.third = ChoiceRow(THIRD_NAMES, columns=5, name="Third")
        self.third.chosen.connect(
            lambda third: self._each("third", lambda p, i: chord_edits.set_third(p, i, third))
        )
        self.extensions = {e: toggle(e, partial(self._extend, e)) for e in EXTENSIONS}
        self.lowest = ChoiceRow([(i, "") for i in range(5)], columns=5, name="Lowest voice")
        self.lowest.chosen.connect(self._put_lowest)
        self.spacing = ChoiceRow(
            [(s, SPACING_NAMES.get(s, s.capitalize())) for s in SPACINGS], columns=4, name="Spacing"
        )
        self.spacing.chosen.connect(
            lambda s: self._each("spacing", lambda p, i: chord_edits.set_spacing(p, i, s))
        )
        self.bass = ChoiceRow(BASSES, columns=4, name="Bass note below")
        self.bass.button("pedal").setToolTip(
            "Hold the first selected chord's bass as a pedal under all selected ones (Shift+→ "
            "selects more)"
        )
        self.bass.chosen.connect(self._put_bass)
        self.top_root = toggle(
            "Root on top",
            lambda on: self._each("root on top", lambda p, i: chord_edits.set_top_root(p, i, on)),
            "Double the root on top",
        )
        self.range = heading("Register")
        self.register = FieldWidget(REGISTER, REGISTER.default)
        self.register.edited.connect(self._put_register)
        self.register.settled.connect(self.session.end_drag)
        self.voice_name = heading("Voice")
        self.voice_row = self._voice_row()
        self.put(
            heading("Third"), self.third,
            heading("Extensions"), row(self.extensions.values()),
            heading("Lowest voice"), self.lowest,
            heading("Spacing"), self.spacing,
            heading("Bass note below"), self.bass,
            self.range, self.register, self._register_row(),
            row([self.top_root, small("Nearest", self._nearest, "Smallest moves from the chord "
                                                                "before"),
                 small("All nearest", self.all_nearest, "Smallest moves for every chord")]),
            self.voice_name, self.voice_row,
        )  # fmt: skip

    def _register_row(self) -> QWidget:
        def shift(semitones: int) -> None:
            self.moves.chords(semitones=semitones)
            self.session.end_drag()

        def turn(up: bool) -> None:
            self._each("inversion", lambda p, i: chord_edits.invert(p, i, up=up))

        return row(
            [
                small("−1 oct", partial(shift, -OCTAVE), "An octave down"),
                small("Invert ↓", partial(turn, False), "Move the top voice below"),
                small("Invert ↑", partial(turn, True), "Move the lowest voice above"),
                small("+1 oct", partial(shift, OCTAVE), "An octave up"),
            ]
        )

    def _voice_row(self) -> QWidget:
        moves = self.moves
        self.mute = toggle("Mute", lambda _on: moves.mute(), "Mute it without deleting it (M)")
        self.tie = toggle("Tie", lambda _on: moves.tie(), "Ring on from the chord before (Y)")
        self.through = toggle("Through", lambda _on: moves.through(), "Select it in all chords (T)")
        rub = small("Clash", moves.rub, "Add a voice a half step from it (R)")

        def octave(by: int) -> None:
            moves.voice(semitones=by * OCTAVE)
            self.session.end_drag()

        holder = QWidget()
        column = vertical(holder, FLUSH, 4)
        fill(
            column,
            row([self.mute, self.tie, self.through]),
            row(
                [
                    rub,
                    small("−1 oct", partial(octave, -1)),
                    small("+1 oct", partial(octave, 1)),
                    small("Add", moves.add_voice, "Add a voice above (Insert)"),
                    small("Delete", moves.remove, "Delete it (Delete)"),
                ]
            ),
        )
        return holder

    # --- changes ------------------------------------------------------------------------------

    def _each(self, what: str, edit: ChordEdit) -> None:
        ids = self.moves.ids
        self.moves.apply(what, lambda loop: each(loop, ids, edit))
        self.refresh()

    def _extend(self, extension: Extension, on: bool) -> None:
        self._each(
            f"{extension} {'added' if on else 'removed'}",
            lambda p, i: chord_edits.set_extension(p, i, extension, on),
        )

    def _put_register(self, name: Value) -> None:
        ids, pitch = self.moves.ids, REGISTER_LOW + REGISTER.choices.index(str(name))
        self.moves.apply(
            "register",
            lambda loop: each(loop, ids, lambda p, i: chord_edits.set_register(p, i, float(pitch))),
            merge="register",
        )

    def _put_lowest(self, place: int) -> None:
        def edit(loop: Loop, chord_id: str) -> Loop:
            chord = loop.chord(chord_id)
            tones = build_of(chord.voices, chord.root).tones
            return chord_edits.set_lowest(loop, chord_id, tones[min(place, len(tones) - 1)])

        self._each("lowest voice", edit)

    def _put_bass(self, choice: object) -> None:
        if choice == "pedal":
            ids = self.moves.ids
            self.moves.apply("bass pedal", lambda loop: chord_edits.hold_bass(loop, ids))
            self.refresh()
        else:
            octaves = int(str(choice))
            self._each("bass note", lambda p, i: chord_edits.set_bass(p, i, octaves))

    def _nearest(self) -> None:
        ids = self.moves.ids
        self.moves.apply("nearest voicing", lambda loop: chord_edits.to_nearest(loop, ids))

    def all_nearest(self) -> None:
        """Voice every chord nearest to the one before it."""
        self.moves.apply(
            "nearest voicings",
            lambda loop: chord_edits.to_nearest(loop, [c.id for c in loop.chords]),
        )

    # --- what is shown ------------------------------------------------------------------------

    def show_chord(self, chord: Chord) -> None:
        key = self.session.loop.key
        body, build = taken_apart(chord.voices, chord.root)
        self.third.show_choice(third_of(chord.root, build.tones, key))
        there = extensions_of(chord.root, build.tones)
        for extension, one in self.extensions.items():
            one.setChecked(extension in there)
        for i in range(5):
            one = self.lowest.button(i)
            one.setVisible(i < len(build.tones))
            if i < len(build.tones):
                one.setText(PLACES[(build.tones[i] - chord.root) % 12])
        lowest = build.tones.index(build.lowest) if build.lowest in build.tones else None
        self.lowest.show_choice(lowest)
        self.spacing.show_choice(build.spacing)
        self.bass.show_choice(build.bass)
        self.top_root.setChecked(build.top_root)
        own = "" if build.spacing != "own" else " · voiced by hand"
        low, high = key.spell_pitch(body[0]), key.spell_pitch(body[-1])
        self.range.setText(f"Register: {low} to {high}{own}")
        near = min(max(round(build.register), REGISTER_LOW), REGISTER_HIGH)
        self.register.set_value(REGISTER.choices[near - REGISTER_LOW])
        self._show_voice(chord)

    def _show_voice(self, chord: Chord) -> None:
        selection = self.session.selection
        on = 0 <= selection.voice < len(chord.voices)
        self.voice_row.setEnabled(on)
        if not on:
            self.voice_name.setText("Voice: click one in the threads")
            for one in (self.mute, self.tie, self.through):
                one.setChecked(False)
            return
        pitch = chord.voices[selection.voice]
        self.voice_name.setText(f"Voice {self.session.loop.key.spell_pitch(pitch)}")
        self.mute.setChecked(pitch in chord.muted)
        self.tie.setChecked(pitch in chord.tied)
        self.through.setChecked(selection.through)
