"""Row blocks: a design, its response and weights, a few thousand rows at a time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from joinery.core.blocks.blocks import Block, BlockWithResidue
from joinery.core.blocks.columns import Columns, dense, some_rows
from joinery.core.blocks.partition import Partition
from joinery.data.records import Records
from joinery.design.design import Design
from joinery.design.learning import Learner, Piece
from joinery.design.response import ResponseScale
from joinery.notation.context import Context, Rows
from joinery.notation.evaluate import evaluate
from joinery.notation.parse import read_expression
from joinery.notation.tree import Expression
from joinery.support.errors import UnusableColumnError, listed
from joinery.support.limits import BLOCK_CELLS, BLOCK_ROWS
from joinery.support.progress import counted


@dataclass(frozen=True)
class Asides:
    """Columns beside the terms: precision weights, repeats, and an offset."""

    weights: str | None = None
    repeats: str | None = None
    offset: str | None = None

    @cached_property
    def expressions(self) -> dict[str, Expression]:
        """Each aside that there is, read."""
        written = {"weights": self.weights, "repeats": self.repeats, "offset": self.offset}
        return {name: read_expression(text) for name, text in written.items() if text is not None}

    def values(self, name: str, context: Context) -> np.ndarray | None:
        """Return an aside for the context's rows, or None where there is none.

        Raises UnusableColumnError below zero.
        """
        expression = self.expressions.get(name)
        if expression is None:
            return None
        values = evaluate(expression, context)
        if (infinite := np.isinf(values)).any():
            rows = context.named_rows(infinite)
            raise UnusableColumnError(
                f"{name}: {expression} is infinite in {len(rows):,} row{'s' * (len(rows) > 1)} "
                f"({listed(rows)})",
                column=str(expression),
                rows=rows,
            )
        if name == "weights":
            bad = values < 0
        else:
            bad = (values < 0) | (values != np.round(values))
        if name != "offset" and np.any(bad & ~np.isnan(values)):
            rows = context.named_rows(bad & ~np.isnan(values))
            if name == "weights":
                wrong = "below zero"
            else:
                wrong = "no whole number from 0"
            raise UnusableColumnError(
                f"{name}: {expression} is {wrong} in {len(rows):,} row{'s' * (len(rows) > 1)} "
                f"({listed(rows)})",
                column=str(expression),
                rows=rows,
            )
        return values

    def evidence(self, learner: Learner) -> tuple[int, float]:
        """Return how many rows the learner's stand for, and Σ log w over them."""
        if self.weights is None and self.repeats is None:
            return learner.table.count(learner.rows), 0.0

        def of_piece(piece: Piece) -> tuple[float, float]:
            w, r = (self.values(name, piece[0]) for name in ("weights", "repeats"))
            if r is None:
                times = np.ones(piece[0].size)
            else:
                times = r
            return float(times.sum()), 0.0 if w is None else float(times @ np.log(w))

        n, log_weights = 0.0, 0.0
        for rows, logs in learner.stretches.each(of_piece):
            n, log_weights = n + rows, log_weights + logs
        return int(n), log_weights


@dataclass(frozen=True)
class RowBlock:
    """Some rows: columns (m, width), y (m,), and the asides, each (m,) or None."""

    columns: Columns
    y: np.ndarray
    precision: np.ndarray | None
    repeats: np.ndarray | None
    offset: np.ndarray | None
    trials: np.ndarray | None = None
    first: int = 0  # how many rows stand in the blocks before it

    @cached_property
    def X(self) -> np.ndarray:  # noqa: N802, the letter of every textbook
        """The columns written out."""
        return dense(self.columns)

    def slab(self, rows: slice) -> RowBlock:
        """Return some rows of the block that follow one another."""
        if rows.start <= 0 and rows.stop >= len(self.y):
            return self

        def of(values: np.ndarray | None) -> np.ndarray | None:
            return None if values is None else values[rows]

        return RowBlock(
            some_rows(self.columns, rows),
            self.y[rows],
            of(self.precision),
            of(self.repeats),
            of(self.offset),
            of(self.trials),
            self.first + rows.start,
        )

    @property
    def span(self) -> slice:
        """Return where its rows stand among all rows of the blocks."""
        return slice(self.first, self.first + len(self.y))

    @property
    def weights(self) -> np.ndarray | None:
        """Precision weights times repeats."""
        if self.precision is None or self.repeats is None:
            if self.repeats is None:
                return self.precision
            return self.repeats
        return np.asarray(self.precision * self.repeats)

    @property
    def precisions(self) -> np.ndarray:
        """Precision weights, ones where there are none."""
        if self.precision is None:
            return np.ones(len(self.y))
        return self.precision

    @property
    def times(self) -> np.ndarray:
        """Return how many equal rows each stands for."""
        if self.repeats is None:
            return np.ones(len(self.y))
        return self.repeats

    @property
    def row_weights(self) -> np.ndarray:
        """Precision weights times repeats, ones where there are neither."""
        if self.weights is None:
            return np.ones(len(self.y))
        return self.weights

    @property
    def beyond_offset(self) -> np.ndarray:
        """Return what the terms have to explain: the response less the offset."""
        if self.offset is None:
            return self.y
        return np.asarray(self.y - self.offset)


@dataclass(frozen=True)
class RowBlocks:
    """Row blocks made again at each pass, so that the whole matrix never stands in memory.

    Their partition is fixed, so that threads and repetitions do not change a bit.
    """

    design: Design
    response: ResponseScale
    asides: Asides
    table: Records
    rows: Rows
    partitioned_as: int | None = None  # the width whose partition it takes; its own for None

    @property
    def width(self) -> int:
        return self.design.width

    @cached_property
    def _context(self) -> Context:
        """Return where all blocks are made: what is computed once serves every pass."""
        return self.design.context(self.table, self.rows)

    @property
    def rows_a_block(self) -> int:
        """Return how many rows a block has, the last one fewer."""
        width = self.partitioned_as or self.design.block_width
        return max(64, min(BLOCK_ROWS, BLOCK_CELLS // (width + 1)))

    @property
    def pieces(self) -> Partition[Block]:
        # kept here, blocks made anew would keep this alive, and with it the rows
        return self._single or self.row_blocks.map(
            lambda block: (block.columns, block.beyond_offset, block.weights)
        )

    @property
    def row_blocks(self) -> Partition[RowBlock]:
        """The blocks with all that belongs to their rows."""
        size, cuts = self.rows_a_block, self._cuts

        def make(i: int, workspace: np.ndarray | None) -> RowBlock:
            here = self._context_of(i)
            w, r, offset = (
                self.asides.values(name, here) for name in ("weights", "repeats", "offset")
            )
            exposure = self.response.log_exposure(here)
            if exposure is not None:
                if offset is None:
                    offset = exposure
                else:
                    offset = offset + exposure
            columns, trials = self.design.columns(here, workspace), self.response.trials(here)
            first = int(cuts[i])
            return RowBlock(columns, self.response.values(here), w, r, offset, trials, first)

        return Partition(
            len(cuts) - 1,
            make,
            lambda: np.empty((size, self.width), order="F"),
            self.table.runner_of(self.rows, cuts),
            self._watched if self.table.read_as_needed else None,
        )

    @cached_property
    def _cuts(self) -> np.ndarray:
        """Return where the rows are cut into blocks, counted among the rows used."""
        return self.table.cuts(self.rows, self.rows_a_block)

    @contextmanager
    def _watched(self) -> Iterator[Callable[[int], None]]:
        """Shows how many rows a pass has gone through."""
        total = int(self._cuts[-1])
        with counted(f"rows of pass {self.table.next_pass()}", total) as advance:
            done = iter(np.diff(self._cuts).tolist())
            yield lambda blocks: advance(next(done))

    @property
    def with_residue(self) -> Partition[BlockWithResidue]:
        """The blocks with what powers and products are more than doubles: for the exact way."""
        blocks = self.pieces

        def make(i: int, workspace: np.ndarray | None) -> BlockWithResidue:
            return blocks.make(i, workspace), self.design.rounding_residue(self._context_of(i))

        return blocks.remade(make)

    def _context_of(self, i: int) -> Context:
        """Return where a block's rows are."""
        return self._context.between(int(self._cuts[i]), int(self._cuts[i + 1]))

    @cached_property
    def _single(self) -> Partition[Block] | None:
        """The block of a table that is one block: small enough to be made once and kept."""
        if self._context.size > self.rows_a_block or self.table.apart:
            return None
        block = next(iter(self.row_blocks), None)
        if block is None:
            return None
        single = block.columns, block.beyond_offset, block.weights
        return Partition(1, lambda i, workspace: single)


@dataclass(frozen=True)
class WithResponse:
    """Row blocks with another response (n,) and other weights (n,) in place of their own.

    NaN leaves a row out.
    """

    blocks: BlockSource
    response: np.ndarray
    weights: np.ndarray | None = None

    @property
    def width(self) -> int:
        return self.blocks.width

    @property
    def pieces(self) -> Partition[Block]:
        def instead(block: RowBlock) -> Block:
            if self.weights is None:
                w = None
            else:
                w = self.weights[block.span]
            return complete(block.columns, self.response[block.span], w)

        return self.blocks.row_blocks.map(instead)


def complete(columns: Columns, y: np.ndarray, weights: np.ndarray | None) -> Block:
    """Return the rows of a block (m, k) whose response (m,) is there."""
    here = np.isfinite(y)
    if here.all():
        return columns, y, weights
    return some_rows(columns, here), y[here], None if weights is None else weights[here]


class BlockSource(Protocol):
    """Rows of a design in blocks."""

    @property
    def width(self) -> int: ...

    @property
    def row_blocks(self) -> Partition[RowBlock]: ...
