"""The page to send: every step of the work on one fit, or on several side by side."""

from __future__ import annotations

import html
import os
import warnings
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import count
from pathlib import Path

import numpy as np

from joinery.errors import CallError, JoineryWarning
from joinery.show.files import write_text
from joinery.show.numbers import value
from joinery.show.report.drawing import picture
from joinery.show.report.page import (
    Block,
    Chapter,
    Page,
    Row,
    Section,
    bullets,
    code,
    paragraph,
    rendered,
)
from joinery.show.report.tables import table
from joinery.study.check.table import checks
from joinery.study.compare.anova import anova
from joinery.study.compare.compare import compare
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast.table import forecast
from joinery.study.pictures.draw import draw
from joinery.study.read.coefficients import coefficients
from joinery.study.read.equation import STYLES, equation
from joinery.study.read.forecast_formula import PARTS
from joinery.study.read.overall import overall
from joinery.study.rows.figures import per_row
from joinery.study.rows.table import remarks, rows
from joinery.study.short_page import short_page
from joinery.study.understand.explain import paragraphs
from joinery.study.understand.workings import workings

MOST_ROWS = 5000  # rows that are listed and linked; beyond, those that are remarked on
MOST_LINES = 3  # predictors with a picture of their line
CHECKED = ("residuals", "spread", "quantiles", "leverage", "influence")
NAMES = {
    "text": "to read", "latex": "LaTeX", "python": "a Python function", "sql": "an SQL expression",
    "spreadsheet": "a spreadsheet formula",
}  # fmt: skip


def report(fits: Sequence[Fitted], path: str | os.PathLike[str]) -> Path:
    """Write the page. See ``Fit.report`` and ``joinery.report``."""
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
    for place, fit in enumerate(fits, 1):
        builder = _Builder(fit, numbers, names, f"fit{place}-" if len(fits) > 1 else "")
        heading = f"{place}. {fit.sentence}" if len(fits) > 1 else ""
        chapters.append(Chapter(heading, list(builder.sections())))
    first = fits[0]
    title = first.sentence if len(fits) == 1 else f"{len(fits)} fits of {first.response.original}"
    origin = first.origin
    source = f" from {origin.table.name}" if origin and origin.table.name else ""
    under = f"made by Joinery{source}"
    return Page(title, under, chapters, _row_values(fits, numbers))


def _labels(fit: Fitted) -> list[str]:
    origin, used = rows_at_hand(fit)
    return [str(v) for v in origin.index[used.rows]]


def _numbered(fits: Sequence[Fitted]) -> dict[str, int]:
    """A number for each row by its label, over all fits; of many rows, the remarkable ones."""
    out: dict[str, int] = {}
    for fit in fits:
        labels = _labels(fit)
        if len(labels) > MOST_ROWS:
            labels = [labels[place] for place in remarks(fit).places]
        for label in labels:
            out.setdefault(label, len(out))
    return out


def _row_values(fits: Sequence[Fitted], numbers: dict[str, int]) -> list[Row]:
    """What is shown of each row that is pointed at: its columns, fitted value and residual."""
    words = [""] * len(numbers)
    for fit in reversed(fits):
        origin, used = rows_at_hand(fit)
        figures = per_row(fit)
        labels = _labels(fit)
        chosen = [i for i, label in enumerate(labels) if label in numbers]
        positions = np.arange(len(origin))[used.rows][chosen]
        columns = [(fit.words(n), origin.column(n).texts(positions)) for n in fit.design.named]
        for at, i in enumerate(chosen):
            parts = [f"{name} {cells[at]}" for name, cells in columns]
            parts += [f"fitted {value(figures.fitted[i])}", f"residual {value(figures.drawn[i])}"]
            words[numbers[labels[i]]] = " · ".join(parts)
    return [Row(label, words[number]) for label, number in numbers.items()]


@dataclass(frozen=True)
class _Builder:
    """The sections about one fit."""

    fit: Fitted
    numbers: dict[str, int]
    names: Iterator[int]
    prefix: str

    def sections(self) -> Iterator[Section]:
        fit = self.fit
        page = short_page(fit)
        cautions = "".join(
            f'<li class="{c.verdict}"><b>{c.verdict}</b> {html.escape(c.words)}</li>'
            for c in page.cautions
        )
        under = [paragraph(words, "quiet") for words in (page.under, page.settled) if words]
        before = [*under, f"<ul class=cautions>{cautions}</ul>"]
        yield self._section("before", "Before you read on", before)
        yield self._section("short", "In short", [paragraph(" ".join(page.in_short))])
        yield self._section("read", "Read", [
            table(coefficients(fit)), self._picture("coefficients"),
            *(self._picture("line", against=name) for name in list(fit.design.seen)[:MOST_LINES]),
        ])  # fmt: skip
        yield Section(f"{self.prefix}equation", "The equation", list(self._equations()))
        yield self._section("tests", "Test", [table(overall(fit)), table(anova(fit))])
        looked_at = CHECKED + ("sequence",) * (fit.options.order is not None)
        yield self._section("checks", "Check", [table(checks(fit)), *map(self._picture, looked_at)])
        yield self._section("rows", "The rows", [self._rows()])
        h = "h4" if self.prefix else "h3"
        read = [f"<{h}>{html.escape(t)}</{h}>{bullets(lines)}" for t, lines in paragraphs(fit)]
        yield self._section("understand", "Understand", read)
        if fit.origin is not None and len(fit.origin.used_rows.awaiting):
            yield self._section(
                "forecast", "Forecast", [table(forecast(fit)), self._picture("forecast")]
            )
        yield self._section("workings", "The arithmetic", [], self._workings())

    def _section(self, anchor: str, heading: str, parts: Sequence[str], *more: Block) -> Section:
        return Section(f"{self.prefix}{anchor}", heading, [*(Block(p) for p in parts), *more])

    def _picture(self, name: str, **options: str) -> str:
        """A picture, or why there is none."""
        try:
            figure = draw(
                self.fit, name, path=None, ax=None, label_rows="flagged", words={}, **options
            )
        except CallError as reason:
            return paragraph(f"no picture of {name}: {reason}", "note")
        return f"<figure>{picture(figure, f'{name}{next(self.names)}', self._own)}</figure>"

    @cached_property
    def _own(self) -> list[int]:
        """The page's number of each fitted row; −1 for one that it does not link."""
        return [self.numbers.get(label, -1) for label in _labels(self.fit)]

    def _equations(self) -> Iterator[Block]:
        for style in STYLES:
            identity = f"{self.prefix}equation-{style}"
            try:
                block = code(equation(self.fit, style), NAMES[style], identity)
            except CallError as reason:
                block = paragraph(f"{NAMES[style]}: {reason}", "note")
            yield Block(block, "" if style == "text" else NAMES[style])
        ends = []
        for part in PARTS[1:]:
            try:
                ends.append(
                    code(equation(self.fit, "sql", part=part), part, f"{self.prefix}{part}")
                )
            except CallError as reason:
                ends = [paragraph(str(reason), "note")]
                break
        yield Block("".join(ends), "the ends of its intervals, in SQL")

    def _rows(self) -> str:
        found = rows(self.fit)
        index = [] if found.index is None else [str(v) for v in found.index]
        used = len(self._own)
        chosen = list(range(len(index)))
        if len(index) > MOST_ROWS:
            chosen = np.sort(remarks(self.fit).places).tolist()
        numbers = [self.numbers.get(index[i]) if i < used else None for i in chosen]
        return table(found.lines(chosen), numbers)

    def _workings(self) -> Block:
        try:
            return Block(workings(self.fit).render("html"), "the workings, step by step")
        except CallError as reason:
            return Block(paragraph(str(reason), "note"))
