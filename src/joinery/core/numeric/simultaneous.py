"""Distributions of several comparisons at once: the studentized range, and the largest |t|."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import special

from joinery.core.numeric.quadrature import legendre

NODES, SCALE_NODES = 128, 96
SMOOTH = 8.0  # degrees of freedom from which the density of a scale is smooth at zero
FAR, PANEL_NODES = 8.5, 12  # standard deviations integrated over, and points of each panel
PRIMES = (
    2,
    3,
    5,
    7,
    11,
    13,
    17,
    19,
    23,
    29,
    31,
    37,
    41,
    43,
    47,
    53,
    59,
    61,
    67,
    71,
    73,
    79,
    83,
    89,
)
POINTS, SHIFTS, SEED = 4096, 12, 20260104
ONE_FACTOR = 1e-8  # how far correlations may lie from products λᵢλⱼ


@lru_cache(maxsize=64)
def _scales(df: float) -> tuple[np.ndarray, np.ndarray]:
    """Return nodes and weights over s = √(χ²(df)/df): (m,), (m,)."""
    if not np.isfinite(df):
        return np.ones(1), np.ones(1)
    low, high = (np.sqrt(special.chdtri(df, p) / df) for p in (1 - 1e-16, 1e-16))
    low, high = (0.0 if df < SMOOTH else float(low)), float(high)
    nodes, weights = legendre(SCALE_NODES)
    share = (nodes + 1) / 2
    # the density goes with s^(df − 1): below eight degrees of freedom a power of s takes its place,
    # in which that is smooth at zero
    power = max(SMOOTH / df, 1.0)
    s = low + (high - low) * share**power
    log_density = (
        df / 2 * np.log(df) - special.gammaln(df / 2) - (df / 2 - 1) * np.log(2)
        + (df - 1) * np.log(s) - df * s * s / 2 + (power - 1) * np.log(share)
    )  # fmt: skip
    w = weights * (high - low) / 2 * power * np.exp(log_density)
    return s, w / w.sum()


def range_below(q: float, k: int, df: float) -> float:
    """Return P that the studentized range of k means is at most q (Tukey 1953; Copenhaver & Holland
    1988).

    ``df`` of the scale, infinite where it is known.
    """
    if not q > 0:
        return 0.0
    s, w = _scales(df)
    nodes, weights = legendre(NODES)
    z = 8.5 * nodes
    density = 8.5 * weights * np.exp(-z * z / 2) / np.sqrt(2 * np.pi)
    # of k normals, the largest at z and the rest less than the range below it
    inside = special.ndtr(z)[None, :] - special.ndtr(z[None, :] - q * s[:, None])
    given_scale = k * (inside ** (k - 1)) @ density
    return float(np.clip(w @ given_scale, 0.0, 1.0))


def range_above(q: float, k: int, df: float) -> float:
    """Return P that the studentized range of k means is more than q."""
    return 1 - range_below(q, k, df)


@lru_cache(maxsize=256)
def range_quantile(probability: float, k: int, df: float) -> float:
    """Return the q that the studentized range of k means passes with probability 1 −
    ``probability``."""
    return _inverse(lambda q: range_below(q, k, df), probability)


def largest_below(c: float, R: np.ndarray, df: float) -> float:
    """Return P that every |t| of contrasts with correlations R (m, m) is at most c (Dunnett 1955).

    Exact where the correlations are products λᵢλⱼ, as of levels against a reference without other
    predictors; else by shifted lattices (Genz & Bretz 2009), right to about four digits.
    """
    if not c > 0:
        return 0.0
    s, w = _scales(df)
    factor = one_factor(R)
    if factor is not None:
        return float(np.clip(w @ _one_factor_below(c * s, factor), 0.0, 1.0))
    return _by_lattice(c, R, df)


def largest_quantile(probability: float, R: np.ndarray, df: float) -> float:
    """Return the c that the largest |t| passes with probability 1 − ``probability``."""
    sharp = 1e-12 if one_factor(R) is not None else 1e-5  # no sharper than the lattice is right
    return _inverse(lambda c: largest_below(c, R, df), probability, sharp)


def one_factor(R: np.ndarray) -> np.ndarray | None:
    """Return λ (m,) with R = λλᵀ off the diagonal; None where there is none."""
    m = len(R)
    if m == 1:
        return np.zeros(1)
    if m == 2:
        root = np.sqrt(abs(R[0, 1]))
        return np.array([root, np.sign(R[0, 1]) * root])
    squares = np.empty(m)
    for i in range(m):
        j, k = [p for p in range(m) if p != i][:2]
        if abs(R[j, k]) < 1e-12:
            return None
        squares[i] = R[i, j] * R[i, k] / R[j, k]
    if (squares < 0).any() or (squares > 1 + ONE_FACTOR).any():
        return None
    size = np.sqrt(np.minimum(squares, 1.0))
    first = int(np.argmax(size))
    loading = size * np.where(np.arange(m) == first, 1.0, np.sign(R[first]))
    away = np.abs(np.outer(loading, loading) - R)
    np.fill_diagonal(away, 0.0)
    if away.max() < ONE_FACTOR and size.max() < 1 - 1e-12:
        return loading
    return None


def _one_factor_below(c: np.ndarray, loading: np.ndarray) -> np.ndarray:
    """Return P that all |λᵢu + √(1−λᵢ²)zᵢ| ≤ c for each c (q,), by quadrature over u ≥ 0."""
    rest = np.sqrt(1 - loading**2)
    u, weights = _graded(c, float(rest.min()))
    density = 2 * weights * np.exp(-u * u / 2) / np.sqrt(2 * np.pi)
    out = np.ones(u.shape)
    for a, b in zip(loading, rest, strict=True):
        high, low = (c[:, None] - a * u) / b, (-c[:, None] - a * u) / b
        out *= special.ndtr(high) - special.ndtr(low)
    return np.asarray((out * density).sum(axis=1))


def _graded(c: np.ndarray, width: float) -> tuple[np.ndarray, np.ndarray]:
    """Return nodes and weights (q, points) from 0 to ``FAR``.

    The integrand falls from one to zero about u = c, within some ``width`` of it. Panels halve
    towards that place until the last ones are narrower."""
    nodes, weights = legendre(PANEL_NODES)
    halvings = int(np.ceil(np.log2(FAR / width)))
    share = 0.5 ** np.arange(halvings + 1.0)
    middle = np.minimum(c, FAR)[:, None]
    edges = np.hstack([middle - middle * share, middle, middle + (FAR - middle) * share[::-1]])
    half = np.diff(edges, axis=1)[:, :, None] / 2
    centre = (edges[:, 1:] + edges[:, :-1])[:, :, None] / 2
    return (centre + half * nodes).reshape(len(c), -1), (half * weights).reshape(len(c), -1)


def _by_lattice(c: float, R: np.ndarray, df: float) -> float:
    """Return the same for any correlations, by conditioning on one contrast after another."""
    values, vectors = np.linalg.eigh(R)
    root = vectors * np.sqrt(np.maximum(values, 0.0))
    L = np.linalg.qr(root.T)[1].T  # lower triangular, also where R has a smaller rank
    L = L * np.sign(np.where(np.diag(L) == 0, 1.0, np.diag(L)))
    m = len(R)
    step = np.sqrt(np.resize(np.array(PRIMES, float), m + 1)) * (
        1 + np.arange(m + 1) // len(PRIMES)
    )
    rng = np.random.default_rng(SEED)
    total = 0.0
    for _ in range(SHIFTS):
        points = np.mod(np.arange(1, POINTS + 1)[:, None] * step + rng.random(m + 1), 1.0)
        points = np.abs(2 * points - 1)  # the baker's map, which makes the lattice periodic
        points = np.clip(points, 1e-15, 1 - 1e-15)
        s = np.ones(POINTS)
        if np.isfinite(df):
            s = np.sqrt(special.chdtri(df, 1 - points[:, m]) / df)
        total += float(_separated(c * s, L, points).mean())
    return total / SHIFTS


def _separated(c: np.ndarray, L: np.ndarray, points: np.ndarray) -> np.ndarray:
    chance, y = np.ones(len(c)), np.zeros((len(c), len(L)))
    for i in range(len(L)):
        shift, size = y[:, :i] @ L[i, :i], L[i, i]
        if size < 1e-10:  # settled by those before it
            chance *= np.abs(shift) <= c
            continue
        low, high = special.ndtr((-c - shift) / size), special.ndtr((c - shift) / size)
        chance *= high - low
        y[:, i] = special.ndtri(np.clip(low + points[:, i] * (high - low), 1e-300, 1 - 1e-16))
    return chance


def _inverse(below: object, probability: float, sharp: float = 1e-12) -> float:
    """Return the point at which a rising function reaches a probability, by bisection and
    secants."""
    from scipy.optimize import brentq

    assert callable(below)
    low, high = 0.0, 4.0
    while below(high) < probability and high < 1e6:
        high *= 2
    return float(brentq(lambda x: below(x) - probability, low, high, xtol=sharp, rtol=1e-13))
