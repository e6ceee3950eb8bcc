"""Print the performance table as Markdown: what was measured against what is wanted."""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections import deque
from functools import partial
from itertools import pairwise
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from msgspec.structs import replace

from bench import arranged, hands
from bench import engine as engine_room
from bench.loops import big_loop
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import save
from cloudrift.loop.model.loop import Loop
from cloudrift.render import Engine, Player
from cloudrift.render.engine.ahead import ahead
from cloudrift.render.engine.worker import RenderWorker
from cloudrift.render.play.player import SWITCH_INTERVAL_S
from cloudrift.style import find_card, sketch

ROUNDS = 12
EDITING_S = float(os.environ.get("CLOUDRIFT_BENCH_EDITING_S", "30"))


def timed(engine: Engine, loops: list[Loop]) -> tuple[list[float], list[float]]:
    """How long until what comes next is there, and until the whole loop is, in ms, for each."""
    soon, whole = [], []
    for i, loop in enumerate(loops):
        began = time.perf_counter()
        stretches = ahead(engine, loop, i / len(loops))
        if next(stretches, None) is not None:
            soon.append((time.perf_counter() - began) * 1e3)
            deque(stretches, maxlen=0)
        engine.render(loop)
        whole.append((time.perf_counter() - began) * 1e3)
        if len(soon) < len(whole):
            soon.append(whole[-1])
    return soon, whole


def figures(ms: list[float]) -> str:
    return f"{statistics.median(ms):.0f} ms median, {max(ms):.0f} ms worst"


def both_figures(took: tuple[list[float], list[float]]) -> str:
    return f"{figures(took[0])} (the whole loop: {figures(took[1])})"


def edits_table(loop: Loop) -> list[tuple[str, str, str]]:
    engine = Engine()
    began = time.perf_counter()
    audio = engine.render(loop).audio
    cold = time.perf_counter() - began
    faster = audio.shape[1] / loop.rate / cold
    first, last = loop.layers[0], loop.line[-1]
    third = first.line[-1]
    chord = loop.chords[1].id
    rows = [
        ("field of a layer's last treatment -> new sound", "60 ms median, 120 ms worst",
         both_figures(timed(engine, [
             line_edits.set_treatment(loop, first.id, third.id, blend=0.3 + i / 100)
             for i in range(ROUNDS)]))),
        ("field of the whole loop's last treatment -> new sound", "60 ms median, 120 ms worst",
         both_figures(timed(engine, [
             line_edits.set_treatment(loop, None, last.id, blend=0.3 + i / 100)
             for i in range(ROUNDS)]))),
        ("a chord changed, all layers follow -> new sound", "250 ms median",
         both_figures(timed(engine, [
             chord_edits.set_degree(loop, chord, 1 + i % 7, count=3 + (i > 6))
             for i in range(ROUNDS)]))),
        ("level, pan, mute -> new sound", "30 ms",
         both_figures(timed(engine, [
             layer_edits.set_layer(loop, first.id, pan=i / 50) for i in range(ROUNDS)]))),
        ("level -> new sound, no treatments on the whole loop", "30 ms",
         both_figures(timed(engine, [
             layer_edits.set_layer(replace(loop, line=()), first.id, pan=0.5 + i / 50)
             for i in range(ROUNDS)]))),
        ("whole loop, empty cache", "15 times faster than it plays",
         f"{faster:.1f} times ({cold:.2f} s for {audio.shape[1] / loop.rate:.1f} s)"),
    ]  # fmt: skip
    engine.close()
    return rows


def speaker_row(loop: Loop) -> tuple[str, str, str]:
    """Edit without pause while the silent speaker pulls, and look at the callback."""
    engine, player, speaker = Engine(), Player(loop.rate), SilentSpeaker(loop.rate)
    worker = RenderWorker(
        engine, lambda _n, r: player.load(r.audio), lambda *_: None, lambda _n, e: print(e)
    )
    player.load(engine.render(loop).audio)
    player.play()
    pulled: list[float] = []

    def pull(frames: int) -> object:
        pulled.append(time.perf_counter())
        return player.pull(frames)

    speaker.start(pull)  # type: ignore[arg-type]
    end, step = time.perf_counter() + EDITING_S, 0
    while time.perf_counter() < end:
        step += 1
        worker.ask("treated", line_edits.set_treatment(loop, "l1", loop.layers[0].line[-1].id,
                                                  blend=0.2 + step % 60 / 100))  # fmt: skip
        time.sleep(0.02)
    speaker.close()
    worker.close()
    engine.close()
    took = sorted(s * 1e3 for s in player.callback_s)
    late = max(b - a for a, b in pairwise(pulled[5:])) * 1e3
    p999 = took[int(0.999 * len(took))]
    return (
        f"speaker callback, editing without pause for {EDITING_S:.0f} s",
        "99.9 % in 0.5 ms, worst 1 ms",
        f"{p999:.2f} ms of {len(took)} callbacks; longest wait for one {late:.0f} ms",
    )


def compiled_in(folder: str) -> dict[str, str]:
    """The environment of a process that keeps what it compiles, as an installed program does."""
    env = dict(os.environ) | {"PYTHONPYCACHEPREFIX": folder}
    env.pop("PYTHONDONTWRITEBYTECODE", None)
    return env


def start_rows() -> list[tuple[str, str, str]]:
    """Start the program in another process and let it say when it was up and when it sounded."""
    script = (
        "import time; began = time.perf_counter()\n"
        "from cloudrift.demo import polar_night\n"
        "from cloudrift.desktop.frame.app import make_app\n"
        "from cloudrift.desktop.session.session import Session\n"
        "from cloudrift.desktop.frame.window import Window\n"
        "from cloudrift.devices import SilentSpeaker\n"
        "app = make_app(); loop = polar_night()\n"
        "session = Session(loop, None, SilentSpeaker(loop.rate)); window = Window(session)\n"
        "window.show(); app.processEvents(); print(time.perf_counter() - began)\n"
        "session.transport.set_playing(True)\n"
        "while 'treated' not in session.hearing.rendered: app.processEvents(); time.sleep(0.005)\n"
        "print(time.perf_counter() - began, flush=True)\n"
        "while session.hearing.busy: app.processEvents(); time.sleep(0.005)\n"
        "t, w = time.process_time(), time.perf_counter()\n"
        "while time.perf_counter() - w < 5: app.processEvents(); time.sleep(0.002)\n"
        "print((time.process_time() - t) / 5, flush=True)\n"
        "window.close()\n"
    )
    with tempfile.TemporaryDirectory() as folder:  # as a second start: compiled before
        for _ in range(2):
            out = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True,
                                 check=True, env=compiled_in(folder))  # fmt: skip
    up, playing, load = (float(line) for line in out.stdout.split())
    return [
        ("window up, demo loop playing", "1.0 s, 1.8 s", f"{up:.2f} s, {playing:.2f} s"),
        ("playhead and meters at 60 frames/s, playing", "15 % of one core",
         f"{load * 100:.0f} % (offscreen, with the audio thread)"),
    ]  # fmt: skip


def draft_rows(loops: dict[str, Loop]) -> list[tuple[str, str, str]]:
    """Edit a chord while the loop plays, and take the time until another sound is heard."""
    app = make_app()
    rows = []
    for name, loop in loops.items():
        session = Session(loop, None, SilentSpeaker(loop.rate))
        while {"treated", "bare"} - set(session.hearing.loudness):
            app.processEvents()
            time.sleep(0.005)
        session.transport.set_playing(True)
        took = []
        for i in range(ROUNDS):
            chord, heard = session.loop.chords[i % 4].id, session.player._wanted
            began = time.perf_counter()
            session.apply("x", partial(chord_edits.set_degree, chord_id=chord,
                                       degree=1 + (3 * i + 2) % 7, count=3 + i % 2))  # fmt: skip
            session.hearing.once.edit(chord)
            while session.player._wanted is heard:
                app.processEvents()
                time.sleep(0.001)
            took.append((time.perf_counter() - began) * 1e3)
            while session.hearing.busy or session.hearing.rendered["treated"].loop != session.loop:
                app.processEvents()
                time.sleep(0.002)
        session.close()
        rows.append((f"a chord edited while the loop plays -> heard in its place{name}",
                     "250 ms median", figures(took)))  # fmt: skip
    return rows


def sounds_row() -> tuple[str, str, str]:
    """64 notes over eight bars by every house sound: the best of three processes on one core.

    Nothing is kept from before, so a sound has one try a process; the best of three is the sound's
    own time, without what else the machine did.
    """
    took: dict[str, float] = {}
    one_core = os.environ | {"OPENBLAS_NUM_THREADS": "1"}
    for _ in range(3):
        out = subprocess.run([sys.executable, "-m", "bench.sounds"], capture_output=True,
                             text=True, check=True, env=one_core)  # fmt: skip
        for line in out.stdout.splitlines():
            ms, name = line.split(maxsplit=1)
            took[name] = min(float(ms), took.get(name, float("inf")))
    slowest = max(took, key=lambda name: took[name])
    under = sum(ms < 120 for ms in took.values())
    return ("64 notes over 8 bars, each of the house sounds", "120 ms",
            f"{statistics.median(took.values()):.0f} ms median; {under} of {len(took)} within; "
            f"slowest {took[slowest]:.0f} ms ({slowest})")  # fmt: skip


def drag_row() -> tuple[str, str, str]:
    """Drag in a process of its own, with nothing else rendered before."""
    out = subprocess.run([sys.executable, "-m", "bench.drag"], capture_output=True, text=True,
                         check=True)  # fmt: skip
    own, clock = ([float(x) for x in line.split()] for line in out.stdout.splitlines())
    return ("64 chords of 5 voices, one dragged while playing: a frame", "16 ms",
            f"{own[0]:.0f} ms of work median, {own[1]:.0f} ms in the 95th percentile "
            f"({clock[0]:.0f} and {clock[1]:.0f} ms on the clock)")  # fmt: skip


def texture_rows() -> list[tuple[str, ...]]:
    """Measure in a process of its own that keeps to one core."""
    one_core = os.environ | {"OPENBLAS_NUM_THREADS": "1"}
    out = subprocess.run([sys.executable, "-m", "bench.texture"], capture_output=True, text=True,
                         check=True, env=one_core)  # fmt: skip
    return [tuple(line.split("\t")) for line in out.stdout.splitlines()]


def four_cards(loop: Loop) -> list[tuple[str, str, str]]:
    """Move a field of the third of four cards on a layer's line."""
    line = ()
    loop = line_edits.set_line(loop, "l1", line)
    for kind in ("cuts", "tape", "chorus", "hall"):
        loop = line_edits.add_treatment(loop, "l1", kind)
    third = loop.line_of("l1")[2].id
    engine = Engine()
    engine.render(loop)
    took = timed(engine, [
        line_edits.set_treatment_setting(loop, "l1", third, "depth_ms", 1.0 + i / 10)
        for i in range(ROUNDS)
    ])  # fmt: skip
    engine.close()
    return [("field of the third of four cards -> new sound", "60 ms median, 120 ms worst",
             both_figures(took))]  # fmt: skip


def many_row() -> tuple[str, str, str]:
    count = 12
    with tempfile.TemporaryDirectory() as folder:
        for variation in range(1, count + 1):
            loop = sketch(
                find_card("Edda Fenn"), variation=variation, bars=4, title=f"n{variation}"
            )
            save(loop, Path(folder) / f"n{variation}.cloudrift")
        files = [str(p) for p in Path(folder).glob("*.cloudrift")]
        times = []
        for part in (files[:2], files[: count // 2], files):  # two: compiled before
            began = time.perf_counter()
            subprocess.run([sys.executable, "-m", "cloudrift", "render", *part, "-o", folder],
                           check=True, capture_output=True, env=compiled_in(folder))  # fmt: skip
            times.append(time.perf_counter() - began)
    _, half, whole = times
    return (f"{count} loops of 4 bars by `cloudrift render`", "start 1.5 s, both cores, linear",
            f"{whole:.1f} s; {half:.1f} s for half: start {2 * half - whole:.1f} s")  # fmt: skip


def main() -> None:
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    keep_memory_tidy()
    loop = big_loop()
    rows = start_rows()
    rows += edits_table(loop)
    rows += [(f"{what} (demo loop, 4 layers)", *rest) for what, *rest in edits_table(polar_night())]
    rows += four_cards(loop)
    rows += [(f"{what} (demo loop)", *rest) for what, *rest in four_cards(polar_night())]
    rows += texture_rows()
    rows += draft_rows({"": loop, " (demo loop, 4 layers)": polar_night()})
    rows += [sounds_row(), drag_row(), speaker_row(loop), many_row()]
    rows += engine_room.rows()
    rows += engine_room.rows("bench.arranged", arranged.ROWS)
    rows += engine_room.rows("bench.hands", hands.ROWS)
    print("| what | target | measured |\n|---|---|---|")
    for row in rows:
        print("| " + " | ".join(row) + " |")


if __name__ == "__main__":
    main()
