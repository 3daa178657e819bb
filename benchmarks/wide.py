"""Many columns, many levels, more columns than rows: what must not become a cliff."""

from __future__ import annotations

import sys
import time
import warnings
from collections.abc import Callable, Iterator
from tempfile import TemporaryDirectory

import numpy as np
import pandas as pd
from matplotlib.figure import Figure
from scipy import linalg

import joinery as jn
from benchmarks.measure import Row, in_turn


def _table(n: int, p: int, seed: int = 1) -> tuple[pd.DataFrame, np.ndarray]:
    rng = np.random.default_rng(seed)
    X = rng.normal(size=(n, p))
    table = pd.DataFrame(X, columns=[f"x{i}" for i in range(p)])
    table["y"] = X[:, :3].sum(axis=1) + rng.normal(size=n)
    return table, X


def _within(work: str, ours: float, yardstick: str, theirs: float, times: float) -> Row:
    return Row(work, ours, yardstick, theirs, f"at most {times:g}", ours <= times * theirs)


def _asked(table: pd.DataFrame, sentence: str, ask: Callable[[jn.Fit], object]) -> float:
    """The least time of three for a question of a fresh fit."""
    best = np.inf
    for _ in range(3):
        fit = jn.fit(table, sentence)
        start = time.perf_counter()
        ask(fit)
        best = min(best, time.perf_counter() - start)
    return best


def columns() -> Iterator[Row]:
    """Hundreds of columns, and more columns than rows."""
    str(jn.fit(_table(100, 3)[0], "y given all"))  # what loads at the first page is loaded
    table, X = _table(20_000, 500)
    fit, product = in_turn(lambda: jn.fit(table, "y given all"), lambda: X.T @ X, 5)
    yield _within("fit 20,000 × 500", fit, "one X.T @ X", product, 3)
    page = _asked(table, "y given all", str)
    yield _within("its page alone", page, "its fit", fit, 2.5)
    others = _asked(table, "y given all", lambda f: f.anova("others"))
    yield _within('its anova("others")', others, "its fit", fit, 2)
    table, _ = _table(10_000, 50)
    fit, _ = in_turn(lambda: jn.fit(table, "y given all"), lambda: None, 5)
    page = _asked(table, "y given all", str)
    yield _within("page alone, 10,000 × 50", page, "its fit", fit, 4)
    chance = 1 / (1 + np.exp(-table["y"] / 2))
    table["y"] = np.random.default_rng(2).random(len(table)) < chance
    fit, _ = in_turn(lambda: jn.fit(table, "y given all"), lambda: None, 5)
    lines = _asked(table, "y given all", lambda f: f.anova())
    yield _within("anova of a logistic fit, 10,000 × 50", lines, "its fit", fit, 10)
    for n, p in ((200, 1200), (500, 3000)):
        table, X = _table(n, p)
        fit, pivoted = in_turn(
            lambda table=table: jn.fit(table, "y given all"),
            lambda X=X: linalg.qr(X, mode="economic", pivoting=True),
            2,
        )
        yield _within(f"fit {n} rows × {p:,}", fit, "QR with pivoting", pivoted, 20)
        yield _within("its page", _asked(table, "y given all", str), "the same", pivoted, 100)
    small = pd.DataFrame(np.random.default_rng(3).normal(size=(20, 10_000))).add_prefix("c")
    look, describe = in_turn(lambda: str(jn.look(small)), small.describe, 1)
    yield _within("look at 10,000 columns × 20 rows", look, "pandas describe", describe, 5)


def _of_levels(n: int, count: int, numbers: int) -> tuple[pd.DataFrame, np.ndarray]:
    rng = np.random.default_rng(4)
    codes, X = rng.integers(0, count, n), rng.normal(size=(n, numbers))
    table = pd.DataFrame(X, columns=[f"x{i}" for i in range(numbers)])
    table["g"] = np.array([f"l{i:05d}" for i in range(count)])[codes]
    table["y"] = X[:, 0] + rng.normal(size=count)[codes] + rng.normal(size=n)
    return table, X


def levels() -> Iterator[Row]:
    """A category of thousands of levels."""
    for count in (1000, 20_000):
        table, _ = _of_levels(200_000, count, 1)
        str(jn.fit(table.head(2000), "y given all"))
        fit, _ = in_turn(lambda table=table: jn.fit(table, "y given all"), lambda: None, 3)
        page = _asked(table, "y given all", str)
        yield _within(f"page of {count:,} levels, 200,000 rows", page, "its fit", fit, 2)
    table, X = _of_levels(1_000_000, 5000, 20)
    table["y"] = np.random.default_rng(5).random(len(table)) < 1 / (1 + np.exp(-table["y"] / 2))
    steps = jn.fit(table, "y given all").iterations or 0
    fit, product = in_turn(lambda: jn.fit(table, "y given all"), lambda: X.T @ X, 3)
    work = f"logistic fit 1,000,000 × 20 and 5,000 levels, {steps} iterations"
    yield _within(work, fit, "iterations × one X.T @ X", steps * product, 4)


def _reported(table: pd.DataFrame) -> None:
    with TemporaryDirectory() as folder:
        jn.fit(table, "y given all").report(f"{folder}/page.html")


WORKS: dict[str, Callable[[pd.DataFrame], object]] = {
    "fit": lambda t: jn.fit(t, "y given all"),
    "page": lambda t: str(jn.fit(t, "y given all")),
    "rows": lambda t: jn.fit(t, "y given all").rows(),
    "anova": lambda t: jn.fit(t, "y given all").anova(),
    "logistic fit": lambda t: jn.fit(t.assign(y=t["y"] > 0), "y given all"),
    "forecast": lambda t: jn.fit(t.head(1000), "y given x0, x1, x2, x3").forecast(t),
    "stepwise": lambda t: jn.stepwise(t, "y given all", criterion="aic", moves="drop"),
    "look": lambda t: str(jn.look(t)),
    "report": _reported,
}
SIZES = [(10**k, 20) for k in (3, 4, 5, 6)] + [(20_000, p) for p in (50, 100, 200, 400)]


def growth(picture: str | None = None) -> None:
    """Print how each work grows: exponents of time in n at 20 columns, and in p from 50 on.

    A ``picture`` is the path of a file with the seconds drawn against both.
    """
    print("| work | " + " | ".join(f"{n:,} × {p}" for n, p in SIZES) + " | in n | in p |")
    print("| --- |" + " ---: |" * (len(SIZES) + 2))
    seconds: dict[str, list[float]] = {name: [] for name in WORKS}
    for n, p in SIZES:
        table, _ = _table(n, p)
        for name, work in WORKS.items():
            best = np.inf
            for _ in range(1 if name == "report" or n * p >= 10**7 else 3):
                start = time.perf_counter()
                work(table)
                best = min(best, time.perf_counter() - start)
            seconds[name].append(best)
    for name, spent in seconds.items():
        in_n, in_p = (
            np.polyfit(
                np.log([SIZES[i][axis] for i in which]), np.log([spent[i] for i in which]), 1
            )[0]
            for axis, which in ((0, (1, 2, 3)), (1, (4, 5, 6, 7)))
        )
        cells = " | ".join(f"{v:.3g} s" for v in spent)
        print(f"| {name} | {cells} | {in_n:.2f} | {in_p:.2f} |", flush=True)
    if picture:
        _drawn(seconds, picture)


def _drawn(seconds: dict[str, list[float]], path: str) -> None:
    """Draw seconds against rows at 20 columns, and against columns at 20,000 rows."""
    figure = Figure(figsize=(11, 5.5), layout="constrained")
    both = figure.subplots(1, 2, sharey=True)
    sides = ((0, slice(0, 4), "rows, 20 columns"), (1, slice(4, 8), "columns, 20,000 rows"))
    for ax, (axis, which, words) in zip(both, sides, strict=True):
        at = [size[axis] for size in SIZES[which]]
        for name, spent in seconds.items():
            ax.loglog(at, spent[which], marker="o", label=name)
        ax.set_xlabel(words)
        ax.grid(alpha=0.3)
    both[0].set_ylabel("seconds")
    both[1].legend(loc="upper left", fontsize=8, ncols=2)
    figure.savefig(path, dpi=110)


if __name__ == "__main__":
    warnings.simplefilter("ignore", jn.JoineryWarning)
    if sys.argv[1:2] == ["growth"]:
        growth(*sys.argv[2:3])
