"""Words in as many lines as their place on a figure has."""

from __future__ import annotations

import textwrap
from typing import Any

import numpy as np
from matplotlib.figure import Figure, SubFigure
from matplotlib.text import Text

from joinery.show.pictures.style import letters

Sheet = Figure | SubFigure


def inches_of(figure: Any) -> np.ndarray:
    """Return the width and height in inches of a figure, or of a part of one."""
    return np.array([figure.bbox.width / figure.dpi, figure.bbox.height / figure.dpi])


WRAPS = {"finding": (104, 3), "found": (38, 3), "advice": (42, 6)}  # characters, and lines
MEANT_FOR = 8.0  # inches of a figure's width that the characters above are meant for
FINDING_SPACING = 1.4  # heights of a letter from line to line


def fold(figure: Sheet, kind: str, words: str) -> str:
    """Return words in as many lines as their place on the figure has, cut with a sign."""
    wide, most = WRAPS[kind]
    room = float(inches_of(figure)[0]) / MEANT_FOR / letters()
    return wrap(words, max(int(wide * room), 12), most + (room < 1))


def wrapped_as(figure: Sheet, text: Text, words: str) -> str:
    kind = str(text.get_gid())
    if kind in WRAPS:
        return fold(figure, kind, words)
    return words


def wrap(words: str, wide: int, most: int) -> str:
    """Return words in at most so many lines, with a sign where they are cut; no word is torn."""
    lines = textwrap.wrap(words, wide, break_long_words=False, break_on_hyphens=False)
    if len(lines) > most:
        lines = [*lines[: most - 1], lines[most - 1][: wide - 2].rstrip() + " …"]
    return "\n".join(lines)
