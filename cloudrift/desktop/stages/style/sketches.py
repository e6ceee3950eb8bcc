"""Many sketches: a table of draws, heard one by one, some of them kept."""

from pathlib import Path

from msgspec.structs import replace
from PyQt6.QtCore import QEvent, QObject, pyqtSignal
from PyQt6.QtGui import QHideEvent
from PyQt6.QtWidgets import QGridLayout, QProgressBar, QWidget

from cloudrift.desktop.kit.asking import ask_for_folder
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import ChoiceRow, button, clear, label, scrolling
from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.trouble import error_words
from cloudrift.desktop.session.work.marking import Marking
from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.desktop.stages.style.tile import SketchTile
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.ground.words import free_name, plural
from cloudrift.loop.files.storage import SUFFIX, save
from cloudrift.style.draws import LEAST, MOST, Sketched, by_unlikeness, many

SKETCHING = "sketches"
COLUMNS = 4
COUNT = Field(
    name="count", label="Sketches", default=LEAST, unit="variations", low=LEAST, high=MOST
)
ORDERS = (("variation", "by variation"), ("marks", "by marks"), ("unlike", "by difference"))


class Sketches(QWidget):
    """Tiles of draws from the open loop's card. ``came`` carries one as it stands."""

    came = pyqtSignal(object)

    def __init__(self, session: Session, tasks: Tasks, marking: Marking) -> None:
        super().__init__()
        self._session, self._tasks, self._marking = session, tasks, marking
        self.tiles: list[SketchTile] = []
        self._first = 1  # the variation that the next table begins with
        self._wanted = 0
        self._by: object = "variation"
        self._preview = Preview(session.hearing.previews, self)
        self._rest = Rest(self)
        self._over: SketchTile | None = None
        self._rest.rested.connect(self._hear)
        self.count = FieldWidget(COUNT, float(LEAST))
        self.count.setFixedWidth(170)
        self.variation = button("Suggest sketches", self.begin, name="strong")
        self.stop = button("Cancel", self.cancel)
        self.stop.hide()
        self.bar = QProgressBar()
        self.bar.hide()
        self.order = ChoiceRow(list(ORDERS), columns=3, name="Sort by")
        self.order.setFixedWidth(330)
        self.order.show_choice("variation")
        self.order.chosen.connect(self._order)
        self.keep = button(
            "Save selected…",
            self.ask_to_keep,
            tip="As the loops of a kit: one file each, in a folder",
        )
        self.words = label("", size=11.5, name="soft")
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, 10, 0)
        self._grid.setSpacing(6)
        holder = QWidget()
        inside = vertical(holder, FLUSH)
        fill(inside, self._grid, 1)
        column = vertical(self, FLUSH)
        row = horizontal()
        for one in (self.count, self.variation, self.stop):
            row.addWidget(one)
        fill(row, (self.bar, 1), 1, self.order, self.keep)
        fill(column, row, self.words, (scrolling(holder), 1))
        self.came.connect(self._add)
        self._preview.ended.connect(self._show)
        self._show()

    # --- drawing them -------------------------------------------------------------------------

    def begin(self) -> None:
        """Draw as many as are wanted beside the interface, behind what plays."""
        card, bars = self._marking.card, self._session.loop.bars
        if card is None:
            self._session.say(
                "this loop has no style card to sketch from; choose one in the heading"
            )
            return
        self._let_go()
        self._wanted = round(float(self.count.value))
        draws = range(self._first, self._first + self._wanted)
        self._first += self._wanted
        self.bar.setRange(0, self._wanted)
        self.bar.setValue(0)

        def work(stale: object, _moved: object) -> None:
            for one in many(card, draws, bars, stale):  # type: ignore[arg-type]
                if not stale():  # type: ignore[operator]
                    self.came.emit(one)

        def failed(error: Exception) -> None:
            self._wanted = 0
            self._show()
            if not isinstance(error, Cancelled):
                self._session.say(error_words(error))

        self._tasks.run(SKETCHING, work, lambda _none: self._ended(), failed, lane=Lane.ASKING)
        self._show()

    def _ended(self) -> None:
        self._wanted = 0
        self._lay()

    def cancel(self) -> None:
        """Leave those that do not stand yet."""
        self._tasks.cancel(SKETCHING)
        self._wanted = 0
        self._show()

    def _let_go(self) -> None:
        self._preview.end()
        self.tiles = []
        clear(self._grid)

    def _add(self, of: Sketched) -> None:
        tile = SketchTile(of)
        tile.toggled.connect(lambda _on: self._show())
        tile.installEventFilter(self)
        self.tiles.append(tile)
        self.bar.setValue(len(self.tiles))
        self._lay()

    def _order(self, by: object) -> None:
        self._by = by
        self._lay()

    def _lay(self) -> None:
        """Put the tiles into the order that is wanted."""
        by = {tile.of.variation: tile for tile in self.tiles}
        found = sorted((tile.of for tile in self.tiles), key=lambda one: one.variation)
        if self._by == "marks":
            found.sort(key=lambda one: -one.met / max(one.asked, 1))
        elif self._by == "unlike":
            found = by_unlikeness(found)
        for at, one in enumerate(found):
            self._grid.addWidget(by[one.variation], at // COLUMNS, at % COLUMNS)
        self._show()

    def _show(self) -> None:
        busy = self._wanted > 0
        self.stop.setVisible(busy)
        self.bar.setVisible(busy)
        self.variation.setEnabled(not busy)
        chosen = sum(tile.isChecked() for tile in self.tiles)
        self.keep.setEnabled(chosen > 0)
        card = self._marking.card
        if not self.tiles and not busy:
            name = card.name if card else ""
            says = f"Suggest {LEAST} to {MOST} sketches of {name} and hear them one by one."
            self.words.setText(says if card else "Choose a card in the heading first.")
        elif self._preview.on and self._over is not None:
            self.words.setText(f"Playing variation {self._over.of.variation} in the loop's place.")
        else:
            self.words.setText(
                f"{len(self.tiles)} sketches, {chosen} selected. Rest on one to hear it; click to "
                "select it."
            )

    # --- hearing ------------------------------------------------------------------------------

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(watched, SketchTile) and event is not None:
            if event.type() in (QEvent.Type.Enter, QEvent.Type.FocusIn):
                self._over = watched
                self._rest.come()
            elif event.type() in (QEvent.Type.Leave, QEvent.Type.FocusOut):
                self._rest.stop()
                self._preview.end()
        return False

    def _hear(self) -> None:
        if self._over is not None:
            of = self._over.of
            self._preview.put(of.loop, f"sketch {of.variation}", instead=True)
            self._show()

    # --- keeping ------------------------------------------------------------------------------

    def ask_to_keep(self) -> None:
        """Ask for a folder, and write the chosen ones there."""
        folder = ask_for_folder(self, self._session, "Save the sketches in")
        if folder is not None:
            self.keep_in(folder)

    def keep_in(self, folder: Path) -> None:
        """Write the chosen sketches into a folder as loops; nothing there is overwritten."""
        kit = self._session.loop.kit
        chosen = [tile.of.loop for tile in self.tiles if tile.isChecked()]
        done = 0
        try:
            for loop in chosen:
                taken = {path.stem for path in folder.glob(f"*{SUFFIX}")}
                name = free_name(loop.title, taken)
                save(replace(loop, title=name, kit=kit), folder / f"{name}{SUFFIX}")
                done += 1
        except CloudriftError as error:
            self._session.say(f"{error}; {done} of {len(chosen)} are saved")
            return
        for tile in self.tiles:
            tile.setChecked(False)
        self._session.say(f"{plural(done, 'loop')} saved in {folder}", good=True)

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self._rest.stop()
        self._preview.end()
