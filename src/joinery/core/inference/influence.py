"""Influence of each row on a least-squares fit: leverage, scaled residuals, deletion.

Belsley, Kuh & Welsch 1980, *Regression Diagnostics*, chapter 2; Cook 1977. Every figure equals what
leaving the row out and fitting again gives, the design columns held as they are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.blocks.columns import Columns
from joinery.core.blocks.products import times_transpose
from joinery.core.least_squares.solution import Solution
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import EPS

TINY = 1e-300  # a chance that is as good as none
FARTHEST_ROWS = 1000  # rows of the highest leverage whose chances are added up


@dataclass(frozen=True)
class Influence:
    """Per-row figures, each (n,); NaN where one does not exist (leverage 1, or no df left)."""

    leverage: np.ndarray
    standardized: np.ndarray  # e√w / (s√(1−h)): internally studentized
    studentized: np.ndarray  # with s of the fit that left the row out: externally studentized
    cooks_distance: np.ndarray
    dffits: np.ndarray
    covratio: np.ndarray

    def of(self, rows: np.ndarray) -> Influence:
        """Return the figures of some of the rows, by a mask or their places."""
        return Influence(*(getattr(self, name)[rows] for name in self.__annotations__))


@dataclass(frozen=True)
class Scaled:
    """Residuals on the scale of their own standard deviation, each (n,)."""

    leverage: np.ndarray
    left: np.ndarray  # 1 − h, NaN where nothing is left
    e: np.ndarray  # residuals times √w, in the solution's unit
    variance: float  # s², or what it is known to be
    loss: np.ndarray  # what the sum of squares loses when the row is left out
    standardized: np.ndarray
    cooks_distance: np.ndarray


def scaled(
    solution: Solution,
    X: Columns,
    residual: np.ndarray,
    weights: np.ndarray | None = None,
    known: float | None = None,
    variance: np.ndarray | None = None,
) -> Scaled:
    """Return leverage, standardized residuals and Cook's distances of fitted rows.

    Parameters and source as for ``influence``.
    """
    if variance is None:
        h = solution.unscaled_variance(X)
    else:
        h = variance.copy()
    if weights is not None:
        h *= weights
    # rounding leaves a leverage of one a few units below it: the row would have an endless residual
    h[h > 1 - 64 * EPS * max(solution.rank, 1)] = 1.0
    p, df = solution.rank, solution.residual_df
    with np.errstate(all="ignore"):
        left = 1 - h
        left[(h >= 1) if weights is None else (h >= 1) | (weights <= 0)] = np.nan
        if solution.unit == 1:
            e = residual
        else:
            e = residual / solution.unit
        if weights is not None:
            e = np.sqrt(weights) * e
        if known is not None:
            s2 = known**2
        elif df > 0:
            s2 = solution.rss / df
        else:
            s2 = np.nan
        loss = e * e / left
        standardized = e / np.sqrt(s2 * left)
        if p:
            cooks = loss * (h / left) / (p * s2)
        else:
            cooks = np.zeros(len(e))
    if solution.perfect:
        # nothing is left to divide by: a perfect fit has no scaled residuals
        standardized = cooks = np.full(len(e), np.nan)
    return Scaled(h, left, e, float(s2), loss, standardized, cooks)


def influence(
    solution: Solution,
    X: Columns,
    residual: np.ndarray,
    weights: np.ndarray | None = None,
    known: float | None = None,
    variance: np.ndarray | None = None,
) -> Influence:
    """Return influence figures of fitted rows.

    Parameters: the solution; X (n, k) without the constant; raw residuals y − fitted (n,); weights
    (n,) or None; a ``known`` standard deviation in the solution's unit, where it is not
    estimated; the ``variance`` xᵀ(XᵀWX)⁻¹x of each row, where it is at hand. Returns an Influence.
    Source: Belsley, Kuh & Welsch 1980, (2.2) to (2.36)."""
    result = scaled(solution, X, residual, weights, known, variance)
    p, df, n, s2 = solution.rank, solution.residual_df, len(result.e), result.variance
    with np.errstate(all="ignore"):
        if df > 1:
            # the residual sum of squares without each row needs no fit: (2.21)
            without = (solution.rss - result.loss) / (df - 1)
        else:
            without = np.full(n, np.nan)
        if known is not None:
            without = np.full(n, s2)
        # leaving the one bad row out can make the fit perfect; rounding may then fall below zero
        without[without <= 64 * EPS * s2] = 0.0
        studentized = result.e / np.sqrt(without * result.left)
        dffits = studentized * np.sqrt(result.leverage / result.left)
        covratio = (without / s2) ** p / result.left
    if solution.perfect:
        studentized = dffits = covratio = np.full(n, np.nan)
    return Influence(
        result.leverage, result.standardized, studentized, result.cooks_distance, dffits, covratio
    )


def changes(
    solution: Solution,
    X: np.ndarray,
    studentized: np.ndarray,
    leverage: np.ndarray,
    weights: np.ndarray,
) -> np.ndarray:
    """Return DFBETAS (n, rank): each coefficient's change without each row, in its standard errors.

    Parameters: X (n, k); the rows' studentized residuals, leverage and weights, each (n,).
    Source: Belsley, Kuh & Welsch 1980, (2.7).
    """
    with np.errstate(all="ignore"):
        # C = (XᵀX)⁻¹Xᵀ row by row, over its lengths, times the studentized residual
        pull = studentized * np.sqrt(weights / np.where(leverage < 1, 1 - leverage, np.nan))
        return np.asarray(
            pull[:, None]
            * times_transpose(solution.root, solution.in_basis(X)).T
            / solution.error_factors
        )


def chance_limit(leverage: np.ndarray, p: int, df: float, share: float) -> float:
    """Return the Cook's distance that some row of a sound table passes with probability ``share``.

    Parameters: leverages (n,); p coefficients; ``df`` of the residuals, ∞ where the dispersion is
    known. D = r²·h/(1 − h)/p, and r²/df has a beta distribution (Cook & Weisberg 1982, 2.2); the
    rows' probabilities are added up (Bonferroni).
    """
    h = leverage[(leverage > 0) & (leverage < 1)]
    if not len(h) or p < 1 or not df > 1:
        return 0.0
    h = np.sort(h)[-FARTHEST_ROWS:]  # of the others none comes near
    pull = h / (1 - h) / p

    def passed(limit: float) -> float:
        r2 = limit / pull
        if np.isinf(df):
            return float(special.erfc(np.sqrt(r2 / 2)).sum())
        return float(special.betainc((df - 1) / 2, 0.5, np.clip(1 - r2 / df, 0.0, 1.0)).sum())

    # between what one row of the highest leverage passes so often, and what so many of them would
    low, high = float(pull.max()) * _squares_beyond(np.array([share, share / len(pull)]), df)
    above, below = (np.log(max(passed(end), TINY) / share) for end in (low, high))
    # the logarithm of the chance is nearly straight in the limit: false position, an end that
    # stays twice halved (Dowell & Jarratt 1971)
    stayed = 0
    while high - low > 1e-12 * high:
        middle = high - below * (high - low) / (below - above)
        at = np.log(max(passed(middle), TINY) / share)
        if abs(at) <= 1e-12:
            return float(middle)
        if at > 0:
            low, above, below = middle, at, below / 2 if stayed > 0 else below
            stayed = 1
        else:
            high, below, above = middle, at, above / 2 if stayed < 0 else above
            stayed = -1
    return float(high)


def _squares_beyond(share: np.ndarray, df: float) -> np.ndarray:
    """Return the squared standardized residuals that a row of a sound table passes with
    probabilities."""
    if np.isinf(df):
        return np.asarray(special.ndtri(share / 2) ** 2)
    return np.asarray(df * (1 - special.betaincinv((df - 1) / 2, 0.5, share)))


def harm_limit(p: int, df: int) -> float:
    """Return Cook's distance of a row that decides: the median of F(p, n − p), at most 1."""
    if p > 0 and df > 0:
        return float(min(1.0, tails.f_quantile(0.5, p, df)))
    return float("nan")
