"""What is heard: the score behind treatments, flips and prints, and what is read from it."""

from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton

from bench.heard import drawn, in_plain_sound, measure
from cloudrift.audio.clips import ClipStore
from cloudrift.demo import unpack
from cloudrift.desktop.frame.key_popup import open_key
from cloudrift.loop.edits.flip import cutting, flips, prints
from cloudrift.loop.edits.flip.apart import own_loop
from cloudrift.loop.edits.layers import joining, layer_edits, line_edits, own_notes, recordings
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.bed import BED
from cloudrift.loop.model.document import Document, Pass
from cloudrift.loop.model.known_score import KnownScore
from cloudrift.loop.model.recorded import Facts
from cloudrift.loop.sounding import chords_heard, heard, key_entering, key_heard
from cloudrift.loop.sounding.known import known_score
from cloudrift.loop.sounding.rows import moved, rows, wrapped
from cloudrift.loop.sounding.score import sounding
from cloudrift.notes.listening import listen_to
from cloudrift.render.forms.printing import printed
from cloudrift.render.plan.plan import group_context, layer_context, loop_context, step_context
from cloudrift.render.plan.variants import alone
from cloudrift.texture.context import Context
from cloudrift.texture.kinds import backward, slots, windows
from cloudrift.texture.treatment import Treatment
from tests.conftest import fresh_engine, given_notes, main_hz, make_small_loop, treated
from tests.test_arranging import BEDDED

GOLDEN = Path(__file__).parent / "golden"


def flipped(loop, **facts):
    """A loop with a flip of a print of itself, used beside its layers; and the flip's id."""
    known = prints.facts_of_print(loop, "Print", round(loop.sounding_frames), -14.0)
    made = prints.with_print(
        Document(loop=loop), loop, "0" * 24, replace(known, **facts), (), 0.0
    ).loop  # fmt: skip
    return flips.use(made, made.layers[-1].id), made.layers[-1].id


def of_each_piece(loop, layer_id, **changes):
    """The same with all pieces of its flip changed."""
    return flips.with_flip(
        loop, layer_id,
        lambda flip: cutting.with_places(flip, [replace(x, **changes) for x in flip.places]),
    )  # fmt: skip


# --- how treatments move what sounds --------------------------------------------------------------


@pytest.mark.parametrize(
    ("kind", "settings", "sources"),
    [
        ("reverse", {}, backward._heard_frames),
        ("reverse", {"what": "whole"}, backward._heard_frames),
        ("half speed", {}, lambda f, c: np.arange(c.loop_frames) + windows._course(f, c)[0]),
        ("half speed", {"speed": "a quarter", "window": "1/2"},
         lambda f, c: np.arange(c.loop_frames) + windows._course(f, c)[0]),
        ("stutter", {"share": 40.0}, lambda f, c: windows._stutter_of(f, c)[0]),
        ("replay", {}, lambda f, c: windows._replay_of(f, c)[0]),
        ("replay", {"way": "backward"}, lambda f, c: windows._replay_of(f, c)[0]),
        ("slots", {"slot_1": "octave up", "slot_3": "slow", "slot_5": "silence"},
         lambda f, c: np.arange(c.loop_frames) + slots._course(f.word("slot"), slots._pattern(f),
                                                               c)[0]),
    ],
)  # fmt: skip
def test_moves_are_what_is_done_to_the_sound(kind, settings, sources):
    treatment = Treatment(id="t1", kind=kind)
    for name, value in settings.items():
        treatment = treatment.set(name, value)
    ticks, cuts = 2 * 3840, (480, 3840)
    frames = ticks * 10
    context = Context(rate=48_000, exact_frames=float(frames), tempo=300.0,
                      cuts=tuple(10 * cut for cut in cuts))  # fmt: skip
    wanted = sources(treatment.full, context) / 10
    moves = treatment.of.moves(treatment.full, ticks, cuts)
    heard_ticks = 0.0
    for one in moves:
        inside = np.arange(one.start + 3, one.end - 3, 7.0)
        heard_ticks += one.end - one.start
        said = one.source + one.speed * (inside - one.start)
        there = wanted[np.round(inside * 10).astype(int) % frames]
        off = (said - there + ticks / 2) % ticks - ticks / 2
        assert np.abs(off).max(initial=0) < 3, one
    assert heard_ticks == pytest.approx(ticks * (7 / 8 if "slot_5" in settings else 1))


def test_notes_go_along_and_meet_again():
    note = rows(1, start=900.0, end=1500.0, cents=6000.0, note=0)
    moves = Treatment(id="t1", kind="half speed").of.moves
    full = Treatment(id="t1", kind="half speed").set("window", "1/2").full
    slow = moved(note, moves(full, 3840, ()), 3840)
    assert [(r["start"], r["end"], r["cents"]) for r in slow] == [(1800.0, 1920.0, 4800.0)]
    turned = moved(note, Treatment(id="t1", kind="stutter").of.moves(
        Treatment(id="t1", kind="stutter").set("share", 0.0).full, 3840, ()), 3840)  # fmt: skip
    assert [(r["start"], r["end"]) for r in turned] == [(900.0, 1500.0)]  # parts are one again
    over = wrapped(rows(1, start=-100.0, end=50.0, cents=6000.0), 3840)
    assert sorted((r["start"], r["end"]) for r in over) == [(0.0, 50.0), (3740.0, 3840.0)]


def test_a_part_of_the_dry_sound_is_heard_beside_what_was_moved():
    loop = replace(make_small_loop(), line=())
    layer = loop.layers[0].id
    loop = treated(replace(loop, layers=(replace(loop.layers[0], line=()),)), layer, "shift",
                   semitones=5.0)  # fmt: skip
    before = len(sounding(line_edits.set_line(loop, layer, ()), loop.layers[0]).notes)
    half = line_edits.set_treatment(loop, layer, loop.line_of(layer)[0].id, blend=0.25)
    both = sounding(half, half.layer(layer)).notes
    assert len(both) == 2 * before
    assert np.ptp(both["db"]) > 9  # three quarters dry, one of it shifted
    beside = treated(line_edits.set_line(loop, layer, ()), layer, "harmoniser")
    found = sounding(beside, beside.layer(layer)).notes
    assert len(found) == 2 * before and set(np.diff(np.unique(found["root"] % 1200))) <= set(
        np.diff(np.unique(both["root"] % 1200))) | {0.0}  # fmt: skip


# --- the cases that rules of thumb got wrong ------------------------------------------------------


def test_pieces_with_a_shift_of_their_own_say_the_key_beside_a_played_layer():
    loop = replace(make_small_loop(), line=())
    loop, flip = flipped(loop)
    quiet = replace(loop, layers=(replace(loop.layers[0], level_db=-24.0), loop.layer(flip)))
    down = of_each_piece(quiet, flip, semitones=-6.0)
    assert key_heard(down) == loop.key.shifted(-6) and key_heard(quiet) == loop.key
    assert [r.pc for r in heard(down).roots] == [(c.root - 6) % 12 for c in loop.chords]
    (other,) = heard(down).disagreements  # the layer that still plays in the written key
    assert other.layer == loop.layers[0].id and abs(other.cents) == 600
    assert joining.apart_in_all(down) == "1 layer in another key"
    joined = joining.join(down, other)  # through its line, for it is played
    assert heard(joined).disagreements == () and joined.layers[0].line[-1].kind == "shift"
    made = flips.put_bass(down, flip)  # a fresh bass follows what sounds, not what is written
    assert made.layers[-1].own[0].pitch % 12 == (loop.chords[0].root - 6) % 12


def test_what_rings_in_key_rings_in_the_key_that_goes_into_it():
    loop = replace(make_small_loop(), line=())
    plain = treated(loop, loop.layers[0].id, "resonance")
    assert layer_context(plain, plain.layers[0]).key == loop.key  # played: in the written key
    loop, flip = flipped(loop)
    down = of_each_piece(treated(loop, flip, "resonance"), flip, semitones=-6.0)
    away = loop.key.shifted(-6)
    assert layer_context(down, down.layer(flip)).key == away
    first = treated(treated(loop, flip, "shift", semitones=2.0), flip, "resonance")
    assert layer_context(first, first.layer(flip)).key == loop.key
    assert step_context(first, flip, 1).key == loop.key.shifted(2)
    # In a group, and on all of it: what its layers sound in; none of it where it is not tuned.
    alone = treated(own_loop(down, flip), None, "resonance")
    assert loop_context(alone).key == away
    grouped = layer_edits.group_layers(down, (flip,))
    group = grouped.groups[-1].id
    grouped = treated(grouped, group, "resonance")
    assert group_context(grouped, group).key == away
    assert key_entering(down, flip) == away and key_entering(down, down.layers[0].id) == loop.key
    bedded = replace(treated(alone, None, "shift", semitones=1.0), bed=BEDDED.bed)
    assert key_entering(bedded, bedded.lanes[0].id) == key_entering(bedded, BED) == away.shifted(1)


def test_a_print_has_the_chords_of_notes_that_left_the_written_ones():
    loop = replace(make_small_loop(), line=())
    layer = loop.layers[0].id
    loop = own_notes.detach(replace(loop, layers=(replace(loop.layers[0], line=()),)), layer)
    half = loop.ticks // 2
    notes = tuple(
        replace(n, start_tick=(n.start_tick + half) % loop.ticks) for n in loop.layer(layer).own
    )
    ordered = tuple(sorted(notes, key=lambda n: (n.start_tick, n.pitch)))
    loop = loop.with_owner(layer, source=replace(loop.layer(layer).source, notes=ordered))
    made, flip = flipped(loop)
    roots = [c.root for c in loop.chords]
    assert [c.root for c in made.layer(flip).flipped.chords] == roots[::-1]


def test_a_flip_on_tape_beside_a_bass_is_said_to_be_out_of_tune():
    loop = replace(make_small_loop(), line=())
    loop, flip = flipped(loop)
    taped = recordings.set_recording(replace(loop, tempo=loop.tempo * 2 ** (0.4 / 12)), flip,
                                     fit="tape")  # fmt: skip
    alone = own_loop(taped, flip)
    assert heard(alone).disagreements == () and heard(alone).cents == pytest.approx(40, abs=1)
    bass = layer_edits.add_layer(alone, "round sub")
    (other,) = heard(bass).disagreements
    assert abs(other.cents) == pytest.approx(40, abs=4) and other.is_tuning
    said = joining.apart_words(bass, other), joining.shift_words(other)
    assert "cents out of tune" in said[0] and said[1].endswith(" cents")
    assert joining.apart_in_all(bass) == "1 layer out of tune"
    joined = joining.join(bass, other)
    assert heard(joined).disagreements == () and joining.apart_in_all(joined) == ""


# --- the same, held against the sound -------------------------------------------------------------


def steady():
    """A loop of one layer whose sound says plainly what it plays, through nothing."""
    loop = make_small_loop()
    return in_plain_sound(replace(loop, layers=loop.layers[:1]))


def printed_flip(loop, clips):
    """A loop with a flip of a print of it that really sounds, and the flip's id."""
    of = prints.loop_to_print(loop)
    made = printed(of, "Print", clips)
    document = prints.with_print(Document(loop=loop), of, made.clip, made.facts, (), made.gain_db)
    flip = document.loop.layers[-1].id
    return flips.use(document.loop, flip), flip


def test_pieces_with_a_shift_beside_a_played_layer_sound_in_the_key_that_is_said():
    clips = ClipStore()
    loop, flip = printed_flip(steady(), clips)
    quiet = replace(loop, layers=(replace(loop.layers[0], level_db=-24.0), loop.layer(flip)))
    down = of_each_piece(quiet, flip, semitones=-6.0)
    assert key_heard(down) == loop.key.shifted(-6)
    with fresh_engine(clips=clips) as engine:
        for one in (quiet, down):
            found = measure(one, engine)
            assert found.spans == found.right >= 2
            key = listen_to(engine.render(one).audio, one.rate).keys[0].key
            assert set(key.scale) == set(key_heard(one).scale)


def test_a_print_of_notes_that_left_the_written_chords_sounds_in_the_chords_that_are_said():
    clips = ClipStore()
    loop = steady()
    layer, half = loop.layers[0].id, loop.ticks // 2
    loop = own_notes.detach(loop, layer)
    turned = (replace(n, start_tick=(n.start_tick + half) % loop.ticks) for n in loop.layers[0].own)
    loop = given_notes(loop, layer, tuple(sorted(turned, key=lambda n: (n.start_tick, n.pitch))))
    made, flip = printed_flip(loop, clips)
    made = replace(made, layers=(made.layer(flip),))
    said = [c.root for c in made.layer(flip).flipped.chords]
    assert said == [c.root for c in loop.chords][::-1]
    with fresh_engine(clips=clips) as engine:
        found = measure(replace(made, chords=()), engine)
        assert (found.chords, found.roots) == (2, 2) and found.lows == found.lows_right >= 3
        audio = engine.render(made).audio
    for pc, part in zip(said, np.array_split(audio, 2, axis=1), strict=True):
        low = main_hz(part[:, : made.rate], 60, 1000)  # an organ's loudest tone is of its chord
        assert any(c.root == pc and round(69 + 12 * np.log2(low / 440)) % 12 in
                   {v % 12 for v in c.voices} for c in loop.chords)  # fmt: skip


def test_a_flip_on_tape_is_as_far_from_its_bass_as_is_said():
    clips = ClipStore()
    loop, flip = printed_flip(steady(), clips)
    taped = recordings.set_recording(replace(loop, tempo=loop.tempo * 2 ** (0.4 / 12)), flip,
                                     fit="tape")  # fmt: skip
    bass = layer_edits.add_layer(own_loop(taped, flip), "round sub")
    (other,) = heard(bass).disagreements
    with fresh_engine(clips=clips) as engine:

        def cents_off(loop, at):
            audio = engine.render(alone(loop, {at})).audio
            cents = 1200 * np.log2(main_hz(audio[:, : loop.rate], 30, 1000) / 440)
            return (cents + 50) % 100 - 50

        ids = {x.id for x in bass.layers}
        tuning = {at: cents_off(bass, at) for at in ids}
        assert tuning.pop(other.layer) - next(iter(tuning.values())) == pytest.approx(
            -other.cents, abs=5
        )
        joined = joining.join(bass, other)
        a, b = (cents_off(joined, at) for at in ids)
        assert abs(a - b) < 5


def test_what_listening_is_not_sure_of_names_nothing():
    loop = replace(make_small_loop(), line=())
    of = Facts(name="x", kind="loop", length_s=4.0, key=loop.key.shifted(3), key_sure=0.4,
               tempo=loop.tempo, lufs=-12.0)  # fmt: skip
    from cloudrift.loop.model.recorded import FromRecording

    source = FromRecording(clip="0" * 24, facts=of)
    alone = replace(loop, layers=(replace(loop.layers[0], source=source, line=()),))
    assert heard(alone).key == loop.key.shifted(3) and heard(alone).sure == pytest.approx(0.4)
    assert key_heard(alone) == loop.key
    sure = replace(source, facts=replace(of, key_sure=0.0))  # said by hand
    assert key_heard(replace(alone, layers=(replace(alone.layers[0], source=sure),))) == (
        loop.key.shifted(3)
    )


# --- prints carry their score ---------------------------------------------------------------------


def test_a_print_carries_its_notes_and_a_print_of_it_maps_them_on():
    loop = treated(replace(make_small_loop(), line=()), None, "shift", semitones=-3.0)
    score = known_score(loop)
    assert score.sure == 1 and set(score.voices) == {x.name for x in loop.heard()}
    own = np.concatenate([sounding(loop, x).notes for x in loop.heard()])
    assert {cents for *_, cents, _db, _who in score.notes} <= set(np.round(own["cents"]))
    made, flip = flipped(loop)
    alone = flips.heard_with(of_each_piece(made, flip, semitones=2.0), flip)
    again = known_score(alone)
    assert {c for *_, c, _d, _w in again.notes} == {c + 200 for *_, c, _d, _w in score.notes}
    assert again.notes[0][0] == score.notes[0][0]


def test_passes_leave_out_what_is_out_of_them():
    loop = replace(make_small_loop(), line=())
    out = loop.layers[0].id
    score = known_score(loop, (Pass(name="all"), Pass(name="less", out=(out,))))
    turn = round(loop.sounding_frames / loop.rate * 1000)
    first = {who for at, *_, who in score.notes if at < turn - 50}
    last = {who for at, *_, who in score.notes if at > turn + 50}
    assert first - last == {score.voices.index(loop.layers[0].name)}


def test_an_earlier_file_gets_the_score_of_its_prints_from_their_recipes():
    document = load_document(GOLDEN / "schema14.cloudrift", ClipStore())
    known = [x.flipped.of.facts.score for x in document.loop.layers if x.flipped]
    printed = [x for x in document.loop.layers if x.flipped and x.flipped.print_id]
    assert printed and sum(isinstance(one, KnownScore) for one in known) == len(printed)
    assert all(one.notes and one.chords for one in known if one)


def test_chords_that_are_heard_are_the_written_ones_where_nothing_was_moved():
    loop = replace(make_small_loop(), line=())
    assert [(c.start_tick, c.length_ticks, c.voices) for c in chords_heard(loop)] == [
        (c.start_tick, c.length_ticks, c.voices) for c in loop.chords
    ]
    assert heard(loop).sure == 1 and heard(loop).disagreements == ()
    assert heard(replace(loop, layers=())).key == loop.key


@pytest.mark.parametrize("number", [0, 1, 10, 11])
def test_what_is_said_to_be_heard_is_in_the_sound(number):
    clips = ClipStore()
    loop = drawn(number, clips, plain=True).loop
    with fresh_engine(clips=clips) as engine:
        found = measure(loop, engine)
    assert found.spans >= 6 and found.right >= 0.98 * found.spans
    assert np.quantile(np.abs(found.cents), 0.95) < 5


def test_layers_that_sound_apart_are_said_under_the_key_and_joined_by_a_press(qtbot, window):
    loop, flip = flipped(replace(make_small_loop(), line=()))
    quiet = replace(loop, layers=(replace(loop.layers[0], level_db=-24.0), loop.layer(flip)))
    window.session.document.open(of_each_piece(quiet, flip, semitones=-6.0), None)
    key = window.heading.key
    assert f"sounds {loop.key.shifted(-6).text}" in key.accessibleName()
    assert f"{loop.layers[0].name} sounds in {loop.key.text}" in key.toolTip()
    popup = open_key(key, window.session)
    press = popup.apart.findChild(QPushButton)
    assert press.text() in ("Shift it +6 st", "Shift it −6 st")
    qtbot.mouseClick(press, Qt.MouseButton.LeftButton)
    assert heard(window.session.loop).disagreements == () and not popup.apart.isVisible()
    assert window.session.loop.layers[0].line[-1].kind == "shift"
    popup.close()


# --- chords that were only listened to ------------------------------------------------------------


def listened(loop, clips):
    """A recording of a loop's sound, as it is known after listening to it."""
    with fresh_engine(clips=clips) as engine:
        audio = engine.render(loop).audio
    facts = recordings.facts_of(listen_to(audio, loop.rate), "Listened")
    return recordings.laid_in(loop, clips.record(audio, loop.rate), facts)


def test_chords_that_listening_finds_are_known_less_surely_than_those_that_are_played():
    clips = ClipStore()
    document = load_document(unpack()[0], clips)
    loop = replace(document.loop, bed=None)
    source = listened(loop, clips)
    score = source.facts.score
    assert 0.55 <= score.sure <= 0.85 and not score.notes
    alone = recordings.add_recording(replace(loop, layers=(), line=(), chords=()), source)
    wanted, found = (root_at_each_beat(one) for one in (loop, alone))
    assert np.mean(wanted == found) >= 0.75  # a seventh chord and the triad on its third are near
    assert all(c.sure == score.sure for c in heard(alone).chords)
    assert key_heard(alone) == loop.key  # what is not sure names no file
    shifted = recordings.set_recording(alone, alone.layers[-1].id, semitones=2.0)
    assert (root_at_each_beat(shifted) == (found + 2) % 12).all()


def root_at_each_beat(loop):
    roots = heard(loop).roots
    return np.array([
        next(r.pc for r in roots if r.start_tick <= tick < r.end_tick)
        for tick in range(480, loop.ticks, 960)
    ])  # fmt: skip


def test_noise_has_no_chords():
    noise = 0.1 * np.random.default_rng(1).standard_normal((2, 44_100 * 6)).astype(np.float32)
    assert recordings.facts_of(listen_to(noise, 44_100), "Noise").score is None
