"""The doors to studies of several fits: compare, stepwise."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Unpack

from joinery.model.fit import fit
from joinery.model.result import Fit
from joinery.model.revise import terms_of
from joinery.show.numbers import count
from joinery.show.table import Table
from joinery.study.compare import stepwise as study
from joinery.study.compare.compare import compare as side_by_side
from joinery.study.compare.stepwise import CRITERIA, MOVES, Steps
from joinery.support import advice, words
from joinery.support.arguments import checked
from joinery.support.errors import CallError, one_of
from joinery.support.threads import one_thread_a_product


@one_thread_a_product()
def compare(*fits: Fit, crosscheck: bool = False, seed: int | None = 0) -> Table:
    """Fit of the same response side by side: figures, nested tests, coefficients.

    Parameters: two or more fits; ``crosscheck`` judges all of them on the same ten folds, dealt by
    ``seed``. Each is tested against the one before it when one of the two holds
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
    several = [f._fitted for f in _fits(fits, 2, "compare")]
    return side_by_side(several, crosscheck=crosscheck, seed=seed)


@checked
def report(path: str | os.PathLike[str], *fits: Fit) -> Path:
    """Write one page to send of one fit or several side by side.

    Parameters: ``path`` of the HTML file; the fits. Returns the path. Raises CallError for no fit,
    or one loaded from a file.

    >>> import joinery as jn, tempfile, pathlib
    >>> one = jn.fit("sample:jars", "jars_sold given hours_open")
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.html"
    >>> jn.report(file, one, one.revise(add="hours_open^2")).name
    'jars.html'
    """
    from joinery.hand_over.report import report as write_page

    return write_page([f._fitted for f in _fits(fits, 1, "report")], path)


def _fits(given: Sequence[Any], least: int, call: str) -> list[Fit]:
    """Fit given one by one or as a list. Raises CallError for too few, or what is no fit."""
    listed = len(given) == 1 and isinstance(given[0], (list, tuple))
    several = list(given[0] if listed else given)
    if len(several) < least:
        example = "compare takes two or more fits: compare(first, second)"
        raise CallError(example if call == "compare" else "report takes a fit: report(path, fit)")
    if (odd := next((f for f in several if not isinstance(f, Fit)), None)) is not None:
        raise CallError(
            f"{call} takes fits, not {type(odd).__name__}; make each with fit(…) or revise(…)"
        )
    return several


@dataclass(frozen=True, eq=False, repr=False)
class Trail:
    """The steps of a stepwise choice.

    ``steps`` is a Table of the moves, ``tried`` one of all that were looked at, ``fits`` has the
    Fit of each step, ``final`` is the one it ended in.
    """

    _steps: Steps

    @cached_property
    @one_thread_a_product()
    def final(self) -> Fit:
        """The model that the steps ended in, fitted to the same rows."""
        return Fit(self._steps.final)

    @cached_property
    @one_thread_a_product()
    def fits(self) -> tuple[Fit, ...]:
        """The model after each step, the start first, all fitted to the same rows."""
        return tuple(Fit(record) for record in self._steps.fits)

    @property
    def steps(self) -> Table:
        """A row for each step: what moved, the criterion after it, and the runner-up."""
        return self._steps.table

    @property
    def tried(self) -> Table:
        """Every move that was looked at, step by step, the best first."""
        return self._steps.tried

    @property
    def page(self) -> Table:
        """The steps with the crosscheck of the whole choice."""
        return self._steps.page

    @property
    @one_thread_a_product()
    def crosscheck(self) -> tuple[float, float]:
        """The error of the whole choice on rows not seen, and on its own rows."""
        return self._steps.crosscheck

    def __str__(self) -> str:
        return str(self.page)

    def __repr__(self) -> str:
        steps = count(len(self._steps.path.moves) - 1, "step")
        return f"<Trail of {steps} to {self.final.sentence!r}>"

    def _repr_html_(self) -> str:
        return self.page.render("html")


@checked
def stepwise(
    data: Any,
    model: str,
    *,
    criterion: words.Criterion | None = None,
    moves: words.Moves = "add and drop",
    limit: float = 0.05,
    leave: float | None = None,
    keep: Sequence[str] | str = (),
    seed: int | None = 0,
    **options: Unpack[words.StepwiseOptions],
) -> Trail:
    """Choose among the terms of a sentence step by step, in any family.

    Parameters: ``data`` and ``model`` as for ``fit``: the sentence is the largest model.
    ``criterion``, always said: ``"aic"``, ``"bic"``, ``"adjusted r2"``, ``"p"`` with ``limit``
    (and ``leave``, where another p shall decide about dropping), or ``"crosscheck"``: the error of
    each row left out, under other families the mean deviance of rows not seen. ``moves``: ``"add"``
    and ``"add and drop"`` start from the intercept and ``keep``, the terms that always stay;
    ``"drop"`` from the whole sentence. ``seed`` deals the folds. Other options as ``fit``.
    Categories and products move whole, products only with their main effects; every model rests
    on the rows that are complete for the largest. p is by F, or by the fall in deviance.
    Returns a Trail. Raises CallError for a criterion that is not said or that the family has not,
    and for a kept term that is not there.
    Source: Draper & Smith 1998, 15; Akaike 1974; Schwarz 1978; Allen 1974.

    >>> data, model = "sample:queens", "eggs_a_day given weight_mg, age_days, humidity"
    >>> stepwise(data, model, criterion="bic").final.sentence
    'eggs_a_day given weight_mg, age_days'
    """
    if criterion is None:
        raise CallError(
            f"choose a criterion: {advice.option('criterion')} is one of "
            f"{', '.join(map(repr, CRITERIA))}",
            argument="criterion",
        )
    for name, value in (("limit", limit), ("leave", leave)):
        if value is not None and not 0 < value < 1:
            raise CallError(f"{name}={value!r} is not a probability between 0 and 1", argument=name)
    choice = study.Choice(moves, criterion, limit, leave, seed)
    one_of("moves", moves, tuple(MOVES))
    one_of("criterion", criterion, tuple(CRITERIA))
    largest = fit(data, model, **options)._fitted
    return Trail(study.stepwise(largest, choice, terms_of(keep or None)))
