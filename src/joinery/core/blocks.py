"""Row blocks, and what one pass over them says."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from joinery.core.triangular import forward
from joinery.errors import DataError

Block = tuple[np.ndarray, np.ndarray, np.ndarray | None]
BLOCK_ROWS = 16384


class Blocks(Protocol):
    """Row blocks that can be gone through again: (X (m, k) without the constant, y (m,), weights (m,) or None)."""

    @property
    def width(self) -> int: ...

    def __iter__(self) -> Iterator[Block]: ...


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

    def __iter__(self) -> Iterator[Block]:
        for start in range(0, len(self.y), self.rows):
            part = slice(start, start + self.rows)
            yield (
                np.asarray(self.X[part], float),
                np.asarray(self.y[part], float),
                None if self.weights is None else np.asarray(self.weights[part], float),
            )


def start(blocks: Blocks, intercept: bool, far: float) -> tuple[np.ndarray, float]:
    """Where to shift columns and response to, so that centring costs no digits: near the first block's means.

    A column whose mean is no more than ``far`` spreads away stays where it is; without an intercept all do.
    """
    for X, y, _ in blocks:
        if len(y):
            if not intercept:
                break
            with np.errstate(all="ignore"):
                mean, level = X.mean(axis=0), float(y.mean())
                # |mean| ≤ far·sd, written with the mean square so that one pass less is made
                near = mean * mean * (1 + far**2) <= far**2 * np.einsum("ij,ij->j", X, X) / len(y)
                level_near = level * level * (1 + far**2) <= far**2 * float(y @ y) / len(y)
                return np.where(near, 0.0, mean), 0.0 if level_near else level
    return np.zeros(blocks.width), 0.0


def shifted(X: np.ndarray, shift: np.ndarray | None) -> np.ndarray:
    return X if shift is None else X - shift


@dataclass(frozen=True)
class Extremes:
    """What one pass says of sizes: |column − shift| at most (k + 1,), the largest weight, and the counts."""

    largest: np.ndarray
    largest_weight: float
    n: int
    weight_sum: float


def extremes(blocks: Blocks, shift: np.ndarray) -> Extremes:
    """Sizes of the columns and the response (k + 1,). Raises DataError for what is not finite, or without rows."""
    low, high = np.full(len(shift), np.inf), np.full(len(shift), -np.inf)
    n, weight_sum, largest_weight = 0, 0.0, 0.0
    for X, y, w in blocks:
        if not len(y):
            continue
        columns = np.ascontiguousarray(X.T)  # the ends of a column come several times faster from contiguous values
        low = np.minimum(low, np.append(columns.min(axis=1), y.min()))
        high = np.maximum(high, np.append(columns.max(axis=1), y.max()))
        n += len(y) if w is None else int(np.count_nonzero(w))
        weight_sum += len(y) if w is None else float(w.sum())
        largest_weight = max(largest_weight, 1.0 if w is None else float(w.max()))
    if n == 0:
        raise DataError("no rows to fit")
    if not (np.isfinite(low).all() and np.isfinite(high).all() and np.isfinite(weight_sum)):
        raise DataError("a value is not finite")
    return Extremes(np.maximum(high - shift, shift - low), largest_weight, n, weight_sum)


def constant_in(
    blocks: Blocks,
    kept: np.ndarray,
    factor: np.ndarray,
    scale: np.ndarray,
    weight_sum: float,
    tss: float,
    unit: float = 1.0,
) -> tuple[bool, float]:
    """Whether columns without an intercept still hold the constant; then the sum of squares about the mean."""
    sums, level = np.zeros(len(kept)), 0.0
    for X, y, w in blocks:
        sums += X[:, kept].sum(axis=0) if w is None else w @ X[:, kept]
        level += float((y / unit).sum() if w is None else w @ (y / unit))
    reach = forward(factor, sums / scale)
    if abs(float(reach @ reach) / weight_sum - 1) >= 1e-10:
        return False, tss
    level /= weight_sum
    total = 0.0
    for _, y, w in blocks:
        away = y / unit - level
        total += float(away @ (away if w is None else w * away))
    return True, total
