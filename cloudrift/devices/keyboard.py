"""Keyboards that send MIDI: real ones where they can be read, none where they cannot.

The computer's own keys and those on the screen are always there; they belong to the desktop.
"""

import importlib
from collections.abc import Callable
from typing import Any, Protocol

from cloudrift.ground.errors import CloudriftError

Down = Callable[[int, int], None]  # pitch, velocity
Up = Callable[[int], None]


class Keyboard(Protocol):
    """Something with keys that go down and up, in a thread of its own."""

    name: str

    def close(self) -> None:
        """Stop and let the device go."""


def _back_end() -> Any:
    """The library that reads keyboards, or None where it is not installed."""
    try:
        return importlib.import_module("mido.backends.rtmidi")
    except ImportError:
        return None


def keyboards(back_end: Any = None) -> tuple[str, ...]:
    """Return the names of the keyboards that can be read now."""
    library = back_end or _back_end()
    if library is None:
        return ()
    try:
        return tuple(device["name"] for device in library.get_devices() if device["is_input"])
    except Exception:  # the system has no sequencer, or nobody may use it
        return ()


class MidiKeyboard:
    """A keyboard by name. Its keys are told on the library's thread."""

    def __init__(self, name: str, down: Down, up: Up, back_end: Any = None) -> None:
        self.name = name
        self._down, self._up = down, up
        library = back_end or _back_end()
        if library is None:
            raise CloudriftError(
                "MIDI keyboards need python-rtmidi; install cloudrift[midi], or play on the "
                "computer's keys"
            )
        try:
            self._port = library.Input(name, callback=self._take)
        except Exception as error:
            raise CloudriftError(
                f"the keyboard {name!r} could not be opened ({error}); check that it is plugged "
                "in and that no other program uses it"
            ) from error

    def _take(self, message: Any) -> None:
        if message.type == "note_on" and message.velocity > 0:
            self._down(message.note, message.velocity)
        elif message.type in ("note_on", "note_off"):
            self._up(message.note)

    def close(self) -> None:
        """Stop and let the device go."""
        self._port.close()
