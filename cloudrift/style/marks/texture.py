"""Marks of what is done to the sound, and of what it has come to."""

import math
from collections.abc import Callable

from msgspec.structs import replace

from cloudrift.loop import edits
from cloudrift.loop.model import LEVEL, Layer, LineAt, Loop
from cloudrift.render.sound_facts import SoundFacts
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.view import View, names
from cloudrift.texture.treatment import Treatment, tail_s

DRIVES = ("warm", "tape", "overdrive", "soft clip", "fold", "squash")
PULSES = ("pump", "gate", "tremolo")
ECHOES = ("echo", "tape echo")
DRIFTS = (("weathering", "wow_cents"), ("weathering", "flutter_cents"), ("cloud", "drift_cents"),
          ("tape echo", "drift_cents"))  # fmt: skip
NOISES = ("hiss_db", "dust_db", "crackle_db", "rumble_db", "static_db")
SILENT_DB = -80.0


def put(loop: Loop, line_of: LineAt, kind: str, **settings: float) -> Loop:
    """Return a loop with settings of a treatment of a kind on a line; it is added where none is."""
    there = [t for t in loop.line_of(line_of) if t.kind == kind]
    if not there:
        loop = edits.add_treatment(loop, line_of, kind)
    treatment = [t for t in loop.line_of(line_of) if t.kind == kind][-1]
    loop = edits.set_treatment(loop, line_of, treatment.id, on=True)
    for name, value in settings.items():
        loop = edits.set_treatment_setting(loop, line_of, treatment.id, name, value)
    return loop


# --- cuts -----------------------------------------------------------------------------------------


def _low_cut_of(view: View, layer: Layer) -> float:
    cuts = [t.full.number("low_cut_hz") for t in view.line_of(layer)
            if t.kind == "cuts" and t.blend > 0.9]  # fmt: skip
    return float(max(cuts, default=20.0))


def _low_cut(view: View) -> Found | None:
    of = [x for x in view.heard if x.role != "bass"]
    if not of:
        return None
    layer = min(of, key=lambda x: _low_cut_of(view, x))
    return Found(value=_low_cut_of(view, layer), where=layer.name)


def _to_low_cut(view: View, asked: tuple[float, float]) -> Change | None:
    of = [x for x in view.heard if x.role != "bass"]
    aim = round((asked[0] * asked[1]) ** 0.5)
    wrong = [x for x in of if _low_cut_of(view, x) < asked[0]]
    if not wrong:  # all are cut higher than is asked
        wrong = [min(of, key=lambda x: _low_cut_of(view, x))] if of else []
    if not wrong:
        return None

    def edit(loop: Loop) -> Loop:
        for layer in wrong:
            loop = put(loop, layer.id, "cuts", low_cut_hz=float(aim))
        return loop

    return Change(words=f"cut {names([x.name for x in wrong], 2)} at {aim} Hz", edit=edit)


# --- space ----------------------------------------------------------------------------------------


def _tail(view: View) -> Found:
    tails = {x.name: tail_s(view.line_of(x), view.loop.tempo) for x in view.heard}
    whole = tail_s(view.loop.line, view.loop.tempo)
    longest = max(tails, key=tails.__getitem__, default="")
    value = (tails[longest] if longest else 0.0) + whole
    on = [longest] if longest and tails[longest] else []
    return Found(value=value, where=names(on + (["the whole loop"] if whole else [])))


def _spaces(view: View) -> Found:
    found = [on for on, t in view.treatments if t.of.family == "Space"]
    once = list(dict.fromkeys(found))
    return Found(value=float(len(once)), where=names(once))


def _to_spaces(view: View, asked: tuple[float, float]) -> Change | None:
    dry = [x for x in view.melodic if not any(t.of.family == "Space" for t in view.line_of(x))]
    wet = [x for x in view.melodic if x not in dry]
    missing = int(-(-asked[0] // 1)) - len(wet)
    if missing > 0 and dry:
        of = dry[:missing]

        def add(loop: Loop) -> Loop:
            for layer in of:
                loop = edits.add_treatment(loop, layer.id, "hall")
                hall = loop.line_of(layer.id)[-1]
                loop = edits.set_treatment(loop, layer.id, hall.id, blend=0.3)
            return loop

        return Change(words=f"a hall on {names([x.name for x in of], 2)}", edit=add)
    if len(wet) <= asked[1]:
        return None
    over = wet[int(asked[1]) :]

    def take_out(loop: Loop) -> Loop:
        for layer in over:
            for treatment in loop.line_of(layer.id):
                if treatment.of.family == "Space":
                    loop = edits.set_treatment(loop, layer.id, treatment.id, on=False)
        return loop

    return Change(words=f"{names([x.name for x in over], 2)} dry", edit=take_out)


def _to_tail(view: View, asked: tuple[float, float]) -> Change | None:
    """Longer or shorter decays on the layer that rings longest, in proportion."""
    now = float(_tail(view).value)
    aim = sum(asked) / 2
    if now < 0.05:
        return _to_spaces(view, (1, 1))
    owners: list[tuple[LineAt, Treatment]] = [
        (x.id, t) for x in view.loop.layers for t in x.line if "decay_s" in names_of(t)
    ]
    owners += [(g.id, t) for g in view.loop.groups for t in g.line if "decay_s" in names_of(t)]
    owners += [(None, t) for t in view.loop.line if "decay_s" in names_of(t)]
    if not owners:
        return None

    def edit(loop: Loop) -> Loop:
        for at, treatment in owners:
            field = treatment.field("decay_s")
            wanted = float(treatment.full.number("decay_s")) * aim / now
            wanted = min(max(wanted, field.low), field.high)
            loop = edits.set_treatment_setting(loop, at, treatment.id, "decay_s", round(wanted, 2))
        return loop

    return Change(words=f"tails {'longer' if aim > now else 'shorter'}", edit=edit)


def names_of(treatment: Treatment) -> set[str]:
    """Return the names of what a treatment can be set to."""
    return {field.name for field in treatment.of.spec}


def _echoes(view: View) -> Found:
    found = [on for on, _t in view.of_kind(*ECHOES)]
    return Found(value=float(len(found)), where=names(found))


def _to_echoes(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_echoes(view).value) > asked[1]:
        return _without(view, ECHOES, "no echo")
    of = [x for x in view.melodic if x.role in ("pluck", "lead", "bell", "voice", "keys")]
    of = of or list(view.melodic)
    if not of:
        return None

    def edit(loop: Loop) -> Loop:
        loop = edits.add_treatment(loop, of[-1].id, "echo")
        return edits.set_treatment(loop, of[-1].id, loop.line_of(of[-1].id)[-1].id, blend=0.35)

    return Change(words=f"echoes of {of[-1].name}", edit=edit)


def _without(view: View, kinds: tuple[str, ...], words: str) -> Change:
    def edit(loop: Loop) -> Loop:
        owners: list[LineAt] = [None, *(x.id for x in loop.layers), *(g.id for g in loop.groups)]
        for at in owners:
            for treatment in loop.line_of(at):
                if treatment.kind in kinds:
                    loop = edits.set_treatment(loop, at, treatment.id, on=False)
        return loop

    return Change(words=words, edit=edit)


# --- wear -----------------------------------------------------------------------------------------


def _wear(treatment: Treatment) -> float:
    """How strong a weathering is, 0 to 1: all of it is as strong as its wear."""
    return treatment.full.number("wear") / 100 if "wear" in names_of(treatment) else 1.0


def _pitch_drift(view: View) -> Found:
    found = [(_wear(t) * t.full.number(name) * min(1.0, t.blend * 2), on)
             for kind, name in DRIFTS for on, t in view.of_kind(kind)]  # fmt: skip
    if not found:
        return Found(value=0.0)
    most = max(found)
    return Found(value=most[0], where=most[1] if most[0] else "")


def _to_pitch_drift(view: View, asked: tuple[float, float]) -> Change:
    aim = round(sum(asked) / 2)
    found = _pitch_drift(view)
    at: LineAt = None
    on = next((x for x in view.loop.layers if x.name == found.where), None)
    if on is not None and float(found.value) > asked[1]:
        at = on.id

    def edit(loop: Loop) -> Loop:
        loop = put(loop, at, "weathering", flutter_cents=0.0)
        wear = _wear(_weathering(loop, at))
        return put(loop, at, "weathering", wow_cents=min(round(aim / max(wear, 0.05), 1), 80.0))

    return Change(words=f"a wow of {aim} cents", edit=edit)


def _weathering(loop: Loop, at: LineAt) -> Treatment:
    return next(t for t in reversed(loop.line_of(at)) if t.kind == "weathering")


def _noise_of(treatment: Treatment, name: str) -> float:
    """How loud a noise of a weathering is, in dB: as it is set, at its wear."""
    set_db, wear = treatment.full.number(name), _wear(treatment)
    return max(set_db + 20 * math.log10(wear), SILENT_DB) if wear > 0 else SILENT_DB


def _noise(view: View) -> Found:
    found = [(_noise_of(t, name), on) for on, t in view.of_kind("weathering") for name in NOISES]
    most = max(found, default=(SILENT_DB, ""))
    return Found(value=most[0], where=most[1] if most[0] > SILENT_DB else "")


def _to_noise(view: View, asked: tuple[float, float]) -> Change:
    aim = round(sum(asked) / 2)

    def edit(loop: Loop) -> Loop:
        loop = put(loop, None, "weathering")
        treatment = _weathering(loop, None)
        level = aim - 20 * math.log10(max(_wear(treatment), 0.05))
        level = round(min(max(level, SILENT_DB), -10.0), 1)
        for name in NOISES:
            if name == "crackle_db" or _noise_of(treatment, name) > asked[1]:
                loop = put(loop, None, "weathering", **{name: level})
        return loop

    return Change(words=f"crackle at {aim} dB", edit=edit)


def _driven(view: View) -> Found:
    found = [on for on, t in view.of_kind(*DRIVES) if t.blend > 0.05]
    return Found(value=float(len(found)), where=names(found))


def _to_driven(view: View, asked: tuple[float, float]) -> Change | None:
    over = float(_driven(view).value) - asked[1]
    if over > 0 and asked[1] >= 1:
        kinds = [t.kind for _on, t in view.of_kind(*DRIVES)][-int(over) :]
        return _without(view, tuple(kinds), f"without {names(kinds)}")
    if over > 0:
        return _without(view, DRIVES, "nothing driven")
    return Change(words="warm drive on the whole loop",
                  edit=lambda loop: edits.add_treatment(loop, None, "warm", 0))  # fmt: skip


def _pulse(view: View) -> Found:
    found = [on for on, _t in view.of_kind(*PULSES)]
    return Found(value=float(len(found)), where=names(found))


def _to_pulse(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_pulse(view).value) > asked[1]:
        return _without(view, PULSES, "nothing pulses")
    held = [x for x in view.melodic if x.role in ("pad", "strings", "voice")] or list(view.melodic)
    if not held:
        return None
    return Change(words=f"{held[0].name} pumps",
                  edit=lambda loop: edits.add_treatment(loop, held[0].id, "pump"))  # fmt: skip


# --- backward, lower ------------------------------------------------------------------------------


def _backward(view: View) -> Found:
    """How much of what is heard plays backward: layers by their treatments, flips by places."""
    if any(t.kind == "backward" for on, t in view.treatments if on == "the whole loop"):
        return Found(value=100.0, where="the whole loop")
    if not view.heard:
        return Found(value=0.0)
    shares = {x.name: _backward_in(view, x) for x in view.heard}
    some = [name for name, share in shares.items() if share > 0]
    return Found(value=100 * sum(shares.values()) / len(shares), where=names(some))


def _backward_in(view: View, layer: Layer) -> float:
    turned = max((t.blend for t in view.line_of(layer) if t.kind in ("backward", "ghost")),
                 default=0.0)  # fmt: skip
    if layer.flipped is None:
        return turned
    places = [p for p in layer.flipped.places if not p.mute]
    total = sum(p.length_ticks for p in places)
    return sum(p.length_ticks for p in places if p.backward) / total if total else 0.0


def _to_backward(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_backward(view).value) > asked[1]:
        return _without(view, ("backward", "ghost"), "all forward")
    of = [x for x in view.melodic if not _backward_in(view, x)]
    wanted = max(1, round(sum(asked) / 200 * len(view.heard)))
    of = sorted(of, key=lambda x: x.role not in ("keys", "pluck"))[:wanted]
    if not of:
        return None

    def edit(loop: Loop) -> Loop:
        for layer in of:
            loop = edits.add_treatment(loop, layer.id, "backward")
        return loop

    return Change(words=f"{names([x.name for x in of], 2)} backward, chords in order", edit=edit)


def _shift(view: View) -> Found:
    moved = view.loop.sounding_key.pc - view.loop.key.pc
    whole = float((moved + 6) % 12 - 6)
    flips = [x for x in view.heard if x.flipped is not None]
    lower = min((x.flipped.of.semitones for x in flips if x.flipped), default=0.0)
    of = ["the whole loop"] if whole else []
    of += [x.name for x in flips if x.flipped and x.flipped.of.semitones == lower and lower]
    return Found(value=whole + min(lower, 0.0), where=names(of))


def _to_shift(view: View, asked: tuple[float, float]) -> Change:
    aim = round(sum(asked) / 2)

    def edit(loop: Loop) -> Loop:
        if not aim:
            return _without(view, ("shift",), "").edit(loop)
        if not any(t.kind == "shift" for t in loop.line):
            loop = edits.add_treatment(loop, None, "shift", 0)
        return put(loop, None, "shift", semitones=float(aim))

    return Change(words=f"all of it {aim:+d} st".replace("-", "−") if aim else "as it is written",
                  edit=edit)  # fmt: skip


def _chops(view: View) -> Found:
    of = [x for x in view.heard if x.flipped is not None]
    if not of:
        return Found(value=0.0)
    most = max(of, key=lambda x: len(x.flipped.places) if x.flipped else 0)
    assert most.flipped is not None
    return Found(value=len(most.flipped.places) / view.bars, where=most.name)


# --- the sound itself -----------------------------------------------------------------------------


def _heard(of: str) -> Callable[[View], Found | None]:
    def measure(view: View) -> Found | None:
        return None if view.sound is None else Found(value=float(getattr(view.sound, of)),
                                                     where="the whole loop")  # fmt: skip

    return measure


def _crest(view: View) -> Found | None:
    if view.sound is None:
        return None
    return Found(value=view.sound.peak_db - view.sound.lufs, where="the whole loop")


def _sound(view: View) -> SoundFacts:
    assert view.sound is not None, "these change what was measured"
    return view.sound


def _to_centroid(view: View, asked: tuple[float, float]) -> Change:
    """Tilt all of it: 2.8 dB an octave move the middle of its spectrum by about an octave."""
    now = _sound(view).centroid_hz
    darker = now > asked[1]
    aim = (asked[0] * asked[1]) ** 0.5
    slope = max(-6.0, min(6.0, 2.8 * math.log2(aim / max(now, 1.0))))

    def edit(loop: Loop) -> Loop:
        there = [t for t in loop.line if t.kind == "tilt"]
        before = float(there[-1].full.number("slope_db")) if there else 0.0
        return put(loop, None, "tilt", slope_db=round(max(-6.0, min(6.0, before + slope)), 1))

    return Change(words="darker" if darker else "brighter", edit=edit)


def _to_edge(view: View, asked: tuple[float, float]) -> Change | None:
    if _sound(view).edge_hz <= asked[1]:
        return None
    aim = round(0.9 * asked[1])
    return Change(words=f"cut all of it at {aim} Hz",
                  edit=lambda loop: put(loop, None, "cuts", high_cut_hz=float(aim)))  # fmt: skip


def _to_width(view: View, asked: tuple[float, float]) -> Change:
    now = max(_sound(view).width, 0.5)
    aim = sum(asked) / 2
    # The sides' share goes with the square of how much they are turned up against the middle.
    by = ((aim / (100 - aim)) / (now / max(100 - now, 0.5))) ** 0.5
    width = min(max(round(100 * by), 0), 200)
    return Change(words=f"{width} % wide",
                  edit=lambda loop: put(loop, None, "trim", width=float(width)))  # fmt: skip


def _to_low_width(view: View, asked: tuple[float, float]) -> Change | None:
    if _sound(view).low_width <= asked[1]:
        return None
    return Change(words="mono below 220 Hz",
                  edit=lambda loop: put(loop, None, "trim", mono_hz=220.0))  # fmt: skip


def _to_loudness(view: View, asked: tuple[float, float]) -> Change:
    by = round(sum(asked) / 2 - _sound(view).lufs, 1)

    def edit(loop: Loop) -> Loop:
        return replace(loop, layers=tuple(
            replace(x, level_db=min(max(x.level_db + by, LEVEL.low), LEVEL.high))
            for x in loop.layers
        ))  # fmt: skip

    return Change(words=f"{'louder' if by > 0 else 'softer'} by {abs(by):g} dB", edit=edit)


KINDS = (
    Kind(name="low_cut", label="Low cut of each layer", group="Texture", unit="Hz", low=20,
         high=1000, log=True, about="the lowest of the low cuts of the layers but the bass; 20 Hz "
         "where one has none", measure=_low_cut, change=_to_low_cut),
    Kind(name="spaces", label="Layers in a space", group="Texture", unit="layers", high=8,
         about="layers with a room, hall, plate, spring or echo on them (the whole loop counts as "
         "one)", measure=_spaces, change=_to_spaces),
    Kind(name="tail", label="Tail", group="Texture", unit="s", high=20, decimals=1,
         about="how long the layer that rings longest does, with what is on the whole loop",
         measure=_tail, change=_to_tail),
    Kind(name="echoes", label="Echoes", group="Texture", unit="lines", high=6,
         about="how many echoes act", measure=_echoes, change=_to_echoes),
    Kind(name="pitch_drift", label="Pitch drift", group="Texture", unit="cents", high=60,
         about="the most that a wow, a flutter or a drift moves the pitch", measure=_pitch_drift,
         change=_to_pitch_drift),
    Kind(name="noise", label="Noise", group="Texture", unit="dB", low=SILENT_DB, high=-20,
         about="the loudest of hiss, dust, crackle, rumble and static of a weathering",
         measure=_noise, change=_to_noise),
    Kind(name="driven", label="Driven", group="Texture", unit="lines", high=8,
         about="how many drives and saturations act", measure=_driven, change=_to_driven),
    Kind(name="pulse", label="Pumping or gated", group="Texture", unit="lines", high=6,
         about="how many pumps, gates and tremolos act", measure=_pulse, change=_to_pulse),
    Kind(name="backward", label="Backward", group="Flip", unit="%",
         about="how much of what is heard plays backward: by treatments or places of a flip, the "
         "mean of the layers", measure=_backward, change=_to_backward),
    Kind(name="shift", label="Lower or higher", group="Flip", unit="st", low=-12, high=12,
         about="how far all of it sounds from what is written, with the lowest flip's own shift",
         measure=_shift, change=_to_shift),
    Kind(name="chops", label="Pieces", group="Flip", unit="a bar", high=16, decimals=1,
         about="places in a bar of the flip that is cut finest; 0 where none is heard",
         measure=_chops),
    Kind(name="brightness", label="Brightness", group="Sound", unit="Hz", low=100, high=8000,
         log=True, about="the middle of the mean spectrum (amplitudes) of all of it, treated",
         measure=_heard("centroid_hz"), change=_to_centroid, needs_sound=True),
    Kind(name="band_edge", label="Edge of the band", group="Sound", unit="Hz", low=200, high=20000,
         log=True, about="what 99 % of the power lies below", measure=_heard("edge_hz"),
         change=_to_edge, needs_sound=True),
    Kind(name="width", label="Width", group="Sound", unit="%", high=60,
         about="the sides' share of the power", measure=_heard("width"), change=_to_width,
         needs_sound=True),
    Kind(name="low_width", label="Width below 150 Hz", group="Sound", unit="%", high=60, decimals=1,
         about="the sides' share of the power below 150 Hz", measure=_heard("low_width"),
         change=_to_low_width, needs_sound=True),
    Kind(name="loudness", label="Loudness", group="Sound", unit="LUFS", low=-40, high=-6,
         decimals=1, about="integrated loudness (BS.1770) as it goes round",
         measure=_heard("lufs"), change=_to_loudness, needs_sound=True),
    Kind(name="crest", label="Peaks over loudness", group="Sound", unit="dB", high=30, decimals=1,
         about="true peak less integrated loudness", measure=_crest, needs_sound=True),
    Kind(name="voice_room", label="Room for a voice", group="Sound", unit="dB", low=-40, high=0,
         decimals=1, about="power between 1 and 4 kHz against all of it: less leaves more room",
         measure=_heard("voice_db"), needs_sound=True),
    Kind(name="sub", label="Below 60 Hz", group="Sound", unit="dB", low=-60, high=0, decimals=1,
         about="power below 60 Hz against all of it", measure=_heard("sub_db"), needs_sound=True),
    Kind(name="floor", label="Softest moments", group="Sound", unit="dB", low=-60, high=0,
         decimals=1, about="how far the softest tenth of moments (50 ms) lies below the mean",
         measure=_heard("floor_db"), needs_sound=True),
)  # fmt: skip
