"""Checks of what a loop plays: key and tempo found again, notes, room for a voice, its style."""

from collections.abc import Sequence

from msgspec.structs import replace

from cloudrift.deliver.checks import spec
from cloudrift.deliver.checks.check import Change, Check, Finding, graded
from cloudrift.deliver.checks.heard import Heard
from cloudrift.ground.words import number, plural, together
from cloudrift.loop.edits.layers.layer_edits import set_layer
from cloudrift.loop.edits.layers.own_notes import with_own
from cloudrift.loop.edits.loop_edits import rename_key
from cloudrift.loop.model.layer import LEVEL
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.notes.note import Note
from cloudrift.render.measure.room import CLOSE_DB, Crowded, gap, in_words
from cloudrift.style.card_files import known_cards
from cloudrift.style.marks import Mark, change_for, checked, look, met_of
from cloudrift.theory.key import Key

OCTAVES = (0.25, 0.5, 1.0, 2.0, 4.0)
SAME_TEMPO = 0.02  # as a share
MOST_SAID = 4
NEAREST = (0, 1, -1, 2, -2, 3, -3, 4, -4, 5, -5, 6)  # semitones, in which a note is looked for


# --- found again by listening ---------------------------------------------------------------------


def _tempo(heard: Heard) -> Finding:
    written, tempos = heard.loop.sounding_tempo, heard.listened.tempos
    text = f"written {written:g} BPM"
    if not tempos:
        return Finding(severity="fine", measured=f"{text}; too few hits to estimate a tempo")
    same = [one for one in tempos if _is_counted(one.tempo, written)]
    if same:
        return Finding(
            severity="fine",
            value=same[0].tempo,
            measured=f"{text}, estimated {same[0].tempo:.1f} BPM",
        )
    best = tempos[0].tempo
    sure = sum(one.confidence for one in tempos if _is_counted(one.tempo, best))
    return Finding(
        severity="should" if sure >= spec.SURE else "fine",
        value=best,
        measured=f"{text}, estimated {best:.1f} BPM, {sure:.0%} sure",
    )


def _is_counted(heard: float, written: float) -> bool:
    """Whether a tempo is another, counted as fast, half or twice or four times as fast."""
    return any(abs(heard * times / written - 1) < SAME_TEMPO for times in OCTAVES)


def _key(heard: Heard) -> Finding:
    written, keys = key_heard(heard.loop), heard.listened.keys
    if not keys:
        return Finding(severity="fine", measured=f"written {written.text}; no key can be estimated")
    best = keys[0]
    outside, less = (100 * heard.listened.outside(key) for key in (written, best.key))
    text = f"written {written.text}, estimated {best.key.text}"
    if outside <= spec.OUTSIDE or less > spec.OUTSIDE / 2:
        return Finding(severity="fine", value=outside, measured=text)
    plain = key_heard(heard.loop) == heard.loop.key
    return Finding(
        severity="should",
        value=outside,
        change=_renamed(best.key) if plain else None,
        measured=f"{text}; {outside:.0f} % of the sound is not in {written.text}",
    )


def _renamed(key: Key) -> Change:
    return Change(words=f"set the key to {key.text}", edit=lambda loop: rename_key(loop, key))


# --- notes ----------------------------------------------------------------------------------------


def _off_key(heard: Heard) -> Finding | None:
    """Notes that are neither in the key nor in a chord they are heard over."""
    loop = heard.loop
    off = {layer.id: _odd_notes(loop, layer) for layer in loop.heard()}
    of = sum(len(notes_of(loop, layer)) for layer in loop.heard())
    if not of:
        return None
    found = 100 * sum(len(one) for one in off.values()) / of
    worst = sorted((x for x in loop.heard() if off[x.id]), key=lambda x: -len(off[x.id]))
    severity = graded(found, should=spec.OFF_KEY)
    change = None
    own = [x for x in worst if x.own is not None]
    if severity != "fine" and own:
        names = together([x.name for x in own[:MOST_SAID]])
        change = Change(
            words=f"bring them into {loop.key.text}, in {names}",
            edit=lambda one: _into_key(one, [x.id for x in own]),
        )
    return Finding(
        severity=severity,
        value=found,
        change=change,
        measured=f"{found:.0f} % of the notes are neither in {loop.key.text} nor in their chord",
        where=f"in {together([x.name for x in worst[:MOST_SAID]])}" if worst else "",
    )


def _scale(key: Key) -> set[int]:
    """The notes that belong to a key; to minor its leading note, too."""
    return {*key.scale, (key.pc + 11) % 12} if key.mode == "minor" else set(key.scale)


def _odd_notes(loop: Loop, layer: Layer) -> list[Note]:
    inside = _scale(loop.key)
    out = []
    for note in notes_of(loop, layer):
        if note.pitch % 12 in inside:
            continue
        end = note.start_tick + note.length_ticks
        over = [x for x in loop.spans if note.start_tick - x.length_ticks < x.start_tick < end]
        if all(note.pitch % 12 not in {voice % 12 for voice in x.voices} for x in over):
            out.append(note)
    return out


def _into_key(loop: Loop, layers: Sequence[str]) -> Loop:
    """Move own notes that are off to the nearest note of the key, up where both are as near."""
    inside = _scale(loop.key)
    for layer_id in layers:
        layer = loop.layer(layer_id)
        odd = {(note.start_tick, note.pitch) for note in _odd_notes(loop, layer)}
        notes = [
            replace(note, pitch=_nearest(note.pitch, inside))
            if (note.start_tick, note.pitch) in odd
            else note
            for note in layer.own or ()
        ]
        loop = with_own(loop, layer_id, notes)
    return loop


def _nearest(pitch: int, inside: set[int]) -> int:
    return next(pitch + step for step in NEAREST if (pitch + step) % 12 in inside)


# --- who is where ---------------------------------------------------------------------------------


def _voice(heard: Heard) -> Finding:
    found = heard.facts.voice_db
    severity = graded(found, should=spec.VOICE_DB)
    change = None
    where = ""
    if severity != "fine":
        name = _loudest_between(heard, 1000.0, 4000.0)
        if name is not None:
            layer = heard.loop.layer(name)
            where = f"mostly {layer.name}"
            change = _softer(layer, 3.0)
    return Finding(
        severity=severity,
        value=found,
        where=where,
        change=change,
        measured=f"{number(found, '.0f')} dB of the whole lies between 1 and 4 kHz, "
        + ("where a voice has little room" if change or where else "room for a voice"),
    )


def _loudest_between(heard: Heard, low: float, high: float) -> str | None:
    layers = gap(heard.room, low, high).layers
    return layers[0][0] if layers else None


def _softer(layer: Layer, by_db: float) -> Change | None:
    wanted = max(LEVEL.low, round(layer.level_db - by_db, 1))
    if layer.level_ride is not None or wanted == layer.level_db:
        return None
    return Change(
        words=f"{layer.name} {by_db:.1f} dB quieter",
        edit=lambda loop: set_layer(loop, layer.id, level_db=wanted),
    )


def _crowding(heard: Heard) -> Finding:
    bad = [
        one
        for one in heard.room.crowded
        if one.severity > spec.CROWDED and _time(one) > spec.CROWDED_TIME
    ]
    if not bad:
        some = len(heard.room.crowded)
        return Finding(
            severity="fine",
            value=0.0,
            measured="no two layers crowd each other"
            if not some
            else f"{plural(some, 'pair')} close, none for long",
        )
    worst = max(bad, key=lambda one: one.severity)
    return Finding(
        severity="should",
        value=worst.severity,
        change=_gives_way(heard, worst),
        measured=in_words(worst, heard.loop),
        where=f"for {_time(worst):.0%} of the loop",
    )


def _time(crowded: Crowded) -> float:
    return sum(end - start for start, end in crowded.when)


def _gives_way(heard: Heard, crowded: Crowded) -> Change | None:
    """The one that is softer there gives way, so far that the other stands out."""
    edges = heard.room.edges_hz
    inside = (edges[1:] > crowded.low_hz) & (edges[:-1] < crowded.high_hz)
    levels = {name: float(heard.room.levels[name][inside].mean()) for name in crowded.layers}
    softer, louder = sorted(crowded.layers, key=lambda name: levels[name])
    return _softer(heard.loop.layer(softer), max(1.0, CLOSE_DB - levels[louder] + levels[softer]))


# --- the style ------------------------------------------------------------------------------------


def style_marks(heard: Heard) -> tuple[str, tuple[Mark, ...]]:
    """Return the name of the loop's card and its marks; nothing where it is in nobody's style."""
    card = known_cards().get(heard.loop.style)
    if card is None:
        return "", ()
    asks, _wrong = checked(card.marks, card.name)
    arrangement = heard.document.arrangement
    return card.name, look(asks, heard.loop, heard.facts, arrangement=arrangement)


def _marks(heard: Heard) -> Finding | None:
    loop = heard.loop
    card, marks = style_marks(heard)
    met, asked = met_of(marks)
    if not asked:
        return None
    found = 100 * met / asked
    missed = [mark for mark in marks if mark.missed]
    names = [mark.kind.label.lower() for mark in missed[:MOST_SAID]]
    change = None
    if found < spec.MARKS_MET:
        made = (change_for(mark, loop, heard.facts) for mark in missed)
        first = next((one for one in made if one is not None), None)
        change = Change(words=first.words, edit=first.edit) if first else None
    return Finding(
        severity=graded(-found, should=-spec.MARKS_MET),
        value=found,
        change=change,
        measured=f"{met} of {asked} marks of {card} met",
        where=f"missed: {', '.join(names)}" if names else "",
    )


MUSIC = (
    Check(name="tempo", label="Tempo, by ear", find=_tempo,
          about="the tempo estimated from the sound is the written one, where it is clear"),
    Check(name="key", label="Key, by ear", find=_key,
          about=f"at most {spec.OUTSIDE:g} % of the sound is not in it, or no key is nearer"),
    Check(name="off key", label="Notes off key", find=_off_key,
          about=f"at most {spec.OFF_KEY:g} % of the notes neither in the key nor in their chord"),
    Check(name="voice", label="Room for a voice", find=_voice,
          about=f"at most {number(spec.VOICE_DB)} dB of the whole between 1 and 4 kHz"),
    Check(name="crowding", label="Crowding", find=_crowding,
          about="no two layers crowd one band for more than half of the loop"),
    Check(name="marks", label="Style marks", find=_marks,
          about=f"at least {spec.MARKS_MET:g} % of the style card's marks are met"),
)  # fmt: skip
