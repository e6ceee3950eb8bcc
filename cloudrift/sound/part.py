"""Playing a part: notes to audio, with envelopes, velocity and the seam; for every sound."""

from collections import Counter
from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import pairwise
from zlib import crc32

import numpy as np

from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence, to_gain
from cloudrift.ground.lru import BoundedStore
from cloudrift.ground.settings import Full, Settings
from cloudrift.notes.note import Note
from cloudrift.notes.time import Clock
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest

VELOCITY_POWER = 1.3  # velocity 30 to 120 is 15.7 dB
CUT_MS = 12.0  # how fast a mono sound stops for the next note
STEP_S = 0.75  # tones are computed in steps of this, so that slightly longer notes share one
NEPERS_60_DB = 6.908


TONE_BYTES, NOTE_BYTES = 128 << 20, 112 << 20
SHAPING = frozenset({"attack_ms", "decay_ms", "sustain", "release_ms", "brightness", "width"})


class ToneCache:
    """Undamped tones, and notes as played; both bounded in bytes.

    A tone serves every note of its pitch; a finished note serves the loops in which it is again
    the same, which after most edits is nearly all of them.
    """

    def __init__(self, tone_bytes: int = TONE_BYTES, note_bytes: int = NOTE_BYTES) -> None:
        self._tones = BoundedStore[Tone](tone_bytes, lambda t: t.soft.nbytes + t.hard.nbytes)
        self._notes = BoundedStore[Stereo](note_bytes, lambda audio: audio.nbytes)

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
        tonal = tuple(pair for pair in settings if pair[0] not in SHAPING)
        key = (instrument.name, instrument.version, tonal, request.pitch, request.variant,
               request.rate)  # fmt: skip
        tone = self._tones.get(key)
        if tone is None or tone.soft.shape[1] < request.frames:
            tone = instrument.tone(request)
            self._tones.put(key, tone)
        return tone

    def note(self, key: Hashable, make: Callable[[], Stereo]) -> Stereo:
        """Return a finished note, computing it if need be."""
        audio = self._notes.get(key)
        if audio is None:
            audio = make()
            self._notes.put(key, audio)
        return audio


@dataclass(frozen=True, kw_only=True)
class _Hit:
    """A note in frames: where it starts, how long it is held, how long it rings after that."""

    start: int
    held: int
    release: int
    pitch: int
    velocity: int
    variant: int


@dataclass(frozen=True, kw_only=True)
class Part:
    """Notes and what plays them.

    ``loop_ticks`` is the length of the loop; a mono sound's last note is cut by its first.
    ``frames`` are those of the loop; with ``once`` (silence before the start instead of the
    loop's own end) any number that holds the ringing out.
    """

    notes: tuple[Note, ...]
    instrument: Instrument
    settings: Settings
    clock: Clock
    loop_ticks: int
    frames: int
    once: bool = False

    def render(self, tones: ToneCache | None = None) -> Stereo:
        """Return the part as audio, (2, frames). ``tones`` is shared by parts and renders."""
        out = silence(self.frames)
        self._add(out, self._hits, 1, tones or ToneCache())
        return out

    def follow(self, out: Stereo, before: "Part", tones: ToneCache) -> Stereo | None:
        """Return this part's audio from that of one that differs in its notes alone.

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

    def _add(self, out: Stereo, hits: Iterable[_Hit], sign: int, tones: ToneCache) -> None:
        instrument, settings, rate = self.instrument, self.settings, self.clock.rate
        full = instrument.spec.full(settings)
        for hit in hits:
            key = (instrument.name, instrument.version, settings, rate, hit.pitch,
                   hit.velocity, hit.variant, hit.held, hit.release)  # fmt: skip
            audio = tones.note(key, partial(_play, hit, instrument, settings, full, rate, tones))
            add_wrapped(out, audio if sign > 0 else -audio, hit.start)

    @cached_property
    def _hits(self) -> list[_Hit]:
        full = self.instrument.spec.full(self.settings)
        hits = list(_hits(self.notes, self.instrument, full, self.clock, self.once))
        if self.instrument.mono:
            loop_frames = self.clock.frames(self.loop_ticks)
            return _one_at_a_time(hits, loop_frames, self.clock.rate, self.once)
        return hits


def _hits(
    notes: Iterable[Note], instrument: Instrument, full: Full, clock: Clock, once: bool
) -> Iterable[_Hit]:
    last: dict[int, int] = {}
    release = _frames_of(full.number("release_ms"), clock.rate)
    for note in notes:
        variant = _variant(note, last.get(note.pitch), instrument.variants)
        last[note.pitch] = variant
        start = clock.frames(note.start_tick) + round(note.offset_ms * 1e-3 * clock.rate)
        yield _Hit(
            start=max(0, start) if once else start,
            held=max(1, clock.frames(note.length_ticks)),
            release=release,
            pitch=note.pitch,
            velocity=note.velocity,
            variant=variant,
        )


def _variant(note: Note, before: int | None, variants: int) -> int:
    """Return which strike a note is: by its place, so that an edit leaves the others alone.

    Of one pitch, two notes in a row are never the same strike.
    """
    drawn = crc32(b"%d %d" % (note.start_tick, note.pitch)) % variants
    return (drawn + (drawn == before)) % variants


def _frames_of(ms: float, rate: int) -> int:
    return max(1, round(ms * 1e-3 * rate))


def _one_at_a_time(hits: list[_Hit], loop_frames: int, rate: int, once: bool) -> list[_Hit]:
    """Cut every note where the next one starts; in a loop the first is next to the last.

    Of notes that start together the lowest is kept.
    """
    if not hits:
        return hits
    ordered = sorted(hits, key=lambda h: (h.start, -h.pitch))
    after = replace(ordered[0], start=ordered[0].start + loop_frames)
    out = []
    for hit, following in pairwise([*ordered, after]):
        gap = following.start - hit.start
        if once and following is after:
            gap = hit.held + hit.release
        # A cut ends with the next start, so that two notes never sound together.
        cut = min(_frames_of(CUT_MS, rate), max(1, gap))
        held = min(hit.held, max(0, gap - cut))
        release = min(hit.release, max(cut, gap - held))
        if gap > 0:
            out.append(replace(hit, held=held, release=release))
    return out


def _play(
    hit: _Hit,
    instrument: Instrument,
    settings: Settings,
    full: Full,
    rate: int,
    tones: ToneCache,
) -> Stereo:
    total = hit.held + hit.release
    step = int(STEP_S * rate)
    request = ToneRequest(
        pitch=hit.pitch,
        variant=hit.variant,
        frames=-(-total // step) * step,
        rate=rate,
        settings=full,
    )
    tone = tones.tone(instrument, settings, request)
    gain = (hit.velocity / 127) ** VELOCITY_POWER * to_gain(instrument.gain_db)
    bright = brightness_share(hit.velocity, full.number("brightness"))
    soft, hard = tone.soft[:, :total], tone.hard[:, :total]
    envelope = np.float32(gain) * _envelope(hit, full, rate)
    if instrument.bloom_ms:
        opening = 1 - np.exp(
            -np.arange(total, dtype=np.float32) / (instrument.bloom_ms * rate / 1e3)
        )
        mixed = soft + (np.float32(bright) * opening) * (hard - soft)
    else:
        mixed = np.float32(1 - bright) * soft
        mixed += np.float32(bright) * hard
    mixed *= envelope
    if instrument.damper:
        _add_damper(mixed, instrument.damper(hit.variant, rate), hit.held, envelope)
    return _widened(mixed, full.number("width") / 100)


def brightness_share(velocity: int, brightness: float) -> float:
    """Return how much of the hard tone is heard (0-1) for a velocity and a brightness in %."""
    struck = (velocity / 127) ** 1.5
    return float(np.clip(struck * brightness / 50, 0.0, 1.0))


def _envelope(hit: _Hit, full: Full, rate: int) -> Mono:
    """Attack (raised cosine), decay towards sustain, release to silence at its end."""
    total = hit.held + hit.release
    sustain = full.number("sustain") / 100
    t = np.arange(total, dtype=np.float32)
    if sustain < 1:
        tau = full.number("decay_ms") * 1e-3 * rate / NEPERS_60_DB * 2
        envelope = np.float32(sustain) + np.float32(1 - sustain) * np.exp(-t / np.float32(tau))
    else:
        envelope = np.ones(total, np.float32)
    attack = min(_frames_of(full.number("attack_ms"), rate), total)
    envelope[:attack] *= np.float32(0.5) - np.float32(0.5) * np.cos(t[:attack] * (np.pi / attack))
    fall = np.arange(1, hit.release + 1, dtype=np.float32) / hit.release
    # Exponential to -48 dB, bent so that it starts without a corner and ends at exactly nothing.
    envelope[hit.held :] *= np.exp(-5.5 * fall**1.5) * (1 - fall**8)
    return envelope


def _add_damper(mixed: Stereo, noise: Stereo, held: int, envelope: Mono) -> None:
    count = min(noise.shape[1], mixed.shape[1] - held)
    level = envelope[max(0, held - 1)]
    mixed[:, held : held + count] += (
        level * noise[:, :count] * np.linspace(1, 0, count, dtype=np.float32)
    )


def _widened(audio: Stereo, width: float) -> Stereo:
    if width == 1:
        return audio
    mid = audio.mean(axis=0)
    return mid + np.float32(width) * (audio - mid)
