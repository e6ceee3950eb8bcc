"""A kit: a folder of loop files, in an order, with a cover; what each is like, and each other."""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import tomlkit
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import write_atomically
from cloudrift.deliver.checks import Heard, check_all
from cloudrift.deliver.checks.music import style_marks
from cloudrift.ground.cancel import never
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_file, reading
from cloudrift.ground.words import named
from cloudrift.loop.files.storage import SUFFIX, load_document
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.render.engine.beside import each_beside
from cloudrift.render.engine.cache import AudioCache
from cloudrift.render.engine.engine import Engine
from cloudrift.render.measure.strata import strata
from cloudrift.style.marks import met_of

KIT_FILE = "kit.toml"
MOST_LOOPS, MOST_WORDS = 500, 4000
CACHE_BYTES = 256 << 20  # of each process: a kit is made on all cores at once
ALIKE = 0.85  # likeness from which two loops are nearly one
PICTURE = 120  # columns of a small picture
QUICK = ("length", "seam", "peak", "loudness", "dc", "mono", "low width", "phase", "off key",
         "unknown", "clipped", "names", "rights", "marks")  # fmt: skip


class Cover(msgspec.Struct, frozen=True, kw_only=True):
    """What ``kit.toml`` says: the kit's name and maker, words about it, the order of its files."""

    name: str = ""
    maker: str = ""
    about: str = ""
    order: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        named(self, "a kit", may_be_empty=True)
        named(self, "a kit's author", "maker", may_be_empty=True)
        if len(self.about) > MOST_WORDS:
            raise CloudriftError(f"the line about a kit is longer than {MOST_WORDS} characters")


@dataclass(frozen=True, kw_only=True)
class Kit:
    """A folder of loops. ``files`` in their order; ``problems`` say what could not be read."""

    folder: Path
    cover: Cover
    files: tuple[Path, ...]
    problems: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """What it is called: as its cover says, or as its folder."""
        return self.cover.name or self.folder.resolve().name


def read_kit(folder: Path) -> Kit:
    """Find the loops in a folder, those first that its cover names, in that order; then by name.

    Raises CloudriftError where there is no folder, none in it, or more than can be.
    """
    if not folder.is_dir():
        raise CloudriftError(f"{folder} is not a folder; a kit is a folder of loop files")
    found = sorted(folder.glob(f"*{SUFFIX}"), key=lambda path: path.name.casefold())
    if not found:
        raise CloudriftError(f"there is no loop file in {folder}; save loops into it first")
    if len(found) > MOST_LOOPS:
        raise CloudriftError(
            f"{folder} has {len(found)} loop files; a kit has {MOST_LOOPS} at most"
        )
    cover, problems = Cover(), []
    path = folder / KIT_FILE
    if path.exists():
        try:
            cover = read_cover(path)
        except CloudriftError as error:
            problems.append(f"{error}; it is left out")
    places = {name: at for at, name in enumerate(cover.order)}
    found.sort(key=lambda path: places.get(path.name, len(places)))
    return Kit(folder=folder, cover=cover, files=tuple(found), problems=tuple(problems))


def read_cover(path: Path) -> Cover:
    """Read a kit's cover; raise CloudriftError that says what is wrong with it."""
    with reading(str(path), "cover of a kit"):
        raw = tomlkit.parse(read_file(path, "cover of a kit").decode()).unwrap()
        return msgspec.convert(raw, Cover)


def write_cover(kit: Kit, cover: Cover) -> Kit:
    """Keep a cover in the kit's folder; return the kit with it, its files in that order."""
    body = cover_text(cover).encode()
    write_atomically(kit.folder / KIT_FILE, lambda file: file.write(body))
    return read_kit(kit.folder)


def cover_text(cover: Cover) -> str:
    """Return a cover as TOML."""
    body = tomlkit.document()
    for name in ("name", "maker", "about"):
        body[name] = getattr(cover, name)
    body["order"] = list(cover.order)
    return tomlkit.dumps(body)


def in_order(kit: Kit, files: Sequence[Path]) -> Kit:
    """Put a kit's files in an order, and keep that."""
    return write_cover(kit, replace(kit.cover, order=tuple(path.name for path in files)))


# --- what each loop is like -----------------------------------------------------------------------


class LoopSummary(msgspec.Struct, frozen=True, kw_only=True):
    """A loop of a kit, as it was found; ``problem`` where it could not be read.

    ``must`` and ``should`` are how many checks say so; ``words`` which. ``bands`` are its layers'
    roles and heights over it.
    """

    file: str
    title: str = ""
    key: str = ""
    tempo: float = 0.0
    bars: int = 0
    seconds: float = 0.0
    lufs: float = 0.0
    peak_db: float = 0.0
    must: int = 0
    should: int = 0
    words: tuple[str, ...] = ()
    met: int = 0
    asked: int = 0
    style: str = ""
    layers: int = 0
    rights_open: int = 0
    bands: tuple[tuple[str, tuple[float, ...]], ...] = ()
    problem: str = ""


def look_at(file: Path, *, cancelled: Callable[[], bool] = never) -> LoopSummary:
    """Render a loop and say what it is like; what is wrong with its file is said, not raised."""
    clips = ClipStore()
    try:
        document = load_document(file, clips)
    except CloudriftError as error:
        return LoopSummary(file=file.name, title=file.stem, problem=str(error))
    engine = Engine(cache=AudioCache(CACHE_BYTES), clips=clips)
    try:
        return looked_of(file, document, engine, cancelled)
    finally:
        engine.close()


def look_at_all(
    files: Sequence[Path], cancelled: Callable[[], bool] = never
) -> Iterator[LoopSummary]:
    """Look at loops on all cores, behind all that plays; hand each out as it stands."""
    yield from each_beside(look_at, files, os.cpu_count() or 1, cancelled)


def looked_of(
    file: Path, document: Document, engine: Engine, cancelled: Callable[[], bool] = never
) -> LoopSummary:
    """Say what a loop of a file is like; ``engine`` renders what it has not rendered yet."""
    loop = document.loop
    plain = LoopSummary(
        file=file.name,
        title=loop.title,
        key=key_heard(loop).text,
        style=loop.style,
        tempo=round(loop.sounding_tempo, 2),
        bars=loop.bars,
        layers=len(loop.heard()),
        seconds=round(loop.sounding_frames / loop.rate, 3),
    )
    if not loop.heard():
        return replace(plain, must=1, words=("nothing plays",))
    heard = Heard(document, engine, cancelled=cancelled)
    found = check_all(heard, QUICK)
    bad = [one for one in found if one.severity != "fine"]
    met, asked = met_of(style_marks(heard)[1])
    bands = tuple((role, _small(curve)) for role, curve in strata(engine, loop))
    return replace(
        plain,
        lufs=round(heard.lufs, 2),
        peak_db=round(heard.peak_db, 2),
        bands=bands,
        must=sum(one.severity == "must" for one in bad),
        met=met,
        asked=asked,
        should=sum(one.severity == "should" for one in bad),
        words=tuple(f"{one.check.label}: {one.finding.measured}" for one in bad),
        rights_open=next(
            (int(one.finding.value or 0) for one in bad if one.check.name == "rights"), 0
        ),
    )


def _small(curve: NDArray[np.float32]) -> tuple[float, ...]:
    """A curve in fewer columns."""
    parts = np.array_split(curve, PICTURE)
    return tuple(round(float(part.mean()), 3) for part in parts)


def fit_lufs(looked: Iterable[LoopSummary]) -> float:
    """Return the loudness that loops are fitted to each other by: their median."""
    found = [one.lufs for one in looked if not one.problem and one.lufs > -69]
    return round(float(np.median(found)), 1) if found else -16.0


# --- what they are to each other ------------------------------------------------------------------


def likeness(one: Loop, other: Loop) -> float:
    """Return how much two loops are one, 0 to 1: their chords and notes in any key, sounds."""
    chords = _common(_chords(one), _chords(other))
    sounds = _common(_sounds(one), _sounds(other))
    notes = _common(_notes(one), _notes(other))
    tempo = max(0.0, 1 - abs(one.sounding_tempo - other.sounding_tempo) / 20)
    return 0.3 * chords + 0.25 * sounds + 0.35 * notes + 0.1 * tempo


def _common(one: set[Any], other: set[Any]) -> float:
    both = one | other
    return len(one & other) / len(both) if both else 1.0


def _chords(loop: Loop) -> set[Any]:
    root = loop.key.pc
    return {
        (chord.start_tick, frozenset((voice - root) % 12 for voice in chord.voices))
        for chord in loop.chords
    }


def _sounds(loop: Loop) -> set[Any]:
    found = {use.name for layer in loop.heard() for use in layer.source.sounds}
    return found | {one.clip for layer in loop.heard() for one in layer.source.recordings}


def _notes(loop: Loop) -> set[Any]:
    root = loop.key.pc
    return {
        (note.start_tick // 120, (note.pitch - root) % 12)
        for layer in loop.heard()
        for note in notes_of(loop, layer)
    }


def near_duplicates(loops: Sequence[tuple[str, Loop]]) -> list[tuple[str, str, float]]:
    """Return pairs of loops that are nearly one, by name, the likest first."""
    found = []
    for at, (name, loop) in enumerate(loops):
        for other_name, other in loops[at + 1 :]:
            alike = likeness(loop, other)
            if alike >= ALIKE:
                found.append((name, other_name, alike))
    return sorted(found, key=lambda pair: -pair[2])
