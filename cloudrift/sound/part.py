"""Playing a part: notes to audio, with envelopes, velocity and the seam; for every sound."""

from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass
from functools import partial
from itertools import pairwise

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
    note: Note
    variant: int


def render_part(
    notes: tuple[Note, ...],
    instrument: Instrument,
    settings: Settings,
    clock: Clock,
    *,
    loop_ticks: int,
    frames: int,
    once: bool = False,
    tones: ToneCache | None = None,
) -> Stereo:
    """Return a part as audio, (2, frames).

    Parameters
    ----------
    loop_ticks : the length of the loop; a mono sound's last note is cut by its first.
    frames : the frames of the loop; with ``once`` any number that holds the ringing out.
    once : silence before the start instead of the loop's own end.
    tones : a cache shared between parts and renders.
    """
    tones = tones or ToneCache()
    full = instrument.spec.full(settings)
    out = silence(frames)
    hits = list(_hits(notes, instrument, full, clock, once))
    if instrument.mono:
        hits = _one_at_a_time(hits, clock.frames(loop_ticks), clock.rate, once)
    for hit in hits:
        key = (instrument.name, instrument.version, settings, clock.rate, hit.note.pitch,
               hit.note.velocity, hit.variant, hit.held, hit.release)  # fmt: skip
        audio = tones.note(key, partial(_play, hit, instrument, settings, full, clock.rate, tones))
        add_wrapped(out, audio, hit.start)
    return out


def _hits(
    notes: Iterable[Note], instrument: Instrument, full: Full, clock: Clock, once: bool
) -> Iterable[_Hit]:
    seen: dict[int, int] = {}
    release = _frames_of(full.number("release_ms"), clock.rate)
    for note in notes:
        count = seen[note.pitch] = seen.get(note.pitch, -1) + 1
        start = clock.frames(note.start_tick) + round(note.offset_ms * 1e-3 * clock.rate)
        yield _Hit(
            start=max(0, start) if once else start,
            held=max(1, clock.frames(note.length_ticks)),
            release=release,
            note=note,
            variant=count % instrument.variants,
        )


def _frames_of(ms: float, rate: int) -> int:
    return max(1, round(ms * 1e-3 * rate))


def _one_at_a_time(hits: list[_Hit], loop_frames: int, rate: int, once: bool) -> list[_Hit]:
    """Cut every note where the next one starts; in a loop the first is next to the last.

    Of notes that start together the lowest is kept.
    """
    if not hits:
        return hits
    ordered = sorted(hits, key=lambda h: (h.start, -h.note.pitch))
    after = _Hit(start=ordered[0].start + loop_frames, held=0, release=0, note=ordered[0].note,
                 variant=0)  # fmt: skip
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
            out.append(_Hit(start=hit.start, held=held, release=release, note=hit.note,
                            variant=hit.variant))  # fmt: skip
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
        pitch=hit.note.pitch,
        variant=hit.variant,
        frames=-(-total // step) * step,
        rate=rate,
        settings=full,
    )
    tone = tones.tone(instrument, settings, request)
    gain = (hit.note.velocity / 127) ** VELOCITY_POWER * to_gain(instrument.gain_db)
    bright = brightness_share(hit.note.velocity, full.number("brightness"))
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
