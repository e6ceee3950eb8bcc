"""Portraits say what the settings do: computed, with axes, and they change as the settings do."""

import numpy as np
import pytest

from cloudrift.texture import KINDS, Treatment
from cloudrift.texture.portrait import portrait
from tests.test_treatments import RATE, context, treatment

HERE = context(4 * RATE)


def drawn(kind, **settings):
    return portrait(treatment(kind, **settings), HERE)


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_treatment_has_a_picture_with_axes_that_its_settings_change(kind):
    picture = drawn(kind)
    assert picture.title
    assert all(axis.marks for axis in (picture.x_axis, picture.y_axis))
    for curve in picture.curves:
        assert curve.shape == picture.x.shape
        assert np.isfinite(curve).all()
    # Something of what can be set is seen.
    changed = 0
    for field in KINDS[kind].spec:
        values = field.choices or (field.low, field.high)
        other = next(v for v in reversed(values) if v != field.default)
        moved = drawn(kind, **{field.name: other})
        changed += not all(
            a.shape == b.shape and np.allclose(a, b)
            for a, b in zip((moved.x, *moved.curves), (picture.x, *picture.curves), strict=False)
        )
    assert changed >= 1


def at(picture, x, curve=0):
    return float(np.interp(x, picture.x, picture.curves[curve]))


def test_pictures_say_what_is_so():
    cuts = drawn("cuts", low_cut_hz=500, high_cut_hz=4000)
    assert at(cuts, 500) == pytest.approx(-3, abs=0.3)
    assert at(cuts, 4000) == pytest.approx(-3, abs=0.3)
    hall = drawn("hall", decay_s=2.0, pre_delay_ms=0, damping=0)
    late = slice(int(len(hall.x) * 0.2), int(len(hall.x) * 0.7))
    fall = np.polyfit(hall.x[late], hall.curves[0][late], 1)[0]
    assert fall == pytest.approx(-30, abs=4)  # 60 dB in two seconds
    compressor = drawn("compressor", threshold_db=-30, ratio=4, knee_db=0, gain_db=0)
    assert at(compressor, -10) - at(compressor, -30) == pytest.approx(5, abs=0.2)
    assert at(compressor, -50) == pytest.approx(-50, abs=0.1)
    assert drawn("tremolo", depth=80).curves[0].min() == pytest.approx(20, abs=1)
    slow = drawn("half speed", window="1/1")
    assert at(slow, 3.9) == pytest.approx(1.95, abs=0.1)  # half-way into the bar at its end
    kept = drawn("reverse")
    assert at(kept, 0.1) == pytest.approx(1.9, abs=0.1)  # a chord every two beats
    wow = drawn("weathering", wear=100, wow_cents=30)
    assert np.abs(wow.curves[0]).max() == pytest.approx(30, rel=0.15)
    assert drawn("shift", semitones=12).curves[0][0] == pytest.approx(220)


def test_a_treatment_that_is_not_known_has_no_picture():
    assert portrait(Treatment(id="t", kind="murmur"), HERE) is None
