"""Whole journeys by real events, counted: each press, each key, each line that is typed is one."""

import mido
import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QPushButton

from cloudrift.desktop.frame.history_sheet import HistorySheet
from cloudrift.desktop.frame.key_popup import KeyPopup
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.loop.files.storage import load, save
from cloudrift.theory import Key
from tests.songs import write_song

LEFT, CTRL = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier
ALT, SHIFT = Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ShiftModifier
NONE = Qt.KeyboardModifier.NoModifier


class Hand:
    """Presses what is seen and can be pressed, and counts."""

    def __init__(self, qtbot, window):
        self._qtbot, self._window = qtbot, window
        self.count = 0

    def press(self, widget, at=None, double=False):
        assert widget.isVisible() and widget.isEnabled(), widget
        self.count += 1
        widget.window().activateWindow()  # as a window manager does
        press = self._qtbot.mouseDClick if double else self._qtbot.mouseClick
        press(widget, LEFT, pos=at) if at is not None else press(widget, LEFT)

    def key(self, key, held=NONE):
        self.count += 1
        self._qtbot.keyClick(self._window.focusWidget() or self._window, key, held)

    def type(self, text):
        self.count += 1
        self._qtbot.keyClicks(self._window.focusWidget(), text)

    def choose_file(self, monkeypatch, path, what="getOpenFileName"):
        """What the system's dialog takes: the file is pressed, then opened."""
        self.count += 2
        monkeypatch.setattr(QFileDialog, what, lambda *a: (str(path), ""))


@pytest.fixture
def hand(qtbot, window, tmp_path):
    window.session.preferences.change(files=str(tmp_path))
    window.deliver.files.folder.setText(str(window.session.preferences.delivery))
    return Hand(qtbot, window)


def written(folder, kind):
    return sorted(path.name for path in folder.glob(f"*{kind}"))


def test_from_nothing_to_wav_stems_and_midi_in_25_actions(qtbot, window, hand, tmp_path):
    hand.key(Qt.Key.Key_N, CTRL)
    hand.press(window.start.begin_from.button(1))
    hand.press(window.start.begin)
    hand.type("i VI iv7 V7")
    hand.key(Qt.Key.Key_Return)
    for words, held in (("felt upright", CTRL), ("warm pad", CTRL | SHIFT),
                        ("round sub", CTRL | SHIFT)):  # fmt: skip
        if not window.shelf.isVisible():
            hand.key(Qt.Key.Key_F4)
        else:
            hand.press(window.shelf.search)
            hand.key(Qt.Key.Key_A, CTRL)
        hand.type(words)
        hand.key(Qt.Key.Key_Return)
        hand.key(Qt.Key.Key_Return, held)
    loop = window.session.loop
    assert [x.source.sound.name for x in loop.layers] == ["felt upright", "warm pad", "round sub"]
    assert [x.source.lens.kind for x in loop.layers] == [
        "all",
        "held",
        "bass",
    ]  # each in its own way
    hand.key(Qt.Key.Key_L, CTRL)  # a layer of one's own notes
    grid = window.layers.notes.grid
    hand.press(grid, grid.rect().center(), double=True)
    assert len(window.session.loop.layers[3].own) == 1
    hand.key(Qt.Key.Key_7, ALT)
    hand.press(window.deliver.files.write)
    qtbot.waitUntil(lambda: "Exported" in window.deliver.files.result.text(), timeout=60_000)
    folder = tmp_path / "Loops"
    assert len([n for n in written(folder, ".wav") if "_stem-" in n]) == 4
    whole = next(folder.glob("untitled-loop_90bpm_c-minor.wav"))
    audio, _rate = soundfile.read(whole)
    assert len(audio) == window.session.loop.frames
    assert np.abs(audio).max() > 0.05
    song = mido.MidiFile(folder / written(folder, ".mid")[0])
    assert len(song.tracks) == 5
    assert hand.count <= 25, hand.count


def exported(qtbot, window, folder):
    """Whether a loop of Edda Fenn's style was written with its stems."""
    qtbot.waitUntil(lambda: "Exported" in window.deliver.files.result.text(), timeout=60_000)
    assert window.session.loop.style == "Edda Fenn"
    names = written(folder, ".wav")
    stems = [name for name in names if "_stem-" in name]
    return len(stems) == len(window.session.loop.heard()) and len(names) > len(stems)


def test_a_newcomer_exports_a_first_loop_with_stems_by_the_mouse_in_4_presses(
    qtbot, window, hand, tmp_path
):
    window.start_loop()
    hand.press(window.start.card.cards["Edda Fenn"])
    hand.press(window.start.begin)
    hand.press(window.rail.buttons["Deliver"])
    hand.press(window.deliver.files.write)
    assert exported(qtbot, window, tmp_path / "Loops")
    assert hand.count == 4


def test_a_newcomer_exports_a_first_loop_with_stems_by_keys_in_4_presses(
    qtbot, window, hand, tmp_path
):
    window.start_loop()
    hand.key(Qt.Key.Key_Right)
    hand.key(Qt.Key.Key_Return)
    hand.key(Qt.Key.Key_7, ALT)
    hand.key(Qt.Key.Key_Return)
    assert exported(qtbot, window, tmp_path / "Loops")
    assert hand.count == 4


def test_from_a_midi_file_in_15_actions(qtbot, window, hand, tmp_path, monkeypatch):
    path = write_song(tmp_path / "Night pier.mid")
    hand.key(Qt.Key.Key_N, CTRL)
    hand.press(window.start.begin_from.button(2))
    hand.choose_file(monkeypatch, path)
    hand.press(window.start.midi.choose_file)
    qtbot.waitUntil(window.start.begin.isEnabled, timeout=60_000)
    hand.press(window.start.midi.take.button(True))
    hand.press(window.start.begin)
    hand.key(Qt.Key.Key_3, ALT)
    hand.press(window.texture.adding.search)
    hand.type("hall")
    hand.key(Qt.Key.Key_Return)
    hand.key(Qt.Key.Key_7, ALT)
    hand.press(window.deliver.files.write)
    qtbot.waitUntil(lambda: "Exported" in window.deliver.files.result.text(), timeout=60_000)
    names = written(tmp_path / "Loops", ".wav")
    assert "night-pier_93bpm_a-minor.wav" in names
    assert sum("_stem-" in name for name in names) == 2
    assert [t.kind for line in (window.session.loop.line,
                                *(x.line for x in window.session.loop.layers))
            for t in line] == ["hall"]  # fmt: skip
    assert hand.count <= 15, hand.count


def test_reopened_three_semitones_lower_compared_and_exported_in_15_actions(
    qtbot, window, hand, tmp_path, monkeypatch
):
    path = tmp_path / "Ice Road.cloudrift"
    save(window.session.loop, path)
    before = window.session.loop.chords
    hand.choose_file(monkeypatch, path)
    hand.key(Qt.Key.Key_O, CTRL)
    qtbot.waitUntil(lambda: window.session.document.path == path, timeout=10_000)
    hand.press(window.heading.key)
    popup = window.findChild(KeyPopup)
    hand.press(popup.tonics.button(3))  # from F sharp to D sharp, the shorter way
    assert window.session.loop.key.pc == 3
    assert [c.voices for c in window.session.loop.chords] == [
        tuple(v - 3 for v in c.voices) for c in before
    ]
    popup.close()
    hand.count += 1  # Esc, or a press elsewhere
    hand.key(Qt.Key.Key_H, CTRL)
    sheet = window.findChild(HistorySheet)
    qtbot.keyClick(sheet.list, Qt.Key.Key_End)
    hand.count += 1
    hand.press(next(b for b in sheet.findChildren(QPushButton) if b.text() == "Play as then"))
    assert window.session.hearing.sides == ("Then", "Now")
    hand.press(window.heading.compare, window.heading.compare.rect().center() / 2)
    assert window.session.hearing.side == BARE
    qtbot.waitUntil(lambda: window.session.hearing.rendered[BARE].loop.key == Key("F#", "minor"),
                    timeout=60_000)  # fmt: skip
    qtbot.waitUntil(
        lambda: window.session.hearing.rendered[TREATED].loop.key.pc == 3, timeout=60_000
    )
    hand.press(window.heading.title)
    hand.type("Low Road")  # what was there is chosen, and goes
    hand.key(Qt.Key.Key_Return)
    hand.key(Qt.Key.Key_7, ALT)
    hand.press(window.deliver.files.write)
    qtbot.waitUntil(lambda: "Exported" in window.deliver.files.result.text(), timeout=60_000)
    assert any(n.startswith("low-road_") for n in written(tmp_path / "Loops", ".wav"))
    assert load(path).title == "Ice Road"
    assert hand.count <= 15, hand.count
    window.session.document._saved = window.session.document.history.now
