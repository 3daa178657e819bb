"""Are the data what they seem? Facts about the columns of a model, in the words of the look."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.numeric import distributions as tails
from joinery.data.columns import Column
from joinery.data.records import Records
from joinery.design.levels import coded, merged_levels
from joinery.design.resolving import expressions_of
from joinery.first_look.facts import FEW_DISTINCT, STAND_INS, stand_in_of, stand_in_words
from joinery.first_look.slips import LEAST_TIMES, SPREADS, far_cells, misspelt
from joinery.first_look.table_facts import improbable, repeated_rows
from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.context import Rows as Positions
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Name, spelled
from joinery.notation.walk import named_in
from joinery.show.numbers import count, figure, percent
from joinery.study.check.added import evens_out, in_memory, usable_columns
from joinery.study.check.check import NO_ADVICE, Line, not_judged
from joinery.study.fitted import Fitted, UsedRows, rows_at_hand
from joinery.study.rows.digest import digest
from joinery.study.verdicts import ALLOWED, CAUTION, NO_SIGN, SERIOUS, SLIGHT
from joinery.support import advice as say
from joinery.support.errors import DataError, listed
from joinery.support.limits import CHECKED_ROWS

DATA = "Are the data what they seem?"
FACT_COLUMNS = 5_000  # of a model whose cells are looked at
FIRST_CELLS = 10_000  # of a response that tell how many values it has
MANY_CELLS = 2_000  # of which the ends are looked at before they are sorted
GLANCED = 10_000  # cells that tell the spread of many to a part in a hundred
GLANCE_SPREADS = 0.97 * SPREADS  # within which the ends are no farther out than all cells would say
LEAST_LABELS = 10  # rows that a column of labels tells apart
MANY_LOST = 0.2  # share of the rows left out for empty cells that is told
DIFFERENT = 0.02  # chance below which rows used and rows left out differ
MOST_NAMED = 20  # rows that an advice names
SURE = 2.0  # residual SDs about the fit, within which single rows nearly always lie


def data(fit: Fitted) -> Iterator[Line]:
    """Odd cells, rows there twice, a response of another kind, rows lost to empty cells."""
    lines = [*_of_response(fit), *_lost(fit)]
    known = in_memory(fit)
    if known is not None and fit.n_rows <= CHECKED_ROWS:
        table, used = rows_at_hand(fit)
        lines += _odd_cells(fit, table, used)
        lines += _twice(fit, table, used)
    else:
        why = "odd cells are looked for among rows in memory"
        lines.append(not_judged("fact: cell", "data", DATA, "odd cells", why))
    if lines:
        yield from lines
    else:
        words = "no odd cell"
        if len(_columns_of(fit)) > FACT_COLUMNS:
            words += f" in the first {FACT_COLUMNS:,} columns"
        yield _line("cell", words, verdict=NO_SIGN)


def _line(
    kind: str, words: str, verdict: str = CAUTION, advice: str = NO_ADVICE, test: Test = NOTHING
) -> Line:
    return Line(
        f"fact: {kind}",
        "data",
        DATA,
        words,
        test,
        finding=words,
        verdict=verdict,
        advice=advice,
        tested=False,
    )


def _columns_of(fit: Fitted) -> set[str]:
    """Return the names of the columns of a model."""
    return set(named_in(expressions_of(fit.design.sentence)))


def _odd_cells(fit: Fitted, table: Records, used: UsedRows) -> Iterator[Line]:
    """Yield cells far from all others, stand-ins, and levels misspelt."""
    names = _columns_of(fit)
    factors = fit.design.sentence.factors
    for name in [n for n in table.names if n in names][:FACT_COLUMNS]:
        column = table.column(name)
        if column.kind == "number":
            yield from _odd_numbers(column, used)
        elif column.kind == "category" and column.coded is not None:
            context = fit.design.context(table, used.rows)
            codes, levels = coded(merged_levels(name, factors), context)
            places, counts = np.unique(codes[codes >= 0], return_counts=True)
            if column.is_text:
                seen = [levels[place] for place in places]
                for words in misspelt(name, seen, counts.tolist()):
                    yield _line("cell", words)


def _odd_numbers(column: Column, used: UsedRows) -> Iterator[Line]:
    x = column.numbers(used.rows)
    if len(x) > MANY_CELLS and _middling(x):
        return
    cells = np.full(used.total, np.nan)
    cells[used.rows] = x
    ordered = np.sort(cells[np.isfinite(cells)])
    stand_in = None
    if len(ordered):
        stand_in = stand_in_of(ordered)
    if stand_in is not None:
        times = int(np.count_nonzero(ordered == stand_in))
        yield _line("cell", stand_in_words(column.name, stand_in, times))
        return
    for far in far_cells(column, cells, ordered):
        advice = "correct what is wrong in the table"
        if len(far.labels) <= MOST_NAMED:
            without = say.change(leave_out=[str(label) for label in far.labels])
            advice += f"; see the fit without: {without}"
        yield _line("cell", far.words, advice=advice)


def _middling(x: np.ndarray) -> bool:
    """Return True if the ends of many cells lie no farther out than chance takes so many."""
    low, high = float(x.min()), float(x.max())
    if low in STAND_INS or high in STAND_INS:
        return False
    # cells in another unit may be so many that they widen the spread themselves
    nearest, farthest = sorted((abs(low), abs(high)))
    if low * high > 0 and farthest >= LEAST_TIMES * nearest:
        return False
    # of so many cells some tell the spread; one far out is hardly among them
    some = x[:: max(len(x) // GLANCED, 1)]
    middle, spread = float(some.mean()), float(some.std())
    return max(high - middle, middle - low) < GLANCE_SPREADS * spread


def _twice(fit: Fitted, table: Records, used: UsedRows) -> Iterator[Line]:
    """Yield rows that are there twice, where numbers that hardly repeat make that improbable."""
    if fit.asides.repeats is not None:
        return
    kinds = ("number", "yes/no", "category", "date")
    names = [name for name, column in usable_columns(table) if column.kind in kinds]
    again = np.setdiff1d(repeated_rows(table, EVERY_ROW, names), used.out)
    if len(again) and (
        improbable(table, names, used.rows, again) or _one_label_each(table, names, again)
    ):
        labels = listed(table.labels(again), 4, of=len(again))
        words = (
            f"{count(len(again), 'row repeats', 'rows repeat')} an earlier row exactly ({labels})"
        )
        advice = "if they came in twice, take them out of the table"
        if len(again) <= MOST_NAMED:
            named = [str(label) for label in table.labels(again)]
            if len(table.positions(named)) == len(again):  # no other row has such a label
                keep = say.change(leave_out=named)
                advice = f"if they came in twice, leave them out: {keep}"
        yield _line("rows twice", words, advice=advice)


def _one_label_each(table: Records, names: list[str], again: np.ndarray) -> bool:
    """Return True if some column of text tells every row apart but for those that repeat."""
    others = np.setdiff1d(np.arange(len(table)), again)
    texts = (column for column in map(table.column, names) if column.kind == "category")
    return len(others) >= LEAST_LABELS and any(
        len(np.unique(column.codes(others))) == len(others) for column in texts
    )


def _of_response(fit: Fitted) -> Iterator[Line]:
    """Yield a response under the normal family that another family is made for."""
    response = fit.design.sentence.response
    if not fit.estimate.linear or not isinstance(response.expression, Name):
        return
    if response.kind != "plain":
        return
    table, used = rows_at_hand(fit)
    if table.read_as_needed:
        return
    name = response.expression.name
    y = table.column(name).numbers(used.rows)
    if not len(y) or np.ptp(y) == 0:
        return
    few = y[:FIRST_CELLS]
    values = np.unique(few)
    # the first cells of most responses tell that they are no whole numbers
    integral = bool(np.all(few == np.round(few)) and np.all(y == np.round(y)))
    if integral and y.min() == 0 and y.max() == 1:
        yield _yes_or_no(fit, name)
    elif y.min() >= 0 and y.max() <= 1 and not integral and _leaves_shares(fit):
        words = f"{name} lies between 0 and 1, which forecasts of this fit leave"
        advice = f"of a share write 'count of total', or {say.change(family='binomial')}"
        yield _line("shares", words, CAUTION, advice)
    elif integral and y.min() == 0 and len(values) > 2 and float(y.mean()) < 10:
        words = f"{name} counts, with zeros: a straight line can go below them"
        yield _line("counts", words, SLIGHT, f"try {say.change(family='poisson')}")
    elif integral and 2 < len(values) <= FEW_DISTINCT and len(y) >= 5 * len(values):
        words = f"{name} has {len(values)} values only: steps between them are taken as equal"
        yield _line("few values", words, SLIGHT)


def _leaves_shares(fit: Fitted) -> bool:
    """Return True if intervals of single rows among the fitted ones leave 0 to 1."""
    spread = fit.estimate.scale
    if spread is None:
        return True
    low, high = digest(fit).fitted
    return low - SURE * spread < 0 or high + SURE * spread > 1


def _yes_or_no(fit: Fitted, name: str) -> Line:
    words = f"{name} is 0 or 1: its chance is modelled as a straight line"
    if evens_out(fit):
        covered = "robust standard errors allow for its spread; chances may still leave 0 to 1"
        return _line("yes or no", words, ALLOWED, covered)
    advice = f"write ({spelled(name)} = 1) given …, or {say.change(family='binomial')}"
    return _line("yes or no", words, SERIOUS, advice)


def _lost(fit: Fitted) -> Iterator[Line]:
    """Yield rows left out for empty cells, where they are many, and whether their response
    differs."""
    table, used = rows_at_hand(fit)
    response = fit.design.sentence.response
    lost = np.array([why.startswith("no ") for why in used.reasons], bool)
    if not len(lost) or table.read_as_needed or response.kind != "plain":
        return
    places = np.setdiff1d(used.out[lost], used.awaiting)
    meant = len(places) + used.used
    if len(places) <= MANY_LOST * meant:
        return
    try:
        y = _values(fit, table, used.rows)
        out = _values(fit, table, places)
    except DataError:
        return
    out = out[np.isfinite(out)]
    words = f"{percent(len(places) / meant)} of the rows are left out for empty cells"
    if len(out) < 2:
        yield _line("rows lost", words, SLIGHT)
        return
    name = fit.words(fit.response.name)
    words += f"; {name} is {figure(y.mean(), 3)} on average among rows used, "
    words += f"{figure(out.mean(), 3)} among them"
    error = np.sqrt(y.var(ddof=1) / len(y) + out.var(ddof=1) / len(out))
    p = float("nan")
    if error > 0:
        p = float(tails.t_two_sided((y.mean() - out.mean()) / error, min(len(y), len(out)) - 1))
    differ = p < DIFFERENT
    advice = "the rows used are not like the others: what holds for them may not hold for all"
    test = Test(float(len(places)), p)
    yield _line(
        "rows lost", words, CAUTION if differ else SLIGHT, advice if differ else NO_ADVICE, test
    )


def _values(fit: Fitted, table: Records, rows: Positions) -> np.ndarray:
    """Return the response of some rows, NaN where a cell is empty."""
    expression = fit.design.sentence.response.expression
    if isinstance(expression, Name):
        return table.column(expression.name).numbers(rows)
    return np.asarray(evaluate(expression, Context(table, rows, fit.design.function_memory)), float)
