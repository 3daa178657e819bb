"""A table from anywhere: named columns, labelled rows, and notes made while it came in."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from joinery import advice
from joinery.data.columns import NOTES, Column, column_name, understand
from joinery.data.reading import read, sample_data
from joinery.errors import (
    CallError,
    DataError,
    EmptyTableError,
    UnequalLengthsError,
    UnknownColumnError,
    listed,
)

FEW_CELLS = 2000
COPIES_ON_WRITE = int(pd.__version__.split(".", 1)[0]) >= 3


class Records:
    """A read-only view of a table: columns understood one by one when they are first asked for."""

    def __init__(
        self,
        frame: pd.DataFrame,
        name: str = "",
        id: str | None = None,
        names: Sequence[str] | None = None,
        beside: Sequence[str] = (),
    ) -> None:
        self.frame, self.name, self.id = frame, name, id
        self.beside = tuple(beside)  # columns that were given beside the table
        self.names: tuple[str, ...] = tuple(frame.columns.tolist() if names is None else names)
        self._known = frozenset(self.names)
        self.notes: tuple[str, ...] = tuple(frame.attrs.get(NOTES, ()))
        self._columns: dict[str, Column] = {}
        if id is not None and id not in self._known:
            raise UnknownColumnError(str(id), self.names, where=f" for {advice.option('id')}")

    def __len__(self) -> int:
        return len(self.frame)

    @property
    def index(self) -> pd.Index:
        """What labels the rows: the id column, or the frame's own index."""
        if self.id is None:
            return self.frame.index
        return pd.Index(self.frame[self.id], name=self.id)

    def kept(self) -> Records:
        """The same table, out of reach of later edits of the caller's frame.

        Where pandas copies on write nothing is copied yet; elsewhere the cells are.
        """
        frame = self.frame.copy(deep=not COPIES_ON_WRITE)
        frame.attrs = self.frame.attrs
        return Records(frame, self.name, self.id, self.names, self.beside)

    def with_column(self, name: str, values: Any) -> Records:
        """The same table with a column that was given beside it, a value for each row."""
        frame = self.frame.assign(**{name: values})
        frame.attrs = self.frame.attrs
        return Records(frame, self.name, self.id, (*self.names, name), (*self.beside, name))

    def replaced(self, name: str, values: np.ndarray) -> Records:
        """The same table with other numbers in one column."""
        names = self.names if name in self._known else (*self.names, name)
        out = Records(self.frame, self.name, self.id, names, self.beside)
        out._columns = {
            **self._columns,
            name: Column(name, "number", values, None, (), self.labels),
        }
        return out

    def labels(self, positions: np.ndarray) -> Sequence[Any]:
        """Labels of rows by position."""
        return list(self.index[positions].tolist())

    def positions(self, labels: Sequence[Any]) -> np.ndarray:
        """Positions of labelled rows. A label may be written as text.

        Raises CallError for one that is not there.
        """
        index = self.index
        by_text = pd.Series(
            np.arange(len(index)), index=pd.Index([_label_text(v) for v in index.tolist()])
        )
        places = []
        for label in labels:
            key = _label_text(label)
            if key not in by_text.index:
                raise CallError(
                    f"no row is labelled {label!r}; rows are labelled "
                    f"{listed(index[:3].tolist())}, …"
                    + (
                        "" if self.id else f"; name the column of labels with {advice.option('id')}"
                    ),
                    argument="leave_out",
                )
            places.append(np.atleast_1d(by_text[key]))
        return np.concatenate(places) if places else np.empty(0, dtype=int)

    def column(self, name: str) -> Column:
        """A column by name. Raises UnknownColumnError, with the nearest name."""
        if name not in self._columns:
            if name not in self._known:
                raise UnknownColumnError(name, self.names)
            numbers = self._numbers
            if numbers is None:
                self._columns[name] = understand(name, self.frame[name], self.labels)
            else:
                values = numbers[:, self.names.index(name)]
                self._columns[name] = Column(name, "number", values, None, (), self.labels)
        return self._columns[name]

    @cached_property
    def _numbers(self) -> np.ndarray | None:
        """The cells of a small table of numbers, much faster at once than column by column."""
        if len(self.frame) * len(self.names) > FEW_CELLS:
            return None
        cells = self.frame.to_numpy()
        return cells if cells.dtype == np.float64 else None


def _label_text(label: Any) -> str:
    """A row label as text, the same for a NumPy scalar and a plain one."""
    if isinstance(label, tuple):
        return str(tuple(_label_text(part) for part in label))
    return str(label.item() if isinstance(label, np.generic) else label)


def filled(table: Records, means: Mapping[str, float]) -> Records:
    """The same table with missing cells of some number columns filled."""
    if not means:
        return table
    copy = Records(table.frame, table.name, table.id, table.names, table.beside)
    copy._columns = dict(table._columns)
    for name, mean in means.items():
        if name in table.names:
            values = table.column(name).numbers(slice(None))
            copy._columns[name] = replace(
                table.column(name), values=np.where(np.isnan(values), mean, values)
            )
    return copy


def records(data: Any, id: str | None = None) -> Records:
    """Whatever holds a table, as Records.

    ``data``: a DataFrame; a dict of lists; anything that hands out an Arrow stream; a path;
    ``"sample:yields"``. Raises DataError and its kind when there is no usable table in it."""
    if isinstance(data, Records):
        return data if id is None else Records(data.frame, data.name, id, beside=data.beside)
    frame, name = _frame(data)
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
    return Records(frame, name, id, names)


def _frame(data: Any) -> tuple[pd.DataFrame, str]:
    if isinstance(data, pd.DataFrame):
        return data, ""
    if isinstance(data, (str, os.PathLike)):
        text = os.fspath(data)
        if isinstance(text, str) and text.startswith("sample:"):
            return sample_data(text.removeprefix("sample:")), text
        return read(text), os.fsdecode(text)
    if isinstance(data, Mapping):
        return _from_mapping(data), ""
    if hasattr(data, "__arrow_c_stream__"):
        return _from_arrow(data), ""
    raise DataError(
        f"a table cannot be made of {type(data).__name__}; give a DataFrame, a dict of lists, a "
        "path, or "
        'anything that hands out an Arrow stream, or "sample:yields"'
    )


def _from_arrow(data: Any) -> pd.DataFrame:
    """A frame of whatever hands out an Arrow stream of rows."""
    import pyarrow as pa

    if isinstance(data, pd.Series):
        raise DataError("a Series is one column, not a table; give a DataFrame: series.to_frame()")
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
            f"columns differ in length: {a!r} has {lengths[a]} values, {b!r} has {lengths[b]}; "
            "every column needs one value for each row",
            lengths=lengths,
        )
    rows = next(iter(lengths.values()), 1)
    wide = {
        k: v if str(k) in lengths else [v.item() if isinstance(v, np.ndarray) else v] * rows
        for k, v in data.items()
    }
    return pd.DataFrame(
        {k: v if isinstance(v, (np.ndarray, pd.Series)) else list(v) for k, v in wide.items()}
    )
