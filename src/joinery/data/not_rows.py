"""Lines inside a table that are none of its rows: rules of dashes, units, the header once more.

Each is left off only where it cannot be a row, and said."""

from __future__ import annotations

import re
from collections.abc import Sequence

MISSING = (
    "", "NA", "N/A", "n/a", "NaN", "nan", "-nan", "-NaN", "NULL", "null", "None", "<NA>",
    "#N/A", "#NA", "#N/A N/A", "1.#IND", "-1.#IND", "1.#QNAN", "-1.#QNAN",
    # what a spreadsheet writes where a formula has no value
    "#DIV/0!", "#VALUE!", "#REF!", "#NUM!", "#NAME?", "#NULL!",
)  # fmt: skip
NUMBER = re.compile(r"[-+−]?[\d.,' ]*\d[\d.,' ]*\s?%?")
# a rule under a header: dashes in cells apart, as text tables are drawn
_RULE = re.compile(r"[\s|+:]*[-=]{2,}[-=\s|+:]*[|+\s][-=\s|+:]*")
MOSTLY = 0.8  # of a column's cells that are numbers: it is one of numbers
LEAST_BELOW = 3  # rows that must stand under a line for it to be told from them


def is_rule(line: str) -> bool:
    """Return True for a line of dashes that is cut into columns."""
    return _RULE.fullmatch(line.strip()) is not None


def rules_left_off(lines: int) -> str:
    """Return the remark on rules that were left off."""
    return f"{lines} line{'s' * (lines > 1)} of dashes left off"


def headers_left_off(lines: int) -> str:
    """Return the remark on lines that are the header once more."""
    return f"{lines} line{'s that repeat' if lines > 1 else ' that repeats'} the header left off"


def is_header(names: Sequence[str]) -> bool:
    """Return True for names that no row would have: several, and words."""
    words = [name for name in names if name.strip()]
    return len(words) > 1 and not any(NUMBER.fullmatch(name.strip()) for name in words)


def units_under(
    header: Sequence[str],
    row: Sequence[str],
    below: Sequence[Sequence[str]],
    missing: Sequence[str],
) -> str:
    """Return the remark on a line of units under the header; nothing where it is a row.

    It is one where columns of numbers have words there and all other columns nothing."""
    numeric = numeric_places(below)
    written = {j: cell.strip() for j, cell in enumerate(row) if cell.strip()}
    if not written or not set(written) <= numeric:
        return ""
    if any(NUMBER.fullmatch(unit) or unit in missing for unit in written.values()):
        return ""
    units = [f"{header[j].strip()}: {unit}" for j, unit in written.items() if j < len(header)]
    return f"the line under the header left off, taken for units ({', '.join(units)})"


def is_over_header(
    above: Sequence[str], row: Sequence[str], below: Sequence[Sequence[str]]
) -> bool:
    """Return True if a line names groups of columns, and the row under it the columns.

    The groups leave gaps; every column has a name of its own, also those of numbers."""
    names = [cell.strip() for cell in row]
    if any(name in MISSING for name in names):
        return False
    width = max((len(cells) for cells in below), default=0)
    if len(above) != len(names) or len(names) < width:
        return False
    # a word in one column of numbers may stand for a missing cell; in several, and each another
    # word, they are names
    several = len(numeric_places(below)) > 1
    gaps = any(not cell.strip() for cell in above)
    return several and gaps and len(set(names)) == len(names) and is_header(names)


def numeric_places(rows: Sequence[Sequence[str]]) -> set[int]:
    """Return the places of columns most of whose cells are numbers, of rows enough to tell."""
    out: set[int] = set()
    if len(rows) < LEAST_BELOW:
        return out
    for j in range(max(map(len, rows))):
        cells = [row[j].strip() for row in rows if j < len(row) and row[j].strip()]
        numbers = sum(NUMBER.fullmatch(cell) is not None for cell in cells)
        if cells and numbers >= MOSTLY * len(cells):
            out.add(j)
    return out
