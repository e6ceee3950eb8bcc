"""The list of lines: one a layer, and the whole loop's."""

from typing import NamedTuple

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QVBoxLayout, QWidget

from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.layouts import FLUSH, fill, vertical
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.kit.parts import clear, heading, label, panel, scrolling
from cloudrift.ground.words import plural
from cloudrift.loop.model.bed import BED
from cloudrift.loop.model.loop import LineAt, Loop

LAYERS, GROUPS, ALL, BED_PART = "Layers", "Groups", "Whole loop", "Groove bed"
WIDTH = 158  # px
EMPTY_ROLE = "grain"  # the colour of a group that nobody is in


class Owner(NamedTuple):
    """What has a line: its id (None: the whole loop), name and colour, and where it is listed."""

    id: str | None
    name: str
    role: str
    part: str


def line_owners(loop: Loop) -> list[Owner]:
    """Return all that has a line in a loop: layers, groups, the whole, lanes of the groove bed."""
    layers = [Owner(layer.id, layer.name, layer.role, LAYERS) for layer in loop.layers]
    groups = []
    for group in loop.groups:
        role = next((x.role for x in loop.layers if x.group == group.id), EMPTY_ROLE)
        groups.append(Owner(group.id, group.name, role, GROUPS))
    lanes = [Owner(lane.id, lane.name, lane.role, BED_PART) for lane in loop.lanes]
    lanes += [Owner(BED, "Whole bed", EMPTY_ROLE, BED_PART)] if lanes else []
    return [*layers, *groups, Owner(None, "Whole loop", "grain", ALL), *lanes]


class Target(QAbstractButton):
    """A line that can be treated."""

    def __init__(self, name: str, role: str) -> None:
        super().__init__()
        self._name, self._role, self._count = name, role, 0
        self.setFixedHeight(46)

    def show_count(self, count: int, *, on: bool) -> None:
        """Show how many treatments act, and whether this line is open."""
        self._count = count
        self.setCheckable(True)
        self.setChecked(on)
        self.setAccessibleName(f"{self._name}, {self._words()}")
        self.update()

    def _words(self) -> str:
        return plural(self._count, "treatment") if self._count else "bare"

    def sizeHint(self) -> QSize:
        return QSize(120, 46)  # beside a scroll bar too

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge = "focus" if self.hasFocus() else "ink" if self.isChecked() else "line"
        painter.setPen(QPen(color(edge), 2 if self.isChecked() or self.hasFocus() else 1))
        painter.setBrush(color("card"))
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.drawRoundedRect(box, 5, 5)
        painter.fillRect(QRectF(2, 3, 5, self.height() - 6), color(self._role))
        inner = box.adjusted(13, 5, -4, -5)
        painter.setPen(color("ink"))
        painter.setFont(text_font(12.5, SEMI))
        name = painter.fontMetrics().elidedText(
            self._name, Qt.TextElideMode.ElideRight, int(inner.width())
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, name)
        painter.setPen(color("ink_soft"))
        painter.setFont(text_font(11))
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, self._words())


class Targets(QWidget):
    """The column at the left. ``chosen`` carries a layer's id, or None for the whole loop."""

    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(WIDTH)
        self.bed: Fold | None = None  # the lanes of the groove bed, where there are any
        self.buttons: dict[str | None, Target] = {}
        self._shown: list[Owner] = []
        self._list = vertical(margins=(10, 10, 6, 8), spacing=5)
        holder = QWidget()
        holder.setLayout(self._list)
        frame = panel()
        box = vertical(frame, (1, 1, 1, 1))
        box.addWidget(scrolling(holder), 1)
        outer = vertical(self, FLUSH)
        outer.addWidget(frame)

    def show_loop(self, loop: Loop, line_of: LineAt) -> None:
        """Refresh the list."""
        wanted = line_owners(loop)
        if wanted != self._shown:
            self._shown = wanted
            was_open = self.bed is not None and self.bed.is_open
            clear(self._list)
            self.buttons, self.bed = {}, None
            for part in (LAYERS, GROUPS, ALL):
                owners = [one for one in wanted if one.part == part]
                if owners or part == LAYERS:
                    self._list.addWidget(heading(part))
                    self._put(owners, self._list)
                    self._list.addSpacing(6)
            if lanes := [one for one in wanted if one.part == BED_PART]:
                inside = QWidget()
                self._put(lanes, vertical(inside, FLUSH, 5))
                self.bed = Fold(BED_PART, inside, is_open=was_open)
                self._list.addWidget(self.bed)
            hint = label(
                "A line is read downwards. Each strip shows the whole loop after that row.",
                size=11,
                name="soft",
                wrap=True,
            )
            fill(self._list, hint, 1)
        if self.bed is not None and any(
            one.id == line_of for one in wanted if one.part == BED_PART
        ):
            self.bed.open(on=True)
        for layer_id, button in self.buttons.items():
            acting = sum(t.acts for t in loop.line_of(layer_id))
            button.show_count(acting, on=layer_id == line_of)

    def _put(self, owners: list[Owner], into: QVBoxLayout) -> None:
        for owner in owners:
            button = Target(owner.name, owner.role)
            button.clicked.connect(lambda _c, one=owner.id: self.chosen.emit(one))
            self.buttons[owner.id] = button
            into.addWidget(button)
