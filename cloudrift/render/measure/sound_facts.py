"""What is measured of a loop's sound as a whole: how bright, wide, loud, thick it is."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, to_db
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.ground.cancel import never
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine

FRAME = 8192
AT_ONCE = 8  # windows
EDGE_SHARE = 0.99  # of the power: below the edge of the band
LOW_HZ, SUB_HZ = 150.0, 60.0
VOICE_HZ = (1000.0, 4000.0)  # where a voice is understood
MOMENT_S = 0.05
LOWEST_HZ = 16.0  # what is lower is no sound
QUIET_SHARE = 0.1  # of the moments: the floor is what these keep below
NOTHING_DB = -100.0

Power = NDArray[np.float64]  # (lines,)


@dataclass(frozen=True, kw_only=True)
class SoundFacts:
    """Measures of a loop's sound, as it goes round.

    ``centroid_hz`` is the middle of its mean spectrum (amplitudes), ``edge_hz`` what 99 % of its
    power lies below. ``width`` is the sides' share of its power in %, ``low_width`` that below
    150 Hz. ``voice_db`` is what lies between 1 and 4 kHz, ``sub_db`` below 60 Hz, both against all
    of it; ``floor_db`` how far its softest tenth of moments (50 ms) lies below its mean. ``layers``
    are the middles of the layers' own spectra in Hz, by id, as far as they were measured.
    """

    lufs: float
    peak_db: float
    centroid_hz: float
    edge_hz: float
    width: float
    low_width: float
    voice_db: float
    sub_db: float
    floor_db: float
    layers: tuple[tuple[str, float], ...] = ()


def sound_facts(audio: Stereo, rate: int, layers: Iterable[tuple[str, float]] = ()) -> SoundFacts:
    """Measure a loop's sound, (2, frames); ``layers`` are the middles of their spectra, by id."""
    hz = _lines_hz(rate)
    middle, side = _spectra(audio)
    power = middle + side
    power[hz < LOWEST_HZ] = 0.0
    total = float(power.sum())
    low, voice = hz < LOW_HZ, _voice(hz)
    below = np.cumsum(power)
    return SoundFacts(
        lufs=integrated_lufs(audio, rate),
        peak_db=true_peak_db(audio),
        centroid_hz=_centroid(hz, power),
        edge_hz=float(hz[np.searchsorted(below, EDGE_SHARE * total)]) if total else 0.0,
        width=_share(side, power),
        low_width=_share(side[low], power[low]),
        voice_db=_against(power[voice], total),
        sub_db=_against(power[hz < SUB_HZ], total),
        floor_db=_floor_db(audio, rate),
        layers=tuple(layers),
    )


def middle_hz(audio: Stereo, rate: int) -> float:
    """Return the middle of a sound's mean spectrum (amplitudes) in Hz; 0 for silence."""
    hz = _lines_hz(rate)
    return _centroid(hz, _whole(audio))


def voice_power(audio: Stereo, rate: int) -> float:
    """Return the mean power between 1 and 4 kHz, where a voice is understood."""
    hz = _lines_hz(rate)
    voice = _voice(hz)
    return float(_whole(audio)[voice].sum())


def voice_room_db(audio: Stereo, rate: int) -> float:
    """Return the power between 1 and 4 kHz against all of it, in dB: less leaves a voice more."""
    hz = _lines_hz(rate)
    power = np.where(hz < LOWEST_HZ, 0.0, _whole(audio))
    voice = _voice(hz)
    return _against(power[voice], float(power.sum()))


def _lines_hz(rate: int) -> Power:
    return np.asarray(np.fft.rfftfreq(FRAME, 1 / rate), np.float64)


def _voice(hz: Power) -> NDArray[np.bool_]:
    return (hz >= VOICE_HZ[0]) & (hz < VOICE_HZ[1])


def _whole(audio: Stereo) -> Power:
    middle, side = _spectra(audio)
    return middle + side


def _spectra(audio: Stereo) -> tuple[Power, Power]:
    """The mean power of the middle and of the sides in each line, windows going round the seam."""
    n, hop = audio.shape[1], FRAME // 2
    count = -(-n // hop)
    round_ = slice_wrapped(audio, 0, (count + 1) * hop)
    windows = np.lib.stride_tricks.sliding_window_view(round_, FRAME, axis=1)[:, ::hop]
    shape = np.hanning(FRAME).astype(np.float32)
    middle, side = np.zeros(FRAME + 2), np.zeros(FRAME + 2)
    for first in range(0, count, AT_ONCE):  # what is at work stays near the processor
        lines = sf.rfft(windows[:, first : first + AT_ONCE] * shape, FRAME)
        left, right = lines.view(np.float32)  # a line's two numbers lie beside each other
        for total, both in ((middle, left + right), (side, left - right)):
            np.add(total, np.einsum("fk,fk->k", both, both), out=total)
    middle, side = (total.reshape(-1, 2).sum(axis=1) / (2 * count) for total in (middle, side))
    return middle, side


def _centroid(hz: Power, power: Power) -> float:
    levels = np.sqrt(np.where(hz < LOWEST_HZ, 0.0, power))
    return float((hz * levels).sum() / max(levels.sum(), 1e-30))


def facts_of_loop(engine: Engine, loop: Loop, cancelled: Callable[[], bool] = never) -> SoundFacts:
    """Render a loop and measure its sound, and that of each layer that is heard."""
    audio = engine.without_bed(loop, cancelled)
    return sound_facts(audio, loop.rate, layer_middles(engine, loop, cancelled))


def layer_middles(
    engine: Engine, loop: Loop, cancelled: Callable[[], bool] = never
) -> Iterator[tuple[str, float]]:
    """Hand out where the middle of each layer's spectrum is that is heard, by its id, in Hz."""
    for layer in loop.heard():
        measure = partial(middle_hz, rate=loop.rate)
        yield layer.id, engine.of_layer("middle", loop, layer, measure, cancelled)


def facts_of(loop: Loop, clips: ClipStore) -> SoundFacts:
    """Do so with an engine for this once."""
    engine = Engine(clips=clips)
    try:
        return facts_of_loop(engine, loop)
    finally:
        engine.close()


def _share(part: np.ndarray, whole: np.ndarray) -> float:
    total = float(whole.sum())
    return 100 * float(part.sum()) / total if total > 0 else 0.0


def _against(part: np.ndarray, total: float) -> float:
    power = float(part.sum())
    return max(10 * np.log10(power / total), NOTHING_DB) if power > 0 and total > 0 else NOTHING_DB


def _floor_db(audio: Stereo, rate: int) -> float:
    step = max(1, int(MOMENT_S * rate))
    edges = np.arange(0, max(audio.shape[1] - step, 1), step)
    power = np.add.reduceat(np.square(audio).mean(axis=0, dtype=np.float64), edges) / step
    mean = float(power.mean())
    floor = float(np.quantile(power, QUIET_SHARE))
    return max(to_db(float(np.sqrt(floor))) - to_db(float(np.sqrt(mean))), NOTHING_DB)
