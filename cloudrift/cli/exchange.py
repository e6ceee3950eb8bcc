"""The command of the exchange: search it, and fetch what is found."""

import json
import shutil
from pathlib import Path

import click

from cloudrift.cli.options import RECORDED_TEMPO, Number, checked_output, output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError, WriteError
from cloudrift.ground.words import plural


@click.command()
@click.argument("words", nargs=-1)
@click.option(
    "--key", "key_text", default="", help="Only what can be shifted to this key, e.g. 'F# minor'."
)
@click.option(
    "--within",
    type=click.IntRange(0, 24),
    default=4,
    show_default=True,
    help="Largest shift, in semitones.",
)
@click.option(
    "--tempo", type=RECORDED_TEMPO, help="Only what can be stretched to this tempo, in BPM."
)
@click.option(
    "--stretch",
    type=Number(0, 100),
    default=12.0,
    show_default=True,
    help="Largest stretch, in percent.",
)
@click.option("--kind", default="", help="one-shot, phrase, loop or bed.")
@click.option("--licence", default="", help="Words in its licence.")
@click.option("--fetch", "number", type=int, help="Fetch the one with this number in the list.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@output_option(".flac", what="Where to save it; with --fetch.", required=False)
def exchange(
    words: tuple[str, ...],
    key_text: str,
    within: int,
    tempo: float | None,
    stretch: float,
    kind: str,
    licence: str,
    number: int | None,
    output: Path | None,
    as_json: bool,
) -> None:
    """Search the exchange for phrases, and fetch one."""
    from cloudrift.exchange import StandIn, Wanted  # noqa: PLC0415
    from cloudrift.ground.cancel import never  # noqa: PLC0415
    from cloudrift.theory import parse_key  # noqa: PLC0415

    service = StandIn(moods=None)
    wanted = Wanted(
        words=" ".join(words),
        kind=kind,
        key=parse_key(key_text) if key_text else None,
        within_st=within,
        tempo=tempo or 0.0,
        within_percent=stretch,
        licence=licence,
    )
    found = service.search(wanted, never)
    if number is not None:
        if not 1 <= number <= len(found):
            raise CloudriftError(
                f"there are {len(found)} phrases in the list; there is no number {number}."
            )
        offer = found[number - 1].offer
        path = service.fetch(offer.id, never, lambda _share, _words: None)
        target = output or checked_output(Path(f"{offer.id}.flac"), (".flac",))
        try:
            shutil.copyfile(path, target)
        except OSError as error:
            raise WriteError(f"could not write {target}: {error.strerror}") from error
        say(f"{target}: {offer.name} by {offer.maker}; {offer.licence}")
        return
    if as_json:
        click.echo(json.dumps([
            {"number": i, "id": one.offer.id, "name": one.offer.name, "kind": one.offer.kind,
             "maker": one.offer.maker, "licence": one.offer.licence, "bars": one.offer.bars,
             "key": one.offer.key.plain if one.offer.key else None,
             "tempo": one.offer.tempo or None, "words": list(one.offer.words),
             "semitones": one.semitones, "pace": round(one.pace, 4)}
            for i, one in enumerate(found, 1)
        ], indent=1, ensure_ascii=False))  # fmt: skip
        return
    for i, one in enumerate(found, 1):
        offer = one.offer
        facts = [offer.kind, plural(offer.bars, "bar")]
        facts += [offer.key.text] if offer.key else []
        facts += [f"{offer.tempo:g} BPM"] if offer.tempo else []
        facts += [f"{one.semitones:+d} semitones"] if one.semitones else []
        say(f"{i:3} {offer.name} ({offer.maker}): {', '.join(facts)}; {offer.licence}")
    if not found:
        say("nothing found; use fewer words, or allow a larger shift or stretch")
