"""The distribution of a single new response, the coefficients' uncertainty included.

η of a new row is uncertain; the distribution function of the response is averaged over it, over
those η alone that have a mean which the family admits."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from joinery.core.glm.edges import eta_range
from joinery.core.glm.families import Family
from joinery.core.glm.links import Link
from joinery.core.numeric.quadrature import hermite, legendre

REACH = 7.5  # standard errors of η to each side that are averaged over
AVERAGE_NODES = (32, 64, 128, 256, 1024)  # points of that average
# points to each unit of η's standard error over the spread of a response: with so many the ends
# keep five digits, as a response then blurs the steps from one point to the next
NODES_A_SPREAD = 30.0
MIDDLE = 3.0  # standard errors of η within which a response's spread is asked for
# points where η's standard error, on the response's scale, is below this share of its spread
FEW_NODES, SURE = 5, 0.05
LEAST_NODES = 64  # where no dispersion is averaged over, which blurs the steps as well
MOST_STEPS, WIDENINGS = 100, 40
QUANTILE_APART = 1e-13  # of a quantile: how far apart the values may be between which it lies
Below = Callable[[np.ndarray], np.ndarray]


def admitted(family: Family, link: Link, eta: np.ndarray) -> np.ndarray:
    """Return True if η (m,) has a mean that link and family admit."""
    (low, high), (lowest, highest) = link.domain, family.mean_range
    with np.errstate(all="ignore"):
        mu = link.mu(eta)
        return np.asarray(
            (eta > low) & (eta < high) & (mu >= lowest) & (mu <= highest) & np.isfinite(mu)
        )


@dataclass(frozen=True)
class Likely:
    """A value that a dispersion or shape may have: the family, φ over its estimate, the weight."""

    family: Family
    ratio: float
    share: float


@dataclass(frozen=True)
class NewRows:
    """Single new responses, by η (m,) of each and the standard error of that η.

    ``spread`` is the dispersion over each row's weight, and ``likely`` what that dispersion may be
    instead, to be averaged over; ``trials`` are totals of which a response counts so many."""

    family: Family
    link: Link
    eta: np.ndarray
    error: np.ndarray
    spread: np.ndarray
    trials: np.ndarray | None = None
    likely: Sequence[Likely] = ()

    def ends(self, level: float) -> tuple[np.ndarray, np.ndarray]:
        """Return ends (m,) that hold a response with at least ``level``: whole numbers for counts.

        NaN where η has no mean that the family admits.
        """
        lower, upper = np.full(len(self.eta), np.nan), np.full(len(self.eta), np.nan)
        tail = (1 - level) / 2
        if self.family.discrete:
            quantile = _integer_quantile
        else:
            quantile = _quantile
        for some, parts, m in self._alike():
            below = _averaged_below(parts, m)
            lower[some], upper[some] = (
                quantile(below, *_bracket(below, parts, m, share), share)
                for share in (tail, 1 - tail)
            )
        return lower, upper

    def holds(self, level: float, y: float | np.ndarray) -> np.ndarray:
        """Return 1 where the interval that ``ends`` gives holds a response y, else 0: (m,).

        NaN where there is no interval. It asks how much of each distribution lies below y, where
        the ends take a search."""
        out = np.full(len(self.eta), np.nan)
        responses = np.broadcast_to(np.asarray(y, dtype=float), out.shape)
        tail = (1 - level) / 2
        for some, parts, m in self._alike():
            below = _averaged_below(parts, m)
            at = under = below(responses[some])
            if self.family.discrete:  # the upper end is the first whole number to reach its share
                under = below(np.ceil(responses[some]) - 1)
            out[some] = (at >= tail) & (under <= 1 - tail)
        return out

    def _alike(self) -> Iterator[tuple[np.ndarray, list[_Part], np.ndarray | None]]:
        """Yield the places of rows that have a mean, what is averaged over, and their totals.

        Rows averaged over equally many points come together."""
        known = np.isfinite(self.error) & ~np.isnan(self.spread)
        sound = np.flatnonzero(admitted(self.family, self.link, self.eta) & known)
        if not len(sound):
            return
        nodes = self._nodes(sound)
        for count in np.unique(nodes):
            some, m = sound[nodes == count], None
            if self.trials is not None:
                m = self.trials[some, None]
            yield some, self._averaged(some, int(count)), m

    def _nodes(self, sound: np.ndarray) -> np.ndarray:
        """Return how many points some rows need, each (k,)."""
        eta, error, spread = self.eta[sound], self.error[sound], self.spread[sound]
        steps = np.zeros(len(sound))
        for away in (-MIDDLE, 0.0, MIDDLE):
            at = eta + away * error
            with np.errstate(all="ignore"):
                response = np.sqrt(self.family.variance(self.link.mu(at)) * spread)
                here = error * np.abs(self.link.slope(at)) / response
            steps = np.maximum(steps, np.where(admitted(self.family, self.link, at), here, 0.0))
        wanted = np.where(np.isfinite(steps), steps * NODES_A_SPREAD, AVERAGE_NODES[-1])
        if not self.likely:
            wanted = np.maximum(wanted, LEAST_NODES)
        place = np.searchsorted(AVERAGE_NODES, np.minimum(wanted, AVERAGE_NODES[-1]))
        count = np.array(AVERAGE_NODES)[place]
        # a mean that is known far better than a response scatters hardly blurs it
        if self.trials is not None:
            steps = steps * np.sqrt(self.trials[sound])
        low, high = eta_range(self.family, self.link)
        most = REACH * error * max([1.0, *(np.sqrt(one.ratio) for one in self.likely)])
        inside = (eta - most > low) & (eta + most < high)
        return np.where((steps < SURE) & inside, FEW_NODES, count)

    def _averaged(self, some: np.ndarray, nodes: int) -> list[_Part]:
        """Return everything that is averaged over; values of a dispersion side by side in one
        part."""
        eta, error, spread = self.eta[some], self.error[some], self.spread[some]
        by_family: dict[int, list[_Part]] = {}
        for one in self.likely or (Likely(self.family, 1.0, 1.0),):
            # what is less sure of the spread is less sure of the mean as well
            mu, shares = _means(one.family, self.link, eta, error * np.sqrt(one.ratio), nodes)
            size = np.broadcast_to((spread * one.ratio)[:, None], mu.shape)
            by_family.setdefault(id(one.family), []).append(
                _Part(one.family, mu, shares * one.share, size)
            )
        return [_joined(parts) for parts in by_family.values()]


def _averaged_below(parts: Sequence[_Part], m: np.ndarray | None) -> Below:
    """Return the averaged distribution function of some rows, of a value for each."""

    def below(y: np.ndarray) -> np.ndarray:
        total = np.zeros(len(y))
        with np.errstate(all="ignore"):
            for part in parts:
                cdf = part.family.cdf(y[:, None], part.mu, trials=m, spread=part.spread)
                total += np.where(part.shares > 0, cdf * part.shares, 0.0).sum(axis=1)
        return total

    return below


@dataclass(frozen=True)
class _Part:
    """The points averaged over under one family: means, weights and spreads, each (m, points)."""

    family: Family
    mu: np.ndarray
    shares: np.ndarray
    spread: np.ndarray


def _joined(parts: Sequence[_Part]) -> _Part:
    """Return points of one family side by side."""
    mu, shares, spread = (
        np.hstack([getattr(part, name) for part in parts]) for name in ("mu", "shares", "spread")
    )
    return _Part(parts[0].family, mu, shares, spread)


def _bracket(
    below: Below, parts: Sequence[_Part], trials: np.ndarray | None, share: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return two values (m,) between which the average's quantile lies, from the extremes
    averaged."""
    ends = []
    for part in (parts[0], parts[len(parts) // 2], parts[-1]):
        mu = np.column_stack([pick(part.mu, axis=1) for pick in (np.min, np.max)] * 2)
        size = np.column_stack([pick(part.spread, axis=1) for pick in (np.min, np.max)])
        with np.errstate(all="ignore"):
            ends.append(
                part.family.quantile(share, mu, trials=trials, spread=np.repeat(size, 2, axis=1))
            )
    at = np.hstack(ends)
    low, high = np.nanmin(at, axis=1), np.nanmax(at, axis=1)
    for _ in range(WIDENINGS):
        width = np.maximum(high - low, 1e-6 * np.abs(high))
        above, under = below(low) > share, below(high) < share
        if not (above | under).any():
            break
        low, high = np.where(above, low - width, low), np.where(under, high + width, high)
    return low, high


def _means(
    family: Family, link: Link, eta: np.ndarray, error: np.ndarray, count: int
) -> tuple[np.ndarray, np.ndarray]:
    """Return means (m, nodes) about each η and their weights; an η without a mean has weight
    zero."""
    if count == FEW_NODES:
        # Gauss and Hermite's points, exact for a cdf that is a polynomial of degree nine in η
        nodes, weights = hermite(count)
        shares = np.broadcast_to(weights, (len(eta), count))
        return link.mu(eta[:, None] + error[:, None] * nodes), shares
    nodes, weights = legendre(count)
    low, high = eta_range(family, link)
    size = np.maximum(error, 1e-12 * np.maximum(np.abs(eta), 1.0))
    first, last = np.maximum(-REACH, (low - eta) / size), np.minimum(REACH, (high - eta) / size)
    middle, half = (first + last) / 2, (last - first) / 2
    z = middle[:, None] + half[:, None] * nodes
    shares = weights * np.exp(-z * z / 2)
    return link.mu(eta[:, None] + size[:, None] * z), shares / shares.sum(axis=1, keepdims=True)


def _integer_quantile(below: Below, low: np.ndarray, high: np.ndarray, share: float) -> np.ndarray:
    """Return the first whole number whose cdf reaches ``share``, between two that hold it.

    Beyond 2⁵³, where whole numbers lie further apart than one, the first double."""
    low, high = np.floor(low) - 1, np.ceil(high)
    while (high - low > np.maximum(1.0, np.spacing(high))).any():
        middle = np.floor((low + high) / 2)
        reached = below(middle) >= share
        high, low = (
            np.where(reached, middle, high),
            np.where(reached, low, np.minimum(middle, high - 1)),
        )
    return high


def _quantile(below: Below, low: np.ndarray, high: np.ndarray, share: float) -> np.ndarray:
    """Return the quantile of a continuous distribution between two values that hold it.

    Inverse quadratic steps where they can be trusted, halving elsewhere (Chandrupatla 1997), in
    logarithms where both values are above zero."""
    positive = low > 0

    def value(x: np.ndarray) -> np.ndarray:
        return np.where(positive, np.exp(np.where(positive, x, 0.0)), x)

    def miss(x: np.ndarray) -> np.ndarray:
        return below(value(x)) - share

    with np.errstate(all="ignore"):
        near, far = (np.where(positive, np.log(end), end) for end in (high, low))
        at_near, at_far = miss(near), miss(far)
        t = np.full(len(low), 0.5)
        for _ in range(MOST_STEPS):
            new = near + t * (far - near)
            at_new = miss(new)
            same = np.sign(at_new) == np.sign(at_near)
            old, at_old = np.where(same, near, far), np.where(same, at_near, at_far)
            far, at_far = np.where(same, far, near), np.where(same, at_far, at_near)
            near, at_near = new, at_new
            width = far - near
            unit = np.where(positive, 1.0, np.maximum(np.abs(near), 1e-300))
            least = QUANTILE_APART * unit / np.abs(width)
            if (~(least < 0.5) | (at_near == 0)).all():
                break
            xi, phi = width / (far - old), (at_far - at_near) / (at_far - at_old)
            curved = (phi**2 < xi) & ((1 - phi) ** 2 < 1 - xi)
            quadratic = at_near / (at_far - at_near) * at_old / (at_far - at_old)
            quadratic += (
                (old - near) / width * at_near / (at_old - at_near) * at_far / (at_old - at_far)
            )
            t = np.clip(np.where(curved, quadratic, 0.5), least, 1 - least)
            t = np.where(np.isfinite(t), t, 0.5)
    return value(np.where(np.abs(at_near) < np.abs(at_far), near, far))


def jackknife_plus(
    fitted: np.ndarray, new: np.ndarray, basis: np.ndarray, left_out: np.ndarray, level: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return distribution-free ends for new rows (Barber, Candès, Ramdas & Tibshirani 2021).

    Parameters: ``fitted`` (m,) forecasts; the new rows (m, p) and the fitted rows (n, p) in an
    orthonormal basis; the left-one-out residuals (n,). Each fitted row in turn is left out of
    the forecast and lends its own miss."""
    n = len(left_out)
    known = np.isfinite(left_out)  # of a row that nothing else speaks to any miss is possible
    basis, left_out, lost = basis[known], left_out[known], n - int(known.sum())
    # 1 − 0.9 is not quite 0.1: a place must not be lost to that
    place_low = int(np.floor((1 - level) * (n + 1) + 1e-9)) - 1 - lost
    place_high = int(np.ceil(level * (n + 1) - 1e-9)) - 1
    lower, upper = np.full(len(fitted), -np.inf), np.full(len(fitted), np.inf)
    for start in range(0, len(fitted), 256):
        rows = slice(start, start + 256)
        without = fitted[rows, None] - (new[rows] @ basis.T) * left_out
        miss = np.abs(left_out)
        if place_low >= 0:
            lower[rows] = np.partition(without - miss, place_low, axis=1)[:, place_low]
        if place_high < n - lost:
            upper[rows] = np.partition(without + miss, place_high, axis=1)[:, place_high]
    return lower, upper
