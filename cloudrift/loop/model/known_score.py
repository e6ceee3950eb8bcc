"""What is known of the notes in a recording: those that it was printed from, or that were found."""

from typing import Annotated

import msgspec
from msgspec import Meta

from cloudrift.ground.paths import shown
from cloudrift.ground.words import check_name
from cloudrift.loop.model.checks import within

MOST_KNOWN, MOST_VOICES = 6000, 64
LONGEST_MS = 60_000 * 4
Ms = Annotated[int, Meta(ge=-LONGEST_MS, le=LONGEST_MS)]
Cents = Annotated[int, Meta(ge=0, le=12_800)]  # MIDI number times 100
Tenths = Annotated[int, Meta(ge=-1200, le=600)]  # of a decibel
Count = Annotated[int, Meta(ge=0, le=MOST_VOICES)]

# Start and length in ms of the recording, pitch, level in tenths of a dB, number of its voice.
KnownNote = tuple[Ms, Ms, Cents, Tenths, Count]
# Start and length in ms, root in cents over a C, pitch of each voice (MIDI numbers).
KnownChord = tuple[Ms, Ms, Cents, tuple[Annotated[int, Meta(ge=0, le=127)], ...]]


class KnownScore(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """The notes that sound in a recording, in its own time, and the chords that they make.

    ``voices`` are the layers that they were played by, where it was printed. ``sure`` (0-1) is how
    surely it was found by listening; 1 where it is known from what it was printed from.
    """

    notes: tuple[KnownNote, ...] = ()
    chords: tuple[KnownChord, ...] = ()
    voices: tuple[str, ...] = ()
    sure: Annotated[float, Meta(ge=0, le=1)] = 1.0

    def __post_init__(self) -> None:
        within("number of known notes", len(self.notes), 0, MOST_KNOWN)
        within("number of known chords", len(self.chords), 0, MOST_KNOWN)
        within("number of voices", len(self.voices), 0, MOST_VOICES)
        msgspec.structs.force_setattr(self, "voices", tuple(map(shown, self.voices)))
        for voice in self.voices:
            check_name("a voice", voice, may_be_empty=True)
