"""The functions of the language: what each takes, and what may stand around it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

from joinery.notation.of_number import ABS, EXP, LOG, LOG1P, LOG2, LOG10, SQRT, OfNumber
from joinery.notation.tree import Call, Expression, Name, Number, Option
from joinery.support.errors import SentenceError, nearest
from joinery.support.limits import HIGHEST_DEGREE, MOST_SPLINE_COLUMNS


@dataclass(frozen=True, slots=True)
class Function:
    """One function: how it is written, and where it may stand.

    ``place`` is ``anywhere`` (gives a number for each row), ``levels`` (gives a category) or
    ``factor`` (several columns), which are whole factors of a term, or ``term`` (writes out several
    terms)."""

    usage: str
    least: int = 1
    most: int | None = 1
    options: tuple[str, ...] = ()
    place: str = "anywhere"
    renames: bool = False  # whether it takes levels and what they are to be called
    of_number: OfNumber | None = None  # of a function of one number in its own row


CODED = ("reference", "coding")  # the options of a function that gives a category
FUNCTIONS: dict[str, Function] = {
    "log": Function("log(x)", of_number=LOG),
    "log2": Function("log2(x)", of_number=LOG2),
    "log10": Function("log10(x)", of_number=LOG10),
    "log1p": Function("log1p(x)", of_number=LOG1P),
    "sqrt": Function("sqrt(x)", of_number=SQRT),
    "exp": Function("exp(x)", of_number=EXP),
    "abs": Function("abs(x)", of_number=ABS),
    "rank": Function("rank(x)"),
    "centred": Function("centred(x)"),
    "standardized": Function("standardized(x)"),
    "lag": Function("lag(x, 1)  or  lag(x, 1, by=group)", 2, 2, ("by",)),
    "bands": Function("bands(x, 10, 20, 30)", 2, None, CODED, "levels"),
    "category": Function(
        "category(x)  or  category(x, reference='a', coding='effect')",
        1,
        1,
        CODED,
        "levels",
    ),
    "merged": Function(
        "merged(g, 'north' = 'North', 'Sth' = 'South')", 1, 1, CODED, "levels", renames=True
    ),
    "pooled": Function("pooled(g, least=20)", 1, 1, ("least", *CODED), "levels"),
    "month": Function("month(date)", 1, 1, CODED, "levels"),
    "weekday": Function("weekday(date)", 1, 1, CODED, "levels"),
    "quarter": Function("quarter(date)", 1, 1, CODED, "levels"),
    "year": Function("year(date)"),
    "hour": Function("hour(date)"),
    "season_waves": Function(
        "season_waves(date, period=365.25, waves=1)", 1, 1, ("period", "waves"), "factor"
    ),
    "polynomial": Function("polynomial(x, 3)", 2, 2, (), "factor"),
    "spline": Function(
        "spline(x, columns=4)  or  spline(x, knots=(10, 20, 30))",
        1,
        1,
        ("columns", "knots"),
        "factor",
    ),
    "powers": Function("powers(x, 3)", 2, 2, (), "factor"),
    "crossed": Function("crossed(a, b)", 2, None, (), "term"),
}
SPELLINGS = {"centered": "centred", "standardised": "standardized"}
CODINGS = ("indicator", "effect", "helmert")
TAKES_LEVELS = ("category", "merged", "pooled")  # functions that take a category
MOST_WAVES = 50  # of one season


def of_number(name: str) -> OfNumber | None:
    """Return the entry of a function of one number; None for any other."""
    function = FUNCTIONS.get(name)
    if function is None:
        return None
    return function.of_number


def build_call(
    written: str,
    arguments: list[Expression],
    options: dict[str, Option],
    at: int,
    pairs: tuple[tuple[str, str], ...] = (),
) -> Call:
    """Return a function call, checked. Raises SentenceError at the function's place."""
    name = written.casefold()
    name = SPELLINGS.get(name, name)
    function = FUNCTIONS.get(name)
    if function is None:
        near = nearest(written, [*FUNCTIONS, *SPELLINGS])
        if near:
            hint = f"did you mean {near!r}?"
        else:
            hint = "the functions are " + ", ".join(FUNCTIONS)
        raise SentenceError(f"there is no function {written!r}; {hint}", position=at)

    def refuse(problem: str) -> SentenceError:
        return SentenceError(
            f"{name}: {problem}", position=at, expected=f"for example {function.usage}"
        )

    for option in options:
        if option not in function.options:
            known = ", ".join(function.options) or "none"
            raise refuse(f"there is no option {option!r} here (options: {known})")
    count = len(arguments)
    if count < function.least or (function.most is not None and count > function.most):
        if function.least == function.most:
            many = f"{function.least}"
        else:
            many = f"at least {function.least}"
        raise refuse(f"it takes {many} argument{'s' * (many != '1')}, not {count}")
    if function.renames != bool(pairs):
        raise refuse(_about_pairs(pairs))
    if problem := _renamed_twice(pairs):
        raise refuse(problem)
    check = _CHECKS.get(name)
    if check:
        problem = check(arguments, options)
    else:
        problem = None
    if problem:
        raise refuse(problem)
    return Call(name, tuple(arguments), tuple(options.items()), at, pairs)


def _about_pairs(pairs: tuple[tuple[str, str], ...]) -> str:
    if pairs:
        return "it renames no levels; merged does"
    return "say which levels get which name, both in single quotes"


def _renamed_twice(pairs: tuple[tuple[str, str], ...]) -> str | None:
    """Return what is wrong with new names of levels, None where nothing is."""
    old = [name for name, _ in pairs]
    for name in old:
        if old.count(name) > 1:
            return f"{name!r} is renamed twice"
    for _, new in pairs:
        if new in old and dict(pairs)[new] != new:
            return f"{new!r} is itself renamed: give the name that is meant in the end"
        if not new:
            return "a level's name cannot be empty"
    return None


def _is_integer(node: Expression, least: int, most: int) -> bool:
    return (
        isinstance(node, Number) and node.value == int(node.value) and least <= node.value <= most
    )


def _degree(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    if not _is_integer(arguments[1], 1, HIGHEST_DEGREE):
        return (
            f"the second argument is the highest power, a whole number from 1 to {HIGHEST_DEGREE}"
        )
    return None


def _lag(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    if not _is_integer(arguments[1], 1, 10**9):
        return "the second argument is how many rows back, a whole number from 1"
    if "by" in options and not isinstance(options["by"], Name):
        return "by= names the column whose groups the rows stay in"
    return None


def _bands(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    cuts = [a.value for a in arguments[1:] if isinstance(a, Number)]
    if len(cuts) < len(arguments) - 1 or any(b <= a for a, b in pairwise(cuts)):
        return "after the column come the cuts: numbers, each larger than the one before"
    return _category(arguments[:1], options)


def _category(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    if (coding := options.get("coding")) is not None and coding not in CODINGS:
        return f"coding= is one of {', '.join(repr(c) for c in CODINGS)}"
    if not isinstance(options.get("reference", ""), (str, float)):
        return "reference= names a level: text in single quotes, or a number"
    return None


def _spline(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    knots, columns = options.get("knots"), options.get("columns", 4.0)
    if "knots" in options and "columns" in options:
        return "give columns= or knots=, not both"
    if knots is not None and (
        not isinstance(knots, tuple) or any(b <= a for a, b in pairwise(knots))
    ):
        return "knots= takes numbers in parentheses, each larger than the one before"
    if (
        not isinstance(columns, float)
        or columns != int(columns)
        or not 1 <= columns <= MOST_SPLINE_COLUMNS
    ):
        return f"columns= is a whole number from 1 to {MOST_SPLINE_COLUMNS}"
    return None


def _levels(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    inner = arguments[0]
    if not isinstance(inner, Name) and not _is_levels(inner):
        return "it takes a column of levels, or a function that gives levels"
    return _category(arguments, options)


def _is_levels(node: Expression) -> bool:
    return isinstance(node, Call) and FUNCTIONS[node.function].place == "levels"


def _pooled(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    least = options.get("least")
    if not isinstance(least, float) or least != int(least) or least < 1:
        return "least= is how many rows a level must have to stay, a whole number from 1"
    return _levels(arguments, options)


def _date(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    if not isinstance(arguments[0], Name):
        return "it takes a column of dates"
    return _category(arguments, options)


def _waves(arguments: list[Expression], options: dict[str, Option]) -> str | None:
    period, waves = options.get("period", 365.25), options.get("waves", 1.0)
    if not isinstance(period, float) or not period > 0:
        return "period= is a number above zero: days of a date, units of a number"
    if not isinstance(waves, float) or waves != int(waves) or not 1 <= waves <= MOST_WAVES:
        return f"waves= is a whole number from 1 to {MOST_WAVES}"
    return None


_CHECKS: dict[str, Callable[[list[Expression], dict[str, Option]], str | None]] = {
    "powers": _degree,
    "polynomial": _degree,
    "lag": _lag,
    "bands": _bands,
    "category": _category,
    "spline": _spline,
    "merged": _levels,
    "pooled": _pooled,
    **dict.fromkeys(("month", "weekday", "quarter", "year", "hour"), _date),
    "season_waves": _waves,
}
