"""Inner loops, compiled and in NumPy: the same sound to below -100 dB, whichever runs."""

import numpy as np
import pytest

from cloudrift.audio import quick
from cloudrift.audio.loudness import _weighted_power
from cloudrift.audio.wrap import read_displaced, read_splined, read_stretch, splined
from cloudrift.render import Engine
from cloudrift.sound.playing import crossfaded
from cloudrift.texture.context import Context
from cloudrift.texture.curves import soft
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import Treatment
from tests.conftest import db, rms

compiled = pytest.mark.skipif(quick.library is None, reason="no compiler was there")


def in_both_ways(monkeypatch, work):
    """What comes of some work, compiled and not."""
    one = work()
    with monkeypatch.context() as patch:
        patch.setattr(quick, "library", None)
        return one, work()


def differ_db(one, other):
    assert one.shape == other.shape
    return db(rms(one - other) / rms(other))


@compiled
@pytest.mark.parametrize("n", [61, 1500, 40_001])
@pytest.mark.parametrize("channels", [1, 2])
def test_a_loop_is_read_displaced(monkeypatch, rng, n, channels):
    audio = rng.standard_normal((2, n)).astype(np.float32)
    away = (rng.standard_normal(n) * min(n, 300)).astype(np.float32)
    away[:4] = (0.0, -0.0, -1.0, 2.0)  # whole frames, either way
    for work in (lambda: splined(audio), lambda: read_splined(splined(audio)[:channels], away)):
        assert differ_db(*in_both_ways(monkeypatch, work)) < -110


@compiled
@pytest.mark.parametrize("n", [500, 50_000])
@pytest.mark.parametrize("rate", [44_100, 96_000])
def test_loudness_is_weighted(monkeypatch, rng, n, rate):
    audio = rng.standard_normal((2, n)).astype(np.float32)
    one, other = in_both_ways(monkeypatch, lambda: _weighted_power(audio, rate))
    assert one.shape == (n,)
    assert differ_db(one, other) < -100


@compiled
def test_a_period_is_read_over_several_turns(monkeypatch, rng):
    audio = rng.standard_normal((2, 9000)).astype(np.float32)
    away = (rng.standard_normal(3000) * 40).astype(np.float32)
    one, other = in_both_ways(monkeypatch, lambda: read_displaced(audio, away))
    assert one.shape == (2, 9000)
    assert differ_db(one, other) < -110


@compiled
@pytest.mark.parametrize("start", [-500, 100, 8900])
def test_a_stretch_is_read_displaced(monkeypatch, rng, start):
    audio = rng.standard_normal((2, 9000)).astype(np.float32)
    away = (rng.standard_normal(700) * 40).astype(np.float32)
    one, other = in_both_ways(monkeypatch, lambda: read_stretch(audio, away, start))
    assert differ_db(one, other) < -110
    whole = np.zeros(9000, np.float32)
    whole[(start + np.arange(700)) % 9000] = away
    asked = read_displaced(audio, whole)[:, (start + np.arange(700)) % 9000]
    assert differ_db(one, asked) < -100


@compiled
def test_a_curve_and_a_blend_are_equal_to_the_last_bit(monkeypatch, rng):
    wave = rng.standard_normal((3, 1700)).astype(np.float32) * 4
    assert np.array_equal(*in_both_ways(monkeypatch, lambda: soft(wave.copy())))
    audio = rng.standard_normal((4, 20_000)).astype(np.float32)
    level, bright = (np.abs(rng.standard_normal(20_000)).astype(np.float32) for _ in range(2))
    for share in (np.float32(0.3), bright):
        assert np.array_equal(*in_both_ways(monkeypatch, lambda share=share: crossfaded(
            audio[:2], audio[2:], level, share)))  # fmt: skip


@compiled
@pytest.mark.parametrize("kind", ["weathering", "chorus", "doubler", "granular", "hall", "warm",
                                  "tape", "tape echo", "cloud", "half speed"])  # fmt: skip
def test_treatments_are_the_same(monkeypatch, rng, kind):
    audio = (rng.standard_normal((2, 70_000)) * 0.1).astype(np.float32)
    context = Context(rate=44_100, exact_frames=70_000.0, tempo=120.0)
    line = (Treatment(id="t1", kind=kind, variation=3),)
    assert differ_db(*in_both_ways(monkeypatch, lambda: treat(audio, line, context))) < -100


@compiled
@pytest.mark.parametrize("way", ["side to side", "in its place"])
@pytest.mark.parametrize("feedback", [0.0, 45.0, 80.0])
@pytest.mark.parametrize("once", [False, True])
def test_repeats_are_the_same(monkeypatch, rng, way, feedback, once):
    audio = (rng.standard_normal((2, 90_001)) * 0.1).astype(np.float32)
    if once:
        audio = np.pad(audio, ((0, 0), (0, 9 * 90_001)))
    context = Context(rate=44_100, exact_frames=90_001.0, tempo=140.0, once=once,
                      passes=10 if once else 1)  # fmt: skip
    one = Treatment(id="t1", kind="echo").set("time", "1/16").set("way", way)
    line = (one.set("feedback", feedback).set("width", 60.0),)
    assert differ_db(*in_both_ways(monkeypatch, lambda: treat(audio, line, context))) < -100


@compiled
def test_a_whole_loop_is_the_same(monkeypatch, small_loop):
    def render():
        engine = Engine()
        try:
            return engine.render(small_loop).audio
        finally:
            engine.close()

    assert differ_db(*in_both_ways(monkeypatch, render)) < -100


def test_without_it_nothing_is_missing(monkeypatch, rng):
    monkeypatch.setattr(quick, "library", None)
    audio = rng.standard_normal((2, 4000)).astype(np.float32)
    assert np.abs(read_displaced(audio, np.zeros(4000, np.float32)) - audio).max() < 1e-5
