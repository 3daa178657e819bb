"""URLs as people may see them: without user, password and query."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import unquote

HIDDEN = "…"
LEAST_SECRET = 3  # letters: shorter values are no secrets, and would be struck out everywhere
_URL = re.compile(r"[A-Za-z][\w+.\-]+://")
_IN_WORDS = re.compile(r"[A-Za-z][\w+.\-]+:/+[^\s'\"]+")  # a path may have lost a slash on the way
_PLAIN = re.compile(r"[\w.\-:\[\]]*(?:/[\w.\- /~\\:]*)?")  # host, port and path


def is_url(where: Any) -> bool:
    """Return True for a text written as a URL."""
    return isinstance(where, str) and _URL.match(where) is not None


def scheme_of(url: str) -> str:
    """Return what a URL begins with, without the driver of a database."""
    return url.partition("://")[0].partition("+")[0].lower()


def shown(where: Any) -> str:
    """Return a path as it is, and a URL without user, password and query.

    Where it cannot be told what is secret, the whole of it counts as such."""
    text = str(where)
    scheme, slashes, rest = re.fullmatch(r"(?s)([\w+.\-]*:)?(/*)(.*)", text).groups()  # type: ignore[union-attr]
    if not scheme or not slashes:
        return text
    before, at, after = rest.rpartition("@")
    if at and ("?" in before or "#" in before):
        return scheme + slashes + HIDDEN
    bare = re.split(r"[?#]", after if at else rest, maxsplit=1)[0]
    return scheme + slashes + (bare if _PLAIN.fullmatch(bare) else HIDDEN)


def without_secrets(words: str, url: str | None = None) -> str:
    """Return words with every URL in them as it may be shown.

    Parameters: ``url`` a URL whose parts may stand in them too, in what a driver says of it."""
    if url is not None:
        for secret in _secrets(url):
            words = words.replace(secret, HIDDEN)
    if ":/" not in words:
        return words
    return _IN_WORDS.sub(lambda match: shown(match[0]), words)


def _secrets(url: str) -> list[str]:
    """Return what is secret in a URL, the longest first, as it is written and as it is meant."""
    rest = url.partition("://")[2]
    login = rest.rpartition("@")[0]
    password = login.partition(":")[2]
    values = [pair.partition("=")[2] for pair in re.split(r"[?&;#]", rest)[1:]]
    parts = [password, *re.split(r"[@/?]", password), *values]
    secrets = {*parts, *map(unquote, parts)}
    return sorted((s for s in secrets if len(s) >= LEAST_SECRET), key=len, reverse=True)
