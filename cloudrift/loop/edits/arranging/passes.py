"""Passes of a print: once round a loop after another, with some of its layers left out."""

from msgspec.structs import replace

from cloudrift.ground.errors import CloudriftError
from cloudrift.ground.words import NAME_TYPED
from cloudrift.loop.model import spec
from cloudrift.loop.model.document import MOST_PASSES, Pass, in_pass
from cloudrift.loop.model.loop import Group, Layer, Loop


def check_passes(loop: Loop, passes: tuple[Pass, ...]) -> None:
    """Raise CloudriftError where passes are not to be had of a loop."""
    if len(passes) > MOST_PASSES:
        raise CloudriftError(f"{len(passes)} passes can't be printed; use at most {MOST_PASSES}")
    bars = len(passes) * loop.bars
    if bars > spec.MAX_BARS:
        raise CloudriftError(
            f"{len(passes)} passes of {loop.bars} bars are {bars} bars, but {spec.MAX_BARS} is as "
            f"long as a loop may be; use at most {spec.MAX_BARS // loop.bars} passes"
        )
    if passes and not any(in_pass(loop, one).heard() for one in passes):
        raise CloudriftError("nothing plays in any pass, so there is nothing to print")


def passers(loop: Loop) -> list[Layer | Group]:
    """Return what may be left out of a pass: layers that are heard, and groups as a whole."""
    heard = loop.heard()
    found: list[Layer | Group] = [layer for layer in heard if not layer.group]
    return found + [group for group in loop.groups if any(x.group == group.id for x in heard)]


def passes_in(loop: Loop, passes: tuple[Pass, ...]) -> tuple[Pass, ...]:
    """Return passes of another loop as they are to be had of this one."""
    there = {one.id for one in passers(loop)}
    return tuple(replace(x, out=tuple(id_ for id_ in x.out if id_ in there)) for x in passes)


def pass_name(loop: Loop, out: tuple[str, ...]) -> str:
    """Say in few words what is heard in a pass."""
    of = passers(loop)
    gone, stay = ([one.name for one in of if (one.id in out) == is_out] for is_out in (True, False))
    if not gone:
        return "All"
    if not stay:
        return "Silence"
    few = (
        f"Only {' and '.join(stay)}" if len(stay) < len(gone) else (f"Without {' and '.join(gone)}")
    )
    return few[:NAME_TYPED]
