"""The rail: the stages in the order of the work, what the side pane shows, and what opens over."""

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QAbstractButton, QFrame, QSizePolicy, QWidget

from cloudrift.desktop.kit.layouts import fill, vertical
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, text_font
from cloudrift.desktop.kit.parts import Scrolling, scrolling
from cloudrift.ground.words import plural
from cloudrift.loop.model.loop import Loop

STAGES = ("Chords", "Layers", "Texture", "Flip", "Groove", "Arrange", "Deliver")
INSPECTOR, SHELF, RECORDINGS, MICROPHONE = "Inspector", "Shelf", "Recordings", "Microphone"
IN_PANE = (INSPECTOR, SHELF, RECORDINGS, MICROPHONE)
KEYS, STYLE = "Play keys", "Style card"
OVER = (KEYS, STYLE)
WIDTH, HIGH, LOW = 96, 50, 28  # px: of the rail; of a stage with its fact, and without


def stage_facts(loop: Loop, sections: int = 0, fix: str = "") -> tuple[str, ...]:
    """Return the live fact of each stage: how many ``sections``, what is to ``fix``."""
    heard = len(loop.heard())
    layers = (
        f"{heard} of {len(loop.layers)} on" if heard < len(loop.layers) else plural(heard, "layer")
    )
    lines = [loop.line, *(layer.line for layer in loop.layers), *(g.line for g in loop.groups)]
    on = sum(t.acts for line in lines for t in line)
    lanes = plural(len(loop.lanes), "lane")
    return (
        plural(len(loop.chords), "chord"),
        layers,
        f"{on} on",
        plural(sum(layer.flipped is not None for layer in loop.layers), "flip"),
        f"{lanes}, off" if loop.bed and loop.lanes and loop.bed.group.mute else lanes,
        plural(sections, "section"),
        fix or f"{loop.sounding_frames / loop.rate:.2f} s",
    )


class RailButton(QAbstractButton):
    """A name, with a fact under it where there is room; up and down go to its neighbours."""

    def __init__(self, name: str, *, stage: bool) -> None:
        super().__init__()
        self.setText(name)
        self.setCheckable(True)
        self._stage = stage
        self.fact = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.tall = stage
        self.show_fact("")

    def show_fact(self, fact: str) -> None:
        """Show another fact."""
        self.fact = fact
        self.setAccessibleName(f"{self.text()}, {fact}" if fact else self.text())
        self.setToolTip(fact)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(WIDTH - Scrolling.BAR_PX, HIGH if self.tall else LOW)

    def minimumSizeHint(self) -> QSize:
        return QSize(60, 24)

    def nextCheckState(self) -> None:
        """What is open is said by the window, not by the press."""

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key = Qt.Key(event.key())
        rail = self.parentWidget()
        while rail is not None and not isinstance(rail, Rail):
            rail = rail.parentWidget()
        if rail is not None and key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            rail.step(self, -1 if key == Qt.Key.Key_Up else 1)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        on = self.isChecked()
        box = QRectF(self.rect())
        if on and self._stage:
            painter.fillRect(box, color("card"))
        if on:
            painter.fillRect(
                QRectF(0, 0, 4, box.height()), color("signal" if self._stage else "focus")
            )
        if self.hasFocus():
            painter.setPen(QPen(color("focus"), 2))
            painter.drawRect(box.adjusted(1, 1, -1, -1))
        painter.setPen(color("ink" if on or self.underMouse() else "ink_soft"))
        painter.setFont(text_font(13.5 if self._stage else 12, SEMI if on else MEDIUM))
        with_fact = self.tall and bool(self.fact)
        upper = (
            box.adjusted(15, 6, 0, -box.height() / 2) if with_fact else box.adjusted(15, 0, 0, 0)
        )
        painter.drawText(upper, Qt.AlignmentFlag.AlignVCenter, self.text())
        if with_fact:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(11))
            words = painter.fontMetrics().elidedText(
                self.fact, Qt.TextElideMode.ElideRight, int(box.width()) - 17
            )
            lower = box.adjusted(15, box.height() / 2, 0, -5)
            painter.drawText(lower, Qt.AlignmentFlag.AlignVCenter, words)


class Rail(QFrame):
    """A column of buttons. ``chosen`` carries a stage's number, ``opened`` another's name."""

    chosen = pyqtSignal(int)
    opened = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setFixedWidth(WIDTH)
        self.setAccessibleName("Stages")
        self.buttons = {
            name: RailButton(name, stage=name in STAGES) for name in (*STAGES, *IN_PANE, *OVER)
        }
        inside = QWidget()
        self._column = vertical(inside, (0, 6, 0, 6), 0)
        for part in (STAGES, IN_PANE, OVER):
            for name in part:
                self._column.addWidget(self.buttons[name])
            if part is not OVER:
                fill(self._column, _Rule())
            if part is STAGES:
                self._column.addStretch(1)
        outer = vertical(self, (0, 0, 0, 0), 0)
        outer.addWidget(scrolling(inside))
        for at, name in enumerate(STAGES):
            self.buttons[name].clicked.connect(lambda _on=False, n=at: self.chosen.emit(n))
        for name in (*IN_PANE, *OVER):
            self.buttons[name].clicked.connect(lambda _on=False, n=name: self.opened.emit(n))

    def show_stage(self, stage: int) -> None:
        """Mark a stage as the open one; -1 marks none."""
        for at, name in enumerate(STAGES):
            self.buttons[name].setChecked(at == stage)

    def show_open(self, *names: str) -> None:
        """Mark what else is open."""
        for name in (*IN_PANE, *OVER):
            self.buttons[name].setChecked(name in names)

    @property
    def facts(self) -> tuple[str, ...]:
        """What is said of the stages."""
        return tuple(self.buttons[name].fact for name in STAGES)

    @property
    def marked(self) -> list[str]:
        """The names that are marked as open."""
        return [name for name, one in self.buttons.items() if one.isChecked()]

    def show_facts(self, loop: Loop, sections: int, fix: str = "") -> None:
        """Refresh the live facts."""
        for name, fact in zip(STAGES, stage_facts(loop, sections, fix), strict=True):
            if fact != self.buttons[name].fact:
                self.buttons[name].show_fact(fact)

    def step(self, at: RailButton, by: int) -> None:
        """Go to a button's neighbour; a stage is opened by that."""
        names = list(self.buttons)
        name = names[min(max(names.index(at.text()) + by, 0), len(names) - 1)]
        self.buttons[name].setFocus()
        if name in STAGES:
            self.chosen.emit(STAGES.index(name))

    @property
    def has_keyboard(self) -> bool:
        """Whether one of its buttons has the keyboard."""
        return any(one.hasFocus() for one in self.buttons.values())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Facts where there is room for them."""
        super().resizeEvent(event)
        others = (len(IN_PANE) + len(OVER)) * LOW + 40
        tall = self.height() >= len(STAGES) * HIGH + others
        for name in STAGES:
            if self.buttons[name].tall != tall:
                self.buttons[name].tall = tall
                self.buttons[name].updateGeometry()


class _Rule(QWidget):
    """A line between two parts of the rail."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(11)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setPen(color("line"))
        painter.drawLine(15, 5, self.width() - 12, 5)
