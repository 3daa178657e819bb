"""Statements that a database may be sent: one select, of a URL that is a database's."""

from __future__ import annotations

import re

from joinery.support.errors import CallError
from joinery.support.urls import scheme_of, shown

_APART = re.compile(
    r"--[^\n]*|/\*.*?\*/|'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|\$(\w*)\$.*?\$\1\$", re.DOTALL
)
DATABASES = ("sqlite", "postgresql", "postgres", "duckdb", "mysql", "mariadb", "oracle", "mssql")
SELECTS = ("select", "with", "values", "table", "from")


def check_select(query: str) -> None:
    """Raise CallError for a query that is not one select."""
    bare = _APART.sub(" ", query).strip().rstrip(";").strip()
    first = re.match(r"[(\s]*(\w+)", bare)
    if first:
        word = first[1].lower()
    else:
        word = ""
    if ";" in bare:
        raise CallError(
            "the query is of several statements; one select alone is run", argument="query"
        )
    if word not in SELECTS:
        raise CallError(
            f"the query begins with {word or 'nothing'!r}; databases are only read, by one select",
            argument="query",
        )


def check_database(url: str) -> None:
    """Raise CallError for a URL that is not a database's."""
    scheme = scheme_of(url)
    if scheme in DATABASES:
        return
    if scheme == "file":
        raise CallError(f"{shown(url)} is the URL of a file; give its path", argument="path")
    raise CallError(
        f"{shown(url)} lies on the web, from which nothing is read here: fetch it, and give the "
        "path of the file, or the open file itself",
        argument="path",
    )
