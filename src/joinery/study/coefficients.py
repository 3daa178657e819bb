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
    df: np.ndarray


def estimates(fit: Asked, *, plain: bool = False) -> Estimates:
    """Every coefficient, its standard error and degrees of freedom, from the chosen covariance.

    Under constant spread, or when asked ``plain``, s·√diag((XᵀWX)⁻¹) with n − p.
    """
    solution, design = fit.solution, fit.design
    sandwich = None if plain else fit.sandwich
    errors = np.full(design.width + solution.has_intercept, np.nan)
    df = np.full(len(errors), float(fit.residual_df))
    s = fit.residual_sd
    if s is not None:
        if sandwich is None:
            errors[solution.places] = s * solution.error_factors
        else:
            variance = np.einsum("ij,jk,ik->i", solution.root, sandwich.meat, solution.root)
            errors[solution.places], df[solution.places] = np.sqrt(np.maximum(variance, 0.0)), sandwich.df
    names, values = design.names, solution.coefficients
    if solution.has_intercept:
        names, values = ("intercept", *names), np.append([solution.intercept or 0.0], values)
    return Estimates(names, values, errors, df)


def coefficient_covariance(fit: Asked) -> np.ndarray:
    """The chosen covariance of all coefficients; NaN for columns left out."""
    solution = fit.solution
    width = fit.design.width + solution.has_intercept
    out = np.full((width, width), np.nan)
    if fit.residual_sd is not None:
        plain = fit.residual_sd**2 * solution.unscaled_covariance
        chosen = plain if fit.sandwich is None else solution.root @ fit.sandwich.meat @ solution.root.T
        out[np.ix_(solution.places, solution.places)] = chosen
    return out


def p_values(e: Estimates) -> np.ndarray:
    """Two-sided p of each t; NaN where there is none."""
    return np.asarray(np.where(e.df > 0, tails.t_two_sided(t_values(e), np.where(e.df > 0, e.df, 1.0)), np.nan))


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
        "p": p_values(e),
    }
    if standardized:
        columns["standardized"] = e.values * standard_units(fit)
    if correlations:
        simple, df = simple_correlations(fit), fit.residual_df
        with np.errstate(all="ignore"):
            t = t_values(estimates(fit, plain=True))  # correlations always rest on the constant-spread t
            partial = t / np.sqrt(t**2 + df)
            unexplained = np.sqrt(max(1 - (fit.r_squared or 0.0), 0.0) / df) if df > 0 else np.nan
        constant = np.array([np.nan] * fit.solution.has_intercept)
        skip = len(constant)
        columns["simple_r"] = np.append(constant, simple)
        columns["partial_r"] = np.append(constant, partial[skip:])
        columns["semipartial_r"] = np.append(constant, (t * unexplained)[skip:])
    kinds = dict.fromkeys(("estimate", "lower", "upper", "standard_error"), "error")
    return Table(
        columns,
        title=f"Coefficients, with {level_words(level)} intervals",
        notes=(*said_of_errors(fit), *(n for n in fit.notes if n.startswith("left out of the model"))),
        kinds=kinds,
    )


def t_values(e: Estimates) -> np.ndarray:
    """estimate / standard error, NaN where there is no standard error."""
    with np.errstate(all="ignore"):
        return np.where(e.standard_errors > 0, e.values / e.standard_errors, np.nan)


def said_of_errors(fit: Asked) -> tuple[str, ...]:
    """Which standard errors these are, unless they are the plain ones."""
    chosen = fit.sandwich
    if chosen is None:
        return ()
    if chosen.kind == "clustered":
        columns = fit.asked.get("cluster") or []
        counts = " and ".join(f"{n} clusters of {c}" for n, c in zip(chosen.clusters, columns, strict=False))
        return (f"standard errors are clustered: {counts} (CR2, Bell–McCaffrey degrees of freedom)",)
    if chosen.kind == "autocorrelated":
        return (f"standard errors allow for neighbouring rows to be alike, {chosen.lags} rows apart (Newey–West)",)
    return (f"standard errors are robust to uneven spread ({chosen.kind.upper()})",)


def standard_units(fit: Asked) -> np.ndarray:
    """sd(design column)/sd(response) for each coefficient, NaN for the intercept: slopes times this can be compared."""
    solution = fit.solution
    out = np.full(fit.design.width + solution.has_intercept, np.nan)
    if solution.tss > 0:
        size = np.sqrt((solution.factor**2).sum(axis=0)) * solution.scale
        out[solution.kept + solution.has_intercept] = size / solution.unit / np.sqrt(solution.tss)
    return out


def simple_correlations(fit: Asked) -> np.ndarray:
    """Correlation of each design column with the response, from the triangular factor: (width,).

    NaN without an intercept, where the factor is not about the mean.
    """
    solution = fit.solution
    out = np.full(fit.design.width, np.nan)
    if solution.tss > 0 and solution.has_intercept:
        length = np.sqrt((solution.factor**2).sum(axis=0))
        out[solution.kept] = (solution.factor.T @ solution.effects) / solution.unit / length / np.sqrt(solution.tss)
    return out
