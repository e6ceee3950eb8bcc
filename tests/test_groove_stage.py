"""The groove bed's drawer in the real window: drawn, dragged, typed; taken back, reopened."""

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from cloudrift.audio.clips import ClipStore
from cloudrift.desktop.stages.groove.model import NAMES_PX, TOP_PX, LanesModel
from cloudrift.loop.edits.bed import beds, hitting
from cloudrift.loop.edits.bed.bed_midi import bed_parts
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.files.storage import load_document
from cloudrift.loop.model.bed import BED, Duck, hits_of
from cloudrift.loop.model.hits import Hit
from cloudrift.notes.midi import midi_file
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import save_own
from cloudrift.sound.own_import import read_recording
from tests.hands import command, drag, saved, settled
from tests.test_bed import LOOP, lane, with_lanes

LEFT, NONE = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
ALT, CTRL, SHIFT = (Qt.KeyboardModifier.AltModifier, Qt.KeyboardModifier.ControlModifier,
                    Qt.KeyboardModifier.ShiftModifier)  # fmt: skip
BAR = 3840


@pytest.fixture
def drawer(qtbot, window):
    """The drawer over a loop with a kick, a low drum and hats, empty, two bars."""
    loop = window.session.loop
    for part in ("kick", "low drum", "hats"):
        loop = beds.add_lane(loop, part)
    window.session.document.open(loop, None)
    window.show_stage(4)
    qtbot.waitUntil(lambda: len(window.groove.lanes.model.strengths) > 0, timeout=30_000)
    return window.groove


def at(drawer, row, tick, share=0.5):
    """Where a tick of a lane is, so high in it."""
    model = drawer.lanes.model
    y = model.row_top(row) + (model.row_px - 4) * (1 - share)
    return QPoint(round(float(model.axis.at_x(tick))) + 1, round(y))


def ticks(drawer, row):
    return [hit.tick for hit in drawer.lanes.model.hits(row)]


def press(drawer, row, tick, share=0.5, modifier=NONE):
    QTest.mouseClick(drawer.lanes, LEFT, modifier, at(drawer, row, tick, share))


def key(drawer, what, modifier=NONE):
    QTest.keyClick(drawer.lanes, what, modifier)


# --- drawing --------------------------------------------------------------------------------------


def test_it_opens_empty_says_what_to_do_and_draws_one_from_the_loop(qtbot, window):
    session = window.session
    command(window, "5 Groove").trigger()
    drawer = window.groove
    assert drawer.isVisible() and drawer.lanes.model is None and not drawer.heard.isVisible()
    assert drawer.lead.tiles[0].hasFocus() and len(drawer.lead.tiles) == 3
    qtbot.waitUntil(lambda: len(drawer._strengths) > 0, timeout=30_000)
    drawer.manner.setCurrentText("dusty")
    assert "An old break" in drawer.manner.toolTip()
    before = session.loop
    drawer.variation.click()
    assert session.loop.bed.manner == "dusty" and session.loop.bed.heard
    assert session.loop.layers == before.layers and drawer.lanes.model.guide()
    first = session.loop
    drawer.variation.click()
    assert session.loop.bed.variation == first.bed.variation + 1 and session.loop != first
    session.document.undo()
    assert session.loop == first
    session.document.undo()
    assert session.loop == before and drawer.lanes.model is None


def test_a_press_draws_a_hit_as_loud_as_it_is_high_and_one_step_takes_it_back(drawer, window):
    session = window.session
    before = session.loop
    press(drawer, 0, 480, 0.9)
    press(drawer, 0, 1440, 0.3)
    loud, soft = drawer.lanes.model.hits(0)
    assert (loud.tick, soft.tick) == (480, 1440)
    assert loud.velocity > 100 and soft.velocity < 60
    assert drawer.lanes.numbers == {1} and "velocity" in drawer.lanes.accessibleName()
    session.document.undo()
    session.document.undo()
    assert session.loop == before


def test_between_the_steps_a_press_goes_to_the_grid_and_with_alt_it_does_not(drawer):
    press(drawer, 0, 900)
    assert ticks(drawer, 0) == [960]
    press(drawer, 0, 2000, modifier=ALT)
    assert ticks(drawer, 0)[1] not in (1920, 2160) and abs(ticks(drawer, 0)[1] - 2000) < 40
    drawer.grid.setCurrentText("1/4")
    press(drawer, 2, 1300)
    assert ticks(drawer, 2) == [960]


def test_dragging_along_draws_a_roll_as_loud_as_the_hand_goes(qtbot, drawer):
    drawer.roll.setCurrentText("1/16 triplet")
    drag(qtbot, drawer.lanes, at(drawer, 2, 960, 0.2), at(drawer, 2, 1920, 0.95))
    hits = drawer.lanes.model.hits(2)
    assert [hit.tick for hit in hits] == list(range(960, 1920, 160))
    loud = [hit.velocity for hit in hits]
    assert loud == sorted(loud) and loud[0] < 50 and loud[-1] > 100
    assert drawer.lanes.numbers == frozenset(range(6))


def test_hits_are_dragged_along_and_up_and_copied_with_ctrl(qtbot, drawer, window):
    press(drawer, 0, 480)
    before = drawer.lanes.model.hits(0)[0].velocity
    drag(qtbot, drawer.lanes, at(drawer, 0, 480), at(drawer, 0, 1440))
    assert ticks(drawer, 0) == [1440]
    drag(qtbot, drawer.lanes, at(drawer, 0, 1440, 0.3), at(drawer, 0, 1440, 0.6))
    assert drawer.lanes.model.hits(0)[0].velocity > before + 20
    drag(qtbot, drawer.lanes, at(drawer, 0, 1440), at(drawer, 0, 2400), CTRL)
    assert ticks(drawer, 0) == [1440, 2400]
    window.session.document.undo()
    assert ticks(drawer, 0) == [1440]


def test_several_are_chosen_by_a_box_and_moved_together(qtbot, drawer):
    for tick in (0, 480, 960, 1920):
        press(drawer, 2, tick)
    drag(qtbot, drawer.lanes, at(drawer, 2, 300), at(drawer, 2, 1200), SHIFT)
    assert drawer.lanes.numbers == {1, 2}
    press(drawer, 2, 1920, modifier=SHIFT)
    assert drawer.lanes.numbers == {1, 2, 3}
    key(drawer, Qt.Key.Key_Right, CTRL)
    assert ticks(drawer, 2) == [0, 720, 1200, 2160]


def test_a_double_click_takes_a_hit_out_and_on_a_name_puts_the_lane_off(drawer, window):
    press(drawer, 0, 480)
    QTest.mouseDClick(drawer.lanes, LEFT, NONE, at(drawer, 0, 480))
    assert ticks(drawer, 0) == []
    QTest.mouseDClick(drawer.lanes, LEFT, NONE, QPoint(20, int(TOP_PX + 10)))
    assert window.session.loop.lanes[0].mute


def test_keys_do_all_of_it(drawer, window):
    drawer.lanes.setFocus()
    key(drawer, Qt.Key.Key_Down)
    key(drawer, Qt.Key.Key_Down)
    assert drawer.lanes.row == 2
    key(drawer, Qt.Key.Key_Right)
    key(drawer, Qt.Key.Key_Return)
    assert ticks(drawer, 2) == [240] and drawer.lanes.numbers == {0}
    velocity = drawer.lanes.model.hits(2)[0].velocity
    key(drawer, Qt.Key.Key_Minus)
    assert drawer.lanes.model.hits(2)[0].velocity == velocity - 8
    key(drawer, Qt.Key.Key_Left, ALT)
    assert drawer.lanes.model.hits(2)[0].late_ms == -2
    key(drawer, Qt.Key.Key_Up, SHIFT)
    assert drawer.lanes.model.hits(2)[0].st == 1
    key(drawer, Qt.Key.Key_3)
    assert ticks(drawer, 2) == [240, 320, 400]
    key(drawer, Qt.Key.Key_Left)
    assert drawer.lanes.at_tick == 0 and not drawer.lanes.numbers
    key(drawer, Qt.Key.Key_Left)  # round
    assert drawer.lanes.at_tick == 2 * BAR - 240
    key(drawer, Qt.Key.Key_M)
    assert window.session.loop.lanes[2].mute
    drawer.lanes.choose(2, frozenset({0, 1}))
    key(drawer, Qt.Key.Key_Delete)
    assert ticks(drawer, 2) == [400]


def test_space_still_plays(qtbot, drawer, window):
    drawer.lanes.setFocus()
    key(drawer, Qt.Key.Key_Space)
    assert window.session.player.playing
    window.session.transport.set_playing(False)


# --- fields ---------------------------------------------------------------------------------------


def test_fields_of_hits_show_and_change_the_chosen_ones(drawer):
    for tick in (0, 960):
        press(drawer, 1, tick)
    drawer.chosen.show_page("hits")
    drawer.chosen.hit["st"].type_text("7")
    drawer.chosen.hit["length_ticks"].type_text("0.5")
    drawer.chosen.hit["glide_ms"].type_text("80")
    first, last = drawer.lanes.model.hits(1)
    assert (last.st, last.length_ticks, last.glide_ms) == (7, 480, 80) and first.st == 0
    drawer.lanes.choose(1)
    assert "all 2 hits" in drawer.chosen.says.text()
    drawer.chosen.hit["pan"].type_text("-50")
    assert [hit.pan for hit in drawer.lanes.model.hits(1)] == [-0.5, -0.5]
    assert drawer.lanes.model.note_of(1, last) in drawer.lanes.model.text_of(1, 1)


def test_fields_of_a_lane_are_heard(qtbot, drawer, window):
    session = window.session
    press(drawer, 0, 0)
    drawer.lanes.choose(0)
    drawer.chosen.show_page("lane")
    settled(qtbot, session)
    before = session.hearing.rendered["treated"].audio
    drawer.chosen.lane["level_db"].type_text("-20")
    settled(qtbot, session)
    assert np.abs(session.hearing.rendered["treated"].audio - before).max() > 0.01
    drawer.chosen.ducks.click()
    assert session.loop.bed.duck.lanes == (session.loop.lanes[0].id,)
    drawer.chosen.locked.click()
    assert session.loop.bed.locked == (session.loop.lanes[0].id,)
    drawer.chosen.stack[0].setCurrentText("Low kick")
    drawer.chosen.stack[0].activated.emit(drawer.chosen.stack[0].currentIndex())
    assert session.loop.lanes[0].source.sounds[0].name == "low kick"
    drawer.chosen._add_sound()
    assert len(drawer.chosen.stack) == 2
    drawer.chosen.choke.setCurrentText("hats")
    drawer.chosen._set_choke(0)
    assert hits_of(session.loop.lanes[0]).choke == "hats"
    drawer.chosen.lane["late_ms"].type_text("12")
    assert hits_of(session.loop.lanes[0]).late_ms == 12
    drawer.chosen._move_lane(1)
    assert session.loop.lanes[1].name == "Kick" and drawer.lanes.row == 1
    drawer.chosen._remove_lane()
    assert [x.name for x in session.loop.lanes] == ["Low drum", "Hats"]


def test_what_all_share_is_changed_and_taken_back(drawer, window):
    session = window.session
    before = session.loop
    drawer.fields["swing"].type_text("62")
    drawer.fields["late_ms"].type_text("9")
    drawer.fields["level_db"].type_text("-4")
    bed = session.loop.bed
    assert (bed.swing, bed.late_ms, bed.group.level_db) == (62, 9, -4)
    drawer.chosen.show_page("bed")
    drawer.chosen.dirty.click()
    drawer.chosen.air.click()
    assert [t.kind for t in session.loop.bed.group.line] == ["overdrive", "room"]
    drawer.chosen.steps.button(480).click()
    assert session.loop.bed.swing_ticks == 480
    assert not drawer.chosen.duck["depth_db"].isEnabled()
    session.apply("duck", lambda loop: beds.set_bed(loop, duck=Duck(lanes=("b1",))))
    drawer.chosen.duck["depth_db"].type_text("9")
    assert session.loop.bed.duck.depth_db == 9
    drawer.chosen.bass.click()
    assert not session.loop.bed.duck.bass
    while session.document.history.undo_label:
        session.document.undo()
    assert session.loop == before


def test_the_bed_is_heard_alone_off_and_each_lane_by_itself(qtbot, drawer, window):
    session = window.session
    press(drawer, 0, 0)
    settled(qtbot, session)
    both = session.hearing.rendered["treated"].audio
    drawer.only.click()
    settled(qtbot, session)
    bed = session.hearing.rendered["treated"].audio
    assert np.abs(bed).max() > 0.05 and np.abs(both - bed).max() > 0.05
    drawer.only.click()
    drawer.heard.click()
    settled(qtbot, session)
    assert np.abs(both - session.hearing.rendered["treated"].audio - bed).max() < 1e-4
    drawer.heard.click()
    drawer.chosen.alone.click()
    assert session.hearing.alone == {session.loop.lanes[0].id}
    drawer.chosen.alone.click()
    assert not session.hearing.alone


def test_patterns_are_copied_chosen_lengthened_and_taken_out(drawer, window):
    session = window.session
    press(drawer, 0, 0)
    drawer._copy_pattern()
    press(drawer, 0, 960)
    assert list(drawer.pattern) == ["A", "B"] and ticks(drawer, 0) == [0, 960]
    drawer.pattern["A"].click()
    assert ticks(drawer, 0) == [0] and drawer.pattern["A"].isChecked()
    drawer.bars.click()
    assert drawer.lanes.model.bars == 4 and ticks(drawer, 0) == [0, 2 * BAR]
    drawer.bars.click()
    assert drawer.lanes.model.shown == 4
    drawer.lanes.at_tick = 4 * BAR - 240
    key(drawer, Qt.Key.Key_Right)
    assert drawer.lanes.model.first_bar > 0 and "of 8" in drawer.words.toolTip()
    drawer._remove_pattern()
    assert session.loop.bed.patterns == ("B",)


def test_busy_and_draw_move_a_drawn_groove_and_leave_one_that_is_not(drawer, window):
    session = window.session
    drawer.fields["busy"].type_text("80")
    assert session.loop.bed.busy == 0.8 and not drawer.lanes.model.hits(0)
    drawer.manner.setCurrentText("broken")
    drawer.variation.click()
    few = sum(len(hits_of(x).pattern.hits) for x in session.loop.lanes)
    drawer.fields["busy"].type_text("5")
    assert sum(len(hits_of(x).pattern.hits) for x in session.loop.lanes) < few
    now = session.loop
    drawer.fields["variation"].type_text("77")
    assert session.loop.bed.variation == 77 and session.loop.lanes != now.lanes


# --- elsewhere ------------------------------------------------------------------------------------


def test_a_lane_s_line_is_treated_in_texture(qtbot, drawer, window):
    session = window.session
    press(drawer, 2, 0)
    assert session.selection.line_of == session.loop.lanes[2].id
    window.show_stage(2)
    assert window.texture.title.text() == "Hats, treated"
    session.apply("add", lambda loop: line_edits.add_treatment(loop, "b3", "hall"))
    settled(qtbot, session)
    assert [t.kind for t in session.loop.lanes[2].line] == ["hall"]
    window.texture.targets.buttons[BED].click()
    assert session.selection.line_of == BED


def test_it_is_saved_reopened_and_no_mark_of_the_sound(qtbot, drawer, window, tmp_path):
    session = window.session
    sound = window.marking.sound
    press(drawer, 0, 0)
    press(drawer, 1, 480)
    settled(qtbot, session)
    path = tmp_path / "x.cloudrift"
    assert saved(session.document.save, path)
    assert load_document(path, None).loop == session.loop
    qtbot.wait(200)
    if sound is not None and window.marking.sound is not None:
        assert window.marking.sound.lufs == pytest.approx(sound.lufs, abs=0.01)


def test_drums_of_a_midi_file_become_lanes(qtbot, drawer, window, tmp_path):
    loop = with_lanes(lane("b1", "kick", Hit(tick=0)), lane("b2", "clap", Hit(tick=1930)))
    parts, drums = bed_parts(loop)
    path = tmp_path / "x.mid"
    path.write_bytes(midi_file(parts, tempo=120, metre=(4, 4), signature="", drums=drums,
                               loop_ticks=LOOP.ticks, title="x"))  # fmt: skip
    drawer.bring_midi(path)
    qtbot.waitUntil(lambda: len(window.session.loop.lanes) == 5, timeout=10_000)
    assert [x.name for x in window.session.loop.lanes][3:] == ["Kick 2", "Clap"]
    assert ticks(drawer, 4)[0] == 1930
    path.write_bytes(b"no midi")
    drawer.bring_midi(path)
    qtbot.waitUntil(lambda: "not a MIDI file" in window.message.text(), timeout=10_000)


def test_what_is_offered_for_hits_can_be_done(drawer, window):
    for tick in (0, 480, 1440):
        press(drawer, 1, tick)
    drawer.lanes.choose(1)
    texts = [words for words, _act in drawer.lanes.acts()]
    assert "Glide all" in texts and "Delete all" in texts
    for words, act in drawer.lanes.acts():
        before = window.session.loop
        act()
        if "bar" not in words and "middle" not in words:
            assert window.session.loop != before, words
            window.session.document.undo()
        window.session.document.open(before, None)
        drawer.lanes.choose(1)
    drawer.chosen._fill_more()
    assert len(drawer.chosen._more.actions()) == len(texts)


# --- the picture ----------------------------------------------------------------------------------


def test_the_model_knows_where_things_are():
    loop = with_lanes(
        lane("b1", "kick", Hit(tick=0, late_ms=-30), Hit(tick=960, velocity=127)),
        lane("b2", "long drum", Hit(tick=0), Hit(tick=1920, length_ticks=480), on_roots=True),
    )  # fmt: skip
    model = LanesModel(loop, 0, 800.0, np.zeros(0))
    assert model.x_of(0, model.hits(0)[0]) == NAMES_PX  # before the start: at it
    assert model.hit_at(0, float(model.axis.at_x(960))) == 1 and model.hit_at(0, 400.0) is None
    assert model.high(model.hits(0)[1]) > model.high(Hit(tick=0, velocity=20))
    assert model.named(1) == {0: "C2", 1: "C2"} and model.named(0) == {}
    assert model.length_px(1, model.hits(1)[1]) == pytest.approx(model.axis.px(480))
    assert model.text_of(0, 0) == "1.1, velocity 100, 30 ms early"
    assert model.snapped(1000, 240) == 960 and model.snapped(1e9, 240) == BAR - 240
    assert model.velocity_at(0, model.row_top(0)) == 127
    assert model.row_at(-5) == 0 and model.row_at(9e9) == 1
    assert LanesModel(loop, 0, 800.0, np.ones(32)).guide()[1] == (240, 1.0)


def test_strokes_are_painted_as_high_as_they_are_loud(qtbot, drawer, window):
    press(drawer, 0, 480, 0.95)
    press(drawer, 0, 1440, 0.2)
    drawer.lanes.choose(1)
    picture = drawer.lanes.grab().toImage()

    def height(tick):
        x = at(drawer, 0, tick).x() + 1
        ground = picture.pixelColor(x + 12, int(TOP_PX + 8))
        bottom = int(TOP_PX + drawer.lanes.model.row_px - 5)
        column = [picture.pixelColor(x, y) for y in range(int(TOP_PX), bottom)]
        return sum(one != ground for one in column)

    assert height(480) > 2 * height(1440) > 0


def test_a_lane_plays_a_sound_of_ones_own_and_carries_it(qtbot, window, tmp_path):
    rate = 44_100
    t = np.arange(rate // 4) / rate
    click = (np.sin(2 * np.pi * 900 * t) * np.exp(-t * 40)).astype(np.float32)
    soundfile.write(tmp_path / "latch A5.wav", click, rate)
    aside = ClipStore()
    own = OwnSound(name="Latch", licence="own recording, CC0",
                   recordings=(read_recording(tmp_path / "latch A5.wav", aside)[0],))  # fmt: skip
    save_own(own, aside)
    session = window.session
    loop = beds.add_lane(session.loop, "snare")
    loop, _at = hitting.put_hit(loop, loop.lanes[0].id, Hit(tick=0))
    session.document.open(loop, None)
    window.show_stage(4)
    chosen = window.groove.chosen
    box = chosen.stack[0]
    at = box.findText("Latch (yours)")
    assert at > 0
    before = session.loop
    box.setCurrentIndex(at)
    box.activated.emit(at)
    lane = session.loop.lanes[0]
    assert hits_of(lane).stack[0].use.own == own and hits_of(lane).stack[0].use.name == "Latch"
    assert own.recordings[0].clip in session.clips  # it is there to be heard, and saved
    path = tmp_path / "own.cloudrift"
    assert saved(session.document.save, path)
    again = load_document(path, ClipStore()).loop
    assert hits_of(again.lanes[0]).stack[0].use.own == own
    session.document.undo()
    assert session.loop == before
    settled(qtbot, session)


def test_a_hit_is_heard_when_it_is_drawn_or_chosen_while_all_stands(qtbot, drawer, window):
    session, struck = window.session, []
    strike = session.player.strike
    session.player.strike = lambda audio, group, **more: (
        struck.append((group, audio)), strike(audio, group, **more))[1]  # fmt: skip
    session.apply("two roots", lambda loop: loop)
    low = drawer.lanes.model.loop.lanes[1].id
    press(drawer, 1, 0)
    qtbot.waitUntil(lambda: len(struck) == 1, timeout=10_000)
    press(drawer, 1, BAR)
    qtbot.waitUntil(lambda: len(struck) == 2, timeout=10_000)
    assert [group for group, _audio in struck] == [f"lane {low}"] * 2
    pitches = []
    for _group, audio in struck:
        part = audio[0, 4000:20_000] * np.hanning(16_000)
        pitches.append(
            np.argmax(np.abs(np.fft.rfft(part, 1 << 18))) * session.loop.rate / (1 << 18)
        )
    roots = [session.loop.chords[i].root for i in (0, 1)]
    away = 12 * np.log2(pitches[1] / pitches[0]) - (roots[1] - roots[0])
    assert abs((away + 6) % 12 - 6) < 0.4  # each over its own chord
    session.transport.set_playing(True)
    press(drawer, 0, 0)
    qtbot.wait(300)
    assert len(struck) == 2  # the loop itself has it
    settled(qtbot, session)


@pytest.mark.parametrize("off", ["bed", "lane"])
def test_drawing_into_what_is_off_turns_it_on_and_says_so(drawer, window, off):
    session = window.session
    lane_id = session.loop.lanes[0].id
    if off == "bed":
        session.apply("off", lambda loop: beds.set_heard(loop, on=False))
    else:
        session.apply("off", lambda loop: loop.with_owner(lane_id, mute=True))
    press(drawer, 0, 960)
    assert ticks(drawer, 0) == [960]
    assert session.loop.layer(lane_id) in session.loop.bed.heard
    name = "The groove bed" if off == "bed" else "Kick"
    assert f"{name} is now on" in window.message.text()
    session.document.undo()
    assert ticks(drawer, 0) == [] and session.loop.layer(lane_id) not in session.loop.bed.heard
    # What only changes hits turns nothing on.
    session.document.redo()
    session.apply("off", lambda loop: beds.set_heard(loop, on=False))
    drawer.lanes.choose(0, frozenset({0}))
    key(drawer, Qt.Key.Key_Right, CTRL)
    assert ticks(drawer, 0) == [1200] and not session.loop.bed.heard


def test_after_a_roll_key_all_its_strokes_are_chosen(drawer):
    drawer.lanes.choose(0)
    drawer.lanes.at_tick = 960
    key(drawer, Qt.Key.Key_4)
    assert ticks(drawer, 0) == [960, 1020, 1080, 1140]
    assert drawer.lanes.numbers == {0, 1, 2, 3} and drawer.lanes.at_tick == 960
    key(drawer, Qt.Key.Key_Delete)
    assert ticks(drawer, 0) == []


def test_low_drums_stop_each_other(small_loop):
    loop = beds.add_lane(beds.add_lane(small_loop, "low drum"), "low octave")
    assert len({hits_of(x).choke for x in loop.lanes}) == 1 and hits_of(loop.lanes[0]).choke


def test_deliver_offers_a_bed_that_is_off(qtbot, drawer, window):
    session = window.session
    press(drawer, 0, 960)
    session.apply("off", lambda loop: beds.set_heard(loop, on=False))
    window.show_stage(6)
    files = window.deliver.files
    assert files.bed_on.isVisible() and not files.parts["bed"].isVisible()
    QTest.mouseClick(files.bed_on, LEFT)
    assert session.loop.bed.heard and files.parts["bed"].isChecked()
    assert not files.bed_on.isVisible() and files.parts["bed"].isVisible()
