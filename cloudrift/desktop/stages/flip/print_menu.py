"""The menu of all that can be printed."""

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QMenu, QWidget

from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.loop.edits.arranging.passes import passers


class PrintMenu(QMenu):
    """Filled when it is opened. ``passes_wanted`` and ``list_wanted`` ask for their sheets."""

    passes_wanted = pyqtSignal()
    list_wanted = pyqtSignal()

    def __init__(self, session: Session, printing: Printing, parent: QWidget) -> None:
        super().__init__(parent)
        self._session, self._printing = session, printing
        self.aboutToShow.connect(self.fill)

    def fill(self) -> None:
        """Put in all that can be printed now."""
        loop, do = self._session.loop, self._printing
        self.clear()
        self.addAction("The whole loop, treated", partial(do.print_what, (), bare=False))
        self.addAction("The whole loop, bare", partial(do.print_what, (), bare=True))
        self.addAction("In passes, with layers on and off…", self.passes_wanted.emit)
        self.addSeparator()
        together = [x for x in loop.layers if x.id in self._session.hearing.alone]
        if len(together) > 1:
            names = " and ".join(x.name for x in together).replace("&", "&&")
            self.addAction(names, do.print_together)
        for layer in loop.layers:
            self.addAction(layer.name.replace("&", "&&"), partial(do.print_what, (layer.id,)))
        for group in loop.groups:
            name = f"{group.name} (group)".replace("&", "&&")
            self.addAction(name, partial(do.print_what, (group.id,)))
        if len(passers(loop)) > 1:
            self.addAction("Each layer separately", do.print_each)
        if self._session.document.history.now.prints:
            self.addSeparator()
            self.addAction("All prints…", self.list_wanted.emit)
        recordings = [x for x in loop.layers if x.recorded is not None and x.flipped is None]
        if recordings:
            self.addSeparator()
        for layer in recordings:
            name = f"Slice {layer.name} as it is".replace("&", "&&")
            self.addAction(name, partial(do.cut, layer.id))
