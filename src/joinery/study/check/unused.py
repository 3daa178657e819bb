"""Is anything left out? Do rows belong together? The unused columns of the table."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import islice

import numpy as np

from joinery.core.inference.diagnostics import Test
from joinery.data.columns import Column
from joinery.data.records import Records
from joinery.design.resolving import expressions_of
from joinery.notation.context import Rows as Positions
from joinery.notation.tree import spelled
from joinery.notation.walk import named_in
from joinery.show.numbers import count, figure
from joinery.study.check.added import (
    in_memory,
    indicators,
    surest_of,
    usable_columns,
    would_see,
)
from joinery.study.check.check import Line, nothing_left
from joinery.study.fitted import Fitted
from joinery.support import advice as say
from joinery.support.limits import CHECKED_ROWS, INDICATOR_CELLS

LEFT, TOGETHER = "Is anything left out?", "Do rows belong together?"
COPIED = 0.99  # of the residuals explained: a column that says the response again
UNUSED_COLUMNS = 40  # unused columns that are looked at
TERM_LEVELS = 9  # levels of a category up to which it is a term that is left out
UNUSED_LEVELS = 200  # levels of a category that is looked at at all


@dataclass(frozen=True)
class Unused:
    """An unused column of the table, as columns beside the fitted rows."""

    name: str
    columns: np.ndarray  # (n, q)
    codes: np.ndarray | None = None  # of a category

    @property
    def levels(self) -> int:
        return 0 if self.codes is None else self.columns.shape[1]


def unused(fit: Fitted) -> Iterator[Line]:
    """Yield unused numbers and small categories beside the residuals, and rows that share a
    level."""
    if nothing_left(fit) or fit.asides.repeats is not None or fit.residual_df < 4:
        return
    known = in_memory(fit)
    if known is None or fit.n_rows > CHECKED_ROWS:
        return
    table, rows = known
    everything = list(_unused(fit, table, rows))
    small = [u for u in everything if u.levels <= TERM_LEVELS]
    large = [u for u in everything if u.levels > TERM_LEVELS]
    if small:
        yield from _left_out(fit, small)
    if large:
        yield from _together(fit, large)


def unused_columns(fit: Fitted) -> list[str]:
    """Return the columns of a table in memory that are looked at beside the model's own."""
    known = in_memory(fit)
    if known is None:
        return []
    columns = islice(_outside(fit, known[0]), UNUSED_COLUMNS)
    return [name for name, column in columns if not _has_many_levels(column)]


def _has_many_levels(column: Column) -> bool:
    return column.kind == "category" and len(column.all_levels) > UNUSED_LEVELS


def _outside(fit: Fitted, table: Records) -> Iterator[tuple[str, Column]]:
    """Yield the columns of a table that no part of a fit uses."""
    sentence = fit.design.sentence
    options = fit.options
    asides = (options.weights, options.repeats, options.offset)
    used = set(named_in(expressions_of(sentence)))
    used |= {name for name in (options.order, options.id, *options.cluster) if name}
    used |= {name for text in asides if text for name in table.names if name in text}
    for name, column in usable_columns(table):
        if name not in used:
            yield name, column


def _unused(fit: Fitted, table: Records, rows: Positions) -> Iterator[Unused]:
    speaking = (_columns_of(name, column, rows) for name, column in _outside(fit, table))
    yield from islice(filter(None, speaking), UNUSED_COLUMNS)


def _columns_of(name: str, column: Column, rows: Positions) -> Unused | None:
    """Return an unused column, or None for one that says nothing: ids, dates, constants."""
    if column.trouble or column.kind not in ("number", "yes/no", "category"):
        return None
    if column.kind == "category":
        return _of_levels(name, column.codes(rows))
    x = column.numbers(rows)
    known = np.isfinite(x)
    if known.sum() < 0.5 * len(x):
        return None
    distinct = np.unique(x[known])
    counts_rows = bool(
        len(distinct) > 2 and len(distinct) == known.sum() and np.ptp(np.diff(distinct)) == 0
    )
    if len(distinct) < 2 or counts_rows:  # a constant, a running number
        return None
    middle, spread = float(x[known].mean()), float(x[known].std())
    z = np.where(known, (x - middle) / (spread or 1.0), 0.0)
    columns = [z]
    if not known.all():  # rows without it are a group of their own
        columns.append(known - known.mean())
    return Unused(name, np.column_stack(columns))


def _of_levels(name: str, codes: np.ndarray) -> Unused | None:
    present = np.unique(codes[codes >= 0])
    k, n = len(present), len(codes)
    if not 1 < k <= UNUSED_LEVELS or n < 2 * k or n * k > INDICATOR_CELLS:
        return None
    fresh = np.where(codes >= 0, np.searchsorted(present, codes), -1)
    return Unused(name, indicators(fresh, k), fresh)


def _left_out(fit: Fitted, everything: Sequence[Unused]) -> Iterator[Line]:
    """Yield the unused column that goes with the residuals most, its p by Holm over all."""
    best = surest_of(fit, [u.columns for u in everything])
    if best is None:
        return
    place, test = best
    name = everything[place].name
    finding = f"{fit.words(name)}, which is not in the model, explains part of its residuals"
    advise = partial(_added, name)
    if test.size > COPIED:
        finding = f"{fit.words(name)}, which is not in the model, leaves nothing of its residuals"
        advise = partial(_copied, fit, name)
    yield Line(
        "left out",
        "left out",
        LEFT,
        f"{name} added (F, Holm over {count(len(everything), 'unused column')})",
        test,
        finding=finding,
        advise=advise,
        small=0.01,
        would_see=would_see(fit, "left out", len(everything), test, "a column left out"),
    )


def _added(name: str) -> str:
    return f"add it: {say.change(add=spelled(name))}"


def _copied(fit: Fitted, name: str) -> str:
    response = fit.words(fit.response.name)
    return f"if it is computed from {response}, it is no predictor; else {_added(name)}"


def _together(fit: Fitted, everything: Sequence[Unused]) -> Iterator[Line]:
    """Yield the unused category whose rows are most alike, its p by Holm over all."""
    best = surest_of(fit, [u.columns for u in everything])
    if best is None:
        return
    place, test = best
    group = everything[place]
    alike = _alike(test, group)
    categories = count(len(everything), "category", "categories")
    yield Line(
        "belonging together",
        "belonging together",
        TOGETHER,
        f"rows of one {group.name} (F, Holm over {categories})",
        replace(test, size=alike),
        finding=(
            f"rows of one {fit.words(group.name)} are alike (intraclass correlation "
            f"{figure(alike, 2)})"
        ),
        advise=partial(_clustered, group.name),
        small=0.02,
        large=0.2,
    )


def _alike(test: Test, group: Unused) -> float:
    """Return the intraclass correlation that F comes to (Donner 1986)."""
    assert group.codes is not None
    sizes = np.bincount(group.codes[group.codes >= 0])
    n, k = sizes.sum(), len(sizes)
    usual = (n - (sizes**2).sum() / n) / (k - 1)
    return float(max((test.statistic - 1) / (test.statistic - 1 + usual), 0.0))


def _clustered(name: str) -> str:
    return f"try {say.change(std_errors='clustered', cluster=name)}"
