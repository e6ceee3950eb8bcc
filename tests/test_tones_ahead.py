"""What may be wanted next is on disk before it is: keys, and chords in the place of another."""

import pytest
from msgspec.structs import replace

from cloudrift.loop.edits.chords.next_chords import key_row, put_in_place
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.render import Engine
from cloudrift.render.engine import tones_ahead
from cloudrift.render.engine.tones_ahead import compute_ahead
from cloudrift.render.plan.trying import ONSET_S, first_moment
from cloudrift.render.play.audition import played_key
from cloudrift.sound import tones as tones_module
from cloudrift.sound.kept_tones import KeptTones


@pytest.fixture
def loop(small_loop):
    """One layer is enough: the felt upright."""
    return replace(small_loop, layers=small_loop.layers[:1])


@pytest.fixture
def engine(tmp_path):
    made = Engine(kept=KeptTones(tmp_path / "tones"))
    yield made
    made.close()


def written(engine):
    engine.tones.close()


@pytest.fixture
def computed(monkeypatch):
    """The pitches of the tones that are computed."""
    found, real = [], tones_module._computed

    def compute(instrument, request, *rest):
        found.append(request.pitch)
        return real(instrument, request, *rest)

    monkeypatch.setattr(tones_module, "_computed", compute)
    return found


def test_chords_that_may_come_next_are_only_mixed(engine, loop, computed):
    engine.render(loop)
    chord = loop.chords[1]
    assert compute_ahead(engine.tones, loop, chord.id, "", lambda: False) > 0
    written(engine)
    computed.clear()
    for count in (3, 4):
        for new in key_row(loop.key, count):
            engine.render(put_in_place(loop, chord.id, new))
    assert len(computed) <= 4  # where a neighbour was struck on the same key


def test_the_chord_in_front_comes_first(engine, loop, computed, monkeypatch):
    monkeypatch.setattr(tones_ahead, "MOST_BYTES", 6 << 20)
    engine.render(loop)
    compute_ahead(engine.tones, loop, loop.chords[1].id, "", lambda: False)
    written(engine)
    computed.clear()
    engine.render(put_in_place(loop, loop.chords[1].id, key_row(loop.key, 3)[0]))
    assert not computed


def test_keys_about_what_a_layer_plays_are_read(engine, loop, computed):
    engine.render(loop)
    layer = loop.layers[0]
    compute_ahead(engine.tones, loop, "", layer.id, lambda: False)
    written(engine)
    computed.clear()
    for pitch in range(57, 70):
        first_moment(played_key(loop, pitch, 88, layer.id), engine.tones, ONSET_S)
    assert not computed


def test_it_is_bounded_and_known_tones_are_not_made_again(engine, loop, monkeypatch):
    engine.render(loop)
    layer = loop.layers[0].id
    monkeypatch.setattr(tones_ahead, "MOST_BYTES", 8 << 20)
    first = compute_ahead(engine.tones, loop, "", layer, lambda: False)
    assert 8 << 20 < first < 16 << 20
    monkeypatch.setattr(tones_ahead, "MOST_BYTES", 1 << 40)
    compute_ahead(engine.tones, loop, "", layer, lambda: False)
    written(engine)
    assert compute_ahead(engine.tones, loop, "", layer, lambda: False) == 0


def test_it_leaves_at_once_when_anything_is_wanted(engine, loop, computed):
    engine.render(loop)
    computed.clear()
    compute_ahead(engine.tones, loop, loop.chords[0].id, "", lambda: len(computed) >= 3)
    assert len(computed) == 3


def test_it_takes_no_room_in_memory(engine, loop):
    engine.render(loop)
    before = engine.tones.size_bytes
    compute_ahead(engine.tones, loop, loop.chords[0].id, "", lambda: False)
    assert engine.tones.size_bytes == before


def test_without_a_disk_and_without_layers_nothing_is_made(loop):
    engine = Engine()
    assert compute_ahead(engine.tones, loop, loop.chords[0].id, loop.layers[0].id,
                         lambda: False) == 0  # fmt: skip
    empty = replace(loop, layers=(), chords=())
    assert compute_ahead(engine.tones, empty, "", "", lambda: False) == 0
    engine.close()


def test_the_window_makes_them_when_the_hands_rest(qtbot, tmp_path, small_loop, speaker):
    from cloudrift.desktop.frame.window import Window
    from cloudrift.desktop.session.session import Session
    from cloudrift.desktop.session.work.ahead import AHEAD
    from cloudrift.loop.files.recovery import Shelter

    loop = replace(small_loop, layers=small_loop.layers[:1])
    engine = Engine(kept=KeptTones(tmp_path / "tones"))
    session = Session(loop, None, speaker, shelter=Shelter(tmp_path / "state"), engine=engine)
    window = Window(session)
    window.show()
    folder = tmp_path / "tones"

    def count():
        return len(list(folder.glob("*.tone"))) if folder.exists() else 0

    qtbot.waitUntil(lambda: not session.hearing.busy, timeout=20_000)
    known = count()
    qtbot.waitUntil(lambda: window.tasks.is_running(AHEAD), timeout=20_000)
    qtbot.waitUntil(lambda: count() > known + 3, timeout=20_000)
    session.apply("x", lambda p: layer_edits.set_layer(p, p.layers[0].id, level_db=-9.0))
    assert not window.tasks.is_running(AHEAD)  # the edit comes first
    qtbot.waitUntil(lambda: window.tasks.is_running(AHEAD), timeout=20_000)
    window.leave()
