"""How often a page finds a fault that is planted: `python -m benchmarks.faults [TABLES]` prints the table.

Beside each share of pages with a caution of the right kind stands what a lone added-columns test at p < 0.005 finds."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pandas as pd

import joinery as jn
from joinery.study.check.table import check_lines
from joinery.study.verdicts import GRAVE

Rng = np.random.Generator
SIZES = (30, 100, 300)


@dataclass(frozen=True)
class Fault:
    """A fault: how its tables are made, the sentence, and the kinds of check that find it."""

    name: str
    made: Callable[[int, Rng], pd.DataFrame]
    kinds: tuple[str, ...]
    sentence: str = "y given x, z"
    options: dict[str, Any] = field(default_factory=dict)


def _plain(n: int, rng: Rng) -> pd.DataFrame:
    return pd.DataFrame({"x": rng.normal(size=n), "z": rng.normal(size=n)})


def _share(signal: np.ndarray, partial: float, n: int, rng: Rng) -> np.ndarray:
    """A signal beside noise of which it is a partial R² of so much."""
    return signal / signal.std() * np.sqrt(partial / (1 - partial)) + rng.normal(size=n)


def s_shape(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.uniform(-2, 2, n))
    cube = t["x"] ** 3
    left = cube - np.polyval(np.polyfit(t["x"], cube, 1), t["x"])
    return t.assign(y=t["x"] + t["z"] + _share(left, 0.3, n, rng))


def _groups(n: int, rng: Rng) -> pd.DataFrame:
    return pd.DataFrame({"x": rng.normal(size=n), "g": rng.choice(["a", "b"], n)})


def crossing(n: int, rng: Rng) -> pd.DataFrame:
    t = _groups(n, rng)
    return t.assign(y=np.where(t["g"] == "a", 1, -1) * t["x"] + rng.normal(size=n))


def slopes(n: int, rng: Rng) -> pd.DataFrame:
    t = _groups(n, rng)
    return t.assign(y=np.where(t["g"] == "a", 0, 2) * t["x"] + rng.normal(size=n))


def bends(n: int, rng: Rng) -> pd.DataFrame:
    t = _groups(n, rng)
    return t.assign(y=np.where(t["g"] == "a", 0.5, -0.5) * t["x"] ** 2 + rng.normal(size=n))


def product(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng)
    return t.assign(y=t["x"] + t["z"] + _share(t["x"] * t["z"], 0.15, n, rng))


def codes(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.integers(1, 6, n).astype(float))
    means = np.array([0.0, 1.2, -0.6, 0.9, 0.2])
    return t.assign(y=means[t["x"].astype(int) - 1] + rng.normal(size=n))


def both_ends(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.uniform(-1, 1, n))
    return t.assign(y=t["x"] + t["z"] + rng.normal(size=n) * 4 ** t["x"].abs())


def fan(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.uniform(-1, 1, n))
    return t.assign(y=3 * t["x"] + rng.normal(size=n) * 4 ** ((t["x"] + 1) / 2))


def seventh_day(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(day=pd.date_range("2024-01-01", periods=n))
    return t.assign(y=t["x"] + 2.5 * (np.arange(n) % 7 == 6) + rng.normal(size=n))


def neighbours(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(day=pd.date_range("2024-01-01", periods=n, freq="3D"))
    e = np.zeros(n)
    for i, shock in enumerate(rng.normal(size=n)):
        e[i] = shock + (0.5 * e[i - 1] if i else 0)
    return t.assign(y=t["x"] + e)


def counts_alike(n: int, rng: Rng) -> pd.DataFrame:
    t = neighbours(n, rng)
    return t.assign(y=rng.poisson(np.exp(1 + 0.8 * t["y"])))


def row_before(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(day=pd.date_range("2024-01-01", periods=n, freq="3D"))
    return t.assign(y=t["x"] + 0.8 * t["x"].shift(1, fill_value=0.0) + rng.normal(size=n))


def walks(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(day=pd.date_range("2024-01-01", periods=n, freq="3D"))
    return t.assign(x=t["x"].cumsum(), y=rng.normal(size=n).cumsum())


def clusters(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(herd=[f"h{i // 10}" for i in range(n)])
    common = rng.normal(size=n // 10 + 1)[np.arange(n) // 10]
    return t.assign(y=t["x"] + common + rng.normal(size=n))


def twice(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n // 2, rng)
    t["y"] = t["x"] + rng.normal(size=n // 2)
    return pd.concat([t, t], ignore_index=True)


def yes_or_no(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng)
    return t.assign(y=(rng.random(n) < 1 / (1 + np.exp(-t["x"]))).astype(int))


def left_out(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(u=rng.normal(size=n))
    return t.assign(y=t["x"] + 0.5 * t["u"] + rng.normal(size=n))


def narrow_counts(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng)
    mean = np.exp(2.5 + 0.2 * t["x"])
    return t.assign(y=np.round(np.maximum(mean + np.sqrt(mean / 3) * rng.normal(size=n), 0)))


def many_zeros(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng)
    return t.assign(y=rng.poisson(np.exp(1.5 + 0.2 * t["x"])) * (rng.random(n) > 0.25))


def slip(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.uniform(5, 15, n))
    t["y"] = t["x"] + rng.normal(size=n)
    t.loc[int(rng.integers(n)), "x"] *= 10
    return t


def another_unit(n: int, rng: Rng) -> pd.DataFrame:
    t = _plain(n, rng).assign(x=rng.lognormal(2, 0.5, n))
    t["y"] = t["x"] + rng.normal(size=n)
    t.loc[rng.permutation(n)[: n // 10], "x"] *= 1000
    return t


FAULTS = (
    Fault("S-shaped curve, partial R² 0.3", s_shape, ("curvature", "fitted curvature")),
    Fault("slopes that cross between two groups", crossing, ("product",), "y given x, g"),
    Fault("slopes 0 and 2 in two groups", slopes, ("product",), "y given x, g"),
    Fault("opposite bends in two groups", bends, ("product",), "y given x, g"),
    Fault("product of numbers left out, partial R² 0.15", product, ("product",)),
    Fault("codes 1 to 5 taken as a number", codes, ("curvature",)),
    Fault("spread 4-fold at both ends", both_ends, ("spread", "spread across")),
    Fault("4-fold fan", fan, ("spread", "spread across")),
    Fault("every seventh day + 2.5 SD, a date in the table", seventh_day, ("season", "breusch-godfrey", "durbin-watson")),
    Fault("neighbours alike 0.5, a date in the table", neighbours, ("durbin-watson", "breusch-godfrey")),
    Fault("counts whose neighbours are alike 0.5, a date in the table", counts_alike, ("durbin-watson",), options={"family": "negative-binomial"}),
    Fault("x of the row before left out, a date in the table", row_before, ("lagged predictor",)),
    Fault("two random walks, a date in the table", walks, ("durbin-watson",)),
    Fault("clusters of ten alike 0.5, their column unused", clusters, ("belonging together", "left out")),
    Fault("a column left out, partial R² 0.2", left_out, ("left out",)),
    Fault("all rows there twice", twice, ("fact: rows twice",)),
    Fault("0/1 as a normal response", yes_or_no, ("fact: yes or no",)),
    Fault("variance a third of Poisson", narrow_counts, ("dispersion",), options={"family": "poisson"}),
    Fault("a quarter of the counts zero", many_zeros, ("zeros", "dispersion"), options={"family": "poisson"}),
    Fault("one x ten times too large", slip, ("fact: cell",)),
    Fault("x in another unit in a tenth of the rows", another_unit, ("fact: cell",)),
)  # fmt: skip


def share_found(fault: Fault, n: int, tables: int, seed: int = 1) -> float:
    """Return the share of pages with a caution of the right kind."""
    rng = np.random.default_rng(seed)
    hits = 0
    for _ in range(tables):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            fit = jn.fit(fault.made(n, rng), fault.sentence, **fault.options)
        told = {line.kind for line in check_lines(fit._fitted) if line.verdict in GRAVE}
        hits += bool(told & set(fault.kinds))
    return hits / tables


def main() -> None:
    """Print the table as Markdown."""
    tables = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    print(f"| fault | {' | '.join(f'n = {n}' for n in SIZES)} |")
    print("| --- | ---: | ---: | ---: |")
    for fault in FAULTS:
        found = [share_found(fault, n, tables) for n in SIZES]
        print(f"| {fault.name} | {' | '.join(f'{share:.0%}' for share in found)} |", flush=True)


if __name__ == "__main__":
    main()
