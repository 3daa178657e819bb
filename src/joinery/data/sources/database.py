"""Queries of a database: read once, in the order they state, into a temporary Parquet folder.

The database's own statistical functions are never called: it hands out rows."""

from __future__ import annotations

import shutil
import tempfile
import weakref
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import Any

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as parquet

from joinery.data.sources.arrow import ArrowSource, of_files
from joinery.data.sources.statements import check_database, check_select
from joinery.support.errors import CallError, DataError, EmptyTableError, FileFormatError, listed
from joinery.support.limits import FETCHED_ROWS
from joinery.support.progress import Advance, counted
from joinery.support.urls import scheme_of, shown, without_secrets

RECURSIVE = 33  # SQLITE_RECURSIVE, which the module for SQLite does not name


class Folder:
    """A temporary folder, which goes when nothing uses it any more, or the process ends."""

    def __init__(self) -> None:
        self.path = Path(tempfile.mkdtemp(prefix="joinery-query-"))
        self.remove = weakref.finalize(self, shutil.rmtree, self.path, True)


def of_query(url: Any, query: str) -> ArrowSource:
    """Return what a query selects, as a source.

    Parameters: ``url`` of the database, or an engine or open connection of SQLAlchemy. Raises
    DataError where the database cannot be reached or refuses, EmptyTableError without rows,
    CallError for a query that is more than a select.
    """
    folder = Folder()
    try:
        with selected(url, query) as batches, counted("rows read") as advance:
            files = [*_written(folder.path, batches, advance)]
        if not files:
            raise EmptyTableError("the query selects no rows")
        try:
            result = of_files(files, f"{name_of(url)} query")
        except FileFormatError as reason:
            raise DataError(
                f"a column of the query changes its kind on the way ({reason.reason or reason}); "
                "give it one: select cast(x as text)"
            ) from None
    except BaseException:
        folder.remove()
        raise
    return ArrowSource(result.dataset, result.name, folder)


def _written(folder: Path, batches: Iterator[pa.Table], advance: Advance) -> Iterator[Path]:
    """Yield files of rows as they come, a new one where a column's type is another."""
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


def read_query(url: Any, query: str) -> pd.DataFrame:
    """Return what a query selects, as a frame. Raises as ``of_query`` does."""
    with selected(url, query) as batches:
        tables = list(batches)
    if not sum(map(len, tables)):
        raise EmptyTableError("the query selects no rows")
    try:
        table = pa.concat_tables(tables, promote_options="permissive")
    except pa.ArrowException:  # a column that turned to another kind on the way
        table = pa.concat_tables([_as_texts(t, tables) for t in tables])
    return _frame(table)


def _as_texts(table: pa.Table, tables: list[pa.Table]) -> pa.Table:
    """Return a table with the columns as texts whose kind is not one in all tables."""
    for place, name in enumerate(table.column_names):
        kinds = {t.schema.field(place).type for t in tables} - {pa.null()}
        if len(kinds) > 1:
            table = table.set_column(place, name, table.column(place).cast(pa.string()))
    return table.cast(table.schema)


def _frame(table: pa.Table) -> pd.DataFrame:
    try:
        return table.to_pandas()
    except pa.ArrowException as reason:
        words = str(reason).split("\n")[0]
        raise DataError(f"what the query selects cannot be held as a table: {words}") from None


def name_of(where: Any) -> str:
    """Return what a database is called, without a password."""
    return shown(where if isinstance(where, str) else url_of(where))


def url_of(where: Any) -> str:
    """Return the URL of an engine or connection."""
    engine = getattr(where, "engine", where)
    return str(engine.url.render_as_string(hide_password=False))


@contextmanager
def selected(where: Any, query: str) -> Iterator[Iterator[pa.Table]]:
    """The rows of a query, some at a time, straight from the server."""
    check_select(query)
    if isinstance(where, str):
        url = where
    else:
        url = url_of(where)
    check_database(url)
    if not isinstance(where, str):
        batches = _from_connectable(where, query)
    elif scheme_of(url) == "duckdb":
        batches = _from_duckdb(url, query)
    else:
        batches = _from_sqlalchemy(url, query)
    try:
        yield _with_errors_in_words(batches, url)
    except ImportError as missing:
        ours = str(missing.name) in ("sqlalchemy", "duckdb", "psycopg")
        way = 'in the checkout: python -m pip install ".[database]"'
        if not ours:
            way = f"install {missing.name} beside joinery"
        raise DataError(f"reading {scheme_of(url)} needs {missing.name}; {way}") from None


def _with_errors_in_words(batches: Iterator[pa.Table], url: str) -> Iterator[pa.Table]:
    """Yield the batches; whatever the database raises is said in words, without what is secret."""
    try:
        for batch in batches:
            names = batch.column_names
            if twice := sorted({name for name in names if names.count(name) > 1}):
                raise DataError(
                    f"the query selects {listed(map(repr, twice))} twice; give each column a name "
                    'of its own ("select a.x as ax, b.x as bx")'
                )
            yield _plain(batch)
    except (DataError, ImportError, MemoryError, GeneratorExit, KeyboardInterrupt):
        raise
    except Exception as reason:  # each database has errors of its own
        words = str(getattr(reason, "orig", None) or reason).strip().split("\n")[0]
        words = without_secrets(words, url)
        raise DataError(f"the database {shown(url)} refuses: {words}") from None


def _plain(table: pa.Table) -> pa.Table:
    """Return a table whose columns of kinds that no file holds, as unions, are texts."""
    for place, field in enumerate(table.schema):
        if pa.types.is_union(field.type) or pa.types.is_interval(field.type):
            values = table.column(place).to_pylist()
            texts = pa.array([None if v is None else str(v) for v in values], pa.string())
            table = table.set_column(place, field.name, texts)
    return table


def _from_duckdb(url: str, query: str) -> Iterator[pa.Table]:
    import duckdb

    path = url.removeprefix("duckdb://").removeprefix("/").partition("?")[0]
    if path and path != ":memory:" and not Path(path).exists():
        raise DataError(f"no such file: {path!r}")
    base: Any = duckdb.connect(path or ":memory:", read_only=path not in ("", ":memory:"))
    with base:
        result = base.sql(query)
        if result is None:
            raise DataError("the query selects nothing: it is not a select")
        newer = getattr(result, "to_arrow_reader", None)
        for batch in (
            result.fetch_arrow_reader(FETCHED_ROWS) if newer is None else newer(FETCHED_ROWS)
        ):
            yield pa.Table.from_batches([batch])


def _from_sqlalchemy(url: str, query: str) -> Iterator[pa.Table]:
    import sqlalchemy

    if scheme_of(url) in ("postgresql", "postgres") and "+" not in url.partition("://")[0]:
        url = "postgresql+psycopg://" + url.partition("://")[2]
    try:
        parts = sqlalchemy.engine.make_url(url)
    except Exception:  # the URL itself stands in its words
        raise CallError(f"{shown(url)} cannot be understood as the URL of a database") from None
    more: dict[str, Any] = {}
    if scheme_of(url) == "sqlite" and parts.database not in (None, "", ":memory:"):
        path = Path(str(parts.database))
        if not path.exists():
            raise DataError(f"no such file: {str(path)!r}")
        more["creator"] = partial(_read_only_sqlite, path)
    engine = sqlalchemy.create_engine(parts, **more)
    try:
        with engine.connect() as connection:
            yield from _fetched(connection, query)
    finally:
        engine.dispose()


def _from_connectable(where: Any, query: str) -> Iterator[pa.Table]:
    if hasattr(where, "execute"):  # a connection, which stays open and the caller's
        yield from _fetched(where, query)
        return
    with where.connect() as connection:
        yield from _fetched(connection, query)


def _read_only_sqlite(path: Path) -> Any:
    """Open a file of SQLite that may be read and nothing else."""
    import sqlite3

    connection = sqlite3.connect(
        path.resolve().as_uri() + "?mode=ro", uri=True, check_same_thread=False
    )
    allowed = (
        sqlite3.SQLITE_READ,
        sqlite3.SQLITE_SELECT,
        sqlite3.SQLITE_FUNCTION,
        sqlite3.SQLITE_TRANSACTION,
        RECURSIVE,
    )

    def authorize(action: int, about: str | None, *_: Any) -> int:
        # SQLAlchemy asks for the isolation that it has
        wanted = action == sqlite3.SQLITE_PRAGMA and about == "read_uncommitted"
        if wanted or action in allowed:
            return sqlite3.SQLITE_OK
        return sqlite3.SQLITE_DENY

    connection.set_authorizer(authorize)
    return connection


def _fetched(connection: Any, query: str) -> Iterator[pa.Table]:
    """Yield the rows of a query on an open connection, in a transaction that only reads."""
    import sqlalchemy

    options: dict[str, Any] = {"stream_results": True, "max_row_buffer": FETCHED_ROWS}
    if connection.dialect.name == "postgresql" and not connection.in_transaction():
        options["postgresql_readonly"] = True
    result = connection.execution_options(**options).execute(sqlalchemy.text(query))
    schema: pa.Schema | None = None
    try:
        if not result.returns_rows:
            raise DataError("the query selects nothing: it is not a select")
        names = list(result.keys())
        while rows := result.fetchmany(FETCHED_ROWS):
            table = _table(names, rows, schema)
            schema = table.schema
            yield table
    finally:
        with suppress(Exception):  # of a connection that is lost already
            result.close()


def _table(names: list[str], rows: Any, schema: pa.Schema | None) -> pa.Table:
    """Return rows as a table of the types that rows before them had."""
    columns = list(zip(*rows, strict=True))
    arrays = []
    for name, values in zip(names, columns, strict=True):
        if schema is not None:
            kind = schema.field(name).type
        else:
            kind = None
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
