"""Flips and prints: pieces that play elsewhere, and the way back."""

from itertools import pairwise

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.listen.hits import detect_onsets
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import metre
from cloudrift.loop.edits.flip import cutting, flipping, flips, ordering
from cloudrift.loop.edits.flip.prints import (
    hash_of,
    loop_to_print,
    recipe_of,
    with_print,
    with_reprint,
)
from cloudrift.loop.edits.flip.scatter import Rules, scattered
from cloudrift.loop.edits.layers import layer_edits, line_edits, recordings
from cloudrift.loop.files.storage import document_from, load_document, save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.flip import SHORTEST_TICKS, Flipped, SlicePlacement, letters_of
from cloudrift.loop.sounding import chords_heard, key_heard
from cloudrift.render import Engine
from cloudrift.render.forms.printing import printed
from cloudrift.render.plan.plan import layer_context, layer_laying
from cloudrift.render.plan.slicing import hits_in
from tests.conftest import make_small_loop

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

BAR = 3840


@pytest.fixture(scope="module")
def made():
    """The small loop printed whole: its document, the store, an engine, the print's sound."""
    clips = ClipStore()
    loop = make_small_loop()
    got = printed(loop, "Print 1", clips)
    document = with_print(Document(loop=loop), loop, got.clip, got.facts, (), got.gain_db)
    engine = Engine(clips=clips)
    yield document, clips, engine, clips.read(got.clip)[0]
    engine.close()


def flip_of(document):
    return document.loop.layers[-1].flipped


def alone(document, flip):
    """A loop in which a flip is all that is heard, at the print's own level."""
    flip = replace(flip, of=replace(flip.of, gain_db=0.0))
    layer = replace(document.loop.layers[-1], source=flip, parked=False)
    return replace(document.loop, layers=(layer,), groups=(), line=())


def sound(made, flip):
    document, _clips, engine, _audio = made
    return engine.render(alone(document, flip)).audio


def cut(flip, what, count=16):
    return cutting.cut(flip, cutting.cuts_at(flip, what, (4, 4), count))


# --- prints ---------------------------------------------------------------------------------------


def test_a_print_is_what_is_heard_and_a_reprint_is_the_same_to_its_24_bits(made):
    document, _clips, engine, audio = made
    loop = document.loop
    flip = flip_of(document)
    heard = engine.render(replace(loop, layers=loop.layers[:-1])).audio
    back = audio * np.float32(10 ** (flip.of.gain_db / 20))
    assert np.abs(back - heard).max() < 1e-4
    assert (flip.of.facts.key, flip.of.facts.tempo) == (key_heard(loop), loop.sounding_tempo)
    _print, recipe = recipe_of(document, flip.print_id)
    assert printed(recipe, "again", ClipStore()).clip == flip.of.clip
    assert [c.voices for c in flip.chords] == [c.voices for c in loop.chords]
    assert loop.layers[-1].parked and loop.layers[-1].name == "Print 1"


def test_layers_are_printed_without_the_whole_loops_line_and_bare_without_any():
    loop = make_small_loop()
    assert loop.line
    some = loop_to_print(loop, ("l2",))
    assert [layer.id for layer in some.layers] == ["l2"] and some.line == ()
    assert some.layers[0].line == loop.layer("l2").line
    bare = loop_to_print(loop, bare=True)
    assert bare.line == () and not any(layer.line for layer in bare.layers)
    off = layer_edits.set_layer(loop, "l2", mute=True)
    assert loop_to_print(off, ("l2",)).layers[0].mute is False
    with pytest.raises(CloudriftError, match="nothing to print"):
        loop_to_print(replace(loop, layers=()))


def test_a_print_of_a_lower_loop_is_in_what_is_heard():
    from cloudrift.texture.treatment import Treatment

    loop = make_small_loop()
    tape = Treatment(id="t9", kind="shift").set("semitones", -3.0).set("way", "like tape")
    loop = line_edits.set_line(loop, None, (tape,))
    clips = ClipStore()
    got = printed(loop, "Low", clips)
    assert got.facts.key == key_heard(loop) != loop.key
    assert got.facts.tempo == pytest.approx(loop.sounding_tempo)
    document = with_print(Document(loop=loop), loop, got.clip, got.facts, (), got.gain_db)
    low = [c.root for c in flip_of(document).chords]
    assert low == [(c.root - 3) % 12 for c in loop.chords]


def test_prints_are_kept_in_the_file_with_their_loops_once(made, tmp_path):
    document, clips, _engine, _audio = made
    loop = document.loop
    flip = flip_of(document)
    again = with_print(document, make_small_loop(), flip.of.clip, flip.of.facts, (), 0.0)
    assert len(again.prints) == 2 and len(again.recipes) == 1
    assert [one.id for one in again.prints] == ["p1", "p2"]
    path = tmp_path / "printed.cloudrift"
    save(again, path, clips)
    store = ClipStore()
    opened = load_document(path, store)
    assert opened == again and flip.of.clip in store
    assert opened.loop.layers[-2] == loop.layers[-1]


def test_a_file_whose_print_has_no_loop_or_no_sound_is_refused(made, tmp_path):
    document, clips, _engine, _audio = made
    raw = msgspec.json.decode(msgspec.json.encode(document))
    head = {"format": "cloudrift loop", "schema": 9}
    broken = head | {k: raw[k] for k in ("loop", "prints")} | {"recipes": []}
    with pytest.raises(CloudriftError, match="print p1: its source loop is missing"):
        document_from(msgspec.json.encode(broken), "a")
    raw["prints"][0]["clip"] = "0" * 24
    path = tmp_path / "a.cloudrift"
    save(document, path, clips)
    import zipfile

    with zipfile.ZipFile(path) as old, zipfile.ZipFile(tmp_path / "b.cloudrift", "w") as new:
        for name in old.namelist():
            body = old.read(name)
            if name == "loop.json":
                body = msgspec.json.encode(
                    head | {k: raw[k] for k in ("loop", "prints", "recipes")}
                )
            new.writestr(name, body)
    with pytest.raises(CloudriftError, match="prints: the recording Print 1 is not in the file"):
        load_document(tmp_path / "b.cloudrift", ClipStore())


def test_what_was_cut_follows_a_reprint_and_its_own_places_stay(made):
    document, clips, _engine, _audio = made
    other = layer_edits.set_layer(make_small_loop(), "l1", mute=True)
    got = printed(other, "Print 1", clips)
    turned = replace(document, loop=flips.with_flip(document.loop, document.loop.layers[-1].id,
                                                       ordering.backward))  # fmt: skip
    after = with_reprint(turned, "p1", other, got.clip, got.facts, got.gain_db)
    now, before = flip_of(after), flip_of(turned)
    assert now.of.clip == got.clip != before.of.clip
    assert now.places == before.places and now.of.facts.name == before.of.facts.name
    assert [one.content for one in after.recipes] == [hash_of(other)]
    assert recipe_of(after, "p1")[1] == other
    with pytest.raises(CloudriftError, match="no longer exists"):
        recipe_of(after, "p9")


# --- the sound ------------------------------------------------------------------------------------


def test_hits_are_where_something_is_struck():
    rng = np.random.default_rng(1)
    strokes = [0.0, 0.5, 0.8, 1.25, 1.9]
    audio = np.zeros((2, 44_100 * 2 + 22_050), np.float32)
    for second in strokes:
        start = int(second * 44_100)
        long = min(9000, audio.shape[1] - start)
        burst = rng.normal(0, 0.3, long) * np.exp(-np.arange(long) / 2000)
        audio[:, start : start + long] += burst.astype(np.float32)
    found = detect_onsets(audio, 44_100)
    assert [round(a, 2) for a in found if a > 0.1] == [0.5, 0.8, 1.25, 1.9]
    assert all(abs(a - b) < 0.006 for a, b in zip(found[-4:], strokes[1:], strict=True))
    assert detect_onsets(np.zeros((2, 44_100), np.float32), 44_100) == []
    assert detect_onsets(audio[:, :50], 44_100) == []


def test_a_print_is_cut_where_it_is_struck(made):
    document, clips, _engine, _audio = made
    flip = flip_of(document)
    layer = replace(document.loop.layers[-1], source=flip)
    hits = hits_in(flip, layer_laying(document.loop, layer), clips, document.loop.tempo)
    cuts = cutting.cuts_at(flip, "transients", (4, 4), hits=hits)
    near_chords = [min(abs(cut - c.start_tick) for cut in (*cuts, flip.length_ticks))
                   for c in flip.chords]  # fmt: skip
    assert len(cuts) >= 4 and max(near_chords) < 150
    with pytest.raises(CloudriftError, match="it has no transients"):
        cutting.cuts_at(flip, "transients", (4, 4))


@pytest.mark.parametrize("what", ["chords", "beats", "bars", "equal"])
def test_where_nothing_is_moved_it_is_the_print_bit_for_bit(made, what):
    document, _clips, _engine, audio = made
    assert np.array_equal(sound(made, cut(flip_of(document), what, 7)), audio)


def test_a_piece_plays_where_it_is_put_and_the_gap_is_silent(made):
    document, _clips, _engine, audio = made
    flip = cut(flip_of(document), "beats")
    moved = ordering.ordered(flip, "a . . c")
    out = sound(made, moved)
    beat = audio.shape[1] / 8
    spans = [slice(round(i * beat) + 900, round((i + 1) * beat) - 900) for i in range(8)]
    assert np.abs(out[:, spans[0]] - audio[:, spans[0]]).max() < 1e-6
    assert np.abs(out[:, spans[3]] - audio[:, spans[2]]).max() < 1e-6
    for silent in (2, 4, 5, 6, 7):
        assert np.abs(out[:, spans[silent]]).max() < 1e-7


def test_backward_is_the_samples_in_reverse(made):
    document, _clips, _engine, audio = made
    flip = cut(flip_of(document), "bars")
    out = sound(made, flipping.swap_backward(flip, 0))
    bar = audio.shape[1] // 2
    inner = slice(1000, bar - 1000)
    assert np.abs(out[:, inner] - audio[:, :bar][:, ::-1][:, inner]).max() < 1e-6
    whole = sound(made, ordering.backward(cut(flip_of(document), "equal", 1)))
    assert np.abs(whole[:, 1000:-1000] - audio[:, ::-1][:, 1000:-1000]).max() < 1e-6


def test_backward_in_order_keeps_each_chords_notes_where_they_were(made):
    document, _clips, _engine, audio = made
    for what in ("chords", "beats"):
        out = sound(made, ordering.backward_in_order(cut(flip_of(document), what)))
        half = audio.shape[1] // 2
        for span in (slice(900, half - 900), slice(half + 900, -900)):
            part = audio[:, span]
            assert np.corrcoef(np.abs(np.fft.rfft(part[0])), np.abs(np.fft.rfft(out[0, span])))[
                0, 1] > 0.99  # fmt: skip
            assert np.abs(out[:, span] - part[:, ::-1]).max() < 1e-6
    twice = ordering.backward_in_order(ordering.backward_in_order(cut(flip_of(document), "beats")))
    assert twice == cut(flip_of(document), "beats")


def test_some_of_it_may_be_turned_alone(made):
    flip = cut(flip_of(made[0]), "beats")
    turned = ordering.backward_in_order(flip, 0, BAR)
    assert [p.backward for p in turned.places] == [True] * 4 + [False] * 4


def test_a_shift_holds_the_length_or_goes_as_tape(made):
    document, clips, _engine, _audio = made
    t = np.arange(44_100 * 2) / 44_100
    tone = np.stack([0.3 * np.sin(2 * np.pi * 441 * t)] * 2).astype(np.float32)
    flip = flip_of(document)
    frames = document.loop.frames
    tone = np.pad(tone, ((0, 0), (0, frames - tone.shape[1]))) if tone.shape[1] < frames else (
        tone[:, :frames])  # fmt: skip
    of = replace(flip.of, clip=clips.record(tone, 44_100))
    flip = cut(replace(flip, of=of), "beats")

    def hz(tape):
        shifted = flipping.set_place(flip, 1, semitones=12.0, tape=tape)
        beat = frames // 8
        part = sound(made, shifted)[0, beat + 600 : beat + beat // 2 - 600]
        size = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))
        return np.argmax(size) * 44_100 / (1 << 18), shifted

    for tape in (False, True):
        assert hz(tape)[0] == pytest.approx(882, rel=0.004)
    beat = frames // 8
    tape_out, hold_out = (sound(made, hz(tape)[1])[0] for tape in (True, False))
    late = slice(beat + beat * 6 // 10, 2 * beat - 900)
    assert not np.abs(tape_out[late]).max() > 1e-3, "an octave up on tape lasts half as long"
    assert np.abs(hold_out[late]).max() > 0.1


def test_a_stutter_strikes_the_start_and_steps_in_level(made):
    document, _clips, _engine, audio = made
    flip = flipping.set_place(cut(flip_of(document), "bars"), 0, times=4, level_step_db=-6.0)
    out = sound(made, flip)
    quarter = audio.shape[1] / 8
    first = audio[:, 900 : round(quarter) - 900]
    for i in range(4):
        start = round(i * quarter) + 900
        part = out[:, start : start + first.shape[1]]
        assert np.abs(part - first * np.float32(10 ** (-6 * i / 20))).max() < 2e-3


def test_level_pan_and_mute_act_on_one_piece(made):
    document, _clips, _engine, audio = made
    flip = cut(flip_of(document), "bars")
    half = audio.shape[1] // 2
    inner = slice(1000, half - 1000)
    out = sound(made, flipping.set_place(flip, 0, level_db=-6.0, pan=-1.0))
    assert np.allclose(out[0, inner], audio[0, inner] * 10 ** (-6 / 20), atol=1e-6)
    assert np.abs(out[1, inner]).max() < 1e-7
    assert np.abs(out[:, half + 1000 :] - audio[:, half + 1000 :]).max() < 1e-6
    assert np.abs(sound(made, flipping.swap_mute(flip, 0))[:, inner]).max() < 1e-7


def toned(made, hz=441.0):
    """The flip with a tone in the print's place, cut at beats; and the frames of a beat."""
    document, clips, _engine, _audio = made
    frames = document.loop.frames
    t = np.arange(frames) / 44_100
    tone = np.stack([0.3 * np.sin(2 * np.pi * hz * t)] * 2).astype(np.float32)
    flip = flip_of(document)
    of = replace(flip.of, clip=clips.record(tone, 44_100))
    return cut(replace(flip, of=of), "beats"), frames // 8


def test_slow_lasts_twice_as_long_at_its_pitch(made):
    flip, beat = toned(made)
    slow = flipping.slow(flip, 1)
    place = slow.places[1]
    assert (place.from_tick, place.from_ticks, place.length_ticks) == (960, 480, 960)
    part = sound(made, slow)[0, beat + 1500 : 2 * beat - 1500]
    size = np.abs(np.fft.rfft(part * np.hanning(len(part)), 1 << 18))
    assert np.argmax(size) * 44_100 / (1 << 18) == pytest.approx(441, rel=0.004)
    level = np.sqrt(np.mean(part.reshape(-1)[: len(part) // 8 * 8].reshape(8, -1) ** 2, axis=1))
    assert level.min() > 0.7 * level.max(), "it fills its place"
    up = sound(made, flipping.set_place(slow, 1, semitones=12.0))[0, beat + 1500 : 2 * beat - 1500]
    size = np.abs(np.fft.rfft(up * np.hanning(len(up)), 1 << 18))
    assert np.argmax(size) * 44_100 / (1 << 18) == pytest.approx(882, rel=0.004)
    turned = flipping.slow(flipping.swap_backward(flip, 1), 1).places[1]
    assert turned.from_tick == 1440, "backward, its end comes first"
    with pytest.raises(CloudriftError, match="too short"):
        short = cutting.cut(flip, cutting.cuts_at(flip, "equal", (4, 4), 512))
        flipping.slow(short, 0)


def test_a_piece_dies_away_by_60_db_over_its_decay(made):
    flip, beat = toned(made)
    out = sound(made, flipping.set_place(flip, 1, decay_ms=400.0))[0]
    at = [beat + int(s * 44_100) for s in (0.02, 0.22)]
    levels = [np.abs(out[a : a + 400]).max() for a in at]
    assert 20 * np.log10(levels[1] / levels[0]) == pytest.approx(-30, abs=1.5)


def test_a_piece_is_copied_to_the_end(eight):
    assert ordering.order_text(flipping.copy_on(eight, 4)) == "a b c d e e e e"
    with pytest.raises(CloudriftError, match="no room after"):
        flipping.copy_on(eight, 7)


def test_a_fresh_bass_follows_what_is_heard_and_the_lows_go(eight):
    turned = replace(ordering.backward(eight), of=replace(eight.of, semitones=-3.0))
    loop = in_loop(turned)
    made = flips.put_bass(loop, "l9")
    roots = [c.root for c in make_small_loop().chords]
    bass = made.layers[-1]
    assert bass.role == "bass"
    assert [(n.start_tick, n.length_ticks, n.pitch % 12) for n in bass.own] == [
        (0, 3840, (roots[1] - 3) % 12), (3840, 3840, (roots[0] - 3) % 12)]  # fmt: skip
    assert all(28 <= n.pitch < 40 for n in bass.own)
    low = made.layer("l9").line[0]
    assert low.kind == "cuts" and low.full.number("low_cut_hz") == 160
    with pytest.raises(CloudriftError, match="are not known"):
        flips.put_bass(in_loop(replace(eight, chords=())), "l9")


def roughest(audio):
    """The largest bend of the wave, round the loop: a click is one."""
    around = np.concatenate([audio, audio[:, :2]], axis=1)
    return float(np.abs(np.diff(around, 2, axis=1)).max())


@settings(max_examples=25, deadline=None)
@given(variation=st.integers(0, 9999), amount=st.integers(10, 100), backward=st.integers(0, 100),
       repeats=st.integers(0, 100), silence=st.integers(0, 40), order=st.booleans(),
       what=st.sampled_from(["chords", "beats", "equal"]))  # fmt: skip
def test_any_scatter_tiles_goes_round_and_does_not_click(
    made, variation, amount, backward, repeats, silence, order, what
):
    document, _clips, _engine, audio = made
    flip = cut(flip_of(document), what, 32)
    rules = Rules(amount=amount, backward=backward, repeats=repeats, silence=silence, order=order,
                  downbeats=False, variation=variation)  # fmt: skip
    out = scattered(flip, rules, BAR)
    assert [(p.at_tick, p.length_ticks) for p in out.places] == [
        (p.at_tick, p.length_ticks) for p in flip.places]  # fmt: skip
    assert scattered(flip, rules, BAR) == out
    # Where two pieces cross over, both are heard.
    assert roughest(sound(made, out)) < 2 * roughest(audio)
    if order:
        for place in out.places:
            here = flip.chord_at(flip.cuts[flip.piece_at(place.at_tick)])
            assert flip.chord_at(place.from_tick).voices == here.voices


def test_each_rule_of_a_scatter_does_what_it_says():
    flip = cut(flip_of(with_print(Document(loop=make_small_loop()), make_small_loop(), "0" * 24,
                                  FACTS, (), 0.0)), "equal", 64)  # fmt: skip

    def share(of, **rules):
        count = [
            of(
                flip,
                scattered(
                    flip,
                    Rules(
                        **{
                            "downbeats": False,
                            "amount": 100,
                            "variation": d,
                            "backward": 0,
                            "repeats": 0,
                        }
                        | rules
                    ),
                    BAR,
                ),
            )
            for d in range(20)
        ]
        return float(np.mean(count))

    def changed(before, after):
        return np.mean([a != b for a, b in zip(before.places, after.places, strict=True)])

    assert share(changed, amount=0) == 0
    assert share(changed, amount=50) == pytest.approx(0.5, abs=0.1)

    def of(name):
        return lambda _before, after: np.mean([bool(getattr(p, name)) for p in after.places])

    assert share(of("backward"), backward=30) == pytest.approx(0.3, abs=0.05)
    assert share(of("semitones"), octave=40) == pytest.approx(0.4, abs=0.05)
    assert share(of("mute"), silence=20) == pytest.approx(0.2, abs=0.05)
    repeats = share(lambda _b, a: np.mean([p.times > 1 for p in a.places]), repeats=50)
    assert repeats == pytest.approx(0.5, abs=0.07)

    def near(_before, after):
        return np.mean([abs(p.from_tick - p.at_tick) <= 2 * p.length_ticks for p in after.places])

    assert share(near, familiar=100) > share(near, familiar=0) + 0.5
    kept = scattered(flip, Rules(amount=100, downbeats=True, variation=3), BAR)
    for before, after in zip(flip.places, kept.places, strict=True):
        assert before.at_tick % BAR or before == after


# --- edits ----------------------------------------------------------------------------------------

FACTS = recordings.Facts(name="Print 1", kind="loop", length_s=3.4, tempo=140.0)


@pytest.fixture
def eight():
    """A flip of eight pieces, a to h, without a sound of its own."""
    loop = make_small_loop()
    document = with_print(Document(loop=loop), loop, "0" * 24, FACTS, (), 0.0)
    return cut(flip_of(document), "beats")


def tiles(flip):
    return all(a.end_tick <= b.at_tick for a, b in pairwise(flip.places))


@pytest.mark.parametrize(("edit", "order"), [
    (lambda f: f, "a b c d e f g h"),
    (lambda f: flipping.swap(f, 0, 3), "d b c a e f g h"),
    (lambda f: flipping.repeat(f, 1), "a b b d e f g h"),
    (lambda f: flipping.stutter(f, 2, 4), "a b cx4 d e f g h"),
    (lambda f: flipping.take_out(f, 2), "a b d e f g h"),
    (lambda f: flipping.put_piece(f, 7, 0), "h b c d e f g h"),
    (lambda f: flipping.put_at(f, 0, 7 * 960), "a b c d e f g a"),
    (lambda f: flipping.move(f, 0, 2 * 960), "b a d e f g h"),
    (lambda f: flipping.halve(f, 0), "a a b c d e f g h"),
    (ordering.backward, "h- g- f- e- d- c- b- a-"),
    (ordering.backward_in_order, "d- c- b- a- h- g- f- e-"),
    (lambda f: cutting.reset(ordering.backward(f)), "a b c d e f g h"),
    (lambda f: ordering.ordered(f, "a c- b b hx3 . a"), "a c- b b hx3 a"),
])  # fmt: skip
def test_an_edit_lays_pieces_as_it_says(eight, edit, order):
    after = edit(eight)
    assert ordering.order_text(after) == order
    assert tiles(after)
    after.check("here")


def test_a_piece_that_is_put_in_a_place_plays_as_it_is_at_the_level_of_that(eight):
    bent = flipping.set_place(eight, 2, fills=True, tape=True, semitones=3.0, times=2,
                              level_step_db=-3.0, step_st=1.0, decay_ms=200.0, backward=True,
                              fade_in_ms=90.0, mute=True, level_db=-4.0, pan=0.3)  # fmt: skip
    put = flipping.put_piece(bent, 7, 2).places[2]
    assert (put.level_db, put.pan) == (-4.0, 0.3)
    assert replace(put, level_db=0.0, pan=0.0).plain
    assert (put.at_tick, put.from_tick) == (2 * 960, 7 * 960)


def test_halves_play_on_where_the_other_ends(eight):
    first, second = flipping.halve(eight, 0).places[:2]
    assert (first.from_tick, first.from_ticks, second.from_tick) == (0, 480, 480)
    turned = flipping.halve(flipping.swap_backward(eight, 0), 0)
    assert [p.from_tick for p in turned.places[:2]] == [480, 0]
    with pytest.raises(CloudriftError, match="too short"):
        f = eight
        for _ in range(8):
            f = flipping.halve(f, 0)


def test_what_is_laid_over_others_cuts_them(eight):
    over = flipping.lay(
        eight, SlicePlacement(at_tick=480, length_ticks=960, from_tick=0, from_ticks=960)
    )
    assert [(p.at_tick, p.length_ticks, p.from_tick) for p in over.places[:3]] == [
        (0, 480, 0), (480, 960, 0), (1440, 480, 1440)]  # fmt: skip
    new = SlicePlacement(at_tick=480, length_ticks=960, from_tick=0, from_ticks=960)
    turned = flipping.lay(flipping.swap_backward(eight, 0), new)
    assert turned.places[0].from_tick == 480, "of what plays backward, the end plays first"
    assert tiles(over) and tiles(turned)


@pytest.mark.parametrize("words", ["z", "a q", "a--", "ax", "1"])
def test_an_order_that_names_no_piece_is_refused(eight, words):
    with pytest.raises(CloudriftError, match="a to h"):
        ordering.ordered(eight, words)


def test_it_is_cut_anew_only_where_nothing_was_moved(eight):
    assert len(cut(eight, "equal", 3).places) == 3
    moved = ordering.backward(eight)
    again = cut(moved, "equal", 3)
    assert again.places == moved.places and len(again.cuts) == 3
    with pytest.raises(CloudriftError, match="slices are not possible"):
        cutting.cuts_at(eight, "equal", (4, 4), 0)
    with pytest.raises(CloudriftError, match="slice it at beats"):
        cutting.cuts_at(replace(eight, chords=()), "chords", (4, 4))
    with pytest.raises(CloudriftError, match="known are"):
        cutting.cuts_at(eight, "words", (4, 4))
    assert cutting.tidied([5, 5, 900, 7675], 7680) == (0, 900)
    assert cutting.cuts_at(eight, "equal", (4, 4), 7) == tuple(
        round(7680 * i / 7) for i in range(7)
    )
    only = replace(eight, chords=(replace(eight.chords[0], start_tick=0),))
    assert cutting.cuts_at(only, "chords", (4, 4)) == (0,)
    swapped = flipping.swap(eight, 0, 3)  # each still as it was recorded, elsewhere
    assert cut(swapped, "equal", 3).places == swapped.places


def test_a_piece_that_reaches_over_a_chords_end_takes_the_next_chord_along(eight):
    thirds = cut(eight, "equal", 3)
    assert len(thirds.chords) == 2 and thirds.chords[1].start_tick == 3840
    assert ordering.order_text(ordering.backward_in_order(thirds)) == "c- b- a-"


def test_what_is_heard_of_a_long_flip_ends_with_the_loop(eight):
    heard = ordering.heard_in(eight, 7000)
    assert heard.places[-1].end_tick == 7000 and len(heard.places) == 8
    again = ordering.to_length(eight, 7680 + 500)
    assert again.places[-1].end_tick == 7680 + 500 and again.places[-1].from_tick == 0


@pytest.mark.parametrize("wrong", [
    {"cuts": (5,)}, {"cuts": (0, 960, 961)}, {"cuts": ()}, {"length_ticks": 0},
    {"places": (SlicePlacement(at_tick=0, length_ticks=960, from_tick=7000, from_ticks=960),)},
    {"places": (SlicePlacement(at_tick=0, length_ticks=960, from_tick=0, from_ticks=960),
                SlicePlacement(at_tick=900, length_ticks=960, from_tick=0, from_ticks=960))},
])  # fmt: skip
def test_a_flip_that_can_not_be_is_refused(eight, wrong):
    with pytest.raises(CloudriftError):
        replace(eight, **wrong).check("layer l9")


@pytest.mark.parametrize("wrong", [
    {"times": 0}, {"pan": 1.5}, {"semitones": 25.0}, {"level_db": float("nan")},
    {"length_ticks": SHORTEST_TICKS - 1}, {"at_tick": -1}, {"fade_in_ms": 9999.0},
])  # fmt: skip
def test_a_place_that_can_not_be_is_refused(wrong):
    with pytest.raises(CloudriftError):
        replace(SlicePlacement(at_tick=0, length_ticks=960, from_tick=0, from_ticks=960), **wrong)


def in_loop(flip):
    loop = make_small_loop()
    layer = replace(loop.layers[0], id="l9", name="Flip", source=flip)
    return replace(loop, layers=(*loop.layers, layer))


def test_a_flip_goes_along_with_key_length_and_metre(eight):
    facts = replace(eight.of.facts, key=make_small_loop().key)
    loop = in_loop(replace(eight, of=replace(eight.of, facts=facts)))
    up = loop_edits.set_key(loop, loop.key.shifted(2), shift=2)
    assert up.layer("l9").flipped.of.semitones == 2
    assert up.layer("l9").flipped.places == eight.places
    four = loop_edits.set_bars(loop, 4)
    assert len(four.layer("l9").flipped.places) == 16
    one = loop_edits.set_bars(loop, 1)  # it stays whole, and half of it is heard
    assert one.layer("l9").flipped == loop.layer("l9").flipped
    assert ordering.order_text(ordering.heard_in(eight, one.ticks)) == "a b c d"
    three = metre.set_metre(loop, (3, 4)).layer("l9").flipped
    assert [p.at_tick for p in three.places] == [0, 960, 1920, 2880, 3840, 4800]
    assert tiles(three)


def test_a_layer_says_what_it_is(eight):
    loop = in_loop(flipping.swap_backward(eight, 2))
    layer = loop.layer("l9")
    assert layer.source.text == "8 pieces, 1 reversed"
    assert layer.recorded == eight.of and layer.source.recordings == (eight.of,)
    assert not layer.source.is_silent and layer.own is None
    with pytest.raises(CloudriftError, match="is not a flip"):
        flips.flip_in(loop, "l1")
    shifted = recordings.set_recording(loop, "l9", semitones=-3.0)
    assert shifted.layer("l9").flipped.of.semitones == -3
    assert shifted.layer("l9").flipped.places == layer.flipped.places


def test_letters_go_on_behind_z():
    assert [letters_of(n) for n in (0, 25, 26, 51, 52, 701, 702)] == [
        "a", "z", "aa", "az", "ba", "zz", "aaa"]  # fmt: skip
    assert isinstance(Flipped, type)


def test_heard_alone_the_loop_says_what_is_heard(eight):
    of = replace(eight.of, semitones=-3.0, facts=replace(eight.of.facts, key=make_small_loop().key))
    loop = in_loop(replace(ordering.backward(eight), of=of))
    alone_ = flips.soloed(loop, "l9")
    assert [x.id for x in alone_.heard()] == ["l9"] and alone_.line == ()
    assert alone_.key == loop.key.shifted(-3)
    roots = [c.root for c in loop.chords]
    assert [c.root for c in alone_.chords] == [(roots[1] - 3) % 12, (roots[0] - 3) % 12]
    unknown = replace(ordering.backward(eight), of=replace(of, facts=eight.of.facts))
    assert flips.soloed(in_loop(unknown), "l9").key == loop.key


def test_how_a_chord_was_played_is_in_the_print_and_not_told_of_its_chords_again():
    loop = make_small_loop()
    first = loop.chords[0]
    played = replace(first, muted=first.voices[:1], late_ticks=40, gate=0.5)
    loop = replace(loop, chords=(played, *loop.chords[1:]))
    flip = flip_of(with_print(Document(loop=loop), loop, "0" * 24, FACTS, (), 0.0))
    assert flip.chords[0] == replace(first, voices=first.voices[1:])  # a muted voice is not heard
    shifted = in_loop(replace(flip, of=replace(flip.of, semitones=2.0)))
    heard = chords_heard(flips.heard_with(replace(shifted, chords=()), "l9"))
    assert heard[0].voices == tuple(v + 2 for v in first.voices[1:])


def test_some_frames_of_a_flip_are_those_of_the_whole_and_cost_their_own_pieces(made, monkeypatch):
    from cloudrift.render.plan import slicing as cutting

    document, clips, _engine, _audio = made
    flip = cut(flip_of(document), "beats")
    flip = flipping.set_place(flip, 2, semitones=12.0)
    flip = flipping.set_place(flip, 7, semitones=-12.0)
    cuts = cutting.cuts_of(flip, _context_of(document), 2 * BAR, (4, 4))
    whole = cutting.cut_up(cuts, clips)
    n = whole.shape[1]
    beat = n // 8
    for start, count in ((0, n), (5 * beat, 2 * beat), (n - 99, 200), (2 * beat + 50, 10)):
        there = (start + np.arange(count)) % n
        part = cutting.cut_up(cuts, clips, start, count)
        assert np.array_equal(part[:, there], whole[:, there])
    asked = []
    monkeypatch.setattr(cutting, "pitch_shifted",
                        lambda audio, *_: asked.append(audio.shape[1]) or audio)  # fmt: skip
    other = flipping.set_all(flip, decay_ms=900.0)  # nothing of that has been made before
    cuts = cutting.cuts_of(other, _context_of(document), 2 * BAR, (4, 4))
    cutting.cut_up(cuts, clips, 4 * beat, beat)
    assert asked == []
    cutting.cut_up(cuts, clips, beat, int(1.5 * beat))
    assert len(asked) == 1


def _context_of(document):
    loop = document.loop
    return layer_context(loop, loop.layers[-1])


@pytest.mark.parametrize(("off", "wanted"), [
    ((0, 990, 1900, 2930), (0, 960, 1920, 2880)),
    ((0, 100, 1930, 2880), (0, 100, 1920, 2880)),  # two near one beat: the second goes along
    ((0, 940, 1000, 7660), (0, 960, 1020, 7200)),
])  # fmt: skip
def test_what_was_struck_off_the_beat_comes_onto_it_and_meets_again(eight, off, wanted):
    flip = cutting.reset(replace(eight, cuts=off))
    on = ordering.on_grid(flip, 480)
    assert tuple(place.at_tick for place in on.places) == wanted
    assert all(a.end_tick == b.at_tick for a, b in pairwise(on.places))
    assert on.places[-1].end_tick == flip.length_ticks
    assert [p.from_tick for p in on.places] == list(off)
    gap = ordering.on_grid(flipping.take_out(flip, 2), 480)
    assert gap.places[1].end_tick <= wanted[1] + flip.places[1].length_ticks
    assert ordering.on_grid(on, 480) == on
