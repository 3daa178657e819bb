"""The coefficients: estimates, how sure each is, and what it is worth beside the others."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core import intervals, tails
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.asked import Asked, checked_level


@dataclass(frozen=True)
class Estimates:
    """Coefficients with their standard errors, the intercept first; NaN for a column left out."""

    names: tuple[str, ...]
    values: np.ndarray
    standard_errors: np.ndarray
    df: float


def estimates(fit: Asked) -> Estimates:
    """Every coefficient and its standard error s·√diag((XᵀWX)⁻¹)."""
    solution, design = fit.solution, fit.design
    errors = np.full(design.width + solution.has_intercept, np.nan)
    s = fit.residual_sd
    if s is not None:
        estimable = solution.kept + solution.has_intercept
        if solution.has_intercept:
            estimable = np.append(0, estimable)
        errors[estimable] = s * solution.error_factors
    names, values = design.names, solution.coefficients
    if solution.has_intercept:
        names, values = ("intercept", *names), np.append([solution.intercept or 0.0], values)
    return Estimates(names, values, errors, fit.residual_df)


def coefficients(
    fit: Asked, level: float | None = None, *, standardized: bool = False, correlations: bool = False
) -> Table:
    """The coefficients table. See ``Fit.coefficients``."""
    level = fit.level if level is None else checked_level(level)
    e = estimates(fit)
    lower, upper = intervals.around(e.values, e.standard_errors, e.df, level)
    t = t_values(e)
    columns: dict[str, Any] = {
        "term": list(e.names),
        "estimate": e.values,
        "lower": lower,
        "upper": upper,
        "standard_error": e.standard_errors,
        "t": t,
        "p": tails.t_two_sided(t, e.df) if e.df > 0 else np.full(len(t), np.nan),
    }
    if standardized:
        columns["standardized"] = e.values * standard_units(fit)
    if correlations:
        simple = simple_correlations(fit)
        with np.errstate(all="ignore"):
            partial = t / np.sqrt(t**2 + e.df)
            unexplained = np.sqrt(max(1 - (fit.r_squared or 0.0), 0.0) / e.df) if e.df > 0 else np.nan
        constant = np.array([np.nan] * fit.solution.has_intercept)
        skip = len(constant)
        columns["simple_r"] = np.append(constant, simple)
        columns["partial_r"] = np.append(constant, partial[skip:])
        columns["semipartial_r"] = np.append(constant, (t * unexplained)[skip:])
    kinds = dict.fromkeys(("estimate", "lower", "upper", "standard_error"), "error")
    return Table(
        columns,
        title=f"Coefficients, with {level_words(level)} intervals",
        notes=tuple(n for n in fit.notes if n.startswith(("left out of the model", "robust"))),
        kinds=kinds,
    )


def t_values(e: Estimates) -> np.ndarray:
    """estimate / standard error, NaN where there is no standard error."""
    with np.errstate(all="ignore"):
        return np.where(e.standard_errors > 0, e.values / e.standard_errors, np.nan)


def standard_units(fit: Asked) -> np.ndarray:
    """sd(design column)/sd(response) for each coefficient, NaN for the intercept: slopes times this can be compared."""
    solution = fit.solution
    out = np.full(fit.design.width + solution.has_intercept, np.nan)
    if solution.tss > 0:
        size = np.sqrt((solution.factor**2).sum(axis=0)) * solution.scale
        out[solution.kept + solution.has_intercept] = size / np.sqrt(solution.tss)
    return out


def simple_correlations(fit: Asked) -> np.ndarray:
    """Correlation of each design column with the response, from the triangular factor: (width,).

    NaN without an intercept, where the factor is not about the mean.
    """
    solution = fit.solution
    out = np.full(fit.design.width, np.nan)
    if solution.tss > 0 and solution.has_intercept:
        length = np.sqrt((solution.factor**2).sum(axis=0))
        out[solution.kept] = (solution.factor.T @ solution.effects) / length / np.sqrt(solution.tss)
    return out
