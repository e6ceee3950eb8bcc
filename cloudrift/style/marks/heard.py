"""Marks of the sound itself: what all of it has come to."""

import math
from collections.abc import Callable

from msgspec.structs import replace

from cloudrift.loop.model.loop import LEVEL, Loop
from cloudrift.render.measure.sound_facts import SoundFacts
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.lines import put
from cloudrift.style.marks.view import View, names

OF_A_LAYER = 4.5  # dB an octave


def _heard(of: str) -> Callable[[View], Found | None]:
    def measure(view: View) -> Found | None:
        return (
            None
            if view.sound is None
            else Found(value=float(getattr(view.sound, of)), where="the whole loop")
        )

    return measure


def _crest(view: View) -> Found | None:
    if view.sound is None:
        return None
    return Found(value=view.sound.peak_db - view.sound.lufs, where="the whole loop")


def _sound(view: View) -> SoundFacts:
    assert view.sound is not None, "these change the measurement"
    return view.sound


def _slope(now_hz: float, aim_hz: float, per_octave: float = 2.8) -> float:
    """Some 2.8 dB an octave move the middle of a loop's spectrum by one, 4.5 that of a layer."""
    return max(-6.0, min(6.0, per_octave * math.log2(aim_hz / max(now_hz, 1.0))))


def _to_centroid(view: View, asked: tuple[float, float]) -> Change:
    """Tilt all of it."""
    now = _sound(view).centroid_hz
    darker = now > asked[1]
    aim = (asked[0] * asked[1]) ** 0.5
    slope = _slope(now, aim)

    def edit(loop: Loop) -> Loop:
        there = [t for t in loop.line if t.kind == "tilt"]
        before = float(there[-1].full.number("slope_db")) if there else 0.0
        return put(loop, None, "tilt", slope_db=round(max(-6.0, min(6.0, before + slope)), 1))

    return Change(words="darker" if darker else "brighter", edit=edit)


def _brightest(view: View) -> Found | None:
    by_id = dict(view.sound.layers) if view.sound else {}
    found = [(by_id[x.id], x.name) for x in view.heard if x.id in by_id]
    value, name = max(found, default=(0.0, ""))
    return Found(value=value, where=name) if found else None


def _to_brightest(view: View, asked: tuple[float, float]) -> Change | None:
    """All that are too bright are made darker; or the brightest one brighter."""
    by_id = dict(_sound(view).layers)
    of = sorted((x for x in view.heard if x.id in by_id), key=lambda x: -by_id[x.id])
    wrong = [x for x in of if by_id[x.id] > asked[1]] or of[:1]
    if not wrong:
        return None
    aim = (asked[0] * asked[1]) ** 0.5
    darker = by_id[wrong[0].id] > asked[1]

    def edit(loop: Loop) -> Loop:
        for layer in wrong:
            slope = round(_slope(by_id[layer.id], aim, OF_A_LAYER), 1)
            loop = put(loop, layer.id, "tilt", slope_db=slope)
        return loop

    said = names([x.name for x in wrong], 2)
    return Change(words=f"{said} {'darker' if darker else 'brighter'}", edit=edit)


def _to_edge(view: View, asked: tuple[float, float]) -> Change | None:
    if _sound(view).edge_hz <= asked[1]:
        return None
    aim = round(0.9 * asked[1])
    return Change(
        words=f"cut the whole loop at {aim} Hz",
        edit=lambda loop: put(loop, None, "cuts", high_cut_hz=float(aim)),
    )


def _to_width(view: View, asked: tuple[float, float]) -> Change:
    now = max(_sound(view).width, 0.5)
    aim = sum(asked) / 2
    # The sides' share goes with the square of how much they are turned up against the middle.
    by = ((aim / (100 - aim)) / (now / max(100 - now, 0.5))) ** 0.5
    width = min(max(round(100 * by), 0), 200)
    return Change(
        words=f"{width} % wide", edit=lambda loop: put(loop, None, "trim", width=float(width))
    )


def _to_low_width(view: View, asked: tuple[float, float]) -> Change | None:
    if _sound(view).low_width <= asked[1]:
        return None
    return Change(
        words="mono below 220 Hz", edit=lambda loop: put(loop, None, "trim", mono_hz=220.0)
    )


def _to_loudness(view: View, asked: tuple[float, float]) -> Change:
    by = round(sum(asked) / 2 - _sound(view).lufs, 1)

    def edit(loop: Loop) -> Loop:
        return replace(
            loop,
            layers=tuple(
                replace(x, level_db=min(max(x.level_db + by, LEVEL.low), LEVEL.high))
                for x in loop.layers
            ),
        )

    return Change(words=f"{'louder' if by > 0 else 'quieter'} by {abs(by):g} dB", edit=edit)


KINDS = (
    Kind(name="brightness", label="Brightness", group="Sound", unit="Hz", low=100, high=8000,
         log=True, about="spectral centroid (amplitudes) of the whole loop, treated",
         measure=_heard("centroid_hz"), change=_to_centroid, needs_sound=True),
    Kind(name="brightest_layer", label="Brightest layer", group="Sound", unit="Hz", low=100,
         high=8000, log=True, about="spectral centroid (amplitudes) of the brightest layer in the "
         "mix", measure=_brightest, change=_to_brightest,
         needs_sound=True),
    Kind(name="band_edge", label="Bandwidth", group="Sound", unit="Hz", low=200, high=20000,
         log=True, about="frequency that 99 % of the power lies below", measure=_heard("edge_hz"),
         change=_to_edge, needs_sound=True),
    Kind(name="width", label="Width", group="Sound", unit="%", high=60,
         about="the sides' share of the power", measure=_heard("width"), change=_to_width,
         needs_sound=True),
    Kind(name="low_width", label="Width below 150 Hz", group="Sound", unit="%", high=60, decimals=1,
         about="the sides' share of the power below 150 Hz", measure=_heard("low_width"),
         change=_to_low_width, needs_sound=True),
    Kind(name="loudness", label="Loudness", group="Sound", unit="LUFS", low=-40, high=-6,
         decimals=1, about="integrated loudness (BS.1770) of the loop",
         measure=_heard("lufs"), change=_to_loudness, needs_sound=True),
    Kind(name="crest", label="Peak to loudness", group="Sound", unit="dB", high=30, decimals=1,
         about="true peak minus integrated loudness", measure=_crest, needs_sound=True),
    Kind(name="voice_room", label="Room for a voice", group="Sound", unit="dB", low=-40, high=0,
         decimals=1, about="power between 1 and 4 kHz relative to the whole: less leaves more room",
         measure=_heard("voice_db"), needs_sound=True),
    Kind(name="sub", label="Below 60 Hz", group="Sound", unit="dB", low=-60, high=0, decimals=1,
         about="power below 60 Hz relative to the "
               "whole", measure=_heard("sub_db"), needs_sound=True),
    Kind(name="floor", label="Quietest parts", group="Sound", unit="dB", low=-60, high=0,
         decimals=1, about="level of the quietest tenth (of 50 ms windows) below the mean",
         measure=_heard("floor_db"), needs_sound=True),
)  # fmt: skip
