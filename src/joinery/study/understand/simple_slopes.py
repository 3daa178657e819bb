"""The slope of one predictor at values, or levels, of another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from joinery.core.inference import intervals
from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.data.written_dates import date_text, stamps_of
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import (
    Held,
    check_named,
    held_note,
    level_cell,
)
from joinery.study.read.coefficients import error_notes
from joinery.study.read.estimates import (
    SPANNED,
    Combination,
    Together,
    contrast,
    contrast_in_basis,
    statistic_name,
    together,
)
from joinery.study.understand.moves import Move, Of, move_of
from joinery.support import advice
from joinery.support.errors import CallError, listed, one_of

SLOPE_PLACES = 65  # at which the slopes that could be asked for are spanned
FEWEST, SPREAD_OUT = 4, 5  # round values of a moderator, and days, over its range
Hold = Mapping[str, Any] | None


@dataclass(frozen=True)
class Slopes:
    """The slope of a predictor at values of a moderator, with what it takes to say how sure."""

    question: SlopesAcross
    at: Sequence[Any]
    held: Held
    rows: np.ndarray  # derivatives of the design columns (m, width)
    combination: Combination
    times: np.ndarray  # how many standard errors an end lies away (m,)

    @property
    def lower(self) -> np.ndarray:
        return np.asarray(self.combination.values - self.times * self.combination.standard_errors)

    @property
    def upper(self) -> np.ndarray:
        return np.asarray(self.combination.values + self.times * self.combination.standard_errors)


def simple_slopes(
    fit: Fitted,
    of: Of,
    across: str,
    at: Sequence[Any] | None = None,
    *,
    hold: Hold = None,
    level: float | None = None,
    simultaneous: bool = False,
) -> Table:
    """Return the table of slopes. See ``Fit.simple_slopes``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    move = check_columns(fit, of, across)
    if at is None:
        at = usual_values(fit, across)
    result = SlopesAcross(fit, of, across, hold, level, simultaneous).at(list(at))
    c = result.combination
    columns: dict[str, Any] = {
        "at": [shown_value(fit, across, v) for v in result.at] if across in fit.design.dates
        else list(result.at),
        "slope": c.values,
        "lower": result.lower,
        "upper": result.upper,
        "standard_error": c.standard_errors,
        statistic_name(fit): c.t,
        "p": c.p,
    }  # fmt: skip
    notes = [*error_notes(fit), *_notes_of(result)]
    return Table(
        columns,
        title=f"{_capital(move.words)} across {fit.words(across)}, with {level_words(level)} "
        f"intervals{on_scale(fit)}",
        notes=tuple(notes),
        appearance=Appearance(
            kinds=dict.fromkeys(("slope", "lower", "upper", "standard_error"), "error")
            | {"at": "text" if isinstance(columns["at"][0], str) else "value"},
            headings={"at": fit.words(across)}
            | ({} if move.column is not None else {"slope": "difference"}),
        ),
    )


@dataclass(frozen=True)
class SlopesAcross:
    """The question of a predictor's slopes across a moderator, to be asked at values of it."""

    fit: Fitted
    of: Of
    across: str
    hold: Hold
    level: float
    simultaneous: bool

    @cached_property
    def move(self) -> Move:
        return move_of(self.fit, self.of)

    def at(self, values: Sequence[Any]) -> Slopes:
        """Return the slopes at some values, the rest held."""
        held, rows = self._derivatives(values)
        c = contrast(self.fit, rows)
        if self.joint is None:
            times = intervals.t_times(self.level, c.df)
        else:
            # one multiplier for every value that could be asked for, so that looking at many costs
            # nothing
            times = np.full(len(rows), self.joint.times)
        return Slopes(self, list(values), held, rows, c, times)

    @cached_property
    def joint(self) -> Together | None:
        """The multiplier of intervals that hold for all values at once, where that is asked."""
        if self.simultaneous:
            return together(self.fit, self.reach, self.level)
        return None

    @cached_property
    def reach(self) -> np.ndarray:
        """Every slope that could be asked for, as combinations in the basis (r, rank).

        At each level of a category, or at places all over the seen range of a number: never at the
        values that happen to be asked (Bauer & Curran 2005).
        """
        fit, across = self.fit, self.across
        if across in fit.design.seen:
            low, high = fit.design.seen[across]
            values: Sequence[Any] = np.linspace(low, high, SLOPE_PLACES).tolist()
        else:
            values = usual_values(fit, across)
        return contrast_in_basis(fit, self._derivatives(values)[1])

    @property
    def moderated(self) -> bool:
        """Return True if the slope can differ from value to value at all."""
        span = np.ptp(self.reach, axis=0)
        return bool((span > SPANNED * np.abs(self.reach).max(initial=0.0)).any())

    def _derivatives(self, values: Sequence[Any]) -> tuple[Held, np.ndarray]:
        """Return the held table, and the derivatives of the design's columns (m, width)."""
        return self.move.rows(moderator(self.fit, self.across, values), self.hold)


def check_columns_of(fit: Fitted, of: str) -> None:
    """Raise CallError or UnknownColumnError for a predictor that is no number of the model."""
    check_named(fit, [of], " (of) in the model")
    if of not in fit.design.seen:
        raise CallError(f"{of} is a category, and values are asked of a number", argument="of")


def check_columns(fit: Fitted, of: Of, across: str) -> Move:
    """Return what moves. Raises CallError where it has no slope across that column."""
    move = move_of(fit, of)
    check_named(fit, [across], " (across) in the model")
    if across in move.columns:
        raise CallError(
            f"the {move.words} across itself: give its value by {advice.option('hold')}, and "
            "another column to look across",
            argument="across",
        )
    return move


def moderator(fit: Fitted, across: str, at: Sequence[Any]) -> Records:
    """Return a table of the moderator's values, one a row."""
    if not at:
        raise CallError("give at least one value of the moderator", argument="at")
    average = forecast_memory(fit).typical[across]
    if isinstance(average, dict):
        levels = [level_text(v) for v in at]
        for name in levels:
            one_of(across, name, tuple(average))
        return records({across: [level_cell(fit, across, level) for level in levels]})
    if across in fit.design.dates:
        return records({across: [str(v) for v in at]}) if isinstance(at[0], str) else records(
            {across: stamps_of(np.asarray(at, float))}
        )  # fmt: skip
    try:
        return records({across: np.asarray(at, float)})
    except (TypeError, ValueError):
        raise CallError(
            f"{across} is a number, and {listed(map(repr, at))} are not all numbers", argument="at"
        ) from None


def usual_values(fit: Fitted, across: str) -> list[Any]:
    """Return a category's levels, a number's few values, or round ones spread over its range."""
    memory = forecast_memory(fit)
    average = memory.typical[across]
    if isinstance(average, dict):
        return list(average)
    if across in memory.few:
        return list(memory.few[across])
    low, high = fit.design.seen[across]
    if across in fit.design.dates:
        return list(np.linspace(low, high, SPREAD_OUT).tolist())
    return spread_out(low, high)


def spread_out(low: float, high: float) -> list[float]:
    """Return four to ten round values inside a range."""
    if not high > low:
        return [low]
    # the largest of the steps 5, 2 and 1 that puts enough round values inside
    power = 10.0 ** np.floor(np.log10(high - low))
    steps = [m * p for p in (power, power / 10) for m in (5, 2, 1)]
    first, last, step = next(
        (a, b, s)
        for s in steps
        for a, b in [(np.ceil(low / s - 1e-9), np.floor(high / s + 1e-9))]
        if b - a >= FEWEST - 1
    )
    decimals = max(1 - int(np.floor(np.log10(step))), 0)
    return [round(float(v), decimals) for v in np.arange(first, last + 1) * step]


def _notes_of(result: Slopes) -> list[str]:
    wanted = result.question
    fit, across = wanted.fit, wanted.across
    notes = held_note(fit, result.held)
    if wanted.joint is None:
        notes.append("each interval answers for its own value alone")
    else:
        notes.append(wanted.joint.words("all values"))
    if not np.isfinite(result.combination.values).all():
        notes.append("empty where the model cannot tell the slope")
    outside = [
        v for v in result.at
        if across in fit.design.seen and not isinstance(v, str)
        and not fit.design.seen[across][0] <= v <= fit.design.seen[across][1]
    ]  # fmt: skip
    if outside:
        values = listed(shown_value(fit, across, v) for v in outside)
        notes.append(f"{fit.words(across)} {values} lies outside what was seen")
    if not wanted.moderated:
        notes.append(
            f"the {wanted.move.words} does not depend on {fit.words(across)} in this model"
        )
    return notes


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def on_scale(fit: Fitted) -> str:
    if fit.link.name != "identity":
        return f", on the scale of {fit.link.name}"
    if fit.response.transformed:
        return f", of {fit.response.name}"
    return ""


def shown_value(fit: Fitted, name: str, v: Any) -> str:
    if isinstance(v, str):
        return v
    if name in fit.design.dates:
        return date_text(float(v))
    return value(float(v), 4)
