"""Whether what is said to be heard is heard: the model against the sound itself.

``python -m bench.heard [documents] [first] [plain]`` draws documents (sketches with shifts, tape,
half speed, reverse, replays, slots; recordings of a known note; flips of prints of those, with
pieces shifted, reversed, repeated; prints of such flips) and renders each layer by itself, through
all lines. In each stretch over which the model says the same notes, the lines of that sound's
spectrum are looked at: right is where the power belongs to the notes and their partials, and each
of the loud notes is there itself. Of the sum, the chord that is said must hold nearly as much power
as any other turn of it, and its root be there. How often that would be so by chance is told by
turning the notes by some semitones.
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
from cloudrift.loop.edits.bed import beds, hitting
from cloudrift.loop.edits.flip import cutting, flips, prints
from cloudrift.loop.edits.layers import layer_edits, line_edits, recordings
from cloudrift.loop.model.bed import BED
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.hits import Hit
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.sounding import heard
from cloudrift.loop.sounding.heard import PLAIN
from cloudrift.loop.sounding.rows import Rows
from cloudrift.loop.sounding.score import sounding
from cloudrift.render import Engine
from cloudrift.render.forms.printing import printed
from cloudrift.render.plan.plan import group_node
from cloudrift.render.plan.variants import alone
from cloudrift.style.card_files import house_cards
from cloudrift.style.sketch import sketch

OVER_DB, LEAST_S = -30.0, 0.16  # of stretches that are looked at
THERE_DB = -35.0  # under the loudest line: what is softer is none
LOW_HZ, HIGH_HZ, NEAR_CENTS = 60.0, 1500.0, 35.0
QUIET_S = 0.06  # before an onset that is looked at, and after
BLUR = 0.6  # of the width of a sound's spectrum: how far a line may be off
PARTIALS = (1, 3, 5)  # whose classes belong to a note; those of 2 and 4 are its own
BELONGS, THERE = 0.85, 0.99  # share of the power, and of the loud notes
ALIKE = 0.9  # of the power that the best turn of a chord holds
LOUD_DB = 3.0  # under the loudest note: what is said to be so loud must be there

MOVES = (
    ("shift", {"semitones": -3.0}), ("shift", {"semitones": 5.0}),
    ("shift", {"semitones": -2.0, "way": "like tape"}),
    ("shift", {"cents": -40.0, "way": "like tape"}),
    ("half speed", {}), ("reverse", {}), ("reverse", {"what": "whole"}), ("replay", {}),
    ("slots", {}), ("stutter", {}), ("harmoniser", {}),
)  # fmt: skip


class Measured(NamedTuple):
    """Of how many stretches was looked for, in how many was it right; cents off; how late (ms) what
    begins after a silence is in the sound. ``lows`` are the low drums and fresh basses, measured,
    that were held against the roots of the sum.
    """

    spans: int
    right: int
    chance: int
    chords: int
    roots: int
    chance_roots: int
    lows: int
    lows_right: int
    lows_chance: int
    cents: tuple[float, ...]
    onsets_ms: tuple[float, ...]


def drawn(number: int, clips: ClipStore, *, plain: bool = False) -> Document:
    """Return a document, by its number: the same number gives the same one.

    ``plain``: all of it is played by one sound that neither rings nor decays, and no treatment is
    there but those that move notes, so that only what is moved is measured.
    """
    rng = rng_for(number, "heard in sound")
    cards = list(house_cards().values())
    loop = sketch(cards[number % len(cards)], variation=number, bars=4)
    if plain:
        loop = in_plain_sound(loop)
    generations = int(rng.integers(0, 3))
    if not generations and rng.random() < 0.5:
        loop = _with_recording(loop, rng, clips)
    loop = _treated(loop, rng)
    document = Document.of(replace(loop, bed=None))
    for _generation in range(generations):
        document = _flipped(document, rng, clips)
    return document


def in_plain_sound(loop: Loop) -> Loop:
    """Return a loop played by one sound that neither rings nor decays, through nothing."""
    loop = line_edits.set_line(loop, None, ())
    for group in loop.groups:
        loop = line_edits.set_line(loop, group.id, ())
    for layer in loop.layers:
        loop = line_edits.set_line(loop, layer.id, ())
        loop = layer_edits.set_sound(loop, layer.id, "drawbar organ")
        for name in ("sub", "click", "rotor", "detune_cents"):
            loop = layer_edits.set_sound_setting(loop, layer.id, name, 0.0)
        loop = layer_edits.set_sound_setting(loop, layer.id, "release_ms", 10.0)
    return loop


def _with_recording(loop: Loop, rng: np.random.Generator, clips: ClipStore) -> Loop:
    """A note that is known to a cent, with its first four partials, shifted, in each bar."""
    pitch = float(rng.uniform(48, 72))
    t = np.arange(int(1.2 * loop.rate)) / loop.rate
    hz = 440 * 2 ** ((pitch - 69) / 12)
    tone = sum(np.sin(2 * np.pi * k * hz * t) * 0.6**k for k in range(1, 5))
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
    spans = right = chance = chords = roots = chance_roots = 0
    cents: list[float] = []
    onsets: list[float] = []
    stems = {x.id: engine.render(alone(loop, {x.id})).audio.mean(axis=0) for x in loop.heard()}
    loudest = max((_loudest(one, loop.rate) for one in stems.values()), default=0.0)
    for layer in loop.heard():
        rows = sounding(loop, layer).notes
        rows = rows[~np.isnan(rows["cents"]) & (rows["sure"] >= PLAIN)]
        onsets += _onsets_ms(rows, stems[layer.id], loop)
        for start, end, there in _stretches(rows, loop):
            part = _part(stems[layer.id], start, end, loop)
            if part is None or _rms(part) < loudest * 10 ** (OVER_DB / 20):
                continue
            lines = _lines(part, loop.rate)
            loud = there["cents"][there["db"] > there["db"].max() - LOUD_DB]
            fit = _fit(lines, there["cents"], loud)
            turn = 100.0 * int(rng.integers(1, 12))
            spans += 1
            right += fit.right
            chance += _fit(lines, there["cents"] + turn, loud + turn).right
            cents += [fit.off] if fit.right else []
    total = sum(one for at, one in stems.items() if not _is_foreign(loop, at))
    said, basses = heard(loop), _basses(loop, engine)
    lows = lows_right = lows_chance = 0
    # Where layers disagree, their sum is of two chords at once.
    for one in said.chords if not any(x.cents for x in said.disagreements) else ():
        part = _part(total, one.start_tick, one.end_tick, loop) if stems else None
        if part is None or one.is_written or _rms(part) < loudest * 10 ** (OVER_DB / 20):
            continue
        lines = _lines(part, loop.rate)
        voices = np.array([100.0 * v + one.cents for v in one.voices])
        root = np.array([100.0 * one.root + one.cents])
        turns = [_fit(lines, voices + 100 * turn, root + 100 * turn, (1,)) for turn in range(12)]
        most = max(fit.belongs for fit in turns)
        fits = [fit.belongs >= ALIKE * most and fit.there >= THERE for fit in turns]
        chords += 1
        roots += fits[0]
        other = int(rng.integers(1, 12))
        chance_roots += fits[other]
        for bass in basses:
            low = _part(bass, one.start_tick, one.end_tick, loop)
            above = (_lowest(low, loop.rate) - root[0]) / 100 if low is not None else np.nan
            if not np.isnan(above):
                lows += 1
                lows_right += fits[round(above) % 12]
                lows_chance += fits[(round(above) + other) % 12]
    return Measured(spans, right, chance, chords, roots, chance_roots, lows, lows_right,
                    lows_chance, tuple(cents), tuple(onsets))  # fmt: skip


def _basses(loop: Loop, engine: Engine) -> list[np.ndarray]:
    """The sound of a low drum at each root that is heard, and of a fresh bass under a flip."""
    bedded = beds.add_lane(replace(loop, bed=None), "low drum")
    lane = bedded.lanes[0].id
    bedded = beds.set_pattern_bars(bedded, loop.bars)
    hits = [Hit(tick=one.start_tick, length_ticks=one.end_tick - one.start_tick)
            for one in heard(loop).roots]  # fmt: skip
    bedded = hitting.with_hits(bedded, lane, hits)
    out = [engine.audio(group_node(bedded, BED, engine.tones))]
    flip = next((x for x in loop.heard() if x.flipped and x.flipped.chords), None)
    if flip is not None:
        with_bass = flips.put_bass(replace(loop, line=()), flip.id)
        out.append(engine.render(alone(with_bass, {with_bass.layers[-1].id})).audio)
    return [one.mean(axis=0) for one in out]


def _lowest(part: np.ndarray, rate: int) -> float:
    """The pitch of a bass in cents over C, when its strike is over; not a number where it rests."""
    part = part[int(0.06 * rate) : int(0.8 * rate)]
    if len(part) < 0.1 * rate or _rms(part) < 1e-3:
        return float("nan")
    long = 1 << 17
    power = np.abs(np.fft.rfft(part * np.hanning(len(part)), long)) ** 2
    hz = np.arange(len(power)) * rate / long
    inside = np.flatnonzero((hz > 25) & (hz < 140))
    return float(6900 + 1200 * np.log2(hz[inside[power[inside].argmax()]] / 440))


def _onsets_ms(rows: Rows, mono: np.ndarray, loop: Loop) -> list[float]:
    """How late notes that begin after a silence do so in the sound: when it is at a tenth of what
    it comes to in QUIET_S.
    """
    scale, quiet = len(mono) / loop.ticks, int(QUIET_S * loop.rate)
    starts = rows["start"] * scale
    out = []
    for start in starts:
        sounds = (starts < start - 1) & (rows["end"] * scale > start - quiet)
        first = round(start)
        if sounds.any() or first < quiet or first + quiet > len(mono):
            continue
        before, after = mono[first - quiet : first], np.abs(mono[first - quiet : first + quiet])
        if np.abs(before[: quiet // 2]).max() > 0.02 * after.max() or after.max() < 1e-3:
            continue  # something rings that is no note
        out.append(1e3 * (int(np.argmax(after > 0.1 * after.max())) - quiet) / loop.rate)
    return out


def _is_foreign(loop: Loop, layer_id: str) -> bool:
    """Whether it is a single note of no chord, which may lie anywhere."""
    recorded = loop.layer(layer_id).recorded
    return recorded is not None and bool(recorded.facts.pitch)


class Lines(NamedTuple):
    """The lines of a spectrum: where each is in its octave (cents over C), its power, and how near
    (cents) is there: a short sound tells a low line no better.
    """

    cents: np.ndarray
    power: np.ndarray
    near: np.ndarray


class Fit(NamedTuple):
    """What share of the power belongs to the notes, what share of them is there; cents off."""

    belongs: float
    there: float
    off: float

    @property
    def right(self) -> bool:
        """Whether what sounds is what is said."""
        return self.belongs >= BELONGS and self.there >= THERE


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


def _fit(
    lines: Lines, cents: np.ndarray, loud: np.ndarray, partials: tuple[int, ...] = PARTIALS
) -> Fit:
    """Hold the lines of a sound against notes; ``loud`` are those that must be there themselves."""
    classes = [(one + 1200 * np.log2(k)) % 1200 for one in cents for k in partials]
    off = np.array([_apart(lines.cents, one) for one in classes])
    near = np.abs(off).min(axis=0) <= lines.near
    belongs = float(lines.power[near].sum() / lines.power.sum())
    own = np.array([_apart(lines.cents, one) for one in loud])
    hit = np.abs(own) <= lines.near
    strong = lines.power > lines.power.max() * 10 ** (THERE_DB / 10)
    there = float((hit & strong).any(axis=1).mean())
    weight = lines.power * hit.any(axis=0)
    nearest = own[np.abs(own).argmin(axis=0), np.arange(own.shape[1])]
    mean = float((nearest * weight).sum() / weight.sum()) if weight.any() else 0.0
    return Fit(belongs, there, mean)


def _apart(cents: np.ndarray, one: float) -> np.ndarray:
    """How far lines are from a class, round the octave, in cents."""
    return np.asarray((cents - one + 600) % 1200 - 600)


def _lines(part: np.ndarray, rate: int) -> Lines:
    """The lines of a sound between 60 and 1500 Hz, each with its place between two bins."""
    long = 1 << 17
    power = np.abs(np.fft.rfft(part * np.hanning(len(part)), long)) ** 2
    hz = np.arange(len(power)) * rate / long
    top = np.zeros(len(power), bool)
    top[1:-1] = (power[1:-1] >= power[:-2]) & (power[1:-1] > power[2:])
    inside = (hz > LOW_HZ) & (hz < HIGH_HZ)
    top &= inside & (power > power[inside].max() * 10 ** (THERE_DB / 10))
    at = np.flatnonzero(top)
    near = np.maximum(NEAR_CENTS, 1200 * np.log2(1 + BLUR * rate / len(part) / hz[at]))
    return Lines((6900 + 1200 * np.log2(hz[at] / 440)) % 1200, power[at], near)


def main() -> None:
    """Print how much of what is said was right, and how long the model takes."""
    given = [one for one in sys.argv[1:] if one != "plain"]
    count = int(given[0]) if given else 40
    first = int(given[1]) if len(given) > 1 else 0
    plain = "plain" in sys.argv
    totals = np.zeros(9, int)
    cents: list[float] = []
    took: list[float] = []
    onsets: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        clips = ClipStore(Path(folder))
        for number in range(first, first + count):
            loop = drawn(number, clips, plain=plain).loop
            engine = Engine(clips=clips)
            one = measure(loop, engine)
            engine.close()
            begins = time.perf_counter()
            heard(replace(loop, layers=tuple(map(replace, loop.layers))))
            took.append(1e3 * (time.perf_counter() - begins))
            totals += one[:9]
            cents += one.cents
            onsets += one.onsets_ms
            kinds = [t.kind for line in (loop.line, *(x.line for x in loop.layers)) for t in line
                     if t.kind in {kind for kind, _settings in MOVES}]  # fmt: skip
            flips_ = sum(x.flipped is not None for x in loop.heard())
            print(f"{number}: {one.right} of {one.spans}, chords {one.roots} of {one.chords}, "
                  f"{flips_} flips, {', '.join(kinds)}", flush=True)  # fmt: skip
    off = np.abs(cents)
    print(f"| stretches over {OVER_DB:g} dB right | {100 * totals[1] / totals[0]:.1f} % of "
          f"{totals[0]} |")  # fmt: skip
    print(f"| right turned by some semitones | {100 * totals[2] / totals[0]:.1f} % |")
    print(f"| chords and roots right | {100 * totals[4] / totals[3]:.1f} % of {totals[3]} |")
    print(f"| right turned by some semitones | {100 * totals[5] / totals[3]:.1f} % |")
    print(f"| low drum and bass on a root of the sum | {100 * totals[7] / totals[6]:.1f} % of "
          f"{totals[6]} |")  # fmt: skip
    print(f"| right turned by some semitones | {100 * totals[8] / totals[6]:.1f} % |")
    print(f"| within 5 cents; median | {100 * np.mean(off <= 5):.1f} %; {np.median(off):.1f} |")
    late = np.array(onsets)
    if len(late):
        print(f"| onsets within 5 ms; median | {100 * np.mean(np.abs(late) <= 5):.1f} % of "
              f"{len(late)}; {np.median(late):+.1f} ms |")  # fmt: skip
    print(f"| the model, median | {np.median(took):.1f} ms |")


if __name__ == "__main__":
    main()
