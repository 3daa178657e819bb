"""Sums of squares and tests from a triangular factor alone.

R (r, r) is the factor of the columns and g (r,) = Qᵀy, so that a model in a subset S of columns explains what the
triangle of [R_S | g] has above its last row.
"""

from __future__ import annotations

import numpy as np

from joinery.core.triangular import triangle


def extra(R: np.ndarray, g: np.ndarray, before: np.ndarray, own: np.ndarray) -> tuple[float, int]:
    """What the columns ``own`` explain beyond those ``before``: the sum of squares and its degrees of freedom.

    Source: Golub & Van Loan, *Matrix Computations*, 5.3; Draper & Smith 1998, 6.1.
    """
    if not len(own):
        return 0.0, 0
    T = triangle(np.column_stack([R[:, before], R[:, own], g]))
    part = T[len(before) : len(before) + len(own), -1]
    return float(part @ part), len(own)


def wald(difference: np.ndarray, V: np.ndarray) -> float:
    """dᵀV⁻¹d, by the eigenvectors of V that are not lost in rounding; NaN when none is (Wald 1943)."""
    if not len(difference) or not np.isfinite(V).all():
        return float("nan")
    scale = np.sqrt(np.maximum(np.diag(V), 0.0))
    if not np.all(scale > 0):
        return float("nan")
    values, vectors = np.linalg.eigh(V / np.outer(scale, scale))
    if values[0] <= 1e-12 * values[-1]:
        return float("nan")
    turned = vectors.T @ (difference / scale)
    return float((turned**2 / values).sum())
