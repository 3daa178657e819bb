"""Intervals from the profile likelihood: where leaving a coefficient at a value costs more than chance allows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from joinery.core import tails
from joinery.core.links import LINKS
from joinery.core.reweighted import Estimated, reweighted
from joinery.core.working import Part, Turned, linear
from joinery.design.working import LikelyRows, family_of
from joinery.errors import JoineryError
from joinery.study.asked import Asked, response_blocks
from joinery.study.coefficients import estimates
from joinery.study.deviance import minus_twice_log_likelihood

ROUNDS = 60


def _held(rows: LikelyRows, column: int, value: float) -> Turned:
    """The rows with one column's part held in the offset and the column taken out."""

    def turn(part: Part) -> Part:
        own = np.ones(len(part.y)) if column == 0 else part.X[:, column - 1]
        offset = value * own if part.offset is None else part.offset + value * own
        X = part.X if column == 0 else np.asfortranarray(np.delete(part.X, column - 1, axis=1))
        return replace(part, X=X, offset=offset)

    return Turned(rows, rows.width - (column > 0), turn)


def profile_ends(fit: Asked, level: float) -> tuple[np.ndarray, np.ndarray, list[str]]:
    """The ends of profile-likelihood intervals of every coefficient, and a note (Venzon & Moolgavkar 1988).

    Under an estimated dispersion the fall in deviance over φ is held against F(1, n − p).
    """
    e = estimates(fit)
    if fit.glm is None:
        lower = e.values - tails.t_quantile((1 + level) / 2, np.maximum(e.df, 1)) * e.standard_errors
        return lower, 2 * e.values - lower, ["for the normal family the profile interval is the t interval"]
    rows = LikelyRows(response_blocks(fit))
    firth = fit.glm.penalty == "firth"
    best = _cost(fit, rows, fit.solution.whole, firth)
    df2 = fit.reference_df
    bound = float(tails.chi2_quantile(level, 1) if np.isinf(df2) else tails.f_quantile(level, 1, df2))
    bound *= fit.dispersion or np.nan
    shift = int(not fit.solution.has_intercept)
    lower, upper = np.full(len(e.values), np.nan), np.full(len(e.values), np.nan)
    for place, value in enumerate(e.values):
        if np.isfinite(value):
            args = fit, rows, place + shift, float(value), float(e.standard_errors[place]), best, bound, firth
            lower[place], upper[place] = _end(*args, -1), _end(*args, +1)
    kind = "penalized profile likelihood" if firth else "profile likelihood"
    return lower, upper, [f"the ends of the intervals are those of the {kind}"]


def _end(
    fit: Asked,
    rows: LikelyRows,
    column: int,
    at: float,
    error: float,
    best: float,
    bound: float,
    firth: bool,
    side: int,
) -> float:
    """Where the profile deviance rises by ``bound``; infinite when it never does."""

    def excess(value: float) -> float:
        try:
            held = _held(rows, column, value)
            found = _refitted(fit, held, column, firth)
        except JoineryError:
            return float("inf")
        if fit.glm.shape is not None:
            return minus_twice_log_likelihood(held, found) - best - bound
        return _held_cost(fit, rows, found, column, value, firth) - best - bound

    step = error if np.isfinite(error) and 0 < error < 1e6 * (1 + abs(at)) else 1.0
    near, far = at, at + side * 2 * step
    high = excess(far)
    for _ in range(20):
        if high > 0:
            break
        near, far = far, far + side * 2 * abs(far - at)
        high = excess(far)
    else:
        return side * np.inf
    low = -bound if near == at else excess(near)
    for _ in range(ROUNDS):
        # false position on the root of the deviance, which is nearly straight; halving where that stalls
        a, b = (np.sign(v + bound) * np.sqrt(abs(v + bound)) - np.sqrt(bound) for v in (low, high))
        middle = near - a * (far - near) / (b - a) if np.isfinite(b) and b != a else (near + far) / 2
        if not min(near, far) < middle < max(near, far):
            middle = (near + far) / 2
        value = excess(middle)
        if value > 0:
            far, high = middle, value
        else:
            near, low = middle, value
        if abs(value) < 1e-9 * bound or abs(far - near) < 1e-12 * max(1.0, abs(far)):
            return float(middle)
    return float(middle)


def _refitted(fit: Asked, held: Turned, column: int, firth: bool) -> Estimated:
    intercept = fit.solution.has_intercept and column > 0
    # of negative-binomial models each has the shape that suits it best
    family = family_of(fit.glm)
    return reweighted(held, family, LINKS[fit.link], intercept=intercept, n=fit.n_rows, firth=firth)


def _held_cost(fit: Asked, rows: LikelyRows, found: Estimated, column: int, value: float, firth: bool) -> float:
    """The deviance of a restricted fit; penalized, with the whole model's information."""
    if not firth:
        return found.deviance
    b = found.b.copy()
    whole = np.insert(b, column, value) if column > 0 else np.append(value, b[1:])
    return _cost(fit, rows, whole, True)


def _cost(fit: Asked, rows: LikelyRows, b: np.ndarray, firth: bool) -> float:
    """The deviance at coefficients, less log det of the information when penalized."""
    if fit.glm.shape is not None:
        return -2 * (fit.log_likelihood or np.nan)
    if not firth:
        return fit.deviance
    family, link = family_of(fit.glm), LINKS[fit.link]
    columns = np.append([0] if fit.solution.has_intercept else [], fit.solution.kept + 1).astype(int)
    deviance, H = 0.0, np.zeros((len(columns), len(columns)))
    for part in rows.pieces:
        eta = linear(b, part)
        mu, slope = link.mu(eta), link.slope(eta)
        a = part.evidence
        deviance += float(a @ family.deviance(part.y, mu))
        X = np.column_stack([np.ones(len(part.y)), part.X])[:, columns]
        H += (X * (a * slope**2 / family.variance(mu))[:, None]).T @ X
    return deviance - float(np.linalg.slogdet(H)[1])
