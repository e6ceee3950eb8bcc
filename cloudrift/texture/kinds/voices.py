"""Chorus and doubler: several voices of a sound, each read a little elsewhere."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import read_splined, read_stretch, splined
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import Field, ResolvedSettings, Settings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.periods import Moments, all_of, phase, rate_field, stretch_of, turns
from cloudrift.texture.picture import Axis, Portrait, beat_axis, cents_axis, over_beats, shown_beats
from cloudrift.texture.process import Near

AT_ONCE = 16_384  # frames: what is added up stays near the processor
Aways = NDArray[np.float32]  # (voices, moments): how far from its place each is read, in frames


def chorus_away(full: ResolvedSettings, context: Context, at: Moments) -> Aways:
    """Return how far back its four voices are read, in frames: (4, moments)."""
    count, depth = turns(full.word("rate"), context), full.number("depth_ms")
    out = []
    for voice in range(4):
        # Neighbouring voices turn at different speeds, all of them whole numbers a loop.
        turned = 2 * np.pi * phase(count + voice % 2, context, at, voice / 4)
        sway = np.sin(turned.astype(np.float32))
        out.append(-(full.number("delay_ms") + depth * (1 + sway)) * 1e-3 * context.rate)
    return np.asarray(out, np.float32)


@memoize
def _whole(settings: Settings, context: Context) -> Aways:
    return chorus_away(ResolvedSettings(dict(settings)), context, all_of(context))


def _chorus(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    spline = splined(audio)
    return _voices(*(read_splined(spline, away) for away in _whole(tuple(full.items()), context)))


def _voices(left_1: Stereo, right_1: Stereo, left_2: Stereo, right_2: Stereo) -> Stereo:
    """Two voices a side, and a little of what the other side's two differ by."""
    half, quarter, out = np.float32(0.5), np.float32(0.25), np.empty_like(left_1)
    for at in range(0, out.shape[1], AT_ONCE):
        piece = slice(at, at + AT_ONCE)
        (l1, a), (b, r1), (l2, c), (d, r2) = (
            one[:, piece] for one in (left_1, right_1, left_2, right_2)
        )
        np.add((l1 + l2) * half, (d - b) * quarter, out=out[0, piece])
        np.add((r1 + r2) * half, (c - a) * quarter, out=out[1, piece])
    return out


def _chorus_stretch(
    audio: Looped, full: ResolvedSettings, _variation: int, context: Context, start: int, count: int
) -> Stereo:
    aways = chorus_away(full, context, stretch_of(context, start, count))
    return _voices(*(read_stretch(audio, away, start) for away in aways))


def _chorus_reach(full: ResolvedSettings, _variation: int, context: Context) -> int:
    longest = full.number("delay_ms") + 2 * full.number("depth_ms")
    return int(longest * 1e-3 * context.rate) + 8


HEAD_S = 0.09  # how long a reading head of the doubler goes before the other takes over


def _heads(cents: float, context: Context, at: Moments) -> tuple[Aways, Aways]:
    """Two heads that read at another speed, half a turn apart: displacement and share."""
    away_per_frame = 2 ** (cents / 1200) - 1
    n = context.loop_frames
    ramp = HEAD_S * context.rate * min(1.0, 400 * abs(away_per_frame))
    count = max(1, round(abs(away_per_frame) * n / max(ramp, 1.0)))
    travel = away_per_frame * n / count  # so that the pitch is exact
    places = [phase(count, context, at, 0.5 * head) for head in range(2)]
    away = [(place - 0.5) * travel - abs(travel) for place in places]
    shares = [np.sin(np.pi * place) ** 2 for place in places]
    return np.asarray(away, np.float32), np.asarray(shares, np.float32)


def _doubler(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    cents = full.number("cents")
    if cents == 0:
        return audio.copy()
    spline, sides, at = splined(audio), [], all_of(context)
    for side, way in enumerate((1, -1)):
        away, shares = _heads(way * cents, context, at)
        sides.append(
            sum(
                context.tiled(share) * read_splined(spline[side : side + 1], one)[0]
                for one, share in zip(away, shares, strict=True)
            )
        )
    return np.stack(sides)


def _doubler_stretch(
    audio: Looped, full: ResolvedSettings, _variation: int, context: Context, start: int, count: int
) -> Stereo:
    cents = full.number("cents")
    if cents == 0:
        return np.array(slice_wrapped(audio, start, count))
    sides, at = [], stretch_of(context, start, count)
    for side, way in enumerate((1, -1)):
        pairs = zip(*_heads(way * cents, context, at), strict=True)
        sides.append(sum(share * read_stretch(audio, away, start)[side] for away, share in pairs))
    return np.stack(sides)


def _chorus_picture(full: ResolvedSettings, _variation: int, context: Context) -> Portrait:
    beats = shown_beats(full.word("rate"), context)
    lines = [
        over_beats(-away / context.rate * 1e3, beats, context)
        for away in chorus_away(full, context, all_of(context))
    ]
    most = float(np.ceil(max(y.max() for _, y in lines) / 5) * 5)
    return Portrait(
        title="how late its four voices are",
        x=lines[0][0],
        curves=tuple(y for _, y in lines),
        x_axis=beat_axis(beats),
        y_axis=Axis(low=0, high=most, marks=((0.0, "0 ms"), (most, f"{most:.0f} ms"))),
    )


def _doubler_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    apart = full.number("cents")
    return Portrait(
        title="pitch from left to right",
        x=np.array([0.0, 0.45, 0.55, 1.0]),
        curves=(np.array([apart, apart, -apart, -apart]),),
        x_axis=Axis(low=0, high=1, marks=((0.1, "left"), (0.9, "right"))),
        y_axis=cents_axis(apart),
    )


CHORUS = Kind(
    name="chorus",
    label="Chorus",
    family="Motion",
    about="Several copies, each moving a little.",
    spec=SettingsSpec(
        (
            Field(
                name="depth_ms",
                label="Depth",
                default=2.2,
                unit="ms",
                low=0,
                high=10,
                step=0.1,
                ride_step=1 / 30,
            ),
            Field(
                name="delay_ms",
                label="Delay",
                default=9,
                unit="ms",
                low=1,
                high=40,
                step=0.5,
                ride_step=1 / 30,
            ),
            rate_field("2 bars"),
        )
    ),
    says=lambda full: f"four voices that stray by {full.number('depth_ms'):.1f} ms",
    blend=0.5,
    process=_chorus,
    near=Near(process=_chorus_stretch, reach=_chorus_reach),
    picture=_chorus_picture,
)
DOUBLER = Kind(
    name="doubler",
    label="Doubler",
    family="Motion",
    about="Detunes left up and right down.",
    spec=SettingsSpec(
        (
            Field(
                name="cents",
                label="Detune",
                default=9,
                unit="cents",
                low=0,
                high=50,
                step=0.5,
                rides=False,
            ),
        )
    ),
    says=lambda full: f"left {full.number('cents'):.1f} cents up, right as much down",
    blend=0.6,
    process=_doubler,
    near=Near(process=_doubler_stretch, reach=lambda _full, _variation, context: context.rate // 5),
    picture=_doubler_picture,
)
KINDS = (CHORUS, DOUBLER)
