"""Condition indexes: how nearly the columns depend on one another."""

from __future__ import annotations

import numpy as np

from joinery.core.numeric.triangular import WIDE


def largest_condition_index(R: np.ndarray) -> float:
    """Return the largest of ``condition_indexes``."""
    unit = R / np.sqrt((R * R).sum(axis=0))
    with np.errstate(all="ignore"):
        if len(R) > WIDE:  # squares keep half the digits, which is enough of a small index
            values = np.linalg.eigvalsh(unit.T @ unit)
            if values[0] > 1e-10 * values[-1]:
                return float(np.sqrt(values[-1] / values[0]))
        values = np.linalg.svd(unit, compute_uv=False)
        return float(values[0] / values[-1])


def condition_indexes(R: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return condition indexes (r,) of columns of unit length, and the variance shares (r, r).

    Parameters: R, a factor of the uncentred columns, the constant among them. Row i of the shares
    belongs to index i; a column's shares add to one. Source: Belsley 1991, *Conditioning
    Diagnostics*, 3."""
    unit = R / np.sqrt((R * R).sum(axis=0))
    _, values, vectors = np.linalg.svd(unit)
    parts = (vectors / values[:, None]) ** 2
    return values[0] / values, parts / parts.sum(axis=0)
