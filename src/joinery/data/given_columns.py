"""Weights, offsets and the like that were given as values rather than named as columns."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.records import Records
from joinery.notation.tree import Name
from joinery.support.arguments import is_listing
from joinery.support.errors import CallError, UnequalLengthsError, listed


def named_columns(table: Records, given: dict[str, Any]) -> tuple[Records, dict[str, Any]]:
    """Return options whose values stand for rows, as columns of the table named in their place.

    A Series is taken by its index, an array by position. One that is a column of the table already
    is named as that column.
    """
    options = dict(given)
    for option in ("weights", "repeats", "offset", "where"):
        if is_listing(options.get(option)):
            table, name = _column(table, option, options[option])
            options[option] = str(Name(name))
    if is_listing(options.get("order")):
        table, options["order"] = _column(table, "order", options["order"])
    cluster: Any = options.get("cluster")
    if is_listing(cluster) and not _names(cluster, table):
        several = isinstance(cluster, (list, tuple)) and all(is_listing(v) for v in cluster)
        names = []
        for part in cluster if several else [cluster]:
            table, name = _column(table, "cluster", part)
            names.append(name)
        options["cluster"] = tuple(names)
    return table, options


def _names(given: Any, table: Records) -> bool:
    """Return True if several values are the names of columns."""
    if not isinstance(given, (list, tuple)) or not all(isinstance(part, str) for part in given):
        return False
    return len(given) != len(table) or set(given) <= set(table.names)


def _column(table: Records, option: str, given: Iterable[Any]) -> tuple[Records, str]:
    """Return the table with a column of given values, and the column's name."""
    values: Any = given
    if isinstance(given, pd.Series):
        name, same = str(given.name), given.index.equals(table.frame.index)
        if name in table.names and same and given.equals(table.frame[name]):
            return table, name
        values = _by_index(table, option, given)
    elif not isinstance(given, np.ndarray):
        values = list(given)
    shape = np.shape(values)
    if len(shape) != 1:
        raise CallError(f"{option}= needs a value for each row, not a table", argument=option)
    if shape[0] != len(table):
        raise UnequalLengthsError(
            f"{option} is of length {shape[0]:,}, and the table of {len(table):,}",
            lengths={option: shape[0], "rows": len(table)},
        )
    name = f"{option} (given)"
    while name in table.names:
        name += "'"
    return table.with_column(name, values), name


def _by_index(table: Records, option: str, given: pd.Series) -> np.ndarray:
    """Return a Series brought into the order of the table by its index."""
    index = table.frame.index
    if not given.index.equals(index):
        if not given.index.is_unique:
            raise CallError(
                f"{option}: two values of the Series have one label; give an array", argument=option
            )
        lacking = index[~index.isin(given.index)]
        if len(lacking):
            raise CallError(
                f"{option}: the Series has no value for row {listed(lacking.tolist())}; "
                "its index must hold the table's",
                argument=option,
            )
        given = given.loc[index]
    return np.asarray(given)
