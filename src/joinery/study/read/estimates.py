"""Estimates: every contrast, mean and slope is a combination of coefficients."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.inference import intervals
from joinery.core.inference.covariance import (
    TOO_MANY,
    Joint,
    joint_degrees,
    joint_test,
)
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import row_lengths
from joinery.study.fitted import Fitted

# Of singular values in the basis: smaller ones are what rounding leaves of columns that lie as far
# from zero as a billion times their spread.
SPANNED = 1e-6


@dataclass(frozen=True)
class Estimates:
    """Coefficients with their standard errors, the intercept first; NaN for a column left out."""

    names: tuple[str, ...]
    values: np.ndarray
    standard_errors: np.ndarray
    df: np.ndarray


def estimates(fit: Fitted, *, plain: bool = False) -> Estimates:
    """Return every coefficient, its standard error and degrees of freedom, from the chosen
    covariance.

    Under constant spread, or when asked ``plain``, s·√diag((XᵀWX)⁻¹) with n − p.
    """
    solution, design = fit.solution, fit.design
    if plain:
        sandwich = None
    else:
        sandwich = fit.sandwich
    errors = np.full(design.width + solution.has_intercept, np.nan)
    df = np.full(len(errors), fit.estimate.reference_df)
    if sandwich is not None:
        errors[solution.places] = sandwich.errors(solution.root) * solution.unit
        df[solution.places] = sandwich.df
    elif fit.estimate.scale is not None:
        errors[solution.places] = fit.estimate.scale * solution.error_factors
    names, values = design.names, solution.coefficients
    if solution.has_intercept:
        names, values = ("intercept", *names), np.append([solution.intercept or 0.0], values)
    return Estimates(names, values, errors, df)


def statistic_name(fit: Fitted) -> str:
    """Return ``z`` where the dispersion is known, else ``t``."""
    if np.isinf(fit.estimate.reference_df) and fit.sandwich is None:
        return "z"
    return "t"


def t_values(e: Estimates) -> np.ndarray:
    """Return estimate / standard error, NaN where there is no standard error."""
    with np.errstate(all="ignore"):
        return np.where(e.standard_errors > 0, e.values / e.standard_errors, np.nan)


@dataclass(frozen=True)
class Combination:
    """Combinations of coefficients, each (m,): values, standard errors, degrees of freedom."""

    values: np.ndarray
    standard_errors: np.ndarray
    df: np.ndarray

    def ends(self, level: float) -> tuple[np.ndarray, np.ndarray]:
        """Return value ± t·standard error at a level; NaN where there are no degrees of freedom."""
        return intervals.around(self.values, self.standard_errors, self.df, level)

    @property
    def t(self) -> np.ndarray:
        with np.errstate(all="ignore"):
            return np.where(self.standard_errors > 0, self.values / self.standard_errors, np.nan)

    @property
    def p(self) -> np.ndarray:
        """Two-sided p that each is zero."""
        return np.asarray(tails.t_two_sided(self.t, np.where(self.df > 0, self.df, np.nan)))


def linear_combination(
    fit: Fitted, L: np.ndarray, constant: np.ndarray | float = 0.0
) -> Combination:
    """Return L·β + constant of all coefficients, the intercept first, with their covariance.

    Parameters: L (m, coefficients), zero for those that are not estimable. Source: Draper & Smith
    1998, 9."""
    values = L @ np.nan_to_num(estimates(fit).values) + constant
    return Combination(values, *errors_in_basis(fit, in_basis(fit, L)))


def means(fit: Fitted, X: np.ndarray) -> Combination:
    """Return β₀ + Xβ at rows of the design (m, width); empty where the rows do not settle it."""
    values, errors, df = fit.solution.fitted(X), *mean_errors(fit, X)
    known = ~fit.solution.broken(X).any(axis=1)
    return Combination(np.where(known, values, np.nan), np.where(known, errors, np.nan), df)


def mean_errors(fit: Fitted, X: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return standard errors of the terms' sum at rows X (m, width), and their df, each (m,)."""
    if fit.sandwich is not None:
        return errors_in_basis(fit, fit.solution.in_basis(X))
    if fit.estimate.scale is None:
        scale = np.nan
    else:
        scale = fit.estimate.scale
    errors = scale * np.sqrt(fit.solution.unscaled_variance(X))
    return errors, np.full(len(X), fit.estimate.reference_df)


def contrast(fit: Fitted, D: np.ndarray) -> Combination:
    """Return dβ without the constant, of differences or derivatives of design rows (m, width).

    Empty where the rows do not settle it: a dropped column departs from its combination.
    """
    values = D[:, fit.solution.kept] @ fit.solution.coefficients[fit.solution.kept]
    errors, df = errors_in_basis(fit, contrast_in_basis(fit, D))
    known = ~fit.solution.broken(D, differences=True).any(axis=1)
    return Combination(np.where(known, values, np.nan), np.where(known, errors, np.nan), df)


def contrast_in_basis(fit: Fitted, D: np.ndarray) -> np.ndarray:
    """Return differences or derivatives of design rows (m, width) as combinations (m, rank)."""
    kept = D[:, fit.solution.kept]
    if fit.solution.has_intercept:
        kept = np.column_stack([np.zeros(len(D)), kept])
    return _of_estimable(fit, kept)


def in_basis(fit: Fitted, L: np.ndarray) -> np.ndarray:
    """Return weights (m, coefficients) as combinations (m, rank) of uncorrelated directions.

    Those of the solution's basis, but where levels were swept out and need no writing out.
    """
    return _of_estimable(fit, L[:, fit.solution.places])


def _of_estimable(fit: Fitted, L: np.ndarray) -> np.ndarray:
    """Return the same of weights (m, rank) of the estimable coefficients."""
    if fit.sandwich is None and fit.solution.groups is not None:
        return fit.solution.groups.in_basis(L)
    return np.asarray(L @ fit.solution.root)


def errors_in_basis(fit: Fitted, U: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return standard errors and df, each (m,), of combinations U (m, rank): see ``in_basis``."""
    if fit.sandwich is not None:
        return fit.sandwich.errors(U) * fit.solution.unit, fit.sandwich.degrees(U)
    if fit.estimate.scale is None:
        scale = np.nan
    else:
        scale = fit.estimate.scale
    return scale * row_lengths(U), np.full(len(U), fit.estimate.reference_df)


@dataclass(frozen=True)
class Together:
    """The reach of intervals that hold for every combination of some coefficients at once."""

    times: float  # standard errors; NaN where there is no such number
    dimensions: int
    why: str = ""  # the reason for none

    def words(self, what: str) -> str:
        """Return the note under a table of intervals that hold together."""
        if self.why:
            return f"no interval holds for {what} together: {self.why}"
        size = f"{self.times:.3g} standard errors, {self.dimensions} dimensions"
        return f"intervals hold for {what} together ({size})"


def together(fit: Fitted, U: np.ndarray, level: float) -> Together:
    """Return the one multiplier of intervals that hold for all combinations of directions U at
    once.

    Parameters: U (r, rank) in the basis, which may repeat one another; ``level`` of all intervals.
    Scheffé's under constant spread, Hotelling's under every sandwich: see ``joint_times``.
    """
    if fit.sandwich is not None and fit.sandwich.blind.size:
        # combinations that lean on a blind direction have no standard error to multiply
        U = U - (U @ fit.sandwich.blind) @ fit.sandwich.blind.T
    basis = _spanned(U)
    q = len(basis)
    if fit.sandwich is None:
        df = float(fit.estimate.reference_df)
        times = intervals.joint_times(level, q, df, hotelling=False)
        why = "no degrees of freedom are left"
    else:
        df = joint_degrees(basis, fit.sandwich)
        times = intervals.joint_times(level, q, df, hotelling=True)
        why = f"{TOO_MANY} ({df:.3g} degrees of freedom for {q} dimensions)"
    return Together(times, q, "" if np.isfinite(times) else why)


def _spanned(U: np.ndarray) -> np.ndarray:
    """Return orthonormal directions (q, rank) that combinations in the basis span.

    The basis is free of units, so that what is small in it is rounding.
    """
    if not U.size:
        return np.empty((0, U.shape[1]))
    _, values, vectors = np.linalg.svd(U, full_matrices=False)
    return np.asarray(vectors[values > SPANNED * values[0]])


def test_together(fit: Fitted, U: np.ndarray, away: np.ndarray) -> Joint:
    """Test that combinations U (r, rank) in the basis, ``away`` (r,) from their claims, are zero.

    F of Wald's statistic: over the residual mean square under constant spread, χ²/r where the
    dispersion is known."""
    unit = fit.solution.unit
    if fit.sandwich is not None:
        return joint_test(U, away / unit, fit.sandwich)
    r, df2 = len(U), fit.estimate.reference_df
    scale = fit.estimate.scale
    if not r or not scale or not df2 > 0:
        return Joint(np.nan, r, df2, np.nan, "no degrees of freedom are left")
    lengths = row_lengths(U)
    # orthonormal combinations of the claims: their sum of squares over s²
    left, values, _ = np.linalg.svd(U / lengths[:, None], full_matrices=False)
    if values[-1] <= 1e-10 * values[0]:
        return Joint(np.nan, r, df2, np.nan, "the claims repeat or contradict one another")
    f = float(((left.T @ (away / scale / lengths)) ** 2 / values**2).sum()) / r
    return Joint(f, r, df2, float(tails.f_upper(f, r, df2)))
