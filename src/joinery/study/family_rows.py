"""Per-row figures under other families than the normal."""

from __future__ import annotations

import numpy as np
from scipy import special

from joinery.core import tails
from joinery.core.families import Family
from joinery.core.influence import Influence
from joinery.core.links import Link
from joinery.core.working import Part, State, unit_deviance
from joinery.design.working import WorkingRows, family_of, link_of
from joinery.study.asked import Asked, row_blocks
from joinery.study.per_row import PerRow

SEED = 20260102  # of the random part of quantile residuals, so that the same fit shows the same picture


def family_rows(fit: Asked) -> PerRow:
    """Observed and fitted means with residuals of each kind, leverage and one-step deletion (Pregibon 1981).

    The studentized residual is the likelihood residual, ±√[(d² + r²h/(1−h))/φ] with deviance residual d and Pearson's
    r (Williams 1987). Quantile residuals are seeded (Dunn & Smyth 1996).
    """
    rows = row_blocks(fit)
    assert isinstance(rows, WorkingRows)
    family, link, solution = family_of(fit.glm), link_of(fit.glm), fit.solution
    found: dict[str, list[np.ndarray]] = {}
    phi, p = fit.dispersion or np.nan, solution.rank
    rng = np.random.default_rng(SEED)
    for _, part, own in rows.states:
        single = (
            np.where(part.repeats is None or part.repeats == 0, 1.0, part.repeats) if part.repeats is not None else 1.0
        )
        weight = part.precision if part.trials is None else part.precision * part.trials
        with np.errstate(all="ignore"):
            W = own.W / single
            h = np.minimum(W * solution.unscaled_variance(part.X), 1.0)
            h = np.where(1 - h < 1e-12, 1.0, h)
            left = np.where(h < 1, 1 - h, np.nan)
            V = W / (own.slope**2)  # w/V
            pearson = (part.y - own.mu) * np.sqrt(V)
            d = np.maximum(weight * unit_deviance(family, part.y, own), 0.0)
            deviance = np.sign(part.y - own.mu) * np.sqrt(d)
            studentized = np.sign(part.y - own.mu) * np.sqrt((d + pearson**2 * h / left) / phi)
            cooks = pearson**2 * h / (left**2 * p * phi) if p else np.zeros(len(h))
            figures = {
                "observed": part.y,
                "fitted": own.mu,
                "counts": part.weights > 0,
                "leverage": h,
                "standardized": deviance / np.sqrt(phi * left),
                "studentized": studentized,
                "cooks_distance": cooks,
                "dffits": studentized * np.sqrt(h / left),
                "covratio": np.full(len(h), np.nan),
                "deviance_residual": deviance,
                "pearson_residual": pearson,
                "working_residual": (part.y - own.mu) / own.slope,
                "quantile_residual": quantile_residuals(family, link, part, own, fit, rng),
            }
        for name, values in figures.items():
            found.setdefault(name, []).append(np.asarray(values))
    joined = {name: np.concatenate(values) for name, values in found.items()}
    measures = Influence(**{name: joined[name] for name in Influence.__annotations__})
    kinds = ("deviance_residual", "pearson_residual", "working_residual", "quantile_residual")
    extras = {name: joined[name] for name in kinds if not np.isnan(joined[name]).all()}
    discrete = fit.family in ("binomial", "poisson", "negative-binomial")
    shown = (
        "quantile_residual"
        if discrete
        else "pearson_residual"
        if fit.family.startswith("quasi")
        else "deviance_residual"
    )
    return PerRow(
        joined["observed"],
        joined["fitted"],
        joined["counts"],
        measures,
        kind=shown.replace("_", " "),
        shown=joined[shown],
        on_terms=joined["working_residual"],
        extras=extras,
    )


def quantile_residuals(
    family: Family, link: Link, part: Part, own: State, fit: Asked, rng: np.random.Generator
) -> np.ndarray:
    """Φ⁻¹ of the fitted distribution function; for counts, of a random point of its step. NaN for quasi families."""
    lower, upper = distribution(family, own.mu, part.y, part, fit)
    if lower is None or upper is None:
        return np.full(len(part.y), np.nan)
    u = lower + (upper - lower) * rng.uniform(size=len(lower))
    return np.asarray(tails.normal_quantile(np.clip(u, 1e-300, 1 - 1e-16)))


def distribution(
    family: Family, mu: np.ndarray, y: np.ndarray, part: Part, fit: Asked
) -> tuple[np.ndarray | None, np.ndarray | None]:
    """The distribution function just below and at y; both the same for continuous families."""
    with np.errstate(all="ignore"):
        if family.name == "binomial":
            m = np.ones(len(y)) if part.trials is None else part.trials
            s = np.round(y * m)
            return tails.binomial_below(s - 1, m, mu), tails.binomial_below(s, m, mu)
        if family.name in ("poisson", "negative-binomial"):
            k = family.shape
            if k is None or not np.isfinite(k):
                return np.where(y > 0, special.gammaincc(np.maximum(y, 1e-300), mu), 0.0), special.gammaincc(y + 1, mu)
            share = k / (k + mu)
            below = np.where(y > 0, special.betainc(k, np.maximum(y, 1e-300), share), 0.0)
            return below, special.betainc(k, y + 1, share)
        phi = fit.glm.likely_dispersion
        if family.name == "gamma" and phi:
            v = part.precision / phi
            at = special.gammainc(v, v * y / mu)
            return at, at
        if family.name == "inverse-gaussian" and phi:
            shape = part.precision / phi  # λ
            root = np.sqrt(shape / y)
            at = special.ndtr(root * (y / mu - 1)) + np.exp(2 * shape / mu + special.log_ndtr(-root * (y / mu + 1)))
            return at, at
        if family.name == "normal" and phi:
            at = special.ndtr((y - mu) * np.sqrt(part.precision / phi))
            return at, at
    return None, None
