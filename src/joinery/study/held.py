"""Rows of the design at chosen values of some columns, the other columns held."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import product
from typing import Any

import numpy as np

from joinery.data.columns import exact_level, level_text
from joinery.data.records import Records
from joinery.data.written_dates import date_text, stamps_of
from joinery.design.terms import DesignTerm
from joinery.notation.context import EVERY_ROW, Context, Rows
from joinery.notation.evaluate import evaluate
from joinery.notation.walk import lags_in, names_in, names_in_own_row
from joinery.show.numbers import percent, value
from joinery.study.fitted import Fitted
from joinery.study.forecast.memory import forecast_memory
from joinery.support.arguments import is_number
from joinery.support.errors import CallError, UnknownColumnError, listed
from joinery.support.limits import HELD_COMBINATIONS

Shares = dict[str, float]  # of the levels of a category, averaged over
Fill = Callable[[DesignTerm, np.ndarray, Context], None]


@dataclass(frozen=True)
class Held:
    """A table in which every column stands, and what the columns not given are held at."""

    table: Records
    at: Mapping[str, float | Shares | str] = field(default_factory=dict)
    # levels of categories that are made of a number or a date, a row each, by the factor's text
    made: Mapping[str, Sequence[str]] = field(default_factory=dict)

    @property
    def averaged(self) -> dict[str, Shares]:
        """The categories that are averaged over, with the share of each level."""
        return {name: v for name, v in self.at.items() if isinstance(v, dict)}


def columns_of(fit: Fitted) -> list[str]:
    """Return the columns that the terms take from a row itself, in order."""
    factors = fit.design.sentence.factors
    return list(dict.fromkeys(n.name for f in factors for n in names_in_own_row(f)))


def numeric_columns(fit: Fitted) -> list[str]:
    """Return those of numbers and dates."""
    return [name for name in columns_of(fit) if name in fit.design.seen]


def check_named(fit: Fitted, names: Iterable[str], where: str) -> None:
    """Raise CallError for a column that terms take from other rows alone.

    UnknownColumnError for one that no term names.
    """
    known = columns_of(fit)
    for name in names:
        if name in known:
            continue
        for call in fit.lags:
            if name in {n.name for n in names_in(call)}:
                raise CallError(
                    f"{name} stands in the model as {call} alone: what another row has is held at "
                    "its average"
                )
        raise UnknownColumnError(name, tuple(known), where=where)


def hold_rest(
    fit: Fitted,
    table: Records,
    fixed: Mapping[str, Any] | None = None,
    *,
    equal: bool = False,
    follow: bool = False,
) -> Held:
    """Add the columns of the terms that a table lacks: at ``fixed`` values, else at their average.

    A number is held at its mean over the fitted rows; a category averaged over its levels by their
    shares, or ``equal``ly. So is what a term takes from another row; where rows ``follow`` one
    another, only where it is not known. Raises UnknownColumnError for a fixed column that no term
    names.
    """
    table = table.read_like(fit.design.manner)
    typical, names = forecast_memory(fit).typical, columns_of(fit)
    fixed = dict(fixed or {})
    check_named(fit, fixed, " among those of the model to hold")
    at: dict[str, float | Shares | str] = {}
    for name in names:
        if name in table.names:
            continue
        average = typical[name]
        if name in fixed:
            at[name] = fixed[name] if isinstance(fixed[name], str) else _plain(fixed[name], average)
        elif isinstance(average, dict) and equal:
            at[name] = dict.fromkeys(average, 1 / len(average))
        else:
            at[name] = average
    # what only lags name is there, though nobody asks for it
    lacking = {n.name: np.nan for call in fit.lags for n in names_in(call)}
    lacking = {name: v for name, v in lacking.items() if name not in table.names}
    out = table.assigned(lacking | {name: held_cell(fit, name, v) for name, v in at.items()})
    for call in fit.lags:
        usual = typical.get(str(call))
        if not isinstance(usual, float):
            continue  # a fit saved before lags had one
        known = np.full(len(out), np.nan)
        if follow and all(n.name in table.names for n in names_in(call)):
            known = evaluate(call, fit.design.context(out, np.arange(len(out))))
        out.lags[str(call)] = np.where(np.isnan(known), usual, known)
        if np.isnan(known).any():
            at[str(call)] = usual
    return Held(out, at)


def _plain(given: Any, average: float | Shares) -> float | str:
    """Return a value given by the caller: a number, or a level as text."""
    if isinstance(average, dict) or isinstance(given, (bool, np.bool_)):
        return level_text(given)
    if not is_number(given):
        raise CallError(f"a number is held at one number, not {type(given).__name__}")
    return float(given)


def lags_of(fit: Fitted, table: Records) -> dict[str, np.ndarray]:
    """Return what the terms take from other rows, by its text, for every row of a table."""
    if not fit.lags:
        return {}
    everywhere = fit.design.context(table, EVERY_ROW)
    return {str(call): evaluate(call, everywhere) for call in fit.lags}


def held_cell(fit: Fitted, name: str, v: float | Shares | str) -> Any:
    """Return what stands in the table for a held value; of a category averaged over, some level."""
    if isinstance(v, dict):
        return level_cell(fit, name, next(iter(v)))
    if isinstance(v, str):
        return level_cell(fit, name, v)
    if name in fit.design.dates:
        return stamps_of(np.array([v]))[0]
    return v


def level_cell(fit: Fitted, name: str, level: str) -> Any:
    """Return what stands in a table for a level: a number where terms take the column as one."""
    if name in fit.design.seen and name not in fit.design.dates:
        return float(level)
    return exact_level(level)


def slopes_in(name: str) -> Fill:
    """Write the slopes of a term's columns in a column of the table."""

    def fill(term: DesignTerm, out: np.ndarray, context: Context) -> None:
        term.fill_slopes(out, name, context)

    return fill


def averaged_rows(
    fit: Fitted, held: Held, positions: np.ndarray, fill: Fill = DesignTerm.fill
) -> np.ndarray:
    """Return the design's rows (m, width), averaged over the categories that are held so.

    Parameters: ``positions`` (m,) of rows of the held table; ``fill`` writes what is asked of a
    term, its columns or their slopes (``slopes_in``), of a context's rows. Raises CallError for a
    term of more than 5,000 combinations of levels.
    """
    if held.made:
        return _at_made_levels(fit, held, positions, fill)
    design = fit.design
    out = np.empty((len(positions), design.width), order="F")
    each, first = (design.context(held.table, rows) for rows in (positions, positions[:1]))
    for written, term in zip(design.sentence.terms, design.terms, strict=True):
        names = {n.name for f in written.factors for n in names_in_own_row(f)}
        lagged = any(True for f in written.factors for _ in lags_in(f))
        same = names <= set(held.at) and not lagged  # in all rows
        result, context = out[:, term.columns], first if same else each
        if same:
            part = result[:1]
        else:
            part = result
        shares = {name: v for name, v in held.averaged.items() if name in names}
        if not shares:
            fill(term, part, context)
        else:
            _average(fit, held, shares, context.rows, part, partial(fill, term))
        if same:
            result[1:] = part
    return out


def _at_made_levels(fit: Fitted, held: Held, positions: np.ndarray, fill: Fill) -> np.ndarray:
    """Return the same where levels are given that no column has: each combination by itself."""
    out = np.empty((len(positions), fit.design.width), order="F")
    combinations = list(zip(*held.made.values(), strict=True))
    for levels in dict.fromkeys(combinations):
        rows = [i for i, p in enumerate(positions.tolist()) if combinations[p] == levels]
        given = dict(zip(held.made, levels, strict=True))

        def with_levels(
            term: DesignTerm, part: np.ndarray, context: Context, given: dict[str, str] = given
        ) -> None:
            fill(term, part, replace(context, held=dict(given)))

        alike = replace(held, made={})
        out[rows] = averaged_rows(fit, alike, positions[rows], with_levels)
    return out


def _average(
    fit: Fitted,
    held: Held,
    shares: Mapping[str, Shares],
    rows: Rows,
    out: np.ndarray,
    fill: Callable[[np.ndarray, Context], None],
) -> None:
    """Write what is asked of one term, averaged over some categories that it names."""
    if np.prod([len(v) for v in shares.values()]) > HELD_COMBINATIONS:
        raise CallError(
            f"{listed(shares)} have too many levels together to hold at an average; give some of "
            "them"
        )
    some, part = held.table.picked(rows), np.empty_like(out)
    out[:] = 0.0
    for cell in product(*(v.items() for v in shares.values())):
        levels = {
            name: level_cell(fit, name, level)
            for name, (level, _) in zip(shares, cell, strict=True)
        }
        fill(part, fit.design.context(some.assigned(levels), np.arange(len(part))))
        out += float(np.prod([share for _, share in cell])) * part


def held_note(fit: Fitted, held: Held) -> list[str]:
    """Return what is held at what, as a note under a table; none where nothing is."""
    words = held_words(fit, held)
    if words:
        return [f"held: {', '.join(words)}"]
    return []


def held_words(fit: Fitted, held: Held) -> list[str]:
    """Return what is held at what, for people: ``rain_days 29.1``, ``hive_type long 45 %, …``."""
    out = []
    for name, v in held.at.items():
        words = fit.words(name)
        if isinstance(v, dict):
            if len(set(v.values())) == 1:
                out.append(f"{words} averaged over its {len(v)} levels")
            else:
                out.append(f"{words} {listed((f'{n} {percent(s)}' for n, s in v.items()), 6)}")
        elif isinstance(v, str):
            out.append(f"{words} {v}")
        else:
            out.append(f"{words} {date_text(v) if name in fit.design.dates else value(v)}")
    return out
