"""A program that runs all day: processes that die, memory, gaps, closing while it works."""

import os
import signal
import subprocess
import sys
import threading
import time
from functools import partial
from pathlib import Path

import numpy as np
import pytest

from cloudrift.audio import stretch
from cloudrift.audio.stretch import pitch_shifted
from cloudrift.ground import CloudriftError
from cloudrift.ground.lru import MOST_MADE, BoundedStore, bytes_of, detached, forget_made, memoize
from cloudrift.loop.edits import loop_edits
from cloudrift.render.play.player import PERIODS, Player
from tests.conftest import wait_for

RATE = 44_100


def tone(seconds=0.5):
    t = np.arange(int(seconds * RATE)) / RATE
    return np.stack([np.sin(2 * np.pi * 220 * t)] * 2).astype(np.float32) * 0.3


def at_work():
    """The stretching processes that wait for work."""
    return [c for c in stretch._idle.queue if c is not None and c._process.poll() is None]


# --- stretching processes -------------------------------------------------------------------------


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP], ids=["dies", "hangs"])
def test_a_stretching_process_that_is_lost_is_replaced(monkeypatch, how):
    monkeypatch.setattr(stretch, "STILL_S", 0.3)
    monkeypatch.setattr(stretch, "_LOOK_S", 0.05)
    wanted = pitch_shifted(tone(), 3, RATE)
    lost = [child._process.pid for child in at_work()]
    assert lost
    for pid in lost:
        os.kill(pid, how)
    # Larger than a pipe holds: a process that has stopped is found while it is written to.
    assert np.array_equal(pitch_shifted(tone(), 3, RATE), wanted)
    assert lost[-1] not in {child._process.pid for child in at_work()}


def test_one_that_computes_without_end_is_given_up(monkeypatch):
    monkeypatch.setattr(stretch, "START_S", 0.1)
    monkeypatch.setattr(stretch, "MOST_CPU", 0.0)
    monkeypatch.setattr(stretch, "_LOOK_S", 0.05)
    with pytest.raises(CloudriftError, match="ended or stood still; try again"):
        pitch_shifted(np.tile(tone(), 60), 3, RATE)


def test_a_process_that_cannot_be_started_is_said(monkeypatch):
    children = at_work()
    for child in children:
        child.close()
    while not stretch._idle.empty():
        stretch._idle.get()
    for _ in range(stretch.PROCESSES):
        stretch._idle.put(None)
    monkeypatch.setattr(stretch.sys, "executable", "/nowhere/python")
    with pytest.raises(CloudriftError, match=r"no process could be started \(No such file"):
        pitch_shifted(tone(), 3, RATE)
    monkeypatch.undo()
    assert pitch_shifted(tone(), 3, RATE).shape == tone().shape


def test_stretching_that_is_stopped_is_not_begun_again(monkeypatch):
    pitch_shifted(tone(), 3, RATE)
    begun = []
    real = stretch._Child.stretched

    def shifted(child, *what):
        begun.append(child)
        return real(child, *what)

    monkeypatch.setattr(stretch._Child, "stretched", shifted)
    said = []

    def work():
        with pytest.raises(CloudriftError) as error:
            pitch_shifted(np.tile(tone(), 200), 3, RATE)
        said.append(str(error.value))

    thread = threading.Thread(target=work)
    thread.start()
    wait_for(lambda: begun)
    time.sleep(0.1)  # it is at work
    stretch.stop_stretching()
    thread.join(10)
    assert said
    assert len(begun) == 1
    monkeypatch.undo()
    assert pitch_shifted(tone(), 3, RATE).any()


STRETCHING = """
import os, sys, numpy as np
from cloudrift.audio import stretch
stretch.pitch_shifted(np.zeros((2, 20000), np.float32), 3, 44100)
print(*[c._process.pid for c in stretch._idle.queue if c], flush=True)
sys.stdin.read()
"""


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGTERM, signal.SIGINT, None],
                         ids=["killed", "ended", "interrupted", "over"])  # fmt: skip
def test_the_children_end_with_the_parent(how):
    pipes = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.PIPE)
    parent = subprocess.Popen([sys.executable, "-P", "-c", STRETCHING], text=True, **pipes)
    children = [int(pid) for pid in parent.stdout.readline().split()]
    assert children
    # Busy or not: a stopped process could never look whether its input has ended.
    for pid in children:
        os.kill(pid, signal.SIGSTOP)
    if how is None:
        parent.stdin.close()
    else:
        parent.send_signal(how)
    parent.wait(10)
    wait_for(lambda: not any(alive(pid) for pid in children), 10)
    assert "stretch_child" not in parent.stderr.read()


def alive(pid):
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


# --- memory ---------------------------------------------------------------------------------------


def test_what_is_kept_is_counted_in_bytes():
    made = []

    @memoize
    def large(number: int, *, size: int = 1) -> tuple[np.ndarray, int]:
        made.append(number)
        return np.zeros(size, np.uint8), number

    forget_made()
    assert bytes_of((np.zeros(10), (np.zeros((2, 5), np.float32), 3))) == 80 + 40 + 3 * 64
    for _ in range(3):
        assert large(1, size=1000)[1] == 1
    assert made == [1]
    assert large(1, size=1001)[0].shape == (1001,)
    for number in range(2, 6):
        large(number, size=MOST_MADE // 3)
    assert made == [1, 1, 2, 3, 4, 5]
    large(5, size=MOST_MADE // 3)
    assert made[-1] == 5
    before = len(made)
    for number in (2, 3, 4):
        large(number, size=MOST_MADE // 3)
    assert len(made) > before  # one had to go
    forget_made()


def test_what_is_dear_for_its_room_outlives_what_is_cheap():
    store = BoundedStore(1000, len)
    store.put("dear", b"x" * 100, cost_ms=50)
    for i in range(20):
        store.put(i, b"x" * 300, cost_ms=3)
    assert store.get("dear")
    assert store.get(19)
    assert store.get(0) is None
    store.put("cheap", b"x" * 700)
    assert store.get("cheap")  # the newest stays, whatever it is worth


def test_a_loop_that_needs_more_than_there_is_room_for_finds_most_of_it():
    # One after another, round and round: the least recently used would always be what is next.
    store, made = BoundedStore(1000, len), []

    def make(i):
        made.append(i)
        time.sleep(1e-4 * (1 + i))
        return b"x" * 100

    for _ in range(5):
        for i in range(11):
            store.made(i, partial(make, i))
    assert len(made) < 30  # of 55


def test_even_what_is_dear_goes_when_it_is_no_longer_wanted():
    store = BoundedStore(1000, len)
    store.put("dear", b"x" * 100, cost_ms=50)
    for i in range(400):
        store.put(i, b"x" * 300, cost_ms=3)
    assert store.get("dear") is None


def test_of_what_nothing_is_known_the_least_recently_used_goes():
    store = BoundedStore(3, lambda _: 1)
    for key in "abc":
        store.put(key, key)
    assert store.get("a")
    store.put("d", "d")
    assert [key for key, _ in store.items()] == ["c", "a", "d"]
    store.put("a", "other")
    assert store.size_bytes == 3
    assert store.get("a") == "other"


def test_parts_of_an_array_hold_it_once_and_are_copied_if_it_is_more_than_they():
    whole = np.arange(4000.0).reshape(4, 1000)
    soft, hard = whole[0], whole[1]
    assert bytes_of(soft) == 32_000
    assert bytes_of((soft, hard)) == 32_000 + 64
    assert np.shares_memory(detached(whole[:2], whole[2:])[1], whole)  # together they are all of it
    assert detached(small := np.zeros(2))[0] is small
    some = detached(soft, hard, soft)
    assert bytes_of(some) == 16_000 + 64
    assert some[0] is some[2]
    assert not np.shares_memory(some[1], whole)
    assert np.array_equal(some[1], hard)


def test_a_store_never_holds_more_than_it_may():
    store = BoundedStore(1000, len)
    for i in range(50):
        store.put(i, b"x" * 90)
        assert store.size_bytes <= 1000
    store.put("large", b"x" * 5000)
    assert store.get("large")
    assert store.get(49) is None


FREED = """
import numpy as np
from cloudrift.ground.memory import give_back, keep_memory_tidy
def mib():
    return int(next(r for r in open("/proc/self/status") if r.startswith("VmRSS")).split()[1]) >> 10
keep_memory_tidy()
large = np.ones(500_000)
del large  # the allocator learns from it how large a block of its own may be
before, small = mib(), []
for _ in range(4):
    loops = []
    for _ in range(50):
        loops.append(np.ones(400_000))
        small.append(np.ones(2000))  # lies behind it, and stays
    del loops
held = mib() - before
give_back()
print(held, mib() - before)
"""


def test_what_is_freed_goes_back_to_the_system():
    done = subprocess.run([sys.executable, "-c", FREED], capture_output=True, text=True,
                          timeout=60, check=True)  # fmt: skip
    held, then = map(int, done.stdout.split())
    assert held > 100  # as the allocator would have it
    assert then < 30  # of 160 MiB; 3 of them are still in use


def test_a_worker_gives_memory_back_now_and_then(qtbot, window, monkeypatch):
    from cloudrift.render.engine import worker

    given = []
    monkeypatch.setattr(worker, "give_back", lambda: given.append(threading.current_thread()))
    monkeypatch.setattr(worker, "GIVE_BACK_S", 3600.0)
    monkeypatch.setattr(worker, "REST_S", 3600.0)
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 71))
    qtbot.waitUntil(lambda: not window.session.hearing.busy, timeout=10_000)
    qtbot.wait(400)  # what it rested with before has run out
    given.clear()
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 72))
    qtbot.waitUntil(lambda: not window.session.hearing.busy, timeout=10_000)
    assert given == []
    monkeypatch.setattr(worker, "REST_S", 0.02)
    window.session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 73))
    qtbot.waitUntil(lambda: bool(given), timeout=10_000)
    qtbot.wait(100)
    assert [thread.name for thread in given] == ["render worker"]  # once a rest


# --- the speaker's time ---------------------------------------------------------------------------


def test_a_pull_that_comes_too_late_is_counted(monkeypatch):
    player = Player(RATE)
    now = [100.0]
    monkeypatch.setattr(time, "perf_counter", lambda: now[0])
    lasts = 1024 / RATE
    for _ in range(20):
        player.pull(1024)
        now[0] += lasts
    assert player.gaps == 0
    now[0] += (PERIODS - 1.5) * lasts  # late, but the device still has something to play
    player.pull(1024)
    assert player.gaps == 0
    for _ in range(PERIODS):  # it catches up
        player.pull(1024)
    now[0] += (2 * PERIODS + 1) * lasts
    player.pull(1024)
    assert player.gaps == 1
    assert max(player.waits_s) == pytest.approx((2 * PERIODS + 1) * lasts)
    player.reset_clock()
    now[0] += 60
    player.pull(1024)
    assert player.gaps == 1


def test_gaps_are_shown_in_the_settings(qtbot, window):
    from cloudrift.desktop.frame.settings_sheet import SettingsSheet

    player = window.session.player
    player.waits_s.append(0.041)
    sheet = SettingsSheet(window.session, window)
    assert "None since the start. The longest wait for sound was 41 ms." in sheet.gaps.text()
    player.gaps, player.waits_s = 2, type(player.waits_s)([0.3])
    sheet._clock.timeout.emit()
    assert sheet.gaps.text().startswith("2 gaps since the start; the longest wait")
    assert "300 ms" in sheet.gaps.text()
    assert "Its buffer of 20 ms grows by itself" in sheet.gaps.text()


def test_the_light_goes_out_when_nothing_can_be_rendered(qtbot, window, monkeypatch):
    session = window.session
    qtbot.waitUntil(lambda: not window.ribbon._busy, timeout=10_000)
    said = []
    session.failed.connect(said.append)

    def broken(*_a, **_k):
        raise CloudriftError("no sound today")

    monkeypatch.setattr(session.engine, "render", broken)
    session.apply("tempo", lambda loop: loop_edits.set_tempo(loop, 70))
    assert window.ribbon._busy
    qtbot.waitUntil(lambda: not window.ribbon._busy and len(said) == 2, timeout=5000)
    assert said == ["no sound today"] * 2
    assert not session.hearing.busy
