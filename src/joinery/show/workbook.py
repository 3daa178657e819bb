"""A workbook: a sheet a table, with headings, formats and widths, and formulas where they live."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from joinery.show.cells import heading
from joinery.show.files import write_whole
from joinery.show.numbers import plain_cells
from joinery.show.sheet_cells import cell_of_sheet
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from joinery.show.table import Table

WIDEST, FIRST_LINE = 60, 3  # signs across a column; the line of a sheet's first row of figures
FORMULA = "formula"  # in place of a number format: the sheet computes the column
FORMATS = {"p": "0.0000", "share": "0.0%", "whole": "#,##0", "degrees": "0"}


@dataclass(frozen=True)
class Sheet:
    """A table on a sheet; ``formulas`` are columns computed by the sheet, a text for each line."""

    name: str
    table: Table
    formulas: Mapping[str, Sequence[str]] = field(default_factory=dict)


def write_book(path: str | os.PathLike[str], sheets: Sequence[Sheet]) -> Path:
    """Write the workbook. Raises CallError where no spreadsheet writer is installed."""
    try:
        import openpyxl
    except ImportError:
        raise CallError(
            "writing a workbook needs openpyxl; install the checkout with [spreadsheet]"
        ) from None
    book = openpyxl.Workbook()
    book.remove(book.active)
    for sheet in sheets:
        _fill(book.create_sheet(sheet.name), sheet)
    return write_whole(path, book.save)


def _fill(page: Any, sheet: Sheet) -> None:
    from openpyxl.styles import Alignment, Font
    from openpyxl.utils import get_column_letter

    table = sheet.table
    _put(page.cell(1, 1), table.title)
    page.cell(1, 1).font = Font(bold=True, size=13)
    for place, (name, cells, shown) in enumerate(_columns(sheet), 1):
        head = page.cell(FIRST_LINE - 1, place)
        _put(head, name)
        head.font = Font(bold=True)
        head.alignment = Alignment(wrap_text=True, vertical="top")
        widest = len(name)
        for line, value in enumerate(cells, FIRST_LINE):
            cell = page.cell(line, place)
            if shown == FORMULA:
                cell.value = value or None
                widest = max(widest, 12)
                cell.number_format = "0.000"
                continue
            _put(cell, value)
            cell.number_format = shown or cell.number_format
            widest = max(
                widest, min(len(str(value)), 12) if isinstance(value, float) else len(str(value))
            )
        page.column_dimensions[get_column_letter(place)].width = min(widest + 2, WIDEST)
    page.freeze_panes = page.cell(FIRST_LINE, 2)
    lines = FIRST_LINE + max(len(table), *(len(v) for v in sheet.formulas.values()), 0)
    for note in table.notes:
        _put(page.cell(lines + 1, 1), note)
        page.cell(lines + 1, 1).font = Font(italic=True)
        lines += 1


def _columns(sheet: Sheet) -> Iterator[tuple[str, Sequence[Any], str | None]]:
    """Yield each column's heading, cells and number format, the formulas last."""
    table = sheet.table
    if table.index is not None:
        labels = list(table.index)
        yield table.index_name, labels, _format(labels)
    for name, values in table.columns.items():
        cells = plain_cells(values)
        yield (
            heading(table, name),
            cells,
            FORMATS.get(table.appearance.kinds.get(name, "")) or _format(cells),
        )
    for words, formulas in sheet.formulas.items():
        yield words, formulas, FORMULA


def _format(cells: Sequence[Any]) -> str | None:
    """Return digits enough for the largest figure of a column to be read."""
    sizes = [abs(v) for v in cells if isinstance(v, float) and math.isfinite(v) and v]
    if not sizes:
        return None
    digits = 3 - math.floor(math.log10(max(sizes)))
    return "#,##0" if digits <= 0 else "0." + "0" * min(digits, 10)


def _put(cell: Any, value: Any) -> None:
    """Write a value as it is: text that looks like a formula stays text, nothing stays empty."""
    if value is None or (isinstance(value, float) and not math.isfinite(value)):
        return
    cell.value = cell_of_sheet(value)
    if isinstance(cell.value, str):
        cell.data_type = "s"
