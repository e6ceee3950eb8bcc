"""Kill a program that saves, at any moment, and look at what is on the disk: ``-m tools.killed``.

A child process saves a loop, changes it, and keeps what is unsaved, again and again; it is killed
(SIGKILL) after a random while. Each time the file must be whole, one of the two that were written
last; what is offered must be whole, as the child had it; nothing half written may lie about.
"""

import argparse
import os
import random
import select
import signal
import sys
import tempfile
import time
from pathlib import Path

import msgspec

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import remove_old_parts
from cloudrift.loop.edits.loop_edits import set_title
from cloudrift.loop.files.recovery import RUNNING, Shelter, left_behind
from cloudrift.loop.files.storage import load, save
from cloudrift.loop.model.loop import Loop
from cloudrift.style import find_card, sketch

NAME = "Ice Road.cloudrift"
BETWEEN: list[str] = []  # what had been written and had not taken its place yet
LONGEST_S = 0.05  # until it is killed, from its first step on


def written(number: int) -> Loop:
    """The loop of a step."""
    base = sketch(find_card("Marlow Quist"), variation=1, bars=8, title="Ice Road")
    return set_title(base, f"Ice Road {number}")


def _save_for_ever(folder: Path, told: int) -> None:
    """Save, keep, tell how far it is; never ends by itself."""
    shelter = Shelter(folder / "unsaved")
    loop = written(0)
    number = 0
    while True:
        number += 1
        loop = msgspec.structs.replace(loop, title=f"Ice Road {number}")
        save(loop, folder / NAME)
        os.write(told, f"s{number}\n".encode())
        shelter.keep(loop, folder / NAME, shelter.clips)
        os.write(told, f"k{number}\n".encode())
        if number % 7 == 0:
            shelter.forget()
            os.write(told, f"f{number}\n".encode())


def once(folder: Path, rng: random.Random) -> list[str]:
    """Let a child save, kill it, and return what is wrong then."""
    (folder / "unsaved").mkdir(exist_ok=True)
    for old in (folder / "unsaved").iterdir():
        old.rmdir() if old.is_dir() else old.unlink()
    hears, tells = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            _save_for_ever(folder, tells)
        finally:
            os._exit(1)
    os.close(tells)
    select.select([hears], [], [], 10)  # its first step
    time.sleep(rng.random() * LONGEST_S)
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    said = b""
    while part := os.read(hears, 1 << 16):
        said += part
    os.close(hears)
    steps = said.decode().split()
    return _looked_at(folder, steps)


def _looked_at(folder: Path, steps: list[str]) -> list[str]:
    def last(kind: str) -> int:
        return max((int(step[1:]) for step in steps if step[0] == kind), default=0)

    wrong = []
    try:
        title = load(folder / NAME).title
        if title not in (f"Ice Road {last('s')}", f"Ice Road {last('s') + 1}"):
            wrong.append(f"the file holds {title}, {last('s')} was saved")
    except ValueError as error:
        wrong.append(f"the file is not whole: {error}")
    left = left_behind(ClipStore(), folder / "unsaved", wrong.append)
    kept, forgotten = last("k"), last("f")
    # What was under way when it ended may be there or not.
    may = {f"Ice Road {kept}", f"Ice Road {kept + 1}"}
    must = kept > forgotten and kept % 7 != 0
    if (
        len(left) > 1
        or any(one.document.loop.title not in may for one in left)
        or (must and not left)
    ):
        titles = [one.document.loop.title for one in left]
        wrong.append(f"offered are {titles}, kept was {kept}, forgotten {forgotten}")
    if any(one.origin != folder / NAME for one in left):
        wrong.append("what is offered is from elsewhere")
    offered = {one.file.stem for one in left}
    wrong += [f"the lock {one.name} is left" for one in (folder / RUNNING).glob("*")
              if one.name not in offered]  # fmt: skip
    parts = [one.name for place in (folder, folder / "unsaved") for one in place.glob(".*.part")]
    BETWEEN.extend(parts)
    for place in (folder, folder / "unsaved"):
        remove_old_parts(place, older_than_s=-1)  # as the next start and the next save do
        wrong += [f"left half written: {one.name}" for one in place.glob(".*")]
    return wrong


def main() -> int:
    """Do it many times and return the exit code: 1 if anything was wrong."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("number", nargs="?", type=int, default=1000, help="how often it is killed")
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    rng = random.Random(given.seed)
    began, wrong = time.monotonic(), 0
    with tempfile.TemporaryDirectory() as folder:
        for number in range(given.number):
            for words in once(Path(folder), rng):
                wrong += 1
                print(f"{number}: {words}", flush=True)
    print(f"killed {given.number} times in {time.monotonic() - began:.0f} s; {wrong} were wrong; "
          f"{len(BETWEEN)} whole files had not taken their places, and were removed")  # fmt: skip
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
