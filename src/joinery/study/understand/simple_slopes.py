"""The slope of one predictor at values, or levels, of another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery import advice
from joinery.core.inference import intervals
from joinery.data.columns import level_text
from joinery.data.records import Records, records
from joinery.data.written_dates import date_text, stamps_of
from joinery.errors import CallError, listed, one_of
from joinery.show.numbers import level_words, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import Held, averaged_rows, check_named, held_note, hold_rest, slopes_in
from joinery.study.read.coefficients import said_of_errors, statistic_name
from joinery.study.read.estimates import Combination, contrast

FEWEST, SPREAD_OUT = 4, 5  # round values of a moderator, and days, over its range
Hold = Mapping[str, Any] | None


@dataclass(frozen=True)
class Slopes:
    """The slope of a predictor at values of a moderator, with what it takes to say how sure."""

    fit: Fitted
    of: str
    across: str
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
    of: str,
    across: str,
    at: Sequence[Any] | None = None,
    *,
    hold: Hold = None,
    level: float | None = None,
    simultaneous: bool = False,
) -> Table:
    """The table of slopes. See ``Fit.simple_slopes``."""
    level = fit.level if level is None else checked_level(level)
    check_columns(fit, of, across)
    at = usual_values(fit, across) if at is None else at
    found = slopes_at(fit, of, across, at, hold, level, simultaneous=simultaneous)
    c = found.combination
    columns: dict[str, Any] = {
        "at": [shown_value(fit, across, v) for v in found.at] if across in fit.design.dates
        else list(found.at),
        "slope": c.values,
        "lower": found.lower,
        "upper": found.upper,
        "standard_error": c.standard_errors,
        statistic_name(fit): c.t,
        "p": c.p,
    }  # fmt: skip
    notes = [*said_of_errors(fit), *_said(found, simultaneous)]
    return Table(
        columns,
        title=f"Slope of {fit.words(of)} across {fit.words(across)}, with {level_words(level)} "
        f"intervals{on_scale(fit)}",
        notes=tuple(notes),
        kinds=dict.fromkeys(("slope", "lower", "upper", "standard_error"), "error")
        | {"at": "text" if isinstance(columns["at"][0], str) else "value"},
        headings={"at": fit.words(across)},
    )


def slopes_at(
    fit: Fitted,
    of: str,
    across: str,
    at: Sequence[Any],
    hold: Hold,
    level: float,
    *,
    simultaneous: bool,
) -> Slopes:
    """Slopes at values of the moderator, the rest held."""
    at = list(at)
    fixed = dict(hold or {})
    table = _moderator(fit, across, at)
    held = hold_rest(fit, table, fixed)
    D = averaged_rows(fit, held, np.arange(len(at)), slopes_in(of))
    c = contrast(fit, D)
    with np.errstate(all="ignore"):
        if simultaneous:
            dimensions = max(int(np.linalg.matrix_rank(D[:, fit.solution.kept])), 1)
            times = intervals.scheffe_times(level, dimensions, c.df)  # Bauer & Curran 2005
        else:
            times = intervals.t_times(level, c.df)
    return Slopes(fit, of, across, at, held, D, c, times)


def check_columns(fit: Fitted, of: str, across: str) -> None:
    for argument, name in (("of", of), ("across", across)):
        check_named(fit, [name], f" ({argument}) in the model")
    if of not in fit.design.seen:
        raise CallError(
            f"{of} is a category, which has no slope; ask for level_differences", argument="of"
        )
    if of == across:
        raise CallError(
            f"the slope of {of} across itself: give its value by {advice.option('hold')}, and "
            "another column to look across",
            argument="across",
        )


def _moderator(fit: Fitted, across: str, at: Sequence[Any]) -> Records:
    """A table of the moderator's values, one a row."""
    if not at:
        raise CallError("give at least one value of the moderator", argument="at")
    average = forecast_memory(fit).typical[across]
    if isinstance(average, dict):
        levels = [level_text(v) for v in at]
        for name in levels:
            one_of(across, name, tuple(average))
        return records({across: levels})
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
    """A category's levels, a number's few values, or round ones spread over its range."""
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
    """Four to ten round values inside a range."""
    if not high > low:
        return [low]
    power = 10.0 ** np.floor(np.log10(high - low))
    steps = [m * p for p in (power, power / 10) for m in (5, 2, 1)]
    first, last, step = next(
        (a, b, s)
        for s in steps
        for a, b in [(np.ceil(low / s - 1e-9), np.floor(high / s + 1e-9))]
        if b - a >= FEWEST - 1
    )
    return [float(f"{v:.12g}") for v in np.arange(first, last + 1) * step]


def _said(found: Slopes, simultaneous: bool) -> list[str]:
    fit = found.fit
    notes = held_note(fit, found.held)
    if simultaneous:
        notes.append("intervals hold for all values together: √(qF), q the dimensions they span")
    if not np.isfinite(found.combination.values).all():
        notes.append("empty where the model cannot tell the slope")
    outside = [
        v for v in found.at
        if found.across in fit.design.seen and not isinstance(v, str)
        and not fit.design.seen[found.across][0] <= v <= fit.design.seen[found.across][1]
    ]  # fmt: skip
    if outside:
        values = listed(shown_value(fit, found.across, v) for v in outside)
        notes.append(f"{fit.words(found.across)} {values} lies outside what was seen")
    if not _depends(found):
        notes.append(f"the slope does not depend on {fit.words(found.across)} in this model")
    return notes


def _depends(found: Slopes) -> bool:
    """Whether the slope can differ from value to value at all."""
    span = np.ptp(found.rows, axis=0)
    return bool((span > 1e-12 * np.abs(found.rows).max(axis=0, initial=0.0)).any())


def on_scale(fit: Fitted) -> str:
    if fit.link.name != "identity":
        return f", on the scale of {fit.link.name}"
    return f", of {fit.response.name}" if fit.response.transformed else ""


def shown_value(fit: Fitted, name: str, v: Any) -> str:
    if isinstance(v, str):
        return v
    return date_text(float(v)) if name in fit.design.dates else value(float(v), 4)
