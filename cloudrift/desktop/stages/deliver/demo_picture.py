"""The demo file as strata: its parts side by side, each as the loop looks in it."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from cloudrift.deliver.demo_sound import clock, lengths_of
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import MEDIUM, color, figure_font, text_font
from cloudrift.desktop.kit.parts import paint_words
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.loop.model.demo_file import DemoFile, fitted, heard_in
from cloudrift.loop.model.loop import Loop

TOP, FOOT, SIDE = 24.0, 22.0, 14.0
COLUMNS = 160
NARROW_PX, TIME_PX = 46.0, 64.0
EMPTY = (
    "No order yet: suggest one, or add parts by hand. Usually everything plays first, then a "
    "breakdown, then each layer alone."
)


@dataclass(frozen=True)
class Column:
    """A part: where it lies (shares of all of it), its name, its layers' heights from below."""

    id: str
    name: str
    start: float
    end: float
    bands: tuple[tuple[str, NDArray[np.float32]], ...]  # role, (columns,) of 0 to 1


def columns_of(
    loop: Loop, demo: DemoFile, curves: dict[str, NDArray[np.float32]]
) -> tuple[Column, ...]:
    """Return the parts as they are drawn; ``curves`` are layers' heights over the loop, by id."""
    demo = fitted(demo, loop)
    lengths = lengths_of(loop, demo)
    total = max(1, sum(lengths))
    out, at = [], 0
    for part, length in zip(demo.parts, lengths, strict=True):
        bands = []
        for layer in heard_in(loop, part):
            curve = curves.get(layer.id)
            if curve is not None:
                bands.append((layer.role, np.tile(curve, part.turns)))
        out.append(Column(part.id, part.name, at / total, (at + length) / total, tuple(bands)))
        at += length
    return tuple(out)


class DemoPicture(Keyed, Still):
    """``chosen`` carries a part's number, ``wanted`` one that is to be heard."""

    chosen = pyqtSignal(int)
    wanted = pyqtSignal(int)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.columns: tuple[Column, ...] = ()
        self.at = 0  # the part that is chosen
        self._seconds = 0.0
        self._share: float | None = None
        self.setMinimumHeight(150)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Click a part to select and play it; arrows select, Enter plays")

    def show_columns(self, columns: Sequence[Column], seconds: float, at: int) -> None:
        """Show parts, how long all of them are, and which is chosen."""
        self.columns, self._seconds = tuple(columns), seconds
        self.at = min(at, max(0, len(columns) - 1))
        names = ", ".join(one.name for one in columns)
        self.setAccessibleName(f"Demo file, {clock(seconds)} min: {names or 'no parts yet'}")
        self.update()

    def show_place(self, share: float | None) -> None:
        """Move the playhead, or take it away."""
        before, self._share = self._share, share
        if (before is None) != (share is None):
            self.update()
        elif before is not None and share is not None:
            playhead_moved(self, self._x(before), self._x(share))

    def _x(self, share: float) -> float:
        return SIDE + share * (self.width() - 2 * SIDE)

    # --- acting -------------------------------------------------------------------------------

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """Arrows choose a part, Enter hears it."""
        if not self.columns:
            return None
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            return lambda: self._choose(self.at + (1 if key == Qt.Key.Key_Right else -1))
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            return lambda: self.wanted.emit(self.at)
        return None

    def _choose(self, at: int) -> None:
        at = min(max(at, 0), len(self.columns) - 1)
        if at != self.at:
            self.at = at
            self.update()
            self.chosen.emit(at)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        share = (event.position().x() - SIDE) / max(1.0, self.width() - 2 * SIDE)
        for at, column in enumerate(self.columns):
            if column.start <= share < column.end:
                self._choose(at)
                self.wanted.emit(at)

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        if not self.columns:
            paint_words(painter, QRectF(self.rect()), EMPTY)
            return
        for at, column in enumerate(self.columns):
            self._paint(painter, column, chosen=at == self.at)
        painter.setPen(color("ink_soft"))
        painter.setFont(figure_font(10.5))
        foot = QRectF(SIDE, self.height() - FOOT + 4, self.width() - 2 * SIDE, FOOT - 4)
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight, f"{clock(self._seconds)} min")
        if self.hasFocus():
            painter.setPen(QPen(color("focus"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)

    def paint_moving(self, painter: QPainter) -> None:
        if self.columns and self._share is not None:
            paint_playhead(painter, self._x(self._share), TOP - 4, self.height() - FOOT)

    def _paint(self, painter: QPainter, column: Column, *, chosen: bool) -> None:
        left, right = self._x(column.start), self._x(column.end)
        low, high = self.height() - FOOT, TOP
        box = QRectF(left, high, right - left, low - high)
        painter.fillRect(box.adjusted(1, 0, -1, 0), color("card"))
        floor = np.zeros(COLUMNS)
        x = np.linspace(left + 2, right - 2, COLUMNS)
        painter.setPen(Qt.PenStyle.NoPen)
        for role, curve in column.bands:
            places = np.linspace(0, len(curve) - 1, COLUMNS).astype(int)
            top = floor + curve[places]
            painter.setBrush(color(role))
            edge = [*zip(x, top, strict=True), *zip(x[::-1], floor[::-1], strict=True)]
            painter.drawPolygon(
                QPolygonF(
                    [QPointF(px, low - (low - high - 4) * min(float(y), 1.0)) for px, y in edge]
                )
            )
            floor = top
        if chosen:
            painter.setPen(QPen(color("focus"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(1, 0, -1, 0))
        if right - left > NARROW_PX:
            painter.setPen(color("ink"))
            painter.setFont(text_font(11.5, MEDIUM))
            words = painter.fontMetrics().elidedText(
                column.name, Qt.TextElideMode.ElideRight, int(right - left - 8)
            )
            painter.drawText(
                QRectF(left + 4, 2, right - left - 6, TOP - 4), Qt.AlignmentFlag.AlignVCenter, words
            )
        painter.setPen(color("ink_soft"))
        painter.setFont(figure_font(10.5))
        if left + 2 * TIME_PX < self.width():  # there it would meet the end's
            begins = clock(column.start * self._seconds)
            where = QRectF(left + 4, low + 4, TIME_PX, FOOT - 4)
            painter.drawText(where, Qt.AlignmentFlag.AlignLeft, begins)
