"""Checks of what a loop plays: key and tempo found again, notes, room for a voice, its style."""

from cloudrift.deliver.checks import spec
from cloudrift.deliver.checks.check import Change, Check, Finding, graded
from cloudrift.deliver.checks.heard import Heard
from cloudrift.ground.words import number, plural, together
from cloudrift.loop.edits import rename_key, set_layer
from cloudrift.loop.layer import LEVEL
from cloudrift.loop.model import Layer
from cloudrift.render.room import CLOSE_DB, Crowded, gap, in_words
from cloudrift.style.card_files import known_cards
from cloudrift.style.marks import change_for, checked, look, met_of
from cloudrift.theory.key import Key

OCTAVES = (0.25, 0.5, 1.0, 2.0, 4.0)
SAME_TEMPO = 0.02  # as a share
MOST_SAID = 4


# --- found again by listening ---------------------------------------------------------------------


def _tempo(heard: Heard) -> Finding:
    written, tempos = heard.loop.sounding_tempo, heard.listened.tempos
    text = f"written {written:g} BPM"
    if not tempos:
        return Finding(severity="fine", measured=f"{text}; too few strokes to hear a tempo by")
    same = [one for one in tempos if _is_counted(one.tempo, written)]
    if same:
        return Finding(severity="fine", value=same[0].tempo,
                       measured=f"{text}, heard {same[0].tempo:.1f} BPM")  # fmt: skip
    best = tempos[0].tempo
    sure = sum(one.confidence for one in tempos if _is_counted(one.tempo, best))
    return Finding(severity="should" if sure >= spec.SURE else "fine", value=best,
                   measured=f"{text}, heard {best:.1f} BPM, {sure:.0%} sure")  # fmt: skip


def _is_counted(heard: float, written: float) -> bool:
    """Whether a tempo is another, counted as fast, half or twice or four times as fast."""
    return any(abs(heard * times / written - 1) < SAME_TEMPO for times in OCTAVES)


def _key(heard: Heard) -> Finding:
    written, keys = heard.loop.sounding_key, heard.listened.keys
    if not keys:
        return Finding(severity="fine", measured=f"written {written.text}; no key is heard")
    best = keys[0]
    outside, less = (100 * heard.listened.outside(key) for key in (written, best.key))
    text = f"written {written.text}, heard {best.key.text}"
    if outside <= spec.OUTSIDE or less > spec.OUTSIDE / 2:
        return Finding(severity="fine", value=outside, measured=text)
    plain = heard.loop.sounding_key == heard.loop.key
    return Finding(severity="should", value=outside, change=_renamed(best.key) if plain else None,
                   measured=f"{text}; {outside:.0f} % of what is heard is not in "
                   f"{written.text}")  # fmt: skip


def _renamed(key: Key) -> Change:
    return Change(words=f"call it {key.text}", edit=lambda loop: rename_key(loop, key))


# --- notes ----------------------------------------------------------------------------------------


def _off_key(heard: Heard) -> Finding | None:
    loop = heard.loop
    inside = set(loop.key.scale)
    if loop.key.mode == "minor":
        inside.add((loop.key.pc + 11) % 12)  # its leading note
    counts: dict[str, tuple[int, int]] = {}
    for layer in loop.heard():
        notes = loop.notes_of(layer)
        if notes:
            counts[layer.name] = (sum(n.pitch % 12 not in inside for n in notes), len(notes))
    of = sum(count for _off, count in counts.values())
    if not of:
        return None
    found = 100 * sum(off for off, _count in counts.values()) / of
    most = max(spec.OFF_KEY, *_asked(heard, "off_key"))
    severity = graded(found, should=most)
    worst = sorted((name for name, (off, _) in counts.items() if off),
                   key=lambda name: -counts[name][0])[:MOST_SAID]  # fmt: skip
    change = None
    if severity != "fine":
        (mark,) = look({"off_key": (0.0, most)}, loop)
        moved = change_for(mark, loop)
        change = Change(words=moved.words, edit=moved.edit) if moved else None
    return Finding(severity=severity, value=found, change=change,
                   measured=f"{found:.0f} % of the notes are not in {loop.key.text}",
                   where=f"in {together(worst)}" if worst else "")  # fmt: skip


def _asked(heard: Heard, kind: str) -> list[float]:
    """What the loop's card asks of a kind, its upper end; 0 where it asks nothing."""
    card = known_cards().get(heard.loop.style)
    asked = card.marks.get(kind) if card else None
    return [float(asked[1])] if asked and len(asked) == 2 else [0.0]


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
            where = f"most of it {layer.name}"
            change = _softer(layer, 3.0)
    return Finding(severity=severity, value=found, where=where, change=change,
                   measured=f"{number(found, '.0f')} dB of all of it lies between 1 and 4 kHz, "
                   + ("where a voice has little room" if change or where else "room for a voice")
    )  # fmt: skip


def _loudest_between(heard: Heard, low: float, high: float) -> str | None:
    layers = gap(heard.room, low, high).layers
    return layers[0][0] if layers else None


def _softer(layer: Layer, by_db: float) -> Change | None:
    wanted = max(LEVEL.low, round(layer.level_db - by_db, 1))
    if layer.level_ride is not None or wanted == layer.level_db:
        return None
    return Change(words=f"{layer.name} {by_db:.1f} dB softer",
                  edit=lambda loop: set_layer(loop, layer.id, level_db=wanted))  # fmt: skip


def _crowding(heard: Heard) -> Finding:
    bad = [one for one in heard.room.crowded
           if one.severity > spec.CROWDED and _time(one) > spec.CROWDED_TIME]  # fmt: skip
    if not bad:
        some = len(heard.room.crowded)
        return Finding(severity="fine", value=0.0, measured="nobody is in another's way" if not some
                       else f"{plural(some, 'pair')} close, none for long")  # fmt: skip
    worst = max(bad, key=lambda one: one.severity)
    return Finding(severity="should", value=worst.severity, change=_gives_way(heard, worst),
                   measured=in_words(worst, heard.loop),
                   where=f"for {_time(worst):.0%} of the loop")  # fmt: skip


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


def _marks(heard: Heard) -> Finding | None:
    loop = heard.loop
    card = known_cards().get(loop.style)
    if card is None:
        return None
    asks, _wrong = checked(card.marks, card.name)
    marks = look(asks, loop, heard.facts, arrangement=heard.document.arrangement)
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
    return Finding(severity=graded(-found, should=-spec.MARKS_MET), value=found, change=change,
                   measured=f"{met} of {asked} marks of {card.name} met",
                   where=f"missed: {', '.join(names)}" if names else "")  # fmt: skip


MUSIC = (
    Check(name="tempo", label="Tempo, heard again", find=_tempo,
          about="what is written is what is heard, wherever that is plain"),
    Check(name="key", label="Key, heard again", find=_key,
          about=f"at most {spec.OUTSIDE:g} % of what is heard is not in it, or no key is nearer"),
    Check(name="off key", label="Notes off key", find=_off_key,
          about=f"at most {spec.OFF_KEY:g} % of the notes, or what the style card allows"),
    Check(name="voice", label="Room for a voice", find=_voice,
          about=f"at most {number(spec.VOICE_DB)} dB of all of it between 1 and 4 kHz"),
    Check(name="crowding", label="Crowding", find=_crowding,
          about="no two layers heavily in one band for more than half of the loop"),
    Check(name="marks", label="Style marks", find=_marks,
          about=f"at least {spec.MARKS_MET:g} % of what the loop's style card asks"),
)  # fmt: skip
