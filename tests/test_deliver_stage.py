"""The Deliver stage in the real window: checks pressed, rights typed, files chosen and written."""

import threading

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel

import cloudrift.desktop.stages.deliver.files_page as files_room
from cloudrift.audio.about import About
from cloudrift.deliver.checks import CHECKS
from cloudrift.desktop.frame.rail import STAGES
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.desktop.session.work.tasks import Lane
from cloudrift.desktop.stages.deliver.stage import CHECKS as CHECKS_PAGE
from cloudrift.desktop.stages.deliver.stage import DEMO, FILES, RIGHTS
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from tests.hands import command, saved, settled

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def deliver(qtbot, window):
    """The stage, over a loop whose sound stands."""
    window.choose_stage(STAGES.index("Deliver"))
    settled(qtbot, window.session)
    return window.deliver


def now(window):
    return window.session.document.history.now


def checked(qtbot, deliver):
    """Wait until what is there now was looked at."""
    qtbot.waitUntil(lambda: deliver.checking.is_current, timeout=60_000)
    return deliver.checking


def press(qtbot, deliver, page):
    qtbot.mouseClick(deliver.page.button(page), LEFT)


# --- checks ---------------------------------------------------------------------------------------


def test_checks_are_made_by_themselves_and_the_rail_says_how_many_to_fix(qtbot, window, deliver):
    checking = checked(qtbot, deliver)
    assert {one.check.name for one in checking.found} == {*CHECKS} - {"tail", "clipped", "noise"}
    (rights,) = [one for one in checking.found if one.severity != "fine"]
    assert rights.check.name == "rights"
    assert window.rail.facts[STAGES.index("Deliver")] == "1 to fix"
    assert deliver.page.button(CHECKS_PAGE).text() == "Checks: 1 to fix"
    window.session.apply("name", lambda loop: replace(loop, title="Untitled loop"))
    assert not checking.is_current
    checked(qtbot, deliver)
    assert window.rail.facts[STAGES.index("Deliver")] == "2 to fix"
    press(qtbot, deliver, CHECKS_PAGE)  # who looks sees the slow ones, too
    checked(qtbot, deliver)
    assert checking.finding("tail") is not None


def test_a_change_is_heard_on_resting_and_made_on_pressing(qtbot, window, deliver):
    session = window.session
    session.apply("loud", lambda loop: line_edits.add_treatment(loop, None, "trim"))
    last = session.loop.line[-1].id
    session.apply(
        "up", lambda loop: line_edits.set_treatment_setting(loop, None, last, "gain_db", 18.0)
    )
    before = session.loop
    settled(qtbot, session)
    press(qtbot, deliver, CHECKS_PAGE)
    checked(qtbot, deliver)
    row = deliver.checks.rows["peak"]
    assert row.sign.text() == "must" and "dBTP" in row.measured.text()
    assert row.asked.text().startswith("Wanted: at most −1 dBTP")
    row.change.setFocus(Qt.FocusReason.TabFocusReason)
    qtbot.waitUntil(lambda: session.hearing.shown != before, timeout=5000)
    assert session.loop == before
    deliver.page.button(CHECKS_PAGE).setFocus()
    qtbot.waitUntil(lambda: session.hearing.shown == before, timeout=5000)
    qtbot.mouseClick(row.change, LEFT)
    assert session.loop.line[-1].full.number("gain_db") < 18.0
    settled(qtbot, session)
    checked(qtbot, deliver)
    assert deliver.checking.finding("peak").severity == "fine"
    assert "peak" not in deliver.checks.rows
    session.document.undo()
    assert session.loop == before


def test_what_is_fine_is_shown_when_it_is_wanted(qtbot, window, deliver):
    press(qtbot, deliver, CHECKS_PAGE)
    checked(qtbot, deliver)
    assert list(deliver.checks.rows) == ["rights"]
    qtbot.mouseClick(deliver.checks.all, LEFT, pos=deliver.checks.all.rect().center())
    deliver.checks.all.setChecked(True)
    assert next(iter(deliver.checks.rows)) == "rights"
    assert set(deliver.checks.rows) == {one.check.name for one in deliver.checking.found}
    assert deliver.checks.rows["length"].sign.text() == "fine"
    qtbot.mouseClick(deliver.checks.rows["rights"].elsewhere, LEFT)
    assert deliver.stack.currentWidget() is deliver.rights


def test_a_target_is_asked_of_the_checks(qtbot, window, deliver):
    files = deliver.files
    qtbot.mouseClick(files.target.button(-14.0), LEFT)
    checked(qtbot, deliver)
    said = deliver.checking.finding("loudness").finding.measured
    assert "exported at +" in said
    files.parts["pass"].setChecked(True)
    press(qtbot, deliver, CHECKS_PAGE)
    checked(qtbot, deliver)
    assert "exported with one pass" in deliver.checking.finding("tail").finding.measured


def test_a_check_that_breaks_is_said_and_the_program_goes_on(qtbot, window, deliver, monkeypatch):
    checked(qtbot, deliver)
    press(qtbot, deliver, CHECKS_PAGE)
    from cloudrift.desktop.session.work import checking as module

    def broken(*_given):
        raise ValueError("odd")

    monkeypatch.setattr(module, "check_all", broken)
    window.session.apply("bars", lambda loop: loop_edits.set_bars(loop, 1))
    qtbot.waitUntil(lambda: bool(deliver.checking.problem), timeout=30_000)
    assert deliver.checks.says.text() == deliver.checking.problem
    assert not deliver.checking.busy


def test_checks_give_way_to_what_is_read_between_two_of_them(qtbot, window, deliver, monkeypatch):
    from cloudrift.desktop.session.work import checking as module

    checked(qtbot, deliver)
    gate, begun, passed = threading.Event(), threading.Event(), []
    real = module.check_all

    def noted(heard, names, progress):
        def step(*given):
            begun.set()
            progress(*given)
            passed.append(gate.is_set())

        return real(heard, names, step)

    monkeypatch.setattr(module, "check_all", noted)
    window.tasks.run("midi", lambda _s, _m: gate.wait(30), lambda _: None, lane=Lane.READING)
    window.session.apply("title", lambda loop: replace(loop, title="Other"))
    qtbot.waitUntil(begun.is_set, timeout=30_000)
    qtbot.wait(50)
    assert not passed
    gate.set()
    checked(qtbot, deliver)
    assert passed and all(passed)


def test_checks_of_what_is_no_more_are_left_at_once(qtbot, window, deliver, monkeypatch):
    from cloudrift.desktop.session.work import checking as module

    checking, left = checked(qtbot, deliver), []
    gate, begun, then, again = (threading.Event() for _ in range(4))

    def slow(heard, *_given):
        if begun.is_set():
            again.set()
            assert then.wait(30)
            return ()
        begun.set()
        assert gate.wait(30)
        try:
            heard.go_on()
        except Cancelled:
            left.append(heard.document)
            raise
        return ()

    monkeypatch.setattr(module, "check_all", slow)
    window.session.apply("bars", lambda loop: loop_edits.set_bars(loop, 1))
    first = now(window)
    qtbot.waitUntil(begun.is_set, timeout=30_000)
    window.session.apply("title", lambda loop: replace(loop, title="Other"))
    gate.set()
    qtbot.waitUntil(lambda: left == [first] and again.is_set(), timeout=30_000)
    assert checking.busy  # what was left says nothing of what is looked at now
    checking._failed(Cancelled(), checking._about()[:1])
    assert checking.busy
    then.set()
    qtbot.waitUntil(lambda: checking.is_current, timeout=30_000)
    assert not checking.problem and not checking.busy


# --- rights ---------------------------------------------------------------------------------------


def typed(qtbot, line, words):
    line.setFocus()
    line.selectAll()
    qtbot.keyClicks(line, words)
    qtbot.keyClick(line, Qt.Key.Key_Return)


def test_people_and_shares_are_typed_undone_and_kept(qtbot, window, deliver, tmp_path):
    press(qtbot, deliver, RIGHTS)
    page = deliver.rights
    assert "no author is named" in page.open.text() and page.open.objectName() == "signal"
    assert deliver.page.button(RIGHTS).text() == "Rights: 1 open"
    typed(qtbot, page.maker, "Tern & Tide Audio")
    qtbot.mouseClick(page.add, LEFT)
    typed(qtbot, page.people[0].name, "Ada Wren")
    qtbot.mouseClick(page.add, LEFT)
    typed(qtbot, page.people[1].name, "Tern")
    assert [one.share for one in now(window).credits.people] == [100.0, 0.0]
    page.people[1].did["wrote"].click()
    page.people[1].did["mixed"].click()
    page.people[0].share.edited.emit(60.0)
    assert "60.00 %, not 100 %" in page.open.text()
    qtbot.mouseClick(page.even, LEFT)
    assert page.shares.text() == "100 % in all" and page.open.objectName() == "good"
    wanted = Credits(people=(Person(name="Ada Wren", share=50.0),
                             Person(name="Tern", did=("mixed",), share=50.0)),
                     maker="Tern & Tide Audio")  # fmt: skip
    assert now(window).credits == wanted
    assert deliver.page.button(RIGHTS).text() == "Rights: complete"
    checked(qtbot, deliver)
    assert deliver.checking.to_fix == 0
    assert saved(window.session.document.save, tmp_path / "a.cloudrift")
    assert load_document(tmp_path / "a.cloudrift").credits == wanted
    window.session.document.undo()
    assert [one.share for one in now(window).credits.people] == [60.0, 0.0]
    assert page.people[0].share.value == 60.0
    qtbot.mouseClick(page.people[1].remove, LEFT)
    assert [one.name for one in now(window).credits.people] == ["Ada Wren"]
    assert len(page.people) == 1


def test_two_of_one_name_are_refused_in_words(qtbot, window, deliver):
    press(qtbot, deliver, RIGHTS)
    page = deliver.rights
    for name in ("Ada Wren", "Tern"):
        qtbot.mouseClick(page.add, LEFT)
        typed(qtbot, page.people[-1].name, name)
    typed(qtbot, page.people[1].name, "Ada Wren")
    assert "people" in window.message.text()
    assert [one.name for one in now(window).credits.people] == ["Ada Wren", "Tern"]
    assert page.people[1].name.text() == "Tern"


def test_what_is_not_clear_is_confirmed_by_hand(qtbot, window, deliver):
    facts = Facts(name="Quay voice", kind="phrase", length_s=2.0, licence="from the attic")
    clip = window.session.clips.record(_tone(), 44_100)
    window.session.apply("voice", lambda loop: add_recording(
        loop, FromRecording(clip=clip, facts=facts)))  # fmt: skip
    press(qtbot, deliver, RIGHTS)
    page = deliver.rights
    row = next(one for one in page.entries if one.entry.clip == clip)
    qtbot.waitUntil(row.confirm.isVisible, timeout=2000)
    assert "does not say" in row.state.text()
    qtbot.mouseClick(row.confirm, LEFT, pos=row.confirm.rect().topLeft() + _in(row.confirm))
    assert now(window).credits.confirmed == (clip,)
    row = next(one for one in page.entries if one.entry.clip == clip)
    assert row.confirm.isChecked() and "Quay voice" not in page.open.text()
    window.session.document.undo()
    assert now(window).credits.confirmed == ()
    page.licence.setEditText("for one film")
    page.licence.lineEdit().editingFinished.emit()
    assert now(window).credits.licence == "for one film"
    assert "Quay voice" not in page.open.text()  # what it is under is known


def _in(box):
    from PyQt6.QtCore import QPoint

    return QPoint(8, box.height() // 2)


def _tone():
    import numpy as np

    t = np.arange(88_200) / 44_100
    return np.stack([0.2 * np.sin(2 * np.pi * 220 * t)] * 2).astype(np.float32)


# --- files ----------------------------------------------------------------------------------------


def listed(files):
    return [x.text() for x in files.findChildren(QLabel) if "_140bpm_" in x.text()
            and "stem-1-name" not in x.text()]  # fmt: skip


def test_parts_by_hand_and_by_preset(qtbot, window, deliver):
    files = deliver.files
    assert files.preset.currentText() == "Loop and stems" and files.write.text() == "Export 7 files"
    files.parts["rights"].setChecked(True)
    assert files.preset.currentText() == "Custom"
    assert files.write.text() == "Export 11 files"
    files.preset.setCurrentText("Loop alone")
    files.preset.activated.emit(files.preset.currentIndex())
    assert files.order.parts == ("loop",) and files.write.text() == "Export 1 file"
    files.parts["loop"].setChecked(False)
    assert files.order is None and not files.write.isEnabled()
    assert "nothing is selected" in files.example.text()
    assert not files.parts["bed"].isVisible() and not files.parts["arrangement"].isVisible()


def test_format_bits_rate_and_names(qtbot, window, deliver, tmp_path):
    files = deliver.files
    files.preset.setCurrentText("Loop alone")
    files.preset.activated.emit(files.preset.currentIndex())
    qtbot.mouseClick(files.bits.button(32), LEFT)
    qtbot.mouseClick(files.format.button("flac"), LEFT)
    assert files.order.bits == 24 and not files.bits.button(32).isEnabled()
    qtbot.mouseClick(files.format.button("mp3"), LEFT)
    assert not files.bits.isVisible() and files.example.text().endswith(".mp3")
    files.names.setText("{title}-{prat}")
    assert "did you mean 'part'" in files.example.text() and not files.write.isEnabled()
    files.names.setText("{title} {part}")
    assert files.example.text() == "ice-road stem-1-name.mp3"
    qtbot.mouseClick(files.target.button(-16.0), LEFT)
    files.folder.setText(str(tmp_path / "out"))
    qtbot.mouseClick(files.write, LEFT)
    qtbot.waitUntil(lambda: files.result.text().startswith("Exported 1 file"), timeout=60_000)
    assert [path.name for path in (tmp_path / "out").iterdir()] == ["ice-road.mp3"]
    kept = Preferences().now  # the next one is written so, too
    assert (kept.parts, kept.sound_format, kept.target_lufs, kept.names) == (
        ("loop",), "mp3", -16.0, "{title} {part}")  # fmt: skip


def test_what_would_be_written_follows_the_loop(qtbot, window, deliver):
    files = deliver.files
    before = files.write.text()
    window.session.apply("off", lambda loop: layer_edits.set_layer(loop, "l1", mute=True))
    assert files.write.text() != before
    bedded = replace(window.session.loop, title="Last Ferry North")
    window.session.document.open(Document(loop=bedded), None)
    assert "last-ferry-north" in files.example.text()
    assert About(title="x").tags == {"TITLE": "x", "ENCODER": "Cloudrift"}
    press(qtbot, deliver, FILES)
    assert deliver.stack.currentWidget() is files


def test_the_menu_goes_to_each_page_and_writes(qtbot, window, tmp_path):
    window.deliver.files.folder.setText(str(tmp_path / "out"))
    pages = {"Kit of loops": "kit", "Problems to fix": "checks", "The demo file": "demo",
             "Choose what to export": "files"}  # fmt: skip
    for words, page in pages.items():
        command(window, words).trigger()
        assert window.room is window.deliver
        there = window.deliver.stack.currentWidget()
        assert there is getattr(window.deliver, page)
    command(window, "Export the files").trigger()
    said = window.deliver.files.result
    qtbot.waitUntil(lambda: said.text().startswith("Exported"), timeout=60_000)


# --- the whole way --------------------------------------------------------------------------------


def test_from_an_open_loop_to_a_checked_entry_with_demo_and_rights_in_ten_actions(
    qtbot, window, tmp_path
):
    count = 0

    def act(what, *given):
        nonlocal count
        count += 1
        what(*given)

    act(qtbot.keyClick, window, Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)
    deliver = window.deliver
    act(press, qtbot, deliver, RIGHTS)
    act(qtbot.mouseClick, deliver.rights.add, LEFT)
    act(typed, qtbot, deliver.rights.people[0].name, "Ada Wren")
    act(press, qtbot, deliver, DEMO)
    act(qtbot.mouseClick, deliver.demo.order, LEFT)
    act(qtbot.mouseClick, deliver.demo.write, LEFT)
    deliver.files.folder.setText(str(tmp_path / "kit"))
    act(deliver.files.parts["rights"].click)
    settled(qtbot, window.session)
    assert checked(qtbot, deliver).to_fix == 0  # looked at by itself, said on the rail
    act(qtbot.mouseClick, deliver.files.write, LEFT)
    qtbot.waitUntil(lambda: deliver.files.result.text().startswith("Exported"), timeout=120_000)
    assert count <= 10
    names = {path.name.split("minor")[-1] for path in (tmp_path / "kit").iterdir()}
    assert {".wav", "_demo.wav", "_demo.txt", "_rights.txt", "_rights.html", ".mid"} <= names


@pytest.mark.parametrize(("pressed", "count", "says"), [
    ("Turn all down by", 7, "all turned down by "), ("Write 32-bit float WAV", 7, "32-bit float"),
    ("Cancel", 0, "Nothing was exported"),
])  # fmt: skip
def test_over_full_scale_writing_asks(qtbot, window, tmp_path, monkeypatch, pressed, count, says):
    asked = []

    def answer(_parent, _title, words, *answers):
        asked.append(words)
        return next(one for one in answers if one.startswith(pressed))

    monkeypatch.setattr(files_room, "ask", answer)
    session = window.session
    for layer in session.loop.layers:
        session.apply("up", lambda loop, x=layer: layer_edits.set_layer(loop, x.id, level_db=12.0))
    window.show_stage(6)
    files = window.deliver.files
    files.folder.setText(str(tmp_path / "out"))
    files.write.click()
    qtbot.waitUntil(lambda: says in files.result.text(), timeout=60_000)
    assert len(asked) == 1 and "would peak at +" in asked[0] and "Nothing has been exp" in asked[0]
    paths = [*(tmp_path / "out").glob("*.wav")]
    assert len(paths) == (count and count - 1)
    peaks = [np.abs(soundfile.read(path)[0]).max() for path in paths]
    assert not peaks or (max(peaks) < 1) == (pressed != "Write 32-bit float WAV")
