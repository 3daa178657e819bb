"""Other fits beside the line of a fit."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np

from joinery.show.numbers import short_of
from joinery.study.fitted import Fitted
from joinery.study.forecast.bands import back_transformed
from joinery.study.held import (
    hold_rest,
)
from joinery.study.read.line_parts import bands_held, rows_along
from joinery.support.errors import CallError

if TYPE_CHECKING:
    from joinery.show.pictures.fit import Named


def fits_beside(fit: Fitted, beside: Any, name: str) -> list[Fitted]:
    """Return the fits to draw over this one. Raises CallError for another response."""
    if beside is None:
        return []
    if isinstance(beside, Iterable) and not isinstance(beside, str):
        given = beside
    else:
        given = [beside]
    others: list[Any] = [getattr(other, "_fitted", other) for other in given]
    for other in others:
        if not isinstance(other, Fitted):
            raise CallError("beside= takes other fits of the same response", argument="beside")
        if other.response.original != fit.response.original:
            raise CallError(
                f"{other.response.original} and {fit.response.original} are different responses",
                argument="beside",
            )
        if fit.response.transformed and other.response.name != fit.response.name:
            raise CallError(
                f"draw the fit of {fit.response.original} itself, and that of {fit.response.name} "
                "beside it",
                argument="beside",
            )
    return others


def curve_beside(fit: Fitted, other: Fitted, name: str, grid: np.ndarray) -> Named:
    """Return another fit's curve on this fit's scale, named by how its sentence differs."""
    from joinery.show.pictures.fit import Curve, Named

    held = hold_rest(other, rows_along(fit, name, grid))
    band = bands_held(other, held)
    if other.response.transformed and not fit.response.transformed:
        band = back_transformed(other, band)
    nothing = np.full(len(grid), np.nan)
    curve = Curve(grid, band.fitted, (nothing, nothing), (nothing, nothing), fit.design.seen[name])
    if other.r_squared is None:
        r2 = ""
    else:
        r2 = f", R² {short_of(other.r_squared, 1, 2)}"
    return Named(f"{_difference(fit, other)}{r2}", curve)


def _difference(fit: Fitted, other: Fitted) -> str:
    """Return how another sentence differs: ``with x^2``, ``without feed_kg``, ``log(y)``."""
    mine, theirs = ({t.key: str(t) for t in f.design.sentence.terms} for f in (fit, other))
    more = [text for key, text in theirs.items() if key not in mine]
    less = [text for key, text in mine.items() if key not in theirs]
    if other.response.name == fit.response.name:
        parts = []
    else:
        parts = [other.response.name]
    if not theirs:
        parts.append("the mean alone")
    else:
        parts += [f"with {', '.join(more)}"] if more else []
        parts += [f"without {', '.join(less)}"] if less else []
    if other.design.intercept != fit.design.intercept:
        parts.append("with intercept" if other.design.intercept else "without intercept")
    if other.family.name != fit.family.name or other.link.name != fit.link.name:
        parts.append(f"{other.family.name}, {other.link.name} link")
    return fit.words(" ".join(parts)) or "the same sentence"
