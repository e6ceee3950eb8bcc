"""Listening to recordings: tempo, beats, key, kind; what is written against what is heard."""

import json
import struct
from dataclasses import replace

import numpy as np
import pytest
import soundfile
from click.testing import CliRunner
from msgspec.structs import replace as replaced

from cloudrift.audio.about import About
from cloudrift.audio.buffers import DEFAULT_RATE as RATE
from cloudrift.audio.listen.labels import Labels, in_name, plain_name, read_labels
from cloudrift.audio.listen.pitch import glides
from cloudrift.audio.listen.pulse import Pulses, mono_of
from cloudrift.audio.listen.tempo import TempoGuess, rank_free, rank_whole
from cloudrift.audio.sound_file import write_wav
from cloudrift.cli.main import commands
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits, recordings
from cloudrift.loop.files.storage import load, save
from cloudrift.notes.listening import listen_to, read_and_listen, written_key
from cloudrift.notes.reference import read_reference
from cloudrift.render import Engine
from cloudrift.style.beginnings import empty_loop
from cloudrift.theory import Key, parse_progression
from tests.test_recordings import begins, sine, strokes

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here


def made(key, tempo, bars, row, sounds):
    loop = put_row(empty_loop(key, tempo, bars=bars), parse_progression(row, key))
    for sound in sounds:
        loop = layer_edits.add_layer(loop, sound)
    engine = Engine()
    try:
        return engine.render(loop).audio
    finally:
        engine.close()


CASES = [
    (Key("F#", "minor"), 93.0, 4, "i VI iv V", ("felt upright", "round sub", "kick", "snare")),
    (Key("Eb", "major"), 127.3, 8, "I vi IV V", ("muted pluck", "round sub")),
    (Key("A", "minor"), 84.0, 8, "i iv V7 i", ("warm pad", "fingered bass")),
]


@pytest.fixture(scope="module")
def loops():
    return [made(*case) for case in CASES]


@pytest.mark.parametrize("which", range(len(CASES)))
def test_tempo_beats_and_key_of_a_loop(loops, which):
    key, tempo, bars, *_ = CASES[which]
    heard = listen_to(loops[which], RATE)
    assert heard.kind == "loop"
    assert abs(heard.tempos[0].tempo - tempo) < 0.1
    assert heard.tempos[0].beats == 4 * bars
    assert np.abs(np.array(heard.beats_s) - np.arange(4 * bars) * 60 / tempo).max() < 0.015
    assert (heard.keys[0].key.pc, heard.keys[0].key.mode) == (key.pc, key.mode)
    assert heard.tempo == heard.tempos[0].tempo
    assert heard.key == heard.keys[0].key
    assert heard.downbeat == 0
    assert heard.doubts == ()
    assert sum(guess.confidence for guess in heard.keys) <= 1


def test_a_phrase_of_any_length_is_heard_too(loops):
    """Cut anywhere, it lasts no whole bars, and its beats lie where they lay."""
    tempo = CASES[0][1]
    start = 0.31
    part = loops[0][:, int(start * RATE) : int((start + 7.9) * RATE)]
    heard = listen_to(part, RATE)
    assert heard.kind == "phrase"
    assert abs(heard.tempos[0].tempo - tempo) < 0.7
    off = (np.array(heard.beats_s[:6]) + start) / (60 / tempo)
    assert np.abs(off - np.round(off)).max() < 0.06


def test_beats_that_are_off_are_marked_where_they_begin():
    beats = np.arange(16) * 0.5
    late = beats + np.where(np.arange(16) % 4 == 2, 0.045, 0.0)
    heard = listen_to(strokes(late, 8.0), RATE, Labels(tempo=120.0, loop=True))
    assert np.abs(np.array(heard.beats_s) - late).max() < 0.004
    assert [abs(x) > 30 for x in heard.off_ms] == [i % 4 == 2 for i in range(16)]


@pytest.mark.parametrize("rate", [22_050, 48_000])
def test_the_rate_it_is_recorded_at_does_not_matter(loops, rate):
    import soxr

    audio = np.ascontiguousarray(soxr.resample(loops[0].T, RATE, rate).T)
    heard = listen_to(audio, rate)
    assert abs(heard.tempos[0].tempo - CASES[0][1]) < 0.1
    assert heard.keys[0].key.pc == CASES[0][0].pc


def test_kinds_are_told_apart(rng):
    noise = (rng.standard_normal((2, 5 * RATE)) * 0.05).astype(np.float32)
    assert listen_to(noise, RATE).kind == "bed"
    assert listen_to(noise, RATE).keys == ()
    one = strokes((0.0,), 0.8, hz=220.0)
    heard = listen_to(one, RATE)
    assert heard.kind == "one-shot"
    assert heard.pitch == pytest.approx(57.0, abs=0.1)
    silent_end = np.pad(strokes(np.arange(8) * 0.5, 4.0), ((0, 0), (0, RATE)))
    assert listen_to(silent_end, RATE).kind == "phrase"


def test_loudness_and_noise_floor_are_measured(rng):
    quiet = (rng.standard_normal((2, 4 * RATE)) * 10 ** (-60 / 20)).astype(np.float32)
    audio = quiet + np.pad(sine(440.0, 1.0), ((0, 0), (0, 3 * RATE)))
    heard = listen_to(audio, RATE)
    assert heard.noise_db == pytest.approx(-60, abs=2)
    assert listen_to(audio * 0.5, RATE).lufs == pytest.approx(heard.lufs - 6.02, abs=0.1)


def test_a_pulse_wraps_only_where_it_is_asked(loops):
    mono = mono_of(loops[0], RATE)
    pulses = Pulses(mono)
    whole, free = pulses.pulse(wrapped=True), pulses.pulse(wrapped=False)
    assert whole.begins[0][:3].max() > free.begins[0][:3].max()  # the first stroke comes after one
    assert rank_whole(whole)[0].whole and not rank_free(free)[0].whole
    assert rank_free(Pulses(mono[:4000]).pulse(wrapped=False)) == []
    sides = np.stack([mono, -mono])
    assert np.abs(mono_of(sides, 22_050)).max() == pytest.approx(1.0)  # they cancel, and are heard


# --- what is written ------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "tempo", "tonic", "mode", "bars"),
    [("Ember_Choir_142bpm_F#min_8bars", 142, "F#", "minor", 8), ("loop 93 Am", 93, "A", "minor", 0),
     ("Bb_minor_pad-120BPM", 120, "Bb", "minor", 0), ("vox (Fsharp major) bpm100.5", 100.5, "F#",
     "major", 0), ("A night to remember", 0, "", "", 0),
     ("128_Ebm_keys_loop", 128, "Eb", "minor", 0),
     ("Gbmaj_88", 88, "Gb", "major", 0), ("chord in D dorian 77 bpm", 77, "D", "dorian", 0),
     ("E flat minor 66 bpm", 66, "Eb", "minor", 0), ("vox_F#_140", 140, "F#", "", 0),
     ("kick 01", 0, "", "", 0), ("B.minor.74BPM", 74, "B", "minor", 0), ("Dm7 stab", 0, "", "", 0),
     ("tempo=71,5 C♯m", 71.5, "C#", "minor", 0), ("1999 mix 20bpm", 0, "", "", 0)],
)  # fmt: skip
def test_names_are_read_in_their_usual_spellings(name, tempo, tonic, mode, bars):
    found = in_name(name)
    assert (found.tempo, found.tonic, found.mode, found.bars) == (tempo, tonic, mode, bars)
    assert set(found.said_by.values()) <= {"its name"}


@pytest.mark.parametrize(
    ("name", "plain"),
    [("ember_vox_96bpm_Em", "ember vox"), ("Choir 142bpm F#min 8bars", "Choir"),
     ("A night", "A night"), ("120bpm", "120bpm")],
)  # fmt: skip
def test_a_layer_is_called_by_what_is_left_of_the_name(name, plain):
    assert plain_name(name) == plain


def test_fields_of_files_go_before_the_name(tmp_path):
    audio = strokes((0.0, 0.5), 1.0)
    ours = tmp_path / "x_90bpm.wav"
    write_wav(
        ours,
        audio,
        RATE,
        bits=16,
        about=About(title="Harbour", maker="Tern", tempo=120.0, key="F#m", loop=True),
    )
    found = read_labels(ours)
    assert (found.tempo, found.tonic, found.mode) == (120.0, "F#", "minor")
    assert (found.loop, found.title, found.maker) == (True, "Harbour", "Tern")
    flac = tmp_path / "y.flac"
    soundfile.write(flac, audio.T, RATE)
    import mutagen

    tags = mutagen.File(flac)
    tags["BPM"], tags["INITIALKEY"], tags["ARTIST"] = "87.5", "Gm", "Tern & Tide Audio"
    tags["LICENSE"] = "free for all"
    tags.save()
    found = read_labels(flac)
    assert (found.tempo, found.tonic, found.mode) == (87.5, "G", "minor")
    assert (found.maker, found.licence) == ("Tern & Tide Audio", "free for all")
    mp3 = tmp_path / "z_70bpm.mp3"
    soundfile.write(mp3, audio.T, RATE)
    from mutagen.id3 import ID3, TBPM, TIT2, TKEY

    tags = ID3()
    for frame in (
        TBPM(encoding=3, text="101"),
        TKEY(encoding=3, text="C"),
        TIT2(encoding=3, text="Q"),
    ):
        tags.add(frame)
    tags.save(mp3)
    found = read_labels(mp3)
    assert (found.tempo, found.tonic, found.mode, found.title) == (101.0, "C", "major", "Q")


NO_LOOP = struct.pack("<9I", 0, 0, 0, 0, 0, 0, 0, 0, 0)


@pytest.mark.parametrize(
    "body",
    [b"", b"RIFF", b"RIFF\xff\xff\xff\xffWAVELIST\xff\xff\xff\xffINFO",
     b"RIFF\0\0\0\0WAVEsmpl\x24\0\0\0" + NO_LOOP],
)  # fmt: skip
def test_fields_that_are_spoilt_say_nothing(tmp_path, body):
    path = tmp_path / "plain_100bpm.wav"
    path.write_bytes(body)
    assert read_labels(path).tempo == 100.0


def test_a_label_beats_hearing_and_doubt_is_said(loops):
    _key, tempo, *_ = CASES[0]
    good = listen_to(loops[0], RATE, Labels(tempo=tempo, tonic="F#", mode="minor"))
    assert good.doubts == ()
    doubled = listen_to(loops[0], RATE, Labels(tempo=2 * tempo))
    assert doubled.doubts == () and doubled.tempo == 2 * tempo
    wrong = listen_to(loops[0], RATE, Labels(tempo=110.0, tonic="C", mode="major"))
    assert wrong.tempo == 110.0 and wrong.key == Key("C", "major")
    assert wrong.doubts == (
        "written 110 BPM, estimated 93.0 BPM",
        "written C major, estimated F♯ minor",
    )
    relative = listen_to(loops[0], RATE, Labels(tonic="A", mode="major"))
    assert relative.doubts == ()  # the same notes
    tonic = listen_to(loops[0], RATE, Labels(tonic="F#"))
    assert tonic.key == Key("F#", "minor")
    assert written_key(Labels(), good.keys) is None


# --- bad input ------------------------------------------------------------------------------------


def test_what_cannot_be_listened_to_is_said(tmp_path):
    def wav(name, data, rate=RATE):
        path = tmp_path / name
        soundfile.write(path, data, rate)
        return path

    for path, words in (
        (wav("empty.wav", np.zeros((0, 2))), "silent or empty"),
        (wav("silent.wav", np.zeros((RATE, 2))), "silent or empty"),
        (wav("one.wav", np.ones((1, 2)) * 0.5), "silent or empty"),
        (wav("long.wav", np.ones((61 * 8000, 1)) * 0.1, 8000), "longer than 60 s"),
        (tmp_path / "none.wav", "could not read"),
    ):
        with pytest.raises(CloudriftError, match=words):
            read_and_listen(path)
    (tmp_path / "text.wav").write_text("no sound")
    with pytest.raises(CloudriftError, match="could not read"):
        read_and_listen(tmp_path / "text.wav")
    cut = wav("cut.wav", strokes((0.1, 0.6), 2.0).T)
    cut.write_bytes(cut.read_bytes()[:60_000])
    assert read_and_listen(cut)[2].length_s < 2
    eight = wav("eight.wav", np.tile(strokes((0.0, 0.5), 1.0)[0], (8, 1)).T)
    assert read_and_listen(eight)[0].shape[0] == 2


@pytest.mark.parametrize("frames", [2, 40, 441, 3000])
def test_very_short_sounds_are_heard_without_harm(rng, frames):
    audio = rng.standard_normal((2, frames)).astype(np.float32) * 0.1
    heard = listen_to(audio, RATE)
    facts = recordings.facts_of(heard, "x") if frames > 0.005 * RATE else None
    assert heard.length_s == pytest.approx(frames / RATE)
    assert facts is None or facts.length_s > 0


# --- the command line -----------------------------------------------------------------------------


@pytest.fixture
def file(tmp_path, loops):
    path = tmp_path / "ember_93bpm_F#m.wav"
    write_wav(path, loops[0] * 0.5, RATE, bits=24)
    return path


def run(*arguments):
    return CliRunner().invoke(commands, [str(one) for one in arguments], catch_exceptions=False)


def test_listen_says_what_is_heard_and_written(file):
    out = run("listen", file).output
    assert "estimated 93.0 BPM" in out and "written 93 BPM, F♯ minor" in out
    (facts,) = json.loads(run("listen", file, "--json").output)
    assert facts["kind"] == "loop" and facts["bars"] == 4
    assert facts["tempo"] == pytest.approx(93, abs=0.1) and facts["key"] == "F# minor"
    assert 0 < facts["tempo_confidence"] <= 1 and 0 < facts["key_confidence"] <= 1
    assert facts["beats_s"][0] == facts["downbeat_s"] == 0
    assert facts["labels"]["tempo"] == 93 and facts["labels"]["key"] == "F# minor"


def test_add_lays_a_recording_into_a_loop(file, tmp_path):
    from cloudrift.audio.clips import ClipStore

    start, out = tmp_path / "a.cloudrift", tmp_path / "b.cloudrift"
    save(empty_loop(Key("A", "minor"), 120.0, bars=4), start)
    said = run("add", start, file, "--shift", "auto", "--licence", "own", "-o", out).output
    assert "ember, loop to the tempo, every 4 bars, +3 semitones" in said
    clips = ClipStore()
    loop = load(out, clips)
    source = loop.layers[0].recorded
    assert (source.semitones, source.facts.licence, source.every_bars) == (3.0, "own", 4)
    engine = Engine(clips=clips)
    try:
        heard = listen_to(engine.render(loop).audio, RATE)
    finally:
        engine.close()
    assert heard.tempos[0].tempo == pytest.approx(120, abs=0.1)
    assert (heard.keys[0].key.pc, heard.keys[0].key.mode) == (9, "minor")
    taped = recordings.taped_st(replaced(source, fit="tape"), 120.0)
    up = round((3.0 - taped) % 12, 2)  # the tape has taken its pitch along
    for shift, wanted in (("up", up), ("down", round(up - 12, 2)), ("-1.5", -1.5)):
        run("add", start, file, "--shift", shift, "--at", "2", "--fit", "tape", "-o", out,
            "--replace")  # fmt: skip
        source = load(out).layers[0].recorded
        assert (source.semitones, source.fit, source.at_tick) == (wanted, "tape", 3840)
    run("add", start, file, "--key", "C minor", "--tempo", "60", "--shift", "auto", "-o", out,
        "--replace")  # fmt: skip
    source = load(out).layers[0].recorded
    assert (source.semitones, source.facts.tempo) == (-3.0, 60.0)
    assert "recording ember" in run("info", out).output


@pytest.mark.parametrize(("more", "words"), [(("--shift", "sideways"), "must be auto, up, down"),
    (("--at", "9"), "no bar 9"), (("--fit", "glue"), "glue")])  # fmt: skip
def test_add_says_what_it_cannot_do(file, tmp_path, more, words):
    start = tmp_path / "a.cloudrift"
    save(empty_loop(Key("A", "minor"), 120.0, bars=4), start)
    result = CliRunner().invoke(commands, ["add", str(start), str(file), *more, "-o",
                                           str(tmp_path / "b")])  # fmt: skip
    assert words in str(result.exception) + result.output
    assert not (tmp_path / "b.cloudrift").exists()


def test_strokes_are_heard_where_they_are():
    assert np.allclose(begins(strokes((0.2, 0.9), 1.5)), (0.2, 0.9), atol=0.002)


def test_what_is_shared_between_both_pulses_is_what_each_would_be_alone():
    rng = np.random.default_rng(5)
    for count in (300, 9000, 60_000):
        mono = rng.normal(0, 0.2, count).astype(np.float32)
        shared = Pulses(mono)
        shared.pulse(wrapped=False)
        for wrapped in (False, True):
            alone, both = Pulses(mono).pulse(wrapped=wrapped), shared.pulse(wrapped=wrapped)
            assert np.array_equal(alone.begins, both.begins)
            assert np.array_equal(alone.changes, both.changes)
        # Round and round it is the middle of itself three times over.
    mono = rng.normal(0, 0.2, 128 * 400).astype(np.float32)
    thrice = Pulses(np.tile(mono, 3)).pulse(wrapped=False).begins[0]
    round_ = Pulses(mono).pulse(wrapped=True).begins[0]
    assert np.corrcoef(thrice[400:800], round_)[0, 1] > 0.999


def spoken(rng, seconds):
    """A voice that speaks: its pitch never rests, its vowels change, it goes from loud to loud."""
    frames = int(seconds * RATE)
    t = np.arange(frames) / RATE
    knots = np.linspace(0, seconds, int(seconds * 6))
    hz = np.interp(t, knots, 120 * 2 ** rng.uniform(-0.45, 0.45, len(knots)))
    phase = 2 * np.pi * np.cumsum(hz) / RATE
    vowel = np.interp(t, knots, rng.uniform(400, 900, len(knots)))
    voice = sum(np.cos(k * phase) / (1 + ((k * hz - vowel) / 250) ** 2) for k in range(1, 20))
    loud = np.interp(t, knots, np.resize((1.0, 0.6, 0.02), len(knots)))
    return np.stack([0.3 * voice * loud] * 2).astype(np.float32)


@pytest.mark.parametrize("seconds", [1.7, 2.0, 2.6, 3.0])
def test_a_spoken_line_is_a_one_shot_and_no_loop(rng, seconds):
    audio = spoken(rng, seconds)
    assert glides(mono_of(audio, RATE), 22_050) > 0.5
    heard = listen_to(audio, RATE)
    assert (heard.kind, heard.tempos) == ("one-shot", ())
    # What says that it is a loop, or has a tempo written on it, is taken at its word.
    assert listen_to(audio, RATE, Labels(loop=True)).kind == "loop"
    assert listen_to(audio, RATE, Labels(tempo=120.0)).kind != "one-shot"


def test_notes_rest_on_their_pitches(rng, loops):
    one_bar = [loop[:, : round(4 * 60 / case[1] * RATE)] for loop, case in zip(loops, CASES,
               strict=True)]  # fmt: skip
    for audio in (*one_bar, sine(220, 2.0), 0.1 * rng.normal(size=(2, RATE)).astype(np.float32)):
        assert glides(mono_of(np.ascontiguousarray(audio), RATE), 22_050) < 0.4
    assert glides(np.zeros(100, np.float32), 22_050) == 0.0
    for audio in one_bar:
        assert listen_to(np.ascontiguousarray(audio), RATE).kind == "loop"


def test_what_slides_softly_under_a_note_does_not_count():
    rest = sine(220, 1.0)[0]
    t = np.arange(RATE) / RATE
    slide = 0.002 * np.sin(2 * np.pi * (150 * t + 100 * t**2))
    mono = mono_of(np.tile(np.concatenate([rest, slide]).astype(np.float32), (2, 1)), RATE)
    assert glides(mono, 22_050) < 0.1


def test_of_a_tempo_and_its_double_the_written_one_is_first():
    guesses = (TempoGuess(184.0, 0.5, 16, True), TempoGuess(92.0, 0.45, 8, True),
               TempoGuess(61.3, 0.05, 5.3, False))  # fmt: skip
    heard = replace(listen_to(sine(220, 2.0), RATE), tempos=guesses)
    assert heard.ranked == guesses
    told = replace(heard, labels=Labels(tempo=92.0))
    assert [one.tempo for one in told.ranked] == [92.0, 184.0, 61.3]
    # What is written and far from what is heard moves nothing.
    assert replace(heard, labels=Labels(tempo=61.3)).ranked == guesses


def test_a_label_breaks_the_tie_where_a_loop_is_begun_from_a_recording(loops, tmp_path):
    _key, tempo, *_ = CASES[0]
    for label, factor in (("", None), ("_46.5bpm", 0.5), ("_186bpm", 2.0)):
        write_wav(tmp_path / f"pier{label}.wav", loops[0], RATE, bits=16)
        first = read_reference(tmp_path / f"pier{label}.wav").tempos[0]
        heard = {round(one.tempo) for one in listen_to(loops[0], RATE).tempos}
        if factor and round(tempo * factor) in heard:
            assert first == pytest.approx(tempo * factor, rel=0.01)
