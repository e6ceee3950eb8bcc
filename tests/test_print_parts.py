"""The layers inside a print: off, alone, louder, less treated; cuts and places stay as they are."""

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.deliver.rights import rights_of
from cloudrift.desktop.session.work import printing as printing_room
from cloudrift.desktop.session.work.printing import PREPARING
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.flip import cutting, flipping, flips
from cloudrift.loop.edits.flip.prints import (
    can_be_remade,
    loop_to_print,
    part_words,
    recipe_of,
    soloed_parts,
    with_part,
    with_print,
)
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document, Pass, PrintedPart, in_parts
from cloudrift.loop.model.layer import louder
from cloudrift.loop.sounding import heard
from cloudrift.notes.note import Note
from cloudrift.render import Engine
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.forms.print_ahead import Span, prepare, reprinted_there, spans_in
from cloudrift.render.forms.printing import printed, reprinted, with_reprints
from cloudrift.render.plan.node import steps
from cloudrift.render.plan.plan import heard_node
from cloudrift.texture.ride import Ride, RidePoint
from tests.conftest import fresh_engine, make_small_loop, rms, treated
from tests.hands import settled

pytestmark = pytest.mark.usefixtures("remembering")


def small():
    """Two layers without a line of the whole loop: their prints add up."""
    loop = make_small_loop()
    return replace(loop, line=(), layers=loop.layers[:2])


def document_of(loop, clips, passes=()):
    """A document with a print of its loop that is cut at beats, out of order, and used."""
    made = loop_to_print(loop)
    got = printed(made, "Print", clips, passes=passes)
    document = with_print(Document(loop=loop), made, *got[:2], (), got.gain_db, passes)
    flip = document.loop.layers[-1].id

    def edit(flipped):
        cut = cutting.cut(flipped, cutting.cuts_at(flipped, "beats", loop.metre, 8))
        return flipping.swap(flipping.swap_backward(cut, 1), 2, 5)

    return document.with_loop(flips.use(flips.with_flip(document.loop, flip, edit), flip))


@pytest.fixture(scope="module")
def made():
    clips = ClipStore()
    return document_of(small(), clips), clips


def remade(document, clips, *parts):
    """The document with its print made again with its layers otherwise."""
    old, loop = recipe_of(document, "p1")
    got = reprinted(document, "p1", loop, old.recipe.passes, clips, parts=parts)
    return with_reprints(document, got)


def sound_of(document, clips):
    """The print's sound, (2, frames), as loud as it was."""
    one = document.prints[0]
    return clips.read(one.clip)[0] * 10 ** (one.gain_db / 20)


# --- the print ------------------------------------------------------------------------------------


def test_without_one_layer_and_with_it_alone_are_all_of_it(made):
    document, clips = made
    one, other = (x.id for x in recipe_of(document, "p1")[1].heard())
    off = sound_of(remade(document, clips, PrintedPart(id=one, on=False)), clips)
    alone = sound_of(remade(document, clips, PrintedPart(id=other, on=False)), clips)
    assert np.abs(off + alone - sound_of(document, clips)).max() < 1e-4
    assert np.abs(off).max() > 0.01 < np.abs(alone).max()


def test_a_level_is_that_many_dB(made):
    document, clips = made
    one, other = (x.id for x in recipe_of(document, "p1")[1].heard())
    alone = remade(document, clips, PrintedPart(id=other, on=False))
    softer = remade(
        document, clips, PrintedPart(id=other, on=False), PrintedPart(id=one, level_db=-6.0)
    )
    ratio = np.abs(sound_of(softer, clips)).max() / np.abs(sound_of(alone, clips)).max()
    assert 20 * np.log10(ratio) == pytest.approx(-6.0, abs=0.05)


def test_cuts_places_and_names_stay_as_they_are(made):
    document, clips = made
    one = recipe_of(document, "p1")[1].layers[0].id
    before = document.loop.layers[-1]
    after = remade(document, clips, PrintedPart(id=one, level_db=-9.0)).loop.layers[-1]
    assert after.flipped.places == before.flipped.places
    assert after.flipped.cuts == before.flipped.cuts and after.name == before.name
    assert after.flipped.of.clip != before.flipped.of.clip
    assert after.flipped.of.facts.name == before.flipped.of.facts.name


def test_where_the_layer_does_not_sound_nothing_changes_bit_for_bit():
    loop, clips = small(), ClipStore()
    loop = layer_edits.add_note_layer(loop)
    first = loop.layers[-1]
    loop = layer_edits.set_sound(loop, first.id, "muted pluck")
    note = Note(start_tick=loop.ticks // loop.bars, length_ticks=480, pitch=66, velocity=90)
    loop, _id = own_notes.add_note(loop, first.id, note)  # at the start of the second bar
    document = document_of(loop, clips)
    softer = remade(document, clips, PrintedPart(id=first.id, level_db=-12.0))
    a, b = (clips.read(one.prints[0].clip)[0] for one in (document, softer))
    assert document.prints[0].gain_db == softer.prints[0].gain_db == 0
    changed = np.flatnonzero(np.abs(a - b).max(0) > 0)
    assert len(changed) > 1000
    bar = a.shape[1] // loop.bars
    quiet = (changed > bar // 2) & (changed < bar)  # what rings round the seam is before that
    assert not quiet.any()


def test_a_bypassed_treatment_is_as_if_it_were_off():
    loop, clips = small(), ClipStore()
    loop = line_edits.add_treatment(loop, loop.layers[0].id, "overdrive")
    loop = line_edits.add_treatment(loop, None, "hall")
    document = document_of(loop, clips)
    layer, whole = loop.layers[0], loop.line[-1]
    parts = (
        PrintedPart(id=layer.id, bypassed=(layer.line[-1].id,)),
        PrintedPart(id="", bypassed=(whole.id,)),
    )
    bare = line_edits.remove_treatment(loop, layer.id, layer.line[-1].id)
    bare = line_edits.remove_treatment(bare, None, whole.id)
    wanted = printed(loop_to_print(bare), "Print", clips)
    assert remade(document, clips, *parts).prints[0].clip == wanted.clip


def test_what_is_off_in_a_print_sounds_no_more_in_its_score_and_is_no_more_on_its_sheet(made):
    document, clips = made
    recipe = recipe_of(document, "p1")[1]
    one = recipe.layers[0]
    less = remade(document, clips, PrintedPart(id=one.id, on=False))
    flip = less.loop.layers[-1]
    alone = flips.heard_with(less.loop, flip.id)
    assert one.name not in flip.flipped.of.facts.score.voices
    assert one.name in document.loop.layers[-1].flipped.of.facts.score.voices
    assert heard(alone).layers
    only_flip = [replace(x, mute=x.id != flip.id) for x in less.loop.layers]
    names = [
        {y.name for y in rights_of(d.with_loop(replace(d.loop, layers=tuple(only_flip)))).entries}
        for d in (document, less)
    ]
    assert names[1] < names[0]


def test_all_layers_off_is_refused_and_nothing_is_lost(made):
    document, clips = made
    parts = [PrintedPart(id=x.id, on=False) for x in recipe_of(document, "p1")[1].heard()]
    with pytest.raises(CloudriftError, match="nothing to print"):
        remade(document, clips, *parts)


def test_passes_stay_when_a_layer_is_turned_down():
    loop, clips = small(), ClipStore()
    one = loop.layers[0].id
    passes = (Pass(name="Both"), Pass(name="Second", out=(one,)))
    document = document_of(loop, clips, passes)
    less = remade(document, clips, PrintedPart(id=one, on=False))
    assert less.prints[0].recipe.passes == passes
    halves = np.split(sound_of(less, clips), 2, axis=1)
    assert np.abs(halves[0] - halves[1]).max() < 1e-4  # nothing is left that differs


def test_a_print_of_a_print_follows_with_its_own_parts(made):
    document, clips = made
    loop = document.loop
    again = loop_to_print(loop)
    got = printed(again, "Print 2", clips)
    two = with_print(document, again, *got[:2], (), got.gain_db)
    other = recipe_of(two, "p2")[1].layers[1].id
    old, of = recipe_of(two, "p2")
    part = PrintedPart(id=other, level_db=-6.0)
    two = with_reprints(two, reprinted(two, "p2", of, old.recipe.passes, clips, parts=(part,)))
    one = recipe_of(two, "p1")[1].layers[0].id
    after = remade(two, clips, PrintedPart(id=one, on=False))
    assert after.prints[1].recipe.parts == (part,)
    assert after.prints[1].clip != two.prints[1].clip
    assert recipe_of(after, "p2")[1].layers[-1].flipped.of.clip == after.prints[0].clip


def test_a_file_keeps_in_what_a_print_differs(made, tmp_path):
    document, clips = made
    one = recipe_of(document, "p1")[1].layers[0].id
    after = remade(document, clips, PrintedPart(id=one, level_db=-3.0, bypassed=("t9",)))
    save(after, tmp_path / "x.cloudrift", clips)
    assert load_document(tmp_path / "x.cloudrift", ClipStore()) == after


def test_a_level_that_rides_goes_along_and_stays_in_reach():
    layer = small().layers[0]
    ride = Ride(of="level_db", points=(RidePoint(tick=0, value=-3), RidePoint(tick=960, value=10)))
    changes = louder(replace(layer, level_ride=ride), 6.0)
    assert [x.value for x in changes["level_ride"].points] == [3.0, 12.0]
    with fresh_engine() as engine:
        loop = replace(small(), layers=(replace(layer, level_ride=ride),))
        part = PrintedPart(id=layer.id, level_db=-6.0)
        was, now = (engine.render(x).audio for x in (loop, in_parts(loop, (part,))))
    assert 20 * np.log10(np.abs(now).max() / np.abs(was).max()) == pytest.approx(-6, abs=0.1)


def test_words_say_in_what_it_differs_and_a_recipe_that_is_gone_is_said(made):
    document, _clips = made
    old, loop = recipe_of(document, "p1")
    one, other = loop.layers[:2]
    assert part_words(loop, PrintedPart(id=one.id, on=False)) == f"{one.name} off"
    assert part_words(loop, PrintedPart(id=other.id, level_db=-3.0)) == f"{other.name} −3 dB"
    assert part_words(loop, PrintedPart(id="l99", on=False)) == ""
    assert with_part(old.recipe, PrintedPart(id=one.id)) == ()
    alone = soloed_parts(old.recipe, loop, frozenset({one.id}))
    assert alone == (PrintedPart(id=other.id, on=False),)
    assert can_be_remade(document, "p1") == ""
    assert "gone" in can_be_remade(document, "p9")
    strange = replace(loop, line=(*loop.line, _strange()))
    recipes = tuple(replace(one, loop=strange) for one in document.recipes)
    assert "newer program" in can_be_remade(replace(document, recipes=recipes), "p1")


def _strange():
    from cloudrift.texture.treatment import Treatment

    return Treatment(id="t77", kind="of tomorrow", version=3)


# --- what its flip is about to play ---------------------------------------------------------------


def flip_of(document):
    return document.loop.layers[-1].flipped


def test_what_plays_next_of_a_print_is_found_wherever_it_is_placed(made):
    document, _clips = made
    flip, ticks = flip_of(document), document.loop.ticks
    unit = flip.length_ticks

    def spans(first, last, **changes):
        places = [replace(x, **changes) for x in flip.places] if changes else flip.places
        found = spans_in(replace(flip, places=tuple(places)), first, last, ticks)
        return [(round(a * unit), round(b * unit)) for a, b in found]

    one, two = flip.places[0], flip.places[1]
    assert not one.backward and two.backward
    into, end = one.at_tick + 60, two.at_tick + 100
    assert spans(into, one.end_tick) == [(one.from_tick + 60, one.end_from)]
    assert spans(into, end) == [
        (one.from_tick + 60, one.end_from),
        (two.end_from - 100, two.end_from),
    ]
    assert spans(into, end, mute=True) == []
    # What is struck again, or moved in pitch, may want any of its span.
    assert spans(into, into + 10, times=2) == [(one.from_tick, one.end_from)]
    later = replace(flip, of=replace(flip.of, at_tick=480))
    assert not spans_in(later, 0, 480, ticks)
    assert spans_in(later, 480, 481, ticks)[0].start == one.from_tick / unit
    last = flip.places[-1]
    round_ = spans(last.end_tick - 50, ticks + 30)
    assert round_ == [(last.end_from - 50, last.end_from), (one.from_tick, one.from_tick + 30)]


@pytest.mark.parametrize("kind", ["", "overdrive", "shift"])
def test_what_is_about_to_play_is_as_the_print_will_be_and_the_rest_as_it_was(kind):
    loop, clips = small(), ClipStore()
    loop = treated(loop, None, kind) if kind else loop
    loop = treated(loop, None, "cuts", high_cut_hz=4000.0)
    document = document_of(loop, clips)
    part = PrintedPart(id=loop.layers[0].id, level_db=-9.0)
    _old, of = recipe_of(document, "p1")
    spans = [Span(0.2, 0.3), Span(0.28, 0.33), Span(0.95, 1.0), Span(0.0, 0.02)]
    with fresh_engine(clips=clips) as engine:
        assert reprinted_there(document, "p1", of, (), (part,), spans, engine) == ([], 0.0)
        prepare(engine, of, ())
        too_much = [Span(0.0, 0.6)]
        assert reprinted_there(document, "p1", of, (), (part,), too_much, engine) == ([], 0.0)
        (there,), whole_s = reprinted_there(document, "p1", of, (), (part,), spans, engine)
    assert whole_s > 0
    was, now = sound_of(document, clips), sound_of(remade(document, clips, part), clips)
    got = sound_of(with_reprints(document, [there]), clips)
    n, margin = was.shape[1], int(0.08 * loop.rate)
    new, old = np.zeros(n, bool), np.ones(n, bool)
    for a, b in ((0.2, 0.33), (0.95, 1.02)):
        places = np.arange(int(a * n), int(b * n))
        new[places % n] = True
        old[np.arange(int(a * n) - margin, int(b * n) + margin) % n] = False
    rounding = 3 * 2.0**-23 * 10 ** (max(x.gain_db for x in (document.prints[0], there.made)) / 20)
    assert np.abs(got - was)[:, old].max() <= rounding
    if kind == "shift":  # its phases are others wherever it begins
        assert rms(got[:, new]) == pytest.approx(rms(now[:, new]), rel=0.05)
        assert rms(was[:, new]) > 1.2 * rms(now[:, new])
    else:
        assert rms((got - now)[:, new]) < 0.01 * rms((now - was)[:, new])
    assert flip_of(with_reprints(document, [there])).places == flip_of(document).places


def test_what_a_print_is_made_of_is_at_hand_whoever_made_it_and_whatever_is_played(made):
    document, clips = made
    _old, of = recipe_of(document, "p1")
    part = PrintedPart(id=of.layers[0].id, level_db=-9.0)
    with fresh_engine(clips=clips, cache=AudioCache(spare_bytes=0)) as engine:
        engine.render(of, name="treated")  # the whole is known
        aside = Engine(beside=engine)
        prepare(aside, of, ())
        engine.cache.hold("treated", ())  # something else is played
        assert all(engine.cache.get(x.key) is not None for x in steps(heard_node(of, aside.tones)))
        found = reprinted_there(document, "p1", of, (), (part,), [Span(0.2, 0.3)], aside)
        assert found[0]
        aside.close()


def test_an_engine_beside_another_shares_what_is_known_and_leaves_it_when_it_ends():
    loop = small()
    with fresh_engine() as engine:
        rendered = engine.render(loop)
        aside = Engine(beside=engine)
        node = heard_node(loop, aside.tones)
        assert aside.audio(node) is rendered.audio
        assert aside.latest_at(node.place, loop.sounding_frames) is None  # it has run nothing
        quiet = replace(loop, layers=(louder_layer(loop.layers[0], -6.0), *loop.layers[1:]))
        aside.audio(heard_node(quiet, aside.tones))
        assert engine.latest_at(node.place, loop.sounding_frames)[0].key == node.key
        assert aside.close()
        assert engine.cache.get(node.key) is rendered.audio


def louder_layer(layer, db):
    return replace(layer, **louder(layer, db))


# --- in the window --------------------------------------------------------------------------------


@pytest.fixture
def parts(qtbot, window, made):
    document, clips = made
    for name in (document.prints[0].clip,):
        audio, rate = clips.read(name)
        window.session.clips.record(audio, rate)
    window.session.document.open(document, None)
    window.choose_stage(3)
    settled(qtbot, window.session)
    found = window.flip.result.parts
    found.open(on=True)
    return found


def followed(qtbot, window, test):
    qtbot.waitUntil(lambda: test(window.session.document.history.now), timeout=60_000)
    qtbot.waitUntil(lambda: not window.flip.stop.isVisible(), timeout=60_000)


def test_a_layer_is_taken_out_of_the_print_by_a_press_and_back_by_undo(qtbot, window, parts):
    session = window.session
    before = session.document.history.now
    one = recipe_of(before, "p1")[1].layers[0]
    assert next(iter(parts.rows)) == one.id and "as printed" in parts.says.text()
    parts.rows[one.id].off.click()
    assert parts.rows[one.id].off.isChecked()  # at once, while it is made
    followed(qtbot, window, lambda d: d.prints[0].recipe.part(one.id).on is False)
    assert f"{one.name} off" in parts.differs.text() and parts.back.isVisible()
    session.document.undo()
    assert session.document.history.now == before
    assert not parts.rows[one.id].off.isChecked() and not parts.differs.isVisible()


def test_solo_level_and_back_to_the_source_loop(qtbot, window, parts):
    one, other = (x.id for x in recipe_of(window.session.document.history.now, "p1")[1].heard())
    parts.rows[one].hear.click()
    followed(qtbot, window, lambda d: not d.prints[0].recipe.part(other).on)
    assert parts.rows[one].hear.isChecked() and parts.rows[other].off.isChecked()
    parts.rows[one].hear.click()
    followed(qtbot, window, lambda d: d.prints[0].recipe.part(other).on)
    parts.rows[other].level.edited.emit(-4.0)
    followed(qtbot, window, lambda d: d.prints[0].recipe.part(other).level_db == -4)
    assert "−4 dB" in parts.differs.text()
    parts.back.click()
    followed(qtbot, window, lambda d: d.prints[0].recipe.parts == ())


def test_what_is_heard_first_is_what_is_printed_to_the_last_bit(qtbot, window, parts, made):
    one = recipe_of(window.session.document.history.now, "p1")[1].layers[0].id
    parts.rows[one].level.edited.emit(-5.0)
    followed(qtbot, window, lambda d: d.prints[0].recipe.part(one).level_db == -5)
    document, clips = made
    wanted = remade(document, clips, PrintedPart(id=one, level_db=-5.0))
    qtbot.waitUntil(
        lambda: window.session.document.history.now.prints[0].clip == wanted.prints[0].clip,
        timeout=60_000,
    )


def test_while_it_plays_what_is_about_to_play_comes_first(qtbot, window, parts, monkeypatch):
    session, put, there = window.session, [], []
    real = printing_room.reprinted_there

    def noted(*given):
        found = real(*given)
        there.extend(one.made.clip for one in found[0])
        return found

    monkeypatch.setattr(printing_room, "reprinted_there", noted)
    qtbot.waitUntil(lambda: not window.tasks.is_running(PREPARING), timeout=60_000)
    one = recipe_of(session.document.history.now, "p1")[1].layers[0].id
    session.transport.set_playing(True)
    session.changed.connect(lambda *_: put.append(session.document.history.now.prints[0].clip))
    before = session.document.history.now
    parts.rows[one].level.edited.emit(-6.0)
    followed(qtbot, window, lambda d: d.prints[0].recipe.part(one).level_db == -6 and len(put) > 1)
    assert len(set(put)) == len(put) >= 2 and put[0] == there[0]  # a part of it, then the whole
    session.document.undo()
    assert session.document.history.now == before  # as one step


def test_what_is_undone_while_the_rest_is_made_stays_undone(qtbot, window, parts):
    session = window.session
    qtbot.waitUntil(lambda: not window.tasks.is_running(PREPARING), timeout=60_000)
    session.transport.set_playing(True)
    before = session.document.history.now
    one = recipe_of(before, "p1")[1].layers[0].id
    with qtbot.waitSignal(session.changed, timeout=60_000):
        parts.rows[one].level.edited.emit(-6.0)
    session.document.undo()
    qtbot.waitUntil(lambda: not window.flip.stop.isVisible(), timeout=60_000)
    assert session.document.history.now == before


def test_what_is_undone_before_it_is_printed_to_the_last_bit_stays_undone(qtbot, window, parts):
    session = window.session
    before = session.document.history.now
    one = recipe_of(before, "p1")[1].layers[0].id
    parts.rows[one].off.click()
    qtbot.waitUntil(
        lambda: not session.document.history.now.prints[0].recipe.part(one).on, timeout=60_000
    )
    session.document.undo()
    window.flip.printing._print_exactly()
    qtbot.waitUntil(lambda: not window.flip.stop.isVisible(), timeout=60_000)
    settled(qtbot, session)
    assert session.document.history.now == before


def test_all_off_is_said_and_the_rows_show_what_is(qtbot, window, parts):
    for row in list(parts.rows.values()):
        row.off.click()
    qtbot.waitUntil(lambda: "nothing to print" in window.message.text(), timeout=60_000)
    qtbot.waitUntil(lambda: not window.flip.stop.isVisible(), timeout=60_000)
    now = window.session.document.history.now.prints[0].recipe
    assert [row.off.isChecked() for row in parts.rows.values()] == [
        not now.part(owner).on for owner in parts.rows
    ]


def test_chords_of_a_flip_follow_what_its_print_is_made_of_now(made):
    document, clips = made
    _old, loop = recipe_of(document, "p1")
    other = replace(
        loop,
        chords=tuple(
            replace(c, voices=tuple(v + 2 for v in c.voices), root=(c.root + 2) % 12)
            for c in loop.chords
        ),
    )
    after = with_reprints(document, reprinted(document, "p1", other, (), clips))
    before, now = (d.loop.layers[-1].flipped.chords for d in (document, after))
    assert [c.root for c in now] == [(c.root + 2) % 12 for c in before]
    assert after.loop.layers[-1].flipped.places == document.loop.layers[-1].flipped.places
