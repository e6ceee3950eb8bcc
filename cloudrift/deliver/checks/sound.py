"""Checks of a loop's sound as a whole: length, seam, level, both sides."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, to_db
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.deliver.checks import spec
from cloudrift.deliver.checks.check import Change, Check, Finding, graded
from cloudrift.deliver.checks.heard import Heard
from cloudrift.ground.words import number
from cloudrift.loop.edits.layers.line_edits import add_treatment, insert_treatments, set_line
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.running import laid
from cloudrift.texture.treatment import Treatment

OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
LOWEST_HZ = 16.0
NEAR = 2000  # frames about the seam
MOST_PUSH_DB = 24.0  # that a limiter takes
PUSH_STEPS = 5
ROOM_DB = 0.1  # further than asked, so that rounding leaves it met


# --- length and seam ------------------------------------------------------------------------------


def _length(heard: Heard) -> Finding:
    wanted, found = heard.loop.sounding_frames, heard.sound.shape[1]
    seconds = found / heard.rate
    text = f"{seconds:.4f} s, {found} frames"
    if found == wanted:
        return Finding(
            severity="fine", measured=f"{text}: {heard.loop.bars} bars to the frame", value=0.0
        )
    off = found - wanted
    return Finding(
        severity="must",
        value=abs(off),
        measured=f"{text}, {number(off, '+d')} frames "
        f"from {heard.loop.bars} bars at {heard.loop.sounding_tempo:g} BPM",
        where="at the end",
    )


def seam_db(audio: Stereo) -> float:
    """Return how much sharper a loop's wave bends at its seam than it usually does nearby, in dB.

    The bend is the second difference; usual is what 99.5 % of those within 2000 frames keep below.
    """
    near = min(NEAR, audio.shape[1] // 2)
    if near < 8:
        return 0.0
    around = np.concatenate([audio[:, -near:], audio[:, :near]], axis=1, dtype=np.float64)
    bend = np.abs(np.diff(around, 2, axis=1)).max(axis=0)
    usual = float(np.quantile(bend, 0.995))
    return to_db(float(bend[near - 2 : near + 1].max())) - to_db(usual) if usual > 0 else 0.0


def _seam(heard: Heard) -> Finding:
    found = seam_db(heard.sound)
    severity = graded(found, should=spec.SEAM_DB, must=spec.SEAM_BROKEN_DB)
    much = "no click" if severity == "fine" else "a click"
    return Finding(
        severity=severity,
        value=found,
        where="at the loop point",
        measured=f"{much}: the step there is {number(found, '+.0f')} dB of the steepest nearby",
    )


# --- level ----------------------------------------------------------------------------------------


def _last_trim(loop: Loop) -> Treatment | None:
    """The trim at the end of the whole loop's line, if there is one that can be set."""
    last = loop.line[-1] if loop.line else None
    if last is None or last.kind != "trim" or not last.on or last.blend < 1 or last.rides:
        return None
    return last if last.known else None


def trimmed(loop: Loop, *, gain_db: float = 0.0, width: float = 1.0, mono_hz: float = 0.0) -> Loop:
    """Return a loop whose sound is louder, narrower, or mono below: by the trim at its end."""
    if _last_trim(loop) is None:
        loop = add_treatment(loop, None, "trim")
    trim = loop.line[-1]
    fields = {one.name: one for one in trim.of.spec}
    gain, wide = fields["gain_db"], fields["width"]
    made = trim.set("gain_db", min(max(trim.full.number("gain_db") + gain_db, gain.low), gain.high))
    made = made.set("width", min(max(trim.full.number("width") * width, wide.low), wide.high))
    if mono_hz:
        made = made.set("mono_hz", max(trim.full.number("mono_hz"), mono_hz))
    return set_line(loop, None, (*loop.line[:-1], made))


def _softer(heard: Heard, by_db: float) -> Change | None:
    """That many dB less at the loop's end; None where a blend lets it not be exact."""
    if heard.loop.line_blend < 1:
        return None
    gain = -np.ceil(by_db * 10) / 10
    return Change(
        words=f"{number(gain, '.1f')} dB on the whole loop",
        edit=lambda loop: trimmed(loop, gain_db=float(gain)),
    )


def _limited(heard: Heard, target: float) -> Change | None:
    """Up to a loudness through a limiter at the loop's end, pushed as far as that takes."""
    if heard.loop.line_blend < 1:
        return None
    kind = find_kind("limiter")
    limiter = Treatment(id="t1", kind=kind.name, version=kind.version)
    limiter = limiter.set("ceiling_db", spec.MOST_PEAK_DBTP - ROOM_DB)
    push = target - heard.lufs
    for _step in range(PUSH_STEPS):  # what it holds back is made good
        push = round(min(max(push, 0.0), MOST_PUSH_DB), 1)
        limiter = limiter.set("push_db", push)
        made = laid(heard.sound, (limiter,), heard.rate, heard.loop.sounding_tempo)
        push += target - integrated_lufs(made, heard.rate)
    push = limiter.full.number("push_db")
    return Change(
        words=f"{number(push, '+.1f')} dB through a limiter",
        edit=lambda loop: insert_treatments(loop, None, (limiter,))[0],
    )


def _peak(heard: Heard) -> Finding:
    found = heard.peak_db
    severity = graded(found, should=spec.MOST_PEAK_DBTP + 0.05, must=spec.FULL_PEAK_DBTP)
    over = found - spec.MOST_PEAK_DBTP
    return Finding(
        severity=severity,
        value=found,
        measured=f"{number(found, '.1f')} dBTP",
        where="" if severity == "fine" else f"at {_place_of_peak(heard)}",
        change=None if severity == "fine" else _softer(heard, over + ROOM_DB),
    )


def _place_of_peak(heard: Heard) -> str:
    return _bar_beat(heard, int(np.abs(heard.sound).max(axis=0).argmax()))


def _bar_beat(heard: Heard, frame: int) -> str:
    """Say where a frame is: ``bar 3, beat 2``."""
    loop = heard.loop
    tick = frame / max(1, heard.sound.shape[1]) * loop.ticks
    bar = bar_ticks(loop.metre)
    beat = bar // loop.metre[0]
    return f"bar {int(tick // bar) + 1}, beat {int(tick % bar // beat) + 1}"


def _loudness(heard: Heard) -> Finding:
    """How near a target the loop comes by the gain that it is written with."""
    found, target = heard.lufs, heard.target_lufs
    text = f"{number(found, '.1f')} LUFS"
    if target is None:
        return Finding(severity="fine", value=found, measured=f"{text}; no target is set")
    gain = min(target - found, spec.MOST_PEAK_DBTP - heard.peak_db)
    off = found + gain - target
    text += f", exported at {number(gain, '+.1f')} dB"
    if abs(off) <= spec.LOUDNESS_LU:
        return Finding(
            severity="fine",
            value=found + gain,
            measured=f"{text}: {number(found + gain, '.1f')} LUFS",
        )
    return Finding(
        severity="should",
        value=found + gain,
        change=_limited(heard, target),
        measured=f"{text}, as its peak allows no more: {number(-off, '.1f')} LU below "
        f"{number(target)} LUFS",
    )


def _dc(heard: Heard) -> Finding:
    sides = heard.sound.mean(axis=1, dtype=np.float64)
    found = max(to_db(float(abs(one))) for one in sides)
    severity = graded(found, should=spec.DC_DB)
    change = None
    if severity != "fine":
        change = Change(
            words="low cut at 24 Hz, at the end of the loop's treatments", edit=_cut_lowest
        )
    side = "left" if abs(sides[0]) >= abs(sides[1]) else "right"
    return Finding(
        severity=severity,
        value=found,
        change=change,
        measured=f"{number(found, '.0f')} dBFS" if found > -120 else "none",
        where=f"on the {side}" if change else "",
    )


def _cut_lowest(loop: Loop) -> Loop:
    loop = add_treatment(loop, None, "cuts")
    return set_line(loop, None, (*loop.line[:-1], loop.line[-1].set("low_cut_hz", 24.0)))


# --- both sides -----------------------------------------------------------------------------------


def _mono(heard: Heard) -> Finding:
    bands = np.array([heard.sides.between(one / 2**0.5, one * 2**0.5) for one in OCTAVES_HZ])
    middle, both = bands[:, 0], bands.sum(axis=1)
    counts = both > both.max(initial=0.0) * 10 ** (-spec.BAND_HEARD_DB / 10)
    ratio = np.maximum(both, 1e-20) / np.maximum(middle, 1e-20)
    lost = np.where(counts, 10 * np.log10(ratio), 0.0)
    worst = int(lost.argmax())
    found = float(lost[worst])
    severity = graded(found, should=spec.MONO_DB, must=spec.MONO_BROKEN_DB)
    change = None
    if severity != "fine":
        change = _narrower(
            middle[worst] * (10 ** ((spec.MONO_DB - 0.5) / 10) - 1), bands[worst, 1], heard.loop
        )
    return Finding(
        severity=severity,
        value=found,
        change=change,
        measured=f"loses at most {found:.1f} dB in mono",
        where=f"in the octave at {OCTAVES_HZ[worst]:g} Hz" if found > 0.05 else "",
    )


def _narrower(wanted: float, side: float, loop: Loop) -> Change | None:
    """Bring the sides down to a power."""
    if loop.line_blend < 1 or side <= 0 or wanted >= side:
        return None
    width = np.floor(100 * np.sqrt(wanted / side)) / 100
    return Change(
        words=f"width {width * 100:.0f} % of what it is",
        edit=lambda one: trimmed(one, width=float(width)),
    )


def _low_width(heard: Heard) -> Finding:
    middle, side = heard.sides.between(LOWEST_HZ, spec.LOW_HZ)
    total = sum(heard.sides.between(LOWEST_HZ, heard.rate))
    found = 100 * side / max(middle + side, 1e-20)
    heard_there = middle + side > total * 10 ** (-spec.BAND_HEARD_DB / 10)
    severity = graded(found, should=spec.LOW_SIDES) if heard_there else "fine"
    change = None
    if severity != "fine" and heard.loop.line_blend == 1:
        change = Change(
            words=f"mono below {spec.LOW_HZ * 1.25:.0f} Hz",
            edit=lambda loop: trimmed(loop, mono_hz=spec.LOW_HZ * 1.25),
        )
    return Finding(
        severity=severity,
        value=found,
        change=change,
        where=f"below {spec.LOW_HZ:g} Hz",
        measured=f"{found:.0f} % at the sides" if heard_there else "nothing there",
    )


def _phase(heard: Heard) -> Finding:
    left, right = heard.sound.astype(np.float64)
    found = _correlation(left, right)
    step = min(heard.rate, left.size)
    loud = float(np.sqrt(np.mean(left**2 + right**2)))
    worst, at = 1.0, 0
    for first in range(0, left.size - step + 1, step):
        one, other = left[first : first + step], right[first : first + step]
        if float(np.sqrt(np.mean(one**2 + other**2))) > loud * 10 ** (-12 / 20):
            here = _correlation(one, other)
            worst, at = (here, first) if here < worst else (worst, at)
    bad = found < spec.PHASE or worst < spec.PHASE_SECOND
    change = None
    if bad:
        middle, side = np.square(left + right).sum(), np.square(left - right).sum()
        change = _narrower(0.8 * float(middle), float(side), heard.loop)
    return Finding(
        severity="should" if bad else "fine",
        value=found,
        change=change,
        measured=f"correlation {number(found, '+.2f')}, "
        f"{number(worst, '+.2f')} in the worst second",
        where=f"at {_bar_beat(heard, at)}" if bad else "",
    )


def _correlation(left: NDArray[np.float64], right: NDArray[np.float64]) -> float:
    power = float(np.sqrt((left @ left) * (right @ right)))
    return float(left @ right) / power if power > 1e-12 else 1.0


# --- start and end --------------------------------------------------------------------------------


def _start(heard: Heard) -> Finding:
    level = np.abs(heard.sound).max(axis=0)
    first = int(np.argmax(level > level.max(initial=0.0) * 10 ** (-50 / 20)))
    found = 1e3 * first / heard.rate
    return Finding(
        severity=graded(found, should=spec.START_MS),
        value=found,
        measured=f"the sound starts after {found:.0f} ms",
        where="" if found <= spec.START_MS else f"up to {_bar_beat(heard, first)}",
    )


def _tail(heard: Heard) -> Finding:
    """What one pass rings on for, and whether it is let ring out."""
    mean = float(np.sqrt(np.square(heard.sound).mean(dtype=np.float64)))
    step = max(1, int(0.05 * heard.rate))
    behind = heard.once[:, heard.loop.sounding_frames :]
    ends = behind[:, -2 * step : -step]  # its very end is faded out, whatever it is
    first, last = (_level_db(part) - to_db(mean) for part in (behind[:, :step], ends))
    rings = behind.shape[1] / heard.rate
    if last > spec.TAIL_DB and rings > 0:
        return Finding(
            severity="should",
            value=last,
            where=f"{rings:.1f} s after the end",
            measured="one pass is cut off while it still rings, at "
            f"{number(last, '.0f')} dB of the loop's mean",
        )
    if first <= spec.TAIL_DB:
        return Finding(severity="fine", value=last, measured="nothing rings after the end")
    kept = "exported with one pass" if heard.with_tail else "at the loop point"
    return Finding(
        severity="fine",
        value=last,
        measured=f"rings for {rings:.1f} s after the "
        f"end, at first at {number(first, '.0f')} dB of the mean: {kept}",
    )


def _level_db(part: Stereo) -> float:
    return to_db(float(np.sqrt(np.square(part).mean(dtype=np.float64)))) if part.size else -120.0


SOUND = (
    Check(name="length", label="Length", about="exactly its bars at its tempo", find=_length),
    Check(name="seam", label="Seam", find=_seam,
          about=f"no click at the loop point: no step {spec.SEAM_DB:g} dB over those nearby"),
    Check(name="peak", label="True peak", find=_peak,
          about=f"at most {number(spec.MOST_PEAK_DBTP)} dBTP (ITU-R BS.1770, 4 times oversampled)"),
    Check(name="loudness", label="Loudness", find=_loudness,
          about=f"within {spec.LOUDNESS_LU:g} LU of the target, if one is set"),
    Check(name="dc", label="DC", about=f"below {number(spec.DC_DB)} dBFS", find=_dc),
    Check(name="mono", label="Mono", find=_mono,
          about=f"no audible octave loses more than {spec.MONO_DB:g} dB as mono"),
    Check(name="low width", label="Low end", find=_low_width,
          about=f"at most {spec.LOW_SIDES:g} % of what is below {spec.LOW_HZ:g} Hz at the sides"),
    Check(name="phase", label="Phase", find=_phase,
          about="left and right in phase, on average and in every loud second"),
    Check(name="start", label="Start", find=_start,
          about=f"no more than {spec.START_MS:g} ms of silence at the start"),
    Check(name="tail", label="Tail", find=_tail,
          about=f"one pass decays to silence: it ends {number(-spec.TAIL_DB)} dB or more below "
                "the mean"),
)  # fmt: skip
