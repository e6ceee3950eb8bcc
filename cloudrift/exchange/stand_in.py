"""An exchange that ships with the program: its phrases are made when they are fetched.

It behaves as services do: sometimes it is slow, or refuses, or is not there at all.
"""

import os
import time
from collections.abc import Callable
from pathlib import Path

import mutagen
import numpy as np
import soundfile
from platformdirs import user_cache_path

from cloudrift.audio.buffers import Stereo, to_db, to_gain
from cloudrift.audio.files import make_folder, write_atomically
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.exchange.recipes import Recipe, loop_of, recipes
from cloudrift.exchange.service import ExchangeError, Found, Moved, Wanted, found_among
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model.loop import Loop
from cloudrift.render.engine.engine import Engine

AWAY, REFUSED, SLOW = 0.06, 0.05, 0.15  # how often it is not there, refuses, takes long
WAIT_S, STEP_S = 1.5, 0.05
LOUD_LUFS, HIGHEST_DB = -18.0, -1.0
MADE_WITH = 2  # of what is kept from before: made again where this has changed


class StandIn:
    """A library of recipes. ``moods`` is the variation of its bad moments; None: it has none."""

    def __init__(self, folder: Path | None = None, moods: int | None = 1) -> None:
        self._folder = folder or user_cache_path("cloudrift") / "exchange"
        self._moods, self._asked = moods, 0

    def search(self, wanted: Wanted, cancelled: Callable[[], bool]) -> list[Found]:
        """Return what is found, the nearest first; raise ExchangeError in a bad moment."""
        self._answer(cancelled)
        return found_among((one.offer for one in recipes().values()), wanted)

    def fetch(self, offer_id: str, cancelled: Callable[[], bool], moved: Moved) -> Path:
        """Return a FLAC file with a phrase, labelled as it is offered, made if need be."""
        self._answer(cancelled)
        recipe = recipes().get(offer_id)
        if recipe is None:
            raise ExchangeError(f"the exchange has nothing called {offer_id}; search again")
        path = self._folder / f"{recipe.id}-{MADE_WITH}.flac"
        if not path.exists():
            moved(0.1, f"fetching {recipe.name}")
            audio, rate = sound_of(recipe, cancelled)
            moved(0.9, f"fetching {recipe.name}")
            make_folder(self._folder)
            _write(path, audio, rate, recipe)
        moved(1.0, f"fetched {recipe.name}")
        return path

    def _answer(self, cancelled: Callable[[], bool]) -> None:
        """Be in the mood of the moment: answer, answer late, refuse, or not be there."""
        self._asked += 1
        if self._moods is None:
            return
        mood = rng_for(self._moods, "exchange", self._asked).random()
        if mood < AWAY:
            raise ExchangeError(
                "the exchange (a stand-in that ships with Cloudrift) is busy; try again"
            )
        if mood < AWAY + REFUSED:
            raise ExchangeError(
                "the exchange (a stand-in that ships with Cloudrift) has been asked too often; try "
                "again in a moment"
            )
        if mood < AWAY + REFUSED + SLOW:
            until = time.monotonic() + WAIT_S
            while time.monotonic() < until:
                if cancelled():
                    raise Cancelled
                time.sleep(STEP_S)


def sound_of(
    recipe: Recipe, cancelled: Callable[[], bool], over: Loop | None = None
) -> tuple[Stereo, int]:
    """Return a phrase as sound, and its rate: loops and beds go round, the rest has its tail.

    It has chords of its own, or goes over those of another loop.
    """
    loop = loop_of(recipe, over)
    engine = Engine()
    try:
        if recipe.kind in ("loop", "bed"):
            audio = engine.render(loop, cancelled).audio
        else:
            audio = engine.once(loop, cancelled)
    finally:
        engine.close()
    gain_db = LOUD_LUFS - integrated_lufs(audio, loop.rate)
    peak = to_db(float(np.abs(audio).max()))
    return audio * np.float32(to_gain(min(gain_db, HIGHEST_DB - peak))), loop.rate


def _write(path: Path, audio: Stereo, rate: int, recipe: Recipe) -> None:
    offer = recipe.offer
    tags = {"TITLE": offer.name, "ARTIST": offer.maker, "LICENSE": offer.licence}
    if offer.key is not None:
        tags["INITIALKEY"] = offer.key.plain
    if offer.tempo:
        tags["BPM"] = f"{offer.tempo:g}"
    part = path.with_name(f".{path.name}.{os.getpid()}.flac")
    try:
        soundfile.write(part, audio.T, rate, subtype="PCM_24", format="FLAC")
        tagged = mutagen.File(part)
        tagged.update(tags)
        tagged.save()
        body = part.read_bytes()
    except (OSError, RuntimeError) as error:
        raise CloudriftError(
            f"could not write {path}: {error}; free some space in {path.parent}; nothing is lost"
        ) from error
    finally:
        part.unlink(missing_ok=True)
    write_atomically(path, lambda file: file.write(body))
