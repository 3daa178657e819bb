"""One pass over the rows at given coefficients, and the step that it leads to."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from joinery.core.blocks.products import inner, times
from joinery.core.glm.edges import nearing, wall
from joinery.core.glm.information import Information, Matrix, information, together
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import (
    LikelihoodRows,
    LikelihoodSource,
    WorkingBlocks,
    by_coefficients,
    inside,
    linear,
    observed_weights,
    unit_deviance,
    working_state,
)
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import NoConvergenceError

WELL_APART = 1e-2  # of a scaled factor's diagonal: below it steps go through ``core.least_squares``
SLIGHTLY_APART = 1e-9  # the same at an edge, where one row's weight outgrows all others
SINGLE, DOUBLE = 1e-6, 1e-14  # what rounding may hide of a quadratic form, by its precision


@dataclass(frozen=True)
class Pass:
    """The sums of one pass over the rows at coefficients ``b``."""

    b: np.ndarray  # (k + 1,), the first that of the constant
    deviance: float  # infinite where a mean is invalid
    pearson: float  # Σ w(y − μ)²/V
    gradient: np.ndarray  # [1, X]ᵀW(z − η): (k + 1,)
    expected: Information  # of the expected weights W
    observed: Information | None  # of the observed weights, Newton's, where asked for
    lightest: float  # the smallest working weight
    rough: bool  # whether the information is one of single precision


@dataclass(frozen=True)
class _PartOfPass:
    """The sums of one part of the rows."""

    gradient: np.ndarray
    expected: Information
    observed: Information | None
    deviance: float
    pearson: float
    lightest: float


def one_pass(problem: Problem, b: np.ndarray, newton: bool = False, rough: bool = False) -> Pass:
    """Go over the rows once at coefficients b.

    ``newton`` sums the observed information too; ``rough`` lets information be of single precision.
    """
    working, k = problem.at(b), problem.rows.width
    gradient, deviance, pearson, lightest = np.zeros(k + 1), 0.0, 0.0, np.inf
    expected: Information | None = None
    observed: Information | None = None
    with np.errstate(all="ignore"):
        sums = partial(_sums, problem, working, newton, rough)
        for part in problem.rows.pieces.each(sums):
            # one invalid mean is enough: no sum over the rows has a meaning then
            if part is None:
                deviance = np.inf
                break
            gradient = gradient + part.gradient
            deviance += part.deviance
            pearson += part.pearson
            lightest = min(lightest, part.lightest)
            expected = together(expected, part.expected)
            observed = together(observed, part.observed)
    if expected is None:
        expected = Matrix(np.zeros((k + 1, k + 1)))
    if observed is not None:
        observed = observed.settled()
    return Pass(b, deviance, pearson, gradient, expected.settled(), observed, lightest, rough)


def _sums(
    problem: Problem, working: WorkingBlocks, newton: bool, rough: bool, part: LikelihoodRows
) -> _PartOfPass | None:
    """Return the sums of some rows; None where a mean is one that the model cannot have."""
    family, link = problem.family, problem.link
    state = working_state(working, part)
    if not inside(family, link, state):
        return None
    weighted_residual = state.W * state.residual
    W, score = state.W, weighted_residual
    deviance = inner(part.evidence, unit_deviance(family, part.y, state))
    # the barrier is −t Σ log of the distance from the wall: it adds to weight, score and cost
    more: np.ndarray | float = 0.0
    if problem.barrier:
        barrier = wall(family, link, state.eta, part.times, problem.barrier)
        more = barrier.weight
        W, score = W + more, score + barrier.score
        deviance += 2 * float(barrier.cost.sum())
    expected, gradient = information(part.X, W, score, rough=rough)
    observed = None
    if newton:
        observed = information(part.X, observed_weights(working, state) + more, score)[0]
    pearson = inner(weighted_residual, state.residual)
    return _PartOfPass(
        gradient, expected, observed, deviance, pearson, float(state.W.min(initial=np.inf))
    )


# ------------------------------------------------------------------ the step from there


def next_step(problem: Problem, columns: Columns, now: Pass) -> tuple[np.ndarray, float]:
    """Return δ with XᵀWXδ = gradient over the estimable columns, and δᵀXᵀWXδ.

    By least squares where Cholesky fails.
    """
    places = columns.places
    if not len(places):
        return np.zeros(len(now.b)), 0.0
    if problem.barrier:
        apart = SLIGHTLY_APART
    else:
        apart = WELL_APART
    # observed information need not be positive definite far from the maximum; the expected one is
    for curvature in (now.observed, now.expected):
        if curvature is None:
            continue
        step = curvature.solve(now.gradient, places, apart)
        if step is not None:
            return step, now.expected.quadratic(step)
    if problem.barrier:
        raise NoConvergenceError("the edge is too near for another step", iterations=0)
    # columns that nearly depend on one another: orthogonal steps keep the digits that XᵀWX loses
    solution = least_squares(problem.at(now.b), intercept=columns.has_intercept, n=problem.n)
    step = solution.padded_coefficients - now.b
    step[~np.isin(np.arange(len(step)), places)] = 0.0
    return step, now.expected.quadratic(step)


def reach_bound(now: Pass, step: np.ndarray, decrement: float, *, rough: bool) -> float:
    """Bound the largest change of η that a step makes: (xδ)² ≤ δᵀXᵀWXδ/w in a row of weight w.

    What rounding may have hidden in the decrement counts too.
    """
    if rough:
        share = SINGLE
    else:
        share = DOUBLE
    with np.errstate(all="ignore"):
        hidden = share * now.expected.rounding(step)
        return float(np.sqrt(np.divide(max(decrement, 0.0) + hidden, now.lightest)))


def eta_change(rows: LikelihoodSource, step: np.ndarray) -> float:
    """Return the largest change of η that a step makes."""

    def largest(part: LikelihoodRows) -> float:
        return float(np.max(np.abs(times(part.X, step[1:]) + step[0]), initial=0.0))

    return max(rows.pieces.each(largest))


def approach(problem: Problem, b: np.ndarray, step: np.ndarray) -> float:
    """Return the largest share of its distance from an edge of η that a step takes any row."""

    def largest(part: LikelihoodRows) -> float:
        eta = linear(by_coefficients(b), part)
        move = by_coefficients(step)(part.X)
        return nearing(problem.family, problem.link, eta, move)

    return max(problem.rows.pieces.each(largest))
