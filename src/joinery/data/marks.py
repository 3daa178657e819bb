"""The marks of numbers: whether a table writes the decimal mark as a point or as a comma.

That is one question of the whole table, settled before any column becomes numbers: a cell with one
reading alone (``2,5``; ``1.234.567``; ``0.250``) speaks for its mark, one that may be a group of
three digits as well (``1.250``) follows the others."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import pandas as pd

POINT, COMMA = ".", ","
DECIMAL = "joinery_decimal"  # where a frame carries the mark of the file that it was read from
MOST_UNITS = 3  # of a column; more kinds of words after its numbers are no units
NUMBERS_ALIKE = 0.5  # share of a column's texts that must be numbers for it to be asked

# what stands before or after an amount
CURRENCIES = "$€£¥₹₩₽₺₫₴฿"
_CODES = "AUD|BRL|CAD|CHF|CNY|CZK|DKK|EUR|GBP|HUF|INR|JPY|KRW|MXN|NOK|NZD|PLN|RUB|SEK|TRY|USD|ZAR"
_CODE = re.compile(rf"(?:({_CODES})\s?)?([-+\d.,].*?)(?:\s?({_CODES}))?")
# a unit after a number: letters and signs, in one word, with its power
_UNIT = re.compile(r"(.*\d[.,]?)(\s*)((?:[^\W\d_]|[°′″])(?:[^\W\d_]|[°²³/·^]|(?<=[a-z])[23])*)")
_NOTED = re.compile(r"(.*[\d%)][.,]?)\s?[*†‡]+")  # a number with marks of a footnote after it
_BEGINNINGS = tuple("0123456789+-.,")  # of a number with a unit
_ORDINALS = {"st", "nd", "rd", "th", "am", "pm"}  # of places and hours, which are no amounts
_PLAIN = re.compile(r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?")
_SPECIAL = re.compile(r"[-+]?(?:inf|infinity)", re.IGNORECASE)
_SPACED = re.compile(r"[-+]?\d{1,3}(?:[ \u00a0\u202f'’]\d{3})+(?:[.,]\d+)?")
_COMMA_GROUPS = re.compile(r"[-+]?[1-9]\d{0,2}(?:,\d{3})+(?:\.\d*)?")
_POINT_GROUPS = re.compile(r"[-+]?[1-9]\d{0,2}(?:\.\d{3})+(?:,\d+)?")
_DECIMAL_COMMA = re.compile(r"[-+]?\d*,\d+(?:[eE][-+]?\d+)?")


@dataclass(frozen=True)
class Written:
    """A cell as a number may be written."""

    digits: str  # digits, sign and marks alone
    currency: str
    percent: bool
    spaced: bool  # whether spaces or apostrophes part its thousands
    marks: str  # the decimal marks under which it is a number: ".", ",", ".," or none
    unit: str = ""  # "kg" of "12 kg"
    bracketed: bool = False  # whether parentheses stand for its minus
    noted: bool = False  # whether marks of a footnote stand after it

    @property
    def number(self) -> bool:
        return bool(self.marks)

    @property
    def grouped(self) -> bool:
        """Return True if it is a number under either mark, and another one under each."""
        return self.marks == POINT + COMMA and (POINT in self.digits or COMMA in self.digits)

    def value(self, decimal: str) -> float:
        """Return the number under a mark, NaN where it is none."""
        if decimal not in self.marks:
            return float("nan")
        if decimal == POINT:
            other = COMMA
        else:
            other = POINT
        return float(self.digits.replace(other, "").replace(decimal, POINT))


def written(text: str) -> Written:
    """Return a cell with what stands around its digits taken off."""
    bare = text.strip().replace("−", "-").replace("\u00a0", " ")
    if noted := _NOTED.fullmatch(bare):
        return replace(written(noted[1]), noted=True)
    bracketed = bare.startswith("(") and bare.endswith(")")
    if bracketed:
        bare = bare[1:-1].strip()
    cell = _written(bare)
    if not cell.number and bare[:1] in _BEGINNINGS and (apart := _UNIT.fullmatch(bare)):
        cell = _with_unit(cell, *apart.groups())
    if not bracketed:
        return cell
    if cell.digits[:1] in ("+", "-"):  # parentheses stand for a sign where there is none
        return replace(cell, marks="")
    return replace(cell, digits=f"-{cell.digits}", bracketed=True)


def _with_unit(cell: Written, number: str, gap: str, unit: str) -> Written:
    """Return a number without its unit; the cell as it is where that is none.

    One letter without a space may be part of a code: 12A."""
    if unit.casefold() in _ORDINALS or not (gap or len(unit) > 1 or unit in "°′″"):
        return cell
    return replace(_written(number.strip()), unit=unit)


def _written(bare: str) -> Written:
    percent = bare.endswith("%")
    bare = bare.removesuffix("%").strip()
    if bare[:1] in "+-":
        sign = bare[:1]
    else:
        sign = ""
    unsigned = bare[len(sign) :].strip()
    currency = ""
    if unsigned[:1] and unsigned[0] in CURRENCIES:
        currency, unsigned = unsigned[0], unsigned[1:].strip()
    elif unsigned[-1:] and unsigned[-1] in CURRENCIES:
        currency, unsigned = unsigned[-1], unsigned[:-1].strip()
    elif (coded := _CODE.fullmatch(unsigned)) and (coded[1] or coded[3]):
        currency, unsigned = coded[1] or coded[3], coded[2]
    bare = sign + unsigned
    spaced = bool(_SPACED.fullmatch(bare))
    if spaced:
        bare = re.sub(r"[ \u202f'’]", "", bare)
    return Written(bare, currency, percent, spaced, _marks(bare))


def in_columns(cells: Sequence[Written]) -> list[Written]:
    """Return the cells of a column, those that are no numbers beside the others as such.

    Words after few of its numbers, or of many kinds, are no units ("12 Oak Lane"), and parentheses
    around every number no minus."""
    numbers = [cell for cell in cells if cell.number]
    with_unit = [cell.unit for cell in numbers if cell.unit]
    no_units = len(set(with_unit)) > MOST_UNITS or 2 * len(with_unit) < len(numbers)
    no_minus = all(cell.bracketed for cell in numbers)
    out = []
    for cell in cells:
        if (cell.unit and no_units) or (cell.bracketed and no_minus):
            cell = replace(cell, marks="")
        out.append(cell)
    return out


def _marks(digits: str) -> str:
    """Return the decimal marks under which digits and marks are a number."""
    if _SPECIAL.fullmatch(digits):
        return POINT + COMMA
    marks = ""
    if _PLAIN.fullmatch(digits) or _COMMA_GROUPS.fullmatch(digits):
        marks += POINT
    full = POINT not in digits and _PLAIN.fullmatch(digits)
    if full or _DECIMAL_COMMA.fullmatch(digits) or _POINT_GROUPS.fullmatch(digits):
        marks += COMMA
    return marks


def spoken_for(cells: Iterable[Written]) -> frozenset[str]:
    """Return the marks that cells with one reading alone speak for."""
    return frozenset(cell.marks for cell in cells if len(cell.marks) == 1)


@dataclass(frozen=True)
class Marks:
    """The decimal mark of a table, and whether its cells or the caller settled it."""

    decimal: str = POINT
    certain: bool = False


UNSETTLED = Marks()


def settled(columns: Iterable[Sequence[str]], usual: str = POINT) -> Marks:
    """Return the mark of a table from its columns' distinct texts.

    Parameters: ``usual`` the mark of a table none of whose cells speaks for one. Columns of which
    fewer than half the texts are numbers are not asked; of those that are, the mark of more columns
    is the table's."""
    votes = {POINT: 0, COMMA: 0}
    for texts in columns:
        cells = in_columns([written(text) for text in texts if text.strip()])
        numbers = [cell for cell in cells if cell.number]
        if len(numbers) <= NUMBERS_ALIKE * len(cells):
            continue
        spoken = spoken_for(numbers)
        if len(spoken) == 1:
            votes[next(iter(spoken))] += 1
    if votes[POINT] == votes[COMMA]:
        return Marks(usual, certain=votes[POINT] > 0)
    return Marks(max(votes, key=lambda mark: votes[mark]), certain=True)


def is_text(column: pd.Series) -> bool:
    """Return True for a column whose cells may be texts."""
    if isinstance(column.dtype, pd.CategoricalDtype):
        return False
    return bool(column.dtype == object or pd.api.types.is_string_dtype(column.dtype))


def texts_of(frame: pd.DataFrame) -> Iterator[list[str]]:
    """Yield the distinct texts of each column of text."""
    for name in frame.columns:
        column = frame[name]
        if not is_text(column):
            continue
        try:
            distinct = column.dropna().unique()
        except TypeError:  # lists and the like are no texts
            continue
        texts = [value for value in distinct if isinstance(value, str)]
        if texts:
            yield texts
