"""Dates as people write them, in one order of day, month and year down a column."""

from __future__ import annotations

import re

import numpy as np
import pandas as pd

DATES = ("day first", "month first")
_ISO = re.compile(r"(\d{4})-(\d{1,2})-(\d{1,2})(?:[ T]\d{1,2}:\d{2}(?::\d{2}(?:\.\d+)?)?)?")
_PARTS = re.compile(r"(\d{1,2})([./-])(\d{1,2})\2(\d{4})")


def written_dates(series: pd.Series, order: str | None) -> tuple[pd.Series, str | None] | None:
    """A text column as dates with a note, or None when it is none.

    2024-05-31 is read as it is; 31.05.2024 and 5/31/2024 where the days tell which comes first, or
    ``order`` does."""
    texts = [str(v).strip() for v in series.dropna().unique()]
    if not texts:
        return None
    if all(_ISO.fullmatch(t) for t in texts):
        return _parsed(series, None, None)
    matches = [_PARTS.fullmatch(t) for t in texts]
    if not all(matches):
        return None
    first, second = (max(int(m[i]) for m in matches if m) for i in (1, 3))
    if order is None and (first > 12) == (second > 12):
        return (
            None
            if first > 12
            else (series, 'day or month may come first; settle it with dates="day first"')
        )
    day_first = order == "day first" if order else first > 12
    mark = matches[0][2] if matches[0] else "."
    if any(m and m[2] != mark for m in matches):
        return None
    pattern = f"%d{mark}%m{mark}%Y" if day_first else f"%m{mark}%d{mark}%Y"
    note = None if order else f"dates are read with the {'day' if day_first else 'month'} first"
    return _parsed(series, pattern, note)


def _parsed(
    series: pd.Series, pattern: str | None, note: str | None
) -> tuple[pd.Series, str | None] | None:
    stripped = series.map(lambda v: v.strip() if isinstance(v, str) else v)
    try:
        return pd.to_datetime(stripped, format=pattern or "ISO8601"), note
    except (ValueError, TypeError, np.exceptions.DTypePromotionError):
        return None
