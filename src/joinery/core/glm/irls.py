"""Generalized linear models by iteratively reweighted least squares, with the shape of counts."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from joinery.core.glm.families import Family, shape_slope
from joinery.core.glm.iteration import LAST, NEAR, Iterated, iterated, look, lowest, settled
from joinery.core.glm.links import Link, beyond
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import LikelihoodRows, LikelihoodSource, by_coefficients, linear
from joinery.support.errors import DataError, NoConvergenceError

DEVIANCE_SETTLED = 1e-8  # a step so short leaves less of a deviance than its rounding
LEAST_SHAPE, MOST_SHAPE = -12.0, 16.0  # log k: beyond, counts are all or nothing, or poisson
SEARCHED_ROWS = 20_000  # up to which the likelihood of a shape is looked at over its whole range


def reweighted(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    *,
    intercept: bool,
    n: int,
    dispersion: float | None = None,
    start: np.ndarray | None = None,
    keep_shape: bool = False,
    near: float | None = None,
) -> Iterated:
    """Fit a generalized linear model by iteratively reweighted least squares.

    Parameters
    ----------
    rows: what is fitted to.
    intercept: whether there is a constant beside the columns of the rows.
    n: how many rows they stand for.
    dispersion: φ where it is known; steps are judged in its unit.
    start: coefficients (k + 1,) to begin with.
    keep_shape: whether a family's shape stays as it is rather than being estimated.
    near: a shape near which the likeliest one lies, where that is known.

    Raises NoConvergenceError when no step lowers the deviance from the start, or steps run out.
    """
    problem = Problem(rows, family, link, intercept, n, dispersion)
    try:
        if family.shape is not None and not keep_shape:
            return _with_shape(problem, near)
        return settled(problem, start)
    except DataError:  # every working weight is lost
        raise NoConvergenceError(
            "the fit cannot be computed in numbers of this size; rescale the response or the "
            "predictors",
            iterations=0,
        ) from None


def nested(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    start: np.ndarray,
    *,
    intercept: bool,
    n: int,
    dispersion: float | None,
) -> tuple[float, np.ndarray] | None:
    """Return the deviance of a model within one that is fitted, to 12 digits, and coefficients (k +
    1,).

    Parameters: rows of the model's own columns, which are estimable as those of the whole are;
    coefficients ``start`` (k + 1,) near its own; the rest as for ``reweighted``. None where the
    steps do not lead there: the model then wants fitting from afar.
    """
    problem = Problem(rows, family, link, intercept, n, dispersion)
    columns = Columns(np.arange(rows.width), intercept, rows.width)
    now = look(problem, start, rough=problem.canonical)
    if not np.isfinite(now.deviance):
        return None
    # what a step leaves of the deviance is about its square: by Newton's steps nothing
    enough = (NEAR, DEVIANCE_SETTLED) if problem.canonical else (LAST,)
    try:
        for least in enough:
            if (result := lowest(problem, columns, now)) is not None:
                return result
            run = iterated(problem, columns, now, least)
            now = run.now
    except NoConvergenceError:
        return None
    # the deviance at the end of the steps, not the one that a step promised
    if run.converged:
        return (now.deviance, now.b)
    return None


# ------------------------------------------------------------------ the shape of counts


def _with_shape(problem: Problem, near: float | None) -> Iterated:
    """Fit with the likeliest shape: a root of the profile likelihood's slope in log k.

    Whether counts spread more than poisson ones decides, at the poisson fit, if k is finite; a
    maximum may lie apart from that, so that the slope is looked at over the whole range unless a
    shape ``near`` it is known."""
    # k = ∞ is poisson: the fit there tells whether a finite k is more likely
    poisson = replace(problem, family=problem.family.with_shape(np.inf))
    plain = settled(poisson, None)
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
        fit = settled(replace(problem, family=problem.family.with_shape(k)), profile.b)
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
        if log_k not in self._known:
            problem = replace(
                self.problem, family=self.problem.family.with_shape(float(np.exp(log_k)))
            )
            now = look(problem, self.b)
            # coefficients change little from one k to the next: each fit takes a step or two
            self.b = iterated(problem, self.columns, now).now.b
            self._known[log_k] = shape_slope(*_means(problem, self.b), float(np.exp(log_k)))
        return self._known[log_k]

    def brackets(self, guess: float | None, scan: bool) -> list[tuple[float, float]]:
        """Return pairs of log k between which the likelihood has a maximum."""
        if scan:
            at = [
                *np.arange(-4.0, 12.1, 2.0),
                *([guess] if guess is not None and -4 < guess < 12 else []),
            ]
            at = sorted(at)
            signs = [self.slope(v) for v in at]
            maxima = [
                (a, b)
                for a, b, s, t in zip(at, at[1:], signs, signs[1:], strict=False)
                if s > 0 >= t
            ]
            if maxima:
                return maxima
            if signs[0] < 0:
                guess = at[0]
        if guess is None:
            return []
        guess = float(np.clip(guess, LEAST_SHAPE, MOST_SHAPE))
        if self.slope(guess) > 0:
            side = 1.0
        else:
            side = -1.0
        # from the guess uphill, in strides that double, until the slope turns
        near, width = guess, 0.25
        while LEAST_SHAPE < near < MOST_SHAPE:
            far = near + side * width
            if (self.slope(far) > 0) != (side > 0):
                return [(min(near, far), max(near, far))]
            near, width = far, 2 * width
        return []

    def root(self, low: float, high: float) -> float:
        from scipy import optimize

        if self.slope(low) == 0 or self.slope(high) == 0:
            if self.slope(low) == 0:
                return low
            return high
        return float(optimize.brentq(self.slope, low, high, xtol=1e-13, rtol=1e-14))


def _means(problem: Problem, b: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return responses, means and weights of all rows at given coefficients."""
    predictor, mean = by_coefficients(b), problem.link.mu
    rows = list(
        problem.rows.pieces.each(lambda part: (part.y, mean(linear(predictor, part)), part.weights))
    )
    y, mu, w = (np.concatenate(values) for values in zip(*rows, strict=True))
    return y, mu, w


def log_likelihood(
    rows: LikelihoodSource, fit: Iterated, dispersion: float = 1.0, *, fitted: bool = True
) -> float:
    """Return the log likelihood of the rows of a fit; weight zero counts nothing.

    ``fitted`` is False where the rows may be others than it was fitted to.
    """
    family = fit.family

    def best(part: LikelihoodRows) -> float:
        each = family.best_log_likelihood(part.y, part.trials)
        assert each is not None
        counted = part.precision > 0
        return float((part.times * part.precision * each)[counted].sum())

    def of_part(part: LikelihoodRows) -> float:
        counted = part.precision > 0
        eta = linear(fit.solution.fitted, part)
        mu, rest = fit.link.mu(eta), beyond(fit.link, eta) if family.shares else None
        each = family.log_likelihood(
            part.y,
            mu,
            rest=rest,
            trials=part.trials,
            weights=np.where(counted, part.precision, 1.0),
            dispersion=dispersion,
        )
        return float((part.times * each)[counted].sum())

    with np.errstate(all="ignore"):
        if fitted and family.known_dispersion and dispersion == 1.0:
            return sum(rows.pieces.each(best), 0.0) - fit.deviance / 2
        return sum(rows.pieces.each(of_part), 0.0)
