"""The notes and chords of each kind of source, as they go into a layer's line."""

from typing import NamedTuple

import numpy as np

from cloudrift.ground.lru import by_identity
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.flip import Flipped, SlicePlacement
from cloudrift.loop.model.hits import Hits
from cloudrift.loop.model.known_score import KnownScore
from cloudrift.loop.model.layer import Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.recorded import Facts, FromRecording
from cloudrift.loop.model.source import FromChords, OwnNotes
from cloudrift.loop.sounding.fitted import Fitted, fitted
from cloudrift.loop.sounding.rows import (
    MODES,
    OCTAVE,
    SHORTEST_TICKS,
    Rows,
    moved,
    none,
    power_of,
    rows,
    shifted,
    together,
    wrapped,
)
from cloudrift.notes.find_chords import find_chords, is_chordal
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.texture.moves import Move
from cloudrift.theory.key import Key

PLAYED_LUFS = -20.0  # how loud a house sound plays the chords it is levelled on
USUAL_VELOCITY = 90.0
BROKEN_SURE, BASS_SURE = 0.5, 0.4  # how surely notes that are no chords tell what chord is meant
MOST_FOUND = 2000  # notes that chords are looked for in


class Harmony(NamedTuple):
    """A chord that rows refer to by number (``note``): its root and its voices, unshifted."""

    root: int
    voices: tuple[int, ...]


class Sounding(NamedTuple):
    """What sounds of a layer: its notes, and the chords and keys that it is of.

    Rows of ``harmony`` have the root as their pitch and, as ``note``, a number in ``chords``; where
    only a key is known they have neither. ``voices`` names those of a print.
    """

    notes: Rows
    harmony: Rows
    chords: tuple[Harmony, ...] = ()
    voices: tuple[str, ...] = ()


SILENT = Sounding(none(), none())


def of_key(key: Key | None) -> dict[str, float]:
    """Return the columns that say which key rows are of."""
    if key is None:
        return {}
    return {"tonic": 100.0 * key.pc, "mode": MODES.index(key.mode)}


def of_source(loop: Loop, layer: Layer, tempo: float) -> Sounding:
    """Return what sounds of a layer in front of its line, played at a tempo (BPM)."""
    source = layer.source
    match source:
        case Hits():
            return SILENT  # lanes of the groove bed follow what sounds: see ``bed``
        case Flipped():
            return _of_flip(source, loop.ticks, tempo)
        case FromRecording():
            return _of_recording(source, loop.ticks, loop.metre, tempo)
        case _ if source.is_silent or not source.sound.of.tuned:
            return SILENT
        case FromChords():
            return _of_chords(
                layer.source.notes_in(loop.around), loop.chords, loop.key, loop.ticks, tempo
            )
        case OwnNotes():
            bass = layer.role == "bass"
            return _of_own(
                layer.source.notes_in(loop.around), loop.key, loop.metre, loop.ticks, tempo, bass
            )


def played(notes: tuple[Note, ...], ticks: int, tempo: float, key: Key | None) -> Rows:
    """Return notes as rows, where they are played."""
    if not notes:
        return none()
    start, length, pitch, velocity, late = np.array(
        [(n.start_tick, n.length_ticks, n.pitch, n.velocity, n.offset_ms) for n in notes], float
    ).T
    start = start + late * tempo / 60_000 * TICKS_PER_QUARTER
    out = rows(
        len(notes),
        start=start,
        end=start + np.maximum(length, SHORTEST_TICKS),
        cents=100 * pitch,
        db=PLAYED_LUFS + 30 * np.log10(velocity / USUAL_VELOCITY),
        note=np.arange(len(notes)),
        **of_key(key),
    )
    return wrapped(out, ticks)


@by_identity(512)
def _of_chords(
    notes: tuple[Note, ...], chords: tuple[Chord, ...], key: Key, ticks: int, tempo: float
) -> Sounding:
    found = tuple(Harmony(c.root, c.sounding) for c in chords)
    spans = [(c.start_tick + c.late_ticks, c.end_tick) for c in chords]
    sounding = played(notes, ticks, tempo, key)
    if len(sounding):
        roots = np.array([100.0 * c.root for c in chords])
        which = np.array([n.chord for n in notes])[sounding["note"]]
        known = (which >= 0) & (which < len(chords))
        sounding["root"][known] = roots[which[known]]
    if not len(sounding):
        return Sounding(sounding, none(), found)
    return Sounding(sounding, chord_rows(spans, found, key, db=_loud(sounding, spans)), found)


def _loud(notes: Rows, spans: list[tuple[int, int]]) -> float:
    """How loud notes are over the chords that they are of, dB: what chords speak with."""
    ticks = sum(end - start for start, end in spans)
    return float(10 * np.log10(max(float(power_of(notes).sum()) / max(ticks, 1), 1e-12)))


def chord_rows(
    spans: list[tuple[int, int]],
    chords: tuple[Harmony, ...],
    key: Key | None,
    sure: float = 1.0,
    db: float = PLAYED_LUFS,
) -> Rows:
    """Return rows of chords: from one tick to another, the number of a chord."""
    roots = np.array([100.0 * one.root for one in chords])
    return rows(
        len(spans),
        start=[a for a, _b in spans],
        end=[b for _a, b in spans],
        cents=roots,
        root=roots,
        db=db,
        sure=sure,
        note=np.arange(len(spans)),
        **of_key(key),
    )


def key_rows(ticks: float, key: Key | None, sure: float, db: float = PLAYED_LUFS) -> Rows:
    """Return the row of what has a key, and no chords that are known."""
    if key is None:
        return none()
    return rows(1, start=0.0, end=ticks, cents=np.nan, db=db, sure=sure, **of_key(key))


@by_identity(512)
def _of_own(
    notes: tuple[Note, ...], key: Key, metre: tuple[int, int], ticks: int, tempo: float, bass: bool
) -> Sounding:
    """Notes that follow no chords: which chords they are of is found in them."""
    sounding = played(notes, ticks, tempo, key)
    if not notes:
        return SILENT
    if bass:
        found = tuple(Harmony(n.pitch % 12, (n.pitch,)) for n in notes)
        spans = [(n.start_tick, n.end_tick) for n in notes]
        harmony = chord_rows(spans, found, key, BASS_SURE, _loud(sounding, spans))
        return Sounding(sounding, harmony, found)
    if len(notes) <= MOST_FOUND:
        made = [c for c in find_chords(notes, metre) if len(set(c.voices)) > 2]
        found = tuple(Harmony(c.root, c.voices) for c in made)
        spans = [(c.start_tick, c.end_tick) for c in made]
        if found:
            sure = 1.0 if is_chordal(notes) else BROKEN_SURE
            harmony = chord_rows(spans, found, key, sure, _loud(sounding, spans))
            return Sounding(sounding, harmony, found)
    return Sounding(sounding, key_rows(ticks, key, 1.0, _loud(sounding, [(0, ticks)])))


# --- recordings -----------------------------------------------------------------------------------


@by_identity(256)
def _known(score: KnownScore | None, facts: Facts) -> Sounding:
    """What is known of a recording, in its own time: rows in milliseconds."""
    loud = facts.lufs
    sure = facts.key_sure or 1.0
    if score is None:
        note = none()
        if facts.pitch:
            note = rows(1, start=0.0, end=1000 * facts.length_s, cents=100 * facts.pitch, db=loud)
        return Sounding(note, key_rows(1000 * facts.length_s, facts.key, sure, loud))
    key = of_key(facts.key)
    notes = none()
    if score.notes:
        start, long, cents, tenths, who = np.array(score.notes, float).T
        notes = rows(
            len(score.notes), start=start, end=start + long, cents=cents, db=tenths / 10,
            who=who, note=np.arange(len(score.notes)), sure=score.sure, **key,
        )  # fmt: skip
    found = tuple(Harmony(root // 100, voices) for _a, _long, root, voices in score.chords)
    if not score.chords:
        return Sounding(notes, key_rows(1000 * facts.length_s, facts.key, sure, loud), (),
                        score.voices)  # fmt: skip
    harmony = rows(
        len(score.chords),
        start=[a for a, *_ in score.chords],
        end=[a + long for a, long, *_ in score.chords],
        cents=[root for *_, root, _voices in score.chords],
        root=[root for *_, root, _voices in score.chords],
        db=loud,
        sure=min(score.sure, sure),
        note=np.arange(len(score.chords)),
        **key,
    )
    return Sounding(notes, harmony, found, score.voices)


def _laid(of: Rows, fit: Fitted, source: FromRecording, tempo: float) -> Rows:
    """Rows of a recording (ms), fitted: ticks from its place in the loop, at the pitch it has."""
    if not len(of):
        return of
    ms = 1000.0
    of = of[(of["end"] > source.first_s * ms) & (of["start"] < source.end_s * ms)].copy()
    there, wanted = (np.array(column) for column in zip(*fit.places, strict=True))
    per_s = tempo / 60 * TICKS_PER_QUARTER
    for name in ("start", "end"):
        heard = np.interp(of[name] / ms, there, wanted)
        of[name] = (heard - fit.origin_s) / fit.speed * per_s
    return shifted(of, _shift_of(source, fit), source.gain_db)


def _shift_of(source: FromRecording, fit: Fitted) -> float:
    """How far a recording's pitch goes, shifted and by tape, in cents."""
    return 100 * source.semitones + OCTAVE * float(np.log2(fit.speed))


@by_identity(256)
def _of_recording(
    source: FromRecording, ticks: int, metre: tuple[int, int], tempo: float
) -> Sounding:
    known = _known(source.facts.score, source.facts)
    fit = fitted(source, tempo)
    every = source.every_bars * bar_ticks(metre)
    first = source.at_tick % ticks
    starts = list(range(first, ticks, every)) if every else [first]
    ends = source.facts.kind == "loop" and every > 0

    def over_loop(of: Rows) -> Rows:
        one = _laid(of, fit, source, tempo)
        if source.facts.kind == "bed" and len(one):  # it goes on all over the loop
            one["start"], one["end"] = 0.0, ticks
            return one[:1]
        out = []
        for start, then in zip(starts, [*starts[1:], ticks], strict=True):
            turn = one.copy()
            turn["start"] += start
            turn["end"] += start
            if ends:
                turn["end"] = np.minimum(turn["end"], then)
                turn = turn[turn["end"] - turn["start"] > SHORTEST_TICKS]
            turn["place"] = start
            out.append(wrapped(turn, ticks))
        return together(out)

    return known._replace(notes=over_loop(known.notes), harmony=over_loop(known.harmony))


# --- flips ----------------------------------------------------------------------------------------


@by_identity(256)
def _of_flip(flip: Flipped, ticks: int, tempo: float) -> Sounding:
    source = flip.of
    known = _known(source.facts.score, source.facts)
    fit = fitted(source, tempo, flip.longer)
    shift = _shift_of(source, fit)
    harmony, chords = known.harmony, known.chords
    if flip.chords:
        chords = tuple(Harmony(c.root, c.sounding) for c in flip.chords)
        spans = [(c.start_tick, c.end_tick) for c in flip.chords]
        facts = source.facts
        harmony = chord_rows(spans, chords, facts.key, facts.key_sure or 1.0, facts.lufs)
        harmony = shifted(harmony, shift, source.gain_db)
    else:
        harmony = _laid(harmony, fit, source, tempo)
    notes = _laid(known.notes, fit, source, tempo)
    total = fit.long_s * tempo / 60 * TICKS_PER_QUARTER
    round_ = source.facts.kind == "loop"

    def over_loop(of: Rows, turn: float) -> Rows:
        if turn:
            of = wrapped(of, turn)
        out = []
        for number, place in enumerate(flip.places):
            if place.mute or place.at_tick >= ticks:
                continue
            moves = _moves_of(place, min(place.end_tick, ticks))
            for move, cents in moves:
                part = moved(of, (move,), turn)
                if len(part):
                    part = shifted(part, cents, place.level_db)
                    part["place"] = number
                    out.append(part)
        found = together(out)
        if len(found):
            found["start"] += source.at_tick
            found["end"] += source.at_tick
        return wrapped(found, ticks)

    # What is known of its chords is in ticks of the flip, whatever its sound lasts.
    long = flip.length_ticks if flip.chords else total
    return Sounding(
        over_loop(notes, total * round_), over_loop(harmony, long * round_), chords, known.voices
    )


def _moves_of(place: SlicePlacement, end: float) -> list[tuple[Move, float]]:
    """What is heard at a place up to a tick, and by how many cents it is shifted in its length."""
    out = []
    each = place.length_ticks / place.times
    for i in range(place.times):
        start = place.at_tick + i * each
        st = place.semitones + i * place.step_st
        speed, cents = 1.0, 100 * st
        if place.fills:
            speed = place.from_ticks / each
            cents -= OCTAVE * float(np.log2(speed))
        elif place.tape and st:
            speed, cents = 2 ** (st / 12), 0.0
        stop = min(start + min(each, place.from_ticks / speed), end)
        if stop - start <= SHORTEST_TICKS:
            continue
        source, way = (place.end_from, -speed) if place.backward else (place.from_tick, speed)
        out.append((Move(start, stop, source, way, i * place.level_step_db), cents))
    return out
