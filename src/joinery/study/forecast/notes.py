"""Remarks on forecasts: why a row has none, what lies outside the data, how they came out."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.inference.correlation import root_mean_square
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.data.written_dates import date_text
from joinery.design.factors import shown
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import named_in
from joinery.show.numbers import figure, level_words, percent, value
from joinery.study.fitted import Fitted
from joinery.study.forecast.bands import Bands, all_rows_together
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import Held, held_words
from joinery.study.rates import Counted
from joinery.study.read.notes import choice_notes
from joinery.support.errors import listed


def needed_columns(fit: Fitted, *, exposure: bool = True) -> list[str]:
    """Return the columns that the terms, the offset and, if wanted, the exposure name."""
    expressions = fit.design.sentence.factors
    if (offset := fit.asides.expressions.get("offset")) is not None:
        expressions.append(offset)
    if exposure and fit.response.kind == "per" and fit.response.total is not None:
        expressions.append(fit.response.total)
    return named_in(expressions)


@dataclass(frozen=True)
class Remark:
    """A remark on one forecast: its kind, and words."""

    # "missing", "infinite", "filled", "outside", "unseen", "far", "dependent", "pole",
    # "not admitted", "no interval", "intercept"
    kind: str
    words: str


BEYOND = ("outside", "unseen", "far", "intercept")  # remarks that a row lies beyond what was seen


class RowRemarks(dict[int, list[Remark]]):
    """Remarks on forecasts, by the place of the row; most have none."""

    def add(self, place: int | np.integer[Any], kind: str, words: str) -> None:
        self.setdefault(int(place), []).append(Remark(kind, words))

    def texts(self, count: int) -> list[str]:
        """Return the words of each of so many rows, empty where there are none."""
        out = [""] * count
        for place, part in self.items():
            out[place] = "; ".join(remark.words for remark in part)
        return out


def remarks_by_row(
    fit: Fitted,
    given: Records,
    table: Records,
    positions: np.ndarray,
    measured: Bands,
    X: np.ndarray,
    rates: Counted,
) -> RowRemarks:
    """Return why a row has no forecast, and what lies outside what was seen or is admitted.

    Parameters: the table as ``given``, and the ``table`` whose infinite numbers are missing.
    """
    usable = ~np.isnan(measured.fitted)
    notes = RowRemarks()
    for name in needed_columns(fit):
        if name not in given.names:
            continue
        column = given.column(name)
        for place in np.flatnonzero(column.infinite(positions)):
            notes.add(place, "infinite", f"{name} is infinite")
        for place in np.flatnonzero(column.missing(positions) & ~usable):
            notes.add(place, "missing", f"no {name}")
    for name in fit.design.fills:
        for place in np.flatnonzero(table.column(name).missing(positions)):
            notes.add(place, "filled", f"no {name}: its mean stands for it")
    for name, (low, high) in fit.design.seen.items():
        values = table.column(name).numbers(positions)
        with np.errstate(invalid="ignore"):
            outside = np.flatnonzero((values < low) | (values > high))
        written = date_text if name in fit.design.dates else value
        for place in outside:
            words = f"{name} {written(values[place])} lies outside what was seen"
            seen = f"({written(low)} to {written(high)})"
            notes.add(place, "outside", f"{words} {seen}")
    _say_unseen(fit, table, positions, X, notes)
    for lag in fit.lags:
        for place in np.flatnonzero(
            np.isnan(evaluate(lag, fit.design.context(table, positions))) & ~usable
        ):
            notes.add(place, "missing", f"no {shown(lag)}")
    _say_not_admitted(fit, measured, notes)
    _say_no_interval(fit, measured, rates, notes)
    return notes


def _say_no_interval(fit: Fitted, measured: Bands, rates: Counted, notes: RowRemarks) -> None:
    """No gap without its reason: a mean so uncertain that no interval of numbers holds it."""
    if fit.estimate.scale is None or fit.estimate.reference_df <= 0 or fit.sandwich is not None:
        return
    ends = [measured.mean_lower, measured.mean_upper]
    of_rows = fit.estimate.law and fit.asides.weights is None and not fit.family.shares
    if of_rows and rates.per is None:  # a rate's wants an exposure, of which a note speaks
        ends += [measured.new_lower, measured.new_upper]
    lost = np.isfinite(measured.fitted) & np.isnan(ends).any(axis=0)
    for place in np.flatnonzero(lost):
        if int(place) not in notes:
            words = "the mean is so uncertain that no interval can be computed"
            notes.add(place, "no interval", words)


def _say_not_admitted(fit: Fitted, measured: Bands, notes: RowRemarks) -> None:
    """Means that the family cannot have, and ends past the pole of a transformed response."""
    if fit.estimate.linear:
        ends = (measured.mean_lower, measured.mean_upper, measured.new_lower, measured.new_upper)
        words = "too few rows bear on it to bound its interval: infinite"
        if fit.response.has_pole:
            words = f"an end lies past the pole of {fit.response.name}: infinite"
        elif fit.response.transformed:
            words = "an end is too large for a number: infinite"
        for place in np.flatnonzero(np.isinf(ends).any(axis=0)):
            notes.add(place, "pole", words)
        return
    outside = ~np.isnan(measured.fitted) & np.isnan(measured.mean_lower)
    for place in np.flatnonzero(
        outside if fit.estimate.scale is not None else np.zeros(len(outside), bool)
    ):
        mean = value(float(measured.fitted[place]), 3)
        words = f"the {fit.family.name} family cannot have a mean of {mean}: no interval"
        notes.add(place, "not admitted", words)


def _say_unseen(
    fit: Fitted, table: Records, positions: np.ndarray, X: np.ndarray, notes: RowRemarks
) -> None:
    """Remark on what no fitted row has: combinations of levels, numbers, a bare intercept."""
    kept = forecast_memory(fit)
    context = fit.design.context(table, positions)
    for term in fit.design.terms:
        if (cells := kept.cells.get(term.text)) is not None:
            codes = np.array([f.codes(context) for f in term.categories])
            known = np.flatnonzero((codes >= 0).all(axis=0))
            distinct, which = np.unique(codes[:, known], axis=1, return_inverse=True)
            for place, part in enumerate(distinct.T):
                cell = tuple(level_text(f.levels[c]) for f, c in zip(term.categories, part))
                if cell not in cells:
                    for row in known[which.ravel() == place]:
                        notes.add(row, "unseen", f"no fitted row has {' with '.join(cell)}")
    farthest = kept.farthest
    if farthest is not None and fit.solution.rank > 1 and fit.estimate.linear:
        with np.errstate(invalid="ignore"):
            far = np.flatnonzero(fit.solution.unscaled_variance(X) > 1.0000001 * farthest)
        for place in far.tolist():
            if place not in notes:
                notes.add(place, "far", "a combination farther out than any fitted row")
    dropped = [fit.design.names[column] for column in fit.solution.dependence]
    broken = fit.solution.broken(X)
    for place in np.flatnonzero(broken.any(axis=1)).tolist():
        names = listed(name for name, b in zip(dropped, broken[place], strict=True) if b)
        words = (
            f"{names} does not go with the other columns as in every fitted row: it counts for "
            "nothing"
        )
        notes.add(place, "dependent", words)
    if X.shape[1]:
        alone = np.flatnonzero(np.all(X == 0, axis=1))
    else:
        alone = np.empty(0, int)
    for place in alone.tolist():
        if any(remark.kind == "outside" for remark in notes.get(place, ())):
            notes.add(place, "intercept", "this is the intercept alone, far outside the data")


def table_notes(
    fit: Fitted,
    columns: dict[str, Any],
    level: float,
    intervals: str,
    simultaneous: bool,
    held: Held,
    rates: Counted,
) -> list[str]:
    """Return what is said under a table of forecasts."""
    notes = list(choice_notes(fit))
    if held.at:
        notes.append(f"held at their average: {', '.join(held_words(fit, held))}")
    if fit.response.transformed:
        notes.append(
            f"the model is of {fit.response.name}; back-transformed, fitted is the median of "
            f"{fit.response.original}, "
            "and so are the ends of its interval"
            + ("; expected is its mean" if "expected" in columns else "")
        )
    if fit.estimate.scale is None:
        notes.append("no degrees of freedom are left, so there are no intervals")
    if intervals == "distribution-free":
        least = percent(max(1 - 2 * (1 - level), 0.0))
        notes.append(
            f"new-row intervals are distribution-free (jackknife+): they hold {least} of new "
            f"rows or more whatever the errors, usually {level_words(level)}"
        )
    elif fit.sandwich is not None:
        notes.append("the interval for a new row still takes the spread of single rows to be even")
    if simultaneous:
        if fit.estimate.linear:
            rows = "the smaller of Scheffé and Bonferroni"
        else:
            rows = "Bonferroni"
        joint = all_rows_together(fit, level)
        notes.append(f"of the mean, {joint.words('all rows')}; of new rows by {rows}")
    if rates.per is None:
        notes += _about_new_rows(fit, columns)
    if "inside" in columns:
        notes += judgement(columns, level)
    return notes


def _about_new_rows(fit: Fitted, columns: dict[str, Any]) -> Iterator[str]:
    """Yield what the intervals of single rows mean, or why there are none."""
    if not fit.estimate.law:
        yield (
            "with an estimated dispersion there is no distribution, so there is no interval for "
            "a single row"
        )
    elif fit.family.shares and "probability" not in columns:
        yield "fitted is a probability; a single yes or no has no interval"
    elif fit.family.discrete:
        yield "ends for a new row are whole numbers, and hold at least that often"
    new_ends = [v for k, v in columns.items() if k.startswith("new_lower")]
    if fit.asides.weights is not None and fit.estimate.law and fit.family.discrete:
        yield (
            "a count with a weight other than one has no distribution: only rows of weight "
            "1 have an interval"
        )
    elif fit.asides.weights is not None and all(np.isnan(v).all() for v in new_ends):
        yield (
            f"the fit is weighted by {fit.asides.weights}, and the new rows have no weights: no "
            "row intervals"
        )


def judgement(columns: dict[str, Any], level: float) -> list[str]:
    """Return how the forecasts came out."""
    error = np.asarray(columns["error"], float)
    error = error[np.isfinite(error)]
    if not len(error):
        return []
    notes = [
        f"mean error {figure(float(error.mean()), 3)}, typical error (root mean square) "
        f"{figure(root_mean_square(error), 3)}, over {len(error):,} rows"
    ]
    inside = np.asarray(columns["inside"], object)
    yes, n = int((inside == True).sum()), int((inside != None).sum())  # noqa: E711, E712
    if n:
        share = yes / n
        chance = np.sqrt(level * (1 - level) / n)
        notes.append(
            f"{yes} of {n} observed values lie inside the new-row "
            "interval "
            f"({percent(share)}; meant {level_words(level)}, give or take {percent(float(chance))})"
        )
    return notes
