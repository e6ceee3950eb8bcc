"""The commands of texture: what treatments there are, and a line laid on an audio file."""

import json
from pathlib import Path

import click

from cloudrift.cli.options import SOUND, Number, output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import read_words


@click.command()
@click.argument("words", nargs=-1)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def treatments(words: tuple[str, ...], as_json: bool) -> None:
    """List the treatments, or those that WORDS find, with their settings, units and ranges."""
    from cloudrift.texture.searching import find_treatments  # noqa: PLC0415

    facts = []
    found = find_treatments(" ".join(words))
    for kind in (match.of for match in found):
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
    for match in found:
        kind, by = match.of, f" ({match.words})" if match.words else ""
        say(f"{kind.name} ({kind.family}): {kind.about}{by}")
        for field in kind.spec:
            reach = (
                ", ".join(field.choices)
                if field.choices
                else f"{field.low:g} to {field.high:g} {field.unit}".strip()
            )
            default = field.text(field.default)
            say(f"  {field.name}: {reach}; default {default}")


@click.command()
@click.argument("words", nargs=-1)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def finishes(words: tuple[str, ...], as_json: bool) -> None:
    """List the finishes, yours and the house's, or those that WORDS find, best first."""
    from cloudrift.texture.finish_files import house_finishes, own_finishes  # noqa: PLC0415
    from cloudrift.texture.searching import find_finishes  # noqa: PLC0415

    own, problems = own_finishes()
    found = find_finishes(" ".join(words), (*own, *house_finishes()))
    if as_json:
        facts = [{"name": match.of.name, "purpose": match.of.purpose, "tags": list(match.of.tags),
                  "treatments": [one.kind for one in match.of.line], "house": match.of.house}
                 for match in found]  # fmt: skip
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    for match in found:
        by = f" ({match.words})" if match.words else ""
        say(f"{match.of.name}: {match.of.purpose}{by}")
    for problem in problems:
        say(problem)
    if not found:
        say("no finish found; `cloudrift finishes` lists all")


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option(
    "--line",
    "line_file",
    required=True,
    type=click.Path(path_type=Path),
    help="A treatment line or finish, TOML.",
)
@click.option(
    "--tempo", type=Number(), default=120.0, show_default=True, help="Tempo of the file, in BPM."
)
@click.option("--key", default="", help="Key of the file, e.g. 'F# minor'.")
@click.option("--once", is_flag=True, help="One pass with its tail, instead of a loop.")
@output_option(*SOUND)
def treat(file: Path, line_file: Path, tempo: float, key: str, once: bool, output: Path) -> None:
    """Apply a treatment line to an audio file, as a loop or as one pass."""
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
        raise CloudriftError(f"{file} has no audio; choose another file")
    out = laid(audio, line, rate, tempo, key=heard_in, once=once)
    if once:
        out = trimmed(out, audio.shape[1], rate)
    floating, softer_db = output.suffix.lower() == ".wav", 0.0
    if not floating:
        out, softer_db = below_full_scale(out)
    write_sound(output, out, rate, bits=32 if floating else 24, about=About(loop=not once))
    said = f", turned down by {softer_db:g} dB to avoid clipping" if softer_db else ""
    say(f"{output}: {out.shape[1] / rate:.3f} s{said}")
