"""Controls do what they say: each was once pressed and changed nothing, or something else."""

import msgspec
import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt

from cloudrift.audio.loudness import integrated_lufs
from cloudrift.desktop.kit.grid import FREE_TICKS, Grid
from cloudrift.desktop.stages.layers.notes.places import TOP
from cloudrift.ground.settings import Field
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.edits.chords.bass import bass_only, hears_bass, unheard_bass, with_bass_heard
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.model.loop import Chord
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.fields import PLACES_IN, places_choice, places_in
from cloudrift.notes.lens import Lens, look, sees_bass
from cloudrift.notes.note import Note
from cloudrift.notes.span import Span
from cloudrift.notes.tools import TOOLS, ToolContext, use
from cloudrift.render.measure.room import gap, look_at
from cloudrift.render.plan.plan import in_turns
from cloudrift.sound import CATALOGUE
from cloudrift.sound.measure import strike
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.texture.ride import Ride, RidePoint, fitted_points
from cloudrift.theory import Key
from cloudrift.theory.build import SPACINGS, arranged, build_of, rebuilt
from tests.conftest import db, given_notes, rms

BAR = 3840
KEY = Key("C", "minor")


# --- the bass voice -------------------------------------------------------------------------------


@pytest.mark.parametrize("name", house_cards())
@pytest.mark.parametrize("variation", [1, 2, 5, 9])
def test_a_bass_move_is_heard_in_every_sketch(name, variation, engine):
    loop = sketch(find_card(name), None, None, variation, bars=4)
    assert all(hears_bass(loop, chord) for chord in loop.chords)
    first = loop.chords[0]
    moved = chord_edits.move_voice(loop, first.id, 0, semitones=-2)
    others = [
        x for x in loop.heard()
        if [n.pitch for n in notes_of(moved, moved.layer(x.id))]
        != [n.pitch for n in notes_of(loop, x)]
    ]  # fmt: skip
    assert any(
        rms(engine.heard_layer(moved, moved.layer(x.id)) - engine.heard_layer(loop, x)) > 1e-3
        for x in sorted(others, key=lambda x: len(x.line))  # what is quickly rendered first
    )


def test_a_card_that_leaves_the_bass_out_gets_a_layer_that_takes_it(small_loop):
    out = small_loop
    for layer in small_loop.layers:
        out = layer_edits.set_lens(out, layer.id, skip_bass=True)
    bass = next(x.id for x in out.layers if x.role == "bass")
    assert out.layer(bass).source.lens.kind == "roots" and not hears_bass(out, out.chords[0])
    given = with_bass_heard(out)
    assert given.layer(bass).source.lens.kind == "bass"
    # At the bottom lies the root: what is heard is what was heard, in the same octave.
    assert [n.pitch for n in notes_of(given, given.layer(bass))] == [
        n.pitch for n in notes_of(out, out.layer(bass))
    ]
    gone = layer_edits.remove_layer(out, bass)
    assert not with_bass_heard(gone).layers[0].source.lens.skip_bass
    assert with_bass_heard(given) is given


def test_a_lens_sees_the_bass_where_it_plays_it():
    voices = (36, 55, 60, 63)
    for lens in (Lens(), Lens(kind="held"), Lens(kind="arpeggio"), Lens(kind="bass"),
                 Lens(kind="top", voices=8)):  # fmt: skip
        assert sees_bass(lens, voices)
    for lens in (Lens(skip_bass=True), Lens(voices=3), Lens(kind="top"), Lens(kind="inner"),
                 Lens(kind="roots"), Lens(kind="line")):  # fmt: skip
        assert not sees_bass(lens, voices)


def test_the_window_says_when_nobody_plays_a_bass_move_and_offers_who_could(window, qtbot):
    session, line = window.session, window.chords.bass
    window.show_stage(0)
    assert not line.isVisible()
    for layer in session.loop.layers:
        session.apply("x", lambda p, one=layer.id: layer_edits.set_lens(p, one, skip_bass=True))
    assert not line.isVisible()  # roots are at the bottom, and a layer plays them
    session.select(chord_id="c1", voice=0)
    window.chords.moves.voice(steps=-1)
    assert line.isVisible()
    assert "does not play" in line.words.text() and "plays roots" in line.words.text()
    assert unheard_bass(session.loop) == session.loop.chords[:1]
    line.help.click()
    assert not line.isVisible()
    assert not unheard_bass(session.loop)
    bass = next(x for x in session.loop.layers if x.role == "bass")
    low = session.loop.chords[0].voices[0]
    assert notes_of(session.loop, bass)[0].pitch % 12 == low % 12
    session.document.undo()
    assert line.isVisible()
    session.apply("none", lambda p: layer_edits.remove_layer(p, bass.id))
    assert line.help.text() == "Add a bass that plays it"
    line.help.click()
    assert session.loop.layers[-1].source.lens.kind == "bass" and not line.isVisible()


def test_a_bass_note_below_that_only_doubles_the_root_is_said_too(small_loop):
    loop = small_loop
    for layer in loop.layers:
        loop = layer_edits.set_lens(loop, layer.id, skip_bass=True)
    without = chord_edits.set_bass(loop, "c1", 0)
    below = chord_edits.set_bass(without, "c1", 2)
    assert [c.id for c in bass_only(without, below)] == ["c1"]
    assert [c.id for c in bass_only(below, without)] == ["c1"]
    assert bass_only(loop, chord_edits.move_voice(loop, "c1", 2, steps=1)) == ()
    assert bass_only(small_loop, chord_edits.set_bass(small_loop, "c1", 2)) == ()  # it is played


# --- a new layer ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sound", "lens"),
    [("felt upright", "all"), ("drawbar "
                               "organ", "held"), ("glass pad", "held"), ("harp", "arpeggio"),
     ("flute", "top"), ("choir ah", "held"), ("glass bell", "top"), ("round sub", "bass"),
     ("pizzicato", "arpeggio"), ("soft horn", "all")],
)  # fmt: skip
def test_a_new_layer_plays_as_its_family_does_at_a_level_that_fits(engine, small_loop, sound, lens):
    loop = layer_edits.add_layer(small_loop, sound)
    layer = loop.layers[-1]
    assert layer.source.lens.kind == lens
    assert layer.source.touch.velocity != 84 and layer.source.lens.skip_bass == (
        lens in ("all", "held", "arpeggio")
    )
    lufs = [integrated_lufs(engine.heard_layer(loop, x), loop.rate) for x in loop.layers]
    others = sorted(lufs[:-1])
    assert -16 < lufs[-1] - (others[1] + others[2]) / 2 < 2, lufs


def test_the_first_layer_takes_the_bass_and_no_other(bare_chords):
    one = layer_edits.add_layer(bare_chords, "felt upright")
    assert not one.layers[0].source.lens.skip_bass and one.layers[0].level_db == 0
    two = layer_edits.add_layer(one, "warm pad")
    assert two.layers[1].source.lens.skip_bass


def test_what_has_no_pitch_has_strokes_of_its_own(small_loop, engine):
    loop = layer_edits.add_layer(small_loop, "snare")
    assert [n.start_tick for n in loop.layers[-1].own] == [1920, BAR + 1920]
    assert {n.pitch for n in loop.layers[-1].own} == {60}
    loop = layer_edits.add_layer(loop, "rain")
    assert [(n.start_tick, n.length_ticks) for n in loop.layers[-1].own] == [(0, 2 * BAR)]
    loop = layer_edits.add_layer(loop, "riser")
    assert [n.start_tick for n in loop.layers[-1].own] == [BAR]  # into the first beat
    other = loop_edits.set_key(loop, Key("A", "minor"))
    assert [x.own for x in other.layers[-3:]] == [x.own for x in loop.layers[-3:]]
    own = given_notes(loop, "l1", (Note(start_tick=0, length_ticks=60, pitch=66, id=1),))
    assert loop_edits.set_key(own, Key("A", "minor")).layer("l1").own[0].pitch == 69


def test_a_note_layer_comes_in_one_press(window, qtbot):
    window.show_stage(1)
    session = window.session
    session.select(layer_id="l3")
    like = session.loop.layer("l3")
    window.layers.variation.click()
    made = session.loop.layers[-1]
    assert (made.own, made.source.sound, made.name) == ((), like.source.sound, "Notes")
    assert -20 < made.level_db <= like.level_db
    assert session.selection.layer_id == made.id
    assert window.layers.notes.grid.hasFocus()
    places = window.layers.notes.grid.places
    at = QPointF(places.at_x(1000), places.at_y(70) + 1).toPoint()
    qtbot.mouseDClick(window.layers.notes.grid, Qt.MouseButton.LeftButton, pos=at)
    assert len(session.loop.layer(made.id).own) == 1


def test_drawn_notes_of_a_drum_stay_where_they_are_drawn(window, qtbot):
    window.show_stage(1)
    session, grid = window.session, window.layers.notes.grid
    session.apply("x", lambda p: layer_edits.add_layer(p, "kick"))
    session.select(layer_id=session.loop.layers[-1].id)
    pitch = next(p for p in range(58, 64) if not session.loop.key.has(p))
    places = grid.places
    at = QPointF(places.at_x(1300), places.at_y(pitch) + 1).toPoint()
    qtbot.mouseDClick(grid, Qt.MouseButton.LeftButton, pos=at)
    drawn = next(n for n in session.loop.layers[-1].own if n.start_tick == 1200)
    assert drawn.pitch == pitch  # in no key, and not marked as outside
    assert set(window.layers.notes.moves.scale) == set(range(12))
    qtbot.keyClick(grid, Qt.Key.Key_Up)
    assert max(n.pitch for n in session.loop.layers[-1].own) == max(60, pitch + 1)


# --- drums ----------------------------------------------------------------------------------------


def stroke_levels(name, choke, engine, small_loop):
    """What is left of a long stroke when another has begun softly: energy behind it, in dB."""
    loop = layer_edits.add_layer(small_loop, name)
    layer = loop.layers[-1]
    notes = (Note(start_tick=0, length_ticks=960, pitch=60, velocity=120, id=1),
             Note(start_tick=240, length_ticks=60, pitch=60, velocity=1, id=2))  # fmt: skip
    loop = given_notes(loop, layer.id, notes)
    loop = layer_edits.set_sound_setting(loop, layer.id, "choke", choke)
    audio = engine.stem(loop, loop.layer(layer.id))
    begin = loop.clock.frames(240) + 900
    return db(rms(audio[:, begin : begin + 6000]))


@pytest.mark.parametrize("name", ["low kick", "open hat", "crash"])
def test_a_second_stroke_stops_the_first_where_choke_is_on(engine, small_loop, name):
    ringing = stroke_levels(name, "off", engine, small_loop)
    assert ringing - stroke_levels(name, "on", engine, small_loop) > 25


def test_choked_by_default_is_what_rings_on():
    on = {
        n for n, s in CATALOGUE.items() if s.family == "drums" and s.spec["choke"].default == "on"
    }
    assert on == {"low kick", "open hat"}


@pytest.mark.parametrize("pitch", [28, 36, 48])
@pytest.mark.parametrize("velocity", [60, 100])
def test_the_click_of_the_long_drum_is_heard_over_its_range(pitch, velocity):
    def click(percent):
        audio = strike(CATALOGUE["long drum"], pitch, velocity, 0.2, settings=(("click", percent),))
        power = np.abs(np.fft.rfft(audio.mean(axis=0)[:882], 8192)) ** 2
        hz = np.fft.rfftfreq(8192, 1 / 44_100)
        return 10 * np.log10(power[(hz > 1200) & (hz < 4000)].sum())

    none, half, whole = (click(p) for p in (0.0, 45.0, 100.0))
    assert whole - none > 6 and half - none > 2.5


# --- time -----------------------------------------------------------------------------------------


def test_turns_part_chords_that_are_longer_than_a_turn(engine, small_loop):
    notes = (Note(start_tick=0, length_ticks=2 * BAR, pitch=60, offset_ms=4.0),
             Note(start_tick=3 * BAR // 2, length_ticks=BAR, pitch=64))  # fmt: skip
    one, other = in_turns(notes, BAR)
    assert [(n.start_tick, n.length_ticks, n.pitch) for n in one] == [
        (0, BAR, 60), (2 * BAR, BAR // 2, 64),
    ]  # fmt: skip
    assert [(n.start_tick, n.length_ticks) for n in other] == [(BAR, BAR), (3 * BAR // 2, BAR // 2)]
    loop = layer_edits.set_aside(small_loop, "l2", "glass pad")
    long = tuple(msgspec.structs.replace(c, start_tick=0, length_ticks=2 * BAR)
                 for c in loop.chords[:1])  # fmt: skip
    loop = msgspec.structs.replace(loop, chords=long)
    plain = engine.stem(loop, loop.layer("l2"))
    turns = layer_edits.take_turns(loop, "l2", 1)
    assert rms(engine.stem(turns, turns.layer("l2")) - plain) > 0.1 * rms(plain)


def test_a_late_bar_waits_also_where_a_note_rings_through_it():
    spans = (Span(start_tick=0, length_ticks=2 * BAR, voices=(60,), root=0),)
    late = look(Lens(kind="held", late_bars=(1,), late_ticks=480), spans, KEY)
    assert [(n.start_tick, n.end_tick) for n in late] == [(0, BAR), (BAR + 480, 2 * BAR)]
    late = look(Lens(late_bars=(0, 1), late_ticks=240), spans, KEY)
    assert [(n.start_tick, n.end_tick) for n in late] == [(240, BAR), (BAR + 240, 2 * BAR)]
    short = (Span(start_tick=0, length_ticks=200, voices=(60,), root=0),)
    assert look(Lens(late_bars=(0,), late_ticks=240), short, KEY) == ()


@pytest.mark.parametrize("bars", [2, 4, 8])
def test_places_are_chosen_by_name(bars):
    for choice in PLACES_IN:
        where = places_in(choice, bars, BAR)
        if where:
            Lens(where=where)  # in order, with lengths
            named = places_choice(where, bars, BAR)
            assert places_in(named, bars, BAR) == where
    assert places_in("every 2nd bar", 4, BAR) == ((BAR, 2 * BAR), (3 * BAR, 4 * BAR))
    assert places_in("the second half", 4, BAR) == ((2 * BAR, 4 * BAR),)
    assert places_choice(((0, 100),), 4, BAR) == "chosen places"


def test_a_layer_plays_in_every_second_bar_by_one_choice(window, qtbot):
    window.show_stage(1)
    session, inspector = window.session, window.layers.inspector
    session.select(layer_id="l1")
    inspector.fields["lens where"]._choose("every 2nd bar")
    assert session.loop.layer("l1").source.lens.where == ((BAR, 2 * BAR),)
    assert session.document.history.undo_label == "plays in"
    assert all(n.start_tick >= BAR for n in notes_of(session.loop, session.loop.layer("l1")))
    inspector.fields["lens where"]._choose("chosen places")  # they are drawn, not chosen
    assert inspector.fields["lens where"].value == "every 2nd bar"
    inspector.fields["lens where"]._choose("every bar")
    assert session.loop.layer("l1").source.lens.where == ()


def test_one_grid_with_one_meaning():
    grid = Grid("1/8 triplet")
    assert (grid.ticks, grid.step, grid.snap(500), grid.text) == (320, 320, 640, "1/8 triplet")
    grid.put(half=True)
    assert (grid.ticks, grid.snap(500, half=True)) == (160, 480)  # half of it once, not twice
    grid.put(free=True)
    assert (grid.step, grid.snap(501), grid.text) == (FREE_TICKS, 501, "off: steps of 1/128")


def test_keys_in_the_notes_leave_the_grid_where_it_is_off(window, qtbot):
    window.show_stage(1)
    session, view = window.session, window.layers.notes
    session.select(layer_id="l1")
    view.follow.click()
    first = session.loop.layer("l1").own[0]
    session.select(notes=frozenset({first.id}))
    view.step.value.textActivated.emit("1/4 triplet")
    qtbot.keyClick(view.grid, Qt.Key.Key_Right)
    view.step.free.click()
    qtbot.keyClick(view.grid, Qt.Key.Key_Right)
    moved = next(n for n in session.loop.layer("l1").own if n.id == first.id)
    assert moved.start_tick == first.start_tick + 640 + FREE_TICKS
    assert TOP > 0


def test_a_ride_keeps_its_way_where_it_comes_more_often():
    points = (RidePoint(tick=0, value=0.0), RidePoint(tick=4 * BAR, value=50.0, bend=0.4),
              RidePoint(tick=7 * BAR, value=100.0))  # fmt: skip
    ride = Ride(of="blend", points=points)
    short = fitted_points(ride, 2 * BAR, 8 * BAR)
    assert [(p.tick, p.value, p.bend) for p in short] == [
        (0, 0, 0), (BAR, 50, 0.4), (7 * BAR // 4, 100, 0),
    ]  # fmt: skip
    again = fitted_points(Ride(of="blend", points=short, every_ticks=2 * BAR), 0, 8 * BAR)
    assert again == points
    rested = Ride(of="blend", points=points, every_ticks=2 * BAR)  # as older files have it
    assert [p.tick for p in fitted_points(rested, 4 * BAR, 8 * BAR)] == [0]


def test_how_often_a_ride_comes_is_chosen_in_its_lane(window, qtbot):
    session = window.session
    window.show_stage(1)
    session.select(layer_id="l1")
    loop = session.loop
    points = (RidePoint(tick=0, value=-6.0), RidePoint(tick=BAR, value=0.0))
    session.apply("x", lambda p: line_edits.set_level_ride(p, "l1", points))
    lane = window.layers.notes.lane
    assert lane.title.text() == "Level over the loop"
    lane.every.textActivated.emit("every 1/1")
    ride = session.loop.layer("l1").level_ride
    assert ride.every_ticks == BAR and [p.tick for p in ride.points] == [0, BAR * BAR // loop.ticks]
    assert window.layers.notes.lane.title.text() == "Level over 1/1, every 1/1"
    session.document.undo()
    assert session.loop.layer("l1").level_ride.points == points


# --- pitch, voices, loudness ----------------------------------------------------------------------


@pytest.mark.parametrize("spacing", ["close", "open", "cluster"])
@pytest.mark.parametrize("tones", [(0, 3, 7), (0, 3, 7, 10), (2, 5, 9, 0, 4), (7, 11, 2, 5)])
@pytest.mark.parametrize("register", [57.0, 62.0, 68.5])
def test_top_down_never_raises_the_top(spacing, tones, register):
    for lowest in tones:
        voices = arranged(tones, lowest, spacing, register)
        dropped = rebuilt(voices, tones[0], spacing="dropped top")
        assert dropped[-1] <= voices[-1], (voices, dropped)
        assert {v % 12 for v in dropped} == set(tones)
        if build_of(dropped, tones[0]).spacing == "dropped top":
            back = rebuilt(dropped, tones[0], spacing="close")
            assert build_of(back, tones[0]).spacing == "close"
    assert set(SPACINGS) > {"dropped top"}


def test_an_octave_onto_a_voice_that_is_there_stays_the_same_note(bare_chords):
    chord = Chord(id="c1", start_tick=0, length_ticks=BAR, voices=(48, 55, 60, 64), root=0)
    loop = msgspec.structs.replace(bare_chords, key=KEY, chords=(chord,))
    assert chord_edits.move_voice(loop, "c1", 0, semitones=12).chords[0].voices == (55, 60, 64, 72)
    assert chord_edits.move_voice(loop, "c1", 2, semitones=-12).chords[0].voices == (36, 48, 55, 64)
    assert chord_edits.move_voice(loop, "c1", 1, semitones=5).chords[0].voices == (48, 60, 61, 64)


def test_the_top_of_a_chord_counts_from_one_to_eight():
    spans = (Span(start_tick=0, length_ticks=BAR, voices=tuple(range(48, 66, 2)), root=0),)
    for count in range(1, 9):
        assert len(look(Lens(kind="top", voices=count), spans, KEY)) == count
    assert len(look(Lens(kind="top"), spans, KEY)) == 1
    assert len(look(Lens(), spans, KEY)) == 8
    assert Lens(kind="top", voices=8).text == "top 8 voices"


def test_changing_to_the_top_takes_one_voice_and_back_takes_all(small_loop):
    top = layer_edits.set_lens(small_loop, "l1", kind="top")
    assert top.layer("l1").source.lens.most_voices == 1
    three = layer_edits.set_lens(top, "l1", voices=3)
    assert layer_edits.set_lens(three, "l1", kind="all").layer("l1").source.lens.most_voices == 8


def test_a_swell_that_is_used_twice_is_the_same_swell():
    notes = tuple(Note(start_tick=0, length_ticks=BAR, pitch=60 + i, velocity=90 - 10 * (i == 2),
                       id=i + 1) for i in range(5))  # fmt: skip
    around = ToolContext(key=KEY, tempo=120, loop_ticks=2 * BAR, bar_ticks=BAR, grid_ticks=240)
    settings = (("swell", 50.0),)
    once, _ = use(TOOLS["stagger"], notes, (), around, settings)
    twice, _ = use(TOOLS["stagger"], once, (), around, settings)
    assert [n.velocity for n in once] == [45, 56, 68, 79, 90]
    assert [n.velocity for n in twice] == [n.velocity for n in once]
    plain, _ = use(TOOLS["stagger"], notes, (), around, (("swell", 0.0),))
    assert sorted(n.velocity for n in plain) == [80, 90, 90, 90, 90]


def test_chords_with_a_touch_of_their_own_are_said_where_the_layer_s_is_set(window, qtbot):
    window.show_stage(1)
    session, inspector = window.session, window.layers.inspector
    session.select(layer_id="l1")
    session.apply("x", lambda p: chord_time.set_chord_touch(p, ["c1"], roll_ms=200.0))
    inspector.fields["touch roll_ms"].type_text("0")
    notes = notes_of(session.loop, session.loop.layer("l1"))
    assert max(n.offset_ms for n in notes) > 100  # the chord keeps its roll, and it is said
    words = [w.text() for w in inspector.findChildren(type(inspector.under))]
    assert "1 chord has a touch of its own and keeps it." in words
    inspector.give_up.click()
    assert all(c.touch is None for c in session.loop.chords)
    notes = notes_of(session.loop, session.loop.layer("l1"))
    assert max(n.offset_ms for n in notes) < 100
    words = [w.text() for w in inspector.findChildren(type(inspector.under)) if w.isVisible()]
    assert not any("of its own and keeps" in text for text in words)


# --- the room -------------------------------------------------------------------------------------


def test_an_empty_loop_is_not_too_full(window, qtbot, engine, small_loop):
    empty = msgspec.structs.replace(small_loop, chords=())
    room = look_at(empty, engine)
    assert room.levels == {} and room.crowded == ()
    assert gap(room, 300, 3000).layers == ()
    window.show_stage(1)
    window.session.apply("empty", lambda p: msgspec.structs.replace(p, chords=()))
    view = window.layers.room
    qtbot.waitUntil(lambda: view.room is not None and not view.room.levels, timeout=30_000)
    view.for_voice.click()
    assert view.gap_words.text() == "there is room: nothing plays yet"
    assert view.words.text() == "nothing plays yet"


def test_a_cut_that_is_pressed_again_goes_further(small_loop):
    from cloudrift.loop.edits.layers.remedies import cut, cuts_of

    once = cut(small_loop, "l1", "l4", 100.0, 400.0)
    assert cuts_of(once, "l1")[0] == 400
    assert cuts_of(cut(once, "l1", "l4", 100.0, 400.0), "l1")[0] == pytest.approx(504, abs=1)


def test_fields_write_every_nth_of_something():
    field = Field(name="x", label="Every", default=2, unit="th note", low=0, high=16, off_low=True)
    assert [field.text(n) for n in (0.0, 1.0, 2.0, 3.0, 11.0)] == [
        "off", "1st note", "2nd note", "3rd note", "11th note",
    ]  # fmt: skip
    db_field = Field(name="x", label="Gain", default=0, unit="dB", low=-12, high=12, step=0.5)
    assert db_field.text(-3.5) == "−3.5 dB"
