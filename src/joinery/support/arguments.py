"""Kinds of arguments: a decorator that holds public calls to their annotations.

A few arguments take more than an annotation says, or want other words; they stand in one table by
name. An unknown keyword stays Python's own TypeError."""

from __future__ import annotations

import inspect
import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import wraps
from itertools import chain
from numbers import Integral, Real
from types import NoneType, UnionType
from typing import Any, Literal, ParamSpec, TypeVar, Union, get_args, get_origin

import numpy as np

from joinery.support.errors import CallError, TooLargeError
from joinery.support.threads import one_thread_a_product

P = ParamSpec("P")
R = TypeVar("R")
Kind = tuple[str, Callable[[Any], bool]]  # in words, and whether a value is of the kind


def is_text(value: Any) -> bool:
    return isinstance(value, str)


def as_labels(given: Any) -> list[Any]:
    """Return one row label or several, as a list."""
    if is_listing(given):
        return list(given)
    return [given]


def is_number(value: Any) -> bool:
    return isinstance(value, Real) and not isinstance(value, bool)


def is_listing(value: Any) -> bool:
    """Return True if it is several values: a list, an array, a column, but no text and no table."""
    return isinstance(value, Iterable) and not isinstance(value, (str, bytes, Mapping))


def _texts(value: Any) -> bool:
    plain = isinstance(value, (set, frozenset)) or _one_after_another(value)
    return is_text(value) or (plain and all(is_text(v) for v in value))


def _is_flag(value: Any) -> bool:
    return isinstance(value, (bool, np.bool_))


def _is_size(value: Any) -> bool:
    """Return True for the width and the height of a sheet."""
    return (
        _one_after_another(value)
        and len(value) == 2
        and all(is_number(side) and 2 <= side <= 100 for side in value)
    )


TEXT: Kind = ("text", is_text)
NUMBER: Kind = ("a number", is_number)
WHOLE: Kind = ("a whole number", lambda v: isinstance(v, Integral) and not isinstance(v, bool))
FLAG: Kind = ("True or False", _is_flag)
PATH: Kind = ("a path", lambda v: isinstance(v, (str, os.PathLike)))
MAPPING: Kind = ("a mapping from names to values", lambda v: isinstance(v, Mapping))
COLUMN: Kind = ("an expression, or a value for each row", lambda v: is_text(v) or is_listing(v))

KINDS: dict[str, Kind] = {
    **dict.fromkeys(("weights", "repeats", "offset", "where", "order", "cluster"), COLUMN),
    **dict.fromkeys(
        ("leave_out", "put_back", "label_rows"),
        ("row labels", lambda v: not isinstance(v, Mapping)),
    ),
    **dict.fromkeys(
        ("terms", "add", "drop", "keep", "empty", "not_empty"),
        ("text, or several texts", _texts),
    ),
    "path": (
        "a path, an open file or a connection",
        lambda v: PATH[1](v) or hasattr(v, "read") or hasattr(v, "dialect"),
    ),
    "seed": (
        "a whole number from 0 up, or a generator of NumPy",
        lambda v: (WHOLE[1](v) and v >= 0) or isinstance(v, np.random.Generator),
    ),
    "ax": (
        "Matplotlib axes, a Figure or a SubFigure",
        lambda v: hasattr(v, "figure") and (hasattr(v, "plot") or hasattr(v, "subfigures")),
    ),
    "figsize": ("a width and a height in inches, each from 2 to 100", _is_size),
    "dispersion": ('a number or "estimated"', lambda v: is_text(v) or is_number(v)),
    "level": (
        "a number such as 0.95 or 95, or several",
        lambda v: (
            is_number(v) or (isinstance(v, (list, tuple)) and len(v) > 0 and all(map(is_number, v)))
        ),
    ),
    "labels": (
        "a mapping from column to words",
        lambda v: isinstance(v, Mapping) and all(is_text(k) and is_text(w) for k, w in v.items()),
    ),
}
POSITIONAL = (inspect.Parameter.POSITIONAL_ONLY, inspect.Parameter.POSITIONAL_OR_KEYWORD)
PLAIN: dict[Any, Kind] = {str: TEXT, float: NUMBER, int: WHOLE, bool: FLAG, os.PathLike: PATH}


def kind_of(annotation: Any) -> Kind | None:
    """Return what an annotation admits, in words and as a test; None where it admits anything."""
    outer = get_origin(annotation) or annotation
    if outer in PLAIN:
        return PLAIN[outer]
    if outer is Literal:
        return TEXT
    if outer in (Union, UnionType):
        kinds = [kind_of(part) for part in get_args(annotation) if part is not NoneType]
        if any(kind is None for kind in kinds):
            return None
        known = [kind for kind in kinds if kind is not None]
        words = " or ".join(dict.fromkeys(words for words, _ in known))
        return words, lambda v: any(fits(v) for _, fits in known)
    if outer is Mapping:
        return MAPPING
    if outer is Sequence:
        (part,) = get_args(annotation) or (Any,)
        inner = kind_of(part)
        if inner is None:
            return "several values", _one_after_another
        words, fits = inner
        return (
            f"several values, each {words}",
            lambda v: _one_after_another(v) and all(map(fits, v)),
        )
    return None


def _one_after_another(value: Any) -> bool:
    """Return True for a list, a tuple, an array of one dimension or a column."""
    ordered = is_listing(value) and hasattr(value, "__getitem__")
    return ordered and getattr(value, "ndim", 1) == 1


def _watched(call: Callable[..., Any], names: Iterable[str]) -> dict[str, Kind]:
    """Return the kinds of a call's arguments, by its annotations and ``KINDS``."""
    out: dict[str, Kind] = {}
    for name in names:
        kind = KINDS.get(name)
        if kind is None:
            try:
                kind = kind_of(eval(call.__annotations__.get(name, "Any"), call.__globals__))
            except NameError:  # what is named for type checkers alone
                continue
        if kind is not None:
            out[name] = kind
    return out


def checked(call: Callable[P, R]) -> Callable[P, R]:
    """Hold a public call to its annotations: a value of another kind is a CallError that says so.

    Its products of matrices have one thread each: see ``threads``.
    """
    parameters = inspect.signature(call).parameters
    defaults = {name: one.default for name, one in parameters.items()}
    positional = [name for name, one in parameters.items() if one.kind in POSITIONAL]
    takes_any = any(one.kind is inspect.Parameter.VAR_KEYWORD for one in parameters.values())
    watched: dict[str, Kind] = {}  # looked up when the call is first made

    @wraps(call)
    def wrapper(*args: P.args, **kwargs: P.kwargs) -> R:
        if not watched:
            watched.update(_watched(call, parameters))
            if takes_any:
                watched.update({name: KINDS[name] for name in KINDS.keys() - parameters.keys()})
        # what does not bind is Python's own TypeError, when the call is made
        for name, value in chain(zip(positional, args, strict=False), kwargs.items()):
            if name in watched:
                _check(name, value, *watched[name], defaults.get(name))
        try:
            with one_thread_a_product():
                return call(*args, **kwargs)
        except MemoryError as reason:
            raise out_of_memory(reason) from None

    return wrapper


def out_of_memory(reason: MemoryError) -> TooLargeError:
    """Say that memory ran out, what was asked for, and what would fit."""
    wanted = str(reason).partition(" for ")[0].strip()
    if wanted:
        requested = f" ({wanted[:1].lower()}{wanted[1:]})"
    else:
        requested = ""
    return TooLargeError(
        f"this machine has no memory left{requested}; ask it of fewer rows or columns, or read the "
        "table as it is used: jn.source of a Parquet file"
    )


def _check(name: str, value: Any, words: str, fits: Callable[[Any], bool], default: Any) -> None:
    if (value is None and default is None) or (value is default and value is not inspect._empty):
        return
    try:
        good = fits(value)
    except Exception:  # whatever a value does when looked at, it is not of the kind
        good = False
    if not good:
        raise CallError(
            f"{name}={_shown(value)} is of the wrong kind ({type(value).__name__}); it is {words}",
            argument=name,
        )


def _shown(value: Any) -> str:
    try:
        text = repr(value)
    except Exception:
        return "…"
    text = " ".join(text.split())
    if len(text) <= 60:
        return text
    return text[:59] + "…"
