"""Habits: what a card's moves do, measured on loops."""

from pathlib import Path

import pytest
from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip import flips
from cloudrift.loop.edits.flip.prints import facts_of_print, with_print
from cloudrift.loop.model.document import Document
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.time import bar_ticks
from cloudrift.style.card import CardMove
from cloudrift.style.card_files import house_cards, read_card, write_card
from cloudrift.style.habits import HABITS, described, habit_of
from cloudrift.style.moves import ORDER, moves_of, with_print_laid
from cloudrift.style.sketch import sketch
from cloudrift.theory.movement import half_steps

BAR = 3840


@pytest.fixture
def loop():
    """Eight bars of keys, a pad, a pluck and a bass over eight chords."""
    return sketch(house_cards()["Marlow Quist"], variation=3)


def done(loop, does, **more):
    move = CardMove(does=does, **more)
    return habit_of(move).edit(loop, move)


def by_role(loop, role):
    return next(x for x in loop.layers if x.role == role)


# --- chords ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_half_steps_between_leaves_no_fewer_and_the_same_chords(name):
    more = 0
    for variation in range(1, 13):
        loop = sketch(house_cards()[name], variation=variation)
        after = done(loop, "half steps between")
        counts = [half_steps([c.voices for c in x.chords]) for x in (loop, after)]
        assert counts[1] >= counts[0]
        more += counts[1] - counts[0]
        assert after.chords[0] == loop.chords[0]
        for one, other in zip(loop.chords, after.chords, strict=True):
            assert {v % 12 for v in one.voices} == {v % 12 for v in other.voices}
    assert more > 0 or name in ("Bram Okada", "Sunniva Roe")  # theirs are as near as they can be


def test_every_second_chord_comes_late_by_what_is_asked(loop):
    after = done(loop, "every other chord late", amount=1)
    assert [c.late_ticks for c in after.chords] == [0, 960] * (len(loop.chords) // 2)
    usual = done(loop, "every other chord late")
    assert usual.chords[1].late_ticks == 480


def test_a_row_begins_away_from_home_and_keeps_its_chords(loop):
    after = done(loop, "start away from the tonic")
    assert [c.root for c in after.chords] == [c.root for c in (*loop.chords[1:], loop.chords[0])]


def test_passing_notes_lead_from_the_last_chord_into_the_first(loop):
    after = done(loop, "passing notes into the first")
    assert len(after.chords) == len(loop.chords) + 1
    assert after.chords[-1].length_ticks == 960 and after.chords[-1].end_tick == loop.ticks


def test_chords_are_struck_again(loop):
    after = done(loop, "repeated chords", amount=2)
    assert all(c.strikes == tuple(range(0, c.length_ticks, 1920)) for c in after.chords)


def test_the_bass_is_held_under_all(loop):
    after = done(loop, "bass held under all")
    assert len({c.voices[0] for c in after.chords}) == 1


# --- layers ---------------------------------------------------------------------------------------


def test_top_notes_only_are_one_voice_of_that_role_alone(loop):
    after = done(loop, "top notes only", on="pluck")
    pluck = by_role(after, "pluck")
    onsets = [n.start_tick for n in notes_of(after, pluck)]
    assert len(onsets) == len(set(onsets))
    tops = {max(c.voices) % 12 for c in loop.chords}
    assert {n.pitch % 12 for n in notes_of(after, pluck)} <= tops
    assert by_role(after, "keys") == by_role(loop, "keys")


def test_a_bar_of_so_many_rests(loop):
    after = done(loop, "a bar rests", on="bass", amount=4)
    bars = {n.start_tick // BAR for n in notes_of(after, by_role(after, "bass"))}
    assert bars and not bars & {3, 7}


def test_a_twin_is_an_octave_up_softer_and_behind_the_first(loop):
    after = done(loop, "a twin an octave up", on="pad")
    pads = [x for x in after.layers if x.role == "pad"]
    assert len(pads) == 2 and pads[1].level_db == pads[0].level_db - 6
    one, two = ([n.pitch for n in notes_of(after, x)] for x in pads)
    assert two == [p + 12 for p in one]


@pytest.mark.parametrize(("does", "kind"), [("held", "held"), ("arpeggio", "arpeggio"),
                                            ("inner voices only", "inner")])  # fmt: skip
def test_lenses_are_put_on_a_role(loop, does, kind):
    assert by_role(done(loop, does, on="keys"), "keys").played.lens.kind == kind


@pytest.mark.parametrize(("does", "amount", "name", "value"), [
    ("rolled", 60, "roll_ms", 60), ("short", 40, "length", 0.4),
    ("loose in time", 9, "drift_ms", 9),
])  # fmt: skip
def test_touch_is_put_on_a_role_and_elsewhere_on_all_but_the_bass(loop, does, amount, name, value):
    on_one = done(loop, does, on="keys", amount=amount)
    assert getattr(by_role(on_one, "keys").played.touch, name) == pytest.approx(value)
    assert by_role(on_one, "pad") == by_role(loop, "pad")
    on_all = done(loop, does, amount=amount)
    touched = {x.role for x in on_all.layers
               if getattr(x.played.touch, name) == pytest.approx(value)}  # fmt: skip
    assert touched == {"keys", "pad", "pluck"}


def test_an_answer_plays_behind_the_middle_of_each_chord(loop):
    after = done(loop, "answers the chords", on="pluck")
    for note in notes_of(after, by_role(after, "pluck")):
        chord = next(c for c in after.chords if c.start_tick <= note.start_tick < c.end_tick)
        assert note.start_tick >= chord.start_tick + chord.length_ticks // 2


# --- prints ---------------------------------------------------------------------------------------


def a_print(loop):
    """A document with a print of a loop, whose sound is not read."""
    facts = facts_of_print(loop, "Print 1", round(loop.ticks / 960 * 60 / loop.tempo * 44100), -20)
    document = with_print(Document(loop=loop), loop, "0" * 24, facts, (), 0.0)
    return document.loop, document.loop.layers[-1].id


def laid(loop, does, **more):
    move = CardMove(does=does, **more)
    now, flip_id = a_print(loop)
    habit = habit_of(move)
    return with_print_laid(now, flip_id, lambda flip, bar: habit.lay(flip, move, bar)), flip_id


def test_a_print_plays_backward_in_order_and_lower_instead_of_the_layers(loop):
    after, flip_id = laid(loop, "print, reversed in order", amount=-3)
    flip = flips.flip_in(after, flip_id)
    assert flip.of.semitones == -3 and all(p.backward for p in flip.places)
    assert [p.at_tick for p in flip.places] == [c.start_tick for c in loop.chords]
    assert [x.id for x in after.heard()] == [flip_id] and after.line == ()


def test_a_scattered_print_keeps_its_downbeats_and_is_cut_in_beats(loop):
    after, flip_id = laid(loop, "print, scattered", amount=0)
    flip = flips.flip_in(after, flip_id)
    assert len(flip.places) >= 4 * loop.bars
    bar = bar_ticks(loop.metre)
    assert all(p.from_tick == p.at_tick for p in flip.places if p.at_tick % bar == 0)
    assert any(p.from_tick != p.at_tick for p in flip.places)


def test_a_print_goes_lower_and_nothing_in_it_moves(loop):
    after, flip_id = laid(loop, "print, lower")
    flip = flips.flip_in(after, flip_id)
    assert flip.of.semitones == HABITS["print, lower"].usual == -3
    assert all(p.from_tick == p.at_tick and not p.backward for p in flip.places)


# --- cards ----------------------------------------------------------------------------------------


@pytest.mark.parametrize(("move", "said"), [
    ({"does": "top note only"}, "did you mean 'top notes only'"),
    ({"does": "half steps between", "on": "keys"}, "leave out `on`"),
    ({"does": "held", "amount": 3}, "takes no amount"),
    ({"does": "rolled", "amount": 900}, "between 0 and 200"),
])  # fmt: skip
def test_a_card_says_what_is_wrong_with_a_move(move, said):
    with pytest.raises(CloudriftError, match=said):
        habit_of(CardMove(**move))


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_moves_are_written_read_and_ordered_as_a_composer_works(name):
    card = house_cards()[name]
    assert card.moves and read_card(write_card(card), "x").moves == card.moves
    groups = [move.group for move in moves_of(card)]
    assert groups == sorted(groups, key=ORDER.index)
    roles = {x.role for d in range(1, 9) for x in sketch(card, variation=d).layers}
    assert {move.on for move in card.moves} <= {"", *roles}


def test_where_there_is_nothing_to_do_it_to_that_is_said(loop):
    with pytest.raises(CloudriftError, match="no bell follows the chords"):
        done(loop, "held", on="bell")
    with pytest.raises(CloudriftError, match="no chords yet"):
        done(replace(loop, chords=()), "nearest voicings")


def test_the_documentation_has_every_habit():
    text = (Path(__file__).parent.parent / "docs" / "style-card.md").read_text()
    for name, takes, group in described():
        assert f"| `{name}` | {takes or '—'} | {group} |" in text
