"""The season that dates suggest: weekdays, months, quarters, hours."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from joinery.notation.tree import spelled
from joinery.study.check.added import added, indicators, of_used
from joinery.study.check.check import ORDER, Line
from joinery.study.check.sequence import Sequence, order_option
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.support import advice as say


def season(fit: Fitted, known: Sequence) -> Iterator[Line]:
    """Yield the season that dates suggest, added to the model: weekdays, months, quarters,
    hours."""
    table, chosen = rows_at_hand(fit)
    column = table.column(known.name)
    if column.kind != "date":
        return
    days = column.numbers(chosen.rows)
    ordered = days[known.places]
    step = float(np.median(np.abs(np.diff(ordered))))
    cycle = next((s for s in SEASONS if s.least <= step <= s.most), None)
    if cycle is None or len(days) < 3 * cycle.length:
        return
    codes = cycle.of(days)
    Z = indicators(codes, cycle.length)[:, 1:]
    test = added(fit, of_used(Z), [np.arange(cycle.length - 1)])[0]
    yield Line(
        "season",
        "order",
        ORDER,
        f"{cycle.name}s of {known.name} added (F)",
        test,
        finding=f"rows of one {cycle.name} are alike",
        advise=lambda: f"add it: {_adding(fit, cycle, known)}",
        small=0.02,
        large=0.2,
    )


def _adding(fit: Fitted, cycle: Season, known: Sequence) -> str:
    """Return the call that adds the season as a category made of the dates."""
    return say.change(add=f"{cycle.name}({spelled(known.name)})", **order_option(fit, known))


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
