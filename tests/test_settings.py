"""The program itself: settings, recent files, help, its place on the screen, what is kept."""

import json

import numpy as np
import pytest
from filelock import FileLock
from msgspec.structs import replace
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import QFileDialog, QInputDialog, QLabel

import cloudrift.desktop.frame.settings_sheet as sheet_room
import cloudrift.desktop.session.hearing.transport as transport_room
import cloudrift.desktop.session.preferences as preferences_room
from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.frame.help_sheet import NEXT_KEYS, NOTE_KEYS, STAGE_KEYS, THREAD_KEYS
from cloudrift.desktop.frame.window import Window
from cloudrift.desktop.kit import look
from cloudrift.desktop.session.preferences import MOST_RECENT, Preferences, Wishes
from cloudrift.desktop.session.session import Session
from cloudrift.desktop.stages.layers.notes.model import chord_names
from cloudrift.devices import SilentSpeaker, open_speaker, speakers
from cloudrift.devices import speaker as speaker_room
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.edits.layers.from_notes import MOST_NAMED, chords_of
from cloudrift.loop.edits.layers.new_layer import usual_layer
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import load, save
from cloudrift.notes import Note
from cloudrift.render import Engine
from cloudrift.sound import find_sound
from cloudrift.sound.own import OwnSound, with_settings
from cloudrift.sound.own_files import load_own, own_sounds, save_own
from tests.conftest import FakeSpeaker
from tests.hands import saved

LEFT = Qt.MouseButton.LeftButton


# --- preferences ------------------------------------------------------------------------------


def test_two_programs_keep_each_others_wishes(tmp_path):
    one, other = Preferences(tmp_path), Preferences(tmp_path)
    one.change(theme="Nightfall")
    other.change(size_percent=125)
    for i, preferences in enumerate((one, other)):
        path = tmp_path / f"{i}.cloudrift"
        path.write_text("x")
        preferences.opened(path)
    again = Preferences(tmp_path)
    assert (again.now.theme, again.now.size_percent) == ("Nightfall", 125)
    assert [path.name for path in again.recent] == ["1.cloudrift", "0.cloudrift"]
    assert other.now == again.now
    for file in (one.file, tmp_path / "settings.lock"):
        assert file.stat().st_mode & 0o077 == 0  # for nobody else to read


def test_a_value_that_is_not_allowed_resets_itself_alone_and_is_said(tmp_path):
    file = Preferences(tmp_path).file
    text = '{"theme": "Mauve", "size_percent": 125, "bits": "x", "of a later program": [1]}'
    file.write_text(text)
    wishes = Preferences(tmp_path)
    assert wishes.now == Wishes(size_percent=125)
    assert len(wishes.wrong) == 2
    assert "theme is 'Mauve', but must be one of Daybreak, Nightfall" in wishes.wrong[0]
    assert "settings.json.bak" in wishes.wrong[0]
    assert file.with_name("settings.json.bak").read_text() == text
    wishes.change(target_lufs=-14.0)
    assert json.loads(file.read_text()) == {"size_percent": 125, "of a later program": [1],
                                            "target_lufs": -14.0}  # fmt: skip
    assert Preferences(tmp_path).wrong == ()


def test_settings_that_another_program_holds_are_said_and_hold_here(tmp_path, monkeypatch):
    monkeypatch.setattr(preferences_room, "LOCKED_S", 0.05)
    wishes = Preferences(tmp_path)
    wishes.change(bits=16)
    held = FileLock(tmp_path / "settings.lock")
    with held, pytest.raises(CloudriftError, match="could not be kept"):
        wishes.change(bits=24)
    assert wishes.now.bits == 24 and Preferences(tmp_path).now.bits == 16


def test_wishes_are_kept_and_a_broken_file_counts_as_empty(tmp_path):
    first = Preferences(tmp_path)
    first.change(theme="Nightfall", buffer_ms=80, files=str(tmp_path))
    again = Preferences(tmp_path)
    assert again.now == Wishes(theme="Nightfall", buffer_ms=80, files=str(tmp_path))
    assert again.folder == tmp_path
    for broken in ("no json", '{"theme": "Mauve"}', '{"buffer_ms": 3}', '{"size_percent": "x"}'):
        first.file.write_text(broken)
        assert Preferences(tmp_path).now == Wishes()
    first.file.write_text('{"theme": "Nightfall", "of a later program": 1}')
    assert Preferences(tmp_path).now.theme == "Nightfall"


def test_what_cannot_be_kept_is_said_and_work_goes_on(tmp_path):
    blocked = tmp_path / "file"
    blocked.write_text("x")
    wishes = Preferences(blocked / "in")
    with pytest.raises(CloudriftError, match="could not make"):
        wishes.change(theme="Nightfall")
    wishes.remember(delivery="/somewhere")
    assert wishes.now.delivery == "/somewhere"


def test_recent_files_are_the_last_ones_that_are_still_there(tmp_path):
    wishes = Preferences(tmp_path)
    paths = [tmp_path / f"{i}.cloudrift" for i in range(MOST_RECENT + 2)]
    for path in paths:
        path.write_text("x")
        wishes.opened(path)
    wishes.opened(paths[5])
    found = wishes.recent
    assert found[:2] == [paths[5], paths[-1]]
    assert len(found) == MOST_RECENT
    assert len(set(found)) == MOST_RECENT
    paths[-1].unlink()
    assert paths[-1] not in wishes.recent


def test_recent_files_are_opened_from_the_menu(qtbot, window, tmp_path, monkeypatch):
    window.recent.aboutToShow.emit()
    assert [a.isEnabled() for a in window.recent.actions()] == [False]
    path = tmp_path / "Ice & Road.cloudrift"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(path), ""))
    assert saved(window.files.save)
    window.session.document.open(window.session.loop, None)
    window.session.document.begun = False  # nothing to ask for
    window.recent.aboutToShow.emit()
    action = window.recent.actions()[0]
    assert action.text().startswith("Ice && Road\t")
    action.trigger()
    qtbot.waitUntil(lambda: window.session.document.path == path, timeout=10_000)


def test_the_delivery_folder_is_remembered(qtbot, window, tmp_path):
    window.show_stage(6)
    assert window.deliver.files.folder.text() == str(window.session.preferences.folder / "Loops")
    window.deliver.files.folder.setText(str(tmp_path / "out"))
    qtbot.mouseClick(window.deliver.files.write, LEFT)
    qtbot.waitUntil(lambda: "Exported" in window.deliver.files.result.text(), timeout=60_000)
    kept = json.loads(Preferences().file.read_text())
    assert kept["delivery"] == str(tmp_path / "out")
    assert Preferences().delivery == tmp_path / "out"


# --- the page ---------------------------------------------------------------------------------


@pytest.fixture
def sheet(window, monkeypatch):
    monkeypatch.setattr(sheet_room, "speakers", lambda: ("Desk", "Headphones"))
    monkeypatch.setattr(sheet_room, "keyboards", lambda: ("Small keys",))
    made = window.sheets.settings()
    yield made
    made.close()


def test_another_speaker_or_buffer_plays_at_once(qtbot, window, sheet, monkeypatch):
    asked = []

    def opened(rate, name, buffer_ms):
        asked.append((rate, name, buffer_ms))
        return FakeSpeaker()

    monkeypatch.setattr(transport_room, "open_speaker", opened)
    before = window.session.transport.speaker
    sheet.speaker.setCurrentIndex(2)
    sheet.speaker.activated.emit(2)
    qtbot.mouseClick(sheet.buffer.button(80), LEFT)
    rate = window.session.player.rate
    assert asked == [(rate, "Headphones", 20), (rate, "Headphones", 80)]
    assert before.closed
    handed = window.session.player.stamp.handed
    for _ in range(2):
        window.session.transport.speaker.pull(64)
    assert window.session.player.stamp.handed >= handed + 64, "it is not the player that it asks"
    assert Preferences().now == Wishes(speaker="Headphones", buffer_ms=80)
    window.session.transport.speaker.close()
    window.session.transport.speaker = before  # the fixture looks at it


def test_a_speaker_that_runs_dry_gets_a_longer_buffer_by_itself(window, monkeypatch):
    asked = []

    def opened(rate, name, buffer_ms):
        asked.append(buffer_ms)
        return FakeSpeaker()

    monkeypatch.setattr(transport_room, "open_speaker", opened)
    transport, player = window.session.transport, window.session.player
    before = transport.speaker
    transport.set_playing(True)
    player.gaps += 1
    for _ in range(12):  # once: an accident
        transport._look_for_gaps()
    assert not asked
    for _ in range(2):
        player.gaps += 3
        transport._look_for_gaps()
    assert asked == [40]
    assert before.closed
    assert "40 ms" in window.message.text()
    sheet = window.sheets.settings()
    assert sheet.buffer.button(40).isChecked()
    sheet.close()
    assert window.session.preferences.now.buffer_ms == 20  # what was wished for is not forgotten
    transport.set_playing(False)
    for _ in range(4):  # nobody hears it
        player.gaps += 1
        transport._look_for_gaps()
    assert asked == [40]
    transport.set_playing(True)
    for _ in range(12):  # up to the longest there is
        player.gaps += 1
        transport._look_for_gaps()
    assert asked == [40, 80, 160]
    transport.speaker = before  # the fixture looks at it


def test_theme_size_keyboard_and_folder(qtbot, app, window, sheet, tmp_path):
    qtbot.mouseClick(sheet.theme.button("Nightfall"), LEFT)
    assert look.look.name == "Nightfall"
    qtbot.mouseClick(sheet.size_of.button(125), LEFT)
    assert "next start" in sheet.words.text()
    sheet.keyboard.setCurrentIndex(1)
    sheet.keyboard.activated.emit(1)
    sheet.files.setText(str(tmp_path / "none"))
    sheet.files.editingFinished.emit()
    assert "no folder" in sheet.words.text()
    sheet.files.setText(str(tmp_path))
    sheet.files.editingFinished.emit()
    assert Preferences().now == Wishes(theme="Nightfall", size_percent=125, keyboard="Small keys",
                                       files=str(tmp_path))  # fmt: skip
    qtbot.mouseClick(sheet.theme.button(""), LEFT)
    assert look.look.name == look.theme_of(app, "")
    look.apply(app, "Daybreak")


def test_a_device_that_is_not_there_says_so(window, monkeypatch):
    window.session.preferences.change(speaker="Old desk", keyboard="Old keys")
    sheet = window.sheets.settings()
    assert sheet.speaker.currentText() == "Old desk (not plugged in)"
    assert sheet.keyboard.currentText() == "Old keys (not plugged in)"
    sheet.close()


def test_a_speaker_that_is_not_there_is_the_systems(monkeypatch):
    monkeypatch.setattr(speaker_room, "_playbacks", lambda: [{"name": "Desk", "id": None}])
    assert speakers() == ("Desk",)
    opened = open_speaker(44_100, "Gone", 20)  # whatever there is, also nothing
    opened.close()
    assert isinstance(opened, SilentSpeaker) or opened.name


def test_play_keys_opens_with_the_keyboard_that_is_wished(window, monkeypatch):
    import cloudrift.desktop.stages.keys.strip as room

    made = []

    class Fake:
        def __init__(self, name, down, up):
            self.name = name
            made.append(name)

        def close(self):
            pass

    monkeypatch.setattr(room, "keyboards", lambda: ("Big keys", "Small keys"))
    monkeypatch.setattr(room, "MidiKeyboard", Fake)
    window.session.preferences.change(keyboard="Small keys")
    window.open_keys()
    assert made == ["Small keys"]
    assert window.keys.source.currentText() == "Small keys"


def test_the_window_is_no_larger_than_the_screen_has_room(app, small_loop, tmp_path, qtbot):
    session = Session(small_loop, None, FakeSpeaker(), shelter=Shelter(tmp_path / "s"))
    window = Window(session)
    window.fit(QSize(1024, 640))
    window.show()
    assert window.width() <= 1024
    assert window.height() <= 640
    window.fit(QSize(3000, 2000))
    assert (window.width(), window.height()) == (1280, 800)
    window.close()


# --- help -------------------------------------------------------------------------------------


def test_help_shows_the_keys_of_the_stage_and_all_commands(window):
    for stage in range(6):
        window.show_stage(stage)
        sheet = window.sheets.keys()
        said = {label.text() for label in sheet.findChildren(QLabel)}
        for _, keys in list(STAGE_KEYS.values())[stage]:
            assert {what for _, what in keys} <= said
        assert {"Save", "Keys of this stage"} <= said
        sheet.close()
    about = window.sheets.about()
    assert any("Cloudrift" in label.text() for label in about.findChildren(QLabel))
    about.close()


KEY_NAMES = {"Arrows": "Left Right Up Down", "Enter": "Return", "Page Up": "PageUp",
             "Page Down": "PageDown", "1 to 7": "1 7"}  # fmt: skip
HELD = {"Ctrl": Qt.KeyboardModifier.ControlModifier, "Shift": Qt.KeyboardModifier.ShiftModifier,
        "Alt": Qt.KeyboardModifier.AltModifier}  # fmt: skip


@pytest.mark.parametrize("what", ["threads", "next", "notes"])
def test_every_key_that_help_names_is_taken(window, what):
    from PyQt6.QtCore import QEvent
    from PyQt6.QtGui import QKeyEvent

    session = window.session
    if what == "notes":
        window.show_stage(1)
        session.apply("x", lambda loop: own_notes.detach(loop, loop.layers[0].id))
        session.select(layer_id=session.loop.layers[0].id)
        widget, keys = window.layers.notes.grid, NOTE_KEYS
    elif what == "threads":
        widget, keys = window.chords.threads, THREAD_KEYS
    else:
        widget, keys = window.chords.next.tiles[0], NEXT_KEYS
    for words, _ in keys:
        held = Qt.KeyboardModifier.NoModifier
        for part in words.split(", "):
            part = KEY_NAMES.get(part, part)  # noqa: PLW2901
            for name in part.split():
                *mods, key = KEY_NAMES.get(name, name).split("+")
                if mods:
                    held = HELD[mods[0]]
                for one in KEY_NAMES.get(key, key).split():
                    code = getattr(Qt.Key, f"Key_{one}")
                    event = QKeyEvent(QEvent.Type.KeyPress, code.value, held)
                    event.accept()
                    widget.keyPressEvent(event)
                    assert event.isAccepted(), (what, words, one)


# --- own sounds out of house sounds -----------------------------------------------------------


def test_a_house_sound_as_it_is_set_is_an_own_sound(small_loop, tmp_path):
    loop = layer_edits.set_sound_setting(small_loop, "l1", "decay_ms", 900.0)
    loop = layer_edits.set_sound_setting(loop, "l1", "brightness", 80.0)
    use = loop.layer("l1").source.sound
    own = with_settings("Short felt", use.own, use.of, use.settings)
    made = layer_edits.set_sound(loop, "l1", own)
    assert made.layer("l1").source.sound.settings == ()
    assert made.layer("l1").role == find_sound("felt upright").role
    engine = Engine()
    assert np.array_equal(engine.render(made).audio, engine.render(loop).audio)
    plain = layer_edits.set_sound(loop, "l1", "felt upright")
    assert not np.array_equal(engine.render(plain).audio, engine.render(loop).audio)
    # Two of one name are not taken for each other.
    other = replace(own, settings=(("decay_ms", 3000.0),))
    assert own.instrument.identity != other.instrument.identity
    engine.close()
    save(made, tmp_path / "a.cloudrift")
    assert load(tmp_path / "a.cloudrift") == made
    save_own(own, ClipStore(), tmp_path)
    assert [one.own for one in own_sounds(tmp_path)] == [own]
    assert load_own(next(tmp_path.glob("*.cloudsound"))) == own
    again = with_settings("Shorter", own, own.instrument, (("decay_ms", 300.0),))
    assert dict(again.settings) == {**dict(own.settings), "decay_ms": 300.0}
    assert dict(own.settings)["brightness"] == 80.0
    assert again.house == "felt upright"
    assert not OwnSound(name="x", house="felt piano").known  # kept, and silent
    with pytest.raises(CloudriftError, match="there is no setting called"):
        OwnSound(
            name="x",
            house="felt upright",
            version=find_sound("felt upright").version,
            settings=(("crunch", 1.0),),
        )


def test_an_own_sound_out_of_a_house_sound_plays_in_its_familys_way(small_loop):
    for name in ("round sub", "long drum", "warm pad"):
        own = OwnSound(name="Mine", house=name, version=find_sound(name).version)
        mine = usual_layer(small_loop, layer_edits.sound_use(own))
        theirs = usual_layer(small_loop, layer_edits.sound_use(name))
        assert mine.with_source(sound=theirs.source.sound).source == theirs.source
        assert mine.level_db == theirs.level_db


def test_a_sound_is_kept_from_the_inspector(qtbot, window, monkeypatch):
    window.show_stage(1)
    session = window.session
    session.select(layer_id="l1")
    session.apply("x", lambda loop: layer_edits.set_sound_setting(loop, "l1", "decay_ms", 900.0))
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("Short felt", True))
    qtbot.mouseClick(window.layers.inspector.keep, LEFT)
    sound = session.loop.layer("l1").source.sound
    assert (sound.name, sound.own.house) == ("Short felt", "felt upright")
    assert [one.own.name for one in own_sounds()] == ["Short felt"]
    assert window.layers.inspector.fields["sound decay_ms"].value == 900
    session.document.undo()
    assert session.loop.layer("l1").source.sound.own is None
    assert [one.own.name for one in own_sounds()] == ["Short felt"]


def test_a_sound_kept_before_the_shelf_was_seen_stands_beside_those_of_other_days(window):
    mine = OwnSound(name="Mine", house="warm pad", version=find_sound("warm pad").version)
    save_own(mine, ClipStore())
    window.session.select(layer_id="l1")
    window.shelf.take_own(OwnSound(name="Mine", house="felt upright",
                                   version=find_sound("felt upright").version))  # fmt: skip
    assert "Mine already exists" in window.message.text()
    assert window.session.loop.layer("l1").source.sound.name == "Mine 2"
    window.open_shelf()
    names = {sound.name for sound in window.shelf.grid.sounds}
    assert {"Mine", "Mine 2"} <= names


# --- chords of a layer's own notes ------------------------------------------------------------


def test_chords_of_own_notes_are_named_and_a_tune_has_those_of_the_row(window):
    session = window.session
    row = [c.read(session.loop.key).text for c in session.loop.chords]
    session.apply("x", lambda loop: own_notes.detach(loop, "l1"))
    session.apply("x", lambda loop: loop_edits.set_key(replace(loop, chords=()), loop.key))
    loop = session.loop
    named = [name for _, name in chord_names(loop, loop.layer("l1"))]
    assert named == row  # read from the notes: the row is empty
    tune = [Note(start_tick=480 * i, length_ticks=460, pitch=66 + i % 3, velocity=80)
            for i in range(8)]  # fmt: skip
    loop = own_notes.with_own(loop, "l1", tune)
    assert chord_names(loop, loop.layer("l1")) == ()
    crowd = [Note(start_tick=3 * i, length_ticks=900, pitch=40 + i % 40, velocity=80)
             for i in range(MOST_NAMED + 1)]  # fmt: skip
    loop = own_notes.with_own(loop, "l1", crowd)
    assert chords_of(loop, loop.layer("l1")) == ()


def test_the_row_is_taken_from_a_layers_own_notes(window):
    session = window.session
    before = session.loop.chords
    session.apply("x", lambda loop: own_notes.detach(loop, "l1"))
    session.apply("x", lambda loop: replace(loop, chords=()))
    session.select(layer_id="l1")
    window.importing.chords_of_layer()
    assert [c.root for c in session.loop.chords] == [c.root for c in before]
    assert "other layers follow" in window.message.text()
    session.select(layer_id="l2")
    window.importing.chords_of_layer()
    assert "has no notes of its own" in window.message.text()
