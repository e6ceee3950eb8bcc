"""The note grid and its tools in the real window: hands, keys, what became of the notes."""

import msgspec
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QColor

from cloudrift.desktop.stages.layers.notes.model import View, fitting, lines
from cloudrift.desktop.stages.layers.notes.places import LEFT, TOP
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.edits.layers.slowed import slowed
from cloudrift.loop.sounding import heard_time
from cloudrift.notes.note import HIGHEST, LOWEST, Note
from cloudrift.notes.tools import TOOLS, use
from cloudrift.texture import Treatment
from tests.hands import drag, settled

LEFT_BUTTON = Qt.MouseButton.LeftButton
SHIFT, CTRL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier
ALT = Qt.KeyboardModifier.AltModifier
KEY = Qt.Key


@pytest.fixture
def view(window, qtbot):
    window.show_stage(1)
    made = window.layers.notes
    window.session.select(layer_id="l1")
    notes = [Note(start_tick=960 * i, length_ticks=480, pitch=p)
             for i, p in enumerate((61, 64, 66, 69))]  # fmt: skip
    window.session.apply("own", lambda loop: own_notes.with_own(loop, "l1", notes))
    made.grid.fit()
    settled(qtbot, window.session)
    return made


def own(view):
    return view.moves.layer.own


def facts(view):
    return [(n.start_tick, n.length_ticks, n.pitch) for n in own(view)]


def at(view, tick, pitch):
    places = view.grid.places
    return QPoint(round(places.at_x(tick)), round(places.at_y(pitch) + places.lane / 2))


def middle(view, note):
    return view.grid.places.box(note).center().toPoint()


def test_notes_are_drawn_by_double_click_with_their_length_under_the_hand(view, qtbot):
    session = view.moves.session
    view.grid.fit()
    place = at(view, 480 + 30, 66)
    qtbot.mousePress(view.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseRelease(view.grid, LEFT_BUTTON, pos=place)
    qtbot.mouseDClick(view.grid, LEFT_BUTTON, pos=place)
    assert (480, 240, 66) in facts(view)
    assert len(view.moves.chosen) == 1  # while its end is held
    qtbot.mouseRelease(view.grid, LEFT_BUTTON, pos=place)
    assert view.moves.chosen == ()
    session.document.undo()
    assert len(own(view)) == 4
    # Out of the scale the next note below is drawn, with Shift the one under the hand.
    qtbot.mouseDClick(view.grid, LEFT_BUTTON, pos=at(view, 490, 67))
    assert (480, 240, 66) in facts(view)
    session.document.undo()
    qtbot.mouseDClick(view.grid, LEFT_BUTTON, SHIFT, at(view, 490, 67))
    assert (480, 240, 67) in facts(view)


def test_a_note_is_dragged_by_the_grid_and_the_scale_in_one_step(view, qtbot):
    session = view.moves.session
    before, note = session.loop, own(view)[1]
    start = middle(view, note)
    lane = view.grid.places.lane
    away = view.grid.places.at_x(240) - view.grid.places.at_x(0)
    drag(qtbot, view.grid, start, start + QPoint(round(away), round(-3 * lane)))
    # From E4 three semitones up is G, which is no note of F sharp minor: the next in it is G sharp.
    assert facts(view)[1] == (1200, 480, 68)
    assert [f for i, f in enumerate(facts(view)) if i != 1] == [
        (n.start_tick, n.length_ticks, n.pitch) for n in before.layer("l1").own if n.id != note.id
    ]
    session.document.undo()
    assert session.loop == before
    drag(qtbot, view.grid, start, start + QPoint(0, round(-3 * lane)), SHIFT)
    assert facts(view)[1] == (960, 480, 67)
    session.document.undo()
    drag(qtbot, view.grid, start, start + QPoint(7, 0), ALT)  # off the grid
    assert facts(view)[1][0] not in (960, 1200)
    assert facts(view)[1][2] == 64


def test_ends_are_dragged_and_ctrl_leaves_a_copy(view, qtbot):
    session, note = view.moves.session, own(view)[0]
    box = view.grid.places.box(note)
    end = QPoint(round(box.right()) - 1, round(box.center().y()))
    step = view.grid.places.at_x(240) - view.grid.places.at_x(0)
    drag(qtbot, view.grid, end, end + QPoint(round(2 * step), 0))
    assert facts(view)[0] == (0, 960, 61)
    session.document.undo()
    start = middle(view, note)
    drag(qtbot, view.grid, start, start + QPoint(round(2 * step), 0), CTRL)
    assert (0, 480, 61) in facts(view)
    assert (480, 480, 61) in facts(view)
    session.document.undo()
    session.document.undo()
    assert len(own(view)) == 4


def test_notes_are_picked_by_a_box_and_moved_together_by_keys(view, qtbot):
    grid = view.grid
    places = grid.places
    first, last = places.box(own(view)[0]), places.box(own(view)[1])
    drag(qtbot, grid, QPoint(round(first.left()) - 4, round(last.top()) - 8),
         QPoint(round(last.right()) - 3, round(first.bottom()) + 6))  # fmt: skip
    assert [n.pitch for n in view.moves.chosen] == [61, 64]
    qtbot.keyClick(grid, KEY.Key_Right)
    assert [f[0] for f in facts(view)[:2]] == [240, 1200]
    qtbot.keyClick(grid, KEY.Key_Left, SHIFT)
    assert [f[0] for f in facts(view)[:2]] == [120, 1080]
    qtbot.keyClick(grid, KEY.Key_Up, CTRL)
    assert [n.pitch for n in view.moves.chosen] == [73, 76]
    qtbot.keyClick(grid, KEY.Key_Down)
    assert [n.pitch for n in view.moves.chosen] == [71, 74]  # up or down by scale steps
    qtbot.keyClick(grid, KEY.Key_Right, CTRL)
    assert {n.length_ticks for n in view.moves.chosen} == {720}
    qtbot.keyClick(grid, KEY.Key_M)
    assert all(n.muted for n in view.moves.chosen)
    assert "2 muted" in view.words.text()
    qtbot.keyClick(grid, KEY.Key_Delete)
    assert len(own(view)) == 2
    assert view.moves.picked == frozenset()


def test_keys_pick_copy_paste_and_cut(view, qtbot):
    grid, session = view.grid, view.moves.session
    qtbot.keyClick(grid, KEY.Key_A, CTRL)
    assert len(view.moves.picked) == 4
    qtbot.keyClick(grid, KEY.Key_E)
    assert [n.pitch for n in view.moves.chosen] == [61, 66]
    qtbot.keyClick(grid, KEY.Key_J, CTRL)
    assert [f[0] for f in facts(view)] == [0, 960, 1920, 2880, 3840, 5760]  # on the bar
    session.document.undo()
    qtbot.keyClick(grid, KEY.Key_PageDown)
    assert len(view.moves.chosen) == 1
    qtbot.keyClick(grid, KEY.Key_C, CTRL)
    session.player.seek(0.5)
    grid.show_place(0.5)
    qtbot.keyClick(grid, KEY.Key_V, CTRL)
    assert facts(view)[-1][0] == 3840
    qtbot.keyClick(grid, KEY.Key_P)
    assert len(view.moves.picked) == 2
    qtbot.keyClick(grid, KEY.Key_Escape)
    assert not view.moves.picked
    grid.show_place(240 / 7680)
    qtbot.keyClick(grid, KEY.Key_X)
    assert facts(view)[:2] == [(0, 240, 61), (240, 240, 61)]


def test_loudness_is_drawn_and_ramped(view, qtbot):
    grid, places = view.grid, view.grid.places
    xs = [round(places.at_x(n.start_tick)) + 2 for n in own(view)]
    high, low = places.height - 50, places.height - 12
    drag(qtbot, grid, QPoint(xs[0], high), QPoint(xs[-1], high))
    flat = {n.velocity for n in own(view)}
    assert len(flat) == 1
    assert flat == {places.velocity_at(high)}
    drag(qtbot, grid, QPoint(xs[0], low), QPoint(xs[-1], high), SHIFT)
    levels = [n.velocity for n in own(view)]
    assert levels == sorted(levels)
    assert len(set(levels)) == 4


def test_lens_notes_are_let_go_before_they_are_changed(window, qtbot):
    window.show_stage(1)
    view, session = window.layers.notes, window.session
    session.select(layer_id="l3")
    before = session.loop
    place = middle(view, view.moves.notes[0])
    drag(qtbot, view.grid, place, place + QPoint(60, 0))
    assert session.loop == before
    assert view.words.text().startswith("These notes follow the chords. Detach")
    view.open_tool("roll")
    assert not view.strip.isVisible()
    view.follow.click()
    assert session.loop.layer("l3").own
    assert view.follow.text() == "Follow chords"
    assert "notes of its own" in view.words.text()
    assert "lens order" not in window.layers.inspector.fields
    view.follow.click()
    assert session.loop == before


def test_a_tool_is_seen_and_heard_before_it_is_used(view, qtbot):
    session = view.moves.session
    before = session.loop
    view.moves.select_all()
    view.open_tool("echo")
    assert view.strip.isVisible()
    assert session.hearing.previewing
    assert session.loop == before
    assert len(view.grid.tried) > 4
    view.strip.fields["repeats"].type_text("1")
    tried = view.grid.tried
    assert len(tried) == 8
    assert session.hearing.shown.layer("l1").own == tried
    qtbot.keyClick(view.strip, KEY.Key_Escape)
    assert not session.hearing.previewing
    assert view.grid.tried is None
    assert session.loop == before
    view.open_tool("echo")  # its settings are as they were left
    assert view.strip.fields["repeats"].value == 1
    qtbot.keyClick(view.strip, KEY.Key_Return)
    assert own(view) == tried
    assert session.document.history.undo_label == "echo"
    session.document.undo()
    assert session.loop == before


def test_every_tool_opens_and_is_used_or_left_in_one_step(view):
    session = view.moves.session
    for name, tool in TOOLS.items():
        before, moments = session.loop, session.document.history.at
        view.open_tool(name)
        assert view.strip.title.text().startswith(tool.label)
        view.strip.use.click()
        assert not view.strip.isVisible()
        assert session.document.history.at - moments == (session.loop != before), name
        if session.loop != before:
            session.document.undo()
        assert session.loop == before, name


def test_places_and_late_bars_are_drawn_on_the_strip(window, qtbot):
    window.show_stage(1)
    view, session = window.layers.notes, window.session
    session.select(layer_id="l3")
    places = view.grid.places
    y = TOP - 6
    drag(qtbot, view.grid, QPoint(round(places.at_x(1920)), y),
         QPoint(round(places.at_x(3840)), y))  # fmt: skip
    assert session.loop.layer("l3").source.lens.where == ((0, 1920), (3840, 7680))
    assert not any(1920 <= n.start_tick < 3840 for n in view.moves.notes)
    drag(qtbot, view.grid, QPoint(round(places.at_x(2400)), y),
         QPoint(round(places.at_x(2880)), y))  # fmt: skip
    assert session.loop.layer("l3").source.lens.where == ((0, 1920), (2400, 2880), (3840, 7680))
    session.document.undo()
    session.document.undo()
    qtbot.mouseDClick(view.grid, LEFT_BUTTON, pos=QPoint(round(places.at_x(5000)), y))
    assert session.loop.layer("l3").source.lens.late_bars == (1,)
    inspector = window.layers.inspector
    assert inspector.fields["lens late_bars"].value == "every 2nd"
    inspector.fields["lens late_bars"]._choose("the last")
    inspector.fields["lens late_ticks"]._choose("1/4")
    assert session.loop.layer("l3").source.lens.late_ticks == 960
    assert min(n.start_tick for n in view.moves.notes if n.start_tick >= 3840) == 4800


def test_what_is_out_of_key_is_painted_in_the_signal_colour(view):
    session = view.moves.session
    outside = own_notes.with_own(
        session.loop, "l1", [Note(start_tick=0, length_ticks=3840, pitch=67)]
    )
    session.apply("outside", lambda _loop: outside)
    image = view.grid.grab().toImage()
    spot = middle(view, own(view)[0])
    assert QColor(image.pixel(spot)).name().upper() == "#D4452A"


def test_the_view_zooms_and_stays_inside(view):
    loop = view.moves.session.loop
    whole = fitting(own(view), loop)
    assert whole.low <= 58
    assert whole.high >= 72
    near = whole.zoomed(0.25, 0.0, loop.ticks, 960)
    assert (near.first, near.ticks) == (0, loop.ticks / 4)
    assert near.zoomed(0.001, 500, loop.ticks, 960).ticks == 960
    assert near.moved_to(1e9, near.ticks, loop.ticks).last == loop.ticks
    assert View(100, 119, 0, 1).raised(50).high == HIGHEST
    assert View(20, 39, 0, 1).raised(-50).low == LOWEST
    marks = lines(loop, 240, whole, 7.0, 500.0)
    assert [t for t, what in marks if what == "bar"] == [0, 3840, 7680]
    assert not any(what == "grid" for _, what in lines(loop, 240, whole, 20.0, 500.0))
    view.grid.zoom(0.5, 3840)
    assert view.grid.view.ticks == loop.ticks / 2
    view.grid.fit()
    assert view.grid.places.at_x(0) == LEFT


def test_groups_and_second_sounds_from_the_inspector(window, qtbot):
    window.show_stage(1)
    session, inspector = window.session, window.layers.inspector
    session.select(layer_id="l1")
    menu = inspector.group.menu()
    menu.aboutToShow.emit()
    next(a for a in menu.actions() if a.text() == "New group with Slow vault").trigger()
    assert [x.group for x in session.loop.layers] == ["g1", "g1", "", ""]
    assert window.layers.groups["g1"].who.text() == "group of 2 layers"
    window.open_shelf()
    window.shelf.keep_beside(next(s for s in window.shelf.grid.sounds if s.name == "tine keys"))
    assert session.loop.layer("l1").source.other.use.name == "tine keys"
    first = session.loop.layer("l1").source.sound
    window.open_inspector()
    inspector.swap.click()
    assert session.loop.layer("l1").source.sound.name == "tine keys"
    assert session.loop.layer("l1").source.other.use == first
    inspector.fields["other every_bars"]._choose("every bar")
    assert "Tine keys / Felt upright" in window.layers.rows["l1"].sound.text()
    settled(qtbot, session)
    assert layer_edits.take_turns(session.loop, "l1", 1) == session.loop


# --- under a slow treatment ----------------------------------------------------------------------


def test_what_a_slow_treatment_passes_over_is_shown_and_notes_are_pulled_into_the_rest(
    window, qtbot
):
    session = window.session
    window.show_stage(1)
    layer = next(x.id for x in session.loop.layers if x.role == "pluck")
    session.select(layer_id=layer)
    view = window.layers.notes
    assert not view.pull.isVisible()
    before = view.grid.grab().toImage()
    slow = Treatment(id="t9", kind="half speed", settings=(("speed", "a quarter"),))
    session.apply("x", lambda p: line_edits.set_line(p, layer, (slow,)))
    assert view.pull.isVisible()
    assert "half speed: the first 25 % of every 1/1 plays" in view.words.text()
    time = heard_time(session.loop, session.loop.layer(layer))
    assert time.unheard == ((960, 3840), (4800, 7680))
    qtbot.wait(30)
    assert view.grid.grab().toImage() != before  # hatched
    view.moves.detach()
    view.pull.click()
    assert view.strip.tool.name == "to the front"
    view.strip.apply()
    pulled = session.loop.layer(layer).own
    assert pulled
    assert all(n.start_tick % 3840 < 960 for n in pulled)
    whole = msgspec.structs.replace(slow, settings=(("speed", "half"), ("window", "2 bars")))
    loop = line_edits.set_line(line_edits.set_line(session.loop, layer, ()), None, (whole,))
    assert heard_time(loop, loop.layer(layer)).unheard == ((3840, 7680),)  # the loop's line counts
    assert slowed(line_edits.set_line(loop, None, ()), loop.layer(layer)) is None


def test_after_drawing_nothing_is_picked_and_tools_say_what_they_change(view, qtbot):
    grid, strip = view.grid, view.strip
    qtbot.mouseDClick(grid, LEFT_BUTTON, pos=at(view, 490, 66))
    qtbot.mouseRelease(grid, LEFT_BUTTON, pos=at(view, 490, 66))
    assert len(own(view)) == 5 and view.moves.picked == frozenset()
    view.open_tool("quantise")
    assert strip.about.text() == "· changes nothing at this setting, on all 5 notes"
    strip.apply()
    assert "changed nothing" in view.window().message.text()
    view.open_tool("octave")
    assert strip.about.text() == "· changes all 5 notes"
    strip.close_strip()
    view.moves.pick(frozenset({own(view)[0].id}))
    view.open_tool("octave")
    assert strip.about.text() == "· changes 1 selected note"


@pytest.mark.parametrize(
    ("spans", "units", "by"),
    [
        (((0, 3840 * 4 - 960),), (240, 960, 3840), 4 * 3840),  # a four-bar phrase: to bar 5
        (((960, 3840 * 4 - 480),), (240, 960, 3840), 4 * 3840),  # that begins on beat 2, too
        (((0, 3840 + 60),), (240, 960, 3840), 3840),  # rings a little over the bar line
        (((0, 2400),), (240, 960, 3840), 3840), (((0, 1920),), (240, 960, 3840), 1920),
        (((0, 480),), (240, 960, 3840), 480), (((0, 100),), (240, 960, 3840), 240),
        (((480, 1200), (1920, 2160)), (240, 960, 3840), 1920),
    ],
)  # fmt: skip
def test_copies_come_on_the_bar_the_beat_or_the_grid(spans, units, by):
    notes = [Note(start_tick=a, length_ticks=b - a, pitch=60) for a, b in spans]
    assert own_notes.repeat_ticks(notes, units) == by


def test_pasting_in_place_lays_the_copy_beside(view, qtbot):
    grid, session = view.grid, view.moves.session
    qtbot.keyClick(grid, KEY.Key_A, CTRL)
    qtbot.keyClick(grid, KEY.Key_C, CTRL)
    session.player.seek(0.0)
    grid.show_place(0.0)
    before = facts(view)
    qtbot.keyClick(grid, KEY.Key_V, CTRL)
    assert facts(view) == [*before, *((start + 3840, *rest) for start, *rest in before)]
    assert len(view.moves.picked) == 4
    qtbot.keyClick(grid, KEY.Key_V, CTRL)  # and again: there is no more room
    assert len(own(view)) == 8 and "past the loop's end" in view.window().message.text()


def test_copy_on_goes_by_bars(small_loop):
    around = own_notes.around(replace(small_loop, bars=16, metre=(3, 4)), 240)
    note = (Note(start_tick=0, length_ticks=240, pitch=60),)
    for after, bars in (("1 bar", 1), ("2 bars", 2), ("4 bars", 4), ("8 bars", 8)):
        made, _left = use(TOOLS["repeat"], note, (), around, (("after", after),))
        assert [n.start_tick for n in made] == [0, bars * 2880]
