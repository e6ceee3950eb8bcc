"""The room in the Layers stage: where each layer is heard, who is in whose way, and what helps."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QToolTip, QVBoxLayout, QWidget

from cloudrift.desktop.look import color, figure_font
from cloudrift.desktop.parts import button, heading, label
from cloudrift.desktop.session import Session
from cloudrift.desktop.tasks import Tasks
from cloudrift.loop import remedies
from cloudrift.loop.model import Loop
from cloudrift.render.room import HIGH_HZ, LOW_HZ, Crowded, Room, in_words, look_at

HEIGHT = 118
LEFT, BOTTOM, TOP = 40, 16, 6
RANGE_DB = 50.0
MARKS_HZ = (50, 100, 200, 500, 1000, 2000, 5000, 10_000)


class RoomMap(QWidget):
    """Each layer's level over frequency, as the ear weighs it; crowded bands along the foot."""

    def __init__(self) -> None:
        super().__init__()
        self._room: Room | None = None
        self._loop: Loop | None = None
        self._selected = ""
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Where each layer is heard, 30 Hz to 16 kHz")

    def sizeHint(self) -> QSize:
        return QSize(400, HEIGHT)

    def show_room(self, room: Room, loop: Loop) -> None:
        """Show what was found in a loop."""
        self._room, self._loop = room, loop
        self.update()

    def show_selected(self, layer_id: str) -> None:
        """Draw one layer's curve more strongly."""
        self._selected = layer_id
        self.update()

    def _x(self, hz: float) -> float:
        share = np.log(hz / LOW_HZ) / np.log(HIGH_HZ / LOW_HZ)
        return float(LEFT + share * (self.width() - LEFT - 4))

    def _bars(self) -> list[tuple[QRectF, Crowded]]:
        """Where the crowded bands are marked, a row a pair, the worst at the bottom."""
        rows: dict[tuple[str, str], int] = {}
        out = []
        for one in self._room.crowded if self._room else ():
            row = rows.setdefault(one.layers, len(rows))
            y = self.height() - BOTTOM - 5 - 5 * row
            left, right = self._x(one.low_hz), self._x(one.high_hz)
            out.append((QRectF(left, y, right - left, 4), one))
        return out

    def event(self, event: object) -> bool:
        """Say of a crowded band whose it is, where the pointer rests."""
        if isinstance(event, QHelpEvent) and self._loop is not None:
            for box, one in self._bars():
                if box.adjusted(-2, -3, 2, 3).contains(QPointF(event.pos())):
                    QToolTip.showText(event.globalPos(), in_words(one, self._loop), self)
                    return True
        return super().event(event)  # type: ignore[arg-type]

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        foot, height = self.height() - BOTTOM, self.height() - BOTTOM - TOP
        painter.setFont(figure_font(9.5))
        for hz in MARKS_HZ:
            x = self._x(hz)
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(x, TOP), QPointF(x, foot))
            painter.setPen(color("ink_soft"))
            words = f"{hz // 1000} kHz" if hz >= 1000 else f"{hz} Hz"
            painter.drawText(QRectF(x - 24, foot + 2, 48, 13), Qt.AlignmentFlag.AlignHCenter, words)
        for db in (0, -25, -50):
            y = TOP - db / RANGE_DB * height
            painter.drawText(QRectF(0, y - 7, LEFT - 5, 14), Qt.AlignmentFlag.AlignRight,
                             f"{db} dB".replace("-", "−"))  # fmt: skip
        if self._room is None or self._loop is None or not self._room.levels:
            return
        top = max(float(level.max()) for level in self._room.levels.values())
        centres = np.sqrt(self._room.edges_hz[:-1] * self._room.edges_hz[1:])
        roles = {layer.id: layer.role for layer in self._loop.layers}
        for name, level in self._room.levels.items():
            share = np.clip((top - level) / RANGE_DB, 0, 1)
            points = [QPointF(self._x(hz), TOP + s * height)
                      for hz, s in zip(centres, share, strict=True)]  # fmt: skip
            area = QPolygonF([QPointF(points[0].x(), foot), *points, QPointF(points[-1].x(), foot)])
            chosen = name == self._selected
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color(roles.get(name, "keys"), 0.32 if chosen else 0.12))
            painter.drawPolygon(area)
            painter.setPen(QPen(color(roles.get(name, "keys")), 2.2 if chosen else 1.2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(points))
        painter.setPen(Qt.PenStyle.NoPen)
        for box, one in self._bars():
            painter.setBrush(color("signal", 0.45 + 0.55 * min(1.0, one.severity / 0.6)))
            painter.drawRoundedRect(box, 2, 2)


class RoomView(QWidget):
    """The map, the worst pair in words, and what would help it, a press each."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self.map = RoomMap()
        self.words = label("", size=12)
        self.words.setWordWrap(True)
        self.room: Room | None = None
        self.helps: dict[str, QPushButton] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 8, 0)
        column.setSpacing(4)
        line = QHBoxLayout()
        line.setSpacing(5)
        line.addWidget(heading("Room"))
        line.addSpacing(6)
        line.addWidget(self.words, 1)
        for name, remedy in remedies.REMEDIES.items():
            self.helps[name] = button(name, partial(self._help, name), tip=remedy.about)
            line.addWidget(self.helps[name])
        column.addLayout(line)
        column.addWidget(self.map)
        session.sound_changed.connect(lambda _r: self._ask())
        session.selected.connect(self._follow)
        self._say()

    def _ask(self) -> None:
        if not self.isVisible():
            return
        loop, engine = self._session.shown, self._session.engine

        def work(stop: Callable[[], bool], _moved: object) -> Room:
            return look_at(loop, engine, stop)

        self._tasks.run("room", work, partial(self._take, loop))

    def showEvent(self, _event: object) -> None:
        self._ask()

    def _take(self, loop: Loop, room: Room) -> None:
        self.room = room
        self.map.show_room(room, loop)
        self._say()

    def _follow(self) -> None:
        self.map.show_selected(self._session.selection.layer_id or "")
        self._say()

    def _worst(self) -> Crowded | None:
        """The worst of the selected layer, else of all, among layers that are still there."""
        there = {layer.id for layer in self._session.loop.layers}
        found = [c for c in (self.room.crowded if self.room else ()) if set(c.layers) <= there]
        mine = [c for c in found if self._session.selection.layer_id in c.layers]
        return next(iter(mine or found), None)

    def _say(self) -> None:
        worst = self._worst()
        for one in self.helps.values():
            one.setVisible(worst is not None)
        if worst is None:
            known = self.room is not None and bool(self.room.levels)
            self.words.setText("Every layer has its own place." if known else "")
            return
        moved = self._session.loop.layer(self._whom(worst)).name
        said = in_words(worst, self._session.loop)
        for unit in ("Hz", "kHz"):  # a number and its unit stay in one line
            said = said.replace(f" {unit}", "\N{NO-BREAK SPACE}" + unit)
        self.words.setText(f"{said}. Change {moved}:")

    def _whom(self, worst: Crowded) -> str:
        """Who is changed: the selected one of the two, else the second."""
        selected = self._session.selection.layer_id
        return selected if selected in worst.layers else worst.layers[1]

    def _help(self, name: str) -> None:
        worst = self._worst()
        if worst is None:
            return
        layer_id = self._whom(worst)
        other = next(x for x in worst.layers if x != layer_id)
        remedy = remedies.REMEDIES[name]
        self._session.apply(
            f"room: {name.lower()}",
            lambda loop: remedy.edit(loop, layer_id, other, worst.low_hz, worst.high_hz),
        )
