"""A ride, drawn over the loop: points that are set, dragged, bent and taken away."""

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.parts import label, small_button
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.ground.settings import Field
from cloudrift.notes.time import (
    LONG_VALUES,
    NOTE_VALUES,
    TICKS_PER_QUARTER,
    bar_ticks,
    position_text,
)
from cloudrift.texture.ride import (
    MOST_POINTS,
    Ride,
    RidePoint,
    bent,
    moved_point,
    shares_at,
    with_point,
    without_point,
)

HEIGHT, GRAB_PX = 84, 9
GRID = TICKS_PER_QUARTER // 2  # eighths; Shift sets a point anywhere
BEND_STEP = 0.1


class RideCurve(Still):
    """The picture. ``edited`` carries the points while a hand moves, ``settled`` its end."""

    edited = pyqtSignal(object)  # tuple[RidePoint, ...]
    settled = pyqtSignal()

    def __init__(self, field: Field, role: str, ticks: int, metre: tuple[int, int]) -> None:
        super().__init__()
        self.field, self._role = field, role
        self.points: tuple[RidePoint, ...] = ()
        self.chosen = 0
        self._ticks, self._metre = ticks, metre
        self._drag = False
        self._bend_from: float | None = None
        self._place, self._turns = 0.0, 1
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Click to add a point, drag it, double-click to delete it; with Alt, drag the curve "
            "after a point to bend it. Keys: ←→ and ↑↓ move, Page Up and Down select, Enter adds, "
            "Delete removes, Alt+↑↓ bends; Shift is fine"
        )

    def sizeHint(self) -> QSize:
        return QSize(420, HEIGHT)

    def show_ride(self, ride: Ride, loop_ticks: int) -> None:
        """Show a ride, over its period."""
        self._ticks = ride.every_ticks or loop_ticks
        self._turns = max(1, round(loop_ticks / self._ticks))
        self._show_points(ride.points)

    def _show_points(self, points: tuple[RidePoint, ...]) -> None:
        self.points = points
        self.chosen = min(self.chosen, len(points) - 1)
        self._name()
        self.update()

    def _name(self) -> None:
        point = self.points[self.chosen]
        self.setAccessibleName(
            f"{self.field.label} over the loop: point {self.chosen + 1} of {len(self.points)}, "
            f"{position_text(point.tick, self._metre)}, {self.field.text(point.value)}"
        )

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        share = share * self._turns % 1.0
        before, after = self._x(self._place * self._ticks), self._x(share * self._ticks)
        self._place = share
        playhead_moved(self, before, after)

    # --- places -------------------------------------------------------------------------------

    @property
    def _axis(self) -> TimeAxis:
        return TimeAxis(1, self.width() - 2, self._ticks)

    def _x(self, tick: float) -> float:
        return self._axis.at_x(tick)

    def _y(self, share: float) -> float:
        return 6 + (1 - share) * (self.height() - 12)

    def _at(self, point: RidePoint) -> QPointF:
        return QPointF(self._x(point.tick), self._y(self.field.to_share(point.value)))

    @property
    def _grid(self) -> int:
        """The ticks that points go by: eighths, or finer where a short way comes again."""
        return min(GRID, max(1, self._ticks // 16))

    def _tick(self, x: float, *, fine: bool) -> int:
        tick = self._axis.nearest(x)
        tick = round(tick) if fine else round(tick / self._grid) * self._grid
        return int(min(tick, self._ticks - 1))

    def _value(self, y: float) -> float:
        return self.field.from_share(1 - (y - 6) / (self.height() - 12))

    def _near(self, place: QPointF) -> int | None:
        far = [(self._at(point) - place).manhattanLength() for point in self.points]
        best = int(np.argmin(far))
        return best if far[best] <= GRAB_PX else None

    # --- hands --------------------------------------------------------------------------------

    def _put(self, points: tuple[RidePoint, ...], chosen: int) -> None:
        self.chosen = min(max(chosen, 0), len(points) - 1)
        if points != self.points:
            self.points = points
            self.edited.emit(points)
        self._name()
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        place, mods = event.position(), event.modifiers()
        if held(mods).alt:
            tick = self._tick(place.x(), fine=True)
            self.chosen = max(
                (i for i, p in enumerate(self.points) if p.tick <= tick),
                default=len(self.points) - 1,
            )
            self._bend_from = place.y()
            self.update()
            return
        near = self._near(place)
        if near is None and len(self.points) < MOST_POINTS:
            fine = held(mods).shift
            points, at = with_point(
                self.points, self._tick(place.x(), fine=fine), self._value(place.y())
            )
            self._put(points, at)
        elif near is not None:
            self._put(self.points, near)
        self._drag = True

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        place = event.position()
        if self._bend_from is not None:
            by = (place.y() - self._bend_from) / 40
            self._bend_from = place.y()
            self._put(bent(self.points, self.chosen, by), self.chosen)
        elif self._drag:
            fine = held(event).shift
            self._put(
                moved_point(
                    self.points,
                    self.chosen,
                    self._tick(place.x(), fine=fine),
                    self._value(place.y()),
                    self._ticks,
                ),
                self.chosen,
            )

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self._drag, self._bend_from = False, None
        self.settled.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        near = self._near(event.position())
        if near is not None and len(self.points) > 1:
            self._put(without_point(self.points, near), near - 1)
            self.settled.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key, mods = event.key(), event.modifiers()
        fine = held(mods).shift
        up = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1}.get(Qt.Key(key), 0)
        along = {Qt.Key.Key_Right: 1, Qt.Key.Key_Left: -1}.get(Qt.Key(key), 0)
        step = {Qt.Key.Key_PageDown: 1, Qt.Key.Key_PageUp: -1}.get(Qt.Key(key), 0)
        point = self.points[self.chosen]
        if up and held(mods).alt:
            self._put(bent(self.points, self.chosen, -up * BEND_STEP), self.chosen)
        elif up or along:
            share = self.field.to_share(point.value) + up * (0.005 if fine else 0.04)
            value = self.field.from_share(share) if up else point.value
            tick = point.tick + along * (max(1, self._grid // 12) if fine else self._grid)
            self._put(moved_point(self.points, self.chosen, tick, value, self._ticks), self.chosen)
        elif step:
            self._put(self.points, (self.chosen + step) % len(self.points))
            return
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self.points) < MOST_POINTS:
            self._put(*self._between())
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and len(self.points) > 1:
            self._put(without_point(self.points, self.chosen), self.chosen - 1)
        else:
            super().keyPressEvent(event)
            return
        self.settled.emit()

    def _between(self) -> tuple[tuple[RidePoint, ...], int]:
        """A point half-way to the next one, on the way that is ridden now."""
        start = self.points[self.chosen].tick
        after = self.points[self.chosen + 1 :]
        tick = (start + (after[0].tick if after else self._ticks)) // 2
        ride = Ride(of=self.field.name, points=self.points)
        share = float(shares_at(ride, self.field, np.array([float(tick)]), self._ticks)[0])
        return with_point(self.points, tick, self.field.from_share(share))

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        box = QRectF(self.rect())
        painter.fillRect(box, color("card"))
        bar = bar_ticks(self._metre)
        painter.setFont(figure_font(8.5))
        step = bar if self._ticks > bar else max(1, self._ticks // 8)
        for tick in range(0, self._ticks, step):
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(self._x(tick), 0), QPointF(self._x(tick), box.height()))
            painter.setPen(color("ink_soft"))
            words = f"{tick // bar + 1}" if step == bar else position_text(tick, self._metre)
            if step == bar or tick % (2 * step) == 0:
                painter.drawText(QPointF(self._x(tick) + 3, box.height() - 3), words)
        ride = Ride(of=self.field.name, points=self.points)
        ticks = np.linspace(0, self._ticks, max(2, self.width() // 2), endpoint=False)
        shares = shares_at(ride, self.field, ticks, self._ticks)
        painter.setPen(QPen(color(self._role), 2))
        painter.drawPolyline(
            QPolygonF(
                [
                    QPointF(self._x(t), self._y(s))
                    for t, s in zip(ticks.tolist(), shares.tolist(), strict=True)
                ]
            )
        )
        for i, point in enumerate(self.points):
            chosen = i == self.chosen and self.hasFocus()
            painter.setBrush(color("focus" if chosen else "card"))
            painter.setPen(QPen(color("focus" if chosen else self._role), 2))
            painter.drawEllipse(self._at(point), 4.5, 4.5)
        self._paint_values(painter, box)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(
            QPen(color("focus" if self.hasFocus() else "line"), 2 if self.hasFocus() else 1)
        )
        painter.drawRect(box.adjusted(0.5, 0.5, -1, -1))

    def paint_moving(self, painter: QPainter) -> None:
        paint_playhead(painter, self._x(self._place * self._ticks), 0, self.height())

    def _paint_values(self, painter: QPainter, box: QRectF) -> None:
        """The value axis at the left, and the chosen point's value beside it."""
        painter.setFont(figure_font(8.5))
        for share in (1.0, 0.5, 0.0):
            words = self.field.text(self.field.from_share(share))
            wide = painter.fontMetrics().horizontalAdvance(words) + 4
            y = min(max(self._y(share), 7), box.height() - 15 if share < 0.25 else box.height() - 7)
            tag = QRectF(5, y - 6, wide, 12)
            painter.fillRect(tag, color("card", 0.85))
            painter.setPen(color("ink_soft"))
            painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)
        if not self.hasFocus():
            return
        point = self.points[self.chosen]
        words = f"{position_text(point.tick, self._metre)}  {self.field.text(point.value)}"
        painter.setFont(figure_font(9.5))
        wide = painter.fontMetrics().horizontalAdvance(words) + 10
        at = self._at(point)
        left = at.x() + 9 if at.x() + wide + 12 < box.width() else at.x() - wide - 9
        tag = QRectF(left, min(max(at.y() - 8, 2), box.height() - 18), wide, 16)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color("focus"))
        painter.drawRoundedRect(tag, 3, 3)
        painter.setPen(color("on_ink"))
        painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)


def small_ride(ride: Ride | None, field: Field, ticks: int) -> tuple[float, ...] | None:
    """Return a ride as a field shows it, small, over its period; None where nothing rides."""
    if ride is None:
        return None
    ticks = ride.every_ticks or ticks
    return tuple(shares_at(ride, field, np.linspace(0, ticks, 40, endpoint=False), ticks).tolist())


def first_points(value: float, ticks: int) -> tuple[RidePoint, ...]:
    """Return what a ride begins with: the value as it stands, at the start and half-way."""
    return (RidePoint(tick=0, value=value), RidePoint(tick=ticks // 2, value=value))


ONCE = "per loop"
_OFTEN = (*LONG_VALUES.items(), *list(NOTE_VALUES.items())[:3])  # down to a quarter note
EVERY: dict[str, int] = {ONCE: 0} | {f"every {name}": ticks for name, ticks in _OFTEN}


class RideLane(QWidget):
    """A ride under its name: how often it comes, and a way to let the value stand again.

    ``every_chosen`` carries the ticks after which it comes again, 0 for once a loop.
    """

    every_chosen = pyqtSignal(int)

    def __init__(self, field: Field, role: str, ticks: int, metre: tuple[int, int]) -> None:
        super().__init__()
        self.curve = RideCurve(field, role, ticks, metre)
        column = vertical(self, (0, 2, 0, 0), 1)
        head = horizontal(spacing=6)
        self.title = label("", size=11, weight=SEMI, name="soft")
        fill(head, self.title, 1)
        self.every = ChoiceBox(f"How often the ride of {field.label} repeats", EVERY)
        self.every.setToolTip("Repeats within the loop, or once over the whole loop")
        self.every.setFont(text_font(11))
        self.every.setProperty("fit", "small")
        self.every.textActivated.connect(lambda text: self.every_chosen.emit(EVERY[text]))
        head.addWidget(self.every)
        self.stand = small_button("remove ride", self._stand, tip="Back to one fixed value")
        head.addWidget(self.stand)
        fill(column, head, self.curve)
        self.setFont(text_font(11))

    def show_ride(self, ride: Ride, loop_ticks: int) -> None:
        """Show a ride."""
        self.curve.show_ride(ride, loop_ticks)
        names = {ticks: name for name, ticks in EVERY.items()}
        often = names.get(ride.every_ticks, ONCE)
        self.every.setCurrentText(often)
        when = "over the loop" if often == ONCE else f"over {often.removeprefix('every ')}, {often}"
        self.title.setText(f"{self.curve.field.label} {when}")

    def _stand(self) -> None:
        self.curve.edited.emit(())
        self.curve.settled.emit()
