"""A Table in each form: text by Rich, pages by Jinja, and the plain file formats."""

from __future__ import annotations

import io
import json
import math
import shutil
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import jinja2
from rich.console import Console, Group, RenderableType
from rich.table import Table as Grid
from rich.text import Text

from joinery.show.marks import printable, visible
from joinery.show.numbers import plain_cells
from joinery.show.palette import INK, SLATE

if TYPE_CHECKING:
    from joinery.show.table import Table

NARROWEST = 60


def width() -> int:
    """The width to write for: the terminal's, 80 where there is none."""
    return max(NARROWEST, min(shutil.get_terminal_size((80, 24)).columns, 120))


def plain(renderable: RenderableType, columns: int | None = None) -> str:
    """Text without colour, for `print` and for pipes."""
    out = io.StringIO()
    console = Console(
        file=out, width=columns or width(), no_color=True, force_terminal=False, highlight=False
    )
    console.print(renderable)
    return "\n".join(line.rstrip() for line in out.getvalue().splitlines())


def say(*renderables: RenderableType) -> None:
    """Print to standard output: in colour on a terminal, plain to a file or a pipe."""
    for renderable in renderables:
        if sys.stdout.isatty():
            Console(highlight=False, markup=False, width=width()).print(renderable)
        else:
            sys.stdout.write(plain(renderable) + "\n")


def grid(table: Table, columns: int | None = None) -> RenderableType:
    """A Table for a terminal of so many columns: laid in several strips where it is wider."""
    room = columns or width()
    shown = min(len(table), table.most_rows)
    pieces = [_Piece(table, name, shown) for name in table.columns]
    label = _Label(table, shown) if table.index is not None else pieces.pop(0) if pieces else None
    title = visible(table.title)
    parts: list[RenderableType] = [Text(title, style="bold")] if title else []
    for place, strip in enumerate(_strips(label, pieces, room)):
        parts += [Text("")] if place else []
        parts.append(_strip([*([label] if label else []), *strip]))
    if shown < len(table):
        parts.append(
            Text(f"{shown} of {len(table):,} rows shown; write the table to a file to have all")
        )
    parts += [Text(visible(note)) for note in table.notes]
    return Group(*parts)


class _Piece:
    """One column ready to be laid out: heading lines, cells, and the room it takes."""

    def __init__(self, table: Table, name: str, shown: int) -> None:
        self.words = table.is_text(name)
        self.cells = [visible(cell) for cell in table.cells(name)[:shown]]
        self.set_heading(visible(table.heading(name)))

    def set_heading(self, heading: str) -> None:
        longest = max([len(c) for c in self.cells], default=0)
        self.heading = (
            heading if self.words or len(heading) <= longest else "\n".join(heading.split())
        )
        self.room = min(
            max([longest, *map(len, self.heading.split("\n"))]), 44 if self.words else 99
        )


class _Label(_Piece):
    """The row labels as a first column."""

    def __init__(self, table: Table, shown: int) -> None:
        assert table.index is not None
        self.words = True
        self.cells = [visible(str(label)) for label in list(table.index)[:shown]]
        self.set_heading(visible(table.index_name))


def _strips(label: _Piece | None, pieces: list[_Piece], room: int) -> list[list[_Piece]]:
    strips: list[list[_Piece]] = [[]]
    used = start = (label.room + 2) if label else 0
    for piece in pieces:
        if strips[-1] and used + piece.room + 2 > room:
            strips.append([])
            used = start
        strips[-1].append(piece)
        used += piece.room + 2
    return strips


def _strip(pieces: list[_Piece]) -> Grid:
    out = Grid(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="bold", show_edge=False)
    for piece in pieces:
        out.add_column(
            Text(piece.heading),
            justify="left" if piece.words else "right",
            no_wrap=not piece.words,
            min_width=min(piece.room, 12) if piece.words else piece.room,
            overflow="fold",
        )
    rows = list(zip(*(p.cells for p in pieces)))
    if len(pieces) > 1 and all(p.words for p in pieces):
        # a strip of remarks alone: rows without any are left out
        rows = [row for row in rows if any(row[1:])]
    for row in rows:
        out.add_row(*map(Text, row))
    return out


def as_text(table: Table) -> str:
    """Names and rounding, for a terminal or `print`."""
    return printable(plain(grid(table)))


FORMULA = ("=", "+", "-", "@", "\t", "\r")  # how text begins that a spreadsheet would run


def as_csv(table: Table, for_spreadsheets: bool = False) -> str:
    """Every digit, for machines.

    ``for_spreadsheets``: with an apostrophe before text that would be run as a formula.
    """
    frame, labelled = table.frame, table.index is not None
    if for_spreadsheets:
        frame = frame.reset_index() if labelled else frame
        frame, labelled = frame.map(_no_formula).rename(columns=_no_formula), False
    return str(frame.to_csv(index=labelled, lineterminator="\n"))


def _no_formula(cell: Any) -> Any:
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(FORMULA) else cell


def _rows(table: Table) -> tuple[list[str], list[list[str]], list[bool]]:
    heads = [visible(table.heading(c)) for c in table.columns]
    columns = [[visible(cell) for cell in table.cells(c)] for c in table.columns]
    words = [table.is_text(c) for c in table.columns]
    if table.index is not None:
        heads, columns, words = (
            [visible(table.index_name), *heads],
            [[visible(str(v)) for v in table.index], *columns],
            [True, *words],
        )
    return heads, [list(row) for row in zip(*columns)], words


def markdown_text(text: str) -> str:
    """Text that Markdown shows as it is, on one line and in one cell."""
    return visible(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")


def as_markdown(table: Table) -> str:
    """A pipe table with title and notes."""
    heads, rows, words = _rows(table)

    def line(cells: list[str]) -> str:
        return "| " + " | ".join(map(markdown_text, cells)) + " |"

    title = [f"**{markdown_text(table.title)}**", ""] if table.title else []
    notes = ["", *(f"*{markdown_text(note)}*" for note in table.notes)] if table.notes else []
    rule = "| " + " | ".join("---" if w else "---:" for w in words) + " |"
    return "\n".join([*title, line(heads), rule, *map(line, rows), *notes]) + "\n"


_HTML = jinja2.Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(
    """<table style="border-collapse:collapse;color:{{ ink }};font-variant-numeric:tabular-nums">
{% if title %}<caption style="text-align:left;font-weight:bold">{{ title }}</caption>
{% endif %}
{% macro style(words) -%}
text-align:{{ 'left' if words else 'right' }};padding:2px 10px 2px 0
{%- endmacro %}
<thead><tr>
{% for h, w in heads %}
<th scope="col" style="{{ style(w) }}">{{ h }}</th>
{% endfor %}
</tr></thead>
<tbody>
{% for row in rows %}
<tr>{% for cell, w in row %}<td style="{{ style(w) }}">{{ cell }}</td>{% endfor %}</tr>
{% endfor %}
</tbody></table>
{% for note in notes %}
<p style="color:{{ slate }};margin:2px 0">{{ note }}</p>
{% endfor %}
"""
)


def as_html(table: Table) -> str:
    """A page fragment; everything that came from the user is escaped."""
    heads, rows, words = _rows(table)
    return _HTML.render(
        ink=INK,
        slate=SLATE,
        title=visible(table.title),
        heads=list(zip(heads, words)),
        rows=[list(zip(row, words)) for row in rows],
        notes=[visible(note) for note in table.notes],
    )


_LATEX = {
    "\\": r"\textbackslash{}",
    "&": r"\&",
    "%": r"\%",
    "$": r"\$",
    "#": r"\#",
    "_": r"\_",
    "{": r"\{",
    "}": r"\}",
}
_LATEX |= {
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "−": "$-$",
    "×": r"$\times$",
    "<": "$<$",
    ">": "$>$",
}


def latex_text(text: str) -> str:
    """Text that LaTeX shows as it is."""
    return "".join(_LATEX.get(c, c) for c in visible(text))


def as_latex(table: Table) -> str:
    """A tabular environment."""
    heads, rows, words = _rows(table)
    lines = [" & ".join(map(latex_text, row)) + r" \\" for row in (heads, *rows)]
    lines.insert(1, r"\hline")
    head = [f"% {visible(table.title)}"] if table.title else []
    align = "".join("l" if w else "r" for w in words)
    notes = [f"% {visible(note)}" for note in table.notes]
    return (
        "\n".join([*head, rf"\begin{{tabular}}{{{align}}}", *lines, r"\end{tabular}", *notes])
        + "\n"
    )


def as_json(table: Table) -> str:
    """Every digit, with the names and notes beside the figures."""
    names = [*([table.index_name] if table.index is not None else []), *table.columns]
    columns = [*([table.index] if table.index is not None else []), *table.columns.values()]
    rows = [
        {
            n: None if isinstance(v, float) and not math.isfinite(v) else v
            for n, v in zip(names, cells)
        }
        for cells in zip(*map(plain_cells, columns))
    ]
    return json.dumps(
        {"title": table.title, "notes": list(table.notes), "rows": rows},
        ensure_ascii=False,
        indent=2,
        default=str,
    )


RENDERERS: dict[str, Callable[[Table], str]] = {
    "text": as_text,
    "markdown": as_markdown,
    "html": as_html,
    "csv": as_csv,
    "json": as_json,
    "latex": as_latex,
}
