"""Tables as they stand in a page; a table of rows is tied to the pictures."""

from __future__ import annotations

import html
from collections.abc import Sequence

from joinery.show.forms import shown_cells
from joinery.show.marks import visible
from joinery.show.people import for_people
from joinery.show.table import Table


def table(of: Table, rows: Sequence[int | None] | None = None) -> str:
    """An HTML table with its title and notes; everything that came from the user is escaped.

    ``rows`` are the page's numbers of its lines, None for a line that no picture shows.
    """
    heads, lines, words = shown_cells(of)
    kinds = [" class=words" if w else "" for w in words]
    head = "".join(
        f"<th scope=col{k}>{html.escape(h)}</th>" for h, k in zip(heads, kinds, strict=True)
    )
    body = []
    for place, line in enumerate(lines):
        if rows is not None:
            number = rows[place]
        else:
            number = None
        cells = [html.escape(cell) for cell in line]
        if number is not None:
            cells[0] = f'<button type=button aria-pressed="false">{cells[0]}</button>'
        first = f"<th scope=row{kinds[0]}>{cells[0]}</th>"
        rest = "".join(f"<td{k}>{c}</td>" for c, k in zip(cells[1:], kinds[1:], strict=True))
        body.append(f"<tr{'' if number is None else f' data-r={number}'}>{first}{rest}</tr>")
    if of.title:
        title = f"<caption>{html.escape(visible(of.title))}</caption>"
    else:
        title = ""
    legend = [visible(line) for line in for_people(of).layout.legend]
    notes = "".join(f"<p class=note>{html.escape(visible(v))}</p>" for v in (*legend, *of.notes))
    name = html.escape(visible(of.title or "table"))
    return (
        f'<div class=table tabindex=0 role=region aria-label="{name}"><table>{title}'
        f"<thead><tr>{head}</tr></thead><tbody>{''.join(body)}</tbody></table></div>{notes}"
    )
