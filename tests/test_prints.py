"""Prints of prints: what follows when one is printed anew; another flip; letting one go."""

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.desktop.stages.flip.prints_sheet import PrintsSheet
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.flip import flipping, flips, ordering
from cloudrift.loop.edits.flip.prints import (
    flip_anew,
    followers,
    forget_print,
    loop_to_print,
    printable,
    recipe_of,
    rename_print,
    with_clip_of,
    with_guessed_bare,
    with_print,
)
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts
from cloudrift.render.forms.printing import printed, reprinted, with_reprints
from tests.conftest import make_small_loop
from tests.hands import settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here


FACTS = Facts(name="Print", kind="loop", length_s=3.0, lufs=-20.0, tempo=140.0)


def put_print(document, clips, layers=(), name="Print"):
    """Print all that is heard, or some layers, of a document's loop, as the window does."""
    loop = loop_to_print(document.loop, layers)
    got = printed(loop, name, clips)
    return with_print(document, loop, *got[:2], layers, got.gain_db)


def last(document):
    return document.loop.layers[-1].id


def with_last(document, edit):
    return document.with_loop(flips.with_flip(document.loop, last(document), edit))


def make_generations():
    """p1 of a layer; two flips of it; p2 of those; p3 of the flip of p2; p4 of something else."""
    clips = ClipStore()
    loop = make_small_loop()
    loop = replace(loop, line=(), layers=tuple(replace(x, line=()) for x in loop.layers[:2]))
    one, other = (x.id for x in loop.layers)
    document = put_print(Document(loop=loop), clips, (one,), "First")
    first = last(document)
    document = with_last(document, ordering.backward_in_order)
    audio, _rate = clips.read(document.prints[0].clip)
    document = flip_anew(document, "p1", audio.shape[1], integrated_lufs(audio, 44_100))
    second = last(document)
    document = with_last(document, lambda flip: flipping.set_all(flip, semitones=12.0, tape=True))
    document = put_print(document, clips, (first, second), "Second")
    document = put_print(document, clips, (last(document),), "Third")
    return put_print(document, clips, (other,), "Fourth"), clips


@pytest.fixture(scope="module")
def generations():
    return make_generations()


def assert_true(document, clips):
    """Every print is what its recipe sounds like, and all that is cut from one is cut from that."""
    loops = {one.content: one.loop for one in document.recipes}
    clip_of = {one.id: one.clip for one in document.prints}
    for one in document.prints:
        made = printed(loops[one.recipe.loop], one.name, clips, passes=one.recipe.passes)
        assert (made.clip, made.gain_db) == (one.clip, one.gain_db), one.name
    for loop in (document.loop, *loops.values()):
        for layer in loop.layers:
            if layer.flipped and layer.flipped.print_id:
                assert layer.flipped.of.clip == clip_of[layer.flipped.print_id]


def test_printing_says_from_its_first_step_on_how_far_it_is(generations):
    document, clips = generations
    heard = []
    printed(
        make_small_loop(), "Whole", clips, moved=lambda share, words: heard.append((share, words))
    )
    shares = [share for share, _words in heard]
    assert len(heard) > 2 and sorted(shares) == shares and shares[-1] == 1.0
    assert shares[0] <= 1 / 3, "the first step is said when it is made, not at the end"
    assert all(f"step {n} of {len(heard)}" in words for n, (_s, words) in enumerate(heard, 1))
    heard.clear()
    made = reprinted(document, "p1", document.recipes[0].loop, (), clips,
                     moved=lambda share, words: heard.append((share, words)))  # fmt: skip
    shares = [share for share, _words in heard]
    assert len(made) > 1 and sorted(shares) == shares and shares[-1] == 1.0, "what follows counts"


def test_what_follows_a_print_is_what_was_made_of_what_it_plays(generations):
    document, clips = generations
    assert followers(document, "p1") == ("p2", "p3")
    assert followers(document, "p2") == ("p3",)
    assert followers(document, "p3") == followers(document, "p4") == ()
    assert_true(document, clips)
    # In what p1 is printed from, nothing may play that comes of it.
    kept = [x.flipped.print_id for x in printable(document, "p1").layers if x.flipped]
    assert kept == ["p4"]


def test_what_follows_a_print_comes_after_all_that_it_is_made_of(generations):
    document, _clips = generations
    turned = replace(document, prints=tuple(reversed(document.prints)))
    assert followers(turned, "p1") == followers(document, "p1") == ("p2", "p3")


EDITS = (
    lambda loop, first: loop_edits.set_key(loop, loop.key.shifted(2)),
    lambda loop, first: layer_edits.set_layer(loop, first, level_db=-9.0),
    lambda loop, first: layer_edits.set_layer(loop, first, pan=0.7),
    lambda loop, first: line_edits.add_treatment(loop, first, "weathering"),
    lambda loop, first: loop_edits.set_tempo(loop, 110.0),
    lambda loop, first: loop_edits.set_bars(loop, 1),
)


@settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.lists(st.sampled_from(range(len(EDITS))), min_size=1, max_size=3, unique=True))
def test_any_edit_of_a_recipe_goes_through_to_all_that_came_of_it(generations, which):
    document, clips = generations
    loop = next(one.loop for one in document.recipes
                if one.content == document.prints[0].recipe.loop)  # fmt: skip
    for number in which:
        loop = EDITS[number](loop, loop.layers[0].id)
    after = with_reprints(document, reprinted(document, "p1", loop, (), clips))
    assert_true(after, clips)
    was, now = ({x.id: x.clip for x in d.prints} for d in (document, after))
    assert {one for one in was if was[one] != now[one]} == {"p1", "p2", "p3"}
    assert [x.id for x in after.loop.layers] == [x.id for x in document.loop.layers]
    for before, behind in zip(document.loop.layers, after.loop.layers, strict=True):
        if before.flipped:
            assert behind.flipped.places == before.flipped.places
    assert len(after.recipes) == len({one.recipe.loop for one in after.prints})


def test_a_recipe_that_is_not_changed_prints_the_same(generations):
    document, clips = generations
    loop = next(one.loop for one in document.recipes
                if one.content == document.prints[0].recipe.loop)  # fmt: skip
    assert with_reprints(document, reprinted(document, "p1", loop, (), clips)) == document


def test_a_file_in_which_prints_go_in_a_circle_is_followed_once(generations):
    document, _clips = generations
    third = next(x for x in document.loop.layers if x.flipped and x.flipped.print_id == "p3")
    loops = [replace(one, loop=replace(one.loop, layers=(*one.loop.layers, third)))
             if one.content == document.prints[0].recipe.loop else one
             for one in document.recipes]  # fmt: skip
    turned = replace(document, recipes=tuple(loops))
    assert sorted(followers(turned, "p1")) == ["p2", "p3"]


def test_a_flip_that_is_not_heard_is_no_part_of_a_print(generations):
    document, clips = generations
    later = put_print(document, clips, name="Fifth")  # all flips are parked
    recipe = later.recipes[-1].loop
    assert not any(x.flipped for x in recipe.layers) and followers(later, "p1") == ("p2", "p3")


def test_a_group_is_printed_with_its_layers_also_one_that_is_off(small_loop):
    loop = layer_edits.group_layers(small_loop, ["l1", "l2"])
    (group,) = loop.groups
    assert [x.id for x in loop_to_print(loop, (group.id,)).layers] == ["l1", "l2"]
    off = layer_edits.set_group(loop, group.id, mute=True)
    assert [x.id for x in loop_to_print(off, (group.id,)).heard()] == ["l1", "l2"]
    assert [x.id for x in loop_to_print(off, ("l1",)).heard()] == ["l1"]


def test_a_flip_keeps_its_own_name_when_what_it_is_cut_from_is_another(generations):
    loop = generations[0].loop
    flip = next(x for x in loop.layers if x.flipped and x.flipped.print_id == "p1")
    named = replace(flip.flipped.of, facts=replace(flip.flipped.of.facts, name="Harbour"))
    loop = loop.with_owner(flip.id, source=replace(flip.flipped, of=named))
    after = with_clip_of(loop, "p1", "0" * 24, FACTS, 1.5, ()).layer(flip.id).flipped.of
    assert (after.facts.name, after.facts.lufs, after.gain_db) == ("Harbour", -20.0, 1.5)


def test_four_generations_are_small_in_the_file_and_come_back(generations, tmp_path):
    document, clips = generations
    path = tmp_path / "four.cloudrift"
    save(document, path, clips)
    assert load_document(path, ClipStore()) == document
    assert path.stat().st_size < 2_500_000  # 13.7 s of sound in four prints


def test_another_flip_of_a_print_stands_beside_the_first(generations):
    document, _clips = generations
    first, second = (x.flipped for x in document.loop.layers if x.flipped
                     and x.flipped.print_id == "p1")  # fmt: skip
    assert first.of.clip == second.of.clip and first.places != second.places
    assert abs(second.of.facts.length_s - first.of.facts.length_s) < 1e-6
    assert second.of.gain_db == first.of.gain_db == document.prints[0].gain_db


def test_a_print_is_renamed_and_forgotten_and_what_was_cut_from_it_stays(generations):
    document, clips = generations
    named = rename_print(document, "p4", "Undertow, printed")
    assert [x.name for x in named.prints][-1] == "Undertow, printed"
    less = forget_print(document, "p4")
    assert [x.id for x in less.prints] == ["p1", "p2", "p3"]
    assert len(less.recipes) == len(document.recipes) - 1
    assert less.loop.layers[-1].flipped == replace(document.loop.layers[-1].flipped, print_id="")
    assert_true(less, clips)
    for edit in (forget_print, lambda d, one: rename_print(d, one, "x")):
        with pytest.raises(CloudriftError, match="that print no longer exists"):
            edit(less, "p4")


# --- the window -----------------------------------------------------------------------------------


@pytest.fixture
def stage(qtbot, window):
    window.show_stage(3)
    window.flip.printing.print_what(())
    qtbot.waitUntil(lambda: bool(window.flip.flips()), timeout=60_000)
    settled(qtbot, window.session)
    return window.flip


def test_all_prints_are_listed_flipped_anew_renamed_and_forgotten(
    qtbot, window, stage, monkeypatch, tmp_path
):
    from cloudrift.desktop.stages.flip import prints_sheet as room

    session = window.session
    session.document._saved = session.document.history.now  # as if it were saved
    stage.show_prints()
    sheet = stage.findChild(PrintsSheet)
    assert sheet.list.count() == 1
    text = sheet.list.item(0).text()
    assert text.startswith("Print 1, Whole loop\nF♯ minor, 140 BPM, 2 bars, 3.4 s, ")
    assert text.endswith(" MB")
    assert sheet.says.text() == "Flips of it: Print 1, Whole loop."
    sheet.anew.click()
    qtbot.waitUntil(lambda: len(stage.flips()) == 2, timeout=60_000)
    assert stage.layer.name == "Print 1, Whole loop 2"
    assert stage.layer.flipped == replace(stage.flips()[0].flipped)
    monkeypatch.setattr(room, "ask_for_name", lambda *_given: "Night")
    session.document._saved = session.document.history.now
    sheet.rename.click()
    assert sheet.list.item(0).text().startswith("Night\n") and not session.document.is_saved
    session.document.undo()
    assert sheet.list.item(0).text().startswith("Print 1")
    session.document.redo()
    sheet.forget.click()
    assert sheet.list.count() == 0 and "No prints yet" in sheet.says.text()
    assert not sheet.forget.isEnabled() and not stage.again.isVisible()
    assert len(stage.flips()) == 2 and "Night is deleted" in window.message.text()
    session.document.undo()
    assert sheet.list.count() == 1 and stage.again.isVisible()
    sheet.close()


def test_what_was_printed_of_a_print_follows_in_the_window(qtbot, window, stage):
    session = window.session
    stage.hands["Reversed, chords in order"].click()
    stage.result.use_it()
    session.select(layer_id=stage.layer.id)
    stage.printing.print_chosen()
    qtbot.waitUntil(lambda: len(stage.flips()) == 2, timeout=60_000)
    settled(qtbot, session)
    clips = [x.clip for x in session.document.history.now.prints]
    session.apply(
        "level", lambda loop: layer_edits.set_layer(loop, loop.layers[0].id, level_db=-20.0)
    )
    stage._choose(0)
    at = session.document.history.at
    stage.again.click()
    qtbot.waitUntil(lambda: session.document.history.at > at, timeout=60_000)
    now = session.document.history.now
    assert all(a != b.clip for a, b in zip(clips, now.prints, strict=True))
    assert session.document.history.at == at + 1
    assert f"and so does {now.prints[1].name}" in window.message.text()
    assert_true(now, session.clips)


def test_a_print_of_a_bare_loop_is_reprinted_with_the_treatments_it_has_then(
    qtbot, window, small_loop
):
    """Only one that was to be bare stays so."""
    session = window.session
    session.document.open(line_edits.bare_of(small_loop), None)
    window.show_stage(3)
    printing = window.flip.printing
    for bare in (False, True):
        printing.print_what((), bare=bare)
        qtbot.waitUntil(lambda n=bare: len(window.flip.flips()) == n + 1, timeout=60_000)
    (treat, _id) = line_edits.insert_treatments(session.loop, None, small_loop.line)
    session.apply("treatments", lambda _loop: treat)
    document = session.document.history.now
    assert [one.recipe.bare for one in document.prints] == [False, True]
    for flip, has in zip(window.flip.flips(), (True, False), strict=True):
        window.flip._layer_id = flip.id
        with qtbot.waitSignal(session.told, timeout=60_000):
            printing.reprint()
        (now,) = (x for x in session.document.history.now.prints if x.id == flip.flipped.print_id)
        printed_of = recipe_of(session.document.history.now, now.id)[1]
        assert bool(printed_of.line) == has


def test_prints_of_an_earlier_program_are_bare_where_they_have_no_treatment(small_loop):
    bare = line_edits.bare_of(small_loop)
    document = with_print(Document(loop=bare), bare, "0" * 24, FACTS, (), 0.0)
    document = with_print(document, small_loop, "1" * 24, FACTS, (), 0.0)
    assert [x.recipe.bare for x in with_guessed_bare(document).prints] == [True, False]
