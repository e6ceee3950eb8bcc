"""What happens at the change from one section to the next, as sound."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import Stereo, raised_cosine, silence, to_gain
from cloudrift.notes.note import Note
from cloudrift.notes.time import TICKS_PER_QUARTER, Clock
from cloudrift.sound.catalogue import find_sound
from cloudrift.sound.part import Part
from cloudrift.sound.tones import ToneCache
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.running import laid
from cloudrift.texture.treatment import Treatment

OPEN_HZ, CLOSED_HZ = 18_000.0, 260.0  # what a filter goes between
STAGES = 14  # filters along its way
EDGE_S, HUSH_S = 0.02, 0.008
BURST_S, BURST_LOW_HZ = 5.0, 250.0
RISES = 2.2  # power that a riser's level goes with
LEAD_DB = -4.0


def swept(audio: Stereo, frames: int, rate: int, *, opens: bool) -> Stereo:
    """Return audio whose last frames go through a low-pass that closes, or the first, that opens.

    24 dB an octave; on its way it is cross-faded between filters, evenly in octaves.
    """
    from scipy import signal  # noqa: PLC0415 - slow to import

    frames = min(frames, audio.shape[1])
    if frames < 8:
        return audio
    out = np.array(audio)
    part = np.s_[:, :frames] if opens else np.s_[:, -frames:]
    piece = np.asarray(audio[part], np.float64)
    hz = np.geomspace(OPEN_HZ, CLOSED_HZ, STAGES)
    way = np.linspace(0, STAGES - 1, frames)
    way = way[::-1] if opens else way
    made = np.zeros_like(piece)
    for i, cutoff in enumerate(hz):
        share = np.clip(1 - np.abs(way - i), 0, 1)
        there = np.flatnonzero(share)
        if not len(there):
            continue
        first = max(0, there[0] - int(0.2 * rate))  # so that it is settled
        sos = signal.butter(4, min(cutoff, 0.45 * rate), fs=rate, output="sos")
        filtered = signal.sosfilt(sos, piece[:, first : there[-1] + 1], axis=1)
        made[:, first : there[-1] + 1] += filtered * share[first : there[-1] + 1]
    edge = min(int(EDGE_S * rate), frames)
    fade = raised_cosine(edge)
    if opens:  # at its open end it is what it was
        made[:, -edge:] += (piece[:, -edge:] - made[:, -edge:]) * fade
    else:
        made[:, :edge] = piece[:, :edge] + (made[:, :edge] - piece[:, :edge]) * fade
    out[part] = made.astype(np.float32)
    return out


def tape_stop(audio: Stereo, frames: int, share: float) -> Stereo:
    """Return audio whose last frames slow down as tape does, to a share of their speed.

    The speed falls as a raised cosine, so that it leaves without a corner; it gets longer by that.
    """
    from scipy import ndimage  # noqa: PLC0415 - slow to import

    frames = min(frames, audio.shape[1] - 1)
    if frames < 8:
        return audio
    read, heard = np.arange(frames + 1), _heard(frames, share)
    places = np.interp(np.arange(int(heard[-1])), heard, read) + (audio.shape[1] - 1 - frames)
    slow = np.stack(
        [ndimage.map_coordinates(side, places[None], order=3, mode="nearest") for side in audio]
    )
    return np.concatenate([audio[:, : audio.shape[1] - frames], slow.astype(np.float32)], axis=1)


def _heard(frames: int, share: float) -> NDArray[np.float64]:
    """When each frame is heard, where the speed falls to a share: (frames + 1,), in frames."""
    read = np.arange(frames + 1)
    speed = 1 - (1 - share) * (0.5 - 0.5 * np.cos(np.pi * read / frames))
    return np.concatenate([[0.0], np.cumsum(1 / speed[:-1])])


def sag_adds(frames: int, share: float) -> int:
    """Return by how many frames ``tape_stop`` makes audio longer."""
    return int(_heard(frames, share)[-1]) - frames if frames >= 8 else 0


def silence_end(audio: Stereo, frames: int, rate: int) -> None:
    """Let nothing be heard in the last frames."""
    frames = min(frames, audio.shape[1])
    fade = min(int(HUSH_S * rate), audio.shape[1] - frames)
    if frames < 1:
        return
    audio[:, audio.shape[1] - frames :] = 0
    if fade:
        end = audio.shape[1] - frames
        audio[:, end - fade : end] *= np.asarray(1 - raised_cosine(fade), np.float32)


def put_before_end(audio: Stereo, sound: Stereo) -> None:
    """Add a sound so that it ends where the audio does; what is longer begins with it."""
    count = min(audio.shape[1], sound.shape[1])
    audio[:, audio.shape[1] - count :] += sound[:, sound.shape[1] - count :]


def lead_in(audio: Stereo, frames: int) -> Stereo:
    """Return the beginning of what comes, backward and swelling."""
    frames = min(frames, audio.shape[1])
    rises = np.linspace(0, 1, frames, dtype=np.float32) ** 1.5
    return np.asarray(audio[:, :frames][:, ::-1] * rises * np.float32(to_gain(LEAD_DB)))


def burst(audio: Stereo, frames: int, rate: int, tempo: float, level_db: float) -> Stereo:
    """Return what the last frames leave behind in a long hall, its loudest at a level."""
    frames = min(frames, audio.shape[1])
    if frames < 8:
        return silence(0)
    hall = Treatment(
        id="t1",
        kind="hall",
        version=find_kind("hall").version,
        settings=(("decay_s", BURST_S), ("low_cut_hz", BURST_LOW_HZ)),
    )
    wet = laid(np.ascontiguousarray(audio[:, -frames:]), (hall,), rate, tempo, once=True)
    return _at_level(np.array(wet[:, frames:]), level_db)


def riser(tones: ToneCache, seconds: float, rate: int, level_db: float) -> Stereo:
    """Return a riser of a length, its end at a level: it swells all the way."""
    sound = one_shot(tones, "riser", seconds, rate, 0.0)
    count = int(seconds * rate)
    out = silence(count)
    out[:, : min(count, sound.shape[1])] = sound[:, :count]
    swell = np.linspace(0, 1, count, dtype=np.float32) ** RISES
    out *= swell
    fade = min(int(HUSH_S * rate), count)
    if fade:
        out[:, -fade:] *= np.asarray(1 - raised_cosine(fade), np.float32)
    return _at_level(out, level_db)


def one_shot(
    tones: ToneCache, sound: str, seconds: float, rate: int, level_db: float, pitch: int = 60
) -> Stereo:
    """Return a house sound struck once, for so long, its loudest at a level in dB."""
    return _at_level(_struck(tones, sound, round(seconds, 3), rate, pitch), level_db)


def _struck(tones: ToneCache, sound: str, seconds: float, rate: int, pitch: int) -> Stereo:
    clock = Clock.of(60.0, rate)  # a quarter lasts a second
    ticks = max(1, round(seconds * TICKS_PER_QUARTER))
    note = Note(start_tick=0, length_ticks=ticks, pitch=pitch, velocity=112)
    instrument = find_sound(sound)
    part = Part(
        notes=(note,),
        instrument=instrument,
        settings=(),
        clock=clock,
        loop_ticks=ticks,
        frames=clock.frames(ticks) + rate,
        once=True,
    )
    return part.render(tones)


def _at_level(audio: Stereo, level_db: float) -> Stereo:
    peak = float(np.abs(audio).max(initial=0.0))
    return audio * np.float32(to_gain(level_db) / peak) if peak > 0 else audio
