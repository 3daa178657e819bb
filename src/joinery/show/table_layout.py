"""The arrangement of a table for people, where that is not column by column."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Layout:
    """Differences between what people and machines see of a table."""

    keys: int = 1  # leading columns that say which row it is, and stand in every strip
    grouped: bool = False  # whether the first column's cells head groups of rows
    hidden: tuple[str, ...] = ()  # columns whose figures another cell says already
    under: str = ""  # the column whose text stands under its row
    silent: str = ""  # what that text is where there is nothing to show
    # a figure and those that stand in its cell: one in parentheses, two as an interval
    joined: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    transposed: str = ""  # the column whose cells head the columns, figures going down
    listed: str = ""  # of a turned table, the column whose words are listed above
    legend: tuple[str, ...] = ()  # lines between title and figures
