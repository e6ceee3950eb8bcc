"""Short loops to be heard once: a chord after the one before it, a played key, a click."""

import numpy as np
from msgspec.structs import replace

from cloudrift.audio.buffers import Stereo, raised_cosine, silence
from cloudrift.loop.model import spec
from cloudrift.loop.model.bed import hits_of
from cloudrift.loop.model.hits import Hit, Pattern
from cloudrift.loop.model.loop import Chord, Layer, Loop
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import FromChords
from cloudrift.loop.sounding import key_heard
from cloudrift.notes.lens import Lens, folded
from cloudrift.notes.note import HIGHEST, LOWEST, Note, numbered
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks, beat_ticks
from cloudrift.render.engine.engine import Engine
from cloudrift.render.plan.trying import key_loop, without_time
from cloudrift.theory.pitch import pitch_to_hz

PLAIN_SOUND = "felt upright"  # for loops that have no layer yet
KEY_HELD_TICKS = 7680
DRAFT_FADE_S = 0.012
CLICK_MS, CLICK_HZ, CLICK_ACCENT_HZ, CLICK_LEVEL = 18.0, 1320.0, 1980.0, 0.22
TONES_S, TONES_FADE_S, TONES_LEVEL, LEVEL_TONE_HZ = 8.0, 0.02, 0.12, 300.0
CHORD_ROLES = ("all", "top", "roots", "bass")  # lenses in which chords are heard as chords
BASSES = ("roots", "bass")


def _plain_layer() -> Layer:
    return Layer(
        id="plain", name="Plain", role="keys", source=FromChords(sound=SoundUse(name=PLAIN_SOUND))
    )


def _strikers(loop: Loop) -> list[Layer]:
    """The layers that chords are tried in: those that strike them."""
    heard = [x for x in loop.heard() if x.follows and x.played.lens.kind in CHORD_ROLES]
    if not any(layer.played.lens.kind not in BASSES for layer in heard):
        first = loop.striker or _plain_layer()
        lens = Lens(kind="all", skip_bass=any(layer.played.lens.kind in BASSES for layer in heard))
        heard.append(replace(first.with_notes(None).with_source(lens=lens), id="tried"))
    return heard


def audition_layers(loop: Loop) -> tuple[Layer, ...]:
    """Return the layers that chords are tried in, bare."""
    return tuple(replace(x.with_source(other=None), line=(), group="") for x in _strikers(loop))


def tried(loop: Loop, chords: tuple[Chord, ...]) -> Loop:
    """Return a loop of a few chords, at most a bar each, as they sound in a loop.

    They go through the lines of the layers that strike them, and of the whole loop, but for what
    needs the loop's own time (``trying.OUT_OF_TIME``).
    """
    base, by = without_time(loop)
    bare = audition(base, chords, written=True)
    lowest, highest = (f(v for c in bare.chords for v in c.voices) for f in (min, max))
    while lowest + by < spec.LOWEST_VOICE:
        by += 12
    while highest + by > spec.HIGHEST_VOICE:
        by -= 12
    layers = tuple(x.with_source(other=None) for x in _strikers(base))
    there = {x.group for x in layers}
    return replace(
        bare,
        tempo=_heard_tempo(loop),
        layers=layers,
        line=base.line,
        chords=tuple(_by(chord, by) for chord in bare.chords),
        groups=tuple(group for group in base.groups if group.id in there),
    )


def struck(loop: Loop, lane_id: str, hit: Hit) -> Loop:
    """Return a bar in which a lane of the groove bed plays one hit, over the chord that it is in.

    It goes through the lane's line and the bed's; nothing else is heard.
    """
    lane = loop.layer(lane_id)
    bed = loop.bed
    assert bed is not None
    bar = bar_ticks(loop.metre)
    tick = hit.tick % loop.ticks
    under = next((c for c in loop.chords if c.start_tick <= tick < c.end_tick), None)
    chords = (
        ()
        if under is None
        else (replace(under, start_tick=0, length_ticks=bar, strikes=(), late_ticks=0),)
    )
    alone = Pattern(name="one", bars=1, hits=(replace(hit, tick=0, late_ms=0.0),))
    source = replace(hits_of(lane), patterns=(alone,), plays="one", late_ms=0.0)
    one = replace(lane, source=source, mute=False, pan=lane.pan)
    group = replace(bed.group, mute=False)
    return replace(
        loop,
        bars=1,
        chords=chords,
        layers=(),
        groups=(),
        bed=replace(bed, lanes=(one,), group=group, duck=None, late_ms=0.0),
    )


def _by(chord: Chord, semitones: int) -> Chord:
    return replace(
        chord,
        voices=tuple(v + semitones for v in chord.voices),
        muted=tuple(v + semitones for v in chord.muted),
        tied=tuple(v + semitones for v in chord.tied),
        root=(chord.root + semitones) % 12,
    )


def _heard_tempo(loop: Loop) -> float:
    return min(max(loop.sounding_tempo, spec.MIN_TEMPO_BPM), spec.MAX_TEMPO_BPM)


def audition(
    loop: Loop, chords: tuple[Chord, ...], *, written: bool = False, whole: bool = False
) -> Loop:
    """Return a loop of a few chords, at most a bar each, as they would sound in a loop.

    It is bare, so that it is there at once, but in the key and tempo that are heard, unless
    ``written`` asks for those that are written. ``whole`` takes chords at their full length and
    every layer that is heard.
    """
    bar = bar_ticks(loop.metre)
    longest = loop.ticks if whole else bar
    heard = _heard_tempo(loop)
    shift = 0 if written else _shift(loop)
    placed: list[Chord] = []
    start = 0
    for i, chord in enumerate(chords):
        length = min(chord.length_ticks, longest)
        moved = tuple(v + shift for v in chord.voices)
        placed.append(
            replace(
                chord,
                id=f"a{i}",
                start_tick=start,
                length_ticks=length,
                voices=moved,
                muted=tuple(v + shift for v in chord.muted),
                tied=(),
                root=(chord.root + shift) % 12,
                late_ticks=min(chord.late_ticks, length // 2),
            )
        )
        start += length
    return replace(
        loop,
        tempo=loop.tempo if written else heard,
        bars=max(1, -(-start // bar)),
        chords=tuple(placed),
        layers=_whole_layers(loop, chords, shift) if whole else audition_layers(loop),
        groups=(),
        line=(),
        bed=None,
    )


def _whole_layers(loop: Loop, chords: tuple[Chord, ...], shift: int) -> tuple[Layer, ...]:
    """All layers that are heard, bare; those that follow no chord play on under these."""
    out = []
    for layer in loop.heard():
        if layer.recorded is not None:
            continue  # it has its own time, and no chord to be tried with
        own = layer.own
        if own is not None:
            begin = 0
            kept: list[Note] = []
            for chord in chords:
                kept += [
                    replace(
                        n,
                        start_tick=n.start_tick - chord.start_tick + begin,
                        id=0,
                        length_ticks=min(n.end_tick, chord.end_tick) - n.start_tick,
                        pitch=folded(n.pitch + shift, LOWEST, HIGHEST),
                    )
                    for n in own
                    if chord.start_tick <= n.start_tick < chord.end_tick
                ]
                begin += chord.length_ticks
            own = numbered(kept)
        bare = replace(layer.with_source(other=None), line=(), group="")
        out.append(bare.with_notes(own))
    return tuple(out)


def drafted(
    audio: Stereo, loop: Loop, chord: Chord, engine: Engine, *, written: bool, gain: float
) -> Stereo:
    """Return a loop's sound with one chord as it is now, bare, in the place of what was there.

    It is what is heard of an edit while the loop plays, until the treated loop has followed: a
    chord takes a few notes, the treated loop all that rings.

    Parameters
    ----------
    audio : (2, frames) the loop as it was heard, written or sounding.
    gain : what makes the bare chord as loud as the rest.
    """
    n = audio.shape[1]
    start, end = (round(n * tick / loop.ticks) for tick in (chord.start_tick, chord.end_tick))
    bare = engine.once(audition(loop, (chord,), written=written, whole=True))[:, : end - start]
    fade = min(int(DRAFT_FADE_S * loop.rate), (end - start) // 2)
    share = np.ones(end - start, np.float32)
    if fade > 0:
        share[:fade] = raised_cosine(fade)
        share[-fade:] = raised_cosine(fade)[::-1]
    out = audio.copy()
    out[:, start:end] *= 1 - share
    out[:, start : start + bare.shape[1]] += bare * (np.float32(gain) * share[: bare.shape[1]])
    return out


def keeps_places(loop: Loop) -> bool:
    """Whether what is heard lies where it is written: nothing plays the whole loop backward."""
    return not any(t.acts and t.kind == "reverse" for t in loop.line)


def _shift(loop: Loop) -> int:
    """Semitones from what is written to what sounds, the shorter way."""
    return (key_heard(loop).pc - loop.key.pc + 6) % 12 - 6


def played_key(
    loop: Loop,
    pitch: int,
    velocity: int,
    layer_id: str = "",
    *,
    seconds: float | None = None,
    written: bool = False,
) -> Loop:
    """Return a loop of a played key in a layer's sound, or in that which strikes the chords.

    It sounds as in the loop, through the layer's line and what is after it; ``written``: bare.
    ``seconds`` is how long it is held, for long where nothing is said.
    """
    chosen = loop.layer(layer_id) if layer_id else None
    if chosen is None or chosen.recorded is not None:  # no keys are played with a recording
        chosen = loop.striker or _plain_layer()
    layer = chosen
    held = KEY_HELD_TICKS
    if seconds is not None:
        held = max(1, min(held, round(seconds * loop.tempo / 60 * TICKS_PER_QUARTER)))
    if written:
        layer = replace(layer, line=(), group="", level_db=0.0, pan=0.0)
        loop = replace(loop, line=(), layers=(), groups=(), bed=None)
    return key_loop(loop, layer, pitch, velocity, held)


def plain_tones(pitches: tuple[float, ...], rate: int) -> Stereo:
    """Return plain tones to hold a pitch against: sines at their exact pitch, fading in and out.

    ``pitches`` are in cents (MIDI number times 100). It lasts TONES_S; no partial beats with what
    the loop plays, so a few cents are told by ear.
    """
    n = int(TONES_S * rate)
    t = np.arange(n) / rate
    one = np.zeros(n)
    for i, cents in enumerate(pitches):
        hz = pitch_to_hz(cents / 100)
        # Low tones are felt less than they measure; phases apart keep the sum's peak down.
        weight = min(2.0, max(0.5, (LEVEL_TONE_HZ / hz) ** 0.5))
        one += weight * np.sin(2 * np.pi * hz * t + 2.4 * i)
    one *= TONES_LEVEL / max(1.0, float(len(pitches)) ** 0.5)
    fade = int(TONES_FADE_S * rate)
    one[:fade] *= raised_cosine(fade)
    one[-fade:] *= raised_cosine(fade)[::-1]
    return np.repeat(one[None].astype(np.float32), 2, axis=0)


def click_track(loop: Loop, frames: int) -> Stereo:
    """Return a click on every beat of a loop that lasts that many frames, bars accented."""
    out = silence(frames)
    length = int(CLICK_MS / 1000 * loop.rate)
    t = np.arange(length) / loop.rate
    beat, bar = beat_ticks(loop.metre), bar_ticks(loop.metre)
    for tick in range(0, loop.ticks, beat):
        hz = CLICK_HZ if tick % bar else CLICK_ACCENT_HZ
        burst = CLICK_LEVEL * np.sin(2 * np.pi * hz * t) * np.exp(-t / (CLICK_MS / 4000))
        at = round(frames * tick / loop.ticks)
        use = min(length, frames - at)
        out[:, at : at + use] += burst[:use].astype(np.float32)
    return out
