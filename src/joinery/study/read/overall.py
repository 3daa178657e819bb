"""The whole model against no predictors: squares or deviances, and the test."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.inference.covariance import Joint
from joinery.core.numeric import distributions as tails
from joinery.show.appearance import Appearance
from joinery.show.numbers import fixed, level_words, percent
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.read.estimates import test_together
from joinery.study.read.notes import choice_notes, estimate_notes


@dataclass(frozen=True)
class OverallTest:
    """The statistic with its degrees of freedom; NaN where it cannot be had, with the reason."""

    name: str  # "f", or "chi2" of deviances where the dispersion is known
    statistic: float
    df1: int
    df2: float
    p: float
    why: str = ""

    def critical(self, level: float) -> float:
        """Return the value that the statistic passes by chance alone with probability 1 − level."""
        if not self.df1 > 0 or not self.df2 > 0:
            return float("nan")
        if self.name == "chi2":
            return float(tails.chi2_quantile(level, self.df1))
        return float(tails.f_quantile(level, self.df1, self.df2))


def overall_test(fit: Fitted) -> OverallTest:
    """Return F of the explained over the residual mean square (Draper & Smith 1998, 1.3).

    Of deviances χ² or F.

    With another covariance than the plain one Wald's, for all that the terms hold beside the
    constant."""
    df1 = fit.model_df
    if fit.sandwich is not None:
        joint = _wald(fit)
        return OverallTest("f", joint.f, df1, joint.df2, joint.p, joint.why)
    if fit.estimate.linear:
        return OverallTest("f", *_of_squares(fit, df1))
    if fit.estimate.known:
        statistic = fit.estimate.overall_drop / (fit.estimate.dispersion or np.nan)
        if df1 > 0:
            p = float(tails.chi2_upper(max(statistic, 0.0), df1))
        else:
            p = np.nan
        return OverallTest("chi2", statistic, df1, np.inf, p)
    return OverallTest("f", *_over_dispersion(fit, fit.estimate.overall_drop, df1))


def _of_squares(fit: Fitted, df1: int) -> tuple[float, int, float, float]:
    """Return F of the explained sum of squares, in the solution's own unit, where squares exist."""
    s, scale = fit.solution, (fit.estimate.scale or 0.0) / fit.solution.unit
    if df1 > 0 and scale > 0 and not s.perfect:
        f = max(s.tss - s.rss, 0.0) / df1 / scale**2
    else:
        f = float("nan")
    return _with_p(fit, f, df1)


def _over_dispersion(fit: Fitted, drop: float, df1: int) -> tuple[float, int, float, float]:
    """Return F of a fall in deviance."""
    phi = fit.estimate.dispersion
    return _with_p(fit, drop / df1 / phi if df1 > 0 and phi else float("nan"), df1)


def _with_p(fit: Fitted, f: float, df1: int) -> tuple[float, int, float, float]:
    """Return F, its degrees of freedom, and p."""
    df2 = fit.estimate.reference_df
    return (
        f,
        df1,
        df2,
        float(tails.f_upper(max(f, 0.0), df1, df2)) if f == f and df2 > 0 else float("nan"),
    )


def _wald(fit: Fitted) -> Joint:
    """Return all that the columns hold beside the constant: the combinations at right angles to
    it."""
    U = beside_constant(fit)
    return test_together(fit, U, U @ fit.solution.basis_coefficients)


def beside_constant(fit: Fitted) -> np.ndarray:
    """Return an orthonormal basis (model df, rank) of what the columns hold beside the constant."""
    rank = fit.solution.rank
    if not fit.solution.spans_constant:
        return np.eye(rank)
    if fit.solution.has_intercept:
        return np.eye(rank)[1:]
    constant = fit.solution.constant_direction
    assert constant is not None
    return np.asarray(np.linalg.svd(constant[None, :])[2][1:])


def overall(fit: Fitted, level: float | None = None) -> Table:
    """Return the overall table. See ``Fit.overall``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    test, s, e = overall_test(fit), fit.solution, fit.estimate
    if test.statistic == test.statistic:
        critical = test.critical(level)
    else:
        critical = np.nan
    total_df = s.n - s.spans_constant
    blank = [np.nan, np.nan]
    if e.linear:
        explained = max(s.tss - s.rss, 0.0)
        ss = [value * s.unit * s.unit for value in (explained, s.rss, s.tss)]
        df = [test.df1, fit.residual_df, total_df]
        ms = [v / d if d > 0 else np.nan for v, d in zip(ss, df, strict=True)]
        columns: dict[str, Any] = {"df": df, "ss": ss, "ms": ms}
    else:
        explained_deviance = [e.null_deviance - e.deviance, e.deviance, e.null_deviance]
        columns = {
            "df": [test.df1, fit.residual_df, test.df1 + fit.residual_df],
            "deviance": explained_deviance,
        }
    name = test.name
    parts: dict[str, Any] = {"part": ["explained", "residual", "total"]}
    return Table(
        parts
        | columns
        | {
            name: [test.statistic, *blank],
            "p": [test.p, *blank],
            f"critical_{name}": [critical, *blank],
        },
        title="The whole model against no predictors",
        notes=(*choice_notes(fit), *estimate_notes(fit), *_notes(fit, test, critical, level)),
        appearance=Appearance(
            kinds={name: "own", f"critical_{name}": "own"},
            headings={"critical_chi2": "critical χ²"},
        ),
    )


def _notes(fit: Fitted, test: OverallTest, critical: float, level: float) -> list[str]:
    notes, e = [], fit.estimate
    if fit.sandwich is not None:
        if test.statistic == test.statistic:
            degrees = f"{test.df1} and {test.df2:.4g} degrees of freedom"
        else:
            degrees = test.why
        if test.statistic == test.statistic:
            verb = "with"
        else:
            verb = "and cannot be had:"
        notes.append(f"F is Wald's, from the chosen covariance, {verb} {degrees}")
    if fit.r_squared is not None:
        if fit.sandwich or e.known:
            over = ""
        else:
            over = "; F is the explained mean square over the residual one"
        notes.append(f"explained / total = R² = {fixed(fit.r_squared, 4)}{over}")
    elif not e.linear and e.null_deviance > 0:
        notes.append(
            f"explained / total = {percent((e.null_deviance - e.deviance) / e.null_deviance)} of "
            "the deviance"
        )
    if e.penalty and fit.sandwich is None:
        notes.append("χ² is the fall in penalized deviance, the penalty that of all columns")
    if fit.family.shape is not None and fit.sandwich is None:
        notes.append(
            "χ² is twice the gain in log likelihood, with a shape k of its own in each model"
        )
    if test.statistic == test.statistic and np.isfinite(critical):
        if test.statistic > critical:
            beats = "exceeds"
        else:
            beats = "does not reach"
        if test.name == "chi2":
            symbol = "χ²"
        else:
            symbol = "F"
        notes.append(
            f"{symbol} {beats} {critical:.3g}, the critical value at the {level_words(level)} level"
        )
    if not fit.solution.spans_constant:
        if e.linear:
            what = "sums of squares are"
        else:
            what = "deviances are"
        notes.append(f"there is no intercept: {what} about zero, not about the mean")
    return notes
