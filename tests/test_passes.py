"""Prints in passes, with layers in and out; labels; flips that are longer than their loop."""

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.stages.flip.passes import PassesSheet
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.arranging.passes import (
    check_passes,
    in_pass,
    pass_name,
    passers,
    passes_in,
)
from cloudrift.loop.edits.flip import cutting, flips, ordering
from cloudrift.loop.edits.flip.apart import own_loop
from cloudrift.loop.edits.flip.prints import loop_to_print, with_print
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import load_document, save
from cloudrift.loop.model.document import Document, Pass, Recipe
from cloudrift.loop.model.flip import Label
from cloudrift.loop.sounding import heard
from cloudrift.render import Engine
from cloudrift.render.forms.printing import going, printed
from cloudrift.texture.catalogue import KINDS
from tests.conftest import make_small_loop
from tests.hands import settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

BAR = 3840
NONE = frozenset()


def db(audio):
    return 20 * np.log10(np.abs(audio).max() + 1e-9)


def in_passes(engine, loop, outs):
    return engine.audio(going(loop, outs, engine.tones))


def without_lines(loop):
    return replace(loop, line=(), layers=tuple(replace(x, line=()) for x in loop.layers))


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


@pytest.fixture(scope="module")
def long_one():
    """A document whose print goes round twice: with all, and without the first layer."""
    clips = ClipStore()
    loop = loop_to_print(make_small_loop())
    passes = (Pass(name="All"), Pass(name="Thin", out=(loop.layers[0].id,)))
    got = printed(loop, "Print 1", clips, passes=passes)
    return with_print(Document(loop=loop), loop, *got[:2], (), got.gain_db, passes), clips


# --- the sound ------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_with_all_in_each_pass_is_the_loop_going_round(engine, kind):
    loop = line_edits.add_treatment(without_lines(make_small_loop()), None, kind)
    steady = engine.render(loop).audio
    both = in_passes(engine, loop, [NONE, NONE])
    assert db(both - np.tile(steady, 2)) < db(steady) - 80


def test_what_is_out_strikes_nothing_and_what_it_has_played_rings_on(engine):
    loop = make_small_loop()
    pad = loop.layers[0].id
    dry = without_lines(replace(loop, layers=loop.layers[:1], groups=()))
    n = dry.frames
    ringing = line_edits.add_treatment(dry, pad, "hall")
    behind = []
    for of in (dry, ringing):
        out = in_passes(engine, of, [NONE, frozenset({pad})])
        once = engine.once(of)
        assert db(out[:, : n // 2] - once[:, : n // 2]) < -60  # nothing was before the silent pass
        assert db(out[:, -n // 4 :]) < -60
        behind.append(db(out[:, n + n // 8 : n + n // 4]))
        rings = once[:, n:][:, : n // 2]
        assert db(out[:, n : n + rings.shape[1]] - rings) < -60
    assert behind[1] > behind[0] + 6


def test_a_group_is_left_out_as_one_and_passes_join_without_a_step(engine):
    loop = make_small_loop()
    ids = [x.id for x in loop.layers[:2]]
    loop = layer_edits.group_layers(loop, ids, "Both")
    made = loop.groups[0].id
    n = loop.frames
    out = in_passes(engine, loop, [NONE, frozenset({made})])
    each = in_passes(engine, loop, [NONE, frozenset(ids)])
    assert db(out - each) < -100
    bend = np.abs(np.diff(out, 2, axis=1)).max(0)
    for seam in (n - 1, 2 * n - 2):
        near = bend[max(0, seam - 2) : seam + 3].max()
        assert near <= 1.5 * max(np.abs(np.diff(engine.render(loop).audio, 2, axis=1)).max(), 1e-4)


def test_the_whole_backward_turns_each_pass_round_in_its_place(engine):
    loop = line_edits.add_treatment(without_lines(make_small_loop()), None, "reverse")
    loop = line_edits.set_treatment_setting(loop, None, loop.line[-1].id, "what", "whole")
    n, every = loop.frames, frozenset(x.id for x in loop.layers)
    out = in_passes(engine, loop, [NONE, every])
    forward = in_passes(engine, replace(loop, line=()), [NONE, every])
    assert db(out[:, :n] - forward[:, :n][:, ::-1]) < -90


# --- the print ------------------------------------------------------------------------------------


def test_a_print_in_passes_is_as_long_has_its_labels_and_the_chords_of_each(long_one, tmp_path):
    document, clips = long_one
    flip, loop = document.loop.layers[-1].flipped, document.recipes[0].loop
    assert flip.length_ticks == 2 * loop.ticks == flip.long_ticks
    assert flip.labels == (Label(at_tick=0, name="All"), Label(at_tick=loop.ticks, name="Thin"))
    assert [c.voices for c in flip.chords] == 2 * [c.voices for c in flip.chords[:2]]
    assert [c.start_tick for c in flip.chords[2:]] == [c.start_tick + loop.ticks
                                                      for c in flip.chords[:2]]  # fmt: skip
    assert abs(flip.of.facts.length_s - 2 * loop.sounding_frames / loop.rate) < 1e-3
    assert document.prints[0].recipe.passes[1].out == (loop.layers[0].id,)
    path = tmp_path / "long.cloudrift"
    save(document, path, clips)
    assert load_document(path, ClipStore()) == document


def test_in_its_loop_the_first_of_it_is_heard_and_all_of_it_alone_or_on_its_own(long_one):
    document, clips = long_one
    loop, layer = document.loop, document.loop.layers[-1]
    print_audio, _rate = clips.read(document.prints[0].clip)
    alone = flips.soloed(loop, layer.id)
    own = own_loop(loop, layer.id)
    assert (alone.bars, own.bars) == (4, 4) and len(own.chords) == 4
    engine = Engine(clips=clips)
    try:
        gain = 10 ** (layer.flipped.of.gain_db / 20)
        for long in (alone, own):
            assert db(engine.render(long).audio - gain * print_audio) < -90
        used = flips.soloed(flips.use(loop, layer.id), layer.id)
        assert used.bars == 2
        heard, n = engine.render(used).audio, used.frames
        assert heard.shape[1] == n
        soft = int(0.02 * used.rate)  # where it is cut off, it fades into its own start
        assert db(heard[:, soft : n - soft] - gain * print_audio[:, soft : n - soft]) < -90
        assert db(heard[:, -1] - gain * print_audio[:, n]) < -10
    finally:
        engine.close()


def test_passes_say_what_is_in_them_and_are_refused_where_they_can_not_be():
    loop = make_small_loop()
    names = [x.name for x in loop.layers]
    ids = [x.id for x in loop.layers]
    assert pass_name(loop, ()) == "All"
    assert pass_name(loop, tuple(ids[:1])) == f"Without {names[0]}"
    assert pass_name(loop, tuple(ids[1:])) == f"Only {names[0]}"
    assert pass_name(loop, tuple(ids)) == "Silence"
    assert not in_pass(loop, Pass(name="x", out=tuple(ids))).heard()
    grouped = layer_edits.group_layers(loop, ids[:2], "Both")
    made = grouped.groups[0].id
    assert [one.id for one in passers(grouped)] == [*ids[2:], made]
    assert passes_in(grouped, (Pass(name="x", out=(ids[0], ids[3])),))[0].out == (ids[3],)
    with pytest.raises(CloudriftError, match="33 passes can't be printed; use at most 32"):
        check_passes(loop, 33 * (Pass(name="x"),))
    with pytest.raises(
        CloudriftError, match=r"5 passes of 16 bars are 80 bars.* use at most 4 passes"
    ):
        check_passes(loop_edits.set_bars(loop, 16), 5 * (Pass(name="x"),))
    with pytest.raises(CloudriftError, match="nothing plays in any pass"):
        check_passes(loop, (Pass(name="x", out=tuple(ids)),))
    with pytest.raises(CloudriftError, match="number of passes"):
        Recipe(loop="x", passes=33 * (Pass(name="x"),))


# --- labels and length ----------------------------------------------------------------------------


def test_labels_are_given_taken_away_and_cut_at(long_one):
    flip = long_one[0].loop.layers[-1].flipped
    more = ordering.labelled(flip, 3 * BAR, "  Last ")
    assert [x.name for x in more.labels] == ["All", "Thin", "Last"]
    assert more.label_at(3 * BAR + 5).name == "Last" and more.label_at(0).name == "All"
    assert ordering.labelled(more, 3 * BAR, " ") == flip
    assert cutting.cuts_at(more, "labels", (4, 4)) == (0, 2 * BAR, 3 * BAR)
    with pytest.raises(CloudriftError, match="it has no labels"):
        cutting.cuts_at(replace(flip, labels=()), "labels", (4, 4))
    with pytest.raises(CloudriftError, match="labels do not rise"):
        replace(flip, labels=flip.labels[::-1]).check("it")
    with pytest.raises(CloudriftError, match="labels do not rise"):
        ordering.labelled(flip, flip.length_ticks, "behind").check("it")


@pytest.mark.parametrize("fit", ["tempo", "tape"])
def test_over_twice_as_many_bars_it_is_twice_as_slow_and_all_goes_along(long_one, fit):
    document, clips = long_one
    layer = document.loop.layers[-1]
    flip = replace(layer.flipped, of=replace(layer.flipped.of, fit=fit))
    twice = ordering.in_bars(flip, 8, (4, 4))
    assert twice.length_ticks == 8 * BAR and twice.longer == 2
    assert twice.cuts == tuple(2 * cut for cut in flip.cuts)
    assert [p.at_tick for p in twice.places] == [2 * p.at_tick for p in flip.places]
    assert twice.labels[1].at_tick == 2 * flip.labels[1].at_tick
    assert twice.chords[1].length_ticks == 2 * flip.chords[1].length_ticks
    assert ordering.in_bars(twice, 4, (4, 4)) == flip
    loop = document.loop.with_owner(layer.id, source=twice)
    was, is_now = (heard(flips.heard_with(one, layer.id)) for one in (document.loop, loop))
    assert is_now.chords[0].voices == tuple(
        voice - 12 * (fit == "tape") for voice in was.chords[0].voices
    )
    assert own_loop(loop, layer.id).bars == 8
    engine = Engine(clips=clips)
    try:
        slow = engine.render(flips.soloed(loop, layer.id)).audio
        as_it_is = engine.render(flips.soloed(document.loop, layer.id)).audio
    finally:
        engine.close()
    assert slow.shape[1] == 2 * as_it_is.shape[1]
    # What is loud in a quarter of the one is so in the same quarter of the other.
    loud = [[np.sqrt((part**2).mean()) for part in np.array_split(one, 8, axis=1)]
            for one in (slow, as_it_is)]  # fmt: skip
    assert np.corrcoef(loud)[0, 1] > 0.95


def test_a_length_that_can_not_be_is_refused_in_words(long_one):
    flip = long_one[0].loop.layers[-1].flipped
    with pytest.raises(CloudriftError, match=r"over 20 bars, .* 5 times as long; 0.25 to 4"):
        ordering.in_bars(flip, 20, (4, 4))
    loose = replace(flip, of=replace(flip.of, fit="as it is"))
    with pytest.raises(CloudriftError, match="does not follow the tempo"):
        ordering.in_bars(loose, 8, (4, 4))


# --- the window -----------------------------------------------------------------------------------


@pytest.fixture
def sheet(qtbot, window):
    window.show_stage(3)
    window.flip.ask_for_passes()
    found = window.flip.findChild(PassesSheet)
    qtbot.waitUntil(found.isVisible)
    yield found
    if not window.flip.findChild(PassesSheet):
        return
    found.reject()


def at(bands, pass_at, row):
    return bands.box(pass_at, row).center().toPoint()


def test_layers_are_pressed_out_of_a_pass_which_is_heard(qtbot, window, sheet):
    session = window.session
    first = session.loop.layers[0]
    qtbot.mouseClick(sheet.bands, Qt.MouseButton.LeftButton, pos=at(sheet.bands, 1, 0))
    assert sheet.passes[1] == Pass(name=f"Without {first.name}", out=(first.id,))
    assert first.id not in [x.id for x in session.hearing.heard_loop.heard()]
    assert session.hearing.preview_words == f"pass 2, Without {first.name}"
    assert "Without" in sheet.bands.accessibleName() and "off" in sheet.bands.accessibleName()
    sheet.bands.setFocus()
    QTest.keyClick(sheet.bands, Qt.Key.Key_Down)
    QTest.keyClick(sheet.bands, Qt.Key.Key_Space)
    assert len(sheet.passes[1].out) == 2 and not session.player.playing
    QTest.keyClick(sheet.bands, Qt.Key.Key_Left)
    assert first.id in [x.id for x in session.hearing.heard_loop.heard()]
    qtbot.mouseClick(sheet.bands, Qt.MouseButton.LeftButton, pos=QPoint(4, 40))  # a name: nothing
    assert sheet.passes[0].out == ()
    sheet.reject()
    assert not session.hearing.previewing and session.document.history.at == 0


def test_passes_are_added_named_taken_out_and_laid(qtbot, window, sheet):
    ids = [x.id for x in window.session.loop.layers]
    sheet.name.selectAll()
    QTest.keyClicks(sheet.name, "Opening")
    sheet.more.click()
    assert [x.name for x in sheet.passes] == ["Opening", "Opening", "All"]
    assert sheet.bands.pass_at == 1
    qtbot.mouseClick(sheet.bands, Qt.MouseButton.LeftButton, pos=at(sheet.bands, 1, 2))
    assert sheet.passes[1] == Pass(name="Opening", out=(ids[2],))  # its name was typed
    sheet.fewer.click()
    sheet.fewer.click()
    sheet.fewer.click()
    assert len(sheet.passes) == 1 and not sheet.fewer.isEnabled()
    sheet.build.click()
    assert [len(x.out) for x in sheet.passes] == [3, 2, 1, 0]
    assert sheet.words.text().startswith("4 passes, 8 bars, 13.7 s")
    sheet.rest.click()
    assert [len(x.out) for x in sheet.passes] == [0, 0, 3, 0]
    for _ in range(30):
        sheet.more.click()
    assert "use at most 32" in sheet.words.text() or "32 at most" in sheet.words.text()
    assert not sheet.print.isEnabled()


def test_the_print_of_passes_is_long_labelled_and_reprinted_in_passes(qtbot, window, sheet):
    session, stage = window.session, window.flip
    qtbot.mouseClick(sheet.bands, Qt.MouseButton.LeftButton, pos=at(sheet.bands, 1, 0))
    sheet.print.click()
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    settled(qtbot, session)
    flip = stage.layer.flipped
    assert stage.layer.name == "Print 1, 2 passes"
    assert flip.length_ticks == 2 * session.loop.ticks
    assert session.hearing.shown.bars == 4 and "4 bars" in stage.result.under.text()
    assert [name for _a, _b, name in stage.threads.model.spans()] == [x.name for x in flip.labels]
    stage.cuts.button("labels").click()
    assert stage.layer.flipped.cuts == (0, session.loop.ticks)
    before = stage.layer.flipped.of.clip
    session.apply("x", lambda loop: loop_edits.set_tempo(loop, 120.0))
    stage.again.click()
    qtbot.waitUntil(lambda: stage.layer.flipped.of.clip != before, timeout=60_000)
    again = session.document.history.now.prints[0]
    assert again.recipe.passes == tuple(sheet.passes)
    facts = stage.layer.flipped.of.facts
    assert facts.tempo == 120 and abs(facts.length_s - 16 * 60 / 120) < 1e-3
    stage.ask_for_passes()  # begins with those of the print
    assert window.flip.findChildren(PassesSheet)[-1].passes == list(again.recipe.passes)
    window.flip.findChildren(PassesSheet)[-1].reject()


def test_in_the_loop_what_lies_behind_it_is_veiled_and_the_playhead_stays_in_the_loop(
    qtbot, window, sheet
):
    session, stage = window.session, window.flip
    sheet.print.click()
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    settled(qtbot, session)
    threads = stage.threads
    assert threads.model.heard > threads.model.axis.ticks
    stage.result.use_it()
    settled(qtbot, session)
    assert threads.model.heard == session.loop.ticks
    assert "the first 2 bars among the layers" in stage.result.under.text()
    stage.show_place(0.5)
    assert threads._x_of(0.5) == threads.model.axis.at_x(session.loop.ticks / 2)
    box = threads._box(2 * BAR, 4 * BAR, above=False)
    image = threads.grab().toImage()
    veiled = image.pixelColor(int(box.left() + 3), int(box.center().y()))
    clear = image.pixelColor(int(threads._box(0, BAR, above=False).left() + 12),
                             int(box.center().y()))  # fmt: skip
    assert veiled.lightness() > clear.lightness()


def test_a_span_is_labelled_from_the_chosen_piece_and_the_result_laid_over_other_bars(
    qtbot, window, monkeypatch
):
    from cloudrift.desktop.stages.flip import stage as room

    session = window.session
    window.show_stage(3)
    stage = window.flip
    stage.printing.print_what(())
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    settled(qtbot, session)
    monkeypatch.setattr(room, "ask_for_label", lambda _parent, was: (f"Swell{was}", True))
    stage.threads.choose(1)
    stage.hands["Label"].click()
    start = stage.layer.flipped.places[1].from_tick
    assert stage.layer.flipped.labels == (Label(at_tick=start, name="Swell"),)
    monkeypatch.setattr(room, "ask_for_label", lambda _parent, was: ("", was == "Swell"))
    stage.hands["Label"].click()
    assert stage.layer.flipped.labels == ()
    field, before, step = stage.result.whole["bars"], stage.layer.flipped, session.document.history
    assert field.value == 2
    for bars in (3, 4, 8):  # one drag
        field.edited.emit(float(bars))
    field.settled.emit()
    assert stage.layer.flipped.length_ticks == 8 * BAR
    assert session.document.history.at == step.at + 1
    assert "8 bars" in stage.result.under.text() and "stretched 4 times: audible" in (
        stage.result.under.text())  # fmt: skip
    field.edited.emit(2.0)
    assert stage.layer.flipped == before


@pytest.mark.parametrize(("name", "value", "says"), [
    ("semitones", 12.0, "stretched 2 times: audible, clean from 0.75 to 1.35; like tape"),
    ("semitones", -12.0, "stretched 0.5 times: audible"),
    ("semitones", 5.0, ""),
    ("step_st", 3.0, ""),
])  # fmt: skip
def test_a_piece_that_is_stretched_too_far_says_so(qtbot, window, name, value, says):
    window.show_stage(3)
    stage = window.flip
    stage.printing.print_what(())
    qtbot.waitUntil(lambda: bool(stage.flips()), timeout=60_000)
    stage.result.piece[name].edited.emit(value)
    assert stage.result.piece_says.text().startswith(says)
    assert bool(stage.result.piece_says.text()) == bool(says)
    if name == "step_st":  # each strike is higher than the one before
        stage.result.piece["times"].edited.emit(3.0)
        assert "stretched 1.41 times" in stage.result.piece_says.text()
    stage.result.piece["tape"].edited.emit("like tape")
    assert stage.result.piece_says.text() == ""
