"""The response: its values, its name, and the way back from a transformed response."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from joinery.design.factors import shown
from joinery.design.learning import Learner
from joinery.notation.context import Context
from joinery.notation.evaluate import evaluate
from joinery.notation.functions import of_number
from joinery.notation.of_number import Step
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix
from joinery.notation.walk import is_condition, lags_in, names_in
from joinery.support.errors import CallError


@dataclass(frozen=True)
class ResponseScale:
    """A response expression and how to turn values of it back to its one column.

    ``kind`` is ``plain``, ``of`` (so many of a total) or ``per`` (a count with its exposure).
    """

    expression: Expression
    kind: str = "plain"
    total: Expression | None = None
    ranges: tuple[
        tuple[float, float], ...
    ] = ()  # of what stands inside each operation, over the fitted rows

    @property
    def name(self) -> str:
        """As the model has it: ``log(honey_kg)``, ``survived of colonies``."""
        text = shown(self.expression)
        if self.total is None:
            return text
        return f"{text} {self.kind} {shown(self.total)}"

    @property
    def transformed(self) -> bool:
        """Return True if it is a function of exactly one column rather than that column itself.

        What it is of other rows, which have that column too, is no function of it."""
        if self.total is not None or is_condition(self.expression):
            return False
        if any(True for _ in lags_in(self.expression)):
            return False
        return (
            not isinstance(self.expression, Name)
            and len({n.name for n in names_in(self.expression)}) == 1
        )

    @property
    def middle(self) -> str:
        """Return what is fitted, back-transformed: the median of a transformed response, else the
        mean."""
        if self.transformed:
            return "median"
        return "mean"

    @property
    def inside_log(self) -> str:
        """Return what it is the logarithm of, whose ratios are exp of differences; empty
        otherwise."""
        made = self.expression
        if self.total is None and isinstance(made, Call) and made.function == "log":
            return shown(made.arguments[0])
        return ""

    @property
    def expressions(self) -> list[Expression]:
        """The response itself, and its total or exposure where it has one."""
        if self.total is None:
            return [self.expression]
        return [self.expression, self.total]

    @property
    def original(self) -> str:
        """As it was measured: ``honey_kg``; the expression itself when several columns make it."""
        if self.transformed:
            return next(names_in(self.expression)).name
        return self.name

    def values(self, context: Context) -> np.ndarray:
        """Return the response for the context's rows, NaN where missing; of a total, the share."""
        values = evaluate(self.expression, context)
        if self.kind != "of" or self.total is None:
            return values
        with np.errstate(all="ignore"):
            return np.asarray(values / evaluate(self.total, context))

    def trials(self, context: Context) -> np.ndarray | None:
        """Return how many each row's share is out of, or None."""
        if self.kind == "of" and self.total is not None:
            return evaluate(self.total, context)
        return None

    def log_exposure(self, context: Context) -> np.ndarray | None:
        """Return the logarithm of each row's exposure, or None."""
        if self.kind != "per" or self.total is None:
            return None
        with np.errstate(all="ignore"):
            return np.asarray(np.log(evaluate(self.total, context)))

    def turn_back(self, values: np.ndarray) -> np.ndarray:
        """Turn values of the model's scale back, cut at the ends of what the response can give.

        A value past a pole is infinite. Raises CallError where there is no unique way back.
        """
        if not self.transformed:
            return values
        with np.errstate(all="ignore"):
            for undo in self._steps:
                values = undo.step(values)
        return values

    @cached_property
    def decreasing(self) -> bool:
        """Return True if the measured value falls as the model's rises, so that ends swap."""
        return self.transformed and bool(sum(undo.falls for undo in self._steps) % 2)

    @cached_property
    def has_pole(self) -> bool:
        """Return True if a value of the model's scale beyond some end turns back to an infinite
        one."""
        return self.transformed and any(undo.pole for undo in self._steps)

    @cached_property
    def _steps(self) -> list[_Undo]:
        steps, inner, places = [], self.expression, iter(self.ranges)
        while not isinstance(inner, Name):
            step = _undo(inner, next(places, (-np.inf, np.inf)))
            steps.append(step)
            inner = step.inner
        return steps


def inner_ranges(expression: Expression, learner: Learner) -> tuple[tuple[float, float], ...]:
    """Return the range of what stands inside each operation of a response, the outermost first."""
    ranges = []
    node = expression
    while not isinstance(node, Name):
        inside = _inside(node)
        if inside is None:
            break
        ranges.append(learner.ends(inside))
        node = inside
    return tuple(ranges)


def _inside(node: Expression) -> Expression | None:
    """Return the operand that holds the column."""
    parts = {Call: "arguments", Prefix: "operand", Power: "base", Chain: "operands"}
    if type(node) not in parts:
        return None
    inside = getattr(node, parts[type(node)])
    if isinstance(inside, tuple):
        operands = inside
    else:
        operands = (inside,)
    return next((o for o in operands if any(True for _ in names_in(o))), None)


@dataclass(frozen=True)
class _Undo:
    """Return an operation's inside, the step that undoes it, and whether it reverses order."""

    inner: Expression
    step: Step
    falls: bool = False
    pole: bool = False  # whether finite values of the model's scale may be turned to infinite ones


def _no_way_back(node: Expression) -> CallError:
    return CallError(
        f"{node} cannot be solved for {next(names_in(node)).name} in one way only, so it "
        "cannot be forecast"
    )


def _undo(node: Expression, inside: tuple[float, float]) -> _Undo:
    """Return how an operation is undone, given the range of what was inside it.

    Raises CallError where it cannot be.
    """
    if isinstance(node, Call):
        function = of_number(node.function)
        if function is None or function.back is None:
            raise _no_way_back(node)
        return _Undo(node.arguments[0], function.back.step)
    if isinstance(node, Prefix) and node.operator == "-":
        return _Undo(node.operand, np.negative, True)
    if isinstance(node, Power) and isinstance(node.exponent, Number):
        return _undo_power(node, node.exponent.value, inside)
    if isinstance(node, Chain) and len(node.operands) == 2:
        return _undo_chain(node, inside)
    raise _no_way_back(node)


def _undo_power(node: Power, exponent: float, inside: tuple[float, float]) -> _Undo:
    """Return a root; past zero, which the power cannot give, its end (infinite for negative
    powers)."""
    low, high = inside
    if exponent == 0:
        raise _no_way_back(node)
    # an odd power keeps the sign, an even one loses it, and others are of positive numbers alone
    odd, even = exponent % 2 == 1, exponent % 2 == 0
    if odd and exponent > 0:
        return _Undo(node.base, lambda v: np.sign(v) * np.abs(v) ** (1 / exponent))
    if low < 0 < high or (low < 0 and not (odd or even)):
        raise _no_way_back(node)
    if low < 0:
        sign = -1.0
    else:
        sign = 1.0
    given = -1.0 if low < 0 and odd else 1.0  # the side of zero on which the power's values lie

    def root(v: np.ndarray) -> np.ndarray:
        size = np.maximum(given * v, 0.0)
        return np.asarray(np.where(np.isnan(v), np.nan, sign * size ** (1 / exponent)))

    falls = (exponent < 0) != (sign * given < 0)
    return _Undo(node.base, root, falls, pole=exponent < 0)


def _undo_chain(node: Chain, inside: tuple[float, float]) -> _Undo:
    left, right = node.operands
    operator = node.operators[0]
    if isinstance(right, Number):
        b = right.value
        back: dict[str, tuple[Step, bool]] = {
            "+": (lambda v: v - b, False),
            "-": (lambda v: v + b, False),
            "*": (lambda v: v / b, b < 0),
            "/": (lambda v: v * b, b < 0),
        }
        if operator in back and b:
            return _Undo(left, *back[operator])
    if isinstance(left, Number):
        a = left.value
        forth: dict[str, tuple[Step, bool]] = {
            "+": (lambda v: v - a, False),
            "-": (lambda v: a - v, True),
            "*": (lambda v: v / a, a < 0),
        }
        if operator in forth and (a or operator in "+-"):
            return _Undo(right, *forth[operator])
        if operator == "/" and a and not inside[0] < 0 < inside[1]:
            side = -1.0 if inside[0] < 0 else 1.0  # of zero, where what was divided by lies

            def quotient(v: np.ndarray) -> np.ndarray:
                # a/x turns the order round, and near its pole runs off to one side: that of what
                # was seen
                ratio = a / np.where(v == 0, np.nan, v)
                past = np.where(np.isnan(v), np.nan, side * np.inf)
                return np.asarray(np.where(ratio * side > 0, ratio, past))

            return _Undo(right, quotient, a > 0, pole=True)
    raise _no_way_back(node)
