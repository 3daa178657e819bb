"""Effect sizes of sums of squares, with intervals from the noncentral F."""

from __future__ import annotations

import numpy as np
from scipy import special

FARTHEST = 1e8  # noncentrality beyond which an effect is everything


def partial_eta2(f: float, df: int, residual_df: float) -> float:
    """Return SS/(SS + RSS) of a line with F on its degrees of freedom."""
    return float(f * df / (f * df + residual_df))


def omega2(ss: float, df: int, ms_residual: float, total: float) -> float:
    """Return (SS − df·s²)/(SST + s²), the share of the total less what chance gives (Hays 1963)."""
    return float((ss - df * ms_residual) / (total + ms_residual))


def eta2_ends(f: float, df: int, residual_df: float, level: float) -> tuple[float, float]:
    """Return the ends of partial η²: λ/(λ + df + residual df + 1) at the ends of λ (Smithson 2001).

    λ's ends are the noncentralities under which F is as small, or as large, with half of 1 − level.
    """
    lower = noncentrality(f, df, residual_df, (1 + level) / 2)
    upper = noncentrality(f, df, residual_df, (1 - level) / 2)
    rest = df + residual_df + 1
    return lower / (lower + rest), upper / (upper + rest)


def noncentrality(f: float, df: int, residual_df: float, share: float) -> float:
    """Return λ under which the noncentral F lies below f with probability ``share``; 0 where none
    does."""
    from scipy import optimize  # takes its time to import

    def above(nc: float) -> float:
        return float(special.ncfdtr(df, residual_df, nc, f)) - share

    if not above(0.0) > 0:
        return 0.0
    high = max(4.0 * f * df, 16.0)
    while above(high) > 0 and high < FARTHEST:
        high *= 2
    if high >= FARTHEST:
        return np.inf
    return float(optimize.brentq(above, 0.0, high, xtol=1e-12, rtol=1e-13))
