"""The inverse-gaussian family: positive numbers with a long tail, such as waiting times."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows


@dataclass(frozen=True)
class InverseGaussian:
    """V(μ) = μ³."""

    name = "inverse-gaussian"
    links = ("log", "inverse-square", "inverse", "identity")
    canonical = "inverse-square"
    responses = ("plain",)
    mean_range = (0.0, np.inf)
    discrete = shares = known_dispersion = quasi = False
    penalties = ()
    shape = limit = None

    def with_shape(self, shape: float | None) -> InverseGaussian:
        return self

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(mu**3)

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(3 * mu * mu)

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(((y - mu) / mu) ** 2 / y)

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        return np.asarray(np.maximum(y, 1e-10 * float(np.mean(y))))

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return y <= 0, "is zero or less, which the inverse-gaussian family cannot have,"

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
        spread = dispersion / weights
        return np.asarray(
            -0.5 * (np.log(2 * np.pi * spread) + 3 * np.log(y) + self.deviance(y, mu) / spread)
        )

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> None:
        return None

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        return deviance / float(repeats[weights > 0].sum())

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        y = np.maximum(y, 1e-300)
        root = 1 / np.sqrt(spread * y)
        with np.errstate(over="ignore"):
            second = np.exp(2 / (spread * mu) + special.log_ndtr(-root * (y / mu + 1)))
        return np.asarray(special.ndtr(root * (y / mu - 1)) + second)

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        """By halving on the logarithm."""
        mu, spread = np.broadcast_arrays(np.asarray(mu, float), spread)
        low, high = np.log(mu) - 1, np.log(mu) + 1
        for _ in range(60):
            above = self.cdf(np.exp(low), mu, trials=None, spread=spread) > share
            below = self.cdf(np.exp(high), mu, trials=None, spread=spread) < share
            if not (above.any() or below.any()):
                break
            width = high - low
            low, high = np.where(above, low - width, low), np.where(below, high + width, high)
        for _ in range(60):
            middle = (low + high) / 2
            under = self.cdf(np.exp(middle), mu, trials=None, spread=spread) < share
            low, high = np.where(under, middle, low), np.where(under, high, middle)
        return np.asarray(np.exp((low + high) / 2))

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        return np.asarray(rng.wald(mu, 1 / spread))
