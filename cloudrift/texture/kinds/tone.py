"""Tone: what is linear and stands still. Responses are those of the analogue prototypes."""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.wrap import Spectrum
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec, hz_text
from cloudrift.ground.words import number
from cloudrift.texture.context import Context
from cloudrift.texture.kind import Kind
from cloudrift.texture.process import Linear

PHASE_FROM = 0.38  # of the rate
Response = Callable[
    [NDArray[np.float32], ResolvedSettings], NDArray[np.complex64]
]  # at Hz (never 0)


def _field(
    name: str, label: str, default: float, low: float, high: float, *, in_key: bool = False
) -> Field:
    return Field(
        name=name,
        label=label,
        default=default,
        unit="Hz",
        low=low,
        high=high,
        log=True,
        follows="key" if in_key else "",
    )


def _ended(
    response: NDArray[np.complex64], hz: NDArray[np.float32], rate: int
) -> NDArray[np.complex64]:
    """Let the phase (not the level) go to nothing towards half the rate.

    A prototype has phase there, which a sampled loop cannot have: it would ring both ways.
    """
    share = np.clip((hz / np.float32(rate) - PHASE_FROM) / (0.5 - PHASE_FROM), 0, 1)
    share = 0.5 + 0.5 * np.cos(np.pi * share)
    level = np.abs(response)
    return np.asarray(level * np.exp(1j * share * np.angle(response)), np.complex64)


def linear_kind(
    name: str,
    label: str,
    about: str,
    fields: tuple[Field, ...],
    response: Response,
    says: Callable[[ResolvedSettings], str],
    ring_s: Callable[[ResolvedSettings], float],
) -> Kind:
    """Return a kind that is one response for both sides, kept for the settings it was made for."""

    def through(
        spectrum: Spectrum, full: ResolvedSettings, _variation: int, context: Context, length: int
    ) -> Spectrum:
        hz = np.maximum(np.fft.rfftfreq(length, 1 / context.rate), 0.1).astype(np.float32)
        return np.asarray(spectrum * _ended(response(hz, full), hz, context.rate), np.complex64)

    linear = Linear(through=through, ring_s=lambda full, _: ring_s(full))
    return Kind(
        name=name,
        label=label,
        family="Tone",
        about=about,
        spec=SettingsSpec(fields),
        says=says,
        linear=linear,
    )


# --- equaliser: shelves at both ends, three bells, a notch ----------------------------------------


def bell(hz: NDArray[np.float32], middle: float, gain_db: float, q: float) -> NDArray[np.complex64]:
    """(s^2 + s A/Q + 1) / (s^2 + s/(A Q) + 1), the usual bell of a constant Q."""
    s = 1j * hz / np.float32(middle)
    a = 10 ** (gain_db / 40)
    return np.asarray((s * s + s * (a / q) + 1) / (s * s + s / (a * q) + 1), np.complex64)


def _shelf(
    hz: NDArray[np.float32], edge: float, gain_db: float, *, high: bool
) -> NDArray[np.complex64]:
    """A shelf of second order with half its gain (in dB) at the edge."""
    s = 1j * hz / np.float32(edge)
    if high:
        s = 1 / s
    a = 10 ** (gain_db / 80)
    top = s * s + np.sqrt(2) * a * s + a * a
    return np.asarray(top / (s * s + np.sqrt(2) / a * s + 1 / (a * a)), np.complex64)


BELLS = (("low", 250.0), ("mid", 1000.0), ("high", 3500.0))


def _equaliser(hz: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.complex64]:
    out = np.ones(len(hz), np.complex64)
    for name, high in (("bass", False), ("treble", True)):
        gain = full.number(f"{name}_db")
        if gain:
            out *= _shelf(hz, full.number(f"{name}_hz"), gain, high=high)
    for name, _ in BELLS:
        gain = full.number(f"{name}_db")
        if gain:
            out *= bell(hz, full.number(f"{name}_hz"), gain, full.number(f"{name}_q"))
    depth = full.number("notch_db")
    if depth < 0:
        # As narrow as its Q whatever its depth: only the bottom of it is filled.
        s = 1j * hz / np.float32(full.number("notch_hz"))
        width = 1 / full.number("notch_q")
        out *= (s * s + s * (width * 10 ** (depth / 20)) + 1) / (s * s + s * width + 1)
    return out


def _db(name: str, label: str, low: float = -18, high: float = 18) -> Field:
    return Field(name=name, label=label, default=0, unit="dB", low=low, high=high, step=0.1)


def _q(name: str, label: str, default: float, high: float = 12) -> Field:
    return Field(
        name=name, label=label, default=default, unit="Q", low=0.2, high=high, step=0.1, log=True
    )


def _equaliser_says(full: ResolvedSettings) -> str:
    names = {"bass": "below", "low": "at", "mid": "at", "high": "at", "treble": "above"}
    parts = [
        f"{number(full.number(f'{name}_db'), '+.1f')} dB {where} "
        f"{hz_text(full.number(f'{name}_hz'))}"
        for name, where in names.items()
        if full.number(f"{name}_db")
    ]
    if full.number("notch_db") < 0:
        parts.append(
            f"a notch of {number(full.number('notch_db'), '.1f')} dB at "
            f"{hz_text(full.number('notch_hz'))}"
        )
    return ", ".join(parts) or "flat: no change yet"


EQUALISER = linear_kind(
    "equaliser", "Equaliser", "Six bands, one of them a notch.",
    (
        _db("bass_db", "Bass"), _field("bass_hz", "Bass freq", 120, 30, 500),
        _db("low_db", "Low"), _field("low_hz", "Low freq", 250, 60, 1000, in_key=True),
        _q("low_q", "Low Q", 0.9),
        _db("mid_db", "Middle"), _field("mid_hz", "Middle freq", 1000, 250, 4000, in_key=True),
        _q("mid_q", "Middle Q", 0.9),
        _db("high_db", "High"), _field("high_hz", "High freq", 3500, 1000, 12_000, in_key=True),
        _q("high_q", "High Q", 0.9),
        _db("treble_db", "Treble"), _field("treble_hz", "Treble freq", 8000, 2000, 16_000),
        Field(name="notch_db", label="Notch", default=0, unit="dB", low=-48, high=0, step=0.5),
        _field("notch_hz", "Notch freq", 2500, 60, 14_000, in_key=True),
        _q("notch_q", "Notch Q", 8, 40),
    ),
    _equaliser, _equaliser_says,
    lambda full: 10.4 * max(1.0, full.number("notch_q") / 4) / (2 * np.pi * 30) + 0.02,
)  # fmt: skip


# --- others ---------------------------------------------------------------------------------------


def _tilt(hz: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.complex64]:
    """That many dB an octave about a pivot: poles and zeros in turn, an octave apart."""
    slope, pivot = full.number("slope_db"), full.number("pivot_hz")
    apart = 2.0 ** (slope / (20 * np.log10(2)) / 2)  # half of what a pair parts, in ratios

    def pairs(at: NDArray[np.float32]) -> NDArray[np.complex64]:
        out = np.ones(len(at), np.complex64)
        for octave in range(-5, 6):
            place = pivot * 2.0**octave
            out *= (1 + 1j * at * (apart / place)) / (1 + 1j * at / (apart * place))
        return out

    middle = pairs(np.array([pivot], np.float32))
    return np.asarray(pairs(hz) / np.abs(middle), np.complex64)


TILT = linear_kind(
    "tilt",
    "Tilt",
    "Brighter or darker around a pivot.",
    (
        Field(
            name="slope_db", label="Slope", default=-1.5, unit="dB/oct", low=-6, high=6, step=0.1
        ),
        _field("pivot_hz", "Pivot", 900, 100, 6000),
    ),
    _tilt,
    lambda full: f"{number(full.number('slope_db'), '+.1f')} dB an octave",
    lambda _full: 0.15,
)


def _narrow(hz: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.complex64]:
    """A small speaker: a band with steep edges and a bump of its own."""
    middle, half = full.number("middle_hz"), 2 ** (full.number("octaves") / 2)
    low, high = middle / half, middle * half
    s_low, s_high = np.float32(low) / hz, hz / np.float32(high)
    edge = (1 - s_low**2 - 1j * 1.2 * s_low) * (1 - s_high**2 + 1j * 1.2 * s_high)
    return np.asarray(bell(hz, middle * 1.35, full.number("bump_db"), 2.2) / edge, np.complex64)


NARROW = linear_kind(
    "band-pass",
    "Band-pass",
    "Band-pass, like a small speaker or a telephone.",
    (
        _field("middle_hz", "Middle", 1100, 200, 5000),
        Field(name="octaves", label="Wide", default=3, unit="oct", low=0.5, high=7, step=0.1),
        Field(name="bump_db", label="Bump", default=4, unit="dB", low=0, high=12, step=0.5),
    ),
    _narrow,
    lambda full: f"{full.number('octaves'):.1f} octaves about {hz_text(full.number('middle_hz'))}",
    lambda full: 10.4 / (2 * np.pi * full.number("middle_hz") / 12) + 0.02,
)

# Mean formants of sung vowels: Hz, level in dB, width in Hz.
VOWELS = {
    "ah": ((800, 0, 80), (1150, -4, 90), (2900, -20, 120), (3900, -36, 130)),
    "eh": ((400, 0, 60), (1600, -14, 80), (2700, -20, 120), (3300, -35, 150)),
    "ee": ((350, 0, 50), (1700, -20, 100), (2700, -30, 120), (3700, -36, 150)),
    "oh": ((450, 0, 70), (800, -9, 80), (2830, -16, 100), (3500, -28, 130)),
    "oo": ((325, 0, 50), (700, -12, 60), (2530, -30, 170), (3500, -40, 180)),
}


def _vowel(hz: NDArray[np.float32], full: ResolvedSettings) -> NDArray[np.complex64]:
    one, other = VOWELS[full.word("vowel")], VOWELS[full.word("towards")]
    share, size = full.number("share") / 100, 2 ** (full.number("size_st") / 12)
    out = np.zeros(len(hz), np.complex64)
    for (f1, l1, w1), (f2, l2, w2) in zip(one, other, strict=True):
        middle = f1 ** (1 - share) * f2**share * size
        level = 10 ** ((l1 + share * (l2 - l1)) / 20)
        width = (w1 + share * (w2 - w1)) * size
        x = hz / np.float32(middle)
        out += level * (1j * x * (width / middle)) / (1 - x * x + 1j * x * (width / middle))
    return np.asarray(out * np.float32(10 ** (full.number("gain_db") / 20)), np.complex64)


VOWEL = linear_kind(
    "vowel",
    "Vowel",
    "Filters like a vowel, or between two.",
    (
        Field(name="vowel", label="Vowel", default="ah", choices=tuple(VOWELS)),
        Field(name="towards", label="Towards", default="oo", choices=tuple(VOWELS)),
        Field(name="share", label="Blend", default=0, unit="%", low=0, high=100),
        Field(name="size_st", label="Mouth", default=0, unit="st", low=-12, high=12, step=0.1),
        Field(name="gain_db", label="Gain", default=8, unit="dB", low=0, high=24, step=0.5),
    ),
    _vowel,
    lambda full: (
        full.word("vowel")
        if full.number("share") == 0
        else f"{full.word('vowel')}, {full.number('share'):.0f} % to {full.word('towards')}"
    ),
    lambda _full: 0.2,
)
KINDS = (EQUALISER, TILT, NARROW, VOWEL)
