"""The picture of a rehearsal: estimates about the truth, and the first intervals."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import numpy as np

from joinery.errors import CallError
from joinery.show.numbers import level_words, percent
from joinery.study.resample.rehearse import Rehearsals

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

MOST_TERMS, INTERVALS = 6, 50


def draw(
    study: Rehearsals, *, path: str | os.PathLike[str] | None, ax: Axes | None, title: str | None
) -> Figure:
    """Draw the first block; of many terms the first six."""
    from joinery.show.pictures.canvas import names_as_they_are, write
    from joinery.show.pictures.layout import settle
    from joinery.show.pictures.rehearsal import Estimates, estimates

    if ax is not None:
        raise CallError(
            "the picture 'estimates' has panels of its own and cannot be drawn on axes",
            argument="ax",
        )
    block = study.blocks[-1]
    sound = np.flatnonzero(~np.isnan(block.estimates).all(axis=1))
    terms = [
        Estimates(
            name,
            float(block.process.truth[j]),
            block.estimates[sound, j],
            block.lower[sound[:INTERVALS], j],
            block.upper[sound[:INTERVALS], j],
        )
        for j, name in list(enumerate(block.process.names))[:MOST_TERMS]
    ]
    held = study.coefficients.frame
    shares = held["coverage"][held["rows"] == block.rows] if "rows" in held else held["coverage"]
    finding = (
        f"{block.rows:,} rows, {len(sound):,} rehearsals; {level_words(study.level)} intervals "
        f"hold the truth in {percent(float(shares.min()))} to {percent(float(shares.max()))}; "
        "rust: those of the first fifty that miss"
    )
    with names_as_they_are():
        figure = estimates(terms, title or "How far do estimates lie from the truth?", finding)
        settle(figure, block.process.names)
        if path is not None:
            write(figure, path)
    return figure
