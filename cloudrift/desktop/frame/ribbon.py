"""The whole-loop ribbon: bars, chord names, energy per layer, playhead; drag to loop a part."""

import math

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, Qt, QTimer
from PyQt6.QtGui import (
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QPushButton, QWidget

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.still import paint_playhead
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.loop.sounding import heard, ruler
from cloudrift.notes.time import bar_ticks
from cloudrift.render.measure.strata import COLUMNS, strata

HEIGHT, LOW, LEFT, RIGHT, TOP = 86, 56, 112, 16, 22  # px; a low window has it low
SNAP_PX = 3
REDRAW_MS = 120


class Ribbon(QWidget):
    """The foot of the window, always there."""

    def __init__(self, session: Session, tasks: Tasks) -> None:
        super().__init__()
        self._session, self._tasks = session, tasks
        self._strata: list[tuple[str, NDArray[np.float32]]] = []
        self._picture: QPixmap | None = None
        self._hills: QPixmap | None = None  # the strata alone: names change more often
        self._share = 0.0
        self._busy = False
        self._drag_from: float | None = None
        self._dragged = False
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        # All of it is painted at each frame: what it lies in need not be.
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setAccessibleName("Whole loop: click to go there, drag to loop a part")
        self.setToolTip(
            "Click to go there; drag to loop a part; double-click for the whole loop. A chord in "
            "the signal colour sounds where another is written"
        )
        self.opener = QPushButton(self)  # of the pitch ruler
        self.opener.setObjectName("link")
        self.opener.setToolTip("What sounds, bar by bar, beside what is written (F8)")
        self.opener.clicked.connect(self.swap_ruler)
        self._show_opener()
        session.ruler_shown.connect(lambda _on: self._show_opener())
        self._later = QTimer(self)  # while a hand drags, the names follow a little after
        self._later.setSingleShot(True)
        self._later.setInterval(REDRAW_MS)
        self._later.timeout.connect(self._redraw)
        session.settled.connect(self._redraw_soon)
        session.hearing.shown_changed.connect(self._redraw)
        session.hearing.changed.connect(self._redraw)
        session.hearing.sound_changed.connect(lambda _rendered: self._measure())
        session.hearing.busy_changed.connect(self._show_busy)

    # --- what it shows ------------------------------------------------------------------------

    def _measure(self) -> None:
        loop, engine = self._session.hearing.heard_loop, self._session.engine
        self._tasks.run("ribbon", lambda _stop, _moved: strata(engine, loop), self._take)

    def _take(self, found: list[tuple[str, NDArray[np.float32]]]) -> None:
        self._strata, self._hills = found, None
        self._redraw_soon()

    def _redraw_soon(self) -> None:
        if not self._later.isActive():
            self._later.start()

    def _redraw(self) -> None:
        if not self._session.is_moving:
            self._picture = None
            self.update()

    def _show_busy(self, busy: bool) -> None:
        if busy != self._busy:
            self._busy = busy
            self.update(0, 0, self.width(), 3)

    def be_low(self, *, on: bool) -> None:
        """Take less of a low window."""
        self.setFixedHeight(LOW if on else HEIGHT)
        self.opener.setVisible(not on)

    def swap_ruler(self) -> None:
        """Show the pitch ruler over it, or no longer."""
        self._session.show_ruler(on=not self._has_ruler)

    @property
    def _has_ruler(self) -> bool:
        return self._session.preferences.now.ruler

    def _show_opener(self) -> None:
        on = self._has_ruler
        self.opener.setText(f"{'▾' if on else '▸'} Pitch ruler")
        self.opener.setAccessibleName(f"Pitch ruler, {'open' if on else 'folded'}")
        self.opener.adjustSize()
        self.opener.move(8, 32)
        self._redraw()

    def show_place(self, share: float) -> None:
        """Move the playhead; only the strips it leaves and enters are painted."""
        before, after = self._x(self._share), self._x(share)
        self._share = share
        if int(before) != int(after):
            for x in (before, after):
                self.update(QRect(int(x) - 3, 0, 7, self.height()))
            self.update(self._clock_box)

    @property
    def _clock_box(self) -> QRect:
        return QRect(0, self.height() - 30, LEFT - 6, 24)

    # --- places -------------------------------------------------------------------------------

    @property
    def _axis(self) -> TimeAxis:
        return TimeAxis(LEFT, self.width() - LEFT - RIGHT)

    def _x(self, share: float) -> float:
        return self._axis.at_x(share)

    def _share_at(self, x: float) -> float:
        return self._axis.nearest(x)

    def _snapped(self, share: float) -> float:
        """Bring a place to the nearest beat."""
        loop = self._session.hearing.shown
        beats = loop.bars * loop.metre[0]
        return round(share * beats) / beats

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._drag_from, self._dragged = event.position().x(), False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag_from is None:
            return
        x = event.position().x()
        if abs(x - self._drag_from) > SNAP_PX:
            self._dragged = True
        if self._dragged:
            first, last = sorted((self._share_at(self._drag_from), self._share_at(x)))
            self._hear(self._snapped(first), self._snapped(last))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag_from is not None and not self._dragged and event.position().x() >= LEFT:
            self._session.transport.seek(self._share_at(event.position().x()))
        self._drag_from = None

    def mouseDoubleClickEvent(self, _event: QMouseEvent | None) -> None:
        self._hear(0.0, 1.0)

    def _hear(self, first: float, last: float) -> None:
        if last > first:
            self._session.transport.hear_part(first, last)
            self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        player, loop = self._session.player, self._session.hearing.shown
        beat = 1 / (loop.bars * loop.metre[0])
        first, last = player.part
        key, shift = event.key(), held(event).shift
        by = {Qt.Key.Key_Left: -beat, Qt.Key.Key_Right: beat}.get(Qt.Key(key))
        if key == Qt.Key.Key_Escape and player.part != (0.0, 1.0):
            self._hear(0.0, 1.0)
        elif key == Qt.Key.Key_Home:
            player.seek(first)
        elif by is not None and shift:
            self._hear(first, min(max(self._snapped(last + by), first + beat), 1.0))
        elif by is not None:
            transport = self._session.transport
            transport.seek((self._snapped(transport.share) + by) % 1.0)
        else:
            super().keyPressEvent(event)

    # --- painting -----------------------------------------------------------------------------

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self._picture = self._hills = None

    def changeEvent(self, event: QEvent | None) -> None:
        if event is not None and event.type() == QEvent.Type.PaletteChange:
            self._picture = self._hills = None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._picture is None:
            self._picture = self._paint_picture()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        first, last = self._session.player.part
        if (first, last) != (0.0, 1.0):
            shade = color("sky", 0.72)
            painter.fillRect(QRectF(LEFT, 1, self._x(first) - LEFT, self.height()), shade)
            painter.fillRect(
                QRectF(self._x(last), 1, self._x(1) - self._x(last), self.height()), shade
            )
            painter.setPen(QPen(color("focus"), 2))
            for share in (first, last):
                painter.drawLine(QPointF(self._x(share), 2), QPointF(self._x(share), self.height()))
        paint_playhead(painter, self._x(self._share), 1, self.height())
        if event is None or event.region().intersects(self._clock_box):
            loop = self._session.hearing.shown
            seconds = self._share * loop.sounding_frames / loop.rate
            painter.setPen(color("ink_soft"))
            painter.setFont(figure_font(11.5))
            words = f"{int(seconds // 60)}:{seconds % 60:05.2f}"
            painter.drawText(QPointF(14, self.height() - 14), words)
        if self._busy:
            painter.fillRect(QRectF(0, 0, self.width(), 2), color("signal"))

    def _paint_picture(self) -> QPixmap:
        if self._hills is None:
            self._hills = self._blank()
            painter = QPainter(self._hills)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_strata(painter)
            painter.end()
        picture = QPixmap(self._hills)
        painter = QPainter(picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(color("line"))
        painter.drawLine(0, 0, self.width(), 0)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12.5, SEMI))
        painter.drawText(QPointF(14, 26), "Whole loop")
        self._paint_bars(painter)
        painter.end()
        return picture

    def _blank(self) -> QPixmap:
        ratio = self.devicePixelRatioF()
        picture = QPixmap(math.ceil(self.width() * ratio), math.ceil(self.height() * ratio))
        picture.setDevicePixelRatio(ratio)
        picture.fill(color("paper"))
        return picture

    def _paint_strata(self, painter: QPainter) -> None:
        floor = np.zeros(COLUMNS)
        high = self.height() - TOP - 6
        xs = [self._x((i + 0.5) / COLUMNS) for i in range(COLUMNS)]
        xs[0], xs[-1] = self._x(0), self._x(1)
        painter.setPen(Qt.PenStyle.NoPen)
        for role, curve in reversed(self._strata):
            roof = floor + curve
            upper = [
                QPointF(x, self.height() - 2 - high * y) for x, y in zip(xs, roof, strict=True)
            ]
            lower = [
                QPointF(x, self.height() - 2 - high * y) for x, y in zip(xs, floor, strict=True)
            ]
            painter.setBrush(color(role, 0.62))
            painter.drawPolygon(QPolygonF(upper + lower[::-1]))
            floor = roof

    def _paint_bars(self, painter: QPainter) -> None:
        loop = self._session.hearing.shown
        bar = bar_ticks(loop.metre)
        every = next(n for n in (1, 2, 4, 8, 16) if loop.bars / n <= 16 or n == 16)
        painter.setFont(figure_font(10.5, MEDIUM))
        for i in range(0, loop.bars, every):
            x = self._x(i * bar / loop.ticks)
            painter.setPen(color("hair"))
            painter.drawLine(QPointF(x, 1), QPointF(x, self.height()))
            painter.setPen(color("ink_soft"))
            painter.drawText(QPointF(x + 4, 14), str(i + 1))
        painter.setFont(text_font(11.5, SEMI))
        free_from = 0.0
        for start, name, differs in self._names():
            x = self._x(start / loop.ticks) + (22 if start % (bar * every) == 0 else 4)
            if x >= free_from:
                painter.setPen(color("signal" if differs else "ink"))
                painter.drawText(QPointF(x, 14), name)
                free_from = x + painter.fontMetrics().horizontalAdvance(name) + 6

    def _names(self) -> list[tuple[int, str, bool]]:
        """The chords that sound, and whether each is another than is written.

        Under the open ruler, which has those, they are the chords that are written.
        """
        loop = self._session.hearing.heard_loop
        if self._has_ruler or not heard(loop).layers:
            return [(c.start_tick, c.read(loop.key).text, False) for c in loop.chords]
        return [(x.start_tick, x.text, x.differs) for x in ruler(loop) if x.number >= 0]
