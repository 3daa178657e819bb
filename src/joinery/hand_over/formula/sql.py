"""A formula as one expression of standard SQL."""

from __future__ import annotations

import numpy as np

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
    Logic,
    Shared,
)
from joinery.support.errors import CallError

FUNCTIONS = {
    "log": "LN({})", "log2": "(LN({}) / LN(2e0))", "log10": "(LN({}) / LN(10e0))",
    "log1p": "LN(1e0 + {})", "exp": "EXP({})", "expm1": "(EXP({}) - 1e0)", "sqrt": "SQRT({})",
    "abs": "ABS({})", "atan": "ATAN({})", "sign": "SIGN({})", "negate": "(-{})",
    "^": "POWER({}, {})", "sin": "SIN({})", "cos": "COS({})",
}  # fmt: skip


# parts of a date as numbers; Monday is weekday 1
DATE_PARTS = {"month": "MONTH", "quarter": "QUARTER", "weekday": "ISODOW", "year": "YEAR",
              "hour": "HOUR"}  # fmt: skip


def _sql_text(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _sql_number(value: float) -> str:
    text = repr(float(value))
    return text if "e" in text else f"{text.removesuffix('.0')}e0"  # a double in every engine


def as_sql(formula: Formula) -> str:
    """Return one expression of standard SQL; NULL where a cell is missing or a level was never
    seen."""
    return bare(_sql(formula))


def _sql(node: Formula) -> str:
    if isinstance(node, Constant):
        if np.isfinite(node.value):
            return _sql_number(node.value)
        return "NULL"
    if isinstance(node, ColumnValue):
        return _sql_column(node)
    if isinstance(node, Shared):
        return _sql(node.formula)
    if isinstance(node, Apply):
        if node.operation == "normal":
            raise CallError(
                "standard SQL has no normal distribution, so a probit cannot be written in it; "
                "take python or spreadsheet",
                argument="style",
            )
        parts = [_sql(p) for p in node.parts]
        if node.operation in INFIX:
            return joined(node.operation, parts)
        return FUNCTIONS[node.operation].format(*parts)
    if isinstance(node, ByLevel):
        return _sql_levels(node)
    if isinstance(node, DatePart):
        name = '"' + node.of.name.replace('"', '""') + '"'
        part = f"EXTRACT({DATE_PARTS[node.part]} FROM CAST({name} AS TIMESTAMP))"
        return f"CAST({part} AS DOUBLE PRECISION)"
    if isinstance(node, ByRange):
        x, parts = _sql(node.of), [_sql(p) for p in node.parts]
        whens = [f"WHEN {x} < {_sql_number(c)} THEN {p}" for c, p in zip(node.cuts, parts)]
        whens.append(f"WHEN {x} >= {_sql_number(node.cuts[-1])} THEN {parts[-1]}")
        return f"CASE {' '.join(whens)} END"
    condition = _sql_condition(node)
    return f"CASE WHEN {condition} THEN 1e0 WHEN NOT {condition} THEN 0e0 END"


def _sql_column(node: ColumnValue) -> str:
    name = '"' + node.name.replace('"', '""') + '"'
    if node.kind == "date":
        raise CallError(
            f"{node.name} is a date, and each database counts days in its own way; make a column "
            "of days, or take python or spreadsheet",
            argument="style",
        )
    if node.kind == "text":
        return f"TRIM({name})"
    number = f"CAST({name} AS DOUBLE PRECISION)"
    if node.filled is None:
        return number
    return f"COALESCE({number}, {_sql_number(node.filled)})"


def _sql_levels(node: ByLevel) -> str:
    levels = [level for level, _ in node.weights]
    if all(isinstance(level, bool) for level in levels):
        assert isinstance(node.of, ColumnValue)
        name = '"' + node.of.name.replace('"', '""') + '"'
        value = f"LOWER(CAST({name} AS VARCHAR(5)))"
        whens = [
            f"WHEN {value} IN ({', '.join(map(_sql_text, YES if level else NO))}) "
            f"THEN {_sql_number(weight)}"
            for level, weight in node.weights
        ]
        return f"CASE {' '.join(whens)} END"
    whens = [
        f"WHEN {_sql_text(level) if isinstance(level, str) else _sql_number(level)} "
        f"THEN {_sql_number(weight)}"
        for level, weight in node.weights
    ]
    value = _sql(node.of)
    if node.otherwise is None:
        return f"CASE {value} {' '.join(whens)} END"
    known = f"CASE {value} {' '.join(whens)} ELSE {_sql_number(node.otherwise)} END"
    if isinstance(node.of, ColumnValue) and node.of.kind == "text":
        return f"CASE WHEN {value} <> '' THEN {known} END"
    return f"CASE WHEN {value} IS NOT NULL THEN {known} END"


def _sql_condition(node: Formula) -> str:
    if isinstance(node, Compare):
        if node.sign == "!=":
            sign = "<>"
        else:
            sign = node.sign
        if isinstance(node.right, str):
            right = _sql_text(node.right)
        else:
            right = _sql(node.right)
        return f"({_sql(node.left)} {sign} {right})"
    if isinstance(node, Logic):
        parts = [_sql_condition(p) for p in node.parts]
        if node.word == "not":
            return f"(NOT {parts[0]})"
        return joined(node.word.upper(), parts)
    return f"({_sql(node)} <> 0)"
