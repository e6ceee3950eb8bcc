"""A long day in short: random edits and presses while the loop plays: ``python -m tools.soak``.

Prints a row a minute: memory (the median of thirty looks, and the most), threads, children, gaps in
the sound, errors. Then it is closed, and a program is ended in each other way there is (SIGTERM,
SIGINT, SIGKILL) and what is left of it looked for. Everything happens in folders of its own.
"""

import argparse
import contextlib
import ctypes
import logging
import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections import Counter
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.mishaps import Mishaps
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.ground.lru import made_bytes
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.flip import cutting, flips, ordering
from cloudrift.loop.edits.flip.scatter import Rules, scattered
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.model.loop import Loop
from cloudrift.render.play.player import SWITCH_INTERVAL_S
from cloudrift.sound.catalogue import CATALOGUE
from cloudrift.style import house_cards, sketch
from cloudrift.texture.catalogue import KINDS

SETTLED_MIN = 5
EVERY_MS = 150
KEYS = (Qt.Key.Key_Tab, Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_Left, Qt.Key.Key_Right,
        Qt.Key.Key_Escape, Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Home)  # fmt: skip
FOLDERS = ("HOME", "XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "TMPDIR")


# --- what is done ---------------------------------------------------------------------------------


class Deeds:
    """Things that somebody might do, drawn by a number."""

    def __init__(self, window: Window, seed: int) -> None:
        self.window, self.session = window, window.session
        self.rng = random.Random(seed)
        self.done: Counter[str] = Counter()
        self._preview = Preview(window.session.hearing.previews, window)
        self._deeds: list[tuple[int, Callable[[], object]]] = [
            (6, self.setting), (3, self.treatment), (2, self.layer), (4, self.chord),
            (3, self.level), (2, self.notes), (5, self.undo), (3, self.stage), (5, self.press),
            (6, self.click), (1, self.select), (1, self.preview), (1, self.alone), (1, self.bare),
            (1, self.another), (1, self.tempo), (1, self.play), (2, self.flip),
        ]  # fmt: skip

    def one(self) -> None:
        """Do one of them."""
        weights = [weight for weight, _ in self._deeds]
        deed = self.rng.choices([deed for _, deed in self._deeds], weights)[0]
        self.done[deed.__name__] += 1
        deed()

    @property
    def loop(self) -> Loop:
        """The loop as it is."""
        return self.session.loop

    def _owner(self) -> str | None:
        return self.rng.choice([None, *(layer.id for layer in self.loop.layers)])

    def _layer(self) -> str | None:
        return self.rng.choice([layer.id for layer in self.loop.layers] or [None])

    def setting(self) -> None:
        """Move a setting of a treatment."""
        owner = self._owner()
        line = self.loop.line_of(owner)
        if line:
            treatment = self.rng.choice(line)
            field = self.rng.choice(list(treatment.of.spec))
            value = self.rng.choice(field.choices) if field.choices else field.from_share(
                self.rng.random())  # fmt: skip
            self.session.apply("setting", lambda x: line_edits.set_treatment_setting(
                x, owner, treatment.id, field.name, value))  # fmt: skip

    def treatment(self) -> None:
        """Add, remove, move or switch a treatment."""
        owner = self._owner()
        line = self.loop.line_of(owner)
        if len(line) < 3 or self.rng.random() < 0.2:
            kind = self.rng.choice(list(KINDS))
            self.session.apply("add", lambda x: line_edits.add_treatment(x, owner, kind))
        else:
            one = self.rng.choice(line).id
            edit = self.rng.choice((
                lambda x: line_edits.remove_treatment(x, owner, one),
                lambda x: line_edits.remove_treatment(x, owner, one),
                lambda x: line_edits.move_treatment(x, owner, one, 1),
                lambda x: line_edits.set_treatment(x, owner, one, on=False),
            ))  # fmt: skip
            self.session.apply("line", edit)

    def layer(self) -> None:
        """Add, remove, copy, group or re-sound a layer."""
        one = self._layer()
        if one is None or len(self.loop.layers) < 4:
            sound = self.rng.choice(list(CATALOGUE))
            self.session.apply("add layer", lambda x: layer_edits.add_layer(x, sound))
            return
        sound = self.rng.choice(list(CATALOGUE))
        many = len(self.loop.layers) > 7
        self.session.apply("layer", self.rng.choice((
            lambda x: layer_edits.remove_layer(x, one),
            lambda x: layer_edits.remove_layer(x, one) if many else layer_edits.copy_layer(x, one),
            lambda x: layer_edits.set_sound(x, one, sound),
            lambda x: layer_edits.group_layers(x, [one]),
        )))  # fmt: skip

    def chord(self) -> None:
        """Change a chord."""
        if self.loop.chords:
            one = self.rng.choice(self.loop.chords).id
            steps = self.rng.choice((-2, -1, 1, 2))
            self.session.apply("chord", self.rng.choice((
                lambda x: chord_edits.move_chord(x, one, steps=steps),
                lambda x: chord_edits.invert(x, one, up=steps > 0),
                lambda x: chord_edits.to_nearest(x, [one]),
            )))  # fmt: skip

    def level(self) -> None:
        """Move a level or a pan, switch a layer."""
        one = self._layer()
        if one:
            change = self.rng.choice((
                {"level_db": self.rng.uniform(-30, 3)}, {"pan": self.rng.uniform(-1, 1)},
                {"mute": self.rng.random() < 0.2},
            ))  # fmt: skip
            self.session.apply("mix", lambda x: layer_edits.set_layer(x, one, **change))

    def notes(self) -> None:
        """Let a layer go of the chords, or take them again."""
        one = self._layer()
        if one:
            edit = own_notes.detach if self.loop.layer(one).follows else own_notes.take_again
            self.session.apply("notes", lambda x: edit(x, one))

    def undo(self) -> None:
        """Undo or redo a few steps."""
        for _ in range(self.rng.choice((1, 1, 3))):
            document = self.session.document
            document.undo() if self.rng.random() < 0.7 else document.redo()

    def stage(self) -> None:
        """Go to another stage."""
        self.window.show_stage(self.rng.randrange(5))

    def flip(self) -> None:
        """Print something, or lay a flip out otherwise; too many are taken out again."""
        found = [x for x in self.loop.layers if x.flipped is not None]
        if len(found) > 3:
            self.session.apply("fewer", lambda x: layer_edits.remove_layer(x, found[0].id))
        one = self._layer()
        if not found or self.rng.random() < 0.15:
            self.window.flip.printing.print_what((one,) if one and self.rng.random() < 0.5 else ())
            return
        rules = Rules(amount=60, octave=10, silence=5, variation=self.rng.randrange(99))
        edit = self.rng.choice((ordering.backward, ordering.backward_in_order, cutting.reset,
                                lambda flip: scattered(flip, rules, 3840)))  # fmt: skip
        self.session.apply("flip", lambda x: flips.with_flip(x, found[-1].id, edit))

    def press(self) -> None:
        """Press a key where the focus is."""
        target = QApplication.focusWidget() or self.window
        QTest.keyClick(target, self.rng.choice(KEYS), self.rng.choice(
            (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier)))  # fmt: skip

    def click(self) -> None:
        """Click somewhere, or drag a little from there."""
        at = QPoint(
            self.rng.randrange(self.window.width()), self.rng.randrange(40, self.window.height())
        )
        widget = self.window.childAt(at)
        if not isinstance(widget, QWidget) or not widget.isEnabled():
            return
        here = widget.mapFrom(self.window, at)
        button = Qt.MouseButton.LeftButton
        QTest.mousePress(widget, button, pos=here)
        if self.rng.random() < 0.3:
            for _ in range(4):
                here += QPoint(self.rng.randrange(-20, 21), self.rng.randrange(-20, 21))
                QTest.mouseMove(widget, here)
        QTest.mouseRelease(widget, button, pos=here)

    def select(self) -> None:
        """Select another layer's line."""
        one = self._layer()
        if one:
            self.session.select(layer_id=one)

    def preview(self) -> None:
        """Hear another loop, or return."""
        if self._preview.on:
            self._preview.end()
        else:
            self._preview.put(self._sketch(), "another loop")

    def alone(self) -> None:
        """Hear a layer alone, or all again."""
        one = self._layer()
        self.session.hearing.solo([] if self.session.hearing.alone or one is None else [one])

    def bare(self) -> None:
        """Hear it bare, or treated."""
        self.session.hearing.swap()

    def another(self) -> None:
        """Open another loop."""
        self.session.document.open(self._sketch(), None)

    def tempo(self) -> None:
        """Set the tempo."""
        self.session.apply(
            "tempo", lambda x: loop_edits.set_tempo(x, float(self.rng.randrange(90, 180)))
        )

    def play(self) -> None:
        """Stop and play again: it plays most of the day."""
        self.session.transport.set_playing(False)
        self.session.transport.set_playing(True)

    def _sketch(self) -> Loop:
        card = self.rng.choice(list(house_cards().values()))
        return sketch(card, variation=self.rng.randrange(1000), bars=8)


# --- watching -------------------------------------------------------------------------------------


def resident_mib() -> float:
    """How much memory this process has."""
    with open("/proc/self/statm") as file:
        return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20


class _Heap(ctypes.Structure):
    """What the C library says of its heap (mallinfo2(3)), in bytes."""

    _fields_ = [(name, ctypes.c_size_t) for name in (
        "arena", "ordblks", "smblks", "hblks", "hblkhd", "usmblks", "fsmblks", "uordblks",
        "fordblks", "keepcost")]  # fmt: skip


def free_heap_mib() -> float:
    """How much of the heap is freed and not given back; 0 where the C library does not say."""
    library = ctypes.CDLL(None)
    if not hasattr(library, "mallinfo2"):
        return 0.0
    library.mallinfo2.restype = _Heap
    return float(library.mallinfo2().fordblks) / 2**20


def stores_mib(session: Session) -> float:
    """How much the bounded stores hold."""
    engine = session.engine
    return (engine.cache.size_bytes + engine.tones.size_bytes + made_bytes()) / 2**20


def children() -> list[int]:
    """The processes that this one has started."""
    done = subprocess.run(["ps", "-o", "pid=", "--ppid", str(os.getpid())], capture_output=True,
                          text=True, check=False)  # fmt: skip
    found = [int(pid) for pid in done.stdout.split()]
    return [pid for pid in found if Path(f"/proc/{pid}/comm").exists()
            and Path(f"/proc/{pid}/comm").read_text().strip() != "ps"]  # fmt: skip


class Errors(logging.Handler):
    """Counts what the program has logged, and keeps each kind's first words."""

    def __init__(self) -> None:
        super().__init__(logging.WARNING)
        self.found: Counter[str] = Counter()

    def emit(self, record: logging.LogRecord) -> None:
        """Take one in."""
        words = record.getMessage()
        if record.exc_info and record.exc_info[1] is not None:
            words += "\n" + "".join(traceback.format_exception(record.exc_info[1])[-6:])
        self.found[words] += 1
        if self.found[words] == 1:
            print(f"!!! {words}", flush=True)


def close_what_asks() -> None:
    """Turn away every window that waits for an answer: nobody is there."""
    for asks in (QApplication.activePopupWidget(), QApplication.activeModalWidget()):
        if asks is not None:
            asks.close()


class Watch:
    """Looks at the program while it is used, and prints a row a minute."""

    head = ("minute", "memory, MiB", "at most, MiB", "threads", "children", "longest wait, ms",
            "gaps", "deeds", "errors", "in stores, MiB", "free heap, MiB")  # fmt: skip

    def __init__(self, session: Session, deeds: Deeds, errors: Errors) -> None:
        self._session, self._deeds, self._errors = session, deeds, errors
        self._began = time.monotonic()
        self._memory: list[float] = []  # since the last row
        self._rows: list[tuple[float, float, int, int]] = []

    def look(self) -> None:
        """Look at the memory."""
        self._memory.append(resident_mib())

    def row(self) -> None:
        """Print what was seen since the last row."""
        player = self._session.player
        self.look()
        memory, most = statistics.median(self._memory), max(self._memory)
        wait_ms = 1e3 * max(player.waits_s, default=0.0)
        self._memory.clear()
        player.waits_s.clear()
        minute = (time.monotonic() - self._began) / 60
        threads, processes = threading.active_count(), len(children())
        self._rows.append((minute, memory, threads, processes))
        cells = (f"{minute:.1f}", f"{memory:.0f}", f"{most:.0f}", threads, processes,
                 f"{wait_ms:.0f}", player.gaps, sum(self._deeds.done.values()),
                 sum(self._errors.found.values()), f"{stores_mib(self._session):.0f}",
                 f"{free_heap_mib():.0f}")  # fmt: skip
        print(f"| {' | '.join(map(str, cells))} |", flush=True)

    def summary(self) -> str:
        """Say how memory, threads and children were once all had settled."""
        settled = [row for row in self._rows if row[0] >= SETTLED_MIN] or self._rows[-1:]
        minutes, memory = np.array([row[:2] for row in settled]).T
        mean = memory.mean()
        away = np.abs(memory / mean - 1).max()
        grows = np.polyfit(minutes, memory, 1)[0] * 60 if len(settled) > 1 else 0.0
        return (f"memory after {SETTLED_MIN} min: {memory.min():.0f} to {memory.max():.0f} MiB, no "
                f"minute farther than {away:.0%} from their mean of {mean:.0f}; grows by "
                f"{grows:+.0f} MiB an hour; threads {sorted({r[2] for r in settled})}; "
                f"children {sorted({r[3] for r in settled})}")  # fmt: skip


def day(minutes: float, seed: int) -> int:
    """Edit for so long; return how much was wrong."""
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    app = make_app("Nightfall")
    errors = Errors()
    logging.getLogger("cloudrift").addHandler(errors)
    loop = polar_night()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    window = Window(session)
    mishaps = Mishaps(session.document.keep_unsaved, window)
    said: Counter[str] = Counter()
    session.failed.connect(lambda words: said.update([words]))
    mishaps.install()
    window.resize(1280, 800)
    window.show()
    session.transport.set_playing(True)
    deeds = Deeds(window, seed)
    watch = Watch(session, deeds, errors)
    print(f"| {' | '.join(watch.head)} |")
    print("|---" * len(watch.head) + "|")
    timers = []
    whats = ((EVERY_MS, deeds.one), (200, close_what_asks), (2000, watch.look), (60_000, watch.row))
    for every_ms, what in whats:
        timer = QTimer()
        timer.timeout.connect(what)
        timer.start(every_ms)
        timers.append(timer)
    QTimer.singleShot(int(minutes * 60_000), lambda: app.exit(0))  # quitting would ask the window
    app.exec()
    for timer in timers:
        timer.stop()
    closing = time.monotonic()
    window.leave()
    took = time.monotonic() - closing
    mishaps.remove()
    print(f"\n{dict(deeds.done)}\nrefused in words: {sum(said.values())}, of {len(said)} kinds\n"
          f"{watch.summary()}; closed in {took:.1f} s")  # fmt: skip
    return sum(errors.found.values())


# --- how it ends ----------------------------------------------------------------------------------


def _descendants(pid: int) -> list[int]:
    done = subprocess.run(["ps", "-o", "pid=", "--ppid", str(pid)], capture_output=True, text=True,
                          check=False)  # fmt: skip
    found = [int(one) for one in done.stdout.split()]
    return found + [other for one in found for other in _descendants(one)]


def _alive(pid: int) -> bool:
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0] != "Z"
    return False


def _wait(until: Callable[[], bool], seconds: float) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if until():
            return True
        time.sleep(0.05)
    return until()


def endings() -> int:
    """End the program in each way there is; return how much was wrong."""
    wrong = 0
    print("\n| ended by | within, s | exit | processes left | files left | traceback |")
    print("|---" * 6 + "|")
    for how in ("SIGTERM", "SIGINT", "SIGKILL"):
        home = Path(tempfile.mkdtemp(prefix="soak"))
        env = os.environ | {name: str(home / name.lower()) for name in FOLDERS}
        (home / "tmpdir").mkdir()
        process = subprocess.Popen([sys.executable, "-P", "-m", "cloudrift", "demo"], env=env,
                                   stderr=subprocess.PIPE, text=True)  # fmt: skip
        # Up, rendered, and with its stretching processes, which the demo needs.
        up = _wait(lambda p=process: len(_descendants(p.pid)) >= 1, 60)
        time.sleep(4)
        family = [process.pid, *_descendants(process.pid)]
        began = time.monotonic()
        process.send_signal(getattr(signal, how))
        gone = _wait(lambda f=family, p=process: p.poll() is not None
                     and not any(_alive(pid) for pid in f), 10)  # fmt: skip
        took = time.monotonic() - began
        left = [pid for pid in family if _alive(pid)]
        for pid in left:
            os.kill(pid, signal.SIGKILL)
        said = process.communicate(timeout=10)[1]
        files = [p for p in home.rglob("*") if p.name.endswith(".part")
                 or (p.is_file() and "tmpdir" in p.parts)]  # fmt: skip
        print(f"| {how} | {took:.1f} | {process.returncode} | {len(left)} | "
              f"{[p.name for p in files]} | {'Traceback' in said} |", flush=True)  # fmt: skip
        wrong += (not up) + (not gone) + len(files) + ("Traceback" in said)
        shutil.rmtree(home, ignore_errors=True)
    return wrong


def main() -> int:
    """Run it and return the exit code: 1 if anything was wrong."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("minutes", nargs="?", type=float, default=15.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--endings", action="store_true", help="only end the program in each way")
    given = parser.parse_args()
    home = Path(tempfile.mkdtemp(prefix="soak"))
    for name in FOLDERS:
        (home / name.lower()).mkdir()
        os.environ[name] = str(home / name.lower())
    wrong = 0 if given.endings else day(given.minutes, given.seed)
    wrong += endings()
    shutil.rmtree(home, ignore_errors=True)
    print(f"\n{wrong} things went wrong")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
