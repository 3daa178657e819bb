"""Responses drawn from a fitted model, for its own rows."""

from __future__ import annotations

import numpy as np
import pandas as pd

from joinery.core.blocks.partition import joined
from joinery.study.fitted import Fitted, response_rows, rows_at_hand
from joinery.study.rows.figures import per_row, refuse_too_many
from joinery.support.errors import CallError
from joinery.support.limits import COPIED_CELLS


def simulate(fit: Fitted, copies: int, seed: int | None) -> pd.DataFrame:
    """Return copies of the response as columns. See ``Fit.simulate``."""
    table, used = rows_at_hand(fit)
    y = draws(fit, copies, np.random.default_rng(seed))
    index = table.index[used.rows]
    return pd.DataFrame(y, index=index, columns=[f"copy {k + 1}" for k in range(copies)])


def draws(fit: Fitted, copies: int, rng: np.random.Generator) -> np.ndarray:
    """Return responses (n, copies) drawn about the fitted means, with the rows' own variance."""
    blocks = response_rows(fit).row_blocks
    instead = "Fit.write_forecasts, or forecast --output in a shell, writes each row's interval"
    refuse_too_many(fit, "a copy of the response", instead)
    n = len(per_row(fit).fitted)
    if copies < 1 or n * copies > COPIED_CELLS:
        words = f"copies={copies} is not a number of copies of {n:,} rows"
        raise CallError(words, argument="copies")
    e = fit.estimate
    if not e.law or (fit.family.discrete and e.dispersion not in (None, 1.0)):
        raise CallError(
            "an estimated dispersion of binomial and poisson responses is no distribution to draw "
            "from"
        )
    w = joined(blocks, lambda b: b.precisions)
    if fit.family.discrete and np.any(w != 1):
        raise CallError("a count with a weight other than one has no distribution")
    mu = np.repeat(per_row(fit).fitted[:, None], copies, axis=1)
    if e.scale is None:
        scale = np.nan
    else:
        scale = e.scale
    with np.errstate(all="ignore"):
        spread = np.repeat((scale * scale / w)[:, None], copies, axis=1)
    trials = None
    if fit.response.kind == "of":
        m = joined(blocks, lambda b: np.ones(len(b.y)) if b.trials is None else b.trials)
        trials = np.repeat(m[:, None], copies, axis=1)
    return np.asarray(fit.family.draw(rng, mu, trials=trials, spread=spread))
