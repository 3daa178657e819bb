"""Which rows a fit uses, and why each other row is left out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from joinery import advice
from joinery.data.records import Records
from joinery.design.factors import shown
from joinery.design.resolving import checked_expression
from joinery.errors import (
    MissingCellsError,
    Note,
    NothingEstimableError,
    UnusableColumnError,
    listed,
)
from joinery.notation.evaluate import EVERY_ROW, Context, evaluate, mean_of
from joinery.notation.tree import Call, Expression, Name, calls_in, names_in
from joinery.show.numbers import value
from joinery.study.fitted import Options, UsedRows

TO_FORECAST = "to forecast"
NO_WEIGHT = "its weight is zero"


@dataclass
class _Reasons:
    """Why each row is left out: the first reason that takes it counts."""

    reason: np.ndarray  # (n,): 0 for a row used, else 1 + the reason's place in ``words``
    words: list[str]

    def take(self, mask: np.ndarray, why: str) -> None:
        fresh = mask & (self.reason == 0)
        if fresh.any():
            if why not in self.words:
                self.words.append(why)
            self.reason[fresh] = self.words.index(why) + 1

    @property
    def taken(self) -> np.ndarray:
        return self.reason > 0

    def in_words(self) -> list[str]:
        """The reason of each row left out, in their order."""
        return [self.words[r - 1] for r in self.reason[self.taken]]


def choose_rows(
    table: Records, response: Expression, others: Iterable[Expression], options: Options
) -> UsedRows:
    """The rows of a table that a model uses.

    A row goes, in this order of reasons: asked out by name, not meeting ``where``, no response,
    no predictor, no weight.

    Raises MissingCellsError under ``missing="refuse"``, NothingEstimableError when no row is left.
    """
    n, expressions = len(table), [response, *others]
    chosen = options.where or options.leave_out is not None or options.weights or options.repeats
    if not chosen and all(_sound(e, table) for e in expressions):
        return UsedRows(n, np.empty(0, dtype=int), (), np.empty(0, dtype=int))
    reasons = _Reasons(np.zeros(n, dtype=np.int32), [])
    _exclude(table, options, reasons)
    awaiting = _take_missing(table, expressions, options, reasons)
    weightless = _weightless(table, np.flatnonzero(~reasons.taken), options)
    reasons.take(weightless, NO_WEIGHT)
    if reasons.taken.all():
        _refuse_none_left(n, reasons, weightless)
    used = UsedRows(
        n,
        np.flatnonzero(reasons.taken),
        tuple(reasons.in_words()),
        np.flatnonzero(awaiting),
        np.flatnonzero(weightless),
    )
    _refuse_infinite(table, expressions, used)
    return used


def _exclude(table: Records, options: Options, reasons: _Reasons) -> None:
    """Take the rows that the caller excludes, by label or by condition."""
    if options.leave_out is not None:
        mask = np.zeros(len(table), dtype=bool)
        mask[table.positions(options.leave_out)] = True
        reasons.take(mask, "asked to be left out")
    if options.where is not None:
        expression = checked_expression(options.where, table)
        condition = evaluate(expression, Context(table, order=options.order))
        reasons.take(~(condition > 0) & ~(condition < 0), f"not {options.where}")


def _take_missing(
    table: Records, expressions: Sequence[Expression], options: Options, reasons: _Reasons
) -> np.ndarray:
    """Take rows with missing cells; return which of the others lack their response (n,)."""
    excluded = reasons.taken
    empty: dict[str, np.ndarray] = {}
    for expression in expressions[1:]:
        for label, mask in _missing(expression, table, options.order):
            empty.setdefault(label, mask)
    response_missing = dict(_missing(expressions[0], table, options.order))
    nothing = np.zeros(len(table), dtype=bool)
    any_empty = np.logical_or.reduce([*empty.values()]) if empty else nothing
    if options.missing == "refuse":
        _refuse(table, {**response_missing, **empty}, excluded)
    awaiting = nothing.copy()
    for label, mask in response_missing.items():
        awaiting |= mask & ~excluded
        reasons.take(mask & ~any_empty, f"no {label} ({TO_FORECAST})")
        reasons.take(mask, f"no {label}")
    for label, mask in empty.items():
        reasons.take(mask, f"no {label}")
    return awaiting


def _refuse_none_left(n: int, reasons: _Reasons, weightless: np.ndarray) -> None:
    if weightless.any():
        raise NothingEstimableError("every row weighs nothing; no coefficient can be estimated")
    counted = Counter(reasons.in_words()).most_common()
    raise NothingEstimableError(
        f"no rows are left to fit: of {n:,} rows, "
        + ", ".join(f"{count:,} {why}" for why, count in counted)
    )


def _weightless(table: Records, kept: np.ndarray, options: Options) -> np.ndarray:
    """Whether the weight or repeats of a kept row are zero, for each row of the table."""
    out = np.zeros(len(table), dtype=bool)
    for aside in ("weights", "repeats"):
        values = options.asides.values(aside, Context(table, kept)) if len(kept) else None
        if values is not None:
            out[kept[values == 0]] = True
    return out


def mean_fills(
    table: Records, response: Expression, terms: Sequence[Expression], options: Options
) -> tuple[dict[str, float], list[Note]]:
    """The mean of each number column with missing cells over the rows used, and notes.

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
    for name in dict.fromkeys(n.name for e in terms for n in names_in(e)):
        column = table.column(name)
        empty = int(column.missing(chosen.rows).sum())
        if not empty or name in response_names:
            continue
        if column.kind != "number":
            raise UnusableColumnError(
                f"column {name!r} is a {column.kind} with {empty} missing cells, and has no mean "
                "to fill them with; "
                f"fit with {advice.option('missing', 'leave out')}",
                column=name,
            )
        values = column.numbers(chosen.rows)
        present = ~np.isnan(values)
        fills[name] = mean_of(
            values[present], np.ones(present.sum()) if counts is None else counts[present]
        )
        words = f"{empty} missing cells of {name} were filled with its mean, {value(fills[name])}"
        notes.append(Note("filled with the mean", "caution", words, (name,)))
    return fills, notes


def _sound(expression: Expression, table: Records) -> bool:
    """Whether it is a column of numbers, none of them missing or infinite."""
    return isinstance(expression, Name) and table.column(expression.name).sound


def _missing(
    expression: Expression, table: Records, order: str | None
) -> Iterable[tuple[str, np.ndarray]]:
    """What can be missing in an expression, by name, with the rows where it is."""
    lags = [
        call for call in calls_in(expression) if isinstance(call, Call) and call.function == "lag"
    ]
    inside_lags = {n.name for call in lags for n in names_in(call)}
    for call in lags:
        if (mask := np.isnan(evaluate(call, Context(table, order=order)))).any():
            yield shown(call), mask
    for name in dict.fromkeys(n.name for n in names_in(expression)):
        column = table.column(name)
        if (
            name not in inside_lags
            and not column.sound
            and (mask := column.missing(EVERY_ROW)).any()
        ):
            yield name, mask


def _refuse(table: Records, masks: dict[str, np.ndarray], excluded: np.ndarray) -> None:
    counts = {label: int((mask & ~excluded).sum()) for label, mask in masks.items()}
    counts = {label: count for label, count in counts.items() if count}
    if counts:
        label = next(iter(counts))
        rows = list(table.labels(np.flatnonzero(masks[label] & ~excluded)))
        words = ", ".join(f"{count} in {name}" for name, count in counts.items())
        raise MissingCellsError(
            f"cells are missing: {words} (first rows: {listed(rows)}); fill them, or fit with "
            + advice.option("missing", "leave out"),
            counts=counts,
            rows=rows,
        )


def _refuse_infinite(table: Records, expressions: Iterable[Expression], used: UsedRows) -> None:
    for name in dict.fromkeys(n.name for e in expressions for n in names_in(e)):
        if table.column(name).sound:
            continue
        bad = table.column(name).infinite(used.rows)
        if bad.any():
            positions = np.arange(len(table))[used.rows][bad]
            labels = list(table.labels(positions))
            raise UnusableColumnError(
                f"column {name!r} is infinite in {len(labels):,} row{'s' * (len(labels) > 1)} "
                f"({listed(labels)}); "
                f"mend those cells, or leave the rows out with {advice.option('leave_out')}",
                column=name,
                rows=labels,
            )
