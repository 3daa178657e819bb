"""The protocol of a family: how the spread of a response goes with its mean, and its distribution.

y (m,) is a number, a share of ``trials``, or a count; μ (m,) its mean. Everything is given row by
row.
Sources: McCullagh & Nelder 1989, 2.2; Hilbe 2011 for counts; Loader 2000 for likelihoods that keep
their digits."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

import numpy as np
from scipy import special

Rows = np.ndarray
Interval = tuple[float, float]


class Family(Protocol):
    """One family. ``spread`` (m,) is φ/w: the dispersion over a row's precision weight."""

    @property
    def name(self) -> str: ...
    @property
    def links(self) -> tuple[str, ...]:
        """The links it takes, the one used unless asked otherwise first."""
        ...

    @property
    def canonical(self) -> str:
        """The link under which observed and expected information are the same."""
        ...

    @property
    def responses(self) -> tuple[str, ...]:
        """The kinds of response it takes: ``plain``, ``of`` a total, ``per`` exposure."""
        ...

    @property
    def mean_range(self) -> Interval:
        """The ends between which means lie."""
        ...

    @property
    def discrete(self) -> bool:
        """Return True if responses are counted: ends of intervals are whole numbers."""
        ...

    @property
    def shares(self) -> bool:
        """Return True if a response says if something happened, or how many times out of a
        total."""
        ...

    @property
    def known_dispersion(self) -> bool:
        """Return True if φ is 1 unless asked otherwise."""
        ...

    @property
    def quasi(self) -> bool:
        """Return True if another dispersion may be estimated; it then has no distribution."""
        ...

    @property
    def penalties(self) -> tuple[str, ...]: ...

    @property
    def shape(self) -> float | None:
        """A parameter of the variance beside the mean, estimated from the rows.

        None where there is none.
        """
        ...

    @property
    def limit(self) -> str | None:
        """The family that it is when its shape is infinite; None where it has no shape."""
        ...

    def with_shape(self, shape: float | None) -> Family:
        """Return the same family with another shape; itself where it has none."""
        ...

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        """Return V(μ); ``rest`` is 1 − μ with all its digits, where that is at hand."""
        ...

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        """Return dV/dμ."""
        ...

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        """Return unit deviances, not below zero."""
        ...

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        """Return means to begin an iteration with, inside the family's range."""
        ...

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        """Return which values the family cannot have, and what is wrong with them in words."""
        ...

    def log_likelihood(
        self,
        y: Rows,
        mu: Rows,
        *,
        rest: Rows | None,
        trials: Rows | None,
        weights: Rows,
        dispersion: float,
    ) -> Rows:
        """Return each row's part of the log likelihood with all its constants."""
        ...

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> Rows | None:
        """Return the same of one weight with means that are the responses, where that needs no
        dispersion.

        The fitted means' is lower by half the deviance."""
        ...

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        """Return the maximum-likelihood dispersion.

        None for families whose dispersion is no parameter of a likelihood.
        """
        ...

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        """Return P(Y ≤ y), of so many ``trials``."""
        ...

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        """Return the value that the response does not pass with probability ``share``."""
        ...

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        """Return simulated responses; of a total, counts."""
        ...


def excess(a: Rows, b: Rows, away: Rows) -> Rows:
    """Return a·log(a/b) − (a − b) with away = a − b, by its series near zero lest it cancel.

    Infinite where b is 0 and a is not: what never happens has happened.
    """
    if b.shape != away.shape:
        b = np.broadcast_to(b, away.shape)
    sound = b.min(initial=1.0) > 0
    if sound:
        of = b
    else:
        of = np.where(b > 0, b, 1.0)
    out = special.xlogy(a, a / of) - away
    near = np.abs(away) < 1e-2 * of
    r = away[near] / of[near]
    series = 1 / 20 - r * (1 / 30 - r * (1 / 42 - r / 56))
    out[near] = b[near] * r * r * (0.5 - r * (1 / 6 - r * (1 / 12 - r * series)))
    if not sound:
        out[(b <= 0) & (a > 0)] = np.inf
    return np.asarray(out)


def stirling_error(n: Rows) -> Rows:
    """Return log n! less Stirling's formula (n + ½)log n − n + ½log 2π, for n > 0 (Loader 2000)."""
    n = np.asarray(n, float)
    small = np.clip(n, 1e-300, 16.0)
    direct = (
        special.gammaln(small + 1) - (small + 0.5) * np.log(small) + small - 0.5 * np.log(2 * np.pi)
    )
    large = np.maximum(n, 15.0)
    square = large * large
    series = (
        1 / 12
        - (1 / 360 - (1 / 1260 - (1 / 1680 - 1 / (1188 * square)) / square) / square) / square
    ) / large
    return np.asarray(np.where(n < 15, direct, series))


def integer_quantile(
    share: float, cdf: Callable[[Rows], Rows], guess: Rows, highest: Rows | None
) -> Rows:
    """Return the first whole number whose cdf reaches ``share``, by doubling steps from a guess."""
    if highest is None:
        top = np.full(np.shape(guess), np.inf)
    else:
        top = highest
    low, high = np.full(np.shape(guess), -1.0), np.clip(np.ceil(guess), 0.0, top)
    for _ in range(1100):
        short = (cdf(high) < share) & (high < top)
        if not short.any():
            break
        low, high = np.where(short, high, low), np.where(short, np.minimum(2 * high + 1, top), high)
    for _ in range(1100):
        if not (high - low > 1).any():
            break
        middle = np.floor((low + high) / 2)
        reached = cdf(middle) >= share
        high, low = np.where(reached, middle, high), np.where(reached, low, middle)
    return np.asarray(high)
