"""What a recording is: how fast, where its beats are, in which key, what kind, how loud.

What is written on it and what is heard stand beside each other: neither is taken for the other.
"""

from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from pathlib import Path
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from cloudrift.audio.buffers import QUIET_DB, Stereo, to_db
from cloudrift.audio.files import read_audio
from cloudrift.audio.listen import note_weights
from cloudrift.audio.listen.labels import Labels, read_labels
from cloudrift.audio.listen.pitch import glides, pitch_of
from cloudrift.audio.listen.pulse import HOP, LISTEN_RATE, Pulse, Pulses, mono_of
from cloudrift.audio.listen.tempo import (
    BEATS_A_BAR,
    TempoGuess,
    first_beat_s,
    rank_free,
    rank_whole,
)
from cloudrift.audio.loudness import integrated_lufs
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.reading import reading
from cloudrift.notes.find_chords import chord_path, chord_tones_of
from cloudrift.theory.fit import HeardChord, HeardSound, KeyGuess, guess_keys_of
from cloudrift.theory.key import SCALES, Key
from cloudrift.theory.symbols import WrittenChord

Kind = Literal["one-shot", "phrase", "loop", "bed"]
MOST_GUESSES = 4
LONGEST_S = 60.0
ONE_SHOT_S = 1.6
LINE_S, SPEAKS = 3.2, 0.5  # a line that is spoken; how much of its pitch slides
LEVEL_FRAMES = 1024
NOISE = 0.978  # how evenly pitch classes sound in noise: entropy, 1 where all sound alike
ONE_NOTE = 0.6  # share that one pitch class has where there is no other note
STEADY_DB = 9.0  # that a bed's level may go up and down
ALIVE_DB = -45.0  # under its loudness, a loop is in its last moment at the least
SEAM_FRAMES = 512  # 23 ms
ON_THE_MARK_S = 0.012  # nearer to its place, a beat is where it is
BLOW_HOPS, BLOW_WITHIN, BLOW_SHARE = 3, 20, 0.6  # a blow has so much of its rise so near
STRUCK_WITHIN_S, LEVEL_S, LEAVES = 0.04, 0.004, 0.2
FAR_OFF = 0.22  # of a beat: what begins further off is no beat
SAME_BPM = 0.006  # share that a tempo may differ by from what is written
OCTAVES = (0.5, 1.0, 2.0)


class ListenedChord(NamedTuple):
    """A chord that seems to sound, from a second to another: pitch classes, root first."""

    start_s: float
    end_s: float
    tones: tuple[int, ...]


@dataclass(frozen=True, kw_only=True)
class Heard:
    """What was heard of a recording, and what is written on it.

    ``tempos`` and ``keys`` are the likeliest first, empty where there are none. ``beats_s`` are its
    beats at the tempo that was taken, in seconds, ``downbeat`` the number of the first that begins
    a bar; ``off_ms`` says how far each begins from its even place. ``pitch`` (MIDI) is that of a
    single note, else None. ``noise_db`` is how soft its softest tenth is (dBFS). ``shares`` tell
    how much of what has a pitch each pitch class is, C first. ``chords`` are those that seem to
    sound, in order; ``chords_sure`` (0-1) is what share of all that sounds their notes are.
    """

    length_s: float
    kind: Kind
    tempos: tuple[TempoGuess, ...]
    keys: tuple[KeyGuess, ...]
    beats_s: tuple[float, ...]
    downbeat: int
    off_ms: tuple[float, ...]
    pitch: float | None
    lufs: float
    noise_db: float
    shares: tuple[float, ...]
    labels: Labels
    chords: tuple[ListenedChord, ...] = ()
    chords_sure: float = 0.0

    @property
    def tempo(self) -> float:
        """The tempo that is taken (BPM): the written one, if there is one; 0 for none."""
        return self.labels.tempo or (self.tempos[0].tempo if self.tempos else 0.0)

    @property
    def ranked(self) -> tuple[TempoGuess, ...]:
        """The tempos that were heard, likeliest first. Of one and its half or double, which hearing
        can't tell apart, the one that is written.
        """
        wrote = self.labels.tempo
        near = [guess for guess in self.tempos if wrote and _is_near(guess.tempo, wrote)]
        others = [guess for guess in self.tempos if guess not in near]
        plain = bool(near) and _is_octave(wrote, self.tempos[0].tempo)
        return (*near, *others) if plain else self.tempos

    @property
    def key(self) -> Key | None:
        """The key that is taken: the written one, if there is one."""
        return written_key(self.labels, self.keys) or (self.keys[0].key if self.keys else None)

    @property
    def doubts(self) -> tuple[str, ...]:
        """Where what is written and what is heard disagree, in words."""
        out = []
        wrote = self.labels.tempo
        if wrote and self.tempos and not _is_octave(wrote, self.tempos[0].tempo):
            heard = self.tempos[0].tempo
            sure = sum(g.confidence for g in self.tempos if _is_octave(g.tempo, heard))
            # Where a loop does not last whole beats at what is written, less speaks against that.
            beats = self.length_s * wrote / 60
            odd = self.kind == "loop" and abs(beats - round(beats)) > ODD_BEATS
            if sure > (SURE_ENOUGH / 2 if odd else SURE_ENOUGH):
                out.append(f"written {wrote:g} BPM, estimated {heard:.1f} BPM")
        key = written_key(self.labels, self.keys)
        if key is not None and self.keys:
            heard_key = self.keys[0].key
            if self.outside(key) > OUTSIDE and self.outside(heard_key) < OUTSIDE / 2:
                out.append(f"written {key.text}, estimated {heard_key.text}")
        return tuple(out)

    def outside(self, key: Key) -> float:
        """How much of what has a pitch lies outside a key; minor has its leading note as well."""
        inside = {*key.scale, (key.pc + 11) % 12} if key.mode == "minor" else set(key.scale)
        return sum(share for pc, share in enumerate(self.shares) if pc not in inside)


SURE_ENOUGH = 0.9  # that hearing must be for a tempo that is written to be doubted
ODD_BEATS = 0.1
OUTSIDE = 0.2  # share of what sounds that a written key must leave out to be doubted


def _is_octave(tempo: float, other: float) -> bool:
    """Whether one tempo is the other, or half or twice it."""
    return any(_is_near(tempo * times, other) for times in OCTAVES)


def _is_near(tempo: float, other: float) -> bool:
    return abs(tempo / other - 1) < SAME_BPM


def written_key(labels: Labels, keys: tuple[KeyGuess, ...]) -> Key | None:
    """Return the key that is written; where only its tonic is, with the mode that is heard."""
    if not labels.tonic:
        return None
    mode = labels.mode
    if not mode:
        near = (guess for guess in keys if guess.key.pc == Key(labels.tonic, "minor").pc)
        best = next(near, None)
        mode = best.key.mode if best else "minor"
    return Key(labels.tonic, mode if mode in SCALES else "minor")


def read_and_listen(path: Path) -> tuple[Stereo, int, Heard]:
    """Read a recording and listen to it: its sound, its rate, and what was heard.

    Raises CloudriftError that says what is wrong with it, and what to do.
    """
    audio, rate = read_audio(path, LONGEST_S + 1)
    length = audio.shape[1] / rate
    if length > LONGEST_S:
        raise CloudriftError(
            f"{path.name} is longer than {LONGEST_S:.0f} s; trim it to the part you want"
        )
    if audio.shape[1] < 2 or not np.abs(audio).max(initial=0.0) > 1e-5:
        raise CloudriftError(f"{path.name} is silent or empty; there is nothing to analyse")
    with reading(str(path), "recording"):
        return audio, rate, listen_to(audio, rate, read_labels(path))


def listen_to(audio: Stereo, rate: int, labels: Labels | None = None) -> Heard:
    """Listen to a recording, (2, n)."""
    labels = labels or Labels()
    mono = mono_of(audio, rate)
    length = audio.shape[1] / rate
    lufs = (
        integrated_lufs(audio, rate) if length > 0.1 else to_db(float(np.sqrt((audio**2).mean())))
    )
    level = _level_db(mono)
    kind, tempos, pulse = _kind_and_tempos(mono, level, labels)
    tempo = labels.tempo or (tempos[0].tempo if tempos else 0.0)
    beats, downbeat, off = _beats(mono, pulse, tempo, kind) if tempo else ((), 0, ())
    keys, shares, chords, chords_sure = _keys(mono, beats, length, kind)
    is_note = kind != "loop" and (kind == "one-shot" or max(shares) > ONE_NOTE)
    return Heard(
        length_s=length,
        kind=kind,
        tempos=tempos[:MOST_GUESSES],
        keys=keys[:MOST_GUESSES],
        beats_s=beats,
        downbeat=downbeat,
        off_ms=off,
        shares=shares,
        pitch=pitch_of(audio, rate) if is_note else None,
        lufs=float(max(lufs, QUIET_DB)),
        noise_db=float(np.percentile(_level_db(audio), 10)),
        labels=labels,
        chords=chords,
        chords_sure=chords_sure,
    )


def _level_db(audio: NDArray[np.float32]) -> NDArray[np.float64]:
    """The level of each LEVEL_FRAMES of one channel or two, in dBFS."""
    channels = np.atleast_2d(audio)
    size = min(LEVEL_FRAMES, channels.shape[1])
    rows = channels[:, : channels.shape[1] // size * size].reshape(len(channels), -1, size)
    power = np.einsum("cij,cij->i", rows, rows).astype(np.float64) / (len(rows) * size)
    return np.asarray(10 * np.log10(power + 1e-12))


def _kind_and_tempos(
    mono: NDArray[np.float32], level: NDArray[np.float64], labels: Labels
) -> tuple[Kind, tuple[TempoGuess, ...], Pulse]:
    length = len(mono) / LISTEN_RATE
    pulses = Pulses(mono)
    free = pulses.pulse(wrapped=False)
    if np.ptp(np.percentile(level, (15, 90))) < STEADY_DB and _is_noise(mono):
        return "bed", (), free
    if length < ONE_SHOT_S and not labels.loop:
        return "one-shot", (), free
    if length < LINE_S and not (labels.loop or labels.tempo) and glides(mono, LISTEN_RATE) > SPEAKS:
        return "one-shot", (), free  # a spoken line is as long as some bar, too
    loud = 10 * np.log10((mono.astype(np.float64) ** 2).mean() + 1e-12)
    last = 10 * np.log10((mono[-SEAM_FRAMES:].astype(np.float64) ** 2).mean() + 1e-12)
    alive = last > loud + ALIVE_DB
    any_ = rank_free(free)
    if labels.loop or alive or _may_be_whole(any_):
        round_ = pulses.pulse(wrapped=True)
        whole = rank_whole(round_)
        if whole and (labels.loop or _fits_whole(whole, any_, alive=alive)):
            return "loop", tuple(whole), round_
    return "phrase", tuple(any_), free


def _fits_whole(whole: list[TempoGuess], free: list[TempoGuess], *, alive: bool) -> bool:
    """Whether it lasts whole bars: what is heard without regard to the length is as fast.

    What has died away at its end is a loop only where that is plain.
    """
    if not alive:
        return _may_be_whole(free)
    if not free or free[0].confidence < FAINT:
        return True
    return _off_bars(free[0]) < WHOLE_TOLERANCE or whole[0].confidence > 0.9


def _may_be_whole(free: list[TempoGuess]) -> bool:
    """Whether what is heard without regard to the length lasts whole bars, plainly."""
    return bool(free) and free[0].confidence > FAINT and _off_bars(free[0]) < WHOLE_TOLERANCE / 2


def _off_bars(guess: TempoGuess) -> float:
    """How many beats it lacks or has over whole bars."""
    bars = guess.beats / BEATS_A_BAR
    return abs(bars - round(bars)) * BEATS_A_BAR


WHOLE_TOLERANCE, FAINT = 0.12, 0.3  # beats; how sure a tempo must be to speak


def _is_noise(mono: NDArray[np.float32]) -> bool:
    """Whether no note stands out of what sounds."""
    edges = np.linspace(0, len(mono) / LISTEN_RATE, 9)
    return _evenness(note_weights(np.stack([mono, mono]), LISTEN_RATE, edges)[0]) > NOISE


def _evenness(every: NDArray[np.float64]) -> float:
    """How evenly pitch classes sound, 0 (one alone) to 1 (all alike)."""
    share = every.sum(axis=0) / max(float(every.sum()), 1e-12)
    return float(-(share * np.log(np.maximum(share, 1e-12))).sum() / np.log(12))


def _beats(
    mono: NDArray[np.float32], pulse: Pulse, tempo: float, kind: Kind
) -> tuple[tuple[float, ...], int, tuple[float, ...]]:
    """Where the beats begin, which of them begins a bar, and how far off their places they are."""
    beat, length = 60 / tempo, pulse.seconds
    whole = kind == "loop"
    first = first_beat_s(pulse, tempo, whole=whole)
    count = round(length / beat) if whole else 1 + int((length - first - 1e-6) / beat)
    even = first + np.arange(max(count, 0)) * beat
    even = even[even < length]
    curve, hop = pulse.begins[0], HOP / LISTEN_RATE
    strong = 3.0 * float(np.sqrt((curve**2).mean()))
    reach = int(FAR_OFF * beat / hop)
    beats, off = [], []
    for place in even:
        at = round(place / hop)
        low = max(0, at - reach)
        near = curve[low : at + reach + 1]
        moved = 0.0
        if len(near) and near.max() > strong and _is_blow(curve, low + int(near.argmax()), at):
            moved = _struck_at(mono, (low + int(near.argmax())) * hop) - place
        beats.append(round(float(place + moved if abs(moved) > ON_THE_MARK_S else place), 5))
        off.append(round(1000 * moved if abs(moved) > ON_THE_MARK_S else 0.0, 1))
    rising = all(b - a > 0.3 * beat for a, b in pairwise(beats))
    if not rising:
        beats, off = [round(float(b), 5) for b in even], [0.0] * len(even)
    return tuple(beats), 0, tuple(off)


def _struck_at(mono: NDArray[np.float32], near_s: float) -> float:
    """When what is struck about a second begins, to a few ms: where its level leaves the ground."""
    first = max(0, int((near_s - STRUCK_WITHIN_S) * LISTEN_RATE))
    part = np.abs(mono[first : first + int(2 * STRUCK_WITHIN_S * LISTEN_RATE)]).astype(np.float64)
    if len(part) < 8:
        return near_s
    size = min(int(LEVEL_S * LISTEN_RATE), len(part))
    level = np.maximum.accumulate(np.convolve(part, np.ones(size) / size)[: len(part)])
    ground = level[size - 1]
    above = np.flatnonzero(level > ground + LEAVES * (level[-1] - ground))
    return (first + int(above[0]) - size // 2) / LISTEN_RATE if len(above) else near_s


def _is_blow(curve: NDArray[np.float64], top: int, place: int) -> bool:
    """Whether something is struck there, rather than swells, and nothing at its even place."""
    round_it = curve[max(0, top - BLOW_WITHIN) : top + BLOW_WITHIN + 1].sum()
    narrow = curve[max(0, top - BLOW_HOPS) : top + BLOW_HOPS + 1].sum() > BLOW_SHARE * round_it
    there = curve[max(0, place - BLOW_HOPS) : place + BLOW_HOPS + 1].max(initial=0.0)
    return bool(narrow) and there < 0.4 * curve[top]


def _keys(
    mono: NDArray[np.float32], beats: tuple[float, ...], length: float, kind: Kind
) -> tuple[tuple[KeyGuess, ...], tuple[float, ...], tuple[ListenedChord, ...], float]:
    """The keys it may be in, none for noise and one note; pitch classes' shares; its chords."""
    if len(beats) >= BEATS_A_BAR:
        edges = np.array([*beats, length])
    else:
        edges = np.linspace(0, length, max(2, 1 + round(length / 0.5)))
    every, bass = note_weights(np.stack([mono, mono]), LISTEN_RATE, edges)
    shares = every.sum(axis=0) / max(float(every.sum()), 1e-12)
    kept = tuple(round(float(share), 4) for share in shares)
    one_note = kind != "loop" and shares.max() > ONE_NOTE
    if kind == "bed" or not every.any() or _evenness(every) > NOISE or one_note:
        return (), kept, (), 0.0
    chords = chords_heard(every, bass)
    spans, sure = _spans_of(chords, every, edges)
    row = [HeardChord(frozenset(c.tones), c.tones[0], float(c.bars or 1)) for c in chords]
    sound = HeardSound(every.sum(axis=0), bass.sum(axis=0), every[:BEATS_A_BAR].sum(axis=0), row)
    guesses = guess_keys_of(sound, goes_round=kind == "loop")
    if kind != "loop":  # a tune says less of its key than a row that comes round
        weights = np.sqrt([guess.confidence for guess in guesses])
        guesses = [
            KeyGuess(guess.key, float(weight / weights.sum()))
            for guess, weight in zip(guesses, weights, strict=True)
        ]
    return tuple(guesses), kept, spans, sure


def _spans_of(
    chords: tuple[WrittenChord, ...], every: NDArray[np.float64], edges: NDArray[np.float64]
) -> tuple[tuple[ListenedChord, ...], float]:
    """When chords sound, in seconds, and what share of all that sounds their notes are."""
    out, inside, at = [], 0.0, 0
    for chord in chords:
        end = at + round((chord.bars or 1) * BEATS_A_BAR)
        inside += float(every[at:end][:, list(chord.tones)].sum())
        out.append(ListenedChord(float(edges[at]), float(edges[end]), chord.tones))
        at = end
    return tuple(out), round(inside / max(float(every.sum()), 1e-12), 3)


def chords_heard(every: NDArray[np.float64], bass: NDArray[np.float64]) -> tuple[WrittenChord, ...]:
    """Return the chords that seem to sound over beats, from ``note_weights``."""
    lows = [int(row.argmax()) if row.any() else -1 for row in bass]
    path = chord_path(every, lows, 0, BEATS_A_BAR)
    out: list[WrittenChord] = []
    start = 0
    for b in range(1, len(path) + 1):
        if b == len(path) or path[b] != path[start]:
            lasts = Fraction(b - start, BEATS_A_BAR)
            out.append(WrittenChord(tones=chord_tones_of(path[start]), bars=lasts))
            start = b
    return tuple(out)
