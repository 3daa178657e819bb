"""The means of a category's levels or a product's cells, the rest held, and their differences."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import combinations, permutations, product
from typing import Any

import numpy as np

from joinery.core.inference import intervals
from joinery.core.inference.diagnostics import holm
from joinery.core.numeric import simultaneous
from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.design.factors import CategoryFactor
from joinery.design.levels import column_of_levels
from joinery.notation.parse import read_sentence
from joinery.notation.tree import Name, spelled
from joinery.notation.walk import named_in, names_in
from joinery.show.appearance import Appearance
from joinery.show.names import apart, headings
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level, rows_at_hand
from joinery.study.forecast.memory import forecast_memory
from joinery.study.held import Held, Shares, averaged_rows, held_cell, held_note, hold_rest
from joinery.study.rates import counted
from joinery.study.read.coefficients import error_notes, ratio_of_differences
from joinery.study.read.estimates import Combination, contrast, in_basis, means, statistic_name
from joinery.study.understand.scale import Scale
from joinery.support import advice
from joinery.support.errors import CallError, one_of
from joinery.support.limits import MEAN_ROWS

WEIGHTINGS = ("equal", "as seen")
CORRECTIONS = ("tukey", "holm", "bonferroni", "none")
TO_REFERENCE = ("dunnett", "holm", "bonferroni", "none")
MEANS = ("mean", "lower", "upper", "standard_error")  # the figures of a mean


@dataclass(frozen=True)
class Cells:
    """Rows of the design, one a cell: what each is, its design row, and what is held."""

    fit: Fitted
    labels: dict[str, list[Any]]  # columns that tell the cells: levels, and values given by at=
    X: np.ndarray  # (m, width)
    offsets: np.ndarray  # what offset adds (m,)
    held: Held

    @property
    def names(self) -> list[str]:
        """Each cell in one text."""
        parts = [[str(v) for v in values] for values in self.labels.values()]
        return [" · ".join(row) for row in zip(*parts, strict=True)]


def cells(fit: Fitted, term: str, at: Mapping[str, Any] | None, weighting: str = "equal") -> Cells:
    """Return the cells of a category, or of a product of categories, at chosen values of other
    columns."""
    one_of("weighting", weighting, WEIGHTINGS)
    columns = _categories(fit, term)
    given = {name: _values(v) for name, v in (at or {}).items()}
    if odd := [name for name in given if name in columns]:
        raise CallError(f"{odd[0]} is what the means are of; give values of other columns")
    typical = forecast_memory(fit).typical
    lists = [list(_levels(fit, name, typical)) for name in columns] + list(given.values())
    rows = list(product(*lists))
    if len(rows) > MEAN_ROWS:
        raise CallError(f"{len(rows):,} cells are too many to be read; ask for fewer values")
    labels = {n: [row[i] for row in rows] for i, n in enumerate([*columns, *given])}
    for name in given:
        if name not in typical:
            one_of("at", name, tuple(typical))
        labels[name] = [_value_at(fit, name, v) for v in labels[name]]
    made = made_categories(fit)
    table = {
        name: [held_cell(fit, name, v) for v in values]
        for name, values in labels.items()
        if name not in made
    }
    if not table:  # levels of a date or a number alone: as many rows of what is held
        table = {"cell": list(range(len(rows)))}
    held = hold_rest(fit, records(table), equal=weighting == "equal")
    levels = {name: list(map(str, v)) for name, v in labels.items() if name in made}
    held = replace(held, made=levels, at=_still_held(fit, held, levels))
    positions = np.arange(len(rows))
    X = averaged_rows(fit, held, positions)
    return Cells(fit, labels, X, Scale(fit).offsets(len(rows)), held)


def _still_held(
    fit: Fitted, held: Held, levels: Mapping[str, Sequence[str]]
) -> dict[str, float | Shares | str]:
    """Return what is held beside the levels given: not the date that only these are made of."""
    if not levels:
        return dict(held.at)
    factors = [f for f in fit.design.sentence.factors if str(f) not in levels]
    others = set(named_in(factors))
    return {name: v for name, v in held.at.items() if name in others}


def _value_at(fit: Fitted, name: str, v: Any) -> str | float:
    """Return a value given of a column: a level or a date as text, a number as one."""
    if isinstance(forecast_memory(fit).typical[name], dict):
        return level_text(v)
    if name in fit.design.dates:
        return str(v)
    try:
        return float(v)
    except (TypeError, ValueError):
        raise CallError(f"{name} is a number, and {v!r} is not one", argument="at") from None


def _values(v: Any) -> list[Any]:
    if isinstance(v, (list, tuple, np.ndarray)):
        return list(v)
    return [v]


def _categories(fit: Fitted, term: str) -> list[str]:
    """Return the columns of the categories that a term names."""
    known = {n.name: f for f in fit.design.categories for n in names_in(f.expression)}
    if not known:
        raise CallError("the model has no category, so there are no levels to give means of")
    if term in known:  # a column's bare name, whatever its signs
        term = spelled(term)
    factors = [f for t in read_sentence(f"y given {term}").terms for f in t.factors]
    made = made_categories(fit)
    wanted = list(
        dict.fromkeys(
            name
            for f in factors
            for name in ([str(f)] if str(f) in made else [n.name for n in names_in(f)])
        )
    )
    for name in wanted:
        if name in fit.design.seen and name not in known:
            raise CallError(
                f"{name} is a number, which has no levels; ask for its slope by simple_slopes, or "
                "for forecasts at its values",
                argument="term",
            )
        if name not in made:
            one_of("term", name, (*known, *made))
    return wanted


def made_categories(fit: Fitted) -> dict[str, CategoryFactor]:
    """Return the categories that are made of a number or a date, by their names:
    ``month(date)``."""
    return {
        str(f.expression): f
        for t in fit.design.terms
        for f in t.categories
        if column_of_levels(f.expression) is None and not isinstance(f.expression, Name)
    }


def _levels(fit: Fitted, name: str, typical: Mapping[str, Any]) -> Sequence[Any]:
    """Return the levels of a column in the model's order, the reference first."""
    if (made := made_categories(fit).get(name)) is not None:
        return [level_text(v) for v in made.levels]
    if isinstance(typical[name], dict):
        factor = _factor(fit, name)
        chosen = [level_text(v) for v in factor.levels]
        if set(chosen) == set(typical[name]):
            return chosen
        return list(typical[name])
    raise CallError(
        f"{name} is a number cut into levels by the model; give values of it by "
        f"{advice.option('at')}, or forecast at them",
        argument="term",
    )


def _factor(fit: Fitted, name: str) -> CategoryFactor:
    return next(
        f
        for t in fit.design.terms
        for f in t.categories
        if name in {n.name for n in names_in(f.expression)}
    )


def adjusted_means(
    fit: Fitted,
    term: str,
    *,
    at: Mapping[str, Any] | None = None,
    weighting: str = "equal",
    per: float | None = None,
    level: float | None = None,
) -> Table:
    """Return the table of means. See ``Fit.adjusted_means``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    result, scale = cells(fit, term, at, weighting), Scale(fit, counted(fit, per).per)
    c = means(fit, result.X)
    _refuse_unsettled(fit, result, c, "mean")
    lower, upper = c.ends(level)
    names = apart(result.labels, MEANS)
    columns = {names[n]: v for n, v in result.labels.items()}
    columns |= scale.both_scales(c, lower, upper, result.offsets, "mean")
    return Table(
        columns,
        title=f"Adjusted means of {fit.words(scale.name)}, with {level_words(level)} intervals",
        notes=(*error_notes(fit), *held_note(fit, result.held), *scale.notes, *_empty(c)),
        appearance=Appearance(
            kinds=dict.fromkeys(MEANS, "error")
            | {
                names[n]: "text" if isinstance(v[0], str) else "value"
                for n, v in result.labels.items()
            },
            headings=headings(names, fit.words),
        ),
    )


def _refuse_unsettled(fit: Fitted, result: Cells, c: Combination, what: str) -> None:
    """Raise CallError where none of the figures can be estimated, with the reason."""
    if np.isfinite(c.values).any():
        return
    names = [*result.labels, *(n for n, v in result.held.at.items() if isinstance(v, dict))]
    for inner, outer in permutations(names, 2):
        if _never_changes(fit, inner, outer):
            raise CallError(
                f"no {what} can be estimated: {inner} never changes within one {outer}, so that "
                "the rows cannot separate the two; leave one of them out",
                argument="term",
            )
    raise CallError(f"no {what} can be estimated: the rows do not determine it", argument="term")


def _never_changes(fit: Fitted, inner: str, outer: str) -> bool:
    """Return True if all used rows of one level of a column have one level of another."""
    if fit.origin is None:
        return False
    table, used = rows_at_hand(fit)
    if not {inner, outer} <= set(table.names):
        return False
    a, b = (table.column(name).codes(used.rows) for name in (inner, outer))
    together = len(np.unique(np.column_stack([a, b]), axis=0))
    return together == len(np.unique(b))


def _empty(c: Combination) -> list[str]:
    """Return why a cell is empty."""
    if np.isfinite(c.values).all():
        return []
    return ["empty: what the rows do not determine, such as a combination without rows"]


# ------------------------------------------------------------------ differences


def level_differences(
    fit: Fitted,
    term: str,
    *,
    reference: str | None = None,
    correction: str | None = None,
    at: Mapping[str, Any] | None = None,
    level: float | None = None,
    ratios: bool = True,
) -> Table:
    """Return the table of differences, with their ratios. See ``Fit.level_differences``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    result = cells(fit, term, at)
    correction = correction or ("tukey" if reference is None else "dunnett")
    one_of("correction", correction, CORRECTIONS if reference is None else TO_REFERENCE)
    groups = _groups(result, at)
    by_group = [_pairs(result, group, reference) for group in groups]
    pairs = [pair for of_group in by_group for pair in of_group]
    if not pairs:
        raise CallError(f"{term} has one level only, so there is no difference to give")
    D = np.array([result.X[i] - result.X[j] for i, j in pairs])
    c = contrast(fit, D)
    _refuse_unsettled(fit, result, c, "difference")
    corrected = _corrected(fit, c, D, by_group, level, correction)
    if len(result.labels) > 1:
        names = result.names
    else:
        names = next(iter(result.labels.values()))
    columns: dict[str, Any] = {
        "level": [str(names[i]) for i, _ in pairs],
        "minus": [str(names[j]) for _, j in pairs],
        "difference": c.values,
        "lower": c.values - corrected.times * c.standard_errors,
        "upper": c.values + corrected.times * c.standard_errors,
        "standard_error": c.standard_errors,
        statistic_name(fit): c.t,
        "p": corrected.p,
    }
    scale, notes = Scale(fit), [corrected.words]
    if ratios and (kind := ratio_of_differences(fit)):
        ends = [np.exp(columns[n]) for n in ("difference", "lower", "upper")]
        columns |= dict(zip(("ratio", "ratio_lower", "ratio_upper"), ends, strict=True))
        notes.append(f"ratio: {kind}, of a level to its reference")
    if scale.on:
        notes.append(f"differences are on the scale of {scale.on}")
    return Table(
        columns,
        title=f"Differences between levels, with {level_words(level)} intervals",
        notes=(*error_notes(fit), *held_note(fit, result.held), *notes, *_empty(c)),
        appearance=Appearance(
            kinds=dict.fromkeys(("difference", "lower", "upper", "standard_error"), "error")
            | dict.fromkeys(("ratio", "ratio_lower", "ratio_upper"), "own")
            | {"level": "text", "minus": "text"}
        ),
    )


def _groups(result: Cells, at: Mapping[str, Any] | None) -> list[list[int]]:
    """Return cells that are compared with one another: those at the same values of at=."""
    keys = [tuple(result.labels[n][i] for n in at or ()) for i in range(len(result.X))]
    return [[i for i, k in enumerate(keys) if k == key] for key in dict.fromkeys(keys)]


def _pairs(result: Cells, group: list[int], reference: str | None) -> list[tuple[int, int]]:
    if reference is None:
        return [(j, i) for i, j in combinations(group, 2)]
    names = result.names
    columns = list(result.labels.values())
    places = [i for i in group if reference in (names[i], str(columns[0][i]))]
    if not places:
        one_of("reference", reference, tuple(dict.fromkeys(str(v) for v in columns[0])))
    return [(i, places[0]) for i in group if i != places[0]]


@dataclass(frozen=True)
class _Corrected:
    """p, how many standard errors the ends lie away, and what was done, in words."""

    p: np.ndarray
    times: np.ndarray
    words: str


def _corrected(
    fit: Fitted,
    c: Combination,
    D: np.ndarray,
    by_group: Sequence[list[tuple[int, int]]],
    level: float,
    correction: str,
) -> _Corrected:
    """Return each group of comparisons corrected by itself."""
    uneven = fit.sandwich is not None and correction in ("tukey", "dunnett")
    if uneven:
        way = "holm"
    else:
        way = correction
    p, times = np.full(len(D), np.nan), np.full(len(D), np.nan)
    start = 0
    for pairs in by_group:
        span = slice(start, start + len(pairs))
        part = Combination(c.values[span], c.standard_errors[span], c.df[span])
        known = np.isfinite(part.t)  # of cells without rows nothing is known
        cells_known = max(len(np.unique(np.array(pairs)[known])), 2)
        p[span], times[span] = _one_group(fit, part, D[span], level, way, cells_known)
        start += len(pairs)
    words = {
        "tukey": "p and ends by Tukey & Kramer, for all pairs together",
        "dunnett": "p and ends by Dunnett 1955, for all levels against the reference together",
        "holm": "p by Holm, ends by Bonferroni",
        "bonferroni": "p and ends by Bonferroni",
        "none": "not corrected for the number of comparisons",
    }[way]
    if uneven:
        words += f", as {correction}'s correction assumes an even spread"
    return _Corrected(p, times, words + (", at each value by itself" if len(by_group) > 1 else ""))


def _one_group(
    fit: Fitted, c: Combination, D: np.ndarray, level: float, way: str, cells: int
) -> tuple[np.ndarray, np.ndarray]:
    """Return p and multiples of the standard error for one family of comparisons."""
    m = max(int(np.isfinite(c.t).sum()), 1)
    df = float(c.df[0])
    alone = c.p
    if way == "none":
        return alone, intervals.t_times(level, c.df)
    if way in ("bonferroni", "holm"):
        times = intervals.t_times(level, c.df, m)
        return (np.minimum(m * alone, 1.0) if way == "bonferroni" else holm(alone)), times
    if not df > 0:
        return np.full(len(D), np.nan), np.full(len(D), np.nan)
    if way == "tukey":
        # the studentized range is of means, whose difference has √2 times the error of one
        apart = np.sqrt(2) * np.abs(c.t)
        above = [simultaneous.range_above(q, cells, df) if q == q else np.nan for q in apart]
        times = simultaneous.range_quantile(level, cells, df) / np.sqrt(2)
        return np.array(above), np.full(len(D), times)
    known = np.flatnonzero(np.isfinite(c.t))
    L = D[known]
    if fit.solution.has_intercept:
        L = np.column_stack([np.zeros(len(L)), L])
    U = in_basis(fit, L)
    # the correlations of the comparisons decide how far they stand together
    U = U / np.sqrt((U * U).sum(axis=1))[:, None]
    R = np.clip(U @ U.T, -1, 1)
    p = np.full(len(D), np.nan)
    p[known] = [1 - simultaneous.largest_below(abs(c.t[i]), R, df) for i in known]
    return p, np.full(len(D), simultaneous.largest_quantile(level, R, df))
