"""A layout whose items go on in the next line where one is full."""

from typing import NamedTuple

from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QSizePolicy, QWidget


class _Need(NamedTuple):
    """What an item that is shown wishes, px; whether it takes what is left of a line."""

    item: QLayoutItem
    wide: int
    high: int
    expands: bool


class Flow(QLayout):
    """Items in lines, none narrower than it needs; how high they are follows from the width.

    Left to themselves they are as wide as they wish, and those that expand share what is left of a
    line. ``even`` ones share it in equal parts, at most ``columns`` of them.
    """

    def __init__(
        self,
        owner: QWidget | None = None,
        *,
        spacing: int = 4,
        even: bool = False,
        columns: int = 0,
    ) -> None:
        # Asked for many times at each step of a resize: kept until an item wishes something else.
        self._asked: list[_Need] | None = None
        self._heights: dict[int, int] = {}
        self._even, self._columns = even, columns
        self._items: list[QLayoutItem] = []
        super().__init__(owner)  # which invalidates
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    # --- Qt -----------------------------------------------------------------------------------

    def addItem(self, item: QLayoutItem | None) -> None:
        assert item is not None
        self._items.append(item)
        self.invalidate()

    def invalidate(self) -> None:
        self._asked = None
        self._heights.clear()
        super().invalidate()

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        self.invalidate()
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        if width not in self._heights:
            self._heights[width] = self._place(QRect(0, 0, width, 0), moves=False)
        return self._heights[width]

    def minimumSize(self) -> QSize:
        return QSize(self._widest, max((need.high for need in self._needs), default=0))

    def sizeHint(self) -> QSize:
        count = len(self._needs)
        if self._even:
            count = min(self._columns or count, count)
            wide = self._widest * count
        else:
            wide = sum(need.wide for need in self._needs)
        wide += self.spacing() * max(0, count - 1)
        return QSize(wide, self.heightForWidth(wide))

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, moves=True)

    # --- lines --------------------------------------------------------------------------------

    @property
    def _needs(self) -> list[_Need]:
        if self._asked is None:
            self._asked = [_need(item) for item in self._items if not item.isEmpty()]
        return self._asked

    @property
    def _widest(self) -> int:
        return max((need.wide for need in self._needs), default=0)

    def _lines(self, width: int) -> list[list[_Need]]:
        needs, gap = self._needs, self.spacing()
        if not needs:
            return []
        if self._even:
            fits = max(1, (width + gap) // max(1, self._widest + gap))
            lines = -(-len(needs) // min(fits, self._columns or fits))
            most = -(-len(needs) // lines)  # as few lines as can be, filled alike
            return [needs[i : i + most] for i in range(0, len(needs), most)]
        out: list[list[_Need]] = []
        used = 0
        for need in needs:
            if not out or used + gap + need.wide > width:
                out.append([need])
                used = need.wide
            else:
                out[-1].append(need)
                used += gap + need.wide
        return out

    def _widths(self, line: list[_Need], width: int, across: int) -> list[int]:
        """Return how wide the items of a line are; ``across`` is how many a full line has."""
        gap = self.spacing()
        if self._even:
            free = width - gap * (across - 1)
            return [(at + 1) * free // across - at * free // across for at in range(len(line))]
        widths = [need.wide for need in line]
        grow = [at for at, need in enumerate(line) if need.expands]
        left = width - sum(widths) - gap * (len(line) - 1)
        for number, at in enumerate(grow):
            widths[at] += (number + 1) * left // len(grow) - number * left // len(grow)
        return widths

    def _place(self, rect: QRect, *, moves: bool) -> int:
        """Return how high all lines are together, and put the items there if it ``moves`` them."""
        gap, y = self.spacing(), rect.y()
        lines = self._lines(rect.width())
        across = max((len(line) for line in lines), default=1)
        for line in lines:
            high = max(need.high for need in line)
            if moves:
                x = rect.x()
                for need, wide in zip(line, self._widths(line, rect.width(), across), strict=True):
                    need.item.setGeometry(QRect(x, y + (high - need.high) // 2, wide, need.high))
                    x += wide + gap
            y += high + gap
        return max(0, y - gap - rect.y()) if lines else 0


def _need(item: QLayoutItem) -> _Need:
    """One that would take any width is content with the least."""
    expands = bool(item.expandingDirections() & Qt.Orientation.Horizontal)
    least, wish, most = item.minimumSize(), item.sizeHint(), item.maximumSize()
    wide = least.width() if expands else max(wish.width(), least.width())
    return _Need(item, wide, min(max(least.height(), wish.height()), most.height()), expands)


def flow(*widgets: QWidget, spacing: int = 4, even: bool = False) -> QWidget:
    """Return a row of widgets that goes on in a second line where it has no room."""
    holder = QWidget()
    inside = Flow(holder, spacing=spacing, even=even)
    for widget in widgets:
        inside.addWidget(widget)
    return holder


def takes_rest(widget: QWidget, least_px: int) -> QWidget:
    """Let a widget have what is left of its line, and so many pixels at least."""
    widget.setMinimumWidth(least_px)
    widget.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
    return widget
