"""A formula as a spreadsheet takes it, cell by cell."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

import numpy as np

from joinery.hand_over.formula.writing import INFIX, NO, YES, bare
from joinery.study.read.formula import (
    Apply,
    ByLevel,
    ByRange,
    ColumnValue,
    Compare,
    Constant,
    DatePart,
    Formula,
    Logic,
    Shared,
    columns_in,
    nodes,
)
from joinery.support.errors import CallError, listed

FUNCTIONS = {
    "log": "LN({})", "log2": "LOG({},2)", "log10": "LOG10({})", "log1p": "LN(1+{})",
    "exp": "EXP({})", "expm1": "(EXP({})-1)", "sqrt": "SQRT({})", "abs": "ABS({})",
    "atan": "ATAN({})", "sign": "SIGN({})", "normal": "NORMSDIST({})", "negate": "(-{})",
    "^": "({}^{})", "sin": "SIN({})", "cos": "COS({})",
}  # fmt: skip
DATE_PARTS = {"month": "MONTH({})", "quarter": "ROUNDUP(MONTH({})/3,0)", "weekday": "WEEKDAY({},2)",
              "year": "YEAR({})", "hour": "HOUR({})"}  # fmt: skip
MOST_SIGNS, MOST_NESTED = 8192, 60  # what a cell takes
EPOCH = 25569  # the day 1970-01-01 as spreadsheets count it
_CELL = re.compile(r"(?:(?:'[^'\[\]:\\/?*]+'|\w+)!)?\$?[A-Za-z]{1,3}\$?[1-9]\d{0,6}")


def cells_for(columns: Sequence[str], given: Mapping[str, str] | None) -> dict[str, str]:
    """Return the cell of each column: those given, else B2, C2 and so on.

    Raises CallError for a column without a cell, a name that is no column of the formula, or what
    is no cell."""
    if given is None:
        return {name: f"{letters(i + 2)}2" for i, name in enumerate(columns)}
    lacking = [name for name in columns if name not in given]
    strange = [name for name in given if name not in columns]
    if lacking or strange:
        raise CallError(
            f"cells= names a cell for each column: {listed(map(repr, columns), 12)}; "
            + (f"{listed(map(repr, lacking))} lacks one" if lacking
               else f"there is no {listed(map(repr, strange))} in the equation"),
            argument="cells",
        )  # fmt: skip
    for name, cell in given.items():
        if not isinstance(cell, str) or not _CELL.fullmatch(cell):
            raise CallError(
                f"cells={{{name!r}: {cell!r}}}: a cell is written 'B2'", argument="cells"
            )
    return dict(given)


def letters(number: int) -> str:
    """Return a column of a sheet by its letters: 1 is A, 27 AA."""
    out = ""
    while number:
        number, rest = divmod(number - 1, 26)
        out = chr(65 + rest) + out
    return out


def as_spreadsheet(formula: Formula, order: Sequence[str], cells: Mapping[str, str] | None) -> str:
    """Return a formula of cells; #N/A where a cell is empty or a level was never seen."""
    columns = {c.name: c for c in columns_in(formula)}
    place = cells_for([c for c in order if c in columns], cells)
    body = bare(_sheet(formula, place))
    unsure = _yes_or_no(formula)
    needed = [place[c.name] for c in columns.values()
              if c.kind != "text" and c.filled is None and c.name not in unsure]  # fmt: skip
    if needed:
        check = f"COUNT({','.join(needed)})={len(needed)}"
        body = f"IF({check},{body},NA())"
    if len(body) + 1 > MOST_SIGNS:
        raise CallError(
            f"the formula has {len(body) + 1:,} signs, and a cell takes {MOST_SIGNS:,}; take "
            "python or sql, or a model of fewer terms",
            argument="style",
        )
    return f"={body}"


def _yes_or_no(formula: Formula) -> set[str]:
    """Return the columns that stand as yes or no, which a sheet may hold as TRUE or as text."""
    return {
        node.of.name
        for node in nodes(formula)
        if isinstance(node, ByLevel)
        and isinstance(node.of, ColumnValue)
        and all(isinstance(level, bool) for level, _ in node.weights)
    }


def _sheet_text(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


def _sheet_number(value: float) -> str:
    return repr(float(value)).removesuffix(".0").replace("e", "E")


def _sheet(node: Formula, cells: Mapping[str, str]) -> str:
    if isinstance(node, Constant):
        if np.isfinite(node.value):
            return _signed(_sheet_number(node.value))
        return "NA()"
    if isinstance(node, ColumnValue):
        cell = cells[node.name]
        if node.kind == "date":
            return f"({cell}-{EPOCH})"
        if node.kind == "text":
            return f"TRIM({cell})"
        if node.filled is None:
            return cell
        return f"IF(ISNUMBER({cell}),{cell},{_sheet_number(node.filled)})"
    if isinstance(node, Shared):
        return _sheet(node.formula, cells)
    if isinstance(node, Apply):
        parts = [_sheet(p, cells) for p in node.parts]
        if node.operation in INFIX:
            return "(" + node.operation.join(parts) + ")"
        return FUNCTIONS[node.operation].format(*parts)
    if isinstance(node, ByLevel):
        return _sheet_levels(node, cells)
    if isinstance(node, DatePart):
        return DATE_PARTS[node.part].format(cells[node.of.name])
    if isinstance(node, ByRange):
        x = _sheet(node.of, cells)
        parts = [bare(_sheet(p, cells)) for p in node.parts]
        tests = [f"{x}<{_sheet_number(cut)}" for cut in node.cuts]
        return _nested(list(zip(tests, parts)), parts[-1])
    return f"IF({_sheet_condition(node, cells)},1,0)"


def _signed(text: str) -> str:
    if text.startswith("-"):
        return f"({text})"
    return text


def _nested(pairs: Sequence[tuple[str, str]], otherwise: str) -> str:
    if len(pairs) > MOST_NESTED:
        raise CallError(
            f"a spreadsheet formula holds no choice of {len(pairs)} levels; take python or sql",
            argument="style",
        )
    opened = "".join(f"IF({test},{value}," for test, value in pairs)
    return opened + otherwise + ")" * len(pairs)


def _same_text(node: Formula, text: str, cells: Mapping[str, str]) -> str:
    """Compare a text with a level; TRIM takes spaces away inside a text too, so that a level which
    has several together is also compared with the cell as it stands."""
    exact = f"EXACT({_sheet(node, cells)},{_sheet_text(text)})"
    if "  " in text and isinstance(node, ColumnValue):
        return f"OR({exact},EXACT({cells[node.name]},{_sheet_text(text)}))"
    return exact


def _sheet_levels(node: ByLevel, cells: Mapping[str, str]) -> str:
    value = _sheet(node.of, cells)
    pairs = []
    for level, weight in node.weights:
        if isinstance(level, bool):
            tests = [f'LOWER({value}&"")={_sheet_text(w)}' for w in (YES if level else NO)]
            test = f"OR({','.join(tests)})"
        elif isinstance(level, str):
            test = _same_text(node.of, level, cells)
        else:
            test = f"{value}={_sheet_number(level)}"
        pairs.append((test, _sheet_number(weight)))
    if node.otherwise is None:
        return _nested(pairs, "NA()")
    rest = _sheet_number(node.otherwise)
    return f'IF({value}="",NA(),{_nested(pairs, rest)})'


def _sheet_condition(node: Formula, cells: Mapping[str, str]) -> str:
    if isinstance(node, Compare):
        left = _sheet(node.left, cells)
        if isinstance(node.right, str):
            same = _same_text(node.left, node.right, cells)
            if node.sign != "=":
                same = f"NOT({same})"
            return f'IF({left}="",NA(),{same})'
        if node.sign == "!=":
            sign = "<>"
        else:
            sign = node.sign
        return f"{left}{sign}{_sheet(node.right, cells)}"
    if isinstance(node, Logic):
        return f"{node.word.upper()}({','.join(_sheet_condition(p, cells) for p in node.parts)})"
    return f"{_sheet(node, cells)}<>0"
