"""Folders of one's own: listened to once, kept up, searched; what is missing or spoilt is said."""

import shutil
import sqlite3

import numpy as np
import pytest
from PyQt6.QtCore import Qt

from cloudrift.audio.sound_file import write_wav
from cloudrift.exchange import Wanted
from cloudrift.exchange import folders as owned
from cloudrift.exchange.folders import OwnFolders, _most_like, listen_for_list
from cloudrift.exchange.service import ExchangeError
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.theory import Key
from tests.conftest import AtOnce
from tests.test_recordings import RATE, sine, strokes


@pytest.fixture
def library(tmp_path):
    folder = tmp_path / "library"
    (folder / "voices").mkdir(parents=True)
    beats = np.arange(8) * 0.5
    write_wav(
        folder / "voices" / "ember_120bpm_Em.wav", strokes(beats, 4.0, hz=329.6), RATE, bits=16
    )
    write_wav(folder / "gull_90bpm_C#m.wav", strokes(beats, 4.0, hz=1200.0), RATE, bits=16)
    write_wav(folder / "low.wav", sine(110.0, 1.0), RATE, bits=16)
    (folder / "broken.wav").write_bytes(b"RIFF")
    (folder / "words.txt").write_text("no sound")
    return folder


@pytest.fixture
def folders(tmp_path, library, monkeypatch):
    """Listening in the process itself: tests need no other."""
    monkeypatch.setattr("cloudrift.exchange.folders.ProcessPoolExecutor", AtOnce)
    return OwnFolders(lambda: [library], tmp_path / "cache" / "list.sqlite")


def names(found):
    return sorted(one.offer.name for one in found)


def search(folders, **what):
    return folders.search(Wanted(**what), never)


def test_what_is_there_is_listened_to_once_and_found(folders, library):
    said = []
    counted = folders.index(never, lambda share, words: said.append((share, words)))
    assert counted == (4, 4, 1, ())
    assert said[-1] == (1.0, "analysing your folders: 4 of 4 files")
    assert names(search(folders)) == ["ember_120bpm_Em", "gull_90bpm_C#m", "low"]
    ember = search(folders, words="emb")[0].offer
    assert (ember.tempo, ember.key, ember.seconds) == (120.0, Key("E", "minor"), 4.0)
    assert names(search(folders, words="voices EMBER")) == ["ember_120bpm_Em"]
    assert search(folders, words="gull voices") == []
    assert names(search(folders, key=Key("C#", "minor"), within_st=0, kind="loop")) != []
    file = folders.fetch(ember.id, never, lambda *_: None)
    assert file == library / "voices" / "ember_120bpm_Em.wav"
    assert [path.endswith("broken.wav") for path, _ in folders.problems()] == [True]
    assert folders.index()[1] == 0  # nothing is new, what is broken is not tried again


def test_only_what_changed_is_listened_to_and_what_is_gone_is_forgotten(folders, library):
    folders.index()
    (library / "low.wav").unlink()
    shutil.copy(library / "gull_90bpm_C#m.wav", library / "other_100bpm.wav")
    write_wav(library / "voices" / "ember_120bpm_Em.wav", sine(220.0, 2.0), RATE, bits=16)
    assert folders.index()[:2] == (4, 2)
    assert names(search(folders)) == ["ember_120bpm_Em", "gull_90bpm_C#m", "other_100bpm"]
    assert search(folders, words="ember")[0].offer.seconds == 2.0
    assert search(folders, words="low") == []


def test_a_folder_that_vanishes_is_said_and_kept_in_the_list(folders, library, tmp_path):
    folders.index()
    library.rename(tmp_path / "elsewhere")
    counted = folders.index()
    assert counted.missing == (str(library),)
    assert len(search(folders)) == 3
    with pytest.raises(ExchangeError, match=r"ember_120bpm_Em\.wav is gone"):
        folders.fetch(search(folders, words="ember")[0].offer.id, never, lambda *_: None)


def test_what_is_left_out_is_forgotten(folders, tmp_path):
    folders.index()
    assert OwnFolders(lambda: [], tmp_path / "cache" / "list.sqlite").index() == (0, 0, 0, ())
    assert search(folders) == []


def test_what_is_done_stays_when_it_is_stopped(folders, monkeypatch):
    monkeypatch.setattr("cloudrift.exchange.folders.AT_ONCE", 1)
    done = []
    with pytest.raises(Cancelled):
        folders.index(lambda: len(done) >= 2, lambda share, _words: done.append(share))
    assert len(done) == 2
    assert folders.index()[1] == 2  # the rest


def test_a_list_that_is_spoilt_or_of_another_version_is_made_anew_or_said(folders, tmp_path):
    folders.index()
    file = tmp_path / "cache" / "list.sqlite"
    with sqlite3.connect(file) as base:
        base.execute("PRAGMA user_version = 99")
    assert folders.index()[1] == 4
    file.write_bytes(b"no list" * 1000)
    with pytest.raises(ExchangeError, match="delete it"):
        search(folders)


def test_a_new_list_that_two_open_at_once_is_made_once(folders, monkeypatch):
    """Whoever came second found no list, and finds one when it is its turn to make it."""
    version, asked = owned._version, []

    def looked(base):
        seen = version(base)
        asked.append(seen)
        if len(asked) == 1:  # between looking and making
            assert search(folders) == []
        return seen

    monkeypatch.setattr(owned, "_version", looked)
    assert folders.index()[:3] == (4, 4, 1)
    assert asked[:4] == [0, 0, 0, owned.VERSION]
    assert len(search(folders)) == 3


def test_what_sounds_alike_is_found(folders, library):
    write_wav(library / "low too.wav", sine(112.0, 1.1), RATE, bits=16)
    folders.index()
    low = search(folders, words="low")[0].offer
    assert folders.like(low.id)[0].offer.name.startswith("low")
    assert low.id not in [one.offer.id for one in folders.like(low.id)]
    with pytest.raises(ExchangeError, match="search again"):
        folders.like("gone")


def test_among_ten_thousand_files_the_one_that_is_meant_is_found(folders, tmp_path):
    folders.index()
    with sqlite3.connect(tmp_path / "cache" / "list.sqlite") as base:
        row = base.execute("SELECT * FROM files WHERE problem = '' LIMIT 1").fetchone()
        base.executemany(f"INSERT INTO files VALUES ({', '.join('?' * 14)})",
                         [(f"/x/{i} tide.wav", *row[1:]) for i in range(10_000)])  # fmt: skip
        base.executemany("INSERT INTO words (text) VALUES (?)",
                         [(f"x {i} tide",) for i in range(10_000)])  # fmt: skip
    found = search(folders, words="4321")
    assert [one.offer.id for one in found] == ["/x/4321 tide.wav"]
    assert len(search(folders, words="tide")) == 200  # as many as are shown


def test_a_file_is_listened_to_in_a_process_of_its_own(tmp_path, library):
    real = OwnFolders(lambda: [library], tmp_path / "list.sqlite")
    assert real.index()[:3] == (4, 4, 1)
    assert len(search(real)) == 3
    assert listen_for_list(str(library / "broken.wav")).problem


def test_folders_are_chosen_listened_to_and_searched_in_the_pane(qtbot, window, folders, library):
    session, pane = window.session, window.recordings
    own = OwnFolders(lambda: session.preferences.recording_folders, folders._file)
    pane._services["My folders"] = own
    window.show_stage(1)
    window.open_or_close("Recordings")
    qtbot.mouseClick(pane.where.button("My folders"), Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "no folder yet" in pane.says.text(), timeout=10_000)
    assert pane.first_folder.isVisible() and not pane.list.isVisible()
    for field, value in ((pane.within, "6"), (pane.stretch, "100")):
        field.type_text(value)
    pane.change_folders(also=library)
    qtbot.waitUntil(lambda: len(pane.found) == 3, timeout=60_000)
    assert pane.folders.isVisible() and pane.list.isVisible() and not pane.first_folder.isVisible()
    assert "1 file could not be analysed" in window.message.text()
    pane.search.setText("ember")
    qtbot.waitUntil(lambda: len(pane.found) == 1, timeout=10_000)
    pane.list.setCurrentItem(pane.list.topLevelItem(0))
    qtbot.mouseClick(pane.add, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(session.loop.layers) == 5, timeout=30_000)
    facts = session.loop.layers[-1].recorded.facts
    assert facts.origin == "one of your folders" and facts.licence == ""
    qtbot.mouseClick(pane.like, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(pane.found) == 2, timeout=10_000)
    pane.search.setText("")
    pane.change_folders(without=library)
    qtbot.waitUntil(lambda: "no folder yet" in pane.says.text(), timeout=10_000)
    assert session.preferences.recording_folders == []


def test_likeness_weighs_each_measure_by_how_much_it_varies_and_the_kind(folders):
    def row(name, kind="loop", brightness=1000.0, tempo=120.0):
        return name, kind, brightness, -20.0, 4.0, tempo

    rows = [row("a"), row("tempo", tempo=124.0), row("brighter", brightness=2000.0),
            row("phrase", "phrase"), row("dark", brightness=60.0),
            row("bright", brightness=15_000.0)]  # fmt: skip
    near = [rows[i][0] for i in _most_like(rows, 0)]
    assert near == ["brighter", "bright", "dark", "phrase", "tempo"]  # never itself


def test_what_cannot_be_heard_or_seen_is_not_offered(folders, library):
    shutil.copy(library / "low.wav", library / ".hidden low.wav")
    folders.index()
    assert search(folders, words="broken") == [] == search(folders, words="hidden")
    assert names(search(folders, words="low")) == ["low"]
