"""Are neighbouring rows independent?"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np

from joinery.core.blocks.columns import Columns, some_rows
from joinery.core.blocks.partition import joined
from joinery.core.blocks.products import inner
from joinery.core.inference import diagnostics
from joinery.core.inference.added import smallest_shift
from joinery.core.least_squares.solution import Solution
from joinery.data.columns import Column
from joinery.design.row_blocks import RowBlock
from joinery.notation.evaluate import EVERY_ROW, Context
from joinery.notation.evaluate import Rows as Positions
from joinery.show.numbers import count, figure
from joinery.study.check.added import added, indicators, of_used, usable_columns
from joinery.study.check.check import Line, Seen, not_judged, nothing_left
from joinery.study.check.rate import SHARES
from joinery.study.fitted import Fitted, once, rows_at_hand, without_place, working_rows
from joinery.study.rows.digest import Rows, pieces
from joinery.study.rows.figures import per_row, too_many
from joinery.study.verdicts import NOT_JUDGED
from joinery.support import advice as say
from joinery.support.limits import ORDER_CELLS

LAGS = 4  # neighbours that Breusch and Godfrey's test goes back
LEAST_IN_ORDER = 8  # rows from which on an order that the table has is looked for
FIRST_YEAR, LAST_YEAR = 1500, 2200  # whole numbers between them that sort a table are years
MOST_SEQUENCES = 200  # levels of a category inside which a date may sort the table
MOST_TOLD = 2e5  # cells of a basis whose figures are told where no order is known

ORDER = "Are neighbouring rows independent?"


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
                return Sequence(name, np.lexsort((x, codes)), group)
    return None


@dataclass(frozen=True)
class Sequence:
    """An order of the fitted rows: the column that gives it, and their places in it."""

    name: str
    places: np.ndarray
    within: str | None = None  # the category inside whose levels the column sorts the table

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
    if not np.isfinite(x).all():
        return False
    years = (x >= FIRST_YEAR) & (x <= LAST_YEAR) & (x == np.round(x))
    return column.kind == "date" or bool(years.all())


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


def order(fit: Fitted) -> Iterator[Line]:
    """Durbin and Watson's d with its true p, lagged residuals added to the model, and seasons."""
    check = "Durbin–Watson"
    why = nothing_left(fit)
    if not why and fit.asides.repeats is not None:
        why = "rows that stand for several have no neighbours"
    if not why:
        table, chosen = rows_at_hand(fit)
        if lacking := without_place(table, chosen.rows, fit.options.order):
            why = f"{fit.options.order} is missing in {count(lacking, 'row')}"
    if not why and too_many(fit) and fit.options.order:
        why = "many rows are gone through in the table's own order alone; write them in that order"
    if why:
        yield not_judged("durbin-watson", "order", ORDER, check, why)
        return
    known = sequence(fit)
    way = f"name it: {say.option('order', 'COLUMN')}"
    large = fit.n_rows * fit.solution.rank > MOST_TOLD
    if known is None and large and not too_many(fit):
        yield not_judged("durbin-watson", "order", ORDER, check, way)
        return
    distances, lagged = _of_many(fit) if too_many(fit) else _of_few(fit)
    lines = [_durbin_watson(fit, distances)]
    if fit.residual_df > 2 * LAGS + 2 and np.isfinite(lagged.statistic):
        lines.append(_breusch_godfrey(fit, lagged))
    if known is None:  # the table's own order, which may mean nothing: figures without a verdict
        for line in lines:
            yield replace(line, tested=False, verdict=NOT_JUDGED, advice=way)
        return
    yield from (replace(line, check=f"{line.check}, {known.words}") for line in lines)
    yield from _season(fit, known)


# ------------------------------------------------------------------ seasons


def _season(fit: Fitted, known: Sequence) -> Iterator[Line]:
    """The season that dates suggest, added to the model: weekdays, months, quarters, hours."""
    table, chosen = rows_at_hand(fit)
    column = table.column(known.name)
    if column.kind != "date":
        return
    days = column.numbers(chosen.rows)
    ordered = days[known.places]
    step = float(np.median(np.abs(np.diff(ordered))))
    season = next((s for s in SEASONS if s.least <= step <= s.most), None)
    if season is None or len(days) < 3 * season.length:
        return
    codes = season.of(days)
    Z = indicators(codes, season.length)[:, 1:]
    test = added(fit, of_used(Z), [np.arange(season.length - 1)])[0]
    yield Line(
        "season",
        "order",
        ORDER,
        f"{season.name}s of {known.name} added (F)",
        test,
        finding=f"rows of one {season.name} are alike",
        advise=lambda: f"add a column that names the {season.name}",
        small=0.02,
        large=0.2,
    )


@dataclass(frozen=True)
class Season:
    """A cycle that dates may have: days between rows, its length, the place of a date in it."""

    name: str
    least: float
    most: float
    length: int
    of: Callable[[np.ndarray], np.ndarray]


def _months(days: np.ndarray) -> np.ndarray:
    stamps = np.floor(days).astype("datetime64[D]").astype("datetime64[M]")
    return np.asarray(stamps.astype(int) % 12)


def _quarters(days: np.ndarray) -> np.ndarray:
    return _months(days) // 3


def _weekdays(days: np.ndarray) -> np.ndarray:
    return np.asarray((np.floor(days).astype(int) + 3) % 7)


def _hours(days: np.ndarray) -> np.ndarray:
    return np.asarray(np.floor((days % 1) * 24 + 1e-6).astype(int) % 24)


SEASONS = (
    Season("hour", 0.9 / 24, 1.1 / 24, 24, _hours),
    Season("weekday", 0.99, 1.01, 7, _weekdays),
    Season("month", 27.5, 31.5, 12, _months),
    Season("quarter", 89.0, 93.0, 4, _quarters),
)


# ------------------------------------------------------------------ neighbours


def _of_few(fit: Fitted) -> tuple[diagnostics.Test, diagnostics.Test]:
    """Durbin and Watson's test, and Breusch and Godfrey's, of rows whose figures are held."""
    e, places, root = _scaled_residuals(fit)
    solution = fit.solution
    if len(root) * solution.rank <= ORDER_CELLS:
        basis = joined(working_rows(fit).row_blocks, lambda block: solution.in_basis(block.X))
        U = (basis * root[:, None])[places]
        return diagnostics.durbin_watson(e, U), diagnostics.breusch_godfrey(e, U, LAGS)
    Z = diagnostics.lagged(e, LAGS)
    weighted = np.zeros((len(root), LAGS))  # in the order of the table
    weighted[places] = Z * root[places, None]

    def of_block(block: RowBlock) -> np.ndarray:
        return solution.centred_sums(block.columns, weighted[block.span])

    raw = np.add.reduce(list(working_rows(fit).row_blocks.each(of_block)))
    of_lags = _of_sums(fit, len(e), raw, Z.T @ Z, Z.T @ e, float(e @ e))
    return diagnostics.durbin_watson(e, None), of_lags


def _of_sums(
    fit: Fitted, n: int, raw: np.ndarray, ZZ: np.ndarray, Ze: np.ndarray, ee: float
) -> diagnostics.Test:
    """Breusch and Godfrey's test from sums, the first the ``centred_sums`` of lagged residuals."""
    UZ, df = fit.solution.sums_in_basis(raw), n - fit.solution.rank - LAGS
    return diagnostics.breusch_godfrey_of_sums(ZZ, UZ, Ze, ee, df)


def _of_many(fit: Fitted) -> tuple[diagnostics.Test, diagnostics.Test]:
    """The same of rows that are read as needed, in the table's own order.

    The first rows of a block follow the last of the one before: they are added here."""
    solution, before = fit.solution, np.zeros(LAGS)
    raw, ZZ, Ze = np.zeros((1 + len(solution.kept), LAGS)), np.zeros((LAGS, LAGS)), np.zeros(LAGS)
    n, square, differences = 0, 0.0, 0.0
    for part in pieces(fit).each(partial(_neighbours, solution)):
        e = np.append(before, part.first)
        Z = diagnostics.lagged(e, LAGS)[LAGS:]
        gap = np.diff(e)[LAGS - 1 if n else LAGS :]  # nothing stands before the first row of all
        raw += part.raw + solution.centred_sums(part.columns, Z * part.root[:, None])
        ZZ, Ze = ZZ + part.ZZ + Z.T @ Z, Ze + part.Ze + Z.T @ part.first
        n, square = n + part.n, square + part.square
        differences += part.differences + float(gap @ gap)
        before = np.append(before, part.last)[-LAGS:]
    if n <= 2 or not square > 0:
        return diagnostics.NOTHING, diagnostics.NOTHING
    lagged = _of_sums(fit, n, raw, ZZ, Ze, square)
    return diagnostics.durbin_watson_of_sums(n, differences / square), lagged


class _Neighbours(NamedTuple):
    """Sums of some rows in their order, without the first few as followers, which stand beside.

    Z are the residuals one row back and so on; ``columns``, ``root`` and ``first`` the first rows,
    the roots of their weights and their residuals; ``last`` the residuals of the last."""

    n: int
    square: float
    differences: float
    raw: np.ndarray
    ZZ: np.ndarray
    Ze: np.ndarray
    columns: Columns
    root: np.ndarray
    first: np.ndarray
    last: np.ndarray


def _neighbours(solution: Solution, rows: Rows) -> _Neighbours:
    root, columns = np.sqrt(rows.block.precisions), rows.block.columns
    e = rows.working * root / solution.unit
    Z, gap = diagnostics.lagged(e, LAGS)[LAGS:], np.diff(e)[LAGS - 1 :]
    follow = some_rows(columns, slice(LAGS, None))
    return _Neighbours(
        len(e),
        inner(e, e),
        inner(gap, gap),
        solution.centred_sums(follow, Z * root[LAGS:, None]),
        Z.T @ Z,
        Z.T @ e[LAGS:],
        some_rows(columns, np.arange(min(LAGS, len(e)))),
        root[:LAGS],
        e[:LAGS],
        e[-LAGS:],
    )


def _durbin_watson(fit: Fitted, test: diagnostics.Test) -> Line:
    if test.size > 0:
        tail = "neighbours alike"
    else:
        tail = "neighbours opposed"
    seen = smallest_shift(SHARES["order"] / 2) / np.sqrt(max(fit.n_rows, 1))
    return Line(
        "durbin-watson",
        "order",
        ORDER,
        f"Durbin–Watson ({tail}, both tails)",
        replace(test, size=abs(test.size)),
        finding=f"{tail} (correlation {figure(test.size, 2)} one row apart)",
        advise=partial(_advice, fit),
        small=0.1,
        large=0.4,
        would_see=Seen("neighbours alike", float(seen)) if seen < 1 else None,
        allowed_by=_allowed(fit),
    )


def _allowed(fit: Fitted) -> str:
    if fit.options.std_errors != "autocorrelated":
        return ""
    return "autocorrelated standard errors take care of the coefficients, not of forecasts"


def _advice(fit: Fitted) -> str:
    """Return standard errors that hold; a lagged response alone would bend the coefficients."""
    order = {}
    known = sequence(fit)
    if known is not None and not fit.options.order:
        order = {"order": known.name}
    return f"try {say.change(std_errors='autocorrelated', **order)}"


def _breusch_godfrey(fit: Fitted, test: diagnostics.Test) -> Line:
    return Line(
        "breusch-godfrey",
        "order",
        ORDER,
        f"Breusch–Godfrey, {LAGS} rows back (F)",
        test,
        finding="rows nearby are alike",
        advise=partial(_advice, fit),
        small=0.03,
        large=0.25,
        allowed_by=_allowed(fit),
    )


def _scaled_residuals(fit: Fitted) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Residuals times √w in order, the places of their rows, and the √w of all rows (n,)."""
    figures, places = per_row(fit), in_order(fit)
    table, used = rows_at_hand(fit)
    w = fit.asides.values("weights", Context(table, used.rows))
    if w is None:
        root = np.ones(used.used)
    else:
        root = np.sqrt(w)
    return (figures.residual * root)[places] / fit.solution.unit, places, root
