"""The blend of a whole line with what comes into it."""

from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.session.session import Session
from cloudrift.ground.settings import percent
from cloudrift.loop.edits.layers import line_edits
from cloudrift.texture.treatment import time_ratio

LINE_BLEND = percent("line_blend", "Whole line", 100, "dry/wet of the whole line")


class LineBlend(FieldWidget):
    """Follows the line that is selected; without a treatment there is nothing to blend."""

    def __init__(self, session: Session) -> None:
        super().__init__(LINE_BLEND, 100.0)
        self._session = session
        self.setFixedWidth(158)
        self.edited.connect(self._blend)
        self.settled.connect(session.end_drag)

    def _blend(self, percent: float) -> None:
        line_of = self._session.selection.line_of
        self._session.apply(
            "dry/wet of the line",
            lambda loop: line_edits.set_line_blend(loop, line_of, percent / 100),
            merge=f"line blend {line_of}",
        )
        self.show_line()  # also where it was refused

    def show_line(self) -> None:
        """Show how much of the line is heard; one that changes the length can't be blended."""
        loop, line_of = self._session.loop, self._session.selection.line_of
        line = loop.line_of(line_of)
        self.setVisible(bool(line))
        longer = time_ratio(line) != 1
        self.setEnabled(not longer)
        self.set_value(100.0 if longer else round(100 * loop.owner(line_of).line_blend))
        if longer:
            self.setToolTip("A line that changes the length has no dry/wet: the lengths differ")
