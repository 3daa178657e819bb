"""What arguments may be: one table of kinds, by the name of the argument, and a decorator that
holds the public calls to it. An unknown keyword stays Python's own TypeError."""

from __future__ import annotations

import inspect
import os
from collections.abc import Callable, Iterable, Mapping
from functools import wraps
from numbers import Integral, Real
from typing import Any, ParamSpec, TypeVar

import numpy as np

from joinery.errors import CallError
from joinery.threads import one_thread_a_product

P = ParamSpec("P")
R = TypeVar("R")
Kind = tuple[str, Callable[[Any], bool]]  # in words, and whether a value is of the kind


def is_text(value: Any) -> bool:
    return isinstance(value, str)


def as_labels(given: Any) -> list[Any]:
    """One row label or several, as a list."""
    return list(given) if is_listing(given) else [given]


def is_number(value: Any) -> bool:
    return isinstance(value, Real) and not isinstance(value, bool)


def is_listing(value: Any) -> bool:
    """Whether it is several values: a list, an array, a column, but no text and no table."""
    return isinstance(value, Iterable) and not isinstance(value, (str, bytes, Mapping))


def _texts(value: Any) -> bool:
    return is_text(value) or (is_listing(value) and all(is_text(v) for v in value))


def _is_flag(value: Any) -> bool:
    return isinstance(value, (bool, np.bool_))


TEXT: Kind = ("text", is_text)
TEXTS: Kind = ("text, or several texts", _texts)
NUMBER: Kind = ("a number", is_number)
LEVELS: Kind = (
    "a number such as 0.95 or 95, or several",
    lambda v: (
        is_number(v) or (isinstance(v, (list, tuple)) and len(v) > 0 and all(map(is_number, v)))
    ),
)
WHOLE: Kind = ("a whole number", lambda v: isinstance(v, Integral) and not isinstance(v, bool))
FLAG: Kind = ("True or False", _is_flag)
PATH: Kind = ("a path", lambda v: isinstance(v, (str, os.PathLike)))
WORDS: Kind = (
    "a mapping from column to words",
    lambda v: isinstance(v, Mapping) and all(is_text(k) and is_text(w) for k, w in v.items()),
)
COLUMN: Kind = ("an expression, or a value for each row", lambda v: is_text(v) or is_listing(v))
LABELS: Kind = ("row labels", lambda v: not isinstance(v, Mapping))

KINDS: dict[str, Kind] = {
    **dict.fromkeys(("model", "family", "link", "id", "missing", "std_errors", "penalty"), TEXT),
    **dict.fromkeys(("moves", "criterion", "after", "style", "text", "intervals"), TEXT),
    **dict.fromkeys(("name", "form", "title", "x_label", "y_label", "response", "by"), TEXT),
    **dict.fromkeys(("against", "term", "table"), TEXT),
    **dict.fromkeys(("terms", "add", "drop", "keep", "empty", "not_empty"), TEXTS),
    **dict.fromkeys(("weights", "repeats", "offset", "where", "order", "cluster"), COLUMN),
    **dict.fromkeys(("leave", "limit", "step", "per", "residual_sd", "shape"), NUMBER),
    **dict.fromkeys(("folds", "seed", "digits", "times", "copies", "resamples"), WHOLE),
    **dict.fromkeys(("standardized", "ratios", "profile", "dfbetas", "crosscheck"), FLAG),
    **dict.fromkeys(("simultaneous", "for_spreadsheets"), FLAG),
    **dict.fromkeys(
        ("across", "weighting", "reference", "correction", "resample", "interval"), TEXT
    ),
    "of": TEXTS,
    "hold": ("text, or values by column", lambda v: is_text(v) or isinstance(v, Mapping)),
    **dict.fromkeys(("leave_out", "put_back", "label_rows"), LABELS),
    "ax": ("Matplotlib axes", lambda v: hasattr(v, "figure") and hasattr(v, "plot")),
    "dispersion": ('a number or "estimated"', lambda v: is_text(v) or is_number(v)),
    "level": LEVELS,
    "labels": WORDS,
    "path": PATH,
}


def checked(call: Callable[P, R]) -> Callable[P, R]:
    """Hold a public call to ``KINDS``: a value of another kind is a CallError that says which.

    Its products of matrices have one thread each: see ``threads``.
    """
    signature = inspect.signature(call)
    watched = {name: KINDS[name] for name in signature.parameters if name in KINDS}
    defaults = {name: signature.parameters[name].default for name in watched}
    extra = next((n for n, p in signature.parameters.items() if p.kind is p.VAR_KEYWORD), None)

    @wraps(call)
    def wrapper(*args: P.args, **kwargs: P.kwargs) -> R:
        try:
            bound = signature.bind(*args, **kwargs).arguments
        except TypeError as reason:
            raise TypeError(f"{call.__name__}() {reason}") from None
        for name, (words, fits) in watched.items():
            if name in bound:
                _check(name, bound[name], words, fits, defaults[name])
        for name, value in bound.get(extra, {}).items() if extra else ():
            if name in KINDS:
                _check(name, value, *KINDS[name], None)
        with one_thread_a_product():
            return call(*args, **kwargs)

    return wrapper


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
    return text if len(text) <= 60 else text[:59] + "…"
