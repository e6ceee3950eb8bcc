"""The commands of flips: print a loop, and cut one up."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from cloudrift.cli.options import LOOP, SOUND, Number, output_option, variation_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError

if TYPE_CHECKING:
    from cloudrift.loop.model.document import Pass
    from cloudrift.loop.model.flip import Flipped
    from cloudrift.loop.model.loop import Loop


@click.command("print")
@click.argument("loop_file", metavar="LOOP", type=click.Path(path_type=Path))
@click.option("--layer", "layers", multiple=True, help="Only this layer, by name; may be repeated.")
@click.option("--group", "groups", multiple=True, help="Only this group, likewise.")
@click.option("--bare", is_flag=True, help="Print it bare, without treatments.")
@click.option(
    "--pass",
    "passes",
    multiple=True,
    metavar="NAME[: LAYER, …]",
    help="One pass with all layers, or with these only; repeat for more passes.",
)
@output_option(*SOUND, what="A sound file: .wav, .flac, .ogg or .mp3.")
def print_loop(
    loop_file: Path,
    layers: tuple[str, ...],
    groups: tuple[str, ...],
    bare: bool,
    passes: tuple[str, ...],
    output: Path,
) -> None:
    """Print a loop, or some of its layers, as seamless audio."""
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.audio.sound_file import write_sound  # noqa: PLC0415
    from cloudrift.loop.edits.arranging.passes import check_passes  # noqa: PLC0415
    from cloudrift.loop.edits.flip.prints import loop_to_print  # noqa: PLC0415
    from cloudrift.loop.files.storage import load  # noqa: PLC0415
    from cloudrift.render.forms.printing import printed  # noqa: PLC0415

    clips = ClipStore()
    loop = load(loop_file, clips)
    wanted = [_named(name, loop.layers, "layer") for name in layers]
    wanted += [_named(name, loop.groups, "group") for name in groups]
    loop = loop_to_print(loop, tuple(wanted), bare=bare)
    round_ = tuple(_pass_of(loop, text) for text in passes)
    check_passes(loop, round_)
    got = printed(loop, output.stem, clips, passes=round_)
    audio, rate = clips.read(got.clip)
    write_sound(output, audio, rate)
    key = got.facts.key.text if got.facts.key else "no key"
    louder = f", {got.gain_db:g} dB quieter than it plays" if got.gain_db else ""
    say(f"{output}: {key}, {got.facts.tempo:.5g} BPM, {got.facts.length_s:.2f} s{louder}")


def _pass_of(loop: "Loop", text: str) -> "Pass":
    """Read who plays in a pass: ``Name`` for all, ``Name: one, other`` for these alone."""
    from cloudrift.loop.edits.arranging.passes import passers  # noqa: PLC0415
    from cloudrift.loop.model.document import Pass  # noqa: PLC0415

    name, some, players = text.partition(":")
    of = passers(loop)
    stay = {_named(one.strip(), of, "layer or group") for one in players.split(",") if some}
    return Pass(name=name.strip(), out=tuple(x.id for x in of if some and x.id not in stay))


def _named(name: str, among: Any, what: str) -> str:
    """Return the id of a layer or group by its name."""
    found = [one.id for one in among if name.casefold() in (one.name.casefold(), one.id)]
    if not found:
        names = ", ".join(one.name for one in among) or "none"
        raise CloudriftError(f"no {what} is called {name!r}; there are: {names}")
    return str(found[0])


@click.command()
@click.argument("file", metavar="IN", type=click.Path(path_type=Path))
@click.option(
    "--slice",
    "cut_at",
    default="beats",
    show_default=True,
    help="How to slice: chords, beats, bars, transients, equal:N.",
)
@click.option("--order", default="", help='The order of the slices: "a c- bx4 . b".')
@click.option(
    "--reverse",
    "turn",
    type=click.Choice(["all", "in-order"]),
    help="Reverse the whole, or each chord in its place.",
)
@click.option(
    "--scatter",
    "amount",
    type=Number(0, 100),
    help="Share of the slices that scatter changes, in percent.",
)
@variation_option("scatter")
@click.option(
    "--reversed",
    "chance_backward",
    type=Number(0, 100),
    default=30.0,
    show_default=True,
    help="Chance of reversed pieces in a scatter, in percent.",
)
@click.option("--keep-downbeats/--move-downbeats", default=True, show_default=True)
@click.option("--shift", type=Number(), default=0.0, show_default=True, help="Semitones.")
@click.option(
    "--way",
    type=click.Choice(["keep-length", "like-tape"]),
    default="keep-length",
    show_default=True,
    help="How to shift: keep the length, or like tape (slower, too).",
)
@click.option("--tempo", type=Number(), help="Tempo to stretch to, in BPM; the pitch stays.")
@click.option("--json", "as_json", is_flag=True, help="Pieces and places, machine-readable.")
@output_option(*SOUND, LOOP, what="A sound file, or a loop file that continues from it.")
def flip(
    file: Path,
    cut_at: str,
    order: str,
    turn: str | None,
    amount: float | None,
    variation: int,
    chance_backward: float,
    keep_downbeats: bool,
    shift: float,
    way: str,
    tempo: float | None,
    as_json: bool,
    output: Path,
) -> None:
    """Print a loop file, or use a recording, slice it and reorder the slices."""
    from msgspec.structs import replace  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.audio.sound_file import below_full_scale, write_sound  # noqa: PLC0415
    from cloudrift.loop.edits.flip import cutting, flips, ordering  # noqa: PLC0415
    from cloudrift.loop.edits.flip.scatter import Rules, scattered  # noqa: PLC0415
    from cloudrift.loop.files.storage import save  # noqa: PLC0415
    from cloudrift.notes.time import bar_ticks  # noqa: PLC0415
    from cloudrift.render import Engine  # noqa: PLC0415
    from cloudrift.render.plan.plan import layer_laying  # noqa: PLC0415
    from cloudrift.render.plan.slicing import hits_in  # noqa: PLC0415

    clips = ClipStore()
    loop = _own_loop_of(file, clips)
    made = flips.flip_in(loop, loop.layers[0].id)
    what, _, count = cut_at.partition(":")
    if count and not count.isdigit():
        raise CloudriftError(
            f"--slice is {cut_at!r}, but must be chords, beats, bars, transients or equal:N"
        )
    laying = layer_laying(loop, loop.layers[0])
    hits = hits_in(made, laying, clips, loop.tempo) if what == "transients" else ()
    made = cutting.cut(made, cutting.cuts_at(made, what, loop.metre, int(count or 16), hits))
    made = ordering.ordered(made, order) if order else made
    if turn:
        made = ordering.backward(made) if turn == "all" else ordering.backward_in_order(made)
    if amount is not None:
        rules = Rules(
            amount=amount, variation=variation, backward=chance_backward, downbeats=keep_downbeats
        )
        made = scattered(made, rules, bar_ticks(loop.metre))
    own = made.of.facts.tempo or loop.tempo
    if way == "like-tape" and shift:
        made = replace(made, of=replace(made.of, fit="tape"))
        taped = round(own * 2 ** (shift / 12), 3)
        loop = replace(loop, tempo=taped if tempo is None else tempo)
    else:
        made = replace(made, of=replace(made.of, semitones=shift))
        loop = replace(loop, tempo=loop.tempo if tempo is None else tempo)
    loop = flips.with_flip(loop, loop.layers[0].id, lambda _flip: made)
    loop = _in_its_own(loop)
    softer_db = 0.0
    if output.suffix.lower() == LOOP:
        save(loop, output, clips)
    else:
        engine = Engine(clips=clips)
        try:
            audio, softer_db = below_full_scale(engine.render(loop).audio)
        finally:
            engine.close()
        write_sound(output, audio, loop.rate)
    if as_json:
        click.echo(json.dumps(facts_of_flip(made, loop), indent=1, ensure_ascii=False))
    else:
        said = f"; turned down by {softer_db:g} dB to avoid clipping" if softer_db else ""
        say(f"{output}: {ordering.order_text(made)}; {loop.key.text}, {loop.tempo:g} BPM{said}")


def _in_its_own(loop: "Loop") -> "Loop":
    """The loop in the key that the flip sounds in, its chords what is heard, if that is known."""
    from cloudrift.loop.edits.flip.apart import own_loop  # noqa: PLC0415

    flip = loop.layers[0].flipped
    known = flip is not None and flip.of.facts.key is not None
    return own_loop(loop, loop.layers[0].id) if known else loop


def _own_loop_of(file: Path, clips: Any) -> "Loop":
    """Return a loop whose one layer is a flip: of a print of a loop file, or of a recording."""
    from msgspec.structs import replace  # noqa: PLC0415

    from cloudrift.loop.edits.flip.flips import flip_recording, with_layers_of  # noqa: PLC0415
    from cloudrift.loop.edits.flip.prints import loop_to_print, with_print  # noqa: PLC0415
    from cloudrift.loop.edits.layers.recordings import add_recording, facts_of, laid_in  # noqa: PLC0415
    from cloudrift.loop.files.storage import SUFFIX, load  # noqa: PLC0415
    from cloudrift.loop.model.document import Document  # noqa: PLC0415
    from cloudrift.notes.listening import read_and_listen  # noqa: PLC0415
    from cloudrift.render.forms.printing import printed  # noqa: PLC0415
    from cloudrift.style.beginnings import empty_loop  # noqa: PLC0415
    from cloudrift.theory import Key  # noqa: PLC0415

    if file.suffix == SUFFIX:
        loop = loop_to_print(load(file, clips))
        got = printed(loop, "Print 1", clips)
        document = with_print(Document(loop=loop), loop, got.clip, got.facts, (), got.gain_db)
        layer = document.loop.layers[-1]
        alone = with_layers_of(loop, loop, (layer,))
        return _at(alone, loop.sounding_tempo)
    audio, rate, heard = read_and_listen(file)
    facts = facts_of(heard, file.stem, origin=f"the file {file.name}")
    tempo = facts.tempo or 120.0
    bars = max(1, min(64, round(facts.length_s * tempo / 240 + 0.49)))
    loop = empty_loop(facts.key or Key(), tempo, bars=bars, title=file.stem[:60])
    source = replace(laid_in(loop, clips.record(audio, rate), facts), gain_db=0.0)
    loop = add_recording(loop, source)
    return flip_recording(loop, loop.layers[0].id)


def _at(loop: "Loop", tempo: float) -> "Loop":
    from msgspec.structs import replace  # noqa: PLC0415

    layers = tuple(replace(layer, parked=False) for layer in loop.layers)
    return replace(loop, tempo=round(tempo, 6), layers=layers, line=())


def facts_of_flip(flip: "Flipped", loop: "Loop") -> dict[str, Any]:
    """Return pieces and places as plain values, in seconds at the loop's tempo."""
    from cloudrift.loop.edits.flip.ordering import order_text  # noqa: PLC0415
    from cloudrift.loop.model.flip import letters_of  # noqa: PLC0415
    from cloudrift.notes.time import TICKS_PER_QUARTER  # noqa: PLC0415

    def seconds(ticks: int) -> float:
        return round(ticks * 60 / loop.tempo / TICKS_PER_QUARTER, 5)

    def chord(tick: int) -> str | None:
        found = flip.chord_at(tick)
        return None if found is None else found.read(flip.of.facts.key or loop.key).text

    return {
        "key": loop.key.plain, "tempo": loop.tempo, "order": order_text(flip),
        "pieces": [
            {"name": letters_of(i), "start_s": seconds(a), "length_s": seconds(b - a),
             "chord": chord(a)} for i, (a, b) in enumerate(flip.pieces)
        ],
        "places": [
            {"piece": letters_of(flip.piece_at(p.from_tick)), "start_s": seconds(p.at_tick),
             "length_s": seconds(p.length_ticks), "backward": p.backward, "times": p.times,
             "semitones": p.semitones, "muted": p.mute} for p in flip.places
        ],
    }  # fmt: skip
