"""What a card asks of an arrangement: each kind measured on one made so; drawn, learnt, shown."""

import json

import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from cloudrift.cli.main import commands
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.arranging.arranging import (
    relative_of,
    remove_section,
    set_part,
    set_seam,
    set_section,
)
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.sections import Arrangement
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.style.card_files import read_card, write_card
from cloudrift.style.form import arranged_in_style, form_of, forms, over_line
from cloudrift.style.learn import example_of, learn
from cloudrift.style.marks import KINDS, checked, look, met_of
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Treatment
from tests.hands import command, looked
from tests.test_arranging import BEDDED, DOCUMENT, HOOK, VERSE

OF_FORM = {name for name, kind in KINDS.items() if kind.needs_form}


def found(document, name):
    marks = look({}, document.loop, all_=True, arrangement=document.arrangement)
    return next((mark.found for mark in marks if mark.kind.name == name), None)


def without(document, section_id, *, lanes=False, layers=()):
    for owner in (*(x.id for x in document.loop.lanes if lanes), *layers):
        document = set_part(document, section_id, owner, on=False)
    return document


CASES = {  # a document that is so, the value, the evidence
    "minutes": (DOCUMENT, 12 * 60 / 140 * 4 / 60, ""),
    "sections": (DOCUMENT, 2, "Verse, Hook"),
    "without_drums": (set_section(DOCUMENT, VERSE, bed=False), 100 / 3, "Verse"),
    "first_drums": (without(DOCUMENT, VERSE, lanes=True), 4, "Hook"),
    "fullness": (without(DOCUMENT, VERSE, layers=("l1", "l2")), 2, "Hook 4, Verse 2"),
    "at_changes": (set_seam(DOCUMENT, HOOK, riser_bars=2.0, cut=True, crash_db=-12.0), 3, "Hook"),
    "elsewhere": (set_section(DOCUMENT, HOOK, key=relative_of(BEDDED.key)), 200 / 3, "Hook"),
    "under_treatment": (set_section(DOCUMENT, VERSE, over=over_line("dark")), 100 / 3, "Verse"),
}


def treatment(kind, **settings):
    version = find_kind(kind).version
    settings = tuple(sorted(settings.items()))
    return Treatment(id="t90", kind=kind, version=version, settings=settings)


@pytest.mark.parametrize(
    ("section", "share"),
    [
        (dict(line=(treatment("shift", semitones=5.0),)), 200 / 3),
        (dict(line=(treatment("shift", semitones=12.0),)), 0),
        (dict(line=(treatment("cuts", high_cut_hz=900.0),)), 0),
        (dict(over=over_line("dark")), 0),
        (dict(over=(treatment("shift", semitones=-2.0),)), 200 / 3),
        # A key of its own that its shift takes back: what sounds is the loop's.
        (dict(key=BEDDED.key.shifted(3), line=(treatment("shift", semitones=-3.0),)), 0),
        (dict(key=BEDDED.key), 0),
    ],
)
def test_a_section_is_in_the_key_that_it_sounds_in(section, share):
    document = set_section(DOCUMENT, HOOK, **section)
    assert found(document, "elsewhere").value == pytest.approx(share)


@pytest.mark.parametrize("name", CASES)
def test_each_kind_is_measured_and_told_of_and_met_or_missed(name):
    document, value, where = CASES[name]
    kind, got = KINDS[name], found(document, name)
    exact = value * BEDDED.tempo / BEDDED.sounding_tempo * 140 / BEDDED.tempo
    assert got.value == pytest.approx(exact if name == "minutes" else value, rel=1e-3)
    assert got.where == where
    assert kind.met(got.value, (got.value, got.value))
    plain = found(DOCUMENT, name).value
    if name not in ("minutes", "sections"):
        assert plain != got.value and not kind.met(plain, (got.value, kind.high))


def test_every_kind_has_its_case_and_where_nothing_is_arranged_none_is_asked():
    assert set(CASES) == OF_FORM
    asks = {name: (0.0, KINDS[name].high) for name in OF_FORM}
    assert look(asks, BEDDED) == () == look(asks, BEDDED, arrangement=Arrangement())
    assert len(look(asks, BEDDED, arrangement=DOCUMENT.arrangement)) == len(OF_FORM)
    nothing = replace(BEDDED, bed=None)
    bare = Document.of(nothing), DOCUMENT.arrangement
    assert found(replace(bare[0], arrangement=bare[1]), "without_drums") is None


@pytest.mark.parametrize("name", house_cards())
def test_what_is_arranged_in_a_cards_form_meets_what_it_asks_of_forms(name):
    card, drawn = house_cards()[name], set()
    asks = checked(card.marks, name)[0]
    asks = {kind: asked for kind, asked in asks.items() if kind in OF_FORM}
    assert len(asks) >= 5 and card.form is not None and len(card.form.forms) >= 2
    met = asked = 0
    for variation in range(1, 16):
        loop = sketch(card, variation=variation)
        document = arranged_in_style(Document.of(loop), card, variation)
        drawn.add(document.arrangement.form)
        one, of = met_of(look(asks, loop, arrangement=document.arrangement))
        met, asked = met + one, asked + of
    assert met >= 0.95 * asked
    assert drawn == set(card.form.forms)


def test_a_card_without_a_form_arranges_nothing_and_a_wrong_one_is_told():
    card = replace(find_card("Edda Fenn"), form=None)
    assert form_of(card, 1) is None
    assert arranged_in_style(Document.of(BEDDED), card, 1) == Document.of(BEDDED)
    text = write_card(find_card("Edda Fenn")).replace('"beat tape"', '"beet tape"')
    with pytest.raises(CloudriftError, match="there is no form called 'beet tape'; did you mean"):
        read_card(text, "own.toml")
    assert all("," not in name for name in forms())  # they are typed one behind the other


def test_forms_are_learnt_from_what_is_arranged():
    card = find_card("Marlow Quist")
    examples = []
    for variation in range(1, 7):
        document = arranged_in_style(
            Document.of(sketch(card, variation=variation, bars=2)), card, variation
        )
        examples.append(example_of(document.loop, None, document.arrangement))
    learnt = learn("Tern & Tide", examples).card
    assert learnt.form is not None and set(learnt.form.forms) <= set(card.form.forms)
    assert OF_FORM & set(learnt.marks)
    plain = learn("Tern & Tide", [replace_form(one) for one in examples]).card
    assert plain.form is None


def replace_form(example):
    import dataclasses

    return dataclasses.replace(example, form="")


def test_a_loop_begun_from_a_card_is_arranged_on_the_command_line_too(tmp_path):
    path = tmp_path / "Ice.cloudrift"
    run = CliRunner()
    new = ["new", "--style", "Marlow Quist", "--variation", "3", "-o", str(path)]
    assert run.invoke(commands, new, catch_exceptions=False).exit_code == 0
    document = load_document(path)
    card = find_card("Marlow Quist")
    assert document.arrangement.form == form_of(card, 3).name
    said = run.invoke(commands, ["marks", str(path), "--without-sound", "--json"],
                      catch_exceptions=False)  # fmt: skip
    rows = {row["name"]: row for row in json.loads(said.output)["marks"]}
    assert rows["minutes"]["met"] and rows["minutes"]["unit"] == "min"
    assert set(rows) & OF_FORM == set(card.marks) & OF_FORM
    save(document.loop, path)
    said = run.invoke(commands, ["marks", str(path), "--without-sound", "--json"])
    assert not {row["name"] for row in json.loads(said.output)["marks"]} & OF_FORM


def test_the_window_arranges_what_is_begun_from_a_card_and_marks_it(qtbot, window):
    session = window.session
    window.start_loop()
    window.start.choose_card("Marlow Quist")
    qtbot.waitUntil(lambda: window.start.has_loop, timeout=30_000)
    window.start.begin_loop()
    arrangement = session.document.history.now.arrangement
    assert arrangement.form in find_card("Marlow Quist").form.forms
    assert window.rail.facts[5] == f"{len(arrangement.sections)} sections"
    marks = {mark.kind.name: mark for mark in window.marking.marks}
    assert marks["minutes"].met and marks["sections"].met
    window.choose_stage(5)
    assert window.arrange.form.currentText() == arrangement.form
    session.document.change("one out", lambda d: set_section(d, "s1", bars=128))
    assert {m.kind.name for m in window.marking.marks if m.missed} >= {"minutes"}
    looked(qtbot, window)
    assert "arrangement length" in window.quiet.words
    for section in session.document.history.now.arrangement.sections[1:]:
        session.document.change("out", lambda d, of=section.id: remove_section(d, of))
    looked(qtbot, window)
    assert "arrangement length " in window.quiet.words and "now 1 section" in window.quiet.words
    session.apply("one more", lambda loop: layer_edits.add_layer(loop, "warm pad"))
    session.apply("one more", lambda loop: layer_edits.add_layer(loop, "warm pad"))
    command(window, "2 Layers").trigger()
    looked(qtbot, window)
    assert f"now {len(session.loop.layers)} layers" in window.quiet.words
    command(window, "1 Chords").trigger()
    assert "arrangement length" not in window.quiet.words
