"""Edits of layers that are recordings."""

import math
from itertools import pairwise
from typing import Any

from msgspec.structs import replace

from cloudrift.audio.listen.labels import plain_name
from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import MOST_NAME, NAME_TYPED, free_name
from cloudrift.loop.edits.flip.ordering import to_length
from cloudrift.loop.model import spec
from cloudrift.loop.model.known_score import MOST_KNOWN, KnownScore
from cloudrift.loop.model.loop import Layer, Loop, new_id
from cloudrift.loop.model.recorded import (
    LEAST_GAIN_DB,
    MOST_BEATS,
    MOST_GAIN_DB,
    MOST_SEMITONES,
    SHORTEST_S,
    Facts,
    Fit,
    FromRecording,
    RecordingKind,
)
from cloudrift.loop.model.sound_use import SoundUse
from cloudrift.loop.model.source import OwnNotes
from cloudrift.notes.listening import Heard
from cloudrift.notes.note import Note
from cloudrift.notes.time import bar_ticks
from cloudrift.sound.catalogue import find_sound
from cloudrift.sound.instrument import Role
from cloudrift.theory.fit import home_of
from cloudrift.theory.key import Key

LAYER_LUFS = -24.0  # as loud as a layer usually is: house sounds strike a chord so loudly
SOFT_LUFS = -33.0  # a bed lies under all the others
ROLES: dict[str, Role] = {"one-shot": "grain", "phrase": "voice", "loop": "keys", "bed": "grain"}
BASS, BASS_DB = "round sub", -4.0
OCTAVE_FROM = 0.75  # octaves of tempo, from where another way of counting is plainly nearer
LEAST_SURE, MOST_SURE = 0.55, 0.85  # how surely chords are known that were only listened to
LISTENED_C = 48  # the C over which their roots are put
IN_KEY_ST = 0.1  # semitones that a recording may be off and be in key
FINE = 1e-4  # seconds that two marks may differ by and be one


def recording_of(loop: Loop, layer_id: str) -> FromRecording:
    """Return the recording that a layer is; raise CloudriftError where it is none."""
    layer = loop.layer(layer_id)
    if layer.recorded is None:
        raise CloudriftError(f"{layer.name} is not a recording")
    return layer.recorded


def add_recording(
    loop: Loop, source: FromRecording, name: str = "", role: Role | None = None
) -> Loop:
    """Add a layer that is a recording, as loud as layers are."""
    taken = {one.name for one in loop.layers}
    wanted = (name or source.facts.name or "Recording")[:NAME_TYPED]
    layer = Layer(
        id=new_id("l", (one.id for one in loop.layers)),
        name=free_name(wanted, taken),
        role=role or ROLES[source.facts.kind],
        source=source,
    )
    return replace(loop, layers=(*loop.layers, layer))


def usual_gain(facts: Facts) -> float:
    """Return the gain (dB) that makes a recording as loud as a layer usually is."""
    wanted = SOFT_LUFS if facts.kind == "bed" else LAYER_LUFS
    return (
        round(min(max(wanted - facts.lufs, LEAST_GAIN_DB), MOST_GAIN_DB), 1)
        if facts.lufs > -70
        else 0.0
    )


def set_recording(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a recording: ``fit``, ``semitones``, ``at_tick``, …"""
    return with_recording(loop, layer_id, replace(recording_of(loop, layer_id), **changes))


def set_facts(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Correct what is known of a recording: ``key``, ``tempo``, ``beats_s``, ``licence``, …"""
    source = recording_of(loop, layer_id)
    return with_recording(loop, layer_id, replace(source, facts=replace(source.facts, **changes)))


def with_recording(loop: Loop, layer_id: str, source: FromRecording) -> Loop:
    """Put another recording, or the same otherwise, in a layer's place."""
    return loop.with_owner(layer_id, source=loop.layer(layer_id).with_recorded(source).source)


def in_reach(semitones: float) -> float:
    """Bring a shift into reach by octaves."""
    while abs(semitones) > MOST_SEMITONES:
        semitones -= 12 if semitones > 0 else -12
    return round(semitones, 2)


def moved(layer: Layer, source: FromRecording, semitones: int) -> Layer:
    """Return a recording's layer gone along with the loop's key, where it has a pitch."""
    if source.facts.key is None and not source.facts.pitch:
        return layer
    shift = in_reach(source.semitones + semitones)
    return layer.with_recorded(replace(source, semitones=shift))


def ways_into(source: FromRecording, key: Key, tempo: float) -> tuple[float, ...]:
    """Return by how many semitones a recording comes into a loop's key: the nearer way first.

    Major and minor keys are taken for those of their notes: a phrase in E minor is at home in G
    major as it is. Of a single note, it is brought to the key's tonic. None where nothing is known
    of its pitch; one way alone where it is there already. Fitted by tape to the loop's ``tempo``
    (BPM) its pitch has gone along, which is made up for, to a cent.
    """
    own = source.facts.key
    if own is not None:
        up = float(home_of(key) - home_of(own))
    elif source.facts.pitch:
        up = float(key.pc - round(source.facts.pitch))
    else:
        return ()
    up = round((up - taped_st(source, tempo)) % 12, 2)
    if up in (0.0, 12.0):
        return (0.0,)
    down = round(up - 12, 2)
    return (up, down) if up <= 6 else (down, up)


def taped_st(source: FromRecording, tempo: float) -> float:
    """Return how many semitones a fit by tape to a tempo (BPM) takes a recording's pitch along."""
    if source.fit != "tape" or not source.facts.tempo:
        return 0.0
    return 12 * math.log2(tempo / source.facts.tempo)


def is_in_key(source: FromRecording, key: Key, tempo: float) -> bool:
    """Whether a recording is in a loop's key as it is shifted now, to a tenth of a semitone."""
    off = (source.semitones - way for way in ways_into(source, key, tempo))
    return any(abs((one + 6) % 12 - 6) < IN_KEY_ST for one in off)


def with_turns(layer: Layer, have: int, bars: int, bar: int) -> Layer:
    """Return a layer in a loop that was cut or repeated to that many bars of that many ticks.

    A recording that came once comes once in each turn.
    """
    source = layer.recorded
    if layer.flipped is not None:
        return replace(layer, source=to_length(layer.flipped, bars * bar))
    if source is None:
        return layer
    changes: dict[str, Any] = {"at_tick": source.at_tick % (bars * bar)}
    if bars > have and not source.every_bars and source.facts.kind != "bed":
        changes["every_bars"] = have
    return replace(layer, source=replace(source, **changes))


def shifted(source: FromRecording, semitones: float) -> FromRecording:
    """Return a recording at another shift."""
    return replace(source, semitones=in_reach(semitones))


def put_instead(loop: Loop, layer_id: str, source: FromRecording, semitones: float) -> Loop:
    """Put another recording in one's place: it lies where that lay, through the same treatments."""
    old = recording_of(loop, layer_id)
    new = replace(shifted(source, semitones), at_tick=old.at_tick, hold_vowels=old.hold_vowels)
    names = [one.name for one in loop.layers if one.id != layer_id]
    name = free_name(source.facts.name[:NAME_TYPED] or "Recording", names)
    return loop.with_owner(layer_id, source=new, name=name)


def take_tempo(loop: Loop, layer_id: str) -> Loop:
    """Let the loop go at a recording's own tempo."""
    facts = recording_of(loop, layer_id).facts
    if not spec.MIN_TEMPO_BPM <= facts.tempo <= spec.MAX_TEMPO_BPM:
        raise CloudriftError(f"{facts.name} has no usable tempo; enter it first")
    return replace(loop, tempo=round(facts.tempo, 2))


def put_bass(loop: Loop, layer_id: str, notes: tuple[Note, ...]) -> Loop:
    """Add a bass with the notes that a recording was heard to have."""
    names = {one.name for one in loop.layers}
    use = SoundUse(name=BASS, version=find_sound(BASS).version)
    layer = Layer(
        id=new_id("l", (one.id for one in loop.layers)),
        role="bass",
        level_db=BASS_DB,
        name=free_name(f"{loop.layer(layer_id).name} bass"[:NAME_TYPED], names),
        source=OwnNotes(sound=use, notes=notes),
    )
    return replace(loop, layers=(*loop.layers, layer))


# --- beats ----------------------------------------------------------------------------------------


def set_own_key(loop: Loop, layer_id: str, key: Key | None) -> Loop:
    """Say a recording's own key; what was heard against it is settled by that."""
    doubts = tuple(x for x in recording_of(loop, layer_id).facts.doubts if "BPM" in x)
    return set_facts(loop, layer_id, key=key, key_sure=0.0, doubts=doubts)


def set_own_tempo(loop: Loop, layer_id: str, tempo: float) -> Loop:
    """Say a recording's own tempo (BPM, 0: none); its beats are laid out again from the downbeat.

    What has no tempo any more stays as it is.
    """
    source = recording_of(loop, layer_id)
    facts = source.facts
    doubts = tuple(x for x in facts.doubts if "BPM" not in x)
    if not tempo:
        facts = replace(facts, tempo=0.0, beats_s=(), downbeat=0, tempo_sure=0.0, doubts=doubts)
        return with_recording(loop, layer_id, replace(source, facts=facts, fit="as it is"))
    return set_facts(
        loop,
        layer_id,
        tempo=round(tempo, 3),
        tempo_sure=0.0,
        doubts=doubts,
        **even_beats(facts, tempo, _down_s(facts)),
    )


def _down_s(facts: Facts) -> float:
    return facts.beats_s[facts.downbeat] if facts.beats_s else 0.0


def even_beats(facts: Facts, tempo: float, down_s: float) -> dict[str, Any]:
    """Return ``beats_s`` and ``downbeat`` at an even tempo (BPM), a bar beginning at a second."""
    beat = 60 / tempo
    before = int((down_s + FINE) / beat)
    count = min(MOST_BEATS, 1 + before + int((facts.length_s - down_s + FINE) / beat))
    first = down_s - before * beat
    beats = (min(max(first + i * beat, 0.0), facts.length_s) for i in range(count))
    return {"beats_s": tuple(round(beat, 5) for beat in beats), "downbeat": before % 4}


def set_downbeat(loop: Loop, layer_id: str, second: float) -> Loop:
    """Let the beat that is nearest to a second begin a bar."""
    facts = recording_of(loop, layer_id).facts
    if not facts.beats_s:
        raise CloudriftError(f"{facts.name} has no beats yet; enter its tempo, or tap it")
    near = min(range(len(facts.beats_s)), key=lambda i: abs(facts.beats_s[i] - second))
    return set_facts(loop, layer_id, downbeat=near)


def move_beat(loop: Loop, layer_id: str, number: int, second: float) -> Loop:
    """Move one marked beat, as far as its neighbours let it."""
    facts = recording_of(loop, layer_id).facts
    beats = list(facts.beats_s)
    low = beats[number - 1] + 2 * SHORTEST_S if number else 0.0
    high = beats[number + 1] - 2 * SHORTEST_S if number + 1 < len(beats) else facts.length_s
    beats[number] = round(min(max(second, low), high), 5)
    return set_facts(loop, layer_id, beats_s=tuple(beats))


def twice_as_fast(loop: Loop, layer_id: str) -> Loop:
    """Take a recording's tempo for twice what it was: a beat between each two."""
    facts = recording_of(loop, layer_id).facts
    if not facts.tempo or 2 * facts.tempo > 2 * spec.MAX_TEMPO_BPM:
        raise CloudriftError(f"{facts.name} can't be counted at twice the tempo")
    return set_facts(loop, layer_id, **_twice(facts))


def _twice(facts: Facts) -> dict[str, Any]:
    beats: list[float] = []
    for i, beat in enumerate(facts.beats_s):
        beats.append(beat)
        if i + 1 < len(facts.beats_s):
            beats.append(round((beat + facts.beats_s[i + 1]) / 2, 5))
    return {"tempo": 2 * facts.tempo, "beats_s": tuple(beats), "downbeat": 2 * facts.downbeat}


def half_as_fast(loop: Loop, layer_id: str) -> Loop:
    """Take a recording's tempo for half of what it was: every second beat, the downbeat's kept."""
    facts = recording_of(loop, layer_id).facts
    if facts.tempo / 2 < spec.MIN_TEMPO_BPM / 2:
        raise CloudriftError(f"{facts.name} can't be counted at half the tempo")
    return set_facts(loop, layer_id, **_half(facts))


def _half(facts: Facts) -> dict[str, Any]:
    odd = facts.downbeat % 2
    return {
        "tempo": facts.tempo / 2,
        "beats_s": facts.beats_s[odd::2],
        "downbeat": facts.downbeat // 2,
    }


def counted_near(facts: Facts, tempo: float) -> Facts:
    """Return facts counted twice or half as fast where that is nearer to a tempo.

    A phrase of 71 BPM in a loop of 142 goes in half time, rather than twice as fast.
    """
    times = times_counted(facts.tempo, tempo) if facts.tempo else 1.0
    if times == 2 and facts.tempo <= spec.MAX_TEMPO_BPM:
        return replace(facts, **_twice(facts))
    if times < 1 and facts.tempo >= spec.MIN_TEMPO_BPM:
        return replace(facts, **_half(facts))
    return facts


def times_counted(own: float, tempo: float) -> float:
    """Return how many times as fast a recording is counted in a tempo: once, twice or half."""
    away = math.log2(tempo / own)
    return 1.0 if abs(away) <= OCTAVE_FROM else 2.0 if away > 0 else 0.5


# --- from what was heard --------------------------------------------------------------------------


def facts_of(
    heard: Heard,
    name: str,
    *,
    origin: str = "",
    licence: str = "",
    maker: str = "",
    kind: RecordingKind | None = None,
) -> Facts:
    """Return what is taken to be known of a recording after listening to it."""
    labels, keys = heard.labels, heard.keys
    return Facts(
        name=(labels.title or plain_name(name))[:NAME_TYPED],
        kind=kind or heard.kind,
        maker=(maker or labels.maker)[:MOST_NAME],
        licence=(licence or labels.licence)[:MOST_NAME],
        origin=origin[:MOST_NAME],
        length_s=round(heard.length_s, 6),
        key=heard.key,
        tempo=_tempo_kept(heard),
        pitch=round(heard.pitch or 0.0, 2),
        lufs=round(heard.lufs, 2),
        beats_s=_rising(heard),
        downbeat=heard.downbeat,
        doubts=heard.doubts,
        tempo_sure=heard.tempos[0].confidence if heard.tempos and not labels.tempo else 0.0,
        key_sure=keys[0].confidence if keys and not labels.tonic else 0.0,
        second_key=next((guess.key for guess in keys if guess.key != heard.key), None),
        score=_score_of(heard),
    )


def _score_of(heard: Heard) -> KnownScore | None:
    """The chords that listening found; none where they hold too little of what sounds.

    What is only listened to is never as sure as what was played here.
    """
    if not heard.chords or heard.chords_sure < LEAST_SURE:
        return None
    chords = tuple(
        (
            round(1000 * one.start_s),
            max(1, round(1000 * (one.end_s - one.start_s))),
            100 * (one.tones[0] % 12),
            tuple(sorted({LISTENED_C + one.tones[0] % 12,
                          *(LISTENED_C + 12 + tone % 12 for tone in one.tones[1:])})),
        )
        for one in heard.chords
    )  # fmt: skip
    return KnownScore(chords=chords[:MOST_KNOWN], sure=min(heard.chords_sure, MOST_SURE))


def _tempo_kept(heard: Heard) -> float:
    tempo = heard.tempo
    within = spec.MIN_TEMPO_BPM / 2 <= tempo <= 2 * spec.MAX_TEMPO_BPM
    return round(tempo, 3) if within else 0.0


def _rising(heard: Heard) -> tuple[float, ...]:
    """Its beats, where they can be kept as they are."""
    beats = heard.beats_s[:MOST_BEATS]
    gaps = [b - a for a, b in pairwise((-1.0, *beats))]
    good = not gaps or min(gaps) > SHORTEST_S
    return beats if good and (not beats or beats[-1] <= heard.length_s) else ()


def laid_in(loop: Loop, clip: str, facts: Facts, fit: Fit | None = None) -> FromRecording:
    """Return a recording as it is usually laid into a loop: on its beat, and as often as it fits.

    What has a tempo follows the loop's; a bed lies under all of it; what is longer than the loop
    is cut where that ends. Its pitch stays: which way it goes is to be heard first.
    """
    fit = fit or ("tempo" if facts.tempo and facts.kind != "bed" else "as it is")
    if fit != "as it is":
        facts = counted_near(facts, loop.tempo)
    source = FromRecording(clip=clip, facts=facts, fit=fit, gain_db=usual_gain(facts))
    pace = loop.tempo / facts.tempo if fit in ("tempo", "tape") else 1.0
    if fit == "beats" and len(facts.beats_s) > 1:
        own = (facts.beats_s[-1] - facts.beats_s[0]) / (len(facts.beats_s) - 1)
        pace = own / (60 / loop.tempo)
    lasts = facts.length_s / pace
    if facts.kind == "bed":
        return source
    longest = loop.frames / loop.rate
    if lasts > longest * 1.02:
        source = replace(source, last_s=round(min(facts.length_s, longest * pace), 4))
    if facts.kind == "loop":
        bar_s = bar_ticks(loop.metre) / 960 * 60 / loop.tempo
        source = replace(source, every_bars=min(max(1, round(lasts / bar_s)), loop.bars))
    return source
