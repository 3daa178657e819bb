"""The chosen covariance of a fit, made from its rows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery.core.covariance import Sandwich, autocorrelated, clustered, robust
from joinery.core.solution import Solution
from joinery.design.blocks import RowBlocks
from joinery.errors import CallError, UnknownColumnError, UnusableColumnError, listed
from joinery.model.glm import WorkingRows
from joinery.notation.evaluate import EVERY_ROW


def sandwich_of(
    blocks: RowBlocks | WorkingRows,
    solution: Solution,
    kind: str,
    cluster: Sequence[str],
    order: str | None,
    total: int,
) -> Sandwich:
    """The covariance that ``std_errors=`` names. Raises CallError and UnusableColumnError for groupings of no use."""
    parts = [
        (solution.in_basis(b.X), (b.beyond_offset - solution.fitted(b.X)) / solution.unit, b.precision, b.repeats)
        for b in blocks.whole
    ]
    u, e = np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])
    w, r = (np.concatenate([np.ones(len(p[1])) if p[i] is None else p[i] for p in parts]) for i in (2, 3))
    rows = np.arange(total)[blocks.rows]
    if kind == "clustered":
        groups = [_codes(blocks, name, "cluster")[rows] for name in cluster]
        for name, codes in zip(cluster, groups, strict=True):
            if len(np.unique(codes)) < 2:
                raise CallError(f"cluster={name!r} puts all rows into one cluster", argument="cluster")
        return clustered(u, e, w * r, groups, solution.root)
    if kind == "autocorrelated":
        if blocks.asides.repeats is not None:
            raise CallError("rows that stand for several have no neighbours; leave repeats= or autocorrelated out")
        place = np.arange(total)
        if order is not None:
            place = np.empty(total, dtype=int)
            place[np.argsort(_codes(blocks, order, "order"), kind="stable")] = np.arange(total)
        return autocorrelated(u, e, w, place[rows], solution.root, solution.n)
    return robust("hc3" if kind == "robust" else kind, u, e, w, r, solution.root, solution.n)


def _codes(blocks: RowBlocks | WorkingRows, name: str, option: str) -> np.ndarray:
    """A column's values as numbers in their order. Raises UnusableColumnError where a row used has none."""
    table = blocks.table
    if name not in table.names:
        raise UnknownColumnError(name, table.names, where=f" for {option}=")
    column = table.column(name)
    missing = column.missing(EVERY_ROW)
    used = np.zeros(len(table), dtype=bool)
    used[np.arange(len(table))[blocks.rows]] = True
    if (bad := np.flatnonzero(missing & used)).size:
        rows = list(table.labels(bad))
        raise UnusableColumnError(
            f"{option}={name!r} is missing in {len(rows)} of the rows used ({listed(rows)}); leave them out",
            column=name,
            rows=rows,
        )
    return column.codes(EVERY_ROW)
