"""What is written: formats with their facts, parts of a loop, names; read by others."""

import io
import struct
from dataclasses import replace as altered
from xml.etree import ElementTree

import mido
import mutagen
import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace
from mutagen.id3 import ID3

from cloudrift.audio.about import About, Cue
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.audio.sound_file import (
    FORMATS,
    FullScaleError,
    as_integers,
    below_full_scale,
    write_sound,
)
from cloudrift.cli.main import commands
from cloudrift.deliver import PARTS, PRESETS, Order, deliver, parcels
from cloudrift.deliver.midi_parcels import heard_notes
from cloudrift.deliver.names import Naming, check_pattern, named
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import add_section
from cloudrift.loop.edits.bed.beds import set_heard
from cloudrift.loop.edits.flip import flips, prints
from cloudrift.loop.edits.flip.prints import with_print
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.files.storage import save
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.demo_file import suggest_demo
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.notes.note import Note
from cloudrift.render import Engine
from cloudrift.render.forms.printing import printed
from cloudrift.theory import Key
from tests.conftest import make_small_loop, rms
from tests.test_arranging import BEDDED

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

SMALL = replace(make_small_loop(), kit="Dome Show")
RATE = SMALL.rate
PEOPLE = Credits(people=(Person(name="Tern", share=100.0),), maker="Tern & Tide Audio")
ABOUT = About(
    title="Ice Road: pluck", maker="Tern & Tide Audio", album="Dome Show", key="F#m", tempo=142.5,
    comment="key F# minor; <wide> & slow", licence="royalty-free; name Ola", root_pitch=66,
    loop=True, cues=(Cue(0, "one"), Cue(4000, "two, späť")), lufs=-14.25, peak_db=-1.5,
)  # fmt: skip


def db(value):
    return 20 * np.log10(max(float(value), 1e-9))


def noise(frames=9001, seed=1):
    made = np.random.default_rng(seed).normal(size=(2, frames)) * 0.1
    return made.astype(np.float32)


# --- WAV, strictly --------------------------------------------------------------------------------


class Wav:
    """A strict reader: every size fits, every chunk is whole and padded, nothing lies behind."""

    def __init__(self, path):
        raw = path.read_bytes()
        assert raw[:4] == b"RIFF" and raw[8:12] == b"WAVE"
        assert struct.unpack("<I", raw[4:8])[0] == len(raw) - 8
        self.chunks, self.lists, at = {}, {}, 12
        while at < len(raw):
            name, size = struct.unpack("<4sI", raw[at : at + 8])
            body = raw[at + 8 : at + 8 + size]
            assert len(body) == size
            if size % 2:
                assert raw[at + 8 + size] == 0  # padded
            if name == b"LIST":
                self.lists[body[:4]] = dict(self._inside(body[4:]))
            else:
                assert name not in self.chunks
                self.chunks[name] = body
            at += 8 + size + size % 2
        assert at == len(raw)
        code, sides, self.rate, each, block, self.bits = struct.unpack(
            "<2H2I2H", self.chunks[b"fmt "][:16]
        )
        assert code in (1, 3) or self.chunks[b"fmt "][24:26] in (b"\x01\x00", b"\x03\x00")
        assert sides == 2 and block == 2 * self.bits // 8 and each == self.rate * block
        self.frames, rest = divmod(len(self.chunks[b"data"]), block)
        assert rest == 0

    @staticmethod
    def _inside(body):
        at = 0
        while at < len(body):
            name, size = struct.unpack("<4sI", body[at : at + 8])
            yield (name, at), body[at + 8 : at + 8 + size]
            assert at + 8 + size <= len(body)
            at += 8 + size + size % 2

    def info(self, name):
        return next(text for (one, _), text in self.lists[b"INFO"].items() if one == name)


@pytest.mark.parametrize("bits", [16, 24, 32])
def test_a_wav_file_is_whole_and_says_what_it_is(tmp_path, bits):
    path = tmp_path / "a.wav"
    audio = noise()
    write_sound(path, audio, 48_000, bits=bits, about=ABOUT)
    wav = Wav(path)
    assert (wav.frames, wav.rate, wav.bits) == (9001, 48_000, bits)
    assert wav.info(b"INAM") == b"Ice Road: pluck\0" and wav.info(b"IPRD") == b"Dome Show\0"
    assert wav.info(b"ICOP") == b"royalty-free; name Ola\0"
    loops = struct.unpack("<15I", wav.chunks[b"smpl"])
    assert loops[3] == 66 and loops[7] == 1 and loops[11:13] == (0, 9000)
    cues = wav.chunks[b"cue "]
    assert struct.unpack("<I", cues[:4]) == (2,) and len(cues) == 4 + 2 * 24
    assert [struct.unpack("<2I4s3I", cues[4 + 24 * i : 28 + 24 * i]) for i in range(2)] == [
        (1, 0, b"data", 0, 0, 0), (2, 4000, b"data", 0, 0, 4000)]  # fmt: skip
    labels = list(wav.lists[b"adtl"].values())
    assert [text[4:-1].decode() for text in labels] == ["one", "two, späť"]
    bext = wav.chunks[b"bext"]
    assert bext[:256].rstrip(b"\0").startswith(b"Ice Road: pluck; key F# minor")
    assert bext[256:288].rstrip(b"\0") == b"Tern & Tide Audio"
    assert struct.unpack("<QH", bext[338:348]) == (0, 2)
    assert struct.unpack("<5h", bext[412:422]) == (-1425, 0x7FFF, -150, 0x7FFF, 0x7FFF)
    assert bext[602:].decode().startswith(f"A={'IEEE' if bits == 32 else 'PCM'},F=48000,W={bits}")
    tree = ElementTree.fromstring(wav.chunks[b"iXML"].rstrip(b"\0").decode())
    assert (tree.tag, tree.findtext("PROJECT"), tree.findtext("SCENE")) == (
        "BWFXML", "Dome Show", "Ice Road: pluck")  # fmt: skip
    assert tree.findtext("NOTE").endswith("key F# minor; <wide> & slow")
    assert "Bpm 142.5" in tree.findtext("NOTE")
    tag = ID3(io.BytesIO(wav.chunks[b"id3 "]))
    assert (tag["TKEY"].text, tag["TBPM"].text) == (["F#m"], ["142.5"])
    assert mutagen.File(path)["TIT2"].text == ["Ice Road: pluck"]  # an independent reader
    back, rate = soundfile.read(path, dtype="float32")
    assert rate == 48_000 and db(np.abs(back.T - audio).max()) < {16: -86, 24: -134, 32: -170}[bits]


def test_what_is_empty_is_left_out(tmp_path):
    write_sound(tmp_path / "a.wav", noise(), RATE)
    wav = Wav(tmp_path / "a.wav")
    assert set(wav.chunks) == {b"fmt ", b"data", b"bext", b"iXML", b"id3 "}
    assert [name for name, _at in wav.lists[b"INFO"]] == [b"ISFT"]
    assert struct.unpack("<5h", wav.chunks[b"bext"][412:422]) == (0x7FFF,) * 5


def test_long_words_are_cut_at_whole_letters(tmp_path):
    about = About(title="ä" * 200, maker="ř" * 30)
    write_sound(tmp_path / "a.wav", noise(), RATE, about=about)
    bext = Wav(tmp_path / "a.wav").chunks[b"bext"]
    assert bext[:256].rstrip(b"\0").decode() == "ä" * 128
    assert bext[256:288].rstrip(b"\0").decode() == "ř" * 16


@pytest.mark.parametrize("name", ["flac", "ogg", "mp3"])
def test_other_formats_keep_length_and_facts(tmp_path, name):
    audio = np.stack([0.3 * np.sin(2 * np.pi * 440 * np.arange(40_001) / RATE)] * 2)
    path = tmp_path / f"a.{name}"
    write_sound(path, audio.astype(np.float32), RATE, format_name=name, about=ABOUT)
    back, rate = soundfile.read(path)
    assert rate == RATE and back.shape == (40_001, 2)
    away = db(np.sqrt(np.mean((back.T - audio) ** 2))) - db(np.sqrt(np.mean(audio**2)))
    assert away < {"flac": -120, "ogg": -35, "mp3": -30}[name]
    read = mutagen.File(path)
    if name == "mp3":
        assert read["TIT2"].text == ["Ice Road: pluck"] and read["TKEY"].text == ["F#m"]
        assert read["TBPM"].text == ["142.5"] and read["TXXX:LICENSE"].text == [ABOUT.licence]
        assert read.info.bitrate == pytest.approx(320_000, rel=1e-3)
        return
    said = {key.upper(): text for key, (text,) in read.tags.as_dict().items()}
    assert said["TITLE"] == "Ice Road: pluck" and said["LICENSE"] == "royalty-free; name Ola"
    assert (said["KEY"], said["BPM"], said["ALBUM"]) == ("F#m", "142.5", "Dome Show")
    assert (said["LOOPSTART"], said["LOOPLENGTH"]) == ("0", "40001")
    assert said["CHAPTER002"] == "00:00:00.091" and said["CHAPTER002NAME"] == "two, späť"


@pytest.mark.parametrize("name", list(FORMATS))
def test_a_long_file_is_written_whole(tmp_path, name):
    """An encoder of Vorbis that is given much at once ends the program."""
    audio = np.tile(noise(44_100), 150 if name == "ogg" else 10)
    write_sound(tmp_path / f"a.{name}", audio, RATE, format_name=name)
    assert soundfile.info(tmp_path / f"a.{name}").frames == audio.shape[1]


@pytest.mark.parametrize("name", list(FORMATS))
def test_the_same_sound_is_the_same_file(tmp_path, name):
    for at in "ab":
        write_sound(tmp_path / f"{at}.{name}", noise(), RATE, format_name=name, about=ABOUT)
    assert (tmp_path / f"a.{name}").read_bytes() == (tmp_path / f"b.{name}").read_bytes()


def test_dither_is_of_triangular_spread_and_can_be_left_out(tmp_path):
    still = np.full((2, 200_000), 0.25 / 32768, np.float32)
    steps = as_integers(still, 16).astype(np.float64)
    assert steps.mean() == pytest.approx(0.25, abs=0.01)  # the level is kept, below one step
    assert {*np.unique(steps)} == {-1.0, 0.0, 1.0}
    assert np.square(steps - 0.25).mean() == pytest.approx(0.25, abs=0.01)  # whatever the sound
    half = as_integers(still * 2, 16).astype(np.float64)
    assert np.square(half - 0.5).mean() == pytest.approx(0.25, abs=0.01)
    assert np.array_equal(as_integers(still, 24) >> 8, np.rint(as_integers(still, 24) / 256))
    write_sound(tmp_path / "a.wav", still, RATE, bits=16, dither=False)
    assert not soundfile.read(tmp_path / "a.wav")[0].any()
    write_sound(tmp_path / "b.wav", still, RATE, bits=16)
    assert soundfile.read(tmp_path / "b.wav")[0].any()


@pytest.mark.parametrize("name", FORMATS)
def test_nothing_is_clipped_without_a_word(tmp_path, name):
    loud = np.full((2, 100), 1.7, np.float32)
    with pytest.raises(
        FullScaleError, match=r"c would peak at \+4.6 dBFS .* down by 4.7 dB"
    ) as told:
        write_sound(tmp_path / "c", loud, RATE, format_name=name, bits=16)
    assert told.value.over_db == pytest.approx(db(1.7))
    assert not list(tmp_path.iterdir())
    softer, by = below_full_scale(loud)
    assert by == 4.7 and np.abs(softer).max() < 1.0
    write_sound(tmp_path / "c", softer, RATE, format_name=name, bits=16)
    write_sound(tmp_path / "b", loud / 1.7, RATE, format_name=name, bits=16)  # full scale itself


def test_floating_point_keeps_what_is_over_full_scale(tmp_path):
    loud = np.full((2, 100), 1.7, np.float32)
    write_sound(tmp_path / "c.wav", loud, RATE, bits=32)
    assert soundfile.read(tmp_path / "c.wav")[0].max() == pytest.approx(1.7)


@pytest.fixture
def too_loud(small_loop):
    """A loop whose layers are each below full scale, and whose sum is 5 dB over it."""
    layers = tuple(replace(x, level_db=x.level_db + 10) for x in small_loop.layers)
    return replace(small_loop, layers=layers, line=())


def test_what_would_clip_is_said_before_anything_is_written(too_loud, tmp_path, remembering):
    order = Order(parts=("loop", "stems", "midi"))
    with pytest.raises(FullScaleError, match="would peak at"):
        deliver(too_loud, tmp_path, order)
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("how", [{"lower": True}, {"bits": 32},
                                 {"lower": True, "once": True, "rate": 48_000}])  # fmt: skip
def test_turned_down_by_one_gain_or_kept_whole_stems_add_up(too_loud, tmp_path, how, remembering):
    order = Order(parts=("loop", "stems"), **how)
    paths = deliver(too_loud, tmp_path, order)
    sounds = {path.name: soundfile.read(path)[0] for path in paths}
    stems = [audio for name, audio in sounds.items() if "stem-" in name]
    (bare,) = (audio for name, audio in sounds.items() if "bare" in name)
    total = np.zeros_like(bare)
    for audio in stems:
        total[: len(audio)] += audio[: len(total)]
    assert db(rms(total - bare) / rms(bare)) < -80
    peak = max(np.abs(audio).max() for audio in sounds.values())
    said = {b"turned down by " in path.read_bytes() for path in paths}
    if order.bits == 32:
        assert peak > 1.2 and said == {False}
    else:
        assert 0.9 < peak < 1.0 and said == {True}


@pytest.mark.parametrize(("what", "says"), [
    ({"format_name": "aif"}, "there is no sound file format called 'aif'"),
    ({"format_name": "flac", "bits": 32}, "FLAC holds 16 or 24 bits, not 32"),
    ({"bits": 8}, "WAV holds 16 or 24 or 32 bits, not 8"),
])  # fmt: skip
def test_what_no_format_holds_is_said(tmp_path, what, says):
    with pytest.raises(CloudriftError, match=says):
        write_sound(tmp_path / "a.wav", noise(), RATE, **what)
    assert not list(tmp_path.iterdir())


# --- names ----------------------------------------------------------------------------------------


NAMING = Naming(title="Polar Night II", tempo=119.414, key=Key("F#", "minor"), bars=8,
                maker="Tern & Tide")  # fmt: skip


@pytest.mark.parametrize(("pattern", "part", "name"), [
    ("{title}_{tempo}_{key}_{part}", "bare", "polar-night-ii_119.41bpm_fsharp-minor_bare"),
    ("{title}_{tempo}_{key}_{part}", "", "polar-night-ii_119.41bpm_fsharp-minor"),
    ("{kit}_{title} ({part})", "bass", "polar-night-ii (bass)"),
    ("{part}-{bars}", "", "8bars"),
    ("{maker}.{part}.{title}", "", "tern-tide.polar-night-ii"),
])  # fmt: skip
def test_names_by_a_pattern(pattern, part, name):
    check_pattern(pattern)
    assert named(pattern, NAMING, part) == name


@pytest.mark.parametrize(("pattern", "says"), [
    ("{title}", r"needs \{part\}"),
    ("{titel}_{part}", r"did you mean 'title'"),
    ("{}_{part}", "which is not one of"),
    ("{title_{part}", "the pattern of names"),
    ("../{part}", "must have no /"),
    ("x" * 130 + "{part}", "at most 120 characters"),
])  # fmt: skip
def test_patterns_that_name_nothing_are_refused(pattern, says):
    with pytest.raises(CloudriftError, match=says):
        Order(pattern=pattern)


def test_of_a_long_name_the_title_is_cut():
    long = altered(NAMING, title="Polar Night " * 30)
    part = "stem-1-" + "dusk-keys-" * 9 + "x"
    name = named("{title}_{tempo}_{key}_{part}", long, part)
    assert name.endswith(part) and name.startswith("polar-night-polar") and len(name) <= 200


# --- parts ----------------------------------------------------------------------------------------


def written(folder, what, **order):
    clips = order.pop("clips", None)
    paths = deliver(what, folder, Order(**order), clips=clips)
    return {path.name.split("_", 3)[-1] if path.name.count("_") > 2 else path.suffix: path
            for path in paths}  # fmt: skip


def read(path):
    return soundfile.read(path, dtype="float32")[0].T


def test_every_part_of_a_whole_document_is_written(tmp_path):
    loop = layer_edits.set_layer(BEDDED, "l2", role="voice")
    document = add_section(Document(loop=set_heard(loop, on=True), credits=PEOPLE), bars=2)
    clips = ClipStore()
    got = printed(loop, "Dusk", clips)
    document = with_print(document, replace(loop, bed=None), got.clip, got.facts, (), got.gain_db)
    flip = document.loop.layers[-1]
    document = document.with_loop(layer_edits.set_layer(document.loop, flip.id, parked=False))
    document = replace(document, demo=suggest_demo(document.loop, 1))
    order = Order(parts=tuple(PARTS), bits=16)
    listed = parcels(document, order)
    assert {one.part for one in listed} == {*PARTS} - {"bare"}  # it is among the stems
    assert len({one.name for one in listed}) == len(listed)
    paths = deliver(document, tmp_path, order, clips=clips)
    assert [path.name for path in paths] == [one.name for one in listed]
    for path in paths:
        if path.suffix == ".wav":
            assert Wav(path).frames > 0 and float(np.abs(read(path)).max()) > 1e-3, path.name
            assert mutagen.File(path)["TPE1"].text == ["Tern & Tide Audio"]
    assert all(path.stat().st_size > 60 for path in paths)


def test_stems_and_what_is_apart_add_up(tmp_path):
    loop = layer_edits.set_layer(SMALL, "l2", role="voice")
    loop = replace(layer_edits.group_layers(loop, ["l1", "l3"], "Dusk"), line=())
    got = written(tmp_path, loop, parts=("loop", "stems", "dry", "voice", "bass"), bits=32)
    sound = {name: read(path) for name, path in got.items()}
    stems = [audio for name, audio in sound.items() if name.startswith("stem-")]
    bare = sound["bare.wav"]
    assert db(np.abs(sum(stems) - bare).max()) < -90
    assert db(np.abs(sound[".wav"] - bare).max()) < -90  # nothing lies on the whole loop
    for role in ("voice", "bass"):
        both = sound[f"{role}.wav"] + sound[f"without-{role}.wav"]
        assert db(np.abs(both - sound[".wav"]).max()) < -90
    dry = {name: audio for name, audio in sound.items() if name.startswith("dry-")}
    assert len(dry) == len(loop.heard())
    engine = Engine()
    made = engine.stem(loop.with_owner("l1", line=(), group=""),
                       replace(loop.layer("l1"), line=(), group=""))  # fmt: skip
    engine.close()
    assert db(np.abs(next(a for n, a in dry.items() if n.startswith("dry-1")) - made).max()) < -90


def test_a_pass_and_a_long_form_come_from_silence_and_ring_out(tmp_path):
    got = written(tmp_path, SMALL, parts=("loop", "pass", "long"), bits=32)
    loop, once, long = (read(got[name]) for name in (".wav", "pass.wav", "long.wav"))
    frames = SMALL.sounding_frames
    assert loop.shape[1] == frames < once.shape[1]
    assert long.shape[1] > 4 * frames
    join = 1000  # where one turn passes into the next
    assert np.abs(once[:, : frames - join] - long[:, : frames - join]).max() < 1e-4
    assert db(np.sqrt(np.mean((long[:, 2 * frames : 3 * frames] - loop) ** 2))) < -60
    assert db(np.abs(long[:, -100:]).max()) < -60
    cues = Wav(got["long.wav"]).chunks[b"cue "]
    assert struct.unpack("<I", cues[:4]) == (4,)
    assert b"smpl" not in Wav(got["pass.wav"]).chunks and b"smpl" in Wav(got[".wav"]).chunks


def test_midi_as_written_as_heard_and_a_layer_each(tmp_path):
    loop = line_edits.add_treatment(replace(SMALL, line=()), None, "shift")
    for name, value in (("semitones", -3.0), ("way", "like tape")):
        loop = line_edits.set_treatment_setting(loop, None, loop.line[-1].id, name, value)
    paths = deliver(loop, tmp_path, Order(parts=("midi", "heard midi", "layer midi")))
    assert len(paths) == 2 + len(loop.heard())

    def notes(path):
        return [m.note for track in mido.MidiFile(path).tracks for m in track
                if m.type == "note_on"]  # fmt: skip

    plain, heard, *each = paths
    assert heard.name == "ice-road_117.73bpm_dsharp-minor_heard.mid"
    assert notes(heard) == [note - 3 for note in notes(plain)]
    tempo = next(m.tempo for m in mido.MidiFile(heard).tracks[0] if m.type == "set_tempo")
    assert mido.tempo2bpm(tempo) == pytest.approx(117.73, abs=0.01)
    assert sorted(n for path in each for n in notes(path)) == sorted(notes(plain))


def test_heard_midi_has_what_sounds_of_reversed_slowed_and_cut_up_layers(tmp_path):
    plain = replace(SMALL, line=(), layers=SMALL.layers[:1])
    first = plain.layers[0].id
    note = Note(start_tick=0, length_ticks=480, pitch=66, velocity=77)
    late = Note(start_tick=plain.ticks - 240, length_ticks=480, pitch=61, velocity=50)
    plain = own_notes.with_own(plain, first, (note, late))
    assert [(n.start_tick, n.pitch, n.velocity) for n in heard_notes(plain, plain.layers[0])] == [
        (0, 66, 77), (plain.ticks - 240, 61, 50),
    ]  # fmt: skip
    slow = line_edits.add_treatment(plain, first, "half speed")
    assert [(n.start_tick, n.length_ticks, n.pitch) for n in heard_notes(slow, slow.layers[0])] == [
        (0, 960, 54)
    ]  # fmt: skip
    back = line_edits.add_treatment(plain, first, "reverse")
    found = heard_notes(back, back.layers[0])
    assert (plain.ticks // plain.bars - 480, 66) in {(n.start_tick, n.pitch) for n in found}
    facts = prints.facts_of_print(plain, "Print", round(plain.sounding_frames), -14.0)
    document = prints.with_print(Document(loop=plain), plain, "0" * 24, facts, (), 0.0)
    flip = document.loop.layers[-1].id
    loop = flips.use(
        flips.with_flip(
            document.loop, flip,
            lambda one: replace(one, places=tuple(replace(x, semitones=2.0) for x in one.places)),
        ), flip,
    )  # fmt: skip
    assert {n.pitch for n in heard_notes(loop, loop.layer(flip))} == {68, 63}


def test_one_shots_are_of_each_sound_once_and_of_none_that_may_not_go_alone(tmp_path):
    twin = layer_edits.add_layer(SMALL, SMALL.layer("l1").played.sound.name, "Twin")
    use = SMALL.layer("l1").played.sound
    twin = layer_edits.set_source(twin, twin.layers[-1].id, sound=use)
    paths = deliver(twin, tmp_path, Order(parts=("sounds",), bits=32))
    assert len(paths) == len({x.played.sound for x in twin.heard()})
    for path in paths:
        audio = read(path)
        assert 20_000 < audio.shape[1] < 11 * RATE and db(np.abs(audio[:, -50:]).max()) < -50
        assert float(np.abs(audio[:, :8000]).max()) > 0.01


def test_pieces_are_what_plays_at_each_place(tmp_path):
    clips = ClipStore()
    got = printed(SMALL, "Dusk", clips)
    document = with_print(Document(loop=SMALL), SMALL, got.clip, got.facts, (), got.gain_db)
    flip = document.loop.layers[-1]
    document = document.with_loop(layer_edits.set_layer(document.loop, flip.id, parked=False))
    pieces = deliver(document, tmp_path, Order(parts=("pieces",), bits=32), clips=clips)
    places = [x for x in flip.flipped.places if not x.mute]
    assert len(pieces) == len(places) and pieces[0].stem.endswith("-01")
    total = sum(read(path).shape[1] for path in pieces)
    assert total == pytest.approx(SMALL.frames, abs=4000)


def test_prints_are_written_as_they_were_made(tmp_path):
    clips = ClipStore()
    got = printed(SMALL, "Dusk", clips)
    document = with_print(Document(loop=SMALL), SMALL, got.clip, got.facts, (), got.gain_db)
    (path,) = deliver(document, tmp_path, Order(parts=("prints",), bits=32), clips=clips)
    chunks = Wav(path).chunks
    count = struct.unpack("<I", chunks[b"cue "][:4])[0]
    assert count == len(SMALL.chords)
    for chord in SMALL.chords:
        assert chord.read(SMALL.key).text.encode() in path.read_bytes()
    assert path.stem.endswith("_print-1-dusk")
    engine = Engine(clips=clips)
    wanted = engine.render(SMALL).audio
    engine.close()
    assert db(np.abs(read(path) - wanted).max()) < -90


# --- level and rate -------------------------------------------------------------------------------


def test_a_target_gives_all_files_one_gain_as_far_as_the_peak_allows(tmp_path):
    plain = written(tmp_path / "a", SMALL, parts=("loop", "stems"), bits=32)
    soft = written(tmp_path / "b", SMALL, parts=("loop", "stems"), bits=32, target_lufs=-23.0)
    assert integrated_lufs(read(soft[".wav"]), RATE) == pytest.approx(-23, abs=0.05)
    ratio = np.abs(read(soft[".wav"])).max() / np.abs(read(plain[".wav"])).max()
    for name in plain:
        assert np.allclose(read(plain[name]) * ratio, read(soft[name]), atol=2e-6), name
    loud = written(tmp_path / "c", SMALL, bits=32, target_lufs=-6.0)
    assert true_peak_db(read(loud[".wav"])) == pytest.approx(-1, abs=0.05)
    said = struct.unpack("<5h", Wav(soft[".wav"]).chunks[b"bext"][412:422])
    assert said[0] == pytest.approx(-2300, abs=5)


def test_a_higher_rate_keeps_the_loop_round(tmp_path):
    got = written(tmp_path, SMALL, parts=("loop", "pass"), bits=32, rate=96_000)
    loop, once = read(got[".wav"]), read(got["pass.wav"])
    assert Wav(got[".wav"]).rate == 96_000
    low = written(tmp_path / "low", SMALL, bits=32, rate=48_000)
    wanted = read(low[".wav"])
    assert loop.shape[1] == 2 * wanted.shape[1]
    assert db(np.abs(loop[:, ::2] - wanted).max()) < -60
    spectrum = np.abs(np.fft.rfft(loop[0]))
    above = spectrum[int(len(spectrum) * 24_500 / 48_000) :]
    assert db(above.max() / spectrum.max()) < -80
    assert once.shape[1] > loop.shape[1]


# --- orders ---------------------------------------------------------------------------------------


@pytest.mark.parametrize(("order", "says"), [
    ({"parts": ("stem",)}, "did you mean 'stems'"),
    ({"parts": ()}, "nothing is selected"),
    ({"rate": 22_050}, "rate must be 44100, 48000 or 96000 Hz"),
    ({"format_name": "flac", "bits": 32}, "bits must be 16 or 24 in FLAC"),
    ({"target_lufs": 3.0}, "must lie between −40 and −5"),
    ({"target_lufs": float("nan")}, "must lie between"),
])  # fmt: skip
def test_orders_that_cannot_be_are_refused(order, says):
    with pytest.raises(CloudriftError, match=says):
        Order(**order)


def test_presets_are_orders():
    for parts in PRESETS.values():
        assert Order(parts=parts).parts == parts
    assert {name for parts in PRESETS.values() for name in parts} == {*PARTS}


def test_where_there_is_nothing_of_it_that_is_said(tmp_path):
    with pytest.raises(CloudriftError, match="none of the selected parts"):
        deliver(SMALL, tmp_path, Order(parts=("pieces", "arrangement", "bed")))


def test_files_that_would_have_one_name_are_told_apart():
    same = layer_edits.set_layer(
        layer_edits.set_layer(SMALL, "l1", name="Dusk"), "l2", name="dusk!"
    )
    names = [one.name for one in parcels(same, Order(parts=("layer midi",), pattern="{part}"))]
    assert names[:2] == ["notes-1-dusk.mid", "notes-2-dusk.mid"]
    only_title = parcels(SMALL, Order(parts=("loop", "midi"), pattern="{title}{part}"))
    assert [one.name for one in only_title] == ["ice-road.wav", "ice-road.mid"]


def test_render_writes_formats_parts_and_names(tmp_path):
    save(Document(loop=SMALL, credits=PEOPLE), tmp_path / "a.cloudrift")
    run = CliRunner().invoke(commands, [
        "render", str(tmp_path / "a.cloudrift"), "-o", str(tmp_path / "out"), "--preset",
        "loop alone", "--part", "rights", "--format", "mp3", "--target", "-16", "--names",
        "{kit}-{title}-{part}"])  # fmt: skip
    assert run.exit_code == 0, run.output
    names = sorted(path.name for path in (tmp_path / "out").iterdir())
    assert names == ["dome-show-ice-road-rights.csv", "dome-show-ice-road-rights.html",
                     "dome-show-ice-road-rights.json", "dome-show-ice-road-rights.txt",
                     "dome-show-ice-road.mp3"]  # fmt: skip
    told = CliRunner().invoke(commands, ["render", "x", "-o", "y", "--part", "list"]).stdout
    assert told.count("\n") == len(PARTS)


def test_a_recording_s_name_of_its_maker_is_in_every_file(tmp_path):
    clips = ClipStore()
    clip = clips.record(np.full((2, 88200), 0.1, np.float32), RATE)
    facts = Facts(name="Quay voice", kind="phrase", length_s=2.0, maker="Ola Finn",
                  licence="free for any use, name the maker")  # fmt: skip
    loop = add_recording(SMALL, FromRecording(clip=clip, facts=facts))
    path = written(tmp_path, Document(loop=loop, credits=PEOPLE), clips=clips)[".wav"]
    assert mutagen.File(path)["TXXX:LICENSE"].text == ["royalty-free; name Ola Finn"]
