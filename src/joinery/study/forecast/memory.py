"""What forecasts need of the fitted rows beside the coefficients."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from joinery.core.blocks.partition import joined
from joinery.data.columns import level_text
from joinery.notation.evaluate import mean_of
from joinery.notation.tree import names_in
from joinery.study.fitted import Fitted, once, rows_at_hand, working_rows
from joinery.study.forecast.spreads import Spreads, spreads
from joinery.study.rows.figures import per_row

MOST_KEPT, MOST_FEW = 5000, 6


@dataclass(frozen=True)
class ForecastMemory:
    """What is kept of the fitted rows.

    Means and level shares, the largest leverage, and for distribution-free intervals each row in
    the orthonormal basis with its left-one-out residual (None where they are too many).
    ``cells`` are the combinations of levels seen, by the columns that a product joins.
    """

    typical: Mapping[str, float | dict[str, float]] = field(default_factory=dict)
    largest_leverage: float | None = None
    basis: np.ndarray | None = None
    left_out: np.ndarray | None = None
    cells: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)
    spreads: Spreads = ()  # what the dispersion or shape may be: see ``spreads``
    # the values of a number that has few of them, by column
    few: Mapping[str, tuple[float, ...]] = field(default_factory=dict)


@once
def forecast_memory(fit: Fitted) -> ForecastMemory:
    """What a fit remembers of its rows: worked out once, or brought by its file."""
    brought: ForecastMemory | None = fit.memory
    return _from_rows(fit) if brought is None else brought


def _from_rows(fit: Fitted) -> ForecastMemory:
    h = per_row(fit).influence.leverage
    basis = left = None
    if fit.estimate.linear and fit.n_rows <= MOST_KEPT and fit.asides.weights is None:
        times = per_row(fit).times.astype(int)
        basis = np.repeat(
            joined(working_rows(fit).row_blocks, lambda b: fit.solution.in_basis(b.X)),
            times,
            axis=0,
        )
        with np.errstate(all="ignore"):
            left = np.repeat(np.where(h < 1, per_row(fit).residual / (1 - h), 0.0), times)
    return ForecastMemory(
        typical=_typical(fit),
        largest_leverage=float(np.max(h, initial=0.0)),
        basis=basis,
        left_out=left,
        spreads=spreads(fit),
        cells=_cells(fit),
        few=_few(fit),
    )


def _typical(fit: Fitted) -> dict[str, float | dict[str, float]]:
    """Each column's mean over the fitted rows, or the share of each of its levels."""
    table, chosen = rows_at_hand(fit)
    times = per_row(fit).times
    out: dict[str, float | dict[str, float]] = {}
    expressions = [f for t in fit.design.sentence.terms for f in t.factors]
    for name in dict.fromkeys(n.name for e in expressions for n in names_in(e)):
        column = table.column(name)
        if column.kind in ("number", "date"):
            values = column.numbers(chosen.rows)
            known = ~np.isnan(values)
            out[name] = mean_of(values[known], times[known])
        else:
            codes = column.codes(chosen.rows)
            counts = np.bincount(codes[codes >= 0], weights=times[codes >= 0])
            shares = counts / counts.sum()
            out[name] = {
                level_text(column.all_levels[p]): float(shares[p]) for p in np.flatnonzero(counts)
            }
    return out


def _few(fit: Fitted) -> dict[str, tuple[float, ...]]:
    """The distinct values of each number that has at most six."""
    table, chosen = rows_at_hand(fit)
    out = {}
    for name in fit.design.seen:
        values = np.unique(table.column(name).numbers(chosen.rows))
        values = values[np.isfinite(values)]
        if len(values) <= MOST_FEW:
            out[name] = tuple(values.tolist())
    return out


def _cells(fit: Fitted) -> dict[str, tuple[tuple[str, ...], ...]]:
    """The combinations of levels seen, for each product of categories."""
    table, chosen = rows_at_hand(fit)
    out: dict[str, tuple[tuple[str, ...], ...]] = {}
    for term in fit.design.terms:
        if len(term.categories) > 1:
            context = fit.design.context(table, chosen.rows)
            codes = np.column_stack([f.codes(context) for f in term.categories])
            cells = [
                tuple(level_text(f.levels[c]) for f, c in zip(term.categories, row))
                for row in np.unique(codes, axis=0)
            ]
            out[term.text] = tuple(cells)
    return out


def as_plain(memory: ForecastMemory) -> dict[str, Any]:
    """As JSON values."""
    return {
        "typical": dict(memory.typical),
        "largest_leverage": memory.largest_leverage,
        "basis": None if memory.basis is None else memory.basis.tolist(),
        "left_out": None if memory.left_out is None else memory.left_out.tolist(),
        "spreads": [list(pair) for pair in memory.spreads],
        "few": {name: list(values) for name, values in memory.few.items()},
        "cells": {name: [list(cell) for cell in cells] for name, cells in memory.cells.items()},
    }
