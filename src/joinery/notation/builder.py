"""The tree of a sentence from its grammar: one method for each rule."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from lark import Token, Transformer, v_args

from joinery.notation.functions import FUNCTIONS, TAKES_LEVELS, build_call
from joinery.notation.tree import (
    WORDS,
    Call,
    Chain,
    Everything,
    Expression,
    Name,
    Number,
    Option,
    Power,
    Prefix,
    Response,
    Sentence,
    Term,
    Text,
    spelled,
)
from joinery.notation.walk import calls_in
from joinery.support.errors import SentenceError

Claim = tuple[Expression, str, Expression]


class Renamed(NamedTuple):
    """A level and what it is to be called: an argument of ``merged``."""

    old: str
    new: str


_SYNONYMS = {"≠": "!=", "≤": "<=", "≥": ">=", "×": "*", "·": "*", "−": "-"}


def word_or_name(token: Token) -> Token:
    """Return a word of the language, whatever its capital letters, is no name."""
    if token.value.casefold() in WORDS:
        return Token(token.value.upper(), token.value, token.start_pos)
    return token


def _operator(token: str) -> str:
    return _SYNONYMS.get(str(token), str(token))


@v_args(inline=True)
class Builder(Transformer[Token, Any]):
    """Turn each piece of the grammar into its node while reading, so that depth is no recursion."""

    # --- the sentence
    def sentence(
        self, response: Response, _given: Token, written: Any, without: Any = None
    ) -> Sentence:
        return Sentence(response, written, intercept=without is None)

    def without(self, *words: Token) -> str:
        return "without intercept"

    def plain_response(self, term: Term) -> Response:
        return Response("plain", _as_response(term))

    def of_response(self, part: Term, _of: Token, total: Term) -> Response:
        return Response("of", _as_response(part), _as_response(total))

    def per_response(self, count: Term, _per: Token, exposure: Term) -> Response:
        return Response("per", _as_response(count), _as_response(exposure))

    def written_list(self, *terms: Term) -> tuple[Term, ...]:
        for term in terms:
            _check_term(term)
        once: dict[tuple[str, ...], Term] = {}
        for term in terms:
            once.setdefault(term.key, term)
        return tuple(once.values())

    def empty_list(self, _nothing: Token) -> tuple[Term, ...]:
        return ()

    def all_list(self, *words: Any) -> Everything:
        return Everything(tuple(w for w in words if isinstance(w, Name)))

    def term(self, *children: Any) -> Term:
        factors = [c for c in children if not isinstance(c, Token)]
        numbers = [f for f in factors if isinstance(f, Number)]
        if numbers and len(factors) > 1:
            return Term((Chain(tuple(factors), ("*",) * (len(factors) - 1)),))
        return Term(tuple(factors))

    # --- expressions
    def disjunction(self, first: Expression, *rest: Any) -> Expression:
        return _chain(first, rest)

    conjunction = sum = product = disjunction

    def comparison(
        self, first: Expression, operator: Token | None = None, second: Any = None
    ) -> Expression:
        if operator is None:
            return first
        return _chain(first, (operator, second))

    def negation(self, *children: Any) -> Expression:
        odd = len(children) % 2 == 0
        return Prefix("not", children[-1]) if odd else children[-1]

    def signed(self, *children: Any) -> Expression:
        value: Expression = children[-1]
        if sum(_operator(sign) == "-" for sign in children[:-1]) % 2 == 0:
            return value
        if isinstance(value, Number):
            return Number(-value.value)
        return Prefix("-", value)

    def power(self, base: Expression, exponent: Expression | None = None) -> Expression:
        if exponent is None:
            return base
        return Power(base, exponent)

    def number_exponent(self, *children: Token) -> Number:
        return self._signed_number(children)

    def sum_exponent(self, exponent: Expression) -> Expression:
        return exponent

    def name(self, token: Token) -> Name:
        text, at = str(token), token.start_pos or 0
        if token.type == "QUOTED_NAME":
            text = text[1:-1].replace('""', '"')
        return Name(text, at)

    def number(self, token: Token) -> Number:
        return self._signed_number((token,))

    def text(self, token: Token) -> Text:
        return Text(_unquoted(token))

    def group(self, expression: Expression) -> Expression:
        return expression

    # --- functions
    def call(self, function: Token, *arguments: Any) -> Call:
        given = [a for a in arguments if a is not None]
        pairs = [a for a in given if isinstance(a, Renamed)]
        plain = [a for a in given if not isinstance(a, tuple)]
        options: dict[str, Option] = {}
        named = [a for a in given if isinstance(a, tuple) and not isinstance(a, Renamed)]
        for key, value in named:
            if key in options:
                raise SentenceError(
                    f"the option {key!r} is given twice", position=function.start_pos
                )
            options[str(key)] = value
        for argument in plain:
            _check_nested(argument, inside_function=str(function))
        return build_call(
            str(function),
            plain,
            options,
            function.start_pos or 0,
            tuple((pair.old, pair.new) for pair in pairs),
        )

    def value_argument(self, value: Expression) -> Expression:
        return value

    def option_argument(self, key: Token, _equals: Token, value: Option) -> tuple[str, Option]:
        return str(key), value

    def pair_argument(self, old: Token, _equals: Token, new: Token) -> Renamed:
        return Renamed(_unquoted(old).strip(), _unquoted(new).strip())

    def number_option(self, *children: Token) -> float:
        return self._signed_number(children).value

    def text_option(self, token: Token) -> str:
        return _unquoted(token)

    def name_option(self, name: Name) -> Name:
        return name

    def list_option(self, *children: Token | None) -> tuple[float, ...]:
        values, sign = [], 1.0
        for token in children:
            if token is None or token.type == "SIGN":
                if token is not None and _operator(token) == "-":
                    sign = -1.0
                else:
                    sign = 1.0
            else:
                values.append(sign * self._signed_number((token,)).value)
                sign = 1.0
        return tuple(values)

    # --- claims and values
    def claims(self, *claims: Claim) -> tuple[Claim, ...]:
        return claims

    def claim(self, left: Expression, operator: Token, right: Expression) -> Claim:
        return left, _operator(operator), right

    def assignments(self, *pairs: tuple[Name, Option]) -> tuple[tuple[Name, Option], ...]:
        return pairs

    def assignment(self, name: Name, _equals: Token, value: Option) -> tuple[Name, Option]:
        return name, value

    @staticmethod
    def _signed_number(children: Sequence[Token]) -> Number:
        value: float = float(children[-1])
        if value in (float("inf"), float("-inf")):
            raise SentenceError(
                f"the number {children[-1]} is too large", position=children[-1].start_pos
            )
        digits = str(children[-1])
        if digits.isdecimal() and int(digits) != value:
            value = int(digits)  # a double would be another whole number
        return Number(-value if len(children) > 1 and _operator(children[0]) == "-" else value)


GIVES = {"term": "terms", "factor": "several columns", "levels": "a category"}


def _unquoted(token: Token) -> str:
    return str(token)[1:-1].replace("''", "'")


def _chain(first: Expression, rest: Sequence[Any]) -> Expression:
    if not rest:
        return first
    operators = tuple(_operator(o).casefold() for o in rest[0::2])
    return Chain((first, *rest[1::2]), operators)


def _as_response(term: Term) -> Expression:
    if len(term.factors) > 1:
        return Chain(term.factors, ("*",) * (len(term.factors) - 1))
    return term.factors[0]


def _check_term(term: Term) -> None:
    for factor in term.factors:
        if isinstance(factor, Number):
            raise SentenceError(
                f"the number {factor} alone is not a term",
                suggestion="an intercept is in the model unless the sentence ends in "
                "`without intercept`; for the intercept alone write `given nothing`",
            )
        if isinstance(factor, Text):
            raise SentenceError(
                f"the text {factor} is not a term",
                suggestion=f"single quotes hold text; a column is written {spelled(factor.value)}",
            )
        if isinstance(factor, Call):
            if FUNCTIONS[factor.function].place == "term" and len(term.factors) > 1:
                raise SentenceError(
                    f"{factor.function} writes out whole terms, "
                    "so it cannot be a factor of a product",
                    position=factor.at,
                )
        else:
            _check_nested(factor)


def _check_nested(node: Expression, inside_function: str = "") -> None:
    """Functions that give categories or several columns are whole factors, not arithmetic."""
    for call in calls_in(node):
        place = FUNCTIONS[call.function].place
        crossed = place != "term" and inside_function.casefold() == "crossed"
        if place == "anywhere" or crossed:
            continue
        if place == "levels" and inside_function.casefold() in TAKES_LEVELS:
            continue
        raise SentenceError(
            f"{call.function} gives {GIVES[place]}, so it cannot stand inside an expression",
            position=call.at,
            suggestion="let it stand as a term of its own, or as one side of a product",
        )
