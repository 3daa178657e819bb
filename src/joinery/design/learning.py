"""Learning of functions and factors from the rows of a fit, in passes over some rows at a time.

A fit's rows may be more than memory holds, so nothing here asks for a whole column: means, spreads
and extremes are sums over stretches of rows, quantiles are found by counting. Stretches are cut
the same way wherever the rows lie, so the same bits are learnt."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import reduce
from typing import Any

import numpy as np

from joinery.core.blocks.order_statistics import Counted, quantiles
from joinery.core.blocks.partition import Partition
from joinery.data.columns import Column, Swept, level_text, swept
from joinery.data.records import Records
from joinery.data.sources.source import STRETCH
from joinery.design.levels import coded
from joinery.notation.context import EVERY_ROW, Context, Memory, Rows
from joinery.notation.evaluate import LEARNT, evaluate
from joinery.notation.tree import Call, Expression, Name
from joinery.notation.walk import calls_in, lags_in, named_in
from joinery.support.errors import UnusableColumnError
from joinery.support.limits import MOST_RANKED

Learnt = dict[str, Any]
Piece = tuple[Context, np.ndarray | None]  # some rows, and how often each stands (None: once)


@dataclass(frozen=True)
class Learner:
    """The rows that are learnt from, each standing ``counts`` times, and what is known already.

    ``order`` is the column that puts rows in sequence, for lags."""

    table: Records
    rows: Rows
    memory: Memory
    order: str | None = None
    counts: np.ndarray | None = None

    @property
    def rows_are_all(self) -> bool:
        """Return True if every row of the table is learnt from."""
        return isinstance(self.rows, slice) and self.rows == EVERY_ROW

    @property
    def stretches(self) -> Partition[Piece]:
        """Some rows at a time, with how often each stands."""
        return self.cut(STRETCH)

    def cut(self, size: int) -> Partition[Piece]:
        """Return the rows, so many at a time, with how often each stands."""
        cuts = self.table.cuts(self.rows, size)
        full = Context(self.table, self.rows, self.memory, order=self.order)

        def make(i: int, workspace: np.ndarray | None) -> Piece:
            start, stop = int(cuts[i]), int(cuts[i + 1])
            if self.counts is None:
                counts = None
            else:
                counts = self.counts[start:stop]
            return full.between(start, stop), counts

        return Partition(len(cuts) - 1, make, runner=self.table.runner_of(self.rows, cuts))

    def values(self, expression: Expression) -> Partition[Counted]:
        """Return an expression's values, none missing, with how often each stands."""
        self.know([expression])

        def present(piece: Piece) -> Counted:
            context, counts = piece
            x = evaluate(expression, context)
            here = ~np.isnan(x)
            if here.all():
                return x, counts
            return x[here], None if counts is None else counts[here]

        return self.stretches.map(present)

    def know(self, expressions: Iterable[Expression]) -> None:
        """Learn every function inside expressions, the innermost first."""
        for expression in expressions:
            self.know_lags(expression)
            for call in calls_in(expression):
                if str(call) in self.memory:
                    continue
                if call.function == "pooled":
                    self.memory[str(call)] = self._frequent(call)
                elif call.function in LEARNT:
                    values = self.values(call.arguments[0])
                    self.memory[str(call)] = _LEARN[call.function](values, call)

    def _frequent(self, call: Call) -> Learnt:
        """Return the levels that have enough rows, and whether any have not."""
        least = call.option("least")
        assert isinstance(least, float)

        def counted(piece: Piece) -> tuple[np.ndarray, list[str]]:
            context, counts = piece
            codes, names = coded(call.arguments[0], context)
            times = np.ones(len(codes)) if counts is None else counts
            each = np.bincount(codes + 1, times, len(names) + 1)[1:]
            return each, [level_text(name) for name in names]

        totals: dict[str, float] = {}
        for each, names in self.stretches.each(counted):
            for name, n in zip(names, each.tolist(), strict=True):
                totals[name] = totals.get(name, 0.0) + n
        seen = {name: n for name, n in totals.items() if n}
        kept = [name for name, n in seen.items() if n >= least]
        return {"kept": kept, "pooled": len(kept) < len(seen)}

    def know_lags(self, expression: Expression) -> None:
        """Learn what stands inside lags: of the whole table, whichever rows are used."""
        for call in lags_in(expression):
            everywhere = Learner(self.table, EVERY_ROW, self.memory, self.order)
            everywhere.know(call.arguments)

    def exists(self, expression: Expression) -> None:
        """Raise UnusableColumnError where an expression does not exist in some row."""
        self.know([expression])
        if not self.table.read_as_needed:  # all rows at once, so that all are counted
            evaluate(expression, Context(self.table, self.rows, self.memory, order=self.order))
            return
        for _ in self.stretches.each(lambda piece: evaluate(expression, piece[0]) is None):
            pass

    def ends(self, expression: Expression) -> tuple[float, float]:
        """Return the least and greatest value of an expression, NaN where it has none."""
        if isinstance(expression, Name):
            column = self.table.column(expression.name)
            at_hand = column.swept is not None or not self.table.read_as_needed
            if self.rows_are_all and at_hand and column.sound:
                return column.sweep_result.low, column.sweep_result.high
            if not self.table.read_as_needed:
                low, high = ends_of(column.numbers(self.rows))
                if low <= high:  # else a cell is missing, or there are none
                    return low, high
        return ends(self.values(expression))


def sweep(table: Records, expressions: Iterable[Expression]) -> None:
    """Tell a table that is read as needed what its columns hold: all of them in one pass."""
    if not table.read_as_needed:
        return
    names = named_in(expressions)
    table.expect(list(names))
    wanted = [n for n in names if table.column(n).swept is None and not table.column(n).trouble]
    collected = dict.fromkeys(wanted, Swept(True, np.inf, -np.inf))
    if not wanted:
        return

    def of_piece(piece: Piece) -> list[Swept]:
        return [_swept(table.column(name), piece[0].rows) for name in wanted]

    for parts in Learner(table, EVERY_ROW, {}).stretches.each(of_piece):
        for name, part in zip(wanted, parts, strict=True):
            so_far = collected[name]
            collected[name] = Swept(
                so_far.sound and part.sound,
                min(so_far.low, part.low),
                max(so_far.high, part.high),
            )
    table.keep_sweeps(collected)


def _swept(column: Column, rows: Rows) -> Swept:
    if column.values is None:
        return Swept(not column.missing(rows).any(), np.nan, np.nan)
    return swept([column.numbers(rows)])


# ------------------------------------------------------------------ sums over stretches


def ends(values: Partition[Counted]) -> tuple[float, float]:
    """Return the least and greatest of values, NaN of none."""
    low, high = np.inf, -np.inf
    for least, greatest in values.each(lambda piece: ends_of(piece[0])):
        low, high = min(low, least), max(high, greatest)
    if low <= high:
        return (low, high)
    return (float("nan"), float("nan"))


def ends_of(x: np.ndarray) -> tuple[float, float]:
    """Return the least and greatest of values (m,): NaN where one is missing, ∞ and −∞ of none."""
    return float(x.min(initial=np.inf)), float(x.max(initial=-np.inf))


def summed(values: Partition[Counted], what: Callable[[np.ndarray], np.ndarray]) -> float:
    """Return Σ counts·what(x)."""

    def of_piece(piece: Counted) -> float:
        x, counts = piece
        each = what(x)
        return float((each if counts is None else each * counts).sum())

    return reduce(lambda total, part: total + part, values.each(of_piece), 0.0)


def mean(values: Partition[Counted]) -> tuple[float, float]:
    """Return the mean, correct to rounding (a second mean, of what the first leaves, is added), and
    Σ."""
    n = summed(values, np.ones_like)
    if not n:
        return float("nan"), 0.0
    first = summed(values, lambda x: x) / n
    return first + summed(values, lambda x: x - first) / n, n


def _centre(values: Partition[Counted], call: Call) -> Learnt:
    return {"mean": mean(values)[0]}


def _scale(values: Partition[Counted], call: Call) -> Learnt:
    low, high = ends(values)
    size = max(abs(low), abs(high))  # what is 10²⁰⁰ cannot be squared
    middle, n = mean(values)
    sd = 0.0
    if n > 1 and size > 0:
        squares = summed(values, lambda x: ((x - middle) / size) ** 2)
        sd = float(np.sqrt(squares / (n - 1))) * size
    if not sd:
        raise UnusableColumnError(
            f"{call}: {call.arguments[0]} does not vary, so it cannot be divided by its spread"
        )
    return {"mean": middle, "sd": sd}


def _ranks(values: Partition[Counted], call: Call) -> Learnt:
    """Return distinct values with their mean ranks; new values interpolate between them."""
    distinct: np.ndarray = np.empty(0)
    each: np.ndarray = np.empty(0)
    for x, counts in values.each(_distinct):
        both, place = np.unique(np.append(distinct, x), return_inverse=True)
        each = np.bincount(place, np.append(each, counts), len(both)).astype(float)
        distinct = both
        if len(distinct) > MOST_RANKED:
            raise UnusableColumnError(
                f"{call}: {call.arguments[0]} has more than {MOST_RANKED:,} different values, and "
                "the fit would have to remember the rank of each; take bands() or a log of it"
            )
    last = np.cumsum(each)
    return {"values": distinct.tolist(), "ranks": (last - (each - 1) / 2).tolist()}


def _distinct(piece: Counted) -> tuple[np.ndarray, np.ndarray]:
    x, counts = piece
    distinct, place = np.unique(x, return_inverse=True)
    return distinct, np.bincount(place, weights=counts, minlength=len(distinct)).astype(float)


_LEARN: dict[str, Callable[[Partition[Counted], Call], Learnt]] = {
    "centred": _centre,
    "standardized": _scale,
    "rank": _ranks,
}


# ------------------------------------------------------------------ curves


def learn_polynomial(values: Partition[Counted], degree: int, name: str) -> Learnt:
    """Return the three-term recurrence of polynomials orthogonal over values (Forsythe 1957).

    Returns {"centre", "alpha": [degree], "norm2": [degree + 1], "degree"}. Raises
    UnusableColumnError when there are too few distinct values."""
    few: set[float] = set()
    for some in values.each(lambda piece: np.unique(piece[0])[: degree + 1].tolist()):
        few.update(some)
    if len(few) <= degree:
        raise UnusableColumnError(
            f"{name}: a polynomial of degree {degree} needs {degree + 1} distinct values, and "
            f"there are {len(few)}"
        )
    n = summed(values, np.ones_like)
    centre = summed(values, lambda x: x) / n
    alpha: list[float] = []
    norm2 = [n]

    def last_two(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the polynomials of the last two degrees at x (m,)."""
        z = x - centre
        before, now = np.zeros(len(z)), np.ones(len(z))
        for j, a in enumerate(alpha):
            if j:
                b = norm2[j] / norm2[j - 1]
            else:
                b = 0.0
            before, now = now, (z - a) * now - b * before
        return before, now

    for _ in range(degree):
        alpha.append(summed(values, lambda x: (x - centre) * last_two(x)[1] ** 2) / norm2[-1])
        norm2.append(summed(values, lambda x: last_two(x)[1] ** 2))
    return {"centre": centre, "alpha": alpha, "norm2": norm2, "degree": degree}


def inner_knots(values: Partition[Counted], columns: int) -> list[float]:
    """Return quantiles of the values that cut them into so many equal shares."""
    shares = np.arange(1, columns) / columns
    if len(shares):
        return [float(q) for q in quantiles(values, shares)]
    return []
