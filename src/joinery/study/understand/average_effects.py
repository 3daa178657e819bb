"""Average effects: how the mean of the response changes with each predictor, on its own scale."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from joinery.data.columns import level_text
from joinery.data.records import Records, filled
from joinery.design.factors import CategoryFactor, Factor, shown
from joinery.design.learning import Piece
from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.walk import is_condition, lags_in, names_in_own_row
from joinery.show.appearance import Appearance
from joinery.show.numbers import level_words
from joinery.show.table import Table
from joinery.study.fitted import (
    Fitted,
    checked_level,
    fitted_rows,
    response_rows,
    rows_at_hand,
)
from joinery.study.held import lags_of
from joinery.study.rates import Counted, counted
from joinery.study.read.coefficients import error_notes
from joinery.study.read.estimates import Combination, errors_in_basis, in_basis, statistic_name
from joinery.study.read.notes import estimate_notes
from joinery.support.errors import CallError, listed

Held = dict[str, float | str]


@dataclass(frozen=True)
class Effect:
    """A predictor's average effect, and its derivative by the coefficients, the constant first."""

    name: str
    value: float
    gradient: np.ndarray  # (coefficients,)
    why: str = ""  # the reason for none


def average_effects(
    fit: Fitted,
    level: float | None = None,
    *,
    step: float | None = None,
    per: float | None = None,
) -> Table:
    """Return the table of average effects. See ``Fit.average_effects``."""
    if level is None:
        level = fit.level
    else:
        level = checked_level(level)
    if step is not None:
        step = float(step)
        if not np.isfinite(step) or step == 0:
            raise CallError("the step is a number other than zero", argument="step")
    averages = _Averages(fit, counted(fit, per))
    effects = list(averages.effects(step))
    if not effects:
        raise CallError("the model has no predictor whose effect could be averaged")
    J = np.array([effect.gradient for effect in effects])
    empty = np.array([bool(effect.why) for effect in effects])
    c = Combination(
        np.array([effect.value for effect in effects]), *errors_in_basis(fit, in_basis(fit, J))
    )
    c = replace(c, standard_errors=np.where(empty, np.nan, c.standard_errors))
    lower, upper = c.ends(level)
    notes = [_meaning(step), *averages.of.notes]
    if fit.lags:
        notes.append("what a lag takes from another row is a predictor of its own")
    notes += dict.fromkeys(effect.why for effect in effects if effect.why)
    return Table(
        {
            "term": [effect.name for effect in effects],
            "effect": c.values,
            "lower": lower,
            "upper": upper,
            "standard_error": c.standard_errors,
            statistic_name(fit): c.t,
            "p": c.p,
        },
        title=f"Average effects on {averages.name}, with {level_words(level)} intervals",
        notes=(*estimate_notes(fit), *error_notes(fit), *notes),
        appearance=Appearance(
            kinds=dict.fromkeys(("effect", "lower", "upper", "standard_error"), "error")
        ),
    )


def _meaning(step: float | None) -> str:
    number = "the slope of the mean"
    if step is not None:
        number = f"the mean with {step:g} more less the mean as it is"
    return (
        f"of a number: {number}, averaged over the rows; of a level: the step from the reference "
        "level; of a comparison: the step from no to yes"
    )


@dataclass(frozen=True)
class _Averages:
    """Averages over the fitted rows of changes of the mean."""

    fit: Fitted
    of: Counted

    @property
    def name(self) -> str:
        """Return the name of what the effects are on."""
        plain = self.fit.response.kind != "per"
        if plain:
            return self.fit.words(self.fit.response.name)
        return self.of.name

    def effects(self, step: float | None) -> Iterator[Effect]:
        """Yield each predictor's effect, in the order of the terms."""
        factors = {str(f.expression): f for f in self.fit.design.factors}
        done: set[str] = set()
        for key, factor in factors.items():
            if isinstance(factor, CategoryFactor):
                if factor.label not in done:
                    alike = [k for k, f in factors.items() if _alike(f, factor)]
                    yield from self._of_levels(alike, factor)
                done.add(factor.label)
            elif is_condition(factor.expression):
                yes, no = (partial(_held, held={key: v}) for v in (1.0, 0.0))
                yield self._between(shown(factor.expression), yes, no)
            else:
                for name in _numbers_in(self.fit, factor):
                    if name not in done:
                        yield self._of_number(name, step)
                    done.add(name)

    def _of_levels(self, keys: list[str], factor: CategoryFactor) -> Iterator[Effect]:
        """Yield the steps from a category's reference level to each other level."""
        reference, *others = (level_text(level) for level in factor.levels)
        # every row is taken to each level in turn, whatever its own
        before = partial(_held, held=dict.fromkeys(keys, reference))
        for level in others:
            after = partial(_held, held=dict.fromkeys(keys, level))
            yield self._between(f"{factor.label}: {level}", after, before)

    def _of_number(self, name: str, step: float | None) -> Effect:
        if step is None:
            try:
                return self._slope(name)
            except CallError as reason:
                nothing = np.zeros(self.fit.design.width + self.fit.solution.has_intercept)
                way = "step= gives the difference that a step makes"
                return Effect(name, np.nan, nothing, f"{name}: {reason}; {way}")
        moved = self.fit.design.context(self._moved(name, step), EVERY_ROW)
        return self._between(name, lambda context: moved.at(context.rows), lambda context: context)

    def _moved(self, name: str, step: float) -> Records:
        """Return the table with a number moved in every row, what lags take from other rows as it
        is."""
        table = self._table
        lags = lags_of(self.fit, table)
        if name in lags:
            out = table.same()
            lags[name] = lags[name] + step
        else:
            out = table.replaced(name, table.column(name).numbers(EVERY_ROW) + step)
        out.lags = lags
        return out

    @property
    def _table(self) -> Records:
        return filled(rows_at_hand(self.fit)[0], self.fit.design.fills)

    def _slope(self, name: str) -> Effect:
        """Return the derivative of the mean by a column of the table, averaged."""
        design, link = self.fit.design, self.fit.link

        def sums(context: Context, w: np.ndarray) -> np.ndarray:
            X = design.matrix(context)
            D = np.empty_like(X)
            for term in design.terms:
                term.fill_slopes(D[:, term.columns], name, context)
            eta, unit = self.of.predictor(context, X)
            slope = w * unit * link.slope(eta)
            by_eta = D[:, self._kept] @ self.fit.solution.coefficients[self._kept]
            # the derivative by the coefficients has two parts: through dμ/dη, and through the slope
            # itself
            bent = slope * link.bend(eta) * by_eta
            gradient = np.append(bent.sum(), bent @ X + slope @ D)
            return np.concatenate([[w.sum(), slope @ by_eta], gradient, w @ np.abs(D)])

        return self._averaged(name, sums)

    def _between(
        self, name: str, after: Callable[[Context], Context], before: Callable[[Context], Context]
    ) -> Effect:
        """Return the mean at one setting of some factors less the mean at another."""
        design, link = self.fit.design, self.fit.link

        def sums(context: Context, w: np.ndarray) -> np.ndarray:
            there, here = after(context), before(context)
            X1, X0 = design.matrix(there), design.matrix(here)
            (eta1, unit), (eta0, _) = (
                self.of.predictor(at, X) for at, X in ((there, X1), (here, X0))
            )
            change = (w * unit) @ (link.mu(eta1) - link.mu(eta0))
            s1, s0 = w * unit * link.slope(eta1), w * unit * link.slope(eta0)
            gradient = np.append(s1.sum() - s0.sum(), s1 @ X1 - s0 @ X0)
            return np.concatenate([[w.sum(), change], gradient, w @ np.abs(X1 - X0)])

        return self._averaged(name, sums)

    def _averaged(self, name: str, sums: Callable[[Context, np.ndarray], np.ndarray]) -> Effect:
        """Return σw, the effect, its derivatives and the sizes of change, summed over all rows."""
        fit, width = self.fit, self.fit.design.width
        rows = replace(fitted_rows(fit), table=self._table)

        def of_piece(piece: Piece) -> np.ndarray:
            context, times = piece
            if times is None:
                w = np.ones(context.size)
            else:
                w = times
            return sums(context, w)

        pieces = rows.cut(response_rows(fit).rows_a_block).each(of_piece)
        total = sum(pieces, np.zeros(3 + 2 * width))
        value, constant = total[1:3] / total[0]
        derivatives, sizes = total[3 : 3 + width] / total[0], total[3 + width :]
        gradient = np.zeros(width)
        gradient[self._kept] = derivatives[self._kept]
        if fit.solution.has_intercept:
            gradient = np.append(constant, gradient)
        # a predictor all of whose columns are left out of the model has no effect that could be
        # told
        moved = np.flatnonzero(sizes)
        if len(moved) and not np.isin(moved, self._kept).any():
            names = listed(fit.design.names[place] for place in moved)
            why = f"no effect of {name}: {names} is left out of the model, as it adds nothing"
            return Effect(name, np.nan, gradient, why)
        return Effect(name, float(value), gradient)

    @property
    def _kept(self) -> np.ndarray:
        return self.fit.solution.kept


def _numbers_in(fit: Fitted, factor: Factor) -> list[str]:
    """Return the columns of numbers that a factor names in its own row, and what lags take
    there."""
    chosen = [n.name for n in names_in_own_row(factor.expression) if n.name in fit.design.seen]
    return list(dict.fromkeys([*chosen, *map(str, lags_in(factor.expression))]))


def _alike(a: Factor, b: CategoryFactor) -> bool:
    """Return True if a factor is the same category, maybe with another coding or reference."""
    return isinstance(a, CategoryFactor) and a.label == b.label


def _held(context: Context, held: Held) -> Context:
    """Return the same rows with some factors the same in each."""
    return replace(context, held=held)
