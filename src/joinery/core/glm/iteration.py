"""The reweighted iteration: steps of weighted least squares until one is lost in rounding.

At coefficients β the working response is z = η + (y − μ)/(dμ/dη) with weights W = w(dμ/dη)²/V(μ); a
step solves for β once more. One pass over the rows gives deviance, gradient XᵀW(z − η) and XᵀWX
together. The step is halved while the deviance rises or a mean is invalid; iteration stops when
δᵀXᵀWXδ/φ < 1e-22 or no longer falls (McCullagh & Nelder 1989, 2.5)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.one_pass import Pass, approach, next_step, one_pass, reach_bound
from joinery.core.glm.problem import Columns, Problem
from joinery.support.errors import NoConvergenceError

MOST_STEPS, MOST_HALVINGS = 200, 40
SETTLED = 1e-22  # of δᵀXᵀWXδ/φ: a step so short moves no estimate in its twelfth digit
LAST = 1e-13  # a step so short is followed by one lost in rounding
AS_GOOD_AS_LAST = 1e-16  # below it rounding alone keeps steps from shrinking by squares
NO_LONGER_SHRINKS = 0.25  # of the last decrement: exact steps would have shrunk far more
# a step that no halving makes lower the deviance: shorter ones are lost in rounding
ROUNDING = 1e-10
DEVIANCE_ROUNDING = 1e-11  # of a deviance: a sum over the rows carries that much, which is no rise
OF_THE_WAY = 0.8  # to a wall, at most in one step: the rest is the way back
SLOW_AFTER, SLOW = 4, 0.02  # steps by expected weights, and a decrement of the last one's that long


@dataclass(frozen=True)
class Run:
    """The end of an iteration, and why it ended."""

    now: Pass  # the last pass
    step: np.ndarray  # the step that led to it
    reach: float  # a bound of the largest change of η that this step made
    count: int  # passes
    converged: bool
    reason: str


def iterate(
    problem: Problem,
    columns: Columns,
    now: Pass,
    enough: float = SETTLED,
    most: int = MOST_STEPS,
) -> Run:
    """Take steps until one is lost in rounding, or shorter than ``enough``.

    Raises NoConvergenceError after ``most`` steps.
    """
    newton, last = False, np.inf
    for count in range(1, most + 1):
        step, decrement = next_step(problem, columns, now)
        reach = reach_bound(now, step, decrement, rough=problem.canonical)
        # δᵀXᵀWXδ/φ is the squared step in standard errors: judged in units of y instead, a fit
        # would depend on whether honey is weighed in grams or in kilograms
        phi = problem.dispersion or max(now.pearson / max(problem.n - columns.rank, 1), 1e-300)
        length = decrement / phi
        # single precision is good for a step that others follow, not for the last
        rough = problem.canonical and length > LAST
        after = _halved(problem, now, step, newton, rough)
        if after is None:
            reason = "no smaller step lowers the deviance"
            return Run(now, step, reach, count, length < ROUNDING, reason)
        now, size = after
        if length < enough:
            return Run(now, step, size * reach, count, True, "the step is lost in rounding")
        if length < AS_GOOD_AS_LAST and decrement >= NO_LONGER_SHRINKS * last:
            reason = "the step no longer shrinks: it is lost in rounding"
            return Run(now, step, size * reach, count, True, reason)
        # steps that shrink slowly come from expected weights far from the observed ones: Newton's
        # shrink by squares. Under a canonical link the two are the same
        slow = count > SLOW_AFTER and decrement > SLOW * last
        newton = newton or (slow and not problem.canonical)
        last = decrement
    raise NoConvergenceError(
        f"the fit did not converge in {most} steps; centre or rescale the predictors, or "
        "choose another link",
        iterations=most,
    )


def _halved(
    problem: Problem, now: Pass, step: np.ndarray, newton: bool, rough: bool
) -> tuple[Pass, float] | None:
    """Return the pass after a step, halved until the deviance does not rise, with the share taken.

    None where none helps.
    """
    size = 1.0
    # most of the way to a wall at once would leave hardly any way back
    if problem.barrier:
        size = min(1.0, OF_THE_WAY / max(approach(problem, now.b, step), 1e-300))
    slack = DEVIANCE_ROUNDING * (abs(now.deviance) + 1e-300)
    for _ in range(MOST_HALVINGS):
        after = one_pass(problem, now.b + size * step, newton, rough)
        if np.isfinite(after.deviance) and after.deviance <= now.deviance + slack:
            return after, size
        size /= 2
    return None
