"""The command line: the same jobs without a window. Bad input ends with code 2 and one sentence."""

import sys
from pathlib import Path
from typing import NoReturn

import click

from cloudrift import __version__
from cloudrift.cli.arranging import arrange
from cloudrift.cli.beds import bed
from cloudrift.cli.exchange import exchange
from cloudrift.cli.facts import chords, info
from cloudrift.cli.flips import flip, print_loop
from cloudrift.cli.handing_over import check, demo_file, rights, set_credits, write_a_kit
from cloudrift.cli.layers import notes, room
from cloudrift.cli.options import LOOP, Number, checked_output, variation_option
from cloudrift.cli.recordings import add, listen
from cloudrift.cli.rendering import render
from cloudrift.cli.sounds import note, sounds
from cloudrift.cli.styles import learn, marks, styles
from cloudrift.cli.terminal import give_up_output, need_display, say, write_plainly
from cloudrift.cli.texture import finishes, treat, treatments
from cloudrift.ground.errors import CloudriftError, WriteError
from cloudrift.ground.memory import keep_memory_tidy
from cloudrift.ground.paths import have_home

EXIT_FAILED, EXIT_BAD_INPUT = 1, 2


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
    _window(file)


@commands.command()
def demo() -> None:
    """Open the demo kit, playing."""
    from cloudrift.demo import unpack  # noqa: PLC0415 - a command loads only what it needs

    need_display()
    _window(unpack()[0], play=True)


def _window(file: Path | None, *, play: bool = False) -> None:
    from cloudrift.loop.files.recovery import Shelter  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    shelter = Shelter()
    try:
        renewed: list[str] = []
        opened = (
            (load_document(file, shelter.clips, renewed=renewed.extend), file) if file else None
        )
        need_display()
        from cloudrift.desktop.frame.app import run  # noqa: PLC0415
    except BaseException:
        shelter.close()
        raise
    sys.exit(run(opened, shelter=shelter, play=play, renewed=renewed))


@commands.command()
@click.option("--style", required=True, help="Style card: a name, or a .toml file.")
@click.option("--key", "key_text", help="Key, e.g. 'F# minor'.")
@click.option("--tempo", type=Number(), help="Tempo in BPM.")
@click.option("--bars", type=int, default=8, show_default=True)
@variation_option("loop")
@click.option("--title", help="Title; taken from the file name if not given.")
@click.option(
    "--count", "draws", type=click.IntRange(1, 48), help="How many loops to write into a folder."
)
@click.option("--replace", is_flag=True, help="Overwrite files of the same names.")
@click.option("-o", "--output", type=click.Path(path_type=Path), required=True)
def new(
    style: str,
    key_text: str | None,
    tempo: float | None,
    bars: int,
    variation: int,
    title: str | None,
    draws: int | None,
    replace: bool,
    output: Path,
) -> None:
    """Sketch a loop in a style into a loop file, or several variations into a folder."""
    from cloudrift.loop.files.storage import save  # noqa: PLC0415
    from cloudrift.loop.model.document import Document  # noqa: PLC0415
    from cloudrift.style import find_card, sketch  # noqa: PLC0415
    from cloudrift.style.form import arranged_in_style  # noqa: PLC0415
    from cloudrift.theory import parse_key  # noqa: PLC0415

    card = find_card(style)
    key = parse_key(key_text) if key_text else None
    if draws:
        from cloudrift.audio.files import make_folder  # noqa: PLC0415

        make_folder(output)
        for number in range(variation, variation + draws):
            name = f"{title or card.name} {number}"
            path = checked_output(output / f"{name}{LOOP}", (LOOP,), replace=replace)
            loop = sketch(card, key, tempo, number, bars=bars, title=name)
            document = arranged_in_style(Document.of(loop), card, number)
            save(document, path)
            say(f"{path}: {loop.key.text}, {loop.tempo:g} BPM, {number}")
        return
    path = checked_output(output, (LOOP,), replace=replace)
    name = title or path.stem.replace("-", " ").replace("_", " ")
    loop = sketch(card, key, tempo, variation, bars=bars, title=name)
    save(arranged_in_style(Document.of(loop), card, variation), path)
    say(
        f"{path}: {loop.key.text}, {loop.tempo:g} BPM, {loop.bars} bars, "
        f"{len(loop.layers)} layers, variation {variation}"
    )


for command in (
    arrange,
    bed,
    info,
    chords,
    render,
    sounds,
    note,
    notes,
    room,
    treatments,
    finishes,
    treat,
    listen,
    add,
    exchange,
    print_loop,
    flip,
    styles,
    marks,
    learn,
    check,
    demo_file,
    write_a_kit,
    rights,
    set_credits,
):
    commands.add_command(command)


def main(arguments: list[str] | None = None) -> None:
    """Run the command line. Every error is one sentence: code 2 for what was asked, 1 for what was
    in order and failed.
    """
    write_plainly()
    keep_memory_tidy()
    if said := have_home():
        say(f"cloudrift: {said}", err=True)
    try:
        commands.main(arguments, prog_name="cloudrift", standalone_mode=False)
        sys.stdout.flush()  # a full disk may say so only now
    except click.exceptions.Abort:
        say("cloudrift: stopped", err=True)
        sys.exit(130)
    except click.ClickException as error:
        _fail(error.format_message(), EXIT_BAD_INPUT)
    except WriteError as error:
        _fail(str(error), EXIT_FAILED)
    except CloudriftError as error:
        _fail(str(error), EXIT_BAD_INPUT)
    except OSError as error:
        give_up_output()  # else Python tries again at the end, and fails with a page of text
        if isinstance(error, BrokenPipeError):  # whoever read it has enough
            sys.exit(EXIT_FAILED)
        _fail(f"could not write what was asked for: {error.strerror or error}", EXIT_FAILED)


def _fail(message: str, code: int) -> NoReturn:
    say(f"cloudrift: {' '.join(message.split())}", err=True)
    sys.exit(code)
