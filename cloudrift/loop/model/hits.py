"""The hits of a drum: strokes in patterns, played with one sound or several at once.

Hits are written in a pattern's own ticks and come round as often as the loop lasts. A lane of the
groove bed is a layer that comes from them.
"""

from typing import ClassVar, NamedTuple

import msgspec

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import shown
from cloudrift.ground.words import check_name, plural
from cloudrift.loop.model.around import Root, SourceContext
from cloudrift.loop.model.checks import unique, within
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.notes.note import HIGHEST, LOWEST, Note, in_order
from cloudrift.notes.time import TICKS_PER_QUARTER
from cloudrift.sound.own import Recording

MOST_HITS = 2048  # of a pattern: 1/32 over 64 bars
MOST_PATTERNS = 16
MOST_SOUNDS = 4
MOST_ST = 36
MOST_LATE_MS = 200.0
MOST_BARS = 64
RINGS_TICKS = 8 * TICKS_PER_QUARTER  # how long a hit is held that is left to ring
UNTUNED = 60  # the key at which drums sound as they are


class Hit(
    msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True
):
    """One stroke.

    ``st`` is how far its pitch is away, in semitones: from its root where the lane plays roots.
    ``length_ticks`` of 0 lets it ring until it is stopped; ``late_ms`` plays it before (below 0)
    or after its place; ``pan`` goes from -1 (left) to 1; ``glide_ms`` is how long it takes to
    leave the pitch of the hit before. ``sound`` plays only one of a stack (from 1; 0: all).
    """

    tick: int
    velocity: int = 100
    st: int = 0
    length_ticks: int = 0
    late_ms: float = 0.0
    pan: float = 0.0
    glide_ms: float = 0.0
    sound: int = 0


class Pattern(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Hits over that many bars, under a name (A, B, bare, …)."""

    name: str
    bars: int = 2
    hits: tuple[Hit, ...] = ()


class Stacked(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One sound of a stack: how loud it is in it, how late, how much higher."""

    use: SoundUse
    level_db: float = 0.0
    late_ms: float = 0.0
    st: int = 0


class Stroke(NamedTuple):
    """A hit where it is played in the loop."""

    hit: Hit
    tick: int  # as it is played: with swing
    late_ms: float


class Hits(
    msgspec.Struct,
    frozen=True,
    kw_only=True,
    forbid_unknown_fields=True,
    tag_field="kind",
    tag="hits",
):
    """What a drum plays: its ``patterns``, of which ``plays`` names the one that is heard.

    Parameters
    ----------
    stack : the sounds that are struck at once, one at least.
    on_roots : its pitch is that of the root that is heard, from ``lowest`` (MIDI) up.
    choke : drums of one such name stop each other, and themselves; none: they ring on.
    late_ms : how far after all its hits are played (below 0: before).
    """

    follows: ClassVar[bool] = False  # the chords, as lenses do
    end_tick: ClassVar[int] = 0  # it goes on as long as the loop does

    stack: tuple[Stacked, ...]
    patterns: tuple[Pattern, ...] = (Pattern(name="A"),)
    plays: str = "A"
    on_roots: bool = False
    lowest: int = 28
    choke: str = ""
    late_ms: float = 0.0

    def check(self, where: str) -> None:
        """Raise CloudriftError that names the place of what can't be."""
        within(f"{where}: number of sounds", len(self.stack), 1, MOST_SOUNDS)
        within(f"{where}: number of patterns", len(self.patterns), 1, MOST_PATTERNS)
        within(f"{where}: lowest root", self.lowest, LOWEST, HIGHEST - 12)
        within(f"{where}: late", self.late_ms, -MOST_LATE_MS, MOST_LATE_MS, " ms")
        unique(f"{where}: patterns", (one.name for one in self.patterns))
        for one in self.stack:
            within(f"{where}: level in the stack", one.level_db, -60, 12, " dB")
            within(f"{where}: late in the stack", one.late_ms, -MOST_LATE_MS, MOST_LATE_MS, " ms")
            within(f"{where}: pitch in the stack", one.st, -MOST_ST, MOST_ST, " semitones")
        for pattern in self.patterns:
            _check_pattern(f"{where}: pattern {pattern.name}", pattern)
        if all(one.name != self.plays for one in self.patterns):
            raise CloudriftError(f"{where}: it plays pattern {self.plays!r}, which does not exist")

    @property
    def pattern(self) -> Pattern:
        """The pattern that is heard."""
        return next(one for one in self.patterns if one.name == self.plays)

    @property
    def text(self) -> str:
        """What it plays, in words."""
        pattern = self.pattern
        count = plural(len(pattern.hits), "hit") if pattern.hits else "no hits yet"
        return f"{count} in {plural(pattern.bars, 'bar')}"

    @property
    def all_sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that it has."""
        return tuple(one.use for one in self.stack)

    @property
    def sounds(self) -> tuple[SoundUse, ...]:
        """The sounds that are heard in it."""
        return self.all_sounds

    @property
    def sound_text(self) -> str:
        """What it is played with, in words."""
        return " + ".join(
            use.of.label if use.known else f"{use.of.label}: silent" for use in self.sounds
        )

    @property
    def is_silent(self) -> bool:
        """Whether nothing can be heard of it."""
        return not any(use.known for use in self.sounds)

    def rings_s(self, tempo: float) -> float:
        """Return how long it may go on after the loop's end, in seconds, at a tempo in BPM."""
        return (
            max(use.rings_s for use in self.sounds) + RINGS_TICKS / TICKS_PER_QUARTER * 60 / tempo
        )

    @property
    def recordings(self) -> tuple[Recording, ...]:
        """The recordings that it carries along."""
        return tuple(one for use in self.all_sounds if use.own for one in use.own.recordings)

    @property
    def unknown(self) -> tuple[str, ...]:
        """What of it this program does not know, in words."""
        return tuple(
            f"the sound {use.name} (design {use.version}), silent"
            for use in self.all_sounds
            if not use.known
        )

    def strokes(self, around: SourceContext) -> tuple[Stroke, ...]:
        """Return its hits where they are played, all through the loop, in order of time."""
        pattern = self.pattern
        length = pattern.bars * around.bar_ticks
        late = self.late_ms + around.swing.late_ms
        out = []
        for start in range(0, around.ticks, length):
            for hit in pattern.hits:
                written = start + hit.tick
                if hit.tick < length and written < around.ticks:
                    tick = around.swing.placed(written)
                    out.append(Stroke(hit, tick, hit.late_ms + late))
        return tuple(sorted(out, key=lambda one: one.tick))

    def notes_in(self, around: SourceContext) -> tuple[Note, ...]:
        """Return what is played with the first sound of the stack."""
        return self.notes_of(0, around)

    def notes_of(self, which: int, around: SourceContext) -> tuple[Note, ...]:
        """Return what is played with one sound of the stack (from 0)."""
        one = self.stack[which]
        notes = []
        for stroke in self.strokes(around):
            hit = stroke.hit
            if hit.sound and hit.sound != which + 1:
                continue
            pitch = self.base_at(stroke.tick, around) + hit.st + one.st
            notes.append(
                Note(
                    start_tick=stroke.tick,
                    length_ticks=hit.length_ticks or RINGS_TICKS,
                    pitch=min(max(pitch, LOWEST), HIGHEST),
                    velocity=hit.velocity,
                    offset_ms=stroke.late_ms + one.late_ms,
                    glide_ms=hit.glide_ms,
                    pan=hit.pan,
                )
            )
        return in_order(notes)

    def base_at(self, tick: int, around: SourceContext) -> int:
        """Return the key that a hit at a tick is tuned from."""
        if not self.on_roots:
            return UNTUNED
        return self.lowest + (root_at(tick, around) - self.lowest) % 12


def root_at(tick: int, around: SourceContext) -> int:
    """Return the pitch class of the root at a tick: the last one before it where there is none."""
    before: Root | None = None
    for root in around.roots:
        if root.start_tick > tick:
            break
        before = root
    if before is None:
        return around.roots[-1].pc if around.roots else around.key.pc
    return before.pc


def _check_pattern(where: str, pattern: Pattern) -> None:
    check_name("a pattern", pattern.name)
    if shown(pattern.name) != pattern.name:  # lanes name it, so that it can't be another here
        raise CloudriftError(
            f"{where}: the pattern {pattern.name!r} has characters that can't be shown"
        )
    within(f"{where}: bars", pattern.bars, 1, MOST_BARS)
    within(f"{where}: number of hits", len(pattern.hits), 0, MOST_HITS)
    before = -1
    for i, hit in enumerate(pattern.hits):
        at = f"{where}: hit {i + 1}"
        if hit.tick < max(before, 0):
            raise CloudriftError(f"{at} at tick {hit.tick} is out of order")
        before = hit.tick
        within(f"{at}: velocity", hit.velocity, 1, 127)
        within(f"{at}: pitch", hit.st, -MOST_ST, MOST_ST, " semitones")
        within(f"{at}: length", hit.length_ticks, 0, MOST_BARS * 12 * TICKS_PER_QUARTER, " ticks")
        within(f"{at}: late", hit.late_ms, -MOST_LATE_MS, MOST_LATE_MS, " ms")
        within(f"{at}: pan", hit.pan, -1, 1)
        within(f"{at}: glide", hit.glide_ms, 0, 2000, " ms")
        within(f"{at}: sound", hit.sound, 0, MOST_SOUNDS)
