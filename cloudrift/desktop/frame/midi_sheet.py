"""Chords from a MIDI file: what was found, and what of it to take."""

from pathlib import Path

from PyQt6.QtWidgets import QCheckBox, QDialog, QListWidget, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers.from_notes import put_found, put_heard
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.from_midi import TEMPO_FROM, Song
from cloudrift.notes.time import position_text
from cloudrift.theory.naming import read_chord


class MidiSheet(QDialog):
    """Shows a song's chords, key and tempo; each can be taken or left."""

    def __init__(self, song: Song, path: Path, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._song, self._path, self._session = song, path, session
        self.setWindowTitle(f"Chords from {path.name}")
        self.setMinimumWidth(460)
        column = vertical(self, spacing=7)
        column.addWidget(heading(f"{len(song.chords)} chords in {path.name}"))
        self.chords = QListWidget()
        self.chords.setAccessibleName("Chords found")
        for chord in song.chords:
            reading = read_chord(chord.voices, song.key, root_hint=chord.root)
            place = position_text(chord.start_tick, song.metre)
            notes = " ".join(song.key.spell_pitch(v) for v in chord.voices)
            self.chords.addItem(f"{place:>6}   {reading.text}   ({reading.degree_text})   {notes}")
        column.addWidget(self.chords)
        self.key = QCheckBox(
            f"Use its key: {song.key.text}, estimated, {song.key_confidence:.0%} sure"
        )
        self.tempo = QCheckBox(f"Use its tempo: {song.tempo:g} BPM, {TEMPO_FROM[song.tempo_from]}")
        self.key.setChecked(True)
        self.tempo.setChecked(song.tempo_from != "standard")
        fill(column, self.key, self.tempo)
        words = label(
            "Its chords replace the loop's, with their own voicings; without its key they are "
            "transposed to the loop's.",
            size=11.5,
            name="soft",
            wrap=True,
        )
        column.addWidget(words)
        line = horizontal()
        fill(line, 1, button("Cancel", self.reject))
        self.take = button("Use the chords", self.accept, name="strong")
        self.take.setDefault(True)
        line.addWidget(self.take)
        column.addLayout(line)
        self.accepted.connect(self._put)

    def _put(self) -> None:
        take_key, take_tempo = self.key.isChecked(), self.tempo.isChecked()
        song, origin = self._song, f"the file {self._path.name}"

        def edit(loop: Loop) -> Loop:
            out = put_heard(
                loop,
                song.key,
                lambda there: put_found(there, song.chords, origin=origin),
                take_key=take_key,
            )
            return loop_edits.set_tempo(out, song.tempo) if take_tempo else out

        if self._session.apply("chords from a MIDI file", edit):
            self._session.select(chord_id=self._session.loop.chords[0].id, more=(), voice=-1)
