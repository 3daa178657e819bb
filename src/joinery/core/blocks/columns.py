"""Columns of a block, many of which are the levels of one category: at most a one in each row."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

FEW_COLUMNS, FEW_CELLS = 4, 2**15  # fewer are summed column by column


@dataclass(frozen=True)
class IndicatorColumns:
    """Columns (m, k): some of numbers, the others levels of which a row has one or none.

    ``numbers`` (m, d) stand at ``number_places`` (d,) among the k columns, and the levels at
    ``level_places`` (q,). ``codes`` (m,) is a row's level, q where it has none. ``value`` (m,)
    stands in the level's column, 1 when None."""

    numbers: np.ndarray
    codes: np.ndarray
    number_places: np.ndarray
    level_places: np.ndarray
    value: np.ndarray | None = None

    @property
    def shape(self) -> tuple[int, int]:
        return len(self.codes), len(self.number_places) + len(self.level_places)

    def __len__(self) -> int:
        return len(self.codes)

    def sums(self, weights: np.ndarray | None) -> np.ndarray:
        """Return sums of weights (m,) over each level (q,)."""
        return np.bincount(self.codes, self._each(weights), len(self.level_places) + 1)[:-1].astype(
            float
        )

    def sums_of(self, Z: np.ndarray, weights: np.ndarray | None = None) -> np.ndarray:
        """Return sums of each column of Z (m, d), by weights (m,), over each level: (d, q)."""
        return group_sums(self.codes, Z, self._each(weights), len(self.level_places) + 1)[:, :-1]

    def _each(self, weights: np.ndarray | None) -> np.ndarray | None:
        if weights is None or self.value is None:
            if weights is None:
                return self.value
            return weights
        return np.asarray(weights * self.value)

    def split(self, b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Split a vector (k,) by numbers (d,) and codes (q + 1,), the last for no level."""
        return b[self.number_places], np.append(b[self.level_places], 0.0)

    def dense(self) -> np.ndarray:
        """Return all columns written out (m, k), column by column."""
        out = np.empty(self.shape, order="F")
        self.put(out)
        return out

    def put(self, out: np.ndarray) -> None:
        """Write all columns into others (m, k)."""
        for j, place in enumerate(self.number_places):
            out[:, place] = self.numbers[:, j]
        for place in self.level_places:
            out[:, place] = 0.0
        rows = np.flatnonzero(self.codes < len(self.level_places))
        out[rows, self.level_places[self.codes[rows]]] = (
            1.0 if self.value is None else self.value[rows]
        )


Columns = np.ndarray | IndicatorColumns


def group_sums(
    codes: np.ndarray, Z: np.ndarray, weights: np.ndarray | None, count: int
) -> np.ndarray:
    """Return sums of each column of Z (m, d), by weights (m,), over codes (m,) below ``count``.

    Returns them as (d, count). Many columns are summed in one go along the rows: that is faster
    than column by column, and leaves Python's lock to other threads."""
    if Z.shape[1] < FEW_COLUMNS or Z.size < FEW_CELLS:
        each = (z if weights is None else weights * z for z in Z.T)
        sums = [np.bincount(codes, z, count) for z in each]
        return np.array(sums, float).reshape(len(sums), count)
    from scipy import sparse  # takes long to import, and only long blocks ask for it

    if weights is None:
        each_row = np.ones(len(codes))
    else:
        each_row = weights
    by_row = sparse.csc_array(
        (each_row, codes, np.arange(len(codes) + 1)), shape=(count, len(codes))
    )
    return np.asarray(by_row @ np.ascontiguousarray(Z)).T


def side_by_side(columns: Sequence[np.ndarray | None]) -> np.ndarray | None:
    """Return columns (n,) that lie at even distances in one array, seen as one (n, q).

    None for others. It cannot be written to."""
    held = [column for column in columns if column is not None]
    if len(held) < max(len(columns), 2) or held[0].base is None:
        return None
    first, at = held[0], [c.__array_interface__["data"][0] for c in held]
    alike = all(c.base is first.base and c.strides == (8,) for c in held)
    step = at[1] - at[0]
    even = step > 0 and all(after - before == step for before, after in pairwise(at))
    if not (alike and even):
        return None
    seen = np.lib.stride_tricks.as_strided
    return seen(first, (len(first), len(held)), (8, step), writeable=False)


def dense(X: Columns) -> np.ndarray:
    """Return columns written out."""
    if isinstance(X, IndicatorColumns):
        return X.dense()
    return X


def chosen(X: Columns, kept: np.ndarray) -> Columns:
    """Return some of the columns, without a copy where all are."""
    if len(kept) == X.shape[1]:
        return X
    if not isinstance(X, IndicatorColumns):
        return np.asfortranarray(X[:, kept])
    place = np.full(X.shape[1], -1)
    place[kept] = np.arange(len(kept))
    numbers, levels = place[X.number_places], place[X.level_places]
    indices, here = np.flatnonzero(numbers >= 0), np.flatnonzero(levels >= 0)
    if not len(here):
        return np.asfortranarray(X.numbers[:, indices[np.argsort(numbers[indices])]])
    code = np.full(len(levels) + 1, len(here))
    code[here] = np.arange(len(here))
    return IndicatorColumns(
        X.numbers if len(indices) == len(numbers) else X.numbers[:, indices],
        code[X.codes],
        numbers[indices],
        levels[here],
        X.value,
    )


def some_rows(X: Columns, rows: np.ndarray | slice) -> Columns:
    """Return some of the rows, by a mask (m,), their places, or a slice."""
    if isinstance(X, IndicatorColumns):
        if X.value is None:
            value = None
        else:
            value = X.value[rows]
        return replace(X, numbers=X.numbers[rows], codes=X.codes[rows], value=value)
    return np.asarray(X[rows])


def some_columns(X: Columns, places: np.ndarray) -> np.ndarray:
    """Return some columns written out, by their places: (m, len(places))."""
    if np.array_equal(places, np.arange(X.shape[1])):
        return dense(X)
    return np.asarray(dense(chosen(X, places)) if len(places) < X.shape[1] else dense(X)[:, places])


def put_columns(X: Columns, places: np.ndarray, out: np.ndarray) -> None:
    """Write some columns, by their places, into others (m, len(places))."""
    X = chosen(X, places)
    if isinstance(X, IndicatorColumns):
        X.put(out)
    else:
        out[:] = X


def extremes(X: Columns) -> tuple[np.ndarray, np.ndarray]:
    """Return the least and the greatest value of each column, each (k,), of rows that are there."""
    if not isinstance(X, IndicatorColumns):
        return X.min(axis=0, initial=np.inf), X.max(axis=0, initial=-np.inf)
    low, high = np.empty(X.shape[1]), np.empty(X.shape[1])
    low[X.number_places], high[X.number_places] = extremes(X.numbers)
    count = np.bincount(X.codes, minlength=len(X.level_places) + 1)[:-1]
    low[X.level_places], high[X.level_places] = count == len(X), count > 0
    return low, high


def shifted(X: Columns, shift: np.ndarray | None) -> Columns:
    """Return X − shift (k,); the same where there is nothing to take off."""
    if shift is None:
        return X
    if isinstance(X, IndicatorColumns) and X.value is None and not shift[X.level_places].any():
        return replace(X, numbers=X.numbers - shift[X.number_places])
    return np.asarray(dense(X) - shift)


def times_rows(X: Columns, root: np.ndarray) -> Columns:
    """Return each row times a number (m,)."""
    if isinstance(X, IndicatorColumns):
        if X.value is None:
            value = root
        else:
            value = X.value * root
        return replace(X, numbers=X.numbers * root[:, None], value=value)
    return np.asarray(X * root[:, None])
