"""Naming, writing, moving and building chords: numbers and names only."""

import re
from itertools import combinations, pairwise, product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.ground import CloudriftError
from cloudrift.theory import Key, parse_chord, parse_key, parse_progression, read_chord
from cloudrift.theory.build import (
    EXTENSIONS,
    SPACINGS,
    THIRDS,
    arranged,
    build_of,
    extensions_of,
    rebuilt,
    rub_pitch,
    third_of,
    voices_of,
    with_extension,
    with_third,
)
from cloudrift.theory.chord import chord_tones, stacked
from cloudrift.theory.fit import (
    HeardChord,
    guess_keys,
    other_fits,
    parallel_of,
    plain_key,
    relative_of,
    weights_of,
)
from cloudrift.theory.movement import (
    colour,
    crossings,
    half_steps,
    moves,
    pair_voices,
    total_movement,
    voice_through,
)
from cloudrift.theory.pitch import FLAT_NAMES, NATURALS, SHARP_NAMES, accidentals, name_to_pc
from cloudrift.theory.voicing import nearest_voicing
from tests.chord_names import rows

FS_MINOR = Key("F#", "minor")
pitches = st.lists(st.integers(40, 80), min_size=1, max_size=6, unique=True).map(
    lambda v: tuple(sorted(v))
)


def midi(name):
    letter, octave = re.fullmatch(r"([A-G][#b]*)(\d)", name).groups()
    return 12 * (int(octave) + 1) + NATURALS[letter[0]] + accidentals(letter)


# --- names --------------------------------------------------------------------------------------


@pytest.mark.parametrize(("key", "notes", "name", "others"), rows())
def test_voicings_are_called_by_their_names(key, notes, name, others):
    reading = read_chord(tuple(midi(n) for n in notes.split()), parse_key(key))
    assert reading.name == name
    assert set(others) <= set(reading.alternatives)


def test_the_table_of_names_is_large_and_meets_every_root():
    table = rows()
    assert len(table) >= 150
    roots = {midi(re.match(r"[A-G][#b]?", name)[0] + "4") % 12 for _, _, name, _ in table}
    assert roots == set(range(12))


SHAPES = {
    "": (0, 4, 7), "m": (0, 3, 7), "°": (0, 3, 6), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10), "m7b5": (0, 3, 6, 10), "m(maj7)": (0, 3, 7, 11), "9": (0, 4, 7, 10, 14),
    "m9": (0, 3, 7, 10, 14), "maj9": (0, 4, 7, 11, 14), "6": (0, 4, 7, 9), "m6": (0, 3, 7, 9),
    "6/9": (0, 4, 7, 9, 14), "add9": (0, 4, 7, 14), "m(add9)": (0, 3, 7, 14), "sus4": (0, 5, 7),
    "sus2": (0, 2, 7), "7sus4": (0, 5, 7, 10), "m11": (0, 3, 7, 10, 14, 17), "5": (0, 7),
    "13": (0, 4, 7, 10, 14, 21), "7b9": (0, 4, 7, 10, 13), "7#9": (0, 4, 7, 10, 15),
    "maj7#11": (0, 4, 7, 11, 18), "7(no 5)": (0, 4, 10), "m7(no 5)": (0, 3, 10),
}  # fmt: skip


@pytest.mark.parametrize("suffix", SHAPES)
@pytest.mark.parametrize("root", range(12))
def test_every_shape_is_named_on_every_root(suffix, root):
    key = plain_key(root, "minor")
    reading = read_chord(tuple(36 + root + i for i in SHAPES[suffix]), key, root_hint=root)
    assert (reading.root, reading.name) == (root, key.tonic + suffix)


@given(
    st.sets(st.integers(0, 11), min_size=1, max_size=7),
    st.integers(0, 6),
    st.sampled_from([Key("C", "major"), FS_MINOR, Key("Eb", "minor")]),
)
def test_whatever_a_chord_is_called_can_be_written_again(pcs, at, key):
    bass = sorted(pcs)[at % len(pcs)]
    reading = read_chord((36 + bass, *(48 + pc for pc in pcs)), key)
    for name in (reading.name, *reading.alternatives):
        chord = parse_chord(name)
        tones = set(chord.tones) | ({chord.bass} if chord.bass is not None else set())
        # A thirteenth is called that with or without its eleventh; all else is exact.
        assert tones == pcs or ("13" in name and tones < pcs and len(pcs - tones) == 1)


def test_the_hint_decides_and_the_other_reading_is_offered():
    voices = (57, 60, 64, 67)
    assert read_chord(voices, FS_MINOR, root_hint=9).name == "Am7"
    as_sixth = read_chord(voices, FS_MINOR, root_hint=0)
    assert as_sixth.name == "C6/A"
    assert "Am7" in as_sixth.alternatives
    assert read_chord((60, 64, 68), Key("C", "major")).alternatives == ("E+/C", "Ab+/C")


# --- writing ------------------------------------------------------------------------------------


def test_a_row_of_degrees_numbers_and_names_is_read():
    key = FS_MINOR
    chords = parse_progression("i VI, iv7 - V7  4 Dm9", key)
    assert [c.tones for c in chords] == [
        (6, 9, 1), (2, 6, 9), (11, 2, 6, 9), (1, 5, 8, 11), (11, 2, 6), (2, 5, 9, 0, 4),
    ]  # fmt: skip
    assert all(c.bars is None for c in chords)
    assert parse_progression("V7/iv", key)[0].tones == (6, 10, 1, 4)
    assert parse_progression("C/E", key)[0].bass == 4


def test_bar_lines_share_a_bar_and_a_percent_sign_repeats():
    chords = parse_progression("Dm9 G13 | Cmaj7 | %", Key("C", "major"))
    assert [float(c.bars) for c in chords] == [0.5, 0.5, 1, 1]
    assert chords[3].tones == chords[2].tones


@pytest.mark.parametrize(
    ("text", "says"),
    [("i xx VI yy", "'xx', 'yy' are no chord"), ("", "no chords there"),
     ("i | | V", "bar between two bar lines is empty"), ("i " * 129, "more than a loop can have"),
     ("%", "'%' is no chord")],
)  # fmt: skip
def test_a_wrong_row_names_every_wrong_word(text, says):
    with pytest.raises(CloudriftError, match=says):
        parse_progression(text, FS_MINOR)


@given(
    st.sampled_from(["i", "iv7", "V7", "bII", "ii°", "v9", "VI7", "bVII", "Isus4", "V7/iv"]),
    st.integers(0, 11),
    st.sampled_from(["minor", "dorian", "phrygian", "harmonic minor"]),
)
def test_degrees_survive_all_twelve_keys(token, shift, mode):
    home = plain_key(0, mode)
    there = home.shifted(shift)
    low = parse_progression(token, home)[0].tones
    high = parse_progression(token, there)[0].tones
    assert high == tuple((pc + shift) % 12 for pc in low)

    def degree(tones, key):
        return read_chord(tuple(48 + (pc - 48) % 12 for pc in tones), key, root_hint=tones[0])

    assert degree(low, home).degree == degree(high, there).degree


# --- movement -----------------------------------------------------------------------------------


@given(pitches.filter(lambda v: len(v) <= 4),
       st.lists(st.integers(0, 11), min_size=1, max_size=4).filter(
           lambda pcs: max(map(pcs.count, pcs)) < 3))  # fmt: skip
def test_no_voicing_moves_less_than_the_nearest(before, pcs):
    chosen = nearest_voicing(before, tuple(pcs), low=28, high=92)
    assert sorted(v % 12 for v in chosen) == sorted(pcs)
    assert len(set(chosen)) == len(chosen)
    near = range(max(28, before[0] - 18), min(92, before[-1] + 18) + 1)
    places = [[p for p in near if p % 12 == pc] for pc in pcs]
    least = min(
        total_movement(before, tuple(sorted(set(v))))
        for v in product(*places)
        if len(set(v)) == len(pcs)
    )
    assert total_movement(before, chosen) == least


@given(pitches, pitches)
def test_total_movement_is_what_the_best_pairing_costs(before, after):
    def cost(chosen):
        return sum(abs(a - b) for a, b in chosen)

    short, long = (before, after) if len(before) <= len(after) else (after, before)
    orders = [zip(short, picked, strict=True) for picked in combinations(long, len(short))]
    paired = min(cost(o) for o in orders)
    if len(before) >= len(after):
        assert total_movement(before, after) == paired
    else:  # a voice that is left over counts as far as it lies from the nearest before
        assert total_movement(before, after) >= paired
    assert total_movement(before, before) == 0


def test_a_voice_that_stays_is_not_torn_from_its_note():
    before, after = (55, 60, 64), (60, 64, 67)
    pairs = pair_voices(before, after)
    assert moves(before, after).count("common") == 2
    assert crossings(before, after, pairs) == ((0, 1), (0, 2))
    assert half_steps([(60, 64), (61, 64)]) == 2  # there and, round the seam, back


def test_a_voice_is_followed_as_far_as_its_thread_goes():
    chords = [(50, 57, 62, 65), (48, 57, 60, 65), (57, 60), (55, 59, 62)]
    assert voice_through(chords, 1, 1) == {0: 1, 1: 1, 2: 0, 3: 0}
    assert 2 not in voice_through(chords, 0, 0)  # the bass ends where two voices are left


def test_the_colour_of_a_chord_is_said_plainly():
    key = FS_MINOR
    said = {
        (54, 57, 61): "rest", (50, 54, 57): "lift", (49, 53, 56, 59): "tension",
        (54, 61): "open", (43, 59, 62): "tension", (47, 54, 62): "open",
    }  # fmt: skip
    assert {v: colour(v, v[0] % 12, key) for v in said} == said


# --- build --------------------------------------------------------------------------------------


@given(st.integers(1, 7), st.integers(3, 5), st.sampled_from(SPACINGS), st.integers(0, 4),
       st.integers(52, 70), st.integers(0, 2), st.booleans())  # fmt: skip
def test_a_build_read_from_voices_makes_the_same_voices(
    degree, count, spacing, lowest, register, bass, top
):
    tones = chord_tones(FS_MINOR, degree, count=count)
    body = arranged(tones, tones[lowest % count], spacing, register)
    build = build_of(body, tones[0])
    assert voices_of(build) == body
    assert build.tones == tones
    voices = rebuilt(rebuilt(body, tones[0], bass=bass), tones[0], top_root=top)
    again = build_of(voices, tones[0])
    assert voices_of(again, body) == voices
    assert len(voices) in (count, count + 1, count + 2)


def test_spacings_are_what_their_names_say():
    tones = (11, 2, 6, 9)
    assert arranged(tones, 11, "close", 60) == (59, 62, 66, 69)[:0] + arranged(
        tones, 11, "close", 64
    )
    assert [b - a for a, b in zip((59, 62, 66), (62, 66, 69), strict=True)] == [3, 4, 3]
    open_ = arranged(tones, 11, "open", 64)
    assert max(b - a for a, b in pairwise(open_)) >= 7
    wide = arranged((0, 4, 7, 11, 2), 0, "close", 64)
    cluster = arranged((0, 4, 7, 11, 2), 0, "cluster", 64)
    assert wide[-1] - wide[0] == 14
    assert cluster[-1] - cluster[0] == 11
    dropped = arranged(tones, 11, "dropped top", 60)
    assert {v % 12 for v in dropped} == set(tones)
    assert 9 in {v % 12 for v in dropped[1:3]}  # the seventh lies beside its neighbours now


@pytest.mark.parametrize(
    ("change", "name"),
    [({"third": "raised"}, "F#"), ({"third": "none"}, "F#5"), ({"third": "sus2"}, "F#sus2"),
     ({"third": "sus4"}, "F#sus4"), ({"third": "own"}, "F#m"), ({"on": "7"}, "F#m7"),
     ({"on": "9"}, "F#m(add9)"), ({"on": "6"}, "F#m6"), ({"on": "11"}, "F#m(add11)")],
)  # fmt: skip
def test_thirds_and_extensions_are_put_in_and_taken_away(change, name):
    tones = (6, 9, 1)
    if "third" in change:
        changed = with_third(6, tones, change["third"], FS_MINOR)
        assert third_of(6, changed, FS_MINOR) == change["third"]
        assert set(with_third(6, changed, "own", FS_MINOR)) == set(tones)
    else:
        changed = with_extension(6, tones, change["on"], FS_MINOR, on=True)
        assert extensions_of(6, changed) == {change["on"]}
        assert with_extension(6, changed, change["on"], FS_MINOR, on=False) == tones
    voices = tuple(54 + (pc - 54) % 12 for pc in changed)
    assert read_chord(voices, FS_MINOR, root_hint=6).name == name


@given(st.integers(1, 7), st.sampled_from(EXTENSIONS), st.sampled_from(["minor", "major"]))
def test_an_extension_comes_and_goes(degree, extension, mode):
    key = plain_key(3, mode)
    tones = chord_tones(key, degree)
    more = with_extension(tones[0], tones, extension, key, on=True)
    assert len(more) == 4
    assert set(tones) < set(more)
    assert with_extension(tones[0], more, extension, key, on=False) == tones


def test_a_rub_is_a_half_step_beside_a_voice_in_the_scale_if_it_can_be():
    assert rub_pitch((54, 57, 61), 2, FS_MINOR) == 62
    assert rub_pitch((54, 57, 61), 0, FS_MINOR) == 55  # no scale note touches F♯
    with pytest.raises(CloudriftError, match="half-step neighbour on both sides"):
        rub_pitch((60, 61, 62), 1, FS_MINOR)


def test_a_body_set_out_by_hand_keeps_its_notes_where_they_are():
    own = (45, 52, 64, 71)
    assert build_of(own, 9).spacing == "own"
    with_ninth = rebuilt(own, 9, tones=stacked(9, {9, 4, 11, 0}))
    assert set(own) <= set(with_ninth)
    assert set(THIRDS) >= {third_of(9, build_of(own, 9).tones, Key("A", "minor"))}


# --- which key ----------------------------------------------------------------------------------


# Rows as they are written, each in the key that its writer meant.
ROWS = [
    ("Am", "Am F C G"), ("Am", "Am Dm E7 Am"), ("Am", "Am G F E7"), ("Am", "Dm E7 Am Am"),
    ("Am", "E7 Am E7 Am E7 Dm"), ("Am", "Am Em F E7"), ("Am", "F Dm E7 Am"), ("Am", "Am Am/C Dm E"),
    ("Gm", "Gm D Gm D D7 Gm Cm D"), ("Gm", "Gm Eb Bb D7"), ("Gm", "Gm Cm D7 G"),
    ("Gm", "Gm Dm Eb D"),
    ("Em", "Em C G B7"), ("Em", "Em Am B7 Em"), ("F#m", "F#m D A C#7"), ("F#m", "F#m Bm C#7 F#m"),
    ("C", "C F G C"), ("C", "C Am F G7"), ("C", "C G Am F"), ("C", "C Am Dm G7"),
    ("C", "Dm G7 C C"),
    ("D", "D Bm G A7"), ("D", "D A7 D A7 A7 D"), ("Eb", "Eb Cm Ab Bb7"), ("Bb", "Bb Eb F7 Bb"),
]  # fmt: skip


def heard_row(words, shift=0):
    chords = [parse_chord(word) for word in words.split()]
    return [HeardChord(frozenset((t + shift) % 12 for t in c.tones), (c.tones[0] + shift) % 12, 1.0)
            for c in chords]  # fmt: skip


def guessed(row):
    return guess_keys(weights_of([tuple(c.tones) for c in row], [c.length for c in row]), row)


@pytest.mark.parametrize(("name", "words"), ROWS, ids=[words for _, words in ROWS])
def test_a_key_is_guessed_from_its_chords(name, words):
    home = name_to_pc(name.removesuffix("m"))
    wanted = "minor" if name.endswith("m") else "major"
    for shift in range(12):
        guess = guessed(heard_row(words, shift))[0]
        assert (guess.key.pc, guess.key.mode) == ((home + shift) % 12, wanted)
        assert 0.4 < guess.confidence <= 1


def test_a_row_that_dwells_on_its_dominant_is_not_in_that():
    row = heard_row("Gm D D A D D7 Gm")
    weights = weights_of([tuple(c.tones) for c in row], [1.0] * 7)
    assert guess_keys(weights)[0].key.pc == 2  # what notes alone would say
    assert guess_keys(weights, row)[0].key == Key("G", "minor")


def test_how_sure_a_guess_is_follows_what_speaks_for_it():
    closed, open_row = guessed(heard_row("Am Dm E7 Am")), guessed(heard_row("F G Em Am"))
    assert closed[0].confidence > 0.9
    assert open_row[0].confidence < 0.75
    for found in (closed, open_row):
        assert sum(guess.confidence for guess in found) == pytest.approx(1)
        shares = [guess.confidence for guess in found]
        assert shares == sorted(shares, reverse=True)
    minor_ends_in_major = guessed(heard_row("Gm Cm D7 G"))
    assert minor_ends_in_major[0].key == Key("G", "minor")
    longer = [
        c._replace(length=8.0 if i == 0 else 1.0) for i, c in enumerate(heard_row("Am F C G"))
    ]

    def on_a(found):
        return sum(guess.confidence for guess in found if guess.key.pc == 9)

    assert on_a(guessed(longer)) > on_a(guessed(heard_row("Am F C G")))


@pytest.mark.parametrize(("words", "mode"), [
    ("Dm G Dm C", "dorian"), ("Dm7 G7 Dm7 Em7", "dorian"), ("Dm F G Dm", "dorian"),
    ("Em F Em Dm", "phrygian"), ("Em F G F", "phrygian"), ("Am E7 Am Dm", "minor"),
    ("Am F C G", "minor"), ("C Am F G", "major"),
])  # fmt: skip
def test_modes_are_told_by_the_degrees_they_have_of_their_own(words, mode):
    for shift in range(12):
        row = heard_row(words, shift)
        guess = guessed(row)[0].key
        assert (guess.pc, guess.mode) == (row[0].root, mode)


def test_notes_without_chords_tell_major_and_minor_alone():
    weights = weights_of([(0, 2, 3, 5, 7, 9, 10)], [1.0])
    assert {guess.key.mode for guess in guess_keys(weights)} == {"major", "minor"}


def test_nothing_heard_is_no_key_to_be_sure_of():
    assert guess_keys([0.0] * 12)[0].confidence == 0
    assert guess_keys([1.0] * 12)[0].confidence < 0.2


def test_relative_and_parallel_keys_and_what_else_fits():
    assert relative_of(FS_MINOR).plain == "A major"
    assert relative_of(Key("A", "major")).plain == "F# minor"
    assert parallel_of(FS_MINOR).plain == "F# major"
    assert relative_of(Key("D", "dorian")).plain == "F major"
    weights = weights_of([(54, 57, 61), (50, 54, 57)], [1.0, 1.0])
    fits = other_fits(weights, FS_MINOR)
    assert fits[0] == (Key("A", "major"), 1.0)
    assert all(0 <= share <= 1 for _, share in fits)
    assert {k.tonic for k, _ in fits} <= {*SHARP_NAMES, *FLAT_NAMES}
