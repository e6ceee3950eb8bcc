"""Two strips side by side, large, with their spectra laid over each other."""

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from cloudrift.desktop.kit.parts import label
from cloudrift.desktop.stages.texture.back_page import BackPage
from cloudrift.desktop.stages.texture.portrait_view import PortraitView
from cloudrift.desktop.stages.texture.strip import Strip
from cloudrift.ground.settings import hz_text
from cloudrift.ground.words import number
from cloudrift.render.step_facts import BANDS_HZ, StepFacts
from cloudrift.texture.portrait import Axis, Portrait
from cloudrift.texture.treatment import Line

FLOOR_DB = -90.0
SMOOTH = 3  # bands to either side: together three quarters of an octave


def step_names(line: Line) -> list[str]:
    """Return what the places of a line are called, from bare down."""
    return ["Coming in", *(f"{i}. {t.of.label}" for i, t in enumerate(line, 1))]


def _balance(facts: StepFacts) -> np.ndarray:
    """A mean spectrum smoothed over three quarters of an octave, in dB: balance, not partials."""
    power = 10 ** (facts.spectrum_db / 10)
    padded = np.pad(power, SMOOTH, mode="edge")
    total = np.concatenate([[0.0], np.cumsum(padded)])
    size = 2 * SMOOTH + 1
    return np.asarray(10 * np.log10((total[size:] - total[:-size]) / size))


def spectra_portrait(one: StepFacts, other: StepFacts) -> Portrait:
    """Return both mean spectra over one axis, matched in loudness: the second is turned."""
    middles = np.sqrt(BANDS_HZ[1:] * BANDS_HZ[:-1])
    plain, turned = _balance(one), _balance(other) + (one.lufs - other.lufs)
    top = float(np.ceil(max(plain.max(), turned.max()) / 10) * 10)
    return Portrait(
        title="mean spectra, equally loud: left drawn through, right dashed", x=middles,
        curves=(np.maximum(plain, FLOOR_DB), np.maximum(turned, FLOOR_DB)),
        x_axis=Axis(low=float(BANDS_HZ[0]), high=float(BANDS_HZ[-1]), log=True,
                    marks=tuple((hz, hz_text(hz)) for hz in (100.0, 1000.0, 10_000.0))),
        y_axis=Axis(low=top - 70, high=top,
                    marks=tuple((top - d, f"{number(top - d, '.0f')} dB")
                                for d in (0, 20, 40, 60))),
    )  # fmt: skip


def difference(one: StepFacts, other: StepFacts) -> str:
    """Say where two sounds differ most when they are equally loud, and by how much."""
    middles = np.sqrt(BANDS_HZ[1:] * BANDS_HZ[:-1])
    plain, turned = _balance(one), _balance(other) + (one.lufs - other.lufs)
    loud = np.maximum(plain, turned) > plain.max() - 30
    away = turned - plain
    away = np.where(loud, away, 0)
    most, least = int(away.argmax()), int(away.argmin())
    parts = []
    if away[most] > 1:
        parts.append(f"the right has {away[most]:.1f} dB more at {hz_text(float(middles[most]))}")
    if away[least] < -1:
        parts.append(f"{-away[least]:.1f} dB less at {hz_text(float(middles[least]))}")
    return " and ".join(parts) or "the same balance within 1 dB"


class PairPage(BackPage):
    """``asked`` is emitted when another pair is wanted, ``pressed`` carries the step to hear."""

    asked = pyqtSignal()
    pressed = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__("Two strips side by side")
        column = self.column
        self._row = QHBoxLayout()
        self._row.setSpacing(10)
        self.choices: list[QComboBox] = []
        self.strips: list[Strip] = []
        self.measures: list[QLabel] = []
        column.addLayout(self._row, 3)
        self.spectra: PortraitView | None = None
        self._under = QVBoxLayout()
        column.addLayout(self._under, 2)
        self.says = label("", size=12)
        self.says.setWordWrap(True)
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
            inside = QVBoxLayout(holder)
            inside.setContentsMargins(0, 0, 0, 0)
            inside.setSpacing(4)
            choice = QComboBox()
            choice.setAccessibleName(f"What stands at the {side}")
            choice.currentIndexChanged.connect(lambda _i: self.asked.emit())
            strip = Strip(role, f"the {side} one")
            strip.pressed.connect(lambda n=which: self.pressed.emit(self.steps[n]))
            measures = label("", size=11.5, name="soft")
            measures.setWordWrap(True)
            inside.addWidget(choice)
            inside.addWidget(strip, 1)
            inside.addWidget(measures)
            self.choices.append(choice)
            self.strips.append(strip)
            self.measures.append(measures)
            self._row.addWidget(holder, 1)
        self.spectra = PortraitView(role)
        self.spectra.setFixedHeight(190)
        self._under.addWidget(self.spectra)

    @property
    def steps(self) -> tuple[int, int]:
        """Behind how many treatments both are."""
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
        self.says.setText(f"Equally loud, {difference(one, other)}.")

    def show_place(self, share: float) -> None:
        """Move the playheads."""
        for strip in self.strips:
            strip.show_place(share)
