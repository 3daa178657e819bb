"""A test and its p, several corrected together, and columns added to a fit.

U (n, p) is a basis of √w·X with UᵀU = I, and e (n,) are residuals times √w, so that Uᵀe = 0."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.numeric import distributions as tails


@dataclass(frozen=True)
class Test:
    """A statistic, its p, its degrees of freedom if any, and the size of the departure."""

    statistic: float
    p: float
    df: tuple[float, ...] = ()
    size: float = float("nan")


NOTHING = Test(float("nan"), float("nan"))


def holm(p: np.ndarray) -> np.ndarray:
    """Return Holm's p-values of several tests, which keep the chance of any false alarm (1979)."""
    p = np.asarray(p, float)
    order = np.argsort(np.where(np.isnan(p), np.inf, p), kind="stable")
    count = int(np.sum(~np.isnan(p)))
    out = np.full(len(p), np.nan)
    if count:
        steps = np.minimum(np.maximum.accumulate(p[order[:count]] * np.arange(count, 0, -1)), 1.0)
        out[order[:count]] = steps
    return out


def added_columns(
    zz: np.ndarray, uz: np.ndarray, ze: np.ndarray, rss: float, df: float
) -> list[Test]:
    """Return t of one more column z, for each of q: from zᵀz (q,), Uᵀz (r, q) and zᵀe (q,).

    Size is its partial r². NaN where the columns already there explain z. Source: Draper & Smith
    1998, 6.1.
    """
    if df <= 1 or rss <= 0:
        return [NOTHING] * len(zz)
    with np.errstate(all="ignore"):  # coefficients that run off bring products without end
        left = zz - np.einsum("ij,ij->j", uz, uz)
        apart = (left > 1e-10 * zz) & np.isfinite(left)
        gain = ze * ze / left
        t = np.sign(ze) * np.sqrt(gain * (df - 1) / np.maximum(rss - gain, 0.0))
        t[gain >= rss] = np.inf
        figures = zip(apart, t.tolist(), tails.t_two_sided(t, df - 1).tolist(), gain / rss)
    return [
        Test(part, p, (df - 1,), float(size)) if there else NOTHING
        for there, part, p, size in figures
    ]


def replicate_lack_of_fit(
    e: np.ndarray, weights: np.ndarray, times: np.ndarray, group: np.ndarray, rank: int
) -> Test:
    """Return lack of fit against the spread of rows with equal predictors (Draper & Smith 1998,
    2.1).

    Parameters: raw residuals e, weights, and how many equal rows each stands for, each (m,); group
    numbers (m,); rank of the model. Size is F itself."""
    w = weights * times
    total = np.bincount(group, w)
    mean = np.bincount(group, w * e) / np.where(total > 0, total, 1.0)
    pure = float((w * (e - mean[group]) ** 2).sum())
    lack = float((total * mean**2).sum())
    groups, n = int(np.count_nonzero(total)), int(times.sum())
    df1, df2 = groups - rank, n - groups
    if df1 <= 0 or df2 <= 0 or pure <= 1e-12 * (pure + lack):
        return NOTHING
    f = (lack / df1) / (pure / df2)
    return Test(f, float(tails.f_upper(f, df1, df2)), (df1, df2), f)
