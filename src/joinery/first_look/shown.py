"""Rows of a long table that pictures of a first look show: rows evenly taken, and those farthest
out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from joinery.data.records import Records
from joinery.design.evenly import drawn_evenly, in_memory
from joinery.design.learning import Learner, Piece
from joinery.notation.context import EVERY_ROW, Rows, places_at, positions_at
from joinery.support.arguments import as_labels

FARTHEST_SHOWN = 4  # rows at each end of each column of numbers


class Shown(NamedTuple):
    """The rows that a picture shows: of the table itself, or of one that holds some of them."""

    table: Records
    rows: Rows
    # places of those that labels were asked for, None for those far out
    labelled: np.ndarray | None
    even: np.ndarray | slice = slice(None)  # which are taken evenly
    note: str = ""  # what to say of rows that are not shown

    def labels(self, places: np.ndarray) -> Sequence[Any]:
        """Return labels of rows by their places among those shown."""
        return self.table.labels(positions_at(self.rows, places))


def shown(
    table: Records, rows: Rows, names: Sequence[str], label_rows: str | Sequence[Any]
) -> Shown:
    """Return the rows of a table that its pictures show, with labels those farthest out and asked
    for."""
    wanted: np.ndarray | None
    if isinstance(label_rows, str) and label_rows in ("flagged", "none"):
        if label_rows == "flagged":
            wanted = None
        else:
            wanted = np.empty(0, int)
    else:
        wanted = places_at(rows, np.asarray(table.positions(as_labels(label_rows))))
    if (some := drawn_evenly(table.count(rows))) is None:
        return Shown(table, rows, wanted)
    (even, remarks), beside = some, _farthest(table, rows, names)
    if wanted is not None:
        beside = np.union1d(beside, wanted)
    places = np.union1d(even, beside)
    return Shown(
        in_memory(table, rows, places, beside, names),
        EVERY_ROW,
        None if wanted is None else np.searchsorted(places, wanted),
        np.isin(places, even),
        f"{remarks}, and those farthest out",
    )


def _farthest(table: Records, rows: Rows, names: Sequence[str]) -> np.ndarray:
    """Return places of the rows at the ends of each column of numbers."""
    columns = [table.column(n) for n in names if table.column(n).kind in ("number", "date")]

    def of_piece(piece: Piece) -> list[np.ndarray]:
        return [_ends(column.numbers(piece[0].rows), piece[0].rows) for column in columns]

    collected = [np.empty((2, 0))] * len(columns)
    for ends in Learner(table, rows, {}).stretches.each(of_piece):
        collected = [_outermost(np.hstack(both)) for both in zip(collected, ends, strict=True)]
    positions = np.concatenate([np.empty(0), *(ends[0] for ends in collected)]).astype(int)
    return places_at(rows, np.unique(positions))


def _ends(x: np.ndarray, rows: Rows) -> np.ndarray:
    """Return positions and values (2, few) of the least and the greatest values of some rows."""
    here = np.flatnonzero(np.isfinite(x))
    return _outermost(np.array([positions_at(rows, here), x[here]], float))


def _outermost(result: np.ndarray) -> np.ndarray:
    if result.shape[1] <= 2 * FARTHEST_SHOWN:
        return result
    order = np.argpartition(result[1], [FARTHEST_SHOWN, result.shape[1] - FARTHEST_SHOWN - 1])
    return result[:, np.append(order[:FARTHEST_SHOWN], order[-FARTHEST_SHOWN:])]
