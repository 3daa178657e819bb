"""The doors to made-up data: simulate a known process, and rehearse a study of it many times."""

from __future__ import annotations

import os
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from joinery.core.inference import intervals
from joinery.data.any_table import records
from joinery.data.records import with_columns
from joinery.model.choices import Choices
from joinery.model.steps import chosen_family, fit_to_table
from joinery.notation.parse import read_sentence
from joinery.notation.walk import is_condition, names_in
from joinery.rehearsal import rehearse as study
from joinery.rehearsal.picture import PICTURES
from joinery.rehearsal.process import (
    ERRORS,
    USUAL,
    Process,
    needed_columns,
    predictor_table,
    process,
)
from joinery.show.numbers import value
from joinery.show.table import Table
from joinery.study.fitted import checked_level
from joinery.study.read.coefficients import p_values
from joinery.study.read.estimates import estimates
from joinery.support import progress, words
from joinery.support.arguments import checked
from joinery.support.errors import CallError, JoineryError, listed, one_of
from joinery.support.limits import DRAWN_CELLS, MOST_MADE, MOST_TIMES

if TYPE_CHECKING:
    from matplotlib.figure import Figure, SubFigure


@checked
def simulate(
    model: str,
    coefficients: Mapping[str, float] | str,
    rows: int,
    *,
    predictors: Any = None,
    residual_sd: float = 1.0,
    family: words.FamilyName | None = None,
    link: words.LinkName | None = None,
    dispersion: float | None = None,
    shape: float | None = None,
    totals: Any = None,
    seed: int | None = None,
) -> pd.DataFrame:
    """Return data from a known process, ready to be fitted.

    Parameters
    ----------
    model: a model sentence.
    coefficients: coefficient → value, named as tables name them (``"hive_type: long"``,
        ``"x * z"``), or text ``"intercept=100, x=1"``; those not named are zero.
    rows: how many.
    predictors: a table whose rows are drawn, or column → values, or a recipe: ``"normal(0, 1)"``
        (what is not named), ``"uniform(0, 10)"``, ``"whole(1, 7)"``, ``"levels(long, stacked)"``.
    residual_sd: σ of the normal family.
    family, link: as for ``fit``.
    dispersion: φ of the gamma and inverse-gaussian families.
    shape: k of the negative binomial.
    totals: of ``survived of colonies``: a number, values or a recipe.
    seed: seed: draws the same again.

    Returns a DataFrame with the response's columns and the predictors. Raises CallError for
    unknown coefficients and recipes, and for means that the family cannot have.

    >>> import joinery as jn
    >>> table = jn.simulate("y given x", {"intercept": 100, "x": 1}, 20, seed=1)
    >>> table.shape, jn.fit(table, "y given x").n_rows
    ((20, 2), 20)
    """
    rng = np.random.default_rng(seed)
    made = _process(
        model, coefficients, rows, rng, predictors=predictors, residual_sd=residual_sd,
        family=family, link=link, dispersion=dispersion, shape=shape, totals=totals,
    )  # fmt: skip
    y = made.draw(rng, 1)[:, 0]
    return pd.DataFrame(made.columns(y) | {n: made.table.frame[n] for n in made.table.names})


def _process(
    model: str,
    coefficients: Mapping[str, float] | str,
    rows: int,
    rng: np.random.Generator,
    *,
    predictors: Any,
    residual_sd: float,
    family: str | None,
    link: str | None,
    dispersion: float | None,
    shape: float | None,
    totals: Any,
) -> Process:
    if not 1 <= rows <= MOST_MADE:
        raise CallError(
            f"rows={rows} is not a number of rows from 1 to {MOST_MADE:,}", argument="rows"
        )
    sentence = read_sentence(model)
    table = predictor_table(sentence, rows, predictors, totals, rng)
    names = [n.name for n in names_in(sentence.response.expression)]
    yes = is_condition(sentence.response.expression) or family == "binomial"
    stand_in: Any = np.arange(rows) % 2 == 0 if yes else np.linspace(1, 2, rows)
    seen = records(with_columns(table.frame, {n: stand_in for n in names if n not in table.names}))
    family, link = chosen_family(family, link, sentence, seen)
    if family == "normal":
        spread = float(residual_sd) ** 2
    else:
        spread = 1.0
    if dispersion is not None:
        if family not in ("gamma", "inverse-gaussian") or not dispersion > 0:
            raise CallError(
                "a dispersion above zero is for the gamma and inverse-gaussian families; the "
                "normal has residual_sd, the negative binomial shape",
                argument="dispersion",
            )
        spread = float(dispersion)
    given = {name: table.frame[name].to_numpy() for name in needed_columns(sentence)}
    return process(
        sentence, coefficients, rows, predictors=given, totals=None, family=family, link=link,
        spread=spread, shape=shape, rng=rng,
    )  # fmt: skip


@checked
def rehearse(
    model: str,
    coefficients: Mapping[str, float] | str,
    rows: int | Sequence[int],
    *,
    times: int = 1000,
    level: float = 0.95,
    errors: str = "normal",
    std_errors: words.StdErrors = "constant spread",
    predictors: Any = None,
    residual_sd: float = 1.0,
    family: words.FamilyName | None = None,
    link: words.LinkName | None = None,
    dispersion: float | None = None,
    shape: float | None = None,
    totals: Any = None,
    seed: int | None = None,
) -> Rehearsal:
    """Return the same study many times over, with other errors each time on the same predictors.

    Parameters: as for ``simulate``, and ``rows`` one number or several to compare; ``times`` each;
    ``level`` of the intervals; ``errors`` of normal responses: ``"normal"``, ``"skewed"``,
    ``"uneven"`` (the spread grows ten-fold across the fitted values) or ``"alike"`` (neighbours,
    0.6); ``std_errors`` as for ``fit``. Returns a Rehearsal. Raises CallError as ``simulate``
    does, and where the rows cannot tell the coefficients apart.

    >>> import joinery as jn
    >>> study = jn.rehearse("y given x", {"intercept": 100, "x": 1}, 20, times=200, seed=1)
    >>> study.coefficients["truth"].tolist()
    [100.0, 1.0]
    """
    level = checked_level(level)
    one_of("errors", errors, ERRORS)
    if isinstance(rows, (int, np.integer)):
        sizes = [rows]
    else:
        sizes = list(rows)
    if not sizes or not 2 <= times <= MOST_TIMES:
        raise CallError(
            f"a rehearsal takes a number of rows, and from two to {MOST_TIMES:,} times",
            argument="times",
        )
    blocks = []
    for size in sizes:
        rng = np.random.default_rng(seed)
        made = _process(
            model, coefficients, int(size), rng, predictors=predictors, residual_sd=residual_sd,
            family=family, link=link, dispersion=dispersion, shape=shape, totals=totals,
        )  # fmt: skip
        if errors != "normal" and not made.linear:
            raise CallError(
                "errors of another kind are for the normal family with the identity link",
                argument="errors",
            )
        blocks.append(_block(made, rng, times, level, errors, std_errors))
    assumed = _assumed(blocks[0].process, predictors, errors, std_errors)
    return Rehearsal(study.Rehearsals(tuple(blocks), level, (assumed,)))


def _assumed(made: Process, predictors: Any, errors: str, std_errors: str) -> str:
    """Say what a rehearsal took for granted: the family, its spread, and the predictors."""
    parts = [f"{made.family.name} family, {made.link.name} link"]
    if made.family.name == "normal":
        parts.append(f"residual SD {value(np.sqrt(made.spread))}")
        if errors != "normal":
            parts.append(f"{errors} errors")
    elif not made.family.known_dispersion:
        parts.append(f"dispersion {value(made.spread)}")
    if made.family.shape is not None:
        parts.append(f"shape {value(made.family.shape)}")
    if std_errors != "constant spread":
        parts.append(f"{std_errors} standard errors")
    needed = needed_columns(made.sentence)
    if predictors is None or isinstance(predictors, Mapping):
        given = dict(predictors or {})
        drawn = (f"{name} {_recipe(given.get(name, USUAL))}" for name in needed)
        parts.append(f"predictors {listed(drawn, 8)}" if needed else "no predictors")
    else:
        parts.append("predictors drawn from the rows of the table given")
    return f"assumed: {'; '.join(parts)}; the same predictors every time"


def _recipe(given: Any) -> str:
    if isinstance(given, str):
        return given
    return "as given"


def _block(
    made: Process, rng: np.random.Generator, times: int, level: float, errors: str, kind: str
) -> study.Block:
    parts = []
    batch = max(1, min(study.BATCH, DRAWN_CELLS // max(len(made.eta), 1)))
    with progress.counted(f"rehearsals of {len(made.eta):,} rows", times) as advance:
        for start in range(0, times, batch):
            Y = made.draw(rng, min(batch, times - start), errors)
            if made.linear and kind == "constant spread":
                parts.append(study.by_factor(made, Y, level))
                advance(Y.shape[1])
            else:
                fitter = _fitter(made, level, kind)
                parts.append(study.one_by_one(made, Y, fitter, level, advance))
    return study.joined(parts)


def _fitter(made: Process, level: float, kind: str) -> study.Fitter:
    """Fit one draw as ``fit`` does: estimates, errors, ends and p of each coefficient."""
    frame = made.table.frame
    nothing = tuple(np.full(len(made.names), np.nan) for _ in range(5))
    choices = Choices(family=made.family.name, link=made.link.name, std_errors=kind)

    def fitted(y: np.ndarray) -> Any:
        table = pd.DataFrame(made.columns(y) | {n: frame[n] for n in frame})
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                fit = fit_to_table(table, str(made.sentence), choices)
        except JoineryError:
            return nothing
        if fit.estimate.running:  # separated: no estimate
            return nothing
        e = estimates(fit)
        if e.names != made.names:
            return nothing
        lower, upper = intervals.around(e.values, e.standard_errors, e.df, level)
        return e.values, e.standard_errors, lower, upper, p_values(e)

    return fitted


@dataclass(frozen=True, eq=False, repr=False)
class Rehearsal:
    """A study rehearsed: ``coefficients`` (Table), ``estimates`` (DataFrame), ``draw``."""

    _study: study.Rehearsals

    @property
    def coefficients(self) -> Table:
        """Beside each term: truth, mean estimate, spread of estimates, mean standard error,
        coverage, power."""
        return self._study.coefficients

    @property
    def estimates(self) -> pd.DataFrame:
        """Every estimate: a row a rehearsal, a column a coefficient."""
        return self._study.estimates

    @checked
    def draw(
        self,
        name: str = "estimates",
        *,
        path: str | os.PathLike[str] | None = None,
        ax: Figure | SubFigure | None = None,
        figsize: tuple[float, float] | None = None,
        title: str | None = None,
    ) -> Figure:
        """Draw ``estimates``: the cloud of each term's estimates with the truth, and beside it the
        first fifty intervals, those that miss marked; or ``power``: power and interval width
        against the numbers of rows.

        Parameters: ``name``; ``path`` of the file (.png .svg .pdf); ``ax`` a Figure or SubFigure
        to draw on; ``figsize`` width and height in inches; ``title`` in place of its own. Returns a
        Matplotlib Figure. Raises CallError for another name, or for axes, as the picture has panels
        of its own.
        """
        one_of("picture", name, tuple(PICTURES))
        return PICTURES[name](self._study, path=path, ax=ax, figsize=figsize, title=title)

    def __str__(self) -> str:
        return str(self.coefficients)

    __repr__ = __str__

    def _repr_html_(self) -> str:
        return self.coefficients.render("html")
