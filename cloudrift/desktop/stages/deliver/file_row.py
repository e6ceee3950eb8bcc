"""A file that would be written: name, contents, length, size, its sound over time."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy

from cloudrift.audio.spectrum import energy_curve
from cloudrift.deliver.making import Sound
from cloudrift.deliver.order import Order
from cloudrift.deliver.parcel import Parcel
from cloudrift.desktop.kit.look import SEMI, color, figure_font, text_font
from cloudrift.ground.words import number

HIGH, PICTURE_PX, COLUMNS = 58, 132, 66
QUIET_DB = -48.0  # of the loudest moment; below, there is no height
# Bits a second of what is not exact, and how much of its samples a lossless file has.
LOSSY_BITS_S, LOSSLESS = {"ogg": 160_000, "mp3": 256_000}, {"wav": 1.0, "flac": 0.6}


@dataclass(frozen=True)
class FileFacts:
    """What is known of a sound file before it is written: seconds, and heights from 0 to 1."""

    seconds: float
    heights: NDArray[np.float32] | None


def facts_of_sound(sound: Sound, rate: int) -> FileFacts:
    """Measure what a file would hold."""
    curve = energy_curve(sound.audio, COLUMNS)
    top = float(curve.max(initial=0.0))
    heights = np.zeros(COLUMNS, np.float32)
    if top > 0:
        db = 20 * np.log10(np.maximum(curve, 1e-9) / top)
        heights = np.clip(1 - db / QUIET_DB, 0, 1).astype(np.float32)
    return FileFacts(sound.audio.shape[1] / rate, heights)


def size_text(seconds: float, order: Order, rate: int) -> str:
    """Say how large a sound file becomes: to the kilobyte where it is exact, else about."""
    name = order.format_name
    if name in LOSSY_BITS_S:
        size = seconds * LOSSY_BITS_S[name] / 8
    else:
        size = seconds * (order.rate or rate) * 2 * order.bits / 8 * LOSSLESS[name]
    about = "" if name == "wav" else "about "
    return (
        f"{about}{number(size / 1e6, '.1f')} MB" if size >= 1e5 else f"{about}{size / 1e3:.0f} kB"
    )


class FileRow(QAbstractButton):
    """Press it to hear the file; drag it out to have it."""

    def __init__(self, parcel: Parcel, key: str, role: str) -> None:
        super().__init__()
        self.parcel, self._key, self._role = parcel, key, role
        self._facts: FileFacts | None = None
        self._says = ""
        self._heard = False
        self.setText(parcel.name)
        self.setFixedHeight(HIGH)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        hear = "Click to hear it. " if parcel.sound is not None else ""
        self.setToolTip(f"{parcel.name}\n{parcel.what}\n{hear}Drag it into a folder or another "
                        "program: it is rendered on drop")  # fmt: skip
        self._name_for_readers()

    def show_facts(self, facts: FileFacts, says: str) -> None:
        """Show what was measured, and in words how long and large it is."""
        self._facts, self._says = facts, says
        self._name_for_readers()
        self.update()

    def show_heard(self, *, on: bool) -> None:
        """Show whether it is what plays."""
        self._heard = on
        self._name_for_readers()
        self.update()

    def _name_for_readers(self) -> None:
        heard = ", plays" if self._heard else ""
        says = f", {self._says}" if self._says else ""
        self.setAccessibleName(f"{self.parcel.name}: {self.parcel.what}{says}{heard}")

    def sizeHint(self) -> QSize:
        return QSize(360, HIGH)

    def minimumSizeHint(self) -> QSize:
        return QSize(220, HIGH)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        edge = "focus" if self.hasFocus() else "signal" if self._heard else "line"
        painter.setPen(QPen(color(edge), 2 if self.hasFocus() or self._heard else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 5, 5)
        heights = self._facts.heights if self._facts is not None else None
        picture = heights is not None and box.width() > 2 * PICTURE_PX
        inner = box.adjusted(11, 5, -11 - (PICTURE_PX + 8 if picture else 0), -5)
        lines = (
            (self.parcel.name, figure_font(11.5, SEMI), "ink"),
            (self.parcel.what, text_font(11), "ink_soft"),
            (" · ".join(x for x in (self._says, self._key) if x), text_font(11), "ink_soft"),
        )
        for i, (words, font, tone) in enumerate(lines):
            painter.setFont(font)
            painter.setPen(color(tone))
            cut = painter.fontMetrics().elidedText(
                words, Qt.TextElideMode.ElideMiddle if i == 0 else Qt.TextElideMode.ElideRight,
                int(inner.width()),
            )  # fmt: skip
            painter.drawText(QPointF(inner.left(), inner.top() + 12 + 16 * i), cut)
        if picture and heights is not None:
            place = QRectF(box.right() - PICTURE_PX - 11, box.top() + 9, PICTURE_PX, HIGH - 20)
            self._paint_heights(painter, place, heights)

    def _paint_heights(self, painter: QPainter, box: QRectF, heights: NDArray[np.float32]) -> None:
        xs = np.linspace(box.left(), box.right(), len(heights))
        shape = [QPointF(x, box.bottom() - box.height() * float(y))
                 for x, y in zip(xs, heights, strict=True)]  # fmt: skip
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color(self._role, 0.62))
        painter.drawPolygon(QPolygonF([*shape, box.bottomRight(), box.bottomLeft()]))
