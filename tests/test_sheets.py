"""Sheets and pop-ups that are closed: nothing of them is left that answers."""

import os

import numpy as np
import pytest
from PyQt6.QtCore import QCoreApplication, QEvent, Qt, QTimer
from PyQt6.QtWidgets import QDialog, QFrame

from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.desktop.kit.parts import WhileShown
from cloudrift.desktop.kit.tiles import open_tempo
from cloudrift.devices import quiet
from cloudrift.exchange import StandIn, Wanted, stand_in
from cloudrift.exchange.service import ExchangeError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.texture.finish_files import house_finishes

OPENED = {
    "history": lambda window: window.sheets.history(),
    "keys": lambda window: window.sheets.keys(),
    "about": lambda window: window.sheets.about(),
    "settings": lambda window: window.sheets.settings(),
    "finder": lambda window: window.sheets.commands(),
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
    assert session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 150))
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


# --- what stands open, and what it says -----------------------------------------------------------


def test_finishes_are_for_the_line_that_is_shown(qtbot, window):
    session = window.session
    window.show_stage(2)
    stage = window.texture
    session.select(line_of="l1", treatment_id="")
    stage.show_finishes()
    assert stage.finishes.title.text() == f"Finishes for {session.loop.layer('l1').name}"
    qtbot.mouseClick(stage.targets.buttons["l2"], Qt.MouseButton.LeftButton)  # go on looking there
    assert stage.finishes.title.text() == f"Finishes for {session.loop.layer('l2').name}"
    session.select(line_of="l3", treatment_id="")  # from elsewhere
    assert stage.finishes.title.text() == f"Finishes for {session.loop.layer('l3').name}"


@pytest.mark.parametrize("room", ["shelf", "recordings"])
def test_what_was_looked_for_last_gives_way_to_what_is_typed(qtbot, window, room):
    opens = getattr(window, f"open_{room}")
    opens()
    drawer = getattr(window, room)
    drawer.search.setText("glassy")
    drawer.leave()
    opens()
    assert drawer.search.selectedText() == "glassy"
    qtbot.keyClicks(drawer.search, "dark")
    assert drawer.search.text() == "dark"


def test_compare_names_what_was_cut(window, clips):
    session = window.session
    window.show_stage(3)
    stage = window.flip
    assert stage.compare.choices["print"].text().startswith("With the print,")
    clip = session.clips.record(np.full((2, 132_300), 0.1, np.float32), 44_100)
    source = FromRecording(clip=clip, facts=Facts(name="Rain", kind="phrase", length_s=3.0))
    session.apply("rain", lambda loop: add_recording(loop, source))
    stage.printing.cut(session.loop.layers[-1].id)
    assert stage.compare.choices["print"].text().startswith("With the recording,")
    assert not stage.compare.choices["loop"].isVisible()


def test_one_word_is_one_word():
    names = [finish.name for finish in house_finishes()]
    assert "Underwater" in names and "Under water" not in names


def test_the_stand_in_says_what_it_is(monkeypatch):
    monkeypatch.setattr(stand_in, "WAIT_S", 0.0)
    exchange = StandIn(moods=3)
    said = set()
    for _ in range(60):
        try:
            exchange.search(Wanted(), lambda: False)
        except ExchangeError as error:
            said.add(str(error))
    assert len(said) == 2 and all("a stand-in that ships with Cloudrift" in x for x in said)
    assert not any("network" in x for x in said)


def test_a_sound_system_that_is_not_there_is_one_line_in_the_log(capfd, caplog, monkeypatch):
    monkeypatch.setattr(quiet, "_said", set())
    with caplog.at_level("INFO", logger="cloudrift"):
        for _ in range(2):
            with quiet.quiet_sound_system():
                os.write(2, b"cannot find card '0'\nUnknown PCM default\n\n")
    assert capfd.readouterr().err == ""
    (record,) = [x for x in caplog.records if x.name.endswith("quiet")]
    assert "cannot find card '0' (and 1 more lines)" in record.getMessage()
    os.write(2, b"heard\n")  # and again as it was
    assert capfd.readouterr().err == "heard\n"
