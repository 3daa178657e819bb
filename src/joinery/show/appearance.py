"""The appearance of a table before people, beyond its figures and their names."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from joinery.show.labels import Labels


@dataclass(frozen=True)
class Appearance:
    """The kinds of a table's cells, the words of its headings, and where people see what.

    ``kinds`` says how a column is shown where its name does not: ``figure`` (same decimals down the
    column), ``own`` (each by its own size), ``value`` (so, no zeros added), ``error`` (decimals by
    the row's ``standard_error``), ``p``, ``whole``, ``degrees``, ``share``, ``text``, ``cell``
    (made up already)."""

    kinds: Mapping[str, str] = field(default_factory=dict)
    headings: Mapping[str, str] = field(default_factory=dict)  # words for a column's name
    labels: Labels = field(default_factory=lambda: Labels({}))  # words for columns within terms
    digits: int | None = None  # significant digits, None for the house's
    most_rows: int = 200  # rows that a terminal shows
    keys: int = 1  # leading columns that say which row it is, and stand in every strip
    grouped: bool = False  # whether the first column's cells head groups of rows
    hidden: tuple[str, ...] = ()  # columns whose figures another cell says already
    under: str = ""  # the column whose text stands under its row
    silent: str = ""  # what that text is where there is nothing to show
    # a figure and those that stand in its cell: one in parentheses, two as an interval
    joined: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    transposed: str = ""  # the column whose cells head the columns, figures going down
    listed: str = ""  # of a transposed table, the column whose words are listed above
    legend: tuple[str, ...] = ()  # lines between title and figures
