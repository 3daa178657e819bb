"""A change of the linear predictor in words that are right for the link and the response."""

from __future__ import annotations

import math
from collections.abc import Callable

from joinery.show.numbers import (
    figure,
    fixed,
    interval,
    level_words,
    to_decimals,
    with_error,
)
from joinery.study.fitted import Fitted
from joinery.study.read.estimates import Combination
from joinery.study.understand.scale import Scale


def ends(middle: float, lower: float, upper: float) -> str:
    """Return a figure with its interval."""
    if not all(map(math.isfinite, (middle, lower, upper))):
        return f"{figure(middle, 3)} [{figure(lower, 3)}, {figure(upper, 3)}]"
    decimals = with_error(middle, (upper - lower) / 4)
    return f"{to_decimals(middle, decimals)} {interval(lower, upper, decimals)}"


def goes_with(fit: Fitted, step: str, c: Combination, tail: str) -> str:
    """Return one effect as a sentence, and whether it differs clearly from none."""
    lower, upper = (float(v[0]) for v in c.ends(fit.level))
    b = float(c.values[0])
    if not math.isfinite(b):
        return f"{step} cannot be estimated: the rows do not determine it."
    words = _amount(fit, b, lower, upper)
    clear = lower > 0 or upper < 0
    if not math.isfinite(lower):
        return f"{step} goes with {words}, {tail}; its uncertainty cannot be estimated."
    if not clear:
        return f"{step} goes with {words}, {tail}: no clear difference."
    return f"{step} goes with {words}, {tail}."


def _amount(fit: Fitted, b: float, lower: float, upper: float) -> str:
    """Return a change of the linear predictor in words that are right for the link."""
    sure = level_words(fit.level)
    ratio = fit.link.ratio
    if ratio and not fit.estimate.linear:
        what = f"the {ratio} of"
        if ratio == "mean" and fit.response.kind == "per":
            what = "the rate of"
        name = fit.words(str(fit.response.expression).strip("()"))
        if ratio == "mean":
            return f"{_per_cent(b, lower, upper, sure)} in {what} {name}"
        ends = f"[{_times(lower)}, {_times(upper)}]"
        return f"{what} {name} multiplied by {_times(b)} ({sure}: {ends})"
    if fit.link.name == "identity" and (inside := fit.response.inside_log):
        return f"{_per_cent(b, lower, upper, sure)} in {fit.words(inside)}"
    on = Scale(fit).on
    name = fit.words((on and (fit.response.name if fit.response.transformed else on))
                     or fit.response.name)  # fmt: skip
    if on:
        scale = f" on the scale of {name}"
    else:
        scale = f" {name}"
    if not (math.isfinite(lower) and math.isfinite(upper)):
        return f"{figure(abs(b), 3)} {_direction(b)}{scale}"
    decimals = with_error(b, (upper - lower) / 4)
    size = to_decimals(abs(b), decimals)
    span = _span(lower, upper, lambda v: to_decimals(v, decimals))
    return f"{size} {_direction(b)}{scale} ({sure}: {span})"


def _direction(b: float) -> str:
    if b < 0:
        return "less"
    return "more"


def _span(lower: float, upper: float, shown: Callable[[float], str]) -> str:
    """Return an interval of a change in words: both ends with their direction where they differ."""
    if lower < 0 < upper:
        return f"{shown(-lower)} less to {shown(upper)} more"
    first, last = sorted((abs(lower), abs(upper)))
    return f"{shown(first)} to {shown(last)}"


def _times(b: float) -> str:
    return figure(math.exp(min(b, 700.0)), 3)


def _per_cent(b: float, lower: float, upper: float, sure: str) -> str:
    """Return a change of a logarithm as per cent; beyond a doubling as a multiple."""
    if max(abs(b), abs(lower), abs(upper)) > math.log(2):
        return f"a multiplication by {_times(b)} ({sure}: {_times(lower)} to {_times(upper)})"
    size, first, last = (100 * math.expm1(v) for v in (b, lower, upper))
    span = _span(first, last, lambda v: f"{fixed(v, 1)} %")
    return f"{figure(abs(size), 2)} % {_direction(b)} ({sure}: {span})"
