"""The heading's tiles and the small editors of tempo, length and style that they open."""

from collections.abc import Callable

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton

from cloudrift.desktop.kit.choice_box import ChoiceBox
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.look import SEMI, color, text_font
from cloudrift.desktop.kit.parts import button, heading, label
from cloudrift.desktop.kit.popup import Popup
from cloudrift.desktop.session.session import Session
from cloudrift.ground.settings import Field
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.metre import METRES, metre_text, metre_words, set_metre
from cloudrift.loop.model import spec
from cloudrift.style import known_cards

TEMPO = Field(
    name="tempo",
    label="Tempo",
    default=120,
    unit="BPM",
    low=spec.MIN_TEMPO_BPM,
    high=spec.MAX_TEMPO_BPM,
    step=0.5,
)
BARS = Field(
    name="bars",
    label="Length",
    default=8,
    unit="bars",
    low=spec.MIN_BARS,
    high=spec.MAX_BARS,
    step=1,
)


WIDEST_PX = 190


class Tile(QAbstractButton):
    """A large value with a line under it; the line is in the signal colour when it differs."""

    def __init__(self, name: str, width: int) -> None:
        super().__init__()
        self._name, self._least = name, width
        self.setFixedHeight(46)
        self.setMinimumWidth(width)
        self.setToolTip(f"{name}: click to change")
        self._main = self._differs = self._under = ""

    def show_text(self, main: str, differs: str, under: str) -> None:
        """Show a value and, under it, what differs from it or else a plain remark."""
        if (main, differs, under) == (self._main, self._differs, self._under):
            return
        self._main, self._differs, self._under = main, differs, under
        self.setAccessibleName(f"{self._name}: {main}, {differs or under}")
        # What differs is not cut off, within reason.
        wide = QFontMetrics(text_font(11)).horizontalAdvance(differs) + 17
        self.setMinimumWidth(max(self._least, min(wide, WIDEST_PX)))
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


class MetreChoice(ChoiceBox):
    """Every metre there is; ``chosen`` carries its beats and their unit."""

    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Metre")
        for metre in METRES:
            self.addItem(metre_text(metre), metre)
        self.activated.connect(lambda _i: self.chosen.emit(self.currentData()))

    def show_choice(self, metre: tuple[int, int]) -> None:
        """Show a metre; nothing is emitted."""
        self.setCurrentIndex(METRES.index(metre))


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
    remark = label(words, size=11.5, name="soft", wrap=True)
    popup.body.addWidget(remark)
    popup.first = widget
    return popup


def open_tempo(tile: Tile, session: Session) -> Popup:
    """Open the tempo editor."""

    def put(value: float) -> None:
        session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, value), merge="tempo")

    words = "The written tempo; drag, scroll or type. Notes follow at once."
    popup = _field_popup(tile, session, TEMPO, session.loop.tempo, put, words)
    popup.open()
    return popup


def open_length(tile: Tile, session: Session) -> Popup:
    """Open the editor of length and metre."""

    def put(value: float) -> None:
        session.apply("length", lambda loop: loop_edits.set_bars(loop, int(value)), merge="length")

    words = "Shorter cuts off the end, longer repeats the loop."
    popup = _field_popup(tile, session, BARS, session.loop.bars, put, words)
    popup.body.addWidget(heading("Metre"))
    metre = MetreChoice()
    metre.show_choice(session.loop.metre)
    popup.body.addWidget(metre)
    does = label("", size=11.5, name="soft", wrap=True)
    popup.body.addWidget(does)
    put_metre = button("Use this metre", lambda: None)
    popup.body.addWidget(put_metre)

    def show() -> None:
        wanted = metre.currentData()
        other = wanted != session.loop.metre
        put_metre.setEnabled(other)
        does.setText(
            metre_words(session.loop, wanted)
            if other
            else "The number of bars and the tempo stay; beats are added or removed at the ends "
            "of bars."
        )
        popup.fit()

    def change() -> None:
        wanted = metre.currentData()
        session.apply(f"metre {metre_text(wanted)}", lambda loop: set_metre(loop, wanted))
        show()

    metre.currentIndexChanged.connect(lambda _i: show())
    put_metre.clicked.connect(change)
    show()
    popup.open()
    return popup


def open_style(tile: Tile, session: Session) -> Popup:
    """Open the loop's style card: what it says, another one, and the way to another loop."""
    popup = Popup(tile, 290)
    popup.body.addWidget(heading("Style card"))
    choice = ChoiceBox("Style card")
    choice.addItem("No style", "")
    own, cards = session.loop.style, known_cards()
    for name in dict.fromkeys([*cards, *([own] if own else [])]):
        choice.addItem(name, name)
    choice.setCurrentIndex(choice.findData(own))
    popup.body.addWidget(choice)
    about = label("", size=12, name="soft", wrap=True)
    popup.body.addWidget(about)
    does = label(
        "Changing the card leaves the loop as it is. From then on it suggests progressions and "
        "next chords, voices what you type, and measures the loop.",
        size=11.5,
        name="soft",
        wrap=True,
    )
    popup.body.addWidget(does)

    def show() -> None:
        name = choice.currentData()
        card = cards.get(name)
        if card:
            about.setText(
                f"{card.about}\n{card.tempo.low:g} to {card.tempo.high:g} BPM, usually "
                f"{card.tempo.usual:g} BPM\nScales: {', '.join(card.key.modes)}"
            )
        else:
            about.setText("This card is not installed." if name else "No style card.")
        popup.fit()

    def put(_at: int) -> None:
        name = choice.currentData()
        session.apply(f"style card {name or 'none'}", lambda loop: loop_edits.set_style(loop, name))
        show()

    choice.activated.connect(put)
    show()

    def start() -> None:
        popup.close()
        tile.window().start_loop()  # type: ignore[union-attr]

    def marks() -> None:
        popup.close()
        tile.window().open_style()  # type: ignore[union-attr]

    popup.body.addWidget(button("Its marks and moves", marks))
    popup.body.addWidget(button("Start another loop…", start))
    popup.open()
    return popup
