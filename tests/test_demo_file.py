"""The demo file: its order drawn and edited, its sound, its places, heard and written."""

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt

from cloudrift.audio.clips import ClipStore
from cloudrift.cli.main import commands
from cloudrift.deliver.demo_sound import (
    clock,
    cues_of,
    demo_sound,
    lengths_of,
    sheet_text,
    tag_sound,
    write_demo,
)
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.stages.deliver.demo_picture import columns_of
from cloudrift.desktop.stages.deliver.stage import DEMO
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model import demo_file as demos
from cloudrift.loop.model.demo_file import (
    EVERYTHING,
    DemoFile,
    DemoPart,
    fitted,
    heard_in,
    part_loop,
    suggest_demo,
)
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.render import Engine
from tests.conftest import make_small_loop
from tests.hands import saved, settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

SMALL = make_small_loop()
RATE, TURN = SMALL.rate, SMALL.sounding_frames
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


def db(audio):
    return 10 * np.log10(max(float(np.square(audio).mean()), 1e-14))


def document(*parts, **demo):
    made = tuple(DemoPart(id=f"d{i}", name=f"P{i}", layers=layers, turns=turns)
                 for i, (layers, turns) in enumerate(parts, 1))  # fmt: skip
    return Document(loop=SMALL, demo=DemoFile(parts=made, **demo))


# --- the order ------------------------------------------------------------------------------------


@pytest.mark.parametrize("variation", range(1, 13))
def test_an_order_is_everything_then_broken_down_then_each_alone(variation):
    demo = suggest_demo(SMALL, variation)
    assert demo == suggest_demo(SMALL, variation) and demo.variation == variation
    counts = [len(heard_in(SMALL, part)) for part in demo.parts]
    every = len(SMALL.heard())
    assert counts[0] == every and demo.parts[0].name == EVERYTHING and demo.parts[0].turns == 2
    alone = [part for part in demo.parts if len(part.layers) == 1]
    assert demo.parts[-every:] == tuple(alone)
    assert {part.layers[0] for part in alone} == {one.id for one in SMALL.heard()}
    assert heard_in(SMALL, alone[-1])[0].role == "bass"
    between = [set(part.layers) for part in demo.parts[1:-every]]
    assert 2 <= len(between) <= 3 and all(1 < len(one) < every for one in between)
    assert len({frozenset(one) for one in between}) == len(between)
    for part in demo.parts[1:-every]:
        out = [x.name for x in SMALL.heard() if x.id not in part.layers]
        assert part.name == f"Without {' and '.join(out)}" or out[0] not in part.name


def test_two_draws_differ_and_small_loops_have_one(engine):
    assert len({suggest_demo(SMALL, variation).parts for variation in range(1, 9)}) > 4
    alone = SMALL
    for layer in SMALL.layers[1:]:
        alone = layer_edits.set_layer(alone, layer.id, mute=True)
    assert [one.name for one in suggest_demo(alone, 1).parts] == [EVERYTHING]
    with pytest.raises(CloudriftError, match="no layer plays"):
        suggest_demo(layer_edits.set_layer(alone, alone.layers[0].id, mute=True), 1)
    slow = loop_edits.set_tempo(replace(SMALL, bars=8), 60.0)
    assert suggest_demo(slow, 1).parts[0].turns == 1  # a turn is long enough


def test_parts_are_edited_by_hand():
    demo = suggest_demo(SMALL, 1)
    first, second = demo.parts[0].id, demo.parts[1].id
    moved = demos.move_part(demo, first, 1)
    assert [one.id for one in moved.parts[:2]] == [second, first]
    assert demos.move_part(demo, first, -3).parts == demo.parts
    assert demos.remove_part(demo, first).parts == demo.parts[1:]
    more = demos.add_part(demo, "Repeat")
    assert more.parts[-1].name == "Repeat" and more.parts[-1].id not in {x.id for x in demo.parts}
    less = demos.with_layer(demo, SMALL, first, "l2", on=False)
    assert [x.id for x in heard_in(SMALL, less.parts[0])] == ["l1", "l3", "l4"]
    assert demos.with_layer(less, SMALL, first, "l2", on=True).parts[0].layers == ()
    only = demos.set_part(demo, first, layers=("l1",))
    with pytest.raises(CloudriftError, match="needs a layer"):
        demos.with_layer(only, SMALL, first, "l1", on=False)
    with pytest.raises(CloudriftError, match="no longer exists"):
        demos.set_part(demo, "d99", turns=2)


def test_layers_that_are_gone_are_left_out():
    demo = document((("l1", "l2"), 1), (("l2",), 1), ((), 1)).demo
    kept = fitted(demo, layer_edits.remove_layer(SMALL, "l2"))
    assert [part.layers for part in kept.parts] == [("l1",), ()]


@pytest.mark.parametrize(("make", "says"), [
    (lambda: DemoPart(id="d1", name="x", turns=0), "passes of x"),
    (lambda: DemoFile(cross_s=float("nan")), "crossfade"),
    (lambda: DemoFile(tag_db=3.0), "level of the tag"),
    (lambda: DemoFile(parts=(DemoPart(id="d1", name="x"),) * 2), "parts of the demo file"),
])  # fmt: skip
def test_what_cannot_be_is_refused(make, says):
    with pytest.raises(CloudriftError, match=says):
        make()


# --- its sound ------------------------------------------------------------------------------------


def test_each_part_is_the_loop_with_its_layers_and_the_last_rings_out(engine):
    made = document(((), 2), (("l1", "l2"), 1), (("l3",), 1), cross_s=0.2)
    audio, cues = demo_sound(engine, made)
    assert [one.frame for one in cues] == [0, 2 * TURN, 3 * TURN]
    assert lengths_of(SMALL, made.demo) == [2 * TURN, TURN, TURN]
    cross = int(0.2 * RATE)
    for part, at, count in zip(made.demo.parts, (0, 2 * TURN, 3 * TURN), (2, 1, 1), strict=True):
        steady = engine.without_bed(part_loop(SMALL, part))
        first = cross if at else 0
        for turn in range(count):
            begins = first if turn == 0 else 0
            there = audio[:, at + turn * TURN + begins : at + (turn + 1) * TURN]
            assert db(there - steady[:, begins:]) < -100
    tail = audio[:, 4 * TURN :]
    once = engine.once(part_loop(SMALL, made.demo.parts[-1]))[:, TURN:]
    assert np.allclose(tail, once, atol=1e-6) and db(tail[:, -50:]) < -60


def test_a_cross_fade_is_even_in_power_and_begins_at_the_part(engine):
    made = document((("l2",), 1), (("l2",), 1), (("l4",), 1), cross_s=0.4)
    audio, _cues = demo_sound(engine, made)
    cross = int(0.4 * RATE)
    pad = engine.without_bed(part_loop(SMALL, made.demo.parts[0]))
    # The same sound against itself, in phase: at most 3 dB more in the middle, never less.
    there, plain = audio[:, TURN : TURN + cross], pad[:, :cross]
    assert -0.1 < db(there) - db(plain) < 3.1
    assert db(audio[:, TURN - 2000 : TURN] - pad[:, -2000:]) < -100
    sub = engine.without_bed(part_loop(SMALL, made.demo.parts[2]))
    begins = audio[:, 2 * TURN : 2 * TURN + cross]
    share = np.sin(np.linspace(0, np.pi / 2, cross, endpoint=False))
    wanted = sub[:, :cross] * share + pad[:, :cross] * np.sqrt(1 - share**2)
    assert np.abs(begins - wanted).max() < 1e-5


def test_a_tag_is_heard_at_every_few_parts_at_its_level(engine):
    parts = [((), 1)] * 5
    plain, _ = demo_sound(engine, document(*parts))
    tagged, cues = demo_sound(engine, document(*parts, tag="tower bell", tag_every=2, tag_db=-12.0))
    off = tagged - plain
    for number, cue in enumerate(cues):
        there = np.abs(off[:, cue.frame : cue.frame + RATE // 4]).max()
        if number % 2 == 0:
            assert 20 * np.log10(there) == pytest.approx(-12, abs=3.5)
    assert np.abs(off).max() <= 10 ** (-12 / 20) * 1.9  # they ring into each other
    before = off[:, cues[2].frame - 2000 : cues[2].frame]
    assert np.abs(before).max() < 0.5 * np.abs(off).max()


def test_a_tag_may_be_a_recording_at_another_rate():
    clips = ClipStore()
    t = np.arange(24_000) / 48_000
    clip = clips.record(
        np.stack([0.3 * np.sin(2 * np.pi * 500 * t)] * 2).astype(np.float32), 48_000
    )
    facts = Facts(name="Dome Show, said", kind="phrase", length_s=0.5)
    loop = add_recording(SMALL, FromRecording(clip=clip, facts=facts))
    engine = Engine(clips=clips)
    try:
        tag = tag_sound(engine, loop, "Dome Show, said")
        assert tag.shape[1] == pytest.approx(RATE / 2, abs=40)
        assert np.abs(tag).max() == pytest.approx(1.0, abs=0.01)
        with pytest.raises(CloudriftError, match="did you mean 'tower bell'"):
            tag_sound(engine, loop, "tower bel")
    finally:
        engine.close()


def test_nothing_to_show_and_a_stop_are_said(engine):
    with pytest.raises(CloudriftError, match="no parts yet"):
        demo_sound(engine, document())
    with pytest.raises(Cancelled):
        demo_sound(engine, document(((), 1)), cancelled=lambda: True)
    moved = []
    demo_sound(engine, document(((), 1), (("l1",), 1)), lambda *where: moved.append(where))
    assert moved == [(0, 2, "P1"), (1, 2, "P2"), (2, 2, "")]


# --- written --------------------------------------------------------------------------------------


def test_it_is_written_with_its_places_and_a_sheet(engine, tmp_path):
    made = document(((), 2), (("l1", "l2"), 1))
    path, sheet = write_demo(tmp_path / "show.flac", made, engine, format_name="flac")
    audio, rate = soundfile.read(path)
    assert rate == RATE and len(audio) > 3 * TURN
    lines = sheet.read_text().splitlines()
    names = [SMALL.layer(one).name for one in ("l1", "l2")]
    seconds = 2 * TURN / RATE
    assert lines[0] == "Ice Road: demo file" and lines[3].startswith("0:00.0  P1: ")
    assert lines[4] == f"{clock(seconds)}  P2: {', '.join(names)}"
    assert lines[5] == f"{clock(3 * TURN / RATE)}  end"
    assert clock(62.55) == "1:02.5" or clock(62.55) == "1:02.6"
    assert sheet_text(made) == sheet.read_text()
    assert cues_of(SMALL, made.demo)[1].label == "P2"


def test_it_is_in_the_file_and_at_the_command_line(tmp_path):
    made = document(((), 1), (("l1",), 1), tag="tower bell")
    save(made, tmp_path / "a.cloudrift")
    assert load_document(tmp_path / "a.cloudrift") == made
    run = CliRunner().invoke(commands, ["demo-file", str(tmp_path / "a.cloudrift"), "-o",
                                        str(tmp_path / "b.mp3")])  # fmt: skip
    assert run.exit_code == 0, run.output
    assert run.stdout.split() == [str(tmp_path / "b.mp3"), str(tmp_path / "b.txt")]
    assert "P2" in (tmp_path / "b.txt").read_text()
    CliRunner().invoke(commands, ["demo-file", str(tmp_path / "a.cloudrift"), "-o",
                                  str(tmp_path / "c.wav"), "--variation", "3"])  # fmt: skip
    said = (tmp_path / "c.txt").read_text()
    assert all(part.name in said for part in suggest_demo(SMALL, 3).parts)


# --- in the window --------------------------------------------------------------------------------


@pytest.fixture
def page(qtbot, window):
    window.choose_stage(STAGES.index("Deliver"))
    settled(qtbot, window.session)
    qtbot.mouseClick(window.deliver.page.button(DEMO), LEFT)
    return window.deliver.demo


def now(window):
    return window.session.document.history.now.demo


def test_an_order_is_drawn_changed_undone_and_kept(qtbot, window, page, tmp_path):
    assert not page.hear.isEnabled() and not page.picture.columns
    qtbot.mouseClick(page.order, LEFT)
    drawn = now(window)
    assert drawn == replace(suggest_demo(window.session.loop, 1)) and len(page.picture.columns) > 4
    qtbot.mouseClick(page.order, LEFT)
    assert now(window).variation == 2 and now(window).parts != drawn.parts
    page.variation.edited.emit(1.0)
    assert now(window) == drawn
    page.turns.edited.emit(1.0)
    page.layers["l2"].click()
    part = now(window).parts[0]
    assert part.turns == 1 and part.layers == ("l1", "l3", "l4")
    page.name.setText("Nearly all")
    page.name.editingFinished.emit()
    qtbot.mouseClick(page.later, LEFT)
    assert [one.name for one in now(window).parts[:2]][1] == "Nearly all"
    assert page.picture.at == 1 and page.name.text() == "Nearly all"
    page.cross.edited.emit(1.5)
    page.tag.setCurrentIndex(page.tag.findData("tower bell"))
    page.tag.activated.emit(page.tag.currentIndex())
    assert (now(window).cross_s, now(window).tag) == (1.5, "tower bell")
    assert page.tag_db.isVisible()
    kept = now(window)
    assert saved(window.session.document.save, tmp_path / "a.cloudrift")
    assert load_document(tmp_path / "a.cloudrift").demo == kept
    for _step in range(6):
        window.session.document.undo()
    assert now(window).parts[0].name == EVERYTHING and now(window).tag == ""
    qtbot.mouseClick(page.add, LEFT)
    assert page.picture.at == len(now(window).parts) - 1
    qtbot.mouseClick(page.remove, LEFT)
    qtbot.mouseClick(page.write, LEFT)
    assert window.deliver.files.parts["demo"].isChecked()
    assert "demo.wav" in " ".join(x.name for x in _listed(window))


def _listed(window):
    from cloudrift.deliver import parcels

    return parcels(window.session.document.history.now, window.deliver.files.order)


def test_it_is_heard_from_any_part_while_it_is_edited(qtbot, window, page):
    session = window.session
    qtbot.mouseClick(page.order, LEFT)
    qtbot.mouseClick(page.hear, LEFT)
    qtbot.waitUntil(lambda: page.heard.on, timeout=60_000)
    assert session.player.playing and session.hearing.heard_words.startswith(
        "playing the demo file, "
    )
    column = page.picture.columns[2]
    x = int(page.picture._x((column.start + column.end) / 2))
    qtbot.mouseClick(page.picture, LEFT, pos=QPoint(x, 60))
    assert page.picture.at == 2
    qtbot.waitUntil(lambda: page.heard.at == 2, timeout=2000)
    assert page.heard.words == f"playing the demo file, {column.name}"
    inside = page.heard.inside(session.player.share)
    assert 0 <= inside < 0.2  # that part's own beginning
    before = page.heard._audio
    session.apply("quieter", lambda loop: layer_edits.set_layer(loop, "l1", level_db=-20.0))
    qtbot.waitUntil(lambda: page.heard._audio is not before, timeout=60_000)
    assert page.heard.on and page.heard.at == 2
    qtbot.keyClick(page.picture, Qt.Key.Key_Left)
    assert page.picture.at == 1
    qtbot.mouseClick(page.hear, LEFT)
    assert not page.heard.on and session.transport.long is None
    assert session.hearing.heard_words == ""


def test_a_part_hears_the_loop_again(qtbot, window, page):
    qtbot.mouseClick(page.order, LEFT)
    qtbot.mouseClick(page.hear, LEFT)
    qtbot.waitUntil(lambda: page.heard.on, timeout=60_000)
    window.session.transport.hear_part(0, 0.5)
    assert not page.heard.on
    qtbot.mouseClick(page.hear, LEFT)
    qtbot.waitUntil(lambda: page.heard.on, timeout=60_000)
    while now(window).parts:
        qtbot.mouseClick(page.remove, LEFT)
    assert not page.heard.on and not page.hear.isEnabled()


def test_columns_are_as_long_as_their_parts_and_as_high_as_their_layers():
    curves = {one.id: np.full(8, 0.25, np.float32) for one in SMALL.layers}
    made = document(((), 2), (("l1", "l3"), 1))
    one, other = columns_of(SMALL, made.demo, curves)
    assert (one.start, one.end, other.end) == (0.0, pytest.approx(2 / 3), 1.0)
    assert [role for role, _ in other.bands] == [SMALL.layer(x).role for x in ("l1", "l3")]
    assert len(one.bands) == 4 and len(one.bands[0][1]) == 16
