"""Per-row figures under other families than the normal."""

from __future__ import annotations

import numpy as np

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


def family_rows(fit: Fitted) -> PerRow:
    """Observed and fitted means, residuals of each kind, one-step deletion (Pregibon 1981).

    The studentized residual is the likelihood residual, ±√[(d² + r²h/(1−h))/φ] with deviance
    residual d and Pearson's r (Williams 1987). Quantile residuals are seeded (Dunn & Smyth 1996).
    """
    rows, e = working_rows(fit), fit.estimate
    assert isinstance(rows, WorkingRows)

    def figures(
        made: tuple[RowBlock, LikelihoodRows, WorkingState],
    ) -> dict[str, np.ndarray]:
        block, part, state = made
        rng = np.random.default_rng([SEED, block.first])  # a draw of its own for each block
        out = family_figures(e, part, state)
        return out | {"quantile_residual": quantile_residuals(e, state.mu, part, rng)}

    parts = list(rows.states.each(figures))
    joined = {name: np.concatenate([p[name] for p in parts]) for name in parts[0]}
    measures = Influence(**{name: joined[name] for name in Influence.__annotations__})
    kinds = ("deviance_residual", "pearson_residual", "working_residual", "quantile_residual")
    extras = {name: joined[name] for name in kinds if not np.isnan(joined[name]).all()}
    shown = (
        "deviance_residual"
        if not e.family.discrete
        else "quantile_residual"
        if e.law
        else "pearson_residual"
    )
    return PerRow(
        joined["observed"],
        joined["fitted"],
        joined["times"],
        joined["terms"],
        measures,
        kind=shown.replace("_", " "),
        shown=joined[shown],
        on_terms=joined["working_residual"],
        extras=extras,
        deletion=joined["deletion"],
    )


def family_figures(e: Estimate, part: LikelihoodRows, state: WorkingState) -> dict[str, np.ndarray]:
    """The figures of some rows by name, each (m,), but for what is drawn at random."""
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
    """Φ⁻¹ of the fitted distribution function; for counts, of a random point of its step.

    NaN where there is none.
    """
    if not e.law or (not e.family.discrete and not e.likely_dispersion):
        return np.full(len(part.y), np.nan)
    spread = (e.likely_dispersion or 1.0) / np.where(part.precision > 0, part.precision, 1.0)
    y = part.y if part.trials is None else np.round(part.y * part.trials)
    with np.errstate(all="ignore"):
        upper = e.family.cdf(y, mu, trials=part.trials, spread=spread)
        lower = (
            e.family.cdf(y - 1, mu, trials=part.trials, spread=spread)
            if e.family.discrete
            else upper
        )
    u = lower + (upper - lower) * rng.uniform(size=len(lower))
    return np.asarray(tails.normal_quantile(np.clip(u, 1e-300, 1 - 1e-16)))
