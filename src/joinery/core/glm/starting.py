"""Starting values of the reweighted iteration, and columns that must be moved before it does."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.blocks import Block
from joinery.core.blocks.partition import Partition
from joinery.core.glm.edges import eta_range
from joinery.core.glm.information import Information, information, together
from joinery.core.glm.problem import Columns, Problem
from joinery.core.glm.rows import LikelihoodRows, LikelihoodSource, overall_mean, working_state
from joinery.core.least_squares.solution import FAR_MEAN
from joinery.core.least_squares.solve import least_squares

START_APART = 0.03  # of the linear predictor's SD: how near a start comes by conjugate gradients


def rough_start(problem: Problem) -> np.ndarray | None:
    """Return first coefficients from one pass over cross-products.

    None where the columns are not well apart.
    """
    working, k = problem.at(None), problem.rows.width

    def added(part: LikelihoodRows) -> tuple[Information, np.ndarray]:
        state = working_state(working, part)
        return information(part.X, state.W, state.W * state.z, rough=True)

    H: Information | None = None
    g = np.zeros(k + 1)
    for own_H, own_g in problem.rows.pieces.each(added):
        H, g = together(H, own_H), g + own_g
    places = np.arange(0 if problem.intercept else 1, k + 1)
    if H is None:
        return None
    return H.settled().solve(g, places, START_APART)


def first_inside(problem: Problem, columns: Columns) -> np.ndarray:
    """Return coefficients with valid means to start from, near the overall mean."""
    low, high = problem.family.mean_range
    mean = min(max(overall_mean(problem.rows), low + 1e-6), high - 1e-6)
    level = float(problem.link.eta(np.array([mean]))[0])
    b = np.zeros(columns.width + 1)
    if columns.has_intercept:
        b[0] = _beside_offsets(problem, level)
        return b
    # without an intercept: the combination of columns that comes nearest to that level
    return least_squares(_Constant(problem.rows, level), intercept=False).padded_coefficients


def _beside_offsets(problem: Problem, level: float) -> float:
    """Return a constant near ``level`` that keeps η inside its range beside every offset."""
    low, high = eta_range(problem.family, problem.link)
    least = most = 0.0
    for lowest, highest in problem.rows.pieces.each(_offset_ends):
        least, most = min(least, lowest), max(most, highest)
    constant = level
    if constant + least <= low:
        constant = level - least  # the row of the least offset begins at the overall mean
    if constant + most >= high:
        constant = level - most
    if constant + least <= low:
        constant = (low - least + high - most) / 2
    return constant


@dataclass(frozen=True)
class _Constant:
    """The rows with one number as the response of all."""

    source: LikelihoodSource
    level: float

    @property
    def width(self) -> int:
        return self.source.width

    @property
    def pieces(self) -> Partition[Block]:
        return self.source.pieces.map(
            lambda part: (part.X, _less_offset(self.level, part), part.weights)
        )


def _offset_ends(part: LikelihoodRows) -> tuple[float, float]:
    """Return the least and the greatest offset of some rows, zero among them."""
    if part.offset is None:
        return 0.0, 0.0
    return float(part.offset.min(initial=0.0)), float(part.offset.max(initial=0.0))


def _less_offset(level: float, part: LikelihoodRows) -> np.ndarray:
    """Return what is left of a level in each row when its offset is taken away."""
    return np.full(len(part.y), level) - (0.0 if part.offset is None else part.offset)


def far_means(problem: Problem, columns: Columns) -> np.ndarray | None:
    """Return what to take off columns (k,) whose means are so far away that η would lose digits.

    None where none is.
    """
    first = columns.first
    if first is None or not problem.intercept:
        return None
    far = np.abs(first.centre) > 30 * FAR_MEAN * first.spread
    if not far.any():
        return None
    shift = np.zeros(columns.width)
    shift[first.kept[far]] = first.centre[far]
    return shift
