"""Records of a table, however it comes."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.columns import column_name
from joinery.data.contents import is_open_file
from joinery.data.manner import Manner
from joinery.data.reading import read, read_like, sample_data
from joinery.data.records import Records
from joinery.data.sources.opening import opened, read_all
from joinery.data.sources.source import (
    Source,
    is_held,
)
from joinery.support.errors import (
    DataError,
    EmptyTableError,
    UnequalLengthsError,
    listed,
)


def records(data: Any, id: str | None = None, like: Manner | None = None) -> Records:
    """Return whatever holds a table, as Records.

    Parameters: ``data`` a DataFrame; a dict of lists; anything that hands out an Arrow stream; a
    path; ``"sample:yields"``; a source, which is read as it is used unless it is small. ``like``:
    how the table was read to which a model was fitted, where these are new rows. Raises DataError
    and its kind when there is no usable table in it."""
    if isinstance(data, Records):
        table: Records = data if like is None or data.like is not None else data.read_like(like)
        if id is None:
            return table
        return table.labelled(id)
    source = opened(data)
    if source is not None and not is_held(source):
        return _streamed(source, id, like)
    frame, name = (
        _frame(data, like) if source is None or _is_file(data) else (read_all(source), source.name)
    )
    given = frame.columns.tolist()
    names = [column_name(c) for c in given]
    if (
        (twice := sorted({n for n in names if names.count(n) > 1}))
        if len(set(names)) < len(names)
        else []
    ):
        raise DataError(
            f"column {listed(map(repr, twice))} stands twice in the table; give each column a "
            "name of its own"
        )
    if names != given:
        frame = frame.set_axis(names, axis="columns")
    if not len(frame.columns):
        raise EmptyTableError("the table has no columns")
    if not len(frame):
        raise EmptyTableError(
            f"the table has no rows; its columns are {listed(names, 12)}", columns=names
        )
    return Records(frame, name, id, names, like=like)


def _is_file(data: Any) -> bool:
    """Return True if it is the path of one file, which ``read`` tidies as well."""
    return isinstance(data, (str, os.PathLike)) and os.path.isfile(data)


def _streamed(source: Source, id: str | None, like: Manner | None) -> Records:
    """Return a table whose rows stay where they are."""
    names = [n for n in source.schema.names if not n.startswith("__index_level_")]
    rows = sum(source.lengths)
    if not rows:
        raise EmptyTableError(
            f"the table has no rows; its columns are {listed(names, 12)}", columns=names
        )
    return Records(
        pd.DataFrame(index=pd.RangeIndex(rows)), source.name, id, names, (), source, like
    )


def _frame(data: Any, like: Manner | None) -> tuple[pd.DataFrame, str]:
    if isinstance(data, pd.DataFrame):
        return data, ""
    if isinstance(data, pd.Series):
        raise DataError("a Series is one column, not a table; give a DataFrame: series.to_frame()")
    if isinstance(data, (str, os.PathLike)):
        text = os.fspath(data)
        if isinstance(text, str) and text.startswith("sample:"):
            return sample_data(text.removeprefix("sample:")), text
        if like is None:
            return read(text), os.fsdecode(text)
        return read_like(text, like.marks.decimal, like.levels), os.fsdecode(text)
    if isinstance(data, Mapping):
        return _from_mapping(data), ""
    if is_open_file(data):
        return read(data), ""
    if isinstance(data, (list, tuple)) and data and all(isinstance(r, Mapping) for r in data):
        return pd.DataFrame(list(data)), ""
    if hasattr(data, "collect") and not hasattr(data, "__arrow_c_stream__"):
        data = _collected(data)
    if hasattr(data, "__arrow_c_stream__"):
        return _from_arrow(data), ""
    raise DataError(
        f"a table cannot be made from {type(data).__name__}; give a DataFrame, a dict of lists, a "
        "list of dicts, a path, an open file, or "
        'anything that hands out an Arrow stream, or "sample:yields"'
    )


def _collected(data: Any) -> Any:
    """Return what a table that is not worked out yet comes to."""
    try:
        return data.collect()
    except Exception as reason:  # it is another library's: anything may come out of it
        words = str(reason).split("\n")[0]
        raise DataError(f"{type(data).__name__} cannot be worked out: {words}") from None


def _from_arrow(data: Any) -> pd.DataFrame:
    """Return a frame of whatever hands out an Arrow stream of rows."""
    import pyarrow as pa

    try:
        return pa.table(data).to_pandas()
    except Exception as reason:  # the stream is another library's: anything may come out of it
        words = str(reason).split("\n")[0]
        raise DataError(
            f"the Arrow stream of {type(data).__name__} cannot be read: {words}"
        ) from None


def _from_mapping(data: Mapping[Any, Any]) -> pd.DataFrame:
    lengths = {
        str(k): len(v)
        for k, v in data.items()
        if hasattr(v, "__len__") and not isinstance(v, str) and np.ndim(v) > 0
    }
    if len(set(lengths.values())) > 1:
        a = next(iter(lengths))
        b = next(k for k, n in lengths.items() if n != lengths[a])
        raise UnequalLengthsError(
            f"columns differ in length: {a!r} has length {lengths[a]}, {b!r} has {lengths[b]}; "
            "every column needs one value for each row",
            lengths=lengths,
        )
    rows = next(iter(lengths.values()), 1)
    wide = {
        k: v if str(k) in lengths else [v.item() if isinstance(v, np.ndarray) else v] * rows
        for k, v in data.items()
    }
    columns = {k: v if isinstance(v, (np.ndarray, pd.Series)) else list(v) for k, v in wide.items()}
    try:
        return pd.DataFrame(columns)
    except OverflowError:  # whole numbers beyond any float stay what they are
        return pd.DataFrame(columns, dtype=object)
