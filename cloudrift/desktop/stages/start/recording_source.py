"""A recording to begin from: its tempo, key and chords, alone or in a producer's style."""

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtWidgets import QCheckBox, QWidget

from cloudrift.audio.clips import LONGEST_S
from cloudrift.desktop.kit.asking import RECORDINGS
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.heard_in import HeardIn
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.desktop.stages.start.sources import Choice, FileSource, altered
from cloudrift.ground.paths import shown
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers.recordings import (
    add_recording,
    facts_of,
    laid_in,
    shifted,
    ways_into,
)
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts
from cloudrift.notes.reference import Reference, read_with_sound
from cloudrift.style import house_cards, known_cards, sketch, way_of_voicing
from cloudrift.style.beginnings import BARS, KEY, TEMPO, from_row
from cloudrift.style.near import Near, near_cards


class HeardFile(NamedTuple):
    """What was heard in a file; where it may be a layer, its clip and facts."""

    reference: Reference
    clip: str
    facts: Facts | None


class RecordingSource(FileSource):
    """A recording's tempo, key and chords; with a card, its palette around them."""

    own_key = "as estimated"
    ask = "A recording whose tempo and key to start with; or drop one here"
    kinds, reading = RECORDINGS, "Analysing"

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__(session, tasks)
        self.heard: HeardIn | None = None
        self._file: HeardFile | None = None
        self._near: dict[str, Near] = {}
        self.in_style = ChoiceBox("In the style of")
        self.in_style.activated.connect(lambda _i: self._choose_style())
        self.laid = QCheckBox("The recording itself as a layer")
        self.laid.toggled.connect(self.changed)
        self.of_style = QWidget()
        line = horizontal(self.of_style, FLUSH)
        fill(line, (self.in_style, 1), self.laid)
        self.column.addWidget(self.of_style)
        self.of_style.hide()

    def work(self, path: Path, cancelled: Callable[[], bool]) -> HeardFile:
        audio, rate, heard, found = read_with_sound(path)
        if audio.shape[1] > LONGEST_S * rate:
            return HeardFile(found, "", None)
        facts = facts_of(heard, shown(path.stem), origin=f"the file {path.name}")
        return HeardFile(found, self._session.clips.record(audio, rate), facts)

    def found(self, what: HeardFile) -> None:
        self._file = what
        self.heard = HeardIn(what.reference, BARS)
        self.heard.chosen.connect(self._heard_chosen)
        self.column.insertWidget(1, self.heard)
        self.of_style.show()
        self.laid.setEnabled(what.facts is not None)
        self.laid.setChecked(what.facts is not None)
        self.laid.setToolTip(
            "It is placed on its beats, in the loop's key and tempo"
            if what.facts is not None
            else f"It is longer than {LONGEST_S:.0f} s; trim it to the part you want as a layer"
        )
        self._list_styles()

    def forget(self) -> None:
        super().forget()
        self._file = None
        self.draws, self.card = False, None
        self.in_style.clear()
        self.of_style.hide()
        self.laid.setChecked(False)
        if self.heard is not None:
            self.heard.hide()
            self.heard.deleteLater()
            self.heard = None

    def _heard_chosen(self) -> None:
        self._list_styles()
        self.changed.emit()

    def _list_styles(self) -> None:
        """List the cards, those first that the tempo and key which are chosen are at home in."""
        assert self.heard is not None
        chosen = self.in_style.currentData()
        tempo = self.heard.taken_tempo or TEMPO
        near = near_cards({**house_cards(), **known_cards()}.values(), tempo, self.heard.heard_key)
        self._near = {one.card.name: one for one in near}
        self.in_style.clear()
        self.in_style.addItem("No style card: one layer plays its chords", "")
        for one in near:
            self.in_style.addItem(f"In the style of {one.card.name}: {one.words}", one.card.name)
        self.in_style.setCurrentIndex(max(self.in_style.findData(chosen), 0))

    def _choose_style(self) -> None:
        near = self._near.get(self.in_style.currentData())
        self.card = near.card if near else None
        self.draws = near is not None
        self.changed.emit()

    def make(self, choice: Choice) -> Loop | None:
        heard, file = self.heard, self._file
        if heard is None or file is None:
            return None
        near = self._near.get(self.in_style.currentData())
        if near is None:
            loop = from_row(
                self.title, heard.taken_key or KEY, heard.taken_tempo or TEMPO, heard.taken_chords
            )
            loop = altered(loop, choice)
        else:
            loop = sketch(
                near.card,
                choice.key or heard.taken_key,
                choice.tempo or (heard.taken_tempo and near.tempo),
                choice.variation,
                bars=choice.bars or BARS,
                metre=choice.metre or (4, 4),
            )
            if heard.taken_chords:
                loop = put_row(loop, heard.taken_chords, **way_of_voicing(near.card.name))
        if not self.laid.isChecked() or file.facts is None:
            return loop
        source = laid_in(loop, file.clip, file.facts)
        ways = ways_into(source, loop.key, loop.tempo)
        return add_recording(loop, shifted(source, ways[0]) if ways else source)
