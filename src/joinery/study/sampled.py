"""Some of the rows of a fit as a table in memory."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from joinery.data.records import Records
from joinery.design.evenly import evenly_spaced
from joinery.design.resolving import expressions_of
from joinery.notation.context import positions_at
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Expression
from joinery.notation.walk import lags_in, named_in
from joinery.study.fitted import Fitted, UsedRows, rows_at_hand
from joinery.support.limits import LONG_ROWS

NONE = np.empty(0, dtype=int)  # no places


def asked_in_part(fit: Fitted) -> bool:
    """Return True if shapes are asked of a part of the rows, as they are many."""
    return has_more_rows(fit, LONG_ROWS)


def has_more_rows(fit: Fitted, most: int) -> bool:
    """Return True if a fit has more rows at hand than so many, each standing for itself."""
    return rows_stand_alone(fit) and rows_at_hand(fit)[1].used > most


def rows_stand_alone(fit: Fitted) -> bool:
    """Return True if a fit has its rows at hand, and each stands for itself."""
    return fit.origin is not None and fit.asides.repeats is None


def fit_to_part(
    fit: Fitted, most: int, without: np.ndarray = NONE, beside: Sequence[str] = ()
) -> tuple[Fitted, int]:
    """Return the model fitted to at most so many rows evenly taken, and how far apart they are.

    ``without`` are places of rows that are not among them, ``beside`` columns that the model does
    not need but its rows keep."""
    assert fit.origin is not None
    places, step = evenly_spaced(fit.origin.used_rows.used, most)
    places = np.setdiff1d(places, without, assume_unique=True)
    table = rows_in_memory(fit, places, range(len(places)), beside)
    return fit.origin.refit(table=table, used=all_used(len(places))), step


def rows_in_memory(
    fit: Fitted, places: np.ndarray, labels: Sequence[Any], beside: Sequence[str] = ()
) -> Records:
    """Return rows of a fit, by their places among those used, with the columns that it needs.

    What the rows before them say is kept beside, as those rows are not there to be asked."""
    table, used = rows_at_hand(fit)
    positions = positions_at(used.rows, places)
    names = dict.fromkeys([*_names(fit), *beside])
    result = table.some(positions, list(names), labels)
    context = fit.design.context(table, positions)
    lags = [call for e in _expressions(fit) for call in lags_in(e)]
    result.lags = {str(call): evaluate(call, context) for call in lags}
    return result


def all_used(n: int) -> UsedRows:
    """Return that all rows of a table of n are used."""
    return UsedRows(n, NONE, (), NONE)


def _expressions(fit: Fitted) -> list[Expression]:
    """Return all that is computed of the fit's rows."""
    return [*expressions_of(fit.design.sentence), *fit.asides.expressions.values()]


def _names(fit: Fitted) -> list[str]:
    """Return the columns that the fit's rows are made of."""
    asides = named_in(fit.asides.expressions.values())
    order = [fit.options.order] if fit.options.order else []
    return list(dict.fromkeys([*fit.design.named, *asides, *fit.options.cluster, *order]))
