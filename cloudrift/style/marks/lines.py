"""What changes of marks do to lines."""

from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.style.marks.kind import Change
from cloudrift.style.marks.view import View
from cloudrift.texture.treatment import Treatment


def put(loop: Loop, line_of: LineAt, kind: str, **settings: float) -> Loop:
    """Return a loop with settings of a treatment of a kind on a line; it is added where none is."""
    there = [t for t in loop.line_of(line_of) if t.kind == kind]
    if not there:
        loop = line_edits.add_treatment(loop, line_of, kind)
    treatment = [t for t in loop.line_of(line_of) if t.kind == kind][-1]
    loop = line_edits.set_treatment(loop, line_of, treatment.id, on=True)
    for name, value in settings.items():
        loop = line_edits.set_treatment_setting(loop, line_of, treatment.id, name, value)
    return loop


def without(view: View, kinds: tuple[str, ...], words: str) -> Change:
    """Switch all treatments of some kinds off, wherever they are."""

    def edit(loop: Loop) -> Loop:
        owners: list[LineAt] = [None, *(x.id for x in loop.layers), *(g.id for g in loop.groups)]
        for at in owners:
            for treatment in loop.line_of(at):
                if treatment.kind in kinds:
                    loop = line_edits.set_treatment(loop, at, treatment.id, on=False)
        return loop

    return Change(words=words, edit=edit)


def names_of(treatment: Treatment) -> set[str]:
    """Return the names of what a treatment can be set to."""
    return {field.name for field in treatment.of.spec}
