"""Cards on their way: copied and pasted as the text of a line file, which any editor can read."""

from PyQt6.QtWidgets import QApplication

from cloudrift.ground.errors import CloudriftError
from cloudrift.texture.line_file import parse_line, write_line
from cloudrift.texture.treatment import Line

CLIPBOARD = "the clipboard"


def copy_line(line: Line) -> None:
    """Put treatments on the clipboard."""
    clipboard = QApplication.clipboard()
    assert clipboard is not None
    clipboard.setText(write_line(line))


def copied_line() -> Line:
    """Return the treatments on the clipboard; raise CloudriftError if there are none."""
    clipboard = QApplication.clipboard()
    text = clipboard.text() if clipboard is not None else ""
    if "treatments" not in text:
        raise CloudriftError("no treatments on the clipboard; copy a treatment or a line first")
    return parse_line(text, CLIPBOARD)
