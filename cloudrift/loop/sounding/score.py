"""The score that is heard: what sounds of a layer after its own, its group's, the loop's line."""

from cloudrift.ground.lru import by_identity
from cloudrift.loop.model.chord import Chord
from cloudrift.loop.model.layer import Group, Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.model.spec import MIN_LEVEL_DB
from cloudrift.loop.sounding.rows import shifted, through
from cloudrift.loop.sounding.sources import SILENT, Sounding, of_source
from cloudrift.texture.treatment import Line, time_ratio


def sounding(loop: Loop, layer: Layer) -> Sounding:
    """Return what is heard of a layer in its loop, at its level; nothing of one at no level."""
    group = loop.group(layer.group) if layer.group else None
    level = _level_db(layer) + (_level_db(group) if group else 0.0)
    if level <= MIN_LEVEL_DB:
        return SILENT
    tempo = loop.tempo * time_ratio(layer.line) * (time_ratio(group.line) if group else 1.0)
    out = of_source(loop, layer, tempo)
    for owner in (layer, group, loop):
        if owner is not None:
            out = _treated(out, owner.line, owner.line_blend, loop.ticks, loop.chords)
    out = _treated(out, loop.over, 1.0, loop.ticks, loop.chords)
    return _louder(out, level)


def _level_db(of: Layer | Group) -> float:
    if isinstance(of, Layer) and of.level_ride is not None:
        return of.level_ride.mean
    return of.level_db


@by_identity(1024)
def _treated(
    of: Sounding, line: Line, blend: float, ticks: int, chords: tuple[Chord, ...]
) -> Sounding:
    if not line:
        return of
    cuts = tuple(chord.start_tick for chord in chords) or (0,)
    notes = through(of.notes, line, blend, ticks, cuts)
    harmony = through(of.harmony, line, blend, ticks, cuts)
    if notes is of.notes and harmony is of.harmony:
        return of
    return of._replace(notes=notes, harmony=harmony)


@by_identity(512)
def _louder(of: Sounding, level_db: float) -> Sounding:
    if not level_db:
        return of
    return of._replace(
        notes=shifted(of.notes, 0, level_db), harmony=shifted(of.harmony, 0, level_db)
    )
