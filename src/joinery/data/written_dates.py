"""Dates as people write them, in one order of day, month and year down a column.

Dates are days since 1970 wherever they are numbers, and ISO text wherever they are read."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import numpy as np
import pandas as pd

from joinery.support import advice

DATES = ("day first", "month first")
_CLOCK = r"(?:[ T](\d{1,2}):(\d{2})(?::(\d{2})(?:\.(\d{1,9}))?)?)?"
_ZONE = re.compile(r"(.*:\d{2}(?:\.\d+)?) ?(Z|[+-]\d{2}(?::?\d{2})?)")
UNIVERSAL = "times of several time zones are read in universal time (UTC)"
_ISO = re.compile(r"(\d{4})-(\d{1,2})-(\d{1,2})" + _CLOCK)
_PARTS = re.compile(r"(\d{1,2})([./-])(\d{1,2})\2(\d{4})" + _CLOCK)
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_FULL = "january february march april may june july august september october november december"
_MONTH = {name: place for place, name in enumerate(MONTHS, 1)} | {"sept": 9}
_MONTH |= {name: place for place, name in enumerate(_FULL.split(), 1)}
_NAME = rf"({'|'.join(sorted(_MONTH, key=len, reverse=True))})\.?"
_DAY = r"(\d{1,2})(?:st|nd|rd|th|\.)?"
_DAY_NAMED = re.compile(rf"{_DAY}[ -]?{_NAME},?[ -]?(\d{{4}}){_CLOCK}", re.IGNORECASE)
_NAMED_DAY = re.compile(rf"{_NAME} {_DAY},? (\d{{4}}){_CLOCK}", re.IGNORECASE)
_NAMED_MONTH = re.compile(rf"{_NAME},?[ /-]?(\d{{4}})", re.IGNORECASE)
_MONTH_OF = re.compile(r"(\d{4})[-/](\d{2})")
_QUARTER = re.compile(r"Q([1-4])[ /-]?(\d{4})|(\d{4})[ /-]?Q([1-4])", re.IGNORECASE)
_WEEK = re.compile(r"(\d{4})-?W(\d{2})", re.IGNORECASE)  # of ISO 8601
_CLOCK_ALONE = re.compile(r"\d{1,3}:[0-5]\d(?::[0-5]\d)?")
UNDATED = "may be a time of day or a duration; write a number, in hours or minutes"
PERIODS = "periods are read as the day each begins"
DOTTED = "dates with dots are read with the day first"
_PER_DAY = {"D": 1, "h": 24, "m": 1440, "s": 86_400, "ms": 86_400_000, "us": 86_400_000_000}
_PER_DAY |= {"ns": 86_400_000_000_000}


@dataclass(frozen=True)
class DateReading:
    """Texts as dates: ``stamps`` (n,) to the microsecond; None, with ``trouble``, if unsettled."""

    stamps: np.ndarray | None
    note: str | None = None
    trouble: str | None = None


def _unsettled() -> str:
    ways = (advice.reading("dates", way) for way in DATES)
    return f"day or month may come first; settle it with {' or '.join(ways)}"


def read_dates(texts: Sequence[str], order: str | None = None) -> DateReading | None:
    """Return distinct texts as dates; None when not all of them are.

    2024-05-31, 31 May 2024 and May 31, 2024 are read as they are; 31.05.2024 and 5/31/2024 where
    the days tell which comes first, or ``order`` (one of ``DATES``) does, and dots have the day
    first. May 2024, 2024-05, Q2 2024 and 2024-W20 are the day each begins. Years go from 1 to 9999.
    """
    bare = [t.strip() for t in texts]
    if not bare or not any(character.isdigit() for character in bare[0]):
        return None
    if (named := _named(bare)) is not None:
        return named
    if _matches(_CLOCK_ALONE, bare):
        return DateReading(None, trouble=f"{bare[0]!r} {UNDATED}")
    if _ZONE.fullmatch(bare[0]):
        return _zoned(bare, order)
    if iso := _matches(_ISO, bare):
        return _stamped([(m[1], m[2], m[3], *m.groups()[3:]) for m in iso])
    parts = _matches(_PARTS, bare)
    signs = {m[2] for m in parts}
    if len(signs) != 1:
        return None
    first, second = (max(int(m[i]) for m in parts) for i in (1, 3))
    if first > 12 and second > 12:
        return None
    unsettled = first <= 12 and second <= 12
    if order is None and unsettled and signs != {"."}:
        return DateReading(None, trouble=_unsettled())
    if order:
        day_first, note = order == "day first", None
    elif unsettled:
        day_first, note = True, f"{DOTTED}; {advice.reading('dates', 'month first')} changes it"
    else:
        day_first = first > 12
        note = f"dates are read with the {'day' if day_first else 'month'} first"
    day, month = (1, 3) if day_first else (3, 1)
    return _stamped([(m[4], m[month], m[day], *m.groups()[4:]) for m in parts], note)


def _named(texts: list[str]) -> DateReading | None:
    """Return dates whose month has a name, and months and quarters, which are the day each
    begins."""
    if parts := _matches(_DAY_NAMED, texts):
        return _stamped([(m[3], _month(m[2]), m[1], *m.groups()[3:]) for m in parts])
    if parts := _matches(_NAMED_DAY, texts):
        return _stamped([(m[3], _month(m[1]), m[2], *m.groups()[3:]) for m in parts])
    if parts := _matches(_NAMED_MONTH, texts):
        return _begun([(m[2], _month(m[1])) for m in parts])
    if parts := _matches(_QUARTER, texts):
        return _begun([(m[2] or m[3], 3 * int(m[1] or m[4]) - 2) for m in parts])
    if parts := _matches(_WEEK, texts):
        return _weeks([(int(m[1]), int(m[2])) for m in parts])
    if parts := _matches(_MONTH_OF, texts):
        months = [(m[1], int(m[2])) for m in parts]
        # 2001-02, 2002-03 are years that begin in one and end in the next
        if len(months) > 1 and all((int(year) + 1) % 100 == month for year, month in months):
            return None
        return _begun(months)
    return None


def _matches(form: re.Pattern[str], texts: list[str]) -> list[re.Match[str]]:
    """Return the parts of texts that are all of one form; none where one is not."""
    if not form.fullmatch(texts[0]):  # most columns are told by their first text
        return []
    parts = [form.fullmatch(text) for text in texts]
    if not all(parts):
        return []
    return [match for match in parts if match]


def _month(name: str) -> int:
    return _MONTH[name.casefold()]


def _begun(months: list[tuple[str, int]]) -> DateReading | None:
    """Return the first days of months."""
    return _stamped([(year, month, 1, None, None, None, None) for year, month in months], PERIODS)


def _weeks(weeks: list[tuple[int, int]]) -> DateReading | None:
    """Return the Mondays of weeks of a year; None where a year has no such week."""
    try:
        days = [date.fromisocalendar(year, week, 1).isoformat() for year, week in weeks]
    except ValueError:
        return None
    return DateReading(np.array(days, dtype="datetime64[us]"), PERIODS)


def _zoned(texts: list[str], order: str | None) -> DateReading | None:
    """Return times that end in their time zone: by their own clock where it is one, else
    universal."""
    apart = [_ZONE.fullmatch(t) for t in texts]
    if not all(apart):
        return None
    reading = read_dates([m[1] for m in apart if m], order)
    if reading is None or reading.stamps is None:
        return reading
    zones, stamps = [m[2] for m in apart if m], reading.stamps
    note = f"times are those of their own clock ({zones[0]})"
    if len(set(zones)) > 1:
        ahead = np.array([_minutes_ahead(zone) for zone in zones])
        note, stamps = UNIVERSAL, stamps - ahead.astype("timedelta64[m]")
    return DateReading(stamps, "; ".join(filter(None, (reading.note, note))))


def _minutes_ahead(zone: str) -> int:
    """Return how many minutes a zone is ahead of universal time: 120 for +02:00, 0 for Z."""
    if zone == "Z":
        return 0
    digits = zone[1:].replace(":", "")
    minutes = 60 * int(digits[:2]) + int(digits[2:] or 0)
    return -minutes if zone[0] == "-" else minutes


def _stamped(parts: list[tuple[str | Any, ...]], note: str | None = None) -> DateReading | None:
    """Return dates of (year, month, day, hour, minute, second, fraction); None when one does not
    exist."""
    if any(int(part[0]) < 1 for part in parts):
        return None
    texts = [
        f"{year}-{int(month):02}-{int(day):02}"
        f"T{int(hour or 0):02}:{minute or '00'}:{second or '00'}.{(fraction or '0')[:6]}"
        for year, month, day, hour, minute, second, fraction in parts
    ]
    try:
        return DateReading(np.array(texts, dtype="datetime64[us]"), note)
    except ValueError:
        return None


def in_days(spans: np.ndarray) -> np.ndarray:
    """Return dates (since 1970) or durations of any unit as days, each (n,); NaN where missing."""
    per_day = _PER_DAY[np.datetime_data(spans.dtype)[0]]
    return np.where(np.isnat(spans), np.nan, spans.astype(np.int64) / per_day)


def stamps_of(days: np.ndarray) -> np.ndarray:
    """Return the dates of days since 1970, to the microsecond; not-a-time for NaN."""
    known = np.isfinite(days)
    integral = np.round(np.where(known, days, 0.0) * _PER_DAY["us"]).astype(np.int64)
    return np.where(known, integral.astype("datetime64[us]"), np.datetime64("NaT", "us"))


def date_text(days: float) -> str:
    """Return a date as people read it: 2024-03-01, with the time of day where it has one."""
    return date_texts(np.array([days]))[0]


def date_texts(days: np.ndarray) -> list[str]:
    """Return the same of many (n,)."""
    return [_for_people(text) for text in stamps_of(days).astype(str).tolist()]


def _for_people(stamp: str) -> str:
    """Return a date without the parts of its time of day that are zero; nothing for no date."""
    if stamp == "NaT":
        return ""
    day, _, clock = stamp.partition("T")
    if clock.endswith((":00", "0")):
        clock = re.sub(r"(:00)?(\.0+)?$", "", clock)
    if clock in ("", "00:00", "00"):
        return day
    return f"{day} {clock}"


def written_dates(series: pd.Series, order: str | None) -> tuple[pd.Series, str | None] | None:
    """Return a text column as dates with a note, or None when it is none."""
    codes, distinct = pd.factorize(series)
    reading = read_dates([str(v) for v in distinct], order)
    if reading is None:
        return None
    if reading.stamps is None:
        return series, reading.trouble
    stamps = np.append(reading.stamps, np.datetime64("NaT", "us"))[codes]
    return pd.Series(stamps, index=series.index, name=series.name), reading.note
