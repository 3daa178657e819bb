"""The rows that a fit uses, and why each other row is left out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from joinery.data.records import Records
from joinery.data.sources.source import STRETCH
from joinery.design.factors import shown
from joinery.design.learning import Learner, Piece, mean, sweep
from joinery.design.resolving import checked_expression
from joinery.notation.context import EVERY_ROW, Context, Rows, positions_at
from joinery.notation.evaluate import evaluate, holds
from joinery.notation.tree import Expression, Name
from joinery.notation.walk import lags_in, named_in, names_in, names_in_own_row
from joinery.show.numbers import count, value
from joinery.study.fitted import Options, UsedRows, without_place
from joinery.support import advice
from joinery.support.errors import (
    MissingCellsError,
    Note,
    NothingEstimableError,
    UnusableColumnError,
    listed,
)

TO_FORECAST = "to forecast"
NO_WEIGHT = "its weight is zero"


@dataclass
class _Left:
    """Rows left out of a stretch, as places in it, with the first reason that takes each row."""

    reason: np.ndarray  # (m,): 0 for a row used, else 1 + the reason's place in ``words``
    words: list[str]
    awaiting: np.ndarray  # (m,): the response alone is missing
    weightless: np.ndarray  # (m,)
    cut: np.ndarray  # (m,): where= does not hold
    empty: dict[str, np.ndarray]  # where each name is missing, of rows not left out before

    def take(self, mask: np.ndarray, why: str) -> None:
        fresh = mask & (self.reason == 0)
        if fresh.any():
            if why not in self.words:
                self.words.append(why)
            self.reason[fresh] = self.words.index(why) + 1

    @property
    def taken(self) -> np.ndarray:
        return self.reason > 0


def choose_rows(
    table: Records, response: Expression, others: Iterable[Expression], options: Options
) -> UsedRows:
    """Return the rows of a table that a model uses.

    A row goes, in this order of reasons: asked out by name, not meeting ``where``, no response,
    no predictor, no weight.

    Raises MissingCellsError under ``missing="refuse"``, NothingEstimableError when no row is left.
    """
    n, expressions = len(table), [response, *others]
    sweep(table, expressions)
    chosen = options.where or options.leave_out is not None or options.weights or options.repeats
    # most tables: nothing asked out, nothing missing, so that no mask is made at all
    if not chosen and all(_sound(e, table) for e in expressions):
        return UsedRows(n, np.empty(0, dtype=int), (), np.empty(0, dtype=int))
    if options.where is None:
        where = None
    else:
        where = checked_expression(options.where, table)
    asked_out = np.empty(0, dtype=int)
    if options.leave_out is not None:
        asked_out = np.sort(table.positions(options.leave_out))
    out, awaiting, weightless, cut = [], [], [], []
    reasons: list[str] = []
    refused: dict[str, list[np.ndarray]] = {}
    everywhere = Learner(table, EVERY_ROW, {}, options.order)
    for expression in expressions:
        # a lag needs the row before, which may stand in another stretch
        everywhere.know_lags(expression)
    judged = _Judged(table, expressions, options, where, asked_out)
    for a, left in everywhere.cut(STRETCH if table.read_as_needed else n).each(judged.left_in):
        out.append(a + np.flatnonzero(left.taken))
        reasons += [left.words[r - 1] for r in left.reason[left.taken].tolist()]
        awaiting.append(a + np.flatnonzero(left.awaiting))
        weightless.append(a + np.flatnonzero(left.weightless))
        cut.append(a + np.flatnonzero(left.cut))
        for label, places in left.empty.items():
            refused.setdefault(label, []).append(a + np.flatnonzero(places))
    if options.missing == "refuse":
        _refuse(table, {label: np.concatenate(rows) for label, rows in refused.items()})
    used = UsedRows(
        n,
        np.concatenate(out),
        tuple(reasons),
        np.concatenate(awaiting),
        np.concatenate(weightless),
        np.concatenate(cut),
    )
    if not used.used:
        _refuse_none_left(used)
    _refuse_infinite(table, expressions, used)
    return used


@dataclass(frozen=True)
class _Judged:
    """The conditions that leave rows out."""

    table: Records
    expressions: Sequence[Expression]  # the response first
    options: Options
    where: Expression | None
    asked_out: np.ndarray  # positions in the table

    def left_in(self, piece: Piece) -> tuple[int, _Left]:
        """Return the first row of a stretch, and which of its rows are left out."""
        context, options = piece[0], self.options
        assert isinstance(context.rows, slice)
        m, first = context.size, context.rows.indices(len(self.table))[0]
        nobody = np.zeros(m, dtype=bool)
        left = _Left(
            np.zeros(m, dtype=np.int32), [], nobody.copy(), nobody.copy(), nobody.copy(), {}
        )
        wanted = self.asked_out[(self.asked_out >= first) & (self.asked_out < first + m)]
        if len(wanted):
            mask = nobody.copy()
            mask[wanted - first] = True
            left.take(mask, "asked to be left out")
        if self.where is not None:
            left.cut = self._cut(self.where, context)
            left.take(left.cut, f"not {options.where}")
        self._take_missing(context, left)
        kept = np.flatnonzero(~left.taken)
        for aside in ("weights", "repeats"):
            if len(kept):
                values = options.asides.values(aside, context.at(first + kept))
            else:
                values = None
            if values is not None:
                left.weightless[kept[values == 0]] = True
        left.take(left.weightless, NO_WEIGHT)
        return first, left

    def _cut(self, where: Expression, context: Context) -> np.ndarray:
        """Return the rows where the condition does not hold.

        Where it cannot be told for want of the response alone, the row awaits its forecast.
        """
        # a condition on the response cannot be told of a row that awaits its forecast: it stays
        condition = evaluate(where, context)
        cut = ~holds(condition)
        response = {n.name for n in names_in(self.expressions[0])}
        names = {n.name for n in names_in(where)}
        if not names & response:
            return cut
        others = [self.table.column(name).missing(context.rows) for name in names - response]
        unknown = np.logical_or.reduce([np.zeros(len(cut), dtype=bool), *others])
        awaits = np.logical_or.reduce(
            [self.table.column(name).missing(context.rows) for name in names & response]
        )
        return np.asarray(cut & ~(np.isnan(condition) & awaits & ~unknown))

    def _take_missing(self, context: Context, left: _Left) -> None:
        """Take rows with missing cells, and note which of the others lack their response alone."""
        excluded = left.taken
        empty: dict[str, np.ndarray] = {}
        for expression in self.expressions[1:]:
            for label, mask in _missing(expression, self.table, context):
                empty.setdefault(label, mask)
        response_missing = dict(_missing(self.expressions[0], self.table, context))
        any_empty = np.logical_or.reduce([np.zeros(len(excluded), dtype=bool), *empty.values()])
        left.empty = {
            label: mask & ~excluded for label, mask in {**response_missing, **empty}.items()
        }
        for label, mask in response_missing.items():
            # rows to forecast are those that lack nothing but their response
            left.awaiting |= mask & ~excluded
            left.take(mask & ~any_empty, f"no {label} ({TO_FORECAST})")
            left.take(mask, f"no {label}")
        for label, mask in empty.items():
            left.take(mask, f"no {label}")


def _refuse_none_left(used: UsedRows) -> None:
    if len(used.weightless):
        raise NothingEstimableError("every row weighs nothing; no coefficient can be estimated")
    counted = Counter(used.reasons).most_common()
    raise NothingEstimableError(
        f"no rows are left to fit: of {used.total:,} rows, "
        + ", ".join(f"{count:,} {why}" for why, count in counted)
    )


def mean_fills(
    table: Records, response: Expression, terms: Sequence[Expression], options: Options
) -> tuple[dict[str, float], list[Note]]:
    """Return the mean of each number column with missing cells over the rows used, and notes.

    Raises UnusableColumnError for a category with missing cells: it has no mean.
    """
    asides = options.asides
    chosen = choose_rows(
        table, response, asides.expressions.values(), replace(options, missing="leave out")
    )
    counts = asides.values("repeats", Context(table, chosen.rows))
    response_names = {n.name for n in names_in(response)}
    fills: dict[str, float] = {}
    notes: list[Note] = []
    for name in named_in(terms):
        column = table.column(name)
        empty = int(column.missing(chosen.rows).sum())
        if not empty or name in response_names:
            continue
        if column.kind != "number":
            raise UnusableColumnError(
                f"column {name!r} is a {column.kind} with {count(empty, 'missing cell')}, and has "
                "no mean to fill it with; "
                f"fit with {advice.option('missing', 'leave out')}",
                column=name,
            )
        learner = Learner(table, chosen.rows, {}, options.order, counts)
        fills[name] = mean(learner.values(Name(name)))[0]
        filled = count(empty, f"missing cell of {name} was", f"missing cells of {name} were")
        words = f"{filled} filled with its mean, {value(fills[name])}"
        notes.append(Note("filled with the mean", "caution", words, (name,)))
    return fills, notes


def order_notes(table: Records, used: UsedRows, options: Options) -> list[Note]:
    """Say how many rows used have no place in the order that was named."""
    lacking = without_place(table, used.rows, options.order)
    if options.order is None or not lacking:
        return []
    words = f"{count(lacking, 'row')} used without {options.order}, taken as first in the order"
    return [Note("without order", "caution", words, (options.order,))]


def _sound(expression: Expression, table: Records) -> bool:
    """Return True if it is a column of numbers, none of them missing or infinite."""
    return isinstance(expression, Name) and table.column(expression.name).sound


def _missing(
    expression: Expression, table: Records, context: Context
) -> Iterable[tuple[str, np.ndarray]]:
    """Yield what can be missing in an expression, by name, with the context's rows where it is."""
    for call in lags_in(expression):
        if (mask := np.isnan(evaluate(call, context))).any():
            yield shown(call), mask
    for name in dict.fromkeys(n.name for n in names_in_own_row(expression)):
        column = table.column(name)
        if not column.sound and (mask := column.missing(context.rows)).any():
            yield name, mask


def _refuse(table: Records, empty: dict[str, np.ndarray]) -> None:
    counts = {label: len(rows) for label, rows in empty.items() if len(rows)}
    if counts:
        label = next(iter(counts))
        rows = list(table.labels(empty[label]))
        words = ", ".join(f"{count} in {name}" for name, count in counts.items())
        raise MissingCellsError(
            f"cells are missing: {words} (first rows: {listed(rows)}); fill them, or fit with "
            + advice.option("missing", "leave out"),
            counts=counts,
            rows=rows,
        )


def _infinite(table: Records, name: str, rows: Rows) -> np.ndarray:
    """Return positions of the rows where a column is infinite."""
    learner = Learner(table, rows, {})
    collected = [np.empty(0, dtype=int)]
    for context, _ in learner.stretches:
        bad = table.column(name).infinite(context.rows)
        if bad.any():
            collected.append(positions_at(context.rows, np.flatnonzero(bad)))
    return np.concatenate(collected)


def _refuse_infinite(table: Records, expressions: Iterable[Expression], used: UsedRows) -> None:
    for name in named_in(expressions):
        if table.column(name).sound:
            continue
        positions = _infinite(table, name, used.rows)
        if len(positions):
            labels = list(table.labels(positions))
            raise UnusableColumnError(
                f"column {name!r} is infinite in {len(labels):,} row{'s' * (len(labels) > 1)} "
                f"({listed(labels)}); "
                f"mend those cells, or leave the rows out with {advice.option('leave_out')}",
                column=name,
                rows=labels,
            )
