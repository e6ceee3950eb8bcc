"""The commands that say what is in a file: a loop, or the chords of a MIDI file."""

import json
from pathlib import Path
from typing import Any

import click

from cloudrift.cli.arranging import arrangement_facts, arrangement_words
from cloudrift.cli.beds import bed_facts, bed_words
from cloudrift.cli.terminal import say


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def info(file: Path, as_json: bool) -> None:
    """Show what is in a loop file."""
    from cloudrift.loop.files.storage import load_document  # noqa: PLC0415

    document = load_document(file)
    facts = document_facts(document)
    if as_json:
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    for line in facts_in_words(facts):
        say(line)


def document_facts(document: Any) -> dict[str, Any]:
    """Return what ``info --json`` prints: of the loop, and how it is arranged."""
    return loop_facts(document.loop) | {"arrangement": arrangement_facts(document)}


def loop_facts(loop: Any) -> dict[str, Any]:
    """Return what is in a loop: plain values, pitch classes 0-11, ticks of 1/960."""
    from cloudrift.loop.sounding import key_heard, notes_of  # noqa: PLC0415

    chords = [_chord_facts(chord, loop.key) for chord in loop.chords]
    return {
        "title": loop.title,
        "kit": loop.kit,
        "style": loop.style,
        "variation": loop.variation,
        "key": loop.key.plain,
        "tempo": loop.tempo,
        "sounding_key": key_heard(loop).plain,
        "sounding_tempo": round(loop.sounding_tempo, 4),
        "bars": loop.bars,
        "metre": list(loop.metre),
        "rate": loop.rate,
        "frames": loop.sounding_frames,
        "written_frames": loop.frames,
        "chords": chords,
        "layers": [
            {
                "name": layer.name,
                "role": layer.role,
                **_source_facts(layer),
                "notes": len(notes_of(loop, layer)),
                "level_db": layer.level_db,
                "pan": layer.pan,
                "mute": layer.mute,
                "treatments": [_treatment_facts(t) for t in layer.line],
            }
            for layer in loop.layers
        ],
        "treatments": [_treatment_facts(t) for t in loop.line],
        "bed": bed_facts(loop),
    }


def _source_facts(layer: Any) -> dict[str, Any]:
    from cloudrift.loop.edits.flip.ordering import order_text  # noqa: PLC0415

    if layer.recorded is None:
        return {"lens": layer.played.lens.kind, "sound": layer.played.sound.name}
    one = layer.recorded
    order = {"order": order_text(layer.flipped)} if layer.flipped is not None else {}
    return order | {
        "recording": one.name,
        "licence": one.facts.licence,
        "fit": one.fit,
        "semitones": one.semitones,
        "at_tick": one.at_tick,
    }


def _chord_facts(chord: Any, key: Any) -> dict[str, Any]:
    from cloudrift.theory import read_chord  # noqa: PLC0415

    reading = read_chord(chord.voices, key, root_hint=chord.root)
    return {
        "name": reading.name,
        "root": reading.root,
        "bass": reading.bass,
        "degree": reading.degree,
        "start_tick": chord.start_tick,
        "length_ticks": chord.length_ticks,
        "voices": list(chord.voices),
    }


def _treatment_facts(treatment: Any) -> dict[str, Any]:
    return {
        "kind": treatment.kind,
        "on": treatment.on,
        "blend": treatment.blend,
        "variation": treatment.variation,
        "settings": dict(treatment.full),
    }


def facts_in_words(facts: dict[str, Any]) -> list[str]:
    """Return the same in lines."""
    from cloudrift.theory import pretty  # noqa: PLC0415

    def key(plain: str) -> str:
        tonic, mode = plain.split(" ", 1)
        return f"{pretty(tonic)} {mode}"

    lines = [
        f"{facts['title']}" + (f" · {facts['kit']}" if facts["kit"] else ""),
        f"written   {key(facts['key'])}, {facts['tempo']:g} BPM, {facts['bars']} bars of "
        f"{facts['metre'][0]}/{facts['metre'][1]}",
        f"sounding  {key(facts['sounding_key'])}, {facts['sounding_tempo']:.2f} BPM, "
        f"{facts['frames']} frames at {facts['rate']} Hz",
        "chords    "
        + "  ".join(f"{pretty(c['name'])} ({pretty(c['degree'])})" for c in facts["chords"]),
    ]
    for layer in facts["layers"]:
        kinds = ", ".join(t["kind"] for t in layer["treatments"]) or "bare"
        plays = (
            f"recording {layer['recording']}, {layer['fit']}, {layer['semitones']:+g} semitones"
            if "recording" in layer
            else f"{layer['sound']}, lens {layer['lens']}, {layer['notes']} notes"
        )
        lines.append(f"layer     {layer['name']}: {plays}, {layer['level_db']:+.1f} dB; {kinds}")
    kinds = ", ".join(t["kind"] for t in facts["treatments"]) or "bare"
    lines.append(f"whole     {kinds}")
    return lines + bed_words(facts["bed"]) + arrangement_words(facts["arrangement"])


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--key", "key_text", help="Key, e.g. 'F# minor'; estimated if not given.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable.")
def chords(file: Path, key_text: str | None, as_json: bool) -> None:
    """Name the chords of a MIDI file."""
    from cloudrift.notes.from_midi import read_song  # noqa: PLC0415
    from cloudrift.notes.time import position_text  # noqa: PLC0415
    from cloudrift.theory import parse_key, pretty, read_chord  # noqa: PLC0415

    song = read_song(file, parse_key(key_text) if key_text else None)
    found = []
    for chord in song.chords:
        reading = read_chord(chord.voices, song.key, root_hint=chord.root)
        found.append({**_chord_facts(chord, song.key), "alternatives": list(reading.alternatives)})
    if as_json:
        facts = {
            "file": str(file),
            "key": song.key.plain,
            "key_confidence": round(song.key_confidence, 3),
            "key_from": song.key_from,
            "tempo": song.tempo,
            "tempo_from": song.tempo_from,
            "metre": list(song.metre),
            "chords": found,
        }
        click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
        return
    sure = "" if song.key_from == "given" else f", {song.key_confidence:.0%} sure"
    say(f"key    {song.key.text} ({song.key_from}{sure})")
    say(f"tempo  {song.tempo:g} BPM ({song.tempo_from})")
    for fact in found:
        also = "".join(f"  or {pretty(name)}" for name in fact["alternatives"])
        place = position_text(fact["start_tick"], song.metre)
        say(f"{place:>6}  {pretty(fact['name']):12} {pretty(fact['degree']):10}{also}")
