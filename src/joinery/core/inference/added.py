"""Groups of columns that are not in a model: what each would explain, and what would be seen of it.

Throughout e (n,) are the residuals of the fit, Z (n, q) the columns asked about, in groups, and
sums over rows carry the weights of the fit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.numeric import distributions as tails

# a column of which no more is left beside the model's own is one of them but for rounding
NOTHING_LEFT = 1e-9
POWER = 0.8  # how often a departure is to be found that is called visible


@dataclass(frozen=True)
class AddedSums:
    """Sums of some rows, which add up over parts."""

    raw: np.ndarray  # ``centred_sums`` of Z (1 + kept, q)
    squares: tuple[np.ndarray, ...]  # ZᵀWZ of each group
    products: np.ndarray  # ZᵀWe (q,)

    def __add__(self, other: AddedSums) -> AddedSums:
        squares = tuple(a + b for a, b in zip(self.squares, other.squares, strict=True))
        return AddedSums(self.raw + other.raw, squares, self.products + other.products)


def added_groups(
    sums: AddedSums, UZ: np.ndarray, groups: Sequence[np.ndarray], rss: float, df: float
) -> list[Test]:
    """Return F of each group of columns added to a least-squares model.

    Parameters: UᵀWZ (r, q) in an orthonormal basis U of the model; the columns of each group; the
    residual sum of squares and its degrees of freedom. Columns of a group that the model or one
    another explain count for nothing. Size is the partial R². Source: Draper & Smith 1998, 6.1."""
    out = []
    for columns, square in zip(groups, sums.squares, strict=True):
        gain, rank = gained(square, UZ[:, columns], sums.products[columns])
        left = df - rank
        if not rank or left < 1 or rss <= 0:
            out.append(NOTHING)
            continue
        rest = max(rss - gain, 0.0)
        f = np.inf
        if rest > 0:
            f = gain / rank / (rest / left)
        out.append(Test(float(f), float(tails.f_upper(f, rank, left)), (rank, left), gain / rss))
    return out


def gained(square: np.ndarray, UZ: np.ndarray, products: np.ndarray) -> tuple[float, int]:
    """Return the sum of squares that columns explain beyond a model, and how many count."""
    size = np.sqrt(np.diagonal(square))
    here = np.flatnonzero((size > 0) & np.isfinite(size))
    if not len(here):
        return 0.0, 0
    size = size[here]
    if len(here) == 1:  # the common case needs no decomposition
        j = here[0]
        left = float(square[j, j] - UZ[:, j] @ UZ[:, j])
        if not left > NOTHING_LEFT * float(square[j, j]):
            return 0.0, 0
        return float(products[j]) ** 2 / left, 1
    beside = (square[np.ix_(here, here)] - UZ[:, here].T @ UZ[:, here]) / np.outer(size, size)
    if not np.isfinite(beside).all():
        return 0.0, 0
    values, vectors = np.linalg.eigh(beside)
    kept = values > NOTHING_LEFT
    if not kept.any():
        return 0.0, 0
    along = vectors[:, kept].T @ (products[here] / size)
    return float((along**2 / values[kept]).sum()), int(kept.sum())


def smallest_share(chance: float, df1: float, df2: float) -> float:
    """Return the partial R² that a test at ``chance`` finds four times of five.

    From the noncentral F of df1 and df2 degrees of freedom; NaN where there are none."""
    if df1 < 1 or df2 < 1 or not 0 < chance < 1:
        return float("nan")
    limit = float(special.fdtri(df1, df2, 1 - chance))
    noncentral = float(special.ncfdtrinc(df1, df2, 1 - POWER, limit))
    return noncentral / (noncentral + df1 + df2 + 1)


def smallest_shift(chance: float) -> float:
    """Return how many standard errors a normal figure lies off where a two-sided test finds it."""
    return float(special.ndtri(1 - chance / 2) + special.ndtri(POWER))
