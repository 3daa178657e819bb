"""The part of a table too large to be drawn that pictures show: rows evenly taken, remarkable ones.

Both are said under the title. Checks, limits and verdicts come from all rows, smooths from those
shown evenly, which remarkable ones beside them would bend."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from joinery.core.inference.smooth import Smooth, smooth
from joinery.design.evenly import drawn_evenly, labels_of
from joinery.notation.context import places_at
from joinery.show.numbers import count
from joinery.study.check.table import check_lines
from joinery.study.fitted import Fitted, Origin, rows_at_hand
from joinery.study.forecast.memory import forecast_memory
from joinery.study.picture_list import PICTURES
from joinery.study.rows.digest import HEAVIEST, Digest, digest
from joinery.study.rows.figures import widening
from joinery.study.rows.table import remarks
from joinery.study.sampled import all_used, rows_in_memory
from joinery.support.arguments import as_labels
from joinery.support.limits import MOST_REMARKABLE


def thinned(fit: Fitted, name: str, label_rows: str | Sequence[Any]) -> tuple[Fitted, str]:
    """Return the fit with the rows that a picture shows of it, and what to say of them.

    The fit itself, and nothing, where all are shown.
    """
    way = PICTURES[name].thinned
    if way is None:
        return fit, ""
    table, used = rows_at_hand(fit)
    if (some := drawn_evenly(used.used)) is None:
        return fit, ""
    order = fit.options.order
    if name == "series" and order and table.column(order).kind not in ("number", "date"):
        return fit, ""  # only all rows tell how far apart they stand
    (even, notes_made), beside = some, np.empty(0, int)
    if way == "with remarkable":
        beside = _remarkable(fit)
        notes_made += f", and the {count(len(beside), 'row')} most remarkable"
    if not (isinstance(label_rows, str) and label_rows in ("flagged", "none")):
        positions = np.asarray(table.positions(as_labels(label_rows)))
        beside = np.union1d(beside, places_at(used.rows, positions))
    key = (thinned, beside.tobytes())
    if key not in fit.cache:
        fit.cache[key] = _of_places(fit, even, beside)
    return fit.cache[key], notes_made


def unthinned(fit: Fitted) -> Fitted:
    """Return the fit with all its rows, of one that a picture shows some of."""
    result: Fitted = fit.cache.get(unthinned, fit)
    return result


def numbers_of(fit: Fitted) -> np.ndarray:
    """Return the numbers of the rows shown among all that the fit used, from 1 on."""
    places = fit.cache.get(numbers_of)
    return np.arange(1.0, rows_at_hand(fit)[1].used + 1) if places is None else places + 1.0


def evenly(fit: Fitted) -> np.ndarray:
    """Return which rows of a fit (n,) are shown evenly: all, or those not there for being
    remarkable."""
    result: np.ndarray | None = fit.cache.get(evenly)
    if result is None:
        return np.ones(rows_at_hand(fit)[1].used, dtype=bool)
    return result


def smoothed(
    fit: Fitted, rows: np.ndarray, x: np.ndarray, y: np.ndarray, **options: Any
) -> Smooth | None:
    """Return a smooth of y on x (m,) of some ``rows`` of the fit, of those that are shown
    evenly."""
    even = evenly(fit)[rows]
    return smooth(x[even], y[even], **options)


def _of_places(fit: Fitted, even: np.ndarray, beside: np.ndarray) -> Fitted:
    """Return the fit with the rows evenly taken and those beside them, by their places, in memory.

    Labels have the latter and the remarkable ones.
    """
    table, used = rows_at_hand(fit)
    places = np.union1d(even, beside)
    remarked = [_remarkable(fit), remarks(fit).places]
    named = np.intersect1d(places, np.concatenate([beside, *remarked]))
    labels = labels_of(table, used.rows, places, named)
    result = rows_in_memory(fit, places, labels)
    assert fit.origin is not None
    drawn = replace(fit, origin=Origin(result, result, all_used(len(places)), fit.origin.refit))
    drawn.cache[unthinned], drawn.cache[numbers_of] = fit, places
    drawn.cache[evenly] = np.isin(places, even)
    drawn.cache[digest.work] = _within(digest(fit), places)
    for question in (check_lines, widening, forecast_memory):
        question.is_of(drawn, fit)
    return drawn


def _remarkable(fit: Fitted) -> np.ndarray:
    """Return places of the rows worst remarked on, and of those that weigh most."""
    totals = digest(fit)
    weight = np.nan_to_num(totals.measures.cooks_distance, nan=-1.0)
    heaviest = totals.places[np.argsort(-weight, kind="stable")[:HEAVIEST]]
    return np.union1d(heaviest, remarks(fit)[:MOST_REMARKABLE].places)


def _within(totals: Digest, places: np.ndarray) -> Digest:
    """Return a digest of all rows that knows remarkable ones by their places among those drawn."""
    here = np.isin(totals.places, places)
    indices = np.searchsorted(places, totals.places[here])
    return replace(totals, places=indices, measures=totals.measures.of(here))
