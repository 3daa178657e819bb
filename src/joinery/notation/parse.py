"""Reading a model sentence, an expression, a claim or a row of values: text in, tree out."""

from __future__ import annotations

import re
import sys
from collections.abc import Sequence
from functools import lru_cache
from importlib.resources import files
from importlib.util import cache_from_source
from pathlib import Path
from typing import Any

from lark import Lark
from lark.exceptions import UnexpectedInput, VisitError

from joinery.notation.builder import Builder, Claim, word_or_name
from joinery.notation.functions import FUNCTIONS
from joinery.notation.slips import diagnose, too_deep
from joinery.notation.tree import (
    Call,
    Expression,
    Name,
    Sentence,
    inside,
)
from joinery.support.errors import SentenceError
from joinery.support.limits import LONGEST_SENTENCE


@lru_cache(maxsize=1)
def _parser() -> Lark:
    return Lark(
        files("joinery.notation").joinpath("grammar.lark").read_text("utf-8"),
        start=["sentence", "expression", "claims", "assignments"],
        parser="lalr",
        lexer="basic",
        transformer=Builder(),
        lexer_callbacks={"NAME": word_or_name},
        maybe_placeholders=True,
        cache=_tables(),
    )


def _tables() -> str | bool:
    """Return where the grammar's tables are kept, beside what Python has compiled (or not at all).

    Making them takes as long as all of a small fit; Lark checks that they are this grammar's.
    """
    tables = Path(cache_from_source(__file__)).with_suffix(".tables")
    if sys.dont_write_bytecode and not tables.exists():
        return False
    return str(tables)


def _read(text: str, start: str) -> Any:
    if not isinstance(text, str):
        raise SentenceError(f"the {start} must be text, not {type(text).__name__}")
    if len(text) > LONGEST_SENTENCE:
        raise SentenceError(
            f"the {start} is {len(text):,} characters long; at most {LONGEST_SENTENCE:,} are read",
            text=text,
        )
    if (deep := too_deep(text)) is not None:
        raise SentenceError("parentheses stand more than 200 deep", text=text, position=deep)
    try:
        return _parser().parse(text, start=start)
    except UnexpectedInput as slip:
        error: Exception = diagnose(text, slip, start, _parser())
    except VisitError as wrapped:
        error = _in_text(wrapped.orig_exc, text)
    except SentenceError as slip_here:
        error = _in_text(slip_here, text)
    # raised out here, it has no context: that holds on to the parser, and would go to another
    # process with the error where a cluster's library sends contexts along
    raise error


def _in_text(slip: Exception, text: str, suggestion: str | None = None) -> Exception:
    """Return a slip shown in its text, with a suggestion if it has none; another error as it is."""
    if not isinstance(slip, SentenceError):
        return slip
    return SentenceError(
        slip.problem,
        text=text,
        position=slip.position,
        expected=slip.expected,
        suggestion=slip.suggestion or suggestion,
    )


@lru_cache(maxsize=512)
def read_sentence(text: str) -> Sentence:
    """Return a model sentence as a tree.

    Parameters: ``text``, at most 10,000 characters, parentheses at most 200 deep.
    Raises SentenceError, which shows the place and what was expected there.

    >>> str(read_sentence("honey_kg GIVEN forage_km2,altitude_m"))
    'honey_kg given forage_km2, altitude_m'
    """
    sentence: Sentence = _read(text, "sentence")
    return sentence


@lru_cache(maxsize=512)
def read_expression(text: str) -> Expression:
    """Return an expression on columns, as used by ``where=``, ``weights=`` and ``offset=``."""
    expression: Expression = _read(text, "expression")
    for node in (expression, *inside(expression)):
        if isinstance(node, Call) and FUNCTIONS[node.function].place != "anywhere":
            raise SentenceError(
                f"{node.function} stands in model sentences only", text=text, position=node.at
            )
    return expression


def read_claims(text: str) -> tuple[Claim, ...]:
    """Return equations or inequalities as (left, comparison, right); the intercept may be named
    bare."""
    if isinstance(text, str):
        text = _outside_quotes(_BARE_INTERCEPT, '"intercept"', text)
    claims: tuple[Claim, ...] = _read(text, "claims")
    return claims


_BARE_INTERCEPT = re.compile(r"(?<![\w.])intercept(?![\w.])", re.IGNORECASE)
_QUOTED = re.compile(r"""("(?:[^"]|"")*"|'(?:[^']|'')*')""")


def _outside_quotes(pattern: re.Pattern[str], put: str, text: str) -> str:
    """Replace what a pattern finds, but not inside quoted names and texts."""
    parts = _QUOTED.split(text)  # the quoted ones are every second
    return "".join(part if i % 2 else pattern.sub(put, part) for i, part in enumerate(parts))


_BARE_DATE = re.compile(r"(?<![\w.'\"-])\d{4}-\d{1,2}-\d{1,2}(?![\w.'\"-])")


IN_QUOTES = (
    "a name with spaces or signs goes in double quotes, a text with them in single ones: "
    "\"Temp (°C)\" = 20, month = '12-Dec'"
)


def read_assignments(text: str) -> dict[str, float | str]:
    """Return values for a new row: ``forage_km2 = 3, hive_type = 'long'``; a bare word is text."""
    values: dict[str, float | str] = {}
    if isinstance(text, str):
        text = _outside_quotes(_BARE_DATE, r"'\g<0>'", text)
    try:
        read = _read(text, "assignments")
    except SentenceError as slip:
        raise _in_text(slip, text, IN_QUOTES) from None
    for name, value in read:
        if name.name in values:
            raise SentenceError(f"{name.name!r} is given twice", text=text, position=name.at)
        if isinstance(value, tuple):
            raise SentenceError(
                f"{name.name!r} takes one value, not a list", text=text, position=name.at
            )
        values[name.name] = value.name if isinstance(value, Name) else value
    return values


def sentence_of_parts(response: str, terms: Sequence[str]) -> Sentence:
    """Return a sentence given in parts: the response, and a list of terms."""
    if isinstance(terms, str):
        terms = [terms]
    if terms:
        listed = ", ".join(terms)
    else:
        listed = "nothing"
    return read_sentence(f"{response} given {listed}")
