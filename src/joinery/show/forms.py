"""A Table in each form: text by Rich, pages by Jinja, and the plain file formats."""

from __future__ import annotations

import json
from typing import Any

from joinery.show.cells import cells_of, first_lines, heading, is_text
from joinery.show.marks import printable, visible
from joinery.show.people import for_people
from joinery.show.table import Table
from joinery.show.templates import template
from joinery.show.terminal import grid, plain
from joinery.support.labels import label_text


def as_text(table: Table) -> str:
    """Return names and rounding, for a terminal or `print`."""
    return printable(plain(grid(table)))


FORMULA = ("=", "+", "-", "@", "\t", "\r")  # how text begins that a spreadsheet would run


def as_csv(table: Table, for_spreadsheets: bool = False) -> str:
    """Return every digit, for machines.

    ``for_spreadsheets``: with an apostrophe before text that would be run as a formula.
    """
    frame, labelled = table.frame, table.index is not None
    if for_spreadsheets:
        if labelled:
            frame = frame.reset_index()
        frame, labelled = frame.map(_no_formula).rename(columns=_no_formula), False
    return str(frame.to_csv(index=labelled, lineterminator="\n"))


def _no_formula(cell: Any) -> Any:
    if isinstance(cell, str) and cell.startswith(FORMULA):
        return f"'{cell}"
    return cell


def shown_cells(table: Table) -> tuple[list[str], list[list[str]], list[bool]]:
    """Return headings, lines of cells as people read them, and which columns hold words."""
    table = for_people(table)
    heads = [visible(heading(table, c)) for c in table.columns]
    columns = [[visible(cell) for cell in cells_of(table, c)] for c in table.columns]
    words = [is_text(table, c) for c in table.columns]
    if table.index is not None:
        heads, columns, words = (
            [visible(table.index_name), *heads],
            [[visible(label_text(v)) for v in table.index], *columns],
            [True, *words],
        )
    return heads, [list(row) for row in zip(*columns)], words


def markdown_text(text: str) -> str:
    """Return text that Markdown shows as it is, on one line and in one cell."""
    return visible(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")


def as_markdown(table: Table) -> str:
    """Return a pipe table with title and notes."""
    heads, rows, words = shown_cells(table)

    def line(cells: list[str]) -> str:
        return "| " + " | ".join(map(markdown_text, cells)) + " |"

    if table.title:
        title = [f"**{markdown_text(table.title)}**", ""]
    else:
        title = []
    if table.notes:
        notes = ["", *(f"*{markdown_text(note)}*" for note in table.notes)]
    else:
        notes = []
    rule = "| " + " | ".join("---" if w else "---:" for w in words) + " |"
    legend = [f"- {markdown_text(words)}" for words in for_people(table).appearance.legend]
    legend += [""] * bool(legend)
    return "\n".join([*title, *legend, line(heads), rule, *map(line, rows), *notes]) + "\n"


_HTML = """\
<table style="border-collapse:collapse;color:inherit;font-variant-numeric:tabular-nums">
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
{% for line in legend %}
<p style="margin:2px 0">{{ line }}</p>
{% endfor %}
{% for note in notes %}
<p style="opacity:.8;margin:2px 0">{{ note }}</p>
{% endfor %}
"""


def as_html(table: Table, in_part: bool = False) -> str:
    """Return a page fragment; everything that came from the user is escaped.

    ``in_part``: of a long table what a notebook can show."""
    if in_part:
        table = first_lines(table)
    heads, rows, words = shown_cells(table)
    return template(_HTML).render(
        title=visible(table.title),
        heads=list(zip(heads, words)),
        rows=[list(zip(row, words)) for row in rows],
        legend=[visible(line) for line in for_people(table).appearance.legend],
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
_LATEX |= {small: f"$_{digit}$" for digit, small in enumerate("₀₁₂₃₄₅₆₇₈₉")} | {"²": "$^2$"}
_LATEX |= {"Σ": r"$\Sigma$", "φ": r"$\varphi$", "χ": r"$\chi$", "η": r"$\eta$", "μ": r"$\mu$"}


def latex_text(text: str) -> str:
    """Return text that LaTeX shows as it is."""
    return "".join(_LATEX.get(c, c) for c in visible(text))


def as_latex(table: Table) -> str:
    """Return a tabular environment."""
    heads, rows, words = shown_cells(table)
    lines = [" & ".join(map(latex_text, row)) + r" \\" for row in (heads, *rows)]
    lines.insert(1, r"\hline")
    if table.title:
        head = [f"% {visible(table.title)}"]
    else:
        head = []
    align = "".join("l" if w else "r" for w in words)
    notes = [f"% {visible(n)}" for n in (*for_people(table).appearance.legend, *table.notes)]
    return (
        "\n".join([*head, rf"\begin{{tabular}}{{{align}}}", *lines, r"\end{tabular}", *notes])
        + "\n"
    )


def as_data(table: Table) -> dict[str, Any]:
    """Return a table's title, its notes, and its rows with every digit under the columns' names."""
    columns = table.to_dict()
    rows = [dict(zip(columns, cells)) for cells in zip(*columns.values())]
    return {"title": table.title, "notes": list(table.notes), "rows": rows}


def json_text(data: Any) -> str:
    """Return data as JSON for machines."""
    return json.dumps(data, ensure_ascii=False, indent=2, default=str)


def as_json(table: Table) -> str:
    """Return every digit, with the names and notes beside the figures."""
    return json_text(as_data(table))
