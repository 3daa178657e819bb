"""fit(): from a table and a sentence to a Fit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from joinery.core.families import FAMILIES
from joinery.core.links import LINKS
from joinery.core.solve import least_squares
from joinery.data.columns import level_text
from joinery.data.records import Records, filled, records
from joinery.design.blocks import Asides, RowBlocks
from joinery.design.design import learn
from joinery.design.resolving import check_names, default_family, resolved
from joinery.design.response import ResponseScale
from joinery.errors import CallError, NothingEstimableError, UnusableColumnError, listed, one_of
from joinery.model.fit import Fit
from joinery.model.glm import PENALIZED, PENALTIES, Glm, WorkingRows, generalized, glm_notes
from joinery.model.sandwiches import sandwich_of
from joinery.model.selection import Selection, choose_rows, mean_fills
from joinery.notation.evaluate import Context
from joinery.notation.parse import read_sentence, sentence_of_parts
from joinery.notation.tree import Name, Sentence, names_in, quoted_text
from joinery.study.asked import checked_level

STD_ERRORS = ("constant spread", "robust", "hc0", "hc1", "hc2", "hc3", "clustered", "autocorrelated")
MISSING = ("leave out", "refuse", "mean")


def fit(
    data: Any,
    model: str,
    terms: Sequence[str] | None = None,
    *,
    family: str | None = None,
    link: str | None = None,
    weights: str | None = None,
    repeats: str | None = None,
    offset: str | None = None,
    where: str | None = None,
    leave_out: Sequence[Any] | str | None = None,
    id: str | None = None,
    order: str | None = None,
    missing: str = "leave out",
    std_errors: str = "constant spread",
    cluster: str | Sequence[str] | None = None,
    penalty: str | None = None,
    level: float = 0.95,
    labels: Mapping[str, str] | None = None,
) -> Fit:
    """Fits a model to a table.

    Parameters
    ----------
    data: a DataFrame, a dict of lists, an Arrow stream, a path, or ``"sample:yields"``.
    model: the model sentence; or the response, with ``terms`` as a list.
    family: ``"normal"``, ``"binomial"``, ``"poisson"``, ``"gamma"``, ``"inverse-gaussian"``, ``"negative-binomial"``,
        ``"quasi-binomial"``, ``"quasi-poisson"``; unless given, the one the response calls for.
    link: ``"identity"``, ``"log"``, ``"logit"``, ``"probit"``, ``"cloglog"``, ``"cauchit"``, ``"inverse"``,
        ``"inverse-square"``, ``"sqrt"``, as the family admits.
    penalty: ``"firth"`` for finite estimates where the data separate.
    weights: an expression w; the variance of a row is σ²/w. Zero leaves the row out of the fit.
    repeats: an expression r; the row stands for r equal rows.
    offset: an expression added to the fitted value with coefficient 1.
    where: an expression; only rows that meet it are used.
    leave_out: labels of rows not to use.
    id: the column whose values label the rows; else the frame's own index.
    order: the column that puts rows in time or sequence; else the table's own order.
    missing: ``"leave out"`` rows with a missing cell, ``"refuse"`` them, or put the ``"mean"`` of a numeric predictor.
    std_errors: ``"constant spread"``; ``"robust"`` (HC3) or ``"hc0"`` to ``"hc3"``; ``"clustered"`` with ``cluster=``
        one column or several crossed; ``"autocorrelated"`` in ``order=``.
    level: of intervals; 0.95 and 95 mean the same.
    labels: words for people, by column.

    Returns a Fit. Raises SentenceError when the sentence cannot be read, DataError when the table cannot be used,
    EstimationError when no coefficient can be estimated. Method: least squares as in ``core.solve``.

    >>> import joinery as jn
    >>> jn.fit("sample:jars", "jars_sold given hours_open").equation()
    'jars_sold = 3.7 + 5.29 hours_open'
    """
    table = records(data, id)
    sentence, text = _sentence(model, terms)
    one_of("missing", missing, MISSING)
    one_of("std_errors", std_errors, STD_ERRORS)
    cluster = [cluster] if isinstance(cluster, str) else list(cluster or [])
    if (std_errors == "clustered") != bool(cluster):
        raise CallError('std_errors="clustered" and cluster= go together', argument="cluster")
    level = checked_level(level)
    sentence, earlier = resolved(sentence, table, text)
    family, link = chosen_family(family, link, sentence, table)
    _refuse_text(sentence, table)
    if penalty is not None:
        one_of("penalty", penalty, PENALTIES)
        if family not in PENALIZED:
            raise CallError(f"penalty={penalty!r} is for {' and '.join(PENALIZED)} fits", argument="penalty")
    asides = Asides(weights, repeats, offset)
    for aside, expression in asides.expressions.items():
        check_names(names_in(expression), table, str({"weights": weights, "repeats": repeats}.get(aside, offset)))
    terms_named = [f for t in sentence.terms for f in t.factors]
    leave_out = [leave_out] if isinstance(leave_out, str) else leave_out
    fills: dict[str, float] = {}
    if missing == "mean":
        own = sentence.response.expression
        fills, told = mean_fills(table, own, terms_named, asides, where=where, leave_out=leave_out)
        earlier += told
    table = filled(table, fills)
    selection = choose_rows(
        table,
        sentence.response.expression,
        [*sentence.response.expressions[1:], *terms_named, *asides.expressions.values()],
        where=where,
        leave_out=leave_out,
        missing=missing,
    )
    asked: dict[str, Any] = {
        "weights": weights,
        "repeats": repeats,
        "offset": offset,
        "where": where,
        "leave_out": leave_out,
    }
    asked |= {"id": id, "missing": missing, "level": level, "labels": labels, "order": order}
    asked |= {"std_errors": std_errors, "cluster": cluster or None, "penalty": penalty}
    asked |= {"family": family, "link": link}
    return estimate(table, sentence, selection, asked, fills, earlier)


def estimate(
    table: Records,
    sentence: Sentence,
    selection: Selection,
    asked: Mapping[str, Any],
    fills: dict[str, float],
    earlier: list[str],
) -> Fit:
    """Estimates a resolved sentence on chosen rows of a table; ``asked`` holds the options of ``fit``, checked."""
    asides = Asides(asked["weights"], asked["repeats"], asked["offset"])
    said = sentence.response
    response = ResponseScale(said.expression, said.kind, said.total)
    design = learn(sentence, table, selection.rows, fills)
    context = design.context(table, selection.rows)
    context.learning = True
    response.values(context)
    n, log_weights = _counted(asides, context, selection)
    blocks = RowBlocks(design, response, asides, table, selection.rows)
    family, link = asked["family"], asked["link"]
    glm: Glm | None = None
    parts: RowBlocks | WorkingRows = blocks
    if (family, link) == ("normal", "identity"):
        solution = least_squares(blocks, intercept=sentence.intercept, n=n)
    else:
        solution, glm = generalized(blocks, family, link, intercept=sentence.intercept, n=n, penalty=asked["penalty"])
        parts = WorkingRows(blocks, glm, solution.whole)
        earlier = [*glm_notes(blocks, glm, solution, asked), *earlier]
    sandwich = None
    if asked["std_errors"] != "constant spread":
        cluster = asked["cluster"] or []
        sandwich = sandwich_of(parts, solution, asked["std_errors"], cluster, asked["order"], selection.total)
    return Fit(
        design=design,
        solution=solution,
        level=asked["level"],
        told=tuple(earlier),
        labels=dict(asked["labels"] or {}),
        table=table,
        selection=selection,
        asked=asked,
        sandwich=sandwich,
        asides=asides,
        log_weights=log_weights,
        family=family,
        link=link,
        glm=glm,
    )


def same_rows(earlier: Fit, sentence: Sentence) -> Fit:
    """Another sentence fitted to exactly the rows of an earlier fit, with its options."""
    assert earlier.table is not None
    assert earlier.selection is not None
    return estimate(earlier.table, sentence, earlier.selection, earlier.asked, dict(earlier.design.fills), [])


def _counted(asides: Asides, context: Context, selection: Selection) -> tuple[int, float]:
    """How many rows the fit rests on, and Σ log w over them. Raises NothingEstimableError when all weigh nothing."""
    w, r = asides.values("weights", context), asides.values("repeats", context)
    if w is None and r is None:
        return selection.used, 0.0
    weight = np.ones(selection.used) if w is None else w
    times = np.ones(selection.used) if r is None else r
    counts = np.where(weight > 0, times, 0.0)
    if not counts.any():
        raise NothingEstimableError("every row weighs nothing; no coefficient can be estimated")
    return int(counts.sum()), float(counts @ np.log(np.where(weight > 0, weight, 1.0)))


def _sentence(model: str, terms: Sequence[str] | None) -> tuple[Sentence, str]:
    if not isinstance(model, str):
        raise CallError(f"the model is a sentence, not {type(model).__name__}", argument="model")
    if terms is None:
        return read_sentence(model), model
    return sentence_of_parts(model, terms), f"{model} given {', '.join([terms] if isinstance(terms, str) else terms)}"


def _refuse_text(sentence: Sentence, table: Records) -> None:
    """Raises UnusableColumnError for a response that is text, with the way to ask whether it is one of its levels."""
    response = sentence.response.expression
    if isinstance(response, Name) and (column := table.column(response.name)).kind == "category":
        if column.trouble:
            raise column.not_numbers()
        level = quoted_text(level_text(column.all_levels[0]))
        raise UnusableColumnError(
            f"column {response.name!r} is text, and numbers are needed here "
            f"({listed(map(level_text, column.all_levels), 4)}); "
            f"to ask whether it is one of them, write ({response} = {level}) given …",
            column=response.name,
        )


def chosen_family(family: str | None, link: str | None, sentence: Sentence, table: Records) -> tuple[str, str]:
    """The family and link to fit, asked for or called for. Raises CallError where they do not go with the response."""
    response = sentence.response
    name = one_of("family", family or default_family(sentence, table), tuple(FAMILIES))
    found = FAMILIES[name]
    if response.kind == "of" and not found.of_shares:
        raise CallError(f"{response} is so many out of so many, which is binomial, not {name}", argument="family")
    if response.kind == "per" and not found.of_counts:
        raise CallError(f"{response} is a count with its exposure: poisson or its kin, not {name}", argument="family")
    chosen = one_of("link", link or found.link, tuple(LINKS))
    if chosen not in found.links:
        raise CallError(f"the {name} family has no {chosen} link; it has {', '.join(found.links)}", argument="link")
    if response.kind == "per" and chosen != "log":
        raise CallError(f"an exposure wants the log link, not {chosen}: it multiplies the mean", argument="link")
    return name, chosen
