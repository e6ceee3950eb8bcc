"""Sound that is played in the loop's place: it has no loop of its own on the screen."""

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.audio.buffers import Stereo
from cloudrift.desktop.session.session import Session


class SubstitutePlayback(QObject):
    """Plays sound in the loop's place until that is asked for again, or a preview comes.

    ``changed``: it is heard, or no longer.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._session = session
        self.on = False
        self._audio: Stereo | None = None
        self._turn = 1  # frames of one turn of what goes round in it
        self._gain = 1.0
        session.hearing.shown_changed.connect(self._give_way)

    @property
    def words(self) -> str:
        """What is heard, for the heading."""
        raise NotImplementedError

    def play(self, audio: Stereo, turn: int, first: float = 0.0, gain: float = 1.0) -> None:
        """Play sound, (2, frames), whose loop has that many frames, from a share of it on."""
        session = self._session
        if session.transport.long is not self:
            session.transport.hear_part(0, 1)
        self._audio, self._turn, self._gain, self.on = audio, max(1, turn), gain, True
        session.transport.long = self
        session.player.load(audio, gain)
        session.player.seek(first)
        session.transport.set_playing(True)
        session.hearing.follow_long()
        self.changed.emit()

    def swap(self, audio: Stereo, turn: int) -> None:
        """Go on where it is in other sound."""
        self._audio, self._turn = audio, max(1, turn)
        self._session.player.load(audio, self._gain)
        self.changed.emit()

    def leave(self) -> None:
        """Hear the loop again."""
        if not self.on:
            return
        transport = self._session.transport
        share = transport.share
        self.on = False
        transport.long = None
        self._session.hearing.follow_long()
        self._session.player.seek(share)
        self.changed.emit()

    def _give_way(self) -> None:
        if self._session.hearing.previewing:
            self.leave()

    # --- where it is --------------------------------------------------------------------------

    @property
    def _frames(self) -> int:
        return self._audio.shape[1] if self._audio is not None else 1

    @property
    def share(self) -> float | None:
        """Where in all of it the sound is; None while another thing is heard."""
        return self._session.player.share if self.on else None

    @property
    def frame(self) -> int:
        """Which frame of it sounds."""
        return round(self._session.player.share * self._frames)

    def inside(self, share: float) -> float:
        """Return where in the loop a place in it is (0-1)."""
        return round(share * self._frames) % self._turn / self._turn

    def outside(self, share: float) -> float:
        """Return where in it a place in the loop is, in the turn that sounds (0-1)."""
        first = self.frame // self._turn * self._turn
        return min(first + share * self._turn, self._frames - 1) / self._frames
