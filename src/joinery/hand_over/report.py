"""The page to send: every step of the work on one fit, or on several side by side."""

from __future__ import annotations

import html
import json
import os
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from joinery.hand_over.formula.equation import STYLES, equation
from joinery.hand_over.short_page import short_page
from joinery.hand_over.try_values import Tries, script_of, try_values
from joinery.notation.context import positions_at
from joinery.show.files import write_text
from joinery.show.numbers import value
from joinery.show.pictures.layout import caption_of
from joinery.show.report.drawing import axes_of, picture
from joinery.show.report.page import (
    Block,
    Chapter,
    Page,
    Row,
    Section,
    bullets,
    code,
    framed,
    paragraph,
    pictures,
    rendered,
)
from joinery.show.report.tables import table
from joinery.study.check.table import checks
from joinery.study.compare.anova import anova
from joinery.study.compare.compare import compare
from joinery.study.draw import draw
from joinery.study.fitted import Fitted, once, rows_at_hand
from joinery.study.forecast.table import forecast
from joinery.study.held import numeric_columns
from joinery.study.read.coefficients import coefficients
from joinery.study.read.forecast_formula import parts
from joinery.study.read.overall import overall
from joinery.study.rows.digest import labels_of
from joinery.study.rows.figures import figures_of
from joinery.study.rows.table import most_remarkable, remarkable_rows, rows
from joinery.study.thinned import numbers_of, thinned
from joinery.study.understand.explain import paragraphs
from joinery.study.understand.workings import workings
from joinery.support import advice
from joinery.support.errors import CallError, JoineryWarning, TooLargeError
from joinery.support.limits import MOST_CODE, MOST_LISTED

LINE_PICTURES = 3  # predictors with a picture of their line
CHECKED = ("residuals", "spread", "quantiles", "leverage", "influence")
# columns of the rows table that are seen at once, the others when asked
ROW_FIGURES = ("verdict", "reason", "observed", "fitted", "residual", "studentized_residual",
               "leverage", "cooks_distance")  # fmt: skip
NAMES = {
    "text": "to read", "latex": "LaTeX", "python": "a Python function",
    "javascript": "a JavaScript function", "sql": "an SQL expression",
    "spreadsheet": "a spreadsheet formula",
}  # fmt: skip


def report(fits: Sequence[Fitted], path: str | os.PathLike[str]) -> Path:
    """Write the page. See ``Fit.report`` and ``joinery.report``."""
    from joinery.show.pictures.style import page_style

    with page_style():  # the page has grounds and letters of its own
        return write_text(path, rendered(_page(fits)))


def _page(fits: Sequence[Fitted]) -> Page:
    for fit in fits:
        rows_at_hand(fit)
    numbers = _numbered(fits)
    chapters = []
    if len(fits) > 1:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", JoineryWarning)  # the notes of the table say it too
            side = Section("compare", "The fits", [Block(table(compare(fits)))])
        chapters.append(Chapter("Side by side", [side]))
    names = count(1)
    tries: list[Tries] = []
    for place, fit in enumerate(fits, 1):
        prefix = f"fit{place}-" if len(fits) > 1 else ""
        builder = _Builder(fit, numbers, names, prefix, place, tries)
        if len(fits) > 1:
            heading = f"{place}. {fit.sentence}"
        else:
            heading = ""
        chapters.append(Chapter(heading, list(builder.sections())))
    first = fits[0]
    if len(fits) == 1:
        title = first.sentence
    else:
        title = f"{len(fits)} fits of {first.response.original}"
    origin = first.origin
    if origin and origin.table.name:
        source = f" from {origin.table.name}"
    else:
        source = ""
    under = f"made by Joinery{source}"
    functions = script_of(tries) if tries else ""
    return Page(title, under, chapters, _row_values(fits, numbers), functions)


class _Listed(NamedTuple):
    """The rows of a fit that are listed and linked: labels, and places among those used."""

    labels: list[str]
    places: np.ndarray


@once
def _listed(fit: Fitted) -> _Listed:
    """Return all rows, of many those that are most remarkable."""
    used = rows_at_hand(fit)[1].used
    if used <= MOST_LISTED:
        places = np.arange(used)
    else:
        places = most_remarkable(fit)
    return _Listed([str(label) for label in labels_of(fit, places)], places)


def _numbered(fits: Sequence[Fitted]) -> dict[str, int]:
    """Return a number for each row that is listed, by its label, over all fits."""
    labels = dict.fromkeys(label for fit in fits for label in _listed(fit).labels)
    return {label: number for number, label in enumerate(labels)}


def _row_values(fits: Sequence[Fitted], numbers: dict[str, int]) -> list[Row]:
    """Return what is shown of each row that is pointed at: its columns, fitted value and
    residual."""
    words = [""] * len(numbers)
    for fit in reversed(fits):
        (table, used), (labels, places) = rows_at_hand(fit), _listed(fit)
        figures, positions = figures_of(fit, places), positions_at(used.rows, places)
        columns = [(fit.words(n), table.column(n).texts(positions)) for n in fit.design.named]
        for at, label in enumerate(labels):
            parts = [f"{name} {cells[at]}" for name, cells in columns]
            parts += [f"fitted {value(figures.fitted[at])}", f"residual {value(figures.drawn[at])}"]
            words[numbers[label]] = " · ".join(parts)
    return [Row(label, words[number]) for label, number in numbers.items()]


def _class(verdict: str) -> str:
    """Return the class of a line in the page's style sheet."""
    return verdict.replace(" ", "-")


@dataclass(frozen=True)
class _Builder:
    """The sections about one fit."""

    fit: Fitted
    numbers: dict[str, int]
    names: Iterator[int]
    prefix: str
    place: int  # of the fit among those of the page
    tries: list[Tries]  # of the fits so far

    def sections(self) -> Iterator[Section]:
        fit = self.fit
        page = short_page(fit)
        cautions = "".join(
            f'<li class="{_class(c.verdict)}"><b>{c.verdict}</b> {html.escape(c.words)}</li>'
            for c in page.cautions
        )
        under = [paragraph(words, "quiet") for words in (page.under, page.settled) if words]
        before = [*under, f"<ul class=cautions>{cautions}</ul>"]
        yield self._section("before", "Before you read on", before)
        yield self._section("short", "In short", [paragraph(" ".join(page.in_short))])
        yield self._section("read", "Read", [
            table(coefficients(fit)), pictures([self._picture("coefficients"),
            *(self._picture("line", against=name) for name in numeric_columns(fit)[:LINE_PICTURES]),
        ])])  # fmt: skip
        yield self._section("try", "Try values", [self._try_values()])
        yield Section(f"{self.prefix}equation", "The equation", list(self._equations()))
        yield self._section("tests", "Test", [table(overall(fit)), table(anova(fit))])
        looked_at = CHECKED + ("sequence",) * (fit.options.order is not None)
        drawn = pictures([*map(self._picture, looked_at)])
        yield self._section("checks", "Check", [table(checks(fit)), drawn])
        yield self._section("rows", "The rows", [self._rows()])
        if self.prefix:
            h = "h4"
        else:
            h = "h3"
        read = [f"<{h}>{html.escape(t)}</{h}>{bullets(lines)}" for t, lines in paragraphs(fit)]
        yield self._section("understand", "Understand", read)
        if fit.origin is not None and len(fit.origin.used_rows.awaiting):
            yield self._section(
                "forecast",
                "Forecast",
                [table(forecast(fit)), pictures([self._picture("forecast")])],
            )
        yield self._section("workings", "The arithmetic", [], self._workings())

    def _section(self, anchor: str, heading: str, parts: Sequence[str], *more: Block) -> Section:
        return Section(f"{self.prefix}{anchor}", heading, [*(Block(p) for p in parts), *more])

    def _picture(self, name: str, **options: Any) -> str:
        """Return a picture, or why there is none."""
        try:
            figure = draw(
                self.fit,
                name,
                path=None,
                ax=None,
                figsize=None,
                label_rows="flagged",
                words={},
                **options,
            )
        except (CallError, TooLargeError) as reason:
            return paragraph(f"no picture of {name}: {reason}", "note")
        result = self._numbers(thinned(self.fit, name, "flagged")[0])
        drawn = picture(figure, f"{name}{next(self.names)}", result)
        placed = ""
        if name == "line":
            about = axes_of(figure) | {"fit": self.place, "against": options["against"]}
            placed = f' data-axes="{html.escape(json.dumps(about), quote=True)}"'
        return framed(drawn, caption_of(figure), placed)

    def _try_values(self) -> str:
        """Return the form, or why there is none."""
        try:
            made = try_values(self.fit, self.place)
        except CallError as reason:
            return paragraph(f"no form to try values in: {reason}", "note")
        self.tries.append(made)
        return made.fragment + paragraph(
            "a form to try values in needs scripts, which this reader has switched off", "no-script"
        )

    def _numbers(self, drawn: Fitted) -> list[int]:
        """Return the page's number of each row of a picture; −1 for one that the page does not
        link."""
        labels, places = _listed(self.fit)
        shown = numbers_of(drawn).astype(int) - 1
        result, indices = np.isin(shown, places), np.full(len(shown), -1)
        numbers = np.array([self.numbers[label] for label in labels], dtype=int)
        indices[result] = numbers[np.searchsorted(places, shown[result])]
        return indices.tolist()

    def _equations(self) -> Iterator[Block]:
        for style in STYLES:
            identity = f"{self.prefix}equation-{style}"
            try:
                block = code(equation(self.fit, style), NAMES[style], identity)
            except CallError as reason:
                block = paragraph(f"{NAMES[style]}: {reason}", "note")
            yield Block(block, "" if style == "text" else NAMES[style])
        ends = []
        for part in parts(self.fit)[1:]:
            try:
                text = equation(self.fit, "sql", part=part)
            except CallError as reason:
                ends = [paragraph(str(reason), "note")]
                break
            if len(text) > MOST_CODE:
                wanted = advice.ask("equation", style="sql", part=part)
                words = f"each is some {len(text):,} characters long; {wanted} writes it"
                ends = [paragraph(words, "note")]
                break
            ends.append(code(text, part, f"{self.prefix}{part}"))
        yield Block("".join(ends), "the ends of its intervals, in SQL")

    def _rows(self) -> str:
        labels, places = _listed(self.fit)
        every = len(places) == rows_at_hand(self.fit)[1].used
        if every:
            result = rows(self.fit)
        else:
            result = remarkable_rows(self.fit)
        numbers: list[int | None] = [self.numbers[label] for label in labels]
        lines = numbers + [None] * (len(result) - len(numbers))
        return table(result, lines, first=ROW_FIGURES, name=f"{self.prefix}rows")

    def _workings(self) -> Block:
        try:
            return Block(workings(self.fit).render("html"), "the workings, step by step")
        except (CallError, TooLargeError) as reason:
            return Block(paragraph(str(reason), "note"))
