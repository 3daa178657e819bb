"""Derivatives of expressions by one column, from the rules of differentiation."""

from __future__ import annotations

import numpy as np

from joinery.notation.context import Context
from joinery.notation.date_parts import DATE_PARTS
from joinery.notation.evaluate import evaluate
from joinery.notation.functions import of_number
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix
from joinery.notation.walk import lags_in, names_in_own_row
from joinery.support.errors import CallError


def derivative(node: Expression, name: str, context: Context) -> np.ndarray:
    """Return d(node)/d(column ``name``) at each wanted row: (rows,).

    ``name`` may be a lag by its text: what another row has is a predictor of its own. Comparisons
    are steps, whose derivative is zero. Raises CallError for ranks, which have none.
    """
    if isinstance(node, Call) and node.function == "lag":
        size = 1.0 if str(node) == name else 0.0  # what another row has stays as it is
        return np.full(context.size, size)
    if not _depends(node, name):
        return np.zeros(context.size)
    if isinstance(node, Name):
        return np.ones(context.size)
    if isinstance(node, Prefix):
        inner = derivative(node.operand, name, context)
        if node.operator == "-":
            return -inner
        return np.zeros(context.size)
    if isinstance(node, Power):
        return _of_power(node, name, context)
    if isinstance(node, Chain):
        return _of_chain(node, name, context)
    assert isinstance(node, Call)
    return _of_call(node, name, context)


def _depends(node: Expression, name: str) -> bool:
    """Return True if an expression names the column, or holds the lag called so."""
    if any(n.name == name for n in names_in_own_row(node)):
        return True
    return any(str(call) == name for call in lags_in(node))


def _of_power(node: Power, name: str, context: Context) -> np.ndarray:
    base, exponent = evaluate(node.base, context), evaluate(node.exponent, context)
    inner = derivative(node.base, name, context)
    with np.errstate(all="ignore"):
        out = np.where(exponent == 0, 0.0, exponent * np.power(base, exponent - 1) * inner)
        if not isinstance(node.exponent, Number):
            outer = derivative(node.exponent, name, context)
            out = out + np.where(outer == 0, 0.0, np.power(base, exponent) * np.log(base) * outer)
    return np.asarray(out)


def _of_chain(node: Chain, name: str, context: Context) -> np.ndarray:
    if node.operators[0] not in ("+", "-", "*", "/"):
        return np.zeros(context.size)
    value, slope = evaluate(node.operands[0], context), derivative(node.operands[0], name, context)
    for operator, operand in zip(node.operators, node.operands[1:], strict=True):
        v, s = evaluate(operand, context), derivative(operand, name, context)
        if operator in ("+", "-"):
            if operator == "+":
                sign = 1.0
            else:
                sign = -1.0
            value, slope = value + sign * v, slope + sign * s
        elif operator == "*":
            value, slope = value * v, slope * v + value * s
        else:
            value, slope = value / v, (slope - value / v * s) / v
    return np.asarray(slope)


def _of_call(node: Call, name: str, context: Context) -> np.ndarray:
    if node.function in DATE_PARTS:
        return np.zeros(context.size)  # a step, as comparisons are
    function = of_number(node.function)
    if function is None and node.function not in ("centred", "standardized"):
        raise CallError(f"{node} has no slope in {name}: it looks at other rows", argument="of")
    x, inner = evaluate(node.arguments[0], context), derivative(node.arguments[0], name, context)
    if node.function == "standardized":
        return np.asarray(inner / context.memory[str(node)]["sd"])
    if function is None:  # centred
        return inner
    with np.errstate(all="ignore"):
        return np.asarray(function.slope(x) * inner)
