"""The short page of a fit, made once and shown as text or as HTML."""

from __future__ import annotations

import math
import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace

from rich.console import Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from joinery.show.appearance import Appearance
from joinery.show.forms import latex_text, markdown_text
from joinery.show.marks import printable, visible
from joinery.show.numbers import figure, level_words
from joinery.show.palette import AMBER
from joinery.show.table import Table
from joinery.show.templates import template
from joinery.show.terminal import grid as table_grid
from joinery.show.terminal import plain, width

NARROW_PAGE = 50  # columns below which remarks stand one under the other
BAR_CELLS = 17  # signs of an interval's bar: an odd number, so that zero can stand in the middle
BAR_NOTE = "intervals in standard units: sd of the response per sd of the term"
# in the terminal text keeps the terminal's own colours, whatever its ground; red is the one that is
# always there
VERDICT_STYLE = defaultdict(str, {"serious": "bold red", "caution": "bold"})


@dataclass(frozen=True)
class Caution:
    """One thing to know before reading on: verdict, words, and the call that shows more."""

    verdict: str
    words: str
    call: str


@dataclass(frozen=True)
class Effect:
    """One coefficient as people read it.

    ``bar`` is its interval in standard units: lower, estimate, upper.
    """

    term: str
    estimate: str
    interval: str
    standard_error: str
    p: str
    bar: tuple[float, float, float]


@dataclass(frozen=True)
class Page:
    """The short page, in the order in which it is read."""

    sentence: str
    under: str
    settled: str  # reference levels, and what counts as 1
    cautions: Sequence[Caution]
    in_short: Sequence[str]
    effects: Sequence[Effect]
    level: float
    equation: str
    more: str = ""  # where the coefficients are that are not shown
    bar_note: str = BAR_NOTE


def reach(effects: Sequence[Effect]) -> float:
    """Return the common scale of the bars: how far from zero any interval reaches, in standard
    units."""
    ends = [abs(v) for e in effects for v in e.bar if all(map(math.isfinite, e.bar))]
    return max(ends, default=0.0)


def bar(ends: tuple[float, float, float], scale: float, cells: int = BAR_CELLS) -> str:
    """Return an interval as text on the common scale, zero marked."""
    if not scale or not all(map(math.isfinite, ends)):
        return ""
    middle = cells // 2
    low, at, high = (middle + round(v / scale * middle) for v in ends)
    line = [" "] * cells
    line[middle] = "┊"
    for place in range(low, high + 1):
        line[place] = "─"
    line[low], line[high] = "├", "┤"
    line[at] = "●"
    if low < middle < high and at != middle:
        line[middle] = "┼"
    return "".join(line)


def _visible(page: Page) -> Page:
    """Return the page with its control characters made visible."""
    return replace(
        page,
        sentence=visible(page.sentence),
        under=visible(page.under),
        settled=visible(page.settled),
        cautions=[replace(c, words=visible(c.words), call=visible(c.call)) for c in page.cautions],
        in_short=[visible(words) for words in page.in_short],
        effects=[replace(e, term=visible(e.term)) for e in page.effects],
        equation=visible(page.equation),
    )


def renderable(page: Page, columns: int | None = None) -> RenderableType:
    """Return the page for a terminal of so many columns."""
    page, room = _visible(page), columns or width()
    parts: list[RenderableType] = [Text(page.sentence, style="bold"), Text(page.under)]
    parts += [Text(page.settled)] * bool(page.settled) + [Text("")]
    if page.cautions:
        cautions = _cautions(page, room)
        parts += [Text("Before you read on", style="bold"), Padding(cautions, (0, 0, 1, 2))]
    parts.append(Text("In short", style="bold"))
    parts.append(Padding(Text(" ".join(page.in_short)), (0, 0, 1, 2)))
    parts += [_effects(page, room), *[Text(f"  {page.more}")] * bool(page.more), Text("")]
    parts.append(Text(wrapped_equation(page.equation, room)))
    return Group(*parts)


def _cautions(page: Page, room: int) -> RenderableType:
    if room < NARROW_PAGE:
        return Group(
            *(
                Text.assemble((c.verdict, VERDICT_STYLE[c.verdict]), f" {c.words} ({c.call})")
                for c in page.cautions
            )
        )
    grid = Grid(box=None, show_header=False, padding=(0, 2, 0, 0), pad_edge=False)
    grid.add_column(no_wrap=True)
    grid.add_column(ratio=1)
    grid.add_column(no_wrap=True)
    for c in page.cautions:
        grid.add_row(Text(c.verdict, style=VERDICT_STYLE[c.verdict]), Text(c.words), Text(c.call))
    return grid


def _effects(page: Page, room: int) -> RenderableType:
    scale = reach(page.effects)
    interval = f"{level_words(page.level)} interval"
    heads = {
        "term": "Coefficients",
        "estimate": "estimate",
        "interval": interval,
        "standard_error": "standard",
        "p": "p",
    }
    taken = sum(
        max([len(head), *(len(getattr(e, name)) for e in page.effects)]) + 2
        for name, head in heads.items()
    )
    if taken > room:
        return table_grid(_as_table(page, interval), room)
    beside = bool(scale) and room - taken - 2 >= BAR_CELLS
    grid = Grid(box=None, padding=(0, 2, 0, 0), pad_edge=False)
    grid.add_column(Text("Coefficients", style="bold"), overflow="fold")
    grid.add_column("estimate", justify="right", no_wrap=True)
    grid.add_column(interval, no_wrap=True)
    if beside:
        grid.add_column(_scale_line(scale, BAR_CELLS), no_wrap=True, min_width=BAR_CELLS)
    grid.add_column("standard\nerror", justify="right", no_wrap=True)
    grid.add_column("p", no_wrap=True)
    for e in page.effects:
        if beside:
            bars = [Text(bar(e.bar, scale, BAR_CELLS))]
        else:
            bars = []
        grid.add_row(
            Padding(Text(e.term), (0, 0, 0, 2)),
            e.estimate,
            Text(e.interval),
            *bars,
            e.standard_error,
            e.p,
        )
    if not scale:
        return grid
    note = Padding(Text(f"bars: {page.bar_note}"), (0, 0, 0, 2))
    if beside:
        return Group(grid, note)
    return Group(grid, Text(""), _bars_below(page, scale, room))


def _as_table(page: Page, interval: str) -> Table:
    """Return the coefficients as a Table, for terminals that hold a few columns at a time."""
    names = ("term", "estimate", "interval", "standard_error", "p")
    return Table(
        {name: [getattr(e, name) for e in page.effects] for name in names},
        title="Coefficients",
        appearance=Appearance(
            kinds=dict.fromkeys(names[1:], "cell"), headings={"interval": interval}
        ),
    )


def _bars_below(page: Page, scale: float, room: int) -> RenderableType:
    """Return the bars as a strip of their own, for terminals too narrow to hold both."""
    drawn = [e for e in page.effects if all(map(math.isfinite, e.bar))]
    cells = min(41, room - max(len(e.term) for e in drawn) - 6)
    cells -= 1 - cells % 2  # odd, so that zero stands in the middle
    if cells < BAR_CELLS:
        return Text("")
    strip = Grid(box=None, padding=(0, 2, 0, 0), pad_edge=False)
    strip.add_column("  in standard units", no_wrap=True)
    strip.add_column(_scale_line(scale, cells), no_wrap=True)
    for e in drawn:
        strip.add_row(Text(f"  {e.term}"), Text(bar(e.bar, scale, cells)))
    return Group(strip, Padding(Text(page.bar_note), (0, 0, 0, 2)))


def _scale_line(scale: float, cells: int) -> str:
    """Return the ends and the zero of the common scale, each over its cell."""
    end = figure(scale, 2)
    half = cells // 2
    return f"−{end}".ljust(half) + "0" + end.rjust(half)


def wrapped_equation(text: str, room: int) -> str:
    """Return an equation broken before its signs only, so that no term is torn where it has
    room."""
    lines, line = [], ""
    for piece in re.split(r"(?= [+−] )", text):
        if line and len(line) + len(piece) > room:
            lines.append(line)
            line = "   " + piece
        else:
            line += piece
    return "\n".join([*lines, line])


def as_text(page: Page) -> str:
    """Return the page without colour."""
    return printable(plain(renderable(page)))


def as_markdown(page: Page) -> str:
    """Return the page as Markdown."""
    lines = [f"**{markdown_text(page.sentence)}**", "", markdown_text(page.under), ""]
    lines += [markdown_text(page.settled), ""] * bool(page.settled)
    if page.cautions:
        lines += ["**Before you read on**", ""]
        lines += [
            f"- **{c.verdict}** {markdown_text(c.words)}" + (f" (`{c.call}`)" if c.call else "")
            for c in page.cautions
        ]
        lines.append("")
    lines += ["**In short** " + markdown_text(" ".join(page.in_short)), ""]
    lines += [
        f"| Coefficient | estimate | {level_words(page.level)} interval | standard error | p |"
    ]
    lines += ["| --- | ---: | --- | ---: | --- |"]
    for e in page.effects:
        term = markdown_text(e.term)
        lines.append(f"| {term} | {e.estimate} | {e.interval} | {e.standard_error} | {e.p} |")
    lines += ["", markdown_text(page.more)] * bool(page.more)
    return "\n".join([*lines, "", f"`{visible(page.equation)}`"]) + "\n"


def as_latex(page: Page) -> str:
    """Return the page as LaTeX paragraphs and a tabular environment."""
    t = latex_text
    lines = [rf"\textbf{{{t(page.sentence)}}}", "", t(page.under), ""]
    lines += [t(page.settled), ""] * bool(page.settled)
    if page.cautions:
        lines += [r"\textbf{Before you read on}", r"\begin{itemize}"]
        lines += [rf"\item \textbf{{{c.verdict}}} {t(c.words)}" for c in page.cautions]
        lines += [r"\end{itemize}"]
    lines += [r"\textbf{In short} " + t(" ".join(page.in_short)), ""]
    heads = ["Coefficient", "estimate", f"{level_words(page.level)} interval"]
    rows = [[*heads, "standard error", "p"]]
    rows += [[e.term, e.estimate, e.interval, e.standard_error, e.p] for e in page.effects]
    cells = [" & ".join(map(t, row)) + r" \\" for row in rows]
    lines += [r"\begin{tabular}{lrlrl}", cells[0], r"\hline", *cells[1:], r"\end{tabular}", ""]
    lines += [t(page.more), ""] * bool(page.more)
    return "\n".join([*lines, t(page.equation)]) + "\n"


_HTML = """<div style="color:inherit;max-width:60em;font-variant-numeric:tabular-nums">
<p><strong>{{ page.sentence }}</strong><br/>
<span style="opacity:.8">{{ page.under }}
{%- if page.settled %}<br/>{{ page.settled }}{% endif %}</span></p>
{% if page.cautions %}
<p><strong>Before you read on</strong></p>
<ul>
{% for c in page.cautions %}
<li><span style="{{ verdict_style[c.verdict] }}">{{ c.verdict }}</span>
 {{ c.words }}{% if c.call %} <code>{{ c.call }}</code>{% endif %}</li>
{% endfor %}
</ul>
{% endif %}
<p><strong>In short</strong><br/>{{ page.in_short | join(' ') }}</p>
<table style="border-collapse:collapse">
<thead><tr>
{%- for h in heads %}<th scope="col" style="text-align:left;{{ left }}">{{ h }}</th>{% endfor -%}
</tr></thead>
<tbody>
{% for e, b in rows %}
<tr><td style="{{ left }}">{{ e.term }}</td><td style="{{ right }}">{{ e.estimate }}</td>
<td style="{{ left }}">{{ e.interval }}</td>
<td>{% if b -%}
<svg width="160" height="14" role="img" aria-label="{{ e.term }}: interval in standard units">
<line x1="80" x2="80" y1="0" y2="14" stroke="currentColor" stroke-dasharray="2 2"/>
<line x1="{{ b[0] }}" x2="{{ b[2] }}" y1="7" y2="7" stroke="{{ amber }}" stroke-width="2"/>
<circle cx="{{ b[1] }}" cy="7" r="3.5" fill="{{ amber }}"/></svg>{% endif %}</td>
<td style="{{ right }}">{{ e.standard_error }}</td><td>{{ e.p }}</td></tr>
{% endfor %}
</tbody></table>
{% if page.more %}<p>{{ page.more }}</p>{% endif %}
<p><code>{{ page.equation }}</code></p>
</div>
"""


def as_html(page: Page) -> str:
    """Return the page as an HTML fragment, everything that came from the user escaped."""
    page = _visible(page)
    scale = reach(page.effects)
    rows = [
        (
            e,
            [round(80 + 76 * v / scale, 1) for v in e.bar]
            if scale and all(map(math.isfinite, e.bar))
            else None,
        )
        for e in page.effects
    ]
    heads = [
        "Coefficient",
        "estimate",
        f"{level_words(page.level)} interval",
        "standard units",
        "standard error",
        "p",
    ]
    return template(_HTML).render(
        page=page,
        rows=rows,
        heads=heads,
        amber=AMBER,
        left="padding:2px 12px 2px 0",
        right="text-align:right;padding:2px 12px 2px 0",
        verdict_style={
            "serious": "font-weight:bold;text-decoration:underline",
            "caution": "font-weight:bold",
            "slight": "",
            "allowed for": "",
            "not judged": "",
            "no sign": "",
        },
    )


RENDERERS = {"text": as_text, "markdown": as_markdown, "html": as_html, "latex": as_latex}
