"""The columns of a source as Columns: their kind from their type, their levels from all rows."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.types as kinds

from joinery.core.blocks.partition import Partition, Runner
from joinery.data.column_kinds import understand
from joinery.data.columns import Column, Labels, TextReading
from joinery.data.sources.cells import Cells
from joinery.data.sources.source import Source
from joinery.support.errors import UnusableColumnError
from joinery.support.limits import MOST_TEXTS


def typed_column(
    source: Source, name: str, labels: Labels, runner: Runner | None, texts: TextReading
) -> Column:
    """Return a column of a source, whose cells are read when they are asked for.

    Raises UnusableColumnError for a kind that holds neither numbers nor categories, and for too
    many different texts.
    """
    kind = source.schema.field(name).type
    if kinds.is_integer(kind) or kinds.is_floating(kind) or kinds.is_null(kind):
        return Column(name, "number", Cells(source, name, _numbers, float), None, (), labels)
    if kinds.is_boolean(kind):
        codes = Cells(source, name, _flags, np.int64)
        return Column(name, "yes/no", None, codes, (False, True), labels)
    if kinds.is_dictionary(kind) or kinds.is_string(kind) or kinds.is_large_string(kind):
        return _of_texts(source, name, labels, runner, texts)
    some = understand(name, _series(pa.array([], kind)), labels)
    if some.values is None:
        raise UnusableColumnError(f"column {name!r} holds {kind}, which no model can use",
                                  column=name)  # fmt: skip
    turn = partial(_as_understood, name, labels)
    return replace(some, values=Cells(source, name, turn, float))


def _numbers(array: pa.Array) -> np.ndarray:
    if array.null_count == 0 and kinds.is_floating(array.type):
        return np.asarray(array.to_numpy(zero_copy_only=False), dtype=float)
    return np.asarray(array.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False))


def _flags(array: pa.Array) -> np.ndarray:
    """Return 0 and 1, −1 where missing."""
    return np.asarray(pc.fill_null(array.cast(pa.int64()), -1).to_numpy(zero_copy_only=False))


def _series(array: pa.Array) -> pd.Series:
    return pa.chunked_array([array]).to_pandas(date_as_object=False)


def _as_understood(name: str, labels: Labels, array: pa.Array) -> np.ndarray:
    values = understand(name, _series(array), labels).values
    return np.asarray(values, dtype=float)


def as_they_are(array: pa.Array) -> np.ndarray:
    """Return cells as Python's own objects."""
    out = np.empty(len(array), dtype=object)
    out[:] = array.to_pylist()
    return out


def _of_texts(
    source: Source, name: str, labels: Labels, runner: Runner | None, texts: TextReading
) -> Column:
    """Return a column of texts: the different ones are found in a pass, and understood by
    themselves."""
    distinct: dict[Any, None] = {}
    parts = range(len(source.lengths))
    result = Partition(len(parts), lambda part, _: (part,), runner=runner and runner.of(parts))
    for some in result.each(partial(_distinct, source, name)):
        distinct.update(dict.fromkeys(some))
        if len(distinct) > MOST_TEXTS:
            raise UnusableColumnError(
                f"column {name!r} has more than {MOST_TEXTS:,} different texts, more than can be "
                "kept as levels; leave it out, or join its levels",
                column=name,
            )
    field = source.schema.field(name).type
    given = list(distinct)
    if kinds.is_dictionary(field):
        series = pd.Series(pd.Categorical(given, given))
        text = understand(name, series, labels)
    else:
        text = understand(name, pd.Series(given, dtype="str" if given else object), labels, texts)
    places = pd.Index(given, dtype=object)
    meant = text.values if text.values is not None else text.coded
    assert meant is not None
    if text.values is not None:
        nothing = np.nan
    else:
        nothing = -1
    lookup = np.append(np.asarray(meant[:]), nothing)
    turn = partial(_looked_up, places, lookup)
    cells = Cells(source, name, turn, lookup.dtype)
    if text.values is not None:
        return replace(text, values=cells)
    return replace(text, coded=cells)


def _distinct(source: Source, name: str, parts: tuple[int, ...]) -> list[Any]:
    """Return the different texts of some parts; of a dictionary all that it lists."""
    out: dict[Any, None] = {}
    for part in parts:
        for array in source.read(part, name):
            if isinstance(array, pa.DictionaryArray):
                array = array.dictionary
            out.update(dict.fromkeys(v for v in pc.unique(array).to_pylist() if v is not None))
            if len(out) > MOST_TEXTS:
                break
    return list(out)


def _looked_up(places: pd.Index, lookup: np.ndarray, array: pa.Array) -> np.ndarray:
    """Return what stands for each text of an array."""
    if not isinstance(array, pa.DictionaryArray):
        array = array.dictionary_encode()
    known = places.get_indexer(pd.Index(array.dictionary.to_pylist(), dtype=object))
    codes = pc.fill_null(array.indices.cast(pa.int64()), len(known))
    by_code = np.append(known, -1)  # the last stands for none
    return np.asarray(lookup[by_code[codes.to_numpy(zero_copy_only=False)]])
