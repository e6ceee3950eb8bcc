"""Edits: pure functions from one loop to the next. Whoever changes a loop does it with these."""

from typing import Any

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.loop.model import Chord, Layer, Loop, SoundUse, new_id
from cloudrift.notes.time import bar_ticks
from cloudrift.sound.catalogue import find_sound
from cloudrift.texture.catalogue import find_kind
from cloudrift.texture.treatment import Line, Treatment
from cloudrift.theory.chord import chord_tones
from cloudrift.theory.key import Key
from cloudrift.theory.voicing import voice_chord

VOICE_LOW, VOICE_HIGH = 24, 108


def set_key(loop: Loop, key: Key) -> Loop:
    """Change the key with every voice following by the shorter way; degrees stay.

    In another mode each scale note becomes the note of the same degree; notes outside the scale
    move with the tonic.
    """
    shift = (key.pc - loop.key.pc + 5) % 12 - 5
    return replace(
        loop,
        key=key,
        chords=tuple(_in_key(chord, loop.key, key, shift) for chord in loop.chords),
    )


def _in_key(chord: Chord, old: Key, new: Key, shift: int) -> Chord:
    steps = {pc: i for i, pc in enumerate(old.scale)}

    def moved(pitch: int) -> int:
        step = steps.get(pitch % 12)
        there = pitch + shift
        if step is None:
            return there
        wanted = new.scale[step]
        return there + (wanted - there + 6) % 12 - 6

    voices = tuple(sorted(moved(v) for v in chord.voices))
    return replace(chord, voices=voices, root=moved(chord.root + 60) % 12)


def set_tempo(loop: Loop, tempo: float) -> Loop:
    """Change the written tempo (BPM)."""
    return replace(loop, tempo=round(float(tempo), 2))


def set_bars(loop: Loop, bars: int) -> Loop:
    """Change the length: a shorter loop is cut, a longer one repeats what is there."""
    ticks, have = bars * bar_ticks(loop.metre), loop.ticks
    chords: list[Chord] = []
    for turn in range(-(-ticks // have)):
        for chord in loop.chords:
            start = chord.start_tick + turn * have
            if start >= ticks:
                break
            taken = (c.id for c in (*loop.chords, *chords))
            chords.append(
                replace(
                    chord,
                    id=chord.id if turn == 0 else new_id("c", taken),
                    start_tick=start,
                    length_ticks=min(chord.length_ticks, ticks - start),
                )
            )
    return replace(loop, bars=bars, chords=tuple(chords))


def set_title(loop: Loop, title: str) -> Loop:
    """Rename the loop; an empty name is refused."""
    if not title.strip():
        raise CloudriftError("a loop needs a name; type at least one letter")
    return replace(loop, title=title.strip())


# --- chords ---------------------------------------------------------------------------------


def _with_chord(loop: Loop, chord: Chord) -> Loop:
    return replace(loop, chords=tuple(chord if c.id == chord.id else c for c in loop.chords))


def _bass_apart(chord: Chord) -> bool:
    """Say whether the lowest voice is a bass below the chord rather than part of it."""
    return (
        len(chord.voices) > 3
        and chord.voices[1] - chord.voices[0] >= 5
        and (chord.voices[0] % 12 == chord.root)
    )


def set_chord_degree(loop: Loop, chord_id: str, degree: int, *, seventh: bool) -> Loop:
    """Put the key's own chord of a degree (1-7) in a chord's place, moving as little as it can.

    A bass note below stays a bass note below.
    """
    return set_chord_tones(loop, chord_id, chord_tones(loop.key, degree, seventh=seventh))


def set_chord_tones(loop: Loop, chord_id: str, tones: tuple[int, ...]) -> Loop:
    """Put a chord of pitch classes (root first) in a chord's place, moving as little as it can."""
    chord = loop.chord(chord_id)
    upper = chord.voices[1:] if _bass_apart(chord) else chord.voices
    low, high = min(upper) - 5, max(upper) + 5
    voices = voice_chord(tones, low=low, high=high, before=upper)
    if _bass_apart(chord):
        bass = chord.voices[0] + (tones[0] - chord.voices[0] + 6) % 12 - 6
        while bass > voices[0] - 5:
            bass -= 12
        voices = (bass, *voices)
    return _with_chord(loop, replace(chord, voices=voices, root=tones[0]))


def set_seventh(loop: Loop, chord_id: str, on: bool) -> Loop:
    """Add the key's own seventh to a chord, or take it away."""
    chord = loop.chord(chord_id)
    if chord.root not in loop.key.scale:
        raise CloudriftError(
            f"chord {chord.read(loop.key).text} has its root outside the scale, which has no "
            "seventh for it; drag a voice instead"
        )
    degree = loop.key.scale.index(chord.root) + 1
    tones = chord_tones(loop.key, degree, seventh=True)
    has = {v % 12 for v in chord.voices}
    own = tuple(pc for pc in tones[:3] if pc in has)
    # A third that was raised or borrowed stays as it is.
    other = tuple(sorted(has - set(tones), key=lambda pc: (pc - chord.root) % 12))
    body = tuple(dict.fromkeys((chord.root, *own, *other)))
    return set_chord_tones(loop, chord_id, (*body, tones[3]) if on else body)


def move_voice(
    loop: Loop, chord_id: str, voice: int, *, steps: int = 0, semitones: int = 0
) -> Loop:
    """Move one voice of a chord by scale steps or semitones; two voices never share a note."""
    chord = loop.chord(chord_id)
    before = chord.voices[voice]
    pitch = loop.key.step(before, steps) + semitones
    direction = 1 if pitch > before else -1
    others = {v for i, v in enumerate(chord.voices) if i != voice}
    while pitch in others:
        pitch = loop.key.step(pitch, direction) if steps else pitch + direction
    if not VOICE_LOW <= pitch <= VOICE_HIGH:
        return loop
    voices = tuple(sorted({*others, pitch}))
    return _with_chord(loop, replace(chord, voices=voices))


def move_chord(loop: Loop, chord_id: str, *, semitones: int) -> Loop:
    """Move all voices of a chord, and its root, by semitones."""
    chord = loop.chord(chord_id)
    voices = tuple(v + semitones for v in chord.voices)
    if min(voices) < VOICE_LOW or max(voices) > VOICE_HIGH:
        return loop
    return _with_chord(loop, replace(chord, voices=voices, root=(chord.root + semitones) % 12))


# --- layers ---------------------------------------------------------------------------------


def set_layer(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer: ``level_db``, ``pan``, ``mute``, ``lens``, ``touch``, …"""
    layers = tuple(
        replace(layer, **changes) if layer.id == layer_id else layer for layer in loop.layers
    )
    return replace(loop, layers=layers)


def set_lens(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer's lens."""
    return set_layer(loop, layer_id, lens=replace(loop.layer(layer_id).lens, **changes))


def set_touch(loop: Loop, layer_id: str, **changes: Any) -> Loop:
    """Change fields of a layer's touch."""
    return set_layer(loop, layer_id, touch=replace(loop.layer(layer_id).touch, **changes))


def set_sound(loop: Loop, layer_id: str, name: str) -> Loop:
    """Give a layer another sound, with that sound's own settings and role."""
    sound = find_sound(name)
    return set_layer(
        loop, layer_id, role=sound.role, sound=SoundUse(name=sound.name, version=sound.version)
    )


def set_sound_setting(loop: Loop, layer_id: str, name: str, value: object) -> Loop:
    """Change one setting of a layer's sound."""
    use = loop.layer(layer_id).sound
    full = {**use.of.spec.full(use.settings), name: value}
    settings = use.of.spec.check(full, f"sound {use.name}")
    return set_layer(loop, layer_id, sound=replace(use, settings=settings))


def add_layer(loop: Loop, sound_name: str, name: str = "") -> Loop:
    """Add a layer with a sound, looking at the chords as its role usually does."""
    sound = find_sound(sound_name)
    lens = {"bass": "roots", "pad": "held", "pluck": "broken"}.get(sound.role, "all")
    base = Layer(id="new", name=name or sound.label, role=sound.role,
                 sound=SoundUse(name=sound.name, version=sound.version))  # fmt: skip
    layer = replace(
        base,
        id=new_id("l", (one.id for one in loop.layers)),
        lens=replace(base.lens, kind=lens, skip_bass=lens != "roots"),
        level_db=-6.0,
    )
    return replace(loop, layers=(*loop.layers, layer))


def remove_layer(loop: Loop, layer_id: str) -> Loop:
    """Take a layer out."""
    return replace(loop, layers=tuple(one for one in loop.layers if one.id != layer_id))


# --- treatment lines: of a layer, or of the whole loop (None) -----------------------------------


def set_line(loop: Loop, layer_id: str | None, line: Line) -> Loop:
    """Put another line on a layer or on the whole loop."""
    if layer_id is None:
        return replace(loop, line=line)
    return set_layer(loop, layer_id, line=line)


def add_treatment(loop: Loop, layer_id: str | None, kind: str, at: int | None = None) -> Loop:
    """Add a treatment with its defaults, at the end or at a place."""
    line = loop.line_of(layer_id)
    found = find_kind(kind)
    blend = 0.35 if found.family == "Space" else 1.0
    treatment = Treatment(id=new_id("t", (t.id for t in line)), kind=kind, blend=blend)
    place = len(line) if at is None else at
    return set_line(loop, layer_id, (*line[:place], treatment, *line[place:]))


def remove_treatment(loop: Loop, layer_id: str | None, treatment_id: str) -> Loop:
    """Take a treatment out of its line."""
    line = tuple(t for t in loop.line_of(layer_id) if t.id != treatment_id)
    return set_line(loop, layer_id, line)


def move_treatment(loop: Loop, layer_id: str | None, treatment_id: str, by: int) -> Loop:
    """Move a treatment up (negative) or down its line."""
    line = list(loop.line_of(layer_id))
    at = next(i for i, t in enumerate(line) if t.id == treatment_id)
    treatment = line.pop(at)
    line.insert(min(max(at + by, 0), len(line)), treatment)
    return set_line(loop, layer_id, tuple(line))


def set_treatment(loop: Loop, layer_id: str | None, treatment_id: str, **changes: Any) -> Loop:
    """Change ``on``, ``blend`` or ``draw`` of a treatment."""
    line = tuple(
        replace(t, **changes) if t.id == treatment_id else t for t in loop.line_of(layer_id)
    )
    return set_line(loop, layer_id, line)


def set_treatment_setting(
    loop: Loop, layer_id: str | None, treatment_id: str, name: str, value: object
) -> Loop:
    """Change one setting of a treatment."""
    line = tuple(t.set(name, value) if t.id == treatment_id else t for t in loop.line_of(layer_id))
    return set_line(loop, layer_id, line)
