"""Hum and clicks are taken out of recordings; what is music stays."""

import numpy as np
import pytest

from cloudrift.loop.edits.layers import layer_edits
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.context import Context
from cloudrift.texture.finish_files import house_finishes
from cloudrift.texture.running import runner, treat
from cloudrift.texture.treatment import Treatment
from tests.conftest import db, fresh_engine, rms
from tests.test_recordings import RATE, sine, strokes

N = 3 * RATE
CONTEXT = Context(rate=RATE, exact_frames=float(N), tempo=120.0)


def treated(audio, kind, **settings):
    one = Treatment(id="t1", kind=kind)
    for name, value in settings.items():
        one = one.set(name, value)
    return treat(audio, (one,), CONTEXT)


def level(audio, hz):
    spectrum = np.abs(np.fft.rfft(audio[0] * np.hanning(N)))
    return db(spectrum[round(hz * N / RATE)])


@pytest.mark.parametrize(("mains", "first"), [("50 Hz", 50.0), ("60 Hz", 60.0)])
def test_hum_goes_and_what_is_beside_it_stays(mains, first):
    hum = sum(sine(first * k, 3.0) / k for k in range(1, 9))
    music = sine(first * 2.5, 3.0) + sine(1010.0, 3.0)
    out = treated(hum + music, "de-hum", mains=mains)
    for k in range(1, 9):
        assert level(out, first * k) < level(hum, first * k) - 35
    assert level(out, first * 2.5) == pytest.approx(level(music, first * 2.5), abs=0.3)
    assert level(out, 1010.0) == pytest.approx(level(music, 1010.0), abs=0.1)
    fewer = treated(hum, "de-hum", mains=mains, multiples=2.0)
    assert level(fewer, first * 5) == pytest.approx(level(hum, first * 5), abs=0.5)
    other = treated(hum, "de-hum", mains="60 Hz" if first == 50 else "50 Hz")
    assert level(other, first) == pytest.approx(level(hum, first), abs=1.5)


def clicked(audio, rng, count=40):
    out, places = audio.copy(), np.sort(rng.choice(N - 4000, count, replace=False) + 2000)
    for at in places:
        out[:, at : at + 4] += rng.uniform(0.3, 0.6) * np.array([1, -0.8, 0.5, -0.2], np.float32)
    return out, places


def test_clicks_are_drawn_over(rng):
    music = sine(220.0, 3.0) + sine(555.0, 3.0) * 0.5
    noisy, _ = clicked(music, rng)
    out = treated(noisy, "de-click")
    assert db(rms(out - music) / rms(noisy - music)) < -25
    assert np.abs(out - music).max() < 0.05
    gentle = treated(noisy * 0.001, "de-click")
    assert db(rms(gentle / 0.001 - music) / rms(noisy - music)) < -20  # however soft it is


def test_a_longer_click_goes_only_where_it_is_allowed(rng):
    music = sine(220.0, 3.0)
    noisy = music.copy()
    noisy[:, 30_000:30_070] += np.sin(np.arange(70)).astype(np.float32) * 0.4  # 1.6 ms
    assert rms(treated(noisy, "de-click", longest_ms=1.0) - noisy) < 1e-6
    assert rms(treated(noisy, "de-click", longest_ms=3.0) - music) < 0.2 * rms(noisy - music)


def test_strength_says_how_much_has_to_jump_out(rng):
    music = sine(220.0, 3.0)
    noisy = music.copy()
    noisy[:, 40_000] += 0.0008
    assert np.abs(treated(noisy, "de-click", strength=0.0) - noisy).max() < 1e-6
    assert np.abs(treated(noisy, "de-click", strength=100.0) - noisy)[0, 40_000] > 0.0004


@pytest.mark.parametrize("sound", ["nylon", "felt upright", "closed hat", "muted pluck"])
def test_strokes_of_music_are_left(small_loop, sound):
    loop = layer_edits.set_layer(small_loop, "l1", line=())
    loop = layer_edits.set_sound(loop, "l1", sound)
    with fresh_engine() as engine:
        audio = engine.heard_layer(loop, loop.layer("l1"))
    context = Context(rate=RATE, exact_frames=float(audio.shape[1]), tempo=loop.tempo)
    out = treat(audio, (Treatment(id="t1", kind="de-click"),), context)
    assert db(rms(out - audio) / rms(audio)) < -35


def test_a_stretch_of_it_is_that_of_the_whole(rng):
    noisy, _ = clicked(sine(300.0, 3.0), rng)
    run = runner((Treatment(id="t1", kind="de-click"),), CONTEXT)
    whole = run.whole(noisy)
    piece = run.stretch(noisy, 50_000, 20_000, exact=True)
    assert db(rms(piece - whole[:, 50_000:70_000]) / rms(whole)) < -60
    around = np.concatenate([noisy[:, -500:], noisy[:, :500]], axis=1)
    assert around.shape[1] == 1000  # a click on the seam is found, too:
    seam = sine(300.0, 3.0)
    seam[:, 0] += 0.5
    assert np.abs(treated(seam, "de-click")[:, 0] - sine(300.0, 3.0)[:, 0]).max() < 0.05


def test_there_is_a_finish_for_a_fresh_take(rng):
    finish = next(one for one in house_finishes() if one.name == "Fresh take")
    noise = (rng.standard_normal((2, N)) * 0.002).astype(np.float32)
    voice = strokes((0.2, 1.0, 1.8), 3.0, hz=300.0)
    noisy, _ = clicked(voice + noise + sine(40.0, 3.0) * 0.5, rng, count=12)
    out = noisy
    for one in finish.line:
        out = treat(out, (one,), CONTEXT)
    quiet = np.s_[:, int(0.75 * RATE) : int(0.95 * RATE)]
    assert db(rms(out[quiet]) / rms(noisy[quiet])) < -15
    assert find_kind("de-click").family == "Level"
