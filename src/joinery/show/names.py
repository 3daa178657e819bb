"""Names of columns: those that users gave, kept apart from those of a table's own figures."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence

from joinery.support.errors import one_of


def apart(names: Iterable[str], figures: Iterable[str]) -> dict[str, str]:
    """Return the column that each user's name gets in a table that has these figures.

    It is the name itself, or ``name (column)`` where a figure is called so.
    """
    taken = set(figures)
    out: dict[str, str] = {}
    for name in names:
        column = str(name)
        while column in taken:
            column += " (column)"
        taken.add(column)
        out[name] = column
    return out


def headings(columns: Mapping[str, str], words: Callable[[str], str]) -> dict[str, str]:
    """Return the heading of each column that ``apart`` gave: the name in words, kept apart too."""
    return {column: words(name) + column.removeprefix(name) for name, column in columns.items()}


def label_column(name: object, figures: Iterable[str]) -> str:
    """Return the column of the row labels: their own name, or ``row`` where a figure has it."""
    taken = set(figures)
    if name is None or str(name) in {"", *taken}:
        wanted = "row"
    else:
        wanted = str(name)
    return apart([wanted], taken)[wanted]


def coefficient_key(name: str) -> tuple[str, ...]:
    """Return what is the same for ``a × b``, ``b × a`` and the sentence's own ``a * b``."""
    return tuple(sorted(part.strip() for part in re.split(r"\s[×*]\s", str(name))))


def coefficient_named(argument: str, name: object, names: Sequence[str]) -> str:
    """Return the coefficient that a name stands for, as the table or the sentence writes it.

    Raises CallError for a name that is none of them."""
    by_key = {coefficient_key(known): known for known in names}
    if isinstance(name, str):
        result = by_key.get(coefficient_key(name))
    else:
        result = None
    if result is None:
        return one_of(argument, name, tuple(names))
    return result
