"""Tones and notes that have been computed, kept for as long as there is room."""

from collections.abc import Callable, Hashable

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.ground.lru import BoundedStore, bytes_of, detached
from cloudrift.ground.settings import Settings
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest

TONE_BYTES, NOTE_BYTES = 72 << 20, 40 << 20


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
    the same, which after most edits is nearly all of them. ``clips`` are what own sounds play.
    """

    def __init__(
        self,
        tone_bytes: int = TONE_BYTES,
        note_bytes: int = NOTE_BYTES,
        clips: ClipStore | None = None,
    ) -> None:
        self.clips = ClipStore() if clips is None else clips
        self._tones = BoundedStore[Tone](tone_bytes, bytes_of)
        self._notes = BoundedStore[Stereo](note_bytes, bytes_of)

    def clear(self) -> None:
        """Let everything go."""
        self._tones.clear()
        self._notes.clear()

    @property
    def size_bytes(self) -> int:
        """How much is held."""
        return self._tones.size_bytes + self._notes.size_bytes

    def tone(self, instrument: Instrument, settings: Settings, request: ToneRequest) -> Tone:
        """Return a tone of at least the requested frames, computing it if need be."""
        shaping = SHAPING - MOVING if instrument.follows else SHAPING
        tonal = tuple(pair for pair in settings if pair[0] not in shaping)
        key = (
            instrument.identity,
            tonal,
            request.pitch,
            request.variant,
            request.rate,
            request.velocity,
            request.share,
        )

        def make() -> Tone:
            return Tone(*detached(*instrument.tone(request)))

        return self._tones.made(key, make, lambda tone: tone.soft.shape[1] >= request.frames)

    def kept_note(self, key: Hashable) -> Stereo | None:
        """Return a finished note if it is there."""
        return self._notes.get(key)

    def note(self, key: Hashable, make: Callable[[], Stereo]) -> Stereo:
        """Return a finished note, computing it if need be."""
        return self._notes.made(key, lambda: detached(make())[0])
