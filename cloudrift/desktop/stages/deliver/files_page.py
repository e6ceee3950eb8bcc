"""The page of files: what is written, in which format, under which names, and where."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QPushButton, QWidget

from cloudrift.audio.sound_file import FLOATING, FORMATS, FullScaleError, turn_down_db
from cloudrift.deliver import PARTS, PRESETS, Order, deliver, free_number, parcels
from cloudrift.deliver.making import name_of
from cloudrift.deliver.names import FIELDS, MOST_PATTERN, PATTERN
from cloudrift.desktop.kit.asking import ask
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
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
    progress_bar,
    scrolling,
    set_look,
)
from cloudrift.desktop.session.hearing.hearing import TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.deliver.file_list import FileList
from cloudrift.desktop.stages.deliver.files_words import BITS, RATES, TARGETS, facts_of_files
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError, in_a_sentence
from cloudrift.ground.paths import path_text
from cloudrift.ground.words import number, plural
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.sounding import key_heard
from cloudrift.render.plan.plan import passes_of

OWN_CHOICE = "Custom"
USUAL = "Loop and stems"
HIGH_PEAK_DBTP = -0.1
LEFT_PX = 304


class FilesPage(QWidget):
    """Choices at the left, the list of files in the middle, what to know at the right.

    ``asked`` when something else is to be written.
    """

    asked = pyqtSignal()

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        wishes = session.preferences.now
        self._bits = wishes.bits if wishes.bits in dict(BITS) else 24
        self._rate = session.loop.rate
        self._format = wishes.sound_format if wishes.sound_format in FORMATS else "wav"
        self._target = wishes.target_lufs
        self.problem = ""
        self.folder = QLineEdit(str(session.preferences.delivery))
        self.folder.setAccessibleName("Folder")
        self.format = ChoiceRow(
            [(name, "Ogg" if name == "ogg" else name.upper()) for name in FORMATS],
            columns=4,
            name="Format",
        )
        self.bits = ChoiceRow(BITS, columns=3, name="Bits")
        self.rate = ChoiceRow(RATES, columns=3, name="Rate")
        self.target = ChoiceRow(TARGETS, columns=4, name="Loudness in LUFS")
        self.preset = ChoiceBox("Preset of parts", [OWN_CHOICE, *PRESETS])
        asked = [one for one in wishes.parts if one in PARTS] or PRESETS[USUAL]
        self.parts = {one.name: QCheckBox(one.label) for one in PARTS.values()}
        for name, box in self.parts.items():
            box.setToolTip(PARTS[name].about)
            box.setChecked(name in asked)
        self.bed_on = button("Turn the groove bed on", self._turn_bed_on, name="link")
        self.once = QCheckBox("One pass with its tail instead of loops")
        self.names = QLineEdit(wishes.names or PATTERN)
        self.names.setMaxLength(MOST_PATTERN)
        self.names.setFont(figure_font(11.5))
        self.names.setAccessibleName("Pattern of names")
        self.names.setToolTip("Fields in braces: " + ", ".join(FIELDS))
        self.example = label("", size=11.5, name="soft", wrap=True)
        self.write = QPushButton("Export")
        self.write.setObjectName("strong")
        self.cancel = button("Cancel", lambda: tasks.cancel("deliver"))
        self.cancel.hide()
        self.bar = progress_bar(8)
        self.result = label("", size=12.5, wrap=True)
        self.open_folder = button("Open the folder", self._open_folder)
        self.open_folder.hide()
        self.numbered = label("", size=12, wrap=True)
        self.numbered.hide()
        self.list = FileList(session, tasks, self._make_one)
        self.inspector = Inspector()
        self._lay_out()
        self._connect()
        self._show()

    def _lay_out(self) -> None:
        left = panel()
        left.setFixedWidth(LEFT_PX)
        outer = vertical(left, (14, 12, 6, 12))
        inside = QWidget()
        column = vertical(inside, (0, 0, 8, 0), 5)
        row = horizontal()
        fill(row, (self.folder, 1), button("Choose…", self._browse))
        fill(column, heading("Folder"), row, heading("What"), self.preset)
        for box in self.parts.values():
            column.addWidget(box)
        fill(column, self.bed_on, self.once, 1)
        outer.addWidget(scrolling(inside), 1)
        foot = vertical(margins=(0, 4, 8, 0))
        for widget in (self.write, self.bar, self.cancel, self.result, self.open_folder):
            foot.addWidget(widget)
        outer.addLayout(foot)
        middle = panel()
        column = vertical(middle, (14, 12, 6, 10))
        hint = label("Click one to hear it; drag it out to export it.", size=11.5, name="soft")
        fill(column, label("Files to export", size=14, weight=SEMI), hint, self.numbered)
        self.list.setContentsMargins(0, 4, 8, 0)
        column.addWidget(scrolling(self.list), 1)
        row = horizontal(self, FLUSH, 8)
        fill(row, left, (middle, 1))
        # How it is written, above what to know of it.
        self._facts = vertical()
        self._said: list[tuple[str, str]] = []
        fill(
            self.inspector.body,
            heading("Sound files"),
            self.format,
            self.bits,
            self.rate,
            heading("Target loudness in LUFS, one gain for all"),
            self.target,
            heading("Names"),
            self.names,
            self.example,
            self._facts,
            1,
        )

    def _connect(self) -> None:
        session = self._session
        self.write.clicked.connect(self._write)
        self.folder.textChanged.connect(lambda _text: self._show())
        self.names.textChanged.connect(lambda _text: self._show())
        self.format.chosen.connect(lambda name: self._choose(format=name))
        self.bits.chosen.connect(lambda bits: self._choose(bits=bits))
        self.rate.chosen.connect(lambda rate: self._choose(rate=rate))
        self.target.chosen.connect(lambda lufs: self._choose(target=lufs))
        self.preset.activated.connect(lambda _at: self._take_preset())
        for box in (*self.parts.values(), self.once):
            box.toggled.connect(lambda _on: self._show())
        WhileShown(self, self._show, session.changed, session.opened)
        hearing = session.hearing
        WhileShown(self, self._show_facts, hearing.loudness_changed, hearing.changed)

    # --- choosing -----------------------------------------------------------------------------

    @property
    def order(self) -> Order | None:
        """What is asked for now; None where that can't be, and ``problem`` says why."""
        bits = self._bits if self._bits in FORMATS[self._format].bits else 24
        try:
            made = Order(
                parts=tuple(name for name, box in self.parts.items() if box.isChecked()),
                format_name=self._format,
                bits=bits,
                rate=self._rate,
                once=self.once.isChecked(),
                target_lufs=self._target,
                pattern=self.names.text().strip() or PATTERN,
            )
        except CloudriftError as error:
            self.problem = str(error)
            return None
        self.problem = ""
        return made

    def _turn_bed_on(self) -> None:
        if self._session.apply("hear the bed", lambda loop: beds.set_heard(loop, on=True)):
            self.parts["bed"].setChecked(True)

    def _choose(self, **what: object) -> None:
        for name, value in what.items():
            setattr(self, f"_{name}", value)
        self._show()

    def _take_preset(self) -> None:
        parts = PRESETS.get(self.preset.currentText())
        if parts is not None:
            for name, box in self.parts.items():
                box.setChecked(name in parts)

    def _browse(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "Folder to export to", self.folder.text())
        if chosen:
            self.folder.setText(chosen)

    # --- showing ------------------------------------------------------------------------------

    def _show(self) -> None:
        order = self.order
        document = self._session.document.history.now
        exact = FORMATS[self._format].bits
        self.format.show_choice(self._format)
        self.bits.setVisible(bool(exact))
        self.bits.show_choice(order.bits if order else self._bits)
        self.bits.button(32).setEnabled(32 in exact)
        self.rate.show_choice(self._rate)
        self.target.show_choice(self._target)
        asked = tuple(name for name, box in self.parts.items() if box.isChecked())
        preset = next((name for name, parts in PRESETS.items() if {*parts} == {*asked}), OWN_CHOICE)
        self.preset.setCurrentText(preset)
        self._show_list(order)
        loop = document.loop
        bed = loop.bed
        self.parts["bed"].setVisible(bed is not None and bool(bed.heard))
        self.bed_on.setVisible(bed is not None and bed.group.mute and bool(bed.lanes))
        self.parts["arrangement"].setVisible(bool(document.arrangement.sections))
        self.parts["demo"].setVisible(bool(document.demo.parts))
        self.parts["prints"].setVisible(bool(document.prints))
        self.parts["pieces"].setVisible(any(x.flipped is not None for x in loop.heard()))
        if order:
            name = name_of(document, order, "stem-1-name", treated=False)
            self.example.setText(f"{name}{FORMATS[self._format].suffix}")
        else:
            self.example.setText(self.problem)
        self._show_facts()
        self.asked.emit()

    def _show_list(self, order: Order | None) -> None:
        document = self._session.document.history.now
        number_ = free_number(document, order, self._folder) if order else 1
        todo = parcels(document, order, number_) if order else []
        plain = parcels(document, order) if order and number_ > 1 else todo  # as called elsewhere
        self.numbered.setVisible(number_ > 1)
        self.numbered.setText(
            f"Files of these names exist; the new ones get the number {number_}; nothing is "
            "overwritten."
        )
        heard = bool(document.loop.heard())
        self.write.setEnabled(heard and bool(todo))
        self.write.setText(
            f"Export {plural(len(todo), 'file')}" if heard else "No layer plays: nothing to export"
        )
        self.list.show_files(order, todo, plain, self.problem)

    def _show_facts(self) -> None:
        loop = self._session.loop
        facts = self.inspector
        facts.title.setText(key_heard(loop).text)
        seconds = loop.sounding_frames / loop.rate
        once = self.once.isChecked()
        long = f"and its tail, {passes_of(loop) * seconds:.2f} s at most" if once else "each pass"
        facts.under.setText(
            f"{loop.sounding_tempo:.2f} BPM · {plural(loop.bars, 'bar')} · {seconds:.2f} s {long}"
        )
        texts = facts_of_files(
            self._session.loop,
            alone=bool(self._session.hearing.alone),
            stems=self.parts["stems"].isChecked(),
            once=self.once.isChecked(),
            target=self._target,
            exact=FORMATS[self._format].exact,
        )
        said = [(text, "soft") for text in texts]
        loudness = self._session.hearing.loudness.get(TREATED)
        if loudness is not None:
            high = loudness.true_peak_db > HIGH_PEAK_DBTP
            text = (
                f"{number(loudness.lufs, '.1f')} LUFS, true peak "
                f"{number(loudness.true_peak_db, '.1f')} dBTP"
            )
            if high and self._target is None:
                text += (
                    ": over full scale. 16 and 24 bit would clip, so exporting asks what to do; "
                    "or lower some layers."
                )
            said.append((text, "signal" if high else "good"))
        if said != self._said:
            self._said = said
            clear(self._facts)
            for text, name in said:
                self._facts.addWidget(label(text, size=12, name=name, wrap=True))

    # --- writing ------------------------------------------------------------------------------

    def _make_one(self, name: str, folder: Path, told: Callable[[list[Path] | None], None]) -> None:
        """Make one of the files in a folder, for where it was dropped."""
        order, document, clips = self.order, self._session.document.history.now, self._session.clips
        if order is None:
            told(None)
            return

        def failed(error: Exception) -> None:
            self._session.say(error_words(error))
            told(None)

        self._session.say(f"Making {name}…", good=True)
        self._tasks.run(
            "drag out",
            lambda stop, _moved: deliver(
                document, folder, order, clips=clips, number=1, only={name}, cancelled=stop
            ),
            told,
            failed,
            lane=Lane.WRITING,
        )

    def _write(self) -> None:
        order = self.order
        if order is None:
            self._end(self.problem, good=False)
        else:
            self._write_order(order)

    def _write_order(self, order: Order, told: str = "") -> None:
        """Write by an order; ``told`` is what to say with what was written."""
        folder = self._folder
        document = self._session.document.history.now
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
                document,
                folder,
                order,
                clips=clips,
                cancelled=stop,
                progress=lambda done, of, name: moved(done / of, name),
            ),
            lambda paths: self._wrote(paths, folder, told),
            lambda error: self._fail(error, order),
            self._move,
            lane=Lane.WRITING,
        )

    def _move(self, share: float, name: str) -> None:
        self.bar.setValue(round(1000 * share))
        self.result.setText(f"Exporting {name}" if name else "")

    def _wrote(self, paths: list[Path], folder: Path, told: str) -> None:
        if (order := self.order) is not None:
            self._session.preferences.remember(
                delivery=path_text(folder.absolute()),
                parts=order.parts,
                bits=order.bits,
                sound_format=order.format_name,
                target_lufs=order.target_lufs,
                names="" if order.pattern == PATTERN else order.pattern,
            )
        self._end(f"Exported {plural(len(paths), 'file')} to {folder}{told}", good=True)

    def _ask_what_to_do(self, error: FullScaleError, order: Order) -> None:
        """Nothing is clipped without a word: what would be is turned down, or kept whole."""
        by = number(turn_down_db(error.over_db), ".1f")
        lower = f"Turn all down by {by} dB"
        floating = "Write 32-bit float WAV"
        words = f"{in_a_sentence(str(error))}. Nothing has been exported yet."
        chosen = ask(self, "Over full scale", words, lower, floating, "Cancel")
        if chosen == lower:
            self._write_order(replace(order, lower=True), f", all turned down by {by} dB")
        elif chosen == floating:
            self._write_order(
                replace(order, format_name="wav", bits=FLOATING), ", as 32-bit float WAV"
            )
        else:
            self._end("Nothing was exported. Lower some layers, or choose 32 bit.", good=False)

    def _fail(self, error: Exception, order: Order) -> None:
        if isinstance(error, FullScaleError):
            self._end("", good=False)
            self._ask_what_to_do(error, order)
        elif isinstance(error, Cancelled):
            self._end("Stopped. Finished files stay in the folder.", good=False)
        else:
            self._end(str(error), good=False)

    def _end(self, words: str, *, good: bool) -> None:
        self.bar.hide()
        self.cancel.hide()
        self.open_folder.setVisible(good)
        set_look(self.result, "good" if good else "signal")
        self.result.setText(words)
        self.write.setEnabled(True)
        self._show()  # what would be written next

    @property
    def _folder(self) -> Path:
        return Path(self.folder.text().strip() or ".").expanduser()

    def _open_folder(self) -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(self._folder)))
