"""Rides: what is drawn over the loop is what is heard, without a step anywhere."""

from itertools import pairwise

import msgspec
import numpy as np
import pytest
import scipy.signal as ss
from hypothesis import given
from hypothesis import strategies as st

from cloudrift.ground import CloudriftError
from cloudrift.loop.edits.layers import layer_edits, line_edits
from cloudrift.loop.files.storage import load, loop_from, save
from cloudrift.render import Engine
from cloudrift.texture import KINDS, Ride, RidePoint, Treatment
from cloudrift.texture.ridden import Course
from cloudrift.texture.ride import BLEND, shares_at
from cloudrift.texture.running import runner, treat
from cloudrift.texture.treatment import fused
from tests.conftest import db, file_text, in_schema, rms
from tests.test_treatments import RATE, context, treatment

N = 4 * RATE  # eight beats at 120 BPM: 7680 ticks
BAR = 3840


def points(*pairs):
    return tuple(RidePoint(tick=tick, value=float(value)) for tick, value in pairs)


def riding(kind, name, *pairs, **settings):
    return treatment(kind, **settings).with_ride(name, points(*pairs))


@pytest.fixture
def noise(rng):
    return (rng.standard_normal((2, N)) * 0.1).astype(np.float32)


def test_a_ride_is_followed_along_the_fields_own_scale_and_round_the_seam():
    field = KINDS["cuts"].spec["high_cut_hz"]
    ride = Ride(of="high_cut_hz", points=points((960, 400), (4800, 6400)))
    shares = shares_at(ride, field, np.array([960.0, 2880, 4800, 6720, 0]), 7680)
    hz = [field.low * (field.high / field.low) ** s for s in shares]
    assert hz == pytest.approx(
        [400, 1600, 6400, 1600, 800], rel=0.001
    )  # half-way is an octave mean
    leaning = Ride(
        of="x", points=(RidePoint(tick=0, value=0, bend=1.0), RidePoint(tick=3840, value=100))
    )
    assert shares_at(leaning, BLEND, np.array([1920.0]), 7680)[0] < 0.05


@given(st.lists(st.tuples(st.integers(0, 7679), st.integers(0, 100), st.floats(-1, 1)), min_size=1,
                max_size=12, unique_by=lambda x: x[0]))  # fmt: skip
def test_any_ride_passes_through_its_points_and_stays_between_them(drawn):
    made = [RidePoint(tick=t, value=float(v), bend=b) for t, v, b in sorted(drawn)]
    ride = Ride(of="blend", points=tuple(made))
    at = shares_at(ride, BLEND, np.array([float(p.tick) for p in made]), 7680)
    assert at == pytest.approx([p.value / 100 for p in made])
    shares = shares_at(ride, BLEND, np.arange(7680, dtype=float), 7680)
    for a, b in pairwise(made):
        inside = shares[a.tick : b.tick + 1]
        low, high = sorted((a.value / 100, b.value / 100))
        assert low - 1e-9 <= inside.min() <= inside.max() <= high + 1e-9


def test_a_blend_that_rides_is_followed_frame_by_frame(noise):
    wet = treat(noise, (treatment("tilt", slope_db=-4),), context(N))
    out = treat(noise, (riding("tilt", "blend", (0, 0), (BAR, 100), slope_db=-4),), context(N))
    share = ((out - noise) * (wet - noise)).sum(axis=0).reshape(-1, 441).sum(axis=1)
    share = share / ((wet - noise) ** 2).sum(axis=0).reshape(-1, 441).sum(axis=1)
    middle = len(share) // 2
    assert share[5] == pytest.approx(5.5 / middle, abs=0.01)
    assert share[middle // 2] == pytest.approx(0.5, abs=0.01)
    assert share.max() == pytest.approx(1, abs=0.01)


def test_a_filter_that_rides_is_at_each_place_what_it_is_there(noise):
    one = riding("cuts", "high_cut_hz", (0, 500), (BAR, 8000), low_cut_hz=20)
    out = treat(noise, (one,), context(N))
    for beat, hz in ((0.0, 500), (2.0, 2000), (4.0, 8000)):
        at = int(beat * RATE / 2)
        index = np.arange(at - 1500, at + 1500) % N
        still = treat(noise, (treatment("cuts", high_cut_hz=hz, low_cut_hz=20),), context(N))
        bands, wanted = ss.welch(still[0, index], RATE, nperseg=512)
        _, heard = ss.welch(out[0, index], RATE, nperseg=512)
        audible = (bands > 100) & (bands < hz * 1.1)
        off = 10 * np.log10(heard[audible] / wanted[audible])
        assert np.abs(off).mean() < 1.0


@pytest.mark.parametrize(
    ("kind", "name", "pairs"),
    [
        ("cuts", "high_cut_hz", ((0, 300), (3000, 9000), (3100, 600))),
        ("hall", "decay_s", ((0, 0.5), (BAR, 1.0))),
        ("weathering", "wear", ((0, 20), (BAR, 60))),
        ("compressor", "threshold_db", ((0, -40), (BAR, -10))),
        ("trim", "width", ((0, 0), (BAR, 200))),
        ("half speed", "blend", ((0, 0), (BAR, 100))),
    ],
)
def test_what_rides_goes_round_and_makes_no_step(noise, kind, name, pairs):
    one = riding(kind, name, *pairs)
    single = treat(noise, (one,), context(N))
    double = treat(np.tile(noise, 2), (one,), context(N, passes=2))
    assert db(rms(double - np.tile(single, 2)) / rms(single)) < -60
    piece = runner((one,), context(N)).stretch(noise, 30_000, 8000)
    if piece is not None:
        assert db(rms(piece - single[:, 30_000:38_000]) / rms(single)) < -50


def test_no_zipper_noise_is_added_to_a_tone_under_a_riding_filter():
    """A steady tone comes out with its own partials and slow sidebands, and nothing far away."""
    t = np.arange(N) / RATE
    tone = np.stack([0.3 * np.sin(2 * np.pi * 1000 * t)] * 2).astype(np.float32)
    one = riding("cuts", "high_cut_hz", (0, 600), (BAR, 9000), low_cut_hz=20)
    level = np.abs(np.fft.rfft(treat(tone, (one,), context(N))[0]))
    far = np.abs(np.fft.rfftfreq(N, 1 / RATE) - 1000) > 120
    assert db(level[far].max() / level.max()) < -85


def test_cards_that_ride_do_not_fuse():
    line = (
        treatment("cuts"),
        riding("cuts", "low_cut_hz", (0, 100), (BAR, 900)),
        treatment("tilt"),
    )
    assert [len(group) for group in fused(line)] == [1, 1, 1]


def test_a_layers_level_rides_and_its_lowest_is_silence(small_loop):
    loop = line_edits.set_line(small_loop, None, ())
    name = loop.layers[0].id
    only = msgspec.structs.replace(loop, layers=(loop.layers[0],))
    engine = Engine()
    plain = engine.render(layer_edits.set_layer(only, name, level_db=0.0)).audio
    half = loop.ticks // 2
    low = (RidePoint(tick=0, value=-60.0), RidePoint(tick=half - 60, value=-60.0),
           RidePoint(tick=half, value=6.0), RidePoint(tick=loop.ticks - 60, value=6.0))  # fmt: skip
    out = engine.render(line_edits.set_level_ride(only, name, low)).audio
    n = plain.shape[1]
    assert np.abs(out[:, 4000 : n // 2 - 8000]).max() == 0
    later = slice(n // 2 + 4000, n - 8000)
    assert db(rms(out[:, later]) / rms(plain[:, later])) == pytest.approx(6, abs=0.1)
    back = line_edits.set_level_ride(line_edits.set_level_ride(only, name, low), name, ())
    assert back == only
    engine.close()


@pytest.mark.parametrize(
    ("make", "says"),
    [
        (lambda: riding("cuts", "slope", (0, 12)), "there is no setting called 'slope'"),
        (lambda: riding("shift", "semitones", (0, 1)), "semitones cannot ride"),
        (lambda: riding("echo", "way", (0, 1)), "way cannot ride"),
        (lambda: riding("hall", "decay_s", (0, 99)),
         "the ride of decay_s at tick 0: decay_s is 99 s, but must lie between 0.3 and 12 s"),
        (lambda: riding("hall", "blend", (10, 1), (10, 2)), "points must rise in time"),
        (lambda: Ride(of="blend", points=()), "needs 1 to 128 points"),
    ],
)  # fmt: skip
def test_what_cannot_ride_is_said(make, says):
    with pytest.raises(CloudriftError, match=says):
        make()


# --- what is not known here ----------------------------------------------------------------------


def test_a_treatment_that_is_not_known_is_named_kept_and_passed_by(small_loop, tmp_path):
    strange = Treatment(id="t9", kind="grundle", version=2, settings=(("rate", 3.0),), blend=0.4,
                        note="as on the first take")  # fmt: skip
    newer = Treatment(id="t8", kind="hall", version=7, settings=(("mirrors", 4.0),))
    assert not strange.acts
    assert not newer.acts
    assert "there is no treatment called 'grundle' here: kept, and bypassed" in strange.says
    assert "made with design 7 of hall; known here up to 1" in newer.says
    line = (strange, treatment("cuts"), newer)
    assert [len(group) for group in fused(line)] == [1]
    loop = line_edits.set_line(small_loop, None, line)
    path = tmp_path / "later.cloudrift"
    save(loop, path)
    assert load(path) == loop  # nothing of them is lost
    assert loop.line[0].settings == (("rate", 3.0),)
    assert loop.unknown == (
        "the treatment grundle (design 2), bypassed",
        "the treatment hall (design 7), bypassed",
    )


def test_an_older_file_opens_with_what_it_lacks_at_its_default(small_loop):
    import json

    raw = in_schema(json.loads(file_text(small_loop)), 4)
    for owner in (raw["loop"], *raw["loop"]["layers"]):
        owner.pop("level_ride", None)
        for one in owner.get("line", []):
            for name in ("version", "rides", "note"):
                one.pop(name, None)
    assert loop_from(json.dumps(raw).encode(), "old") == small_loop


# --- cards on their way --------------------------------------------------------------------------


def test_cards_are_copied_with_ids_of_their_own_and_swapped(small_loop):
    loop = line_edits.set_line(small_loop, None, ())
    loop = line_edits.add_treatment(line_edits.add_treatment(loop, None, "cuts"), None, "hall")
    copied, ids = line_edits.insert_treatments(loop, None, loop.line, 1)
    assert [t.kind for t in copied.line] == ["cuts", "cuts", "hall", "hall"]
    assert len({t.id for t in copied.line}) == 4
    assert ids == (copied.line[1].id, copied.line[2].id)
    swapped = line_edits.swap_treatments(loop, None, loop.line[0].id, loop.line[1].id)
    assert [t.kind for t in swapped.line] == ["hall", "cuts"]
    again = line_edits.swap_treatments(swapped, None, loop.line[0].id, loop.line[1].id)
    assert again == loop


def test_a_shape_drawn_once_comes_again_every_beat(noise):
    """A pump of one's own: down on the beat, up again, drawn once."""
    one = treatment("trim").with_ride("gain_db", points((0, -24), (480, 0), (900, 0)), 960)
    out = treat(noise, (one,), context(N))
    beat = N // 8
    level = []
    for start in (i * beat + k for i in range(8) for k in (20, beat * 2 // 3)):
        piece = slice(start, start + 500)
        level.append(db(rms(out[:, piece]) / rms(noise[:, piece])))
    assert np.allclose(level[::2], level[0], atol=1.0)
    assert level[0] < -19
    assert np.allclose(level[1::2], 0, atol=0.3)
    with pytest.raises(CloudriftError, match="repeats every 5 ticks, but must every 120"):
        one.with_ride("gain_db", points((0, 0)), 5)


def test_two_values_ride_at_once(noise):
    one = riding("cuts", "high_cut_hz", (0, 2000), (BAR, 8000), low_cut_hz=20)
    one = one.with_ride("low_cut_hz", points((0, 100), (BAR, 1000)))
    out = treat(noise, (one,), context(N))
    at = slice(N // 2 - 2000, N // 2 + 2000)
    still = treat(noise, (treatment("cuts", high_cut_hz=8000, low_cut_hz=1000),), context(N))
    assert db(rms(out[:, at] - still[:, at]) / rms(still[:, at])) < -14


def test_a_blend_that_rides_on_another_length_is_whole(noise):
    one = riding("shift", "blend", (0, 0), (BAR, 100), way="like tape", semitones=-3)
    still = treatment("shift", way="like tape", semitones=-3)
    assert np.array_equal(*(treat(noise, (x,), context(N)) for x in (one, still)))


def test_words_say_how_far_a_value_rides():
    one = riding("cuts", "high_cut_hz", (0, 700), (BAR, 15_000), low_cut_hz=20)
    assert one.says == "cuts above 700 Hz, 24 dB an octave · high cut rides 700 Hz to 15 kHz"


@pytest.mark.parametrize(
    ("kind", "name", "low", "high"),
    [("phaser", "depth", 0, 100), ("compressor", "threshold_db", -50, -10),
     ("hall", "low_cut_hz", 60, 1500), ("resonance tamer", "amount", 0, 100)],
)  # fmt: skip
def test_running_it_where_it_is_heard_is_the_same_as_running_all_of_it(
    noise, kind, name, low, high
):
    one = riding(kind, name, (0, low), (BAR // 2, high), (BAR, low))
    course = Course(one.rides, one.of.spec, context(N))
    still = msgspec.structs.replace(one, rides=())
    wanted = np.zeros_like(noise)
    for code in course.codes:
        settings = still.of.spec.check({**still.full, **dict(course.values(code))}, kind)
        whole = treat(noise, (msgspec.structs.replace(still, settings=settings),), context(N))
        wanted += whole * course.weights(code)
    assert db(rms(treat(noise, (one,), context(N)) - wanted) / rms(wanted)) < -70
