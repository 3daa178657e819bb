"""Average effects: how the mean of the response changes with each predictor, on its own scale."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from joinery.core import intervals, tails
from joinery.core.links import LINKS
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.design.factors import CategoryFactor
from joinery.errors import CallError
from joinery.notation.tree import names_in
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.asked import Asked, checked_level, rows_at_hand
from joinery.study.coefficients import coefficient_covariance, said_of_errors, statistic_name

PER_SD = 1e-5  # the step of a numeric derivative, in standard deviations


def average_effects(fit: Asked, level: float | None = None) -> Table:
    """The table of average effects. See ``Fit.average_effects``."""
    level = fit.level if level is None else checked_level(level)
    names, effects, slopes = [], [], []
    for name, effect, slope in _effects(fit):
        names.append(name)
        effects.append(effect)
        slopes.append(slope)
    if not names:
        raise CallError("the model has no predictor whose effect could be averaged")
    J = np.array(slopes)
    V = np.nan_to_num(coefficient_covariance(fit))
    errors = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", J, V, J), 0.0)) * fit.solution.unit
    df = fit.reference_df if fit.sandwich is None else float(np.nanmin(fit.sandwich.df))
    lower, upper = intervals.around(np.array(effects), errors, df, level)
    with np.errstate(all="ignore"):
        t = np.array(effects) / errors
    return Table(
        {
            "term": names,
            "effect": np.array(effects),
            "lower": lower,
            "upper": upper,
            "standard_error": errors,
            statistic_name(fit): t,
            "p": tails.t_two_sided(t, df),
        },
        title=f"Average effects on {fit.words(fit.response.name)}, with {level_words(level)} intervals",
        notes=(
            *said_of_errors(fit),
            "of a number: the slope of the mean, averaged over the rows; of a level: the step from the reference level",
        ),
        kinds=dict.fromkeys(("effect", "lower", "upper", "standard_error"), "error"),
    )


def _effects(fit: Asked) -> Iterator[tuple[str, float, np.ndarray]]:
    """Each predictor's average effect and its derivative by the coefficients [intercept, columns]."""
    table, chosen = rows_at_hand(fit)
    seen: set[str] = set()
    for term in fit.design.terms:
        for factor in term.factors:
            for name in dict.fromkeys(n.name for n in names_in(factor.expression)):
                if name in seen:
                    continue
                seen.add(name)
                column = table.column(name)
                if isinstance(factor, CategoryFactor) and column.kind in ("category", "yes/no"):
                    base = _mean(fit, _with(table, name, [level_text(factor.levels[0])] * len(table)))
                    for level in factor.levels[1:]:
                        after = _mean(fit, _with(table, name, [level_text(level)] * len(table)))
                        yield f"{name}: {level_text(level)}", after[0] - base[0], after[1] - base[1]
                elif column.kind == "number":
                    values = column.numbers(slice(None))
                    step = PER_SD * (float(np.nanstd(values[chosen.rows])) or 1.0)
                    up, down = (_mean(fit, _with(table, name, values + s)) for s in (step, -step))
                    with np.errstate(all="ignore"):
                        yield name, (up[0] - down[0]) / (2 * step), (up[1] - down[1]) / (2 * step)


def _with(table: Records, name: str, values: object) -> Records:
    frame = table.frame.assign(**{name: values})
    return Records(frame, table.name, table.id)


def _mean(fit: Asked, table: Records) -> tuple[float, np.ndarray]:
    """The mean of the response over the fitted rows of a changed table, and its derivative by the coefficients."""
    _, chosen = rows_at_hand(fit)
    context = fit.design.context(table, chosen.rows)
    X = fit.design.matrix(context)
    eta = fit.solution.fitted(X)
    for offset in (fit.asides.values("offset", context), fit.response.log_exposure(context)):
        eta = eta if offset is None else eta + offset
    link = LINKS[fit.link]
    repeats = fit.asides.values("repeats", context)
    w = np.ones(len(eta)) if repeats is None else repeats
    w = w / w.sum()
    slope = w * link.slope(eta)
    D = slope @ X
    kept = np.zeros(fit.design.width)
    kept[fit.solution.kept] = D[fit.solution.kept]
    return float(w @ link.mu(eta)), np.append(slope.sum(), kept) if fit.solution.has_intercept else kept
