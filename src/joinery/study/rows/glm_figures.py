"""Per-row figures under other families than the normal."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np

from joinery.core.blocks.partition import Partition
from joinery.core.glm.estimate import Estimate
from joinery.core.glm.rows import LikelihoodRows, WorkingState, unit_deviance
from joinery.core.inference.influence import Influence
from joinery.core.numeric import distributions as tails
from joinery.design.glm_blocks import WorkingRows
from joinery.design.row_blocks import RowBlock
from joinery.study.fitted import Fitted, working_rows
from joinery.study.rows.per_row import PerRow

# of the random part of quantile residuals, so that the same fit shows the same picture
SEED = 20260102


def family_blocks(fit: Fitted) -> Partition[tuple[RowBlock, PerRow]]:
    """Return observed and fitted means, residuals of each kind, one-step deletion (Pregibon 1981).

    The studentized residual is the likelihood residual, ±√[(d² + r²h/(1−h))/φ] with deviance
    residual d and Pearson's r (Williams 1987). Quantile residuals are seeded (Dunn & Smyth 1996).
    """
    rows = working_rows(fit)
    assert isinstance(rows, WorkingRows)
    return rows.states.map(partial(_figures, fit.estimate))


def _figures(
    e: Estimate, made: tuple[RowBlock, LikelihoodRows, WorkingState]
) -> tuple[RowBlock, PerRow]:
    block, part, state = made
    figures = family_figures(e, part, state)
    kinds = ["deviance_residual", "pearson_residual", "working_residual"]
    if has_quantiles(e):
        rng = np.random.default_rng([SEED, block.first])  # a draw of its own for each block
        figures["quantile_residual"] = quantile_residuals(e, state.mu, part, rng)
        kinds.append("quantile_residual")
    if not e.family.discrete:
        shown = "deviance_residual"
    elif e.law:
        shown = "quantile_residual"
    else:
        shown = "pearson_residual"
    figures = {n: np.broadcast_to(v, len(part.y)) for n, v in figures.items()}
    return block, PerRow(
        figures["observed"],
        figures["fitted"],
        figures["times"],
        figures["terms"],
        Influence(**{name: figures[name] for name in Influence.__annotations__}),
        kind=shown.replace("_", " "),
        shown=figures[shown],
        on_terms=figures["working_residual"],
        extras={name: figures[name] for name in kinds},
        deletion=figures["deletion"],
    )


def has_quantiles(e: Estimate) -> bool:
    """Return True if the family's distribution is known, so that residuals can be its quantiles."""
    return bool(e.law and (e.family.discrete or e.likely_dispersion))


def family_figures(e: Estimate, part: LikelihoodRows, state: WorkingState) -> dict[str, np.ndarray]:
    """Return the figures of some rows by name, each (m,), but for what is drawn at random."""
    single = np.where(part.times > 0, part.times, 1.0)
    phi, p, df = e.dispersion or np.nan, e.solution.rank, max(e.solution.residual_df, 0)
    with np.errstate(all="ignore"):
        W = state.W / single
        h = np.minimum(W * e.solution.unscaled_variance(part.X), 1.0)
        h = np.where(1 - h < 1e-12, 1.0, h)
        left = np.where(h < 1, 1 - h, np.nan)
        pearson = state.residual * np.sqrt(W)
        d = np.maximum(part.evidence / single * unit_deviance(e.family, part.y, state), 0.0)
        side = np.sign(part.y - state.mu)
        studentized = side * np.sqrt((d + pearson**2 * h / left) / phi)
        # φ without the row, one step on
        without = (
            phi if e.known else (e.pearson - pearson**2 / left) / (df - 1) if df > 1 else np.nan
        )
        return {
            "observed": part.y,
            "fitted": state.mu,
            "times": part.times,
            "terms": state.eta if part.offset is None else state.eta - part.offset,
            "leverage": h,
            "standardized": side * np.sqrt(d / (phi * left)),
            "studentized": studentized,
            "cooks_distance": pearson**2 * h / (left**2 * p * phi) if p else np.zeros(len(h)),
            "dffits": studentized * np.sqrt(h / left),
            "covratio": np.full(len(h), np.nan),
            "deviance_residual": side * np.sqrt(d),
            "pearson_residual": pearson,
            "working_residual": state.residual,
            "deletion": pearson / np.sqrt(np.maximum(without, 0.0) * left),
        }


def quantile_residuals(
    e: Estimate, mu: np.ndarray, part: LikelihoodRows, rng: np.random.Generator
) -> np.ndarray:
    """Return Φ⁻¹ of the fitted distribution function; for counts, of a random point of its step."""
    spread = (e.likely_dispersion or 1.0) / np.where(part.precision > 0, part.precision, 1.0)
    if part.trials is None:
        y = part.y
    else:
        y = np.round(part.y * part.trials)
    with np.errstate(all="ignore"):
        upper = e.family.cdf(y, mu, trials=part.trials, spread=spread)
        if e.family.discrete:
            lower = e.family.cdf(y - 1, mu, trials=part.trials, spread=spread)
        else:
            lower = upper
    u = lower + (upper - lower) * rng.uniform(size=len(lower))
    return np.asarray(tails.normal_quantile(np.clip(u, 1e-300, 1 - 1e-16)))


def each_repeat_drawn(fit: Fitted) -> Partition[tuple[np.ndarray, np.ndarray]]:
    """Return quantile residuals with a draw for each of the equal rows that a row stands for, and
    ones.

    One draw for all of them would be so many equal residuals, which no sound family has.
    """
    rows, e = working_rows(fit), fit.estimate
    assert isinstance(rows, WorkingRows)

    def drawn(
        made: tuple[RowBlock, LikelihoodRows, WorkingState],
    ) -> tuple[np.ndarray, np.ndarray]:
        block, part, state = made
        each = np.repeat(np.arange(len(part.y)), part.times.astype(int))
        single = replace(part.taken(each), weights=part.precision[each], repeats=None)
        rng = np.random.default_rng([SEED, block.first])
        q = quantile_residuals(e, state.mu[each], single, rng)
        q = q[np.isfinite(q)]
        return q, np.ones(len(q))

    return rows.states.map(drawn)
