"""A formula as a complete Python function of NumPy arrays."""

from __future__ import annotations

import keyword
import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from joinery.hand_over.formula.writing import INFIX, bare, joined
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
    "log": "np.log({})", "log2": "np.log2({})", "log10": "np.log10({})", "log1p": "np.log1p({})",
    "exp": "np.exp({})", "expm1": "np.expm1({})", "sqrt": "np.sqrt({})", "abs": "np.abs({})",
    "atan": "np.arctan({})", "sign": "np.sign({})", "normal": "ndtr({})", "negate": "(-{})",
    "^": "({} ** {})", "sin": "np.sin({})", "cos": "np.cos({})",
}  # fmt: skip
NUMBERS = """
def _numbers(values):
    return np.asarray(values, dtype=float)
"""
TEXTS = """
def _texts(values):
    values = np.asarray(values, dtype=object)
    strip = np.vectorize(lambda v: v.strip() if isinstance(v, str) else v, otypes=[object])
    return strip(values)
"""
MISSING = """
def _missing(value):
    return value is None or value != value or (isinstance(value, str) and not value.strip())
"""
LEVELS = """
def _by_level(values, weights, name, otherwise=None):
    def one(value):
        if _missing(value):
            return np.nan
        key = value.strip() if isinstance(value, str) else value
        if key not in weights and otherwise is not None:
            return otherwise
        if key not in weights:
            raise ValueError(f"{name} {value!r} was not among the fitted rows")
        return weights[key]

    return np.vectorize(one, otypes=[float])(np.asarray(values, dtype=object))
"""
RANGES = """
def _by_range(x, cuts, parts, name=""):
    place = np.searchsorted(cuts, x, side="right")
    out = np.select([place == i for i in range(len(parts))], parts)
    if name and np.isnan(out[~np.isnan(x)]).any():
        raise ValueError(f"a range of {name} was not among the fitted rows")
    return np.where(np.isnan(x), np.nan, out)
"""
COMPARE = """
def _compare(how, left, right):
    return np.where(np.isnan(left) | np.isnan(right), np.nan, how(left, right))
"""
SAME_TEXT = """
def _same_text(values, text, wanted):
    return np.where([_missing(v) for v in np.ravel(values)], np.nan,
                    [(v == text) == wanted for v in np.ravel(values)]).reshape(np.shape(values))
"""
BOTH = """
def _negation(value):
    return np.where(np.isnan(value), np.nan, value == 0)


def _both(left, right):
    return np.where((left == 0) | (right == 0), 0.0, (left * right != 0) + 0 * left * right)
"""
DAYS = """
def _days(values):
    return np.asarray(values, dtype="datetime64[us]").astype(float) / 86_400e6
"""
DATE_PARTS = """
def _date_part(part, days):
    whole = np.nan_to_num(np.floor(days)).astype("int64")
    months = whole.astype("datetime64[D]").astype("datetime64[M]").astype("int64")
    value = {
        "month": months % 12 + 1,
        "quarter": months % 12 // 3 + 1,
        "weekday": (whole + 3) % 7 + 1,
        "year": months // 12 + 1970,
        "hour": np.floor((np.nan_to_num(days) - whole) * 24 + 1e-6),
    }[part]
    return np.where(np.isnan(days), np.nan, value)
"""
HOW = {"=": "equal", "!=": "not_equal", "<": "less", "<=": "less_equal",
        ">": "greater", ">=": "greater_equal"}  # fmt: skip


@dataclass
class _Python:
    """Writes formulas as NumPy expressions, and remembers which helpers they call."""

    names: dict[str, str]
    helpers: dict[str, None] = field(default_factory=dict)
    shared: dict[str, str] = field(default_factory=dict)

    def use(self, *helpers: str) -> None:
        self.helpers.update(dict.fromkeys(helpers))

    def write(self, node: Formula) -> str:
        if isinstance(node, Constant):
            if np.isfinite(node.value):
                return repr(node.value)
            if np.isnan(node.value):
                return "np.nan"
            if node.value > 0:
                return "np.inf"
            return "-np.inf"
        if isinstance(node, ColumnValue):
            return self.names[node.name]
        if isinstance(node, Shared):
            if node.name not in self.shared:
                text = bare(self.write(node.formula))  # those it is made of come first
                self.shared[node.name] = text
            return node.name
        if isinstance(node, Apply):
            written = [self.write(p) for p in node.parts]
            if node.operation in INFIX:
                return joined(node.operation, written)
            if node.operation not in ("^", "negate"):
                written = [bare(w) for w in written]
            return FUNCTIONS[node.operation].format(*written)
        if isinstance(node, ByLevel):
            self.use(MISSING, LEVELS)
            levels = ", ".join(f"{level!r}: {weight!r}" for level, weight in node.weights)
            rest = "" if node.otherwise is None else f", {node.otherwise!r}"
            return f"_by_level({self.write(node.of)}, {{{levels}}}, {node.label!r}{rest})"
        if isinstance(node, DatePart):
            self.use(DATE_PARTS)
            return f"_date_part({node.part!r}, {self.write(node.of)})"
        if isinstance(node, ByRange):
            self.use(RANGES)
            x, cuts = bare(self.write(node.of)), [float(c) for c in node.cuts]
            ranges = ", ".join(bare(self.write(p)) for p in node.parts)
            if node.label:
                label = f", {node.label!r}"
            else:
                label = ""
            return f"_by_range({x}, {cuts!r}, [{ranges}]{label})"
        if isinstance(node, Compare):
            left = self.write(node.left)
            if isinstance(node.right, str):
                self.use(TEXTS, MISSING, SAME_TEXT)
                return f"_same_text({left}, {node.right!r}, {node.sign == '='})"
            self.use(COMPARE)
            return f"_compare(np.{HOW[node.sign]}, {left}, {self.write(node.right)})"
        self.use(BOTH)
        parts = [self.write(p) for p in node.parts]
        if node.word == "not":
            return f"_negation({parts[0]})"
        out = parts[0]
        for part in parts[1:]:
            if node.word == "and":
                out = f"_both({out}, {part})"
            else:
                out = f"_negation(_both(_negation({out}), _negation({part})))"
        return out


TAKEN = {"np", "ndtr"}  # what the function itself names; its helpers begin with an underscore


def identifiers(columns: Sequence[str]) -> dict[str, str]:
    """Return a Python name for each column, as near to its own as can be."""
    out: dict[str, str] = {}
    for column in columns:
        # Python takes names that look alike for one: µ and μ
        alike = unicodedata.normalize("NFKC", column)
        plain = "".join(c if f"_{c}".isidentifier() else "_" for c in alike)
        name = re.sub("_+", "_", plain).strip("_") or "column"
        if not name.isidentifier():
            name = f"column_{name}"
        if keyword.iskeyword(name) or name in TAKEN:
            name = f"{name}_"
        name = f"{name}_" if re.fullmatch(r"[xu]\d+", name) else name  # as shared parts are called
        base, count = name, 2
        while name in out.values():
            name, count = f"{base}_{count}", count + 1
        out[column] = name
    return out


def as_python(formula: Formula, order: Sequence[str], part: str, words: str) -> str:
    """Return a complete function of arrays or numbers, named after the part that it gives."""
    columns = {c.name: c for c in columns_in(formula)}
    names = identifiers([c for c in order if c in columns])
    writer = _Python(names)
    parts: Sequence[Formula] = (formula,)
    if isinstance(formula, Apply) and formula.operation == "+":  # a term a line
        parts = formula.parts
    terms = [writer.write(part) for part in parts]
    reads = _reads(formula, columns, names, writer)
    shared = [f"    {name} = {text}" for name, text in writer.shared.items()]
    lines = ["import numpy as np"]
    if any("ndtr(" in line for line in (*terms, *shared)):
        lines.append("from scipy.special import ndtr")
    for helper in writer.helpers:
        lines += ["", *helper.rstrip("\n").split("\n")]
    lines += ["", "", f"def {part}({', '.join(names.values())}):", *_docstring(words, names)]
    lines += [*reads, *shared]
    lines += ['    with np.errstate(all="ignore"):', "        _value = ("]
    lines += [f"            {bare(terms[0])}", *(f"            + {t}" for t in terms[1:])]
    return "\n".join([*lines, "        )", "    return np.asarray(_value)[()]"]) + "\n"


def _docstring(words: str, names: Mapping[str, str]) -> list[str]:
    says = words.replace("\\", "\\\\").replace('"', '\\"')
    odd = [f"    {member}: the column {name!r}".replace("\\", "\\\\").replace('"', '\\"')
           for name, member in names.items() if member != name]  # fmt: skip
    if odd:
        return [f'    """{says}', "", *odd, '    """']
    return [f'    """{says}"""']


def _reads(
    formula: Formula, columns: Mapping[str, ColumnValue], names: Mapping[str, str], writer: _Python
) -> list[str]:
    """Return the lines that make arrays of what is given."""
    lines = []
    compared = _compared(formula)
    for name, member in names.items():
        column = columns[name]
        if column.kind == "text" and name not in compared:
            continue  # by_level reads it as it is
        call, helper = {"number": ("_numbers", NUMBERS), "date": ("_days", DAYS),
                        "text": ("_texts", TEXTS)}[column.kind]  # fmt: skip
        writer.use(helper)
        lines.append(f"    {member} = {call}({member})")
        if column.filled is not None:
            lines.append(
                f"    {member} = np.where(np.isnan({member}), {column.filled!r}, {member})"
            )
    return lines


def _compared(formula: Formula) -> set[str]:
    """Return the columns that stand in comparisons with text."""
    return {
        column.name
        for node in nodes(formula)
        if isinstance(node, Compare) and isinstance(node.right, str)
        for column in columns_in(node.left)
    }
