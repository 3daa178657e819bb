"""The place of a table on its sheet: below a heading, above such lines as totals.

Only lines that cannot be rows are left off, and the note shows them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from joinery.data.not_rows import is_over_header

# what a line below a table begins with: sums and means, in the languages of its writers
_SUMS = "totals?|sums?|summe|gesamt|insgesamt|somme|suma|totale|totaal|celkem|razem|yhteensä"
_MEANS = "averages?|means?|mittelwert|durchschnitt|moyenne|promedio|gemiddelde|medelvärde"
_TOTAL = re.compile(rf"(grand\s+|sub-?\s?)?({_SUMS}|{_MEANS})\s*:?", re.IGNORECASE)
_REMARKS = (
    "notes?|sources?|footnotes?|quellen?|anmerkung(?:en)?|hinweise?|remarques?|nota|fuentes?|fonti?"
)
_REMARK = re.compile(rf"({_REMARKS})\b.*:|[*†‡]", re.IGNORECASE)
_NUMBER = re.compile(r"[-+]?[\d.,]+%?")
LOOKED_AT = 60  # lines at the top of a file that tell its header and delimiter
MOST_ABOVE, MOST_BELOW, LEAST_ROWS, LONG = 30, 5, 2, 40
COMMENT = "#"


@dataclass(frozen=True)
class Layout:
    """The header's place among the rows, and how many to leave off at the end, with words."""

    header: int
    above: tuple[str, ...]
    below: tuple[str, ...]
    off: int = 0  # rows at the end that are none of the table's, empty ones among them

    @property
    def notes(self) -> list[str]:
        """Return what was taken for no part of the table, in words."""
        return [
            f"{len(texts)} line{'s' * (len(texts) > 1)} {place} left off "
            f"({', '.join(map(_quoted, texts[:3]))}{', …' * (len(texts) > 3)})"
            for texts, place in ((self.above, "above the header"), (self.below, "below the table"))
            if texts
        ]


def _quoted(text: str) -> str:
    return repr(text if len(text) <= LONG else text[: LONG - 1] + "…")


def layout(
    head: Sequence[Sequence[str]],
    tail: Sequence[Sequence[str]],
    *,
    complete: bool,
    ragged: bool = True,
) -> Layout:
    """Find the table among rows of cells.

    Parameters
    ----------
    head: the first rows.
    tail: the last rows, those of the table first.
    complete: whether ``head`` and ``tail`` are the same rows, all there are.
    ragged: whether a row may have fewer cells than the table has columns, as in a text file.

    Returns a Layout whose ``header`` counts rows of ``head``.
    """
    widths = [_filled(row) for row in head]
    counted = Counter(w for w in widths if w > 1)
    if counted:
        width = max(counted, key=lambda w: (counted[w] * (w > 1), w))
    else:
        width = 1
    header = 0
    for place, row in enumerate(head[:MOST_ABOVE]):
        if (
            _filled(row)
            and not _is_comment(row)
            and len(_trimmed(row)) >= max(width * 0.6, min(width, 2))
        ):
            header = place
            break
    if header and _names_with_gaps(head[header - 1], head[header]):
        header -= 1
    lines = head[header:]
    if len(lines) > 1 and is_over_header(lines[0], lines[1], lines[2:]):
        header += 1
    above = tuple(" ".join(c for c in row if c.strip()) for row in head[:header] if _filled(row))
    below: list[str] = []
    firsts = Counter(_first(row) for row in [*head[header + 1 :], *([] if complete else tail)])
    if complete:
        rows = tail[header + 1 :]
    else:
        rows = tail
    off, gap = 0, _after_gap(rows, width)
    for place in range(len(rows) - 1, -1, -1):
        row = rows[place]
        if not _filled(row):  # it is left off with what is below it
            continue
        few = len(below) >= min(MOST_BELOW, len(rows) - LEAST_ROWS)
        level = firsts[_first(row)] > 1  # a word that other rows begin with too
        if few or level or not (place >= gap or _is_footer(row, width, ragged)):
            break
        below.append(" ".join(c for c in row if c.strip()))
        off = len(rows) - place
    return Layout(header, above, tuple(reversed(below)), off)


def _after_gap(rows: Sequence[Sequence[str]], width: int) -> int:
    """Return the place from which on, after an empty row, each row has words in its first cell
    alone."""
    place = len(rows)
    while place and width > 1 and _is_note(rows[place - 1]):
        place -= 1
    if place and not _filled(rows[place - 1]):
        return place
    return len(rows)


def _is_note(row: Sequence[str]) -> bool:
    return _filled(row) == 1 and any(c.isalpha() for c in row[0])


def _trimmed(row: Sequence[str]) -> Sequence[str]:
    """Return a row without empty cells at its end."""
    end = len(row)
    while end and not row[end - 1].strip():
        end -= 1
    return row[:end]


def _filled(row: Sequence[str]) -> int:
    return sum(bool(c.strip()) for c in row)


def _first(row: Sequence[str]) -> str:
    """Return the first cell that holds something, in small letters."""
    return next((c for c in row if c.strip()), "").strip().casefold()


def _names_with_gaps(above: Sequence[str], row: Sequence[str]) -> bool:
    """Return True if the line above a row of numbers names the columns, some of them not."""
    names = [c.strip() for c in above if c.strip()]
    cells = [c.strip() for c in row if c.strip()]
    as_wide = len(above) == len(row) and len(names) > 1
    numbers = sum(bool(_NUMBER.fullmatch(c)) for c in cells)
    return as_wide and 2 * numbers >= len(cells) and not any(map(_NUMBER.fullmatch, names))


def _is_comment(row: Sequence[str]) -> bool:
    return bool(row) and row[0].lstrip().startswith(COMMENT) and row[0].lstrip("# ").strip() != ""


def _is_footer(row: Sequence[str], width: int, ragged: bool) -> bool:
    """Return True if a line is no row: a total by its whole name, or one cell that reads like a
    note.

    A cell alone in a row of full width may be data whose other cells are missing.
    """
    first = next((c for c in row if c.strip()), "").strip()
    if width > 1 and _TOTAL.fullmatch(first):
        return True
    if width < 2 or _filled(row) > 1 or not row[0].strip() or " " not in first:
        return False
    cut_short = ragged and len(row) == 1
    return cut_short or bool(_REMARK.match(first)) or len(first) > LONG
