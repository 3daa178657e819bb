"""Estimates over resamples, many at once: a resample is a count of each row, so that all of them
share one set of products of the design's columns.

Everything is in the basis of the solution, where the unscaled covariance of the fit is the
identity. Sources: Efron & Tibshirani 1993; Davison & Hinkley 1997; Davidson & Flachaire 2008."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from joinery.core.glm.edges import eta_range, has_edges
from joinery.core.glm.families.family import Family
from joinery.core.glm.irls import reweighted
from joinery.core.glm.links import Link
from joinery.core.glm.rows import ArrayRows, LikelihoodRows
from joinery.core.numeric.distributions import normal_below, normal_quantile
from joinery.support.errors import DataError, EstimationError
from joinery.support.limits import RESAMPLED_ROWS

CELLS, TOGETHER = 4_000_000, 100_000  # counts held at once, and drawn at once
MOST_STEPS, SETTLED, SINGULAR = 60, 1e-10, 1e-9


@dataclass(frozen=True)
class Rows:
    """The rows of a fit: basis U (n, p), responses, weights, offset, the estimate in the basis."""

    U: np.ndarray
    y: np.ndarray
    weights: np.ndarray  # precision times trials
    offset: np.ndarray
    estimate: np.ndarray
    family: Family
    link: Link
    has_intercept: bool  # whether the first column of U is constant

    @property
    def linear(self) -> bool:
        return self.family.name == "normal" and self.link.name == "identity"


@dataclass(frozen=True)
class Resampled:
    """Estimates (resamples, p) in the basis, NaN where one could not be estimated.

    ``roots`` (resamples, p, p) have the covariance as root·rootᵀ, where it was asked for.
    """

    estimates: np.ndarray
    roots: np.ndarray | None = None


def counted(
    rng: np.random.Generator, times: np.ndarray, resamples: int, groups: np.ndarray | None
) -> Iterator[np.ndarray]:
    """Yield counts (some, n) of each row, drawn with replacement; whole groups where these are
    given."""
    if groups is None and times.sum() > RESAMPLED_ROWS:
        yield from _counted_of_repeats(rng, times, resamples)
        return
    if groups is None:
        each = np.repeat(np.arange(len(times)), times.astype(int))
    else:
        each = None
    if groups is not None:
        n = int(groups.max()) + 1
    else:
        n = round(times.sum())
    if groups is None:
        width = len(times)
    else:
        width = n
    some, few = max(1, CELLS // max(width, n)), max(1, TOGETHER // n)
    for start in range(0, resamples, some):
        counts = np.empty((min(some, resamples - start), width))
        for first in range(0, len(counts), few):  # few at a time, so that they stay in cache
            part = counts[first : first + few]
            drawn = rng.integers(0, n, (len(part), n), dtype=np.int32)
            place = drawn if each is None else each[drawn]
            place = place + (np.arange(len(part)) * width)[:, None]
            part[:] = np.bincount(place.ravel(), minlength=part.size).reshape(part.shape)
        yield counts if groups is None else counts[:, groups] * times


def _counted_of_repeats(
    rng: np.random.Generator, times: np.ndarray, resamples: int
) -> Iterator[np.ndarray]:
    """Yield the same of rows that stand for several each, at a cost that does not grow with
    these."""
    total = times.sum()
    some = max(1, CELLS // len(times))
    for start in range(0, resamples, some):
        many = min(some, resamples - start)
        yield rng.multinomial(round(total), times / total, many).astype(float)


def estimates(rows: Rows, counts: np.ndarray, *, with_roots: bool = False) -> Resampled:
    """Return the estimate of each resample: by one solution, or by reweighting from the fit's
    own."""
    U = rows.U
    p = U.shape[1]
    first, second = np.triu_indices(p)
    products = U[:, first] * U[:, second]
    if rows.linear:
        w = rows.weights
        target = (w * (rows.y - rows.offset))[:, None] * U
        sums = counts @ np.hstack([w[:, None] * products, target])
        G = _symmetric(sums[:, :-p], p)
        beta, sound = _solved(G, sums[:, -p:])
    else:
        beta, sound, G = _reweighted(rows, counts, products)
        if has_edges(rows.family, rows.link):
            _alone_where_outside(rows, counts, products, beta, sound, G)
    beta[~sound] = np.nan
    return Resampled(beta, _sandwich_roots(rows, counts, beta, G, products) if with_roots else None)


def _symmetric(flat: np.ndarray, p: int) -> np.ndarray:
    """Return upper triangles (b, p(p+1)/2) as matrices (b, p, p)."""
    out = np.empty((len(flat), p, p))
    first, second = np.triu_indices(p)
    out[:, first, second] = flat
    out[:, second, first] = flat
    return out


def _solved(G: np.ndarray, g: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return solutions (b, p), and whether each system settles them."""
    values = np.linalg.eigvalsh(G)
    sound = values[:, 0] > SINGULAR * np.maximum(values[:, -1], 1e-300)
    out = np.full(g.shape, np.nan)
    if sound.any():
        out[sound] = np.linalg.solve(G[sound], g[sound][..., None])[..., 0]
    return out, sound


def _reweighted(
    rows: Rows, counts: np.ndarray, products: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Iteratively reweighted least squares of all resamples together (McCullagh & Nelder 1989)."""
    U, p = rows.U, rows.U.shape[1]
    beta = np.tile(rows.estimate, (len(counts), 1))
    running = np.ones(len(counts), bool)
    sound = np.ones(len(counts), bool)
    G = np.tile(np.eye(p), (len(counts), 1, 1))
    for _ in range(MOST_STEPS):
        live = np.flatnonzero(running)
        if not len(live):
            break
        eta = beta[live] @ U.T + rows.offset
        with np.errstate(all="ignore"):
            mu, slope = rows.link.mu(eta), rows.link.slope(eta)
            w = counts[live] * rows.weights * slope**2 / rows.family.variance(mu)
            z = (rows.y - mu) / slope
            w = np.where(np.isfinite(w) & np.isfinite(z), w, 0.0)
            z = np.where(np.isfinite(z), z, 0.0)
        part = _symmetric(w @ products, p)
        step, fine = _solved(part, (w * z) @ U)
        G[live] = part
        sound[live[~fine]] = False
        running[live[~fine]] = False
        step = np.where(fine[:, None], step, 0.0)
        size = np.abs(step).max(axis=1)
        limit = 4.0 * np.maximum(np.abs(rows.estimate).max(), 1.0)  # a step this wide overshoots
        step *= np.minimum(1.0, limit / np.maximum(size, 1e-300))[:, None]
        beta[live] += step
        running[live[size <= SETTLED * (1 + np.abs(beta[live]).max(axis=1))]] = False
    sound[running] = False  # separated, or without end
    return beta, sound, G


def _alone_where_outside(
    rows: Rows,
    counts: np.ndarray,
    products: np.ndarray,
    beta: np.ndarray,
    sound: np.ndarray,
    G: np.ndarray,
) -> None:
    """Estimate anew, each alone, the resamples whose steps left what family and link admit.

    Steps taken together cannot be halved into the domain, nor can they end at its edge."""
    low, high = eta_range(rows.family, rows.link)
    eta = beta @ rows.U.T + rows.offset
    outside = ((eta <= low) | (eta >= high)) & (counts > 0)
    for place in np.flatnonzero(outside.any(axis=1) | ~sound):
        alone = _alone(rows, counts[place])
        sound[place] = alone is not None
        if alone is None:
            continue
        beta[place] = alone
        eta = rows.U @ alone + rows.offset
        with np.errstate(all="ignore"):
            mu, slope = rows.link.mu(eta), rows.link.slope(eta)
            weight = counts[place] * rows.weights * slope**2 / rows.family.variance(mu)
            G[place] = _symmetric((weight @ products)[None], len(alone))[0]


def _alone(rows: Rows, counts: np.ndarray) -> np.ndarray | None:
    """Return the estimate (p,) of one resample in the basis, or None where there is none."""
    drawn = counts > 0
    times, U = counts[drawn], rows.U[drawn]
    if rows.has_intercept:
        X = U[:, 1:]
    else:
        X = U
    part = LikelihoodRows(
        X, rows.y[drawn], times * rows.weights[drawn], None, rows.offset[drawn], times
    )
    try:
        fit = reweighted(
            ArrayRows(part),
            rows.family,
            rows.link,
            intercept=rows.has_intercept,
            n=round(times.sum()),
            keep_shape=True,
        )
    except (DataError, EstimationError):
        return None  # this resample has no estimate, which the caller counts
    if not fit.converged or fit.solution.rank < len(rows.estimate):
        return None
    if not rows.has_intercept:
        return fit.b[1:]
    return np.append(fit.b[0] / rows.U[0, 0], fit.b[1:])


def _sandwich_roots(
    rows: Rows, counts: np.ndarray, beta: np.ndarray, G: np.ndarray, products: np.ndarray
) -> np.ndarray:
    """Return roots of each resample's covariance, which lets the spread differ from row to row."""
    p = rows.U.shape[1]
    eta = np.nan_to_num(beta) @ rows.U.T + rows.offset
    with np.errstate(all="ignore"):
        mu, slope = rows.link.mu(eta), rows.link.slope(eta)
        score = rows.weights * slope / rows.family.variance(mu) * (rows.y - mu)
        score = np.where(np.isfinite(score), score, 0.0)
    meat = _symmetric((counts * score**2) @ products, p)
    values, vectors = np.linalg.eigh(meat)
    root = vectors * np.sqrt(np.maximum(values, 0.0))[:, None, :]
    out = np.full(G.shape, np.nan)
    # at an edge of the domain the information has no end, so that there is no standard error
    sound = np.isfinite(beta).all(axis=1) & np.isfinite(G).all(axis=(1, 2))
    if sound.any():
        out[sound] = np.linalg.solve(G[sound], root[sound])
    return out


# ------------------------------------------------------------------ intervals


def percentile(draws: np.ndarray, level: float) -> tuple[np.ndarray, np.ndarray]:
    """Return ends (m,) of the middle share of draws (resamples, m)."""
    low, high = np.quantile(draws, [(1 - level) / 2, (1 + level) / 2], axis=0)
    return low, high


def accelerated(
    draws: np.ndarray,
    estimate: np.ndarray,
    influence: np.ndarray,
    times: np.ndarray,
    level: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Return ends corrected for bias and for a spread that goes with the value (Efron 1987).

    ``influence`` (n, m): what each row or group moves each figure by, when it is left out; there
    are so many ``times`` (n,) of each.
    """
    below = (draws < estimate).mean(axis=0) + (draws == estimate).mean(axis=0) / 2
    few = 0.5 / len(draws)
    bias = np.asarray(normal_quantile(np.clip(below, few, 1 - few)))
    cubes, squares = times @ influence**3, times @ influence**2
    with np.errstate(all="ignore"):
        pull = np.where(squares > 0, cubes / (6 * squares**1.5), 0.0)
    ends = []
    for share in ((1 - level) / 2, (1 + level) / 2):
        z = bias + float(normal_quantile(share))
        at = np.asarray(normal_below(bias + z / (1 - pull * z)))
        ends.append(np.array([np.quantile(draws[:, j], at[j]) for j in range(draws.shape[1])]))
    return ends[0], ends[1]


def studentized(
    draws: np.ndarray,
    errors: np.ndarray,
    estimate: np.ndarray,
    error: np.ndarray,
    level: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Return ends from the distribution of (draw − estimate)/its standard error (Hall 1988)."""
    with np.errstate(all="ignore"):
        t = (draws - estimate) / errors
    low, high = np.nanquantile(t, [(1 - level) / 2, (1 + level) / 2], axis=0)
    return estimate - high * error, estimate - low * error
