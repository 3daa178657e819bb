"""How often intervals hold the truth, by simulation: ``python -m benchmarks.coverage [TIMES]``.

Prints the table that stands in docs/numerics.md.
"""

from __future__ import annotations

import sys
from collections.abc import Callable

import numpy as np

import joinery as jn

LEVEL = 0.95
SIZES = np.array([2, 2, 3, 3, 4, 6, 8, 12, 20, 40])
Draw = Callable[[np.random.Generator], dict[str, np.ndarray]]


def even(rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Everything as the plain interval supposes; slope 1."""
    x = rng.exponential(size=40)
    return {"x": x, "y": x + rng.normal(size=40)}


def uneven(rng: np.random.Generator) -> dict[str, np.ndarray]:
    """The spread grows with x; slope 1."""
    x = rng.exponential(size=60)
    return {"x": x, "y": x + x * rng.normal(size=60)}


def fanned(n: int, far: bool = False) -> Draw:
    """The spread grows ten-fold with x; with ``far`` one row of leverage 0.5. Slope 1."""

    def draw(rng: np.random.Generator) -> dict[str, np.ndarray]:
        x = rng.uniform(size=n)
        if far:
            x[0] = x[1:].mean() + np.sqrt(((x[1:] - x[1:].mean()) ** 2).sum())
        return {"x": x, "y": x + (1 + 9 * np.minimum(x, 1)) * rng.normal(size=n)}

    return draw


def grouped(rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Ten unequal clusters share predictor and error; slope 1."""
    g = np.repeat(np.arange(10), SIZES)
    x = rng.normal(size=10)[g]
    return {"x": x, "g": g, "y": x + rng.normal(size=10)[g] + 0.5 * rng.normal(size=len(g))}


def neighbours(n: int, alike: float, trend: bool = False) -> Draw:
    """Neighbouring rows alike in predictor and error; or with a trend as predictor. Slope 1."""

    def draw(rng: np.random.Generator) -> dict[str, np.ndarray]:
        series = np.zeros((2, n))
        series[:, 0] = rng.normal(size=2) / np.sqrt(1 - alike**2)
        for i in range(1, n):
            series[:, i] = alike * series[:, i - 1] + rng.normal(size=2)
        x = np.arange(n) / n if trend else series[0]
        return {"x": x, "y": x + series[1]}

    return draw


CASES: list[tuple[str, Draw, dict[str, str]]] = [
    ("even spread, 40 rows", even, {}),
    ("even spread, 40 rows", even, {"std_errors": "robust"}),
    ("spread grows with x, 60 rows", uneven, {}),
    *(
        ("spread grows with x, 60 rows", uneven, {"std_errors": kind})
        for kind in ("hc0", "hc1", "hc2", "hc3")
    ),
    *(
        (
            f"spread growing ten-fold{', a row of leverage 0.5' * far}, {n} rows",
            fanned(n, far),
            {"std_errors": kind},
        )
        for n in (20, 60, 200)
        for far in (False, True)
        for kind in ("hc3", "robust")
    ),
    ("10 unequal clusters, 100 rows", grouped, {}),
    ("10 unequal clusters, 100 rows", grouped, {"std_errors": "clustered", "cluster": "g"}),
    *(
        (
            f"neighbours alike {alike}{', a trend' * trend}, {n} rows",
            neighbours(n, alike, trend),
            options,
        )
        for n in (50, 200)
        for alike, trend in ((0.3, False), (0.5, False), (0.7, False), (0.5, True))
        for options in ({}, {"std_errors": "autocorrelated"})
    ),
]


def main(times: int) -> None:
    """Prints a row for each case."""
    print("| rows | standard errors | slope inside its 95 % interval |\n| --- | --- | ---: |")
    for name, draw, options in CASES:
        rng = np.random.default_rng(2026)
        hits = 0
        for _ in range(times):
            row = (
                jn.fit(draw(rng), "y given x", level=LEVEL, **options).coefficients().frame.iloc[1]
            )
            hits += row["lower"] <= 1 <= row["upper"]
        print(
            f"| {name} | {options.get('std_errors', 'constant spread')} | {100 * hits / times:.1f} % |",
            flush=True,
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 4000)
