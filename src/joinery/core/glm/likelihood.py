"""The log likelihood of rows under a fit."""

from __future__ import annotations

import numpy as np

from joinery.core.glm.likeliest import Iterated
from joinery.core.glm.links import beyond
from joinery.core.glm.rows import LikelihoodRows, LikelihoodSource, linear


def log_likelihood(
    rows: LikelihoodSource, fit: Iterated, dispersion: float = 1.0, *, fitted: bool = True
) -> float:
    """Return the log likelihood of the rows of a fit; weight zero counts nothing.

    ``fitted`` is False where the rows may be others than it was fitted to.
    """
    family = fit.family

    def best(part: LikelihoodRows) -> float:
        each = family.best_log_likelihood(part.y, part.trials)
        assert each is not None
        counted = part.precision > 0
        return float((part.times * part.precision * each)[counted].sum())

    def of_part(part: LikelihoodRows) -> float:
        counted = part.precision > 0
        eta = linear(fit.solution.fitted, part)
        mu, rest = fit.link.mu(eta), beyond(fit.link, eta) if family.shares else None
        each = family.log_likelihood(
            part.y,
            mu,
            rest=rest,
            trials=part.trials,
            weights=np.where(counted, part.precision, 1.0),
            dispersion=dispersion,
        )
        return float((part.times * each)[counted].sum())

    with np.errstate(all="ignore"):
        if fitted and family.known_dispersion and dispersion == 1.0:
            return sum(rows.pieces.each(best), 0.0) - fit.deviance / 2
        return sum(rows.pieces.each(of_part), 0.0)
