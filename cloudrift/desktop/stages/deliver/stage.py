"""The Deliver stage: folder, format, what will be written, progress."""

from pathlib import Path

from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import (
    QCheckBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from cloudrift.deliver import Order, deliver, free_number, parcels
from cloudrift.desktop.kit.look import SEMI, figure_font
from cloudrift.desktop.kit.parts import (
    ChoiceRow,
    Inspector,
    WhileShown,
    button,
    clear,
    heading,
    label,
    panel,
    scrolling,
)
from cloudrift.desktop.session.hearing import TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.tasks import Lane, Tasks
from cloudrift.ground.paths import path_text
from cloudrift.ground.wanted import Cancelled
from cloudrift.ground.words import number, plural
from cloudrift.render.plan import passes_of

BITS = ((16, "16 bit"), (24, "24 bit"), (32, "32 bit float"))
RATES = ((44_100, "44.1 kHz"), (48_000, "48 kHz"))
HIGH_PEAK_DBTP = -0.1


class DeliverStage(QWidget):
    """Choices at the left, the list of files in the middle, what to know at the right."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self._bits = 24
        self._rate = session.loop.rate
        self.folder = QLineEdit(str(session.preferences.delivery))
        self.folder.setAccessibleName("Folder")
        self.bits = ChoiceRow(BITS, columns=3, name="Bits")
        self.rate = ChoiceRow(RATES, columns=2, name="Rate")
        self.stems = QCheckBox("Stems: what the loop is the sum of")
        self.midi = QCheckBox("MIDI: the notes as played")
        self.once = QCheckBox("One pass with its tail, no loop")
        self.bed = QCheckBox("The groove bed, beside the loop")
        self.stems.setChecked(True)
        self.midi.setChecked(True)
        self.bits.show_choice(self._bits)
        self.rate.show_choice(self._rate)
        self.write = QPushButton("Write")
        self.write.setObjectName("strong")
        self.cancel = button("Cancel", lambda: tasks.cancel("deliver"))
        self.cancel.hide()
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(8)
        self.bar.hide()
        self.result = label("", size=12.5)
        self.result.setWordWrap(True)
        self.open_folder = button("Open the folder", self._open_folder)
        self.open_folder.hide()
        self.numbered = label("", size=12)
        self.numbered.setWordWrap(True)
        self.numbered.hide()
        self._files = QGridLayout()
        self._files.setHorizontalSpacing(18)
        self._files.setVerticalSpacing(7)
        self.facts = Inspector()
        self._lay_out()
        self.write.clicked.connect(self._write)
        self.folder.textChanged.connect(lambda _text: self._show())
        self.bits.chosen.connect(self._choose_bits)
        self.rate.chosen.connect(self._choose_rate)
        for box in (self.stems, self.midi, self.once, self.bed):
            box.toggled.connect(lambda _on: self._show())
        refresh = WhileShown(self, self._show)
        session.changed.connect(refresh)
        session.opened.connect(refresh)
        for signal in (session.hearing.loudness_changed, session.hearing.changed):
            signal.connect(WhileShown(self, self._show_facts))
        self._show()

    def _lay_out(self) -> None:
        left = panel()
        left.setFixedWidth(282)
        column = QVBoxLayout(left)
        column.setContentsMargins(14, 12, 14, 12)
        column.setSpacing(6)
        browse = button("Choose…", self._browse)
        row = QHBoxLayout()
        row.addWidget(self.folder, 1)
        row.addWidget(browse)
        column.addWidget(label("Deliver", size=14, weight=SEMI))
        column.addWidget(heading("Folder"))
        column.addLayout(row)
        column.addWidget(heading("Sample format"))
        column.addWidget(self.bits)
        column.addWidget(self.rate)
        column.addWidget(heading("What"))
        for box in (self.stems, self.midi, self.once, self.bed):
            column.addWidget(box)
        column.addSpacing(8)
        column.addWidget(self.write)
        column.addWidget(self.bar)
        column.addWidget(self.cancel)
        column.addWidget(self.result)
        column.addWidget(self.open_folder)
        column.addStretch(1)
        middle = panel()
        inside = QVBoxLayout(middle)
        inside.setContentsMargins(14, 12, 6, 10)
        inside.addWidget(label("What will be written", size=14, weight=SEMI))
        inside.addWidget(self.numbered)
        holder = QWidget()
        outer = QVBoxLayout(holder)
        outer.setContentsMargins(0, 6, 8, 0)
        outer.addLayout(self._files)
        outer.addStretch(1)
        inside.addWidget(scrolling(holder), 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(8, 6, 8, 6)
        row.setSpacing(8)
        row.addWidget(left)
        row.addWidget(middle, 1)
        row.addWidget(self.facts)

    @property
    def order(self) -> Order:
        """What is asked for now."""
        return Order(
            stems=self.stems.isChecked(),
            midi=self.midi.isChecked(),
            once=self.once.isChecked(),
            bed=self.bed.isChecked(),
            bits=self._bits,
            rate=self._rate,
        )

    def _choose_bits(self, bits: int) -> None:
        self._bits = bits
        self._show()

    def _choose_rate(self, rate: int) -> None:
        self._rate = rate
        self._show()

    def _browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Where to write", self.folder.text())
        if chosen:
            self.folder.setText(chosen)

    def _show(self) -> None:
        loop, order = self._session.loop, self.order
        number = free_number(loop, order, self._folder)
        todo = parcels(loop, order, number)
        self.numbered.setVisible(number > 1)
        self.numbered.setText(f"Files of these names are in the folder already; these get the "
                              f"number {number}, and nothing is overwritten.")  # fmt: skip
        clear(self._files)
        for i, parcel in enumerate(todo):
            name = label(parcel.name, size=12)
            name.setFont(figure_font(11.5))
            name.setWordWrap(True)
            what = label(parcel.what, size=11.5, name="soft")
            self._files.addWidget(name, 2 * i, 0)
            self._files.addWidget(what, 2 * i + 1, 0)
        self.bed.setVisible(loop.bed is not None and bool(loop.bed.heard))
        heard = bool(loop.heard())
        self.write.setEnabled(heard)
        self.write.setText(
            f"Write {plural(len(todo), 'file')}" if heard else "No layer is heard: nothing to write"
        )
        self._show_facts()

    def _show_facts(self) -> None:
        loop = self._session.loop
        facts = self.facts
        facts.title.setText(loop.sounding_key.text)
        seconds = loop.sounding_frames / loop.rate
        once = self.once.isChecked()
        long = f"and its tail, {passes_of(loop) * seconds:.2f} s at most" if once else "each turn"
        facts.under.setText(f"{loop.sounding_tempo:.2f} BPM · {plural(loop.bars, 'bar')} · "
                            f"{seconds:.2f} s {long}")  # fmt: skip
        clear(facts.body)
        lines = []
        if self._session.hearing.alone:
            lines.append("You hear only some layers (hear is pressed); what is written is the "
                         "whole loop, without what is off or parked.")  # fmt: skip
        if self.stems.isChecked():
            lines.append("The stems add up to the bare file, and that through the whole loop's "
                         "treatments is the loop.")  # fmt: skip
        if self.stems.isChecked() and any(x.group for x in loop.heard()):
            lines.append("A group is one stem, behind its own treatments; its layers are written "
                         "as parts beside it.")  # fmt: skip
        if loop.sounding_key != loop.key or loop.sounding_tempo != loop.tempo:
            lines.append(f"Written in {loop.key.text} at {loop.tempo:g} BPM. The treated loop is "
                         "named by what is heard; stems, their sum and MIDI by what is "
                         "written.")  # fmt: skip
        if self._session.loop.unknown:
            lines.append(f"Not heard in what is written: {'; '.join(self._session.loop.unknown)}.")
        carried = "tempo and key" if self.once.isChecked() else "loop points, tempo and key"
        lines.append(f"WAV files carry {carried}.")
        loudness = self._session.hearing.loudness.get(TREATED)
        for text in lines:
            words = label(text, size=12, name="soft")
            words.setWordWrap(True)
            facts.body.addWidget(words)
        if loudness is not None:
            high = loudness.true_peak_db > HIGH_PEAK_DBTP
            text = (f"{number(loudness.lufs, '.1f')} LUFS, true peak "
                    f"{number(loudness.true_peak_db, '.1f')} dBTP")  # fmt: skip
            if high:
                text += ": louder than full scale, so 16 and 24 bit would clip. Lower some layers."
            words = label(text, size=12, name="signal" if high else "good")
            words.setWordWrap(True)
            facts.body.addWidget(words)
        facts.body.addStretch(1)

    # --- writing ------------------------------------------------------------------------------

    def _write(self) -> None:
        folder, loop, order = self._folder, self._session.loop, self.order
        clips = self._session.clips
        self.bar.setRange(0, 1000)
        self.bar.setValue(0)
        for widget, there in ((self.bar, True), (self.cancel, True), (self.open_folder, False)):
            widget.setVisible(there)
        self.write.setEnabled(False)
        self.result.setText("")
        self._tasks.run(
            "deliver",
            lambda stop, moved: deliver(
                loop, folder, order, clips=clips, cancelled=stop,
                progress=lambda done, of, name: moved(done / of, name),
            ),
            lambda paths: self._wrote(paths, folder),
            self._fail,
            self._move,
            lane=Lane.WRITING,
        )  # fmt: skip

    def _move(self, share: float, name: str) -> None:
        self.bar.setValue(round(1000 * share))
        self.result.setText(f"Writing {name}" if name else "")

    def _wrote(self, paths: list[Path], folder: Path) -> None:
        self._session.preferences.remember(delivery=path_text(folder.absolute()))
        self._end(f"Wrote {plural(len(paths), 'file')} to {folder}", good=True)

    def _fail(self, error: Exception) -> None:
        if isinstance(error, Cancelled):
            self._end("Stopped. Files that were finished stay in the folder.", good=False)
        else:
            self._end(str(error), good=False)

    def _end(self, words: str, *, good: bool) -> None:
        self.bar.hide()
        self.cancel.hide()
        self.open_folder.setVisible(good)
        self.result.setObjectName("good" if good else "signal")
        self.result.setStyleSheet(self.result.styleSheet())
        self.result.setText(words)
        self.write.setEnabled(True)
        self._show()  # what would be written next

    @property
    def _folder(self) -> Path:
        return Path(self.folder.text().strip() or ".").expanduser()

    def _open_folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._folder)))

    def focus_first(self) -> None:
        """Put the keyboard where the work is."""
        self.write.setFocus()

    def show_place(self, share: float) -> None:
        """Nothing moves in this stage but the ribbon."""
