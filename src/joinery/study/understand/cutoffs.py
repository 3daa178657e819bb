"""Yes/no models: what it costs to say yes from a cut-off on, on rows seen and not seen."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from joinery import advice
from joinery.core.inference.intervals import wilson
from joinery.errors import CallError
from joinery.show.numbers import figure, level_words
from joinery.show.people import Layout
from joinery.show.table import Table
from joinery.study.fitted import Fitted, checked_level
from joinery.study.resample.crosscheck import left_out_means
from joinery.study.rows.figures import per_row

USUAL = tuple(round(0.1 * k, 1) for k in range(1, 10))


def yes_no(fit: Fitted) -> np.ndarray:
    """The observed yes or no of each row (n,). Raises CallError for another response."""
    if not fit.family.shares or fit.response.kind != "plain":
        raise CallError("cut-offs are for models of a single yes or no a row")
    observed = per_row(fit).observed
    return np.asarray(observed > 0.5)


def chances(fit: Fitted, crosscheck: bool, seed: int | None) -> np.ndarray:
    """The chance of yes of each row (n,): of the fit itself, or of a fit without the row."""
    return left_out_means(fit, seed=seed) if crosscheck else per_row(fit).fitted


def cutoffs(
    fit: Fitted,
    at: Sequence[float] | None = None,
    *,
    crosscheck: bool = False,
    level: float | None = None,
    seed: int | None = None,
) -> Table:
    """The table of cut-offs. See ``Fit.cutoffs``."""
    level = fit.level if level is None else checked_level(level)
    yes, times = yes_no(fit), per_row(fit).times
    chosen = np.asarray(USUAL if at is None else at, float).reshape(-1)
    if not len(chosen) or (chosen < 0).any() or (chosen > 1).any():
        raise CallError("cut-offs are probabilities, between 0 and 1", argument="at")
    chance = chances(fit, crosscheck, seed)
    columns = at_each(chosen, chance, yes, times, level)
    whole = concordance(chance, yes, times)
    notes = [
        "right of yes: the share of rows with yes that are said so; right of no likewise",
        f"a row with yes has the higher chance than one with no in {figure(100 * whole, 3)} % of "
        "pairs",
        "each row judged by a fit without it, in ten folds"
        if crosscheck
        else "on the rows of the fit itself, which flatters it: rows not seen with "
        + advice.ask("cutoffs", crosscheck=True),
    ]
    ends = ("right_yes", "right_no", "yes_when_said", "no_when_said")
    return Table(
        columns,
        title=f"What each cut-off says, with {level_words(level)} intervals",
        notes=tuple(notes),
        kinds={"cutoff": "value", "said_yes": "whole"}
        | {f"{name}{tail}": "share" for name in ends for tail in ("", "_lower", "_upper")},
        headings={
            "said_yes": "said yes",
            "right_yes": "right of yes",
            "right_no": "right of no",
            "yes_when_said": "yes where said yes",
            "no_when_said": "no where said no",
        },
        layout=Layout(joined={n: (f"{n}_lower", f"{n}_upper") for n in ends}),
    )


def at_each(
    cutoffs: np.ndarray, chance: np.ndarray, yes: np.ndarray, times: np.ndarray, level: float
) -> dict[str, np.ndarray]:
    """Shares right at each cut-off (m,), each with its interval; a chance at it is said yes."""
    said = chance[None, :] >= cutoffs[:, None]
    w = times[None, :]
    of_yes, of_no = float(times[yes].sum()), float(times[~yes].sum())
    hits, passes = (w * (said & yes)).sum(axis=1), (w * (~said & ~yes)).sum(axis=1)
    yeses = (w * said).sum(axis=1)
    noes = times.sum() - yeses
    out: dict[str, np.ndarray] = {"cutoff": cutoffs, "said_yes": yeses}
    shares = {
        "right_yes": (hits, np.full(len(cutoffs), of_yes)),
        "right_no": (passes, np.full(len(cutoffs), of_no)),
        "yes_when_said": (hits, yeses),
        "no_when_said": (passes, noes),
    }
    for name, (right, n) in shares.items():
        n = np.where(n > 0, n, np.nan)
        lower, upper = wilson(right, n, level)
        out |= {name: right / n, f"{name}_lower": lower, f"{name}_upper": upper}
    return out


def concordance(chance: np.ndarray, yes: np.ndarray, times: np.ndarray) -> float:
    """The share of pairs, one with yes and one with no, in which yes has the higher chance.

    Ties count half (Hanley & McNeil 1982).
    """
    values, place = np.unique(chance, return_inverse=True)
    ones = np.bincount(place, weights=times * yes, minlength=len(values))
    zeros = np.bincount(place, weights=times * ~yes, minlength=len(values))
    below = np.cumsum(zeros) - zeros
    pairs = ones.sum() * zeros.sum()
    return float((ones * (below + zeros / 2)).sum() / pairs) if pairs else float("nan")
