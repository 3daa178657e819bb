"""Are residuals normal? The test of Shapiro and Wilk, and moments of many."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from joinery.core.blocks.order_statistics import Counted
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import inner
from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.numeric import distributions as tails

NORMAL_ROWS = 5000  # rows up to which W is used, the most that Royston 1995 gives its law for


@dataclass(frozen=True)
class Moments:
    """Sums of powers about the mean, which add up over parts (Pébay 2008)."""

    n: float
    mean: float
    second: float
    third: float
    fourth: float

    @classmethod
    def of(cls, z: np.ndarray, times: np.ndarray | None = None) -> Moments:
        """Return moments of values (m,), each standing so many times, once for None."""
        n = float(len(z) if times is None else times.sum())
        if not n:
            return cls(0.0, 0.0, 0.0, 0.0, 0.0)
        mean = float(z.sum() if times is None else inner(times, z)) / n
        away = z - mean
        square = away * away
        if times is None:
            weighed = square
        else:
            weighed = square * times
        return cls(n, mean, float(weighed.sum()), inner(weighed, away), inner(weighed, square))

    @classmethod
    def over(cls, values: Partition[Counted]) -> Moments:
        """Return moments of values that come in pieces."""
        parts = values.each(lambda piece: cls.of(*piece))
        return sum(parts, cls(0.0, 0.0, 0.0, 0.0, 0.0))

    def __add__(self, other: Moments) -> Moments:
        if not self.n or not other.n:
            if self.n:
                return self
            return other
        a, b, n = self.n, other.n, self.n + other.n
        d = other.mean - self.mean
        return Moments(
            n,
            self.mean + d * b / n,
            self.second + other.second + d * d * a * b / n,
            self.third
            + other.third
            + d**3 * a * b * (a - b) / n**2
            + 3 * d * (a * other.second - b * self.second) / n,
            self.fourth
            + other.fourth
            + d**4 * a * b * (a * a - a * b + b * b) / n**3
            + 6 * d * d * (a * a * other.second + b * b * self.second) / n**2
            + 4 * d * (a * other.third - b * self.third) / n,
        )


def normality(
    moments: Moments, z: np.ndarray | None = None, times: np.ndarray | None = None
) -> tuple[str, Test]:
    """Return Shapiro & Wilk's W up to 5,000 rows, D'Agostino & Pearson's K² beyond.

    Parameters: the ``moments`` of residuals; up to 5,000 rows also the residuals z (m,), and how
    many rows each stands for, None for one. Size: |skewness|/2 or |excess kurtosis|/4, whichever
    is larger. Sources: Shapiro & Wilk 1965; D'Agostino 1973."""
    n = int(moments.n)
    if n <= NORMAL_ROWS:
        name = "Shapiro–Wilk"
    else:
        name = "D'Agostino's K²"
    if n < 8 or moments.second <= 0:
        return name, NOTHING
    second, third, fourth = (m / n for m in (moments.second, moments.third, moments.fourth))
    size = max(abs(third / second**1.5) / 2, abs(fourth / second**2 - 3) / 4)
    if n <= NORMAL_ROWS:
        assert z is not None
        w, p = shapiro_wilk(z if times is None else np.repeat(z, times.astype(int)))
        return name, Test(w, p, (), size)
    skewed, peaked = _skewness_z(third / second**1.5, n), _kurtosis_z(fourth / second**2, n)
    statistic = skewed**2 + peaked**2
    return name, Test(statistic, float(tails.chi2_upper(statistic, 2)), (2,), size)


# coefficients of the polynomials in 1/√n of the two outermost weights, and of the mean and log
# standard deviation of a function of W in n (4 to 11 rows) or log n (Royston 1995, tables 1 and 2)
_OUTERMOST = (-2.706056, 4.434685, -2.071190, -0.147981, 0.221157, 0.0)
_NEXT = (-3.582633, 5.682633, -1.752461, -0.293762, 0.042981, 0.0)
_FEW_MEAN, _FEW_SD = (
    (-0.0006714, 0.025054, -0.39978, 0.5440),
    (-0.0020322, 0.062767, -0.77857, 1.3822),
)
_MANY_MEAN, _MANY_SD = (
    (0.0038915, -0.083751, -0.31082, -1.5861),
    (0.0030302, -0.082676, -0.4803),
)


def shapiro_wilk(x: np.ndarray) -> tuple[float, float]:
    """Return W and its p for a sample x (n,), n from 4 (Royston 1995, algorithm AS R94)."""
    x = np.sort(x)
    n, u = len(x), 1 / np.sqrt(len(x))
    m = np.asarray(tails.normal_quantile((np.arange(1, n + 1) - 0.375) / (n + 0.25)))
    total = float(m @ m)
    a = m / np.sqrt(total)
    if n > 5:
        ends = 2
    else:
        ends = 1
    outer = [float(np.polyval(c, u)) for c in (_OUTERMOST, _NEXT)][:ends]
    for place, more in enumerate(outer):
        a[place] -= more
        a[-1 - place] += more
    left = total - 2 * float((m[-ends:] ** 2).sum())
    phi = left / (1 - 2 * float((a[-ends:] ** 2).sum()))
    a[ends : n - ends] = m[ends : n - ends] / np.sqrt(phi)
    a = a - a.mean()
    away = (x - x.mean()) / (x[-1] - x[0])
    along, length, size = float(a @ away), float(a @ a), float(away @ away)
    root = np.sqrt(length * size)
    short = (root - along) * (root + along) / (length * size)  # 1 − W, also where W is near 1
    with np.errstate(divide="ignore"):
        if n <= 11:
            gamma = 0.459 * n - 2.273
            if np.log(short) >= gamma:
                return 1 - short, 1e-99
            w = -np.log(gamma - np.log(short))
            mean, sd = np.polyval(_FEW_MEAN, n), np.exp(np.polyval(_FEW_SD, n))
        else:
            w, at = np.log(short), np.log(n)
            mean, sd = np.polyval(_MANY_MEAN, at), np.exp(np.polyval(_MANY_SD, at))
    return 1 - short, float(tails.normal_below(-(w - mean) / sd))


def _skewness_z(skewness: float, n: int) -> float:
    """Return a sample's skewness as a standard normal under normality (D'Agostino 1970)."""
    y = skewness * np.sqrt((n + 1) * (n + 3) / (6.0 * (n - 2)))
    peak = (
        3.0 * (n * n + 27 * n - 70) * (n + 1) * (n + 3) / ((n - 2.0) * (n + 5) * (n + 7) * (n + 9))
    )
    w2 = -1 + np.sqrt(2 * (peak - 1))
    return float(np.arcsinh(y / np.sqrt(2.0 / (w2 - 1))) / np.sqrt(0.5 * np.log(w2)))


def _kurtosis_z(kurtosis: float, n: int) -> float:
    """Return a sample's kurtosis as a standard normal under normality (Anscombe & Glynn 1983)."""
    mean = 3.0 * (n - 1) / (n + 1)
    variance = 24.0 * n * (n - 2) * (n - 3) / ((n + 1) ** 2 * (n + 3) * (n + 5))
    x = (kurtosis - mean) / np.sqrt(variance)
    skew = (
        6.0
        * (n * n - 5 * n + 2)
        / ((n + 7) * (n + 9))
        * np.sqrt(6.0 * (n + 3) * (n + 5) / (n * (n - 2.0) * (n - 3)))
    )
    a = 6.0 + 8.0 / skew * (2.0 / skew + np.sqrt(1 + 4.0 / skew**2))
    below = 1 + x * np.sqrt(2 / (a - 4.0))
    if below:
        root = np.sign(below) * np.abs((1 - 2.0 / a) / np.abs(below)) ** (1 / 3)
    else:
        root = 0.0
    return float((1 - 2 / (9.0 * a) - root) / np.sqrt(2 / (9.0 * a)))
