"""The likeliest shape of counts that spread more than poisson ones.

The profile likelihood of log k is that of the best coefficients at each k (McCullagh & Nelder 1989,
11.2); its slope is known in closed form there, so that a root is looked for, not a maximum."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from joinery.core.glm.families import shape_slope
from joinery.core.glm.iteration import iterate
from joinery.core.glm.likeliest import Iterated, likeliest
from joinery.core.glm.likelihood import log_likelihood
from joinery.core.glm.one_pass import one_pass
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import LikelihoodRows, by_coefficients, linear

LEAST_SHAPE, MOST_SHAPE = -12.0, 16.0  # log k: beyond, counts are all or nothing, or poisson
USUAL_SHAPES = tuple(np.arange(-4.0, 12.1, 2.0))  # log k of a first look: k from 0.02 to 160,000
FIRST_STRIDE = 0.25  # of log k from a guess
SEARCHED_ROWS = 20_000  # up to which the likelihood of a shape is looked at over its whole range


def with_likeliest_shape(problem: Problem, near: float | None) -> Iterated:
    """Fit with the likeliest shape: a root of the profile likelihood's slope in log k.

    Whether counts spread more than poisson ones decides, at the poisson fit, if k is finite; a
    maximum may lie apart from that, so that the slope is looked at over the whole range unless a
    shape ``near`` it is known."""
    # k = ∞ is poisson: the fit there tells whether a finite k is more likely
    poisson = replace(problem, family=problem.family.with_shape(np.inf))
    plain = likeliest(poisson, None)
    columns = Columns(plain.solution.kept, problem.intercept, problem.rows.width)
    profile = _ShapeProfile(problem, columns, plain.b)
    y, mu, w = _means(problem, plain.b)
    more = float((w * ((y - mu) ** 2 - y)).sum())  # spread beyond poisson: the slope in 1/k there
    if more > 0:
        # the moment estimate: Σ((y − μ)² − y) = Σμ²/k
        guess = float(np.log((w * mu * mu).sum() / more))
    else:
        guess = None
    if near is not None and np.isfinite(near):
        guess = float(np.log(near))
    scan = near is None and problem.n <= SEARCHED_ROWS
    best, most, steps = plain, log_likelihood(problem.rows, plain), plain.iterations
    # the profile likelihood may have several maxima in k; the likeliest wins
    for low, high in profile.brackets(guess, scan):
        k = float(np.exp(profile.root(low, high)))
        fit = likeliest(replace(problem, family=problem.family.with_shape(k)), profile.b)
        steps += fit.iterations
        likelihood = log_likelihood(problem.rows, fit)
        if likelihood > most:
            best, most = fit, likelihood
    return replace(best, iterations=steps)


class _ShapeProfile:
    """The slope of the profile likelihood in log k.

    Coefficients are carried from one k to the next.
    """

    def __init__(self, problem: Problem, columns: Columns, b: np.ndarray) -> None:
        self.problem, self.columns, self.b = problem, columns, b
        self._known: dict[float, float] = {}

    def slope(self, log_k: float) -> float:
        """Return the slope at one log k."""
        if log_k not in self._known:
            k = float(np.exp(log_k))
            problem = replace(self.problem, family=self.problem.family.with_shape(k))
            # coefficients change little from one k to the next: each fit takes a step or two
            self.b = iterate(problem, self.columns, one_pass(problem, self.b)).now.b
            self._known[log_k] = shape_slope(*_means(problem, self.b), k)
        return self._known[log_k]

    def brackets(self, guess: float | None, scan: bool) -> list[tuple[float, float]]:
        """Return pairs of log k between which the likelihood has a maximum.

        ``scan`` looks for all of them over the usual range; else, or where there is none in it,
        one is looked for uphill from the ``guess``."""
        if scan:
            grid = list(USUAL_SHAPES)
            if guess is not None and grid[0] < guess < grid[-1]:
                grid = sorted([*grid, guess])
            maxima = self._maxima(grid)
            if maxima:
                return maxima
            # the likelihood falls from the least of them on: its maximum is at a k still less
            if self.slope(grid[0]) < 0:
                guess = grid[0]
        if guess is None:
            return []
        return self._uphill(float(np.clip(guess, LEAST_SHAPE, MOST_SHAPE)))

    def _maxima(self, grid: list[float]) -> list[tuple[float, float]]:
        """Return the neighbours on a grid between which the slope turns from rising to falling."""
        slopes = [self.slope(log_k) for log_k in grid]
        steps = zip(grid, grid[1:], slopes, slopes[1:], strict=False)
        return [(low, high) for low, high, before, after in steps if before > 0 >= after]

    def _uphill(self, guess: float) -> list[tuple[float, float]]:
        """Return the pair between which the slope turns, in strides from a guess that double."""
        rising = self.slope(guess) > 0
        near, stride = guess, FIRST_STRIDE
        while LEAST_SHAPE < near < MOST_SHAPE:
            if rising:
                far = near + stride
            else:
                far = near - stride
            if (self.slope(far) > 0) != rising:
                return [(min(near, far), max(near, far))]
            near, stride = far, 2 * stride
        return []

    def root(self, low: float, high: float) -> float:
        """Return log k where the slope is zero, to the last digits."""
        from scipy import optimize

        for end in (low, high):
            if self.slope(end) == 0:
                return end
        return float(optimize.brentq(self.slope, low, high, xtol=1e-13, rtol=1e-14))


def _means(problem: Problem, b: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return responses, means and weights of all rows at given coefficients."""
    predictor, mean = by_coefficients(b), problem.link.mu

    def of_part(part: LikelihoodRows) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        return part.y, mean(linear(predictor, part)), part.weights

    y, mu, w = zip(*problem.rows.pieces.each(of_part), strict=True)
    return np.concatenate(y), np.concatenate(mu), np.concatenate(w)
