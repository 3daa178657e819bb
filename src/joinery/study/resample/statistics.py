"""Figures made of coefficients, with their gradients: what a bootstrap follows over its draws."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from joinery.design.factors import shown
from joinery.design.terms import TIMES
from joinery.notation.functions import of_number
from joinery.notation.parse import read_claims
from joinery.notation.tree import Call, Chain, Expression, Number, Power, Prefix
from joinery.study.compare.claim import coefficient_place, combinations
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates
from joinery.support.errors import CallError, SentenceError


class Statistics(Protocol):
    """Figures of a fit as functions of coefficients in the solution's basis."""

    @property
    def names(self) -> list[str]: ...

    def values(self, beta: np.ndarray) -> np.ndarray:
        """Return the figures (b, m) of coefficients (b, p)."""

    def gradients(self, beta: np.ndarray) -> np.ndarray:
        """Return their derivatives (b or 1, m, p) by the coefficients."""


@dataclass(frozen=True)
class LinearStatistics:
    """Combinations ``weights`` (m, p) of the coefficients."""

    names: list[str]
    weights: np.ndarray

    def values(self, beta: np.ndarray) -> np.ndarray:
        return np.asarray(beta @ self.weights.T)

    def gradients(self, beta: np.ndarray) -> np.ndarray:
        return self.weights[None]


@dataclass(frozen=True)
class Expressions:
    """Expressions among coefficients, which are combinations ``weights`` (k, p) of the basis."""

    names: list[str]
    trees: list[Expression]
    coefficients: tuple[str, ...]
    weights: np.ndarray

    def values(self, beta: np.ndarray) -> np.ndarray:
        return np.column_stack([outcome.value for outcome in self._all(beta)])

    def gradients(self, beta: np.ndarray) -> np.ndarray:
        slopes = [np.broadcast_to(outcome.slope, (len(beta), len(self.weights)))
                  for outcome in self._all(beta)]  # fmt: skip
        return np.asarray(np.stack(slopes, axis=1) @ self.weights)

    def _all(self, beta: np.ndarray) -> list[_Sloped]:
        drawn = beta @ self.weights.T
        with np.errstate(all="ignore"):
            return [
                _sloped(tree, text, self.coefficients, drawn)
                for tree, text in zip(self.trees, self.names, strict=True)
            ]


@dataclass(frozen=True)
class _Sloped:
    """A value (b,) with its slopes (b or 1, k) by each coefficient: forward differentiation."""

    value: np.ndarray
    slope: np.ndarray

    def __add__(self, other: _Sloped) -> _Sloped:
        return _Sloped(self.value + other.value, self.slope + other.slope)

    def __mul__(self, other: _Sloped) -> _Sloped:
        slope = self.slope * other.value[:, None] + other.slope * self.value[:, None]
        return _Sloped(self.value * other.value, slope)

    def through(self, value: np.ndarray, slope: np.ndarray) -> _Sloped:
        """Return a function of it, by the function's value and slope there."""
        return _Sloped(value, self.slope * slope[:, None])

    @property
    def reciprocal(self) -> _Sloped:
        return self.through(1 / self.value, -1 / self.value**2)


def _in_basis(fit: Fitted, L: np.ndarray) -> np.ndarray:
    """Return weights (m, coefficients) in the basis of the rows that are drawn (m, rank)."""
    return np.asarray(L[:, fit.solution.places] @ fit.solution.root)


def statistics(fit: Fitted, of: Sequence[str] | str | None) -> Statistics:
    """Return the figures that ``of`` names; every estimated coefficient where it names none.

    Raises CallError where it is empty or names a coefficient left out, SentenceError where a name
    is not known or an expression holds no coefficient."""
    known = estimates(fit)
    kept = np.flatnonzero(np.isfinite(known.values))
    weights = _in_basis(fit, np.eye(len(known.names))[kept])
    if of is None:
        return LinearStatistics([known.names[i] for i in kept], weights)
    if isinstance(of, str):
        texts = [of]
    else:
        texts = list(of)
    if not texts:
        raise CallError("of= names no figure; leave it out for the coefficients", argument="of")
    claims = [read_claims(f"{text} = 0") for text in texts]
    trees = [left for ((left, _, _), *_) in claims]
    if all(map(_linear, trees)):
        L = [combinations(fit, claim, text) for claim, text in zip(claims, texts, strict=True)]
        if not any(constant.any() for _, constant in L):
            return LinearStatistics(texts, _in_basis(fit, np.vstack([row for row, _ in L])))
    names = tuple(known.names[i] for i in kept)
    for tree, text in zip(trees, texts, strict=True):
        if not _sloped(tree, text, names, np.ones((1, len(names)))).slope.any():
            raise SentenceError("this figure names no coefficient", text=text)
    return Expressions(texts, trees, names, weights)


def _linear(tree: Expression) -> bool:
    """Return True if a tree is of the form that claims take."""
    if isinstance(tree, Prefix):
        return _linear(tree.operand)
    if isinstance(tree, Chain):
        pairs = zip(("*", *tree.operators), tree.operands, strict=True)
        return all(
            (operator != "/" or isinstance(part, Number)) and _linear(part)
            for operator, part in pairs
        )
    return not isinstance(tree, Call) or of_number(tree.function) is None


def _sloped(tree: Expression, text: str, names: tuple[str, ...], drawn: np.ndarray) -> _Sloped:
    """Return an expression at coefficients (b, k); names multiplied are one interaction's name."""

    def of(node: Expression) -> _Sloped:
        return _sloped(node, text, names, drawn)

    if isinstance(tree, Number):
        return _Sloped(np.full(len(drawn), tree.value), np.zeros((1, drawn.shape[1])))
    place = coefficient_place([tree], names)
    if place is not None:
        return _Sloped(drawn[:, place], np.eye(drawn.shape[1])[[place]])
    if isinstance(tree, Prefix) and tree.operator in ("-", "+"):
        inner = of(tree.operand)
        if tree.operator == "-":
            return inner.through(-inner.value, -np.ones(1))
        return inner
    if isinstance(tree, Chain) and set(tree.operators) <= {"+", "-"}:
        total = of(tree.operands[0])
        for operator, operand in zip(tree.operators, tree.operands[1:], strict=True):
            total = total + (of(operand) if operator == "+" else of(Prefix("-", operand)))
        return total
    if isinstance(tree, Chain) and set(tree.operators) <= {"*", "/"}:
        return _product(tree, text, names, drawn)
    if isinstance(tree, Call) and (function := of_number(tree.function)) is not None:
        inner = of(tree.arguments[0])
        return inner.through(function.value(inner.value), function.slope(inner.value))
    if isinstance(tree, Power) and isinstance(tree.exponent, Number):
        inner, k = of(tree.base), tree.exponent.value
        return inner.through(inner.value**k, k * inner.value ** (k - 1))
    place = coefficient_place([tree], names, text)  # raises: the name is not known
    raise AssertionError(place)


def _product(tree: Chain, text: str, names: tuple[str, ...], drawn: np.ndarray) -> _Sloped:
    """Return factors and divisors; names multiplied with one another are the name of an
    interaction."""
    pairs = list(zip(("*", *tree.operators), tree.operands, strict=True))
    named = [part for operator, part in pairs if operator == "*" and _is_name(part, names)]
    if named:
        place = coefficient_place(named, names, text)
    else:
        place = None
    total = _sloped(Number(1.0), text, names, drawn)
    if place is not None:
        total = _Sloped(drawn[:, place], np.eye(drawn.shape[1])[[place]])
    for operator, part in pairs:
        if part in named and operator == "*":
            continue
        factor = _sloped(part, text, names, drawn)
        total = total * (factor.reciprocal if operator == "/" else factor)
    return total


def _is_name(node: Expression, names: tuple[str, ...]) -> bool:
    if isinstance(node, Call) and of_number(node.function):  # log(x) may be a term's name
        return any(shown(node) in name.split(TIMES) for name in names)
    return not isinstance(node, (Number, Chain, Prefix))
