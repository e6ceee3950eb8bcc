"""The Chords stage: tiles, threads, and the inspector of one chord."""

from functools import partial

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from cloudrift.desktop.chords.model import half_step_words, movement_words
from cloudrift.desktop.chords.threads import LEFT, Threads
from cloudrift.desktop.chords.tiles import ChordTiles
from cloudrift.desktop.look import look, text_font
from cloudrift.desktop.parts import ChoiceRow, Inspector, button, heading, label, panel
from cloudrift.desktop.session import Session
from cloudrift.loop import chord_edits
from cloudrift.notes.time import bar_ticks
from cloudrift.theory.chord import chord_tones
from cloudrift.theory.naming import read_chord
from cloudrift.theory.symbols import parse_degree

BORROWED = ("bII", "V7", "V", "iv", "IV")


class ChordInspector(Inspector):
    """What the selected chord is, and the chords that could stand in its place."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.degrees = ChoiceRow([(d, str(d)) for d in range(1, 8)], columns=4, name="Degree")
        self.degrees.chosen.connect(self._put_degree)
        self.seventh = QPushButton("Seventh")
        self.seventh.setCheckable(True)
        self.seventh.clicked.connect(self._put_seventh)
        self.borrowed = ChoiceRow([(d, d) for d in BORROWED], columns=5, name="Borrowed")
        self.borrowed.chosen.connect(self._put_borrowed)
        self.movement = label("", size=11.5, name="soft")
        self.movement.setWordWrap(True)
        self.half_steps = label("", size=11.5, name="soft")
        self.keys_help = label(
            "Drag a voice up or down by scale steps; with Shift by semitones. Keys: ← → chord, "
            "Page Up and Down voice, ↑ ↓ move it.",
            size=11.5, name="soft",
        )  # fmt: skip
        self.keys_help.setWordWrap(True)
        for widget in (
            heading("In the key"), self.degrees, self.seventh,
            heading("From outside"), self.borrowed,
            heading("Whole chord"),
            self._shifts(),
            heading("Movement"), self.movement, self.half_steps,
            heading("By hand"), self.keys_help,
        ):  # fmt: skip
            self.body.addWidget(widget)
        self.body.addStretch(1)
        session.changed.connect(lambda _b, _a: self._show())
        session.opened.connect(self._show)
        session.selected.connect(self._show)
        self._show()

    def _shifts(self) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        for semitones, text in ((-1, "−1 st"), (1, "+1 st"), (-12, "−1 oct"), (12, "+1 oct")):
            one = button(text, partial(self._shift, semitones))
            one.setStyleSheet("QPushButton { padding: 3px 2px; }")
            one.setMinimumWidth(10)
            line.addWidget(one)
        return row

    def _chord_id(self) -> str:
        return self._session.selection.chord_id

    def _put_degree(self, degree: int) -> None:
        on = self.seventh.isChecked()
        self._session.apply(
            "change a chord",
            lambda loop: chord_edits.set_degree(loop, self._chord_id(), degree, count=3 + (on)),
        )

    def _put_seventh(self, on: bool) -> None:
        self._session.apply(
            "add a seventh" if on else "take the seventh away",
            lambda loop: chord_edits.set_extension(loop, self._chord_id(), "7", on),
        )
        self._show()

    def _put_borrowed(self, token: str) -> None:
        self._session.apply(
            "borrow a chord",
            lambda loop: chord_edits.set_tones(
                loop, self._chord_id(), parse_degree(token, loop.key)
            ),
        )

    def _shift(self, semitones: int) -> None:
        self._session.apply(
            "move a chord",
            lambda loop: chord_edits.move_chord(loop, self._chord_id(), semitones=semitones),
        )

    def _show(self) -> None:
        loop = self._session.loop
        if not self._chord_id():
            self.title.setText("No chord")
            self.under.setText("This loop has no chords yet: start one from a style card.")
            return
        chord = loop.chord(self._chord_id())
        reading = chord.read(loop.key)
        bar = bar_ticks(loop.metre)
        first, last = chord.start_tick / bar + 1, (chord.start_tick + chord.length_ticks) / bar + 1
        notes = " ".join(loop.key.spell_pitch(v) for v in chord.voices)
        self.title.setText(reading.text)
        self.under.setText(f"{reading.degree_text} · bars {first:g} to {last:g}\n{notes}")
        for degree in range(1, 8):
            tones = chord_tones(loop.key, degree)
            pitches = tuple(60 + (pc - 60) % 12 for pc in tones)
            name = read_chord(pitches, loop.key, root_hint=tones[0])
            plain = name.text.split("/")[0]
            self.degrees.button(degree).setText(f"{plain}")
            self.degrees.button(degree).setToolTip(f"{name.degree_text} of {loop.key.text}")
        for token in BORROWED:
            tones = parse_degree(token, loop.key)
            name = read_chord(
                tuple(60 + (pc - 60) % 12 for pc in tones), loop.key, root_hint=tones[0]
            )
            self.borrowed.button(token).setText(name.text.split("/")[0])
            self.borrowed.button(token).setToolTip(name.degree_text)
        pcs = {v % 12 for v in chord.voices}
        self.degrees.show_choice(_own_degree(pcs, chord.root, loop.key))
        fitting = [t for t in BORROWED if set(parse_degree(t, loop.key)) == pcs]
        self.borrowed.show_choice(fitting[0] if fitting else None)
        self._show_seventh(pcs, chord.root)
        self.movement.setText(movement_words(loop, chord.id))
        self.half_steps.setText(half_step_words(loop))

    def _show_seventh(self, pcs: set[int], root: int) -> None:
        key = self._session.loop.key
        in_scale = root in key.scale
        self.seventh.setEnabled(in_scale)
        own = chord_tones(key, key.scale.index(root) + 1, seventh=True)[3] if in_scale else -1
        self.seventh.setChecked(own in pcs)


def _own_degree(pcs: set[int], root: int, key: object) -> int | None:
    for degree in range(1, 8):
        tones = chord_tones(key, degree, seventh=True)  # type: ignore[arg-type]
        if tones[0] == root and set(tones[:3]) <= pcs <= set(tones):
            return degree
    return None


class ChordsStage(QWidget):
    """Tiles over threads, with the inspector at the right."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.tiles = ChordTiles(session)
        self.threads = Threads(session)
        self.inspector = ChordInspector(session)
        middle = panel()
        inside = QVBoxLayout(middle)
        inside.setContentsMargins(6, 8, 8, 8)
        inside.setSpacing(3)
        inside.addWidget(self.tiles)
        inside.addWidget(self.threads, 1)
        inside.addWidget(_Legend())
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 6, 8, 6)
        row.setSpacing(8)
        row.addWidget(middle, 1)
        row.addWidget(self.inspector)

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.threads.setFocus()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        self.threads.show_place(share)


class _Legend(QLabel):
    """What the lines mean, in the colours of the theme in use."""

    def __init__(self) -> None:
        super().__init__()
        self.setFont(text_font(11))
        self.setObjectName("soft")
        self.setContentsMargins(LEFT, 0, 0, 0)
        self.setTextFormat(Qt.TextFormat.RichText)
        self._fill()

    def _fill(self) -> None:
        signal = look.tokens.signal
        self.setText(
            f"<span style='color:{signal}'>━</span> half step &nbsp; ─ whole step or common tone "
            f"&nbsp; ┄ leap &nbsp; <span style='color:{signal}'>▭</span> out of key"
        )

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._fill()
        super().changeEvent(event)
