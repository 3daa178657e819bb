"""The doors from tables and files to a Fit."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, Literal

from joinery.model.choices import Choices
from joinery.model.result import Fit, warned
from joinery.model.steps import fit_to_table
from joinery.support import words
from joinery.support.arguments import checked


@checked
def fit(
    data: Any,
    model: str,
    terms: Sequence[str] | None = None,
    *,
    family: words.FamilyName | None = None,
    link: words.LinkName | None = None,
    dispersion: float | Literal["estimated"] | None = None,
    weights: str | Iterable[Any] | None = None,
    repeats: str | Iterable[Any] | None = None,
    offset: str | Iterable[Any] | None = None,
    where: str | Iterable[Any] | None = None,
    leave_out: Sequence[Any] | str | None = None,
    id: str | None = None,
    order: str | Iterable[Any] | None = None,
    missing: words.Missing = "leave out",
    std_errors: words.StdErrors = "constant spread",
    cluster: str | Iterable[Any] | None = None,
    penalty: words.Penalty | None = None,
    level: float = 0.95,
    labels: Mapping[str, str] | None = None,
) -> Fit:
    """Fit a model to a table.

    Parameters
    ----------
    data: a DataFrame, a dict of lists, an Arrow stream, a path, or ``"sample:yields"``; and what
        may be too large for memory: a folder, pattern or list of Parquet files, a pyarrow Dataset,
        a Dask DataFrame, or what ``source`` gives.
    model: the model sentence; or the response, with ``terms`` as a list.
    family: ``"normal"``, ``"binomial"``, ``"poisson"``, ``"gamma"``, ``"inverse-gaussian"``,
        ``"negative-binomial"``;
        unless given, the one the response calls for.
    link: ``"identity"``, ``"log"``, ``"logit"``, ``"probit"``, ``"cloglog"``, ``"cauchit"``,
        ``"inverse"``,
        ``"inverse-square"``, ``"sqrt"``, as the family admits.
    dispersion: φ as a number where it is known, or ``"estimated"`` (quasi-likelihood for binomial
        and poisson); unless
        given, 1 for binomial, poisson and negative-binomial, estimated otherwise.
    penalty: ``"firth"`` for finite estimates where the data separate.
    weights: an expression w; the variance of a row is σ²/w. Zero leaves the row out of the fit.
    repeats: an expression r; the row stands for r equal rows.
    offset: an expression added to the fitted value with coefficient 1.
    where: an expression; only rows that meet it are used.
    leave_out: labels of rows not to use.
    id: the column whose values label the rows; else the frame's own index.
    order: the column that puts rows in time or sequence; else the table's own order.
    missing: ``"leave out"`` rows with a missing cell, ``"refuse"`` them, or put the ``"mean"`` of a
        numeric predictor.
    std_errors: ``"constant spread"``; ``"robust"`` (HC2 with degrees of freedom of each
        combination's own) or ``"hc0"`` to ``"hc3"``; ``"clustered"`` with ``cluster=`` one column
        or several crossed; ``"autocorrelated"`` in ``order=``.
    level: of intervals; 0.95 and 95 mean the same.
    labels: words for people, by column.

    In place of an expression or a column ``weights``, ``repeats``, ``offset``, ``where``, ``order``
    and ``cluster`` take a value for each row: a Series by its index, an array by position.

    Returns a Fit. Raises SentenceError when the sentence cannot be read, DataError when the table
    cannot be used, EstimationError when no coefficient can be estimated. Method: least squares as
    in ``core.least_squares``.

    >>> import joinery as jn
    >>> jn.fit("sample:jars", "jars_sold given hours_open").equation()
    'jars_sold = 3.74 + 5.293 hours_open'
    """
    choices = Choices(
        family=family,
        link=link,
        dispersion=dispersion,
        weights=weights,
        repeats=repeats,
        offset=offset,
        where=where,
        leave_out=leave_out,
        id=id,
        order=order,
        missing=missing,
        std_errors=std_errors,
        cluster=cluster,
        penalty=penalty,
        level=level,
        labels=labels,
    )
    return warned(Fit(fit_to_table(data, model, choices, terms)))


@checked
def load(path: str | os.PathLike[str]) -> Fit:
    """Return a fit from a file written by ``Fit.save``, or a set of them by ``FitSet.save``.

    Parameters: ``path`` of the file. Returns a Fit that forecasts and prints as before, without the
    table's rows. Raises DataError when there is no such file, FileFormatError when it is
    malformed, newer or tampered with.

    >>> import joinery as jn, tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "jars.json"
    >>> _ = jn.fit("sample:jars", "jars_sold given hours_open").save(file)
    >>> jn.load(file).equation()
    'jars_sold = 3.74 + 5.293 hours_open'
    """
    # brings what checks a file, which takes its time
    from joinery.model.load import fitted_from, read_saved
    from joinery.model.save import KIND_OF_SET

    file = read_saved(path)
    if file.content["kind"] == KIND_OF_SET:
        from joinery.model.fit_each import FitSet
        from joinery.model.save_each import groups_from

        fits: Any = FitSet(*groups_from(file))  # a Fit to type checkers, as nearly every file is
        return fits  # type: ignore[no-any-return]
    return Fit(fitted_from(file.content, file.refuse))
