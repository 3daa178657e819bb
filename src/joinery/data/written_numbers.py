"""Numbers as people write them: thousands separators, decimal commas, currency signs, percent.

Read rightly where only one reading is possible, with a note; otherwise the trouble is named and how
to settle it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from joinery import advice

CURRENCIES = "$€£¥₹₩₽₺₫₴฿"
# what stands before or after an amount
_CODES = "AUD|BRL|CAD|CHF|CNY|CZK|DKK|EUR|GBP|HUF|INR|JPY|KRW|MXN|NOK|NZD|PLN|RUB|SEK|TRY|USD|ZAR"
_CODE = re.compile(rf"(?:({_CODES})\s?)?(.*?)(?:\s?({_CODES}))?")
_ZERO_LED = re.compile(r"[-+]?0\d{2,}")  # 007: a code, of which a number would lose the zeros
_PLAIN = re.compile(r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?")
_SPECIAL = re.compile(r"[-+]?(?:inf|infinity)", re.IGNORECASE)
_SPACED = re.compile(r"[-+]?\d{1,3}(?:[ \u00a0\u202f'’]\d{3})+(?:[.,]\d+)?")
_COMMA_GROUPS = re.compile(r"[-+]?\d{1,3}(?:,\d{3})+(?:\.\d*)?")
_DOT_GROUPS = re.compile(r"[-+]?\d{1,3}(?:\.\d{3})+(?:,\d+)?")
_DECIMAL_COMMA = re.compile(r"[-+]?\d*,\d+(?:[eE][-+]?\d+)?")


@dataclass(frozen=True)
class Reading:
    """Texts as numbers: ``values`` (NaN where unreadable), a ``note`` or ``trouble``.

    ``unreadable`` holds positions of texts that are no numbers; ``decimal`` is the mark found, when
    it was certain."""

    values: np.ndarray
    note: str | None = None
    trouble: str | None = None
    unreadable: tuple[int, ...] = ()
    decimal: str | None = None

    @property
    def readable_share(self) -> float:
        return 1 - len(self.unreadable) / max(len(self.values), 1)


@dataclass(frozen=True)
class _Piece:
    text: str  # digits and marks alone
    currency: str
    percent: bool
    spaced: bool
    shape: str  # plain, comma groups, dot groups, decimal comma, either, none


def _piece(text: str) -> _Piece:
    bare = text.strip().replace("−", "-").replace("\u00a0", " ")
    percent = bare.endswith("%")
    bare = bare.removesuffix("%").strip()
    sign = bare[:1] if bare[:1] in "+-" else ""
    unsigned = bare[len(sign) :].strip()
    currency = ""
    if unsigned[:1] and unsigned[0] in CURRENCIES:
        currency, unsigned = unsigned[0], unsigned[1:].strip()
    elif unsigned[-1:] and unsigned[-1] in CURRENCIES:
        currency, unsigned = unsigned[-1], unsigned[:-1].strip()
    elif (coded := _CODE.fullmatch(unsigned)) and (coded[1] or coded[3]):
        currency, unsigned = coded[1] or coded[3], coded[2]
    bare = sign + unsigned
    spaced = bool(_SPACED.fullmatch(bare))
    if spaced:
        bare = re.sub(r"[ \u202f'’]", "", bare)
    return _Piece(bare, currency, percent, spaced, _shape(bare))


def _shape(bare: str) -> str:
    if _PLAIN.fullmatch(bare) or _SPECIAL.fullmatch(bare):
        return "plain"
    if _COMMA_GROUPS.fullmatch(bare):
        sure = "." in bare or bare.count(",") > 1
        return (
            "comma groups"
            if sure
            else "decimal comma"
            if bare.lstrip("+-").startswith("0")
            else "either"
        )
    if _DECIMAL_COMMA.fullmatch(bare):
        return "decimal comma"
    return "dot groups" if _DOT_GROUPS.fullmatch(bare) else "none"


def read_numbers(texts: Sequence[str], decimal: str | None = None) -> Reading:
    """Distinct texts as numbers. ``decimal`` ('.' or ',') settles what the texts leave open."""
    if (zeros := next((t for t in texts if _ZERO_LED.fullmatch(t.strip())), None)) is not None:
        return Reading(
            np.full(len(texts), np.nan),
            note=f"{zeros.strip()!r} begins with zeros, so the column is read as text",
            unreadable=tuple(range(len(texts))),
        )
    pieces = [_piece(t) for t in texts]
    unreadable = tuple(i for i, p in enumerate(pieces) if p.shape == "none")
    shapes = {p.shape for p in pieces}
    comma_decimal = bool(shapes & {"decimal comma", "dot groups"})
    point_decimal = "comma groups" in shapes or any(
        p.shape == "plain" and re.search(r"\.(?!\d{3}$)\d*", p.text) for p in pieces
    )
    certain = (
        ","
        if comma_decimal and not point_decimal
        else "."
        if point_decimal and not comma_decimal
        else None
    )
    nothing = np.full(len(texts), np.nan)
    if comma_decimal and point_decimal:
        odd = next(t for t, p in zip(texts, pieces) if p.shape in ("decimal comma", "dot groups"))
        even = next(
            t
            for t, p in zip(texts, pieces)
            if p.shape in ("comma groups", "plain") and "." in p.text
        )
        return Reading(
            nothing, trouble=f"decimal commas and decimal points are mixed ({odd!r}, {even!r})"
        )
    mark = certain or decimal
    if "either" in shapes and mark is None:
        example = next(t for t, p in zip(texts, pieces) if p.shape == "either")
        return Reading(
            nothing,
            trouble=f"{example!r} may be a decimal comma or a thousands comma; "
            f"settle it with {advice.reading('decimal', ',')} or {advice.reading('decimal', '.')}",
            unreadable=unreadable,
        )
    if mark is None and (doubtful := _doubtful_amounts(texts, pieces)) is not None:
        return Reading(
            nothing,
            trouble=f"{doubtful.strip()!r} may have a decimal point or a thousands point; "
            f"settle it with {advice.reading('decimal', '.')} or {advice.reading('decimal', ',')}",
            unreadable=unreadable,
        )
    currencies = sorted({p.currency for p in pieces if p.currency})
    if len(currencies) > 1:
        return Reading(nothing, trouble=f"currencies are mixed ({' and '.join(currencies)})")
    percents = {p.percent for p in pieces if p.shape != "none"}
    if len(percents) > 1:
        return Reading(
            nothing,
            trouble="some cells carry a percent sign and some do not",
            unreadable=unreadable,
        )
    percent = percents == {True}
    values = np.array([_value(p, mark) for p in pieces], dtype=float) / (100.0 if percent else 1.0)
    return Reading(values, _note(texts, pieces, values, percent), None, unreadable, certain)


def _doubtful_amounts(texts: Sequence[str], pieces: list[_Piece]) -> str | None:
    """An amount of money such as 1.006, where every point stands before three digits."""
    pointed = [(t, p) for t, p in zip(texts, pieces) if p.currency and "." in p.text]
    if pointed and all(_DOT_GROUPS.fullmatch(p.text) for _, p in pointed):
        return pointed[0][0]
    return None


def _value(piece: _Piece, mark: str | None) -> float:
    if piece.shape == "none":
        return float("nan")
    text = piece.text
    if mark == ",":
        if piece.shape == "plain" and _DOT_GROUPS.fullmatch(text):
            text = text.replace(".", "")
        elif piece.shape != "plain":
            text = text.replace(".", "").replace(",", ".")
    else:
        text = text.replace(",", "")
    return float(text)


def _note(
    texts: Sequence[str], pieces: list[_Piece], values: np.ndarray, percent: bool
) -> str | None:
    changed = [
        i
        for i, p in enumerate(pieces)
        if p.currency or p.percent or p.spaced or p.shape not in ("plain", "none")
    ]
    if not changed:
        return None
    taken = []
    if any(p.currency for p in pieces):
        taken.append("currency signs")
    if any(p.spaced or p.shape in ("comma groups", "dot groups") for p in pieces):
        taken.append("thousands separators")
    if any(p.shape == "decimal comma" for p in pieces):
        taken.append("decimal commas")
    if percent:
        taken.append("percent signs")
    example = max(changed, key=lambda i: len(texts[i]))
    marks = " and ".join(taken) or "thousands separators"
    return (
        f"numbers were written with {marks}; {texts[example].strip()!r} is read as "
        f"{values[example]:.12g}"
    )
