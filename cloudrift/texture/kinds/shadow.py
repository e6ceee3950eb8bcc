"""Shadow and ghost: another octave beside the sound, and a space that swells into it."""

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.kinds.hall import HALL
from cloudrift.texture.kinds.shift import held
from cloudrift.texture.picture import POINTS, Axis, Portrait, db_axis, moved
from cloudrift.texture.process import rough_of

INTERVALS = {
    "an octave below": -12,
    "two octaves below": -24,
    "a fifth below": -5,
    "a fifth above": 7,
    "an octave above": 12,
}


def _shadow(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    """The sound with its shadow beside it; blend says how much of that."""
    return audio + held(audio, INTERVALS[full.word("interval")], context)


SHADOW = Kind(
    name="harmoniser",
    label="Harmoniser",
    family="Time",
    about="Adds another octave or a fifth.",
    spec=SettingsSpec(
        (
            Field(
                name="interval",
                label="Interval",
                default="an octave below",
                choices=tuple(INTERVALS),
            ),
        )
    ),
    says=lambda full: f"with {full.word('interval')} beside it",
    process=_shadow,
    blend=0.4,
    pitches=lambda full: ((0.0, 0.0), (INTERVALS[full.word("interval")], 0.0)),
    picture=lambda full, _variation, _context: moved(INTERVALS[full.word("interval")]),
    rough=rough_of(_shadow, 0.3),
    stretches=lambda _full: True,
)


def _ghost(audio: Stereo, full: ResolvedSettings, variation: int, context: Context) -> Stereo:
    """A hall backward: what is heard swells up before each note instead of ringing after it."""
    linear = HALL.linear
    assert linear is not None
    hall = HALL.spec.full(HALL.spec.check(dict(full), "reverse reverb"))
    turned = linear.lay(audio[:, ::-1].copy(), hall, variation, context)
    return turned[:, ::-1].copy()


def _ghost_picture(full: ResolvedSettings, _variation: int, _context: Context) -> Portrait:
    """The hall's decay the other way round."""
    seconds = full.number("decay_s")
    x = np.linspace(-seconds, 0.2, POINTS)
    y = np.where(x <= 0, 60 * x / seconds, -60.0)
    marks = ((-seconds, f"−{seconds:.1f} s"), (0.0, "0 s"))
    return Portrait(
        title="swells into a note at 0 s",
        x=x,
        curves=(y,),
        x_axis=Axis(low=-seconds, high=0.2, marks=marks),
        y_axis=db_axis(-60, 0, 20),
    )


GHOST = Kind(
    name="reverse reverb",
    label="Reverse reverb",
    family="Time",
    about="Reversed reverb: swells into each note.",
    spec=SettingsSpec(
        tuple(
            field
            for field in HALL.spec
            if field.name in ("decay_s", "low_cut_hz", "damping", "width")
        )
    ),
    says=lambda full: f"swells over {full.number('decay_s'):.1f} s before each note",
    process=_ghost,
    rough=rough_of(_ghost, 2.0),
    picture=_ghost_picture,
    blend=0.35,
    draws=True,
)
KINDS = (SHADOW, GHOST)
