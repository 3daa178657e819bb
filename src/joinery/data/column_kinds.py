"""The kinds of columns, from how their cells come: numbers, dates, yes or no, levels."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

from joinery.data.columns import Column, Labels, TextReading, level_text
from joinery.data.written_dates import PERIODS, UNIVERSAL, in_days, read_dates
from joinery.data.written_numbers import Reading, read_numbers
from joinery.support.errors import UnusableColumnError, listed

DURATIONS = "durations are read as days"
YES_NO = ({"no", "yes"}, {"n", "y"}, {"false", "true"})


def understand(
    name: str,
    series: pd.Series,
    label_rows: Labels,
    texts: TextReading | None = None,
) -> Column:
    """Return a pandas column as a Column.

    Raises UnusableColumnError for kinds that hold neither numbers nor categories.
    """
    dtype = series.dtype
    if dtype == np.float16:  # which pandas cannot index
        series = series.astype(np.float64)
        dtype = series.dtype
    if isinstance(dtype, np.dtype) and dtype.kind in "fiu":
        return Column(name, "number", series.to_numpy(), None, (), label_rows)
    plain = Column(name, "number", None, None, (), label_rows)
    if isinstance(dtype, pd.CategoricalDtype):
        return _from_categorical(plain, series)
    if pd.api.types.is_bool_dtype(dtype):
        flags = series.array
        missing = np.asarray(pd.isna(flags))
        codes = np.where(missing, -1, np.asarray(series.fillna(False), dtype=np.int64))
        return replace(plain, kind="yes/no", coded=codes, levels=(False, True))
    if pd.api.types.is_complex_dtype(dtype):
        raise UnusableColumnError(
            f"column {name!r} holds complex numbers; take their real or absolute part", column=name
        )
    if pd.api.types.is_integer_dtype(dtype) and not series.isna().any():
        return replace(plain, values=series.to_numpy(dtype=f"{dtype.kind}8"))
    if pd.api.types.is_numeric_dtype(dtype):
        return replace(plain, values=series.to_numpy(dtype=np.float64, na_value=np.nan))
    if isinstance(dtype, pd.PeriodDtype):
        return replace(_from_dates(plain, series.dt.to_timestamp()), note=PERIODS)
    if isinstance(dtype, pd.ArrowDtype):
        return understand(name, _from_arrow(series), label_rows, texts)
    if pd.api.types.is_datetime64_any_dtype(dtype):
        return _from_dates(plain, series)
    if pd.api.types.is_timedelta64_dtype(dtype):
        return replace(plain, values=in_days(series.to_numpy()), note=DURATIONS)
    return _from_objects(plain, series, texts or TextReading())


def _from_arrow(series: pd.Series) -> pd.Series:
    """Return a column of Arrow's own types as one of pandas': its dates, durations, texts and
    objects."""
    import pyarrow as pa

    return pa.chunked_array(pa.array(series.array)).to_pandas(date_as_object=False)


def _from_categorical(plain: Column, series: pd.Series) -> Column:
    """Return a category in its own order; levels that read the same once trimmed are one, said."""
    given = series.cat.categories.tolist()
    codes = series.cat.codes.to_numpy(np.int64)
    texts = [level_text(level) for level in given]
    bare = [text.strip() for text in texts]
    if bare == texts and len(set(texts)) == len(texts) and all(texts):
        return replace(plain, kind="category", coded=codes, levels=tuple(given))
    first = {text: given[bare.index(text)] for text in dict.fromkeys(bare) if text}
    place = {text: i for i, text in enumerate(first)}
    levels = tuple(v.strip() if isinstance(v, str) else v for v in first.values())
    lookup = np.array([*(place.get(text, -1) for text in bare), -1])
    remarks = _joined_levels([repr(level) for level in given], bare)
    return replace(plain, kind="category", coded=lookup[codes], levels=levels, remarks=remarks)


def _joined_levels(shown: Sequence[str], bare: Sequence[str]) -> tuple[str, ...]:
    """Return what is said of levels that were trimmed into one."""
    joined = [
        " and ".join(s for s, b in zip(shown, bare) if b == text)
        for text in dict.fromkeys(bare)
        if bare.count(text) > 1
    ]
    if joined:
        return (f"{listed(joined, 3)} are read as one level",)
    return ()


def _from_dates(plain: Column, series: pd.Series) -> Column:
    """Return dates, with the wall clock's time where they have a time zone."""
    if getattr(series.dtype, "tz", None) is not None:
        series = series.dt.tz_localize(None)
    return replace(plain, kind="date", values=in_days(series.to_numpy()))


def _from_date_objects(plain: Column, codes: np.ndarray, uniques: list[Any]) -> Column:
    """Return dates and times of Python; of several time zones all are read in universal time."""
    zones = {getattr(u, "tzinfo", None) for u in uniques}
    note = None
    if len(zones) > 1:
        note = UNIVERSAL
        uniques = [
            u.astimezone(datetime.UTC) if getattr(u, "tzinfo", None) is not None else u
            for u in uniques
        ]
    bare = [u.replace(tzinfo=None) if isinstance(u, datetime.datetime) else u for u in uniques]
    stamps = np.array(bare, dtype="datetime64[us]")
    return replace(plain, kind="date", values=np.append(in_days(stamps), np.nan)[codes], note=note)


def _from_objects(plain: Column, series: pd.Series, how: TextReading) -> Column:
    try:
        text = isinstance(series.dtype, pd.StringDtype)  # then no object need be made of each cell
        codes, distinct = pd.factorize(
            series if text else series.to_numpy(dtype=object, na_value=None)
        )
    except TypeError:
        raise UnusableColumnError(
            f"column {plain.name!r} holds values of a kind that is neither number nor text "
            f"(first: {type(series.iloc[0]).__name__})",
            column=plain.name,
        ) from None
    uniques = list(distinct)
    if (odd := next((u for u in uniques if _is_nested(u)), None)) is not None:
        raise UnusableColumnError(
            f"column {plain.name!r} holds values of type {type(odd).__name__}, neither numbers nor "
            "text; write the parts you need into columns of their own",
            column=plain.name,
        )
    if uniques and all(isinstance(u, (bool, np.bool_)) for u in uniques):
        lookup = np.array([int(bool(u)) for u in uniques] + [-1])
        return replace(plain, kind="yes/no", coded=lookup[codes], levels=(False, True))
    if uniques and not any(isinstance(u, str) for u in uniques):
        if all(isinstance(u, datetime.date) for u in uniques):
            return _from_date_objects(plain, codes, uniques)
        if all(isinstance(u, pd.Period) for u in uniques):
            starts = [u.to_timestamp().to_pydatetime() for u in uniques]
            return replace(_from_date_objects(plain, codes, starts), note=PERIODS)
        if all(isinstance(u, datetime.timedelta) for u in uniques):
            days = np.array([u.total_seconds() / 86400 for u in uniques] + [np.nan])
            return replace(plain, values=days[codes], note=DURATIONS)
        try:
            values = np.array([float(u) for u in uniques] + [np.nan])
            return replace(plain, values=values[codes])
        except OverflowError:
            raise UnusableColumnError(
                f"column {plain.name!r} holds a number too large to compute with",
                column=plain.name,
            ) from None
        except (TypeError, ValueError):
            pass
    return _from_texts(plain, codes, [level_text(u) for u in uniques], how)


def _is_nested(value: Any) -> bool:
    return isinstance(value, (list, dict, set, tuple, np.ndarray, bytes))


def _from_texts(plain: Column, codes: np.ndarray, texts: list[str], how: TextReading) -> Column:
    """Return text cells: numbers or dates where every one can be read as such, yes/no, else a
    category."""
    bare = [t.strip() for t in texts]
    remarks: tuple[str, ...] = ()
    if bare != texts or not all(bare) or len(set(texts)) < len(texts):
        kept = list(dict.fromkeys(t for t in bare if t))
        where = {t: i for i, t in enumerate(kept)}
        codes = np.array([where.get(t, -1) for t in bare] + [-1])[codes]
        filled = [(repr(t), b) for t, b in zip(texts, bare) if b]
        remarks = _joined_levels([t for t, _ in filled], [b for _, b in filled])
        texts = kept
    if not texts:
        return replace(plain, values=np.full(len(codes), np.nan))
    trouble, meant, notes_made = None, "numbers", None
    stray: frozenset[str] = frozenset()
    if not how.as_levels:
        marked = any("," in text or "." in text for text in texts)
        if how.marks is not None and marked:
            marks = how.marks()
        else:
            marks = None
        reading = read_numbers(texts, marks)
        if reading.trouble is None and not reading.unreadable:
            values = np.append(reading.values, np.nan)[codes]
            return replace(plain, values=values, note=reading.note, unit=reading.unit)
        dates = read_dates(texts)
        if dates is not None and dates.stamps is not None:
            values = np.append(in_days(dates.stamps), np.nan)[codes]
            return replace(plain, kind="date", values=values, note=dates.note)
        notes_made = reading.note
        if dates is not None:
            trouble, meant = dates.trouble, "dates"
        elif reading.mostly_numbers:
            trouble = reading.trouble or _stray_cells(texts, reading)
        if reading.numbers:
            stray = frozenset(texts[i] for i in reading.unreadable)
    rank, levels = _in_order(texts)
    yes_no = len(levels) == 2 and {t.casefold() for t in levels} in YES_NO
    if yes_no and levels[0].casefold() > levels[1].casefold():  # "Yes" stands before "no"
        rank, levels = 1 - rank, levels[::-1]
    return replace(
        plain,
        kind="yes/no" if yes_no else "category",
        coded=np.append(rank, -1)[codes],
        levels=levels,
        note=notes_made,
        remarks=remarks + alike_but_for_case(levels),
        trouble=trouble,
        meant=meant,
        text_kind=True,
        stray=stray,
    )


def _stray_cells(texts: Sequence[str], reading: Reading) -> str:
    """Say which texts of a column of numbers are none."""
    shown = listed([repr(texts[i]) for i in reading.unreadable], 3)
    if len(reading.unreadable) == 1:
        verb = "is"
    else:
        verb = "are"
    return f"most cells are numbers, but {shown} {verb} not"


def alike_but_for_case(levels: Sequence[str]) -> tuple[str, ...]:
    """Return a remark on levels that differ by capital letters or by spaces within alone."""
    pairs = [" and ".join(map(repr, group)) for group in alike_levels(levels)]
    if not pairs:
        return ()
    return (f"{listed(pairs, 3)} are different levels, alike but for case or spaces",)


def alike_levels(levels: Sequence[str]) -> list[list[str]]:
    """Return the levels that differ by capital letters or by spaces within alone, in groups."""
    alike: dict[str, list[str]] = {}
    for level in levels:
        alike.setdefault(" ".join(level.casefold().split()), []).append(level)
    return [group for group in alike.values() if len(group) > 1]


def _in_order(texts: list[str]) -> tuple[np.ndarray, tuple[str, ...]]:
    """Return each text's place, and the texts in order: numeric when all are, else by code
    point."""
    order = sorted(range(len(texts)), key=lambda i: texts[i])
    rank = np.empty(len(texts), dtype=np.int64)
    rank[order] = np.arange(len(texts))
    return rank, tuple(texts[i] for i in order)
