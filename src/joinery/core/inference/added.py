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
    gain, rank = gains(sums, UZ, groups)
    left = df - rank
    with np.errstate(all="ignore"):
        rest = np.maximum(rss - gain, 0.0)
        f = np.where(rest > 0, gain / rank / (rest / left), np.inf)
    p, size = tails.f_upper(f, rank, left), gain / max(rss, 1e-300)
    testable = (rank > 0) & (left >= 1) & (rss > 0)
    out = []
    for i in range(len(groups)):
        if testable[i]:
            degrees = (int(rank[i]), float(left[i]))
            out.append(Test(float(f[i]), float(p[i]), degrees, float(size[i])))
        else:
            out.append(NOTHING)
    return out


def gains(
    sums: AddedSums, UZ: np.ndarray, groups: Sequence[np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Return the sum of squares that each group explains beyond a model, and how many of its
    columns count: each (groups,)."""
    gain, rank = np.zeros(len(groups)), np.zeros(len(groups), int)
    widths = np.array([len(columns) for columns in groups])
    for width in np.unique(widths[widths > 0]).tolist():
        here = np.flatnonzero(widths == width)  # groups of one width are worked out together
        columns = np.array([groups[i] for i in here.tolist()])
        squares = np.array([sums.squares[i] for i in here.tolist()])
        beside = UZ[:, columns].transpose(1, 0, 2)
        gain[here], rank[here] = _gains(squares, beside, sums.products[columns])
    return gain, rank


def gained(square: np.ndarray, UZ: np.ndarray, products: np.ndarray) -> tuple[float, int]:
    """Return the sum of squares that columns explain beyond a model, and how many count."""
    if not len(products):
        return 0.0, 0
    gain, rank = _gains(square[None], UZ[None], products[None])
    return float(gain[0]), int(rank[0])


def _gains(
    squares: np.ndarray, UZ: np.ndarray, products: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return the same of groups of one width: (g, w, w), (g, r, w) and (g, w)."""
    with np.errstate(all="ignore"):
        size = np.sqrt(np.diagonal(squares, axis1=1, axis2=2))
        known = (size > 0) & np.isfinite(size)
        size = np.where(known, size, 1.0)
        left = squares - UZ.transpose(0, 2, 1) @ UZ
        left = left / (size[:, :, None] * size[:, None, :])
    left = np.where(known[:, :, None] & known[:, None, :], left, 0.0)
    finite = np.isfinite(left).all(axis=(1, 2))
    left[~finite] = 0.0
    values, vectors = np.linalg.eigh(left)
    kept = values > NOTHING_LEFT
    along = np.einsum("gji,gj->gi", vectors, np.where(known, products / size, 0.0))
    gain = np.where(kept, along**2 / np.where(kept, values, 1.0), 0.0).sum(axis=1)
    return gain, kept.sum(axis=1)


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
