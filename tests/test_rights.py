"""Rights sheets: what went in, whose it is, what is open; who made a loop."""

import csv
import io
import json
import re
from html.parser import HTMLParser

import numpy as np
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.cli.main import commands
from cloudrift.deliver.licences import terms_of
from cloudrift.deliver.rights import (
    COLUMNS,
    as_csv,
    as_dict,
    as_html,
    as_text,
    rights_of,
    rights_of_kit,
)
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import add_section, set_part
from cloudrift.loop.edits.bed.beds import set_heard
from cloudrift.loop.edits.chords.progression import put_chords, put_row
from cloudrift.loop.edits.flip.prints import with_print
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.edits.layers.own_notes import with_own
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.files.storage import document_from, load_document, save
from cloudrift.loop.model.credits import (
    Credits,
    Person,
    confirmed,
    read_person,
    renamed,
    shared_evenly,
    with_person,
    without_person,
)
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.notes import Note
from cloudrift.notes.from_midi import read_song
from cloudrift.render.forms.printing import printed
from cloudrift.sound.own import OwnSound, Recording
from cloudrift.style.beginnings import from_song
from cloudrift.theory import parse_progression
from tests.conftest import make_small_loop
from tests.songs import write_song
from tests.test_arranging import BEDDED

SMALL = make_small_loop()
PEOPLE = Credits(people=(Person(name="Ada Wren", did=("wrote", "played"), share=60.0),
                         Person(name="Tern", did=("mixed",), share=40.0)))  # fmt: skip
CLIP = "ab" * 12


def recorded(loop=SMALL, name="Quay voice", *, clip=CLIP, **facts):
    about = Facts(name=name, kind="phrase", length_s=2.0, **facts)
    return add_recording(loop, FromRecording(clip=clip, facts=about))


def sheet_of(loop, credits=PEOPLE, **beside):
    return rights_of(Document(loop=loop, credits=credits, **beside))


def entry(sheet, name):
    return next(one for one in sheet.entries if one.name == name)


# --- what a licence says --------------------------------------------------------------------------


@pytest.mark.parametrize(("licence", "clear", "credit", "not_alone"), [
    ("", False, False, False),
    ("CC0", True, False, False),
    ("free for any use, no credit", True, False, False),
    ("Free for any use, name the maker", True, True, False),
    ("royalty-free, not to be sold alone", True, False, True),
    ("CC BY 4.0", True, True, False),
    ("CC BY-NC 4.0", False, True, False),
    ("CC BY-SA 4.0", False, True, False),
    ("royalty-free for personal use", False, False, False),
    ("royalty free but non-commercial", False, False, False),
    ("all rights reserved", False, False, False),
    ("own recording", True, False, False),
    ("from the attic", None, False, False),
    ("ownership unclear", None, False, False),
    ("grand sound", None, False, False),  # letters that are words elsewhere
])  # fmt: skip
def test_a_licence_is_read(licence, clear, credit, not_alone):
    terms = terms_of(licence)
    assert (terms.clear, terms.credit, terms.not_alone) == (clear, credit, not_alone)
    assert bool(terms.why) == (clear is not True)


# --- what went in ---------------------------------------------------------------------------------


def test_a_loop_of_house_sounds_is_clear():
    sheet = sheet_of(SMALL)
    assert sheet.complete and sheet.licence_words == "royalty-free"
    played = {use.of.label for layer in SMALL.heard() for use in layer.source.sounds}
    assert {one.name for one in sheet.entries} == played
    for one in sheet.entries:
        assert one.what == "house sound" and one.maker == "Cloudrift"
        using = [x.name for x in SMALL.heard()
                 if one.name in {use.of.label for use in x.source.sounds}]  # fmt: skip
        assert one.where == tuple(using)
        assert one.parts == ("loop",)


def test_what_is_off_did_not_go_in():
    off = layer_edits.set_layer(SMALL, "l1", mute=True)
    name = SMALL.layer("l1").played.sound.of.label
    assert name not in {one.name for one in sheet_of(off).entries}


def test_bed_and_arrangement_are_told_apart():
    document = add_section(Document(loop=set_heard(BEDDED, on=True), credits=PEOPLE), bars=2)
    quiet = document.with_loop(layer_edits.set_layer(document.loop, "l1", mute=True))
    quiet = set_part(quiet, "s1", "l1", on=True)
    sheet = rights_of(quiet)
    parts = {place: one.parts for one in sheet.entries for place in one.where}
    assert parts[BEDDED.layer("l1").name] == ("arrangement",)
    assert parts[BEDDED.layer("l2").name] == ("loop", "arrangement")
    assert parts[BEDDED.lanes[0].name] == ("groove bed", "arrangement")


def test_a_recording_is_told_with_its_hash_and_its_licence():
    loop = recorded(maker="Ola Finn", licence="free for any use, name the maker",
                    origin="the sound exchange")  # fmt: skip
    sheet = sheet_of(loop)
    one = entry(sheet, "Quay voice")
    assert (one.what, one.clip, one.source) == ("recording", CLIP, "the sound exchange")
    assert sheet.complete and sheet.to_name == ("Ola Finn",)
    assert sheet.licence_words == "royalty-free; name Ola Finn"


def test_what_is_not_clear_is_named_with_where_it_is():
    loop = recorded(licence="for personal use")
    sheet = sheet_of(loop)
    assert sheet.open == ("Quay voice, in Quay voice: it is for limited use",)
    nothing_said = sheet_of(recorded())
    assert nothing_said.open == ("Quay voice, in Quay voice: no licence is stated",)
    looked = confirmed(PEOPLE, CLIP, on=True)
    assert sheet_of(loop, looked).complete
    assert not sheet_of(loop, confirmed(looked, CLIP, on=False)).complete
    # Under another licence than royalty-free all that is asked is to know each one.
    limited = replace(PEOPLE, licence="for this film alone")
    assert sheet_of(loop, limited).complete
    assert not sheet_of(recorded(), limited).complete


def test_two_layers_with_one_clip_are_one_entry():
    loop = recorded(recorded(licence="CC0"), licence="CC0")
    assert entry(sheet_of(loop), "Quay voice").where == ("Quay voice", "Quay voice 2")


def test_own_sounds_are_told_by_their_recordings():
    own = OwnSound(
        name="Pier bell", licence="own recording", recordings=(Recording(clip=CLIP, root=60),)
    )
    use = replace(SMALL.layer("l1").played.sound, name="Pier bell", settings=(), own=own)
    one = entry(sheet_of(layer_edits.set_source(SMALL, "l1", sound=use)), "Pier bell")
    assert (one.what, one.clip, one.licence) == ("own sound", CLIP, "own recording")


def test_notes_from_a_file_are_somebodys():
    note = Note(start_tick=0, length_ticks=960, pitch=61, velocity=90)
    loop = put_layers(SMALL, [("Tune", [note])], origin="the file harbour.mid")
    sheet = sheet_of(loop)
    assert sheet.open == ("the file harbour.mid, in Tune: no licence is stated",)
    by = layer_edits.set_source(loop, loop.layers[-1].id, by="Ada Wren")
    assert sheet_of(by).complete and sheet_of(by).to_name == ("Ada Wren",)
    moved = with_own(by, by.layers[-1].id, [replace(note, pitch=62)])
    assert entry(sheet_of(moved), "the file harbour.mid").maker == "Ada Wren"
    assert entry(sheet_of(moved), "the file harbour.mid").what == "notes"


def test_what_went_into_a_print_went_into_what_was_cut_from_it():
    clips = ClipStore()
    clip = clips.record(np.full((2, 88200), 0.1, np.float32), 44100)
    loop = recorded(clip=clip, licence="for personal use")
    got = printed(loop, "Dusk", clips)
    document = with_print(Document(loop=loop, credits=PEOPLE), loop, got.clip, got.facts, (),
                          got.gain_db)  # fmt: skip
    flip = document.loop.layers[-1]
    assert flip.flipped is not None and flip.parked
    alone = document.loop
    for layer in loop.layers:
        alone = layer_edits.set_layer(alone, layer.id, parked=True)
    alone = layer_edits.set_layer(alone, flip.id, parked=False)
    sheet = rights_of(document.with_loop(alone))
    assert {one.name for one in sheet.entries} == {one.name for one in sheet_of(loop).entries}
    assert sheet.open == (f"Quay voice, in {flip.name} (Dusk): it is for limited use",)
    # Of a print of some layers only those went in.
    some = with_print(Document(loop=loop, credits=PEOPLE), loop, got.clip, got.facts, ("l1",),
                      got.gain_db)  # fmt: skip
    sheet = rights_of(some.with_loop(alone))
    assert {one.name for one in sheet.entries} == {SMALL.layer("l1").played.sound.of.label}


def test_a_print_of_a_group_has_what_went_into_the_group():
    clips = ClipStore()
    clip = clips.record(np.full((2, 88200), 0.1, np.float32), 44100)
    loop = recorded(clip=clip, licence="for personal use")
    loop = layer_edits.group_layers(loop, [loop.layers[-1].id], "Choir")
    got = printed(loop, "Dusk", clips)
    document = with_print(Document(loop=loop, credits=PEOPLE), loop, got.clip, got.facts, ("g1",),
                          got.gain_db)  # fmt: skip
    flip = document.loop.layers[-1]
    alone = replace(document.loop, layers=(replace(flip, parked=False),), groups=())
    sheet = rights_of(document.with_loop(alone))
    assert [one.name for one in sheet.entries] == ["Quay voice"]
    assert sheet.open == (f"Quay voice, in {flip.name} (Dusk): it is for limited use",)


def test_prints_that_go_in_a_circle_come_to_an_end():
    """No loop of ours does; a stranger's file may."""
    clips = ClipStore()
    loop = recorded(clip=clips.record(np.full((2, 88200), 0.1, np.float32), 44100), licence="x")
    got = printed(loop, "Dusk", clips)
    document = with_print(Document(loop=loop), loop, got.clip, got.facts, (), got.gain_db)
    (made,) = document.prints
    circle = replace(document.recipes[0], loop=replace(document.loop, layers=tuple(
        replace(x, parked=False) for x in document.loop.layers)))  # fmt: skip
    sheet = rights_of(replace(document, recipes=(circle,), loop=circle.loop))
    assert made.clip in {one.clip for one in sheet.entries}  # what it is cut from stands for itself
    assert "Quay voice" in {one.name for one in sheet.entries}


def test_chords_of_a_friends_file_are_on_the_sheet_until_others_take_their_place(tmp_path):
    song = read_song(write_song(tmp_path / "Night pier.mid"))
    loop = from_song(song, "Night pier", parts=False, origin="the file Night pier.mid")
    found = entry(sheet_of(loop), "the file Night pier.mid")
    assert (found.what, found.where, found.parts) == ("notes", ("the chords",), ("loop",))
    assert not found.terms.clear and len(sheet_of(loop).open) == 1
    # With its parts it is one source, confirmed once.
    parts = from_song(song, "Night pier", parts=True, origin="the file Night pier.mid")
    one = entry(sheet_of(parts), "the file Night pier.mid")
    assert one.where == ("Low pads", "Tune", "the chords") and len(sheet_of(parts).open) == 1
    assert sheet_of(parts, replace(PEOPLE, confirmed=(one.id,))).complete
    # Changed chords are still theirs; others are not.
    changed = set_chord_length(loop, loop.chords[0].id)
    assert changed.chords != loop.chords and not sheet_of(changed).complete
    assert sheet_of(put_row(loop, parse_progression("Am F C G", loop.key))).complete
    assert sheet_of(put_chords(loop, loop.chords)).complete
    # A print of it has them too.
    clips = ClipStore()
    got = printed(loop, "Dusk", clips)
    document = with_print(Document(loop=loop, credits=PEOPLE), loop, got.clip, got.facts, (), 0.0)
    flip = replace(document.loop.layers[-1], parked=False)
    document = document.with_loop(replace(document.loop, layers=(flip,), chords_from=""))
    assert entry(rights_of(document), "the file Night pier.mid").where == ("the chords (Dusk)",)


def set_chord_length(loop, chord_id):
    first = next(chord for chord in loop.chords if chord.id == chord_id)
    return replace(loop, chords=(replace(first, length_ticks=960), *loop.chords[1:]))


def test_the_sheet_names_layers_as_they_are_called_now():
    loop = layer_edits.add_layer(SMALL, "bright grand")
    layer_id = loop.layers[-1].id
    swapped = layer_edits.set_sound(loop, layer_id, "worn piano")
    assert entry(sheet_of(swapped), "Worn piano").where[-1] == "Worn piano"
    renamed_ = layer_edits.set_layer(swapped, layer_id, name="Reef")
    assert entry(sheet_of(renamed_), "Worn piano").where[-1] == "Reef"


# --- who made it ----------------------------------------------------------------------------------


def test_people_and_shares():
    credits = shared_evenly(replace(PEOPLE, people=(*PEOPLE.people, Person(name="Finn"))))
    assert [one.share for one in credits.people] == [33.34, 33.33, 33.33] and credits.shares == 100
    assert sheet_of(SMALL, credits).complete
    assert [x.name for x in without_person(credits, "Tern").people] == ["Ada Wren", "Finn"]
    assert "98.00" not in as_text(sheet_of(SMALL))
    short = with_person(PEOPLE, replace(PEOPLE.people[1], share=38.0))
    assert sheet_of(SMALL, short).open == ("the shares add up to 98.00 %, not 100 %",)
    assert sheet_of(SMALL, Credits()).open == ("no author is named",)
    assert renamed(PEOPLE, "Tern", " Tide ").people[1].name == "Tide"
    assert shared_evenly(Credits()) == Credits()
    unstated = sheet_of(SMALL, replace(PEOPLE, licence=""))
    assert unstated.open[0].startswith("the licence")


@pytest.mark.parametrize(("make", "says"), [
    (lambda: Person(name=""), "a person"),
    (lambda: Person(name="A", share=120), "share of A"),
    (lambda: Person(name="A", did=("danced",)), "'danced' is not a role"),
    (lambda: Credits(people=(Person(name="A"), Person(name="A"))), "people"),
    (lambda: renamed(PEOPLE, "Tern", "Ada Wren"), "people"),
    (lambda: read_person("A:wrote:much"), "'much' is not a percentage"),
    (lambda: read_person("A:wrote:nan"), "share of A"),
])  # fmt: skip
def test_what_cannot_be_is_said(make, says):
    with pytest.raises(CloudriftError) as told:
        make()
    assert says in str(told.value)


def test_a_person_is_read():
    assert read_person("Ada Wren: wrote, played: 60%") == PEOPLE.people[0]
    assert read_person("Finn") == Person(name="Finn", did=("wrote",), share=0.0)


def test_credits_are_kept_in_the_file(tmp_path):
    path = tmp_path / "a.cloudrift"
    document = Document(loop=SMALL, credits=replace(PEOPLE, maker="Tern & Tide Audio"))
    save(document, path)
    assert load_document(path) == document
    with pytest.raises(CloudriftError, match=r"credits.*share"):
        document_from(b'{"format": "cloudrift loop", "schema": 12, "loop": ' + json.dumps(
            {"title": "x", "key": {"tonic": "C", "mode": "minor"}, "tempo": 90}).encode()
            + b', "credits": {"people": [{"name": "A", "share": 300}]}}', "a file")  # fmt: skip


# --- written --------------------------------------------------------------------------------------


class Cells(HTMLParser):
    """What a page says, by tag."""

    def __init__(self, text):
        super().__init__()
        self.found, self._open = [], []
        self.feed(text)
        assert not [tag for tag in self._open if tag not in ("meta",)]

    def handle_starttag(self, tag, attrs):
        self._open.append(tag)

    def handle_endtag(self, tag):
        while self._open.pop() != tag:
            pass

    def handle_data(self, data):
        if data.strip() and self._open:
            self.found.append((self._open[-1], data.strip()))


def test_it_is_written_as_text_csv_json_and_a_page():
    loop = recorded(name='Quay <voice> & "wind"', maker="Ola, Finn", licence="for personal use")
    sheet = sheet_of(loop, replace(PEOPLE, maker="Tern & Tide Audio"))
    text = as_text(sheet)
    assert "Ada Wren: wrote, played, 60.00 %" in text and CLIP in text
    assert "Passed on by: Tern & Tide Audio" in text
    assert text.rstrip().endswith("it is for limited use")
    rows = list(csv.reader(io.StringIO(as_csv(sheet))))
    assert tuple(rows[0]) == COLUMNS and {len(row) for row in rows} == {len(COLUMNS)}
    assert rows[1][:2] == ["person", "Ada Wren"] and len(rows) == 3 + len(sheet.entries)
    last = rows[-1]
    assert last[1:4] == ['Quay <voice> & "wind"', "Ola, Finn", "for personal use"]
    found = json.loads(json.dumps(as_dict(sheet)))
    assert found["people"][0]["share"] == 60.0 and not found["complete"]
    assert next(one for one in found["entries"] if not one["clear"])["clip"] == CLIP
    cells = Cells(as_html(sheet)).found
    assert ("td", 'Quay <voice> & "wind"') in cells and ("td", "60.00 %") in cells
    assert ("li", sheet.open[0]) in cells
    assert ("p", "Nothing is open.") in Cells(as_html(sheet_of(SMALL))).found


def test_a_kit_has_each_entry_once_and_people_with_their_shares_of_all():
    one = rights_of(Document(loop=recorded(licence="CC0"), credits=PEOPLE), "Ice Road")
    alone = Credits(people=(Person(name="Tern", did=("wrote",), share=100.0),))
    other = rights_of(Document(loop=recorded(licence="CC0"), credits=alone), "Last Ferry")
    kit = rights_of_kit("Dome Show", (one, other))
    assert kit.complete and kit.credits.shares == 100
    assert {x.name: (x.did, x.share) for x in kit.credits.people} == {
        "Ada Wren": (("wrote", "played"), 30.0), "Tern": (("mixed", "wrote"), 70.0)
    }  # fmt: skip
    assert entry(kit, "Quay voice").where == ("Ice Road: Quay voice", "Last Ferry: Quay voice")
    limited = rights_of(
        Document(loop=SMALL, credits=replace(alone, licence="for one film")), "Film"
    )
    mixed = rights_of_kit("Dome Show", (one, limited))
    assert mixed.open == ("its loops are under 2 licences; give them all the same",)


def run(*arguments):
    found = CliRunner().invoke(commands, [str(one) for one in arguments])
    return found.exit_code, found.stdout


def test_rights_and_credits_at_the_command_line(tmp_path):
    save(SMALL, tmp_path / "a.cloudrift")
    code, said = run("credits", tmp_path / "a.cloudrift", "--person", "Ada Wren:wrote,played:60",
                     "--person", "Tern:mixed:40", "--maker", "Tern & Tide Audio",
                     "-o", tmp_path / "b.cloudrift")  # fmt: skip
    assert code == 0 and said.strip() == str(tmp_path / "b.cloudrift")
    made = load_document(tmp_path / "b.cloudrift").credits
    assert made == replace(PEOPLE, maker="Tern & Tide Audio")
    assert run("rights", tmp_path / "b.cloudrift")[1].startswith("Rights sheet: Ice Road\n")
    found = json.loads(run("rights", tmp_path / "b.cloudrift", "--json")[1])
    assert found["complete"] and found["maker"] == "Tern & Tide Audio"
    assert run("rights", tmp_path / "b.cloudrift", "--csv")[1].startswith("what,name,")
    target = tmp_path / "sheet.html"
    assert run("rights", tmp_path / "b.cloudrift", "--html", "-o", target)[0] == 0
    assert ("h1", "Ice Road") in Cells(target.read_text()).found


def test_checks_at_the_command_line(tmp_path):
    save(Document(loop=SMALL, credits=PEOPLE), tmp_path / "a.cloudrift")
    code, said = run("check", tmp_path / "a.cloudrift", "--only", "peak", "--only", "names")
    assert code == 0 and "nothing to fix" in said and "fine   True peak: −" in said
    clips = ClipStore()
    clip = clips.record(np.full((2, 88200), 0.1, np.float32), 44100)
    unclear = recorded(clip=clip, licence="for personal use")
    save(Document(loop=unclear, credits=PEOPLE), tmp_path / "b.cloudrift", clips)
    files = (tmp_path / "a.cloudrift", tmp_path / "b.cloudrift")
    code, said = run("check", *files, "--only", "rights", "--json")
    one, other = json.loads(said)
    assert code == 1 and (one["to_fix"], other["to_fix"]) == (0, 1)
    (row,) = other["checks"]
    assert row["severity"] == "must" and "limited use" in row["measured"]
    assert run("check", tmp_path / "a.cloudrift", "--only", "peek")[0] != 0
    code, said = run("check", tmp_path / "a.cloudrift", "--only", "loudness", "--target", "-14")
    assert code == 0 and re.search(r"exported at \+\d\.\d dB: −14\.0 LUFS", said)
