"""The quick way: cross-products and a Cholesky factor."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.linalg import lapack

from joinery.core.blocks.blocks import Block, Blocks, start
from joinery.core.blocks.columns import shifted, times_rows
from joinery.core.blocks.products import Gram, inner, sparse_gram, weighted_sums
from joinery.core.least_squares.folded import Folded
from joinery.core.least_squares.solution import FAR_MEAN
from joinery.core.numeric.triangular import (
    WIDE,
    forward,
    power_of_two,
)
from joinery.support.errors import DataError

QUICK_CONDITION = 50.0  # κ up to which standard errors from plain products keep 14 digits
MOST_NUMPY = 4000  # columns up to which NumPy's Cholesky is trusted: it was seen to crash at 20,000
# an intercept so many standard deviations from the data wants more digits than a double has
VERY_FAR_MEAN = 100.0


def quick_fold(blocks: Blocks, intercept: bool, stand_for: int | None) -> Folded | None:
    """Return cross-products of [X − shift | y − shift]; None where they cannot be trusted."""
    k = blocks.width
    # of a single block the means themselves are at hand
    shift, y_shift = start(blocks, intercept, FAR_MEAN if len(blocks.pieces) > 1 else 0.0)
    if shift.any():
        moved = shift
    else:
        moved = None
    both = np.append(shift, y_shift)
    G, s = np.zeros((k + 1, k + 1)), np.zeros(k + 1)
    n, weight_sum = 0, 0.0
    with np.errstate(all="ignore"):
        for products in blocks.pieces.each(lambda block: _products(block, moved, y_shift)):
            products.add_to(G, s)
            first, n, weight_sum = n == 0, n + products.n, weight_sum + products.weight_sum
            # columns that depend on one another do so in the first block: no need to fold the rest
            if first and n > 50 * (k + 1) and _hopeless(G[:k, :k], s[:k], weight_sum, intercept):
                return None
    if n == 0:
        raise DataError("no rows to fit")
    return factored(G, s, stand_for or n, weight_sum, both, intercept)


def factored(
    G: np.ndarray, s: np.ndarray, n: int, weight_sum: float, shift: np.ndarray, intercept: bool
) -> Folded | None:
    """Return the factor of products G (k + 1, k + 1) and sums s (k + 1,) of [X | y] − shift.

    None for too few digits left.
    """
    k = len(s) - 1
    with np.errstate(all="ignore"):
        full, span = G.diagonal(), slice(k)
        if intercept:
            # the Schur complement of the constant: products about the means
            centred = G - s[:, None] * s / weight_sum
        else:
            centred = G
        left = centred.diagonal()
        # what centring took away must not have taken the digits with it
        sound = (left[span] > full[span] / 100) & (left[span] > 1e-280) & (left[span] < 1e280)
        if shift.any():
            sound &= np.abs(shift[span]) <= VERY_FAR_MEAN * np.sqrt(full[span] / weight_sum)
        yy = float(left[k])
        if not sound.all() or not (yy == 0 or 1e-280 < yy < 1e280) or n <= k + intercept:
            return None
        # powers of two round nothing, and bring all columns to about one size
        scale = power_of_two(np.sqrt(left))
        scale[k] = 1.0
        scaled = centred / scale / scale[:, None]
    factor = _cholesky(scaled[:k, :k])
    if factor is None:
        return None
    R = np.zeros((k + 1, k + 1))
    R[:k, :k] = factor
    if k:
        R[:k, k] = forward(factor, scaled[:k, k])
    # √RSS, as the last pivot of the augmented matrix
    R[k, k] = np.sqrt(max(scaled[k, k] - R[:k, k] @ R[:k, k], 0.0))
    if intercept:
        middle = shift + s / weight_sum
    else:
        middle = np.zeros(k + 1)
    size = np.sqrt(left[:k] + weight_sum * middle[:k] ** 2) / scale[:k]
    return Folded(
        R,
        middle[:k],
        float(middle[k]),
        scale[:k],
        size,
        n,
        weight_sum,
        shift[:k] if shift[:k].any() else None,
    )


def _cholesky(G: np.ndarray) -> np.ndarray | None:
    """Return the upper factor of G (k, k); None where G is not positive definite."""
    if len(G) > MOST_NUMPY:
        factor, failed = lapack.dpotrf(G, lower=0, clean=1)
        if failed:
            return None
        return np.asarray(factor)
    try:
        # NumPy's own, as the products are: threads of a second library would wait for the first's
        return np.asarray(np.linalg.cholesky(G).T)
    except np.linalg.LinAlgError:
        return None


class _Products(NamedTuple):
    """A block's products: ZᵀWZ of its columns, ZᵀWt, sums, and counts."""

    gram: Gram
    edge: np.ndarray
    sums: np.ndarray
    square: float
    n: int
    weight_sum: float

    def add_to(self, G: np.ndarray, s: np.ndarray) -> None:
        k = len(self.edge)
        self.gram.add_to(G[:k, :k])
        G[:k, k] += self.edge
        G[k, k] += self.square
        s += self.sums


def _products(block: Block, shift: np.ndarray | None, y_shift: float) -> _Products:
    """Return products of [X − shift | y − y shift]."""
    X, y, w = block
    with np.errstate(all="ignore"):
        Z, t, beside = shifted(X, shift), y - y_shift, np.ones((2, len(y)))
        n, weight_sum = len(y), float(len(y))
        if w is not None:
            n, weight_sum = int(np.count_nonzero(w)), float(w.sum())
            beside[0] = root = np.sqrt(w)
            Z, t = times_rows(Z, root), t * root
        # one product gives the weights' sums and the products with the response
        beside[1] = t
        edge = weighted_sums(beside, Z)
        sums = np.append(edge[0], inner(beside[0], t))
        square = inner(t, t)
        if square < 1e-280 and t.any():
            square = float("nan")  # lost in underflow: the exact way scales first
        return _Products(sparse_gram(Z), edge[1], sums, square, n, weight_sum)


def _hopeless(G: np.ndarray, s: np.ndarray, weight_sum: float, intercept: bool) -> bool:
    """Return True if the first block shows columns too dependent for cross-products alone."""
    if not len(G) or len(G) > WIDE:
        return False
    if intercept:
        centred = G - np.outer(s, s) / weight_sum
    else:
        centred = G
    length = np.sqrt(np.diag(centred))
    if not np.all(length > 0) or not np.isfinite(length).all():
        return False
    values = np.linalg.eigvalsh(centred / np.outer(length, length))
    return bool(values[0] < values[-1] / (10 * QUICK_CONDITION) ** 2)
