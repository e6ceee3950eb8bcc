"""The commands of the house sounds: which there are, and one note of one."""

import json
from pathlib import Path
from typing import Literal

import click

from cloudrift.cli.options import SOUND, Number, output_option
from cloudrift.cli.terminal import say


@click.command()
@click.argument("words", nargs=-1)
@click.option("--family", default="", help="keys, organ, pads, strings, plucks, leads, voice, …")
@click.option(
    "--reach",
    type=click.Choice(["any", "low", "middle", "high"]),
    default="any",
    show_default=True,
    help="Sounds that are good at C2, C4 or C6.",
)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def sounds(
    words: tuple[str, ...],
    family: str,
    reach: Literal["any", "low", "middle", "high"],
    as_json: bool,
) -> None:
    """List the house sounds, or those that WORDS find, best first."""
    from cloudrift.sound import look_up  # noqa: PLC0415
    from cloudrift.sound.instrument import FAMILIES  # noqa: PLC0415

    if family and family not in FAMILIES:
        raise click.BadParameter(
            f"{family!r} is not one of {', '.join(FAMILIES)}", param_hint="--family"
        )
    found = look_up(" ".join(words), family, reach)
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
        for s in (match.of for match in found)
    ]
    if as_json:
        click.echo(json.dumps(facts, indent=1))
        return
    for match in found:
        by = f" ({match.words})" if match.words else ""
        say(f"{match.of.name:16} {match.of.family:8} {match.of.about}{by}")
    if not facts:
        say("no sound found; `cloudrift sounds` lists all")


@click.command()
@click.argument("sound")
@click.option("--pitch", type=click.IntRange(12, 120), default=60, show_default=True, help="MIDI.")
@click.option("--velocity", type=click.IntRange(1, 127), default=100, show_default=True)
@click.option(
    "--length", type=Number(0.01, 60), default=2.0, show_default=True, help="Seconds held."
)
@output_option(*SOUND)
def note(sound: str, pitch: int, velocity: int, length: float, output: Path) -> None:
    """Render one bare note with its tail."""
    from cloudrift.audio.about import About  # noqa: PLC0415
    from cloudrift.audio.buffers import DEFAULT_RATE  # noqa: PLC0415
    from cloudrift.audio.sound_file import write_sound  # noqa: PLC0415
    from cloudrift.notes import TICKS_PER_QUARTER, Clock, Note  # noqa: PLC0415
    from cloudrift.render.engine.engine import trimmed  # noqa: PLC0415
    from cloudrift.sound import Part, find_sound  # noqa: PLC0415

    instrument = find_sound(sound)
    clock = Clock.of(60, DEFAULT_RATE)
    ticks = round(length * TICKS_PER_QUARTER)
    release_s = instrument.spec.full(()).number("release_ms") / 1000
    frames = clock.frames(ticks) + int((release_s + 1) * DEFAULT_RATE)
    held = Note(start_tick=0, length_ticks=ticks, pitch=pitch, velocity=velocity)
    part = Part(
        notes=(held,),
        instrument=instrument,
        settings=(),
        clock=clock,
        loop_ticks=ticks,
        frames=frames,
        once=True,
    )
    audio = trimmed(part.render(), clock.frames(ticks), DEFAULT_RATE)
    write_sound(
        output, audio, DEFAULT_RATE, about=About(title=f"{sound} {pitch}", root_pitch=pitch)
    )
    say(str(output))
