"""The pitch ruler over the ribbon: what sounds of all layers, or of one, beside what is written."""

from PyQt6.QtCore import QSignalBlocker
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.parts import WhileShown
from cloudrift.desktop.kit.pitch_ruler import HEIGHT, PitchRuler, RulerPart
from cloudrift.desktop.kit.time_axis import TimeAxis
from cloudrift.desktop.session.session import Session
from cloudrift.loop.sounding import ruler

ALL = "all layers"
LEAST_PX = 600  # a window lower than this has no room for it


class RulerRow(QWidget):
    """On the ribbon's axis, and above it; shown where the session says so."""

    def __init__(self, session: Session, left: int, right: int) -> None:
        """``left`` and ``right`` (pixels) are what the ribbon leaves free beside its axis."""
        super().__init__()
        self._session, self._left, self._right = session, left, right
        self.setFixedHeight(HEIGHT)
        self.which = ChoiceBox("Pitch ruler of")
        self.which.setProperty("fit", "small")
        self.which.setParent(self)
        self.which.setToolTip("Pitch ruler: what sounds, of all layers or of one (F8 closes it)")
        self.which.activated.connect(lambda _at: self.refresh())
        self.strip = PitchRuler(session)
        self.strip.setParent(self)
        hearing = session.hearing
        WhileShown(self, self.refresh, session.changed, session.opened, hearing.shown_changed,
                   hearing.changed)  # fmt: skip
        self._fits = True
        session.ruler_shown.connect(lambda _on: self._show_or_hide())
        self._show_or_hide()

    def _show_or_hide(self) -> None:
        wanted = self._session.preferences.now.ruler
        self.setVisible(wanted and self._fits)
        if wanted and not self._fits:
            self._session.say("the window is too low for the pitch ruler; make it higher")

    def be_in(self, height: int) -> None:
        """Give way where the window is too low (pixels)."""
        if self._fits != (height >= LEAST_PX):
            self._fits = not self._fits
            self._show_or_hide()

    @property
    def _axis(self) -> TimeAxis:
        ticks = self._session.hearing.shown.ticks
        return TimeAxis(0, max(1, self.width() - self._left - self._right), ticks)

    def refresh(self) -> None:
        """Show what sounds now."""
        loop = self._session.hearing.heard_loop
        ids = {x.id for x in loop.heard()}
        only = str(self.which.currentData() or "")
        with QSignalBlocker(self.which):
            self.which.clear()
            self.which.addItem(ALL, "")
            for layer in loop.heard():
                self.which.addItem(layer.name, layer.id)
            self.which.setCurrentIndex(max(0, self.which.findData(only)))
        self.strip.show_parts(RulerPart(self._axis, ruler(loop, only if only in ids else ""), loop))

    def show_place(self, share: float) -> None:
        """Move the playhead."""
        if self.isVisible():
            axis = self._axis
            self.strip.show_x(axis.at_x(share * axis.ticks))

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), color("paper"))
        painter.setPen(color("line"))
        painter.drawLine(0, 0, self.width(), 0)

    def showEvent(self, _event: QShowEvent | None) -> None:
        self.refresh()

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        self.which.setGeometry(6, 1, self._left - 12, HEIGHT - 2)
        self.strip.setGeometry(self._left, 0, self.width() - self._left - self._right, HEIGHT)
        if self.isVisible():
            self.refresh()
