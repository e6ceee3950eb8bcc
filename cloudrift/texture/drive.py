"""Drive: curves that round, bend and fold, at eight times the rate, so that little aliases."""

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.wrap import BLOCK, Spectrum, filter_circular, shaped_oversampled, taken
from cloudrift.ground.settings import Field, Full, SettingsSpec
from cloudrift.texture.kind import Context, Kind, Near
from cloudrift.texture.weathering import band_edge

Wave = NDArray[np.float32]
EDGE_HZ = 20_000.0
TIMES = 8  # the rate at which waves are bent: averaged there, what folds back is below -70 dB
REACH = BLOCK  # frames: the slowest is what takes a steady offset away
OFFSET_HZ = 8.0


def _before(x: Wave) -> Wave:
    """The sample before each."""
    return np.concatenate([x[..., :1], x[..., :-1]], axis=-1)


# Each curve is averaged between neighbouring samples (first-order antiderivative antialiasing,
# Parker et al. 2016), in a form in which nothing cancels where neighbours are equal.


def _soft(x: Wave) -> Wave:
    """x / sqrt(1 + x^2)."""
    last = _before(x)
    return (x + last) / (np.sqrt(1 + x * x) + np.sqrt(1 + last * last))


def _hard(x: Wave) -> Wave:
    """Flat beyond one; where a step crosses the edge, the area under it over its length."""
    last = _before(x)
    out = np.clip((x + last) * np.float32(0.5), -1, 1)
    crosses = (np.abs(x) > 1) != (np.abs(last) > 1)
    crosses |= (np.abs(x) > 1) & (x * last < 0)
    a, b = x[crosses], last[crosses]
    out[crosses] = (_area(a) - _area(b)) / (a - b)
    return out


def _area(x: Wave) -> Wave:
    size = np.abs(x)
    return np.where(size <= 1, np.float32(0.5) * x * x, size - np.float32(0.5))


def _fold(x: Wave) -> Wave:
    """sin(pi x / 2), averaged: that of the middle, times how far the step smears it."""
    last = _before(x)
    middle = np.sin((x + last) * np.float32(np.pi / 4))
    return middle * np.sinc((x - last) * np.float32(0.25)).astype(np.float32)


SHAPES: dict[str, Callable[[Wave], Wave]] = {"soft": _soft, "hard": _hard, "fold": _fold}


def _driven(audio: Stereo, full: Full, curve: str, rate: int) -> Stereo:
    """Drive, lean to one side, bend; half of the gain is given back, and no offset is left."""
    gain = np.float32(to_gain(full.number("drive_db")))
    lean = np.float32(full.number("lean") / 100 if "lean" in full else 0.0)
    shape = SHAPES[curve]
    rest = shape(np.full((1, 2), lean, np.float32))[0, -1]
    edge = band_edge(EDGE_HZ, rate, BLOCK)
    out = shaped_oversampled(
        audio, lambda wave: shape(wave * gain + lean) - rest, edge, edge, TIMES
    )
    out *= np.float32(to_gain(full.number("out_db")) / np.sqrt(gain))
    return filter_circular(out, partial(_no_offset, rate), OFFSET_RING) if lean else out


OFFSET_RING = BLOCK // 2


def _no_offset(rate: int, spectrum: Spectrum, length: int) -> Spectrum:
    hz = np.fft.rfftfreq(length, 1 / rate)
    slow = 1j * hz / OFFSET_HZ
    return spectrum * (slow / (1 + slow)).astype(np.complex64)


def _kind(
    name: str, about: str, curve: str, fields: tuple[Field, ...], says: str, drive_db: float,
    most_db: float = 24,
) -> Kind:  # fmt: skip
    def process(audio: Stereo, full: Full, _draw: int, context: Context) -> Stereo:
        return _driven(audio, full, curve, context.rate)

    def stretch(
        audio: Stereo, full: Full, _draw: int, context: Context, start: int, count: int
    ) -> Stereo:
        piece = np.array(taken(audio, start - REACH, count + 2 * REACH))
        return _driven(piece, full, curve, context.rate)[:, REACH : REACH + count]

    spec = SettingsSpec((
        Field(name="drive_db", label="Drive", default=drive_db, unit="dB", low=0, high=most_db,
              step=0.5),
        *fields,
        Field(name="out_db", label="Out", default=0, unit="dB", low=-18, high=12, step=0.5),
    ))  # fmt: skip
    return Kind(
        name=name, label=name.capitalize(), family="Drive", about=about, spec=spec,
        says=lambda full: f"{full.number('drive_db'):.1f} dB into {says}", process=process,
        near=Near(process=stretch, reach=lambda _full, _draw, _context: REACH),
    )  # fmt: skip


LEAN = Field(name="lean", label="Lean", default=20, unit="%", low=0, high=60,
             hint="towards one side: even harmonics")  # fmt: skip
WARM = _kind("warm", "Rounds peaks softly, a little lopsided.", "soft", (LEAN,),
             "a soft, leaning curve", 9)  # fmt: skip
OVERDRIVE = _kind("overdrive", "Bends everything, hot and thick.", "soft", (),
                  "a soft curve", 20, 36)  # fmt: skip
CLIP = _kind("soft clip", "Flat above the edge, untouched below it.", "hard", (),
             "a flat edge", 8)  # fmt: skip
FOLD = _kind("fold", "Peaks turn back on themselves: bright, metallic.", "fold", (),
             "a curve that turns back", 8, 18)  # fmt: skip
KINDS = (WARM, OVERDRIVE, CLIP, FOLD)
