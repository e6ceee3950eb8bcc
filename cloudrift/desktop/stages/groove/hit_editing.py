"""Hits of the groove bed edited: which are chosen, what can be done with them, by keys too."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent

from cloudrift.desktop.kit.held import Held, held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.stages.groove.model import MOST_ROW_PX, ROW_PX, TOP_PX, LanesModel, is_empty
from cloudrift.loop.edits.bed import hitting
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.loop import Loop
from cloudrift.render.measure.strokes import Strengths

LEAN_MS, LOUDER = 2.0, 8
LEAST_PX = 380  # that the lanes are wide

DIGITS = "23456789"

Edit = Callable[[Loop], Loop]


class HitEditing(Keyed):
    """The hits of a bed's lanes, chosen and edited.

    ``edited`` carries words, an edit of the loop, and whether it moves on; ``chosen`` says that
    another lane or other hits are chosen.
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

    # --- what is shown ------------------------------------------------------------------------

    def show_loop(self, loop: Loop, strengths: Strengths) -> None:
        """Show the bed of a loop, and how strongly the loop itself strikes."""
        if is_empty(loop):
            self.model = None
        else:
            self.model = LanesModel(loop, 0, self.width(), strengths)
            self.first_bar = min(self.first_bar, self.model.bars - self.model.shown)
            high = (self.height() - TOP_PX - 6) / len(loop.lanes)
            row_px = min(max(high, ROW_PX), MOST_ROW_PX)
            self.model = LanesModel(loop, self.first_bar, self.width(), strengths, row_px)
            self.row = min(self.row, len(self.model.lanes) - 1)
            there = len(self.model.hits(self.row))
            self.numbers = frozenset(n for n in self.numbers if n < there)
        self.setMinimumSize(LEAST_PX, int(TOP_PX + ROW_PX * max(1, len(loop.lanes)) + 6))
        self._name_for_readers()
        self.update()

    def show_bar(self, bar: int) -> None:
        """Show bars of the pattern from one on."""
        if self.model is not None:
            self.first_bar = min(max(bar, 0), self.model.bars - self.model.shown)
            self.show_loop(self.model.loop, self.model.strengths)

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
            says += f", {len(self.numbers)} selected"
        self.setAccessibleName(says)

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
            ("Delete" + whose, self.take_out),
            (f"Thin{whose}: delete every other hit", do("thin", hitting.thin)),
            ("Mirror" + whose, do("mirror", hitting.mirror)),
            (f"Pan{whose} randomly", self.spread),
            (f"Pan{whose} to the middle", lambda: self.set_all("pan", 0.0)),
            ("An octave up" + whose, do("an octave up", hitting.tune_hits, 12)),
            ("An octave down" + whose, do("an octave down", hitting.tune_hits, -12)),
        ]
        bar = self.at_tick // self.model.bar
        found.append(
            (
                f"Copy bar {bar + 1} to all bars after it",
                lambda: self._edit(
                    "copy a bar onward", lambda loop: hitting.copy_bar_on(loop, lane_id, bar)
                ),
            )
        )
        if self.model.is_low(self.row):
            found += [
                ("Glide" + whose, do("slide", hitting.slide)),
                (f"Cut{whose} short: half as long", do("cut short", hitting.cut_short)),
                ("Last hit an octave up, or back", self._low("octave jump", hitting.high_jump)),
                ("End a half step away", self._low("tension", hitting.tension)),
                (
                    "Leave out every other bar",
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
        self._edit("delete hits", lambda loop: hitting.take_hits(loop, lane_id, numbers))
        self.choose(self.row)

    def spread(self) -> None:
        """Pan the chosen hits by a variation; each time another."""
        lane_id, numbers = self.lane_id, self.chosen_or_all
        if self.model is None:
            return
        pans = [self.model.hits(self.row)[n].pan for n in numbers]
        variation = round(sum(abs(pan) for pan in pans) * 97) % 9999 + 1
        self._edit(
            "random pan", lambda loop: hitting.spread(loop, lane_id, numbers, 0.8, variation)
        )

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
            self._edit("delete hits", lambda loop: hitting.take_hits(loop, lane_id, {number}))
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
        self._edit("nudge hits", lambda loop: hitting.nudge_hits(loop, lane_id, numbers, by_ms))

    def _tune(self, by: int) -> None:
        lane_id, numbers = self.lane_id, self.numbers
        self._edit("tune hits", lambda loop: hitting.tune_hits(loop, lane_id, numbers, by))

    def _louder(self, by: int) -> None:
        lane_id, numbers = self.lane_id, self.numbers
        self._edit(
            "louder" if by > 0 else "softer",
            lambda loop: hitting.louder(loop, lane_id, numbers, by),
        )
