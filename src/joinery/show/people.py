"""How a Table stands before people, where that is not column by column."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from joinery.show.table import Table


@dataclass(frozen=True)
class Layout:
    """What people see otherwise than machines."""

    keys: int = 1  # leading columns that say which row it is, and stand in every strip
    grouped: bool = False  # whether the first column's cells head groups of rows
    under: str = ""  # the column whose text stands under its row
    silent: str = ""  # what that text is where there is nothing to show
    # a figure and those that stand in its cell: one in parentheses, two as an interval
    joined: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    turned: str = ""  # the column whose cells head the columns, figures going down
    listed: str = ""  # of a turned table, the column whose words are listed above
    legend: tuple[str, ...] = ()  # lines between title and figures


def for_people(table: Table) -> Table:
    """The table as its layout says: cells joined, rows and columns turned."""
    layout = table.layout
    if layout.joined:
        table = _joined(table)
    return _turned(table) if layout.turned else table


def _joined(table: Table) -> Table:
    columns, kinds = dict(table.columns), dict(table.kinds)
    for name, others in table.layout.joined.items():
        if name not in columns or any(other not in columns for other in others):
            continue
        first, *rest = (table.cells(n) for n in (name, *others))
        columns[name] = [_in_one(cell, list(more)) for cell, *more in zip(first, *rest)]
        kinds[name] = "cell"
        for other in others:
            del columns[other]
    layout = replace(table.layout, joined={})
    return replace(table, columns=columns, kinds=kinds, layout=layout)


def _in_one(cell: str, others: list[str]) -> str:
    if not cell or not all(others):
        return cell
    return f"{cell} [{', '.join(others)}]" if len(others) > 1 else f"{cell} ({others[0]})"


def _turned(table: Table) -> Table:
    layout = table.layout
    heads = table.cells(layout.turned)
    down = [n for n in table.columns if n not in (layout.turned, layout.listed)]
    rows = [(table.heading(n), cells) for n in down if any(cells := table.cells(n))]
    columns: dict[str, list[str]] = {"figure": [heading for heading, _ in rows]}
    columns |= {str(i): [cells[i] for _, cells in rows] for i in range(len(heads))}
    names = {str(i): f"{table.heading(layout.turned)} {head}" for i, head in enumerate(heads)}
    legend: tuple[str, ...] = ()
    if layout.listed:
        words = table.cells(layout.listed)
        legend = tuple(f"{names[str(i)]}: {word}" for i, word in enumerate(words))
    return replace(
        table,
        columns=columns,
        kinds={"figure": "text"} | dict.fromkeys(names, "cell"),
        headings={"figure": " "} | names,
        most_rows=len(rows),
        layout=Layout(legend=legend),
    )
