"""Parts of dates: years and hours as numbers, months, weekdays and quarters as levels."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class DatePart:
    """One part of a date: whole numbers from ``first`` on, and the names of its levels."""

    of_days: Callable[[np.ndarray], np.ndarray]  # from whole days since 1970, or days with a share
    first: int = 0
    names: tuple[str, ...] = ()  # in calendar order; empty for a number


def _calendar_days(days: np.ndarray) -> np.ndarray:
    return np.asarray(np.floor(days).astype("int64").astype("datetime64[D]"))


def _months(days: np.ndarray) -> np.ndarray:
    return np.asarray(_calendar_days(days).astype("datetime64[M]").astype("int64") % 12 + 1)


def _quarters(days: np.ndarray) -> np.ndarray:
    return np.asarray((_months(days) + 2) // 3)


def _weekdays(days: np.ndarray) -> np.ndarray:
    # 1970-01-01 was a Thursday; Monday is 1
    return np.asarray((np.floor(days).astype("int64") + 3) % 7 + 1)


def _years(days: np.ndarray) -> np.ndarray:
    return np.asarray(_calendar_days(days).astype("datetime64[Y]").astype("int64") + 1970)


def _hours(days: np.ndarray) -> np.ndarray:
    # a day's share in doubles may lie a hair below the hour that it stands for
    return np.asarray(np.floor((days - np.floor(days)) * 24 + 1e-6).astype("int64"))


MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September",
    "October", "November", "December",
)  # fmt: skip
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
DATE_PARTS = {
    "month": DatePart(_months, 1, MONTHS),
    "weekday": DatePart(_weekdays, 1, WEEKDAYS),
    "quarter": DatePart(_quarters, 1, ("Q1", "Q2", "Q3", "Q4")),
    "year": DatePart(_years),
    "hour": DatePart(_hours),
}


def date_part(name: str, days: np.ndarray) -> np.ndarray:
    """Return a part of dates in days since 1970: float (m,), NaN where a date is missing."""
    known = np.isfinite(days)
    out = np.full(len(days), np.nan)
    out[known] = DATE_PARTS[name].of_days(days[known])
    return out
