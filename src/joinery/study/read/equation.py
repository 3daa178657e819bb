"""The fitted equation, in the order people write it: for reading, and as code that computes it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.data.columns import level_text
from joinery.design.codings import coding_matrix
from joinery.design.factors import CategoryFactor, CurveFactor, NumberFactor
from joinery.design.terms import DesignTerm, Recipe
from joinery.errors import CallError, one_of
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix, Text
from joinery.show.forms import latex_text
from joinery.show.numbers import MINUS, to_decimals, with_error
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import estimates

STYLES = ("text", "latex", "python", "sql", "spreadsheet")


def equation(fit: Fitted, style: str = "text") -> str:
    """The fitted equation. See ``Fit.equation``."""
    one_of("style", style, STYLES)
    return (
        _for_people(fit, style) if style in ("text", "latex") else _as_code(fit, _DIALECTS[style])
    )


# ------------------------------------------------------------------ for people


def _for_people(fit: Fitted, style: str) -> str:
    coefficients = estimates(fit)
    pieces: list[tuple[bool, str]] = []
    for name, value, error in zip(
        coefficients.names, coefficients.values, coefficients.standard_errors
    ):
        if np.isnan(value):
            continue
        size = to_decimals(abs(value), with_error(value, error))
        words = "" if name == "intercept" else fit.words(name)
        words = f"({words})" if ": " in name else words
        if style == "latex":
            size = latex_text(size)
            words = r"\,\text{" + latex_text(words) + "}" if words else ""
        else:
            words = f" {words}" if words else ""
        pieces.append((value < 0 and any(c in "123456789" for c in size), size + words))
    minus = "-" if style == "latex" else MINUS
    body = "".join(
        (f" {minus} " if negative else " + ") + piece
        if place
        else (minus if negative else "") + piece
        for place, (negative, piece) in enumerate(pieces)
    )
    name = fit.words(fit.response.name if fit.estimate.linear else _linked(fit))
    left = r"\widehat{\text{" + latex_text(name) + "}}" if style == "latex" else name
    for offset in _offsets(fit):
        words = fit.words(str(offset))
        words = words if isinstance(offset, (Name, Call, Number)) else f"({words})"
        body += " + " + (r"\text{" + latex_text(words) + "}" if style == "latex" else words)
    return f"{left} = {body or '0'}"


def _linked(fit: Fitted) -> str:
    """The left side under a link: ``logit(share of survived of colonies)``."""
    mean = {"of": f"share {fit.response.name}", "per": f"mean {fit.response.expression}"}
    what = mean.get(fit.response.kind, f"mean {fit.response.name}")
    if fit.response.kind == "plain" and fit.family.shares:
        what = f"chance of {fit.response.name}"
    return what if fit.link.name == "identity" else f"{fit.link.name}({what})"


# ------------------------------------------------------------------ as code


@dataclass(frozen=True)
class _Dialect:
    """How one language writes what an equation needs."""

    name: str
    column: Callable[[str], str]
    text: Callable[[str], str]
    equal: str
    truth: Callable[[str], str]
    power: Callable[[str, str], str]
    functions: dict[str, str]
    joined: dict[str, Callable[[list[str]], str]]
    negated: Callable[[str], str]
    left: Callable[[str], str]


def _identifier(name: str) -> str:
    return "".join(c if c.isalnum() or c == "_" else "_" for c in name)


def _infix(word: str) -> Callable[[list[str]], str]:
    return lambda parts: "(" + f" {word} ".join(parts) + ")"


_SAME = {
    "log": "log",
    "log2": "log2",
    "log10": "log10",
    "log1p": "log1p",
    "sqrt": "sqrt",
    "exp": "exp",
    "abs": "abs",
}
_DIALECTS = {
    "python": _Dialect(
        "python",
        lambda n: n if n.isidentifier() else f"row[{n!r}]",
        repr,
        "==",
        lambda c: f"({c})",
        lambda b, e: f"{b} ** {e}",
        _SAME,
        {"and": _infix("and"), "or": _infix("or")},
        lambda c: f"(not {c})",
        lambda n: f"{_identifier(n)} = ",
    ),
    "sql": _Dialect(
        "sql",
        lambda n: '"' + n.replace('"', '""') + '"',
        lambda t: "'" + t.replace("'", "''") + "'",
        "=",
        lambda c: f"CASE WHEN {c} THEN 1 ELSE 0 END",
        lambda b, e: f"POWER({b}, {e})",
        {
            "log": "LN({})",
            "log2": "(LN({}) / LN(2))",
            "log10": "(LN({}) / LN(10))",
            "log1p": "LN(1 + {})",
        }
        | {"sqrt": "SQRT({})", "exp": "EXP({})", "abs": "ABS({})"},
        {"and": _infix("AND"), "or": _infix("OR")},
        lambda c: f"(NOT {c})",
        lambda n: "",
    ),
    "spreadsheet": _Dialect(
        "spreadsheet",
        _identifier,
        lambda t: '"' + t.replace('"', '""') + '"',
        "=",
        lambda c: f"IF({c},1,0)",
        lambda b, e: f"{b}^{e}",
        {"log": "LN({})", "log2": "LOG({},2)", "log10": "LOG10({})", "log1p": "LN(1+{})"}
        | {"sqrt": "SQRT({})", "exp": "EXP({})", "abs": "ABS({})"},
        {"and": lambda p: f"AND({','.join(p)})", "or": lambda p: f"OR({','.join(p)})"},
        lambda c: f"NOT({c})",
        lambda n: "=",
    ),
}


def _as_code(fit: Fitted, d: _Dialect) -> str:
    """Every digit, so that the code gives what the fit gives."""
    out = [] if fit.solution.intercept is None else [repr(float(fit.solution.intercept))]
    memory = fit.design.function_memory
    for term in fit.design.terms:
        for place, recipe in enumerate(term.recipes, term.start):
            value = fit.solution.coefficients[place]
            if not np.isnan(value):
                out.append(f"{float(value)!r} * " + " * ".join(_piece(d, term, recipe, memory)))
    body = (" + ".join(out) or "0").replace("+ -", "- ")
    for offset in _offsets(fit):
        text = _code(d, offset, memory)
        body += " + " + (text if isinstance(offset, (Name, Call, Number)) else f"({text})")
    return d.left(fit.response.name if fit.estimate.linear else "eta") + body


def _offsets(fit: Fitted) -> Iterator[Expression]:
    """What is added with coefficient 1: the offset, and the logarithm of the exposure."""
    if (offset := fit.asides.expressions.get("offset")) is not None:
        yield offset
    if fit.response.kind == "per" and fit.response.total is not None:
        yield Call("log", (fit.response.total,))


def _piece(d: _Dialect, term: DesignTerm, recipe: Recipe, memory: dict[str, Any]) -> list[str]:
    out = []
    for factor, place in recipe:
        if isinstance(factor, CategoryFactor):
            out.append(_level(d, term, factor, place))
        elif isinstance(factor, CurveFactor):
            out.append(_curve(d, factor, place, memory))
        else:
            out.append(_number(d, factor, memory))
    return out or ["1"]


def _number(d: _Dialect, factor: NumberFactor, memory: dict[str, Any]) -> str:
    if factor.first is not None:
        raise CallError(
            f"{factor.name} counts days; the {d.name} equation cannot be written with a date in it"
        )
    text = _code(d, factor.expression, memory)
    return text if isinstance(factor.expression, (Name, Call, Power)) else f"({text})"


def _level(d: _Dialect, term: DesignTerm, factor: CategoryFactor, place: int) -> str:
    if not isinstance(factor.expression, Name) and not (
        isinstance(factor.expression, Call) and isinstance(factor.expression.arguments[0], Name)
        and factor.expression.function == "category"
    ):  # fmt: skip
        raise CallError(f"the {d.name} equation cannot be written with {factor.expression} in it")
    column = d.column(factor.label)

    def is_level(level: Any) -> str:
        value = level_text(level) if isinstance(level, (bool, float)) else d.text(str(level))
        return d.truth(f"{column} {d.equal} {value}")

    if not term.contrasts:
        return is_level(factor.levels[place])
    weights = coding_matrix(factor.coding, len(factor.levels))[:, place - 1]
    return (
        "("
        + " + ".join(f"{float(w)!r} * {is_level(v)}" for w, v in zip(weights, factor.levels) if w)
        + ")"
    )


def _curve(d: _Dialect, factor: CurveFactor, place: int, memory: dict[str, Any]) -> str:
    """A polynomial by nested multiplication; splines have no short formula."""
    if factor.expression.function != "polynomial":
        raise CallError(
            f"the {d.name} equation of a spline would fill pages; forecast with the fit, or use "
            "polynomial()"
        )
    learnt = factor.learnt
    z = f"({_code(d, factor.expression.arguments[0], memory)} - {learnt['centre']!r})"
    before, now = np.zeros(1), np.ones(1)
    for j in range(place + 1):
        b = learnt["norm2"][j] / learnt["norm2"][j - 1] if j else 0.0
        after = np.append(0.0, now)
        after[: len(now)] -= learnt["alpha"][j] * now
        after[: len(before)] -= b * before
        before, now = now, after
    text = repr(float(now[-1] / np.sqrt(learnt["norm2"][place + 1])))
    for c in now[-2::-1]:
        text = f"({text} * {z} + {float(c / np.sqrt(learnt['norm2'][place + 1]))!r})"
    return text


def _code(d: _Dialect, node: Expression, memory: dict[str, Any]) -> str:
    """An expression in a dialect."""

    def inside(n: Expression) -> str:
        text = _code(d, n, memory)
        return text if isinstance(n, (Name, Number, Text, Call)) else f"({text})"

    if isinstance(node, Name):
        return d.column(node.name)
    if isinstance(node, Number):
        return repr(node.value)
    if isinstance(node, Text):
        return d.text(node.value)
    if isinstance(node, Power):
        return d.power(inside(node.base), inside(node.exponent))
    if isinstance(node, Prefix):
        return (
            f"-{inside(node.operand)}" if node.operator == "-" else d.negated(inside(node.operand))
        )
    if isinstance(node, Chain):
        return _chain(d, node, inside)
    learnt = memory.get(str(node))
    argument = inside(node.arguments[0])
    if learnt and "mean" in learnt:
        scale = f" / {learnt['sd']!r}" if "sd" in learnt else ""
        return f"(({argument} - {learnt['mean']!r}){scale})"
    if node.function not in d.functions:
        raise CallError(
            f"the {d.name} equation cannot be written with {node} in it: it looks at other rows"
        )
    form = d.functions[node.function]
    return form.format(argument) if "{}" in form else f"{form}({argument})"


def _chain(d: _Dialect, node: Chain, inside: Callable[[Expression], str]) -> str:
    first = node.operators[0]
    parts = [inside(o) for o in node.operands]
    if first in d.joined:
        return d.joined[first](parts)
    words = {"=": d.equal, "!=": "!=" if d.name == "python" else "<>"}
    text = parts[0] + "".join(f" {words.get(o, o)} {p}" for o, p in zip(node.operators, parts[1:]))
    return d.truth(text) if first in ("=", "!=", "<", "<=", ">", ">=") else text
