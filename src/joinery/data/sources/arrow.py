"""Parquet files, folders of them, and whatever pyarrow reads as a dataset."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.dataset as datasets
import pyarrow.parquet as parquet

from joinery.core.blocks.partition import Runner
from joinery.data.sources.source import STRETCH
from joinery.errors import DataError, EmptyTableError, FileFormatError, listed

Stamp = tuple[int, int]


@dataclass(frozen=True)
class ArrowSource:
    """A pyarrow Dataset; its parts are the row groups of its files, in the files' order."""

    dataset: datasets.Dataset
    name: str
    keep: Any = None  # what must live as long as the files do
    apart = False
    stamps: dict[str, Stamp] = field(default_factory=dict)

    def __getstate__(self) -> dict[str, Any]:
        return self.__dict__ | {"keep": None}  # another process must not take the files away

    @property
    def runner(self) -> Runner | None:
        """What goes through the files on a cluster, where a client of one is active."""
        if "distributed" not in sys.modules:
            return None
        from joinery.data.sources.cluster import for_files

        return for_files()

    @property
    def schema(self) -> pa.Schema:
        return self.dataset.schema

    @cached_property
    def _groups(self) -> list[datasets.Fragment]:
        groups: list[datasets.Fragment] = []
        for fragment in self.dataset.get_fragments():
            try:
                own = (
                    fragment.split_by_row_group()
                    if isinstance(fragment, datasets.ParquetFileFragment)
                    else [fragment]
                )
                groups += own
            except (pa.ArrowException, OSError) as reason:
                raise _unreadable(fragment, reason) from None
            path = getattr(fragment, "path", "")
            if path and Path(path).exists():
                self.stamps[path] = _stamp(path)
        return groups

    @cached_property
    def lengths(self) -> tuple[int, ...]:
        return tuple(_length(group) for group in self._groups)

    def read(self, part: int, column: str) -> Iterator[pa.Array]:
        group = self._groups[part]
        path = getattr(group, "path", "")
        try:
            if path in self.stamps and self.stamps[path] != _stamp(path):
                raise DataError(
                    f"{path} was changed while its rows were in use; begin again with the table "
                    "as it is now"
                )
            if path in self.stamps and _plainly(group, self.schema.field(column)):
                yield from _from_file(path, group, column)
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


def _plainly(group: datasets.Fragment, field: pa.Field) -> bool:
    """Whether a column stands in the file as the table has it."""
    if not isinstance(group, datasets.ParquetFileFragment):
        return False
    own = group.physical_schema
    return field.name in own.names and own.field(field.name).type == field.type


def _from_file(path: str, group: datasets.ParquetFileFragment, column: str) -> Iterator[pa.Array]:
    """A column of a row group, straight from the file; texts by their dictionary."""
    text = pa.types.is_string(group.physical_schema.field(column).type)
    file = parquet.ParquetFile(
        path,
        metadata=group.metadata,
        memory_map=True,
        read_dictionary=[column] if text else None,
    )
    with file:
        for batch in file.iter_batches(
            STRETCH, [own.id for own in group.row_groups], [column], use_threads=False
        ):
            if len(batch):
                yield batch.column(0)


def _stamp(path: str) -> Stamp:
    found = Path(path).stat()
    return found.st_mtime_ns, found.st_size


def _length(group: datasets.Fragment) -> int:
    try:
        if isinstance(group, datasets.ParquetFileFragment):
            return sum(int(own.num_rows) for own in group.row_groups)
        return int(group.count_rows())
    except (pa.ArrowException, OSError) as reason:
        raise _unreadable(group, reason) from None


def _unreadable(fragment: datasets.Fragment, reason: Exception) -> FileFormatError:
    path = getattr(fragment, "path", "a part of the table")
    words = str(reason).strip().split("\n")[0]
    return FileFormatError(f"{path} cannot be read: {words}", path=str(path), reason=words)


def of_files(files: Sequence[Path], name: str, root: Path | None = None) -> ArrowSource:
    """Parquet files as one table. Their columns are those of all, found by name.

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
    lacking = {n for own in schemas for other in schemas for n in set(own.names) - set(other.names)}
    if lacking:
        some = next(f for f, own in zip(files, schemas) if not lacking <= set(own.names))
        raise FileFormatError(
            f"the files of {name} differ in their columns: {some} lacks "
            f"{listed(sorted(lacking - set(dict(zip(files, schemas))[some].names)))}",
            path=str(some),
        )
    try:
        schema = pa.unify_schemas([own.remove_metadata() for own in schemas],
                                  promote_options="permissive")  # fmt: skip
        partitioning = None
        if root is not None:
            partitioning = datasets.HivePartitioning.discover(infer_dictionary=False)
            whole = datasets.dataset(
                [str(f) for f in files], format="parquet", partitioning=partitioning,
                partition_base_dir=str(root),
            )  # fmt: skip
            more = [f for f in whole.schema if f.name not in schema.names]
            schema = pa.schema([*schema, *more])
        dataset = datasets.dataset(
            [str(f) for f in files], format="parquet", schema=schema, partitioning=partitioning,
            partition_base_dir=None if root is None else str(root),
        )  # fmt: skip
    except (pa.ArrowException, OSError) as reason:
        words = str(reason).strip().split("\n")[0]
        raise FileFormatError(f"the files of {name} do not go together: {words}") from None
    return ArrowSource(dataset, name)
