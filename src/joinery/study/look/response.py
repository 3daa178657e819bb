"""The response against each term, before any model, in passes over some rows at a time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from joinery.core.blocks.blocks import Block
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
from joinery.errors import EmptyTableError
from joinery.notation.evaluate import EVERY_ROW, Context, Rows, evaluate, positions_at
from joinery.notation.tree import Sentence, names_in
from joinery.show.numbers import count
from joinery.show.people import Layout
from joinery.show.table import Table
from joinery.study.look.correlations import LEVEL, correlation_table, ranked_rows
from joinery.study.look.groups import Across, Ranges, Spreads, empirical_logit, inner_number

CELLS = 2**21  # of a design that are made at a time
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
        names = list(dict.fromkeys(n.name for e in expressions for n in names_in(e)))
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
        """Where the sentence's own expressions are computed on some rows."""
        return Context(table, rows, self._learner.memory)

    @cached_property
    def predictors(self) -> tuple[str, ...]:
        """The columns that the terms name."""
        return tuple(
            dict.fromkeys(
                n.name for t in self.sentence.terms for f in t.factors for n in names_in(f)
            )
        )

    @property
    def kind(self) -> str:
        """``plain``, ``of`` or ``per``."""
        return self.sentence.response.kind

    def heights(self, context: Context) -> Heights:
        """The response of a context's rows."""
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
        """What heights are called."""
        text = str(self.sentence.response)
        return (
            f"empirical logit of {text}"
            if self.kind == "of"
            else text
            if self.kind == "plain"
            else f"rate of {text}"
        )

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
        """Heights and design columns side by side (m, 1 + width)."""
        X = self.design.matrix(self.design.context(self.table, rows))
        return np.column_stack([self.heights(self.context(self.table, rows)).height, X])

    @property
    def _pieces(self) -> Partition[np.ndarray]:
        """The same, some rows at a time."""
        size = max(CELLS // (1 + self.design.width), 64)
        return self._learner.cut(size).map(lambda piece: self._beside(piece[0].rows))

    def _straight(self) -> correlation.Correlation:
        """Pearson's r of each design column with the response, where that has a height."""
        ends = sum(self._pieces.each(_Ends.of), _Ends.none(1 + self.design.width))
        middle = ends.sums / max(ends.n, 1)
        unit = power_of_two(np.maximum(np.abs(ends.low), np.abs(ends.high)))

        def products(Z: np.ndarray) -> np.ndarray:
            Z = (Z[~np.isnan(Z[:, 0])] - middle) / unit
            return np.array([Z[:, 0] @ Z, np.einsum("ij,ij->j", Z, Z)])

        found = sum(self._pieces.each(products), np.zeros((2, 1 + self.design.width)))
        (cross, squares), largest = found, np.maximum(ends.high - middle, middle - ends.low)
        varies = largest > 8 * np.finfo(float).eps * np.maximum(np.abs(ends.low), np.abs(ends.high))
        with np.errstate(all="ignore"):
            r = np.where(varies & varies[0], cross / np.sqrt(squares[0] * squares), np.nan)
        r = np.clip(r[1:], -1, 1)
        return correlation.with_interval(r, np.full(len(r), ends.n), LEVEL)

    def _inflation(self) -> np.ndarray:
        """The variance inflation of each design column's term, for one column: its q-th root."""
        solution = least_squares(
            _Columns(self.design.width, self._pieces), intercept=self.sentence.intercept
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
        groups: list[dict[str, Any]] = []
        for term in self.design.terms:
            if len(term.factors) == 1:
                found = self.across(term.factors[0])
                groups += [{"term": term.text, **row} for row in found.rows(self.kind)]
        names = list(dict.fromkeys(key for row in groups for key in row))
        notes = {"of": LOGIT_NOTE, "per": "rate: count over exposure"}.get(self.kind)
        return Table(
            {name: [row[name] for row in groups] for name in names},
            title=f"{self.sentence.response} across each term",
            notes=() if notes is None else (notes,),
            layout=Layout(keys=2, grouped=True),
            kinds={
                "term": "text",
                "group": "text",
                "proportion": "value",
                "empirical_logit": "value",
                "rate": "value",
            },
        )

    def across(self, factor: Any) -> Across:
        """What the response is in each group of a factor: its levels, or ranges of a number."""
        if isinstance(factor, CategoryFactor):
            labels = [level_text(level) for level in factor.levels]

            def codes(rows: Rows) -> np.ndarray:
                return factor.codes(self.design.context(self.table, rows))

            return Across(labels, *self._grouped(codes, len(labels)))
        number = inner_number(factor.expression)
        ranges = Ranges.of(self._learner, number)

        def place(rows: Rows) -> np.ndarray:
            return ranges.place(evaluate(number, self.context(self.table, rows)))

        return Across(ranges.labels(self._learner, number), *self._grouped(place, ranges.count))

    def _grouped(
        self, codes: Callable[[Rows], np.ndarray], size: int
    ) -> tuple[Spreads, np.ndarray]:
        """Of each group how heights spread, and the sums of the response and its total."""
        unit = self._unit  # found before the pass, which may run elsewhere

        def own(piece: Piece) -> tuple[Spreads, np.ndarray]:
            y = self.heights(self.context(self.table, piece[0].rows))
            at = codes(piece[0].rows)
            sums = [np.bincount(at, v, size) for v in (y.observed, y.total) if v is not None]
            return Spreads.of(y.height, at, size, unit), np.array(sums)

        parts = iter(self._learner.stretches.each(own))
        spreads, sums = next(parts)
        for more, own_sums in parts:
            spreads, sums = spreads + more, sums + own_sums
        return spreads, sums

    @cached_property
    def _unit(self) -> float:
        """A power of two by which plain responses are no larger than one, so that squares exist."""
        if self.kind != "plain":
            return 1.0
        ends = np.abs(self._learner.ends(self.sentence.response.expression))
        return float(power_of_two(np.array([ends.max()]))[0])


@dataclass(frozen=True)
class _Columns:
    """Design columns beside a response of nothing, as blocks of least squares."""

    width: int
    beside: Partition[np.ndarray]

    @property
    def pieces(self) -> Partition[Block]:
        return self.beside.map(lambda Z: (Z[:, 1:], np.zeros(len(Z)), None))


class _Ends(NamedTuple):
    """Of rows whose response has a height: how many, sums and ends of all columns."""

    n: int
    sums: np.ndarray
    low: np.ndarray
    high: np.ndarray

    @classmethod
    def none(cls, width: int) -> _Ends:
        return cls(0, np.zeros(width), np.full(width, np.inf), np.full(width, -np.inf))

    @classmethod
    def of(cls, Z: np.ndarray) -> _Ends:
        Z = Z[~np.isnan(Z[:, 0])]
        low, high = Z.min(axis=0, initial=np.inf), Z.max(axis=0, initial=-np.inf)
        return cls(len(Z), Z.sum(axis=0), low, high)

    def __add__(self, other: _Ends) -> _Ends:  # type: ignore[override]
        low, high = np.minimum(self.low, other.low), np.maximum(self.high, other.high)
        return _Ends(self.n + other.n, self.sums + other.sums, low, high)
