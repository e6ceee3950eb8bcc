"""The frame: rail, side pane, keys, notices, first steps, own words, what is remembered."""

import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel, QPushButton, QWidget

from cloudrift.desktop.frame.notices import KEPT, LEAST_MS
from cloudrift.desktop.frame.rail import IN_PANE, KEYS, OVER, STAGES, STYLE
from cloudrift.desktop.frame.side_pane import LEAST_PX, MOST_PX
from cloudrift.desktop.kit.flow import Flow, takes_rest
from cloudrift.desktop.kit.fold import Fold
from cloudrift.desktop.kit.own_words import OWN_WORDS, WordPicture, why
from cloudrift.desktop.kit.parts import Elided, LinkLine, Pages
from cloudrift.desktop.kit.popup import Popup
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.stages.arrange.lead import FormTrying
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.document import Document
from cloudrift.sound.catalogue import CATALOGUE
from cloudrift.style import house_cards, sketch
from cloudrift.style.form import forms, suggest_form
from cloudrift.style.pictures import card_pictures
from tests.hands import command, rest_on, settled

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier


# --- rail and pane --------------------------------------------------------------------------------


def test_the_rail_leads_to_every_stage_by_press_key_and_arrow(window):
    for at, name in enumerate(STAGES):
        QTest.mouseClick(window.rail.buttons[name], LEFT)
        assert window.stack.currentIndex() == at
        assert window.rail.marked == [name, "Inspector"]
        assert f"Alt+{at + 1}" in [a.shortcut().toString() for a in window.menus.commands]
    window.rail.buttons["Chords"].setFocus()
    window.rail.chosen.emit(0)
    QTest.keyClick(window.rail.buttons["Chords"], Qt.Key.Key_Down)
    assert window.room is window.layers and window.rail.buttons["Layers"].hasFocus()


@pytest.mark.parametrize("name", IN_PANE[1:])
def test_what_opens_in_the_pane_gives_the_inspector_its_place_back(window, name):
    window.show_stage(1)
    inspector = window.layers.inspector
    assert inspector.isVisible()
    QTest.mouseClick(window.rail.buttons[name], LEFT)
    tool = window.pane.tools[name].widget()
    assert tool.isVisible() and not inspector.isVisible()
    assert window.rail.marked == ["Layers", name]
    window.show_stage(0)  # it stays where the stage changes
    assert tool.isVisible()
    QTest.keyClick(tool, Qt.Key.Key_Escape)
    assert window.chords.inspector.isVisible() and window.rail.marked == ["Chords", "Inspector"]
    window.open_or_close(name)
    window.open_or_close(name)  # its own key again
    assert not tool.isVisible() and window.chords.threads.hasFocus()


def test_keys_and_a_tool_are_open_together_and_the_style_card_has_no_pane(window):
    window.open_shelf()
    window.open_keys()
    assert window.rail.marked == ["Chords", "Shelf", KEYS]
    assert window.keys.height() <= 150
    window.open_style()
    assert not window.pane.isVisible() and window.rail.marked == [KEYS, STYLE]
    window.open_recordings()  # from a page: the stage first
    assert window.room is window.chords and window.recordings.isVisible()
    window.start_loop()
    assert window.rail.marked == [] and not window.keys.isVisible()


def test_the_pane_is_dragged_between_its_bounds(window):
    window.resize(1280, 800)
    total = sum(window.splitter.sizes())
    for wanted, got in ((40, LEAST_PX), (900, MOST_PX), (333, 333)):
        window.splitter.setSizes([total - wanted, wanted])
        assert window.pane.width() == got


def test_what_the_card_asks_stands_under_the_inspector_and_leads_there(qtbot, window):
    session = window.session
    quiet = window.quiet
    qtbot.waitUntil(lambda: not window.marking.waits, timeout=20_000)
    session.apply("slow", lambda loop: replace(loop, tempo=60.0))
    qtbot.waitUntil(quiet.isVisible, timeout=20_000)
    assert "Marlow Quist" in quiet.accessibleName()
    assert quiet.parentWidget() is window.pane
    window.open_shelf()
    assert not quiet.isVisible()
    window.open_inspector()
    QTest.mouseClick(quiet, LEFT)
    assert window.room is window.style_page and window.style_page.tabs_at == "marks"


# --- notices --------------------------------------------------------------------------------------


def test_a_notice_moves_nothing_stays_long_enough_and_is_kept(window):
    before = window.chords.threads.mapTo(window, QPoint(0, 0)), window.stack.geometry()
    window.say("the disk is full; free some space and save again")
    notice = window.message
    assert notice.isVisible() and notice.text().startswith("the disk is full")
    assert notice.accessibleName() == notice.text()
    assert (window.chords.threads.mapTo(window, QPoint(0, 0)), window.stack.geometry()) == before
    assert notice._clock.interval() >= LEAST_MS
    short = notice._clock.remainingTime()
    window.say("word " * 60)
    assert notice._clock.remainingTime() > short + 5_000  # longer words, longer there
    inside = QRect(QPoint(0, 0), notice.parentWidget().size())
    assert inside.contains(notice.geometry())
    QTest.mouseClick(notice, LEFT)
    assert not notice.isVisible()
    for number in range(KEPT + 3):
        window.say(f"Number {number}", good=True)
    sheet = window.sheets.notices()
    said = [one.text() for one in sheet.findChildren(QLabel)]
    assert len(said) == KEPT and said[0].endswith(f"Number {KEPT + 2}")


def test_a_notice_follows_the_window(window):
    window.say("Something was said", good=True)
    for size in ((1024, 640), (1400, 900)):
        window.resize(*size)
        room = QRect(QPoint(0, 0), window.message.parentWidget().size())
        assert room.contains(window.message.geometry())
        assert room.bottom() - window.message.geometry().bottom() < 30


# --- remembered -----------------------------------------------------------------------------------


def test_the_window_comes_back_as_it_was_left(window):
    window.resize(1111, 777)
    window.show_stage(4)
    window.splitter.setSizes([sum(window.splitter.sizes()) - 350, 350])
    window._remember()
    now = Preferences().now
    assert (now.window_px, now.pane_px, now.stage) == ((1111, 777), 350, 4)
    window.session.preferences.now = replace(now, window_at=(4000, -50))
    window.come_back(QRect(0, 0, 1920, 1080))
    assert (window.width(), window.height()) == (1111, 777)
    assert 0 <= window.x() <= 1920 - 1111 and window.y() >= 0
    window.come_back(QRect(0, 0, 900, 500))  # a smaller screen: never larger than it
    assert window.width() <= 900 and window.height() <= 500


def test_a_low_window_has_a_low_ribbon(window):
    window.resize(1280, 800)
    assert window.ribbon.height() == 86
    window.resize(1280, 720)
    assert window.ribbon.height() == 56


# --- first steps ----------------------------------------------------------------------------------


def test_the_first_steps_are_ticked_by_doing_them_and_come_once(qtbot, window):
    session, steps = window.session, window.steps
    window.offer_steps(now=True)
    assert steps.isVisible() and "Next chord" in steps.says.text()
    steps.go.click()
    assert window.room is window.chords
    window.chords.next.tiles[1].put.emit(False)
    assert steps.done == {0} and "shelf" in steps.says.text()
    window.open_shelf()
    window.shelf.hear(CATALOGUE["harp"])
    assert steps.done == {0, 1} and steps._ticks.accessibleName() == "2 of 6 done"
    window.shelf.hear(None)
    session.apply("bypass a treatment", lambda loop: line_edits.set_treatment(
        loop, None, loop.line[0].id, on=False))  # fmt: skip
    session.apply("suggest a groove", lambda loop: beds.add_lane(loop, "kick"))
    assert steps.done == {0, 1, 2, 4} and "Flip" in steps.go.text()
    QTest.keyClick(steps, Qt.Key.Key_Escape)
    assert not steps.isVisible() and Preferences().now.steps_left
    window.offer_steps(now=True)
    assert not steps.isVisible()  # never by themselves again
    command(window, "First steps").trigger()
    assert steps.isVisible() and steps.done == frozenset()


# --- words of our own -----------------------------------------------------------------------------


def test_every_word_of_ours_is_explained_in_two_sentences_and_a_picture(window):
    for one in OWN_WORDS.values():
        assert one.says.count(".") == 2 and one.says.endswith("."), one.word
        picture = WordPicture(one).grab().toImage()
        colours = {
            picture.pixel(x, y)
            for x in range(0, picture.width(), 3)
            for y in range(0, picture.height(), 3)
        }
        assert len(colours) > 2, one.word
    sheet = window.sheets.words()
    said = {one.text() for one in sheet.findChildren(QLabel)}
    assert {one.says for one in OWN_WORDS.values()} <= said


@pytest.mark.parametrize(
    ("stage", "words"),
    [(0, {"thread"}), (1, {"lens", "touch", "room"}), (2, {"finish"}),
     (3, {"print", "scatter", "piece"}), (4, {"bed"}), (5, {"seam"})],
)  # fmt: skip
def test_a_word_is_explained_where_it_heads_a_panel(window, stage, words):
    window.show_stage(stage)
    room = window.stage(stage)
    found = [*room.findChildren(QPushButton), *room.inspector.findChildren(QPushButton)]
    names = {one.accessibleName() for one in found if one.text() == "?"}
    assert {f"What is a {word}?" for word in words} <= names


def test_a_question_mark_opens_the_meaning(window):
    button = why("lens")
    button.setParent(window.centralWidget())
    button.show()
    QTest.mouseClick(button, LEFT)
    (popup,) = window.findChildren(Popup)
    assert OWN_WORDS["lens"].says in [one.text() for one in popup.findChildren(QLabel)]
    popup.close()


# --- empty stages and the start -------------------------------------------------------------------


def test_an_empty_flip_leads_to_a_finished_example_that_one_step_takes_back(qtbot, window):
    session, before = window.session, window.session.loop
    window.show_stage(3)
    stage = window.flip
    assert [tile.text() for tile in stage.lead.tiles] == [
        "The whole loop", "One layer", "A recording", "A finished example"]  # fmt: skip
    assert stage.lead.isVisible() and not stage.threads.isVisible()
    assert not stage.result.area.isVisible()  # nothing that could do nothing
    stage.lead.tiles[3].click()
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    flip = stage.layer.flipped
    assert len(flip.pieces) == 16 and [p.from_tick for p in flip.places] != sorted(
        p.from_tick for p in flip.places)  # fmt: skip
    assert not stage.lead.isVisible() and stage.result.area.isVisible()
    session.document.undo()
    assert session.loop == before and stage.lead.isVisible()


def test_an_empty_flip_prints_the_chosen_layer_or_looks_for_a_recording(qtbot, window):
    window.show_stage(3)
    stage = window.flip
    stage.lead.tiles[2].click()
    assert window.recordings.isVisible() and "No recording" in window.message.text()
    window.session.select(layer_id="l3")
    stage.lead.tiles[1].click()
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    (kept,) = window.session.document.history.now.prints
    assert kept.recipe.layers == ("l3",)


def test_forms_are_heard_on_resting_section_by_section_and_taken_by_a_press(qtbot, window):
    session = window.session
    window.show_stage(5)
    lead = window.arrange.lead
    assert [tile.text().lower() for tile in lead.tiles] == list(forms())
    assert not window.arrange.seam.isVisible() and not window.arrange.heard.isVisible()
    tile = lead.tiles[0]
    rest_on(tile)
    qtbot.waitUntil(lambda: session.hearing.previewing, timeout=5_000)
    trying = tile.findChild(FormTrying)
    drawn = suggest_form(Document.of(session.loop), next(iter(forms().values())), 1)
    first = {x.id for x in session.hearing.shown.heard()}
    assert trying._next.interval() == pytest.approx(1000 * session.loop.frames / 44_100, abs=2)
    trying._go_on()
    assert {x.id for x in session.hearing.shown.heard()} != first or (
        len({one.parts for one in drawn.arrangement.sections[:2]}) == 1
    )
    tile.click()
    assert not session.hearing.previewing
    assert session.document.history.now.arrangement == drawn.arrangement
    assert window.arrange.heard.isVisible() and not lead.isVisible()


def test_the_cards_of_the_start_page_show_sketches_that_are_real():
    pictures = card_pictures()
    for card in house_cards().values():
        loop, picture = sketch(card), pictures[card.name]
        names = [chord.read(loop.key).text for chord in loop.chords]
        assert [name for name, _ in picture.chords] == names, "run tools/card_pictures.py"
        assert [role for role, _ in picture.strata] == [x.role for x in loop.heard()]
        assert all(max(curve) > 0 for _, curve in picture.strata)


def test_a_card_is_heard_on_resting_and_the_chosen_one_comes_back(qtbot, window):
    session = window.session
    window.start_loop()
    start = window.start
    start.choose_card("Marlow Quist")
    assert session.hearing.shown.style == "Marlow Quist" and not session.player.playing
    tile = start.card.cards["Piet Harrow"]
    rest_on(tile)
    qtbot.waitUntil(lambda: session.hearing.shown.style == "Piet Harrow", timeout=5_000)
    assert session.player.playing and start.card.card.name == "Marlow Quist"
    start.show_place(0.5)
    assert tile._share == 0.5 and start.card.cards["Marlow Quist"]._share < 0
    tile._rest.go()
    assert session.hearing.shown.style == "Marlow Quist" and not session.player.playing
    start.card.learn.click()
    assert window.room is window.style_page and window.style_page.tabs_at == "learn"


def test_the_demo_kit_is_one_press_away(qtbot, window):
    window.start_loop()
    window.start.demo.click()
    qtbot.waitUntil(lambda: window.session.loop.title == "Polar Night II", timeout=60_000)
    document = window.session.document.history.now
    assert document.arrangement.sections and document.prints and document.demo.parts


def test_files_are_measured_and_heard_before_they_are_written(qtbot, window):
    session = window.session
    window.show_stage(6)
    rows = window.deliver.files.list.rows
    qtbot.waitUntil(lambda: all("s ·" in row.accessibleName() for row in rows
                                if row.parcel.sound is not None), timeout=60_000)  # fmt: skip
    loop = session.loop
    seconds = f"{loop.sounding_frames / loop.rate:.2f} s"
    size = f"{loop.sounding_frames * 2 * 3 / 1e6:.1f} MB"
    assert f"{seconds} · {size}" in rows[0].accessibleName()
    stem = next(row for row in rows if "stem-1" in row.parcel.name)
    QTest.mouseClick(stem, LEFT)
    heard = window.deliver.files.list.heard
    qtbot.waitUntil(lambda: heard.on, timeout=60_000)
    assert session.transport.long is heard and stem.accessibleName().endswith(", plays")
    QTest.mouseClick(stem, LEFT)
    assert session.transport.long is None
    window.show_stage(0)
    settled(qtbot, session)


# --- parts ----------------------------------------------------------------------------------------


def row_of(app, widths, *, even=False, columns=0):
    holder = QWidget()
    flow = Flow(holder, spacing=4, even=even, columns=columns)
    made = []
    for width in widths:
        one = QWidget()
        one.setMinimumSize(width, 20)
        flow.addWidget(one)
        one.show()
        made.append(one)
    return holder, flow, made


@pytest.mark.parametrize(("width", "lines"), [(400, 1), (212, 2), (150, 3), (10, 4)])
def test_a_flow_goes_on_in_the_next_line(app, width, lines):
    holder, flow, made = row_of(app, (100, 60, 80, 100))
    flow.setGeometry(QRect(0, 0, width, 300))
    assert len({one.y() for one in made}) == lines
    assert flow.heightForWidth(width) == 20 * lines + 4 * (lines - 1)
    assert all(one.width() >= one.minimumWidth() for one in made)
    assert flow.minimumSize().width() == 100
    holder.deleteLater()


def test_even_items_fill_as_few_lines_as_can_be_alike(app):
    holder, flow, made = row_of(app, (50,) * 5, even=True, columns=5)
    flow.setGeometry(QRect(0, 0, 230, 300))  # four would fit: three and two are better
    assert [one.y() for one in made] == [0, 0, 0, 24, 24]
    assert {one.width() for one in made} <= {74, 75}
    flow.setGeometry(QRect(0, 0, 270, 300))
    assert len({one.y() for one in made}) == 1 and made[-1].geometry().right() == 269
    holder.deleteLater()


def test_what_expands_has_the_rest_of_its_line(app):
    holder, flow, made = row_of(app, (50, 60))
    takes_rest(made[0], 50)
    flow.setGeometry(QRect(0, 0, 300, 20))
    assert made[0].width() == 300 - 4 - made[1].width()
    made[1].hide()
    flow.setGeometry(QRect(0, 0, 300, 20))
    assert made[0].width() == 300
    holder.deleteLater()


def test_a_fold_says_what_is_in_it_and_opens(app):
    inside = QLabel("inside")
    fold = Fold("Master", inside)
    fold.say("drive, then limit")
    fold.show()
    assert not inside.isVisible() and fold.head.accessibleName() == "Master, folded"
    fold.head.click()
    assert inside.isVisible() and fold.is_open and fold.says.text() == "drive, then limit"
    fold.close()


def test_pages_are_as_large_as_the_one_that_is_shown(app):
    pages = Pages()
    for height in (400, 50):
        page = QWidget()
        page.setMinimumSize(100, height)
        pages.addWidget(page)
    assert pages.minimumSizeHint().height() == 400
    pages.setCurrentIndex(1)
    assert pages.minimumSizeHint().height() == 50


def test_cut_words_are_whole_in_what_is_spoken(app):
    line = LinkLine(lambda: None)
    line.resize(80, 24)
    line.say("Marlow Quist & co ask for something longer")
    assert line.text().endswith("…") and "&&" not in line.text()[:12]
    assert line.accessibleName() == "Marlow Quist & co ask for something longer"
    words = Elided("As long as this is it is cut", size=12)
    words.resize(40, 18)
    assert words.is_cut
    words.resize(400, 18)
    assert not words.is_cut


def test_every_name_on_the_rail_is_a_button_that_can_be_reached(window):
    assert list(window.rail.buttons) == [*STAGES, *IN_PANE, *OVER]
    for name, one in window.rail.buttons.items():
        assert one.focusPolicy() & Qt.FocusPolicy.TabFocus, name
        assert one.accessibleName().startswith(name)
