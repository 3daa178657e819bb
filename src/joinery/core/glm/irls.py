"""Generalized linear models by iteratively reweighted least squares, with the shape of counts."""

from __future__ import annotations

import numpy as np

from joinery.core.glm.families import Family
from joinery.core.glm.likeliest import Iterated, likeliest
from joinery.core.glm.links import Link
from joinery.core.glm.problem import Problem
from joinery.core.glm.rows import LikelihoodSource
from joinery.core.glm.shape import with_likeliest_shape
from joinery.core.glm.warm_start import nested_deviance
from joinery.support.errors import DataError, NoConvergenceError


def reweighted(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    *,
    intercept: bool,
    n: int,
    dispersion: float | None = None,
    start: np.ndarray | None = None,
    keep_shape: bool = False,
    near: float | None = None,
) -> Iterated:
    """Fit a generalized linear model by iteratively reweighted least squares.

    Parameters
    ----------
    rows: what is fitted to.
    intercept: whether there is a constant beside the columns of the rows.
    n: how many rows they stand for.
    dispersion: φ where it is known; steps are judged in its unit.
    start: coefficients (k + 1,) to begin with.
    keep_shape: whether a family's shape stays as it is rather than being estimated.
    near: a shape near which the likeliest one lies, where that is known.

    Raises NoConvergenceError when no step lowers the deviance from the start, or steps run out.
    """
    problem = Problem(rows, family, link, intercept, n, dispersion)
    try:
        if family.shape is not None and not keep_shape:
            return with_likeliest_shape(problem, near)
        return likeliest(problem, start)
    except DataError:  # every working weight is lost
        raise NoConvergenceError(
            "the fit cannot be computed in numbers of this size; rescale the response or the "
            "predictors",
            iterations=0,
        ) from None


def nested(
    rows: LikelihoodSource,
    family: Family,
    link: Link,
    start: np.ndarray,
    *,
    intercept: bool,
    n: int,
    dispersion: float | None,
) -> tuple[float, np.ndarray] | None:
    """Return the deviance of a model within one that is fitted, to 12 digits, and coefficients (k +
    1,).

    Parameters: rows of the model's own columns, which are estimable as those of the whole are;
    coefficients ``start`` (k + 1,) near its own; the rest as for ``reweighted``. None where the
    steps do not lead there: the model then wants fitting from afar.
    """
    problem = Problem(rows, family, link, intercept, n, dispersion)
    return nested_deviance(problem, start)
