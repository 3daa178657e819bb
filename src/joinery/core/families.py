"""Families: how the spread of a response goes with its mean (McCullagh & Nelder 1989, 2.2; Hilbe 2011 for counts).

y (n,) is a number, a share of ``trials``, or a count; weights multiply each row's part of the likelihood. Deviances and
log likelihoods are given row by row.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy import optimize, special

from joinery.core.links import Link, beyond

Rows = np.ndarray


@dataclass(frozen=True)
class Family:
    """One family.

    ``variance(mu)``; ``deviance(y, mu)`` unit deviances; ``low`` and ``high`` the ends of the mean; ``known``
    whether the dispersion is one; ``likelihood`` whether there is one; ``shape`` for negative-binomial.
    """

    name: str
    link: str
    links: tuple[str, ...]
    variance: Callable[[Rows], Rows]
    deviance: Callable[[Rows, Rows], Rows]
    low: float
    high: float
    known: bool
    likelihood: bool = True
    shape: float | None = None

    @property
    def of_counts(self) -> bool:
        """Whether the response counts."""
        return self.name in ("poisson", "quasi-poisson", "negative-binomial")

    @property
    def of_shares(self) -> bool:
        """Whether the response is whether something happened, or how many of a total."""
        return self.name in ("binomial", "quasi-binomial")


def _xlog(a: Rows, b: Rows) -> Rows:
    return special.xlogy(a, a / np.where(b > 0, b, 1.0))


def excess(a: Rows, b: Rows, away: Rows) -> Rows:
    """a·log(a/b) − (a − b) with away = a − b, by its series where they are close, so that it does not cancel."""
    r = away / np.where(b > 0, b, 1.0)
    near = b * r * r * (0.5 - r * (1 / 6 - r * (1 / 12 - r * (1 / 20 - r * (1 / 30 - r * (1 / 42 - r / 56))))))
    return np.where(np.abs(r) < 1e-2, near, _xlog(a, b) - away)


def _binomial_deviance(y: Rows, mu: Rows) -> Rows:
    return share_deviance(y, mu, 1 - mu)


def share_deviance(y: Rows, mu: Rows, rest: Rows) -> Rows:
    """The unit deviance of a share, given both μ and 1 − μ with all their digits."""
    away = y * rest - (1 - y) * mu
    return 2 * (excess(y, mu, away) + excess(1 - y, rest, -away))


def _poisson_deviance(y: Rows, mu: Rows) -> Rows:
    return 2 * excess(y, mu, y - mu)


def _gamma_deviance(y: Rows, mu: Rows) -> Rows:
    r = (y - mu) / mu
    return 2 * (r - np.log1p(r))


_SHARES = ("logit", "probit", "cloglog", "cauchit", "log", "identity")
_COUNTS = ("log", "identity", "sqrt")
_POSITIVE = ("log", "inverse", "identity")
_BINOMIAL = Family("binomial", "logit", _SHARES, lambda m: m * (1 - m), _binomial_deviance, 0.0, 1.0, True)
_POISSON = Family("poisson", "log", _COUNTS, lambda m: m, _poisson_deviance, 0.0, np.inf, True)
FAMILIES: dict[str, Family] = {
    f.name: f
    for f in (
        Family(
            "normal",
            "identity",
            ("identity", "log", "inverse"),
            np.ones_like,
            lambda y, m: (y - m) ** 2,
            -np.inf,
            np.inf,
            False,
        ),
        _BINOMIAL,
        _POISSON,
        Family("gamma", "log", _POSITIVE, np.square, _gamma_deviance, 0.0, np.inf, False),
        Family(
            "inverse-gaussian",
            "log",
            ("log", "inverse-square", "inverse", "identity"),
            lambda m: m**3,
            lambda y, m: (y - m) ** 2 / (y * m * m),
            0.0,
            np.inf,
            False,
        ),
        replace(_POISSON, name="negative-binomial"),
        replace(_BINOMIAL, name="quasi-binomial", known=False, likelihood=False),
        replace(_POISSON, name="quasi-poisson", known=False, likelihood=False),
    )
}


def negative_binomial(k: float) -> Family:
    """V = μ + μ²/k; k = ∞ is Poisson."""
    base = FAMILIES["negative-binomial"]
    if not np.isfinite(k):
        return replace(base, shape=k)

    def deviance(y: Rows, mu: Rows) -> Rows:
        return 2 * (_xlog(y, mu) - (y + k) * np.log1p((y - mu) / (mu + k)))

    return replace(base, variance=lambda m: m + m * m / k, deviance=deviance, shape=k)


def start(family: Family, y: Rows, trials: Rows | None) -> Rows:
    """Means to begin with, inside the family's range."""
    if family.of_shares:
        m = np.ones(len(y)) if trials is None else trials
        return np.asarray((y * m + 0.5) / (m + 1))
    if family.of_counts:
        return y + 0.1
    if family.low == 0:
        return np.maximum(y, 1e-10 * float(np.mean(y)))
    return np.asarray(y, float)


def log_likelihood(
    family: Family, link: Link, y: Rows, eta: Rows, weights: Rows, trials: Rows | None, phi: float
) -> Rows:
    """Each row's part of the log likelihood with all its constants; NaN where the family has none.

    ``phi`` is the dispersion for gamma, inverse-gaussian and normal. ``weights`` are precision weights.
    """
    mu = link.mu(eta)
    with np.errstate(all="ignore"):
        if family.name == "binomial":
            m = np.ones(len(y)) if trials is None else trials
            s = np.round(y * m) if trials is not None else y
            rest = beyond(link, eta)
            constant = special.gammaln(m + 1) - special.gammaln(s + 1) - special.gammaln(m - s + 1)
            return np.asarray(weights * (constant + special.xlogy(s, mu) + special.xlogy(m - s, rest)))
        if family.name == "poisson" or (family.name == "negative-binomial" and not np.isfinite(family.shape or np.inf)):
            return np.asarray(weights * (special.xlogy(y, mu) - mu - special.gammaln(y + 1)))
        if family.name == "negative-binomial":
            k = float(family.shape or np.inf)
            constant = special.gammaln(y + k) - special.gammaln(k) - special.gammaln(y + 1)
            return np.asarray(weights * (constant + special.xlogy(y, mu / (mu + k)) - k * np.log1p(mu / k)))
        if family.name == "gamma":
            v = weights / phi
            return np.asarray(v * np.log(v * y / mu) - v * y / mu - np.log(y) - special.gammaln(v))
        if family.name == "inverse-gaussian":
            return np.asarray(
                -0.5 * (np.log(2 * np.pi * phi * y**3 / weights) + weights * family.deviance(y, mu) / phi)
            )
        if family.name == "normal":
            return np.asarray(-0.5 * (np.log(2 * np.pi * phi / weights) + weights * (y - mu) ** 2 / phi))
    return np.full(len(y), np.nan)


def likely_dispersion(family: Family, deviance: float, weights: Rows, repeats: Rows, n: float) -> float:
    """The maximum-likelihood dispersion: D/n, for gamma from Σw[log(wν) − ψ(wν)] = D/2 (McCullagh & Nelder 8.3)."""
    if family.name != "gamma":
        return deviance / n
    if deviance <= 0:
        return 0.0
    counts = weights > 0
    weights, repeats = weights[counts], repeats[counts]

    def excess(log_shape: float) -> float:
        v = weights * np.exp(log_shape)
        # log v − ψ(v) cancels for large v: its series is used there
        with np.errstate(all="ignore"):
            gap = np.where(v > 1e4, 1 / (2 * v) + 1 / (12 * v * v), np.log(v) - special.digamma(v))
        return float((repeats * weights * gap).sum()) - deviance / 2

    low, high = -30.0, 60.0
    if not excess(low) * excess(high) < 0:  # nearly perfect fits, whose shape is beyond telling
        return deviance / n
    return float(np.exp(-optimize.brentq(excess, low, high, xtol=1e-15, rtol=1e-14)))


def likely_shape(y: Rows, mu: Rows, weights: Rows) -> float:
    """The k that makes counts with these means likeliest; ∞ when they spread no more than Poisson counts."""

    def slope(log_k: float) -> float:
        k = np.exp(log_k)
        gap = np.log1p((y - mu) / (mu + k)) - (y - mu) / (mu + k)
        return float((weights * (special.digamma(y + k) - special.digamma(k) - np.log1p(y / k) + gap)).sum()) * k

    # for large k the slope in 1/k decides: Σ[(y − μ)² − y] > 0 means more spread than Poisson
    if float((weights * ((y - mu) ** 2 - y)).sum()) <= 0:
        return float("inf")
    low, high = -12.0, 14.0  # beyond a million the counts are Poisson, and the slope is lost in rounding
    if slope(low) < 0:
        return float(np.exp(low))
    if slope(high) > -1e-6:
        return float("inf")
    return float(np.exp(optimize.brentq(slope, low, high, xtol=1e-14, rtol=1e-14)))
