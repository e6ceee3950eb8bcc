"""Tables as CSV (RFC 4180), with cells that are words and nothing else."""

import csv
import io
from collections.abc import Iterable, Sequence

FORMULA = ("=", "+", "-", "@", "\t", "\r")  # at these a spreadsheet begins to compute


def csv_of(rows: Iterable[Sequence[object]]) -> str:
    """Return rows as CSV. Names come from strangers: words that a spreadsheet would take for a
    formula get an apostrophe before them, which it does not show; numbers stay as they are.
    """
    out = io.StringIO(newline="")
    csv.writer(out).writerows([_cell(value) for value in row] for row in rows)
    return out.getvalue()


def _cell(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value.startswith(FORMULA) else value
