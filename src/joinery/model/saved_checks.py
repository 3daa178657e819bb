"""Checks that the parts of a saved fit agree, and that it can be used."""

from __future__ import annotations

import math
import warnings

import numpy as np

from joinery.core.glm.families import FAMILIES
from joinery.data.columns import level_text
from joinery.design.levels import column_of_levels, renames_levels
from joinery.model.saved_form import (
    LEARNT,
    SavedCategory,
    SavedDate,
    SavedFit,
    SavedGroups,
    SavedSandwich,
    SavedSolution,
    require,
)
from joinery.notation.parse import read_expression
from joinery.notation.tree import Sentence
from joinery.notation.walk import calls_in, lags_in, named_in, names_in, names_in_own_row
from joinery.study.fitted import Fitted
from joinery.study.forecast.notes import needed_columns
from joinery.study.forecast.table import forecast
from joinery.study.held import held_cell
from joinery.study.read.coefficients import coefficients
from joinery.study.read.overall import overall
from joinery.support.errors import JoineryError

SMALLEST = 1e-30  # of a factor's diagonal; columns so dependent are never kept


def check_parts(saved: SavedFit, sentence: Sentence) -> None:
    """Raise ValueError, in words, where two parts of a saved fit contradict one another."""
    _check_options(saved)
    _check_design(saved, sentence)
    _check_solution(saved.solution, sentence)
    if saved.sandwich is not None:
        _check_sandwich(saved.sandwich, saved.solution)


def _check_options(saved: SavedFit) -> None:
    options = saved.options
    require(options.family in FAMILIES, f"no such family: {options.family}")
    require(options.link in FAMILIES[options.family].links, f"no such link: {options.link}")
    for written in (options.weights, options.repeats, options.offset):
        if written is not None:
            read_expression(written)
    e, family = saved.estimate, FAMILIES[options.family]
    linear = options.family == "normal" and options.link == "identity"
    require((family.shape is None) == (e.shape is None), "the shape does not go with the family")
    require((e.iterations is None) == linear, "the iterations do not go with the family")
    sums = (e.deviance, e.null_deviance, e.pearson)
    require(all(v is None or v >= -1e-6 for v in sums), "a sum of squares is below zero")
    rank = len(saved.solution.kept) + (saved.solution.intercept is not None)
    left = saved.solution.n > rank or e.known
    require((e.scale is not None) == left, "the dispersion does not go with the rows")


def _check_design(saved: SavedFit, sentence: Sentence) -> None:
    design, factors = saved.design, sentence.factors
    require(set(design.factors) == {str(f) for f in factors}, "other factors than the sentence has")
    expressions = [*sentence.response.expressions, *factors]
    learning = {str(c): c for e in expressions for c in calls_in(e) if c.function in LEARNT}
    require(set(design.functions) == set(learning), "other functions than the sentence has")
    for text, call in learning.items():
        kind = LEARNT[call.function]
        require(type(design.functions[text]) is kind, f"{text} learnt something else")
    names = set(named_in(factors))
    require({*design.seen, *design.fills, *design.dates} <= names, "columns the model has not")
    in_response = set(named_in(sentence.response.expressions))
    wanted = sorted(names | in_response)
    require(sorted(design.named) == wanted, "other columns in order than the sentence names")
    ends = [*design.seen.values(), *design.response_ranges]
    require(all(low <= high for low, high in ends), "a range ends before it begins")
    lags = {str(call) for f in factors for call in lags_in(f)}
    typical_of = set(saved.rows.typical)
    require(typical_of <= names | lags, "typical values of columns the model has not")
    in_own_row = {n.name for f in factors for n in names_in_own_row(f)}
    require(in_own_row <= typical_of, "a column of the model without a typical value")
    shares = {name for name, v in saved.rows.typical.items() if isinstance(v, dict)}
    grouped = {n.name for f in factors for n in names_in(f) if column_of_levels(f) == n}
    require(shares & set(design.seen) <= grouped, "a number with the shares of levels")
    for factor in factors:
        memory, result = design.factors[str(factor)], [n.name for n in names_in(factor)]
        if len(result) == 1:
            typical = saved.rows.typical.get(result[0])
        else:
            typical = None
        dated = not isinstance(memory, SavedDate) or result[0] in design.dates
        require(dated, f"{result[0]} is a date in one part alone")
        if isinstance(memory, SavedDate):
            first = design.seen.get(result[0], (math.nan, 0.0))[0]
            require(
                memory.first == first, f"the first date of {result[0]} differs from part to part"
            )
        alone = not renames_levels(factor)
        if isinstance(typical, dict) and isinstance(memory, SavedCategory) and alone:
            levels = {level_text(level) for level in memory.levels}
            require(set(typical) <= levels, f"the levels of {result[0]} differ from part to part")
        if isinstance(typical, dict) and str(factor) == result[0] and result[0] not in grouped:
            require(isinstance(memory, SavedCategory), f"{result[0]} is not a category")
        if isinstance(typical, float) and str(factor) == result[0]:
            plain = not isinstance(memory, SavedCategory)
            require(plain, f"{result[0]} is a category without shares")


def _check_solution(s: SavedSolution, sentence: Sentence) -> None:
    r, width = len(s.kept), len(s.coefficients)
    rank = r + (s.intercept is not None)
    require((s.intercept is not None) == sentence.intercept, "an intercept too many or too few")
    require(len(s.centre) == len(s.scale) == r, "its columns differ in number")
    require(s.kept == sorted(set(s.kept)) and all(j < width for j in s.kept), "columns kept twice")
    known = [j for j, value in enumerate(s.coefficients) if value is not None]
    require(known == s.kept, "coefficients of columns that were not kept")
    _check_square(s.exact_inverse or [], r if s.exact_inverse is not None else 0)
    _check_square(s.exact_root or [], rank if s.exact_root is not None else 0)
    if s.groups is None:
        require(len(s.own_effects or []) == r, "its columns differ in number")
        _check_factor(s.own_factor or [], r)
    else:
        require(s.own_factor is None and s.own_effects is None, "a factor beside groups")
        _check_groups(s.groups, r)
    lacking = set(range(width)) - set(s.kept)
    require(set(s.dependence) <= lacking, "a column kept is a combination of others")
    sizes = {len(combination) for combination in s.dependence.values()}
    require(sizes <= {width + 1}, "a combination of columns has other parts")
    require(s.constant_direction is None or len(s.constant_direction) == r, "a direction too long")


def _check_square(rows: list[list[float]], size: int) -> None:
    square = len(rows) == size and all(len(row) == size for row in rows)
    require(square, "a factor is not square")


def _check_factor(rows: list[list[float]], size: int) -> None:
    _check_square(rows, size)
    diagonal = [abs(rows[i][i]) for i in range(size)]
    sound = all(v > SMALLEST * max(diagonal) for v in diagonal)
    require(sound, "a factor that cannot be inverted")


def _check_groups(groups: SavedGroups, r: int) -> None:
    d, count = len(groups.numbers), len(groups.levels) + 1
    require(sorted(groups.levels + groups.numbers) == list(range(r)), "groups of other columns")
    require(all(code < count for code in groups.of_code), "a level of no group")
    each = [groups.weights, groups.response, *groups.means]
    require(all(len(values) == count for values in each), "groups that differ in number")
    require(len(groups.means) == len(groups.effects) == d, "means of other columns")
    _check_factor(groups.factor, d)
    _check_factor(groups.inverse, d)


def _check_sandwich(sandwich: SavedSandwich, solution: SavedSolution) -> None:
    rank = len(solution.kept) + (solution.intercept is not None)
    meat = sandwich.meat
    require(len(sandwich.rows) == len(sandwich.copies), "rows without their number")
    require(all(len(row) == rank for row in sandwich.rows), "rows of another width")
    require(len(meat) == rank and all(len(row) == rank for row in meat), "a covariance too small")
    require(len(sandwich.df) == rank, "degrees of freedom of other coefficients")
    values = np.linalg.eigvalsh(np.array(meat, dtype=float).reshape(rank, rank))
    positive = not rank or values[0] >= -1e-6 * max(values[-1], 0.0)
    require(bool(positive), "a variance below zero")
    even = all(
        math.isclose(meat[i][j], meat[j][i], rel_tol=1e-6, abs_tol=1e-300)
        for i in range(rank)
        for j in range(i)
    )
    require(even, "a covariance that is not symmetric")


def check_use(fit: Fitted) -> None:
    """Raise ValueError, or what comes up, where a fit cannot answer what a saved fit answers."""
    with warnings.catch_warnings(), np.errstate(all="ignore", over="raise"):
        warnings.simplefilter("ignore")
        estimates = coefficients(fit)
        overall(fit)
        require(bool(np.isfinite(estimates["estimate"].dropna()).all()), "an estimate is infinite")
        if fit.memory is None:
            typical = {}
        else:
            typical = fit.memory.typical
        if typical and set(needed_columns(fit)) <= set(typical):
            try:
                name, usual = next(iter(typical.items()))
                forecast(fit, {name: [held_cell(fit, name, usual)]}, hold="average")
            except JoineryError:
                raise ValueError("nothing can be forecast with it") from None
