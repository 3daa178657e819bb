"""The slope of one predictor across another: at values, and where it differs from zero."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np

from joinery import advice
from joinery.core.numeric import distributions as tails
from joinery.data.columns import level_text
from joinery.data.records import Records, records
from joinery.data.written_dates import date_text, stamps_of
from joinery.errors import CallError, UnknownColumnError, listed, one_of
from joinery.show.numbers import level_words, percent, value
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level, rows_at_hand
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import Held, averaged_rows, columns_of, held_words, hold_rest
from joinery.study.read.coefficients import said_of_errors, statistic_name
from joinery.study.read.estimates import Combination, contrast
from joinery.study.rows.figures import per_row

FEWEST, SPREAD_OUT = 4, 5  # round values of a moderator, and days, over its range
GRID = 801  # places at which a region is looked for
ABOVE, BELOW, UNCERTAIN = "above zero", "below zero", "not told from zero"
EXACT = 1e-9  # how straight in the moderator, for its size, a slope is that has two roots
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
    _check(fit, of, across)
    at = usual_values(fit, across) if at is None else at
    found = slopes_at(fit, of, across, at, hold, level, simultaneous=simultaneous)
    c = found.combination
    columns: dict[str, Any] = {
        "at": [_shown(fit, across, v) for v in found.at] if across in fit.design.dates
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
        f"intervals{_scale(fit)}",
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
    D = averaged_rows(fit, held, lambda context: fit.design.slopes(of, context), np.arange(len(at)))
    c = contrast(fit, D)
    with np.errstate(all="ignore"):
        if simultaneous:
            dimensions = max(int(np.linalg.matrix_rank(D[:, fit.solution.kept])), 1)
            times = _simultaneous(level, dimensions, c.df)
        else:
            times = np.asarray(tails.t_quantile((1 + level) / 2, np.where(c.df > 0, c.df, np.nan)))
    return Slopes(fit, of, across, at, held, D, c, times)


def _simultaneous(level: float, dimensions: int, df: np.ndarray) -> np.ndarray:
    """√(qF) of slopes that span q dimensions (Scheffé 1959; Bauer & Curran 2005 for q = 2)."""
    distinct, place = np.unique(df, return_inverse=True)
    quantiles = [tails.f_quantile(level, dimensions, d) if d > 0 else np.nan for d in distinct]
    return np.asarray(np.sqrt(dimensions * np.array(quantiles, float)[place]))


def _check(fit: Fitted, of: str, across: str) -> None:
    names = columns_of(fit)
    for argument, name in (("of", of), ("across", across)):
        if name not in names:
            raise UnknownColumnError(name, tuple(names), where=f" ({argument}) in the model")
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
    words = held_words(fit, found.held)
    notes = [f"held: {', '.join(words)}"] if words else []
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
        notes.append(
            f"{fit.words(found.across)} {listed(_shown(fit, found.across, v) for v in outside)} "
            "lies outside what was seen"
        )
    if not _depends(found):
        notes.append(f"the slope does not depend on {fit.words(found.across)} in this model")
    return notes


def _depends(found: Slopes) -> bool:
    """Whether the slope can differ from value to value at all."""
    span = np.ptp(found.rows, axis=0)
    return bool((span > 1e-12 * np.abs(found.rows).max(axis=0, initial=0.0)).any())


def _scale(fit: Fitted) -> str:
    if fit.link.name != "identity":
        return f", on the scale of {fit.link.name}"
    return f", of {fit.response.name}" if fit.response.transformed else ""


def _shown(fit: Fitted, name: str, v: Any) -> str:
    if isinstance(v, str):
        return v
    return date_text(float(v)) if name in fit.design.dates else value(float(v), 4)


# ------------------------------------------------------------------ regions


@dataclass(frozen=True)
class Region:
    """A stretch of the moderator in which the slope is one of the three."""

    start: float
    stop: float
    slope_is: str


def slope_regions(
    fit: Fitted,
    of: str,
    across: str,
    *,
    hold: Hold = None,
    level: float | None = None,
    simultaneous: bool = False,
) -> Table:
    """Where the slope differs from zero. See ``Fit.slope_regions``."""
    level = fit.level if level is None else checked_level(level)
    _check(fit, of, across)
    if across not in fit.design.seen:
        raise CallError(
            f"{across} is a category, and regions are of a number; simple_slopes gives the slope "
            "at each level",
            argument="across",
        )

    def at(values: Sequence[float]) -> Slopes:
        return slopes_at(fit, of, across, values, hold, level, simultaneous=simultaneous)

    stretches = regions(fit, across, at)
    shares = _shares(fit, across, stretches)
    shown: Callable[[float], Any] = (
        (lambda v: date_text(v)) if across in fit.design.dates else (lambda v: v)
    )
    found = at([stretches[0].start])
    words = held_words(fit, found.held)
    notes = [sentence(fit, of, across, stretches, shares)]
    notes += [f"held: {', '.join(words)}"] if words else []
    notes += ["the stretches are cut at the ends of what was seen"]
    notes += ["they hold for all values together"] if simultaneous else []
    notes += ["a loaded fit keeps no rows to count"] if shares is None else []
    return Table(
        {
            "from": [shown(r.start) for r in stretches],
            "to": [shown(r.stop) for r in stretches],
            "slope_is": [r.slope_is for r in stretches],
            "share_of_rows": np.full(len(stretches), np.nan) if shares is None else shares,
        },
        title=f"Where the slope of {fit.words(of)} differs from zero across {fit.words(across)}, "
        f"at {level_words(level)}{_scale(fit)}",
        notes=(*said_of_errors(fit), *notes),
        kinds={"from": "own", "to": "own", "slope_is": "text", "share_of_rows": "share"},
        headings={"slope_is": "the slope is", "share_of_rows": "share of rows"},
    )


def regions(fit: Fitted, across: str, at: Callable[[Sequence[float]], Slopes]) -> list[Region]:
    """The stretches from one end of the seen range to the other, or one a value where few."""
    few = forecast_memory(fit).few.get(across)
    low, high = fit.design.seen[across]
    if few is not None or not high > low:
        values = list(few or (low,))
        return [Region(v, v, s) for v, s in zip(values, _verdicts(at(values)), strict=True)]
    ends = _roots(at, low, high)
    edges = [low, *ends, high]
    middles = [(a + b) / 2 for a, b in pairwise(edges)]
    out: list[Region] = []
    for (a, b), verdict in zip(pairwise(edges), _verdicts(at(middles)), strict=True):
        if out and out[-1].slope_is == verdict:
            out[-1] = Region(out[-1].start, b, verdict)
        elif b > a:
            out.append(Region(a, b, verdict))
    return out


def _verdicts(found: Slopes) -> list[str]:
    return [
        ABOVE if low > 0 else BELOW if high < 0 else UNCERTAIN
        for low, high in zip(found.lower, found.upper, strict=True)
    ]


def _roots(at: Callable[[Sequence[float]], Slopes], low: float, high: float) -> list[float]:
    """Where an end of the interval is zero: by the quadratic (Johnson & Neyman 1936), else sought.

    A slope straight in the moderator, with the same degrees of freedom throughout, has
    b² = c²·var, of second degree, which gives both roots at once.
    """
    middle = (low + high) / 2
    three = at([low, middle, high])
    D, times = three.rows, three.times
    bend = np.abs(D[1] - (D[0] + D[2]) / 2)
    straight = (bend <= EXACT * (np.abs(D).max(axis=0) + 1e-300)).all()
    if straight and np.allclose(times, times[0], rtol=1e-14):
        return _quadratic_roots(at, low, high, float(times[0]))
    return _sought(at, low, high)


def _quadratic_roots(
    at: Callable[[Sequence[float]], Slopes], low: float, high: float, times: float
) -> list[float]:
    # b and the variance at three places settle b² − c²·var as a parabola in u from −1 to 1
    middle, half = (low + high) / 2, (high - low) / 2
    c = at([low, middle, high]).combination
    h = c.values**2 - (times * c.standard_errors) ** 2
    if not np.isfinite(h).all():
        return []
    a, b = (h[0] + h[2]) / 2 - h[1], (h[2] - h[0]) / 2
    roots = np.roots(np.trim_zeros(np.array([a, b, h[1]]), "f"))
    inside = sorted(float(r.real) for r in roots if abs(r.imag) < 1e-12 and -1 < r.real < 1)
    return [middle + half * u for u in inside]


def _sought(at: Callable[[Sequence[float]], Slopes], low: float, high: float) -> list[float]:
    """Changes of verdict on a grid, each narrowed down by halving."""
    grid = np.linspace(low, high, GRID)
    verdicts = _verdicts(at(grid.tolist()))
    places = [i for i in range(GRID - 1) if verdicts[i] != verdicts[i + 1]]
    left, right = grid[places], grid[[i + 1 for i in places]]
    before = [verdicts[i] for i in places]
    for _ in range(60 if places else 0):
        middle = (left + right) / 2
        same = np.array([v == b for v, b in zip(_verdicts(at(middle.tolist())), before)])
        left, right = np.where(same, middle, left), np.where(same, right, middle)
    return ((left + right) / 2).tolist() if places else []


def _shares(fit: Fitted, across: str, stretches: Sequence[Region]) -> np.ndarray | None:
    """The share of the fitted rows whose moderator lies in each stretch."""
    if fit.origin is None:
        return None
    table, used = rows_at_hand(fit)
    x, times = table.column(across).numbers(used.rows), per_row(fit).times
    known = np.isfinite(x)
    x, times = x[known], times[known]
    total = times.sum()
    out = []
    for place, r in enumerate(stretches):
        last = place == len(stretches) - 1 or r.start == r.stop
        inside = (x >= r.start) & ((x <= r.stop) if last else (x < r.stop))
        out.append(float(times[inside].sum() / total))
    return np.array(out)


def sentence(
    fit: Fitted, of: str, across: str, stretches: Sequence[Region], shares: np.ndarray | None
) -> str:
    """The regions in words."""
    parts = []
    for verdict in (ABOVE, BELOW):
        own = [i for i, r in enumerate(stretches) if r.slope_is == verdict]
        if not own:
            parts.append(f"{verdict} for none")
            continue
        where = " and ".join(_where(fit, across, stretches, i) for i in own)
        share = "" if shares is None else f" ({percent(float(shares[own].sum()))} of rows)"
        parts.append(f"{verdict} for {where}{share}")
    rest = any(r.slope_is == UNCERTAIN for r in stretches)
    tail = f", elsewhere {UNCERTAIN}" if rest else ""
    return f"the slope of {fit.words(of)} is {', '.join(parts)}{tail}"


def _where(fit: Fitted, across: str, stretches: Sequence[Region], place: int) -> str:
    r, name = stretches[place], fit.words(across)
    first, last = place == 0, place == len(stretches) - 1
    start, stop = (_shown(fit, across, v) for v in (r.start, r.stop))
    if r.start == r.stop:
        return f"{name} {start}"
    if first and last:
        return f"every {name} seen"
    if first:
        return f"{name} below {stop}"
    return f"{name} above {start}" if last else f"{name} from {start} to {stop}"
