"""Average effects: how the mean of the response changes with each predictor, on its own scale."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from joinery.data.columns import level_text
from joinery.data.records import Records, filled
from joinery.design.factors import CategoryFactor, Factor, shown
from joinery.design.learning import Piece
from joinery.errors import CallError
from joinery.notation.tree import is_condition, names_in
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import (
    Fitted,
    checked_level,
    fitted_rows,
    response_rows,
    rows_at_hand,
)
from joinery.study.read.coefficients import said_of_errors, statistic_name
from joinery.study.read.estimates import Combination, errors_in_basis, in_basis
from joinery.study.rows.figures import linear_predictor

PER_SD = 1e-5  # the step of a numeric derivative, in standard deviations


def average_effects(fit: Fitted, level: float | None = None, *, step: float | None = None) -> Table:
    """The table of average effects. See ``Fit.average_effects``."""
    level = fit.level if level is None else checked_level(level)
    if step is not None and not (np.isfinite(step) and step != 0):
        raise CallError("the step is a number other than zero", argument="step")
    rows = list(_effects(fit, step))
    if not rows:
        raise CallError("the model has no predictor whose effect could be averaged")
    J = np.array([slope for _, _, slope in rows])
    effects = Combination(
        np.array([effect for _, effect, _ in rows]), *errors_in_basis(fit, in_basis(fit, J))
    )
    lower, upper = effects.ends(level)
    return Table(
        {
            "term": [name for name, _, _ in rows],
            "effect": effects.values,
            "lower": lower,
            "upper": upper,
            "standard_error": effects.standard_errors,
            statistic_name(fit): effects.t,
            "p": effects.p,
        },
        title=(
            f"Average effects on {fit.words(fit.response.name)}, with {level_words(level)} "
            "intervals"
        ),
        notes=(
            *said_of_errors(fit),
            (
                "of a number: the slope of the mean"
                if step is None
                else f"of a number: the mean with {step:g} more less the mean as it is"
            )
            + ", averaged over the rows; of a level: the step from the reference level; of a "
            "comparison: the step from no to yes",
            *(["a number moves in every row, also where a lag looks"] if fit.lags else []),
        ),
        kinds=dict.fromkeys(("effect", "lower", "upper", "standard_error"), "error"),
    )


def _effects(fit: Fitted, wide: float | None) -> Iterator[tuple[str, float, np.ndarray]]:
    """Each predictor's average effect and its derivative by the coefficients."""
    table, used = rows_at_hand(fit)
    seen: set[str] = set()
    factors: dict[str, Factor] = {}
    for term in fit.design.terms:
        for factor in term.factors:
            factors.setdefault(str(factor.expression), factor)
    for key, factor in factors.items():
        if isinstance(factor, CategoryFactor):
            if factor.label not in seen:
                yield from _levels(
                    fit, [k for k, f in factors.items() if _alike(f, factor)], factor
                )
            seen.add(factor.label)
        elif is_condition(factor.expression):
            yes, no = (_mean(fit, table, {key: value}) for value in (1.0, 0.0))
            yield shown(factor.expression), yes[0] - no[0], yes[1] - no[1]
        else:
            for name in dict.fromkeys(n.name for n in names_in(factor.expression)):
                column = table.column(name)
                if name in seen or column.kind not in ("number", "date"):
                    continue
                seen.add(name)
                values = column.numbers(slice(None))
                if wide is not None:
                    after, before = (
                        _mean(fit, table.replaced(name, values + k * wide), {}) for k in (1, 0)
                    )
                    yield name, after[0] - before[0], after[1] - before[1]
                    continue
                step = PER_SD * (float(np.nanstd(values[used.rows])) or 1.0)
                # four points: what a step bends is left out to the fourth order
                at = {
                    k: _mean(fit, table.replaced(name, values + k * step), {})
                    for k in (-2, -1, 1, 2)
                }
                weights = {-2: 1 / 12, -1: -2 / 3, 1: 2 / 3, 2: -1 / 12}
                effect = sum(w * at[k][0] for k, w in weights.items()) / step
                yield (
                    name,
                    effect,
                    np.sum([w * at[k][1] for k, w in weights.items()], axis=0) / step,
                )


def _alike(a: Factor, b: CategoryFactor) -> bool:
    """Whether a factor is the same category, maybe with another coding or reference."""
    return isinstance(a, CategoryFactor) and a.label == b.label


def _levels(
    fit: Fitted, keys: list[str], factor: CategoryFactor
) -> Iterator[tuple[str, float, np.ndarray]]:
    """The steps from a category's reference level to each other level."""
    table, _ = rows_at_hand(fit)
    means = [_mean(fit, table, dict.fromkeys(keys, level_text(level))) for level in factor.levels]
    for level, after in zip(factor.levels[1:], means[1:], strict=True):
        yield f"{factor.label}: {level_text(level)}", after[0] - means[0][0], after[1] - means[0][1]


def _mean(fit: Fitted, table: Records, held: dict[str, float | str]) -> tuple[float, np.ndarray]:
    """The mean response with some factors held, and its derivative by coefficients."""
    rows = replace(fitted_rows(fit), table=filled(table, fit.design.fills))

    def own(piece: Piece) -> np.ndarray:
        """Σ times, Σ times·μ, and their derivatives by the constant and the columns."""
        context, times = piece
        context.held = held
        X = fit.design.matrix(context)
        eta = linear_predictor(fit, context, X)
        w = np.ones(len(eta)) if times is None else times
        slope = w * fit.link.slope(eta)
        return np.concatenate([[w.sum(), w @ fit.link.mu(eta), slope.sum()], slope @ X])

    sums = sum(rows.cut(response_rows(fit).rows_a_block).each(own), np.zeros(3 + fit.design.width))
    mean, constant = sums[1:3] / sums[0]
    kept = np.zeros(fit.design.width)
    kept[fit.solution.kept] = sums[3:][fit.solution.kept] / sums[0]
    return float(mean), np.append(constant, kept) if fit.solution.has_intercept else kept
