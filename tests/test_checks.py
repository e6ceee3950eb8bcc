"""Checks before a loop is handed over: each on a loop made to fail it and on one made to pass."""

import functools
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from cloudrift.deliver import PARTS
from cloudrift.deliver.checks import CHECKS, Heard, check_all, to_fix
from cloudrift.deliver.checks.contents import clipped_runs, noise_of
from cloudrift.deliver.checks.sound import seam_db
from cloudrift.deliver.rights import rights_of
from cloudrift.ground.cancel import Cancelled
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.edits.layers.own_notes import with_own
from cloudrift.loop.edits.layers.recordings import add_recording
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.notes import Note
from cloudrift.render import Engine
from cloudrift.style import find_card, house_cards, sketch
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Treatment
from cloudrift.theory import Key
from tests.conftest import make_small_loop

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

SMALL = make_small_loop()
PEOPLE = Credits(people=(Person(name="Tern", did=("wrote", "mixed"), share=100.0),))
RATE = SMALL.rate
FRAMES = SMALL.sounding_frames


@pytest.fixture(scope="module")
def engine():
    made = Engine()
    yield made
    made.close()


def heard(engine, loop=SMALL, *, sound=None, credits=PEOPLE, **about):
    made = Heard(Document(loop=loop, credits=credits), engine, **about)
    if sound is not None:
        made.sound = np.asarray(sound, np.float32)
    return made


def find(engine, name, loop=SMALL, **about):
    return CHECKS[name].find(heard(engine, loop, **about))


def tone(hz, db=-12.0, frames=FRAMES):
    """A tone that goes round in the loop without a step."""
    turns = round(hz * frames / RATE)
    return 10 ** (db / 20) * np.sin(2 * np.pi * turns * np.arange(frames) / frames)


def both(left, right=None):
    return np.stack([left, left if right is None else right])


def rng():
    return np.random.default_rng(3)


def put_right(engine, name, loop, **about):
    """What a check says once its change is made, with the sound rendered anew."""
    found = find(engine, name, loop, **about)
    assert found.severity != "fine", found
    after = found.change.edit(loop)
    assert after != loop
    return find(engine, name, after, **about)


# --- all of them ----------------------------------------------------------------------------------


def test_a_loop_of_the_house_has_nothing_to_fix(engine):
    found = check_all(heard(engine))
    assert to_fix(found) == 0, [one.finding for one in found if one.severity != "fine"]
    names = [one.check.name for one in found]
    assert names == [name for name in CHECKS if name not in ("clipped", "noise")]  # no recordings
    assert all(one.finding.measured for one in found)


def test_every_check_has_its_tests_here():
    """A check that is added needs a loop that fails it and one that passes."""
    here = Path(__file__).read_text()
    said = {name for name in CHECKS if f'"{name}"' in here}
    assert said == set(CHECKS)


@pytest.mark.parametrize("card", list(house_cards()))
@pytest.mark.parametrize("variation", [4, 21])
def test_no_check_cries_wolf_on_a_sketch(engine, card, variation):
    loop = sketch(house_cards()[card], variation=variation, bars=2, title="Ice Road")
    found = check_all(heard(engine, loop), [name for name in CHECKS if name != "marks"])
    assert [one.finding for one in found if one.severity != "fine"] == []


def test_every_check_and_every_part_is_in_the_docs():
    text = (Path(__file__).parent.parent / "docs" / "deliver.md").read_text()
    assert [name for name in (*CHECKS, *PARTS) if f"`{name}`" not in text] == []


def test_where_nothing_sounds_that_is_said_first(engine):
    loop = SMALL
    for layer in SMALL.layers:
        loop = layer_edits.set_layer(loop, layer.id, mute=True)
    first, *rest = check_all(heard(engine, loop))
    assert first.severity == "must" and "nothing plays" in first.finding.measured
    assert {one.check.name for one in rest} == {"unknown", "names", "rights"}


def test_it_stops_and_says_how_far_it_is(engine):
    with pytest.raises(Cancelled):
        check_all(heard(engine, cancelled=lambda: True))
    said = []
    check_all(heard(engine), ("peak", "dc"), lambda *where: said.append(where))
    assert said == [(0, 2, "true peak"), (1, 2, "dc"), (2, 2, "")]


# --- sound ----------------------------------------------------------------------------------------


def test_length_is_to_the_frame(engine):
    assert find(engine, "length").severity == "fine"
    long = np.zeros((2, FRAMES + 3))
    found = find(engine, "length", sound=long)
    assert (found.severity, found.value) == ("must", 3) and "+3 frames" in found.measured


def test_a_step_at_the_seam_is_heard(engine):
    whole = both(tone(220.0))
    assert find(engine, "seam", sound=whole).severity == "fine"
    assert seam_db(whole) < 3
    cut = np.array(whole)
    cut[:, :200] += 0.02
    assert find(engine, "seam", sound=cut).severity == "must"
    softly = np.array(whole)
    softly[:, : FRAMES // 2] += 0.0012 * np.linspace(1, 0, FRAMES // 2)
    assert find(engine, "seam", sound=softly).severity == "should"
    assert seam_db(np.zeros((2, 4))) == 0.0 == seam_db(np.zeros((2, 4000)))


@pytest.mark.parametrize(("db", "severity"), [
    (-1.2, "fine"), (-0.5, "should"), (0.4, "must"),
])  # fmt: skip
def test_true_peak(engine, db, severity):
    found = find(engine, "peak", sound=both(tone(997.0, db)))
    assert (found.severity, found.value) == (severity, pytest.approx(db, abs=0.1))
    if severity != "fine":
        assert found.where.startswith("at bar ")
        assert found.change.words.startswith("−")


def test_a_loop_that_is_too_loud_is_turned_down(engine):
    loud = layer_edits.set_layer(SMALL, "l1", level_db=12.0)
    loud = line_edits.insert_treatments(loud, None, (treated("trim", gain_db=18.0),))[0]
    assert find(engine, "peak", loud).severity == "must"
    after = put_right(engine, "peak", loud)
    assert after.severity == "fine" and after.value == pytest.approx(-1.1, abs=0.12)


def treated(kind, **settings):
    return Treatment(id="t90", kind=kind, version=find_kind(kind).version,
                     settings=tuple(sorted(settings.items())))  # fmt: skip


@pytest.mark.parametrize("target", [-23.0, -16.0, -14.0])
def test_loudness_is_brought_to_its_target_by_a_gain(engine, target):
    plain = find(engine, "loudness")
    assert plain.severity == "fine" and "no target" in plain.measured
    for off in (4.0, -9.0):
        trim = treated("trim", gain_db=target - plain.value + off)
        away = line_edits.insert_treatments(SMALL, None, (trim,))[0]
        found = find(engine, "loudness", away, target_lufs=target)
        assert found.severity == "fine" and found.value == pytest.approx(target, abs=0.05)
        assert f"{-off:+.1f}".replace("-", "−") in found.measured


def test_what_a_gain_can_not_bring_to_its_target_goes_through_a_limiter(engine):
    sharp = sketch(find_card("Piet Harrow"), Key("A", "minor"), 120.0, 2, bars=2, title="Ice Road")
    found = find(engine, "loudness", sharp, target_lufs=-9.0)
    assert found.severity == "should" and found.value < -10
    after = put_right(engine, "loudness", sharp, target_lufs=-9.0)
    assert after.severity == "fine"
    made = found.change.edit(sharp)
    assert find(engine, "peak", made).severity == "fine"
    blended = replace(sharp, line_blend=0.5)  # a limiter that is blended would not hold
    assert find(engine, "loudness", blended, target_lufs=-5.0).change is None


def test_dc(engine):
    assert find(engine, "dc").severity == "fine"
    found = find(engine, "dc", sound=both(tone(220.0), tone(220.0) + 0.01))
    assert found.severity == "should" and found.value == pytest.approx(-40, abs=0.1)
    assert found.where == "on the right"
    after = found.change.edit(SMALL)
    assert after.line[-1].full.number("low_cut_hz") == 24.0


def test_what_is_lost_on_one_speaker_by_band(engine):
    low, high = tone(125.0), tone(2000.0)
    assert find(engine, "mono", sound=both(low + high)).value == pytest.approx(0, abs=0.1)
    wide = find(engine, "mono", sound=both(low + high, low - 0.5 * high))
    assert wide.severity == "should" and "2000 Hz" in wide.where
    assert wide.value == pytest.approx(10 * np.log10((1.25 / 2) / 0.0625), abs=0.1)
    gone = find(engine, "mono", sound=both(low + high, low - high))
    assert gone.severity == "must"
    soft = find(engine, "mono", sound=both(low + 0.01 * high, low - 0.01 * high))
    assert soft.severity == "fine"  # nobody would miss it


def widened():
    """A loop whose sides are much louder than its middle."""
    loop = line_edits.insert_treatments(SMALL, None, (treated("trim", width=200.0),) * 2)[0]
    return line_edits.add_treatment(layer_edits.set_layer(loop, "l2", pan=-1.0), "l1", "doubler")


def test_a_loop_that_is_too_wide_is_made_narrower(engine):
    after = put_right(engine, "mono", widened())
    assert after.severity == "fine" and after.value > 4.5  # no narrower than it has to be


def test_the_low_end_is_in_the_middle(engine):
    middle = both(tone(60.0))
    assert find(engine, "low width", sound=middle).severity == "fine"
    side = find(engine, "low width", sound=both(tone(60.0), 0.1 * tone(60.0)))
    assert side.severity == "should" and side.value == pytest.approx(100 * 0.81 / 2.02, abs=0.5)
    assert side.change.edit(SMALL).line[-1].full.number("mono_hz") == 150.0
    high = find(engine, "low width", sound=both(tone(2000.0), -tone(2000.0)))
    assert high.severity == "fine" and high.measured == "nothing there"


def test_phase(engine):
    one = tone(440.0)
    assert find(engine, "phase", sound=both(one)).value == pytest.approx(1.0)
    against = find(engine, "phase", sound=both(one, -0.9 * one))
    assert against.severity == "should" and against.value == pytest.approx(-1.0, abs=0.01)
    turned = np.array(both(one))
    turned[1, RATE : 2 * RATE] *= -1
    for_a_second = find(engine, "phase", sound=turned)
    assert for_a_second.severity == "should" and for_a_second.value > 0
    assert for_a_second.where.startswith("at bar 1, beat ")
    turned[:, RATE : 2 * RATE] *= 0.01
    assert find(engine, "phase", sound=turned).severity == "fine"  # too soft to matter


def test_silence_at_the_start(engine):
    assert find(engine, "start").severity == "fine"
    late = both(tone(440.0))
    late[:, : RATE // 5] = 0
    found = find(engine, "start", sound=late)
    assert found.severity == "should" and found.value == pytest.approx(200, abs=2)


def test_a_tail_rings_out(engine):
    made = heard(engine)
    fine = CHECKS["tail"].find(made)
    assert fine.severity == "fine" and "at the loop point" in fine.measured
    told = CHECKS["tail"].find(heard(engine, with_tail=True))
    assert "exported with one pass" in told.measured
    made.once = made.once[:, : FRAMES + RATE // 4]
    cut = CHECKS["tail"].find(made)
    assert cut.severity == "should" and "cut off while it still rings" in cut.measured


# --- music ----------------------------------------------------------------------------------------


def test_tempo_is_heard_again(engine):
    fine = find(engine, "tempo")
    assert fine.severity == "fine"
    other = sketch(find_card("Edda Fenn"), Key("A", "minor"), 97.0, 2, bars=4)
    found = find(engine, "tempo", sound=engine.without_bed(other))
    assert found.severity == "should" and found.value == pytest.approx(97, abs=0.5)
    assert "written 140 BPM, estimated 97.0 BPM, " in found.measured
    half = loop_edits.set_tempo(SMALL, 48.5)  # counted at half the tempo, it is the same
    assert find(engine, "tempo", half, sound=engine.without_bed(other)).severity == "fine"
    held = find(engine, "tempo", sound=both(tone(220.0)))
    assert held.severity == "fine"


def test_key_is_heard_again(engine):
    loop = replace(SMALL, line=())
    fine = find(engine, "key", loop)
    assert fine.severity == "fine" and "F♯ minor" in fine.measured
    wrong = loop_edits.rename_key(loop, Key("C", "minor"))
    after = put_right(engine, "key", wrong)
    assert after.severity == "fine"


def played(*pitches, over=SMALL.chords):
    """The loop whose first layer plays notes of its own, a beat each."""
    notes = [Note(start_tick=i * 960, length_ticks=900, pitch=p, velocity=90)
             for i, p in enumerate(pitches)]  # fmt: skip
    return with_own(replace(SMALL, style="", chords=over), "l1", notes)


def test_notes_off_key(engine):
    fine = find(engine, "off key")
    assert fine.severity == "fine" and fine.value == 0
    off = played(66, 67, 70, 73)  # G and B flat are in neither F sharp minor nor its chords
    found = find(engine, "off key", off)
    assert found.severity == "should" and found.where == f"in {SMALL.layer('l1').name}"
    after = found.change.edit(off)
    assert [note.pitch for note in after.layer("l1").own] == [66, 68, 71, 73]
    assert find(engine, "off key", after).value == 0
    led = played(65, over=())  # a minor key's leading note is none that is off
    assert find(engine, "off key", led).value == 0
    # Nor is what a chord brings along.
    first = SMALL.chords[0]
    borrowed = replace(first, voices=tuple(sorted({*first.voices, 67})))
    assert find(engine, "off key", played(67, over=(borrowed, *SMALL.chords[1:]))).value == 0


def test_room_for_a_voice(engine):
    assert find(engine, "voice").severity == "fine"
    crowded = line_edits.insert_treatments(SMALL, None, (treated(
        "cuts", low_cut_hz=1100.0, high_cut_hz=3800.0, slope_db=48.0),))[0]  # fmt: skip
    found = find(engine, "voice", crowded)
    assert found.severity == "should" and found.value > -4
    layer = next(x for x in SMALL.layers if x.name in found.where)
    after = found.change.edit(crowded).layer(layer.id)
    assert after.level_db == pytest.approx(layer.level_db - 3.0, abs=0.05)


def test_crowding(engine):
    assert find(engine, "crowding").severity == "fine"
    twin = layer_edits.add_layer(SMALL, SMALL.layer("l1").played.sound.name, "Twin")
    keys = SMALL.layer("l1")
    twin = layer_edits.set_layer(twin, twin.layers[-1].id, source=keys.source, line=keys.line,
                           level_db=keys.level_db)  # fmt: skip
    found = find(engine, "crowding", twin)
    assert found.severity == "should" and "Twin" in found.measured
    after = found.change.edit(twin)
    assert find(engine, "crowding", after).severity == "fine"


def test_style_marks(engine):
    assert find(engine, "marks", replace(SMALL, style="")) is None
    assert find(engine, "marks").severity == "fine"
    other = replace(SMALL, style="Bram Okada")
    found = find(engine, "marks", other)
    assert found.severity == "should" and found.where.startswith("missed: ")
    after = find(engine, "marks", found.change.edit(other))
    assert after.value > found.value


# --- contents -------------------------------------------------------------------------------------


def test_what_is_unknown_is_left_out_at_a_press(engine):
    assert find(engine, "unknown").severity == "fine"
    odd = replace(SMALL, line=(*SMALL.line, Treatment(id="t99", kind="from tomorrow", version=3)))
    layer = odd.layer("l2")
    use = replace(layer.played.sound, name="sound of tomorrow", settings=())
    odd = layer_edits.set_source(odd, "l2", sound=use)
    odd = line_edits.set_line(odd, "l1", (Treatment(id="t98", kind="from tomorrow", version=3),))
    found = find(engine, "unknown", odd)
    assert found.severity == "must" and "from tomorrow" in found.measured
    after = found.change.edit(odd)
    assert find(engine, "unknown", replace(after, layers=tuple(
        x for x in after.layers if not x.parked))).severity == "fine"  # fmt: skip
    assert after.layer("l2").parked and after.layer("l1").line == ()


def with_clip(engine, audio, name="Quay voice", licence="own recording"):
    clip = engine.clips.record(np.asarray(audio, np.float32), RATE)
    facts = Facts(name=name, kind="phrase", licence=licence, length_s=audio.shape[1] / RATE)
    return add_recording(SMALL, FromRecording(clip=clip, facts=facts))


def phrase(noise_db=-90.0, top=1.0):
    """A voice that sings and rests, over noise, clipped."""
    t = np.arange(3 * RATE) / RATE
    sung = 0.5 * np.sin(2 * np.pi * 311 * t) * (np.sin(2 * np.pi * t) > 0)
    made = sung + 10 ** (noise_db / 20) * rng().normal(size=t.size)
    return both(np.clip(made, -top, top))


def test_clipped_recordings(engine):
    assert find(engine, "clipped") is None
    assert find(engine, "clipped", with_clip(engine, phrase())).severity == "fine"
    found = find(engine, "clipped", with_clip(engine, phrase() * 2.5, "Cut"))
    assert found.severity == "should" and found.where == "in Cut"
    assert clipped_runs(np.clip(phrase() * 4, -0.99, 0.99)) > 100
    assert clipped_runs(np.clip(phrase() * 4, -0.5, 0.5)) == 0  # soft, however flat
    assert clipped_runs(np.zeros((2, 100))) == 0


def test_noise_of_recordings(engine):
    assert find(engine, "noise") is None
    quiet = with_clip(engine, phrase(-80))
    assert find(engine, "noise", quiet).severity == "fine"
    noisy = with_clip(engine, phrase(-30))
    found = find(engine, "noise", noisy)
    assert found.severity == "should" and found.where == "in Quay voice"
    assert found.value == pytest.approx(-30 + 9, abs=2.5)
    after = find(engine, "noise", found.change.edit(noisy))
    assert after.severity == "fine"
    t = np.arange(2 * RATE) / RATE
    assert noise_of(both(np.sin(2 * np.pi * 300 * t)), RATE) is None  # a held note is none
    assert noise_of(np.zeros((2, 2 * RATE)), RATE) is None


def test_names(engine):
    assert find(engine, "names").severity == "fine"
    assert "no name yet" in find(engine, "names", replace(SMALL, title="Untitled loop")).measured
    long = replace(SMALL, title="Polar Night " * 9)
    assert put_right(engine, "names", long).severity == "fine"
    same = layer_edits.set_layer(
        layer_edits.set_layer(SMALL, "l1", name="Harbour"), "l2", name="harbour!"
    )
    found = find(engine, "names", same)
    assert found.where == "in Harbour and harbour!"
    assert put_right(engine, "names", same).severity == "fine"


def test_stems_add_up(engine):
    grouped = layer_edits.group_layers(SMALL, ("l1", "l2"))
    for loop in (SMALL, grouped):
        found = find(engine, "stems", loop)
        assert found.severity == "fine" and found.value < -90
    made = heard(engine)
    made.stems_sum = made.stems_sum + both(tone(440.0, -70.0))
    assert CHECKS["stems"].find(made).severity == "must"
    push = (treated("trim", gain_db=18.0),)
    loud = heard(engine, line_edits.insert_treatments(SMALL, "l4", push)[0])
    over = CHECKS["stems"].find(loud)
    assert over.severity == "should" and over.value > 0 and "32-bit float" in over.measured
    made.stems_sum = made.stems_sum[:, :-1]
    assert "frames" in CHECKS["stems"].find(made).measured
    silent = functools.reduce(
        lambda x, y: layer_edits.set_layer(x, y.id, mute=True), SMALL.layers, SMALL
    )
    assert find(engine, "stems", silent) is None


def test_rights(engine):
    assert find(engine, "rights").severity == "fine"
    nobody = find(engine, "rights", credits=Credits())
    assert nobody.severity == "should" and "no author is named" in nobody.measured
    unclear = with_clip(engine, phrase(), licence="for personal use")
    found = find(engine, "rights", unclear)
    assert found.severity == "must" and "Quay voice" in found.measured
    clip = unclear.layers[-1].recorded.clip
    looked_into = replace(PEOPLE, confirmed=(clip,))
    assert find(engine, "rights", unclear, credits=looked_into).severity == "fine"
    assert rights_of(Document(loop=unclear, credits=looked_into)).complete
