"""Triangular factors: making them, solving with them, and how well they are conditioned."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.linalg import lapack

EPS = float(np.finfo(float).eps)
# more columns than this are levels nearly always: what suits few columns would take too long
WIDE = 200
INVERTED_TOGETHER = 64  # columns of a triangle that LAPACK inverts in one thread


def backward(R: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Return x with R·x = v for upper triangular R (r, r); empty for r = 0."""
    if len(R):
        return np.asarray(lapack.dtrtrs(R, v)[0])
    return np.empty(0)


def forward(R: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Return x with Rᵀ·x = v for upper triangular R (r, r); empty for r = 0."""
    if len(R):
        return np.asarray(lapack.dtrtrs(R, v, trans=1)[0])
    return np.empty(0)


def inverse_of(R: np.ndarray) -> np.ndarray:
    """Return the inverse of an upper triangular R (r, r), upper triangular too.

    Halves are inverted and multiplied by NumPy: LAPACK's own, of another library than NumPy's
    products, would wait for their threads to go to rest (Higham 2002, 14.2)."""
    out = np.zeros((len(R), len(R)), order="F")
    _invert(R, out)
    return out


def _invert(R: np.ndarray, out: np.ndarray) -> None:
    if len(R) <= INVERTED_TOGETHER:
        out[:] = lapack.dtrtri(R)[0] if len(R) else 0.0
        return
    first, rest = slice(len(R) // 2), slice(len(R) // 2, None)
    _invert(R[first, first], out[first, first])
    _invert(R[rest, rest], out[rest, rest])
    out[first, rest] = -(out[first, first] @ (R[first, rest] @ out[rest, rest]))


def triangle(A: np.ndarray) -> np.ndarray:
    """Return the square upper triangular factor of A, with zero rows where A has too few.

    Diagonals not negative.
    """
    m, k = A.shape
    if not m:
        return np.zeros((k, k))
    qr, _, _, _ = lapack.dgeqrf(A)
    R = np.triu(qr[:k])
    R *= np.where(np.diag(R) < 0, -1.0, 1.0)[:, None]
    return np.asarray(R if m >= k else np.vstack([R, np.zeros((k - m, k))]))


def power_of_two(values: np.ndarray) -> np.ndarray:
    """Return the power of two just above each value (1 for zero), so that scaling rounds
    nothing."""
    _, exponent = np.frexp(np.where(values > 0, values, 1.0))
    return np.asarray(np.ldexp(1.0, np.minimum(np.maximum(exponent, -1000), 1000)))


def condition_number(R: np.ndarray) -> float:
    """Return the condition number of R with its columns scaled to unit length.

    By power iteration when there are many.
    """
    if not len(R):
        return 1.0
    lengths = np.sqrt((R * R).sum(axis=0))
    if not (lengths > 0).all() or not R.diagonal().all():
        return float("inf")
    unit = np.asfortranarray(R / lengths)
    if len(R) > WIDE:
        v = np.random.default_rng(1).standard_normal(len(R))
        largest, _ = power_iteration(v, lambda u: unit.T @ (unit @ u))
        smallest, _ = power_iteration(v, lambda u: backward(unit, forward(unit, u)))
        return float(np.sqrt(largest * smallest))
    _, values, _, _ = lapack.dgesdd(unit, compute_uv=0)
    if values[-1] > 0:
        return float(values[0] / values[-1])
    return float("inf")


def power_iteration(
    v: np.ndarray, apply: Callable[[np.ndarray], np.ndarray], rounds: int = 30
) -> tuple[float, np.ndarray]:
    """Return the largest eigenvalue of a symmetric map, to a digit or two, and its vector of length
    one.

    Begun from a vector v (r,)."""
    size = 0.0
    for _ in range(rounds):
        v = apply(v / np.linalg.norm(v))
        size = float(np.linalg.norm(v))
    return size, v / size


def row_lengths(A: np.ndarray) -> np.ndarray:
    """Return the length of each row of A (m, k), also where its square is no double."""
    size = np.abs(A).max(axis=1, initial=0.0)
    unit = A / np.where(size > 0, size, 1.0)[:, None]
    return np.asarray(size * np.sqrt(np.einsum("ij,ij->i", unit, unit)))
