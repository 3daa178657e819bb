"""The chosen covariance of a fit, made from its rows."""

from __future__ import annotations

from functools import partial

import numpy as np

from joinery.core.inference.covariance import Sandwich
from joinery.core.inference.sandwiches import Scored, autocorrelated, clustered, robust
from joinery.core.least_squares.solution import Solution
from joinery.data.sources.source import refuse_too_large
from joinery.design.row_blocks import RowBlock
from joinery.notation.context import EVERY_ROW
from joinery.study.fitted import Fitted, rows_at_hand, working_rows
from joinery.support import advice
from joinery.support.errors import (
    CallError,
    TooLargeError,
    UnknownColumnError,
    UnusableColumnError,
    listed,
)
from joinery.support.limits import BASIS_CELLS, CLUSTER_CELLS


def sandwich_of(fit: Fitted) -> Sandwich | None:
    """Return the covariance that ``std_errors=`` names; None for the plain one.

    Raises CallError and UnusableColumnError for groupings of no use.
    """
    kind, solution, blocks = fit.options.std_errors, fit.solution, working_rows(fit)
    if kind == "constant spread":
        return None
    table, used = rows_at_hand(fit)
    q = max(solution.rank, 1)
    if table.read_as_needed and kind == "autocorrelated":
        what = advice.option("std_errors", kind)
        refuse_too_large(used.used, BASIS_CELLS // q, what, "fit a sample of the rows for it")
    rows = blocks.row_blocks.map(partial(_scored, solution))
    wanted = np.arange(used.total)[used.rows]
    if kind == "clustered":
        groups = [_codes(fit, name, "cluster")[wanted] for name in fit.options.cluster]
        for name, codes in zip(fit.options.cluster, groups, strict=True):
            if (count := len(np.unique(codes))) < 2:
                raise CallError(
                    f"{advice.option('cluster', name)} puts all rows into one cluster",
                    argument="cluster",
                )
            if count * q * q > CLUSTER_CELLS:
                raise TooLargeError(
                    f"{advice.option('std_errors', kind)} needs a matrix of {q:,} coefficients for "
                    f"each of {count:,} clusters, which is too much memory; leave terms out, or "
                    "use larger clusters"
                )
        return clustered(rows, groups, solution.root)
    if kind == "autocorrelated":
        if fit.asides.repeats is not None:
            raise CallError(
                "rows that stand for several have no neighbours; leave "
                f"{advice.option('repeats')} or autocorrelated out"
            )
        return autocorrelated(rows, _places(fit)[wanted], solution.root)
    return robust(kind, rows, solution.root, solution.n)


def _scored(solution: Solution, block: RowBlock) -> Scored:
    """Return a block's rows in the solution's basis, with what is left of them."""
    e = (block.beyond_offset - solution.fitted(block.columns)) / solution.unit
    return Scored(solution.in_basis(block.columns), e, block.precisions, block.times, block.span)


def _places(fit: Fitted) -> np.ndarray:
    """Return each row's place in the order, the first used row's 0.

    Rows of no weight, and those that where= cuts off, have none; rows left out otherwise keep
    their neighbours apart.
    """
    _, used = rows_at_hand(fit)
    if fit.options.order is None:
        key = np.arange(used.total)
    else:
        key = _codes(fit, fit.options.order, "order")
    order = np.argsort(key, kind="stable")
    order = order[~np.isin(order, np.concatenate([used.weightless, used.cut]))]
    place = np.zeros(used.total, dtype=int)
    place[order] = np.arange(len(order))
    return np.asarray(place - place[used.rows].min())


def _codes(fit: Fitted, name: str, option: str) -> np.ndarray:
    """Return a column's values as numbers in their order.

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
