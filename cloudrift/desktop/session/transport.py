"""Playing: the player, the speaker that it plays through, and the click beside it."""

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.devices import Speaker
from cloudrift.render.player import Player


class Transport(QObject):
    """Plays or stands."""

    playing_changed = pyqtSignal(bool)
    click_changed = pyqtSignal()

    def __init__(self, rate: int, speaker: Speaker, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.player = Player(rate)  # the speaker keeps the rate it was opened with
        self.speaker = speaker
        self.click = False

    def start(self) -> None:
        """Let the speaker ask the player for sound from now on."""
        self.speaker.start(self.player.pull)

    def use_speaker(self, speaker: Speaker) -> None:
        """Play through another speaker from now on; the one before has been closed."""
        self.speaker = speaker
        self.player.reset_clock()
        self.start()

    def set_click(self, on: bool) -> None:
        """Let a click be heard with the loop, or not."""
        self.click = on
        self.click_changed.emit()

    def set_playing(self, on: bool) -> None:
        """Play or stop."""
        if on:
            self.player.play()
        else:
            self.player.stop()
        self.playing_changed.emit(on)

    def toggle(self) -> None:
        """Play if it stands, stop if it plays."""
        self.set_playing(not self.player.playing)

    def rewind(self) -> None:
        """Go to the beginning, and round the whole loop."""
        self.player.hear_part(0, 1)
        self.player.seek(0)
