"""The negative-binomial family: counts that spread more than poisson ones, by a shape k."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows, excess, integer_quantile, stirling_error
from joinery.core.glm.families.poisson import Poisson

POISSON = Poisson()


@dataclass(frozen=True)
class NegativeBinomial:
    """V(μ) = μ + μ²/k; k = ∞ is poisson."""

    k: float = np.inf

    name = "negative-binomial"
    links = ("log", "identity", "sqrt")
    canonical = ""
    responses = ("plain", "per")
    mean_range = (0.0, np.inf)
    discrete = known_dispersion = True
    shares = quasi = False
    penalties = ()
    limit = "poisson"

    @property
    def shape(self) -> float | None:
        return self.k

    def with_shape(self, shape: float | None) -> NegativeBinomial:
        return replace(self, k=np.inf if shape is None else shape)

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(mu + mu * mu / self.k)

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(1 + 2 * mu / self.k)

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        away = y - mu
        unit = excess(y, mu, away)
        if np.isfinite(self.k):
            unit = unit - excess(y + self.k, mu + self.k, away)
        return np.asarray(2 * np.maximum(unit, 0.0))

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        return np.asarray(y + 0.1)

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return POISSON.allowed(y)

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
        best = self.best_log_likelihood(y, trials)
        return np.asarray(weights * (best - self.deviance(y, mu) / 2))

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> Rows:
        k = self.k
        if not np.isfinite(k):
            return POISSON.best_log_likelihood(y, trials)
        some = np.where(y > 0, y, 1.0)
        # k/(k + y) times a binomial chance of k in k + y, at the best mean (Loader 2000)
        errors = stirling_error(k + some) - stirling_error(np.array(k)) - stirling_error(some)
        best = errors + 0.5 * (np.log(k / (k + some)) - np.log(2 * np.pi * some))
        return np.where(y > 0, best, 0.0)

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        return None

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        if not np.isfinite(self.k):
            return POISSON.cdf(y, mu, trials=None, spread=spread)
        at = np.maximum(np.floor(y), 0.0) + 1
        return np.asarray(np.where(y < 0, 0.0, special.betainc(self.k, at, self.k / (self.k + mu))))

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        guess = mu + np.sqrt(self.variance(mu)) * special.ndtri(share)
        return integer_quantile(
            share, lambda y: self.cdf(y, mu, trials=None, spread=spread), guess, None
        )

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        if np.isfinite(self.k):
            means = mu * rng.gamma(self.k, 1 / self.k, np.shape(mu))
        else:
            means = mu
        return np.asarray(rng.poisson(means), float)


def shape_slope(y: Rows, mu: Rows, weights: Rows, k: float) -> float:
    """Return the slope of the log likelihood of counts in log k, at given means."""
    gap = np.log1p((y - mu) / (mu + k)) - (y - mu) / (mu + k)
    each = special.digamma(y + k) - special.digamma(k) - np.log1p(y / k) + gap
    return float((weights * each).sum()) * k
