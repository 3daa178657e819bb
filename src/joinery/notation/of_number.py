"""Functions of one number: an entry has its values, slope, where it exists, and the way back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

Step = Callable[[np.ndarray], np.ndarray]
# a formula: "x", a number, or the name of a function or sign with its arguments
Tree = str | float | tuple[Any, ...]


@dataclass(frozen=True)
class Domain:
    """The numbers at which a function exists, and the words for one outside."""

    least: float
    itself: bool  # whether it exists at the least value too
    state: str  # of a value outside: "is below zero"
    so: str  # what follows: "it has no square root"
    instead: str = ""  # a function that exists there

    def outside(self, x: np.ndarray) -> np.ndarray:
        """Return where a value lies outside; a missing one does not."""
        if self.itself:
            return x < self.least
        return x <= self.least


@dataclass(frozen=True)
class Back:
    """The way back from a function's values to what stood inside it."""

    step: Step
    formula: Tree  # the same, for every language
    # what values below zero, which the function does not have, are taken to come from
    below_zero: float | None = None


@dataclass(frozen=True)
class OfNumber:
    """A function of one number."""

    value: Step
    slope: Step
    back: Back | None = None  # None where there is more than one
    domain: Domain | None = None  # None where it exists everywhere
    formula: Tree | None = None  # where the languages have no function of its name


def _logarithm(value: Step, base: float, back: Back) -> OfNumber:
    exists = Domain(0.0, False, "is zero or less", "it has no logarithm", instead="log1p")
    return OfNumber(value, lambda x: 1 / (x * np.log(base)), back, exists)


LOG = _logarithm(np.log, np.e, Back(np.exp, ("exp", "x")))
LOG2 = _logarithm(np.log2, 2.0, Back(np.exp2, ("^", 2.0, "x")))
LOG10 = _logarithm(np.log10, 10.0, Back(lambda v: np.power(10.0, v), ("^", 10.0, "x")))
LOG1P = OfNumber(
    np.log1p,
    lambda x: 1 / (1 + x),
    Back(np.expm1, ("expm1", "x")),
    Domain(-1.0, False, "is −1 or less", "log1p of it does not exist"),
)
SQRT = OfNumber(
    np.sqrt,
    lambda x: 0.5 / np.sqrt(x),
    Back(lambda v: np.square(np.maximum(v, 0.0)), ("^", "x", 2.0), below_zero=0.0),
    Domain(0.0, True, "is below zero", "it has no square root"),
)
EXP = OfNumber(
    np.exp,
    np.exp,
    Back(lambda v: np.log(np.maximum(v, 0.0)), ("log", "x"), below_zero=-np.inf),
)
ABS = OfNumber(np.abs, np.sign)
