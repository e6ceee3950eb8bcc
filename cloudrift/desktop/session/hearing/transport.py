"""Playing: the player, the speaker that it plays through, and the click beside it."""

from collections.abc import Callable
from typing import Protocol

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from cloudrift.desktop.session.preferences import Preferences
from cloudrift.devices import Speaker, open_speaker
from cloudrift.devices.speaker import BUFFERS_MS
from cloudrift.ground.errors import CloudriftError
from cloudrift.render.play.player import Player

# A speaker that runs dry in two of so many seconds gets a longer buffer; once may be an accident.
Overhear = Callable[[NDArray[np.float32], int, int, int], None]  # (frames, 2), then a Stamp's
LOOK_MS, DRY_LOOKS, FORGOTTEN_LOOKS = 1000, 2, 10


class Long(Protocol):
    """What is heard in the loop's place, and is longer: each moment of it is one of the loop."""

    @property
    def words(self) -> str:
        """What of it is heard, in words."""

    def inside(self, share: float) -> float:
        """Return where in the loop a place in it is (0-1)."""

    def outside(self, share: float) -> float:
        """Return where in it a place in the loop is, the next one from where it sounds (0-1)."""

    def leave(self) -> None:
        """Let the loop be heard again."""


class Transport(QObject):
    """Plays or stands."""

    playing_changed = pyqtSignal(bool)
    click_changed = pyqtSignal()
    lengthened = pyqtSignal(int)  # the speaker's buffer, in ms, because it ran dry

    def __init__(
        self, rate: int, speaker: Speaker, preferences: Preferences, parent: QObject | None = None
    ) -> None:
        """``speaker`` has the buffer that is wished for."""
        super().__init__(parent)
        self.player = Player(rate)  # the speaker keeps the rate it was opened with
        self.speaker, self._preferences = speaker, preferences
        self.buffer_ms = preferences.now.buffer_ms
        self.click = False
        self.long: Long | None = None  # what is heard in the loop's place
        self.overheard: Overhear | None = None  # who else hears what the speaker is given
        self._gaps, self._dry = 0, [0] * FORGOTTEN_LOOKS
        self._looking = QTimer(self)
        self._looking.timeout.connect(self._look_for_gaps)
        self._looking.start(LOOK_MS)

    def start(self) -> None:
        """Let the speaker ask the player for sound from now on."""
        self.player.reset_clock()
        self._gaps, self._dry = self.player.gaps, [0] * FORGOTTEN_LOOKS
        self.speaker.start(self._pull)

    def _pull(self, frames: int) -> NDArray[np.float32]:
        out = self.player.pull(frames)
        if self.overheard is not None:
            stamp = self.player.stamp
            self.overheard(out, *stamp[1:])
        return out

    def open_speaker(self, name: str, buffer_ms: int) -> None:
        """Play through another speaker, or the same with another buffer, from now on.

        Raises CloudriftError where no sound can be played at all.
        """
        self.speaker.close()
        self.buffer_ms = buffer_ms
        self.speaker = open_speaker(self.player.rate, name, buffer_ms)
        self.start()

    def _look_for_gaps(self) -> None:
        """Take a longer buffer where the speaker has run dry more than once lately."""
        ran_dry = self.player.gaps > self._gaps
        self._gaps = self.player.gaps
        self._dry = [*self._dry[1:], int(ran_dry and self.player.playing)]
        longer = [ms for ms in BUFFERS_MS if ms > self.buffer_ms]
        if sum(self._dry) < DRY_LOOKS or not longer or self.speaker.silent:
            return
        try:
            self.open_speaker(self._preferences.now.speaker, longer[0])
        except CloudriftError:
            return  # it is silent now: the settings say so
        self.lengthened.emit(self.buffer_ms)

    def close(self) -> None:
        """Let the speaker go."""
        self._looking.stop()
        self.speaker.close()

    def set_click(self, on: bool) -> None:
        """Let a click be heard with the loop, or not."""
        if on:
            self.leave_long()
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

    # --- where in the loop --------------------------------------------------------------------

    @property
    def share(self) -> float:
        """Where in the loop it is (0-1), also where a longer form is heard in its place."""
        share = self.player.share
        return self.long.inside(share) if self.long else share

    def seek(self, share: float) -> None:
        """Go to a place in the loop (0-1)."""
        self.player.seek(self.long.outside(share) if self.long else share)

    def hear_part(self, start: float, end: float) -> None:
        """Let only a part of the loop turn (shares of its length); all of it for 0 to 1."""
        self.leave_long()
        self.player.hear_part(start, end)

    def leave_long(self) -> None:
        """Hear the loop, if something longer is heard in its place."""
        if self.long is not None:
            self.long.leave()

    def rewind(self) -> None:
        """Go to the beginning, and round the whole loop."""
        self.hear_part(0, 1)
        self.player.seek(0)
