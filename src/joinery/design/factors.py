"""The factors a term is made of: a number, a curve of several columns, or a category."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.numeric import double_double as precise
from joinery.core.numeric.double_double import Pair
from joinery.data.columns import beyond_doubles, exact_level, level_text
from joinery.design.curves import CURVES, knots_of
from joinery.design.learning import Learner, Piece, ends, inner_knots, learn_polynomial
from joinery.design.levels import category_of, check_renamed, coded, gives_levels, is_category
from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.derivative import derivative
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix
from joinery.notation.walk import calls_in
from joinery.support.errors import NewRowError, UnusableColumnError, listed, nearest

Remembered = dict[str, Any]
WHOLE_POWERS = range(2, 31)
YEAR = 365.25  # days of a season of waves, unless another period is given


@dataclass(frozen=True)
class NumberFactor:
    """One column of numbers. ``base`` and ``degree`` say what it is a power of.

    Dates count days since ``first``.
    """

    expression: Expression
    name: str
    base: str
    degree: float
    first: float | None = None

    width = 1

    @property
    def names(self) -> tuple[str, ...]:
        return (self.name,)

    def columns(self, context: Context) -> np.ndarray:
        values = evaluate(self.expression, context)
        return (values if self.first is None else values - self.first)[:, None]

    def slopes(self, name: str, context: Context) -> np.ndarray:
        """Return its derivative by a column of the table: (m, 1)."""
        return derivative(self.expression, name, context)[:, None]

    @property
    def integer_power(self) -> int:
        """The whole exponent that it is a power with, 1 where it is none."""
        if self.degree in WHOLE_POWERS and isinstance(self.expression, Power):
            return int(self.degree)
        return 1

    def pair(self, context: Context) -> Pair:
        """Return its values to twice a double's digits, each (m,): whole powers are not rounded."""
        if self.integer_power == 1:
            values = self.columns(context)[:, 0]
            return values, np.zeros_like(values)
        assert isinstance(self.expression, Power)
        base = evaluate(self.expression.base, context)
        once = base, np.zeros_like(base)
        pairs = once
        for _ in range(self.integer_power - 1):
            pairs = precise.multiply(pairs, once)
        return pairs


@dataclass(frozen=True)
class CurveFactor:
    """Several columns learnt from one number: an orthogonal polynomial or a spline."""

    expression: Call
    learnt: Remembered
    names: tuple[str, ...]

    @property
    def width(self) -> int:
        return len(self.names)

    @property
    def base(self) -> str:
        return str(self.expression)

    degree = 1.0

    def columns(self, context: Context) -> np.ndarray:
        compute, _ = CURVES[self.learnt["kind"]]
        return compute(evaluate(self.expression.arguments[0], context), self.learnt)

    def slopes(self, name: str, context: Context) -> np.ndarray:
        """Return derivatives of its columns by a column of the table: (m, width)."""
        inner = self.expression.arguments[0]
        _, compute = CURVES[self.learnt["kind"]]
        outer = compute(evaluate(inner, context), self.learnt)
        return np.asarray(outer * derivative(inner, name, context)[:, None])


@dataclass(frozen=True)
class CategoryFactor:
    """A category: its levels, the reference first, and its coding."""

    expression: Expression
    label: str
    levels: tuple[Any, ...]
    coding: str

    def codes(self, context: Context) -> np.ndarray:
        """Return each wanted row's level number; −1 where missing.

        Raises NewRowError for a level never seen.
        """
        if isinstance(level := context.held.get(str(self.expression)), str):
            return np.full(
                context.size, [level_text(v) for v in self.levels].index(level), dtype=np.int32
            )
        if context.table.read_as_needed:
            return self._known_codes(context)
        every = context.cache.get(key := f"codes of {self.expression} {self.coding}")
        if every is None:
            every = context.cache[key] = self._looked_up(context.at(EVERY_ROW))
        return self._known_codes(context, every[context.rows])

    def _known_codes(self, context: Context, codes: np.ndarray | None = None) -> np.ndarray:
        if codes is None:
            codes = self._looked_up(context)
        if np.any(codes == -2):
            self._refuse(codes, context)
        return codes

    def _looked_up(self, context: Context) -> np.ndarray:
        """Return each wanted row's level number, −2 for one never seen."""
        codes, names = coded(self.expression, context)
        place = {level_text(level): i for i, level in enumerate(self.levels)}
        lookup = np.array(
            [place.get(level_text(name), -2) for name in names] + [-1], dtype=np.int32
        )
        return np.asarray(lookup[codes])

    def _refuse(self, codes: np.ndarray, context: Context) -> None:
        labels = context.named_rows(codes == -2)
        result, names = coded(self.expression, context)
        level = names[result[np.flatnonzero(codes == -2)[0]]]
        near = nearest(level_text(level), map(level_text, self.levels))
        hint = f"; did you mean {near!r}?" if near else "."
        raise NewRowError(
            f"row {listed(labels)}: {self.label} {level_text(level)!r} was not among the fitted "
            "rows "
            f"(known: {listed(map(level_text, self.levels), 12)}){hint} "
            "Correct the level, leave the row out, or fit again with rows of that level",
            column=self.label,
            rows=labels,
            level=level,
            known=self.levels,
        )


Factor = NumberFactor | CurveFactor | CategoryFactor


# ------------------------------------------------------------- learning what a factor must remember


def learn_factor(expression: Expression, learner: Learner) -> Remembered:
    """Return what a factor must remember of the fitted rows, as plain JSON values."""
    table = learner.table
    if is_category(expression, table):
        return _learn_category(expression, learner)
    if isinstance(expression, Name) and table.column(expression.name).kind == "date":
        first = learner.ends(expression)[0]
        day = np.datetime64(int(np.floor(first)), "D")
        return {"kind": "date", "first": first, "name": f"{expression.name} (days since {day})"}
    if isinstance(expression, Call) and expression.function in ("polynomial", "spline"):
        return _learn_curve(expression, learner)
    if isinstance(expression, Call) and expression.function == "season_waves":
        learner.exists(expression.arguments[0])
        period, count = expression.option("period"), expression.option("waves")
        return {
            "kind": "waves",
            "period": period if isinstance(period, float) else YEAR,
            "waves": int(count) if isinstance(count, float) else 1,
        }
    if not isinstance(expression, Name):
        learner.exists(expression)
    return {"kind": "number"}


def _learn_curve(call: Call, learner: Learner) -> Remembered:
    inner = call.arguments[0]
    if not isinstance(inner, Name):
        learner.exists(inner)
    values = learner.values(inner)
    if call.function == "polynomial":
        degree = call.arguments[1]
        assert isinstance(degree, Number)
        return {"kind": "polynomial"} | learn_polynomial(values, int(degree.value), str(call))
    knots, columns = call.option("knots"), call.option("columns")
    given = isinstance(knots, tuple)
    if isinstance(columns, float):
        count = int(columns)
    else:
        count = 4
    if isinstance(knots, tuple):
        middle = [float(k) for k in knots]
    else:
        middle = inner_knots(values, count)
    return {"kind": "spline"} | knots_of(*ends(values), middle, str(call), given)


def _learn_category(expression: Expression, learner: Learner) -> Remembered:
    if isinstance(expression, Name):
        column = learner.table.column(expression.name)
        if column.trouble:
            error = column.not_numbers()
            raise UnusableColumnError(
                f"{error}; mend those cells, or write category({expression}) if each value is a "
                "group of its own",
                column=column.name,
                rows=error.rows,
            )
    _check_renamed(expression, learner)
    levels = _levels_seen(expression, learner)
    if isinstance(expression, Call):
        reference = expression.option("reference")
    else:
        reference = None
    coding = (expression.option("coding") if isinstance(expression, Call) else None) or "indicator"
    if reference is not None:
        assert isinstance(reference, (str, float))
        texts = [level_text(level) for level in levels]
        wanted = level_text(reference)
        if wanted not in texts:
            near = nearest(wanted, texts)
            raise UnusableColumnError(
                f"{expression}: there is no level {wanted!r}"
                + (f"; did you mean {near!r}?" if near else f"; the levels are {listed(texts, 12)}")
            )
        levels.insert(0, levels.pop(texts.index(wanted)))
    return {"kind": "category", "levels": [_plain(level) for level in levels], "coding": coding}


def _check_renamed(expression: Expression, learner: Learner) -> None:
    """Raise UnusableColumnError for a level to be renamed that no row of the table has."""
    for call in calls_in(expression):
        if call.pairs:
            learner.know([call.arguments[0]])
            everywhere = Context(learner.table, slice(0, 1), learner.memory, order=learner.order)
            check_renamed(call, coded(call.arguments[0], everywhere)[1])


def _levels_seen(expression: Expression, learner: Learner) -> list[Any]:
    """Return the levels that the rows have, in their order."""
    learner.know([expression])
    if isinstance(expression, Name) and learner.table.read_as_needed:
        column = learner.table.column(expression.name)
        if column.is_text and learner.rows_are_all:  # a pass has found them
            return list(column.all_levels)

    def seen(piece: Piece) -> tuple[np.ndarray, Sequence[Any]]:
        codes, names = coded(expression, piece[0])
        present = np.flatnonzero(np.bincount(codes + 1)[1:])
        return present, [names[i] for i in present.tolist()]

    place: dict[Any, int] = {}
    for present, names in learner.stretches.each(seen):
        place.update(zip(names, present.tolist(), strict=True))
    within = _of_category(expression)
    # what a computed number's levels are is settled by the rows themselves: their own order
    if isinstance(within, (Call, Chain, Power, Prefix)) and not gives_levels(within):
        return sorted(place)
    return sorted(place, key=lambda level: place[level])


def _of_category(expression: Expression) -> Expression:
    """Return the argument of ``category()``, else the expression itself."""
    inner = category_of(expression)
    if inner is None:
        return expression
    return inner


def _plain(level: Any) -> Any:
    """Return a level as a JSON value."""
    if isinstance(level, (bool, np.bool_)):
        return bool(level)
    if beyond_doubles(level):
        return str(int(level))  # as a double it would be another number
    if isinstance(level, (int, float, np.integer, np.floating)):
        return float(level)
    return str(level)


# ------------------------------------------------------------------ from memory to factors


def recall(expression: Expression, remembered: Remembered) -> Factor:
    """Return the factor that an expression and its memory make."""
    kind = remembered["kind"]
    if kind == "category":
        label = _label(expression)
        levels = tuple(map(exact_level, remembered["levels"]))
        return CategoryFactor(expression, label, levels, remembered["coding"])
    if kind in CURVES:
        assert isinstance(expression, Call)
        if kind == "waves":
            names = [
                f"{expression}: {wave} {k}"
                for k in range(1, remembered["waves"] + 1)
                for wave in ("sine", "cosine")
            ]
        elif kind == "polynomial":
            names = [f"{expression}: degree {j + 1}" for j in range(remembered["degree"])]
        else:
            names = [f"{expression}: piece {j + 1}" for j in range(len(remembered["knots"]) - 1)]
        return CurveFactor(expression, remembered, tuple(names))
    base, degree = expression, 1.0
    if isinstance(expression, Power) and isinstance(expression.exponent, Number):
        base, degree = expression.base, expression.exponent.value
    return NumberFactor(
        expression,
        remembered.get("name", shown(expression)),
        str(base),
        degree,
        remembered.get("first"),
    )


def shown(expression: Expression) -> str:
    """Return how tables name an expression: names as given, arithmetic in parentheses."""
    if isinstance(expression, Name):
        return expression.name
    if (
        isinstance(expression, Power)
        and isinstance(expression.base, Name)
        and isinstance(expression.exponent, Number)
    ):
        return f"{expression.base.name}^{expression.exponent}"
    if isinstance(expression, (Call, Power)):
        return str(expression)
    return f"({expression})"


def _label(expression: Expression) -> str:
    # renamed levels are still levels of their column
    if isinstance(expression, Call) and expression.function in ("category", "merged", "pooled"):
        return _label(expression.arguments[0])
    return shown(expression)
