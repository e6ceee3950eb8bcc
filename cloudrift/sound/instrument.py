"""What a sound is: a description, its settings, and how one undamped tone is computed."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, NamedTuple, get_args

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.ground.settings import Field, ResolvedSettings, SettingsSpec

Role = Literal["keys", "pad", "pluck", "lead", "strings", "voice", "bass", "bell", "grain"]
Family = Literal[
    "keys",
    "organ",
    "pads",
    "strings",
    "plucks",
    "leads",
    "voice",
    "bells",
    "bass",
    "brass",
    "grain",
    "drums",
    "own",
]
# Those of the house; "own" is what a composer brings.
FAMILIES: tuple[Family, ...] = tuple(f for f in get_args(Family) if f != "own")
SLIDE_OFF = 128  # a velocity that no note reaches


class Tone(NamedTuple):
    """One undamped note, struck softly and struck hard, in phase with each other.

    Velocity and brightness blend between the two, so that one computation serves every loudness.
    """

    soft: Stereo
    hard: Stereo


@dataclass(frozen=True, kw_only=True)
class ToneRequest:
    """What a tone depends on. ``variant`` is a variation: equal notes in a row take other variants.

    ``clips`` has the recordings that an own sound names. ``velocity`` is that of the band which the
    note is in, for sounds that have bands; ``share`` is how bright a note is played, 0 to 1, for
    sounds that follow it.
    """

    pitch: int
    variant: int
    frames: int
    rate: int
    settings: ResolvedSettings
    clips: ClipStore
    velocity: int = 0
    share: float = 0.0


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A house sound.

    ``register`` is where it is at its best (MIDI numbers). ``gain_db`` levels it with the others
    on the reference chord. ``variants`` is how many different strikes it has; two are enough where
    one rings into the next. ``mono`` plays one note at a time. ``tuned`` is off for what has no
    pitch to be held to. ``noises`` are the settings that are levels of noise: at 0 nothing but
    tones is left. ``bands`` are velocities from which on other tones are played.
    Where it ``follows``, a tone is made for how bright a note is played: a filter that sweeps, a
    tube that brightens as it is blown; soft and hard are then one, and opening and closing its own.
    Where it has ``damping``, felt stops it: each key in its own time, upper partials first, and
    the setting is the time of C4. ``damper`` is what that is heard by.
    ``version`` counts its designs: loops made with an early one are opened with today's.
    """

    name: str
    family: Family
    role: Role
    about: str
    tags: tuple[str, ...]
    register: tuple[int, int]
    spec: SettingsSpec
    tone: Callable[[ToneRequest], Tone]
    version: int = 1
    gain_db: float = 0.0
    mono: bool = False
    tuned: bool = True
    variants: int = 3
    noises: tuple[str, ...] = ()
    bands: tuple[int, ...] = ()
    follows: bool = False
    damper: Callable[[int, int, int], Stereo] | None = None  # (variant, pitch, rate) -> its noise
    damping: Callable[[int], float] | None = None  # of a pitch: how many times the release it takes
    content: str = ""  # what it is made of, where its name does not say it

    @property
    def identity(self) -> tuple[str, int, str]:
        """What tells it from every other sound and design."""
        return self.name, self.version, self.content

    def band(self, velocity: int) -> int:
        """Return the lowest velocity of the band that one is in; 0 where there are none."""
        return max((low for low in self.bands if low <= velocity), default=0)

    def longest_release_ms(self, full: ResolvedSettings) -> float:
        """Return how long a key takes to stop at the most: where no felt is, far longer."""
        slowest = max(map(self.damping, range(128))) if self.damping else 1.0
        return full.number("release_ms") * max(1.0, slowest)

    @property
    def label(self) -> str:
        """The name as a heading writes it."""
        return self.name[0].upper() + self.name[1:]


def shaped(
    *own: Field,
    attack_ms: float,
    decay_ms: float = 4000,
    sustain: float = 100,
    release_ms: float,
    detune_cents: float,
    width: float = 100.0,
    brightness: float = 50.0,
) -> SettingsSpec:
    """Return the seven settings that every sound has, with its own defaults, and its own ones."""
    return SettingsSpec((
        Field(name="attack_ms", label="Attack", default=attack_ms, unit="ms", low=1, high=4000,
              step=1, log=True),
        Field(name="decay_ms", label="Decay", default=decay_ms, unit="ms", low=20, high=12000,
              step=5, log=True),
        Field(name="sustain", label="Sustain", default=sustain, unit="%", low=0, high=100),
        Field(name="release_ms", label="Release", default=release_ms, unit="ms", low=10,
              high=8000, step=5, log=True),
        Field(name="brightness", label="Brightness", default=brightness, unit="%", low=0,
              high=100),
        Field(name="detune_cents", label="Detune", default=detune_cents, unit="cents", low=0,
              high=50, step=0.1),
        Field(name="width", label="Width", default=width, unit="%", low=0, high=200),
        *own,
    ))  # fmt: skip


def vibrato_fields(cents: float, onset_ms: float, hz: float = 5.2) -> tuple[Field, ...]:
    """Return how far and how fast a tone sways, and from when."""
    return (
        Field(name="vibrato_cents", label="Vibrato", default=cents, unit="cents", low=0, high=100),
        Field(name="vibrato_hz", label="Vibrato rate", default=hz, unit="Hz", low=1, high=9,
              step=0.1),
        Field(name="onset_ms", label="Vibrato delay", default=onset_ms, unit="ms", low=0,
              high=3000, step=10),
    )  # fmt: skip


def mono_fields(glide_ms: float = 0.0, legato: str = "off") -> tuple[Field, ...]:
    """Return how a sound that plays one note at a time goes from one to the next."""
    return (
        Field(name="glide_ms", label="Glide", default=glide_ms, unit="ms", low=0, high=1500,
              step=1, off_low=True, hint="time to glide from the previous note"),
        Field(name="legato", label="Legato", default=legato, choices=("off", "on"),
              hint="overlapping notes without a new attack"),
    )  # fmt: skip


def opening(ms: float) -> Field:
    """Return how slowly brightness opens after the start."""
    return Field(
        name="open_ms", label="Opens over", default=ms, unit="ms", low=1, high=4000, log=True
    )


def closing(ms: float) -> Field:
    """Return how fast brightness closes after the start."""
    return Field(
        name="close_ms",
        label="Closes over",
        default=ms,
        unit="ms",
        low=20,
        high=6000,
        step=5,
        log=True,
    )


def slide(velocity: int = 122) -> Field:
    """Return from which velocity on a note is struck so hard that it slides up into its pitch."""
    return Field(
        name="slide_velocity",
        label="Slides from",
        default=velocity,
        unit="vel",
        low=100,
        high=SLIDE_OFF,
        off_high=True,
    )


def pick(default: float) -> Field:
    """Return the setting of where a string is plucked."""
    return Field(
        name="pick",
        label="Pick position",
        default=default,
        unit="%",
        low=5,
        high=50,
        hint="position between bridge and finger",
    )


def tape_sway(default: float) -> Field:
    """Return how far a tape strays."""
    return Field(
        name="sway_cents",
        label="Sway",
        default=default,
        unit="cents",
        low=0,
        high=60,
        step=0.5,
        hint="depth of the tape's speed changes",
    )


def over(ms: float) -> Field:
    """Return how long a rise or a drop takes."""
    return Field(
        name="over_ms", label="Over", default=ms, unit="ms", low=100, high=12000, step=10, log=True
    )
