"""Queries of a database: read once, in the order they state, into a temporary Parquet folder.

The database's own statistical functions are never called: it hands out rows."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import Any

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as parquet

from joinery.data.sources.arrow import ArrowSource, of_files
from joinery.errors import DataError, EmptyTableError
from joinery.progress import Advance, counted

ROWS = 2**17  # that are fetched at a time


class Folder:
    """A temporary folder, which goes when nothing uses it any more, or the process ends."""

    def __init__(self) -> None:
        self.path = Path(tempfile.mkdtemp(prefix="joinery-query-"))
        self.remove = weakref.finalize(self, shutil.rmtree, self.path, True)


def of_query(url: str, query: str) -> ArrowSource:
    """What a query selects, as a source.

    Raises DataError where the database cannot be reached or refuses, EmptyTableError without rows.
    """
    folder = Folder()
    try:
        with selected(url, query) as batches, counted("rows read") as advance:
            files = [*_written(folder.path, batches, advance)]
        if not files:
            raise EmptyTableError("the query selects no rows")
        found = of_files(files, f"{_bare(url)} query")
    except BaseException:
        folder.remove()
        raise
    return ArrowSource(found.dataset, found.name, folder)


def _written(folder: Path, batches: Iterator[pa.Table], advance: Advance) -> Iterator[Path]:
    """Files of rows as they come, a new one where a column's type is another."""
    files = 0
    with ExitStack() as stack:
        writer: parquet.ParquetWriter | None = None
        for batch in batches:
            if len(batch) and (writer is None or batch.schema != writer.schema):
                file = folder / f"rows-{files:06}.parquet"
                writer = stack.enter_context(parquet.ParquetWriter(file, batch.schema))
                files += 1
                yield file
            if writer is not None:
                writer.write_table(batch)
            advance(len(batch))


def read_query(url: str, query: str) -> pd.DataFrame:
    """What a query selects, as a frame. Raises as ``of_query`` does."""
    with selected(url, query) as batches:
        tables = list(batches)
    if not sum(map(len, tables)):
        raise EmptyTableError("the query selects no rows")
    return pa.concat_tables(tables, promote_options="permissive").to_pandas()


@contextmanager
def selected(url: str, query: str) -> Iterator[Iterator[pa.Table]]:
    """The rows of a query, some at a time, straight from the server."""
    read = _from_duckdb if url.startswith("duckdb:") else _from_sqlalchemy
    try:
        yield _told(read(url, query), url)
    except ImportError as missing:
        ours = str(missing.name) in ("sqlalchemy", "duckdb", "psycopg")
        way = "joinery with its [database] extra" if ours else f"{missing.name} beside joinery"
        raise DataError(
            f"reading {url.split('://')[0]} needs {missing.name}; install {way}"
        ) from None


def _told(batches: Iterator[pa.Table], url: str) -> Iterator[pa.Table]:
    """The batches; whatever the database raises is said in words, without the password."""
    try:
        yield from batches
    except (DataError, ImportError, GeneratorExit, KeyboardInterrupt):
        raise
    except Exception as reason:  # each database has errors of its own
        words = str(getattr(reason, "orig", None) or reason).strip().split("\n")[0]
        raise DataError(f"the database {_bare(url)} refuses: {words}") from None


def _bare(url: str) -> str:
    """A URL without user and password."""
    scheme, _, rest = url.partition("://")
    return f"{scheme}://{rest.rpartition('@')[2]}"


def _from_duckdb(url: str, query: str) -> Iterator[pa.Table]:
    import duckdb

    path = url.removeprefix("duckdb://").removeprefix("/")
    if path and path != ":memory:" and not Path(path).exists():
        raise DataError(f"no such file: {path!r}")
    base: Any = duckdb.connect(path or ":memory:", read_only=path not in ("", ":memory:"))
    with base:
        found = base.sql(query)
        if found is None:
            raise DataError("the query selects nothing: it is no select")
        newer = getattr(found, "to_arrow_reader", None)
        for batch in found.fetch_arrow_reader(ROWS) if newer is None else newer(ROWS):
            yield pa.Table.from_batches([batch])


def _from_sqlalchemy(url: str, query: str) -> Iterator[pa.Table]:
    import sqlalchemy

    path = url.removeprefix("sqlite:///").split("?")[0] if url.startswith("sqlite:///") else ""
    if path not in ("", ":memory:") and not Path(path).exists():
        raise DataError(f"no such file: {path!r}")
    if url.startswith("postgresql://"):
        url = "postgresql+psycopg://" + url.removeprefix("postgresql://")
    engine = sqlalchemy.create_engine(url)
    schema: pa.Schema | None = None
    try:
        with engine.connect().execution_options(stream_results=True, max_row_buffer=ROWS) as open_:
            found = open_.execute(sqlalchemy.text(query))
            try:
                if not found.returns_rows:
                    raise DataError("the query selects nothing: it is no select")
                names = list(found.keys())
                while rows := found.fetchmany(ROWS):
                    table = _table(names, rows, schema)
                    schema = table.schema
                    yield table
            finally:
                with suppress(Exception):  # of a connection that is lost already
                    found.close()
    finally:
        engine.dispose()


def _table(names: list[str], rows: Any, schema: pa.Schema | None) -> pa.Table:
    """Rows as a table of the types that rows before them had."""
    columns = list(zip(*rows, strict=True))
    arrays = []
    for name, values in zip(names, columns, strict=True):
        kind = schema.field(name).type if schema is not None else None
        if kind is not None and pa.types.is_null(kind):
            kind = None
        arrays.append(_column(name, values, kind))
    return pa.table(arrays, names)


def _column(name: str, values: tuple[Any, ...], kind: pa.DataType | None) -> pa.Array:
    values = tuple(float(v) if type(v).__name__ == "Decimal" else v for v in values)
    try:
        return pa.array(values, kind, from_pandas=True)
    except (pa.ArrowException, TypeError, ValueError):
        pass
    try:  # whole numbers and fractions side by side
        return pa.array([None if v is None else float(v) for v in values])
    except (TypeError, ValueError):
        return pa.array([None if v is None else str(v) for v in values])
