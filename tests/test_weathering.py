"""Weathering: each part alone does what its number says."""

import numpy as np
import pytest
import scipy.signal as ss

from cloudrift.texture import KINDS
from cloudrift.texture.running import treat
from tests.conftest import db, rms, sine
from tests.test_treatments import RATE, context, treatment

N = 4 * RATE
OFF = {"wow_cents": 0, "drive_db": 0, "sample_rate_hz": 44_100, "crackle_db": -80}


def worn(audio, **settings):
    one = treatment("weathering", **{"wear": 100, **OFF, **settings})
    return treat(audio, (one,), context(audio.shape[1]))


def test_a_card_with_everything_off_changes_nothing(rng):
    audio = (rng.standard_normal((2, N)) * 0.1).astype(np.float32)
    assert np.array_equal(worn(audio), audio)


@pytest.mark.parametrize("part", ["wow", "flutter", "warp"])
@pytest.mark.parametrize(("cents", "wear"), [(8, 100), (30, 100), (40, 50)])
def test_the_pitch_strays_as_far_as_it_says(part, cents, wear):
    audio = sine(3000, 4.0, level=0.3)
    out = worn(audio, **{f"{part}_cents": cents, "wear": wear})
    phase = np.unwrap(np.angle(ss.hilbert(out[0].astype(float))))
    hz = np.gradient(phase)[2000:-2000] * RATE / (2 * np.pi)
    smooth = np.convolve(hz, np.ones(200) / 200, "valid")
    peak = np.abs(1200 * np.log2(smooth / 3000)).max()
    assert peak == pytest.approx(cents * wear / 100, rel=0.1)


@pytest.mark.parametrize("bits", [4, 6, 8, 10, 12])
@pytest.mark.parametrize("rate_hz", [44_100, 20_000])
@pytest.mark.parametrize("filters", ["with", "without"])
def test_bits_leave_the_noise_that_is_theirs(bits, rate_hz, filters):
    if rate_hz < 44_100 and filters == "without":
        pytest.skip("images are louder than any noise")
    audio = sine(997.3, 4.0, level=1.0)
    out = worn(audio, bits=bits, sample_rate_hz=rate_hz, filters=filters)
    clean = worn(audio, sample_rate_hz=rate_hz) if rate_hz < 44_100 else audio
    inner = slice(5000, N - 5000)
    snr = db(rms(clean[:, inner]) / rms((out - clean)[:, inner]))
    assert snr == pytest.approx(6.02 * bits + 1.76, abs=1.0)


def test_a_slower_clock_ends_the_band_or_leaves_its_images():
    audio = sine(1000, 4.0)
    level = {}
    for filters in ("with", "without"):
        out = worn(audio, sample_rate_hz=8000, filters=filters)
        level[filters] = np.abs(np.fft.rfft(out[0])) / (N / 4)
    for image in (7000, 9000, 15_000):
        assert db(level["with"][image * 4]) < -80
        assert db(level["without"][image * 4]) > -30


@pytest.mark.parametrize("name", ["hiss", "dust", "rumble", "static"])
def test_each_noise_is_as_loud_as_it_says_and_has_no_seam(name):
    out = worn(np.zeros((2, N), np.float32), **{f"{name}_db": -40})
    assert db(rms(out)) == pytest.approx(-40, abs=1.0)
    assert np.abs(out[:, 0] - out[:, -1]).max() <= np.abs(np.diff(out, axis=1)).max()
    half = worn(np.zeros((2, N), np.float32), **{f"{name}_db": -40, "wear": 50})
    assert db(rms(half)) == pytest.approx(-46, abs=1.0)


def test_rumble_is_low_and_static_is_in_the_middle():
    nothing = np.zeros((2, N), np.float32)
    for name, low, high in (("rumble", 8, 120), ("static", 150, 8000)):
        power = np.abs(np.fft.rfft(worn(nothing, **{f"{name}_db": -30})[0])) ** 2
        hz = np.fft.rfftfreq(N, 1 / RATE)
        assert power[(hz > low) & (hz < high)].sum() > 0.98 * power.sum()


def test_the_head_bumps_and_loses_highs():
    impulse = np.zeros((2, N), np.float32)
    impulse[:, 0] = 1
    level = np.abs(np.fft.rfft(worn(impulse, bump_db=6, loss_db=9)[0]))
    assert db(level[85 * 4]) == pytest.approx(6, abs=1.0)
    assert db(level[35 * 4]) < -0.5
    assert db(level[1000 * 4]) == pytest.approx(-0.9, abs=0.3)
    assert db(level[10_000 * 4]) == pytest.approx(-9, abs=0.3)


def test_the_radio_narrows_the_band_to_what_it_says():
    impulse = np.zeros((2, N), np.float32)
    impulse[:, 0] = 1
    level = np.abs(np.fft.rfft(worn(impulse, radio=100)[0]))
    assert db(level[420 * 4]) == pytest.approx(-3, abs=0.5)
    assert db(level[2600 * 4]) == pytest.approx(-3, abs=0.5)
    assert db(level[1050 * 4]) == pytest.approx(0, abs=0.5)
    assert db(level[105 * 4]) < -45
    assert "420 Hz to 2.6 kHz" in treatment("weathering", wear=100, radio=100).says


def test_drop_outs_are_moments_and_the_rest_is_whole():
    audio = sine(500, 4.0)
    out = worn(audio, dropouts=60)
    gain = np.abs(out[0, 20::441]) / np.maximum(np.abs(audio[0, 20::441]), 1e-9)
    assert (gain > 0.999).mean() > 0.5
    assert 1 <= (np.diff((gain < 0.5).astype(int)) == 1).sum() <= 8
    assert gain.min() < 0.32


def test_every_noise_of_the_card_can_be_off():
    for field in KINDS["weathering"].spec:
        if field.name.endswith("_db") and field.low < -50:
            assert field.text(field.low) == "off"


def test_ending_the_band_at_once_or_by_a_filter_of_its_own_is_the_same(rng):
    """A hair of loss takes the longer way round."""
    audio = (rng.standard_normal((2, N)) * 0.2).astype(np.float32)
    settings = {"drive_db": 9, "sample_rate_hz": 12_000, "crackle_db": -30}
    quick = worn(audio, **settings)
    other = worn(audio, **settings, dropouts=1e-9)
    assert db(rms(quick - other) / rms(quick)) < -70
