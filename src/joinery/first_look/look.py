"""The first look at a table: what came in, how columns go together, what is odd."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.data.any_table import records
from joinery.data.given_columns import named_columns
from joinery.data.records import Records
from joinery.design.learning import Learner, Piece
from joinery.design.resolving import checked_expression, expressions_of, resolved
from joinery.first_look.looked import Looked
from joinery.notation.context import EVERY_ROW, positions_at
from joinery.notation.evaluate import evaluate, holds
from joinery.notation.parse import read_sentence
from joinery.notation.tree import Expression
from joinery.notation.walk import named_in
from joinery.show.numbers import count
from joinery.show.table import Table
from joinery.support import words
from joinery.support.arguments import checked
from joinery.support.errors import EmptyTableError
from joinery.support.threads import one_thread_a_product

if TYPE_CHECKING:
    from matplotlib.figure import Figure, SubFigure


@dataclass(frozen=True, eq=False, repr=False)
class Look:
    """The first look at a table.

    Tables: ``columns`` has a row for each column; ``correlations`` a row for each pair (with a
    sentence: for each term with the response); ``predictor_pairs`` a row for each pair of
    predictors; ``response`` the response across each term, when there is a sentence. ``draw``
    makes pictures."""

    _looked: Looked

    @property
    def columns(self) -> Table:
        """Each column's kind, count, missing, mean, standard deviation, ends, median and values.

        Its notes say what is odd: constant columns, stand-ins for missing values, long tails,
        columns that say the same, rows that are there twice."""
        return self._looked.columns

    @property
    def correlations(self) -> Table:
        """Correlations with the response or of all pairs, strongest first.

        Without a sentence pairs use the rows both columns have; with one, the rows a fit would use.
        """
        return self._looked.correlations

    @property
    def predictor_pairs(self) -> Table:
        """Correlations among predictors, strongest first.

        Without a sentence, among all columns of numbers.
        """
        return self._looked.predictor_pairs

    @property
    def response(self) -> Table | None:
        """The response across each term: means by group, or proportions, or rates.

        None without a sentence.
        """
        return self._looked.response

    @property
    def tables(self) -> list[Table]:
        """The tables that say something of this table, in the order they are read."""
        tables = [self.columns]
        if len(self._looked.numeric) > 1:
            tables.append(self.correlations)
        if self.response is not None:
            tables.append(self.response)
        return tables

    @property
    def pictures(self) -> list[str]:
        """The names of the pictures that can be drawn of this table."""
        names = ["columns"]
        if len(self._looked.numeric) > 1:
            names.append("matrix")
        if self._looked.sentence is not None:
            names.append("response")
        return names

    @checked
    def draw(
        self,
        name: words.LookPictureName,
        *,
        path: str | os.PathLike[str] | None = None,
        ax: Figure | SubFigure | None = None,
        label_rows: str | Sequence[Any] = "flagged",
        figsize: tuple[float, float] | None = None,
        title: str | None = None,
        labels: Mapping[str, str] | None = None,
    ) -> Figure:
        """Draw a picture: ``columns``, ``response`` (needs a sentence) or ``matrix``.

        Parameters
        ----------
        path: where to write it (.png .svg .pdf).
        ax: a Figure or SubFigure to draw on.
        label_rows: ``"flagged"``, ``"none"`` or row labels.
        figsize: width and height in inches.
        title: words in place of the picture's own.
        labels: column to words for people.

        Returns a Matplotlib Figure. Raises CallError for another name, or ``response`` without a
        sentence.

        >>> import joinery as jn
        >>> figure = jn.look("sample:jars").draw("matrix")
        """
        from joinery.first_look.pictures import Wording, draw

        wording = Wording(title, label_rows, labels or {})
        return draw(self._looked, name, path=path, ax=ax, figsize=figsize, wording=wording)

    @one_thread_a_product()
    def __str__(self) -> str:
        return "\n\n".join(map(str, self.tables))

    def __repr__(self) -> str:
        looked = self._looked
        return f"<Look at {count(len(looked.table), 'row')}, {count(len(looked.names), 'column')}>"

    @one_thread_a_product()
    def _repr_html_(self) -> str:
        return self.columns.render("html")


def _meeting(condition: Expression, table: Records) -> np.ndarray:
    """Return positions of the rows that meet a condition."""

    def of_piece(piece: Piece) -> np.ndarray:
        context = piece[0]
        return positions_at(context.rows, np.flatnonzero(holds(evaluate(condition, context))))

    learner = Learner(table, EVERY_ROW, {})
    learner.know([condition])
    return joined(learner.stretches, of_piece)


@checked
def look(
    data: Any,
    model: str | None = None,
    *,
    where: str | Iterable[Any] | None = None,
    id: str | None = None,
) -> Look:
    """Return the first look at a table: what came in, what goes with what, and what is odd about
    it.

    Parameters: ``data`` as for ``fit``; ``model`` a sentence, to look at its response against each
    term; ``where`` an expression that rows must meet, or a value for each row; ``id`` the column
    that labels rows.
    Returns a Look, whose ``columns``, ``correlations`` and ``predictor_pairs`` are Tables.
    Raises DataError and SentenceError as ``fit`` does.

    >>> look("sample:jars").columns["mean"].round(2).tolist()
    [4.68, 28.5]
    """
    table, options = named_columns(records(data, id), {"where": where})
    rows: Any = EVERY_ROW
    if (condition := options["where"]) is not None:
        rows = _meeting(checked_expression(condition, table), table)
        if not len(rows):
            raise EmptyTableError(f"no row meets {condition}", columns=table.names)
    if model is None:
        return Look(Looked(table, rows, tuple(n for n in table.names if n not in table.beside)))
    sentence, _ = resolved(read_sentence(model), table, model)
    names = tuple(named_in(expressions_of(sentence)))
    return Look(Looked(table, rows, names, sentence))
