"""Fitting again with something changed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields, replace
from typing import Any, Unpack

from joinery.design.resolving import default_family
from joinery.model.choices import Choices
from joinery.model.steps import fit_to_table
from joinery.notation.parse import read_sentence
from joinery.notation.tree import Everything, Sentence, Term
from joinery.study.fitted import Fitted
from joinery.support import words
from joinery.support.arguments import as_labels
from joinery.support.errors import CallError, listed, nearest


def revise(
    earlier: Fitted,
    *,
    add: str | Sequence[str] | None = None,
    drop: str | Sequence[str] | None = None,
    leave_out: Sequence[Any] | str | None = None,
    put_back: Sequence[Any] | str | None = None,
    response: str | None = None,
    **changed: Unpack[words.Changes],
) -> Fitted:
    """Return a new Fit like an earlier one but for what is said here. See ``Fit.revise``."""
    if earlier.origin is None:
        raise CallError("a fit loaded from a file keeps no rows to fit again; fit the table itself")
    sentence = earlier.design.sentence
    terms = list(sentence.terms)
    for term in terms_of(drop):
        keys = [t.key for t in terms]
        if term.key not in keys:
            near = nearest(str(term), map(str, terms))
            if near:
                hint = f"did you mean {near!r}?"
            else:
                hint = "it has " + ", ".join(map(str, terms))
            raise CallError(f"the model has no term {str(term)!r}; {hint}", argument="drop")
        terms.pop(keys.index(term.key))
    terms += [t for t in terms_of(add) if t.key not in {k.key for k in terms}]
    intercept = sentence.intercept and has_intercept(add)
    new = replace(sentence, written=tuple(terms), intercept=intercept)
    if response is not None:
        new = replace(new, response=read_sentence(f"{response} given nothing").response)
    others: dict[str, Any] = dict(changed)
    if odd := set(others) - {f.name for f in fields(Choices)}:
        raise TypeError(f"revise() got an unexpected keyword argument {min(odd)!r}")
    before = earlier.options
    rows = [*_listed(before.leave_out), *_listed(leave_out)]
    back = {str(label) for label in _listed(put_back)}
    if lacking := back - {str(label) for label in rows}:
        raise CallError(
            f"row {listed(sorted(lacking))} was not left out by name, so it cannot be put back"
        )
    rows = [label for label in rows if str(label) not in back]
    if response is not None and "family" not in others:
        table = earlier.origin.given
        usual = [default_family(one, table) for one in (sentence, new)]
        if before.family == usual[0] != usual[1]:  # a yes or no in place of a number
            others["family"] = usual[1]
    choices = replace(Choices.of(before), leave_out=rows or None)
    if "family" in others:
        # another family has links of its own
        choices = replace(choices, link=None)
    if others.get("std_errors", before.std_errors) != "clustered":
        choices = replace(choices, cluster=None)
    choices = replace(choices, **others)
    fitted = fit_to_table(earlier.origin.given, str(new), choices)
    changes = {
        "add": add,
        "drop": drop,
        "leave out": leave_out,
        "put back": put_back,
        "response": response,
    } | others
    trail = [
        f"{what} {listed(_listed(value), 8)}"
        for what, value in changes.items()
        if value is not None
    ]
    return replace(fitted, changes=(*earlier.changes, "; ".join(trail) or "nothing changed"))


def _listed(value: Any) -> list[Any]:
    """Return one value or several as a list."""
    if value is None:
        return []
    return as_labels(value)


def has_intercept(text: str | Sequence[str] | None) -> bool:
    """Return False for terms to be added that end in ``without intercept``."""
    sentence = _sentence_of(text)
    return sentence is None or sentence.intercept


def terms_of(text: str | Sequence[str] | None) -> list[Term]:
    """Return terms written as one text or several."""
    sentence = _sentence_of(text)
    if sentence is None:
        return []
    if isinstance(sentence.written, Everything):
        raise CallError("name the terms; `all` cannot be added or dropped")
    return list(sentence.terms)


def _sentence_of(text: str | Sequence[str] | None) -> Sentence | None:
    """Return a sentence that holds the terms; None where there are none."""
    if text is None or (not isinstance(text, str) and not len(text)):
        return None
    return read_sentence(f"y given {text if isinstance(text, str) else ', '.join(text)}")
