"""The rows of a long table that pictures show: some evenly taken, and those that stand beside."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery.data.records import Records
from joinery.notation.context import Rows, positions_at
from joinery.support.limits import MOST_DRAWN


def drawn_evenly(n: int) -> tuple[np.ndarray, str] | None:
    """Return places of the rows that are drawn of so many, and what to say of it; None for all of
    them."""
    if n <= 4 * MOST_DRAWN:
        return None
    step = -(-n // MOST_DRAWN)
    return np.arange(step // 2, n, step), f"one row in {step} is drawn"


def in_memory(
    table: Records, rows: Rows, places: np.ndarray, named: np.ndarray, names: Sequence[str]
) -> Records:
    """Return some of the rows, by their places, with some columns; those ``named`` have their
    labels."""
    result = table.labels(positions_at(rows, named))
    labels = dict(zip(named.tolist(), result, strict=True))
    shown = [labels.get(place, "") for place in places.tolist()]
    return table.some(positions_at(rows, places), names, shown)
