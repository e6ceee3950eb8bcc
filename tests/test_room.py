"""The room: levels by band, and what is in whose way."""

import json

import numpy as np
import pytest
import scipy.fft as sf
from PyQt6.QtCore import QEvent, QPoint, QPointF, Qt
from PyQt6.QtWidgets import QApplication

from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.edits.layers.remedies import REMEDIES, cut, cuts_of, set_cut
from cloudrift.loop.files.storage import save
from cloudrift.loop.sounding import notes_of
from cloudrift.render import Engine
from cloudrift.render.measure.room import (
    Room,
    band_edges,
    band_levels,
    crowding,
    gap,
    in_words,
    look_at,
    weighting_db,
)
from tests.conftest import run, sine
from tests.hands import drag, rest_on, settled

RATE = 44_100
THIRD = 2 ** (1 / 3)


def noise(low, high, level=0.1, seed=1, frames=4 * RATE):
    """Noise with straight edges, as loud in every octave."""
    rng = np.random.default_rng(seed)
    spectrum = sf.rfft(rng.standard_normal((2, frames)))
    hz = sf.rfftfreq(frames, 1 / RATE)
    spectrum *= ((hz >= low) & (hz < high)) / np.sqrt(np.maximum(hz, 1))
    out = sf.irfft(spectrum, frames)
    return (level * out / out.std()).astype(np.float32)


def test_the_weighting_is_that_of_the_standard():
    hz = np.array([31.5, 100.0, 1000.0, 4000.0, 10_000.0])
    assert np.allclose(weighting_db(hz), [-39.4, -19.1, 0.0, 1.0, -2.5], atol=0.15)


@pytest.mark.parametrize("hz", [62.0, 440.0, 3000.0, 9000.0])
def test_a_tone_is_in_its_band_at_its_level(hz):
    level = band_levels(sine(hz, 2.0, level=0.5), RATE).mean(axis=1)
    edges = band_edges()
    band = int(level.argmax())
    assert edges[band] / 1.06 <= hz <= edges[band + 1] * 1.06
    near = 10 * np.log10((10 ** (level[max(0, band - 1) : band + 2] / 10)).sum())
    wanted = 10 * np.log10(0.5**2 / 2) + weighting_db(np.array([hz]))[0]
    assert abs(near - wanted) < 1.0


@pytest.mark.parametrize(
    ("one", "other", "shared"),
    [
        ((200, 900), (500, 2500), (500, 900)),
        ((60, 250), (120, 1000), (120, 250)),
        ((1000, 8000), (300, 2000), (1000, 2000)),
        ((300, 600), (300, 600), (300, 600)),
    ],
)
def test_an_overlap_is_named_within_a_third_of_an_octave(one, other, shared):
    levels = {"a": band_levels(noise(*one, seed=1), RATE),
              "b": band_levels(noise(*other, seed=2), RATE)}  # fmt: skip
    found = crowding(levels)
    assert len(found) == 1
    assert found[0].layers == ("a", "b")
    assert shared[0] / THIRD <= found[0].low_hz <= shared[0] * THIRD
    assert shared[1] / THIRD <= found[0].high_hz <= shared[1] * THIRD
    assert 0.3 < found[0].severity <= 1


@pytest.mark.parametrize(
    ("one", "other"),
    [
        (noise(100, 400), noise(800, 4000, seed=2)),
        (noise(200, 900), noise(200, 900, level=0.02, seed=2)),  # 14 dB under: it is covered
        (noise(200, 900), noise(400, 700, level=0.0005, seed=2)),
    ],
)
def test_what_is_apart_is_not_flagged(one, other):
    assert crowding({"a": band_levels(one, RATE), "b": band_levels(other, RATE)}) == ()


def test_notes_that_take_turns_are_not_in_each_other_s_way():
    one, other = noise(300, 900), noise(300, 900, seed=2)
    turn = np.arange(one.shape[1]) // RATE % 2
    assert crowding({"a": band_levels(one * (turn == 0), RATE),
                     "b": band_levels(other * (turn == 1), RATE)}) == ()  # fmt: skip
    assert crowding({}) == ()


def test_two_layers_in_one_register_crowd_and_an_octave_parts_them(small_loop):
    loop = small_loop
    for layer in loop.layers[1:]:
        loop = layer_edits.remove_layer(loop, layer.id)
    loop = layer_edits.add_layer(loop, "bright grand")
    loop = layer_edits.set_layer(loop, loop.layers[-1].id, level_db=loop.layers[0].level_db)
    loop = layer_edits.set_lens(loop, loop.layers[0].id, skip_bass=True)
    engine = Engine()
    room = look_at(loop, engine)
    assert set(room.levels) == {x.id for x in loop.layers}
    assert all(len(level) == len(room.edges_hz) - 1 for level in room.levels.values())
    worst = room.crowded[0]
    words = in_words(worst, loop)
    assert words.startswith("Dusk keys and Bright grand crowd each other")
    assert words.endswith("Hz")
    apart = layer_edits.set_sound(loop, loop.layers[1].id, "round sub")
    apart = layer_edits.set_lens(apart, loop.layers[1].id, kind="roots")
    after = look_at(apart, engine)
    engine.close()
    assert sum(c.severity for c in after.crowded) < 0.5 * sum(c.severity for c in room.crowded)


def test_room_and_notes_on_the_command_line(small_loop, tmp_path, capsys):
    path = tmp_path / "a.cloudrift"
    save(small_loop, path)

    assert run("room", path, "--json") == 0
    crowded = json.loads(capsys.readouterr().out)["crowded"]
    for one in crowded:
        assert set(one) == {"layers", "low_hz", "high_hz", "severity"}
        assert 30 <= one["low_hz"] < one["high_hz"] <= 16_100
    assert run("room", path) == 0
    said = capsys.readouterr().out
    assert ("crowd each other" in said) == bool(crowded)

    assert run("notes", path, "--json") == 0
    layers = json.loads(capsys.readouterr().out)
    assert [x["layer"] for x in layers] == [x.name for x in small_loop.layers]
    first = notes_of(small_loop, small_loop.layers[0])[0]
    assert layers[0]["notes"][0] == {
        "pitch": first.pitch, "start_tick": first.start_tick, "length_ticks": first.length_ticks,
        "velocity": first.velocity, "offset_ms": first.offset_ms,
    }  # fmt: skip
    assert run("notes", path, "--layer", "reef PLUCK", "--json") == 0
    assert [x["layer"] for x in json.loads(capsys.readouterr().out)] == ["Reef pluck"]
    assert run("notes", path, "--layer", "Reff pluck") == 2
    assert "did you mean 'Reef pluck'" in capsys.readouterr().err
    assert run("notes", path, "--layer", "Reef pluck", "--midi", tmp_path / "r.mid") == 0
    import mido

    midi = mido.MidiFile(tmp_path / "r.mid")
    count = sum(m.type == "note_on" for t in midi.tracks for m in t)
    assert count == len(notes_of(small_loop, next(x for x in small_loop.layers
                                                  if x.name == "Reef pluck")))  # fmt: skip
    assert run("notes", path) == 0
    assert "Reef pluck" in capsys.readouterr().out


# --- in the stage ---------------------------------------------------------------------------------


@pytest.fixture
def crowded_loop(small_loop):
    """Two layers that play the same voices, a pluck a little above."""
    loop = layer_edits.set_lens(small_loop, "l1", skip_bass=True)
    return layer_edits.set_layer(loop, "l2", level_db=0.0)


def mean_db(level):
    return 10 * np.log10((10 ** (level / 10)).mean(axis=1))


@pytest.mark.parametrize("name", REMEDIES)
def test_a_remedy_makes_more_room_or_says_so_in_level_and_place(crowded_loop, name):
    engine = Engine()
    before = look_at(crowded_loop, engine)
    worst = before.crowded[0]
    one, other = worst.layers
    after = REMEDIES[name].edit(crowded_loop, other, one, worst.low_hz, worst.high_hz)
    assert after != crowded_loop
    assert after.layer(one).source.lens == crowded_loop.layer(one).source.lens
    if name in ("Octave up", "Octave down"):
        assert (
            abs(
                after.layer(other).source.lens.octave - crowded_loop.layer(other).source.lens.octave
            )
            == 1
        )
    elif name == "Apart":
        assert after.layer(one).pan == -after.layer(other).pan != 0
    else:
        level = mean_db(look_at(after, engine).levels[other])
        edges = before.edges_hz
        inside = (edges[:-1] >= worst.low_hz * 0.99) & (edges[1:] <= worst.high_hz * 1.01)
        assert (level[inside] < mean_db(before.levels[other])[inside] - 1.0).all()
    engine.close()


def test_cuts_go_where_the_other_plays(crowded_loop):
    line = crowded_loop.layer("l1").line
    assert line[0].kind == "cuts"
    loop = layer_edits.set_lens(crowded_loop, "l1", octave=2)
    higher = cut(loop, "l1", "l2", 200.0, 410.0).layer("l1").line
    assert dict(higher[0].settings)["low_cut_hz"] == 410
    assert len(higher) == len(line)  # its own cuts are moved
    lower_one = cut(loop, "l2", "l1", 200.0, 410.0).layer("l2").line
    cuts = next(t for t in lower_one if t.kind == "cuts")
    field = cuts.of.spec["high_cut_hz"]
    assert dict(cuts.settings)["high_cut_hz"] == max(200, field.low)
    bare = line_edits.set_line(loop, "l2", ())
    assert [t.kind for t in cut(bare, "l2", "l1", 900.0, 1800.0).layer("l2").line] == ["cuts"]


def test_the_stage_shows_the_room_and_helps_with_one_press(window, qtbot):
    window.show_stage(1)
    session, view = window.session, window.layers.room
    session.apply("crowd", lambda loop: layer_edits.set_layer(
        layer_edits.set_lens(loop, "l1", skip_bass=True), "l2", level_db=0.0))  # fmt: skip
    qtbot.waitUntil(lambda: view.room is not None and bool(view.room.crowded), timeout=60_000)
    session.select(layer_id="l2")
    assert view.words.text().startswith("Dusk keys and Slow vault crowd")
    assert view.whom.text() == "Slow vault:"
    octave = session.loop.layer("l2").source.lens.octave
    qtbot.mouseClick(view.helps["Octave up"], Qt.MouseButton.LeftButton)
    assert session.loop.layer("l2").source.lens.octave == octave + 1
    session.document.undo()
    assert session.loop.layer("l2").source.lens.octave == octave
    worst = view.room.crowded[0]
    share = sum(worst.when[0]) / 2
    place = QPointF(view.map._x(share), view.map.y_of((worst.low_hz * worst.high_hz) ** 0.5))
    assert view.map.crowded_at(place) is not None
    assert view.map.crowded_at(QPointF(place.x(), 2)) is None
    for layer in session.loop.layers[1:]:
        session.apply("x", lambda loop, i=layer.id: layer_edits.remove_layer(loop, i))
    qtbot.waitUntil(lambda: len(view.room.levels) == 1, timeout=60_000)
    assert view.words.text() == "no crowding"
    assert not view.helps["Cut"].isVisible()


def test_a_remedy_is_heard_before_it_is_taken(window, qtbot):
    window.show_stage(1)
    session, view = window.session, window.layers.room
    session.apply("crowd", lambda loop: layer_edits.set_layer(
        layer_edits.set_lens(loop, "l1", skip_bass=True), "l2", level_db=0.0))  # fmt: skip
    qtbot.waitUntil(lambda: view.room is not None and bool(view.room.crowded), timeout=60_000)
    before = session.loop
    rest_on(view.helps["Octave up"])
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5000)
    tried = session.hearing.shown
    assert tried != before == session.loop
    QApplication.sendEvent(view.helps["Octave up"], QEvent(QEvent.Type.Leave))
    assert not session.hearing.previewing
    qtbot.mouseClick(view.helps["Octave up"], Qt.MouseButton.LeftButton)
    assert session.loop == tried


def test_cuts_are_dragged_in_the_room_and_by_keys(window, qtbot):
    window.show_stage(1)
    session, chart = window.session, window.layers.room.map
    session.select(layer_id="l2")
    settled(qtbot, session)
    line = len(session.loop.layer("l2").line)
    low, high = cuts_of(session.loop, "l2")
    start = QPoint(300, round(chart.y_of(low)))
    moments = len(session.document.history.moments)
    drag(qtbot, chart, start, QPoint(300, round(chart.y_of(800.0))))
    assert cuts_of(session.loop, "l2")[0] == pytest.approx(800, rel=0.03)
    assert len(session.loop.layer("l2").line) <= line + 1
    assert len(session.document.history.moments) == moments + 1  # one drag is one step
    drag(qtbot, chart, QPoint(300, round(chart.y_of(800.0))), QPoint(300, chart.height() - 1))
    assert cuts_of(session.loop, "l2") == (20.0, high)  # out of the picture: off
    qtbot.keyClick(chart, Qt.Key.Key_Right)
    qtbot.keyClick(chart, Qt.Key.Key_Down)
    assert cuts_of(session.loop, "l2")[1] < high
    session.document.undo()
    session.document.undo()
    session.document.undo()
    assert cuts_of(session.loop, "l2") == (low, high)


def test_a_cut_on_a_layer_without_one_cuts_only_what_is_asked_for(small_loop):
    loop = line_edits.set_line(small_loop, "l2", ())
    assert cuts_of(loop, "l2") == (20.0, 20_000.0)
    assert cuts_of(set_cut(loop, "l2", "high_cut_hz", 3000.0), "l2") == (20.0, 3000.0)
    off = line_edits.set_treatment(set_cut(loop, "l2", "low_cut_hz", 300.0), "l2", "t1", on=False)
    assert cuts_of(off, "l2") == (20.0, 20_000.0)
    assert cuts_of(set_cut(off, "l2", "low_cut_hz", 200.0), "l2")[0] == 200.0


def test_a_gap_for_a_voice_is_measured(window, qtbot):
    one = {"low": band_levels(noise(60, 250), RATE), "mid": band_levels(noise(500, 3000), RATE)}
    reach = {name: np.zeros((2, 1), int) for name in one}
    room = Room(edges_hz=band_edges(), levels=one, reach=reach, crowded=())
    full, free = gap(room, 500, 3000), gap(room, 4000, 9000)
    assert full.level_db > -1.5
    assert full.layers[0][0] == "mid"
    assert free.level_db < -40
    assert gap(room, 30, 16_000).level_db == pytest.approx(0, abs=0.01)
    window.show_stage(1)
    view = window.layers.room
    qtbot.waitUntil(lambda: view.room is not None, timeout=60_000)
    view.for_voice.click()
    assert view.map.gap == (300.0, 3400.0)
    assert "dB of the loop's loudness, wanted at most −6.0 dB; most from " in view.gap_words.text()
    view.gap_fields["level"].type_text("0")
    assert view.gap_words.text().startswith("there is room")
    view.gap_fields["level"].type_text("-30")
    assert view.gap_words.text().startswith("too full")
