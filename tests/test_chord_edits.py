"""Everything that composers do to chords, as edits of a loop."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.ground import CloudriftError
from cloudrift.loop import Loop
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits, chord_time, progression
from cloudrift.loop.model.loop import Layer
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import FromChords
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.lens import Lens, look
from cloudrift.notes.touch import ChordTouch, Touch
from cloudrift.theory import Key, parse_progression
from cloudrift.theory.build import build_of
from cloudrift.theory.fit import plain_key
from cloudrift.theory.movement import total_movement

BAR, BEAT, SIXTEENTH = 3840, 960, 240
IDS = ("c1", "c2", "c3", "c4")
every_id = st.sampled_from(IDS)


def names(loop):
    return [c.read(loop.key).name for c in loop.chords]


@pytest.fixture
def empty():
    return Loop(title="Ice Road", key=Key("C#", "minor"), tempo=140.0, bars=8)


# --- voices -------------------------------------------------------------------------------------


def test_a_mute_and_a_tie_go_with_their_voice(bare_chords):
    loop = chord_edits.mute_voice(bare_chords, "c2", 1)
    loop = chord_edits.tie_voice(loop, "c2", 1)
    loop = chord_edits.move_voice(loop, "c2", 1, steps=1)
    chord = loop.chord("c2")
    assert chord.muted == chord.tied == (59,)
    assert 59 not in chord.sounding
    assert chord_edits.remove_voice(loop, "c2", 1).chord("c2").muted == ()
    assert chord_edits.mute_voice(loop, "c2", 1).chord("c2").muted == ()


def test_voices_are_added_and_taken_out(bare_chords):
    loop = chord_edits.add_voice(bare_chords, "c1", 69)
    assert loop.chord("c1").voices == (42, 57, 61, 66, 69)
    assert chord_edits.add_voice(loop, "c1", 69) == loop
    assert chord_edits.next_free_pitch(loop, "c1", -1) == 73
    for _ in range(4):
        loop = chord_edits.remove_voice(loop, "c1", 0)
    with pytest.raises(CloudriftError, match="keeps at least one voice"):
        chord_edits.remove_voice(loop, "c1", 0)
    for pitch in range(70, 79):
        loop = chord_edits.add_voice(loop, "c1", pitch)
    with pytest.raises(CloudriftError, match="at most 10 voices"):
        chord_edits.add_voice(loop, "c1", 90)


def test_one_voice_is_moved_through_all_chords_by_an_octave(bare_chords):
    loop = chord_edits.move_voice_through(bare_chords, "c1", 3, semitones=12)
    assert [c.voices[-1] for c in loop.chords] == [78, 78, 78, 77]
    back = chord_edits.move_voice_through(loop, "c1", 3, semitones=-12)
    assert back == bare_chords
    assert chord_edits.move_voice_through(bare_chords, "c1", 3, semitones=60) is bare_chords


@given(every_id, st.integers(-4, 4))
def test_a_chord_moved_by_steps_stays_in_the_key_and_returns(bare_chords, chord_id, steps):
    loop = chord_edits.set_degree(bare_chords, chord_id, 4)
    there = chord_edits.move_chord(loop, chord_id, steps=steps)
    assert all(loop.key.has(v) for v in there.chord(chord_id).voices)
    assert chord_edits.move_chord(there, chord_id, steps=-steps) == loop
    shape = chord_edits.move_chord(loop, chord_id, semitones=steps).chord(chord_id)
    assert [v - steps for v in shape.voices] == list(loop.chord(chord_id).voices)
    assert shape.root == (loop.chord(chord_id).root + steps) % 12


# --- build --------------------------------------------------------------------------------------


def test_a_build_is_changed_one_thing_at_a_time(bare_chords):
    loop = chord_edits.set_extension(bare_chords, "c3", "7", True)
    assert names(loop)[2] == "Bm7"
    loop = chord_edits.set_third(loop, "c3", "none")
    assert names(loop)[2] == "B7(no 3)"
    loop = chord_edits.set_third(loop, "c3", "own")
    loop = chord_edits.set_spacing(loop, "c3", "cluster")
    body = loop.chord("c3").voices[1:]
    assert body[-1] - body[0] <= 11
    loop = chord_edits.set_lowest(loop, "c3", 2)
    assert loop.chord("c3").voices[1] % 12 == 2
    bass = loop.chord("c3").voices[0]
    assert chord_edits.set_bass(loop, "c3", 2).chord("c3").voices[0] == bass - 12
    assert chord_edits.set_bass(loop, "c3", 0).chord("c3").voices == loop.chord("c3").voices[1:]
    topped = chord_edits.set_top_root(loop, "c3", True).chord("c3").voices
    assert topped[-1] % 12 == 11
    assert topped[:-1] == loop.chord("c3").voices


@given(every_id, st.booleans())
def test_an_inversion_keeps_the_notes_and_the_bass_below(bare_chords, chord_id, up):
    before = bare_chords.chord(chord_id)
    after = chord_edits.invert(bare_chords, chord_id, up=up).chord(chord_id)
    assert sorted(v % 12 for v in after.voices) == sorted(v % 12 for v in before.voices)
    assert (sum(after.voices) > sum(before.voices)) == up
    assert after.voices[0] % 12 == before.voices[0] % 12


@given(every_id, st.integers(48, 80))
def test_a_register_is_reached_as_near_as_inversions_allow(bare_chords, chord_id, register):
    after = chord_edits.set_register(bare_chords, chord_id, float(register)).chord(chord_id)
    body = build_of(after.voices, after.root)
    assert abs(body.register - register) <= 6
    assert {v % 12 for v in after.voices} == {v % 12 for v in bare_chords.chord(chord_id).voices}


def test_a_rub_and_a_reading_by_hand(bare_chords):
    loop = chord_edits.add_rub(bare_chords, "c1", 2)
    assert loop.chord("c1").voices == (42, 57, 61, 62, 66)
    loop = chord_edits.set_root(bare_chords, "c3", 2)
    assert loop.chord("c3").root == 2


def test_a_bass_is_held_through_chords_or_refused_in_words(bare_chords):
    loop = chord_edits.hold_bass(bare_chords, ["c1", "c2", "c3"])
    assert [c.voices[0] for c in loop.chords] == [42, 42, 42, 49]
    assert loop.chord("c2").tied == loop.chord("c3").tied == (42,)
    notes = look(Lens(kind="all"), loop.spans, loop.key)
    assert next(n for n in notes if n.pitch == 42).length_ticks == 6 * BAR
    with pytest.raises(CloudriftError, match="at least two chords"):
        chord_edits.hold_bass(bare_chords, ["c1"])
    high = chord_edits.move_chord(bare_chords, "c1", semitones=24)
    with pytest.raises(CloudriftError, match="would be above a voice"):
        chord_edits.hold_bass(high, ["c1", "c2"])


def test_nearest_voicing_moves_less_and_leaves_bass_and_first_alone(bare_chords):
    wide = chord_edits.move_chord(bare_chords, "c2", semitones=12)
    wide = chord_edits.set_bass(wide, "c2", 2)
    near = chord_edits.to_nearest(wide, IDS)
    assert near.chord("c1") == wide.chord("c1")
    assert near.chord("c2").voices[0] == wide.chord("c2").voices[0]

    def moved(loop):
        return total_movement(loop.chord("c1").voices[1:], loop.chord("c2").voices[1:])

    assert moved(near) < moved(wide)
    assert moved(near) == 1
    assert names(near) == names(wide)


# --- key ----------------------------------------------------------------------------------------


def test_nearest_never_changes_a_bass_note_that_has_no_room_below(bare_chords):
    """A body led down to the lowest octave leaves no E below it: the chord stays as it was."""
    first, second = bare_chords.chords[:2]
    low = replace(first, voices=(25, 28, 32), root=1)
    with_bass = replace(second, voices=(40, 48, 52, 55), root=0)
    loop = replace(bare_chords, chords=(low, with_bass, *bare_chords.chords[2:]))
    near = chord_edits.to_nearest(loop, [second.id]).chords[1]
    assert near.voices[0] % 12 == 4


@given(st.integers(0, 11), st.integers(0, 11))
def test_a_key_there_and_back_is_the_identity(bare_chords, first, second):
    start = loop_edits.set_key(bare_chords, plain_key(first, "minor"))
    assert names(start) == [
        c.read(start.key).name for c in loop_edits.set_key(start, start.key).chords
    ]
    there = loop_edits.set_key(start, plain_key(second, "minor"))
    back = loop_edits.set_key(there, start.key)
    assert back == start
    degrees = [c.read(there.key).degree for c in there.chords]
    assert degrees == [c.read(start.key).degree for c in start.chords]


def test_a_key_goes_by_semitones_keeps_its_degrees_in_a_mode_or_is_only_renamed(bare_chords):
    up = loop_edits.shift_key(bare_chords, 3)
    assert up.key == Key("A", "minor")
    assert up.chord("c1").voices == tuple(v + 3 for v in bare_chords.chord("c1").voices)
    assert loop_edits.shift_key(up, -3) == bare_chords
    with pytest.raises(CloudriftError, match="out of range"):
        loop_edits.shift_key(bare_chords, -24)
    major = loop_edits.set_key(bare_chords, Key("F#", "major"))
    assert names(major)[0] == "F#"
    renamed = loop_edits.rename_key(bare_chords, Key("A", "major"))
    assert renamed.chords == bare_chords.chords
    assert renamed.chord("c1").read(renamed.key).degree == "vi"


# --- when ---------------------------------------------------------------------------------------


@given(
    every_id, st.integers(-9000, 40000), st.sampled_from(["set_end", "set_start", "place_chord"])
)
def test_dragging_in_time_never_breaks_the_row(bare_chords, chord_id, tick, how):
    loop = getattr(chord_time, how)(bare_chords, chord_id, tick)
    assert [c.id for c in loop.chords] == list(IDS)
    assert all(c.length_ticks >= 60 for c in loop.chords)
    assert loop.chords[-1].end_tick <= loop.ticks
    assert [c.voices for c in loop.chords] == [c.voices for c in bare_chords.chords]
    if how == "place_chord":
        assert loop.chord(chord_id).length_ticks == 2 * BAR


def test_neighbours_that_touch_follow(bare_chords):
    loop = chord_time.set_end(bare_chords, "c2", 4 * BAR + BEAT)
    assert loop.chord("c3").start_tick == 4 * BAR + BEAT
    loop = chord_time.set_start(loop, "c2", 2 * BAR - BEAT)
    assert loop.chord("c1").end_tick == 2 * BAR - BEAT
    gap = chord_time.remove_chords(bare_chords, ["c2"])
    assert chord_time.room_behind(gap, "c1") == 2 * BAR
    assert chord_time.set_end(gap, "c1", 3 * BAR).chord("c3") == gap.chord("c3")


def test_chords_are_put_where_there_is_room_or_part_the_one_before(empty):
    loop, first = chord_time.add_chord(empty, "", (1, 4, 8))
    assert (loop.chord(first).start_tick, loop.chord(first).length_ticks) == (0, BAR)
    for tones in ((9, 1, 4), (6, 9, 1)):
        loop, last = chord_time.add_chord(loop, loop.chords[-1].id, tones)
    assert [c.start_tick for c in loop.chords] == [0, BAR, 2 * BAR]
    assert names(loop) == ["C#m", "A", "F#m"]
    between, new = chord_time.add_chord(loop, first, (8, 11, 3), bass=11)
    assert [c.length_ticks for c in between.chords] == [2 * BEAT, 2 * BEAT, BAR, BAR]
    assert between.chord(new).read(loop.key).name == "G#m/B"
    copied, copy = chord_time.copy_chord(loop, last)
    assert copied.chord(copy).voices == loop.chord(last).voices
    assert copied.chord(copy).start_tick == 3 * BAR
    with pytest.raises(CloudriftError, match="no room before"):
        chord_time.add_chord(loop, "", (1, 4, 8))


def test_late_gate_and_strikes_shape_the_rhythm(bare_chords):
    loop = chord_time.set_late(bare_chords, chord_time.every_second(bare_chords), SIXTEENTH)
    assert [c.late_ticks for c in loop.chords] == [0, SIXTEENTH] * 2
    loop = chord_time.set_gate(loop, ["c2"], 0.5)
    loop = chord_time.strike_every(loop, ["c2"], BAR)
    assert loop.chord("c2").hits == (
        (2 * BAR + SIXTEENTH, BAR // 2),
        (3 * BAR + SIXTEENTH, (BAR - SIXTEENTH) // 2),
    )
    loop = chord_time.toggle_strike(loop, "c2", BEAT)
    assert loop.chord("c2").strikes == (0, BEAT, BAR)
    only = chord_time.set_strikes(loop, ["c2"], (BEAT,))
    assert chord_time.toggle_strike(only, "c2", BEAT) is only
    notes = look(Lens(kind="all"), loop.spans, loop.key)
    assert sorted({n.start_tick for n in notes if n.chord == 1}) == [
        2 * BAR + SIXTEENTH, 2 * BAR + SIXTEENTH + BEAT, 3 * BAR + SIXTEENTH,
    ]  # fmt: skip
    short = chord_time.set_end(loop, "c2", 2 * BAR + 120)
    assert short.chord("c2").late_ticks <= 60


def test_repeats_are_tied_into_held_chords_and_untied(bare_chords):
    loop, _ = chord_time.copy_chord(bare_chords, "c1")
    again = loop.chords[1].id
    held = chord_edits.hold_repeats(loop, [again])
    notes = look(Lens(kind="all"), held.spans, held.key)
    assert len([n for n in notes if n.pitch == 42]) == 1
    assert next(n for n in notes if n.pitch == 42).length_ticks == 2 * BAR
    assert chord_edits.untie(held, [again]) == loop


def test_a_chord_has_a_touch_of_its_own_until_it_follows_its_layer_again(bare_chords):
    source = FromChords(sound=SoundUse(name="felt upright"), touch=Touch(roll_ms=30, variation=4))
    keys = Layer(id="l1", name="Keys", role="keys", source=source)
    loop = replace(bare_chords, layers=(keys,))
    own = chord_time.set_chord_touch(loop, ["c2"], top=2, direction="up")
    assert own.chord("c2").touch == ChordTouch(roll_ms=30, top=2, variation=4)
    played = notes_of(own, keys)
    second = sorted((n for n in played if n.chord == 1), key=lambda n: n.pitch)
    assert [n.offset_ms for n in second] == [0, 0, 15, 30]
    rolled = chord_time.reroll_touch(chord_time.set_chord_touch(own, ["c2"], uneven=1.0), ["c2"])
    assert rolled.chord("c2").touch.variation == 5
    straight = chord_time.straight(rolled, ["c2"])
    assert {n.offset_ms for n in notes_of(straight, keys) if n.chord == 1} == {0}
    assert {n.offset_ms for n in notes_of(straight, keys) if n.chord == 0} != {0}
    assert chord_time.as_layer(straight, ["c2"]) == loop


# --- rows ---------------------------------------------------------------------------------------


def test_a_row_is_put_down_evenly_or_as_its_bar_lines_say(empty):
    loop = progression.put_row(empty, parse_progression("i VI iv7 V7", empty.key))
    assert names(loop) == ["C#m", "A", "F#m7", "G#7"]
    assert [c.length_ticks for c in loop.chords] == [2 * BAR] * 4
    assert all(len(c.voices) >= 4 for c in loop.chords)
    assert all(48 <= v <= 80 for c in loop.chords for v in c.voices[1:])
    loop = progression.put_row(empty, parse_progression("Dm9 G13/B | Cmaj7", empty.key))
    assert [c.length_ticks for c in loop.chords] == [2 * BEAT, 2 * BEAT, BAR]
    assert loop.chords[1].voices[0] % 12 == 11
    three = progression.put_row(empty, parse_progression("i VI V", empty.key))
    assert [c.length_ticks // BAR for c in three.chords] == [2, 2, 4]
    long = progression.put_row(empty, parse_progression("i | VI | iv | V | i | v | i | V | i",
                                                        empty.key))  # fmt: skip
    assert long.bars == 9
    with pytest.raises(CloudriftError, match="a loop holds 64"):
        progression.put_row(empty, parse_progression("i |" * 65, empty.key))


def test_a_block_is_copied_with_its_end_to_change(bare_chords):
    loop, last = progression.copy_block(bare_chords)
    assert loop.bars == 16
    assert [c.voices for c in loop.chords[4:]] == [c.voices for c in bare_chords.chords]
    changed = chord_edits.set_degree(loop, last, 3)
    assert names(changed)[:7] == names(loop)[:7]
    assert names(changed)[7].split("/")[0] == "A"
    with pytest.raises(CloudriftError, match="a loop holds 64"):
        progression.copy_block(loop_edits.set_bars(bare_chords, 40))


def test_a_row_is_its_own_answer_backwards_and_starts_anywhere(bare_chords):
    both = progression.mirror(bare_chords)
    assert names(both) == names(bare_chords) + names(bare_chords)[::-1]
    assert both.chords[-1].end_tick == both.ticks
    turned = progression.start_from(bare_chords, "c3")
    assert [c.id for c in turned.chords] == ["c3", "c4", "c1", "c2"]
    assert turned.chords[0].start_tick == 0
    assert progression.start_from(turned, "c1") == bare_chords
    with pytest.raises(CloudriftError, match="no chords yet"):
        progression.mirror(chord_time.remove_chords(bare_chords, IDS))


@given(every_id, st.sampled_from([240, 480, 960]))
def test_passing_notes_lead_by_half_steps_and_add_no_time(bare_chords, chord_id, ticks):
    loop, new = progression.add_passing(bare_chords, chord_id, ticks)
    at = [c.id for c in loop.chords].index(new)
    passing, behind = loop.chords[at], loop.chords[(at + 1) % len(loop.chords)]
    assert passing.length_ticks == ticks
    assert passing.end_tick == (behind.start_tick or loop.ticks)
    before = bare_chords.chord(chord_id).voices
    for voice in set(passing.voices) - set(before):
        assert {voice - 1, voice + 1} & set(behind.voices)
    assert loop.chords[-1].end_tick == bare_chords.ticks
