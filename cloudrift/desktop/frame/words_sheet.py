"""Help: our few own words on one page, with their pictures."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.own_words import OWN_WORDS, WordPicture
from cloudrift.desktop.kit.parts import close_line, heading, label, scrolling


class WordsSheet(QDialog):
    """Stands beside the window; the work goes on."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Words of our own")
        self.resize(640, 560)
        inside = QWidget()
        lines = vertical(inside, (4, 4, 12, 4), 14)
        for one in OWN_WORDS.values():
            words, line = vertical(spacing=2), horizontal(spacing=14)
            fill(words, heading(one.word.capitalize()), label(one.says, size=12, wrap=True), 1)
            line.addWidget(WordPicture(one), 0, Qt.AlignmentFlag.AlignTop)
            line.addLayout(words, 1)
            lines.addLayout(line)
        lines.addStretch(1)
        column = vertical(self)
        fill(column, (scrolling(inside), 1), close_line(self))
