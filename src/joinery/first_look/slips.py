"""Slips of the pen: a cell far from all the others, a level that is another one misspelt."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from joinery.data.columns import Column, level_text
from joinery.notation.tree import merging
from joinery.show.numbers import count, value
from joinery.support.errors import listed

LEAST_CELLS = 8  # of which one can be said to lie far from the others
TENFOLD = 9.0  # times the next: a decimal point one place off, and a little less
LOG_SPREADS = 4.0  # standard deviations of the logarithms, beyond which no skewness explains a cell
SUM_APART = 1e-5  # of a cell: how far the sum of the others may be from it, for rounding
NEAR_ZERO = 0.2  # of the median
SPREADS = 6.0  # standard deviations of the other cells
FARTHER = 2.0  # times as far from the middle of the others as the next cell on its side
RARE, OFTEN = 2, 8  # rows of a level that may be a slip, and times as many of the one meant
SHORT = 4  # letters: shorter levels are often one letter apart
MOST_COMPARED = 400  # levels
# cells in another unit: at most this share of a column, of at least so many different others, apart
# from them by as many times as they themselves differ, and by so many at least
APART_SHARE, LEAST_OTHERS, LEAST_TIMES = 0.3, 10, 5.0
ROUND_TIMES = 0.12  # decimal places off a power of ten that scatter leaves


class FarCells(NamedTuple):
    """Cells that lie far from all others of a column, in words, and the labels of their rows."""

    words: str
    labels: list[Any]


def far_cells(column: Column, cells: np.ndarray, ordered: np.ndarray) -> Iterator[FarCells]:
    """Yield the cells in another unit, else the least and greatest that lie far from the others.

    Parameters: the ``cells`` as they stand, and the known ones ``ordered``."""
    if len(ordered) < LEAST_CELLS or not np.isfinite(ordered[[0, -1]]).all():
        return
    apart = _another_unit(ordered)
    if apart is not None:
        labels = column.label_rows(np.flatnonzero(np.isin(cells, apart.cells)))
        which = f"{count(len(labels), 'cell')} of {column.name} ({listed(labels, 4)})"
        yield FarCells(f"{which}, {apart.words}: another unit?", list(labels))
        return
    for cell, rest, nearest in (
        (float(ordered[-1]), ordered[:-1], float(ordered[-2])),
        (float(ordered[0]), ordered[1:], float(ordered[1])),
    ):
        if nearest == cell:
            continue
        words = _far(cell, rest, nearest)
        if words:
            label = column.label_rows(np.flatnonzero(cells == cell)[:1])[0]
            yield FarCells(f"{column.name} is {value(cell)} in row {label}, {words}", [label])


@dataclass(frozen=True)
class Apart:
    """Cells of a column that stand apart from the others, and how many times larger they are."""

    cells: np.ndarray
    times: float

    @property
    def words(self) -> str:
        """``about 1,000 times the others``; a power of ten is written as one."""
        times, way = self.times, "times the others"
        if times < 1:
            times, way = 1 / times, "times smaller than the others"
        power = np.log10(times)
        if abs(power - round(power)) < ROUND_TIMES:
            times = 10.0 ** round(power)
        return f"about {float(f'{times:.2g}'):,.0f} {way}"


def _another_unit(ordered: np.ndarray) -> Apart | None:
    """Return the few cells of one sign that are a gap apart from all others, wider than those."""
    size = np.sort(np.abs(ordered))
    if ordered[0] <= 0 <= ordered[-1] or len(size) < 2 * LEAST_OTHERS:
        return None
    logs = np.log10(size)
    steps = np.diff(logs)
    at = int(np.argmax(steps)) + 1
    low, high = logs[:at], logs[at:]
    few, others = (high, low) if len(high) <= len(low) else (low, high)
    least = 2 if few is high else 3  # cells that come near zero lie many times apart there
    if not least <= len(few) <= APART_SHARE * len(logs) or len(np.unique(others)) < LEAST_OTHERS:
        return None
    if steps[at - 1] < max(np.ptp(low), np.ptp(high), np.log10(LEAST_TIMES)):
        return None
    times = float(10 ** (np.median(few) - np.median(others)))
    cells = ordered[np.isin(np.abs(ordered), size[at:] if few is high else size[:at])]
    return Apart(cells, times)


def _far(cell: float, rest: np.ndarray, nearest: float) -> str:
    """Return how far a cell lies from the rest, in words, or nothing."""
    median = float(rest[len(rest) // 2])
    positive = cell > 0 and rest[0] > 0
    if positive:
        times = max(cell / nearest, nearest / cell)
    else:
        times = 1.0
    if cell < nearest < NEAR_ZERO * median:
        times = 1.0  # numbers that come near zero lie many times apart there
    if abs(cell - rest.sum()) <= SUM_APART * abs(cell):
        return "the sum of all other cells: a total, and no row of the table?"
    if times < TENFOLD and abs(cell - median) < FARTHER * abs(nearest - median):
        return ""
    if positive:
        logs = np.log(rest)
        if abs(np.log(cell) - logs.mean()) < LOG_SPREADS * logs.std():
            return ""
    if times >= TENFOLD:
        if cell > nearest:
            which = "times the next largest"
        else:
            which = "times smaller than the next"
        return f"{value(times, 2)} {which}: is its decimal point where it belongs?"
    middle, spread = float(rest.mean()), float(rest.std())
    away, next_away = abs(cell - middle), abs(nearest - middle)
    if spread > 0 and away >= SPREADS * spread and away >= FARTHER * next_away:
        return f"{value(away / spread, 2)} standard deviations from the other cells"
    return ""


def misspelt(column: str, levels: Sequence[Any], counts: Sequence[int]) -> Iterator[str]:
    """Yield words on each rare level of a column that is a frequent one but for one letter."""
    if len(levels) > MOST_COMPARED:
        return
    names = [level_text(level) for level in levels]
    for rare, few in zip(names, counts, strict=True):
        if few > RARE or len(rare) < SHORT:
            continue
        for often, many in zip(names, counts, strict=True):
            if many >= OFTEN * few and one_letter_apart(rare, often):
                yield (
                    f"{column} {rare!r} ({count(int(few), 'row')}) is one letter from "
                    f"{often!r} ({count(int(many), 'row')}): if it is the same level, write "
                    f"{merging(column, {rare: often})}"
                )
                break


def one_letter_apart(a: str, b: str) -> bool:
    """Return True if one letter changed, added, left out or put before its neighbour parts texts.

    A digit is no letter: names that are numbered are meant to differ so. Nor are small and large
    letters two, of which something else is said."""
    if a.casefold() == b.casefold() or abs(len(a) - len(b)) > 1:
        return False
    shorter = min(len(a), len(b))
    start = next((i for i in range(shorter) if a[i] != b[i]), shorter)
    end = next((i for i in range(shorter - start) if a[-1 - i] != b[-1 - i]), shorter - start)
    left = a[start : len(a) - end], b[start : len(b) - end]
    letters = all(part.isalpha() for part in left if part)
    changed = max(map(len, left)) == 1
    swapped = len(left[0]) == 2 and left[0] == left[1][::-1]
    return letters and (changed or swapped)
