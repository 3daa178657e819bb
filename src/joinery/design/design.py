"""The design: which columns a sentence makes of a table, and how to make them again for any rows.

A design is its sentence and its memory; both are plain text and JSON values, so it can be kept in a
file."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from itertools import chain

import numpy as np

from joinery.core.blocks.columns import Columns, IndicatorColumns, side_by_side
from joinery.core.numeric.triangular import WIDE
from joinery.data.columns import Column
from joinery.data.manner import AS_IT_COMES, Manner
from joinery.data.records import Records, filled
from joinery.design.factors import CategoryFactor, Factor, Remembered, learn_factor
from joinery.design.learning import Learner
from joinery.design.levels import category_of, column_of_levels
from joinery.design.response import ResponseScale, inner_ranges
from joinery.design.terms import DesignTerm, assemble, assemble_numbers
from joinery.notation.context import Context, Memory, Rows
from joinery.notation.tree import Call, Expression, Sentence
from joinery.notation.walk import named_in, names_in

AS_THEY_STAND = "columns as they stand"  # where a context keeps them
FEW_LEVEL_COLUMNS = 4  # so few columns of levels are multiplied as soon as they are summed


@dataclass(frozen=True)
class Design:
    """The columns of a model, without the constant.

    ``memory`` holds, for each factor by its text, what was learnt from the fitted rows, and for
    each function inside one likewise. ``seen`` holds the range of each number column that the terms
    name; ``fills`` what stands for a missing cell; ``order`` is the column that puts rows in
    sequence, for lags; ``response_ranges`` the ends of what stands inside each operation of a
    transformed response."""

    sentence: Sentence
    factor_memory: dict[str, Remembered]
    function_memory: Memory
    seen: dict[str, tuple[float, float]] = field(default_factory=dict)
    fills: dict[str, float] = field(default_factory=dict)
    order: str | None = None
    response_ranges: tuple[tuple[float, float], ...] = ()
    dates: tuple[str, ...] = ()  # the columns of the terms that hold dates
    named: tuple[str, ...] = ()  # the columns of the sentence, in the order of the fitted table
    manner: Manner = AS_IT_COMES  # how the texts of new rows are read

    @cached_property
    def terms(self) -> tuple[DesignTerm, ...]:
        if all(memory == {"kind": "number"} for memory in self.factor_memory.values()):
            return assemble_numbers(self.sentence)
        return assemble(self.sentence, self.factor_memory)

    @property
    def factors(self) -> list[Factor]:
        """The factors of all terms, in order."""
        return list(chain.from_iterable(term.factors for term in self.terms))

    @property
    def categories(self) -> list[CategoryFactor]:
        """Those of them that are categories."""
        return list(chain.from_iterable(term.categories for term in self.terms))

    @property
    def intercept(self) -> bool:
        return self.sentence.intercept

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Column names, without the intercept's."""
        return tuple(name for term in self.terms for name in term.names)

    @property
    def width(self) -> int:
        return len(self.names)

    def context(self, table: Records, rows: Rows) -> Context:
        """Return where this design's expressions are computed on a table's rows."""
        return Context(filled(table, self.fills), rows, self.function_memory, order=self.order)

    def matrix(self, context: Context, workspace: np.ndarray | None = None) -> np.ndarray:
        """Return the columns for the context's rows: (m, width); NaN where a cell is missing.

        Into ``workspace`` if given.
        """
        return _made(self.terms, self.width, context, workspace)

    def rounding_residue(self, context: Context) -> np.ndarray | None:
        """Return what the columns are more than doubles: (m, width), or None where nothing is
        rounded."""
        rounding = [term for term in self.terms if term.rounds]
        if not rounding:
            return None
        out = np.zeros((context.size, self.width), order="F")
        for term in rounding:
            term.fill_rounding_residue(out[:, term.columns], context)
        return out

    @property
    def stored_width(self) -> int:
        """Return how many columns a block takes, levels kept as codes counting as one."""
        if self._most_levels:
            return len(self._most_levels[3]) + 1
        return self.width

    @property
    def block_width(self) -> int:
        """The width by which rows are cut into blocks: without levels that are swept out."""
        swept = self.intercept and self._most_levels and len(self._most_levels[0].names) > WIDE
        if swept:
            return self.stored_width
        return self.width

    def columns(self, context: Context, workspace: np.ndarray | None = None) -> Columns:
        """Return the same, with the levels of the largest category as such where that is
        shorter."""
        if self._most_levels is None:
            return self.matrix(context, workspace)
        term, lookup, numbers, places = self._most_levels
        codes = lookup[tuple(f.codes(context) for f in term.categories)]
        if (codes < 0).any():  # a cell is missing
            return self.matrix(context, workspace)
        out = _made(numbers, len(places), context, workspace)
        return IndicatorColumns(out, codes, places, np.arange(term.start, term.columns.stop))

    @cached_property
    def _most_levels(
        self,
    ) -> tuple[DesignTerm, np.ndarray, tuple[DesignTerm, ...], np.ndarray] | None:
        """The term with the most levels, its columns as codes, the other terms, their places."""
        # products of categories are levels of one category too: each cell is a level
        candidates = [
            t
            for t in self.terms
            if t.cells and len(t.categories) == len(t.factors) and len(t.names) >= FEW_LEVEL_COLUMNS
        ]
        if not candidates:
            return None
        term = max(candidates, key=lambda t: len(t.names))
        # a cell without a column, as the reference level, has the code after the last
        lookup = np.full(tuple(len(f.levels) + 1 for f in term.categories), len(term.cells))
        for axis in range(lookup.ndim):
            lookup[(slice(None),) * axis + (-1,)] = -1  # the code of a missing cell
        for place, cell in enumerate(term.cells):
            lookup[cell] = place
        numbers = tuple(t for t in self.terms if t is not term)
        places = np.concatenate(
            [np.empty(0, int), *(np.arange(t.start, t.columns.stop) for t in numbers)]
        )
        return term, lookup, numbers, places


def _made(
    terms: tuple[DesignTerm, ...], width: int, context: Context, workspace: np.ndarray | None
) -> np.ndarray:
    """Return the columns of some terms, side by side: (m, width)."""
    m, start = context.size, 0
    if workspace is None:
        out = np.empty((m, width), order="F")  # filled column by column
    elif (full := _as_they_stand(terms, context)) is not None:
        return full[context.rows]
    else:
        out = workspace[:m, :width]
    for term in terms:
        term.fill(out[:, start : start + len(term.names)], context)
        start += len(term.names)
    return out


def _as_they_stand(terms: tuple[DesignTerm, ...], context: Context) -> np.ndarray | None:
    """Return all rows (n, width) of terms that are columns as the table holds them, without a copy.

    None where they do not stand next to each other in memory, or rows have to be picked."""
    if not isinstance(context.rows, slice) or context.held:
        return None
    # kept with the context: every block of every pass asks for the same
    key = f"{AS_THEY_STAND} {len(terms)}"  # of one design: all its terms, or all but a category
    if key not in context.cache:
        names = [term.plain_column for term in terms]
        columns = [context.table.column(name).held_numbers for name in names if name is not None]
        if len(columns) == len(terms):
            result = side_by_side(columns)
        else:
            result = None
        context.cache[key] = np.empty(0) if result is None else result
    result = context.cache[key]
    if result.ndim == 2:
        return result
    return None


def _share_codings(remembered: dict[str, Remembered], sentence: Sentence) -> None:
    """Let a category that stands plain beside ``category(g, …)`` take its levels and coding.

    Else the terms of one category would be set against two reference levels.
    """
    codings: dict[Expression, list[str]] = {}
    for factor in sentence.factors:
        if (column := category_of(factor)) is not None:
            codings.setdefault(column, []).append(str(factor))
    for column, written in codings.items():
        plain = remembered.get(str(column), {})
        if plain.get("kind") == "category" and len(set(written)) == 1:
            remembered[str(column)] = remembered[written[0]]


def learn(
    sentence: Sentence,
    table: Records,
    rows: Rows,
    *,
    fills: dict[str, float] | None = None,
    counts: np.ndarray | None = None,
    order: str | None = None,
) -> Design:
    """Learn the design of a sentence from exactly these rows of a table.

    Parameters: ``fills`` what stands for missing cells of a column; ``counts`` how many equal rows
    each row stands for; ``order`` the column that puts rows in sequence."""
    learner = Learner(table, rows, {}, order, counts)
    remembered: dict[str, Remembered] = {}
    seen: dict[str, tuple[float, float]] = {}
    dates: dict[str, None] = {}
    for term in sentence.terms:
        for factor in term.factors:
            if str(factor) not in remembered:
                remembered[str(factor)] = learn_factor(factor, learner)
            for name in names_in(factor):
                column = table.column(name.name)
                if column.is_date:
                    dates.setdefault(name.name)
                # levels and places in the calendar have no range that new rows could leave
                if column_of_levels(factor) == name or only_its_place(factor):
                    continue
                if column.kind in ("number", "date") and name.name not in seen:
                    low, high = learner.ends(name)
                    if low <= high:  # inside a lag a cell may be missing
                        seen[name.name] = low, high
    _share_codings(remembered, sentence)
    response = sentence.response
    # the range inside each operation of the response tells which of two roots leads back
    scale = ResponseScale(response.expression, response.kind, response.total)
    if scale.transformed:
        ranges = inner_ranges(response.expression, learner)
    else:
        ranges = ()
    in_terms = set(named_in(sentence.factors))
    in_response = set(named_in(scale.expressions))
    named = tuple(name for name in table.names if name in in_terms | in_response)
    texts = frozenset(name for name in named if _of_texts(table.column(name)))
    units = {name: unit for name in named if (unit := table.unit_of(name))}
    return Design(
        sentence,
        remembered,
        learner.memory,
        seen,
        fills or {},
        order,
        ranges,
        tuple(dates),
        named,
        replace(table.manner_for(named), levels=texts, units=units),
    )


def only_its_place(factor: Expression) -> bool:
    """Return True for a factor that takes a date's place in the calendar, which comes again."""
    return isinstance(factor, Call) and factor.function in ("month", "weekday", "quarter", "hour")


def _of_texts(column: Column) -> bool:
    """Return True for a column whose levels are texts, whatever they look like."""
    return column.coded is not None and any(isinstance(level, str) for level in column.levels)
