"""Work beside the interface: lanes that do not wait for each other, and what fails."""

import logging
import threading

import pytest

from cloudrift.desktop.session.work.tasks import Lane, Tasks
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits


@pytest.fixture
def tasks(qapp):
    made = Tasks()
    yield made
    made.stop()
    assert made.has_ended(5)


def fails(error):
    def work(_stop, _moved):
        raise error

    return work


def test_lanes_do_not_wait_for_each_other_and_one_lane_goes_in_order(tasks, qtbot):
    gate, came = threading.Event(), []

    def waits(_stop, _moved):
        assert gate.wait(10)
        return "long"

    tasks.run("deliver", waits, came.append, lane=Lane.WRITING)
    tasks.run("another", lambda _s, _m: "behind it", came.append, lane=Lane.WRITING)
    tasks.run("midi", lambda _s, _m: "read", came.append, lane=Lane.READING)
    tasks.run("ribbon", lambda _s, _m: "seen", came.append)
    qtbot.waitUntil(lambda: len(came) == 2, timeout=5000)
    assert sorted(came) == ["read", "seen"]
    gate.set()
    qtbot.waitUntil(lambda: len(came) == 4, timeout=5000)
    assert came[2:] == ["long", "behind it"]


@pytest.mark.parametrize("lane", [Lane.CHECKING, Lane.AHEAD])
def test_what_nobody_waits_for_holds_while_a_hand_waits(tasks, qtbot, lane):
    gate, reading, begun, steps, came = *(threading.Event() for _ in range(3)), [], []

    def aside(stale, _moved):
        steps.append("first")
        begun.set()
        assert reading.wait(10)
        tasks.give_way(stale)
        assert not stale()
        steps.append("second")

    def reads(_stale, _moved):
        assert gate.wait(10)
        steps.append("read")

    tasks.run("checks", aside, came.append, lane=lane)
    assert begun.wait(10)
    tasks.run("midi", reads, came.append, lane=Lane.READING)
    reading.set()
    qtbot.wait(60)
    assert steps == ["first"] and tasks.is_running("checks")
    gate.set()
    qtbot.waitUntil(lambda: len(came) == 2, timeout=5000)
    assert steps == ["first", "read", "second"] and not tasks.is_running("checks")


def test_what_holds_ends_with_the_window(tasks):
    gate, ended = threading.Event(), []
    tasks.run("midi", lambda _s, _m: gate.wait(10), print, lane=Lane.READING)
    tasks.run("checks", lambda stale, _m: tasks.give_way(stale), ended.append, lane=Lane.CHECKING)
    tasks.stop()
    (held,) = [one for lane, one in tasks._futures if lane is Lane.CHECKING]
    assert held.cancelled() or held.result(timeout=5) is None
    gate.set()


def test_all_lanes_have_ended_only_when_each_has(tasks):
    gate = threading.Event()
    tasks.run("deliver", lambda _s, _m: gate.wait(10), print, lane=Lane.WRITING)
    tasks.run("ribbon", lambda _s, _m: 1, lambda _a: None)
    tasks.stop()
    assert not tasks.has_ended(0.05)
    gate.set()
    assert tasks.has_ended(5)


def test_what_fails_unheard_is_said(tasks, qtbot):
    said = []
    tasks.broke.connect(said.append)
    tasks.run("room", fails(CloudriftError("no room today")), lambda _a: None)
    qtbot.waitUntil(lambda: bool(said), timeout=5000)
    assert said == ["no room today"]
    tasks.run("room", fails(Cancelled()), lambda _a: None)
    done = []
    tasks.run("last", lambda _s, _m: 1, done.append)
    qtbot.waitUntil(lambda: bool(done), timeout=5000)
    assert len(said) == 1  # what was wanted no longer is nothing to say


@pytest.mark.parametrize("how", ["cancelled", "replaced"])
@pytest.mark.parametrize("work", [fails(CloudriftError("no")), lambda _s, _m: "old"])
def test_what_has_ended_and_is_wanted_no_longer_says_nothing(tasks, qtbot, how, work):
    """It has ended before; what it came to is still under way to this thread."""
    done, failed, ended = [], [], threading.Event()

    def ends(stop, moved):
        moved(0.5, "half")
        try:
            return work(stop, moved)
        finally:
            ended.set()

    tasks.run("room", ends, done.append, failed.append, lambda *half: done.append(half))
    assert ended.wait(5) and tasks.has_ended(5)
    if how == "cancelled":
        tasks.cancel("room")
    else:
        tasks.run("room", lambda _s, _m: "new", done.append)
    tasks.run("last", lambda _s, _m: "last", done.append)
    qtbot.waitUntil(lambda: "last" in done, timeout=5000)
    assert done == ["new", "last"][how == "cancelled" :]
    assert all(isinstance(error, Cancelled) for error in failed)


@pytest.mark.parametrize("heard", [True, False])
def test_a_fault_is_logged_with_its_place_and_heard_as_a_sentence(tasks, qtbot, caplog, heard):
    errors, said = [], []
    tasks.broke.connect(said.append)
    with caplog.at_level(logging.ERROR):
        tasks.run("strata", fails(KeyError("l9")), lambda _a: None,
                  errors.append if heard else None)  # fmt: skip
        qtbot.waitUntil(lambda: bool(errors or said), timeout=5000)
    words = str(errors[0]) if heard else said[0]
    assert words.startswith("strata failed ('l9')")
    assert isinstance((errors or [CloudriftError("")])[0], CloudriftError)
    (record,) = caplog.records
    assert record.exc_info[0] is KeyError


def test_what_goes_wrong_with_what_is_wanted_no_longer_is_not_logged(tasks, qtbot, caplog):
    begun, gate, failed, done = threading.Event(), threading.Event(), [], []

    def work(_stop, _moved):
        begun.set()
        assert gate.wait(10)
        raise KeyError("l9")

    with caplog.at_level(logging.ERROR):
        tasks.run("strata", work, done.append, failed.append)
        assert begun.wait(10)
        tasks.cancel("strata")
        gate.set()
        tasks.run("last", lambda _s, _m: "last", done.append)
        qtbot.waitUntil(lambda: done == ["last"], timeout=5000)
    assert not caplog.records and isinstance(failed[0], Cancelled)


def test_pictures_follow_while_files_are_written(window, qtbot, monkeypatch):
    from cloudrift.desktop.stages.deliver import files_page

    gate = threading.Event()

    def slowly(*_given, clips, cancelled, progress):
        progress(1, 4, "Ice Road.wav")
        assert gate.wait(20)
        return []

    monkeypatch.setattr(files_page, "deliver", slowly)
    window.show_stage(6)
    window.deliver.files.write.click()
    said = window.deliver.files.result
    qtbot.waitUntil(lambda: said.text() == "Exporting Ice Road.wav", timeout=5000)
    seen = []
    real = window.ribbon._take

    def take(made):
        seen.append(made)
        real(made)

    monkeypatch.setattr(window.ribbon, "_take", take)
    window.session.apply("slower", lambda loop: loop_edits.set_tempo(loop, 70))
    qtbot.waitUntil(lambda: bool(seen), timeout=20_000)
    assert not gate.is_set()
    assert window.deliver.files.cancel.isVisible()
    gate.set()
    qtbot.waitUntil(window.deliver.files.write.isEnabled, timeout=5000)
