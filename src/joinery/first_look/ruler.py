"""A column of numbers on a ruler: ends, quarters and median on the column's own scale."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

import numpy as np

from joinery.show.numbers import value

TRACK = 24  # signs from the least to the greatest
FAR = 3.0  # times the middle half, beyond which a cell stands alone, as a dot
MOST_FAR = 40  # dots: more than the track has room for are a tail, and no single cells


def ruler(ordered: np.ndarray) -> str:
    """Return sorted values (n,), none missing, as ``0.61 ├──┤ 3.38 ├──────┤ · 11.4``."""
    if not len(ordered):
        return ""
    quarters = tuple(_at(ordered, share) for share in (0.0, 0.25, 0.5, 0.75, 1.0))
    return drawn(quarters, *alone(quarters, [apart(ordered, quarters)]))


def _at(ordered: np.ndarray, share: float) -> float:
    """Return a quantile of sorted values, linear between neighbours."""
    place = share * (len(ordered) - 1)
    before = int(place)
    after = min(before + 1, len(ordered) - 1)
    low, high = float(ordered[before]), float(ordered[after])
    return low + (high - low) * (place - before)


class Apart(NamedTuple):
    """Cells of some rows that stand alone, a few of them, and the ends of those that do not."""

    far: np.ndarray
    low: float
    high: float


def apart(x: np.ndarray, quarters: Sequence[float]) -> Apart:
    """Tell the cells that stand alone from the others, among some values."""
    reach = FAR * (quarters[3] - quarters[1])
    far = (x < quarters[1] - reach) | (x > quarters[3] + reach)
    near = x[~far]
    return Apart(x[far][: MOST_FAR + 1], near.min(initial=np.inf), near.max(initial=-np.inf))


def alone(
    quarters: Sequence[float], parts: Iterable[Apart]
) -> tuple[tuple[float, float], np.ndarray]:
    """Return the ends of the cells that do not stand alone, and those that do; none of many."""
    far, low, high = np.empty(0), np.inf, -np.inf
    for part in parts:
        far = np.append(far, part.far)[: MOST_FAR + 1]
        low, high = min(low, part.low), max(high, part.high)
    if not quarters[3] > quarters[1] or len(far) > MOST_FAR:
        return (quarters[0], quarters[4]), np.empty(0)
    return (float(low), float(high)), far


def drawn(
    quarters: Sequence[float], near: tuple[float, float], far: Sequence[float] | np.ndarray = ()
) -> str:
    """Return a ruler: brackets around the outer quarters of the rows, a gap for the middle half.

    Parameters: least, quarters and greatest; ``near`` the ends of the cells that do not stand
    alone; those that do are ``far``."""
    low, first, median, third, high = (float(q) for q in quarters)
    if not np.isfinite([low, high]).all() or not high > low:
        return ""

    def place(v: float) -> int:
        return round(TRACK * (float(v) - low) / (high - low))

    left = _dots(place(near[0]), 0, far, place) + _bracket(place(first) - place(near[0]))
    right = _bracket(place(near[1]) - place(third))
    right += _dots(TRACK - place(near[1]), place(near[1]), far, place)
    words = f" {value(median)} "
    room = max(place(third) - place(first) - len(words), 0)
    share = (median - first) / (third - first) if third > first else 0.5
    before = round(room * share)
    gap = " " * before + words + " " * (room - before)
    return f"{value(low)} {left}{gap}{right} {value(high)}"


def _bracket(long: int) -> str:
    return "├" + "─" * max(long - 2, 0) + "┤"


def _dots(
    long: int, start: int, far: Sequence[float] | np.ndarray, place: Callable[[float], int]
) -> str:
    """Return so many blanks from a place on, with a dot where a far cell lies."""
    signs = [" "] * long
    for v in far:
        at = place(v) - start
        if 0 <= at <= long and long:
            signs[min(at, long - 1)] = "·"
    return "".join(signs)
