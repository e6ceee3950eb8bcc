"""The pitch ruler as a strip over time: what sounds, how far off, and in what it differs."""

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import QEvent, QRectF, Qt
from PyQt6.QtGui import QFocusEvent, QHelpEvent, QHideEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QToolTip

from cloudrift.desktop.kit.held import Held, held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import plural
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import RulerSpan, key_heard
from cloudrift.notes.time import position_text

HEIGHT = 27  # px
BETWEEN_PX, INSIDE_PX, LEAST_PX = 1.0, 5.0, 10.0


class RulerPart(NamedTuple):
    """Spans of a loop along an axis: a section has its own."""

    axis: TimeAxis
    spans: tuple[RulerSpan, ...]
    loop: Loop


class PitchRuler(Keyed, Still):
    """What sounds, span after span; a press plays it as plain tones over what is heard."""

    def __init__(self, session: Session, name: str = "Pitch ruler") -> None:
        super().__init__()
        self._session, self._name = session, name
        self._parts: tuple[RulerPart, ...] = ()
        self.at = 0  # the span that keys act on
        self._sounding = -1  # the span whose tones are heard
        self._x = -10.0  # of the playhead
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._name_for_readers()

    # --- what is shown ------------------------------------------------------------------------

    def show_parts(self, *parts: RulerPart) -> None:
        """Show what sounds in one loop, or in several after one another."""
        self._parts = parts
        self.at = min(self.at, max(0, len(self.spans) - 1))
        self._name_for_readers()
        self.update()

    def show_x(self, x: float) -> None:
        """Follow the sound: the playhead's pixel."""
        playhead_moved(self, self._x, x)
        self._x = x

    @property
    def spans(self) -> list[tuple[RulerPart, RulerSpan]]:
        """All spans, with the part that each is in."""
        return [(part, span) for part in self._parts for span in part.spans]

    def words_of(self, number: int) -> str:
        """Say all of a span: when, what sounds, what is written, how far off, how surely."""
        part, span = self.spans[number]
        loop = part.loop
        start, end = (position_text(x, loop.metre) for x in (span.start_tick, span.end_tick))
        when = f"{start} to {end}"
        says = [f"{when}: {span.text} sounds"]
        if span.written:
            same = not span.differs and span.text == span.written
            says.append("as written" if same else f"{span.written} is written")
        says += [f"{span.off_text} off"] if span.off_text else []
        if span.layer in loop.ids:
            says.append(f"loudest in {loop.name_of(span.layer)}")
        says += [f"{100 * span.sure:.0f} % sure"] if span.sure < 1 else []
        return ", ".join(says)

    def _name_for_readers(self) -> None:
        spans = self.spans
        if not spans:
            self.setAccessibleName(f"{self._name}: nothing with a pitch sounds")
            return
        where = f"{self.at + 1} of {plural(len(spans), 'span')}"
        self.setAccessibleName(f"{self._name}, {where}. {self.words_of(self.at)}")

    # --- hands --------------------------------------------------------------------------------

    def _box(self, part: RulerPart, span: RulerSpan) -> QRectF:
        left, right = part.axis.at_x(span.start_tick), part.axis.at_x(span.end_tick)
        return QRectF(left, 2, max(2.0, right - left - BETWEEN_PX), self.height() - 4)

    def number_at(self, x: float) -> int:
        """Return the number of the span at a pixel; -1 where nothing sounds."""
        found = (i for i, one in enumerate(self.spans)
                 if self._box(*one).left() <= x < self._box(*one).right())  # fmt: skip
        return next(found, -1)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        number = self.number_at(event.position().x())
        if number >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self.choose(number)
            self.play(number)

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        self.hush()

    def choose(self, number: int) -> None:
        """Choose a span for the keys; the layer that it is loudest in is selected with it."""
        spans = self.spans
        if not spans:
            return
        self.at = min(max(number, 0), len(spans) - 1)
        layer = spans[self.at][1].layer
        if layer in {x.id for x in self._session.loop.layers}:
            self._session.select(layer_id=layer)
        self._name_for_readers()
        self.update()

    def play(self, number: int) -> None:
        """Hear a span's pitches as plain tones, until they are hushed."""
        if 0 <= number < len(self.spans):
            self._sounding = number
            self._session.hearing.once.tones(self.spans[number][1].pitches)
            self.update()

    def hush(self) -> None:
        """Let the tones end."""
        if self._sounding >= 0:
            self._sounding = -1
            self._session.hearing.once.hush_tones()
            self.update()

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """What a key does, or None."""
        if held(event) != Held():
            return None
        acts: dict[int, Callable[[], object]] = {
            Qt.Key.Key_Left: lambda: self.choose(self.at - 1),
            Qt.Key.Key_Right: lambda: self.choose(self.at + 1),
            Qt.Key.Key_Home: lambda: self.choose(0),
            Qt.Key.Key_End: lambda: self.choose(len(self.spans) - 1),
            Qt.Key.Key_Return: self._swap,
            Qt.Key.Key_Enter: self._swap,
        }
        return acts.get(event.key()) if self.spans else None

    def _swap(self) -> None:
        if self._sounding == self.at:
            self.hush()
        else:
            self.play(self.at)

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            number = self.number_at(event.pos().x())
            words = (
                f"{self.words_of(number)}. Hold to hear it as plain tones"
                if number >= 0
                else "Nothing with a pitch sounds here"
            )
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.hush()
        self.update()

    def hideEvent(self, _event: QHideEvent | None) -> None:
        self.hush()

    # --- painting -----------------------------------------------------------------------------

    def paint_moving(self, painter: QPainter) -> None:
        paint_playhead(painter, self._x, 0, self.height())

    def paint_still(self, painter: QPainter) -> None:
        if not self.spans and self._parts:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(11))
            left = QRectF(self.rect()).adjusted(self._parts[0].axis.left + 4, 0, 0, 0)
            painter.drawText(left, Qt.AlignmentFlag.AlignVCenter, "nothing with a pitch sounds")
        number = 0
        for part in self._parts:
            boxes = [self._box(part, span) for span in part.spans]
            painter.setFont(text_font(11.5, SEMI))
            metrics = painter.fontMetrics()
            cut = sum(
                metrics.horizontalAdvance(span.text) > box.width() - INSIDE_PX - 3
                for box, span in zip(boxes, part.spans, strict=True)
            )
            small = 2 * cut > len(boxes)  # too small to be read: what key it is says more
            for box, span in zip(boxes, part.spans, strict=True):
                self._paint_span(painter, number, box, span, named=not small)
                number += 1
            if small:
                self._paint_key(painter, part, boxes)

    def _paint_key(self, painter: QPainter, part: RulerPart, boxes: list[QRectF]) -> None:
        key = key_heard(part.loop)
        box = boxes[0].united(boxes[-1]).adjusted(INSIDE_PX, 0, -3, 0)
        painter.setPen(color("signal" if key != part.loop.key else "ink"))
        painter.setFont(text_font(11.5, SEMI))
        text = painter.fontMetrics().elidedText(
            key.text, Qt.TextElideMode.ElideRight, int(box.width())
        )
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, text)

    def _paint_span(
        self, painter: QPainter, number: int, box: QRectF, span: RulerSpan, *, named: bool
    ) -> None:
        tint = "signal" if span.differs else "ink"
        chosen = self.hasFocus() and number == self.at
        sounds = number == self._sounding
        edge = QPen(color("focus"), 2) if chosen else QPen(color(tint, 0.35), 1)
        painter.setPen(edge if named or chosen else Qt.PenStyle.NoPen)
        painter.setBrush(color(tint, 0.9) if sounds else color(tint, 0.09))
        painter.drawRoundedRect(box, 3, 3)
        inner = box.adjusted(INSIDE_PX, 0, -3, 0)
        if not named or inner.width() < LEAST_PX:
            return
        ink = color("on_ink") if sounds else color(tint)
        painter.setFont(text_font(11.5, SEMI if span.differs else MEDIUM))
        painter.setPen(ink)
        metrics = painter.fontMetrics()
        text = span.text + ("?" if span.sure < 1 else "")
        wide = metrics.horizontalAdvance(text)
        if wide > inner.width():
            text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, int(inner.width()))
        painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, text)
        if span.off_text:
            painter.setFont(figure_font(10))
            rest = inner.adjusted(wide + 8, 0, 0, 0)
            if painter.fontMetrics().horizontalAdvance(span.off_text) <= rest.width():
                painter.drawText(rest, Qt.AlignmentFlag.AlignVCenter, span.off_text)
