"""Written in heard time: where notes are heard after treatments, and drawing them there."""

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint

from cloudrift.loop.edits.layers import own_notes
from cloudrift.loop.sounding import heard_time
from cloudrift.loop.sounding.score import sounding
from cloudrift.notes.note import Note
from tests.conftest import make_small_loop, treated
from tests.hands import drag, settled
from tests.test_notes_view import ALT, CTRL, KEY, LEFT_BUTTON, at, facts, middle, own

LOOP = replace(make_small_loop(), line=())
LAYER = LOOP.layers[0].id
NOTES = tuple(
    Note(start_tick=start, length_ticks=length, pitch=pitch, velocity=90)
    for start, length, pitch in ((0, 480, 61), (960, 240, 64), (3840, 960, 66), (7200, 480, 69))
)
WAYS = [
    (("half speed", {}),),
    (("reverse", {}),),
    (("reverse", {"what": "whole"}),),
    (("shift", {"semitones": -12.0}),),
    (("half speed", {}), ("reverse", {})),
    (("reverse", {}), ("half speed", {"window": "1/2"})),
    (("stutter", {"share": 40.0}),),
    (("slots", {"slot_1": "octave up", "slot_3": "slow"}), ("shift", {"semitones": 5.0})),
]


def through(*ways, at_layer=LAYER, notes=NOTES):
    """The loop with a layer of own notes behind treatments: the last on the whole loop."""
    loop = own_notes.with_own(LOOP, LAYER, notes)
    for number, (kind, settings) in enumerate(ways):
        loop = treated(loop, None if number else at_layer, kind, **settings)
    return loop


# --- what is heard when ---------------------------------------------------------------------------


@pytest.mark.parametrize("ways", WAYS, ids=lambda w: " ".join(kind for kind, _ in w))
def test_notes_are_heard_where_the_score_has_them(ways):
    loop = through(*ways)
    layer = loop.layer(LAYER)
    time = heard_time(loop, layer)
    rows = sounding(loop, layer).notes
    rows = rows[rows["end"] - rows["start"] >= 1]
    wanted = sorted({(round(r["start"]), round(r["cents"] / 100)) for r in rows})
    found = sorted({(n.start_tick, n.pitch) for n in time.heard(layer.own)})
    assert found == wanted


@pytest.mark.parametrize("ways", WAYS, ids=lambda w: " ".join(kind for kind, _ in w))
def test_the_way_back_leads_to_what_is_heard(ways):
    loop = through(*ways)
    time = heard_time(loop, loop.layer(LAYER))
    rng = np.random.default_rng(4)
    for tick in rng.uniform(0, loop.ticks, 60):
        source, pitch = time.written(tick, 60)
        start = min(max(int(source) - 12, 0), loop.ticks - 24)
        short = Note(start_tick=start, length_ticks=24, pitch=pitch, velocity=90)
        assert any(
            n.start_tick - 2 <= tick <= n.end_tick + 2 and n.pitch == 60
            for n in time.heard((short,))
        )


def test_where_notes_are_heard_as_written_there_is_nothing_to_bend():
    assert heard_time(LOOP, LOOP.layer(LAYER)) is None
    detuned = through(("shift", {"semitones": 0.0, "cents": 30.0}))
    assert heard_time(detuned, detuned.layer(LAYER)) is None
    off = through(("reverse", {}))
    faint = replace(
        off, layers=tuple(
            replace(x, line=tuple(replace(t, blend=0.3) for t in x.line)) for x in off.layers
        )
    )  # fmt: skip
    assert heard_time(faint, faint.layer(LAYER)) is None


def test_what_no_window_lets_through_is_told():
    slow = through(("half speed", {}))
    bar = slow.ticks // slow.bars
    time = heard_time(slow, slow.layer(LAYER))
    assert time.unheard == tuple((n * bar + bar / 2, (n + 1) * bar) for n in range(slow.bars))
    backward = through(("reverse", {}))
    assert heard_time(backward, backward.layer(LAYER)).unheard == ()


# --- drawn where it is heard ----------------------------------------------------------------------


@pytest.fixture
def view(window, qtbot):
    """The note grid of a layer at half speed and reversed, as it is heard."""

    def shown(*ways):
        loop = through(*ways)
        window.session.apply("treat", lambda _now: loop)
        window.show_stage(1)
        window.session.select(layer_id=LAYER)
        settled(qtbot, window.session)
        made = window.layers.notes
        assert made.heard.isVisible()
        made.heard.click()
        return made

    return shown


def test_a_note_drawn_at_half_speed_is_heard_there(view, qtbot):
    made = view(("half speed", {}))
    assert {(n.start_tick, n.length_ticks, n.pitch) for n in made.moves.seen} == {
        (0, 960, 49), (1920, 480, 52), (3840, 1920, 54),
    }  # fmt: skip
    place = at(made, 2880 + 20, 54)
    qtbot.mousePress(made.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseRelease(made.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseDClick(made.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseRelease(made.grid, LEFT_BUTTON, pos=place)
    assert (1440, 120, 66) in facts(made)
    assert (2880, 240, 54) in {(n.start_tick, n.length_ticks, n.pitch) for n in made.moves.seen}


def test_a_drag_goes_as_far_as_it_is_seen_to(view, qtbot):
    made = view(("half speed", {}))
    note = next(n for n in made.moves.seen if n.pitch == 52)
    places = made.grid.places
    by = QPoint(round(places.at_x(480) - places.at_x(0)), 0)
    drag(qtbot, made.grid, middle(made, note), middle(made, note) + by)
    assert (1200, 240, 64) in facts(made)  # 480 heard ticks are 240 written ones
    assert (2400, 480, 52) in {(n.start_tick, n.length_ticks, n.pitch) for n in made.moves.seen}
    made.moves.session.document.undo()
    made.moves.pick(frozenset({note.id}))
    made.grid.setFocus()
    qtbot.keyClick(made.grid, KEY.Key_Right)
    assert (960 + 120, 240, 64) in facts(made)
    qtbot.keyClick(made.grid, KEY.Key_Right, CTRL)
    assert (960 + 120, 360, 64) in facts(made)


def test_reversed_the_end_that_is_heard_is_the_start_that_is_written(view, qtbot):
    made = view(("reverse", {"what": "whole"}))
    note = next(n for n in made.moves.seen if n.pitch == 66)
    total = made.moves.session.loop.ticks
    assert note.start_tick == total - 4800 and note.length_ticks == 960
    box, places = made.grid.places.box(note), made.grid.places
    edge = QPoint(round(box.right()) - 1, round(box.center().y()))
    away = QPoint(round(places.at_x(480) - places.at_x(0)), 0)
    drag(qtbot, made.grid, edge, edge + away)
    assert (3840 - 480, 960 + 480, 66) in facts(made)
    made.moves.session.document.undo()
    made.moves.pick(frozenset({note.id}))
    made.grid.setFocus()
    qtbot.keyClick(made.grid, KEY.Key_Left)  # earlier as heard is later as written
    assert (3840 + 240, 960, 66) in facts(made)
    place = at(made, 240 + 10, 61)
    qtbot.mouseDClick(made.grid, LEFT_BUTTON, ALT, place)
    qtbot.mouseRelease(made.grid, LEFT_BUTTON, pos=place)
    assert {(n.start_tick, n.pitch) for n in made.moves.seen} >= {(240, 61)}


def test_the_scale_is_that_in_which_it_is_heard(view, qtbot):
    made = view(("shift", {"semitones": 1.0}))
    key = made.moves.session.loop.key
    assert made.moves.key == key.shifted(1)
    assert made.moves.key.has(65) and not key.has(65)  # F is in G minor alone
    place = at(made, 1920 + 20, 65)
    qtbot.mouseDClick(made.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseRelease(made.grid, LEFT_BUTTON, pos=place)
    assert (1920, 240, 64) in facts(made)


def test_it_is_offered_only_where_it_is_another_and_written_comes_back(view, qtbot):
    made = view(("half speed", {}))
    made.heard.click()
    assert made.moves.seen == own(made) == made.moves.notes
    session = made.moves.session
    session.document.undo()
    assert not made.heard.isVisible()
    other = session.loop.layers[1].id
    session.select(layer_id=other)
    made.heard.setChecked(True)
    made.moves.as_heard = True
    assert made.moves.seen == made.moves.notes


def test_a_layer_that_follows_chords_is_seen_as_heard_too(view, qtbot, window):
    made = view(("half speed", {}))
    session = window.session
    session.apply("follow", lambda loop: own_notes.take_again(loop, LAYER))
    assert made.moves.layer.follows
    seen, written = made.moves.seen, made.moves.notes
    assert {n.pitch + 12 for n in seen} <= {n.pitch for n in written}
    ground = made.grid.grab()
    made.heard.click()
    assert made.grid.grab().toImage() != ground.toImage()
