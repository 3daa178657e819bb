"""The one place where numbers become text for people."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

MINUS = "−"
MOST_DECIMALS = 9  # of a share short of one
DIGITS = 4  # significant, for people: a figure's last one is then below its uncertainty


def figure(value: Any, digits: int = DIGITS) -> str:
    """Return a number to so many significant digits, whole digits never cut: 0.01234, 12.34,
    123456."""
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    if math.isinf(value):
        return (MINUS if value < 0 else "") + "∞"
    if value == 0:
        return "0"
    if value == round(value) and abs(value) < 1e9:
        return fixed(value, 0)
    size = math.floor(math.log10(abs(value)))
    if size >= 9 or size < -5:
        return scientific(value, digits)
    return fixed(value, max(digits - 1 - size, 0))


def value(number: Any, digits: int = DIGITS) -> str:
    """Return a value as measured, to at most so many significant digits: 0.61, not 0.6100."""
    text = figure(number, digits)
    if "." in text and "e" not in text:
        return text.rstrip("0").rstrip(".")
    return text


def fixed(value: float, decimals: int) -> str:
    """Return a number with so many decimals; a rounded zero carries no sign."""
    if value is None or math.isnan(value):
        return ""
    text = f"{abs(value):.{decimals}f}"
    negative = value < 0 and any(c in "123456789" for c in text)
    return (MINUS if negative else "") + text


def scientific(value: float, digits: int = 3) -> str:
    """Return a number with a power of ten: ``−2.15e−6``."""
    if value == 0 or not math.isfinite(value):
        return figure(value)
    mantissa, exponent = f"{abs(value):.{max(digits - 1, 0)}e}".split("e")
    if value < 0:
        sign = MINUS
    else:
        sign = ""
    if exponent.startswith("-"):
        low = MINUS
    else:
        low = ""
    return f"{sign}{mantissa}e{low}{exponent.lstrip('+-').lstrip('0') or '0'}"


def decimals_for(size: float, digits: int) -> int | None:
    """Return decimals that show a number of this size to so many significant digits.

    None where powers of ten are needed.
    """
    if not size or math.isnan(size) or math.isinf(size):
        return 0
    place = math.floor(math.log10(abs(size)))
    if place >= 9 or place < -5:
        return None
    return max(digits - 1 - place, 0)


def column(values: Sequence[Any], digits: int = DIGITS) -> list[str]:
    """Return a column of numbers with equal decimals, enough for the largest's significant
    digits."""
    finite = [abs(v) for v in values if v is not None and math.isfinite(v)]
    if all(v == int(v) for v in finite) and max(finite, default=0) < 1e9:
        return [
            "" if v is None or math.isnan(v) else figure(v) if math.isinf(v) else fixed(v, 0)
            for v in values
        ]
    decimals = decimals_for(max(finite), digits)
    if decimals is None:
        return [figure(v, digits) for v in values]
    return [
        figure(v) if v is not None and math.isinf(v) else "" if v is None else fixed(v, decimals)
        for v in values
    ]


def p_value(p: Any) -> str:
    """Return a p-value to two significant digits, ``< 0.001`` below that.

    One that would round onto 0.05 gets the digits that tell it from that."""
    if p is None or math.isnan(p):
        return ""
    if p < 0.001:
        return "< 0.001"
    if p < 0.995:
        decimals = max(1 - math.floor(math.log10(p)), 2)
    else:
        decimals = 2
    while decimals < 12 and p != 0.05 and float(fixed(p, decimals)) == 0.05:
        decimals += 1
    return fixed(p, decimals)


def p_phrase(p: float) -> str:
    """Return a p-value inside a sentence: ``p = 0.013``, ``p < 0.001``."""
    text = p_value(p)
    if text.startswith("<"):
        return f"p {text}"
    return f"p = {text}"


def interval(lower: float, upper: float, decimals: int | None) -> str:
    """Return an interval: ``[10.1, 14.5]``, with decimals as ``to_decimals`` takes them."""
    if any(v is None or math.isnan(v) for v in (lower, upper)):
        return ""
    return f"[{interval_end(lower, decimals)}, {interval_end(upper, decimals)}]"


def interval_end(end: float, decimals: int | None) -> str:
    """Return an end of an interval; one that would round onto zero gets the digit that decides
    it."""
    text = to_decimals(end, decimals)
    if end and math.isfinite(end) and not any(c in "123456789" for c in text):
        return figure(end, 1)
    return text


def with_error(value: float, error: float, digits: int | None = None) -> int | None:
    """Return decimals for a figure known to within ``error``: two significant digits of the
    error."""
    if digits is not None:
        return decimals_for(value, digits)
    if math.isnan(error) or error <= 0:
        if not math.isfinite(value) or value == round(value):
            return 0
        return decimals_for(value, DIGITS)
    return decimals_for(error, 2)


def to_decimals(value: float, decimals: int | None) -> str:
    """Return a number with so many decimals, or with a power of ten where decimals will not do."""
    if decimals is None:
        return scientific(value)
    return fixed(value, decimals)


def percent(share: float) -> str:
    """Return a share as a percentage: ``71 %``; one decimal near the ends, and never 100 short of
    all."""
    if math.isnan(share):
        return ""
    if 0 < share < 0.001:
        return "less than 0.1 %"
    near = 0 < share < 0.01 or 0.99 < share < 1
    return f"{short_of(share, 100, 1 if near else 0)} %"


def short_of(share: float, times: int, decimals: int) -> str:
    """Return a share times something to so many decimals, more where it would round up to all of
    it."""
    text = fixed(times * share, decimals)
    while 0 < share < 1 and float(text) >= times and decimals < MOST_DECIMALS:
        decimals += 1
        text = fixed(times * share, decimals)
    return text


def level_words(level: float) -> str:
    """Return 0.95 as ``95 %``."""
    return f"{100 * level:.10g} %"


def count(n: int, word: str, plural: str | None = None) -> str:
    """Return ``1 row``, ``12 rows``."""
    return f"{n:,} {word if n == 1 else plural or word + 's'}"


def plain_cells(values: Sequence[Any] | np.ndarray) -> list[Any]:
    """Return a column's cells as plain Python values."""
    return values.tolist() if isinstance(values, np.ndarray) else list(values)


def telling_step(sd: float) -> float:
    """Return a round step of a predictor of that standard deviation, for which a ratio says
    something.

    One unit where that is a fair share of the spread; else 1, 2 or 5 times a power of ten, no
    more than the standard deviation.
    """
    if not (math.isfinite(sd) and sd > 0) or 0.5 <= sd < 20:
        return 1.0
    power = 10.0 ** math.floor(math.log10(sd))
    return power * max(m for m in (1, 2, 5) if m * power <= sd * (1 + 1e-9))
