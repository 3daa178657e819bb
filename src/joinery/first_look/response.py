"""The response against each term, before any model, in passes over some rows at a time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, NamedTuple

import numpy as np

from joinery.core.blocks.blocks import Block
from joinery.core.blocks.columns import Columns, IndicatorColumns, some_rows
from joinery.core.blocks.partition import Partition, joined
from joinery.core.inference import correlation
from joinery.core.least_squares.solve import least_squares
from joinery.core.numeric.triangular import power_of_two
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.design.design import Design, learn
from joinery.design.factors import CategoryFactor
from joinery.design.learning import Learner, Piece, sweep
from joinery.design.resolving import expressions_of
from joinery.first_look.correlations import LEVEL, correlation_table, ranked_rows
from joinery.first_look.groups import (
    Across,
    Grouped,
    Levels,
    Ranges,
    Spreads,
    empirical_logit,
    inner_number,
)
from joinery.notation.context import EVERY_ROW, Context, Rows, positions_at
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Sentence
from joinery.notation.walk import named_in
from joinery.show.appearance import Appearance
from joinery.show.numbers import count
from joinery.show.table import Table
from joinery.support.errors import EmptyTableError
from joinery.support.limits import LOOK_CELLS

LOGIT_NOTE = (
    "empirical logit: log((events + ½) / (not + ½)), the ½ keeping it finite where a group has "
    "none or all"
)


class Heights(NamedTuple):
    """The response of some rows, each (m,)."""

    observed: np.ndarray  # its own numbers: a value, a count of events, a count
    total: np.ndarray | None  # what it is a part of, or its exposure
    height: np.ndarray  # what is set against predictors: value, empirical logit, or rate


@dataclass(frozen=True)
class ResponseLook:
    """A table seen from a sentence's response, over the rows that are complete for it."""

    table: Records
    within: Any
    sentence: Sentence

    @cached_property
    def rows(self) -> Rows:
        """Positions of the rows in which nothing the sentence names is missing."""
        expressions = expressions_of(self.sentence)
        names = named_in(expressions)
        sweep(self.table, expressions)
        every = isinstance(self.within, slice) and self.within == EVERY_ROW
        if every and len(self.table) and all(self.table.column(n).sound for n in names):
            return EVERY_ROW

        def complete(piece: Piece) -> np.ndarray:
            rows = piece[0].rows
            here = ~np.any([self.table.column(n).missing(rows) for n in names], axis=0)
            return positions_at(rows, np.flatnonzero(here))

        positions = joined(Learner(self.table, self.within, {}).stretches, complete)
        if not len(positions):
            raise EmptyTableError(
                f"no row has a value in every one of {', '.join(names)}", columns=self.table.names
            )
        return positions

    @property
    def n_rows(self) -> int:
        return self.table.count(self.rows)

    @property
    def basis(self) -> str:
        """Over which rows everything is told."""
        return f"over the {count(self.n_rows, 'row')} complete for the sentence"

    @cached_property
    def _learner(self) -> Learner:
        learner = Learner(self.table, self.rows, {})
        learner.know(expressions_of(self.sentence))
        return learner

    @cached_property
    def design(self) -> Design:
        """The columns of the terms, learnt from these rows."""
        return learn(self.sentence, self.table, self.rows)

    def context(self, table: Records, rows: Rows) -> Context:
        """Return where the sentence's own expressions are computed on some rows."""
        return Context(table, rows, self._learner.memory)

    @cached_property
    def predictors(self) -> tuple[str, ...]:
        """The columns that the terms name."""
        return tuple(named_in(self.sentence.factors))

    @property
    def kind(self) -> str:
        """``plain``, ``of`` or ``per``."""
        return self.sentence.response.kind

    def heights(self, context: Context) -> Heights:
        """Return the response of a context's rows."""
        response = self.sentence.response
        y = evaluate(response.expression, context)
        if response.total is None:
            return Heights(y, None, y)
        total = evaluate(response.total, context)
        if self.kind == "of":
            return Heights(y, total, empirical_logit(y, total))
        with np.errstate(all="ignore"):
            return Heights(y, total, np.where(total > 0, y / total, np.nan))

    @property
    def name(self) -> str:
        """Return what heights are called."""
        text = str(self.sentence.response)
        if self.kind == "of":
            return f"empirical logit of {text}"
        if self.kind == "plain":
            return text
        return f"rate of {text}"

    # -------------------------------------------------------------- correlations

    @cached_property
    def correlations(self) -> Table:
        """Each design column's correlation with the response, and its variance inflation."""
        some, step = ranked_rows(self.table, self.rows)
        pairs = np.column_stack([np.zeros(self.design.width, int), self._columns_beside])
        _, ranked = correlation.spearman(self._beside(some), LEVEL, pairs)
        table = correlation_table(
            {"term": list(self.design.names)},
            self._straight(),
            ranked,
            title=f"{self.name} with each term",
            basis=self.basis,
            ranked_every=step,
            more={"variance_inflation": self._inflation()},
        )
        note = (
            "variance inflation: how many times the overlap with the other terms multiplies a "
            "coefficient's variance"
        )
        return Table(**vars(table) | {"notes": (*table.notes, note)})

    @property
    def _columns_beside(self) -> np.ndarray:
        return np.arange(1, 1 + self.design.width)

    def _beside(self, rows: Rows) -> np.ndarray:
        """Return heights and design columns side by side (m, 1 + width)."""
        X = self.design.matrix(self.design.context(self.table, rows))
        return np.column_stack([self.heights(self.context(self.table, rows)).height, X])

    @property
    def _parts(self) -> Partition[_Part]:
        """Design columns, most levels as codes, and heights, some rows at a time."""
        size = max(LOOK_CELLS // (1 + self.design.stored_width), 64)

        def of_piece(piece: Piece) -> _Part:
            rows = piece[0].rows
            X = self.design.columns(self.design.context(self.table, rows))
            return _Part(X, self.heights(self.context(self.table, rows)).height)

        return self._learner.cut(size).map(of_piece)

    def _straight(self) -> correlation.Correlation:
        """Return Pearson's r of each design column with the response, where that has a height."""
        parts, none = self._parts.map(_Part.known), _Ends.none(1 + self.design.width)
        ends = sum(parts.each(_Ends.of), none)
        middle = ends.sums / max(ends.n, 1)
        unit = power_of_two(np.maximum(np.abs(ends.low), np.abs(ends.high)))
        result = sum(
            parts.each(partial(_products, middle=middle, unit=unit)), np.zeros((2, len(unit)))
        )
        (cross, squares), largest = result, np.maximum(ends.high - middle, middle - ends.low)
        varies = largest > 8 * np.finfo(float).eps * np.maximum(np.abs(ends.low), np.abs(ends.high))
        with np.errstate(all="ignore"):
            r = np.where(varies & varies[0], cross / np.sqrt(squares[0] * squares), np.nan)
        r = np.clip(r[1:], -1, 1)
        return correlation.with_interval(r, np.full(len(r), ends.n), LEVEL)

    def _inflation(self) -> np.ndarray:
        """Return the variance inflation of each design column's term, for one column: its q-th
        root."""
        solution = least_squares(
            _Columns(self.design.width, self._parts), intercept=self.sentence.intercept
        )
        place = {int(column): i for i, column in enumerate(solution.kept)}
        groups = [
            np.array(
                [place[c] for c in range(t.columns.start, t.columns.stop) if c in place], dtype=int
            )
            for t in self.design.terms
        ]
        nothing = np.empty(0, int)
        out = np.full(self.design.width, np.inf)
        for group in filter(len, groups):
            vif = correlation.inflation(solution, group, nothing)
            kept = [solution.kept[i] for i in group]
            out[kept] = vif ** (1 / max(len(group), 1))
        for column, combination in solution.dependence.items():
            sizes = np.abs(combination[1:])
            out[np.append(column, np.flatnonzero(sizes > 1e-9 * sizes.max(initial=0.0)))] = np.inf
        return out

    # -------------------------------------------------------------- groups

    @cached_property
    def by_group(self) -> Table:
        """The response across each single-factor term: levels, or four equal ranges."""
        terms = [term for term in self.design.terms if len(term.factors) == 1]
        groups = [
            {"term": term.text, **row}
            for term, outcome in zip(terms, self.across([t.factors[0] for t in terms]), strict=True)
            for row in outcome.rows(self.kind)
        ]
        names = list(dict.fromkeys(key for row in groups for key in row))
        notes = {"of": LOGIT_NOTE, "per": "rate: count over exposure"}.get(self.kind)
        return Table(
            {name: [row[name] for row in groups] for name in names},
            title=f"{self.sentence.response} across each term",
            notes=() if notes is None else (notes,),
            appearance=Appearance(
                keys=2,
                grouped=True,
                kinds={
                    "term": "text",
                    "group": "text",
                    "proportion": "value",
                    "empirical_logit": "value",
                    "rate": "value",
                },
            ),
        )

    def across(self, factors: Sequence[Any]) -> list[Across]:
        """Return what the response is in each group of factors: levels, or ranges of a number."""
        cuts = [self._cut(factor) for factor in factors]
        unit = self._unit  # found before the pass, which may run elsewhere

        def of_piece(piece: Piece) -> list[Grouped]:
            y = self.heights(self.context(self.table, piece[0].rows))
            out = []
            for cut in cuts:
                at, ends = cut.place(piece[0].rows)
                sums = [np.bincount(at, v, cut.count) for v in y[:2] if v is not None]
                out.append(Grouped(Spreads.of(y.height, at, cut.count, unit), np.array(sums), ends))
            return out

        parts = iter(self._learner.stretches.each(of_piece))
        result = next(parts)
        for more in parts:
            result = [mine + other for mine, other in zip(result, more, strict=True)]
        return [Across(cut.labels(one), one) for cut, one in zip(cuts, result, strict=True)]

    def _cut(self, factor: Any) -> Levels | Ranges:
        """Return the groups of a factor."""
        if not isinstance(factor, CategoryFactor):
            return Ranges.of(self._learner, inner_number(factor.expression))
        names = [level_text(level) for level in factor.levels]
        return Levels(names, lambda rows: factor.codes(self.design.context(self.table, rows)))

    @cached_property
    def _unit(self) -> float:
        """A power of two by which plain responses are no larger than one, so that squares exist."""
        if self.kind != "plain":
            return 1.0
        ends = np.abs(self._learner.ends(self.sentence.response.expression))
        return float(power_of_two(np.array([ends.max()]))[0])


class _Part(NamedTuple):
    """Design columns of some rows (m, k), and their heights (m,)."""

    X: Columns
    y: np.ndarray

    def known(self) -> _Part:
        """Return those that have a height."""
        here = ~np.isnan(self.y)
        if here.all():
            return self
        return _Part(some_rows(self.X, here), self.y[here])

    @property
    def numbers(self) -> tuple[np.ndarray, np.ndarray]:
        """Heights and all columns but levels (m, 1 + d), and where those stand beside heights."""
        if not isinstance(self.X, IndicatorColumns):
            return np.column_stack([self.y, self.X]), np.arange(1 + self.X.shape[1])
        return np.column_stack([self.y, self.X.numbers]), np.append(0, 1 + self.X.number_places)


@dataclass(frozen=True)
class _Columns:
    """Design columns beside a response of nothing, as blocks of least squares."""

    width: int
    parts: Partition[_Part]

    @property
    def pieces(self) -> Partition[Block]:
        return self.parts.map(lambda part: (part.X, np.zeros(len(part.y)), None))


class _Ends(NamedTuple):
    """Of some rows: how many, sums and ends of heights and design columns, each (1 + k,)."""

    n: int
    sums: np.ndarray
    low: np.ndarray
    high: np.ndarray

    @classmethod
    def none(cls, width: int) -> _Ends:
        return cls(0, np.zeros(width), np.full(width, np.inf), np.full(width, -np.inf))

    @classmethod
    def of(cls, part: _Part) -> _Ends:
        Z, at = part.numbers
        out = cls.none(1 + part.X.shape[1])._replace(n=len(Z))
        out.sums[at], out.low[at] = Z.sum(axis=0), Z.min(axis=0, initial=np.inf)
        out.high[at] = Z.max(axis=0, initial=-np.inf)
        if isinstance(part.X, IndicatorColumns):
            at, count = 1 + part.X.level_places, part.X.sums(None)
            out.sums[at], out.low[at], out.high[at] = count, count == len(Z), count > 0
        return out

    def __add__(self, other: _Ends) -> _Ends:  # type: ignore[override]
        low, high = np.minimum(self.low, other.low), np.maximum(self.high, other.high)
        return _Ends(self.n + other.n, self.sums + other.sums, low, high)


def _products(part: _Part, middle: np.ndarray, unit: np.ndarray) -> np.ndarray:
    """Return sums of products of heights and columns, about their middles and in units of their
    own.

    Of each with heights, and with itself: (2, 1 + k).
    """
    out = np.zeros((2, len(unit)))
    Z, at = part.numbers
    Z -= middle[at]
    Z /= unit[at]
    out[0, at], out[1, at] = Z[:, 0] @ Z, np.einsum("ij,ij->j", Z, Z)
    if isinstance(part.X, IndicatorColumns):
        at, count = 1 + part.X.level_places, part.X.sums(None)
        share, height = middle[at], Z[:, 0]
        out[0, at] = part.X.sums(height) - share * height.sum()
        out[1, at] = count * (1 - share) ** 2 + (len(Z) - count) * share**2
    return out
