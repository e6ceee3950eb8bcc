"""The desktop's usual keys do the usual things, wherever the keyboard is."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLineEdit

from cloudrift.loop.edits.layers import own_notes
from tests.hands import command

CTRL = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def notes(qtbot, window):
    """The notes of a layer of its own, the keyboard on the rail."""
    window.session.apply("detach", lambda loop: own_notes.detach(loop, "l3"))
    window.session.select(layer_id="l3")
    window.show_stage(1)
    window.activateWindow()
    window.rail.setFocus()
    return window.layers.notes


def own(window):
    return window.session.loop.layer("l3").own


def test_select_all_copy_cut_paste_and_delete_reach_the_picture(qtbot, window, notes):
    count = len(own(window))
    qtbot.keyClick(window, Qt.Key.Key_A, CTRL)
    assert len(notes.moves.picked) == count
    qtbot.keyClick(window, Qt.Key.Key_C, CTRL)
    qtbot.keyClick(window, Qt.Key.Key_X, CTRL)
    assert own(window) == ()
    qtbot.keyClick(window, Qt.Key.Key_V, CTRL)
    assert 0 < len(own(window)) <= count
    qtbot.keyClick(window, Qt.Key.Key_A, CTRL)
    qtbot.keyClick(window, Qt.Key.Key_Delete)
    assert own(window) == ()


def test_the_menu_does_what_the_keys_do(window, notes):
    command(window, "Select all").trigger()
    command(window, "Delete").trigger()
    assert own(window) == ()
    window.session.document.undo()
    assert own(window)


def test_in_a_field_they_are_about_its_text(qtbot, window, notes):
    window.open_shelf()
    field = window.shelf.search
    field.setText("bell")
    field.setFocus()
    command(window, "Select all").trigger()
    command(window, "Cut").trigger()
    assert field.text() == "" and own(window)
    command(window, "Paste").trigger()
    assert field.text() == "bell"


def test_chords_are_selected_and_deleted(qtbot, window):
    window.show_stage(0)
    window.rail.setFocus()
    window.chords.threads.clearFocus()
    qtbot.keyClick(window, Qt.Key.Key_A, CTRL)
    assert len(window.session.selection.chord_ids) == len(window.session.loop.chords)


def test_find_goes_to_the_search_that_is_in_sight(qtbot, window, monkeypatch):
    find = command(window, "Find in this stage")
    assert find.shortcut().toString() == "Ctrl+F"
    window.show_stage(2)
    find.trigger()
    assert window.focusWidget() is window.texture.adding.search
    window.show_stage(1)
    window.open_shelf()
    find.trigger()
    assert window.focusWidget() is window.shelf.search
    window.shelf.leave()
    window.show_stage(0)
    opened = []
    monkeypatch.setattr(window.sheets, "commands", lambda: opened.append(1))
    find.trigger()
    assert opened == [1]
    assert not isinstance(window.focusWidget(), QLineEdit) or not window.focusWidget().isVisible()


def test_full_screen_and_back(window):
    full = command(window, "Full screen")
    assert full.shortcut().toString() == "F11"
    full.trigger()
    assert window.isFullScreen()
    full.trigger()
    assert not window.isFullScreen()
