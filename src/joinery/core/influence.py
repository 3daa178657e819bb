"""What each row does to a least-squares fit: leverage, scaled residuals, and the change when the row is left out.

Belsley, Kuh & Welsch 1980, *Regression Diagnostics*, chapter 2; Cook 1977. Every figure equals what leaving the row
out and fitting again gives, the design columns held as they are.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core import tails
from joinery.core.solution import Solution
from joinery.core.triangular import EPS


@dataclass(frozen=True)
class Influence:
    """Per-row figures, each (n,), NaN where a figure does not exist (leverage 1, or no degrees of freedom)."""

    leverage: np.ndarray
    standardized: np.ndarray  # e√w / (s√(1−h)): internally studentized
    studentized: np.ndarray  # with s of the fit that left the row out: externally studentized
    cooks_distance: np.ndarray
    dffits: np.ndarray
    covratio: np.ndarray


def influence(solution: Solution, X: np.ndarray, residual: np.ndarray, weights: np.ndarray | None = None) -> Influence:
    """Influence figures of fitted rows.

    Parameters: the solution; X (n, k) without the constant; raw residuals y − fitted (n,); weights (n,) or None.
    Returns an Influence. Source: Belsley, Kuh & Welsch 1980, (2.2) to (2.36).
    """
    w = np.ones(len(residual)) if weights is None else weights
    h = np.minimum(w * solution.unscaled_variance(X), 1.0)
    h = np.where(1 - h < 64 * EPS * max(solution.rank, 1), 1.0, h)
    p, df = solution.rank, solution.residual_df
    used = w > 0
    with np.errstate(all="ignore"):
        left = np.where((h < 1) & used, 1 - h, np.nan)
        e = np.sqrt(w) * (residual / solution.unit)
        s2 = solution.rss / df if df > 0 else np.nan
        standardized = e / np.sqrt(s2 * left)
        without = (solution.rss - e**2 / left) / (df - 1) if df > 1 else np.full(len(e), np.nan)
        # leaving the one bad row out can make the fit perfect; rounding may then fall below zero
        without = np.where(without <= 64 * EPS * s2, 0.0, without)
        studentized = e / np.sqrt(without * left)
        cooks = standardized**2 * h / (left * p) if p else np.zeros(len(e))
        dffits = studentized * np.sqrt(h / left)
        covratio = (without / s2) ** p / left
    if solution.perfect:
        nothing = np.full(len(e), np.nan)
        standardized = studentized = cooks = dffits = covratio = nothing
    return Influence(h, standardized, studentized, cooks, dffits, covratio)


def harm_limit(p: int, df: int) -> float:
    """The Cook's distance from which a row decides the answer: the median of F(p, n − p), at most 1 (Cook 1977)."""
    return float(min(1.0, tails.f_quantile(0.5, p, df))) if p > 0 and df > 0 else float("nan")
