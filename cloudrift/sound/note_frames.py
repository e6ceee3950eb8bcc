"""Notes of a part in frames: what starts where, stops what, glides from what."""

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass, replace
from itertools import pairwise
from zlib import crc32

import numpy as np

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import ResolvedSettings
from cloudrift.notes.note import Note
from cloudrift.notes.time import Clock
from cloudrift.sound.instrument import Instrument

CUT_MS = 12.0  # how fast a mono sound stops for the next note


SLIDE_ST, SLIDE_MS = -2.0, 75.0  # a note struck too hard starts flat and is pulled up


@dataclass(frozen=True, kw_only=True)
class PlayedNote:
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


def played_notes(
    notes: Iterable[Note], instrument: Instrument, full: ResolvedSettings, clock: Clock, once: bool
) -> Iterable[PlayedNote]:
    """Yield notes in frames, each with its strike, its release and the glide into it."""
    last: dict[int, int] = {}
    notes = tuple(notes)
    before = _before(notes, once=once)
    release_ms, damping = full.number("release_ms"), instrument.damping
    for note in notes:
        variant = _variant(note, last.get(note.pitch), instrument.variants)
        last[note.pitch] = variant
        wanted = frames_of_ms(note.glide_ms, clock.rate) if note.glide_ms else 0
        leaves = before.get(note.start_tick, note.pitch) - note.pitch if wanted else 0
        slides = "slide_velocity" in full and note.velocity >= full.number("slide_velocity")
        yield PlayedNote(
            start=played_frame(note.start_tick, note.offset_ms, clock, once),
            held=max(1, clock.frames(note.length_ticks)),
            release=frames_of_ms(release_ms * (damping(note.pitch) if damping else 1), clock.rate),
            pitch=note.pitch,
            velocity=note.velocity,
            variant=variant,
            glide_st=float(leaves) if leaves else SLIDE_ST if slides else 0.0,
            glide=wanted if leaves else frames_of_ms(SLIDE_MS, clock.rate) if slides else 0,
            wanted=wanted,
            pan=note.pan,
        )


def played_frame(tick: int, late_ms: float, clock: Clock, once: bool) -> int:
    """The frame that something is played at; once, nothing is before the start."""
    frame = clock.frames(tick) + round(late_ms * 1e-3 * clock.rate)
    return max(0, frame) if once else frame


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
    drawn = round_robin_index(note.start_tick, note.pitch, variants)
    return (drawn + (drawn == before)) % variants


def round_robin_index(start_tick: int, pitch: int, variants: int) -> int:
    """Return which strike falls to a note by its place, so that an edit leaves others alone."""
    return crc32(b"%d %d" % (start_tick, pitch)) % variants


def frames_of_ms(ms: float, rate: int) -> int:
    """Return a time in frames, one at least."""
    return max(1, round(ms * 1e-3 * rate))


def stopped_at(
    hits: list[PlayedNote], stops: list[int], loop_frames: int, rate: int, once: bool
) -> list[PlayedNote]:
    """Stop each hit at the next stop after its start; in a loop the first is after the last."""
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


def _ended(hit: PlayedNote, gap: int, rate: int) -> PlayedNote:
    """A hit that is silent after that many frames."""
    cut = min(frames_of_ms(CUT_MS, rate), max(1, gap))
    held = min(hit.held, max(0, gap - cut))
    return replace(hit, held=held, release=min(hit.release, max(cut, gap - held)))


def one_at_a_time(
    hits: list[PlayedNote], full: ResolvedSettings, loop_frames: int, rate: int, once: bool
) -> list[PlayedNote]:
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
        over = hit.wanted or (frames_of_ms(glide, rate) if glide else 0)
        if sounds and over and hit.pitch != before.pitch:
            away = float(before.pitch - hit.pitch)
            hit = replace(hit, glide_st=away, glide=over)  # noqa: PLW2901
        following = ordered[0].start + loop_frames if last else ordered[i + 1].start
        gap_after = hit.held + hit.release if once and last else following - hit.start
        # A cut ends with the next start, so that two notes never sound together.
        joined = legato and sounds and gap <= before.held + frames_of_ms(CUT_MS, rate)
        out.append(replace(_ended(hit, gap_after, rate), joined=joined))
    return out
