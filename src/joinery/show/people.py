"""Tables as people see them: cells joined, rows and columns transposed."""

from __future__ import annotations

from dataclasses import replace

from joinery.show.appearance import Appearance
from joinery.show.cells import cells_of, heading
from joinery.show.table import Table


def for_people(table: Table) -> Table:
    """Return the table as its appearance says: cells joined, rows and columns transposed."""
    appearance = table.appearance
    if appearance.hidden:
        shown = {n: v for n, v in table.columns.items() if n not in appearance.hidden}
        table = replace(table, columns=shown, appearance=replace(appearance, hidden=()))
    if appearance.joined:
        table = _joined(table)
    if appearance.transposed:
        return _transposed(table)
    return table


def _joined(table: Table) -> Table:
    columns, kinds = dict(table.columns), dict(table.appearance.kinds)
    for name, others in table.appearance.joined.items():
        if name not in columns or any(other not in columns for other in others):
            continue
        first, *rest = (cells_of(table, n) for n in (name, *others))
        columns[name] = [_in_one(cell, list(more)) for cell, *more in zip(first, *rest)]
        kinds[name] = "cell"
        for other in others:
            del columns[other]
    appearance = replace(table.appearance, kinds=kinds, joined={})
    return replace(table, columns=columns, appearance=appearance)


def _in_one(cell: str, others: list[str]) -> str:
    if not cell or not all(others):
        return cell
    if len(others) > 1:
        return f"{cell} [{', '.join(others)}]"
    return f"{cell} ({others[0]})"


def _transposed(table: Table) -> Table:
    appearance = table.appearance
    heads = cells_of(table, appearance.transposed)
    down = [n for n in table.columns if n not in (appearance.transposed, appearance.listed)]
    rows = [(heading(table, n), cells) for n in down if any(cells := cells_of(table, n))]
    columns: dict[str, list[str]] = {"figure": [words for words, _ in rows]}
    columns |= {str(i): [cells[i] for _, cells in rows] for i in range(len(heads))}
    names = {
        str(i): f"{heading(table, appearance.transposed)} {head}" for i, head in enumerate(heads)
    }
    legend: tuple[str, ...] = ()
    if appearance.listed:
        words = cells_of(table, appearance.listed)
        legend = tuple(f"{names[str(i)]}: {word}" for i, word in enumerate(words))
    shown = Appearance(
        kinds={"figure": "text"} | dict.fromkeys(names, "cell"),
        headings={"figure": " "} | names,
        labels=appearance.labels,
        digits=appearance.digits,
        most_rows=len(rows),
        legend=legend,
    )
    return replace(table, columns=columns, appearance=shown)
