"""The page of a set of fits: figures, coefficients, the test, pictures."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from joinery.show.files import write_text
from joinery.show.pictures.layout import caption_of
from joinery.show.report.drawing import picture
from joinery.show.report.page import (
    Block,
    Chapter,
    Page,
    Section,
    bullets,
    framed,
    paragraph,
    rendered,
)
from joinery.show.report.tables import table
from joinery.study.each import pictures, tables
from joinery.study.each.differ import test
from joinery.study.each.groups import Groups
from joinery.study.fitted import rows_at_hand
from joinery.study.held import numeric_columns


def report_each(groups: Groups, path: str | os.PathLike[str]) -> Path:
    """Write the page. See ``FitSet.report``."""
    from joinery.show.pictures.style import page_style

    rows_at_hand(groups.common)
    with page_style():
        title = f"{groups.common.sentence}, for each {tables.by_words(groups)}"
        page = Page(title, "made by Joinery", [Chapter("", list(_sections(groups)))], [])
        return write_text(path, rendered(page))


def _sections(groups: Groups) -> Iterator[Section]:
    yield _section("short", "In short", paragraph_of(groups))
    drawn = [_picture(groups, "coefficients", 1)]
    yield _section("read", "The coefficients", *drawn, table(tables.coefficients(groups)))
    if numeric_columns(groups.common):
        yield _section("lines", "The lines", _picture(groups, "lines", 2))
    yield _section("test", "Do the groups differ?", table(test(groups)))
    yield _section("figures", "The fits", table(tables.figures(groups)))


def paragraph_of(groups: Groups) -> str:
    """Return what the short page says under its table, as a list."""
    notes = tables.page(groups).notes
    return bullets(list(notes)) if len(notes) > 1 else paragraph(notes[0])


def _section(anchor: str, heading: str, *parts: str) -> Section:
    return Section(anchor, heading, [Block(part) for part in parts])


def _picture(groups: Groups, name: str, place: int) -> str:
    figure = pictures.draw(groups, name, against=None, path=None, figsize=None)
    return framed(picture(figure, f"each{place}", []), caption_of(figure))
