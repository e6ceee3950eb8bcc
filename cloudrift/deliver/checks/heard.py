"""What checks look at: a document and its sound, each form rendered when it is first asked for."""

from collections.abc import Callable
from functools import cached_property
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.audio import fft
from cloudrift.audio.buffers import Stereo, silence
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.loudness import integrated_lufs, true_peak_db
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.listening import Heard as Listened
from cloudrift.notes.listening import listen_to
from cloudrift.render.engine.engine import Engine
from cloudrift.render.measure.room import Room, look_at
from cloudrift.render.measure.sound_facts import SoundFacts, layer_middles, sound_facts
from cloudrift.render.plan.plan import mix_node

LEAST_HEARD_S = 16.0  # of a shorter loop several turns are listened to


class Sides(NamedTuple):
    """Power of the middle (left and right together) and the sides (their difference) at ``hz``."""

    hz: NDArray[np.float64]
    middle: NDArray[np.float64]
    side: NDArray[np.float64]

    @classmethod
    def of(cls, audio: Stereo, rate: int) -> "Sides":
        """Measure a loop's sound."""
        size = fft.next_fast_len(max(audio.shape[1], 1))
        left, right = (fft.rfft(one, size) for one in audio)
        hz = np.asarray(np.fft.rfftfreq(size, 1 / rate), np.float64)
        power = [np.square(np.abs((left + way * right) / 2), dtype=np.float64) for way in (1, -1)]
        return cls(hz, *power)

    def between(self, low: float, high: float) -> tuple[float, float]:
        """Return the power of middle and sides between two frequencies."""
        first, last = np.searchsorted(self.hz, (low, high))
        return float(self.middle[first:last].sum()), float(self.side[first:last].sum())


class Heard:
    """A document with its sound: the loop as it goes round, its sum, its stems, one pass of it.

    ``target_lufs`` is how loud it is to be, None: as it is; ``with_tail`` says whether one pass is
    written with its tail. Whatever is rendered is an attribute
    that may be set instead: sound from elsewhere is held against the same document.
    """

    def __init__(
        self,
        document: Document,
        engine: Engine,
        *,
        target_lufs: float | None = None,
        with_tail: bool = False,
        cancelled: Callable[[], bool] = never,
    ) -> None:
        self.document = document
        self.loop: Loop = document.loop
        self.target_lufs, self.with_tail = target_lufs, with_tail
        self._engine, self.cancelled = engine, cancelled

    def go_on(self) -> None:
        """Raise Cancelled where nobody wants to know any more."""
        if self.cancelled():
            raise Cancelled

    @property
    def rate(self) -> int:
        """Frames a second."""
        return self.loop.rate

    @property
    def clips(self) -> ClipStore:
        """The recordings that the loop names."""
        return self._engine.clips

    @cached_property
    def sound(self) -> Stereo:
        """The loop as it is delivered, going round: (2, frames)."""
        return self._engine.without_bed(self.loop, self.cancelled)

    @cached_property
    def once(self) -> Stereo:
        """One pass from silence with its tail."""
        return self._engine.once(replace(self.loop, bed=None), self.cancelled)

    @cached_property
    def bare(self) -> Stereo:
        """The sum of the stems, before the whole loop's treatments."""
        return self._engine.audio(mix_node(self.loop, self._engine.tones), self.cancelled)

    @cached_property
    def stems(self) -> dict[str, Stereo]:
        """What enters the sum, by name: layers that are in no group, and groups."""
        loop, engine = self.loop, self._engine
        heard = loop.heard()
        out = {
            one.name: engine.stem(loop, one, cancelled=self.cancelled)
            for one in heard
            if not one.group
        }
        for group in loop.groups:
            if any(one.group == group.id for one in heard):
                out[group.name] = engine.group_stem(loop, group, cancelled=self.cancelled)
        return out

    @cached_property
    def stems_sum(self) -> Stereo:
        """The stems added up."""
        parts = tuple(self.stems.values())
        return np.sum(parts, axis=0, dtype=np.float32) if parts else silence(self.loop.frames)

    @cached_property
    def room(self) -> Room:
        """Who sits where."""
        return look_at(self.loop, self._engine, self.cancelled)

    @cached_property
    def facts(self) -> SoundFacts:
        """How bright, wide, loud the sound is as a whole."""
        layers = layer_middles(self._engine, self.loop, self.cancelled)
        return sound_facts(self.sound, self.rate, layers)

    @cached_property
    def sides(self) -> Sides:
        """Power of the middle and of the sides over frequency."""
        return Sides.of(self.sound, self.rate)

    @cached_property
    def lufs(self) -> float:
        """Integrated loudness."""
        return integrated_lufs(self.sound, self.rate)

    @cached_property
    def peak_db(self) -> float:
        """True peak, dBTP."""
        return true_peak_db(self.sound)

    @cached_property
    def listened(self) -> Listened:
        """What somebody hears in it who knows nothing of the document."""
        turns = max(2, int(np.ceil(LEAST_HEARD_S * self.rate / max(1, self.sound.shape[1]))))
        return listen_to(np.tile(self.sound, turns), self.rate)

    @property
    def is_silent(self) -> bool:
        """Whether nothing is to be heard."""
        return not float(np.abs(self.sound).max(initial=0.0)) > 1e-6
