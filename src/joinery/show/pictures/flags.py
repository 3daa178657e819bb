"""Marks on the remarkable points of a picture."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from matplotlib.axes import Axes

from joinery.show.pictures.canvas import DENSE, label_points, ring


@dataclass(frozen=True)
class Flag:
    """A remarkable point: its place among the points, its label, and whether it is serious."""

    place: int
    label: str
    serious: bool


def mark(ax: Axes, x: np.ndarray, y: np.ndarray, flags: Sequence[Flag]) -> None:
    if not flags:
        return
    places = np.array([f.place for f in flags])
    ring(ax, x[places], y[places], [f.serious for f in flags], lit=len(x) > DENSE)
    label_points(ax, x[places], y[places], [f.label for f in flags], (x, y))
