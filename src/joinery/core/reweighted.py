"""Generalized linear models: least squares with working weights, again and again until the step is lost in rounding.

At coefficients β the working response is z = η + (y − μ)/(dμ/dη) with weights W = w(dμ/dη)²/V(μ); a step solves for
β once more. One pass over the rows gives deviance, gradient XᵀW(z − η) and XᵀWX together. The step is halved while the
deviance rises or a mean is invalid; iteration stops when δᵀXᵀWXδ/φ < 1e-22 or no longer falls (McCullagh & Nelder
1989, 2.5). The last step goes through ``core.solve``, which brings the covariance with all its digits.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import linalg

from joinery.core.blocks import Block
from joinery.core.families import Family, likely_shape, negative_binomial
from joinery.core.links import Link
from joinery.core.pieces import Pieces
from joinery.core.products import inner, times
from joinery.core.solution import Solution
from joinery.core.solve import known_solution, least_squares
from joinery.core.working import (
    Part,
    Parts,
    State,
    Working,
    linear,
    observed_weights,
    products,
    state,
    unit_deviance,
)
from joinery.errors import NoConvergenceError

MOST_STEPS, MOST_HALVINGS, MOST_SHAPES = 200, 40, 60
SETTLED = 1e-22
LAST = 1e-13  # a step so short is followed by one lost in rounding
START_APART = 0.03
WELL_APART = 1e-2  # of a scaled factor's diagonal: below it steps go through ``core.solve``
RUNNING = 0.05  # a change of η in the last step that shows coefficients running off
# where observed and expected weights are the same
CANONICAL = {("binomial", "logit"), ("quasi-binomial", "logit"), ("poisson", "log"), ("quasi-poisson", "log")}
CANONICAL |= {("gamma", "inverse"), ("inverse-gaussian", "inverse-square")}
Firth = bool


@dataclass(frozen=True)
class Estimated:
    """A fitted generalized linear model.

    ``solution`` is the weighted least squares of the last step. ``pearson`` is Σ w(y−μ)²/V; ``running`` are columns
    (0 the intercept) whose coefficients grow without end; ``reason`` says why iteration stopped.
    """

    solution: Solution
    b: np.ndarray
    family: Family
    link: Link
    deviance: float
    pearson: float
    iterations: int
    converged: bool
    reason: str
    running: tuple[int, ...] = ()


def reweighted(parts: Parts, family: Family, link: Link, *, intercept: bool, n: int, firth: Firth = False) -> Estimated:
    """Fits a generalized linear model by iteratively reweighted least squares.

    Parameters: ``parts`` of the rows; ``n`` rows they stand for; ``firth`` penalizes by Jeffreys' prior (Firth 1993).
    Raises NoConvergenceError when no step lowers the deviance from the start, or steps run out.
    """
    if family.name == "negative-binomial":
        return _with_shape(parts, link, intercept=intercept, n=n)
    return _settled(parts, family, link, intercept=intercept, n=n, firth=firth, b=None)


def _with_shape(parts: Parts, link: Link, *, intercept: bool, n: int) -> Estimated:
    """Negative binomial: k and the coefficients in turn until neither moves."""
    found = _settled(parts, negative_binomial(np.inf), link, intercept=intercept, n=n, firth=False, b=None)
    k, steps = np.inf, found.iterations
    for _ in range(MOST_SHAPES):
        fresh = likely_shape(*_means(parts, link, found.b))
        same = (not np.isfinite(fresh) and not np.isfinite(k)) or (
            np.isfinite(k) and np.isfinite(fresh) and abs(np.log(fresh / k)) < 1e-13
        )
        if same:
            break
        k = fresh
        family = negative_binomial(k)
        found = _settled(parts, family, link, intercept=intercept, n=n, firth=False, b=found.b)
        steps += found.iterations
    return replace(found, iterations=steps, family=negative_binomial(k))


def _means(parts: Parts, link: Link, b: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Responses, means and weights of all rows at given coefficients."""
    rows = list(parts.pieces.each(lambda part: (part.y, link.mu(linear(b, part)), part.weights)))
    y, mu, w = (np.concatenate(values) for values in zip(*rows, strict=True))
    return y, mu, w


def _settled(
    parts: Parts, family: Family, link: Link, *, intercept: bool, n: int, firth: Firth, b: np.ndarray | None
) -> Estimated:
    working = Working(parts, family, link, b)
    canonical = (family.name, link.name) in CANONICAL
    rough = canonical and not firth
    begun = _rough_start(working, intercept) if rough and b is None else None
    if begun is not None:
        columns, b = _Columns(np.arange(parts.width), intercept, parts.width), begun
    else:
        first = least_squares(working, intercept=intercept, n=n)
        columns = _Columns(first.kept, intercept, parts.width)
        b = first.whole if b is None else b
    now = _look(Working(parts, family, link, b), columns, firth, rough=rough)
    if not np.isfinite(now.objective):
        b = _first_inside(parts, family, link, columns)
        now = _look(Working(parts, family, link, b), columns, firth)
    newton = False
    last, reason, converged = np.inf, f"{MOST_STEPS} steps were not enough", False
    step, size, reach = np.zeros(len(b)), 1.0, np.inf
    count = 0
    while count < MOST_STEPS:
        count += 1
        step, decrement = _step(now, columns, parts, family, link, n=n, firth=firth)
        reach = _reach(now, step, decrement, rough=rough)
        phi = 1.0 if family.known else max(now.pearson / max(n - columns.rank, 1), 1e-300)
        size, halvings, fresh = 1.0, 0, None
        while halvings < MOST_HALVINGS:
            after = now.b + size * step
            # the last look brings the covariance
            fresh = _look(Working(parts, family, link, after), columns, firth, newton, rough and decrement / phi > LAST)
            slack = 1e-11 * (abs(now.objective) + 1e-300)
            if np.isfinite(fresh.objective) and fresh.objective <= now.objective + slack:
                break
            size, halvings = size / 2, halvings + 1
        if fresh is None or halvings == MOST_HALVINGS:
            reason, converged = "no smaller step lowers the deviance", decrement / phi < 1e-10
            break
        now = fresh
        if decrement / phi < SETTLED:
            reason, converged = "the step is lost in rounding", True
            break
        if decrement / phi < 1e-16 and decrement >= 0.25 * last:
            reason, converged = "the step no longer shrinks: it is lost in rounding", True
            break
        # steps that shrink slowly come from expected weights far from the observed ones: Newton's shrink by squares
        newton = newton or (not canonical and count > 4 and decrement > 0.02 * last and not firth)
        last = decrement
    running: tuple[int, ...] = ()
    change = size * (reach if reach <= RUNNING else _eta_change(parts, step)) if converged else 0.0
    if converged and change > RUNNING:
        running, converged = _running(parts, step), False
        reason = "the deviance has settled, but coefficients grow without end"
    elif not converged and count == MOST_STEPS:
        raise NoConvergenceError(
            f"the fit did not settle in {MOST_STEPS} steps; centre or rescale the predictors, or choose another link",
            iterations=MOST_STEPS,
        )
    solution = None
    if converged and intercept and not firth and not now.rough:
        working = Working(parts, family, link, now.b)
        solution = known_solution(working, now.H, now.gradient, now.pearson, now.b, n)
    if solution is None:
        solution = _penalized(parts, family, link, now.b, firth, intercept=intercept, n=n)
    b = now.b if running else solution.whole
    if not np.isfinite(b).all() or np.max(np.abs(b - now.b)) > 1e-3 * max(1.0, float(np.max(np.abs(now.b)))):
        b = now.b
    solution = replace(solution, perfect=False, rss=now.pearson / solution.unit / solution.unit)
    return Estimated(solution, b, family, link, now.deviance, now.pearson, count, converged, reason, running)


@dataclass(frozen=True)
class _Columns:
    """Which of so many columns are estimable, and whether there is an intercept."""

    kept: np.ndarray
    has_intercept: bool
    width: int

    @property
    def rank(self) -> int:
        return len(self.kept) + self.has_intercept

    @property
    def places(self) -> np.ndarray:
        """Where the estimable coefficients stand in [intercept, columns]."""
        return np.append([0] if self.has_intercept else [], self.kept + 1).astype(int)


def _rough_start(working: Working, intercept: bool) -> np.ndarray | None:
    """First coefficients from one pass over cross-products; None where the columns are not well apart."""
    k = working.width
    H, g = np.zeros((k + 1, k + 1)), np.zeros(k + 1)

    def added(part: Part) -> tuple[np.ndarray, np.ndarray]:
        own = state(working, part)
        return products(part.X, own.W, own.W * own.z, rough=True)

    for own_H, own_g in working.parts.pieces.each(added):
        H, g = H + own_H, g + own_g
    places = np.arange(0 if intercept else 1, k + 1)
    H, g = H[np.ix_(places, places)], g[places]
    solved = _solved(H, g, START_APART) if len(places) else None
    if solved is None:
        return None
    b = np.zeros(k + 1)
    b[places] = solved
    return b


def _solved(H: np.ndarray, g: np.ndarray, apart: float) -> np.ndarray | None:
    """x with Hx = g by Cholesky; None where a diagonal of the scaled factor is not above ``apart``."""
    if not np.all(np.diag(H) > 0) or not np.isfinite(H).all():
        return None
    scale = np.sqrt(np.diag(H))
    factor, failed = linalg.lapack.dpotrf(H / np.outer(scale, scale), lower=0)
    if failed or not np.min(np.diag(factor)) > apart:
        return None
    return np.asarray(linalg.cho_solve((factor, False), g / scale, check_finite=False) / scale)


def _penalized(
    parts: Parts, family: Family, link: Link, b: np.ndarray, firth: Firth, *, intercept: bool, n: int
) -> Solution:
    """The weighted least squares at b; with Firth's penalty the response is moved by the leverages found first."""
    found = least_squares(Working(parts, family, link, b), intercept=intercept, n=n)
    return least_squares(Working(parts, family, link, b, found), intercept=intercept, n=n) if firth else found


@dataclass(frozen=True)
class _Seen:
    """One pass over the rows at coefficients ``b``: what is minimized, the deviance, gradient and XᵀWX of [1, X]."""

    b: np.ndarray
    objective: float
    deviance: float
    pearson: float
    gradient: np.ndarray
    H: np.ndarray
    curved: np.ndarray | None  # the same with observed instead of expected weights, where asked for
    lightest: float  # the smallest working weight
    rough: bool


def _look(working: Working, columns: _Columns, firth: Firth, newton: bool = False, rough: bool = False) -> _Seen:
    k = working.width
    assert working.b is not None
    gradient, H, deviance, pearson, lightest = np.zeros(k + 1), np.zeros((k + 1, k + 1)), 0.0, 0.0, np.inf
    curved = np.zeros((k + 1, k + 1)) if newton else None

    def added(part: Part) -> tuple[np.ndarray, np.ndarray, np.ndarray | None, float, float, float] | None:
        own = state(working, part)
        if not _valid(working, own):
            return None
        e = own.W * own.residual
        H, gradient = products(part.X, own.W, e, rough=rough)
        return (
            gradient,
            H,
            products(part.X, observed_weights(working, part, own), e)[0] if newton else None,
            inner(part.evidence, unit_deviance(working.family, part.y, own)),
            inner(e, own.residual),
            float(own.W.min(initial=np.inf)),
        )

    with np.errstate(all="ignore"):
        for found in working.parts.pieces.each(added):
            if found is None:
                deviance = np.inf
                break
            gradient, H = gradient + found[0], H + found[1]
            curved = None if curved is None or found[2] is None else curved + found[2]
            deviance, pearson, lightest = deviance + found[3], pearson + found[4], min(lightest, found[5])
    objective = deviance
    if firth and np.isfinite(deviance):
        places = columns.places
        sign, logdet = np.linalg.slogdet(H[np.ix_(places, places)])
        objective = deviance - float(logdet) if sign > 0 else np.inf
    return _Seen(working.b, objective, deviance, pearson, gradient, H, curved, lightest, rough)


def _valid(working: Working, own: State) -> bool:
    """Whether every mean is one that link and family can have."""
    (low, high), family = working.link.domain, working.family
    if not len(own.eta):
        return True
    lowest, highest = own.mu.min(), own.mu.max()  # NaN where any is
    inside = low < own.eta.min() and own.eta.max() < high and family.low <= lowest and highest <= family.high
    return bool(inside and highest < np.inf)


def _step(
    now: _Seen,
    columns: _Columns,
    parts: Parts,
    family: Family,
    link: Link,
    *,
    n: int,
    firth: Firth,
) -> tuple[np.ndarray, float]:
    """δ with XᵀWXδ = gradient over the estimable columns, and δᵀXᵀWXδ; by ``core.solve`` where Cholesky will not do."""
    places = columns.places
    step = np.zeros(len(now.b))
    if not len(places):
        return step, 0.0
    if not firth:
        g = now.gradient[places]
        for both in ([now.curved] if now.curved is not None else []) + [now.H]:
            solved = _solved(both[np.ix_(places, places)], g, WELL_APART)
            if solved is not None:
                step[places] = solved
                return step, float(step @ now.H @ step)
    found = _penalized(parts, family, link, now.b, firth, intercept=columns.has_intercept, n=n)
    step = found.whole - now.b
    step[~np.isin(np.arange(len(step)), places)] = 0.0
    H = now.H
    return step, float(step @ H @ step)


def _reach(now: _Seen, step: np.ndarray, decrement: float, *, rough: bool) -> float:
    """No smaller than the largest change of η that a step makes: (xδ)² ≤ δᵀXᵀWXδ/w in a row of weight w.

    What rounding may have hidden in the decrement counts too.
    """
    size = np.abs(step)
    hidden = float(size @ np.abs(now.H) @ size) * (1e-6 if rough else 1e-14)
    with np.errstate(all="ignore"):
        return float(np.sqrt(np.divide(max(decrement, 0.0) + hidden, now.lightest)))


def _eta_change(parts: Parts, step: np.ndarray) -> float:
    """The largest change of η that a step makes."""
    return max(parts.pieces.each(lambda part: float(np.max(np.abs(times(part.X, step[1:]) + step[0]), initial=0.0))))


def _running(parts: Parts, step: np.ndarray) -> tuple[int, ...]:
    """Columns (0 the intercept) that take part in a step which no longer lowers the deviance."""
    spread = np.append(1.0, np.zeros(len(step) - 1))
    for part in parts.pieces:
        if len(part.y):
            spread[1:] = np.maximum(spread[1:], np.abs(part.X - part.X[0]).max(axis=0))
    moved = np.abs(step) * spread
    return tuple(int(j) for j in np.flatnonzero(moved > 0.05 * moved.max()))


def _first_inside(parts: Parts, family: Family, link: Link, columns: _Columns) -> np.ndarray:
    """Coefficients with valid means to start from: the overall mean for every row, as nearly as the columns allow."""
    total = count = 0.0
    for part in parts.pieces:
        a = part.evidence
        total, count = total + inner(a, part.y), count + float(a.sum())
    mean = total / count
    if family.of_shares:
        mean = min(max(mean, 1e-6), 1 - 1e-6)
    elif family.low == 0:
        mean = max(mean, 1e-6)
    level = float(link.eta(np.array([mean]))[0])
    b = np.zeros(columns.width + 1)
    if columns.has_intercept:
        b[0] = level
        return b
    # without an intercept: the combination of columns nearest to that level
    found = least_squares(_Level(parts, level), intercept=False)
    return found.whole


@dataclass(frozen=True)
class _Level:
    """The rows with one number as the response of all."""

    parts: Parts
    level: float

    @property
    def width(self) -> int:
        return self.parts.width

    @property
    def pieces(self) -> Pieces[Block]:
        return self.parts.pieces.map(lambda part: (part.X, np.full(len(part.y), self.level), part.weights))
