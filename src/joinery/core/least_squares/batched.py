"""Least squares of the same columns in many groups of rows at once, from each group's products.

Every pass goes over all rows in blocks and adds up by group, so that a group's rows may lie
anywhere. A group whose columns are not well apart is left to be fitted by itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.least_squares.quick import QUICK_CONDITION
from joinery.core.numeric.triangular import EPS, power_of_two

# columns X (m, k), response y (m,), weights (m,) or None, and each row's group (m,)
GroupedRows = tuple[np.ndarray, np.ndarray, np.ndarray | None, np.ndarray]
FAR = 1e4  # times its spread that a column's mean may be: beyond, centring leaves too few digits


@dataclass(frozen=True)
class Batch:
    """The least squares of g groups; NaN where a group is not ``sound``."""

    sound: np.ndarray  # (g,) where the columns are well apart, and the rows enough
    n: np.ndarray  # (g,) rows with weight
    b: np.ndarray  # (g, p): the intercept first
    inverse: np.ndarray  # (g, p, p) of the products of the columns
    rss: np.ndarray  # (g,)
    tss: np.ndarray  # (g,) about the mean

    @property
    def residual_df(self) -> np.ndarray:
        return np.asarray(self.n - self.b.shape[1])


def batched(rows: Partition[GroupedRows], groups: int, k: int) -> Batch:
    """Fit each of so many groups of rows with an intercept and k columns.

    Means first, then products about them, then one correction from the true residuals: the
    corrected seminormal equations (Björck 1987), for every group at once."""
    weight, n, means = _means(rows, groups, k)
    G = _products(rows, means)
    with np.errstate(all="ignore"):
        return _solved(rows, weight, n, means, G)


def _means(
    rows: Partition[GroupedRows], groups: int, k: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return weights (g,), rows (g,) and means of [X | y] (k + 1, g)."""

    def added(part: GroupedRows) -> np.ndarray:
        X, y, w, codes = part
        sums = np.empty((k + 3, groups))
        sums[0] = np.bincount(codes, w, groups)
        sums[1] = sums[0] if w is None else np.bincount(codes, w > 0, groups)
        for j in range(k):
            sums[2 + j] = np.bincount(codes, _weighted(X[:, j], w), groups)
        sums[k + 2] = np.bincount(codes, _weighted(y, w), groups)
        return sums

    total = np.zeros((k + 3, groups))
    for sums in rows.each(added):
        total += sums
    return total[0], total[1], total[2:] / np.where(total[0] > 0, total[0], 1.0)


def _products(rows: Partition[GroupedRows], means: np.ndarray) -> np.ndarray:
    """Return products of [X | y] less the groups' means: (g, k + 1, k + 1)."""
    size, groups = means.shape

    def added(part: GroupedRows) -> np.ndarray:
        X, y, w, codes = part
        about = [X[:, j] - means[j].take(codes) for j in range(size - 1)]
        about.append(y - means[-1].take(codes))
        out = np.empty((size, size, groups))
        for i, first in enumerate(about):
            first = _weighted(first, w)
            for j in range(i, size):
                out[i, j] = np.bincount(codes, first * about[j], groups)
        return out

    total = np.zeros((size, size, groups))
    for part in rows.each(added):
        total += part
    for i in range(size):  # the half that was not added up
        total[i:, i] = total[i, i:]
    return np.ascontiguousarray(np.moveaxis(total, 2, 0))


def _weighted(values: np.ndarray, w: np.ndarray | None) -> np.ndarray:
    if w is None:
        return values
    return np.asarray(values * w)


def _solved(
    rows: Partition[GroupedRows],
    weight: np.ndarray,
    n: np.ndarray,
    means: np.ndarray,
    G: np.ndarray,
) -> Batch:
    """Return coefficients of the groups that are sound, corrected once."""
    groups, k = len(G), G.shape[1] - 1
    lengths = np.sqrt(np.einsum("gjj->gj", G))
    sound = _well_apart(G, lengths, weight, means) & (n > k + 1)
    # groups that are not sound get columns of their own, so that all are solved in one call
    scale = np.where(sound[:, None], power_of_two(lengths[:, :k]), 1.0)
    scaled = G[:, :k, :k] / scale[:, :, None] / scale[:, None, :]
    A = np.where(sound[:, None, None], scaled, np.eye(k))
    inverse = np.linalg.inv(np.linalg.cholesky(A)) if k else np.empty((groups, 0, 0))
    inverse = inverse.transpose(0, 2, 1) @ inverse / scale[:, :, None] / scale[:, None, :]
    slopes = (inverse @ G[:, :k, k:])[:, :, 0]
    gradient, drift, rss = _residual_sums(rows, means, slopes)
    moved = (inverse @ gradient[:, :, None])[:, :, 0]
    slopes = slopes + moved
    shift = drift / weight
    # what the correction takes off the residual sum of squares
    rss = rss - np.einsum("gk,gk->g", gradient, moved) - shift * drift
    tss = G[:, k, k]
    size = np.sqrt(tss) + np.einsum("gk,gk->g", np.abs(slopes), lengths[:, :k])
    level = np.abs(means[-1]) * np.sqrt(weight)
    # a perfect fit, and a response that does not vary, have notes of their own
    missed = rss > (EPS * (16 * size + 2 * level)) ** 2
    sound &= missed & np.isfinite(rss)
    constant = means[-1] + shift - np.einsum("gk,kg->g", slopes, means[:k])
    b = np.column_stack([constant, slopes])
    inverse = _with_constant(inverse, weight, means[:k])
    return Batch(
        sound,
        n.astype(int),
        np.where(sound[:, None], b, np.nan),
        np.where(sound[:, None, None], inverse, np.nan),
        np.where(sound, rss, np.nan),
        np.where(sound, tss, np.nan),
    )


def _well_apart(
    G: np.ndarray, lengths: np.ndarray, weight: np.ndarray, means: np.ndarray
) -> np.ndarray:
    """Return which groups' columns have a condition number that leaves standard errors digits."""
    k = G.shape[1] - 1
    fine = np.isfinite(G).all(axis=(1, 2)) & (lengths[:, :k] > 0).all(axis=1)
    far = np.abs(means[:k].T) * np.sqrt(weight)[:, None] > FAR * lengths[:, :k]
    fine &= ~far.any(axis=1)
    if not k:
        return np.asarray(fine)
    unit = np.where(fine[:, None], lengths[:, :k], 1.0)
    # condition numbers of columns of length one, as for a single fit
    R = np.where(fine[:, None, None], G[:, :k, :k], np.eye(k)) / unit[:, :, None] / unit[:, None, :]
    values = np.linalg.eigvalsh(R)
    return np.asarray(fine & (values[:, -1] < QUICK_CONDITION**2 * values[:, 0]))


def _residual_sums(
    rows: Partition[GroupedRows], means: np.ndarray, slopes: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return sums by group at given slopes: of the residuals times columns (g, k), alone, and
    squared."""
    groups, k = slopes.shape

    def added(part: GroupedRows) -> np.ndarray:
        X, y, w, codes = part
        about = [X[:, j] - means[j].take(codes) for j in range(k)]
        e = y - means[-1].take(codes)
        for j in range(k):
            e -= about[j] * slopes[:, j].take(codes)
        we = _weighted(e, w)
        out = np.empty((k + 2, groups))
        for j in range(k):
            out[j] = np.bincount(codes, we * about[j], groups)
        out[k] = np.bincount(codes, we, groups)
        out[k + 1] = np.bincount(codes, we * e, groups)
        return out

    total = np.zeros((k + 2, groups))
    for part in rows.each(added):
        total += part
    return total[:k].T, total[k], total[k + 1]


def _with_constant(inverse: np.ndarray, weight: np.ndarray, means: np.ndarray) -> np.ndarray:
    """Return the inverse products of [1, X] from those of X about its means: (g, 1 + k, 1 + k)."""
    groups, k = inverse.shape[:2]
    out = np.empty((groups, 1 + k, 1 + k))
    out[:, 1:, 1:] = inverse
    # the constant is the mean less what the slopes explain at the columns' means
    beside = -(inverse @ means.T[:, :, None])[:, :, 0]
    out[:, 0, 1:] = out[:, 1:, 0] = beside
    out[:, 0, 0] = 1 / weight - np.einsum("gk,kg->g", beside, means)
    return out


def fold(
    rows: Partition[GroupedRows], groups: int, of_rows: Callable[[GroupedRows], np.ndarray]
) -> np.ndarray:
    """Return sums by group (g,) of what is made of each row."""
    total = np.zeros(groups)
    for part in rows.each(lambda part: np.bincount(part[3], of_rows(part), groups)):
        total += part
    return total
