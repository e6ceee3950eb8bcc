"""Edits of what chords are made of: voices, build, voicing. Pure functions from loop to loop."""

from collections.abc import Callable, Iterable, Mapping

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import spec
from cloudrift.loop.model.loop import Chord, Loop
from cloudrift.theory.build import (
    Build,
    Extension,
    Spacing,
    Third,
    arranged_near,
    build_of,
    extensions_of,
    parts,
    rebuilt,
    rub_pitch,
    with_extension,
    with_third,
)
from cloudrift.theory.chord import chord_tones
from cloudrift.theory.movement import voice_through
from cloudrift.theory.voicing import bass_below, bass_near, nearest_voicing, next_above

ChordEdit = Callable[[Loop, str], Loop]


def with_chord(loop: Loop, chord: Chord) -> Loop:
    """Put a chord in the place of the one with its id."""
    return replace(loop, chords=tuple(chord if c.id == chord.id else c for c in loop.chords))


def each(loop: Loop, chord_ids: Iterable[str], edit: ChordEdit) -> Loop:
    """Apply an edit of one chord to several, in the loop's order."""
    wanted = set(chord_ids)
    for chord_id in [c.id for c in loop.chords if c.id in wanted]:
        loop = edit(loop, chord_id)
    return loop


def with_voices(chord: Chord, moved: Mapping[int, int] | Iterable[int]) -> Chord:
    """Give a chord other voices; what was muted or tied stays so.

    ``moved`` says where each old voice goes, or is just the new voices; then those that are still
    there keep their state.
    """
    where = dict(moved) if isinstance(moved, Mapping) else {v: v for v in moved}
    voices = tuple(sorted(set(where.values())))

    def follow(marked: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(sorted({where[v] for v in marked if v in where}))

    return replace(chord, voices=voices, muted=follow(chord.muted), tied=follow(chord.tied))


def _in_reach(voices: Iterable[int]) -> bool:
    return all(spec.VOICE_LOW <= v <= spec.VOICE_HIGH for v in voices)


# --- voices -----------------------------------------------------------------------------------


def move_voice(
    loop: Loop, chord_id: str, voice: int, *, steps: int = 0, semitones: int = 0
) -> Loop:
    """Move one voice of a chord by scale steps or semitones; two voices never share a note.

    Where another is, it goes on the same way: by a step, a semitone, or an octave if it moves by
    octaves. A move out of reach changes nothing.
    """
    chord = loop.chord(chord_id)
    before = chord.voices[voice]
    pitch = loop.key.step(before, steps) + semitones
    direction = 1 if pitch > before else -1
    others = {v for i, v in enumerate(chord.voices) if i != voice}
    on = 12 if semitones % 12 == 0 else 1
    while pitch in others:
        pitch = loop.key.step(pitch, direction) if steps else pitch + on * direction
    if not _in_reach([pitch]):
        return loop
    where = {v: v for v in others} | {before: pitch}
    return with_chord(loop, with_voices(chord, where))


def move_voice_through(
    loop: Loop,
    chord_id: str,
    voice: int,
    *,
    steps: int = 0,
    semitones: int = 0,
    only: Iterable[str] = (),
) -> Loop:
    """Move one voice in all chords that its thread goes through, if it can go everywhere.

    ``only`` are the chords that are meant, all for none.
    """
    at = next(i for i, c in enumerate(loop.chords) if c.id == chord_id)
    found = voice_through([c.voices for c in loop.chords], at, voice)
    out = loop
    meant = set(only) or {c.id for c in loop.chords}
    for i, which in found.items():
        if loop.chords[i].id not in meant:
            continue
        moved = move_voice(out, loop.chords[i].id, which, steps=steps, semitones=semitones)
        if moved is out:
            return loop
        out = moved
    return out


def add_voice(loop: Loop, chord_id: str, pitch: int) -> Loop:
    """Add a voice; one that is there already changes nothing."""
    chord = loop.chord(chord_id)
    if pitch in chord.voices or not _in_reach([pitch]):
        return loop
    if len(chord.voices) >= spec.MAX_VOICES:
        raise CloudriftError(
            f"a chord holds at most {spec.MAX_VOICES} voices; delete one before adding another"
        )
    return with_chord(loop, with_voices(chord, (*chord.voices, pitch)))


def next_free_pitch(loop: Loop, chord_id: str, voice: int) -> int:
    """Where a further voice has room: the next chord note above a voice (or above all, for -1)."""
    chord = loop.chord(chord_id)
    pcs = {v % 12 for v in chord.voices}
    pitch = chord.voices[voice] + 1
    while pitch % 12 not in pcs or pitch in chord.voices:
        pitch += 1
    return pitch


def remove_voice(loop: Loop, chord_id: str, voice: int) -> Loop:
    """Take a voice out."""
    chord = loop.chord(chord_id)
    if len(chord.voices) == 1:
        raise CloudriftError("a chord keeps at least one voice; delete the chord instead")
    rest = [v for i, v in enumerate(chord.voices) if i != voice]
    return with_chord(loop, with_voices(chord, rest))


def mute_voice(loop: Loop, chord_id: str, voice: int) -> Loop:
    """Silence a voice without taking it out, or let it sound again."""
    chord = loop.chord(chord_id)
    muted = set(chord.muted) ^ {chord.voices[voice]}
    return with_chord(loop, replace(chord, muted=tuple(sorted(muted))))


def tie_voice(loop: Loop, chord_id: str, voice: int) -> Loop:
    """Let a voice ring on from the chord before instead of being struck again, or untie it."""
    chord = loop.chord(chord_id)
    tied = set(chord.tied) ^ {chord.voices[voice]}
    return with_chord(loop, replace(chord, tied=tuple(sorted(tied))))


def move_chord(loop: Loop, chord_id: str, *, steps: int = 0, semitones: int = 0) -> Loop:
    """Move all voices of a chord, and its root, by scale steps or semitones.

    By semitones the shape stays as it is; by steps it stays in the key. Out of reach, nothing
    changes.
    """
    chord = loop.chord(chord_id)

    def moved(pitch: int) -> int:
        return loop.key.step(pitch, steps) + semitones

    where = {v: moved(v) for v in chord.voices}
    if not _in_reach(where.values()) or len(set(where.values())) < len(where):
        return loop
    return with_chord(loop, replace(with_voices(chord, where), root=moved(chord.root + 60) % 12))


def set_root(loop: Loop, chord_id: str, root: int) -> Loop:
    """Say which note is meant as the root: its name and what the root lens plays follow."""
    return with_chord(loop, replace(loop.chord(chord_id), root=root % 12))


# --- what a chord is ---------------------------------------------------------------------------


def set_tones(
    loop: Loop, chord_id: str, tones: tuple[int, ...], *, bass: int | None = None
) -> Loop:
    """Put a chord of pitch classes (root first) in a chord's place, moving as little as it can.

    The spacing stays what it was, a bass note below stays a bass note below; ``bass`` is its pitch
    class if it is not the root's.
    """
    chord = loop.chord(chord_id)
    body, build = parts(chord.voices, chord.root)
    voices = arranged_near(body, tones, build.spacing)
    octaves = build.bass or (1 if bass is not None and bass != voices[0] % 12 else 0)
    if octaves:
        wanted = tones[0] if bass is None else bass
        near = chord.voices[0] if build.bass else bass_below(wanted, voices)
        voices = tuple(sorted({bass_near(near, wanted, voices), *voices}))
    if build.top_root:
        voices = (*voices, next_above(voices[-1], tones[0]))
    return with_chord(loop, replace(with_voices(chord, voices), root=tones[0]))


def set_degree(loop: Loop, chord_id: str, degree: int, *, count: int = 3) -> Loop:
    """Put the key's own chord of a degree (1-7) in a chord's place; ``count`` tones of it."""
    return set_tones(loop, chord_id, chord_tones(loop.key, degree, count=count))


def _rebuild(loop: Loop, chord_id: str, **changes: object) -> Loop:
    chord = loop.chord(chord_id)
    voices = rebuilt(chord.voices, chord.root, **changes)
    if len(voices) > spec.MAX_VOICES:
        raise CloudriftError(
            f"that would be {len(voices)} voices, and a chord holds at most {spec.MAX_VOICES}; "
            "delete one first"
        )
    if not _in_reach(voices):
        raise CloudriftError(
            "that would move a voice out of range (C1 to C8); move the chord by an octave first"
        )
    return with_chord(loop, with_voices(chord, voices))


def set_third(loop: Loop, chord_id: str, third: Third) -> Loop:
    """Give a chord its own third, a raised one, none, or a second or fourth for it."""
    chord = loop.chord(chord_id)
    tones = build_of(chord.voices, chord.root).tones
    return _rebuild(loop, chord_id, tones=with_third(chord.root, tones, third, loop.key))


def set_extension(loop: Loop, chord_id: str, extension: Extension, on: bool) -> Loop:
    """Add a sixth, seventh, ninth, eleventh or thirteenth, or take it away."""
    chord = loop.chord(chord_id)
    tones = build_of(chord.voices, chord.root).tones
    if (extension in extensions_of(chord.root, tones)) == on:
        return loop
    tones = with_extension(chord.root, tones, extension, loop.key, on=on)
    return _rebuild(loop, chord_id, tones=tones)


def set_lowest(loop: Loop, chord_id: str, pc: int) -> Loop:
    """Let another of a chord's notes be the lowest of its body."""
    return _rebuild(loop, chord_id, lowest=pc)


def set_spacing(loop: Loop, chord_id: str, spacing: Spacing) -> Loop:
    """Set a chord's body out close, open, as a cluster, or with its top dropped."""
    return _rebuild(loop, chord_id, spacing=spacing)


def set_bass(loop: Loop, chord_id: str, octaves: int, pc: int | None = None) -> Loop:
    """Put a bass note that many octaves below the body (0: none); the root, or another note."""
    chord = loop.chord(chord_id)
    build = build_of(chord.voices, chord.root)
    known = build.bass_pc if build.bass else chord.root
    return _rebuild(loop, chord_id, bass=octaves, bass_pc=known if pc is None else pc)


def set_top_root(loop: Loop, chord_id: str, on: bool) -> Loop:
    """Let the root ring once more on top, or not."""
    return _rebuild(loop, chord_id, top_root=on)


def set_register(loop: Loop, chord_id: str, register: float) -> Loop:
    """Bring a chord's body as near to a mean pitch as its inversions allow, bass excepted."""
    chord = loop.chord(chord_id)
    body, build = parts(chord.voices, chord.root)
    turned = {body}
    for _ in range(2 * len(body)):
        turned |= {_turned(b, up) for b in turned for up in (True, False)}
    fitting = [b for b in turned if _in_reach(b)]
    body = min(fitting, key=lambda b: (abs(sum(b) / len(b) - register), b))
    return _around(loop, chord, body, build)


def _around(loop: Loop, chord: Chord, body: tuple[int, ...], build: Build) -> Loop:
    """Give a chord another body, its bass kept below and its root on top; out of reach: nothing.

    A bass that could only be below the body by leaving the reach is refused with the rest, since
    any other note there would be another bass.
    """
    voices = set(body)
    if build.bass:
        voices.add(_kept_below(chord.voices[0], body))
    if build.top_root:
        voices.add(next_above(body[-1], chord.root))
    if not _in_reach(voices):
        return loop
    return with_chord(loop, with_voices(chord, voices))


def invert(loop: Loop, chord_id: str, *, up: bool) -> Loop:
    """Turn a chord's body over: its lowest voice goes up, or its highest down, by octaves."""
    chord = loop.chord(chord_id)
    body, build = parts(chord.voices, chord.root)
    turned = _turned(body, up)
    rest = set(chord.voices) - set(body)
    if build.bass:
        rest = rest - {chord.voices[0]} | {_kept_below(chord.voices[0], turned)}
    voices = tuple(sorted(rest | set(turned)))
    if not _in_reach(voices):
        return loop
    return with_chord(loop, with_voices(chord, voices))


def _turned(body: tuple[int, ...], up: bool) -> tuple[int, ...]:
    moved = body[0] if up else body[-1]
    rest = set(body) - {moved}
    moved += 12 if up else -12
    while (rest and not (moved > max(rest) if up else moved < min(rest))) or moved in rest:
        moved += 12 if up else -12
    return tuple(sorted(rest | {moved}))


def _kept_below(bass: int, body: tuple[int, ...]) -> int:
    """A bass note where it is, or as many octaves lower as it takes to be below the body."""
    while bass >= body[0]:
        bass -= 12
    return bass


def add_rub(loop: Loop, chord_id: str, voice: int) -> Loop:
    """Set a half-step neighbour against a voice."""
    chord = loop.chord(chord_id)
    return add_voice(loop, chord_id, rub_pitch(chord.voices, voice, loop.key))


# --- through several chords --------------------------------------------------------------------


def to_nearest(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Voice chords so that each moves least from the one before it; bass notes stay.

    The first chord of the loop has none before it and stays.
    """

    def voiced(loop: Loop, chord_id: str) -> Loop:
        at = next(i for i, c in enumerate(loop.chords) if c.id == chord_id)
        if at == 0:
            return loop
        before, chord = loop.chords[at - 1], loop.chords[at]
        body, build = parts(chord.voices, chord.root)
        pcs = tuple(v % 12 for v in body)
        near = nearest_voicing(
            parts(before.voices, before.root)[0], pcs, low=spec.VOICE_LOW, high=spec.VOICE_HIGH
        )
        return _around(loop, chord, near, build)

    return each(loop, chord_ids, voiced)


def hold_bass(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Hold the bass note of the first of some chords under all of them, tied."""
    wanted = set(chord_ids)
    chosen = [c for c in loop.chords if c.id in wanted]
    if len(chosen) < 2:
        raise CloudriftError("select at least two chords; the first one's bass is held under them")
    bass = chosen[0].voices[0]
    for chord in chosen[1:]:
        build = build_of(chord.voices, chord.root)
        rest = set(chord.voices) - ({chord.voices[0]} if build.bass else set())
        if bass > min(rest - {bass}, default=bass + 1):
            raise CloudriftError(
                f"the bass {loop.key.spell_pitch(bass)} would be above a voice of the chord at bar "
                f"{chord.start_tick / (loop.ticks / loop.bars) + 1:g}; move it an octave down first"
            )
        held = with_voices(chord, rest | {bass})
        held = replace(held, tied=tuple(sorted({*held.tied, bass})))
        loop = with_chord(loop, held)
    return loop


def hold_repeats(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Tie chords into held ones: one stroke each, and voices of the chord before ring on."""

    def held(loop: Loop, chord_id: str) -> Loop:
        at = next(i for i, c in enumerate(loop.chords) if c.id == chord_id)
        chord = loop.chords[at]
        before = loop.chords[at - 1] if at else None
        touching = before is not None and before.end_tick == chord.start_tick
        common = set(before.voices) & set(chord.voices) if before and touching else set()
        chord = replace(chord, strikes=(), gate=1.0, late_ticks=0, tied=tuple(sorted(common)))
        return with_chord(loop, chord)

    return each(loop, chord_ids, held)


def untie(loop: Loop, chord_ids: Iterable[str]) -> Loop:
    """Strike every voice of some chords again."""
    return each(loop, chord_ids, lambda p, i: with_chord(p, replace(p.chord(i), tied=())))
