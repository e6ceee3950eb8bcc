"""Marks of the chords: which, how long, how they are set out and how they follow each other."""

import math
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from cloudrift.loop.edits.chords import chord_edits, chord_time
from cloudrift.loop.edits.chords.progression import put_chords
from cloudrift.loop.model.chord import Chord, lasting
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.time import bar_ticks, beat_ticks
from cloudrift.style.marks.chord_places import (
    fewer_leaps,
    into_key,
    nearer,
    off_key,
    register,
    steps_of,
    to_register,
    to_width,
    width,
)
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.view import Quality, View, names
from cloudrift.theory.symbols import parse_degree

DEGREES = tuple(
    sign + numeral + end
    for numeral in ("i", "ii", "iii", "iv", "v", "vi", "vii",
                    "I", "II", "III", "IV", "V", "VI", "VII")
    for sign in ("", "b", "#")
    for end in (("", "°") if numeral.islower() else ("",))
)  # fmt: skip

SLOWED = (2.0, 0.5, 4.0, 0.25)  # times that a row is made as long
MOVED = (3, 4, 2, 5, 1, 6)  # scale steps that a repeated chord may go to another degree by


def _share(view: View, of: Sequence[Chord]) -> Found | None:
    if not view.chords:
        return None
    where = f"{len(of)} of {len(view.chords)}"
    which = f": {names([view.name_of(c) for c in of])}" if of else ""
    return Found(value=100 * len(of) / len(view.chords), where=where + which)


def _of(quality: Quality) -> Callable[[View], Found | None]:
    return lambda view: _share(view, view.of_quality(quality))


def _towards(quality: Quality) -> Callable[[View, tuple[float, float]], Change | None]:
    """Turn a chord's third so that there are more, or fewer, of a quality."""

    def change(view: View, asked: tuple[float, float]) -> Change | None:
        have = len(view.of_quality(quality))
        wanted = sum(asked) / 2 / 100 * len(view.chords)
        other: Quality = "major" if quality == "minor" else "minor"
        of = view.of_quality(other if have < wanted else quality)
        turned = of[: max(1, round(abs(wanted - have)))]
        if not turned:
            return None
        become = quality if have < wanted else other

        def edit(loop: Loop) -> Loop:
            for chord in turned:
                loop = chord_edits.with_chord(loop, _turned(chord, become))
            return loop

        after = edit(view.loop)
        said = names(
            [f"{view.name_of(c)} becomes {View(after).name_of(after.chord(c.id))}" for c in turned],
            2,
        )
        return Change(words=said, edit=edit)

    return change


def _turned(chord: Chord, become: Quality) -> Chord:
    """A chord with another third, each voice where it is but for that; its fifth is perfect."""
    third = 3 if become == "minor" else 4
    above = [(voice - chord.root) % 12 for voice in chord.voices]
    by = {3: third - 3, 4: third - 4, 6: 1 if 7 not in above else 0}
    moved = {
        i: voice + by[n]
        for i, (voice, n) in enumerate(zip(chord.voices, above, strict=True))
        if by.get(n)
    }
    return chord_edits.with_voices(chord, moved)


def _fewer_diminished(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.of_quality("diminished")
    most = int(asked[1] / 100 * len(view.chords))
    if len(of) <= most:
        return None
    turned = of[most:]

    def edit(loop: Loop) -> Loop:
        for chord in turned:
            tones = (chord.root, (chord.root + 3) % 12, (chord.root + 7) % 12)
            loop = chord_edits.set_tones(loop, chord.id, tones)
        return loop

    return Change(words=f"{names([view.name_of(c) for c in turned], 2)} becomes minor", edit=edit)


def _colours(view: View) -> Found | None:
    if not view.chords:
        return None
    once = [view.name_of(chord) for chord in _once(view)]
    return Found(value=float(len(once)), where=names(once, 6))


def _to_colours(view: View, asked: tuple[float, float]) -> Change | None:
    """Fewer: later chords become the first ones again. More: repeats move on by scale steps."""
    found = _colours(view)
    if found is None:
        return None
    most, least = int(asked[1]), math.ceil(asked[0])
    if float(found.value) > most >= 1:
        kept = _once(view)[:most]
        others = [c for c in view.chords if _colour(c) not in {_colour(k) for k in kept}]

        def fewer(loop: Loop) -> Loop:
            for i, chord in enumerate(others):
                loop = _become(loop, chord, kept[(i + 1) % most])
            return loop

        return Change(
            words=f"{names([view.name_of(c) for c in others], 2)} back to earlier chords",
            edit=fewer,
        )
    first = {c.id for c in _once(view)}
    repeats = [c for c in reversed(view.chords) if c.id not in first]

    def more(loop: Loop) -> Loop:
        for chord in repeats:
            if len(_once(View(loop))) >= least:
                break
            moved = [chord_edits.move_chord(loop, chord.id, steps=by) for by in MOVED]
            loop = max(moved, key=lambda one: len(_once(View(one))))
        return loop

    return Change(words="repeats go to other degrees", edit=more) if repeats else None


def _colour(chord: Chord) -> tuple[int, frozenset[int]]:
    return chord.root, frozenset(v % 12 for v in chord.voices)


def _once(view: View) -> list[Chord]:
    """The chords of a row that were not there before."""
    return list({_colour(chord): chord for chord in reversed(view.chords)}.values())[::-1]


def _become(loop: Loop, chord: Chord, other: Chord) -> Loop:
    tones = tuple(dict.fromkeys([other.root, *(v % 12 for v in other.voices)]))
    return chord_edits.set_tones(loop, chord.id, tones)


def _ends(which: int) -> Callable[[View], Found | None]:
    def measure(view: View) -> Found | None:
        if not view.chords:
            return None
        chord = view.chords[which]
        return Found(value=view.degree_of(chord), where=view.name_of(chord))

    return measure


def _to_end(which: int) -> Callable[[View, tuple[str, ...]], Change | None]:
    def change(view: View, asked: tuple[str, ...]) -> Change | None:
        chord = view.chords[which]
        beside = view.chords[which - 1 if which else 1 % len(view.chords)]
        tokens = [t for t in asked if t != view.degree_of(beside)] or list(asked)
        tones = parse_degree(tokens[0], view.loop.key)

        def edit(loop: Loop) -> Loop:
            return chord_edits.set_tones(loop, chord.id, tones)

        after = View(edit(view.loop))
        return Change(
            words=f"{view.name_of(chord)} becomes {after.name_of(after.chords[which])}", edit=edit
        )

    return change


def _chord_bars(view: View) -> Found | None:
    if not view.chords:
        return None
    bar = bar_ticks(view.loop.metre)
    lengths = [chord.length_ticks / bar for chord in view.chords]
    said = names([f"{length:g}" for length in lengths])
    return Found(value=sum(lengths) / len(lengths), where=f"{said} bars")


def _to_chord_bars(view: View, asked: tuple[float, float]) -> Change | None:
    """The row slower or quicker by doubling: what goes past the end is left, a short one turns."""
    if not view.chords:
        return None

    def edit(loop: Loop, times: float) -> Loop:
        row = [
            replace(
                c,
                start_tick=round(c.start_tick * times),
                late_ticks=0,
                strikes=(),
                length_ticks=round(c.length_ticks * times),
            )
            for c in loop.chords
        ]
        end = max(c.end_tick for c in row)
        turns = max(1, loop.ticks // end) if loop.chords[-1].end_tick == loop.ticks else 1
        ids = [f"c{i + 1}" for i in range(turns * len(row))]
        laid = [
            replace(c, start_tick=c.start_tick + turn * end) for turn in range(turns) for c in row
        ]
        laid = [
            lasting(replace(c, id=one), c.start_tick, min(c.end_tick, loop.ticks))
            for one, c in zip(ids, laid, strict=True)
            if c.start_tick < loop.ticks
        ]
        return put_chords(loop, laid)

    times = min(SLOWED, key=lambda by: _away(View(edit(view.loop, by)), asked))
    said = f"chords {times:g} times as long" if times > 1 else f"{1 / times:g} chords for each"
    return Change(words=said, edit=lambda loop: edit(loop, times))


def _away(view: View, asked: tuple[float, float]) -> float:
    found = _chord_bars(view)
    value = float(found.value) if found else 0.0
    return max(asked[0] - value, value - asked[1], 0.0)


def _uneven(view: View) -> Found | None:
    if not view.chords:
        return None
    lengths = [chord.length_ticks for chord in view.chords]
    return Found(value=max(lengths) / min(lengths))


def _late(view: View) -> Found | None:
    return _share(view, [chord for chord in view.chords if chord.late_ticks])


def _to_late(view: View, asked: tuple[float, float]) -> Change | None:
    late = [c.id for c in view.chords if c.late_ticks]
    few, most = (share / 100 * len(view.chords) for share in asked)
    if len(late) > most:
        of = late[int(most) :]
        return Change(words="on the beat", edit=lambda loop: chord_time.set_late(loop, of, 0))
    ids = [c for c in chord_time.every_second(view.loop) if c not in late]
    ids += [c.id for c in view.chords if c.id not in {*late, *ids}]
    wanted = max(1, round((few + most) / 2)) - len(late)
    behind = beat_ticks(view.loop.metre) // 2
    of = ids[:wanted]
    if not of:
        return None
    return Change(
        words="late by half a beat", edit=lambda loop: chord_time.set_late(loop, of, behind)
    )


def _strikes(view: View) -> Found | None:
    if not view.chords:
        return None
    counts = [len(chord.hits) for chord in view.chords]
    return Found(value=sum(counts) / len(counts))


def _to_strikes(view: View, asked: tuple[float, float]) -> Change | None:
    ids = [chord.id for chord in view.chords]
    if asked[0] <= 1 <= asked[1]:
        return Change(words="played once", edit=lambda loop: chord_time.straight(loop, ids))
    longest = max(chord.length_ticks for chord in view.chords)
    step = beat_ticks(view.loop.metre)
    wanted = max(2, round(sum(asked) / 2))
    step = max(step // 4, longest // wanted)
    return Change(
        words=f"played {wanted} times", edit=lambda loop: chord_time.strike_every(loop, ids, step)
    )


def _extended(view: View) -> Found | None:
    return _share(view, [c for c in view.chords if len({v % 12 for v in c.voices}) > 3])


def _to_extended(view: View, asked: tuple[float, float]) -> Change | None:
    plain = [c for c in view.chords if len({v % 12 for v in c.voices}) <= 3]
    rich = [c for c in view.chords if c not in plain]
    wanted = round(sum(asked) / 200 * len(view.chords))
    more = wanted - len(rich)
    of = plain[:more] if more > 0 else rich[more:]
    if not of or not more:
        return None

    def edit(loop: Loop) -> Loop:
        for chord in of:
            if more > 0:
                loop = chord_edits.set_extension(loop, chord.id, "7", on=True)
                continue
            above = [(v - chord.root) % 12 for v in chord.voices]
            third = next((n for n in (3, 4) if n in above), 3)
            fifth = next((n for n in (7, 6, 8) if n in above), 7)
            tones = tuple((chord.root + n) % 12 for n in (0, third, fifth))
            loop = chord_edits.set_tones(loop, chord.id, tones)
        return loop

    said = "a seventh on" if more > 0 else "no more than three notes in"
    return Change(words=f"{said} {names([view.name_of(c) for c in of], 2)}", edit=edit)


KINDS = (
    Kind(name="minor_share", label="Minor chords", group="Chords", unit="%",
         about="share of chords with a minor third and no diminished fifth",
         measure=_of("minor"), change=_towards("minor")),
    Kind(name="major_share", label="Major chords", group="Chords", unit="%",
         about="share of chords with a major third",
         measure=_of("major"), change=_towards("major")),
    Kind(name="diminished_share", label="Diminished chords", group="Chords", unit="%",
         about="share of chords with a minor third and a diminished fifth",
         measure=_of("diminished"), change=_fewer_diminished),
    Kind(name="colours", label="Different chords", group="Chords", unit="chords", high=16,
         about="number of chords that differ in root or notes", measure=_colours,
         change=_to_colours),
    Kind(name="start", label="Starts on", group="Chords", words=DEGREES,
         about="the degree of the first chord", measure=_ends(0), change_word=_to_end(0)),
    Kind(name="end", label="Ends on", group="Chords", words=DEGREES,
         about="the degree of the last chord", measure=_ends(-1), change_word=_to_end(-1)),
    Kind(name="chord_bars", label="Chord length", group="Chords", unit="bars", high=8, decimals=2,
         about="mean length of a chord", measure=_chord_bars,
         change=_to_chord_bars),
    Kind(name="chord_uneven", label="Longest to shortest", group="Chords", unit="times",
         low=1, high=8, decimals=1, about="ratio of the longest chord to the shortest",
         measure=_uneven),
    Kind(name="late_share", label="Late chords", group="Chords", unit="%",
         about="share of chords played late", measure=_late, change=_to_late),
    Kind(name="strikes", label="Onsets per chord", group="Chords", unit="onsets", high=16,
         decimals=1, about="mean onsets per chord", measure=_strikes,
         change=_to_strikes),
    Kind(name="extended_share", label="Sevenths and larger", group="Chords", unit="%",
         about="share of chords with four or more different notes", measure=_extended,
         change=_to_extended),
    Kind(name="half_steps", label="Half-step moves", group="Chords", unit="%",
         about="share of voice moves between chords that are half steps",
         measure=steps_of("half"), change=nearer),
    Kind(name="common_tones", label="Common tones", group="Chords", unit="%",
         about="share of voice moves that stay on their note", measure=steps_of("common"),
         change=nearer),
    Kind(name="leaps", label="Leaps", group="Chords", unit="%",
         about="share of voice moves larger than a whole step", measure=steps_of("leap"),
         change=fewer_leaps),
    Kind(name="register", label="Chord register", group="Chords", unit="MIDI", low=36, high=84,
         about="mean of the voices above the lowest, as a MIDI note (60: middle C)",
         measure=register, change=to_register),
    Kind(name="chord_width", label="Chord spread", group="Chords", unit="st", high=36,
         about="mean distance from the second lowest voice to the highest", measure=width,
         change=to_width),
    Kind(name="off_key", label="Out of key", group="Chords", unit="%", decimals=1, high=40,
         about="share of chord voices out of the scale", measure=off_key,
         change=into_key),
)  # fmt: skip
