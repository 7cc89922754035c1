"""Copies that contend for the same documents are assigned together: no two of one generation belong to one document."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rustfern.core.model import Evidence
from rustfern.matching.evidence.weights import NONE_ODDS, total

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_NEVER = -1e6


def assign(groups: Sequence[Sequence[Sequence[Evidence]]]) -> list[tuple[int | None, float]]:
    """For each copy the candidate that it belongs to, or None, and how sure that is (0 to 1).

    `groups` are rows of copies; each holds the evidence for every candidate, the same candidates in every row. "Belongs to
    none" is a choice of each row. Sure is how much likelier this assignment is than the best one without this pair.
    """
    columns = len(groups[0]) if groups else 0
    if not columns:
        return [(None, 0.0) for _ in groups]
    prior = -math.log(columns)
    odds = [[total(pieces) + prior if pieces else _NEVER for pieces in row] for row in groups]
    if len(odds) == 1:
        return [_alone(odds[0])]
    best, chosen = _solve(odds)
    out: list[tuple[int | None, float]] = []
    for number, column in enumerate(chosen):
        if column is None:
            out.append((None, 0.0))
            continue
        without = [list(row) for row in odds]
        without[number][column] = _NEVER
        out.append((column, 1.0 / (1.0 + math.exp(min(_solve(without)[0] - best, 50.0)))))
    return out


def _alone(odds: Sequence[float]) -> tuple[int | None, float]:
    """The same of one copy: the likeliest candidate, if it is likelier than none."""
    best = max(odds)
    if best < NONE_ODDS:
        return None, 0.0
    column = odds.index(best)
    without = max([NONE_ODDS, *odds[:column], *odds[column + 1 :]])
    return column, 1.0 / (1.0 + math.exp(min(without - best, 50.0)))


def _solve(odds: Sequence[Sequence[float]]) -> tuple[float, list[int | None]]:
    """The likeliest assignment: (its log-odds, the column of each row or None), with a column "none" for each row."""
    import numpy as np

    rows, columns = len(odds), len(odds[0])
    matrix = np.full((rows, columns + rows), _NEVER)
    matrix[:, :columns] = odds
    matrix[np.arange(rows), columns + np.arange(rows)] = NONE_ODDS
    chosen = cheapest(-matrix)
    picked = [column if column < columns else None for column in chosen]
    return float(sum(matrix[row, column] for row, column in enumerate(chosen))), picked


def cheapest(costs: NDArray[np.float64]) -> list[int]:
    """The column of each row, no two the same, so that the sum of their costs is least; `costs` has the shape (rows, columns), no fewer columns than rows.

    Source: the Hungarian method by shortest augmenting paths (R. Jonker and A. Volgenant, Computing 38, 1987): rows are taken in one after the other, each
    along the cheapest path that frees a column for it.
    """
    import numpy as np

    rows, columns = costs.shape
    of_row, of_column = np.zeros(rows), np.zeros(columns)
    """What each row and each column takes off a cost: none is below zero then, and those of chosen pairs are zero."""
    owner = np.full(columns, -1)
    for row in range(rows):
        least, before = np.full(columns, np.inf), np.full(columns, -1)
        is_done = np.zeros(columns, bool)
        at, last = row, -1
        while True:
            reduced = costs[at] - of_row[at] - of_column
            is_nearer = ~is_done & (reduced < least)
            least[is_nearer], before[is_nearer] = reduced[is_nearer], last
            nearest = int(np.argmin(np.where(is_done, np.inf, least)))
            step = least[nearest]
            of_row[row] += step
            of_row[owner[is_done]] += step
            of_column[is_done] -= step
            least[~is_done] -= step
            is_done[nearest] = True
            last = nearest
            if owner[nearest] < 0:
                break
            at = int(owner[nearest])
        while last >= 0:
            previous = int(before[last])
            owner[last] = owner[previous] if previous >= 0 else row
            last = previous
    chosen = np.full(rows, -1)
    chosen[owner[owner >= 0]] = np.flatnonzero(owner >= 0)
    return [int(column) for column in chosen]
