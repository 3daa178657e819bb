"""Covariances of coefficients that do not rest on even, independent spread.

All are worked out in the basis where the rows u (n, q) of the design, times √w, are orthonormal, so that leverage is
w‖u‖² and the plain covariance is s²·I. A sandwich there is its "meat" alone; the coefficients' covariance is
root·meat·rootᵀ.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Sandwich:
    """A covariance: its kind, the meat (q, q), each coefficient's degrees of freedom (q,), what it was made with."""

    kind: str
    meat: np.ndarray
    df: np.ndarray
    clusters: tuple[int, ...] = ()
    lags: int | None = None


def robust(
    kind: str, u: np.ndarray, e: np.ndarray, w: np.ndarray, repeats: np.ndarray, root: np.ndarray, n: int
) -> Sandwich:
    """HC0 (White 1980), HC1, HC2 and HC3 (MacKinnon & White 1985).

    Parameters: ``kind``; u (m, q); raw residuals e, precision weights w and repeats, each (m,); ``root`` (q, q) takes
    the basis to coefficients; n rows. A row with leverage 1 has residual 0 and adds nothing.
    """
    q = u.shape[1]
    left = 1 - w * (u * u).sum(axis=1)
    left = np.where(left > 1e-10, left, np.inf)
    factor = {"hc0": 1.0, "hc1": n / (n - q) if n > q else np.nan, "hc2": 1 / left, "hc3": 1 / left**2}[kind]
    weight = repeats * factor * (w * e) ** 2
    return Sandwich(kind, (u * weight[:, None]).T @ u, np.full(len(root), float(n - q)))


def clustered(u: np.ndarray, e: np.ndarray, w: np.ndarray, groups: Sequence[np.ndarray], root: np.ndarray) -> Sandwich:
    """CR2 with Bell & McCaffrey's degrees of freedom (2002), by one grouping or several crossed ones.

    Parameters: u (m, q), residuals e, weights w (times repeats), each (m,); ``groups`` one array of group numbers (m,)
    for each grouping; ``root`` (q, q). Crossed groupings are added and their intersections taken away (Cameron, Gelbach
    & Miller 2011), with the smallest degrees of freedom among them.
    """
    meat, df, counts = np.zeros((u.shape[1], u.shape[1])), np.full(len(root), np.inf), []
    for chosen in range(1, 2 ** len(groups)):
        members = [g for i, g in enumerate(groups) if chosen >> i & 1]
        _, joint = np.unique(np.column_stack(members), axis=0, return_inverse=True)
        part, own_df = _one_clustering(u, e, w, joint.ravel(), root)
        meat += part if len(members) % 2 else -part
        if len(members) == 1:
            df = np.minimum(df, own_df)
            counts.append(int(joint.max()) + 1)
    if len(groups) > 1:
        values, vectors = np.linalg.eigh(meat)
        meat = (vectors * np.maximum(values, 0.0)) @ vectors.T
    return Sandwich("clustered", meat, df, tuple(counts))


def _one_clustering(
    u: np.ndarray, e: np.ndarray, w: np.ndarray, group: np.ndarray, root: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Meat and degrees of freedom for one grouping, all in q × q per cluster.

    With K = UᵀWU of a cluster and t = UᵀWe, the adjusted score is (I − K)^(−1/2)·t. For a coefficient with row ℓ of the
    root, d = ℓᵀK(I − K)⁻¹ℓ and z = K(I − K)^(−1/2)ℓ give ν = (tr B)²/tr B² with B = diag(d) − ZZᵀ.
    """
    q = u.shape[1]
    order = np.argsort(group, kind="stable")
    ends = np.flatnonzero(np.diff(group[order])) + 1
    meat = np.zeros((q, q))
    d, z = [], []
    for rows in np.split(order, ends):
        U = u[rows]
        values, vectors = np.linalg.eigh((U * w[rows, None]).T @ U)
        left = 1 - values
        inverse_root = np.where(left > 1e-10, 1 / np.sqrt(np.where(left > 1e-10, left, 1.0)), 0.0)
        score = (vectors * inverse_root) @ (vectors.T @ (U.T @ (w[rows] * e[rows])))
        meat += np.outer(score, score)
        turned = root @ vectors
        d.append((turned**2 * values * inverse_root**2).sum(axis=1))
        z.append((turned * values * inverse_root) @ vectors.T)
    D, Z = np.array(d), np.array(z)  # (clusters, coefficients), (clusters, coefficients, q)
    trace = D.sum(axis=0) - (Z**2).sum(axis=(0, 2))
    inner = np.einsum("gcq,gcr->cqr", Z, Z)
    square = (D**2).sum(axis=0) - 2 * (D * (Z**2).sum(axis=2)).sum(axis=0) + (inner**2).sum(axis=(1, 2))
    with np.errstate(all="ignore"):
        return meat, np.where(square > 0, trace**2 / square, np.nan)


def newey_west_lags(n: int) -> int:
    """⌊4(n/100)^(2/9)⌋ (Newey & West 1994)."""
    return int(np.floor(4 * (n / 100) ** (2 / 9)))


def autocorrelated(
    u: np.ndarray, e: np.ndarray, w: np.ndarray, place: np.ndarray, root: np.ndarray, n: int
) -> Sandwich:
    """Bartlett weights over neighbouring rows (Newey & West 1987).

    Parameters: u (m, q), e, w (m,); ``place`` (m,) each row's place in the order, rows left out counted, so that they
    break the neighbourhood; ``root`` (q, q); n rows.
    """
    lags = newey_west_lags(n)
    scores = np.zeros((int(place.max()) + 1, u.shape[1]))
    scores[place] = u * (w * e)[:, None]
    meat = scores.T @ scores
    for lag in range(1, min(lags, len(scores) - 1) + 1):
        cross = scores[lag:].T @ scores[:-lag]
        meat += (1 - lag / (lags + 1)) * (cross + cross.T)
    return Sandwich("autocorrelated", meat, np.full(len(root), float(n - u.shape[1])), lags=lags)
