"""What the page of a kit offers while there is none."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter

from cloudrift.demo import KIT, LOOPS
from cloudrift.desktop.kit.lead import Lead, LeadTile
from cloudrift.desktop.kit.look import color
from cloudrift.ground.words import plural

ROLES = ("keys", "pad", "pluck", "bass", "voice")  # the colours of the loops, one each
LONG = (0.95, 0.7, 0.85, 0.55, 0.8)  # how much of the width each takes


def kit_lead(choose: Callable[[], object], take_demo: Callable[[], object]) -> Lead:
    """Return the tiles: a folder of one's own, the demo kit."""
    lead = Lead(
        "Write a folder of loops as one kit",
        "Loop files in one folder are a kit: looked at together, heard at one loudness, put in "
        "order, and written with one cover, one rights sheet and a page with players.",
    )
    lead.add(LeadTile("Choose a folder…", "One that has loop files in it; nothing in it is "
                      "changed but the order and the cover.", choose, _paint_rows(3)))  # fmt: skip
    lead.add(LeadTile(f"The demo kit, {KIT}", f"{plural(len(LOOPS), 'loop')} by as many "
                      "style cards, to see what a kit comes to.", take_demo,
                      _paint_rows(len(LOOPS))))  # fmt: skip
    return lead


def _paint_rows(count: int) -> Callable[[QPainter, QRectF], None]:
    """A picture of so many loops, one under another."""

    def paint(painter: QPainter, box: QRectF) -> None:
        high = box.height() / count
        painter.setPen(Qt.PenStyle.NoPen)
        for at in range(count):
            painter.setBrush(color(ROLES[at], 0.8))
            painter.drawRect(QRectF(box.left(), box.top() + at * high,
                                    box.width() * LONG[at], high - 3))  # fmt: skip

    return paint
