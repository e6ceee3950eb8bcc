"""The line under the heading in which something is said for a while."""

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel

from cloudrift.desktop.kit.parts import set_look
from cloudrift.desktop.session.timers import single_shot
from cloudrift.ground.errors import in_a_sentence

SHOWN_MS = 9000


class MessageLine(QLabel):
    """Hidden but while something is said."""

    def __init__(self) -> None:
        super().__init__("")
        self.setTextFormat(Qt.TextFormat.PlainText)  # names in it are a stranger's words
        self.setWordWrap(True)
        self.hide()
        self._clock = single_shot(self, self.hide)

    def say(self, words: str, *, good: bool = False) -> None:
        """Say what went wrong, or what went well and is worth a word."""
        set_look(self, "saidWell" if good else "said")
        self.setText(in_a_sentence(words))
        self.show()
        self._clock.start(SHOWN_MS)
