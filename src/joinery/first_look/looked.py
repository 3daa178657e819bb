"""Findings of a first look: the facts of each column, which go together, the response."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference import correlation
from joinery.data.records import Records
from joinery.first_look.correlations import LEVEL, correlation_table, ranked_rows
from joinery.first_look.facts import Facts, facts
from joinery.first_look.streamed import pairs, streamed_facts
from joinery.first_look.table_facts import table_remarks
from joinery.notation.tree import Sentence
from joinery.show.appearance import Appearance
from joinery.show.numbers import count
from joinery.show.table import Table
from joinery.support.errors import UnusableColumnError
from joinery.support.threads import one_thread_a_product

if TYPE_CHECKING:
    from joinery.first_look.response import ResponseLook

MOST_PAIRS, STRONGEST = 200_000, 1000  # of more pairs so many are told
OVER_BOTH = "each pair over the rows that have both"
UNSEEN = (
    "columns that say the same and rows that are there twice are looked for among rows in memory: "
    "look at a sample for them"
)


@dataclass(frozen=True, eq=False, repr=False)
class Looked:
    """A table being looked at: facts of its columns, and its tables."""

    table: Records
    rows: Any
    names: tuple[str, ...]
    sentence: Sentence | None = None

    @cached_property
    def facts(self) -> tuple[Facts, ...]:
        """The facts of each column."""
        return tuple(self._facts_of(name) for name in self.names)

    def _facts_of(self, name: str) -> Facts:
        try:
            column = self.table.column(name)
            if self.table.read_as_needed:
                return streamed_facts(column, self.table, self.rows)
            return facts(column, self.rows)
        except UnusableColumnError as reason:  # a column that nobody names does no harm
            if self.table.read_as_needed:
                return Facts(name, "not usable", self.n_rows, 0, np.nan, remarks=(str(reason),))
            cells = self.table.frame[name].iloc[self.rows]
            missing = int(cells.isna().sum())
            return Facts(
                name, "not usable", len(cells) - missing, missing, 0, remarks=(str(reason),)
            )

    @cached_property
    @one_thread_a_product()
    def columns(self) -> Table:
        """Each column's kind, count, missing, mean, standard deviation, ends, median and values.

        Its notes say what is odd: constant columns, stand-ins for missing values, long tails,
        columns that say the same, rows that are there twice."""
        keys = (
            "kind",
            "count",
            "missing",
            "mean",
            "standard_deviation",
            "minimum",
            "median",
            "maximum",
            "distinct",
        )
        columns: dict[str, Any] = {"column": list(self.names)}
        columns |= {
            key: [getattr(f, key) for f in self.facts] for key in (*keys, "ruler", "values")
        }
        result = ("mean", "standard_deviation", "minimum", "median", "maximum")
        remarks = [r for f in self.facts for r in f.remarks]
        about = (
            [UNSEEN]
            if self.table.read_as_needed
            else table_remarks(self.table, self.rows, self.facts)
        )
        # a remark on the column says the same with its rows
        usable = [f.name for f in self.facts if f.kind != "not usable"]
        notes_made = {f"{n}: {c.trouble}" for n in usable if (c := self.table.column(n)).trouble}
        notes = (*(note for note in self.table.notes if note not in notes_made), *remarks, *about)
        words = ("ruler", "values", "kind", "column")
        return Table(
            columns,
            title=f"{self.table.name or 'The table'}: {count(self.n_rows, 'row')}, "
            f"{count(len(self.names), 'column')}",
            notes=tuple(dict.fromkeys(notes)),
            appearance=Appearance(
                kinds=dict.fromkeys(result, "value") | dict.fromkeys(words, "text"),
                headings={"ruler": "from least to greatest"},
                hidden=("minimum", "median", "maximum"),
            ),
        )

    @property
    def n_rows(self) -> int:
        """Rows looked at."""
        return self.table.count(self.rows)

    @cached_property
    def numeric(self) -> tuple[str, ...]:
        """Columns that hold numbers (or yes/no) that vary, the response among them."""
        return tuple(
            f.name
            for f in self.facts
            if f.kind in ("number", "whole number", "yes/no") and not f.distinct <= 1
        )

    @cached_property
    @one_thread_a_product()
    def correlations(self) -> Table:
        """Correlations with the response or of all pairs, strongest first.

        Without a sentence pairs use the rows both columns have; with one, the rows a fit would use.
        """
        if self.at_response is not None:
            return self.at_response.correlations
        return self.pairs_of(list(self.numeric), self.rows, OVER_BOTH)

    @cached_property
    @one_thread_a_product()
    def predictor_pairs(self) -> Table:
        """Correlations among predictors, strongest first.

        Without a sentence, among all columns of numbers.
        """
        if self.at_response is None:
            return self.correlations
        predictors = [name for name in self.numeric if name in self.at_response.predictors]
        return self.pairs_of(predictors, self.at_response.rows, self.at_response.basis)

    @cached_property
    @one_thread_a_product()
    def response(self) -> Table | None:
        """The response across each term: means by group, or proportions, or rates.

        None without a sentence.
        """
        if self.at_response is None:
            return None
        return self.at_response.by_group

    @cached_property
    @one_thread_a_product()
    def at_response(self) -> ResponseLook | None:
        """The look at the sentence's response, or None without one."""
        if self.sentence is None:
            return None
        from joinery.first_look.response import ResponseLook

        return ResponseLook(self.table, self.rows, self.sentence)

    def pairs_of(self, names: list[str], rows: Any, basis: str) -> Table:
        """Return correlations of all pairs of some columns, or of the strongest of very many."""
        some, step = ranked_rows(self.table, rows)
        beside, which = self._beside(names, some), None
        if self.table.read_as_needed:
            known = {f.name: f for f in self.facts}
            result = pairs(self.table, rows, [known[n] for n in names], LEVEL)
        else:
            if step == 1:
                X = beside
            else:
                X = self._beside(names, rows)
            if (many := len(names) * (len(names) - 1) // 2) > MOST_PAIRS:
                which = correlation.strongest_pairs(X, STRONGEST)
                basis += f"; the {len(which):,} strongest of {many:,} pairs"
            result = correlation.pearson(X, LEVEL, which)
        _, ranked = correlation.spearman(beside, LEVEL, result[0])
        labels = [[names[i], names[j]] for i, j in result[0]]
        return correlation_table(
            {"column": [a for a, _ in labels], "with": [b for _, b in labels]},
            result[1],
            ranked,
            title="How columns of numbers go together",
            basis=basis,
            ranked_every=step,
        )

    def _beside(self, names: list[str], rows: Any) -> np.ndarray:
        """Return columns of numbers side by side (n, k)."""
        columns = [self.table.column(name).numbers(rows) for name in names]
        if columns:
            return np.array(columns).T
        return np.empty((0, 0))
