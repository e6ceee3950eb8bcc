"""The commands for what is handed over: loops checked, their rights sheets, who made them."""

import json
from pathlib import Path
from typing import Any

import click

from cloudrift.cli.options import LOOP, SOUND, Number, output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError

SHEETS = (".txt", ".csv", ".html", ".json")
MUST_FIX = 1  # exit code where a check that must hold does not


@click.command()
@click.argument("files", metavar="LOOP…", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--target", type=Number(), metavar="LUFS", help="Target loudness, e.g. -14.")
@click.option("--only", "names", multiple=True, metavar="CHECK", help="Only these checks.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@click.pass_context
def check(
    ctx: click.Context,
    files: tuple[Path, ...],
    target: float | None,
    names: tuple[str, ...],
    as_json: bool,
) -> None:
    """Check loops before delivery. Exit code 1 if something must be fixed."""
    from cloudrift.deliver.checks import CHECKS  # noqa: PLC0415
    from cloudrift.deliver.checks.spec import check_target  # noqa: PLC0415
    from cloudrift.ground.errors import did_you_mean  # noqa: PLC0415

    check_target(target)
    for name in names:
        if name not in CHECKS:
            raise CloudriftError(f"there is no check called {name!r}{did_you_mean(name, CHECKS)}")
    found = [_checked(file, target, names or tuple(CHECKS)) for file in files]
    if as_json:
        click.echo(json.dumps(found, indent=1, ensure_ascii=False))
    else:
        for one in found:
            _print(one)
    if any(row["severity"] == "must" for one in found for row in one["checks"]):
        ctx.exit(MUST_FIX)


def _checked(file: Path, target: float | None, names: tuple[str, ...]) -> dict[str, Any]:
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.deliver.checks import Heard, check_all, to_fix  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415
    from cloudrift.render import Engine  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(file, clips)
    engine = Engine(clips=clips)
    try:
        with Progress(console=Console(stderr=True), transient=True) as bar:
            task = bar.add_task(file.name, total=None)
            found = check_all(
                Heard(document, engine, target_lufs=target),
                names,
                lambda done, of, words: bar.update(
                    task, completed=done, total=of, description=f"{file.name}: {words}"
                ),
            )
    finally:
        engine.close()
    rows = [
        {
            "name": one.check.name,
            "label": one.check.label,
            "severity": one.severity,
            "asked": one.check.about,
            "measured": one.finding.measured,
            "where": one.finding.where,
            "value": one.finding.value,
            "change": one.finding.change.words if one.finding.change else "",
        }
        for one in found
    ]
    return {
        "file": str(file),
        "title": document.loop.title,
        "to_fix": to_fix(found),
        "checks": rows,
    }


def _print(one: dict[str, Any]) -> None:
    fix = f"{one['to_fix']} to fix" if one["to_fix"] else "nothing to fix"
    say(f"{one['title']} ({one['file']}): {fix}")
    for row in sorted(one["checks"], key=lambda x: ("must", "should", "fine").index(x["severity"])):
        where = f" ({row['where']})" if row["where"] and row["severity"] != "fine" else ""
        change = f"; {row['change']}" if row["change"] else ""
        say(f"  {row['severity']:6} {row['label']}: {row['measured']}{where}{change}")


@click.command()
@click.argument("file", metavar="LOOP", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@click.option("--csv", "as_csv", is_flag=True, help="A table, as CSV.")
@click.option("--html", "as_html", is_flag=True, help="A page to print.")
@output_option(*SHEETS, required=False, what="Write a file instead: .txt, .csv, .html or .json.")
def rights(file: Path, as_json: bool, as_csv: bool, as_html: bool, output: Path | None) -> None:
    """Show a loop's rights sheet: sources, authors, and what is still open."""
    from cloudrift.audio.files import write_atomically  # noqa: PLC0415
    from cloudrift.deliver import rights as sheets  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    asked = [name for name, on in ((".json", as_json), (".csv", as_csv), (".html", as_html)) if on]
    if output is not None:
        asked.append(output.suffix.lower())
    if len(set(asked)) > 1:
        raise CloudriftError(f"a sheet is written in one form, not as {' and '.join(asked)}")
    sheet = sheets.rights_of(load_document(file))
    write = {".json": sheets.as_json, ".csv": sheets.as_csv, ".html": sheets.as_html}
    text = write.get(asked[0] if asked else "", sheets.as_text)(sheet)
    if output is None:
        click.echo(text, nl=False)
        return
    write_atomically(output, lambda out: out.write(text.encode()))
    say(str(output))


@click.command("demo-file")
@click.argument("file", metavar="LOOP", type=click.Path(path_type=Path))
@click.option(
    "--variation",
    "variation",
    type=int,
    help="Another order; otherwise the loop's own, or variation 1.",
)
@click.option("--tag", help="A house sound, or a recording's layer, played every four parts.")
@click.option("--bits", type=click.Choice(["16", "24", "32"]), default="24", show_default=True)
@output_option(*SOUND, what="A .wav, .flac, .ogg or .mp3 file.")
def demo_file(file: Path, output: Path, variation: int | None, tag: str | None, bits: str) -> None:
    """Export a demo file: everything, a breakdown, then each layer; and a cue sheet."""
    from msgspec.structs import replace  # noqa: PLC0415
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.audio.sound_file import find_format  # noqa: PLC0415
    from cloudrift.deliver.demo_sound import write_demo  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415
    from cloudrift.loop.model.demo_file import suggest_demo  # noqa: PLC0415
    from cloudrift.render import Engine  # noqa: PLC0415

    of = find_format(output.suffix.removeprefix(".").lower())
    clips = ClipStore()
    document = load_document(file, clips)
    if variation is not None or not document.demo.parts:
        made = suggest_demo(document.loop, 1 if variation is None else variation)
        document = replace(
            document, demo=replace(document.demo, parts=made.parts, variation=made.variation)
        )
    if tag is not None:
        document = replace(document, demo=replace(document.demo, tag=tag))
    engine = Engine(clips=clips)
    try:
        with Progress(console=Console(stderr=True), transient=True) as bar:
            task = bar.add_task("demo file", total=None)
            paths = write_demo(
                output,
                document,
                engine,
                format_name=of.name,
                bits=int(bits) if int(bits) in of.bits else 24,
                progress=lambda done, of_, name: bar.update(
                    task, completed=done, total=of_, description=name or "done"
                ),
            )
    finally:
        engine.close()
    for path in paths:
        say(str(path))


@click.command("kit")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path),
    required=True,
    help="An empty folder, or one to resume.",
)
@click.option("--formats", default="wav", show_default=True, help="E.g. wav,flac,ogg,mp3.")
@click.option("--preset", default="Loop and stems", show_default=True, help="Which parts.")
@click.option("--part", "parts", multiple=True, metavar="PART", help="Also this part.")
@click.option("--bits", type=click.Choice(["16", "24", "32"]), default="24", show_default=True)
@click.option("--target", type=Number(), metavar="LUFS", help="Target loudness of each loop.")
@click.option("--lower", is_flag=True, help="Turn all files of a loop down where one would clip.")
@click.option("--names", "pattern", help="Pattern of names: {title}_{tempo}_{key}_{part}.")
@click.option("--demo", is_flag=True, help="Also a demo file of each loop.")
@click.option("--zip", "zipped", is_flag=True, help="Also pack everything into one zip.")
def write_a_kit(
    folder: Path,
    output: Path,
    formats: str,
    preset: str,
    parts: tuple[str, ...],
    bits: str,
    target: float | None,
    lower: bool,
    pattern: str | None,
    demo: bool,
    zipped: bool,
) -> None:
    """Export a folder of loops as a kit: audio, stems, MIDI, sheets, on all cores.

    If stopped (Ctrl+C), finished files stay; the same command resumes.
    """
    from rich.console import Console  # noqa: PLC0415
    from rich.progress import Progress  # noqa: PLC0415

    from cloudrift.audio.sound_file import find_format  # noqa: PLC0415
    from cloudrift.deliver.kit import read_kit  # noqa: PLC0415
    from cloudrift.deliver.kit_progress import KitOrder  # noqa: PLC0415
    from cloudrift.deliver.kit_writer import write_kit  # noqa: PLC0415
    from cloudrift.deliver.names import PATTERN  # noqa: PLC0415
    from cloudrift.deliver.order import Order, find_preset  # noqa: PLC0415

    asked = tuple(find_format(name.strip()).name for name in formats.split(","))
    order = Order(
        parts=tuple(dict.fromkeys((*find_preset(preset), *parts))),
        bits=int(bits),
        target_lufs=target,
        lower=lower,
        pattern=pattern or PATTERN,
    )
    how = KitOrder(order=order, formats=tuple(dict.fromkeys(asked)), demo=demo, zipped=zipped)
    kit = read_kit(folder)
    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("kit", total=None)
        made = write_kit(
            kit,
            output,
            how,
            progress=lambda done, of, name: bar.update(
                task, completed=done, total=of, description=name or kit.name
            ),
        )
    for path in made.paths:
        say(str(path))
    for problem in made.problems:
        say(f"cloudrift: {problem}", err=True)
    if made.problems:
        raise SystemExit(MUST_FIX)


@click.command("credits")
@click.argument("file", metavar="LOOP", type=click.Path(path_type=Path))
@click.option(
    "--person",
    "people",
    multiple=True,
    metavar="NAME:DID,…:SHARE",
    help="Who made it, e.g. 'Ada Wren:wrote,played:60'.",
)
@click.option("--maker", help="Who passes it on.")
@click.option("--licence", help="Under which licence.")
@output_option(LOOP)
def set_credits(
    file: Path, people: tuple[str, ...], maker: str | None, licence: str | None, output: Path
) -> None:
    """Set who made a loop, and the licence it is passed on under."""
    from msgspec.structs import replace  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document, save  # noqa: PLC0415
    from cloudrift.loop.model.credits import read_person, with_person  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(file, clips)
    credits_ = document.credits
    for text in people:
        credits_ = with_person(credits_, read_person(text))
    if maker is not None:
        credits_ = replace(credits_, maker=maker)
    if licence is not None:
        credits_ = replace(credits_, licence=licence)
    save(replace(document, credits=credits_), output, clips)
    say(str(output))
