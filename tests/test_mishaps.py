"""What nobody caught: it is logged, the work is kept, it is said, and the program goes on."""

import subprocess
import sys
import threading

import pytest
from PyQt6.QtCore import QTimer

from cloudrift.desktop.frame.mishaps import AGAIN_S, Mishaps, log_file, log_to_file, mishap_words
from cloudrift.desktop.session.document.selection import only_there
from cloudrift.desktop.stages.texture.targets import line_owners
from cloudrift.ground import CloudriftError
from cloudrift.ground.errors import MOST_WORDS, in_a_sentence
from cloudrift.ground.words import number, ordinal, plural
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Group
from cloudrift.notes.note import MOST, Note
from tests.conftest import given_notes


@pytest.fixture
def mishaps(qapp, monkeypatch):
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    kept = []
    made = Mishaps(lambda: kept.append(1))
    made.kept, made.words = kept, []
    made.said.connect(made.words.append)
    made.install()
    yield made
    made.remove()


def boom(error):
    raise error


def test_an_error_in_a_slot_is_said_once_and_the_work_is_kept(mishaps, qtbot):
    for _ in range(3):
        QTimer.singleShot(0, lambda: boom(ZeroDivisionError("nothing in it")))
    qtbot.waitUntil(lambda: bool(mishaps.words), timeout=5000)
    qtbot.wait(30)
    assert len(mishaps.words) == len(mishaps.kept) == 1  # the same mishap, thrice
    assert "(nothing in it); your work is kept" in mishaps.words[0]
    assert str(log_file()) in mishaps.words[0]
    mishaps._last = (mishaps._last[0], mishaps._last[1] - AGAIN_S - 1)
    QTimer.singleShot(0, lambda: boom(ZeroDivisionError("nothing in it")))
    qtbot.waitUntil(lambda: len(mishaps.words) == 2, timeout=5000)


def test_an_error_on_a_thread_is_said_on_the_interface_s_thread(mishaps, qtbot):
    threads = []
    mishaps.said.connect(lambda _words: threads.append(threading.current_thread()))
    other = threading.Thread(target=boom, args=(CloudriftError("the keyboard was pulled out"),))
    other.start()
    other.join()
    qtbot.waitUntil(lambda: bool(threads), timeout=5000)
    assert mishaps.words == ["the keyboard was pulled out"]
    assert threads == [threading.main_thread()]


def test_a_mishap_in_the_real_program_does_not_end_it(tmp_path):
    """A slot raises in the running application, which logs it and ends as it was asked to."""
    code = (
        "import sys\n"
        "from PyQt6.QtCore import QTimer\n"
        "from cloudrift.desktop.frame import app, window\n"
        "shown = window.Window.showEvent\n"
        "def show(self, event):\n"
        "    shown(self, event)\n"
        "    QTimer.singleShot(0, lambda: 1 / 0)\n"
        "    QTimer.singleShot(300, lambda: print(self.message.text()))\n"
        "    QTimer.singleShot(400, self.close)\n"
        "window.Window.showEvent = show\n"
        "sys.exit(app.run(None))\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, timeout=60, check=False
    )
    assert done.returncode == 0, done.stderr
    assert "(division by zero); your work is kept" in done.stdout
    assert "ZeroDivisionError: division by zero" in log_file().read_text()


def test_the_log_says_where_and_sentences_stay_short(mishaps, qtbot):
    log_to_file()
    QTimer.singleShot(0, lambda: boom(KeyError("x" * 4000 + "\n\nand more")))
    qtbot.waitUntil(lambda: bool(mishaps.words), timeout=5000)
    assert "in boom" in log_file().read_text()
    assert len(mishaps.words[0]) < MOST_WORDS + len(str(log_file()))
    assert "\n" not in mishaps.words[0]
    assert in_a_sentence("a\n b") == "a b"
    assert in_a_sentence("y" * 400) == "y" * 299 + "…"
    # Where it is stands first and what to do stands last: the middle goes.
    long = mishap_words(CloudriftError("a.cloudrift: " + "z" * 900 + "\n; save it anew"))
    assert len(long) <= MOST_WORDS
    assert long.startswith("a.cloudrift: zz")
    assert long.endswith("zz ; save it anew")


# --- what used to raise ---------------------------------------------------------------------------


def test_the_first_layer_is_removed_in_the_window(window, qtbot):
    window.show_stage(1)
    session = window.session
    session.select(layer_id="l1")
    remove = window.layers.inspector.acts["Remove"]
    remove.setFocus()
    remove.click()
    assert [layer.id for layer in session.loop.layers] == ["l2", "l3", "l4"]
    assert session.selection.layer_id == "l2"
    assert window.layers.inspector.title.text() == "Slow vault"
    while session.loop.layers:
        window.layers.inspector.acts["Remove"].click()
    assert window.layers.inspector.title.text() == "No layer"
    session.select(layer_id="l3", chord_id="c9", line_of="l9")  # on its way out
    assert session.selection.layer_id == "" and session.selection.line_of is None


def test_only_what_is_there_is_selected(small_loop):
    asked = {"layer_id": "l1", "chord_id": "gone", "line_of": None, "voice": 3}
    assert only_there(asked, small_loop) == {"layer_id": "l1", "line_of": None, "voice": 3}


def test_a_note_too_many_is_refused_in_words(window, qtbot):
    session = window.session
    window.show_stage(1)
    session.select(layer_id="l1")
    full = tuple(Note(start_tick=i % 7000, length_ticks=30, pitch=20 + i // 7000, id=i + 1)
                 for i in range(MOST))  # fmt: skip
    session.apply("full", lambda p: given_notes(p, "l1", full))
    said = []
    session.failed.connect(said.append)
    moves = window.layers.notes.moves
    assert moves.add(100, 90) is None
    moves.copied = full[:3]
    moves.paste(7100)
    assert len(said) == 2 and all("number of notes is 400" in words for words in said)
    assert session.loop.layer("l1").own == full


def test_an_edit_hands_back_what_it_made_or_nothing(session):
    said = []
    session.failed.connect(said.append)
    made = session.make("x", lambda loop: (loop_edits.set_tempo(loop, 99), "made"))
    assert made == "made" and session.loop.tempo == 99
    assert session.make("x", lambda loop: (loop_edits.set_tempo(loop, 9), "made")) is None
    assert session.loop.tempo == 99 and "tempo is 9 BPM" in said[0]
    assert session.make("same", lambda loop: (loop, 7)) == 7
    assert session.document.history.undo_label == "x"


def test_a_group_that_nobody_is_in_is_shown(window):
    session = window.session
    session.apply("x", lambda p: layer_edits.group_layers(p, ["l1"]))
    empty = Group(id="g9", name="Nobody")
    import msgspec

    session.apply("y", lambda p: msgspec.structs.replace(p, groups=(*p.groups, empty)))
    window.show_stage(2)
    assert [o.role for o in line_owners(session.loop) if o.id == "g9"] == ["grain"]
    session.select(line_of="g9")
    assert "Nobody" in window.texture.title.text()


# --- numbers in words -----------------------------------------------------------------------------


def test_numbers_have_a_true_minus_and_words_their_plural():
    assert number(-3.0, "+.1f") == "−3.0" and number(3, "+d") == "+3"
    assert number(-0.01, "+.1f") == "+0.0"  # no minus before a nothing
    assert number(-0.04, ".1f") == "0.0" and number(-12, "d") == "−12"
    assert [ordinal(n) for n in (1, 2, 3, 4, 11, 12, 13, 21, 22, 112)] == [
        "first", "second", "third", "4th", "11th", "12th", "13th", "21st", "22nd", "112th",
    ]  # fmt: skip
    assert (plural(1, "note"), plural(0, "bar")) == ("1 note", "0 bars")
