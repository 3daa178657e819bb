"""Remarks on a table as a whole: columns that say the same, rows that are there twice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from joinery.data.records import Records
from joinery.first_look.facts import Facts
from joinery.show.numbers import count, value
from joinery.support.errors import listed

SAME_COLUMN = 1e-12  # of a column's size: no more than rounding
ROUNDED = 1e-5  # what rounding a converted unit leaves
IMPROBABLE = 0.01  # equal rows that chance would make, below which they are none of its making
COMPARED_DIGITS = 12  # of numbers that are compared: those beyond are left by arithmetic
GLANCE_ROWS = 2000  # rows that tell whether two columns could be the same, or one repeats


def table_remarks(table: Records, rows: Any, facts: Sequence[Facts]) -> Iterator[str]:
    """Yield remarks that take more than one column to make."""
    numeric = [
        f
        for f in facts
        if f.kind in ("number", "whole number") and f.distinct > 2 and not f.missing
    ]
    if len(numeric) > 1:
        yield from _multiples(table, rows, numeric)
    yield from _there_twice(table, rows, facts)


def _there_twice(table: Records, rows: Any, facts: Sequence[Facts]) -> Iterator[str]:
    """Yield rows that repeat an earlier one exactly, or in all but what tells rows apart."""
    names = [f.name for f in facts if f.kind != "not usable"]
    labels = [f.name for f in facts if f.kind == "id-like"]
    again = repeated_rows(table, rows, names)
    how = "exactly"
    if labels and not len(again):
        names = [name for name in names if name not in labels]
        again = repeated_rows(table, rows, names)
        # rows of few different values are alike by chance
        if not len(again) or not improbable(table, names, rows, again):
            return
        how = f"in all but {listed(labels)}"
    if len(again):
        rows_repeat = count(len(again), "row repeats", "rows repeat")
        yield f"{rows_repeat} an earlier row {how} ({listed(table.labels(again))})"


def improbable(table: Records, names: Sequence[str], rows: Any, again: np.ndarray) -> bool:
    """Return True if chance would hardly make two rows equal, by how often numbers are.

    ``again`` are positions of the rows that repeat others, which do not count for that."""
    positions = np.setdiff1d(np.arange(len(table))[rows], again)
    pairs = len(positions) * (len(positions) - 1) / 2
    for name in names:
        column = table.column(name)
        if column.kind == "number":
            x = column.numbers(positions)
            pairs *= _chance_of_equal(x[np.isfinite(x)])
    return pairs < IMPROBABLE


def _chance_of_equal(x: np.ndarray) -> float:
    """Return how often two cells of a column of numbers are equal.

    Where none are, about as often as the step that they are written in goes into their middle
    half."""
    n = len(x)
    if n < 2:
        return 1.0
    _, counts = np.unique(x, return_counts=True)
    equal = int(counts @ (counts - 1))
    if equal:
        return equal / (n * (n - 1))
    low, high = np.quantile(x, (0.25, 0.75))
    some = x[:: max(n // GLANCE_ROWS, 1)]
    step = min(_step(value) for value in some.tolist())
    return min(1.0, step / max(float(high - low), step))


def _step(number: float) -> float:
    """Return the unit of the last digit that a number is written with: 0.01 of 3.25."""
    mantissa, _, exponent = f"{number:.{COMPARED_DIGITS - 1}e}".partition("e")
    return 10.0 ** (int(exponent) - len(mantissa.rstrip("0").partition(".")[2]))


def _multiples(table: Records, rows: Any, numeric: Sequence[Facts]) -> Iterator[str]:
    """Yield pairs of columns of which one is the other times a number, or that and a constant."""
    positions = np.arange(len(table))[rows]
    some = positions[:: max(1, len(positions) // GLANCE_ROWS)]
    X = np.column_stack([table.column(f.name).numbers(some) for f in numeric])
    with np.errstate(all="ignore"):
        Z = (X - X.mean(axis=0)) / X.std(axis=0)
        close = np.abs(np.triu(Z.T @ Z, 1)) / len(Z) > 1 - 1e-9
    for i, j in np.argwhere(close):
        x, y = (table.column(numeric[at].name).numbers(rows) for at in (i, j))
        away = x - x.mean()
        slope = float(away @ (y - y.mean()) / (away @ away))
        constant = float(y.mean() - slope * x.mean())
        size = float(np.abs(y).max())
        if np.abs(y - constant - slope * x).max() > max(
            ROUNDED * float(y.std()), SAME_COLUMN * size
        ):
            continue
        a, b = numeric[i].name, numeric[j].name
        if abs(constant) <= max(1e-6 * size, SAME_COLUMN):
            words = f"{b} is {value(slope, 7)} × {a}"
        else:
            words = (
                f"{b} is {value(constant, 6)} {'+' if slope > 0 else '−'} {value(abs(slope), 7)} "
                f"× {a}"
            )
        yield f"{words}: a model can use only one of them"


def repeated_rows(table: Records, rows: Any, names: Sequence[str]) -> np.ndarray:
    """Return positions of rows that repeat an earlier row in every one of these columns."""
    if len(names) < 2:
        return np.empty(0, dtype=int)
    tells = _tells_apart(table, rows, names)
    if tells is None:
        tells = _random_sums(table, rows, names)
    # rows that agree so far are compared cell by cell
    ordered = np.sort(tells)
    twice = np.unique(ordered[1:][ordered[1:] == ordered[:-1]])
    if not len(twice):
        return np.empty(0, dtype=int)
    positions = np.arange(len(table))[rows]
    suspects = np.flatnonzero(np.isin(tells, twice))
    frame = table.frame[list(names)].iloc[positions[suspects]]
    return np.asarray(positions[suspects[frame.duplicated().to_numpy()]])


def _tells_apart(table: Records, rows: Any, names: Sequence[str]) -> np.ndarray | None:
    """Return the cells of a column of numbers that hardly repeat; None where there is none."""
    for name in names:
        column = table.column(name)
        if column.kind != "number":
            continue
        x = column.numbers(rows)
        few = x[:GLANCE_ROWS]
        if len(np.unique(few)) == len(few) and np.isfinite(x).all():
            return x
    return None


def _random_sums(table: Records, rows: Any, names: Sequence[str]) -> np.ndarray:
    """Return a random sum of all cells of each row, which tells rows apart cheaply."""
    weights = np.random.default_rng(1).standard_normal(len(names))
    sums = np.zeros(len(np.arange(len(table))[rows]))
    for weight, name in zip(weights, names, strict=True):
        column = table.column(name)
        if column.kind == "number":
            numbers = column.numbers(rows)
        else:
            numbers = column.codes(rows).astype(float)
        if not np.isfinite(numbers).all():
            numbers = np.where(np.isfinite(numbers), numbers, -0.5)
        sums += weight * numbers
    return sums
