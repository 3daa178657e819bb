"""Row blocks: a design, its response and what stands beside it, made a few thousand rows at a time."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from joinery.core.blocks import Block
from joinery.data.records import Records
from joinery.design.design import Design
from joinery.design.response import ResponseScale
from joinery.errors import UnusableColumnError, listed
from joinery.notation.evaluate import Context, Rows, evaluate
from joinery.notation.parse import read_expression
from joinery.notation.tree import Expression

BLOCK_ROWS = 16384
BLOCK_CELLS = 2**21


@dataclass(frozen=True)
class Asides:
    """What stands beside the terms: precision weights, repeats (a row for so many equal ones), and an offset."""

    weights: str | None = None
    repeats: str | None = None
    offset: str | None = None

    @property
    def expressions(self) -> dict[str, Expression]:
        """Each aside that there is, read."""
        written = {"weights": self.weights, "repeats": self.repeats, "offset": self.offset}
        return {name: read_expression(text) for name, text in written.items() if text is not None}

    def values(self, name: str, context: Context) -> np.ndarray | None:
        """An aside for the context's rows, or None where there is none. Raises UnusableColumnError below zero."""
        expression = self.expressions.get(name)
        if expression is None:
            return None
        values = evaluate(expression, context)
        bad = values < 0 if name == "weights" else (values < 0) | (values != np.round(values))
        if name != "offset" and np.any(bad & ~np.isnan(values)):
            rows = context.named_rows(bad & ~np.isnan(values))
            wrong = "below zero" if name == "weights" else "no whole number from 0"
            raise UnusableColumnError(
                f"{name}: {expression} is {wrong} in {len(rows):,} row{'s' * (len(rows) > 1)} ({listed(rows)})",
                column=str(expression),
                rows=rows,
            )
        return values


@dataclass(frozen=True)
class RowBlock:
    """Some rows: X (m, width), y (m,), and the asides, each (m,) or None."""

    X: np.ndarray
    y: np.ndarray
    precision: np.ndarray | None
    repeats: np.ndarray | None
    offset: np.ndarray | None
    trials: np.ndarray | None = None

    @property
    def weights(self) -> np.ndarray | None:
        """Precision weights times repeats."""
        if self.precision is None or self.repeats is None:
            return self.precision if self.repeats is None else self.repeats
        return np.asarray(self.precision * self.repeats)

    @property
    def beyond_offset(self) -> np.ndarray:
        """What the terms have to explain: the response less the offset."""
        return self.y if self.offset is None else np.asarray(self.y - self.offset)


@dataclass(frozen=True)
class RowBlocks:
    """Row blocks made again at each pass, so that the whole matrix never stands in memory."""

    design: Design
    response: ResponseScale
    asides: Asides
    table: Records
    rows: Rows

    @property
    def width(self) -> int:
        return self.design.width

    @property
    def _rows_a_block(self) -> int:
        return max(64, min(BLOCK_ROWS, BLOCK_CELLS // (self.width + 1)))

    def whole(self, *, reuse: bool = False) -> Iterator[RowBlock]:
        """The blocks with all that belongs to their rows.

        With ``reuse`` each block's X stands where the one before it stood: for passes that keep none of them, which
        spares the system handing out fresh memory for each.
        """
        context = self.design.context(self.table, self.rows)
        room = np.empty((self._rows_a_block, self.width), order="F") if reuse else None
        for rows in partition(self.rows, len(self.table), self._rows_a_block):
            here = context.at(rows)
            w, r, offset = (self.asides.values(name, here) for name in ("weights", "repeats", "offset"))
            exposure = self.response.log_exposure(here)
            if exposure is not None:
                offset = exposure if offset is None else offset + exposure
            trials = self.response.trials(here)
            X = self.design.matrix(here, room)
            yield RowBlock(X, self.response.values(here), w, r, offset, trials)

    def __iter__(self) -> Iterator[Block]:
        if self._single is not None:
            yield self._single
            return
        for block in self.whole(reuse=True):
            yield block.X, block.beyond_offset, block.weights

    @cached_property
    def _single(self) -> Block | None:
        """The block of a table that is one block: small enough to be made once and kept."""
        context = self.design.context(self.table, self.rows)
        if context.size > self._rows_a_block:
            return None
        block = next(iter(self.whole()), None)
        return None if block is None else (block.X, block.beyond_offset, block.weights)


def partition(rows: Rows, total: int, size: int = BLOCK_ROWS) -> Iterator[Rows]:
    """Rows in a fixed partition, so that threads and repetitions do not change a bit."""
    if isinstance(rows, slice):
        start, stop, _ = rows.indices(total)
        for first in range(start, stop, size):
            yield slice(first, min(first + size, stop))
    else:
        for first in range(0, len(rows), size):
            yield rows[first : first + size]
