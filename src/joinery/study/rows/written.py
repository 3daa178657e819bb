"""The rows table of any size, written to a file block by block."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.sources.source import STRETCH
from joinery.notation.context import positions_at
from joinery.show.names import label_column
from joinery.show.streamed import write_streamed
from joinery.study.fitted import Fitted, UsedRows, rows_at_hand
from joinery.study.rows.digest import labels_of
from joinery.study.rows.figures import figures_in_blocks
from joinery.study.rows.table import left_out_columns, remarks, row_columns
from joinery.support.labels import plain_labels
from joinery.support.progress import counted


def write_rows(fit: Fitted, path: str | os.PathLike[str]) -> Path:
    """See ``Fit.write_rows``."""
    return write_streamed(path, _stretches(fit))


def _stretches(fit: Fitted) -> Iterator[pd.DataFrame]:
    table, chosen = rows_at_hand(fit)
    given = table.id or table.index.name
    notable = remarks(fit)
    columns: list[str] = []
    with counted("rows written", chosen.total) as advance:
        written = 0  # of the rows left out, which come where they stand in the table
        for block, figures in figures_in_blocks(fit):
            result = row_columns(figures, notable, block.first)
            columns = list(result)
            labels = labels_of(fit, np.arange(block.span.start, block.span.stop))
            positions = positions_at(chosen.rows, np.arange(block.span.start, block.span.stop))
            fitted = _frame(given, labels, result)
            before = int(np.searchsorted(chosen.out, positions[-1]))
            for some, out in _between(positions, chosen.out[written:before]):
                left = slice(written + out.start, written + out.stop)
                rest = _left_out(fit, chosen, left, columns, given)
                places = np.append(positions[some], chosen.out[left])
                if len(rest):
                    both = pd.concat([fitted.iloc[some], rest])
                else:
                    both = fitted.iloc[some]
                yield both.iloc[np.argsort(places, kind="stable")]
                advance(len(both))
            written = before
        for start in range(written, len(chosen.out), STRETCH):
            rest = _left_out(fit, chosen, slice(start, start + STRETCH), columns, given)
            yield rest
            advance(len(rest))


def _between(positions: np.ndarray, out: np.ndarray) -> Iterator[tuple[slice, slice]]:
    """Yield which fitted rows go with which rows left out among them, a bounded number at once."""
    first = 0
    for start in range(0, max(len(out), 1), STRETCH):
        stop = min(start + STRETCH, len(out))
        ends = stop == len(out)
        if ends:
            last = len(positions)
        else:
            last = int(np.searchsorted(positions, out[stop - 1]))
        yield slice(first, last), slice(start, stop)
        first = last


def _left_out(
    fit: Fitted, chosen: UsedRows, some: slice, columns: list[str], given: object
) -> pd.DataFrame:
    """Return some of the rows left out, with the columns of the fitted ones."""
    table, _ = rows_at_hand(fit)
    out = chosen.out[some]
    rest = left_out_columns(fit, out, chosen.reasons[some])
    nothing = np.full(len(out), np.nan)
    items = {column: rest.get(column, nothing) for column in columns}
    return _frame(given, list(table.labels(out)), items)


def _frame(given: object, labels: list[Any], columns: dict[str, Any]) -> pd.DataFrame:
    return pd.DataFrame({label_column(given, columns): plain_labels(labels)} | columns)
