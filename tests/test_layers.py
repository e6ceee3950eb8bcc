"""Layers beyond the lens: groups, two sounds, places where they play, glides of single notes."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QPushButton

from cloudrift.ground import CloudriftError
from cloudrift.ground.words import cut_at_word, free_name, some_of
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.files.storage import load, save
from cloudrift.notes import Lens, Note, look
from cloudrift.notes.lens import KINDS
from cloudrift.render import Engine
from cloudrift.render.play.audition import audition
from cloudrift.theory import Key
from tests.conftest import db, given_notes, main_hz, rms
from tests.test_notes import keys, progressions

BAR = 3840


@pytest.fixture
def engine():
    made = Engine()
    yield made
    made.close()


def alone(loop, *layer_ids):
    return replace(loop, layers=tuple(x for x in loop.layers if x.id in layer_ids), line=())


def test_a_line_on_a_group_is_the_same_line_on_each_of_its_layers(small_loop, engine):
    ids = [layer.id for layer in small_loop.layers[:2]]
    loop = alone(small_loop, *ids)
    loop = replace(loop, layers=tuple(replace(x, line=()) for x in loop.layers))
    grouped = layer_edits.group_layers(loop, ids, "Keys and pad")
    group = grouped.groups[0].id
    plain = engine.render(loop).audio
    assert db(rms(engine.render(grouped).audio - plain) / rms(plain)) < -120
    with_line = line_edits.add_treatment(grouped, group, "cuts")
    cut = with_line.line_of(group)[0].id
    with_line = line_edits.set_treatment_setting(with_line, group, cut, "low_cut_hz", 900.0)
    for one in ids:  # linear: the sum of the cut is the cut of the sum
        loop = line_edits.add_treatment(loop, one, "cuts")
        cut = loop.line_of(one)[0].id
        loop = line_edits.set_treatment_setting(loop, one, cut, "low_cut_hz", 900.0)
    each, shared = engine.render(loop).audio, engine.render(with_line).audio
    assert db(rms(shared - each) / rms(each)) < -80
    assert db(rms(shared) / rms(plain)) < -3
    assert engine.once(with_line).shape[1] >= with_line.frames


def test_groups_empty_out_and_are_named_in_files(small_loop, tmp_path):
    one, other = (layer.id for layer in small_loop.layers[:2])
    loop = layer_edits.group_layers(small_loop, [one, other])
    group = loop.groups[0].id
    assert loop.groups[0].name == f"{loop.layers[0].name} and {loop.layers[1].name}"
    loop = layer_edits.set_group(loop, group, name="Both")
    path = tmp_path / "g.cloudrift"
    save(loop, path)
    assert load(path) == loop
    loop = layer_edits.put_in_group(loop, one, "")
    assert [x.group for x in loop.layers[:2]] == ["", group]
    assert layer_edits.remove_layer(loop, other).groups == ()
    with pytest.raises(CloudriftError, match="group g9, which does not exist"):
        layer_edits.set_layer(loop, one, group="g9")
    with pytest.raises(CloudriftError, match="at least one layer"):
        layer_edits.group_layers(loop, [])


def test_two_sounds_take_turns_by_the_bar(small_loop, engine):
    pad = small_loop.layers[0].id
    loop = line_edits.set_line(alone(small_loop, pad), pad, ())
    loop = layer_edits.set_lens(loop, pad, kind="arpeggio")
    loop = layer_edits.set_aside(loop, pad, "kalimba")
    first = engine.render(loop).audio
    turns = engine.render(layer_edits.take_turns(loop, pad, 1)).audio
    second = engine.render(layer_edits.swap_sounds(loop, pad)).audio
    half, late = loop.frames // 2, loop.frames * 3 // 4
    # In its own bar, behind what rings over from the other's, each is heard alone.
    near = slice(half - 20_000, half)
    assert db(rms(turns[:, near] - first[:, near]) / rms(first[:, near])) < -20
    near = slice(late, loop.frames)
    assert db(rms(turns[:, near] - second[:, near]) / rms(second[:, near])) < -20
    assert layer_edits.swap_sounds(layer_edits.swap_sounds(loop, pad), pad) == loop
    with pytest.raises(CloudriftError, match="has no second sound"):
        layer_edits.take_turns(small_loop, pad, 1)


@given(
    progressions(), st.sampled_from(KINDS), keys,
    st.lists(st.integers(0, 40), min_size=2, max_size=6, unique=True),
    st.lists(st.integers(0, 5), max_size=3, unique=True),
)  # fmt: skip
def test_a_lens_plays_in_its_places_and_late_where_told(spans, kind, key, ends, late):
    ends = sorted(ends)[: len(ends) // 2 * 2]
    where = tuple((480 * a, 480 * b) for a, b in zip(ends[::2], ends[1::2], strict=True))
    lens = Lens(kind=kind, where=where, late_bars=tuple(late), late_ticks=480)
    notes = look(lens, spans, key, BAR)
    end = spans[-1].start_tick + spans[-1].length_ticks
    whole = {n.pitch for n in look(Lens(kind=kind), spans, key, BAR)}
    for note in notes:
        assert any(a <= note.start_tick < note.end_tick <= b for a, b in where)
        assert note.end_tick <= end
        assert note.pitch in whole
        bar, into = divmod(note.start_tick, BAR)
        assert bar not in late or into >= 480


def test_a_lens_says_where_its_places_are_wrong():
    with pytest.raises(CloudriftError, match="stretch from tick 480 to 480"):
        Lens(where=((480, 480),))
    assert Lens(where=((0, 960),), late_bars=(1, 3)).text.endswith("in places, starts 2 bars late")


def test_own_notes_go_along_with_key_and_length(small_loop):
    layer = small_loop.layers[0].id
    loop = own_notes.detach(small_loop, layer)
    there = loop_edits.set_key(loop_edits.set_key(loop, Key("A", "minor")), loop.key)
    assert there == loop
    up = loop_edits.shift_key(loop, 3)
    before, after = loop.layer(layer).own, up.layer(layer).own
    assert [n.pitch + 3 for n in before] == [n.pitch for n in after]
    longer = loop_edits.set_bars(loop, 4)
    assert len(longer.layer(layer).own) == 2 * len(before)
    assert longer.layer(layer).own[-1].start_tick == before[-1].start_tick + 2 * BAR
    assert loop_edits.set_bars(longer, 2) == loop
    assert loop_edits.set_bars(loop, 1).layer(layer).own[-1].end_tick <= BAR


def test_a_wrong_note_in_a_file_is_named(small_loop):
    layer = small_loop.layers[0].id
    bad = Note(start_tick=0, length_ticks=10, pitch=200, id=1)
    with pytest.raises(CloudriftError, match="note 0 has pitch 200"):
        given_notes(small_loop, layer, (bad,))
    late = replace(bad, pitch=60, start_tick=9000)
    with pytest.raises(CloudriftError, match="ends after the loop's end at 7680"):
        given_notes(small_loop, layer, (late,))
    with pytest.raises(CloudriftError, match="each note needs an id"):
        given_notes(small_loop, layer, (replace(late, start_tick=0, id=0),))


@pytest.mark.parametrize("sound", ["round sub", "warm pad"])
def test_a_note_glides_from_the_one_before(small_loop, engine, sound):
    loop = alone(small_loop, small_loop.layers[0].id)
    layer = loop.layers[0].id
    loop = layer_edits.set_sound(line_edits.set_line(loop, layer, ()), layer, sound)
    low = Note(start_tick=0, length_ticks=3840, pitch=45)
    high = Note(start_tick=3840, length_ticks=3840, pitch=57, glide_ms=800.0)
    loop = own_notes.with_own(loop, layer, [low, high])
    audio = engine.render(loop).audio
    at = loop.frames // 2
    early = main_hz(audio[:, at + 3000 : at + 9000], 90, 260)
    late = main_hz(audio[:, at + 44_100 : at + 66_000], 90, 260)
    assert 105 < early < 160  # on the way from 110 Hz
    assert late == pytest.approx(220, rel=0.004)


def test_an_audition_leaves_layers_of_their_own_notes_out_but_a_draft_keeps_them(small_loop):
    layer = small_loop.layers[0].id
    loop = own_notes.detach(small_loop, layer)
    chord = loop.chords[1]
    tried = audition(loop, (chord,))
    assert all(x.follows for x in tried.layers)
    whole = audition(loop, (chord,), whole=True, written=True)
    own = next(x for x in whole.layers if x.id == layer).own
    inside = [n for n in loop.layer(layer).own if chord.start_tick <= n.start_tick < chord.end_tick]
    assert [n.start_tick for n in own] == [n.start_tick - chord.start_tick for n in inside]
    assert np.isfinite(own[0].offset_ms)


def test_groups_of_layers_with_two_sounds_render_beside_each_other(small_loop, engine):
    """Parts of parts of parts: nobody in the pool waits for what nobody is free to do."""
    loop = small_loop
    ids = [layer.id for layer in loop.layers]
    for one in ids:
        loop = layer_edits.take_turns(layer_edits.set_aside(loop, one, "kalimba"), one, 1)
    loop = layer_edits.group_layers(layer_edits.group_layers(loop, ids[:2]), ids[2:])
    assert rms(engine.render(loop).audio) > 0.01


@pytest.mark.parametrize("close", ["esc", "close", "F4", "another"])
def test_closing_a_drawer_keeps_the_layer_that_is_worked_on(qtbot, window, close):
    """What is hidden hands the keyboard on; the first card it comes to is not gone to."""
    window.show_stage(1)
    window.session.select(layer_id="l3")
    window.open_shelf()
    window.shelf.grid.setFocus()
    if close == "esc":
        qtbot.keyClick(window.shelf.grid, Qt.Key.Key_Escape)
    elif close == "F4":
        QTest.keyClick(window, Qt.Key.Key_F4)
    elif close == "close":
        press = next(b for b in window.shelf.findChildren(QPushButton) if b.text() == "Close")
        press.setFocus()
        qtbot.mouseClick(press, Qt.MouseButton.LeftButton)
    else:
        window.open_keys()
        window.keys.leave()
    assert window.session.selection.layer_id == "l3"
    assert window.layers.rows["l3"].hasFocus()


def test_who_tabs_to_a_card_works_on_it_and_what_hides_or_is_off_says_nothing(qtbot, window):
    window.show_stage(1)
    stage, session = window.layers, window.session
    session.select(layer_id="l3")
    stage.rows["l1"].pan.setFocus()
    qtbot.keyClick(stage.rows["l1"].pan, Qt.Key.Key_Tab)
    assert session.selection.layer_id == "l2"
    for leave in (lambda one: one.hide(), lambda one: one.setEnabled(False)):
        session.select(layer_id="l4")
        last = stage.rows["l1"].pan
        last.setFocus()
        leave(last)
        assert stage.rows["l2"].hasFocus()
        assert session.selection.layer_id == "l4"
        last.show()
        last.setEnabled(True)
    # From a stage that is left, too.
    stage.rows["l2"].setFocus()
    session.select(layer_id="l4")
    window.show_stage(2)
    window.texture.targets.buttons[None].setFocus()
    window.show_stage(1)
    assert session.selection.layer_id == "l4"


def test_a_name_that_nobody_typed_goes_with_the_sound(small_loop):
    loop = layer_edits.add_layer(layer_edits.add_layer(small_loop, "bright grand"), "bright grand")
    a, b = (layer.id for layer in loop.layers[-2:])
    assert [layer.name for layer in loop.layers[-2:]] == ["Bright grand", "Bright grand 2"]
    loop = layer_edits.set_sound(layer_edits.set_sound(loop, a, "worn piano"), b, "worn piano")
    assert [layer.name for layer in loop.layers[-2:]] == ["Worn piano", "Worn piano 2"]
    loop = layer_edits.swap_sounds(layer_edits.set_aside(loop, b, "warm pad"), b)
    assert loop.layer(b).name == "Warm pad"
    loop = layer_edits.set_layer(loop, a, name="Reef")
    assert layer_edits.set_sound(loop, a, "nylon").layer(a).name == "Reef"
    typed = layer_edits.set_layer(loop, b, name="Warm pad, left")
    assert layer_edits.set_sound(typed, b, "nylon").layer(b).name == "Warm pad, left"


@pytest.mark.parametrize(
    ("name", "taken", "free"),
    [
        ("Notes", (), "Notes"), ("Notes", ("notes",), "Notes 2"),
        ("Notes 2", ("Notes", "Notes 2"), "Notes 3"),
        ("Notes 2", ("Notes 2", "Notes 3"), "Notes 4"),
        ("Notes 2", ("Notes",), "Notes 2"), ("Summer 1984", ("Summer 1984",), "Summer 1984 2"),
        ("7", ("7",), "7 2"), ("Notes 99", ("Notes 99",), "Notes 100"),
    ],
)  # fmt: skip
def test_a_copy_counts_on(name, taken, free):
    assert free_name(name, taken) == free


def test_names_are_cut_between_words():
    assert cut_at_word("Print 12, Felt upright and Warm pad", 24) == "Print 12, Felt upright"
    assert cut_at_word("Print 12, Felt upright", 22) == "Print 12, Felt upright"
    assert cut_at_word("Print 12, Felt upright", 9) == "Print 12"
    assert cut_at_word("Extraordinarily", 5) == "Extra"
    assert some_of(["a", "b", "c"]) == "a, b and c"
    assert some_of(["a", "b", "c", "d", "e"]) == "a, b and 3 more"


def test_the_card_of_the_chosen_layer_is_in_view(qtbot, window):
    session = window.session
    window.show_stage(1)
    for _ in range(9):
        session.apply("one more", lambda loop: layer_edits.add_layer(loop, "warm pad"))
    for at in (-1, 0, 6):
        layer = session.loop.layers[at]
        session.select(layer_id=layer.id)
        row = window.layers.rows[layer.id]
        qtbot.waitUntil(lambda row=row: row.visibleRegion().boundingRect() == row.rect())
