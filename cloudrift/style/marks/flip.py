"""Marks of what is cut, turned and shifted."""

from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.loop.sounding import key_heard
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.lines import put, without
from cloudrift.style.marks.view import View, names


def _backward(view: View) -> Found:
    """How much of what is heard plays backward: layers by their treatments, flips by places."""
    if any(t.kind == "reverse" for on, t in view.treatments if on == "the whole loop"):
        return Found(value=100.0, where="the whole loop")
    if not view.heard:
        return Found(value=0.0)
    shares = {x.name: _backward_in(view, x) for x in view.heard}
    some = [name for name, share in shares.items() if share > 0]
    return Found(value=100 * sum(shares.values()) / len(shares), where=names(some))


def _backward_in(view: View, layer: Layer) -> float:
    turned = max(
        (t.blend for t in view.line_of(layer) if t.kind in ("reverse", "reverse reverb")),
        default=0.0,
    )
    if layer.flipped is None:
        return turned
    places = [p for p in layer.flipped.places if not p.mute]
    total = sum(p.length_ticks for p in places)
    return sum(p.length_ticks for p in places if p.backward) / total if total else 0.0


def _to_backward(view: View, asked: tuple[float, float]) -> Change | None:
    if float(_backward(view).value) > asked[1]:
        return without(view, ("reverse", "reverse reverb"), "nothing reversed")
    of = [x for x in view.melodic if not _backward_in(view, x)]
    wanted = max(1, round(sum(asked) / 200 * len(view.heard)))
    of = sorted(of, key=lambda x: x.role not in ("keys", "pluck"))[:wanted]
    if not of:
        return None

    def edit(loop: Loop) -> Loop:
        for layer in of:
            loop = line_edits.add_treatment(loop, layer.id, "reverse")
        return loop

    return Change(words=f"{names([x.name for x in of], 2)} reversed, chords in order", edit=edit)


def _shift(view: View) -> Found:
    moved = key_heard(view.loop).pc - view.loop.key.pc
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
            return without(view, ("shift",), "").edit(loop)
        if not any(t.kind == "shift" for t in loop.line):
            loop = line_edits.add_treatment(loop, None, "shift", 0)
        return put(loop, None, "shift", semitones=float(aim))

    return Change(
        words=f"whole loop {aim:+d} st".replace("-", "−") if aim else "at the written pitch",
        edit=edit,
    )


def _chops(view: View) -> Found:
    of = [x for x in view.heard if x.flipped is not None]
    if not of:
        return Found(value=0.0)
    most = max(of, key=lambda x: len(x.flipped.places) if x.flipped else 0)
    assert most.flipped is not None
    return Found(value=len(most.flipped.places) / view.bars, where=most.name)


KINDS = (
    Kind(name="backward", label="Reversed", group="Flip", unit="%",
         about="share of the sound that plays reversed, by treatments or in a flip; mean of the "
         "layers", measure=_backward, change=_to_backward),
    Kind(name="shift", label="Transposed", group="Flip", unit="st", low=-12, high=12,
         about="distance of the sounding from the written pitch, with the lowest flip's shift",
         measure=_shift, change=_to_shift),
    Kind(name="chops", label="Pieces", group="Flip", unit="a bar", high=16, decimals=1,
         about="pieces per bar of the flip with most; 0 without a flip",
         measure=_chops),
)  # fmt: skip
