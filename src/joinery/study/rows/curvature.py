"""Sums for the next power of each predictor, and for the square of the fitted values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.columns import some_columns
from joinery.core.least_squares.solution import Solution
from joinery.study.fitted import Fitted
from joinery.study.numeric_terms import column_means, highest_powers, numbers_alone
from joinery.study.rows.row_stream import Rows

GLANCE_COLUMNS = 64  # rows that tell of most columns whether they have more than two values


@dataclass(frozen=True)
class Curved:
    """Sums for the next power of each predictor, and for the square of the fitted values."""

    raw: np.ndarray  # centred sums (1 + kept, q)
    squares: np.ndarray  # (q,)
    products: np.ndarray  # with the residuals (q,)
    low: np.ndarray  # of some rows where those tell that a column has more than two values
    high: np.ndarray
    between: np.ndarray  # whether a value lies between the lowest and the highest

    def __add__(self, other: Curved) -> Curved:
        apart = np.isfinite(self.low) & ((self.low != other.low) | (self.high != other.high))
        ends = np.sort(np.vstack([other.low, other.high, self.low, self.high]), axis=0)
        # blocks of two values each may hold three together
        third = (np.diff(ends, axis=0) > 0).sum(axis=0) > 1
        return Curved(
            self.raw + other.raw,
            self.squares + other.squares,
            self.products + other.products,
            np.minimum(self.low, other.low),
            np.maximum(self.high, other.high),
            self.between | other.between | (apart & third),
        )


class Bending(NamedTuple):
    """The columns whose curvature is asked for, and what they are centred by."""

    solution: Solution
    places: np.ndarray
    centres: np.ndarray
    degrees: list[int]
    middle: float  # of the fitted values


def bending(fit: Fitted) -> Bending:
    """Return what is asked of the numbers that stand alone as terms."""
    numbers, middle, highest = numbers_alone(fit), column_means(fit), highest_powers(fit)
    solution = fit.solution
    if solution.spans_constant:
        mean = solution.mean_response
    else:
        mean = 0.0
    return Bending(
        solution,
        np.array([column for _, column in numbers], int),
        np.array([middle.get(column, 0.0) for _, column in numbers]),
        [int(highest[f.base]) + 1 for f, _ in numbers],
        mean,
    )


def curved_of(rows: Rows, question: Bending) -> Curved:
    """Return sums for the next powers of the predictors and for squared fitted values."""
    block, solution = rows.block, question.solution
    m, size = len(block.y), len(question.places) + 1
    z = np.empty((m, size), order="F")  # as the columns lie
    np.subtract(some_columns(block.columns, question.places), question.centres, out=z[:, :-1])
    z[:, -1] = (rows.terms - question.middle) / solution.unit
    low, high = _ends(z[:GLANCE_COLUMNS])
    inside = _between(z[:GLANCE_COLUMNS], low, high)
    if not inside.all():
        low, high = _ends(z)
        inside = _between(z, low, high)
    Z = _powers(z, [*question.degrees, 2])
    if block.weights is None:
        weighted = Z
    else:
        weighted = Z * block.weights[:, None]
    return Curved(
        solution.centred_sums(block.columns, weighted),
        np.einsum("ij,ij->j", Z, weighted),
        weighted.T @ (rows.working / solution.unit),
        low,
        high,
        inside,
    )


def _ends(z: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    return z.min(axis=0, initial=np.inf), z.max(axis=0, initial=-np.inf)


def _between(z: np.ndarray, low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """Return True if any of a column's values (m, q) lies between its ends."""
    return np.asarray(((z > low) & (z < high)).any(axis=0))


def _powers(z: np.ndarray, degrees: list[int]) -> np.ndarray:
    """Return each column of z to its own whole power, by multiplication, in its place."""
    higher = [(j, degree, z[:, j].copy()) for j, degree in enumerate(degrees) if degree > 2]
    np.multiply(z, z, out=z)
    for j, degree, column in higher:
        for _ in range(degree - 2):
            z[:, j] *= column
    return z
