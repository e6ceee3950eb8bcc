"""Slots: what each of eight steps does to what comes."""

import numpy as np
import pytest

from cloudrift.texture.context import Context
from cloudrift.texture.kinds.slots import COUNT, WHAT
from cloudrift.texture.running import treat
from cloudrift.texture.treatment import Treatment

RATE = 44_100
SLOT = RATE // 4  # an eighth at 120 BPM
N = SLOT * COUNT * 2
CONTEXT = Context(rate=RATE, exact_frames=float(N), tempo=120.0)
SOUND = np.random.default_rng(4).normal(0, 0.1, (2, N)).astype(np.float32)


def slots(audio=SOUND, context=CONTEXT, **does):
    one = Treatment(id="t1", kind="slots").set("slot", "1/8")
    for i in range(COUNT):
        one = one.set(f"slot_{i + 1}", does.get(f"s{i + 1}", "as it is"))
    return treat(audio, (one,), context)


def part(audio, slot, edge=400):
    return audio[:, slot * SLOT + edge : (slot + 1) * SLOT - edge]


def test_as_they_are_all_slots_change_nothing_at_all():
    assert np.array_equal(slots(), SOUND)


@pytest.mark.parametrize("what", WHAT[1:])
def test_a_slot_acts_on_its_own_step_and_again_every_eight(what):
    out = slots(s3=what)
    for slot in range(2 * COUNT):
        same = np.array_equal(part(out, slot), part(SOUND, slot))
        assert same == (slot % COUNT != 2)


def test_backward_and_silence_and_stutter_are_those_samples():
    assert np.abs(part(slots(s1="backward"), 0) - part(SOUND, 0)[:, ::-1]).max() < 1e-6
    assert not part(slots(s2="silence"), 1, edge=0).any()
    out, quarter = slots(s4="stutter"), SLOT // 4
    first = SOUND[:, 3 * SLOT + 400 : 3 * SLOT + quarter - 400]
    for i in range(4):
        start = 3 * SLOT + i * quarter + 400
        assert np.abs(out[:, start : start + first.shape[1]] - first).max() < 1e-6


def peak_hz(audio):
    size = np.abs(np.fft.rfft(audio[0] * np.hanning(audio.shape[1]), 1 << 17))
    return np.argmax(size) * RATE / (1 << 17)


def test_an_octave_up_is_twice_the_pitch_and_slow_half_of_it():
    tone = np.stack([0.3 * np.sin(2 * np.pi * 440 * np.arange(N) / RATE)] * 2).astype(np.float32)
    half = SLOT // 2 - 400
    up = slots(tone, s2="octave up")[:, SLOT + 400 : SLOT + half]
    assert peak_hz(up) == pytest.approx(880, rel=0.004)
    assert peak_hz(part(slots(tone, s2="slow"), 1)) == pytest.approx(220, rel=0.006)


def test_an_octave_up_does_not_fold_back_what_is_too_high():
    high = np.stack([0.3 * np.sin(2 * np.pi * 15_000 * np.arange(N) / RATE)] * 2).astype(np.float32)
    up = part(slots(high, s2="octave up"), 1)
    assert np.sqrt(np.mean(up**2)) < 0.01


def test_narrow_lets_a_band_through():
    def level(hz):
        tone = np.stack([0.3 * np.sin(2 * np.pi * hz * np.arange(N) / RATE)] * 2)
        out = part(slots(tone.astype(np.float32), s5="narrow"), 4)
        return 20 * np.log10(np.sqrt(np.mean(out**2)) / (0.3 / np.sqrt(2)))

    assert level(1000) == pytest.approx(0, abs=0.5)
    assert level(120) < -40 and level(8000) < -40


@pytest.mark.parametrize("what", WHAT[1:])
def test_edges_do_not_click_round_the_loop_either(what):
    tone = np.stack([0.5 * np.sin(2 * np.pi * 220 * np.arange(N) / RATE)] * 2).astype(np.float32)
    out = slots(tone, s1=what, s8=what, s4="silence")
    around = np.concatenate([out, out[:, :1]], axis=1)
    assert np.abs(np.diff(around, axis=1)).max() < 3 * np.abs(np.diff(tone, axis=1)).max()


def test_it_is_loop_true_and_once_it_has_no_tail():
    rolled = np.roll(SOUND, COUNT * SLOT, axis=1)
    again = np.roll(slots(s3="backward", s6="narrow"), COUNT * SLOT, axis=1)
    assert np.abs(slots(rolled, s3="backward", s6="narrow") - again).max() < 1e-5
    once = Context(rate=RATE, exact_frames=float(N), tempo=120.0, passes=2, once=True)
    out = slots(np.pad(SOUND, ((0, 0), (0, N))), once, s3="stutter")
    assert np.abs(out[:, :N] - slots(s3="stutter")).max() < 1e-6
    assert not out[:, N + 100 :].any()


def test_it_says_what_it_does():
    one = Treatment(id="t1", kind="slots")
    assert one.says == "of 8 slots of 1/8: 4 stutter, 6 backward, 8 narrow"
