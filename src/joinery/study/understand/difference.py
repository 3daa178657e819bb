"""Answers to a what-if: the mean at one setting of the predictors less the mean at another."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from joinery.data.any_table import records
from joinery.data.written_dates import stamps_of
from joinery.notation.parse import read_assignments
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.held import (
    Held,
    averaged_rows,
    check_named,
    held_note,
    hold_rest,
    level_cell,
)
from joinery.study.read.coefficients import error_notes, ratio_of_differences
from joinery.study.read.estimates import (
    Combination,
    contrast,
    errors_in_basis,
    in_basis,
    means,
    statistic_name,
)
from joinery.study.understand.scale import Scale
from joinery.support import advice
from joinery.support.errors import CallError

Setting = Mapping[str, Any] | str | None


def difference(
    fit: Fitted,
    a: Setting,
    b: Setting = None,
    *,
    hold: Mapping[str, Any] | str = "average",
    level: float | None = None,
) -> Table:
    """Return the table of one difference. See ``Fit.difference``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    first, second = _read(fit, a), _read(fit, b)
    if not first:
        raise CallError("give a value for at least one predictor: feed_kg=6", argument="a")
    if hold == "average":
        fixed = {}
    elif isinstance(hold, Mapping):
        fixed = dict(hold)
    else:
        fixed = None
    if fixed is None:
        given = advice.option("hold", hold)
        raise CallError(f"{given} is not known; it is 'average', or values", argument="hold")
    # what only one setting names is for the other where it is held
    one, two = (hold_rest(fit, _row(fit, part), fixed) for part in (first, second))
    X = [averaged_rows(fit, h, np.arange(1)) for h in (one, two)]
    scale = Scale(fit)
    c = _difference(fit, scale, X[0], X[1])
    lower, upper = c.ends(level)
    columns: dict[str, Any] = {
        "difference": c.values,
        "lower": lower,
        "upper": upper,
        "standard_error": c.standard_errors,
        statistic_name(fit): c.t,
        "p": c.p,
    }
    notes = [f"{_words(fit, first)}, less {_words(fit, second)}"]
    shared = Held(one.table, {n: v for n, v in one.at.items() if n in two.at})
    notes += held_note(fit, shared)
    if kind := ratio_of_differences(fit):
        on_scale = contrast(fit, X[0] - X[1])
        ends = [np.exp(v) for v in (on_scale.values, *on_scale.ends(level))]
        columns |= dict(zip(("ratio", "ratio_lower", "ratio_upper"), ends, strict=True))
        notes.append(f"ratio: {kind}, of the first to the second")
    if scale.on:
        if fit.response.transformed:
            what = "medians"
        else:
            what = "means"
        notes.append(f"the difference is of {what}, its standard error by the delta method")
    return Table(
        columns,
        title=f"Difference of {fit.words(scale.name)}, with its {level_words(level)} interval",
        notes=(*error_notes(fit), *notes),
        appearance=Appearance(
            kinds=dict.fromkeys(("difference", "lower", "upper", "standard_error"), "error")
            | dict.fromkeys(("ratio", "ratio_lower", "ratio_upper"), "own")
        ),
    )


def _difference(fit: Fitted, scale: Scale, A: np.ndarray, B: np.ndarray) -> Combination:
    """On the measured scale: exactly where it is the model's, else by the delta method."""
    if not scale.on:
        return contrast(fit, A - B)
    offset = scale.offsets(1)
    parts = [(means(fit, X).values + offset, X) for X in (A, B)]
    values = scale.back(parts[0][0]) - scale.back(parts[1][0])
    if not np.isfinite(values).all():
        return Combination(values, values, np.full(1, fit.estimate.reference_df))
    slopes = [scale.slope(eta)[:, None] for eta, _ in parts]
    D = slopes[0] * A - slopes[1] * B
    kept = np.zeros_like(D)
    kept[:, fit.solution.kept] = D[:, fit.solution.kept]
    if fit.solution.has_intercept:
        L = np.column_stack([slopes[0] - slopes[1], kept])
    else:
        L = kept
    return Combination(values, *errors_in_basis(fit, in_basis(fit, L)))


def _read(fit: Fitted, given: Setting) -> dict[str, Any]:
    if given is None:
        return {}
    if isinstance(given, str):
        setting = dict(read_assignments(given))
    else:
        setting = dict(given)
    check_named(fit, setting, " in the model")
    return setting


def _row(fit: Fitted, setting: Mapping[str, Any]) -> Any:
    columns: dict[str, Any] = {}
    for name, v in setting.items():
        number = isinstance(v, (int, float)) and name in fit.design.dates
        if isinstance(v, str) and name not in fit.design.seen:
            v = level_cell(fit, name, v)
        columns[name] = stamps_of(np.array([float(v)])) if number else [v]
    if not columns:  # a row without columns is none; one that no term reads stands for it
        columns = {"": [0.0]}
    return records(columns, like=fit.design.manner)


def _words(fit: Fitted, setting: Mapping[str, Any]) -> str:
    places = [f"{fit.words(name)} {v:g}" if isinstance(v, float) else f"{fit.words(name)} {v}"
           for name, v in setting.items()]  # fmt: skip
    return " · ".join(places) or "everything at its average"
