"""Row blocks, and what one pass over them says."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np

from joinery.core.blocks.columns import Columns, chosen, dense
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import inner, weighted_sums
from joinery.core.numeric.triangular import forward
from joinery.support.errors import DataError
from joinery.support.limits import BLOCK_ROWS

Block = tuple[Columns, np.ndarray, np.ndarray | None]


class Blocks(Protocol):
    """Row blocks for several passes: X (m, k) without the constant, y (m,), weights or None."""

    @property
    def width(self) -> int: ...

    @property
    def pieces(self) -> Partition[Block]: ...


BlockWithResidue = tuple[Block, np.ndarray | None]


@runtime_checkable
class ResidueBlocks(Protocol):
    """Blocks that also give the rounding residue of their columns, (m, k) or None."""

    @property
    def with_residue(self) -> Partition[BlockWithResidue]: ...


def with_residue(blocks: Blocks) -> Partition[BlockWithResidue]:
    """Return blocks with what their columns are more than doubles."""
    if isinstance(blocks, ResidueBlocks):
        return blocks.with_residue
    return blocks.pieces.map(lambda block: (block, None))


@dataclass(frozen=True)
class ArrayBlocks:
    """Blocks of whole arrays: X (n, k), y (n,), weights (n,) or None."""

    X: np.ndarray
    y: np.ndarray
    weights: np.ndarray | None = None
    rows: int = BLOCK_ROWS

    @property
    def width(self) -> int:
        return int(self.X.shape[1])

    @property
    def pieces(self) -> Partition[Block]:
        return Partition(-(-len(self.y) // self.rows), self._block)

    def _block(self, i: int, workspace: np.ndarray | None) -> Block:
        part = slice(i * self.rows, (i + 1) * self.rows)
        return (
            np.asarray(self.X[part], float),
            np.asarray(self.y[part], float),
            None if self.weights is None else np.asarray(self.weights[part], float),
        )


def start(blocks: Blocks, intercept: bool, far: float) -> tuple[np.ndarray, float]:
    """Return a shift near the first block's means, so that centring costs no digits.

    A column whose mean is no more than ``far`` spreads away stays where it is; without an intercept
    all do."""

    def near_means(block: Block) -> tuple[np.ndarray, float] | None:
        X, y, _ = block
        if not len(y):
            return None
        with np.errstate(all="ignore"):
            X = dense(X)
            mean, level = X.sum(axis=0) / len(y), float(y.sum()) / len(y)
            if not far:
                return mean, level
            # |mean| ≤ far·sd, written with the mean square so that one pass less is made
            near = mean * mean * (1 + far**2) <= far**2 * np.einsum("ij,ij->j", X, X) / len(y)
            level_near = level * level * (1 + far**2) <= far**2 * inner(y, y) / len(y)
            return np.where(near, 0.0, mean), 0.0 if level_near else level

    for piece in range(len(blocks.pieces)) if intercept else ():
        result = next(blocks.pieces.only(piece).each(near_means))
        if result is not None:
            return result
    return np.zeros(blocks.width), 0.0


@dataclass(frozen=True)
class Extremes:
    """Sizes after a pass: |column − shift| at most (k + 1,), the largest weight, counts."""

    largest: np.ndarray
    largest_weight: float
    n: int
    weight_sum: float


def extremes(blocks: Blocks, shift: np.ndarray) -> Extremes:
    """Return sizes of the columns and the response (k + 1,).

    Raises DataError for what is not finite, or without rows.
    """
    low, high = np.full(len(shift), np.inf), np.full(len(shift), -np.inf)
    n, weight_sum, largest_weight = 0, 0.0, 0.0
    for lowest, highest, rows, weight, heaviest in blocks.pieces.each(_ends):
        low, high = np.minimum(low, lowest), np.maximum(high, highest)
        n, weight_sum, largest_weight = n + rows, weight_sum + weight, max(largest_weight, heaviest)
    if n == 0:
        raise DataError("no rows to fit")
    if not (np.isfinite(low).all() and np.isfinite(high).all() and np.isfinite(weight_sum)):
        raise DataError("a value is not finite")
    return Extremes(np.maximum(high - shift, shift - low), largest_weight, n, weight_sum)


def _ends(block: Block) -> tuple[np.ndarray, np.ndarray, int, float, float]:
    """Return the range of columns and response, rows with weight, and weight sum and top."""
    X, y, w = block
    if not len(y):
        return np.full(X.shape[1] + 1, np.inf), np.full(X.shape[1] + 1, -np.inf), 0, 0.0, 0.0
    # the ends of a column come several times faster from contiguous values
    columns = np.ascontiguousarray(dense(X).T)
    low, high = np.append(columns.min(axis=1), y.min()), np.append(columns.max(axis=1), y.max())
    if w is None:
        return low, high, len(y), float(len(y)), 1.0
    return low, high, int(np.count_nonzero(w)), float(w.sum()), float(w.max())


def constant_in(
    blocks: Blocks,
    kept: np.ndarray,
    factor: np.ndarray,
    scale: np.ndarray,
    weight_sum: float,
    tss: float,
    unit: float = 1.0,
) -> tuple[np.ndarray | None, float]:
    """Locate the constant among columns without an intercept, and sum the squares about the mean.

    The direction (r,) is in the basis where the columns are orthonormal; None, and the sum of
    squares as it is, where the columns do not hold the constant."""
    sums, level = np.zeros(len(kept)), 0.0

    def added(block: Block) -> tuple[np.ndarray, float]:
        X, y, w = block
        if w is None:
            ones = np.ones(len(y))
        else:
            ones = w
        return weighted_sums(ones, chosen(X, kept)), inner(ones, y / unit)

    for sums_of_part, part in blocks.pieces.each(added):
        sums, level = sums + sums_of_part, level + part
    direction = forward(factor, sums / scale)
    if abs(float(direction @ direction) / weight_sum - 1) >= 1e-10:
        return None, tss
    level /= weight_sum

    def about(block: Block) -> float:
        _, y, w = block
        away = y / unit - level
        return inner(away, away if w is None else w * away)

    total = sum(blocks.pieces.each(about), 0.0)
    return direction / np.sqrt(float(direction @ direction)), total
