"""Loop-true mathematics: what a process does to a sound that repeats for ever.

A linear process over a periodic input is a circular convolution. It is computed as a linear one
at a fast FFT length whose tail is folded back, because the loop's own length may be prime.
"""

import functools
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio import quick
from cloudrift.audio.buffers import Stereo, add_wrapped, raised_cosine
from cloudrift.audio.looped import Looped, slice_wrapped
from cloudrift.audio.pair import per_channel

Spectrum = NDArray[np.complex64]  # (2, bins) or (2, blocks, bins)
Through = Callable[[Spectrum, int], Spectrum]  # a spectrum and its FFT length -> what comes out
FFT_WORKERS = 2
BEFORE = 4096  # frames that a response may reach back: smooth phases ring a little both ways
BLOCK = 16_384  # a block and its spectrum stay in the processor's cache
AT_ONCE = 4  # blocks bent at once: with all that is made of them they stay in the cache, too
AFTER = 1024  # frames that a response may reach back within a block
CHANGE_STEP = 512  # how finely a change is placed
SPLINE_REACH = 32  # a spline's poles have died away by -160 dB there
LONGEST_CHANGE = 0.7  # share of a loop up to which a change is followed by itself
LONGEST_BLOCK_RING = BLOCK // 2
KNOT = 64  # frames: of a curve that turns 15 times a second what lies between is right to -100 dB
LONGEST_OPENING = 1 << 21  # frames: a ring of some 45 s


_Real = TypeVar("_Real", np.float32, np.float64)


def fold(audio: NDArray[_Real], frames: int) -> NDArray[_Real]:
    """Add everything after ``frames`` back to the start, wrapped; shape (channels, frames)."""
    length = audio.shape[-1]
    if length <= frames:
        padded = np.zeros((audio.shape[0], frames), audio.dtype)
        padded[:, :length] = audio
        return padded
    rounds = -(-length // frames)
    padded = np.zeros((audio.shape[0], rounds * frames), audio.dtype)
    padded[:, :length] = audio
    return padded.reshape(audio.shape[0], rounds, frames).sum(axis=1)


def changed_span(before: Stereo, after: Stereo) -> tuple[int, int]:
    """Return the shortest stretch of a loop outside which two versions are equal: start, frames.

    It is found in steps of CHANGE_STEP frames and may go round the seam; (0, 0) if they are equal.
    """
    n = before.shape[1]
    differ = (before != after).any(axis=0)
    padded = np.zeros(-(-n // CHANGE_STEP) * CHANGE_STEP, bool)
    padded[:n] = differ
    steps = np.flatnonzero(padded.reshape(-1, CHANGE_STEP).any(axis=1))
    if not len(steps):
        return 0, 0
    starts, ends = steps * CHANGE_STEP, np.minimum((steps + 1) * CHANGE_STEP, n)
    quiet = np.append(starts[1:], starts[0] + n) - ends  # after each changed step
    last = int(quiet.argmax())
    first = (last + 1) % len(steps)
    return int(starts[first]), int((ends[last] - starts[first] - 1) % n + 1)


def filter_circular(audio: Stereo, through: Through, ring_frames: int) -> Stereo:
    """Apply a linear process to a loop in its steady state.

    A process that rings briefly is run over overlapping blocks that fit the processor's cache,
    which is three times quicker than one long transform.

    Parameters
    ----------
    audio : (2, n) the loop.
    through : given a real spectrum and its FFT length, the spectrum that comes out; it may
        change what it is given.
    ring_frames : how long the process rings; what rings on after the end is folded to the start.
    """
    n = audio.shape[1]
    if ring_frames <= LONGEST_BLOCK_RING and n > 2 * BLOCK:
        return _filter_blocks(audio, through, ring_frames)
    length = n if sf.next_fast_len(n) == n else sf.next_fast_len(n + ring_frames + 2 * BEFORE)
    spectrum = through(sf.rfft(audio, length, workers=FFT_WORKERS), length)
    out = sf.irfft(spectrum, length, workers=FFT_WORKERS, overwrite_x=True)
    if length == n:
        return np.ascontiguousarray(out)
    turned = out[:, :n].copy()
    add_wrapped(turned, out[:, n:-BEFORE], 0)
    # The last frames of the transform are those before time zero.
    add_wrapped(turned, out[:, -BEFORE:], -BEFORE)
    return turned


def filter_change(
    out: Stereo, before: Stereo, after: Stereo, through: Through, ring_frames: int
) -> Stereo | None:
    """Return what ``filter_circular`` makes of ``after``, from what it made of ``before``.

    Only what differs is filtered and added: a linear process allows it. None when the change and
    its ringing are so long that the whole is no more work.
    """
    start, count = changed_span(before, after)
    if count == 0:
        return out.copy()
    reach = AFTER if ring_frames <= LONGEST_BLOCK_RING else BEFORE
    needed = count + ring_frames + 2 * reach
    if needed > LONGEST_CHANGE * out.shape[1]:
        return None
    new = out.copy()
    difference = np.zeros((2, _rung(needed)), np.float32)
    np.subtract(
        slice_wrapped(after, start, count),
        slice_wrapped(before, start, count),
        out=difference[:, reach : reach + count],
    )
    # Silence all round it is long enough for the ringing, so that as a loop it never meets itself.
    add_wrapped(new, filter_circular(difference, through, ring_frames), start - reach)
    return new


def filter_stretch(
    audio: Looped, through: Through, ring_frames: int, start: int, count: int
) -> Stereo | None:
    """Return frames ``start`` to ``start + count`` of what ``filter_circular`` makes of a loop.

    None when what rings into them is so long that the whole is no more work.
    """
    reach = AFTER if ring_frames <= LONGEST_BLOCK_RING else BEFORE
    before = ring_frames + reach
    length = _rung(before + count + reach)
    if length > LONGEST_CHANGE * audio.shape[1]:
        return None
    # What wraps round in this piece falls on the frames in front, which are not kept.
    piece = np.array(slice_wrapped(audio, start - before, length))
    return filter_circular(piece, through, ring_frames)[:, before : before + count]


def mixed(wet: Spectrum, dry: Spectrum, blend: float) -> Spectrum:
    """Return a share of one spectrum and the rest of another: in place of the first."""
    if quick.library and wet.flags.c_contiguous and dry.flags.c_contiguous:
        return quick.mix(wet, dry, blend)
    wet *= np.float32(blend)
    wet += dry * np.float32(1 - blend)
    return wet


class TruncatedResponse(NamedTuple):
    """How a linear process begins to answer: the spectrum of its response, cut short.

    ``spectrum`` is (bins,) where both sides are treated alike, (2, bins) where each for itself,
    else (to, from, bins), at a transform of ``length`` frames.
    """

    spectrum: NDArray[np.complex64]
    length: int


def opening_of(through: Through, ring_frames: int, count: int) -> TruncatedResponse | None:
    """Return how a process begins to answer: what is heard of it in its first ``count`` frames.

    None where a process rings so long that it is better left alone.
    """
    before = AFTER if ring_frames <= LONGEST_BLOCK_RING else BEFORE
    length = sf.next_fast_len(count + ring_frames + 2 * before)
    if length > LONGEST_OPENING:
        return None
    rings = min(count, ring_frames)
    short = sf.next_fast_len(count + rings + before)
    sides = []
    for side in range(2):  # what a click on one side makes on both
        click = np.zeros((2, length // 2 + 1), np.complex64)
        click[side] = 1
        answer = sf.irfft(through(click, length), length, overwrite_x=True)
        cut = np.zeros((2, short), np.float32)
        cut[:, :rings], cut[:, -before:] = answer[:, :rings], answer[:, -before:]
        sides.append(sf.rfft(cut))
    out = np.stack(sides, axis=1)
    if not (out[0, 1].any() or out[1, 0].any()):
        out = np.stack([out[0, 0], out[1, 1]])
        out = out[0] if np.array_equal(*out) else out
    return TruncatedResponse(out, short)


def convolve_head(difference: Stereo, opening: TruncatedResponse) -> Stereo:
    """Return what a process makes of a difference, up to where that ends: (2, count) both.

    ``opening`` is the one made for that many frames.
    """
    spectrum, how = sf.rfft(difference, opening.length), opening.spectrum
    if how.ndim < 3:
        spectrum *= how
    else:
        spectrum = how[:, 0] * spectrum[0] + how[:, 1] * spectrum[1]
    out = sf.irfft(spectrum, opening.length, overwrite_x=True)
    return np.asarray(out[:, : difference.shape[1]], np.float32)


def _rung(frames: int) -> int:
    """Return the next of few lengths, all quick, so that what is kept for a length serves again."""
    octave = 1 << max(3, (frames - 1).bit_length() - 1)
    return next(
        octave * eighths // 8 for eighths in (9, 10, 12, 14, 16) if octave * eighths // 8 >= frames
    )


def _blocks(padded: NDArray[np.float32], hop: int) -> NDArray[np.float32]:
    """View (…, frames) as overlapping blocks, (…, count, BLOCK), without copying."""
    return np.lib.stride_tricks.sliding_window_view(padded, BLOCK, axis=-1)[..., ::hop, :]


def _padded(audio: NDArray[np.float32], before: int, hop: int) -> NDArray[np.float32]:
    """Let a loop run on at both ends so that blocks of a hop cover all of it."""
    n = audio.shape[-1]
    count = -(-n // hop)
    after = (count - 1) * hop + BLOCK - before - n
    return np.concatenate([audio[..., n - before :], audio, audio[..., : max(after, 0)]], axis=-1)


def _filter_blocks(audio: Stereo, through: Through, ring_frames: int) -> Stereo:
    """Overlap-save: the first ``ring`` and the last ``AFTER`` frames of each block are not kept."""
    n = audio.shape[1]
    hop = BLOCK - ring_frames - AFTER
    spectrum = sf.rfft(_blocks(_padded(audio, ring_frames, hop), hop))
    out = sf.irfft(through(spectrum, BLOCK), BLOCK, overwrite_x=True)
    kept = out[:, :, ring_frames : ring_frames + hop]
    return np.ascontiguousarray(kept.reshape(2, -1)[:, :n])


def shaped_oversampled(
    audio: Stereo,
    shape: Callable[[NDArray[np.float32]], NDArray[np.float32]],
    response: NDArray[np.float32],
    before: NDArray[np.float32] | None = None,
    times: int = 2,
) -> Stereo:
    """Bend a loop's wave at twice its rate (or more), then filter it, in the steady state.

    Parameters
    ----------
    shape : a memoryless curve along the last axis, which may change what it is given; overtones
        it makes up to the higher Nyquist frequency are taken away rather than folded back.
    response : a real response at the bins of a transform of BLOCK frames, for the way down.
    before : one for the way up: with soft edges, blocks that lie otherwise come out the same.
    """
    n, edge = audio.shape[1], 2 * AFTER
    if n < BLOCK:  # a very short loop is bent as several of its turns
        turns = -(-BLOCK // n)
        return shaped_oversampled(np.tile(audio, turns), shape, response, before, times)[
            :, :n
        ].copy()
    hop = BLOCK - 2 * edge
    fade = raised_cosine(edge // 2)
    window = np.ones(BLOCK, np.float32)
    window[: edge // 2], window[-(edge // 2) :] = fade, fade[::-1]
    out = np.empty_like(audio)

    down = response * np.float32(1 / times)

    def run(channel: int) -> None:
        blocks = _blocks(_padded(audio[channel], edge, hop), hop)
        for first in range(0, len(blocks), AT_ONCE):
            spectrum = sf.rfft(blocks[first : first + AT_ONCE] * window, overwrite_x=True)
            if before is not None:
                spectrum *= before
            high = sf.irfft(spectrum, times * BLOCK, overwrite_x=True)
            high *= np.float32(times)
            bent = sf.rfft(shape(high), overwrite_x=True)[:, : BLOCK // 2 + 1] * down
            kept = sf.irfft(bent, BLOCK, overwrite_x=True)[:, edge : edge + hop].reshape(-1)
            here = out[channel, first * hop :]
            here[: len(kept)] = kept[: len(here)]

    per_channel(run)
    return out


def read_displaced(audio: Stereo, away: NDArray[np.float32]) -> Stereo:
    """Read a loop with every frame displaced by ``away`` frames (cubic B-spline, wrapped).

    ``away`` is (n,), or one period of it.
    """
    return read_splined(splined(audio), away)


def splined(audio: Stereo) -> NDArray[np.float32]:
    """Return what ``read_splined`` reads: a loop's spline, (channels, n + 3)."""
    if quick.library:
        out = np.empty((len(audio), audio.shape[1] + 3), np.float32)
        quick.spline_of(audio, out[:, 1:-2])
        out[:, 0], out[:, -2:] = out[:, -3], out[:, 1:3]
        return out
    from scipy.ndimage import spline_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    def spline(channel: int) -> NDArray[np.float32]:
        whole = spline_filter1d(audio[channel], order=3, mode="grid-wrap", output=np.float32)
        return np.concatenate([whole[-1:], whole, whole[:2]])

    return np.stack(per_channel(spline))


def read_splined(spline: NDArray[np.float32], away: NDArray[np.float32]) -> NDArray[np.float32]:
    """Read one channel or two with every frame displaced, as ``read_displaced`` does."""
    n = spline.shape[1] - 3
    if quick.library:
        return quick.read_spline(spline, n, away, 0, max(len(away), n // len(away) * len(away)))
    at, f = _places(away, 0)
    if len(away) < n:
        turns = n // len(away)
        at = (at + np.arange(turns)[:, None] * len(away)).reshape(-1)
        f = np.tile(f, turns)
    at %= n
    return _read(spline, at, f)


def read_stretch(audio: Looped, away: NDArray[np.float32], start: int) -> Stereo:
    """Return the frames of ``read_displaced`` from ``start`` on, as many as ``away`` has."""
    at, f = _places(away, start)
    first, last = int(at.min()) - SPLINE_REACH, int(at.max()) + SPLINE_REACH
    near = slice_wrapped(audio, first, last - first)
    if quick.library:
        spline = np.empty(near.shape, np.float32)
        quick.spline_of(near, spline)
        return quick.read_spline(spline, 0, away, start - first - 1, len(away))
    from scipy.ndimage import spline_filter1d  # noqa: PLC0415 - slow to import, rarely needed

    sides = per_channel(lambda i: spline_filter1d(near[i], order=3, output=np.float32))
    return _read(np.stack(sides), at - first - 1, f)


def _places(away: NDArray[np.float32], start: int) -> tuple[NDArray[np.int64], NDArray[np.float32]]:
    """Whole frames and the rest of where each frame is read."""
    whole = np.floor(away)
    return whole.astype(np.int64) + np.arange(start, start + len(away)), away - whole


def _read(
    spline: NDArray[np.float32], at: NDArray[np.int64], f: NDArray[np.float32]
) -> NDArray[np.float32]:
    """Read four neighbours of each place, the first of them at ``at``.

    The weights are shared by all channels, and places that move steadily read memory nearly in
    order.
    """
    weights = _spline_shares(f)
    out = np.empty((len(spline), len(at)), np.float32)

    def read(channel: int) -> None:
        values = spline[channel]
        total = values[at] * weights[0]
        for k in (1, 2, 3):
            total += values[k:][at] * weights[k]
        out[channel] = total

    if len(spline) == 1:
        read(0)
    else:
        per_channel(read)
    return out


def _spline_shares(f: NDArray[Any]) -> tuple[NDArray[Any], ...]:
    """The shares of four neighbours, the second of them ``f`` (0 to 1) before the place read."""
    g, third = 1 - f, f.dtype.type(2 / 3)
    return (g * g * g / 6, third - f * f * (1 - f / 2), third - g * g * (1 - g / 2), f * f * f / 6)


def circular_noise(
    rng: np.random.Generator, frames: int, cycles_low: float, cycles_high: float
) -> NDArray[np.float64]:
    """Return a smooth random curve with period ``frames``, unit peak, between two cycle counts."""
    low, high = max(1, round(cycles_low)), max(2, round(cycles_high))
    length = sf.next_fast_len(max(4 * high, 64))
    spectrum = np.zeros(length // 2 + 1, complex)
    count = high - low + 1
    spectrum[low : high + 1] = rng.standard_normal(count) + 1j * rng.standard_normal(count)
    # A cubic spline through ``length`` points of it: divided by what a spline's pieces do to them.
    spline = sf.irfft(
        spectrum * 3 / (2 + np.cos(2 * np.pi * np.arange(len(spectrum)) / length)), length
    )
    # It is read at every KNOT-th frame, and those between follow from four neighbours.
    at = np.arange(-1, -(-frames // KNOT) + 2) * (KNOT * length / frames)
    whole = np.floor(at).astype(np.int64)
    shares = _spline_shares(at - whole)
    knots = sum(share * spline[(whole + k - 1) % length] for k, share in enumerate(shares))
    around = np.lib.stride_tricks.sliding_window_view(knots, 4)
    curve = (around @ _between_knots()).reshape(-1)[:frames]
    return np.asarray(curve / np.max(np.abs(curve)))


@functools.cache
def _between_knots() -> NDArray[np.float64]:
    """The shares of four knots in the frames from the second to the third: (4, KNOT), Lagrange."""
    t = np.arange(KNOT) / KNOT
    return np.stack(
        [
            -t * (t - 1) * (t - 2) / 6,
            (t + 1) * (t - 1) * (t - 2) / 2,
            -(t + 1) * t * (t - 2) / 2,
            (t + 1) * t * (t - 1) / 6,
        ]
    )
