"""The share of each term in the response: simple, partial and semipartial correlations."""

from __future__ import annotations

import numpy as np

from joinery.show.appearance import Appearance
from joinery.show.table import Table
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates, t_values
from joinery.support.errors import CallError


def term_correlations(fit: Fitted) -> Table:
    """Return the table of correlations with the response. See ``Fit.term_correlations``."""
    if not fit.estimate.linear:
        raise CallError("correlations with the response belong to the normal family")
    e = estimates(fit, plain=True)
    skip, df = int(fit.solution.has_intercept), fit.residual_df
    t = t_values(e)[skip:]
    with np.errstate(all="ignore"):
        if fit.estimate.known:  # correlations are of the rows, whatever dispersion was given
            s = np.sqrt(fit.solution.rss / df) * fit.solution.unit
            t = t * (fit.estimate.scale or np.nan) / s
        partial = t / np.sqrt(t**2 + df)
        if df > 0:
            unexplained = np.sqrt(max(1 - (fit.r_squared or 0.0), 0.0) / df)
        else:
            unexplained = np.nan
    return Table(
        {
            "term": list(e.names)[skip:],
            "simple_r": simple_correlations(fit),
            "partial_r": partial,
            "semipartial_r": t * unexplained,
        },
        title="What each term shares with the response",
        notes=(
            "simple: the term's column with the response; partial: both less what the other terms "
            "explain; semipartial: the column alone less that, so that its square is what R² would "
            "lose without it",
        ),
        appearance=Appearance(
            kinds=dict.fromkeys(("simple_r", "partial_r", "semipartial_r"), "correlation"),
            headings={"simple_r": "simple r", "partial_r": "partial r"}
            | {"semipartial_r": "semipartial r"},
        ),
    )


def simple_correlations(fit: Fitted) -> np.ndarray:
    """Return correlation of each design column with the response, from the triangular factor:
    (width,).

    NaN without an intercept, where the factor is not about the mean.
    """
    solution = fit.solution
    out = np.full(fit.design.width, np.nan)
    if solution.tss > 0 and solution.has_intercept and fit.estimate.linear:
        shared = solution.products_with_response / solution.lengths
        out[solution.kept] = shared / solution.unit / np.sqrt(solution.tss)
    return out
