"""The demo kit *Dome Show* by Tern & Tide Audio: loops for a planetarium's winter programme."""

from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path

from cloudrift.audio.files import make_folder
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.files.storage import SUFFIX, save
from cloudrift.loop.model.loop import Loop
from cloudrift.style.card_files import find_card
from cloudrift.style.sketch import sketch
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import parse_degree

KIT = "Dome Show"


def polar_night() -> Loop:
    """*Polar Night II*: dark keys in F♯ minor, turned three semitones down with its length held."""
    card = find_card("Marlow Quist")
    loop = sketch(card, Key("F#", "minor"), 142.0, 16, title="Polar Night II")
    for chord, degree in zip(loop.chords, ("i", "VI7", "iv7", "V7"), strict=True):
        loop = chord_edits.set_tones(loop, chord.id, parse_degree(degree, loop.key))
    loop = line_edits.add_treatment(loop, None, "shift", 0)
    shift = loop.line[0].id
    return replace(line_edits.set_treatment_setting(loop, None, shift, "semitones", -3.0), kit=KIT)


def slow_meridian() -> Loop:
    """*Slow Meridian*: dusty sevenths, chords backward in order, by tape two semitones down."""
    loop = sketch(find_card("Edda Fenn"), Key("D", "dorian"), 88.0, 4, title="Slow Meridian")
    pad = next((layer for layer in loop.layers if layer.role == "keys"), loop.layers[0])
    loop = line_edits.add_treatment(loop, pad.id, "backward")
    loop = line_edits.set_treatment(loop, pad.id, loop.layer(pad.id).line[-1].id, blend=0.6)
    loop = line_edits.add_treatment(loop, None, "shift", 0)
    shift = loop.line[0].id
    loop = line_edits.set_treatment_setting(loop, None, shift, "semitones", -2.0)
    return replace(line_edits.set_treatment_setting(loop, None, shift, "way", "tape"), kit=KIT)


def demo_loops() -> tuple[Loop, ...]:
    """Return the loops of the kit, the one to open first."""
    return polar_night(), slow_meridian()


def demo_folder() -> Path:
    """Return where the kit is kept for trying out (``$XDG_DATA_HOME/cloudrift/Dome Show``)."""
    return user_data_path("cloudrift") / KIT


def unpack(folder: Path | None = None) -> list[Path]:
    """Write the kit's loop files where they are not yet, and return them; changes are kept."""
    folder = folder or demo_folder()
    make_folder(folder, "; set XDG_DATA_HOME to a folder that can be written")
    paths = []
    for loop in demo_loops():
        path = folder / f"{loop.title}{SUFFIX}"
        if not path.exists():
            save(loop, path)
        paths.append(path)
    return paths
