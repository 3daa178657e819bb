"""Where a single new response will lie, the coefficients' uncertainty included.

η of a new row is uncertain; the distribution function of the response is averaged over it, over
those η alone that have a mean which the family admits."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy import special

from joinery.core.glm.families import Family
from joinery.core.glm.links import Link

NODES, REACH = 64, 7.5  # points of the average, over so many standard errors to each side
HALVINGS = 60
Below = Callable[[np.ndarray], np.ndarray]


def admitted(family: Family, link: Link, eta: np.ndarray) -> np.ndarray:
    """Whether η (m,) has a mean that link and family admit."""
    (low, high), (lowest, highest) = link.domain, family.mean_range
    with np.errstate(all="ignore"):
        mu = link.mu(eta)
        return np.asarray(
            (eta > low) & (eta < high) & (mu >= lowest) & (mu <= highest) & np.isfinite(mu)
        )


def eta_range(family: Family, link: Link) -> tuple[float, float]:
    """The ends of η between which there is a mean that link and family admit."""
    with np.errstate(all="ignore"):
        ends = link.eta(np.array(family.mean_range))
    ends = np.where(np.isnan(ends), np.array([-np.inf, np.inf]), ends)
    low, high = float(ends.min()), float(ends.max())
    return max(low, link.domain[0]), min(high, link.domain[1])


def ends(
    family: Family,
    link: Link,
    eta: np.ndarray,
    error: np.ndarray,
    level: float,
    *,
    trials: np.ndarray | None,
    spread: np.ndarray,
) -> tuple[np.ndarray, np.ndarray]:
    """The ends (m,) that hold a new response with at least ``level``: whole numbers for counts.

    Parameters: η (m,) and its standard error; ``trials`` for so many of a total; the dispersion
    over each new row's weight as ``spread``. NaN where η has no mean that the family admits.
    """
    lower, upper = np.full(len(eta), np.nan), np.full(len(eta), np.nan)
    sound = np.flatnonzero(admitted(family, link, eta) & np.isfinite(error) & ~np.isnan(spread))
    if not len(sound):
        return lower, upper
    mu, shares = _means(family, link, eta[sound], error[sound])
    size = spread[sound, None]
    m = None if trials is None else trials[sound, None]

    def below(y: np.ndarray) -> np.ndarray:
        with np.errstate(all="ignore"):
            return np.asarray(
                (family.cdf(y[:, None], mu, trials=m, spread=size) * shares).sum(axis=1)
            )

    tail = (1 - level) / 2
    quantile = _whole_quantile if family.discrete else _quantile
    for share, out in ((tail, lower), (1 - tail, upper)):
        with np.errstate(all="ignore"):
            at = family.quantile(share, mu, trials=m, spread=size)
        # the average's quantile lies between the least and the greatest of those averaged
        out[sound] = quantile(below, at.min(axis=1), at.max(axis=1), share)
    return lower, upper


def _means(
    family: Family, link: Link, eta: np.ndarray, error: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Means (m, nodes) about each η and their weights; an η without a mean has weight zero."""
    nodes, weights = special.roots_legendre(NODES)
    low, high = eta_range(family, link)
    size = np.maximum(error, 1e-12 * np.maximum(np.abs(eta), 1.0))
    first, last = np.maximum(-REACH, (low - eta) / size), np.minimum(REACH, (high - eta) / size)
    middle, half = (first + last) / 2, (last - first) / 2
    z = middle[:, None] + half[:, None] * nodes
    shares = weights * np.exp(-z * z / 2)
    return link.mu(eta[:, None] + size[:, None] * z), shares / shares.sum(axis=1, keepdims=True)


def _whole_quantile(below: Below, low: np.ndarray, high: np.ndarray, share: float) -> np.ndarray:
    """Return the first whole number whose cdf reaches ``share``, between two that hold it."""
    low, high = np.floor(low) - 1, np.ceil(high)
    while (high - low > 1).any():
        middle = np.floor((low + high) / 2)
        reached = below(middle) >= share
        high, low = (
            np.where(reached, middle, high),
            np.where(reached, low, np.minimum(middle, high - 1)),
        )
    return high


def _quantile(below: Below, low: np.ndarray, high: np.ndarray, share: float) -> np.ndarray:
    """The quantile of a continuous distribution between two values that hold it, by halving."""
    low, high = low.copy(), high.copy()
    positive = low > 0
    for _ in range(HALVINGS):
        with np.errstate(all="ignore"):
            half = np.where(positive, np.sqrt(low) * np.sqrt(high), (low + high) / 2)
        under = below(half) < share
        low, high = np.where(under, half, low), np.where(under, high, half)
    return np.asarray((low + high) / 2)


def jackknife_plus(
    fitted: np.ndarray, new: np.ndarray, basis: np.ndarray, left_out: np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Distribution-free ends for new rows (Barber, Candès, Ramdas & Tibshirani 2021).

    Parameters: ``fitted`` (m,) forecasts; the new rows (m, p) and the fitted rows (n, p) in an
    orthonormal basis; the left-one-out residuals (n,). Each fitted row in turn is left out of
    the forecast and lends its own miss."""
    n = len(left_out)
    # 1 − 0.9 is not quite 0.1: a place must not be lost to that
    place_low = int(np.floor((1 - level) * (n + 1) + 1e-9)) - 1
    place_high = int(np.ceil(level * (n + 1) - 1e-9)) - 1
    lower, upper = np.full(len(fitted), -np.inf), np.full(len(fitted), np.inf)
    for start in range(0, len(fitted), 256):
        rows = slice(start, start + 256)
        without = fitted[rows, None] - (new[rows] @ basis.T) * left_out
        miss = np.abs(left_out)
        if place_low >= 0:
            lower[rows] = np.partition(without - miss, place_low, axis=1)[:, place_low]
        if place_high < n:
            upper[rows] = np.partition(without + miss, place_high, axis=1)[:, place_high]
    return lower, upper
