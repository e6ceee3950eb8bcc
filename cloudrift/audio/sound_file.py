"""Sound written as a file: WAV, FLAC, Ogg Vorbis or MP3, whole or not at all, with its facts."""

import io
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import mutagen
import numpy as np
import soundfile
from mutagen.flac import FLAC
from mutagen.ogg import OggPage
from mutagen.oggvorbis import OggVorbis
from numpy.typing import NDArray

from cloudrift.audio.about import NOTHING, About
from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.files import write_atomically
from cloudrift.audio.wav import id3_of, with_chunks
from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.ground.words import number

FLOATING = 32  # bits that are no integers
Integers = NDArray[np.int16] | NDArray[np.int32]  # (frames, 2)


@dataclass(frozen=True, kw_only=True)
class Format:
    """A format of sound files: what is written, and with which bits (0: it has none)."""

    name: str
    label: str
    bits: tuple[int, ...]
    library: str
    how: dict[str, Any]
    exact: bool = True

    @property
    def suffix(self) -> str:
        """How its files end."""
        return f".{self.name}"


FORMATS: dict[str, Format] = {
    one.name: one
    for one in (
        Format(name="wav", label="WAV", bits=(16, 24, 32), library="WAV", how={}),
        Format(
            name="flac",
            label="FLAC",
            bits=(16, 24),
            library="FLAC",
            how={"compression_level": 0.625},
        ),
        Format(
            name="ogg",
            label="Ogg Vorbis, quality 8",
            bits=(),
            library="OGG",
            exact=False,
            how={"compression_level": 0.2},
        ),
        Format(
            name="mp3",
            label="MP3, 320 kbit/s",
            bits=(),
            library="MP3",
            exact=False,
            how={"compression_level": 0.0, "bitrate_mode": "CONSTANT"},
        ),
    )
}
SUBTYPES = {16: "PCM_16", 24: "PCM_24", 32: "FLOAT"}
BLOCK = 1 << 14  # frames
HEARD_OVER_DB = 0.01  # so little is lost in rounding
SERIAL = 1  # of an Ogg file's only stream
LOSSY = {"ogg": "VORBIS", "mp3": "MPEG_LAYER_III"}


def find_format(name: str) -> Format:
    """Return a format; raise CloudriftError with the nearest name."""
    if name not in FORMATS:
        raise CloudriftError(
            f"there is no sound file format called {name!r}{did_you_mean(name, FORMATS)}"
        )
    return FORMATS[name]


class FullScaleError(CloudriftError):
    """Sound that could only be written clipped; ``over_db`` is how far its peak is too high."""

    def __init__(self, name: str, over_db: float) -> None:
        self.over_db = over_db
        super().__init__(
            f"{name} would peak at {number(over_db, '+.1f')} dBFS and be clipped; turn all files "
            f"down by {number(turn_down_db(over_db), '.1f')} dB, or write 32-bit float WAV"
        )


def over_db(audio: Stereo) -> float:
    """Return by how many dB sound is over full scale; 0 where it is not, or nobody could tell."""
    peak = float(np.abs(audio).max(initial=0.0))
    over = 20 * math.log10(max(peak, 1.0))
    return over if over > HEARD_OVER_DB else 0.0


def turn_down_db(over: float) -> float:
    """Return by how many dB to turn down what is over full scale by some: on tenths, upwards."""
    return math.ceil(over * 10 + 0.5) / 10 if over else 0.0


def below_full_scale(audio: Stereo) -> tuple[Stereo, float]:
    """Return sound turned down as far as it would clip, and by how many dB that is."""
    by = turn_down_db(over_db(audio))
    return (audio * np.float32(to_gain(-by)) if by else audio), by


def as_integers(audio: Stereo, bits: int, *, dither: bool = True) -> Integers:
    """Return audio as integers of 16 or 24 bits, clipped to what those hold: (frames, 2).

    Dither (TPDF, one step to either side) makes what is lost independent of the sound. 24 bits lie
    in the upper part of 32.
    """
    frames = audio.shape[1]
    full = 2.0 ** (bits - 1)
    steps = audio.T.astype(np.float64) * full
    if dither:
        rng = rng_for(0, "dither", frames)
        steps += rng.random((frames, 2), np.float32)
        steps -= rng.random((frames, 2), np.float32)
    whole = np.clip(np.rint(steps), -full, full - 1).astype(np.int32)
    return whole.astype(np.int16) if bits == 16 else whole << 8


def write_sound(
    path: Path,
    audio: Stereo,
    rate: int,
    *,
    format_name: str = "",
    bits: int = 24,
    dither: bool = True,
    about: About = NOTHING,
) -> None:
    """Write a sound file.

    Parameters
    ----------
    audio : (2, frames), full scale 1.0; louder is FullScaleError, but for floating point.
    format_name : of one of ``FORMATS``; as the path ends where none is given.
    bits : 16, 24 (integers) or 32 (floating point, WAV alone); formats without bits ignore them.
    dither : whether integers are dithered (TPDF).

    A link of that name is replaced, not followed. Raises CloudriftError that names the file, and
    what is wrong with what is asked.
    """
    of = find_format(format_name or path.suffix[1:].lower() or "wav")
    if of.bits and bits not in of.bits:
        raise CloudriftError(
            f"{of.label} holds {' or '.join(map(str, of.bits))} bits, not {bits}; choose another"
        )
    over = 0.0 if of.bits and bits == FLOATING else over_db(audio)
    if over:
        raise FullScaleError(path.name, over)
    body = io.BytesIO()
    sound: NDArray[Any] = audio.T
    if of.bits and bits != FLOATING:
        sound = as_integers(audio, bits, dither=dither)
    elif not of.bits:
        sound = np.clip(sound, -1.0, 1.0)
    subtype = SUBTYPES[bits] if of.bits else LOSSY[of.name]
    try:
        with soundfile.SoundFile(
            body, "w", rate, 2, subtype=subtype, format=of.library, **of.how
        ) as file:
            for at in range(0, len(sound), BLOCK):  # the Vorbis encoder breaks on much at once
                file.write(sound[at : at + BLOCK])
        made = _with_facts(body, of, about, frames=audio.shape[1], rate=rate, bits=bits)
    except (RuntimeError, mutagen.MutagenError) as error:
        raise CloudriftError(
            f"could not write {path} as {of.label}: {error}; choose another format"
        ) from error
    write_atomically(path, lambda file: file.write(made), follow_link=False)


def write_wav(path: Path, audio: Stereo, rate: int, *, bits: int, about: About = NOTHING) -> None:
    """Write a WAV file, as ``write_sound`` does."""
    write_sound(path, audio, rate, bits=bits, about=about)


def _with_facts(
    body: io.BytesIO, of: Format, about: About, *, frames: int, rate: int, bits: int
) -> bytes:
    raw = body.getvalue()
    if of.name == "wav":
        return with_chunks(raw, about, frames=frames, rate=rate, bits=bits)
    if of.name == "mp3":
        return id3_of(about) + raw
    body.seek(0)
    tagged: Any = (FLAC if of.name == "flac" else OggVorbis)(body)
    tags = about.tags
    if about.loop:  # as samplers read them from tags
        tags |= {"LOOPSTART": "0", "LOOPLENGTH": str(frames)}
    for count, cue in enumerate(about.cues, 1):  # chapters, as players read them
        tags |= {
            f"CHAPTER{count:03}": _clock(cue.frame / rate),
            f"CHAPTER{count:03}NAME": cue.label,
        }
    for name, text in tags.items():
        tagged[name] = text
    body.seek(0)
    tagged.save(body)
    return body.getvalue() if of.name == "flac" else _same_each_time(body)


def _same_each_time(ogg: io.BytesIO) -> bytes:
    """Give an Ogg stream a number that is not drawn: the same sound is the same file."""
    ogg.seek(0)
    out = io.BytesIO()
    while ogg.tell() < len(ogg.getvalue()):
        page = OggPage(ogg)
        page.serial = SERIAL
        out.write(page.write())
    return out.getvalue()


def _clock(seconds: float) -> str:
    """A time as chapters are written: ``00:01:02.500``."""
    ms = round(1000 * seconds)
    return f"{ms // 3_600_000:02}:{ms // 60_000 % 60:02}:{ms // 1000 % 60:02}.{ms % 1000:03}"
