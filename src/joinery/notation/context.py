"""The context of an expression: a table, some of its rows, and what was learnt."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np

Rows = slice | np.ndarray
Memory = dict[str, dict[str, Any]]
EVERY_ROW = slice(None)


def count_of(rows: Rows, total: int) -> int:
    """Return how many of ``total`` rows are wanted."""
    if isinstance(rows, slice):
        return len(range(*rows.indices(total)))
    return len(rows)


def positions_at(rows: Rows, places: np.ndarray) -> np.ndarray:
    """Return positions in the table of rows that stand at places among those wanted."""
    return places + (rows.start or 0) if isinstance(rows, slice) else rows[places]


def places_at(rows: Rows, positions: np.ndarray) -> np.ndarray:
    """Return places among the rows wanted of positions in the table; those of other rows are left
    out."""
    if isinstance(rows, slice):
        return positions - (rows.start or 0)
    places = np.minimum(np.searchsorted(rows, positions), max(len(rows) - 1, 0))
    return np.asarray(places[rows[places] == positions] if len(rows) else places[:0])


class ColumnLike(Protocol):
    """The protocol of a column in expressions."""

    def numbers(self, rows: Rows) -> np.ndarray:
        """Return values as float64, NaN where missing; raises UnusableColumnError for text."""
        ...

    @property
    def kind(self) -> str:
        """number, yes/no, category or date."""
        ...

    @property
    def held_numbers(self) -> np.ndarray | None:
        """All values, where they are held as they are computed with."""
        ...

    @property
    def large_whole(self) -> np.ndarray | None:
        """All values as whole numbers, where some are beyond what a double can tell apart."""
        ...

    def texts(self, rows: Rows) -> np.ndarray:
        """Return values as text objects, None where missing."""
        ...

    def codes(self, rows: Rows) -> np.ndarray:
        """Return a whole number for each distinct value, −1 where missing."""
        ...

    @property
    def is_text(self) -> bool: ...

    @property
    def is_date(self) -> bool: ...

    def from_text(self, text: str) -> float:
        """Return a date written as text, as a number on the scale of ``numbers``."""
        ...

    def check_order(self) -> None:
        """Raise UnusableColumnError where the order of the values is unsettled."""
        ...


class TableLike(Protocol):
    """The protocol of a table in expressions."""

    @property
    def names(self) -> tuple[str, ...]: ...

    @property
    def lags(self) -> Mapping[str, np.ndarray]:
        """Lags by their text, of a table that has some rows and not those before them."""
        ...

    @property
    def read_as_needed(self) -> bool:
        """Return True if rows are read when they are asked for, so that nobody asks for all at
        once."""
        ...

    def column(self, name: str) -> ColumnLike: ...

    def labels(self, positions: np.ndarray) -> Sequence[Any]: ...

    def __len__(self) -> int: ...


@dataclass
class Context:
    """The context of an expression: the table, the rows wanted, and what was learnt before.

    Functions that learn read ``memory``. ``order`` is the column that puts rows in sequence, for
    lags; None for the table's own order."""

    table: TableLike
    rows: Rows = field(default_factory=lambda: EVERY_ROW)
    memory: Memory = field(default_factory=dict)
    cache: dict[str, np.ndarray] = field(default_factory=dict)
    order: str | None = None
    # factors, by their text, that are the same in every row
    held: dict[str, float | str] = field(default_factory=dict)

    @property
    def size(self) -> int:
        """Return how many rows are wanted."""
        return count_of(self.rows, len(self.table))

    def at(self, rows: Rows) -> Context:
        """Return the same table and memory, other rows."""
        return Context(self.table, rows, self.memory, self.cache, self.order)

    def between(self, start: int, stop: int) -> Context:
        """Return some of the wanted rows: from the place ``start`` among them to before
        ``stop``."""
        if isinstance(self.rows, slice):
            first = self.rows.start or 0
            return self.at(slice(first + start, first + stop))
        return self.at(self.rows[start:stop])

    def named_rows(self, bad: np.ndarray) -> list[Any]:
        """Return labels of the rows (of those wanted) that a mask picks out."""
        return list(self.table.labels(positions_at(self.rows, np.flatnonzero(bad))))
