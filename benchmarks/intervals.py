"""How often intervals beyond coefficients and single new rows hold the truth, at 95 %.

`python -m benchmarks.intervals [TIMES]`: new rows of every family and link, in the middle and at
the edge of what was seen; twenty new rows jointly; profile ends under Firth's penalty; average
effects by the delta method; contrasts, means and forecasts under other covariances."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
import pandas as pd

import joinery as jn
from benchmarks.coverage import fanned, neighbours
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS

Row = tuple[str, str, float, int]
# the mean at x = 0 and at x = 1 of responses that are shares, and of all others
ENDS = {"binomial": (0.25, 0.7)}


def sample(
    family: str, link: str, x: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """Responses drawn at x, and their means, where η is linear in x."""
    low, high = (LINKS[link].eta(np.array(m)) for m in ENDS.get(family, (3.0, 8.0)))
    mu = LINKS[link].mu(low + (high - low) * x)
    draws: dict[str, Callable[[], np.ndarray]] = {
        "normal": lambda: rng.normal(mu, 1.0),
        "binomial": lambda: rng.binomial(20, mu),
        "poisson": lambda: rng.poisson(mu),
        "gamma": lambda: rng.gamma(4, mu / 4),
        "inverse-gaussian": lambda: rng.wald(mu, 20.0),
        "negative-binomial": lambda: rng.poisson(mu * rng.gamma(3, 1 / 3, len(x))),
    }
    return draws[family](), mu


def fitted(family: str, link: str, n: int, rng: np.random.Generator) -> tuple[jn.Fit, np.ndarray]:
    """A fit of n rows, and its predictor."""
    x = rng.uniform(size=n)
    y, _ = sample(family, link, x, rng)
    response = "y of m" if family == "binomial" else "y"
    table = pd.DataFrame({"x": x, "y": y, "m": 20})
    return jn.fit(table, f"{response} given x", family=family, link=link), x


def new_rows(times: int) -> Iterator[Row]:
    """Single new rows of 30 fitted ones, in the middle and at the edge; and twenty jointly."""
    for family, link in ((f, k) for f in FAMILIES for k in FAMILIES[f].links):
        rng, held, done = np.random.default_rng(5), np.zeros(3), 0
        for _ in range(times):
            try:
                fit, _ = fitted(family, link, 30, rng)
            except jn.EstimationError:
                continue
            done += 1
            x = np.concatenate([[0.5, 1.0], rng.uniform(size=20)])
            came, _ = sample(family, link, x, rng)
            new = pd.DataFrame({"x": x, "m": 20})
            one = fit.forecast(new.head(2)).frame
            many = fit.forecast(new.tail(20), simultaneous=True).frame
            inside = (came[:2] >= one["new_lower"]) & (came[:2] <= one["new_upper"])
            all_in = (came[2:] >= many["new_lower"]) & (came[2:] <= many["new_upper"])
            held += [*inside, all_in.all()]
        for place, share in zip(("in the middle", "at the edge", "twenty jointly"), held / done):
            yield f"{family}, {link}", f"new row, {place}", share, done


def firth(times: int) -> Iterator[Row]:
    """Profile ends of a slope under Firth's penalty, 20 rows of yes/no, some of them separated."""
    for link in ("logit", "probit", "cloglog"):
        for slope in (1.0, 4.0):
            rng, held, done = np.random.default_rng(6), 0, 0
            for _ in range(times):
                x = rng.normal(size=20)
                y = rng.random(20) < LINKS[link].mu(-0.3 + slope * x)
                if y.all() or not y.any():
                    continue
                fit = jn.fit(
                    {"x": x, "y": y}, "y given x", family="binomial", link=link, penalty="firth"
                )
                line = fit.coefficients(profile=True).frame.iloc[1]
                held += not (slope < line["lower"] or slope > line["upper"])
                done += 1
            yield f"{link}, Firth, slope {slope:g}", "slope, profile ends", held / done, done


def average_effects(times: int) -> Iterator[Row]:
    """The average effect of x over the rows fitted, by the delta method."""
    for family, link in (
        ("binomial", "logit"),
        ("binomial", "cloglog"),
        ("poisson", "log"),
        ("gamma", "log"),
        ("negative-binomial", "log"),
    ):
        for n in (20, 60, 200):
            rng, held = np.random.default_rng(7), 0
            low, high = (LINKS[link].eta(np.array(m)) for m in ENDS.get(family, (3.0, 8.0)))
            for _ in range(times):
                fit, x = fitted(family, link, n, rng)
                truth = float(np.mean(LINKS[link].slope(low + (high - low) * x)) * (high - low))
                line = fit.average_effects().frame.iloc[0]
                held += line["lower"] <= truth <= line["upper"]
            yield f"{family}, {link}, {n} rows", "average effect", held / times, times


def clusters(count: int) -> Callable[[np.random.Generator], dict[str, np.ndarray]]:
    """Unequal clusters that share predictors and error; slopes 1."""
    sizes = np.resize([2, 2, 3, 3, 4, 6, 8, 12, 20, 40], count)
    if count == 4:
        sizes = np.array([3, 6, 12, 20])

    def draw(rng: np.random.Generator) -> dict[str, np.ndarray]:
        g = np.repeat(np.arange(count), sizes)
        x = rng.normal(size=count)[g] + 0.5 * rng.normal(size=len(g))
        return {"x": x, "g": g, "y": x + rng.normal(size=count)[g] + rng.normal(size=len(g))}

    return draw


def covariances(times: int) -> Iterator[Row]:
    """Slopes, contrasts of two slopes and means, under covariances that ask less than even spread."""
    kinds: list[tuple[str, Any, dict[str, str]]] = [
        *(
            (f"spread growing ten-fold{', far row' * far}, {n} rows", fanned(n, far), {})
            for n in (20, 60, 200)
            for far in (False, True)
        ),
        *(
            (f"{c} clusters", clusters(c), {"std_errors": "clustered", "cluster": "g"})
            for c in (4, 10, 40)
        ),
        *(
            (f"neighbours alike {a}, {n} rows", neighbours(n, a), {"std_errors": "autocorrelated"})
            for n in (50, 200)
            for a in (0.3, 0.5, 0.7)
        ),
    ]
    for name, draw, options in kinds:
        rng, held = np.random.default_rng(8), np.zeros(3)
        for _ in range(times):
            table = pd.DataFrame(draw(rng))
            table["z"] = rng.normal(size=len(table))
            fit = jn.fit(table, "y given x, z", **({"std_errors": "robust"} | options))
            slope = fit.coefficients().frame.iloc[1]
            claim = fit.claim("x = z + 1").frame.iloc[0]
            at = fit.forecast({"x": [0.8], "z": [1.0]}).frame.iloc[0]
            held += [
                slope["lower"] <= 1 <= slope["upper"],
                claim["p"] >= 0.05,
                at["mean_lower"] <= 0.8 <= at["mean_upper"],
            ]
        for place, share in zip(("slope", "difference of two slopes", "mean"), held / times):
            yield f"{name}, {options.get('std_errors', 'robust')}", place, share, times


LAYOUTS = {"five levels of 6 rows": [6] * 5, "five levels of 3 to 20 rows": [3, 4, 6, 10, 20]}


def levels(times: int) -> Iterator[Row]:
    """All differences between five levels together: all pairs, and each against the first."""
    for name, sizes in LAYOUTS.items():
        rng, g = np.random.default_rng(9), np.repeat(list("abcde"), sizes)
        held = np.zeros(2)
        for _ in range(times):
            fit = jn.fit({"g": g, "y": rng.normal(size=len(g))}, "y given g")
            for place, reference in enumerate((None, "a")):
                found = fit.level_differences("g", reference=reference)
                held[place] += bool((found["lower"] * found["upper"] <= 0).all())
        for what, share in zip(("all pairs (Tukey)", "against one (Dunnett)"), held / times):
            yield name, what, share, times


def slopes(times: int) -> Iterator[Row]:
    """The slope at nine values of a moderator, each by itself and together."""
    for n in (20, 60):
        rng, held, at = np.random.default_rng(10), np.zeros(2), np.linspace(-2, 2, 9)
        for _ in range(times):
            x, z = rng.normal(size=(2, n))
            table = {"x": x, "z": z, "y": x + 0.5 * x * z + rng.normal(size=n)}
            fit = jn.fit(table, "y given crossed(x, z)")
            truth = 1 + 0.5 * at
            for place, together in enumerate((False, True)):
                f = fit.simple_slopes("x", "z", at, simultaneous=together).frame
                inside = (f["lower"] <= truth) & (truth <= f["upper"])
                held[place] += inside.all() if together else inside.mean()
        for what, share in zip(("slope at a value", "slope at nine values together"), held / times):
            yield f"product of two numbers, {n} rows", what, share, times


def bootstraps(times: int) -> Iterator[Row]:
    """A slope with skewed errors, 30 rows: plain intervals beside those of the bootstrap."""
    kinds = [(r, i) for r in ("rows", "residuals", "signs") for i in ("percentile", "accelerated")]
    kinds += [(r, "studentized") for r in ("rows", "residuals", "signs")]
    rng, held = np.random.default_rng(11), np.zeros(len(kinds) + 1)
    for _ in range(times):
        x = rng.exponential(size=30)
        fit = jn.fit({"x": x, "y": x + rng.exponential(size=30)}, "y given x")
        found = [fit.coefficients()]
        found += [fit.bootstrap(1000, resample=r, interval=i, seed=1) for r, i in kinds]
        held += [t["lower"][1] <= 1 <= t["upper"][1] for t in found]
    names = ["t", *(f"bootstrap of {r}, {i}" for r, i in kinds)]
    for name, share in zip(names, held / times, strict=True):
        yield "skewed errors and predictor, 30 rows", f"slope, {name}", share, times


def main(times: int, parts: list[str]) -> None:
    """Prints a line for each interval."""
    print("| tables like | interval | holds the truth | tables |\n| --- | --- | ---: | ---: |")
    warnings.simplefilter("ignore", jn.JoineryWarning)
    for part in (new_rows, firth, average_effects, covariances, levels, slopes, bootstraps):
        if not parts or part.__name__ in parts:
            for name, what, share, done in part(times):
                print(f"| {name} | {what} | {100 * share:.1f} % | {done:,} |", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000, sys.argv[2:])
