"""The rows table: what each row is, and in words what is remarkable about it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.data.records import Records
from joinery.errors import DataError, NewRowError
from joinery.show.numbers import figure
from joinery.show.table import Table
from joinery.study.asked import Asked, rows_at_hand
from joinery.study.per_row import Limits, fitted_values, limits, per_row

FINE, CAUTION, SERIOUS, LEFT_OUT = "fine", "caution", "serious", "left out"
WELL_FITTED = 2.0


@dataclass(frozen=True)
class Remark:
    """What is remarkable about a fitted row: its place among them, a verdict, and the reason, worded when asked for."""

    place: int
    verdict: str
    leverage: float
    studentized: float
    cooks_distance: float
    at: Limits

    @property
    def reason(self) -> str:
        """The reason in words, with its figures and what to do."""
        h, t = self.leverage, self.studentized
        far = f"far out (leverage {figure(h, 2)}, limit {figure(self.at.leverage, 2)})"
        badly = f"badly fitted (studentized residual {figure(t, 2)})"
        if h >= 1:
            return "fitted exactly whatever its value: nothing else speaks to one of its coefficients"
        if self.cooks_distance >= self.at.cooks_distance:
            size = f"Cook's distance {figure(self.cooks_distance, 2)}, limit {figure(self.at.cooks_distance, 2)}"
            why = f"; {far}" if h >= self.at.leverage else ""
            return f"decides the answer ({size}){why}: fit once without it and compare"
        if abs(t) >= self.at.studentized:
            return f"{badly}: look for a mistake in it, or for what the model leaves unsaid"
        if h >= self.at.leverage:
            if self.verdict == FINE:
                return f"{far}, but well fitted: keep it"
            return f"{far} and not well fitted (studentized residual {figure(t, 2)})"
        return badly


def remarks(fit: Asked) -> list[Remark]:
    """The remarkable rows, worst first: rows that decide the answer, badly fitted rows, rows far out."""
    if fit.solution.perfect:
        return []
    figures, at = per_row(fit), limits(fit)
    measures = figures.influence
    with np.errstate(invalid="ignore"):
        notable = (
            (measures.cooks_distance >= at.cooks_distance)
            | (np.abs(measures.studentized) >= at.large)
            | (measures.leverage >= at.leverage)
            | (measures.leverage >= 1)
        )
    found = [
        Remark(place, _verdict(h, t, d, at), h, t, d, at)
        for place, h, t, d in zip(
            np.flatnonzero(notable).tolist(),
            measures.leverage[notable].tolist(),
            measures.studentized[notable].tolist(),
            measures.cooks_distance[notable].tolist(),
            strict=True,
        )
    ]
    rank = {SERIOUS: 0, CAUTION: 1, FINE: 2}
    return sorted(
        found, key=lambda r: (rank[r.verdict], -r.cooks_distance if r.cooks_distance == r.cooks_distance else 0.0)
    )


def _verdict(leverage: float, studentized: float, cooks_distance: float, at: Limits) -> str:
    if leverage >= 1:
        return CAUTION
    if cooks_distance >= at.cooks_distance or abs(studentized) >= at.studentized:
        return SERIOUS
    return FINE if leverage >= at.leverage and abs(studentized) < WELL_FITTED else CAUTION


def rows(fit: Asked) -> Table:
    """The rows table. See ``Fit.rows``."""
    table, chosen = rows_at_hand(fit)
    figures = per_row(fit)
    measures = figures.influence
    n, out = len(figures.observed), len(chosen.out)
    verdict, reason = np.full(n + out, FINE, dtype=object), np.full(n + out, "", dtype=object)
    for remark in remarks(fit):
        verdict[remark.place], reason[remark.place] = remark.verdict, remark.reason
    verdict[n:] = LEFT_OUT
    verdict[:n][~figures.counts], reason[:n][~figures.counts] = LEFT_OUT, "its weight is zero"
    reason[n:] = list(chosen.reasons)
    left = _left_out(fit, table, chosen.out)

    def joined(values: np.ndarray, rest: np.ndarray | None = None) -> np.ndarray:
        return np.append(values, np.full(out, np.nan) if rest is None else rest)

    columns: dict[str, Any] = {
        "observed": joined(figures.observed, left[0]),
        "fitted": joined(figures.fitted, left[1]),
        "residual": joined(figures.residual, left[0] - left[1]),
        "leverage": joined(measures.leverage),
        "standardized_residual": joined(measures.standardized),
        "studentized_residual": joined(measures.studentized),
        "cooks_distance": joined(measures.cooks_distance),
        "dffits": joined(measures.dffits),
        "covratio": joined(measures.covratio),
        "verdict": verdict,
        "reason": reason,
    }
    index = table.index
    labels = [*index[chosen.rows].tolist(), *index[chosen.out].tolist()]
    notes = tuple(_notes(fit, out))
    return Table(
        columns,
        title=f"Rows of {fit.sentence}",
        notes=notes,
        index=labels,
        index_name=str(index.name or "row"),
        kinds={"verdict": "text", "reason": "text"},
    )


def _left_out(fit: Asked, table: Records, positions: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Observed and fitted values of rows left out, NaN where a cell is missing or a level was never seen."""
    nothing = np.full(len(positions), np.nan)
    if not len(positions):
        return nothing, nothing
    context = fit.design.context(table, positions)
    return _or_missing(lambda: fit.response.values(context), nothing), _or_missing(
        lambda: fitted_values(fit, context, fit.design.matrix(context)), nothing
    )


def _or_missing(compute: Callable[[], np.ndarray], nothing: np.ndarray) -> np.ndarray:
    try:
        return compute()
    except (DataError, NewRowError):
        return nothing


def _notes(fit: Asked, out: int) -> Iterator[str]:
    if fit.response.transformed:
        yield f"observed, fitted and residual are on the scale of {fit.response.name}"
    if out:
        yield f"the last {out} rows were left out of the fit; their reason stands beside them"
    if fit.solution.perfect:
        yield "the fit is perfect: residuals are zero, and nothing is left to scale them by"
