"""The normal family: one variance whatever the mean."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows


@dataclass(frozen=True)
class Normal:
    """V(μ) = 1."""

    name = "normal"
    links = ("identity", "log", "inverse")
    canonical = "identity"
    responses = ("plain",)
    mean_range = (-np.inf, np.inf)
    discrete = shares = known_dispersion = quasi = False
    penalties = ()
    shape = limit = None

    def with_shape(self, shape: float | None) -> Normal:
        return self

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.ones_like(mu)

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.zeros_like(mu)

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray((y - mu) ** 2)

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        return np.asarray(y, float)

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return np.zeros(len(y), bool), ""

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
        return np.asarray(-0.5 * (np.log(2 * np.pi * spread) + (y - mu) ** 2 / spread))

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> None:
        return None

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        return deviance / float(repeats[weights > 0].sum())

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        return np.asarray(special.ndtr((y - mu) / np.sqrt(spread)))

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        return np.asarray(mu + np.sqrt(spread) * special.ndtri(share))

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        return np.asarray(rng.normal(mu, np.sqrt(spread)))
