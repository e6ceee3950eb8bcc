"""How long a frame takes while a voice of a 64-chord loop is dragged, in the real window."""

import math
import statistics
import time

from msgspec.structs import replace
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QMouseEvent

from bench.row import row
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.session.session import Session
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.model.history import History
from cloudrift.loop.model.loop import Loop
from cloudrift.theory import parse_progression

FRAMES, FRAME_S = 240, 1 / 60


def long_loop() -> Loop:
    """Sixteen bars of four chords, five voices each, in the demo loop's layers."""
    loop = polar_night()
    row = parse_progression("i VI iv7 V7 " * 16, loop.key)
    loop = put_row(replace(loop, bars=16), row)
    ids = [chord.id for chord in loop.chords]
    return chord_edits.each(loop, ids, lambda p, i: chord_edits.set_top_root(p, i, True))


@row("64 chords of 5 voices, one dragged while playing: a frame", "10 ms, 16 at 95 %")
def drag() -> str:
    """A frame's own time, and beside it that on the clock."""
    app = make_app()
    loop = long_loop()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    window = Window(session)
    window.show()
    while session.hearing.busy or "treated" not in session.hearing.rendered:
        app.processEvents()
        time.sleep(0.01)
    session.transport.set_playing(True)
    threads = window.chords.threads
    bar = next(b for b in threads._model.bars if (b.chord_id, b.voice) == ("c20", 2))
    start = threads.places.full_box(bar).center()

    def event(kind: QMouseEvent.Type, point: QPointF) -> QMouseEvent:
        return QMouseEvent(kind, point, threads.mapToGlobal(point), Qt.MouseButton.LeftButton,
                           Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)  # fmt: skip

    threads.mousePressEvent(event(QMouseEvent.Type.MouseButtonPress, start))
    own, clock = [], []
    for i in range(FRAMES):
        point = QPointF(start.x(), start.y() - 40 * math.sin(i / 6))
        began, worked = time.perf_counter(), time.thread_time()
        threads.mouseMoveEvent(event(QMouseEvent.Type.MouseMove, point))
        app.processEvents()
        own.append((time.thread_time() - worked) * 1e3)
        clock.append((time.perf_counter() - began) * 1e3)
        time.sleep(max(0.0, FRAME_S - (time.perf_counter() - began)))
    threads.mouseReleaseEvent(None)
    session.document.history = History.of(session.loop)  # nothing to be asked for on closing
    window.close()
    work, on_clock = ((statistics.median(times), sorted(times)[int(0.95 * FRAMES)])
                      for times in (own, clock))  # fmt: skip
    return (f"{work[0]:.0f} ms of work, {work[1]:.0f} at 95 % "
            f"({on_clock[0]:.0f} and {on_clock[1]:.0f} on the clock)")  # fmt: skip
