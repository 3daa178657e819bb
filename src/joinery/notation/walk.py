"""Walks over the tree of a sentence: names, calls, terms."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace

from joinery.notation.tree import (
    Call,
    Chain,
    Expression,
    Name,
    Prefix,
    Sentence,
    Term,
    inside,
    parts,
)


def names_in(node: Expression) -> Iterator[Name]:
    """Yield the columns that an expression names, in order."""
    if isinstance(node, Name):  # most are
        return iter((node,))
    return (part for part in inside(node) if isinstance(part, Name))


def named_in(expressions: Iterable[Expression]) -> list[str]:
    """Return the names of the columns in several expressions, each once, in order."""
    names = (name.name for e in expressions for name in names_in(e))
    return list(dict.fromkeys(names))


def calls_in(node: Expression) -> Iterator[Call]:
    """Yield the function calls in an expression, innermost first."""
    if isinstance(node, Name):
        return iter(())
    return (part for part in inside(node) if isinstance(part, Call))


def lags_in(node: Expression) -> Iterator[Call]:
    """Yield the calls that look at other rows than their own, innermost first."""
    return (call for call in calls_in(node) if call.function == "lag")


def names_in_own_row(node: Expression) -> Iterator[Name]:
    """Yield the columns that an expression needs of the row itself: those that stand outside
    lags."""
    if isinstance(node, Name):
        yield node
    elif not (isinstance(node, Call) and node.function == "lag"):
        for part in parts(node):
            yield from names_in_own_row(part)


def without_references(sentence: Sentence) -> Sentence:
    """Return the same model with default reference levels: other coefficients, equal fitted
    values."""

    def bare(factor: Expression) -> Expression:
        if not isinstance(factor, Call):
            return factor
        return replace(
            factor, options=tuple((name, v) for name, v in factor.options if name != "reference")
        )

    return replace(
        sentence, written=tuple(Term(tuple(map(bare, t.factors))) for t in sentence.terms)
    )


def is_condition(node: Expression) -> bool:
    """Return True if an expression says if something is so, rather than how much of it there is."""
    if isinstance(node, Prefix):
        return node.operator == "not"
    return isinstance(node, Chain) and node.operators[0] not in ("+", "-", "*", "/")
