"""The rows of a generalized linear model, for its likelihood and its last least squares."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.blocks import Block
from joinery.core.blocks.partition import Partition
from joinery.core.glm.estimate import Estimate
from joinery.core.glm.rows import LikelihoodRows, WorkingBlocks, WorkingState, working_state
from joinery.data.records import Records
from joinery.design.design import Design
from joinery.design.response import ResponseScale
from joinery.design.row_blocks import Asides, RowBlock, RowBlocks
from joinery.notation.context import Rows
from joinery.support.limits import PASS_CELLS_KEPT


class LikelihoodBlocks:
    """Row blocks as a likelihood sees them.

    Those of a table that is not too large are kept between passes.
    """

    def __init__(self, blocks: RowBlocks) -> None:
        self.blocks = blocks
        self._kept: list[LikelihoodRows | None] = []

    @property
    def width(self) -> int:
        return self.blocks.width

    @property
    def pieces(self) -> Partition[LikelihoodRows]:
        made = self.blocks.row_blocks
        count = self.blocks.table.count(self.blocks.rows)
        if (
            count * (self.blocks.design.stored_width + 4) > PASS_CELLS_KEPT
            or made.runner is not None
        ):
            return made.map(likelihood_rows)
        if not self._kept:
            self._kept = [None] * len(made)

        def kept(i: int, workspace: np.ndarray | None) -> LikelihoodRows:
            part = self._kept[i]
            if part is None:
                part = self._kept[i] = likelihood_rows(made.make(i, None))
            return part

        return Partition(made.count, kept)


def likelihood_rows(block: RowBlock) -> LikelihoodRows:
    """Return a block as a likelihood sees it; the trials stand beside the weights."""
    weights = block.precisions
    if block.repeats is not None:
        weights = weights * block.repeats
    columns, y, trials, offset = block.columns, block.y, block.trials, block.offset
    return LikelihoodRows(columns, y, weights, trials, offset, block.repeats)


@dataclass(frozen=True)
class WorkingRows:
    """The weighted least squares of an estimate, with the same parts as ``RowBlocks``."""

    blocks: RowBlocks
    estimate: Estimate

    @property
    def width(self) -> int:
        return self.blocks.width

    @property
    def design(self) -> Design:
        return self.blocks.design

    @property
    def response(self) -> ResponseScale:
        return self.blocks.response

    @property
    def asides(self) -> Asides:
        return self.blocks.asides

    @property
    def table(self) -> Records:
        return self.blocks.table

    @property
    def rows(self) -> Rows:
        return self.blocks.rows

    @property
    def states(self) -> Partition[tuple[RowBlock, LikelihoodRows, WorkingState]]:
        """Each block's rows, those of the likelihood, their means and working weights."""
        e = self.estimate
        working = WorkingBlocks(LikelihoodBlocks(self.blocks), e.family, e.link, e.solution.fitted)

        def with_state(block: RowBlock) -> tuple[RowBlock, LikelihoodRows, WorkingState]:
            part = likelihood_rows(block)
            return block, part, working_state(working, part)

        return self.blocks.row_blocks.map(with_state)

    @property
    def row_blocks(self) -> Partition[RowBlock]:
        """The blocks with the working response and, as precision, one row's working weights."""
        return self.states.map(working_block)

    @property
    def pieces(self) -> Partition[Block]:
        return self.row_blocks.map(lambda block: (block.X, block.y, block.weights))


def working_block(made: tuple[RowBlock, LikelihoodRows, WorkingState]) -> RowBlock:
    """Return a block with the working response and one row's working weights."""
    given, part, state = made
    single = state.W
    if part.repeats is not None:
        single = state.W / np.where(part.repeats > 0, part.repeats, 1.0)
    return RowBlock(part.X, state.z, single, part.repeats, None, first=given.first)
