"""The picture of a rehearsal: estimates about the truth, and the first intervals."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

import numpy as np

from joinery.rehearsal.rehearse import Rehearsals
from joinery.show.numbers import level_words, percent

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

MOST_TERMS, INTERVALS = 6, 50


def draw(
    study: Rehearsals,
    *,
    path: str | os.PathLike[str] | None,
    ax: Figure | SubFigure | None,
    figsize: tuple[float, float] | None,
    title: str | None,
) -> Figure:
    """Draw the first block; of many terms the first six."""
    from joinery.show.pictures.canvas import finished, refuse_axes
    from joinery.show.pictures.rehearsal import Estimates, estimates

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
    if "rows" in held:
        shares = held["coverage"][held["rows"] == block.rows]
    else:
        shares = held["coverage"]
    finding = (
        f"{block.rows:,} rows, {len(sound):,} rehearsals; {level_words(study.level)} intervals "
        f"hold the truth in {percent(float(shares.min()))} to {percent(float(shares.max()))}; "
        "rust: those of the first fifty that miss"
    )

    def make(axes: Axes | None) -> Figure:
        refuse_axes("estimates", axes)
        return estimates(terms, title or "How far do estimates lie from the truth?", finding)

    return finished(make, block.process.names, ax=ax, figsize=figsize, path=path)
