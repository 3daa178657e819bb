"""Checks of a least-squares fit, from its residuals and an orthonormal basis of its columns.

Throughout e (n,) are residuals times √w, and U (n, p) is a basis of √w·X with UᵀU = I, so that Uᵀe
= 0."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import linalg

from joinery.core.blocks.order_statistics import Counted
from joinery.core.blocks.partition import Partition
from joinery.core.blocks.products import inner
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import WIDE, forward, triangle

MOST_INVERTED = 4000  # rows up to which the law of Durbin and Watson's d is inverted, normal beyond
NORMAL_ROWS = 5000  # rows up to which W is used, the most that Royston 1995 gives its law for
# of the characteristic function, at most: its tail is below 1e-12 long before
INVERSION_NODES = 4000
FEW_EIGEN, NODES_TOGETHER = 200, 250  # rows whose eigenvalues are quicker, and nodes summed at once
LOST, MOST_EIGEN = (
    1e-8,
    2000,
)  # chances that the inversion loses in rounding, and rows whose eigenvalues are found


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


# ------------------------------------------------------------------ order


def durbin_watson(e: np.ndarray, U: np.ndarray | None) -> Test:
    """Return d = Σ(eₜ − eₜ₋₁)²/Σeₜ² with its two-sided p; size is the lag-one correlation, about 1
    − d/2.

    The law of d under independent normal errors is that of Σ(λⱼ − d)χ²₁ around 0, λ the eigenvalues
    of MAM; its characteristic function needs only tridiagonal solutions and is inverted by Davies'
    sum (1973). Above 4,000 rows, and without U, the normal law with d's own mean and variance.
    Source: Durbin & Watson 1950, 1951."""
    n = len(e)
    if U is None:
        p = 0
    else:
        p = U.shape[1]
    square = float(e @ e)
    if n - p < 3 or square <= 0:
        return NOTHING
    d = float(np.sum(np.diff(e) ** 2)) / square
    trace, trace2 = _traces(n, U)
    m = n - p
    if U is None or n > MOST_INVERTED:
        chance = _chance_by_moments(d, trace, trace2, m)
    else:
        low = _below_zero(n, U, d, trace - d * m, trace2 - 2 * d * trace + d * d * m)
        chance = min(low, 1 - low)
        if chance < LOST and n <= MOST_EIGEN:
            chance = _far_tail(U, d)
    return Test(d, float(min(max(2 * chance, 0.0), 1.0)), (), 1 - d / 2)


def durbin_watson_of_sums(n: int, d: float) -> Test:
    """Return the same from d alone, of so many rows that the columns hardly matter."""
    chance = _chance_by_moments(d, *_traces(n, None), n)
    return Test(d, float(min(2 * chance, 1.0)), (), 1 - d / 2)


def _chance_by_moments(d: float, trace: float, trace2: float, m: int) -> float:
    """Return the chance beyond d by the normal law with d's own mean and variance."""
    mean = trace / m
    variance = 2 * (trace2 - trace**2 / m) / (m * (m + 2))
    return float(tails.normal_below(-abs((d - mean) / np.sqrt(variance))))


def _differenced(U: np.ndarray) -> np.ndarray:
    """Return a·U for the matrix A of d: 2 on the diagonal but 1 at its ends, −1 beside it."""
    out = 2 * U
    out[1:] -= U[:-1]
    out[:-1] -= U[1:]
    out[0] -= U[0]
    out[-1] -= U[-1]
    return np.asarray(out)


def _traces(n: int, U: np.ndarray | None) -> tuple[float, float]:
    """Return tr(MA) and tr((MA)²) for M = I − UUᵀ."""
    trace, trace2 = 2.0 * n - 2, 4.0 * (n - 2) + 2 + 2.0 * (n - 1)
    if U is not None:
        AU = _differenced(U)
        inner = U.T @ AU
        trace -= float(np.trace(inner))
        trace2 += -2 * float((AU * AU).sum()) + float((inner * inner.T).sum())
    return trace, trace2


def _below_zero(n: int, U: np.ndarray, d: float, mean: float, square: float) -> float:
    """Return P(Q < 0) for Q = εᵀM(A − dI)Mε, by Davies' sum over the characteristic function."""
    spread = np.sqrt(2 * max(square, 1e-300))
    step = 2 * np.pi / (abs(mean) + 14 * spread)
    if n <= FEW_EIGEN:
        return 0.5 - _davies_sum(_eigenvalues(U) - d, step)
    total, k = 0.0, 0
    while k < INVERSION_NODES:
        value = _characteristic(n, U, d, (k + 0.5) * step)
        term = value.imag / (np.pi * (k + 0.5))
        total += term
        if abs(value) < 1e-13:
            break
        k += 1
    return 0.5 - total


def _davies_sum(values: np.ndarray, step: float) -> float:
    """Return Davies' sum for Σ valuesⱼχ²₁, all nodes at once: few degrees of freedom take many."""
    total = 0.0
    for start in range(0, INVERSION_NODES, NODES_TOGETHER):
        k = np.arange(start, start + NODES_TOGETHER) + 0.5
        angle = 2 * step * np.outer(k, values)
        size = np.exp(-0.25 * np.log1p(angle**2).sum(axis=1))
        total += float((size * np.sin(0.5 * np.arctan(angle).sum(axis=1)) / (np.pi * k)).sum())
        if size[-1] < 1e-13:
            break
    return total


def _eigenvalues(U: np.ndarray) -> np.ndarray:
    """Return the eigenvalues of MAM, in order, but for those of the columns' own space."""
    MA = _differenced(np.eye(len(U)) - U @ U.T)
    full = np.linalg.eigvalsh(MA - U @ (U.T @ MA) - 8 * U @ U.T)  # the columns' lie below zero
    return np.asarray(full[U.shape[1] :])


def _far_tail(U: np.ndarray, d: float) -> float:
    """Return the chance of a d farther out on its side, inverted along the line of steepest
    descent.

    On the line through the saddle point of exp K(s) nothing cancels (Daniels 1954; Rice 1980).
    """
    values = _eigenvalues(U) - d
    low, high = 0.5 / values.min(), 0.5 / values.max()  # between these K(s) exists

    def slope(s: float) -> float:
        return float((values / (1 - 2 * s * values)).sum())

    side = -1.0 if slope(0.0) > 0 else 1.0  # the tail below zero, or above
    near, far = 0.0, (low if side < 0 else high)
    for _ in range(200):
        middle = (near + far) / 2
        near, far = (middle, far) if (slope(middle) > 0) == (side < 0) else (near, middle)
    saddle = near
    curve = 2 * float(((values / (1 - 2 * saddle * values)) ** 2).sum())
    y, weights = np.polynomial.legendre.leggauss(400)
    y, weights = (y + 1) * 20 / np.sqrt(curve), weights * 20 / np.sqrt(curve)
    s = saddle + 1j * y
    K = -0.5 * np.log(1 - 2 * s[:, None] * values).sum(axis=1)
    return float(abs((weights * (np.exp(K) / s).real).sum()) / np.pi)


def _characteristic(n: int, U: np.ndarray, d: float, t: float) -> complex:
    """Return E exp(itQ) = det(I − 2itB)^(−½) · det(Uᵀ(I − 2itB)⁻¹U)^(−½) for B = A − dI
    tridiagonal.

    Every pivot has a positive real part, so that the principal logarithm of each is the right
    branch."""
    banded = np.empty((3, n), dtype=complex)
    banded[0], banded[2] = 2j * t, 2j * t
    banded[1] = 1 - 2j * t * (2 - d)
    banded[1, [0, -1]] = 1 - 2j * t * (1 - d)
    solved = linalg.solve_banded((1, 1), banded, U.astype(complex), check_finite=False)
    logs = _log_tridiagonal(banded[1], (2j * t) ** 2) + _log_symmetric(U.T @ solved)
    return complex(np.exp(-0.5 * logs))


def _log_tridiagonal(diagonal: np.ndarray, beside: complex) -> complex:
    """Return log det of a symmetric tridiagonal matrix by its pivots.

    ``beside`` is the square of the entries beside.
    """
    if len(diagonal) > 2:
        inner = complex(diagonal[1])
    else:
        inner = 0j
    pivot = complex(diagonal[0])
    total = np.log(pivot)
    last = None
    for place in range(1, len(diagonal) - 1):
        pivot = inner - beside / pivot
        # pivots settle: from then on each adds the same
        if last is not None and abs(pivot - last) < 1e-15 * abs(pivot):
            total += (len(diagonal) - 1 - place) * np.log(pivot)
            break
        total += np.log(pivot)
        last = pivot
    return complex(total + np.log(complex(diagonal[-1]) - beside / pivot))


def _log_symmetric(S: np.ndarray) -> complex:
    """Return log det of a complex symmetric matrix with positive definite real part, by
    elimination."""
    S, total = S.copy(), 0j
    for k in range(len(S)):
        pivot = S[k, k]
        total += np.log(pivot)
        S[k + 1 :, k + 1 :] -= np.outer(S[k + 1 :, k], S[k, k + 1 :]) / pivot
    return complex(total)


def lagged(e: np.ndarray, lags: int) -> np.ndarray:
    """Return the residuals (n,) one row back, two rows back and so on, zero before the first (n,
    lags)."""
    return np.column_stack([np.append(np.zeros(k), e[:-k])[: len(e)] for k in range(1, lags + 1)])


def breusch_godfrey(e: np.ndarray, U: np.ndarray, lags: int) -> Test:
    """Return F of lagged residuals added to the model (Breusch 1978; Godfrey 1978)."""
    Z = lagged(e, lags)
    df = len(e) - U.shape[1] - lags
    left = Z - U @ (U.T @ Z)
    R = triangle(np.column_stack([left, e]))
    if df <= 0 or np.any(np.abs(np.diag(R)[:lags]) < 1e-10 * np.sqrt((Z * Z).sum(axis=0))):
        return NOTHING
    return _of_lags(float(R[:lags, -1] @ R[:lags, -1]), float(R[lags, -1]) ** 2, lags, df)


def breusch_godfrey_of_sums(
    ZZ: np.ndarray, UZ: np.ndarray, Ze: np.ndarray, ee: float, df: int
) -> Test:
    """Return the same from sums over rows that are not held: ZᵀZ, UᵀZ, Zᵀe of the lagged Z, and
    eᵀe."""
    left = ZZ - UZ.T @ UZ
    if df <= 0 or np.any(np.diag(left) < 1e-10 * np.diag(ZZ)) or not ee > 0:
        return NOTHING
    try:
        half = forward(np.linalg.cholesky(left).T, Ze)
    except np.linalg.LinAlgError:
        return NOTHING
    gain = float(half @ half)
    return _of_lags(gain, ee - gain, len(Ze), df)


def _of_lags(gain: float, rest: float, lags: int, df: int) -> Test:
    if rest > 0:
        f = gain / lags / (rest / df)
    else:
        f = float("inf")
    return Test(f, float(tails.f_upper(f, lags, df)), (lags, df), gain / (gain + rest))


# ------------------------------------------------------------------ overlap


def largest_condition_index(R: np.ndarray) -> float:
    """Return the largest of ``condition_indexes``."""
    unit = R / np.sqrt((R * R).sum(axis=0))
    with np.errstate(all="ignore"):
        if len(R) > WIDE:  # squares keep half the digits, which is enough of a small index
            values = np.linalg.eigvalsh(unit.T @ unit)
            if values[0] > 1e-10 * values[-1]:
                return float(np.sqrt(values[-1] / values[0]))
        values = np.linalg.svd(unit, compute_uv=False)
        return float(values[0] / values[-1])


def condition_indexes(R: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return condition indexes (r,) of columns of unit length, and the variance shares (r, r).

    Parameters: R, a factor of the uncentred columns, the constant among them. Row i of the shares
    belongs to index i; a column's shares add to one. Source: Belsley 1991, *Conditioning
    Diagnostics*, 3."""
    unit = R / np.sqrt((R * R).sum(axis=0))
    _, values, vectors = np.linalg.svd(unit)
    parts = (vectors / values[:, None]) ** 2
    return values[0] / values, parts / parts.sum(axis=0)
