"""Examples to learn a style from: loop files, MIDI files and recordings, each measured."""

import dataclasses
from collections.abc import Callable, Sequence
from pathlib import Path

from cloudrift.audio.clips import ClipStore
from cloudrift.ground.cancel import never
from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.edits.layers.recordings import facts_of
from cloudrift.loop.files.storage import SUFFIX, load_document
from cloudrift.notes.from_midi import read_song
from cloudrift.notes.listening import read_and_listen
from cloudrift.render.measure.sound_facts import facts_of as heard_facts
from cloudrift.render.measure.sound_facts import sound_facts
from cloudrift.style.beginnings import empty_loop, from_song
from cloudrift.style.learn import MOST, Example, example_of
from cloudrift.style.marks import KINDS, look

MIDI = (".mid", ".midi")
# What notes alone say, where a program has no say in how they are played or sound.
OF_NOTES = ("Setting", "Chords")
OF_SOUND = "Sound"


def measured(
    paths: Sequence[Path],
    cancelled: Callable[[], bool] = never,
    progress: Callable[[int, str], object] = lambda _count, _name: None,
    *,
    sound: bool = True,
) -> tuple[list[Example], list[str]]:
    """Measure files; return the examples, and a sentence about each that could not be read.

    With ``sound``, loops are rendered and measured by ear, too.
    """
    if len(paths) > MOST:
        raise CloudriftError(f"{len(paths)} files are too many to learn from; use at most {MOST}")
    found, wrong = [], []
    for i, path in enumerate(paths):
        if cancelled():
            break
        progress(i, path.name)
        try:
            found.append(_measured(path, sound=sound))
        except CloudriftError as error:
            wrong.append(str(error))
    return found, wrong


def _measured(path: Path, *, sound: bool) -> Example:
    if path.suffix == SUFFIX:
        return _of_loop(path, sound=sound)
    if path.suffix.lower() in MIDI:
        loop = from_song(read_song(path), path.stem[:60], parts=False)
        example = example_of(loop)
        kept = {
            name: value for name, value in example.values.items() if KINDS[name].group in OF_NOTES
        }
        return dataclasses.replace(example, values=kept, loop=None)
    return _of_recording(path)


def _of_loop(path: Path, *, sound: bool) -> Example:
    clips = ClipStore()
    try:
        document = load_document(path, clips)
        loop = document.loop
        return example_of(loop, heard_facts(loop, clips) if sound else None, document.arrangement)
    finally:
        clips.remove()


def _of_recording(path: Path) -> Example:
    """What is heard in a recording: its sound, its tempo and its key."""
    audio, rate, heard = read_and_listen(path)
    facts = sound_facts(audio, rate)
    values = {
        mark.kind.name: mark.found.value
        for mark in look({}, empty_loop(), facts, all_=True)
        if mark.found is not None and mark.kind.group == OF_SOUND
    }
    known = facts_of(heard, path.stem)
    if known.tempo:
        values["tempo"] = known.tempo
    if known.key is not None:
        values["mode"] = known.key.mode
    return Example(name=path.stem, values=values, tonic=known.key.tonic if known.key else "")
