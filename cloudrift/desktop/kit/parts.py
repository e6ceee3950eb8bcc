"""Small parts that every stage uses: labels, rows of choices, panels, cleared layouts."""

import html
from collections.abc import Callable, Iterable
from typing import TypeVar

from PyQt6.QtCore import (
    QEvent,
    QObject,
    QRectF,
    QSignalBlocker,
    QSize,
    Qt,
    QTimer,
    pyqtBoundSignal,
    pyqtSignal,
)
from PyQt6.QtGui import QCursor, QFocusEvent, QPainter, QPaintEvent, QPalette, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QLineEdit,
    QMenu,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QToolTip,
    QWidget,
)

from cloudrift.desktop.kit.flow import Flow
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.ground.search import get_ready

_Page = TypeVar("_Page", bound=QWidget)
LINK_PX = 12  # of a link that is not its words


def label(
    text: str, *, size: float = 13, weight: object = None, name: str = "", wrap: bool = False
) -> QLabel:
    """Return a line of text, or several where it may ``wrap``.

    ``name`` picks its colour (``soft``, ``signal``, ``good``).
    """
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)  # names in it may be a stranger's words
    made.setFont(text_font(size, weight or text_font(size).weight()))  # type: ignore[arg-type]
    made.setObjectName(name)
    made.setWordWrap(wrap)
    return made


def plain_tip(text: str) -> str:
    """Return words for a tool tip as they are: a name in them may look like marks of a page."""
    return f"<span>{html.escape(text)}</span>" if "<" in text else text


class Elided(QLabel):
    """A line of text that is cut with dots where there is no room for it; its tip has it whole."""

    def __init__(self, text: str = "", *, size: float, weight: object = None, name: str = ""):
        super().__init__(text)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setFont(text_font(size, weight or text_font(size).weight()))  # type: ignore[arg-type]
        self.setObjectName(name)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())

    def event(self, event: QEvent | None) -> bool:
        """Where it is cut, the tip begins with all of it."""
        if event is not None and event.type() == QEvent.Type.ToolTip and self.is_cut:
            tip = self.toolTip()
            whole = self.text() if self.text() in tip else f"{self.text()}\n{tip}".strip()
            place = QCursor.pos()
            QToolTip.showText(place, plain_tip(whole), self)
            return True
        return super().event(event)

    @property
    def is_cut(self) -> bool:
        """Whether there is not room for all of it."""
        return self.fontMetrics().horizontalAdvance(self.text()) > self.contentsRect().width()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(self.palette().color(QPalette.ColorRole.WindowText))
        room = self.contentsRect()
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room.width())
        painter.drawText(room, self.alignment() | Qt.AlignmentFlag.AlignVCenter, text)


def set_look(widget: QWidget, name: str) -> None:
    """Give a widget another of the named looks (``soft``, ``signal`` …), if it has not got it."""
    if name == widget.objectName():
        return
    widget.setObjectName(name)
    style = widget.style()
    assert style is not None
    style.unpolish(widget)
    style.polish(widget)
    QApplication.sendEvent(widget, QEvent(QEvent.Type.StyleChange))  # its padding may be another


def heading(text: str) -> QLabel:
    """Return a small heading."""
    return label(text, size=12.5, weight=SEMI)


def row_of_heading(text: str, widget: QWidget) -> QWidget:
    """Return a small heading with a widget at the end of its line."""
    holder = QWidget()
    line = horizontal(holder, FLUSH)
    fill(line, (heading(text), 1), widget)
    return holder


def panel() -> QFrame:
    """Return an empty panel of paper."""
    frame = QFrame()
    frame.setObjectName("panel")
    return frame


def button(text: str, act: Callable[[], object], *, name: str = "", tip: str = "") -> QPushButton:
    """Return a button; ``strong`` and ``link`` are its other looks."""
    made = QPushButton(text)
    made.setObjectName(name)
    made.setToolTip(tip)
    made.setAccessibleName(text)
    made.clicked.connect(lambda _checked=False: act())
    return made


class LinkLine(QPushButton):
    """A link over the width there is, in two lines; where that is too little it ends in dots."""

    def __init__(self, act: Callable[[], object]) -> None:
        super().__init__()
        self.setObjectName("link")
        self.words = ""
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda _checked=False: act())

    def say(self, words: str) -> None:
        """Show other words."""
        self.words = words
        self.setAccessibleName(words)
        self._fit()

    def _fit(self) -> None:
        room, metrics = self.width() - LINK_PX, self.fontMetrics()
        first, rest = "", self.words.split()
        while rest and metrics.horizontalAdvance(f"{first} {rest[0]}") <= room:
            first = f"{first} {rest.pop(0)}".strip()
        second = metrics.elidedText(" ".join(rest), Qt.TextElideMode.ElideRight, room)
        self.setText("\n".join(x for x in (first, second) if x).replace("&", "&&"))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._fit()
        super().resizeEvent(event)


def small_button(text: str, act: Callable[[], object], *, tip: str = "") -> QPushButton:
    """Return a button for a place where there is little room."""
    made = button(text, act, tip=tip)
    made.setFont(text_font(11))
    made.setProperty("fit", "small")
    return made


def put_away(widget: QWidget) -> None:
    """Hide a widget. What has the keyboard in it gives it up first: hidden with it, it would hand
    it on to whatever comes next, as if somebody had gone there.
    """
    focused = QApplication.focusWidget()
    if focused is not None and (focused is widget or widget.isAncestorOf(focused)):
        focused.clearFocus()
    widget.hide()


def clear(layout: QLayout) -> None:
    """Take everything out of a layout and let it go."""
    while (item := layout.takeAt(0)) is not None:
        if (widget := item.widget()) is not None:
            put_away(widget)
            widget.setParent(None)
            widget.deleteLater()
        elif (inner := item.layout()) is not None:
            clear(inner)
            inner.deleteLater()


class SearchField(QLineEdit):
    """A field to search in; Ctrl+F goes to the one that is in sight."""

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        QTimer.singleShot(0, get_ready)  # before the first letter, not with it
        super().focusInEvent(event)


def search_field(hint: str) -> SearchField:
    """Return a field to search in, with an example in it."""
    made = SearchField()
    made.setPlaceholderText(hint)
    made.setClearButtonEnabled(True)
    return made


def progress_bar(height: int = 6) -> QProgressBar:
    """Return a thin bar, hidden until something is under way."""
    made = QProgressBar()
    made.setTextVisible(False)
    made.setFixedHeight(height)
    made.hide()
    return made


def close_line(sheet: QWidget) -> QHBoxLayout:
    """Return the last line of a sheet that is only closed."""
    line = horizontal()
    line.addStretch(1)
    close = button("Close", sheet.close, name="strong")
    close.setDefault(True)
    line.addWidget(close)
    return line


class _Area(QScrollArea):
    """Shows a part of what is inside, which is as large as the area where it can be."""

    def __init__(self, inside: QWidget) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setWidget(inside)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def event(self, event: QEvent | None) -> bool:
        """Find its size once when everything inside has its new style.

        Qt does so at once, and again for each area that it is in; one that is not seen has its
        size from when it was: a theme changes none.
        """
        if event is None or event.type() != QEvent.Type.StyleChange:
            return super().event(event)
        if self.isVisible():
            QApplication.postEvent(self, QEvent(QEvent.Type.LayoutRequest))
        return QFrame.event(self, event)


class Scrolling(_Area):
    """Scrolls its content up and down; it is never narrower than that."""

    BAR_PX, LEAST_PX = 9, 72  # of the scroll bar; how much of the content is to be seen

    def __init__(self, inside: QWidget, least_px: int = LEAST_PX) -> None:
        self._least_px = least_px
        self._wished: tuple[QSize, QSize] | None = None
        super().__init__(inside)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)

    def minimumSizeHint(self) -> QSize:
        inside = self.widget()
        needs = inside.minimumSizeHint() if inside is not None else QSize()
        least = inside.minimumSize() if inside is not None else QSize()
        wide, high = max(needs.width(), least.width()), max(needs.height(), least.height())
        return QSize(wide + self.BAR_PX, min(max(high, 0), self._least_px))

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        self._follow(event)
        return super().eventFilter(watched, event)

    def event(self, event: QEvent | None) -> bool:
        self._follow(event)
        return super().event(event)

    def _follow(self, event: QEvent | None) -> None:
        if event is None or event.type() != QEvent.Type.LayoutRequest:
            return
        wished = self.sizeHint(), self.minimumSizeHint()
        if wished != self._wished:  # else all that it is in would be laid out for nothing
            self._wished = wished
            self.updateGeometry()


def scrolling(inside: QWidget) -> Scrolling:
    """Return an area that scrolls its content up and down only."""
    return Scrolling(inside)


class ScrollingPage(_Area):
    """A page that scrolls both ways where the window is smaller than it needs.

    One that has a ``fold`` is told first how high (px) what is seen of it is.
    """

    LEAST = QSize(280, 120)

    def minimumSizeHint(self) -> QSize:
        return self.LEAST

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        fold = getattr(self.widget(), "fold", None)
        if fold is not None:
            fold(self.height())
        super().resizeEvent(event)


class Pages(QStackedWidget):
    """Pages, one at a time, each put up when it is first wanted; as large as the one that is shown.

    What Qt has would be as large as the largest of them.
    """

    def __init__(self, count: int = 0) -> None:
        super().__init__()
        for _page in range(count):
            self.addWidget(QWidget())
        self.currentChanged.connect(lambda _at: self.updateGeometry())

    def sizeHint(self) -> QSize:
        shown = self.currentWidget()
        return shown.sizeHint() if shown is not None else QSize()

    def minimumSizeHint(self) -> QSize:
        shown = self.currentWidget()
        if shown is None:
            return QSize()
        return shown.minimumSizeHint().expandedTo(shown.minimumSize())

    def hasHeightForWidth(self) -> bool:
        shown = self.currentWidget()
        return shown is not None and shown.hasHeightForWidth()

    def heightForWidth(self, width: int) -> int:
        shown = self.currentWidget()
        return shown.heightForWidth(width) if shown is not None else -1

    def put(self, at: int, page: _Page) -> _Page:
        """Put a page in its place and return it."""
        empty, shown = self.widget(at), self.currentIndex()
        self.insertWidget(at, page)
        self.removeWidget(empty)
        self.setCurrentIndex(shown)
        assert empty is not None
        empty.deleteLater()
        return page


class WhileShown(QObject):
    """Calls a refresh at signals, but only while a widget is seen, and once when it comes into
    view again. It ends with the widget, whatever still signals.
    """

    def __init__(
        self, widget: QWidget, refresh: Callable[[], object], *signals: pyqtBoundSignal
    ) -> None:
        super().__init__(widget)
        self._widget, self._refresh = widget, refresh
        self._stale = False
        widget.installEventFilter(self)
        for signal in signals:
            # A method of an object of Qt's: let go of with it, as no other callable is.
            signal.connect(self.ask)

    def ask(self, *_: object) -> None:
        """Refresh now, or when the widget is seen next."""
        if self._widget.isVisible():
            self._refresh()
        else:
            self._stale = True

    def eventFilter(self, _watched: QObject | None, event: QEvent | None) -> bool:
        if self._stale and event is not None and event.type() == QEvent.Type.Show:
            self._stale = False
            self._refresh()
        return False


class ChoiceRow(QWidget):
    """Buttons of which one is down, in lines of so many ``columns`` at the most.

    ``chosen`` carries its key.
    """

    chosen = pyqtSignal(object)

    def __init__(
        self,
        choices: Iterable[tuple[object, str]],
        *,
        columns: int = 4,
        name: str = "",
        even: bool = True,
    ) -> None:
        """``even`` ones are all equally wide; others as wide as their words."""
        super().__init__()
        self.setAccessibleName(name)
        self._group = QButtonGroup(self)
        self._keys: list[object] = []
        row = Flow(self, even=even, columns=columns)
        for i, (key, text) in enumerate(choices):
            one = QPushButton(text)
            one.setCheckable(True)
            one.setProperty("fit", "narrow")
            one.setAccessibleName(f"{name}: {text}" if name else text)
            self._group.addButton(one, i)
            self._keys.append(key)
            row.addWidget(one)
        self._group.idClicked.connect(lambda i: self.chosen.emit(self._keys[i]))

    def button(self, key: object) -> QPushButton:
        """Return the button of a key."""
        found = self._group.button(self._keys.index(key))
        assert isinstance(found, QPushButton)
        return found

    def show_choice(self, key: object) -> None:
        """Put the button of a key down, or none if no button has it; nothing is emitted."""
        with QSignalBlocker(self._group):
            self._group.setExclusive(False)
            for i, one in enumerate(self._keys):
                found = self._group.button(i)
                assert found is not None
                found.setChecked(one == key)
            self._group.setExclusive(True)


class Inspector(QFrame):
    """What stands beside a stage: a title, a line under it, and what belongs to the selection.

    ``body`` scrolls; what is put into ``top`` and ``foot`` stays.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        outer = vertical(self, (0, 10, 2, 8), 4)
        self.title = label("", size=18, weight=SEMI, wrap=True)
        self.under = label("", size=11.5, name="soft", wrap=True)
        for widget in (self.title, self.under):
            widget.setContentsMargins(13, 0, 10, 0)
            outer.addWidget(widget)
        inside = QWidget()
        self.body = vertical(inside, (13, 4, 9, 4), 5)
        self.top = vertical(margins=(13, 2, 11, 0), spacing=5)
        self.foot = vertical(margins=(13, 0, 11, 0), spacing=5)
        self.area = scrolling(inside)
        fill(outer, self.top, (self.area, 1), self.foot)
        outer.addStretch()  # where there is nothing to show, the words stay on top


def menu_of(owner: QWidget, acts: Iterable[tuple[str, Callable[[], object]]]) -> QMenu:
    """Return a menu for a press with the right button: words, and what each does."""
    menu = QMenu(owner)
    menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
    for text, act in acts:
        action = menu.addAction(text)
        assert action is not None
        action.triggered.connect(lambda _c=False, a=act: a())
    return menu


def paint_words(painter: QPainter, where: QRectF, words: str, aside_px: float = 80) -> None:
    """Say in the middle of a picture what to do first, so far from its sides."""
    painter.setPen(color("ink_soft"))
    painter.setFont(text_font(13))
    how = Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap
    painter.drawText(where.adjusted(aside_px, 0, -aside_px, 0), how, words)


def paint_focus(painter: QPainter, widget: QWidget) -> None:
    """Frame a picture that has the keyboard."""
    if widget.hasFocus():
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(color("focus"), 2))
        painter.drawRect(widget.rect().adjusted(1, 1, -1, -1))
