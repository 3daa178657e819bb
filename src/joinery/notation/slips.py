"""Mistakes in a sentence that cannot be read, explained so that they can be put right.

The parser says at which word it stopped; these rules know the usual slips that lead there.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from lark import Lark, Token
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from joinery.notation.tree import WORDS, spelled
from joinery.support.errors import SentenceError
from joinery.support.limits import DEEPEST_SENTENCE

_WORDS_FOR = {
    "NAME": "a column name",
    "QUOTED_NAME": "a column name",
    "NUMBER": "a number",
    "TEXT": "text in single quotes",
    "COMMA": "a comma",
    "LPAR": "'('",
    "RPAR": "')'",
    "STAR": "'*'",
    "SLASH": "'/'",
    "SIGN": "'+' or '-'",
    "CIRCUMFLEX": "'^'",
    "EQUALS": "'='",
    "COMPARISON": "a comparison",
    "$END": "the end",
}


def too_deep(text: str) -> int | None:
    """Return where parentheses outside quotes pass the deepest nesting, or None."""
    depth, quote = 0, ""
    for place, character in enumerate(text):
        if quote:
            if character == quote:
                quote = ""
        elif character in "\"'":
            quote = character
        elif character == "(":
            depth += 1
            if depth > DEEPEST_SENTENCE:
                return place
        elif character == ")":
            depth -= 1
    return None


@dataclass(frozen=True)
class _Stop:
    """The place where reading stopped: the tokens before it, its token, and what could have stood
    there."""

    text: str
    start: str
    position: int
    kind: str
    value: str
    before: tuple[Token, ...]
    accepted: frozenset[str]

    @property
    def last(self) -> Token | None:
        if self.before:
            return self.before[-1]
        return None

    @property
    def open_parentheses(self) -> list[Token]:
        still_open: list[Token] = []
        for token in self.before:
            if token.type == "LPAR":
                still_open.append(token)
            elif token.type == "RPAR" and still_open:
                still_open.pop()
        return still_open

    def has(self, kind: str) -> bool:
        return any(t.type == kind for t in self.before)

    def error(
        self, problem: str, suggestion: str | None = None, *, at: int | None = None
    ) -> SentenceError:
        if at is None:
            place = self.position
        else:
            place = at
        return SentenceError(
            problem,
            text=self.text,
            position=place,
            expected=self._expected(),
            suggestion=suggestion,
        )

    def _expected(self) -> str | None:
        phrases = dict.fromkeys(
            _WORDS_FOR.get(k, f"`{k.lower()}`") for k in _ordered(self.accepted)
        )
        words = list(phrases)
        if not words:
            return None
        if len(words) == 1:
            return words[0]
        return ", ".join(words[:-1]) + " or " + words[-1]


def _ordered(kinds: Iterable[str]) -> list[str]:
    order = [*_WORDS_FOR, *(w.upper() for w in WORDS)]
    return sorted(kinds, key=lambda k: (order.index(k) if k in order else len(order), k))


def diagnose(text: str, slip: UnexpectedInput, start: str, parser: Lark) -> SentenceError:
    """Return the SentenceError for a place where the parser stopped."""
    if slip.pos_in_stream is None:
        position = len(text)
    else:
        position = slip.pos_in_stream
    if isinstance(slip, UnexpectedCharacters):
        before = _tokens_before(text, position, parser)
        return _unknown_character(
            _Stop(text, start, position, "?", text[position], before, frozenset())
        )
    assert isinstance(slip, UnexpectedToken)
    token = slip.token
    kind = token.type
    if kind == "$END":
        position = len(text.rstrip())
    before = _tokens_before(text, position, parser)
    accepted = frozenset(slip.accepts or slip.expected or ())
    stop = _Stop(text, start, position, kind, str(token.value), before, accepted)
    for rule in _RULES:
        if (error := rule(stop)) is not None:
            return error
    return stop.error(
        "the sentence ends too early" if kind == "$END" else f"{stop.value!r} cannot stand here"
    )


def _tokens_before(text: str, position: int, parser: Lark) -> tuple[Token, ...]:
    try:
        return tuple(parser.lex(text[:position]))
    except UnexpectedInput:
        return ()


def _unknown_character(stop: _Stop) -> SentenceError:
    character = stop.value
    if character in "\"'":
        if character == '"':
            kind = "name"
        else:
            kind = "text"
        return stop.error(f"this quote is never closed: the {kind} after it has no end")
    if character in "“”„‘’":
        return stop.error(
            "curly quotes have no meaning here", "use straight ones: \"a column name\", 'text'"
        )
    hints = {
        "&": "write `and`",
        "|": "write `or`",
        "!": "write `not`, or `!=` for unequal",
        ":": "a product of terms is written a * b",
        ";": "terms are separated by commas",
        "[": "use ( and )",
        "{": "use ( and )",
        "%": "a column name with such a character goes into double quotes",
    }
    hint = hints.get(character, "a column name with such a character goes into double quotes")
    if stop.start == "sentence" and not stop.has("GIVEN") and character not in hints:
        hint = (
            "between the response and the terms stands `given`: honey_kg given forage_km2, "
            "altitude_m"
        )
    return stop.error(f"the character {character!r} has no meaning here", hint)


# ------------------------------------------------------------------ the usual slips, one rule each


def _no_given(stop: _Stop) -> SentenceError | None:
    if stop.start != "sentence" or stop.has("GIVEN") or stop.open_parentheses:
        return None
    if stop.kind == "$END" and not stop.before:
        return stop.error(
            "the sentence is empty", "write, for example: honey_kg given forage_km2, altitude_m"
        )
    if stop.kind == "GIVEN" and not stop.before:
        return stop.error("the response is missing before `given`")
    if stop.kind == "EQUALS" and "given" not in stop.text.casefold().split():
        return stop.error(
            "write `given` in place of '='",
            _instead(stop, " given "),
        )
    if stop.kind == "COMMA":
        return stop.error(
            "one response stands before `given`",
            "fit a model for each; proportions are written `survived of colonies`, rates `mites "
            "per bees`",
        )
    if stop.kind == "$END":
        return stop.error(
            "the sentence has no `given`", "it stands between the response and the terms"
        )
    return None


def _instead(stop: _Stop, word: str) -> str:
    left, right = (
        stop.text[: stop.position].rstrip(),
        stop.text[stop.position + len(stop.value) :].lstrip(),
    )
    return f"write: {left}{word}{right}"


def _bare_arithmetic(stop: _Stop) -> SentenceError | None:
    if stop.start != "sentence" or stop.open_parentheses or stop.kind not in ("SIGN", "SLASH"):
        return None
    if stop.last is None or stop.last.type in ("COMMA", "GIVEN"):
        return stop.error(
            f"a term cannot begin with {stop.value!r}", "put arithmetic in parentheses: (0 - x)"
        )
    if stop.value == "+":
        what = "sum"
    elif stop.kind == "SIGN":
        what = "difference"
    else:
        what = "ratio"
    return stop.error(
        f"{stop.value!r} stands between terms",
        f"separate terms with commas, or put the {what} in parentheses if it is one term",
    )


def _bare_comparison(stop: _Stop) -> SentenceError | None:
    if stop.kind not in ("EQUALS", "COMPARISON"):
        return None
    if stop.last is not None and stop.last.type in ("EQUALS", "COMPARISON"):
        both = stop.last.value + stop.value
        if both == "==":
            hint = "equal is written with one ="
        else:
            hint = "they are = != < <= > >="
        return stop.error(f"{both!r} is not a comparison", hint)
    if stop.text[stop.position : stop.position + 2] == "==":
        return stop.error("'==' is not a comparison", "equal is written with one =")
    if stop.start == "sentence" and not stop.open_parentheses:
        return stop.error(
            "a comparison outside parentheses", "put it in parentheses: (season >= 2021)"
        )
    if any(t.type in ("EQUALS", "COMPARISON") for t in stop.before[-4:]):
        return stop.error("comparisons cannot follow one another", "join them: a < b and b < c")
    if stop.open_parentheses:
        return stop.error(
            "a comparison inside a function stands in parentheses", "for example log1p((a > b))"
        )
    return None


def _parentheses(stop: _Stop) -> SentenceError | None:
    if stop.kind == "RPAR" and not stop.open_parentheses:
        return stop.error("this parenthesis was never opened")
    if stop.kind == "$END" and stop.open_parentheses:
        return stop.error(
            "this parenthesis is never closed", at=stop.open_parentheses[-1].start_pos
        )
    if stop.kind == "GIVEN" and stop.open_parentheses:
        return stop.error(
            "this parenthesis is not closed before `given`", at=stop.open_parentheses[-1].start_pos
        )
    if stop.kind == "RPAR" and stop.last is not None and stop.last.type == "LPAR":
        return stop.error("there is nothing between these parentheses")
    return None


def _empty_term(stop: _Stop) -> SentenceError | None:
    if stop.last is not None:
        last = stop.last.type
    else:
        last = ""
    if stop.kind == "COMMA" and last in ("COMMA", "GIVEN", "LPAR"):
        return stop.error("there is nothing before this comma")
    if last == "GIVEN" and stop.kind in ("$END", "WITHOUT"):
        return stop.error(
            "terms are missing after `given`", "for the intercept alone write `given nothing`"
        )
    return None


def _second_given(stop: _Stop) -> SentenceError | None:
    if stop.kind == "GIVEN" and stop.has("GIVEN"):
        return stop.error(
            "`given` stands twice", "terms after the first `given` are separated by commas"
        )
    return None


def _without(stop: _Stop) -> SentenceError | None:
    if stop.last is not None and stop.last.type == "WITHOUT":
        return stop.error(
            "only the intercept can be left out with `without`",
            "end the sentence in `without intercept`; leave a term out by not writing it, or "
            "with `all but`",
        )
    if stop.has("WITHOUT"):
        return stop.error("`without intercept` ends the sentence; nothing follows it")
    return None


def _symbol_twice(stop: _Stop) -> SentenceError | None:
    if stop.kind == "STAR" and stop.last is not None and stop.last.type == "STAR":
        return stop.error("'**' has no meaning here", "a power is written x^2, a product a * b")
    return None


def _word_as_name(stop: _Stop) -> SentenceError | None:
    if stop.kind.lower() not in WORDS or "NAME" not in stop.accepted:
        return None
    word = stop.value
    return stop.error(
        f"`{word}` is a word of the language",
        f'if it is a column, put it in double quotes: "{word}"',
    )


def _text_as_name(stop: _Stop) -> SentenceError | None:
    if stop.kind != "TEXT" or "NAME" not in stop.accepted:
        return None
    return stop.error(
        "single quotes hold text, and a column name is needed here",
        f"write it bare or in double quotes: {spelled(stop.value[1:-1])}",
    )


def _missing_comma(stop: _Stop) -> SentenceError | None:
    names = ("NAME", "QUOTED_NAME", "NUMBER")
    if (
        stop.last is None
        or stop.kind not in (*names, "LPAR")
        or stop.last.type not in (*names, "RPAR")
    ):
        return None
    if stop.kind == "LPAR":
        return stop.error("a comma or a sign is missing before this parenthesis")
    both = f"{stop.last.value} {stop.value}"
    if stop.last.type == stop.kind == "NAME":
        if len(stop.before) > 1 and stop.before[-2].type == "EQUALS":
            return stop.error(
                "two words stand side by side",
                f"a text with a space goes in single quotes: '{both}'",
            )
        return stop.error(
            "two names stand side by side",
            f'separate terms with commas; a name with a space goes in double quotes: "{both}"',
        )
    return stop.error("a comma or a sign is missing here")


_RULES = (
    _no_given,
    _second_given,
    _bare_arithmetic,
    _bare_comparison,
    _parentheses,
    _empty_term,
    _without,
    _symbol_twice,
    _word_as_name,
    _text_as_name,
    _missing_comma,
)
