"""The three verdicts, and how p and the size of a departure make one."""

from __future__ import annotations

FINE, CAUTION, SERIOUS = "fine", "caution", "serious"
UNLIKELY, VERY_UNLIKELY = 0.05, 0.001


def judged(p: float, size: float, *, small: float, large: float) -> str:
    """Fine unless unlikely by chance and larger than ``small``; serious when both are extreme."""
    if not p < UNLIKELY or not size >= small:
        return FINE
    if p < VERY_UNLIKELY and size >= large:
        return SERIOUS
    return CAUTION


def worst(verdicts: list[str]) -> str:
    """The gravest of several; none where nothing could be judged."""
    return next((v for v in (SERIOUS, CAUTION, FINE) if v in verdicts), "")
