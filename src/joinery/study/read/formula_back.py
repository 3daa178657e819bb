"""From the linear predictor back to the response, as a formula."""

from __future__ import annotations

import numpy as np

from joinery.core.glm.links import Tree
from joinery.notation.functions import of_number
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix
from joinery.study.fitted import Fitted
from joinery.study.read.formula import (
    ByRange,
    Constant,
    Formula,
    call,
    times,
)


def formula_of_tree(tree: Tree, x: Formula) -> Formula:
    """Return the formula of a link or a function with what it is of in it."""
    if tree in ("eta", "x"):
        return x
    if isinstance(tree, tuple):
        name, *arguments = tree
        return call(name, *(formula_of_tree(argument, x) for argument in arguments))
    return Constant(float(tree))


def back_transformed_formula(fit: Fitted, value: Formula) -> Formula:
    """Return a transformed response undone, step by step, as ``ResponseScale.turn_back`` does
    it."""
    node, places = fit.response.expression, iter(fit.response.ranges)
    fit.response.turn_back(np.zeros(1))  # refuses what has no way back
    while not isinstance(node, Name):
        low, _ = next(places, (-np.inf, np.inf))
        if isinstance(node, Call):
            value, node = _inside(node.function, value), node.arguments[0]
        elif isinstance(node, Prefix):
            value, node = call("negate", value), node.operand
        elif isinstance(node, Power):
            assert isinstance(node.exponent, Number)
            value, node = _root(value, node.exponent.value, low), node.base
        else:
            assert isinstance(node, Chain)
            value, node = _without_number(node, value, low)
    return value


def _inside(name: str, value: Formula) -> Formula:
    """Return what a function of one number was of, where this is its value."""
    function = of_number(name)
    assert function is not None
    assert function.back is not None
    inside = formula_of_tree(function.back.formula, value)
    if function.back.below_zero is None:
        return inside
    return above_zero(value, inside, function.back.below_zero)


def _root(value: Formula, exponent: float, low: float) -> Formula:
    """Return the base of a power, as ``ResponseScale`` turns it back."""
    power = Constant(1 / exponent)
    odd = exponent % 2 == 1
    if odd and exponent > 0:
        return times(call("sign", value), call("^", call("abs", value), power))
    negative = low < 0
    if negative and odd:
        given = call("negate", value)
    else:
        given = value
    if exponent < 0:
        end = np.inf
    else:
        end = 0.0
    root = above_zero(given, call("^", given, power), end)
    if negative:
        return call("negate", root)
    return root


def above_zero(given: Formula, value: Formula, otherwise: float) -> Formula:
    """Return a value where what is given lies above zero, and another one elsewhere."""
    return ByRange(given, (0.0,), (Constant(otherwise), value))


def _without_number(node: Chain, value: Formula, low: float) -> tuple[Formula, Expression]:
    """Return a sum, difference, product or quotient with a number undone, and what it was made
    of."""
    left, right = node.operands
    sign = node.operators[0]
    back = {"+": "-", "-": "+", "*": "/", "/": "*"}
    if isinstance(right, Number):
        return call(back[sign], value, Constant(right.value)), left
    assert isinstance(left, Number)
    number = Constant(left.value)
    if sign == "/":  # past zero lies no value
        ratio = call("/", number, value)
        if low < 0:
            return ByRange(ratio, (0.0,), (ratio, Constant(-np.inf))), right
        return above_zero(ratio, ratio, np.inf), right
    if sign == "-":
        return call("-", number, value), right
    return call(back[sign], value, number), right
