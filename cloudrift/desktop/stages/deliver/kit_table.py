"""The loops of a kit as a table: what each is like, its strata, what is to fix."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QWidget

from cloudrift.deliver.kit import LoopSummary
from cloudrift.desktop.kit.look import color
from cloudrift.ground.paths import shown
from cloudrift.ground.words import number

COLUMNS = ("Loop", "Strata", "Key", "BPM", "Length", "LUFS", "To fix", "Marks", "Rights")
WIDTHS = (158, 0, 100, 56, 72, 56, 56, 72, 62)  # px; the strata have what is left
STRATA, FIX = 1, 6
ROW_PX = 42
FIGURES = (3, 4, 5)
NARROW_PX, NARROW_WITHOUT = 800, (4, 7, 8)


class SmallStrata(QWidget):
    """A loop's strata, small."""

    def __init__(self) -> None:
        super().__init__()
        self.bands: tuple[tuple[str, tuple[float, ...]], ...] = ()

    def show_bands(self, bands: tuple[tuple[str, tuple[float, ...]], ...]) -> None:
        """Show layers' roles and heights."""
        self.bands = bands
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if not self.bands:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        count = len(self.bands[0][1])
        wide, high = self.width() - 8, self.height() - 6
        floor = [0.0] * count
        for role, heights in self.bands:
            top = [low + one for low, one in zip(floor, heights, strict=True)]
            edge = [*enumerate(top), *[(at, floor[at]) for at in range(count - 1, -1, -1)]]
            painter.setBrush(color(role))
            painter.drawPolygon(
                QPolygonF(
                    [
                        QPointF(4 + wide * at / (count - 1), 3 + high * (1 - min(y, 1.0)))
                        for at, y in edge
                    ]
                )
            )
            floor = top


class KitTable(QTableWidget):
    """``chosen`` when another loop is; ``wanted`` carries the one that is to be heard."""

    chosen = pyqtSignal()
    wanted = pyqtSignal(object)  # Path

    def __init__(self) -> None:
        super().__init__(0, len(COLUMNS))
        self.files: tuple[Path, ...] = ()
        self.setAccessibleName("Loops of the kit")
        self.setHorizontalHeaderLabels(COLUMNS)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        down, across = self.verticalHeader(), self.horizontalHeader()
        assert down is not None and across is not None
        down.setDefaultSectionSize(ROW_PX)
        across.setHighlightSections(False)
        across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        across.setMinimumSectionSize(40)
        for at, wide in enumerate(WIDTHS):
            if wide:
                self.setColumnWidth(at, wide)
        across.setSectionResizeMode(STRATA, QHeaderView.ResizeMode.Stretch)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.itemSelectionChanged.connect(self.chosen)
        self.itemActivated.connect(lambda _item: self._want())
        self.itemDoubleClicked.connect(lambda _item: self._want())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Where there is little room the strata keep some: what they cost is said beside."""
        super().resizeEvent(event)
        for at in NARROW_WITHOUT:
            self.setColumnHidden(at, self.width() < NARROW_PX)

    @property
    def file(self) -> Path | None:
        """The loop file that is chosen."""
        at = self.currentRow()
        return self.files[at] if 0 <= at < len(self.files) else None

    def _want(self) -> None:
        if self.file is not None:
            self.wanted.emit(self.file)

    def show_loops(self, files: Sequence[Path], looked: Mapping[Path, LoopSummary]) -> None:
        """Show loops in order; of those that were not looked at yet, the name alone."""
        stood = self.file
        if tuple(files) != self.files:
            self.blockSignals(True)
            self.files = tuple(files)
            self.setRowCount(len(files))
            for row in range(len(files)):
                self.setCellWidget(row, STRATA, SmallStrata())
            self.blockSignals(False)
        for row, path in enumerate(files):
            self._show_row(row, path, looked.get(path))
        if stood in self.files:
            self.selectRow(self.files.index(stood))
        elif files and self.currentRow() < 0:
            self.selectRow(0)

    def _show_row(self, row: int, path: Path, one: LoopSummary | None) -> None:
        texts = _texts(one) if one else [shown(path.stem), "", *["…"] * (len(COLUMNS) - 2)]
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for at, text in enumerate(texts):
            item = self.item(row, at)
            if item is None:
                item = QTableWidgetItem()
                if at in FIGURES:
                    item.setTextAlignment(right)
                self.setItem(row, at, item)
            if item.text() != text:
                item.setText(text)
            tint = "signal" if one and (one.problem or (at == FIX and one.must)) else "ink"
            item.setForeground(color(tint))
        picture = self.cellWidget(row, STRATA)
        if isinstance(picture, SmallStrata):
            picture.show_bands(one.bands if one else ())


def _texts(one: LoopSummary) -> list[str]:
    if one.problem:
        return [one.title, "", "can't be read", *[""] * (len(COLUMNS) - 3)]
    fix = one.must + one.should
    return [
        one.title,
        "",
        one.key,
        number(one.tempo),
        f"{one.seconds:.2f} s",
        number(one.lufs, ".1f"),
        f"{fix}" if fix else "none",
        f"{one.met} of {one.asked}" if one.asked else "no card",
        f"{one.rights_open} open" if one.rights_open else "clear",
    ]
