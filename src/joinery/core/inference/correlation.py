"""Correlations with their intervals, and how far predictors overlap."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.special import gamma

from joinery.core.least_squares.solution import Solution
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import power_of_two, triangle

PAIRS_AT_ONCE = 2**22  # that are looked at for the strongest


@dataclass(frozen=True)
class Correlation:
    """Correlations of pairs of columns, each (pairs,): r, its interval, p, and the rows used."""

    r: np.ndarray
    lower: np.ndarray
    upper: np.ndarray
    p: np.ndarray
    n: np.ndarray


def deviation(values: np.ndarray) -> float:
    """Return the standard deviation, over n − 1, of values of any size; NaN for fewer than two."""
    if len(values) < 2:
        return float("nan")
    return root_mean_square(values - values.mean()) * float(
        np.sqrt(len(values) / (len(values) - 1))
    )


def root_mean_square(values: np.ndarray) -> float:
    """Of values of any size; NaN for none."""
    if not len(values):
        return float("nan")
    # those of 10²⁰⁰ cannot be squared
    unit = float(power_of_two(np.max(np.abs(values), keepdims=True))[0])
    return float(np.sqrt(((values / unit) ** 2).mean())) * unit


def pearson(
    X: np.ndarray, level: float = 0.95, pairs: np.ndarray | None = None
) -> tuple[np.ndarray, Correlation]:
    """Return Pearson's r of pairs of columns of X (n, k), over the rows where both are present.

    Parameters: ``pairs`` (m, 2) of places; every pair for None, the first column varying slowest.
    Returns the pairs and a Correlation: intervals by Fisher's z (1921), p from
    t = r√((n−2)/(1−r²)). NaN where a column does not vary."""
    here = ~np.isnan(X)
    if pairs is None:
        pairs = every_pair(X.shape[1])
    r, n = _correlations(X, here, pairs)
    return pairs, with_interval(r, n, level)


def every_pair(k: int) -> np.ndarray:
    """Return the places of all pairs of k columns (k(k − 1)/2, 2), the first column varying
    slowest."""
    return np.column_stack(np.triu_indices(k, 1))


def strongest_pairs(X: np.ndarray, most: int) -> np.ndarray:
    """Return the pairs (most, 2) of columns of X (n, k) with the largest |r|, in the order of all
    pairs.

    Some columns at a time, so that no matrix of all by all is made."""
    here = ~np.isnan(X)
    n, k = X.shape
    with np.errstate(all="ignore"):
        counts = here.sum(axis=0)
        Z = np.where(here, X - np.where(here, X, 0.0).sum(axis=0) / counts, 0.0)
        size = np.sqrt((Z * Z).sum(axis=0))
        varies = size > 8 * np.finfo(float).eps * np.sqrt(n) * np.nanmax(np.abs(X), axis=0)
        Z = np.where(varies, Z / np.where(varies, size, 1.0), 0.0)
    masks, squares, gaps = here.astype(float), Z * Z, not here.all()
    kept, sizes = np.empty((0, 2), int), np.empty(0)
    step = max(PAIRS_AT_ONCE // max(k, 1), 1)
    for start in range(0, k, step):
        span = slice(start, min(start + step, k))
        r = Z[:, span].T @ Z
        if gaps:
            both, of_rest = masks[:, span].T @ masks, masks[:, span].T @ Z
            of_own = Z[:, span].T @ masks
            with np.errstate(all="ignore"):
                r -= of_own * of_rest / both
                left = squares[:, span].T @ masks - of_own**2 / both
                right = masks[:, span].T @ squares - of_rest**2 / both
                r = np.where(both > 1, r / np.sqrt(left * right), 0.0)
        r = np.abs(np.nan_to_num(r))
        r[np.arange(span.start, span.stop)[:, None] >= np.arange(k)] = -1.0
        flat = r.ravel()
        best = np.argpartition(-flat, min(most, len(flat) - 1))[:most]
        pairs = np.column_stack([best // k + start, best % k])
        kept, sizes = np.vstack([kept, pairs]), np.append(sizes, flat[best])
        order = np.argsort(-sizes, kind="stable")[:most]
        kept, sizes = kept[order], sizes[order]
    kept = kept[sizes >= 0]
    return kept[np.lexsort((kept[:, 1], kept[:, 0]))]


def of_sums(
    n: np.ndarray, sums: np.ndarray, squares: np.ndarray, products: np.ndarray, level: float
) -> tuple[np.ndarray, Correlation]:
    """Return Pearson's r of every pair from sums over the rows where both are present, each (k, k).

    Parameters: how many rows; ``sums`` of column i over the rows of i and j, and of its
    ``squares``, both less about its mean; ``products`` of i and j. Returns as ``pearson`` does.
    """
    pairs = every_pair(len(n))
    with np.errstate(all="ignore"):
        left = squares - sums**2 / n
        r = (products - sums * sums.T / n) / np.sqrt(left * left.T)
    r = np.clip(r[pairs[:, 0], pairs[:, 1]], -1, 1)
    rows = n[pairs[:, 0], pairs[:, 1]].astype(int)
    return pairs, with_interval(r, rows, level)


def spearman(
    X: np.ndarray, level: float = 0.95, pairs: np.ndarray | None = None
) -> tuple[np.ndarray, Correlation]:
    """Return Spearman's rank correlation of pairs, ranked among the rows where both are present.

    The interval widens Fisher's by √(1 + r²/2) (Bonett & Wright 2000).
    """
    here = ~np.isnan(X)
    if pairs is None:
        pairs = every_pair(X.shape[1])
    complete = here.all(axis=0)
    ranked = np.full(X.shape, np.nan, order="F")
    for j in np.unique(pairs):
        ranked[here[:, j], j] = ranks(X[here[:, j], j])
    r, n = _correlations(ranked, here, pairs)
    for place, (i, j) in enumerate(pairs):
        if not (complete[i] and complete[j]):  # ranks among the rows both have
            both = here[:, i] & here[:, j]
            r[place] = _one(ranks(X[both, i]), ranks(X[both, j]))
    result = with_interval(r, n, level, np.sqrt(1 + r**2 / 2))
    # of n! orders of a few rows two agree or disagree throughout: p can be no smaller
    least = np.where(n < 20, 2 / gamma(np.minimum(n, 20) + 1.0), 0.0)
    return pairs, replace(result, p=np.maximum(result.p, least))


def ranks(x: np.ndarray) -> np.ndarray:
    """Return ranks from 1, equal values sharing their mean rank: (n,)."""
    low, high = (x.min(), x.max()) if len(x) else (0.0, 0.0)
    lower = x == low
    below = int(lower.sum())
    if below + int((x == high).sum()) == len(x) and low < high:  # two values need no sorting
        return np.where(lower, (below + 1) / 2, below + (len(x) - below + 1) / 2)
    # equal values share a rank, so their order among themselves does not matter
    order = np.argsort(x)
    ordered = x[order]
    if len(x):
        starts = np.flatnonzero(np.append(True, ordered[1:] != ordered[:-1]))
    else:
        starts = np.empty(0, int)
    ends = np.append(starts[1:], len(x))
    out = np.empty(len(x))
    out[order] = np.repeat((starts + 1 + ends) / 2, ends - starts)
    return out


def _correlations(
    X: np.ndarray, here: np.ndarray, pairs: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Return r and n of each pair: one matrix product without gaps, pair by pair with them or for
    few."""
    i, j = pairs.T
    complete = np.asarray(here.all(axis=0))
    r, n = np.full(len(pairs), np.nan), np.full(len(pairs), len(X))
    if complete.any() and len(X):
        used = np.flatnonzero(complete & np.isin(np.arange(len(complete)), pairs))
        Z = np.array([_of_length_one(X[:, at]) for at in used]).reshape(len(used), len(X))
        place = np.full(len(complete), -1)
        place[used] = np.arange(len(used))
        both = complete[i] & complete[j]
        first, second = place[i[both]], place[j[both]]
        if 4 * len(first) > len(used) ** 2:
            r[both] = np.clip((Z @ Z.T)[first, second], -1, 1)
        else:
            each = [Z[a] @ Z[b] for a, b in zip(first.tolist(), second.tolist(), strict=True)]
            r[both] = np.clip(each, -1, 1)
    for at in np.flatnonzero(~(complete[i] & complete[j])):
        rows = here[:, i[at]] & here[:, j[at]]
        n[at] = rows.sum()
        r[at] = _one(X[rows, i[at]], X[rows, j[at]])
    return r, n


def _one(x: np.ndarray, y: np.ndarray) -> float:
    if len(x) < 2:
        return float("nan")
    return float(np.clip(_of_length_one(x) @ _of_length_one(y), -1, 1))


def _of_length_one(x: np.ndarray) -> np.ndarray:
    """Return a column about its mean, of length one; NaN when it does not vary."""
    z = x - x.mean()
    largest = np.abs(z).max()
    if not largest > 8 * np.finfo(float).eps * np.abs(x).max():
        return np.full(len(x), np.nan)
    z /= largest
    z /= np.sqrt(z @ z)
    return np.asarray(z)


def with_interval(
    r: np.ndarray, n: np.ndarray, level: float, widen: np.ndarray | float = 1.0
) -> Correlation:
    """Return correlations (pairs,) of so many rows with intervals by Fisher's z (1921), and p."""
    with np.errstate(all="ignore"):
        half_width = (
            tails.normal_quantile((1 + level) / 2) * widen / np.sqrt(np.where(n > 3, n - 3, np.nan))
        )
        z = np.arctanh(r)
        lower, upper = np.tanh(z - half_width), np.tanh(z + half_width)
        df = np.where(n > 2, n - 2, np.nan)
        t = r * np.sqrt(df / ((1 - r) * (1 + r)))
        p = np.where(np.abs(r) == 1, 0.0, tails.t_two_sided(t, df))
        p = np.where(np.isnan(r) | np.isnan(df), np.nan, p)
    return Correlation(r, lower, upper, p, n)


def inflation(solution: Solution, places: np.ndarray, apart: np.ndarray) -> float:
    """Return the ``variance_inflation`` of some kept columns of a least-squares fit, by their
    places."""
    groups = solution.groups
    if groups is None or np.isin(groups.levels, apart).any():
        return variance_inflation(solution.factor, solution.inverse, places, apart)
    wanted, others = (np.isin(groups.numbers, p) for p in (places, apart))
    if np.isin(groups.levels, places).any():
        # what the levels inflate of the numbers, the numbers inflate of the levels
        wanted = ~wanted & ~others
    columns = groups.numbers_alone[:-1, :-1]
    return _inflation(columns[:, wanted], groups.inverse[wanted], groups.inverse[others])


def variance_inflation(
    R: np.ndarray, inverse: np.ndarray, places: np.ndarray, apart: np.ndarray
) -> float:
    """Return how much overlap with other columns inflates the variance of some.

    Parameters: R (r, r), a triangular factor of the columns (centred where there is an intercept),
    and its inverse; the places of a term's ``own`` columns, and of columns ``apart`` that do not
    count among the others. Returns the generalized variance inflation factor, which is the plain
    one for one column (Fox & Monette 1992): det(S) of the term's columns S = RᵀR times that of its
    block of the inverse without the columns apart. A term of q columns compares with a plain
    factor by its q-th root."""
    rest = len(R) - len(places) - len(apart)
    if len(places) > rest:  # what one inflates of the other, the other inflates of the one
        others = np.ones(len(R), bool)
        others[places] = others[apart] = False
        places = np.flatnonzero(others)
    return _inflation(R[:, places], inverse[places], inverse[apart])


def _inflation(columns: np.ndarray, rows: np.ndarray, apart: np.ndarray) -> float:
    """Return the same from columns of the factor and rows of its inverse, those apart besides."""
    with np.errstate(all="ignore"):
        lengths = np.sqrt((columns**2).sum(axis=0))
        # the rows apart first: what is left of the term's own rows is their block without them
        both = np.vstack([apart, rows * lengths[:, None]])
        left = np.diag(triangle(both.T))[len(apart) :]
        return float(np.exp(_log_det(columns / lengths) + 2 * np.log(np.abs(left)).sum()))


def _log_det(A: np.ndarray) -> float:
    """Return log det AᵀA, from a triangular factor of A."""
    if not A.shape[1]:
        return 0.0
    if not np.isfinite(A).all():
        return float("nan")
    with np.errstate(all="ignore"):
        return float(2 * np.log(np.abs(np.diag(triangle(A)))).sum())
