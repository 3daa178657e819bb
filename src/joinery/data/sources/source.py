"""What a table that stays where it is has to offer, and how much of one may be held."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Protocol

from joinery.errors import TooLargeError

if TYPE_CHECKING:
    import pyarrow as pa

HELD_CELLS = 2**24  # a table of no more cells is simply read
WHOLE_ROWS = 2**25  # a column of no more rows may be held whole where a question wants that
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
        """How many rows each part has."""
        ...

    @property
    def apart(self) -> bool:
        """Whether parts lie on several machines, so that no block of rows may cross their ends."""
        ...

    def read(self, part: int, column: str) -> Iterator[pa.Array]:
        """One column of a part, some rows at a time, in their order.

        Raises DataError for a part that cannot be read.
        """
        ...


def is_held(source: Source, *, apart: bool = False) -> bool:
    """Whether a table is small enough to be simply read; ``apart`` where it lies apart, too."""
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
