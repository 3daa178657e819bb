"""The protocol of a table that stays where it is, and the share of one that may be held."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from joinery.support.errors import TooLargeError
from joinery.support.limits import HELD_CELLS

if TYPE_CHECKING:
    import pyarrow as pa

STRETCH = 2**17  # rows that are read at a time


class Source(Protocol):
    """A table in parts."""

    @property
    def name(self) -> str: ...

    @property
    def schema(self) -> pa.Schema:
        """The columns' names and types."""
        ...

    @property
    def lengths(self) -> tuple[int, ...]:
        """Return how many rows each part has."""
        ...

    @property
    def apart(self) -> bool:
        """Return True if parts lie on several machines, so that no block of rows may cross their
        ends."""
        ...

    def expect(self, columns: Sequence[str]) -> None:
        """Be told that some columns are about to be read side by side."""
        ...

    def read(self, part: int, column: str) -> Iterator[pa.Array]:
        """Yield one column of a part, some rows at a time, in their order.

        Raises DataError for a part that cannot be read.
        """
        ...


def picked(source: Source, column: str, positions: np.ndarray) -> list[Any]:
    """Return a column's cells in a few rows far apart, as Python values."""
    import pyarrow as pa

    order = np.argsort(positions, kind="stable")
    wanted = positions[order]
    collected: list[Any] = []
    start = 0
    for part, length in enumerate(source.lengths):
        low, high = np.searchsorted(wanted, (start, start + length))
        result, at = wanted[low:high] - start, 0
        for array in source.read(part, column) if len(result) else ():
            a, b = np.searchsorted(result, (at, at + len(array)))
            collected += array.take(pa.array(result[a:b] - at)).to_pylist() if b > a else []
            at += len(array)
            if b == len(result):
                break
        start += length
    out: list[Any] = [None] * len(collected)
    for place, cell in zip(order.tolist(), collected, strict=True):
        out[place] = cell
    return out


def is_written(source: Source, column: str) -> bool:
    """Return True if a column's cells are texts or whole numbers, which their text tells apart."""
    import pyarrow as pa

    kind = source.schema.field(column).type
    return bool(
        pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_integer(kind)
    )


def looked_up(source: Source, column: str, texts: Sequence[str]) -> dict[str, np.ndarray]:
    """Return the positions of the rows whose cell reads like one of some texts, by text."""
    import pyarrow as pa
    import pyarrow.compute as pc

    wanted, result, start = pa.array(texts, pa.string()), dict[str, list[int]](), 0
    for part in range(len(source.lengths)):
        for array in source.read(part, column):
            cells = array.cast(pa.string())
            here = np.flatnonzero(pc.is_in(cells, value_set=wanted).to_numpy(zero_copy_only=False))
            for place, text in zip(here.tolist(), cells.take(pa.array(here)).to_pylist()):
                result.setdefault(text, []).append(start + place)
            start += len(array)
    return {text: np.array(places) for text, places in result.items()}


def is_held(source: Source, *, apart: bool = False) -> bool:
    """Return True if a table is small enough to be simply read; ``apart`` where it lies apart,
    too."""
    cells = sum(source.lengths) * len(source.schema.names)
    return cells <= HELD_CELLS and (apart or not source.apart)


def refuse_too_large(rows: int, most: int, what: str, instead: str) -> None:
    """Raise TooLargeError where more rows than ``most`` would have to be held."""
    if rows > most:
        raise TooLargeError(
            f"{what} needs all {rows:,} rows in memory, which are too many; {instead}",
            rows=rows,
            most=most,
        )
