"""A table from anywhere: named columns, labelled rows, and notes made while it came in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import pairwise
from typing import Any

import numpy as np
import pandas as pd

from joinery.core.blocks.partition import Runner
from joinery.data.column_kinds import understand
from joinery.data.columns import (
    EXACT_WHOLE,
    NOTES,
    UNITS,
    Column,
    Swept,
    TextReading,
    Values,
)
from joinery.data.manner import AS_IT_COMES, Manner
from joinery.data.marks import DECIMAL, is_text, settled, texts_of
from joinery.data.sources.cells import Cells
from joinery.data.sources.opening import read_all
from joinery.data.sources.source import (
    STRETCH,
    Source,
    is_held,
    is_written,
    looked_up,
    picked,
    refuse_too_large,
)
from joinery.notation.context import Rows, count_of, positions_at
from joinery.support import advice
from joinery.support.errors import (
    CallError,
    UnknownColumnError,
    UnusableColumnError,
    listed,
)
from joinery.support.labels import label_text

# of a table whose columns are looked at one by one sooner than threads are started
FEW_CELLS = 2000
NO_LABEL = "(none)"  # stands for the label of a row whose cell is empty
SPARSE = 8  # rows between labels from which on they are picked rather than read on
COPIES_ON_WRITE = int(pd.__version__.split(".", 1)[0]) >= 3


class Records:
    """A read-only view of a table: columns understood one by one when they are first asked for.

    The table is a ``frame``, or a ``source`` beside a frame of no columns that counts its rows."""

    def __init__(
        self,
        frame: pd.DataFrame,
        name: str = "",
        id: str | None = None,
        names: Sequence[str] | None = None,
        beside: Sequence[str] = (),
        source: Source | None = None,
        like: Manner | None = None,
    ) -> None:
        self._frame, self.name, self.id = frame, name, id
        self.like = like  # how the fitted table was read, where it is a table of new rows
        self.source = source  # where the rows lie, unless they are held in the frame
        self.beside = tuple(beside)  # columns that were given beside the table
        self.names: tuple[str, ...] = tuple(frame.columns.tolist() if names is None else names)
        self._known = frozenset(self.names)
        self.notes: tuple[str, ...] = tuple(frame.attrs.get(NOTES, ()))
        self.lags: dict[str, np.ndarray] = {}  # of some rows that are here without their neighbours
        self._columns: dict[str, Column] = {}
        self._passes = 0
        if id is not None and id not in self._known:
            raise UnknownColumnError(str(id), self.names, where=f" for {advice.option('id')}")

    def __len__(self) -> int:
        return len(self._frame)

    @property
    def frame(self) -> pd.DataFrame:
        """The rows as a frame; of a source, read anew. Raises TooLargeError for too many."""
        if self.source is None:
            return self._frame
        if not is_held(self.source, apart=True):
            refuse_too_large(len(self), 0, "this question", "use a sample of the rows")
        frame = read_all(self.source)
        return with_columns(frame, {n: self._frame[n].to_numpy() for n in self.beside})

    @property
    def index(self) -> pd.Index:
        """Return what labels the rows: the id column, or the frame's own index."""
        if self.id is None:
            return self._frame.index
        if self._held(self.id):
            return pd.Index(_labels_of(self._frame[self.id]), name=self.id)
        return pd.Index(self._id_cells[:].tolist(), name=self.id)

    @property
    def read_as_needed(self) -> bool:
        """Return True if its rows are read when they are asked for."""
        return self.source is not None

    def next_pass(self) -> int:
        """Return the number of a pass over its rows that begins now."""
        self._passes += 1
        return self._passes

    @property
    def runner(self) -> Runner | None:
        """Return what goes through the rows where they lie; None for this process's own threads."""
        return getattr(self.source, "runner", None)

    @property
    def apart(self) -> bool:
        """Return True if its rows lie on several machines."""
        return self.source is not None and self.source.apart

    def cuts(self, rows: Rows, size: int) -> np.ndarray:
        """Return where some rows are cut into blocks of ``size``: counts of rows, from 0 to all
        of them.

        Blocks of rows that lie on several machines end where their parts do.
        """
        total = self.count(rows)
        ends = np.array([0, total])
        if 0 < total <= size and not self.apart:
            return ends
        if self.apart:
            assert self.source is not None
            ends = np.cumsum((0, *self.source.lengths))
            ends = np.unique(ends if isinstance(rows, slice) else np.searchsorted(rows, ends))
        pieces = [np.arange(a, b, size) for a, b in pairwise(ends.tolist())]
        return np.append(np.concatenate([*pieces, np.empty(0, int)]), total).astype(int)

    def count(self, rows: Rows) -> int:
        """Return how many rows of the table are wanted."""
        return count_of(rows, len(self))

    def runner_of(self, rows: Rows, cuts: np.ndarray) -> Runner | None:
        """Return what goes through blocks of some rows, cut like this, where they lie."""
        runner = self.runner
        if self.source is None or runner is None:
            return None
        ends = np.cumsum(self.source.lengths)
        firsts = positions_at(rows, cuts[:-1])
        return runner.of(np.searchsorted(ends, firsts, side="right").tolist())

    def _held(self, name: str) -> bool:
        """Return True if a column stands in the frame."""
        return self.source is None or name in self.beside

    @cached_property
    def _id_cells(self) -> Cells:
        """The id column of a source as it is, read on from where the last labels were."""
        from joinery.data.sources.typed import as_they_are

        assert self.source is not None
        assert self.id is not None
        return Cells(self.source, self.id, as_they_are, object)

    def kept(self) -> Records:
        """Return the same table, out of reach of later edits of the caller's frame.

        Where pandas copies on write nothing is copied yet; elsewhere the cells are. A source
        stays where it is.
        """
        if self.source is not None:
            return self
        frame = self.frame.copy(deep=not COPIES_ON_WRITE)
        frame.attrs = self.frame.attrs
        return self._with(frame)

    def with_column(self, name: str, values: Any) -> Records:
        """Return the same table with a column that was given beside it, a value for each row."""
        frame = with_columns(self._frame, {name: values})
        frame.attrs = self._frame.attrs
        names, beside = (*self.names, name), (*self.beside, name)
        return Records(frame, self.name, self.id, names, beside, self.source, self.like)

    def labelled(self, id: str) -> Records:
        """Return the same table with a column of labels."""
        return Records(self._frame, self.name, id, self.names, self.beside, self.source, self.like)

    def read_like(self, like: Manner) -> Records:
        """Return the same table, its texts read as those of a fitted table were."""
        if self.like == like:
            return self
        out = self.same()
        out.like = like
        return out

    def _with(self, frame: pd.DataFrame) -> Records:
        """Return another frame in place of this one, of the same columns."""
        return Records(frame, self.name, self.id, self.names, self.beside, like=self.like)

    def same(self) -> Records:
        """Return another view of the same table, with the columns that are understood already."""
        out = Records(
            self._frame, self.name, self.id, self.names, self.beside, self.source, self.like
        )
        out._columns, out.lags = dict(self._columns), self.lags
        return out

    def stretch(self, rows: slice, names: Sequence[str]) -> Records:
        """Return some rows of some columns as a table of their own, labelled by their numbers."""
        start, stop, _ = rows.indices(len(self))
        labelled = pd.DataFrame(index=pd.RangeIndex(start, stop))
        out = Records(labelled, self.name, names=names, like=self.like)
        for name in names:
            column = self.column(name)
            if column.values is None:
                values = None
            else:
                values = column.values[rows]
            if column.coded is None:
                coded = None
            else:
                coded = column.coded[rows]
            out._columns[name] = replace(
                column, values=values, coded=coded, label_rows=out.labels, swept=None
            )
        return out

    def some(self, positions: np.ndarray, names: Sequence[str], labels: Sequence[Any]) -> Records:
        """Return some rows, in the table's order, of some columns as a table in memory, so
        labelled."""
        out = Records(pd.DataFrame(index=pd.Index(labels)), self.name, names=names)
        ends = np.searchsorted(positions, np.arange(0, len(self) + STRETCH, STRETCH))
        for name in names:
            column = self.column(name)

            def taken(cells: Any) -> Any:
                if cells is None:
                    return None
                return np.concatenate(
                    [cells[positions[a:b]] for a, b in pairwise(ends.tolist()) if b > a]
                )

            values, coded = taken(column.values), taken(column.coded)
            out._columns[name] = replace(
                column, values=values, coded=coded, label_rows=out.labels, swept=None
            )
        return out

    def expect(self, names: Sequence[str]) -> None:
        """Be told that some columns are about to be read side by side."""
        if self.source is not None:
            self.source.expect([name for name in names if not self._held(name)])

    def keep_sweeps(self, swept: Mapping[str, Swept]) -> None:
        """Keep what a pass over all cells of some columns found."""
        for name, member in swept.items():
            self._columns[name] = replace(self.column(name), swept=member)

    def replaced(self, name: str, values: np.ndarray) -> Records:
        """Return the same table with other numbers in one column."""
        if name in self._known:
            names = self.names
        else:
            names = (*self.names, name)
        out = Records(self._frame, self.name, self.id, names, self.beside, self.source, self.like)
        out._columns = {
            **self._columns,
            name: Column(name, "number", values, None, (), self.labels),
        }
        out.lags = self.lags
        return out

    def picked(self, rows: Rows) -> Records:
        """Return some of the rows, held in memory."""
        out = Records(self.frame.iloc[rows], self.name, self.id, like=self.manner)
        out.lags = {name: values[rows] for name, values in self.lags.items()}
        return out

    def assigned(self, columns: Mapping[str, Any]) -> Records:
        """Return the same rows, held in memory, with more columns or others."""
        frame = with_columns(self.frame, columns)
        out = Records(frame, self.name, self.id, like=self.like)
        out.lags = dict(self.lags)
        return out

    def labels(self, positions: np.ndarray) -> Sequence[Any]:
        """Return labels of rows by position."""
        if self.id is not None and not self._held(self.id):
            if len(positions) and np.ptp(positions) > SPARSE * len(positions):
                assert self.source is not None
                return picked(self.source, self.id, positions)
            return list(self._id_cells[positions].tolist())
        return _plain(self.index.take(positions))

    def positions(self, labels: Sequence[Any]) -> np.ndarray:
        """Return positions of labelled rows. A label may be written as text.

        Raises CallError for one that is not there.
        """
        keys = [label_text(label) for label in labels]
        result = self._where(keys)
        for label, key in zip(labels, keys, strict=True):
            if key not in result:
                raise CallError(
                    f"no row is labelled {label!r}; rows are labelled "
                    f"{listed(self.labels(np.arange(min(3, len(self)))))}, …"
                    + (
                        "" if self.id else f"; name the column of labels with {advice.option('id')}"
                    ),
                    argument="leave_out",
                )
        if keys:
            return np.concatenate([result[key] for key in keys])
        return np.empty(0, dtype=int)

    def _where(self, keys: Sequence[str]) -> dict[str, np.ndarray]:
        """Return the positions of rows by their label's text, those that are there."""
        indices = self.id is None and isinstance(self._frame.index, pd.RangeIndex)
        if indices and self._frame.index.equals(pd.RangeIndex(len(self))):
            numbers = {key: int(key) for key in keys if key.isdecimal() and int(key) < len(self)}
            return {key: np.array([n]) for key, n in numbers.items() if str(n) == key}
        streamed = self.id is not None and not self._held(self.id)
        if self.source is not None and self.id and streamed and is_written(self.source, self.id):
            return looked_up(self.source, self.id, keys)
        index = self.index
        places = pd.Series(
            np.arange(len(index)), index=pd.Index([label_text(v) for v in index.tolist()])
        )
        return {key: np.atleast_1d(places[key]) for key in keys if key in places.index}

    def column(self, name: str) -> Column:
        """Return a column by name. Raises UnknownColumnError, with the nearest name."""
        if name not in self._columns:
            if name not in self._known:
                raise UnknownColumnError(name, self.names)
            numbers = self._numbers
            if self.source is not None and not self._held(name):
                from joinery.data.sources.typed import typed_column

                self._columns[name] = typed_column(
                    self.source, name, self.labels, self.runner, self._text_reading(name)
                )
            elif numbers is None:
                frame, reading = self._frame, self._text_reading(name)
                self._columns[name] = understand(name, frame[name], self.labels, reading)
            else:
                values = numbers[:, self.names.index(name)]
                self._columns[name] = Column(name, "number", values, None, (), self.labels)
        if self.like is not None and self.like.units:
            self._check_unit(name, self.like.units.get(name, ""))
        return self._columns[name]

    def unit_of(self, name: str) -> str:
        """Return the unit or currency that a column's numbers were written with, where one was."""
        read: str = self._frame.attrs.get(UNITS, {}).get(name, "")
        return self._columns[name].unit or read

    def _check_unit(self, name: str, fitted: str) -> None:
        """Raise UnusableColumnError where new rows are written in another unit than the fitted
        ones."""
        unit = self.unit_of(name)
        if unit and fitted and unit != fitted:
            raise UnusableColumnError(
                f"column {name!r} is written in {unit}, where the fitted table has {fitted}; "
                "bring it to that unit",
                column=name,
            )

    def _text_reading(self, name: str) -> TextReading:
        """Return how the texts of a column are read."""
        if self.like is not None and name in self.like.levels:
            return TextReading(as_levels=True)
        if self.source is not None and not self._held(name):  # its texts are not all at hand
            return TextReading()
        return TextReading(lambda: self.manner.marks)

    @cached_property
    def manner(self) -> Manner:
        """Return how its texts are read: as those of a fitted table, or by the marks of all its
        texts."""
        like = self.like or Manner()
        marks = self._frame.attrs.get(DECIMAL)
        if marks is None and like.marks.certain:
            marks = like.marks
        if marks is None:
            marks = settled(texts_of(self._frame), like.marks.decimal)
        return Manner(marks, like.levels, like.units)

    def manner_for(self, names: Sequence[str]) -> Manner:
        """Return how its texts are read, if some of these columns are texts that are read as
        numbers.

        Else all texts of the table need not be gone through."""
        if DECIMAL in self._frame.attrs:
            return self.manner
        if self._numbers is not None:  # known at once, where looking at each column takes longer
            return AS_IT_COMES
        held = [name for name in names if self._held(name) and name in self._frame]
        numbers = [name for name in held if self.column(name).values is not None]
        texts = [name for name in numbers if is_text(self._frame[name])]
        if texts:
            return self.manner
        return AS_IT_COMES

    @cached_property
    def _numbers(self) -> np.ndarray | None:
        """The cells of a small table of numbers, much faster at once than column by column."""
        if self.source is not None or len(self) * len(self.names) > FEW_CELLS:
            return None
        cells = self._frame.to_numpy()
        if cells.dtype != np.float64:
            return None
        large = np.abs(cells) > EXACT_WHOLE  # whole numbers may have been rounded to doubles
        return None if large.any() else cells


def _labels_of(column: pd.Series) -> pd.Series:
    """Return a column of labels; whole numbers beside empty cells stay whole: 101, not 101.0."""
    if column.dtype.kind != "f" or not column.isna().any():
        return column
    known = column.dropna()
    if not (np.isfinite(known).all() and (known % 1 == 0).all()):
        return column
    return column.map(lambda v: NO_LABEL if np.isnan(v) else int(v)).astype(object)


def _plain(labels: pd.Index) -> list[Any]:
    """Return labels as plain values, dates as they are written."""
    if isinstance(labels, pd.DatetimeIndex):
        return [label_text(label) for label in labels]
    return list(labels.tolist())


def with_columns(frame: pd.DataFrame, columns: Mapping[str, Any]) -> pd.DataFrame:
    """Return a frame with more columns, or others; they may be called anything, ``self`` too."""
    out, fresh = frame.copy(deep=False), {}
    for name, values in columns.items():
        if name in frame.columns:
            out[name] = values
        else:
            fresh[name] = values
    if fresh:  # together: hundreds put in one by one take long
        out = pd.concat([out, pd.DataFrame(fresh, index=frame.index)], axis="columns")
        out.attrs = frame.attrs
    return out


def filled(table: Records, means: Mapping[str, float]) -> Records:
    """Return the same table with missing cells of some number columns filled."""
    if not means:
        return table
    copy = table.same()
    for name, mean in means.items():
        if name in table.names:
            column = table.column(name)
            values = column.values
            if isinstance(values, Cells):
                filled_in: Values = values.filled(mean)
            else:
                filled_in = column.numbers(slice(None))
                filled_in = np.where(np.isnan(filled_in), mean, filled_in)
            copy._columns[name] = replace(column, values=filled_in, swept=None)
    return copy
