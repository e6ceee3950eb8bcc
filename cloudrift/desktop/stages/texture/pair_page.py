"""Two strips side by side, large, with their spectra laid over each other."""

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLabel, QWidget

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.parts import button, heading, label
from cloudrift.desktop.stages.texture.portrait_view import PortraitView
from cloudrift.desktop.stages.texture.strip import Strip
from cloudrift.ground.words import number
from cloudrift.render.measure.pair import difference, spectra_portrait
from cloudrift.render.measure.step_facts import StepFacts
from cloudrift.texture.treatment import Line


def step_names(line: Line) -> list[str]:
    """Return what the places of a line are called, from bare down."""
    return ["Input", *(f"{i}. {t.of.label}" for i, t in enumerate(line, 1))]


class PairPage(QWidget):
    """Stands over the line for a while. ``asked`` is emitted when another pair is wanted, ``left``
    when the line is; ``pressed`` carries the step to hear.
    """

    asked = pyqtSignal()
    pressed = pyqtSignal(int)
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        column = vertical(self, FLUSH, 6)
        head = horizontal()
        back = button("‹ back to the line", self.left.emit, name="link", tip="Esc")
        fill(head, (heading("Two strips side by side"), 1), back)
        column.addLayout(head)
        self._row = horizontal(spacing=10)
        self.choices: list[ChoiceBox] = []
        self.strips: list[Strip] = []
        self.measures: list[QLabel] = []
        column.addLayout(self._row, 3)
        self.spectra: PortraitView | None = None
        self._under = vertical()
        column.addLayout(self._under, 2)
        self.says = label("", size=12, wrap=True)
        column.addWidget(self.says)
        self._role = ""

    def show_line(self, line: Line, role: str) -> None:
        """Offer the places of a line; at first its top and its end."""
        names = step_names(line)
        if role != self._role:
            self._build(role)
        before = [choice.currentIndex() for choice in self.choices]
        for which, choice in enumerate(self.choices):
            choice.blockSignals(True)
            changed = [choice.itemText(i) for i in range(choice.count())] != names
            if changed:
                choice.clear()
                choice.addItems(names)
                wanted = before[which] if 0 <= before[which] < len(names) else -1
                first = 0 if which == 0 else len(names) - 1
                choice.setCurrentIndex(first if wanted < 0 else wanted)
            choice.blockSignals(False)

    def _build(self, role: str) -> None:
        self._role = role
        while (item := self._row.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        if self.spectra is not None:
            self.spectra.deleteLater()
        self.choices, self.strips, self.measures = [], [], []
        for which, side in enumerate(("left", "right")):
            holder = QWidget()
            inside = vertical(holder, FLUSH, 4)
            choice = ChoiceBox(f"Strip at the {side}")
            choice.currentIndexChanged.connect(lambda _i: self.asked.emit())
            strip = Strip(role, f"the {side} one")
            strip.pressed.connect(lambda n=which: self.pressed.emit(self.steps[n]))
            measures = label("", size=11.5, name="soft", wrap=True)
            fill(inside, choice, (strip, 1), measures)
            self.choices.append(choice)
            self.strips.append(strip)
            self.measures.append(measures)
            self._row.addWidget(holder, 1)
        self.spectra = PortraitView(role)
        self.spectra.setFixedHeight(190)
        self._under.addWidget(self.spectra)

    @property
    def steps(self) -> tuple[int, int]:
        """After how many treatments both are."""
        one, other = (max(0, choice.currentIndex()) for choice in self.choices)
        return one, other

    def show_facts(self, one: StepFacts, other: StepFacts) -> None:
        """Show both."""
        for strip, measures, facts in zip(self.strips, self.measures, (one, other), strict=True):
            strip.show_picture(facts.picture)
            measures.setText(
                f"{number(facts.lufs, '.1f')} LUFS · peak {number(facts.peak_db, '.1f')} dBTP · "
                f"mono loses {max(facts.mono_loss_db, 0):.1f} dB"
            )
        assert self.spectra is not None
        self.spectra.show_portrait(spectra_portrait(one, other))
        self.says.setText(f"Loudness matched, {difference(one, other)}.")

    def show_place(self, share: float) -> None:
        """Move the playheads."""
        for strip in self.strips:
            strip.show_place(share)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
