"""The groove bed: hits and lanes as values, what is heard of them, edits, files, MIDI."""

import dataclasses
import io
from itertools import pairwise

import mido
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.deliver import Order, deliver, parcels
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.bed import beds, hitting
from cloudrift.loop.edits.bed.bed_midi import KEY_OF, PART_OF, bed_parts, lanes_of_midi
from cloudrift.loop.edits.chords.metre import set_metre
from cloudrift.loop.edits.flip import cutting, flipping
from cloudrift.loop.edits.flip.flips import heard_with
from cloudrift.loop.edits.flip.prints import loop_to_print
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import load, save
from cloudrift.loop.model.around import Root, SourceContext, Swing
from cloudrift.loop.model.bed import BED, Bed, Duck, hits_of
from cloudrift.loop.model.hits import UNTUNED, Hit, Hits, Pattern, Stacked, root_at
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import heard, notes_of
from cloudrift.notes.from_midi import read_drums, read_parts
from cloudrift.notes.midi import midi_file
from cloudrift.render import Engine
from cloudrift.render.plan.mixing import duck_curve
from cloudrift.render.plan.variants import alone
from cloudrift.sound import CATALOGUE
from cloudrift.theory.key import Key

BAR, RATE = 3840, 44_100
C = Key("C", "minor")
LOOP = Loop(title="Ice Road", key=C, tempo=120.0, bars=2)  # a bar lasts two seconds


def lane(id_, sound, *hits, bars=1, level_db=0.0, **more):
    stack = (Stacked(use=layer_edits.sound_use(sound)),)
    pattern = Pattern(name="A", bars=bars, hits=tuple(hits))
    return Layer(id=id_, name=id_, role="grain", group=BED, level_db=level_db,
                 source=Hits(**({"stack": stack, "patterns": (pattern,)} | more)))  # fmt: skip


def with_lanes(*lanes, loop=LOOP, **bed):
    return replace(loop, bed=Bed(lanes=lanes, **bed))


def rendered(loop, engine=None):
    mine = engine or Engine()
    try:
        return np.array(mine.render(loop).audio)
    finally:
        if engine is None:
            mine.close()


def level_db(audio, start_s, end_s):
    part = audio[:, int(start_s * RATE) : int(end_s * RATE)]
    return 20 * np.log10(max(float(np.abs(part).max(initial=0)), 1e-9))


def difference_db(one, other):
    return 20 * np.log10(max(float(np.abs(one - other).max()), 1e-12))


# --- values ---------------------------------------------------------------------------------------


@given(st.integers(0, 20_000), st.floats(50, 75), st.sampled_from([240, 480]))
def test_swing_keeps_the_order_and_the_pairs(tick, share, step):
    swing = Swing(share, step)
    assert swing.placed(tick) <= swing.placed(tick + 1)
    pair = 2 * step
    assert swing.placed(tick // pair * pair) == tick // pair * pair
    assert Swing(50.0, step).placed(tick) == tick


def test_a_second_step_lies_where_the_swing_says():
    assert Swing(66.0, 240).placed(240) == round(0.66 * 480)
    assert Swing(60.0, 480).placed(480) == 576 and Swing(60.0, 480).placed(720) == 768


def test_a_pattern_comes_round_and_is_cut_at_the_loop_s_end():
    hits = hits_of(lane("b1", "kick", Hit(tick=0), Hit(tick=7000), bars=2))
    around = SourceContext((), C, BAR, 3 * BAR)
    assert [one.tick for one in hits.strokes(around)] == [0, 7000, 2 * BAR]
    longer = replace(hits, patterns=(replace(hits.pattern, bars=1),))
    assert [one.tick for one in longer.strokes(around)] == [0, BAR, 2 * BAR]


def test_all_that_is_late_adds_up():
    hits = replace(hits_of(lane("b1", "kick", Hit(tick=0, late_ms=3))), late_ms=5.0)
    (stroke, *_rest) = hits.strokes(SourceContext((), C, BAR, BAR, (), Swing(late_ms=7.0)))
    assert stroke.late_ms == 15
    stacked = replace(hits, stack=(*hits.stack, replace(hits.stack[0], late_ms=4.0, st=-2)))
    notes = stacked.notes_of(1, SourceContext((), C, BAR, BAR))
    assert notes[0].offset_ms == 12 and notes[0].pitch == UNTUNED - 2


def test_a_root_is_that_of_the_place_and_the_last_before_it():
    around = SourceContext((), C, BAR, 4 * BAR, (Root(0, BAR, 0), Root(2 * BAR, 3 * BAR, 7)))
    assert [root_at(tick, around) for tick in (0, BAR, 2 * BAR, 3 * BAR)] == [0, 0, 7, 7]
    assert root_at(0, SourceContext((), C, BAR, BAR)) == C.pc
    late = SourceContext((), C, BAR, BAR, (Root(960, BAR, 5),))
    assert root_at(0, late) == 5  # round: what comes before the first is the last


@pytest.mark.parametrize(("changes", "said"), [
    ({"patterns": (Pattern(name="A", hits=(Hit(tick=9), Hit(tick=3))),)}, "hit 2 at tick 3 is out"),
    ({"patterns": (Pattern(name="A", hits=(Hit(tick=0, velocity=0),)),)}, "velocity is 0"),
    ({"patterns": (Pattern(name="A", bars=0),)}, "bars is 0"),
    ({"patterns": (Pattern(name="A"), Pattern(name="A"))}, "the id 'A' is there twice"),
    ({"plays": "C"}, "plays pattern 'C', which does not exist"),
    ({"stack": ()}, "number of sounds is 0"),
    ({"late_ms": 900.0}, "late is 900 ms"),
    ({"patterns": (Pattern(name="A", hits=(Hit(tick=0, pan=3),)),)}, "pan is 3"),
])  # fmt: skip
def test_what_can_not_be_is_named_by_its_place(changes, said):
    with pytest.raises(CloudriftError, match=said):
        lane("b1", "kick", **changes)


@pytest.mark.parametrize(("changes", "said"), [
    ({"swing": 80.0}, "swing is 80"), ({"swing_ticks": 100}, "swings in sixteenths"),
    ({"late_ms": 500.0}, "feel is 500"), ({"busy": 2.0}, "busy is 2"),
    ({"lanes": (replace(lane("b1", "kick"), group=""),)}, "b1 is not a lane of hits"),
    ({"lanes": (lane("b1", "kick"), lane("b1", "snare"))}, "'b1' is there twice"),
])  # fmt: skip
def test_a_bed_that_can_not_be_is_refused(changes, said):
    with pytest.raises(CloudriftError, match=said):
        Bed(**changes)


# --- what is heard --------------------------------------------------------------------------------


def test_a_kick_strikes_where_it_is_written_and_round_the_seam():
    audio = rendered(with_lanes(lane("b1", "kick", Hit(tick=960), Hit(tick=3600))))
    assert level_db(audio, 0.3, 0.499) < -60 < -20 < level_db(audio, 0.5, 0.55)
    assert audio.shape[1] == LOOP.frames
    early = rendered(with_lanes(lane("b1", "kick", Hit(tick=0, late_ms=-30)), loop=LOOP))
    assert level_db(early, 3.969, 3.995) > -20  # before the loop's start: at its end


def test_all_of_it_is_loop_true():
    """What one pass rings on into the next, laid round, is what goes round."""
    loop = with_lanes(
        lane("b1", "crash", Hit(tick=3000)),
        lane("b2", "round sub", Hit(tick=2880, length_ticks=1800), on_roots=True, bars=2),
        swing=60.0, loop=replace(LOOP, bars=1),
    )  # fmt: skip
    engine = Engine()
    once, steady = engine.once(loop), rendered(loop, engine)
    engine.close()
    frames = loop.frames
    assert once.shape[1] > frames
    laid = np.zeros((2, frames))
    for at in range(0, once.shape[1], frames):
        part = once[:, at : at + frames]
        laid[:, : part.shape[1]] += part
    assert difference_db(laid, steady) < -60


def test_a_new_hit_stops_the_old_one_and_those_of_its_choke():
    rings = lane("b1", "open hat", Hit(tick=0), choke="hats")
    stops = lane("b2", "closed hat", Hit(tick=240, velocity=1), choke="hats", level_db=-60.0)
    free = rendered(with_lanes(lane("b1", "open hat", Hit(tick=0)), stops))
    cut = rendered(with_lanes(rings, stops))
    assert level_db(free, 0.16, 0.3) > -45
    assert level_db(cut, 0.0, 0.1) > -30 and level_db(cut, 0.14, 1.9) < -100
    off = with_lanes(rings, replace(stops, mute=True))
    assert level_db(rendered(off), 0.16, 0.3) > -45  # what is off stops nothing
    long = lane("b1", "crash", Hit(tick=0), Hit(tick=480), choke="c")
    assert difference_db(rendered(with_lanes(long)),
                         rendered(with_lanes(replace(long, source=replace(
                             long.source, choke=""))))) > -40  # fmt: skip


def test_a_hit_is_panned_by_itself():
    audio = rendered(with_lanes(lane("b1", "kick", Hit(tick=0, pan=-1), Hit(tick=1920, pan=1))))
    left, right = (level_db(audio[side : side + 1], 0, 0.3) for side in (0, 1))
    assert left > -20 and right < -100
    left, right = (level_db(audio[side : side + 1], 1.0, 1.3) for side in (0, 1))
    assert right > -20 and left < -60


def test_a_stack_strikes_several_and_a_hit_may_take_one_alone():
    both = (Stacked(use=layer_edits.sound_use("snare")),
            Stacked(use=layer_edits.sound_use("clap"), level_db=-6.0, late_ms=20.0))  # fmt: skip
    loop = with_lanes(
        lane("b1", "snare", Hit(tick=0, sound=1), Hit(tick=1920, sound=2), stack=both)
    )
    audio = rendered(loop)
    assert level_db(audio, 0.0, 0.015) > -20
    assert level_db(audio, 1.0, 1.015) < -60 < -25 < level_db(audio, 1.021, 1.1)
    clap = rendered(with_lanes(lane("b1", "clap", Hit(tick=1920, late_ms=20))))
    piece = np.s_[:, int(1.0 * RATE) : int(1.4 * RATE)]
    assert difference_db(audio[piece], 0.501187 * clap[piece]) < -60


def test_low_drums_play_the_roots_that_are_heard(small_loop):
    low = lane("b1", "round sub", Hit(tick=0, length_ticks=1800), on_roots=True, lowest=36)
    loop = with_lanes(low, loop=replace(small_loop, line=()))
    root = loop.chords[0].root
    assert notes_of(loop, low)[0].pitch == 36 + (root - 36) % 12
    shifted = line_edits.add_treatment(loop, None, "shift")
    shifted = line_edits.set_treatment_setting(shifted, None, shifted.line[0].id, "semitones", -3.0)
    assert notes_of(loop, low)[0].pitch % 12 == (notes_of(shifted, low)[0].pitch + 3) % 12
    engine = Engine()
    audio = engine.stem(shifted, low)
    engine.close()
    wanted = 440 * 2 ** ((notes_of(shifted, low)[0].pitch - 69) / 12)
    part = audio[0, int(0.2 * RATE) : int(0.8 * RATE)]
    lines = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))
    assert np.argmax(lines) * RATE / (1 << 18) == pytest.approx(wanted, rel=0.01)


def test_after_a_flip_the_roots_are_those_of_its_pieces(small_loop):
    from cloudrift.loop.model.recorded import Facts, FromRecording

    facts = Facts(name="x", kind="loop", length_s=8.0, tempo=small_loop.tempo)
    of = FromRecording(clip="0" * 24, facts=facts, fit="tempo", semitones=-3.0)
    flip = cutting.flip_of(of, small_loop.ticks, small_loop.chords)
    flip = cutting.cut(flip, cutting.cuts_at(flip, "chords", small_loop.metre))
    flip = flipping.swap(flip, 0, 1)
    first = small_loop.layers[0]
    alone_ = replace(small_loop, line=(), layers=(replace(first, source=flip),))
    roots = [(c.root - 3) % 12 for c in small_loop.chords]
    swapped = [roots[1], roots[0], *roots[2:]]
    assert [one.pc for one in heard(alone_).roots] == swapped

    def beside(lufs):
        """The roots with other layers beside a flip that loud."""
        quiet = replace(flip, of=replace(of, facts=replace(facts, lufs=lufs)))
        layers = (*small_loop.layers[1:], replace(first, source=quiet))
        return [one.pc for one in heard(replace(small_loop, line=(), layers=layers)).roots]

    assert beside(-8.0) == swapped  # what is louder says which root is heard
    assert beside(-50.0) == [c.root for c in small_loop.chords]


def test_the_loop_makes_room_and_comes_back():
    held = layer_edits.add_layer(replace(LOOP, chords=_chords()), "warm pad")
    kick = lane("b1", "kick", Hit(tick=1920, velocity=127), level_db=-60.0)
    duck = Duck(lanes=("b1",), depth_db=12.0, hold_ms=50.0, back_ms=200.0)
    plain, ducked = (rendered(with_lanes(kick, loop=held, duck=one)) for one in (None, duck))

    def gain(at_s):
        part = np.s_[:, int(at_s * RATE) : int(at_s * RATE) + 200]
        return 20 * np.log10(np.abs(ducked[part]).mean() / np.abs(plain[part]).mean())

    assert gain(1.02) == pytest.approx(-12, abs=0.2)
    assert gain(0.9) == pytest.approx(0, abs=0.01) and gain(1.3) == pytest.approx(0, abs=0.01)
    assert -12 < gain(1.15) < -1


def _chords():
    from cloudrift.loop.model.chord import Chord

    return (Chord(id="c1", start_tick=0, length_ticks=2 * BAR, voices=(48, 60, 63, 67), root=0),)


def test_a_duck_goes_round_the_seam_and_the_deeper_of_two_counts():
    curve = duck_curve(((10, 1.0),), (6.0, 500, 500), 4000, once=False)
    assert curve[3900] < 1 and curve[10:500].max() == pytest.approx(10 ** (-6 / 20), abs=1e-4)
    assert np.all(duck_curve(((10, 1.0),), (6.0, 500, 500), 4000, once=True)[3800:] == 1)
    two = duck_curve(((100, 0.5), (200, 1.0)), (6.0, 500, 500), 4000, once=False)
    assert two.min() == pytest.approx(10 ** (-6 / 20), abs=1e-4)


def test_a_bass_ducks_only_where_it_is_asked():
    kick = lane("b1", "kick", Hit(tick=1920, velocity=127), level_db=-60.0)
    low = lane("b2", "round sub", Hit(tick=0, length_ticks=BAR), on_roots=True)
    ducks = [Duck(lanes=("b1",), depth_db=18.0, bass=bass) for bass in (False, True)]
    stays, goes = (rendered(with_lanes(kick, low, duck=duck)) for duck in ducks)
    assert level_db(stays, 1.0, 1.04) - level_db(goes, 1.0, 1.04) > 10
    assert difference_db(stays[:, : RATE // 2], goes[:, : RATE // 2]) < -60


def test_it_is_beside_the_loop_and_no_part_of_it(small_loop):
    engine = Engine()
    plain = rendered(small_loop, engine)
    loop = with_lanes(lane("b1", "kick", Hit(tick=0)), loop=small_loop)
    assert np.array_equal(engine.without_bed(loop), plain)
    assert difference_db(rendered(loop, engine), plain) > -20
    off = beds.set_heard(loop, on=False)
    assert np.array_equal(rendered(off, engine), plain)
    assert loop_to_print(loop).bed is None and heard_with(loop, "l1").bed is None
    only = alone(loop, {BED})
    assert not only.heard() and difference_db(
        rendered(only, engine), rendered(loop, engine) - plain) < -60  # fmt: skip
    assert not alone(loop, {small_loop.layers[0].id}).bed.heard
    engine.close()


def test_behind_tape_it_is_played_at_the_tempo_that_is_heard():
    loop = line_edits.add_treatment(with_lanes(lane("b1", "kick", Hit(tick=1920))), None, "shift")
    shift = loop.line[0].id
    loop = line_edits.set_treatment_setting(loop, None, shift, "semitones", -12.0)
    loop = line_edits.set_treatment_setting(loop, None, shift, "way", "like tape")
    audio = rendered(loop)
    assert loop.sounding_tempo == pytest.approx(60) and audio.shape[1] == 2 * LOOP.frames
    assert level_db(audio, 1.5, 1.99) < -60 and level_db(audio, 2.0, 2.1) > -20


def test_an_edit_sounds_as_if_it_were_rendered_anew():
    engine = Engine()
    loop = with_lanes(
        lane("b1", "open hat", *(Hit(tick=t) for t in range(0, BAR, 480)), choke="hats"),
        lane("b2", "closed hat", *(Hit(tick=t) for t in range(240, BAR, 480)), choke="hats"),
        lane("b3", "kick", Hit(tick=0)), duck=Duck(lanes=("b3",)),
    )  # fmt: skip
    rendered(loop, engine)
    for edit in (
        lambda x: hitting.move_hits(x, "b2", {1}, 120),
        lambda x: hitting.take_hits(x, "b1", {2}),
        lambda x: hitting.set_hits(x, "b3", {0}, late_ms=20.0, pan=0.4),
        lambda x: beds.set_bed(x, swing=62.0),
    ):
        loop = edit(loop)
        assert difference_db(rendered(loop, engine), rendered(loop)) < -70
    engine.close()


def test_in_one_pass_nothing_is_before_the_start():
    engine = Engine()
    loop = with_lanes(lane("b1", "kick", Hit(tick=0, late_ms=-30), Hit(tick=3600)))
    audio = engine.once(loop)
    engine.close()
    assert level_db(audio, 0, 0.05) > -20 and audio.shape[1] > LOOP.frames


# --- edits ----------------------------------------------------------------------------------------


@pytest.fixture
def loop():
    """A kick, a low drum on roots, hats; two bars each."""
    loop = beds.add_lane(beds.add_lane(beds.add_lane(LOOP, "kick"), "low drum"), "hats")
    loop = hitting.with_hits(loop, "b1", [Hit(tick=0), Hit(tick=1920)])
    loop = hitting.with_hits(loop, "b2", [Hit(tick=0), Hit(tick=2400), Hit(tick=BAR)])
    return hitting.with_hits(loop, "b3", [Hit(tick=t, velocity=90) for t in range(0, BAR, 480)])


def ticks(loop, lane_id):
    return [hit.tick for hit in hitting.pattern_of(loop, lane_id).hits]


def test_lanes_come_go_are_copied_moved_and_locked(loop):
    assert [x.name for x in loop.lanes] == ["Kick", "Low drum", "Hats"]
    twin = beds.copy_lane(loop, "b1")
    assert [x.name for x in twin.lanes][:2] == ["Kick", "Kick 2"]
    assert ticks(twin, twin.lanes[1].id) == ticks(loop, "b1")
    assert [x.id for x in beds.move_lane(loop, "b1", 5).lanes] == ["b2", "b3", "b1"]
    kept = beds.duck_under(beds.lock(loop, "b1", on=True), ("b1", "b2"))
    gone = beds.remove_lane(kept, "b1")
    assert gone.bed.locked == () and gone.bed.duck.lanes == ("b2",)
    assert beds.remove_lane(gone, "b2").bed.duck is None
    assert beds.lock(kept, "b1", on=False).bed.locked == ()
    assert beds.remove_bed(loop).bed is None
    with pytest.raises(CloudriftError, match="no longer exists"):
        beds.remove_lane(loop, "b9")
    with pytest.raises(CloudriftError, match="no groove bed yet"):
        beds.set_heard(LOOP, on=True)
    with pytest.raises(CloudriftError, match="nothing ducks the loop"):
        beds.set_duck(loop, depth_db=3.0)


def test_patterns_are_copied_played_made_longer_and_taken_out(loop):
    two = beds.copy_pattern(loop, "B")
    assert {hits_of(x).plays for x in two.lanes} == {"B"} and two.bed.patterns == ("A", "B")
    two = hitting.take_hits(two, "b3", {0, 1})
    assert len(ticks(beds.play_pattern(two, "A"), "b3")) == 8 and len(ticks(two, "b3")) == 6
    one = beds.play_pattern(two, "A", "b3")
    assert [hits_of(x).plays for x in one.lanes] == ["B", "B", "A"]
    with pytest.raises(CloudriftError, match="pattern B already"):
        beds.copy_pattern(two, "B")
    assert beds.next_pattern_name(two.bed) == "C"
    gone = beds.remove_pattern(two, "B")
    assert {hits_of(x).plays for x in gone.lanes} == {"A"}
    with pytest.raises(CloudriftError, match="the only pattern"):
        beds.remove_pattern(gone, "A")
    long = beds.set_pattern_bars(loop, 4)
    assert ticks(long, "b1") == [0, 1920, 2 * BAR, 2 * BAR + 1920]
    assert ticks(beds.set_pattern_bars(loop, 1), "b2") == [0, 2400]


def test_stacks_grow_and_shrink_and_hits_follow(loop):
    stacked = beds.add_to_stack(loop, "b1", "clap")
    stacked = beds.set_stacked(stacked, "b1", 1, level_db=-9.0)
    assert [one.level_db for one in hits_of(stacked.lanes[0]).stack] == [0, -9]
    handed = hitting.hand_over(stacked, "b1", 1920)
    assert [hit.sound for hit in hitting.pattern_of(handed, "b1").hits] == [1, 2]
    back = beds.take_from_stack(handed, "b1", 0)
    assert [hit.sound for hit in hitting.pattern_of(back, "b1").hits] == [0, 1]
    with pytest.raises(CloudriftError, match="a lane needs a sound"):
        beds.take_from_stack(back, "b1", 0)
    with pytest.raises(CloudriftError, match="two sounds are needed"):
        hitting.hand_over(loop, "b1", 0)


def test_dirty_and_air_are_on_the_bed_s_line_and_off_again(loop):
    dirty = beds.make_dirty(loop)
    assert [t.kind for t in dirty.bed.group.line] == ["overdrive"] and dirty.line == ()
    assert not beds.make_dirty(dirty).bed.group.line[0].on
    both = beds.give_air(dirty)
    assert [t.kind for t in both.line_of(BED)] == ["overdrive", "room"]
    quiet, loud = (rendered(x) for x in (loop, dirty))
    ratio = np.sqrt((loud**2).mean() / (quiet**2).mean())
    assert difference_db(quiet, loud) > -30 and 0.5 < ratio < 2  # it is about as loud


@pytest.mark.parametrize(("edit", "lane_id", "after"), [
    (lambda x: hitting.put_hit(x, "b1", Hit(tick=700))[0], "b1", [0, 700, 1920]),
    (lambda x: hitting.put_hit(x, "b1", Hit(tick=99_999))[0], "b1", [0, 1920, 2 * BAR - 1]),
    (lambda x: hitting.take_hits(x, "b1", {0}), "b1", [1920]),
    (lambda x: hitting.move_hits(x, "b1", {1}, -240), "b1", [0, 1680]),
    (lambda x: hitting.move_hits(x, "b1", {0, 1}, -240), "b1", [0, 1920]),
    (lambda x: hitting.move_hits(x, "b1", {0}, 1920), "b1", [1920]),
    (lambda x: hitting.copy_hits(x, "b1", {1}, BAR), "b1", [0, 1920, 1920 + BAR]),
    (lambda x: hitting.copy_hits(x, "b1", {1}, 2 * BAR - 1920), "b1", [0, 1920]),
    (lambda x: hitting.copy_bar_on(x, "b3", 0), "b3",
     [t + bar * BAR for bar in (0, 1) for t in range(0, BAR, 480)]),
    (lambda x: hitting.roll(x, "b1", 480, 960, 4), "b1", [0, 480, 600, 720, 840, 1920]),
    (lambda x: hitting.roll(x, "b1", 960, 480, 3), "b1", [0, 480, 640, 800, 1920]),
    (lambda x: hitting.roll(x, "b3", 0, 960, 6), "b3",
     [0, 160, 320, 480, 640, 800, *range(960, BAR, 480)]),
    (lambda x: hitting.mirror(x, "b2", {0, 1}), "b2", [0, 2400, BAR]),
    (lambda x: hitting.mirror(x, "b2", {0, 1, 2}), "b2", [0, BAR - 2400, BAR]),
    (lambda x: hitting.thin(x, "b3", range(8)), "b3", [0, 960, 1920, 2880]),
    (lambda x: hitting.skip_bar(x, "b2", 2), "b2", [0, 2400]),
])  # fmt: skip
def test_hits_lie_where_an_edit_puts_them(loop, edit, lane_id, after):
    assert ticks(edit(loop), lane_id) == after


@pytest.mark.parametrize(("edit", "lane_id", "field", "after"), [
    (lambda x: hitting.louder(x, "b1", {0, 1}, 40), "b1", "velocity", [127, 127]),
    (lambda x: hitting.louder(x, "b1", {1}, -30), "b1", "velocity", [100, 70]),
    (lambda x: hitting.nudge_hits(x, "b1", {1}, -12.5), "b1", "late_ms", [0, -12.5]),
    (lambda x: hitting.nudge_hits(x, "b1", {1}, 900), "b1", "late_ms", [0, 200]),
    (lambda x: hitting.tune_hits(x, "b2", {0}, 7), "b2", "st", [7, 0, 0]),
    (lambda x: hitting.tune_hits(x, "b2", {0}, 90), "b2", "st", [36, 0, 0]),
    (lambda x: hitting.high_jump(x, "b2"), "b2", "st", [0, 0, 12]),
    (lambda x: hitting.high_jump(hitting.high_jump(x, "b2"), "b2"), "b2", "st", [0, 0, 0]),
    (lambda x: hitting.cut_short(x, "b2", {0, 1, 2}, 0.5), "b2", "length_ticks", [1200, 720, 1920]),
    (lambda x: hitting.slide(x, "b2", {1}), "b2", "glide_ms", [0, 90, 0]),
    (lambda x: hitting.slide(hitting.slide(x, "b2", {1}), "b2", {1}), "b2", "glide_ms", [0, 0, 0]),
    (lambda x: hitting.roll(x, "b1", 480, 960, 3, loud=(40, 120)), "b1", "velocity",
     [100, 40, 80, 120, 100]),
    (lambda x: hitting.tension(x, "b2"), "b2", "st", [0, 0, 0, 1]),
    (lambda x: hitting.tension(x, "b2", beats=4), "b2", "st", [0, 0, 1]),
])  # fmt: skip
def test_hits_become_what_an_edit_says(loop, edit, lane_id, field, after):
    assert [getattr(hit, field) for hit in hitting.pattern_of(edit(loop), lane_id).hits] == after


def test_the_tense_end_is_counted_in_beats_of_the_metre(loop):
    in_eighths = replace(loop, metre=(6, 8), layers=(), chords=())
    length = hitting.pattern_ticks(in_eighths, "b2")
    in_eighths = hitting.with_hits(in_eighths, "b2", [Hit(tick=0), Hit(tick=length - 480)])
    after = hitting.pattern_of(hitting.tension(in_eighths, "b2", beats=1.0), "b2").hits
    assert [(hit.tick, hit.st) for hit in after] == [(0, 0), (length - 480, 1)]


def test_pans_are_drawn_to_both_sides_and_the_same_draw_is_the_same(loop):
    wide = hitting.spread(loop, "b3", range(8), 0.8, 5)
    pans = [hit.pan for hit in hitting.pattern_of(wide, "b3").hits]
    assert all(0.25 < abs(pan) <= 0.8 for pan in pans)
    assert all(a * b < 0 for a, b in pairwise(pans))
    assert hitting.spread(loop, "b3", range(8), 0.8, 5) == wide
    assert hitting.spread(loop, "b3", range(8), 0.8, 6) != wide


@pytest.mark.parametrize(("edit", "said"), [
    (lambda x: hitting.roll(x, "b1", 0, 3, 9), "9 hits don't fit"),
    (lambda x: hitting.mirror(x, "b1", {0}), "at least two hits"),
    (lambda x: hitting.skip_bar(x, "b1", 4), "fewer than 4 bars"),
    (lambda x: hitting.high_jump(hitting.take_hits(x, "b2", {0, 1, 2}), "b2"), "draw one first"),
])  # fmt: skip
def test_edits_that_can_not_be_say_why(loop, edit, said):
    with pytest.raises(CloudriftError, match=said):
        edit(loop)


def test_another_metre_takes_hits_along(loop):
    three = set_metre(loop, (3, 4))
    assert ticks(three, "b3") == list(range(0, 2880, 480))
    assert ticks(three, "b2") == [0, 2400, 2880]


# --- files ----------------------------------------------------------------------------------------


def test_it_is_saved_and_read_as_it_was(loop, tmp_path):
    loop = beds.duck_under(beds.add_to_stack(loop, "b1", "clap"), ("b1",))
    loop = hitting.set_hits(loop, "b2", {1}, pan=-0.5, glide_ms=40.0, st=7, late_ms=-8.0)
    save(loop, tmp_path / "x.cloudrift")
    assert load(tmp_path / "x.cloudrift") == loop


def test_the_bed_is_delivered_only_when_it_is_asked_for(small_loop, tmp_path):
    loop = with_lanes(lane("b1", "kick", Hit(tick=0)),
                      lane("b2", "round sub", Hit(tick=0, length_ticks=960), on_roots=True,
                           level_db=-6.0), loop=small_loop, duck=Duck(lanes=("b1",)))  # fmt: skip
    plain = Order(parts=("loop", "stems", "midi"))
    bed = dataclasses.replace(plain, parts=(*plain.parts, "bed"))
    assert parcels(loop, plain) and [p.name for p in parcels(loop, plain)] == [
        p.name for p in parcels(replace(loop, bed=None), plain)]  # fmt: skip
    names = [p.name for p in parcels(loop, bed)][len(parcels(loop, plain)) :]
    assert [name.split("minor")[-1] for name in names] == [
        "_with-bed.wav", "_bed.wav", "_bed-1-b1.wav", "_bed-2-b2.wav", "_bed.mid"]  # fmt: skip
    paths = {path.name.split("minor")[-1]: path for path in deliver(loop, tmp_path, bed)}
    from cloudrift.audio.files import read_audio

    whole, lanes = read_audio(paths["_bed.wav"])[0], [
        read_audio(paths[f"_bed-{n}-b{n}.wav"])[0] for n in (1, 2)]  # fmt: skip
    undone = difference_db(whole, lanes[0] + lanes[1])
    assert undone > -60  # a lane on roots makes room in the bed, as it is heard
    parts = bed_parts(loop)[0]
    assert [name for name, _notes in parts] == ["b1", "b2"]
    song = read_parts(paths["_bed.mid"])
    assert [name for name, _notes in song.parts] == ["b2"] and len(song.drums) == small_loop.bars
    assert {note.pitch for note in song.drums} == {36}


def test_lanes_go_out_as_midi_and_come_in_again(loop, tmp_path):
    loop = replace(loop, chords=_chords())
    parts, drums = bed_parts(loop)
    assert drums == (0, 2)
    data = midi_file(parts, tempo=120, metre=(4, 4), signature="", loop_ticks=loop.ticks, title="x",
                     drums=drums)  # fmt: skip
    channels = {message.channel for track in mido.MidiFile(file=io.BytesIO(data)).tracks
                for message in track if message.type == "note_on"}  # fmt: skip
    assert channels == {9, 1}
    (tmp_path / "x.mid").write_bytes(data)
    song = read_drums(tmp_path / "x.mid")
    back = lanes_of_midi(replace(LOOP, chords=_chords()), song.drums, song.parts)
    assert [x.name for x in back.lanes] == ["Kick", "Hats", "Low drum"]
    assert ticks(back, "b1") == ticks(loop, "b1") and ticks(back, "b3") == ticks(loop, "b2")
    assert [hit.st for hit in hitting.pattern_of(back, "b3").hits] == [0, 0, 0]
    assert hitting.pattern_of(back, "b3").hits[0].length_ticks == 2400  # until the next
    with pytest.raises(CloudriftError, match="no drums in the first bars"):
        lanes_of_midi(LOOP, [replace(song.drums[0], start_tick=99_999)])


def test_a_midi_file_without_drums_says_so(tmp_path):
    from cloudrift.notes.note import Note

    note = Note(start_tick=0, length_ticks=960, pitch=60)
    data = midi_file([("Keys", (note,))], tempo=120, metre=(4, 4), signature="", loop_ticks=BAR,
                     title="x")  # fmt: skip
    (tmp_path / "x.mid").write_bytes(data)
    with pytest.raises(CloudriftError, match="has no drums"):
        read_drums(tmp_path / "x.mid")


def test_recordings_of_a_lane_are_in_the_file(tmp_path):
    from cloudrift.audio.sound_file import write_wav
    from cloudrift.sound.own import OwnSound
    from cloudrift.sound.own_import import read_recording

    clips = ClipStore()
    t = np.arange(RATE // 4) / RATE
    audio = np.stack([0.3 * np.sin(2 * np.pi * 220 * t)] * 2).astype(np.float32)
    write_wav(tmp_path / "lid.wav", audio, RATE, bits=24)
    own = OwnSound(name="Tin lid", recordings=(read_recording(tmp_path / "lid.wav", clips)[0],))
    loop = beds.add_lane(LOOP, "rim")
    loop = beds.set_stacked(loop, "b1", 0, use=layer_edits.sound_use(own))
    save(loop, tmp_path / "x.cloudrift", clips)
    other = ClipStore()
    assert load(tmp_path / "x.cloudrift", other) == loop
    assert loop.lanes[0].source.recordings[0].clip in other


def test_every_drum_of_the_house_has_a_key_of_its_kind_and_comes_back_as_it():
    drums = {s.name for s in CATALOGUE.values() if s.family == "drums"}
    assert drums == {*KEY_OF}
    for name in ("ride", "tambourine", "tom", "conga", "woodblock", "crash", "shaker", "zap"):
        assert beds.PARTS[PART_OF[KEY_OF[name]]].sounds == (name,)
    for part in beds.PARTS.values():
        assert all(sound in CATALOGUE for sound in part.sounds)
