"""The room as a picture: where each layer is heard, over the loop; its cuts are dragged there."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from cloudrift.desktop.kit.look import MEDIUM, color, figure_font, look, text_font
from cloudrift.desktop.kit.parts import paint_focus
from cloudrift.desktop.kit.still import paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.stages.layers.notes.places import LEFT
from cloudrift.ground.settings import hz_text
from cloudrift.loop.edits.layers.remedies import HIGH, LOW, cuts_of
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks
from cloudrift.render.measure.room import HIGH_HZ, LOW_HZ, Crowded, Room, in_words

TOP, BOTTOM = 4, 4
MARKS_HZ = (50, 100, 200, 500, 1000, 2000, 5000, 10_000)
GRIP_PX = 7
SIZED_MS = 80  # after a resize it is painted anew
A_KEY = 2 ** (1 / 6)  # how far an arrow moves a cut: a sixth of an octave
NAMES = {LOW: "low cut", HIGH: "high cut"}


class RoomMap(QWidget):
    """Time runs to the right, frequency up; hatched where two layers crowd each other.

    ``cut_moved`` carries the name of a cut and Hz, ``cut_let_go`` ends the drag.
    """

    cut_moved = pyqtSignal(str, float)
    cut_let_go = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._room: Room | None = None
        self._loop: Loop | None = None
        self._selected = ""
        self._share = 0.0
        self._picture: QPixmap | None = None
        self._sized = single_shot(self, self._paint_again, SIZED_MS)
        self._picture_of: tuple[object, ...] = ()
        self._held = ""  # the cut that is held
        self._near = LOW  # the cut that keys move
        self.gap: tuple[float, float] | None = None
        self.setMinimumHeight(110)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Where each layer sounds, 30 Hz to 16 kHz, over the loop")
        self.setAccessibleDescription(
            "Up and down move the selected layer's cut, left and right select the low or the high "
            "cut"
        )

    def sizeHint(self) -> QSize:
        return QSize(500, 190)

    def show_room(self, room: Room) -> None:
        """Show what was found."""
        self._room = room
        self._picture = None
        self.update()

    def show_loop(self, loop: Loop, layer_id: str) -> None:
        """Show a loop's bars and the cuts of a layer, whose region stands out."""
        if (loop, layer_id) != (self._loop, self._selected):
            self._loop, self._selected = loop, layer_id
            self.update()

    def show_gap(self, band: tuple[float, float] | None) -> None:
        """Mark a band that is to be left free, or none."""
        self.gap = band
        self.update()

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        before, after = self._x(self._share), self._x(share)
        self._share = share
        playhead_moved(self, before, after)

    # --- places -------------------------------------------------------------------------------

    @property
    def _axis(self) -> TimeAxis:
        return TimeAxis(LEFT, self.width() - LEFT - 4)

    def _x(self, share: float) -> float:
        return self._axis.at_x(share)

    def y_of(self, hz: float) -> float:
        """Return the pixel of a frequency."""
        share = np.log(min(max(hz, LOW_HZ), HIGH_HZ) / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)
        return float(self.height() - BOTTOM - share * (self.height() - TOP - BOTTOM))

    def hz_at(self, y: float) -> float:
        """Return the frequency at a pixel."""
        share = (self.height() - BOTTOM - y) / max(1, self.height() - TOP - BOTTOM)
        return float(LOW_HZ * (HIGH_HZ / LOW_HZ) ** min(max(share, 0.0), 1.0))

    def _cuts(self) -> dict[str, float]:
        loop = self._loop
        if loop is None or self._selected not in {layer.id for layer in loop.layers}:
            return {}
        return dict(zip((LOW, HIGH), cuts_of(loop, self._selected), strict=True))

    def _cut_at(self, point: QPointF) -> str:
        if point.x() < LEFT:
            return ""
        near = {name: abs(self.y_of(hz) - point.y()) for name, hz in self._cuts().items()}
        name = min(near, key=lambda n: near[n], default="")
        return name if name and near[name] <= GRIP_PX else ""

    def crowded_at(self, point: QPointF) -> Crowded | None:
        """Return the crowding that is hatched at a place."""
        share = self._axis.tick_at(point.x())
        hz = self.hz_at(point.y())
        for one in self._room.crowded if self._room else ():
            if one.low_hz <= hz <= one.high_hz and any(a <= share <= b for a, b in one.when):
                return one
        return None

    # --- hands --------------------------------------------------------------------------------

    def event(self, event: object) -> bool:
        """Say of a crowded band whose it is, where the pointer rests."""
        if isinstance(event, QHelpEvent) and self._loop is not None:
            one = self.crowded_at(QPointF(event.pos()))
            there = {layer.id for layer in self._loop.layers}
            if one is not None and set(one.layers) <= there:
                QToolTip.showText(event.globalPos(), in_words(one, self._loop), self)
                return True
        return super().event(event)  # type: ignore[arg-type]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._held = self._cut_at(event.position())
        self._near = self._held or self._near

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._held:
            self.cut_moved.emit(self._held, self._off_at_the_end(self._held, event.position().y()))
            return
        near = self._cut_at(event.position())
        self.setCursor(Qt.CursorShape.SizeVerCursor if near else Qt.CursorShape.ArrowCursor)

    def _off_at_the_end(self, name: str, y: float) -> float:
        """A cut that is dragged out of the picture is off."""
        if name == LOW and y > self.height() - BOTTOM - 2:
            return 0.0
        return 1e6 if name == HIGH and y < TOP + 2 else self.hz_at(y)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        if self._held:
            self._held = ""
            self.cut_let_go.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        cuts, key = self._cuts(), event.key()
        by = {Qt.Key.Key_Up: A_KEY, Qt.Key.Key_Down: 1 / A_KEY}.get(Qt.Key(key))
        if by and cuts:
            hz = min(max(cuts[self._near], LOW_HZ / A_KEY), HIGH_HZ * A_KEY)
            self.cut_moved.emit(self._near, hz * by)
            self.cut_let_go.emit()
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._near = LOW if key == Qt.Key.Key_Left else HIGH
            self.update()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, _event: object) -> None:
        self.update()

    def focusOutEvent(self, _event: object) -> None:
        self.update()

    # --- painting -----------------------------------------------------------------------------

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self._sized.start()  # while it is dragged the picture there is is stretched

    def _paint_again(self) -> None:
        self._picture = None
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        wanted = (
            self._selected,
            look.name,
            self._loop and (self._loop.bars, self._loop.metre),
            self._loop and tuple((x.id, x.role) for x in self._loop.layers),
        )
        if self._picture is None or wanted != self._picture_of:
            ratio = self.devicePixelRatioF()
            self._picture = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
            self._picture.setDevicePixelRatio(ratio)
            self._picture_of = wanted
            inside = QPainter(self._picture)
            inside.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_still(inside)
            inside.end()
        painter = QPainter(self)
        painter.drawPixmap(self.rect(), self._picture)
        if self.gap is not None:
            top, bottom = self.y_of(self.gap[1]), self.y_of(self.gap[0])
            painter.setPen(QPen(color("good"), 1.5, Qt.PenStyle.DashLine))
            painter.setBrush(color("good", 0.10))
            painter.drawRect(QRectF(LEFT, top, self.width() - LEFT - 4, bottom - top))
        self._paint_cuts(painter)
        paint_playhead(painter, self._x(self._share), 0, self.height())
        paint_focus(painter, self)

    def _paint_still(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), color("paper"))
        painter.fillRect(
            QRectF(LEFT, TOP, self.width() - LEFT - 4, self.height() - TOP - BOTTOM), color("card")
        )
        painter.setFont(figure_font(9.5))
        for hz in MARKS_HZ:
            y = self.y_of(hz)
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - 4, y))
            painter.setPen(color("ink_soft"))
            painter.drawText(
                QRectF(0, y - 7, LEFT - 5, 14), Qt.AlignmentFlag.AlignRight, hz_text(hz)
            )
        if self._loop is not None:
            painter.setPen(color("hair"))
            bar = bar_ticks(self._loop.metre)
            for tick in range(0, self._loop.ticks, bar):
                x = self._x(tick / self._loop.ticks)
                painter.drawLine(QPointF(x, TOP), QPointF(x, self.height() - BOTTOM))
        if self._room is None or self._loop is None:
            return
        for layer in sorted(self._loop.layers, key=lambda one: one.id == self._selected):
            if layer.id in self._room.reach:
                self._paint_region(
                    painter,
                    self._room.reach[layer.id],
                    color(layer.role),
                    chosen=layer.id == self._selected,
                )
        for one in self._room.crowded:
            self._paint_crowding(painter, one)

    def _paint_region(
        self, painter: QPainter, reach: np.ndarray, ink: QColor, *, chosen: bool
    ) -> None:
        """Between the lowest and the highest band in which it is heard, stretch by stretch."""
        assert self._room is not None
        edges, n = self._room.edges_hz, reach.shape[1]
        there = np.concatenate([[False], reach[0] >= 0, [False]]).astype(int)
        ends = np.flatnonzero(np.diff(there))
        fill = QColor(ink)
        fill.setAlphaF(0.34 if chosen else 0.13)
        painter.setPen(QPen(ink, 2.0 if chosen else 1.0))
        painter.setBrush(fill)
        for first, last in zip(ends[::2], ends[1::2], strict=True):
            xs = [self._x((i + 0.5 * (0 < i < n - 1)) / n) for i in range(first, last)]
            xs[0], xs[-1] = self._x(first / n), max(self._x(last / n), xs[0] + 1)
            upper = [self.y_of(edges[i + 1]) for i in reach[1, first:last]]
            lower = [self.y_of(edges[i]) for i in reach[0, first:last]]
            points = [QPointF(x, y) for x, y in zip(xs, upper, strict=True)]
            points += [QPointF(x, y) for x, y in zip(xs[::-1], lower[::-1], strict=True)]
            painter.drawPolygon(QPolygonF(points))

    def _paint_crowding(self, painter: QPainter, one: Crowded) -> None:
        top, bottom = self.y_of(one.high_hz), self.y_of(one.low_hz)
        strong = 0.45 + 0.55 * min(1.0, one.severity / 0.6)
        mine = self._selected in one.layers
        painter.setPen(QPen(color("signal", strong), 1) if mine else Qt.PenStyle.NoPen)
        painter.setBrush(color("signal", strong if mine else 0.5 * strong))
        brush = painter.brush()
        brush.setStyle(Qt.BrushStyle.BDiagPattern)
        painter.setBrush(brush)
        for a, b in one.when:
            painter.drawRect(QRectF(self._x(a), top, self._x(b) - self._x(a), bottom - top))

    def _paint_cuts(self, painter: QPainter) -> None:
        cuts, loop = self._cuts(), self._loop
        if not cuts or loop is None:
            return
        ink = color(loop.layer(self._selected).role)
        painter.setFont(text_font(10.5, MEDIUM))
        for name, hz in cuts.items():
            off = hz <= LOW_HZ if name == LOW else hz >= HIGH_HZ
            y = self.y_of(hz)
            strong = name == self._near and self.hasFocus()
            painter.setPen(QPen(ink, 2.4 if strong else 1.6, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - 4, y))
            words = f"{NAMES[name]} {'off' if off else hz_text(hz)}"
            width = painter.fontMetrics().horizontalAdvance(words) + 14
            top = min(max(y - 8, TOP), self.height() - BOTTOM - 16)
            box = QRectF(LEFT + 8, top, width, 16)
            painter.setPen(QPen(ink, 1))
            painter.setBrush(color("card"))
            painter.drawRoundedRect(box, 3, 3)
            painter.setPen(color("ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
