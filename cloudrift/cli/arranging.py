"""The command that arranges a loop in a form."""

import json
from pathlib import Path
from typing import Any

import click

from cloudrift.cli.options import LOOP, output_option, variation_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural


@click.command()
@click.argument("loop_file", metavar="LOOP", required=False, type=click.Path(path_type=Path))
@click.option("--form", "name", default="", help="The form to use; --list names them.")
@variation_option("sections")
@click.option("--list", "list_", is_flag=True, help="List the forms.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@output_option(LOOP, what="Where to write the arranged loop.", required=False)
def arrange(
    loop_file: Path | None,
    name: str,
    variation: int,
    list_: bool,
    as_json: bool,
    output: Path | None,
) -> None:
    """Arrange a loop in sections; render it with ``cloudrift render --all``."""
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document, save  # noqa: PLC0415
    from cloudrift.style.form import find_form, forms, suggest_form  # noqa: PLC0415

    if list_:
        found = [
            {
                "name": one.name,
                "about": one.about,
                "sections": [section.name for section in one.sections],
            }
            for one in forms().values()
        ]
        words = "\n".join(f"{one['name']}: {one['about']}" for one in found)
        click.echo(json.dumps(found, indent=1, ensure_ascii=False) if as_json else words)
        return
    if loop_file is None or output is None:
        raise CloudriftError("name a loop, and with -o where to write the arrangement")
    clips = ClipStore()
    document = load_document(loop_file, clips)
    form = find_form(name or next(iter(forms())))
    document = suggest_form(document, form, variation)
    save(document, output, clips)
    facts = arrangement_facts(document)
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
    else:
        for line in arrangement_words(facts):
            say(line)


def arrangement_facts(document: Any) -> dict[str, Any]:
    """Return a document's sections and seams as plain values; nothing where there are none."""
    from cloudrift.loop.edits.arranging.differences import differences  # noqa: PLC0415
    from cloudrift.loop.edits.arranging.section_loops import heard_in, seconds_of  # noqa: PLC0415

    arrangement = document.arrangement
    if not arrangement.sections:
        return {}
    return {
        "form": arrangement.form, "variation": arrangement.variation, "bars": arrangement.bars,
        "seconds": round(seconds_of(document), 3),
        "sections": [
            {"name": one.name, "bars": one.bars, "level_db": one.level_db, "bed": one.bed,
             "key": one.key.plain if one.key else None, "tempo": one.tempo or None,
             "chords": [chord.read(one.key or document.loop.key).text for chord in one.chords],
             "heard": [x.name for x in heard_in(document.loop, one)],
             "seam": list(one.seam.happens),
             "copied_from": arrangement.section(one.copied_from).name if one.copied_from else None,
             "differs": [difference.words for difference in differences(document, one.id)]}
            for one in arrangement.sections
        ],
    }  # fmt: skip


def arrangement_words(facts: dict[str, Any]) -> list[str]:
    """Return the same in lines."""
    if not facts:
        return []
    minutes, seconds = divmod(facts["seconds"], 60)
    form = f", {facts['form']}, variation {facts['variation']}" if facts["form"] else ""
    lines = [
        f"arranged  {plural(len(facts['sections']), 'section')}, {facts['bars']} bars, "
        f"{minutes:.0f}:{seconds:04.1f}{form}"
    ]
    for one in facts["sections"]:
        if one["seam"]:
            lines.append(f"seam      {', '.join(one['seam'])}")
        differs = f"; {', '.join(one['differs'])}" if one["differs"] else ""
        copied = f", from {one['copied_from']}{differs}" if one["copied_from"] else ""
        lines.append(
            f"section   {one['name']}: {plural(one['bars'], 'bar')}, "
            f"{', '.join(one['heard']) or 'nothing'}{copied}"
        )
    return lines
