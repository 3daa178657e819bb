"""Parquet files, folders of them, and whatever pyarrow reads as a dataset."""

from __future__ import annotations

import os
import sys
import threading
from collections import Counter, OrderedDict, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.dataset as datasets
import pyarrow.parquet as parquet

from joinery.core.blocks.partition import Runner
from joinery.data.sources.source import STRETCH, refuse_too_large
from joinery.support import advice
from joinery.support.errors import DataError, EmptyTableError, FileFormatError, listed
from joinery.support.limits import GROUP_CELLS_KEPT, HELD_CELLS

Stamp = tuple[int, int]
PART_ROWS = 2**15  # rows up to which neighbouring row groups are one part


@dataclass(frozen=True)
class ArrowSource:
    """A pyarrow Dataset; its parts are the row groups of its files, in the files' order."""

    dataset: datasets.Dataset
    name: str
    keep: Any = None  # what must live as long as the files do
    apart = False
    stamps: dict[str, Stamp] = field(default_factory=dict)

    def __getstate__(self) -> dict[str, Any]:
        # another process must not take the files away, and has its own in memory
        return {k: v for k, v in self.__dict__.items() if k != "_small"} | {"keep": None}

    @property
    def runner(self) -> Runner | None:
        """Return what goes through the files on a cluster, where a client of one is active."""
        if "distributed" not in sys.modules:
            return None
        from joinery.data.sources.cluster import for_files

        return for_files()

    @property
    def schema(self) -> pa.Schema:
        return self.dataset.schema

    @cached_property
    def _parts(self) -> list[list[datasets.Fragment]]:
        """The row groups of each part: one, or neighbours that are small."""
        parts: list[list[datasets.Fragment]] = []
        rows = PART_ROWS
        for fragment in self.dataset.get_fragments():
            try:
                if isinstance(fragment, datasets.ParquetFileFragment):
                    result = fragment.split_by_row_group()
                else:
                    result = [fragment]
            except (pa.ArrowException, OSError) as reason:
                raise _unreadable(fragment, reason) from None
            for group in result:
                if not (length := _length(group)):
                    continue
                if rows + length > PART_ROWS:
                    parts.append([])
                    rows = 0
                parts[-1].append(group)
                rows += length
            path = getattr(fragment, "path", "")
            if path and Path(path).exists():
                self.stamps[path] = _stamp(path)
        return parts

    @cached_property
    def lengths(self) -> tuple[int, ...]:
        return tuple(sum(_length(group) for group in part) for part in self._parts)

    @cached_property
    def _small(self) -> SmallGroups:
        return SmallGroups(self._together)

    def expect(self, columns: Sequence[str]) -> None:
        if len(columns) * sum(self.lengths) <= GROUP_CELLS_KEPT:  # all of them can be kept
            self._small.expected = set(columns)

    def read(self, part: int, column: str) -> Iterator[pa.Array]:
        groups = self._parts[part]
        if len(groups) > 1:
            for group in {getattr(group, "path", ""): group for group in groups}.values():
                self._check_unchanged(group)
            yield from self._small.column(part, column)
            return
        (group,) = groups
        self._check_unchanged(group)
        try:
            if self._stands_plainly(group, [column]):
                for batch in _from_file(group, [column]):
                    yield batch.column(0)
                return
            scanner = group.scanner(
                schema=self.schema,
                columns=[column],
                batch_size=STRETCH,
                batch_readahead=1,
                fragment_readahead=1,
                use_threads=False,
            )
            for batch in scanner.to_batches():
                if len(batch):
                    yield batch.column(0)
        except (pa.ArrowException, OSError) as reason:
            raise _unreadable(group, reason) from None

    def _together(self, part: int, columns: list[str]) -> dict[str, list[pa.Array]]:
        """Return some columns of a part of small row groups, each in one array where that can
        be."""
        tables = [self._columns_of(group, columns) for group in self._parts[part]]
        return {name: _joined([t.column(name) for t in tables]) for name in columns}

    def _columns_of(self, group: datasets.Fragment, columns: list[str]) -> pa.Table:
        """Return some columns of a small row group."""
        try:
            if self._stands_plainly(group, columns):
                return pa.Table.from_batches(_from_file(group, columns))
            return group.to_table(schema=self.schema, columns=columns, use_threads=False)
        except (pa.ArrowException, OSError) as reason:
            raise _unreadable(group, reason) from None

    def _stands_plainly(self, group: datasets.Fragment, columns: list[str]) -> bool:
        """Return True if columns stand in a file on this machine as the table has them."""
        if getattr(group, "path", "") not in self.stamps:
            return False
        return all(_plainly(group, self.schema.field(column)) for column in columns)

    def _check_unchanged(self, group: datasets.Fragment) -> None:
        """Raise DataError where a file is no longer what it was, FileFormatError where gone."""
        path = getattr(group, "path", "")
        try:
            same = path not in self.stamps or self.stamps[path] == _stamp(path)
        except OSError as reason:
            raise _unreadable(group, reason) from None
        if not same:
            raise DataError(
                f"{path} was changed while its rows were in use; begin again with the table "
                "as it is now"
            )


class SmallGroups:
    """Parts of row groups too small to be opened for each column.

    The columns that other parts at hand are read for come with the one that is asked for, and the
    last parts are kept."""

    def __init__(self, read: Callable[[int, list[str]], dict[str, list[pa.Array]]]) -> None:
        self._read, self._lock, self._cells = read, threading.Lock(), 0
        self._reading: defaultdict[int, threading.Lock] = defaultdict(threading.Lock)
        self._kept: OrderedDict[int, tuple[dict[str, list[pa.Array]], set[str]]] = OrderedDict()
        self._asked: Counter[str] = Counter()  # of how many that are kept
        self.expected: set[str] = set()  # columns that are about to be asked for together

    def column(self, part: int, name: str) -> list[pa.Array]:
        """Return one column of a part; whoever else asks for one of it meanwhile waits."""
        with self._lock:
            reading = self._reading[part]
        with reading:
            with self._lock:
                columns, requested = self._kept.get(part, ({}, set()))
                if name in columns:
                    self._asked[name] += name not in requested
                    requested.add(name)
                    self._kept.move_to_end(part)
                    return columns[name]
                wanted = {name, *self._asked}
                if name in self.expected:
                    wanted |= self.expected
            columns = self._read(part, sorted(wanted))
            with self._lock:
                requested = self._dropped(part) | {name}
                self._kept[part] = columns, requested
                self._asked.update(requested)
                self._cells += _cells(columns)
                while self._cells > GROUP_CELLS_KEPT and len(self._kept) > 1:
                    self._dropped(next(iter(self._kept)))
            return columns[name]

    def _dropped(self, part: int) -> set[str]:
        """Keep a part no longer; what was asked of it."""
        if part not in self._kept:
            return set()
        columns, requested = self._kept.pop(part)
        self._cells -= _cells(columns)
        self._asked -= Counter(requested)
        return requested


def _cells(columns: dict[str, list[pa.Array]]) -> int:
    return sum(len(array) for arrays in columns.values() for array in arrays)


def _joined(columns: list[pa.ChunkedArray]) -> list[pa.Array]:
    """Return columns of several row groups as one array, or as they are where their types
    differ."""
    chunks = [chunk for column in columns for chunk in column.chunks]
    if any(chunk.type != chunks[0].type for chunk in chunks):
        return chunks
    return [pa.chunked_array(chunks).unify_dictionaries().combine_chunks()]


def _plainly(group: datasets.Fragment, field: pa.Field) -> bool:
    """Return True if a column stands in the file as the table has it."""
    if not isinstance(group, datasets.ParquetFileFragment):
        return False
    result = group.physical_schema
    return field.name in result.names and result.field(field.name).type == field.type


def _from_file(group: datasets.ParquetFileFragment, columns: list[str]) -> Iterator[pa.RecordBatch]:
    """Yield columns of a row group, straight from the file; texts by their dictionary."""
    member = group.physical_schema
    file = parquet.ParquetFile(
        group.path,
        metadata=group.metadata,
        memory_map=True,
        read_dictionary=[name for name in columns if pa.types.is_string(member.field(name).type)],
    )
    with file:
        for batch in file.iter_batches(
            STRETCH, [member.id for member in group.row_groups], columns, use_threads=False
        ):
            if len(batch):
                yield batch


def _stamp(path: str) -> Stamp:
    result = os.stat(path)
    return result.st_mtime_ns, result.st_size


def _length(group: datasets.Fragment) -> int:
    try:
        if isinstance(group, datasets.ParquetFileFragment):
            return sum(int(member.num_rows) for member in group.row_groups)
        return int(group.count_rows())
    except (pa.ArrowException, OSError) as reason:
        raise _unreadable(group, reason) from None


def _unreadable(fragment: datasets.Fragment, reason: Exception) -> FileFormatError:
    path = getattr(fragment, "path", "a part of the table")
    words = str(reason).strip().split("\n")[0]
    return FileFormatError(f"{path} cannot be read: {words}", path=str(path), reason=words)


def of_dataset(dataset: datasets.Dataset) -> ArrowSource:
    """Return a Dataset as a source; one that is filtered is read into memory first.

    Raises TooLargeError where that is more than is held."""
    try:
        next(iter(dataset.get_fragments()), None)
    except ValueError:
        rows, width = dataset.count_rows(), len(dataset.schema.names)
        if rows * width > HELD_CELLS:
            refuse_too_large(
                rows,
                HELD_CELLS // width,
                "a filtered dataset",
                f"use {advice.option('where')} instead",
            )
        dataset = datasets.dataset(dataset.to_table())
    return ArrowSource(dataset, "the dataset")


def of_files(files: Sequence[Path], name: str, root: Path | None = None) -> ArrowSource:
    """Return Parquet files as one table. Their columns are those of all, found by name.

    Raises FileFormatError for one that is no Parquet file, or whose columns do not go with the
    others'.
    """
    if not files:
        raise EmptyTableError(f"{name} holds no .parquet files")
    schemas = []
    for file in files:
        try:
            schemas.append(datasets.dataset(file, format="parquet").schema)
        except (pa.ArrowException, OSError) as reason:
            words = str(reason).strip().split("\n")[0]
            raise FileFormatError(
                f"{file} cannot be read as .parquet: {words}", path=str(file), reason=words
            ) from None
    names = [set(member.names) for member in schemas]
    lacking = set.union(*names) - set.intersection(*names)
    if lacking:
        some = next(f for f, member in zip(files, schemas) if not lacking <= set(member.names))
        raise FileFormatError(
            f"the files of {name} differ in their columns: {some} lacks "
            f"{listed(sorted(lacking - set(dict(zip(files, schemas))[some].names)))}",
            path=str(some),
        )
    try:
        schema = pa.unify_schemas([member.remove_metadata() for member in schemas],
                                  promote_options="permissive")  # fmt: skip
        partitioning = None
        if root is not None:
            partitioning = datasets.HivePartitioning.discover(infer_dictionary=False)
            full = datasets.dataset(
                [str(f) for f in files], format="parquet", partitioning=partitioning,
                partition_base_dir=str(root),
            )  # fmt: skip
            more = [f for f in full.schema if f.name not in schema.names]
            schema = pa.schema([*schema, *more])
        dataset = datasets.dataset(
            [str(f) for f in files], format="parquet", schema=schema, partitioning=partitioning,
            partition_base_dir=None if root is None else str(root),
        )  # fmt: skip
    except (pa.ArrowException, OSError) as reason:
        words = str(reason).strip().split("\n")[0]
        raise FileFormatError(f"the files of {name} do not go together: {words}") from None
    return ArrowSource(dataset, name)
