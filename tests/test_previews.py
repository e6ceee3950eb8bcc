"""What is heard before it is done: whose it is, what is in front, and when it ends."""

import pytest
from PyQt6.QtCore import QCoreApplication, QEvent
from PyQt6.QtWidgets import QWidget

from cloudrift.desktop.frame.history_sheet import HistorySheet
from cloudrift.desktop.frame.key_popup import KeyPopup
from cloudrift.desktop.session.hearing.preview import Preview
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits
from tests.hands import settled


def slower(loop):
    return loop_edits.set_tempo(loop, loop.tempo / 2)


def louder(loop):
    return layer_edits.set_layer(loop, "l1", level_db=3.0)


@pytest.fixture
def views(session):
    made = QWidget(), QWidget()
    for view in made:
        view.show()
    return made


def test_what_ends_shows_what_stood_behind_it_again(session, views):
    one, other = (Preview(session.hearing.previews, view) for view in views)
    one.put(slower, "slower")
    other.put(louder, "louder")
    assert (session.hearing.shown, session.hearing.preview_words) == (
        louder(session.loop),
        "louder",
    )
    other.end()
    assert (session.hearing.shown, session.hearing.preview_words) == (
        slower(session.loop),
        "slower",
    )
    other.end()  # a second time is nothing
    one.end()
    assert session.hearing.shown is session.loop
    assert session.hearing.preview_words == ""


def test_the_one_behind_may_end_first(session, views):
    one, other = (Preview(session.hearing.previews, view) for view in views)
    one.put(slower, "slower")
    other.put(louder, "louder")
    one.end()
    assert session.hearing.preview_words == "louder"
    one.put(slower, "slower")  # put anew, it is in front
    assert session.hearing.preview_words == "slower"


def test_a_change_under_a_standing_preview_is_seen_and_heard_in_it(session, views, qtbot):
    preview = Preview(session.hearing.previews, views[0])
    preview.put(slower, "slower")
    seen = []
    session.hearing.shown_changed.connect(lambda: seen.append(session.hearing.shown))
    session.apply("turn off", lambda loop: layer_edits.set_layer(loop, "l2", mute=True))
    assert session.hearing.shown == slower(session.loop)
    assert session.hearing.shown.layer("l2").mute
    assert seen[-1] == session.hearing.shown
    settled(qtbot, session)
    assert session.hearing.rendered["treated"].loop.layer("l2").mute
    session.document.undo()
    assert not session.hearing.shown.layer("l2").mute


def test_another_moment_gives_way_to_the_first_change(session, views):
    preview, ended = Preview(session.hearing.previews, views[0]), []
    preview.ended.connect(lambda: ended.append(1))
    preview.put(slower(session.loop), "an old one")
    session.apply("louder", louder)
    assert session.hearing.shown is session.loop
    assert ended == [1]
    assert not preview.on


def test_an_edit_that_can_no_longer_be_made_ends_what_shows_it(session, views):
    def needs_l1(loop):
        loop.layer("l1")
        return slower(loop)

    preview, ended = Preview(session.hearing.previews, views[0]), []
    preview.ended.connect(lambda: ended.append(1))
    preview.put(needs_l1, "slower")
    session.apply("remove", lambda loop: layer_edits.remove_layer(loop, "l1"))
    assert not session.hearing.previewing
    assert ended == [1]


def test_an_edit_that_is_refused_shows_nothing(session, views):
    preview = Preview(session.hearing.previews, views[0])
    with pytest.raises(CloudriftError, match="between"):
        preview.put(lambda loop: loop_edits.set_tempo(loop, 9999), "too fast")
    assert not session.hearing.previewing


def test_what_stands_in_place_of_the_loop_stays_in_front(session, views):
    one, other = (Preview(session.hearing.previews, view) for view in views)
    whole = slower(session.loop)
    one.put(whole, "not started yet", alone=frozenset(), instead=True)
    other.put(louder, "louder")
    assert session.hearing.shown is whole
    assert session.hearing.instead
    assert not session.apply("louder", louder)
    one.end()
    assert session.hearing.shown == louder(session.loop)
    assert not session.hearing.instead


def test_it_ends_with_its_view_with_another_document_and_with_the_session(session, views):
    one, other = (Preview(session.hearing.previews, view) for view in views)
    one.put(slower, "slower")
    views[0].hide()
    assert not session.hearing.previewing
    other.put(louder, "louder")
    views[1].deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    assert not session.hearing.previewing
    one.put(slower, "slower")
    session.document.open(session.loop, None)
    assert not session.hearing.previewing
    assert not one.on
    one.put(slower, "slower")
    session.close()  # its view may outlive the session
    assert not session.hearing.previewing
    assert not one.on


def test_layers_heard_alone_in_a_preview_are_those_of_the_one_in_front(session, views):
    one, other = (Preview(session.hearing.previews, view) for view in views)
    session.hearing.solo({"l1"})
    one.put(slower, "slower")
    assert [x.id for x in session.hearing.heard_loop.heard()] == ["l1"]
    other.put(louder, "louder", alone=frozenset({"l2"}))
    assert [x.id for x in session.hearing.heard_loop.heard()] == ["l2"]


# --- the views that have one ----------------------------------------------------------------------


def test_a_tool_stays_heard_while_a_remedy_is_rested_on(window):
    window.show_stage(1)
    session, view = window.session, window.layers.notes
    session.select(layer_id="l1")
    view.moves.detach()
    view.open_tool("echo")
    tried = session.hearing.shown
    rests = Preview(session.hearing.previews, window.layers.room)
    rests.put(louder, "louder tried")
    assert session.hearing.preview_words == "louder tried"
    rests.end()
    assert session.hearing.shown == tried
    assert session.hearing.preview_words == "echo, preview"


def test_a_tool_is_used_on_the_notes_as_they_have_become(window):
    window.show_stage(1)
    session, view = window.session, window.layers.notes
    session.select(layer_id="l1")
    view.moves.detach()
    view.open_tool("echo")
    session.apply("louder", louder)
    tried = session.hearing.shown
    assert tried.layer("l1").level_db == 3.0
    view.strip.apply()
    assert session.loop == tried
    assert session.document.history.undo_label == "echo"


def test_a_sound_that_is_heard_lets_a_change_be_heard_with_it(window):
    window.open_shelf()
    session, shelf = window.session, window.shelf
    sound = next(s for s in shelf.grid.sounds if s.name == "glass pad")
    shelf.hear(sound)
    session.apply("slower", slower)
    assert session.hearing.shown.tempo == session.loop.tempo
    assert session.hearing.shown != session.loop
    session.document.open(session.loop, None)
    assert shelf.grid.heard == ""


def test_a_key_that_is_heard_moves_with_what_is_changed_meanwhile(window, qtbot):
    session = window.session
    popup = KeyPopup(window.heading, session)
    qtbot.addWidget(popup)
    popup.hear(2)
    session.apply("slower", slower)
    assert session.hearing.shown == loop_edits.shift_key(session.loop, 2)
    popup.hear(0)
    assert session.hearing.shown is session.loop
    popup.hear(3)
    session.document.open(session.loop, None)
    assert popup.heard is None


def test_an_old_moment_in_place_of_now_gives_way_and_the_sheet_says_so(window, qtbot):
    session = window.session
    session.apply("slower", slower)
    sheet = HistorySheet(session, window)
    sheet.list.setCurrentRow(1)
    sheet.as_now()
    assert session.hearing.preview_words == "heard: opened"
    assert "now: opened" in sheet.says.text()
    session.apply("louder", louder)
    assert session.hearing.shown is session.loop
    assert sheet.says.text() == "comparing bare and treated"
    sheet.close()
