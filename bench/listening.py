"""How well recordings are heard: ``python -m bench.listening [count]``.

The loops, whose tempo and key are known, are numbers 1000 and up of ``found_loops``: none that
anything was fitted to.
"""

import os
import sys
from concurrent.futures import ProcessPoolExecutor
from typing import NamedTuple

import numpy as np

from bench.found_loops import found
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.listening import listen_to
from cloudrift.render import Engine
from cloudrift.theory.fit import relative_of

FIRST = 1000
NEAR_BPM, NEAR_S = 0.1, 0.015


class Result(NamedTuple):
    sort: str
    tempo: bool
    tempo_sure: float
    beats: float  # share of beats within NEAR_S
    key: bool
    related: bool
    key_sure: float
    kind: str


def one(number: int) -> Result:
    drawn = found(number)
    engine = Engine()
    try:
        audio = engine.render(drawn.loop).audio
    finally:
        engine.close()
    heard = listen_to(audio, drawn.loop.rate)
    tempo = drawn.loop.sounding_tempo
    beat = 60 / tempo
    off = [abs((b + beat / 2) % beat - beat / 2) for b in heard.beats_s]
    wanted = key_heard(drawn.loop)
    keys = heard.keys
    got = (keys[0].key.pc, keys[0].key.mode) if keys else (-1, "")
    relative = relative_of(wanted)
    return Result(
        drawn.sort, bool(heard.tempos) and abs(heard.tempos[0].tempo - tempo) <= NEAR_BPM,
        heard.tempos[0].confidence if heard.tempos else 0.0,
        float(np.mean([x <= NEAR_S for x in off])) if off else 0.0,
        got == (wanted.pc, wanted.mode),
        got in ((wanted.pc, wanted.mode), (relative.pc, relative.mode)),
        keys[0].confidence if keys else 0.0, heard.kind,
    )  # fmt: skip


def table(results: list[Result]) -> None:
    print("| loops | count | tempo within 0.1 BPM | beats within 15 ms | key | key or relative |")
    print("|---|---|---|---|---|---|")
    sorts = {"with drums": ("drums",), "plucked and struck": ("struck",), "held alone": ("held",),
             "all": ("drums", "struck", "held")}  # fmt: skip
    for name, among in sorts.items():
        some = [r for r in results if r.sort in among]
        right = [r for r in some if r.tempo]
        print(f"| {name} | {len(some)} | {np.mean([r.tempo for r in some]):.1%} | "
              f"{np.mean([r.beats for r in right]):.1%} of those of right tempo | "
              f"{np.mean([r.key for r in some]):.1%} | "
              f"{np.mean([r.related for r in some]):.1%} |")  # fmt: skip
    print("\n| sure | tempos | right | keys | right |\n|---|---|---|---|---|")
    for low, high in ((0, 0.5), (0.5, 0.7), (0.7, 0.9), (0.9, 1.01)):
        tempos = [r.tempo for r in results if low <= r.tempo_sure < high]
        keys = [r.key for r in results if low <= r.key_sure < high]
        shares = [f"{np.mean(x):.0%}" if x else "none" for x in (tempos, keys)]
        print(f"| {low:.0%} to {min(high, 1):.0%} | {len(tempos)} | {shares[0]} | {len(keys)} | "
              f"{shares[1]} |")  # fmt: skip


if __name__ == "__main__":
    os.environ["OPENBLAS_NUM_THREADS"] = "1"
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    with ProcessPoolExecutor(2) as pool:
        table(list(pool.map(one, range(FIRST, FIRST + count), chunksize=4)))
