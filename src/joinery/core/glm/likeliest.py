"""The likeliest coefficients at a family's own shape: a start, the iteration, and its end.

The last step goes through ``core.least_squares``, which brings the covariance with all its digits;
best means at an edge of what the family admits, and predictors far from zero, have ways of their
own."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from joinery.core.blocks.columns import Columns as Matrix
from joinery.core.blocks.columns import extremes, shifted
from joinery.core.blocks.products import times
from joinery.core.glm.edges import BARRIERS, NEAR_ENOUGH, barrier_gap, has_edges
from joinery.core.glm.families import Family
from joinery.core.glm.iteration import Run, iterate
from joinery.core.glm.links import Link
from joinery.core.glm.one_pass import Pass, approach, eta_change, one_pass
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import (
    LikelihoodRows,
    LikelihoodSource,
    MappedRows,
    WorkingBlocks,
)
from joinery.core.glm.starting import far_means, first_inside
from joinery.core.glm.warm_start import first_pass
from joinery.core.least_squares.folded import Residuals
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import NoConvergenceError

AT_EDGE = "the likeliest means lie at the edge of what family and link admit"
RUNNING = 0.05  # a change of η in the last step that shows coefficients running off
TAKES_PART = 0.05  # of the largest move of η: a column whose move is that large runs off too
POLISH = 1e-3  # of coefficients: the most that a last least squares may move them


@dataclass(frozen=True)
class Iterated:
    """A generalized linear model as the iteration left it."""

    solution: Solution  # the weighted least squares of the last step
    family: Family
    link: Link
    deviance: float
    pearson: float  # Σ w(y − μ)²/V
    iterations: int
    converged: bool
    reason: str  # why iteration stopped
    running: tuple[int, ...] = ()  # columns (0 the intercept) whose coefficients grow without end
    edge: bool = False  # whether the best means lie at an edge of what the family admits

    @property
    def b(self) -> np.ndarray:
        """[intercept or 0, coefficients with 0 where not estimable]: (k + 1,)."""
        return self.solution.padded_coefficients


def likeliest(problem: Problem, b: np.ndarray | None) -> Iterated:
    """Return the fit at the family's own shape, begun at ``b`` where given."""
    columns, now = first_pass(problem, b)
    # a predictor like a year has a mean of many spreads: information summed about zero would lose
    # its digits, so the fit is to the columns less their means
    shift = far_means(problem, columns)
    if shift is not None:
        return _shifted(problem, shift)
    run = iterate(problem, columns, now)
    # plain steps stop short where the best means lie at a wall of the domain, such as 0 under an
    # identity link; a barrier that is lowered step by step leads there
    if not run.converged and has_edges(problem.family, problem.link):
        return _at_edge(problem, columns, run)
    return _finished(problem, columns, run)


# ------------------------------------------------------------------ the end of the iteration


def _finished(problem: Problem, columns: Columns, run: Run) -> Iterated:
    """Return the last weighted least squares, and whether coefficients run off."""
    now, converged, reason = run.now, run.converged, run.reason
    running: tuple[int, ...] = ()
    # a deviance that has settled while η still moves: some rows are told apart without doubt, and
    # the coefficients that do it grow without end
    if converged and _last_change(problem.rows, run) > RUNNING:
        running, converged = _running(problem.rows, run.step), False
        reason = "the deviance has converged, but coefficients grow without bound"
    solution = _last_solution(problem, run, converged)
    # a last least squares must only polish; one that moves far has met a singular weight
    moved = np.max(np.abs(solution.padded_coefficients - now.b))
    if running or not moved <= POLISH * max(1.0, float(np.max(np.abs(now.b)))):
        solution = with_coefficients(solution, now.b)
    solution = replace(solution, perfect=False, rss=now.pearson / solution.unit / solution.unit)
    return Iterated(
        solution=solution,
        family=problem.family,
        link=problem.link,
        deviance=now.deviance,
        pearson=now.pearson,
        iterations=run.count,
        converged=converged,
        reason=reason,
        running=running,
    )


def _last_change(rows: LikelihoodSource, run: Run) -> float:
    """Return the largest change of η in the last step; its bound where that is small enough."""
    if run.reach <= RUNNING:
        return run.reach
    return eta_change(rows, run.step)


def _last_solution(problem: Problem, run: Run, converged: bool) -> Solution:
    """Return the weighted least squares at the last coefficients."""
    working = problem.at(run.now.b)
    # the information of the last pass gives the covariance without another pass over the rows
    if converged and problem.intercept and not run.now.rough:
        seen = Residuals(run.now.b, run.now.gradient, run.now.pearson)
        solution = run.now.expected.solution(working, seen, problem.n)
        if solution is not None:
            return solution
    return least_squares(working, intercept=problem.intercept, n=problem.n)


def _running(rows: LikelihoodSource, step: np.ndarray) -> tuple[int, ...]:
    """Return columns (0 the intercept) that take part in a step which no longer lowers the
    deviance."""
    low, high = np.full(rows.width, np.inf), np.full(rows.width, -np.inf)
    for least, greatest in rows.pieces.each(lambda part: extremes(part.X)):
        low, high = np.minimum(low, least), np.maximum(high, greatest)
    # a coefficient moves the linear predictor by its step times the column's range
    spread = np.append(1.0, high - low)
    moved = np.abs(step) * spread
    return tuple(int(j) for j in np.flatnonzero(moved > TAKES_PART * moved.max()))


def with_coefficients(solution: Solution, b: np.ndarray) -> Solution:
    """Return a weighted least squares with exactly these coefficients (k + 1,)."""
    coefficients = np.full(len(solution.coefficients), np.nan)
    coefficients[solution.kept] = b[solution.kept + 1]
    level = float(b[0] + solution.centre @ coefficients[solution.kept])
    if solution.has_intercept:
        constant = float(b[0])
    else:
        constant = None
    return replace(solution, coefficients=coefficients, intercept=constant, mean_response=level)


# ------------------------------------------------------------------ best means at an edge


def _at_edge(problem: Problem, columns: Columns, run: Run) -> Iterated:
    """Return the fit whose best means lie at an edge, which plain steps do not reach."""
    start = one_pass(problem, first_inside(problem, columns))
    if np.isfinite(start.deviance):
        b = start.b
    else:
        b = run.now.b
    path, count = _barrier_path(problem, columns, b)
    # without the barrier: its last minimum lies inside by as much as its height
    now = one_pass(problem, path[-1])
    if not now.deviance < run.now.deviance:
        complete = len(path) > len(BARRIERS)
        if not complete or now.deviance - run.now.deviance > barrier_gap(problem.n):
            return _finished(problem, columns, run)
        now = run.now  # the plain steps came to the same edge, and nearer
    at_edge = replace(run, now=now, count=run.count + count, reason=AT_EDGE)
    fit = _finished(problem, columns, at_edge)
    # a least squares there would leave the domain; its covariance is the information's
    solution = with_coefficients(fit.solution, now.b)
    return replace(fit, solution=solution, converged=True, edge=True)


def _barrier_path(
    problem: Problem, columns: Columns, b: np.ndarray
) -> tuple[list[np.ndarray], int]:
    """Return the minima behind barriers that are lowered step by step, and passes taken.

    Each starts where the last ended; the path ends early where an iteration fails."""
    path, count = [b], 0
    for place, t in enumerate(BARRIERS):
        walled = replace(problem, barrier=t)
        try:
            run = iterate(walled, columns, _begin_behind(walled, path, place), NEAR_ENOUGH)
        except NoConvergenceError:
            break
        path.append(run.now.b)
        count += run.count
    return path, count


def _begin_behind(walled: Problem, path: list[np.ndarray], place: int) -> Pass:
    """Return the first pass behind the barrier at ``place``: further along the path if inside."""
    here = path[-1]
    if place > 1:
        # coefficients go with t as good as straight, once the barrier is low
        before, last, t = BARRIERS[place - 2], BARRIERS[place - 1], BARRIERS[place]
        ahead = here + (here - path[-2]) * (t - last) / (last - before)
        if approach(walled, here, ahead - here) < 1:
            return one_pass(walled, ahead)
    return one_pass(walled, here)


# ------------------------------------------------------------------ predictors far from zero


def _shifted(problem: Problem, shift: np.ndarray) -> Iterated:
    """Return the fit with columns less ``shift``, and its solution in the columns as they are."""

    def moved(part: LikelihoodRows) -> LikelihoodRows:
        return replace(part, X=shifted(part.X, shift))

    near = replace(problem, rows=MappedRows(problem.rows, problem.rows.width, moved))
    columns, now = first_pass(near)
    fit = _finished(near, columns, iterate(near, columns, now))

    def predictor(X: Matrix) -> np.ndarray:
        return np.asarray(times(shifted(X, shift), fit.b[1:]) + fit.b[0])

    # the solution is wanted in the columns as they are; the predictor keeps the digits of the shift
    at = WorkingBlocks(problem.rows, problem.family, problem.link, predictor)
    solution = least_squares(at, intercept=True, n=problem.n)
    rss = fit.pearson / solution.unit / solution.unit
    return replace(fit, solution=replace(solution, perfect=False, rss=rss))
