"""A forecast as one formula of the table's columns."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.inference.intervals import t_times
from joinery.data.columns import beyond_doubles, level_text
from joinery.design.curves import spline_pieces
from joinery.design.factors import CategoryFactor, CurveFactor, NumberFactor
from joinery.design.levels import OTHER, renames_levels
from joinery.design.terms import DesignTerm
from joinery.notation.date_parts import DATE_PARTS
from joinery.notation.functions import of_number
from joinery.notation.tree import Call, Chain, Expression, Name, Number, Power, Prefix, Text
from joinery.study.fitted import Fitted
from joinery.study.read.formula import (
    ZERO,
    ByLevel,
    ByRange,
    ColumnValue,
    Compare,
    Constant,
    DatePart,
    Formula,
    Logic,
    Shared,
    call,
    less,
    polynomial,
    times,
    total,
)
from joinery.study.read.formula_back import back_transformed_formula, formula_of_tree
from joinery.study.read.formula_parts import (
    days,
    expanded,
    in_bands,
    interpolated,
    level_weights,
    season,
)
from joinery.support.errors import CallError, one_of

COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")


def parts(fit: Fitted) -> tuple[str, ...]:
    """Return the columns of ``forecast`` that a formula may give."""
    middle = fit.response.middle
    return ("fitted", f"{middle}_lower", f"{middle}_upper", "new_lower", "new_upper")


def forecast_formula(fit: Fitted, part: str) -> Formula:
    """Return what ``forecast`` gives for a row: its fitted value, or an end of an interval.

    Raises CallError for what no formula of one row can say, and for the ends of other families.
    """
    one_of("part", part, parts(fit))
    build = _Builder(fit)
    columns = build.columns()
    eta = build.predictor(columns)
    if part == "fitted":
        return build.measured(eta)
    lower = part.endswith("lower") != fit.response.decreasing
    reach = build.reach(columns, new=part.startswith("new"))
    return build.measured(call("-" if lower else "+", eta, reach))


@dataclass(frozen=True)
class _Builder:
    fit: Fitted

    def columns(self) -> list[Formula]:
        """Return each estimated column of the design."""
        out: list[Formula] = [ZERO] * self.fit.design.width
        for term in self.fit.design.terms:
            for place, recipe in enumerate(term.recipes, term.start):
                out[place] = times(*(self._piece(term, f, p) for f, p in recipe))
        return [out[j] for j in self.fit.solution.kept]

    def predictor(self, columns: list[Formula]) -> Formula:
        """Return the sum of the terms, the offset and the exposure: as ``Solution.fitted`` takes
        it."""
        s = self.fit.solution
        b = s.coefficients[s.kept]
        parts: list[Formula] = []
        if s.has_intercept:
            far = s.far_centre
        else:
            far = np.zeros(len(b))
        if s.has_intercept:
            start = float(s.intercept or 0.0)
            if far.any():
                start = float(s.mean_response - (s.centre - far) @ b)
            parts.append(Constant(start))
        parts += self._by_term(b, far, columns)
        return total([*parts, *self.offsets()])

    def _by_term(self, b: np.ndarray, far: np.ndarray, columns: list[Formula]) -> Iterator[Formula]:
        """Yield coefficients times columns; the columns of one category or curve as one choice."""
        place = {int(j): i for i, j in enumerate(self.fit.solution.kept)}
        for term in self.fit.design.terms:
            chosen = [(place[j], r) for j, r in enumerate(term.recipes, term.start) if j in place]
            if len(term.factors) == 1:
                factor = term.factors[0]
            else:
                factor = None
            if not chosen or far[[i for i, _ in chosen]].any():
                factor = None
            if isinstance(factor, CategoryFactor):
                weights = [b[i] * level_weights(term, factor, r[0][1]) for i, r in chosen]
                yield self._levels(factor, np.sum(weights, axis=0))
            elif isinstance(factor, CurveFactor):
                heights = np.zeros(factor.width)
                heights[[r[0][1] for _, r in chosen]] = b[[i for i, _ in chosen]]
                yield self._curve(factor, heights)
            else:
                yield from (
                    times(Constant(float(b[i])), less(columns[i], float(far[i]))) for i, _ in chosen
                )

    def reach(self, columns: list[Formula], *, new: bool) -> Formula:
        """Return t·√(variance of the mean, and of a new row where it is one)."""
        fit, s = self.fit, self.fit.solution
        if not fit.estimate.linear:
            raise CallError(
                "the ends of intervals are written for the normal family with the identity link; "
                "forecast has those of other families",
                argument="part",
            )
        sandwich = fit.sandwich
        if sandwich is not None and sandwich.kind in ("clustered", "robust"):
            raise CallError(
                f"with {sandwich.kind} standard errors each row has degrees of freedom of its own, "
                "which no short formula gives; take forecast",
                argument="part",
            )
        scale = fit.estimate.scale
        if sandwich is None:
            df = fit.estimate.reference_df
        else:
            df = float(sandwich.df[0])
        if scale is None or not df > 0:
            raise CallError("no degrees of freedom are left for an interval", argument="part")
        root = s.inverse / s.scale[:, None]
        shared = [
            Shared(f"x{i + 1}", less(column, float(s.centre[i]) if s.has_intercept else 0.0))
            for i, column in enumerate(columns)
        ]
        white: list[Formula] = [Constant(float(1 / np.sqrt(s.weight_sum)))] * s.has_intercept
        white += [
            total([times(Constant(float(v)), x) for v, x in zip(column, shared) if v])
            for column in root.T
        ]
        if sandwich is not None:
            values, vectors = np.linalg.eigh(sandwich.meat)
            mix = vectors * np.sqrt(np.maximum(values, 0.0)) * s.unit
            kept = [Shared(f"u{i + 1}", u) for i, u in enumerate(white)]
            white = [
                total([times(Constant(float(v)), u) for v, u in zip(column, kept)])
                for column in mix.T
            ]
        variance = total([call("^", u, Constant(2.0)) for u in white])
        with np.errstate(all="ignore"):
            square = float(np.square(scale))
        if not 0 < square < np.inf:
            raise CallError(
                f"the square of {fit.words(fit.response.name)}'s spread is too small or too large "
                "for a number; rescale the response"
            )
        if sandwich is None:
            variance = times(Constant(square), variance)
        if new:
            result: Formula = Constant(square)
            if (weight := fit.asides.expressions.get("weights")) is not None:
                result = call("/", result, self.expression(weight))
            variance = total([variance, result])
        return times(Constant(float(t_times(fit.level, df))), call("sqrt", variance))

    def offsets(self) -> Iterator[Formula]:
        for node in offset_expressions(self.fit):
            yield self.expression(node)

    def measured(self, eta: Formula) -> Formula:
        """Return a value of the linear predictor on the response's own scale; counts of a total."""
        fit = self.fit
        value = formula_of_tree(fit.link.formula, eta)
        if fit.response.kind == "of" and fit.response.total is not None:
            return times(self.expression(fit.response.total), value)
        if fit.response.transformed:
            return back_transformed_formula(fit, value)
        return value

    # -------------------------------------------------------------- factors

    def _piece(self, term: DesignTerm, factor: Any, place: int) -> Formula:
        if isinstance(factor, CategoryFactor):
            return self._levels(factor, level_weights(term, factor, place))
        if isinstance(factor, CurveFactor):
            return self._curve(factor, np.eye(factor.width)[place])
        assert isinstance(factor, NumberFactor)
        value = self.expression(factor.expression)
        if factor.first is None:
            return value
        return less(value, factor.first)

    def _levels(self, factor: CategoryFactor, weights: np.ndarray) -> Formula:
        """Return a number for each level (levels,)."""
        values = [float(w) for w in weights]
        node = factor.expression
        if renames_levels(node):
            return self._renamed_levels(factor, values)
        while isinstance(node, Call) and node.function == "category":
            node = node.arguments[0]
        if isinstance(node, Call) and node.function in DATE_PARTS:
            names = DATE_PARTS[node.function].names
            numbers = tuple(
                (float(names.index(level) + DATE_PARTS[node.function].first), value)
                for level, value in zip(factor.levels, values, strict=True)
            )
            return ByLevel(self.expression(node), factor.label, numbers)
        if isinstance(node, Call) and node.function == "bands":
            cuts = tuple(a.value for a in node.arguments[1:] if isinstance(a, Number))
            x = self.expression(node.arguments[0])
            return ByRange(x, cuts, in_bands(factor, cuts, values), factor.label)
        # whole numbers that no double can hold are looked up as they are, as texts are
        texts = any(isinstance(v, str) or beyond_doubles(v) for v in factor.levels)
        of = (
            self._column(node.name, "text" if texts else "number", levels=True)
            if isinstance(node, Name)
            else self.expression(node)
        )
        pairs = tuple(zip(factor.levels, values, strict=True))
        return ByLevel(of, factor.label, pairs)

    def _renamed_levels(self, factor: CategoryFactor, values: list[float]) -> Formula:
        """Return a number for each level as the table has it, by the level that it counts as.

        Renamings are followed from the outermost back to the column."""
        by_name = dict(zip(map(level_text, factor.levels), values, strict=True))
        otherwise, node = None, factor.expression
        while isinstance(node, Call):
            if node.function == "pooled":
                learnt = self.fit.design.function_memory[str(node)]
                if learnt["pooled"]:
                    otherwise = by_name.get(OTHER)
                    by_name = {name: v for name, v in by_name.items() if name in learnt["kept"]}
            elif node.function == "merged":
                renamed = dict(node.pairs)
                same = {name: v for name, v in by_name.items() if name not in renamed}
                fallback = otherwise if otherwise is not None else float("nan")
                by_name = same | {old: by_name.get(new, fallback) for old, new in node.pairs}
            elif node.function != "category":
                raise CallError(
                    f"levels of {node} under other names are not written out; take forecast",
                    argument="style",
                )
            node = node.arguments[0]
        assert isinstance(node, Name)
        if node.name in self.fit.design.manner.levels:
            column = self._column(node.name, "text", levels=True)
            return ByLevel(column, factor.label, tuple(by_name.items()), otherwise)
        # levels that are numbers in the table; other names are none of its cells
        numbers = {float(name): v for name, v in by_name.items() if is_plain_number(name)}
        column = self._column(node.name, "number", levels=True)
        return ByLevel(column, factor.label, tuple(numbers.items()), otherwise)

    def _curve(self, factor: CurveFactor, weights: np.ndarray) -> Formula:
        """Return a weighted sum of the curve's columns as one polynomial, or as one a stretch."""
        x = self.expression(factor.expression.arguments[0])
        if factor.learnt["kind"] == "waves":
            return season(factor.learnt, weights, x)
        if factor.expression.function == "polynomial":
            learnt = factor.learnt
            return polynomial(expanded(learnt, weights), less(x, learnt["centre"]))
        knots, cubics = spline_pieces(factor.learnt, weights)
        origins = (knots[0], *knots)
        parts = tuple(polynomial(c, less(x, k)) for c, k in zip(cubics, origins, strict=True))
        return ByRange(x, tuple(knots), parts)

    # -------------------------------------------------------------- expressions

    def _column(self, name: str, kind: str, *, levels: bool = False) -> ColumnValue:
        if name in self.fit.design.dates and not levels:
            kind = "date"
        return ColumnValue(name, kind, self.fit.design.fills.get(name))

    def expression(self, node: Expression) -> Formula:
        """Return an expression of the language, with what its functions have learnt."""
        if isinstance(node, Name):
            return self._column(node.name, "number")
        if isinstance(node, Number):
            return Constant(node.value)
        if isinstance(node, Power):
            return call("^", self.expression(node.base), self.expression(node.exponent))
        if isinstance(node, Prefix):
            inner = self.expression(node.operand)
            if node.operator == "-":
                return call("negate", inner)
            return Logic("not", (inner,))
        if isinstance(node, Chain):
            return self._chain(node)
        if isinstance(node, Text):
            raise CallError(f"the text {node} stands where a number is needed")
        return self._function(node)

    def _chain(self, node: Chain) -> Formula:
        first = node.operators[0]
        if first in COMPARISONS:
            return self._comparison(first, *node.operands)
        parts = [self.expression(operand) for operand in node.operands]
        if first in ("and", "or"):
            return Logic(first, tuple(parts))
        out = parts[0]
        for operator, part in zip(node.operators, parts[1:], strict=True):
            out = call(operator, out, part)
        return out

    def _comparison(self, sign: str, left: Expression, right: Expression) -> Formula:
        dated = any(isinstance(s, Name) and s.name in self.fit.design.dates for s in (left, right))
        if dated:
            sides = [
                Constant(days(s.value)) if isinstance(s, Text) else self.expression(s)
                for s in (left, right)
            ]
            return Compare(sign, *sides)
        if isinstance(left, Text):
            left, right = right, left  # = and != are the same both ways round
        if isinstance(right, Text):
            if not isinstance(left, Name):
                raise CallError(f"{left} is compared with text; a formula needs a column there")
            return Compare(sign, self._column(left.name, "text"), right.value.strip())
        return Compare(sign, self.expression(left), self.expression(right))

    def _function(self, node: Call) -> Formula:
        if node.function == "lag":
            raise CallError(
                f"{node} looks at other rows, which a formula for one row cannot; take forecast"
            )
        x = self.expression(node.arguments[0])
        if node.function in DATE_PARTS:
            assert isinstance(x, ColumnValue)
            return DatePart(node.function, x)
        learnt = self.fit.design.function_memory.get(str(node))
        if learnt is None:
            function = of_number(node.function)
            if function is not None and function.formula is not None:
                return formula_of_tree(function.formula, x)
            return call(node.function, x)
        if "ranks" in learnt:
            return interpolated(x, learnt["values"], learnt["ranks"])
        centred = less(x, learnt["mean"])
        if "sd" in learnt:
            return call("/", centred, Constant(learnt["sd"]))
        return centred


def is_plain_number(text: str) -> bool:
    try:
        return bool(np.isfinite(float(text)))
    except ValueError:
        return False


def offset_expressions(fit: Fitted) -> Iterator[Expression]:
    """Yield what is added with coefficient 1: the offset, and the logarithm of the exposure."""
    if (offset := fit.asides.expressions.get("offset")) is not None:
        yield offset
    if fit.response.kind == "per" and fit.response.total is not None:
        yield Call("log", (fit.response.total,))
