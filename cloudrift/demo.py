"""The demo kit *Dome Show* by Tern & Tide Audio: loops for a planetarium's winter programme."""

from collections.abc import Callable
from pathlib import Path

from msgspec.structs import replace
from platformdirs import user_data_path

from cloudrift.audio.clips import ClipStore
from cloudrift.audio.files import make_folder
from cloudrift.deliver.kit import Cover, read_kit, write_cover
from cloudrift.exchange import StandIn
from cloudrift.loop.edits.bed import beds
from cloudrift.loop.edits.chords import chord_edits
from cloudrift.loop.edits.flip import cutting, flips, ordering
from cloudrift.loop.edits.flip.prints import loop_to_print, with_print
from cloudrift.loop.edits.layers import layer_edits, line_edits, own_notes
from cloudrift.loop.edits.layers.recordings import add_recording, facts_of, laid_in
from cloudrift.loop.files.storage import SUFFIX, save
from cloudrift.loop.model.credits import Credits, Person
from cloudrift.loop.model.demo_file import suggest_demo
from cloudrift.loop.model.document import Document
from cloudrift.loop.model.flip import Flipped
from cloudrift.loop.model.loop import Loop
from cloudrift.notes.listening import read_and_listen
from cloudrift.render.forms.printing import printed
from cloudrift.style.card_files import find_card
from cloudrift.style.form import find_form, suggest_form
from cloudrift.style.groove import suggest_bed, written_strengths
from cloudrift.style.manner import find_manner
from cloudrift.style.sketch import sketch
from cloudrift.texture.ride import RidePoint
from cloudrift.theory.key import Key
from cloudrift.theory.symbols import parse_degree

KIT, MAKER = "Dome Show", "Tern & Tide Audio"
ABOUT = "Loops for a planetarium's winter programme"
FORMS = {
    "Slow Meridian": "beat tape", "Harbour Lights Out": "hook first", "Ice Road": "one long rise",
    "Last Ferry North": "bridge by strings",
}  # fmt: skip


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
    loop = line_edits.add_treatment(loop, pad.id, "reverse")
    loop = line_edits.set_treatment(loop, pad.id, loop.layer(pad.id).line[-1].id, blend=0.6)
    loop = line_edits.add_treatment(loop, None, "shift", 0)
    shift = loop.line[0].id
    loop = line_edits.set_treatment_setting(loop, None, shift, "semitones", -2.0)
    return replace(line_edits.set_treatment_setting(loop, None, shift, "way", "like tape"), kit=KIT)


def harbour_lights_out() -> Loop:
    """*Harbour Lights Out*: staccato triads over a groove bed that is on."""
    loop = sketch(find_card("Piet Harrow"), Key("G", "minor"), 126.0, 3, title="Harbour Lights Out")
    strengths = written_strengths(loop)
    loop = suggest_bed(loop, find_manner("rolling"), strengths, variation=5)
    return replace(beds.give_air(beds.set_heard(loop, on=True)), kit=KIT)


def ice_road() -> Loop:
    """*Ice Road*: two wide chords, a filter that rides over the loop."""
    loop = sketch(find_card("Sunniva Roe"), Key("G#", "minor"), 100.0, 6, title="Ice Road")
    loop = line_edits.add_treatment(loop, None, "cuts", 0)
    cuts = loop.line[0].id
    ride = _ride(loop, (0.0, 900.0), (0.45, 9000.0), (0.8, 2400.0))
    return replace(line_edits.set_ride(loop, None, cuts, "high_cut_hz", ride), kit=KIT)


def last_ferry_north() -> Loop:
    """*Last Ferry North*: warm keys with a line of its own notes, keys and line in a group."""
    loop = sketch(find_card("Lio Castellan"), Key("Bb", "major"), 104.0, 4,
                  title="Last Ferry North")  # fmt: skip
    lead = next(layer for layer in reversed(loop.layers) if layer.role not in ("bass", "pad"))
    loop = own_notes.detach(loop, lead.id)
    return replace(layer_edits.group_layers(loop, [loop.layers[0].id, lead.id], "Deck"), kit=KIT)


# By their titles, the one to open first.
LOOPS: dict[str, Callable[[], Loop]] = {
    "Polar Night II": polar_night,
    "Slow Meridian": slow_meridian,
    "Harbour Lights Out": harbour_lights_out,
    "Ice Road": ice_road,
    "Last Ferry North": last_ferry_north,
}


def demo_loops() -> tuple[Loop, ...]:
    """Return the loops of the kit, the one to open first."""
    return tuple(make() for make in LOOPS.values())


def demo_document(loop: Loop, clips: ClipStore) -> Document:
    """Return a loop of the kit with all that is made of it; its recordings lie in ``clips``.

    *Polar Night II* has a flip, a recording, an arrangement, rides and a demo file; all have
    people, and the others an arrangement.
    """
    people = (Person(name="Ines Tern", did=("wrote", "played"), share=60.0),
              Person(name="Jo Tide", did=("mixed",), share=40.0))  # fmt: skip
    credits = Credits(people=people, maker=MAKER)
    document = replace(Document.of(loop), credits=credits)
    if loop.title in FORMS:
        return suggest_form(document, find_form(FORMS[loop.title]), 2)
    document = _with_flip(document, clips)
    document = document.with_loop(_with_recording(document.loop, clips))
    document = suggest_form(document, find_form("intro from the verse"), 1)
    return replace(document, demo=suggest_demo(document.loop, 1))


def _with_flip(document: Document, clips: ClipStore) -> Document:
    """A print of the pluck, cut in 16 and put in another order: parked, to be heard in Flip."""
    loop = document.loop
    pluck = next(layer for layer in loop.layers if layer.role == "pluck")
    printed_of = loop_to_print(loop, (pluck.id,))
    got = printed(printed_of, f"Print 1, {pluck.name}", clips)
    document = with_print(document, printed_of, got.clip, got.facts, (pluck.id,), got.gain_db)
    flip_id = document.loop.layers[-1].id

    def laid_out(flip: Flipped) -> Flipped:
        cut = cutting.cut(flip, cutting.cuts_at(flip, "equal", loop.metre, 16))
        return ordering.ordered(cut, "a b i- d f e gx2 h a- j l k m n p- o")

    return document.with_loop(flips.with_flip(document.loop, flip_id, laid_out))


def _with_recording(loop: Loop, clips: ClipStore) -> Loop:
    """A phrase of the exchange far behind the keys, and a pad that rides up to the last chord."""
    path = StandIn(moods=None).fetch("ferry-choir", lambda: False, lambda _share, _words: None)
    audio, rate, heard = read_and_listen(path)
    facts = facts_of(heard, "Ferry choir", origin="the exchange", licence="royalty-free",
                     maker="Otter Bay Voices")  # fmt: skip
    loop = add_recording(loop, laid_in(loop, clips.record(audio, rate), facts), "Ferry choir")
    choir = loop.layers[-1].id
    loop = layer_edits.set_layer(loop, choir, level_db=-16.0)
    pad = next(layer for layer in loop.layers if layer.role == "pad")
    level = pad.level_db
    ride = _ride(loop, (0.0, level), (0.7, level), (0.97, level + 3))
    return line_edits.set_level_ride(loop, pad.id, ride)


def _ride(loop: Loop, *points: tuple[float, float]) -> tuple[RidePoint, ...]:
    """Each point: where in the loop, from 0 to 1, and the value there."""
    return tuple(RidePoint(tick=round(at * loop.ticks), value=value) for at, value in points)


def demo_folder() -> Path:
    """Return where the kit is kept for trying out (``$XDG_DATA_HOME/cloudrift/Dome Show``)."""
    return user_data_path("cloudrift") / KIT


def unpack(folder: Path | None = None) -> list[Path]:
    """Write the kit's loop files where they are not yet, and return them; changes are kept."""
    folder = folder or demo_folder()
    make_folder(folder, "; set XDG_DATA_HOME to a folder that can be written")
    paths = []
    for title, make in LOOPS.items():
        path = folder / f"{title}{SUFFIX}"
        if not path.exists():
            clips = ClipStore()
            save(demo_document(make(), clips), path, clips)
        paths.append(path)
    kit = read_kit(folder)
    if not (kit.cover.name or kit.cover.order):
        order = tuple(path.name for path in paths)
        write_cover(kit, Cover(name=KIT, maker=MAKER, about=ABOUT, order=order))
    return paths
