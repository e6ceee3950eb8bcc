"""Whether what is said to be heard is heard: the model's notes against the sound itself.

``python -m bench.heard [documents]`` draws documents (sketches with shifts, tape, half speed,
reverse, replays, slots; flips of prints of those, with pieces shifted, reversed, repeated; prints
of such flips), renders each and looks for every note that the model says in the spectrum there.
"""

import sys
import tempfile
import time
from pathlib import Path
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.ground.draws import rng_for
from cloudrift.loop.edits.flip import cutting, flips, prints
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import heard
from cloudrift.loop.sounding.score import sounding
from cloudrift.render import Engine
from cloudrift.render.forms.printing import printed
from cloudrift.style.card_files import house_cards
from cloudrift.style.sketch import sketch

OVER_DB, LEAST_S, LONG_S = -30.0, 0.2, 0.5  # notes that are looked for, and how much of each
THERE_DB = -34.0  # under the loudest line there: what a note's line must be over
NEAR_CENTS = 30.0
STANDS = 3.0  # times as high as what is around it
MOVES = (
    ("shift", {"semitones": -3.0}), ("shift", {"semitones": 5.0}),
    ("shift", {"semitones": -2.0, "way": "like tape"}),
    ("shift", {"cents": -40.0, "way": "like tape"}),
    ("half speed", {}), ("reverse", {}), ("reverse", {"what": "whole"}), ("replay", {}),
    ("slots", {}), ("stutter", {}), ("harmoniser", {}),
)  # fmt: skip


class Measured(NamedTuple):
    """How many notes were looked for and found, how many a semitone beside were; cents off."""

    asked: int
    found: int
    wrong: int
    cents: tuple[float, ...]


def drawn(number: int, clips: ClipStore) -> Document:
    """Return a document, by its number: the same number gives the same one."""
    rng = rng_for(number, "heard in sound")
    cards = list(house_cards().values())
    loop = sketch(cards[number % len(cards)], variation=number, bars=4)
    loop = _treated(loop, rng)
    document = Document.of(replace(loop, bed=None))
    for _generation in range(int(rng.integers(0, 3))):
        document = _flipped(document, rng, clips)
    return document


def _treated(loop: Loop, rng: np.random.Generator) -> Loop:
    lines = [None, *(layer.id for layer in loop.layers)]
    for _i in range(int(rng.integers(0, 3))):
        kind, settings = MOVES[int(rng.integers(len(MOVES)))]
        at = lines[int(rng.integers(len(lines)))]
        loop = line_edits.add_treatment(loop, at, kind)
        added = loop.line_of(at)[-1]
        for name, value in settings.items():
            loop = line_edits.set_treatment_setting(loop, at, added.id, name, value)
    return loop


def _flipped(document: Document, rng: np.random.Generator, clips: ClipStore) -> Document:
    """Print a document's loop, cut the print and play the pieces otherwise, beside one layer."""
    loop = prints.loop_to_print(document.loop)
    made = printed(loop, "Print", clips)
    document = prints.with_print(document, loop, made.clip, made.facts, (), made.gain_db)
    layer = document.loop.layers[-1]
    flip = flips.flip_in(document.loop, layer.id)
    flip = cutting.cut(flip, cutting.cuts_at(flip, "beats", loop.metre))
    order = rng.permutation(len(flip.places))
    shift = float(rng.choice([0.0, 0.0, -6.0, 3.0]))
    places = tuple(
        replace(
            place, from_tick=flip.places[int(order[i])].from_tick, semitones=shift,
            backward=bool(rng.random() < 0.3), tape=bool(rng.random() < 0.5),
        )
        for i, place in enumerate(flip.places)
    )  # fmt: skip
    loop = document.loop.with_owner(layer.id, source=replace(flip, places=places))
    return document.with_loop(flips.use_instead(loop, layer.id, ()))


def measure(loop: Loop, audio: Stereo) -> Measured:
    """Look for every note that a loop is said to be heard with in its sound, (2, n)."""
    ticks_s = audio.shape[1] / loop.rate / loop.ticks
    rows = np.concatenate([sounding(loop, layer).notes for layer in loop.heard()])
    rows = rows[rows["db"] > rows["db"].max() + OVER_DB]
    mono = audio.mean(axis=0)
    asked = found = wrong = 0
    cents: list[float] = []
    for row in rows:
        start, end = row["start"] * ticks_s, row["end"] * ticks_s
        if end - start < LEAST_S:
            continue
        parts = _parts(mono, start + 0.01, end, loop.rate)
        if not parts:
            continue
        off = _near(parts, loop.rate, float(row["cents"]))
        beside = {round(c) % 1200 for c in rows["cents"][_at_once(rows, row)]}
        other = next((s for s in (100, -100, 200, -200, 600) if _free(beside, row["cents"] + s)), 0)
        asked += 1
        found += off is not None
        cents += [off] if off is not None else []
        wrong += other != 0 and _near(parts, loop.rate, float(row["cents"]) + other) is not None
    return Measured(asked, found, wrong, tuple(cents))


def _parts(mono: np.ndarray, start: float, end: float, rate: int) -> list[np.ndarray]:
    """The start and the end of a note: what is reversed is loud at its end."""
    long = min(end - start, LONG_S)
    parts = [mono[int(at * rate) : int((at + long) * rate)] for at in {start, end - long}]
    return [
        part for part in parts if len(part) > 0.8 * LEAST_S * rate and np.abs(part).max() > 1e-3
    ]


def _near(parts: list[np.ndarray], rate: int, cents: float) -> float | None:
    found = (_line_near(part, rate, cents) for part in parts)
    return next((one for one in found if one is not None), None)


def _at_once(rows: np.ndarray, row: np.ndarray) -> np.ndarray:
    return np.asarray((rows["start"] < row["end"] + 960) & (rows["end"] > row["start"] - 960))


def _free(beside: set[int], cents: float) -> bool:
    return all(abs((cents - one + 600) % 1200 - 600) > 60 for one in beside)


def _line_near(part: np.ndarray, rate: int, cents: float) -> float | None:
    """How many cents off the loudest line of a pitch, or its octave, is; None where none stands."""
    long = 1 << 16
    power = np.abs(np.fft.rfft(part * np.hanning(len(part)), long))
    hz = rate / long
    floor = power.max() * 10 ** (THERE_DB / 20)
    for times in (1, 2):
        wanted = times * 440 * 2 ** ((cents / 100 - 69) / 12)
        low, high = (int(wanted * 2 ** (c / 1200) / hz) for c in (-NEAR_CENTS, NEAR_CENTS))
        if high + 2 >= len(power) or low < 2:
            continue
        near = power[low : high + 2]
        top = low + int(near.argmax())
        around = power[int(low * 0.94) : int(high * 1.06) + 2]
        stands = power[top] > STANDS * np.median(around)
        if power[top] > floor and stands and power[top] >= max(power[top - 1], power[top + 1]):
            return float(1200 * np.log2(top * hz / wanted))
    return None


def main() -> None:
    """Print how much of what is said was found, and how long the model takes."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    totals = np.zeros(3, int)
    cents: list[float] = []
    took: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        clips = ClipStore(Path(folder))
        for number in range(count):
            document = drawn(number, clips)
            engine = Engine(clips=clips)
            audio = engine.render(document.loop).audio
            engine.close()
            begins = time.perf_counter()
            heard(replace(document.loop, layers=tuple(map(replace, document.loop.layers))))
            took.append(1e3 * (time.perf_counter() - begins))
            one = measure(document.loop, audio)
            totals += one[:3]
            cents += one.cents
            print(f"{number}: {one.found} of {one.asked}, {heard(document.loop).key.text}")
    print(
        f"| notes over {OVER_DB:g} dB found | {100 * totals[1] / totals[0]:.1f} % of {totals[0]} |"
    )
    print(f"| found where none is said | {100 * totals[2] / totals[0]:.1f} % |")
    print(f"| cents off, median and 95 % | {np.median(np.abs(cents)):.1f}, "
          f"{np.quantile(np.abs(cents), 0.95):.1f} |")  # fmt: skip
    print(f"| the model, median | {np.median(took):.1f} ms |")


if __name__ == "__main__":
    main()
