"""The commands of texture: what treatments there are, and a line laid on an audio file."""

import json
from pathlib import Path

import click

from cloudrift.cli.options import SOUND, Number, output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_words


@click.command()
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def treatments(as_json: bool) -> None:
    """List the treatments with their settings, units and ranges."""
    from cloudrift.texture import KINDS  # noqa: PLC0415

    facts = []
    for kind in KINDS.values():
        settings: list[dict[str, object]] = []
        for field in kind.spec:
            one: dict[str, object] = {"name": field.name, "unit": field.unit}
            one |= (
                {"choices": list(field.choices)}
                if field.choices
                else {"min": field.low, "max": field.high}
            )
            settings.append(one | {"default": field.default})
        facts.append({"kind": kind.name, "family": kind.family, "settings": settings})
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    for kind in KINDS.values():
        say(f"{kind.name} ({kind.family}): {kind.about}")
        for field in kind.spec:
            reach = (
                ", ".join(field.choices)
                if field.choices
                else f"{field.low:g} to {field.high:g} {field.unit}".strip()
            )
            default = field.text(field.default)
            say(f"  {field.name}: {reach}; {default} if nothing is said")


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--line",
    "line_file",
    required=True,
    type=click.Path(path_type=Path),
    help="A line of treatments, TOML.",
)
@click.option("--tempo", type=Number(), default=120.0, show_default=True, help="BPM of the file.")
@click.option("--key", default="", help="Key of the file, as in 'F# minor'.")
@click.option("--once", is_flag=True, help="Silence before, its tail after; else it goes round.")
@output_option(*SOUND)
def treat(file: Path, line_file: Path, tempo: float, key: str, once: bool, output: Path) -> None:
    """Lay a line of treatments on an audio file, as a loop or once."""
    from cloudrift.audio.about import About  # noqa: PLC0415
    from cloudrift.audio.files import read_audio  # noqa: PLC0415
    from cloudrift.audio.sound_file import below_full_scale, write_sound  # noqa: PLC0415
    from cloudrift.render.engine.engine import trimmed  # noqa: PLC0415
    from cloudrift.texture.line_file import read_line  # noqa: PLC0415
    from cloudrift.texture.running import laid  # noqa: PLC0415
    from cloudrift.theory.key import parse_key  # noqa: PLC0415

    if not 20 <= tempo <= 400:
        raise CloudriftError(f"tempo is {tempo:g} BPM, but must lie between 20 and 400 BPM")
    heard_in = parse_key(key) if key else None  # a wrong key is said before the work
    try:
        line = read_line(read_words(line_file, "line file"), str(line_file))
    except OSError as error:
        raise CloudriftError(f"could not read {line_file}: {error.strerror}") from error
    audio, rate = read_audio(file)
    if not audio.shape[1]:
        raise CloudriftError(f"{file} holds no sound; choose another file")
    out = laid(audio, line, rate, tempo, key=heard_in, once=once)
    if once:
        out = trimmed(out, audio.shape[1], rate)
    floating, softer_db = output.suffix.lower() == ".wav", 0.0
    if not floating:
        out, softer_db = below_full_scale(out)
    write_sound(output, out, rate, bits=32 if floating else 24, about=About(loop=not once))
    said = f", turned down by {softer_db:g} dB, else it would clip" if softer_db else ""
    say(f"{output}: {out.shape[1] / rate:.3f} s{said}")
