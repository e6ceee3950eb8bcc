"""What a hand waits for in the window: undo at each stage, a theme, a stage, a pane, its edge."""

import statistics
import time
from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QApplication

from bench.engine import settle, until
from bench.row import figures, row
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.rail import IN_PANE, STAGES
from cloudrift.desktop.frame.side_pane import LEAST_PX, MOST_PX
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits.flip import flips
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.document import Document, PrintedPart
from cloudrift.style import find_card, sketch
from cloudrift.style.form import find_form, suggest_form

STEPS = 12


def opened() -> tuple[QApplication, Window]:
    """A window with an arrangement in it."""
    app = make_app("Daybreak")
    document = Document.of(sketch(find_card("Marlow Quist"), variation=1, bars=8))
    document = suggest_form(document, find_form("three hooks"), 1)
    window = Window(Session(document, None, SilentSpeaker(document.loop.rate)))
    window.show()
    settle(app, window.session)
    return app, window


def took_ms(app: QApplication, act: Callable[[], object]) -> float:
    """CPU time of the interface's thread until the window has been painted again."""
    began = time.thread_time()
    act()
    app.processEvents()
    return (time.thread_time() - began) * 1e3


@row("a step undone with an arrangement open", "20 CPU ms at any stage")
def undo() -> str:
    """Twelve steps at each stage, the sound at rest before each."""
    app, window = opened()
    session, found = window.session, []
    layers = [layer.id for layer in session.loop.layers]
    for at, name in enumerate(STAGES):
        window.show_stage(at)
        for step in range(STEPS):
            edit = partial(layer_edits.set_layer, layer_id=layers[step % len(layers)])
            session.apply("level", partial(edit, level_db=-3.0 - step / 2))
            session.end_drag()
        steps = []
        for _ in range(STEPS):
            settle(app, session)
            steps.append(took_ms(app, session.document.undo))
        found.append((statistics.median(steps), name))
    window.leave()
    return ", ".join(f"{ms:.0f} {name}" for ms, name in found)


@row("light or dark, every stage built", "300 CPU ms")
def theme() -> str:
    """Every stage built and shown once before."""
    app, window = opened()
    for at in range(len(STAGES)):
        window.show_stage(at)
        settle(app, window.session)
    swaps = [took_ms(app, window.swap_theme) for _ in range(4)]
    window.leave()
    return figures(swaps)


def _medians(took: dict[str, list[float]]) -> str:
    return ", ".join(f"{statistics.median(ms):.0f} {name}" for name, ms in took.items())


@row("going to a stage", "60 CPU ms")
def stage() -> str:
    """From each stage to the next, round and round, the sound at rest."""
    app, window = opened()
    took: dict[str, list[float]] = {name: [] for name in STAGES}
    for turn in range(6):
        for at, name in enumerate(STAGES):
            settle(app, window.session)
            ms = took_ms(app, partial(window.show_stage, at))
            if turn:  # the first time the room is built
                took[name].append(ms)
    window.leave()
    return _medians(took)


@row("opening a pane", "60 CPU ms")
def pane() -> str:
    """What stands in the side pane, one after another, at Layers."""
    app, window = opened()
    window.show_stage(STAGES.index("Layers"))
    took: dict[str, list[float]] = {name: [] for name in IN_PANE}
    for turn in range(6):
        for name in (*IN_PANE[1:], IN_PANE[0]):
            settle(app, window.session)
            ms = took_ms(app, partial(window.open_or_close, name))
            if turn:
                took[name].append(ms)
    window.leave()
    return _medians(took)


@row("the pane's edge dragged, a frame", "16.7 CPU ms")
def edge() -> str:
    """The edge of the side pane dragged over all its width, at each stage."""
    app, window = opened()
    found = []
    for at, name in enumerate(STAGES):
        window.show_stage(at)
        settle(app, window.session)
        wide = sum(window.splitter.sizes())
        widths = [*range(LEAST_PX, MOST_PX, 8), *range(MOST_PX, LEAST_PX, -8)]
        steps = [took_ms(app, partial(window.splitter.setSizes, [wide - px, px])) for px in widths]
        found.append((statistics.median(steps), max(steps), name))
    window.leave()
    return ", ".join(f"{ms:.0f} ({most:.0f} worst) {name}" for ms, most, name in found)


def heard_at(times: list[float], _audio: object) -> None:
    times.append(time.perf_counter())


def last_of(kept: list[str], words: str) -> None:
    kept[:] = [words]


@row("a layer's level in a print -> heard in its flip", "300 ms")
def printed_parts() -> str:
    """The first layer of a print turned down while its flip plays in place of what was printed."""
    app, found = make_app("Daybreak"), []
    for name, few in (("two layers", 2), ("the whole loop", 0)):
        loop = polar_night()
        window = Window(Session(loop, None, SilentSpeaker(loop.rate)))
        window.show()
        session = window.session
        window.show_stage(STAGES.index("Flip"))
        printing = window.flip.printing
        what = tuple(layer.id for layer in loop.layers[:few])
        made: list[str] = []
        printing.made.connect(made.append)
        printing.print_what(what)
        until(app, lambda: made)  # noqa: B023
        session.apply("use", partial(flips.use_instead, layer_id=made[0], printed=what))
        session.select(layer_id=made[0])
        window.flip.result.parts.open(on=True)
        settle(app, session)
        session.transport.set_playing(True)
        soon: list[float] = []
        session.hearing._came_soon.connect(partial(heard_at, soon))
        took = []
        busy: list[str] = []
        printing.busy.connect(partial(last_of, busy))
        for turn in range(STEPS):
            until(app, lambda: busy == [""] * bool(turn))  # noqa: B023
            settle(app, session)
            soon.clear()
            began = time.perf_counter()
            part = PrintedPart(id=loop.layers[0].id, level_db=-1.0 - turn)
            printing.change_parts("level", (part,))
            until(app, lambda: soon)  # noqa: B023
            took.append((soon[0] - began) * 1e3)
        found.append(f"{figures(took)}, {name}")
        window.leave()
    return "; ".join(found)
