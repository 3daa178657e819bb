"""Categories: the level of each row, of a column as it stands or of a function that gives one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from joinery.data.columns import Column, level_text
from joinery.data.records import Records
from joinery.notation.context import Context
from joinery.notation.date_parts import DATE_PARTS
from joinery.notation.evaluate import evaluate
from joinery.notation.functions import FUNCTIONS
from joinery.notation.tree import Call, Expression, Name, Number, number_text
from joinery.notation.walk import names_in
from joinery.support.errors import UnusableColumnError, listed, nearest

Coded = tuple[np.ndarray, Sequence[Any]]  # each row's code (−1 missing), and what codes stand for
OTHER = "other"  # the level that ``pooled`` makes of rare ones


def coded(expression: Expression, context: Context) -> Coded:
    """Return a category's codes (−1 missing) for the wanted rows, and what the codes stand for."""
    if isinstance(expression, Name):
        column = context.table.column(expression.name)
        assert isinstance(column, Column)
        return column.codes(context.rows), column.all_levels
    assert isinstance(expression, Call)
    return _CODED[expression.function](expression, context)


def _of_category(call: Call, context: Context) -> Coded:
    inner = call.arguments[0]
    if isinstance(inner, Name) or gives_levels(inner):
        return coded(inner, context)
    values = evaluate(inner, context)
    present = ~np.isnan(values)
    distinct, inverse = np.unique(values[present], return_inverse=True)
    codes = np.full(len(values), -1, dtype=np.int64)
    codes[present] = inverse
    return codes, distinct.tolist()


def _banded(call: Call, context: Context) -> Coded:
    """Return a number cut into ranges, each closed below: [10, 20)."""
    cuts = [a.value for a in call.arguments[1:] if isinstance(a, Number)]
    values = evaluate(call.arguments[0], context)
    codes = np.where(np.isnan(values), -1, np.searchsorted(cuts, values, side="right"))
    return codes, band_names(cuts)


def band_names(cuts: Sequence[float]) -> list[str]:
    """Return how the ranges between cuts are named, the lowest first."""
    text = [number_text(c) for c in cuts]
    between = [f"{a} to under {b}" for a, b in pairwise(text)]
    return [f"under {text[0]}", *between, f"{text[-1]} and over"]


def _merged(call: Call, context: Context) -> Coded:
    """Return levels under other names, several of them perhaps under one."""
    codes, names = coded(call.arguments[0], context)
    renamed = dict(call.pairs)
    texts = [renamed.get(level_text(name), level_text(name)) for name in names]
    distinct = list(dict.fromkeys(texts))
    if texts_in_order(names):
        distinct.sort()
    place = {text: i for i, text in enumerate(distinct)}
    return _recoded(codes, [place[text] for text in texts]), distinct


def texts_in_order(names: Sequence[Any]) -> bool:
    """Return True for levels that stand by code point, as texts do unless a table orders them."""
    return all(isinstance(a, str) and isinstance(b, str) and a <= b for a, b in pairwise(names))


def _pooled(call: Call, context: Context) -> Coded:
    """Return the levels that enough fitted rows had, and all others as one."""
    codes, names = coded(call.arguments[0], context)
    learnt = context.memory.get(str(call))
    if learnt is None:
        raise UnusableColumnError(
            f"{call} learns from the rows of a fit; it stands in model sentences only"
        )
    if not learnt["pooled"]:  # nothing was rare: a level never seen is refused by its name
        return codes, names
    kept = list(learnt["kept"])
    place = {text: i for i, text in enumerate(kept)}
    return _recoded(codes, [place.get(level_text(n), len(kept)) for n in names]), [*kept, OTHER]


def _recoded(codes: np.ndarray, places: Sequence[int]) -> np.ndarray:
    """Return codes (m,) by the place of each, −1 where they are."""
    return np.asarray(np.append(np.asarray(places, dtype=np.int64), -1)[codes])


def _part_of_date(call: Call, context: Context) -> Coded:
    values = evaluate(Call(call.function, call.arguments), context)
    part = DATE_PARTS[call.function]
    return np.where(np.isnan(values), 0, values).astype(np.int64) - part.first, part.names


_CODED: Mapping[str, Callable[[Call, Context], Coded]] = {
    "category": _of_category,
    "bands": _banded,
    "merged": _merged,
    "pooled": _pooled,
    "month": _part_of_date,
    "weekday": _part_of_date,
    "quarter": _part_of_date,
}


# ------------------------------------------------------------------ what kind a factor is


def gives_levels(expression: Expression | None) -> bool:
    """Return True for a function that gives a category."""
    return isinstance(expression, Call) and FUNCTIONS[expression.function].place == "levels"


def is_category(expression: Expression, table: Records) -> bool:
    """Return True if a factor is a category rather than a number."""
    if isinstance(expression, Name):
        return table.column(expression.name).kind in ("category", "yes/no")
    return gives_levels(expression)


def category_of(expression: Expression) -> Expression | None:
    """Return the argument of ``category()``; None of another expression."""
    if isinstance(expression, Call) and expression.function == "category":
        return expression.arguments[0]
    return None


def column_of_levels(expression: Expression) -> Name | None:
    """Return the column whose values are a factor's levels, perhaps renamed; None for a name alone.

    None too where levels are made of numbers or dates."""
    within = expression
    while isinstance(within, Call) and within.function in ("category", "merged", "pooled"):
        within = within.arguments[0]
    if isinstance(within, Name) and within is not expression:
        return within
    return None


def merged_levels(name: str, factors: Sequence[Expression]) -> Expression:
    """Return what gives a column's levels where all its factors merge them alike: else the column.

    Merged levels are one level; that levels are pooled is an assumption, which rows may refute."""
    column = Name(name)
    uses = {_merging(factor) for factor in factors if column in names_in(factor)}
    (use,) = uses if len(uses) == 1 else (None,)
    return column if use is None else use


def _merging(factor: Expression) -> Expression | None:
    while isinstance(factor, Call) and factor.function in ("category", "merged", "pooled"):
        if factor.function == "merged":
            return factor
        factor = factor.arguments[0]
    return None


def renames_levels(expression: Expression) -> bool:
    """Return True if levels are merged or pooled somewhere in a factor."""
    within = expression
    while isinstance(within, Call):
        if within.function in ("merged", "pooled"):
            return True
        if not within.arguments:
            return False
        within = within.arguments[0]
    return False


def check_renamed(call: Call, known: Sequence[Any]) -> None:
    """Raise UnusableColumnError for a level to be renamed that no row has."""
    texts = [level_text(level) for level in known]
    for old, _ in call.pairs:
        if old not in texts:
            near = nearest(old, texts)
            hint = f"did you mean {near!r}?" if near else f"the levels are {listed(texts, 12)}"
            raise UnusableColumnError(f"{call.arguments[0]} has no level {old!r}; {hint}")
