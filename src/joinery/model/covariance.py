"""The chosen covariance of a fit, made from its rows."""

from __future__ import annotations

import numpy as np

from joinery import advice
from joinery.core.inference.covariance import Sandwich, autocorrelated, clustered, robust
from joinery.data.sources.source import refuse_too_large
from joinery.errors import CallError, UnknownColumnError, UnusableColumnError, listed
from joinery.notation.evaluate import EVERY_ROW
from joinery.study.fitted import Fitted, rows_at_hand, working_rows

MOST_CELLS = 2**26  # of the rows in the coefficients' basis, where a table is read as needed


def sandwich_of(fit: Fitted) -> Sandwich | None:
    """The covariance that ``std_errors=`` names; None for the plain one.

    Raises CallError and UnusableColumnError for groupings of no use.
    """
    kind, solution, blocks = fit.options.std_errors, fit.solution, working_rows(fit)
    if kind == "constant spread":
        return None
    table, used = rows_at_hand(fit)
    if table.read_as_needed:
        most = MOST_CELLS // max(solution.rank, 1)
        what = advice.option("std_errors", kind)
        refuse_too_large(used.used, most, what, "fit a sample of the rows for it")
    parts = [
        (
            solution.in_basis(b.X),
            (b.beyond_offset - solution.fitted(b.X)) / solution.unit,
            b.precision,
            b.repeats,
        )
        for b in blocks.row_blocks
    ]
    u, e = np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])
    w, r = (
        np.concatenate([np.ones(len(p[1])) if p[i] is None else p[i] for p in parts])
        for i in (2, 3)
    )
    rows = np.arange(used.total)[used.rows]
    if kind == "clustered":
        groups = [_codes(fit, name, "cluster")[rows] for name in fit.options.cluster]
        for name, codes in zip(fit.options.cluster, groups, strict=True):
            if len(np.unique(codes)) < 2:
                raise CallError(
                    f"{advice.option('cluster', name)} puts all rows into one cluster",
                    argument="cluster",
                )
        return clustered(u, e, w * r, groups, solution.root)
    if kind == "autocorrelated":
        if fit.asides.repeats is not None:
            raise CallError(
                "rows that stand for several have no neighbours; leave "
                f"{advice.option('repeats')} or autocorrelated out"
            )
        return autocorrelated(u, e, w, _places(fit)[rows], solution.root)
    return robust(kind, u, e, w, r, solution.root, solution.n)


def _places(fit: Fitted) -> np.ndarray:
    """Each row's place in the order.

    Rows of no weight have none, those left out otherwise break the neighbourhood.
    """
    _, used = rows_at_hand(fit)
    key = (
        np.arange(used.total)
        if fit.options.order is None
        else _codes(fit, fit.options.order, "order")
    )
    order = np.argsort(key, kind="stable")
    order = order[~np.isin(order, used.weightless)]
    place = np.zeros(used.total, dtype=int)
    place[order] = np.arange(len(order))
    return place


def _codes(fit: Fitted, name: str, option: str) -> np.ndarray:
    """A column's values as numbers in their order.

    Raises UnusableColumnError where a row used has none.
    """
    table, used_rows = rows_at_hand(fit)
    if name not in table.names:
        raise UnknownColumnError(name, table.names, where=f" for {option}=")
    column = table.column(name)
    missing = column.missing(EVERY_ROW)
    used = np.zeros(len(table), dtype=bool)
    used[np.arange(len(table))[used_rows.rows]] = True
    if (bad := np.flatnonzero(missing & used)).size:
        rows = list(table.labels(bad))
        raise UnusableColumnError(
            f"{option}={name!r} is missing in {len(rows)} of the rows used ({listed(rows)}); "
            "leave them out",
            column=name,
            rows=rows,
        )
    return column.codes(EVERY_ROW)
