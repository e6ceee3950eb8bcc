"""The speaker: the sound card, or a silent clock that pulls sound just as fast."""

from collections.abc import Callable, Generator
from typing import Any, Protocol

import miniaudio
import numpy as np
from numpy.typing import NDArray

from cloudrift.devices.quiet import quiet_sound_system
from cloudrift.ground.errors import CloudriftError

Pull = Callable[[int], NDArray[np.float32]]  # frames -> (frames, 2)
# One period; the device holds three. A short one is usual: where it stutters, a longer is taken.
BUFFERS_MS = (15, 20, 40, 80, 160)
BUFFER_MS = 20

REAL = [miniaudio.Backend.PULSEAUDIO, miniaudio.Backend.ALSA, miniaudio.Backend.JACK]


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

    def __init__(
        self,
        rate: int,
        backends: list[miniaudio.Backend],
        buffer_ms: int = BUFFER_MS,
        device_id: Any = None,
    ) -> None:
        self._device = miniaudio.PlaybackDevice(
            output_format=miniaudio.SampleFormat.FLOAT32,
            nchannels=2,
            sample_rate=rate,
            buffersize_msec=buffer_ms,
            device_id=device_id,
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

    def __init__(self, rate: int, name: str = "", buffer_ms: int = BUFFER_MS) -> None:
        device_id = None
        if name:
            found = {device["name"]: device["id"] for device in _playbacks()}
            device_id = found.get(name)
        super().__init__(rate, REAL, buffer_ms, device_id)
        if device_id is not None:
            self.name = name


class SilentSpeaker(_DeviceSpeaker):
    """No sound card: the same pulling in real time, heard by nobody."""

    silent = True

    def __init__(self, rate: int) -> None:
        super().__init__(rate, [miniaudio.Backend.NULL])
        self.name = "no sound card: playing silently"


def _playbacks() -> list[dict[str, Any]]:
    with quiet_sound_system():
        try:
            return miniaudio.Devices(REAL).get_playbacks()
        except miniaudio.MiniaudioError:
            return []


def speakers() -> tuple[str, ...]:
    """Return the names of the speakers that can be played through now."""
    return tuple(dict.fromkeys(device["name"] for device in _playbacks()))


def open_speaker(rate: int, name: str = "", buffer_ms: int = BUFFER_MS) -> Speaker:
    """Return a speaker by name, or the silent stand-in where there is none.

    Without a name, and where it is not plugged in, it is the one that the system plays through.
    ``buffer_ms`` is how long one period lasts.
    """
    with quiet_sound_system():
        try:
            return RealSpeaker(rate, name, buffer_ms)
        except miniaudio.MiniaudioError:
            pass
    try:
        return SilentSpeaker(rate)
    except miniaudio.MiniaudioError as error:
        raise CloudriftError(f"playback is not possible, not even silently: {error}") from error
