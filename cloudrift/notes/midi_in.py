"""Standard MIDI files, in: types 0 and 1, with what is wrong in a broken one named by its place."""

import io
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import mido
from mido.midifiles.meta import KeySignatureError

from cloudrift.ground.cancel import Cancelled, never
from cloudrift.ground.errors import CloudriftError
from cloudrift.notes.note import Note, in_order
from cloudrift.notes.tempo import guess_tempo
from cloudrift.notes.time import TICKS_PER_QUARTER

STANDARD_TEMPO = 120.0  # what the standard says where a file says nothing
DRUM_CHANNEL = 9
PEDAL = 64
PEDAL_DOWN = 64  # a controller value from here up holds the notes
MAX_BYTES = 1 << 20  # some hours of music; the library takes 20 µs for an event
_LOOK_EVERY = 4096  # reads: how often is asked whether a file is still wanted
MOST_TICKS = 2000 * 4 * TICKS_PER_QUARTER  # an hour and a half at 93 BPM
MOST_BEATS, BEAT_UNITS = 32, (1, 2, 4, 8, 16, 32)


@dataclass(frozen=True, kw_only=True)
class MidiSong:
    """What a MIDI file holds, in ticks of 1/960 quarter. ``drums``, those of the tenth channel, are
    left out of ``notes`` and ``parts``.

    ``tempo`` (BPM) is the one that lasts longest; ``tempo_from`` says where it is from: ``file``,
    ``standard`` (the file says none) or ``estimate``. ``signature`` is a key signature as in
    ``F#m``, empty if there is none. ``parts`` are the tracks that hold notes, with their names.
    """

    notes: tuple[Note, ...]
    parts: tuple[tuple[str, tuple[Note, ...]], ...]
    tempo: float
    tempo_from: str
    tempos: tuple[tuple[int, float], ...] = ()
    metre: tuple[int, int] = (4, 4)
    signature: str = ""
    drums: tuple[Note, ...] = ()


@dataclass
class _Raw:
    """One event at its absolute time in the file's own ticks."""

    tick: int
    message: mido.Message | mido.MetaMessage


class _Watched(io.BytesIO):
    """Bytes that are no longer handed out when nobody wants them: the library asks for a few."""

    def __init__(self, data: bytes, cancelled: Callable[[], bool]) -> None:
        super().__init__(data)
        self._cancelled, self._reads = cancelled, 0

    def read(self, size: int | None = -1, /) -> bytes:
        """Read on; raise Cancelled."""
        self._reads += 1
        if self._reads % _LOOK_EVERY == 0 and self._cancelled():
            raise Cancelled
        return super().read(size)


def read_midi(data: bytes, where: str, cancelled: Callable[[], bool] = never) -> MidiSong:
    """Read the bytes of a standard MIDI file.

    Raises CloudriftError with the byte or the track at fault, and Cancelled.
    """
    if len(data) > MAX_BYTES:
        raise CloudriftError(f"{where} is larger than any song ({len(data) >> 10} KiB)")
    if data[:4] != b"MThd":
        raise CloudriftError(
            f"{where} is not a MIDI file: it does not start with MThd at byte 0; choose a .mid file"
        )
    if len(data) < 14:
        raise CloudriftError(f"{where} is truncated in its header, at byte {len(data)}")
    kind, division = int.from_bytes(data[8:10]), int.from_bytes(data[12:14])
    if kind not in (0, 1):
        raise CloudriftError(
            f"{where} is of type {kind} (byte 8), which holds separate songs; save it as type 0 "
            "or 1"
        )
    if division & 0x8000 and not division & 0xFF:
        raise CloudriftError(
            f"{where} has frames without ticks (byte 13), so its notes have no positions"
        )
    if division == 0:
        raise CloudriftError(
            f"{where} has no time division (byte 12), so its notes have no positions"
        )
    tracks = [
        _events(chunk, start, number, where, cancelled)
        for number, (start, chunk) in enumerate(_chunks(data, where), 1)
    ]
    if not tracks:
        raise CloudriftError(f"{where} has no track after its header, at byte {len(data)}")
    song = _song(tracks, division)
    end = max((n.start_tick + n.length_ticks for n in song.notes), default=0)
    if end > MOST_TICKS:
        raise CloudriftError(
            f"{where} lasts {end // (4 * TICKS_PER_QUARTER)} bars of 4/4, longer than any song; "
            "export the part you want, or remove its silence"
        )
    return song


def _chunks(data: bytes, where: str) -> Iterator[tuple[int, bytes]]:
    """Yield each track's place and bytes; chunks of other kinds are passed over."""
    at, number = 8 + int.from_bytes(data[4:8]), 0
    while at < len(data):
        name, length = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8])
        if name == b"MTrk":
            number += 1
            if at + 8 + length > len(data):
                raise CloudriftError(
                    f"{where} is truncated: track {number} begins at byte {at} and should have "
                    f"{length} bytes, but the file ends at byte {len(data)}"
                )
            yield at + 8, data[at + 8 : at + 8 + length]
        elif not name.isalnum():
            raise CloudriftError(f"{where} has no track or other known part at byte {at}")
        at += 8 + length


def _events(
    chunk: bytes, start: int, number: int, where: str, cancelled: Callable[[], bool]
) -> list[_Raw]:
    """Let one track be read on its own, so that an error has its place."""
    head = b"MThd" + (6).to_bytes(4) + b"\0\0\0\1\0\x60" + b"MTrk" + len(chunk).to_bytes(4)
    stream = _Watched(head + chunk, cancelled)
    try:
        track = mido.MidiFile(file=stream, clip=True).tracks[0]
    except (
        EOFError,
        ValueError,
        IndexError,
        KeyError,
        OSError,
        TypeError,
        KeySignatureError,
    ) as error:
        at = start + max(0, stream.tell() - len(head))
        raise CloudriftError(
            f"{where} cannot be read in track {number}, at byte {at}: "
            f"{str(error) or 'it ends in the middle of an event'}"
        ) from error
    tick = 0
    out = []
    for message in track:
        tick += message.time
        out.append(_Raw(tick, message))
    return out


def _song(tracks: list[list[_Raw]], division: int) -> MidiSong:
    events = [event for track in tracks for event in track]
    end = max((event.tick for event in events), default=0)
    tempos = sorted(
        (e.tick, 60e6 / e.message.tempo)
        for e in events
        if e.message.type == "set_tempo" and e.message.tempo > 0
    )
    played = [(_name(track), list(_notes(track))) for track in tracks]
    struck = [one for track in tracks for one in _notes(track, drums=True)]
    if division & 0x8000:  # frames a second and ticks a frame: real time, no beats
        per_second = (256 - (division >> 8)) * (division & 0xFF)
        starts = [start for _, raw in (*played, ("", struck)) for start, *_ in raw]
        guess = guess_tempo([start / per_second for start in sorted(starts)])
        scale, tempo, source = TICKS_PER_QUARTER * guess / 60 / per_second, guess, "estimate"
        tempos = []
    else:
        scale = TICKS_PER_QUARTER / division
        tempo, source = _longest(tempos, end), "file" if tempos else "standard"

    def ticks(raw_ticks: int) -> int:
        return round(raw_ticks * scale)

    def notes_of(found: list[tuple[int, int, int, int]]) -> tuple[Note, ...]:
        return in_order(
            Note(
                start_tick=ticks(start),
                length_ticks=max(1, ticks(until) - ticks(start)),
                pitch=pitch,
                velocity=velocity,
            )
            for start, until, pitch, velocity in found
        )

    parts = [(name, notes_of(found)) for name, found in played if found]
    metres = [e.message for e in events if e.message.type == "time_signature"]
    keys = [e.message.key for e in events if e.message.type == "key_signature"]
    return MidiSong(
        notes=in_order(note for _, notes in parts for note in notes),
        parts=tuple(parts),
        tempo=round(tempo, 2),
        tempo_from=source,
        tempos=tuple((ticks(tick), round(bpm, 3)) for tick, bpm in tempos),
        metre=_metre(metres[0].numerator, metres[0].denominator) if metres else (4, 4),
        signature=keys[0] if keys else "",
        drums=notes_of(struck),
    )


def _metre(beats: int, unit: int) -> tuple[int, int]:
    """A metre in which there are bars and beats; what is none counts as 4/4."""
    return (beats, unit) if 1 <= beats <= MOST_BEATS and unit in BEAT_UNITS else (4, 4)


def _name(track: list[_Raw]) -> str:
    """What a track calls itself."""
    named = (e.message.name for e in track if e.message.type == "track_name")
    return " ".join(next(named, "").split())


def _longest(tempos: list[tuple[int, float]], end: int) -> float:
    """The tempo that is in force for most of the file's length."""
    if not tempos:
        return STANDARD_TEMPO
    lasts: dict[float, int] = {}
    ends = [tick for tick, _ in tempos[1:]] + [max(end, tempos[-1][0] + 1)]
    for (tick, bpm), until in zip(tempos, ends, strict=True):
        lasts[bpm] = lasts.get(bpm, 0) + until - tick
    return max(lasts, key=lambda bpm: lasts[bpm])


def _notes(track: list[_Raw], *, drums: bool = False) -> Iterator[tuple[int, int, int, int]]:
    """Yield start, end, pitch and velocity; the sustain pedal holds what is let go under it.

    ``drums``: those of the tenth channel, and no others.
    """
    sounding: dict[tuple[int, int], tuple[int, int]] = {}  # channel, pitch -> start, velocity
    held: set[tuple[int, int]] = set()
    pedal: set[int] = set()
    tick = 0
    for event in track:
        tick, message = event.tick, event.message
        channel = None if message.is_meta else getattr(message, "channel", None)
        if channel is None or (channel == DRUM_CHANNEL) != drums:
            continue
        for key in _let_go(message, held, pedal):
            held.discard(key)
            if key in sounding:
                start, velocity = sounding.pop(key)
                yield start, tick, key[1], velocity
        if message.type == "note_on" and message.velocity > 0:
            sounding[(message.channel, message.note)] = (tick, message.velocity)
    for (_, pitch), (start, velocity) in sounding.items():  # never let go: they end with the track
        yield start, max(tick, start + 1), pitch, velocity


def _let_go(
    message: mido.Message, held: set[tuple[int, int]], pedal: set[int]
) -> list[tuple[int, int]]:
    """Return the notes that end with an event; note down what the pedal holds."""
    if message.type in ("note_on", "note_off"):
        key = (message.channel, message.note)
        if (message.type == "note_off" or message.velocity == 0) and message.channel in pedal:
            held.add(key)
            return []
        return [key]  # also one that is struck again
    if message.type == "control_change" and message.control == PEDAL:
        if message.value >= PEDAL_DOWN:
            pedal.add(message.channel)
        else:
            pedal.discard(message.channel)
            return [key for key in held if key[0] == message.channel]
    return []
