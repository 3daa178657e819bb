"""The terms of a design: which columns each spans beyond its lower-order terms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache, reduce
from itertools import product
from typing import Any

import numpy as np

from joinery.core.numeric import double_double as precise
from joinery.data.columns import level_text
from joinery.design.codings import Subset, coding_matrix, open_cells, subsets
from joinery.design.factors import (
    CategoryFactor,
    Factor,
    NumberFactor,
    Remembered,
    recall,
    shown,
)
from joinery.notation.context import Context
from joinery.notation.tree import Name, Sentence

TIMES = " × "
# What a column is made of: each factor with the piece (of a curve) or level (of a category) it
# gives.
Recipe = tuple[tuple[Factor, int], ...]
# Which sets of categories are spanned already, for each numeric part.
Taken = dict[tuple[tuple[str, float], ...], set[frozenset[str]]]


@dataclass(frozen=True)
class DesignTerm:
    """One term: its factors, and which columns of the design it fills.

    ``cells`` are the combinations of levels that have an indicator column; ``contrasts`` the sets
    of factors that are coded by their contrasts instead (other codings). One of the two is empty.
    """

    text: str
    factors: tuple[Factor, ...]
    cells: tuple[tuple[int, ...], ...]
    contrasts: tuple[Subset, ...]
    start: int
    recipes: tuple[Recipe, ...]
    names: tuple[str, ...]

    @property
    def columns(self) -> slice:
        return slice(self.start, self.start + len(self.names))

    @property
    def categories(self) -> tuple[CategoryFactor, ...]:
        return tuple(f for f in self.factors if isinstance(f, CategoryFactor))

    def fill(self, out: np.ndarray, context: Context) -> None:
        """Write this term's columns of a block (m, width of the term)."""
        if self.plain_column is not None and not context.held:  # most terms are a column as it is
            out[:, 0] = context.table.column(self.plain_column).numbers(context.rows)
            return
        self._spread(out, self._numeric(context), context)

    @cached_property
    def plain_column(self) -> str | None:
        """The column of numbers that this term is and no more, if it is."""
        if len(self.factors) == 1:
            factor = self.factors[0]
        else:
            factor = None
        if isinstance(factor, NumberFactor) and factor.first is None:
            if isinstance(factor.expression, Name):
                return factor.expression.name
            return None
        return None

    @property
    def rounds(self) -> bool:
        """Return True if its columns are powers or products of numbers, which a double rounds."""
        numbers = [f for f in self.factors if not isinstance(f, CategoryFactor)]
        return all(isinstance(f, NumberFactor) for f in numbers) and (
            len(numbers) > 1
            or any(isinstance(f, NumberFactor) and f.integer_power > 1 for f in numbers)
        )

    def fill_rounding_residue(self, out: np.ndarray, context: Context) -> None:
        """Write what its columns are more than the doubles that ``fill`` writes."""
        pairs = [f.pair(context) for f in self.factors if isinstance(f, NumberFactor)]
        with np.errstate(all="ignore"):
            high, low = reduce(precise.multiply, pairs)
            rest = (high - self._numeric(context)[:, 0]) + low
        self._spread(out, np.where(np.isfinite(rest), rest, 0.0)[:, None], context)

    def fill_slopes(self, out: np.ndarray, name: str, context: Context) -> None:
        """Write the derivatives of its columns by a column of the table, by the product rule."""
        numbers = [f for f in self.factors if not isinstance(f, CategoryFactor)]
        if not numbers:
            out[:] = 0.0
            return
        parts = [f.columns(context) for f in numbers]
        total = np.zeros((1, 1))
        for place, factor in enumerate(numbers):
            slopes = factor.slopes(name, context)
            total = total + _products([*parts[:place], slopes, *parts[place + 1 :]])
        self._spread(out, total, context)

    def _spread(self, out: np.ndarray, numeric: np.ndarray, context: Context) -> None:
        """Numbers (m, columns) written to the columns of each combination of levels."""
        if not self.categories:
            out[:] = numeric
            return
        codes = [f.codes(context) for f in self.categories]
        if self.contrasts:
            self._fill_contrasts(out, numeric, codes)
        else:
            self._fill_cells(out, numeric, codes)
        missing = np.any([c < 0 for c in codes], axis=0)
        if missing.any():
            out[missing] = np.nan

    def _numeric(self, context: Context) -> np.ndarray:
        """Return the product of the factors that are numbers or curves: (m, columns)."""
        parts = [f.columns(context) for f in self.factors if not isinstance(f, CategoryFactor)]
        if parts:
            return _products(parts)
        return np.ones((1, 1))

    def _fill_cells(self, out: np.ndarray, numeric: np.ndarray, codes: list[np.ndarray]) -> None:
        counts = tuple(len(f.levels) for f in self.categories)
        lookup = np.full(counts, -1)
        for place, cell in enumerate(self.cells):
            lookup[cell] = place
        place = lookup[tuple(codes)]
        rows = np.flatnonzero(place >= 0)
        width = numeric.shape[1]
        out[:] = 0.0
        for j in range(width):
            if len(numeric) > 1 or len(out) == 1:
                values = numeric[rows, j]
            else:
                values = numeric[0, j]
            out[rows, place[rows] * width + j] = values

    def _fill_contrasts(
        self, out: np.ndarray, numeric: np.ndarray, codes: list[np.ndarray]
    ) -> None:
        coded = [coding_matrix(f.coding, len(f.levels))[c] for f, c in zip(self.categories, codes)]
        start = 0
        for chosen in self.contrasts:
            block = np.broadcast_to(numeric, (len(out), numeric.shape[1]))
            for i in sorted(chosen):
                block = (coded[i][:, :, None] * block[:, None, :]).reshape(len(out), -1)
            out[:, start : start + block.shape[1]] = block
            start += block.shape[1]


def _products(parts: Sequence[np.ndarray]) -> np.ndarray:
    """Return every product of a column of each part, row by row: (m, columns)."""
    result = parts[0]
    for part in parts[1:]:
        result = (result[:, :, None] * part[:, None, :]).reshape(len(part), -1)
    return result


def assemble(sentence: Sentence, memory: dict[str, Remembered]) -> tuple[DesignTerm, ...]:
    """Return each term's columns: what it spans beyond its lower-order terms."""
    recalled = [
        tuple(_once(recall(f, memory[str(f)]) for f in term.factors)) for term in sentence.terms
    ]
    taken: Taken = {}
    if sentence.intercept:
        taken[()] = {frozenset()}
    choices: dict[int, tuple[tuple[tuple[int, ...], ...], tuple[Subset, ...]]] = {}
    for place in sorted(
        range(len(recalled)), key=lambda i: sum(isinstance(f, CategoryFactor) for f in recalled[i])
    ):
        choices[place] = _open_part(recalled[place], taken)
    out: list[DesignTerm] = []
    start, used = 0, set[str]()
    for place, factors in enumerate(recalled):
        cells, contrasts = choices[place]
        recipes = _recipes(factors, cells, contrasts)
        names = _unique(list(map(_column_name, recipes)), used)
        out.append(
            DesignTerm(_term_text(factors), factors, cells, contrasts, start, recipes, names)
        )
        start += len(names)
    return tuple(out)


@lru_cache(maxsize=256)
def assemble_numbers(sentence: Sentence) -> tuple[DesignTerm, ...]:
    """Return the terms of a sentence of plain numbers, which follow from the sentence alone."""
    return assemble(sentence, {str(f): {"kind": "number"} for f in sentence.factors})


def _once(factors: Any) -> list[Factor]:
    """Return a category written twice in a product counts once."""
    out: list[Factor] = []
    for factor in factors:
        if not (isinstance(factor, CategoryFactor) and factor in out):
            out.append(factor)
    return out


def _open_part(
    factors: tuple[Factor, ...], taken: Taken
) -> tuple[tuple[tuple[int, ...], ...], tuple[Subset, ...]]:
    """Return which combinations (or contrasts) of a term's categories nothing of lower order has
    spanned.

    Marks them taken.

    Spaces are kept apart by their numeric part; within one, a set of categories is named by the
    categories' own text."""
    categories = [f for f in factors if isinstance(f, CategoryFactor)]
    degrees: dict[str, float] = {}
    for f in factors:
        if not isinstance(f, CategoryFactor):
            degrees[f.base] = degrees.get(f.base, 0.0) + f.degree
    spanned = taken.setdefault(tuple(sorted(degrees.items())), set())
    labels = [f.label for f in categories]
    still_open = [
        s for s in subsets(range(len(categories))) if frozenset(labels[i] for i in s) not in spanned
    ]
    spanned |= {frozenset(labels[i] for i in s) for s in still_open}
    counts = tuple(len(f.levels) for f in categories)
    plain = all(f.coding == "indicator" for f in categories)
    if plain or len(still_open) == 2 ** len(categories):
        return tuple(open_cells(counts, still_open)), ()
    return (), tuple(s for s in still_open if all(counts[i] > 1 for i in s))


def _recipes(
    factors: tuple[Factor, ...], cells: Sequence[tuple[int, ...]], contrasts: Sequence[Subset]
) -> tuple[Recipe, ...]:
    """Return what each column of a term is made of, in the order in which ``fill`` writes them."""
    categories = [f for f in factors if isinstance(f, CategoryFactor)]
    curves = [range(f.width) for f in factors if not isinstance(f, CategoryFactor)]
    combinations: list[dict[int, int]] = [dict(enumerate(cell)) for cell in cells]
    for chosen in contrasts:
        members = sorted(chosen, reverse=True)
        ranges = (range(1, len(categories[i].levels)) for i in members)
        combinations += [dict(zip(members, levels)) for levels in product(*ranges)]
    if not categories:
        combinations = [{}]
    recipes = []
    for combination in combinations:
        for pieces in product(*curves):
            piece, place = iter(pieces), 0
            recipe: list[tuple[Factor, int]] = []
            for f in factors:
                if isinstance(f, CategoryFactor):
                    if place in combination:
                        recipe.append((f, combination[place]))
                    place += 1
                else:
                    recipe.append((f, next(piece)))
            recipes.append(tuple(recipe))
    return tuple(recipes)


def _column_name(recipe: Recipe) -> str:
    """Return a readable name, the factors in the order written: ``forage_km2 × hive_type:
    long``."""
    return TIMES.join(
        f"{f.label}: {level_text(f.levels[i])}" if isinstance(f, CategoryFactor) else f.names[i]
        for f, i in recipe
    )


def _unique(names: list[str], used: set[str]) -> tuple[str, ...]:
    """Return the names, numbered where one was used before."""
    out = []
    for name in names:
        fresh, count = name, 1
        while fresh in used:
            count += 1
            fresh = f"{name} ({count})"
        used.add(fresh)
        out.append(fresh)
    return tuple(out)


def _term_text(factors: tuple[Factor, ...]) -> str:
    """Return a term as tables name it."""
    return TIMES.join(
        f.label if isinstance(f, CategoryFactor) else shown(f.expression) for f in factors
    )
