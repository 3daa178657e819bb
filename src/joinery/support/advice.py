"""Advice in the form of the place where it is read: a call in Python, an option or a command in
a shell. Both run as they stand."""

from __future__ import annotations

import json
import shlex
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Any

from joinery.support.urls import shown


@dataclass(frozen=True)
class Typed:
    """The command line as typed, so that a command can be given in full."""

    model: tuple[str, ...] = ()  # data and model sentence, or a saved fit
    options: tuple[str, ...] = ()


_typed: ContextVar[Typed | None] = ContextVar("typed", default=None)  # None in Python
_WITH = {"add": "add {}", "drop": "drop {}", "response": "{}"}  # words of --with


def speak_to_shell(typed: Typed) -> None:
    """From here on advice is for the command line on which this was typed."""
    _typed.set(typed)


def option(name: str, value: Any = None) -> str:
    """Return an option of the call or command at hand; without a value, its name alone."""
    if _typed.get() is None:
        return f"{name}=" + ("" if value is None else _python(value))
    flag = value is None or value is True
    return f"--{_dashed(name)}" + ("" if flag else f" {_shell(value)}")


def reading(name: str, value: Any) -> str:
    """Return an option of reading the file."""
    if _typed.get() is None:
        return f"jn.read(path, {option(name, value)})"
    return option(name, value)


def querying(url: str) -> str:
    """Return how to say what a database shall select."""
    if _typed.get() is None:
        return f"jn.source({url!r}, query=…)"
    return option("query")


def change(**what: Any) -> str:
    """Return the fit again with something changed: arguments of ``Fit.revise``."""
    if _typed.get() is None:
        return f"fit.revise({', '.join(f'{k}={_python(v)}' for k, v in what.items())})"
    return " ".join(
        f"--with {shlex.quote(_WITH[name].format(value))}" if name in _WITH else option(name, value)
        for name, value in what.items()
    )


def ask(question: str, *named: str, **options: Any) -> str:
    """Return a question of the fit, such as a picture or a forecast."""
    typed = _typed.get()
    if typed is None:
        given = [*map(_python, named), *(f"{k}={_python(v)}" for k, v in options.items())]
        return f"fit.{question}({', '.join(given)})"
    words = [_dashed(question), *map(shown, typed.model), *named, *typed.options]
    more = "".join(f" {option(name, value)}" for name, value in options.items())
    return f"joinery {shlex.join(words)}{more}"


def _dashed(name: str) -> str:
    return name.replace("_", "-")


def _python(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(map(_python, value))}]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return repr(value)


def _shell(value: Any) -> str:
    """Return a value as one word of a shell; several are separated by commas, as ``--leave-out``
    reads."""
    if isinstance(value, list):
        return shlex.quote(", ".join(map(_as_cell, value)))
    return shlex.quote(str(value))


def _as_cell(label: Any) -> str:
    text = str(label)
    plain = not any(mark in text for mark in ',"\n') and text == text.strip()
    if plain:
        return text
    return '"' + text.replace('"', '""') + '"'
