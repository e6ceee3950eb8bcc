"""What a flip is compared with: the loop it was printed from, or the print with nothing moved."""

from collections.abc import Callable
from functools import partial

from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QMenu, QPushButton

from cloudrift.desktop.kit.parts import set_look
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.loop.edits.flip import cutting, flips
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.history import Moment
from cloudrift.loop.model.layer import Layer

COMPARED = {
    "loop": "With its source loop, in its own key and tempo",
    "print": "With the {what}, in its original order, in this key and tempo",
    "": "Compare with nothing",
}


class CompareButton(QPushButton):
    """A menu of what the compare switch goes to; ``choices`` are its lines by what they compare."""

    def __init__(
        self,
        session: Session,
        printing: Printing,
        layer: Callable[[], Layer | None],
        alone: Preview,
    ) -> None:
        """``layer`` says which flip is shown; ``alone`` is on while it is heard by itself."""
        super().__init__("Compare")
        self._session, self._printing = session, printing
        self._layer, self._alone = layer, alone
        self._against = ""
        self._then: Moment | None = None
        self.setToolTip("Loudness matched; B switches")
        self.choices = {what: QAction(text, self) for what, text in COMPARED.items()}
        for what, action in self.choices.items():
            action.setCheckable(True)
            action.triggered.connect(partial(self.compare_with, what))
        menu = QMenu(self)
        menu.addActions(list(self.choices.values()))
        self.setMenu(menu)
        self.show_flip(there=False, is_print=True)

    def compare_with(self, what: str) -> None:
        """Let the compare switch go between the flip and the loop or the print that it is of.

        Its *loop* is heard in its own key and tempo; its *print* in those of the flip, with
        nothing moved. Nothing: bare against treated again.
        """
        self._against = what
        self._compare()
        self._show()

    def release(self) -> None:
        """Compare with nothing, where anything is compared."""
        if self._against:
            self.compare_with("")

    def show_flip(self, *, there: bool, is_print: bool) -> None:
        """Follow what is shown: a flip, or none; of a print, or of a recording."""
        self.setVisible(there)
        self.choices["loop"].setVisible(is_print)
        what = "print" if is_print or not there else "recording"
        self.choices["print"].setText(COMPARED["print"].format(what=what))
        if self._session.hearing.then is not self._then:  # somebody else compares
            self._against, self._then = "", None
        if self._against == "print":  # it is heard as it is fitted now
            self._compare()
        self._show()

    def _compare(self) -> None:
        hearing, layer = self._session.hearing, self._layer()
        then: Moment | None = None
        if self._against == "loop":
            kept = self._printing.kept()
            if kept is not None:
                then = Moment(document=Document(loop=kept[1]), label=f"{kept[0].name}, source loop")
        elif self._against == "print" and layer is not None:
            loop = flips.with_flip(self._session.loop, layer.id, cutting.reset)
            loop = flips.soloed(loop, layer.id) if self._alone.on else loop
            then = Moment(document=Document(loop=loop), label=f"{layer.name}, original order")
        if then is None:
            self._against = ""
        if then != hearing.then:
            self._then = then
            hearing.compare_with(then)

    def _show(self) -> None:
        for what, action in self.choices.items():
            action.setChecked(what == self._against)
        set_look(self, "strong" if self._against else "")
