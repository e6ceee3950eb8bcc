"""The commands that read a loop's layers: their notes, and the room that they share."""

import json
from pathlib import Path

import click

from cloudrift.cli.options import checked_output
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--layer", "name", default="", help="One layer, by name; all layers if not given.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@click.option("--midi", type=click.Path(path_type=Path), help="Write the notes as a MIDI file.")
@click.option("--replace", is_flag=True, help="Overwrite a file of that name.")
def notes(file: Path, name: str, as_json: bool, midi: Path | None, replace: bool) -> None:
    """List the notes of a loop's layers as played."""
    from cloudrift.deliver.writer import write_midi  # noqa: PLC0415
    from cloudrift.ground.errors import did_you_mean  # noqa: PLC0415
    from cloudrift.loop.files.storage import load  # noqa: PLC0415
    from cloudrift.loop.sounding import notes_of  # noqa: PLC0415

    loop = load(file)
    layers = [x for x in loop.layers if name.lower() in ("", x.name.lower())]
    if name and not layers:
        raise CloudriftError(
            f"no layer of {file} is called {name!r}"
            f"{did_you_mean(name, (x.name for x in loop.layers))}"
        )
    if midi:
        midi = checked_output(midi, (".mid", ".midi"), replace=replace)
        write_midi(midi, loop, layers)
        say(str(midi))
        return
    facts = [
        {
            "layer": layer.name,
            "notes": [
                {
                    "pitch": n.pitch,
                    "start_tick": n.start_tick,
                    "length_ticks": n.length_ticks,
                    "velocity": n.velocity,
                    "offset_ms": n.offset_ms,
                }
                for n in notes_of(loop, layer)
            ],
        }
        for layer in layers
    ]
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    for layer in layers:
        say(f"{layer.name}: {layer.source.text}")
        for n in notes_of(loop, layer):
            say(
                f"  {loop.key.spell_pitch(n.pitch):4} at tick {n.start_tick:6} for "
                f"{n.length_ticks:5} ticks, velocity {n.velocity:3}, "
                f"{n.offset_ms:+6.1f} ms"
            )


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def room(file: Path, as_json: bool) -> None:
    """Show which layers crowd each other, and at which frequencies."""
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.files.storage import load  # noqa: PLC0415
    from cloudrift.render import Engine  # noqa: PLC0415
    from cloudrift.render.measure.room import in_words, look_at  # noqa: PLC0415

    clips = ClipStore()
    loop = load(file, clips)
    engine = Engine(clips=clips)
    try:
        found = look_at(loop, engine).crowded
    finally:
        engine.close()
    if as_json:
        crowded = [
            {
                "layers": [loop.layer(x).name for x in c.layers],
                "low_hz": round(c.low_hz, 1),
                "high_hz": round(c.high_hz, 1),
                "severity": round(c.severity, 3),
            }
            for c in found
        ]
        click.echo(json.dumps({"crowded": crowded}, indent=1, ensure_ascii=False))
        return
    for one in found:
        say(f"{in_words(one, loop)} ({one.severity:.0%})")
    if not found:
        say("no two layers crowd each other")
