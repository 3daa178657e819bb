"""The problem that the reweighted iteration solves, and its estimable columns."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.families import Family
from joinery.core.glm.links import Link
from joinery.core.glm.rows import LikelihoodSource, WorkingBlocks, by_coefficients, overall_mean
from joinery.core.least_squares.solution import Solution

LOW = 0.1  # of the size of responses: a first mean where their own mean is none


@dataclass(frozen=True)
class Problem:
    """A model to be fitted: rows, family, link, intercept, number of rows, φ where known."""

    rows: LikelihoodSource
    family: Family
    link: Link
    intercept: bool
    n: int
    dispersion: float | None = None
    barrier: float = 0.0  # t of the barrier at the edges of η: see ``edges``

    def at(self, b: np.ndarray | None) -> WorkingBlocks:
        if b is not None:
            return WorkingBlocks(self.rows, self.family, self.link, by_coefficients(b))
        return WorkingBlocks(self.rows, self.family, self.link, None, self.first_level)

    @property
    def first_level(self) -> float:
        """η to begin with in rows whose response is no mean that the link can have."""
        with np.errstate(all="ignore"):
            lowest = self.link.eta(np.clip([-1.0], *self.family.mean_range))
        if not np.isnan(lowest).any():
            return 0.0  # there are none
        mean = overall_mean(self.rows)
        if not mean > 0:
            mean = LOW * overall_mean(self.rows, np.abs)
        return float(self.link.eta(np.array([mean]))[0])

    @property
    def canonical(self) -> bool:
        return self.family.canonical == self.link.name


@dataclass(frozen=True)
class Columns:
    """The estimable ones of so many columns, and whether there is an intercept."""

    kept: np.ndarray
    has_intercept: bool
    width: int
    first: Solution | None = None  # the least squares that told, where one was made

    @property
    def rank(self) -> int:
        return len(self.kept) + self.has_intercept

    @property
    def places(self) -> np.ndarray:
        """Return where the estimable coefficients stand in [intercept, columns]."""
        return np.append([0] if self.has_intercept else [], self.kept + 1).astype(int)
