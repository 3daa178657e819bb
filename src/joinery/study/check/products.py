"""Do effects depend on one another? Products that are not in the model."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from itertools import pairwise

import numpy as np

from joinery.core.blocks.columns import some_columns
from joinery.core.inference.diagnostics import Test
from joinery.data.columns import level_text
from joinery.design.row_blocks import RowBlock
from joinery.notation.tree import outside
from joinery.show.numbers import count, figure
from joinery.study.check.added import (
    Residuals,
    added,
    side_by_side,
    surest,
    with_residuals,
    with_terms,
    would_see,
)
from joinery.study.check.check import Line, not_judged, nothing_left
from joinery.study.fitted import Fitted
from joinery.study.numeric_terms import column_means, kept_columns, numbers_alone
from joinery.study.read.estimates import estimates
from joinery.support import advice as say
from joinery.support.errors import JoineryError

PRODUCTS = "Do effects depend on one another?"
PRODUCT_LEVELS = 12  # levels of a category whose products are looked at
MOST_NUMBERS, STRONGEST = 50, 20  # numbers all of whose pairs are looked at, and of more how many
MOST_TESTED = 50  # products of which the exact test is made
NAMED_LEVELS = 6  # levels whose slopes are named


@dataclass(frozen=True)
class Source:
    """A term whose products are looked at: its columns in the design, less their means."""

    term: str  # as the sentence writes it
    name: str  # for people
    places: np.ndarray
    centres: np.ndarray
    number: bool


@dataclass(frozen=True)
class Pair:
    """Two sources, and whether the curve of the first is meant as well."""

    a: Source
    b: Source
    curved: bool = False

    @property
    def width(self) -> int:
        return len(self.a.places) * len(self.b.places) * (2 if self.curved else 1)


def products(fit: Fitted) -> Iterator[Line]:
    """Yield every product of two terms that is not in the model: the one that explains most."""
    if nothing_left(fit) or not fit.solution.has_intercept:
        return
    everything = sources(fit)
    pairs = _pairs(fit, everything)
    if not pairs:
        return
    check = f"products of two terms ({count(len(pairs), 'pair')}, Holm)"
    if fit.residual_df < 4:
        why = "too few degrees of freedom are left to add a product"
        yield not_judged("product", "products", PRODUCTS, check, why)
        return
    # the correction counts all pairs that were looked at, not only those tested exactly
    exact = _likeliest(fit, pairs)
    groups = side_by_side(pair.width for pair in exact)
    tests = added(fit, partial(_columns, factors=Factors.of(exact)), groups)
    best = surest(tests, among=len(pairs))
    if best is None:
        return
    place, test = best
    pair = exact[place]
    yield Line(
        "product",
        "products",
        PRODUCTS,
        f"{pair.a.name} × {pair.b.name} added (F, Holm over {count(len(pairs), 'pair')})",
        test,
        finding=_finding(fit, pair, test),
        advise=partial(_advice, pair),
        small=0.01,
        large=0.1,
        would_see=would_see(fit, "products", len(pairs), test, "a product"),
    )


def sources(fit: Fitted) -> list[Source]:
    """Return the terms whose products are looked at: numbers, and categories of few levels."""
    middle = column_means(fit)
    out = []
    for factor, column in numbers_alone(fit):
        centre = np.array([middle[column]])
        written = outside(factor.expression)
        out.append(Source(written, fit.words(factor.name), np.array([column]), centre, True))
    for sentence_term, term in zip(fit.design.sentence.terms, fit.design.terms, strict=True):
        places = kept_columns(term, middle)
        if len(term.factors) != 1 or not term.categories:
            continue
        if not 0 < len(places) < PRODUCT_LEVELS:
            continue
        centres = np.array([middle[c] for c in places])
        name = fit.words(term.text)
        out.append(Source(str(sentence_term), name, np.array(places), centres, False))
    return out


def _pairs(fit: Fitted, everything: Sequence[Source]) -> list[Pair]:
    """Return the pairs that are looked at, without those whose product is there."""
    numbers = [s for s in everything if s.number]
    if len(numbers) > MOST_NUMBERS:
        # of hundreds of numbers the pairs are too many; a strong product has a strong factor nearly
        # always
        numbers = _strongest(fit, numbers)
    categories = [s for s in everything if not s.number]
    taken = {frozenset(pair) for pair in _products_in(fit)}
    out = []
    for i, a in enumerate(numbers):
        out += [Pair(a, b) for b in numbers[i + 1 :]]
    for a in numbers:
        for b in categories:
            out.append(Pair(a, b))
            out.append(Pair(a, b, curved=True))
    return [pair for pair in out if frozenset((pair.a.term, pair.b.term)) not in taken]


def _products_in(fit: Fitted) -> Iterator[tuple[str, str]]:
    for term in fit.design.sentence.terms:
        for i, a in enumerate(term.factors):
            for b in term.factors[i + 1 :]:
                yield outside(a), outside(b)


def _strongest(fit: Fitted, numbers: Sequence[Source]) -> list[Source]:
    """Return the numbers whose coefficients are surest."""
    e = estimates(fit)
    first = int(fit.solution.has_intercept)
    with np.errstate(all="ignore"):
        sure = np.nan_to_num(np.abs(e.values / e.standard_errors))
    ordered = sorted(numbers, key=lambda s: -sure[int(s.places[0]) + first])
    return ordered[:STRONGEST]


def _likeliest(fit: Fitted, pairs: Sequence[Pair]) -> list[Pair]:
    """Return the pairs that get the exact test: of many those that go with the residuals most."""
    of_numbers = [pair for pair in pairs if pair.b.number]
    others = [pair for pair in pairs if not pair.b.number]
    if len(of_numbers) > MOST_TESTED:
        names = list(dict.fromkeys(s.term for pair in of_numbers for s in (pair.a, pair.b)))
        by_name = {s.term: s for pair in of_numbers for s in (pair.a, pair.b)}
        columns = [by_name[name] for name in names]
        at = {name: i for i, name in enumerate(names)}
        places = np.array([int(s.places[0]) for s in columns])
        centres = np.array([float(s.centres[0]) for s in columns])
        parts = with_residuals(fit).each(partial(_screened, places=places, centres=centres))
        with_residual, squares = np.add.reduce(list(parts))
        with np.errstate(all="ignore"):
            # (Σ e·xᵢxⱼ)²/Σ(xᵢxⱼ)²: what the product would explain if nothing else held it already
            score = np.nan_to_num(with_residual**2 / squares)
        of_numbers = sorted(of_numbers, key=lambda q: -score[at[q.a.term], at[q.b.term]])
        of_numbers = of_numbers[:MOST_TESTED]
    return [*of_numbers, *others[: 4 * MOST_TESTED]]


def _screened(rows: Residuals, places: np.ndarray, centres: np.ndarray) -> np.ndarray:
    """Return Xᵀdiag(we)X and (X∘X)ᵀdiag(w)(X∘X) of columns less their means: (2, k, k)."""
    block, e = rows
    X = some_columns(block.columns, places) - centres
    w = block.weights
    square = X * X
    if w is None:
        return np.array([X.T @ (X * e[:, None]), square.T @ square])
    return np.array([X.T @ (X * (w * e)[:, None]), square.T @ (square * w[:, None])])


@dataclass(frozen=True)
class Factors:
    """Products as columns of the design: which two are multiplied, and where the first twice."""

    places: np.ndarray  # of the columns that are multiplied, each once
    centres: np.ndarray
    first: np.ndarray  # their places among these
    second: np.ndarray
    twice: np.ndarray

    @cached_property
    def runs(self) -> list[tuple[int, int]]:
        """Return stretches of one first column with second ones that stand side by side."""
        breaks = (np.diff(self.first) != 0) | (np.diff(self.second) != 1)
        ends = [0, *(np.flatnonzero(breaks) + 1).tolist(), len(self.first)]
        return list(pairwise(ends))

    @classmethod
    def of(cls, pairs: Sequence[Pair]) -> Factors:
        """Return the products of pairs, those of one side by side."""
        centre = {int(p): float(c) for q in pairs for s in (q.a, q.b)
                  for p, c in zip(s.places, s.centres, strict=True)}  # fmt: skip
        places = np.array(sorted(centre))
        at = {int(place): i for i, place in enumerate(places)}
        first, second, twice = [], [], []
        for pair in pairs:
            for square in (False, True)[: 1 + pair.curved]:
                for a in pair.a.places:
                    first += [at[int(a)]] * len(pair.b.places)
                    second += [at[int(b)] for b in pair.b.places]
                    twice += [square] * len(pair.b.places)
        return cls(
            places,
            np.array([centre[int(p)] for p in places]),
            np.array(first),
            np.array(second),
            np.flatnonzero(twice),
        )


def _columns(block: RowBlock, factors: Factors) -> np.ndarray:
    """Return the products side by side (m, q), of columns less their means."""
    X = np.asfortranarray(some_columns(block.columns, factors.places) - factors.centres)
    out = np.empty((len(X), len(factors.first)), order="F")
    # a run is one product of a column and a block, which is faster than many of two columns
    for start, stop in factors.runs:
        a, b = factors.first[start], factors.second[start]
        np.multiply(X[:, a, None], X[:, b : b + stop - start], out=out[:, start:stop])
    for j in factors.twice:
        out[:, j] *= X[:, factors.first[j]]
    return out


def _written(pair: Pair) -> str:
    """Return the terms that add a pair's product to the sentence."""
    product = f"{pair.a.term} * {pair.b.term}"
    if not pair.curved:
        return product
    square = f"{pair.a.term}^2"
    return f"{square}, {product}, {square} * {pair.b.term}"


def _advice(pair: Pair) -> str:
    return f"add it: {say.change(add=_written(pair))}"


def _finding(fit: Fitted, pair: Pair, test: Test) -> str:
    a, b = pair.a.name, pair.b.name
    if pair.curved:
        return f"the curve of {a} differs between the levels of {b}"
    if pair.b.number:
        return f"the slope of {a} changes with {b}"
    words = f"the slope of {a} differs between the levels of {b}"
    if test.p < 0.02 and (slopes := _slopes(fit, pair)):
        words += f" ({slopes})"
    return words


def _slopes(fit: Fitted, pair: Pair) -> str:
    """Return the slope in each level of a category, from the model with the product in it."""
    term = next(t for t in fit.design.terms if fit.words(t.text) == pair.b.name)
    factor = term.categories[0]
    if len(factor.levels) > NAMED_LEVELS or factor.coding != "indicator" or fit.origin is None:
        return ""
    try:
        sentence = with_terms(fit, _written(pair))
        wider = estimates(fit.origin.refit(sentence=sentence))
    except JoineryError:
        return ""
    values = dict(zip(wider.names, wider.values.tolist(), strict=True))
    # the slope in the reference level, to which each other level adds its own
    slope = values.get(pair.a.term, np.nan)
    slopes = [slope]
    for level in factor.levels[1:]:
        text = f"{term.text}: {level_text(level)}"
        names = (f"{pair.a.term} × {text}", f"{text} × {pair.a.term}")
        slopes.append(slope + next((values[n] for n in names if n in values), np.nan))
    if not np.isfinite(slopes).all():
        return ""
    parts = zip(slopes, factor.levels, strict=True)
    return ", ".join(f"{figure(slope, 2)} in {level_text(level)}" for slope, level in parts)
