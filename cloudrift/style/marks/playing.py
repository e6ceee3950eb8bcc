"""Marks of how it is played, and of the bass."""

from collections.abc import Callable

from cloudrift.loop.edits.layers import layer_edits
from cloudrift.loop.model.loop import Layer, Loop
from cloudrift.notes.time import bar_ticks
from cloudrift.style.marks.kind import Change, Found, Kind
from cloudrift.style.marks.view import View, names

GLIDE = "glide_ms"
WALK_TICKS = 960


def _touch(of: str) -> Callable[[View], Found | None]:
    def measure(view: View) -> Found | None:
        layers = view.following(view.melodic)
        if not layers:
            return None
        values = [float(getattr(x.played.touch, of)) for x in layers]
        top = max(range(len(values)), key=values.__getitem__)
        return Found(
            value=sum(values) / len(values), where=f"most in {layers[top].name}: {values[top]:.1f}"
        )

    return measure


def _to_touch(of: str, unit: str) -> Callable[[View, tuple[float, float]], Change | None]:
    def change(view: View, asked: tuple[float, float]) -> Change | None:
        layers = view.following(view.melodic)
        if not layers:
            return None
        aim = round(sum(asked) / 2, 1)

        def edit(loop: Loop) -> Loop:
            for layer in layers:
                loop = layer_edits.set_touch(loop, layer.id, **{of: aim})
            return loop

        return Change(words=f"{aim:g} {unit} on {names([x.name for x in layers], 2)}", edit=edit)

    return change


def _roll(view: View) -> Found | None:
    """The most that a chord is rolled: one layer does, the others must not."""
    layers = view.following(view.melodic)
    if not layers:
        return None
    most = max(layers, key=lambda x: x.played.touch.roll_ms)
    roll = most.played.touch.roll_ms
    return Found(value=float(roll), where=most.name if roll else "")


def _to_roll(view: View, asked: tuple[float, float]) -> Change | None:
    layers = [
        x for x in view.following(view.melodic) if x.played.lens.kind in ("all", "inner", "top")
    ]
    layers = layers or view.following(view.melodic)
    if not layers:
        return None
    aim = round(sum(asked) / 2)
    over = [x for x in view.following(view.melodic) if x.played.touch.roll_ms > asked[1]]
    layer = layers[0]

    def edit(loop: Loop) -> Loop:
        for one in over or [layer]:
            loop = layer_edits.set_touch(loop, one.id, roll_ms=aim)
        return loop

    return Change(
        words=f"{names([x.name for x in over or [layer]], 2)} rolled by {aim} ms", edit=edit
    )


def _velocity(view: View) -> Found | None:
    notes = [n.velocity for x in view.melodic for n in view.notes[x.id]]
    return Found(value=sum(notes) / len(notes)) if notes else None


def _to_velocity(view: View, asked: tuple[float, float]) -> Change | None:
    found, layers = _velocity(view), view.following(view.melodic)
    if found is None or not layers:
        return None
    by = round(sum(asked) / 2 - float(found.value))

    def edit(loop: Loop) -> Loop:
        for layer in layers:
            now = layer.played.touch.velocity
            loop = layer_edits.set_touch(loop, layer.id, velocity=min(max(now + by, 1), 127))
        return loop

    return Change(words=f"{'softer' if by < 0 else 'harder'} by {abs(by)}", edit=edit)


# --- bass -----------------------------------------------------------------------------------------


def _on_roots(view: View) -> Found | None:
    notes = [n for x in view.basses for n in view.notes[x.id]]
    if not notes or not view.chords:
        return None
    on = 0
    for note in notes:
        chord = next((c for c in view.chords if c.start_tick <= note.start_tick < c.end_tick), None)
        on += chord is not None and note.pitch % 12 == chord.root
    return Found(value=100 * on / len(notes), where=f"{on} of {len(notes)}")


def _to_roots(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.basses)
    found = _on_roots(view)
    if not of or found is None:
        return None
    if float(found.value) > asked[1]:
        return _walking(view, of[0], WALK_TICKS)
    return Change(
        words=f"{of[0].name} on the roots",
        edit=lambda loop: layer_edits.set_lens(loop, of[0].id, kind="roots"),
    )


def _walking(view: View, layer: Layer, step: int) -> Change:
    """A bass that goes from root to root by a line."""
    return Change(
        words=f"{layer.name} walks",
        edit=lambda loop: layer_edits.set_lens(
            loop, layer.id, kind="line", step_ticks=step, low=30, high=45, octave=0
        ),
    )


def _to_bass_pace(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.basses)
    if not of:
        return None
    if asked[1] < len(view.chords) / view.bars * 1.5:
        return Change(
            words=f"{of[0].name} with the chords",
            edit=lambda loop: layer_edits.set_lens(loop, of[0].id, kind="roots"),
        )
    step = round(bar_ticks(view.loop.metre) / (sum(asked) / 2))
    return _walking(view, of[0], min(max(step, 60), 3840))


def _bass_pace(view: View) -> Found | None:
    if not view.basses:
        return None
    return Found(
        value=sum(view.pace(x) for x in view.basses) / len(view.basses),
        where=names([x.name for x in view.basses]),
    )


def _bass_rests(view: View) -> Found | None:
    if not view.basses:
        return None
    bar = bar_ticks(view.loop.metre)
    playing: set[int] = set()
    for layer in view.basses:
        for note in view.notes[layer.id]:
            playing |= set(range(note.start_tick // bar, -(-note.end_tick // bar)))
    silent = [i for i in range(view.loop.bars) if i not in playing]
    where = f"bars {names([str(i + 1) for i in silent])}" if silent else ""
    return Found(value=100 * len(silent) / view.loop.bars, where=where)


def _to_bass_rests(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.basses)
    if not of:
        return None
    bar, bars, layer = bar_ticks(view.loop.metre), view.loop.bars, of[0]
    wanted = round(sum(asked) / 200 * bars)
    silent = [bars - 1 - round(i * bars / max(1, wanted)) for i in range(wanted)]
    plays = [i for i in range(bars) if i not in silent]
    where: list[tuple[int, int]] = []
    for i in plays if wanted else ():
        if where and where[-1][1] == i * bar:
            where[-1] = (where[-1][0], (i + 1) * bar)
        else:
            where.append((i * bar, (i + 1) * bar))
    said = (
        f"rests in bars {names([str(i + 1) for i in sorted(silent)])}"
        if wanted
        else "plays through"
    )
    return Change(
        words=f"{layer.name} {said}",
        edit=lambda loop: layer_edits.set_lens(loop, layer.id, where=tuple(where)),
    )


def _glides(view: View) -> Found | None:
    if not view.basses:
        return None
    most = [(_glide_of(x), x.name) for x in view.basses]
    value, name = max(most)
    return Found(value=value, where=name if value else "")


def _glide_of(layer: Layer) -> float:
    use = layer.played.sound
    known = {field.name for field in use.of.spec}
    return use.of.spec.full(use.settings).number(GLIDE) if GLIDE in known else 0.0


def _to_glides(view: View, asked: tuple[float, float]) -> Change | None:
    of = [x for x in view.basses if GLIDE in {f.name for f in x.played.sound.of.spec}]
    if not of:
        return None
    aim = round(sum(asked) / 2)
    return Change(
        words=f"{of[0].name} glides in {aim} ms" if aim else f"{of[0].name} without a glide",
        edit=lambda loop: layer_edits.set_sound_setting(loop, of[0].id, GLIDE, aim),
    )


def _bass_height(view: View) -> Found | None:
    notes = [n.pitch for x in view.basses for n in view.notes[x.id]]
    if not notes:
        return None
    middle = sum(notes) / len(notes)
    return Found(value=middle, where=f"about {view.loop.key.spell_pitch(round(middle))}")


def _to_bass_height(view: View, asked: tuple[float, float]) -> Change | None:
    of = view.following(view.basses)
    found = _bass_height(view)
    if not of or found is None:
        return None
    layer, aim = of[0], round(sum(asked) / 2)
    higher = aim > float(found.value)
    return Change(
        words=f"{layer.name} {'higher' if higher else 'lower'}, "
        f"about {view.loop.key.spell_pitch(aim)}",
        edit=lambda loop: layer_edits.set_lens(loop, layer.id, low=aim - 6, high=aim + 5),
    )


KINDS = (
    Kind(name="roll", label="Roll", group="Playing", unit="ms", high=200,
         about="time from first to last note of a chord in the most rolled layer",
         measure=_roll, change=_to_roll),
    Kind(name="spread", label="Velocity spread", group="Playing", unit="velocity", high=40,
         decimals=1, about="spread of velocities, mean of the layers except the bass",
         measure=_touch("spread"), change=_to_touch("spread", "velocity")),
    Kind(name="drift", label="Timing drift", group="Playing", unit="ms", high=60, decimals=1,
         about="spread of timing, mean of the layers except the bass",
         measure=_touch("drift_ms"), change=_to_touch("drift_ms", "ms")),
    Kind(name="velocity", label="Velocity", group="Playing", unit="velocity", low=1,
         high=127, about="mean velocity of all notes except the bass", measure=_velocity,
         change=_to_velocity),
    Kind(name="bass_roots", label="Bass on roots", group="Bass", unit="%",
         about="share of bass notes on the root of their chord", measure=_on_roots,
         change=_to_roots),
    Kind(name="bass_pace", label="Bass notes", group="Bass", unit="a bar", high=16, decimals=1,
         about="bass notes per bar", measure=_bass_pace,
         change=_to_bass_pace),
    Kind(name="bass_rests", label="Bass rests", group="Bass", unit="%",
         about="share of bars without bass", measure=_bass_rests, change=_to_bass_rests),
    Kind(name="bass_glide", label="Bass glides", group="Bass", unit="ms", high=400,
         about="glide time of the bass from note to note", measure=_glides, change=_to_glides),
    Kind(name="bass_height", label="Bass register", group="Bass", unit="MIDI", low=24, high=60,
         about="mean note of the bass, as a MIDI note (36: two octaves below middle C)",
         measure=_bass_height, change=_to_bass_height),
)  # fmt: skip
