"""What is heard against what is written: compared loudness, hear, groups, blended lines, stems."""

import json

import numpy as np
import pytest
import soundfile
from msgspec.structs import replace
from PyQt6.QtWidgets import QLabel

from cloudrift.deliver import Order, deliver, free_number, parcels
from cloudrift.desktop.session.hearing.hearing import BARE, TREATED
from cloudrift.ground import CloudriftError
from cloudrift.loop import load, save
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import loop_from
from cloudrift.loop.sounding import key_heard
from cloudrift.render import Engine
from cloudrift.render.engine.engine import Loudness
from cloudrift.render.measure.match import matched
from cloudrift.render.plan.plan import loop_node
from cloudrift.render.plan.variants import alone
from cloudrift.texture import Treatment
from tests.conftest import db, file_text, in_schema, rms
from tests.hands import saved, settled

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here


@pytest.fixture
def engine():
    made = Engine()
    yield made
    made.close()


def laid(loop, owner, *kinds):
    return line_edits.set_line(loop, owner, tuple(Treatment(id=f"t{i}", kind=kind)
                                             for i, kind in enumerate(kinds)))  # fmt: skip


# --- equally loud ---------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("bare", "treated"),
    [((-20, -8), (-14, -1)), ((-20, -2), (-10, -0.3)), ((-12, 0.0), (-6.6, -1)),
     ((-10, -1), (-30, -12)), ((-30, 3.0), (-20, -1)), ((-60, -40), (-9, -1))],
)  # fmt: skip
def test_both_sides_are_equally_loud_and_neither_is_clipped(bare, treated):
    one, other = (Loudness(lufs=lufs, true_peak_db=peak) for lufs, peak in (bare, treated))
    match = matched(one, other)
    assert match.equal
    assert one.lufs + match.one_db == pytest.approx(other.lufs + match.other_db, abs=1e-6)
    assert one.true_peak_db + match.one_db <= 1e-6
    assert match.other_db <= 0


def test_what_is_turned_is_said_and_silence_is_not_matched():
    loud, hot = Loudness(lufs=-9, true_peak_db=-0.3), Loudness(lufs=-14.4, true_peak_db=0.0)
    assert matched(hot, loud).says("bare", "treated") == "matched: bare +0.0, treated −5.4 dB"
    assert matched(loud, hot).says("bare", "treated") == "matched: bare −5.4 dB"
    silent = Loudness(lufs=-120, true_peak_db=-120)
    match = matched(silent, Loudness(lufs=-62, true_peak_db=-50))
    assert (match.one_db, match.other_db, match.equal) == (0, 0, False)
    assert match.says("bare", "treated") == "not matched: bare is silent"
    assert matched(silent, silent).says("then", "now") == "not matched: both are silent"
    assert matched(None, loud).one_db == 0


def test_the_louder_side_is_turned_down_while_they_are_compared(window, qtbot, speaker):
    session = window.session
    session.apply("x", lambda p: laid(p, None, "limiter"))
    push = session.loop.line[0].id
    session.apply("y", lambda p: line_edits.set_treatment_setting(p, None, push, "push_db", 24.0))
    settled(qtbot, session)
    bare, treated = session.hearing.loudness[BARE], session.hearing.loudness[TREATED]
    match = session.hearing.match
    assert match.other_db < -1  # the bare side has no room for all of it
    played = []
    session.transport.set_playing(True)
    for side in (TREATED, BARE, TREATED):
        session.hearing.hear(side)
        gain = session.hearing.gain_of(side)
        speaker.pull(2048)
        speaker.pull(2048)
        at = round(session.player.share * session.hearing.rendered[side].audio.shape[1])
        out = speaker.pull(4096)
        wanted = session.hearing.rendered[side].audio[:, at : at + 4096].T * gain
        assert np.abs(out - wanted).max() < 2e-3
        played.append({TREATED: treated, BARE: bare}[side].lufs + 20 * np.log10(gain))
    assert played[0] == pytest.approx(treated.lufs)  # until it is compared it is as it is
    assert played[1] == pytest.approx(played[2], abs=0.01)
    assert "treated −" in window.heading.matched.text()
    session.transport.set_playing(False)
    assert session.hearing.gain_of(TREATED) == 1.0


# --- hear is listening ----------------------------------------------------------------------------


def test_hear_changes_nothing_but_what_is_heard(window, qtbot):
    session = window.session
    window.show_stage(1)
    before = session.loop
    session.document.open(before, session.document.path)
    row = window.layers.rows["l2"]
    session.apply("off", lambda p: layer_edits.set_layer(p, "l2", mute=True))
    steps = session.document.history.at
    row.hear.click()  # never a dead press: a layer that is off is heard too
    assert [x.id for x in session.hearing.heard_loop.heard()] == ["l2"]
    assert row.hear.isChecked() and row.off.isChecked()
    assert session.document.history.at == steps and session.loop.layer("l2").mute
    window.show_stage(6)
    words = [w.text() for w in window.deliver.files.inspector.findChildren(QLabel)]
    assert any("Some layers are soloed" in text for text in words)
    session.apply("gone", lambda p: layer_edits.remove_layer(p, "l2"))
    assert not session.hearing.alone  # nobody is left to hear alone
    assert len(session.hearing.heard_loop.heard()) == 3


@pytest.mark.parametrize("release", ["park", "whole"])
def test_who_cannot_be_heard_alone_is_not_marked_so(window, release):
    session = window.session
    window.show_stage(1)
    for layer_id in ("l1", "l2"):
        window.layers.rows[layer_id].hear.click()
    if release == "park":
        # As by what takes the place of a layer: the mark would be pressed, and dead.
        session.apply("instead", lambda p: layer_edits.set_layer(p, "l2", parked=True))
        assert session.hearing.alone == {"l1"} and not window.layers.rows["l2"].hear.isChecked()
        session.apply("instead", lambda p: layer_edits.set_layer(p, "l1", parked=True))
    else:
        window.hear_all()
    assert not session.hearing.alone
    assert not any(row.hear.isChecked() for row in window.layers.rows.values())


def test_alone_reaches_into_groups(small_loop):
    loop = layer_edits.group_layers(small_loop, ["l1", "l2"])
    off = layer_edits.set_group(layer_edits.set_layer(loop, "l1", mute=True), "g1", mute=True)
    assert [x.id for x in alone(off, {"g1"}).heard()] == ["l1", "l2"]
    assert [x.id for x in alone(off, {"l1", "l3"}).heard()] == ["l1", "l3"]
    assert alone(off, ()) is off and alone(off, {"nobody"}) is off
    parked = layer_edits.set_layer(loop, "l1", parked=True)
    assert [x.id for x in alone(parked, {"g1"}).heard()] == ["l2"]


def test_older_files_that_held_hear_open_whole(small_loop, tmp_path):
    text = json.dumps(in_schema(json.loads(file_text(small_loop)), 5))
    text = text.replace('"parked": false', '"parked": false, "solo": true', 1)
    assert '"solo": true' in text
    assert loop_from(text.encode(), "old") == small_loop
    with pytest.raises(CloudriftError, match="solo"):
        loop_from(text.replace('"schema": 5', '"schema": 6').encode(), "new")


# --- groups ---------------------------------------------------------------------------------------


def test_a_group_has_level_pan_hear_and_off(window, qtbot):
    session = window.session
    session.apply("group", lambda p: layer_edits.group_layers(p, ["l1", "l2"], "Dusk"))
    window.show_stage(1)
    assert [o.layer_id for o in window.layers.rows.values()] == ["l1", "l2", "l3", "l4"]
    row = window.layers.groups["g1"]
    row.level.type_text("-6")
    row.pan.type_text("50")
    assert (session.loop.group("g1").level_db, session.loop.group("g1").pan) == (-6, 0.5)
    assert session.document.history.undo_label == "pan of Dusk"
    row.off.click()
    assert [x.id for x in session.loop.heard()] == ["l3", "l4"]
    assert window.layers.heard.text().startswith("2 of 4 on, without Dusk keys, Slow vault")
    row.off.click()
    row.hear.click()
    assert [x.id for x in session.hearing.heard_loop.heard()] == ["l1", "l2"]
    row.hear.click()
    assert saved(session.document.save, session.document.keeper.shelter.folder.parent / "g")
    assert load(session.document.path) == session.loop
    session.document.undo()
    session.document.undo()
    session.document.undo()
    assert session.loop.group("g1").pan == 0  # pan, after off and on
    with pytest.raises(CloudriftError, match="group g1: pan is 3"):
        layer_edits.set_group(session.loop, "g1", pan=3)


def test_a_group_s_level_and_pan_are_measured(engine, small_loop):
    loop = layer_edits.group_layers(small_loop, ["l1", "l2"])
    loop = laid(loop, None)
    for owner in ("l3", "l4"):
        loop = layer_edits.set_layer(loop, owner, mute=True)
    plain = engine.render(loop).audio
    down = engine.render(layer_edits.set_group(loop, "g1", level_db=-12.0)).audio
    assert db(rms(down) / rms(plain)) == pytest.approx(-12, abs=0.01)
    left = engine.render(layer_edits.set_group(loop, "g1", pan=-1.0)).audio
    assert rms(left[1]) < 1e-6 and rms(left[0] - plain[0]) < 1e-6
    silent = engine.render(layer_edits.set_group(loop, "g1", level_db=-60.0)).audio
    assert rms(silent) == 0


# --- a whole line is blended ----------------------------------------------------------------------


@pytest.mark.parametrize("owner", ["l1", "g1", None])
def test_a_blended_line_lies_between_bare_and_treated(engine, small_loop, owner):
    loop = layer_edits.group_layers(small_loop, ["l1", "l2"])
    loop = laid(loop, owner, "overdrive", "hall")
    wet, dry, half = (
        engine.audio(loop_node(line_edits.set_line_blend(loop, owner, blend), engine.tones))
        for blend in (1.0, 0.0, 0.5)
    )
    bare = engine.render(line_edits.set_line(loop, owner, ())).audio
    assert np.abs(dry - bare).max() < 1e-6 and rms(wet - bare) > 1e-3
    if owner is None:
        assert np.abs(half - (wet + bare) / 2).max() < 1e-6
    else:
        assert 0 < rms(half - bare) < rms(wet - bare)


def test_a_line_is_blended_in_texture_but_not_over_another_length(window, qtbot):
    session, stage = window.session, window.texture
    window.show_stage(2)
    session.apply("x", lambda p: laid(p, None, "shift"))
    assert stage.blend.isVisible() and stage.blend.isEnabled()
    shift = session.loop.line[0].id
    session.apply(
        "y", lambda p: line_edits.set_treatment_setting(p, None, shift, "semitones", -3.0)
    )
    assert key_heard(session.loop).text == "D♯ minor"
    stage.blend.type_text("40")
    assert session.loop.line_blend == 0.4
    assert key_heard(session.loop) == session.loop.key  # most of what is heard is as written
    stage.blend.type_text("80")
    assert key_heard(session.loop).text == "D♯ minor"
    session.apply(
        "z", lambda p: line_edits.set_treatment_setting(p, None, shift, "way", "like tape")
    )
    assert not stage.blend.isEnabled()
    assert key_heard(session.loop).text == "D♯ minor"
    with pytest.raises(CloudriftError, match="changes the length"):
        line_edits.set_line_blend(session.loop, None, 0.5)
    session.apply("none", lambda p: line_edits.set_line(p, None, ()))
    assert not stage.blend.isVisible()


# --- stems ----------------------------------------------------------------------------------------


def test_the_stems_add_up_to_the_bare_sum_also_with_groups(small_loop, tmp_path):
    loop = layer_edits.group_layers(small_loop, ["l1", "l2"], "Dusk")
    loop = laid(loop, "g1", "overdrive")
    loop = layer_edits.set_group(loop, "g1", level_db=-3.0, pan=0.3)
    paths = deliver(loop, tmp_path, Order(parts=("loop", "stems"), bits=32))
    audio = {p.name: soundfile.read(p)[0] for p in paths}
    stems = [a for name, a in audio.items() if "_stem-" in name]
    assert len(stems) == 3  # two layers and the group
    bare = next(a for name, a in audio.items() if "_bare" in name)
    assert db(np.abs(sum(stems) - bare).max()) < -90
    parts = [name for name in audio if "_part-" in name]
    assert [name.split("_part-")[1] for name in parts] == [
        "dusk-1-dusk-keys.wav", "dusk-2-slow-vault.wav",
    ]  # fmt: skip
    what = {p.name: p.what for p in parcels(loop, Order(parts=("loop", "stems")))}
    assert "sum of the 3 stems" in what[next(name for name in what if "_bare" in name)]
    assert "not a stem" in what[parts[0]]


def test_writing_again_overwrites_nothing(small_loop, tmp_path):
    first = deliver(small_loop, tmp_path, Order(parts=("loop", "midi")))
    before = [p.read_bytes() for p in first]
    louder = layer_edits.set_layer(small_loop, "l1", level_db=6.0)
    second = deliver(louder, tmp_path, Order(parts=("loop", "stems", "midi")))
    assert [p.read_bytes() for p in first] == before
    assert all(p.stem.endswith("_2") for p in second)  # one delivery is one set
    assert free_number(small_loop, Order(), tmp_path) == 3
    assert deliver(louder, tmp_path, Order(parts=("loop", "midi")), number=1) == first  # asked for
    assert first[0].read_bytes() != before[0]


def test_the_deliver_stage_says_what_it_will_number(window, qtbot, tmp_path):
    window.show_stage(6)
    stage = window.deliver.files
    stage.parts["stems"].setChecked(False)
    stage.parts["midi"].setChecked(False)
    stage.folder.setText(str(tmp_path / "out"))
    assert not stage.numbered.isVisible()
    assert stage.write.text() == "Export 1 file"
    stage.write.click()
    qtbot.waitUntil(lambda: stage.result.text().startswith("Exported"), timeout=30_000)
    assert stage.result.text() == f"Exported 1 file to {tmp_path / 'out'}"
    assert stage.numbered.isVisible() and "number 2" in stage.numbered.text()
    stage.write.click()
    qtbot.waitUntil(lambda: len(list((tmp_path / "out").iterdir())) == 2, timeout=30_000)
    assert "each pass" in stage.inspector.under.text()
    seconds = window.session.loop.frames / window.session.loop.rate
    stage.once.setChecked(True)
    said = stage.inspector.under.text()
    at_most = float(said.split("tail, ")[1].split(" s at")[0])
    once = window.session.engine.once(window.session.loop)
    assert seconds < once.shape[1] / window.session.loop.rate <= at_most + 0.01
    stage.once.setChecked(True)
    words = " ".join(w.text() for w in stage.inspector.findChildren(QLabel))
    assert "The files contain tempo, key and licence." in words and "loop points" not in words


def test_the_command_line_numbers_too(small_loop, tmp_path, capsys):
    from tests.conftest import run

    for name in ("a", "b"):  # two files of one loop in one call, and then again
        save(small_loop, tmp_path / f"{name}.cloudrift")
    out = tmp_path / "out"
    files = sorted(tmp_path.glob("*.cloudrift"))
    assert run("render", *files, "-o", out) == 0
    assert len(list(out.iterdir())) == 2
    assert run("render", files[0], "-o", out) == 0
    assert len(list(out.iterdir())) == 3
    assert run("render", files[0], "-o", out, "--replace") == 0
    assert len(list(out.iterdir())) == 3


def test_one_layer_is_said_to_be_heard_as_one(small_loop):
    from cloudrift.desktop.stages.layers.recording_words import heard_words

    one = replace(small_loop, layers=small_loop.layers[:1], style="")
    assert heard_words(one) == "it is on"
    off = layer_edits.set_layer(replace(small_loop, layers=small_loop.layers[:2], style=""), "l2",
                          mute=True)  # fmt: skip
    assert heard_words(off) == f"1 of 2 on, without {off.layer('l2').name}"
