"""The closed words of calls, so that an editor offers them and a type checker finds a slip.

Each stands in a registry too, with what it does; a test holds the two together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal, TypedDict

FamilyName = Literal[
    "normal", "binomial", "poisson", "gamma", "inverse-gaussian", "negative-binomial"
]
LinkName = Literal[
    "identity", "log", "logit", "probit", "cloglog", "cauchit", "inverse", "inverse-square", "sqrt"
]
StdErrors = Literal[
    "constant spread", "robust", "hc0", "hc1", "hc2", "hc3", "clustered", "autocorrelated"
]
Missing = Literal["leave out", "refuse", "mean"]
Penalty = Literal["firth"]
After = Literal["earlier", "lower-order", "others"]
Criterion = Literal["aic", "bic", "adjusted r2", "p", "crosscheck"]
Moves = Literal["add", "drop", "add and drop"]
Intervals = Literal["model", "distribution-free"]
Hold = Literal["average"]
InverseInterval = Literal["new", "mean"]
Weighting = Literal["equal", "as seen"]
Correction = Literal["tukey", "holm", "bonferroni", "none", "dunnett"]
Resample = Literal["rows", "residuals", "signs", "clusters"]
Ends = Literal["percentile", "accelerated", "studentized"]
Style = Literal["text", "latex", "python", "javascript", "sql", "spreadsheet"]
Part = Literal[
    "fitted",
    "mean_lower",
    "mean_upper",
    "median_lower",
    "median_upper",
    "new_lower",
    "new_upper",
]
Form = Literal["text", "markdown", "html", "csv", "json", "latex"]
PictureName = Literal[
    "line",
    "observed_fitted",
    "residuals",
    "spread",
    "quantiles",
    "histogram",
    "sequence",
    "leverage",
    "influence",
    "added_variable",
    "component_residual",
    "coefficients",
    "simple_slopes",
    "inverse",
    "adjusted_means",
    "level_differences",
    "joint_region",
    "cutoffs",
    "calibration",
    "series",
    "forecast",
    "box_cox",
    "checks",
    "bootstrap",
]
FitSetPicture = Literal["coefficients", "lines"]
LookPictureName = Literal["columns", "response", "matrix"]


class Changes(TypedDict, total=False):
    """Options of a fit that may be changed beside its terms and rows."""

    family: FamilyName | None
    link: LinkName | None
    dispersion: float | Literal["estimated"] | None
    weights: str | Iterable[Any] | None
    repeats: str | Iterable[Any] | None
    offset: str | Iterable[Any] | None
    where: str | Iterable[Any] | None
    id: str | None
    order: str | Iterable[Any] | None
    missing: Missing
    std_errors: StdErrors
    cluster: str | Iterable[Any] | None
    penalty: Penalty | None
    level: float
    labels: Mapping[str, str] | None


class EachOptions(Changes, total=False):
    """Options of the fits of groups."""

    leave_out: Sequence[Any] | str | None


class StepwiseOptions(Changes, total=False):
    """Options of the fits of a search."""

    terms: Sequence[str] | None
    leave_out: Sequence[Any] | str | None
