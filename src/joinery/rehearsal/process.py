"""A known process: predictors from recipes, true coefficients, and responses drawn from them."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from joinery.core.glm.families import FAMILIES
from joinery.core.glm.families.family import Family
from joinery.core.glm.links import LINKS, Link
from joinery.core.inference import predictive
from joinery.data.any_table import records
from joinery.data.records import Records, with_columns
from joinery.design.design import Design, learn
from joinery.design.learning import Learner
from joinery.design.response import ResponseScale, inner_ranges
from joinery.notation.context import EVERY_ROW, Context
from joinery.notation.evaluate import evaluate
from joinery.notation.tree import Chain, Everything, Expression, Name, Sentence, Text
from joinery.notation.walk import is_condition, named_in, names_in
from joinery.show.names import coefficient_key
from joinery.support.arguments import is_number
from joinery.support.errors import CallError, SentenceError, listed, nearest

_RECIPE = re.compile(r"\s*(normal|uniform|whole|levels)\s*\((.*)\)\s*", re.DOTALL)
USUAL = "normal(0, 1)"  # of a predictor without a recipe
ERRORS = ("normal", "skewed", "uneven", "alike")
ALIKE = 0.6  # the correlation of neighbouring errors under "alike"
UNEVEN = 10.0  # how many times the spread grows across the fitted values under "uneven"
Draws = np.ndarray


@dataclass(frozen=True)
class Process:
    """A sentence with true coefficients, on one table of predictors."""

    sentence: Sentence
    table: Records  # predictors, totals and exposure; without the response
    design: Design
    names: tuple[str, ...]  # of the coefficients, the intercept first
    truth: np.ndarray
    eta: np.ndarray  # linear predictor, exposure included (n,)
    family: Family
    link: Link
    spread: float  # σ² of the normal family, else the dispersion
    response: ResponseScale

    @property
    def linear(self) -> bool:
        return self.family.name == "normal" and self.link.name == "identity"

    def draw(self, rng: np.random.Generator, times: int, errors: str = "normal") -> Draws:
        """Return responses on the model's own scale, so many times: (n, times)."""
        if self.linear:
            sd = np.sqrt(self.spread)
            noise = error_terms(errors, rng, self.eta, times)
            return np.asarray(self.eta[:, None] + sd * noise)
        mu = np.repeat(self.mean[:, None], times, axis=1)
        if self.trials is None:
            trials = None
        else:
            trials = np.repeat(self.trials[:, None], times, axis=1)
        spread = np.full(mu.shape, self.spread)
        return np.asarray(self.family.draw(rng, mu, trials=trials, spread=spread))

    @property
    def mean(self) -> np.ndarray:
        """The true mean of each row. Raises CallError for one that the family cannot have."""
        if not predictive.admitted(self.family, self.link, self.eta).all():
            raise CallError(
                f"these coefficients make means that the {self.family.name} family cannot have; "
                "take others, or another link"
            )
        return np.asarray(self.link.mu(self.eta))

    @property
    def trials(self) -> np.ndarray | None:
        total = self.response.total
        if self.response.kind != "of" or total is None:
            return None
        return evaluate(total, Context(self.table, EVERY_ROW))

    def columns(self, y: np.ndarray) -> dict[str, Any]:
        """Return one draw (n,) as the columns that the response names."""
        expression = self.sentence.response.expression
        if is_condition(expression):
            name, yes = _condition(expression)
            return {name: np.where(y > 0.5, yes, f"not {yes}")}
        if self.response.transformed:
            return {self.response.original: self.response.turn_back(y)}
        assert isinstance(expression, Name)
        if self.family.shares and self.response.kind == "plain":
            return {expression.name: y > 0.5}
        full = self.family.discrete
        return {expression.name: y.astype(int) if full else y}


def error_terms(kind: str, rng: np.random.Generator, eta: np.ndarray, times: int) -> np.ndarray:
    """Return errors of mean 0 and mean square 1 over the rows: (n, times)."""
    n = len(eta)
    if kind == "skewed":
        return rng.exponential(size=(n, times)) - 1
    z = rng.standard_normal((n, times))
    if kind == "uneven":
        span = float(np.ptp(eta))
        if span:
            place = (eta - eta.min()) / span
        else:
            place = np.zeros(n)
        scale = UNEVEN**place
        return np.asarray(z * (scale / np.sqrt(np.mean(scale**2)))[:, None])
    if kind == "alike":
        out = np.empty_like(z)
        out[0] = z[0]
        for row in range(1, n):
            out[row] = ALIKE * out[row - 1] + np.sqrt(1 - ALIKE**2) * z[row]
        return out
    return z


def process(
    sentence: Sentence,
    coefficients: Mapping[str, float] | str,
    rows: int,
    *,
    predictors: Any,
    totals: Any,
    family: str,
    link: str,
    spread: float,
    shape: float | None,
    rng: np.random.Generator,
) -> Process:
    """Return the process of a sentence: predictors drawn, what learns from them learnt, truth put
    in."""
    table = predictor_table(sentence, rows, predictors, totals, rng)
    learnt = _with_placeholder(sentence, table)
    design = learn(sentence, learnt, EVERY_ROW)
    names = (*(("intercept",) if sentence.intercept else ()), *design.names)
    truth = _truth(coefficients, names)
    X = design.matrix(design.context(table, EVERY_ROW))
    if sentence.intercept:
        eta = X @ truth[1:] + truth[0]
    else:
        eta = X @ truth
    written = sentence.response
    response = ResponseScale(written.expression, written.kind, written.total)
    if (exposure := response.log_exposure(Context(table, EVERY_ROW))) is not None:
        eta = eta + exposure
    if response.transformed:  # the range that a way back needs: all that the errors may reach
        response = _ranged(response, learnt)
    distribution = FAMILIES[family]
    if distribution.shape is not None:
        if shape is None or not shape > 0:
            raise CallError("the negative binomial needs its shape k, above zero", argument="shape")
        distribution = distribution.with_shape(float(shape))
    return Process(
        sentence, table, design, names, truth, eta, distribution, LINKS[link], spread, response
    )


def _ranged(response: ResponseScale, table: Records) -> ResponseScale:
    ranges = inner_ranges(response.expression, Learner(table, EVERY_ROW, {}))
    return ResponseScale(response.expression, response.kind, response.total, ranges)


def _with_placeholder(sentence: Sentence, table: Records) -> Records:
    """Return the table with something in the response's columns, so that the sentence can be
    learnt."""
    names = [n.name for n in names_in(sentence.response.expression) if n.name not in table.names]
    frame = with_columns(table.frame, {name: np.linspace(1, 2, len(table)) for name in names})
    return records(frame)


def _condition(expression: Expression) -> tuple[str, str]:
    """Return column and value of ``(outcome = 'accepted')``. Raises CallError for another
    comparison."""
    if isinstance(expression, Chain) and expression.operators == ("=",):
        left, right = expression.operands
        if isinstance(left, Name) and isinstance(right, Text):
            return left.name, right.value
    raise CallError(
        "of comparisons, a response that is simulated is a column = 'a text'; or name a yes/no "
        "column"
    )


# ------------------------------------------------------------------ coefficients


def _truth(given: Mapping[str, float] | str, names: tuple[str, ...]) -> np.ndarray:
    """Return true coefficients in order; those not named are zero. Raises CallError for unknown
    names."""
    known = {coefficient_key(name): place for place, name in enumerate(names)}
    out = np.zeros(len(names))
    items = _assignments(given) if isinstance(given, str) else given
    for name, v in items.items():
        if coefficient_key(name) not in known:
            near = nearest(str(name), names)
            if near:
                hint = f"did you mean {near!r}?"
            else:
                hint = f"they are {listed(map(repr, names), 12)}"
            raise CallError(f"no coefficient is called {name!r}; {hint}", argument="coefficients")
        if not is_number(v) or not math.isfinite(v):
            raise CallError(f"the coefficient {name!r} is not a number", argument="coefficients")
        out[known[coefficient_key(name)]] = float(v)
    return out


def _assignments(text: str) -> dict[str, float]:
    """Return ``intercept=100, x=1, "hive_type: long"=2, a * b=0.5``: names may be products and
    powers."""
    out: dict[str, float] = {}
    for part in re.split(r",(?=(?:[^\"]*\"[^\"]*\")*[^\"]*$)", text):
        if not part.strip():
            continue
        name, sign, v = part.rpartition("=")
        try:
            out[name.strip().strip('"')] = float(v)
        except ValueError:
            sign = ""
        if not sign:
            raise CallError(
                f"{part.strip()!r} is not a coefficient with its value; write 'intercept=100, x=1'",
                argument="coefficients",
            )
    return out


# ------------------------------------------------------------------ predictors


def predictor_table(
    sentence: Sentence, rows: int, given: Any, totals: Any, rng: np.random.Generator
) -> Records:
    """Return the columns that the terms, the total and the exposure name, drawn by their recipes.

    Raises CallError for a recipe that cannot be read.
    """
    if isinstance(sentence.written, Everything):
        raise SentenceError("name the terms: there is no table yet for `all` to mean")
    extra = total_columns(sentence)
    needed = needed_columns(sentence)
    if given is not None and not isinstance(given, Mapping):
        return _drawn_from(records(given).frame, needed, extra, rows, totals, rng)
    recipes = dict(given or {})
    if odd := [n for n in recipes if n not in needed]:
        raise CallError(
            f"the sentence has no column {odd[0]!r}; its columns are {listed(needed, 12)}",
            argument="predictors",
        )
    for name in extra:
        if name not in recipes:
            if totals is None and sentence.response.kind == "of":
                raise CallError(f"how many {name}? give totals", argument="totals")
            recipes[name] = totals if totals is not None else "uniform(1, 10)"
    columns = {n: _drawn(n, recipes.get(n, USUAL), rows, rng) for n in needed}
    return records(pd.DataFrame(columns, index=range(rows)))


def total_columns(sentence: Sentence) -> list[str]:
    """Return the columns of the total or the exposure of a sentence."""
    total = sentence.response.total
    if total is None:
        return []
    return [n.name for n in names_in(total)]


def needed_columns(sentence: Sentence) -> list[str]:
    """Return the columns that the terms, the total and the exposure name, each once."""
    named = named_in(sentence.factors)
    return list(dict.fromkeys([*named, *total_columns(sentence)]))


def _drawn_from(
    frame: pd.DataFrame,
    needed: list[str],
    extra: list[str],
    rows: int,
    totals: Any,
    rng: np.random.Generator,
) -> Records:
    """Return rows drawn from a table of predictors, with totals in place of its own where given."""
    if totals is not None:
        given = extra
    else:
        given = []
    lacking = [n for n in needed if n not in frame.columns and n not in given]
    if lacking and lacking[0] in extra:
        raise CallError(f"how many {lacking[0]}? give totals", argument="totals")
    if lacking:
        raise CallError(f"the table of predictors has no column {listed(map(repr, lacking))}")
    drawn = frame.iloc[rng.integers(0, len(frame), rows)].reset_index(drop=True)
    return records(with_columns(drawn, {n: _drawn(n, totals, rows, rng) for n in given}))


def _drawn(name: str, recipe: Any, rows: int, rng: np.random.Generator) -> Any:
    """Return one column: values as given, or drawn."""
    if not isinstance(recipe, str):
        values = np.resize(np.asarray(recipe), rows) if np.ndim(recipe) == 0 else list(recipe)
        if len(values) != rows:
            raise CallError(
                f"{name} has {len(values)} values for {rows} rows; give one a row, or a recipe",
                argument="predictors",
            )
        return values
    read = _RECIPE.fullmatch(recipe)
    if read is None:
        raise CallError(
            f"{recipe!r} is not a recipe for {name}; it is normal(0, 1), uniform(0, 10), "
            "whole(1, 7) or levels(long, stacked)",
            argument="predictors",
        )
    kind, inside = read[1], [part.strip().strip("'\"") for part in read[2].split(",")]
    if kind == "levels":
        if len(inside) < 2 or not all(inside):
            raise CallError(f"{recipe!r} names no two levels for {name}", argument="predictors")
        return np.array(inside)[rng.integers(0, len(inside), rows)]
    try:
        a, b = (float(v) for v in inside)
    except ValueError:
        raise CallError(f"{recipe!r} needs two numbers for {name}", argument="predictors") from None
    draws: dict[str, Callable[[], np.ndarray]] = {
        "normal": lambda: rng.normal(a, abs(b), rows),
        "uniform": lambda: rng.uniform(min(a, b), max(a, b), rows),
        "whole": lambda: rng.integers(round(min(a, b)), round(max(a, b)) + 1, rows).astype(float),
    }
    return draws[kind]()
