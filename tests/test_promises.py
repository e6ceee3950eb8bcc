"""Promises that docstrings make and that a one-line fault would break unseen."""

import io
import struct
from itertools import pairwise

import mido
import numpy as np
import pytest
from msgspec.structs import replace
from mutagen.id3 import ID3

from cloudrift.deliver import Order, deliver
from cloudrift.deliver.writer import write_midi
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.settings import Field
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.model.loop import LEVEL
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.notes import find_chords as find_chords_module
from cloudrift.notes.fields import CHORD_TOUCH, LENS, LENS_SHOWS, TOUCH, of_lens
from cloudrift.notes.find_chords import guess_key
from cloudrift.notes.from_midi import read_parts
from cloudrift.notes.lens import Lens
from cloudrift.notes.note import Note
from cloudrift.notes.touch import Touch, play
from cloudrift.render import Engine
from cloudrift.render.plan.plan import ONCE, loop_context, mix_node, passes_of
from cloudrift.render.play.player import Player
from cloudrift.sound import CATALOGUE
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.texture import KINDS, Context, RidePoint, Treatment
from cloudrift.texture.ride import BLEND, Ride, ride_shares
from cloudrift.texture.running import treat
from cloudrift.theory import Key
from cloudrift.theory.fit import HeardChord, guess_keys, weights_of
from cloudrift.theory.pitch import name_to_pc
from cloudrift.theory.voicing import LOWEST_BASS, bass_near
from tests.conftest import db, main_hz, rms, sine

RATE = 44_100


# --- chords and notes -----------------------------------------------------------------------------


@pytest.mark.parametrize("pc", range(12))
def test_a_bass_is_a_fourth_or_more_below_the_rest_and_near_the_one_before(pc):
    for before in range(LOWEST_BASS, 56):
        for above in ((52, 57, 60), (60, 64, 67), (48, 50, 55)):
            bass = bass_near(before, pc, above)
            assert bass % 12 == pc
            assert bass <= min(above) - 5
            nearer = [p for p in (bass - 12, bass + 12)
                      if abs(p - before) < abs(bass - before) and p >= LOWEST_BASS]  # fmt: skip
            assert all(p > min(above) - 5 for p in nearer)


def test_loudness_spreads_both_ways_about_the_touch():
    notes = tuple(Note(start_tick=480 * i, length_ticks=240, pitch=60) for i in range(200))
    velocities = [n.velocity for n in play(notes, Touch(velocity=80, spread=20))]
    assert min(velocities) < 68
    assert max(velocities) > 92
    assert max(abs(v - 80) for v in velocities) <= 20
    assert abs(np.mean(velocities) - 80) < 4


def test_a_touch_holds_notes_as_long_as_it_says():
    note = Note(start_tick=0, length_ticks=1000, pitch=60)
    for length, wanted in ((0.25, 250), (1.0, 1000), (1.2, 1200)):
        assert play((note,), Touch(length=length))[0].length_ticks == wanted


def test_a_cadence_speaks_for_its_key():
    """The same chords as often and as long; only the order tells where they lead."""
    home = [HeardChord(frozenset({0, 4, 7}), 0, 1.0), HeardChord(frozenset({7, 11, 2}), 7, 1.0),
            HeardChord(frozenset({5, 9, 0}), 5, 1.0)]  # fmt: skip
    tonic, dominant, other = home
    closing = [tonic, other, dominant, tonic, other, dominant, tonic]
    open_row = [tonic, dominant, other, tonic, dominant, other, tonic]
    weights = weights_of([tuple(c.tones) for c in closing], [1.0] * 7)

    def share(row):
        return next(g.confidence for g in guess_keys(weights, row) if g.key == Key("C", "major"))

    assert share(closing) > share(open_row) + 0.005


def test_which_root_a_chord_has_is_asked_of_the_nearest_key():
    """A C E G is Am7 in A minor, C6 in C major: notes alone tell which of them is near."""
    blocks = [(48, 57, 64, 67, 72), (45, 57, 60, 64), (50, 57, 62, 65), (52, 56, 59, 64)]
    notes = [Note(start_tick=3840 * i, length_ticks=3840, pitch=p)
             for i, voices in enumerate(blocks) for p in voices]  # fmt: skip
    seen = []
    real = find_chords_module.read_chord

    def reads(voices, key, **more):
        seen.append(key)
        return real(voices, key, **more)

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(find_chords_module, "read_chord", reads)
        guess_key(notes, [(3840 * i, 3840 * (i + 1), v) for i, v in enumerate(blocks)])
    assert {(key.pc, key.mode) for key in seen} <= {(9, "minor"), (0, "major")}


def test_strikes_without_room_are_passed_over_and_come_again(small_loop):
    chord = replace(small_loop.chords[0], length_ticks=3840, strikes=(0, 960, 2880), gate=1.0)
    assert [start for start, _ in chord.hits] == [0, 960, 2880]
    short = replace(chord, length_ticks=1200)
    assert short.hits == ((0, 960), (960, 240))
    assert replace(short, length_ticks=3840).hits == chord.hits
    late = replace(chord, length_ticks=500, strikes=(480,), late_ticks=100)
    assert late.hits == ((100, 400),)  # with no room for any it is struck once


def midi(path, *starts):
    file = mido.MidiFile(ticks_per_beat=480)
    track = mido.MidiTrack()
    file.tracks.append(track)
    at = 0
    for start in starts:  # in beats
        track.append(mido.Message("note_on", note=60, velocity=80, time=round(480 * start) - at))
        track.append(mido.Message("note_off", note=60, time=240))
        at = round(480 * start) + 240
    file.save(path)
    return path


def test_whole_bars_of_silence_in_front_of_a_midi_file_are_left_out(small_loop, tmp_path):
    song = read_parts(midi(tmp_path / "late.mid", 9, 10))  # its first note in the third bar
    layer = put_layers(small_loop, song.parts).layers[-1]
    assert [n.start_tick for n in layer.own] == [960, 1920]


def test_what_lies_behind_the_loop_s_end_is_not_taken_from_a_midi_file(small_loop, tmp_path):
    beats = small_loop.ticks // 960
    song = read_parts(midi(tmp_path / "long.mid", 0, beats - 0.25, beats + 1, beats + 3))
    own = put_layers(small_loop, song.parts).layers[-1].own
    assert [n.start_tick for n in own] == [0, small_loop.ticks - 240]
    assert own[-1].end_tick == small_loop.ticks


def test_no_note_that_is_played_early_or_late_is_written_outside_the_loop(small_loop, tmp_path):
    loop = layer_edits.set_source(
        small_loop, "l1", touch=Touch(drift_ms=60, roll_ms=400, variation=3)
    )
    write_midi(tmp_path / "a.mid", loop, loop.heard())
    file = mido.MidiFile(tmp_path / "a.mid")
    scale = file.ticks_per_beat / 960
    for track in file.tracks:
        ends = sum(message.time for message in track)
        assert ends <= round(loop.ticks * scale)


def test_from_c_to_f_sharp_and_back_every_voice_is_where_it_was():
    loop = sketch(find_card("Marlow Quist"), Key("C", "minor"), 140.0, 1, bars=4)
    for away in (Key("F#", "minor"), Key("Gb", "minor")):
        back = loop_edits.set_key(loop_edits.set_key(loop, away), Key("C", "minor"))
        assert [c.voices for c in back.chords] == [c.voices for c in loop.chords]


def test_places_are_painted_in_part(small_loop):
    bar = 3840
    half = layer_edits.set_places(small_loop, "l1", 960, bar, plays=False)
    assert half.layer("l1").source.lens.where == ((0, 960), (bar, small_loop.ticks))
    less = layer_edits.set_places(half, "l1", 480, 1200, plays=False)
    assert less.layer("l1").source.lens.where == ((0, 480), (bar, small_loop.ticks))
    more = layer_edits.set_places(less, "l1", 720, 1920, plays=True)
    assert more.layer("l1").source.lens.where == ((0, 480), (720, 1920), (bar, small_loop.ticks))
    joined = layer_edits.set_places(more, "l1", 480, 720, plays=True)
    assert joined.layer("l1").source.lens.where == ((0, 1920), (bar, small_loop.ticks))


def test_swapping_two_sounds_keeps_their_turns(small_loop):
    loop = layer_edits.take_turns(layer_edits.set_aside(small_loop, "l2", "glass pad"), "l2", 4)
    swapped = layer_edits.swap_sounds(loop, "l2")
    assert swapped.layer("l2").source.other.every_bars == 4
    assert layer_edits.swap_sounds(swapped, "l2") == loop


# --- sound ----------------------------------------------------------------------------------------


def test_a_ride_has_no_corner_that_would_click():
    points = (RidePoint(tick=0, value=0.0), RidePoint(tick=1, value=100.0))
    context = Context(rate=RATE, exact_frames=float(2 * RATE), tempo=120.0)
    shares = ride_shares(Ride(of="blend", points=points), BLEND, context)
    assert np.ptp(shares) > 0.9
    jump = np.abs(np.diff(np.concatenate([shares, shares[:1]]))).max()
    assert jump < 0.01  # a step of one tick is spread over some milliseconds


@pytest.mark.parametrize("blend", [0.01, 0.49, 1.0])
def test_a_shift_that_is_hardly_blended_in_does_not_move_the_key(small_loop, blend):
    loop = line_edits.set_line(small_loop, None, ())
    loop = line_edits.add_treatment(loop, None, "shift")
    one = loop.line[0].id
    loop = line_edits.set_treatment_setting(loop, None, one, "semitones", -3)
    loop = line_edits.set_treatment_setting(loop, None, one, "way", "keep length")
    loop = line_edits.set_treatment(loop, None, one, blend=blend)
    moved = (key_heard(loop).pc - loop.key.pc) % 12
    assert moved == (9 if blend == 1 else 0)


def test_chord_places_are_stretched_with_tape(small_loop):
    tape = Treatment(id="t1", kind="shift").set("semitones", -12).set("way", "like tape")
    context = loop_context(small_loop)
    from cloudrift.texture.treatment import after, time_ratio

    behind = after(context, (tape,))
    assert time_ratio((tape,)) == pytest.approx(2)
    assert behind.cuts == tuple(round(2 * cut) for cut in context.cuts)
    assert behind.tempo == pytest.approx(context.tempo / 2)


def test_a_treatment_that_cuts_at_chords_is_made_anew_where_they_move(small_loop):
    loop = line_edits.add_treatment(line_edits.set_line(small_loop, None, ()), None, "reverse")
    moved = replace(loop, chords=(
        replace(loop.chords[0], length_ticks=1920),
        replace(loop.chords[1], start_tick=1920,
                length_ticks=loop.chords[1].end_tick - 1920), *loop.chords[2:]))  # fmt: skip
    still = own_notes.detach(loop, "l1").layers[:1]  # what comes in is the same
    engine = Engine()
    one = engine.render(replace(loop, layers=still)).audio
    other = engine.render(replace(moved, layers=still)).audio
    engine.close()
    assert db(rms(one - other)) > -50


def test_one_pass_keeps_a_group_s_tail_and_all_bars(small_loop):
    bare = replace(
        small_loop, line=(), layers=tuple(replace(x, line=()) for x in small_loop.layers)
    )
    grouped = layer_edits.group_layers(bare, ["l1"], "Dusk")
    long = line_edits.add_treatment(grouped, "g1", "hall")
    hall = long.line_of("g1")[0].id
    long = line_edits.set_treatment_setting(long, "g1", hall, "decay_s", 9.0)
    assert passes_of(long) > passes_of(grouped)
    engine = Engine()
    once = engine.once(long)
    assert once.shape[1] > long.frames + 4 * RATE
    mix = engine.audio(mix_node(long, engine.tones, ONCE))
    for bar in range(long.bars):
        part = mix[:, long.frames * bar // long.bars : long.frames * (bar + 1) // long.bars]
        assert db(rms(part)) > -50
    engine.close()


def test_an_edit_does_not_reset_the_part_that_turns():
    player = Player(RATE)
    player.load(sine(220))
    player.hear_part(0.25, 0.5)
    player.play()
    player.pull(512)
    player.load(sine(330))
    player.pull(512)
    assert player.part == (0.25, 0.5)
    for _ in range(200):
        player.pull(512)
        assert 0.24 < player.share < 0.51


def test_what_rides_is_blended_once(rng):
    audio = (rng.standard_normal((2, 2 * RATE)) * 0.1).astype(np.float32)
    context = Context(rate=RATE, exact_frames=float(2 * RATE), tempo=120.0)
    one = Treatment(id="t1", kind="compressor")
    field = next(f for f in one.of.spec if f.rides and not f.choices)
    points = (RidePoint(tick=0, value=field.low), RidePoint(tick=960, value=field.high))
    whole, half = (replace(one.with_ride(field.name, points), blend=blend) for blend in (1.0, 0.5))
    wet, blended = (treat(audio, (each,), context) for each in (whole, half))
    np.testing.assert_allclose(blended, audio + 0.5 * (wet - audio), atol=1e-6)
    assert np.abs(wet - audio).max() > 1e-3


def test_treatments_leave_what_they_are_given_as_it_is(rng):
    audio = (rng.standard_normal((2, RATE)) * 0.1).astype(np.float32)
    kept = audio.copy()
    context = Context(rate=RATE, exact_frames=float(RATE), tempo=120.0)
    for kind in ("cuts", "echo", "compressor", "chorus", "hall", "tape", "warm"):
        treat(audio, (Treatment(id="t1", kind=kind, blend=0.5),), context)
        np.testing.assert_array_equal(audio, kept)


# --- files ----------------------------------------------------------------------------------------


def chunks_of(path):
    raw, out, at = path.read_bytes(), {}, 12
    while at + 8 <= len(raw):
        name, size = struct.unpack("<4sI", raw[at : at + 8])
        out[name] = raw[at + 8 : at + 8 + size]
        at += 8 + size + size % 2
    return out


@pytest.mark.parametrize("tonic", ["C", "Db", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B"])
def test_a_treated_file_says_the_key_and_tempo_that_are_heard(tmp_path, tonic):
    loop = sketch(find_card("Marlow Quist"), Key(tonic, "minor"), 120.0, 1, bars=1, title="Pier")
    loop = replace(loop, layers=loop.layers[:1], line=())
    loop = line_edits.add_treatment(loop, None, "shift")
    one = loop.line[0].id
    loop = line_edits.set_treatment_setting(loop, None, one, "semitones", -12 + 5)
    loop = line_edits.set_treatment_setting(loop, None, one, "way", "like tape")
    order = Order(parts=("loop", "stems"), bits=16)
    files = {path.name: chunks_of(path) for path in deliver(loop, tmp_path, order)}
    treated = next(c for name, c in files.items() if "bare" not in name and "stem" not in name)
    bare = next(c for name, c in files.items() if "bare" in name)
    ratio = 2 ** (-7 / 12)
    for chunks, pc, tempo in ((treated, (name_to_pc(tonic) - 7) % 12, 120 * ratio),
                              (bare, name_to_pc(tonic), 120.0)):  # fmt: skip
        assert struct.unpack("<I", chunks[b"smpl"][12:16])[0] % 12 == pc
        (said,) = ID3(io.BytesIO(chunks[b"id3 "]))["TBPM"].text
        assert float(said) == pytest.approx(tempo, abs=0.006)
        said = chunks[b"LIST"].split(b"key ")[1].split(b" ")[0].decode()
        assert name_to_pc(said) == pc


# --- styles ---------------------------------------------------------------------------------------


def test_a_card_s_grammar_repeats_a_chord_only_where_it_says_so():
    for card in house_cards().values():
        assert not any(token in after for token, after in card.chords.next.items())
        alone = replace(card, groove=None, layers=card.layers[:1])  # chords are drawn by themselves
        assert (
            sketch(alone, Key("C", "minor"), 120.0, 7).chords
            == sketch(card, Key("C", "minor"), 120.0, 7).chords
        )
        for variation in range(100):
            chords = sketch(alone, Key("C", "minor"), 120.0, variation).chords
            names = [(c.root, tuple(sorted({v % 12 for v in c.voices}))) for c in chords]
            assert all(a != b for a, b in pairwise(names)), (card.name, variation)
    says = {token: (token,) for token in card.chords.next}
    stays = replace(
        card, chords=replace(card.chords, next=says, starts=card.chords.starts[:1], vary_end=0.0)
    )
    assert len({c.root for c in sketch(stays, Key("C", "minor"), 120.0, 1).chords}) == 1


def test_a_lens_plays_as_many_voices_as_its_kind_usually_takes(small_loop):
    loop = layer_edits.set_source(small_loop, "l1", lens=Lens(kind="top"))
    assert {len([n for n in notes_of(loop, loop.layer("l1")) if n.start_tick == t])
            for t in {n.start_tick for n in notes_of(loop, loop.layer("l1"))}} == {1}  # fmt: skip


def test_a_played_note_has_its_pitch(small_loop):
    loop = replace(layer_edits.set_source(small_loop, "l1", lens=Lens(kind="top")), line=())
    loop = replace(loop, layers=(replace(loop.layers[0], line=()),))
    engine = Engine()
    audio = engine.render(loop).audio
    engine.close()
    note = notes_of(loop, loop.layers[0])[0]
    start = loop.clock.frames(note.start_tick) + 2000
    wanted = 440 * 2 ** ((note.pitch - 69) / 12)
    heard = main_hz(audio[:, start : start + RATE // 2], wanted * 0.9, wanted * 1.1)
    assert heard == pytest.approx(wanted, rel=0.003)


# --- fields ---------------------------------------------------------------------------------------


def every_field():
    for owner in (*KINDS.values(), *CATALOGUE.values()):
        for field in owner.spec:
            yield f"{owner.name} {field.name}", field
    described = (*TOUCH, *CHORD_TOUCH, *(one for group in LENS.values() for one in group))
    for field in (*(one.field for one in described), LEVEL, BLEND):
        yield field.name, field


@pytest.mark.parametrize("share", [0.0, 0.13, 0.37, 0.5, 0.82, 1.0])
def test_what_a_field_writes_it_reads_back(share):
    for name, field in every_field():
        values = field.choices or (field.from_share(share),)
        for value in values:
            again = field.read(field.text(value))
            assert again is not None, name
            assert field.text(again) == field.text(value), name
            if isinstance(value, float):
                assert field.to_share(again) == pytest.approx(field.to_share(value), abs=0.01), name


@pytest.mark.parametrize("one", [*TOUCH, *CHORD_TOUCH, *(x for g in LENS.values() for x in g)],
                         ids=lambda one: one.name)  # fmt: skip
def test_what_is_kept_of_a_lens_or_a_touch_is_shown_again(one):
    for value in one.field.choices or (one.field.low, one.field.high):
        assert one.shown(one.kept(value)) == value


def test_every_end_of_a_field_is_allowed_and_no_step_beyond_it():
    for kind in LENS_SHOWS:
        for one in of_lens(kind):
            if one.field.choices or one.name in ("voices", "variation"):
                continue
            for end, way in ((one.field.low, -1), (one.field.high, 1)):
                assert getattr(Lens(**{one.name: one.kept(end)}), one.name) == one.kept(end)
                with pytest.raises(CloudriftError, match=f"lens: {one.name} is"):
                    Lens(**{one.name: one.kept(end + way)})
    for one in TOUCH:
        if not one.field.choices:
            for end, way in ((one.field.low, -1), (one.field.high, 1)):
                assert getattr(Touch(**{one.name: one.kept(end)}), one.name) == one.kept(end)
                with pytest.raises(CloudriftError, match=f"touch: {one.name} is"):
                    Touch(**{one.name: one.kept(end + way)})


@pytest.mark.parametrize(("typed", "wanted"), [
    ("380", 380), ("1.2 kHz", 1200), ("1,2k", 1200), ("−5", 20), ("99999", 20_000), ("off", None),
    ("", None), ("plenty", None), ("about 5", None),
])  # fmt: skip
def test_what_is_typed_is_read_as_it_is_meant(typed, wanted):
    field = Field(name="hz", label="Cut", default=100, unit="Hz", low=20, high=20_000, log=True)
    assert field.read(typed) == wanted
    assert Field(name="t", label="T", default=1, unit="ms", low=1, high=9000).read("4 s") == 4000
    choice = Field(name="c", label="C", default="up", choices=("up", "up-down", "random"))
    assert [choice.read(t) for t in ("up", "UP-", "r", "x", "")] == ["up", "up-down", "random",
                                                                  None, None]  # fmt: skip
