"""How often a page cries on tables simulated from the fitted model itself, and each check's power.

`python -m benchmarks.alarms [TABLES]` prints both tables of docs/numerics.md. Facts about a table
(overlap, thin levels, dependent columns, separation) are not chance and are not counted."""

from __future__ import annotations

import sys
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import pandas as pd

import joinery as jn
from joinery.hand_over.short_page import cautions
from joinery.study.check.table import page_lines
from joinery.study.read.notes import notes
from joinery.study.rows.table import remarks

FACTS = ("thin reference", "thin level", "column left out", "scale of weights", "separation")
FACTS += ("column", "reading", "one level", "few rows", "not settled")
CAUTIONS = ("caution", "serious")


@dataclass(frozen=True)
class Cell:
    """One kind of table: its size, family, and what its predictors and options are like."""

    rows: int
    predictors: int
    family: str = "normal"
    predictor: str = "normal"  # "skewed", "two-valued", "category"
    options: str = ""  # "weights", "repeats"

    @property
    def words(self) -> str:
        more = "" if self.predictor == "normal" else f", {self.predictor}"
        return f"{self.family}{more}{', ' * bool(self.options)}{self.options}"


def table(cell: Cell, rng: np.random.Generator) -> tuple[pd.DataFrame, str, dict[str, str]]:
    """A table simulated from a model, the sentence of that model, and its options."""
    n, p = cell.rows, cell.predictors
    draw: dict[str, Callable[[], np.ndarray]] = {
        "normal": lambda: rng.normal(size=n),
        "skewed": lambda: rng.lognormal(0, 1, n),
        "two-valued": lambda: (rng.random(n) < 0.4).astype(float),
        "category": lambda: rng.choice(list("abcd"), n),
    }
    frame = pd.DataFrame({f"x{j}": draw[cell.predictor]() for j in range(p)})
    first = (
        frame["x0"].map(dict(zip("abcd", (0, 1, 2, 1))))
        if cell.predictor == "category"
        else frame["x0"]
    )
    eta = 0.3 * (first - first.mean()) / max(first.std(), 1e-9)
    options: dict[str, str] = {}
    w = np.ones(n)
    if cell.options == "weights":
        frame["w"] = w = rng.choice([0.5, 1.0, 2.0], n)
        options["weights"] = "w"
    name, response = cell.family, "y"
    mu = np.exp(1.2 + eta)
    if name == "normal":
        frame["y"] = eta + rng.normal(size=n) / np.sqrt(w)
    elif name == "yes/no":
        frame["y"] = rng.random(n) < 1 / (1 + np.exp(-2 * eta))
    elif name == "of":
        frame["m"] = rng.integers(5, 30, n)
        frame["y"] = rng.binomial(frame["m"], 1 / (1 + np.exp(-eta)))
        response = "y of m"
    elif name == "per":
        frame["e"] = rng.uniform(1, 4, n)
        frame["y"] = rng.poisson(frame["e"] * mu)
        response = "y per e"
    else:
        options["family"] = name
        options |= {"link": "log"} if name in ("gamma", "inverse-gaussian") else {}
        frame["y"] = {
            "poisson": lambda: rng.poisson(mu),
            "gamma": lambda: rng.gamma(4, mu / 4),
            "inverse-gaussian": lambda: rng.wald(mu, 8.0),
            "negative-binomial": lambda: rng.poisson(mu * rng.gamma(3, 1 / 3, n)),
        }[name]()
    frame = frame.assign(**beside(n, rng))
    if cell.options == "repeats":
        frame["r"] = 1
        options["repeats"] = "r"
    terms = ", ".join(f"x{j}" for j in range(p))
    return frame, f"{response} given {terms}", options


def beside(n: int, rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Columns that the model does not use: noise, categories of few and many levels, a date."""
    groups = max(n // 5, 2)
    return {
        "noise": rng.normal(size=n),
        "other": rng.lognormal(0, 1, n),
        "place": rng.choice(list("pqrs"), n),
        "herd": np.array([f"h{k}" for k in rng.integers(0, groups, n)]),
        "day": np.datetime64("2020-01-01") + np.arange(n),
    }


def cries(fit: jn.Fit) -> list[tuple[str, str]]:
    """What a page says with caution or worse that chance may have brought: kind and verdict."""
    record = fit._fitted
    out = [
        (n.kind, n.gravity) for n in notes(record) if n.gravity in CAUTIONS and n.kind not in FACTS
    ]
    lines = [line for line in page_lines(record) if line.verdict in CAUTIONS]
    out += [
        (line.kind, line.verdict)
        for line in lines
        if line.name not in ("overlap", "separation", "data")
    ]
    out += [("row", r.verdict) for r in remarks(record) if r.verdict in CAUTIONS and r.leverage < 1]
    return out


@dataclass(frozen=True)
class Cries:
    """What the pages of many tables of one kind say."""

    some: float  # share of pages with a caution or worse
    serious: float  # share with a serious one
    slight: float  # share with a slight line
    kinds: Counter[str]  # how often each kind of line is a caution or worse


def measured(cell: Cell, tables: int, seed: int = 1) -> Cries:
    """Return what the pages of tables of one kind say."""
    rng = np.random.default_rng(seed)
    some = grave = slight = done = 0
    kinds: Counter[str] = Counter()
    while done < tables:
        frame, sentence, options = table(cell, rng)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            try:
                fit = jn.fit(frame, sentence, **options)
            except jn.JoineryError:
                continue
        if fit.residual_df < 8 or fit._fitted.estimate.running:
            continue
        found = cries(fit)
        done += 1
        some += bool(found)
        grave += any(verdict == "serious" for _, verdict in found)
        slight += any(line.verdict == "slight" for line in cautions(fit._fitted))
        kinds.update({kind for kind, _ in found})
    return Cries(some / tables, grave / tables, slight / tables, kinds)


def cells() -> Iterator[Cell]:
    """The kinds of table that are measured."""
    for n, p in (
        (10, 1),
        (20, 1),
        (20, 3),
        (50, 3),
        (50, 20),
        (200, 3),
        (200, 20),
        (1000, 3),
        (10_000, 3),
        (100_000, 3),
    ):
        yield Cell(n, p)
    for predictor in ("skewed", "two-valued", "category"):
        for n in (15 if predictor == "skewed" else 20, 100, 1000):
            yield Cell(n, 2, predictor=predictor)
    for family in (
        "yes/no",
        "of",
        "per",
        "poisson",
        "gamma",
        "inverse-gaussian",
        "negative-binomial",
    ):
        for n, p in ((30, 2), (100, 2), (1000, 2), (100, 1), (100, 10), (200, 20), (100_000, 3)):
            yield Cell(n, p, family)
    yield Cell(100, 3, options="weights")
    yield Cell(100, 3, options="repeats")


def main() -> None:
    tables = int(sys.argv[1]) if len(sys.argv) > 1 else 400
    print("| tables like | rows | predictors | any caution | serious | slight | most often |")
    print("| --- | ---: | ---: | ---: | ---: | ---: | --- |")
    for cell in cells():
        many = tables if cell.rows <= 1000 else max(tables * 2000 // cell.rows, 40)
        cries_of = measured(cell, many)
        most = ", ".join(f"{k} {100 * n / many:.1f}" for k, n in cries_of.kinds.most_common(4))
        print(
            f"| {cell.words} | {cell.rows:,} | {cell.predictors} | {100 * cries_of.some:.1f} % "
            f"| {100 * cries_of.serious:.1f} % | {100 * cries_of.slight:.1f} % | {most} |",
            flush=True,
        )


if __name__ == "__main__":
    main()
