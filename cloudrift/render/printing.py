"""Printing: the sound of a recipe, and what is known of it."""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from cloudrift.audio.buffers import to_db
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.wanted import never
from cloudrift.loop.model import Loop
from cloudrift.loop.prints import facts_of_print
from cloudrift.loop.recorded import Facts
from cloudrift.render.engine import Engine

HIGHEST_DB = -0.1  # what goes higher is kept softer, and turned up again where it plays


class Printed(NamedTuple):
    """A print's clip, what is known of it, and the gain that makes it as loud as it was."""

    clip: str
    facts: Facts
    gain_db: float


def printed(
    loop: Loop, name: str, clips: ClipStore,
    cancelled: Callable[[], bool] = never,
) -> Printed:  # fmt: skip
    """Print all that is heard of a loop, as it goes round: the same loop makes the same clip.

    It is rendered anew rather than taken from what an edit has followed, so that a print depends
    on its loop to the last bit.
    """
    fresh = Engine(clips=clips)
    try:
        audio = fresh.render(loop, cancelled).audio
    finally:
        fresh.close()
    peak = to_db(float(np.abs(audio).max(initial=0.0)))
    if peak <= -119:
        raise CloudriftError("nothing of that is heard, so there is nothing to print")
    gain_db = round(max(0.0, peak - HIGHEST_DB), 2)
    softer = audio * np.float32(10 ** (-gain_db / 20)) if gain_db else audio
    lufs = integrated_lufs(softer, loop.rate)
    facts = facts_of_print(loop, name, audio.shape[1], lufs)
    return Printed(clips.record(softer, loop.rate), facts, gain_db)
