"""Writing files beside the old one, then renaming, so that a crash leaves the old one."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from pathlib import Path

from joinery.errors import CallError


def write_whole(path: str | os.PathLike[str], write: Callable[[Path], object]) -> Path:
    """Lets ``write`` fill a temporary file beside ``path``, then puts it in place at once."""
    target = Path(path)
    if not target.parent.is_dir():
        raise CallError(
            f"cannot write {str(target)!r}: there is no folder {str(target.parent)!r}",
            argument="path",
        )
    handle, name = tempfile.mkstemp(
        dir=target.parent, prefix=f".{target.stem}-", suffix=target.suffix
    )
    os.close(handle)
    beside = Path(name)
    try:
        write(beside)
        mask = os.umask(0)
        os.umask(mask)
        beside.chmod(0o666 & ~mask)
        beside.replace(target)
    finally:
        beside.unlink(missing_ok=True)
    return target


def write_text(path: str | os.PathLike[str], text: str) -> Path:
    """A whole text file, UTF-8."""
    return write_whole(path, lambda beside: beside.write_text(text, encoding="utf-8"))
