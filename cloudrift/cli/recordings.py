"""The commands of recordings: listen to files, and lay one into a loop."""

import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from cloudrift.cli.options import LOOP, RECORDED_TEMPO, Number, output_option
from cloudrift.cli.terminal import say
from cloudrift.ground.errors import CloudriftError

if TYPE_CHECKING:
    from cloudrift.notes.listening import Heard

FITS = {"as-is": "as it is", "tempo": "tempo", "tape": "tape", "beats": "beats"}


@click.command()
@click.argument("files", type=click.Path(path_type=Path), nargs=-1, required=True)
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def listen(files: tuple[Path, ...], as_json: bool) -> None:
    """Estimate the tempo and key of recordings, and show their labels."""
    from cloudrift.notes.listening import read_and_listen  # noqa: PLC0415

    facts = []
    for file in files:
        _audio, _rate, heard = read_and_listen(file)
        facts.append({"file": str(file), **heard_facts(heard)})
        if not as_json:
            say(f"{file}: {heard_words(heard)}")
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))


def heard_facts(heard: "Heard") -> dict[str, Any]:
    """Return what was heard and what is written, as plain values."""
    from cloudrift.notes.listening import written_key  # noqa: PLC0415

    tempo, key = next(iter(heard.tempos), None), next(iter(heard.keys), None)
    labels, wrote = heard.labels, written_key(heard.labels, heard.keys)
    beats = list(heard.beats_s)
    return {
        "kind": heard.kind, "length_s": round(heard.length_s, 4),
        "tempo": round(tempo.tempo, 3) if tempo else None,
        "tempo_confidence": round(tempo.confidence, 3) if tempo else 0.0,
        "key": key.key.plain if key else None,
        "key_confidence": round(key.confidence, 3) if key else 0.0,
        "second_key": heard.keys[1].key.plain if len(heard.keys) > 1 else None,
        "pitch": round(heard.pitch, 2) if heard.pitch else None,
        "beats_s": beats, "downbeat_s": beats[heard.downbeat] if beats else None,
        "bars": round(tempo.beats / 4, 2) if tempo and heard.kind == "loop" else None,
        "loudness_lufs": round(heard.lufs, 2), "noise_floor_db": round(heard.noise_db, 1),
        "labels": {
            "tempo": labels.tempo or None, "key": wrote.plain if wrote else None,
            "bars": labels.bars or None, "title": labels.title, "maker": labels.maker,
            "licence": labels.licence, "said_by": dict(labels.said_by),
        },
        "doubts": list(heard.doubts),
    }  # fmt: skip


def heard_words(heard: "Heard") -> str:
    """Say in one line what a recording is."""
    from cloudrift.notes.listening import written_key  # noqa: PLC0415

    out = [f"{heard.kind}, {heard.length_s:.2f} s"]
    if heard.tempos:
        out.append(
            f"estimated {heard.tempos[0].tempo:.1f} BPM ({heard.tempos[0].confidence:.0%} sure)"
        )
    if heard.keys:
        out.append(f"estimated {heard.keys[0].key.text} ({heard.keys[0].confidence:.0%} sure)")
    if heard.pitch:
        out.append(f"one note, MIDI {heard.pitch:.2f}")
    wrote = written_key(heard.labels, heard.keys)
    written = [f"{heard.labels.tempo:g} BPM"] if heard.labels.tempo else []
    written += [wrote.text] if wrote else []
    if written:
        out.append(f"written {', '.join(written)}")
    out.append(f"{heard.lufs:.1f} LUFS")
    return "; ".join((*out, *(f"in doubt: {doubt}" for doubt in heard.doubts)))


@click.command()
@click.argument("loop_file", metavar="LOOP", type=click.Path(path_type=Path))
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--name", default="", help="Name of the layer; the file's name if not given.")
@click.option("--fit", type=click.Choice(list(FITS)), help="How it follows the loop's tempo.")
@click.option("--key", "key_text", default="", help="Its key, if the estimate is wrong.")
@click.option("--tempo", type=RECORDED_TEMPO, help="Its tempo in BPM, if the estimate is wrong.")
@click.option(
    "--shift",
    default="0",
    show_default=True,
    help="Shift into the loop's key: auto (the shorter way), up, down, or semitones.",
)
@click.option("--hold-vowels", is_flag=True, help="Preserve formants.")
@click.option("--at", "at_bar", type=Number(), default=1.0, show_default=True, help="Bar, from 1.")
@click.option("--licence", default="", help="Its licence.")
@output_option(LOOP)
def add(
    loop_file: Path,
    file: Path,
    name: str,
    fit: str | None,
    key_text: str,
    tempo: float | None,
    shift: str,
    hold_vowels: bool,
    at_bar: float,
    licence: str,
    output: Path,
) -> None:
    """Add a recording to a loop, and write that as another loop file."""
    from msgspec.structs import replace  # noqa: PLC0415

    from cloudrift.audio.clips import ClipStore  # noqa: PLC0415
    from cloudrift.loop.edits.layers import recordings  # noqa: PLC0415
    from cloudrift.loop.files.storage import load_document, save  # noqa: PLC0415
    from cloudrift.notes.listening import read_and_listen  # noqa: PLC0415
    from cloudrift.notes.time import bar_ticks  # noqa: PLC0415
    from cloudrift.theory import parse_key  # noqa: PLC0415

    clips = ClipStore()
    document = load_document(loop_file, clips)
    loop = document.loop
    if not 1 <= at_bar < loop.bars + 1:
        raise CloudriftError(f"the loop has bars 1 to {loop.bars}, and no bar {at_bar:g}")
    audio, rate, heard = read_and_listen(file)
    facts = recordings.facts_of(heard, file.stem, origin=f"the file {file.name}", licence=licence)
    source = recordings.laid_in(loop, clips.record(audio, rate), facts, FITS[fit] if fit else None)  # type: ignore[arg-type]
    added = recordings.add_recording(loop, source, name)
    layer_id = added.layers[-1].id
    if key_text:
        added = recordings.set_own_key(added, layer_id, parse_key(key_text))
    if tempo:
        added = recordings.set_own_tempo(added, layer_id, tempo)
    source = recordings.recording_of(added, layer_id)
    at_tick = round((at_bar - 1) * bar_ticks(loop.metre))
    source = replace(
        source, semitones=shift_of(source, loop, shift), at_tick=at_tick, hold_vowels=hold_vowels
    )
    added = recordings.with_recording(added, layer_id, source)
    save(document.with_loop(added), output, clips)
    layer = added.layers[-1]
    say(
        f"{output}: {layer.name}, {layer.source.text}, {source.semitones:+g} semitones; "
        f"{heard_words(heard)}"
    )


def shift_of(source: Any, loop: Any, shift: str) -> float:
    """Return the semitones that ``--shift`` means for a recording in a loop's key."""
    from cloudrift.loop.edits.layers import recordings  # noqa: PLC0415
    from cloudrift.loop.sounding import key_of_layers  # noqa: PLC0415

    if shift not in ("auto", "up", "down"):
        try:
            return float(shift)
        except ValueError as error:
            raise CloudriftError(
                f"--shift is {shift!r}, but must be auto, up, down or semitones"
            ) from error
    ways = recordings.ways_into(source, key_of_layers(loop), loop.tempo)
    if not ways:
        raise CloudriftError(
            f"the key of {source.facts.name} is not known; say it with --key, or the shift in "
            "semitones"
        )
    if shift == "auto":
        return float(ways[0])
    return float(next((way for way in ways if (way > 0) == (shift == "up")), ways[0]))
