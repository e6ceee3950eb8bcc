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
        "Export a folder of loops as one kit",
        "The loop files of a folder are a kit: compared side by side at one loudness, put in "
        "order, and exported with one cover, one rights sheet and a web page with players.",
    )
    lead.add(LeadTile("Choose a folder…", "A folder with loop files; only the order and the cover "
                      "in it are changed.", choose, _paint_rows(3)))  # fmt: skip
    lead.add(LeadTile(f"The demo kit, {KIT}", f"{plural(len(LOOPS), 'loop')} in as many style "
                      "cards, to see what a kit looks like.", take_demo,
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
