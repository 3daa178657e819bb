"""Tables as people see them: cells joined, rows and columns turned."""

from __future__ import annotations

from dataclasses import replace

from joinery.show.cells import cells_of, heading
from joinery.show.table import Table
from joinery.show.table_layout import Layout


def for_people(table: Table) -> Table:
    """The table as its layout says: cells joined, rows and columns turned."""
    layout = table.layout
    if layout.hidden:
        shown = {n: v for n, v in table.columns.items() if n not in layout.hidden}
        table = replace(table, columns=shown, layout=replace(layout, hidden=()))
    if layout.joined:
        table = _joined(table)
    if layout.transposed:
        return _turned(table)
    return table


def _joined(table: Table) -> Table:
    columns, kinds = dict(table.columns), dict(table.kinds)
    for name, others in table.layout.joined.items():
        if name not in columns or any(other not in columns for other in others):
            continue
        first, *rest = (cells_of(table, n) for n in (name, *others))
        columns[name] = [_in_one(cell, list(more)) for cell, *more in zip(first, *rest)]
        kinds[name] = "cell"
        for other in others:
            del columns[other]
    layout = replace(table.layout, joined={})
    return replace(table, columns=columns, kinds=kinds, layout=layout)


def _in_one(cell: str, others: list[str]) -> str:
    if not cell or not all(others):
        return cell
    if len(others) > 1:
        return f"{cell} [{', '.join(others)}]"
    return f"{cell} ({others[0]})"


def _turned(table: Table) -> Table:
    layout = table.layout
    heads = cells_of(table, layout.transposed)
    down = [n for n in table.columns if n not in (layout.transposed, layout.listed)]
    rows = [(heading(table, n), cells) for n in down if any(cells := cells_of(table, n))]
    columns: dict[str, list[str]] = {"figure": [words for words, _ in rows]}
    columns |= {str(i): [cells[i] for _, cells in rows] for i in range(len(heads))}
    names = {str(i): f"{heading(table, layout.transposed)} {head}" for i, head in enumerate(heads)}
    legend: tuple[str, ...] = ()
    if layout.listed:
        words = cells_of(table, layout.listed)
        legend = tuple(f"{names[str(i)]}: {word}" for i, word in enumerate(words))
    return replace(
        table,
        columns=columns,
        kinds={"figure": "text"} | dict.fromkeys(names, "cell"),
        headings={"figure": " "} | names,
        most_rows=len(rows),
        layout=Layout(legend=legend),
    )
