"""Formulas as trees: computed, and written as text, LaTeX or MathML, in symbols or in numbers."""

from __future__ import annotations

import html
import math
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from joinery.show.numbers import MINUS

Write = Callable[["Formula"], str]
FORMS = ("text", "latex", "mathml")
RANK = {"+": 1, "−": 1, "·": 2, "/": 3, "^": 5, "atom": 9}
LATEX = {"Σ": r"\sum ", "·": r"\cdot ", "−": "-", "²": "^2", "χ": r"\chi ", "α": r"\alpha "}
LATEX |= {c: f"\\{c}" for c in "_%&#$"} | {"×": r"\times ", "√": r"\surd ", " ": r"\ "}
# a name that users gave may hold these, and must not become a command
LATEX |= {"\\": r"\backslash ", "{": r"\{", "}": r"\}", "^": r"\hat{\ }", "~": r"\sim "}
LATEX |= {"β": r"\beta ", "φ": r"\phi ", "μ": r"\mu ", "η": r"\eta ", "±": r"\pm "}

OVER = {"\u0304": r"\bar", "\u0302": r"\hat"}
SMALL = "₀₁₂₃₄₅₆₇₈₉"


@dataclass(frozen=True)
class Formula:
    """One node: a symbol with its value, or an operation on others."""

    kind: Literal["symbol", "+", "−", "·", "/", "^2", "√", "call"]
    parts: tuple[Formula, ...] = ()
    name: str = ""  # of a symbol or a function
    value: float = math.nan  # of a symbol, or of a function of its parts
    latex: str = ""  # of a symbol, where it is not its name

    def __add__(self, other: Formula) -> Formula:
        return Formula("+", (self, other))

    def __sub__(self, other: Formula) -> Formula:
        return Formula("−", (self, other))

    def __mul__(self, other: Formula) -> Formula:
        return Formula("·", (self, other))

    def __truediv__(self, other: Formula) -> Formula:
        return Formula("/", (self, other))

    @property
    def squared(self) -> Formula:
        return Formula("^2", (self,))

    def compute(self, rounded: Callable[[float], float] = float) -> float:
        """Return the value, every symbol put in as it is shown."""
        if self.kind == "symbol":
            return rounded(self.value)
        if self.kind == "call":
            return self.value
        v = [part.compute(rounded) for part in self.parts]
        if self.kind == "+":
            return v[0] + v[1]
        if self.kind == "−":
            return v[0] - v[1]
        if self.kind == "·":
            return v[0] * v[1]
        if self.kind == "/":
            if v[1]:
                return v[0] / v[1]
            return math.nan
        if self.kind == "^2":
            return v[0] ** 2
        return math.sqrt(max(v[0], 0.0))

    def write(self, form: str, number: Callable[[float], str] | None = None) -> str:
        """Return the formula in a form; with ``number`` its values in place of symbols."""
        return {"text": _text, "latex": _latex, "mathml": _mathml}[form](self, number)


def symbol(name: str, value: float, latex: str = "") -> Formula:
    """Return a quantity by its symbol."""
    return Formula("symbol", (), name, float(value), latex)


def root(of: Formula) -> Formula:
    """Return a square root."""
    return Formula("√", (of,))


def call(name: str, value: float, *parts: Formula) -> Formula:
    """Return a function that is not written out, such as a quantile, with its value."""
    return Formula("call", parts, name, float(value))


Number = Callable[[float], str] | None


def _rank(node: Formula, number: Number) -> int:
    if node.kind == "symbol":
        if number is not None:
            if number(node.value).startswith((MINUS, "-")):
                return 1
            return 9
        if any(sign in node.name for sign in (" − ", " + ", " · ")):
            return 1
        return 4 if node.name.startswith("Σ") else 9  # a sum is squared as a whole
    if node.kind != "^2":
        return RANK.get(node.kind, 9)
    return 5


def _inside(node: Formula, rank: int, number: Number, write: Callable[..., str]) -> str:
    text = write(node, number)
    if _rank(node, number) <= rank:
        return f"({text})"
    return text


def _text(node: Formula, number: Number) -> str:
    if node.kind == "symbol":
        if number is None:
            return node.name
        return number(node.value)
    if node.kind == "call":
        return f"{node.name}({'; '.join(_text(p, number) for p in node.parts)})"
    if node.kind == "√":
        return f"√({_text(node.parts[0], number)})"
    if node.kind == "^2":
        return f"{_inside(node.parts[0], 5, number, _text)}²"
    a, b = node.parts
    rank = RANK[node.kind]
    left = _inside(a, rank - 1, number, _text)
    right = _inside(b, rank - (node.kind in ("+", "·")), number, _text)
    return f"{left} {node.kind} {right}"


def _symbols(text: str) -> str:
    """Return a name in LaTeX's mathematics: marks over letters, small digits, and what it would
    run."""
    out: list[str] = []
    for c in unicodedata.normalize("NFD", text):
        if c in OVER:
            out[-1] = rf"{OVER[c]}{{{out[-1]}}}"
        elif c in SMALL:
            out.append(f"_{SMALL.index(c)}")
        else:
            out.append(LATEX.get(c, c))
    return "".join(out)


def _latex(node: Formula, number: Number) -> str:
    if node.kind == "symbol":
        if number is not None:
            return number(node.value).replace(MINUS, "-")
        return node.latex or _symbols(node.name)
    if node.kind == "call":
        inside = "; ".join(_latex(p, number) for p in node.parts)
        return rf"\mathrm{{{_symbols(node.name)}}}({inside})"
    if node.kind == "√":
        return rf"\sqrt{{{_latex(node.parts[0], number)}}}"
    if node.kind == "^2":
        base = node.parts[0]
        plain = base.kind == "symbol" and number is None and _rank(base, number) == 9
        inner = _latex(base, number)
        if plain:
            return f"{inner}^2"
        return rf"\left({inner}\right)^2"
    a, b = node.parts
    if node.kind == "/":
        return rf"\frac{{{_latex(a, number)}}}{{{_latex(b, number)}}}"
    rank = RANK[node.kind]
    left = _inside(a, rank - 1, number, _latex)
    right = _inside(b, rank - (node.kind in ("+", "·")), number, _latex)
    return f"{left} {_symbols(node.kind)} {right}"


def _mathml(node: Formula, number: Number) -> str:
    if node.kind == "symbol":
        if number is not None:
            return f"<mn>{html.escape(number(node.value))}</mn>"
        return f"<mi>{html.escape(node.name)}</mi>"
    if node.kind == "call":
        inside = "<mo>;</mo>".join(_mathml(p, number) for p in node.parts)
        return f"<mi>{html.escape(node.name)}</mi><mo>(</mo>{inside}<mo>)</mo>"
    if node.kind == "√":
        return f"<msqrt>{_mathml(node.parts[0], number)}</msqrt>"
    if node.kind == "^2":
        inner = _bracketed(node.parts[0], 5, number)
        return f"<msup><mrow>{inner}</mrow><mn>2</mn></msup>"
    a, b = node.parts
    if node.kind == "/":
        return f"<mfrac><mrow>{_mathml(a, number)}</mrow><mrow>{_mathml(b, number)}</mrow></mfrac>"
    rank = RANK[node.kind]
    left = _bracketed(a, rank - 1, number)
    right = _bracketed(b, rank - (node.kind in ("+", "·")), number)
    return f"{left}<mo>{node.kind}</mo>{right}"


def _bracketed(node: Formula, rank: int, number: Number) -> str:
    inner = _mathml(node, number)
    if _rank(node, number) <= rank:
        return f"<mo>(</mo>{inner}<mo>)</mo>"
    return inner
