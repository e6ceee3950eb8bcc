"""The inner loops in C, where a compiler was there when the program was installed.

NumPy needs many passes over memory for them; compiled they take one. Every caller has a path of its
own in NumPy, which runs where this is not there, and both agree to below -100 dB.
"""

import ctypes
from importlib.machinery import EXTENSION_SUFFIXES
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]
_SIZE, _POINTER = ctypes.c_ssize_t, ctypes.c_void_p
_ARGUMENTS = {
    "spline_of": (_POINTER, _SIZE, _SIZE, _SIZE, _POINTER, _SIZE),
    "read_spline": (_POINTER, _SIZE, _SIZE, _SIZE, _POINTER, _SIZE, _SIZE, _SIZE, _POINTER),
    "blend": (_POINTER, _SIZE, _POINTER, _SIZE, _POINTER, _POINTER, _SIZE, _SIZE, _SIZE, _POINTER),
    "mix": (_POINTER, _POINTER, ctypes.c_float, ctypes.c_float, _SIZE),
    "repeats": (
        _POINTER,
        _SIZE,
        _SIZE,
        _SIZE,
        _SIZE,
        ctypes.c_double,
        ctypes.c_double,
        ctypes.c_double,
        ctypes.c_int,
        _POINTER,
        _POINTER,
    ),
    "read_players": (_POINTER, *6 * (_SIZE,), *7 * (_POINTER,)),
    "weighted_power": (_POINTER, _SIZE, _SIZE, _SIZE, _POINTER, _POINTER),
    "soften": (_POINTER, _SIZE, _SIZE),
    "through_space": (_POINTER, _POINTER, _SIZE, ctypes.c_float, ctypes.c_float, _POINTER),
}


def _load() -> ctypes.CDLL | None:
    for suffix in EXTENSION_SUFFIXES:
        path = Path(__file__).with_name(f"_quick{suffix}")
        if path.exists():
            try:
                library = ctypes.CDLL(str(path))
                for name, arguments in _ARGUMENTS.items():
                    function = getattr(library, name)
                    function.argtypes, function.restype = arguments, None
            except (OSError, AttributeError):  # of another machine, or of another version
                return None
            return library
    return None


library = _load()


def _stride(rows: NDArray[np.float32]) -> int:
    """How many numbers lie between rows, whose own lie beside each other."""
    return rows.strides[0] // rows.itemsize if len(rows) > 1 else rows.shape[1]


def _rows(audio: Floats) -> Floats:
    """The same with each row's numbers beside each other, copied only where they are not."""
    audio = np.asarray(audio, np.float32)
    return audio if audio.strides[-1] == audio.itemsize else np.ascontiguousarray(audio)


def spline_of(audio: Floats, out: Floats) -> None:
    """Write the spline through a loop (channels, n) to ``out``, of the same shape; wrapped."""
    assert library is not None
    audio = _rows(audio)
    library.spline_of(
        audio.ctypes.data, _stride(audio), len(audio), audio.shape[1], out.ctypes.data, _stride(out)
    )


def read_spline(spline: Floats, n: int, away: Floats, start: int, count: int) -> Floats:
    """Read splines displaced: (channels, count) frames from ``start`` on.

    ``away`` is as long as a period of it; places are taken modulo ``n``, or as they are for 0.
    """
    assert library is not None
    spline, away = _rows(spline), np.ascontiguousarray(away, np.float32)
    out = np.empty((len(spline), count), np.float32)
    library.read_spline(spline.ctypes.data, _stride(spline), len(spline), n, away.ctypes.data,
                        len(away), start, count, out.ctypes.data)  # fmt: skip
    return out


def blend(soft: Floats, hard: Floats, level: Floats, bright: Floats | np.float32) -> Floats:
    """Return hard and soft (channels, n) in their shares, at a level (n,)."""
    assert library is not None
    soft, hard, level = _rows(soft), _rows(hard), np.ascontiguousarray(level, np.float32)
    each = isinstance(bright, np.ndarray) and bright.ndim > 0
    shares = np.ascontiguousarray(np.atleast_1d(bright), np.float32)
    out = np.empty(soft.shape, np.float32)
    library.blend(soft.ctypes.data, _stride(soft), hard.ctypes.data, _stride(hard),
                  level.ctypes.data, shares.ctypes.data, int(each), *soft.shape,
                  out.ctypes.data)  # fmt: skip
    return out


def read_players(
    tables: Floats,
    fine: int,
    apart: int,
    frames: int,
    start: NDArray[np.uint32],
    steps: NDArray[np.uint32],
    level: Floats,
    aside: Floats,
    rows: NDArray[np.int32],
    place: Floats | None,
) -> Floats:
    """Read periods by players, (takes, 2, frames); see ``sound.kit.players.read_by``."""
    assert library is not None
    takes, players = tables.shape[2], len(rows)
    out = np.empty((takes, 2, frames), np.float32)
    start = start.copy()
    library.read_players(
        tables.ctypes.data, fine, players, takes, steps.shape[1], apart, frames, start.ctypes.data,
        steps.ctypes.data, level.ctypes.data, aside.ctypes.data, rows.ctypes.data,
        None if place is None else place.ctypes.data, out.ctypes.data,
    )  # fmt: skip
    return out


def mix(
    wet: NDArray[np.complex64], dry: NDArray[np.complex64], blend: float
) -> NDArray[np.complex64]:
    """Blend one spectrum into another of its shape, in the place of the first; return it."""
    assert library is not None
    library.mix(wet.ctypes.data, dry.ctypes.data, blend, 1 - blend, 2 * wet.size)
    return wet


def repeats(
    audio: Floats, delay: int, lead: int, dark: float, thin: float, feedback: float, *, across: bool
) -> Floats:
    """Return the repeats of a loop (2, n), ``delay`` frames apart, by themselves.

    ``dark`` and ``thin`` are the poles that each goes through, ``lead`` how many frames of what
    came before are run through first.
    """
    assert library is not None
    audio = _rows(audio)
    out, ring = np.empty(audio.shape, np.float32), np.empty((2, delay), np.float32)
    library.repeats(audio.ctypes.data, _stride(audio), audio.shape[1], delay, lead, dark, thin,
                    feedback, int(across), ring.ctypes.data, out.ctypes.data)  # fmt: skip
    return out


def weighted_power(audio: Floats, sections: NDArray[np.float64], lead: int) -> Floats:
    """Return the power of both sides of a loop (2, n) after two biquads: (n,).

    ``sections`` are (2, 6), each divided by its fourth number; ``lead`` is for how many frames they
    ring.
    """
    assert library is not None
    assert len(audio) == 2  # else it would read beyond the array
    audio = _rows(audio)
    out = np.empty(audio.shape[1], np.float32)
    library.weighted_power(
        audio.ctypes.data,
        _stride(audio),
        audio.shape[1],
        lead,
        sections.ctypes.data,
        out.ctypes.data,
    )
    return out


def soften(wave: Floats) -> Floats:
    """Round a wave (rows, n) off in place, and return it."""
    assert library is not None
    assert wave.flags.c_contiguous
    library.soften(wave.ctypes.data, len(wave), wave.shape[1])
    return wave


def through_space(
    spectrum: NDArray[np.complex64], sides: NDArray[np.complex64], near: float, far: float
) -> NDArray[np.complex64]:
    """Return both sides (2, bins) through those of a space, each hearing some of the other."""
    assert library is not None
    spectrum = np.ascontiguousarray(spectrum, np.complex64)
    sides = np.ascontiguousarray(sides, np.complex64)
    out = np.empty_like(spectrum)
    library.through_space(
        spectrum.ctypes.data, sides.ctypes.data, spectrum.shape[1], near, far, out.ctypes.data
    )
    return out


if __name__ == "__main__":
    print(
        f"cloudrift: inner loops run {'compiled' if library else 'in NumPy: no compiler was found'}"
    )
