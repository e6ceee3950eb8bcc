"""What a microphone brings, made ready on its way in: the lows that no voice has cut, evened."""

import numpy as np

from cloudrift.audio.buffers import QUIET_DB, Stereo, to_db
from cloudrift.texture.running import laid
from cloudrift.texture.treatment import Line, Treatment

LOW_CUT_HZ = 80.0
LEVEL_S = 0.05
LOUD = 0.9  # share of what sounds that is softer than what counts as loud
SOUNDS_DB = -45.0  # under the loudest, where nothing is meant to be heard
UNDER_DB = 8.0  # what is louder than so much under that is turned down
RATIO = 3.0


def way_in(audio: Stereo, rate: int) -> Line:
    """Return the line that recorded sound, (2, n), goes through: its threshold follows the input.

    However soft somebody sang, what is loud of it is turned down alike.
    """
    hop = max(1, int(LEVEL_S * rate))
    blocks = audio[:, : audio.shape[1] // hop * hop].reshape(2, -1, hop)
    levels = np.sqrt(np.mean(blocks**2, axis=(0, 2)))
    sounds = levels[levels > levels.max(initial=0.0) * 10 ** (SOUNDS_DB / 20)]
    loud = to_db(float(np.quantile(sounds, LOUD))) if len(sounds) else QUIET_DB
    cut = Treatment(id="t1", kind="cuts").set("low_cut_hz", LOW_CUT_HZ)
    even = Treatment(id="t2", kind="compressor").set("threshold_db", max(loud - UNDER_DB, -60.0))
    for name, value in (
        ("ratio", RATIO),
        ("attack_ms", 8.0),
        ("release_ms", 160.0),
        ("gain_db", 0.0),
    ):
        even = even.set(name, value)
    return cut, even


def made_ready(audio: Stereo, rate: int) -> Stereo:
    """Return recorded sound, (2, n), with its lows cut and its level evened."""
    line = way_in(audio, rate)
    return np.ascontiguousarray(laid(audio, line, rate, 120.0, once=True)[:, : audio.shape[1]])
