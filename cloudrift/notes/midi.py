"""Standard MIDI files, out."""

import io
from collections.abc import Collection
from fractions import Fraction

import mido

from cloudrift.notes.midi_in import DRUM_CHANNEL
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock

CHANNELS = tuple(c for c in range(16) if c != DRUM_CHANNEL)


def midi_file(
    parts: list[tuple[str, tuple[Note, ...]]],
    *,
    tempo: float,
    metre: tuple[int, int],
    signature: str,
    loop_ticks: int,
    title: str,
    drums: Collection[int] = (),
) -> bytes:
    """Return a type 1 file: one track of tempo, metre and key, then one track a part.

    Played offsets become ticks. A note played before the start of the loop begins at 0, because a
    file has no time before it; one that would end after the loop ends with it. ``signature`` is
    a major key or a minor one with an m (``A``, ``F#m``); none is written if it is empty. The parts
    of these numbers (from 0) are ``drums``: they are on the tenth channel, where keys are drums.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER, charset="utf-8")
    head = mido.MidiTrack()
    head.append(mido.MetaMessage("track_name", name=title, time=0))
    head.append(mido.MetaMessage("set_tempo", tempo=round(60e6 / tempo), time=0))
    head.append(
        mido.MetaMessage("time_signature", numerator=metre[0], denominator=metre[1], time=0)
    )
    if signature:
        head.append(mido.MetaMessage("key_signature", key=signature, time=0))
    head.append(mido.MetaMessage("end_of_track", time=loop_ticks))
    file.tracks.append(head)
    clock = Clock.of(tempo, 1000)  # frames of a millisecond
    for number, (name, notes) in enumerate(parts):
        channel = DRUM_CHANNEL if number in drums else CHANNELS[number % len(CHANNELS)]
        file.tracks.append(_track(name, notes, channel, clock, loop_ticks))
    out = io.BytesIO()
    file.save(file=out)
    return out.getvalue()


def _track(
    name: str, notes: tuple[Note, ...], channel: int, clock: Clock, loop_ticks: int
) -> mido.MidiTrack:
    ms_per_tick = clock.exact_frames(1)
    events: list[tuple[int, int, str, Note]] = []
    for note in notes:
        offset = round(Fraction(note.offset_ms) / ms_per_tick)
        start = min(max(0, note.start_tick + offset), loop_ticks - 1)
        end = min(max(start + 1, note.start_tick + offset + note.length_ticks), loop_ticks)
        events.append((start, 1, "note_on", note))
        events.append((end, 0, "note_off", note))
    track = mido.MidiTrack()
    track.append(mido.MetaMessage("track_name", name=name, time=0))
    now = 0
    for tick, _, kind, note in sorted(events, key=lambda e: (e[0], e[1], e[3].pitch)):
        velocity = note.velocity if kind == "note_on" else 0
        track.append(
            mido.Message(kind, channel=channel, note=note.pitch, velocity=velocity, time=tick - now)
        )
        now = tick
    track.append(mido.MetaMessage("end_of_track", time=max(0, loop_ticks - now)))
    return track
