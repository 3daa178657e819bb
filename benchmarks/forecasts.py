"""How often 95 % intervals for a new row hold it: every family under every link it takes, for rows
like those fitted and for rows at the ends of the seen range.

`python -m benchmarks.forecasts [TABLES]` prints the table of docs/numerics.md."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

import joinery as jn
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS

INSIDE = 8  # new rows drawn like those fitted, beside the two ends of the range
TRIALS = 20
Draw = Callable[[np.random.Generator, np.ndarray], np.ndarray]

DRAWS: dict[str, Draw] = {
    "normal": lambda rng, mu: rng.normal(mu, 1),
    "binomial": lambda rng, mu: rng.binomial(TRIALS, mu),
    "poisson": lambda rng, mu: rng.poisson(mu),
    "gamma": lambda rng, mu: rng.gamma(3, mu / 3),
    "inverse-gaussian": lambda rng, mu: rng.wald(mu, 8.0),
    "negative-binomial": lambda rng, mu: rng.negative_binomial(3, 3 / (3 + mu)),
}


@dataclass(frozen=True)
class Case:
    """A family with a link, and how its responses come about at x from 0 to 1."""

    family: str
    link: str
    options: dict[str, str] = field(default_factory=dict)
    response: str = "y"

    @property
    def discrete(self) -> bool:
        return FAMILIES[self.family].discrete

    def draw(self, rng: np.random.Generator, x: np.ndarray) -> np.ndarray:
        """Responses whose mean goes from one end to the other in a straight line on the link."""
        link = LINKS[self.link]
        low, high = (0.15, 0.85) if self.family == "binomial" else (2.0, 8.0)
        first, last = link.eta(np.array([low, high]))
        y = DRAWS[self.family](rng, link.mu(first + (last - first) * x))
        return np.exp(y / 4) if self.response == "log(y)" else y


def _cases() -> Iterator[tuple[str, Case]]:
    for name, family in FAMILIES.items():
        for link in family.links:
            options = {"link": link} if name == "binomial" else {"family": name, "link": link}
            yield (
                f"{name}, {link}",
                Case(name, link, options, "y of n" if name == "binomial" else "y"),
            )
    yield "log of a number", Case("normal", "identity", {}, "log(y)")


CASES = dict(_cases())


def covered(name: str, rows: int, tables: int, seed: int) -> tuple[float, float]:
    """The shares of new rows inside their 95 % interval: like those fitted, and at the ends."""
    case, rng = CASES[name], np.random.default_rng(seed)
    inside = ends = 0.0
    done = 0
    while done < tables:
        x, new = rng.uniform(0, 1, rows), rng.uniform(0, 1, INSIDE)
        table = {"x": x, "y": case.draw(rng, x), "n": TRIALS}
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", jn.JoineryWarning)
            try:
                fit = jn.fit(table, f"{case.response} given x", **case.options)
            except jn.JoineryError:
                continue
            new = np.append(new, (x.min(), x.max()))
            f = fit.forecast({"x": new, "n": [TRIALS] * len(new)}).frame
        came = case.draw(rng, new)
        held = (came >= f["new_lower"]) & (came <= f["new_upper"])
        inside += float(np.mean(held[:INSIDE]))
        ends += float(np.mean(held[INSIDE:]))
        done += 1
    return inside / tables, ends / tables


def main(tables: int) -> None:
    """Prints the table as Markdown."""
    sizes = (10, 30, 100)
    heads = " | ".join(f"{rows} rows: inside | at the ends" for rows in sizes)
    print(f"| family, link | {heads} |\n| --- |{' ---: |' * 2 * len(sizes)}")
    for name in CASES:
        shares = [share for rows in sizes for share in covered(name, rows, tables, 1)]
        print(f"| {name} | {' | '.join(f'{100 * s:.1f} %' for s in shares)} |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 400)
