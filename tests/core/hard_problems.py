"""Made problems on which plain double precision loses digits; the design is what is stored, to its last bit."""

from __future__ import annotations

import numpy as np


def problems() -> dict[str, tuple[np.ndarray, np.ndarray, bool]]:
    """Name to (X without the constant, y, whether there is an intercept)."""
    rng = np.random.default_rng(77)
    out: dict[str, tuple[np.ndarray, np.ndarray, bool]] = {}
    x = np.linspace(-9, -3, 80)
    out["powers to 10 of −9 … −3"] = (
        np.column_stack([x**k for k in range(1, 11)]),
        np.exp(x / 4) + 1e-3 * rng.normal(size=80),
        True,
    )
    x = np.arange(21.0)
    out["powers to 5 of 0 … 20, whole numbers"] = (
        np.column_stack([x**k for k in range(1, 6)]),
        sum(x**k for k in range(6)),
        True,
    )
    out["the same, large residuals"] = (
        out["powers to 5 of 0 … 20, whole numbers"][0],
        sum(x**k for k in range(6)) * (1 + (-1.0) ** x),
        True,
    )
    z = rng.normal(size=(70, 2))
    out["mean 10⁹, spread 1"] = 1e9 + z, 3 + z @ [1.0, -2.0] + rng.normal(size=70), True
    out["columns 10⁻⁶ to 10⁶ in scale"] = (
        z * [1e-6, 1e6],
        z @ [1.0, 2.0] + rng.normal(size=70),
        True,
    )
    for gap in (5, 7, 9):
        pair = np.column_stack([z[:, 0], z[:, 0] + 10.0**-gap * z[:, 1], rng.normal(size=70)])
        out[f"two columns 10⁻{gap} apart"] = (
            pair,
            pair @ [1.0, 1.0, 2.0] + rng.normal(size=70),
            True,
        )
    pair = np.column_stack([1 + z[:, 0], 1 + z[:, 0] + 1e-6 * z[:, 1]])
    out["the same without intercept"] = pair, pair @ [1.0, 1.0] + 100 * rng.normal(size=70), False
    h = np.array([[1.0 / (i + j + 1) for j in range(7)] for i in range(40)])
    out["reciprocals of i + j + 1"] = h, h.sum(axis=1) + 1e-6 * rng.normal(size=40), True
    return out


PROBLEMS = problems()
