"""A sentence meets its table: columns checked, `all` written out, the family chosen."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from joinery.data.records import Records
from joinery.notation.parse import read_expression
from joinery.notation.tree import Everything, Expression, Name, Sentence, Term
from joinery.notation.walk import is_condition, named_in, names_in
from joinery.support.errors import Note, SentenceError, UnknownColumnError, UnusableColumnError


def resolved(sentence: Sentence, table: Records, text: str) -> tuple[Sentence, list[Note]]:
    """Write out `all`, check the columns, and take the response out of the terms.

    Returns it with notes for the reader. Raises UnknownColumnError with the place in the text,
    SentenceError when nothing is left to estimate."""
    notes: list[Note] = []
    expressions = sentence.response.expressions
    for expression in expressions:
        check_names(names_in(expression), table, text)
    if isinstance(sentence.written, Everything):
        check_names(sentence.written.but, table, text)
        mine = set(named_in(expressions))
        sentence, notes = _everything(sentence, sentence.written, table, mine)
    assert not isinstance(sentence.written, Everything)
    for term in sentence.terms:
        for factor in term.factors:
            check_names(names_in(factor), table, text)
    itself = str(Term((sentence.response.expression,)))
    kept = tuple(t for t in sentence.written if str(t) != itself)
    if len(kept) < len(sentence.written):
        words = f"{sentence.response} is the response, so it was left out of the terms"
        notes.append(Note("response among terms", "caution", words, (str(sentence.response),)))
        sentence = replace(sentence, written=kept)
    if not sentence.intercept and not sentence.terms:
        raise SentenceError(
            "a model without terms and without intercept has nothing to estimate", text=text
        )
    return sentence, notes


def _everything(
    sentence: Sentence, everything: Everything, table: Records, response_names: set[str]
) -> tuple[Sentence, list[Note]]:
    """Return `all but a, b` as a list of terms; ids and dates stay out, with a note."""
    skip = response_names | {n.name for n in everything.but} | ({table.id} if table.id else set())
    skip |= set(table.beside)
    terms, left = [], []
    for name in table.names:
        if name in skip:
            continue
        try:
            column = table.column(name)
        except UnusableColumnError:
            left.append(name)
            continue
        present = len(column) - int(column.missing(slice(None)).sum())
        if column.kind == "date" or (
            column.kind == "category" and len(column.all_levels) > max(present // 2, 1)
        ):
            left.append(name)
        else:
            terms.append(Term((Name(name),)))
    notes = []
    if left:
        words = f"`all` leaves out {', '.join(left)} (ids, dates and what no model can use)"
        notes.append(Note("left out of all", "caution", words, tuple(left)))
    return replace(sentence, written=tuple(terms)), notes


def expressions_of(sentence: Sentence) -> list[Expression]:
    """Return everything that a sentence computes: response, total or exposure, factors of terms."""
    return [*sentence.response.expressions, *sentence.factors]


def default_family(sentence: Sentence, table: Records) -> str:
    """Return the family that a response calls for unless another is asked for."""
    response = sentence.response
    if response.kind == "of" or happened(response.expression, table):
        return "binomial"
    if response.kind == "per":
        return "poisson"
    return "normal"


def happened(expression: Expression, table: Records) -> bool:
    """Return True if a response says if something happened rather than how much of it there was."""
    if isinstance(expression, Name):
        return table.column(expression.name).kind == "yes/no"
    return is_condition(expression)


def checked_expression(text: str, table: Records) -> Expression:
    """Return an expression whose columns are all there.

    Raises UnknownColumnError with the place in the text.
    """
    expression = read_expression(text)
    check_names(names_in(expression), table, text)
    return expression


def check_names(names: Iterable[Any], table: Records, text: str) -> None:
    """Raise UnknownColumnError, with its place, for the first name that is no column."""
    for name in names:
        if name.name not in table.names:
            raise UnknownColumnError(name.name, table.names, text=text, position=name.at)
