"""A formula as a JavaScript function of one row's values."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from joinery.hand_over.formula.python import identifiers
from joinery.hand_over.formula.writing import INFIX, NO, YES, bare, joined
from joinery.study.read.formula import (
    Apply,
    ByLevel,
    ByRange,
    ColumnValue,
    Compare,
    Constant,
    DatePart,
    Formula,
    Shared,
    columns_in,
    nodes,
)

FUNCTIONS = {
    "log": "Math.log({})", "log2": "Math.log2({})", "log10": "Math.log10({})",
    "log1p": "Math.log1p({})", "exp": "Math.exp({})", "expm1": "Math.expm1({})",
    "sqrt": "Math.sqrt({})", "abs": "Math.abs({})", "atan": "Math.atan({})",
    "sign": "Math.sign({})", "normal": "_normal({})", "negate": "(-{})",
    "^": "Math.pow({}, {})", "sin": "Math.sin({})", "cos": "Math.cos({})",
}  # fmt: skip
# helpers, each written out where it is used
NUMBER = """
  const _number = (value) =>
    value === null || value === undefined || String(value).trim() === "" ? NaN : Number(value);
"""
DAYS = """
  const _days = (value) => {
    if (value === null || value === undefined || value === "") return NaN;
    if (value instanceof Date) return value.getTime() / 864e5;
    const text = String(value).trim().replace(" ", "T");
    return Date.parse(text.includes("T") ? text + "Z" : text) / 864e5;
  };
"""
TEXT = """
  const _text = (value) =>
    value === null || value === undefined ? "" : String(value).trim();
"""
LEVELS = """
  const _byLevel = (value, levels, weights, name, otherwise) => {
    if (value === "" || Number.isNaN(value)) return NaN;
    const place = levels.indexOf(value);
    if (place >= 0) return weights[place];
    if (otherwise !== undefined) return otherwise;
    throw new RangeError(name + " " + JSON.stringify(value) + " was not among the fitted rows");
  };
"""
FLAG = f"""
  const _flag = (value) => {{
    const text = value === null || value === undefined ? "" : String(value).trim().toLowerCase();
    return {json.dumps(list(YES))}.includes(text) ? true : {json.dumps(list(NO))}.includes(text) ? false : text;
  }};
"""  # noqa: E501
RANGES = """
  const _byRange = (x, cuts, parts, name) => {
    if (Number.isNaN(x)) return NaN;
    let place = 0;
    while (place < cuts.length && x >= cuts[place]) place += 1;
    const value = parts[place]();
    if (name && Number.isNaN(value)) {
      throw new RangeError("a range of " + name + " was not among the fitted rows");
    }
    return value;
  };
"""
COMPARE = """
  const _compare = (left, right, holds) =>
    Number.isNaN(left) || Number.isNaN(right) ? NaN : holds(left, right) ? 1 : 0;
"""
SAME_TEXT = """
  const _sameText = (value, text, wanted) =>
    value === "" ? NaN : (value === text) === wanted ? 1 : 0;
"""
BOTH = """
  const _not = (value) => (Number.isNaN(value) ? NaN : value === 0 ? 1 : 0);
  const _and = (left, right) =>
    left === 0 || right === 0 ? 0 : Number.isNaN(left + right) ? NaN : 1;
"""
DATE_PARTS = """
  const _datePart = (part, days) => {
    if (Number.isNaN(days)) return NaN;
    const date = new Date(Math.floor(days) * 864e5);
    const month = date.getUTCMonth() + 1;
    return {
      month: month,
      quarter: Math.ceil(month / 3),
      weekday: ((date.getUTCDay() + 6) % 7) + 1,
      year: date.getUTCFullYear(),
      hour: Math.floor((days - Math.floor(days)) * 24 + 1e-6),
    }[part];
  };
"""
# P(Z ≤ z): a series near zero, Lentz's continued fraction of the tail beyond
NORMAL = """
  const _normal = (z) => {
    if (Number.isNaN(z)) return NaN;
    const density = Math.exp(-z * z / 2) / Math.sqrt(2 * Math.PI);
    const x = Math.abs(z);
    if (x < 2.5) {
      let term = x, total = x;
      for (let k = 1; term > 1e-18 * total && k < 200; k += 1) {
        term *= (x * x) / (2 * k + 1);
        total += term;
      }
      return 0.5 + Math.sign(z) * density * total;
    }
    let tail = 0;
    for (let k = 200; k > 0; k -= 1) tail = k / (x + tail);
    const upper = density / (x + tail);
    return z > 0 ? 1 - upper : upper;
  };
"""
SIGNS = {"=": "===", "!=": "!==", "<": "<", "<=": "<=", ">": ">", ">=": ">="}
# words that no argument may be called, and what the function itself names
WORDS = (
    "arguments await break case catch class const continue debugger default delete do else "
    "enum eval export extends false finally for function if implements import in "
    "instanceof interface let new null package private protected public return static "
    "super switch this throw true try typeof undefined var void while with yield NaN "
    "Infinity Math Number String Date JSON "
)
RESERVED = frozenset(WORDS.split())


@dataclass
class _JavaScript:
    """Writes formulas as expressions of JavaScript, and remembers which helpers they call."""

    names: dict[str, str]
    helpers: dict[str, None] = field(default_factory=dict)
    shared: dict[str, str] = field(default_factory=dict)

    def use(self, *helpers: str) -> None:
        self.helpers.update(dict.fromkeys(helpers))

    def write(self, node: Formula) -> str:
        if isinstance(node, Constant):
            return _number(node.value)
        if isinstance(node, ColumnValue):
            return self.names[node.name]
        if isinstance(node, Shared):
            if node.name not in self.shared:
                text = bare(self.write(node.formula))  # those it is made of come first
                self.shared[node.name] = text
            return node.name
        if isinstance(node, Apply):
            return self._apply(node)
        if isinstance(node, ByLevel):
            return self._levels(node)
        if isinstance(node, DatePart):
            self.use(DATE_PARTS)
            return f"_datePart({json.dumps(node.part)}, {self.write(node.of)})"
        if isinstance(node, ByRange):
            self.use(RANGES)
            x, cuts = bare(self.write(node.of)), ", ".join(_number(c) for c in node.cuts)
            parts = ", ".join(f"() => {bare(self.write(p))}" for p in node.parts)
            return f"_byRange({x}, [{cuts}], [{parts}], {json.dumps(node.label)})"
        if isinstance(node, Compare):
            return self._compare(node)
        return self._logic(node.word, [self.write(p) for p in node.parts])

    def _apply(self, node: Apply) -> str:
        written = [self.write(p) for p in node.parts]
        if node.operation in INFIX:
            return joined(node.operation, written)
        if node.operation == "normal":
            self.use(NORMAL)
        if node.operation != "negate":
            written = [bare(w) for w in written]
        return FUNCTIONS[node.operation].format(*written)

    def _levels(self, node: ByLevel) -> str:
        self.use(LEVELS)
        flags = all(isinstance(level, bool) for level, _ in node.weights)
        levels = json.dumps([level for level, _ in node.weights], ensure_ascii=False)
        weights = ", ".join(_number(weight) for _, weight in node.weights)
        of = self.write(node.of)
        if flags:
            self.use(FLAG)
            of = f"_flag({of})"
        rest = "" if node.otherwise is None else f", {_number(node.otherwise)}"
        return f"_byLevel({of}, {levels}, [{weights}], {json.dumps(node.label)}{rest})"

    def _compare(self, node: Compare) -> str:
        left = self.write(node.left)
        if isinstance(node.right, str):
            self.use(SAME_TEXT)
            wanted = "true" if node.sign == "=" else "false"
            return f"_sameText({left}, {json.dumps(node.right, ensure_ascii=False)}, {wanted})"
        self.use(COMPARE)
        return f"_compare({left}, {self.write(node.right)}, (a, b) => a {SIGNS[node.sign]} b)"

    def _logic(self, word: str, parts: list[str]) -> str:
        self.use(BOTH)
        if word == "not":
            return f"_not({parts[0]})"
        out = parts[0]
        for part in parts[1:]:
            if word == "and":
                out = f"_and({out}, {part})"
            else:
                out = f"_not(_and(_not({out}), _not({part})))"
        return out


def _number(value: float) -> str:
    if np.isnan(value):
        return "NaN"
    if np.isinf(value):
        return "Infinity" if value > 0 else "-Infinity"
    text = repr(float(value))
    return f"({text})" if value < 0 else text


def as_javascript(formula: Formula, order: Sequence[str], part: str, words: str) -> str:
    """Return a complete function of one row's values, named after the part that it gives."""
    columns = {c.name: c for c in columns_in(formula)}
    safe = identifiers([c for c in order if c in columns])
    names = {column: f"{n}_" if n in RESERVED else n for column, n in safe.items()}
    writer = _JavaScript(names)
    parts: Sequence[Formula] = (formula,)
    if isinstance(formula, Apply) and formula.operation == "+":  # a term a line
        parts = formula.parts
    terms = [writer.write(p) for p in parts]
    flags = _flags(formula)
    reads = [_read(columns[name], member, writer, flags) for name, member in names.items()]
    comment = json.dumps(words, ensure_ascii=False)[1:-1].replace("*/", "* /")
    lines = [f"function {part}({', '.join(names.values())}) {{", f"  // {comment}"]
    lines += [f"  // {m}: the column {json.dumps(n)}" for n, m in names.items() if m != n]
    for helper in writer.helpers:
        lines += helper.strip("\n").split("\n")
    lines += [line for line in reads if line]
    lines += [f"  const {name} = {text};" for name, text in writer.shared.items()]
    lines += [f"  return {bare(terms[0])}", *(f"    + {term}" for term in terms[1:])]
    return "\n".join([*lines[:-1], f"{lines[-1]};", "}"]) + "\n"


def _flags(formula: Formula) -> set[str]:
    """Return the columns that are read as yes or no where their levels stand."""
    return {
        node.of.name
        for node in nodes(formula)
        if isinstance(node, ByLevel)
        and isinstance(node.of, ColumnValue)
        and all(isinstance(level, bool) for level, _ in node.weights)
    }


def _read(column: ColumnValue, member: str, writer: _JavaScript, flags: set[str]) -> str:
    """Return the line that takes a value as the formula wants it."""
    if column.name in flags:
        return ""
    call, helper = {
        "number": ("_number", NUMBER),
        "date": ("_days", DAYS),
        "text": ("_text", TEXT),
    }[column.kind]
    writer.use(helper)
    text = f"  {member} = {call}({member});"
    if column.filled is not None:
        filled = _number(column.filled)
        text += f"\n  if (Number.isNaN({member})) {member} = {filled};"
    return text
