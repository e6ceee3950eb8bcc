"""What a hand waits for in the window: undo at every stage with an arrangement open, light or dark.

``python -m bench.hands [row ...]`` prints one row a line: what, wanted, measured.
"""

import statistics
import sys
import time
from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QApplication

from bench.engine import Row, settle
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.document import Document
from cloudrift.style import find_card, sketch
from cloudrift.style.form import draw_form, find_form

STEPS = 12


def opened() -> tuple[QApplication, Window]:
    """A window with an arrangement in it."""
    app = make_app("Daybreak")
    document = Document.of(sketch(find_card("Marlow Quist"), draw=1, bars=8))
    document = draw_form(document, find_form("three hooks"), 1)
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


def undo() -> Row:
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
    return ("a step undone with an arrangement open", "20 CPU ms at any stage",
            ", ".join(f"{ms:.0f} {name}" for ms, name in found))  # fmt: skip


def theme() -> Row:
    """Every stage built and shown once before."""
    app, window = opened()
    for at in range(len(STAGES)):
        window.show_stage(at)
        settle(app, window.session)
    swaps = [took_ms(app, window.swap_theme) for _ in range(4)]
    window.leave()
    return ("light or dark, every stage built", "300 CPU ms",
            f"{statistics.median(swaps):.0f} ms, {max(swaps):.0f} worst")  # fmt: skip


ROWS = {"undo": undo, "theme": theme}


if __name__ == "__main__":
    for row_name in sys.argv[1:] or ROWS:
        print("\t".join(ROWS[row_name]()), flush=True)
