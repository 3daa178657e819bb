"""From a table and a sentence to a Fitted, in five steps: table, names, rows, design, estimate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from joinery.core.blocks.partition import physical_memory
from joinery.core.glm.estimate import estimate, is_linear
from joinery.core.glm.families import FAMILIES
from joinery.core.glm.links import LINKS
from joinery.core.least_squares.solution import Solution
from joinery.data.any_table import records
from joinery.data.columns import level_text
from joinery.data.records import Records, filled
from joinery.design.design import Design, learn
from joinery.design.glm_blocks import LikelihoodBlocks
from joinery.design.learning import Learner
from joinery.design.resolving import check_names, default_family, resolved
from joinery.design.response import ResponseScale
from joinery.design.row_blocks import RowBlocks
from joinery.model.choices import Choices
from joinery.model.covariance import sandwich_of
from joinery.model.family import check_response, family_notes
from joinery.model.used_rows import choose_rows, mean_fills, order_notes
from joinery.notation.context import Context
from joinery.notation.parse import read_sentence, sentence_of_parts
from joinery.notation.tree import Name, Sentence, quoted_text
from joinery.notation.walk import names_in
from joinery.study.fitted import Fitted, Options, Origin, UsedRows
from joinery.support import advice
from joinery.support.errors import (
    CallError,
    EstimationError,
    Note,
    UnknownColumnError,
    UnusableColumnError,
    listed,
    one_of,
)


def fit_to_table(
    data: Any, model: str, choices: Choices, terms: Sequence[str] | None = None
) -> Fitted:
    """Fit a sentence to a table, with the options of ``joinery.fit``."""
    table, choices = choices.in_table(records(data, choices.id).kept())
    sentence, options, notes = resolved_sentence(table, model, choices, terms)
    return fitted(table, sentence, options, notes)


def resolved_sentence(
    table: Records, model: str, choices: Choices, terms: Sequence[str] | None = None
) -> tuple[Sentence, Options, tuple[Note, ...]]:
    """Return the sentence for a table, with the options that it calls for, and notes."""
    sentence, text = _sentence(model, terms)
    return _named(table, sentence, text, choices.checked(), choices.family, choices.link)


# ------------------------------------------------------------------ the steps


def fitted(
    given: Records, sentence: Sentence, options: Options, notes: tuple[Note, ...] = ()
) -> Fitted:
    """Return a resolved sentence fitted to a table: rows, design, estimate."""
    rows = chosen_rows(given, sentence, options)
    return fitted_with_rows(given, rows, sentence, options, notes)


@dataclass(frozen=True)
class ChosenRows:
    """The rows of a fit: the filled table, the rows used, the fills, notes."""

    table: Records
    used: UsedRows
    fills: dict[str, float]
    notes: tuple[Note, ...] = ()


def _named(
    table: Records,
    sentence: Sentence,
    text: str,
    options: Options,
    family: str | None,
    link: str | None,
) -> tuple[Sentence, Options, tuple[Note, ...]]:
    """Resolve the sentence and the family that it calls for, with notes."""
    sentence, notes = resolved(sentence, table, text)
    family, link = chosen_family(family, link, sentence, table)
    _refuse_text(sentence, table)
    if options.penalty is not None:
        takes = tuple(name for name, f in FAMILIES.items() if options.penalty in f.penalties)
        one_of(
            "penalty",
            options.penalty,
            tuple(dict.fromkeys(p for f in FAMILIES.values() for p in f.penalties)),
        )
        if family not in takes:
            raise CallError(
                f"{advice.option('penalty', options.penalty)} is for {' and '.join(takes)} fits",
                argument="penalty",
            )
    if options.dispersion is not None and FAMILIES[family].shape is not None:
        raise CallError(
            f"the {family} family has a shape k in place of a dispersion; "
            f"leave {advice.option('dispersion')} out",
            argument="dispersion",
        )
    if options.penalty and options.dispersion not in (None, 1.0):
        raise CallError(
            "a penalized fit takes the dispersion that its family says", argument="dispersion"
        )
    if options.order is not None:
        if options.order not in table.names:
            raise UnknownColumnError(
                options.order, table.names, where=f" for {advice.option('order')}"
            )
        table.column(options.order).check_order()
    for aside, expression in options.asides.expressions.items():
        check_names(names_in(expression), table, str(getattr(options, aside)))
    return sentence, replace(options, family=family, link=link), tuple(notes)


def chosen_rows(given: Records, sentence: Sentence, options: Options) -> ChosenRows:
    """Return which rows a sentence uses, missing cells filled where that is asked."""
    asides = options.asides
    factors = sentence.factors
    fills: dict[str, float] = {}
    notes: list[Note] = []
    response = sentence.response.expression
    if options.missing == "mean":
        fills, notes = mean_fills(given, response, factors, options)
    table = filled(given, fills)
    others = [*sentence.response.expressions[1:], *factors, *asides.expressions.values()]
    used = choose_rows(table, response, others, options)
    notes += order_notes(table, used, options)
    return ChosenRows(table, used, fills, tuple(notes))


def fitted_with_rows(
    given: Records,
    rows: ChosenRows,
    sentence: Sentence,
    options: Options,
    notes: tuple[Note, ...] = (),
) -> Fitted:
    """Learn the design of a sentence from chosen rows, and estimates it."""
    return with_design(_learnt(rows, sentence, options), given, rows, sentence, options, notes)


def _learnt(rows: ChosenRows, sentence: Sentence, options: Options) -> Design:
    table, used = rows.table, rows.used
    counts = options.asides.values("repeats", Context(table, used.rows))
    return learn(sentence, table, used.rows, fills=rows.fills, counts=counts, order=options.order)


def with_design(
    design: Design,
    given: Records,
    rows: ChosenRows,
    sentence: Sentence,
    options: Options,
    notes: tuple[Note, ...] = (),
) -> Fitted:
    """Estimate a design that was learnt from these rows, or from more of them."""
    table, used, asides = rows.table, rows.used, options.asides
    _check_size(design, used.used)
    written = sentence.response
    response = ResponseScale(written.expression, written.kind, written.total)
    counts = asides.values("repeats", Context(table, used.rows))
    learner = Learner(table, used.rows, design.function_memory, options.order, counts)
    for expression in response.expressions:
        if not isinstance(expression, Name):
            learner.exists(expression)
    n, log_weights = asides.evidence(learner)
    blocks = RowBlocks(design, response, asides, table, used.rows)
    family, link = FAMILIES[options.family], LINKS[options.link]
    source = LikelihoodBlocks(blocks)
    if is_linear(family, link):
        seen = None
    else:
        seen = check_response(blocks, source, family)
    result = estimate(
        blocks,
        source,
        family,
        link,
        intercept=sentence.intercept,
        n=n,
        dispersion=options.dispersion,
        penalty=options.penalty,
        log_weights=log_weights,
    )
    _check_coefficients(design, result.solution)
    record = Fitted(
        design=design,
        estimate=result,
        options=options,
        origin=Origin(table, given, used, FitAgain(given, rows, sentence, options)),
        early_notes=(
            *(() if seen is None else family_notes(blocks, source, seen, result, options)),
            *notes,
            *rows.notes,
        ),
    )
    return replace(record, sandwich=sandwich_of(record))


@dataclass(frozen=True)
class FitAgain:
    """Fit again to the table of a fit: another sentence, rows, table or options."""

    given: Records
    rows: ChosenRows
    sentence: Sentence
    options: Options

    def __call__(
        self,
        *,
        sentence: Sentence | None = None,
        used: UsedRows | None = None,
        table: Records | None = None,
        options: Options | None = None,
    ) -> Fitted:
        rows = replace(self.rows, table=table or self.rows.table, used=used or self.rows.used)
        return fitted_with_rows(
            self.given, rows, sentence or self.sentence, options or self.options
        )


def _check_coefficients(design: Design, solution: Solution) -> None:
    """Raise UnusableColumnError for a column so small that its coefficient is no number."""
    if (bad := np.flatnonzero(np.isinf(solution.coefficients))).size:
        name = design.names[int(bad[0])]
        raise UnusableColumnError(
            f"the values of {name} are so small that its coefficient is too large for a number; "
            "rescale the column",
            column=name,
        )


def _check_size(design: Design, rows: int) -> None:
    """Raise EstimationError for a model whose coefficients' covariance no memory here holds."""
    width = design.width
    needed, memory = 3 * 8 * (width + 2) ** 2, physical_memory()
    if needed > memory:
        widest = max(design.terms, key=lambda term: term.columns.stop - term.columns.start)
        raise EstimationError(
            f"the model has {width:,} coefficients for {rows:,} rows; they need "
            f"{needed / 2**30:,.0f} GB, and this machine has {memory / 2**30:,.0f} GB. Most are of "
            f"{widest.text} ({widest.columns.stop - widest.columns.start:,}): join its levels, or "
            "leave it out"
        )


def _sentence(model: str, terms: Sequence[str] | None) -> tuple[Sentence, str]:
    if not isinstance(model, str):
        raise CallError(f"the model is a sentence, not {type(model).__name__}", argument="model")
    if terms is None:
        return read_sentence(model), model
    return sentence_of_parts(
        model, terms
    ), f"{model} given {', '.join([terms] if isinstance(terms, str) else terms)}"


def _refuse_text(sentence: Sentence, table: Records) -> None:
    """Raise UnusableColumnError for a response that is text, with the way to ask for a level."""
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


def chosen_family(
    family: str | None, link: str | None, sentence: Sentence, table: Records
) -> tuple[str, str]:
    """Return the family and link to fit, asked for or called for.

    Raises CallError where they do not go with the response.
    """
    response = sentence.response
    name = one_of("family", family or default_family(sentence, table), tuple(FAMILIES))
    distribution = FAMILIES[name]
    if response.kind == "of" and not distribution.shares:
        raise CallError(
            f"{response} is a count out of a total, which is binomial, not {name}",
            argument="family",
        )
    if response.kind not in distribution.responses:
        raise CallError(
            f"{response} is a count with its exposure: poisson or its kin, not {name}",
            argument="family",
        )
    chosen = one_of("link", link or distribution.links[0], tuple(LINKS))
    if chosen not in distribution.links:
        raise CallError(
            f"the {name} family has no {chosen} link; it has {', '.join(distribution.links)}",
            argument="link",
        )
    if response.kind == "per" and chosen != "log":
        raise CallError(
            f"an exposure needs the log link, not {chosen}: it multiplies the mean", argument="link"
        )
    return name, chosen
