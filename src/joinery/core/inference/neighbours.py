"""Are neighbouring residuals alike? The tests of Durbin and Watson, and of Breusch and Godfrey.

Throughout e (n,) are residuals times √w, and U (n, p) is a basis of √w·X with UᵀU = I, so that Uᵀe
= 0."""

from __future__ import annotations

import numpy as np
from scipy import linalg

from joinery.core.inference.diagnostics import NOTHING, Test
from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import forward, triangle

FEW_EIGEN = 200  # rows whose eigenvalues are quicker than nodes
MOST_EIGEN = 2000  # rows whose eigenvalues are found for the far tail
NODES_TOGETHER = 250  # nodes that are summed at once
LOST = 1e-8  # chances that the inversion loses in rounding
MOST_INVERTED = 4000  # rows up to which the law of Durbin and Watson's d is inverted, normal beyond


# of the characteristic function, at most: its tail is below 1e-12 long before
INVERSION_NODES = 4000


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
        # P(d* < d) = P(εᵀM(A − dI)Mε < 0): a ratio of forms becomes one form
        low = _below_zero(n, U, d, trace - d * m, trace2 - 2 * d * trace + d * d * m)
        chance = min(low, 1 - low)
        if chance < LOST and n <= MOST_EIGEN:
            # the sum over nodes has an error of its own, which swamps a chance below it
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
    # nodes so close that the law repeats far beyond where it has any weight
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
    # K is convex between its poles, so that halving finds where its slope is zero
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
    # a lag that the columns hold already has no test of its own
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
