"""Tables as they stand in a page; a table of rows is tied to the pictures."""

from __future__ import annotations

import html
from collections.abc import Sequence
from dataclasses import replace

from joinery.show.forms import shown_cells
from joinery.show.marks import visible
from joinery.show.people import for_people
from joinery.show.table import Table


def table(
    of: Table,
    rows: Sequence[int | None] | None = None,
    *,
    first: Sequence[str] = (),
    name: str = "",
) -> str:
    """Return an HTML table with its title and notes; everything that came from the user is escaped.

    ``rows`` are the page's numbers of its lines, None for a line that no picture shows; ``first``
    the columns that are seen at once, where the others are shown when asked; ``name`` the table's
    own on the page.
    """
    shown = for_people(of)
    if first:
        front = [name for name in first if name in shown.columns]
        order = [*front, *(name for name in shown.columns if name not in front)]
        shown = replace(shown, columns={name: shown.columns[name] for name in order})
        seen = len(front) + (shown.index is not None)
    else:
        seen = len(shown.columns) + 1
    heads, lines, words = shown_cells(shown)
    body = _Body(shown, heads, words, seen)
    written = "".join(
        body.line(line, None if rows is None else rows[place]) for place, line in enumerate(lines)
    )
    title = ""
    if of.title:
        title = f"<caption>{html.escape(visible(of.title))}</caption>"
    legend = [visible(line) for line in shown.appearance.legend]
    notes = "".join(f"<p class=note>{html.escape(visible(v))}</p>" for v in (*legend, *of.notes))
    label = html.escape(visible(of.title or "table"))
    return (
        f'{_switch(body, name)}<div class=table tabindex=0 role=region aria-label="{label}"><table>'
        f"{title}<thead><tr>{body.heads()}</tr></thead><tbody>{written}</tbody></table></div>"
        f"{notes}"
    )


def _switch(body: _Body, name: str) -> str:
    """Return a box to tick that shows the columns that are not seen at once."""
    if body.seen >= len(body.headings):
        return ""
    box = f'<input type=checkbox class=more-switch id="{name}-more">'
    return f'{box}<label for="{name}-more">all figures</label>'


class _Body:
    """The lines of a table: groups under a head of their own, and text that stands under a line."""

    def __init__(self, of: Table, heads: list[str], words: list[bool], seen: int) -> None:
        appearance = of.appearance
        names = list(of.columns)
        shift = len(heads) - len(names)  # 1 where labels of rows stand first
        self.headings, self.words, self.seen, self.silent = heads, words, seen, appearance.silent
        self.under = names.index(appearance.under) + shift if appearance.under in names else -1
        self.group = 0 if appearance.grouped else -1
        self.cells = [j for j in range(len(heads)) if j not in (self.under, self.group)]
        self.last_group = ""

    def heads(self) -> str:
        """Return the headings of the columns."""
        return "".join(
            f"<th scope=col{self._class(j)}>{html.escape(self.headings[j])}</th>"
            for j in self.cells
        )

    def line(self, cells: list[str], number: int | None) -> str:
        """Return one line of the table, with the head of its group before it and its text after
        it."""
        before = after = ""
        if self.group >= 0 and cells[self.group] != self.last_group:
            self.last_group = cells[self.group]
            before = self._across("th scope=rowgroup", "group", self.last_group)
        if self.under >= 0 and cells[self.under] not in ("", self.silent):
            after = self._across("td", "under", cells[self.under])
        start, *rest = self.cells
        head = html.escape(cells[start])
        tied = ""
        if number is not None:
            head = f'<button type=button aria-pressed="false">{head}</button>'
            tied = f" data-r={number}"
        row = f"<th scope=row{self._class(start)}>{head}</th>"
        row += "".join(f"<td{self._class(j)}>{html.escape(cells[j])}</td>" for j in rest)
        return f"{before}<tr{tied}>{row}</tr>{after}"

    def _across(self, tag: str, kind: str, text: str) -> str:
        """Return a line of one cell as wide as the table."""
        end = tag.partition(" ")[0]
        return (
            f"<tr class={kind}><{tag} colspan={len(self.cells)} class=words>{html.escape(text)}"
            f"</{end}></tr>"
        )

    def _class(self, column: int) -> str:
        kinds = ["words"] * self.words[column] + ["more"] * (column >= self.seen)
        if not kinds:
            return ""
        return f' class="{" ".join(kinds)}"'
