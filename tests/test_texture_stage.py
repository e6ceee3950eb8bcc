"""The Texture stage, driven: adding, riding, copying, comparing, finishes, two strips, history."""

import msgspec
import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication

from cloudrift.audio.loudness import integrated_lufs
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.stages.texture.pair_page import step_names
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import save
from cloudrift.loop.sounding import key_heard
from cloudrift.render import Engine
from cloudrift.render.measure.pair import difference
from cloudrift.render.measure.step_facts import added, heed, short_gap_s, step_facts
from cloudrift.texture import RidePoint, Treatment
from cloudrift.texture.finish_files import own_finishes
from tests.conftest import db, rms
from tests.hands import drag, opened, rest_on, settled
from tests.test_treatments import treatment

ENTER, LEFT = Qt.Key.Key_Return, Qt.MouseButton.LeftButton


@pytest.fixture
def stage(window, qtbot):
    window.show_stage(2)
    session = window.session
    session.apply("bare", lambda loop: line_edits.set_line(loop, None, ()))
    session.end_drag()
    session.select(line_of=None, treatment_id="")
    settled(qtbot, session)
    return window.texture


def kinds(session, line_of=None):
    return [t.kind for t in session.loop.line_of(line_of)]


def add(stage, *names):
    for name in names:
        stage.adders[name].trigger()


def comes(qtbot, session, side, line):
    """Wait until a side of the compare switch is the loop with such a line."""
    qtbot.waitUntil(
        lambda: [t.kind for t in session.hearing.rendered[side].loop.line if t.on] == line,
        timeout=20_000,
    )


def open_first(stage, session):
    session.select(treatment_id=session.loop.line[0].id)
    return stage.rows[0]


# --- adding and moving ---------------------------------------------------------------------------


def test_a_treatment_is_added_by_typing_what_it_does(stage, window, qtbot):
    search = stage.adding.search
    search.setFocus()
    qtbot.keyClicks(search, "lo-fi")
    popup = search.completer().popup()
    listed = [popup.model().index(row, 0).data() for row in range(3)]
    assert listed[0].startswith("Weathering (lo-fi): ") and popup.width() >= 440
    search.clear()
    qtbot.keyClicks(search, "surf")
    qtbot.keyClick(search, ENTER)
    assert kinds(window.session) == ["spring"]
    assert stage.rows[0].portrait is not None  # it is open
    qtbot.waitUntil(lambda: search.text() == "")
    qtbot.waitUntil(lambda: stage.rows[0].portrait.portrait is not None, timeout=20_000)
    assert window.session.document.history.now.loop.line[0].version == 1
    assert window.session.document.history.undo_label == "add spring"


def test_the_portrait_follows_the_fields_and_the_card_says_what_it_added(stage, window, qtbot):
    add(stage, "cuts")
    row = stage.rows[0]
    qtbot.waitUntil(lambda: row.portrait.portrait is not None, timeout=20_000)
    before = row.portrait.portrait
    row.fields["low_cut_hz"].setFocus()
    row.fields["low_cut_hz"].type_text("900")
    qtbot.waitUntil(
        lambda: not np.array_equal(row.portrait.portrait.curves[0], before.curves[0]),
        timeout=20_000,
    )
    qtbot.waitUntil(lambda: "quieter" in row.added.text(), timeout=20_000)
    assert row.says.text().startswith("cuts below 900 Hz")


def test_a_card_is_copied_into_another_line_and_a_line_too(stage, window, qtbot):
    session = window.session
    add(stage, "cuts", "hall")
    session.apply(
        "x", lambda loop: line_edits.set_treatment(loop, None, loop.line[1].id, note="far")
    )
    stage.rows[1].setFocus()
    qtbot.keyClick(stage.rows[1], Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert 'kind = "hall"' in QApplication.clipboard().text()  # text that anybody can read
    other = session.loop.layers[0].id
    session.select(line_of=other, treatment_id="")
    count = len(kinds(session, other))
    qtbot.keyClick(stage, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    assert kinds(session, other)[count:] == ["hall"]
    assert session.loop.line_of(other)[-1].note == "far"
    session.select(line_of=None)
    stage.copy_line()
    stage.paste()
    assert kinds(session) == ["cuts", "hall", "cuts", "hall"]
    QApplication.clipboard().setText("a shopping list")
    with qtbot.waitSignal(session.failed) as said:
        stage.paste()
    assert "no treatments on the clipboard" in said.args[0]


def test_a_card_is_dragged_under_another(stage, window, qtbot):
    session = window.session
    add(stage, "cuts", "hall", "trim")
    session.select(treatment_id="")
    qtbot.wait(50)
    first, last = stage.rows[0], stage.rows[2]
    start = QPoint(60, 10)
    end = first.mapFromGlobal(last.mapToGlobal(QPoint(60, last.height() - 4)))
    drag(qtbot, first, start, end)
    assert kinds(session) == ["hall", "trim", "cuts"]
    session.document.undo()
    assert kinds(session) == ["cuts", "hall", "trim"]


def test_two_cards_are_swapped_and_both_orders_compared(stage, window, qtbot):
    session = window.session
    add(stage, "echo", "cuts")
    row = open_first(stage, session)
    qtbot.mouseClick(row.hands["swap"], LEFT)
    assert kinds(session) == ["cuts", "echo"]
    assert session.hearing.sides == ("Then", "Now")
    comes(qtbot, session, BARE, ["echo", "cuts"])
    session.hearing.swap()
    assert "then plays" in window.heading.compare.accessibleName()


# --- rides ---------------------------------------------------------------------------------------


def test_a_value_rides_by_a_key_and_its_way_is_drawn(stage, window, qtbot):
    session = window.session
    add(stage, "cuts")
    row = stage.rows[0]
    field: FieldWidget = row.fields["high_cut_hz"]
    field.setFocus()
    qtbot.keyClick(field, Qt.Key.Key_R)
    assert field.rides
    assert field.accessibleDescription() == "rides"
    curve = row.lanes["high_cut_hz"].curve
    settled(qtbot, session)
    plain = session.hearing.rendered[TREATED].audio
    # A point is set low in the middle of the loop by pressing there.
    qtbot.mouseClick(curve, LEFT, pos=QPoint(curve.width() // 4, curve.height() - 8))
    points = session.loop.line[0].ride_of("high_cut_hz").points
    assert len(points) == 3
    assert points[1].tick == pytest.approx(session.loop.ticks / 4, abs=480)
    assert points[1].value < 300
    settled(qtbot, session)
    heard = session.hearing.rendered[TREATED].audio
    n = heard.shape[1]
    quarter, late = slice(n // 4 - 2000, n // 4 + 2000), slice(3 * n // 4, 3 * n // 4 + 4000)
    assert db(rms(heard[:, quarter]) / rms(plain[:, quarter])) < -2
    assert db(rms(heard[:, late] - plain[:, late]) / rms(plain[:, late])) < -30
    # Keys move, bend and take away; each is one step back.
    curve.setFocus()
    qtbot.keyClick(curve, Qt.Key.Key_Up)
    assert session.loop.line[0].ride_of("high_cut_hz").points[1].value > points[1].value
    qtbot.keyClick(curve, Qt.Key.Key_Up, Qt.KeyboardModifier.AltModifier)
    assert session.loop.line[0].ride_of("high_cut_hz").points[1].bend == pytest.approx(-0.1)
    session.document.undo()
    session.document.undo()
    assert session.loop.line[0].ride_of("high_cut_hz").points == points
    qtbot.keyClick(curve, Qt.Key.Key_Delete)
    assert len(session.loop.line[0].ride_of("high_cut_hz").points) == 2
    qtbot.mouseClick(row.lanes["high_cut_hz"].stand, LEFT)
    assert session.loop.line[0].rides == ()
    assert row.lanes == {}


def test_a_point_is_dragged_and_stays_between_its_neighbours(stage, window, qtbot):
    session = window.session
    add(stage, "trim")
    row = stage.rows[0]
    row.fields["gain_db"].ride_wanted.emit(True)
    ticks = session.loop.ticks
    row._draw_ride("gain_db", tuple(
        RidePoint(tick=tick, value=0.0) for tick in (0, ticks // 4, ticks // 2)
    ))  # fmt: skip
    session.end_drag()
    curve = row.lanes["gain_db"].curve
    at = curve._at(curve.points[1]).toPoint()
    drag(qtbot, curve, at, QPoint(curve.width() - 4, 8))
    moved = session.loop.line[0].ride_of("gain_db").points
    assert moved[1].tick == ticks // 2 - 1
    assert moved[1].value > 18
    session.document.undo()
    assert session.loop.line[0].ride_of("gain_db").points[1].value == 0


# --- comparing -----------------------------------------------------------------------------------


def test_b_compares_the_whole_loop_the_line_or_the_card(stage, window, qtbot):
    session = window.session
    layer = session.loop.layers[0].id
    session.apply("x", lambda loop: line_edits.set_line(loop, layer, (treatment("hall"),)))
    add(stage, "cuts", "tilt")
    session.select(treatment_id=session.loop.line[1].id)

    def other(line, layers):
        comes(qtbot, session, BARE, line)
        assert [t.kind for t in session.hearing.rendered[BARE].loop.layer(layer).line] == layers

    other([], [])
    qtbot.mouseClick(stage.compares.button("card"), LEFT)
    other(["cuts"], ["hall"])
    assert session.hearing.sides == ("Treatment bypassed", "Treatment on")
    assert session.hearing.compared == "the whole loop without tilt"
    session.select(treatment_id=session.loop.line[0].id)  # it follows the open card
    other(["tilt"], ["hall"])
    qtbot.mouseClick(stage.compares.button("line"), LEFT)
    other([], ["hall"])
    settled(qtbot, session)
    assert session.hearing.sides == ("Line bypassed", "Line on")
    qtbot.waitUntil(
        lambda: "the whole loop without its treatments" in stage.treated.text(), timeout=20_000
    )
    treated, bare = session.hearing.loudness[TREATED], session.hearing.loudness[BARE]
    match = session.hearing.match
    assert match.one_db - match.other_db == pytest.approx(treated.lufs - bare.lufs, abs=0.01)


def test_any_two_moments_of_the_history_are_compared(stage, window, qtbot):
    session = window.session
    add(stage, "cuts", "echo", "trim")
    sheet = window.sheets.history()
    labels = [sheet.list.item(i).text() for i in range(3)]
    assert [label.split("  ")[1] for label in labels] == [
        "add trim · now",
        "add echo",
        "add low and high cut",
    ]
    sheet.list.setCurrentRow(2)
    sheet.as_then()
    sheet.list.setCurrentRow(1)
    sheet.as_now()
    comes(qtbot, session, BARE, ["cuts"])
    comes(qtbot, session, TREATED, ["cuts", "echo"])
    assert kinds(session) == ["cuts", "echo", "trim"]  # nothing of the loop has changed
    assert sheet.says.text() == "then: add low and high cut · now: add echo"
    sheet.go()
    assert kinds(session) == ["cuts", "echo"]
    session.document.redo()
    assert kinds(session) == ["cuts", "echo", "trim"]
    sheet.close()
    assert session.hearing.sides == ("Bare", "Treated")
    assert not session.hearing.previewing


def test_two_strips_stand_side_by_side_with_their_spectra(stage, window, qtbot):
    session = window.session
    add(stage, "cuts")
    session.apply(
        "x", lambda p: line_edits.set_treatment_setting(p, None, p.line[0].id, "high_cut_hz", 700)
    )
    settled(qtbot, session)
    stage.show_pair()
    assert step_names(session.loop.line) == ["Input", "1. Low and high cut"]
    qtbot.waitUntil(lambda: "less at" in stage.pair.says.text(), timeout=20_000)
    assert (
        stage.pair.spectra.portrait.curves[0].shape == stage.pair.spectra.portrait.curves[1].shape
    )
    assert "LUFS" in stage.pair.measures[0].text()
    stage.pair.strips[0].pressed.emit()
    assert session.hearing.heard_up_to == (None, 0)
    qtbot.keyClick(stage.pair, Qt.Key.Key_Escape)
    assert stage.pages.currentIndex() == 0


def test_find_harsh_offers_a_notch_where_something_sticks_out(stage, window, qtbot):
    session = window.session
    add(stage, "equaliser")
    one = session.loop.line[0].id
    for name, value in (("mid_hz", 3000), ("mid_db", 18), ("mid_q", 9)):
        session.apply(
            "x", lambda p, n=name, v=value: line_edits.set_treatment_setting(p, None, one, n, v)
        )
    stage.find_harsh()
    qtbot.waitUntil(lambda: "sticks out" in stage.harsh.words.text(), timeout=20_000)
    stage.harsh.notch.click()
    added_one = session.loop.line[-1]
    assert added_one.full.number("notch_hz") == pytest.approx(3000, rel=0.06)
    assert added_one.full.number("notch_db") < -5


# --- finishes ------------------------------------------------------------------------------------


def test_a_finish_is_heard_in_place_then_laid_and_an_own_one_kept(stage, window, qtbot):
    session = window.session
    stage.show_finishes()
    page = stage.finishes
    assert page.cards
    assert all("whole loop" in card.finish.tags for card in page.cards)
    page.uses.chosen.emit("all")
    qtbot.keyClicks(page.search, "well-loved record")
    assert [card.finish.name for card in page.cards] == ["Old disc"]
    card = page.cards[0]
    card.setFocus()
    rest_on(card)
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5000)  # resting on it
    assert [t.kind for t in session.hearing.shown.line] == ["cuts", "weathering"]
    assert kinds(session) == []
    qtbot.keyClick(card, ENTER)
    assert kinds(session) == ["cuts", "weathering"]
    assert not session.hearing.previewing
    assert stage.pages.currentIndex() == 0
    session.document.undo()
    assert kinds(session) == []
    add(stage, "tape", "hall")
    stage.show_finishes()
    page.name.setText("Pier at four")
    page.purpose.setText("Cold and wide. #wide")
    page.save()
    (kept,), _ = own_finishes()
    assert (kept.name, kept.purpose) == ("Pier at four", "Cold and wide.")
    assert kept.tags == ("wide", "whole loop")
    assert kept.key == key_heard(session.loop)
    assert [card.finish.name for card in page.cards] == ["Pier at four"]
    page.lay(kept, behind=True)
    assert kinds(session) == ["tape", "hall", "tape", "hall"]
    page.name.setText("")
    with qtbot.waitSignal(session.failed) as said:
        page.save()
    assert "a finish needs a name" in said.args[0]


# --- notes, strangers, warnings ------------------------------------------------------------------


def test_a_note_is_written_on_a_card(stage, window, qtbot):
    session = window.session
    add(stage, "cuts")
    row = stage.rows[0]
    row.hands["note"].click()
    qtbot.keyClicks(row.note.line, "keep under the voice")
    qtbot.keyClick(row.note.line, ENTER)
    assert session.loop.line[0].note == "keep under the voice"
    session.select(treatment_id="")
    assert stage.rows[0].note.words.text() == "note: keep under the voice"


def test_an_unknown_treatment_is_said_on_opening_and_on_its_card(stage, window, qtbot, tmp_path):
    strange = Treatment(id="t1", kind="grundle", version=2, settings=(("depth", 3.0),))
    loop = msgspec.structs.replace(window.session.loop, line=(strange,))
    save(loop, tmp_path / "later.cloudrift")
    window.session.document._saved = window.session.document.history.now
    opened(window, tmp_path / "later.cloudrift")
    assert (
        "contains data this version does not know; it stays in the file: "
        "the treatment grundle (design 2)" in window.message.text()
    )
    window.show_stage(2)
    window.session.select(line_of=None, treatment_id="t1")
    assert "kept, and bypassed" in stage.rows[0].says.text()
    settled(qtbot, window.session)
    assert window.session.loop.line == (strange,)


def test_warnings_say_what_to_heed_and_only_what_the_card_brought(small_loop):
    engine = Engine()
    loop = line_edits.set_line(small_loop, None, ())
    pluck = next(x for x in loop.layers if x.role == "pluck")
    loop = line_edits.set_line(loop, pluck.id, ())
    loop = layer_edits.set_lens(loop, pluck.id, gate=0.3)
    gap = short_gap_s(loop, pluck.id)
    assert gap is not None

    def warned(owner, *line):
        after = line_edits.set_line(loop, owner, line)
        facts = [step_facts(engine, after, owner, n) for n in (len(line) - 1, len(line))]
        return heed(after, owner, line[-1], *facts), added(*facts, line[-1], after.tempo)

    hall = treatment("hall", decay_s=5.0)
    words, says = warned(pluck.id, hall)
    assert any("it fills the staccato" in w for w in words)
    assert "rings 5" in says
    assert warned(pluck.id, treatment("room", decay_s=0.2, blend=0.05))[0] == []
    wide = treatment("trim", width=200)
    noisy = treatment("trim", gain_db=24)
    assert any("peaks at +" in w for w in warned(None, noisy)[0])
    assert "louder" in warned(None, noisy)[1]
    low = treatment("half speed", speed="a quarter")
    assert any("rumble below 45 Hz" in w for w in warned(None, low)[0])
    # With a low cut behind it, that is done; with one that does not reach up so far, it is not.
    for cut, clears in ((60.0, True), (30.0, False)):
        line = (low, msgspec.structs.replace(treatment("cuts", low_cut_hz=cut), id="t9"))
        after = line_edits.set_line(loop, None, line)
        facts = [step_facts(engine, after, None, n) for n in (0, 1)]
        assert any("rumble" in w for w in heed(after, None, low, *facts)) != clears
    quiet = treatment("trim", gain_db=-3)
    assert warned(None, quiet)[0] == []
    doubled = msgspec.structs.replace(wide, id="t2")
    assert isinstance(warned(None, wide, doubled)[0], list)
    engine.close()


def test_what_is_measured_of_a_step_is_true(small_loop):
    engine = Engine()
    loop = line_edits.set_line(small_loop, None, (treatment("cuts", low_cut_hz=400),))
    before, after = (step_facts(engine, loop, None, n) for n in (0, 1))
    assert before.lufs == pytest.approx(
        integrated_lufs(engine.audio(_mix(engine, loop)), loop.rate)
    )
    assert after.rumble_db < before.rumble_db - 20
    assert step_facts(engine, loop, None, 1) is after
    assert "less at" in difference(before, after)
    engine.close()


def _mix(engine, loop):
    from cloudrift.render.plan.plan import loop_node

    return loop_node(loop, engine.tones, count=0)


def test_a_layers_level_rides_in_a_lane_over_its_notes(window, qtbot):
    session = window.session
    window.show_stage(1)
    row = window.layers.rows[session.loop.layers[0].id]
    row.level.setFocus()
    qtbot.keyClick(row.level, Qt.Key.Key_R)
    layer = session.loop.layers[0]
    assert [p.value for p in layer.level_ride.points] == [layer.level_db] * 2
    lane = window.layers.notes.lane
    qtbot.mouseClick(lane.curve, LEFT, pos=QPoint(lane.curve.width() * 3 // 4, 70))
    assert len(session.loop.layers[0].level_ride.points) == 3
    assert session.loop.layers[0].level_ride.points[2].value < -30
    assert row.level.rides
    qtbot.mouseClick(lane.stand, LEFT)
    assert session.loop.layers[0].level_ride is None
    assert window.layers.notes.lane is None
