"""Texts that options take: row labels, words for columns, changes to a model."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import TYPE_CHECKING, Any

from joinery.support import errors

if TYPE_CHECKING:
    from joinery.model.result import Fit


def as_typed(typed: Any) -> Any:
    """Return what was typed; the call itself says whether it is a word of its own."""
    return typed


def labels_of(texts: Iterable[str] | None) -> dict[str, str]:
    """Return words for columns, from ``column=words``."""
    return _by_column(texts, "labels", "words", "'honey_kg=Honey (kg)'")


def cells_of(texts: Iterable[str] | None) -> dict[str, str] | None:
    """Return cells for columns, from ``column=cell``; None where none is given."""
    return _by_column(texts, "cells", "cell", "'feed_kg=C2'") or None


def _by_column(texts: Iterable[str] | None, option: str, what: str, example: str) -> dict[str, str]:
    out = {}
    for text in texts or ():
        column, sign, value = text.partition("=")
        if not sign or not value.strip():
            raise errors.CallError(
                f"--{option} {text!r} names no {what}; write column={what}: {example}",
                argument=option,
            )
        out[column.strip()] = value.strip()
    return out


def labels_in(texts: Iterable[str]) -> list[str]:
    """Return row labels, several in a text separated by commas; one that holds a comma in
    quotes."""
    rows = csv.reader(texts, skipinitialspace=True)
    return [cell.strip() for row in rows for cell in row if cell.strip()]


def numbers_in(text: str) -> list[float] | str:
    """Return the numbers in a text, separated by commas; the text itself where one is none."""
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:  # the call that they are for refuses the text, and says what is wanted
        return text


def moved_in(text: str) -> str | list[str]:
    """Return what moves: a predictor, a level, or two levels after their column."""
    name, colon, levels = text.partition(": ")
    both = [part.strip() for part in levels.split(",")]
    if colon and len(both) == 2:
        return [name, *both]
    return text


def values_in(text: str) -> list[Any]:
    """Return numbers or levels separated by commas."""
    out: list[Any] = []
    for part in labels_in([text]):
        value: Any = part
        with suppress(ValueError):
            value = float(part)
        out.append(value)
    return out


def settings_in(texts: Sequence[str]) -> dict[str, Any]:
    """Return values by column, several of one column from several texts."""
    out: dict[str, list[Any]] = {}
    for text in texts:
        for name, value in held_in(text).items():
            out.setdefault(name, []).append(value)
    return out


def held_in(text: str) -> dict[str, Any]:
    """Return columns held at values."""
    from joinery.notation.parse import read_assignments

    return dict(read_assignments(text))


def held_or_word(text: str) -> dict[str, Any] | str:
    """Return columns held at values, or the word that says where they are held."""
    if "=" in text:
        return held_in(text)
    return text


# how a change begins, and the argument of ``Fit.revise`` that the rest of it is
BEGINNINGS = {
    "leave out ": "leave_out",
    "put back ": "put_back",
    "add ": "add",
    "drop ": "drop",
}


def changed(fit: Fit, text: str) -> Fit:
    """Return the fit with changes made to it, several separated by semicolons.

    ``leave out H058, H031`` · ``put back H058`` · ``add TERM`` · ``drop TERM`` · a new response as
    a sentence writes it: ``log(honey_kg)``.
    """
    return fit.revise(**_read(text))


def _read(text: str) -> dict[str, Any]:
    out: dict[str, Any] = {}
    for part in filter(None, map(str.strip, text.split(";"))):
        beginning = next((b for b in BEGINNINGS if part.casefold().startswith(b)), None)
        if beginning:
            name = BEGINNINGS[beginning]
        else:
            name = "response"
        value: Any = part[len(beginning or "") :].strip()
        if name in ("leave_out", "put_back"):
            value = labels_in([value])
        if name in out:
            raise errors.CallError(f"--with {text!r} changes the same thing twice", argument="with")
        out[name] = value
    if not out:
        raise errors.CallError(
            "--with names no change; it is 'leave out ROWS', 'put back ROWS', 'add TERM', "
            "'drop TERM', or a new response",
            argument="with",
        )
    return out
