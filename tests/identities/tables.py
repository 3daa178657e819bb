"""Random tables, sentences and options: a made-up fit for each seed, always the same one."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pandas as pd

import joinery as jn

# family, link, response, and what kind of numbers it holds
RESPONSES = (
    *[
        ("normal", "identity", y)
        for y in ("y", "y", "y", "log(y)", "sqrt(y)", "(1 / y)", "(2 * y + 1)")
    ],
    *[("normal", link, "y") for link in ("log", "inverse")],
    *[("binomial", link, "yes") for link in ("logit", "probit", "cloglog", "cauchit")],
    *[
        ("binomial", link, "s of m")
        for link in ("logit", "probit", "cloglog", "cauchit", "log", "identity")
    ],
    *[("poisson", link, "c") for link in ("log", "identity", "sqrt")],
    *[("negative-binomial", link, "c") for link in ("log", "identity", "sqrt")],
    ("poisson", "log", "c per e"),
    ("negative-binomial", "log", "c per e"),
    *[("gamma", link, "y") for link in ("log", "inverse", "identity")],
    *[("inverse-gaussian", link, "y") for link in ("log", "inverse-square", "inverse", "identity")],
)
TERMS = (
    ("x",),
    ("x", "g"),
    ("x", "z", "g"),
    ("g", "h"),
    ("x", "x^2"),
    ("powers(x, 2)", "z"),
    ("polynomial(x, 2)", "g"),
    ("spline(x, columns=2)",),
    ("x", "z", "x * z"),
    ("x * z",),
    ("crossed(x, h)",),
    ("crossed(g, h)",),
    ("g * h",),
    ("x", "x * g"),
    ("centred(x) * z", "z"),
    ("log(z)", "standardized(x)"),
    ("(x > 5)", "rank(z)"),
    ("bands(x, 4, 7)", "z"),
    ("category(g, coding='effect')", "x"),
    ("category(g, reference='b', coding='helmert')", "h"),
    ("lag(x, 1)", "z"),
)
# η at the middle of the table, and how far terms move it
MIDDLE = {
    "identity": (9.0, 0.5),
    "log": (1.8, 0.06),
    "inverse": (0.3, 0.012),
    "inverse-square": (0.1, 0.004),
}
MIDDLE |= {"sqrt": (3.0, 0.12)}
SHARES = {"identity": (0.45, 0.02), "log": (-0.9, 0.05)}
MEANS = {
    "identity": lambda e: e,
    "log": np.exp,
    "inverse": lambda e: 1 / e,
    "inverse-square": lambda e: e**-0.5,
    "sqrt": np.square,
}
PRESENT = ("x", "z", "g", "h", "w", "r", "o", "e", "m")


@dataclass(frozen=True)
class Case:
    """A fit to be made: its table, the parts of its sentence, options, and new rows to forecast."""

    table: pd.DataFrame
    response: str
    terms: tuple[str, ...]
    intercept: bool
    options: dict[str, Any]
    new: pd.DataFrame
    seed: int
    name: str = field(default="")
    names: dict[str, str] = field(default_factory=dict)  # what columns and levels are called

    @property
    def sentence(self) -> str:
        return f"{self.response} given {', '.join(self.terms)}{'' if self.intercept else ' without intercept'}"

    def fit(self) -> jn.Fit:
        return jn.fit(self.table, self.sentence, **self.options)

    def but(self, **changed: Any) -> Case:
        """The same with other fields, or other ``options`` in place of some of its own."""
        options = self.options | changed.pop("options", {})
        return replace(self, options={k: v for k, v in options.items() if v is not None}, **changed)

    def called(self, name: str) -> str:
        """What a column, or a level, is called in this case."""
        return self.names.get(name, name)

    @property
    def plain(self) -> bool:
        """Whether it is least squares."""
        return self.options.get("family", "normal") == "normal" and self.options.get("link") in (
            None,
            "identity",
        )

    @property
    def on_an_edge(self) -> bool:
        """Whether fits of a few of its rows may end where means end, short of any maximum."""
        return self.options["family"] == "binomial" and (
            self.response == "yes" or self.options["link"] in ("log", "identity")
        )

    def has(self, *words: str) -> bool:
        return any(word in text for word in words for text in (*self.terms, self.response))


def case(seed: int) -> Case:
    """The case of a seed."""
    rng = np.random.default_rng(seed)
    family, link, response = RESPONSES[rng.integers(len(RESPONSES))]
    terms = TERMS[rng.integers(len(TERMS))]
    n = int(rng.integers(24, 44))
    table = _predictors(rng, n)
    table[["y", "c", "s", "yes"]] = _responses(rng, table, family, link)
    if (family, link) == ("normal", "identity"):
        table["o"] += 3  # an offset far from zero
    options: dict[str, Any] = {"id": "row", "family": family, "link": link}

    def perhaps(chance: float, **some: Any) -> None:
        if rng.random() < chance:
            options.update(some)

    perhaps(0.4, weights="w")
    perhaps(0.3, repeats="r")
    perhaps(0.25, offset="o")
    perhaps(0.2, where="x > 1.5")
    perhaps(0.2, leave_out=[3, 7])
    perhaps(0.3, order="t")
    perhaps(0.4, level=0.8)
    if rng.random() < 0.5:
        kind = str(
            rng.choice(["robust", "hc0", "hc1", "hc2", "hc3", "clustered", "autocorrelated"])
        )
        if not (kind == "autocorrelated" and "repeats" in options):
            options |= {"std_errors": kind} | ({"cluster": "k"} if kind == "clustered" else {})
    if rng.random() < 0.3:
        table.loc[rng.choice(n, 2, replace=False), "x"] = np.nan
        perhaps(0.5, missing="mean")
    if family in ("binomial", "poisson"):
        perhaps(0.25, dispersion="estimated")
        if "dispersion" not in options:
            perhaps(0.25, penalty="firth")
    intercept = bool(rng.random() < 0.85 or not any("g" in t for t in terms))
    new = _predictors(rng, 5).drop(columns=["row", "k"])
    new["o"] += table["o"].mean().round()
    new["g"] = table["g"].to_numpy()[:5]
    return Case(table, response, terms, intercept, options, new, seed, f"{seed}: {family} {link}")


def _predictors(rng: np.random.Generator, n: int) -> pd.DataFrame:
    levels = np.concatenate([list("abcabc"), rng.choice(list("abc"), max(n - 6, 0))])[:n]
    return pd.DataFrame(
        {
            "row": np.arange(1, n + 1),
            "x": rng.uniform(1, 9, n).round(1),
            "z": np.exp(rng.normal(0, 0.5, n)).round(3),
            "g": levels,
            "h": rng.permutation(np.arange(n) % 2 == 0),
            "w": rng.choice([0.5, 1.0, 2.0, 3.0], n),
            "r": rng.choice([1, 1, 2, 3], n),
            "o": rng.normal(0, 0.02, n).round(4),
            "e": rng.uniform(1, 3, n).round(2),
            "m": rng.integers(4, 15, n),
            "t": rng.permutation(n),
            "k": rng.choice(list("pqrstuv"), n),
        }
    )


def _responses(rng: np.random.Generator, table: pd.DataFrame, family: str, link: str) -> np.ndarray:
    """A number, a count, a share's count, and a yes or no, whose means go with x, z and g through the link."""
    move = (
        (table["x"] - 5) / 4
        + (table["g"] == "b")
        - 0.5 * table["z"]
        + rng.normal(0, 0.3, len(table))
    )
    middle, size = SHARES.get(link, (0.2, 0.3)) if family == "binomial" else MIDDLE[link]
    eta = middle + size * move.to_numpy()
    p = {"identity": eta, "log": np.exp(eta)}.get(link, 1 / (1 + np.exp(-eta)))
    mu = MEANS[link](eta) if family != "binomial" else 5 + 0 * eta
    y = (
        mu * rng.gamma(30, 1 / 30, len(mu))
        if family != "normal"
        else mu * (1 + rng.normal(0, 0.1, len(mu)))
    )
    counts = rng.poisson(np.maximum(mu, 0.1) * rng.gamma(3, 1 / 3, len(mu)))
    happened = np.zeros(len(mu)) if family != "binomial" else rng.binomial(table["m"], p)
    return np.column_stack([y, counts, happened, rng.random(len(mu)) < 0.5])
