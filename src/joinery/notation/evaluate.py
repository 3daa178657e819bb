"""Expressions computed on columns: numbers in, numbers out, a missing cell staying missing.

What a function learns from the data (a mean, the ranks) is kept in a memory under the function's
own text, so that new rows meet the same numbers. Nothing here is ever evaluated as Python."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.date_parts import DATE_PARTS, date_part
from joinery.notation.functions import of_number
from joinery.notation.tree import (
    Call,
    Chain,
    Expression,
    Name,
    Number,
    Power,
    Prefix,
    Text,
    number_text,
)
from joinery.notation.walk import names_in
from joinery.support import advice
from joinery.support.errors import UnusableColumnError, listed


def evaluate(node: Expression, context: Context) -> np.ndarray:
    """Return an expression's value for each wanted row, float64 (rows,), NaN where an operand is
    missing.

    Comparisons give 1 and 0. Raises UnusableColumnError where a value does not exist (the log of
    zero, division by zero, arithmetic on text), naming column, count and first rows."""
    if context.held and isinstance(value := context.held.get(str(node)), float):
        return np.full(context.size, value)
    if isinstance(node, Name):
        return context.table.column(node.name).numbers(context.rows)
    if isinstance(node, Number):
        return np.broadcast_to(np.float64(node.value), context.size)
    if isinstance(node, Call):
        return _call(node, context)
    if isinstance(node, Power):
        return _power(node, context)
    if isinstance(node, Prefix):
        inner = evaluate(node.operand, context)
        if node.operator == "-":
            return -inner
        return _not(inner)
    if isinstance(node, Chain):
        return _chain(node, context)
    raise UnusableColumnError(
        f"the text {node} stands where a number is needed; text can only be compared with = or !="
    )


# ------------------------------------------------------------------ arithmetic and logic


def _chain(node: Chain, context: Context) -> np.ndarray:
    first = node.operators[0]
    if first in ("=", "!=", "<", "<=", ">", ">="):
        return _compare(node, first, context)
    values = (evaluate(operand, context) for operand in node.operands)
    result = next(values)
    if first in ("and", "or"):
        for value in values:
            if first == "and":
                result = _both(result, value)
            else:
                result = _not(_both(_not(result), _not(value)))
        return result
    with np.errstate(all="ignore"):
        for operator, operand, value in zip(node.operators, node.operands[1:], values, strict=True):
            if operator == "/":
                _refuse(
                    node, operand, value == 0, "is zero", "nothing can be divided by it", context
                )
            result = _ARITHMETIC[operator](result, value)
    return _finite(node, result, context)


_ARITHMETIC: dict[str, Callable[[np.ndarray, np.ndarray], np.ndarray]] = {
    "+": np.add,
    "-": np.subtract,
    "*": np.multiply,
    "/": np.divide,
}
_COMPARISONS: dict[str, Callable[[Any, Any], np.ndarray]] = {
    "=": np.equal,
    "!=": np.not_equal,
    "<": np.less,
    "<=": np.less_equal,
    ">": np.greater,
    ">=": np.greater_equal,
}


def _truth(values: np.ndarray) -> np.ndarray:
    """Return 1 where a value is not zero, 0 where it is, NaN where it is missing."""
    return np.where(np.isnan(values), np.nan, values != 0)


def _not(values: np.ndarray) -> np.ndarray:
    return 1.0 - _truth(values)


def _both(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    """Return `and`: no where either says no, missing where that cannot be told."""
    left, right = _truth(left), _truth(right)
    return np.where((left == 0) | (right == 0), 0.0, left * right)


def _compare(node: Chain, operator: str, context: Context) -> np.ndarray:
    left, right = node.operands
    if _dated(left, context) or _dated(right, context):
        return _compare_dates(node, operator, context)
    if _textual(left, context) or _textual(right, context):
        return _compare_texts(node, operator, context)
    if (full := _large_whole(left, right, context)) is not None:
        return np.asarray(_COMPARISONS[operator](*full), dtype=float)
    a, b = evaluate(left, context), evaluate(right, context)
    return np.where(np.isnan(a) | np.isnan(b), np.nan, _COMPARISONS[operator](a, b))


def _large_whole(
    left: Expression, right: Expression, context: Context
) -> tuple[np.ndarray, np.ndarray] | None:
    """Both sides as Python's whole numbers, where doubles would not tell them apart."""
    sides, large = [], False
    for side in (left, right):
        if isinstance(side, Number) and side.value == int(side.value):
            sides.append(np.full(context.size, int(side.value), dtype=object))
            continue
        if not isinstance(side, Name):
            return None
        values = context.table.column(side.name).large_whole
        if values is None:
            return None
        large = True
        sides.append(values[context.rows].astype(object))
    if large:
        return (sides[0], sides[1])
    return None


def holds(condition: np.ndarray) -> np.ndarray:
    """Return where a condition holds: where its value is known and other than zero."""
    return np.asarray((condition > 0) | (condition < 0))


def _textual(node: Expression, context: Context) -> bool:
    return isinstance(node, Text) or (
        isinstance(node, Name) and context.table.column(node.name).is_text
    )


def _dated(node: Expression, context: Context) -> bool:
    return isinstance(node, Name) and context.table.column(node.name).is_date


def _compare_dates(node: Chain, operator: str, context: Context) -> np.ndarray:
    """Return a comparison with a date: another date, one written as text, or what is computed of
    dates."""
    name = next(side for side in node.operands if _dated(side, context))
    assert isinstance(name, Name)
    column, sides = context.table.column(name.name), []
    for side in node.operands:
        if isinstance(side, Number):
            raise UnusableColumnError(
                f"{node}: {name.name!r} is a date; compare it with a date, written '2024-03-01'",
                column=name.name,
            )
        if isinstance(side, Text):
            sides.append(np.full(context.size, column.from_text(side.value)))
        else:
            sides.append(evaluate(side, context))
    a, b = sides
    return np.where(np.isnan(a) | np.isnan(b), np.nan, _COMPARISONS[operator](a, b))


def _compare_texts(node: Chain, operator: str, context: Context) -> np.ndarray:
    flags = any(
        isinstance(side, Name) and context.table.column(side.name).kind == "yes/no"
        for side in node.operands
    )
    sides: list[Any] = []
    for side in node.operands:
        if isinstance(side, Text):
            sides.append(np.full(context.size, side.value.strip(), dtype=object))
        elif isinstance(side, Name):
            sides.append(context.table.column(side.name).texts(context.rows))
        elif isinstance(side, Number):
            sides.append(np.full(context.size, number_text(side.value), dtype=object))
        else:
            raise UnusableColumnError(f"{node} compares text with a computed number")
    if operator not in ("=", "!="):
        for side in node.operands:
            if isinstance(side, Name):
                context.table.column(side.name).check_order()
        raise UnusableColumnError(f"{node}: text can be compared with = and != only")
    if flags:  # true, True and TRUE are one
        sides = [[v if v is None else str(v).casefold() for v in side] for side in sides]
        sides = [np.array(side, dtype=object) for side in sides]
    missing = np.array([a is None or b is None for a, b in zip(*sides)], dtype=bool)
    return np.where(missing, np.nan, (sides[0] == sides[1]) == (operator == "="))


def _power(node: Power, context: Context) -> np.ndarray:
    base, exponent = evaluate(node.base, context), evaluate(node.exponent, context)
    with np.errstate(all="ignore"):
        if np.any(negative := (exponent < 0) & (base == 0)):
            _refuse(node, node.base, negative, "is zero", "it has no negative power", context)
        fraction = exponent != np.round(exponent)
        if np.any(bad := fraction & (base < 0)):
            _refuse(node, node.base, bad, "is below zero", "it has no fractional power", context)
        if isinstance(node.exponent, Number) and node.exponent.value == 2:
            return _finite(node, base * base, context)
        unknown = np.isnan(base) | np.isnan(exponent)  # whose power 0 would be 1
        return _finite(node, np.where(unknown, np.nan, np.power(base, exponent)), context)


def _refuse(
    expression: Expression,
    part: Expression,
    bad: np.ndarray,
    state: str,
    so: str,
    context: Context,
    hint: str = "",
) -> None:
    """Stops with column, count and first rows where a value does not exist."""
    count = int(np.count_nonzero(bad))
    if not count:
        return
    names = [n.name for n in names_in(part)]
    rows = context.named_rows(np.broadcast_to(bad, context.size))
    where = f" in {count:,} row{'s' * (count > 1)} ({listed(rows)})"
    away = advice.option("where", f"{part} {'!=' if state == 'is zero' else '>='} 0")
    way_out = hint or (
        f"leave those rows out, for example with {away}" if names else "write something else there"
    )
    raise UnusableColumnError(
        f"{expression} does not exist everywhere: {part} {state}{where}, so {so}; {way_out}",
        column=names[0] if names else None,
        rows=rows,
    )


def _finite(node: Expression, values: np.ndarray, context: Context) -> np.ndarray:
    """Return the values, unless arithmetic overflowed on finite ones."""
    if np.isinf(values).any():
        _refuse(
            node,
            node,
            np.isinf(values),
            "is too large for a number",
            "it cannot be used",
            context,
            "rescale the columns",
        )
    return values


# ------------------------------------------------------------------ functions


def _call(node: Call, context: Context) -> np.ndarray:
    if node.function == "lag":
        return _lag(node, context)
    if node.function in LEARNT:
        return _learnt(node, context)
    if node.function in DATE_PARTS:
        return _part_of_date(node, context)
    function, argument = of_number(node.function), node.arguments[0]
    assert function is not None
    x = evaluate(argument, context)
    with np.errstate(all="ignore"):
        if (domain := function.domain) is not None:
            hint = ""
            if domain.instead:
                away = advice.option("where", f"{argument} > 0")
                hint = f"use {domain.instead}({argument}), or leave those rows out with {away}"
            _refuse(node, argument, domain.outside(x), domain.state, domain.so, context, hint)
        return _finite(node, function.value(x), context)


def _part_of_date(node: Call, context: Context) -> np.ndarray:
    """Return a part of a date as a number. Raises UnusableColumnError for a column that is no
    date."""
    argument = node.arguments[0]
    if not _dated(argument, context):
        name = argument.name if isinstance(argument, Name) else None
        raise UnusableColumnError(
            f"{node}: {argument} is not a date; {advice.option('dates')} says how dates are "
            "written where a file is read",
            column=name,
        )
    assert isinstance(argument, Name)
    context.table.column(argument.name).check_order()
    return date_part(node.function, evaluate(argument, context))


def _lag(node: Call, context: Context) -> np.ndarray:
    """Return the value so many rows before in the table's order, within groups where `by=` names
    them."""
    key = str(node)
    if (known := context.table.lags.get(key)) is not None:
        return np.asarray(known[context.rows])
    if key not in context.cache:
        everywhere = context.at(EVERY_ROW)
        x = evaluate(node.arguments[0], everywhere)
        steps, by = node.arguments[1], node.option("by")
        assert isinstance(steps, Number)
        place = _codes(context, context.order)
        group = np.zeros(len(x), int)
        if by is not None:
            assert isinstance(by, Name)
            group = _codes(context, by.name)
        # a row without a place or a group has no neighbours
        known = np.flatnonzero((group >= 0) & (place >= 0))
        order = known[np.lexsort((place[known], group[known]))]
        earlier, later = order[: -int(steps.value)], order[int(steps.value) :]
        same = group[earlier] == group[later]
        lagged = np.full(len(x), np.nan)
        lagged[later[same]] = x[earlier[same]]
        context.cache[key] = lagged
    return context.cache[key][context.rows]


def _codes(context: Context, name: str | None) -> np.ndarray:
    """Return a column's values as whole numbers in their order, −1 where missing.

    The table's own order for None.

    A new table may lack the column that ordered the fitted one: its rows are taken as they come.
    """
    if name is None or name not in context.table.names:
        return np.arange(len(context.table))
    return context.table.column(name).codes(EVERY_ROW)


def _learnt(node: Call, context: Context) -> np.ndarray:
    """Return a function that learnt from the fitted rows and is remembered under its own text."""
    x = evaluate(node.arguments[0], context)
    if str(node) not in context.memory:
        raise UnusableColumnError(
            f"{node} learns from the rows of a fit; it stands in model sentences only"
        )
    return LEARNT[node.function](x, context.memory[str(node)])


def _apply_ranks(x: np.ndarray, memory: dict[str, Any]) -> np.ndarray:
    ranks = np.interp(x, memory["values"], memory["ranks"])
    return np.where(np.isnan(x), np.nan, ranks)


# functions that learn, as they are computed from what they remember
LEARNT: dict[str, Callable[[np.ndarray, dict[str, Any]], np.ndarray]] = {
    "centred": lambda x, m: x - m["mean"],
    "standardized": lambda x, m: (x - m["mean"]) / m["sd"],
    "rank": _apply_ranks,
}
