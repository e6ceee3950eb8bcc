"""What the Arrange stage offers while there are no sections: forms, heard while one rests."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QRectF, Qt, QTimer
from PyQt6.QtGui import QPainter

from cloudrift.desktop.kit.lead import Lead, LeadTile
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.kit.trying import Trying
from cloudrift.desktop.session.session import Session
from cloudrift.loop.edits.arranging.section_loops import loop_in
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.style.form import SHARES, Form, forms, suggest_form

BANDS = 5  # of layers and drums in a form's picture
DRUMS = {"none": 0.0, "no low": 0.6, "hats": 0.3, "backbeat": 0.4, "scattered": 0.3, "bare": 0.5}


class FormTrying(Trying):
    """While somebody rests on a form its sections are heard, a turn of the loop each."""

    def __init__(self, tile: LeadTile, session: Session, form: Form) -> None:
        super().__init__(tile, session, self._section, f"in the form {form.name}")
        self._session, self._form, self._at = session, form, 0
        self._next = QTimer(self)
        self._next.timeout.connect(self._go_on)

    def _section(self, loop: Loop) -> Loop:
        drawn = suggest_form(Document.of(loop), self._form, 1)
        sections = drawn.arrangement.sections
        return loop_in(loop, sections[self._at % len(sections)])

    def _go_on(self) -> None:
        self._at += 1
        self.begin()

    def begin(self) -> None:
        loop = self._session.loop
        super().begin()
        self._next.start(round(1000 * loop.sounding_frames / loop.rate))

    def end(self) -> None:
        self._next.stop()
        self._at = 0
        super().end()


def form_lead(session: Session, variation: Callable[[str], object]) -> Lead:
    """Return a tile for each form; ``variation`` takes its name."""
    made = Lead(
        "Arrange the loop in sections",
        "Each form is an order of sections. Rest on one to hear it; click it to use it. Or add a "
        "section, and choose what plays in it.",
    )
    for form in forms().values():
        tile = made.add(
            LeadTile(form.name.capitalize(), form.about, partial(variation, form.name),
                     partial(paint_form, form))
        )  # fmt: skip
        FormTrying(tile, session, form)
    return made


def paint_form(form: Form, painter: QPainter, box: QRectF) -> None:
    """Sections side by side, each as wide as it is long and as full as it is."""
    turns = [one.turns for one in form.sections]
    gap, left = 3.0, box.left()
    room = box.width() - gap * (len(turns) - 1)
    band = box.height() / BANDS
    painter.setPen(Qt.PenStyle.NoPen)
    for section in form.sections:
        wide = room * section.turns / sum(turns)
        layers = max(1, round((BANDS - 1) * SHARES.get(section.who, 0.3)))
        roles = ("keys", "pad", "pluck", "bass")[:layers]
        for row, role in enumerate(roles):
            painter.setBrush(color(role, 0.8))
            painter.drawRect(QRectF(left, box.top() + row * band, wide, band - 2))
        drums = DRUMS.get(section.drums, 1.0)
        if drums:
            painter.setBrush(color("lead", 0.35 + 0.55 * drums))
            painter.drawRect(QRectF(left, box.bottom() - band, wide, band - 2))
        left += wide + gap
