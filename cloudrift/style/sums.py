"""Lines for all of an arrangement: a finish, and how hard it is pushed."""

from cloudrift.ground.errors import CloudriftError, did_you_mean
from cloudrift.texture.finish_files import house_finishes
from cloudrift.texture.treatment import Line

SUMS = {"drive, then limit": "Drive, then limit", "clip, then limit": "Clip, then limit"}
NOTHING, OWN = "none", "its own"
PUSH, PUSH_DB, MOST_PUSH_DB = "push_db", 2.0, 12.0  # of the limiter, which comes last


def sum_line(what: str, push_db: float = PUSH_DB) -> Line:
    """Return the line of a sum by name, its limiter pushed by that many dB; no line for nothing.

    Raises CloudriftError that says the nearest for a name that is not known.
    """
    if what == NOTHING:
        return ()
    if what not in SUMS:
        raise CloudriftError(
            f"there is no master chain called {what!r}{did_you_mean(what, (NOTHING, *SUMS))}"
        )
    finish = next(one for one in house_finishes() if one.name == SUMS[what])
    return (*finish.line[:-1], finish.line[-1].set(PUSH, push_db))


def sum_of(line: Line) -> tuple[str, float]:
    """Return which sum a line is, and how many dB it is pushed by; or that it is one of its own."""
    if not line:
        return NOTHING, PUSH_DB
    push_db = line[-1].full.number(PUSH) if line[-1].kind == "limiter" else PUSH_DB
    return next(
        ((name, push_db) for name in SUMS if sum_line(name, push_db) == line), (OWN, push_db)
    )
