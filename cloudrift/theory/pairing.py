"""Pairing each of one set with one of another at the least cost in all.

The rectangular assignment problem, solved by shortest augmenting paths (D. F. Crouse, "On
implementing 2D rectangular assignment algorithms", IEEE Transactions on Aerospace and Electronic
Systems 52, 2016). For the few voices of chords it is as quick as a library's, whose import would
take longer than all that is paired at the start of the program. Of solutions that cost the same it
finds the one that SciPy's solver finds, which has been ours.
"""

from collections.abc import Sequence
from math import inf

Costs = Sequence[Sequence[float]]


def paired(costs: Costs) -> list[tuple[int, int]]:
    """Return pairs of row and column, by row, whose costs add up to the least.

    Parameters
    ----------
    costs : a finite cost for each row and column; there may be more of either than of the other,
        and then some are left over.
    """
    rows = len(costs)
    columns = len(costs[0]) if rows else 0
    if columns < rows:
        turned = [[row[j] for row in costs] for j in range(columns)]
        return sorted((row, column) for column, row in enumerate(_columns_of(turned)))
    return list(enumerate(_columns_of(costs)))


def _columns_of(costs: Costs) -> list[int]:
    """Return the column of each row; there are as many columns as rows, or more."""
    rows, columns = len(costs), len(costs[0]) if costs else 0
    of_row, of_column = [0.0] * rows, [0.0] * columns  # the prices of the dual problem
    column_at, row_at = [-1] * rows, [-1] * columns
    for new in range(rows):
        least = 0.0
        far = [inf] * columns  # of the shortest way to each column
        came_from = [-1] * columns
        reached = [new]
        closed: list[int] = []
        # From the last on: where all cost the same, each gets its own.
        left = list(range(columns - 1, -1, -1))
        row = new
        while True:
            lowest, at = inf, -1
            here_costs, price = costs[row], of_row[row]
            for i, column in enumerate(left):
                way = least + here_costs[column] - price - of_column[column]
                if way < far[column]:
                    far[column], came_from[column] = way, row
                here = far[column]
                # Of ways that cost the same, one that ends at a free column.
                if here < lowest or (here == lowest and row_at[column] < 0):
                    lowest, at = here, i
            least = lowest
            end = left[at]
            closed.append(end)
            left[at] = left[-1]
            left.pop()
            if row_at[end] < 0:
                break
            row = row_at[end]
            reached.append(row)
        of_row[new] += least
        for row in reached[1:]:
            of_row[row] += least - far[column_at[row]]
        for column in closed:
            of_column[column] -= least - far[column]
        while True:  # along the way, each row gives its column up for the next one
            row = came_from[end]
            row_at[end] = row
            column_at[row], end = end, column_at[row]
            if row == new:
                break
    return column_at
