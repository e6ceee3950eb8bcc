"""All house sounds by name. Nothing is computed until a sound is played."""

import functools
from collections.abc import Iterable
from importlib import resources
from typing import Literal

from cloudrift.audio.buffers import silence
from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.reading import read_toml
from cloudrift.ground.search import Entry, Index, Match, synonyms
from cloudrift.sound import sounds
from cloudrift.sound.instrument import FAMILIES, Instrument, Tone, ToneRequest, shaped

EARLIER = "earlier.toml"
# Family by family, as they are listed.
CATALOGUE: dict[str, Instrument] = {
    sound.name: sound
    for sound in sorted(sounds.SOUNDS, key=lambda sound: FAMILIES.index(sound.family))
}


def _plain(name: str) -> str:
    return " ".join(name.lower().replace("-", " ").replace("_", " ").split())


def find_sound(name: str) -> Instrument:
    """Return a sound by name; raise CloudriftError with the nearest name."""
    plain = _plain(name)
    if plain not in CATALOGUE:
        raise CloudriftError(f"there is no sound called {name!r}{did_you_mean(plain, CATALOGUE)}")
    return CATALOGUE[plain]


def find_design(name: str, version: int) -> Instrument | None:
    """Return a sound if it has this design today; None where it has another, or is not known."""
    found = CATALOGUE.get(_plain(name))
    return found if found is not None and found.version == version else None


def early_level_db(name: str, version: int) -> float | None:
    """Return how much louder an early design of a sound was than today's, in dB.

    None where that is no early design. Measured on the reference chord (``measure.chord_lufs``).
    """
    levels = _early_levels().get(_plain(name), [])
    return levels[version - 1] if 1 <= version <= len(levels) else None


@functools.cache
def _early_levels() -> dict[str, list[float]]:
    file = resources.files("cloudrift.sound") / EARLIER
    return read_toml(file.read_text("utf-8"), EARLIER, dict[str, list[float]])


@functools.lru_cache(maxsize=64)
def unknown_sound(name: str, version: int) -> Instrument:
    """Return what stands for a sound, or a newer design of one, that is not known here: silence."""
    newest = CATALOGUE.get(_plain(name))
    if newest is not None:
        what = f"design {version} of {newest.name}; known here up to {newest.version}"
    else:
        near = did_you_mean(_plain(name), CATALOGUE)
        what = f"there is no sound called {name!r} here{near if 'did you' in near else ''}"
    return Instrument(
        name=name,
        family="own",
        role="keys",
        tags=(),
        register=(0, 127),
        version=version,
        about=f"Unknown here, kept as it is, and silent: {what}",
        spec=shaped(attack_ms=1, release_ms=10, detune_cents=0),
        tone=_silent,
        variants=1,
        content="not known",
    )


def _silent(request: ToneRequest) -> Tone:
    return Tone(silence(request.frames), silence(request.frames))


Reach = Literal["any", "low", "middle", "high"]
REACHES: tuple[Reach, ...] = ("any", "low", "middle", "high")
_REACH_PITCH = {"low": 36, "middle": 60, "high": 84}  # C2, C4, C6: inside the register


def look_up(
    words: str = "",
    family: str = "",
    reach: Reach = "any",
    among: Iterable[Instrument] | None = None,
) -> list[Match[Instrument]]:
    """Return the sounds that words find, of a family, that reach a part of the keyboard.

    They are those of the house, or ``among`` others; best first, all of them for no words.
    """
    return [
        match
        for match in _index(tuple(CATALOGUE.values() if among is None else among)).find(words)
        if family in ("", match.of.family)
        and (reach == "any" or match.of.register[0] <= _REACH_PITCH[reach] <= match.of.register[1])
    ]


def _synonyms(sound: Instrument) -> dict[str, tuple[str, ...]]:
    return synonyms("cloudrift.sound").get(sound.name, {}) if sound.family != "own" else {}


@functools.lru_cache(maxsize=4)
def _index(among: tuple[Instrument, ...]) -> Index[Instrument]:
    return Index(
        Entry(
            of=sound,
            names=(sound.name,),
            family=sound.family,
            text=f"{sound.role} {sound.about}",
            does=_synonyms(sound).get("does", ()),
            near=(*sound.tags, *_synonyms(sound).get("near", ())),
        )
        for sound in among
    )
