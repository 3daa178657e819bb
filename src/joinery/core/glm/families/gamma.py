"""The gamma family: numbers above zero whose spread grows in step with their mean."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import special

from joinery.core.glm.families.family import Rows, stirling_error


@dataclass(frozen=True)
class Gamma:
    """V(μ) = μ²."""

    name = "gamma"
    links = ("log", "inverse", "identity")
    canonical = "inverse"
    responses = ("plain",)
    mean_range = (0.0, np.inf)
    discrete = shares = known_dispersion = quasi = False
    penalties = ()
    shape = limit = None

    def with_shape(self, shape: float | None) -> Gamma:
        return self

    def variance(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return np.asarray(mu * mu)

    def variance_slope(self, mu: Rows, rest: Rows | None = None) -> Rows:
        return 2 * mu

    def deviance(self, y: Rows, mu: Rows, rest: Rows | None = None) -> Rows:
        r = (y - mu) / mu
        # r − log(1 + r), by its series where it would cancel
        near = r * r * (0.5 - r * (1 / 3 - r * (0.25 - r * (0.2 - r * (1 / 6 - r / 7)))))
        return np.asarray(2 * np.where(np.abs(r) < 1e-3, near, r - np.log1p(r)))

    def start(self, y: Rows, trials: Rows | None) -> Rows:
        return np.asarray(np.maximum(y, 1e-10 * float(np.mean(y))))

    def allowed(self, y: Rows) -> tuple[Rows, str]:
        return y <= 0, "is zero or less, which the gamma family cannot have,"

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
        v = weights / dispersion
        # v·log v − v − log Γ(v) by Stirling's formula, whose error is small where v is large
        best = 0.5 * np.log(v / (2 * np.pi)) - stirling_error(v)
        return np.asarray(best - v * self.deviance(y, mu) / 2 - np.log(y))

    def best_log_likelihood(self, y: Rows, trials: Rows | None) -> None:
        return None

    def likely_dispersion(self, deviance: float, weights: Rows, repeats: Rows) -> float | None:
        """From Σw[log(wν) − ψ(wν)] = D/2, ν = 1/φ (McCullagh & Nelder 1989, 8.3)."""
        from scipy import optimize

        counts = weights > 0
        weights, repeats = weights[counts], repeats[counts]
        if deviance <= 0:
            return 0.0

        def gap(log_shape: float) -> float:
            v = weights * np.exp(log_shape)
            # log v − ψ(v) cancels for large v: its series is used there
            with np.errstate(all="ignore"):
                each = np.where(
                    v > 1e4, 1 / (2 * v) + 1 / (12 * v * v), np.log(v) - special.digamma(v)
                )
            return float((repeats * weights * each).sum()) - deviance / 2

        low, high = -30.0, 90.0
        if not gap(low) * gap(high) < 0:  # nearly perfect fits, whose shape is beyond telling
            return deviance / float(repeats.sum())
        return float(np.exp(-optimize.brentq(gap, low, high, xtol=1e-15, rtol=1e-14)))

    def cdf(self, y: Rows, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        v = 1 / spread
        return np.asarray(np.where(y > 0, special.gammainc(v, v * np.maximum(y, 0.0) / mu), 0.0))

    def quantile(self, share: float, mu: Rows, *, trials: Rows | None, spread: Rows) -> Rows:
        return np.asarray(special.gammaincinv(1 / spread, share) * spread * mu)

    def draw(
        self, rng: np.random.Generator, mu: Rows, *, trials: Rows | None, spread: Rows
    ) -> Rows:
        return np.asarray(rng.gamma(1 / spread, spread * mu))
