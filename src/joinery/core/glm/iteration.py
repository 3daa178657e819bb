"""The reweighted iteration: weighted least squares until the step is lost in rounding.

At coefficients β the working response is z = η + (y − μ)/(dμ/dη) with weights W = w(dμ/dη)²/V(μ); a
step solves for β once more. One pass over the rows gives deviance, gradient XᵀW(z − η) and XᵀWX
together. The step is halved while the deviance rises or a mean is invalid; iteration stops when
δᵀXᵀWXδ/φ < 1e-22 or no longer falls (McCullagh & Nelder 1989, 2.5). The last step goes through
``core.least_squares``, which brings the covariance with all its digits."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from joinery.core.blocks.columns import extremes, shifted
from joinery.core.blocks.products import inner, times
from joinery.core.glm.edges import BARRIERS, NEAR_ENOUGH, barrier_gap, has_edges, nearing, wall
from joinery.core.glm.families import Family
from joinery.core.glm.information import Information, Matrix, information, together
from joinery.core.glm.links import Link
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import (
    LikelihoodRows,
    LikelihoodSource,
    MappedRows,
    Predictor,
    SomeRows,
    WorkingBlocks,
    by_coefficients,
    inside,
    linear,
    observed_weights,
    unit_deviance,
    working_state,
)
from joinery.core.glm.starting import START_APART, far_means, first_inside, rough_start
from joinery.core.least_squares.folded import Residuals
from joinery.core.least_squares.solution import Solution
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import DataError, NoConvergenceError

MOST_STEPS, MOST_HALVINGS = 200, 40
SHARE = 16  # one piece of so many is fitted first
ROWS_A_COLUMN = 50  # which that piece must have to tell where the fit to all rows lies
DIGITS, ROUGH = 1e-13, 1e-5
NEAR, MOST_NEARING = 1e-2, 25  # far below what separates the coefficients of some rows and of all
SETTLED = 1e-22  # of δᵀXᵀWXδ/φ: a step so short moves no estimate in its twelfth digit
LAST = 1e-13  # a step so short is followed by one lost in rounding
ROUNDING = (
    1e-10  # of a step that no halving makes lower the deviance: shorter ones are lost in rounding
)
WELL_APART = 1e-2  # of a scaled factor's diagonal: below it steps go through ``core.least_squares``
AT_EDGE = "the likeliest means lie at the edge of what family and link admit"
OF_THE_WAY = 0.8  # to a wall, at most in one step
SLIGHTLY_APART = 1e-9  # the same at an edge, where one row's weight outgrows all others
RUNNING = 0.05  # a change of η in the last step that shows coefficients running off


@dataclass(frozen=True)
class Iterated:
    """A generalized linear model as the iteration left it.

    ``solution`` is the weighted least squares of the last step. ``pearson`` is Σ w(y−μ)²/V;
    ``running`` are columns (0 the intercept) whose coefficients grow without end; ``reason`` says
    why iteration stopped."""

    solution: Solution
    family: Family
    link: Link
    deviance: float
    pearson: float
    iterations: int
    converged: bool
    reason: str
    running: tuple[int, ...] = ()
    edge: bool = False  # whether the best means lie at an edge of what the family admits

    @property
    def b(self) -> np.ndarray:
        """[intercept or 0, coefficients with 0 where not estimable]: (k + 1,)."""
        return self.solution.padded_coefficients


# ------------------------------------------------------------------ the iteration


def settled(problem: Problem, b: np.ndarray | None) -> Iterated:
    """Return the fit at the family's own shape."""
    columns, now = _begun(problem, b)
    # a predictor like a year has a mean of many spreads: information summed about zero would lose
    # its digits, so the fit is to the columns less their means
    if (shift := far_means(problem, columns)) is not None:
        return _shifted(problem, shift)
    run = iterated(problem, columns, now)
    # plain steps stop short where the best means lie at a wall of the domain, such as 0 under an
    # identity link; a barrier that is lowered step by step leads there
    if not run.converged and has_edges(problem.family, problem.link):
        return _at_edge(problem, columns, run)
    return _finished(problem, columns, run)


def _at_edge(problem: Problem, columns: Columns, run: _Run) -> Iterated:
    """Return the fit whose best means lie at an edge, which plain steps do not reach."""
    start = look(problem, first_inside(problem, columns))
    if np.isfinite(start.deviance):
        b = start.b
    else:
        b = run.now.b
    # the path of the barrier's minima: each starts where the last ended
    count, path = run.count, [b]
    for place, t in enumerate(BARRIERS):
        walled = replace(problem, barrier=t)
        begun = look(walled, path[-1])
        if place > 1:  # coefficients go with t as good as straight
            ahead = path[-1] + (path[-1] - path[-2]) * (t - BARRIERS[place - 1]) / (
                BARRIERS[place - 1] - BARRIERS[place - 2]
            )
            approach = partial(_approach, problem, path[-1], ahead - path[-1])
            if max(problem.rows.pieces.each(approach)) < 1:
                begun = look(walled, ahead)
        try:
            steps = iterated(walled, columns, begun, NEAR_ENOUGH)
        except NoConvergenceError:
            break
        path.append(steps.now.b)
        count += steps.count
    # without the barrier: its last minimum lies inside by as much as its height
    now = look(problem, path[-1])
    if not now.deviance < run.now.deviance:
        complete = len(path) > len(BARRIERS)
        if not complete or now.deviance - run.now.deviance > barrier_gap(problem.n):
            return _finished(problem, columns, run)
        now = run.now  # the plain steps came to the same edge, and nearer
    ended = _finished(problem, columns, replace(run, now=now, count=count, reason=AT_EDGE))
    # a least squares there would leave the domain; its covariance is the information's
    solution = with_coefficients(ended.solution, now.b)
    return replace(ended, solution=solution, converged=True, edge=True)


@dataclass(frozen=True)
class _Seen:
    """One pass over the rows at coefficients ``b``: the deviance, gradient and XᵀWX of [1, X]."""

    b: np.ndarray
    deviance: float  # infinite where a mean is invalid
    pearson: float
    gradient: np.ndarray
    H: Information
    curved: Information | None  # of observed instead of expected weights, where asked for
    lightest: float  # the smallest working weight
    rough: bool


@dataclass(frozen=True)
class _Run:
    """The end of an iteration: the last pass, step and largest change of η, and why."""

    now: _Seen
    step: np.ndarray
    reach: float
    count: int
    converged: bool
    reason: str


def _begun(problem: Problem, b: np.ndarray | None) -> tuple[Columns, _Seen]:
    """Return which columns are estimable, and the first pass at coefficients with valid means."""
    rows, rough = problem.rows, problem.canonical
    if b is None and (begun := _begun_from_some(problem)) is not None:
        return begun
    if rough and b is None:
        started = rough_start(problem)
    else:
        started = None
    if started is not None:
        columns, b = Columns(np.arange(rows.width), problem.intercept, rows.width), started
    else:
        first = least_squares(problem.at(None), intercept=problem.intercept, n=problem.n)
        columns = Columns(first.kept, problem.intercept, rows.width, first)
        if b is None:
            b = first.padded_coefficients
    now = look(problem, b, rough=rough)
    # the least squares start may give a mean that the family cannot have
    if not np.isfinite(now.deviance):
        now = look(problem, first_inside(problem, columns))
    if not np.isfinite(now.deviance):
        raise NoConvergenceError(
            "no coefficients were found that give every row a mean which the "
            f"{problem.family.name} family can have "
            f"under the {problem.link.name} link; add an intercept, or choose another link",
            iterations=0,
        )
    return columns, now


def _begun_from_some(problem: Problem) -> tuple[Columns, _Seen] | None:
    """Return the first pass at the coefficients of a fit to one piece in sixteen.

    None where rows are too few for that, where the usual start is the end, or where those pieces
    mislead: by columns that are not well apart in them, by coefficients that run off, or by rows
    unlike the others."""
    count, width = len(problem.rows.pieces), problem.rows.width
    # pieces from all over the table, as a sorted one has other rows at its top
    chosen = tuple(range(SHARE // 2, count, SHARE))
    if len(chosen) * problem.n < ROWS_A_COLUMN * (width + 1) * count:
        return None
    some = SomeRows(problem.rows, chosen)
    n = sum(some.pieces.each(lambda part: round(float(part.times.sum()))))
    try:
        columns, now = _begun(part := replace(problem, rows=some, n=n), None)
        run = iterated(part, columns, now, NEAR, MOST_NEARING)
    except (DataError, NoConvergenceError):
        return None  # all rows may tell more, or say why not
    if run.count == 1 or len(columns.kept) < width:
        return None
    now = look(problem, run.now.b, rough=problem.canonical)
    # twice the deviance that those rows promise: these rows are unlike them
    likely = now.deviance <= 2 * run.now.deviance * problem.n / n
    apart = likely and now.H.solve(now.gradient, columns.places, START_APART) is not None
    if apart:
        return (columns, now)
    return None


def iterated(
    problem: Problem,
    columns: Columns,
    now: _Seen,
    enough: float = SETTLED,
    most: int = MOST_STEPS,
) -> _Run:
    """Steps until one is lost in rounding, or shorter than ``enough``."""
    newton, last = False, np.inf
    for count in range(1, most + 1):
        step, decrement = _step(problem, columns, now)
        change = _reach(now, step, decrement, rough=problem.canonical)
        # a step counts in units of the dispersion: in those of y it would depend on the unit of y
        phi = problem.dispersion or max(now.pearson / max(problem.n - columns.rank, 1), 1e-300)
        after = _halved(problem, now, step, newton, problem.canonical and decrement / phi > LAST)
        if after is None:
            reason = "no smaller step lowers the deviance"
            return _Run(now, step, change, count, decrement / phi < ROUNDING, reason)
        now, size = after
        # δᵀXᵀWXδ/φ is the squared step in standard errors; at 1e-22 no digit of a coefficient moves
        if decrement / phi < enough:
            return _Run(now, step, size * change, count, True, "the step is lost in rounding")
        # near the end rounding alone keeps steps from shrinking by squares
        if decrement / phi < 1e-16 and decrement >= 0.25 * last:
            reason = "the step no longer shrinks: it is lost in rounding"
            return _Run(now, step, size * change, count, True, reason)
        # steps that shrink slowly come from expected weights far from the observed ones: Newton's
        # shrink by squares
        newton = newton or (not problem.canonical and count > 4 and decrement > 0.02 * last)
        last = decrement
    raise NoConvergenceError(
        f"the fit did not converge in {most} steps; centre or rescale the predictors, or "
        "choose another link",
        iterations=most,
    )


def lowest(problem: Problem, columns: Columns, now: _Seen) -> tuple[float, np.ndarray] | None:
    """Return the deviance where the next step leads, to 13 digits without a pass to see it, and b
    there.

    Along a step δ the deviance falls by δᵀXᵀWXδ less Σ W′(xδ)³/3, with W′ the weights' slope in η:
    no larger than W where a yes-or-no logit or a poisson log is. None elsewhere, or where that
    is not small enough."""
    if not (problem.canonical and problem.family.known_dispersion):
        return None
    step, decrement = _step(problem, columns, now)
    slack = DIGITS * now.deviance
    # the fall along the step is known to as many digits as the information has
    if not 0 <= decrement * ROUGH < slack:  # the information is one of single precision
        return None
    reach = _reach(now, step, decrement, rough=True)
    # the bound from the lightest row is cheap; the largest change itself costs a pass
    if decrement * reach > slack and decrement * _eta_change(problem.rows, step) > slack:
        return None
    return now.deviance - decrement, now.b + step


def _halved(
    problem: Problem, now: _Seen, step: np.ndarray, newton: bool, rough: bool
) -> tuple[_Seen, float] | None:
    """Return the pass after a step, halved until the deviance does not rise, with the share taken.

    None where none helps.
    """
    size = 1.0
    if problem.barrier:  # most of the way to a wall at once would leave hardly any way back
        approach = max(problem.rows.pieces.each(partial(_approach, problem, now.b, step)))
        size = min(1.0, OF_THE_WAY / max(approach, 1e-300))
    # a sum of n deviances carries rounding of its own, which is no rise
    slack = 1e-11 * (abs(now.deviance) + 1e-300)
    for _ in range(MOST_HALVINGS):
        after = look(problem, now.b + size * step, newton, rough)
        if np.isfinite(after.deviance) and after.deviance <= now.deviance + slack:
            return after, size
        size /= 2
    return None


def _approach(problem: Problem, b: np.ndarray, step: np.ndarray, part: LikelihoodRows) -> float:
    """Return the largest share of its distance from an edge of η that a step takes a row."""
    eta = linear(by_coefficients(b), part)
    move = by_coefficients(step)(part.X)
    return nearing(problem.family, problem.link, eta, move)


def _finished(problem: Problem, columns: Columns, run: _Run) -> Iterated:
    """Return the last weighted least squares, and whether coefficients run off."""
    now, converged, reason = run.now, run.converged, run.reason
    running: tuple[int, ...] = ()
    change = 0.0
    if converged:
        if run.reach <= RUNNING:
            change = run.reach
        else:
            change = _eta_change(problem.rows, run.step)
    if change > RUNNING:
        running, converged = _running(problem.rows, run.step), False
        reason = "the deviance has converged, but coefficients grow without bound"
    working, solution = problem.at(now.b), None
    # the information of the last pass gives the covariance without another pass over the rows
    if converged and problem.intercept and not now.rough:
        seen = Residuals(now.b, now.gradient, now.pearson)
        solution = now.H.solution(working, seen, problem.n)
    if solution is None:
        solution = least_squares(working, intercept=problem.intercept, n=problem.n)
    # a last least squares must only polish; one that moves far has met a singular weight
    moved = np.max(np.abs(solution.padded_coefficients - now.b))
    if running or not moved <= 1e-3 * max(1.0, float(np.max(np.abs(now.b)))):
        solution = with_coefficients(solution, now.b)
    solution = replace(solution, perfect=False, rss=now.pearson / solution.unit / solution.unit)
    return Iterated(
        solution,
        problem.family,
        problem.link,
        now.deviance,
        now.pearson,
        run.count,
        converged,
        reason,
        running,
    )


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


# ------------------------------------------------------------------ predictors far from zero


def _shifted(problem: Problem, shift: np.ndarray) -> Iterated:
    """Return the fit with columns less ``shift``, and its solution in the columns as they are."""

    def moved(part: LikelihoodRows) -> LikelihoodRows:
        return replace(part, X=shifted(part.X, shift))

    near = replace(problem, rows=MappedRows(problem.rows, problem.rows.width, moved))
    columns, now = _begun(near, None)
    fit = _finished(near, columns, iterated(near, columns, now))
    predictor: Predictor = lambda X: times(shifted(X, shift), fit.b[1:]) + fit.b[0]  # noqa: E731
    # the solution is wanted in the columns as they are; the predictor keeps the digits of the shift
    at = WorkingBlocks(problem.rows, problem.family, problem.link, predictor)
    solution = least_squares(at, intercept=True, n=problem.n)
    rss = fit.pearson / solution.unit / solution.unit
    return replace(fit, solution=replace(solution, perfect=False, rss=rss))


# ------------------------------------------------------------------ one pass, one step


def look(problem: Problem, b: np.ndarray, newton: bool = False, rough: bool = False) -> _Seen:
    """Make one pass at coefficients b; the observed information too under ``newton``."""
    working, k = problem.at(b), problem.rows.width
    gradient, deviance, pearson, lightest = np.zeros(k + 1), 0.0, 0.0, np.inf

    def added(
        part: LikelihoodRows,
    ) -> tuple[np.ndarray, Information, Information | None, float, float, float] | None:
        state = working_state(working, part)
        if not inside(problem.family, problem.link, state):
            return None
        e = state.W * state.residual
        # the barrier is −t Σ log of the distance from the wall: it adds to weight, score and cost
        W, score, cost = state.W, e, 0.0
        more: np.ndarray | float = 0.0
        if problem.barrier:
            result = wall(problem.family, problem.link, state.eta, part.times, problem.barrier)
            more, cost = result.weight, float(result.cost.sum())
            W, score = W + more, e + result.score
        H, gradient = information(part.X, W, score, rough=rough)
        observed = None
        if newton:
            observed = information(part.X, observed_weights(working, state) + more, score)[0]
        return (
            gradient,
            H,
            observed,
            inner(part.evidence, unit_deviance(problem.family, part.y, state)) + 2 * cost,
            inner(e, state.residual),
            float(state.W.min(initial=np.inf)),
        )

    H: Information | None = None
    curved: Information | None = None
    with np.errstate(all="ignore"):
        for part in problem.rows.pieces.each(added):
            if part is None:
                deviance = np.inf
                break
            gradient = gradient + part[0]
            H = together(H, part[1])
            curved = together(curved, part[2])
            deviance, pearson, lightest = (
                deviance + part[3],
                pearson + part[4],
                min(lightest, part[5]),
            )
    H, curved = (None if one is None else one.settled() for one in (H, curved))
    if H is None:
        H = Matrix(np.zeros((k + 1, k + 1)))
    return _Seen(b, deviance, pearson, gradient, H, curved, lightest, rough)


def _step(problem: Problem, columns: Columns, now: _Seen) -> tuple[np.ndarray, float]:
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
    for both in ([now.curved] if now.curved is not None else []) + [now.H]:
        step = both.solve(now.gradient, places, apart)
        if step is not None:
            return step, now.H.quadratic(step)
    if problem.barrier:
        raise NoConvergenceError("the edge is too near for another step", iterations=0)
    solution = least_squares(problem.at(now.b), intercept=columns.has_intercept, n=problem.n)
    step = solution.padded_coefficients - now.b
    step[~np.isin(np.arange(len(step)), places)] = 0.0
    return step, now.H.quadratic(step)


def _reach(now: _Seen, step: np.ndarray, decrement: float, *, rough: bool) -> float:
    """Bound the largest change of η that a step makes: (xδ)² ≤ δᵀXᵀWXδ/w in a row of weight w.

    What rounding may have hidden in the decrement counts too.
    """
    with np.errstate(all="ignore"):
        hidden = now.H.rounding(step) * (1e-6 if rough else 1e-14)
        return float(np.sqrt(np.divide(max(decrement, 0.0) + hidden, now.lightest)))


def _eta_change(rows: LikelihoodSource, step: np.ndarray) -> float:
    """Return the largest change of η that a step makes."""
    return max(
        rows.pieces.each(
            lambda part: float(np.max(np.abs(times(part.X, step[1:]) + step[0]), initial=0.0))
        )
    )


def _running(rows: LikelihoodSource, step: np.ndarray) -> tuple[int, ...]:
    """Return columns (0 the intercept) that take part in a step which no longer lowers the
    deviance."""
    low, high = np.full(rows.width, np.inf), np.full(rows.width, -np.inf)
    for least, greatest in rows.pieces.each(lambda part: extremes(part.X)):
        low, high = np.minimum(low, least), np.maximum(high, greatest)
    # a coefficient moves the linear predictor by its step times the column's range
    spread = np.append(1.0, high - low)
    moved = np.abs(step) * spread
    return tuple(int(j) for j in np.flatnonzero(moved > 0.05 * moved.max()))
