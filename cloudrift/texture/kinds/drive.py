"""Drive: curves that round, bend and fold, at several times the rate, so that little aliases."""

from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.wrap import BLOCK, Spectrum, filter_circular, shaped_oversampled
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.curves import SHAPES, band_edge
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds.tone import bell
from cloudrift.texture.picture import POINTS, Axis, Portrait
from cloudrift.texture.process import Near, rough_of

EDGE_HZ = 20_000.0
# By curve, up to which drive (dB) how many times the rate is enough: what folds back of a tone at
# 5 kHz is then below -70 dB. The last serves for all that is more.
TIMES = {
    "soft": ((9, 2), (15, 3), (21, 4), (99, 6)),
    "hard": ((9, 3), (99, 6)),
    "fold": ((12, 2), (99, 3)),
}
REACH = BLOCK  # frames: the slowest is what takes a steady offset away
OFFSET_HZ = 8.0


def _driven(audio: Stereo, full: ResolvedSettings, curve: str, rate: int) -> Stereo:
    """Drive, lean to one side, bend; half of the gain is given back, and no offset is left."""
    drive_db = full.number("drive_db")
    gain = np.float32(to_gain(drive_db))
    times = next(times for most, times in TIMES[curve] if drive_db <= most)
    lean = np.float32(full.number("lean") / 100 if "lean" in full else 0.0)
    shape = SHAPES[curve]
    rest = shape(np.full((1, 2), lean, np.float32))[0, -1]
    edge = band_edge(EDGE_HZ, rate, BLOCK)
    out = shaped_oversampled(
        audio, lambda wave: shape(wave * gain + lean) - rest, edge, edge, times
    )
    out *= np.float32(to_gain(full.number("out_db")) / np.sqrt(gain))
    return filter_circular(out, partial(_no_offset, rate), OFFSET_RING) if lean else out


OFFSET_RING = BLOCK // 2


def _no_offset(rate: int, spectrum: Spectrum, length: int) -> Spectrum:
    hz = np.fft.rfftfreq(length, 1 / rate)
    slow = 1j * hz / OFFSET_HZ
    return spectrum * (slow / (1 + slow)).astype(np.complex64)


def _picture(curve: str, full: ResolvedSettings, *, whole: bool = False) -> Portrait:
    """What comes out for each level that goes in, a moment of a wave at a time.

    ``whole``: all of the gain is given back, as a tape does.
    """
    gain = to_gain(full.number("drive_db"))
    lean = full.number("lean") / 100 if "lean" in full else 0.0
    x = np.linspace(-1, 1, POINTS)
    wave = np.repeat(x[:, None], 2, axis=1).astype(np.float32)
    shape = SHAPES[curve]
    rest = shape(np.full((1, 2), lean, np.float32))[0, -1]
    y = (shape(wave * np.float32(gain) + np.float32(lean))[:, -1] - rest).astype(float)
    y *= to_gain(full.number("out_db")) / (gain if whole else np.sqrt(gain))
    most = max(1.0, float(np.abs(y).max()))
    marks = ((-1.0, "−1"), (0.0, "0"), (1.0, "+1"))
    return Portrait(
        title="out over in, of full scale",
        x=x,
        curves=(y, x),
        x_axis=Axis(low=-1, high=1, marks=marks),
        y_axis=Axis(low=-most, high=most, marks=marks),
    )


def _kind(
    name: str,
    about: str,
    curve: str,
    fields: tuple[Field, ...],
    says: str,
    drive_db: float,
    most_db: float = 24,
) -> Kind:
    def process(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
        return _driven(audio, full, curve, context.rate)

    def stretch(
        audio: Looped,
        full: ResolvedSettings,
        _variation: int,
        context: Context,
        start: int,
        count: int,
    ) -> Stereo:
        piece = np.array(slice_wrapped(audio, start - REACH, count + 2 * REACH))
        return _driven(piece, full, curve, context.rate)[:, REACH : REACH + count]

    spec = SettingsSpec((
        Field(name="drive_db", label="Drive", default=drive_db, unit="dB", low=0, high=most_db,
              step=0.5),
        *fields,
        Field(name="out_db", label="Out", default=0, unit="dB", low=-18, high=12, step=0.5),
    ))  # fmt: skip
    return Kind(
        name=name,
        label=name.capitalize(),
        family="Drive",
        about=about,
        spec=spec,
        says=lambda full: f"{full.number('drive_db'):.1f} dB into {says}",
        process=process,
        near=Near(process=stretch, reach=lambda _full, _variation, _context: REACH),
        picture=lambda full, _variation, _context: _picture(curve, full),
    )


LEAN = Field(
    name="lean",
    label="Lean",
    default=20,
    unit="%",
    low=0,
    high=60,
    hint="towards one side: even harmonics",
)
WARM = _kind(
    "warm", "Rounds peaks softly, slightly asymmetric.", "soft", (LEAN,), "a soft, leaning curve", 9
)
OVERDRIVE = _kind(
    "overdrive", "Bends the whole wave, hot and thick.", "soft", (), "a soft curve", 20, 36
)
CLIP = _kind(
    "soft clip", "Clips above the threshold, untouched below it.", "hard", (), "a flat edge", 8
)
FOLD = _kind(
    "fold",
    "Folds peaks back on themselves: bright, metallic.",
    "fold",
    (),
    "a curve that turns back",
    8,
    18,
)


# --- tape -----------------------------------------------------------------------------------------

# Inches a second: how many dB of highs go onto the tape louder, where its head bumps, what it
# loses at 15 kHz.
SPEEDS = {"slow": (9.0, 55.0, 7.0), "middle": (6.0, 75.0, 3.5), "fast": (3.0, 110.0, 1.0)}
TAPE_RING_S = 0.12


def _tape(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """Highs are raised onto the tape and lowered off it, so that they bend first."""
    rate, (more_db, bump_hz, loss_db) = context.rate, SPEEDS[full.word("speed")]
    drive_db = full.number("drive_db")

    def onto(spectrum: Spectrum, length: int) -> Spectrum:
        return np.asarray(spectrum * _emphasis(rate, length, more_db), np.complex64)

    def off(spectrum: Spectrum, length: int) -> Spectrum:
        hz = np.maximum(np.fft.rfftfreq(length, 1 / rate), 0.1).astype(np.float32)
        tone = bell(hz, bump_hz, full.number("bump_db"), 0.9)
        lost = 10 ** (-loss_db * np.minimum(hz / 15_000, 1.5) / 20)
        return np.asarray(spectrum * (tone * lost / _emphasis(rate, length, more_db)), np.complex64)

    ring = int(TAPE_RING_S * rate)
    bent = _driven(filter_circular(audio, onto, ring), full, "soft", rate)
    # Half of the drive was given back; a tape gives back all of it.
    bent *= np.float32(to_gain(-drive_db / 2))
    return filter_circular(bent, off, ring)


def _emphasis(rate: int, length: int, more_db: float) -> NDArray[np.float32]:
    """A soft rise above 3 kHz, without phase."""
    hz = np.fft.rfftfreq(length, 1 / rate).astype(np.float32)
    x = np.square(hz / np.float32(3000))
    return np.asarray(10 ** (more_db * x / (1 + x) / 20), np.float32)


TAPE = Kind(
    name="tape",
    label="Tape",
    family="Drive",
    about="Rounds the highs first, thickens the lows.",
    spec=SettingsSpec(
        (
            Field(name="drive_db", label="Drive", default=8, unit="dB", low=0, high=24, step=0.5),
            Field(name="speed", label="Tape speed", default="middle", choices=tuple(SPEEDS)),
            Field(name="bump_db", label="Head bump", default=2, unit="dB", low=0, high=6, step=0.5),
            Field(name="out_db", label="Out", default=0, unit="dB", low=-18, high=12, step=0.5),
        )
    ),
    says=lambda full: (
        f"{full.number('drive_db'):.1f} dB onto {full.word('speed')} tape, "
        f"a bump at {SPEEDS[full.word('speed')][1]:.0f} Hz"
    ),
    process=_tape,
    rough=rough_of(_tape, 0.3),
    picture=lambda full, _variation, _context: _picture("soft", full, whole=True),
)
KINDS = (WARM, TAPE, OVERDRIVE, CLIP, FOLD)
