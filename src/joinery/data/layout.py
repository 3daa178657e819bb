"""Where a table stands on its sheet: below a heading, above such lines as totals."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

_FOOTER = re.compile(
    r"\s*(grand\s+|sub-?)?(totals?|sums?|averages?|means?|notes?|sources?|footnotes?)\b",
    re.IGNORECASE,
)
LOOKED_AT = 60
MOST_ABOVE, MOST_BELOW, LEAST_ROWS = 30, 5, 2
COMMENT = "#"


@dataclass(frozen=True)
class Layout:
    """The header's place among the rows, and how many to leave off at the end, with words."""

    header: int
    above: tuple[str, ...]
    below: tuple[str, ...]

    @property
    def notes(self) -> list[str]:
        """What was taken for no part of the table, in words."""
        out = []
        if self.above:
            out.append(f"{_lines(self.above)} above the header left off ({_quoted(self.above[0])})")
        if self.below:
            out.append(f"{_lines(self.below)} below the table left off ({_quoted(self.below[-1])})")
        return out


def _lines(texts: Sequence[str]) -> str:
    return f"{len(texts)} line{'s' * (len(texts) > 1)}"


def _quoted(text: str) -> str:
    return repr(text if len(text) <= 40 else text[:39] + "…")


def layout(head: Sequence[Sequence[str]], tail: Sequence[Sequence[str]], complete: bool) -> Layout:
    """Finds the table among rows of cells.

    Parameters: ``head`` the first rows; ``tail`` the last ones, of which those of the table come
    first; ``whole`` whether both together are all there is (then a row is not counted twice).
    Returns a Layout whose ``header`` counts rows of ``head``."""
    widths = [_filled(row) for row in head]
    counted = Counter(w for w in widths if w > 1)
    width = max(counted, key=lambda w: (counted[w] * (w > 1), w)) if counted else 1
    header = 0
    for place, row in enumerate(head[:MOST_ABOVE]):
        if (
            _filled(row)
            and not _is_comment(row)
            and len(_trimmed(row)) >= max(width * 0.6, min(width, 2))
        ):
            header = place
            break
    above = tuple(" ".join(c for c in row if c.strip()) for row in head[:header] if _filled(row))
    below: list[str] = []
    rows = tail[header + 1 :] if complete else tail
    for row in reversed(rows):
        if (
            len(below) >= min(MOST_BELOW, len(rows) - LEAST_ROWS)
            or not _filled(row)
            or not _is_footer(row, width)
        ):
            break
        below.append(" ".join(c for c in row if c.strip()))
    return Layout(header, above, tuple(reversed(below)))


def _trimmed(row: Sequence[str]) -> Sequence[str]:
    """A row without empty cells at its end."""
    end = len(row)
    while end and not row[end - 1].strip():
        end -= 1
    return row[:end]


def _filled(row: Sequence[str]) -> int:
    return sum(bool(c.strip()) for c in row)


def _is_comment(row: Sequence[str]) -> bool:
    return bool(row) and row[0].lstrip().startswith(COMMENT) and row[0].lstrip("# ").strip() != ""


def _is_footer(row: Sequence[str], width: int) -> bool:
    """A line that begins like a total or a note; one cell alone in a wide table counts too."""
    first = next((c for c in row if c.strip()), "")
    alone = width > 2 and _filled(row) == 1 and not re.fullmatch(r"[-+\d.,\s]*", first)
    return bool(_FOOTER.match(first)) or (alone and " " in first.strip())
