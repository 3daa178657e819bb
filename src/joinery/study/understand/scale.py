"""The scale of a model's means, and the way back to the one people measure on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from joinery.core.glm.edges import eta_range
from joinery.study.fitted import Fitted
from joinery.study.forecast.memory import forecast_memory
from joinery.study.rates import Counted
from joinery.study.read.estimates import Combination

STEP = 1e-6  # of a numeric derivative of the way back, in the value's own size


@dataclass(frozen=True)
class Scale:
    """The scale of a fit's linear predictor, and the way back from it."""

    fit: Fitted
    per: float | None = None  # so much exposure that means of counts are for; else for one

    @property
    def on(self) -> str:
        """The link or transformation; empty where the model's scale is the measured one."""
        if self.fit.link.name != "identity":
            return self.fit.link.name
        if self.fit.response.transformed:
            return self.fit.response.name
        return ""

    @property
    def name(self) -> str:
        """Return what the means back-transformed are of."""
        fit = self.fit
        if fit.family.shares:
            if fit.response.kind == "of":
                what = fit.response.name
            else:
                what = str(fit.response.expression)
            if fit.response.kind == "of":
                return f"share {what}"
            return f"chance of {what.strip('()')}"
        if self.per is None:
            return fit.response.original
        return Counted(fit, self.per).name

    @property
    def notes(self) -> list[str]:
        fit, out = self.fit, []
        if fit.response.transformed:
            out.append(
                f"back-transformed from {fit.response.name}: the median of {fit.response.original}"
            )
        elif fit.link.name != "identity":
            out.append(
                f"means and ends are back-transformed from the {fit.link.name} scale; the standard "
                "error is of the mean, by the delta method"
            )
        if fit.response.kind == "per" and self.per is None:
            out.append(f"counts for one of {fit.response.total}")
        if "offset" in fit.asides.expressions:
            out.append("the offset is held at its mean over the rows")
        return out

    def offsets(self, m: int) -> np.ndarray:
        """Return what the offset adds to each of m means: its mean over the fitted rows."""
        return np.full(m, forecast_memory(self.fit).offset)

    def back(self, eta: np.ndarray) -> np.ndarray:
        """Return values of the linear predictor as means, or medians of a transformed response."""
        fit = self.fit
        if not fit.estimate.linear:
            low, high = eta_range(fit.family, fit.link)
            with np.errstate(all="ignore"):
                return np.asarray(fit.link.mu(np.clip(eta, low, high)) * (self.per or 1.0))
        if fit.response.transformed:
            return fit.response.turn_back(eta)
        return eta

    def slope(self, eta: np.ndarray) -> np.ndarray:
        """Return d(mean)/d(linear predictor)."""
        fit = self.fit
        if not fit.estimate.linear:
            return np.asarray(fit.link.slope(eta) * (self.per or 1.0))
        if not fit.response.transformed:
            return np.ones_like(eta)
        h = STEP * np.maximum(np.abs(eta), 1.0)
        at = {k: fit.response.turn_back(eta + k * h) for k in (-2, -1, 1, 2)}
        return np.asarray((at[-2] - 8 * at[-1] + 8 * at[1] - at[2]) / (12 * h))

    def both_scales(
        self, c: Combination, lower: np.ndarray, upper: np.ndarray, offsets: np.ndarray, name: str
    ) -> dict[str, Any]:
        """Return means with their ends and standard errors on the measured scale."""
        middle, low, high = (self.back(v + offsets) for v in (c.values, lower, upper))
        with np.errstate(all="ignore"):
            error = np.abs(self.slope(c.values + offsets)) * c.standard_errors
        ends = np.fmin(low, high), np.fmax(low, high)
        return {name: middle, "lower": ends[0], "upper": ends[1], "standard_error": error}
