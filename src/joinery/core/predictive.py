"""Where a single new response will lie: quantiles of its distribution with the coefficients' uncertainty inside.

η of a new row is uncertain; the distribution function of the response is averaged over it by Gauss–Hermite quadrature.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy import special

from joinery.core import tails
from joinery.core.families import Family
from joinery.core.links import Link

NODES = 41
ROUNDS = 200
DISCRETE = ("binomial", "poisson", "negative-binomial")


def ends(
    family: Family,
    link: Link,
    eta: np.ndarray,
    error: np.ndarray,
    level: float,
    *,
    trials: np.ndarray | None,
    phi: float,
    weights: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """The ends (m,) between which a new response lies with at least ``level``: whole numbers for counts.

    Parameters: η (m,) and its standard error; ``trials`` for so many of a total; dispersion ``phi`` of continuous
    families; precision ``weights`` of the new rows. NaN where η is.
    """
    nodes, shares = np.polynomial.hermite_e.hermegauss(NODES)
    shares = shares / shares.sum()
    low, high = link.domain
    at = np.clip(eta[:, None] + error[:, None] * nodes, np.nextafter(low, high), np.nextafter(high, low))
    mu = link.mu(at)
    tail = (1 - level) / 2

    def below(y: np.ndarray) -> np.ndarray:
        with np.errstate(all="ignore"):
            return np.asarray(_cdf(family, mu, y[:, None], trials, phi, weights[:, None]) @ shares)

    lower, upper = np.full(len(eta), np.nan), np.full(len(eta), np.nan)
    sound = np.isfinite(mu).all(axis=1) & np.isfinite(error)
    if not sound.any():
        return lower, upper
    middle = np.where(sound, link.mu(np.clip(eta, np.nextafter(low, high), np.nextafter(high, low))), 1.0)
    if family.name in DISCRETE:
        top = _roof(below, middle if trials is None else trials, tail)
        lower, upper = _first(below, top, tail, strict=True), _first(below, top, 1 - tail, strict=False)
    else:
        lower, upper = (_quantile(below, middle, share, positive=family.low == 0) for share in (tail, 1 - tail))
    return np.where(sound, lower, np.nan), np.where(sound, upper, np.nan)


def _cdf(
    family: Family, mu: np.ndarray, y: np.ndarray, trials: np.ndarray | None, phi: float, w: np.ndarray
) -> np.ndarray:
    """P(Y ≤ y) of a count (of trials), or of a number."""
    if family.name == "binomial":
        assert trials is not None
        return tails.binomial_below(y, trials[:, None], mu)
    if family.name in ("poisson", "negative-binomial"):
        k = family.shape
        at = np.maximum(y, 0.0) + 1
        if k is None or not np.isfinite(k):
            found = special.gammaincc(at, mu)
        else:
            found = special.betainc(k, at, k / (k + mu))
        return np.where(y < 0, 0.0, found)
    if family.name == "gamma":
        v = w / phi
        return np.where(y > 0, special.gammainc(v, v * np.maximum(y, 0.0) / mu), 0.0)
    if family.name == "inverse-gaussian":
        shape = w / phi
        y = np.maximum(y, 1e-300)
        root = np.sqrt(shape / y)
        return special.ndtr(root * (y / mu - 1)) + np.exp(2 * shape / mu + special.log_ndtr(-root * (y / mu + 1)))
    return special.ndtr((y - mu) * np.sqrt(w / phi))


Below = Callable[[np.ndarray], np.ndarray]


def _roof(below: Below, start: np.ndarray, tail: float) -> np.ndarray:
    """A whole number that the response exceeds hardly ever."""
    top = np.ceil(np.maximum(start, 1.0))
    for _ in range(200):
        short = below(top) < 1 - tail * 1e-3
        if not short.any():
            break
        top = np.where(short, 2 * top + 1, top)
    return np.asarray(top)


def _first(below: Below, top: np.ndarray, share: float, *, strict: bool) -> np.ndarray:
    """The first whole number whose distribution function reaches ``share`` (passes it, where strict)."""
    low, high = np.full(len(top), -1.0), top.copy()
    for _ in range(ROUNDS):
        if np.all(high - low <= 1):
            break
        middle = np.floor((low + high) / 2)
        value = below(middle)
        reached = value > share if strict else value >= share
        high, low = np.where(reached, middle, high), np.where(reached, low, middle)
    return np.asarray(high)


def _quantile(below: Below, middle: np.ndarray, share: float, *, positive: bool) -> np.ndarray:
    """The quantile of a continuous distribution, by halving."""
    if positive:
        low, high = np.log(middle) - 1.0, np.log(middle) + 1.0

        def at(v: np.ndarray) -> np.ndarray:
            return np.exp(v)
    else:
        low, high = middle - 1.0, middle + 1.0

        def at(v: np.ndarray) -> np.ndarray:
            return v

    for _ in range(200):
        wide_low, wide_high = below(at(low)) > share, below(at(high)) < share
        if not (wide_low.any() or wide_high.any()):
            break
        reach = high - low
        low, high = np.where(wide_low, low - reach, low), np.where(wide_high, high + reach, high)
    for _ in range(80):
        half = (low + high) / 2
        under = below(at(half)) < share
        low, high = np.where(under, half, low), np.where(under, high, half)
    return at((low + high) / 2)


def jackknife_plus(
    fitted: np.ndarray, new: np.ndarray, basis: np.ndarray, left_out: np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Distribution-free ends for new rows (Barber, Candès, Ramdas & Tibshirani 2021).

    Parameters: ``fitted`` (m,) forecasts; the new rows (m, p) and the fitted rows (n, p) in an orthonormal basis; the
    left-one-out residuals (n,). Each fitted row in turn is left out of the forecast and lends its own miss.
    """
    n = len(left_out)
    a = 1 - level
    place_low, place_high = int(np.floor(a * (n + 1))) - 1, int(np.ceil((1 - a) * (n + 1))) - 1
    lower, upper = np.full(len(fitted), -np.inf), np.full(len(fitted), np.inf)
    for start in range(0, len(fitted), 256):
        own = slice(start, start + 256)
        without = fitted[own, None] - (new[own] @ basis.T) * left_out
        miss = np.abs(left_out)
        if place_low >= 0:
            lower[own] = np.partition(without - miss, place_low, axis=1)[:, place_low]
        if place_high < n:
            upper[own] = np.partition(without + miss, place_high, axis=1)[:, place_high]
    return lower, upper
