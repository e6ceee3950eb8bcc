"""Marks of where chords lie: their steps, register, width, and what is outside the key."""

from collections.abc import Callable

from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.loop import Loop
from cloudrift.style.marks.kind import Change, Found
from cloudrift.style.marks.view import View, names


def steps_of(kind: str) -> Callable[[View], Found | None]:
    """Return what measures the voices' steps of a kind from one chord to the next."""

    def measure(view: View) -> Found | None:
        total = view.moves.total()
        if not total or len(view.chords) < 2:
            return None
        count = view.moves[kind]  # type: ignore[index]
        return Found(value=100 * count / total, where=f"{count} of {total} voice moves")

    return measure


def nearer(view: View, asked: tuple[float, float]) -> Change | None:
    """Propose voices nearer to those of the chord before."""
    ids = [chord.id for chord in view.chords]
    return Change(words="nearest voicings", edit=lambda loop: chord_edits.to_nearest(loop, ids))


def fewer_leaps(view: View, asked: tuple[float, float]) -> Change | None:
    """Propose fewer leaps."""
    return (
        nearer(view, asked) if view.moves["leap"] / view.moves.total() * 100 > asked[1] else (None)
    )


def _middle(chord: Chord) -> float:
    upper = chord.voices[1:] or chord.voices
    return sum(upper) / len(upper)


def register(view: View) -> Found | None:
    """Find where the chords lie."""
    if not view.chords:
        return None
    middle = sum(_middle(chord) for chord in view.chords) / len(view.chords)
    return Found(value=middle, where=f"about {view.loop.key.spell_pitch(round(middle))}")


def to_register(view: View, asked: tuple[float, float]) -> Change | None:
    """Propose the octave that is asked."""
    aim = sum(asked) / 2
    ids = [chord.id for chord in view.chords]
    now = sum(_middle(chord) for chord in view.chords) / len(view.chords)

    def edit(loop: Loop) -> Loop:
        for chord_id in ids:
            there = _middle(loop.chord(chord_id))
            loop = chord_edits.set_register(loop, chord_id, there + aim - now)
        return loop

    return Change(
        words=f"{'higher' if aim > now else 'lower'}, about "
        f"{view.loop.key.spell_pitch(round(aim))}",
        edit=edit,
    )


def width(view: View) -> Found | None:
    """Find how wide the chords are set."""
    spans = [c.voices[-1] - c.voices[1] for c in view.chords if len(c.voices) > 2]
    return Found(value=sum(spans) / len(spans)) if spans else None


def to_width(view: View, asked: tuple[float, float]) -> Change | None:
    """Propose chords set as wide as is asked."""
    found = width(view)
    if found is None or isinstance(found.value, str):
        return None
    spacing = "open" if found.value < asked[0] else "close"
    ids = [chord.id for chord in view.chords]

    def edit(loop: Loop) -> Loop:
        for chord_id in ids:
            loop = chord_edits.set_spacing(loop, chord_id, spacing)  # type: ignore[arg-type]
        return loop

    return Change(words=f"set {spacing}", edit=edit)


def off_key(view: View) -> Found | None:
    """Find what share of the notes is outside the key."""
    voices = [v % 12 for chord in view.chords for v in chord.voices]
    if not voices:
        return None
    scale = set(view.loop.key.scale)
    off = [c for c in view.chords if any(v % 12 not in scale for v in c.voices)]
    return Found(
        value=100 * sum(v not in scale for v in voices) / len(voices),
        where=names([view.name_of(c) for c in off]),
    )


def into_key(view: View, asked: tuple[float, float]) -> Change | None:
    """Propose notes of the key for those outside."""
    scale = set(view.loop.key.scale)
    off = [c for c in view.chords if any(v % 12 not in scale for v in c.voices)]
    found = off_key(view)
    if not off or found is None or isinstance(found.value, str) or found.value <= asked[1]:
        return None

    def edit(loop: Loop) -> Loop:
        for chord in off:
            moved = {
                i: v - 1 if (v - 1) % 12 in scale else v + 1
                for i, v in enumerate(chord.voices)
                if v % 12 not in scale
            }
            loop = chord_edits.with_chord(loop, chord_edits.with_voices(chord, moved))
        return loop

    return Change(words=f"{names([view.name_of(c) for c in off], 2)} into the key", edit=edit)
