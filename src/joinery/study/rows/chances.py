"""The fitted chances of a model of shares beside what came."""

from __future__ import annotations

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.glm.rows import LikelihoodRows, WorkingState
from joinery.core.inference.chances import Chances, Groups, in_groups
from joinery.design.glm_blocks import WorkingRows
from joinery.design.row_blocks import RowBlock
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.figures import too_many

CALIBRATION_GROUPS = 10  # as Hosmer & Lemeshow 1980 have them


def chances(fit: Fitted) -> Partition[Chances]:
    """Return the chances of the rows a fit used: in one piece where they are held, else block by
    block."""
    rows = working_rows(fit)
    assert isinstance(rows, WorkingRows)
    if too_many(fit):
        return rows.states.map(_of_rows)
    return in_one(list(rows.states.each(_of_rows)))


def groups(fit: Fitted) -> Groups:
    """Return observed and expected events in up to ten groups of fitted chance."""
    return in_groups(chances(fit), max(min(CALIBRATION_GROUPS, fit.n_rows // 3), 1))


def _of_rows(made: tuple[RowBlock, LikelihoodRows, WorkingState]) -> Chances:
    _, part, state = made
    if part.trials is None:
        trials = part.times
    else:
        trials = part.trials * part.times
    return Chances(state.mu, part.y, trials, part.precision)


def in_one(parts: list[Chances]) -> Partition[Chances]:
    """Return the rows of several parts, in memory, as one piece."""
    rows = Chances(*(np.concatenate(values) for values in zip(*parts, strict=True)))
    return Partition(1, lambda i, workspace: rows)
