"""Sums of squares and tests from a triangular factor alone.

R (r, r) is the factor of the columns and g (r,) = Qᵀy, so that a model in a subset S of columns
explains what the triangle of [R_S | g] has above its last row."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy import linalg

from joinery.core.least_squares.groups import Groups
from joinery.core.least_squares.solution import Solution
from joinery.core.numeric.triangular import backward, forward, triangle


def explained(solution: Solution, before: np.ndarray, places: np.ndarray) -> tuple[float, int]:
    """Return what columns of a least-squares fit explain beyond others: see ``extra``.

    Parameters: places among the kept columns of those ``before``, and of those asked about. The sum
    of squares is in the solution's unit."""
    if (groups := solution.groups) is not None:
        full = [int(np.isin(groups.levels, p).sum()) for p in (before, places)]
        if all(count in (0, len(groups.levels)) for count in full):
            unit = solution.unit
            scaled = replace(groups, response=groups.response / unit, effects=groups.effects / unit)
            return _beside_levels(scaled, before, places)
    return extra(
        solution.factor,
        solution.effects / solution.unit,
        before,
        places,
        solution.constant_direction,
        solution.inverse,
    )


def _beside_levels(groups: Groups, before: np.ndarray, places: np.ndarray) -> tuple[float, int]:
    """Return the same where levels were swept out, all of them asked about, before, or neither."""
    earlier, wanted = (np.flatnonzero(np.isin(groups.numbers, p)) for p in (before, places))
    d, levels = len(groups.numbers), groups.levels[:1]
    if np.isin(levels, before).any():
        return extra(groups.factor, groups.effects, earlier, wanted)
    alone = groups.numbers_alone
    if not np.isin(levels, places).any():
        return extra(alone[:, :d], alone[:, d], earlier, wanted)
    # what the columns before leave of the response lies across them: the levels and the columns
    # asked about take their share of it in the groups' means, the columns also within groups
    T = triangle(alone[:, [*earlier, d]])
    slopes = backward(T[:-1, :-1], T[:-1, -1])
    left = groups.response_away - slopes @ groups.away[earlier]
    weighted = groups.weights * left
    within = forward(triangle(groups.factor[:, earlier]), groups.away[earlier] @ weighted)
    ss = float(left @ weighted) + float(within @ within)
    if len(wanted):
        ss += extra(groups.factor, groups.effects, earlier, wanted)[0]
    return ss, len(places)


def extra(
    R: np.ndarray,
    g: np.ndarray,
    before: np.ndarray,
    places: np.ndarray,
    constant: np.ndarray | None = None,
    inverse: np.ndarray | None = None,
) -> tuple[float, int]:
    """Return what columns explain beyond others: the sum of squares and its degrees of freedom.

    Parameters: R (r, q) independent columns in an orthonormal basis, and g (r,) the response;
    places of the columns ``before``, and of those asked about; ``constant`` (r,) where columns
    hold it unwritten: it always comes before; the ``inverse`` of R where R is upper triangular, so
    that few columns among many cost no factor of the many.
    Source: Golub & Van Loan, *Matrix Computations*, 5.3; Draper & Smith 1998, 6.1.
    """
    if not len(places):
        return 0.0, 0
    if constant is None and inverse is not None:
        if np.array_equal(np.append(before, places), np.arange(len(before) + len(places))):
            return float(g[places] @ g[places]), len(places)
        apart = np.ones(len(R), bool)
        apart[before] = apart[places] = False
        outside = np.flatnonzero(apart)
        if len(outside) + len(places) < len(before):
            # rows of the inverse span what is left of their columns beside all the others
            rows = inverse[np.append(outside, places)]
            rows = rows / np.sqrt((rows * rows).sum(axis=1))[:, None]
            part = linalg.qr(rows.T, mode="economic")[0][:, len(outside) :].T @ g
            return float(part @ part), len(places)
    if constant is None:
        T = triangle(np.column_stack([R[:, before], R[:, places], g]))
        part = T[len(before) : len(before) + len(places), -1]
        return float(part @ part), len(places)
    first = _basis(np.column_stack([constant, R[:, before]]))
    left = R[:, places] - first @ (first.T @ R[:, places])
    # once more, for the digits that the first time cancelled
    left = left - first @ (first.T @ left)
    basis = _basis(left, np.sqrt((R[:, places] ** 2).sum(axis=0)))
    part = basis.T @ g
    return float(part @ part), basis.shape[1]


def _basis(A: np.ndarray, sizes: np.ndarray | None = None) -> np.ndarray:
    """Return an orthonormal basis of the columns of A that are larger than rounding of
    ``sizes``."""
    if not A.shape[1]:
        return np.zeros((len(A), 0))
    if sizes is None:
        sizes = np.sqrt((A * A).sum(axis=0))
    kept = np.sqrt((A * A).sum(axis=0)) > 1e-10 * sizes
    Q, values, _ = linalg.svd(A[:, kept] / sizes[kept], full_matrices=False, lapack_driver="gesvd")
    return np.asarray(Q[:, values > 1e-10])
