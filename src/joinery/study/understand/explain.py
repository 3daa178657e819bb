"""The fit read aloud: what each predictor goes with, in words and in the data's units."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.data.written_dates import stamps_of
from joinery.design.factors import CategoryFactor, CurveFactor, NumberFactor
from joinery.design.terms import DesignTerm
from joinery.notation.date_parts import DATE_PARTS
from joinery.notation.tree import Call, Name
from joinery.notation.walk import is_condition, lags_in, names_in_own_row
from joinery.show.numbers import figure, percent, telling_step, value
from joinery.study.check.table import page_lines
from joinery.study.fitted import CHOSEN, Fitted
from joinery.study.held import (
    averaged_rows,
    columns_of,
    hold_rest,
    slopes_in,
)
from joinery.study.read.estimates import contrast, means
from joinery.study.read.overall import overall_test
from joinery.study.understand.explain_intercept import about_intercept, called_by, is_of
from joinery.study.understand.phrases import ends, goes_with
from joinery.study.understand.scale import Scale
from joinery.study.understand.simple_slopes import (
    SlopesAcross,
    shown_value,
    simple_slopes,
    spread_out,
    usual_values,
)
from joinery.study.understand.slope_regions import regions, sentence
from joinery.study.verdicts import GRAVE
from joinery.support.errors import CallError, listed

MOST_LEVELS, MOST_VALUES = 12, 5


def explain(fit: Fitted) -> str:
    """Return the reading. See ``Fit.explain``."""
    return "\n\n".join(
        f"{heading}\n" + "\n".join(f"- {line}" for line in lines)
        for heading, lines in paragraphs(fit)
    )


def paragraphs(fit: Fitted) -> list[tuple[str, list[str]]]:
    """Return the reading as headings with their sentences."""
    collected = [
        ("What it says", list(_overall(fit))),
        ("Each predictor", list(_predictors(fit))),
        ("The intercept", list(about_intercept(fit))),
        ("Not to be read into it", list(_limits(fit))),
    ]
    return [(heading, lines) for heading, lines in collected if lines]


# ------------------------------------------------------------------ the whole


def _overall(fit: Fitted) -> Iterator[str]:
    name = fit.words(fit.response.name)
    if fit.estimate.linear:
        if fit.r_squared is not None and fit.model_df:
            yield f"{percent(fit.r_squared)} of the variation in {name} is explained by the model."
        if fit.residual_sd is not None and not fit.solution.perfect:
            if fit.options.weights is None:
                of = ""
            else:
                of = " of rows of weight 1"
            yield f"The residual SD{of} is {figure(fit.residual_sd, 3)}."
    elif fit.estimate.null_deviance > 0 and fit.model_df:
        share = 1 - fit.estimate.deviance / fit.estimate.null_deviance
        yield f"{percent(max(share, 0.0))} of the deviance of {name} is explained by the model."
    test = overall_test(fit)
    if fit.model_df and test.p == test.p:
        if test.p < 0.05:
            yield "The predictors together do better than none at all."
        else:
            yield "The predictors together are not clearly better than none at all."


# ------------------------------------------------------------------ predictors


@dataclass(frozen=True)
class _Part:
    """A column of the data, or what is taken of it from another row, and the terms it is in."""

    name: str
    terms: tuple[DesignTerm, ...]


def _parts(fit: Fitted) -> list[_Part]:
    return [
        _Part(name, tuple(t for t in fit.design.terms if name in _names(t)))
        for name in [*columns_of(fit), *map(str, fit.lags)]
    ]


def _names(term: DesignTerm) -> list[str]:
    """Return what a term is made of: columns, and what is taken of columns from other rows."""
    out: list[str] = []
    for factor in term.factors:
        out += [n.name for n in names_in_own_row(factor.expression)]
        out += [str(call) for call in lags_in(factor.expression)]
    return out


def _predictors(fit: Fitted) -> Iterator[str]:
    for part in _parts(fit):
        known = [
            np.isfinite(fit.solution.coefficients[t.columns]).any() for t in part.terms if t.names
        ]
        if not any(known):
            yield f"{fit.words(part.name)}: left out, as other columns say the same."
            continue
        yield from _one(fit, part)


def _one(fit: Fitted, part: _Part) -> Iterator[str]:
    others = list(dict.fromkeys(n for t in part.terms for n in _names(t) if n != part.name))
    if part.name not in columns_of(fit):
        yield from _from_another_row(fit, part, others)
    elif part.name not in fit.design.seen and part.name not in fit.design.dates:
        yield from _levels(fit, part, others)
    elif _stepped(part):
        yield from _steps(fit, part)
    elif others:
        yield from _moderated(fit, part, others)
    elif _straight(part):
        yield from _slope(fit, part)
    else:
        yield from _curve(fit, part)


def _from_another_row(fit: Fitted, part: _Part, others: list[str]) -> Iterator[str]:
    """Yield what is taken of a column from another row: a predictor of its own."""
    factor = part.terms[0].factors[0]
    if len(part.terms) == 1 and not others and str(factor.expression) == part.name:
        yield from _slope(fit, part)
    else:
        yield f"{fit.words(part.name)} is bent, or stands with others: see coefficients."


def _stepped(part: _Part) -> bool:
    """Return True if it is cut into bands, taken as a category, or compared with a limit."""
    chosen = [f for t in part.terms for f in t.factors if is_of(f.expression, part.name)]
    return any(isinstance(f, CategoryFactor) or is_condition(f.expression) for f in chosen)


def _straight(part: _Part) -> bool:
    """Return True if one column of the design holds it, as it is, centred, or in its logarithm."""
    if len(part.terms) != 1 or len(part.terms[0].factors) != 1:
        return False
    factor = part.terms[0].factors[0]
    return isinstance(factor, NumberFactor) and (
        isinstance(factor.expression, Name) or called_by(factor) is not None
    )


def _slope(fit: Fitted, part: _Part) -> Iterator[str]:
    factor = part.terms[0].factors[0]
    assert isinstance(factor, NumberFactor)
    place = part.terms[0].start
    name, called = fit.words(part.name), called_by(factor)
    D = np.zeros((1, fit.design.width))
    if called in ("log", "log2", "log10"):
        base = {"log": math.log(2), "log2": 1.0, "log10": math.log10(2)}[called]
        D[0, place] = base
        step = f"Each doubling of {name}"
    elif called == "standardized":
        sd = fit.design.function_memory[str(factor.expression)]["sd"]
        D[0, place] = 1.0
        step = f"{name} higher by its standard deviation, {value(sd, 3)},"
    else:
        size = _telling(fit, place)
        D[0, place] = size
        step = f"Each {'further unit' if size == 1 else f'{value(size)} more'} of {name}"
    yield goes_with(fit, step, contrast(fit, D), "other things held")


def _telling(fit: Fitted, place: int) -> float:
    """Return a round step of a column that is a fair share of its spread."""
    where = np.flatnonzero(fit.solution.kept == place)
    if len(where):
        return telling_step(float(fit.solution.spread[where[0]]))
    return 1.0


def _levels(fit: Fitted, part: _Part, others: list[str]) -> Iterator[str]:
    """Yield each level against the reference, the other predictors at their average."""
    factor = next(
        (f for t in part.terms for f in t.categories if is_of(f.expression, part.name)), None
    )
    if factor is None:  # a text column that stands in comparisons alone
        yield from _compared(fit, part)
        return
    levels = [level_text(v) for v in factor.levels]
    held = hold_rest(fit, records({part.name: levels}))
    X = averaged_rows(fit, held, np.arange(len(levels)))
    name, reference = fit.words(part.name), levels[0]
    tail = f"{_at_average(others)}other things held"
    for place, level in list(enumerate(levels))[1 : MOST_LEVELS + 1]:
        c = contrast(fit, X[place : place + 1] - X[:1])
        yield goes_with(fit, f"{name} {level}, against {reference},", c, tail)
    if len(levels) > MOST_LEVELS + 1:
        yield f"{name} has {len(levels)} levels: see adjusted_means for all of them."


def _at_average(others: list[str]) -> str:
    if others:
        return f"averaged over {listed(others)}, "
    return ""


def _compared(fit: Fitted, part: _Part) -> Iterator[str]:
    """Comparisons: yes against no."""
    for term in part.terms:
        chosen = [f for f in term.factors if is_condition(f.expression)]
        if len(term.factors) == 1 and chosen:
            D = np.zeros((1, fit.design.width))
            D[0, term.start] = 1.0
            text = fit.words(str(chosen[0].expression).strip("()"))
            yield goes_with(fit, f"{text}, where true,", contrast(fit, D), "other things held")
        else:
            yield f"{fit.words(term.text)}: a step that depends on others; see difference."


def _steps(fit: Fitted, part: _Part) -> Iterator[str]:
    """Yield a number cut into bands or compared with a limit."""
    plain = [t for t in part.terms if len(t.factors) == 1]
    conditions = [t for t in plain if is_condition(t.factors[0].expression)]
    if conditions:
        yield from _compared(fit, _Part(part.name, tuple(conditions)))
    for term in plain:
        factor = term.factors[0]
        if not isinstance(factor, CategoryFactor) or factor.coding != "indicator":
            continue
        reference = level_text(factor.levels[0])
        for column, recipe in enumerate(term.recipes, term.start):
            D = np.zeros((1, fit.design.width))
            D[0, column] = 1.0
            level = level_text(factor.levels[recipe[0][1]])
            made = factor.expression
            of_date = isinstance(made, Call) and made.function in DATE_PARTS
            name = factor.label if of_date else part.name
            step = f"{fit.words(name)} {level}, against {reference},"
            yield goes_with(fit, step, contrast(fit, D), "other things held")
    rest = [t for t in part.terms if t not in plain]
    if rest or any(isinstance(t.factors[0], NumberFactor) and t not in conditions for t in plain):
        yield f"{fit.words(part.name)} stands in several terms: see difference for two settings."


def _moderated(fit: Fitted, part: _Part, others: list[str]) -> Iterator[str]:
    """Through its simple slopes, never coefficient by coefficient."""
    for across in others:
        if across not in columns_of(fit):
            yield _at_usual(fit, part, across)
            continue
        try:
            at = usual_values(fit, across)
            table = simple_slopes(fit, part.name, across, at).frame
        except CallError as reason:
            yield f"{fit.words(part.name)}: {reason}."
            continue
        rows = list(table.itertuples(index=False))
        if len(rows) > MOST_VALUES:
            rows = [rows[0], rows[len(rows) // 2], rows[-1]]
        shown = ", ".join(f"{ends(r.slope, r.lower, r.upper)} at {_value(r.at)}" for r in rows)
        if Scale(fit).on:
            scale = f" on the scale of {Scale(fit).on}"
        else:
            scale = ""
        yield (
            f"The slope of {fit.words(part.name)}{scale} depends on {fit.words(across)}: {shown}."
        )
        if across in fit.design.seen and len(rows) > 2:
            question = SlopesAcross(fit, part.name, across, None, fit.level, simultaneous=True)
            result = regions(question)
            yield f"{_capital(sentence(question.move, across, result, None))}."


def _at_usual(fit: Fitted, part: _Part, across: str) -> str:
    """Return the slope where what is taken from another row is at its average."""
    held = hold_rest(fit, records({part.name: [np.mean(fit.design.seen[part.name])]}))
    c = contrast(fit, averaged_rows(fit, held, np.arange(1), slopes_in(part.name)))
    lower, upper = (float(v[0]) for v in c.ends(fit.level))
    return (
        f"The slope of {fit.words(part.name)} depends on {fit.words(across)}: "
        f"{ends(float(c.values[0]), lower, upper)} at its average."
    )


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _value(v: object) -> str:
    return v if isinstance(v, str) else value(float(v), 4)  # type: ignore[arg-type]


def _curve(fit: Fitted, part: _Part) -> Iterator[str]:
    """Yield the mean at values across the range."""
    low, high = fit.design.seen[part.name]
    at = spread_out(low, high) or [low, high]
    if len(at) > MOST_VALUES:
        at = [at[0], at[len(at) // 2], at[-1]]
    dated = part.name in fit.design.dates
    table = records({part.name: stamps_of(np.array(at)) if dated else np.array(at, float)})
    held = hold_rest(fit, table)
    X = averaged_rows(fit, held, np.arange(len(at)))
    c, scale = means(fit, X), Scale(fit)
    rotated = scale.both_scales(c, *c.ends(fit.level), scale.offsets(len(at)), "mean")
    shown = ", ".join(
        f"{ends(m, a, b)} at {shown_value(fit, part.name, v)}"
        for m, a, b, v in zip(rotated["mean"], rotated["lower"], rotated["upper"], at, strict=True)
    )
    curves = {f.expression.function for t in part.terms for f in t.factors
              if isinstance(f, CurveFactor)}  # fmt: skip
    if curves:
        how = f" ({listed(sorted(curves))})"
    else:
        how = ""
    yield (
        f"{fit.words(scale.name)} follows a curve in {fit.words(part.name)}{how}: {shown}, other "
        "things at their average."
    )


# ------------------------------------------------------------------ intercept and limits


def _end(fit: Fitted, name: str, v: float) -> str:
    """Return an end of a column's range."""
    if name in fit.design.dates:
        return shown_value(fit, name, v)
    return value(v, 3)


def _limits(fit: Fitted) -> Iterator[str]:
    if fit.model_df:
        yield (
            "These are differences between rows, not what would happen if one were changed: what "
            "causes what, the model cannot say."
        )
    if fit.design.seen:
        ranges = listed(
            f"{fit.words(n)} {_end(fit, n, low)} to {_end(fit, n, high)}"
            for n, (low, high) in fit.design.seen.items()
        )
        yield f"Outside the range of the rows nothing is known: {ranges}."
    if CHOSEN in fit.changes:
        yield "The terms were chosen on these rows, so that intervals and p are too hopeful."
    if fit.origin is None:
        return
    grave = [line.finding for line in page_lines(fit) if line.verdict in GRAVE]
    if grave:
        yield f"The page has cautions that come first: {'; '.join(grave)}."
