"""The encoding of the bytes of a table."""

from __future__ import annotations

from joinery.support.errors import FileFormatError

CONTROL = bytes([*range(9), *range(14, 32)])  # control signs that no text has


def decoded(raw: bytes, where: str, encoding: str | None) -> tuple[str, list[str]]:
    """Return the text of a file and a note: UTF-8, UTF-16, UTF-32, else of one byte a sign."""
    if encoding is not None:
        try:
            return raw.decode(encoding), []
        except (LookupError, ValueError, TypeError) as reason:
            raise FileFormatError(
                f"{where} cannot be read as {encoding}: {reason}", path=where
            ) from None
    name = _wide_encoding(raw)
    if name is not None:
        try:
            return raw.decode(name).removeprefix("\ufeff"), [f"the text is {name[:6].upper()}"]
        except UnicodeDecodeError:
            pass
    # one pass over all bytes, where a count of each control sign takes one of its own
    if len(raw.translate(None, CONTROL)) < len(raw):
        raise FileFormatError(
            f"{where} is not text: it holds bytes that no text has; "
            "if it is a spreadsheet or Parquet file, its ending must say so (.xlsx, .ods, "
            ".parquet, .feather)",
            path=where,
        )
    try:
        return raw.decode("utf-8-sig"), []
    except UnicodeDecodeError:
        return _of_one_byte(raw)


def _of_one_byte(raw: bytes) -> tuple[str, list[str]]:
    """Return text of one byte a sign: Latin-1, or Windows' own where it uses the bytes beside it.

    Latin-1 has no signs from 0x80 to 0x9f; Windows-1252 has €, quotes and dashes there."""
    text = raw.decode("latin-1")
    if any("\x80" <= sign <= "\x9f" for sign in set(text)):
        try:
            return raw.decode("cp1252"), ["the text is not UTF-8; read as Windows-1252"]
        except UnicodeDecodeError:
            pass
    return text, ["the text is not UTF-8; read as Latin-1"]


def _wide_encoding(raw: bytes) -> str | None:
    """Return an encoding of two or four bytes a character, by its mark or by where the zeros
    stand."""
    if raw[:4] in (b"\xff\xfe\x00\x00", b"\x00\x00\xfe\xff"):
        return "utf-32"
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return "utf-16"
    zeros = [bytes(raw[place:400:4]) for place in range(4)]
    empty = [bool(part) and part.count(0) > 0.8 * len(part) for part in zeros]
    if len(raw) > 7 and len(raw) % 4 == 0 and sum(empty) == 3:
        if empty[3]:
            return "utf-32-le"
        return "utf-32-be"
    if len(raw) > 3 and len(raw) % 2 == 0 and empty in ([False, True] * 2, [True, False] * 2):
        if empty[1]:
            return "utf-16-le"
        return "utf-16-be"
    return None
