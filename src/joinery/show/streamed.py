"""Tables that are written a stretch at a time, so that they may be larger than memory."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pandas as pd

from joinery.show.files import suffix_of, write_whole
from joinery.support.errors import CallError

ENDINGS = (".parquet", ".csv")
ROW_GROUP = 2**17  # rows that are written together


def write_streamed(path: str | os.PathLike[str], stretches: Iterator[pd.DataFrame]) -> Path:
    """Write frames of the same columns one below the other.

    Parameters: ``path`` of a .parquet or .csv file; the ``stretches``, at least one. Returns the
    path; where anything fails, no file is left. Raises CallError for another ending.
    """
    ending = suffix_of(path)
    if ending not in ENDINGS:
        raise CallError(
            f"cannot tell how to write {os.fspath(path)!r} a stretch at a time; its ending is "
            f"one of {', '.join(ENDINGS)}",
            argument="path",
        )
    return write_whole(path, lambda beside: _WRITERS[ending](beside, stretches))


def _write_parquet(beside: Path, stretches: Iterator[pd.DataFrame]) -> None:
    import pyarrow as pa
    import pyarrow.parquet as parquet

    first = pa.Table.from_pandas(next(stretches), preserve_index=False)
    fields = [  # a column of words may begin with none
        pa.field(f.name, pa.string()) if pa.types.is_null(f.type) else f for f in first.schema
    ]
    schema = pa.schema(fields)
    waiting, rows = [first.cast(schema)], len(first)
    with parquet.ParquetWriter(beside, schema) as writer:
        for frame in stretches:
            waiting.append(pa.Table.from_pandas(frame, schema, preserve_index=False))
            rows += len(frame)
            if rows >= ROW_GROUP:
                writer.write_table(pa.concat_tables(waiting))
                waiting, rows = [], 0
        if waiting:
            writer.write_table(pa.concat_tables(waiting))


def _write_csv(beside: Path, stretches: Iterator[pd.DataFrame]) -> None:
    with beside.open("w", encoding="utf-8", newline="") as file:
        for place, frame in enumerate(stretches):
            frame.to_csv(file, index=False, header=place == 0, lineterminator="\n")


_WRITERS = {".parquet": _write_parquet, ".csv": _write_csv}
