"""What is wanted of every sound, measured on rendered notes: ranges, verdicts, named exceptions."""

from collections.abc import Callable
from itertools import combinations
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import DEFAULT_RATE, Stereo, to_db
from cloudrift.sound.instrument import Instrument
from cloudrift.sound.kit.strung import inharmonicity
from cloudrift.sound.measure import (
    aliasing_db,
    bare_settings,
    beating_db,
    centroid_hz,
    decay_db_per_s,
    level_curve,
    partial_curve,
    pitches,
    residual_db,
    rms,
    self_similarity,
    strike,
    strike_ticks,
)
from cloudrift.sound.tones import ToneCache
from cloudrift.theory.pitch import pitch_to_hz

STEPS = (30, 60, 90, 120)  # velocities
HELD_S = 0.6
OCTAVES_HZ = (62.5, 125, 250, 500, 1000, 2000, 4000, 8000)
STRIKES = 8
MOST_APART = np.array([2.0, 3.0])  # neighbours, in dB and in semitones of their centroids
NEARLY, MEANT = 0.6, 3  # from this share of it on, that many strikes are taken together
NEAR_MS = 1.0
C7 = 96


class Verdict(NamedTuple):
    """What was measured of a sound: it should lie from ``low`` to ``high``.

    ``why`` is why it may lie elsewhere, where it may.
    """

    what: str
    found: float
    low: float
    high: float
    unit: str
    where: str = ""
    why: str = ""

    @property
    def holds(self) -> bool:
        """Whether it lies where it should, or may lie elsewhere."""
        return bool(self.low <= self.found <= self.high) or bool(self.why)


def verdicts(instrument: Instrument) -> list[Verdict]:
    """Measure a sound and judge it."""
    tones = ToneCache()  # what one judge has heard of a key, the next need not compute
    judges = (*_JUDGES, *_PHYSICS.get(instrument.name, ()))
    found = [judge(instrument, tones) for judge in judges]
    return [
        one._replace(why=EXCEPTIONS.get((instrument.name, one.what), ""))
        for some in found
        for one in some
    ]


# --- of all sounds --------------------------------------------------------------------------------


def _by_key(instrument: Instrument, keys: range, tones: ToneCache) -> NDArray[np.float64]:
    """Level in dB and centroid in semitones of each key: (keys, 2).

    One strike will do where it is as even as it should be. Where neighbours are nearly too far
    apart it is their strikes that may differ: there each key is the mean of several.
    """
    most, heard = min(MEANT, instrument.variants), dict.fromkeys(keys, 1)
    values = np.array([_heard(instrument, key, 1, tones) for key in keys])
    while True:
        far = (np.abs(np.diff(values, axis=0)) > NEARLY * MOST_APART).any(axis=1)
        doubted = {keys[i] for k in np.flatnonzero(far) for i in (k, k + 1)}
        doubted = {key for key in doubted if heard[key] < most}
        if not doubted:
            return values
        for key in doubted:
            values[key - keys[0]] = _heard(instrument, key, most, tones)
            heard[key] = most


def _heard(instrument: Instrument, pitch: int, count: int, tones: ToneCache) -> tuple[float, float]:
    """Level in dB and centroid in semitones of a key, over that many strikes."""
    notes = _strikes(instrument, pitch, HELD_S, count, tones)
    centres = [12 * np.log2(centroid_hz(note)) for note in notes]
    return to_db(rms(np.concatenate(notes, axis=1))), float(np.mean(centres))


def _strikes(
    instrument: Instrument, pitch: int, seconds: float, count: int, tones: ToneCache
) -> list[Stereo]:
    """Some strikes of a key, each another one where it has that many."""
    return [
        strike(instrument, pitch, 90, seconds, at_tick=tick, tones=tones)
        for tick in strike_ticks(instrument, pitch)[:count]
    ]


def _evenness(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    """Of each key beside the next; of noise, in one octave."""
    low, high = instrument.register
    if instrument.family == "grain":
        low, high = max(low, 54), min(high, 66)
    apart = np.abs(np.diff(_by_key(instrument, range(low, high + 1), tones), axis=0))
    worst, at = apart.max(axis=0), low + apart.argmax(axis=0)
    return [
        Verdict(what, float(found), 0, float(most), unit, f"key {key}")
        for what, found, most, unit, key in zip(
            ("level between neighbours", "centroid between neighbours"),
            worst,
            MOST_APART,
            ("dB", "st"),
            at,
            strict=True,
        )
    ]


def _by_velocity(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    least, rise, level, peak = 99.0, 99.0, 99.0, -99.0
    for pitch in pitches(instrument):
        notes = [strike(instrument, pitch, velocity, HELD_S, tones=tones) for velocity in STEPS]
        centres = np.array([centroid_hz(note) for note in notes])
        least = min(least, float((centres[1:] / centres[:-1]).min()))
        rise = min(rise, float(centres[-1] / centres[0]))
        level = min(level, to_db(rms(notes[-1]) / rms(notes[0])))
        peak = max(
            peak,
            *(
                to_db(
                    float(
                        np.abs(strike(instrument, pitch, 127, 1.0, at_tick=tick, tones=tones)).max()
                    )
                )
                for tick in range(3)
            ),
        )
    return [
        Verdict("centroid at each step of velocity", least, 1.0, 9, "times"),
        Verdict("centroid from velocity 30 to 120", rise, 1.2, 99, "times"),
        Verdict("level from velocity 30 to 120", level, 12, 40, "dB"),
        Verdict("peak of one note at full velocity", peak, -60, 0, "dBFS"),
    ]


def _strike_spread(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    worst = 0.0
    for pitch in pitches(instrument):
        levels = [to_db(rms(note)) for note in _strikes(instrument, pitch, HELD_S, STRIKES, tones)]
        worst = max(worst, max(levels) - min(levels))
    return [Verdict("level of one hit against another", worst, 0, 2.5, "dB")]


def _in_mono(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    worst = 0.0
    for pitch in pitches(instrument):
        lines = [sf.rfft(note) for note in _strikes(instrument, pitch, 1.5, 3, tones)]
        hz = np.fft.rfftfreq(round(1.5 * DEFAULT_RATE), 1 / DEFAULT_RATE)
        sides = sum((np.abs(one) ** 2).mean(axis=0) for one in lines)
        middle = sum(np.abs(one.mean(axis=0)) ** 2 for one in lines)
        for low in OCTAVES_HZ:
            band = (hz >= low) & (hz < 2 * low)
            if sides[band].sum() > 1e-4 * sides.sum():
                lost = sides[band].sum() / max(middle[band].sum(), 1e-20)
                worst = max(worst, to_db(np.sqrt(lost)))
    return [Verdict("mono loss in an octave", worst, 0, 6, "dB")]


def _noise_of_two_keys(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    """How alike the noises of two keys are: what is the same in all of them would add up."""
    if not instrument.noises:
        return []
    low, high = instrument.register
    keys = np.linspace(low, high, 9).astype(int)
    noises = [_noise(instrument, int(key), tones) for key in keys]
    lines = [sf.rfft(one / size, 1 << 16) for one in noises if (size := np.linalg.norm(one)) > 0]
    pairs = [one * other.conj() for one, other in combinations(lines, 2)]
    found = 0.0
    if pairs:
        near = int(NEAR_MS * 1e-3 * DEFAULT_RATE)
        alike = sf.irfft(np.mean(pairs, axis=0), 1 << 16)
        found = float(np.abs(np.concatenate([alike[-near:], alike[: near + 1]])).max())
    return [Verdict("noise that two keys share", found, 0, 0.2, "of 1")]


def _noise(instrument: Instrument, pitch: int, tones: ToneCache) -> NDArray[np.float32]:
    full = strike(instrument, pitch, 100, HELD_S, tones=tones)
    bare = strike(instrument, pitch, 100, HELD_S, settings=bare_settings(instrument), tones=tones)
    return np.asarray((full - bare).mean(axis=0))


def _at_the_top(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    """What folds back on the highest key that it has, up to C7."""
    if instrument.family == "grain":
        return []  # noise all over
    key = min(C7, instrument.register[1])
    found = aliasing_db(instrument, key, seconds=0.5, tones=tones)
    return [Verdict(f"folded back, key {key}", found, -200, -80, "dB")]


def _comes_again(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    """Of what is played by several, or is noise: whether a held note is ever like itself again."""
    several = instrument.family in {"pads", "grain"} or instrument.name in SEVERAL
    if not several or instrument.name in ONE_WAY:
        return []
    held = strike(
        instrument, pitches(instrument)[1], 90, 22.0, settings=(("sustain", 100.0),), tones=tones
    )
    return [Verdict("like itself within 20 s", self_similarity(held), 0, 0.5, "of 1")]


def _let_go(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
    """Where felt stops strings: how long it takes at C2 and C4, and that none is above F6."""
    if instrument.damping is None:
        return []
    wanted = {36: (350, 650), 60: (130, 280), 93: (1500, 9000)}
    out = []
    for pitch, (least, most) in wanted.items():
        low, high = instrument.register
        if not low <= pitch <= high:
            continue
        audio = strike(
            instrument, pitch, 100, 0.5, tail_s=6.0, settings=bare_settings(instrument), tones=tones
        )
        after = level_curve(audio[:, DEFAULT_RATE // 2 :])
        gone = np.flatnonzero(after < after[0] - 45)
        ms = 10.0 * float(gone[0] if len(gone) else len(after))
        if pitch <= 89:
            out.append(Verdict(f"stops in, key {pitch}", ms, least, most, "ms"))
        else:
            own = np.flatnonzero(after < after[0] - 20)
            ms = 10.0 * float(own[0] if len(own) else len(after))
            out.append(Verdict(f"rings on, key {pitch}", ms, 100, 9000, "ms for 20 dB"))
    return out


SEVERAL = {
    "string ensemble",
    "tape strings",
    "choir ah",
    "choir oo",
    "choir mm",
    "choir low",
    "low brass",
    "whisper",
}
ONE_WAY = {"riser", "sub drop"}  # they go somewhere, and are held for what they come to
Judge = Callable[[Instrument, ToneCache], list[Verdict]]
_JUDGES: tuple[Judge, ...] = (
    _evenness,
    _by_velocity,
    _strike_spread,
    _in_mono,
    _noise_of_two_keys,
    _at_the_top,
    _comes_again,
    _let_go,
)


# --- of strings -----------------------------------------------------------------------------------


def _stiff_hz(pitch: int, b: float, count: int) -> NDArray[np.float64]:
    k = np.arange(1.0, count + 1)
    return np.asarray(pitch_to_hz(pitch) * k * np.sqrt((1 + b * k * k) / (1 + b)))


def _piano(share: float) -> Judge:
    def judge(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
        out = []
        for pitch, early, late in ((60, (7, 13), (3, 8)), (84, (25, 70), (10, 40))):
            audio = strike(instrument, pitch, 90, 3.0, tones=tones)
            first = partial_curve(audio, pitch_to_hz(pitch), window_s=0.06)
            out += [
                Verdict(f"first partial falls early, key {pitch}", decay_db_per_s(first, 0.05, 0.6),
                        *early, "dB/s"),
                Verdict(f"first partial falls late, key {pitch}", decay_db_per_s(first, 1.2, 2.6),
                        *late, "dB/s"),
            ]  # fmt: skip
        hz = _stiff_hz(60, share * inharmonicity(60), 40)
        audio = strike(instrument, 60, 90, 3.0, tones=tones)
        beats = [beating_db(partial_curve(audio, h, window_s=0.06)) for h in hz[3:8]]
        level = level_curve(audio)
        out += [
            Verdict("partials 4 to 8 beat by, key 60", float(np.median(beats)), 1.5, 8, "dB"),
            Verdict(
                "level after 2 s, key 60", float(level[195:205].mean() - level.max()), -24, -9, "dB"
            ),
            *_residuals(instrument, tones, 60, share * inharmonicity(60), (-22, -10), (-42, -28)),
        ]
        return out

    return judge


def _residuals(
    instrument: Instrument,
    tones: ToneCache,
    pitch: int,
    b: float,
    attack: tuple[float, float],
    sustain: tuple[float, float],
) -> list[Verdict]:
    audio = strike(instrument, pitch, 90, 2.0, tones=tones)
    hz = _stiff_hz(pitch, b, 60)
    return [
        Verdict(f"beside the partials at the start, key {pitch}", residual_db(audio, hz, 0, 0.06),
                *attack, "dB"),
        Verdict(f"beside the partials held, key {pitch}", residual_db(audio, hz, 0.6, 1.6),
                *sustain, "dB"),
    ]  # fmt: skip


def _guitar(pitch: int, b: float) -> Judge:
    return lambda instrument, tones: _residuals(instrument, tones, pitch, b, (-22, -9), (-44, -26))


def _first_falls(pitch: int, low: float, high: float, end_s: float = 1.5) -> Judge:
    def judge(instrument: Instrument, tones: ToneCache) -> list[Verdict]:
        audio = strike(instrument, pitch, 90, end_s + 0.5, tones=tones)
        curve = partial_curve(audio, pitch_to_hz(pitch), window_s=0.08)
        return [
            Verdict(
                f"first partial falls, key {pitch}",
                decay_db_per_s(curve, 0.1, end_s),
                low,
                high,
                "dB/s",
            )
        ]

    return judge


_PHYSICS: dict[str, tuple[Judge, ...]] = {
    "felt upright": (_piano(1.0),),
    "bright grand": (_piano(0.55),),
    "nylon": (_guitar(60, 3e-5), _first_falls(40, 1, 5)),
    "steel": (_guitar(60, 7e-5), _first_falls(40, 1, 5)),
    "fingered bass": (_first_falls(33, 2, 9),),
    "tower bell": (_first_falls(60, 1, 6, 7.5),),
    "vibraphone": (_first_falls(60, 3, 12),),
}


# --- what may be otherwise, and why ---------------------------------------------------------------

_NOW_AND_THEN = "what happens now and then is not the same from key to key, nor from blow to blow"
EXCEPTIONS: dict[tuple[str, str], str] = {
    ("whistle", "centroid from velocity 30 to 120"):
        "lips shape one partial alone: blown harder it is louder and airier, and has no more",
    ("long drum", "noise that two keys share"):
        "its click is not noise but a beater that hits the same way; one key sounds at a time",
    **{
        (name, what): _NOW_AND_THEN
        for name in ("needle dust", "birds", "sea", "fire", "street")
        for what in ("centroid between neighbours", "level between neighbours",
                     "level of one hit against another", "centroid at each step of velocity")
    },
}  # fmt: skip
