"""The response: its values, its name, and the way back from a transformed response to what the user measured."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from joinery.design.factors import shown
from joinery.errors import CallError
from joinery.notation.evaluate import Context, evaluate
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix, names_in

Step = Callable[[np.ndarray], np.ndarray]

_INVERSES: dict[str, Step] = {
    "log": np.exp,
    "log2": np.exp2,
    "log10": lambda v: np.power(10.0, v),
    "log1p": np.expm1,
    "exp": np.log,
    "sqrt": np.square,
}


@dataclass(frozen=True)
class ResponseScale:
    """A response expression and how to turn values of it back to its one column.

    ``kind`` is ``plain``, ``of`` (so many of a total) or ``per`` (a count with its exposure).
    """

    expression: Expression
    kind: str = "plain"
    total: Expression | None = None

    @property
    def name(self) -> str:
        """As the model has it: ``log(honey_kg)``, ``survived of colonies``."""
        own = shown(self.expression)
        return own if self.total is None else f"{own} {self.kind} {shown(self.total)}"

    @property
    def transformed(self) -> bool:
        """Whether it is a function of exactly one column rather than that column itself."""
        if self.total is not None or (isinstance(self.expression, (Chain, Prefix)) and self._is_condition):
            return False
        return not isinstance(self.expression, Name) and len({n.name for n in names_in(self.expression)}) == 1

    @property
    def _is_condition(self) -> bool:
        """Whether it says if something happened."""
        node = self.expression
        if isinstance(node, Prefix):
            return node.operator == "not"
        return isinstance(node, Chain) and node.operators[0] not in ("+", "-", "*", "/")

    @property
    def expressions(self) -> list[Expression]:
        """The response itself, and its total or exposure where it has one."""
        return [self.expression] if self.total is None else [self.expression, self.total]

    @property
    def original(self) -> str:
        """As it was measured: ``honey_kg``; the expression itself when several columns make it."""
        return next(names_in(self.expression)).name if self.transformed else self.name

    def values(self, context: Context) -> np.ndarray:
        """The response for the context's rows, NaN where missing; of a total, the share."""
        own = evaluate(self.expression, context)
        if self.kind != "of" or self.total is None:
            return own
        with np.errstate(all="ignore"):
            return np.asarray(own / evaluate(self.total, context))

    def trials(self, context: Context) -> np.ndarray | None:
        """How many each row's share is out of, or None."""
        return evaluate(self.total, context) if self.kind == "of" and self.total is not None else None

    def log_exposure(self, context: Context) -> np.ndarray | None:
        """The logarithm of each row's exposure, or None."""
        if self.kind != "per" or self.total is None:
            return None
        with np.errstate(all="ignore"):
            return np.asarray(np.log(evaluate(self.total, context)))

    def turn_back(self, values: np.ndarray) -> np.ndarray:
        """Values on the model's scale turned back to the measured one. Raises CallError where that is not unique."""
        if not self.transformed:
            return values
        with np.errstate(all="ignore"):
            for step in self._steps:
                values = step(values)
        return values

    @cached_property
    def decreasing(self) -> bool:
        """Whether the measured value falls as the model's rises, so that the ends of an interval swap."""
        if not self.transformed:
            return False
        inner = self.expression
        falling = False
        while not isinstance(inner, Name):
            inner, _, down = _undo(inner)
            falling ^= down
        return falling

    @cached_property
    def _steps(self) -> list[Step]:
        steps, inner = [], self.expression
        while not isinstance(inner, Name):
            inner, step, _ = _undo(inner)
            steps.append(step)
        return steps


def _undo(node: Expression) -> tuple[Expression, Step, bool]:
    """What is inside the outermost operation, the step that undoes it, and whether it turns the order round."""
    if isinstance(node, Call) and node.function in _INVERSES:
        return node.arguments[0], _INVERSES[node.function], False
    if isinstance(node, Prefix) and node.operator == "-":
        return node.operand, np.negative, True
    if isinstance(node, Power) and isinstance(node.exponent, Number):
        exponent = node.exponent.value
        if exponent % 2 == 1:
            return node.base, lambda v: np.sign(v) * np.abs(v) ** (1 / exponent), exponent < 0
        if exponent != 0 and exponent % 2 != 0:
            return node.base, lambda v: np.power(v, 1 / exponent), exponent < 0
    if isinstance(node, Chain) and len(node.operands) == 2:
        found = _undo_chain(node)
        if found is not None:
            return found
    raise CallError(f"{node} cannot be turned back to {next(names_in(node))} in one way only, so it cannot be forecast")


def _undo_chain(node: Chain) -> tuple[Expression, Step, bool] | None:
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
        return (left, *back[operator]) if operator in back and b else None
    if isinstance(left, Number):
        a = left.value
        forth: dict[str, tuple[Step, bool]] = {
            "+": (lambda v: v - a, False),
            "-": (lambda v: a - v, True),
            "*": (lambda v: v / a, a < 0),
            "/": (lambda v: a / v, a > 0),
        }
        return (right, *forth[operator]) if operator in forth and a else None
    return None
