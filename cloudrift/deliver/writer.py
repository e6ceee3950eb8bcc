"""Writing a loop out: the treated loop, its stems, its bare sum and its MIDI."""

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from cloudrift.audio.buffers import RATES, Stereo
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import SUBTYPES, make_folder, write_atomically, write_wav
from cloudrift.deliver.names import slug, stem_of
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.wanted import Cancelled, never
from cloudrift.ground.words import plural
from cloudrift.loop.bed_midi import bed_parts
from cloudrift.loop.model import Group, Layer, Loop
from cloudrift.notes.midi import midi_file
from cloudrift.render.engine import Engine, trimmed
from cloudrift.render.plan import Form, mix_node

Progress = Callable[[int, int, str], None]  # done, of, file name


@dataclass(frozen=True, kw_only=True)
class Order:
    """What to write. ``rate`` 0 keeps the loop's own; ``once`` is one pass with its tail.

    The groove bed is written only where ``bed`` asks for it: beside the loop, and never in it.
    """

    stems: bool = False
    midi: bool = False
    bits: int = 24
    rate: int = 0
    once: bool = False
    bed: bool = False

    def __post_init__(self) -> None:
        if self.bits not in SUBTYPES:
            raise CloudriftError(f"bits must be 16, 24 or 32, not {self.bits}")
        if self.rate and self.rate not in RATES:
            raise CloudriftError(f"rate must be 44100 or 48000 Hz, not {self.rate}")


@dataclass(frozen=True, kw_only=True)
class Parcel:
    """One file to be written: its name, what is in it, and how it is made."""

    name: str
    what: str
    write: Callable[[Path, Engine, Callable[[], bool]], None]


def parcels(loop: Loop, order: Order, number: int = 1) -> list[Parcel]:
    """Return every file that an order writes, in order, without writing or rendering anything.

    From 2 on, ``number`` is a part of every name: another delivery of the same loop.
    """
    if order.rate and order.rate != loop.rate:
        loop = replace(loop, rate=order.rate)
    with_bed, loop = loop, replace(loop, bed=None)
    end = ("_once" if order.once else "") + (f"_{number}" if number > 1 else "")
    sounding = stem_of(loop.title, loop.sounding_tempo, loop.sounding_key)
    written = stem_of(loop.title, loop.tempo, loop.key)
    out = [
        Parcel(
            name=f"{sounding}{end}.wav",
            what="the loop, treated" + (", one pass with its tail" if order.once else ""),
            write=partial(_write_loop, loop=loop, order=order),
        )
    ]
    if order.stems:
        out += _stems(loop, order, written, end)
    with_notes = [layer for layer in loop.heard() if layer.recorded is None]
    if order.midi and with_notes:
        out.append(
            Parcel(
                name=f"{written}{f'_{number}' if number > 1 else ''}.mid",
                what="the notes as played, a track a layer",
                write=lambda path, _engine, _stop: write_midi(path, loop, with_notes),
            )
        )
    if order.bed and with_bed.bed and with_bed.bed.heard:
        out += _bed(with_bed, order, sounding, end)
    return out


def _bed(loop: Loop, order: Order, sounding: str, end: str) -> list[Parcel]:
    """The loop with its groove bed, the bed alone, its lanes, its MIDI: as they sound."""
    assert loop.bed is not None
    out = [
        Parcel(name=f"{sounding}_with-bed{end}.wav", what="the loop with its groove bed",
               write=partial(_write_loop, loop=loop, order=order)),
        Parcel(name=f"{sounding}_bed{end}.wav",
               what="the groove bed alone, behind its treatments",
               write=partial(_write_stem, loop=loop, order=order, owner=loop.bed.group,
                             treated=True)),
    ]  # fmt: skip
    if order.stems:
        for number, lane in enumerate(loop.bed.heard, 1):
            out.append(
                Parcel(name=f"{sounding}_bed-{number}-{slug(lane.name)}{end}.wav",
                       what=f"lane: {lane.name}, {lane.source.sound_text}",
                       write=partial(_write_stem, loop=loop, order=order, owner=lane,
                                     treated=True))
            )  # fmt: skip
    if order.midi:
        out.append(
            Parcel(name=f"{sounding}_bed{end.removeprefix('_once')}.mid",
                   what="the groove bed's hits, a track a lane",
                   write=lambda path, _engine, _stop: write_bed_midi(path, loop))
        )  # fmt: skip
    return out


def _stems(loop: Loop, order: Order, written: str, end: str) -> list[Parcel]:
    """The stems, what they add up to, and the layers that a group's stem is made of.

    A stem is what enters the sum: a layer, or a group behind its own line. The layers of a group
    are written too, as parts, for they are what its line works on.
    """
    heard = loop.heard()
    groups = [group for group in loop.groups if any(x.group == group.id for x in heard)]
    alone = [layer for layer in heard if not layer.group]
    count = len(alone) + len(groups)
    out = [
        Parcel(
            name=f"{written}_bare{end}.wav",
            what=f"the sum of the {plural(count, 'stem')}, before the whole loop's treatments",
            write=lambda path, engine, stop: _write_bare(path, engine, stop, loop, order),
        )
    ]
    stems: tuple[Layer | Group, ...] = (*alone, *groups)
    for number, owner in enumerate(stems, 1):
        what = (
            f"stem: {owner.name}, {owner.source.sound_text}" if isinstance(owner, Layer)
            else f"stem: {owner.name}, its layers behind the group's treatments"
        )  # fmt: skip
        out.append(
            Parcel(name=f"{written}_stem-{number}-{slug(owner.name)}{end}.wav", what=what,
                   write=partial(_write_stem, loop=loop, order=order, owner=owner))
        )  # fmt: skip
    for group in groups:
        inside = [layer for layer in heard if layer.group == group.id]
        for number, layer in enumerate(inside, 1):
            name = f"{slug(group.name)}-{number}-{slug(layer.name)}"
            out.append(
                Parcel(name=f"{written}_part-{name}{end}.wav",
                       what=f"part of {group.name}: {layer.name}, before the group's treatments; "
                       "not a stem",
                       write=partial(_write_stem, loop=loop, order=order, owner=layer))
            )  # fmt: skip
    return out


def free_number(loop: Loop, order: Order, folder: Path, claimed: Collection[str] = ()) -> int:
    """Return the number of a delivery that overwrites nothing in a folder: 1 where all is free.

    ``claimed`` are names that others will write there.
    """
    number = 1
    while any(
        parcel.name in claimed or (folder / parcel.name).exists()
        for parcel in parcels(loop, order, number)
    ):
        number += 1
    return number


def deliver(
    loop: Loop,
    folder: Path,
    order: Order,
    *,
    clips: ClipStore | None = None,
    number: int = 0,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] = never,
) -> list[Path]:
    """Write all files of an order into a folder (made if need be) and return their paths.

    Where a file of one of the names is there, all names get a number: nothing that was delivered
    is lost, and one delivery stays one set. A ``number`` that is given is taken instead; 1 is none,
    and overwrites.
    ``clips`` has the recordings that the loop names.
    Each file is written whole or not at all; a cancelled delivery leaves the files that were
    finished. Everything is computed anew: a file depends on its loop to the last bit, not on the
    edits that led there. Raises CloudriftError that names the file at fault, and Cancelled.
    """
    if not loop.heard():
        raise CloudriftError("no layer sounds, so there is nothing to write; turn one on in Layers")
    make_folder(folder, "; choose another")
    todo = parcels(loop, order, number or free_number(loop, order, folder))
    done = []
    engine = Engine(clips=clips)
    try:
        for i, parcel in enumerate(todo):
            if cancelled():
                raise Cancelled
            if progress:
                progress(i, len(todo), parcel.name)
            parcel.write(folder / parcel.name, engine, cancelled)
            done.append(folder / parcel.name)
    finally:
        engine.close()
    if progress:
        progress(len(todo), len(todo), "")
    return done


def _write(
    path: Path, audio: Stereo, loop: Loop, order: Order, *, treated: bool, what: str
) -> None:
    key = loop.sounding_key if treated else loop.key
    tempo = loop.sounding_tempo if treated else loop.tempo
    comment = f"key {key.plain}, tempo {tempo:.2f} BPM, {loop.bars} bars"
    if loop.sounding_key != loop.key or loop.sounding_tempo != loop.tempo:
        comment += f"; written in {loop.key.plain} at {loop.tempo:.2f} BPM"
    write_wav(
        path,
        audio,
        loop.rate,
        bits=order.bits,
        title=loop.title if not what else f"{loop.title}: {what}",
        comment=comment,
        loop=not order.once,
        tempo=tempo,
        beats=loop.bars * loop.metre[0],
        root_pitch=60 + key.pc,
        metre=loop.metre,
    )


def _write_loop(
    path: Path, engine: Engine, stop: Callable[[], bool], *, loop: Loop, order: Order
) -> None:
    audio = engine.once(loop, stop) if order.once else engine.render(loop, stop).audio
    _write(path, audio, loop, order, treated=True, what="")


def _write_bare(
    path: Path, engine: Engine, stop: Callable[[], bool], loop: Loop, order: Order
) -> None:
    audio = engine.audio(mix_node(loop, engine.tones, Form(once=order.once)), stop)
    if order.once:
        audio = trimmed(audio, loop.frames, loop.rate)
    _write(path, audio, loop, order, treated=False, what="bare")


def _write_stem(
    path: Path, engine: Engine, stop: Callable[[], bool], *, loop: Loop, order: Order,
    owner: Layer | Group, treated: bool = False,
) -> None:  # fmt: skip
    stem = engine.group_stem if isinstance(owner, Group) else engine.stem
    audio = stem(loop, owner, once=order.once, cancelled=stop)  # type: ignore[arg-type]
    if order.once:
        audio = trimmed(audio, loop.sounding_frames if treated else loop.frames, loop.rate)
    _write(path, audio, loop, order, treated=treated, what=owner.name)


def write_bed_midi(path: Path, loop: Loop) -> None:
    """Write what the lanes of the groove bed play, a track a lane, at the tempo that is heard."""
    parts, drums = bed_parts(loop)
    data = midi_file(
        parts, tempo=loop.sounding_tempo, metre=loop.metre, drums=drums,
        signature=loop.sounding_key.signature_name, loop_ticks=loop.ticks, title=loop.title,
    )  # fmt: skip
    write_atomically(path, lambda file: file.write(data))


def write_midi(path: Path, loop: Loop, layers: Iterable[Layer]) -> None:
    """Write layers' notes as played, a track a layer."""
    data = midi_file(
        [(layer.name, loop.notes_of(layer)) for layer in layers],
        tempo=loop.tempo,
        metre=loop.metre,
        signature=loop.key.signature_name,
        loop_ticks=loop.ticks,
        title=loop.title,
    )
    write_atomically(path, lambda file: file.write(data))
