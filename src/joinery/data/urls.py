"""URLs: which name a database, and how they are shown to people, without what is secret in them."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import unquote

from joinery.errors import CallError

DATABASES = ("sqlite", "postgresql", "postgres", "duckdb", "mysql", "mariadb", "oracle", "mssql")
HIDDEN = "…"
_PLAIN = re.compile(r"[\w.\-:\[\]]*(?:/[\w.\- /~\\:]*)?")  # host, port and path
LEAST_SECRET = 3  # letters: shorter values are no secrets, and would be struck out everywhere


def is_url(where: Any) -> bool:
    """Return True for a text written as a URL."""
    return isinstance(where, str) and re.match(r"[A-Za-z][\w+.\-]*://", where) is not None


def scheme_of(url: str) -> str:
    """Return what a URL begins with, without the driver of a database."""
    return url.partition("://")[0].partition("+")[0].lower()


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


def shown(where: Any) -> str:
    """Return a path as it is, and a URL without user, password and query.

    Where it cannot be told what is secret, the whole of it counts as such."""
    text = str(where)
    if not is_url(text):
        return text
    scheme, _, rest = text.partition("://")
    before, at, after = rest.rpartition("@")
    if at and ("?" in before or "#" in before):
        return f"{scheme}://{HIDDEN}"
    bare = re.split(r"[?#]", after if at else rest, maxsplit=1)[0]
    return f"{scheme}://{bare}" if _PLAIN.fullmatch(bare) else f"{scheme}://{HIDDEN}"


def without_secrets(words: str, url: str) -> str:
    """Return what somebody else says of a URL, with what is secret in it struck out."""
    if not is_url(url):
        return words
    words = words.replace(url, shown(url))
    rest = url.partition("://")[2]
    login, _, tail = rest.rpartition("@")
    password = login.partition(":")[2]
    values = [pair.partition("=")[2] for pair in re.split(r"[?&;#]", rest)[1:]]
    secrets = {password, login, *values} | {unquote(v) for v in (password, *values)}
    for secret in sorted(secrets, key=len, reverse=True):
        if len(secret) >= LEAST_SECRET and secret != tail:
            words = words.replace(secret, HIDDEN)
    return words
