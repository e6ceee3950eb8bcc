"""The microphone: an input of the sound card, or a singer in a quiet room where there is none.

The stand-in hears what the speaker is given, late and softly, and sings in time with it: what a
take needs can be tried, and measured, without an input.
"""

from collections import deque
from collections.abc import Callable, Generator
from typing import Any, Protocol

import miniaudio
import numpy as np
from numpy.typing import NDArray

from cloudrift.devices.quiet import quiet_sound_system
from cloudrift.devices.speaker import REAL
from cloudrift.ground.errors import CloudriftError

Push = Callable[[NDArray[np.float32]], None]  # (frames, 2)
PERIOD_MS = 20
AIR_S = 1.5  # what the stand-in remembers of what was played
STAND_IN = "stand-in: a singer in a quiet room"
STAND_IN_LATE_MS = 93.0  # from what is handed to the speaker to what comes of it
FIRST = 5  # blocks: a device hands the first ones over in a heap
BLEED_DB, HISS_DB = -34.0, -66.0  # the speaker in the microphone, and the room (RMS)


class Microphone(Protocol):
    """Something that brings sound in real time, in a thread of its own.

    ``late_ms`` is how long what is handed to the speaker takes to come in by it, None where that
    has to be measured.
    """

    name: str
    stand_in: bool
    late_ms: float | None

    def start(self, push: Push) -> None:
        """Begin to bring sound: blocks of (frames, 2)."""

    def close(self) -> None:
        """Stop and let the device go."""


class _Input:
    """An input of the audio library; which back ends it may use is the only difference."""

    def __init__(self, rate: int, backends: list[miniaudio.Backend], device_id: Any = None) -> None:
        self._device = miniaudio.CaptureDevice(
            input_format=miniaudio.SampleFormat.FLOAT32,
            nchannels=2,
            sample_rate=rate,
            buffersize_msec=PERIOD_MS,
            device_id=device_id,
            backends=backends,
            app_name="Cloudrift",
        )
        self.name = self._device.backend

    def start(self, push: Push) -> None:
        """Begin to bring sound from the device's own thread."""

        def take() -> Generator[None, bytes, None]:
            while True:
                block = yield
                push(np.frombuffer(block, np.float32).reshape(-1, 2))

        source = take()
        next(source)
        try:
            self._device.start(source)
        except miniaudio.MiniaudioError as error:
            raise CloudriftError(
                f"the microphone could not be started ({error}); check that no other program uses "
                "it, or choose another"
            ) from error

    def close(self) -> None:
        """Stop and let the device go."""
        self._device.close()


class RealMicrophone(_Input):
    """An input of the sound card, by whichever sound system answers."""

    stand_in = False
    late_ms: float | None = None

    def __init__(self, rate: int, name: str = "") -> None:
        device_id = None
        if name:
            found = {device["name"]: device["id"] for device in _captures()}
            if name not in found:
                raise CloudriftError(
                    f"the microphone {name!r} is missing; plug it in, or choose another"
                )
            device_id = found[name]
        super().__init__(rate, REAL, device_id)
        self.name = name or f"microphone by {self.name}"


class StandInMicrophone:
    """No input: somebody who sings what they are cued, in a room with some hiss.

    Parameters
    ----------
    now : which of all frames handed to the speaker it is at.
    """

    stand_in = True

    def __init__(
        self, rate: int, now: Callable[[], float], late_ms: float = STAND_IN_LATE_MS
    ) -> None:
        self._input = _Input(rate, [miniaudio.Backend.NULL])
        self.name = STAND_IN
        self.late_ms: float | None = late_ms
        self._rate, self._now = rate, now
        self._late = round(late_ms / 1000 * rate)
        self._air: deque[tuple[int, NDArray[np.float32]]] = deque()  # handed before, what sounds
        self._kept = int(AIR_S * rate)
        self._heard = 0  # of all frames handed out, which comes in next
        self._first = FIRST
        self._sings: NDArray[np.float32] = np.zeros(0, np.float32)
        self._free: int | None = None  # how much of it was sung, where it follows no loop
        self._before = -1  # where the loop was
        self._begun = False
        self._hiss = np.random.default_rng(7)

    def cue(self, phrase: NDArray[np.float32], *, free: bool = False) -> None:
        """Sing a phrase, (n,), each time that the loop begins again; ``free``: once, at once."""
        self._sings, self._free = phrase, 0 if free else None
        self._begun, self._before = False, -1

    def overhear(self, block: NDArray[np.float32], handed: int, at: int, loop_frames: int) -> None:
        """Hear what the speaker is given, (frames, 2), and sing along: on the speaker's thread.

        The block begins at frame ``at`` of the loop, -1 while that stands.
        """
        sounds = block.mean(axis=1) * np.float32(10 ** (BLEED_DB / 20))
        places = self._places(len(block), at, loop_frames)
        heard = (places >= 0) & (places < len(self._sings))
        sounds[heard] += self._sings[places[heard]]
        self._air.append((handed, sounds))
        while self._air and self._air[0][0] < handed - self._kept:
            self._air.popleft()

    def _places(self, count: int, at: int, loop_frames: int) -> NDArray[np.int64]:
        """Which frames of what is sung come now, below 0 for none."""
        places = np.arange(count)
        if self._free is not None:
            self._free += count
            return places + (self._free - count)
        if at < 0:
            return np.full(count, -1)
        self._begun, self._before = self._begun or at < self._before, at
        places += at if self._begun else at - loop_frames  # not before the loop begins again
        anew = places >= (loop_frames if self._begun else 0)
        if self._begun:
            places[anew] -= loop_frames
        self._begun = self._begun or bool(anew.any())
        return places

    def start(self, push: Push) -> None:
        """Begin to bring sound from a thread of its own."""
        self._input.start(lambda block: push(self._room(len(block))))

    def _room(self, count: int) -> NDArray[np.float32]:
        """Return what comes in next, (count, 2)."""
        out = self._hiss.normal(0.0, 10 ** (HISS_DB / 20), count).astype(np.float32)
        if self._first > 0:
            self._first -= 1
            self._heard = round(self._now()) - self._late
            return np.repeat(out[:, None], 2, axis=1)
        for handed, sounds in tuple(self._air):
            start = max(0, handed - self._heard)
            skip = max(0, self._heard - handed)
            part = sounds[skip : skip + count - start] if start < count else sounds[:0]
            out[start : start + len(part)] += part
        self._heard += count
        return np.repeat(out[:, None], 2, axis=1)

    def close(self) -> None:
        """Stop and let the device go."""
        self._input.close()


def _captures() -> list[dict[str, Any]]:
    with quiet_sound_system():
        try:
            found = miniaudio.Devices(REAL).get_captures()
        except miniaudio.MiniaudioError:
            return []
    return [device for device in found if not device["name"].startswith("Discard all samples")]


def microphones() -> tuple[str, ...]:
    """Return the names of the microphones that can be recorded from now."""
    return tuple(dict.fromkeys(device["name"] for device in _captures()))


def open_microphone(rate: int, name: str, now: Callable[[], float]) -> Microphone:
    """Return a microphone by name, the system's own for an empty one, or the stand-in.

    Raises CloudriftError where one that was named is not there.
    """
    if name != STAND_IN:
        try:
            return RealMicrophone(rate, name)
        except miniaudio.MiniaudioError as error:
            if name:
                raise CloudriftError(
                    f"the microphone {name!r} could not be opened ({error}); check that no other "
                    "program uses it, or choose another"
                ) from error
    try:
        return StandInMicrophone(rate, now)
    except miniaudio.MiniaudioError as error:
        raise CloudriftError(f"recording is not possible here: {error}") from error
