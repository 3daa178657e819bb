"""How often each check speaks when nothing is wrong, and when the thing it looks for is.

By a lone test at 5 %, and as the page says it, where all checks share one rate. Seeded simulation."""

from __future__ import annotations

import sys
from collections import defaultdict
from collections.abc import Callable

import numpy as np
import pandas as pd

import joinery as jn

Made = Callable[[np.random.Generator], pd.DataFrame]


def _plain(rng: np.random.Generator, n: int = 80) -> pd.DataFrame:
    x, z = rng.uniform(0, 10, (2, n))
    y = 20 + 2 * x - z + rng.normal(0, 2, n)
    return pd.DataFrame({"x": x, "z": z, "y": y, "day": np.arange(n)})


def _bent(rng: np.random.Generator) -> pd.DataFrame:
    return _plain(rng).eval("y = y + 0.16 * (x - 5) ** 2")


def _fanned(rng: np.random.Generator) -> pd.DataFrame:
    t = _plain(rng)
    mean = 20 + 2 * t["x"] - t["z"]
    return t.assign(y=mean + (t["y"] - mean) * (0.2 + t["x"] / 5))


def _skewed(rng: np.random.Generator) -> pd.DataFrame:
    t = _plain(rng)
    return t.assign(y=20 + 2 * t["x"] - t["z"] + 2 * (rng.exponential(size=len(t)) - 1))


def _in_step(rng: np.random.Generator) -> pd.DataFrame:
    t = _plain(rng)
    e = np.zeros(len(t))
    for i, shock in enumerate(rng.normal(0, 2, len(t))):
        e[i] = 0.5 * e[i - 1] + shock if i else shock
    return t.assign(y=20 + 2 * t["x"] - t["z"] + e)


def _repeated(rng: np.random.Generator) -> pd.DataFrame:
    t = _plain(rng).assign(x=lambda d: d["x"].round(), z=1.0)
    return t.assign(y=t["y"] + 0.25 * (t["x"] - 5) ** 2)


def _one_off(rng: np.random.Generator) -> pd.DataFrame:
    t = _plain(rng)
    t.loc[7, "y"] += 11
    return t


ALTERNATIVES: dict[str, tuple[str, Made]] = {
    "curvature of": ("a bend in x", _bent),
    "curvature across": ("a bend in x", _bent),
    "lack of fit": ("a bend, x repeated", _repeated),
    "spread against": ("spread growing 11-fold", _fanned),
    "Shapiro–Wilk": ("exponential errors", _skewed),
    "Durbin–Watson": ("errors in step, 0.5", _in_step),
    "Breusch–Godfrey": ("errors in step, 0.5", _in_step),
    "studentized residual": ("one row 5.5 SD off", _one_off),
}


def shares(made: Made, sentence: str, times: int, seed: int) -> dict[str, tuple[float, float]]:
    """How often each check has p < 0.05, and how often the page says so."""
    rng = np.random.default_rng(seed)
    found: dict[str, list[tuple[bool, bool]]] = defaultdict(list)
    for _ in range(times):
        for row in jn.fit(made(rng), sentence, order="day").checks().frame.itertuples():
            start = next((s for s in ALTERNATIVES if row.check.startswith(s)), None)
            if start is not None and row.p == row.p:
                found[start].append((row.p < 0.05, row.verdict in ("caution", "serious")))
    return {start: tuple(np.mean(values, axis=0)) for start, values in found.items()}


def main(times: int) -> None:
    """Prints the table as Markdown."""
    null = shares(_plain, "y given x, z", times, 1)
    null["lack of fit"] = shares(lambda rng: _plain(rng).round({"x": 0}), "y given x", times, 2)[
        "lack of fit"
    ]
    print(
        "| check | nothing wrong: p < 0.05 | on the page | when this is | p < 0.05 | on the page |\n"
        "| --- | ---: | ---: | --- | ---: | ---: |"
    )
    for start, (words, made) in ALTERNATIVES.items():
        sentence = "y given x" if start == "lack of fit" else "y given x, z"
        lone, page = shares(made, sentence, max(times // 4, 50), 3)[start]
        print(
            f"| {start} | {null[start][0]:.1%} | {null[start][1]:.1%} "
            f"| {words} | {lone:.0%} | {page:.0%} |",
            flush=True,
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000)
