"""Grooves: manners, drawing one from where a loop strikes, its marks."""

import json

import numpy as np
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from cloudrift.cli.main import commands
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.bed import beds, hitting
from cloudrift.loop.files.storage import load, save
from cloudrift.loop.model.bed import Duck, hits_of
from cloudrift.loop.model.hits import Hit
from cloudrift.notes.time import bar_ticks
from cloudrift.render import Engine
from cloudrift.render.measure.strokes import STEP_TICKS, folded, onset_strengths
from cloudrift.style import house_cards, sketch
from cloudrift.style.groove import suggest_bed, usual_manner, written_strengths
from cloudrift.style.manner import chances_of, find_manner, manners, read_manner
from cloudrift.style.marks import KINDS, View, change_for, look
from tests.test_bed import LOOP, lane, with_lanes

pytestmark = pytest.mark.usefixtures("remembering")  # sound is a means here

BAR, RATE = 3840, 44_100


@pytest.fixture(scope="module")
def loop():
    """A sketch without a bed."""
    return replace(sketch(house_cards()["Marlow Quist"], variation=3, bars=4), bed=None)


@pytest.fixture(scope="module")
def strengths(loop):
    engine = Engine()
    found = onset_strengths(engine.without_bed(loop), loop.rate, loop)
    engine.close()
    return found


def strokes(loop, name="A"):
    """What each lane strikes in a pattern: names and ticks."""
    return {(x.name, hit.tick) for x in loop.lanes for pattern in hits_of(x).patterns
            if pattern.name == name for hit in pattern.hits}  # fmt: skip


# --- listening ------------------------------------------------------------------------------------


def test_the_loop_s_own_strokes_are_heard_where_they_are_and_round_the_seam():
    loop = with_lanes(lane("b1", "snare", Hit(tick=0), Hit(tick=1200), Hit(tick=2880, velocity=50)))
    engine = Engine()
    audio = np.array(engine.render(loop).audio)
    engine.close()
    found = onset_strengths(audio, RATE, LOOP)
    assert len(found) == 32
    struck = set(np.flatnonzero(found > 0.3).tolist())
    assert struck == {0, 5, 12, 16, 21, 28}
    assert found[0] == pytest.approx(1, abs=0.05) and found[12] < found[5]


def test_silence_strikes_nowhere_and_turns_are_folded():
    assert not onset_strengths(np.zeros((2, RATE), np.float32), RATE, LOOP).any()
    twice = folded(np.array([1.0, 0.0] * 8 + [0.0, 0.5] * 8), 1, (4, 4))
    assert twice.tolist() == [0.5, 0.25] * 8
    assert len(folded(np.ones(4), 1, (4, 4))) == 16 and len(folded(np.zeros(0), 1, (4, 4))) == 16


# --- manners --------------------------------------------------------------------------------------


def test_there_are_manners_enough_each_with_its_own_lanes():
    assert len(manners()) >= 14
    shapes = {tuple((lane.part, lane.steps) for lane in one.lanes) for one in manners().values()}
    assert len(shapes) == len(manners())
    for name in ("half-time", "two-step", "southern", "slow soft", "march", "four on the floor"):
        assert find_manner(name).about.endswith(".")


def test_steps_are_chances():
    assert chances_of("x... 5... .... ...1") == [1, 0, 0, 0, 0.5, *[0] * 10, 0.1]


GOOD = 'name = "m"\nabout = "a"\n[[lanes]]\npart = "kick"\nsteps = ["x..............."]\n'


@pytest.mark.parametrize(("text", "said"), [
    (GOOD.replace("kick", "kik"), "there is no part called 'kik'; did you mean 'kick'"),
    (GOOD.replace("x....", "x..."), "has 15 steps, not 16"),
    (GOOD.replace("x....", "x..?."), "has '\\?', but a step is"),
    (GOOD + "velocity = [90, 20]\n", "write the smaller first"),
    (GOOD + "onsets = 3\n", "lanes\\[0\\].onsets"),
    (GOOD + "colour = 3\n", "colour"),
])  # fmt: skip
def test_a_wrong_manner_says_where(text, said):
    assert read_manner(GOOD, "x").lanes[0].part == "kick"
    with pytest.raises(CloudriftError, match=said):
        read_manner(text, "x")


def test_an_unknown_manner_names_the_nearest(tmp_path):
    with pytest.raises(CloudriftError, match="did you mean 'dusty'"):
        find_manner("dustyy")
    (tmp_path / "own.toml").write_text(GOOD)
    assert find_manner(str(tmp_path / "own.toml")).name == "m"


# --- drawing --------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", sorted(manners()))
def test_a_draw_is_the_same_again_and_another_is_not(loop, strengths, name):
    one, again, other = (
        suggest_bed(loop, manners()[name], strengths, variation=n) for n in (3, 3, 4)
    )
    assert one == again and strokes(one) != strokes(other)
    assert one.layers == loop.layers and one.bed.manner == name and one.bed.variation == 3
    assert {pattern.name for x in one.lanes for pattern in hits_of(x).patterns} == {
        "A", "B", "Bare"}  # fmt: skip
    bare = {hit for hit in strokes(one, "Bare")}
    low = {x.name for x in one.lanes if hits_of(x).on_roots}
    assert len(bare) < len(strokes(one))
    rolled = {beds.PARTS[of.part].name for of in manners()[name].lanes if of.rolls}
    plain = {hit for hit in bare if hit[0] not in low | rolled}
    assert plain <= strokes(one) | strokes(one, "B")
    assert all(tick % (4 * STEP_TICKS * 4) == 0 for name_, tick in bare if name_ in low)


@pytest.mark.parametrize("card", ["Marlow Quist", "Piet Harrow", "Lio Castellan"])
def test_what_listens_strikes_where_the_loop_does(card):
    loop = sketch(house_cards()[card], variation=5, bars=4)
    heard = written_strengths(loop)
    for manner in manners().values():
        listens = {of.part for of in manner.lanes if of.onsets >= 0.5}
        names = {beds.PARTS[part].name for part in listens}
        found = folded(heard, min(manner.bars, 4), loop.metre)
        strong, weak = found >= np.quantile(found, 0.75), found <= np.quantile(found, 0.5)
        on = off = 0
        for variation in range(1, 9):
            drawn = suggest_bed(loop, manner, heard, variation=variation)
            for name, tick in strokes(drawn):
                if name in names:
                    on += strong[tick // STEP_TICKS % len(found)]
                    off += weak[tick // STEP_TICKS % len(found)]
        assert on / strong.sum() >= 2 * off / weak.sum(), manner.name


def test_a_kick_and_a_low_drum_never_cover_each_other_s_beginning(loop, strengths):
    for manner in manners().values():
        for variation in range(1, 9):
            drawn = suggest_bed(loop, manner, strengths, variation=variation)
            for name in ("A", "B", "Bare"):
                played = beds.play_pattern(drawn, name)
                found = KINDS["kick_on_low"].measure(View(played))
                assert found is None or found.value == 0, (manner.name, variation, name)
    both = replace(find_manner("half-time"), meet="both")
    covered = [
        KINDS["kick_on_low"].measure(View(suggest_bed(loop, both, strengths, variation=d))).value
        for d in range(1, 5)
    ]
    assert max(covered) > 0


def test_busier_strikes_more_and_least_is_what_is_certain(loop, strengths):
    manner = find_manner("broken")
    counts = [len(strokes(suggest_bed(loop, manner, strengths, variation=2, busy=busy)))
              for busy in (0.0, 0.3, 0.5, 0.7, 1.0)]  # fmt: skip
    assert counts == sorted(counts) and counts[0] < counts[2] < counts[4]
    certain = suggest_bed(loop, manner, strengths, variation=2, busy=0.0)
    hats = next(x for x in certain.lanes if x.name == "Hats")
    assert [hit.tick % 480 for hit in hits_of(hats).pattern.hits] == [0] * 16


def test_locked_lanes_and_what_all_share_stay(loop, strengths):
    one = suggest_bed(loop, find_manner("half-time"), strengths, variation=1)
    hats = next(x for x in one.lanes if x.name == "Hats")
    one = beds.make_dirty(beds.lock(one, hats.id, on=True))
    one = beds.set_duck(one, depth_db=11.0)
    other = suggest_bed(one, find_manner("dusty"), strengths, variation=7)
    assert [x for x in other.lanes if x.name == "Hats"] == [hats]
    assert other.bed.group == one.bed.group and other.bed.duck.depth_db == 11
    kick = next(x for x in other.lanes if x.name == "Kick")
    assert other.bed.duck.lanes == (kick.id,)


def test_b_ends_otherwise_and_its_low_drum_jumps(loop, strengths):
    manner = find_manner("half-time")
    last = [(strokes(d) ^ strokes(d, "B")) for d in (
        suggest_bed(loop, manner, strengths, variation=n) for n in range(1, 7))]  # fmt: skip
    assert any(last) and all(tick >= BAR for one in last for _name, tick in one)
    drawn = suggest_bed(loop, manner, strengths, variation=1)
    low = next(x for x in drawn.lanes if hits_of(x).on_roots)
    assert next(p for p in hits_of(low).patterns if p.name == "B").hits[-1].st == 12


@pytest.mark.parametrize("metre", [(3, 4), (5, 4), (7, 8), (12, 8)])
def test_a_groove_is_drawn_in_any_metre(metre):
    loop = replace(LOOP, metre=metre)
    for manner in manners().values():
        drawn = suggest_bed(loop, manner, np.zeros(loop.ticks // STEP_TICKS), variation=1)
        length = min(manner.bars, loop.bars) * bar_ticks(metre)
        assert drawn.lanes and all(tick < length for _name, tick in strokes(drawn))


def test_the_manner_is_that_of_the_style(loop):
    assert usual_manner(loop) == house_cards()["Marlow Quist"].groove.manners[0]
    assert usual_manner(LOOP) in manners()


@pytest.mark.parametrize("name", sorted(house_cards()))
def test_a_sketch_has_a_groove_that_is_off_at_first(name):
    card = house_cards()[name]
    one, other = (sketch(card, variation=n) for n in (1, 2))
    assert one.bed.manner in card.groove.manners and not one.bed.heard and one.lanes
    assert strokes(one) != strokes(other)


# --- marks ----------------------------------------------------------------------------------------

GROOVE = with_lanes(
    lane("b1", "kick", Hit(tick=0), Hit(tick=1920)),
    lane("b2", "long drum", Hit(tick=0, length_ticks=960), Hit(tick=1920, length_ticks=960),
         on_roots=True),
    lane("b3", "snare", Hit(tick=960), Hit(tick=2880), Hit(tick=3600, velocity=30)),
    lane("b4", "closed hat", *(Hit(tick=t) for t in range(0, BAR, 480))),
    swing=58.0, late_ms=6.0, duck=Duck(lanes=("b1",), depth_db=4.0),
)  # fmt: skip
CASES = {
    "swing": (58.0, lambda x: beds.set_bed(x, swing=50.0), 50.0),
    "feel": (6.0, lambda x: beds.set_bed(x, late_ms=-3.0), -3.0),
    "hats_pace": (8.0, lambda x: hitting.thin(x, "b4", range(8)), 4.0),
    "bed_pace": (15.0, lambda x: beds.remove_lane(x, "b4"), 7.0),
    "drums": (4.0, lambda x: beds.remove_lane(x, "b4"), 3.0),
    "backbeat": ("two and four", lambda x: hitting.with_hits(x, "b3", [Hit(tick=1920)]), "three"),
    "kick_on_low": (100.0, lambda x: hitting.nudge_hits(x, "b1", {0}, -32.0), 50.0),
    "low_held": (50.0, lambda x: hitting.cut_short(x, "b2", {0, 1}, 0.25), 25.0),
    "ducked": (4.0, lambda x: beds.duck_under(x, ()), 0.0),
}  # fmt: skip


def test_every_kind_of_the_groove_has_its_case():
    assert set(CASES) == {name for name, kind in KINDS.items() if kind.needs_bed}


@pytest.mark.parametrize("kind", sorted(CASES))
def test_a_kind_measures_the_groove_and_what_becomes_of_it(kind):
    before, edit, after = CASES[kind]
    measure = KINDS[kind].measure
    assert measure(View(GROOVE)).value == before
    assert measure(View(edit(GROOVE))).value == after
    assert measure(View(LOOP)) is None


@pytest.mark.parametrize(("kind", "asked"), [
    ("swing", (50.0, 52.0)), ("feel", (-10.0, -8.0)), ("hats_pace", (15.0, 17.0)),
    ("backbeat", ("three",)), ("backbeat", ("every beat",)), ("kick_on_low", (0.0, 0.0)),
    ("low_held", (80.0, 90.0)), ("ducked", (8.0, 10.0)), ("ducked", (0.0, 0.0)),
])  # fmt: skip
def test_a_change_of_the_groove_meets_its_mark(kind, asked):
    mark = look({kind: asked}, GROOVE)[0]
    assert mark.missed
    change = change_for(mark, GROOVE)
    assert change.words and look({kind: asked}, change.edit(GROOVE))[0].met


def test_a_loop_without_a_bed_is_not_asked(loop):
    assert look({"swing": (60.0, 70.0)}, loop) == ()
    assert len(look({"swing": (60.0, 70.0)}, GROOVE)) == 1


# --- the command ----------------------------------------------------------------------------------


def run(*args):
    done = CliRunner().invoke(commands, [str(arg) for arg in args], catch_exceptions=False)
    assert done.exit_code == 0, done.output
    return done.output


def test_a_bed_is_drawn_by_command_heard_and_told(loop, tmp_path):
    save(loop, tmp_path / "x.cloudrift")
    said = run(
        "bed", tmp_path / "x.cloudrift", "--manner", "lean", "--variation", 4, "-o", tmp_path / "y"
    )
    assert "lean, variation 4" in said and "lane      Kick: kick" in said
    made = load(tmp_path / "y.cloudrift")
    assert made.bed.heard and made.layers == loop.layers
    facts = json.loads(run("info", tmp_path / "y.cloudrift", "--json"))["bed"]
    assert facts["manner"] == "lean" and facts["lanes"][0]["patterns"][0]["hits"]
    assert json.loads(run("info", tmp_path / "x.cloudrift", "--json"))["bed"] == {}
    out = tmp_path / "out"
    names = run("render", tmp_path / "y.cloudrift", "--bed", "--midi", "-o", out).splitlines()
    assert any(name.endswith("_bed.mid") for name in names)
    again = run("bed", tmp_path / "x.cloudrift", "--midi", next(out.glob("*_bed.mid")), "-o",
                tmp_path / "z")  # fmt: skip
    assert "lane      Kick" in again
    assert "half-time:" in run("bed", "--list")
    assert json.loads(run("bed", "--list", "--json"))[0]["lanes"]


def test_the_command_says_what_it_needs(tmp_path):
    with pytest.raises(CloudriftError, match="name a loop"):
        CliRunner().invoke(commands, ["bed"], catch_exceptions=False)
