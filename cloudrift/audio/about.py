"""What a sound file says of itself, whichever its format."""

from dataclasses import dataclass
from typing import NamedTuple

PROGRAM = "Cloudrift"


class Cue(NamedTuple):
    """A place in a file, in frames, and what begins there."""

    frame: int
    label: str


@dataclass(frozen=True, kw_only=True)
class About:
    """Facts that a file carries.

    Parameters
    ----------
    title, maker, album, comment, licence : text; what is empty is left out.
    key : as musicians write it in files, ``F#m`` or ``Bb`` (ID3: at most three letters).
    tempo : BPM; 0 for none.
    root_pitch : the MIDI number that the sound is at.
    loop : whether the whole of it goes round.
    cues : places in it, in order.
    lufs, peak_db : integrated loudness and true peak (dBTP), where they were measured.
    """

    title: str = ""
    maker: str = ""
    album: str = ""
    comment: str = ""
    licence: str = ""
    key: str = ""
    tempo: float = 0.0
    root_pitch: int = 60
    loop: bool = False
    cues: tuple[Cue, ...] = ()
    lufs: float | None = None
    peak_db: float | None = None

    @property
    def tags(self) -> dict[str, str]:
        """The facts as Vorbis comments, by field name; those of ID3 and RIFF follow from them."""
        found = {
            "TITLE": self.title,
            "ARTIST": self.maker,
            "ALBUM": self.album,
            "COMMENT": self.comment,
            "LICENSE": self.licence,
            "KEY": self.key,
            "BPM": f"{self.tempo:.2f}".rstrip("0").rstrip(".") if self.tempo else "",
            "ENCODER": PROGRAM,
        }
        return {name: text for name, text in found.items() if text}


NOTHING = About()
