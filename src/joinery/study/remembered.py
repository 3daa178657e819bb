"""What forecasts need of the fitted rows beside the coefficients: kept with a fit, and in its file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from joinery.core.pieces import joined
from joinery.data.columns import level_text
from joinery.notation.tree import names_in
from joinery.study.asked import Asked, row_blocks, rows_at_hand
from joinery.study.per_row import per_row

MOST_KEPT = 5000
QUANTILES = 201


@dataclass(frozen=True)
class Remembered:
    """Of the fitted rows: each column's mean or level shares, the largest leverage, residual quantiles, and for
    distribution-free intervals each row in the orthonormal basis with its left-one-out residual (None where too many).

    ``cells`` are the combinations of levels seen, by the columns that a product joins.
    """

    typical: Mapping[str, float | dict[str, float]] = field(default_factory=dict)
    largest_leverage: float | None = None
    residual_quantiles: tuple[float, ...] = ()
    basis: np.ndarray | None = None
    left_out: np.ndarray | None = None
    cells: Mapping[str, tuple[tuple[str, ...], ...]] = field(default_factory=dict)


def remembered(fit: Asked) -> Remembered:
    """What a fit remembers of its rows: worked out once, or brought by its file."""
    if "remembered" not in fit.memo:
        fit.memo["remembered"] = _from_rows(fit)
    found: Remembered = fit.memo["remembered"]
    return found


def _from_rows(fit: Asked) -> Remembered:
    figures = per_row(fit)
    counted = figures.counts
    h = figures.influence.leverage[counted]
    basis = left = None
    quantiles: tuple[float, ...] = ()
    if fit.glm is None:
        residual = figures.residual[counted]
        quantiles = tuple(np.quantile(residual, np.linspace(0, 1, QUANTILES)).tolist())
        if len(h) <= MOST_KEPT and fit.asides.weights is None and fit.asides.repeats is None:
            basis = joined(row_blocks(fit).whole, lambda b: fit.solution.in_basis(b.X))
            with np.errstate(all="ignore"):
                left = np.where(h < 1, residual / (1 - h), 0.0)
    return Remembered(
        typical=_typical(fit),
        largest_leverage=float(np.max(h, initial=0.0)),
        residual_quantiles=quantiles,
        basis=basis,
        left_out=left,
        cells=_cells(fit),
    )


def _typical(fit: Asked) -> dict[str, float | dict[str, float]]:
    """Each column's mean over the fitted rows, or the share of each of its levels."""
    table, chosen = rows_at_hand(fit)
    out: dict[str, float | dict[str, float]] = {}
    expressions = [f for t in fit.design.sentence.terms for f in t.factors]
    for name in dict.fromkeys(n.name for e in expressions for n in names_in(e)):
        column = table.column(name)
        if column.kind in ("number", "date"):
            out[name] = float(np.mean(column.numbers(chosen.rows)))
        else:
            codes = column.codes(chosen.rows)
            places, counts = np.unique(codes[codes >= 0], return_counts=True)
            out[name] = {level_text(column.all_levels[p]): float(c / counts.sum()) for p, c in zip(places, counts)}
    return out


def _cells(fit: Asked) -> dict[str, tuple[tuple[str, ...], ...]]:
    """The combinations of levels seen, for each product of categories."""
    table, chosen = rows_at_hand(fit)
    out: dict[str, tuple[tuple[str, ...], ...]] = {}
    for term in fit.design.terms:
        if len(term.categories) > 1:
            context = fit.design.context(table, chosen.rows)
            codes = np.column_stack([f.codes(context) for f in term.categories])
            cells = [
                tuple(level_text(f.levels[c]) for f, c in zip(term.categories, row)) for row in np.unique(codes, axis=0)
            ]
            out[term.text] = tuple(cells)
    return out


def as_plain(found: Remembered) -> dict[str, Any]:
    """As JSON values."""
    return {
        "typical": dict(found.typical),
        "largest_leverage": found.largest_leverage,
        "residual_quantiles": list(found.residual_quantiles),
        "basis": None if found.basis is None else found.basis.tolist(),
        "left_out": None if found.left_out is None else found.left_out.tolist(),
        "cells": {name: [list(cell) for cell in cells] for name, cells in found.cells.items()},
    }
