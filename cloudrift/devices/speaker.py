"""The speaker: the sound card, or a silent clock that pulls sound just as fast."""

from collections.abc import Callable, Generator
from typing import Protocol

import miniaudio
import numpy as np
from numpy.typing import NDArray

from cloudrift.ground.errors import CloudriftError

Pull = Callable[[int], NDArray[np.float32]]  # frames -> (frames, 2)
BUFFER_MS = 40  # one period: far longer than an edit's work in the callback, short to the hand


class Speaker(Protocol):
    """Something that pulls sound in real time."""

    name: str
    silent: bool

    def start(self, pull: Pull) -> None:
        """Begin to pull."""

    def close(self) -> None:
        """Stop and let the device go."""


class _DeviceSpeaker:
    """A device of the audio library; which back ends it may use is the only difference."""

    silent = False

    def __init__(self, rate: int, backends: list[miniaudio.Backend]) -> None:
        self._device = miniaudio.PlaybackDevice(
            output_format=miniaudio.SampleFormat.FLOAT32,
            nchannels=2,
            sample_rate=rate,
            buffersize_msec=BUFFER_MS,
            backends=backends,
            app_name="Cloudrift",
        )
        self.name = self._device.backend

    def start(self, pull: Pull) -> None:
        """Begin to pull from the device's own thread."""

        def frames() -> Generator[NDArray[np.float32], int, None]:
            count = yield np.zeros((0, 2), np.float32)
            while True:
                count = yield pull(count)

        source = frames()
        next(source)
        self._device.start(source)

    def close(self) -> None:
        """Stop and let the device go."""
        self._device.close()


class RealSpeaker(_DeviceSpeaker):
    """The sound card, by whichever sound system answers."""

    def __init__(self, rate: int) -> None:
        real = [miniaudio.Backend.PULSEAUDIO, miniaudio.Backend.ALSA, miniaudio.Backend.JACK]
        super().__init__(rate, real)


class SilentSpeaker(_DeviceSpeaker):
    """No sound card: the same pulling in real time, heard by nobody."""

    silent = True

    def __init__(self, rate: int) -> None:
        super().__init__(rate, [miniaudio.Backend.NULL])
        self.name = "no sound card: playing silently"


def open_speaker(rate: int) -> Speaker:
    """Return the sound card, or the silent stand-in where there is none."""
    try:
        return RealSpeaker(rate)
    except miniaudio.MiniaudioError:
        pass
    try:
        return SilentSpeaker(rate)
    except miniaudio.MiniaudioError as error:
        raise CloudriftError(f"no sound can be played, not even silently: {error}") from error
