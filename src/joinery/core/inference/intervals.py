"""Intervals for coefficients, for a mean and for a single new row."""

from __future__ import annotations

import numpy as np

from joinery.core.numeric import distributions as tails


def t_times(level: float, df: float | np.ndarray, together: int = 1) -> np.ndarray:
    """Return how many standard errors a two-sided interval reaches for each df; NaN where that is
    0.

    ``together`` so many intervals hold jointly at least at the level (Bonferroni)."""
    share, df = 1 - (1 - level) / (2 * together), np.asarray(df, dtype=float)
    if df.size > 1 and (df == df.flat[0]).all():  # most often all are the same
        return np.full(df.shape, t_times(level, df.flat[0], together))
    return np.asarray(tails.t_quantile(share, np.where(df > 0, df, np.nan)))


def joint_times(level: float, q: int, df: float, *, hotelling: bool) -> float:
    """Return the same for every combination in q dimensions at once; NaN where they are too many.

    √(q·F(q, df)) where all rest on one variance (Scheffé 1959). Under a sandwich each combination
    has a variance of its own: Hotelling's c² = q·df/(df − q + 1)·F(q, df − q + 1).
    """
    if q < 1:
        return np.nan
    if hotelling:
        rest = df - q + 1
    else:
        rest = df
    if not rest > 0:
        return np.nan
    if np.isfinite(df):
        factor = df / rest
    else:
        factor = 1.0
    with np.errstate(over="ignore"):  # next to no degrees of freedom: no finite end holds
        return float(np.sqrt(q * factor * tails.f_quantile(level, q, rest)))


def around(
    estimate: np.ndarray, standard_error: np.ndarray, df: float | np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return estimate ± t(df)·standard error: the ends of a two-sided interval at ``level`` (0 to
    1).

    NaN where df is 0.
    """
    half_width = t_times(level, df) * standard_error
    return estimate - half_width, estimate + half_width


def wilson(yes: np.ndarray, n: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Return ends of the interval of a share (Wilson 1927); NaN of none."""
    z = float(tails.normal_quantile((1 + level) / 2))
    with np.errstate(all="ignore"):
        share = yes / n
        middle = (share + z * z / (2 * n)) / (1 + z * z / n)
        reach = z * np.sqrt(share * (1 - share) / n + z * z / (4 * n * n)) / (1 + z * z / n)
    return np.minimum(middle - reach, share), np.maximum(middle + reach, share)
