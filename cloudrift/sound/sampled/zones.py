"""What a sampled instrument is once its file has been read, and the own sound that it becomes."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import LONGEST_S, ClipStore
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import reading
from cloudrift.ground.settings import Settings
from cloudrift.ground.words import NAME_TYPED, plural
from cloudrift.sound.own import LOUDEST_DB, MOST_ZONES, OwnSound, Recording

FALLS_TO = 0.6  # of the way to -100 dB, which the format counts, is that to -60 dB, which we count
MOST_NAMED = 12


class Shape(NamedTuple):
    """An envelope: seconds, and the level (0-1) that it holds. Times are those to -100 dB."""

    attack_s: float = 0.0
    decay_s: float = 0.0
    sustain: float = 1.0
    release_s: float = 0.0


USUAL = Shape()


@dataclass(frozen=True, kw_only=True)
class Zone:
    """A sample, and where on the keyboard and how hard it is played.

    ``root`` is the pitch (MIDI, with its tuning) that it sounds at its own speed, ``loop`` where it
    goes round (frames; None: it plays once). Zones with a ``turn`` take turns, those without sound
    together.
    """

    sample: str
    root: float
    keys: tuple[int, int] = (0, 127)
    velocities: tuple[int, int] = (0, 127)
    loop: tuple[int, int] | None = None
    gain_db: float = 0.0
    turn: int = 0
    shape: Shape = USUAL


@dataclass(frozen=True, kw_only=True)
class Sampled:
    """An instrument: its zones, how to read each sample, and in words what was not understood."""

    name: str
    zones: tuple[Zone, ...]
    samples: dict[str, Callable[[], tuple[Stereo, int]]]
    left_out: tuple[str, ...] = ()


def named(left_out: Counter[str]) -> tuple[str, ...]:
    """Return what was left out, the most frequent first, and how much more there was."""
    most = [name for name, _count in left_out.most_common(MOST_NAMED)]
    more = len(left_out) - len(most)
    return (*most, f"{more} more") if more else tuple(most)


def own_from(
    sampled: Sampled,
    clips: ClipStore,
    licence: str = "",
    stop: Callable[[], bool] = never,
    moved: Callable[[float, str], object] = lambda _share, _name: None,
) -> OwnSound:
    """Read the samples of an instrument into a store, and return it as an own sound.

    A sample longer than a recording may be is cut there; zones whose sample is silent or can't be
    read are left out. Raises CloudriftError if nothing is left.
    """
    kept: dict[str, tuple[str, int]] = {}
    wrong: dict[str, str] = {}
    names = list(dict.fromkeys(zone.sample for zone in sampled.zones))
    for i, name in enumerate(names):
        if stop():
            raise Cancelled
        moved(i / len(names), name)
        try:
            with reading(name, "sample"):
                audio, rate = sampled.samples[name]()
            audio = audio[:, : int(LONGEST_S * rate)]
            if audio.shape[1] < rate // 100 or not np.abs(audio).max(initial=0.0) > 1e-4:
                raise CloudriftError(f"{name} is silent or shorter than 10 ms")
            kept[name] = clips.record(audio, rate), audio.shape[1]
        except CloudriftError as error:
            wrong[name] = str(error)
    zones = [zone for zone in sampled.zones if zone.sample in kept]
    if not zones:
        why = next(iter(wrong.values()), "it has no zones")
        raise CloudriftError(f"{sampled.name} cannot be played: {why}")
    if len(zones) > MOST_ZONES:
        raise CloudriftError(
            f"{sampled.name} has {len(zones)} zones, more than the {MOST_ZONES} of one sound; "
            "reduce it first"
        )
    own = OwnSound(
        name=sampled.name[:NAME_TYPED] or "Sampled",
        licence=licence[:NAME_TYPED],
        plays="own loops",
        settings=_settings(zones),
        recordings=tuple(_recording(zone, *kept[zone.sample]) for zone in zones),
    )
    return own


def _recording(zone: Zone, clip: str, frames: int) -> Recording:
    one = Recording(
        clip=clip,
        root=min(max(zone.root, 0.0), 127.0),
        name=zone.sample[:NAME_TYPED],
        keys=zone.keys,
        velocities=zone.velocities,
        turn=zone.turn,
        gain_db=min(max(zone.gain_db, -LOUDEST_DB), LOUDEST_DB),
    )
    first, end = zone.loop or (0, 0)
    end = min(end, frames)
    if end - first < 2:
        return one
    return replace(one, loop_from=100 * first / frames, loop_to=100 * end / frames)


def _settings(zones: list[Zone]) -> Settings:
    """The envelope that most of the zones have, within what a sound can be set to."""
    shape = Counter(zone.shape for zone in zones).most_common(1)[0][0]
    wanted = {
        "attack_ms": (1000 * shape.attack_s, 1, 4000),
        "decay_ms": (1000 * shape.decay_s * FALLS_TO, 20, 12000),
        "release_ms": (1000 * shape.release_s * FALLS_TO, 10, 8000),
        "sustain": (100 * shape.sustain, 0, 100),
    }
    return tuple(
        sorted(
            (name, round(min(max(value, float(low)), float(high)), 1))
            for name, (value, low, high) in wanted.items()
        )
    )


def said(sampled: Sampled, own: OwnSound) -> str:
    """Say in a sentence what an instrument became, and what of it is not played."""
    words = f"{plural(len(own.recordings), 'zone')} of {sampled.name}"
    lost = len(sampled.zones) - len(own.recordings)
    parts = [f"{plural(lost, 'zone')} without a sound"] if lost else []
    parts += sampled.left_out
    return words + (f"; not understood, so not played: {', '.join(parts)}" if parts else "")
