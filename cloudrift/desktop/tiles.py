"""The heading's tiles and the small editors of tempo, length and style that they open."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton, QFrame, QVBoxLayout, QWidget

from cloudrift.desktop.field import FieldWidget
from cloudrift.desktop.look import SEMI, color, text_font
from cloudrift.desktop.parts import button, heading, label
from cloudrift.desktop.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop import edits, spec
from cloudrift.style import house_cards

TEMPO = Field(name="tempo", label="Tempo", default=120, unit="BPM", low=spec.MIN_TEMPO_BPM,
              high=spec.MAX_TEMPO_BPM, step=0.5)  # fmt: skip
BARS = Field(name="bars", label="Length", default=8, unit="bars", low=spec.MIN_BARS,
             high=spec.MAX_BARS, step=1)  # fmt: skip


class Tile(QAbstractButton):
    """A large value with a line under it; the line is in the signal colour when it differs."""

    def __init__(self, name: str, width: int) -> None:
        super().__init__()
        self._name = name
        self.setFixedHeight(46)
        self.setMinimumWidth(width)
        self.setToolTip(f"{name}: press to change")
        self._main = self._differs = self._under = ""

    def show_text(self, main: str, differs: str, under: str) -> None:
        """Show a value and, under it, what differs from it or else a plain remark."""
        if (main, differs, under) == (self._main, self._differs, self._under):
            return
        self._main, self._differs, self._under = main, differs, under
        self.setAccessibleName(f"{self._name}: {main}, {differs or under}")
        self.update()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        on = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(color("focus" if on else "line"), 2 if self.hasFocus() else 1))
        painter.setBrush(color("card"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(1, 1, -1, -1), 5, 5)
        inner = QRectF(self.rect()).adjusted(9, 5, -6, -5)
        metrics_width = int(inner.width())
        painter.setPen(color("ink"))
        painter.setFont(text_font(13.5, SEMI))
        main = painter.fontMetrics().elidedText(
            self._main, Qt.TextElideMode.ElideRight, metrics_width
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, main)
        painter.setPen(color("signal" if self._differs else "ink_soft"))
        painter.setFont(text_font(11))
        under = painter.fontMetrics().elidedText(
            self._differs or self._under, Qt.TextElideMode.ElideRight, metrics_width
        )
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, under)


class Popup(QFrame):
    """A small editor under a tile; Esc and a press elsewhere close it."""

    def __init__(self, owner: QWidget, width: int) -> None:
        super().__init__(owner.window(), Qt.WindowType.Popup)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setObjectName("panel")
        self.setFixedWidth(width)
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(12, 10, 12, 12)
        self.body.setSpacing(7)
        self._owner = owner

    def open(self) -> None:
        """Show it below its owner."""
        layout = self.layout()
        if layout is not None and layout.hasHeightForWidth():  # lines of text that wrap
            self.setFixedHeight(layout.totalHeightForWidth(self.width()))
        else:
            self.adjustSize()
        self.move(self._owner.mapToGlobal(self._owner.rect().bottomLeft()))
        self.show()


def _field_popup(
    tile: Tile,
    session: Session,
    field: Field,
    value: float,
    put: Callable[[float], None],
    words: str,
) -> Popup:
    popup = Popup(tile, 240)
    widget = FieldWidget(field, value)
    widget.edited.connect(put)
    widget.settled.connect(session.end_drag)
    popup.body.addWidget(heading(field.label))
    popup.body.addWidget(widget)
    remark = label(words, size=11.5, name="soft")
    remark.setWordWrap(True)
    popup.body.addWidget(remark)
    popup.open()
    widget.setFocus()
    return popup


def open_tempo(tile: Tile, session: Session) -> Popup:
    """Open the tempo editor."""

    def put(value: float) -> None:
        session.apply("tempo", lambda loop: edits.set_tempo(loop, value), merge="tempo")

    words = "What is written; drag, scroll, or type a number. Notes follow at once."
    return _field_popup(tile, session, TEMPO, session.loop.tempo, put, words)


def open_length(tile: Tile, session: Session) -> Popup:
    """Open the length editor."""

    def put(value: float) -> None:
        session.apply("length", lambda loop: edits.set_bars(loop, int(value)), merge="length")

    beats, unit = session.loop.metre
    words = f"In {beats}/{unit}. Shorter cuts the end off, longer repeats what is there."
    return _field_popup(tile, session, BARS, session.loop.bars, put, words)


def open_style(tile: Tile, session: Session) -> Popup:
    """Open what the style card says, and the way to another loop from it."""
    popup = Popup(tile, 270)
    loop = session.loop
    card = house_cards().get(loop.style)
    popup.body.addWidget(heading(loop.style or "No style card"))
    about = card.about if card else "This loop was not sketched from a card that ships here."
    words = label(about, size=12, name="soft")
    words.setWordWrap(True)
    popup.body.addWidget(words)
    if card:
        popup.body.addWidget(label(f"{card.tempo.low:g} to {card.tempo.high:g} BPM, usually "
                                   f"{card.tempo.usual:g} BPM", size=12))  # fmt: skip
        popup.body.addWidget(label("Scales: " + ", ".join(card.key.modes), size=12))

    def start() -> None:
        popup.close()
        tile.window().start_loop()  # type: ignore[union-attr]

    popup.body.addWidget(button("Start another loop…", start))
    popup.open()
    return popup
