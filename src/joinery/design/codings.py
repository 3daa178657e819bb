"""Codings: the columns of a category's levels."""

from __future__ import annotations

from itertools import combinations, product

import numpy as np

Subset = frozenset[int]


def coding_matrix(coding: str, levels: int) -> np.ndarray:
    """Return one row a level, one column less: indicator, effect (sum to zero) or helmert.

    The first level is the reference.

    Indicator: 1 for the level. Effect: the same, the reference −1. Helmert: each level against the
    mean of those before it, so that a column's coefficient is that difference."""
    out = np.zeros((levels, levels - 1))
    for j in range(levels - 1):
        if coding == "helmert":
            out[: j + 1, j] = -1 / (j + 2)
            out[j + 1, j] = (j + 1) / (j + 2)
        else:
            out[j + 1, j] = 1.0
    if coding == "effect":
        out[0, :] = -1.0
    return out


def subsets(members: range) -> list[Subset]:
    """Return every subset, small ones first."""
    return [frozenset(c) for size in range(len(members) + 1) for c in combinations(members, size)]


def open_cells(counts: tuple[int, ...], still_open: list[Subset]) -> list[tuple[int, ...]]:
    """Return the combinations of levels that get an indicator column of their own.

    A combination stands for the set of its factors that are not at their reference level. Exactly
    those combinations
    whose set nothing earlier has spanned are needed: with the part already spanned they make up the
        whole space."""
    wanted = set(still_open)
    return [
        cell
        for cell in product(*map(range, counts))
        if frozenset(i for i, level in enumerate(cell) if level) in wanted
    ]
