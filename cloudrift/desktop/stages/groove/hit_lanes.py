"""Hit lanes: each drum a line, each hit a stroke as high as it is loud; drawn, dragged, typed."""

from dataclasses import dataclass

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QContextMenuEvent, QMouseEvent, QPainter, QPen, QResizeEvent

from cloudrift.desktop.kit.held import held
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.parts import menu_of
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.stages.groove.hit_editing import HitEditing
from cloudrift.desktop.stages.groove.model import NAMES_PX, TOP_PX
from cloudrift.desktop.stages.groove.painted import paint_grid, paint_lane, paint_place
from cloudrift.loop.edits.bed import hitting
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.loop import Loop

DRAG_PX, ROLL_PX = 4.0, 14.0


@dataclass
class _Drag:
    """What a hand has hold of: where it began, and the hits as they were then."""

    what: str  # "new", "roll", "hits", "box"
    row: int
    start: QPointF
    tick: int
    before: tuple[Hit, ...] = ()
    numbers: tuple[int, ...] = ()
    velocity: int = 100
    moved: bool = False
    copies: bool = False


class HitLanes(HitEditing, Still):
    """The lanes of a bed, painted, and drawn in with the mouse."""

    def __init__(self) -> None:
        super().__init__()
        self._drag: _Drag | None = None
        self._box: QRectF | None = None
        self._share = 0.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setToolTip(
            "Click in a lane to draw a hit, higher for louder; drag along it for a roll. Drag "
            "hits to move them, up and down for velocity; Ctrl copies, Alt ignores the grid. "
            "Double-click deletes. Keys: arrows, Enter draws, Delete, + and −, 2 to 9 for a roll, "
            "Ctrl with arrows moves, Alt nudges, Shift tunes, M mutes"
        )

    def show_place(self, share: float) -> None:
        """Follow the sound."""
        if self.model is not None:
            before, after = (self._x_of(one) for one in (self._share, share))
            playhead_moved(self, before, after)
        self._share = share

    def _x_of(self, share: float) -> float:
        assert self.model is not None
        tick = share * self.model.loop.ticks % (self.model.bars * self.model.bar)
        return float(self.model.axis.at_x(tick))

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        if self.model is not None:
            self.show_loop(self.model.loop, self.model.strengths)

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        model, place = self.model, event.position()
        if model is None or event.button() != Qt.MouseButton.LeftButton or place.y() < TOP_PX:
            return
        row = model.row_at(place.y())
        if place.x() < NAMES_PX - 4:
            self.choose(row)
            return
        number = model.hit_at(row, place.x())
        shift, ctrl, alt = held(event)
        tick = self._tick_at(place.x(), free=alt)
        if number is not None:
            kept = self.numbers if row == self.row else frozenset()
            if shift:
                self.choose(row, kept ^ {number})
            elif number not in kept:
                self.choose(row, frozenset({number}))
            else:
                self.choose(row, kept)
            hits = model.hits(row)
            self._drag = _Drag("hits", row, place, hits[number].tick, hits, tuple(self.numbers),
                               hits[number].velocity, copies=ctrl)  # fmt: skip
        elif shift:
            self.choose(row)
            self._drag = _Drag("box", row, place, tick)
        else:
            self.choose(row)
            velocity = model.velocity_at(row, place.y())
            self._drag = _Drag("new", row, place, tick, model.hits(row), velocity=velocity)
            self._draw_hit(self._drag, velocity)

    def _tick_at(self, x: float, *, free: bool) -> int:
        assert self.model is not None
        return self.model.snapped(self.model.axis.tick_at(x), 1 if free else self.grid)

    def _draw_hit(self, drag: _Drag, velocity: int) -> None:
        """Put the hit that a press draws, in the place of one that is there."""
        lane_id, hit = self.lane_id, Hit(tick=drag.tick, velocity=velocity)
        if self.model is not None and self.model.is_low(drag.row):
            hit = replace(hit, length_ticks=self.grid)

        def edit(loop: Loop) -> Loop:
            return hitting.with_hits(loop, lane_id, [*drag.before, hit])

        self._edit("draw a hit", edit, moving=True)
        self._choose_ticks(lane_id, {drag.tick})

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        drag, model = self._drag, self.model
        if drag is None or model is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        away = event.position() - drag.start
        if not drag.moved and abs(away.x()) + abs(away.y()) < DRAG_PX:
            return
        drag.moved = True
        if drag.what == "box":
            self._drag_box(drag, event.position())
        elif drag.what == "hits":
            self._drag_hits(drag, away, free=held(event).alt)
        elif abs(away.x()) > ROLL_PX or drag.what == "roll":
            drag.what = "roll"
            self._drag_roll(drag, event.position())
        else:
            self._draw_hit(drag, model.velocity_at(drag.row, event.position().y()))

    def _drag_hits(self, drag: _Drag, away: QPointF, *, free: bool) -> None:
        """Move what is held along, and louder or softer; with Ctrl, copies of it."""
        assert self.model is not None
        lane_id, grid = self.lane_id, 1 if free else self.grid
        by = 0
        if abs(away.x()) > DRAG_PX:
            by = round(self.model.axis.ticks_of(away.x()) / grid) * grid
        louder = round(-away.y() / (self.model.row_px - 8) * 127) if abs(away.y()) > DRAG_PX else 0
        last = self.model.bars * self.model.bar - 1
        moved = [
            replace(
                drag.before[n],
                tick=min(max(drag.before[n].tick + by, 0), last),
                velocity=min(max(drag.before[n].velocity + louder, 1), 127),
            )
            for n in drag.numbers
        ]
        still = [hit for n, hit in enumerate(drag.before) if drag.copies or n not in drag.numbers]

        def edit(loop: Loop) -> Loop:
            return hitting.with_hits(loop, lane_id, [*still, *moved])

        self._edit("copy hits" if drag.copies else "move hits", edit, moving=True)
        self._choose_ticks(lane_id, {hit.tick for hit in moved})

    def _drag_roll(self, drag: _Drag, place: QPointF) -> None:
        """Strike from where the press was to where the hand is, evenly, as loud as both are."""
        assert self.model is not None
        model, lane_id = self.model, self.lane_id
        until = self._tick_at(place.x(), free=False)
        first, last = sorted((drag.tick, until))
        if last - first < self.roll_ticks:
            last = first + self.roll_ticks
        count = max(1, (last - first) // self.roll_ticks)
        loud = (drag.velocity, model.velocity_at(drag.row, place.y()))
        loud = loud if until >= drag.tick else loud[::-1]
        like = Hit(tick=0, length_ticks=self.roll_ticks if model.is_low(drag.row) else 0)

        def edit(loop: Loop) -> Loop:
            loop = hitting.with_hits(loop, lane_id, drag.before)
            return hitting.roll(
                loop, lane_id, first, first + count * self.roll_ticks, count, loud=loud, like=like
            )

        self._edit("draw a roll", edit, moving=True)
        self._choose_ticks(lane_id, {first + i * self.roll_ticks for i in range(count)})

    def _drag_box(self, drag: _Drag, place: QPointF) -> None:
        assert self.model is not None
        self._box = QRectF(drag.start, place).normalized()
        xs = [self.model.x_of(drag.row, hit) for hit in self.model.hits(drag.row)]
        inside = {n for n, x in enumerate(xs) if self._box.left() <= x <= self._box.right()}
        self.choose(drag.row, frozenset(inside))

    def mouseReleaseEvent(self, _event: QMouseEvent | None) -> None:
        drag, self._drag, self._box = self._drag, None, None
        if drag is not None and drag.what != "box":
            self.settled.emit()
        self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.model is None or event.position().y() < TOP_PX:
            return
        row = self.model.row_at(event.position().y())
        if event.position().x() < NAMES_PX - 4:
            self.on_swapped.emit(self.model.lanes[row].id)
            return
        number = self.model.hit_at(row, event.position().x())
        self._drag = None
        if number is not None:
            self.choose(row, frozenset({number}))
            self.take_out()

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        model = self.model
        if model is None:
            return
        place = QPointF(event.pos())
        row = model.row_at(place.y())
        number = model.hit_at(row, place.x())
        if number is not None and not (row == self.row and number in self.numbers):
            self.choose(row, frozenset({number}))
        elif number is None:
            self.choose(row)
            self.at_tick = self._tick_at(place.x(), free=False)
        menu_of(self, self.acts()).popup(event.globalPos())

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        model = self.model
        if model is None:
            return
        paint_grid(painter, model)
        for row in range(len(model.lanes)):
            chosen = row == self.row
            paint_lane(
                painter,
                model,
                row,
                self.numbers if chosen else None,
                focused=chosen and self.hasFocus(),
            )
        if self.hasFocus():
            paint_place(painter, model, self.row, self.at_tick, self.grid)
        if self._box is not None:
            painter.setPen(QPen(color("focus"), 1, Qt.PenStyle.DashLine))
            painter.setBrush(color("focus", 0.08))
            painter.drawRect(self._box)

    def paint_moving(self, painter: QPainter) -> None:
        if self.model is not None and self._x_of(self._share) >= NAMES_PX:
            paint_playhead(painter, self._x_of(self._share), 14, self.model.height - 6)
