"""Falls in deviance and gains in likelihood tested."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.numeric import distributions as tails
from joinery.study.fitted import Fitted
from joinery.support.errors import CallError


@dataclass(frozen=True)
class Nested:
    """The test of the larger model against the smaller: statistic, name, df and p."""

    statistic: float
    name: str
    df1: int
    df2: float
    p: float


def test_of(drop: float, df: int, fit: Fitted) -> tuple[str, float, float]:
    """Return a fall in deviance tested: χ², or F with Pearson's φ of the larger model."""
    phi = fit.estimate.dispersion or np.nan
    if fit.estimate.known:
        return (
            "chi2",
            drop / phi,
            float(tails.chi2_upper(max(drop / phi, 0.0), df)) if df > 0 else np.nan,
        )
    if df > 0:
        f = drop / df / phi
    else:
        f = np.nan
    return (
        "f",
        f,
        float(tails.f_upper(max(f, 0.0), df, fit.residual_df)) if np.isfinite(f) else np.nan,
    )


def deviance_test(small: Fitted, large: Fitted, q: int, *, shape: bool = False) -> Nested:
    """Return what the larger of two nested models adds; ``shape`` when that is a shape of counts
    as well.

    A shape lies at the end of its range when it adds nothing: ½χ²_q + ½χ²_{q+1} (Self & Liang
        1987)."""
    if large.estimate.penalty or small.estimate.penalty:
        raise CallError(
            "penalized fits have no likelihood-ratio test; compare their profile intervals"
        )
    if large.family.shape is not None:
        drop = 2 * (
            (large.estimate.log_likelihood or np.nan) - (small.estimate.log_likelihood or np.nan)
        )
    else:
        drop = small.estimate.deviance - large.estimate.deviance
    if shape:
        drop = max(drop, 0.0)
        upper = [
            float(drop <= 0) if df == 0 else float(tails.chi2_upper(drop, df)) for df in (q, q + 1)
        ]
        return Nested(drop, "χ²", q + 1, np.inf, sum(upper) / 2)
    name, statistic, p = test_of(drop, q, large)
    return Nested(statistic, "χ²" if name == "chi2" else "F", q, float(large.residual_df), p)
