"""Products of tall blocks, a few hundred rows at a time.

Products that small stay in the cache and in the thread that asks for them, so that passes on
several cores (``core.blocks.partition``) do not wait for each other. Blocks too wide for that are
multiplied whole. Levels of a category are not multiplied but summed."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from joinery.core.blocks.columns import Columns, IndicatorColumns
from joinery.core.blocks.partition import NARROW_COLUMNS

# multiplications from which on a product may be shared out among threads
MATRIX_WORK, VECTOR_WORK = 2**19, 2**13
PRODUCT_ROWS = 1024  # of one product of a block: they and the result stay in cache
GLANCE_PRODUCTS = 16  # rows that show most columns to be other than zero


def gram(Z: np.ndarray) -> np.ndarray:
    """Return ZᵀZ of a block (m, k): (k, k)."""
    return _summed(Z.T, Z, MATRIX_WORK)


class Gram(NamedTuple):
    """The nonzero part of ZᵀZ: a ``corner`` at ``places``, and levels, which do not overlap."""

    places: np.ndarray
    corner: np.ndarray
    level_places: np.ndarray
    beside: np.ndarray  # of numbers with levels
    squares: np.ndarray  # of each level

    def add_to(self, G: np.ndarray) -> None:
        if len(self.places) == len(G):
            G += self.corner
            return
        G[np.ix_(self.places, self.places)] += self.corner
        if len(self.level_places):
            G[np.ix_(self.places, self.level_places)] += self.beside
            G[np.ix_(self.level_places, self.places)] += self.beside.T
            G[self.level_places, self.level_places] += self.squares


def sparse_gram(Z: Columns) -> Gram:
    """Return ZᵀZ of a block (m, k) with levels, or with columns that are zero throughout it."""
    if isinstance(Z, IndicatorColumns):
        sums = Z.sums(None)
        present, squares = np.flatnonzero(sums), sums if Z.value is None else Z.sums(Z.value)
        beside = Z.sums_of(Z.numbers)[:, present]
        return Gram(
            Z.number_places, gram(Z.numbers), Z.level_places[present], beside, squares[present]
        )
    places, none = np.arange(Z.shape[1]), np.empty(0)
    if Z.shape[1] > 5 * NARROW_COLUMNS and not Z[:GLANCE_PRODUCTS].any(axis=0).all():
        places = np.flatnonzero(Z.any(axis=0))
        if len(places) < Z.shape[1]:
            Z = np.ascontiguousarray(Z[:, places])
    return Gram(places, gram(Z), none, none, none)


def times(Z: Columns, b: np.ndarray) -> np.ndarray:
    """Return Z·b of a block (m, k) and a vector (k,): (m,)."""
    if isinstance(Z, IndicatorColumns):
        slopes, levels = Z.split(b)
        by_level = levels[Z.codes]
        return np.asarray(
            times(Z.numbers, slopes) + (by_level if Z.value is None else by_level * Z.value)
        )
    m, k = Z.shape
    rows = _slab(1, k, m, VECTOR_WORK)
    if not rows:
        return np.asarray(Z @ b)
    out, complete = np.empty(m), m // rows * rows
    np.matmul(_slabs(Z[:complete], rows), b, out=out[:complete].reshape(-1, rows))
    out[complete:] = Z[complete:] @ b
    return out


def times_transpose(A: np.ndarray, Z: np.ndarray) -> np.ndarray:
    """Return a·Zᵀ of a small matrix (r, k) and a block (m, k): (r, m)."""
    (r, k), m = A.shape, len(Z)
    rows = _slab(r, k, m, MATRIX_WORK)
    if not rows:
        return np.asarray(A @ Z.T)
    out, complete = np.empty((r, m)), m // rows * rows
    slabs = _slabs(Z[:complete], rows).transpose(0, 2, 1)
    np.matmul(A, slabs, out=out[:, :complete].reshape(r, -1, rows).transpose(1, 0, 2))
    out[:, complete:] = A @ Z[complete:].T
    return out


def weighted_sums(A: np.ndarray, Z: Columns) -> np.ndarray:
    """Return a·Z of weights (m,) or several of them (q, m) and a block (m, k): (k,) or (q, k)."""
    if isinstance(Z, IndicatorColumns):
        out = np.empty((*A.shape[:-1], Z.shape[1]))
        out[..., Z.number_places] = weighted_sums(A, Z.numbers)
        out[..., Z.level_places] = Z.sums(A) if A.ndim == 1 else Z.sums_of(A.T)
        return out
    return _summed(A, Z, MATRIX_WORK) if A.ndim == 2 else _summed(A[None, :], Z, VECTOR_WORK)[0]


def inner(a: np.ndarray, b: np.ndarray) -> float:
    """Return a·b of two vectors (m,)."""
    if len(a) < VECTOR_WORK:
        return float(a.dot(b))
    return float(np.einsum("i,i->", a, b))


def _summed(A: np.ndarray, Z: np.ndarray, work: int) -> np.ndarray:
    """Return a·Z of (q, m) and (m, k), summed over a few rows at a time."""
    (q, m), k = A.shape, Z.shape[1]
    rows = _slab(q, k, m, work)
    if not rows:
        return np.asarray(A @ Z)
    complete = m // rows * rows
    tall = _slabs(A.T[:complete], rows).transpose(0, 2, 1)
    out = np.matmul(tall, _slabs(Z[:complete], rows)).sum(axis=0)
    if complete < m:
        out += A[:, complete:] @ Z[complete:]
    return np.asarray(out)


def _slab(q: int, k: int, m: int, work: int) -> int:
    """Return how many rows at a time keep a product of q by k cells below ``work``: a power of two.

    0 for all at once: where rows are few, or both sides so wide that the pass has one thread.
    """
    if min(q, k) > NARROW_COLUMNS or (work == MATRIX_WORK and max(q, k) > 5 * NARROW_COLUMNS):
        return 0
    rows = 1 << max(int(work / max(q * k, 1)).bit_length() - 1, 0)
    if rows >= 32 and m > min(rows, PRODUCT_ROWS):
        return min(rows, PRODUCT_ROWS)
    return 0


def _slabs(Z: np.ndarray, rows: int) -> np.ndarray:
    """Return a block (m, k) as so many rows at a time (m / rows, rows, k), without a copy."""
    return Z.reshape(len(Z) // rows, rows, Z.shape[1])
