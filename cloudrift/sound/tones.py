"""Tones and notes that have been computed, kept for as long as there is room."""

import time
from collections.abc import Callable, Hashable

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.ground.lru import BoundedStore, bytes_of, detached
from cloudrift.ground.settings import Settings
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest
from cloudrift.sound.kept_tones import KeptTones

TONE_BYTES, NOTE_BYTES = 56 << 20, 32 << 20


SHAPING = frozenset(
    {
        "attack_ms",
        "decay_ms",
        "sustain",
        "release_ms",
        "brightness",
        "width",
        "open_ms",
        "close_ms",
        "glide_ms",
        "legato",
        "slide_velocity",
        "choke",
    }
)  # what shapes a tone that has been computed


MOVING = frozenset({"open_ms", "close_ms"})


class ToneCache:
    """Undamped tones, and notes as played; both bounded in bytes.

    A tone serves every note of its pitch; a finished note serves the loops in which it is again
    the same, which after most edits is nearly all of them. ``clips`` are what own sounds play,
    ``kept`` has tones on disk: none where all is to be computed.
    """

    def __init__(
        self,
        tone_bytes: int = TONE_BYTES,
        note_bytes: int = NOTE_BYTES,
        clips: ClipStore | None = None,
        kept: KeptTones | None = None,
    ) -> None:
        self._kept = kept
        self.clips = ClipStore() if clips is None else clips
        self._tones = BoundedStore[Tone](tone_bytes, bytes_of)
        self._notes = BoundedStore[Stereo](note_bytes, bytes_of)

    def clear(self) -> None:
        """Let everything go."""
        self._tones.clear()
        self._notes.clear()

    @property
    def are_kept(self) -> bool:
        """Whether tones are kept on disk."""
        return self._kept is not None

    def close(self) -> None:
        """Let everything go, once what is to be kept has been written."""
        if self._kept:
            self._kept.close()
        self.clear()

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._tones.size_bytes + self._notes.size_bytes

    def tone(self, instrument: Instrument, settings: Settings, request: ToneRequest) -> Tone:
        """Return a tone of at least the requested frames, computing it if need be."""
        key = _key(instrument, settings, request)

        def make() -> Tone:
            kept = self._kept_of(instrument)
            there = kept.get(key, request.frames) if kept else None
            return _computed(instrument, request, kept, key) if there is None else there

        return self._tones.made(key, make, lambda tone: tone.soft.shape[1] >= request.frames)

    def make_ahead(self, instrument: Instrument, settings: Settings, request: ToneRequest) -> int:
        """See to it that a tone will be on disk; return the bytes of it where it was not.

        It takes no room in memory, where it might never be wanted.
        """
        kept, key = self._kept_of(instrument), _key(instrument, settings, request)
        if kept is None or kept.has(key, request.frames):
            return 0
        return bytes_of(tuple(_computed(instrument, request, kept, key)))

    def _kept_of(self, instrument: Instrument) -> KeptTones | None:
        return None if instrument.family == "own" else self._kept  # those play recordings

    def kept_note(self, key: Hashable) -> Stereo | None:
        """Return a finished note if it is there."""
        return self._notes.get(key)

    def note(self, key: Hashable, make: Callable[[], Stereo]) -> Stereo:
        """Return a finished note, computing it if need be."""
        return self._notes.made(key, lambda: detached(make())[0])


def _key(instrument: Instrument, settings: Settings, request: ToneRequest) -> Hashable:
    """All that decides a tone, but for how long it is."""
    shaping = SHAPING - MOVING if instrument.follows else SHAPING
    tonal = tuple(pair for pair in settings if pair[0] not in shaping)
    return (instrument.identity, tonal, request.pitch, request.variant, request.rate,
            request.velocity, request.share)  # fmt: skip


def _computed(
    instrument: Instrument, request: ToneRequest, kept: KeptTones | None, key: Hashable
) -> Tone:
    began = time.thread_time()
    tone = Tone(*detached(*instrument.tone(request)))
    if kept:
        kept.put(key, tone, (time.thread_time() - began) * 1e3)
    return tone
