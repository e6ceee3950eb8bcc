"""Arrangements as values: sections, seams, forms, variations; edits, refusals, files, commands."""

import json

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.cli.main import commands
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.arranging import arranging
from cloudrift.loop.edits.arranging.arranging import (
    add_section,
    copy_section,
    move_section,
    relative_of,
    remove_section,
    repeat_all,
    set_bars,
    set_part,
    set_seam,
    set_section,
)
from cloudrift.loop.edits.arranging.differences import differences
from cloudrift.loop.edits.arranging.section_loops import heard_in, loop_in, seconds_of, section_loop
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.flip.prints import with_print
from cloudrift.loop.edits.layers import layer_edits, recordings
from cloudrift.loop.files.storage import document_from, load_document, save
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.model.sections import MOST_SECTIONS, Arrangement, PartState, Seam, Section
from cloudrift.loop.sounding import key_heard
from cloudrift.render.forms.printing import printed
from cloudrift.style.form import (
    find_form,
    forms,
    over_line,
    read_form,
    slowed_line,
    slower_st,
    suggest_form,
)
from cloudrift.style.groove import suggest_bed
from cloudrift.style.manner import find_manner
from cloudrift.style.sums import NOTHING, OWN, SUMS, sum_line, sum_of
from cloudrift.style.variations import variations
from cloudrift.texture.treatment import time_ratio
from cloudrift.theory.key import Key
from tests.conftest import file_text, make_small_loop


def with_bed(loop):
    strengths = np.tile([1.0, 0.1, 0.1, 0.1], loop.bars * 4)
    return suggest_bed(loop, find_manner("half-time"), strengths, variation=1)


BEDDED = with_bed(make_small_loop())
DOCUMENT = add_section(add_section(Document.of(BEDDED), "Verse", 4), "Hook", 8)
VERSE, HOOK = (one.id for one in DOCUMENT.arrangement.sections)
LANE = next(one for one in BEDDED.lanes if len(hits_of(one).patterns) > 1)


# --- a section as a loop --------------------------------------------------------------------------


def test_a_section_is_the_loop_until_it_says_otherwise():
    made = section_loop(DOCUMENT, VERSE)
    assert made.layers == BEDDED.layers and made.bed == BEDDED.bed
    assert (made.over, made.level_db, made.bars) == ((), 0.0, BEDDED.bars)
    assert section_loop(DOCUMENT) is BEDDED


def test_layers_and_lanes_are_in_or_out_and_as_loud_as_a_section_says():
    document = set_part(DOCUMENT, VERSE, "l1", on=False)
    document = set_part(document, VERSE, "l2", level_db=-6.0)
    document = set_part(document, VERSE, LANE.id, pattern="B")
    made = section_loop(document, VERSE)
    assert made.layer("l1").mute and not BEDDED.layer("l1").mute
    assert made.layer("l2").level_db == BEDDED.layer("l2").level_db - 6
    assert hits_of(made.layer(LANE.id)).plays == "B"
    assert section_loop(document, HOOK).layers == BEDDED.layers  # the other one is as it was
    heard = [x.id for x in heard_in(BEDDED, document.arrangement.section(VERSE))]
    assert "l1" not in heard and {"l2", LANE.id} <= set(heard)


def test_what_is_off_or_parked_in_the_loop_may_play_in_a_section():
    loop = layer_edits.set_layer(BEDDED, "l1", mute=True)
    loop = layer_edits.set_layer(loop, "l2", parked=True)
    document = DOCUMENT.with_loop(loop)
    for owner in ("l1", "l2"):
        document = set_part(document, HOOK, owner, on=True)
    made = section_loop(document, HOOK)
    assert {"l1", "l2"} <= {x.id for x in made.heard()}
    assert not {"l1", "l2"} & {x.id for x in section_loop(document, VERSE).heard()}


def test_a_level_in_a_section_stays_within_what_a_layer_can_have():
    document = set_part(DOCUMENT, VERSE, "l1", level_db=24.0)
    quiet = set_part(DOCUMENT, VERSE, "l1", level_db=-54.0)
    assert section_loop(document, VERSE).layer("l1").level_db <= 24
    assert section_loop(quiet, VERSE).layer("l1").level_db >= -60
    assert section_loop(set_part(document, VERSE, "l1", level_db=0.0), VERSE) == section_loop(
        DOCUMENT, VERSE
    )


def test_a_section_has_a_key_chords_treatments_and_a_bed_of_its_own():
    key = relative_of(BEDDED.key)
    document = set_section(DOCUMENT, HOOK, key=key, bed=False, level_db=-3.0,
                           over=over_line("underwater"), line=slowed_line(5))  # fmt: skip
    made = section_loop(document, HOOK)
    assert made.key == key
    assert not made.bed.heard and BEDDED.bed.heard
    assert made.level_db == -3 and made.over == over_line("underwater")
    assert made.line[: len(BEDDED.line)] == BEDDED.line
    assert len({t.id for t in made.line}) == len(BEDDED.line) + 1  # its id is free
    assert made.sounding_frames == pytest.approx(
        BEDDED.sounding_frames * time_ratio(slowed_line(5)), abs=1
    )
    chords = tuple(replace(one, voices=tuple(v + 2 for v in one.voices)) for one in BEDDED.chords)
    own = section_loop(set_section(DOCUMENT, HOOK, chords=chords), HOOK)
    assert [one.voices for one in own.chords] == [one.voices for one in chords]


@pytest.mark.parametrize(("key", "relative"), [
    (Key("F#", "minor"), "A major"), (Key("C", "major"), "A minor"),
    (Key("D", "dorian"), "C major"), (Key("Eb", "dorian"), "Db major"),
    (Key("G", "mixolydian"), "A minor"),
])  # fmt: skip
def test_relative_keys(key, relative):
    assert relative_of(key).plain == relative


def test_slower_by_semitones_is_known_again_and_a_line_of_its_own_is_not():
    assert [slower_st(slowed_line(count)) for count in range(13)] == list(range(13))
    assert time_ratio(slowed_line(12)) == pytest.approx(2)
    assert slower_st(over_line("dark")) == 0


def test_an_arrangement_lasts_as_long_as_its_sections():
    a_bar = BEDDED.sounding_frames / BEDDED.rate / BEDDED.bars
    assert seconds_of(DOCUMENT) == pytest.approx(12 * a_bar, rel=1e-4)
    slow = set_section(DOCUMENT, HOOK, line=slowed_line(12))
    assert seconds_of(slow) == pytest.approx((4 + 16) * a_bar, rel=1e-4)
    assert DOCUMENT.arrangement.bars == 12


# --- what is refused ------------------------------------------------------------------------------


@pytest.mark.parametrize(("edit", "says"), [
    (lambda d: set_bars(d, VERSE, 0), "section Verse: bars is 0, but must lie between 1 and 128"),
    (lambda d: set_bars(d, VERSE, 500), "section Verse: bars is 500, but must"),
    (lambda d: set_section(d, VERSE, name=" "), "needs a name"),
    (lambda d: set_section(d, "s9", bars=2), "no longer exists"),
    (lambda d: set_part(d, VERSE, "l1", pattern="B"), "has no pattern 'B'; only lanes"),
    (lambda d: set_part(d, VERSE, LANE.id, pattern="Z"), "has no pattern 'Z'; it has A, B"),
    (lambda d: set_part(d, VERSE, "l77", on=True), "l77"),
    (lambda d: set_part(d, VERSE, "l1", level_db=400.0), "level is 400 dB"),
    (lambda d: set_seam(d, HOOK, riser_bars=8.0), "start 32 beats before it, but Verse has 16"),
    (lambda d: set_seam(d, HOOK, riser_bars=40.0), "riser is 40 bars, but"),
    (lambda d: set_seam(d, HOOK, sag_beats=4.0, sag_share=0.0), "a share of is 0, but must"),
    (lambda d: set_seam(d, VERSE, sweep="opens", sweep_bars=6.0), "opens over 6 bars"),
    (lambda d: set_seam(d, HOOK, crash_db=3.0), "crash is 3 dB, but must"),
])  # fmt: skip
def test_what_cannot_be_is_refused_in_words(edit, says):
    with pytest.raises(CloudriftError) as told:
        edit(DOCUMENT)
    assert says in str(told.value)


def test_a_form_longer_than_twenty_minutes_is_refused():
    document = Document.of(loop_edits.set_tempo(BEDDED, 60.0))
    for _ in range(2):
        document = add_section(document, bars=128)
    with pytest.raises(CloudriftError, match=r"25.6 minutes, but 20 are the most"):
        add_section(document, bars=128)
    assert len(document.arrangement.sections) == 2


def test_there_are_so_many_sections_at_most():
    document = Document.of(BEDDED)
    for _ in range(MOST_SECTIONS):
        document = add_section(document, bars=1)
    with pytest.raises(CloudriftError, match="64 sections already"):
        add_section(document)
    with pytest.raises(CloudriftError, match="more than 64"):
        repeat_all(document)
    with pytest.raises(CloudriftError, match="no sections yet"):
        repeat_all(Document.of(BEDDED))


# --- edits ----------------------------------------------------------------------------------------


def names(document):
    return [one.name for one in document.arrangement.sections]


def test_a_copy_says_what_differs_and_each_of_it_is_taken_back():
    document, copy = copy_section(DOCUMENT, HOOK)
    assert names(document) == ["Verse", "Hook", "Hook 2"]
    assert differences(document, copy) == [] and differences(document, HOOK) == []
    document = set_part(document, copy, "l1", on=False, level_db=-4.0)
    document = set_part(document, copy, LANE.id, pattern="B")
    document = set_section(document, copy, bars=4, key=relative_of(BEDDED.key), bed=False,
                           over=over_line("thin"), level_db=2.0)  # fmt: skip
    document = set_seam(document, copy, fill=True)
    found = differences(document, copy)
    layer = BEDDED.layer("l1").name
    assert [one.words for one in found] == [
        f"{layer} off, −4 dB", f"{LANE.name} plays pattern B", "4 bars instead of 8",
        "without the groove bed", "+2 dB", "in A major", "other treatments on the whole section",
        "seam before it: fill",
    ]  # fmt: skip
    for count in range(len(found), 0, -1):
        document = differences(document, copy)[0].back(document)
        assert len(differences(document, copy)) == count - 1
    original = document.arrangement.section(HOOK)
    assert replace(document.arrangement.section(copy), id=HOOK, name="Hook",
                   copied_from="") == original  # fmt: skip


def test_sections_move_go_and_come_round_again():
    document, copy = copy_section(DOCUMENT, VERSE)
    assert names(move_section(document, HOOK, -1)) == ["Verse", "Hook", "Verse 2"]
    assert names(move_section(document, VERSE, 9)) == ["Verse 2", "Hook", "Verse"]
    gone = remove_section(document, VERSE)
    assert names(gone) == ["Verse 2", "Hook"]
    assert gone.arrangement.section(copy).copied_from == ""  # stands by itself
    twice = repeat_all(DOCUMENT)
    assert names(twice) == ["Verse", "Hook", "Verse 2", "Hook 2"]
    assert [one.copied_from for one in twice.arrangement.sections] == ["", "", VERSE, HOOK]
    assert len({one.id for one in twice.arrangement.sections}) == 4


@given(st.lists(st.tuples(st.sampled_from(("add", "copy", "remove", "move", "part", "seam")),
                          st.integers(0, 9)), max_size=12))  # fmt: skip
def test_whatever_is_edited_sections_stay_whole(acts):
    document = DOCUMENT
    for act, number in acts:
        ids = [one.id for one in document.arrangement.sections]
        one = ids[number % len(ids)] if ids else ""
        if act == "add":
            document = add_section(document, bars=1 + number)
        elif ids and act == "copy":
            document, _ = copy_section(document, one)
        elif ids and act == "remove":
            document = remove_section(document, one)
        elif ids and act == "move":
            document = move_section(document, one, number - 5)
        elif ids and act == "part":
            document = set_part(document, one, "l2", on=number % 2 == 0)
        elif ids and act == "seam":
            document = set_seam(document, one, crash_db=-10.0 - number)
    sections = document.arrangement.sections
    assert len({one.id for one in sections}) == len(sections)
    assert len({one.name for one in sections}) == len(sections)
    there = {one.id for one in sections} | {""}
    assert all(one.copied_from in there for one in sections)
    assert document.arrangement.bars == sum(one.bars for one in sections)
    assert document_from(file_text(document), "x") == document


# --- forms ----------------------------------------------------------------------------------------


def test_every_form_is_drawn_whole_and_two_draws_are_the_same_or_differ():
    differ = 0
    for form in forms().values():
        one, same, other = (
            suggest_form(Document.of(BEDDED), form, variation) for variation in (1, 1, 2)
        )
        assert one == same
        differ += one.arrangement.sections != other.arrangement.sections
        sections = one.arrangement.sections
        assert [x.name for x in sections] == [x.name for x in form.sections]
        assert one.arrangement.form == form.name
        for section, of in zip(sections, form.sections, strict=True):
            assert section.bars == max(1, round(of.turns * BEDDED.bars))
            assert heard_in(BEDDED, section), (form.name, section.name)
            assert bool([x for x in heard_in(BEDDED, section) if x in loop_in(
                BEDDED, section).lanes]) <= (of.drums != "none")  # fmt: skip
    assert differ >= 3


def test_a_form_says_who_plays():
    document = suggest_form(Document.of(BEDDED), find_form("three hooks"))
    by_name = {one.name: one for one in document.arrangement.sections}
    heard = {name: {x.id for x in heard_in(BEDDED, one)} for name, one in by_name.items()}
    assert len(heard["Hook 1"]) < len(heard["Hook 3"])
    assert heard["Hook 1"] < heard["Hook 2"]  # one more
    assert by_name["Hook 2"].copied_from == by_name["Hook 1"].id
    assert by_name["Switch"].key == relative_of(BEDDED.key)
    low = [x.id for x in BEDDED.lanes if hits_of(x).on_roots]
    assert low and set(low) <= heard["Hook 3"]


def test_the_slow_form_is_slow_at_first_and_the_line_of_all_stays():
    document = Document.of(BEDDED)
    document = arranging.arrange(document, line=sum_line("drive, then limit"))
    document = suggest_form(document, find_form("slow in and sweep out"))
    intro, hook = document.arrangement.sections[:2]
    assert slower_st(intro.line) == 5 and slower_st(hook.line) == 0
    assert sum_of(document.arrangement.line)[0] == "drive, then limit"


@pytest.mark.parametrize(("text", "says"), [
    ('name = "x"\nabout = "y"\nsections = []', "sections"),
    ('name = "x"\nabout = "y"\n[[sections]]\nname = "A"\nturns = 0', "sections"),
    ('name = "x"\nabout = "y"\n[[sections]]\nname = "A"\nwho = "nobody"', "who"),
    ('name = "x"\nabout = "y"\n[[sections]]\nname = "Hook"\n[[sections]]\nname = "B"\n'
     'again = "Hok"', "sections[1] is 'Hok' again, which does not come before it; did you mean "
                      "'Hook'"),
])  # fmt: skip
def test_a_form_that_cannot_be_is_refused_with_its_place(text, says):
    with pytest.raises(CloudriftError) as told:
        read_form(text, "own.toml")
    assert "own.toml" in str(told.value) and says in str(told.value)
    with pytest.raises(CloudriftError, match="did you mean 'three hooks'"):
        find_form("three hoks")


# --- variations, sums -----------------------------------------------------------------------------


def test_each_variation_changes_what_is_heard_and_is_not_offered_twice():
    section = DOCUMENT.arrangement.section(HOOK)
    found = variations(DOCUMENT, section)
    assert 4 <= len(found) <= 8
    before = loop_in(BEDDED, section)
    for one in found:
        made = one.edit(section)
        assert loop_in(BEDDED, made) != before, one.words
        again = variations(set_section(DOCUMENT, HOOK, parts=made.parts, key=made.key,
                                       over=made.over), made)  # fmt: skip
        if not one.words.endswith("dB"):
            assert one.words not in {x.words for x in again}, one.words


def test_a_flip_is_offered_instead_of_the_rest():
    clips = ClipStore()
    got = printed(BEDDED, "Print 1", clips)
    document = with_print(DOCUMENT, BEDDED, got.clip, got.facts, (), got.gain_db)
    flip = document.loop.layers[-1]
    section = document.arrangement.section(HOOK)
    found = variations(document, section)[0]
    assert found.words == f"{flip.name} instead of the rest"
    heard = {x.id for x in heard_in(document.loop, found.edit(section))} & set(document.loop.ids)
    assert flip.id in heard and "l1" not in heard


def test_sums_are_lines_by_name_pushed_as_far_as_said():
    for name in SUMS:
        for push in (0.0, 3.5, 12.0):
            line = sum_line(name, push)
            assert sum_of(line) == (name, push)
            assert line[-1].kind == "limiter"
    assert sum_line(NOTHING) == () and sum_of(())[0] == NOTHING
    assert sum_of(over_line("dark"))[0] == OWN
    with pytest.raises(CloudriftError, match="did you mean 'clip, then limit'"):
        sum_line("clip then limit")


# --- files ----------------------------------------------------------------------------------------


def test_an_arrangement_is_saved_and_read_again(tmp_path):
    document, copy = copy_section(DOCUMENT, HOOK)
    document = set_part(document, copy, "l1", on=False, level_db=-4.0)
    document = set_section(document, copy, key=Key("A", "major"), chords=BEDDED.chords,
                           over=over_line("dark"), line=slowed_line(3))  # fmt: skip
    document = set_seam(document, copy, riser_bars=2.0, cut=True, silence_beats=1.5, sweep="closes")
    document = arranging.arrange(document, line=sum_line("clip, then limit", 4.0))
    save(document, tmp_path / "a.cloudrift")
    assert load_document(tmp_path / "a.cloudrift") == document


def test_an_empty_arrangement_is_not_written():
    assert "arrangement" not in json.loads(file_text(Document.of(BEDDED)))
    with_line = replace(Document.of(BEDDED), arrangement=Arrangement(line=over_line("dark")))
    assert document_from(file_text(with_line), "x") == with_line


@pytest.mark.parametrize(("change", "says"), [
    ({"bars": 500}, "bars is 500"), ({"bars": "four"}, "sections"),
    ({"seam": {"sag_share": 0}}, "tempo drops"), ({"id": "s2"}, "sections"),
    ({"colour": "blue"}, "colour"),
])  # fmt: skip
def test_a_file_with_a_section_that_cannot_be_is_refused_in_words(change, says):
    raw = json.loads(file_text(DOCUMENT))
    raw["arrangement"]["sections"][0] |= change
    with pytest.raises(CloudriftError) as told:
        document_from(json.dumps(raw).encode(), "a.cloudrift")
    assert "a.cloudrift" in str(told.value) and says in str(told.value)


def test_a_section_may_speak_of_what_is_gone():
    document = set_part(DOCUMENT, VERSE, "l1", on=False)
    loop = layer_edits.remove_layer(beds.remove_lane(BEDDED, LANE.id), "l1")
    document = document.with_loop(loop)
    assert "l1" not in {x.id for x in section_loop(document, VERSE).layers}
    assert Section(id="s1", name="A", bars=1, parts=(PartState(id="l9"),)).part("l9").plain


def test_what_happens_at_a_change_is_said_in_order():
    seam = Seam(riser_bars=2.0, cut=True, fill=True, sweep="opens", sag_beats=2.0,
                silence_beats=1.0, lead_beats=0.5, crash_db=-12.0, tag_db=-9.0,
                burst_db=-20.0)  # fmt: skip
    assert seam.happens == (
        "riser, 2 bars", "filter opens", "fill", "drums stop", "tempo to 60 %",
        "reversed pickup, 0.5 beats", "silence for 1 beat", "reverb burst", "crash", "tag",
    )  # fmt: skip
    assert Seam().happens == ()


# --- command line ---------------------------------------------------------------------------------


@pytest.fixture
def run(tmp_path):
    save(BEDDED, tmp_path / "Ice.cloudrift")

    def run(*args, code=0):
        result = CliRunner().invoke(commands, [str(one) for one in args])
        assert result.exit_code == code, result.output
        return result.output

    return run


def test_a_loop_is_arranged_and_told_of_on_the_command_line(run, tmp_path):
    listed = json.loads(run("arrange", "--list", "--json"))
    assert {one["name"] for one in listed} == set(forms())
    source, target = tmp_path / "Ice.cloudrift", tmp_path / "Ice arranged"
    said = run("arrange", source, "--form", "three hooks", "--variation", 2, "-o", target)
    assert "Hook 3" in said
    document = load_document(tmp_path / "Ice arranged.cloudrift")
    assert document == suggest_form(Document.of(BEDDED), find_form("three hooks"), 2)
    facts = json.loads(run("info", tmp_path / "Ice arranged.cloudrift", "--json"))
    sections = facts["arrangement"]["sections"]
    assert [one["name"] for one in sections] == names(document)
    assert sections[1]["copied_from"] == "Hook 1" and sections[2]["seam"]
    for args, says in ((("--form", "thre", "-o", tmp_path / "other"), "there is no form called "
                                                                      "'thre'"),
                       ((), "name a loop, and with -o where")):  # fmt: skip
        result = CliRunner().invoke(commands, ["arrange", str(source), *map(str, args)])
        assert result.exit_code == 1 and says in str(result.exception)


def test_what_all_drums_do_otherwise_is_one_difference():
    document, copy = copy_section(DOCUMENT, HOOK)
    for lane in BEDDED.lanes:
        document = set_part(document, copy, lane.id, pattern="Bare")
    found = differences(document, copy)
    assert [one.words for one in found] == ["all drums play pattern Bare"]
    assert differences(found[0].back(document), copy) == []
    some = set_part(document, copy, BEDDED.lanes[0].id, pattern="")
    assert len(differences(some, copy)) == len(BEDDED.lanes) - 1


# --- a switch-up: key, tempo and chords of its own ------------------------------------------------


def test_a_section_has_a_tempo_of_its_own_and_the_loops_is_none():
    document = arranging.set_tempo(DOCUMENT, HOOK, BEDDED.tempo / 2)
    made = section_loop(document, HOOK)
    assert made.tempo == BEDDED.tempo / 2 == document.arrangement.section(HOOK).tempo
    assert section_loop(document, VERSE) == section_loop(DOCUMENT, VERSE)
    bars = document.arrangement.section(HOOK).bars
    added = bars * BEDDED.sounding_frames / BEDDED.rate / BEDDED.bars
    assert seconds_of(document) == pytest.approx(seconds_of(DOCUMENT) + added, rel=1e-4)
    assert arranging.set_tempo(document, HOOK, BEDDED.tempo) == DOCUMENT
    with pytest.raises(CloudriftError, match="tempo"):
        arranging.set_tempo(DOCUMENT, HOOK, 4000)


def test_a_tempo_and_a_slower_line_act_together():
    document = arranging.set_tempo(DOCUMENT, HOOK, BEDDED.tempo / 2)
    document = set_section(document, HOOK, line=slowed_line(12))
    made = section_loop(document, HOOK)
    assert made.sounding_frames == pytest.approx(4 * BEDDED.sounding_frames, rel=1e-4)


@pytest.mark.parametrize("key", [Key("C", "dorian"), Key("Bb", "major"), Key("F#", "lydian")])
def test_any_key_is_heard_in_a_section_and_its_own_chords_go_along(key):
    document = arranging.set_key(DOCUMENT, HOOK, key)
    assert key_heard(section_loop(document, HOOK)) == key
    own = arranging.set_section(DOCUMENT, HOOK, chords=BEDDED.chords[:1])
    moved = arranging.set_key(own, HOOK, key)
    chord = moved.arrangement.section(HOOK).chords[0]
    assert chord == section_loop(document, HOOK).chords[0]
    back = arranging.set_key(moved, HOOK, BEDDED.key).arrangement.section(HOOK)
    assert back.key is None
    # A change of mode may not know its way back for notes outside the scale; the root does.
    assert back.chords[0].root == BEDDED.chords[0].root


@pytest.mark.parametrize(
    ("key", "semitones"), [(Key("A", "major"), 0), (Key("F#", "major"), -3), (Key("A", "minor"), 3)]
)
def test_a_recording_goes_where_its_notes_are_at_home_in_another_mode(key, semitones):
    loop = make_small_loop()  # in F sharp minor
    facts = Facts(name="Phrase", kind="loop", length_s=2.0, tempo=120.0, key=loop.key)
    loop = recordings.add_recording(loop, FromRecording(clip="0" * 24, facts=facts))
    made = loop_edits.set_key(loop, key)
    assert made.layers[-1].recorded.semitones == semitones


def test_what_a_switch_differs_in_is_said_and_taken_back():
    document, copy = copy_section(DOCUMENT, HOOK)
    document = arranging.set_tempo(document, copy, 90)
    document = arranging.set_key(document, copy, Key("A", "minor"))
    words = [one.words for one in differences(document, copy)]
    assert words == ["in A minor", "at 90 BPM"]
    for one in differences(document, copy):
        document = one.back(document)
    assert differences(document, copy) == []
