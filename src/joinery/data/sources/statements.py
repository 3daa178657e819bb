"""Queries that only read: one select, and a connection that can do nothing else."""

from __future__ import annotations

import re

from joinery.errors import CallError

_APART = re.compile(
    r"--[^\n]*|/\*.*?\*/|'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|\$(\w*)\$.*?\$\1\$", re.DOTALL
)
SELECTS = ("select", "with", "values", "table", "from")


def check_select(query: str) -> None:
    """Raise CallError for a query that is not one select."""
    bare = _APART.sub(" ", query).strip().rstrip(";").strip()
    first = re.match(r"[(\s]*(\w+)", bare)
    word = first[1].lower() if first else ""
    if ";" in bare:
        raise CallError(
            "the query is of several statements; one select alone is run", argument="query"
        )
    if word not in SELECTS:
        raise CallError(
            f"the query begins with {word or 'nothing'!r}; databases are only read, by one select",
            argument="query",
        )
