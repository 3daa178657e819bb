"""Intervals from the profile likelihood."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from joinery.core.blocks.columns import chosen, some_columns
from joinery.core.glm.irls import reweighted
from joinery.core.glm.likelihood import log_likelihood
from joinery.core.glm.penalized import penalized
from joinery.core.glm.rows import LikelihoodRows, MappedRows
from joinery.core.inference import intervals
from joinery.core.numeric import distributions as tails
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.study.fitted import Fitted, response_rows
from joinery.study.read.estimates import estimates, statistic_name, t_values
from joinery.support import advice
from joinery.support.errors import DataError, EstimationError

ROUNDS, DOUBLINGS = 60, 40


@dataclass(frozen=True)
class Profiled:
    """Ends of intervals, and signed roots of what holding each coefficient at zero costs."""

    lower: np.ndarray
    upper: np.ndarray
    roots: np.ndarray
    notes: tuple[str, ...]


def profiled(fit: Fitted, level: float) -> Profiled:
    """Return intervals and tests of each coefficient from one profile (Venzon & Moolgavkar 1988).

    Under an estimated dispersion the fall in deviance over φ is held against F(1, n − p).
    """
    e = estimates(fit)
    if fit.estimate.linear:
        lower, upper = intervals.around(e.values, e.standard_errors, e.df, level)
        words = "for the normal family the profile interval is the t interval"
        return Profiled(lower, upper, t_values(e), (words,))
    profile = _Profile(fit, LikelihoodBlocks(response_rows(fit)))
    best, df2 = profile.best(), fit.estimate.reference_df
    bound = float(
        tails.chi2_quantile(level, 1) if np.isinf(df2) else tails.f_quantile(level, 1, df2)
    )
    bound *= fit.estimate.dispersion or np.nan
    shift = int(not fit.solution.has_intercept)
    lower, upper, roots = (np.full(len(e.values), np.nan) for _ in range(3))
    phi = fit.estimate.dispersion or np.nan
    for place, value in enumerate(e.values):
        if np.isfinite(value) and place + shift not in fit.estimate.running:
            held = _at(profile, place + shift, best + bound)
            error = float(e.standard_errors[place])
            if np.isfinite(error) and 0 < error < 1e6 * (1 + abs(value)):
                step = error
            else:
                step = 1.0
            lower[place], upper[place] = (
                _end(held, float(value), side * step, bound) for side in (-1, 1)
            )
            roots[place] = np.sign(value) * np.sqrt(max(held(0.0) + bound, 0.0) / phi)
    if fit.estimate.penalty:
        kind = "penalized profile likelihood"
    else:
        kind = "profile likelihood"
    remarks = [f"intervals, {statistic_name(fit)} and p are of the {kind}"]
    if fit.estimate.running:
        firth = advice.change(penalty="firth")
        remarks.append(
            f"coefficients that grow without bound have no profile; {firth} gives them one"
        )
    return Profiled(lower, upper, roots, tuple(remarks))


@dataclass(frozen=True)
class _Profile:
    """The objective minimized while one coefficient is held: the deviance, penalized where the
    fit is.

    Of counts with a shape it is −2·log likelihood, each with the shape that suits it best.
    """

    fit: Fitted
    rows: LikelihoodBlocks

    def best(self) -> float:
        """Return its value at the estimate."""
        e = self.fit.estimate
        if e.penalty:
            return self._penalized(None)
        if e.family.shape is not None:
            return -2 * (e.log_likelihood or np.nan)
        return e.deviance

    def held(self, column: int, value: float) -> float:
        """Return its value with a coefficient held."""
        e, fit = self.fit.estimate, self.fit
        if e.penalty:
            return self._penalized((column, value))
        rows = _held(self.rows, column, value)
        intercept = fit.solution.has_intercept and column > 0
        if e.known:
            known = e.dispersion
        else:
            known = None
        best = reweighted(
            rows,
            e.family,
            e.link,
            intercept=intercept,
            n=fit.n_rows,
            dispersion=known,
            near=e.family.shape,
        )
        if e.family.shape is not None:
            return -2 * log_likelihood(rows, best)
        return best.deviance

    def _penalized(self, held: tuple[int, float] | None) -> float:
        e, fit = self.fit.estimate, self.fit
        intercept = fit.solution.has_intercept
        near = fit.solution.padded_coefficients
        best = penalized(
            self.rows, e.family, e.link, intercept=intercept, n=fit.n_rows, held=held, near=near
        )
        return best.objective


def _held(rows: LikelihoodBlocks, column: int, value: float) -> MappedRows:
    """Return the rows with one column's part held in the offset and the column taken out."""

    def change(part: LikelihoodRows) -> LikelihoodRows:
        places = np.array([column - 1])
        if column == 0:
            column_values = np.ones(len(part.y))
        else:
            column_values = some_columns(part.X, places)[:, 0]
        if part.offset is None:
            offset = value * column_values
        else:
            offset = part.offset + value * column_values
        others = np.delete(np.arange(rows.width), places)
        if column == 0:
            X = part.X
        else:
            X = chosen(part.X, others)
        return replace(part, X=X, offset=offset)

    return MappedRows(rows, rows.width - (column > 0), change)


def _at(profile: _Profile, column: int, bound: float) -> Callable[[float], float]:
    """By how much the profile passes a bound; infinite where no coefficients allow the value."""

    def excess(value: float) -> float:
        try:
            return profile.held(column, value) - bound
        except (DataError, EstimationError):  # where every working weight is lost, too
            return float("inf")

    return excess


def _end(excess: Callable[[float], float], at: float, step: float, bound: float) -> float:
    """Return where the profile passes its bound; infinite when it never does."""
    near, low, far = at, -bound, at + 2 * step
    high = excess(far)
    for _ in range(DOUBLINGS):
        if high > 0:
            break
        near, low, far = far, high, at + 2 * (far - at)
        high = excess(far)
    else:
        return float(np.sign(step)) * np.inf
    middle = far
    for _ in range(ROUNDS):
        # false position on the root of the rise, which is nearly straight; halving where that
        # stalls
        a, b = (np.sqrt(max(v + bound, 0.0)) - np.sqrt(bound) for v in (low, high))
        if np.isfinite(b) and b > a:
            middle = near - a * (far - near) / (b - a)
        else:
            middle = (near + far) / 2
        span = abs(far - near)
        middle = min(max(middle, min(near, far) + 0.01 * span), max(near, far) - 0.01 * span)
        value = excess(middle)
        if value > 0:
            far, high = middle, value
        else:
            near, low = middle, value
        if abs(value) < 1e-9 * bound or abs(far - near) < 1e-12 * max(1.0, abs(far)):
            break
    return float(middle)
