"""Files from strangers: what is wrong with one is said in a sentence, soon, in little memory."""

import contextlib
import functools
import io
import json
import os
import random
import signal
import struct
import subprocess
import sys
import time
import tracemalloc
import zipfile
import zlib
from pathlib import Path

import msgspec
import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog

from cloudrift.audio import files as audio_files
from cloudrift.audio.about import About
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import read_audio
from cloudrift.audio.sound_file import write_wav
from cloudrift.desktop.session.preferences import Preferences
from cloudrift.ground import CloudriftError, paths
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.reading import read_archive, read_file, read_toml, read_words, reading
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.files import recovery as recovery_room
from cloudrift.loop.files.recovery import Shelter, left_behind
from cloudrift.loop.files.storage import MAX_JSON_BYTES, SCHEMA, load, loop_from, read_note, save
from cloudrift.loop.sounding import notes_of
from cloudrift.notes import Note
from cloudrift.notes.find_chords import _Near, find_chords
from cloudrift.notes.from_midi import read_song
from cloudrift.notes.midi import midi_file
from cloudrift.render.measure.step_facts import step_facts
from cloudrift.sound import own_files
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import load_own, own_sounds, save_own
from cloudrift.sound.own_import import loop_points, read_recording
from cloudrift.style import find_card, sketch
from cloudrift.texture.finish_files import own_finishes
from cloudrift.texture.line_file import parse_line
from tests.conftest import wait_for
from tests.hands import saved
from tools import fuzz
from tools.hostile import LARGE, MAKERS

PLANTED = "import pathlib\npathlib.Path(__file__).with_name('ran').write_text('x')\n"
LONGEST_MESSAGE = 300


def sentence(error):
    """What a composer is told: one line, not too long."""
    words = str(error.value)
    assert "\n" not in words
    assert len(words) <= LONGEST_MESSAGE + 200  # the path of a test's folder is long
    return words


# --- the folder that one starts in --------------------------------------------------------------


@pytest.mark.parametrize("how", [["-m", "cloudrift", "info", "a.cloudrift"], "stretch"])
def test_nothing_of_the_folder_one_is_in_is_run(small_loop, tmp_path, how):
    save(small_loop, tmp_path / "a.cloudrift")
    for name in ("numpy", "msgspec", "struct", "soxr", "click"):
        (tmp_path / f"{name}.py").write_text(PLANTED)
    if how == "stretch":
        # As the program does it: its own folder is not the one that it is started in.
        code = (
            "import sys, os; sys.path[:] = [p for p in sys.path if p]\n"
            f"import numpy as np; os.chdir({str(tmp_path)!r})\n"
            "from cloudrift.audio.stretch import pitch_shifted\n"
            "t = np.zeros((2, 40000), np.float32); print(pitch_shifted(t, 3, 44100).shape)"
        )
        how = ["-P", "-c", code]
    done = subprocess.run([sys.executable, *how], cwd=tmp_path, capture_output=True, text=True,
                          timeout=60, check=False)  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert not (tmp_path / "ran").exists()


# --- archives -----------------------------------------------------------------------------------


def zipped(path, members, method=zipfile.ZIP_DEFLATED):
    with zipfile.ZipFile(path, "w", method) as archive:
        for name, body in members:
            archive.writestr(name, body)
    return path


def lying(path, body):
    """A zip whose member says that it is empty and inflates to much."""
    packer = zlib.compressobj(9, zlib.DEFLATED, -15)
    packed = packer.compress(body) + packer.flush()
    name, crc = b"loop.json", zlib.crc32(b"")
    local = struct.pack("<4sHHHHHIIIHH", b"PK\3\4", 20, 0, 8, 0, 0, crc, len(packed), 0,
                        len(name), 0) + name  # fmt: skip
    central = struct.pack("<4sHHHHHHIIIHHHHHII", b"PK\1\2", 20, 20, 0, 8, 0, 0, crc, len(packed),
                          0, len(name), 0, 0, 0, 0, 0, 0) + name  # fmt: skip
    end = struct.pack("<4sHHHHIIH", b"PK\5\6", 0, 0, 1, 1, len(central),
                      len(local) + len(packed), 0)  # fmt: skip
    path.write_bytes(local + packed + central + end)
    return path


@pytest.mark.parametrize(
    ("members", "method", "says"),
    [
        ([("loop.json", b"{}"), ("../x", b"")], zipfile.ZIP_DEFLATED, "which is not part of"),
        ([("loop.json", b"{}"), ("clips/../../x.flac", b"")], zipfile.ZIP_STORED, "not part of"),
        ([("loop.json", b"{}")], zipfile.ZIP_LZMA, "uses a compression"),
        ([("loop.json", b"{}")], zipfile.ZIP_BZIP2, "uses a compression"),
        ([("origin.txt", b"x")], zipfile.ZIP_STORED, "not a complete loop file"),
        ([("origin.txt", bytes(1 << 17)), ("loop.json", b"{}")], zipfile.ZIP_DEFLATED, "larger"),
    ],
)
def test_archives_are_looked_at_before_they_are_believed(tmp_path, members, method, says):
    path = zipped(tmp_path / "a.cloudrift", members, method)
    with pytest.raises(CloudriftError, match=says) as error:
        load(path, ClipStore())
    assert "a.cloudrift" in sentence(error)


def test_all_that_is_in_an_archive_is_counted_together(tmp_path):
    path = zipped(tmp_path / "a.zip", [("a", bytes(600)), ("b", bytes(600)), ("c", b"")])
    read = functools.partial(read_archive, path, "box", lambda _name: True, {"c": 10})
    streams = []
    assert {name: len(body) for name, body in read(1200).items()} == {"a": 600, "b": 600, "c": 0}
    with pytest.raises(CloudriftError, match="b is larger than any box"):
        read(1199)
    with pytest.raises(CloudriftError, match="b is larger than any box"):
        read(1199, large=lambda stream: streams.append(stream.read(4096)))
    assert streams == [bytes(600)]


def test_a_bomb_is_stopped_where_it_is_too_large(tmp_path):
    path = zipped(tmp_path / "a.cloudrift", [("loop.json", b" " * (MAX_JSON_BYTES + 10))])
    assert path.stat().st_size < 1 << 20
    with pytest.raises(CloudriftError, match="larger than any loop file"):
        load(path)
    with pytest.raises(CloudriftError, match=r"a\.cloudrift"):
        load(lying(tmp_path / "a.cloudrift", b" " * (1 << 20)))


def test_encrypted_members_and_what_is_no_plain_file_are_refused(small_loop, tmp_path):
    path = tmp_path / "a.cloudrift"
    save(small_loop, path)
    raw = bytearray(path.read_bytes())
    for mark, at in ((b"PK\3\4", 6), (b"PK\1\2", 8)):
        raw[raw.index(mark) + at] |= 1
    path.write_bytes(raw)
    with pytest.raises(CloudriftError, match="is encrypted"):
        load(path)
    os.mkfifo(tmp_path / "pipe.cloudrift")
    for read in (load, load_own):
        with pytest.raises(CloudriftError, match="not a plain file"):
            read(tmp_path / "pipe.cloudrift")
    with pytest.raises(CloudriftError, match="not a plain file"):
        read_song(tmp_path / "pipe.cloudrift")
    assert read_note(path, "origin.txt") == ""


# --- loops --------------------------------------------------------------------------------------


def document(loop, **changes):
    raw = json.loads(msgspec.json.encode(loop))
    raw.update(changes)
    return raw


def as_bytes(raw):
    text = json.dumps({"format": "cloudrift loop", "schema": SCHEMA, "loop": raw}, allow_nan=True)
    return text.encode()


@pytest.mark.parametrize("name", ["offset_ms", "glide_ms"])
@pytest.mark.parametrize("value", [1e308, -1e308, 1e5, -(10**400)],
                         ids=["large", "minus", "far", "endless"])  # fmt: skip
def test_notes_keep_near_their_places(small_loop, name, value):
    raw = document(small_loop)
    note = {"start_tick": 0, "length_ticks": 480, "pitch": 60, "id": 1, name: value}
    raw["layers"][0]["source"] |= {"kind": "notes", "notes": [note]}
    with pytest.raises(CloudriftError, match=r"a\.cloudrift"):
        loop_from(as_bytes(raw), "a.cloudrift")


def test_a_draw_out_of_range_is_said(small_loop):
    with pytest.raises(CloudriftError, match="variation is -5"):
        sketch(find_card("Marlow Quist"), variation=-5)


def test_deep_nesting_and_endless_digits_are_said():
    for text in (b"[" * 200_000, b'{"format": ' + b"[" * 100_000, b"9" * 100_000,
                 b'{"format": "cloudrift loop", "schema": ' + b"9" * 5000 + b"}"):  # fmt: skip
        with pytest.raises(CloudriftError, match=r"a\.cloudrift") as error:
            loop_from(text, "a.cloudrift")
        sentence(error)


@pytest.mark.parametrize(
    "path",
    [
        "tempo",
        "variation",
        "bars",
        "rate",
        "chords.0.root",
        "chords.0.voices.0",
        "chords.0.start_tick",
        "chords.0.late_ticks",
        "layers.0.source.lens.variation",
        "layers.0.source.lens.voices",
        "layers.0.source.touch.variation",
        "layers.0.source.touch.velocity",
        "layers.0.level_db",
        "layers.0.source.notes",
        "layers.0.source.lens.late_bars",
        "layers.0.source.lens.where",
        "line.0.variation",
        "line.0.blend",
        "line.0.version",
    ],
)
@pytest.mark.parametrize(
    "value",
    [-1, 1 << 68, -(10**400), 1e308, "x", None, [], {}, [-1], [1 << 68], [[0, 1]] * 300],
    ids=["minus", "huge", "endless", "large", "word", "none", "list", "map", "minuses", "huges",
         "many"],
)  # fmt: skip
def test_values_of_any_kind_are_refused_in_words_or_taken(small_loop, path, value):
    raw = document(small_loop)
    *way, last = path.split(".")
    place = raw
    for step in way:
        place = place[int(step) if step.isdigit() else step]
    place[int(last) if last.isdigit() else last] = value
    try:
        loop = loop_from(as_bytes(raw), "a.cloudrift")
    except CloudriftError as error:
        assert "a.cloudrift" in str(error)
        return
    # What is taken can be worked with.
    for layer in loop.layers:
        notes_of(loop, layer)


# --- sounds, audio ------------------------------------------------------------------------------


def flac(channels=2, rate=44_100, frames=1000, kind="FLAC"):
    body = io.BytesIO()
    soundfile.write(body, np.zeros((frames, channels), np.float32), rate, format=kind)
    return body.getvalue()


@pytest.mark.parametrize(
    ("body", "says"),
    [(flac(channels=1), "two channels"), (flac(channels=8), "two channels"),
     (flac(kind="WAV"), "not FLAC"), (flac(rate=1000), "sample rate of 1000 Hz"),
     (flac(frames=0), "can't be read"), (b"x", "can't be read")],
)  # fmt: skip
def test_clips_are_what_they_are_taken_for(body, says):
    with pytest.raises(CloudriftError, match=says):
        ClipStore().add(io.BytesIO(body))


def test_recordings_that_are_too_long_or_no_numbers_are_refused(tmp_path, monkeypatch):
    t = np.zeros((2, 5000), np.float32)
    write_wav(tmp_path / "a.wav", t, 44_100, bits=32, about=About(title="a"))
    monkeypatch.setattr(audio_files, "MOST_SAMPLES", 8000)
    with pytest.raises(CloudriftError, match="too long to import"):
        read_audio(tmp_path / "a.wav")
    assert read_audio(tmp_path / "a.wav", 0.05)[0].shape == (2, 2205)
    monkeypatch.undo()
    for bad in (np.nan, np.inf):
        t[1, 77] = bad
        write_wav(tmp_path / "b.wav", t, 44_100, bits=32, about=About(title="b"))
        with pytest.raises(CloudriftError, match="are not numbers"):
            read_audio(tmp_path / "b.wav")
    soundfile.write(tmp_path / "c.wav", np.zeros(100), 100)
    with pytest.raises(CloudriftError, match="sample rate is"):
        read_audio(tmp_path / "c.wav")
    soundfile.write(tmp_path / "d.wav", np.ones((500, 6)) * np.arange(6) / 10, 44_100)
    audio, _ = read_audio(tmp_path / "d.wav")
    assert audio.shape == (2, 500)
    assert np.allclose(audio[:, 3], (0, 0.1), atol=1e-3)


def test_a_header_that_claims_more_than_there_is_costs_nothing(tmp_path):
    write_wav(tmp_path / "a.wav", np.full((2, 500), 0.25, np.float32), 44_100, bits=16,
              about=About(title="a"))  # fmt: skip
    raw = bytearray((tmp_path / "a.wav").read_bytes())
    at = raw.index(b"data") + 4
    raw[at : at + 4] = struct.pack("<I", 0xFFFF_FFF0)
    (tmp_path / "a.wav").write_bytes(raw)
    try:
        audio, _ = read_audio(tmp_path / "a.wav")
    except CloudriftError:
        return
    assert audio.shape[1] < 2000


def test_an_own_sound_that_could_not_be_opened_again_is_not_saved(tmp_path, clips, monkeypatch):
    path = tmp_path / "x A4.wav"
    t = 0.3 * np.sin(2 * np.pi * 440 * np.arange(20_000) / 44_100)
    write_wav(path, np.stack([t, t]).astype(np.float32), 44_100, bits=16, about=About(title="x"))
    own = OwnSound(name="Large", recordings=(read_recording(path, clips)[0],))
    monkeypatch.setattr(own_files, "MAX_BYTES", 1000)
    with pytest.raises(CloudriftError, match="could not be opened again"):
        save_own(own, clips, tmp_path / "sounds")
    assert own_sounds(tmp_path / "sounds") == []


def test_broken_own_sounds_finishes_and_leftovers_stop_nothing(tmp_path):
    for name in ("a", "1"):
        zipped(tmp_path / f"{name}.cloudsound", [("sound.json", b"[" * 100_000)])
        zipped(tmp_path / f"{name}.cloudrift", [("loop.json", b"[" * 100_000)])
    assert own_sounds(tmp_path) == []
    assert left_behind(ClipStore(), tmp_path) == []
    (tmp_path / "deep.toml").write_text("x = " + "[" * 3000)
    (tmp_path / "long.toml").write_text("x = " + "9" * 5000)
    (tmp_path / "latin.toml").write_bytes("x = 'Föhn'".encode("latin-1"))
    found, wrong = own_finishes(tmp_path)
    assert found == []
    assert len(wrong) == 3
    assert sum("UTF-8" in words for words in wrong) == 1


# --- words --------------------------------------------------------------------------------------


def test_cards_and_lines_are_read_in_the_same_frame(tmp_path):
    deep = tmp_path / "deep.toml"
    deep.write_text("name = " + "[" * 3000)
    with pytest.raises(CloudriftError, match=r"deep\.toml"):
        find_card(str(deep))
    with pytest.raises(CloudriftError, match="there is no file"):
        find_card(str(tmp_path / "none.toml"))
    with pytest.raises(CloudriftError, match=r"x\.toml"):
        parse_line("a = " + "{b=" * 3000, "x.toml")
    deep.write_bytes(b"\xff\xfe")
    with pytest.raises(CloudriftError, match="not in UTF-8"):
        read_words(deep, "style card")
    with pytest.raises(CloudriftError, match="larger than any note"):
        read_file(deep, "note", most=1)
    with pytest.raises(CloudriftError, match="could not read"):
        read_file(tmp_path / ("x" * 300), "note")
    assert read_toml("a = 1", "x", dict[str, int]) == {"a": 1}


def test_what_a_reader_raises_never_comes_out_as_it_is():
    for error in (KeyError("x"), ZeroDivisionError(), RecursionError(), MemoryError(),
                  OverflowError("a\nb"), struct.error("y" * 2000)):  # fmt: skip
        with pytest.raises(CloudriftError, match=r"^a\.mid is not a MIDI file") as said, \
                reading("a.mid", "MIDI file"):  # fmt: skip
            raise error
        assert len(sentence(said)) < LONGEST_MESSAGE


# --- MIDI ---------------------------------------------------------------------------------------


def midi(*events, division=480):
    """A file of one track: pairs of a delta time and the bytes of an event."""

    def number(value):
        out = [value & 0x7F]
        while value := value >> 7:
            out.insert(0, value & 0x7F | 0x80)
        return bytes(out)

    body = b"".join(number(delta) + event for delta, event in events) + b"\0\xff\x2f\0"
    return (b"MThd\0\0\0\6\0\0\0\1" + division.to_bytes(2, "big")
            + b"MTrk" + len(body).to_bytes(4, "big") + body)  # fmt: skip


NOTE = ((0, b"\x90\x3c\x40"), (480, b"\x80\x3c\0"))


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (midi((0, b"\xff\x51\3\0\0\0"), *NOTE), None),  # tempo 0
        (midi((0, b"\xff\x58\4\4\x0c\x18\x08"), *NOTE), None),  # 4/4096
        (midi((0, b"\xff\x58\4\0\2\x18\x08"), *NOTE), None),  # 0/4
        (midi((0, b"\xff\x58\4\4\xff\x18\x08"), *NOTE), None),  # 4/2^255
        (midi((0, b"\xff\x59\2\x20\0"), *NOTE), "bad.mid"),  # 32 sharps
        (midi(*NOTE, division=0xE800), "frames without ticks"),
        (midi(*NOTE, division=0), "no time division"),
        (midi((0, b"\x90\x3c\x40"), ((1 << 28) - 1, b"\x80\x3c\0")), "longer than any song"),
        (midi(), "has no notes"),
    ],
)
def test_midi_of_any_kind_is_taken_or_said(tmp_path, data, says):
    path = tmp_path / "bad.mid"
    path.write_bytes(data)
    if says is None:
        song = read_song(path)
        assert song.metre == (4, 4)
        assert song.tempo == 120
        return
    with pytest.raises(CloudriftError, match=says) as error:
        read_song(path)
    assert "bad.mid" in sentence(error)


def test_chords_of_many_notes_are_those_of_few(rng):
    """Notes are found by shelves: a pedal note under a thousand others is still under them."""
    notes = [Note(start_tick=240 * i, length_ticks=230, pitch=60 + int(p), velocity=90)
             for i, p in enumerate(rng.choice((0, 3, 7, 10, 12), 3000))]  # fmt: skip
    pedal = Note(start_tick=0, length_ticks=3000 * 240, pitch=36, velocity=90)
    near = _Near([*notes, pedal])
    for a, b in ((0, 10), (3839, 3841), (500_000, 510_000), (700_000, 720_000), (7, 7)):
        wanted = {(n.start_tick, n.pitch) for n in [*notes, pedal]
                  if n.start_tick < b and n.end_tick > a}  # fmt: skip
        found = [(n.start_tick, n.pitch) for n in near.between(a, b) if n.end_tick > a]
        assert len(found) == len(set(found))
        assert set(found) == wanted
    assert all(36 in chord.voices for chord in find_chords([*notes, pedal]))


# --- on the screen ------------------------------------------------------------------------------


def test_words_from_files_are_shown_as_they_are(qtbot, window, tmp_path):
    from cloudrift.desktop.kit.parts import label, plain_tip

    bad = "<b>x</b><img src='/dev/zero'>"
    made = label(bad)
    qtbot.addWidget(made)
    assert made.textFormat() == Qt.TextFormat.PlainText
    assert "&lt;b&gt;" in plain_tip(bad)
    assert plain_tip("3 < 4 dB").startswith("<span>3 &lt; 4")
    assert plain_tip("plain") == "plain"
    window.say(bad + "\n" + "y" * 5000)
    assert window.message.textFormat() == Qt.TextFormat.PlainText
    assert len(window.message.text()) <= LONGEST_MESSAGE
    assert "\n" not in window.message.text()


def test_an_answer_about_rows_that_are_gone_is_dropped(qtbot, window):
    """Add a treatment, leave the stage at once, undo: the answer comes for a row that is gone."""
    session, stage = window.session, window.texture
    window.show_stage(2)
    session.select(line_of="l1", treatment_id="")
    line = session.loop.line_of("l1")
    assert session.apply("x", lambda loop: line_edits.add_treatment(loop, "l1", "hall"))
    asked = session.loop.line_of("l1")
    facts = step_facts(session.engine, session.loop, "l1", 0)
    window.show_stage(0)
    session.document.undo()
    stage._facts.clear()
    stage._show_facts("l1", asked, len(asked), facts)
    stage._show_facts("l9", asked, 0, facts)
    assert len(asked) not in stage._facts
    window.show_stage(2)
    qtbot.waitUntil(lambda: len(stage.rows) == len(line), timeout=10_000)


# --- what a crash leaves ------------------------------------------------------------------------

KEEPER = """
import sys, time
from pathlib import Path
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import load
shelter = Shelter(Path(sys.argv[2]))
shelter.keep(load(Path(sys.argv[1])), None, shelter.clips)
print("kept", flush=True)
time.sleep(60)
"""


def test_work_is_offered_when_its_program_is_gone_and_not_before(small_loop, tmp_path):
    save(small_loop, tmp_path / "a.cloudrift")
    folder = tmp_path / "unsaved"
    what = [sys.executable, "-c", KEEPER, str(tmp_path / "a.cloudrift"), str(folder)]
    with subprocess.Popen(what, stdout=subprocess.PIPE, text=True) as other:
        assert other.stdout.readline() == "kept\n"
        shelter = Shelter(folder)
        mine = shelter.keep(small_loop, None, shelter.clips)
        assert left_behind(ClipStore(), folder) == []  # both run
        assert len(list(folder.iterdir())) == 2
        shelter.close()
        assert not mine.exists()
        assert len(list(folder.iterdir())) == 1  # the other's stays
        other.kill()
    (found,) = left_behind(ClipStore(), folder)
    assert found.document.loop == small_loop


def test_locks_of_killed_programs_go_and_held_ones_stay(small_loop, tmp_path):
    folder = tmp_path / "unsaved"
    gone, runs = Shelter(folder), Shelter(folder)
    for shelter in (gone, runs):
        shelter._hold()
    gone._lock.close()  # as the system does when a program is killed
    locks = tmp_path / "running"
    assert left_behind(ClipStore(), folder) == []
    assert [one.name for one in locks.iterdir()] == [runs._lock_file.name]
    kept = Shelter(folder)
    kept.keep(small_loop, None, kept.clips)
    kept._lock.close()
    assert len(left_behind(ClipStore(), folder)) == 1
    assert (locks / kept._lock_file.name).exists()  # as long as its work is offered
    for place in (folder, locks):
        assert place.stat().st_mode & 0o077 == 0
    for shelter in (gone, runs, kept):
        shelter.close()


def test_a_lock_that_was_taken_for_left_behind_is_made_again(tmp_path, monkeypatch):
    shelter = Shelter(tmp_path / "unsaved")
    flock, tries = recovery_room.fcntl.flock, []

    def taken(handle, how):
        flock(handle, how)
        tries.append(how)
        if len(tries) == 1:
            shelter._lock_file.unlink()

    monkeypatch.setattr(recovery_room.fcntl, "flock", taken)
    shelter._hold()
    assert len(tries) == 2 and shelter._lock_file.exists()
    shelter.close()


def test_the_only_copy_stays_until_it_is_kept_anew(window, tmp_path, monkeypatch):
    from cloudrift.desktop.frame.app import offer_unsaved
    from tests.test_desktop import answer

    folder = window.session.document.shelter.folder
    lost = loop_edits.set_tempo(window.session.loop, 66)
    Shelter(folder).keep(lost, None, ClipStore()).rename(folder / "left.cloudrift")
    answer(monkeypatch, "Open it")

    def full(*_arguments):
        raise OSError("no space left")

    monkeypatch.setattr(window.session.document.shelter, "keep", full)
    offer_unsaved(window)
    assert window.session.loop.tempo == 66
    assert (folder / "left.cloudrift").exists()


# --- saving -------------------------------------------------------------------------------------


def test_links_and_rights_stay_as_they_are(small_loop, tmp_path):
    real = tmp_path / "real.cloudrift"
    save(small_loop, real)
    real.chmod(0o640)
    link = tmp_path / "link.cloudrift"
    link.symlink_to(real)
    save(loop_edits.set_tempo(small_loop, 99), link)
    assert link.is_symlink()
    assert load(real).tempo == 99
    assert real.stat().st_mode & 0o777 == 0o640
    assert [p.name for p in tmp_path.iterdir() if p.suffix == ".part"] == []


def test_a_name_that_gets_its_ending_asks_before_it_replaces(window, tmp_path, monkeypatch):
    from tests.test_desktop import answer

    path = tmp_path / "mine.cloudrift"
    save(loop_edits.set_tempo(window.session.loop, 44), path)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "mine"), ""))
    answer(monkeypatch, "Cancel")
    assert not saved(window.files.save_as)
    assert load(path).tempo == 44
    answer(monkeypatch, "Replace it")
    assert saved(window.files.save_as)
    assert load(path) == window.session.loop


def test_no_layer_lands_on_the_drums_channel(tmp_path):
    note = Note(start_tick=0, length_ticks=480, pitch=60, velocity=90)
    parts = [(f"Part {i}", (note,)) for i in range(20)]
    (tmp_path / "many.mid").write_bytes(
        midi_file(parts, tempo=90, metre=(4, 4), signature="", loop_ticks=3840, title="x")
    )
    assert [name for name, _ in read_song(tmp_path / "many.mid").parts] == [n for n, _ in parts]


def test_what_was_saved_is_saved_even_if_the_leftover_stays(window, tmp_path, monkeypatch):
    session = window.session
    session.apply("x", lambda loop: loop_edits.set_tempo(loop, 77))
    session.document.keep_unsaved()

    def refused(*_a, **_k):
        raise PermissionError("no")

    monkeypatch.setattr(type(tmp_path), "unlink", refused)
    assert saved(session.document.save, tmp_path / "a.cloudrift")
    assert session.document.is_saved


# --- bounds ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("place", ["layers.0.source.sound.version", "line.0.version"])
def test_whole_numbers_have_64_bits(small_loop, place, tmp_path):
    """They go into keys and arrays: one that does not would fail long after it was taken."""
    raw = document(small_loop)
    if place == "line.0.version":
        raw["line"][0]["version"] = 1 << 70
    else:
        raw["layers"][0]["source"]["sound"]["version"] = 1 << 70
    with pytest.raises(CloudriftError, match=r"a\.cloudrift contains an integer of more than 64"):
        loop_from(as_bytes(raw), "a.cloudrift")
    with pytest.raises(CloudriftError, match="more than 64 bits"):
        parse_line(f'[[treatments]]\nkind = "not yet"\nsettings = {{x = {1 << 70}}}\n', "a.toml")
    own = tmp_path / "a.cloudsound"
    zipped(own, [("sound.json", b'{"name": "x", "house": "organ", "version": %d}' % (1 << 70))])
    with pytest.raises(CloudriftError, match="more than 64 bits"):
        load_own(own)


def test_tapes_cannot_make_a_loop_without_end(small_loop):
    slow = line_edits.add_treatment(small_loop, None, "shift")
    for name, value in (("way", "like tape"), ("semitones", -12.0)):
        slow = line_edits.set_treatment_setting(slow, None, slow.line[-1].id, name, value)
    assert slow.sounding_frames == pytest.approx(2 * small_loop.sounding_frames, abs=1)
    twice = slow.line[-1]
    line = tuple(msgspec.structs.replace(twice, id=f"t{i}") for i in range(5))
    for owner in (None, "l1"):
        with pytest.raises(CloudriftError, match=r"makes it 32 times as long, but 0\.0625 to 16"):
            line_edits.set_line(small_loop, owner, line)
    long = loop_edits.set_bars(loop_edits.set_tempo(small_loop, 40.0), 64)
    with pytest.raises(CloudriftError, match="sounding length is 1536 s"):
        line_edits.set_line(long, None, line[:2])


def test_a_recording_at_a_rate_that_no_clip_has_is_said(tmp_path):
    tone = np.sin(np.arange(100_001) / 9).astype(np.float32)
    for rate in (88_200, 100_001):
        soundfile.write(tmp_path / "a.wav", tone, rate, subtype="FLOAT")
        if rate == 88_200:
            assert read_recording(tmp_path / "a.wav", ClipStore())[0].name == "a.wav"
            continue
        with pytest.raises(CloudriftError, match="recording at 100001 Hz can't be kept"):
            read_recording(tmp_path / "a.wav", ClipStore())


@pytest.mark.parametrize("body", [
    b"\xff\xfe", b"[" * 90_000, b"{", b"[]", b'{"recent": ["' + b"x" * 9000 + b'"]}',
    b'{"recent": ["\\u0000"]}', b'{"size_percent": 1e400}', b'{"files": "\\ud800"}',
])  # fmt: skip
def test_settings_of_any_kind_are_passed_over(tmp_path, body):
    (tmp_path / "settings.json").write_bytes(body)
    kept = Preferences(tmp_path)
    assert kept.recent == []
    assert kept.folder.is_absolute()
    kept.opened(tmp_path / "a.cloudrift")
    (tmp_path / "a.cloudrift").write_bytes(b"")
    assert Preferences(tmp_path).recent == [tmp_path / "a.cloudrift"]


LARGE_ONES = [(kind, n) for kind, count in (("loop", 8), ("line", 10)) for n in range(count)]


@pytest.mark.parametrize(("kind", "number"), LARGE_ONES)
def test_large_files_cost_little(kind, number, tmp_path):
    """What would become millions of parts in memory is counted before it does."""
    path = tmp_path / f"a{MAKERS[kind][0]}"
    path.write_bytes(LARGE[kind](random.Random(number)))
    tracemalloc.start()
    try:
        with contextlib.suppress(CloudriftError):
            fuzz.READERS[kind](path)
        _, most = tracemalloc.get_traced_memory()
    finally:
        tracemalloc.stop()
    assert most < 256 << 20


def test_what_is_too_long_to_be_a_name_is_said_and_not_shown(small_loop):
    for change in ({"title": "x" * 201}, {"kit": "x" * 201}, {"style": "x" * 201}):
        with pytest.raises(CloudriftError, match="a name of 201 characters; the limit is 200"):
            loop_from(as_bytes(document(small_loop, **change)), "a.cloudrift")
    with pytest.raises(CloudriftError, match="a layer has a name of 999 characters"):
        layer_edits.set_layer(small_loop, "l1", name="x" * 999)
    with pytest.raises(CloudriftError, match="an own sound has a name of 300"):
        OwnSound(name="y" * 300, house="felt upright")
    note = Note(start_tick=0, length_ticks=480, pitch=60)
    assert len(put_layers(small_loop, [("z" * 5000, [note])]).layers[-1].name) == 100


def test_a_midi_file_that_is_not_wanted_any_more_is_let_go(tmp_path):
    path = tmp_path / "a.mid"
    path.write_bytes(LARGE["MIDI"](random.Random(3)))
    asked = []

    def cancelled():
        asked.append(1)
        return len(asked) > 2

    with pytest.raises(Cancelled):
        read_song(path, cancelled=cancelled)
    assert len(asked) == 3


def test_a_loop_of_a_recording_is_found_behind_other_chunks(tmp_path):
    path = tmp_path / "a.wav"
    write_wav(path, np.zeros((2, 4000), np.float32), 44_100, bits=16, about=About(loop=True))
    assert loop_points(path) == (0, 4000)
    raw = path.read_bytes()
    at = raw.index(b"smpl")
    path.write_bytes(raw[:at] + b"junk" + struct.pack("<I", 3) + b"abc\0" + raw[at:])
    assert loop_points(path) == (0, 4000)
    path.write_bytes(raw[:at] + b"junk" + struct.pack("<I", 0xFFFFFFFF) + raw[at:])
    assert loop_points(path) == (0, 0)


# --- words ----------------------------------------------------------------------------------------


def test_an_error_is_one_line_that_can_be_printed():
    long = str(CloudriftError("a.toml: " + "x" * 5000 + "\n\n; write it anew"))
    assert len(long) <= LONGEST_MESSAGE
    assert "\n" not in long
    assert long.startswith("a.toml: xxx")
    assert long.endswith("xxx ; write it anew")
    assert str(CloudriftError(os.fsdecode(b"\xff.mid"))) == "?.mid"
    assert str(CloudriftError("F♯")) == "F♯"


# --- where it is started --------------------------------------------------------------------------


def run(*what, **env):
    done = subprocess.run([sys.executable, "-P", "-m", "cloudrift", *what], capture_output=True,
                          timeout=60, check=False, env=os.environ | env)  # fmt: skip
    return done.returncode, done.stdout, done.stderr.decode()


def test_a_terminal_of_another_alphabet_is_written_to(small_loop, tmp_path):
    loop = loop_edits.set_title(small_loop, "Лёд – ♭")
    save(loop, tmp_path / "a.cloudrift")
    code, out, _ = run("info", str(tmp_path / "a.cloudrift"), PYTHONIOENCODING="latin-1")
    assert code == 0
    assert b"F# minor" in out
    assert b"??? - b" in out


def test_a_display_that_does_not_answer_is_said():
    code, _, err = run("demo", QT_QPA_PLATFORM="", DISPLAY=":4077", WAYLAND_DISPLAY="")
    assert code == 2
    assert err.startswith("cloudrift: the display :4077 does not answer; start it on a desktop")
    assert err.count("\n") == 1


def test_a_home_that_cannot_be_written_is_said():
    code, _, err = run("demo", HOME="/proc", XDG_DATA_HOME="/proc")
    assert code == 1
    assert "could not make the folder /proc/cloudrift" in err
    assert "set XDG_DATA_HOME" in err
    assert err.count("\n") == 1


def test_without_a_home_folder_there_is_one(monkeypatch, tmp_path):
    def gone():
        raise RuntimeError("no home")

    with monkeypatch.context() as patched:
        patched.setattr(paths.Path, "home", gone)
        patched.setattr(paths.tempfile, "gettempdir", lambda: str(tmp_path))
        said = paths.have_home()
        assert os.environ["HOME"].startswith(str(tmp_path))
    assert said == f"there is no home folder; files go to {os.environ['HOME']}"
    assert paths.have_home() == ""


WITHOUT = """
import sys
from PyQt6.QtCore import QTimer
from cloudrift.desktop.frame import app
from cloudrift.desktop.frame import window
shown = window.Window.showEvent
def show(self, event):
    shown(self, event)
    QTimer.singleShot(200, lambda: print(self.isVisible(), flush=True))
    QTimer.singleShot(300, self.leave)
window.Window.showEvent = show
sys.exit(app.run(None))
"""


@pytest.mark.parametrize("env", [
    {"FONTCONFIG_FILE": "/dev/null"}, {"TMPDIR": "/nonexistent"}, {"LC_ALL": "C", "LANG": "C"},
    {"XDG_STATE_HOME": "/proc", "XDG_CONFIG_HOME": "/proc", "XDG_DATA_HOME": "/proc"},
], ids=["fonts", "temp", "C", "read-only"])  # fmt: skip
def test_it_starts_where_something_is_missing(env):
    done = subprocess.run([sys.executable, "-X", "faulthandler", "-c", WITHOUT], text=True,
                          capture_output=True, timeout=60, check=False,
                          env=os.environ | env)  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert done.stdout == "True\n"
    assert "Traceback" not in done.stderr


def test_rendering_many_ends_in_words_when_a_process_is_lost(
    small_loop, tmp_path, monkeypatch, capsys
):
    from cloudrift.cli import main, rendering

    for name in "ab":
        save(small_loop, tmp_path / f"{name}.cloudrift")
    real = rendering.ProcessPoolExecutor

    class Lost(real):
        def map(self, *given, **named):
            raise rendering.BrokenProcessPool("gone")

    monkeypatch.setattr(rendering, "ProcessPoolExecutor", Lost)
    with pytest.raises(SystemExit):
        main(["render", *map(str, tmp_path.glob("*.cloudrift")), "-o", str(tmp_path)])
    assert "a rendering process was ended from outside" in capsys.readouterr().err


def test_ctrl_c_while_rendering_many_is_one_line(small_loop, tmp_path):
    for name in "abcdefgh":
        save(loop_edits.set_bars(small_loop, 16), tmp_path / f"{name}.cloudrift")
    files = sorted(map(str, tmp_path.glob("*.cloudrift")))
    what = [sys.executable, "-P", "-m", "cloudrift", "render", *files, "-o", str(tmp_path)]
    how = {"stderr": subprocess.PIPE, "start_new_session": True, "text": True}
    with subprocess.Popen(what, **how) as running:
        children = Path(f"/proc/{running.pid}/task/{running.pid}/children")
        wait_for(children.read_text, 20)
        time.sleep(0.8)  # they are at work, or on their way
        os.killpg(running.pid, signal.SIGINT)  # as a terminal does
        assert running.wait(20) == 130
        assert running.stderr.read().strip() == "cloudrift: stopped"
    assert list(tmp_path.glob(".*.part")) == []
