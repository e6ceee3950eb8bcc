"""The Arrange stage in the real window: drawn, pressed, heard, edited while it plays, reopened."""

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QWheelEvent
from PyQt6.QtTest import QTest

from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.stages.arrange.columns import Columns
from cloudrift.desktop.stages.arrange.model import ColumnsModel
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.arranging import arranging, differences, section_loops
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.sounding import key_heard
from cloudrift.render.forms.spans import lengths_of
from cloudrift.render.forms.timeline import whole
from cloudrift.style.form import find_form, over_line, slower_st, suggest_form
from cloudrift.style.sums import sum_line
from cloudrift.texture.finish_files import house_finishes, save_finish
from cloudrift.theory.key import Key
from tests.hands import command, saved, settled
from tests.test_arranging import BEDDED, DOCUMENT, LANE

LEFT, NONE, CTRL = (Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
                    Qt.KeyboardModifier.ControlModifier)  # fmt: skip


@pytest.fixture
def stage(qtbot, window):
    """The stage over a verse of 4 bars and a hook of 8."""
    window.session.document.open(DOCUMENT, None)
    window.choose_stage(5)
    settled(qtbot, window.session)
    return window.arrange


def now(window):
    return window.session.document.history.now


def sections(window):
    return now(window).arrangement.sections


def band_middle(stage, at, row):
    model = stage.columns.model
    top, high = model.row_box(row)
    return QPoint(round(model.x_of(at, 0.5)), round(top + high / 2))


def press_band(stage, at, row):
    QTest.mouseClick(stage.columns, LEFT, NONE, band_middle(stage, at, row))


def press_seam(stage, at, *, twice=False):
    place = QPoint(round(stage.columns.model.seam_x(at)), 70)
    (QTest.mouseDClick if twice else QTest.mouseClick)(stage.columns, LEFT, NONE, place)


def key(stage, what, modifier=NONE):
    QTest.keyClick(stage.columns, what, modifier)


def made(qtbot, stage):
    qtbot.waitUntil(lambda: stage.arranged.on and not stage.arranged.busy, timeout=60_000)
    qtbot.waitUntil(lambda: stage.arranged.sum_loudness is not None, timeout=60_000)


def played(session):
    """What the player has to play, (2, frames)."""
    take = session.player._wanted
    return take.wave.T


# --- drawing and editing --------------------------------------------------------------------------


def test_it_opens_empty_says_what_to_do_and_draws_a_form(qtbot, window):
    window.session.document.open(Document.of(BEDDED), None)
    command(window, "6 Arrange").trigger()
    stage = window.arrange
    assert stage.columns.model is None and stage.columns.accessibleName() == "No sections yet"
    assert stage.page.title.text() == "No section" and not stage.seam.isVisible()
    assert window.rail.facts[5] == "0 sections"
    stage.form.setCurrentText("three hooks")
    assert stage.form.toolTip() == find_form("three hooks").about
    stage.variation.click()
    assert now(window) == suggest_form(Document.of(BEDDED), find_form("three hooks"), 1)
    assert window.rail.facts[5] == "5 sections"
    assert stage.columns.accessibleName().startswith("Hook 1, 4 bars: ")
    stage.variation.click()  # another variation
    assert now(window).arrangement.variation == 2
    for _ in range(2):
        window.session.document.undo()
    assert now(window).arrangement.sections == ()


def test_a_band_is_taken_out_and_let_in_again_as_one_step_each(window, stage):
    model = stage.columns.model
    row = next(i for i, one in enumerate(model.rows) if one.id == "l1")
    press_band(stage, 1, row)
    assert sections(window)[1].part("l1").on is False and sections(window)[0].parts == ()
    assert stage.columns.model.owner(1, row) is None and stage.columns.model.thick(1, row) == 0
    assert window.session.document.history.undo_label == f"{BEDDED.layer('l1').name} out"
    press_band(stage, 1, row)
    assert sections(window)[1].parts == ()
    window.session.document.undo()
    window.session.document.undo()
    assert now(window) == DOCUMENT


def test_the_wheel_and_plus_and_minus_are_the_level_there(window, stage):
    stage.columns.choose(1, 0)
    stage.columns.setFocus()
    owner = stage.columns.model.rows[0].id
    thick = stage.columns.model.thick(1, 0)
    for _ in range(3):
        key(stage, Qt.Key.Key_Minus)
    assert sections(window)[1].part(owner).level_db == -3
    assert stage.columns.model.thick(1, 0) < thick
    key(stage, Qt.Key.Key_Plus)
    assert sections(window)[1].part(owner).level_db == -2
    stage.columns.choose(0, 0)
    key(stage, Qt.Key.Key_Plus)
    assert sections(window)[0].part(owner).level_db == 1
    window.session.document.undo()
    assert sections(window)[0].parts == () and sections(window)[1].part(owner).level_db == -2
    window.session.document.undo()  # a hand that keeps turning makes one step
    assert sections(window)[1].parts == ()


def test_the_wheel_turns_the_chosen_band_without_the_keyboard_and_no_other(window, stage):
    stage.columns.choose(1, 0)
    window.heading.play.setFocus()
    owner = stage.columns.model.rows[0].id

    def turn(at, row):
        place = QPointF(band_middle(stage, at, row))
        event = QWheelEvent(place, place, QPoint(), QPoint(0, -120), Qt.MouseButton.NoButton, NONE,
                            Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        stage.columns.wheelEvent(event)
        return event.isAccepted()

    assert turn(1, 0) and sections(window)[1].part(owner).level_db == -1
    assert not turn(0, 0) and sections(window)[0].parts == ()  # the page scrolls


def test_sections_are_added_copied_moved_and_taken_out_by_keys_and_buttons(window, stage):
    stage.columns.choose(1)
    stage.columns.setFocus()
    command(window, "Duplicate the section").trigger()
    assert [one.name for one in sections(window)] == ["Verse", "Hook", "Hook 2"]
    assert stage.columns.at == 2 and "copied from Hook" in stage.page.under.text()
    key(stage, Qt.Key.Key_Left, CTRL)
    assert [one.name for one in sections(window)] == ["Verse", "Hook 2", "Hook"]
    assert stage.section.name == "Hook 2"
    key(stage, Qt.Key.Key_Delete)
    assert [one.name for one in sections(window)] == ["Verse", "Hook"]
    stage.twice()
    assert len(sections(window)) == 4
    command(window, "Add a section").trigger()
    assert stage.section.name == "Section" and len(sections(window)) == 5


def test_the_page_sets_what_a_section_is(qtbot, window, stage):
    stage.columns.choose(1)
    page = stage.page
    assert page.title.text() == "Hook" and page.under.text() == "bars 5 to 12"
    page.fields["bars"]._put(6.0)
    page.fields["level_db"]._put(-3.0)
    page.fields["bed"]._put("off")
    page.fields["key"]._put("relative key")
    page.fields["slower_st"]._put(5.0)
    page.fields["over"]._put("underwater")
    page.name.setFocus()
    page.name.selectAll()
    QTest.keyClicks(page.name, "Deep hook")
    QTest.keyClick(page.name, Qt.Key.Key_Return)
    hook = sections(window)[1]
    assert (hook.name, hook.bars, hook.level_db, hook.bed) == ("Deep hook", 6, -3.0, False)
    assert hook.key == arranging.relative_of(BEDDED.key) and slower_st(hook.line) == 5
    assert hook.over == over_line("underwater")
    assert page.title.text() == "Deep hook"
    assert {name: page.fields[name]._value for name in ("bars", "bed", "key", "over")} == {
        "bars": 6.0, "bed": "off", "key": "relative key", "over": "underwater",
    }  # fmt: skip
    while window.session.document.history.undo_label:
        window.session.document.undo()
    assert now(window) == DOCUMENT


def test_what_differs_is_said_and_taken_back(qtbot, window, stage):
    stage.columns.choose(1)
    stage.copy()
    row = next(i for i, one in enumerate(stage.columns.model.rows) if one.id == LANE.id)
    press_band(stage, 2, row)
    words = [w.text() for w in stage.page.findChildren(type(stage.page.title))]
    assert "Differs from Hook in" in words and f"{LANE.name} off" in words
    assert stage.columns.model.differs(2, row) and not stage.columns.model.differs(1, row)
    back = next(
        b for b in stage.page.findChildren(type(stage.variation)) if b.text() == "undo this"
    )
    back.click()
    assert differences.differences(now(window), sections(window)[2].id) == []


def test_a_variation_is_heard_on_resting_and_made_on_pressing(qtbot, window, stage):
    stage.columns.choose(1)
    button = next(
        b for b in stage.page.findChildren(type(stage.variation)) if b.text() == "underwater"
    )
    trying = next(one for one in button.children() if type(one).__name__ == "Trying")
    trying.begin()
    shown = window.session.hearing.shown
    assert shown.over == over_line("underwater") and now(window) == DOCUMENT
    trying.end()
    assert window.session.hearing.shown is now(window).loop
    button.click()
    assert sections(window)[1].over == over_line("underwater")
    names = [b.text() for b in stage.page.findChildren(type(stage.variation))]
    assert "underwater" not in names  # it is so already


def test_a_seam_says_what_happens_and_its_fields_set_it(window, stage):
    press_seam(stage, 1)
    assert stage.columns.seam == 1 and stage.seam.title.text() == "Verse into Hook"
    assert stage.seam.says.text() == "nothing happens here"
    stage.seam.fields["riser_bars"]._put(2.0)
    stage.seam.fields["cut"]._put("on")
    stage.seam.fields["sweep"]._put("closes")
    stage.seam.fields["sag_share"]._put(75.0)
    stage.seam.fields["crash_db"]._put(-18.0)
    seam = sections(window)[1].seam
    assert (seam.riser_bars, seam.cut, seam.sweep, seam.sag_share, seam.crash_db) == (
        2.0, True, "closes", 0.75, -18.0,
    )  # fmt: skip
    assert stage.seam.says.text() == "riser, 2 bars, filter closes, drums stop, crash"
    assert stage.columns.accessibleName() == f"Change into Hook: {stage.seam.says.text()}"
    for name, value in (("cut", "off"), ("sweep", "off"), ("riser_bars", 0.0), ("crash_db", -60.0)):
        stage.seam.fields[name]._put(value)
    assert sections(window)[1].seam.happens == ()


def test_what_cannot_be_is_said_and_nothing_changes(window, stage):
    press_seam(stage, 1)
    stage.seam.fields["riser_bars"]._put(8.0)
    assert "start 32 beats before it, but Verse has 16" in window.message.text()
    assert now(window) == DOCUMENT
    assert stage.seam.fields["riser_bars"]._value == 0.0  # shows what is so


def test_all_of_it_is_saved_and_opened_again(qtbot, window, stage, tmp_path):
    stage.columns.choose(1)
    stage.copy()
    press_band(stage, 2, 0)
    stage.sum.what._put("clip, then limit")
    document = now(window)
    path = tmp_path / "a.cloudrift"
    assert saved(window.session.document.save, path)
    assert load_document(path) == document
    window.session.document.open(load_document(path), path)
    assert [one.name for one in stage.columns.model.sections] == ["Verse", "Hook", "Hook 2"]
    assert stage.sum.what._value == "clip, then limit"


# --- hearing --------------------------------------------------------------------------------------


def test_all_of_it_is_what_is_played_and_the_window_says_where(qtbot, window, stage, speaker):
    session = window.session
    stage.heard.button("all").click()
    assert session.player.playing and session.hearing.long
    made(qtbot, stage)
    audio, _ = whole(session.engine, now(window))
    total = sum(lengths_of(now(window)))
    assert played(session).shape[1] == total
    assert np.allclose(played(session), np.clip(audio[:, :total], -1, 1), atol=1e-4)
    assert len(stage.columns._loudness) == 2
    speaker.pull(512)
    session.player.seek(5.5 / 12)  # a bar and a half into the hook
    speaker.pull(512)
    window._follow_sound()
    assert window.heading.under.text().endswith("playing Hook, bar 2 of 8")
    at, inside = stage.columns._place
    assert at == 1 and inside == pytest.approx(1.5 / 8, abs=0.01)
    assert session.transport.share == pytest.approx(1.5 / 2, abs=0.01)
    assert window.heading.position.text() == "2.3"
    stage.heard.button("loop").click()
    assert not session.hearing.long and played(session).shape[1] == BEDDED.sounding_frames
    assert session.transport.share == pytest.approx(1.5 / 2, abs=0.01)  # it goes on there
    assert "heard" not in window.heading.under.text()


def test_every_bar_begins_where_it_begins(qtbot, window, stage):
    session, arranged = window.session, stage.arranged
    # With ten bars more some bars' shares of it all lie a hair before their frames.
    session.document.open(arranging.add_section(DOCUMENT, "Way out", 10), None)
    stage.hear("all")
    made(qtbot, stage)
    for at, section in enumerate(sections(window)):
        for bar in range(section.bars):
            session.player.seek(arranged.share_of(at, bar / section.bars))
            place = arranged.place()
            assert (place.at, place.bar) == (at, bar + 1)
            assert place.share == pytest.approx(bar % 2 / 2, abs=1e-4)
            window._follow_sound()
            assert window.heading.position.text() == f"{bar % 2 + 1}.1"
            session.transport.seek(0.5)  # in the pass that sounds
            assert arranged.place().bar == bar // 2 * 2 + 2


def test_a_press_on_the_ribbon_goes_there_in_the_section_and_pass_that_sound(
    qtbot, window, stage, speaker
):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    session.player.seek(9.5 / 12)
    speaker.pull(256)
    session.transport.seek(0.25)
    assert session.player.share == pytest.approx(8.5 / 12, abs=0.001)
    stage.columns.choose(0)  # choosing a section goes to it
    assert session.player.share == 0.0


def test_an_edit_anywhere_changes_what_is_played_of_all(qtbot, window, stage, speaker):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    window.choose_stage(1)
    before = played(session).copy()
    session.apply("quieter", lambda loop: layer_edits.set_layer(loop, "l1", level_db=-24.0))
    made(qtbot, stage)
    settled(qtbot, session)
    audio, _ = whole(session.engine, now(window))
    after = played(session)
    assert after.shape == before.shape and not np.allclose(after, before, atol=1e-3)
    assert np.allclose(after, np.clip(audio[:, : after.shape[1]], -1, 1), atol=1e-4)
    session.document.undo()
    made(qtbot, stage)
    assert np.allclose(played(session), before, atol=1e-4)


def test_the_loop_follows_what_was_edited_meanwhile(qtbot, window, stage, speaker):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    session.apply("quieter", lambda loop: layer_edits.set_layer(loop, "l1", level_db=-24.0))
    made(qtbot, stage)
    stage.hear("loop")
    settled(qtbot, session)
    assert session.hearing.rendered[TREATED].loop == session.loop


def test_a_section_made_longer_goes_on_where_it_is(qtbot, window, stage, speaker):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    session.player.seek(6 / 12)  # two bars into the hook
    speaker.pull(256)
    stage.columns.at = 0
    session.document.change("longer", lambda d: arranging.set_bars(d, d.arrangement.sections[0].id,
                                                                   8))  # fmt: skip
    speaker.pull(256)
    assert session.player.share == pytest.approx(10 / 16, abs=0.01)
    made(qtbot, stage)
    assert played(session).shape[1] == sum(lengths_of(now(window)))


def test_what_is_tried_is_heard_before_all_of_it_which_goes_on_after(qtbot, window, stage, speaker):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    session.player.seek(9.5 / 12)
    speaker.pull(256)
    preview = stage._section
    preview.put(lambda loop: loop_edits.set_tempo(loop, loop.tempo), "tried")
    assert not session.hearing.long and stage.arranged.on
    assert session.player.share == pytest.approx(0.75, abs=0.01)
    speaker.pull(256)
    preview.end()
    assert session.hearing.long
    assert session.player.share == pytest.approx(9.5 / 12, abs=0.01)
    assert played(session).shape[1] == sum(lengths_of(now(window)))


@pytest.mark.parametrize("how", ["compare", "alone", "part", "click"])
def test_what_asks_for_the_loop_ends_all_of_it(qtbot, window, stage, how):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    if how == "compare":
        session.hearing.hear(BARE)
    elif how == "alone":
        session.hearing.solo(["l1"])
    elif how == "part":
        session.transport.hear_part(0.0, 0.5)
    else:
        session.transport.set_click(True)
    assert not stage.arranged.on and session.transport.long is None
    assert played(session).shape[1] == BEDDED.sounding_frames


def test_a_section_is_heard_round_and_follows_what_is_changed_in_it(qtbot, window, stage):
    session = window.session
    stage.columns.choose(1)
    stage.heard.button("section").click()
    assert session.hearing.preview_words == "playing Hook"
    press_band(stage, 1, 0)
    owner = stage.columns.model.rows[0].id
    assert session.hearing.shown.layer(owner).mute and not session.loop.layer(owner).mute
    stage.columns.choose(0)
    assert session.hearing.preview_words == "playing Verse"
    assert not session.hearing.shown.layer(owner).mute
    window.choose_stage(1)  # the stage is gone: the loop is heard
    assert not session.hearing.previewing


def test_a_seam_is_heard_from_two_bars_before_it(qtbot, window, stage, speaker):
    press_seam(stage, 1, twice=True)
    made(qtbot, stage)
    assert window.session.player.share == pytest.approx(2 / 12, abs=0.001)
    stage.arranged.leave()
    stage.columns.choose(0)
    stage.hear_seam()
    assert "nothing comes before the first section" in window.message.text().lower()


def test_with_and_without_its_sum_it_is_equally_loud(qtbot, window, stage):
    session = window.session
    stage.sum.what._put("drive, then limit")
    stage.sum.push._put(8.0)
    assert now(window).arrangement.line == sum_line("drive, then limit", 8.0)
    stage.hear("all")
    made(qtbot, stage)
    driven = played(session).copy()
    before, after = stage.arranged.sum_loudness
    assert after.lufs > before.lufs + 3
    assert stage.sum.words.text().startswith(f"−{-before.lufs:.1f} to −{-after.lufs:.1f} LUFS")
    stage.sum.side.button(True).click()
    bare = played(session).copy()
    stage.sum.side.button(False).click()
    again = played(session).copy()
    power = [float(np.square(one).mean()) for one in (driven, bare, again)]
    assert 10 * np.log10(power[1] / power[2]) == pytest.approx(0, abs=1.0)
    assert not np.allclose(bare, again, atol=1e-3)


def test_nothing_is_heard_of_all_where_there_is_no_section(qtbot, window):
    window.session.document.open(Document.of(BEDDED), None)
    window.choose_stage(5)
    window.arrange.arranged.hear()
    assert "no sections yet" in window.message.text()
    assert not window.arrange.heard.button("all").isEnabled()
    window.session.document.open(DOCUMENT, None)
    window.arrange.hear("all")
    made(qtbot, window.arrange)
    while sections(window):
        window.arrange.columns.choose(0)
        window.arrange.remove()
    assert not window.arrange.arranged.on  # the loop is heard again


def test_another_document_ends_it(qtbot, window, stage, small_loop):
    stage.hear("all")
    made(qtbot, stage)
    window.session.document.open(small_loop, None)
    assert not stage.arranged.on and stage.columns.model is None
    settled(qtbot, window.session)
    assert played(window.session).shape[1] == small_loop.sounding_frames


# --- the picture ----------------------------------------------------------------------------------


def test_columns_are_as_wide_as_they_have_bars_and_places_are_found():
    model = ColumnsModel(DOCUMENT, 800)
    wide = [b - a for a, b in (model.span(0), model.span(1))]
    assert wide[1] / wide[0] == pytest.approx(2, rel=0.05)
    for at in (0, 1):
        assert model.column_at(model.x_of(at, 0.5)) == at
    assert model.seam_at(model.seam_x(1)) == 1 and model.seam_at(model.x_of(0, 0.5)) == -1
    for row in range(len(model.rows)):
        top, high = model.row_box(row)
        assert model.row_at(top + high / 2) == row
    assert model.row_at(10) == -1
    assert model.starts_s() == pytest.approx([0, 4 * 240 / BEDDED.sounding_tempo], rel=1e-3)
    assert model.words.startswith("12 bars · 0:2") and "2 sections" in model.words


def test_a_parked_layer_is_a_row_where_a_section_has_it():
    loop = layer_edits.set_layer(BEDDED, "l1", parked=True)
    document = DOCUMENT.with_loop(loop)
    assert "l1" not in {row.id for row in ColumnsModel(document, 800).rows}
    used = arranging.set_part(document, "s2", "l1", on=True)
    assert "l1" in {row.id for row in ColumnsModel(used, 800).rows}


def test_a_lane_pressed_into_a_section_without_the_bed_plays_there_alone(window, stage):
    session = window.session
    session.document.change("no bed", lambda d: arranging.set_section(d, "s1", bed=False))
    row = next(i for i, one in enumerate(stage.columns.model.rows) if one.id == LANE.id)
    press_band(stage, 0, row)
    heard = {x.id for x in section_loops.heard_in(session.loop, sections(window)[0])}
    assert heard & {x.id for x in BEDDED.lanes} == {LANE.id}
    assert hits_of(LANE)


def test_keys_of_the_picture_are_its_own(qtbot, window):
    columns = Columns(window.session)
    qtbot.addWidget(columns)
    columns.resize(800, 400)
    columns.show_document(DOCUMENT)
    heard, rows = [], len(columns.model.rows)
    columns.seam_heard.connect(heard.append)
    for what in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Down):
        QTest.keyClick(columns, what)
    assert (columns.at, columns.row) == (1, 1) and rows > 4
    QTest.keyClick(columns, Qt.Key.Key_S)
    assert columns.seam == 1
    QTest.keyClick(columns, Qt.Key.Key_H)
    assert heard == [1]
    QTest.keyClick(columns, Qt.Key.Key_S)
    assert columns.seam == -1


# --- rides and facts of a section -----------------------------------------------------------------


def test_a_level_and_a_setting_ride_over_a_section_by_menu_and_fields(qtbot, window, stage):
    stage.columns.choose(1)
    rides = stage.page.rides
    menu = rides.menu()
    assert [one.text() for one in menu.actions()][:2] == ["Whole section", "Groove bed"]
    menu.actions()[0].menu().actions()[0].trigger()
    assert [(one.what, [p.value for p in one.points]) for one in sections(window)[1].rides] == [
        (("", "", "level_db"), [0.0, -24.0])
    ]
    begin, end = rides.ends["", "", "level_db"]
    end._put(-12.0)
    begin._put(-3.0)
    assert [p.value for p in sections(window)[1].rides[0].points] == [-3.0, -12.0]
    along = stage.columns.model.thick_along(1, 0)
    assert along[0][1] > along[-1][1] and stage.columns.model.thick_along(0, 0) == []
    owner = stage.columns.model.rows[1].id
    inside = next(one for one in rides.menu().actions()
                  if one.text() == stage.columns.model.rows[1].name).menu()  # fmt: skip
    setting = next(one for one in inside.actions() if ": " in one.text())
    setting.trigger()
    ride = sections(window)[1].rides[1]
    assert ride.owner == owner and ride.points[0].value != ride.points[1].value
    assert stage.columns.model.ride_of(1, 1)
    again = next(one for one in rides.menu().actions() if one.text() == "Whole section").menu()
    assert not again.actions()[0].isEnabled()  # it rides already
    out = [b for b in stage.page.findChildren(type(stage.variation)) if b.text() == "remove"]
    assert len(out) == 2
    out[0].click()
    assert len(sections(window)[1].rides) == 1
    while window.session.document.history.undo_label:
        window.session.document.undo()
    assert now(window) == DOCUMENT


def test_a_ride_is_heard_in_all_of_it(qtbot, window, stage):
    session = window.session
    stage.hear("all")
    made(qtbot, stage)
    before = played(session).copy()
    stage.columns.choose(1)
    stage.page.rides.begin(("", "", "level_db"))
    made(qtbot, stage)
    after, n = played(session), before.shape[1]
    gone = [10 * np.log10(np.square(x[:, int(n * 0.93) :]).mean()) for x in (before, after)]
    assert gone[0] - gone[1] == pytest.approx(22, abs=3)
    kept = [10 * np.log10(np.square(x[:, : n // 4]).mean()) for x in (before, after)]
    assert kept[0] == pytest.approx(kept[1], abs=0.2)


def test_a_section_says_who_plays_and_what_room_that_leaves(qtbot, window, stage):
    stage.columns.choose(0)
    assert stage.page.heard.text().startswith("4 layers: ")
    assert "Room for a voice" not in stage.page.heard.text()
    stage.hear("all")
    made(qtbot, stage)
    assert stage.page.heard.text().count("Room for a voice: −") == 1
    room = dict(stage.arranged.voice_room)
    document = now(window)
    for owner in ("l1", "l3"):
        document = arranging.set_part(document, "s1", owner, on=False)
    session = window.session
    session.document.change("fewer", lambda _d: document)
    made(qtbot, stage)
    assert stage.arranged.voice_room[0] != room[0]
    assert stage.page.heard.text().startswith("2 layers: ")


def test_a_finish_of_the_house_or_ones_own_lies_over_a_section(qtbot, window, stage):
    stage.columns.choose(1)
    field = stage.page.fields["over"]
    assert {"none", "underwater", "Night window", "Drive, then limit"} <= set(field.spec.choices)
    field._choose("Night window")
    session = window.session
    house = next(one for one in house_finishes() if one.name == "Night window")
    assert sections(window)[1].over == house.laid_in(session.loop.key, session.loop.tempo)
    assert field._value == "Night window"
    save_finish(replace(house, name="Harbour light", house=False))
    window.choose_stage(0)
    window.choose_stage(5)
    assert "Harbour light" in stage.page.fields["over"].spec.choices
    session.document.change("own", lambda d: arranging.set_section(
        d, "s2", over=(*house.line, *over_line("dark"))[-1:]))  # fmt: skip
    assert field._value in ("dark", "its own")


def test_layers_are_added_up_one_by_one_and_the_bed_is_heard_alone(qtbot, window, stage):
    hearing, ids = window.session.hearing, [x.id for x in window.session.loop.heard()]
    add_up = command(window, "Build up: one more layer")
    for count in range(1, len(ids)):
        add_up.trigger()
        assert hearing.alone == set(ids[:count])
        assert window.message.text() == f"{count} of {len(ids)} layers on"
    add_up.trigger()
    assert hearing.alone == frozenset()  # all of them
    add_up.trigger()
    assert hearing.alone == {ids[0]}
    alone = command(window, "The groove bed alone, or everything")
    alone.trigger()
    heard = hearing.heard_loop
    assert not heard.heard() and heard.bed.heard
    alone.trigger()
    assert hearing.alone == frozenset()
    settled(qtbot, window.session)


def test_a_section_may_have_chords_of_its_own_by_a_variation(window, stage):
    session = window.session
    four = tuple(replace(one, id=f"x{i}", start_tick=1920 * i, length_ticks=1920)
                 for i, one in enumerate(session.loop.chords[:2] * 2))  # fmt: skip
    third = replace(four[2], voices=tuple(v + 3 for v in four[2].voices))
    chords = (*four[:2], third, four[3])
    session.apply("four chords", lambda loop: replace(loop, chords=chords))
    stage.columns.choose(1)
    for words in ("another first chord", "the last chord late"):
        button = next(
            b for b in stage.page.findChildren(type(stage.variation)) if b.text() == words
        )
        button.click()
        chords = sections(window)[1].chords
        made = section_loops.section_loop(now(window), "s2").chords
        assert [one.voices for one in made] == [one.voices for one in chords]
        assert made != session.loop.chords
        names = [b.text() for b in stage.page.findChildren(type(stage.variation))]
        assert words not in names and "undo this" not in names
        session.document.undo()


# --- a switch-up ----------------------------------------------------------------------------------


def type_chords(page, text):
    page.chords.setFocus()
    page.chords.selectAll()
    QTest.keyClicks(page.chords, text or " ")
    QTest.keyClick(page.chords, Qt.Key.Key_Return)


def test_the_page_gives_a_section_any_key_tempo_and_chords(qtbot, window, stage):
    stage.columns.choose(1)
    page = stage.page
    page.fields["key"]._put("D")
    page.fields["mode"]._put("dorian")
    page.fields["tempo"]._put(98.0)
    type_chords(page, "i IV")
    hook = sections(window)[1]
    assert (hook.key, hook.tempo) == (Key("D", "dorian"), 98.0)
    assert [c.root for c in hook.chords] == [2, 7]
    assert {name: page.fields[name]._value for name in ("key", "mode", "tempo")} == {
        "key": "D", "mode": "dorian", "tempo": 98.0,
    }  # fmt: skip
    stage.columns.setFocus()
    stage.refresh()
    assert page.chords.text() == "i  IV"
    head = stage.columns.model.sections[1]
    assert head == hook and sections(window)[0].key is None
    stage.hear("section")
    assert key_heard(window.session.hearing.shown) == Key("D", "dorian")
    assert window.session.hearing.shown.tempo == 98.0
    stage.hear("loop")
    while window.session.document.history.undo_label:
        window.session.document.undo()
    assert now(window) == DOCUMENT


def test_what_is_no_chord_is_said_and_nothing_typed_is_the_loops_again(qtbot, window, stage):
    stage.columns.choose(1)
    type_chords(stage.page, "i iv")
    before = now(window)
    type_chords(stage.page, "i hm")
    assert "hm" in window.message.text() and now(window) == before
    type_chords(stage.page, "")
    assert sections(window)[1].chords == ()


def test_the_loops_own_key_and_tempo_are_not_kept(qtbot, window, stage):
    stage.columns.choose(1)
    page, loop = stage.page, window.session.loop
    page.fields["key"]._put("D")
    page.fields["tempo"]._put(98.0)
    page.fields["key"]._put("as the loop")
    page.fields["tempo"]._put(loop.tempo)
    assert now(window) == DOCUMENT
    page.fields["mode"]._put("dorian")
    assert sections(window)[1].key == Key(loop.key.tonic, "dorian")
    page.fields["mode"]._put("as the loop")
    assert now(window) == DOCUMENT
