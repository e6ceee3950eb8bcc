"""Printing in passes: once round after another, with layers in and out, each with a name."""

from collections.abc import Callable

from PyQt6.QtWidgets import QCheckBox, QDialog, QLineEdit, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label, scrolling, set_look
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.flip.pass_bands import PassBands
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.edits.arranging.passes import (
    check_passes,
    in_pass,
    pass_name,
    passers,
    passes_in,
)
from cloudrift.loop.model.document import Pass
from cloudrift.loop.model.loop import Group, Layer

PrintThem = Callable[..., object]
OUTS = tuple[frozenset[str], ...]


class PassesSheet(QDialog):
    """Bands through the passes; the chosen pass is heard. ``print_them`` gets what is wanted."""

    def __init__(
        self,
        session: Session,
        print_them: PrintThem,
        parent: QWidget,
        passes: tuple[Pass, ...] = (),
    ) -> None:
        super().__init__(parent)
        self._session, self._print_them = session, print_them
        self._loop = session.loop
        self._of = passers(self._loop)
        self._ids = [one.id for one in self._of]
        self.passes = list(passes_in(self._loop, passes)) or [self._pass(()), self._pass(())]
        self._preview = Preview(session.hearing.previews, self)
        self.setWindowTitle("Print in passes")
        self.setMinimumSize(720, 320)
        column = vertical(self, spacing=8)
        column.addWidget(heading("One pass after another"))
        says = label(
            "Click a band to turn a layer off in a pass: what it has played rings on. The "
            "selected pass plays while the loop plays.",
            size=11.5,
            name="soft",
            wrap=True,
        )
        column.addWidget(says)
        self.bands = PassBands([(one.name, self._tint(one)) for one in self._of])
        self.bands.swapped.connect(self._swap)
        self.bands.chosen.connect(self._choose)
        column.addWidget(scrolling(self.bands), 1)
        row = horizontal()
        self.more = button("Add a pass", self._add, tip="Duplicate the selected pass")
        self.fewer = button("Delete", self._take_out, tip="The selected pass")
        self.build = button(
            "Build up",
            lambda: self._lay(self._building),
            tip="A pass for each layer: it enters, and those before keep playing",
        )
        self.rest = button(
            "Break before the end",
            lambda: self._lay(self._resting),
            tip="Everything twice, the top layer alone, everything again",
        )
        for one in (self.more, self.fewer, self.build, self.rest):
            row.addWidget(one)
        row.addStretch(1)
        column.addLayout(row)
        row = horizontal()
        row.addWidget(label("Name of the selected pass", size=11.5, name="soft"))
        self.name = QLineEdit()
        self.name.setMaxLength(NAME_TYPED)
        self.name.setFixedWidth(240)
        self.name.setAccessibleName("Name of the selected pass")
        self.name.textEdited.connect(self._rename)
        fill(row, self.name, 1)
        self.bare = QCheckBox("Bare: without treatments")
        row.addWidget(self.bare)
        column.addLayout(row)
        last = horizontal()
        self.words = label("", size=11.5, name="soft")
        fill(last, (self.words, 1), button("Cancel", self.reject))
        self.print = button("Print", self._print, name="strong")
        self.print.setDefault(True)
        last.addWidget(self.print)
        column.addLayout(last)
        self.finished.connect(self._preview.end)
        session.opened.connect(self.reject)
        session.changed.connect(self.reject)  # its layers may be others now
        self._show()
        self._hear()

    # --- passes -------------------------------------------------------------------------------

    def _tint(self, one: Layer | Group) -> str:
        if isinstance(one, Layer):
            return one.role
        return next((x.role for x in self._loop.layers if x.group == one.id), "keys")

    def _pass(self, out: tuple[str, ...]) -> Pass:
        return Pass(name=pass_name(self._loop, out), out=out)

    def _building(self) -> list[tuple[str, ...]]:
        return [tuple(self._ids[count:]) for count in range(1, len(self._ids) + 1)]

    def _resting(self) -> list[tuple[str, ...]]:
        return [(), (), tuple(self._ids[1:]), ()]

    def _lay(self, outs: Callable[[], list[tuple[str, ...]]]) -> None:
        self.passes = [self._pass(out) for out in outs()]
        self._changed()

    def _swap(self, at: int, row: int) -> None:
        was, one = self.passes[at], self._ids[row]
        gone = {*was.out} ^ {one}
        out = tuple(x for x in self._ids if x in gone)
        named = was.name != pass_name(self._loop, was.out)
        self.passes[at] = Pass(name=was.name, out=out) if named else self._pass(out)
        self._changed()

    def _add(self) -> None:
        at = self.bands.pass_at
        self.passes.insert(at + 1, self.passes[at])
        self._changed()
        self.bands.choose(at + 1, self.bands.row_at)

    def _take_out(self) -> None:
        if len(self.passes) > 1:
            del self.passes[self.bands.pass_at]
            self._changed()

    def _rename(self, text: str) -> None:
        at = self.bands.pass_at
        if text.strip():
            self.passes[at] = Pass(name=text.strip(), out=self.passes[at].out)
            self._show(name=False)

    def _choose(self, _at: int) -> None:
        self._show()
        self._hear()

    def _changed(self) -> None:
        self._show()
        self._hear()

    def _hear(self) -> None:
        one = self.passes[self.bands.pass_at]
        words = f"pass {self.bands.pass_at + 1}, {one.name}"
        self._preview.put(lambda loop: in_pass(loop, one), words)

    # --- showing ------------------------------------------------------------------------------

    def _show(self, *, name: bool = True) -> None:
        outs = [frozenset(self._ids.index(x) for x in one.out) for one in self.passes]
        self.bands.show_passes([one.name for one in self.passes], outs)
        if name:
            self.name.setText(self.passes[self.bands.pass_at].name)
        self.fewer.setEnabled(len(self.passes) > 1)
        count, loop = len(self.passes), self._loop
        wrong = ""
        try:
            check_passes(loop, tuple(self.passes))
        except CloudriftError as error:
            wrong = str(error)
        seconds = count * loop.sounding_frames / loop.rate
        self.words.setText(wrong or f"{count} passes, {count * loop.bars} bars, {seconds:.1f} s")
        set_look(self.words, "signal" if wrong else "soft")
        self.print.setEnabled(not wrong)

    def _print(self) -> None:
        self.accept()
        self._print_them((), bare=self.bare.isChecked(), passes=tuple(self.passes))
