"""The real window, driven by mouse and keyboard; then what the loop became and what is painted."""

import gc
import threading
from functools import partial
from itertools import pairwise

import numpy as np
import pytest
from PyQt6.QtCore import QCoreApplication, QPoint, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QMessageBox, QWidget

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.desktop.frame.rail import IN_PANE, INSPECTOR
from cloudrift.desktop.frame.rooms import FURNISHED, ROOMS
from cloudrift.desktop.kit import look
from cloudrift.desktop.kit.field import FieldWidget
from cloudrift.desktop.kit.tiles import open_tempo
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.desktop.stages.flip.prints_sheet import PrintsSheet
from cloudrift.desktop.stages.flip.stage import WHOLE
from cloudrift.ground.settings import Field
from cloudrift.loop import load
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import save
from cloudrift.loop.sounding import notes_of
from cloudrift.sound import find_sound
from cloudrift.theory import Key
from tests.conftest import rms, treated
from tests.hands import drag, opened, saved, settled

LEFT = Qt.MouseButton.LeftButton
NONE = Qt.KeyboardModifier.NoModifier
HZ = Field(name="hz", label="Low cut", default=120, unit="Hz", low=20, high=4000, step=1, log=True,
           off_low=True)  # fmt: skip


def answer(monkeypatch, words):
    """Press a button of the next question box."""
    monkeypatch.setattr(QMessageBox, "exec", lambda box: None)
    monkeypatch.setattr(
        QMessageBox,
        "clickedButton",
        lambda box: next(b for b in box.buttons() if b.text() == words),
    )


# --- fields -------------------------------------------------------------------------------------


@pytest.fixture
def field(qtbot):
    made = FieldWidget(HZ, 120.0)
    qtbot.addWidget(made)
    made.resize(200, 27)
    made.show()
    return made


def test_a_field_is_dragged_finely_with_shift_and_returns_on_double_click(qtbot, field):
    drag(qtbot, field, QPoint(20, 10), QPoint(70, 10))
    coarse = field.value
    assert coarse == pytest.approx(120 * (4000 / 20) ** (50 / 200), rel=0.03)
    qtbot.mouseDClick(field, LEFT)
    assert field.value == 120
    drag(qtbot, field, QPoint(20, 10), QPoint(70, 10), Qt.KeyboardModifier.ShiftModifier)
    assert 120 < field.value < 0.4 * coarse


def test_a_field_is_nudged_and_typed_into(qtbot, field):
    field.setFocus()
    qtbot.keyClick(field, Qt.Key.Key_Right)
    assert 125 < field.value < 140
    qtbot.keyClick(field, Qt.Key.Key_Left, Qt.KeyboardModifier.ShiftModifier)
    seen = []
    field.edited.connect(seen.append)
    for typed, becomes in (
        ("380", 380),
        ("1.2 kHz", 1200),
        ("off", 20),
        ("9 k", 4000),
        ("x", 4000),
    ):
        qtbot.keyClick(field, Qt.Key.Key_Return)
        field._editor.selectAll()
        qtbot.keyClicks(field._editor, typed)
        qtbot.keyClick(field._editor, Qt.Key.Key_Return)
        assert field.value == becomes
    assert seen == [380, 1200, 20, 4000]
    assert field.accessibleName() == "Low cut"
    assert field.accessibleDescription() == "4 kHz"


def test_escape_leaves_a_field_as_it_was(qtbot, field):
    qtbot.keyClick(field, Qt.Key.Key_5)
    assert field._editor.text() == "5"
    qtbot.keyClick(field._editor, Qt.Key.Key_Escape)
    assert field.value == 120


# --- heading ------------------------------------------------------------------------------------


def test_the_key_tile_moves_everything_and_shows_what_sounds(qtbot, window):
    session = window.session
    popup = open_key(window.heading.key, session)
    row = popup.findChildren(QWidget, options=Qt.FindChildOption.FindChildrenRecursively)
    tonic = next(w for w in row if w.accessibleName() == "Tonic: A")
    tonic.click()
    assert session.loop.key == Key("A", "minor")
    popup.close()
    shifted = line_edits.set_treatment_setting
    session.apply("add", lambda p: line_edits.add_treatment(p, None, "shift"))
    added = session.loop.line[-1].id
    session.apply("shift", lambda p: shifted(p, None, added, "semitones", -3.0))
    assert "sounds F♯ minor" in window.heading.key.accessibleName()
    assert window.heading.key._differs == "sounds F♯ minor"
    layer = session.loop.layers[-1].id
    session.apply("shift", lambda loop: treated(loop, layer, "shift", semitones=3.0))
    assert window.heading.key._differs == "sounds F♯ minor · 1 apart"
    assert f"{session.loop.layer(layer).name} sounds in A minor" in window.heading.key.toolTip()


def test_the_tempo_tile_takes_a_typed_tempo(qtbot, window):
    session = window.session
    popup = open_tempo(window.heading.tempo, session)
    field = popup.findChild(FieldWidget)
    qtbot.keyClicks(field, "9")
    qtbot.keyClicks(field._editor, "8.5")
    qtbot.keyClick(field._editor, Qt.Key.Key_Return)
    popup.close()
    assert session.loop.tempo == 98.5
    assert "98.5 BPM" in window.heading.tempo.accessibleName()
    settled(qtbot, session)
    assert session.hearing.rendered[TREATED].audio.shape[1] == session.loop.frames


def test_renaming_in_the_heading(qtbot, window):
    title = window.heading.title
    title.selectAll()
    qtbot.keyClicks(title, "Last Ferry North")
    qtbot.keyClick(title, Qt.Key.Key_Return)
    assert window.session.loop.title == "Last Ferry North"
    title.setText("   ")
    title.editingFinished.emit()
    assert window.session.loop.title == title.text() == "Last Ferry North"


# --- sound --------------------------------------------------------------------------------------


def test_space_plays_and_b_compares_at_the_same_loudness(qtbot, window, speaker):
    session = window.session
    qtbot.keyClick(window, Qt.Key.Key_Space)
    assert session.player.playing
    assert window.heading.play.isChecked()
    speaker.pull(4096)
    qtbot.keyClick(window, Qt.Key.Key_B)
    assert session.hearing.side == BARE
    bare, treated = session.hearing.loudness[BARE].lufs, session.hearing.loudness[TREATED].lufs
    assert session.hearing.match.one_db == pytest.approx(treated - bare, abs=0.01)
    before = session.player.share
    speaker.pull(2048)
    out = speaker.pull(4096)
    assert session.player.share == pytest.approx(before, abs=0.1)
    at = round(session.player.share * session.hearing.rendered[BARE].audio.shape[1])
    wanted = session.hearing.rendered[BARE].audio[:, at - 4096 : at].T * 10 ** (
        session.hearing.match.one_db / 20
    )
    assert np.abs(out - np.clip(wanted, -1, 1)).max() < 1e-4
    qtbot.keyClick(window, Qt.Key.Key_Space)
    assert not session.player.playing


def test_an_edit_is_heard_without_stopping(qtbot, window, speaker):
    session = window.session
    session.transport.set_playing(True)
    speaker.pull(4096)
    first = session.hearing.rendered[TREATED]
    line = session.loop.line[0].id
    session.apply("wear", lambda p: line_edits.set_treatment_setting(p, None, line, "wear", 95.0))
    while session.hearing.rendered[TREATED] is first:
        assert np.abs(speaker.pull(1024)).max() > 1e-4
        qtbot.wait(5)
    speaker.pull(1024)
    out = speaker.pull(2048)
    at = round(session.player.share * session.loop.frames)
    assert np.abs(out - session.hearing.rendered[TREATED].audio[:, at - 2048 : at].T).max() < 1e-5


def test_dragging_on_the_ribbon_hears_a_part_and_pressing_goes_there(qtbot, window, speaker):
    ribbon, player = window.ribbon, window.session.player
    y = 50
    drag(qtbot, ribbon, QPoint(round(ribbon._x(0.26)), y), QPoint(round(ribbon._x(0.49)), y))
    assert player.part == (0.25, 0.5)  # to the nearest beat
    qtbot.mouseDClick(ribbon, LEFT)
    assert player.part == (0.0, 1.0)
    qtbot.mouseClick(ribbon, LEFT, NONE, QPoint(round(ribbon._x(0.75)), y))
    assert player.share == pytest.approx(0.75, abs=0.01)
    ribbon.setFocus()
    qtbot.keyClick(ribbon, Qt.Key.Key_Right)
    assert player.share == pytest.approx(0.875, abs=0.01)


def test_the_ribbon_shows_every_heard_layer_and_the_playhead(qtbot, window):
    qtbot.waitUntil(lambda: len(window.ribbon._strata) == 4, timeout=60_000)
    assert {role for role, _ in window.ribbon._strata} == {"keys", "pad", "pluck", "bass"}
    window.session.player.seek(0.5)
    window._follow_sound()
    image = window.ribbon.grab().toImage()
    x = round(window.ribbon._x(0.5))
    colours = {image.pixelColor(x + dx, 40).name() for dx in (-1, 0)}
    assert QColor(look.look.tokens.signal).name() in colours


# --- layers -------------------------------------------------------------------------------------


def test_layers_are_levelled_panned_heard_alone_and_taken_out(qtbot, window):
    window.show_stage(1)
    session = window.session
    row = window.layers.rows["l2"]
    row.level.setFocus()
    qtbot.keyClicks(row.level, "-")
    qtbot.keyClicks(row.level._editor, "9")
    qtbot.keyClick(row.level._editor, Qt.Key.Key_Return)
    assert session.loop.layer("l2").level_db == -9
    drag(qtbot, row.pan, QPoint(40, 20), QPoint(80, 20))
    assert session.loop.layer("l2").pan == pytest.approx(0.4, abs=0.03)
    row.hear.click()
    assert window.layers.heard.text().startswith("only Slow vault, soloed")
    assert session.hearing.alone == {"l2"}
    settled(qtbot, session)
    alone = session.hearing.rendered[TREATED].audio
    assert window.rail.facts[1] == "1 of 4 on"
    row.hear.click()
    row.off.click()
    assert window.layers.heard.text().startswith("3 of 4 on, without Slow vault")
    settled(qtbot, session)
    assert rms(alone - session.hearing.rendered[TREATED].audio) > 1e-3


def test_lens_sound_and_touch_are_changed_in_the_inspector(qtbot, window):
    window.show_stage(1)
    session, inspector = window.session, window.layers.inspector
    session.select(layer_id="l1")
    inspector.lens.button("arpeggio").click()
    assert session.loop.layer("l1").source.lens.kind == "arpeggio"
    inspector.fields["lens step_ticks"].nudge(1, fine=False)
    assert session.loop.layer("l1").source.lens.step_ticks == 320
    inspector.fields["touch spread"].type_text("22")
    assert session.loop.layer("l1").source.touch.spread == 22
    inspector.fields["sound felt"].type_text("10")
    assert dict(session.loop.layer("l1").source.sound.settings)["felt"] == 10
    inspector.sound.click()
    assert window.shelf.isVisible()
    window.shelf.choose(find_sound("warm pad"), False)
    assert session.loop.layer("l1").source.sound.name == "warm pad"
    window.open_inspector()
    assert "sound hollow" in inspector.fields


def test_layers_are_added_and_removed(qtbot, window):
    window.show_stage(1)
    session = window.session
    keys = next(a.menu() for a in window.layers.add.menu().actions() if a.text() == "Keys")
    keys.actions()[0].trigger()
    assert len(session.loop.layers) == len(window.layers.rows) == 5
    assert session.selection.layer_id == session.loop.layers[-1].id
    session.apply("x", lambda p: layer_edits.remove_layer(p, p.layers[-1].id))
    assert len(window.layers.rows) == 4


def test_a_layer_is_renamed_moved_copied_twinned_and_parked(qtbot, window):
    window.show_stage(1)
    session, inspector = window.session, window.layers.inspector
    session.select(layer_id="l2")

    def press(words):
        qtbot.mouseClick(inspector.acts[words], Qt.MouseButton.LeftButton)

    def names():
        return [layer.name for layer in session.loop.layers]

    before = names()
    inspector.name.setText("  Far   shore ")
    inspector.name.editingFinished.emit()
    assert session.loop.layer("l2").name == "Far shore"
    inspector.name.setText(" ")
    inspector.name.editingFinished.emit()
    assert session.loop.layer("l2").name == "Far shore"
    assert "a layer needs a name" in window.message.text()
    inspector.fields["layer role"].set_value("bell")
    inspector.fields["layer role"].edited.emit("bell")
    assert session.loop.layer("l2").role == "bell"
    press("Up")
    assert names()[0] == "Far shore"
    press("Up")
    assert names()[0] == "Far shore"
    press("Down")
    press("Duplicate")
    assert names()[1:3] == ["Far shore", "Far shore 2"]
    assert session.loop.layer(session.selection.layer_id).name == "Far shore 2"
    session.select(layer_id="l1")
    line = session.loop.layer("l1").line
    assert line
    press("Twin")
    twin = session.loop.layer(session.selection.layer_id)
    one = session.loop.layer("l1")
    assert (twin.line, twin.pan) == ((), -one.pan)
    assert notes_of(session.loop, twin) == notes_of(session.loop, one)
    heard = len(session.loop.heard())
    press("Turn off")
    assert len(session.loop.heard()) == heard - 1
    assert list(window.layers.rows)[-1] == twin.id
    assert "1 off" in window.layers.heard.text()
    press("Turn on")
    assert len(session.loop.heard()) == heard
    press("Remove")
    while names() != before:
        session.document.undo()
    session.document.redo()
    assert session.loop.layer("l2").name == "Far shore"


# --- texture ------------------------------------------------------------------------------------


def test_the_descent_is_edited_and_every_row_gets_its_strip(qtbot, window):
    window.show_stage(2)
    session, stage = window.session, window.texture
    stage.adders["hall"].trigger()
    assert [r.treatment_id for r in stage.rows] == [t.id for t in session.loop.line]
    row = stage.rows[-1]
    row.fields["decay_s"].type_text("6 s")
    row.fields["blend"].type_text("60")
    assert session.loop.line[-1].full["decay_s"] == 6
    assert session.loop.line[-1].blend == 0.6
    assert row.says.text().startswith("rings 6.0 s")
    row.switch.click()
    assert not session.loop.line[-1].on
    assert row.switch.text() == "bypassed"
    row.move_by(-1)
    assert [t.kind for t in session.loop.line] == ["weathering", "hall", "cuts"]
    qtbot.waitUntil(lambda: all(s._db is not None for s in stage.strips), timeout=60_000)
    bare, *_, treated = [s._db for s in stage.strips]
    assert np.abs(bare - treated).mean() > 0.5
    qtbot.keyClick(stage.rows[1], Qt.Key.Key_Delete)
    assert [t.kind for t in session.loop.line] == ["weathering", "cuts"]


def test_pressing_a_strip_hears_the_loop_up_to_there(qtbot, window):
    window.show_stage(2)
    session, stage = window.session, window.texture
    whole = session.hearing.rendered[TREATED].audio
    qtbot.mouseClick(stage.strips[0], LEFT)
    assert session.hearing.heard_up_to == (None, 0)
    assert stage.strips[0].heard_to_here
    settled(qtbot, session)
    qtbot.wait(20)
    assert not session.hearing.rendered[TREATED].loop.line
    assert rms(session.hearing.rendered[TREATED].audio - whole) > 1e-3
    qtbot.mouseClick(stage.strips[0], LEFT)
    assert session.hearing.heard_up_to is None


def test_lines_of_layers_are_opened_from_the_list(qtbot, window):
    window.show_stage(2)
    qtbot.mouseClick(window.texture.targets.buttons["l3"], LEFT)
    assert window.session.selection.line_of == "l3"
    assert window.texture.title.text() == "Reef pluck, from bare to treated"
    kinds = [t.kind for t in window.session.loop.layer("l3").line]
    assert len(window.texture.rows) == len(kinds)


# --- files, start, recovery -----------------------------------------------------------------------


def test_delivery_writes_what_it_lists(qtbot, window, tmp_path):
    window.show_stage(6)
    stage = window.deliver.files
    stage.folder.setText(str(tmp_path / "out"))
    stage.bits.button(16).click()
    assert stage.write.text() == "Export 7 files"
    stage.parts["midi"].setChecked(False)
    assert stage.write.text() == "Export 6 files"
    qtbot.mouseClick(stage.write, LEFT)
    qtbot.waitUntil(lambda: stage.result.text().startswith("Exported 6 files"), timeout=60_000)
    assert len(list((tmp_path / "out").iterdir())) == 6
    (tmp_path / "file").write_text("x")
    stage.folder.setText(str(tmp_path / "file" / "in"))
    qtbot.mouseClick(stage.write, LEFT)
    qtbot.waitUntil(lambda: "could not make the folder" in stage.result.text(), timeout=60_000)
    assert stage.write.isEnabled()


def test_from_a_card_to_files_in_under_twenty_actions(qtbot, window, tmp_path):
    actions = 0

    def act(what, *arguments):
        nonlocal actions
        actions += 1
        what(*arguments)

    act(qtbot.keyClick, window, Qt.Key.Key_N, Qt.KeyboardModifier.ControlModifier)
    start = window.start
    assert window.room is start
    act(qtbot.mouseClick, start.card.cards["Marlow Quist"], LEFT)
    act(start.bars.button(4).click)
    first = start._loop
    act(qtbot.mouseClick, start.another, LEFT)
    assert start._loop != first
    assert window.heading.under.text() == "not started yet"
    act(qtbot.mouseClick, start.begin, LEFT)
    assert window.session.loop.style == "Marlow Quist"
    assert window.session.loop.bars == 4
    act(qtbot.keyClick, window, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    window.deliver.files.folder.setText(str(tmp_path / "out"))
    actions += 1
    act(qtbot.mouseClick, window.deliver.files.write, LEFT)
    qtbot.waitUntil(
        lambda: window.deliver.files.result.text().startswith("Exported"), timeout=60_000
    )
    assert actions < 20
    kinds = [p.suffix for p in (tmp_path / "out").iterdir()]
    assert kinds.count(".mid") == 1
    assert kinds.count(".wav") >= 5


def test_enter_presses_the_button_in_focus_and_space_plays_everywhere(qtbot, window):
    window.show_stage(1)
    row = window.layers.rows["l1"]
    row.off.setFocus()
    qtbot.keyClick(row.off, Qt.Key.Key_Return)
    assert window.session.loop.layer("l1").mute
    qtbot.keyClick(row.off, Qt.Key.Key_Space)
    assert window.session.loop.layer("l1").mute
    assert window.session.player.playing


def test_a_stage_chosen_on_the_first_start_page_begins_the_loop_shown(qtbot, window):
    window.start_loop()
    window.start.another_variation()
    shown = window.start._loop
    window.rail.chosen.emit(1)
    assert window.room is window.layers
    assert window.session.loop.chords == shown.chords
    assert not window.session.hearing.previewing


def test_a_preview_changes_nothing(qtbot, window):
    before = window.session.loop
    window.start_loop()
    window.start.another_variation()
    assert window.session.hearing.previewing
    window.start.leave()
    assert window.session.loop is before
    assert not window.session.hearing.previewing
    assert window.heading.title.text() == before.title


def test_saving_and_opening(qtbot, window, tmp_path, monkeypatch):
    from PyQt6.QtWidgets import QFileDialog

    session, path = window.session, tmp_path / "Ice Road.cloudrift"
    session.apply("tempo", lambda p: loop_edits.set_tempo(p, 101))
    assert window.windowTitle() == "Ice Road * – Cloudrift"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), ""))
    qtbot.keyClick(window, Qt.Key.Key_S, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: session.document.is_saved, timeout=5000)
    assert load(path).tempo == 101
    assert window.windowTitle() == "Ice Road – Cloudrift"
    bad = tmp_path / "bad.cloudrift"
    bad.write_bytes(path.read_bytes()[:300])
    opened(window, bad)
    assert "not a complete loop file" in window.message.text()
    assert session.loop.tempo == 101
    session.apply("tempo", lambda p: loop_edits.set_tempo(p, 90))
    answer(monkeypatch, "Cancel")
    opened(window, path)
    assert session.loop.tempo == 90  # "Cancel"
    session.document.undo()
    opened(window, path)
    assert session.document.path == path


def test_a_failed_save_is_said_and_nothing_is_lost(window, tmp_path):
    session = window.session
    assert not saved(session.document.save, tmp_path / "none" / "x.cloudrift")
    assert "could not write" in window.message.text()
    assert not session.document.is_saved
    assert session.document.path is None


def test_a_loop_of_another_rate_is_heard_at_the_rate_of_the_speaker(qtbot, window, small_loop):
    from msgspec.structs import replace

    window.session.document.open(replace(small_loop, rate=48_000), None)
    settled(qtbot, window.session)
    qtbot.waitUntil(
        lambda: window.session.hearing.rendered[TREATED].loop.rate == 44_100, timeout=60_000
    )
    assert window.session.hearing.rendered[TREATED].audio.shape[1] == small_loop.frames
    assert window.session.loop.rate == 48_000


def test_unsaved_work_is_kept_and_forgotten_once_saved(session, tmp_path):
    folder = tmp_path / "state"
    session.document.keep_unsaved()
    assert not folder.exists() or not list(folder.iterdir())  # nothing has been done yet
    session.apply("tempo", lambda p: loop_edits.set_tempo(p, 77))
    session.document.keep_unsaved()
    (kept,) = folder.iterdir()
    assert load(kept).tempo == 77
    assert saved(session.document.save, tmp_path / "a.cloudrift")
    assert not list(folder.iterdir())


def test_work_of_a_crash_is_offered_and_opened(qtbot, window, tmp_path, monkeypatch):
    from cloudrift.desktop.frame.app import offer_unsaved

    folder = window.session.document.shelter.folder
    lost = loop_edits.set_tempo(window.session.loop, 66)
    Shelter(folder).keep(lost, None, ClipStore()).rename(folder / "999999.cloudrift")
    answer(monkeypatch, "Open it")
    offer_unsaved(window)
    assert window.session.loop == lost
    assert window.session.document.would_be_lost
    assert not (folder / "999999.cloudrift").exists()


# --- the whole ------------------------------------------------------------------------------------


def test_every_command_is_in_the_menus_and_in_the_finder(qtbot, window):
    finder = window.sheets.commands()
    assert finder.list.count() == sum(a.isEnabled() for a in window.menus.commands)
    qtbot.keyClicks(finder.line, "textur")
    qtbot.keyClick(finder.line, Qt.Key.Key_Return)
    assert window.room is window.texture
    keys = [a.shortcut().toString() for a in window.menus.commands if not a.shortcut().isEmpty()]
    assert len(keys) == len(set(keys))


def luminance(name):
    channels = [QColor(name).redF(), QColor(name).greenF(), QColor(name).blueF()]
    linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in channels]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def test_rooms_are_built_when_they_are_gone_to_or_in_a_quiet_moment(qtbot, window):
    assert "flip" not in window.__dict__
    prints = next(one for one in window.menus.commands if "rints…" in one.text())
    prints.trigger()
    assert window.room is window.flip
    assert window.flip.findChild(PrintsSheet).isVisible()
    window.flip.findChild(PrintsSheet).close()
    window.show_stage(0)
    window.chords.row_bar.typed.setFocus()
    shown = []
    window.stack.currentChanged.connect(shown.append)
    window.furnish()
    qtbot.waitUntil(lambda: all(room in window.__dict__ for room in FURNISHED), timeout=30_000)
    qtbot.waitUntil(lambda: gc.get_freeze_count() > 100_000, timeout=30_000)
    gc.unfreeze()
    pages = [window.stack.widget(at) for at in range(len(ROOMS))]
    assert [type(page.widget()) for page in pages] == list(ROOMS)
    assert set(window.pane.tools) == {*IN_PANE} - {INSPECTOR}
    assert shown == []
    assert window.room is window.chords
    assert not window.keys.isVisible() and window.pane.shows == INSPECTOR


def test_what_is_done_to_the_whole_flip_is_what_its_hands_do(window):
    assert set(WHOLE) < set(window.flip.acts)
    assert set(window.flip.acts) == set(window.flip.hands)
    done = []
    for name in WHOLE:
        window.flip.acts[name] = partial(done.append, name)
        next(one for one in window.menus.commands if one.text() == name).trigger()
        assert done[-1:] == [name]
        assert window.room is window.flip
        window.show_stage(0)


@pytest.mark.parametrize("theme", sorted(look.THEMES))
def test_text_and_marks_have_contrast(theme):
    tokens = look.THEMES[theme]

    def contrast(a, b):
        high, low = sorted(
            (luminance(getattr(tokens, a)), luminance(getattr(tokens, b))), reverse=True
        )
        return (high + 0.05) / (low + 0.05)

    for text in ("ink", "ink_soft", "focus", "signal"):
        for ground in ("paper", "card"):
            assert contrast(text, ground) >= (4.5 if text != "signal" else 4.0), (text, ground)
    for fill in ("ink", "focus", "good"):
        assert contrast("on_ink", fill) >= 4.5, fill
    for ground in ("paper", "card"):  # what is outside the scale is seen to be
        assert contrast("lane", ground) >= 1.35, ground
    for role in ("keys", "pad", "pluck", "bass", "signal", "lead", "strings", "voice", "bell"):
        assert contrast(role, "paper") >= 3, role


@pytest.mark.parametrize("size", [(1280, 800), (1100, 700)])
def test_nothing_overlaps_in_the_heading_at_any_size(qtbot, window, size):
    window.resize(*size)
    qtbot.wait(50)
    heading = window.heading
    parts = [heading.title, heading.key, heading.tempo, heading.length, heading.style_tile,
             heading.play, heading.position, heading.compare, heading.meter]  # fmt: skip
    boxes = [(p.mapTo(window, QPoint(0, 0)).x(), p.width()) for p in parts]
    for (x, width), (following, _) in pairwise(boxes):
        assert x + width <= following
    assert boxes[-1][0] + boxes[-1][1] <= size[0]


def test_both_themes_paint_every_stage(qtbot, window):
    app = look.QApplication.instance()
    seen = []
    for theme in ("Nightfall", "Daybreak"):
        look.apply(app, theme)
        for stage in range(6):
            window.show_stage(stage)
            image = window.grab().toImage()
            seen.append(image.pixelColor(4, 700).name())
    assert len(set(seen[:6])) == len(set(seen[6:])) == 1
    assert seen[0] != seen[6]


def test_a_file_that_takes_long_to_read_is_said(window, small_loop, tmp_path, monkeypatch, qtbot):
    from cloudrift.desktop.frame import files

    gate = threading.Event()
    real = files.load_document

    def slowly(*given, **more):
        assert gate.wait(20)
        return real(*given, **more)

    monkeypatch.setattr(files, "load_document", slowly)
    save(loop_edits.set_tempo(small_loop, 81), tmp_path / "Far.cloudrift")
    window.files.open_file(tmp_path / "Far.cloudrift")
    assert window.session.loop.tempo == 140  # one goes on with what is open
    qtbot.waitUntil(lambda: window.message.text() == "Opening Far.cloudrift…", timeout=5000)
    gate.set()
    qtbot.waitUntil(lambda: window.session.loop.tempo == 81, timeout=5000)
    window.files.open_file(tmp_path / "gone.cloudrift")
    qtbot.waitUntil(lambda: "there is no file" in window.message.text(), timeout=5000)


def test_what_is_said_has_room_round_it_in_either_look(window):
    """A look that is given later takes its padding along."""
    highs = []
    for good in (True, False, True):
        window.say("Something", good=good)
        QCoreApplication.processEvents()
        highs.append(window.message.height())
        assert window.message.contentsRect().left() > 0
    assert len(set(highs)) == 1 and highs[0] > window.message.fontMetrics().height() + 8


def test_a_strangers_signs_do_not_steer_what_is_said(window):
    window.say("dusk\u202egnp.exe\x07 can't be read\nnor kept")
    assert window.message.text().isprintable() and "dusk" in window.message.text()
