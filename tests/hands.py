"""What tests do in the real window: only they need Qt."""

from PyQt6.QtCore import QCoreApplication, QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from cloudrift.desktop.kit.commands import name_of
from tests.conftest import wait_for


def settled(qtbot, session):
    qtbot.waitUntil(lambda: not session.hearing.busy, timeout=60_000)
    QCoreApplication.processEvents()  # what it has told last is on its way


def looked(qtbot, window):
    """Wait until the window says what of the style card is met now."""
    qtbot.waitUntil(lambda: not window.marking.waits, timeout=20_000)


def saved(save, *given):
    """Save by a method that tells when all is written; say whether it went well."""
    answers = []
    save(*given, answers.append)
    wait_for(lambda: QCoreApplication.processEvents() or answers)
    return answers[0]


def opened(window, path):
    """Open a loop file, and wait until it is read and all that is asked is answered."""
    heard = []
    for signal in (window.tasks._done, window.tasks._failed):
        signal.connect(lambda name, *_: heard.append(name))
    window.files.open_file(path)
    wait_for(lambda: QCoreApplication.processEvents() or "open" in heard)


def drag(qtbot, widget, start, end, modifier=Qt.KeyboardModifier.NoModifier):
    """Drag with the left button, in eight moves."""
    left = Qt.MouseButton.LeftButton
    qtbot.mousePress(widget, left, modifier, start)
    for i in range(1, 9):
        step = start + (end - start) * i / 8
        qtbot.mouseMove(widget, step)
        place, globally = QPointF(step), widget.mapToGlobal(QPointF(step))
        widget.mouseMoveEvent(
            QMouseEvent(QMouseEvent.Type.MouseMove, place, globally,
                        Qt.MouseButton.NoButton, left, modifier)
        )  # fmt: skip
    qtbot.mouseRelease(widget, left, modifier, end)


def command(window, text):
    """Return a command of the menus by its words."""
    return {name_of(one): one for one in window.menus.commands}[text]


def rest_on(widget):
    """Move the pointer over a widget, as somebody does who wants to hear what it does."""
    place = QPointF(widget.rect().center())
    none = Qt.MouseButton.NoButton
    moved = QMouseEvent(QEvent.Type.MouseMove, place, widget.mapToGlobal(place), none, none,
                        Qt.KeyboardModifier.NoModifier)  # fmt: skip
    QApplication.sendEvent(widget, moved)
