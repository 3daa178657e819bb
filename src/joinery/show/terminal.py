"""Text for a terminal: how wide it is, in colour or plain, and a Table laid out in it."""

from __future__ import annotations

import io
import shutil
import sys
import textwrap
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from joinery.show.cells import cells_of, first_lines, heading, is_text
from joinery.show.marks import visible
from joinery.show.people import for_people
from joinery.support.labels import label_text

if TYPE_CHECKING:
    from joinery.show.table import Table

NARROWEST, WIDEST = 20, 120
COLUMN_GAP = 2  # between columns
MOST_WORDS = 44  # how wide a column of words gets
INDENT = 4  # of lines that belong to the one above


def width() -> int:
    """Return the width to write for: the terminal's, 80 where there is none."""
    return max(NARROWEST, min(shutil.get_terminal_size((80, 24)).columns, WIDEST))


def plain(renderable: RenderableType, columns: int | None = None) -> str:
    """Return text without colour, for `print` and for pipes."""
    out = io.StringIO()
    console = Console(
        file=out,
        width=columns or width(),
        no_color=True,
        force_terminal=False,
        force_jupyter=False,  # a notebook would be shown it, and the caller given nothing
        highlight=False,
    )
    console.print(renderable)
    return "\n".join(line.rstrip() for line in out.getvalue().splitlines())


def say(*renderables: RenderableType) -> None:
    """Print to standard output: in colour on a terminal, plain to a file or a pipe."""
    for renderable in renderables:
        if sys.stdout.isatty():
            Console(highlight=False, markup=False, width=width()).print(renderable)
        else:
            sys.stdout.write(plain(renderable) + "\n")


def paragraphs(text: str, columns: int | None = None) -> RenderableType:
    """Return lines of text folded to the terminal, items of a list hanging after their dash."""
    room = columns or width()
    lines = []
    for line in text.split("\n"):
        if line.startswith("- "):
            hanging = "  "
        else:
            hanging = ""
        lines += textwrap.wrap(line, room, subsequent_indent=hanging) or [""]
    return Text("\n".join(lines))


def grid(table: Table, columns: int | None = None) -> RenderableType:
    """Return a Table for a terminal of so many columns: laid in several strips where it is wider.

    Its key columns stand in every strip; a text that belongs under its row stands there."""
    room = columns or width()
    table = for_people(first_lines(table))
    appearance = table.appearance
    pieces = {name: _piece(table, name) for name in table.columns}
    if appearance.grouped and pieces:
        heads = pieces.pop(next(iter(pieces)))
    else:
        heads = None
    under = pieces.pop(appearance.under, None)
    keys: list[_Piece] = [_labels(table)] if table.index is not None else []
    names = list(pieces)[: 0 if keys else appearance.keys]
    keys += [pieces.pop(name) for name in names]
    title = visible(table.title)
    parts: list[RenderableType] = [Text(title, style="bold")] if title else []
    parts += [Text(visible(line)) for line in appearance.legend]
    if heads is not None:
        indent = COLUMN_GAP
    else:
        indent = 0
    for place, strip in enumerate(_strips(keys, list(pieces.values()), room - indent)):
        parts += [Text("")] if place else []
        laid = _Strip(keys, strip, room - indent, indent, appearance.silent)
        parts += laid.parts(len(table), heads, None if place else under)
    parts += [Text(visible(note)) for note in table.notes]
    return Group(*parts)


@dataclass(frozen=True)
class _Piece:
    """One column ready to be laid out."""

    heading: str  # in lines
    cells: Sequence[str]
    words: bool

    @property
    def longest(self) -> int:
        return max([cell_len(c) for c in (*self.cells, *self.heading.split("\n"))], default=0)

    @property
    def room(self) -> int:
        if self.words:
            return min(self.longest, MOST_WORDS)
        return self.longest


def _piece(table: Table, name: str) -> _Piece:
    return _headed(heading(table, name), cells_of(table, name), is_text(table, name))


def _labels(table: Table) -> _Piece:
    assert table.index is not None
    return _headed(table.index_name, [label_text(label) for label in table.index], True)


def _headed(heading: str, cells: Sequence[str], words: bool) -> _Piece:
    """Return a column whose heading is broken into lines where it is wider than what stands under
    it."""
    heading, cells = visible(heading), [visible(cell) for cell in cells]
    longest = max([cell_len(c) for c in cells], default=0)
    if cell_len(heading) > longest:
        heading = "\n".join(_folded(heading, max(longest, 0 if not words else 12)))
    return _Piece(heading, cells, words)


def _folded(heading: str, room: int) -> list[str]:
    """Return words in as few lines of some width as they take; no word is broken."""
    lines: list[str] = []
    for word in heading.split():
        if lines and cell_len(lines[-1]) + 1 + cell_len(word) <= room:
            lines[-1] += f" {word}"
        else:
            lines.append(word)
    return lines or [""]


def _strips(keys: list[_Piece], pieces: list[_Piece], room: int) -> list[list[_Piece]]:
    """Return columns in strips no wider than the room, keys counted in each."""
    strips: list[list[_Piece]] = [[]]
    wide = sum(key.room + COLUMN_GAP for key in keys)
    if wide + sum(piece.room + COLUMN_GAP for piece in pieces) - COLUMN_GAP > room:
        wide = min(wide, room // 2)  # rather fold the keys than part the figures
    used = start = wide
    for piece in pieces:
        if strips[-1] and used + piece.room > room:
            strips.append([])
            used = start
        strips[-1].append(piece)
        used += piece.room + COLUMN_GAP
    return strips


class _Strip:
    """Some columns side by side, in one room."""

    def __init__(
        self, keys: list[_Piece], pieces: list[_Piece], room: int, indent: int, silent: str
    ) -> None:
        self.keys, self.pieces = keys, [*keys, *pieces]
        self.indent, self.silent = indent, silent
        self.widths = [piece.room for piece in self.pieces]
        while (over := sum(self.widths) + COLUMN_GAP * (len(self.widths) - 1) - room) > 0:
            words = [i for i, piece in enumerate(self.pieces) if piece.words]
            widest = max(words or range(len(self.pieces)), key=lambda i: self.widths[i])
            if self.widths[widest] <= 4:
                break
            self.widths[widest] = max(self.widths[widest] - over, 4)
        for i, piece in enumerate(self.pieces):  # what is left over goes to the words
            more = min(piece.longest - self.widths[i], -over)
            if more > 0:
                self.widths[i], over = self.widths[i] + more, over + more

    def parts(
        self, shown: int, heads: _Piece | None, under: _Piece | None
    ) -> Iterator[RenderableType]:
        """Yield the heading and the rows, with what heads a group and what stands under a row."""
        rows = list(range(shown))
        if all(piece.words for piece in self.pieces) and len(self.pieces) > len(self.keys) > 0:
            # a strip of remarks alone: rows without any are left out
            result = self.pieces[len(self.keys) :]
            rows = [i for i in rows if any(piece.cells[i] for piece in result)]
        run: list[int] = []
        yield self._grid(run, header=True)
        for i in rows:
            if heads is not None and (i == rows[0] or heads.cells[i] != heads.cells[i - 1]):
                yield from self._run(run)
                yield Text(heads.cells[i])
            run.append(i)
            if under is not None and under.cells[i] not in ("", self.silent):
                yield from self._run(run)
                yield Padding(Text(under.cells[i]), (0, 0, 0, self.indent + INDENT))
        yield from self._run(run)

    def _run(self, run: list[int]) -> Iterator[RenderableType]:
        if run:
            yield self._grid(run, header=False)
            run.clear()

    def _grid(self, rows: list[int], *, header: bool) -> RenderableType:
        out = Grid(box=None, pad_edge=False, padding=(0, COLUMN_GAP, 0, 0), show_header=header)
        for piece, wide in zip(self.pieces, self.widths, strict=True):
            out.add_column(
                Text(piece.heading, style="bold"),
                justify="left" if piece.words else "right",
                width=wide,
                overflow="fold",
                vertical="top",
            )
        for i in rows:
            out.add_row(*(Text(piece.cells[i]) for piece in self.pieces))
        if self.indent:
            return Padding(out, (0, 0, 0, self.indent))
        return out
