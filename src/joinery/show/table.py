"""A Table: figures with names, made once and shown many ways by the renderers beside it."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.show import numbers
from joinery.show.appearance import Appearance
from joinery.show.files import suffix_of, write_text, write_whole
from joinery.show.marks import visible
from joinery.show.names import label_column
from joinery.show.renderers import renderer
from joinery.show.sheet_cells import cell_of_sheet
from joinery.support import words
from joinery.support.arguments import checked
from joinery.support.errors import CallError, one_of
from joinery.support.labels import plain_labels

if TYPE_CHECKING:
    import pandas as pd

FORMS = ("text", "markdown", "html", "csv", "json", "latex")


class Row(tuple[Any, ...]):
    """One row of a Table: its cells, with the columns' names in ``_fields``."""

    _fields: tuple[str, ...]

    def __new__(cls, cells: Iterable[Any], fields: Iterable[str] = ()) -> Row:
        row = super().__new__(cls, tuple(cells))
        row._fields = tuple(fields)
        return row


@dataclass(frozen=True, eq=False, repr=False)
class Table:
    """Figures with names.

    ``columns`` maps names to values at full precision; ``index`` (with ``index_name``) labels rows
    where they have labels: ``row``, where a figure is called like their column. ``appearance``
    says how people see it.
    ``table["p"]`` and ``"p" in table`` speak of its columns; its rows are iterated, counted by
    ``len``, and taken by ``pd.DataFrame(table)`` and whatever reads an Arrow stream, their labels
    as a first column. Two tables are equal that have the same columns, values and labels."""

    columns: Mapping[str, Sequence[Any] | np.ndarray]
    title: str = ""
    notes: tuple[str, ...] = ()
    index: Sequence[Any] | None = None
    index_name: str = "row"
    appearance: Appearance = field(default_factory=Appearance)

    def __post_init__(self) -> None:
        if self.index is not None:
            object.__setattr__(self, "index_name", label_column(self.index_name, self.columns))

    @cached_property
    def frame(self) -> pd.DataFrame:
        """The table as a DataFrame, every digit kept."""
        import pandas as pd

        index: pd.Index | None = None
        if isinstance(self.index, pd.MultiIndex):
            index = self.index
        elif self.index is not None:
            if isinstance(self.index, pd.Index):
                labels = self.index
            else:
                labels = list(self.index)
            index = pd.Index(labels, name=self.index_name, tupleize_cols=False)
        columns = {
            n: v if _is_numbers(v) else numbers.plain_cells(v) for n, v in self.columns.items()
        }
        return pd.DataFrame(
            {name: pd.Series(v, index=index) for name, v in columns.items()}, index=index
        )

    def __getitem__(self, column: str) -> pd.Series:
        if column not in self.columns:
            one_of("column", column, tuple(self.columns))
        return self.frame[column]

    def __contains__(self, column: object) -> bool:
        return column in self.columns

    @property
    def _all_columns(self) -> dict[str, Any]:
        """The columns as cells of Python, the labels first where there are any."""
        if self.index is None:
            labels = {}
        else:
            labels = {self.index_name: list(self.index)}
        return {name: numbers.plain_cells(v) for name, v in {**labels, **self.columns}.items()}

    def __iter__(self) -> Iterator[Row]:
        columns = self._all_columns
        return (Row(cells, columns) for cells in zip(*columns.values(), strict=True))

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()), ()))

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Table):
            return NotImplemented
        return bool(self.frame.equals(other.frame))

    def __hash__(self) -> int:
        return hash((len(self), *self.columns))

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        import pyarrow as pa

        return pa.table(self._all_columns).__arrow_c_stream__(requested_schema)

    def to_dict(self) -> dict[str, list[Any]]:
        """Return the columns as lists, the labels first, None where a cell is empty.

        >>> Table({"term": ["intercept"], "p": [float("nan")]}).to_dict()
        {'term': ['intercept'], 'p': [None]}
        """
        return {
            name: [None if isinstance(v, float) and not math.isfinite(v) else v for v in cells]
            for name, cells in self._all_columns.items()
        }

    def __str__(self) -> str:
        return self.render("text")

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return renderer("html")(self, in_part=True)

    @checked
    def render(self, form: words.Form = "text", *, digits: int | None = None) -> str:
        """Return the table in a form: text, markdown, html or latex for people.

        Csv or json with every digit.

        Parameters: ``form``; ``digits`` significant for people. Returns a str. Raises CallError for
        another form, or digits below one or beyond those of a double.

        >>> print(Table({"term": ["intercept"], "estimate": [1.25]}).render("csv"), end="")
        term,estimate
        intercept,1.25
        """
        one_of("form", form, FORMS)
        return renderer(form)(with_digits(self, digits))

    @checked
    def write(self, path: str | os.PathLike[str], *, for_spreadsheets: bool = False) -> Path:
        """Write the table in the form that the path's ending says.

        Endings: .txt .md .html .csv .json .tex .parquet .feather .xlsx .ods.

        Parameters: ``path`` of the file; ``for_spreadsheets`` keeps text of a CSV file that looks
        like a formula from being run when it is opened. Returns the path. Raises CallError for
        another ending, or when nothing can be written there.

        >>> import tempfile, pathlib
        >>> file = pathlib.Path(tempfile.mkdtemp()) / "terms.csv"
        >>> Table({"term": ["intercept"], "estimate": [1.25]}).write(file).read_text().splitlines()
        ['term,estimate', 'intercept,1.25']
        """
        ending = suffix_of(path)
        if ending == ".csv" and for_spreadsheets:
            return write_text(path, renderer("csv")(self, for_spreadsheets=True))
        if ending in _TEXT_ENDINGS:
            return write_text(path, self.render(_TEXT_ENDINGS[ending]))
        if ending in _FRAME_ENDINGS:
            labelled = _labelled(self)
            return write_whole(path, lambda beside: _FRAME_ENDINGS[ending](labelled, beside))
        known = ", ".join((*_TEXT_ENDINGS, *_FRAME_ENDINGS))
        raise CallError(
            f"cannot tell how to write {os.fspath(path)!r}; its ending is one of {known}",
            argument="path",
        )


def with_digits(table: Table, digits: int | None) -> Table:
    """Return a table shown to so many significant digits, None for as it is.

    Raises CallError for fewer than one or more than a double has."""
    if digits is None:
        return table
    if not 1 <= digits <= 17:
        raise CallError(f"digits={digits} is not between 1 and 17", argument="digits")
    return replace(table, appearance=replace(table.appearance, digits=digits))


_TEXT_ENDINGS: dict[str, words.Form] = {
    ".txt": "text",
    ".md": "markdown",
    ".html": "html",
    ".csv": "csv",
    ".json": "json",
    ".tex": "latex",
}
_FRAME_ENDINGS: dict[str, Callable[[Any, Path], Any]] = {
    ".parquet": lambda frame, path: frame.to_parquet(path),
    ".feather": lambda frame, path: frame.to_feather(path),
    ".xlsx": lambda frame, path: _write_workbook(frame, path),
    ".ods": lambda frame, path: _as_words(frame).to_excel(path, index=False, engine="odf"),
}


def _as_words(frame: pd.DataFrame) -> pd.DataFrame:
    """Return the table for a spreadsheet: marks visible, cells of odd kinds as text."""
    return frame.map(cell_of_sheet).rename(columns=lambda name: visible(str(name)))


def _labelled(table: Table) -> pd.DataFrame:
    """Return the table with its labels as first columns, those of odd kinds as text."""
    if table.index is None:
        return table.frame
    frame = table.frame.reset_index()
    for place in range(len(frame.columns) - len(table.columns)):
        if frame.dtypes.iloc[place].kind not in "biufMm":
            frame.isetitem(place, plain_labels(frame.iloc[:, place].tolist()))
    return frame


def _write_workbook(frame: pd.DataFrame, path: Path) -> None:
    """One sheet, whose text is text: what begins with = is no formula."""
    import pandas as pd

    with pd.ExcelWriter(path, engine="openpyxl") as book:
        _as_words(frame).to_excel(book, index=False)
        for row in book.book.active.iter_rows():
            for cell in row:
                if cell.data_type == "f":
                    cell.data_type, cell.quotePrefix = "s", True


def _is_numbers(values: Sequence[Any] | np.ndarray) -> bool:
    return isinstance(values, np.ndarray) and values.dtype.kind in "fiub"
