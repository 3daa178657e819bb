"""The figures and coefficients of all groups as tables, and the page of a set of fits."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from joinery.core.inference import intervals
from joinery.core.numeric import distributions as tails
from joinery.show.appearance import Appearance
from joinery.show.numbers import count, figure, level_words, p_phrase
from joinery.show.table import Table
from joinery.study.each.differ import differing, test
from joinery.study.each.groups import Groups
from joinery.study.read.coefficients import error_notes
from joinery.study.read.estimates import statistic_name
from joinery.support.errors import listed

MOST_TOLD = 4  # groups that a sentence names
ON_THE_PAGE = 20  # groups that the page lists; all tables have all of them


def coefficients(groups: Groups, level: float | None = None) -> Table:
    """Return a line for each coefficient of each group."""
    fit = groups.common
    if level is None:
        level = fit.level
    g, p = groups.b.shape
    values, errors, df = (a.ravel() for a in (groups.b, groups.errors, groups.df))
    lower, upper = intervals.around(values, errors, df, level)
    with np.errstate(all="ignore"):
        t = np.where(errors > 0, values / errors, np.nan)
    columns: dict[str, Any] = {
        "group": [label for label in groups.labels for _ in range(p)],
        "term": list(groups.terms) * g,
        "estimate": values,
        "lower": lower,
        "upper": upper,
        "standard_error": errors,
        statistic_name(fit): t,
        "p": tails.t_two_sided(t, np.where(df > 0, df, np.nan)),
    }
    return Table(
        columns,
        title=f"Coefficients of each {by_words(groups)}, with {level_words(level)} intervals",
        notes=(*error_notes(fit), *_lacking(groups)),
        appearance=Appearance(
            kinds=dict.fromkeys(("estimate", "lower", "upper", "standard_error"), "error")
            | {"group": "text", "term": "text"},
            headings={"group": by_words(groups)},
            keys=2,
        ),
    )


def figures(groups: Groups) -> Table:
    """Return a line for each group: rows, figures of the fit, and why there is none."""
    return Table(
        {
            "group": list(groups.labels),
            "n_rows": groups.n,
            "residual_df": groups.residual_df,
            **groups.figures,
            "reason": list(groups.reasons),
        },
        title=f"The fit of each {by_words(groups)}",
        notes=tuple(_lacking(groups)),
        appearance=Appearance(
            kinds={"group": "text", "n_rows": "whole", "residual_df": "degrees", "reason": "text"},
            headings={"group": by_words(groups), "n_rows": "rows", "residual_df": "residual df"}
            | {"residual_sd": "residual SD", "r_squared": "R²"},
        ),
    )


def page(groups: Groups) -> Table:
    """Return the short page of a set: a line a group with its coefficients, and whether groups
    differ."""
    shown = np.arange(min(len(groups.labels), ON_THE_PAGE))
    taken = {"group", "n_rows", *groups.figures}
    terms = [f"{term} (term)" if term in taken else term for term in groups.terms]
    columns: dict[str, Any] = {
        "group": [groups.labels[i] for i in shown],
        "n_rows": groups.n[shown],
        **{term: groups.b[shown, j] for j, term in enumerate(terms)},
        **{name: values[shown] for name, values in groups.figures.items()},
    }
    return Table(
        columns,
        title=f"{groups.common.sentence}, for each {by_words(groups)}",
        notes=tuple(_page_notes(groups, len(shown))),
        appearance=Appearance(
            kinds={"group": "text", "n_rows": "whole"}
            | dict.fromkeys([n for n in columns if n not in ("group", "n_rows")], "figure"),
            headings={"group": by_words(groups), "n_rows": "rows", "r_squared": "R²"}
            | {"residual_sd": "residual SD"}
            | {term: term for term in terms},  # as the user wrote them
        ),
    )


def _page_notes(groups: Groups, shown: int) -> Iterator[str]:
    fit = groups.common
    g = len(groups.labels)
    yield (
        f"{fit.family.name} family, {fit.link.name} link; {count(int(groups.n.sum()), 'row')} in "
        f"{count(g, 'group')}; levels, means and knots are learnt once, from all of them"
    )
    yield from error_notes(fit)
    if shown < g:
        yield f"{shown} of {g:,} groups are shown; .figures and .coefficients have all"
    yield from _lacking(groups)
    yield from difference_words(groups)


def difference_words(groups: Groups) -> Iterator[str]:
    """Say whether the groups differ, which do, and how far slopes lie apart."""
    table = test(groups)
    p = float(table["p"].iloc[0])
    if not np.isfinite(p):
        yield "whether the groups differ cannot be tested: too few of them could be fitted"
        return
    name = "chi2" if "chi2" in table else "f"
    statistic = figure(float(table[name].iloc[0]), 3)
    symbol = "χ²" if name == "chi2" else "F"
    words = f"{symbol} {statistic}, {p_phrase(p)}"
    if p >= 1 - fit_level(groups):
        yield f"no clear difference between the groups ({words})"
        return
    which = differing(table)
    if which:
        names = listed(which, MOST_TOLD)
        yield f"the groups differ ({words}); most clearly from the others: {names}"
    else:
        yield f"the groups differ ({words}), no single one clearly from all others"


def fit_level(groups: Groups) -> float:
    return groups.common.level


def _lacking(groups: Groups) -> Iterator[str]:
    lost = [f"{label} ({why})" for label, why in zip(groups.labels, groups.reasons) if why]
    if lost:
        verb = "was" if len(lost) == 1 else "were"
        yield f"{count(len(lost), 'group')} {verb} not fitted: {listed(lost, MOST_TOLD)}"
    some = groups.fitted & ~np.isfinite(groups.b).all(axis=1)
    if some.any():
        names = [groups.labels[i] for i in np.flatnonzero(some)]
        yield f"not every coefficient could be estimated in {listed(names, MOST_TOLD)}"


def by_words(groups: Groups) -> str:
    """Return what the groups are, in words: ``hive_type, season``."""
    return ", ".join(groups.common.words(name) for name in groups.by)
