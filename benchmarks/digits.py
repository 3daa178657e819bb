"""Digits right on hard problems, against 60-digit arithmetic: ``python -m benchmarks.digits``.

Prints the table that stands in docs/numerics.md.
"""

from __future__ import annotations

import numpy as np
from tests.conftest import Exact, digits
from tests.core.hard_problems import PROBLEMS

from joinery.core.blocks.blocks import ArrayBlocks
from joinery.core.least_squares.solve import least_squares


def main() -> None:
    """Prints a row for each problem: the fewest digits right over all coefficients, and over all standard errors."""
    print(
        "| problem | κ | way | coefficients | standard errors | `numpy.linalg.lstsq`, coefficients |"
    )
    print("| --- | ---: | --- | ---: | ---: | ---: |")
    for name, (X, y, intercept) in PROBLEMS.items():
        s = least_squares(ArrayBlocks(X, y), intercept=intercept)
        A = np.column_stack([np.ones(len(y)), X]) if intercept else X
        truth = Exact(A, y)
        found = [s.intercept, *s.coefficients] if intercept else s.coefficients
        errors = "perfect fit"
        if not s.perfect:
            own = np.sqrt(s.rss / s.residual_df) * s.error_factors
            errors = f"{min(digits(own, truth.se), 16):.0f}"
        plain = max(digits(np.linalg.lstsq(A, y, rcond=None)[0], truth.b), 0)
        right = f"{min(digits(found, truth.b), 16):.0f}"
        print(f"| {name} | {s.condition:.0e} | {s.way} | {right} | {errors} | {plain:.0f} |")


if __name__ == "__main__":
    main()
