"""Parts that every language writes alike."""

from __future__ import annotations

from collections.abc import Sequence

INFIX = ("+", "-", "*", "/")
YES, NO = ("true", "yes", "1"), ("false", "no", "0")  # how a yes/no column may be kept


def joined(sign: str, parts: Sequence[str]) -> str:
    """Return parts with a sign between them, in parentheses."""
    return "(" + f" {sign} ".join(parts) + ")"


def bare(text: str) -> str:
    """Without parentheses about the whole."""
    if not text.startswith("("):
        return text
    depth = 0
    for place, c in enumerate(text):
        depth += (c == "(") - (c == ")")
        if not depth:
            if place == len(text) - 1:
                return text[1:-1]
            return text
    return text
