"""The heading: name, the four tiles, transport, the compare switch, the meter."""

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFocusEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractButton, QLineEdit, QWidget

from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.desktop.kit.layouts import FLUSH, fill, horizontal, vertical
from cloudrift.desktop.kit.look import MEDIUM, SEMI, color, figure_font, text_font
from cloudrift.desktop.kit.meter import Meter
from cloudrift.desktop.kit.parts import Elided, label
from cloudrift.desktop.kit.tiles import Tile, open_length, open_style, open_tempo
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.session.session import Session
from cloudrift.ground.words import MOST_NAME, plural
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers.joining import apart_in_all, apart_words
from cloudrift.loop.sounding import heard, key_heard
from cloudrift.notes.time import position_text

HEIGHT = 62
NAMES_PX, NARROW_PX, NARROW = 206, 132, 1180  # of the names; in a heading narrower than that


class PlayButton(QAbstractButton):
    """A round button: a triangle when it stands, two bars when it plays."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(42, 42)
        self.setCheckable(True)
        self.setAccessibleName("Play or stop")
        self.setToolTip("Play or stop (Space)")

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(color("focus"), 2) if self.hasFocus() else Qt.PenStyle.NoPen)
        painter.setBrush(color("ink"))
        painter.drawEllipse(QRectF(2, 2, 38, 38))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color("on_ink"))
        if self.isChecked():
            painter.drawRect(QRectF(14.5, 14, 4.5, 14))
            painter.drawRect(QRectF(23, 14, 4.5, 14))
        else:
            painter.drawPolygon(QPolygonF([QPointF(16, 13), QPointF(16, 29), QPointF(30, 21)]))


class CompareSwitch(QWidget):
    """Bare against treated: one press, in place, at the same loudness."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(150, 29)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setToolTip("Compare bare with treated (B)")
        self.show_choice(TREATED)

    def show_choice(self, what: str, sides: tuple[str, str] = ("Bare", "Treated")) -> None:
        """Show which one is heard, and what both are called."""
        self._what, self._sides = what, sides
        heard = sides[what == TREATED]
        self.setAccessibleName(f"Compare: {heard.lower()} plays")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(150, 29)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.chosen.emit(BARE if event.position().x() < self.width() / 2 else TREATED)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.chosen.emit(BARE if event.key() == Qt.Key.Key_Left else TREATED)
        else:
            super().keyPressEvent(event)

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        painter.setPen(
            QPen(color("focus" if self.hasFocus() else "line"), 2 if self.hasFocus() else 1)
        )
        painter.setBrush(color("card"))
        painter.drawRoundedRect(box, 5, 5)
        half = box.width() / 2
        for i, (what, words) in enumerate(zip((BARE, TREATED), self._sides, strict=True)):
            side = QRectF(box.left() + i * half, box.top(), half, box.height())
            on = self._what == what
            if on:
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(color("ink"))
                painter.drawRoundedRect(side.adjusted(2, 2, -2, -2), 4, 4)
            painter.setPen(color("on_ink" if on else "ink_soft"))
            painter.setFont(text_font(12.5, SEMI if on else MEDIUM))
            painter.drawText(side, Qt.AlignmentFlag.AlignCenter, words)


class Title(QLineEdit):
    """The loop's name. Pressed for the first time it is chosen whole: what is typed stands in."""

    def __init__(self) -> None:
        super().__init__()
        self.setMaxLength(MOST_NAME)
        self._pressed = False

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        super().mousePressEvent(event)
        if not self._pressed:
            self.selectAll()
        self._pressed = True

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        self._pressed = False
        super().focusOutEvent(event)


class Heading(QWidget):
    """The top of the window."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setFixedHeight(HEIGHT)
        self.title = Title()
        self.title.setAccessibleName("Loop name")
        self.title.setFont(text_font(17, SEMI))
        self.title.setProperty("fit", "title")
        self.title.editingFinished.connect(self._rename)
        self.under = Elided(size=11, name="soft")
        self.under.setContentsMargins(4, 0, 0, 0)
        self.key = Tile("Key", 122)
        self.tempo = Tile("Tempo", 112)
        self.length = Tile("Length and metre", 70)
        self._marks = ""  # of the style card, that are met
        self.style_tile = Tile("Style card", 122)
        for tile, opener in (
            (self.key, open_key),
            (self.tempo, open_tempo),
            (self.length, open_length),
            (self.style_tile, open_style),
        ):
            tile.clicked.connect(lambda _c=False, t=tile, o=opener: o(t, session))
        self.play = PlayButton()
        self.play.clicked.connect(session.transport.toggle)
        self.position = label("1.1", size=17)
        self.position.setFont(figure_font(17, SEMI))
        self.position.setMinimumWidth(46)
        self.compare = CompareSwitch()
        self.compare.chosen.connect(session.hearing.hear)
        self.matched = Elided(size=11, name="soft")
        self.matched.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.meter = Meter(session)
        self._lay_out()
        session.settled.connect(self._show)
        session.document.saved.connect(self._show)
        session.hearing.shown_changed.connect(self._show)
        session.transport.playing_changed.connect(self.play.setChecked)
        session.hearing.changed.connect(self._show_hearing)
        session.hearing.loudness_changed.connect(self._show_hearing)
        self._show()

    def _lay_out(self) -> None:
        row = horizontal(self, (14, 6, 16, 6), 7)
        self._names = QWidget()
        fill(vertical(self._names, FLUSH, 0), self.title, self.under)
        place, comparing = QWidget(), QWidget()
        fill(vertical(place, FLUSH, 0), self.position, label("bar.beat", size=10.5, name="soft"))
        fill(vertical(comparing, FLUSH, 1), self.compare, self.matched)
        comparing.setFixedWidth(self.compare.width())
        tiles = (self.key, self.tempo, self.length, self.style_tile)
        fill(row, self._names, *tiles, self.play, place, 1, comparing, self.meter)
        # What goes where there is no room for all of it, the first first.
        self._folds = (place, self.meter, self.style_tile, self.length, self.tempo, self.key)

    def minimumSizeHint(self) -> QSize:
        return QSize(440, HEIGHT)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        """Show as much as there is room for: nothing is squeezed."""
        layout = self.layout()
        assert layout is not None
        self._names.setFixedWidth(NARROW_PX if self.width() < NARROW else NAMES_PX)
        for one in self._folds:
            one.show()
        for one in self._folds:
            layout.invalidate()
            if layout.minimumSize().width() <= self.width():
                break
            one.hide()

    def _rename(self) -> None:
        text = self.title.text()
        if text.strip() != self._session.loop.title and not self._session.apply(
            "rename the loop", lambda loop: loop_edits.set_title(loop, text)
        ):
            self.title.setText(self._session.loop.title)

    def _show(self) -> None:
        session, loop = self._session, self._session.hearing.shown
        for tile in (self.key, self.tempo, self.length, self.style_tile, self.title):
            tile.setEnabled(not session.hearing.previewing)
        if not self.title.hasFocus():
            self.title.setText(loop.title)
            self.title.setCursorPosition(0)
        sounding = key_heard(loop)
        apart = [apart_words(loop, one) for one in heard(loop).disagreements]
        differs = apart_in_all(loop)
        if sounding != loop.key:
            differs = f"sounds {sounding.text}" + (f" · {len(apart)} apart" if apart else "")
        wide = self.key.minimumWidth()
        self.key.show_text(loop.key.text, differs, "written = sounding")
        if self.key.minimumWidth() != wide:
            self._fit()
        self.key.setToolTip("\n".join(["Key: click to change", *apart]))
        tempo = loop.sounding_tempo
        moved = abs(tempo - loop.tempo) > 0.005
        self.tempo.show_text(
            f"{loop.tempo:g} BPM", f"sounds {tempo:.1f} BPM" if moved else "", "written = sounding"
        )
        self.length.show_text(plural(loop.bars, "bar"), "", f"{loop.metre[0]}/{loop.metre[1]}")
        self._show_style()
        self._show_hearing()

    def _show_style(self) -> None:
        loop = self._session.hearing.shown
        # Of another loop that is shown, the marks are not known.
        marks = "" if self._session.hearing.previewing else self._marks
        self.style_tile.show_text(
            loop.style or "no style",
            "",
            marks or (f"variation {loop.variation}" if loop.style else "style card"),
        )

    def _show_state(self) -> None:
        session, kit = self._session, self._session.hearing.shown.kit
        state = "saved" if session.document.is_saved else "unsaved"
        state = session.hearing.heard_words or state
        self.under.setText(f"kit: {kit} · {state}" if kit else state)
        self.under.setToolTip(self.under.text())

    def show_marks(self, words: str) -> None:
        """Say how much of the style card is met."""
        self._marks = words
        self._show_style()

    def _show_hearing(self) -> None:
        self._show_state()
        self.compare.show_choice(self._session.hearing.side, self._session.hearing.sides)
        session = self._session
        known = len(session.hearing.loudness) >= 2
        self.matched.setText(session.hearing.match_words if known else "")
        equal = "loudness matched" if session.hearing.match.equal else "loudness unchanged"
        words = f"{self.matched.text()}. " if known else ""
        self.matched.setToolTip(f"{words}Compared with {session.hearing.compared}, {equal}")

    def show_place(self, share: float) -> None:
        """Show where the sound is."""
        loop = self._session.hearing.shown
        text = position_text(loop.tick_at(share), loop.metre)
        if text != self.position.text():
            self.position.setText(text)
        self.meter.follow(share)
        if self._session.hearing.long:  # which section of it, and which bar
            self._show_state()

    def paintEvent(self, _event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), color("paper"))
        painter.setPen(color("line"))
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
