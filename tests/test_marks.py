"""Marks: each kind on a loop that has it and one that has not, the value checked; what meets it."""

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.edits.flip import cutting, flipping
from cloudrift.loop.edits.flip.flips import use
from cloudrift.loop.edits.layers import layer_edits as L  # noqa: N812 - it is in every line of the table
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.render.measure.sound_facts import SoundFacts, facts_of_loop, middle_hz, sound_facts
from cloudrift.style import house_cards, sketch
from cloudrift.style.marks import KINDS, View, change_for, checked, look, met_of
from cloudrift.style.marks.met import Mark
from cloudrift.theory.key import Key

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

RATE = 44_100
A = Key("A", "minor")
# Am F Dm E7, a bar each: two minor of four, one note (G♯) of thirteen out of key.
ROW = ((45, 57, 60, 64), (41, 57, 60, 65), (50, 57, 62, 65), (40, 56, 59, 62, 64))
ROOTS = (9, 5, 2, 4)


def base() -> Loop:
    """Four chords; keys that hold them, a pluck in eighths, a bass on the roots; all dry."""
    from cloudrift.loop.model.chord import Chord

    chords = tuple(Chord(id=f"c{i}", start_tick=3840 * i, length_ticks=3840, voices=voices,
                         root=root) for i, (voices, root) in enumerate(zip(ROW, ROOTS, strict=True)))  # noqa: E501  # fmt: skip
    loop = Loop(title="Ice Road", key=A, tempo=100.0, bars=4, chords=chords)
    for sound in ("felt upright", "muted pluck", "fingered bass"):
        loop = L.add_layer(loop, sound)
    keys, pluck, bass = (x.id for x in loop.layers)
    loop = L.set_lens(loop, keys, kind="all", skip_bass=True)
    loop = L.set_lens(loop, pluck, kind="arpeggio", step_ticks=480, gate=0.95, voices=3)
    loop = L.set_lens(loop, bass, kind="roots")
    for one in (keys, pluck, bass):
        loop = L.set_layer(loop, one, line=(), pan=0.0)
        loop = L.set_touch(loop, one, roll_ms=0, spread=4, drift_ms=2, length=1.0, velocity=80)
    return replace(loop, line=())


LOOP = base()
KEYS, PLUCK, BASS = (x.id for x in LOOP.layers)


def treat(loop, at, kind, blend=1.0, **settings):
    loop = line_edits.add_treatment(loop, at, kind)
    one = loop.line_of(at)[-1]
    for name, value in settings.items():
        loop = line_edits.set_treatment_setting(loop, at, one.id, name, value)
    return line_edits.set_treatment(loop, at, one.id, blend=blend)


def a_flip(loop, shift=0.0, *, backward=True):
    """The keys' layer as a flip of eight pieces, half of them backward."""
    of = FromRecording(clip="0" * 24, facts=Facts(name="x", kind="loop", length_s=9.6, tempo=100.0),
                       fit="tempo", semitones=shift)  # fmt: skip
    flip = cutting.flip_of(of, loop.ticks)
    flip = cutting.cut(flip, cutting.cuts_at(flip, "equal", (4, 4), 8))
    for i in range(0, 8, 2):
        flip = flipping.set_place(flip, i, backward=backward)
    return use(loop.with_owner(KEYS, source=flip), KEYS)


def sound_setting(loop, layer, name, value):
    return L.set_sound_setting(loop, layer, name, value)


def late(loop):
    return chord_time.set_late(loop, ["c1", "c3"], 480)


C = chord_edits
SAME = lambda loop: loop  # noqa: E731
# Kind: the value in LOOP, an edit, and the value after it.
CASES = {
    "tempo": (100, lambda x: loop_edits.set_tempo(x, 142.0), 142),
    "mode": ("minor", lambda x: loop_edits.set_key(x, Key("A", "dorian"), shift=0), "dorian"),
    "length": (4, lambda x: loop_edits.set_bars(x, 8), 8),
    "minor_share": (50, lambda x: C.set_tones(x, "c1", (5, 8, 0)), 75),
    "major_share": (50, lambda x: C.set_tones(x, "c1", (5, 8, 0)), 25),
    "diminished_share": (0, lambda x: C.set_tones(x, "c2", (11, 2, 5)), 25),
    "colours": (4, lambda x: C.set_tones(x, "c2", (9, 0, 4)), 3),
    "start": ("i", lambda x: C.set_tones(x, "c0", (5, 9, 0)), "VI"),
    "end": ("V", lambda x: C.set_tones(x, "c3", (11, 2, 5)), "ii°"),
    "chord_bars": (1, lambda x: chord_time.remove_chords(x, ["c3"]), 1),
    "chord_uneven": (1, lambda x: chord_time.set_end_alone(x, "c3", 3 * 3840 + 1920), 2),
    "late_share": (0, late, 50),
    "strikes": (1, lambda x: chord_time.strike_every(x, ["c0", "c1", "c2", "c3"], 960), 4),
    "extended_share": (25, lambda x: C.set_extension(x, "c0", "7", on=True), 50),
    **{name: (None, SAME, None) for name in ("half_steps", "common_tones", "leaps")},
    "register": (60.646, lambda x: replace(x, chords=tuple(replace(c, voices=tuple(
        v + 12 for v in c.voices)) for c in x.chords)), 72.646),
    "chord_width": (7.75, lambda x: replace(x, chords=x.chords[:2]), 7.5),
    "off_key": (100 / 17, lambda x: C.set_tones(x, "c3", (4, 7, 11)), 0),
    "layers": (3, lambda x: L.set_layer(x, PLUCK, mute=True), 2),
    "held_layers": (1, lambda x: L.set_lens(x, PLUCK, kind="held"), 2),
    "doubled_layers": (0, lambda x: L.set_lens(x, PLUCK, kind="top"), 1),
    "moving_layers": (1, lambda x: L.set_lens(x, PLUCK, kind="held"), 0),
    "pace": (8, lambda x: L.set_lens(x, PLUCK, step_ticks=240), 16),
    "keys_pace": (1, lambda x: L.set_lens(x, KEYS, kind="arpeggio", step_ticks=960), 4),
    "pad_pace": (None, lambda x: L.add_layer(x, "warm pad"), 1),
    "pluck_pace": (8, lambda x: L.set_lens(x, PLUCK, step_ticks=960), 4),
    "staccato_share": (0, lambda x: L.set_lens(x, PLUCK, gate=0.3), 100 * 32 / 45),
    "gaps": (0, lambda x: L.set_lens(L.set_layer(x, KEYS, mute=True), PLUCK, gate=0.5), 50),
    "triplets": (0, lambda x: L.set_lens(x, PLUCK, step_ticks=320), 100 * 32 / 56),
    "panned": (0, lambda x: L.set_layer(L.set_layer(x, KEYS, pan=-0.4), PLUCK, pan=0.2),
               30),
    "roll": (0, lambda x: L.set_touch(x, KEYS, roll_ms=40), 40),
    "spread": (4, lambda x: L.set_touch(x, KEYS, spread=10), 7),
    "drift": (2, lambda x: L.set_touch(x, PLUCK, drift_ms=8), 5),
    "velocity": (None, lambda x: L.set_touch(L.set_touch(x, KEYS, velocity=100, spread=0),
                                               PLUCK, velocity=100, spread=0), 100),
    "bass_roots": (100, lambda x: L.set_lens(x, BASS, kind="top", low=28, high=39), 50),
    "bass_pace": (1, lambda x: L.set_lens(x, BASS, kind="line", step_ticks=960), 4),
    "bass_rests": (0, lambda x: L.set_lens(x, BASS, where=((0, 7680),)), 50),
    "bass_glide": (0, lambda x: L.set_sound_setting(
        L.set_sound(x, BASS, "synth bass"), BASS, "glide_ms", 90), 90),
    "bass_height": (32.0, lambda x: L.set_lens(x, BASS, low=40, high=51), 44.0),
    "low_cut": (20, lambda x: treat(treat(x, KEYS, "cuts", low_cut_hz=200), PLUCK, "cuts",
                                    low_cut_hz=300), 200),
    "spaces": (0, lambda x: treat(x, KEYS, "hall"), 1),
    "tail": (0, lambda x: treat(x, KEYS, "hall", decay_s=3.0), None),
    "echoes": (0, lambda x: treat(x, PLUCK, "echo"), 1),
    "pitch_drift": (0, lambda x: treat(x, None, "weathering", wow_cents=22, wear=50), 11),
    "noise": (-80, lambda x: treat(x, None, "weathering", crackle_db=-33, wear=50), -39.02),
    "tail_chords": (0, lambda x: treat(x, KEYS, "hall", decay_s=3.0), None),
    "drive": (0, lambda x: treat(treat(x, KEYS, "warm", drive_db=7), None, "weathering",
                                 drive_db=16, wear=50), 8),
    "pulse_rate": (0, lambda x: treat(treat(x, KEYS, "pump"), PLUCK, "gate", rate="1/8"), 8),
    "driven": (0, lambda x: treat(treat(x, KEYS, "warm"), None, "tape"), 2),
    "pulse": (0, lambda x: treat(x, KEYS, "pump"), 1),
    "backward": (0, lambda x: treat(x, KEYS, "reverse", 0.6), 20),
    "shift": (0, lambda x: treat(x, None, "shift", semitones=-3), -3),
    "chops": (0, a_flip, 2),
}  # fmt: skip


def value(kind, loop, sound=None):
    found = KINDS[kind].measure(View(loop, sound))
    return None if found is None else found.value


OF_SOUND = {name for name, kind in KINDS.items() if kind.needs_sound}


def test_every_kind_has_its_case():
    # Those of the groove bed are in tests/test_groove.py, of the form in tests/test_form_marks.py.
    of_bed = {name for name, kind in KINDS.items() if kind.needs_bed or kind.needs_form}
    assert set(CASES) | OF_SOUND | of_bed == set(KINDS) and not set(CASES) & OF_SOUND
    assert len(KINDS) >= 40


@pytest.mark.parametrize("kind", sorted(CASES))
def test_a_kind_measures_what_is_there_and_what_becomes_of_it(kind):
    before, edit, after = CASES[kind]
    if before is not None or kind == "pad_pace":
        assert value(kind, LOOP) == (before if isinstance(before, str) or before is None
                                     else pytest.approx(before, abs=0.02))  # fmt: skip
    if after is not None:
        assert value(kind, edit(LOOP)) == (after if isinstance(after, str)
                                           else pytest.approx(after, abs=0.02))  # fmt: skip


def test_ways_of_voices_are_shares_of_all_and_add_up():
    shares = {name: value(name, LOOP) for name in ("half_steps", "common_tones", "leaps")}
    counted = View(LOOP).moves
    assert shares["half_steps"] == pytest.approx(100 * counted["half"] / counted.total())
    assert sum(shares.values()) + 100 * counted["whole"] / counted.total() == pytest.approx(100)
    still = replace(LOOP, chords=tuple(
        replace(c, voices=ROW[0], root=9) for c in LOOP.chords))  # fmt: skip
    assert value("common_tones", still) == 100 and value("leaps", still) == 0


def test_tails_add_up_and_a_flip_counts_its_turned_places_and_its_shift():
    hall = treat(LOOP, KEYS, "hall", decay_s=3.0)
    one = value("tail", hall)
    assert 2.5 < one < 4.5
    assert value("tail", treat(hall, None, "plate", decay_s=1.5)) > one + 1
    assert value("tail_chords", hall) == pytest.approx(one / 2.4)  # a bar at 100 BPM lasts 2.4 s
    flipped = a_flip(LOOP, shift=-5.0)
    assert value("backward", flipped) == pytest.approx(100 / 2 / 3)
    assert value("shift", flipped) == -5
    some = flipped.layer(KEYS).flipped
    muted = flipping.set_place(flipping.set_place(some, 0, mute=True), 2, mute=True)
    assert value("backward", flipped.with_owner(KEYS, source=muted)) == pytest.approx(
        100 / 3 * 2 / 6  # two of the six that are heard
    )
    longer = flipping.set_place(some, 7, length_ticks=2 * 1920)
    assert value("backward", flipped.with_owner(KEYS, source=longer)) == pytest.approx(
        100 / 3 * 4 / 9  # by how long they are
    )
    finer = cutting.cut(
        a_flip(LOOP, backward=False).layer(KEYS).flipped, tuple(range(0, 15360, 480))
    )
    both = L.copy_layer(flipped, KEYS)
    both = both.with_owner(both.layers[-1].id, source=finer)
    assert value("chops", both) == 8  # of the one that is cut finest
    fewer = flipped.with_owner(KEYS, source=flipping.take_out(some, 3))
    assert value("chops", fewer) == 7 / 4  # what plays, not what was cut
    assert value("backward", treat(LOOP, None, "reverse")) == 100


def test_nothing_is_measured_on_nothing():
    empty = Loop(title="x", key=A, tempo=100.0)
    for name in ("minor_share", "register", "half_steps", "pace", "bass_pace", "low_cut"):
        assert value(name, empty) is None, name
    mark = look({"minor_share": (0.0, 50.0)}, empty)[0]
    assert mark.missed and mark.found_text == "none" and change_for(mark, empty) is None
    assert not any(mark.met for mark in look({"layers": (1.0, 3.0)}, empty))


def test_evidence_says_which():
    def where(kind, loop=LOOP):
        return KINDS[kind].measure(View(loop)).where

    assert where("minor_share") == "2 of 4: Am, Dm"
    assert where("layers") == ", ".join(x.name for x in LOOP.layers)
    assert where("pace") == LOOP.layer(PLUCK).name
    assert where("bass_rests", L.set_lens(LOOP, BASS, where=((0, 7680),))) == "bars 3, 4"
    assert where("low_cut", treat(LOOP, KEYS, "cuts", low_cut_hz=200)) == LOOP.layer(PLUCK).name
    assert where("shift", treat(LOOP, None, "shift", semitones=-3)) == "the whole loop"


# --- the sound ------------------------------------------------------------------------------------


def tone(hz, level=0.2, seconds=2.0, sides=(1.0, 1.0)):
    t = np.arange(int(RATE * seconds)) / RATE
    one = level * np.sin(2 * np.pi * hz * t)
    return np.stack([one * sides[0], one * sides[1]]).astype(np.float32)


def test_measures_of_sound_are_those_of_known_sounds():
    low, high = tone(200), tone(2000)
    facts = sound_facts(low + high, RATE)
    assert facts.centroid_hz == pytest.approx(1100, rel=0.03)
    assert facts.voice_db == pytest.approx(-3.01, abs=0.05)
    assert facts.edge_hz == pytest.approx(2000, rel=0.01)
    assert facts.width == pytest.approx(0, abs=1e-3) and facts.floor_db > -1
    assert facts.sub_db < -80
    sides = sound_facts(low + tone(2000, sides=(1.0, -1.0)), RATE)
    assert sides.width == pytest.approx(50, abs=0.5) and sides.low_width < 0.01
    wide = sound_facts(tone(100, sides=(1.0, 0.0)) + high, RATE)
    assert wide.low_width == pytest.approx(50, abs=0.5)
    half = np.concatenate([low, 0.01 * low], axis=1)
    assert sound_facts(half, RATE).floor_db == pytest.approx(-37, abs=1)
    assert sound_facts(tone(50) + low, RATE).sub_db == pytest.approx(-3.01, abs=0.1)
    assert middle_hz(low, RATE) == pytest.approx(200, rel=0.05)
    assert middle_hz(high, RATE) == pytest.approx(2000, rel=0.02)
    assert middle_hz(0 * low, RATE) == 0
    middles = (("a", middle_hz(low, RATE)), ("b", middle_hz(high, RATE)))
    assert sound_facts(low + high, RATE, middles).layers == middles
    silent = sound_facts(np.zeros((2, 20_000), np.float32), RATE)
    assert np.isfinite([getattr(silent, name) for name in SoundFacts.__dataclass_fields__
                        if name != "layers"]).all()  # fmt: skip


FACTS = SoundFacts(lufs=-20.0, peak_db=-6.0, centroid_hz=900.0, edge_hz=4000.0, width=12.0,
                   low_width=2.0, voice_db=-14.0, sub_db=-10.0, floor_db=-8.0,
                   layers=((KEYS, 700.0), (PLUCK, 1500.0)))  # fmt: skip


@pytest.mark.parametrize(("kind", "wanted"), [
    ("brightness", 900), ("band_edge", 4000), ("width", 12), ("low_width", 2), ("loudness", -20),
    ("crest", 14), ("voice_room", -14), ("sub", -10), ("floor", -8), ("brightest_layer", 1500),
])  # fmt: skip
def test_marks_of_the_sound_are_what_was_measured_and_wait_until_it_is(kind, wanted):
    assert value(kind, LOOP, FACTS) == wanted
    assert value(kind, LOOP) is None
    around = (wanted - 1.0, wanted + 1.0)
    waiting = look({kind: around}, LOOP)[0]
    assert waiting.waits and not waiting.missed and met_of([waiting]) == (0, 0)
    assert look({kind: around}, LOOP, FACTS)[0].met


def test_changes_of_the_sound_go_the_right_way(small_loop):
    from cloudrift.render import Engine

    engine = Engine()

    def measured(loop):
        return facts_of_loop(engine, loop)

    now = measured(small_loop)
    brightest = max(hz for _id, hz in now.layers)
    asks = {
        "brightness": (0.4 * now.centroid_hz, 0.5 * now.centroid_hz),
        "band_edge": (200.0, 0.5 * now.edge_hz), "width": (30.0, 40.0),
        "loudness": (now.lufs - 9, now.lufs - 7),
        "brightest_layer": (0.4 * brightest, 0.5 * brightest),
    }  # fmt: skip
    for name, asked in asks.items():
        mark = look({name: asked}, small_loop, now)[0]
        change = change_for(mark, small_loop, now)
        after = look({name: asked}, change.edit(small_loop), measured(change.edit(small_loop)))[0]
        assert after.away < 0.4 * mark.away, (name, change.words, after.found_text)
    louder = look({"loudness": (now.lufs + 3, now.lufs + 5)}, small_loop, now)[0]
    assert "louder by 4 dB" in change_for(louder, small_loop, now).words
    engine.close()


# --- what is asked --------------------------------------------------------------------------------


def test_a_mark_is_met_as_near_as_it_is_written():
    kind = KINDS["tempo"]
    assert kind.met(120.4, (121.0, 130.0)) is False and kind.met(120.6, (121.0, 130.0))
    assert KINDS["mode"].met("minor", ("dorian", "minor")) and not KINDS["mode"].met(
        "x", ("minor",)
    )
    mark = Mark(kind=kind, asked=(130.0, 140.0), found=KINDS["tempo"].measure(View(LOOP)))
    assert mark.missed and 0 < mark.away < 10
    assert KINDS["sub"].met(-94.0, (-60.0, -60.0))  # beyond the axis
    assert kind.share(40) == 0 and kind.share(400) == 1
    assert KINDS["low_cut"].share(142) == pytest.approx(0.5, abs=0.01)  # its axis is in octaves
    assert (kind.text(1), KINDS["layers"].text(1), KINDS["layers"].text(2)) == (
        "1 BPM", "1 layer", "2 layers")  # fmt: skip
    assert kind.asks((120.0, 120.0)) == "120 BPM" and kind.asks((1.0, 2.0)) == "1 to 2 BPM"


@pytest.mark.parametrize(("asks", "says"), [
    ({"tempoo": (1.0, 2.0)}, "there is no mark called 'tempoo'; did you mean 'tempo'"),
    ({"tempo": (140.0, 120.0)}, "write the smaller first"),
    ({"tempo": (float("nan"), 120.0)}, "write the smaller first"),
    ({"tempo": (120.0,)}, "must be a range"), ({"tempo": ("minor", "x")}, "must be a range"),
    ({"tempo": (900.0, 990.0)}, "but the limits are 40 to"),
    ({"mode": ("minr",)}, "asks 'minr', but may ask"), ({"mode": ()}, "must be words"),
])  # fmt: skip
def test_what_can_not_be_asked_is_said_and_the_rest_goes_on(asks, says):
    good, wrong = checked({**asks, "layers": (2.0, 4.0)}, "a card")
    assert list(good) == ["layers"] and len(wrong) == 1
    assert says in wrong[0] and wrong[0].startswith("a card: ")


# --- the cards ------------------------------------------------------------------------------------

ASKS = {name: checked(card.marks, name) for name, card in house_cards().items()}


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_a_sketch_meets_its_own_card_best(name):
    assert len(ASKS) == 7 and ASKS[name][1] == ()
    assert len(ASKS[name][0]) >= 18
    shares = []
    for variation in range(201, 213):
        loop = sketch(house_cards()[name], variation=variation)
        met = {other: met_of(look(asks, loop)) for other, (asks, _) in ASKS.items()}
        share = {other: one / of for other, (one, of) in met.items()}
        assert max(share, key=share.get) == name, variation
        shares.append(share[name])
    assert np.median(shares) >= 0.95 and np.mean(np.array(shares) >= 0.9) >= 0.9


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_two_draws_of_a_card_differ(name):
    one, other = (sketch(house_cards()[name], variation=variation) for variation in (3, 4))
    chords = [{(c.start_tick, c.root, c.voices) for c in loop.chords} for loop in (one, other)]
    assert len(chords[0] & chords[1]) <= 2 / 3 * max(map(len, chords))


def test_a_change_meets_its_mark_and_leaves_the_others():
    made = lower = 0
    for name, card in house_cards().items():
        loop = sketch(card, variation=9)
        for other, (asks, _wrong) in ASKS.items():
            if other == name:
                continue
            marks = look(asks, loop)
            before = met_of(marks)[0]
            for mark in marks:
                change = change_for(mark, loop)
                if change is None:
                    continue
                after = look(asks, change.edit(loop))
                now = next(x for x in after if x.kind is mark.kind)
                assert now.met, (name, other, mark.kind.name, change.words)
                assert change.words and len(change.words) < 120
                made += 1
                lower += met_of(after)[0] < before
    assert made > 300 and lower < 0.1 * made


@pytest.mark.parametrize(("kind", "asked", "words"), [
    ("colours", (2.0, 2.0), "back to earlier chords"),
    ("chord_bars", (2.0, 2.0), "chords 2 times as long"),
    ("chord_bars", (0.25, 0.5), "chords for each"),
    ("held_layers", (2.0, 2.0), "held"), ("held_layers", (0.0, 0.0), "arpeggio in eighths"),
    ("keys_pace", (3.5, 4.5), "in steps of 1 beats"), ("pluck_pace", (0.5, 1.5), "with the chords"),
    ("gaps", (40.0, 60.0), "notes last"),
    ("drive", (5.0, 7.0), "driven by 6 dB"), ("pulse_rate", (8.0, 8.0), "pumps in 1/8"),
    ("tail_chords", (0.8, 1.2), "a hall on"),
])  # fmt: skip
def test_a_change_is_offered_and_meets(kind, asked, words):
    dry = L.set_layer(LOOP, PLUCK, mute=True) if kind == "gaps" else LOOP
    mark = look({kind: asked}, dry)[0]
    change = change_for(mark, dry)
    assert words in change.words
    after = change.edit(dry)
    assert look({kind: asked}, after)[0].met and after.bars == dry.bars


def test_more_colours_come_from_repeats_and_what_pulses_too_quickly_is_slowed():
    twice = replace(LOOP, chords=tuple(replace(c, voices=ROW[i % 2], root=ROOTS[i % 2])
                                       for i, c in enumerate(LOOP.chords)))  # fmt: skip
    change = change_for(look({"colours": (4.0, 4.0)}, twice)[0], twice)
    after = change.edit(twice)
    assert value("colours", after) == 4 and after.chords[:2] == twice.chords[:2]
    assert value("off_key", after) == value("off_key", twice)
    gated = treat(LOOP, KEYS, "gate", rate="1/16")
    slower = change_for(look({"pulse_rate": (3.0, 5.0)}, gated)[0], gated)
    assert slower.words == "pulses in 1/4" and value("pulse_rate", slower.edit(gated)) == 4
    none = change_for(look({"pulse_rate": (0.0, 0.0)}, gated)[0], gated)
    assert value("pulse", none.edit(gated)) == 0


def test_a_row_made_quicker_comes_round_again_and_fills_the_loop():
    change = change_for(look({"chord_bars": (0.5, 0.5)}, LOOP)[0], LOOP)
    quick = change.edit(LOOP)
    assert [c.root for c in quick.chords] == list(ROOTS) * 2
    assert quick.chords[-1].end_tick == LOOP.ticks and len({c.id for c in quick.chords}) == 8
    slow = change_for(look({"chord_bars": (2.0, 2.0)}, quick)[0], quick).edit(quick)
    assert [(c.root, c.length_ticks) for c in slow.chords] == [(9, 7680), (5, 7680)]


def test_what_is_met_or_left_open_has_no_change():
    met = look({"tempo": (90.0, 110.0)}, LOOP)[0]
    assert met.met and change_for(met, LOOP) is None
    open_ = next(x for x in look({}, LOOP, all_=True) if x.kind.name == "tempo")
    assert not open_.missed and not open_.met and change_for(open_, LOOP) is None


def test_kinds_refuse_what_is_no_range():
    with pytest.raises(CloudriftError, match="must be a range"):
        KINDS["tempo"].check((True, 120.0), "x")


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_a_sketch_does_not_go_over_full_scale(name):
    from cloudrift.render import Engine

    engine = Engine()
    loop = sketch(house_cards()[name], variation=1, bars=2)
    facts = sound_facts(engine.render(loop).audio, loop.rate)
    engine.close()
    assert facts.peak_db < 0 and -32 < facts.lufs < -10
