"""The figures of the rows, one block at a time: what a digest is made of."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.glm.estimate import Estimate
from joinery.core.glm.rows import LikelihoodRows, WorkingState
from joinery.core.inference.influence import Influence, influence, scaled
from joinery.core.least_squares.solution import Solution
from joinery.design.glm_blocks import WorkingRows, working_block
from joinery.design.row_blocks import RowBlock
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.figures import (
    known_scale,
    residuals,
)
from joinery.study.rows.glm_figures import family_figures


class Rows(NamedTuple):
    """Some rows: what they are judged by, each (m,)."""

    block: RowBlock  # of the least squares that the fit rests on
    observed: np.ndarray
    terms: np.ndarray  # the sum of the terms, without offset or exposure
    times: np.ndarray
    working: np.ndarray  # residuals on the scale of the terms
    leverage: np.ndarray
    standardized: np.ndarray
    cooks_distance: np.ndarray
    studentized: np.ndarray | None  # where it does not follow from the standardized ones
    influence: Callable[[np.ndarray], Influence]  # of a few of them, by their places


def pieces(fit: Fitted) -> Partition[Rows]:
    """Return the rows of a fit, block by block."""
    rows = working_rows(fit)
    if isinstance(rows, WorkingRows):
        return rows.states.map(partial(_of_family, fit.estimate))
    return rows.row_blocks.map(partial(_of_least_squares, fit.solution, known_scale(fit)))


def _of_least_squares(solution: Solution, known: float | None, block: RowBlock) -> Rows:
    residual = residuals(solution, block)
    variance = solution.unscaled_variance(block.columns)
    # a row that stands for several equal ones is judged as one of them
    measures = scaled(solution, block.columns, residual, block.precision, known, variance)

    def of_few(few: np.ndarray) -> Influence:
        if block.precision is None:
            w = None
        else:
            w = block.precision[few]
        return influence(solution, block.columns, residual[few], w, known, variance[few])

    return Rows(
        block,
        block.y,
        block.beyond_offset - residual,
        block.times,
        residual,
        measures.leverage,
        measures.standardized,
        measures.cooks_distance,
        None,
        of_few,
    )


def _of_family(estimate: Estimate, made: tuple[RowBlock, LikelihoodRows, WorkingState]) -> Rows:
    figures = family_figures(estimate, made[1], made[2])
    names = Influence.__annotations__

    def of_few(few: np.ndarray) -> Influence:
        return Influence(**{name: figures[name][few] for name in names})

    return Rows(
        working_block(made),
        figures["observed"],
        figures["terms"],
        figures["times"],
        figures["working_residual"],
        figures["leverage"],
        figures["standardized"],
        figures["cooks_distance"],
        figures["studentized"],
        of_few,
    )


def times_of(rows: Rows) -> np.ndarray | None:
    """Return how often each row stands, None where each stands once."""
    if rows.block.repeats is None:
        return None
    return rows.times


def squares_of(rows: Rows) -> np.ndarray:
    """Return squared residuals over the spread (m,)."""
    return np.asarray(rows.standardized**2 * (1 - rows.leverage))
