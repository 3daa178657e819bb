"""One column of a source as an array whose rows are read when they are asked for."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import cores
from joinery.data.sources.source import STRETCH, Source, refuse_too_large
from joinery.support.errors import FileFormatError
from joinery.support.limits import STRETCHES_KEPT, WHOLE_ROWS

if TYPE_CHECKING:
    import pyarrow as pa


@cache
def readers() -> ThreadPoolExecutor:
    """Return threads that read the next rows while others work on the last."""
    return ThreadPoolExecutor(cores(), "joinery-reader")


ROWS_READ_A_ROW = 4  # rows read for each row wanted, at most, before rows are looked up one by one


class Cells:
    """Rows of one column, as an array ``turn`` makes of what is read.

    Blocks ask for rows in order, several threads at once: one reads on, and the last stretches
    are kept for the others."""

    def __init__(
        self,
        source: Source,
        column: str,
        turn: Callable[[pa.Array], np.ndarray],
        dtype: Any,
    ) -> None:
        self.source, self.column, self.turn, self.dtype = source, column, turn, np.dtype(dtype)
        self.ends = np.cumsum((0, *source.lengths))
        self._rest()

    def _rest(self) -> None:
        self._lock = threading.Lock()
        self._kept: deque[tuple[int, np.ndarray]] = deque(maxlen=STRETCHES_KEPT)
        self._part, self._at = -1, 0
        self._coming: Iterator[np.ndarray] = iter(())
        self._ahead: Future[np.ndarray | None] | None = None

    def __getstate__(self) -> dict[str, Any]:
        return {k: v for k, v in self.__dict__.items() if not k.startswith("_")}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._rest()

    def __len__(self) -> int:
        return int(self.ends[-1])

    def __getitem__(self, rows: slice | np.ndarray) -> np.ndarray:
        if isinstance(rows, slice):
            start, stop, step = rows.indices(len(self))
            if step == 1 or stop <= start:
                return self._between(start, stop)
            rows = np.arange(start, stop, step)
        elif rows.dtype == bool:
            rows = np.flatnonzero(rows)
        if not len(rows):
            return np.empty(0, self.dtype)
        low, high = int(rows.min()), int(rows.max())
        if high - low < ROWS_READ_A_ROW * len(rows) + STRETCH:
            return np.asarray(self._between(low, high + 1)[rows - low])
        out = np.empty(len(rows), self.dtype)
        order = np.argsort(rows, kind="stable")
        for member in np.split(order, np.flatnonzero(np.diff(rows[order]) > STRETCH) + 1):
            first = int(rows[member[0]])
            for some in np.array_split(member, -(-(int(rows[member[-1]]) - first + 1) // STRETCH)):
                if len(some):
                    first, last = int(rows[some[0]]), int(rows[some[-1]])
                    out[some] = self._between(first, last + 1)[rows[some] - first]
        return out

    def filled(self, mean: float) -> Cells:
        """Return the same with a number in place of each that is missing."""
        return Cells(self.source, self.column, Filled(self.turn, mean), self.dtype)

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> np.ndarray:
        full = self[:]
        if dtype is None:
            return full
        return full.astype(dtype)

    def stretches(self) -> Iterator[np.ndarray]:
        """Yield all rows, some at a time."""
        for start in range(0, len(self), STRETCH):
            yield self._between(start, min(start + STRETCH, len(self)))

    def _between(self, start: int, stop: int) -> np.ndarray:
        """Return the rows from ``start`` to before ``stop``."""
        refuse_too_large(
            stop - start,
            WHOLE_ROWS,
            f"this use of {self.column}",
            "take a sample of the rows for it, or leave that term or option out",
        )
        if stop <= start:
            return np.empty(0, self.dtype)
        first, values = self._stretch_at(start)
        if stop <= first + len(values):
            return values[start - first : stop - first]
        out = np.empty(stop - start, self.dtype)
        at = start
        while at < stop:
            first, values = self._stretch_at(at)
            some = values[at - first : stop - first]
            out[at - start : at - start + len(some)] = some
            at += len(some)
        return out

    def _stretch_at(self, row: int) -> tuple[int, np.ndarray]:
        """Return the stretch that holds a row, and the number of its first."""
        with self._lock:
            for first, values in self._kept:
                if first <= row < first + len(values):
                    return first, values
            part = int(np.searchsorted(self.ends, row, side="right")) - 1
            if part != self._part or row < self._at:
                self._open(part)
            while True:
                try:
                    values = self._next()
                except BaseException:
                    self._part = -1  # it is begun anew when it is asked again
                    raise
                first, self._at = self._at, self._at + len(values)
                if row < self._at:
                    self._kept.append((first, values))
                    return first, values

    def _open(self, part: int) -> None:
        """Begin to read a part."""
        if self._ahead is not None:
            self._ahead.cancel()
        self._part, self._at, self._ahead = part, int(self.ends[part]), None
        self._coming = map(self.turn, self.source.read(part, self.column))

    def _next(self) -> np.ndarray:
        """Return the stretch that comes; another thread reads on meanwhile."""
        if self._ahead is None:
            values = next(self._coming, None)
        else:
            values = self._ahead.result()
        if values is None:
            raise FileFormatError(f"{self.source.name}: a part holds fewer rows than it says")
        more = self._at + len(values) < self.ends[self._part + 1]
        if more and not self.source.apart:  # else the part is in memory already
            self._ahead = readers().submit(next, self._coming, None)
        else:
            self._ahead = None
        values.setflags(write=False)  # it is handed out as it is, to several at once
        return values


@dataclass(frozen=True)
class Filled:
    """Values as read, with a number in place of each that is missing."""

    turn: Callable[[pa.Array], np.ndarray]
    mean: float

    def __call__(self, array: pa.Array) -> np.ndarray:
        values = self.turn(array)
        return np.where(np.isnan(values), self.mean, values)
