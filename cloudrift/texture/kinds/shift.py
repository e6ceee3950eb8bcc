"""Shift: another pitch, by tape (the length follows) or with the length held."""

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.resample import resample_circular, shift_held
from cloudrift.audio.stretch import LEAD_S, pitch_shifted
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.picture import moved

HOLD, TAPE = "keep length", "like tape"


def semitones_of(full: ResolvedSettings) -> float:
    """Return by how many semitones it shifts."""
    return full.number("semitones") + full.number("cents") / 100


def _ratio(full: ResolvedSettings) -> float:
    return 2.0 ** (-semitones_of(full) / 12) if full.word("way") == TAPE else 1.0


def _process(audio: Stereo, full: ResolvedSettings, _variation: int, context: Context) -> Stereo:
    if full.word("way") == TAPE:
        return resample_circular(audio, context.stretched(_ratio(full)).frames)
    return held(audio, semitones_of(full), context)


def held(audio: Stereo, semitones: float, context: Context) -> Stereo:
    """Move the pitch of a sound at its length, joined where chords begin.

    Where one turn is like the next, as in the steady state, one is moved for all of them.
    """
    turn = audio[:, : context.loop_frames]
    alike = not context.once and np.array_equal(audio, context.tiled(turn))
    if not alike:
        turns = range(context.passes)
        joins = tuple(cut + turn * context.loop_frames for turn in turns for cut in context.cuts)
        return shift_held(audio, semitones, context.rate, joins=joins)
    return context.tiled(shift_held(turn, semitones, context.rate, joins=context.cuts))


def _rough(
    audio: Looped, full: ResolvedSettings, context: Context, start: int, count: int
) -> Stereo | None:
    """Some frames with the length held: their phases differ from those of the whole."""
    if full.word("way") == TAPE:
        return None
    lead = int(LEAD_S * context.rate)
    piece = slice_wrapped(audio, start - lead, count + 2 * lead)
    return pitch_shifted(piece, semitones_of(full), context.rate)[:, lead : lead + count]


def _says(full: ResolvedSettings) -> str:
    semitones = semitones_of(full)
    if semitones == 0:
        return "no shift yet"
    size = f"{abs(semitones):.2f}".rstrip("0").rstrip(".")
    words = f"{size} semitone{'s' * (size != '1')} {'up' if semitones > 0 else 'down'}"
    if full.word("way") == HOLD:
        return f"{words}, same length"
    percent = (_ratio(full) - 1) * 100
    return (
        f"{words}, {abs(percent):.1f} % {'longer' if percent > 0 else 'shorter'}; dry/wet is 100 %"
    )


SHIFT = Kind(
    name="shift",
    label="Pitch shift",
    family="Time",
    about="Shifts the pitch; like tape changes the length too.",
    spec=SettingsSpec(
        (
            Field(
                name="semitones",
                label="Semitones",
                default=0,
                unit="st",
                low=-12,
                high=12,
                rides=False,
            ),
            Field(
                name="cents",
                label="Cents",
                default=0,
                unit="cents",
                low=-100,
                high=100,
                rides=False,
            ),
            Field(name="way", label="Mode", default=HOLD, choices=(HOLD, TAPE)),
        )
    ),
    says=_says,
    process=_process,
    picture=lambda full, _variation, _context: moved(semitones_of(full)),
    rough=_rough,
    shift_st=semitones_of,
    stretches=lambda full: full.word("way") == HOLD and semitones_of(full) != 0,
    time_ratio=_ratio,
)
