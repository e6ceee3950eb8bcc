"""Where things are in the thread picture, and how they are painted."""

from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.session.document.selection import Selection
from cloudrift.desktop.stages.chords.model import WHOLE, Thread, ThreadPicture, VoiceBar
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks

LEFT, RIGHT_PX = 66, 2  # what is beside the loop's length
GAP_PX = 13.0  # room between two chords for the threads
MIN_LABEL_PX = 9.5
SHORT_PX = 9.0
MARK_PX = 150  # how far the mark of a voice may reach beside its chord
EDGE_PX = 6.0  # how near to a bar's end a hand takes hold of the end
RIGHT, MIDDLE_V = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignVCenter


@dataclass(frozen=True)
class Places:
    """Pixels of pitches and of shares of the loop."""

    width: int
    height: int
    low: int
    high: int

    @property
    def lane(self) -> float:
        """The height of a semitone."""
        return (self.height - 4) / (self.high - self.low + 1)

    @property
    def axis(self) -> TimeAxis:
        """Where a share of the loop is."""
        return TimeAxis(LEFT, self.width - LEFT - RIGHT_PX)

    def at_x(self, share: float) -> float:
        """Return the pixel of a place in the loop."""
        return self.axis.at_x(share)

    def share_at(self, x: float) -> float:
        """Return the place in the loop of a pixel."""
        return self.axis.tick_at(x)

    def at_y(self, pitch: float) -> float:
        """Return the pixel of the middle of a pitch's lane."""
        return 2 + (self.high - pitch + 0.5) * self.lane

    def pitch_at(self, y: float) -> int:
        """Return the pitch of the lane at a pixel."""
        return self.high - int((y - 2) // self.lane)

    @staticmethod
    def gap(width: float) -> float:
        """Return how much of a chord's width (pixels) is left to the threads behind it."""
        return min(GAP_PX + 2, 0.4 * width)

    def bar_box(self, bar: VoiceBar) -> QRectF:
        """Return where a voice is painted, from where it is struck."""
        full = self.full_box(bar)
        left = min(max(full.left(), self.at_x(bar.struck) + 3), full.right() - 6.0)
        return QRectF(left, full.top(), full.right() - left, full.height())

    def full_box(self, bar: VoiceBar) -> QRectF:
        """Return where a voice's chord begins and ends, at its pitch."""
        left, right = self.at_x(bar.start) + 3, self.at_x(bar.end)
        right -= self.gap(right - left)
        height = min(11.0, self.lane * 0.82)
        return QRectF(left, self.at_y(bar.pitch) - height / 2, max(right - left, 6.0), height)

    def bar_at(self, bars: tuple[VoiceBar, ...], point: QPointF) -> VoiceBar | None:
        """Return the voice under a point; a thin one is easier to hit than it looks."""
        reach = max(2.0, (9 - self.lane) / 2)
        near = [b for b in bars if self.full_box(b).adjusted(-2, -reach, 2, reach).contains(point)]
        return min(near, key=lambda b: abs(self.at_y(b.pitch) - point.y()), default=None)

    def edge_of(self, bar: VoiceBar, x: float) -> str:
        """Say whether a place is at a bar's ``start``, its ``end``, or neither."""
        box = self.full_box(bar)
        if box.width() < 5 * EDGE_PX:
            return ""
        if x < box.left() + EDGE_PX:
            return "start"
        return "end" if x > box.right() - EDGE_PX else ""


def paint_picture(
    painter: QPainter,
    places: Places,
    model: ThreadPicture,
    loop: Loop,
    selection: Selection,
    span: tuple[float, float] = WHOLE,
) -> None:
    """Paint lanes, bar lines, threads and voices, all or what lies in a span (shares)."""
    first, last = span
    if span != WHOLE:
        # Threads come out of the chord before and out-of-key marks stand out a little.
        left = max(LEFT + 1.0, places.at_x(first) - GAP_PX - 8)
        right = places.at_x(last) + 8
        first, last = places.share_at(left), places.share_at(right)
        painter.setClipRect(QRectF(left, 0, right - left, places.height))
        painter.fillRect(QRectF(left, 0, right - left, places.height), color("paper"))
    _paint_lanes(painter, places, model, labels=span == WHOLE)
    _paint_bar_lines(painter, places, loop)
    threads = [t for t in model.threads if t.end >= first and t.start <= last]
    for thread in sorted(threads, key=lambda t: t.crosses):
        _paint_thread(painter, places, thread)
    chosen = set(selection.chord_ids)
    for bar in model.bars:
        if bar.end >= first and bar.start <= last:
            _paint_voice(painter, places, bar, front=bar.chord_id in chosen)


def _paint_lanes(painter: QPainter, places: Places, model: ThreadPicture, *, labels: bool) -> None:
    free_below = -1e9
    for lane in reversed(model.lanes):
        y = places.at_y(lane.pitch)
        box = QRectF(LEFT, y - places.lane / 2, places.width - LEFT, places.lane)
        if lane.is_tonic:
            painter.fillRect(box, color("focus_soft"))
        elif not lane.degree:
            painter.fillRect(box, color("lane"))
        if labels and lane.degree and y - free_below >= MIN_LABEL_PX:
            free_below = y
            painter.setPen(color("ink" if lane.is_tonic else "ink_soft"))
            painter.setFont(figure_font(9.5, SEMI if lane.is_tonic else MEDIUM))
            painter.drawText(QRectF(0, y - 7, 38, 14), RIGHT | MIDDLE_V, lane.name)
            painter.drawText(
                QRectF(44, y - 7, 16, 14), Qt.AlignmentFlag.AlignCenter, str(lane.degree)
            )


def _paint_bar_lines(painter: QPainter, places: Places, loop: Loop) -> None:
    bar = bar_ticks(loop.metre)
    starts = {chord.start_tick for chord in loop.chords}
    for i in range(loop.bars + 1):
        strong = i * bar in starts or i == loop.bars
        painter.setPen(color("line" if strong else "hair"))
        x = places.at_x(i * bar / loop.ticks)
        painter.drawLine(QPointF(x, 0), QPointF(x, places.height))


def _paint_thread(painter: QPainter, places: Places, thread: Thread) -> None:
    start, end = places.at_x(thread.start), places.at_x(thread.end) + 3
    left = start - places.gap(places.at_x(thread.room) - LEFT - 3)
    y0, y1 = places.at_y(thread.from_pitch), places.at_y(thread.to_pitch)
    pen = QPen(color("ink_soft"), 1.4)
    if thread.move == "half":
        pen = QPen(color("signal"), 2.6)
    elif thread.move == "whole":
        pen = QPen(color("ink_soft"), 2.0)
    elif thread.move == "leap":
        pen.setStyle(Qt.PenStyle.DashLine)
        pen.setColor(color("ink_soft", 0.7))
    pens = [pen]
    if thread.crosses:  # it passes over the others, as a thread does
        pens.insert(0, QPen(color("paper"), pen.widthF() + 4))
    if end - left < SHORT_PX or y0 == y1:  # too short to be seen bend; a line is quicker
        for one in pens:
            painter.setPen(one)
            painter.drawLine(QPointF(left, y0), QPointF(end, y1))
        return
    path = QPainterPath(QPointF(left, y0))
    middle = (left + end) / 2
    path.cubicTo(QPointF(middle, y0), QPointF(middle, y1), QPointF(end, y1))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for one in pens:
        painter.setPen(one)
        painter.drawPath(path)


def _paint_voice(painter: QPainter, places: Places, bar: VoiceBar, *, front: bool) -> None:
    box = places.bar_box(bar)
    role = "bass" if bar.is_bass else "keys"
    fill = color(role, 1.0 if front else 0.72)
    if bar.struck > bar.start:  # a late one: its place is kept by a thin line
        full = places.full_box(bar)
        painter.setPen(QPen(fill, 1.4))
        painter.drawLine(
            QPointF(full.left(), full.center().y()), QPointF(box.left(), full.center().y())
        )
    if bar.muted:
        painter.setPen(QPen(fill, 1.4, Qt.PenStyle.DashLine))
        painter.setBrush(color("paper"))
        painter.drawRoundedRect(box, 4, 4)
    else:
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(fill)
        if bar.tied:
            box.setLeft(box.left() - 9)  # it comes out of the chord before
            painter.drawRect(box.adjusted(0, box.height() * 0.3, -4, -box.height() * 0.3))
            box.setLeft(box.left() + 9)
        painter.drawRoundedRect(box, 4, 4)
    if not bar.in_key:
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color("signal"), 2))
        painter.drawRoundedRect(box.adjusted(-2, -2, 2, 2), 5, 5)


def paint_mark(
    painter: QPainter, places: Places, model: ThreadPicture, loop: Loop, selection: Selection
) -> QRectF:
    """Mark the selected voice and say its note, over the picture; return where that is."""
    bars = [b for b in model.bars if (b.chord_id, b.voice) == (selection.chord_id, selection.voice)]
    if not bars:
        return QRectF()
    bar = bars[0]
    painter.save()
    box = places.bar_box(bar)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(QPen(color("ink"), 2))
    painter.drawRoundedRect(box.adjusted(-3.5, -3.5, 3.5, 3.5), 6, 6)
    words = loop.key.spell_pitch(bar.pitch)
    if selection.through:
        words += f" in {len(selection.chord_ids)} chords" if selection.more else " in all chords"
    if bar.muted:
        words += ", muted"
    painter.setFont(text_font(11, SEMI))
    width = painter.fontMetrics().horizontalAdvance(words) + 12
    left = min(box.left() + 4, places.width - width - 2)
    top = box.top() - 22 if box.top() > 26 else box.bottom() + 6
    tag = QRectF(left, top, width, 16)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color("ink"))
    painter.drawRoundedRect(tag, 4, 4)
    painter.setPen(color("on_ink"))
    painter.drawText(tag, Qt.AlignmentFlag.AlignCenter, words)
    painter.restore()
    return box.adjusted(-5, -5, 5, 5).united(tag)
