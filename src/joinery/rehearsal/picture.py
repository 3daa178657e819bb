"""The picture of a rehearsal: estimates about the truth, and the first intervals."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from joinery.rehearsal.rehearse import Rehearsals
from joinery.show.numbers import level_words, percent
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

MOST_TERMS, INTERVALS = 6, 50


def draw_estimates(
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


def draw_power(
    study: Rehearsals,
    *,
    path: str | os.PathLike[str] | None,
    ax: Figure | SubFigure | None,
    figsize: tuple[float, float] | None,
    title: str | None,
) -> Figure:
    """Draw power and interval width against the numbers of rows; of many terms the first six."""
    from joinery.show.pictures.canvas import finished, refuse_axes
    from joinery.show.pictures.rehearsal import Planned, planned

    if len(study.blocks) < 2:
        raise CallError(
            "power is drawn against numbers of rows: give several, rows=[20, 40, 80]",
            argument="rows",
        )
    frame, names = study.coefficients.frame, study.blocks[0].process.names
    terms = [name for name in names if name != "intercept"][:MOST_TERMS] or list(names)
    curves = []
    for name in terms:
        lines = frame[frame["term"] == name]
        curves.append(
            Planned(
                name,
                lines["rows"].to_numpy(float),
                lines["power"].to_numpy(float),
                lines["interval_width"].to_numpy(float),
            )
        )
    finding = (
        f"power: tests at {1 - study.level:.2g}; width: of {level_words(study.level)} intervals"
    )

    def make(axes: Axes | None) -> Figure:
        refuse_axes("power", axes)
        return planned(curves, title or "How many rows does the study want?", finding)

    return finished(make, names, ax=ax, figsize=figsize, path=path)


PICTURES: dict[str, Callable[..., Figure]] = {"estimates": draw_estimates, "power": draw_power}
