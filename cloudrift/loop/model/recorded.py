"""A layer that is a recording: which, what is known of it, and how it follows the loop."""

from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, get_args

import msgspec
from msgspec import Meta

from cloudrift.audio.clips import LONGEST_S, is_clip_name
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import named
from cloudrift.loop.model import spec
from cloudrift.loop.model.checks import within
from cloudrift.loop.model.known_score import KnownScore
from cloudrift.notes.note import Note
from cloudrift.theory.key import Key

if TYPE_CHECKING:
    from cloudrift.loop.model.sound_use import SoundUse

RecordingKind = Literal["one-shot", "phrase", "loop", "bed"]
Fit = Literal["as it is", "tempo", "tape", "beats"]
KINDS: tuple[RecordingKind, ...] = get_args(RecordingKind)
FITS: tuple[Fit, ...] = get_args(Fit)
MOST_BEATS = 1024
MOST_SEMITONES = 24.0
LEAST_GAIN_DB, MOST_GAIN_DB = -40.0, 60.0
SHORTEST_S = 0.005
MOST_LONGER = 2.0  # that a fit makes a tail, at the most
Share = Annotated[float, Meta(ge=0, le=1)]
Text = Annotated[str, Meta(max_length=200)]


class Facts(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What is known of a recording, as somebody has taken it: heard, labelled, or by hand.

    ``tempo`` (BPM) is 0 where there is none, ``pitch`` (MIDI, may lie between keys) where it is no
    single note; ``tempo_sure`` and ``key_sure`` are how sure hearing was, 0 for what was written or
    said by hand. ``second_key`` is the next likely one; ``doubts`` say where what is written and
    what was heard disagree. ``beats_s`` are the beats that are marked in it, in seconds;
    ``downbeat`` is the number of the first that begins a bar. ``origin`` says where it is from.
    ``score`` are the notes that sound in it, as far as they are known.
    """

    name: str = ""
    kind: RecordingKind = "phrase"
    maker: str = ""
    licence: str = ""
    origin: str = ""
    length_s: float = 0.0
    key: Key | None = None
    tempo: float = 0.0
    pitch: float = 0.0
    beats_s: tuple[float, ...] = ()
    downbeat: int = 0
    lufs: float = 0.0
    tempo_sure: Share = 0.0
    key_sure: Share = 0.0
    second_key: Key | None = None
    doubts: tuple[Text, ...] = ()
    score: KnownScore | None = None

    def __post_init__(self) -> None:
        for field, what in (
            ("name", "a recording"),
            ("maker", "a maker"),
            ("licence", "a licence"),
            ("origin", "an origin"),
        ):
            named(self, what, field, may_be_empty=True)
        where = f"the recording {self.name}"
        within(f"{where}: length", self.length_s, SHORTEST_S, LONGEST_S, " s")
        if self.tempo:
            within(
                f"{where}: tempo",
                self.tempo,
                spec.MIN_TEMPO_BPM / 2,
                spec.MAX_TEMPO_BPM * 2,
                " BPM",
            )
        within(f"{where}: pitch", self.pitch, 0, 127)
        within(f"{where}: number of beats", len(self.beats_s), 0, MOST_BEATS)
        within(f"{where}: number of doubts", len(self.doubts), 0, 8)
        within(f"{where}: loudness", self.lufs, -200, 40, " LUFS")
        last = -1.0
        for i, beat in enumerate(self.beats_s):
            if not last + SHORTEST_S <= beat <= self.length_s:
                raise CloudriftError(
                    f"{where}: beat {i + 1} at {beat:g} s is after its end, or not after the "
                    "previous beat"
                )
            last = beat
        if self.beats_s:
            within(f"{where}: downbeat", self.downbeat, 0, len(self.beats_s) - 1)


class WithoutNotes(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind"
):
    """A source that is sound, rather than notes that are played with one."""

    follows: ClassVar[bool] = False

    @property
    def sounds(self) -> tuple["SoundUse", ...]:
        """The sounds that it plays notes with: none."""
        return ()

    all_sounds = sounds

    @property
    def unknown(self) -> tuple[str, ...]:
        """What of it this program does not know."""
        return ()

    def notes_in(self, around: object) -> tuple[Note, ...]:
        """It has no notes."""
        del around
        return ()


class FromRecording(WithoutNotes, frozen=True, kw_only=True, tag="recording"):
    """A recording laid into the loop.

    Its first downbeat (its first beat, or its start, where none is marked) lies at ``at_tick`` and
    again ``every_bars`` (0: once). Of it, ``first_s`` to ``last_s`` are heard (0: to its end).

    Parameters
    ----------
    fit : *as it is*; to the loop's *tempo*, its pitch held; as on *tape*, its pitch with the tempo;
        each of its *beats* pulled to the loop's own, by a share of ``pull``.
    semitones : how far its pitch goes, beside what a tape does; ``hold_vowels``: the colour of a
        voice stays.
    gain_db : what brings it to the loudness of a layer.
    """

    clip: str
    facts: Facts
    fit: Fit = "as it is"
    semitones: float = 0.0
    hold_vowels: bool = False
    first_s: float = 0.0
    last_s: float = 0.0
    at_tick: int = 0
    every_bars: int = 0
    pull: Share = 1.0
    gain_db: float = 0.0

    def check(self, where: str) -> None:
        """Raise CloudriftError that names what can't be."""
        if not is_clip_name(self.clip):
            raise CloudriftError(f"{where}: {self.clip[:60]!r} does not name a recording")
        within(f"{where}: shift", self.semitones, -MOST_SEMITONES, MOST_SEMITONES, " semitones")
        within(f"{where}: gain", self.gain_db, LEAST_GAIN_DB, MOST_GAIN_DB, " dB")
        within(f"{where}: bars until it repeats", self.every_bars, 0, spec.MAX_BARS)
        within(f"{where}: place in ticks", self.at_tick, 0, 1 << 31)
        within(f"{where}: start", self.first_s, 0, self.facts.length_s - SHORTEST_S, " s")
        within(f"{where}: end", self.end_s, self.first_s + SHORTEST_S, self.facts.length_s, " s")
        if self.fit in ("tempo", "tape") and not self.facts.tempo:
            raise CloudriftError(
                f"{where}: its tempo is not known, so it can't follow the loop's; enter it, or tap "
                "it"
            )
        if self.fit == "beats" and len(self.facts.beats_s) < 2:
            raise CloudriftError(f"{where}: it has fewer than two beats to quantise")

    @property
    def end_s(self) -> float:
        """Where what is heard of it ends, in seconds."""
        return self.last_s or self.facts.length_s

    @property
    def origin_s(self) -> float:
        """What of it lies at its place, in seconds: the first downbeat in what is heard of it."""
        beats = self.facts.beats_s[self.facts.downbeat :]
        return next(
            (beat for beat in beats if self.first_s - 1e-6 <= beat < self.end_s), self.first_s
        )

    @property
    def end_tick(self) -> int:
        """It may ring on after the loop's end, which is its start."""
        return 0

    @property
    def name(self) -> str:
        """What it is called."""
        return self.facts.name

    @property
    def sound_text(self) -> str:
        """What is heard, in words."""
        return self.facts.name or "recording"

    @property
    def is_silent(self) -> bool:
        """Whether nothing can be heard of it."""
        return False

    def rings_s(self, _tempo: float) -> float:
        """Return how long it may go on after the loop's end, in s: at most at half its pace."""
        return (self.end_s - self.first_s) * (1 if self.fit == "as it is" else MOST_LONGER)

    @property
    def recordings(self) -> tuple["FromRecording", ...]:
        """The recordings that it carries along."""
        return (self,)

    @property
    def text(self) -> str:
        """What it plays, in words."""
        often = (
            f", every {self.every_bars} bars"
            if self.every_bars > 1
            else (", every bar" if self.every_bars else "")
        )
        how = {
            "as it is": "as it is",
            "tempo": "to the tempo",
            "tape": "to the tempo, like tape",
            "beats": "beat by beat",
        }[self.fit]
        return f"{self.facts.kind} {how}{often}"
