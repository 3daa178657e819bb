"""What the reweighted iteration works on: the problem, and which of its columns are estimable."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.glm.families import Family
from joinery.core.glm.links import Link
from joinery.core.glm.rows import LikelihoodSource, WorkingBlocks, by_coefficients
from joinery.core.least_squares.solution import Solution


@dataclass(frozen=True)
class Problem:
    """What is to be fitted: rows, family, link, intercept, number of rows, φ where known."""

    rows: LikelihoodSource
    family: Family
    link: Link
    intercept: bool
    n: int
    dispersion: float | None = None

    def at(self, b: np.ndarray | None) -> WorkingBlocks:
        return WorkingBlocks(
            self.rows, self.family, self.link, None if b is None else by_coefficients(b)
        )

    @property
    def canonical(self) -> bool:
        return self.family.canonical == self.link.name


@dataclass(frozen=True)
class Columns:
    """Which of so many columns are estimable, and whether there is an intercept."""

    kept: np.ndarray
    has_intercept: bool
    width: int
    first: Solution | None = None  # the least squares that told, where one was made

    @property
    def rank(self) -> int:
        return len(self.kept) + self.has_intercept

    @property
    def places(self) -> np.ndarray:
        """Where the estimable coefficients stand in [intercept, columns]."""
        return np.append([0] if self.has_intercept else [], self.kept + 1).astype(int)
