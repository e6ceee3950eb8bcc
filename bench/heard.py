"""Whether what is said to be heard is heard: the model against the sound itself.

``python -m bench.heard [documents] [first]`` draws documents (sketches with shifts, tape, half
speed, reverse, replays, slots; recordings of a known note; flips of prints of those, with pieces
shifted, reversed, repeated; prints of such flips) and renders each layer by itself, through all
lines. Over each stretch in which the model says the same notes, the chroma of that sound (in
cents, folded to an octave) is held against the notes' partials, turned by each of twelve
semitones: the model is right where no other turn fits better. The same is done with the roots and
chords against the sum. By chance a turn would fit once in twelve.
"""

import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.clips import ClipStore
from cloudrift.ground.draws import rng_for
from cloudrift.loop.edits.flip import cutting, flips, prints
from cloudrift.loop.edits.layers import line_edits, recordings
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.sounding import heard
from cloudrift.loop.sounding.heard import PLAIN
from cloudrift.loop.sounding.rows import Rows
from cloudrift.loop.sounding.score import sounding
from cloudrift.render import Engine
from cloudrift.render.forms.printing import printed
from cloudrift.render.plan.variants import alone
from cloudrift.style.card_files import house_cards
from cloudrift.style.sketch import sketch

OVER_DB, LEAST_S = -30.0, 0.25  # of stretches that are looked at
THERE_DB = -40.0  # under the loudest line: what is softer is none
LOW_HZ, HIGH_HZ = 60.0, 2500.0
PARTIALS = (1.0, 0.8, 0.6, 0.5, 0.4)  # how much of each of a note's partials is taken to sound
SOFT_CENTS = 12.0
ALIKE, EQUAL = 0.97, 0.995  # notes that turned fit themselves as well tell nothing
MOVES = (
    ("shift", {"semitones": -3.0}), ("shift", {"semitones": 5.0}),
    ("shift", {"semitones": -2.0, "way": "like tape"}),
    ("shift", {"cents": -40.0, "way": "like tape"}),
    ("half speed", {}), ("reverse", {}), ("reverse", {"what": "whole"}), ("replay", {}),
    ("slots", {}), ("stutter", {}), ("harmoniser", {}),
)  # fmt: skip


class Measured(NamedTuple):
    """Of how many stretches was looked for, in how many was it right; and how many cents off."""

    spans: int
    right: int
    chance: int
    chords: int
    roots: int
    cents: tuple[float, ...]


def drawn(number: int, clips: ClipStore) -> Document:
    """Return a document, by its number: the same number gives the same one."""
    rng = rng_for(number, "heard in sound")
    cards = list(house_cards().values())
    loop = sketch(cards[number % len(cards)], variation=number, bars=4)
    if rng.random() < 0.25:
        loop = _with_recording(loop, rng, clips)
    loop = _treated(loop, rng)
    document = Document.of(replace(loop, bed=None))
    for _generation in range(int(rng.integers(0, 3))):
        document = _flipped(document, rng, clips)
    return document


def _with_recording(loop: Loop, rng: np.random.Generator, clips: ClipStore) -> Loop:
    """A note that is known to a cent, with its first four partials, shifted, in each bar."""
    pitch = float(rng.uniform(48, 72))
    t = np.arange(int(1.2 * loop.rate)) / loop.rate
    hz = 440 * 2 ** ((pitch - 69) / 12)
    tone = sum(np.sin(2 * np.pi * k * hz * t) * 0.6**k for k in range(1, 5)) * np.exp(-1.5 * t)
    clip = clips.record(np.tile(0.3 * tone, (2, 1)).astype(np.float32), loop.rate)
    facts = Facts(name="Known note", kind="phrase", length_s=1.2, pitch=round(pitch, 3), lufs=-20.0)
    source = FromRecording(clip=clip, facts=facts, semitones=float(rng.integers(-5, 6)),
                           every_bars=1)  # fmt: skip
    return recordings.add_recording(loop, source)


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


def measure(loop: Loop, engine: Engine) -> Measured:
    """Hold what is said of a loop against the sound of each of its layers, and of their sum."""
    rng = np.random.default_rng(7)
    spans = right = chance = chords = roots = 0
    cents: list[float] = []
    stems = {x.id: engine.render(alone(loop, {x.id})).audio.mean(axis=0) for x in loop.heard()}
    loudest = max((_loudest(one, loop.rate) for one in stems.values()), default=0.0)
    for layer in loop.heard():
        rows = sounding(loop, layer).notes
        rows = rows[~np.isnan(rows["cents"]) & (rows["sure"] >= PLAIN)]
        for start, end, there in _stretches(rows, loop):
            part = _part(stems[layer.id], start, end, loop)
            if part is None or _rms(part) < loudest * 10 ** (OVER_DB / 20):
                continue
            found = _turns(part, loop.rate, there["cents"], _weights(there))
            if found is None:
                continue
            spans += 1
            right += found.best == 0
            chance += bool(found.fits[int(rng.integers(1, 12))] >= found.fits[0])
            cents += [found.off] if found.best == 0 else []
    total = sum(stems.values())
    for one in heard(loop).chords:
        part = _part(total, one.start_tick, one.end_tick, loop) if stems else None
        if part is None or one.is_written or _rms(part) < loudest * 10 ** (OVER_DB / 20):
            continue
        voices = np.array([100.0 * v + one.cents for v in one.voices])
        found = _turns(part, loop.rate, voices, np.ones(len(voices)))
        if found is not None:
            chords += 1
            roots += found.best == 0
    return Measured(spans, right, chance, chords, roots, tuple(cents))


class Turns(NamedTuple):
    """How well notes fit a sound, turned by 0 to 11 semitones; the best; how far off in cents."""

    fits: np.ndarray
    best: int
    off: float


def _stretches(rows: Rows, loop: Loop) -> list[tuple[float, float, Rows]]:
    """Where the same notes are said, the longest first; those at a note's beginning."""
    edges = np.unique(np.round(np.concatenate([rows["start"], rows["end"], [0, loop.ticks]])))
    ticks_s = loop.sounding_frames / loop.rate / loop.ticks
    out = []
    for a, b in pairwise(edges):
        there = rows[(rows["start"] <= a + 1) & (rows["end"] >= b - 1)]
        if len(there) and (b - a) * ticks_s >= LEAST_S:
            out.append((float(a), float(b), there))
    return out


def _part(mono: np.ndarray, start: float, end: float, loop: Loop) -> np.ndarray | None:
    scale = len(mono) / loop.ticks
    part = mono[int(start * scale + 0.02 * loop.rate) : int(end * scale)]
    return part if len(part) >= 0.8 * LEAST_S * loop.rate else None


def _rms(part: np.ndarray) -> float:
    return float(np.sqrt(np.mean(part**2)))


def _loudest(mono: np.ndarray, rate: int) -> float:
    count = max(1, len(mono) // (rate // 4))
    return max(_rms(part) for part in np.array_split(mono, count))


def _weights(rows: Rows) -> np.ndarray:
    return np.asarray(np.maximum(1 - (rows["db"] - rows["db"].max()) / THERE_DB, 0))


def _turns(part: np.ndarray, rate: int, cents: np.ndarray, weights: np.ndarray) -> Turns | None:
    """Hold the partials of notes against the chroma of a sound, turned by semitones and by cents.

    None where notes are the same turned otherwise (an augmented chord), so that nothing is told.
    """
    chroma = _chroma(part, rate)
    wanted = np.zeros(1200)
    for one, weight in zip(cents, weights, strict=True):
        for partial, share in enumerate(PARTIALS, 1):
            at = round(one + 1200 * np.log2(partial)) % 1200
            wanted[at] += weight * share
    soft = np.exp(-0.5 * ((np.arange(1200) + 600) % 1200 - 600) ** 2 / SOFT_CENTS**2)
    near = np.fft.rfft(soft)
    chroma, wanted = (np.fft.irfft(np.fft.rfft(one) * near, 1200) for one in (chroma, wanted))
    own = _against(wanted, wanted)[::100]
    if np.sort(own)[-2] > ALIKE * own[0]:
        return None
    fits = _against(chroma, wanted)
    best = int(np.argmax(fits[::100]))
    if fits[::100][0] >= EQUAL * fits[::100].max():
        best = 0
    around = np.roll(fits, 50)[:101]
    return Turns(fits[::100], best, float(np.argmax(around) - 50))


def _against(chroma: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """How well a pattern fits, turned by 0 to 1199 cents."""
    return np.fft.irfft(np.fft.rfft(chroma) * np.conj(np.fft.rfft(wanted)), 1200)


def _chroma(part: np.ndarray, rate: int) -> np.ndarray:
    """How much sounds at each cent of the octave: lines of the spectrum between 60 and 2500 Hz."""
    long = 1 << 17
    power = np.abs(np.fft.rfft(part * np.hanning(len(part)), long))
    hz = np.arange(len(power)) * rate / long
    top = np.zeros(len(power), bool)
    top[1:-1] = (power[1:-1] >= power[:-2]) & (power[1:-1] > power[2:])
    top &= (hz > LOW_HZ) & (hz < HIGH_HZ) & (power > power.max() * 10 ** (THERE_DB / 20))
    at = np.round(6900 + 1200 * np.log2(hz[top] / 440)).astype(int) % 1200
    # A soft note is as much there as a loud one: what counts is how far it is over nothing.
    over = np.maximum(1 - 20 * np.log10(power[top] / power[top].max()) / THERE_DB, 0)
    return np.bincount(at, over, 1200)


def main() -> None:
    """Print how much of what is said was right, and how long the model takes."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    totals = np.zeros(5, int)
    cents: list[float] = []
    took: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        clips = ClipStore(Path(folder))
        for number in range(first, first + count):
            loop = drawn(number, clips).loop
            engine = Engine(clips=clips)
            one = measure(loop, engine)
            engine.close()
            begins = time.perf_counter()
            heard(replace(loop, layers=tuple(map(replace, loop.layers))))
            took.append(1e3 * (time.perf_counter() - begins))
            totals += one[:5]
            cents += one.cents
            kinds = [t.kind for line in (loop.line, *(x.line for x in loop.layers)) for t in line
                     if t.kind in {kind for kind, _settings in MOVES}]  # fmt: skip
            flips_ = sum(x.flipped is not None for x in loop.heard())
            print(f"{number}: {one.right} of {one.spans}, chords {one.roots} of {one.chords}, "
                  f"{flips_} flips, {', '.join(kinds)}", flush=True)  # fmt: skip
    off = np.abs(cents)
    print(f"| stretches over {OVER_DB:g} dB right | {100 * totals[1] / totals[0]:.1f} % of "
          f"{totals[0]} |")  # fmt: skip
    print(f"| as good turned by chance | {100 * totals[2] / totals[0]:.1f} % |")
    print(f"| chords and roots right | {100 * totals[4] / totals[3]:.1f} % of {totals[3]} |")
    print(f"| within 5 cents; median | {100 * np.mean(off <= 5):.1f} %; {np.median(off):.1f} |")
    print(f"| the model, median | {np.median(took):.1f} ms |")


if __name__ == "__main__":
    main()
