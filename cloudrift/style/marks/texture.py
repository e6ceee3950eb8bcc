"""Marks of what is done to the sound: cuts, space, wear, drive, pulses."""

import math
from collections.abc import Callable

from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import Layer, LineAt, Loop
from cloudrift.notes.time import TICKS_PER_QUARTER, bar_ticks
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.lines import names_of, put, without
from cloudrift.style.marks.view import View, names
from cloudrift.texture.periods import RATES
from cloudrift.texture.treatment import Treatment, tail_s

DRIVES = ("warm", "tape", "overdrive", "soft clip", "fold", "squash")
PULSES = ("pump", "gate", "tremolo")
ECHOES = ("echo", "tape echo")
DRIFTS = (
    ("weathering", "wow_cents"),
    ("weathering", "flutter_cents"),
    ("cloud", "drift_cents"),
    ("tape echo", "drift_cents"),
)
NOISES = ("hiss_db", "dust_db", "crackle_db", "rumble_db", "static_db")
SILENT_DB = -80.0


# --- cuts -----------------------------------------------------------------------------------------


def _low_cut_of(view: View, layer: Layer) -> float:
    cuts = [
        t.full.number("low_cut_hz")
        for t in view.line_of(layer)
        if t.kind == "cuts" and t.blend > 0.9
    ]
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


def _tail_chords(view: View) -> Found | None:
    """The longest tail against the time to the next chord: from 1 on, it rings into that."""
    if not view.chords:
        return None
    tail = _tail(view)
    ticks = sum(chord.length_ticks for chord in view.chords) / len(view.chords)
    seconds = ticks / TICKS_PER_QUARTER * 60 / view.loop.tempo
    return Found(value=float(tail.value) / seconds, where=tail.where)


def _to_tail_chords(view: View, asked: tuple[float, float]) -> Change | None:
    found, tail = _tail_chords(view), float(_tail(view).value)
    if found is None:
        return None
    if not found.value:
        return _with_a_space(view, lambda after: _to_tail_chords(after, asked))
    second = tail / float(found.value)  # of a chord
    return _to_tail(view, (asked[0] * second, asked[1] * second))


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
                loop = line_edits.add_treatment(loop, layer.id, "hall")
                hall = loop.line_of(layer.id)[-1]
                loop = line_edits.set_treatment(loop, layer.id, hall.id, blend=0.3)
            return loop

        return Change(words=f"a hall on {names([x.name for x in of], 2)}", edit=add)
    if len(wet) <= asked[1]:
        return None
    over = wet[int(asked[1]) :]

    def take_out(loop: Loop) -> Loop:
        for layer in over:
            for treatment in loop.line_of(layer.id):
                if treatment.of.family == "Space":
                    loop = line_edits.set_treatment(loop, layer.id, treatment.id, on=False)
        return loop

    return Change(words=f"{names([x.name for x in over], 2)} dry", edit=take_out)


def _with_a_space(view: View, then: Callable[[View], Change | None]) -> Change | None:
    """A hall where all is dry, and what is to be changed of it."""
    first = _to_spaces(view, (1, 1))
    second = then(View(first.edit(view.loop))) if first else None
    if first is None or second is None:
        return first
    return Change(
        words=f"{first.words}, {second.words}", edit=lambda loop: second.edit(first.edit(loop))
    )


def _to_tail(view: View, asked: tuple[float, float]) -> Change | None:
    """Longer or shorter decays on the layer that rings longest, in proportion."""
    now = float(_tail(view).value)
    aim = sum(asked) / 2
    if now < 0.05:
        return _with_a_space(view, lambda after: _to_tail(after, asked))
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
            loop = line_edits.set_treatment_setting(
                loop, at, treatment.id, "decay_s", round(wanted, 2)
            )
        return loop

    return Change(words=f"tails {'longer' if aim > now else 'shorter'}", edit=edit)


def _echoes(view: View) -> Found:
    found = [on for on, _t in view.of_kind(*ECHOES)]
    return Found(value=float(len(found)), where=names(found))


def _to_echoes(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_echoes(view).value) > asked[1]:
        return without(view, ECHOES, "no echo")
    of = [x for x in view.melodic if x.role in ("pluck", "lead", "bell", "voice", "keys")]
    of = of or list(view.melodic)
    if not of:
        return None

    def edit(loop: Loop) -> Loop:
        loop = line_edits.add_treatment(loop, of[-1].id, "echo")
        return line_edits.set_treatment(loop, of[-1].id, loop.line_of(of[-1].id)[-1].id, blend=0.35)

    return Change(words=f"echoes of {of[-1].name}", edit=edit)


# --- wear -----------------------------------------------------------------------------------------


def _wear(treatment: Treatment) -> float:
    """How strong a weathering is, 0 to 1: all of it is as strong as its wear."""
    return treatment.full.number("wear") / 100 if "wear" in names_of(treatment) else 1.0


def _pitch_drift(view: View) -> Found:
    found = [
        (_wear(t) * t.full.number(name) * min(1.0, t.blend * 2), on)
        for kind, name in DRIFTS
        for on, t in view.of_kind(kind)
    ]
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
        return without(view, tuple(kinds), f"without {names(kinds)}")
    if over > 0:
        return without(view, DRIVES, "no drive")
    return Change(
        words="warm drive on the whole loop",
        edit=lambda loop: line_edits.add_treatment(loop, None, "warm", 0),
    )


def _drive(view: View) -> Found:
    """The hardest drive there is; a squash has none, and of a weathering it is its saturation."""
    kinds = (*DRIVES, "weathering")
    found = [
        (t.full.number("drive_db") * (_wear(t) if t.kind == "weathering" else 1.0), on)
        for on, t in view.of_kind(*kinds)
        if "drive_db" in names_of(t) and t.blend > 0.05
    ]
    value, on = max(found, default=(0.0, ""))
    return Found(value=value, where=on if value else "")


def _to_drive(view: View, asked: tuple[float, float]) -> Change | None:
    aim = round(sum(asked) / 2, 1)
    if not aim:
        return without(view, DRIVES, "no drive")

    def edit(loop: Loop) -> Loop:
        there = False
        owners: list[LineAt] = [None, *(x.id for x in loop.layers), *(g.id for g in loop.groups)]
        for at in owners:
            for t in loop.line_of(at):
                if t.kind not in (*DRIVES, "weathering") or "drive_db" not in names_of(t):
                    continue
                times = max(_wear(t), 0.05) if t.kind == "weathering" else 1.0
                now = t.full.number("drive_db") * times
                if now > asked[1] or (t.kind in DRIVES and not there):
                    wanted = min(aim / times, t.field("drive_db").high)
                    loop = line_edits.set_treatment_setting(
                        loop, at, t.id, "drive_db", round(wanted, 1)
                    )
                    there = True
        return loop if there else put(loop, None, "warm", drive_db=aim)

    return Change(words=f"driven by {aim:g} dB", edit=edit)


def _pulse_rate(view: View) -> Found:
    bar = bar_ticks(view.loop.metre)
    found = [(bar / RATES[t.full.word("rate")], on) for on, t in view.of_kind(*PULSES)]
    value, on = max(found, default=(0.0, ""))
    return Found(value=value, where=on)


def _to_pulse_rate(view: View, asked: tuple[float, float]) -> Change | None:
    if not asked[1]:
        return without(view, PULSES, "no pulse")
    bar = bar_ticks(view.loop.metre)
    middle = sum(asked) / 2
    rate = min(RATES, key=lambda r: (abs(bar / RATES[r] - middle), "t" in r))

    def edit(loop: Loop) -> Loop:
        owners: list[LineAt] = [None, *(x.id for x in loop.layers), *(g.id for g in loop.groups)]
        for at in owners:
            for t in loop.line_of(at):
                if t.kind in PULSES:
                    loop = line_edits.set_treatment_setting(loop, at, t.id, "rate", rate)
        return loop

    if view.of_kind(*PULSES):
        return Change(words=f"pulses in {rate}", edit=edit)
    change = _to_pulse(view, (1, 1))
    if change is None:
        return None
    return Change(words=f"{change.words} in {rate}", edit=lambda loop: edit(change.edit(loop)))


def _pulse(view: View) -> Found:
    found = [on for on, _t in view.of_kind(*PULSES)]
    return Found(value=float(len(found)), where=names(found))


def _to_pulse(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_pulse(view).value) > asked[1]:
        return without(view, PULSES, "no pulse")
    held = [x for x in view.melodic if x.role in ("pad", "strings", "voice")] or list(view.melodic)
    if not held:
        return None
    return Change(
        words=f"{held[0].name} pumps",
        edit=lambda loop: line_edits.add_treatment(loop, held[0].id, "pump"),
    )


KINDS = (
    Kind(name="low_cut", label="Low cut of each layer", group="Texture", unit="Hz", low=20,
         high=1000, log=True, about="lowest low cut of the layers except the bass; 20 Hz if one "
         "has none", measure=_low_cut, change=_to_low_cut),
    Kind(name="spaces", label="Layers with reverb", group="Texture", unit="layers", high=8,
         about="layers with a room, hall, plate, spring or echo (the whole loop counts as "
               "one)", measure=_spaces, change=_to_spaces),
    Kind(name="tail", label="Tail", group="Texture", unit="s", high=20, decimals=1,
         about="decay of the layer that rings longest, with the whole loop's treatments",
         measure=_tail, change=_to_tail),
    Kind(name="tail_chords", label="Tail to chord length", group="Texture", unit="times", high=8,
         decimals=1, about="longest decay relative to a chord's length: from 1 on it rings into "
         "the next", measure=_tail_chords, change=_to_tail_chords),
    Kind(name="echoes", label="Echoes", group="Texture", unit="delays", high=6,
         about="number of active echoes", measure=_echoes, change=_to_echoes),
    Kind(name="pitch_drift", label="Pitch drift", group="Texture", unit="cents", high=60,
         about="largest pitch change by a wow, flutter or drift", measure=_pitch_drift,
         change=_to_pitch_drift),
    Kind(name="noise", label="Noise", group="Texture", unit="dB", low=SILENT_DB, high=-20,
         about="loudest of hiss, dust, crackle, rumble and static",
         measure=_noise, change=_to_noise),
    Kind(name="driven", label="Drives", group="Texture", unit="drives", high=8,
         about="number of active drives and saturations", measure=_driven, change=_to_driven),
    Kind(name="drive", label="Drive", group="Texture", unit="dB", high=36, decimals=1,
         about="strongest drive or saturation", measure=_drive,
         change=_to_drive),
    Kind(name="pulse", label="Pumping or gated", group="Texture", unit="treatments", high=6,
         about="number of active pumps, gates and tremolos", measure=_pulse, change=_to_pulse),
    Kind(name="pulse_rate", label="Pulse", group="Texture", unit="a bar", high=32, decimals=1,
         about="cycles per bar of the fastest pump, gate or tremolo; 0 if there is none",
         measure=_pulse_rate, change=_to_pulse_rate),
)  # fmt: skip
