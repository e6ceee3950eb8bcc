"""MIDI files in: what players and programs write, whole and broken, and the chords in it."""

import io
import json
import struct

import mido
import pytest
from msgspec.structs import replace

from cloudrift.cli import main
from cloudrift.demo import demo_loops
from cloudrift.ground import CloudriftError
from cloudrift.loop.edits.layers.from_notes import put_played
from cloudrift.loop.sounding import notes_of
from cloudrift.notes import Note
from cloudrift.notes.find_chords import find_chords, guess_key
from cloudrift.notes.from_midi import read_song
from cloudrift.notes.midi import midi_file
from cloudrift.notes.midi_in import read_midi
from cloudrift.notes.tempo import guess_tempo, rank_tempos
from cloudrift.notes.time import bar_ticks
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.theory import Key, read_chord

BAR = 3840


def head(kind=0, tracks=1, division=480):
    return b"MThd" + struct.pack(">IHHH", 6, kind, tracks, division)


def track(body):
    return b"MTrk" + struct.pack(">I", len(body)) + body


END = b"\x00\xff\x2f\x00"


def file_of(*tracks, kind=1, division=480):
    return head(kind, len(tracks), division) + b"".join(track(t + END) for t in tracks)


def tempo(bpm, delta=b"\x00"):
    return delta + b"\xff\x51\x03" + round(60e6 / bpm).to_bytes(3)


def chord_file(chords, *, division=480, length=1920, pedal=False):
    """A type 0 file of block chords, as mido writes it (with running status)."""
    file = mido.MidiFile(type=0, ticks_per_beat=division)
    line = mido.MidiTrack()
    for voices in chords:
        if pedal:
            line.append(mido.Message("control_change", control=64, value=127))
        line.extend(mido.Message("note_on", note=v, velocity=80) for v in voices)
        held = length // 8 if pedal else length
        for i, v in enumerate(voices):
            line.append(mido.Message("note_off", note=v, time=held if i == 0 else 0))
        if pedal:
            line.append(mido.Message("control_change", control=64, value=0, time=length - held))
    file.tracks.append(line)
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


AEOLIAN = ((45, 57, 60, 64), (41, 57, 60, 65), (48, 55, 60, 64), (43, 55, 59, 62))


# --- reading ------------------------------------------------------------------------------------


def test_running_status_and_notes_ended_by_velocity_nought():
    body = b"\x00\x90\x3c\x64\x00\x40\x64\x83\x60\x3c\x00\x00\x40\x00"
    song = read_midi(file_of(body, kind=0), "a.mid")
    assert [(n.pitch, n.start_tick, n.length_ticks) for n in song.notes] == [
        (60, 0, 960), (64, 0, 960),
    ]  # fmt: skip
    assert (song.tempo, song.tempo_from) == (120, "standard")


def test_tracks_of_type_1_sound_together_and_drums_are_passed_over():
    keys = b"\x00\x90\x3c\x64\x83\x60\x80\x3c\x00"
    bass = b"\x00\x91\x24\x64\x83\x60\x81\x24\x00"
    drums = b"\x00\x99\x24\x64\x83\x60\x89\x24\x00"
    song = read_midi(file_of(tempo(90), keys, bass, drums), "a.mid")
    assert [n.pitch for n in song.notes] == [36, 60]
    assert (song.tempo, song.tempo_from) == (90, "file")


def test_of_several_tempos_the_one_that_lasts_longest_counts():
    head_track = tempo(60) + tempo(140, b"\x83\x60") + tempo(80, b"\x9e\x00")
    notes = b"\x00\x90\x3c\x64\xa4\x00\x80\x3c\x00"
    song = read_midi(file_of(head_track, notes), "a.mid")
    assert song.tempo == pytest.approx(140, abs=0.01)
    assert [tick for tick, _ in song.tempos] == [0, 960, 960 + 7680]


def test_the_pedal_holds_what_is_let_go():
    song = read_midi(chord_file(AEOLIAN[:2], pedal=True), "a.mid")
    assert {n.length_ticks for n in song.notes} == {BAR}
    assert {n.length_ticks for n in read_midi(chord_file(AEOLIAN[:2]), "a.mid").notes} == {BAR}


def test_a_note_that_is_never_let_go_ends_with_its_track():
    song = read_midi(file_of(b"\x00\x90\x3c\x64\x87\x40\xb0\x01\x00"), "a.mid")
    assert song.notes[0].length_ticks == 1920


def test_times_in_frames_get_a_tempo_from_their_onsets():
    division = ((256 - 25) << 8) | 40  # 25 frames of 40 ticks: milliseconds
    beat = b"".join(
        (b"\x00" if i == 0 else b"\x83\x74") + b"\x90\x3c\x64" + b"\x64\x80\x3c\x00"
        for i in range(16)
    )
    song = read_midi(file_of(beat, kind=0, division=division), "a.mid")
    assert song.tempo_from == "estimate"
    assert song.tempo == pytest.approx(100, abs=0.2)
    assert song.notes[4].start_tick == pytest.approx(4 * 960, abs=8)


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"RIFFxxxx", r"does not start with MThd at byte 0"),
        (b"", r"does not start with MThd at byte 0"),
        (head()[:10], r"truncated in its header, at byte 10"),
        (head(kind=2) + track(END), r"of type 2 \(byte 8\)"),
        (head(division=0) + track(END), r"no time division \(byte 12\)"),
        (head(), r"no track after its header, at byte 14"),
        (head() + b"MTrk\x00\x00\x01\x00\x00", r"track 1 begins at byte 14 .* ends at byte 23"),
        (head() + track(b"\x00\x3c\x64" + END), r"track 1, at byte 2\d"),
        (head() + track(b"\x00\x90\x3c"), r"track 1, at byte 25"),
        (head(1, 2) + track(END) + track(b"\x00\x90\x3c\x64\x00\x90"), r"track 2, at byte \d\d"),
        (head() + b"\x01\x02\x03\x04\x00\x00\x00\x00", r"no track or other known part at byte 14"),
    ],
)
def test_a_broken_file_gets_one_sentence_with_its_place(data, says):
    with pytest.raises(CloudriftError, match=says) as caught:
        read_midi(data, "broken.mid")
    assert str(caught.value).startswith("broken.mid")
    assert "\n" not in str(caught.value)


def test_parts_of_other_kinds_are_passed_over_and_odd_bytes_clipped():
    odd = head() + b"XFIH\x00\x00\x00\x02ab" + track(b"\x00\x90\x3c\xe4\x60\x80\x3c\x00" + END)
    assert [n.pitch for n in read_midi(odd, "a.mid").notes] == [60]


# --- chords -------------------------------------------------------------------------------------


# Where chords come late or the bass walks, what is heard at a place is not the chord alone.
STILL = sorted({*house_cards()} - {"Juno Calder", "Lio Castellan"})


@pytest.mark.parametrize("variation", [2, 3, 5, 8])
@pytest.mark.parametrize("style", STILL)
def test_the_chords_of_a_sketch_are_found_again_from_all_its_notes(style, variation):
    loop = sketch(house_cards()[style], None, None, variation)
    parts = [(layer.name, notes_of(loop, layer)) for layer in loop.layers]
    data = midi_file(parts, tempo=loop.tempo, metre=loop.metre, loop_ticks=loop.ticks,
                     signature=loop.key.signature_name, title=loop.title)  # fmt: skip
    song = read_midi(data, "a.mid")
    found = find_chords(song.notes, song.metre)
    wanted = []
    for chord in loop.chords:  # the same chord twice is one
        name = chord.read(loop.key).name
        if not wanted or wanted[-1][1] != name:
            wanted.append((chord.start_tick, name))
    names = [read_chord(c.voices, loop.key, root_hint=c.root).name for c in found]
    assert list(zip((c.start_tick for c in found), names, strict=True)) == wanted
    assert song.tempo == pytest.approx(loop.tempo, abs=0.01)


def test_block_chords_keep_their_own_voicing():
    found = find_chords(read_midi(chord_file(AEOLIAN), "a.mid").notes)
    assert [c.voices for c in found] == list(AEOLIAN)
    assert [(c.start_tick, c.length_ticks) for c in found] == [(i * BAR, BAR) for i in range(4)]
    pedalled = find_chords(read_midi(chord_file(AEOLIAN, pedal=True), "a.mid").notes)
    assert [c.voices for c in pedalled] == list(AEOLIAN)


def test_a_new_bass_under_the_same_chord_is_a_new_chord():
    chords = ((45, 57, 60, 64), (43, 57, 60, 64))
    found = find_chords(read_midi(chord_file(chords), "a.mid").notes)
    assert [c.voices for c in found] == list(chords)


def test_broken_chords_are_put_together():
    notes = []
    for bar, voices in enumerate(AEOLIAN):
        for i in range(16):
            notes.append(Note(start_tick=bar * BAR + i * 240, length_ticks=200,
                              pitch=voices[i % 4]))  # fmt: skip
    found = find_chords(notes)
    assert [c.voices for c in found] == list(AEOLIAN)
    assert [c.start_tick for c in found] == [i * BAR for i in range(4)]


def test_a_chord_ends_with_the_bar_in_which_its_notes_end():
    bar = BAR
    stab, held = (45, 57, 60, 64), (41, 57, 60, 65)

    def played(voices, start, length):
        return [Note(start_tick=start, length_ticks=length, pitch=v, velocity=90) for v in voices]

    notes = [*played(stab, 0, 900), *played(held, 3 * bar, bar + 60)]
    first, second = find_chords(notes)
    assert (first.start_tick, first.length_ticks) == (0, bar)  # not up to the next, in bar 4
    assert second.start_tick == 3 * bar
    # Within the bar in which it ends it lasts until the next; a tune behind it is no part of it.
    tune = [Note(start_tick=bar + 960 * i, length_ticks=900, pitch=74 + i, velocity=90)
            for i in range(4)]  # fmt: skip
    found = find_chords([*played(stab, 0, 900), *played(held, 1920, 1800), *tune])
    assert [(c.start_tick, c.length_ticks) for c in found[:2]] == [(0, 1920), (1920, 1920)]


def test_what_is_played_in_is_not_held_over_bars_in_which_nothing_is_held():
    loop = sketch(find_card("Marlow Quist"), Key("A", "minor"), 93, 1)
    bar = bar_ticks(loop.metre)
    played = [(0, 57), (0, 60), (0, 64), (2 * bar, 53), (2 * bar, 57), (2 * bar, 60)]
    notes = [Note(start_tick=a, length_ticks=900, pitch=v, velocity=90) for a, v in played]
    chords = put_played(loop, notes).chords
    stab = [replace(note, length_ticks=60) for note in notes[3:]]
    assert [(c.start_tick, c.length_ticks) for c in put_played(loop, stab).chords] == [
        (2 * bar, bar)
    ]
    assert [(c.start_tick, c.length_ticks) for c in chords] == [(0, bar), (2 * bar, bar)]


def test_a_single_line_and_silence_do_no_harm():
    assert find_chords(()) == ()
    line = [Note(start_tick=i * 960, length_ticks=900, pitch=p) for i, p in
            enumerate((69, 72, 76, 72, 65, 69, 72, 69))]  # fmt: skip
    found = find_chords(line)
    assert 1 <= len(found) <= 8
    assert all(c.voices for c in found)


def test_a_signature_tips_the_scales_between_relative_keys():
    notes = read_midi(chord_file(((48, 55, 60, 64), (45, 57, 60, 64))), "a.mid").notes
    assert guess_key(notes, signature="Am").key == Key("A", "minor")
    assert guess_key(notes, signature="C").key == Key("C", "major")


def test_a_signature_speaks_for_a_mode_of_its_notes_too_but_less():
    def sure(signature, key):
        notes = read_midi(chord_file(((50, 57, 62, 65), (55, 59, 62, 67)) * 2), "a.mid").notes
        chords = [(c.start_tick, c.end_tick, c.voices) for c in find_chords(notes)]
        guess = guess_key(notes, chords, signature)
        return guess.confidence if guess.key == key else 0.0

    dorian = Key("D", "dorian")
    assert sure("", dorian) > 0.4, "D minor and G major are D dorian without a signature"
    assert sure("C", dorian) > sure("", dorian)
    assert sure("Dm", dorian) < sure("", dorian)


@pytest.mark.parametrize("bpm", [72.0, 93.5, 120.0, 142.0])
def test_a_tempo_is_found_from_onsets(bpm, rng):
    beats = [0, 1, 1.5, 2, 3, 3.75] + [4 + b for b in (0, 1, 2, 2.5, 3)]
    onsets = [(b + 8 * k) * 60 / bpm + rng.normal(0, 0.004) for k in range(4) for b in beats]
    ranked = rank_tempos(onsets)
    assert min(abs(b / bpm - 1) for b in ranked) < 0.005
    assert guess_tempo([]) == 120


# --- command line -------------------------------------------------------------------------------


def test_chords_names_a_file_and_says_how_sure_it_is(tmp_path, capsys):
    path = tmp_path / "pier.mid"
    path.write_bytes(chord_file(AEOLIAN))
    main(["chords", str(path), "--json"])
    facts = json.loads(capsys.readouterr().out)
    assert facts["key"] in ("A minor", "C major")
    assert 0 < facts["key_confidence"] <= 1
    assert facts["key_from"] == "estimate"
    assert [c["name"] for c in facts["chords"]] == ["Am", "F", "C", "G"]
    assert set(facts["chords"][0]) == {"name", "root", "bass", "degree", "start_tick",
                                       "length_ticks", "voices", "alternatives"}  # fmt: skip
    main(["chords", str(path), "--key", "A minor"])
    said = capsys.readouterr().out
    assert "A minor (given)" in said
    assert "VII" in said


def test_chords_refuses_a_broken_file_in_one_sentence(tmp_path, capsys):
    path = tmp_path / "cut.mid"
    path.write_bytes(chord_file(AEOLIAN)[:-9])
    for wrong in (path, tmp_path / "none.mid"):
        with pytest.raises(SystemExit) as stop:
            main(["chords", str(wrong), "--json"])
        assert stop.value.code == 2
        said = capsys.readouterr().err
        assert said.count("\n") == 1
        assert str(wrong) in said
    empty = tmp_path / "drums.mid"
    empty.write_bytes(file_of(b"\x00\x99\x24\x64\x60\x89\x24\x00"))
    with pytest.raises(CloudriftError, match="has no notes"):
        read_song(empty)


def test_the_demo_kit_is_read_back(tmp_path):
    loop = demo_loops()[0]
    parts = [(layer.name, notes_of(loop, layer)) for layer in loop.layers]
    path = tmp_path / "night.mid"
    path.write_bytes(midi_file(parts, tempo=loop.tempo, metre=loop.metre, loop_ticks=loop.ticks,
                               signature="", title=loop.title))  # fmt: skip
    song = read_song(path)
    assert song.key == loop.key
    assert [c.root for c in song.chords] == [c.root for c in loop.chords]
