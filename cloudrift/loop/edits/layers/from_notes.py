"""Chords found in notes, and notes as they are, put into a loop."""

import functools
from collections.abc import Callable, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.edits import loop_edits
from cloudrift.loop.edits.chords.bass import BASS_LOW
from cloudrift.loop.edits.chords.progression import put_chords, put_row
from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.edits.layers.new_layer import turned_to_fit
from cloudrift.loop.edits.layers.own_notes import with_own
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Chord, Layer, Loop
from cloudrift.loop.sounding import heard
from cloudrift.loop.sounding.sources import BROKEN_SURE
from cloudrift.notes.find_chords import LOOSE_TICKS, FoundChord, find_chords, is_chordal
from cloudrift.notes.harmonise import harmonised
from cloudrift.notes.note import LOW_PITCH, Note, numbered
from cloudrift.notes.time import bar_ticks
from cloudrift.sound.catalogue import look_up
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import WrittenChord

BASS_VELOCITY = 88
MOST_NAMED = 1500  # notes of a layer that are read for chords while they are drawn


def put_found(loop: Loop, found: Sequence[FoundChord], *, origin: str = "") -> Loop:
    """Put found chords in the place of what is there, with their own voicings.

    Whole bars of silence before the first are left out; the loop becomes as long as they are, up
    to its most bars. ``origin`` says where they are from, for the rights sheet.
    """
    bar = bar_ticks(loop.metre)
    if not found:
        raise CloudriftError("no chords found in those notes; nothing was changed")
    first = found[0].start_tick // bar * bar
    most = spec.MAX_BARS * bar
    chords: list[Chord] = []
    for chord in found:
        start = chord.start_tick - first
        end = min(start + chord.length_ticks, most)
        if end - start < spec.MIN_CHORD_TICKS:
            continue
        voices = tuple(v for v in chord.voices if spec.LOWEST_VOICE <= v <= spec.HIGHEST_VOICE)
        chords.append(
            Chord(
                id=f"c{len(chords) + 1}",
                start_tick=start,
                length_ticks=end - start,
                voices=voices[: spec.MAX_VOICES],
                root=chord.root,
            )
        )
    if not chords:
        raise CloudriftError("the notes found are too short for chords; nothing was changed")
    bars = max(1, -(-(chords[-1].end_tick - bar // 8) // bar))
    last = chords[-1]
    if last.end_tick > bars * bar:
        chords[-1] = Chord(
            id=last.id,
            start_tick=last.start_tick,
            voices=last.voices,
            length_ticks=bars * bar - last.start_tick,
            root=last.root,
        )
    return put_chords(loop, chords, bars=bars, origin=origin)


def put_heard(loop: Loop, key: Key, put: Callable[[Loop], Loop], *, take_key: bool) -> Loop:
    """Put chords that belong to another key into a loop: with that key, or moved into its own.

    ``put`` puts them into a loop without layers, which is in that key. Notes of their own follow
    where the loop's key changes, and stay where it does not.
    """
    row = put(replace(loop, key=key, layers=(), groups=(), line=()))
    if take_key:
        loop = loop_edits.set_key(loop, key)
    else:
        row = loop_edits.set_key(row, loop.key)
    return put_chords(loop, row.chords, bars=row.bars, origin=row.chords_from)


def chords_of(loop: Loop, layer: Layer) -> tuple[Chord, ...]:
    """Return the chords that a layer's own notes make, each with its voices as they are played.

    A tune makes none, nor do notes by the thousand.
    """
    own = layer.own
    if not own or len(own) > MOST_NAMED or not layer.played.sound.of.tuned or not is_chordal(own):
        return ()
    return _chords_of(own, loop.metre)


@functools.lru_cache(maxsize=32)
def _chords_of(own: tuple[Note, ...], metre: tuple[int, int]) -> tuple[Chord, ...]:
    found = find_chords([note for note in own if not note.muted], metre)
    return tuple(
        Chord(
            id=f"c{i}",
            start_tick=chord.start_tick,
            length_ticks=chord.length_ticks,
            voices=chord.voices[: spec.MAX_VOICES],
            root=chord.root,
        )
        for i, chord in enumerate(found, 1)
        if chord.length_ticks >= spec.MIN_CHORD_TICKS
    )


def put_chords_of(loop: Loop, layer_id: str) -> Loop:
    """Put the chords that a layer's own notes make in the row's place; other layers follow them."""
    layer = loop.layer(layer_id)
    chords = chords_of(loop, layer)
    if not chords:
        raise CloudriftError(
            f"{layer.name} has no chords of its own: it follows the chords, or its notes are a "
            "single line"
        )
    return put_chords(loop, chords)


class Proposal(NamedTuple):
    """Chords that could go with notes: from what, in words, and the row."""

    words: str
    row: tuple[WrittenChord, ...]


def proposed_chords(loop: Loop, layer_id: str) -> tuple[Proposal, ...]:
    """Return up to three rows of chords for a layer whose own notes are a line: a tune or a bass.

    Where there is a tune and a bass (the other one is looked for among the layers that are heard),
    from both and from each; else one chord a bar, two, and one every two bars. Raises
    CloudriftError for a layer without such notes.
    """
    layer = loop.layer(layer_id)
    if not _is_line(layer):
        raise CloudriftError(
            f"{layer.name} has no notes of its own to find chords for; draw some, or detach it "
            "from the chords"
        )
    lines = [layer, *(x for x in loop.heard() if x.id != layer_id and _is_line(x))]
    bass = next((x for x in lines if _is_bass(x)), None)
    tune = next((x for x in lines if not _is_bass(x)), None)
    bar = bar_ticks(loop.metre)

    def row(tune: Layer | None, bass: Layer | None, span: int) -> tuple[WrittenChord, ...]:
        over, under = (x.own or () if x else () for x in (tune, bass))
        return harmonised(over, under, loop.key, ticks=loop.ticks, span=span, bar=bar)

    if tune is not None and bass is not None:
        found = [
            Proposal(f"From {tune.name} and {bass.name}", row(tune, bass, bar)),
            Proposal(f"From {bass.name}", row(None, bass, bar)),
            Proposal(f"From {tune.name}", row(tune, None, bar)),
        ]
    else:
        spans = [("One chord per bar", bar), ("Two chords per bar", bar // 2)]
        spans += [("One chord every two bars", 2 * bar)] if loop.bars % 2 == 0 else []
        found = [Proposal(words, row(tune, bass, span)) for words, span in spans]
    rows: dict[tuple[WrittenChord, ...], Proposal] = {}
    for one in found:
        rows.setdefault(one.row, one)
    return tuple(rows.values())


def roots_of_what_plays(loop: Loop) -> tuple[Note, ...]:
    """Return the roots of what is heard in a loop, as notes in the octave of a bass.

    They are those of the chords that are heard; without any, of chords that go with its lines. None
    where nothing is known.
    """
    chords = [one for one in heard(loop).chords if one.sure > BROKEN_SURE]
    spans = [(one.start_tick, one.end_tick, one.root) for one in chords]
    line = next((x for x in loop.heard() if _is_line(x)), None)
    if not spans and line is not None:
        made = put_row(replace(loop, layers=()), proposed_chords(loop, line.id)[0].row)
        spans = [(c.start_tick, c.end_tick, c.root) for c in made.chords]
    return numbered(
        Note(
            start_tick=start,
            length_ticks=end - start,
            pitch=BASS_LOW + (pc - BASS_LOW) % 12,
            velocity=BASS_VELOCITY,
        )
        for start, end, pc in spans
        if end > start
    )


def put_roots(loop: Loop, layer_id: str) -> Loop:
    """Give a layer the roots of what plays as notes of its own."""
    notes = roots_of_what_plays(loop)
    if not notes:
        raise CloudriftError("no sounding roots are known; write chords, or draw the notes")
    return with_own(loop, layer_id, notes)


def _is_line(layer: Layer) -> bool:
    own = layer.own
    return bool(own) and layer.played.sound.of.tuned and not is_chordal(own or ())


def _is_bass(layer: Layer) -> bool:
    pitches = sorted(note.pitch for note in layer.own or ())
    return layer.role == "bass" or pitches[len(pitches) // 2] < LOW_PITCH


def put_played(loop: Loop, notes: Sequence[Note]) -> Loop:
    """Put chords that were played in in the place of what is there.

    Each is held until the next, at most to the end of the bar in which its keys went up.
    """
    found = find_chords(notes, loop.metre)
    if not found:
        raise CloudriftError("nothing was played; nothing was changed")
    bar = bar_ticks(loop.metre)
    ends = [chord.start_tick + chord.length_ticks for chord in found]
    of_bar = -(-(ends[-1] - LOOSE_TICKS) // bar), found[-1].start_tick // bar + 1
    ends[-1] = min(loop.ticks, max(of_bar) * bar)  # also a stab right on the bar line has its bar
    chords = [
        Chord(
            id=f"c{i}",
            start_tick=chord.start_tick,
            length_ticks=end - chord.start_tick,
            voices=chord.voices[: spec.MAX_VOICES],
            root=chord.root,
        )
        for i, (chord, end) in enumerate(zip(found, ends, strict=True), 1)
        if end - chord.start_tick >= spec.MIN_CHORD_TICKS
    ]
    return put_chords(loop, chords)


def put_layers(
    loop: Loop, parts: Sequence[tuple[str, Sequence[Note]]], *, origin: str = "", by: str = ""
) -> Loop:
    """Add a layer with notes of its own for each part: its name and notes from any tick on.

    Whole bars of silence in front of all of them are left out; what lies after the loop's end is
    cut. A part named after a sound gets that sound. Where the notes are from (``origin``) and who
    wrote them is kept with each.
    """
    bar = bar_ticks(loop.metre)
    first = min((n.start_tick for _, notes in parts for n in notes), default=0) // bar * bar
    added = loop
    for name, notes in parts:
        inside = [
            replace(
                n,
                start_tick=n.start_tick - first,
                id=0,
                length_ticks=min(n.length_ticks, loop.ticks - n.start_tick + first),
            )
            for n in notes
            if n.start_tick - first < loop.ticks
        ]
        if not inside:
            continue
        added = layer_edits.add_layer(added, _sound_for(name, inside), name[:NAME_TYPED])
        added = with_own(added, added.layers[-1].id, inside)
        added = layer_edits.set_source(
            added, added.layers[-1].id, origin=origin[:NAME_TYPED], by=by[:NAME_TYPED]
        )
        # How hard they are played is their balance.
        added = layer_edits.set_layer(added, added.layers[-1].id, level_db=0.0)
    if added is loop:
        raise CloudriftError("no notes were found within the loop's length; nothing was changed")
    return turned_to_fit(added, [x.id for x in added.layers[len(loop.layers) :]])


def _sound_for(name: str, notes: Sequence[Note]) -> str:
    found = [match.of for match in look_up(name)] if name else []
    if found:
        return found[0].name
    middle = sorted(n.pitch for n in notes)[len(notes) // 2]
    return "round sub" if middle < LOW_PITCH else "felt upright"
