"""Laying a finish on a line of a loop."""

from cloudrift.loop.edits.layers import line_edits
from cloudrift.loop.model.loop import LineAt, Loop
from cloudrift.loop.sounding import key_heard
from cloudrift.texture.finish import Finish


def lay_finish(loop: Loop, line_of: LineAt, finish: Finish, *, behind: bool) -> Loop:
    """Return a loop with a finish in place of a line, or after it, in what is heard there."""
    key, tempo = key_heard(loop), loop.tempo
    if not behind:
        loop = line_edits.set_line(loop, line_of, ())
    return line_edits.insert_treatments(loop, line_of, finish.laid_in(key, tempo))[0]
