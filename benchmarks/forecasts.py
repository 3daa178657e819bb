"""How often intervals for a new row hold it, family by family: seeded simulation at the 90 % level."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

import joinery as jn

ROWS, NEW = 40, 10


@dataclass(frozen=True)
class Case:
    """A family, how its responses come about, and the sentence."""

    draw: Callable[[np.random.Generator, np.ndarray], np.ndarray]
    sentence: str
    options: dict[str, Any]
    discrete: bool = False


CASES = {
    "normal": Case(lambda r, x: 2 + x + r.normal(0, 1, len(x)), "y given x", {}),
    "log of a number": Case(
        lambda r, x: np.exp(1 + x + r.normal(0, 0.5, len(x))), "log(y) given x", {}
    ),
    "gamma": Case(
        lambda r, x: np.exp(1 + x) * r.gamma(3, 1 / 3, len(x)), "y given x", {"family": "gamma"}
    ),
    "inverse-gaussian": Case(
        lambda r, x: r.wald(np.exp(0.5 + x), 8.0), "y given x", {"family": "inverse-gaussian"}
    ),
    "poisson": Case(
        lambda r, x: r.poisson(np.exp(1 + x)), "y given x", {"family": "poisson"}, True
    ),
    "negative-binomial": Case(
        lambda r, x: r.negative_binomial(3, 3 / (3 + np.exp(1.5 + x))),
        "y given x",
        {"family": "negative-binomial"},
        True,
    ),
    "binomial": Case(
        lambda r, x: r.binomial(20, 1 / (1 + np.exp(1 - 2 * x))), "y of n given x", {}, True
    ),
    "poisson, identity": Case(
        lambda r, x: r.poisson(0.8 + 3 * x),
        "y given x",
        {"family": "poisson", "link": "identity"},
        True,
    ),
    "binomial, identity": Case(
        lambda r, x: r.binomial(20, 0.15 + 0.7 * x), "y of n given x", {"link": "identity"}, True
    ),
    "binomial, log": Case(
        lambda r, x: r.binomial(20, np.exp(-1.6 + x)), "y of n given x", {"link": "log"}, True
    ),
    "gamma, inverse": Case(
        lambda r, x: r.gamma(3, 1 / 3, len(x)) / (0.3 + x),
        "y given x",
        {"family": "gamma", "link": "inverse"},
    ),
    "inverse-gaussian, inverse-square": Case(
        lambda r, x: r.wald((0.3 + x) ** -0.5, 8.0),
        "y given x",
        {"family": "inverse-gaussian", "link": "inverse-square"},
    ),
}


def covered(name: str, times: int, seed: int) -> float:
    """The share of new rows inside their 90 % interval."""
    case, rng, held = CASES[name], np.random.default_rng(seed), 0.0
    for _ in range(times):
        x, new = rng.uniform(0, 1, ROWS), rng.uniform(0, 1, NEW)
        fit = jn.fit(
            {"x": x, "y": case.draw(rng, x), "n": 20}, case.sentence, level=0.9, **case.options
        )
        f = fit.forecast({"x": new, "n": [20] * NEW}).frame
        came = case.draw(rng, new)
        held += float(np.mean((came >= f["new_lower"]) & (came <= f["new_upper"])))
    return held / times


def main(times: int) -> None:
    """Prints the table as Markdown."""
    print("| family | new rows inside their 90 % interval |\n| --- | ---: |")
    for name in CASES:
        print(f"| {name} | {covered(name, times, 1):.1%} |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000)
