"""The command line: the same jobs without a window. Bad input ends with code 2 and one sentence."""

import json
import multiprocessing
import os
import signal
import sys
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any, Literal

import click

from cloudrift import __version__
from cloudrift.cli_layers import notes, room
from cloudrift.cli_terminal import need_display, write_plainly
from cloudrift.cli_texture import treat, treatments
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.paths import have_home

EXIT_BAD_INPUT = 2


class _Commands(click.Group):
    """A group in which a file name alone means: open it in the window."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and not args[0].startswith("-")):
            args = ["open", *args]
        return super().parse_args(ctx, args)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__)
def commands() -> None:
    """Cloudrift writes melodic loops. With a FILE or nothing it opens its window."""


@commands.command("open", hidden=True)
@click.argument("file", type=click.Path(path_type=Path), required=False)
def open_file(file: Path | None) -> None:
    """Open the window, with a loop file if one is given."""
    _window([file] if file else [])


@commands.command()
def demo() -> None:
    """Open the demo kit, playing."""
    from cloudrift.demo import unpack  # noqa: PLC0415 - a command loads only what it needs

    need_display()
    _window(unpack()[:1], play=True)


def _window(files: Sequence[Path], *, play: bool = False) -> None:
    from cloudrift.loop.storage import load_document  # noqa: PLC0415

    documents = [(load_document(file), file) for file in files]
    need_display()
    from cloudrift.desktop.frame.app import run  # noqa: PLC0415

    sys.exit(run(documents[0] if documents else None, play=play))


@commands.command()
@click.option("--style", required=True, help="Style card: a name, or a .toml file.")
@click.option("--key", "key_text", help="Key, as in 'F# minor'.")
@click.option("--tempo", type=float, help="Tempo in BPM.")
@click.option("--bars", type=int, default=8, show_default=True)
@click.option(
    "--draw", type=int, default=1, show_default=True, help="The same draw, the same loop."
)
@click.option("--title", help="Title; taken from the file name if not given.")
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True)
def new(
    style: str,
    key_text: str | None,
    tempo: float | None,
    bars: int,
    draw: int,
    title: str | None,
    output: Path,
) -> None:
    """Write a first loop in a style into a loop file."""
    from cloudrift.loop.storage import SUFFIX, save  # noqa: PLC0415
    from cloudrift.style import find_card, sketch  # noqa: PLC0415
    from cloudrift.theory import parse_key  # noqa: PLC0415

    card = find_card(style)
    key = parse_key(key_text) if key_text else None
    path = output if output.suffix == SUFFIX else output.with_name(output.name + SUFFIX)
    name = title or path.stem.replace("-", " ").replace("_", " ")
    loop = sketch(card, key, tempo, draw, bars=bars, title=name)
    save(loop, path)
    click.echo(
        f"{path}: {loop.key.text}, {loop.tempo:g} BPM, {loop.bars} bars, "
        f"{len(loop.layers)} layers, draw {draw}"
    )


@commands.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def info(file: Path, as_json: bool) -> None:
    """Say what is in a loop file."""
    from cloudrift.loop.storage import load  # noqa: PLC0415

    facts = loop_facts(load(file))
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    for line in _facts_in_words(facts):
        click.echo(line)


def loop_facts(loop: Any) -> dict[str, Any]:
    """Return what ``info --json`` prints: plain values, pitch classes 0-11, ticks of 1/960."""
    chords = [_chord_facts(chord, loop.key) for chord in loop.chords]
    return {
        "title": loop.title,
        "kit": loop.kit,
        "style": loop.style,
        "draw": loop.draw,
        "key": loop.key.plain,
        "tempo": loop.tempo,
        "sounding_key": loop.sounding_key.plain,
        "sounding_tempo": round(loop.sounding_tempo, 4),
        "bars": loop.bars,
        "metre": list(loop.metre),
        "rate": loop.rate,
        "frames": loop.sounding_frames,
        "written_frames": loop.frames,
        "chords": chords,
        "layers": [
            {
                "name": layer.name,
                "role": layer.role,
                "lens": layer.source.lens.kind,
                "sound": layer.source.sound.name,
                "notes": len(loop.notes_of(layer)),
                "level_db": layer.level_db,
                "pan": layer.pan,
                "mute": layer.mute,
                "treatments": [_treatment_facts(t) for t in layer.line],
            }
            for layer in loop.layers
        ],
        "treatments": [_treatment_facts(t) for t in loop.line],
    }


def _chord_facts(chord: Any, key: Any) -> dict[str, Any]:
    from cloudrift.theory import read_chord  # noqa: PLC0415

    reading = read_chord(chord.voices, key, root_hint=chord.root)
    return {
        "name": reading.name,
        "root": reading.root,
        "bass": reading.bass,
        "degree": reading.degree,
        "start_tick": chord.start_tick,
        "length_ticks": chord.length_ticks,
        "voices": list(chord.voices),
    }


def _treatment_facts(treatment: Any) -> dict[str, Any]:
    return {
        "kind": treatment.kind,
        "on": treatment.on,
        "blend": treatment.blend,
        "draw": treatment.draw,
        "settings": dict(treatment.full),
    }


def _facts_in_words(facts: dict[str, Any]) -> list[str]:
    from cloudrift.theory import pretty  # noqa: PLC0415

    def key(plain: str) -> str:
        tonic, mode = plain.split(" ", 1)
        return f"{pretty(tonic)} {mode}"

    lines = [
        f"{facts['title']}" + (f" · {facts['kit']}" if facts["kit"] else ""),
        f"written   {key(facts['key'])}, {facts['tempo']:g} BPM, {facts['bars']} bars of "
        f"{facts['metre'][0]}/{facts['metre'][1]}",
        f"sounding  {key(facts['sounding_key'])}, {facts['sounding_tempo']:.2f} BPM, "
        f"{facts['frames']} frames at {facts['rate']} Hz",
        "chords    "
        + "  ".join(f"{pretty(c['name'])} ({pretty(c['degree'])})" for c in facts["chords"]),
    ]
    for layer in facts["layers"]:
        kinds = ", ".join(t["kind"] for t in layer["treatments"]) or "bare"
        lines.append(
            f"layer     {layer['name']}: {layer['sound']}, lens {layer['lens']}, "
            f"{layer['notes']} notes, {layer['level_db']:+.1f} dB; {kinds}"
        )
    kinds = ", ".join(t["kind"] for t in facts["treatments"]) or "bare"
    lines.append(f"whole     {kinds}")
    return lines


@commands.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--key", "key_text", help="Key, as in 'F# minor'; estimated if not given.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def chords(file: Path, key_text: str | None, as_json: bool) -> None:
    """Name the chords of a MIDI file."""
    from cloudrift.notes.from_midi import read_song  # noqa: PLC0415
    from cloudrift.notes.time import position_text  # noqa: PLC0415
    from cloudrift.theory import parse_key, pretty, read_chord  # noqa: PLC0415

    song = read_song(file, parse_key(key_text) if key_text else None)
    found = []
    for chord in song.chords:
        reading = read_chord(chord.voices, song.key, root_hint=chord.root)
        found.append({**_chord_facts(chord, song.key), "alternatives": list(reading.alternatives)})
    if as_json:
        facts = {
            "file": str(file),
            "key": song.key.plain,
            "key_confidence": round(song.key_confidence, 3),
            "key_from": song.key_from,
            "tempo": song.tempo,
            "tempo_from": song.tempo_from,
            "metre": list(song.metre),
            "chords": found,
        }
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    sure = "" if song.key_from == "given" else f", {song.key_confidence:.0%} sure"
    click.echo(f"key    {song.key.text} ({song.key_from}{sure})")
    click.echo(f"tempo  {song.tempo:g} BPM ({song.tempo_from})")
    for fact in found:
        also = "".join(f"  or {pretty(name)}" for name in fact["alternatives"])
        place = position_text(fact["start_tick"], song.metre)
        click.echo(f"{place:>6}  {pretty(fact['name']):12} {pretty(fact['degree']):10}{also}")


@commands.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True, help="Folder.")
@click.option("--stems", is_flag=True, help="Also every layer, and their sum.")
@click.option("--midi", is_flag=True, help="Also the notes.")
@click.option("--bits", type=click.Choice(["16", "24", "32"]), default="24", show_default=True)
@click.option("--rate", type=click.Choice(["44100", "48000"]), help="The loop's own if not given.")
@click.option("--once", is_flag=True, help="One pass with its tail, instead of the loop.")
@click.option("--replace", is_flag=True, help="Overwrite files of the same names; else numbered.")
def render(
    files: tuple[Path, ...],
    output: Path,
    stems: bool,
    midi: bool,
    bits: str,
    rate: str | None,
    once: bool,
    replace: bool,
) -> None:
    """Render loop files to WAV, stems and MIDI in a folder."""
    from cloudrift.deliver import Order  # noqa: PLC0415

    order = Order(stems=stems, midi=midi, bits=int(bits), rate=int(rate or 0), once=once)
    numbers = [1] * len(files) if replace else _numbers(files, output, order)
    if len(files) == 1:
        for path in _render_with_bar(files[0], output, order, numbers[0]):
            click.echo(str(path))
        return
    # Started anew rather than forked: a fork would copy locks that rendering threads hold.
    context = multiprocessing.get_context("spawn")
    workers = min(len(files), os.cpu_count() or 1)
    pool = ProcessPoolExecutor(workers, context, initializer=_leave_to_parent)
    count = len(files)
    try:
        for paths in pool.map(_render_quietly, files, [output] * count, [order] * count, numbers):
            for path in paths:
                click.echo(str(path))
    except BrokenProcessPool as error:
        raise CloudriftError(
            "a rendering process was ended from outside (is there enough memory?); what is listed "
            "is whole, render the rest again"
        ) from error
    except KeyboardInterrupt:
        for process in multiprocessing.active_children():
            process.terminate()
        raise
    finally:
        pool.shutdown(cancel_futures=True)


def _leave_to_parent() -> None:
    """Ctrl+C in a terminal reaches every process; the one that started them says so once."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)


def _numbers(files: Sequence[Path], folder: Path, order: Any) -> list[int]:
    """The number of each delivery, so that none overwrites what is there or another of them."""
    from cloudrift.deliver import free_number, parcels  # noqa: PLC0415
    from cloudrift.loop.storage import load  # noqa: PLC0415

    claimed: set[str] = set()
    numbers = []
    for file in files:
        loop = load(file)
        numbers.append(free_number(loop, order, folder, claimed))
        claimed |= {parcel.name for parcel in parcels(loop, order, numbers[-1])}
    return numbers


def _render_with_bar(file: Path, folder: Path, order: Any, number: int) -> list[Path]:
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.deliver import deliver  # noqa: PLC0415
    from cloudrift.loop.storage import load  # noqa: PLC0415

    loop = load(file)
    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("rendering", total=None)
        return deliver(
            loop, folder, order, number=number,
            progress=lambda done, of, name: bar.update(
                task, completed=done, total=of, description=name or "done"
            ),
        )  # fmt: skip


def _render_quietly(file: Path, folder: Path, order: Any, number: int) -> list[Path]:
    from cloudrift.deliver import deliver  # noqa: PLC0415
    from cloudrift.loop.storage import load  # noqa: PLC0415

    return deliver(load(file), folder, order, number=number)


commands.add_command(notes)
commands.add_command(room)
commands.add_command(treatments)
commands.add_command(treat)


@commands.command()
@click.argument("words", nargs=-1)
@click.option("--family", default="", help="keys, organ, pads, strings, plucks, leads, voice, …")
@click.option("--reach", type=click.Choice(["any", "low", "middle", "high"]), default="any",
              show_default=True, help="Sounds that are good at C2, C4 or C6.")  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def sounds(
    words: tuple[str, ...], family: str, reach: Literal["any", "low", "middle", "high"],
    as_json: bool,
) -> None:  # fmt: skip
    """List the house sounds, or those that all WORDS fit (name, family, tag, description)."""
    from cloudrift.sound import look_up  # noqa: PLC0415
    from cloudrift.sound.instrument import FAMILIES  # noqa: PLC0415

    if family and family not in FAMILIES:
        raise click.BadParameter(f"{family!r} is none of {', '.join(FAMILIES)}",
                                 param_hint="--family")  # fmt: skip
    facts = [
        {
            "name": s.name,
            "family": s.family,
            "role": s.role,
            "about": s.about,
            "tags": list(s.tags),
            "register": list(s.register),
            "mono": s.mono,
            "version": s.version,
            "settings": [
                {"name": f.name, "unit": f.unit, "min": f.low, "max": f.high, "default": f.default}
                for f in s.spec
            ],
        }
        for s in look_up(" ".join(words), family, reach)
    ]
    if as_json:
        click.echo(json.dumps(facts, indent=1))
        return
    for fact in facts:
        click.echo(f"{fact['name']:16} {fact['family']:8} {fact['about']}")
    if not facts:
        click.echo("no sound fits; `cloudrift sounds` lists all")


@commands.command()
@click.argument("sound")
@click.option("--pitch", type=click.IntRange(12, 120), default=60, show_default=True, help="MIDI.")
@click.option("--velocity", type=click.IntRange(1, 127), default=100, show_default=True)
@click.option("--length", type=click.FloatRange(0.01, 60), default=2.0, show_default=True,
              help="Seconds held.")  # fmt: skip
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True)
def note(sound: str, pitch: int, velocity: int, length: float, output: Path) -> None:
    """Render one bare note, with what rings on after it."""
    from cloudrift.audio.buffers import DEFAULT_RATE  # noqa: PLC0415
    from cloudrift.audio.files import write_wav  # noqa: PLC0415
    from cloudrift.notes import TICKS_PER_QUARTER, Clock, Note  # noqa: PLC0415
    from cloudrift.render.engine import trimmed  # noqa: PLC0415
    from cloudrift.sound import Part, find_sound  # noqa: PLC0415

    instrument = find_sound(sound)
    clock = Clock.of(60, DEFAULT_RATE)
    ticks = round(length * TICKS_PER_QUARTER)
    release_s = instrument.spec.full(()).number("release_ms") / 1000
    frames = clock.frames(ticks) + int((release_s + 1) * DEFAULT_RATE)
    held = Note(start_tick=0, length_ticks=ticks, pitch=pitch, velocity=velocity)
    part = Part(notes=(held,), instrument=instrument, settings=(), clock=clock, loop_ticks=ticks,
                frames=frames, once=True)  # fmt: skip
    audio = trimmed(part.render(), clock.frames(ticks), DEFAULT_RATE)
    write_wav(output, audio, DEFAULT_RATE, bits=24, title=f"{sound} {pitch}", root_pitch=pitch)
    click.echo(str(output))


def main(arguments: list[str] | None = None) -> None:
    """Run the command line; every error of a composer's is one sentence and code 2."""
    write_plainly()
    if said := have_home():
        click.echo(f"cloudrift: {said}", err=True)
    try:
        commands.main(arguments, prog_name="cloudrift", standalone_mode=False)
    except click.exceptions.Abort:
        click.echo("cloudrift: stopped", err=True)
        sys.exit(130)
    except click.ClickException as error:
        _fail(error.format_message())
    except CloudriftError as error:
        _fail(str(error))


def _fail(message: str) -> None:
    click.echo(f"cloudrift: {' '.join(message.split())}", err=True)
    sys.exit(EXIT_BAD_INPUT)
