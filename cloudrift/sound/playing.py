"""One note as sound: its tone bent, brightened and enveloped."""

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio import quick
from cloudrift.audio.buffers import Mono, Stereo, to_gain
from cloudrift.audio.clips import ClipStore
from cloudrift.audio.wrap import read_stretch
from cloudrift.ground.lru import memoize
from cloudrift.ground.settings import ResolvedSettings, Settings
from cloudrift.sound.instrument import Instrument, ToneRequest
from cloudrift.sound.note_frames import CUT_MS, PlayedNote, frames_of_ms
from cloudrift.sound.tones import ToneCache

VELOCITY_POWER = 1.3  # velocity 30 to 120 is 15.7 dB


# Tones are computed in steps of this, those of more than a second in longer ones, so that slightly
# longer notes share one.
STEP_S, LONG_STEP_S = 0.1, 0.5


NEPERS_60_DB = 6.908


SKIP_MS = 60.0  # of a tone that is joined to the one before: past its own start


CLOSED = 0.12  # how much brightness is left when it has closed


PIECE = 8192  # frames


DAMPED_TIMES = 9.0  # time constants of the upper partials in a release


SHARES = 64


def play_note(
    hit: PlayedNote,
    instrument: Instrument,
    settings: Settings,
    full: ResolvedSettings,
    rate: int,
    tones: ToneCache,
    of: tuple[int, int] | None = None,
) -> Stereo:
    """Play a note, or its frames from one to another."""
    length = hit.held + hit.release
    total = length if of is None else min(length, max(of[1], hit.glide))
    skip, bend, ahead = _read_at(hit, rate)
    request = _tone_of(hit, instrument, full, rate, tones.clips, total, ahead)
    tone = tones.tone(instrument, settings, request)
    bright = np.float32(0) if instrument.follows else _brightness(hit, full, rate)
    if instrument.damping and hit.held < total:
        bright = bright * _damped(hit.held, hit.release)
    if isinstance(bright, np.ndarray):
        bright = bright[:total]
    envelope = _gain(hit, instrument) * _envelope(hit, full, rate)[:total]
    if len(bend) and not isinstance(bright, np.ndarray):
        soft, hard = (audio[:, : request.frames] for audio in tone)
        mixed = envelope * _bent(soft + bright * (hard - soft), bend, skip, ahead, total)
    else:
        soft, hard = (_bent(audio, bend, skip, ahead, total) for audio in tone)
        mixed = crossfaded(soft, hard, envelope, bright)
    if instrument.damper and hit.held < total:
        _add_damper(mixed, instrument.damper(hit.variant, hit.pitch, rate), hit, envelope)
    mixed = _widened(mixed, full.number("width") / 100)
    return mixed if of is None else mixed[:, of[0] : of[1]]


def tone_of(
    hit: PlayedNote,
    instrument: Instrument,
    full: ResolvedSettings,
    rate: int,
    clips: ClipStore,
    total: int,
) -> ToneRequest:
    """Return the tone that the first ``total`` frames of a note are played from."""
    *_, ahead = _read_at(hit, rate)
    return _tone_of(hit, instrument, full, rate, clips, total, ahead)


def _tone_of(
    hit: PlayedNote,
    instrument: Instrument,
    full: ResolvedSettings,
    rate: int,
    clips: ClipStore,
    total: int,
    ahead: int,
) -> ToneRequest:
    step = int((STEP_S if total < rate else LONG_STEP_S) * rate)
    return ToneRequest(
        pitch=hit.pitch,
        variant=hit.variant,
        frames=-(-(total + max(ahead, 0) + 2) // step) * step,
        rate=rate,
        settings=full,
        clips=clips,
        velocity=instrument.band(hit.velocity),
        share=_followed(hit, full) if instrument.follows else 0.0,
    )


def _read_at(hit: PlayedNote, rate: int) -> tuple[int, NDArray[np.float64], int]:
    """Where a note's tone is read: from which frame, how it bends in, and how far that is ahead."""
    skip = frames_of_ms(SKIP_MS, rate) if hit.joined else 0
    bend = _bend(hit.glide_st, min(hit.glide, hit.held + hit.release))
    return skip, bend, skip + (round(float(bend[-1])) + 1 - len(bend) if len(bend) else 0)


def _gain(hit: PlayedNote, instrument: Instrument) -> np.float32:
    return np.float32((hit.velocity / 127) ** VELOCITY_POWER * to_gain(instrument.gain_db))


def crossfaded(soft: Stereo, hard: Stereo, envelope: Mono, bright: Mono | np.float32) -> Stereo:
    """Return soft and hard in their shares, in pieces that stay near the processor."""
    if quick.library:
        return quick.blend(soft, hard, envelope, bright)
    out = np.empty_like(soft, order="C")
    for first in range(0, out.shape[1], PIECE):
        piece = np.s_[..., first : first + PIECE]
        level = envelope[piece]
        share = level * (bright[piece] if isinstance(bright, np.ndarray) else bright)
        np.multiply(hard[piece], share, out=out[piece])
        out[piece] += soft[piece] * (level - share)
    return out


def _bend(glide_st: float, frames: int) -> NDArray[np.float64]:
    """Return where a tone is read while its pitch glides in, in frames from its start.

    Where it ends is made a whole frame, so that the rest of the tone is read as it is.
    """
    if frames < 2 or glide_st == 0:
        return np.zeros(0)
    share = np.arange(frames) / (frames - 1)
    speed = 2 ** (glide_st * (1 - share * share * (3 - 2 * share)) / 12)
    place = np.concatenate([[0.0], np.cumsum(speed)[:-1]])
    ahead = place[-1] - (frames - 1)
    return place + share * (round(ahead) - ahead)


def _bent(audio: Stereo, bend: NDArray[np.float64], skip: int, ahead: int, total: int) -> Stereo:
    if not len(bend):
        return audio[:, skip : skip + total]
    away = (bend - np.arange(len(bend))).astype(np.float32)
    start = read_stretch(audio, away, skip)
    return np.concatenate([start, audio[:, ahead + len(bend) : ahead + total]], axis=1)


def _followed(hit: PlayedNote, full: ResolvedSettings) -> float:
    """How bright a note is played, in steps that no ear tells apart: they share tones."""
    return round(SHARES * brightness_share(hit.velocity, full.number("brightness"))) / SHARES


def _brightness(hit: PlayedNote, full: ResolvedSettings, rate: int) -> Mono | np.float32:
    """How much of the hard tone is heard, as it opens or closes."""
    bright = np.float32(brightness_share(hit.velocity, full.number("brightness")))
    if "open_ms" not in full and "close_ms" not in full:
        return bright
    opens, closes = (full.number(x) if x in full else 0.0 for x in ("open_ms", "close_ms"))
    return bright * _moving(hit.held + hit.release, opens * rate / 1e3, closes * rate / 1e3)


@memoize
def _moving(frames: int, opens: float, closes: float) -> Mono:
    """A share that opens and closes with time constants in frames (0: it does not)."""
    t = np.arange(frames, dtype=np.float32)
    share = np.ones(frames, np.float32)
    if opens:
        share -= np.exp(t * np.float32(-1 / opens))
    if closes:
        share *= np.float32(CLOSED) + np.float32(1 - CLOSED) * np.exp(t * np.float32(-1 / closes))
    return share


@memoize
def _damped(held: int, release: int) -> Mono:
    """A share that falls as soon as a note is let go: felt takes the upper partials first."""
    share = np.ones(held + release, np.float32)
    t = np.arange(release, dtype=np.float32)
    share[held:] = np.exp(t * np.float32(-DAMPED_TIMES / release))
    return share


def brightness_share(velocity: int, brightness: float) -> float:
    """Return how much of the hard tone is heard (0-1) for a velocity and a brightness in %."""
    struck = (velocity / 127) ** 1.5
    return float(np.clip(struck * brightness / 50, 0.0, 1.0))


def _envelope(hit: PlayedNote, full: ResolvedSettings, rate: int) -> Mono:
    sustain = full.number("sustain") / 100
    attack_ms = CUT_MS if hit.joined else full.number("attack_ms")
    tau = full.number("decay_ms") * 1e-3 * rate / NEPERS_60_DB * 2
    return _shape(
        hit.held, hit.release, frames_of_ms(attack_ms, rate), sustain, 0.0 if hit.joined else tau
    )


@memoize
def _shape(held: int, release: int, attack: int, sustain: float, tau: float) -> Mono:
    """Attack (raised cosine), decay towards sustain (0: there at once), release to silence.

    All but the sustain are in frames. Notes of one length share it; it is read-only.
    """
    total = held + release
    t = np.arange(total, dtype=np.float32)
    envelope = np.full(total, np.float32(sustain))
    if sustain < 1 and tau:
        envelope += np.float32(1 - sustain) * np.exp(t * np.float32(-1 / tau))
    attack = min(attack, total)
    envelope[:attack] *= np.float32(0.5) - np.float32(0.5) * np.cos(t[:attack] * (np.pi / attack))
    envelope[held:] *= _release_curve(release)
    envelope.flags.writeable = False
    return envelope


@memoize
def _release_curve(release: int) -> Mono:
    """Exponential to -48 dB, bent: it starts without a corner and ends at exactly nothing."""
    fall = np.arange(1, release + 1, dtype=np.float32) / np.float32(release)
    fourth = np.square(np.square(fall))
    return np.asarray(np.exp(np.float32(-5.5) * fall * np.sqrt(fall)) * (1 - fourth * fourth))


def _add_damper(mixed: Stereo, noise: Stereo, hit: PlayedNote, envelope: Mono) -> None:
    count = min(noise.shape[1], hit.release)
    falling = envelope[max(0, hit.held - 1)] * np.linspace(1, 0, count, dtype=np.float32)
    heard = min(count, mixed.shape[1] - hit.held)
    mixed[:, hit.held : hit.held + heard] += falling[:heard] * noise[:, :heard]


def _widened(audio: Stereo, width: float) -> Stereo:
    if width == 1:
        return audio
    mid = audio.mean(axis=0)
    return mid + np.float32(width) * (audio - mid)
