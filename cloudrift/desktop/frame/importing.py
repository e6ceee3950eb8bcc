"""Music brought in from elsewhere: MIDI files, recordings to listen to, a layer's own notes."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QDialog

from cloudrift.desktop.frame.midi_sheet import MidiSheet
from cloudrift.desktop.frame.proposals_sheet import ProposalsSheet
from cloudrift.desktop.frame.reference_sheet import ReferenceSheet
from cloudrift.desktop.frame.rooms import Rooms
from cloudrift.desktop.kit.asking import RECORDINGS, ask_for_file
from cloudrift.desktop.session.work.tasks import Lane, Work
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural
from cloudrift.loop.edits.layers.from_notes import chords_of, proposed_chords, put_chords_of
from cloudrift.notes.from_midi import read_song
from cloudrift.notes.reference import read_reference


class Importing(QObject):
    """Reads beside the interface, then asks in a sheet in front of the window."""

    asked = pyqtSignal(object)  # QDialog to show

    def __init__(self, window: Rooms) -> None:
        super().__init__(window)
        self._window, self._session, self._tasks = window, window.session, window.tasks

    def open_midi(self, path: Path) -> None:
        """Find the chords of a MIDI file beside the interface, then show them."""
        self._read(
            "midi",
            path,
            f"Looking for chords in {path.name}…",
            lambda cancelled, _progress: read_song(path, cancelled=cancelled),
            lambda song: MidiSheet(song, path, self._session, self._window),
        )

    def choose_reference(self) -> None:
        """Ask for a recording whose tempo and key to take."""
        words = "A recording to listen to"
        if chosen := ask_for_file(self._window, self._session, words, RECORDINGS):
            self.open_reference(chosen)

    def open_reference(self, path: Path) -> None:
        """Listen to a recording beside the interface, then show what was heard."""
        self._read(
            "reference",
            path,
            f"Listening to {path.name}…",
            lambda _cancelled, _progress: read_reference(path),
            lambda found: ReferenceSheet(found, path, self._session, self._window),
        )

    def _read(
        self, name: str, path: Path, says: str, work: Work, sheet: Callable[[Any], QDialog]
    ) -> None:
        """Read a file and show a sheet of what was found; the start page reads it by itself."""
        if self._window.at_start:
            self._window.start.read(path)
            return
        self._session.say(says, good=True)
        self._tasks.run(
            name,
            work,
            lambda found: self.asked.emit(sheet(found)),
            lambda error: self._session.say(str(error)),
            lane=Lane.READING,
        )

    def chords_of_layer(self) -> None:
        """Put the chords of the chosen layer's own notes in the row's place; for a line, ask."""
        session = self._session
        layer_id = session.selection.layer_id
        if not layer_id:
            self._session.say("there is no layer to take chords from; add one in Layers")
        elif chords_of(session.loop, session.loop.layer(layer_id)):
            if session.apply("chords of a layer", lambda loop: put_chords_of(loop, layer_id)):
                self._session.say(
                    f"{plural(len(session.loop.chords), 'chord')} of "
                    f"{session.loop.layer(layer_id).name}; other layers follow them",
                    good=True,
                )
        else:
            try:
                found = proposed_chords(session.loop, layer_id)
            except CloudriftError as error:
                self._session.say(str(error))
                return
            self.asked.emit(ProposalsSheet(found, session, self._window))
