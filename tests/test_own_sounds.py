"""Own sounds: recordings read, spread over the keyboard, carried by the loop, put on the shelf."""

import functools
import json
import zipfile

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from PyQt6.QtCore import Qt

from cloudrift.audio.about import About
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.listen.pitch import pitch_of
from cloudrift.audio.sound_file import write_wav
from cloudrift.ground import CloudriftError
from cloudrift.ground.lru import forget_made
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, own_notes
from cloudrift.loop.files import recovery
from cloudrift.loop.files.kept import keep, template_folder
from cloudrift.loop.files.recovery import Shelter
from cloudrift.loop.files.storage import SCHEMA, load, load_document, save, to_bytes
from cloudrift.notes.note import Note
from cloudrift.render import Engine
from cloudrift.sound import measure, own_files
from cloudrift.sound.measure import tuning_cents
from cloudrift.sound.own import OwnSound, Recording, looped
from cloudrift.sound.own_files import load_own, own_sounds, save_own
from cloudrift.sound.own_import import audio_files, loop_points, read_recording, root_from_name
from cloudrift.sound.tones import ToneCache
from cloudrift.theory.pitch import pitch_to_hz
from tests.conftest import db, main_hz, rms

RATE = 44_100


def tone(pitch, seconds=1.0, rate=RATE, partials=6):
    """A struck note with a weak first partial: not the loudest line, but the pitch."""
    t = np.arange(int(seconds * rate)) / rate
    wave = sum((0.4 if k == 1 else 1.0 / k) * np.sin(2 * np.pi * k * pitch_to_hz(pitch) * t + k)
               for k in range(1, partials + 1))  # fmt: skip
    fall = np.minimum(t / 0.004, 1) * np.exp(-1.2 * t)
    return np.stack([wave * fall * 0.2] * 2).astype(np.float32)


def one_shot(folder, name, pitch, **more):
    folder.mkdir(exist_ok=True)
    soundfile.write(folder / name, tone(pitch, **more).T, more.get("rate", RATE))
    return folder / name


@pytest.mark.parametrize(
    ("name", "numbers", "pitch"),
    [
        ("Vault_C3", False, 48), ("dusk-keys F#2 soft", False, 42), ("B♭4", False, 70),
        ("pluck_eb5_02", False, 75), ("A-1", False, 9), ("Cs3", False, 49),
        ("C3 to G3", False, 55), ("hit 60", True, 60), ("hit 60", False, None),
        ("take2024", True, None), ("ABC3D", False, None), ("reef", True, None),
        ("D9x", False, None),
    ],
)  # fmt: skip
def test_file_names_say_their_pitch(name, numbers, pitch):
    assert root_from_name(name, numbers=numbers) == pitch


@pytest.mark.parametrize("pitch", [30, 45.3, 60, 71.5, 88])
@pytest.mark.parametrize("rate", [44_100, 48_000])
def test_the_pitch_is_heard_even_where_another_partial_is_louder(pitch, rate):
    assert abs(pitch_of(tone(pitch, rate=rate), rate) - pitch) < 0.06


def test_noise_has_no_pitch(rng):
    assert pitch_of(0.1 * rng.standard_normal((2, RATE)).astype(np.float32), RATE) is None


def test_files_and_folders_are_read_with_how_their_pitch_was_found(tmp_path):
    one_shot(tmp_path / "kit", "a_C4.wav", 60)
    one_shot(tmp_path / "kit", "plain.flac", 67)
    one_shot(tmp_path / "kit", "mid.aiff", 64)
    (tmp_path / "kit" / "notes.txt").write_text("x")
    files = audio_files([tmp_path / "kit"])
    assert [f.name for f in files] == ["a_C4.wav", "mid.aiff", "plain.flac"]
    found = {f.name: read_recording(f, ClipStore(), many=True) for f in files}
    assert found["a_C4.wav"][1] == "from its name"
    assert found["plain.flac"][1] == "from its sound"
    assert abs(found["plain.flac"][0].root - 67) < 0.05
    with pytest.raises(CloudriftError, match="no WAV, FLAC, OGG or AIFF file"):
        audio_files([tmp_path])


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda p: soundfile.write(p, np.zeros((RATE, 2)), RATE), "is silent"),
        (lambda p: soundfile.write(p, np.ones(100) * 0.5, RATE), "shorter than 10 ms"),
        (lambda p: soundfile.write(p, np.ones(61 * 8000) * 0.5, 8000), "longer than 60 s"),
        (lambda p: p.write_bytes(b"RIFF"), "could not read .*as audio"),
    ],
)
def test_what_is_no_one_shot_is_said(tmp_path, make, says):
    path = tmp_path / "x.wav"
    make(path)
    with pytest.raises(CloudriftError, match=says):
        read_recording(path, ClipStore())


def test_loop_points_are_read_from_the_file(tmp_path):
    write_wav(tmp_path / "l.wav", tone(60), RATE, bits=24, about=About(loop=True))
    assert loop_points(tmp_path / "l.wav") == (0, RATE)
    one_shot(tmp_path, "n.wav", 60)
    assert loop_points(tmp_path / "n.wav") == (0, 0)


def test_going_round_has_no_step(rng):
    t = np.arange(20_000)
    audio = np.stack([np.sin(2 * np.pi * 0.0123 * t), np.cos(2 * np.pi * 0.0107 * t)])
    out = looped(audio.astype(np.float32), 7003, 15_001, 60_000, 1000)
    assert out.shape == (2, 60_000)
    assert np.array_equal(out[:, :14_001], audio[:, :14_001].astype(np.float32))
    assert np.abs(np.diff(out, axis=1)).max() < 1.6 * np.abs(np.diff(audio, axis=1)).max()
    assert rms(out[:, 50_000:]) > 0.5
    assert looped(audio.astype(np.float32), 500, 501, 60_000, 1000).shape[1] == 20_000


@pytest.fixture
def strike(clips):
    """Strike a sound whose recordings lie in the store."""
    return functools.partial(measure.strike, tones=ToneCache(clips=clips))


@pytest.fixture
def own(tmp_path, clips):
    paths = [one_shot(tmp_path / "set", f"x{i}.wav", pitch) for i, pitch in enumerate((48, 67))]
    made = tuple(read_recording(path, clips)[0] for path in paths)
    return OwnSound(name="Tin roof", recordings=made, licence="own recording, CC0")


@pytest.mark.parametrize("pitch", [40, 48, 55, 60, 67, 79])
def test_it_plays_in_tune_from_the_nearest_recording(own, strike, pitch):
    audio = strike(own.instrument, pitch, 100, 0.8)
    assert abs(tuning_cents(audio[:, 2000:], pitch)) < 4
    near = pitch_to_hz(pitch)
    assert abs(main_hz(audio, 1.6 * near, 2.4 * near) / near - 2) < 0.01


def test_it_answers_velocity_detune_and_ways_of_playing(own, strike):
    sound = own.instrument
    soft, hard = strike(sound, 60, 30, 0.5), strike(sound, 60, 120, 0.5)
    assert db(rms(hard) / rms(soft)) > 12
    assert rms(np.diff(strike(sound, 60, 100, 0.5), axis=0)) < 1e-6  # mono recordings
    assert rms(np.diff(strike(sound, 60, settings=(("detune_cents", 20.0),)), axis=0)) > 1e-3
    once, looping = (strike(sound, 60, 100, 3.0, settings=(("plays", way),))
                     for way in ("once", "looped"))  # fmt: skip
    assert rms(once[:, 2 * RATE :]) < 1e-4
    assert rms(looping[:, 2 * RATE :]) > 1e-3
    assert own.instrument is own.instrument
    assert "own recording, CC0" in sound.about


def test_high_notes_of_a_bright_recording_do_not_fold(tmp_path, clips, strike):
    path = one_shot(tmp_path, "b.wav", 72, partials=35)
    recording, _ = read_recording(path, clips)
    sound = OwnSound(name="b", recordings=(recording,)).instrument
    audio = strike(sound, 90, 127, 0.7, settings=(("brightness", 100.0),))[:, 1000:14_000]
    power = np.abs(np.fft.rfft(audio[0] * np.blackman(13_000)))
    hz = np.fft.rfftfreq(13_000, 1 / RATE)
    away = np.abs(hz / pitch_to_hz(90) - np.round(hz / pitch_to_hz(90)))
    between = (away > 0.25) & (hz > 500) & (hz < 19_000)
    assert db(power[between].max() / power.max()) < -75


def without_recordings(path, to):
    """A copy of a file that names its recordings and has none."""
    with zipfile.ZipFile(path) as whole, zipfile.ZipFile(to, "w") as part:
        for name in whole.namelist():
            if not name.startswith("clips/"):
                part.writestr(name, whole.read(name))
    return to


def test_a_loop_carries_it_and_is_read_where_the_files_are_not(small_loop, own, clips, tmp_path):
    loop = layer_edits.set_sound(small_loop, "l1", own)
    assert loop.layer("l1").role == "keys"
    engine = Engine(clips=clips)
    before = engine.render(loop).audio
    save(loop, tmp_path / "a.cloudrift", clips)
    save(loop, tmp_path / "b.cloudrift", clips)
    assert (tmp_path / "a.cloudrift").read_bytes() == (tmp_path / "b.cloudrift").read_bytes()
    assert (tmp_path / "a.cloudrift").read_bytes() == to_bytes(loop, clips)
    forget_made()
    other = ClipStore()
    again = load(tmp_path / "a.cloudrift", other)
    assert again == loop
    fresh = Engine(clips=other)
    assert np.array_equal(fresh.render(again).audio, before)
    engine.close()
    fresh.close()
    # Without its recordings it is refused, and the place is named; who only looks needs none.
    bare = without_recordings(tmp_path / "a.cloudrift", tmp_path / "c.cloudrift")
    with pytest.raises(
        CloudriftError, match=r"loop\.layers\[0\], .*: .*x0\.wav is not in the file"
    ):
        load(bare, ClipStore())
    assert load(bare) == loop
    with pytest.raises(CloudriftError, match="open the file that contains it"):
        save(loop, tmp_path / "d.cloudrift", ClipStore())
    assert not (tmp_path / "d.cloudrift").exists()
    deaf = Engine(clips=ClipStore())
    with pytest.raises(CloudriftError, match="open the file that contains it"):
        deaf.render(layer_edits.set_sound_setting(loop, "l1", "stretch", 90.0))
    deaf.close()


def test_a_clip_that_is_no_audio_is_refused(small_loop, own, clips, tmp_path):
    path = tmp_path / "a.cloudrift"
    save(layer_edits.set_sound(small_loop, "l1", own), path, clips)
    with zipfile.ZipFile(path, "a") as archive:
        archive.writestr("clips/000000000000000000000000.flac", b"nothing")
    store = ClipStore(tmp_path / "store")
    with pytest.raises(CloudriftError, match=r"a\.cloudrift: a recording in it can't be read"):
        load(path, store)
    lying = {path.stem for path in (tmp_path / "store").iterdir()}
    assert lying == {one.clip for one in own.recordings}  # nothing of the other is left


def test_a_store_keeps_each_clip_once_and_goes_with_its_folder(tmp_path, clips):
    name = clips.record(tone(60), RATE)
    assert clips.record(tone(60), RATE) == name
    assert [p.name for p in clips.file(name).parent.iterdir()] == [f"{name}.flac"]
    with clips.file(name).open("rb") as file:
        other = ClipStore(tmp_path / "other")
        assert name not in other
        assert other.add(file) == name
    assert other.size_bytes([name]) == clips.file(name).stat().st_size > 10_000
    audio, rate = other.read(name)
    assert rate == RATE
    assert np.abs(audio - tone(60)).max() < 2**-22
    assert not audio.flags.writeable
    folder = clips.file(name).parent
    clips.remove()
    assert not folder.exists()
    other.remove()
    assert not (tmp_path / "other").exists()


@pytest.mark.parametrize("name", ["../a", "/etc/passwd", "A" * 24, "0" * 23, ""])
def test_no_name_of_a_clip_leads_out_of_its_folder(name, clips):
    clips.record(tone(60), RATE)
    assert name not in clips
    with pytest.raises(CloudriftError, match="is missing"):
        clips.file(name)
    with pytest.raises(CloudriftError, match="does not name a recording"):
        Recording(clip=name, root=60.0)


def test_a_document_with_too_many_recordings_is_not_written(small_loop, own, clips, tmp_path,
                                                            monkeypatch):  # fmt: skip
    monkeypatch.setattr(own_files, "MAX_BYTES", 1000)
    with pytest.raises(CloudriftError, match=r"^Ice Road has recordings of more than .*again"):
        save(layer_edits.set_sound(small_loop, "l1", own), tmp_path / "a.cloudrift", clips)
    assert not (tmp_path / "a.cloudrift").exists()


def test_own_sounds_are_kept_as_files(own, clips, tmp_path):
    path = save_own(own, clips, tmp_path / "kept")
    assert path.name == "tin-roof.cloudsound"
    (tmp_path / "kept" / "broken.cloudsound").write_bytes(b"PK")
    assert [one.own for one in own_sounds(tmp_path / "kept")] == [own]
    store = ClipStore()
    assert load_own(path, store) == own
    assert store.size_bytes(one.clip for one in own.recordings) > 10_000
    bare = without_recordings(path, tmp_path / "bare.cloudsound")
    with pytest.raises(CloudriftError, match=r"bare\.cloudsound: the recording x0\.wav is not in"):
        load_own(bare, ClipStore())
    with pytest.raises(CloudriftError, match="needs a name"):
        replace(own, name=" ")
    with pytest.raises(CloudriftError, match="0 recordings, not 1 to 512"):
        replace(own, recordings=())


def test_one_shots_become_a_sound_on_the_shelf(window, qtbot, tmp_path):
    window.show_stage(1)
    window.session.select(layer_id="l2")
    window.open_shelf()
    shelf = window.shelf
    for i, pitch in enumerate((50, 62)):
        one_shot(tmp_path / "Gutter", f"drop {i}.wav", pitch)
    shelf.bring_files([tmp_path / "Gutter"])
    qtbot.waitUntil(lambda: shelf.sheet is not None, timeout=20_000)
    sheet = shelf.sheet
    assert sheet.name.text() == "Gutter"
    assert [round(float(r.value)) for r in sheet.roots] == [50, 62]
    sheet.name.setText("warm pad")
    qtbot.mouseClick(sheet.make, Qt.MouseButton.LeftButton)
    assert "is a house sound" in sheet.words.text()
    sheet.name.setText("Gutter")
    sheet.licence.setText("own recording")
    sheet.roots[1].type_text("62.5")
    qtbot.mouseClick(sheet.plays.button("looped"), Qt.MouseButton.LeftButton)
    qtbot.mouseClick(sheet.make, Qt.MouseButton.LeftButton)
    use = window.session.loop.layer("l2").source.sound
    assert (use.name, use.own.plays, use.own.licence) == ("Gutter", "looped", "own recording")
    assert use.own.recordings[1].root == 62.5
    assert [s.name for s in shelf.grid.sounds] == ["Gutter"]
    assert [o.own.name for o in own_sounds()] == ["Gutter"]
    window.session.document.undo()
    assert window.session.loop.layer("l2").source.sound.name == "warm pad"
    shelf.bring_files([tmp_path / "nothing here"])
    qtbot.waitUntil(lambda: "no WAV, FLAC" in window.message.text(), timeout=20_000)
    shelf.take_own(use.own)  # the same once more: nothing is overwritten
    assert window.message.text() == "Saved on the shelf as Gutter 2: Gutter already exists"
    assert [o.own.name for o in own_sounds()] == ["Gutter", "Gutter 2"]


def test_a_sound_that_was_kept_is_read_when_it_is_wanted(window, own, clips, tmp_path):
    """What lies on the shelf is only looked at; used or heard, its recordings come."""
    elsewhere = ClipStore()
    for recording in own.recordings:
        with clips.file(recording.clip).open("rb") as file:
            elsewhere.add(file)
    save_own(own, elsewhere)
    gone = save_own(replace(own, name="Gone"), elsewhere)
    clips.remove()
    window.show_stage(1)
    window.session.select(layer_id="l2")
    window.open_shelf()
    shelf = window.shelf
    before = window.session.loop
    gone.unlink()
    shelf.choose(replace(own, name="Gone").instrument, False)
    assert "there is no file" in window.message.text()
    assert window.session.loop is before
    shelf.hear(own.instrument)
    assert all(one.clip in window.session.clips for one in own.recordings)
    assert window.session.hearing.previewing
    shelf.choose(own.instrument, False)
    assert window.session.loop.layer("l2").source.sound.own == own


def test_a_template_brings_its_recordings(window, small_loop, own, clips):
    keep(layer_edits.set_sound(small_loop, "l1", own), "Tin", template_folder(), clips)
    clips.remove()
    window.start_loop()
    page = window.start
    page.choose_source(page.sources.index(page.template))
    assert all(one.clip in window.session.clips for one in own.recordings)


def test_recordings_that_only_a_newer_program_knows_are_kept(small_loop, own, clips, tmp_path):
    """A newer program's file may carry clips for what this one sets aside."""
    save(layer_edits.set_sound(small_loop, "l1", own), tmp_path / "a.cloudrift", clips)
    extra = clips.record(tone(50), RATE)
    newer = tmp_path / "b.cloudrift"
    with zipfile.ZipFile(tmp_path / "a.cloudrift") as old, zipfile.ZipFile(newer, "w") as new:
        document = json.loads(old.read("loop.json")) | {
            "schema": SCHEMA + 1,
            "needs": 7,
            "stems": [extra],
        }
        new.writestr("loop.json", json.dumps(document))
        for one in own.recordings:
            new.writestr(f"clips/{one.clip}.flac", old.read(f"clips/{one.clip}.flac"))
        new.write(clips.file(extra), f"clips/{extra}.flac")
    store = ClipStore()
    opened = load_document(newer, store)
    assert opened.newer.clips == (extra,)
    again = tmp_path / "c.cloudrift"
    save(opened, again, store)
    with zipfile.ZipFile(again) as archive:
        assert f"clips/{extra}.flac" in archive.namelist()
    shelter = Shelter(tmp_path / "unsaved")  # and through a crash
    shelter.keep(opened, None, store)
    shelter._lock.close()
    (found,) = recovery.left_behind(ClipStore(), shelter.folder)
    assert found.document == opened


@pytest.mark.parametrize("tempo", [80.0, 120.0])
def test_a_rhythm_with_a_tempo_of_its_own_is_stretched_to_the_loops(
    tmp_path, clips, bare_chords, tempo
):
    """Four strokes at 100 BPM come a beat apart in the loop, at the pitch they had."""
    rhythm = np.zeros((2, int(2.6 * RATE)), np.float32)
    for stroke in range(4):
        at = int(stroke * 0.6 * RATE)
        rhythm[:, at : at + RATE // 4] += tone(69, 0.25)
    soundfile.write(tmp_path / "steps A4.wav", rhythm.T, RATE)
    own = OwnSound(name="Steps", recordings=(read_recording(tmp_path / "steps A4.wav", clips)[0],))
    loop = loop_edits.set_tempo(replace(bare_chords, chords=(), bars=2), tempo)
    loop = layer_edits.add_layer(loop, own)
    layer = loop.layers[0].id
    note = Note(start_tick=0, length_ticks=7680, pitch=69, velocity=100)
    loop = own_notes.with_own(loop, layer, [note])
    loop = layer_edits.set_sound_setting(loop, layer, "own_bpm", 100.0)
    engine = Engine(clips=clips)
    audio = engine.render(loop).audio
    engine.close()
    level = np.convolve(np.abs(audio).max(axis=0), np.ones(256) / 256, "same")
    beat = 60 / tempo * RATE
    for stroke in range(1, 4):
        at = round(stroke * beat)
        near = level[at - 4000 : at + 4000]
        onset = int(np.flatnonzero(near > 0.4 * near.max())[0]) - 4000
        assert abs(onset) < 0.012 * RATE
    piece = audio[:, round(beat) + 1500 : round(beat) + 9000]
    assert abs(1200 * np.log2(main_hz(piece, 800, 960) / 880)) < 12
    again = layer_edits.set_sound_setting(loop, layer, "own_bpm", 0.0)
    assert again.layers[0].source.sound.settings == ()


def test_what_is_kept_against_a_crash_writes_each_recording_once(own, clips, small_loop, tmp_path):
    folder = tmp_path / "unsaved"
    loop = layer_edits.set_sound(small_loop, "l1", own)
    shelter = Shelter(folder)
    file = shelter.keep(loop, None, clips)
    beside = file.with_suffix(".clips")
    written = {path.name: path.stat().st_mtime_ns for path in beside.iterdir()}
    assert set(written) == {f"{one.clip}.flac" for one in own.recordings}
    assert all(path.stat().st_mode & 0o777 == 0o600 for path in beside.iterdir())
    with zipfile.ZipFile(file) as archive:
        assert [m for m in archive.namelist() if m.startswith("clips")] == []
    shelter.keep(loop_edits.set_tempo(loop, 66), None, clips)
    assert {path.name: path.stat().st_mtime_ns for path in beside.iterdir()} == written
    shelter._lock.close()  # as if the program had ended
    store = ClipStore()  # another program knows none of them
    (found,) = recovery.left_behind(store, folder)
    assert found.document.loop == loop_edits.set_tempo(loop, 66)
    assert all(one.clip in store for one in own.recordings)
    recovery.remove(found.file)
    assert list(folder.iterdir()) == []


def test_recordings_lie_from_the_first_where_a_crash_leaves_them(own, clips, small_loop, tmp_path):
    loop = layer_edits.set_sound(small_loop, "l1", own)
    save(loop, tmp_path / "a.cloudrift", clips)
    shelter = Shelter(tmp_path / "unsaved")
    opened = load(tmp_path / "a.cloudrift", shelter.clips)
    beside = shelter.file.with_suffix(".clips")
    lying = {path.name: path.stat().st_ino for path in beside.iterdir()}
    assert set(lying) == {f"{one.clip}.flac" for one in own.recordings}
    assert all(path.stat().st_mode & 0o777 == 0o600 for path in beside.iterdir())
    shelter.keep(opened, None, shelter.clips)
    assert {path.name: path.stat().st_ino for path in beside.iterdir()} == lying
    shelter.forget()
    assert not shelter.file.exists()
    assert shelter.clips.read(own.recordings[0].clip)[1] == RATE  # the open loop needs them still
    shelter.close()
    assert list(shelter.folder.iterdir()) == []


def test_without_a_state_folder_recordings_lie_elsewhere(tmp_path):
    (tmp_path / "file").write_text("in the way")
    shelter = Shelter(tmp_path / "file" / "unsaved")
    assert shelter.clips.record(tone(60), RATE) in shelter.clips
    shelter.close()


def test_recordings_whose_loop_was_never_kept_are_cleared_away(own, clips, small_loop, tmp_path):
    folder = tmp_path / "unsaved"
    shelter = Shelter(folder)
    file = shelter.keep(layer_edits.set_sound(small_loop, "l1", own), None, clips)
    file.unlink()
    assert recovery.left_behind(ClipStore(), folder) == []
    assert file.with_suffix(".clips").exists()  # of a program that runs
    shelter._lock.close()
    assert recovery.left_behind(ClipStore(), folder) == []
    assert list(folder.iterdir()) == []
