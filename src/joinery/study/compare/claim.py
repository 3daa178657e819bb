"""Tests of claims: equations and inequalities among coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.inference.covariance import Joint
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import row_lengths
from joinery.design.factors import shown
from joinery.design.terms import TIMES
from joinery.notation.builder import Claim
from joinery.notation.parse import read_claims
from joinery.notation.tree import Chain, Expression, Number, Prefix
from joinery.show.appearance import Appearance
from joinery.show.names import coefficient_key
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.read.coefficients import error_notes
from joinery.study.read.estimates import estimates, in_basis, linear_combination, test_together
from joinery.support.errors import CallError, SentenceError, listed, nearest


@dataclass(frozen=True)
class _Linear:
    """constant + Σ weight·coefficient, weights by coefficient name."""

    constant: float
    weights: dict[str, float]

    def times(self, factor: float) -> _Linear:
        return _Linear(
            self.constant * factor, {name: w * factor for name, w in self.weights.items()}
        )

    def plus(self, other: _Linear) -> _Linear:
        names = [*self.weights, *(n for n in other.weights if n not in self.weights)]
        total = {n: self.weights.get(n, 0.0) + other.weights.get(n, 0.0) for n in names}
        return _Linear(self.constant + other.constant, total)


def claim(fit: Fitted, text: str, level: float | None = None) -> Table:
    """Return the claims table. See ``Fit.claim``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    read = read_claims(text)
    L, away = combinations(fit, read, text)
    combination = linear_combination(fit, L, away)
    lower, upper = combination.ends(level)
    t = combination.t
    signs = [operator for _, operator, _ in read]
    p = [_p(value, d, sign) for value, d, sign in zip(t, combination.df, signs, strict=True)]
    columns: dict[str, list[Any]] = {
        "claim": [f"{left} {operator} {right}" for left, operator, right in read],
        "difference": combination.values.tolist(),
        "lower": lower.tolist(),
        "upper": upper.tolist(),
        "standard_error": combination.standard_errors.tolist(),
        "t": t.tolist(),
        "df": combination.df.tolist(),
        "p": p,
    }
    notes = list(error_notes(fit))
    notes.append(
        "difference is the left side less the right; p is how often estimates lie this far off a "
        "claim that holds"
    )
    equations = [i for i, sign in enumerate(signs) if sign == "="]
    if len(equations) > 1:
        joint = _joint(fit, L[equations], combination.values[equations])
        together = {"claim": "all equations together", "t": np.nan, "df": joint.df2, "p": joint.p}
        for name, values in columns.items():
            values.append(together.get(name, np.nan))
        columns["f"] = [np.nan] * len(read) + [joint.f]
        if joint.f == joint.f:
            remarks = f"F({joint.df1}, {joint.df2:.4g})"
        else:
            remarks = f"no test, as {joint.why}"
        notes.append(f"the equations together: {remarks}")
    kinds = dict.fromkeys(("difference", "lower", "upper", "standard_error"), "error") | {
        "claim": "text",
        "f": "own",
    }
    return Table(
        columns,
        title=f"Claims, with {level_words(level)} intervals",
        notes=tuple(notes),
        appearance=Appearance(kinds=kinds),
    )


def combinations(fit: Fitted, read: Sequence[Claim], text: str) -> tuple[np.ndarray, np.ndarray]:
    """Claims as combinations L (m, coefficients) of the coefficients, and constants (m,).

    Raises SentenceError for a claim about no coefficient, CallError for one that was not estimated.
    """
    known = estimates(fit)
    place = {coefficient_key(name): i for i, name in enumerate(known.names)}
    L, constants = np.zeros((len(read), len(known.names))), np.zeros(len(read))
    for i, (left, _, right) in enumerate(read):
        linear = _linear(left, text, known.names).plus(_linear(right, text, known.names).times(-1))
        if not any(linear.weights.values()):
            raise SentenceError("the claim names no coefficient", text=text)
        for name, weight in linear.weights.items():
            L[i, place[coefficient_key(name)]] = weight
        constants[i] = linear.constant
    lacking = [n for i, n in enumerate(known.names) if np.isnan(known.values[i]) and L[:, i].any()]
    if lacking:
        raise CallError(
            f"the coefficient of {listed(lacking)} was left out of the model, so nothing can be "
            "claimed of it"
        )
    return L, constants


def _joint(fit: Fitted, L: np.ndarray, away: np.ndarray) -> Joint:
    """Return the test of equations together. Raises CallError where one follows from the others."""
    U = in_basis(fit, L)
    if np.linalg.matrix_rank(U / row_lengths(U)[:, None]) < len(U):
        raise CallError(
            "the claims repeat or contradict one another: one follows from the others; leave it out"
        )
    return test_together(fit, U, away)


def _p(t: float, df: float, sign: str) -> float:
    """Return the p-value of a claim: two-sided for an equation, one-sided for an inequality."""
    if np.isnan(t) or df <= 0:
        return float("nan")
    if sign == "=":
        return float(tails.t_two_sided(t, df))
    return float(tails.t_upper(-t if sign in (">", ">=") else t, df))


# ------------------------------------------------------------- from text to weights on coefficients


def _linear(node: Expression, text: str, known: tuple[str, ...]) -> _Linear:
    if isinstance(node, Number):
        return _Linear(node.value, {})
    if isinstance(node, Prefix) and node.operator == "-":
        return _linear(node.operand, text, known).times(-1)
    if isinstance(node, Chain) and set(node.operators) <= {"+", "-"}:
        total = _linear(node.operands[0], text, known)
        for operator, operand in zip(node.operators, node.operands[1:], strict=True):
            total = total.plus(_linear(operand, text, known).times(1 if operator == "+" else -1))
        return total
    if isinstance(node, Chain) and set(node.operators) <= {"*", "/"}:
        return _product(node, text, known)
    return _Linear(0.0, {_coefficient(shown(node), text, known): 1.0})


def _product(node: Chain, text: str, known: tuple[str, ...]) -> _Linear:
    """Return numbers multiply; names together are the coefficient of their product."""
    factor, names, sums = 1.0, [], []
    for operator, operand in zip(("*", *node.operators), node.operands, strict=True):
        if isinstance(operand, Number):
            if operator == "/" and operand.value == 0:
                raise SentenceError("a claim cannot divide by zero", text=text)
            if operator == "*":
                factor = factor * operand.value
            else:
                factor = factor / operand.value
        elif operator == "/":
            raise SentenceError("a claim is linear: a coefficient cannot be divided by", text=text)
        elif isinstance(operand, (Chain, Prefix)):
            sums.append(operand)
        else:
            names.append(shown(operand))
    if sums and (names or len(sums) > 1):
        raise SentenceError(
            "a claim is linear: sums of coefficients are multiplied by numbers only", text=text
        )
    if sums:
        return _linear(sums[0], text, known).times(factor)
    if names:
        return _Linear(0.0, {_coefficient(TIMES.join(names), text, known): factor})
    return _Linear(factor, {})


def coefficient_place(
    nodes: Sequence[Expression], names: tuple[str, ...], text: str | None = None
) -> int | None:
    """Return the place of the coefficient that names, multiplied with one another, stand for.

    None where there is none; with a text that is an error (SentenceError) which shows it."""
    name = TIMES.join(map(shown, nodes))
    if text is not None:
        return names.index(_coefficient(name, text, names))
    return {coefficient_key(known): i for i, known in enumerate(names)}.get(coefficient_key(name))


def _coefficient(name: str, text: str, known: tuple[str, ...]) -> str:
    by_key = {coefficient_key(k): k for k in known}
    if coefficient_key(name) in by_key:
        return by_key[coefficient_key(name)]
    near = nearest(name, known)
    if near:
        hint = f"; did you mean {near!r}?"
    else:
        hint = f"; the coefficients are {listed(map(repr, known), 12)}"
    raise SentenceError(
        f"no coefficient is called {name!r}{hint}",
        text=text,
        suggestion=(
            'the coefficient of a level is written in quotes, as the table names it: "hive_type: '
            'long"'
        ),
    )
