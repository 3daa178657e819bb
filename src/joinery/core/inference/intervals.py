"""Intervals for coefficients, for a mean and for a single new row."""

from __future__ import annotations

import numpy as np

from joinery.core.numeric import distributions as tails


def around(
    estimate: np.ndarray, standard_error: np.ndarray, df: float | np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """estimate ± t(df)·standard error: the ends of a two-sided interval at ``level`` (0 to 1).

    NaN where df is 0.
    """
    half_width = (
        tails.t_quantile((1 + level) / 2, np.where(np.asarray(df) > 0, df, np.nan)) * standard_error
    )
    return estimate - half_width, estimate + half_width


def wilson(yes: np.ndarray, n: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Ends of the interval of a share (Wilson 1927); NaN of none."""
    z = float(tails.normal_quantile((1 + level) / 2))
    with np.errstate(all="ignore"):
        share = yes / n
        middle = (share + z * z / (2 * n)) / (1 + z * z / n)
        reach = z * np.sqrt(share * (1 - share) / n + z * z / (4 * n * n)) / (1 + z * z / n)
    return np.minimum(middle - reach, share), np.maximum(middle + reach, share)
