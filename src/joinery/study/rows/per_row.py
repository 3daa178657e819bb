"""The per-row figures of a fit, as arrays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

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


def joined(parts: Sequence[PerRow]) -> PerRow:
    """The figures of several blocks as one."""

    def all_of(name: str) -> np.ndarray:
        return np.concatenate([getattr(p, name) for p in parts])

    def if_there(name: str) -> np.ndarray | None:
        return None if getattr(parts[0], name) is None else all_of(name)

    measures = {
        name: np.concatenate([getattr(p.influence, name) for p in parts])
        for name in Influence.__annotations__
    }
    return replace(
        parts[0],
        observed=all_of("observed"),
        fitted=all_of("fitted"),
        times=all_of("times"),
        terms=all_of("terms"),
        influence=Influence(**measures),
        shown=if_there("shown"),
        on_terms=if_there("on_terms"),
        extras={name: np.concatenate([p.extras[name] for p in parts]) for name in parts[0].extras},
        deletion=if_there("deletion"),
    )
