"""Sections as columns, layers as bands as thick as they are loud, seams between them."""

from collections.abc import Callable, Mapping

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QResizeEvent,
    QWheelEvent,
)

from cloudrift.desktop.kit.held import Held, held
from cloudrift.desktop.kit.keyed import Keyed
from cloudrift.desktop.kit.look import color, text_font
from cloudrift.desktop.kit.parts import paint_words
from cloudrift.desktop.kit.pitch_ruler import PitchRuler
from cloudrift.desktop.kit.still import Still, paint_playhead, playhead_moved
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.timers import single_shot
from cloudrift.desktop.stages.arrange.model import NAMES_PX, ColumnsModel
from cloudrift.desktop.stages.arrange.painted import (
    paint_chosen,
    paint_loudness,
    paint_names,
    paint_seam,
    paint_section,
)
from cloudrift.loop.model.document import Document

LATER_MS = 60
EMPTY = (
    "No sections yet. Choose a form, or add a section: each is the loop with differences of its "
    "own."
)


class Columns(Keyed, Still):
    """The picture. ``chosen`` carries a section's number, ``seam_chosen`` the one that a seam
    leads into; ``swapped`` a section and a row that is in or out; ``level_moved`` by how many dB.
    """

    chosen = pyqtSignal(int)
    seam_chosen = pyqtSignal(int)
    swapped = pyqtSignal(int, int)
    level_moved = pyqtSignal(int, int, float)
    moved = pyqtSignal(int, int)  # a section by that many places
    seam_heard = pyqtSignal(int)
    removed = pyqtSignal()
    menu_wanted = pyqtSignal(object)  # where, on the screen

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.model: ColumnsModel | None = None
        self._session = session
        self.ruler = PitchRuler(session, "Pitch ruler of the sections")
        self.ruler.setParent(self)
        self._rules_later = single_shot(self, self._show_what_sounds, LATER_MS)
        self.at = self.row = 0
        self.seam = -1  # into which section the chosen seam leads
        self._loudness: Mapping[int, np.ndarray] = {}
        self._place: tuple[int, float] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip(
            "Click a section's name to select it, a band to turn it off or on, a seam to choose "
            "what happens there; double-click a seam to play the bars around it. The wheel over "
            "the selected band sets its level. Keys: arrows, Enter, + and −; Ctrl with arrows "
            "moves a section"
        )

    # --- what is shown ------------------------------------------------------------------------

    def show_document(self, document: Document) -> None:
        """Show how a document is arranged."""
        if not document.arrangement.sections:
            self.model = None
        else:
            ruled = self._session.preferences.now.ruler
            self.model = ColumnsModel(document, self.width(), ruled)
            self.at = min(self.at, len(self.model.sections) - 1)
            self.row = min(self.row, len(self.model.rows) - 1)
            self.seam = self.seam if self.seam < len(self.model.sections) else -1
        self.setMinimumSize(
            int(self.model.least_width) if self.model else 240,
            int(self.model.height) if self.model else 160,
        )
        self._show_ruler()
        self._name_for_readers()
        self.update()

    def _show_ruler(self) -> None:
        model = self.model
        self.ruler.setVisible(model is not None and model.ruled)
        if model is not None and model.ruled:
            top = model.rows_top - self.ruler.height() - 8
            self.ruler.setGeometry(0, int(top), self.width(), self.ruler.height())
            self._rules_later.start()  # what sounds in all sections takes longer than the picture

    def _show_what_sounds(self) -> None:
        if self.model is not None and self.model.ruled:
            self.ruler.show_parts(*self.model.ruler_parts())

    def show_loudness(self, loudness: Mapping[int, np.ndarray]) -> None:
        """Show how loud each bar is, as far as that is known."""
        self._loudness = dict(loudness)
        self.update()

    def show_place(self, place: tuple[int, float] | None) -> None:
        """Follow the sound: a section and how far into it; None where it is not heard."""
        if self.model is None or place == self._place:
            return
        count = len(self.model.sections)
        xs = [
            self.model.x_of(*one) if one and one[0] < count else -10.0
            for one in (self._place, place)
        ]
        playhead_moved(self, *xs)
        self.ruler.show_x(xs[1])
        self._place = place

    def choose(self, at: int, row: int | None = None) -> None:
        """Choose a section, and a row in it."""
        if self.model is None:
            return
        self.at = min(max(at, 0), len(self.model.sections) - 1)
        if row is not None:
            self.row = min(max(row, 0), len(self.model.rows) - 1)
        self.seam = -1
        self._name_for_readers()
        self.chosen.emit(self.at)
        self.update()

    def choose_seam(self, at: int) -> None:
        """Choose the seam into a section."""
        if self.model is None or not 0 <= at < len(self.model.sections):
            return
        self.at, self.seam = at, at
        self._name_for_readers()
        self.seam_chosen.emit(at)
        self.update()

    def _swap_seam(self) -> None:
        if self.seam >= 0:
            self.choose(self.at)
        else:
            self.choose_seam(self.at)

    def _name_for_readers(self) -> None:
        model = self.model
        if model is None:
            self.setAccessibleName("No sections yet")
            return
        section = model.sections[self.at]
        if self.seam >= 0:
            says = ", ".join(section.seam.happens) or "plain"
            self.setAccessibleName(f"Change into {section.name}: {says}")
            return
        row = model.rows[self.row]
        plays = "plays" if model.owner(self.at, self.row) else "off"
        self.setAccessibleName(f"{section.name}, {section.bars} bars: {row.name} {plays}")

    def sizeHint(self) -> QSize:
        return QSize(700, int(self.model.height) if self.model else 200)

    def resizeEvent(self, _event: QResizeEvent | None) -> None:
        if self.model is not None:
            self.show_document(self.model.document)

    # --- hands --------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        model, place = self.model, event.position()
        if model is None or event.button() != Qt.MouseButton.LeftButton:
            return
        seam = model.seam_at(place.x())
        if seam >= 0:
            self.choose_seam(seam)
            return
        at, row = model.column_at(place.x()), model.row_at(place.y())
        if at < 0:
            if row >= 0:
                self.choose(self.at, row)
            return
        if row < 0:
            self.choose(at)
            return
        self.choose(at, row)
        self.swapped.emit(at, row)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self.model is not None and self.model.seam_at(event.position().x()) >= 0:
            self.seam_heard.emit(self.model.seam_at(event.position().x()))
        else:
            self.mousePressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        assert event is not None
        if self.model is not None:
            at = self.model.column_at(event.pos().x())
            if at >= 0:
                self.choose(at)
            self.menu_wanted.emit(event.globalPos())

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        model = self.model
        at = model.column_at(event.position().x()) if model else -1
        row = model.row_at(event.position().y()) if model else -1
        if model is None or (at, row) != (self.at, self.row):
            event.ignore()  # the page scrolls: only the band that is chosen is turned
            return
        self.level_moved.emit(at, row, 1.0 if event.angleDelta().y() > 0 else -1.0)

    def act_of(self, event: QKeyEvent) -> Callable[[], object] | None:
        """What a key does, or None."""
        if self.model is None:
            return None
        how = held(event)
        acts: dict[tuple[object, Held], Callable[[], object]] = {
            (Qt.Key.Key_Left, Held()): lambda: self.choose(self.at - 1),
            (Qt.Key.Key_Right, Held()): lambda: self.choose(self.at + 1),
            (Qt.Key.Key_Left, Held(ctrl=True)): lambda: self.moved.emit(self.at, -1),
            (Qt.Key.Key_Right, Held(ctrl=True)): lambda: self.moved.emit(self.at, 1),
            (Qt.Key.Key_Up, Held()): lambda: self.choose(self.at, self.row - 1),
            (Qt.Key.Key_Down, Held()): lambda: self.choose(self.at, self.row + 1),
            (Qt.Key.Key_Return, Held()): lambda: self.swapped.emit(self.at, self.row),
            (Qt.Key.Key_Enter, Held()): lambda: self.swapped.emit(self.at, self.row),
            (Qt.Key.Key_S, Held()): self._swap_seam,
            (Qt.Key.Key_H, Held()): lambda: self.seam_heard.emit(self.at),
            (Qt.Key.Key_Delete, Held()): self.removed.emit,
        }
        level = {"+": 1.0, "=": 1.0, "-": -1.0, "−": -1.0}.get(event.text(), 0.0)
        if level and not (how.ctrl or how.alt):
            return lambda: self.level_moved.emit(self.at, self.row, level)
        return acts.get((Qt.Key(event.key()), how))

    # --- painting -----------------------------------------------------------------------------

    def paint_still(self, painter: QPainter) -> None:
        model = self.model
        if model is None:
            paint_words(painter, QRectF(self.rect()), EMPTY)
            return
        paint_loudness(painter, model, self._loudness)
        paint_names(painter, model, self.row)
        if model.ruled:
            painter.setPen(color("ink_soft"))
            painter.setFont(text_font(11))
            box = QRectF(2, self.ruler.y(), NAMES_PX - 8, self.ruler.height())
            painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, "sounds")
        for at in range(len(model.sections)):
            on = at == self.at and self.seam < 0
            paint_section(painter, model, at, on=on, focused=on and self.hasFocus())
            if on and self.hasFocus():
                paint_chosen(painter, model, at, self.row)
        for at in range(1, len(model.sections)):
            paint_seam(painter, model, at, on=self.seam == at)

    def paint_moving(self, painter: QPainter) -> None:
        model, place = self.model, self._place
        if model is not None and place is not None and place[0] < len(model.sections):
            paint_playhead(painter, model.x_of(*place), 8, model.height - 18)
