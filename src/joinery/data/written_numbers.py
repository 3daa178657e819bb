"""Numbers as people write them: thousands separators, decimal commas, currency signs, percent.

Under the marks of its table a cell has one reading or none. What was changed by the reading is
noted; what cannot be read is named, with the way to settle it."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from joinery.data.marks import COMMA, POINT, Marks, Written, in_columns, settled, written
from joinery.support import advice

_ZERO_LED = re.compile(r"[-+]?0\d{2,}")  # 007: a code, of which a number would lose the zeros
_NAMES = {POINT: "decimal points", COMMA: "decimal commas"}


@dataclass(frozen=True)
class Reading:
    """Texts as numbers: ``values`` (NaN where unreadable), a ``note`` or ``trouble``.

    ``unreadable`` holds the positions of texts that are no numbers under the table's marks."""

    values: np.ndarray
    note: str | None = None
    trouble: str | None = None
    unreadable: tuple[int, ...] = ()
    numbers: int = 0  # how many of the texts are numbers under either mark
    unit: str = ""  # that they all carry, or their currency

    @property
    def mostly_numbers(self) -> bool:
        """Return True if more than half of the texts are numbers, under whichever mark."""
        return 2 * self.numbers > len(self.values)


def read_numbers(texts: Sequence[str], marks: Marks | None = None) -> Reading:
    """Return distinct texts as numbers, under the marks of their table or else their own."""
    if (zeros := next((t for t in texts if _ZERO_LED.fullmatch(t.strip())), None)) is not None:
        note = f"{zeros.strip()!r} begins with zeros, so the column is read as text"
        return Reading(np.full(len(texts), np.nan), note, unreadable=tuple(range(len(texts))))
    cells = in_columns([written(text) for text in texts])
    if marks is None:
        marks = settled([texts])
    decimal = marks.decimal
    numbers = sum(cell.number for cell in cells)
    unreadable = tuple(i for i, cell in enumerate(cells) if decimal not in cell.marks)
    if (trouble := _trouble(texts, cells, marks)) is not None:
        nothing = np.full(len(texts), np.nan)
        return Reading(nothing, trouble=trouble, unreadable=unreadable, numbers=numbers)
    values = np.array([cell.value(decimal) for cell in cells], dtype=float)
    if any(cell.percent for cell in cells):
        values /= 100.0
    remarks = _note(texts, cells, values, marks)
    unit = next((cell.unit or cell.currency for cell in cells if cell.number), "")
    return Reading(values, remarks, unreadable=unreadable, numbers=numbers, unit=_singular(unit))


def _trouble(texts: Sequence[str], cells: list[Written], marks: Marks) -> str | None:
    """Return why numbers cannot be read, or None."""
    decimal = marks.decimal
    against = [i for i, cell in enumerate(cells) if cell.number and decimal not in cell.marks]
    if against:
        other = _other(decimal)
        return (
            f"{texts[against[0]].strip()!r} has {_NAMES[other]}, where the table has "
            f"{_NAMES[decimal]}; settle it with {advice.reading('decimal', other)}"
        )
    numbers = [cell for cell in cells if cell.number]
    amounts = [i for i, cell in enumerate(cells) if cell.currency and POINT in cell.digits]
    if amounts and not marks.certain and all(cells[i].grouped for i in amounts):
        return (
            f"{texts[amounts[0]].strip()!r} may have a decimal point or a thousands point; settle "
            f"it with {advice.reading('decimal', POINT)} or {advice.reading('decimal', COMMA)}"
        )
    currencies = sorted({cell.currency for cell in numbers if cell.currency})
    if len(currencies) > 1:
        return f"currencies are mixed ({' and '.join(currencies)})"
    if len({cell.percent for cell in numbers}) > 1:
        return "some cells carry a percent sign and some do not"
    units = sorted({cell.unit for cell in numbers})
    if len({_singular(unit) for unit in units}) <= 1:
        return None
    if not units[0]:
        return f"some cells carry a unit ({' or '.join(units[1:])}) and some do not"
    return f"units are mixed ({' and '.join(units)})"


def _singular(unit: str) -> str:
    """Return a unit in words as it stands beside one: 1 day, 2 days."""
    if len(unit) > 2:
        return unit.removesuffix("s")
    return unit


@dataclass(frozen=True)
class _Change:
    """A way of writing numbers, in words, and whether a cell is written so under the table's
    mark."""

    words: str
    is_in: Callable[[Written], bool]


def _changes(marks: Marks, unit: str) -> list[_Change]:
    """Return the ways of writing that reading takes off, in the order in which they are told."""
    other = _other(marks.decimal)
    return [
        _Change("currency signs", lambda cell: bool(cell.currency)),
        _Change("thousands separators", lambda cell: other in cell.digits or cell.spaced),
        _Change("decimal commas", lambda cell: marks.decimal == COMMA and COMMA in cell.digits),
        _Change("percent signs", lambda cell: cell.percent),
        _Change(f"the unit {unit!r}", lambda cell: bool(cell.unit)),
        _Change("parentheses for a minus", lambda cell: cell.bracketed),
        _Change("marks of footnotes", lambda cell: cell.noted),
    ]


def _note(
    texts: Sequence[str], cells: list[Written], values: np.ndarray, marks: Marks
) -> str | None:
    """Return what the reading changed, shown on one of the cells; None where nothing was."""
    numbers = [i for i, cell in enumerate(cells) if marks.decimal in cell.marks]
    doubtful = [i for i in numbers if cells[i].grouped]
    if doubtful and not marks.certain:
        return (
            f"{_shown(texts, values, doubtful)}; no cell of the table says whether that mark is "
            "one of decimals or of thousands; settle it with "
            f"{advice.reading('decimal', COMMA)} or {advice.reading('decimal', POINT)}"
        )
    unit = next((cells[i].unit for i in numbers if cells[i].unit), "")
    words: list[str] = []
    changed: list[int] = []
    for change in _changes(marks, unit):
        places = [i for i in numbers if change.is_in(cells[i])]
        if places:
            words.append(change.words)
            changed += places
    if not changed:
        return None
    return f"numbers were written with {' and '.join(words)}; {_shown(texts, values, changed)}"


def _shown(texts: Sequence[str], values: np.ndarray, places: Sequence[int]) -> str:
    """Return how the longest of some cells is read."""
    example = max(places, key=lambda i: len(texts[i]))
    return f"{texts[example].strip()!r} is read as {values[example]:.12g}"


def _other(decimal: str) -> str:
    """Return the mark that is not the decimal one."""
    if decimal == POINT:
        return COMMA
    return POINT
