"""Where the program is started from: a terminal with its letters, and a display or none."""

import codecs
import contextlib
import io
import os
import re
import socket
import sys

import click

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import shown

_PLAIN = "cloudrift.plain"  # what is written where a terminal has no such letter
_PLAINER = {"♯": "#", "♭": "b", "–": "-", "…": "...", "’": "'", "·": "-"}


def _plain(error: UnicodeError) -> tuple[str, int]:
    """Write letters that a terminal has not got in plainer ones (``codecs.register_error``)."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    missing = error.object[error.start : error.end]
    return "".join(_PLAINER.get(letter, "?") for letter in missing), error.end


def write_plainly() -> None:
    """Let whatever is printed be printed, also where the terminal is not in UTF-8."""
    codecs.register_error(_PLAIN, _plain)
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors=_PLAIN)


def say(line: object, *, err: bool = False) -> None:
    """Print a line. Names in it may be a stranger's: nothing in them moves the terminal."""
    click.echo(shown(str(line)), err=err)


def give_up_output() -> None:
    """Let what was not printed go: nobody takes it any more."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def need_display() -> None:
    """Qt would end the program with a page of text; say it in one sentence instead."""
    chosen = os.environ.get("QT_QPA_PLATFORM", "")
    shown = any(os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY"))
    if shown and not chosen:
        _reach_display()
    if not shown and not chosen.startswith(("offscreen", "minimal", "vnc", "linuxfb", "eglfs")):
        raise CloudriftError(
            "there is no display to open a window on; start it on a desktop, or on a virtual "
            "display with: xvfb-run cloudrift demo"
        )


def _reach_display() -> None:
    """Knock at the X server, if that is what there is: Qt would end the program with a core."""
    found = re.fullmatch(r"(?:unix)?:(\d+)(?:\.\d+)?", os.environ.get("DISPLAY", ""))
    if os.environ.get("WAYLAND_DISPLAY") or not found:
        return  # another kind, or on another machine
    name = f"/tmp/.X11-unix/X{found[1]}"
    for place in (name, f"\0{name}"):
        with socket.socket(socket.AF_UNIX) as knock, contextlib.suppress(OSError):
            knock.connect(place)
            return
    raise CloudriftError(
        f"the display {os.environ['DISPLAY']} does not answer; start it on a desktop, or on a "
        "virtual display with: xvfb-run cloudrift demo"
    )
