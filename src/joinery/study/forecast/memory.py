"""The part of the fitted rows that forecasts need beside the coefficients."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from joinery.core.blocks.order_statistics import Counted
from joinery.core.blocks.partition import joined
from joinery.core.inference.covariance import ALONE
from joinery.data.columns import level_text
from joinery.design.factors import CategoryFactor
from joinery.design.learning import Learner, Piece, mean
from joinery.design.levels import coded, column_of_levels, renames_levels
from joinery.notation.tree import Expression, Name
from joinery.notation.walk import named_in, names_in
from joinery.study.fitted import Fitted, fitted_rows, once, rows_at_hand, working_rows
from joinery.study.forecast.spreads import Spreads, spreads
from joinery.study.rows.digest import digest
from joinery.study.rows.figures import per_row

MOST_KEPT, MOST_FEW = 5000, 6


@dataclass(frozen=True)
class ForecastMemory:
    """The part of the fitted rows that is kept.

    Means and level shares, how far out rows lie, and for distribution-free intervals each row in
    the orthonormal basis with its left-one-out residual (None where they are too many).
    ``cells`` are the combinations of levels seen, by the columns that a product joins.
    """

    typical: Mapping[str, float | dict[str, float]] = field(default_factory=dict)
    farthest: float | None = None  # xᵀ(XᵀWX)⁻¹x of the row farthest out
    basis: np.ndarray | None = None
    left_out: np.ndarray | None = None
    cells: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)
    spreads: Spreads = ()  # what the dispersion or shape may be: see ``spreads``
    # the values of a number that has few of them, by column
    few: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    offset: float = 0.0  # its mean over the fitted rows
    columns: tuple[str, ...] = ()  # every column of the fitted table


@once
def forecast_memory(fit: Fitted) -> ForecastMemory:
    """Return what a fit remembers of its rows: worked out once, or brought by its file."""
    brought: ForecastMemory | None = fit.memory
    if brought is None:
        return _from_rows(fit)
    return brought


def _from_rows(fit: Fitted) -> ForecastMemory:
    basis = left = None
    if fit.estimate.linear and fit.n_rows <= MOST_KEPT and fit.asides.weights is None:
        h, times = per_row(fit).influence.leverage, per_row(fit).times.astype(int)
        basis = np.repeat(
            joined(working_rows(fit).row_blocks, lambda b: fit.solution.in_basis(b.X)),
            times,
            axis=0,
        )
        with np.errstate(all="ignore"):
            left = np.where(1 - h > ALONE, per_row(fit).residual / (1 - h), np.nan)
            left = np.repeat(left, times)
    return ForecastMemory(
        typical=_typical(fit),
        farthest=digest(fit).farthest,
        basis=basis,
        left_out=left,
        spreads=spreads(fit),
        cells=_cells(fit),
        few=_few(fit),
        offset=_mean_offset(fit),
        columns=rows_at_hand(fit)[0].names,
    )


def _mean_offset(fit: Fitted) -> float:
    expression = fit.asides.expressions.get("offset")
    if expression is None:
        return 0.0
    return mean(fitted_rows(fit).values(expression))[0]


def _typical(fit: Fitted) -> dict[str, float | dict[str, float]]:
    """Return each column's mean over the fitted rows, or the share of each of its levels; lags'
    means."""
    learner = fitted_rows(fit)
    out: dict[str, float | dict[str, float]] = {}
    expressions = fit.design.sentence.factors
    grouped = {column_of_levels(e) for e in expressions}
    for name in named_in(expressions):
        column = learner.table.column(name)
        if column.kind in ("number", "date") and Name(name) not in grouped:
            out[name] = mean(learner.values(Name(name)))[0]
        else:
            out[name] = _shares(learner, _levels_of(name, expressions))
    for call in fit.lags:
        out[str(call)] = mean(learner.values(call))[0]
    return out


def _levels_of(name: str, expressions: Sequence[Expression]) -> Expression:
    """Return what gives a column's levels: where all its terms rename them alike, as renamed."""
    column = Name(name)
    uses = {str(e): e for e in expressions if column in names_in(e)}
    if len(uses) == 1:
        (use,) = uses.values()
        if renames_levels(use) and column_of_levels(use) == column:
            return use
    return column


def _shares(learner: Learner, levels: Expression) -> dict[str, float]:
    """Return the share of each level among the fitted rows."""

    def counted(piece: Piece) -> tuple[np.ndarray, Sequence[Any]]:
        context, times = piece
        codes, names = coded(levels, context)
        there = codes >= 0
        weights = None if times is None else times[there]
        return np.bincount(codes[there], weights, len(names)), names

    parts = list(learner.stretches.each(counted))
    counts, names = np.add.reduce([each for each, _ in parts]), parts[0][1]
    shares = counts / counts.sum()
    return {level_text(names[int(p)]): float(shares[p]) for p in np.flatnonzero(counts)}


def _few(fit: Fitted) -> dict[str, tuple[float, ...]]:
    """Return the distinct values of each number that has at most six."""
    learner, out = fitted_rows(fit), {}
    for name in fit.design.seen:
        collected: set[float] = set()
        for some in learner.values(Name(name)).each(_first_few):
            collected.update(some)
        if len(collected) <= MOST_FEW:
            out[name] = tuple(sorted(collected))
    return out


def _first_few(piece: Counted) -> list[float]:
    """Up to seven of the different values of some rows: more are not told apart."""
    x = piece[0]
    if len(np.unique(x[:100])) > MOST_FEW:
        return [float(v) for v in np.unique(x[:100])[: MOST_FEW + 1]]
    distinct = np.unique(x)
    return [float(v) for v in distinct[np.isfinite(distinct)][: MOST_FEW + 1]]


def _cells(fit: Fitted) -> dict[str, tuple[tuple[str, ...], ...]]:
    """Return the combinations of levels seen, for each product of categories."""
    learner = fitted_rows(fit)
    out: dict[str, tuple[tuple[str, ...], ...]] = {}
    for term in fit.design.terms:
        if len(term.categories) > 1:
            result = np.concatenate(
                list(learner.stretches.each(partial(_combined, term.categories)))
            )
            out[term.text] = tuple(
                tuple(level_text(f.levels[c]) for f, c in zip(term.categories, row))
                for row in np.unique(result, axis=0)
            )
    return out


def _combined(categories: Sequence[CategoryFactor], piece: Piece) -> np.ndarray:
    """Return the combinations of levels among some rows, each once."""
    return np.unique(np.column_stack([f.codes(piece[0]) for f in categories]), axis=0)


def as_plain(memory: ForecastMemory) -> dict[str, Any]:
    """As JSON values."""
    return {
        "typical": dict(memory.typical),
        "farthest": memory.farthest,
        "basis": None if memory.basis is None else memory.basis.tolist(),
        "left_out": None if memory.left_out is None else memory.left_out.tolist(),
        "spreads": [list(pair) for pair in memory.spreads],
        "few": {name: list(values) for name, values in memory.few.items()},
        "offset": memory.offset,
        "columns": list(memory.columns),
        "cells": {name: [list(cell) for cell in cells] for name, cells in memory.cells.items()},
    }
