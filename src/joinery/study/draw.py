"""The pictures of a fit by name: the arrays, the question in the title, the finding under it."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from joinery.study.check import residual_pictures
from joinery.study.check import sheet as checks_sheet
from joinery.study.compare import box_cox as powers
from joinery.study.fitted import Fitted, rows_at_hand
from joinery.study.forecast import picture as forecast_picture
from joinery.study.forecast import series_picture
from joinery.study.picture_words import names_of
from joinery.study.read import line_picture
from joinery.study.resample import picture as bootstrap_picture
from joinery.study.rows import pictures as influence_pictures
from joinery.study.thinned import thinned
from joinery.study.understand import pictures as effects
from joinery.support import advice
from joinery.support.errors import CallError, one_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure, SubFigure

Picture = Callable[..., "Figure"]
# what a saved fit can draw
WITHOUT_ROWS: tuple[str, ...] = (
    "coefficients",
    "simple_slopes",
    "adjusted_means",
    "level_differences",
)
WITHOUT_ROWS += ("joint_region", "forecast")


def check_picture(name: str, options: Iterable[str]) -> None:
    """Raise CallError for no such picture, or an option that it does not take."""
    one_of("picture", name, tuple(PICTURES))
    takes = PICTURES[name][1]
    for wanted in options:
        if wanted not in takes:
            named = ", ".join(map(advice.option, takes))
            known = f"; it takes {named}" if takes else ""
            raise CallError(
                f"the picture {name!r} takes no {advice.option(wanted)}{known}", argument=wanted
            )


def draw(
    fit: Fitted,
    name: str,
    *,
    path: str | os.PathLike[str] | None,
    ax: Axes | Figure | SubFigure | None,
    label_rows: str | Sequence[Any],
    words: Mapping[str, str | None],
    figsize: tuple[float, float] | None = None,
    **options: Any,
) -> Figure:
    """Draws a picture by name. See ``Fit.draw``."""
    from joinery.show.pictures.canvas import finished

    check_picture(name, options)
    if name not in WITHOUT_ROWS:
        rows_at_hand(fit)
    picture, _ = PICTURES[name]
    fit, remarks = thinned(fit, name, label_rows)
    words = {**words, "drawn": remarks}

    def make(axes: Axes | None) -> Figure:
        return picture(fit, label_rows=label_rows, words=words, ax=axes, **options)

    return finished(make, names_of(fit), ax=ax, figsize=figsize, path=path)


PICTURES: dict[str, tuple[Picture, tuple[str, ...]]] = {
    "line": (line_picture.line, ("against", "across", "beside")),
    "observed_fitted": (residual_pictures.observed_fitted, ()),
    "residuals": (residual_pictures.residuals, ("against",)),
    "spread": (residual_pictures.spread, ()),
    "quantiles": (residual_pictures.quantiles, ()),
    "histogram": (residual_pictures.histogram, ()),
    "sequence": (residual_pictures.sequence, ()),
    "leverage": (influence_pictures.leverage, ()),
    "influence": (influence_pictures.influence, ()),
    "added_variable": (influence_pictures.added_variable, ("term",)),
    "component_residual": (influence_pictures.component_residual, ("against",)),
    "forecast": (forecast_picture.forecast, ("new", "hold", "per")),
    "series": (series_picture.series, ("new", "hold")),
    "box_cox": (powers.picture, ()),
    "checks": (checks_sheet.checks, ()),
    "coefficients": (effects.coefficients, ()),
    "simple_slopes": (
        effects.simple_slopes,
        ("of", "across", "at", "hold", "level", "simultaneous"),
    ),
    "adjusted_means": (effects.adjusted_means, ("term", "at", "weighting", "per", "level")),
    "level_differences": (
        effects.level_differences,
        ("term", "reference", "correction", "at", "level"),
    ),
    "joint_region": (effects.joint_region, ("of", "level")),
    "bootstrap": (
        bootstrap_picture.bootstrap,
        ("resamples", "of", "resample", "interval", "level", "seed"),
    ),
    "cutoffs": (effects.cutoffs, ("crosscheck", "seed")),
    "calibration": (effects.calibration, ("crosscheck", "seed")),
}
