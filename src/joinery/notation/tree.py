"""The parts of a sentence, and its one canonical spelling.

Every node is frozen, compares by what it says (not by where it stood), and prints as text that
reads back to itself. The text is made with the node, out of its operands' texts, so that no depth
of nesting is too much for it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain, combinations

from joinery.support.errors import SentenceError
from joinery.support.limits import MOST_CROSSED

WORDS = ("given", "of", "per", "without", "intercept", "all", "but", "nothing", "and", "or", "not")

_PLAIN_NAME = re.compile(r"[^\W\d][\w.]*")


def spelled(name: str) -> str:
    """Return a column name as sentences write it, in double quotes unless it is plain."""
    plain = _PLAIN_NAME.fullmatch(name) and not any(map(_is_other_number, name))
    if plain and name.casefold() not in WORDS:
        return name
    return '"' + name.replace('"', '""') + '"'


def _is_other_number(letter: str) -> bool:
    """Return True for ½ and ①, which are letters of a name to some and not to others."""
    return letter.isnumeric() and not letter.isdecimal() and letter not in "²³"


def quoted_text(value: str) -> str:
    """Return text as the sentence writes it, in single quotes."""
    return "'" + value.replace("'", "''") + "'"


def number_text(value: float) -> str:
    """Return a number in the fewest characters that read back to it."""
    if value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return repr(value)


@dataclass(frozen=True, slots=True)
class Name:
    """A column."""

    name: str
    at: int = field(default=0, compare=False)

    def __str__(self) -> str:
        return spelled(self.name)


@dataclass(frozen=True, slots=True)
class Number:
    """A number."""

    value: float

    def __str__(self) -> str:
        return number_text(self.value)


@dataclass(frozen=True, slots=True)
class Text:
    """A piece of text, to compare with."""

    value: str

    def __str__(self) -> str:
        return quoted_text(self.value)


def merging(column: str, renamed: Mapping[str, str]) -> str:
    """Return the call that renames levels of a column, as sentences write it."""
    pairs = tuple(renamed.items())
    return str(Call("merged", (Name(column),), pairs=pairs))


Option = float | str | Name | tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Call:
    """A function of arguments, with options: ``spline(x, columns=4)``."""

    function: str
    arguments: tuple[Expression, ...]
    options: tuple[tuple[str, Option], ...] = ()
    at: int = field(default=0, compare=False)
    pairs: tuple[tuple[str, str], ...] = ()  # old and new level: merged(g, 'north' = 'North')
    text: str = field(init=False, compare=False, repr=False)

    def option(self, name: str) -> Option | None:
        return dict(self.options).get(name)

    def __post_init__(self) -> None:
        object.__setattr__(self, "text", self._spelled())

    def __str__(self) -> str:
        return self.text

    def _spelled(self) -> str:
        inside = [_inside(a) for a in self.arguments]
        inside += [f"{quoted_text(old)} = {quoted_text(new)}" for old, new in self.pairs]
        inside += [f"{key}={_option_text(value)}" for key, value in self.options]
        return f"{self.function}({', '.join(inside)})"


@dataclass(frozen=True, slots=True)
class Chain:
    """Operands of one rank, read from the left: ``a + b - c``, ``p and q``."""

    operands: tuple[Expression, ...]
    operators: tuple[str, ...]
    text: str = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "text", self._spelled())

    def __str__(self) -> str:
        return self.text

    def _spelled(self) -> str:
        rank = RANK[self.operators[0]]
        out = [_below(self.operands[0], rank)]
        for operator, operand in zip(self.operators, self.operands[1:], strict=True):
            out += [operator, _below(operand, rank)]
        return " ".join(out)


@dataclass(frozen=True, slots=True)
class Prefix:
    """A sign or a ``not`` before an operand."""

    operator: str
    operand: Expression
    text: str = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "text", self._spelled())

    def __str__(self) -> str:
        return self.text

    def _spelled(self) -> str:
        if self.operator == "not":
            gap = " "
        else:
            gap = ""
        rank = RANK["negate" if self.operator == "-" else "not"]
        return f"{self.operator}{gap}{_below(self.operand, rank)}"


@dataclass(frozen=True, slots=True)
class Power:
    """A base to an exponent that is a number or a computed value."""

    base: Expression
    exponent: Expression
    text: str = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "text", self._spelled())

    def __str__(self) -> str:
        return self.text

    def _spelled(self) -> str:
        simple = isinstance(self.exponent, Number)
        if simple:
            exponent = str(self.exponent)
        else:
            exponent = f"({self.exponent})"
        return f"{_below(self.base, RANK['^'])}^{exponent}"


Expression = Name | Number | Text | Call | Chain | Prefix | Power

# How tightly each operator binds; an operand of the same or lower rank goes into parentheses.
RANK = {"or": 1, "and": 2, "not": 3, "=": 4, "!=": 4, "<": 4, "<=": 4, ">": 4, ">=": 4}
RANK |= {"+": 5, "-": 5, "*": 6, "/": 6, "negate": 7, "^": 8, "atom": 9}


def _rank(node: Expression) -> int:
    if isinstance(node, Chain):
        return RANK[node.operators[0]]
    if isinstance(node, Prefix):
        return RANK["negate" if node.operator == "-" else "not"]
    if isinstance(node, Power):
        return RANK["^"]
    if isinstance(node, Number) and node.value < 0:
        return RANK["negate"]
    return RANK["atom"]


def _below(node: Expression, rank: int) -> str:
    if _rank(node) <= rank:
        return f"({node})"
    return str(node)


def _inside(node: Expression) -> str:
    """Return a function argument: arithmetic stands bare, comparisons in parentheses."""
    return _below(node, RANK["="])


def _option_text(value: Option) -> str:
    if isinstance(value, tuple):
        return (
            "(" + ", ".join(number_text(v) for v in value) + ("," if len(value) == 1 else "") + ")"
        )
    if isinstance(value, str):
        return quoted_text(value)
    if isinstance(value, Name):
        return str(value)
    return number_text(value)


def outside(node: Expression) -> str:
    """Return a factor as it stands in the comma list: sums, divisions and comparisons in
    parentheses."""
    bare = isinstance(node, (Name, Call)) or (
        isinstance(node, Power) and isinstance(node.exponent, Number)
    )
    if bare:
        return str(node)
    return f"({node})"


@dataclass(frozen=True, slots=True)
class Term:
    """One term of the list: a single factor, or the product of several."""

    factors: tuple[Expression, ...]

    def __str__(self) -> str:
        return " * ".join(outside(f) for f in self.factors)

    @property
    def key(self) -> tuple[str, ...]:
        """The same for `a * b` and `b * a`."""
        return tuple(sorted(map(str, self.factors)))


@dataclass(frozen=True, slots=True)
class Response:
    """The response: ``plain`` (a number or an event), ``of`` a total, ``per`` exposure."""

    kind: str
    expression: Expression
    total: Expression | None = None

    @property
    def expressions(self) -> list[Expression]:
        """The response itself, and its total or exposure where it has one."""
        if self.total is None:
            return [self.expression]
        return [self.expression, self.total]

    def __str__(self) -> str:
        text = outside(self.expression)
        if self.total is None:
            return text
        return f"{text} {self.kind} {outside(self.total)}"


@dataclass(frozen=True, slots=True)
class Everything:
    """`all`, or `all but` some columns."""

    but: tuple[Name, ...] = ()

    def __str__(self) -> str:
        if self.but:
            return "all but " + ", ".join(map(str, self.but))
        return "all"


@dataclass(frozen=True)
class Sentence:
    """A whole model sentence.

    ``written`` holds the terms as they were written; ``terms`` has `crossed` and `powers` written
    out, each term once."""

    response: Response
    written: tuple[Term, ...] | Everything
    intercept: bool = True

    def __str__(self) -> str:
        if isinstance(self.written, Everything):
            terms = str(self.written)
        else:
            terms = ", ".join(map(str, self.written)) or "nothing"
        return f"{self.response} given {terms}" + ("" if self.intercept else " without intercept")

    @cached_property
    def terms(self) -> tuple[Term, ...]:
        if isinstance(self.written, Everything):
            raise TypeError("`all` is written out only once the table is known")
        once: dict[tuple[str, ...], Term] = {}
        for written in self.written:
            for term in _written_out(written):
                once.setdefault(term.key, term)
        return tuple(once.values())

    @property
    def factors(self) -> list[Expression]:
        """The factors of all terms, in order."""
        return list(chain.from_iterable(term.factors for term in self.terms))


def _written_out(term: Term) -> Iterator[Term]:
    """Yield `crossed(a, b)` as a, b, a * b; `powers(x, 3)` as x, x^2, x^3, also inside products."""
    if (
        len(term.factors) == 1
        and isinstance(call := term.factors[0], Call)
        and call.function == "crossed"
    ):
        members = [as_term(a) for a in call.arguments]
        if len(members) > MOST_CROSSED:
            raise SentenceError(
                f"crossed() of {len(members)} makes {2 ** len(members) - 1:,} terms; at most "
                f"{MOST_CROSSED} can be crossed",
                suggestion="write out the products that matter: a, b, a * b",
            )
        for size in range(1, len(members) + 1):
            for chosen in combinations(members, size):
                yield from _written_out(Term(tuple(f for m in chosen for f in m.factors)))
        return
    for place, factor in enumerate(term.factors):
        if isinstance(factor, Call) and factor.function == "powers":
            base, highest = factor.arguments[0], factor.arguments[1]
            assert isinstance(highest, Number)
            for degree in range(1, int(highest.value) + 1):
                if degree == 1:
                    power = base
                else:
                    power = Power(base, Number(float(degree)))
                yield from _written_out(
                    Term((*term.factors[:place], power, *term.factors[place + 1 :]))
                )
            return
    yield term


def as_term(node: Expression) -> Term:
    """Return an argument of `crossed` as the term it stands for; a bare product is one of
    factors."""
    if isinstance(node, Chain) and set(node.operators) == {"*"}:
        return Term(node.operands)
    return Term((node,))


def parts(node: Expression) -> tuple[Expression, ...]:
    """Return the expressions directly inside a node, columns named in options among them."""
    if isinstance(node, Call):
        return (*node.arguments, *(value for _, value in node.options if isinstance(value, Name)))
    if isinstance(node, Chain):
        return node.operands
    if isinstance(node, Prefix):
        return (node.operand,)
    if isinstance(node, Power):
        return (node.base, node.exponent)
    return ()


def inside(node: Expression) -> Iterator[Expression]:
    """Yield every node of an expression, innermost first."""
    for part in parts(node):
        yield from inside(part)
    yield node
