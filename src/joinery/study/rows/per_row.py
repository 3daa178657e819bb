"""The per-row figures of a fit, as arrays."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from joinery.core.blocks.partition import Laid
from joinery.core.inference.influence import Influence

ARRAYS = ("observed", "fitted", "times", "terms", "shown", "on_terms", "deletion")
MEASURES = tuple(Influence.__annotations__)


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
    # residuals that scale what leaving a row out changes, where not the studentized
    deletion: np.ndarray | None = None

    @property
    def residual(self) -> np.ndarray:
        return np.asarray(self.observed - self.fitted)

    @property
    def drawn(self) -> np.ndarray:
        """The residuals that pictures show: ``kind`` names them."""
        if self.shown is None:
            return self.residual
        return self.shown

    @property
    def working(self) -> np.ndarray:
        """Residuals on the scale of the terms."""
        if self.on_terms is None:
            return self.residual
        return self.on_terms

    @property
    def arrays(self) -> list[np.ndarray]:
        """Every figure that there is."""
        chosen = [getattr(self, name) for name in ARRAYS]
        measures = [getattr(self.influence, name) for name in MEASURES]
        return [
            *(values for values in chosen if values is not None),
            *measures,
            *self.extras.values(),
        ]

    def taken(self, which: np.ndarray) -> PerRow:
        """Return some of the rows, by their places."""
        return self.with_arrays([values[which] for values in self.arrays])

    def with_arrays(self, figures: list[np.ndarray]) -> PerRow:
        """Return the same with others in place of its ``arrays``."""
        rest = iter(figures)
        result: dict[str, Any] = {
            name: next(rest) for name in ARRAYS if getattr(self, name) is not None
        }
        influence = Influence(*(next(rest) for _ in MEASURES))
        return replace(self, **result, influence=influence, extras=dict(zip(self.extras, rest)))


def gathered(parts: Iterable[PerRow], n: int) -> PerRow:
    """Return the figures of ``n`` rows, whose blocks come in order, as one."""
    laid = Laid(n)
    for part in parts:
        if len(part.observed) == n:
            return part
        laid.add(part.arrays)
    return part.with_arrays(laid.arrays)
