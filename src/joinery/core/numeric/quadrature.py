"""Points and weights for integrals, kept as they are asked for again and again."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy import special


@lru_cache(maxsize=16)
def legendre(points: int) -> tuple[np.ndarray, np.ndarray]:
    """Return Gauss and Legendre's points in (−1, 1) and their weights, each (points,)."""
    nodes, weights = special.roots_legendre(points)
    for array in (nodes, weights):
        array.flags.writeable = False  # all callers share them
    return nodes, weights


@lru_cache(maxsize=16)
def hermite(points: int) -> tuple[np.ndarray, np.ndarray]:
    """Return Gauss and Hermite's points of the standard normal law and their weights, which sum to
    one, each (points,)."""
    nodes, weights = special.roots_hermitenorm(points)
    weights = weights / weights.sum()
    for array in (nodes, weights):
        array.flags.writeable = False
    return nodes, weights
