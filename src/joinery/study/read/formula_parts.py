"""Parts of a forecast formula: seasons, bands, splines, days."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise
from typing import Any

import numpy as np

from joinery.data.written_dates import in_days, read_dates
from joinery.design.codings import coding_matrix
from joinery.design.factors import CategoryFactor
from joinery.design.levels import band_names
from joinery.design.terms import DesignTerm
from joinery.study.read.formula import (
    ByRange,
    Constant,
    Formula,
    call,
    less,
    times,
    total,
)


def level_weights(term: DesignTerm, factor: CategoryFactor, place: int) -> np.ndarray:
    """Return what one column of a term holds at each level of one of its categories: (levels,)."""
    if not term.contrasts:
        return np.asarray(np.eye(len(factor.levels))[place])
    return np.asarray(coding_matrix(factor.coding, len(factor.levels))[:, place - 1])


def season(learnt: Mapping[str, Any], weights: np.ndarray, x: Formula) -> Formula:
    """Return a weighted sum of the sines and cosines of a season."""
    parts: list[Formula] = []
    for k in range(learnt["waves"]):
        angle = times(Constant(2 * np.pi * (k + 1) / learnt["period"]), x)
        for wave, weight in zip(("sin", "cos"), weights[2 * k : 2 * k + 2], strict=True):
            if weight:
                parts.append(times(Constant(float(weight)), call(wave, angle)))
    return total(parts)


def in_bands(
    factor: CategoryFactor, cuts: tuple[float, ...], values: list[float]
) -> tuple[Formula, ...]:
    """Return the weights of the bands in their order; a band that no fitted row was in is
    missing."""
    known = dict(zip(factor.levels, values, strict=True))
    return tuple(Constant(known.get(name, float("nan"))) for name in band_names(cuts))


def expanded(learnt: Mapping[str, Any], weights: np.ndarray) -> np.ndarray:
    """Return a weighted sum of orthogonal polynomials as coefficients of powers, the constant
    first."""
    norm2, out = learnt["norm2"], np.zeros(learnt["degree"] + 1)
    before, now = np.zeros(1), np.ones(1)
    for j, alpha in enumerate(learnt["alpha"]):
        if j:
            b = norm2[j] / norm2[j - 1]
        else:
            b = 0.0
        after = np.append(0.0, now)
        after[: len(now)] -= alpha * now
        after[: len(before)] -= b * before
        before, now = now, after
        out[: len(now)] += weights[j] * now / np.sqrt(norm2[j + 1])
    return out


def interpolated(x: Formula, at: list[float], values: list[float]) -> Formula:
    """Straight lines between points, flat beyond the ends."""
    parts: list[Formula] = [Constant(values[0])]
    for (a, b), (v, w) in zip(pairwise(at), pairwise(values), strict=True):
        slope = Constant((w - v) / (b - a))
        parts.append(call("+", times(slope, less(x, a)), Constant(v)))
    return ByRange(x, tuple(at), (*parts, Constant(values[-1])))


def days(text: str) -> float:
    """Return a date written as text, in days since 1970."""
    result = read_dates([text])
    assert result is not None
    assert result.stamps is not None
    return float(in_days(result.stamps)[0])
