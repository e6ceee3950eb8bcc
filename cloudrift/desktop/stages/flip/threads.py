"""The picture: pieces of the print above, where they play below, a thread for each."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPainterPath, QPen, QPolygonF

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.stages.flip.model import FlipModel, wave_in
from cloudrift.ground.words import plural
from cloudrift.loop.edits.flip import cutting, flipping
from cloudrift.loop.model.flip import MOST_TICKS, Flipped, SlicePlacement, letters_of
from cloudrift.theory.key import Key

PAD, TOP, LABELS_PX, BETWEEN = 12.0, 20.0, 18.0, 0.26  # px; share of the height for threads
DRAG_PX, WIDE_PX = 5.0, 64.0
DIGITS = "123456789"


class Threads(Keyed, Still):
    """One flip. ``edited`` carries words and an edit of the flip; ``chosen`` the place chosen."""

    edited = pyqtSignal(str, object)
    chosen = pyqtSignal(int)
    resized = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.model: FlipModel | None = None
        self.at = 0  # the place that is chosen
        self._wave: NDArray[np.float32] | None = None
        self._share = 0.0
        self._loop_ticks = 0  # of the loop that is played
        self._drag: tuple[str, int] | None = None  # piece or place, its number
        self._from = QPointF()
        self._now: QPointF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(320, 240)
        self.setMouseTracking(True)
        self.setToolTip(
            "Drag a piece from above to a place below, or a place or its thread elsewhere. Keys: "
            "arrows select a place, letters choose what plays there, − reverses it, 2 to 9 repeat "
            "it, . leaves a rest, Ctrl with arrows swaps. Double-click above to cut there"
        )

    # --- what is shown ------------------------------------------------------------------------

    def show_flip(
        self, flip: Flipped | None, metre: tuple[int, int], key: Key, heard: int = MOST_TICKS
    ) -> None:
        """Show a flip, of which that many ticks are heard, or none."""
        if flip is None:
            self.model = None
        else:
            axis = TimeAxis(PAD, max(1.0, self.width() - 2 * PAD), flip.long_ticks)
            self.model = FlipModel(flip, axis, metre, key, heard)
            self.at = min(self.at, max(0, len(flip.places) - 1))
        self._name_for_readers()
        self.update()

    def show_wave(self, wave: NDArray[np.float32] | None) -> None:
        """Show the loudness of the print over its length."""
        self._wave = wave
        self.update()

    def show_place(self, share: float, ticks: int) -> None:
        """Follow the sound: a share of a loop of that many ticks."""
        self._loop_ticks = ticks
        if self.model is not None:
            before, after = (self._x_of(s) for s in (self._share, share))
            playhead_moved(self, before, after)
        self._share = share

    @property
    def place_x(self) -> float:
        """The playhead's pixel."""
        return self._x_of(self._share)

    def _x_of(self, share: float) -> float:
        assert self.model is not None
        return self.model.axis.at_x(share * (self._loop_ticks or self.model.axis.ticks))

    def _name_for_readers(self) -> None:
        if self.model is None:
            self.setAccessibleName("No flip yet")
            return
        places = self.model.flip.places
        text = ""
        if self.at < len(places):
            place = places[self.at]
            says = self.model.place_text(place)
            text = f", place {self.at + 1}: {self.model.letters(place)}" + (
                f", {says}" if says else ""
            )
        self.setAccessibleName(f"Flip: {plural(len(places), 'place')}{text}")

    def choose(self, number: int) -> None:
        """Choose a place below."""
        if self.model is None or not self.model.flip.places:
            return
        self.at = min(max(number, 0), len(self.model.flip.places) - 1)
        self._name_for_readers()
        self.chosen.emit(self.at)
        self.update()

    # --- where it is --------------------------------------------------------------------------

    @property
    def _rows(self) -> tuple[float, float, float, float]:
        """Top and bottom of the upper row, of the lower row."""
        labels = self.model is not None and bool(self.model.flip.labels)
        top = TOP + LABELS_PX * labels
        room = self.height() - top - 8
        row = room * (1 - BETWEEN) / 2
        return top, top + row, top + room - row, top + room

    def _is_above(self, y: float) -> bool:
        return y < (self._rows[1] + self._rows[2]) / 2

    def _box(self, start: float, end: float, *, above: bool) -> QRectF:
        assert self.model is not None
        top, bottom = self._rows[:2] if above else self._rows[2:]
        left, right = self.model.axis.at_x(start), self.model.axis.at_x(end)
        return QRectF(left, top, max(2.0, right - left), bottom - top).adjusted(1, 0, -1, 0)

    def resizeEvent(self, _event: QEvent | None) -> None:
        if self.model is not None:
            model = self.model
            self.show_flip(model.flip, model.metre, model.key, model.heard)
            self.resized.emit()

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.model is None or event.button() != Qt.MouseButton.LeftButton:
            return
        place = event.position()
        self._from, self._now = place, None
        top, bottom = self._rows[1], self._rows[2]
        if top < place.y() < bottom:
            number = self.model.thread_near(place.x(), (place.y() - top) / (bottom - top))
            self._drag = None if number is None else ("place", number)
            if number is not None:
                self.choose(number)
            return
        if self._is_above(place.y()):
            piece = self.model.piece_at(place.x())
            self._drag = None if piece is None else ("piece", piece)
            return
        number = self.model.place_at(place.x())
        self._drag = None if number is None else ("place", number)
        if number is not None:
            self.choose(number)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._drag is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        away = event.position() - self._from
        if self._now is not None or abs(away.x()) + abs(away.y()) > DRAG_PX:
            self._now = event.position()
            self.update(self.rect())

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        drag, now, self._drag, self._now = self._drag, self._now, None, None
        model = self.model
        self.update(self.rect())
        if drag is None or now is None or model is None or self._is_above(now.y()):
            return
        what, number = drag
        onto, tick = model.place_at(now.x()), model.snapped(model.axis.tick_at(now.x()))
        if what == "piece":
            self._put(number, onto, tick)
        elif held(event).shift and onto is not None and onto != number:
            self._edit("swap pieces", lambda flip: flipping.swap(flip, number, onto))
        else:
            away = model.axis.ticks_of(now.x() - self._from.x())
            tick = model.snapped(model.flip.places[number].at_tick + away)
            self._edit("move a piece", lambda flip: flipping.move(flip, number, tick))

    def _put(self, piece: int, onto: int | None, tick: int) -> None:
        if onto is None:
            self._edit("place a piece", lambda flip: flipping.put_at(flip, piece, tick))
        else:
            self._edit("place a piece", lambda flip: flipping.put_piece(flip, piece, onto))
            self.choose(onto)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        model, place = self.model, event.position()
        self._drag = self._now = None
        if model is None or not self._is_above(place.y()):
            return
        near, total = model.cut_near(place.x()), model.flip.length_ticks
        if near is not None:
            cuts = tuple(one for one in model.flip.cuts if one != near)
            self._edit("remove a cut", lambda flip: cutting.cut(flip, cuts))
            return
        tick = model.snapped(model.axis.tick_at(place.x()))
        cuts = cutting.tidied([*model.flip.cuts, tick], total)
        self._edit("cut", lambda flip: cutting.cut(flip, cuts))

    def _edit(self, words: str, edit: Callable[[Flipped], Flipped]) -> None:
        self.edited.emit(words, edit)

    # --- keys ---------------------------------------------------------------------------------

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """What a key does, or None."""
        model, at = self.model, self.at
        _shift, ctrl, alt = held(event)
        if model is None or not model.flip.places or alt:
            return None
        step = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key()), 0)
        if step and ctrl:
            there = 0 <= at + step < len(model.flip.places)
            return (lambda: self._swapped(at, at + step)) if there else None
        if step:
            return lambda: self.choose(at + step)
        return None if ctrl else self._written(event.text().lower(), event.key())

    def _written(self, text: str, key: int) -> Callable[[], object] | None:
        """What a letter, a digit, a minus or a dot says of the chosen place."""
        assert self.model is not None
        at = self.at
        if text == "." or key == Qt.Key.Key_Delete:
            return lambda: self._edit("leave a rest", lambda flip: flipping.take_out(flip, at))
        letters = {letters_of(i): i for i in range(min(26, len(self.model.flip.cuts)))}
        if text in letters:
            piece = letters[text]

            def put() -> None:
                self._edit("place a piece", lambda flip: flipping.put_piece(flip, piece, at))
                self.choose(at + 1)

            return put
        if text and text in "-−":
            return lambda: self._edit(
                "reverse a piece", lambda flip: flipping.swap_backward(flip, at)
            )
        if text and text in DIGITS:
            times = int(text)
            return lambda: self._edit(
                "repeat a piece", lambda flip: flipping.stutter(flip, at, times)
            )
        return None

    def _swapped(self, at: int, other: int) -> None:
        self._edit("swap pieces", lambda flip: flipping.swap(flip, at, other))
        self.choose(other)

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        model = self.model
        if model is None:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(13))
            words = (
                "No prints yet. Choose Print to turn the loop or a layer into audio: its pieces "
                "appear here, and where they play below."
            )
            where = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(QRectF(self.rect()).adjusted(60, 0, -60, 0), where, words)
            return
        self._paint_bars(painter, model)
        for number, (start, end) in enumerate(model.flip.pieces):
            self._paint_piece(painter, model, number, start, end)
        for number, place in enumerate(model.flip.places):
            self._paint_thread(painter, model, number, place)
        for number, place in enumerate(model.flip.places):
            self._paint_place(painter, model, number, place)
        self._paint_behind(painter, model)
        if self.hasFocus():
            painter.setPen(QPen(color("focus"), 1))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)

    def paint_moving(self, painter: QPainter) -> None:
        if self.model is not None:
            self._paint_drag(painter, self.model)
            paint_playhead(painter, self._x_of(self._share), *self._rows[2:])

    def _paint_bars(self, painter: QPainter, model: FlipModel) -> None:
        painter.setFont(figure_font(9.5))
        for i, tick in model.bars_named():
            painter.setPen(color("ink_soft"))
            box = QRectF(model.axis.at_x(tick) + 2, 2, 60, 14)
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft, str(i) if i > 1 else "bar 1")
        painter.setFont(text_font(11, SEMI))
        painter.setPen(color("ink"))
        numbered = {tick for _, tick in model.bars_named()}
        for chord in model.flip.chords:
            away = 44 if chord.start_tick == 0 else 22 if chord.start_tick in numbered else 2
            box = QRectF(model.axis.at_x(chord.start_tick) + away, 1, 90, 15)
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft, model.chord_text(chord.start_tick))

        for start, end, name in model.spans():
            self._paint_label(painter, self._box(start, end, above=True), name)

    def _paint_label(self, painter: QPainter, above: QRectF, name: str) -> None:
        """A bracket over what is called something."""
        box = QRectF(above.left(), TOP - 2, above.width(), LABELS_PX)
        painter.setPen(QPen(color("ink_soft"), 1))
        painter.drawLine(QPointF(box.left(), box.bottom() - 3), QPointF(box.left(), box.top() + 2))
        painter.drawLine(
            QPointF(box.left(), box.bottom() - 3), QPointF(box.right() - 3, box.bottom() - 3)
        )
        painter.setPen(color("ink"))
        painter.setFont(text_font(11, SEMI))
        text = painter.fontMetrics().elidedText(
            name, Qt.TextElideMode.ElideRight, int(box.width() - 8)
        )
        where = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
        painter.drawText(box.adjusted(5, 0, 0, 0), where, text)

    def _paint_behind(self, painter: QPainter, model: FlipModel) -> None:
        """What lies after the loop's end is not heard: it is seen under a veil, and said."""
        if model.heard >= model.axis.ticks:
            return
        box = self._box(model.heard, model.axis.ticks, above=False)
        veil = color("paper", 0.78)
        painter.fillRect(box.adjusted(-1, 0, 1, 0), veil)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12, MEDIUM))
        words = "past the loop's end: plays only in a loop of its own"
        where = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
        around = painter.boundingRect(box.adjusted(8, 0, -8, 0), where, words)
        painter.fillRect(around.adjusted(-6, -4, 6, 4), color("paper"))
        painter.drawText(around, where, words)

    def _paint_piece(
        self, painter: QPainter, model: FlipModel, number: int, start: int, end: int
    ) -> None:
        box = self._box(start, end, above=True)
        tint = model.colors[number]
        self._paint_box(painter, box, chosen=False)
        place = SlicePlacement(
            at_tick=start, length_ticks=end - start, from_tick=start, from_ticks=end - start
        )
        self._paint_wave(painter, box, place, tint)
        self._paint_words(painter, box, letters_of(number), "")

    def _paint_place(
        self, painter: QPainter, model: FlipModel, number: int, place: SlicePlacement
    ) -> None:
        box = self._box(place.at_tick, place.end_tick, above=False)
        tint = model.colors[model.piece_of(place)]
        self._paint_box(painter, box, chosen=number == self.at)
        self._paint_wave(painter, box, place, tint)
        if box.width() > WIDE_PX:
            self._paint_words(painter, box, model.letters(place), model.place_text(place))
        else:
            self._paint_words(painter, box, *model.short(place))

    def _paint_box(self, painter: QPainter, box: QRectF, *, chosen: bool) -> None:
        painter.setPen(QPen(color("ink" if chosen else "line"), 2 if chosen else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 4, 4)

    def _paint_wave(self, painter: QPainter, box: QRectF, place: SlicePlacement, tint: str) -> None:
        assert self.model is not None
        if self._wave is None or box.width() < 3:
            return
        columns = max(2, int(box.width() - 4))
        wave = wave_in(self._wave, place, self.model.flip.length_ticks, columns)
        middle, high = box.center().y() + 4, box.height() * 0.38
        xs = box.left() + 2 + np.arange(len(wave))
        above = [QPointF(x, middle - high * v) for x, v in zip(xs, wave, strict=True)]
        below = [QPointF(x, middle + high * v) for x, v in zip(xs, wave, strict=True)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(tint, 0.35 if place.mute else 0.9))
        painter.drawPolygon(QPolygonF([*above, *reversed(below)]))

    def _paint_words(self, painter: QPainter, box: QRectF, letters: str, says: str) -> None:
        if box.width() < 13:
            return
        inner = box.adjusted(5, 3, -4, -4)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12, SEMI))
        painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, letters)
        if says:
            painter.setFont(text_font(11, MEDIUM))
            painter.setPen(color("signal"))
            metrics = painter.fontMetrics()
            inner = inner if box.width() > WIDE_PX else box.adjusted(2, 3, -1, -4)
            text = metrics.elidedText(says, Qt.TextElideMode.ElideRight, int(inner.width()))
            painter.drawText(inner, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom, text)

    def _paint_thread(
        self, painter: QPainter, model: FlipModel, number: int, place: SlicePlacement
    ) -> None:
        start = model.axis.at_x(place.from_tick + place.from_ticks / 2)
        end = model.axis.at_x(place.at_tick + place.length_ticks / 2)
        top, bottom = self._rows[1], self._rows[2]
        path = QPainterPath(QPointF(start, top))
        bend = (bottom - top) * 0.5
        path.cubicTo(QPointF(start, top + bend), QPointF(end, bottom - bend), QPointF(end, bottom))
        wide = min(9.0, max(1.5, model.axis.px(place.length_ticks) / 14))
        chosen = number == self.at
        faint = 0.15 if place.mute else 0.9 if chosen else 0.55
        tint = model.colors[model.piece_of(place)]
        style = Qt.PenStyle.DashLine if place.backward else Qt.PenStyle.SolidLine
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color(tint, faint), wide, style, Qt.PenCapStyle.FlatCap))
        painter.drawPath(path)

    def _paint_drag(self, painter: QPainter, model: FlipModel) -> None:
        if self._drag is None or self._now is None:
            return
        what, number = self._drag
        onto = model.place_at(self._now.x())
        painter.setPen(QPen(color("focus"), 2, Qt.PenStyle.DashLine))
        painter.setBrush(color("focus", 0.12))
        if what == "piece" and onto is not None and not self._is_above(self._now.y()):
            place = model.flip.places[onto]
            painter.drawRoundedRect(self._box(place.at_tick, place.end_tick, above=False), 4, 4)
            return
        if what == "piece":
            start, end = model.flip.pieces[number]
            tick, long = model.snapped(model.axis.tick_at(self._now.x())), end - start
        else:
            place = model.flip.places[number]
            away = model.axis.ticks_of(self._now.x() - self._from.x())
            tick, long = model.snapped(place.at_tick + away), place.length_ticks
        painter.drawRoundedRect(self._box(tick, tick + long, above=False), 4, 4)
