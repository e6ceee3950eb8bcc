"""First steps: six things to do in the open loop, one in each stage; each is ticked when done.

Shown in a line over the stage at the first start, until all are done or it is left; Help has it
again. Nothing waits for it.
"""

from collections.abc import Callable
from typing import NamedTuple

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QWidget

from cloudrift.desktop.kit.layouts import horizontal
from cloudrift.desktop.kit.look import SEMI, color
from cloudrift.desktop.kit.parts import Elided, button, label, small_button
from cloudrift.desktop.session.session import Session

Done = Callable[[Session], bool]
TICK_PX = 16
TICK = (QPointF(-2.5, 0), QPointF(-0.5, 2), QPointF(2.5, -2))  # from its centre


def _did(*labels: str) -> Done:
    """Whether the last step of the history is one of these."""
    return lambda session: session.document.history.moment.label.startswith(labels)


def _hears(words: str) -> Done:
    def done(session: Session) -> bool:
        front = session.hearing.previews.front
        return front is not None and front.words.startswith(words)

    return done


class Step(NamedTuple):
    """Something to do: in which stage, what, and how one sees that it was done."""

    stage: str
    says: str
    done: Done


STEPS = (
    Step("Chords", "Click a chord under Next chord: every layer follows it",
         _did("add a chord", "change a chord")),
    Step("Layers", "Open the shelf (F4) and rest on a sound: it plays in the layer's place",
         _hears("playing with")),
    Step("Texture", "Bypass a treatment and switch it on again: the strip below it changes",
         _did("bypass a treatment", "treatment on")),
    Step("Flip", "Choose A finished example: the loop is printed and cut up", _did("print")),
    Step("Groove", "Turn the bed on, or suggest a groove from the loop",
         _did("groove bed on", "suggest a groove")),
    Step("Deliver", "Click a file in the list to hear exactly what would be exported",
         lambda session: session.transport.long is not None
         and session.transport.long.words.startswith("playing ")),
)  # fmt: skip


class _Ticks(QWidget):
    """A small circle a step: ticked, open, or the one that is shown."""

    def __init__(self) -> None:
        super().__init__()
        self._done: frozenset[int] = frozenset()
        self._at = 0

    def show_steps(self, done: frozenset[int], at: int) -> None:
        """Show which are done, and which is shown."""
        self._done, self._at = done, at
        self.setAccessibleName(f"{len(done)} of {len(STEPS)} done")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(TICK_PX * len(STEPS), TICK_PX)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for i in range(len(STEPS)):
            box = QRectF(i * TICK_PX + 3, (self.height() - 10) / 2, 10, 10)
            painter.setPen(QPen(color("focus" if i == self._at else "line"), 2))
            painter.setBrush(color("good") if i in self._done else color("card"))
            painter.drawEllipse(box)
            if i in self._done:
                painter.setPen(QPen(color("on_ink"), 1.6))
                painter.drawPolyline(QPolygonF([box.center() + d for d in TICK]))


class FirstSteps(QFrame):
    """``wanted`` carries the stage of a step, ``left`` says that it is not to come again."""

    wanted = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("card")
        self._session = session
        self.done: frozenset[int] = frozenset()
        self._at = 0
        self._ticks = _Ticks()
        self.says = Elided(size=12.5)
        self.go = button("", self._go)
        row = horizontal(self, (12, 4, 8, 4), 8)
        row.addWidget(label("First steps", size=12.5, weight=SEMI))
        row.addWidget(self._ticks)
        row.addWidget(self.says, 1)
        row.addWidget(self.go)
        row.addWidget(small_button("Next", self.next, tip="Another of the six steps"))
        row.addWidget(
            small_button("Dismiss", self.leave, tip="Don't show again (Esc); it stays in Help")
        )
        session.changed.connect(lambda _b, _a: self._look())
        session.hearing.changed.connect(self._look)
        session.hearing.shown_changed.connect(self._look)
        self.hide()

    def begin(self) -> None:
        """Show it, from the first."""
        self.done, self._at = frozenset(), 0
        self._show()
        self.show()

    def next(self) -> None:
        """Show the next that is not done."""
        self._at = next(
            (at for n in range(1, len(STEPS) + 1)
             if (at := (self._at + n) % len(STEPS)) not in self.done), self._at,
        )  # fmt: skip
        self._show()

    def leave(self) -> None:
        """Put it away for good."""
        self.hide()
        self.left.emit()

    def _go(self) -> None:
        self.wanted.emit(STEPS[self._at].stage)

    def _look(self) -> None:
        """See what has been done."""
        if not self.isVisible():
            return
        did = {at for at, step in enumerate(STEPS) if step.done(self._session)} - self.done
        if not did:
            return
        self.done |= did
        if len(self.done) == len(STEPS):
            self._session.say("All six first steps are done", good=True)
            self.leave()
        elif self._at in self.done:
            self.next()
        else:
            self._show()

    def _show(self) -> None:
        step = STEPS[self._at]
        self.says.setText(step.says)
        self.says.setToolTip(step.says)
        self.go.setText(f"Go to {step.stage}")
        self._ticks.show_steps(self.done, self._at)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        else:
            super().keyPressEvent(event)
