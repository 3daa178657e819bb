"""Places on a line at which an answer changes, found on a grid and narrowed down by halving."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

HALVINGS = 60  # of a step of the grid: as many as a double has digits, and some


def crossings(state: Callable[[np.ndarray], np.ndarray], grid: np.ndarray) -> np.ndarray:
    """Return where ``state`` (m,), of any kind that can be compared, changes along a grid (g,)."""
    states = np.asarray(state(grid))
    places = np.flatnonzero(states[:-1] != states[1:])
    if not len(places):
        return np.empty(0)
    left, right, before = grid[places], grid[places + 1], states[places]
    for _ in range(HALVINGS):
        middle = (left + right) / 2
        same = np.asarray(state(middle)) == before
        left, right = np.where(same, middle, left), np.where(same, right, middle)
    return np.asarray((left + right) / 2)
