"""A 56-bar arrangement with its bed: heard from anywhere, edited while it plays, rendered whole."""

import time

import numpy as np
from msgspec.structs import replace

from bench.engine import peak_mb, until
from bench.row import figures, row
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.arranged import Arranged
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.render import Engine
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.forms.timeline import whole
from cloudrift.style.groove import suggest_bed
from cloudrift.style.manner import find_manner

LAYERS = 7  # and as many lanes
SECTIONS = (("Intro", 8), ("Hook", 16), ("Verse", 12), ("Hook again", 16), ("Outro", 4))
CACHE_BYTES = 256 << 20


def full_loop() -> Loop:
    """The demo loop with seven layers, and a bed of seven lanes."""
    loop = polar_night()
    for layer in loop.layers[: LAYERS - len(loop.layers)]:
        loop = layer_edits.copy_layer(loop, layer.id)
    loop = suggest_bed(loop, find_manner("half-time"), np.tile([1.0, 0.1, 0.3, 0.1], loop.bars * 4),
                    variation=2)  # fmt: skip
    for part in ("kick", "open hat", "shaker", "crash", "zap", "snare"):
        if len(loop.lanes) < LAYERS:
            loop = beds.add_lane(loop, part)
    assert loop.bed is not None
    assert len(loop.layers) == len(loop.lanes) == LAYERS
    return replace(loop, bed=replace(loop.bed, group=replace(loop.bed.group, mute=False)))


def arranged() -> Document:
    """Five sections that differ, with something at two of the changes."""
    document = Document.of(full_loop())
    for name, bars in SECTIONS:
        document = arranging.add_section(document, name, bars)
    first, second, third, fourth, _last = (one.id for one in document.arrangement.sections)
    document = arranging.set_section(document, first, bed=False)
    document = arranging.set_part(document, first, "l3", on=False)
    document = arranging.set_part(document, third, "l2", level_db=-6.0)
    document = arranging.set_seam(document, second, riser_bars=2.0, cut=True, silence_beats=2.0,
                                  crash_db=-18.0)  # fmt: skip
    return arranging.set_seam(document, fourth, fill=True, sweep="closes")


@row("56 bars arranged, 7 layers and 7 drums, rendered whole", "14 times as fast, 900 MB")
def arrangement() -> str:
    """All of it, with nothing at hand."""
    document = arranged()
    engine = Engine(cache=AudioCache(CACHE_BYTES))
    began = time.perf_counter()
    audio, _ = whole(engine, document)
    took = time.perf_counter() - began
    seconds = audio.shape[1] / document.loop.rate
    engine.close()
    return f"{seconds / took:.1f} times as fast ({took:.1f} s), {peak_mb()} MB peak"


@row("56 bars arranged: first sound from anywhere; a layer edited, heard", "300; 150 ms")
def arrangement_heard() -> str:
    """From each section, and after an edit of each layer in each, the loop at hand."""
    app, document = make_app(), arranged()
    session = Session(document, None, SilentSpeaker(document.loop.rate))
    tasks = Tasks(session)
    timeline = Arranged(session, tasks)
    sounded: list[float] = []
    timeline.sounded.connect(lambda: sounded.append(time.perf_counter()))

    def first(act: object) -> float:
        sounded.clear()
        began = time.perf_counter()
        act()  # type: ignore[operator]
        until(app, lambda: sounded)
        return (sounded[0] - began) * 1e3

    def rests() -> None:
        until(app, lambda: not timeline.busy and timeline.sum_loudness is not None)
        until(app, lambda: not session.hearing.busy)

    until(app, lambda: len(session.hearing.loudness) == 2 and not session.hearing.busy)
    count = len(document.arrangement.sections)
    begins, edited = [], []
    for at in range(count):
        begins.append(first(lambda: timeline.hear(at)))  # noqa: B023
        timeline.leave()
        until(app, lambda: not session.hearing.busy)
    for at in range(count):
        timeline.hear(at)
        rests()
        for layer in session.loop.layers[:4]:
            level = layer.level_db - 0.5
            edited.append(first(lambda: session.apply("level", lambda loop: layer_edits.set_layer(
                loop, layer.id, level_db=level))))  # fmt: skip  # noqa: B023
            rests()
    session.close()
    tasks.stop()
    return f"{figures(begins)}; {figures(edited)}"
