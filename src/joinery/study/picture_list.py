"""The pictures of a fit: one entry each, whose module is loaded when the picture is drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@dataclass(frozen=True)
class Picture:
    """One picture of a fit."""

    module: str  # under joinery.study
    shows: str
    function: str | None = None  # None: called as the picture is
    takes: tuple[str, ...] = ()  # the options of ``draw`` that are about this picture
    without_rows: bool = False  # True where a fit loaded from a file can draw it
    # of a table too large to draw: the rows taken evenly alone, or remarkable rows beside them
    thinned: Literal["evenly", "with remarkable"] | None = None

    def drawer(self, name: str) -> Callable[..., Figure]:
        """Return the function that draws it."""
        module = import_module(f"joinery.study.{self.module}")
        function: Callable[..., Figure] = getattr(module, self.function or name)
        return function


PICTURES: dict[str, Picture] = {
    "line": Picture(
        "read.line_picture",
        "the rows with the fitted line or curve and its bands",
        takes=("against", "across", "beside", "hold"),
        thinned="with remarkable",
    ),
    "observed_fitted": Picture(
        "check.residual_pictures",
        "each response against its fitted value",
        thinned="with remarkable",
    ),
    "residuals": Picture(
        "check.residual_pictures",
        "residuals against fitted values or a column",
        takes=("against",),
        thinned="with remarkable",
    ),
    "spread": Picture(
        "check.residual_pictures",
        "sizes of residuals against fitted values",
        thinned="with remarkable",
    ),
    "quantiles": Picture(
        "check.residual_pictures", "residuals against the quantiles of their law", thinned="evenly"
    ),
    "histogram": Picture(
        "check.residual_pictures", "the distribution of the residuals", thinned="evenly"
    ),
    "sequence": Picture(
        "check.residual_pictures", "residuals in the order of the rows", thinned="with remarkable"
    ),
    "leverage": Picture(
        "check.row_pictures", "rows far out, badly fitted, or both", thinned="with remarkable"
    ),
    "influence": Picture(
        "check.row_pictures",
        "the rows that weigh most, and what they move",
        thinned="with remarkable",
    ),
    "added_variable": Picture(
        "check.term_pictures",
        "the response against one term, both less the other terms",
        takes=("term",),
        thinned="with remarkable",
    ),
    "component_residual": Picture(
        "check.term_pictures",
        "what a column adds, with the residuals",
        takes=("against",),
        thinned="with remarkable",
    ),
    "forecast": Picture(
        "forecast.picture",
        "forecasts with both intervals",
        takes=("new", "hold", "per"),
        without_rows=True,
    ),
    "series": Picture(
        "forecast.series_picture",
        "observed and fitted in order, forecasts after them",
        takes=("new", "hold"),
        thinned="with remarkable",
    ),
    "box_cox": Picture("compare.box_cox", "powers of the response", function="draw_powers"),
    "checks": Picture("check.sheet", "the checks, a strip a question"),
    "coefficients": Picture(
        "understand.pictures", "standardized coefficients with intervals", without_rows=True
    ),
    "simple_slopes": Picture(
        "understand.pictures",
        "the slope of one predictor across another",
        takes=("of", "across", "at", "hold", "level", "simultaneous"),
        without_rows=True,
    ),
    "inverse": Picture(
        "understand.inverse",
        "a reading carried over to the predictor that gives it",
        function="picture",
        takes=("of", "at", "hold", "replicates", "interval", "level"),
    ),
    "adjusted_means": Picture(
        "understand.pictures",
        "means of a category's levels",
        takes=("term", "at", "weighting", "per", "level"),
        without_rows=True,
    ),
    "level_differences": Picture(
        "understand.pictures",
        "differences between a category's levels",
        takes=("term", "reference", "correction", "at", "level"),
        without_rows=True,
    ),
    "joint_region": Picture(
        "understand.pictures",
        "the region of two coefficients",
        takes=("of", "level"),
        without_rows=True,
    ),
    "bootstrap": Picture(
        "resample.picture",
        "the distribution of resampled coefficients",
        takes=("resamples", "of", "resample", "interval", "level", "seed"),
    ),
    "cutoffs": Picture(
        "understand.pictures",
        "sensitivity and specificity against the cut-off",
        takes=("crosscheck", "seed"),
    ),
    "calibration": Picture(
        "understand.pictures",
        "observed shares against fitted probabilities",
        takes=("crosscheck", "seed"),
    ),
}


def listing() -> list[str]:
    """Return a line a picture: its name, what it shows, its options. The docstrings hold them."""
    lines = []
    for name, picture in PICTURES.items():
        takes = ", ".join(f"``{option}=``" for option in picture.takes)
        lines.append(f"``{name}``: {picture.shows}" + (f" ({takes})" if takes else ""))
    return lines
