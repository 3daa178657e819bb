"""The rows of a long table that stand for all: some evenly taken, and those that stand beside."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from joinery.data.records import Records
from joinery.notation.context import Rows, positions_at
from joinery.support.limits import MOST_DRAWN


def evenly_spaced(n: int, most: int) -> tuple[np.ndarray, int]:
    """Return the places of at most so many of n rows, and how far they are apart."""
    step = -(-n // most)
    return np.arange(step // 2, n, step), step


def drawn_evenly(n: int) -> tuple[np.ndarray, str] | None:
    """Return places of the rows that are drawn of so many, and what to say of it; None for all of
    them."""
    if n <= 4 * MOST_DRAWN:
        return None
    places, step = evenly_spaced(n, MOST_DRAWN)
    return places, f"one row in {step} is drawn"


def in_memory(
    table: Records, rows: Rows, places: np.ndarray, named: np.ndarray, names: Sequence[str]
) -> Records:
    """Return some of the rows, by their places, with some columns; those ``named`` have their
    labels."""
    labels = labels_of(table, rows, places, named)
    return table.some(positions_at(rows, places), names, labels)


def labels_of(table: Records, rows: Rows, places: np.ndarray, named: np.ndarray) -> list[Any]:
    """Return a label for each place: those of the ``named`` ones, nothing for others."""
    labels = table.labels(positions_at(rows, named))
    by_place = dict(zip(named.tolist(), labels, strict=True))
    return [by_place.get(place, "") for place in places.tolist()]
