"""A response in groups: the levels of a category, or ranges of a number."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.blocks.order_statistics import quantiles
from joinery.design.learning import Learner
from joinery.notation.context import Context, Rows
from joinery.notation.evaluate import evaluate
from joinery.show.numbers import value

RANGES = 4  # into which a number is cut where its response is looked at by ranges


@dataclass(frozen=True)
class Spreads:
    """Spread of values in each of some groups, each (groups,): sums that add up over parts.

    Sums are in a ``unit`` in which squares exist."""

    n: np.ndarray
    middle: np.ndarray
    second: np.ndarray  # Σ(value − middle)²
    unit: float

    @classmethod
    def of(cls, values: np.ndarray, at: np.ndarray, size: int, unit: float) -> Spreads:
        n, values = np.bincount(at, minlength=size), values / unit
        middle = np.bincount(at, values, size) / np.maximum(n, 1)
        away = values - middle[at]
        return cls(n, middle, np.bincount(at, away * away, size), unit)

    def __add__(self, other: Spreads) -> Spreads:
        n = self.n + other.n
        share, apart = other.n / np.maximum(n, 1), other.middle - self.middle
        second = self.second + other.second + apart**2 * self.n * share
        return Spreads(n, self.middle + apart * share, second, self.unit)

    @property
    def mean(self) -> np.ndarray:
        return self.middle * self.unit

    @property
    def deviation(self) -> np.ndarray:
        """Standard deviations, NaN of fewer than two values."""
        with np.errstate(all="ignore"):
            spread = np.sqrt(np.where(self.n > 1, self.second / (self.n - 1.0), np.nan))
        return np.asarray(spread * self.unit)


@dataclass(frozen=True)
class Grouped:
    """The response in each of some groups: parts of the rows, which add up."""

    heights: Spreads
    sums: np.ndarray  # (1 or 2, groups) of the response and of its total
    ends: np.ndarray  # (2, groups) the least and the largest number in a range

    def __add__(self, other: Grouped) -> Grouped:
        low, high = np.minimum(self.ends[0], other.ends[0]), np.maximum(self.ends[1], other.ends[1])
        sums = self.sums + other.sums
        return Grouped(self.heights + other.heights, sums, np.array([low, high]))


@dataclass(frozen=True)
class Across:
    """The response in each group of a factor."""

    labels: list[str]
    grouped: Grouped

    def rows(self, kind: str) -> list[dict[str, Any]]:
        """Return a line for each group that has rows."""
        places = np.flatnonzero(self.grouped.heights.n)
        return [{"group": self.labels[p], **self._line(int(p), kind)} for p in places]

    def _line(self, place: int, kind: str) -> dict[str, Any]:
        heights = self.grouped.heights
        n = int(heights.n[place])
        if kind == "plain":
            mean, deviation = heights.mean[place], heights.deviation[place]
            return {"n": n, "mean": float(mean), "standard_deviation": float(deviation)}
        events, total = self.grouped.sums[:, place].tolist()
        if total > 0:
            share = events / total
        else:
            share = np.nan
        if kind == "of":
            logit = float(empirical_logit(np.array([events]), np.array([total]))[0])
            more = {"proportion": share, "empirical_logit": logit}
            return {"n": n, "events": events, "total": total, **more}
        return {"n": n, "events": events, "exposure": total, "rate": share}


@dataclass(frozen=True)
class Levels:
    """The levels of a category, whose ``codes`` in some rows can be had."""

    names: list[str]
    codes: Callable[[Rows], np.ndarray]

    @property
    def count(self) -> int:
        return len(self.names)

    def place(self, rows: Rows) -> tuple[np.ndarray, np.ndarray]:
        """Return the level of each of some rows, and the ends of what is in each: there are
        none."""
        return self.codes(rows), np.full((2, self.count), np.nan)

    def labels(self, result: Grouped) -> list[str]:
        return self.names


@dataclass(frozen=True)
class Ranges:
    """A number, whose ``values`` in some rows can be had, in ranges of about equally many rows.

    A number with ``few`` values keeps each as a group of its own."""

    values: Callable[[Rows], np.ndarray]
    cuts: np.ndarray
    few: bool

    @classmethod
    def of(cls, learner: Learner, number: Any, groups: int = RANGES) -> Ranges:
        values, distinct = learner.values(number), np.empty(0)

        def of_rows(rows: Rows) -> np.ndarray:
            return evaluate(number, Context(learner.table, rows, learner.memory))

        for some in values.each(lambda piece: _few_of(piece[0], groups + 3)):
            distinct = np.union1d(distinct, some)
            if len(distinct) > groups + 2:
                break
        else:
            return cls(of_rows, distinct, True)
        return cls(of_rows, np.unique(quantiles(values, np.arange(1, groups) / groups)), False)

    @property
    def count(self) -> int:
        return len(self.cuts) + (not self.few)

    def place(self, rows: Rows) -> tuple[np.ndarray, np.ndarray]:
        """Return the range of each of some rows, and the ends of what is in each (2, count)."""
        x = self.values(rows)
        at = np.searchsorted(self.cuts, x, side="left" if self.few else "right")
        if self.few:
            return at, np.array([self.cuts, self.cuts])
        inside = [x[at == place] for place in range(self.count)]
        low = [v.min(initial=np.inf) for v in inside]
        return at, np.array([low, [v.max(initial=-np.inf) for v in inside]])

    def labels(self, result: Grouped) -> list[str]:
        """Return each value, or the ends of each range as they were seen."""
        ends = result.ends.T.tolist()
        return [" to ".join(dict.fromkeys((value(low), value(high)))) for low, high in ends]


def _few_of(x: np.ndarray, most: int) -> np.ndarray:
    """Return the different values of x, or more than ``most`` of them where they are that many."""
    some = np.unique(x[:1000])
    if len(some) > most:
        return some
    return np.unique(x)


def inner_number(expression: Any) -> Any:
    """Return the number inside a curve: of spline(x) it is x."""
    if getattr(expression, "function", "") in ("spline", "polynomial"):
        return expression.arguments[0]
    return expression


def empirical_logit(events: np.ndarray, total: np.ndarray) -> np.ndarray:
    """Return log((events + ½)/(total − events + ½)) (Cox & Snell 1989, 2.1)."""
    return np.asarray(np.log((events + 0.5) / (total - events + 0.5)))
