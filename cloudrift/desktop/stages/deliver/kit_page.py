"""The page of a kit: a folder of loops looked at, heard, put in order, and written as one."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QLineEdit, QWidget

from cloudrift.audio.sound_file import FORMATS
from cloudrift.deliver import PRESETS, Order
from cloudrift.deliver.checks import TARGETS_LUFS
from cloudrift.deliver.kit import (
    Kit,
    LoopSummary,
    fit_lufs,
    in_order,
    look_at_all,
    near_duplicates,
    read_kit,
    write_cover,
)
from cloudrift.deliver.kit_progress import KitOrder
from cloudrift.deliver.kit_writer import Written, write_kit
from cloudrift.deliver.names import FIELDS, MOST_PATTERN, PATTERN
from cloudrift.demo import unpack
from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.flow import flow
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import figure_font
from cloudrift.desktop.kit.parts import (
    Inspector,
    button,
    clear,
    heading,
    label,
    panel,
    progress_bar,
    set_look,
)
from cloudrift.desktop.kit.rows import row
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.kit_heard import KitHeard
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.deliver.kit_lead import kit_lead
from cloudrift.desktop.stages.deliver.kit_table import KitTable
from cloudrift.desktop.stages.deliver.looked_at import LookedAt, kit_words
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import path_text
from cloudrift.ground.words import NAME_TYPED, number, plural
from cloudrift.loop.files.storage import load

LOOKING, WRITING = "scanning a kit", "export a kit"
OWN, FITTED = "own", "fitted"
USUAL = "Loop and stems"
COVER_PX = 150  # that each line of the cover has at least


class KitPage(QWidget):
    """The table; what is chosen and how it is written is in the ``inspector``.

    ``open_wanted`` carries a loop file that is to be opened.
    """

    open_wanted = pyqtSignal(object)  # Path

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.kit: Kit | None = None
        self.heard = KitHeard(session, tasks)
        self._looked = LookedAt()
        self._alike: list[tuple[str, str, float]] = []
        self.folder = QLineEdit()
        self.folder.setAccessibleName("Folder of the kit")
        self.folder.setPlaceholderText("a folder with loop files in it")
        self.folder.setReadOnly(True)
        self.again = button("Rescan", self._look)
        self.name, self.maker, self.about = QLineEdit(), QLineEdit(), QLineEdit()
        for line, words in (
            (self.name, "Name of the kit"),
            (self.maker, "By"),
            (self.about, "A line about it, for its cover"),
        ):
            line.setAccessibleName(words)
            line.setPlaceholderText(words)
            line.setMaxLength(NAME_TYPED * 4 if line is self.about else NAME_TYPED)
            line.editingFinished.connect(self._keep_cover)
        self.table = KitTable()
        self.says = label("", size=12.5, name="soft", wrap=True)
        self.lead = kit_lead(self._browse, self._take_demo)
        self.hear = button("Play it", self._hear_or_leave)
        self.open = button("Open", self._open)
        self.earlier = button("Earlier", lambda: self._move(-1))
        self.later = button("Later", lambda: self._move(1))
        self._words = vertical()
        self.formats = {
            name: QCheckBox("Ogg" if name == "ogg" else name.upper()) for name in FORMATS
        }
        self.formats["wav"].setChecked(True)
        self.preset = ChoiceBox("Files for each loop", PRESETS)
        self.preset.setCurrentText(USUAL)
        self.level = ChoiceBox("Loudness")
        self.level.addItem("Loudness unchanged", OWN)
        self.level.addItem("Matched to each other", FITTED)
        for lufs in TARGETS_LUFS:
            self.level.addItem(f"All at {number(lufs)} LUFS", lufs)
        self.names = QLineEdit(session.preferences.now.names or PATTERN)
        self.names.setMaxLength(MOST_PATTERN)
        self.names.setFont(figure_font(11))
        self.names.setAccessibleName("Pattern of names")
        self.names.setToolTip("Names of all files, fields in braces: " + ", ".join(FIELDS))
        self.demo, self.zipped = QCheckBox("Also a demo file of each"), QCheckBox("Also as one zip")
        self.turn_down = QCheckBox("Turn a loop down if it would clip")
        self.turn_down.setToolTip(
            "All files of that loop by one gain; otherwise it is left out, and listed"
        )
        self.write = button("Export the kit…", self._choose_and_write, name="strong")
        self.cancel = button("Cancel", self._cancel)
        self.bar = progress_bar()
        self.result = label("", size=12, wrap=True)
        for one in (self.cancel, self.bar):
            one.hide()
        self.inspector = Inspector()
        self._lay_out()
        self.table.chosen.connect(self._show_chosen)
        self.table.wanted.connect(self.heard.hear)
        self.heard.changed.connect(self._show_chosen)
        self._show()

    def _lay_out(self) -> None:
        self._filled, self._chosen, self._writing = QWidget(), QWidget(), QWidget()
        line = horizontal()
        fill(line, (self.folder, 1), button("Choose…", self._browse), self.again)
        cover = flow(self.name, self.maker, self.about)
        for one in (self.name, self.maker, self.about):
            one.setMinimumWidth(COVER_PX)
        fill(vertical(self._filled, FLUSH), line, cover, (self.table, 1))
        main = panel()
        fill(vertical(main, (14, 12, 14, 12)), (self._filled, 1), (self.lead, 1), self.says)
        fill(
            vertical(self._chosen, FLUSH),
            row((self.hear, self.open, self.earlier, self.later)),
            self._words,
        )
        fill(
            vertical(self._writing, FLUSH),
            heading("Export all loops"),
            self.preset,
            flow(*self.formats.values()),
            self.level,
            self.names,
            flow(self.demo, self.zipped, self.turn_down),
        )
        fill(self.inspector.body, self._chosen, self._writing, 1)
        fill(self.inspector.foot, self.write, self.bar, self.cancel, self.result)
        fill(vertical(self, FLUSH), main)

    # --- the folder ---------------------------------------------------------------------------

    def _browse(self) -> None:
        start = str(self.kit.folder if self.kit else self._session.preferences.folder)
        chosen = QFileDialog.getExistingDirectory(self, "A folder with loop files", start)
        if chosen:
            self.take(Path(chosen))

    def _take_demo(self) -> None:
        """Take the demo kit, made first where it is not yet."""
        self._say("Making the demo kit…", "soft")
        self._tasks.run(
            "demo kit",
            lambda _stop, _moved: unpack(),
            lambda paths: self.take(paths[0].parent),
            self._failed,
            lane=Lane.WRITING,
        )

    def take(self, folder: Path) -> None:
        """Take a folder as the kit, and look at its loops."""
        try:
            self.kit = read_kit(folder)
        except CloudriftError as error:
            self._say(str(error), "signal")
            return
        self.folder.setText(path_text(folder))
        for line, words in (
            (self.name, self.kit.cover.name),
            (self.maker, self.kit.cover.maker),
            (self.about, self.kit.cover.about.replace("\n", " ")),
        ):
            line.setText(words)
        self._look()

    def _look(self) -> None:
        """Look at what is new or changed in the folder."""
        if self.kit is None:
            return
        try:
            self.kit = kit = read_kit(self.kit.folder)
        except CloudriftError as error:
            self._say(str(error), "signal")
            return
        todo = [path for path in kit.files if not self._looked.is_current(path)]
        self._show()
        if not todo:
            self._compare(kit)
            return

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> None:
            for at, one in enumerate(look_at_all(todo, stale), 1):
                moved(at / len(todo), one.file)
                self._looked.put(kit.folder / one.file, one)

        self._say(f"Scanning {plural(len(todo), 'loop')}…", "soft")
        self._tasks.run(
            LOOKING,
            work,
            lambda _none: self._compare(kit),
            self._failed,
            lambda _share, _name: self._show(),
            lane=Lane.ASKING,
        )

    def _compare(self, kit: Kit) -> None:
        """Find which of them are nearly one."""

        def work(_stale: object, _moved: object) -> list[tuple[str, str, float]]:
            loops = []
            for path in kit.files:
                try:
                    loops.append((path.name, load(path)))
                except CloudriftError:
                    continue
            return near_duplicates(loops)

        def came(found: list[tuple[str, str, float]]) -> None:
            self._alike = found
            self._show()

        self._tasks.run("similarity in a kit", work, came, lane=Lane.ASKING)

    def _failed(self, error: Exception) -> None:
        if not isinstance(error, Cancelled):
            self._say(error_words(error), "signal")

    @property
    def looked(self) -> dict[Path, LoopSummary]:
        """What is known of the loops."""
        return self._looked.of(self.kit.files if self.kit else ())

    # --- changing -----------------------------------------------------------------------------

    def _keep_cover(self) -> None:
        if self.kit is None:
            return
        about = self.about.text().strip()
        if about == self.kit.cover.about.replace("\n", " "):
            about = self.kit.cover.about
        cover = replace(
            self.kit.cover,
            name=self.name.text().strip(),
            about=about,
            maker=self.maker.text().strip(),
        )
        if cover == self.kit.cover:
            return
        try:
            self.kit = write_cover(self.kit, cover)
        except CloudriftError as error:
            self._say(str(error), "signal")

    def _move(self, by: int) -> None:
        kit, file = self.kit, self.table.file
        if kit is None or file is None:
            return
        files = list(kit.files)
        at = files.index(file)
        files.insert(min(max(at + by, 0), len(files) - 1), files.pop(at))
        try:
            self.kit = in_order(kit, files)
        except CloudriftError as error:
            self._say(str(error), "signal")
        self._show()

    def _hear_or_leave(self) -> None:
        file = self.table.file
        if self.heard.file is not None and self.heard.file == file:
            self.heard.leave()
        elif file is not None:
            self.heard.hear(file)

    def _open(self) -> None:
        if self.table.file is not None:
            self.open_wanted.emit(self.table.file)

    # --- writing ------------------------------------------------------------------------------

    @property
    def how(self) -> KitOrder:
        """How the kit is written; raise CloudriftError where that can't be."""
        formats = tuple(name for name, box in self.formats.items() if box.isChecked())
        if not formats:
            raise CloudriftError("choose a format for the sound files of the kit")
        level = self.level.currentData()
        target = (
            fit_lufs(self.looked.values())
            if level == FITTED
            else (None if level == OWN else float(level))
        )
        order = Order(
            parts=PRESETS[self.preset.currentText()],
            target_lufs=target,
            lower=self.turn_down.isChecked(),
            pattern=self.names.text().strip() or PATTERN,
        )
        return KitOrder(
            order=order, formats=formats, demo=self.demo.isChecked(), zipped=self.zipped.isChecked()
        )

    def _choose_and_write(self) -> None:
        chosen = QFileDialog.getExistingDirectory(
            self, "An empty folder, or one to resume", str(self._session.preferences.delivery)
        )
        if chosen:
            self.write_to(Path(chosen))

    def write_to(self, out: Path) -> None:
        """Write the kit into a folder, beside the interface."""
        kit = self.kit
        try:
            how = self.how
        except CloudriftError as error:
            self._end(str(error), good=False)
            return
        if kit is None:
            return
        self.bar.setRange(0, 1000)
        self.bar.setValue(0)
        self._show_writing(on=True)

        def work(stale: Callable[[], bool], moved: Callable[[float, str], None]) -> Written:
            return write_kit(
                kit,
                out,
                how,
                cancelled=stale,
                progress=lambda done, of, name: moved(done / of, name),
            )

        self._tasks.run(
            WRITING,
            work,
            lambda made: self._wrote(made, out),
            self._broke,
            self._moved,
            lane=Lane.WRITING,
        )

    def _cancel(self) -> None:
        self._tasks.cancel(WRITING)
        self._end(
            "Stopped. What is finished stays; export into the same folder to resume.", good=False
        )

    def _moved(self, share: float, name: str) -> None:
        self.bar.setValue(round(1000 * share))
        if name:
            self.result.setText(f"Done: {name}")

    def _wrote(self, made: Written, out: Path) -> None:
        words = f"Exported {plural(len(made.paths), 'file')} to {out}"
        if made.problems:
            words += "; not " + "; not ".join(made.problems)
        self._end(words, good=not made.problems)

    def _broke(self, error: Exception) -> None:
        if not isinstance(error, Cancelled):
            self._end(error_words(error), good=False)

    def _end(self, words: str, *, good: bool) -> None:
        self._show_writing(on=False)
        set_look(self.result, "good" if good else "signal")
        self.result.setText(words)

    def _show_writing(self, *, on: bool) -> None:
        self.bar.setVisible(on)
        self.cancel.setVisible(on)
        self.write.setEnabled(not on)
        if on:
            set_look(self.result, "soft")
            self.result.setText("")

    # --- showing ------------------------------------------------------------------------------

    def _say(self, words: str, look: str) -> None:
        set_look(self.says, look)
        self.says.setText(words[:1].upper() + words[1:])

    def _show(self) -> None:
        kit = self.kit
        for widget in (self._filled, self._chosen, self._writing, self.write):
            widget.setVisible(kit is not None)
        self.inspector.title.setText("No kit yet" if kit is None else "Selected loop")
        if kit is not None and self.lead.isAncestorOf(self.focusWidget() or self):
            self.table.setFocus()
        self.lead.setVisible(kit is None)
        if kit is not None:
            self.table.show_loops(kit.files, self.looked)
            self._say(*kit_words(kit, list(self.looked.values()), len(self._alike)))
        self._show_chosen()

    def _show_chosen(self) -> None:
        file, kit = self.table.file, self.kit
        clear(self._words)
        for one in (self.hear, self.open, self.earlier, self.later):
            one.setEnabled(file is not None)
        if file is None or kit is None:
            return
        at = kit.files.index(file) if file in kit.files else 0
        self.earlier.setEnabled(at > 0)
        self.later.setEnabled(at < len(kit.files) - 1)
        heard = self.heard.file == file
        waits = heard and not self.heard.on
        self.hear.setText("Rendering…" if waits else "Stop" if heard else "Play it")
        looked = self.looked.get(file)
        lines = [(word, "warn") for word in looked.words] if looked else []
        if looked and not looked.problem:
            facts = (
                f"{plural(looked.bars, 'bar')}, {looked.seconds:.2f} s, "
                f"{plural(looked.layers, 'layer')}, true peak "
                f"{number(looked.peak_db, '.1f')} dBTP"
            )
            known = label(facts, size=12, name="soft", wrap=True)
            self._words.addWidget(known)
        if looked and looked.problem:
            lines = [(looked.problem, "signal")]
        for name, other, alike in self._alike:
            if file.name in (name, other):
                twin = other if file.name == name else name
                lines.append((f"Very similar to {twin}: {alike:.0%} alike", "warn"))
        for words, look in lines or [("Nothing to fix here.", "good")]:
            made = label(words, size=12, name=look, wrap=True)
            self._words.addWidget(made)
