"""Hit lanes: each drum a line, each hit a stroke as high as it is loud; drawn, dragged, typed."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)

from cloudrift.desktop.kit.held import Held, held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.parts import menu_of, paint_words, playhead_moved
from cloudrift.desktop.stages.bed.model import (
    NAMES_PX,
    ROW_PX,
    TOP_PX,
    LanesModel,
    is_empty,
)
from cloudrift.desktop.stages.bed.painted import paint_grid, paint_lane, paint_place
from cloudrift.loop.edits.bed import hitting
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.loop import Loop
from cloudrift.render.measure.strokes import Strengths

DRAG_PX, ROLL_PX = 4.0, 14.0
LEAN_MS, LOUDER = 2.0, 8
DIGITS = "23456789"
Edit = Callable[[Loop], Loop]


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


EMPTY = (
    "Nothing is here yet. Draw a groove from the loop: its strokes land where the loop "
    "strikes. Or add a lane, and draw hits in it."
)


class HitLanes(Keyed):
    """The lanes of a bed. ``edited`` carries words, an edit of the loop, and whether it moves on;
    ``chosen`` says that another lane or other hits are chosen.
    """

    edited = pyqtSignal(str, object, bool)
    settled = pyqtSignal()
    chosen = pyqtSignal()
    on_swapped = pyqtSignal(str)  # a lane that is to be heard, or not

    def __init__(self) -> None:
        super().__init__()
        self.model: LanesModel | None = None
        self.row = 0
        self.at_tick = 0  # where keys act
        self.numbers: frozenset[int] = frozenset()
        self.grid, self.roll_ticks = 240, 120
        self.first_bar = 0
        self._drag: _Drag | None = None
        self._box: QRectF | None = None
        self._share = 0.0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setToolTip(
            "Press in a lane to draw a hit, higher for louder; drag along for a roll that goes to "
            "where you let go. Drag hits to move them, up and down for loudness; Ctrl copies, Alt "
            "is off the grid. Double-click takes one out. Keys: arrows, Enter draws, Delete, + and "
            "−, 2 to 9 for a roll, Ctrl with arrows moves, Alt leans, Shift tunes, M off"
        )

    # --- what is shown ------------------------------------------------------------------------

    def show_loop(self, loop: Loop, strengths: Strengths) -> None:
        """Show the bed of a loop, and how strongly the loop itself strikes."""
        if is_empty(loop):
            self.model = None
        else:
            self.model = LanesModel(loop, 0, self.width(), strengths)
            self.first_bar = min(self.first_bar, self.model.bars - self.model.shown)
            self.model = LanesModel(loop, self.first_bar, self.width(), strengths)
            self.row = min(self.row, len(self.model.lanes) - 1)
            there = len(self.model.hits(self.row))
            self.numbers = frozenset(n for n in self.numbers if n < there)
        self.setMinimumHeight(int(self.model.height) if self.model else 120)
        self._name_for_readers()
        self.update()

    def show_bar(self, bar: int) -> None:
        """Show bars of the pattern from one on."""
        if self.model is not None:
            self.first_bar = min(max(bar, 0), self.model.bars - self.model.shown)
            self.show_loop(self.model.loop, self.model.strengths)

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

    @property
    def lane_id(self) -> str:
        """The lane that is chosen."""
        return self.model.lanes[self.row].id if self.model else ""

    def choose(self, row: int, numbers: frozenset[int] = frozenset()) -> None:
        """Choose a lane, and hits in it."""
        if self.model is None:
            return
        self.row = min(max(row, 0), len(self.model.lanes) - 1)
        self.numbers = frozenset(n for n in numbers if 0 <= n < len(self.model.hits(self.row)))
        if len(self.numbers) == 1:
            self.at_tick = self.model.hits(self.row)[next(iter(self.numbers))].tick
        self._name_for_readers()
        self.chosen.emit()
        self.update()

    def _name_for_readers(self) -> None:
        model = self.model
        if model is None:
            self.setAccessibleName("No groove bed yet")
            return
        says = f"{model.lanes[self.row].name}: {len(model.hits(self.row))} hits"
        if len(self.numbers) == 1:
            says += f", {model.text_of(self.row, next(iter(self.numbers)))}"
        elif self.numbers:
            says += f", {len(self.numbers)} chosen"
        self.setAccessibleName(says)

    def sizeHint(self) -> QSize:
        return QSize(640, int(self.model.height) if self.model else 160)

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
        louder = round(-away.y() / (ROW_PX - 8) * 127) if abs(away.y()) > DRAG_PX else 0
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

    # --- what can be done ---------------------------------------------------------------------

    def acts(self) -> list[tuple[str, Callable[[], object]]]:
        """Return what can be done with the chosen hits, or all of the lane where none are."""
        if self.model is None:
            return []
        lane_id, numbers = self.lane_id, self.chosen_or_all
        whose = "" if self.numbers else " all"

        def do(words: str, edit: Callable[..., Loop], *more: object) -> Callable[[], object]:
            return lambda: self._edit(words, lambda loop: edit(loop, lane_id, numbers, *more))

        found: list[tuple[str, Callable[[], object]]] = [
            ("Take out" + whose, self.take_out),
            (f"Thin{whose}: every second out", do("thin", hitting.thin)),
            ("Mirror" + whose, do("mirror", hitting.mirror)),
            (f"Pan{whose} from side to side, by a draw", self.spread),
            (f"Pan{whose} to the middle", lambda: self.set_all("pan", 0.0)),
            ("An octave up" + whose, do("an octave up", hitting.tune_hits, 12)),
            ("An octave down" + whose, do("an octave down", hitting.tune_hits, -12)),
        ]
        bar = self.at_tick // self.model.bar
        found.append(
            (
                f"What is in bar {bar + 1} in all bars behind it",
                lambda: self._edit(
                    "copy a bar on", lambda loop: hitting.copy_bar_on(loop, lane_id, bar)
                ),
            )
        )
        if self.model.is_low(self.row):
            found += [
                ("Slide" + whose, do("slide", hitting.slide)),
                (f"Cut{whose} short: half as long", do("cut short", hitting.cut_short)),
                ("Last hit an octave up, or back", self._low("high jump", hitting.high_jump)),
                ("The end a half step away", self._low("tension", hitting.tension)),
                (
                    "Every second bar left out",
                    lambda: self._edit(
                        "skip a bar", lambda loop: hitting.skip_bar(loop, lane_id, 2)
                    ),
                ),
            ]
        return found

    def _low(self, words: str, edit: Callable[[Loop, str], Loop]) -> Callable[[], object]:
        lane_id = self.lane_id
        return lambda: self._edit(words, lambda loop: edit(loop, lane_id))

    @property
    def chosen_or_all(self) -> frozenset[int]:
        """The hits that are chosen; all of the lane where none are."""
        if self.model is None or self.numbers:
            return self.numbers
        return frozenset(range(len(self.model.hits(self.row))))

    def take_out(self) -> None:
        """Take the chosen hits out."""
        lane_id, numbers = self.lane_id, self.chosen_or_all
        self._edit("take hits out", lambda loop: hitting.take_hits(loop, lane_id, numbers))
        self.choose(self.row)

    def spread(self) -> None:
        """Pan the chosen hits by a draw; each time another."""
        lane_id, numbers = self.lane_id, self.chosen_or_all
        if self.model is None:
            return
        pans = [self.model.hits(self.row)[n].pan for n in numbers]
        draw = round(sum(abs(pan) for pan in pans) * 97) % 9999 + 1
        self._edit("pan by a draw", lambda loop: hitting.spread(loop, lane_id, numbers, 0.8, draw))

    def set_all(self, name: str, value: object, *, moving: bool = False) -> None:
        """Set a field of the chosen hits."""
        lane_id, numbers = self.lane_id, self.chosen_or_all
        self._edit(
            f"{name.replace('_', ' ')} of hits",
            lambda loop: hitting.set_hits(loop, lane_id, numbers, **{name: value}),
            moving=moving,
        )

    def _edit(self, words: str, edit: Edit, *, moving: bool = False) -> None:
        self.edited.emit(words, edit, moving)

    def _choose_ticks(self, lane_id: str, ticks: set[int]) -> None:
        """Choose the hits at some places, as the lane is now."""
        if self.model is None or lane_id != self.lane_id:
            return
        hits = self.model.hits(self.row)
        self.choose(self.row, frozenset(n for n, hit in enumerate(hits) if hit.tick in ticks))

    # --- keys ---------------------------------------------------------------------------------

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """What a key does, or None."""
        if self.model is None:
            return None
        key, how = Qt.Key(event.key()), held(event)
        along = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(key, 0)
        down = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(key, 0)
        acts: dict[Held, Callable[[], object]] = {}
        if along:
            acts = {
                Held(): lambda: self._go(along),
                Held(ctrl=True): lambda: self._move(along * self.grid),
                Held(alt=True): lambda: self._lean(along * LEAN_MS),
            }
        elif down:
            acts = {
                Held(): lambda: self.choose(self.row + down),
                Held(shift=True): lambda: self._tune(-down),
            }
        elif not (how.ctrl or how.alt):
            return self._plain_act(event.text(), key)
        return acts.get(how)

    def _plain_act(self, text: str, key: Qt.Key) -> Callable[[], object] | None:
        acts: dict[object, Callable[[], object]] = {
            Qt.Key.Key_Return: self._swap_hit,
            Qt.Key.Key_Enter: self._swap_hit,
            "m": lambda: self.on_swapped.emit(self.lane_id),
            **{sign: lambda: self._louder(LOUDER) for sign in "+="},
            **{sign: lambda: self._louder(-LOUDER) for sign in "-−"},
            **{digit: partial(self._roll_here, int(digit)) for digit in DIGITS},
        }
        if self.numbers:
            acts |= {Qt.Key.Key_Delete: self.take_out, Qt.Key.Key_Backspace: self.take_out}
        return acts.get(key) or acts.get(text.lower())

    def _go(self, along: int) -> None:
        """Go on by a step of the grid, round and round; a hit there is chosen."""
        assert self.model is not None
        length = self.model.bars * self.model.bar
        self.at_tick = (self.at_tick // self.grid * self.grid + along * self.grid) % length
        bar = self.at_tick // self.model.bar
        if not self.first_bar <= bar < self.first_bar + self.model.shown:
            self.show_bar(bar)
        number = hitting.number_at(self.model.loop, self.lane_id, self.at_tick)
        at_tick = self.at_tick
        self.choose(self.row, frozenset({number} - {-1}))
        self.at_tick = at_tick
        self.update()

    def _swap_hit(self) -> None:
        """Draw a hit at the place that keys act at, or take the one there out."""
        assert self.model is not None
        lane_id, tick = self.lane_id, self.at_tick
        number = hitting.number_at(self.model.loop, lane_id, tick)
        if number >= 0:
            self._edit("take hits out", lambda loop: hitting.take_hits(loop, lane_id, {number}))
        else:
            length = self.grid if self.model.is_low(self.row) else 0
            hit = Hit(tick=tick, length_ticks=length)
            self._edit("draw a hit", lambda loop: hitting.put_hit(loop, lane_id, hit)[0])
            self._choose_ticks(lane_id, {tick})

    def _roll_here(self, count: int) -> None:
        lane_id, first, last = self.lane_id, self.at_tick, self.at_tick + self.grid
        self._edit("draw a roll", lambda loop: hitting.roll(loop, lane_id, first, last, count))
        if self.model is not None:
            struck = {hit.tick for hit in self.model.hits(self.row) if first <= hit.tick < last}
            self._choose_ticks(lane_id, struck)
            self.at_tick = first

    def _move(self, by: int) -> None:
        assert self.model is not None
        lane_id, numbers = self.lane_id, self.numbers
        ticks = {self.model.hits(self.row)[n].tick + by for n in numbers}
        self._edit("move hits", lambda loop: hitting.move_hits(loop, lane_id, numbers, by))
        self._choose_ticks(lane_id, ticks)

    def _lean(self, by_ms: float) -> None:
        lane_id, numbers = self.lane_id, self.numbers
        self._edit("lean hits", lambda loop: hitting.nudge_hits(loop, lane_id, numbers, by_ms))

    def _tune(self, by: int) -> None:
        lane_id, numbers = self.lane_id, self.numbers
        self._edit("tune hits", lambda loop: hitting.tune_hits(loop, lane_id, numbers, by))

    def _louder(self, by: int) -> None:
        lane_id, numbers = self.lane_id, self.numbers
        self._edit(
            "louder" if by > 0 else "softer",
            lambda loop: hitting.louder(loop, lane_id, numbers, by),
        )

    # --- painting -----------------------------------------------------------------------------

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        model = self.model
        if model is None:
            paint_words(painter, QRectF(self.rect()), EMPTY, 60)
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
        x = self._x_of(self._share)
        if x >= NAMES_PX:
            painter.setPen(QPen(color("signal"), 2))
            painter.drawLine(QPointF(x, 14), QPointF(x, model.height - 6))
