"""What the Flip stage offers while nothing has been printed."""

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from cloudrift.desktop.kit.lead import Lead, LeadTile
from cloudrift.desktop.kit.look import color
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.loop.edits.flip import cutting, flips
from cloudrift.loop.edits.flip.scatter import Rules, scattered
from cloudrift.loop.model.flip import Flipped
from cloudrift.notes.time import bar_ticks

EXAMPLE_PIECES, EXAMPLE = 16, Rules(amount=45, variation=7, backward=35)
NO_RECORDING = "No recording in the loop yet: add one, then slice it here"
PIECES = 8  # of the pictures
ROLES = ("keys", "pad", "pluck", "lead")  # colours of the chords, two pieces each
AS_IT_WAS, TURNED = tuple(range(PIECES)), (0, 4, 2, 3, 7, 6, 1, 5)
LOUD = (1.0, 0.62, 0.9, 0.55, 1.0, 0.7, 0.84, 0.5)  # how high each is drawn


class FlipLead(Lead):
    """Four ways to something that can be cut up. ``recordings_wanted``: one is to be found."""

    recordings_wanted = pyqtSignal()

    def __init__(self, session: Session, printing: Printing) -> None:
        super().__init__(
            "Print something, and cut it up",
            "A print is the loop as audio that keeps its recipe. Its pieces are above; threads "
            "lead to where they play below.",
        )
        self._session, self._printing = session, printing
        for title, words, act, order, roles in (
            ("The whole loop", "All layers, treated, sliced at its chords.", self.print_loop,
             AS_IT_WAS, ROLES),
            ("One layer", "The selected layer alone; the others keep playing.",
             self.print_layer, AS_IT_WAS, ("keys",)),
            ("A recording", "A recording of the loop, sliced at its "
                            "transients.", self.cut_recording,
             AS_IT_WAS, ("voice",)),
            ("A finished example", "The loop printed, cut into 16 and reordered; one undo "
                                   "step.", self.make_example, TURNED, ROLES),
        ):  # fmt: skip
            self.add(LeadTile(title, words, act, partial(paint_flip, order, roles)))

    def print_loop(self) -> None:
        """Print the whole loop."""
        self._printing.print_what((), bare=False)

    def print_layer(self) -> None:
        """Print the layer that is chosen, or the first that is heard."""
        heard = [layer.id for layer in self._session.loop.heard()]
        chosen = self._session.selection.layer_id
        if heard:
            self._printing.print_what((chosen if chosen in heard else heard[0],))
        else:
            self._session.say("no layer plays, so there is nothing to print; add one in Layers")

    def cut_recording(self) -> None:
        """Cut the recording that is chosen, or the first; where there is none, look for one."""
        found = [x.id for x in self._session.loop.layers if x.recorded is not None]
        chosen = self._session.selection.layer_id
        if found:
            self._printing.cut(chosen if chosen in found else found[0])
        else:
            self._session.say(NO_RECORDING, good=True)
            self.recordings_wanted.emit()

    def make_example(self) -> None:
        """Print the loop, cut it in pieces and reorder those."""
        metre = self._session.loop.metre

        def edit(flip: Flipped) -> Flipped:
            cut = cutting.cut(flip, cutting.cuts_at(flip, "equal", metre, EXAMPLE_PIECES))
            return scattered(cut, EXAMPLE, bar_ticks(metre))

        self._printing.print_what(
            (), bare=False, then=lambda loop, layer_id: flips.with_flip(loop, layer_id, edit)
        )


def paint_flip(order: Sequence[int], roles: Sequence[str], painter: QPainter, box: QRectF) -> None:
    """Pieces above, where they play below, threads between."""
    wide, high = box.width() / PIECES, box.height() * 0.3
    for place, piece in enumerate(order):
        role = roles[piece * len(roles) // PIECES]
        above, below = box.left() + (piece + 0.5) * wide, box.left() + (place + 0.5) * wide
        moved = piece != place
        painter.setPen(QPen(color(role, 0.8 if moved else 0.4), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        way = QPainterPath(QPointF(above, box.top() + high + 2))
        middle = box.center().y()
        end = QPointF(below, box.bottom() - high - 2)
        way.cubicTo(QPointF(above, middle), QPointF(below, middle), end)
        painter.drawPath(way)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(role))
        tall = high * LOUD[piece]
        for x, top in ((above, box.top()), (below, box.bottom() - high)):
            painter.drawRect(QRectF(x - wide * 0.42, top + (high - tall) / 2, wide * 0.84, tall))
