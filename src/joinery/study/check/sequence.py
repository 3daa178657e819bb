"""The order in which the fitted rows stand: the one given, else one that the table has."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.data.columns import Column
from joinery.notation.context import EVERY_ROW
from joinery.notation.context import Rows as Positions
from joinery.study.check.added import usable_columns
from joinery.study.fitted import Fitted, once, rows_at_hand, working_rows
from joinery.study.rows.figures import too_many

GLANCED = 100  # cells that tell most columns from years
LEAST_IN_ORDER = 8  # rows from which on an order that the table has is looked for
FIRST_YEAR, LAST_YEAR = 1500, 2200  # whole numbers between them that sort a table are years
MOST_SEQUENCES = 200  # levels of a category inside which a date may sort the table


@once
def sequence(fit: Fitted) -> Sequence | None:
    """Return the order in which neighbours are judged: the one given, else one that the table has.

    A date or a year that sorts the table, strictly, or inside each level of a category. Where the
    response itself is sorted, order follows from it and tells nothing."""
    table, chosen = rows_at_hand(fit)
    name = fit.options.order
    if name:
        codes = table.column(name).codes(EVERY_ROW)[chosen.rows]
        return Sequence(name, np.argsort(codes, kind="stable"))
    if too_many(fit) or table.read_as_needed:
        return None
    if chosen.used < LEAST_IN_ORDER:
        return None
    times = [name for name, column in usable_columns(table) if _tells_time(column, chosen.rows)]
    if not times:
        return None
    response = joined(working_rows(fit).row_blocks, lambda block: block.y)
    if _sorted(response, strictly=False):
        return None
    for name in times:
        if _sorted(table.column(name).numbers(chosen.rows)):
            return Sequence(name, np.arange(len(response)))
    for name in times:
        x = table.column(name).numbers(chosen.rows)
        for group, column in usable_columns(table):
            if column.kind != "category" or not 1 < len(column.all_levels) <= MOST_SEQUENCES:
                continue
            codes = column.codes(chosen.rows)
            if _sorted_inside(x, codes):
                return Sequence(name, np.lexsort((x, codes)), group, codes)
    return None


@dataclass(frozen=True)
class Sequence:
    """An order of the fitted rows: the column that gives it, and their places in it."""

    name: str
    places: np.ndarray
    within: str | None = None  # the category inside whose levels the column sorts the table
    codes: np.ndarray | None = None  # of that category, in the table's order

    def before(self, x: np.ndarray) -> np.ndarray:
        """Return the x of the row before each row (n,), NaN for the first of a sequence."""
        out = np.full(len(x), np.nan)
        out[self.places[1:]] = x[self.places[:-1]]
        if self.codes is not None:
            first = np.append(True, np.diff(self.codes[self.places]) != 0)
            out[self.places[first]] = np.nan
        return out

    @property
    def words(self) -> str:
        if self.within is None:
            return f"in the order of {self.name}"
        return f"in the order of {self.name} inside each {self.within}"


def _tells_time(column: Column, rows: Positions) -> bool:
    """Return True for a column of dates or of years, with a value in each row."""
    if column.kind not in ("date", "number"):
        return False
    x = column.numbers(rows)
    # the first cells of most columns of numbers tell that they hold no years
    if column.kind == "number" and not (_are_years(x[:GLANCED]) and _are_years(x)):
        return False
    return bool(np.isfinite(x).all())


def _are_years(x: np.ndarray) -> bool:
    """Return True if all values are whole numbers that years may be."""
    return bool(((x >= FIRST_YEAR) & (x <= LAST_YEAR) & (x == np.round(x))).all())


def _sorted(x: np.ndarray, *, strictly: bool = True) -> bool:
    steps = np.diff(x)
    if strictly:
        return bool((steps > 0).all() or (steps < 0).all())
    return bool((steps >= 0).all() or (steps <= 0).all())


def _sorted_inside(x: np.ndarray, codes: np.ndarray) -> bool:
    """Return True if the rows of each level are sorted, most of which have several."""
    if (codes < 0).any():
        return False
    order = np.argsort(codes, kind="stable")
    same = np.diff(codes[order]) == 0
    steps = np.diff(x[order])[same]
    if len(steps) < len(x) // 2:
        return False
    return bool((steps > 0).all() or (steps < 0).all())


def in_order(fit: Fitted) -> np.ndarray:
    """Return the places of the fitted rows in the order in which neighbours are judged."""
    known = sequence(fit)
    if known is None:
        return np.arange(rows_at_hand(fit)[1].used)
    return known.places


def order_option(fit: Fitted, known: Sequence) -> dict[str, str]:
    """Return the option that names an order of the table, where the fit has none."""
    if fit.options.order:
        return {}
    return {"order": known.name}
