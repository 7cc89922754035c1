"""Copies that contend for the same documents are assigned together: no two of one generation belong to one document."""

from __future__ import annotations

import math
from collections.abc import Sequence

from rustfern.core.model import Evidence
from rustfern.matching.evidence.weights import NONE_ODDS, total

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


def _solve(odds: Sequence[Sequence[float]]) -> tuple[float, list[int | None]]:
    """The likeliest assignment: (its log-odds, the column of each row or None). The Hungarian method, with a column "none" for each row."""
    import numpy as np
    from scipy.optimize import linear_sum_assignment

    rows, columns = len(odds), len(odds[0])
    matrix = np.full((rows, columns + rows), _NEVER)
    matrix[:, :columns] = odds
    for number in range(rows):
        matrix[number, columns + number] = NONE_ODDS
    _, chosen = linear_sum_assignment(matrix, maximize=True)
    picked = [int(column) if column < columns else None for column in chosen]
    return float(sum(matrix[row, column] for row, column in enumerate(chosen))), picked
