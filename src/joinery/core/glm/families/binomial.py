"""The binomial family: whether something happened, or how many times out of a total."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows, excess, integer_quantile, stirling_error
from joinery.core.numeric.distributions import binomial_below


@dataclass(frozen=True)
class Binomial:
    """V(μ) = μ(1 − μ) of a share of trials."""

    name = "binomial"
    links = ("logit", "probit", "cloglog", "cauchit", "log", "identity")
    canonical = "logit"
    responses = ("plain", "of")
    mean_range = (0.0, 1.0)
    discrete = shares = known_dispersion = quasi = True
    penalties = ("firth",)
    shape = limit = None

    def with_shape(self, shape: float | None) -> Binomial:
        return self

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(mu * (1 - mu if rest is None else rest))

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray((1 - mu if rest is None else rest) - mu)

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        if rest is None:
            rest = 1 - mu
        away = y * rest - (1 - y) * mu  # y − μ, without its cancelling near one
        return np.asarray(2 * (excess(y, mu, away) + excess(1 - y, rest, -away)))

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        if trials is None:
            m = np.ones(len(y))
        else:
            m = trials
        return np.asarray((y * m + 0.5) / (m + 1))

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return ~((y == 0) | (y == 1)), "is neither 0 nor 1 (of counts write `a of b`)"

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
        if trials is None:
            m = np.ones(len(y))
        else:
            m = trials
        if trials is None:
            share = y
        else:
            share = np.round(y * m) / m
        best = self.best_log_likelihood(y, trials)
        return np.asarray(weights * (best - m * self.deviance(share, mu, rest) / 2))

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> Rows:
        best = np.zeros(len(y))
        if trials is None:
            return best
        s = np.round(y * trials)
        inside = (s > 0) & (s < trials)
        m, a, b = trials[inside], s[inside], (trials - s)[inside]
        errors = stirling_error(m) - stirling_error(a) - stirling_error(b)
        best[inside] = errors + 0.5 * np.log(m / (2 * np.pi * a * b))
        return best

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        return None

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        return np.asarray(binomial_below(np.floor(y), 1.0 if trials is None else trials, mu))

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        m = np.broadcast_to(1.0 if trials is None else trials, np.shape(mu))
        guess = m * mu + np.sqrt(m * mu * (1 - mu)) * special.ndtri(share)
        return integer_quantile(share, lambda s: self.cdf(s, mu, trials=m, spread=spread), guess, m)

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        return np.asarray(rng.binomial(1 if trials is None else trials.astype(int), mu), float)
