"""What the cards of a layer and of a group share: level, pan, hear, off, and a strip of colour."""

from typing import Any

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.look import SEMI, color
from cloudrift.desktop.kit.parts import Elided
from cloudrift.desktop.session.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop.model.loop import LEVEL, Group, Layer, Loop

PAN = Field(name="pan", label="Pan", default=0, unit="%", low=-100, high=100, step=1)


class OwnerRow(QFrame):
    """A card. What it belongs to says how it is changed, in ``change`` and ``words_for``."""

    def __init__(self, session: Session, of: Layer | Group, role: str, what: str) -> None:
        super().__init__()
        self._session, self._what = session, what
        self.owner_id = of.id
        self._role, self._quiet = role, False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.name = Elided(of.name, size=13.5, weight=SEMI)
        self.level = FieldWidget(LEVEL, of.level_db, accent=role)
        self.pan = FieldWidget(PAN, round(of.pan * 100), accent=role)
        for field in (self.level, self.pan):
            field.settled.connect(session.end_drag)
        self.level.edited.connect(lambda v: self._set("level", level_db=v))
        self.pan.edited.connect(lambda v: self._set("pan", pan=v / 100))
        self.hear = QPushButton("solo")
        self.off = QPushButton("mute")
        for one, act, tip in (
            (
                self.hear,
                self._toggle_hear,
                f"Solo this {what} (and others soloed); exports are not affected",
            ),
            (self.off, self._toggle_off, f"Mute this {what}, here and in exports"),
        ):
            one.setCheckable(True)
            one.setFixedSize(46, 26)
            one.setToolTip(tip)
            one.setAccessibleName(f"{of.name}: {one.text()}")
            one.setProperty("fit", "narrow")
            one.clicked.connect(act)

    def change(self, loop: Loop, **changes: Any) -> Loop:
        """Return the loop with fields of what the card stands for changed."""
        raise NotImplementedError

    def _switches(self) -> QVBoxLayout:
        column = vertical(spacing=3)
        fill(column, self.hear, self.off)
        return column

    def _fields(self) -> QHBoxLayout:
        line = horizontal(spacing=6)
        fill(line, (self.level, 3), (self.pan, 2))
        return line

    def _set(self, what: str, **changes: Any) -> None:
        self._session.apply(
            f"{what} of {self.name.text()}",
            lambda loop: self.change(loop, **changes),
            merge=f"{what} {self.owner_id}",
        )

    def _toggle_hear(self) -> None:
        self._session.hearing.swap_alone(self.owner_id)

    def _toggle_off(self, off: bool) -> None:
        self._session.apply(
            f"{self._what} off" if off else f"{self._what} on",
            lambda loop: self.change(loop, mute=off),
        )

    def show_switches(self, of: Layer | Group, *, quiet: bool) -> None:
        """Refresh what both kinds of card show; ``quiet`` says that nothing of it is heard."""
        self._quiet = quiet
        self.level.set_value(of.level_db)
        self.pan.set_value(float(round(of.pan * 100)))
        self.hear.setChecked(of.id in self._session.hearing.alone)
        self.off.setChecked(of.mute)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        strip = QRectF(2, 2, 5, self.height() - 4)
        if not self._quiet:
            painter.fillRect(strip, color(self._role))
            return
        painter.setPen(color(self._role))  # an empty strip: nothing of it is heard
        painter.drawRect(strip.adjusted(0.5, 0.5, -0.5, -0.5))
