"""Hand every reader spoilt files and look at what comes of it: ``python -m tools.fuzz 100000``.

Each must be taken or refused in a sentence, soon and in little memory; what is taken must work. The
readers run in processes of their own, so that one that hangs or dies is seen too. Prints a table,
and for every failure how to have it again.
"""

import argparse
import contextlib
import io
import multiprocessing
import os
import shutil
import sys
import tempfile
import time
import traceback
from collections import Counter, defaultdict
from collections.abc import Callable
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import NamedTuple

import msgspec
import soundfile

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import read_audio
from cloudrift.cli.facts import document_facts, facts_in_words
from cloudrift.deliver.kit import cover_text, read_cover
from cloudrift.desktop.session.preferences import FILE, Preferences
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_words
from cloudrift.loop.edits.chords.progression import put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.from_notes import put_layers
from cloudrift.loop.files.recovery import left_behind
from cloudrift.loop.files.storage import SCHEMA, load_document, loop_from, to_bytes
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.sounding import notes_of
from cloudrift.notes.from_midi import read_song
from cloudrift.notes.note import Note
from cloudrift.notes.reference import read_reference
from cloudrift.render import Engine
from cloudrift.render.engine.cache import AudioCache
from cloudrift.sound.own import OwnSound
from cloudrift.sound.own_files import load_own, own_sounds
from cloudrift.sound.own_import import read_recording
from cloudrift.sound.sampled import names_in, own_from, read_sampled
from cloudrift.style import find_card, sketch
from cloudrift.style.beginnings import empty_loop, from_song
from cloudrift.texture.finish_files import own_finishes
from cloudrift.texture.line_file import read_line
from cloudrift.theory.key import Key, parse_key
from cloudrift.theory.symbols import parse_progression
from tools import sampled_files
from tools.hostile import MAKERS, hostile

SLOW_S, MORE_MIB, LONG_MESSAGE = 2.0, 512, 300
HANGS_S = 20.0
RENDERED_S = 8.0  # longer loops are not rendered here: that is work, not reading
WORKERS = max(1, os.cpu_count() or 1)
NOTES = tuple(
    Note(id=i + 1, start_tick=960 * i, length_ticks=900, pitch=pitch, velocity=90)
    for i, pitch in enumerate((40, 72))
)


class Result(NamedTuple):
    """What came of one file. ``outcome`` is taken, refused, traceback, broken, hangs or dies.

    ``seconds`` are of computing, so that a crowded machine finds nothing that a quiet one does not;
    what waits for ever is found by the clock.
    """

    number: int
    outcome: str
    seconds: float = 0.0
    mib: float = 0.0
    message: str = ""
    rendered_s: float = 0.0


# --- what is done with each: read it (timed), then use what was taken -----------------------------

Use = Callable[["Bench"], None]


class Bench:
    """What the readers of one process share."""

    def __init__(self) -> None:
        self.engine = Engine(AudioCache(64 << 20))
        self.loop = empty_loop(tempo=160.0, bars=1)

    def sounds(self, loop: Loop, clips: ClipStore | None = None) -> None:
        """Work with a loop as the program would: its notes, its file, its sound.

        ``clips`` has the recordings that it names.
        """
        for layer in loop.layers:
            notes_of(loop, layer)
        data = to_bytes(loop, clips)
        assert data
        document = {"format": "cloudrift loop", "schema": SCHEMA, "loop": loop}
        again = loop_from(msgspec.json.encode(document), "again")
        assert again == loop, "it comes back as another loop"
        if loop.sounding_frames <= RENDERED_S * loop.rate and len(loop.layers) <= 6:
            if clips is None:
                self.engine.render(loop)
                return
            engine = Engine(AudioCache(64 << 20), clips)
            engine.render(loop)
            engine.close()


def _loop(path: Path) -> Use:
    clips = ClipStore()
    document = load_document(path, clips)

    def use(bench: Bench) -> None:
        assert facts_in_words(document_facts(document))
        bench.sounds(document.loop, clips)

    return use


def _recovery(path: Path) -> Use:
    for unsaved in left_behind(ClipStore(), path.parent):
        assert unsaved.document.loop
    return lambda _bench: None


def _own(path: Path) -> Use:
    own_sounds(path.parent)
    clips = ClipStore()
    return _playing(load_own(path, clips), clips)


def _card(path: Path) -> Use:
    card = find_card(str(path))

    def use(bench: Bench) -> None:
        for variation in (1, 2, 3):
            sketch(card, variation=variation, bars=4)
        for row in card.chords.shelf.values():
            put_row(bench.loop, parse_progression(row, Key("C", "minor")))

    return use


def _finish(path: Path) -> Use:
    found, wrong = own_finishes(path.parent)
    if wrong:
        raise CloudriftError(wrong[0])
    line = found[0].laid_in(Key("D", "minor"), 100.0)
    return lambda bench: _laid(bench, line)


def _cover(path: Path) -> Use:
    cover = read_cover(path)

    def use(_bench: Bench) -> None:
        path.write_text(cover_text(cover))
        assert read_cover(path) == cover

    return use


def _line(path: Path) -> Use:
    line = read_line(read_words(path, "line file"), str(path))
    return lambda bench: _laid(bench, line)


def _laid(bench: Bench, line: object) -> None:
    loop = layer_edits.add_layer(bench.loop, "felt upright")
    layer = msgspec.structs.replace(loop.layers[0].with_notes(NOTES), line=line)
    bench.sounds(msgspec.structs.replace(loop, layers=(layer,)))


def _midi(path: Path) -> Use:
    song = read_song(path)

    def use(bench: Bench) -> None:
        for parts in (True, False):
            with contextlib.suppress(CloudriftError):  # "no chords were found"
                loop = from_song(song, "a", parts=parts)
                for layer in loop.layers:
                    notes_of(loop, layer)
        with contextlib.suppress(CloudriftError):
            put_layers(bench.loop, song.parts[:4])

    return use


def _audio(path: Path) -> Use:
    with contextlib.suppress(CloudriftError):
        read_recording(path, ClipStore())
    read_audio(path)

    def use(_bench: Bench) -> None:
        with contextlib.suppress(CloudriftError):  # too short, without a beat, …
            read_reference(path)

    return use


def _sf2(path: Path) -> Use:
    clips = ClipStore()
    names_in(path)
    return _playing(own_from(read_sampled(path), clips), clips)


def _sfz(path: Path) -> Use:
    beside = path.with_name("one.wav")
    soundfile.write(beside, sampled_files.tone(440, 0.3), sampled_files.RATE)
    try:
        clips = ClipStore()
        return _playing(own_from(read_sampled(path), clips), clips)
    finally:
        beside.unlink()


def _playing(own: OwnSound, clips: ClipStore) -> Use:
    """Use an own sound: play it in a loop."""

    def use(bench: Bench) -> None:
        loop = layer_edits.add_layer(bench.loop, "felt upright")
        layer = loop.layers[0].with_source(sound=SoundUse(name=own.name, own=own))
        layer = layer.with_notes(NOTES)
        bench.sounds(msgspec.structs.replace(loop, layers=(layer,)), clips)

    return use


def _settings(path: Path) -> Use:
    folder = path.with_name("settings")
    folder.mkdir()
    path.rename(folder / FILE)
    wishes = Preferences(folder)
    assert all(isinstance(one, Path) for one in wishes.recent)
    wishes.opened(path)
    assert Preferences(folder).wrong == ()
    shutil.rmtree(folder)
    return lambda _bench: None


def _written(path: Path) -> Use:
    text = path.read_bytes().decode(errors="replace")
    with contextlib.suppress(CloudriftError):
        parse_key(text)
    row = parse_progression(text, Key("F#", "minor"))
    return lambda bench: bench.sounds(put_row(bench.loop, row))


READERS: dict[str, Callable[[Path], Use]] = {
    "loop": _loop, "recovery": _recovery, "flip": _loop, "own sound": _own, "style card": _card,
    "finish": _finish, "line": _line, "cover": _cover,
    "MIDI": _midi, "audio": _audio, "SF2": _sf2, "SFZ": _sfz,
    "settings": _settings, "written": _written,
}  # fmt: skip


# --- one file -------------------------------------------------------------------------------------


def _resident_mib(peak: bool) -> float:
    name = "VmHWM:" if peak else "VmRSS:"
    with open("/proc/self/status") as file:
        return next(int(row.split()[1]) for row in file if row.startswith(name)) / 1024


def _forget_peak() -> None:
    with open("/proc/self/clear_refs", "w") as file:
        file.write("5")


def tried(reader: str, number: int, seed: int, folder: Path, bench: Bench) -> Result:
    """Hand a reader the file with a number, then work with what it took."""
    path = folder / f"a{MAKERS[reader][0]}"
    path.write_bytes(hostile(reader, number, seed))
    _forget_peak()
    before = _resident_mib(peak=False)
    began, at = time.process_time(), "traceback"
    message, outcome, read_s = "", "taken", 0.0
    try:
        use = READERS[reader](path)
        read_s, at = time.process_time() - began, "broken"
        read_mib = _resident_mib(peak=True) - before
        use(bench)
    except CloudriftError as error:
        if at == "broken":
            outcome, message = "broken", f"refused when used: {error}"
        else:
            outcome, message = "refused", str(error)
            read_mib = _resident_mib(peak=True) - before
    except Exception:
        outcome, message = at, traceback.format_exc(limit=-6)
        read_mib = _resident_mib(peak=True) - before
    finally:
        path.unlink(missing_ok=True)
    all_s = time.process_time() - began
    read_s = read_s or all_s
    return Result(number, outcome, read_s, read_mib, message, all_s - read_s)


def _work(reader: str, first: int, last: int, seed: int, pipe: Connection) -> None:
    os.environ["XDG_STATE_HOME"] = os.environ["HOME"] = "/nonexistent"
    with tempfile.TemporaryDirectory(prefix="fz", ignore_cleanup_errors=True) as place:
        tempfile.tempdir = place  # of the stores of recordings too
        folder = Path(tempfile.mkdtemp())
        bench = Bench()
        with contextlib.redirect_stdout(io.StringIO()):
            for number in range(first, last):
                pipe.send(number)  # the one that hangs is the last one that was begun
                pipe.send(tried(reader, number, seed, folder, bench))
        folder.rmdir()
    pipe.close()


# --- all of them ----------------------------------------------------------------------------------


class Job:
    """A process that goes through some of a reader's files; it is begun anew behind a bad one."""

    def __init__(self, reader: str, first: int, last: int, seed: int) -> None:
        self.reader, self.at, self.last, self.seed = reader, first, last, seed
        self.heard = time.monotonic()
        self._begin()

    def _begin(self) -> None:
        self.pipe, theirs = multiprocessing.Pipe(duplex=False)
        arguments = (self.reader, self.at, self.last, self.seed, theirs)
        self.process = multiprocessing.Process(target=_work, args=arguments, daemon=True)
        self.process.start()
        theirs.close()

    def next(self) -> Result | None:
        """Take what has come; None where nothing is finished by it."""
        self.heard = time.monotonic()
        try:
            said = self.pipe.recv()
        except EOFError:
            if self.at >= self.last:
                return None
            return self.over("dies", f"exit {self.process.exitcode}")
        if isinstance(said, int):
            self.at = said
            return None
        self.at = said.number + 1
        return said

    def over(self, outcome: str, message: str) -> Result:
        """End a process that hangs or has died, and go on behind its file."""
        self.process.kill()
        self.process.join()
        bad = Result(self.at, outcome, HANGS_S, 0.0, message)
        self.at += 1
        self.heard = time.monotonic()
        if self.at < self.last:
            self._begin()
        return bad


def run(counts: dict[str, int], seed: int, found: Callable[[str, Result], None]) -> None:
    """Try so many files for each reader, a few processes at a time."""
    piece = 500
    waiting = [(reader, first, min(first + piece, count), seed)
               for reader, count in counts.items() for first in range(0, count, piece)]  # fmt: skip
    waiting.reverse()
    jobs: list[Job] = []
    while waiting or jobs:
        while waiting and len(jobs) < WORKERS:
            jobs.append(Job(*waiting.pop()))
        ready = wait([job.pipe for job in jobs], timeout=1.0)
        for job in list(jobs):
            result = None
            if job.pipe in ready:
                result = job.next()
            elif time.monotonic() - job.heard > HANGS_S:
                result = job.over("hangs", f"nothing for {HANGS_S:g} s")
            if result is not None:
                found(job.reader, result)
            if job.at >= job.last:
                job.process.join(5)
                jobs.remove(job)


BAD = ("traceback", "broken", "hangs", "dies")
OUTCOMES = ("taken", "refused", *BAD)


class Table:
    """Counts what came of the files and prints it as Markdown."""

    def __init__(self, shown: int) -> None:
        self.outcomes: dict[str, Counter[str]] = defaultdict(Counter)
        self.most: dict[str, list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0])
        self.failures: list[str] = []
        self._shown, self._kinds = shown, Counter[str]()
        self._began = time.monotonic()

    def add(self, reader: str, result: Result) -> None:
        """Count one; print how to have it again if it is a failure."""
        counts, most = self.outcomes[reader], self.most[reader]
        counts[result.outcome] += 1
        marks = [result.outcome] if result.outcome in BAD else []
        if result.seconds > SLOW_S:
            marks.append("slow")
        if result.mib > MORE_MIB:
            marks.append("large")
        if result.outcome == "refused" and (
            len(result.message) > LONG_MESSAGE or "\n" in result.message
        ):
            marks.append("long")
        most[0] = max(most[0], result.seconds)
        most[1] = max(most[1], result.mib)
        most[2] = max(most[2], result.rendered_s)
        counts.update(mark for mark in marks if mark not in BAD)
        done = sum(sum(c[o] for o in OUTCOMES) for c in self.outcomes.values())
        if done % 5000 == 0:
            print(f"  {done} tried, {time.monotonic() - self._began:.0f} s, "
                  f"{len(self.failures)} failures", file=sys.stderr, flush=True)  # fmt: skip
        if marks:
            self.failures.append(f"{reader} {result.number}: {', '.join(marks)}")
            kind = f"{reader} {marks} {result.message[-60:]}"
            self._kinds[kind] += 1
            if self._kinds[kind] == 1 and len(self._kinds) <= self._shown:
                print(f"--- {self.failures[-1]}, {result.seconds:.2f} s, {result.mib:.0f} MiB\n"
                      f"{result.message[:1800]}", flush=True)  # fmt: skip

    def print(self) -> None:
        """Print the table."""
        print(f"\n| reader | files | taken | refused | tracebacks | fail when used | hang or die | "
              f"over {SLOW_S:g} s | over {MORE_MIB} MiB more | messages over {LONG_MESSAGE} | "
              "slowest read | most memory | slowest render |")  # fmt: skip
        print("|---" * 13 + "|")
        for reader, c in self.outcomes.items():
            slowest, mib, rendered = self.most[reader]
            files = sum(c[o] for o in OUTCOMES)
            counts = (files, c["taken"], c["refused"], c["traceback"], c["broken"],
                      c["hangs"] + c["dies"], c["slow"], c["large"], c["long"])  # fmt: skip
            print(f"| {reader} | {' | '.join(map(str, counts))} | "
                  f"{slowest:.2f} s | {mib:.0f} MiB | {rendered:.1f} s |")  # fmt: skip
        print(f"\n{len(self.failures)} failures, {time.monotonic() - self._began:.0f} s")


def main() -> int:
    """Run it and return the exit code: 1 if anything failed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("number", nargs="?", type=int, default=5000, help="files in all")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--reader", choices=list(READERS), help="only this one")
    parser.add_argument("--case", type=int, help="only the file with this number, in this process")
    parser.add_argument("--show", type=int, default=40, help="kinds of failures that are printed")
    given = parser.parse_args()
    if given.case is not None:
        with tempfile.TemporaryDirectory() as folder:
            print(tried(given.reader, given.case, given.seed, Path(folder), Bench()))
        return 0
    readers = [given.reader] if given.reader else list(READERS)
    table = Table(given.show)
    run({reader: -(-given.number // len(readers)) for reader in readers}, given.seed, table.add)
    table.print()
    return 1 if table.failures else 0


if __name__ == "__main__":
    sys.exit(main())
