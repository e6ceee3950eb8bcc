"""Rest to hear: something is heard while a pointer or the focus rests on it, and not longer."""

from PyQt6.QtCore import QObject, pyqtSignal

from cloudrift.desktop.session.timers import single_shot

REST_MS = 400  # so long one rests before it is heard: passing over something is not


class Rest(QObject):
    """``rested`` comes once somebody has rested; ``left`` when they go, if it had come."""

    rested = pyqtSignal()
    left = pyqtSignal()

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._heard = False
        self._clock = single_shot(self, self._on_rested, REST_MS)

    @property
    def waiting(self) -> bool:
        """Whether somebody has come, and not rested yet."""
        return self._clock.isActive()

    @property
    def is_heard(self) -> bool:
        """Whether somebody has rested, and not gone yet."""
        return self._heard

    def come(self) -> None:
        """Somebody has come to it."""
        self._clock.start()

    def stop(self) -> None:
        """It was pressed: it is not heard by resting any more, but what is heard goes on."""
        self._clock.stop()

    def go(self) -> None:
        """They have gone."""
        self._clock.stop()
        if self._heard:
            self._heard = False
            self.left.emit()

    def _on_rested(self) -> None:
        self._heard = True
        self.rested.emit()
