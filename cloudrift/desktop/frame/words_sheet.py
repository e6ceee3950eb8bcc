"""Help: our few own words on one page, with pictures of those that head a panel."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QDialog, QWidget

from cloudrift.desktop.kit.layouts import fill, horizontal, vertical
from cloudrift.desktop.kit.own_words import OWN_WORDS, WordPicture
from cloudrift.desktop.kit.parts import close_line, heading, label, scrolling

# Our other words, which need no picture.
MORE_WORDS = {
    "bare / treated": (
        "Bare is the sound before treatments, treated after them. B compares the two at the same "
        "loudness."
    ),
    "card move": (
        "A move is a habit of a style card as one click: an edit of the loop. Rest on one to hear "
        "it."
    ),
    "change": (
        "A change is an edit that would meet a mark or solve a check. Rest on it to hear it, "
        "click it to apply it."
    ),
    "exchange": (
        "The exchange is an outside library of recordings, searched by word, key and tempo. What "
        "ships is a stand-in."
    ),
    "fit": (
        "Fit is how a recording follows the loop's tempo: as it is, stretched, like tape, or beat "
        "by beat. Its own tempo is in its inspector."
    ),
    "flip": (
        "A flip is a print cut into pieces and set in a new order. It plays as a layer, or "
        "instead of what it was printed from."
    ),
    "form": ("A form is an order of sections with what plays in each. It suggests an arrangement."),
    "hit lane": (
        "A hit lane is one drum of the groove bed, its hits drawn as strokes. The higher a "
        "stroke, the louder the hit."
    ),
    "kit": (
        "A kit is a folder of loops with one cover and one rights sheet. It is compared at one "
        "loudness and exported as one."
    ),
    "manner": (
        "A manner is a set of rules from which a groove is suggested. Each variation follows the "
        "loop's onsets."
    ),
    "pitch ruler": (
        "The pitch ruler shows what sounds, bar by bar, of all layers or of one. Another chord "
        "than is written is in the signal colour; hold it to hear it as plain tones."
    ),
    "rights sheet": (
        "The rights sheet lists every sound that went into a loop, with licence and author, and "
        "the people with their shares. It is exported with the loop."
    ),
    "section": (
        "A section is the loop for a number of bars, with differences of its own. A duplicate "
        "shows what differs from where it came from."
    ),
    "shelf": (
        "The shelf has the sounds at hand, yours and the house's. Rest on one to hear it in the "
        "layer's place."
    ),
    "slot": ("A slot is one step of a step effect. Click it for its next value."),
    "stage": (
        "A stage is one of the seven steps of the work, from chords to delivery. Alt+1 to Alt+7 "
        "go to them."
    ),
    "style card": (
        "A style card is a producer's style as a text file: tempo, scales, chord grammar, sounds, "
        "treatments and marks. It sketches loops and measures yours."
    ),
    "treatment": (
        "A treatment is one processor; a treatment line is a chain of them, read from top to "
        "bottom. Each row's strip shows the whole loop after it."
    ),
    "variation": (
        "A variation is one outcome of chance, with its number. The same number gives the same "
        "outcome."
    ),
    "weathering": (
        "Weathering ages the sound like tape, record, sampler or radio. Wear scales all of its "
        "settings."
    ),
    "written / sounding": (
        "Written is the key and tempo of the notes, sounding what comes out after shifts, slowing "
        "and prints. Names, checks and bass follow what sounds."
    ),
}


class WordsSheet(QDialog):
    """Stands beside the window; the work goes on."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Glossary")
        self.resize(640, 560)
        inside = QWidget()
        lines = vertical(inside, (4, 4, 12, 4), 14)
        for one in OWN_WORDS.values():
            words, line = vertical(spacing=2), horizontal(spacing=14)
            fill(words, heading(one.word.capitalize()), label(one.says, size=12, wrap=True), 1)
            line.addWidget(WordPicture(one), 0, Qt.AlignmentFlag.AlignTop)
            line.addLayout(words, 1)
            lines.addLayout(line)
        for word, says in MORE_WORDS.items():
            words = vertical(spacing=2)
            fill(words, heading(word.capitalize()), label(says, size=12, wrap=True))
            lines.addLayout(words)
        lines.addStretch(1)
        column = vertical(self)
        fill(column, (scrolling(inside), 1), close_line(self))
