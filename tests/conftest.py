import functools
import io
import itertools
import os
import time
import zipfile
from concurrent.futures import Future
from contextlib import contextmanager
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # as in the program; else a thread spins in vain

import numpy as np
import pytest
from hypothesis import HealthCheck, settings
from msgspec.structs import replace

from cloudrift.audio.buffers import DEFAULT_RATE
from cloudrift.ground.lru import BoundedStore, bytes_of
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.style import find_card, sketch
from cloudrift.theory import Key

settings.register_profile(
    "house", deadline=None, max_examples=40, derandomize=True,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)  # fmt: skip
settings.load_profile("house")


_TESTS = itertools.count()


@pytest.fixture(autouse=True)
def own_folders(tmp_path_factory, monkeypatch):
    """No test reads or writes the folders of whoever runs it. They are made when they are wanted:
    most tests want none."""
    own = tmp_path_factory.getbasetemp() / f"folders{next(_TESTS)}"
    homes = ("XDG_STATE_HOME", "XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "HOME")
    for name in homes:
        monkeypatch.setenv(name, str(own / name.lower()))


@pytest.fixture
def rng():
    return np.random.default_rng(5)


@functools.cache
def make_small_loop():
    loop = sketch(find_card("Marlow Quist"), Key("F#", "minor"), 140.0, 1, bars=2, title="Ice Road")
    assert len(loop.layers) == 4
    return replace(loop, bed=None)


@pytest.fixture
def small_loop():
    """Two bars, two chords, four layers: quick to render, with everything in it."""
    return make_small_loop()


@pytest.fixture
def bare_chords():
    """A loop with four plain chords and no layers."""
    voices = ((42, 57, 61, 66), (38, 57, 62, 66), (47, 59, 62, 66), (49, 56, 61, 65))
    chords = tuple(
        Chord(id=f"c{i + 1}", start_tick=7680 * i, length_ticks=7680, voices=v, root=v[0] % 12)
        for i, v in enumerate(voices)
    )
    return Loop(title="Ferry", key=Key("F#", "minor"), tempo=142.0, bars=8, chords=chords)


class FakeSpeaker:
    """Pulls only when a test says so."""

    name = "test"
    silent = False

    def __init__(self):
        self.pull = None
        self.closed = False

    def start(self, pull):
        self.pull = pull

    def close(self):
        self.closed = True


@pytest.fixture
def speaker():
    return FakeSpeaker()


class Shared(BoundedStore):
    """What engines of one process have found out, by what it was made from; closing one of them
    clears nothing."""

    def clear(self):
        pass


# Who has nothing to do with how steps are run need not run them again, nor compute tones.
STEPS = BoundedStore(400 << 20, bytes_of)
TONES, NOTES = Shared(240 << 20, bytes_of), Shared(120 << 20, bytes_of)
FACTS = Shared(2000, lambda _: 1)


def remembered_step(engine, node, inputs):
    """What a step comes to: known where any engine of this process has run the same."""
    return STEPS.made(node.key, lambda: node.make(inputs))


@contextmanager
def fresh_engine(**given):
    """An engine that has rendered nothing: what steps and tones come to is known from others."""
    from cloudrift.render import Engine

    engine = Engine(**given)
    engine._run = functools.partial(remembered_step, engine)
    engine.tones._tones = TONES
    yield engine
    engine.close()


@pytest.fixture
def engine():
    with fresh_engine() as made:
        yield made


@pytest.fixture(scope="session")
def warm():
    """An engine that has rendered the small loop, treated and bare: made once a process."""
    from cloudrift.render import Engine, bare_of

    loop = make_small_loop()
    made = Engine()
    made.tones._tones, made.tones._notes = TONES, NOTES
    for name, one in (("treated", loop), ("bare", bare_of(loop))):
        made.loudness(made.render(one, name=name))
    yield made
    made.close()


@pytest.fixture
def clips():
    """A store of recordings: that of the session too, where there is one."""
    from cloudrift.audio.clips import ClipStore

    return ClipStore()


@pytest.fixture
def remembering(monkeypatch):
    """All engines remember: also those that a window, a print or a delivery makes for itself."""
    from cloudrift.render import Engine

    monkeypatch.setattr(Engine, "_run", remembered_step)


@pytest.fixture
def engine_of_session(warm, clips, remembering):
    """An engine that knows what the warm one has rendered, and what others have measured."""
    from cloudrift.render import Engine

    made = Engine(clips=clips)
    made.tones._tones, made.tones._notes, made.facts = TONES, NOTES, FACTS
    for key, held in warm.cache._used.items():
        made.cache.put(key, held.audio, held.cost_ms)
    stores = ((made._latest, warm._latest), (made._latest_at, warm._latest_at),
              (made._took, warm._took))  # fmt: skip
    for mine, theirs in stores:
        for key, value in theirs.items():
            mine.put(key, value)
    made._measured |= warm._measured
    return made


@pytest.fixture
def session(qapp, small_loop, speaker, tmp_path, engine_of_session):
    from cloudrift.desktop.session.session import Session
    from cloudrift.loop.files.recovery import Shelter

    made = Session(
        small_loop, None, speaker, shelter=Shelter(tmp_path / "state"), engine=engine_of_session
    )
    yield made
    made.close()
    detach(made)


def detach(*things):
    """Let Qt delete things here and now: a collection in another thread would do it there, while
    this one may be at them."""
    from PyQt6.QtCore import QCoreApplication, QEvent

    for thing in things:
        thing.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)


@pytest.fixture(scope="session")
def app(qapp):
    """The application with its fonts and look: made once, for styling takes a second."""
    from cloudrift.desktop.frame.app import make_app

    return make_app()


@pytest.fixture
def window(app, small_loop, speaker, tmp_path, qtbot, engine_of_session):
    from cloudrift.desktop.frame.window import Window
    from cloudrift.desktop.kit import look
    from cloudrift.desktop.session.session import Session
    from cloudrift.loop.files.recovery import Shelter

    if look.look.name != "Daybreak":
        look.apply(app, "Daybreak")
    session = Session(
        small_loop, None, speaker, shelter=Shelter(tmp_path / "state"), engine=engine_of_session
    )
    with look.once_built(app):
        made = Window(session)
    made.show()
    session.hearing.rest()  # at once, not when it has been painted
    qtbot.waitUntil(
        lambda: "treated" in session.hearing.loudness and "bare" in session.hearing.loudness,
        timeout=60_000,
    )
    yield made
    from cloudrift.loop.model.history import History

    session.document.history = History.of(session.loop)  # nothing to ask for on closing
    session.document.begun = False
    made.close()
    assert speaker.closed
    app.processEvents()  # what was under way when it closed
    detach(made, session)


def treated(loop, at, kind, **settings):
    """A loop with one more treatment on a line."""
    from cloudrift.loop.edits.layers import line_edits

    loop = line_edits.add_treatment(loop, at, kind)
    for name, value in settings.items():
        loop = line_edits.set_treatment_setting(loop, at, loop.line_of(at)[-1].id, name, value)
    return loop


def file_text(what):
    """The ``loop.json`` of a file on disk, or of the one that a loop or a document makes."""
    from cloudrift.loop.files.storage import to_bytes

    source = what if isinstance(what, Path) else io.BytesIO(to_bytes(what))
    with zipfile.ZipFile(source) as archive:
        return archive.read("loop.json")


def in_schema(raw, schema):
    """A file's JSON as an older program would have written it, as far as layers go."""
    for layer in raw["loop"]["layers"]:
        source = layer.pop("source")
        if source.pop("kind") == "notes":
            layer["own"] = source.pop("notes")
        layer.update(source)
    raw["schema"] = schema
    return raw


def given_notes(loop, layer_id, notes):
    """A loop in which a layer has these notes of its own, as they are."""
    layers = (x.with_notes(notes) if x.id == layer_id else x for x in loop.layers)
    return replace(loop, layers=tuple(layers))


def sine(hz, seconds=1.0, rate=DEFAULT_RATE, level=0.5):
    t = np.arange(int(seconds * rate)) / rate
    return np.stack([level * np.sin(2 * np.pi * hz * t)] * 2).astype(np.float32)


def main_hz(audio, low, high, rate=DEFAULT_RATE):
    """The strongest frequency between two, to a fraction of a cent."""
    mono = audio.mean(axis=0).astype(np.float64)
    size = 1 << 20
    power = np.abs(np.fft.rfft(mono * np.hanning(len(mono)), size))
    hz = np.fft.rfftfreq(size, 1 / rate)
    inside = np.flatnonzero((hz > low) & (hz < high))
    k = inside[power[inside].argmax()]
    a, b, c = np.log(power[k - 1 : k + 2])
    return (k + 0.5 * (a - c) / (a - 2 * b + c)) * rate / size


def db(ratio):
    return 20 * np.log10(max(float(ratio), 1e-12))


def rms(audio):
    return float(np.sqrt((np.asarray(audio, np.float64) ** 2).mean()))


def wait_for(condition, seconds=10.0):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited in vain"
        time.sleep(0.01)


class AtOnce:
    """A pool of processes that works at once, in this one: another takes seconds to begin."""

    def __init__(self, *_how, **_more):
        pass

    def submit(self, work, *what):
        future = Future()
        try:
            future.set_result(work(*what))
        except Exception as error:
            future.set_exception(error)
        return future

    def shutdown(self, **_how):
        pass


# --- commands -------------------------------------------------------------------------------------


def run(*arguments):
    """Run the command line in this process; return its exit code."""
    from cloudrift.cli import main

    try:
        main([str(a) for a in arguments])
    except SystemExit as end:
        return end.code
    return 0


def pytest_sessionfinish(session):
    """What was recalled is tidied once, not by each process."""
    from tests.recall import tidy

    if not hasattr(session.config, "workerinput"):
        tidy()
