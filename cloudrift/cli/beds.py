"""The command of the groove bed: draw one from a loop, or take the drums of a MIDI file."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from cloudrift.cli.options import LOOP, Number, output_option, variation_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import plural

if TYPE_CHECKING:
    from cloudrift.audio.clips import ClipStore
    from cloudrift.loop.model.loop import Loop


@click.command()
@click.argument("loop_file", metavar="LOOP", required=False, type=click.Path(path_type=Path))
@click.option("--manner", default="", help="The manner to use; --list names them.")
@variation_option("groove")
@click.option("--busy", type=Number(0, 100), default=50.0, show_default=True, help="In %.")
@click.option(
    "--midi", type=click.Path(path_type=Path), help="Use the drums of this MIDI file instead."
)
@click.option("--list", "list_", is_flag=True, help="List the manners.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
@output_option(LOOP, what="Where to write the loop with its groove bed.", required=False)
def bed(
    loop_file: Path | None,
    manner: str,
    variation: int,
    busy: float,
    midi: Path | None,
    list_: bool,
    as_json: bool,
    output: Path | None,
) -> None:
    """Suggest a groove bed from a loop's onsets; the loop itself is unchanged."""
    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document, save  # noqa: PLC0415
    from cloudrift.style.manner import manners  # noqa: PLC0415

    if list_:
        found = [
            {
                "name": one.name,
                "about": one.about,
                "bars": one.bars,
                "lanes": [lane.part for lane in one.lanes],
            }
            for one in manners().values()
        ]
        words = "\n".join(f"{one['name']}: {one['about']}" for one in found)
        click.echo(json.dumps(found, indent=1, ensure_ascii=False) if as_json else words)
        return
    if loop_file is None or output is None:
        raise CloudriftError("name a loop, and with -o where to write it with its groove bed")
    clips = ClipStore()
    document = load_document(loop_file, clips)
    loop = document.loop
    if midi is not None:
        from cloudrift.loop.edits.bed.bed_midi import lanes_of_midi  # noqa: PLC0415
        from cloudrift.notes.from_midi import read_drums  # noqa: PLC0415

        song = read_drums(midi)
        loop = lanes_of_midi(loop, song.drums, song.parts)
    else:
        loop = _drawn(loop, manner, variation, busy / 100, clips)
    save(document.with_loop(loop), output, clips)
    facts = bed_facts(loop)
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
    else:
        for line in bed_words(facts):
            say(line)


def _drawn(loop: "Loop", name: str, variation: int, busy: float, clips: "ClipStore") -> "Loop":
    from cloudrift.loop.edits.bed.beds import set_heard  # noqa: PLC0415
    from cloudrift.render.engine.engine import Engine  # noqa: PLC0415
    from cloudrift.render.measure.strokes import onset_strengths  # noqa: PLC0415
    from cloudrift.style.groove import suggest_bed, usual_manner  # noqa: PLC0415
    from cloudrift.style.manner import find_manner  # noqa: PLC0415

    engine = Engine(clips=clips)
    try:
        strengths = onset_strengths(engine.without_bed(loop), loop.rate, loop)
    finally:
        engine.close()
    manner = find_manner(name or usual_manner(loop))
    return set_heard(suggest_bed(loop, manner, strengths, variation=variation, busy=busy), on=True)


def bed_facts(loop: Any) -> dict[str, Any]:
    """Return a loop's groove bed as plain values: lanes, patterns, hits in ticks of 1/960."""
    from cloudrift.loop.model.bed import hits_of  # noqa: PLC0415

    one = loop.bed
    if one is None:
        return {}
    return {
        "heard": not one.group.mute, "manner": one.manner, "variation": one.variation,
        "swing": one.swing, "late_ms": one.late_ms, "level_db": one.group.level_db,
        "ducks_db": one.duck.depth_db if one.duck else 0.0,
        "lanes": [
            {"name": lane.name, "sounds": [use.name for use in lane.source.sounds],
             "plays": hits_of(lane).plays, "level_db": lane.level_db, "mute": lane.mute,
             "patterns": [
                 {"name": pattern.name, "bars": pattern.bars,
                  "hits": [[hit.tick, hit.velocity, hit.st] for hit in pattern.hits]}
                 for pattern in hits_of(lane).patterns
             ]}
            for lane in one.lanes
        ],
    }  # fmt: skip


def bed_words(facts: dict[str, Any]) -> list[str]:
    """Return the same in lines."""
    if not facts:
        return []
    drawn = f"{facts['manner']}, variation {facts['variation']}, " if facts["manner"] else ""
    heard = "on" if facts["heard"] else "off"
    lines = [
        f"bed       {heard}, {drawn}swing {facts['swing']:g} %, feel {facts['late_ms']:+g} "
        f"ms, loop ducked by {facts['ducks_db']:g} dB"
    ]
    for lane in facts["lanes"]:
        of = next(x for x in lane["patterns"] if x["name"] == lane["plays"])
        names = "/".join(x["name"] for x in lane["patterns"])
        count = f"{plural(len(of['hits']), 'hit')} in {plural(of['bars'], 'bar')}"
        sounds = " + ".join(lane["sounds"])
        lines.append(
            f"lane      {lane['name']}: {sounds}, pattern {lane['plays']} of {names}, "
            f"{count}, {lane['level_db']:+.1f} dB"
        )
    return lines
