"""The commands of style cards: listed, held against a loop, learnt."""

import json
from pathlib import Path
from typing import Any

import click

from cloudrift.cli.options import output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError


@click.command()
@click.option(
    "--near",
    "recording",
    type=click.Path(path_type=Path),
    metavar="RECORDING",
    help="First the cards that suit a recording's tempo and key.",
)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def styles(recording: Path | None, as_json: bool) -> None:
    """List the style cards."""
    from cloudrift.style.card_files import house_cards, own_cards  # noqa: PLC0415
    from cloudrift.style.near import near_cards  # noqa: PLC0415

    own, wrong = own_cards()
    cards = {**house_cards(), **own}
    why: dict[str, str] = {}
    if recording is not None:
        from cloudrift.notes.reference import read_reference  # noqa: PLC0415

        found = read_reference(recording)
        near = near_cards(cards.values(), found.tempos[0], found.keys[0].key)
        cards = {one.card.name: one.card for one in near}
        why = {one.card.name: one.words for one in near}
    if as_json:
        click.echo(json.dumps([
            {"name": card.name, "about": card.about,
             "whose": "own" if card.name in own else "house", "marks": len(card.marks),
             "tempo": [card.tempo.low, card.tempo.high], "modes": list(card.key.modes)}
            | ({"why": why[card.name]} if why else {})
            for card in cards.values()
        ], indent=1, ensure_ascii=False))  # fmt: skip
    else:
        for card in cards.values():
            whose = "own" if card.name in own else "house"
            words = why.get(card.name, card.about)
            say(
                f"{card.name} ({whose}, {card.tempo.low:g} to {card.tempo.high:g} BPM, "
                f"{len(card.marks)} marks): {words}"
            )
    for problem in wrong:
        say(f"cloudrift: {problem}", err=True)


@click.command()
@click.argument("loop_file", metavar="LOOP", type=click.Path(path_type=Path))
@click.option("--style", default="", help="A card's name or file; the loop's own if not given.")
@click.option(
    "--without-sound",
    is_flag=True,
    help="Do not render; leaves out the marks that are measured from sound.",
)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def marks(loop_file: Path, style: str, without_sound: bool, as_json: bool) -> None:
    """Compare a loop with a style card: each mark, and whether it is met."""
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415
    from cloudrift.render.measure.sound_facts import facts_of  # noqa: PLC0415
    from cloudrift.style.card_files import find_card  # noqa: PLC0415
    from cloudrift.style.marks import change_for, checked, look, met_of  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(loop_file, clips)
    loop = document.loop
    if not (style or loop.style):
        raise CloudriftError(f"{loop_file} has no style card; name one with --style")
    card = find_card(style or loop.style)
    asks, wrong = checked(card.marks, card.name)
    sound = None if without_sound else facts_of(loop, clips)
    found = look(asks, loop, sound, arrangement=document.arrangement)
    met, asked = met_of(found)
    if as_json:
        rows: list[dict[str, Any]] = []
        for mark in found:
            change = change_for(mark, loop, sound)
            assert mark.asked is not None
            rows.append(
                {
                    "name": mark.kind.name,
                    "unit": mark.kind.unit,
                    "asked": list(mark.asked),
                    "found": mark.found.value if mark.found else None,
                    "met": mark.met,
                    "where": mark.found.where if mark.found else "",
                    "change": change.words if change else None,
                }
            )
        click.echo(
            json.dumps(
                {"style": card.name, "met": met, "asked": asked, "marks": rows},
                indent=1,
                ensure_ascii=False,
            )
        )
    else:
        say(f"{loop.title}: {met} of {asked} marks of {card.name} met")
        for mark in found:
            assert mark.asked is not None
            sign = "…" if mark.waits else "+" if mark.met else "-"
            where = f" ({mark.found.where})" if mark.found and mark.found.where else ""
            say(
                f"{sign} {mark.kind.label}: {mark.found_text}, the card asks for "
                f"{mark.kind.asks(mark.asked)}{where}"
            )
    for problem in wrong:
        say(f"cloudrift: {problem}", err=True)


@click.command()
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--name", required=True, help="Name of the card.")
@click.option(
    "--without-sound", is_flag=True, help="Do not render the loops; faster, measures less."
)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@output_option(".toml", what="TOML file.")
def learn(
    files: tuple[Path, ...], name: str, without_sound: bool, as_json: bool, output: Path
) -> None:
    """Draft a style card from loop files, MIDI files and recordings."""
    from cloudrift.audio.files import write_atomically  # noqa: PLC0415
    from cloudrift.style.card_files import write_card  # noqa: PLC0415
    from cloudrift.style.examples import measured  # noqa: PLC0415
    from cloudrift.style.learn import learn as learn_from  # noqa: PLC0415

    examples, wrong = measured(files, sound=not without_sound)
    for problem in wrong:
        say(f"cloudrift: {problem}", err=True)
    learnt = learn_from(name, examples)
    text = write_card(learnt.card)
    write_atomically(output, lambda file: file.write(text.encode()))
    if as_json:
        click.echo(json.dumps({"name": name, "examples": len(examples), "counts": learnt.counts,
                               "guesses": list(learnt.guesses)}, indent=1))  # fmt: skip
    else:
        say(
            f"{output}: {len(learnt.card.marks)} marks, {len(learnt.card.layers)} layers, "
            f"from {len(examples)} of {len(files)} files"
        )
