"""The poisson family: counts, as likely at one moment as at another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows, excess, integer_quantile, stirling_error


@dataclass(frozen=True)
class Poisson:
    """V(μ) = μ."""

    name = "poisson"
    links = ("log", "identity", "sqrt")
    canonical = "log"
    responses = ("plain", "per")
    mean_range = (0.0, np.inf)
    discrete = known_dispersion = quasi = True
    shares = False
    penalties = ("firth",)
    shape = limit = None

    def with_shape(self, shape: float | None) -> Poisson:
        return self

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return mu

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.ones_like(mu)

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(2 * excess(y, mu, y - mu))

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        return np.asarray(y + 0.1)

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return y < 0, "is a negative count"

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
        some = np.where(y > 0, y, 1.0)
        return np.where(y > 0, -stirling_error(some) - 0.5 * np.log(2 * np.pi * some), 0.0)

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        return None

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        return np.asarray(
            np.where(y < 0, 0.0, special.gammaincc(np.maximum(np.floor(y), 0.0) + 1, mu))
        )

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        guess = mu + np.sqrt(mu) * special.ndtri(share)
        return integer_quantile(
            share, lambda y: self.cdf(y, mu, trials=None, spread=spread), guess, None
        )

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        return np.asarray(rng.poisson(mu), float)
