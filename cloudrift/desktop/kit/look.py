"""How it looks: colours, type, and the one place where a theme is chosen."""

import contextlib
import functools
from collections.abc import Iterator
from dataclasses import dataclass, fields
from importlib import resources

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

TEXT_FAMILIES = ["Manrope", "Cloudrift Signs"]  # ♯ ♭ ♮ come from the second
FIGURE_FAMILIES = ["JetBrains Mono", "Cloudrift Signs"]


@dataclass(frozen=True, kw_only=True)
class Tokens:
    """The colours of a theme by what they mean."""

    sky: str
    paper: str
    card: str
    ink: str
    ink_soft: str
    line: str
    hair: str
    lane: str
    signal: str
    focus: str
    focus_soft: str
    good: str
    warn: str
    on_ink: str
    keys: str
    pad: str
    pluck: str
    lead: str
    strings: str
    voice: str
    bass: str
    bell: str
    grain: str

    def color(self, name: str, alpha: float = 1.0) -> QColor:
        """Return a token as a colour, with an opacity from 0 to 1."""
        color = QColor(getattr(self, name))
        color.setAlphaF(alpha)
        return color


DAYBREAK = Tokens(
    sky="#DCE4E7",
    paper="#F5F8F8",
    card="#FFFFFF",
    ink="#15232B",
    ink_soft="#546873",
    line="#C2CED3",
    hair="#D8E0E3",
    lane="#CED8DC",
    signal="#D4452A",
    focus="#0B6A93",
    focus_soft="#D9E9F0",
    good="#2A7553",
    warn="#A86C00",
    on_ink="#FFFFFF",
    keys="#2E7F87",
    pad="#6A79B5",
    pluck="#B9851C",
    lead="#B2466A",
    strings="#5B8A47",
    voice="#8A59A5",
    bass="#40525E",
    bell="#3590BF",
    grain="#8A7F71",
)
NIGHTFALL = Tokens(
    sky="#0E161B",
    paper="#17222A",
    card="#1F2C35",
    ink="#E6EEF1",
    ink_soft="#9DB1BB",
    line="#3A4B56",
    hair="#2A3943",
    lane="#30434F",
    signal="#FF7D62",
    focus="#5FB8E0",
    focus_soft="#1D3A4A",
    good="#63BD95",
    warn="#E0A33A",
    on_ink="#10191F",
    keys="#4FAAB2",
    pad="#93A0DA",
    pluck="#DDAA44",
    lead="#DC7798",
    strings="#86B870",
    voice="#B587D0",
    bass="#8FA5B3",
    bell="#62B4DE",
    grain="#B5A998",
)
THEMES = {"Daybreak": DAYBREAK, "Nightfall": NIGHTFALL}


class _Look:
    """The theme in use. Widgets read it while painting."""

    def __init__(self) -> None:
        self.name = "Daybreak"
        self.tokens = DAYBREAK


look = _Look()


def color(name: str, alpha: float = 1.0) -> QColor:
    """Return a colour of the theme in use."""
    return _color(look.name, name, alpha)


@functools.cache
def _color(theme: str, name: str, alpha: float) -> QColor:
    return THEMES[theme].color(name, alpha)


def text_font(pixels: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the text face at a size in pixels."""
    font = QFont()
    font.setFamilies(TEXT_FAMILIES)
    font.setPixelSize(round(pixels))
    font.setWeight(weight)
    return font


def figure_font(pixels: float, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the face for figures, all of one width."""
    font = QFont()
    font.setFamilies(FIGURE_FAMILIES)
    font.setPixelSize(round(pixels))
    font.setWeight(weight)
    return font


MEDIUM = QFont.Weight.Medium
SEMI = QFont.Weight.DemiBold


def load_fonts() -> None:
    """Make the shipped faces known."""
    folder = resources.files("cloudrift.desktop") / "fonts"
    for file in folder.iterdir():
        if file.name.endswith(".ttf"):
            QFontDatabase.addApplicationFontFromData(file.read_bytes())


def apply(app: QApplication, name: str) -> None:
    """Put the application into a theme; every widget repaints.

    The style sheet is taken off first: with it each step is taken by every widget again, and all
    of it takes three times as long. For the same reason no widget has a sheet of its own.
    """
    app.setStyleSheet("")
    look.name, look.tokens = name, THEMES[name]
    t = look.tokens
    palette = QPalette()
    for role, token in {
        QPalette.ColorRole.Window: t.sky,
        QPalette.ColorRole.Base: t.card,
        QPalette.ColorRole.AlternateBase: t.paper,
        QPalette.ColorRole.Button: t.card,
        QPalette.ColorRole.WindowText: t.ink,
        QPalette.ColorRole.Text: t.ink,
        QPalette.ColorRole.ButtonText: t.ink,
        QPalette.ColorRole.Highlight: t.focus,
        QPalette.ColorRole.HighlightedText: t.on_ink,
        QPalette.ColorRole.ToolTipBase: t.ink,
        QPalette.ColorRole.ToolTipText: t.on_ink,
        QPalette.ColorRole.PlaceholderText: t.ink_soft,
        QPalette.ColorRole.Link: t.focus,
    }.items():
        palette.setColor(role, QColor(token))
    palette.setColor(
        QPalette.ColorGroup.Disabled, QPalette.ColorRole.ButtonText, QColor(t.ink_soft)
    )
    app.setPalette(palette)
    app.setFont(text_font(13))
    app.setStyleSheet(_sheet(t))


@contextlib.contextmanager
def once_built(app: QApplication) -> Iterator[None]:
    """Style what is built meanwhile once, when it stands.

    Each widget that is put into another is styled again with all that is in it: while a window is
    put together that is most of the work.
    """
    sheet = app.styleSheet()
    app.setStyleSheet("")
    try:
        yield
    finally:
        app.setStyleSheet(sheet)


def _sheet(t: Tokens) -> str:
    values = {f.name: getattr(t, f.name) for f in fields(t)}
    sheet = SHEET
    for name, value in sorted(values.items(), key=lambda item: -len(item[0])):
        sheet = sheet.replace(f"@{name};", f"{value};").replace(f"@{name} ", f"{value} ")
    return sheet


def theme_of(app: QApplication, wanted: str) -> str:
    """Return the theme that is wanted; where none is, the one that the desktop is in."""
    hints = app.styleHints()
    dark = hints is not None and hints.colorScheme().name == "Dark"
    return wanted or ("Nightfall" if dark else "Daybreak")


SHEET = """
QWidget { color: @ink; }
QMainWindow, QDialog { background: @sky; }
QMenuBar { background: @paper; border-bottom: 1px solid @hair; padding: 1px 8px; }
QMenuBar::item { padding: 3px 9px; border-radius: 4px; }
QMenuBar::item:selected { background: @focus_soft; }
QMenu { background: @card; border: 1px solid @line; padding: 4px; }
QMenu::item { padding: 5px 22px 5px 12px; border-radius: 4px; }
QMenu::item:selected { background: @focus; color: @on_ink; }
QMenu::item:disabled { color: @ink_soft; }
QMenu::separator { height: 1px; background: @hair; margin: 4px 6px; }
QFrame#panel { background: @paper; border: 1px solid @line; border-radius: 6px; }
QFrame#rule { background: @line; border: none; }
QFrame#rail { background: @paper; border: none; border-right: 1px solid @hair; }
QFrame#card { background: @card; border: 1px solid @line; border-radius: 5px; }
QFrame#cardSelected { background: @card; border: 2px solid @ink; border-radius: 5px; }
QLabel#soft { color: @ink_soft; }
QLabel#signal { color: @signal; }
QLabel#good { color: @good; }
QLabel#warn { color: @warn; }
QPushButton { background: @card; border: 1px solid @line; border-radius: 5px;
  padding: 4px 11px; min-height: 19px; }
QPushButton:hover { border-color: @ink_soft; }
QPushButton:focus { border: 2px solid @focus; padding: 3px 10px; }
QPushButton:checked { background: @focus; color: @on_ink; border-color: @focus; }
QPushButton:checked:focus { border: 2px solid @ink; }
QPushButton:disabled { color: @ink_soft; background: @paper; }
QPushButton#strong { background: @ink; color: @on_ink; border-color: @ink; font-weight: 600; }
QPushButton#strong:focus { border: 2px solid @focus; }
QPushButton#strong:disabled { background: @line; color: @ink_soft; border-color: @line; }
QPushButton#link { background: transparent; border: 1px solid transparent; color: @focus;
  padding: 2px 4px; text-align: left; }
QPushButton#link:checked { background: transparent; color: @focus; }
QPushButton#link:hover { text-decoration: underline; }
QPushButton#link:focus { border: 1px solid @focus; }
QLineEdit, QComboBox, QSpinBox, QListWidget, QPlainTextEdit { background: @card;
  border: 1px solid @line; border-radius: 5px; padding: 4px 8px; min-height: 20px;
  selection-background-color: @focus; selection-color: @on_ink; }
QLineEdit:focus, QComboBox:focus, QListWidget:focus { border: 2px solid @focus; padding: 3px 7px; }
QComboBox::drop-down { border: none; width: 18px; }
QComboBox QAbstractItemView { background: @card; border: 1px solid @line;
  selection-background-color: @focus; selection-color: @on_ink; }
QListWidget::item { padding: 5px 6px; border-radius: 4px; }
QListWidget::item:selected { background: @focus_soft; color: @ink; }
QTreeWidget { background: @card; border: 1px solid @line; border-radius: 5px;
  alternate-background-color: @paper; selection-background-color: @focus_soft;
  selection-color: @ink; }
QTreeWidget:focus { border: 2px solid @focus; }
QTreeWidget::item { padding: 3px 4px; }
QTreeWidget::item:selected { background: @focus_soft; color: @ink; }
QHeaderView::section { background: @paper; color: @ink_soft; border: none;
  border-bottom: 1px solid @line; padding: 3px 6px; }
QScrollArea { border: none; background: transparent; }
QScrollArea > QWidget > QWidget { background: transparent; }
QScrollBar:vertical { background: transparent; width: 9px; margin: 0; }
QScrollBar::handle:vertical { background: @line; border-radius: 4px; min-height: 30px; }
QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
QProgressBar { background: @hair; border: none; border-radius: 4px; height: 8px; }
QProgressBar::chunk { background: @good; border-radius: 4px; }
QCheckBox { spacing: 8px; min-height: 24px; }
QCheckBox:focus { color: @focus; }
QCheckBox::indicator { width: 12px; height: 12px; border: 1px solid @ink_soft; border-radius: 3px;
  background: @card; }
QCheckBox::indicator:checked { background: @focus; border: 1px solid @focus; }
QCheckBox::indicator:focus { border: 2px solid @focus; width: 10px; height: 10px; }
QPushButton[fit="small"], QComboBox[fit="small"] { padding: 0px 6px; min-height: 22px;
  min-width: 10px; }
QPushButton[fit="narrow"] { padding: 3px 4px; min-width: 14px; }
QPushButton[fit="narrow"]:focus { padding: 2px 3px; }
QPushButton[fit="line"] { text-align: left; padding: 2px 8px; }
QPushButton[fit="card"] { text-align: left; padding: 7px 12px; }
QLineEdit[fit="title"] { background: transparent; border: 1px solid transparent; padding: 0 2px; }
QLineEdit[fit="title"]:focus { border: 1px solid @focus; padding: 0 2px; }
QLabel#said, QLabel#saidWell { background: @signal; color: @on_ink; padding: 6px 14px;
  font-weight: 600; border-radius: 6px; }
QLabel#saidWell { background: @good; }
QToolTip { background: @ink; color: @on_ink; border: none; padding: 4px 6px; }
"""
