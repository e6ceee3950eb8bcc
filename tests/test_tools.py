"""Tools on notes: what holds for all of them, over all keys; then what each is for."""

from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.ground import CloudriftError
from cloudrift.loop.edits.layers import own_notes
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.history import History
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.note import HIGHEST, LOWEST, Note, numbered
from cloudrift.notes.tools import TOOLS, ToolContext, find_tool, use
from cloudrift.theory import Key

BAR, LOOP = 3840, 4 * 3840
C_MAJOR = Key("C", "major")
TONICS = ("C", "C#", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B")
keys = st.builds(Key, st.sampled_from(TONICS),
                 st.sampled_from(["major", "minor", "phrygian dominant", "dorian"]))  # fmt: skip
some_notes = st.lists(
    st.builds(
        Note, start_tick=st.integers(0, LOOP // 60 - 2).map(lambda n: 60 * n),
        length_ticks=st.sampled_from([60, 240, 480, 1920, 3840]), pitch=st.integers(30, 100),
        velocity=st.integers(1, 127), offset_ms=st.floats(-30, 30),
    ),
    max_size=24, unique_by=lambda n: (n.start_tick, n.pitch),
)  # fmt: skip
# What adds or takes away notes; all others keep their number.
CHANGES_COUNT = {"slice", "join", "break up", "octave", "stagger", "echo", "approach", "scale run",
                 "fill gaps", "repeat", "skip bars", "bounce", "turn"}  # fmt: skip
FROM_SCALE = {"in the scale", "fill gaps", "scale run", "into the key"}


def around(key=C_MAJOR, grid=240):
    return ToolContext(key=key, tempo=120.0, loop_ticks=LOOP, bar_ticks=BAR, grid_ticks=grid)


def inside_loop(notes):
    return numbered(replace(n, length_ticks=min(n.length_ticks, LOOP - n.start_tick))
                    for n in notes)  # fmt: skip


@st.composite
def settings_of(draw, tool):
    pairs = {}
    for field in tool.spec:
        if field.choices:
            pairs[field.name] = draw(st.sampled_from(field.choices))
        else:
            pairs[field.name] = float(draw(st.integers(round(field.low), round(field.high))))
    return tool.spec.check(pairs, tool.name)


@pytest.mark.parametrize("name", TOOLS)
@given(data=st.data(), notes=some_notes, key=keys)
def test_every_tool_leaves_whole_notes_inside_the_loop(name, data, notes, key):
    tool = TOOLS[name]
    notes = inside_loop(notes)
    picked = frozenset(n.id for n in notes if data.draw(st.booleans()))
    settings = data.draw(settings_of(tool))
    made, left = use(tool, notes, picked, around(key), settings)
    assert (made, left) == use(tool, notes, picked, around(key), settings)  # the same variation
    ids = [n.id for n in made]
    assert len(set(ids)) == len(ids)
    assert min(ids, default=1) >= 1
    places = [(n.start_tick, n.pitch) for n in made]
    assert places == sorted(set(places))
    for note in made:
        assert 0 <= note.start_tick < note.end_tick <= LOOP
        assert note.length_ticks >= 30
        assert LOWEST <= note.pitch <= HIGHEST
        assert 1 <= note.velocity <= 127
    others = {n for n in notes if picked and n.id not in picked}
    assert others <= set(made)  # what was not picked is as it was
    assert left == {n.id for n in made} - {n.id for n in others}
    if name not in CHANGES_COUNT and not others:
        assert len(made) <= len(notes)
    if name in FROM_SCALE:
        new = {n for n in made if n.id in left} - set(notes)
        moved = [n for n in new if n.pitch not in {o.pitch for o in notes}]
        assert all(key.has(n.pitch) or abs(n.pitch) in (LOWEST, HIGHEST) for n in moved)


def chord(start, *pitches, length=960):
    return [Note(start_tick=start, length_ticks=length, pitch=p) for p in pitches]


def used(name, notes, /, grid=240, key=C_MAJOR, **settings):
    tool = find_tool(name)
    pairs = tool.spec.check(settings, name)
    return use(tool, numbered(notes), (), around(key, grid), pairs)[0]


def test_a_roll_goes_over_its_time_and_straighten_takes_it_out():
    rolled = used("roll", chord(0, 60, 64, 67, 71), roll_ms=90.0, uneven=0.0)
    assert [n.offset_ms for n in rolled] == [0, 30, 60, 90]
    down = used("roll", rolled, roll_ms=90.0, uneven=0.0, direction="down")
    assert [n.offset_ms for n in down] == [90, 60, 30, 0]
    assert all(n.offset_ms == 0 for n in used("straighten", down))


def test_quantise_goes_part_of_the_way_and_swings():
    notes = chord(100, 60) + chord(250, 62) + chord(700, 64)
    assert [n.start_tick for n in used("quantise", notes)] == [0, 240, 720]
    assert [n.start_tick for n in used("quantise", notes, strength=50.0)] == [50, 245, 710]
    assert [n.start_tick for n in used("quantise", notes, swing=50.0)] == [0, 320, 800]


def test_a_scale_staggered_by_half_a_step_swells_up_and_comes_back():
    scale = chord(0, 60, 62, 64, 65, 67, length=1920)
    up = used("stagger", scale, swell=60.0)
    assert [n.start_tick for n in up] == [0, 120, 240, 360, 480]
    assert [n.pitch for n in up] == [60, 62, 64, 65, 67]
    assert all(a.velocity < b.velocity for a, b in pairwise(up))
    assert up[0].velocity == round(0.4 * 84)
    assert len({n.end_tick for n in up}) == 1  # held until where they all ended
    back = used("stagger", scale, direction="up, then down", lengths="short")
    assert [n.pitch for n in back] == [60, 62, 64, 65, 67, 65, 64, 62, 60]


def test_lengths_stop_before_the_next_start():
    notes = chord(0, 60, 64, length=2000) + chord(960, 62, length=2000)
    short = used("shorten to gaps", notes, gap_ms=10.0)
    assert {n.end_tick for n in short if n.start_tick == 0} == {960 - 19}
    assert short[-1].length_ticks == 2000
    assert {n.length_ticks for n in used("staccato", notes, share=25.0)} == {500}


def test_slices_start_on_the_grid_and_join_brings_them_together():
    sliced = used("slice", chord(120, 60, length=600))
    assert [(n.start_tick, n.end_tick) for n in sliced] == [(120, 240), (240, 480), (480, 720)]
    joined = used("join", sliced)
    assert [(n.start_tick, n.length_ticks) for n in joined] == [(120, 600)]


def test_a_chord_is_broken_up_for_as_long_as_it_lasted():
    broken = used("break up", chord(0, 60, 64, 67, length=1200), gate=100.0)
    assert [(n.start_tick, n.pitch) for n in broken] == [
        (0, 60), (240, 64), (480, 67), (720, 60), (960, 64),
    ]  # fmt: skip


def test_pitches_are_mirrored_in_the_scale_and_flipped_in_time():
    line = chord(0, 60) + chord(960, 64) + chord(1920, 67, length=480)
    mirrored = used("mirror pitch", line, axis="about the lowest")
    assert [n.pitch for n in mirrored] == [60, 57, 53]
    assert [n.pitch for n in used("mirror pitch", line, by="semitones")] == [68, 64, 61]
    flipped = used("flip order", line)
    assert [(n.start_tick, n.pitch) for n in flipped] == [(0, 67), (480, 64), (1440, 60)]
    assert [n.pitch for n in used("rearrange", line)] == [64, 67, 60]


def test_echoes_fade_step_by_step_and_end_with_the_loop():
    echoed = used("echo", chord(0, 60, length=120), repeats=3.0, step="1/8", fall=50.0)
    assert [(n.start_tick, n.velocity) for n in echoed] == [(0, 84), (480, 42), (960, 21),
                                                            (1440, 10)]  # fmt: skip
    late = used("echo", chord(LOOP - 480, 60, length=120), repeats=3.0, step="1/8")
    assert len(late) == 1


def test_half_steps_lead_into_notes_and_scales_run_between_them():
    led = used("approach", chord(960, 60), length="1/16")
    assert [(n.start_tick, n.pitch) for n in led] == [(720, 59), (960, 60)]
    line = chord(0, 60, length=1920) + chord(1920, 67)
    ran = used("scale run", line, step="1/16")
    assert [n.pitch for n in ran] == [60, 62, 64, 65, 67]
    assert ran[0].end_tick == ran[1].start_tick
    assert ran[-2].end_tick == 1920


def test_loudness_ramps_alternates_and_lies_flat():
    notes = [n for i in range(5) for n in chord(480 * i, 60)]
    assert [n.velocity for n in used("ramp", notes, begin=20.0, end=100.0)] == [20, 40, 60, 80, 100]
    assert [n.velocity for n in used("alternate", notes, soft=50.0)] == [84, 42, 84, 42, 84]
    assert {n.velocity for n in used("flatten", notes, velocity=127.0)} == {127}
    strayed = [n.velocity for n in used("randomise", notes, spread=10.0)]
    assert len(set(strayed)) > 2
    assert all(74 <= v <= 94 for v in strayed)


def test_bars_start_late_or_are_left_out():
    roots = [n for i in range(4) for n in chord(BAR * i, 40, length=BAR)]
    late = used("late bars", roots, bars="every 2nd", by="1/8")
    assert [n.start_tick for n in late] == [0, BAR + 480, 2 * BAR, 3 * BAR + 480]
    assert [n.end_tick for n in late] == [BAR, 2 * BAR, 3 * BAR, LOOP]
    gone = used("skip bars", chord(0, 40, length=LOOP) + chord(3 * BAR, 41), bars="every 4th")
    assert [(n.pitch, n.end_tick) for n in gone] == [(40, 3 * BAR)]


def test_a_bass_jumps_bounces_glides_and_turns():
    roots = [n for i in range(4) for n in chord(BAR * i, 40, length=BAR)]
    assert [n.pitch for n in used("octave jumps", roots, every=2.0)] == [40, 52, 40, 52]
    assert [n.glide_ms for n in used("glide into", roots)] == [0, 120, 0, 120]
    turned = used("turn", roots, bars="every 4th", notes=2.0, step="1/4")
    assert [(n.start_tick, n.pitch) for n in turned[-2:]] == [(LOOP - 1920, 42), (LOOP - 960, 41)]
    assert turned[3].end_tick == LOOP - 1920
    bounced = used("bounce", roots, key=Key("E", "minor"))
    assert {n.pitch for n in bounced} == {40, 52, 47, 38}


def test_a_setting_out_of_range_is_refused_by_name():
    with pytest.raises(CloudriftError, match="roll: roll_ms is 900 ms, but must lie between 0"):
        used("roll", [], roll_ms=900.0)
    with pytest.raises(CloudriftError, match="there is no tool called 'rol'; did you mean 'roll'"):
        find_tool("rol")


# --- on a layer -----------------------------------------------------------------------------------


def test_letting_go_changes_nothing_that_is_heard(small_loop):
    for layer in small_loop.layers:
        gone = own_notes.detach(small_loop, layer.id)
        before, after = notes_of(small_loop, layer), notes_of(gone, gone.layer(layer.id))
        heard = [(n.start_tick, n.pitch, n.velocity, n.offset_ms) for n in before]
        assert [(n.start_tick, n.pitch, n.velocity, n.offset_ms) for n in after] == heard
        assert own_notes.take_again(gone, layer.id) == small_loop
        with pytest.raises(CloudriftError, match="follow the chords; detach"):
            own_notes.remove_notes(small_loop, layer.id, {1})


@pytest.mark.parametrize("name", TOOLS)
def test_a_tool_is_one_step_and_undo_is_exact(name, small_loop):
    layer = small_loop.layers[0].id
    gone = own_notes.detach(small_loop, layer)
    history = History.of(gone)
    after, left = own_notes.use_tool(gone, layer, TOOLS[name], (), (), 240)
    assert left <= {n.id for n in after.layer(layer).own}
    history = history.then(Document.of(after), name)
    assert history.undone().now.loop == gone


def test_notes_are_drawn_moved_stretched_cut_muted_and_pasted(small_loop):
    layer = small_loop.layers[0].id
    loop = own_notes.with_own(small_loop, layer, [])
    loop, one = own_notes.add_note(loop, layer, Note(start_tick=0, length_ticks=480, pitch=60))
    loop, other = own_notes.add_note(loop, layer, Note(start_tick=960, length_ticks=480, pitch=64))
    assert own_notes.add_note(loop, layer, Note(start_tick=0, length_ticks=9, pitch=60))[1] == one
    both = {one, other}

    def facts(loop):
        return [(n.start_tick, n.length_ticks, n.pitch) for n in loop.layer(layer).own]

    moved = own_notes.move_notes(loop, layer, both, ticks=-500, semitones=-100)
    assert facts(moved) == [(0, 480, 12), (960, 480, 16)]  # as far as all of them can go
    assert facts(own_notes.move_notes(loop, layer, {other}, ticks=9999)) == [
        (0, 480, 60), (2 * BAR - 480, 480, 64),
    ]  # fmt: skip
    longer = own_notes.stretch_notes(loop, layer, both, end=240)
    assert [f[1] for f in facts(longer)] == [720, 720]
    assert [f[1] for f in facts(own_notes.stretch_notes(loop, layer, both, end=-900))] == [30, 30]
    cut = own_notes.cut_notes(loop, layer, both, 240)
    assert facts(cut) == [(0, 240, 60), (240, 240, 60), (960, 480, 64)]
    quiet = own_notes.mute_notes(loop, layer, {one})
    assert [n.id for n in notes_of(quiet, quiet.layer(layer))] == [other]
    assert len(quiet.layer(layer).own) == 2
    assert own_notes.mute_notes(quiet, layer, {one}) == loop
    pasted, new = own_notes.paste_notes(loop, layer, loop.layer(layer).own, 1920)
    assert facts(pasted)[2:] == [(1920, 480, 60), (2880, 480, 64)]
    assert len(new) == 2


def test_picking_by_voice_pitch_and_step():
    notes = numbered([*chord(0, 60, 64, 67), *chord(960, 59, 62, 67), *chord(1920, 60, 72)])
    top = {n.id for n in notes if n.pitch in (67, 72)}
    assert own_notes.same_voice(notes, [notes[2].id]) == top
    assert {n.pitch for n in notes if n.id in own_notes.same_pitch(notes, [notes[0].id])} == {60}
    wide = own_notes.same_pitch(notes, [notes[0].id], octaves=True)
    assert {n.pitch for n in notes if n.id in wide} == {60, 72}
    second = own_notes.every(notes, (), 2)
    assert {n.start_tick for n in notes if n.id in second} == {0, 1920}
