"""Forecasts of a table of any size, written to a file a stretch of rows at a time."""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.any_table import records
from joinery.data.records import Records
from joinery.data.sources.source import STRETCH
from joinery.notation.walk import named_in, names_in
from joinery.show.names import label_column
from joinery.show.streamed import write_streamed
from joinery.study.fitted import Fitted
from joinery.study.forecast.notes import needed_columns
from joinery.study.forecast.table import forecast
from joinery.study.held import lags_of
from joinery.support.labels import plain_labels
from joinery.support.progress import counted

JUDGED = ("observed", "error", "inside")
WORDS = ("note",)


def write_forecasts(
    fit: Fitted,
    new: Any,
    path: str | os.PathLike[str],
    *,
    level: float | None = None,
    intervals: str = "model",
) -> Path:
    """See ``Fit.write_forecasts``."""
    table = records(new, like=fit.design.manner)
    if fit.options.id is not None and fit.options.id in table.names:
        table = records(table, fit.options.id)
    return write_streamed(path, _stretches(fit, table, level, intervals))


def _stretches(
    fit: Fitted, table: Records, level: float | None, intervals: str
) -> Iterator[pd.DataFrame]:
    response = set(named_in(fit.response.expressions))
    wanted = [n for n in table.names if n in {*needed_columns(fit), *response}]
    lags = lags_of(fit, table)
    judged = {n.name for n in names_in(fit.response.expression)} <= set(wanted)
    cuts = table.cuts(slice(None), STRETCH // 4).tolist()  # of which many columns are made
    with counted("rows forecast", len(table)) as advance:
        for start, stop in pairwise(cuts):
            some = table.stretch(slice(start, stop), wanted)
            some.lags = {text: values[start:stop] for text, values in lags.items()}
            result = forecast(fit, some, level=level, intervals=intervals).frame
            labels = list(table.labels(np.arange(start, stop)))
            columns = {c: result[c].to_numpy() for c in result}
            if judged:  # also where none of these rows has its response
                nothing = np.full(stop - start, np.nan)
                columns |= {c: columns.get(c, nothing) for c in JUDGED}
                columns["note"] = columns.pop("note")
            words: dict[str, Any] = {c: pd.array(columns[c], dtype="str") for c in WORDS}
            if judged:
                flags = [v if isinstance(v, bool) else None for v in columns["inside"].tolist()]
                words["inside"] = pd.array(flags, dtype="boolean")
            name = label_column(table.id or table.index.name, columns)
            yield pd.DataFrame({name: plain_labels(labels)} | columns | words)
            advance(stop - start)
