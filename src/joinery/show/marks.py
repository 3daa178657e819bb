"""Signs on streams that lack them, and control characters made visible.

What comes from a user's file may hold anything: an escape sequence must not reach the terminal, and
a newline in a name must not break a table."""

from __future__ import annotations

import codecs
import sys
import unicodedata
from typing import Any, TextIO

PLAIN_SIGNS = {
    "−": "-", "×": "x", "·": "*", "±": "+/-", "²": "^2", "³": "^3", "√": "sqrt", "∞": "inf",
    "½": "1/2", "≤": "<=", "≥": ">=", "≈": "~", "→": "->", "–": "-", "—": "-", "…": "...",
    "‘": "'", "’": "'", "“": '"', "”": '"', "Δ": "delta", "Σ": "sum", "Φ": "Phi", "α": "alpha",
    "β": "beta", "ε": "e", "η": "eta", "κ": "kappa", "λ": "lambda", "μ": "mu", "π": "pi",
    "ρ": "rho", "σ": "sigma", "φ": "phi", "χ": "chi", "ȳ": "mean y", "ᵀ": "'", "⁻": "^-",
    "¹": "1", "├": "|", "┤": "|", "┼": "+", "┊": ":", "─": "-", "●": "o", "│": "|",
    "╭": "+", "╮": "+", "╰": "+", "╯": "+", "⏎": "\\n", "⇥": "\\t",
}  # fmt: skip
ERRORS = "joinery-signs"
_MARKS = {"\n": "⏎", "\r": "⏎", "\t": "⇥", "\x7f": "␡"}
_TURNING = "\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069\u200e\u200f"


def visible(text: str) -> str:
    """Return text whose control characters are marks: a newline ⏎, an escape ␛."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or c == " " else _mark(c) for c in text)


def _mark(c: str) -> str:
    if c in _MARKS:
        return _MARKS[c]
    if ord(c) < 32:
        return chr(0x2400 + ord(c))
    if c in _TURNING or unicodedata.category(c) in ("Cc", "Cs"):
        return "\ufffd"
    return c


def _in_plain_signs(error: UnicodeError) -> tuple[str, int]:
    """Return what stands for characters that an encoding lacks."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    missing = error.object[error.start : error.end]
    return "".join(map(_plain, missing)), error.end


def _plain(c: str) -> str:
    if c in PLAIN_SIGNS:
        return PLAIN_SIGNS[c]
    if 0x2400 <= ord(c) < 0x2420:
        return f"\\x{ord(c) - 0x2400:02x}"
    bare = unicodedata.normalize("NFKD", c).encode("ascii", "ignore").decode()
    return bare or "?"


codecs.register_error(ERRORS, _in_plain_signs)


def fit_stream(stream: TextIO) -> None:
    """Let a stream show every sign, in its own characters or in plain ones."""
    reconfigure: Any = getattr(stream, "reconfigure", None)
    if reconfigure is not None:
        reconfigure(errors=ERRORS)


def printable(text: str) -> str:
    """Return text as standard output can show it: unchanged where its encoding has every sign."""
    encoding = getattr(sys.stdout, "encoding", None) or "utf-8"
    try:
        text.encode(encoding)
    except UnicodeEncodeError:
        return text.encode(encoding, ERRORS).decode(encoding)
    except LookupError:
        pass
    return text


def tell(text: str) -> None:
    """Write a line to standard error, as it can show it, with nothing that steers a terminal."""
    sys.stderr.write("\n".join(map(visible, text.split("\n"))) + "\n")
