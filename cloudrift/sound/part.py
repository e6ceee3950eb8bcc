"""Playing a part: notes to audio, with envelopes, velocity and the seam; for every sound."""

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property, partial

import numpy as np

from cloudrift.audio.buffers import Stereo, add_wrapped, silence
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.looped import slice_wrapped
from cloudrift.ground.settings import ResolvedSettings, Settings
from cloudrift.notes.note import Note
from cloudrift.notes.time import Clock
from cloudrift.sound.instrument import Instrument, ToneRequest
from cloudrift.sound.note_frames import (
    PlayedNote,
    one_at_a_time,
    played_frame,
    played_notes,
    stopped_at,
)
from cloudrift.sound.playing import play_note, tone_of
from cloudrift.sound.tones import ToneCache


@dataclass(frozen=True, kw_only=True)
class Part:
    """Notes and what plays them.

    ``loop_ticks`` is the length of the loop; a mono sound's last note is cut by its first.
    ``frames`` are those of the loop; with ``once`` (silence before the start instead of the
    loop's own end) any number that holds the ringing out. At each of ``stops`` (ticks, and ms
    after them) whatever was struck before is stopped.
    """

    notes: tuple[Note, ...]
    instrument: Instrument
    settings: Settings
    clock: Clock
    loop_ticks: int
    frames: int
    once: bool = False
    stops: tuple[tuple[int, float], ...] = ()

    @property
    def depends(self) -> tuple[object, ...]:
        """All that decides how it sounds beside its notes and stops, as plain values."""
        return (self.instrument.identity, self.settings, str(self.clock.tempo), self.clock.rate,
                self.loop_ticks, self.frames, self.once)  # fmt: skip

    def render(self, tones: ToneCache | None = None) -> Stereo:
        """Return the part as audio, (2, frames). ``tones`` is shared by parts and renders."""
        out = silence(self.frames)
        self._add(out, self._hits, 1, tones or ToneCache())
        return out

    def follow(self, out: Stereo, before: "Part", tones: ToneCache) -> Stereo | None:
        """Return this part's audio from that of one that differs in its notes and stops alone.

        Notes that went are taken away and new ones added. None when that is no less work.
        """
        old, new = Counter(before._hits), Counter(self._hits)
        gone, come = old - new, new - old
        if gone.total() + come.total() >= new.total():
            return None
        audio = out.copy()
        self._add(audio, gone.elements(), -1, tones)
        self._add(audio, come.elements(), 1, tones)
        return audio

    def stretch(
        self, start: int, count: int, tones: ToneCache, former: tuple["Part", Stereo] | None = None
    ) -> Stereo:
        """Return ``count`` frames from ``start`` on, in the steady state: (2, count).

        No more of a note is played than is heard there. ``former`` is a part that differs in its
        notes alone, and its audio.
        """
        gone, come = Counter[PlayedNote](), Counter(self._hits)
        if former is not None and (old := Counter(former[0]._hits)) & come:
            gone, come = old - come, come - old
            out = np.array(slice_wrapped(former[1], start, count))
        else:
            out = silence(count)
        for hits, sign in ((gone, -1), (come, 1)):
            for hit in sorted(hits.elements(), key=lambda h: -h.held - h.release):
                self._add_stretch(out, hit, sign, start, tones)
        return out

    def _add_stretch(
        self, out: Stereo, hit: PlayedNote, sign: int, start: int, tones: ToneCache
    ) -> None:
        """Add what is heard of a note in ``out``, which begins at a frame of the loop."""
        count, length = out.shape[1], hit.held + hit.release
        first = (start - hit.start) % self.frames  # into the note, when it is in its first turn
        # Begun in the stretch, or before it: then once more for each loop that it has rung on.
        turns = range(first - self.frames, length, self.frames)
        heard = [at for at in turns if at + count > 0]
        if not heard:
            return
        begins, ends = max(0, min(heard)), min(length, max(heard) + count)
        audio = _panned(self._note(hit, tones, (begins, ends)), hit)
        for at in heard:
            a, b = max(at, 0), min(at + count, ends)
            if a < b:
                out[:, a - at : b - at] += np.float32(sign) * audio[:, a - begins : b - begins]

    def _add(self, out: Stereo, hits: Iterable[PlayedNote], sign: int, tones: ToneCache) -> None:
        # The longest first: a tone that was computed for a long note serves the short ones.
        for hit in sorted(hits, key=lambda h: -h.held - h.release):
            audio = _panned(self._note(hit, tones), hit)
            add_wrapped(out, audio if sign > 0 else -audio, hit.start)

    def _note(self, hit: PlayedNote, tones: ToneCache, of: tuple[int, int] | None = None) -> Stereo:
        """A note, or its frames from one to another: where the whole is not there, no more."""
        instrument, settings, rate = self.instrument, self.settings, self.clock.rate
        key = (instrument.identity, settings, rate, hit.sound)
        play = partial(play_note, hit, instrument, settings, self._full, rate, tones)
        if of is None:
            return tones.note(key, play)
        there = tones.kept_note(key)
        return play(of=of) if there is None else there[:, of[0] : of[1]]

    def wanted(self, clips: ClipStore, seconds: float = math.inf) -> list[ToneRequest]:
        """Return the tones that it is played from, of each the longest first.

        Of no note more than so many ``seconds``.
        """
        instrument, rate = self.instrument, self.clock.rate
        found = [
            tone_of(hit, instrument, self._full, rate, clips,
                    int(min(hit.held + hit.release, seconds * rate)))
            for hit in self._hits
        ]  # fmt: skip
        return sorted(found, key=lambda one: -one.frames)

    @cached_property
    def _full(self) -> ResolvedSettings:
        return self.instrument.spec.full(self.settings)

    @cached_property
    def _hits(self) -> list[PlayedNote]:
        full = self._full
        hits = list(played_notes(self.notes, self.instrument, full, self.clock, self.once))
        loop_frames, rate = self.clock.frames(self.loop_ticks), self.clock.rate
        if self.stops:
            stops = [played_frame(tick, late, self.clock, self.once) for tick, late in self.stops]
            hits = stopped_at(hits, stops, loop_frames, rate, self.once)
        if self.instrument.mono:
            return one_at_a_time(hits, full, loop_frames, rate, self.once)
        if full.get("choke") == "on":
            return stopped_at(hits, [hit.start for hit in hits], loop_frames, rate, self.once)
        return hits


def _panned(audio: Stereo, hit: PlayedNote) -> Stereo:
    return audio if hit.gains is None else audio * hit.gains
