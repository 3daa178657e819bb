"""The shortcuts to fewer passes: a start from some of the rows, an end without a last pass.

The iteration itself knows neither; without them every fit comes to the same coefficients."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from joinery.core.glm.iteration import LAST, iterate
from joinery.core.glm.one_pass import Pass, eta_change, next_step, one_pass, reach_bound
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import SomeRows
from joinery.core.glm.starting import START_APART, first_inside, rough_start
from joinery.core.least_squares.solve import least_squares
from joinery.support.errors import DataError, NoConvergenceError

SHARE = 16  # one piece of so many is fitted first
ROWS_A_COLUMN = 50  # which that piece must have to tell where the fit to all rows lies
NEAR, MOST_NEARING = 1e-2, 25  # far below what separates the coefficients of some rows and of all
UNLIKE = 2.0  # times the deviance that some rows promise of all: they are unlike the others
DIGITS = 1e-13  # of a deviance: what a promised one may miss
ROUGH = 1e-5  # of a decrement by information of single precision
DEVIANCE_SETTLED = 1e-8  # a step so short leaves less of a deviance than its rounding


def first_pass(problem: Problem, b: np.ndarray | None = None) -> tuple[Columns, Pass]:
    """Return which columns are estimable, and a first pass at coefficients with valid means.

    Begun at ``b`` where given, else at the fit to some of the rows where they are many, at rough
    coefficients under a canonical link, or at the least squares of the first working response.
    Raises NoConvergenceError where no coefficients with valid means are found."""
    if b is None:
        begun = _from_some_rows(problem)
        if begun is not None:
            return begun
    columns, b = _first_coefficients(problem, b)
    now = one_pass(problem, b, rough=problem.canonical)
    # the least squares start may give a mean that the family cannot have
    if not np.isfinite(now.deviance):
        now = one_pass(problem, first_inside(problem, columns))
    if not np.isfinite(now.deviance):
        raise NoConvergenceError(
            "no coefficients were found that give every row a mean which the "
            f"{problem.family.name} family can have "
            f"under the {problem.link.name} link; add an intercept, or choose another link",
            iterations=0,
        )
    return columns, now


def _first_coefficients(problem: Problem, b: np.ndarray | None) -> tuple[Columns, np.ndarray]:
    """Return the estimable columns, and coefficients to begin with: ``b`` where given."""
    width = problem.rows.width
    if b is None and problem.canonical:
        rough = rough_start(problem)
        if rough is not None:  # all columns are well apart, so that all are estimable
            return Columns(np.arange(width), problem.intercept, width), rough
    # the rank is that of the least squares, which takes columns in the order written
    first = least_squares(problem.at(None), intercept=problem.intercept, n=problem.n)
    columns = Columns(first.kept, problem.intercept, width, first)
    if b is None:
        b = first.padded_coefficients
    return columns, b


def _from_some_rows(problem: Problem) -> tuple[Columns, Pass] | None:
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
    part = replace(problem, rows=some, n=n)
    try:
        columns, now = first_pass(part)
        run = iterate(part, columns, now, NEAR, MOST_NEARING)
    except (DataError, NoConvergenceError):
        return None  # all rows may tell more, or say why not
    if run.count == 1 or len(columns.kept) < width:
        return None
    now = one_pass(problem, run.now.b, rough=problem.canonical)
    promised = run.now.deviance * problem.n / n
    if not now.deviance <= UNLIKE * promised:
        return None
    if now.expected.solve(now.gradient, columns.places, START_APART) is None:
        return None
    return columns, now


def nested_deviance(problem: Problem, start: np.ndarray) -> tuple[float, np.ndarray] | None:
    """Return the deviance of a model to 12 digits from a start near its end, and coefficients.

    All columns are estimable. None where the steps do not lead there: the model then wants fitting
    from afar."""
    columns = Columns(np.arange(problem.rows.width), problem.intercept, problem.rows.width)
    now = one_pass(problem, start, rough=problem.canonical)
    if not np.isfinite(now.deviance):
        return None
    # what a step leaves of the deviance is about its square: by Newton's steps nothing
    if problem.canonical:
        lengths: tuple[float, ...] = (NEAR, DEVIANCE_SETTLED)
    else:
        lengths = (LAST,)
    try:
        for enough in lengths:
            promised = _promised_deviance(problem, columns, now)
            if promised is not None:
                return promised
            run = iterate(problem, columns, now, enough)
            now = run.now
    except NoConvergenceError:
        return None
    # the deviance at the end of the steps, not the one that a step promised
    if run.converged:
        return now.deviance, now.b
    return None


def _promised_deviance(
    problem: Problem, columns: Columns, now: Pass
) -> tuple[float, np.ndarray] | None:
    """Return the deviance where the next step leads, to 13 digits without a pass to see it, and b
    there.

    Along a step δ the deviance falls by δᵀXᵀWXδ less Σ W′(xδ)³/3, with W′ the weights' slope in η:
    no larger than W where a yes-or-no logit or a poisson log is. None elsewhere, or where that
    is not small enough."""
    if not (problem.canonical and problem.family.known_dispersion):
        return None
    step, decrement = next_step(problem, columns, now)
    slack = DIGITS * now.deviance
    # the fall along the step is known to as many digits as the information has
    if not 0 <= decrement * ROUGH < slack:
        return None
    reach = reach_bound(now, step, decrement, rough=True)
    # the bound from the lightest row is cheap; the largest change itself costs a pass
    if decrement * reach > slack and decrement * eta_change(problem.rows, step) > slack:
        return None
    return now.deviance - decrement, now.b + step
