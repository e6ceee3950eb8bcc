"""Own sounds out of sound files: what is read, its root from the name, where it loops."""

import dataclasses
import re
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

import numpy as np
import soundfile

from cloudrift.audio.clips import LONGEST_S, ClipStore
from cloudrift.audio.files import read_audio
from cloudrift.audio.listen.labels import chunks_of
from cloudrift.audio.listen.pitch import pitch_of
from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.sound.own import Recording

SUFFIXES = frozenset({".wav", ".flac", ".ogg", ".aif", ".aiff"})


MOST = 64  # files that are brought in at once


_NOTE = re.compile(r"(?<![A-Za-z])([A-Ga-g])(#|♯|s|b|♭)?(-?\d)(?![\dA-Za-z])")


_NUMBER = re.compile(r"(?<!\d)(\d{2,3})(?!\d)")


_STEPS = {"c": 0, "d": 2, "e": 4, "f": 5, "g": 7, "a": 9, "b": 11}


def audio_files(paths: Iterable[Path]) -> list[Path]:
    """Return the audio files among paths and in the folders among them, sorted by name."""
    found: list[Path] = []
    for path in paths:
        inside = sorted(path.iterdir()) if path.is_dir() else [path]
        found += [p for p in inside if p.suffix.lower() in SUFFIXES and p.is_file()]
    if not found:
        raise CloudriftError("no WAV, FLAC, OGG or AIFF file; choose others")
    if len(found) > MOST:
        raise CloudriftError(f"{len(found)} files are more than the {MOST} one sound can have")
    return found


@dataclasses.dataclass(frozen=True)
class ImportedRecordings:
    """A recording that was read, and how its root pitch was found."""

    recording: Recording
    how: str


def read_recordings(
    paths: Sequence[Path],
    clips: ClipStore,
    stop: Callable[[], bool] = never,
    moved: Callable[[float, str], object] = lambda _share, _name: None,
) -> list[ImportedRecordings]:
    """Read every one-shot among files and folders into a store; raise Cancelled when told to stop.

    ``moved`` hears how far it is (0-1) and which file comes next.
    """
    files = audio_files(paths)
    found = []
    for i, file in enumerate(files):
        if stop():
            raise Cancelled
        moved(i / len(files), file.name)
        found.append(ImportedRecordings(*read_recording(file, clips, many=len(files) > 1)))
    return found


def read_recording(path: Path, clips: ClipStore, *, many: bool = False) -> tuple[Recording, str]:
    """Read a one-shot into a store and say how its root pitch was found.

    It is taken from the file's name (C4 is 60; a plain number only where there are ``many``),
    else from the sound; else it is C4, and somebody has to say.
    """
    audio, rate = read_audio(path, LONGEST_S + 1)
    if audio.shape[1] < rate // 100:
        raise CloudriftError(f"{path.name} is shorter than 10 ms; leave it out")
    if audio.shape[1] > LONGEST_S * rate:
        raise CloudriftError(f"{path.name} is longer than {LONGEST_S:.0f} s; trim it to one note")
    if not np.abs(audio).max() > 1e-4:
        raise CloudriftError(f"{path.name} is silent; leave it out")
    named = root_from_name(path.stem, numbers=many)
    heard = None if named is not None else pitch_of(audio, rate)
    how = "from its name" if named is not None else "from its sound" if heard else "not found"
    root = named if named is not None else heard or 60.0
    start, end = loop_points(path)
    share = 100 / audio.shape[1]
    recording = Recording(
        clip=clips.record(audio, rate),
        root=round(float(root), 2),
        name=path.name,
        loop_from=round(start * share, 3),
        loop_to=round(end * share, 3),
    )
    return recording, how


def root_from_name(name: str, *, numbers: bool = False) -> float | None:
    """Return the pitch that a file's name says, the last of them if it says several."""
    found = _NOTE.findall(name)
    if found:
        letter, sign, octave = found[-1]
        shift = 1 if sign in ("#", "♯", "s") else -1 if sign else 0
        pitch = 12 * (int(octave) + 1) + _STEPS[letter.lower()] + shift
        return float(pitch) if 0 <= pitch <= 127 else None
    plain = [int(n) for n in _NUMBER.findall(name) if 12 <= int(n) <= 120] if numbers else []
    return float(plain[-1]) if plain else None


def loop_points(path: Path) -> tuple[int, int]:
    """Return the first loop of a WAV file's ``smpl`` chunk as frames, (0, 0) if it has none."""
    try:
        with soundfile.SoundFile(path) as sound:
            frames = sound.frames
        with path.open("rb") as file:
            body = next((body for name, body in chunks_of(file) if name == b"smpl"), b"")
    except (OSError, RuntimeError):
        return 0, 0
    if len(body) < 60:
        return 0, 0
    start, end = (int.from_bytes(body[i : i + 4], "little") for i in (44, 48))
    return (start, end + 1) if start < end < frames else (0, 0)
