"""What is heard while the loop plays: edits in their places, keys, a print; and the callback."""

import time
from functools import partial
from itertools import pairwise

from msgspec.structs import replace

from bench.engine import settle, until
from bench.loops import big_loop
from bench.row import figures, row
from cloudrift.demo import polar_night
from cloudrift.desktop.frame.app import make_app
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.session.work.printing import Printing
from cloudrift.desktop.session.work.tasks import Tasks
from cloudrift.devices import SilentSpeaker
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.render import Engine, Player
from cloudrift.render.engine.worker import RenderWorker

ROUNDS, EDITING_S = 12, 20


def heard_in_its_place(loop: Loop) -> str:
    """Edit a chord while the loop plays, and take the time until another sound is heard."""
    app = make_app()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    until(app, lambda: len(session.hearing.loudness) == 2)
    session.transport.set_playing(True)
    took = []
    for i in range(ROUNDS):
        chord, heard = session.loop.chords[i % 4].id, session.player._wanted
        began = time.perf_counter()
        session.apply("x", partial(chord_edits.set_degree, chord_id=chord,
                                   degree=1 + (3 * i + 2) % 7, count=3 + i % 2))  # fmt: skip
        session.hearing.once.edit(chord)
        until(app, lambda: session.player._wanted is not heard)  # noqa: B023
        took.append((time.perf_counter() - began) * 1e3)
        until(app, lambda: session.hearing.rendered["treated"].loop == session.loop)
        settle(app, session)
    session.close()
    return figures(took)


@row("a chord edited while ten layers play, heard in its place", "250 ms")
def chord_playing() -> str:
    return heard_in_its_place(big_loop())


@row("the same in the demo loop", "150 ms (tones known: 80)")
def chord_playing_demo() -> str:
    return heard_in_its_place(polar_night())


@row("a key struck, heard, but for the speaker's buffer", "15 ms")
def key() -> str:
    """In the sound of each layer of the demo loop, each key once, while it plays."""
    app, loop = make_app(), polar_night()
    session = Session(loop, None, SilentSpeaker(loop.rate))
    settle(app, session)
    session.transport.set_playing(True)
    took = []
    for layer in loop.layers:
        for pitch in range(54, 66):
            app.processEvents()
            began = time.perf_counter()
            session.hearing.once.key_down(pitch, layer_id=layer.id)
            while not session.player.striking:
                time.sleep(0.0002)
            took.append((time.perf_counter() - began) * 1e3)
            session.hearing.once.key_up(pitch)
            time.sleep(0.1)
            session.player.hush(f"key {pitch}")
            while session.player.striking:
                time.sleep(0.002)
    session.close()
    return figures(took)


@row("16 bars with weathering and granular printed", "3 s, playable after 1")
def print_long() -> str:
    app, loop = make_app(), replace(polar_night(), bars=16)
    for kind in ("weathering", "granular"):
        loop = line_edits.add_treatment(loop, None, kind)
    session = Session(loop, None, SilentSpeaker(loop.rate))
    settle(app, session)
    printing, made = Printing(session, Tasks(session)), list[str]()
    printing.made.connect(made.append)
    began = time.perf_counter()
    printing.print_what(())
    until(app, lambda: made)
    took = time.perf_counter() - began
    session.close()
    return f"{took:.1f} s until it is there"


@row("speaker callback, editing without pause", "99.9 % in 1 ms, longest wait 6 ms")
def callback() -> str:
    """Edit without pause while the silent speaker pulls, and look at the callback."""
    loop = big_loop()
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
    return f"{p999:.2f} ms at 99.9 % of {len(took)} callbacks; longest wait for one {late:.0f} ms"
