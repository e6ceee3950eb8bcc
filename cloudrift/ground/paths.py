"""Paths in text files: also those whose names are no words."""

import os
import re
import tempfile
from pathlib import Path
from urllib.parse import unquote_to_bytes

URI = "file://"


def path_text(path: Path) -> str:
    """Return a path as text that any file can hold.

    That is the path itself; where its name is not UTF-8, its URI (RFC 8089), which says its bytes.
    """
    text = str(path)
    try:
        text.encode()
    except UnicodeEncodeError:
        return path.absolute().as_uri()
    return text


def path_of(text: str) -> Path:
    """Return the path that a text stands for."""
    if text.startswith(URI):
        return Path(os.fsdecode(unquote_to_bytes(text.removeprefix(URI))))
    return Path(text)


# Control characters, ends of lines, and what turns the direction of writing.
_NOT_SHOWN = re.compile(
    "[\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028\u2029\u202a-\u202e\u2066-\u2069]"
)


def shown(text: str) -> str:
    """Return text that can be printed on one line, whatever a stranger has put into it.

    There is a question mark for each byte that is no letter, a space where a line would end, and
    the sign for what is unknown where a terminal or a label would do something.
    """
    plain = text.encode(errors="replace").decode()
    return _NOT_SHOWN.sub(lambda found: " " if found[0].isspace() else "\ufffd", plain)


def have_home() -> str:
    """See to it that there is a home folder; say in a sentence what stands in where there is none.

    Without one, ``~`` would stay as it is, and a folder of that name be made wherever one stands.
    """
    try:
        Path.home()
    except RuntimeError:
        folder = os.path.join(tempfile.gettempdir(), f"cloudrift-{os.getuid()}")
        os.environ["HOME"] = folder
        return f"there is no home folder; files go to {folder}"
    return ""
