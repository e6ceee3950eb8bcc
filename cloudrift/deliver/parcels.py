"""Every file that an order writes: its name, what is in it, how it is made."""

import dataclasses
from collections.abc import Callable, Collection, Sequence
from functools import partial
from pathlib import Path

import numpy as np

from cloudrift.audio.about import Cue
from cloudrift.audio.buffers import to_gain
from cloudrift.audio.resample import at_rate
from cloudrift.audio.sound_file import FullScaleError, over_db, turn_down_db
from cloudrift.deliver import rights
from cloudrift.deliver.demo_sound import sheet_text
from cloudrift.deliver.making import Making, Sound
from cloudrift.deliver.midi_parcels import add_heard_midi, add_layer_midi, add_midi, bed_midi_of
from cloudrift.deliver.names import slug
from cloudrift.deliver.one_shots import OneShot, one_shots
from cloudrift.deliver.order import PARTS, Order
from cloudrift.deliver.parcel import Parcel, Parcels
from cloudrift.ground.cancel import Cancelled
from cloudrift.ground.words import plural
from cloudrift.loop.model.document import Document, Print
from cloudrift.loop.model.layer import Group, Layer
from cloudrift.loop.model.loop import Loop
from cloudrift.loop.sounding import key_heard, notes_of
from cloudrift.loop.sounding.known import known_score
from cloudrift.render.plan.plan import heard_piece
from cloudrift.theory.naming import read_chord

VOICE, BASS = "voice", "bass"


def parcels(what: Loop | Document, order: Order, number: int = 1) -> list[Parcel]:
    """Return every file that an order writes, in order, without writing or rendering anything.

    From 2 on, ``number`` is a part of every name: another delivery of the same loop.
    """
    document = Document.of(what)
    shelf = Parcels(document, order, number)
    for part in PARTS:
        if order.asks(part):
            _ADDS[part](shelf)
    return _told_apart(shelf.found)


def _told_apart(found: list[Parcel]) -> list[Parcel]:
    """Number files that would have one name."""
    taken: set[str] = set()
    out = []
    for parcel in found:
        path, count = Path(parcel.name), 2
        name = parcel.name
        while name.casefold() in taken:
            name = f"{path.stem}-{count}{path.suffix}"
            count += 1
        taken.add(name.casefold())
        out.append(dataclasses.replace(parcel, name=name))
    return out


def keep_below_full_scale(
    making: Making, todo: Sequence[Parcel], moved: Callable[[int, str], object]
) -> None:
    """Look before anything is written whether any of the files would clip.

    If so, all are turned down where the order says so; else FullScaleError names the worst.
    ``moved`` hears how many have been looked at, and which is next.
    """
    if not making.order.clips:
        return
    worst, name = 0.0, ""
    for done, parcel in enumerate(todo):
        if parcel.sound is None:
            continue
        if making.cancelled():
            raise Cancelled
        moved(done, parcel.name)
        over = over_db(making.finished(making.hold(parcel.sound)).audio)
        if over > worst:
            worst, name = over, parcel.name
    if worst and not making.order.lower:
        raise FullScaleError(name, worst)
    making.lower_db = turn_down_db(worst)


# --- whole loops ----------------------------------------------------------------------------------


def _loop(shelf: Parcels) -> None:
    shelf.sound("loop", "", "the loop, treated", Making.treated)


def _bare(shelf: Parcels) -> None:
    if shelf.order.asks("stems"):
        return  # it is written with them
    _add_bare(shelf, "bare", "the loop before the whole loop's treatments")


def _add_bare(shelf: Parcels, part: str, what: str) -> None:
    shelf.sound(part, "bare", what, Making.bare, treated=False)


def _pass(shelf: Parcels) -> None:
    if not shelf.order.once:  # else the loop is one
        shelf.sound(
            "pass",
            "pass",
            "one pass with its tail",
            partial(Making.treated, once=True),
            goes_round=False,
        )


def _long(shelf: Parcels) -> None:
    shelf.sound(
        "long", "long", "four times from silence, then the tail", Making.long, goes_round=False
    )


def _arrangement(shelf: Parcels) -> None:
    if shelf.document.arrangement.sections:
        shelf.sound(
            "arrangement", "arranged", "the whole arrangement", Making.arranged, goes_round=False
        )


# --- stems and apart ------------------------------------------------------------------------------


def _stems(shelf: Parcels) -> None:
    """The stems, what they add up to, and the layers that a group's stem is made of.

    A stem is what enters the sum: a layer, or a group after its own line. The layers of a group
    are written too, as parts, for they are what its line works on.
    """
    loop = shelf.loop
    heard = loop.heard()
    groups = [group for group in loop.groups if any(x.group == group.id for x in heard)]
    alone = [layer for layer in heard if not layer.group]
    count = len(alone) + len(groups)
    _add_bare(
        shelf,
        "stems",
        f"the sum of the {plural(count, 'stem')}, before the whole loop's treatments",
    )
    stems: tuple[Layer | Group, ...] = (*alone, *groups)
    for number, owner in enumerate(stems, 1):
        what = (
            f"stem: {owner.name}, {owner.source.sound_text}"
            if isinstance(owner, Layer)
            else f"stem: {owner.name}, its layers after the group's treatments"
        )
        shelf.sound(
            "stems",
            f"stem-{number}-{slug(owner.name)}",
            what,
            partial(Making.stem, owner=owner),
            treated=False,
            title=owner.name,
            role=owner.role if isinstance(owner, Layer) else "grain",
        )
    for group in groups:
        inside = [layer for layer in heard if layer.group == group.id]
        for number, layer in enumerate(inside, 1):
            shelf.sound(
                "stems",
                f"part-{slug(group.name)}-{number}-{slug(layer.name)}",
                f"part of {group.name}: {layer.name}, before the group's treatments; not a stem",
                partial(Making.stem, owner=layer),
                treated=False,
                title=layer.name,
                role=layer.role,
            )


def _dry(shelf: Parcels) -> None:
    for number, layer in enumerate(shelf.loop.heard(), 1):
        shelf.sound(
            "dry",
            f"dry-{number}-{slug(layer.name)}",
            f"{layer.name} before its own treatments",
            partial(Making.dry, layer=layer),
            treated=False,
            title=f"{layer.name}, dry",
            role=layer.role,
        )


def _apart(shelf: Parcels, role: str) -> None:
    """A role alone, and all without it, where there is both."""
    heard = shelf.loop.heard()
    of = [layer for layer in heard if layer.role == role]
    if not of:
        return
    shelf.sound(
        role,
        role,
        f"the {role} alone, treated",
        partial(Making.only, keep=lambda layer: layer.role == role),
    )
    if len(of) < len(heard):
        shelf.sound(
            role,
            f"without-{role}",
            f"everything but the {role}, treated",
            partial(Making.only, keep=lambda layer: layer.role != role),
        )


# --- notes ----------------------------------------------------------------------------------------


# --- sounds and pieces ----------------------------------------------------------------------------


def _sounds(shelf: Parcels) -> None:
    for one in one_shots(shelf.document):
        shelf.sound(
            "sounds",
            one.file_name,
            f"{one.name}, played once at {one.note}",
            partial(_one_shot, one=one),
            treated=False,
            title=f"{one.name} {one.note}",
            goes_round=False,
        )


def _one_shot(making: Making, *, one: OneShot) -> Sound:
    return Sound(one.render(making.engine, making.loop.rate), goes_round=False)


def _pieces(shelf: Parcels) -> None:
    for number, layer in enumerate(shelf.loop.heard(), 1):
        if layer.flipped is None:
            continue
        count = sum(not place.mute for place in layer.flipped.places)
        for at in range(count):
            shelf.sound(
                "pieces",
                f"piece-{number}-{slug(layer.name)}-{at + 1:02}",
                f"piece {at + 1} of {layer.name}, as it plays there",
                partial(_piece, layer=layer, at=at),
                treated=False,
                title=f"{layer.name}, piece {at + 1}",
                goes_round=False,
            )


def _piece(making: Making, *, layer: Layer, at: int) -> Sound:
    audio = heard_piece(making.loop, layer, at, making.engine.clips)
    return Sound(audio, goes_round=False)


def _prints(shelf: Parcels) -> None:
    for number, one in enumerate(shelf.document.prints, 1):
        shelf.sound(
            "prints",
            f"print-{number}-{slug(one.name)}",
            f"print: {one.name}",
            partial(_print, one=one),
            treated=False,
            title=one.name,
            goes_round=False,
        )


def _print(making: Making, *, one: Print) -> Sound:
    audio, rate = making.engine.clips.read(one.clip)
    audio = at_rate(audio, rate, making.loop.rate)
    cues = _chord_cues(making.document, one, making.loop.rate, audio.shape[1])
    return Sound(audio * np.float32(to_gain(one.gain_db)), goes_round=False, cues=cues)


def _chord_cues(document: Document, one: Print, rate: int, frames: int) -> tuple[Cue, ...]:
    """The chords that sound in a print, as places in its file: they go with it."""
    source = document.printed(one)
    key = key_heard(source)
    found = (
        Cue(
            round(start / 1000 * rate),
            read_chord(voices, key, root_hint=round(root / 100) % 12).text,
        )
        for start, _long, root, voices in known_score(source, one.recipe.passes).chords
        if voices
    )
    return tuple(cue for cue in found if 0 <= cue.frame < frames)


# --- the groove bed -------------------------------------------------------------------------------


def _bed(shelf: Parcels) -> None:
    """The loop with its groove bed, the bed alone, its lanes, its MIDI: as they sound."""
    loop = shelf.with_bed
    if loop.bed is None or not loop.bed.heard:
        return
    shelf.sound(
        "bed",
        "with-bed",
        "the loop with its groove bed",
        Making.with_bed_heard,
        title="with its groove bed",
    )
    shelf.sound(
        "bed",
        "bed",
        "the groove bed alone, after its treatments",
        partial(_bed_stem, owner=loop.bed.group),
        title=loop.bed.group.name,
    )
    if shelf.order.asks("stems"):
        playing = [lane for lane in loop.bed.heard if notes_of(loop, lane)]
        for number, lane in enumerate(playing, 1):
            shelf.sound(
                "bed",
                f"bed-{number}-{slug(lane.name)}",
                f"lane: {lane.name}, {lane.source.sound_text}",
                partial(_bed_stem, owner=lane),
                title=lane.name,
            )
    if shelf.order.asks("midi", "heard midi", "layer midi"):
        shelf.bytes(
            "bed",
            ("bed",),
            ".mid",
            "the groove bed's hits, one track per lane",
            lambda making: bed_midi_of(making.with_bed),
            treated=True,
        )


def _bed_stem(making: Making, *, owner: Layer | Group) -> Sound:
    return making.stem(owner, of=making.with_bed, heard=True)


def _demo(shelf: Parcels) -> None:
    if shelf.document.demo.parts:
        shelf.sound(
            "demo",
            "demo",
            "the demo file: everything, broken down, each part alone",
            Making.demo,
            goes_round=False,
        )
        shelf.bytes(
            "demo",
            ("demo",),
            ".txt",
            "cue sheet of the demo file",
            lambda making: sheet_text(making.document).encode(),
            treated=True,
        )


# --- sheets ---------------------------------------------------------------------------------------


def _rights(shelf: Parcels) -> None:
    for suffix, what, write in (
        (".txt", "the rights sheet, to read", rights.as_text),
        (".csv", "the rights sheet, as a table", rights.as_csv),
        (".html", "the rights sheet, as a page to print", rights.as_html),
        (".json", "the rights sheet, for programs", rights.as_json),
    ):
        shelf.bytes("rights", ("rights",), suffix, what, partial(_sheet, write=write), treated=True)


def _sheet(making: Making, *, write: Callable[[rights.Sheet], str]) -> bytes:
    return write(making.sheet).encode()


_ADDS: dict[str, Callable[[Parcels], None]] = {
    "loop": _loop, "bare": _bare, "pass": _pass, "long": _long, "stems": _stems, "dry": _dry,
    "voice": partial(_apart, role=VOICE), "bass": partial(_apart, role=BASS), "midi": add_midi,
    "heard midi": add_heard_midi, "layer midi": add_layer_midi, "sounds": _sounds,
    "pieces": _pieces, "prints": _prints, "bed": _bed,
    "arrangement": _arrangement, "demo": _demo, "rights": _rights,
}  # fmt: skip


def free_number(
    what: Loop | Document, order: Order, folder: Path, claimed: Collection[str] = ()
) -> int:
    """Return the number of a delivery that overwrites nothing in a folder: 1 where all is free.

    ``claimed`` are names that others will write there.
    """
    number = 1
    while any(
        parcel.name in claimed or (folder / parcel.name).exists()
        for parcel in parcels(what, order, number)
    ):
        number += 1
    return number
