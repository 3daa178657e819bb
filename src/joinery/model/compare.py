"""The doors to studies of several fits: compare, stepwise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from joinery.arguments import checked
from joinery.errors import CallError, one_of
from joinery.model.fit import fit
from joinery.model.result import Fit
from joinery.model.revise import terms_of
from joinery.show.table import Table
from joinery.study.compare import stepwise as study
from joinery.study.compare.compare import compare as side_by_side
from joinery.study.compare.stepwise import CRITERIA, MOVES, Steps


def compare(*fits: Fit) -> Table:
    """Fits of the same response side by side: figures, nested tests, coefficients.

    Parameters: two or more fits. Each is tested against the one before it when one of the two holds
    the other.
    Returns a Table with a row for each fit: sentence, figures, crosscheck_error (left-one-out),
    against, test, df, p, and each coefficient with its standard error. Warns with
    JoineryWarning when fits rest on different rows or responses, and says what to do. Raises
    CallError for fewer than two fits, or one loaded from a file.
    Source: Draper & Smith 1998, 6.1.

    >>> import joinery as jn
    >>> one = jn.fit("sample:yields", "honey_kg given forage_km2")
    >>> jn.compare(one, one.revise(add="hive_type"))["df"].tolist()[1]
    2.0
    """
    several = list(fits[0]) if len(fits) == 1 and isinstance(fits[0], (list, tuple)) else list(fits)
    if len(several) < 2:
        raise CallError("compare takes two or more fits: compare(first, second)")
    if (odd := next((f for f in several if not isinstance(f, Fit)), None)) is not None:
        raise CallError(
            f"compare takes fits, not {type(odd).__name__}; make each with fit(…) or revise(…)"
        )
    return side_by_side([f._fitted for f in several])


@dataclass(frozen=True, eq=False, repr=False)
class Trail:
    """How a stepwise choice went.

    ``steps`` is a Table of the moves, ``final`` the Fit it ended in.
    """

    _steps: Steps

    @cached_property
    def final(self) -> Fit:
        """The model that the steps ended in, fitted to the same rows."""
        return Fit(self._steps.final)

    @property
    def steps(self) -> Table:
        """Each step: what moved, the figures after it, and what was tried."""
        return self._steps.table

    @property
    def page(self) -> Table:
        """The steps with the crosscheck of the whole procedure."""
        return self._steps.page

    @property
    def crosscheck(self) -> tuple[float, float]:
        """The error of the whole procedure on rows not seen, and on its own rows."""
        return self._steps.crosscheck

    def __str__(self) -> str:
        return str(self.page)

    def __repr__(self) -> str:
        return f"<Trail of {len(self._steps.moves) - 1} steps to {self.final.sentence!r}>"

    def _repr_html_(self) -> str:
        return self.page.render("html")


@checked
def stepwise(
    data: Any,
    model: str,
    *,
    moves: str = "add and drop",
    criterion: str = "aic",
    keep: Sequence[str] | str = (),
    enter: float = 0.05,
    leave: float = 0.10,
    seed: int | None = 0,
    **options: Any,
) -> Trail:
    """Chooses among the terms of a sentence step by step.

    Parameters: ``data`` and ``model`` as for ``fit``: the sentence is the largest model. ``moves``:
    ``"drop"`` from it, ``"add"`` from the intercept up, or ``"add and drop"`` from the
    intercept up. ``criterion``: ``"aic"``, ``"bic"``, ``"adjusted r2"``, or ``"p"`` with
    ``enter`` and ``leave``. ``keep``: terms that always stay. Other options as ``fit``.
    Categories and products move whole, products only with their main effects; every model rests
    on the rows that are complete for the largest. Returns a Trail. Raises CallError for another
    criterion, a kept term that is not there, or a family but the normal.
    Source: Draper & Smith 1998, 15; Akaike 1974; Schwarz 1978.

    >>> trail = stepwise("sample:queens", "eggs_a_day given weight_mg, age_days, humidity")
    >>> trail.final.sentence
    'eggs_a_day given weight_mg, age_days'
    """
    one_of("moves", moves, tuple(MOVES))
    one_of("criterion", criterion, CRITERIA)
    for name, value in (("enter", enter), ("leave", leave)):
        if not 0 < value < 1:
            raise CallError(f"{name}={value!r} is no probability between 0 and 1", argument=name)
    largest = fit(data, model, **options)._fitted
    rules = study.Rules(moves, criterion, enter, leave, seed)
    return Trail(study.stepwise(largest, rules, terms_of(keep or None)))
