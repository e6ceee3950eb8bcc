"""Who plays the bass voice of the chords: a move of it that nobody plays is not heard."""

from msgspec.structs import replace

from cloudrift.loop.model.loop import Chord, Layer, Loop
from cloudrift.notes.lens import ROOT_LOW, Lens, sees_bass

BASS_LOW, BASS_HIGH = ROOT_LOW, ROOT_LOW + 11  # the octave that a bass plays in


def hears_bass(loop: Loop, chord: Chord) -> bool:
    """Whether any layer that is heard plays a chord's lowest voice."""
    return _in_any(_lenses(loop), chord)


def _lenses(loop: Loop) -> tuple[Lens, ...]:
    """The lenses through which the chords are heard; one that sees every bass stands for all."""
    lenses = tuple(x.played.lens for x in loop.heard() if x.follows)
    return tuple(lens for lens in lenses if lens.kind == "bass")[:1] or lenses


def _in_any(lenses: tuple[Lens, ...], chord: Chord) -> bool:
    return any(sees_bass(lens, chord.sounding) for lens in lenses)


def unheard_bass(loop: Loop) -> tuple[Chord, ...]:
    """Return the chords whose bass says something that no layer plays.

    A root at the bottom says nothing more than the root, where a layer plays roots. A bass layer
    with notes of its own plays what it does.
    """
    heard = loop.heard()
    if not heard or any(x.role == "bass" and not x.follows for x in heard):
        return ()
    lenses = _lenses(loop)
    roots = any(lens.kind == "roots" for lens in lenses)
    return tuple(
        c
        for c in loop.chords
        if len(c.sounding) > 1
        and not _in_any(lenses, c)
        and not (roots and c.sounding[0] % 12 == c.root)
    )


def bass_only(before: Loop, after: Loop) -> tuple[Chord, ...]:
    """Return the chords of which an edit has changed the bass alone, and nobody plays it."""
    if not after.heard():
        return ()
    was = {chord.id: chord.voices for chord in before.chords}
    moved = [c for c in after.chords if c.id in was and _bass_moved(was[c.id], c.voices)]
    return tuple(c for c in moved if not hears_bass(after, c))


def _bass_moved(one: tuple[int, ...], other: tuple[int, ...]) -> bool:
    """Whether the lowest voice is all that differs: moved, added below, or taken away."""
    return one != other and (one[1:] == other[1:] or one == other[1:] or one[1:] == other)


def roots_layer(loop: Loop) -> Layer | None:
    """Return the heard layer that plays roots, which could as well play the bass voice."""
    return next((x for x in loop.heard() if x.follows and x.played.lens.kind == "roots"), None)


def let_play_bass(loop: Loop, layer_id: str) -> Loop:
    """Let a layer play the bass voice, in the octave of a bass."""
    lens = loop.layer(layer_id).played.lens
    bass = replace(lens, kind="bass", low=BASS_LOW, high=BASS_HIGH, voices=0)
    layers = tuple(x.with_source(lens=bass) if x.id == layer_id else x for x in loop.layers)
    return replace(loop, layers=layers)


def with_bass_heard(loop: Loop) -> Loop:
    """Return a loop in which somebody plays the bass voice, if there are layers for chords at all.

    The layer that plays roots takes it, else the first that leaves it out no longer does.
    """
    if not loop.chords or any(hears_bass(loop, chord) for chord in loop.chords):
        return loop
    roots = roots_layer(loop)
    if roots is not None:
        return let_play_bass(loop, roots.id)
    leaves = next((x for x in loop.heard() if x.follows and x.played.lens.skip_bass), None)
    if leaves is None:
        return loop
    lens: Lens = replace(leaves.played.lens, skip_bass=False)
    layers = tuple(x.with_source(lens=lens) if x.id == leaves.id else x for x in loop.layers)
    return replace(loop, layers=layers)
