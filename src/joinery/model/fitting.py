"""fit(): from a table and a sentence to a Fit."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from joinery.core.solve import Block, least_squares
from joinery.data.records import Records, records
from joinery.design.design import Design, learn
from joinery.design.response import ResponseScale
from joinery.errors import CallError, SentenceError, one_of
from joinery.model.fit import Fit
from joinery.model.notes import fit_notes
from joinery.model.selection import check_names, choose_rows
from joinery.notation.evaluate import Rows
from joinery.notation.parse import read_sentence, sentence_of_parts
from joinery.notation.tree import Chain, Everything, Expression, Name, Prefix, Sentence, Term, names_in
from joinery.study.asked import checked_level
from joinery.study.per_row import row_blocks

FAMILIES = ("normal",)
LINKS = ("identity",)
MISSING = ("leave out", "refuse")


@dataclass(frozen=True)
class DesignBlocks:
    """Row blocks of a design, made again at each pass, so that the whole matrix never stands in memory."""

    design: Design
    response: ResponseScale
    table: Records
    rows: Rows

    @property
    def width(self) -> int:
        return self.design.width

    def __iter__(self) -> Iterator[Block]:
        context = self.design.context(self.table, self.rows)
        for rows in row_blocks(self.table, self.rows, max(64, min(4096, 2**21 // (self.width + 1)))):
            here = context.at(rows)
            yield self.design.matrix(here), self.response.values(here), None


def fit(
    data: Any,
    model: str,
    terms: Sequence[str] | None = None,
    *,
    family: str | None = None,
    link: str | None = None,
    where: str | None = None,
    leave_out: Sequence[Any] | str | None = None,
    id: str | None = None,
    missing: str = "leave out",
    level: float = 0.95,
    labels: Mapping[str, str] | None = None,
) -> Fit:
    """Fits a model to a table.

    Parameters
    ----------
    data: a DataFrame, a dict of lists, an Arrow stream, a path, or ``"sample:yields"``.
    model: the model sentence; or the response, with ``terms`` as a list.
    family, link: ``"normal"`` and ``"identity"``.
    where: an expression; only rows that meet it are used.
    leave_out: labels of rows not to use.
    id: the column whose values label the rows; else the frame's own index.
    missing: ``"leave out"`` rows with a missing cell, or ``"refuse"`` them.
    level: of intervals; 0.95 and 95 mean the same.
    labels: words for people, by column.

    Returns a Fit. Raises SentenceError when the sentence cannot be read, DataError when the table cannot be used,
    EstimationError when no coefficient can be estimated. Method: least squares as in ``core.solve``.

    >>> import joinery as jn
    >>> jn.fit("sample:jars", "jars_sold given hours_open").equation()
    'jars_sold = 3.7 + 5.29 hours_open'
    """
    table = records(data, id)
    sentence, text = _sentence(model, terms)
    one_of("missing", missing, MISSING)
    level = checked_level(level)
    sentence, earlier = _resolved(sentence, table, text)
    _check_family(family, sentence, table)
    one_of("link", link or "identity", LINKS)
    response = ResponseScale(sentence.response.expression)
    selection = choose_rows(
        table,
        response.expression,
        [f for t in sentence.terms for f in t.factors],
        where=where,
        leave_out=[leave_out] if isinstance(leave_out, str) else leave_out,
        missing=missing,
    )
    design = learn(sentence, table, selection.rows)
    context = design.context(table, selection.rows)
    context.learning = True
    response.values(context)
    solution = least_squares(DesignBlocks(design, response, table, selection.rows), intercept=sentence.intercept)
    return Fit(
        design=design,
        solution=solution,
        level=level,
        notes=fit_notes(table, design, solution, response.name, earlier),
        labels=dict(labels or {}),
        table=table,
        selection=selection,
        asked={"where": where, "leave_out": leave_out, "id": id, "missing": missing, "level": level, "labels": labels},
    )


def _sentence(model: str, terms: Sequence[str] | None) -> tuple[Sentence, str]:
    if not isinstance(model, str):
        raise CallError(f"the model is a sentence, not {type(model).__name__}", argument="model")
    if terms is None:
        return read_sentence(model), model
    return sentence_of_parts(model, terms), f"{model} given {', '.join([terms] if isinstance(terms, str) else terms)}"


def _resolved(sentence: Sentence, table: Records, text: str) -> tuple[Sentence, list[str]]:
    """The sentence with `all` written out, its columns checked, and the response taken out of the terms."""
    notes: list[str] = []
    check_names(names_in(sentence.response.expression), table, text)
    if sentence.response.total is not None:
        check_names(names_in(sentence.response.total), table, text)
    own = {n.name for n in names_in(sentence.response.expression)}
    if isinstance(sentence.written, Everything):
        check_names(sentence.written.but, table, text)
        sentence, notes = _everything(sentence, sentence.written, table, own)
    assert not isinstance(sentence.written, Everything)
    for term in sentence.terms:
        for factor in term.factors:
            check_names(names_in(factor), table, text)
    kept = tuple(t for t in sentence.written if str(t) != str(Term((sentence.response.expression,))))
    if len(kept) < len(sentence.written):
        notes.append(f"{sentence.response} is the response, so it was left out of the terms")
        sentence = replace(sentence, written=kept)
    if not sentence.intercept and not sentence.terms:
        raise SentenceError("a model without terms and without intercept has nothing to estimate", text=text)
    return sentence, notes


def _everything(
    sentence: Sentence, everything: Everything, table: Records, own: set[str]
) -> tuple[Sentence, list[str]]:
    """`all but a, b` as a list of terms; ids and dates stay out, with a note."""
    skip = own | {n.name for n in everything.but} | ({table.id} if table.id else set())
    terms, left = [], []
    for name in table.names:
        if name in skip:
            continue
        column = table.column(name)
        present = len(column) - int(column.missing(slice(None)).sum())
        if column.kind == "date" or (column.kind == "category" and len(column.all_levels) > max(present // 2, 1)):
            left.append(name)
        else:
            terms.append(Term((Name(name),)))
    notes = [f"`all` leaves out {', '.join(left)} (ids and dates)"] if left else []
    return replace(sentence, written=tuple(terms)), notes


def _check_family(family: str | None, sentence: Sentence, table: Records) -> None:
    """Raises CallError when the family asked for, or the one that the response calls for, is not fitted."""
    if family is not None or sentence.response.kind != "plain":
        one_of("family", family or _default_family(sentence, table), FAMILIES)
    elif (wanted := _default_family(sentence, table)) not in FAMILIES:
        raise CallError(
            f"{sentence.response} says whether it happened, which calls for the {wanted} family; this version fits the "
            'normal family alone: family="normal" draws a straight line through zeros and ones',
            argument="family",
            known=FAMILIES,
        )


def _default_family(sentence: Sentence, table: Records) -> str:
    response = sentence.response
    if response.kind == "of" or _happened(response.expression, table):
        return "binomial"
    return "poisson" if response.kind == "per" else "normal"


def _happened(expression: Expression, table: Records) -> bool:
    """Whether a response says if something happened rather than how much of it there was."""
    if isinstance(expression, Name):
        return table.column(expression.name).kind == "yes/no"
    if isinstance(expression, Prefix):
        return expression.operator == "not"
    return isinstance(expression, Chain) and expression.operators[0] not in ("+", "-", "*", "/")
