"""Sheets and pop-ups that are closed: nothing of them is left that answers."""

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, QTimer
from PyQt6.QtWidgets import QDialog, QFrame

from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.desktop.kit.parts import WhileShown
from cloudrift.desktop.kit.tiles import open_tempo
from cloudrift.loop import edits

OPENED = {
    "history": lambda window: window.open_history(),
    "keys": lambda window: window.open_help(),
    "about": lambda window: window.open_about(),
    "settings": lambda window: window.open_settings(),
    "finder": lambda window: window.find_command(),
    "prints": lambda window: (window.flip.show_prints(), window.flip.findChild(QDialog))[1],
    "passes": lambda window: (window.flip.ask_for_passes(), window.flip.findChild(QDialog))[1],
    "key": lambda window: open_key(window.heading.key, window.session),
    "tempo": lambda window: open_tempo(window.heading.tempo, window.session),
}


def delete_what_is_closed():
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.mark.parametrize("name", OPENED)
def test_work_goes_on_after_a_sheet_was_closed(qtbot, window, small_loop, name):
    window.show_stage(3)
    sheet = OPENED[name](window)
    assert isinstance(sheet, QDialog | QFrame)
    gone = []
    sheet.destroyed.connect(lambda: gone.append(name))
    sheet.close()
    delete_what_is_closed()
    assert gone == [name]
    # An exception in any slot fails the test.
    session = window.session
    assert session.apply("tempo", lambda loop: edits.set_tempo(loop, 150))
    session.select(layer_id="l2")
    session.document.undo()
    session.transport.set_playing(True)
    session.transport.set_playing(False)
    session.document.open(small_loop, None)
    assert session.loop == small_loop


def test_what_refreshes_while_it_is_shown_ends_with_its_widget(qtbot):
    clock = QTimer()
    said = []
    widget = QFrame()
    WhileShown(widget, lambda: said.append(widget.objectName()), clock.timeout)
    clock.timeout.emit()
    assert said == []  # it is not seen
    widget.show()
    assert said == [""]
    clock.timeout.emit()
    assert said == ["", ""]
    widget.deleteLater()
    delete_what_is_closed()
    clock.timeout.emit()
    assert said == ["", ""]
