"""Next chord: tiles to hear after the chord in front, and to put there."""

from functools import partial

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QEnterEvent,
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QGridLayout, QSizePolicy, QWidget

from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.kit.parts import ChoiceRow, Elided, heading
from cloudrift.desktop.kit.rest import Rest
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.stages.chords.model import MOVE_NAMES
from cloudrift.desktop.stages.chords.moves import Moves
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural
from cloudrift.loop.edits.chords import chord_time
from cloudrift.loop.edits.chords.next_chords import (
    NextChord,
    Outlook,
    key_row,
    outlook,
    outside_row,
    put_after,
    put_in_place,
)
from cloudrift.loop.model import spec
from cloudrift.render.plan.trying import left_out

REFRESH_MS = 140  # outlooks follow when a drag pauses
COUNTS = ((1, "Roots"), (3, "Triads"), (4, "Sevenths"), (5, "Ninths"))
OUTSIDES = (
    ("neighbours", "Neighbours"),
    ("parallel", "Parallel key"),
    ("relative", "Relative key"),
)
HEIGHT = 45
A_ROW, HEAD_PX = 7, 210  # tiles; px that the words on top have at least
TOP, BOTTOM = Qt.AlignmentFlag.AlignTop, Qt.AlignmentFlag.AlignBottom


class NextTile(QWidget):
    """A chord that could come next, with its way there in small threads.

    ``put`` carries whether it is meant in the place of the chord in front.
    """

    put = pyqtSignal(bool)
    tried = pyqtSignal()
    left = pyqtSignal()
    turned = pyqtSignal(int)  # arrow keys: to the tile that many on

    def __init__(self) -> None:
        super().__init__()
        self.next: NextChord | None = None
        self.outlook: Outlook | None = None
        self._rest = Rest(self)
        self._rest.rested.connect(self.tried)
        self._rest.left.connect(self.left)
        self.setFixedHeight(HEIGHT)
        self.setMinimumWidth(70)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_chord(self, new: NextChord, out: Outlook | None) -> None:
        """Show another chord."""
        if (new, out) == (self.next, self.outlook):
            return
        self.next, self.outlook = new, out
        said = self.words()
        self.setToolTip(said)
        self.setAccessibleName(f"Next chord {said}")
        self.update()

    def words(self) -> str:
        """Say what it is, how it moves, and what it does."""
        if self.next is None or self.outlook is None:
            return ""
        found = [move for _, _, move in self.outlook.ways]
        said = " · ".join(plural(found.count(m), n) for m, n in MOVE_NAMES.items() if m in found)
        return " · ".join(
            w for w in (f"{self.next.name} ({self.next.degree})", said, self.outlook.colour) if w
        )

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._rest.stop()
        if event.button() == Qt.MouseButton.LeftButton:
            self.put.emit(held(event).shift)

    def enterEvent(self, _event: QEnterEvent | None) -> None:
        self._rest.come()
        self.update()

    def leaveEvent(self, _event: QEvent | None) -> None:
        self._rest.go()
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        shift = held(event).shift
        turns = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -7, Qt.Key.Key_Down: 7}
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.tried.emit()
        elif key == Qt.Key.Key_Insert:
            self.put.emit(shift)
        elif key in turns:
            self.turned.emit(turns[key])
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, _event: QFocusEvent | None) -> None:
        self.update()

    def focusOutEvent(self, _event: QFocusEvent | None) -> None:
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        if self.next is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        edge = "focus" if self.hasFocus() else "ink_soft" if self.underMouse() else "line"
        painter.setPen(QPen(color(edge), 2 if self.hasFocus() else 1))
        painter.setBrush(color("keys", 0.2) if self.next.quality == "minor" else color("card"))
        painter.drawRoundedRect(box, 5, 5)
        if self.next.outside:
            painter.setPen(QPen(color("signal"), 2))
            painter.drawLine(
                QPointF(box.left() + 6, box.top()), QPointF(box.right() - 6, box.top())
            )
        inner = box.adjusted(7, 3, -4, -4)
        painter.setPen(color("ink"))
        painter.setFont(text_font(13.5 if len(self.next.name) < 7 else 11.5, SEMI))
        ways = QRectF(box.right() - 30, box.top() + 5, 25, 18) if box.width() > 84 else None
        free = inner.width() if ways is None else ways.left() - 3 - inner.left()
        cut = Qt.TextElideMode.ElideRight
        painter.drawText(
            inner, TOP, painter.fontMetrics().elidedText(self.next.name, cut, int(free))
        )
        painter.setFont(text_font(10.5))
        painter.setPen(color("ink_soft"))
        colour = f" · {self.outlook.colour}" if self.outlook else ""
        wide = painter.fontMetrics().horizontalAdvance(self.next.degree + colour) < inner.width()
        painter.drawText(inner, BOTTOM, self.next.degree + (colour if wide else ""))
        if self.outlook is not None and ways is not None:
            self._paint_ways(painter, ways)

    def _paint_ways(self, painter: QPainter, box: QRectF) -> None:
        """Paint the voices' ways, as in the threads but without their pitches."""
        assert self.outlook is not None
        ways = sorted(self.outlook.ways)[-6:]
        for i, (start, end, move) in enumerate(reversed(ways)):
            y = box.top() + (i + 0.5) * box.height() / len(ways)
            bend = max(-3.0, min(3.0, (start - end) * 1.5))
            pen = QPen(color("ink_soft"), 1.2)
            if move == "half":
                pen = QPen(color("signal"), 1.8)
            elif move == "leap":
                pen.setStyle(Qt.PenStyle.DotLine)
            painter.setPen(pen)
            painter.drawLine(QPointF(box.left(), y - bend / 2), QPointF(box.right(), y + bend / 2))


class NextChords(QWidget):
    """Two rows of tiles: the key's own chords, and chords from outside."""

    def __init__(self, moves: Moves) -> None:
        super().__init__()
        self._moves = moves
        self._session = moves.session
        self._count = 3
        self._outside = "neighbours"
        self._low = False  # whether there is room for one row only
        self._row = 0  # which of the two that is
        self.hint = Elided(size=11, name="soft")
        self.counts = ChoiceRow(COUNTS, columns=4, name="Notes per chord", even=False)
        self.outsides = ChoiceRow(OUTSIDES, columns=3, name="Borrowed from", even=False)
        for row in (self.counts, self.outsides):
            for key, _ in COUNTS if row is self.counts else OUTSIDES:
                row.button(key).setProperty("fit", "small")
        self.tiles = [NextTile() for _ in range(14)]
        self._clock = single_shot(self, self.refresh, REFRESH_MS)
        self._lay_out()
        self.counts.chosen.connect(self._choose_count)
        self.outsides.chosen.connect(self._choose_outside)
        for i, tile in enumerate(self.tiles):
            tile.put.connect(partial(self._put, i))
            tile.tried.connect(partial(self._try, i))
            tile.left.connect(self._session.hearing.once.hush)
            tile.turned.connect(partial(self._turn, i))
        session = self._session
        session.settled.connect(self._clock.start)
        session.opened.connect(self.refresh)
        session.selected.connect(self._refresh_soon)
        self.refresh()

    def _lay_out(self) -> None:
        column = vertical(self, (0, 2, 0, 0), 3)
        head, words = QWidget(), QWidget()
        fill(horizontal(words, FLUSH, 8), heading("Next chord"), (self.hint, 1))
        takes_rest(words, HEAD_PX)
        line = Flow(head, spacing=8)
        for one in (words, self.counts, self.outsides):
            line.addWidget(one)
        column.addWidget(head)
        grid = QGridLayout()
        grid.setSpacing(5)
        for i, tile in enumerate(self.tiles):
            grid.addWidget(tile, i // A_ROW, i % A_ROW)
        column.addLayout(grid)

    def be_low(self, *, on: bool) -> None:
        """Show one row only: that of the key, or that from outside, whichever was chosen last."""
        self._low = on
        for i, tile in enumerate(self.tiles):
            tile.setVisible(not on or i // A_ROW == self._row)

    def _choose_count(self, count: int) -> None:
        self._count, self._row = count, 0
        self.be_low(on=self._low)
        self.refresh()

    def _choose_outside(self, kind: str) -> None:
        self._outside, self._row = kind, 1
        self.be_low(on=self._low)
        self.refresh()

    # --- what is shown ------------------------------------------------------------------------

    def _refresh_soon(self) -> None:
        if not self._session.is_moving:  # it is said when the hand has settled
            self._clock.start()

    def refresh(self) -> None:
        """Work out all tiles for the chord in front."""
        loop, chord_id = self._session.loop, self._session.selection.chord_id
        row = key_row(loop.key, self._count)
        row += outside_row(loop, chord_id, self._outside, self._count)  # type: ignore[arg-type]
        for tile, new in zip(self.tiles, row, strict=True):
            try:
                tile.show_chord(new, outlook(loop, chord_id, new))
            except CloudriftError:
                tile.show_chord(new, None)
        self.counts.show_choice(self._count)
        self.outsides.show_choice(self._outside)
        self.hint.setText(self._hint_words())
        self.hint.setToolTip(self._hint_words())

    @property
    def has_room(self) -> bool:
        """Whether there is free room after the chord in front."""
        loop, chord_id = self._session.loop, self._session.selection.chord_id
        return not loop.chords or chord_time.room_behind(loop, chord_id) >= spec.MIN_CHORD_TICKS

    def _hint_words(self) -> str:
        loop, chord_id = self._session.loop, self._session.selection.chord_id
        out = left_out(loop, loop.striker)
        hear = "rest: hear it" + (f" without {' and '.join(out)}" if out else "")
        if not chord_id:
            return f"click one to start with it · {hear}"
        name = loop.chord(chord_id).read(loop.key).text
        if self.has_room:
            return f"click: after {name} · Shift: in its place · {hear}"
        return f"click: in place of {name} · Shift: after it · {hear}"

    # --- what is done -------------------------------------------------------------------------

    def _put(self, at: int, other: bool) -> None:
        new = self.tiles[at].next
        chord_id = self._session.selection.chord_id
        if new is None:
            return
        if chord_id and self.has_room == other:
            self._moves.apply("change a chord", lambda loop: put_in_place(loop, chord_id, new))
            self.refresh()
            return
        made = self._session.make("add a chord", lambda loop: put_after(loop, chord_id, new))
        if made:
            self._session.select(chord_id=made)
        self.refresh()

    def _try(self, at: int) -> None:
        """Let a tile be heard in tempo, after the chord in front."""
        out = self.tiles[at].outlook
        chord_id = self._session.selection.chord_id
        if out is not None:
            before = [self._session.loop.chord(chord_id)] if chord_id else []
            self._session.hearing.once.chords(*before, out.chord)

    def _turn(self, at: int, by: int) -> None:
        if 0 <= at + by < len(self.tiles):
            self.tiles[at + by].setFocus()
