"""The verdicts, and how p and the size of a departure make one."""

from __future__ import annotations

from collections.abc import Iterable

NO_SIGN = "no sign"  # looked for in this table, and not found
SLIGHT = "slight"  # evidence, but too weak or too small for a caution
CAUTION, SERIOUS = "caution", "serious"
ALLOWED = "allowed for"  # there, and taken care of by an option of this fit
NOT_JUDGED = "not judged"
UNREMARKABLE = ""  # a row of which nothing is said

GRAVEST_FIRST = (SERIOUS, CAUTION, SLIGHT, ALLOWED, NO_SIGN, NOT_JUDGED)
GRAVE = (SERIOUS, CAUTION)


def worst(verdicts: Iterable[str]) -> str:
    """Return the gravest of several; not judged where there is none."""
    given = set(verdicts)
    return next((verdict for verdict in GRAVEST_FIRST if verdict in given), NOT_JUDGED)
