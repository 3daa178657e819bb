"""The rows table of any size, written to a file block by block."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.sources.source import STRETCH
from joinery.progress import counted
from joinery.show.names import label_column
from joinery.show.streamed import write_streamed
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.rows.digest import labels_of
from joinery.study.rows.figures import figures_in_blocks
from joinery.study.rows.table import left_out_columns, remarks, row_columns


def write_rows(fit: Fitted, path: str | os.PathLike[str]) -> Path:
    """See ``Fit.write_rows``."""
    return write_streamed(path, _stretches(fit))


def _stretches(fit: Fitted) -> Iterator[pd.DataFrame]:
    table, chosen = rows_at_hand(fit)
    given = table.id or table.index.name
    notable = remarks(fit)
    columns: list[str] = []
    with counted("rows written", chosen.total) as advance:
        for block, figures in figures_in_blocks(fit):
            own = row_columns(figures, notable, block.first)
            columns = list(own)
            labels = labels_of(fit, np.arange(block.own.start, block.own.stop))
            yield _frame(given, labels, own)
            advance(len(labels))
        for start in range(0, len(chosen.out), STRETCH):
            some = slice(start, start + STRETCH)
            out = chosen.out[some]
            rest = left_out_columns(fit, out, chosen.reasons[some])
            nothing = np.full(len(out), np.nan)
            own = {column: rest.get(column, nothing) for column in columns}
            yield _frame(given, list(table.labels(out)), own)
            advance(len(out))


def _frame(given: object, labels: list[Any], columns: dict[str, Any]) -> pd.DataFrame:
    return pd.DataFrame({label_column(given, columns): labels} | columns)
