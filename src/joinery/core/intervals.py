"""Intervals for coefficients, for a mean and for a single new row."""

from __future__ import annotations

import numpy as np

from joinery.core import tails


def around(estimate: np.ndarray, standard_error: np.ndarray, df: float, level: float) -> tuple[np.ndarray, np.ndarray]:
    """estimate ± t(df)·standard error: the ends of a two-sided interval at ``level`` (0 to 1)."""
    reach = tails.t_quantile((1 + level) / 2, df) * standard_error if df > 0 else np.full_like(estimate, np.nan)
    return estimate - reach, estimate + reach
