"""Firth's penalty (1993): estimates that stay finite where the data separate.

What is made small is deviance − log det XᵀWX, with W the expected weights (Jeffreys' prior). For a
profile a coefficient is held at a value, for a nested model columns are held at zero; the penalty
is then still that of all columns (Heinze & Schemper 2002)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import linalg

from joinery.core.glm.families import Family
from joinery.core.glm.likeliest import Iterated, with_coefficients
from joinery.core.glm.links import Link
from joinery.core.glm.rows import (
    LikelihoodSource,
    WorkingBlocks,
    inside,
    log_weight_slope,
    unit_deviance,
    working_state,
)
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import NoConvergenceError

MOST_STEPS, MOST_HALVINGS = 200, 50
SETTLED, ROUNDING = 1e-20, 1e-12  # of the decrement


@dataclass(frozen=True)
class _At:
    """One pass at γ: penalized and plain deviance, Pearson's χ², half the slope, and UᵀWU."""

    gamma: np.ndarray
    objective: float
    deviance: float
    pearson: float
    gradient: np.ndarray
    H: np.ndarray


@dataclass(frozen=True)
class _Model:
    """The rows in the orthonormal basis of a first least squares: η = u·γ."""

    rows: LikelihoodSource
    family: Family
    link: Link
    basis: Solution

    def coefficients(self, gamma: np.ndarray) -> np.ndarray:
        """Return [intercept or 0, coefficients]: (k + 1,)."""
        b = np.zeros(self.rows.width + 1)
        b[self.basis.padded_places] = self.basis.root @ gamma
        return b

    def working(self, gamma: np.ndarray) -> WorkingBlocks:
        return WorkingBlocks(
            self.rows, self.family, self.link, lambda X: self.basis.in_basis(X) @ gamma
        )

    def at(self, gamma: np.ndarray) -> _At:
        working = self.working(gamma)
        q = len(gamma)
        H, deviance, pearson = np.zeros((q, q)), 0.0, 0.0
        nothing = _At(gamma, np.inf, np.inf, np.inf, np.zeros(q), H)
        states = []
        with np.errstate(all="ignore"):
            for part in self.rows.pieces:
                state = working_state(working, part)
                if not inside(self.family, self.link, state):
                    return nothing
                U = self.basis.in_basis(part.X)
                H = H + (U * state.W[:, None]).T @ U
                deviance += float(part.evidence @ unit_deviance(self.family, part.y, state))
                pearson += float((state.W * state.residual) @ state.residual)
                states.append((state, U))
            factor, failed = linalg.lapack.dpotrf(H, lower=0)
            if failed or not np.isfinite(deviance):
                return nothing
            gradient = np.zeros(q)
            for state, U in states:
                h = state.W * (
                    linalg.solve_triangular(factor, U.T, trans=1, check_finite=False) ** 2
                ).sum(axis=0)
                score = state.W * state.residual + 0.5 * h * log_weight_slope(working, state)
                gradient += U.T @ np.where(np.isfinite(score), score, 0.0)
        objective = deviance - 2 * float(np.log(np.diag(factor)).sum())
        return _At(gamma, objective, deviance, pearson, gradient, H)


@dataclass(frozen=True)
class Penalized:
    """A penalized fit."""

    fit: Iterated
    objective: float  # the penalized deviance that it reaches
    rank: int  # how many directions were free


@dataclass(frozen=True)
class _Restriction:
    """Admitted coefficients in the basis: ``base`` (rank,) plus any of ``free`` (rank, m)."""

    base: np.ndarray
    free: np.ndarray

    def nearest(self, gamma: np.ndarray) -> np.ndarray:
        return np.asarray(self.base + self.free @ (self.free.T @ (gamma - self.base)))


def _restriction(
    basis: Solution, held: tuple[int, float] | None, columns: np.ndarray | None
) -> _Restriction:
    """Return the restriction to a held coefficient, to some columns and the constant, or none."""
    if columns is not None:
        units = np.zeros((len(basis.coefficients) + 1, len(columns)))
        units[columns + 1, np.arange(len(columns))] = 1.0
        if basis.constant_direction is None:
            constant = np.zeros((basis.rank, 0))
        else:
            constant = basis.constant_direction[:, None]
        if basis.has_intercept:
            constant = np.eye(basis.rank)[:, :1]
        spanning = np.column_stack([constant, basis.to_basis(units)])
        lengths = np.linalg.norm(spanning, axis=0)
        return _Restriction(
            np.zeros(basis.rank), linalg.orth(spanning[:, lengths > 0] / lengths[lengths > 0])
        )
    if held is not None:
        place, value = held
        row = basis.root[basis.padded_places == place]
        length = float((row @ row.T)[0, 0])
        return _Restriction(row[0] * value / length, linalg.null_space(row))
    return _Restriction(np.zeros(basis.rank), np.eye(basis.rank))


def penalized(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    *,
    intercept: bool,
    n: int,
    held: tuple[int, float] | None = None,
    columns: np.ndarray | None = None,
    near: np.ndarray | None = None,
) -> Penalized:
    """Return the penalized fit.

    Parameters
    ----------
    rows, family, link, intercept, n: as for ``reweighted``.
    held: the place of a coefficient in [constant, columns], and the value it is held at.
    columns: the columns (m,) whose coefficients are free; the others are zero, but for the constant
        that they hold.
    near: coefficients (k + 1,) near which the best may lie.

    Raises NoConvergenceError when steps run out. Source: Firth 1993.
    """
    basis = least_squares(WorkingBlocks(rows, family, link, None), intercept=intercept, n=n)
    model = _Model(rows, family, link, basis)
    restriction = _restriction(basis, held, columns)
    # some links have more than one lowest place: the lowest that is reached from several starts
    starts = [basis.basis_coefficients, np.zeros(basis.rank)]
    if near is not None:
        starts.append(basis.to_basis(near))
        if held is not None:
            beside = near.copy()
            beside[held[0]] = held[1]  # the other coefficients as they are
            starts.append(basis.to_basis(beside))
    ends = []
    for first in (model.at(restriction.nearest(gamma)) for gamma in starts):
        if np.isfinite(first.objective):
            try:
                ends.append(_descended(model, first, restriction.free))
            except NoConvergenceError:
                continue  # the other starts are there
    if not ends:
        raise NoConvergenceError(
            f"the penalized fit did not converge in {MOST_STEPS} steps; rescale the predictors, or "
            "choose another link",
            iterations=MOST_STEPS,
        )
    now, steps, reason = min(ends, key=lambda end: end[0].objective)
    solution = least_squares(model.working(now.gamma), intercept=intercept, n=n)
    solution = with_coefficients(solution, model.coefficients(now.gamma))
    solution = replace(solution, perfect=False, rss=now.pearson / solution.unit / solution.unit)
    fit = Iterated(solution, family, link, now.deviance, now.pearson, steps, True, reason)
    return Penalized(fit, now.objective, restriction.free.shape[1])


def _descended(model: _Model, now: _At, free: np.ndarray) -> tuple[_At, int, str]:
    """Steps along the free directions until one is lost in rounding.

    Newton's where scoring is slow.
    """
    last, newton = np.inf, False
    if not free.shape[1]:
        return now, 0, "nothing is left to estimate"
    for count in range(1, MOST_STEPS + 1):
        g = free.T @ now.gradient
        if newton:
            curve = _curvature(model, now, free)
        else:
            curve = None
        step = _direction(curve, free.T @ now.H @ free, g)
        decrement = float(g @ step)
        size, after = 1.0, None
        for _ in range(MOST_HALVINGS):
            trial = model.at(now.gamma + free @ (size * step))
            if trial.objective <= now.objective + 1e-13 * (1 + abs(now.objective)):
                after = trial
                break
            size /= 2
        if after is None:
            if abs(decrement) < ROUNDING:
                return now, count, "no smaller step lowers the penalized deviance"
            if newton:
                break
            newton = True
            continue
        now = after
        if abs(decrement) < SETTLED or (abs(decrement) < 1e-15 and decrement >= 0.25 * last):
            return now, count, "the step is lost in rounding"
        newton = newton or (count > 3 and decrement > 0.01 * last) or size < 0.3
        last = decrement
    raise NoConvergenceError(
        f"the penalized fit did not converge in {MOST_STEPS} steps; rescale the predictors, or "
        "choose another link",
        iterations=MOST_STEPS,
    )


def _curvature(model: _Model, now: _At, free: np.ndarray) -> np.ndarray | None:
    """Minus the derivative of the penalized score along the free directions, by differences.

    None where it fails.
    """
    q = free.shape[1]
    out = np.zeros((q, q))
    scale = np.sqrt(np.maximum(np.einsum("ij,ik,kj->j", free, now.H, free), 1e-300))
    for j in range(q):
        step = 1e-5 / scale[j]
        up, down = (model.at(now.gamma + s * step * free[:, j]) for s in (1, -1))
        if not (np.isfinite(up.objective) and np.isfinite(down.objective)):
            return None
        out[:, j] = free.T @ (down.gradient - up.gradient) / (2 * step)
    return (out + out.T) / 2


def _direction(curve: np.ndarray | None, H: np.ndarray, g: np.ndarray) -> np.ndarray:
    """Return Newton's step where the surface bends upwards, else that of scoring."""
    for both in ([] if curve is None else [curve]) + [H]:
        factor, failed = linalg.lapack.dpotrf(both, lower=0)
        if not failed and np.isfinite(factor).all():
            return np.asarray(linalg.cho_solve((factor, False), g, check_finite=False))
    return g / max(float(np.trace(H)), 1e-300)
