"""The values of a predictor that agree with a reading: the curve, its band, and where they meet it.

They are where the interval about the curve holds the reading: of a straight line the solution of a
quadratic (Fieller 1954), of a curve what root finding on the band leaves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.core.inference.intervals import t_times
from joinery.data.any_table import records
from joinery.data.records import Records
from joinery.data.written_dates import date_text
from joinery.notation.context import Context
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import named_in, names_in
from joinery.show.numbers import value
from joinery.study.fitted import Fitted, checked_level
from joinery.study.forecast.bands import new_row_holds
from joinery.study.held import Held, averaged_rows, hold_rest
from joinery.study.read.estimates import Combination, means
from joinery.study.understand.crossings import crossings
from joinery.study.understand.scale import Scale
from joinery.study.understand.simple_slopes import check_columns_of, moderator
from joinery.support import advice
from joinery.support.arguments import is_number
from joinery.support.errors import CallError, UnusableColumnError, one_of

if TYPE_CHECKING:
    pass

INTERVALS = ("new", "mean")
GRID = 801  # places at which a curve is looked at
WIDER = 1.0  # of the seen range, on either side, in which a value is looked for
STRAIGHT = 1e-9  # of the rows' size: how straight in the predictor a line is
MOST_REPLICATES = 10**6


@dataclass(frozen=True)
class Reading:
    """A value of the predictor for one reading, and the stretches that agree with it."""

    at: float
    value: float
    stretches: tuple[tuple[float, float], ...]
    note: str = ""

    @property
    def ends(self) -> tuple[float, float]:
        """The least and the greatest value that agree, NaN where none does."""
        if not self.stretches:
            return np.nan, np.nan
        return self.stretches[0][0], self.stretches[-1][1]


def question_of(
    fit: Fitted,
    of: str,
    hold: Mapping[str, Any] | str = "average",
    replicates: int = 1,
    interval: str = "new",
    level: float | None = None,
) -> Question:
    """Return the question of a value, checked. Raises CallError for one that has no answer."""
    check_columns_of(fit, of)
    one_of("interval", interval, INTERVALS)
    if not isinstance(replicates, int) or not 1 <= replicates <= MOST_REPLICATES:
        raise CallError(
            f"{advice.option('replicates', replicates)} is not a number of readings",
            argument="replicates",
        )
    if isinstance(hold, Mapping):
        fixed = dict(hold)
    elif hold == "average":
        fixed = {}
    else:
        raise CallError(
            f"{advice.option('hold', hold)} is not known; it is 'average', or values",
            argument="hold",
        )
    if of in fixed:
        raise CallError(f"{of} is what is asked for, so it cannot be held", argument="hold")
    if fit.response.expression and not fit.response.transformed and _computed(fit):
        raise CallError(
            f"{fit.response.name} is made of several columns, so no value belongs to a reading of "
            "one of them",
            argument="at",
        )
    if replicates > 1 and (interval == "mean" or not fit.estimate.linear):
        raise CallError(
            "replicates= is for the normal family with the identity link alone",
            argument="replicates",
        )
    chosen = fit.level if level is None else checked_level(level)
    return Question(fit, of, fixed, replicates, interval, chosen)


def _computed(fit: Fitted) -> bool:
    names = {n.name for n in names_in(fit.response.expression)}
    return fit.response.kind == "plain" and not fit.family.shares and len(names) != 1


@dataclass(frozen=True)
class Question:
    """The question of the value of ``of`` that gives a response, the rest held."""

    fit: Fitted
    of: str
    hold: Mapping[str, Any]
    replicates: int
    interval: str  # of a new reading, or of the mean
    level: float

    @property
    def what(self) -> str:
        return self.fit.words(Scale(self.fit).name)

    @property
    def new(self) -> bool:
        """Return True if a reading's own error counts: never for a chance, which is a mean."""
        fit = self.fit
        return self.interval == "new" and not fit.family.shares and fit.response.kind == "plain"

    @property
    def notes(self) -> list[str]:
        fit = self.fit
        out = []
        if self.new:
            times = f" of the mean of {self.replicates} readings" if self.replicates > 1 else ""
            out.append(
                f"values that agree with a new reading{times}: its own error and that of the "
                "curve count"
            )
        else:
            out.append(
                "values at which the mean may be as asked: the error of the curve alone counts"
            )
        if self.new and fit.asides.weights is not None and np.isnan(self._reading_variance):
            out.append(
                f"a new reading has no weight here, so no interval; give the columns of "
                f"{fit.options.weights} by {advice.option('hold')}"
            )
        if self.new and fit.sandwich is not None:
            out.append("the error of a new reading still takes the spread to be even")
        out += Scale(fit).notes[-1:] if "offset" in fit.asides.expressions else []
        return out

    # -------------------------------------------------------------- the curve and its band

    @cached_property
    def held(self) -> Held:
        return self._table(np.array([self._seen[0]]))

    @property
    def _seen(self) -> tuple[float, float]:
        return self.fit.design.seen[self.of]

    def _table(self, x: np.ndarray) -> Held:
        weights = self.fit.asides.expressions.get("weights")
        named = set() if weights is None else {n.name for n in names_in(weights)}
        known = set(named_in(self.fit.design.sentence.factors))
        beside = {name: v for name, v in self.hold.items() if name in named - known}
        fixed = {name: v for name, v in self.hold.items() if name not in beside}
        table: Records = moderator(self.fit, self.of, x.tolist())
        return hold_rest(self.fit, table.assigned(beside), fixed)

    def _rows(self, x: np.ndarray) -> tuple[Context, np.ndarray]:
        held = self._table(x)
        places = np.arange(len(x))
        return self.fit.design.context(held.table, places), averaged_rows(self.fit, held, places)

    def _line(self, x: np.ndarray) -> Combination:
        """Return the linear predictor at values of the predictor (m,)."""
        _, X = self._rows(x)
        line = means(self.fit, X)
        offsets = Scale(self.fit).offsets(len(x))
        return Combination(line.values + offsets, line.standard_errors, line.df)

    @cached_property
    def _reading_variance(self) -> float:
        """The variance of a new reading's mean: s²/(w·replicates); NaN without a weight."""
        if self.fit.estimate.scale is None:
            return float("nan")
        spread = self.fit.estimate.scale**2 / self.replicates
        weights = self.fit.asides.expressions.get("weights")
        if weights is None:
            return float(spread)
        context, _ = self._rows(np.array([self._seen[0]]))
        if any(n.name not in context.table.names for n in names_in(weights)):
            return float("nan")
        weight = float(evaluate(weights, context)[0])
        return float(spread / weight) if weight > 0 else float("nan")

    def _agrees(self, y: float, target: float, x: np.ndarray) -> np.ndarray:
        """Return where the interval about the curve holds the reading, at values x (m,)."""
        if self.new and not self.fit.estimate.linear:
            context, X = self._rows(x)
            return new_row_holds(self.fit, context, X, self.level, y)
        line = self._line(x)
        variance = self._reading_variance if self.new else 0.0
        reach = t_times(self.level, line.df) * np.sqrt(line.standard_errors**2 + variance)
        return np.asarray(np.abs(line.values - target) <= reach)

    # -------------------------------------------------------------- the answer

    def readings(self, y: Any) -> list[Reading]:
        """Return the values that give a response y: none, one, or of a curve several."""
        if not is_number(y):
            raise CallError(f"a response is a number, and {y!r} is not one", argument="at")
        y = float(y)
        target = self.target(y)
        line = self._straight
        if line is not None and (self.fit.estimate.linear or not self.new):
            return [self._of_line(y, target, line)]
        return self._of_curve(y, target)

    def target(self, y: float) -> float:
        """Return a response on the scale of the linear predictor."""
        fit = self.fit
        if not fit.estimate.linear:
            low, high = fit.family.mean_range
            if not low < y < high:
                raise CallError(
                    f"the {fit.family.name} family has means between {value(low)} and "
                    f"{value(high)}, and {value(y)} is outside them",
                    argument="at",
                )
            with np.errstate(all="ignore"):
                target = float(fit.link.eta(np.array([y]))[0])
        elif fit.response.transformed:
            context = Context(records({fit.response.original: [y]}))
            target = float(evaluate(fit.response.expression, context)[0])
        else:
            target = y
        if not np.isfinite(target):
            raise CallError(f"{value(y)} is not a mean that the model can have", argument="at")
        return target

    @cached_property
    def _straight(self) -> tuple[np.ndarray, np.ndarray] | None:
        """The linear predictor's row as u + v·z over the seen range, z from −1 to 1; None if bent.

        None too where degrees of freedom differ from value to value, as under clusters."""
        low, high = self._seen
        if not high > low or self.of in self.fit.design.dates:
            return None
        _, X = self._rows(np.array([low, (low + high) / 2, high]))
        bend = np.abs(X[1] - (X[0] + X[2]) / 2)
        if not (bend <= STRAIGHT * (np.abs(X).max(axis=0) + 1e-300)).all():
            return None
        df = means(self.fit, X).df
        if not np.allclose(df, df[0], rtol=1e-14):
            return None
        return X[1], (X[2] - X[0]) / 2

    def _of_line(self, y: float, target: float, line: tuple[np.ndarray, np.ndarray]) -> Reading:
        """Return Fieller's set: the solution of (η(z) − target)² ≤ t²(variance of η(z) + of a
        reading)."""
        low, high = self._seen
        middle, half = (low + high) / 2, (high - low) / 2
        three = self._line(np.array([low, middle, high]))
        b = (three.values[2] - three.values[0]) / 2
        a = three.values[1] - target
        if b == 0 or not np.isfinite(b):
            raise CallError(f"the fitted {self.what} does not depend on {self.of}", argument="of")
        var = three.standard_errors**2
        # the variance along a straight line is a parabola: three places settle it
        v0, v1, v2 = var[1], (var[2] - var[0]) / 4, (var[2] + var[0]) / 2 - var[1]
        variance = self._reading_variance if self.new else 0.0
        tt = float(t_times(self.level, three.df)[0]) ** 2
        A, B, C = b * b - tt * v2, a * b - tt * v1, a * a - tt * (v0 + variance)
        z = -a / b
        at = float(middle + half * z)
        note = [self._outside(at)]
        if not np.isfinite(A + B + C):
            return Reading(y, at, (), self._joined(note))
        under = B * B - A * C
        if A > 0:  # the slope is clearly different from zero
            root = np.sqrt(max(under, 0.0))
            # the root without cancellation first, the other from their product
            q = -(B + np.copysign(root, B))
            ends = sorted((q / A, C / q if q else -q / A))
            return Reading(
                y, at, ((middle + half * ends[0], middle + half * ends[1]),), self._joined(note)
            )
        infinite = (-np.inf, np.inf)
        if under <= 0:
            note.append("the slope is not clearly different from zero: any value agrees")
            return Reading(y, at, (infinite,), self._joined(note))
        root = np.sqrt(under)
        q = -(B + np.copysign(root, B))
        first, second = sorted((q / A if A else -np.inf, C / q if q else 0.0))
        pieces = ((-np.inf, middle + half * first), (middle + half * second, np.inf))
        parts = tuple(piece for piece in pieces if piece[0] < piece[1])
        note.append(
            f"the slope is not clearly different from zero: {self._words(parts)} agree with it"
        )
        return Reading(y, at, parts, self._joined(note))

    def _of_curve(self, y: float, target: float) -> list[Reading]:
        """Return the values where the curve passes, each with the stretch of the band around it."""
        low, high = self._searched(y, target)
        grid = np.linspace(low, high, GRID)
        roots = crossings(lambda x: self._line(x).values > target, grid)
        seen = self._seen
        inside = roots[(roots >= seen[0]) & (roots <= seen[1])]
        chosen = inside if len(inside) else roots
        edges = crossings(lambda x: self._agrees(y, target, x), grid)
        stretches = self._stretches(y, target, grid, edges)
        if not len(chosen):
            ends = f"{self.shown(low)} to {self.shown(high)}"
            note = f"no value from {ends} gives it"
            return [Reading(y, np.nan, tuple(stretches), note)]
        return [self._at_root(y, float(root), stretches, len(chosen)) for root in chosen]

    def _at_root(
        self, y: float, root: float, stretches: Sequence[tuple[float, float]], several: int
    ) -> Reading:
        """Return one value where the curve passes, with the stretch around it."""
        mine = [s for s in stretches if s[0] <= root <= s[1]] or [(np.nan, np.nan)]
        notes = [self._outside(root)]
        if several > 1:
            notes.append(f"one of {several} values that give it")
        if np.isinf(mine[0]).any():
            notes.append("the interval goes on beyond what was looked at")
        others = [s for s in stretches if s != mine[0]]
        if others and several == 1:
            notes.append(f"{self._words(others)} agree with it too")
        return Reading(y, root, tuple(mine), self._joined(notes))

    def _searched(self, y: float, target: float) -> tuple[float, float]:
        """Return the seen range and as much on either side, as far as the terms exist there."""
        low, high = self._seen
        width = high - low
        for far in (WIDER, 0.25, 0.0):
            ends = low - far * width, high + far * width
            try:
                line = self._line(np.linspace(*ends, 9))
                self._agrees(y, target, np.array(ends))
            except UnusableColumnError:  # a logarithm of what is not above zero
                if not far:
                    raise
                continue
            if np.isfinite(line.values).all():
                return ends
        return low, high

    def _stretches(
        self, y: float, target: float, grid: np.ndarray, edges: np.ndarray
    ) -> list[tuple[float, float]]:
        """Return the stretches that agree; an end at the end of what was looked at is open."""
        cuts = [float(grid[0]), *edges.tolist(), float(grid[-1])]
        middles = np.array([(a + b) / 2 for a, b in pairwise(cuts)])
        agree = self._agrees(y, target, middles)
        out = []
        for (a, b), holds in zip(pairwise(cuts), agree, strict=True):
            if holds:
                out.append((-np.inf if a == cuts[0] else a, np.inf if b == cuts[-1] else b))
        return out

    # -------------------------------------------------------------- in words

    def _outside(self, x: float) -> str:
        low, high = self._seen
        if low <= x <= high:
            return ""
        return f"outside what was seen ({self.shown(low)} to {self.shown(high)})"

    def _words(self, stretches: Sequence[tuple[float, float]]) -> str:
        parts = []
        for low, high in stretches:
            if np.isinf(low):
                parts.append(f"values below {self.shown(high)}")
            elif np.isinf(high):
                parts.append(f"values above {self.shown(low)}")
            else:
                parts.append(f"values from {self.shown(low)} to {self.shown(high)}")
        return " and ".join(parts)

    def cell(self, x: float) -> float | str:
        """Return a value as a table has it: a number, or a date as text."""
        if self.of not in self.fit.design.dates:
            return x
        if not np.isfinite(x):
            return ""
        in_days = all(end == round(end) for end in self._seen)
        return date_text(float(round(x)) if in_days else x)

    def shown(self, x: float) -> str:
        shown = self.cell(x)
        return shown if isinstance(shown, str) else value(shown)

    @staticmethod
    def _joined(notes: Sequence[str]) -> str:
        return "; ".join(note for note in notes if note)
