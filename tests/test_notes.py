import io
from fractions import Fraction
from itertools import pairwise

import mido
import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.ground import CloudriftError
from cloudrift.notes import Clock, Lens, Note, Span, Touch, look, play
from cloudrift.notes.lens import DOUBLE_ST, DOUBLES, KINDS, ORDERS
from cloudrift.notes.midi import midi_file
from cloudrift.theory import Key

BAR = 3840


@st.composite
def progressions(draw):
    count = draw(st.integers(1, 6))
    spans, start = [], 0
    for _ in range(count):
        length = draw(st.sampled_from([960, 1920, 3840, 5760]))
        voices = draw(st.lists(st.integers(36, 84), min_size=1, max_size=6, unique=True))
        spans.append(Span(start_tick=start, length_ticks=length, voices=tuple(sorted(voices)),
                          root=voices[0] % 12))  # fmt: skip
        start += length
    return tuple(spans)


C_MAJOR = Key("C", "major")
keys = st.builds(Key, st.sampled_from(["C", "F#", "Bb", "E", "Ab"]),
                 st.sampled_from(["major", "minor", "phrygian dominant"]))  # fmt: skip
CHORD_KINDS = tuple(k for k in KINDS if k != "line")  # what takes nothing but chord notes
lenses = st.builds(
    Lens,
    kind=st.sampled_from(CHORD_KINDS),
    voices=st.integers(1, 8),
    skip_bass=st.booleans(),
    order=st.sampled_from(ORDERS),
    step_ticks=st.sampled_from([160, 240, 480, 720]),
    octaves=st.integers(1, 3),
    gate=st.floats(0.1, 1.0),
    variation=st.integers(1, 50),
)
touches = st.builds(
    Touch,
    roll_ms=st.floats(0, 100),
    uneven=st.floats(0, 1),
    drift_ms=st.floats(0, 20),
    spread=st.floats(0, 30),
    length=st.floats(0.1, 1.2),
    velocity=st.integers(20, 110),
    variation=st.integers(1, 50),
)


@given(progressions(), lenses)
def test_lens_notes_come_from_their_chord_and_stay_inside_the_loop(spans, lens):
    end = spans[-1].start_tick + spans[-1].length_ticks
    notes = look(lens, spans, C_MAJOR)
    assert notes or lens.kind == "inner"
    for note in notes:
        span = spans[note.chord]
        allowed = {span.root} if lens.kind == "roots" else {v % 12 for v in span.voices}
        assert note.pitch % 12 in allowed
        assert note.length_ticks >= 1
        assert span.start_tick <= note.start_tick
        assert note.start_tick + note.length_ticks <= end
        if lens.kind != "held":
            assert note.start_tick + note.length_ticks <= span.start_tick + span.length_ticks
    assert look(lens, spans, C_MAJOR) == notes


@given(progressions(), keys, st.integers(1, 99), st.floats(0, 1), st.booleans(),
       st.sampled_from([160, 240, 480, 720]))  # fmt: skip
def test_a_line_is_one_note_at_a_time_of_scale_and_chord(
    spans, key, variation, leaps, answers, step
):
    lens = Lens(kind="line", variation=variation, leaps=leaps, answers=answers, step_ticks=step)
    notes = look(lens, spans, key)
    assert notes == look(lens, spans, key)
    assert notes
    starts = [n.start_tick for n in notes]
    assert len(set(starts)) == len(starts)
    for i, note in enumerate(notes):
        span = spans[note.chord]
        chord = {v % 12 for v in span.voices}
        first = i == 0 or notes[i - 1].chord != note.chord
        assert note.pitch % 12 in chord or (not first and key.has(note.pitch))
        end = span.start_tick + span.length_ticks
        assert span.start_tick <= note.start_tick < note.start_tick + note.length_ticks <= end
        if answers:
            assert note.start_tick >= span.start_tick + span.length_ticks // 2
        assert abs(note.pitch - 67) < 30
    if leaps == 0:
        inside = [(a, b) for a, b in pairwise(notes) if a.chord == b.chord]
        last = {n.chord: n for n in notes}
        assert all(abs(a.pitch - b.pitch) <= 3 for a, b in inside if b is not last[b.chord])


@given(progressions(), keys, st.integers(2, 60))
def test_a_line_leads_into_the_next_chord_and_an_edit_stays_near(spans, key, variation):
    lens = Lens(kind="line", variation=variation, step_ticks=240)
    notes = look(lens, spans, key)
    for a, b in pairwise(notes):
        if a.chord != b.chord:
            assert abs(a.pitch - b.pitch) <= 3
    changed = (*spans[:-1], msgspec.structs.replace(spans[-1], voices=(50, 57)))
    after = look(lens, changed, key)
    far = [n for n in notes if n.chord < len(spans) - 2 and n.chord > 0]
    assert [n for n in after if 0 < n.chord < len(spans) - 2] == far


@given(progressions(), keys, lenses, st.integers(24, 72), st.sampled_from(DOUBLES),
       st.integers(-7, 7), st.integers(0, 6))  # fmt: skip
def test_what_is_laid_on_top_keeps_range_scale_and_count(spans, key, lens, low, double, steps, n):
    base = msgspec.structs.replace(lens, low=low, high=low + 14)
    notes = look(base, spans, key)
    assert all(low <= x.pitch <= low + 14 for x in notes)
    plain = look(lens, spans, key)
    assert sorted((x.start_tick, x.pitch % 12) for x in notes) == sorted(
        (x.start_tick, x.pitch % 12) for x in plain
    )
    stepped = look(msgspec.structs.replace(lens, scale_steps=steps), spans, key)
    if steps:
        assert all(key.has(x.pitch) for x in stepped if 12 < x.pitch < 120)
    thinned = look(msgspec.structs.replace(lens, drop_every=n), spans, key)
    assert len(thinned) == len(plain) - (len(plain) // n if n else 0)
    twice = look(msgspec.structs.replace(lens, double=double), spans, key)
    assert {(x.start_tick, x.pitch) for x in plain} <= {(x.start_tick, x.pitch) for x in twice}
    by = DOUBLE_ST.get(double, 0)
    there = {(x.start_tick, x.pitch) for x in plain}
    assert all((x.start_tick, x.pitch) in there or (x.start_tick, x.pitch - by) in there
               for x in twice)  # fmt: skip


def test_inner_and_bass_are_what_is_left_and_skip_goes_by_thirds():
    span = Span(start_tick=0, length_ticks=1920, voices=(48, 60, 64, 67), root=0)
    assert [n.pitch for n in look(Lens(kind="inner"), (span,), C_MAJOR)] == [60, 64]
    assert [n.pitch for n in look(Lens(kind="bass"), (span,), C_MAJOR)] == [48]
    skip = look(Lens(kind="arpeggio", order="skip", step_ticks=480), (span,), C_MAJOR)
    assert [n.pitch for n in skip] == [48, 64, 60, 67]
    assert Lens(kind="bass", double="octave up", drop_every=3).text == (
        "lowest voice, with an octave up, every third note left out"
    )
    with pytest.raises(CloudriftError, match="high is 50, but must lie between 59 and 120"):
        Lens(low=48, high=50)


@given(progressions())
def test_held_ties_common_tones_and_loses_none(spans):
    tied = look(Lens(kind="held"), spans, C_MAJOR)
    plain = look(Lens(kind="all"), spans, C_MAJOR)

    def cells(notes):
        return {
            (n.pitch, t)
            for n in notes
            for t in range(n.start_tick, n.start_tick + n.length_ticks, 960)
        }

    assert cells(tied) == cells(plain)
    ends = {(n.pitch, n.start_tick + n.length_ticks) for n in tied}
    assert not any((n.pitch, n.start_tick) in ends for n in tied)


def test_top_broken_and_roots_take_what_they_say():
    spans = (Span(start_tick=0, length_ticks=1920, voices=(42, 57, 61, 66), root=6),)
    assert [n.pitch for n in look(Lens(kind="top"), spans, C_MAJOR)] == [66]
    assert [n.pitch for n in look(Lens(kind="top", voices=2), spans, C_MAJOR)] == [61, 66]
    assert [n.pitch for n in look(Lens(kind="roots"), spans, C_MAJOR)] == [30]
    up_down = Lens(kind="arpeggio", order="up-down", skip_bass=True, step_ticks=480)
    assert [n.pitch for n in look(up_down, spans, C_MAJOR)] == [57, 61, 66, 61]
    down = Lens(kind="arpeggio", order="down", voices=2, step_ticks=480, octave=1)
    assert [n.pitch for n in look(down, spans, C_MAJOR)] == [78, 73, 78, 73]


@given(progressions(), touches)
def test_touch_changes_how_not_what(spans, touch):
    written = look(Lens(kind="all"), spans, C_MAJOR)
    played = play(written, touch)
    assert [(n.start_tick, n.pitch) for n in played] == [(n.start_tick, n.pitch) for n in written]
    for note in played:
        assert abs(note.velocity - touch.velocity) <= touch.spread + 0.5 or note.velocity in (
            1,
            127,
        )
        assert -touch.drift_ms - 0.01 <= note.offset_ms <= touch.roll_ms + touch.drift_ms + 0.01
    assert play(written, touch) == played


def test_a_roll_goes_through_the_chord_in_its_direction():
    notes = tuple(Note(start_tick=0, length_ticks=960, pitch=p) for p in (48, 55, 60, 64))
    up = play(notes, Touch(roll_ms=30))
    assert [n.offset_ms for n in up] == [0, 10, 20, 30]
    down = play(notes, Touch(roll_ms=30, direction="down"))
    assert [n.offset_ms for n in down] == [30, 20, 10, 0]
    uneven = play(notes, Touch(roll_ms=30, uneven=1.0, variation=3))
    offsets = [n.offset_ms for n in uneven]
    assert offsets == sorted(offsets)
    assert offsets not in (
        [0, 10, 20, 30],
        [n.offset_ms for n in play(notes, Touch(roll_ms=30, uneven=1.0, variation=4))],
    )


@pytest.mark.parametrize(
    ("make", "says"),
    [(lambda: Lens(gate=2), "gate is 2"), (lambda: Lens(octaves=0), "octaves is 0"),
     (lambda: Touch(roll_ms=-1), "roll_ms is -1"), (lambda: Touch(velocity=0), "velocity is 0")],
)  # fmt: skip
def test_values_outside_their_range_are_refused(make, says):
    with pytest.raises(CloudriftError, match=says):
        make()


@given(st.floats(40, 240), st.integers(1, 64))
def test_frames_are_exact_for_any_tempo_and_length(tempo, bars):
    clock = Clock.of(round(tempo, 2), 44_100)
    exact = Fraction(bars * 4 * 60 * 44_100) / Fraction(str(round(tempo, 2)))
    assert clock.exact_frames(bars * BAR) == exact
    assert clock.exact_frames(BAR) * bars == clock.exact_frames(BAR * bars)


def test_midi_files_hold_the_notes_the_tempo_and_the_key():
    notes = (
        Note(start_tick=0, length_ticks=960, pitch=60, velocity=90, offset_ms=-20.0),
        Note(start_tick=960, length_ticks=2880, pitch=64, velocity=70, offset_ms=50.0),
    )
    data = midi_file([("Dusk keys", notes)], tempo=120.0, metre=(4, 4), signature="F#m",
                     loop_ticks=BAR, title="Ice Road")  # fmt: skip
    file = mido.MidiFile(file=io.BytesIO(data))
    assert (file.type, file.ticks_per_beat) == (1, 960)
    meta = {m.type: m for m in file.tracks[0]}
    assert meta["set_tempo"].tempo == 500_000
    assert meta["key_signature"].key == "F#m"
    now, events = 0, []
    for message in file.tracks[1]:
        now += message.time
        if message.type in ("note_on", "note_off"):
            events.append((now, message.type, message.note))
    # -20 ms before the start has no place in a file; +50 ms at 120 BPM is 96 ticks.
    assert events == [
        (0, "note_on", 60),
        (922, "note_off", 60),
        (1056, "note_on", 64),
        (3840, "note_off", 64),
    ]
    assert now == BAR
