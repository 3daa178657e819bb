"""Fitted: the frozen record of a fit, which every study is given."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, fields, replace
from functools import cached_property, update_wrapper
from typing import Any, Generic, Protocol, TypeVar

import numpy as np

from joinery.core.glm.estimate import Dispersion, Estimate
from joinery.core.glm.families import Family
from joinery.core.glm.links import Link
from joinery.core.inference.covariance import Sandwich
from joinery.core.least_squares.solution import Solution
from joinery.data.records import Records
from joinery.design.design import Design
from joinery.design.glm_blocks import WorkingRows
from joinery.design.learning import Learner
from joinery.design.response import ResponseScale
from joinery.design.row_blocks import Asides, RowBlocks
from joinery.notation.context import EVERY_ROW, Context, Rows
from joinery.notation.tree import Call, Sentence
from joinery.notation.walk import lags_in
from joinery.show.labels import Labels
from joinery.support import advice
from joinery.support.errors import CallError, Note


@dataclass(frozen=True)
class Options:
    """The options of ``fit`` beside the sentence, checked."""

    family: str = "normal"
    link: str = "identity"
    dispersion: Dispersion = None
    weights: str | None = None
    repeats: str | None = None
    offset: str | None = None
    where: str | None = None
    leave_out: tuple[Any, ...] | None = None
    id: str | None = None
    order: str | None = None
    missing: str = "leave out"
    std_errors: str = "constant spread"
    cluster: tuple[str, ...] = ()
    penalty: str | None = None
    level: float = 0.95
    labels: Mapping[str, str] = field(default_factory=dict)

    @property
    def asides(self) -> Asides:
        """Return what stands beside the terms."""
        return Asides(self.weights, self.repeats, self.offset)


@dataclass(frozen=True)
class UsedRows:
    """The rows used (a slice when all are), and the position and reason of rows left out.

    ``awaiting`` holds positions of rows left out only because their response is missing: the rows
    to forecast; ``weightless`` those whose weight is zero; ``cut`` those that where= cuts off."""

    total: int
    out: np.ndarray
    reasons: tuple[str, ...]
    awaiting: np.ndarray
    weightless: np.ndarray = field(default_factory=lambda: np.empty(0, dtype=int))
    cut: np.ndarray = field(default_factory=lambda: np.empty(0, dtype=int))

    @cached_property
    def rows(self) -> Rows:
        if not len(self.out):
            return EVERY_ROW
        mask = np.ones(self.total, dtype=bool)
        mask[self.out] = False
        return np.flatnonzero(mask)

    @property
    def used(self) -> int:
        return self.total - len(self.out)

    def without(self, positions: np.ndarray, reason: str = "held out") -> UsedRows:
        """Return the same without some more rows, by position in the table."""
        fresh = np.setdiff1d(positions, self.out)
        out = np.concatenate([self.out, fresh])
        order = np.argsort(out, kind="stable")
        reasons = (*self.reasons, *[reason] * len(fresh))
        return replace(self, out=out[order], reasons=tuple(reasons[i] for i in order))

    @property
    def counts(self) -> dict[str, int]:
        """Return how many rows each reason left out, in the order in which the table meets them."""
        return dict(Counter(self.reasons))


class Refit(Protocol):
    """Fit again to the table of a fit: another sentence, rows, table or options."""

    def __call__(
        self,
        *,
        sentence: Sentence | None = None,
        used: UsedRows | None = None,
        table: Records | None = None,
        options: Options | None = None,
    ) -> Fitted: ...


@dataclass(frozen=True)
class Origin:
    """The origin of a fit: its table, the rows it used, and the way to fit to it again."""

    table: Records  # with missing cells filled, where that was asked
    given: Records  # as it came
    used_rows: UsedRows
    refit: Refit


CHOSEN = "chosen stepwise"  # the change that a search for terms makes


class Chooser(Protocol):
    """A search for terms, which can be made again on other rows."""

    @property
    def sentence(self) -> Sentence:
        """The largest model among whose terms it chooses."""
        ...

    def __call__(self, largest: Fitted) -> Fitted:
        """Return the model chosen from the largest one, fitted to the same rows."""
        ...


@dataclass(frozen=True, eq=False)
class Fitted:
    """A fitted model: design, estimate, options, and where it came from."""

    design: Design
    estimate: Estimate
    options: Options
    origin: Origin | None  # None for a fit loaded from a file, which keeps no rows
    # the covariance that std_errors= asks for, unless it is the plain one
    sandwich: Sandwich | None = None
    early_notes: tuple[Note, ...] = ()  # what was noted on the way; of a loaded fit, every note
    changes: tuple[str, ...] = ()  # the trail of revisions, CHOSEN where a search made it
    chooser: Chooser | None = None  # the search that ended in this fit
    memory: Any = None  # what a loaded fit remembers of its rows: study.forecast.memory
    judged: tuple[Any, ...] | None = None  # of a loaded fit, the lines of its checks when saved
    # never shared: replace makes another
    cache: dict[Any, Any] = field(default_factory=dict, init=False, repr=False)

    def __getstate__(self) -> dict[str, Any]:
        """Leave what was worked out on the way behind: another process does it again."""
        return {f.name: getattr(self, f.name) for f in fields(self)} | {"cache": {}}

    # ------------------------------------------------------------------ what it is made of

    @property
    def solution(self) -> Solution:
        return self.estimate.solution

    @property
    def family(self) -> Family:
        return self.estimate.family

    @property
    def link(self) -> Link:
        return self.estimate.link

    @property
    def sentence(self) -> str:
        """The model sentence in its canonical form."""
        return str(self.design.sentence)

    @cached_property
    def response(self) -> ResponseScale:
        """The response and its scale."""
        response = self.design.sentence.response
        return ResponseScale(
            response.expression, response.kind, response.total, self.design.response_ranges
        )

    @cached_property
    def asides(self) -> Asides:
        return self.options.asides

    @property
    def level(self) -> float:
        return self.options.level

    @property
    def lags(self) -> tuple[Call, ...]:
        """Return what the terms take of columns from other rows, each once, in order."""
        factors = self.design.sentence.factors
        return tuple({str(call): call for f in factors for call in lags_in(f)}.values())

    def words(self, name: str) -> str:
        """Return the name of a column, term or coefficient in the words that ``labels`` gave."""
        return Labels(self.options.labels)(name)

    # ------------------------------------------------------------------ figures

    @property
    def n_rows(self) -> int:
        """Rows the fit rests on."""
        return self.solution.n

    @property
    def residual_df(self) -> int:
        """Rows less coefficients."""
        return max(self.solution.residual_df, 0)

    @property
    def model_df(self) -> int:
        """Coefficients beside the constant."""
        return self.estimate.model_df

    @property
    def residual_sd(self) -> float | None:
        """s; None for other families than the normal."""
        if self.family.canonical == "identity":
            return self.estimate.scale
        return None

    @property
    def r_squared(self) -> float | None:
        """1 − RSS/TSS; None when the response does not vary, and for other families."""
        if not self.estimate.linear or constant_response(self.solution):
            return None
        return 1 - self.solution.rss / self.solution.tss

    @property
    def adjusted_r_squared(self) -> float | None:
        """1 − (RSS/residual df)/(TSS/total df)."""
        if self.r_squared is None or not self.residual_df:
            return None
        total_df = self.n_rows - self.solution.spans_constant
        return 1 - (self.solution.rss / self.residual_df) / (self.solution.tss / total_df)

    @property
    def aic(self) -> float | None:
        """2·parameters − 2·log likelihood."""
        likelihood = self.estimate.log_likelihood
        if likelihood is None:
            return None
        return 2 * self.estimate.parameters - 2 * likelihood

    @property
    def bic(self) -> float | None:
        """log(n)·parameters − 2·log likelihood."""
        likelihood = self.estimate.log_likelihood
        if likelihood is None:
            return None
        return math.log(self.n_rows) * self.estimate.parameters - 2 * likelihood


def constant_response(solution: Solution) -> bool:
    """Return True if the response does not vary beyond rounding."""
    size = abs(solution.mean_response / solution.unit) * np.sqrt(solution.weight_sum)
    return bool(solution.spans_constant and solution.tss <= (2 * np.finfo(float).eps * size) ** 2)


Found = TypeVar("Found")


class Once(Generic[Found]):
    """A question of a fit whose answer is worked out once and kept as long as the fit."""

    def __init__(self, work: Callable[[Fitted], Found]) -> None:
        self.work = work
        update_wrapper(self, work)

    def __call__(self, fit: Fitted) -> Found:
        if self.work not in fit.cache:
            full = fit.cache.get((self.work, "of"))
            fit.cache[self.work] = self.work(fit) if full is None else self(full)
        value: Found = fit.cache[self.work]
        return value

    def is_of(self, fit: Fitted, integral: Fitted) -> None:
        """Let it be asked of another fit in place of this one, once it is asked."""
        fit.cache[self.work, "of"] = integral

    def known(self, fit: Fitted) -> bool:
        """Return True if the answer is at hand already."""
        return self.work in fit.cache


def once(work: Callable[[Fitted], Found]) -> Once[Found]:
    """Return marks a question of a fit as one to be worked out once."""
    return Once(work)


def without_place(table: Records, rows: Rows, order: str | None) -> int:
    """Return how many of some rows have no value in the column that orders them."""
    if order is None:
        return 0
    return int(table.column(order).missing(rows).sum())


def checked_level(level: Any) -> float:
    """Return a level as a share: 0.95 and 95 mean the same. Raises CallError outside 0 to 100."""
    try:
        value = float(level)
    except (TypeError, ValueError):
        value = float("nan")
    if value > 1:
        value = value / 100
    if not 0 < value < 1:
        raise CallError(
            f"{advice.option('level', level)} is not a level; it lies between 0 and 100: "
            "write 0.95 or 95",
            argument="level",
        )
    return value


def working_rows(fit: Fitted) -> RowBlocks | WorkingRows:
    """Return the rows of the least squares that a fit rests on, in blocks.

    Raises CallError for a loaded fit.

    Under other families than the normal these are the working responses and weights of the last
    step."""
    blocks = response_rows(fit)
    if fit.estimate.linear:
        return blocks
    return WorkingRows(blocks, fit.estimate)


def response_rows(fit: Fitted) -> RowBlocks:
    """Return the rows a fit used as they are, in blocks. Raises CallError for a loaded fit."""
    table, used = rows_at_hand(fit)
    return RowBlocks(fit.design, fit.response, fit.asides, table, used.rows)


def fitted_rows(fit: Fitted) -> Learner:
    """Return the rows a fit used, each as often as it stands, to sum over in stretches.

    Raises CallError for a loaded fit.
    """
    table, used = rows_at_hand(fit)
    counts = fit.asides.values("repeats", Context(table, used.rows))
    memory = fit.design.function_memory
    return Learner(table, used.rows, memory, fit.options.order, counts)


def rows_at_hand(fit: Fitted) -> tuple[Records, UsedRows]:
    """Return the table and used rows of a fit.

    Raises CallError for one loaded from a file, which keeps no rows.
    """
    if fit.origin is None:
        raise CallError(
            "a fit loaded from a file keeps no rows of its table, so nothing of single rows can "
            "be said or drawn: fit the table again for that; coefficients, tests, claims, the "
            "equation and forecasts it answers as before"
        )
    return fit.origin.table, fit.origin.used_rows
