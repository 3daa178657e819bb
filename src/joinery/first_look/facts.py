"""Facts of one column, and remarks on what is odd about it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from joinery.core.numeric.triangular import power_of_two
from joinery.data.columns import Column, level_text
from joinery.first_look.ruler import ruler
from joinery.first_look.slips import far_cells, misspelt
from joinery.notation.tree import spelled
from joinery.show.numbers import count, percent, value
from joinery.support import advice

LEVELS_TOLD = 4  # levels of a category that are shown with their counts
# numbers that sheets have where a cell should be empty
STAND_INS = (-1.0, -9.0, -99.0, -999.0, -9999.0, -99999.0, 99.0, 999.0, 9999.0, 99999.0)
CODED = -9.0  # a lone value from here down, below amounts that are never negative, is a code
HEAVY_TAIL = 2.0  # skewness of an exponential: beyond it a logarithm is worth a look
# a column of dates by its name, in some languages, and days of 1954 to 2119 as spreadsheets count
_DATED = re.compile(
    r"(?<![^\W_])(date|day|datum|tag|fecha|data|jour|dia|dato)(?![^\W_])", re.IGNORECASE
)
SHEET_DAYS = (20_000, 80_000)
SHEET_START = np.datetime64("1899-12-30")  # their day 0
MANY_MISSING = 0.9  # a share of the rows: a column of so many empty cells is remarked on
FEW_DISTINCT = 7  # different values of a whole number that may be levels
MOSTLY_DIFFERENT, FEW_TEXTS = 0.5, 10  # share of the cells, and count, beyond which texts are prose
SUMMED_TOGETHER = 65536  # sorted values whose powers are summed while they are in cache


@dataclass(frozen=True)
class Facts:
    """One column's figures, its values in short, a ruler from least to greatest, and remarks.

    NaN where a figure means nothing.
    """

    name: str
    kind: str
    count: int
    missing: int
    distinct: float  # NaN where a table is read as needed and they are many
    mean: float = np.nan
    standard_deviation: float = np.nan
    minimum: float = np.nan
    median: float = np.nan
    maximum: float = np.nan
    values: str = ""
    ruler: str = ""
    remarks: tuple[str, ...] = field(default=())
    skew: float = np.nan


def facts(column: Column, rows: Any) -> Facts:
    """Return the facts of one column over some rows."""
    if column.kind in ("number", "date"):
        return _of_numbers(column, rows)
    return _of_levels(column, rows)


def _of_numbers(column: Column, rows: Any) -> Facts:
    everything = column.numbers(rows)
    ordered = np.sort(everything)  # NaN last
    if len(ordered) and np.isnan(ordered[-1]):
        n = int(np.searchsorted(ordered, np.nan))
    else:
        n = len(ordered)
    ordered = ordered[:n]
    missing = len(everything) - n
    if not n:
        return Facts(
            column.name,
            "empty",
            0,
            missing,
            0,
            remarks=(f"{column.name} has no values at all",),
        )
    fresh = np.append(True, ordered[1:] != ordered[:-1])
    figures: dict[str, Any] = {
        "count": n,
        "missing": missing,
        "distinct": int(np.count_nonzero(fresh)),
    }
    if column.kind == "date":
        return date_facts(column, figures, float(ordered[0]), float(ordered[-1]))
    figures["ruler"] = ruler(ordered)
    figures |= _moments(ordered)
    # values that are nearly all different need no counting, which takes as long as the rest
    few = figures["distinct"] <= n // 2
    if few:
        starts = np.flatnonzero(fresh)
    else:
        starts = np.arange(n)
    distinct = ordered[starts] if few else ordered  # nearly all different: none is repeated often
    if few:
        repeats = np.diff(np.append(starts, n))
    else:
        repeats = None
    integral = bool(
        np.all(distinct[:1000] == np.round(distinct[:1000]))
        and np.all(distinct == np.round(distinct))
    )
    if integral:
        kind = "whole number"
    else:
        kind = "number"
    far = [cells.words for cells in far_cells(column, everything, ordered)]
    remarks = [
        *about(column, figures),
        *far,
        *_about_numbers(column.name, ordered, distinct, repeats, figures, integral, bool(far)),
    ]
    return Facts(column.name, kind, **figures, remarks=tuple(remarks))


def date_facts(column: Column, figures: dict[str, Any], low: float, high: float) -> Facts:
    """Return the facts of a column of dates."""
    first, last = (np.datetime64(int(np.floor(v)), "D") for v in (low, high))
    figures |= {"values": f"{first} to {last}"}
    return Facts(column.name, "date", **figures, remarks=tuple(about(column, figures)))


def _moments(ordered: np.ndarray) -> dict[str, float]:
    """Return mean, spread, skewness, median and ends of sorted values, a few thousand at a time."""
    n, unit = len(ordered), unit_of(ordered[0], ordered[-1])
    with np.errstate(all="ignore"):
        mean = float((ordered / unit).mean())
        # powers of some thousands at a time, while they are in cache
        square = cube = 0.0
        for start in range(0, n, SUMMED_TOGETHER):
            away = ordered[start : start + SUMMED_TOGETHER] / unit - mean
            squares = away * away
            square += float(squares.sum())
            cube += float(squares @ away)
        if n > 1:
            sd = float(np.sqrt(square / (n - 1)))
        else:
            sd = float("nan")
        if n > 2 and sd > 0:
            skew = cube / n / sd**3
        else:
            skew = float("nan")
    middle = float(ordered[(n - 1) // 2] / 2 + ordered[n // 2] / 2)
    ends = {"minimum": float(ordered[0]), "median": middle, "maximum": float(ordered[-1])}
    return {"mean": mean * unit, "standard_deviation": sd * unit, "skew": skew} | ends


def unit_of(low: float, high: float) -> float:
    """Return a power of two near the size of values between two ends, which squares need."""
    return float(power_of_two(np.array([max(abs(low), abs(high))]))[0])


def _of_levels(column: Column, rows: Any) -> Facts:
    codes = column.codes(rows)
    present = codes[codes >= 0]
    places, counts = np.unique(present, return_counts=True)
    return level_facts(column, places, counts, len(codes) - len(present))


def level_facts(column: Column, places: np.ndarray, counts: np.ndarray, missing: int) -> Facts:
    """Return the facts of a category: which levels stand in how many rows, and how many have
    none."""
    figures: dict[str, Any] = {
        "count": int(counts.sum()),
        "missing": missing,
        "distinct": len(places),
    }
    kind = column.kind
    if len(places):
        order = np.argsort(-counts, kind="stable")[:LEVELS_TOLD]
        shown = [f"{level_text(column.all_levels[places[i]])} {counts[i]:,}" for i in order]
        rest = len(places) - len(order)
        # each level once: a label of the rows, not a category
        if counts.max() == 1 and len(places) > LEVELS_TOLD:
            if kind == "category":
                kind = "id-like"
            figures["values"] = f"all different: {level_text(column.all_levels[places[0]])}, …"
        else:
            figures["values"] = ", ".join(shown) + (f" and {rest} more" if rest else "")
            if kind == "category" and _is_prose(column, places, counts):
                kind = "text"
    remarks = list(about(column, figures))
    if column.is_text:
        levels = [column.all_levels[place] for place in places]
        remarks += misspelt(column.name, levels, counts.tolist())
        if not column.trouble:  # which tells of its marks itself
            remarks += _bare_marks(column.name, levels, counts.tolist())
    return Facts(column.name, kind, **figures, remarks=tuple(remarks))


def _bare_marks(name: str, levels: Sequence[str], counts: Sequence[int]) -> Iterator[str]:
    """Yield a remark for each level of signs alone, among levels that are written out."""
    marks = [level for level in levels if not any(sign.isalnum() for sign in level)]
    if len(levels) - len(marks) < 2:
        return
    for level, times in zip(levels, counts, strict=True):
        if level in marks:
            yield (
                f"{name} is {level!r} in {count(times, 'row')}: where that stands for a missing "
                f"cell, say so: {advice.reading('empty', level)}"
            )


def _is_prose(column: Column, places: np.ndarray, counts: np.ndarray) -> bool:
    """Return True for a column that reads as free text: many cells, most of them different."""
    return bool(len(places) > MOSTLY_DIFFERENT * counts.sum() and len(places) > FEW_TEXTS)


# ------------------------------------------------------------------ remarks


def about(column: Column, figures: dict[str, Any]) -> Iterator[str]:
    """Yield what is odd about a column of any kind."""
    name, n, missing = column.name, figures["count"], figures["missing"]
    if n == 0:
        yield f"{name} has no values at all"
    elif figures["distinct"] == 1 and missing and n > 1:
        yield (
            f"{name} has one value in {n:,} rows and none in {missing:,}, which a fit leaves out: "
            "where an empty cell means no, write that into it"
        )
    elif figures["distinct"] == 1 and n > 1:
        yield f"{name} is the same in every row, so it can explain nothing"
    if n and missing >= MANY_MISSING * (n + missing):
        yield f"{name} is nearly all missing: {count(n, 'value')} in {n + missing:,} rows"
    if column.trouble:
        yield f"{column.not_numbers()}; mend those cells to use it as a number"
    elif column.note:
        yield f"{name}: {column.note}"
    yield from (f"{name}: {remark}" for remark in column.remarks)


def _about_numbers(
    name: str,
    ordered: np.ndarray,
    distinct: np.ndarray,
    repeats: np.ndarray | None,
    figures: dict[str, Any],
    integral: bool,
    far: bool,
) -> Iterator[str]:
    n = figures["count"]
    low, high = float(ordered[0]), float(ordered[-1])
    if _DATED.search(name) and SHEET_DAYS[0] <= low and high <= SHEET_DAYS[1]:
        first, last = (SHEET_START + np.timedelta64(int(day), "D") for day in (low, high))
        yield (
            f"{name} is {value(low)} to {value(high)}: if these are days as spreadsheets count "
            f"them, they are {first} to {last}; write them as dates to have months and weekdays"
        )
    stand_in = stand_in_of(ordered)
    if stand_in is not None:
        times = int(np.count_nonzero(ordered == stand_in))
        yield stand_in_words(name, stand_in, times)
    elif (
        not far
        and np.isfinite(figures["skew"])
        and figures["skew"] > HEAVY_TAIL
        and ordered[0] > 0
        and len(distinct) > FEW_DISTINCT
    ):
        # a logarithm is advised only where it takes at least half of the skewness away
        logs = np.log(ordered)
        away = logs - logs.mean()
        if abs(float((away**3).mean() / away.std() ** 3)) < figures["skew"] / 2:
            yield long_tail(name, figures["skew"])
    if repeats is not None and not integral and n >= 20 and len(distinct) > FEW_DISTINCT:
        common = int(np.argmax(repeats))
        if repeats[common] >= max(0.3 * n, 5):
            yield (
                f"{name} is {value(float(distinct[common]))} in {percent(repeats[common] / n)} "
                "of its rows"
            )
    if distinct.tolist() == [0.0, 1.0]:
        yield zero_or_one(name)
    if integral and 2 < len(distinct) <= FEW_DISTINCT and n >= 5 * len(distinct):
        yield few_values(name, len(distinct))


def stand_in_of(ordered: np.ndarray) -> float | None:
    """Return a value such as 999 or −1 that lies outside all the others, or None.

    One that stands alone must lie farther out: by the whole range of the others.
    """
    for candidate, rest in ((ordered[0], "above"), (ordered[-1], "below")):
        if candidate not in STAND_INS:
            continue
        first, last = (
            np.searchsorted(ordered, candidate, "left"),
            np.searchsorted(ordered, candidate, "right"),
        )
        if rest == "above":
            others = ordered[last:]
        else:
            others = ordered[:first]
        if len(others) < 3:
            continue
        is_integral = bool(np.all(others == np.round(others)))
        ends = float(others[0]), float(others[-1])
        if has_stand_in(float(candidate), int(last - first), *ends, is_integral):
            return float(candidate)
    return None


def has_stand_in(candidate: float, times: int, low: float, high: float, is_integral: bool) -> bool:
    """Return True if a value that stands so many times lies too far from the others' ends to be
    one."""
    gap = min(abs(candidate - low), abs(candidate - high))
    negative = candidate < 0 < low and is_integral
    negative |= candidate <= CODED and low >= 0  # −9 alone among amounts
    return gap > high - low or negative or (times > 1 and low >= 0 > candidate)


def stand_in_words(name: str, stand_in: float, times: int) -> str:
    away = f"{spelled(name)} != {stand_in:g}"
    return (
        f"{name} is {value(stand_in)} in {count(times, 'row')}, far from its other values: if "
        f"that stands for a missing value, leave them out with {advice.option('where', away)}"
    )


def long_tail(name: str, skew: float) -> str:
    return f"{name} has a long tail to the right (skewness {value(skew, 2)}): try log({name})"


def zero_or_one(name: str) -> str:
    name = spelled(name)
    return (
        f"{name} is 0 or 1: as a response write ({name} = 1), and the chance of it is modelled; as "
        "a predictor its slope is the difference between the two groups"
    )


def few_values(name: str, distinct: int) -> str:
    return f"{name} has {distinct} different values: category({name}) would treat them as groups"
