"""Candidate models of any family, each estimated anew on some columns of the largest."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from joinery.core.blocks.columns import chosen as some_of
from joinery.core.blocks.partition import Partition
from joinery.core.glm.estimate import Dispersion, likelihood_and_parameters
from joinery.core.glm.families import Family
from joinery.core.glm.irls import nested, reweighted
from joinery.core.glm.likeliest import Iterated
from joinery.core.glm.likelihood import log_likelihood
from joinery.core.glm.links import Link
from joinery.core.glm.one_pass import WELL_APART, one_pass
from joinery.core.glm.problem import Problem
from joinery.core.glm.rows import (
    ArrayRows,
    LikelihoodRows,
    WorkingBlocks,
    inside,
    unit_deviance,
    working_state,
)
from joinery.core.inference.stepwise import Model
from joinery.core.numeric import distributions as tails
from joinery.support.errors import NoConvergenceError
from joinery.support.limits import BLOCK_ROWS

NONE = float("inf")


@dataclass(frozen=True)
class LikelihoodCandidates:
    """The rows with all columns, the groups of columns, which others each group needs, and n.

    ``fold`` (m,) deals the rows out where models are judged on rows not seen."""

    rows: LikelihoodRows
    groups: tuple[np.ndarray, ...]
    needs: tuple[frozenset[int], ...]
    n: int
    family: Family
    link: Link
    intercept: bool
    dispersion: Dispersion
    criterion: str
    fold: np.ndarray
    _models: dict[frozenset[int], Model] = field(default_factory=dict, repr=False)
    _grown: dict[frozenset[int], np.ndarray] = field(default_factory=dict, repr=False)

    def model(self, chosen: frozenset[int]) -> Model:
        if chosen not in self._models:
            self._models[chosen] = self._estimated(chosen)
        return self._models[chosen]

    def near(
        self, now: Model, kept: frozenset[int], *, add: bool, drop: bool
    ) -> Iterator[tuple[bool, int, Model]]:
        for g in sorted(now.chosen - kept) if drop else ():
            if not any(g in self.needs[other] for other in now.chosen):
                yield False, g, self.model(now.chosen - {g})
        more = [
            g
            for g in (range(len(self.groups)) if add else ())
            if g not in now.chosen and len(self.groups[g]) and self.needs[g] <= now.chosen
        ]
        wider = Partition(len(more), lambda i, room: (more[i], room), self._room(now, more))
        for g, model in zip(more, wider.each(self._grown_from(now)) if more else ()):
            if model.rank == now.rank + len(self.groups[g]):
                yield True, g, model

    def p(self, small: Model, large: Model) -> float:
        """Return χ² of the fall in deviance where φ is known, else its F; 2Δ log likelihood with a
        shape.

        A model that has no estimate is neither entered nor kept."""
        drop, df = small.misfit - large.misfit, large.rank - small.rank
        if df < 1 or not np.isfinite(drop):
            return 1.0
        known = self._known
        if known is not None:
            return float(tails.chi2_upper(max(drop, 0.0) / known, df))
        left = self.n - large.rank
        if left < 1 or not large.dispersion > 0:
            return 1.0
        return float(tails.f_upper(max(drop, 0.0) / df / large.dispersion, df, left))

    def without(self, left_out: np.ndarray) -> LikelihoodCandidates:
        """Return the same candidates on the other rows."""
        rows = self.rows.taken(~left_out)
        n = int(rows.times.sum())
        return replace(self, rows=rows, n=n, fold=self.fold[~left_out], _models={}, _grown={})

    def unseen_misfit(self, chosen: frozenset[int], held: np.ndarray) -> float:
        """Return how far a model of the other rows misses those ``held`` (m,): a sum over them."""
        columns = self._columns(chosen)
        fit = self._fit(self.rows.taken(~held), columns)
        if fit is None:
            return NONE
        return self._misfit(fit, _of_columns(self.rows.taken(held), columns))

    @property
    def _known(self) -> float | None:
        if self.dispersion is None and self.family.known_dispersion:
            return 1.0
        if isinstance(self.dispersion, float):
            return self.dispersion
        return None

    def _columns(self, chosen: frozenset[int]) -> np.ndarray:
        return np.concatenate([np.empty(0, int), *(self.groups[g] for g in sorted(chosen))])

    def _fit(self, rows: LikelihoodRows, columns: np.ndarray) -> Iterated | None:
        """Return the estimate on some rows and columns; None where no means are the likeliest."""
        n = int(rows.times.sum())
        try:
            fit = reweighted(
                ArrayRows(_of_columns(rows, columns)),
                self.family,
                self.link,
                intercept=self.intercept,
                n=n,
                dispersion=self._known,
            )
        except NoConvergenceError:
            return None
        # where coefficients grow without end the deviance still has its limit
        if fit.converged or fit.running:
            return fit
        return None

    def _misfit(self, fit: Iterated, rows: LikelihoodRows) -> float:
        if not len(rows.y):
            return 0.0
        if fit.family.shape is not None:
            return -2 * log_likelihood(ArrayRows(rows), fit, fitted=False)
        working = WorkingBlocks(ArrayRows(rows), fit.family, self.link, fit.solution.fitted)
        state = working_state(working, rows)
        if not inside(fit.family, self.link, state):
            return NONE
        return float(rows.evidence @ unit_deviance(fit.family, rows.y, state))

    def _estimated(self, chosen: frozenset[int]) -> Model:
        columns = self._columns(chosen)
        fit = self._fit(self.rows, columns)
        if fit is None:
            return Model(chosen, len(columns) + self.intercept, NONE, NONE)
        rank = fit.solution.rank
        rows = ArrayRows(_of_columns(self.rows, columns))
        misfit = fit.deviance
        if fit.family.shape is not None:
            misfit = -2 * log_likelihood(rows, fit)
        if self.n > rank:
            phi = fit.pearson / (self.n - rank)
        else:
            phi = float("nan")
        return Model(chosen, rank, misfit, self._figure(chosen, fit, rows), phi)

    def _room(self, now: Model, more: list[int]) -> Callable[[], np.ndarray | None]:
        """Return room for the columns of a model and those that a candidate adds, the former in
        place."""
        X, columns = self.rows.X, self._columns(now.chosen)
        width = len(columns) + max((len(self.groups[g]) for g in more), default=0)

        def room() -> np.ndarray | None:
            if not isinstance(X, np.ndarray):
                return None
            made = np.empty((len(X), width), order="F")
            made[:, : len(columns)] = X[:, columns]
            return made

        return room

    def _grown_from(self, now: Model) -> Callable[[tuple[int, np.ndarray | None]], Model]:
        """Return models of a group more, each begun from one step of the information at this one.

        Where the dispersion is known the fall in deviance says all of them."""
        plain = self.dispersion is None and self.family.known_dispersion

        def fit_anew(one: tuple[int, np.ndarray | None]) -> Model:
            return self.model(now.chosen | {one[0]})

        if not plain or self.family.shape is not None or self.criterion == "crosscheck":
            return fit_anew
        columns, canonical = self._columns(now.chosen), self.family.canonical == self.link.name
        b = self._grown.get(now.chosen)
        if b is None:
            fit = self._fit(self.rows, columns)
            if fit is None or not fit.converged or len(fit.solution.kept) < len(columns):
                return fit_anew
            b = self._padded(columns, fit.b)
        problem = Problem(
            ArrayRows(self.rows, BLOCK_ROWS), self.family, self.link, self.intercept, self.n, 1.0
        )
        seen = one_pass(problem, b, rough=canonical)
        weight = {"aic": 2.0, "bic": float(np.log(self.n)), "p": np.nan}[self.criterion]

        def grown(one: tuple[int, np.ndarray | None]) -> Model:
            g, room = one
            chosen, more = now.chosen | {g}, len(self.groups[g])
            if chosen in self._models:
                return self._models[chosen]
            indices = np.append(columns, self.groups[g])
            places = np.append([0] if self.intercept else [], indices + 1).astype(int)
            step = seen.expected.solve(seen.gradient, places, WELL_APART)
            result = None
            if step is not None:
                if room is not None:
                    room = room[:, : len(indices)]
                    room[:, len(columns) :] = some_of(self.rows.X, self.groups[g])
                result = nested(
                    ArrayRows(_of_columns(self.rows, indices, room)),
                    self.family,
                    self.link,
                    (b + step)[np.append(0, indices + 1)],
                    intercept=self.intercept,
                    n=self.n,
                    dispersion=1.0,
                )
            if result is None:
                return self.model(chosen)
            deviance, self._grown[chosen] = result[0], self._padded(indices, result[1])
            figure = now.figure + weight * more - (now.misfit - deviance)
            model = Model(chosen, now.rank + more, deviance, figure, now.dispersion)
            return self._models.setdefault(chosen, model)

        return grown

    def _padded(self, columns: np.ndarray, b: np.ndarray) -> np.ndarray:
        """Return coefficients of the constant and some columns, with 0 for the others."""
        out = np.zeros(self.rows.X.shape[1] + 1)
        out[np.append(0, columns + 1)] = b
        return out

    def _figure(self, chosen: frozenset[int], fit: Iterated, rows: ArrayRows) -> float:
        if self.criterion == "p":
            return float("nan")
        if self.criterion == "crosscheck":
            folds = np.unique(self.fold)
            return sum(self.unseen_misfit(chosen, self.fold == f) for f in folds) / self.n
        _, likelihood, parameters = likelihood_and_parameters(rows, fit, self._known, law=True)
        if likelihood is None:
            return NONE
        if self.criterion == "aic":
            weight = 2.0
        else:
            weight = float(np.log(self.n))
        return weight * parameters - 2 * likelihood


def _of_columns(
    rows: LikelihoodRows, columns: np.ndarray, laid: np.ndarray | None = None
) -> LikelihoodRows:
    """Return rows with some of their columns, which may be laid out already."""
    return replace(rows, X=some_of(rows.X, columns) if laid is None else laid)
