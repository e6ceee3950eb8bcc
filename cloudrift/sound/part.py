"""Playing a part: notes to audio, with envelopes, velocity and the seam; for every sound."""

from bisect import bisect_right
from collections import Counter
from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass, replace
from functools import cached_property, partial
from itertools import pairwise
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import quick
from cloudrift.audio.buffers import Mono, Stereo, add_wrapped, silence, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.looped import slice_wrapped
from cloudrift.audio.wrap import read_stretch
from cloudrift.ground.lru import BoundedStore, alone, bytes_of, kept
from cloudrift.ground.settings import Full, Settings
from cloudrift.notes.note import Note
from cloudrift.notes.time import Clock
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest

VELOCITY_POWER = 1.3  # velocity 30 to 120 is 15.7 dB
CUT_MS = 12.0  # how fast a mono sound stops for the next note
# Tones are computed in steps of this, those of more than a second in longer ones, so that slightly
# longer notes share one.
STEP_S, LONG_STEP_S = 0.1, 0.5
NEPERS_60_DB = 6.908
SLIDE_ST, SLIDE_MS = -2.0, 75.0  # a note struck too hard starts flat and is pulled up
SKIP_MS = 60.0  # of a tone that is joined to the one before: past its own start
CLOSED = 0.12  # how much brightness is left when it has closed
PIECE = 8192  # frames
DAMPED_TIMES = 9.0  # time constants of the upper partials in a release
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
SHARES = 64


class ToneCache:
    """Undamped tones, and notes as played; both bounded in bytes.

    A tone serves every note of its pitch; a finished note serves the loops in which it is again
    the same, which after most edits is nearly all of them. ``clips`` are what own sounds play.
    """

    def __init__(
        self, tone_bytes: int = TONE_BYTES, note_bytes: int = NOTE_BYTES,
        clips: ClipStore | None = None,
    ) -> None:  # fmt: skip
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
        key = (instrument.identity, tonal, request.pitch, request.variant, request.rate,
               request.velocity, request.share)  # fmt: skip

        def make() -> Tone:
            return Tone(*alone(*instrument.tone(request)))

        return self._tones.made(key, make, lambda tone: tone.soft.shape[1] >= request.frames)

    def kept_note(self, key: Hashable) -> Stereo | None:
        """Return a finished note if it is there."""
        return self._notes.get(key)

    def note(self, key: Hashable, make: Callable[[], Stereo]) -> Stereo:
        """Return a finished note, computing it if need be."""
        return self._notes.made(key, lambda: alone(make())[0])


@dataclass(frozen=True, kw_only=True)
class _Hit:
    """A note in frames: where it starts, how long it is held, how long it rings after that.

    It leaves another pitch, ``glide_st`` away, over ``glide`` frames; ``joined`` has no attack.
    ``pan`` turns one side down: the one it does not go to.
    """

    start: int
    held: int
    release: int
    pitch: int
    velocity: int
    variant: int
    glide_st: float = 0.0
    glide: int = 0
    wanted: int = 0  # frames of a glide that the note itself asks for
    joined: bool = False
    pan: float = 0.0

    @property
    def gains(self) -> Stereo | None:
        """What its sides are turned down by, (2, 1); None where they are not."""
        if not self.pan:
            return None
        left, right = (np.cos(max(0.0, side) * np.pi / 2) for side in (self.pan, -self.pan))
        return np.array([[left], [right]], np.float32)

    @property
    def sound(self) -> tuple[object, ...]:
        """All but where it is: two hits that share it are the same audio."""
        return (self.pitch, self.velocity, self.variant, self.held, self.release, self.glide_st,
                self.glide, self.joined)  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class Part:
    """Notes and what plays them.

    ``loop_ticks`` is the length of the loop; a mono sound's last note is cut by its first.
    ``frames`` are those of the loop; with ``once`` (silence before the start instead of the
    loop's own end) any number that holds the ringing out. At each of ``stops`` (ticks, and ms
    behind them) whatever was struck before is stopped.
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
        gone, come = Counter[_Hit](), Counter(self._hits)
        if former is not None and (old := Counter(former[0]._hits)) & come:
            gone, come = old - come, come - old
            out = np.array(slice_wrapped(former[1], start, count))
        else:
            out = silence(count)
        for hits, sign in ((gone, -1), (come, 1)):
            for hit in sorted(hits.elements(), key=lambda h: -h.held - h.release):
                self._add_stretch(out, hit, sign, start, tones)
        return out

    def _add_stretch(self, out: Stereo, hit: _Hit, sign: int, start: int, tones: ToneCache) -> None:
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

    def _add(self, out: Stereo, hits: Iterable[_Hit], sign: int, tones: ToneCache) -> None:
        # The longest first: a tone that was computed for a long note serves the short ones.
        for hit in sorted(hits, key=lambda h: -h.held - h.release):
            audio = _panned(self._note(hit, tones), hit)
            add_wrapped(out, audio if sign > 0 else -audio, hit.start)

    def _note(self, hit: _Hit, tones: ToneCache, of: tuple[int, int] | None = None) -> Stereo:
        """A note, or its frames from one to another: where the whole is not there, no more."""
        instrument, settings, rate = self.instrument, self.settings, self.clock.rate
        key = (instrument.identity, settings, rate, hit.sound)
        play = partial(_play, hit, instrument, settings, self._full, rate, tones)
        if of is None:
            return tones.note(key, play)
        there = tones.kept_note(key)
        return play(of=of) if there is None else there[:, of[0] : of[1]]

    @cached_property
    def _full(self) -> Full:
        return self.instrument.spec.full(self.settings)

    @cached_property
    def _hits(self) -> list[_Hit]:
        full = self._full
        hits = list(_hits(self.notes, self.instrument, full, self.clock, self.once))
        loop_frames, rate = self.clock.frames(self.loop_ticks), self.clock.rate
        if self.stops:
            stops = [_place(tick, late, self.clock, self.once) for tick, late in self.stops]
            hits = _stopped(hits, stops, loop_frames, rate, self.once)
        if self.instrument.mono:
            return _one_at_a_time(hits, full, loop_frames, rate, self.once)
        if full.get("choke") == "on":
            return _stopped(hits, [hit.start for hit in hits], loop_frames, rate, self.once)
        return hits


def _hits(
    notes: Iterable[Note], instrument: Instrument, full: Full, clock: Clock, once: bool
) -> Iterable[_Hit]:
    last: dict[int, int] = {}
    notes = tuple(notes)
    before = _before(notes, once=once)
    release_ms, damping = full.number("release_ms"), instrument.damping
    for note in notes:
        variant = _variant(note, last.get(note.pitch), instrument.variants)
        last[note.pitch] = variant
        wanted = _frames_of(note.glide_ms, clock.rate) if note.glide_ms else 0
        leaves = before.get(note.start_tick, note.pitch) - note.pitch if wanted else 0
        slides = "slide_velocity" in full and note.velocity >= full.number("slide_velocity")
        yield _Hit(
            start=_place(note.start_tick, note.offset_ms, clock, once),
            held=max(1, clock.frames(note.length_ticks)),
            release=_frames_of(release_ms * (damping(note.pitch) if damping else 1), clock.rate),
            pitch=note.pitch,
            velocity=note.velocity,
            variant=variant,
            glide_st=float(leaves) if leaves else SLIDE_ST if slides else 0.0,
            glide=wanted if leaves else _frames_of(SLIDE_MS, clock.rate) if slides else 0,
            wanted=wanted,
            pan=note.pan,
        )


def _place(tick: int, late_ms: float, clock: Clock, once: bool) -> int:
    """The frame that something is played at; once, nothing is before the start."""
    frame = clock.frames(tick) + round(late_ms * 1e-3 * clock.rate)
    return max(0, frame) if once else frame


def _panned(audio: Stereo, hit: _Hit) -> Stereo:
    return audio if hit.gains is None else audio * hit.gains


def _before(notes: tuple[Note, ...], *, once: bool) -> dict[int, int]:
    """Return the pitch that a glide at each start leaves: the lowest of the start before.

    In a loop the first start leaves the last one.
    """
    if not any(note.glide_ms for note in notes):
        return {}
    lowest: dict[int, int] = {}
    for note in notes:
        lowest[note.start_tick] = min(note.pitch, lowest.get(note.start_tick, 127))
    starts = sorted(lowest)
    out = {start: lowest[former] for former, start in pairwise(starts)}
    if not once:
        out[starts[0]] = lowest[starts[-1]]
    return out


def _variant(note: Note, before: int | None, variants: int) -> int:
    """Return which strike a note is; of one pitch, two in a row are never the same."""
    drawn = strike_of(note.start_tick, note.pitch, variants)
    return (drawn + (drawn == before)) % variants


def strike_of(start_tick: int, pitch: int, variants: int) -> int:
    """Return which strike falls to a note by its place, so that an edit leaves others alone."""
    return crc32(b"%d %d" % (start_tick, pitch)) % variants


def _frames_of(ms: float, rate: int) -> int:
    return max(1, round(ms * 1e-3 * rate))


def _stopped(
    hits: list[_Hit], stops: list[int], loop_frames: int, rate: int, once: bool
) -> list[_Hit]:
    """Stop each hit at the next stop behind its start; in a loop the first is behind the last."""
    places = sorted(set(stops))
    if not once and places:
        places.append(places[0] + loop_frames)
    out = []
    for hit in sorted(hits, key=lambda h: (h.start, h.pitch)):
        at = bisect_right(places, hit.start)
        if at == len(places):
            out.append(hit)
        else:
            out.append(_ended(hit, places[at] - hit.start, rate))
    return out


def _ended(hit: _Hit, gap: int, rate: int) -> _Hit:
    """A hit that is silent after so many frames."""
    cut = min(_frames_of(CUT_MS, rate), max(1, gap))
    held = min(hit.held, max(0, gap - cut))
    return replace(hit, held=held, release=min(hit.release, max(cut, gap - held)))


def _one_at_a_time(
    hits: list[_Hit], full: Full, loop_frames: int, rate: int, once: bool
) -> list[_Hit]:
    """Cut every note where the next one starts; in a loop the first is next to the last.

    Of notes that start together the lowest is kept. With a glide each note leaves the pitch of
    the one that still sounds when it starts; with legato such a note has no attack of its own.
    """
    lowest = {h.start: h for h in sorted(hits, key=lambda h: (h.start, -h.pitch))}
    ordered = list(lowest.values())
    glide, legato = full.number("glide_ms"), full.word("legato") == "on"
    out = []
    for i, hit in enumerate(ordered):
        last = i == len(ordered) - 1
        before = ordered[i - 1]
        gap = hit.start - before.start + (loop_frames if i == 0 else 0)
        sounds = gap < before.held + before.release and not (once and i == 0)
        over = hit.wanted or (_frames_of(glide, rate) if glide else 0)
        if sounds and over and hit.pitch != before.pitch:
            away = float(before.pitch - hit.pitch)
            hit = replace(hit, glide_st=away, glide=over)  # noqa: PLW2901
        following = ordered[0].start + loop_frames if last else ordered[i + 1].start
        gap_after = hit.held + hit.release if once and last else following - hit.start
        # A cut ends with the next start, so that two notes never sound together.
        joined = legato and sounds and gap <= before.held + _frames_of(CUT_MS, rate)
        out.append(replace(_ended(hit, gap_after, rate), joined=joined))
    return out


def _play(
    hit: _Hit,
    instrument: Instrument,
    settings: Settings,
    full: Full,
    rate: int,
    tones: ToneCache,
    of: tuple[int, int] | None = None,
) -> Stereo:
    """Play a note, or its frames from one to another."""
    length = hit.held + hit.release
    total = length if of is None else min(length, max(of[1], hit.glide))
    step = int((STEP_S if total < rate else LONG_STEP_S) * rate)
    skip = _frames_of(SKIP_MS, rate) if hit.joined else 0
    bend = _bend(hit.glide_st, min(hit.glide, length))
    ahead = skip + (round(float(bend[-1])) + 1 - len(bend) if len(bend) else 0)
    request = ToneRequest(
        pitch=hit.pitch,
        variant=hit.variant,
        frames=-(-(total + max(ahead, 0) + 2) // step) * step,
        rate=rate,
        settings=full,
        clips=tones.clips,
        velocity=instrument.band(hit.velocity),
        share=_followed(hit, full) if instrument.follows else 0.0,
    )
    tone = tones.tone(instrument, settings, request)
    bright = np.float32(0) if instrument.follows else _brightness(hit, full, rate)
    if instrument.damping and hit.held < total:
        bright = bright * _damped(hit.held, hit.release)
    if isinstance(bright, np.ndarray):
        bright = bright[:total]
    envelope = _gain(hit, instrument) * _envelope(hit, full, rate)[:total]
    if len(bend) and not isinstance(bright, np.ndarray):
        soft, hard = (audio[:, : request.frames] for audio in tone)
        mixed = envelope * _bent(soft + bright * (hard - soft), bend, skip, ahead, total)
    else:
        soft, hard = (_bent(audio, bend, skip, ahead, total) for audio in tone)
        mixed = _blended(soft, hard, envelope, bright)
    if instrument.damper and hit.held < total:
        _add_damper(mixed, instrument.damper(hit.variant, hit.pitch, rate), hit, envelope)
    mixed = _widened(mixed, full.number("width") / 100)
    return mixed if of is None else mixed[:, of[0] : of[1]]


def _gain(hit: _Hit, instrument: Instrument) -> np.float32:
    return np.float32((hit.velocity / 127) ** VELOCITY_POWER * to_gain(instrument.gain_db))


def _blended(soft: Stereo, hard: Stereo, envelope: Mono, bright: Mono | np.float32) -> Stereo:
    """Return soft and hard in their shares, in pieces that stay near the processor."""
    if quick.library:
        return quick.blend(soft, hard, envelope, bright)
    out = np.empty_like(soft, order="C")
    for first in range(0, out.shape[1], PIECE):
        piece = np.s_[..., first : first + PIECE]
        level = envelope[piece]
        share = level * (bright[piece] if isinstance(bright, np.ndarray) else bright)
        np.multiply(hard[piece], share, out=out[piece])
        out[piece] += soft[piece] * (level - share)
    return out


def _bend(glide_st: float, frames: int) -> NDArray[np.float64]:
    """Return where a tone is read while its pitch glides in, in frames from its start.

    Where it ends is made a whole frame, so that the rest of the tone is read as it is.
    """
    if frames < 2 or glide_st == 0:
        return np.zeros(0)
    share = np.arange(frames) / (frames - 1)
    speed = 2 ** (glide_st * (1 - share * share * (3 - 2 * share)) / 12)
    place = np.concatenate([[0.0], np.cumsum(speed)[:-1]])
    ahead = place[-1] - (frames - 1)
    return place + share * (round(ahead) - ahead)


def _bent(audio: Stereo, bend: NDArray[np.float64], skip: int, ahead: int, total: int) -> Stereo:
    if not len(bend):
        return audio[:, skip : skip + total]
    away = (bend - np.arange(len(bend))).astype(np.float32)
    start = read_stretch(audio, away, skip)
    return np.concatenate([start, audio[:, ahead + len(bend) : ahead + total]], axis=1)


def _followed(hit: _Hit, full: Full) -> float:
    """How bright a note is played, in steps that no ear tells apart: they share tones."""
    return round(SHARES * brightness_share(hit.velocity, full.number("brightness"))) / SHARES


def _brightness(hit: _Hit, full: Full, rate: int) -> Mono | np.float32:
    """How much of the hard tone is heard, as it opens or closes."""
    bright = np.float32(brightness_share(hit.velocity, full.number("brightness")))
    if "open_ms" not in full and "close_ms" not in full:
        return bright
    opens, closes = (full.number(x) if x in full else 0.0 for x in ("open_ms", "close_ms"))
    return bright * _moving(hit.held + hit.release, opens * rate / 1e3, closes * rate / 1e3)


@kept
def _moving(frames: int, opens: float, closes: float) -> Mono:
    """A share that opens and closes with time constants in frames (0: it does not)."""
    t = np.arange(frames, dtype=np.float32)
    share = np.ones(frames, np.float32)
    if opens:
        share -= np.exp(t * np.float32(-1 / opens))
    if closes:
        share *= np.float32(CLOSED) + np.float32(1 - CLOSED) * np.exp(t * np.float32(-1 / closes))
    return share


@kept
def _damped(held: int, release: int) -> Mono:
    """A share that falls as soon as a note is let go: felt takes the upper partials first."""
    share = np.ones(held + release, np.float32)
    t = np.arange(release, dtype=np.float32)
    share[held:] = np.exp(t * np.float32(-DAMPED_TIMES / release))
    return share


def brightness_share(velocity: int, brightness: float) -> float:
    """Return how much of the hard tone is heard (0-1) for a velocity and a brightness in %."""
    struck = (velocity / 127) ** 1.5
    return float(np.clip(struck * brightness / 50, 0.0, 1.0))


def _envelope(hit: _Hit, full: Full, rate: int) -> Mono:
    sustain = full.number("sustain") / 100
    attack_ms = CUT_MS if hit.joined else full.number("attack_ms")
    tau = full.number("decay_ms") * 1e-3 * rate / NEPERS_60_DB * 2
    return _shape(hit.held, hit.release, _frames_of(attack_ms, rate), sustain,
                  0.0 if hit.joined else tau)  # fmt: skip


@kept
def _shape(held: int, release: int, attack: int, sustain: float, tau: float) -> Mono:
    """Attack (raised cosine), decay towards sustain (0: there at once), release to silence.

    All but the sustain are in frames. Notes of one length share it; it is read-only.
    """
    total = held + release
    t = np.arange(total, dtype=np.float32)
    envelope = np.full(total, np.float32(sustain))
    if sustain < 1 and tau:
        envelope += np.float32(1 - sustain) * np.exp(t * np.float32(-1 / tau))
    attack = min(attack, total)
    envelope[:attack] *= np.float32(0.5) - np.float32(0.5) * np.cos(t[:attack] * (np.pi / attack))
    envelope[held:] *= _fall(release)
    envelope.flags.writeable = False
    return envelope


@kept
def _fall(release: int) -> Mono:
    """Exponential to -48 dB, bent: it starts without a corner and ends at exactly nothing."""
    fall = np.arange(1, release + 1, dtype=np.float32) / np.float32(release)
    fourth = np.square(np.square(fall))
    return np.asarray(np.exp(np.float32(-5.5) * fall * np.sqrt(fall)) * (1 - fourth * fourth))


def _add_damper(mixed: Stereo, noise: Stereo, hit: _Hit, envelope: Mono) -> None:
    count = min(noise.shape[1], hit.release)
    falling = envelope[max(0, hit.held - 1)] * np.linspace(1, 0, count, dtype=np.float32)
    heard = min(count, mixed.shape[1] - hit.held)
    mixed[:, hit.held : hit.held + heard] += falling[:heard] * noise[:, :heard]


def _widened(audio: Stereo, width: float) -> Stereo:
    if width == 1:
        return audio
    mid = audio.mean(axis=0)
    return mid + np.float32(width) * (audio - mid)
