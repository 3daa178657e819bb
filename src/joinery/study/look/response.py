"""The response against each term, before any model."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.inference import correlation
from joinery.core.inference.correlation import deviation
from joinery.core.least_squares.solve import least_squares
from joinery.data.columns import level_text
from joinery.data.records import Records
from joinery.design.design import Design, learn
from joinery.design.factors import CategoryFactor
from joinery.design.learning import Learner
from joinery.design.resolving import expressions_of
from joinery.errors import EmptyTableError
from joinery.notation.evaluate import Context, evaluate
from joinery.notation.tree import Sentence, names_in
from joinery.show.numbers import count, value
from joinery.show.people import Layout
from joinery.show.table import Table
from joinery.study.look.correlations import LEVEL, correlation_table

GROUPS = 4
LOGIT_NOTE = (
    "empirical logit: log((events + ½) / (not + ½)), the ½ keeping it finite where a group has "
    "none or all"
)


@dataclass(frozen=True)
class ResponseLook:
    """A table seen from a sentence's response, over the rows that are complete for it."""

    table: Records
    within: Any
    sentence: Sentence

    @cached_property
    def rows(self) -> np.ndarray:
        """Positions of the rows in which nothing the sentence names is missing."""
        positions: np.ndarray = np.arange(len(self.table))[self.within]
        names = dict.fromkeys(n.name for e in expressions_of(self.sentence) for n in names_in(e))
        for name in names:
            positions = positions[~self.table.column(name).missing(positions)]
        if not len(positions):
            raise EmptyTableError(
                f"no row has a value in every one of {', '.join(names)}", columns=self.table.names
            )
        return positions

    @cached_property
    def _context(self) -> Context:
        learner = Learner(self.table, self.rows, {})
        learner.know(expressions_of(self.sentence))
        return Context(self.table, self.rows, learner.memory)

    @cached_property
    def design(self) -> Design:
        """The columns of the terms, learnt from these rows."""
        return learn(self.sentence, self.table, self.rows)

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

    @cached_property
    def observed(self) -> np.ndarray:
        """The response's own numbers: a value, a count of events, a count."""
        return evaluate(self.sentence.response.expression, self._context)

    @cached_property
    def total(self) -> np.ndarray | None:
        """What the response is a part of, or its exposure."""
        total = self.sentence.response.total
        return None if total is None else evaluate(total, self._context)

    @cached_property
    def heights(self) -> np.ndarray:
        """A number a row to set against predictors: value, empirical logit, or rate."""
        if self.total is None:
            return self.observed
        if self.kind == "of":
            return empirical_logit(self.observed, self.total)
        with np.errstate(all="ignore"):
            return np.where(self.total > 0, self.observed / self.total, np.nan)

    @property
    def name(self) -> str:
        """What ``heights`` are called."""
        text = str(self.sentence.response)
        return (
            f"empirical logit of {text}"
            if self.kind == "of"
            else text
            if self.kind == "plain"
            else f"rate of {text}"
        )

    @cached_property
    def correlations(self) -> Table:
        """Each design column's correlation with the response, and its variance inflation."""
        X = self.design.matrix(self.design.context(self.table, self.rows))
        inflation = self._inflation(X)
        both = np.column_stack([self.heights, X])
        pairs, straight = correlation.pearson(both, LEVEL)
        _, ranked = correlation.spearman(both, LEVEL)
        with_response = pairs[:, 0] == 0
        parts = [
            type(c)(
                c.r[with_response],
                c.lower[with_response],
                c.upper[with_response],
                c.p[with_response],
                c.n[with_response],
            )
            for c in (straight, ranked)
        ]
        first = {"term": list(self.design.names)}
        basis = f"over the {count(len(self.rows), 'row')} complete for the sentence"
        table = correlation_table(
            first,
            parts[0],
            parts[1],
            title=f"{self.name} with each term",
            basis=basis,
            more={"variance_inflation": inflation},
        )
        note = (
            "variance inflation: how many times the overlap with the other terms multiplies a "
            "coefficient's variance"
        )
        return Table(**vars(table) | {"notes": (*table.notes, note)})

    def _inflation(self, X: np.ndarray) -> np.ndarray:
        """The variance inflation of each design column's term, for one column: its q-th root."""
        solution = least_squares(
            ArrayBlocks(X, np.zeros(len(X))), intercept=self.sentence.intercept
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

    @cached_property
    def by_group(self) -> Table:
        """The response across each single-factor term: levels, or four equal ranges."""
        groups: list[dict[str, Any]] = []
        for term in self.design.terms:
            if len(term.factors) == 1:
                groups += [{"term": term.text, **row} for row in self._across(term.factors[0])]
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

    def _across(self, factor: Any) -> list[dict[str, Any]]:
        if isinstance(factor, CategoryFactor):
            codes = factor.codes(self.design.context(self.table, self.rows))
            labels = [level_text(level) for level in factor.levels]
        else:
            codes, labels = ranges(evaluate(_inner(factor.expression), self._context))
        return [
            {"group": label, **self._summary(codes == place)}
            for place, label in enumerate(labels)
            if (codes == place).any()
        ]

    def _summary(self, values: np.ndarray) -> dict[str, Any]:
        y = self.observed[values]
        n = len(y)
        if self.total is None:
            return {"n": n, "mean": float(y.mean()), "standard_deviation": deviation(y)}
        events, total = float(y.sum()), float(self.total[values].sum())
        share = events / total if total > 0 else np.nan
        if self.kind == "of":
            logit = float(empirical_logit(np.array([events]), np.array([total]))[0])
            return {
                "n": n,
                "events": events,
                "total": total,
                "proportion": share,
                "empirical_logit": logit,
            }
        return {"n": n, "events": events, "exposure": total, "rate": share}


def _inner(expression: Any) -> Any:
    """The number inside a curve: of spline(x) it is x."""
    return (
        expression.arguments[0]
        if getattr(expression, "function", "") in ("spline", "polynomial")
        else expression
    )


def empirical_logit(events: np.ndarray, total: np.ndarray) -> np.ndarray:
    """log((events + ½)/(total − events + ½)) (Cox & Snell 1989, 2.1)."""
    return np.asarray(np.log((events + 0.5) / (total - events + 0.5)))


def ranges(x: np.ndarray, groups: int = GROUPS) -> tuple[np.ndarray, list[str]]:
    """Cut a number into ranges of about equally many rows: each row's range, and words.

    A number with few values keeps each as a group of its own.
    """
    distinct = np.unique(x)
    if len(distinct) <= groups + 2:
        return np.searchsorted(distinct, x), [value(float(v)) for v in distinct]
    cuts = np.unique(np.quantile(x, np.arange(1, groups) / groups))
    codes = np.searchsorted(cuts, x, side="right")
    labels = []
    for place in range(len(cuts) + 1):
        values = x[codes == place]
        ends = (
            dict.fromkeys(value(float(v)) for v in (values.min(), values.max()))
            if len(values)
            else [""]
        )
        labels.append(" to ".join(ends))
    return codes, labels
