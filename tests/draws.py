"""How much simulations draw: a quarter of it in everyday runs, all of it with JOINERY_DRAWS=full."""

from __future__ import annotations

import os

import numpy as np

FULL = os.environ.get("JOINERY_DRAWS") == "full"
LEAST = 4


def draws(full: int) -> int:
    """Return how many tables to draw where a full run draws so many."""
    return full if FULL else max(full // 4, min(full, LEAST))


def by_chance(share: float, times: int) -> float:
    """Return three and a half standard errors of a share that is counted in so many draws."""
    return 3.5 * float(np.sqrt(share * (1 - share) / times))
