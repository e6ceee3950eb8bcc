from itertools import permutations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.ground import CloudriftError
from cloudrift.theory import SCALES, Key, chord_tones, parse_key, pretty, read_chord
from cloudrift.theory.fit import lender_of
from cloudrift.theory.movement import classify, pair_voices
from cloudrift.theory.pitch import FLAT_NAMES, SHARP_NAMES, name_to_pc
from cloudrift.theory.symbols import parse_degree
from cloudrift.theory.voicing import bass_below, close_positions, movement, voice_chord

keys = st.builds(
    Key, st.sampled_from(sorted({*SHARP_NAMES, *FLAT_NAMES})), st.sampled_from(sorted(SCALES))
)


@pytest.mark.parametrize(
    ("text", "plain", "slug"),
    [
        ("F# minor", "F# minor", "fsharp-minor"),
        ("F♯ minor", "F# minor", "fsharp-minor"),
        ("bb MAJOR", "Bb major", "bflat-major"),
        ("d phrygian  dominant", "D phrygian dominant", "d-phrygian-dominant"),
        ("Am", "A minor", "a-minor"),
        ("C", "C major", "c-major"),
    ],
)
def test_keys_are_read_in_the_ways_people_write_them(text, plain, slug):
    assert (parse_key(text).plain, parse_key(text).slug) == (plain, slug)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("H minor", "there is no note called 'H'"),
        ("F# minr", "did you mean 'minor'"),
        ("", "is not a key"),
    ],
)
def test_a_wrong_key_is_said_in_words(text, says):
    with pytest.raises(CloudriftError, match=says):
        parse_key(text)


@given(keys)
def test_every_scale_takes_each_letter_once_and_spells_what_it_means(key):
    names = [key.spell(pc) for pc in key.scale]
    assert len({name[0] for name in names}) == 7
    assert [name_to_pc(name) for name in names] == list(key.scale)
    assert all(name_to_pc(key.spell(pc)) == pc for pc in range(12))


@given(keys, st.integers(-24, 24))
def test_a_key_moved_there_and_back_sounds_the_same(key, semitones):
    there = key.shifted(semitones)
    assert there.pc == (key.pc + semitones) % 12
    assert there.shifted(-semitones).pc == key.pc


@pytest.mark.parametrize(
    ("key", "shift", "becomes"),
    [("F# minor", -3, "D# minor"), ("C minor", 1, "C# minor"), ("F major", 1, "Gb major"),
     ("Bb major", 2, "C major"), ("D minor", 1, "Eb minor")],
)  # fmt: skip
def test_shifted_keys_are_spelled_plainly(key, shift, becomes):
    assert parse_key(key).shifted(shift).plain == becomes


def test_the_third_of_the_dominant_is_spelled_as_a_third():
    assert Key("D", "minor").spell(1) == "C#"
    assert Key("F#", "minor").spell_pitch(65) == "E♯4"
    assert Key("D", "dorian").spell(3) == "Eb"
    assert Key("Cb", "major").spell_pitch(59) == "C♭4"


def test_signs_are_written_as_music_writes_them():
    assert pretty("Bbmaj7/D Bm7b5 F#m bII") == "B♭maj7/D Bm7♭5 F♯m ♭II"
    assert pretty("club bass") == "club bass"


@given(keys, st.integers(36, 84), st.integers(-9, 9))
def test_scale_steps_stay_in_the_scale_and_return(key, start, steps):
    start = key.step(start, 1)
    there = key.step(start, steps)
    assert key.has(there)
    assert key.step(there, -steps) == start


@given(keys, st.integers(1, 7), st.booleans(), st.integers(0, 3))
def test_chords_of_the_key_are_read_back_in_every_inversion(key, degree, seventh, inversion):
    tones = chord_tones(key, degree, seventh=seventh)
    voices = list(close_positions(tones, 40, 80))[inversion]
    reading = read_chord(voices, key, root_hint=tones[0])
    assert reading.root == tones[0]
    assert reading.bass == voices[0] % 12
    assert "add" not in reading.name
    assert ("/" in reading.name) == (reading.bass != reading.root)
    assert reading.name.startswith(key.spell(tones[0]))


@pytest.mark.parametrize(
    ("voices", "hint", "name", "degree"),
    [
        ((42, 57, 61, 66), None, "F#m", "i"),
        ((50, 61, 62, 66, 69), 2, "Dmaj7", "VImaj7"),
        ((49, 59, 61, 65, 68), 1, "C#7", "V7"),
        ((57, 61, 66), 6, "F#m/A", "i"),
        ((43, 59, 62, 67), None, "G", "bII"),
        ((57, 60, 64, 67), 9, "Am7", "iii7"),
        ((60, 64, 67, 69), 0, "C6", "bV6"),
        ((54, 59, 61), None, "F#sus4", "Isus4"),
        ((56, 59, 62), None, "G#°", "ii°"),
        ((54, 61), None, "F#5", "I5"),
        ((54, 57, 61, 68), 6, "F#m(add9)", "i(add9)"),
    ],
)
def test_chords_are_named(voices, hint, name, degree):
    reading = read_chord(voices, Key("F#", "minor"), root_hint=hint)
    assert (reading.name, reading.degree) == (name, degree)


@given(st.sampled_from(["i", "iv7", "VI", "V7", "bII", "v", "VII7", "ii°"]), st.integers(0, 11))
def test_degrees_mean_the_same_in_all_twelve_keys(token, shift):
    home = parse_degree(token, Key("C", "minor"))
    moved = parse_degree(token, Key("C", "minor").shifted(shift))
    assert moved == tuple((pc + shift) % 12 for pc in home)


def test_upper_case_five_in_minor_has_a_raised_third():
    assert parse_degree("V7", Key("F#", "minor")) == (1, 5, 8, 11)
    assert parse_degree("v", Key("F#", "minor")) == (1, 4, 8)
    assert parse_degree("bII", Key("D", "phrygian")) == (3, 7, 10)


@pytest.mark.parametrize("token", ["VIII", "Iv", "x", "i99", "", "iiii"])
def test_a_wrong_degree_is_refused(token):
    with pytest.raises(CloudriftError, match="is not a degree"):
        parse_degree(token, Key("C", "minor"))


@given(
    st.lists(st.integers(0, 11), min_size=3, max_size=4, unique=True),
    st.lists(st.integers(50, 74), min_size=3, max_size=4, unique=True),
)
def test_the_chosen_voicing_moves_least(pcs, before):
    before = tuple(sorted(before))
    chosen = voice_chord(tuple(pcs), low=50, high=76, before=before)
    assert {v % 12 for v in chosen} == set(pcs)
    best = min(movement(before, v) for v in close_positions(tuple(pcs), 50, 76))
    assert movement(before, chosen) <= best + 3  # it may leave a little for the register


def test_voices_are_paired_by_least_movement_without_leaving_order():
    pairs = pair_voices((42, 57, 61, 66), (38, 61, 62, 66, 69))
    assert len(pairs) == 4
    assert (0, 0) in pairs
    cost = sum(abs((42, 57, 61, 66)[i] - (38, 61, 62, 66, 69)[j]) for i, j in pairs)
    after = (38, 61, 62, 66, 69)
    others = [sum(abs(a - b) for a, b in zip((42, 57, 61, 66), p, strict=True))
              for p in permutations(after, 4) if list(p) == sorted(p)]  # fmt: skip
    assert cost == min(others)


def test_moves_are_named():
    assert [classify(n) for n in (0, -1, 2, 3, -12)] == ["common", "half", "whole", "leap", "leap"]


@given(st.integers(0, 11), st.integers(50, 70), st.integers(1, 2))
def test_the_bass_lies_below(root, lowest, octaves):
    bass = bass_below(root, (lowest, lowest + 7), octaves=octaves)
    assert bass % 12 == root
    assert lowest - 5 - 12 * octaves < bass <= lowest - 5


STACKS = {
    "": (0, 4, 7), "m": (0, 3, 7), "°": (0, 3, 6), "7": (0, 4, 7, 10), "maj7": (0, 4, 7, 11),
    "m7": (0, 3, 7, 10), "m7b5": (0, 3, 6, 10), "m(maj7)": (0, 3, 7, 11),
    "9": (0, 4, 7, 10, 14), "maj9": (0, 4, 7, 11, 14), "m9": (0, 3, 7, 10, 14),
    "m(maj9)": (0, 3, 7, 11, 14), "add9": (0, 4, 7, 14), "m(add9)": (0, 3, 7, 14),
    "7b9": (0, 4, 7, 10, 13), "7#9": (0, 4, 7, 10, 15),
}  # fmt: skip
SIXTHS = {("m7", 1): "6", ("m7b5", 1): "m6"}  # the same notes, and as usual a name
# A whole chord over the note that it lacks to be the larger one: said so as often.
OVER = {("add9", 3): "", ("m(add9)", 3): "m", ("m(maj7)", 3): "m", ("7b9", 4): "7", ("7#9", 4): "7"}


@pytest.mark.parametrize("root", range(12))
@pytest.mark.parametrize("kind", STACKS)
def test_a_stack_of_thirds_is_named_on_whatever_note_it_stands(kind, root):
    tones = [60 + root + i for i in STACKS[kind]]
    for at, low in enumerate(tones):
        voices = tuple(sorted([t for t in tones if t != low] + [low - 36]))
        reading = read_chord(voices, Key("C", "major"))
        if (kind, at) in SIXTHS:
            assert reading.name.endswith(SIXTHS[kind, at])
            continue
        assert reading.root == root % 12, reading.name
        assert reading.bass == low % 12
        assert ("/" in reading.name) == (at > 0)
        suffix = OVER.get((kind, at), kind)
        names = {name + suffix for name in (SHARP_NAMES[root], FLAT_NAMES[root])}
        assert reading.name.split("/")[0] in names


# --- keys as they are written ---------------------------------------------------------------------

MODES_OF_ALL = [Key(tonic + sign, mode) for mode in SCALES for tonic in "CDEFGAB"
                for sign in ("", "#", "b")]  # fmt: skip


@pytest.mark.parametrize("key", MODES_OF_ALL, ids=lambda key: key.plain.replace(" ", "_"))
def test_no_key_is_shown_with_more_than_seven_signs(key):
    assert abs(key.signature) <= 7
    assert (key.written.pc, key.written.scale) == (key.pc, key.scale)
    assert key.written.written == key.written
    for degree in range(1, 8):
        for seventh in (False, True):
            tones = chord_tones(key, degree, seventh=seventh)
            voices = tuple(48 + t + 12 * (t < tones[0]) for t in tones)
            read = read_chord(voices, key, root_hint=tones[0])
            assert "##" not in read.name.split("/")[0] or "°" in read.name or "m7b5" in read.name


@pytest.mark.parametrize(
    ("key", "shown", "chords"),
    [
        (Key("D#", "major"), "E♭ major", ["E♭", "Fm", "Gm", "A♭", "B♭", "Cm"]),
        (Key("E#", "minor"), "F minor", ["Fm", "G°", "A♭", "B♭m", "Cm", "D♭"]),
        (Key("Eb", "minor"), "E♭ minor", ["E♭m", "F°", "G♭", "A♭m", "B♭m", "C♭"]),
        (Key("G#", "minor"), "G♯ minor", ["G♯m", "A♯°", "B", "C♯m", "D♯m", "E"]),
    ],
)  # fmt: skip
def test_keys_of_many_signs_and_their_chords_are_shown_as_their_equal(key, shown, chords):
    assert key.text == shown
    row = []
    for degree in range(1, 7):
        tones = chord_tones(key, degree)
        row.append(read_chord(tuple(48 + t for t in tones), key, root_hint=tones[0]))
    assert [one.text.split("/")[0] for one in row] == chords
    numerals = [one.degree.upper().rstrip("°") for one in row]
    assert numerals == ["I", "II", "III", "IV", "V", "VI"]


def test_neighbours_are_spelled_on_one_side():
    """C♭ beside F♭, not beside E; where keys have few signs, the plainer name stays."""
    key = Key("Eb", "minor")
    assert [read_chord((a, a + 4, a + 7), key, root_hint=a % 12).text for a in (47, 52)] == [
        "C♭", "F♭"]  # fmt: skip
    assert read_chord((52, 56, 59), Key("F", "major"), root_hint=4).text == "E"


@pytest.mark.parametrize(
    ("key", "degree", "name"),
    [
        (Key("Eb", "dorian"), "ii9", "Fm9"), (Key("C", "dorian"), "IV13", "F13"),
        (Key("C", "major"), "V13", "G13"), (Key("C", "major"), "iii9", "Em9"),
        (Key("A", "minor"), "iv9", "Dm9"), (Key("A", "minor"), "VI9", "Fmaj9"),
        (Key("C", "phrygian"), "i9", "Cm9"), (Key("A", "minor"), "VI7", "Fmaj7"),
        (Key("C", "major"), "ii11", "Dm11"),
    ],
)  # fmt: skip
def test_a_number_says_what_is_stacked_in_every_mode(key, degree, name):
    tones = parse_degree(degree, key)
    assert read_chord(tuple(40 + 12 * i + (t - 40) % 12 for i, t in enumerate(tones)), key,
                      root_hint=tones[0]).name == name  # fmt: skip


@pytest.mark.parametrize(
    ("key", "notes", "lender"),
    [
        (Key("Eb", "dorian"), (5, 8, 0, 3, 7), "Eb major"),
        (Key("C", "major"), (5, 8, 0), "C minor"),
        (Key("C", "major"), (0, 4, 7), None), (Key("A", "minor"), (4, 8, 11), "A harmonic minor"),
        (Key("C", "major"), (1, 5, 8), "C phrygian"), (Key("C", "major"), (1, 6, 8, 9), None),
    ],
)  # fmt: skip
def test_a_borrowed_chord_says_from_where(key, notes, lender):
    found = lender_of(notes, key)
    assert (found.plain if found else None) == lender
