"""What a sound is: a description, its settings, and how one undamped tone is computed."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal, NamedTuple

from cloudrift.audio.buffers import Stereo
from cloudrift.ground.settings import Field, Full, SettingsSpec

Role = Literal["keys", "pad", "pluck", "lead", "strings", "voice", "bass", "bell", "grain"]


class Tone(NamedTuple):
    """One undamped note, struck softly and struck hard, in phase with each other.

    Velocity and brightness blend between the two, so that one computation serves every loudness.
    """

    soft: Stereo
    hard: Stereo


@dataclass(frozen=True, kw_only=True)
class ToneRequest:
    """What a tone depends on. ``variant`` is a draw: equal notes in a row take other variants."""

    pitch: int
    variant: int
    frames: int
    rate: int
    settings: Full


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A house sound.

    ``register`` is where it is at its best (MIDI numbers). ``gain_db`` levels it with the others
    on the reference chord. ``bloom_ms`` is how slowly brightness opens after the start (0 = at
    once, as for everything struck). ``variants`` is how many different strikes it has.
    """

    name: str
    label: str
    family: str
    role: Role
    about: str
    tags: tuple[str, ...]
    register: tuple[int, int]
    spec: SettingsSpec
    tone: Callable[[ToneRequest], Tone]
    version: int = 1
    gain_db: float = 0.0
    mono: bool = False
    bloom_ms: float = 0.0
    variants: int = 3
    damper: Callable[[int, int], Stereo] | None = None  # (variant, rate) -> noise of the release


def envelope_fields(
    *,
    attack_ms: float,
    decay_ms: float,
    sustain: float,
    release_ms: float,
    detune_cents: float,
    width: float = 100.0,
    brightness: float = 50.0,
) -> tuple[Field, ...]:
    """Return the seven settings that every sound has, with this sound's own defaults."""
    return (
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
    )  # fmt: skip
