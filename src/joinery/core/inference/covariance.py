"""Covariances of coefficients that do not rest on even, independent spread.

All are worked out in the basis where the rows u (n, q) of the design, times √w, are orthonormal, so
that leverage is w‖u‖² and the plain covariance is s²·I. A sandwich there is its "meat" alone; the
coefficients' covariance is root·meat·rootᵀ, and the variance of a combination ℓ in the basis is
ℓᵀ·meat·ℓ."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from joinery.core.numeric import distributions as tails
from joinery.core.numeric.triangular import row_lengths

# of 1 − leverage: below it nothing but the row (or cluster) itself speaks to a direction
ALONE = 1e-10
# a variance that small beside the others comes from residuals that are zero but for rounding
NO_VARIANCE = 1e-16
ALONE_SPEAKS = "a coefficient rests on one row or cluster alone"
TOO_MANY = "there are too few degrees of freedom to test so many at once"


@dataclass(frozen=True)
class Sandwich:
    """A covariance and what its degrees of freedom come from."""

    kind: str
    meat: np.ndarray  # (q, q)
    df: np.ndarray  # of each coefficient (q,)
    clusters: tuple[int, ...] = ()  # how many of each grouping
    cosines: int | None = None  # how many are averaged, where neighbours may be alike
    # orthonormal directions (q, b) to which one row or cluster alone speaks, so that nothing tells
    # their variance
    blind: np.ndarray = field(default_factory=lambda: np.empty((0, 0)))
    # for each grouping, the leverage UᵀWU of each of its clusters (G, q, q); empty where they are
    # too many to keep
    leverages: tuple[np.ndarray, ...] = ()
    # whether crossed groupings left negative variances, which were set to zero
    clipped: bool = False
    # under "robust" each row in the orthonormal basis (m, q) and how many equal rows it is (m,);
    # empty where they are too many to keep
    rows: np.ndarray = field(default_factory=lambda: np.empty((0, 0)))
    copies: np.ndarray = field(default_factory=lambda: np.empty(0))

    def errors(self, L: np.ndarray) -> np.ndarray:
        """Return standard errors of combinations L (m, q) in the basis; NaN where nothing tells
        them."""
        size = row_lengths(L)
        unit = L / np.where(size > 0, size, 1.0)[:, None]
        standard_errors = (
            np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", unit, self.meat, unit), 0.0)) * size
        )
        return np.where(self.sighted(unit), standard_errors, np.nan)

    def sighted(self, L: np.ndarray) -> np.ndarray:
        """Return True if residuals tell how sure each of combinations L (m, q) is.

        They do not where a row or cluster alone speaks to it, nor where only rows that are fitted
        exactly do."""
        square = (L * L).sum(axis=1)
        spread = np.einsum("ij,jk,ik->i", L, self.meat, L)
        seen = spread > NO_VARIANCE * float(np.trace(self.meat)) * square
        if self.blind.size:
            seen &= ((L @ self.blind) ** 2).sum(axis=1) <= 1e-14 * square
        return np.asarray(seen)

    def degrees(self, L: np.ndarray) -> np.ndarray:
        """Return degrees of freedom of combinations L (m, q): their own, robust or by clusters.

        Of too many rows or clusters to keep, the smallest of any coefficient.
        """
        if self.kind not in ("clustered", "robust"):
            return np.full(len(L), self.df[0] if len(self.df) else np.nan)
        if self.kind == "robust" and len(self.rows):
            return robust_degrees(self.rows, self.copies, L)
        if not self.leverages:
            return np.full(len(L), np.nanmin(self.df))
        return np.asarray(np.min([bell_mccaffrey(K, L) for K in self.leverages], axis=0))


@dataclass(frozen=True)
class Joint:
    """A joint test of several combinations: F, degrees of freedom and p, or why there is none."""

    f: float
    df1: int
    df2: float
    p: float
    why: str = ""


def joint_test(L: np.ndarray, away: np.ndarray, sandwich: Sandwich) -> Joint:
    """Return Wald's test that combinations L (r, q) in the basis, ``away`` from claims, are zero.

    Hotelling's T² under every sandwich, with the degrees of freedom of ``joint_degrees``: Q of as
    many as r combinations is more spread than r·F, most of all where they are few."""
    r = len(L)
    if not r:
        return Joint(np.nan, 0, np.nan, np.nan, "there is nothing to test")
    if not sandwich.sighted(L).all():
        return Joint(np.nan, r, np.nan, np.nan, ALONE_SPEAKS)
    size = row_lengths(L)
    L, away = L / size[:, None], away / size
    V = L @ sandwich.meat @ L.T
    scale = np.sqrt(np.maximum(np.diag(V), 0.0))
    if not np.isfinite(V).all() or not np.all(scale > 0):
        return Joint(np.nan, r, np.nan, np.nan, "a variance is zero")
    values, vectors = np.linalg.eigh(V / np.outer(scale, scale))
    if values[0] <= 1e-12 * values[-1]:
        rank = int(np.sum(values > 1e-12 * values[-1]))
        return Joint(
            np.nan,
            r,
            np.nan,
            np.nan,
            f"the covariance has rank {rank} only, and {r} are to be tested",
        )
    Q = float(((vectors.T @ (away / scale)) ** 2 / values).sum())
    eta = joint_degrees(L, sandwich)
    df2 = eta - r + 1
    if not df2 > 0:
        return Joint(np.nan, r, np.nan, np.nan, TOO_MANY)
    f = Q * df2 / (eta * r)
    return Joint(f, r, df2, float(tails.f_upper(f, r, df2)))


def joint_degrees(L: np.ndarray, sandwich: Sandwich) -> float:
    """Return degrees of freedom η of Hotelling's T² of combinations L (r, q) in the basis.

    By clusters, and by rows under "robust", those of the approximate T² of Pustejovsky & Tipton
    2018, (11) to (15), which no recoding changes; of too many of them to keep, the smallest of any
    coefficient. The number of cosines where neighbours may be alike, else n − p."""
    if sandwich.kind == "autocorrelated":
        return float(sandwich.cosines or 0)
    if sandwich.leverages:
        return min(_hotelling_degrees(K, L) for K in sandwich.leverages)
    if len(sandwich.rows):
        return _rows_hotelling_degrees(sandwich.rows, sandwich.copies, L)
    return float(np.nanmin(sandwich.df))


def robust_degrees(rows: np.ndarray, copies: np.ndarray, L: np.ndarray) -> np.ndarray:
    """Return degrees of freedom (m,) of combinations L (m, q) under HC2, as if the spread were
    even.

    The estimated variance is a quadratic form Σ gᵢ²eᵢ²/(1 − hᵢ) of residuals with covariance I − H;
    twice its mean squared over its variance (Bell & McCaffrey 2002; Imbens & Kolesár 2016, 3).
    """
    return RobustSums.of(rows, copies, L).degrees


@dataclass(frozen=True)
class RobustSums:
    """Row sums behind the degrees of freedom under HC2, for each of m combinations."""

    mean: np.ndarray  # (m,)
    self_terms: np.ndarray  # (m,)
    across: np.ndarray  # (m, q, q)

    @classmethod
    def of(cls, rows: np.ndarray, copies: np.ndarray, L: np.ndarray) -> RobustSums:
        """Of rows (n, q) in the orthonormal basis and how many equal rows each is (n,)."""
        h = (rows * rows).sum(axis=1)
        sound = h < 1 - ALONE
        if not sound.all():
            rows, copies, h = rows[sound], copies[sound], h[sound]
        length = row_lengths(L)
        directions = L / np.where(length > 0, length, 1.0)[:, None]
        g2 = (rows @ directions.T) ** 2 / (1 - h)[:, None]
        across = np.empty((len(L), rows.shape[1], rows.shape[1]))
        for place, member in enumerate(g2.T):
            np.matmul((rows * (copies * member)[:, None]).T, rows, out=across[place])
        return cls((copies * (1 - h)) @ g2, (copies * (1 - 2 * h)) @ (g2 * g2), across)

    def __add__(self, other: RobustSums) -> RobustSums:
        across = self.across + other.across
        return RobustSums(self.mean + other.mean, self.self_terms + other.self_terms, across)

    @property
    def degrees(self) -> np.ndarray:
        spread = self.self_terms + (self.across**2).sum(axis=(1, 2))
        with np.errstate(all="ignore"):
            return np.where(spread > 0, self.mean**2 / spread, np.nan)


def _split(K: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return K(I − K)⁻¹ and K(I − K)^(−1/2) of each cluster (G, q, q), zero in its blind
    directions."""
    values, vectors = np.linalg.eigh(K)
    alone = 1 - values <= ALONE
    left = np.where(alone, 1.0, 1 - values)
    transposed = np.swapaxes(vectors, 1, 2)
    inverse = (vectors * np.where(alone, 0.0, values / left)[:, None, :]) @ transposed
    half = (vectors * np.where(alone, 0.0, values / np.sqrt(left))[:, None, :]) @ transposed
    return inverse, half


def bell_mccaffrey(K: np.ndarray, L: np.ndarray) -> np.ndarray:
    """Return degrees of freedom of combinations L (m, q): (tr B)²/tr B² (Bell & McCaffrey 2002).

    For ℓ, d = ℓᵀK(I − K)⁻¹ℓ and z = K(I − K)^(−1/2)ℓ of each cluster give B = diag(d) − ZZᵀ.
    """
    inverse, half = _split(K)
    out = []
    for part in np.array_split(L, max(len(L) * K.size // 10_000_000, 1)):
        D = np.einsum("mi,gij,mj->mg", part, inverse, part)
        Z = np.einsum("gij,mj->mgi", half, part)
        length = (Z**2).sum(axis=2)
        inner = np.einsum("mgi,mgj->mij", Z, Z)
        trace = (D - length).sum(axis=1)
        square = (D**2 - 2 * D * length).sum(axis=1) + (inner**2).sum(axis=(1, 2))
        with np.errstate(all="ignore"):
            out.append(np.where(square > 0, trace**2 / square, np.nan))
    return np.concatenate(out)


def _hotelling_degrees(K: np.ndarray, L: np.ndarray) -> float:
    """Return η of the approximate Hotelling T² of combinations L (r, q) (Pustejovsky & Tipton
    2018)."""
    inverse, half = _split(K)
    r = len(L)

    def forms(M: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return np.einsum("si,gij,tj->stg", M, inverse, M), np.einsum("gij,sj->sgi", half, M)

    D, Z = forms(L)
    omega = D.sum(axis=2) - np.einsum("sgi,tgi->st", Z, Z)
    values, vectors = np.linalg.eigh((omega + omega.T) / 2)
    if not values[0] > 0:
        return float("nan")
    D, Z = forms((vectors / np.sqrt(values)) @ vectors.T @ L)
    total = 0.0
    for s in range(r):
        for t in range(r):
            first = _product(D[s, s], Z[s], Z[s], D[t, t], Z[t], Z[t])
            total += first + _product(D[s, t], Z[s], Z[t], D[t, s], Z[t], Z[s])
    if total > 0:
        return r * (r + 1) / total
    return float("nan")


def _rows_hotelling_degrees(rows: np.ndarray, copies: np.ndarray, L: np.ndarray) -> float:
    """Return η of the same where each row is a cluster of its own, so that K = vvᵀ for a row v of
    √w·u.

    With g = M·v/√(1 − h), M = Ω^(−½)L, the cells of the matrices above are gₛᵢgₜⱼ(I − H)ᵢⱼ, and the
    sum over s and t is 2·Σᵢⱼ (I − H)²ᵢⱼ(gᵢ·gⱼ)².

    Parameters: ``rows`` (m, q), ``copies`` (m,) how many equal rows each is, L (r, q)."""
    h = (rows * rows).sum(axis=1)
    sound = h < 1 - ALONE
    rows, copies, h = rows[sound], copies[sound], h[sound]
    reach = rows @ L.T
    values, vectors = np.linalg.eigh((reach * copies[:, None]).T @ reach)
    if not values[0] > 0:
        return float("nan")
    g = reach @ (vectors / np.sqrt(values)) / np.sqrt(1 - h)[:, None]
    (m, q), r = rows.shape, len(L)
    if q * r * q * r < m * (q + r):  # H∘ggᵀ has the products of the columns of v and g as a root
        products = (rows[:, :, None] * g[:, None, :]).reshape(m, q * r)
        between = float((((products * copies[:, None]).T @ products) ** 2).sum())
    else:
        between = 0.0
        for part in np.array_split(np.arange(m), max(m * m // 2_000_000, 1)):
            cells = (rows[part] @ rows.T) * (g[part] @ g.T)
            between += float(copies[part] @ (cells * cells) @ copies)
    same = float(copies @ ((g * g).sum(axis=1) ** 2 * (1 - 2 * h)))
    return r * (r + 1) / (2 * (between + same))


def _product(
    a: np.ndarray, X: np.ndarray, Y: np.ndarray, b: np.ndarray, U: np.ndarray, W: np.ndarray
) -> float:
    """Return the sum of all cells of (diag(a) − XYᵀ)∘(diag(b) − UWᵀ), without forming them."""
    apart = float(a @ b) - float(a @ (U * W).sum(axis=1)) - float(b @ (X * Y).sum(axis=1))
    return apart + float(((U.T @ X) * (W.T @ Y)).sum())
