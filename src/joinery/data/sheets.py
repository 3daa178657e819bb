"""Spreadsheets: which sheet the table is on, where on it, and what its cells do not show."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd

from joinery.data.columns import NOTES
from joinery.data.contents import Content
from joinery.data.delimited import Settled, taken_as_missing, without_marks
from joinery.data.layout import LOOKED_AT, layout
from joinery.data.not_rows import headers_left_off, is_header, units_under
from joinery.support import advice
from joinery.support.errors import CallError, EmptyTableError, listed

SHEETS = (".xlsx", ".ods")


def read_sheet(
    content: Content, sheet: str | None, given: Settled
) -> tuple[pd.DataFrame, list[str]]:
    """Return a sheet of a spreadsheet, wherever on it the table stands, and notes."""
    file = content.name
    sheets = pd.read_excel(
        content.opened(),
        sheet_name=None,
        header=None,
        dtype=object,
        keep_default_na=False,
        na_values=[""],
    )
    if sheet is not None and sheet not in sheets:
        raise CallError(
            f"no sheet {sheet!r} in {file}; its sheets are {listed(sheets)}", argument="table"
        )
    name = sheet or _likely(sheets)
    notes = []
    if len(sheets) > 1 and sheet is None:
        others = listed([repr(n) for n in sheets if n != name], 6)
        notes.append(f"the sheet {name!r}; the others are {others} ({advice.option('table')})")
    cells = sheets[name].dropna(axis="columns", how="all").dropna(axis="index", how="all")
    if not len(cells):
        raise EmptyTableError(f"{file}: the sheet {name!r} is empty")
    frame, more = _cut_out(cells, given, f"{file}: the sheet {name!r}")
    if content.ending == ".xlsx":
        more += _hidden(content, name)
    return frame, notes + more


def _likely(sheets: dict[Any, pd.DataFrame]) -> Any:
    """Return the first sheet with more than one row; else the first with any cells."""
    used = [n for n, cells in sheets.items() if len(cells)]
    tables = [n for n in used if sheets[n].notna().any(axis=1).sum() > 1]
    return next(iter(tables or used or sheets))


def _cut_out(cells: pd.DataFrame, given: Settled, where: str) -> tuple[pd.DataFrame, list[str]]:
    def texts(part: pd.DataFrame) -> list[list[str]]:
        return [["" if pd.isna(c) else str(c) for c in row] for row in part.itertuples(index=False)]

    head, tail = texts(cells.head(LOOKED_AT)), texts(cells.tail(LOOKED_AT))
    arrangement = layout(head, tail, complete=len(cells) <= LOOKED_AT, ragged=False)
    top = arrangement.header
    if given.header is not None:
        top = int(np.searchsorted(cells.index.to_numpy(), given.header - 1))
        if not 0 <= top < len(cells):
            words = f"{advice.option('header', given.header)} is not a line of {where}"
            raise CallError(words, argument="header")
    if given.footer is None:
        off = arrangement.off
    else:
        off = given.footer
    rows = len(cells) - top - 1
    if not 0 <= off < max(rows, 1):
        raise CallError(
            f"{advice.option('footer', off)} leaves no rows; lines below the header: {rows}",
            argument="footer",
        )
    names = ["" if pd.isna(c) else str(c).strip() for c in cells.iloc[top]]
    frame = cells.iloc[top + 1 : len(cells) - off].set_axis(
        [n or f"Unnamed: {i}" for i, n in enumerate(names)], axis="columns"
    )
    frame, remarks = _rows_alone(frame, names, head[top + 1 :], given)
    taken = taken_as_missing({name: frame[name] for name in frame.columns}, given)
    frame = without_marks(frame, given.missing)
    frame = frame.reset_index(drop=True).infer_objects()
    frame.attrs[NOTES] = tuple(taken)
    return frame, given.notes(arrangement) + remarks


def _rows_alone(
    frame: pd.DataFrame, names: list[str], first: list[list[str]], given: Settled
) -> tuple[pd.DataFrame, list[str]]:
    """Return a table without the header once more and units under it, with a remark on each.

    ``first`` are its first rows as texts."""
    if not is_header(names):
        return frame, []
    notes = []
    suspects = np.flatnonzero(frame.iloc[:, 0].astype(str).str.strip() == names[0])
    again = [
        i for i in suspects.tolist() if [str(c).strip() for c in frame.iloc[i].fillna("")] == names
    ]
    if again:
        notes.append(headers_left_off(len(again)))
    off = set(again)
    rows = [row for i, row in enumerate(first) if i not in off]
    units = units_under(names, rows[0], rows[1:], given.missing) if rows else ""
    if units:
        notes.append(units)
        off.add(next(i for i in range(len(frame)) if i not in off))
    return frame.iloc[[i for i in range(len(frame)) if i not in off]], notes


def _hidden(content: Content, name: Any) -> list[str]:
    """Return what comes in empty though it seems to be there: uncalculated formulas, merged
    cells."""
    import openpyxl

    notes = []
    shown = openpyxl.load_workbook(content.opened(), data_only=True)[name]
    written = openpyxl.load_workbook(content.opened())[name]
    blank = [
        cell.coordinate
        for row in written.iter_rows()
        for cell in row
        if cell.data_type == "f" and shown[cell.coordinate].value is None
    ]
    if blank:
        if len(blank) == 1:
            which = "1 cell holds a formula that was"
        else:
            which = f"{len(blank)} cells hold formulas that were"
        notes.append(
            f"{which} never calculated and came in empty ({listed(blank, 4)}): open and save the "
            "file in a spreadsheet program"
        )
    merged = [str(area) for area in written.merged_cells.ranges]
    if merged:
        notes.append(f"merged cells ({listed(merged, 4)}) have their value in the first cell alone")
    return notes
