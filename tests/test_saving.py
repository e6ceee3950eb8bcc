"""Nothing lost: programs that are killed, names of any kind, others' files, full disks."""

import contextlib
import errno
import os
import random
import stat
import subprocess
import sys
import threading
import time
from concurrent.futures import CancelledError

import pytest

from cloudrift.audio import files
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import OLD_S, forget_parts, remove_old_parts, write_atomically
from cloudrift.deliver.names import slug
from cloudrift.desktop.session.document import saver
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.ground import CloudriftError
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.paths import path_of, path_text
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.files.kept import keep, template_folder
from cloudrift.loop.files.recovery import Shelter, left_behind
from cloudrift.loop.files.storage import load, save, signature
from cloudrift.render import Engine
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import own_sounds, save_own
from cloudrift.texture.finish import Finish
from cloudrift.texture.finish_files import forget_finish, own_finishes, save_finish
from tests.conftest import wait_for
from tests.hands import saved
from tests.test_desktop import answer
from tools import killed

ODD = os.fsdecode(b"caf\xe9 \xff.cloudrift")  # no UTF-8: a name from an older disk


def changed(window, tempo=77):
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, tempo))


def test_what_waits_for_saving_waits_for_all_of_it(qapp, qtbot, small_loop, tmp_path, monkeypatch):
    gates, done = [threading.Event(), threading.Event()], []
    waiting = iter(gates)

    def slowly(document, path, clips):
        assert next(waiting).wait(10)
        save(document, path, clips)

    monkeypatch.setattr(saver, "save", slowly)
    made = saver.Saver()
    made.when_rested(lambda: done.append("at once"))
    for name in ("a", "b"):
        made.save(small_loop, tmp_path / f"{name}.cloudrift", ClipStore(),
                  lambda written, name=name: done.append((name, written.wrong)))  # fmt: skip
    made.when_rested(lambda: done.append("after"))
    assert made.busy and done == ["at once"]
    gates[0].set()
    qtbot.waitUntil(lambda: len(done) == 2, timeout=5000)
    assert made.busy and done[-1] == ("a", "")
    gates[1].set()
    qtbot.waitUntil(lambda: len(done) == 4, timeout=5000)
    assert done[2:] == [("b", ""), "after"] and not made.busy
    made.stop()
    assert made.has_ended(5)


# --- killed at any moment -------------------------------------------------------------------------


def test_a_program_that_is_killed_leaves_whole_files(tmp_path):
    rng = random.Random(2)
    assert [killed.once(tmp_path, rng) for _ in range(40)] == [[]] * 40


def test_the_tool_sees_what_is_not_whole(tmp_path, monkeypatch):
    monkeypatch.setattr(killed, "LONGEST_S", 0.0)
    killed.once(tmp_path, random.Random(1))
    (tmp_path / killed.NAME).write_bytes(b"PK\3\4")
    assert any("not whole" in words for words in killed._looked_at(tmp_path, ["s1", "k1"]))
    save(killed.written(9), tmp_path / killed.NAME)
    assert any("holds Ice Road 9" in words for words in killed._looked_at(tmp_path, ["s1"]))
    assert any("offered are []" in words for words in killed._looked_at(tmp_path, ["s9", "k9"]))


@pytest.mark.parametrize("nameless", [True, False])
def test_what_is_being_written_is_removed_whatever_happens(tmp_path, monkeypatch, nameless):
    if not nameless:  # a disk that knows no files without names
        real = os.open

        def known(path, flags, *rest, **named):
            if flags & os.O_TMPFILE == os.O_TMPFILE:
                raise OSError(errno.EOPNOTSUPP, "not supported")
            return real(path, flags, *rest, **named)

        monkeypatch.setattr(os, "open", known)
    path = tmp_path / "a.txt"
    seen = []

    def write(file):
        seen.extend(p.name for p in tmp_path.iterdir())
        file.write(b"new")

    write_atomically(path, write)
    assert path.read_bytes() == b"new"
    assert len(seen) == (0 if nameless else 1)

    def half(file):
        file.write(b"half")
        if nameless is False:
            assert len(list(tmp_path.iterdir())) == 2
        forget_parts()  # the program ends in the middle of it
        assert [p.name for p in tmp_path.iterdir()] == ["a.txt"]
        raise MemoryError

    with pytest.raises(MemoryError):
        write_atomically(path, half)
    assert path.read_bytes() == b"new"
    assert [p.name for p in tmp_path.iterdir()] == ["a.txt"]


@pytest.mark.parametrize("step", ["open", "fsync", "fchmod", "link", "replace", "write"])
def test_a_full_disk_at_any_step_changes_nothing(tmp_path, monkeypatch, step):
    path = tmp_path / "a.txt"
    path.write_bytes(b"old")

    def full(*_a, **_k):
        raise OSError(errno.ENOSPC, "No space left on device")

    write = full if step == "write" else lambda file: file.write(b"new")
    with monkeypatch.context() as patched:
        if step != "write":
            patched.setattr(os, step, full)
        with pytest.raises(CloudriftError, match="No space left on device; choose another folder"):
            write_atomically(path, write)
    assert path.read_bytes() == b"old"
    assert [p.name for p in tmp_path.iterdir()] == ["a.txt"]


def test_a_folder_that_cannot_be_forced_to_disk_is_no_failure(tmp_path, monkeypatch):
    real = os.fsync

    def fsync(handle):
        if stat.S_ISDIR(os.fstat(handle).st_mode):
            raise OSError(errno.EINVAL, "no")
        real(handle)

    monkeypatch.setattr(os, "fsync", fsync)
    write_atomically(tmp_path / "a.txt", lambda file: file.write(b"new"))
    assert (tmp_path / "a.txt").read_bytes() == b"new"


@pytest.mark.skipif(os.geteuid() != 0, reason="only root gives files away")
def test_a_file_keeps_whose_it_is(tmp_path):
    path = tmp_path / "a.txt"
    path.write_bytes(b"old")
    os.chown(path, 1234, 1235)
    path.chmod(0o604)
    write_atomically(path, lambda file: file.write(b"new"))
    now = path.stat()
    assert (now.st_uid, now.st_gid, now.st_mode & 0o777) == (1234, 1235, 0o604)


def test_what_was_left_half_written_goes_with_the_next_save(tmp_path):
    old, young, other, foreign = (
        tmp_path / name for name in (".a.txt.01234567.part", ".a.txt.89abcdef.part",
                                     ".b.txt.01234567.part", ".a.txt.part")
    )  # fmt: skip
    for one in (old, young, other, foreign):
        one.write_bytes(b"x")
    for one in (old, other, foreign):
        os.utime(one, (0, time.time() - OLD_S - 5))
    write_atomically(tmp_path / "a.txt", lambda file: file.write(b"new"))
    assert {p.name for p in tmp_path.glob(".*")} == {young.name, other.name, foreign.name}
    remove_old_parts(tmp_path)  # as at every start, in folders of ours
    assert {p.name for p in tmp_path.glob(".*")} == {young.name, foreign.name}


# --- names ----------------------------------------------------------------------------------------


def test_paths_that_are_no_words_go_through_text(tmp_path):
    for path in (tmp_path / ODD, tmp_path / "plain é.cloudrift"):
        text = path_text(path)
        text.encode()
        assert path_of(text) == path
    assert path_text(tmp_path) == str(tmp_path)
    assert path_text(tmp_path / ODD).startswith("file:///")


def test_a_name_that_is_not_utf_8_is_worked_with(window, tmp_path, capfd):
    path = tmp_path / ODD
    save(window.session.loop, path)
    window.session.document.open(load(path), path)
    changed(window)
    assert window.session.document.keep_unsaved()
    folder = window.session.document.keeper.shelter.folder
    window.session.document.shelter._lock.close()  # as if the program had ended
    (found,) = left_behind(ClipStore(), folder)
    assert found.origin == path
    assert saved(window.files.save_to, path)
    assert load(path).tempo == 77
    assert Preferences().recent[0] == path  # kept, and read again
    window.session.failed.emit("x")
    path.write_bytes(b"")
    from cloudrift.cli import main

    with pytest.raises(SystemExit):
        main(["info", str(path)])
    assert "caf? ?.cloudrift is not a complete loop file" in capfd.readouterr().err


@pytest.mark.parametrize("name", ["-rf.cloudrift", "a\nb.cloudrift", "x" * 245 + ".cloudrift"],
                         ids=["dash", "line", "long"])  # fmt: skip
def test_odd_names_are_saved_and_read(small_loop, tmp_path, name):
    path = tmp_path / name
    save(small_loop, path)
    save(small_loop, path)
    assert load(path) == small_loop
    assert [p.name for p in tmp_path.iterdir()] == [name]
    path.write_bytes(b"x")
    with pytest.raises(CloudriftError) as error:
        load(path)
    assert "\n" not in str(error.value)


@pytest.mark.parametrize(
    ("title", "wanted"),
    [("Лёд", "лёд"), ("氷の道 2", "氷の道-2"), ("É B♭!", "e-bflat"), ("a_b", "a-b"), ("!?", "loop"),
     ("Ä" * 300, "a" * 120), ("氷" * 300, "氷" * 40)],
)  # fmt: skip
def test_titles_of_any_script_have_names_of_their_own(title, wanted):
    assert slug(title) == wanted


def test_long_names_are_cut_where_they_become_files(small_loop, tmp_path):
    name = "Й" * 150
    own = OwnSound(name=name, house="felt upright")
    assert save_own(own, ClipStore(), tmp_path / "s").exists()
    assert save_own(own, ClipStore(), tmp_path / "s").exists()
    assert [one.own.name for one in own_sounds(tmp_path / "s")] == [name] * 2
    line = line_edits.add_treatment(small_loop, None, "hall").line
    finish = save_finish(Finish(name=name, purpose="", tags=(), line=line), tmp_path / "f")
    assert [one.name for one in own_finishes(tmp_path / "f")[0]] == [name]
    forget_finish(finish, tmp_path / "f")
    assert own_finishes(tmp_path / "f") == ([], [])
    assert keep(small_loop, name, tmp_path / "t").loop.title == name
    assert keep(small_loop, name, tmp_path / "t").loop.title == f"{name} 2"


# --- files that others write ----------------------------------------------------------------------


@pytest.mark.parametrize(("words", "mine", "theirs"), [
    ("Keep both", "Ice Road 2.cloudrift", 44), ("Replace it", "Ice Road.cloudrift", 77),
    ("Cancel", "", 44),
])  # fmt: skip
def test_a_file_that_another_program_has_changed_is_asked_about(
    window, tmp_path, monkeypatch, words, mine, theirs
):
    path = tmp_path / "Ice Road.cloudrift"
    session = window.session
    assert saved(window.files.save_to, path)
    changed(window, 70)
    assert saved(window.files.save)  # nobody else has: nobody is asked
    save(loop_edits.set_tempo(session.loop, 44), path)
    changed(window)
    answer(monkeypatch, words)
    assert saved(window.files.save) == bool(mine)
    assert load(path).tempo == theirs
    if mine:
        assert session.document.path == tmp_path / mine
        assert load(session.document.path).tempo == 77
        assert session.document.is_saved
        assert not session.document.is_changed_outside
    path.unlink(missing_ok=True)
    assert saved(window.files.save)  # it is gone: it is written anew
    assert signature(tmp_path / "nothing") is None


# --- beside the interface -------------------------------------------------------------------------


@pytest.fixture
def gate(monkeypatch):
    """Holds back whatever is saved until it is set."""
    held = threading.Event()

    def slowly(*given):
        assert held.wait(20)
        return save(*given)

    monkeypatch.setattr(saver, "save", slowly)
    yield held
    held.set()


def save_first(window, path, gate):
    gate.set()
    assert saved(window.files.save_to, path)
    gate.clear()


def test_what_is_changed_while_it_is_saved_is_not_saved(qtbot, window, tmp_path, gate):
    session, path = window.session, tmp_path / "a.cloudrift"
    changed(window, 77)
    session.document.save(path)
    changed(window, 78)
    assert session.document.keep_unsaved()
    assert not path.exists()
    gate.set()
    qtbot.waitUntil(lambda: session.document.path == path, timeout=5000)
    assert load(path).tempo == 77
    assert not session.document.is_saved
    assert window.windowTitle() == "Ice Road * – Cloudrift"
    (kept,) = session.document.keeper.shelter.folder.glob(
        "*.cloudrift"
    )  # what is not saved stays kept
    assert load(kept).tempo == 78
    session.document.undo()
    assert session.document.is_saved
    redrawn = []
    session.changed.connect(lambda *_: redrawn.append(1))
    assert saved(session.document.save, path)
    assert window.heading.under.text() == "saved"
    assert redrawn == []  # a save changes nothing that is drawn of the loop


def test_a_save_that_ends_in_another_document_tells_that_one_nothing(qtbot, window, tmp_path, gate):
    session, path = window.session, tmp_path / "a.cloudrift"
    changed(window, 77)
    answers = []
    session.document.save(path, answers.append)
    session.document.open(loop_edits.set_tempo(session.loop, 60), None)
    gate.set()
    qtbot.waitUntil(lambda: answers == [True], timeout=5000)
    assert load(path).tempo == 77
    assert session.document.path is None
    assert not session.document.is_saved


def test_a_long_save_is_said_while_it_runs(qtbot, window, tmp_path, gate):
    window.files.save_to(tmp_path / "a.cloudrift")
    qtbot.waitUntil(lambda: window.message.text() == "Saving…", timeout=5000)
    gate.set()
    qtbot.waitUntil(lambda: window.message.text().startswith("Saved "), timeout=5000)
    assert window.message.text() == f"Saved {tmp_path / 'a.cloudrift'}"


def test_closing_saves_first_and_then_closes(qtbot, window, tmp_path, monkeypatch, gate):
    session, path = window.session, tmp_path / "a.cloudrift"
    save_first(window, path, gate)
    changed(window, 77)
    answer(monkeypatch, "Save")
    window.close()
    assert window.isVisible()
    window.close()  # pressed again: there is nothing to ask twice
    gate.set()
    qtbot.waitUntil(lambda: not window.isVisible(), timeout=5000)
    assert load(path).tempo == 77
    assert session.document.is_saved


def test_what_comes_after_a_save_is_asked_about_before_closing(
    qtbot, window, tmp_path, monkeypatch, gate
):
    path = tmp_path / "a.cloudrift"
    save_first(window, path, gate)
    changed(window, 77)
    answer(monkeypatch, "Save")
    window.close()
    changed(window, 78)
    answer(monkeypatch, "Cancel")
    gate.set()
    qtbot.waitUntil(lambda: window.session.document._saved.loop.tempo == 77, timeout=5000)
    assert window.isVisible()
    assert window.session.loop.tempo == 78
    answer(monkeypatch, "Discard")
    window.close()
    assert not window.isVisible()


def test_a_save_that_fails_keeps_the_window_and_says_why(qtbot, window, tmp_path, monkeypatch):
    path = tmp_path / "a.cloudrift"
    assert saved(window.files.save_to, path)
    changed(window, 77)

    def full(*_given):
        raise CloudriftError("the disk is full")

    monkeypatch.setattr(saver, "save", full)
    answer(monkeypatch, "Save")
    window.close()
    qtbot.waitUntil(lambda: not window.session.document.saver.busy, timeout=5000)
    assert window.message.text() == "the disk is full"
    assert window.isVisible()
    assert load(path).tempo != 77
    assert not window.session.document.is_saved


# --- unsaved work ---------------------------------------------------------------------------------


def test_unsaved_work_is_kept_beside_the_interface(qtbot, window, monkeypatch):
    session = window.session
    changed(window)
    threads = []
    real = session.document.shelter.keep

    def watched(*given):
        threads.append(threading.current_thread())
        return real(*given)

    monkeypatch.setattr(session.document.shelter, "keep", watched)
    session.document._autosave.timeout.emit()
    qtbot.waitUntil(
        lambda: session.document.keeper.kept is session.document.history.now, timeout=5000
    )
    assert threads[0] is not threading.main_thread()
    session.document._autosave.timeout.emit()
    assert len(threads) == 1  # nothing has changed since
    (file,) = session.document.keeper.shelter.folder.glob("*.cloudrift")
    assert load(file) == session.loop
    assert file.stat().st_mode & 0o777 == 0o600


def test_what_is_saved_meanwhile_is_not_kept_again(qtbot, window, tmp_path, monkeypatch):
    session = window.session
    changed(window)
    session.document.keeper._writing.acquire()
    session.document._autosave.timeout.emit()
    assert session.document.keeper._thread.is_alive()
    session.document.keeper._writing.release()
    assert saved(session.document.save, tmp_path / "a.cloudrift")
    session.document.keeper._thread.join()
    qtbot.wait(20)
    assert list(session.document.keeper.shelter.folder.glob("*.cloudrift")) == []
    changed(window, 78)
    session.document.keeper._writing.acquire()
    session.document._autosave.timeout.emit()
    session.document.keeper._times_forgotten += 1  # another loop is open by now
    session.document.keeper._writing.release()
    session.document.keeper._thread.join()
    assert list(session.document.keeper.shelter.folder.glob("*.cloudrift")) == []


def test_what_was_forgotten_before_it_was_told_is_not_taken_for_kept(qtbot, window):
    changed(window)
    keeper = window.session.document.keeper
    window.session.document._autosave.timeout.emit()
    keeper._thread.join()
    keeper.forget()
    qtbot.wait(20)
    assert keeper.kept is None
    assert window.session.document.keep_unsaved()
    assert len(list(keeper.shelter.folder.glob("*.cloudrift"))) == 1


def test_work_that_cannot_be_kept_is_said_once(qtbot, window, monkeypatch):
    session = window.session
    said = []
    session.failed.connect(said.append)

    def full(*_given):
        raise CloudriftError("could not write x") from OSError(28, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(session.document.shelter, "keep", full)
        for tempo in (71, 72, 73):
            changed(window, tempo)
            session.document._autosave.timeout.emit()
            session.document.keeper._thread.join()
            qtbot.wait(20)
        assert said == ["Save soon: unsaved changes can't be backed up in "
                        f"{session.document.shelter.folder} (No space left on device)"]  # fmt: skip
        assert not session.document.keep_unsaved()
        assert len(said) == 1
    assert session.document.keep_unsaved()
    assert session.document.keeper.kept is session.document.history.now


def test_unsaved_work_that_cannot_be_read_is_said_and_stays(window, small_loop):
    from cloudrift.desktop.frame.app import offer_unsaved

    folder = window.session.document.shelter.folder
    folder.mkdir(parents=True)
    (folder / "broken.cloudrift").write_bytes(b"x")
    offer_unsaved(window)
    assert "Unsaved work was found that can't be read: " in window.message.text()
    assert (folder / "broken.cloudrift").exists()


RUNNING = """
import sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from cloudrift.desktop.frame import app
from cloudrift.desktop.frame import window
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.files.storage import load_document
shown = window.Window.showEvent
def change(self):
    self.session.apply("x", lambda loop: loop_edits.set_tempo(loop, 55))
    print("changed", flush=True)
def show(self, event):
    shown(self, event)
    QTimer.singleShot(0, lambda: change(self))
window.Window.showEvent = show
path = Path(sys.argv[1])
sys.exit(app.run((load_document(path), path)))
"""


@pytest.mark.parametrize("signal_name", ["SIGTERM", "SIGINT", "SIGHUP"])
def test_a_program_that_is_told_to_end_keeps_what_is_not_saved(small_loop, tmp_path, signal_name):
    import signal

    path = tmp_path / "a.cloudrift"
    save(small_loop, path)
    templates = template_folder()
    templates.mkdir(parents=True)
    left = templates / ".a.cloudrift.01234567.part"
    left.write_bytes(b"x")
    os.utime(left, (0, 0))
    with subprocess.Popen([sys.executable, "-c", RUNNING, str(path)], stdout=subprocess.PIPE,
                          stderr=subprocess.PIPE, text=True) as running:  # fmt: skip
        killer = threading.Timer(40, running.kill)  # rather than wait for ever
        killer.start()
        assert running.stdout.readline() == "changed\n"
        killer.cancel()
        running.send_signal(getattr(signal, signal_name))
        assert running.wait(20) == 0
        assert "Traceback" not in running.stderr.read()
    (found,) = left_behind(ClipStore())
    assert found.document.loop == loop_edits.set_tempo(small_loop, 55)
    assert found.origin == path
    assert load(path) == small_loop
    assert not left.exists()


# --- closing --------------------------------------------------------------------------------------


class Stuck:
    """A step that goes on until it is let go."""

    def __init__(self):
        self.begun, self.go = threading.Event(), threading.Event()

    def __call__(self, *_a, **_k):
        self.begun.set()
        self.go.wait(20)
        raise Cancelled


@pytest.mark.parametrize("where", ["render", "task", "once"])
def test_closing_does_not_wait_for_what_still_runs(
    qtbot, small_loop, speaker, tmp_path, monkeypatch, where
):
    from cloudrift.desktop.frame import window as window_module
    from cloudrift.desktop.frame.window import Window
    from cloudrift.desktop.session import session as session_module
    from cloudrift.desktop.session.session import Session

    monkeypatch.setattr(session_module, "CLOSING_S", 0.2)
    monkeypatch.setattr(window_module, "CLOSING_S", 0.2)
    stuck = Stuck()
    session = Session(small_loop, None, speaker, shelter=Shelter(tmp_path / "state"))
    window = Window(session)
    window.show()
    if where == "render":
        monkeypatch.setattr(session.engine, "render", stuck)
        changed(window)
    elif where == "task":
        window.tasks.run("x", stuck, lambda _answer: None)
    else:
        session.hearing.once._submit(0, stuck)
    assert stuck.begun.wait(10)
    hidden = []
    real = session.close

    def close(**how):
        hidden.append(not window.isVisible())
        return real(**how)

    monkeypatch.setattr(session, "close", close)
    monkeypatch.setattr(type(session.document), "would_be_lost", False)
    window.close()
    assert hidden == [True]  # gone before anything is waited for
    assert not window.ended
    assert speaker.closed
    stuck.go.set()
    wait_for(lambda: session.hearing._worker.has_ended(0) and session.hearing.once.has_ended(0))
    assert window.tasks.has_ended(5)


def test_an_engine_says_whether_its_steps_have_ended():
    engine, stuck = Engine(), Stuck()

    def work():
        with contextlib.suppress(Cancelled, CancelledError):
            engine.each(stuck, (1, 2, 3))

    thread = threading.Thread(target=work)
    thread.start()
    wait_for(lambda: stuck.begun.is_set() and engine._given)  # all have been handed over
    assert not engine.close(0.1)
    stuck.go.set()
    thread.join(10)
    assert engine.close(10.0)


STUCK = """
import sys, time
from PyQt6.QtCore import QTimer
from cloudrift.desktop.frame import app
from cloudrift.desktop.frame import window
shown = window.Window.showEvent
def show(self, event):
    shown(self, event)
    self.tasks.run("x", lambda *_: time.sleep(60), print)
    QTimer.singleShot(300, self.close)
window.Window.showEvent = show
code = app.run(None)
print("not reached")
"""


def test_the_program_ends_although_something_runs(tmp_path):
    done = subprocess.run(
        [sys.executable, "-c", STUCK], capture_output=True, text=True, timeout=40, check=False
    )  # fmt: skip - not the minute that it would have slept
    assert done.returncode == 0, done.stderr
    assert done.stdout == ""


def test_leaving_asks_nobody_and_keeps_what_is_not_saved(window, tmp_path):
    changed(window)
    window.leave()
    assert window.ended
    assert not window.isVisible()
    assert files._parts == set()
    (found,) = [load(p) for p in (tmp_path / "state").glob("*.cloudrift")]
    assert found.tempo == 77
