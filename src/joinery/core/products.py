"""Products of tall blocks, a few hundred rows at a time.

Products that small stay in the cache and in the thread that asks for them, so that passes on several cores
(``core.pieces``) do not wait for each other's products. Blocks too wide for that are multiplied whole.
"""

from __future__ import annotations

import numpy as np

from joinery.core.pieces import NARROW

MATRIX_WORK, VECTOR_WORK = 2**19, 2**13  # multiplications from which on a product may be shared out among threads
MOST_ROWS = 1024


def gram(Z: np.ndarray) -> np.ndarray:
    """ZᵀZ of a block (m, k): (k, k)."""
    return _summed(Z.T, Z, MATRIX_WORK)


def times(Z: np.ndarray, b: np.ndarray) -> np.ndarray:
    """Z·b of a block (m, k) and a vector (k,): (m,)."""
    m, k = Z.shape
    rows = _slab(k, m, VECTOR_WORK)
    if not rows:
        return np.asarray(Z @ b)
    out, whole = np.empty(m), m // rows * rows
    np.matmul(_slabs(Z[:whole], rows), b, out=out[:whole].reshape(-1, rows))
    out[whole:] = Z[whole:] @ b
    return out


def turned(A: np.ndarray, Z: np.ndarray) -> np.ndarray:
    """A·Zᵀ of a small matrix (r, k) and a block (m, k): (r, m)."""
    (r, k), m = A.shape, len(Z)
    rows = _slab(r * k, m, MATRIX_WORK) if max(r, k) <= 5 * NARROW else 0
    if not rows:
        return np.asarray(A @ Z.T)
    out, whole = np.empty((r, m)), m // rows * rows
    np.matmul(A, _slabs(Z[:whole], rows).transpose(0, 2, 1), out=out[:, :whole].reshape(r, -1, rows).transpose(1, 0, 2))
    out[:, whole:] = A @ Z[whole:].T
    return out


def across(A: np.ndarray, Z: np.ndarray) -> np.ndarray:
    """A·Z of weights (m,) or several of them (q, m) and a block (m, k): (k,) or (q, k)."""
    return _summed(A, Z, MATRIX_WORK) if A.ndim == 2 else _summed(A[None, :], Z, VECTOR_WORK)[0]


def _summed(A: np.ndarray, Z: np.ndarray, work: int) -> np.ndarray:
    """A·Z of (q, m) and (m, k), summed over a few rows at a time."""
    (q, m), k = A.shape, Z.shape[1]
    rows = _slab(q * k, m, work) if max(q, k) <= 5 * NARROW else 0
    if not rows:
        return np.asarray(A @ Z)
    whole = m // rows * rows
    tall = _slabs(A.T[:whole], rows).transpose(0, 2, 1)
    out = np.matmul(tall, _slabs(Z[:whole], rows)).sum(axis=0)
    if whole < m:
        out += A[:, whole:] @ Z[whole:]
    return np.asarray(out)


def inner(a: np.ndarray, b: np.ndarray) -> float:
    """a·b of two vectors (m,)."""
    return float(np.einsum("i,i->", a, b))


def _slab(size: int, m: int, work: int) -> int:
    """How many rows at a time keep a product of so many cells below ``work``: a power of two; 0 for all at once."""
    rows = 1 << max(int(work / max(size, 1)).bit_length() - 1, 0)
    return min(rows, MOST_ROWS) if rows >= 32 and m > min(rows, MOST_ROWS) else 0


def _slabs(Z: np.ndarray, rows: int) -> np.ndarray:
    """A block (m, k) as so many rows at a time (m / rows, rows, k), without a copy."""
    return Z.reshape(len(Z) // rows, rows, Z.shape[1])
