"""Own sounds: one-shots spread over the keyboard, and house sounds with settings of their own."""

import dataclasses
import functools
from typing import Literal, get_args

import msgspec
import numpy as np
import soxr
from msgspec.structs import replace
from numpy.typing import NDArray

from cloudrift.audio import fft as sf
from cloudrift.audio.buffers import Stereo, to_gain
from cloudrift.audio.clips import ClipStore, is_clip_name
from cloudrift.audio.stretch import LEAD_S, pitch_shifted
from cloudrift.ground.draws import rng_for
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.lru import get_or_make
from cloudrift.ground.settings import Field, Settings, SettingsSpec, percent
from cloudrift.ground.words import named
from cloudrift.sound.catalogue import early_level_db, find_design, find_sound, unknown_sound
from cloudrift.sound.instrument import Instrument, Tone, ToneRequest, shaped
from cloudrift.theory.pitch import pitch_to_hz

LOUDEST_DB = 40.0


Plays = Literal["once", "looped", "own loops"]
PLAYS: tuple[Plays, ...] = get_args(Plays)
MOST_ZONES = 512  # recordings of one sound
VARIANTS = 3  # strikes that are told apart where no recordings take turns
ALL = (0, 127)
LOOP_FROM, LOOP_TO = 45.0, 90.0  # % of a recording, where it carries no loop of its own
CROSSFADE_S = 0.06
SHORTEST, LONGEST = 25.0, 400.0  # % that a recording may be stretched to


class Recording(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One recording: its clip, the pitch it sounds (MIDI, may lie between keys), its file's name.

    ``loop_from`` and ``loop_to`` are in % of its length; 0 for both if it carries no loop. Without
    ``keys`` it is played where its root is the nearest; with them (MIDI, both ends among them)
    there and nowhere else, for ``velocities`` alone, by ``gain_db`` louder than the others. Those
    with a ``turn`` take turns, those without sound together.
    """

    clip: str
    root: float
    name: str = ""
    loop_from: float = 0.0
    loop_to: float = 0.0
    keys: tuple[int, int] | None = None
    velocities: tuple[int, int] = ALL
    gain_db: float = 0.0
    turn: int = 0

    def __post_init__(self) -> None:
        if not is_clip_name(self.clip):
            raise CloudriftError(f"{self.clip[:60]!r} does not name a recording")
        if not 0 <= self.root <= 127:
            raise CloudriftError(f"the root pitch of {self.name} is {self.root:g}, not 0 to 127")
        for what, (low, high) in (("keys", self.keys or ALL), ("velocities", self.velocities)):
            if not 0 <= low <= high <= 127:
                raise CloudriftError(
                    f"the {what} of {self.name} are {low} to {high}, not rising in 0 to 127"
                )
        if not 0 <= self.loop_from <= 100 or not 0 <= self.loop_to <= 100:
            raise CloudriftError(f"the loop of {self.name} is outside of it")
        if not abs(self.gain_db) <= LOUDEST_DB or not 0 <= self.turn <= 1000:
            raise CloudriftError(f"{self.name} has an impossible gain or pan")


class OwnSound(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A playable sound made of recordings, or a ``house`` sound in a design, as it has been set.

    ``licence`` says where recordings are from, in words. ``settings`` stand in for the usual ones.
    """

    name: str
    recordings: tuple[Recording, ...] = ()
    licence: str = ""
    plays: Plays = "once"
    house: str = ""
    version: int = 1
    settings: Settings = ()

    def __post_init__(self) -> None:
        named(self, "an own sound")
        named(self, "a licence", "licence", may_be_empty=True)
        house = find_design(self.house, self.version) if self.house else None
        if house is not None:
            house.spec.check(self.settings, f"sound {self.name}")
        elif not self.house and not 0 < len(self.recordings) <= MOST_ZONES:
            raise CloudriftError(
                f"{self.name} has {len(self.recordings)} recordings, not 1 to {MOST_ZONES}"
            )

    @property
    def known(self) -> bool:
        """Whether what it is made of is known here."""
        return not self.house or find_design(self.house, self.version) is not None

    @property
    def instrument(self) -> Instrument:
        """The sound as an instrument; a silent one where what it is made of is not known."""
        return _instrument(self)


@functools.lru_cache(maxsize=64)
def _instrument(own: OwnSound) -> Instrument:
    base = house_of(own) or _of_recordings(own)
    if not own.known:
        return dataclasses.replace(base, name=own.name)
    given = dict(own.settings)
    usual = (replace(field, default=given.get(field.name, field.default)) for field in base.spec)
    spec = SettingsSpec(tuple(usual))
    if own.house:
        base = dataclasses.replace(
            base,
            name=own.name,
            family="own",
            tags=("own", *base.tags),
            about=f"{base.label} with settings of your own. {base.about}",
            content=f"{base.name}@{base.version}",
        )
    set_so = ",".join(f"{name}={value}" for name, value in own.settings)
    return dataclasses.replace(base, spec=spec, content=f"{base.content}:{set_so}")


def house_of(own: OwnSound) -> Instrument | None:
    """Return the house sound that an own one is made of, if it is not made of recordings."""
    if not own.house:
        return None
    return find_design(own.house, own.version) or unknown_sound(own.house, own.version)


def with_todays_design(own: OwnSound) -> tuple[OwnSound, float]:
    """Return an own sound made of today's design of its house sound, and how many dB louder it was.

    It is itself where it is made of none, or of none that is early.
    """
    louder_db = None if own.known else early_level_db(own.house, own.version)
    if louder_db is None:
        return own, 0.0
    today = find_sound(own.house)
    settings = today.spec.what_is_left(own.settings)
    return replace(own, version=today.version, settings=settings), louder_db


def _of_recordings(own: OwnSound) -> Instrument:
    roots = [r.root for r in own.recordings]
    first = own.recordings[0]
    low, high = first.loop_from or LOOP_FROM, first.loop_to or LOOP_TO
    return Instrument(
        name=own.name,
        family="own",
        role="keys",
        tags=("own", own.plays),
        about=f"Own recordings, {len(roots)}; {own.licence or 'no licence stated'}.",
        register=(max(0, int(min(roots)) - 12), min(127, int(max(roots)) + 12)),
        spec=shaped(
            Field(name="plays", label="Plays", default=own.plays, choices=PLAYS),
            percent("loop_from", "Loop from", low, "share of the recording, where it plays looped"),
            percent("loop_to", "Loop to", high, "share of the recording, where it plays looped"),
            Field(
                name="own_bpm",
                label="Own tempo",
                default=0,
                unit="BPM",
                low=0,
                high=240,
                step=0.1,
                off_low=True,
                hint="of a rhythm: stretched to the loop's tempo",
            ),
            Field(
                name="stretch",
                label="Length",
                default=100,
                unit="%",
                low=SHORTEST,
                high=LONGEST,
                log=True,
                hint="at the same pitch; set by its own tempo if it has one",
            ),
            attack_ms=2,
            release_ms=200,
            detune_cents=0,
        ),
        tone=functools.partial(_tone, own),
        gain_db=-18,
        # What is usual of it is not among its settings.
        content=f"{own.plays},{low:g},{high:g}:"
        + ",".join(map(str, map(msgspec.structs.astuple, own.recordings))),
        bands=_bands(own),
        variants=max(VARIANTS, len({r.turn for r in own.recordings})),
    )


def _bands(own: OwnSound) -> tuple[int, ...]:
    """From which velocities on other recordings are played."""
    edges = {edge for r in own.recordings for edge in (r.velocities[0], r.velocities[1] + 1)}
    return tuple(sorted(edge for edge in edges if 0 < edge <= 127))


def with_settings(
    name: str, own: "OwnSound | None", house: Instrument, settings: Settings
) -> OwnSound:
    """Return a sound as it has been set, as an own sound of its own name.

    It is the ``own`` one where that is not None, else one of the house.
    """
    merged = tuple(sorted({**dict(own.settings if own else ()), **dict(settings)}.items()))
    if own is not None:
        return replace(own, name=name, settings=merged)
    return OwnSound(name=name, house=house.name, version=house.version, settings=merged)


def _tone(own: OwnSound, request: ToneRequest) -> Tone:
    """Play the recordings that are for a pitch, at the speed that brings each to it."""
    there = recordings_for(own, request.pitch, request.velocity, request.variant)
    played: list[Stereo] = [
        _played(recording, request) * np.float32(to_gain(recording.gain_db)) for recording in there
    ]
    hard: Stereo = played[0] if len(played) == 1 else np.add.reduce(played)
    # Where each band of velocities has recordings of its own, those are as dull as they are.
    return Tone(hard, hard) if own.instrument.bands else Tone(_dull(hard, request), hard)


def recordings_for(own: OwnSound, pitch: int, velocity: int, variant: int) -> list[Recording]:
    """Return the recordings that sound for a pitch, struck so hard; equal notes take their turns.

    Where none is for that pitch, those of the nearest keys are; where none is for that velocity,
    those of the nearest one.
    """
    if not all(r.keys for r in own.recordings):
        return [min(own.recordings, key=lambda r: abs(r.root - pitch))]

    def away(one: int, low: int, high: int) -> int:
        return max(low - one, one - high, 0)

    near = [away(pitch, *(r.keys or ALL)) for r in own.recordings]
    there = [r for r, far in zip(own.recordings, near, strict=True) if far == min(near)]
    near = [away(velocity, *r.velocities) for r in there]
    there = [r for r, far in zip(there, near, strict=True) if far == min(near)]
    turns = sorted({r.turn for r in there if r.turn})
    if not turns:
        return there
    now = turns[variant % len(turns)]
    return [r for r in there if r.turn in (0, now)]


def _played(recording: Recording, request: ToneRequest) -> Stereo:
    """Play one recording at the speed that brings it to the pitch."""
    settings = request.settings
    length = settings.number("stretch") / 100
    audio, rate = _stretching(request.clips, recording.clip, length)
    speed = 2 ** ((request.pitch - recording.root) / 12) / length
    need = int(request.frames * speed * rate / request.rate * 1.05) + 4 * rate // 100
    plays, fade = settings.word("plays"), int(CROSSFADE_S * rate)
    edges = (settings.number("loop_from"), settings.number("loop_to"))
    if plays == "own loops":  # which are made to meet
        edges, fade = (recording.loop_from, recording.loop_to), 0
    if plays == "once" or edges[0] == edges[1]:
        source = audio[:, :need]
    else:
        start, end = sorted(round(edge / 100 * audio.shape[1]) for edge in edges)
        source = looped(audio, start, end, need, fade)
    # No two strikes begin at the same frame.
    skip = int(rng_for(request.variant, "own", request.pitch).uniform(0, 0.0008) * rate)
    apart = 2 ** (settings.number("detune_cents") / 2400)
    sides = [
        _at_speed(side[skip:], rate, request.rate, speed * away, request.frames)
        for side, away in zip(source, (apart, 1 / apart), strict=True)
    ]
    return np.stack(sides) * np.float32(_evening(request.clips, recording.clip))


def _stretching(clips: ClipStore, clip: str, length: float) -> tuple[Stereo, int]:
    """Return a recording at so much higher a pitch that, slowed to its own, it has another length.

    ``length`` is a factor; 1 leaves the recording as it is.
    """
    audio, rate = clips.read(clip)
    if length == 1:
        return audio, rate

    def stretch() -> Stereo:
        lead = int(LEAD_S * rate)  # the stretcher settles before the first stroke
        padded = np.pad(audio, ((0, 0), (lead, lead)))
        return pitch_shifted(padded, 12 * np.log2(length), rate)[:, lead:]

    return get_or_make(("stretching", clip, length), stretch), rate


def in_tempo(settings: Settings, tempo: float) -> Settings:
    """Return settings with the length that brings an own tempo (BPM) to another, if it is said."""
    given = dict(settings)
    own_bpm = given.get("own_bpm", 0.0)
    if isinstance(own_bpm, str) or own_bpm <= 0:
        return settings
    length = float(np.clip(100 * own_bpm / tempo, SHORTEST, LONGEST))
    return tuple(sorted({**given, "stretch": length}.items()))


def _at_speed(
    audio: NDArray[np.float32], rate: int, out_rate: int, speed: float, frames: int
) -> NDArray[np.float32]:
    """Read audio at a speed, without aliases, cut or filled with silence to that many frames."""
    out = soxr.resample(audio, rate * speed, out_rate)
    return np.pad(out[:frames], (0, max(0, frames - len(out)))).astype(np.float32)


def looped(audio: Stereo, start: int, end: int, need: int, fade: int) -> Stereo:
    """Go round between two frames until ``need`` are there; the turn is cross-faded.

    A loop shorter than two frames is no loop: the recording is then as it is.
    """
    if end - start < 2:
        return audio[:, :need]
    fade = min(fade, start, (end - start) // 2)
    body = audio[:, start:end].copy()
    if fade > 0:
        turn = np.linspace(0, np.pi / 2, fade, dtype=np.float32)
        body[:, -fade:] = body[:, -fade:] * np.cos(turn) + audio[:, start - fade : start] * np.sin(
            turn
        )
    turns = max(1, -(-(need - start) // (end - start)))
    return np.concatenate([audio[:, :start], np.tile(body, turns)], axis=1)[:, :need]


def _evening(clips: ClipStore, clip: str) -> float:
    """Return the gain that gives a recording's loudest 400 ms an RMS of 1."""

    def measure() -> float:
        audio, rate = clips.read(clip)
        square = (audio**2).mean(axis=0)
        size = min(len(square), int(0.4 * rate))
        loudest = np.convolve(square, np.ones(size, np.float32) / size, "valid").max(initial=0.0)
        return float(1 / np.sqrt(max(loudest, 1e-8)))

    return get_or_make(("evening", clip), measure)


def _dull(audio: Stereo, request: ToneRequest) -> Stereo:
    """A soft blow: the same with its top taken off."""
    length = sf.next_fast_len(audio.shape[1] + 2048)
    hz = np.fft.rfftfreq(length, 1 / request.rate)
    edge = 700 + 1.5 * pitch_to_hz(request.pitch)
    gain = (1 / np.sqrt(1 + (hz / edge) ** 4)).astype(np.float32)
    return np.asarray(sf.irfft(sf.rfft(audio, length) * gain, length)[:, : audio.shape[1]])


# --- from files -----------------------------------------------------------------------------------
