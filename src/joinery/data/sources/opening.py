"""Choice of the source that a caller's data is, and the source that ``jn.source`` hands out."""

from __future__ import annotations

import glob
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pandas as pd

from joinery.data.sources.source import Source
from joinery.data.sources.statements import check_database
from joinery.support import advice
from joinery.support.arguments import checked
from joinery.support.errors import CallError, DataError, EmptyTableError
from joinery.support.limits import MOST_FILES
from joinery.support.urls import is_url, shown

WILD = ("*", "?", "[")


@checked
def source(path_or_url: Any, *, query: str | None = None) -> Source:
    """Return a table left where it is, to be given wherever a table is taken.

    Parameters
    ----------
    path_or_url: a Parquet file, a folder of them, a pattern (``"data/*.parquet"``), or the URL of
        a database (``"sqlite:///file"``, ``"postgresql://…"``, ``"duckdb:///file"``), which is only
        read; an engine or open connection of SQLAlchemy.
    query: of a database: what to select. Its rows are read once, in the order that the query
        states, into a temporary folder, which goes when nothing uses it any more.

    Returns the table, read as it is used. Raises DataError where nothing is there or the database
    refuses, FileFormatError for a file that is no Parquet.

    >>> import pathlib, tempfile
    >>> import joinery as jn
    >>> folder = pathlib.Path(tempfile.mkdtemp())
    >>> jn.sample_data("jars").to_parquet(folder / "jars.parquet")
    >>> jn.fit(jn.source(folder), "jars_sold given hours_open").n_rows
    14
    """
    if is_database(path_or_url):
        from joinery.data.sources.database import of_query

        if query is None:
            raise no_query(path_or_url)
        selected: Source = of_query(path_or_url, query)
        return selected
    where = path_text(path_or_url)
    if query is not None:
        raise CallError(f"{advice.option('query')} is for the URL of a database", argument="query")
    result = parquet(where)
    if result is None:
        raise DataError(
            f"{where!r} is neither a Parquet file, folder or pattern nor the URL of a database; "
            "other files are read whole: give their path itself"
        )
    return result


def no_query(where: Any) -> CallError:
    """Return what is said of a database of which nothing is selected."""
    if isinstance(where, str):
        name = shown(where)
    else:
        name = "the connection"
    return CallError(
        f"{name} is a database: say what to select with " + advice.querying(name), argument="query"
    )


def is_database(where: Any) -> bool:
    """Return True for the URL of a database, or a connection to one.

    Raises CallError for another URL."""
    if isinstance(where, str):
        if is_url(where):
            check_database(where)
        return is_url(where)
    module = type(where).__module__
    return module.startswith("sqlalchemy.engine") and hasattr(where, "dialect")


def path_text(path: Any) -> str:
    """Return a path as text. Raises CallError for what is none, DataError for an empty one."""
    try:
        where = os.fsdecode(path)
    except TypeError:
        raise CallError(f"a path is needed, not {type(path).__name__}", argument="path") from None
    if not where.strip():
        raise DataError("no file is named: the path is empty")
    return where


def of_table(table: str | None) -> str | None:
    """Return the query that selects a whole table of a database."""
    if table is None:
        return None
    return 'select * from "' + table.replace('"', '""') + '"'


def parquet(where: str) -> Source | None:
    """Return Parquet files by a path or a pattern; None where the path is something else."""
    from joinery.data.sources.arrow import of_files

    path = Path(where)
    try:
        there = path.exists()
    except OSError:  # too long for a name of a file
        return None
    if any(sign in where for sign in WILD) and not there:
        files = sorted(Path(f) for f in glob.glob(where, recursive=True))
        if not files:
            raise DataError(f"no file is like {where!r} (looked in {Path.cwd()})")
        return of_files([f for f in files if f.is_file()], where)
    if path.is_dir():
        files = sorted(_in_folder(path))
        if not files:
            raise EmptyTableError(
                f"the folder {where} holds no .parquet files, nor a partition of them (year=2024)"
            )
        return of_files(files, where, path)
    if path.suffix.lower() == ".parquet" and path.is_file():
        return of_files([path], where)
    return None


def _in_folder(folder: Path) -> Iterator[Path]:
    """Yield the Parquet files of a folder and of the partitions in it, folders called year=2024.

    Raises DataError where they are so many that the folder is a slip."""
    waiting, seen = [folder], 0
    while waiting:
        inside = waiting.pop()
        try:
            entries = [entry for entry in inside.iterdir() if not entry.name.startswith((".", "_"))]
        except OSError as reason:
            words = (reason.strerror or str(reason)).lower()
            raise DataError(f"cannot read the folder {str(inside)!r}: {words}") from None
        for entry in entries:
            seen += 1
            if seen > MOST_FILES:
                raise DataError(
                    f"the folder {str(folder)!r} holds more than {MOST_FILES:,} files; name those "
                    f"that are the table by a pattern: {str(folder / '*.parquet')!r}"
                )
            if entry.suffix == ".parquet" and entry.is_file():
                yield entry
            elif "=" in entry.name and entry.is_dir():
                waiting.append(entry)


def opened(data: Any) -> Source | None:
    """Return the source that data is, or None for what is taken whole."""
    if isinstance(data, (pd.DataFrame, dict)):
        return None
    if isinstance(data, (str, os.PathLike)):
        where = os.fspath(data)
        if not isinstance(where, str) or not where.strip() or where.startswith("sample:"):
            return None
        if is_database(where):
            raise no_query(where)
        return parquet(where)
    if is_database(data):
        raise no_query(data)
    if hasattr(data, "schema") and hasattr(data, "lengths") and hasattr(data, "read"):
        result: Source = data
        return result
    kind = f"{type(data).__module__}.{type(data).__name__}"
    if kind.startswith("pyarrow._dataset."):
        from joinery.data.sources.arrow import of_dataset

        return of_dataset(data)
    if kind.startswith("dask.dataframe."):
        from joinery.data.sources.cluster import of_dask

        parts: Source = of_dask(data)
        return parts
    if isinstance(data, (list, tuple)) and data and all(_is_path(part) for part in data):
        from joinery.data.sources.arrow import of_files

        return of_files([Path(part) for part in data], "the files")
    return None


def _is_path(part: Any) -> bool:
    return isinstance(part, (str, os.PathLike)) and str(part).lower().endswith(".parquet")


def read_all(source: Source) -> pd.DataFrame:
    """Return a source read into a frame."""
    import pyarrow as pa

    columns = {}
    for name in source.schema.names:
        kind = source.schema.field(name).type
        arrays = [a for part in range(len(source.lengths)) for a in source.read(part, name)]
        if not pa.types.is_dictionary(kind):
            arrays = [a if a.type == kind else a.cast(kind) for a in arrays]
        columns[name] = pa.chunked_array(arrays, type=None if arrays else kind)
    return pa.table(columns).to_pandas()
