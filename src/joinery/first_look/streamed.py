"""The first look at a table that is read as needed: the same facts, as sums over stretches."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from joinery.core.blocks.order_statistics import Counted, at_places, quantiles
from joinery.core.blocks.partition import Partition
from joinery.core.inference.correlation import Correlation, of_sums
from joinery.core.inference.normality import Moments
from joinery.data.columns import Column
from joinery.data.records import Records
from joinery.design.learning import Learner, Piece, ends_of
from joinery.first_look.facts import (
    FEW_DISTINCT,
    HEAVY_TAIL,
    STAND_INS,
    Facts,
    about,
    date_facts,
    few_values,
    has_stand_in,
    level_facts,
    long_tail,
    stand_in_words,
    unit_of,
)
from joinery.first_look.ruler import alone, apart, drawn
from joinery.notation.context import Rows
from joinery.notation.tree import Name
from joinery.support.limits import LOOK_DISTINCT


def streamed_facts(column: Column, table: Records, rows: Rows) -> Facts:
    """Return the facts of one column, in a few passes over it."""
    learner = Learner(table, rows, {})
    if column.kind in ("number", "date"):
        return _of_numbers(column, learner)

    missing, counts = level_counts(column, learner)
    places = np.flatnonzero(counts)
    return level_facts(column, places, counts[places], missing)


def level_counts(column: Column, learner: Learner) -> tuple[int, np.ndarray]:
    """Return how many cells are missing, and how often each level stands (levels,)."""

    def of_piece(piece: Piece) -> np.ndarray:
        return np.bincount(column.codes(piece[0].rows) + 1, minlength=len(column.all_levels) + 1)

    total = np.add.reduce(list(learner.stretches.each(of_piece)))
    return int(total[0]), total[1:]


def _of_numbers(column: Column, learner: Learner) -> Facts:
    values = learner.values(Name(column.name))
    rows = learner.table.count(learner.rows)
    n, low, high, full = 0, np.inf, -np.inf, True
    distinct: np.ndarray | None = np.empty(0)
    for part in values.each(_first):
        n, full = n + part[0], full and part[3]
        low, high = min(low, part[1]), max(high, part[2])
        distinct = _together(distinct, part[4])
    missing = rows - n
    if not n:
        nothing = (f"{column.name} has no values at all",)
        return Facts(column.name, column.kind, 0, missing, 0, remarks=nothing)
    figures: dict[str, Any] = {
        "count": n,
        "missing": missing,
        "distinct": np.nan if distinct is None else len(distinct),
    }
    if column.kind == "date":
        return date_facts(column, figures, low, high)
    unit = unit_of(low, high)
    moments = Moments.over(values.map(lambda piece: (piece[0] / unit, piece[1])))
    if n > 1:
        sd = float(np.sqrt(moments.second / (n - 1)))
    else:
        sd = float("nan")
    middle = at_places(values, np.array([(n - 1) // 2, n // 2], float), float(n))
    first, third = quantiles(values, np.array([0.25, 0.75]))
    median = float(middle[0] / 2 + middle[1] / 2)
    quarters = (low, float(first), median, float(third), high)
    near, far = alone(quarters, values.each(lambda piece: apart(piece[0], quarters)))
    figures["ruler"] = drawn(quarters, near, far)
    figures |= {
        "mean": moments.mean * unit,
        "standard_deviation": sd * unit,
        "skew": moments.third / n / sd**3 if n > 2 and sd > 0 else float("nan"),
        "minimum": low,
        "median": median,
        "maximum": high,
    }
    remarks = [*about(column, figures), *_remarks(column.name, values, figures, full, distinct)]
    if full:
        kind = "whole number"
    else:
        kind = "number"
    return Facts(column.name, kind, **figures, remarks=tuple(remarks))


def _first(piece: Counted) -> tuple[int, float, float, bool, np.ndarray | None]:
    """Count, ends, whether all are whole, and the different values where they are few."""
    x = piece[0]
    some = np.unique(x[: 2 * LOOK_DISTINCT])
    if len(some) <= LOOK_DISTINCT:
        distinct = np.unique(x)
    else:
        distinct = None
    integral = bool(np.all(x[:1000] == np.round(x[:1000])) and np.all(x == np.round(x)))
    return len(x), *ends_of(x), integral, distinct


def _together(a: np.ndarray | None, b: np.ndarray | None) -> np.ndarray | None:
    """Return the different values of both, None for too many."""
    if a is None or b is None:
        return None
    both = np.union1d(a, b)
    if len(both) <= LOOK_DISTINCT:
        return both
    return None


def _remarks(
    name: str,
    values: Partition[Counted],
    figures: dict[str, Any],
    integral: bool,
    distinct: np.ndarray | None,
) -> Iterator[str]:
    """Yield what is odd about a column of numbers."""
    n, low, high = figures["count"], figures["minimum"], figures["maximum"]
    for candidate in (low, high):
        if candidate in STAND_INS:
            times, first, last, others_whole = _others(values, candidate)
            if n - times >= 3 and has_stand_in(candidate, times, first, last, others_whole):
                yield stand_in_words(name, candidate, times)
                return
    if np.isfinite(figures["skew"]) and figures["skew"] > HEAVY_TAIL and low > 0:
        logs = Moments.over(values.map(lambda piece: (np.log(piece[0]), piece[1])))
        if abs(logs.third / n / (logs.second / n) ** 1.5) < figures["skew"] / 2:
            yield long_tail(name, figures["skew"])
    if (
        integral
        and distinct is not None
        and 2 < len(distinct) <= FEW_DISTINCT
        and n >= 5 * len(distinct)
    ):
        yield few_values(name, len(distinct))


def _others(values: Partition[Counted], candidate: float) -> tuple[int, float, float, bool]:
    """Return how often a value stands, and the ends of the others and whether they are whole."""
    times, low, high, full = 0, np.inf, -np.inf, True
    for part in values.each(lambda piece: _apart(piece[0], candidate)):
        times += part[0]
        low, high, full = min(low, part[1]), max(high, part[2]), full and part[3]
    return times, low, high, full


def _apart(x: np.ndarray, candidate: float) -> tuple[int, float, float, bool]:
    rest = x[x != candidate]
    return len(x) - len(rest), *ends_of(rest), bool(np.all(rest == np.round(rest)))


def pairs(
    table: Records, rows: Rows, facts: Sequence[Facts], level: float
) -> tuple[np.ndarray, Correlation]:
    """Return Pearson's r of every pair of columns of numbers, over the rows that have both."""
    names = [f.name for f in facts]
    middle = np.array([f.mean if np.isfinite(f.mean) else 0.5 for f in facts])
    unit = np.array([unit_of(f.minimum, f.maximum) for f in facts])

    def sums(piece: Piece) -> np.ndarray:
        X = np.column_stack([table.column(n).numbers(piece[0].rows) for n in names])
        here = ~np.isnan(X)
        if here.all():
            X = (X - middle) / unit
            n, sums, squares = np.full(len(names), len(X)), X.sum(axis=0), (X * X).sum(axis=0)
            return np.array(
                [*(np.tile(v[:, None], len(names)) for v in (n, sums, squares)), X.T @ X]
            )
        Z, M = np.where(here, (X - middle) / unit, 0.0), here.astype(float)
        return np.array([M.T @ M, Z.T @ M, (Z * Z).T @ M, Z.T @ Z])

    total = np.add.reduce(list(Learner(table, rows, {}).stretches.each(sums)))
    return of_sums(total[0], total[1], total[2], total[3], level)
