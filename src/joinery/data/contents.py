"""Contents of files: compressed ones are opened, and open file objects read."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import os
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from joinery.support.errors import CallError, DataError, FileFormatError, listed


@dataclass(frozen=True)
class Content:
    """A table's file: its name as people know it, the ending that says its kind, and its bytes."""

    name: str
    ending: str  # in small letters: ".csv"
    raw: bytes | None = None  # None for a plain file, which stands at its name

    def read(self) -> bytes:
        """Return all bytes."""
        if self.raw is None:
            return Path(self.name).read_bytes()
        return self.raw

    def opened(self) -> Path | BinaryIO:
        """Return what libraries read from: the path, or the bytes as a file."""
        if self.raw is None:
            return Path(self.name)
        return io.BytesIO(self.raw)


def content_of(file: Path) -> Content:
    """Return what stands at a path. Raises FileFormatError for a spoilt compressed file."""
    if file.suffix.lower() not in _UNPACKED:
        return Content(str(file), file.suffix.lower())
    return _unpacked(file.read_bytes(), file, str(file))


def content_of_open(file: Any) -> Content:
    """Return what an open file holds from where it stands; texts are taken as UTF-8.

    A file without a name, or with an ending that says nothing, is known by its first bytes."""
    try:
        given = file.read()
    except MemoryError:
        raise
    except Exception as reason:  # the file is another library's: anything may come out of it
        words = str(reason).split("\n")[0] or type(reason).__name__
        raise DataError(f"the open file cannot be read: {words}") from None
    name = getattr(file, "name", None)
    if isinstance(name, (str, bytes, os.PathLike)):
        name = os.fsdecode(name)
    else:
        name = "the open file"
    if isinstance(given, str):
        return Content(name, Path(name).suffix.lower(), given.encode("utf-8"))
    if not isinstance(given, bytes):
        raise CallError(f"an open file gives text or bytes, not {type(given).__name__}")
    return _unpacked(given, Path(name), name)


def _unpacked(raw: bytes, file: Path, name: str) -> Content:
    """Return the content of a file's bytes, with its compression undone."""
    ending = file.suffix.lower()
    if ending not in _UNPACKED:
        ending = _ending_by_first_bytes(raw) or ending
    if ending not in _UNPACKED:
        return Content(name, ending, raw)
    try:
        inner, unpacked = _UNPACKED[ending](raw, file)
    except (FileFormatError, MemoryError):
        raise
    except Exception as reason:  # each kind of compression has errors of its own
        words = str(reason).split("\n")[0]
        raise FileFormatError(
            f"{file} cannot be unpacked as {ending}: {words}", path=str(file), reason=words
        ) from None
    return Content(name, Path(inner).suffix.lower(), unpacked)


def _ending_by_first_bytes(raw: bytes) -> str | None:
    """Return the ending that a file's first bytes call for, None where they say nothing."""
    for ending, first in _FIRST_BYTES.items():
        if raw.startswith(first):
            return ending
    if raw.startswith(b"PK\x03\x04"):  # an archive; spreadsheets are archives too
        if b"mimetypeapplication/vnd.oasis.opendocument" in raw[:128]:
            return ".ods"
        if b"xl/workbook.xml" in raw:
            return ".xlsx"
        return ".zip"
    return None


def is_open_file(data: Any) -> bool:
    """Return True for a file object."""
    return hasattr(data, "read") and hasattr(data, "readline") and callable(data.read)


def _zipped(packed: bytes, file: Path) -> tuple[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(packed)) as archive:
        names = [n for n in archive.namelist() if not n.endswith("/")]
        names = [n for n in names if not n.startswith("__MACOSX/")]
        if len(names) != 1:
            raise FileFormatError(
                f"{file} holds {len(names)} files ({listed(names, 6)}), and one table is needed; "
                "unpack it, and give the path of one",
                path=str(file),
            )
        return names[0], archive.read(names[0])


def _zstandard(packed: bytes) -> bytes:
    import pyarrow as pa

    with pa.input_stream(pa.py_buffer(packed), compression="zstd") as stream:
        return bytes(stream.read())


def _alone(unpack: Callable[[bytes], bytes]) -> Callable[[bytes, Path], tuple[str, bytes]]:
    """Return what unpacks a file that holds one other, named by what stands before the ending."""
    return lambda packed, file: (file.stem, unpack(packed))


_UNPACKED: dict[str, Callable[[bytes, Path], tuple[str, bytes]]] = {
    ".gz": _alone(gzip.decompress),
    ".bz2": _alone(bz2.decompress),
    ".xz": _alone(lzma.decompress),
    ".zst": _alone(_zstandard),
    ".zip": _zipped,
}

# what files of these kinds begin with, by their formats' definitions
_FIRST_BYTES = {
    ".parquet": b"PAR1",
    ".feather": b"ARROW1",
    ".gz": b"\x1f\x8b",
    ".bz2": b"BZh",
    ".xz": b"\xfd7zXZ\x00",
    ".zst": b"\x28\xb5\x2f\xfd",
}
