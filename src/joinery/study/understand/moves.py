"""Moves while the rest is held: a number by a unit, from one level to another, a condition."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.design.factors import CategoryFactor
from joinery.design.levels import column_of_levels
from joinery.design.terms import DesignTerm
from joinery.notation.context import Context
from joinery.notation.tree import Expression, Name, outside
from joinery.notation.walk import is_condition, named_in, names_in
from joinery.study.fitted import Fitted
from joinery.study.held import (
    Held,
    averaged_rows,
    check_named,
    columns_of,
    hold_rest,
    level_cell,
    slopes_in,
)
from joinery.support.errors import CallError, one_of

Of = str | Sequence[str]


@dataclass(frozen=True)
class Move:
    """One move: in a number, from one level of a category to another, or of a condition."""

    fit: Fitted
    name: str  # as it was asked for
    column: str | None = None  # the number whose derivative it is
    category: str | None = None
    levels: tuple[str, str] = ("", "")  # to this level, from that one
    condition: Expression | None = None  # from not so to so

    @property
    def words(self) -> str:
        """Return what the slope is of: ``slope of feed_kg``, ``stacked less long``."""
        fit = self.fit
        if self.column is not None:
            return f"slope of {fit.words(self.column)}"
        if self.category is not None:
            to, start = self.levels
            return f"difference of {fit.words(self.category)} {to} less {start}"
        assert self.condition is not None
        return f"difference of {outside(self.condition)}, true less false"

    @property
    def columns(self) -> tuple[str, ...]:
        """Return the table's columns that it moves."""
        if self.column is not None:
            return (self.column,)
        if self.category is not None:
            return (self.category,)
        assert self.condition is not None
        return tuple(n.name for n in names_in(self.condition))

    def rows(self, table: Records, hold: Mapping[str, Any] | None) -> tuple[Held, np.ndarray]:
        """Return the table with the rest held, and the design's rows of the move (m, width)."""
        fit, fixed = self.fit, dict(hold or {})
        places = np.arange(len(table))
        if self.column is not None:
            held = hold_rest(fit, table, fixed)
            return held, averaged_rows(fit, held, places, slopes_in(self.column))
        if self.category is not None:
            sides = []
            for level in self.levels:
                cells = [level_cell(fit, self.category, level)] * len(table)
                held = hold_rest(fit, table.assigned({self.category: cells}), fixed)
                sides.append(averaged_rows(fit, held, places))
            return held, sides[0] - sides[1]
        held = hold_rest(fit, table, fixed)
        so, not_so = (averaged_rows(fit, held, places, self._filled(v)) for v in (1.0, 0.0))
        return replace(held, at=self._still_held(held)), so - not_so

    def _still_held(self, held: Held) -> dict[str, Any]:
        """Return what is held beside the condition: not a column that it alone names."""
        factors = self.fit.design.sentence.factors
        others = named_in(f for f in factors if f != self.condition)
        return {name: v for name, v in held.at.items() if name in others}

    def _filled(self, value: float) -> Any:
        text = str(self.condition)

        def fill(term: DesignTerm, out: np.ndarray, context: Context) -> None:
            term.fill(out, replace(context, held={text: value}))

        return fill


def move_of(fit: Fitted, of: Of) -> Move:
    """Return what ``of`` asks for. Raises CallError for a category without a level."""
    if not isinstance(of, str):
        parts = [str(part) for part in of]
        if len(parts) != 3:
            raise CallError(
                "two levels are asked for as (category, level, level): "
                '("hive_type", "stacked", "long")',
                argument="of",
            )
        factor = _category(fit, parts[0])
        return _levels(fit, f"{parts[0]}: {parts[1]}", factor, parts[0], parts[1], parts[2])
    conditions = filter(is_condition, fit.design.sentence.factors)
    condition = next((f for f in conditions if of in _written(f)), None)
    if condition is not None:
        return Move(fit, of, condition=condition)
    name, colon, level = of.partition(": ")
    if colon and of not in columns_of(fit):
        factor = _category(fit, name)
        return _levels(fit, of, factor, name, level, level_text(factor.levels[0]))
    check_named(fit, [of], " (of) in the model")
    if of not in fit.design.seen:
        factor = _category(fit, of)
        first, second = [*map(level_text, factor.levels), "…"][:2]
        raise CallError(
            f"{of} is a category, which has no slope; ask for level_differences, or for one level "
            f'against another: of="{of}: {second}", of=("{of}", "{second}", "{first}")',
            argument="of",
        )
    return Move(fit, of, column=of)


def _levels(fit: Fitted, of: str, factor: CategoryFactor, name: str, to: str, start: str) -> Move:
    known = tuple(map(level_text, factor.levels))
    for level in (to, start):
        one_of("of", level, known)
    if to == start:
        raise CallError(f"{to} less {start} is nothing: give two levels", argument="of")
    return Move(fit, of, category=name, levels=(to, start))


def _category(fit: Fitted, name: str) -> CategoryFactor:
    """Return the factor of a category by its column."""
    for term in fit.design.terms:
        for factor in term.categories:
            column = column_of_levels(factor.expression)
            if factor.expression == Name(name) or column == Name(name):
                return factor
    check_named(fit, [name], " (of) in the model")
    raise CallError(f"{name} is not a category of the model", argument="of")


def _written(factor: Expression) -> tuple[str, str]:
    return str(factor), outside(factor)
