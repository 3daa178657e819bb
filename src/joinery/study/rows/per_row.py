"""The per-row figures of a fit, as arrays."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from joinery.core.inference.influence import Influence


@dataclass(frozen=True)
class PerRow:
    """Figures of the fitted rows, each (n,), on the model's scale.

    ``times`` is how many equal rows each stands for.
    """

    observed: np.ndarray
    fitted: np.ndarray
    times: np.ndarray
    terms: np.ndarray  # the sum of the terms, without offset or exposure
    influence: Influence
    kind: str = "residual"
    shown: np.ndarray | None = None
    on_terms: np.ndarray | None = None
    extras: dict[str, np.ndarray] = field(default_factory=dict)
    deletion: np.ndarray | None = (
        None  # residuals that scale what leaving a row out changes, where not the studentized
    )

    @property
    def residual(self) -> np.ndarray:
        return np.asarray(self.observed - self.fitted)

    @property
    def drawn(self) -> np.ndarray:
        """The residuals that pictures show: ``kind`` names them."""
        return self.residual if self.shown is None else self.shown

    @property
    def working(self) -> np.ndarray:
        """Residuals on the scale of the terms."""
        return self.residual if self.on_terms is None else self.on_terms
