"""The whole model against no predictors: sums of squares, F, and the F it had to beat."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core import tails
from joinery.core.covariance import Sandwich
from joinery.show.numbers import fixed, level_words
from joinery.show.table import Table
from joinery.study.asked import Asked, checked_level


@dataclass(frozen=True)
class OverallTest:
    """F = (explained mean square)/(residual mean square) with its degrees of freedom; NaN where it cannot be had."""

    explained: float
    f: float
    p: float
    df1: int
    df2: int


def overall_test(fit: Asked) -> OverallTest:
    """The overall F test (Draper & Smith 1998, 1.3)."""
    solution = fit.solution
    explained = max(solution.tss - solution.rss, 0.0)
    df1, df2 = fit.model_df, fit.residual_df
    f = float("nan")
    if fit.sandwich is not None and df1 > 0 and df2 > 0 and solution.rss > 0:
        f, df2 = _wald(fit, fit.sandwich)
    elif df1 > 0 and df2 > 0 and solution.rss > 0:
        f = (explained / df1) / (solution.rss / df2)
    return OverallTest(explained, f, float(tails.f_upper(f, df1, df2)) if f == f else f, df1, df2)


def _wald(fit: Asked, sandwich: Sandwich) -> tuple[float, int]:
    """Wald's statistic over its degrees of freedom, for all coefficients but the intercept."""
    solution = fit.solution
    skip = int(solution.has_intercept)
    b = solution.coefficients[solution.kept] / solution.unit
    V = (solution.root @ sandwich.meat @ solution.root.T)[skip:, skip:]
    try:
        statistic = float(b @ np.linalg.solve(V, b)) / len(b)
    except np.linalg.LinAlgError:
        return float("nan"), fit.residual_df
    smallest = float(np.nanmin(sandwich.df))
    return (statistic, int(smallest)) if smallest >= 1 else (float("nan"), fit.residual_df)


def overall(fit: Asked, level: float | None = None) -> Table:
    """The overall table. See ``Fit.overall``."""
    level = fit.level if level is None else checked_level(level)
    if fit.glm is not None:
        from joinery.study.deviance import overall_deviance

        table: Table = overall_deviance(fit, level)
        return table
    test, solution = overall_test(fit), fit.solution
    total_df = solution.n - solution.spans_constant
    df = [test.df1, fit.residual_df, total_df]
    ss = [value * solution.unit * solution.unit for value in (test.explained, solution.rss, solution.tss)]
    ms = [s / d if d > 0 else np.nan for s, d in zip(ss, df)]
    critical = float(tails.f_quantile(level, test.df1, test.df2)) if test.df1 > 0 and test.df2 > 0 else np.nan
    blank = [np.nan, np.nan]
    notes = []
    if fit.sandwich is not None:
        notes.append(f"F is Wald's, from the chosen covariance, with {test.df1} and {test.df2} degrees of freedom")
    if fit.r_squared is not None:
        notes.append(
            f"explained / total = R² = {fixed(fit.r_squared, 4)}"
            + ("" if fit.sandwich else "; F is the explained mean square over the residual one")
        )
    if test.f == test.f:
        beats = "exceeds" if test.f > critical else "does not reach"
        notes.append(f"F {beats} {critical:.3g}, the critical value at the {level_words(level)} level")
    if not solution.spans_constant:
        notes.append("there is no intercept: sums of squares are about zero, not about the mean")
    return Table(
        {
            "part": ["explained", "residual", "total"],
            "df": df,
            "ss": ss,
            "ms": ms,
            "f": [test.f, *blank],
            "p": [test.p, *blank],
            "critical_f": [critical, *blank],
        },
        title="The whole model against no predictors",
        notes=tuple(notes),
        kinds={"f": "own", "critical_f": "own"},
    )
