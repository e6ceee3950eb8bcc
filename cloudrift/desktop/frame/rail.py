"""The stage rail: the stages in the order of the work, each with one short live fact."""

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, text_font
from cloudrift.ground.words import plural
from cloudrift.loop.model.loop import Loop

STYLE, BED = "Style card", "Groove bed"
STAGES = ("Chords", "Layers", "Texture", "Flip", "Arrange", "Deliver")
DRAWERS = ("Shelf", "Recordings", "Microphone", BED, STYLE, "Play keys")  # they open over any stage
WIDTH, STEP, TOP, DRAWER_STEP = 96, 62, 12, 30
TIGHT_STEP, FACTS_FROM = 22, 50  # of drawers where room is short; of stages, to have facts


def stage_facts(loop: Loop, sections: int = 0, fix: str = "") -> tuple[str, ...]:
    """Return the live fact of each stage: how many ``sections``, what is to ``fix``."""
    heard = len(loop.heard())
    layers = (
        f"{heard} of {len(loop.layers)} heard"
        if heard < len(loop.layers)
        else plural(heard, "layer")
    )
    lines = [loop.line, *(layer.line for layer in loop.layers), *(g.line for g in loop.groups)]
    on = sum(t.acts for line in lines for t in line)
    return (
        plural(len(loop.chords), "chord"),
        layers,
        f"{on} on",
        plural(sum(layer.flipped is not None for layer in loop.layers), "flip"),
        plural(sections, "section"),
        fix or f"{loop.sounding_frames / loop.rate:.2f} s",
    )


class Rail(QWidget):
    """A column of stages; ``chosen`` carries the stage's number."""

    chosen = pyqtSignal(int)
    drawer_chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(WIDTH)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._current = 0
        self._drawer = ""
        self._facts: tuple[str, ...] = ("",) * len(STAGES)
        self._name_for_readers()

    def show_stage(self, stage: int) -> None:
        """Mark a stage as the open one; -1 marks none."""
        self._current = stage
        self._name_for_readers()
        self.update()

    def show_facts(self, loop: Loop, sections: int, fix: str = "") -> None:
        """Refresh the live facts."""
        facts = stage_facts(loop, sections, fix)
        if facts != self._facts:
            self._facts = facts
            self.update()

    def _name_for_readers(self) -> None:
        name = STAGES[self._current] if self._current >= 0 else "none"
        self.setAccessibleName(f"Stages, {name} is open")

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        y = event.position().y()
        for i, name in enumerate(DRAWERS):
            if self._drawer_box(i).contains(event.position()):
                self.drawer_chosen.emit(name)
                return
        stage = int((y - TOP) // self._step)
        if 0 <= stage < len(STAGES):
            self.chosen.emit(stage)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        by = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()))
        if by is None:
            super().keyPressEvent(event)
        else:
            self.chosen.emit(min(max(self._current + by, 0), len(STAGES) - 1))

    @property
    def _step(self) -> float:
        """How far stages lie apart: closer where an open drawer leaves little room."""
        room = self.height() - TOP - 18 - len(DRAWERS) * self._drawer_step
        return min(STEP, room / len(STAGES))

    @property
    def _drawer_step(self) -> float:
        """How far drawers lie apart, likewise."""
        tight = self.height() < TOP + 18 + len(STAGES) * FACTS_FROM + len(DRAWERS) * DRAWER_STEP
        return TIGHT_STEP if tight else DRAWER_STEP

    def _drawer_box(self, at: int) -> QRectF:
        step = self._drawer_step
        return QRectF(0, self.height() - 12 - (len(DRAWERS) - at) * step, WIDTH, step)

    def show_drawer(self, name: str) -> None:
        """Mark a drawer as open; an empty name marks none."""
        self._drawer = name
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), color("paper"))
        painter.setPen(color("hair"))
        painter.drawLine(self.width() - 1, 0, self.width() - 1, self.height())
        for i, (name, fact) in enumerate(zip(STAGES, self._facts, strict=True)):
            box = QRectF(0, TOP + i * self._step, WIDTH, self._step - 4)
            on = i == self._current
            if on:
                painter.fillRect(box, color("card"))
                painter.fillRect(QRectF(0, box.top(), 4, box.height()), color("signal"))
                if self.hasFocus():
                    painter.setPen(QPen(color("focus"), 2))
                    painter.drawRect(box.adjusted(1, 1, -2, -1))
            painter.setPen(color("ink" if on else "ink_soft"))
            painter.setFont(text_font(13.5, SEMI if on else MEDIUM))
            if self._step < FACTS_FROM:  # no room for facts
                painter.drawText(box.adjusted(15, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)
                continue
            painter.drawText(box.adjusted(15, 9, 0, 0), Qt.AlignmentFlag.AlignTop, name)
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(11))
            painter.drawText(box.adjusted(15, 29, 0, 0), Qt.AlignmentFlag.AlignTop, fact)
        for i, name in enumerate(DRAWERS):
            on = name == self._drawer
            painter.setPen(color("ink" if on else "ink_soft"))
            painter.setFont(text_font(12, SEMI if on else MEDIUM))
            box = self._drawer_box(i)
            painter.drawText(box.adjusted(15, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, name)
            if on:
                painter.fillRect(QRectF(0, box.top(), 4, box.height()), color("focus"))
