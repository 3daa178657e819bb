"""Tail probabilities and quantiles of the reference distributions, good far into the tails.

All from the incomplete beta and gamma functions (Abramowitz & Stegun 1964, 26.2 to 26.7). Scalars
or arrays."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import special


def _complement(a: Any, b: Any, x: Any) -> Any:
    """Return 1 − the incomplete beta function: by subtraction where that keeps the digits, else
    itself."""
    below = special.betainc(a, b, x)
    return np.where(below < 0.5, 1 - below, special.betaincc(a, b, x))


def t_two_sided(t: Any, df: Any) -> Any:
    """Return P(|T| ≥ |t|) for Student's t with df degrees of freedom; the normal's for df = ∞."""
    t, df = np.abs(np.asarray(t, float)), np.asarray(df, float)
    with np.errstate(all="ignore"):
        finite = np.where(np.isinf(df), 1.0, df)
        # the smaller of x and 1 − x is formed directly, so that neither end loses digits
        ratio = (t / np.sqrt(finite)) ** 2
        near = _complement(0.5, finite / 2, ratio / (1 + ratio))
        far = special.betainc(finite / 2, 0.5, 1 / (1 + ratio))
        p = np.where(ratio < 1e-3, near, far)
        p = np.where(np.isinf(df), 2 * special.ndtr(-t), p)
    return np.where(np.isnan(t) | np.isnan(df), np.nan, p)[()]


def t_upper(t: Any, df: Any) -> Any:
    """Return P(T ≥ t) for Student's t with df degrees of freedom."""
    half = t_two_sided(t, df) / 2
    return np.where(np.asarray(t) >= 0, half, 1 - half)[()]


def t_quantile(probability: Any, df: Any) -> Any:
    """Return the value below which Student's t with df degrees of freedom falls with this
    probability."""
    df = np.asarray(df, float)
    normal = special.ndtri(probability)
    return np.where(
        np.isinf(df), normal, special.stdtrit(np.where(np.isinf(df), 1.0, df), probability)
    )[()]


def f_upper(f: Any, df1: Any, df2: Any) -> Any:
    """Return P(F ≥ f) for the F distribution; χ²/df1 for df2 = ∞."""
    f, df1, df2 = np.broadcast_arrays(*(np.asarray(v, float) for v in (f, df1, df2)))
    with np.errstate(all="ignore"):
        finite = np.where(np.isinf(df2), 1.0, df2)
        ratio = df1 * f / finite
        near = _complement(df1 / 2, finite / 2, ratio / (1 + ratio))
        far = special.betainc(finite / 2, df1 / 2, 1 / (1 + ratio))
        p = np.where(ratio < 1e-3, near, far)
        p = np.where(np.isinf(df2), special.gammaincc(df1 / 2, df1 * f / 2), p)
        p = np.where(np.isinf(f), 0.0, p)
    return np.where(np.isnan(f), np.nan, p)[()]


def f_quantile(probability: Any, df1: Any, df2: Any) -> Any:
    """Return the value below which F falls with this probability."""
    if np.isinf(df2):
        return chi2_quantile(probability, df1) / df1
    return special.fdtri(df1, df2, probability)


def chi2_upper(x: Any, df: Any) -> Any:
    """Return P(χ² ≥ x)."""
    return special.chdtrc(df, x)


def chi2_quantile(probability: Any, df: Any) -> Any:
    """Return the value below which χ² falls with this probability."""
    return chi2_of_upper(1 - np.asarray(probability), df)


def chi2_of_upper(p: Any, df: Any) -> Any:
    """Return the x of which P(χ² ≥ x) is p, exact for small p too."""
    return special.chdtri(df, p)


def normal_quantile(probability: Any) -> Any:
    """Return the value below which a standard normal falls with this probability."""
    return special.ndtri(probability)


def normal_below(z: Any) -> Any:
    """Return P(Z ≤ z) for a standard normal."""
    return special.ndtr(z)


def binomial_below(s: Any, m: Any, p: Any) -> Any:
    """Return P(S ≤ s) for s of m trials with probability p; s and m whole numbers, s may be −1."""
    s, m, p = np.broadcast_arrays(*(np.asarray(v, float) for v in (s, m, p)))
    inside = (s >= 0) & (s < m)
    below = special.betainc(np.where(inside, m - s, 1.0), np.where(inside, s + 1, 1.0), 1 - p)
    return np.where(inside, below, np.where(s < 0, 0.0, 1.0))[()]
