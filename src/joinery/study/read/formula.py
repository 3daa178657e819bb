"""The parts of a formula of the table's columns, before any language writes it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np


@dataclass(frozen=True)
class Constant:
    value: float


@dataclass(frozen=True)
class ColumnValue:
    """A column of the table; ``kind`` is ``number``, ``date`` (in days since 1970) or ``text``.

    ``filled`` stands for a missing cell."""

    name: str
    kind: str = "number"
    filled: float | None = None


@dataclass(frozen=True)
class Apply:
    """An operation (``+ - * / ^``, ``negate``) or a function of other formulas."""

    operation: str
    parts: tuple[Formula, ...]


@dataclass(frozen=True)
class ByLevel:
    """A number for each level of a category; any other level is refused or missing.

    Unless it counts as one of these levels: it then has the number ``otherwise``."""

    of: Formula
    label: str
    weights: tuple[tuple[Any, float], ...]
    otherwise: float | None = None


@dataclass(frozen=True)
class ByRange:
    """One formula for each range that the cuts make of a number, each closed below."""

    of: Formula
    cuts: tuple[float, ...]
    parts: tuple[Formula, ...]
    label: str = ""  # of bands: a range that no fitted row was in is refused or missing


@dataclass(frozen=True)
class DatePart:
    """A part of a date as a whole number: ``month`` ``quarter`` ``weekday`` ``year`` ``hour``.

    Monday is weekday 1."""

    part: str
    of: ColumnValue


@dataclass(frozen=True)
class Compare:
    """1 where a comparison holds, 0 where it does not, missing where a side is."""

    sign: str
    left: Formula
    right: Formula | str


@dataclass(frozen=True)
class Logic:
    """``and``, ``or`` or ``not`` of conditions."""

    word: str
    parts: tuple[Formula, ...]


@dataclass(frozen=True)
class Shared:
    """A formula that others use more than once, by name where a language can keep it."""

    name: str
    formula: Formula


Formula = Constant | ColumnValue | Apply | ByLevel | ByRange | DatePart | Compare | Logic | Shared
ZERO, ONE = Constant(0.0), Constant(1.0)


def columns_in(formula: Formula) -> list[ColumnValue]:
    """Return the columns of a formula, in the order they come."""
    collected: dict[str, ColumnValue] = {}
    for node in nodes(formula):
        if isinstance(node, ColumnValue):
            collected.setdefault(node.name, node)
    return list(collected.values())


def nodes(formula: Formula | str) -> Iterator[Formula | str]:
    """Yield a formula and all that it is made of, in the order written."""
    yield formula
    for part in _inside(formula):
        yield from nodes(part)


def _inside(node: Formula | str) -> Iterator[Formula | str]:
    """Yield the formulas, and the text compared with, that a formula is made of."""
    if isinstance(node, (Apply, Logic)):
        yield from node.parts
    elif isinstance(node, (ByLevel, DatePart)):
        yield node.of
    elif isinstance(node, ByRange):
        yield from (node.of, *node.parts)
    elif isinstance(node, Compare):
        yield from (node.left, node.right)
    elif isinstance(node, Shared):
        yield node.formula


def call(operation: str, *parts: Formula) -> Formula:
    """Return an operation or function of formulas."""
    return Apply(operation, parts)


def total(parts: list[Formula]) -> Formula:
    """Return the sum of formulas; zero where there is none."""
    parts = [p for p in parts if p != ZERO]
    if len(parts) > 1:
        return Apply("+", tuple(parts))
    if parts:
        return parts[0]
    return ZERO


def times(*parts: Formula) -> Formula:
    """Return the product of formulas, ones left out."""
    parts = tuple(p for p in parts if p != ONE)
    if len(parts) > 1:
        return Apply("*", parts)
    if parts:
        return parts[0]
    return ONE


def less(formula: Formula, value: float) -> Formula:
    """Return a formula less a number."""
    if value == 0:
        return formula
    return call("-", formula, Constant(value))


def polynomial(coefficients: np.ndarray, z: Formula) -> Formula:
    """Return a polynomial in z by nested multiplication, the constant first."""
    out: Formula = Constant(float(coefficients[-1]))
    for c in coefficients[-2::-1]:
        out = call("+", times(out, z), Constant(float(c)))
    return out
