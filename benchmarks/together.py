"""How often intervals that hold together do: `python -m benchmarks.together 1000`.

Forecasts of the mean at 20 new rows, slopes at five values of a moderator, and the joint region of
two coefficients, under every covariance; the errors are white, so that each should hold 95 %.
"""

from __future__ import annotations

import sys
import warnings

import numpy as np

import joinery as jn

TRUTH = np.array([1.0, 0.5, 0.3, 0.2])
AT = np.array([-2.0, -1.0, 0.0, 1.0, 2.0])
CASES = (
    ("constant spread", 50, 0),
    ("robust", 50, 0),
    ("hc3", 50, 0),
    ("robust", 12, 0),
    ("hc3", 12, 0),
    ("clustered", 60, 8),
    ("clustered", 100, 10),
    ("autocorrelated", 50, 0),
    ("autocorrelated", 200, 0),
)


def mean(x: np.ndarray, z: np.ndarray) -> np.ndarray:
    return TRUTH[0] + TRUTH[1] * x + TRUTH[2] * z + TRUTH[3] * x * z


def all_inside(lower: np.ndarray, truth: np.ndarray, upper: np.ndarray) -> bool:
    """Return True if every interval holds its truth; an empty one claims nothing."""
    return bool((np.isnan(lower) | ((lower <= truth) & (truth <= upper))).all())


def clusters_of(n: int, count: int) -> np.ndarray:
    """Return unequal clusters, the last some ten times as large as the first."""
    ends = np.cumsum(np.arange(1, count + 1)) / (count * (count + 1) / 2)
    return np.searchsorted(np.round(ends * n), np.arange(n), side="right")


def held(errors: str, n: int, clusters: int, seed: int) -> tuple[bool, bool, bool]:
    """Return whether forecasts, slopes and the region of one simulated table hold."""
    r = np.random.default_rng(7 * seed + 1)
    x, z = r.normal(size=(2, n))
    table = {"x": x, "z": z, "y": mean(x, z) + r.normal(size=n)}
    options = {"std_errors": errors}
    if clusters:
        table["c"] = clusters_of(n, clusters)
        options["cluster"] = "c"
    fit = jn.fit(table, "y given crossed(x, z)", **options)
    new = dict(zip("xz", r.normal(size=(2, 20)), strict=True))
    ahead = fit.forecast(new, simultaneous=True)
    slopes = fit.simple_slopes("x", "z", AT.tolist(), simultaneous=True)
    p = fit.claim(f"x = {TRUTH[1]}, x * z = {TRUTH[3]}")["p"].iloc[-1]
    return (
        all_inside(ahead["mean_lower"], mean(**new), ahead["mean_upper"]),
        all_inside(slopes["lower"], TRUTH[1] + TRUTH[3] * AT, slopes["upper"]),
        not p < 0.05,
    )


def main() -> None:
    tables = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    for errors, n, clusters in CASES:
        found = np.array([held(errors, n, clusters, seed) for seed in range(tables)])
        shares = " | ".join(f"{share:.1f}" for share in 100 * found.mean(axis=0))
        print(f"| {errors} | {n} | {clusters or ''} | {shares} |", flush=True)


if __name__ == "__main__":
    warnings.simplefilter("ignore")
    main()
